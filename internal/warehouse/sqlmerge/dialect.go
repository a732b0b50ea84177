package sqlmerge

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Conn is one connection to a warehouse. Its errors are explained, and its statements recorded.
type Conn interface {
	// Exec runs a statement and gives the number of rows it touched.
	Exec(ctx context.Context, sql string, args ...any) (int64, error)
	// Ask gives all rows of a small result; the values are string, int64, bool, time.Time or nil.
	Ask(ctx context.Context, sql string, args ...any) ([][]any, error)
	// Columns gives those of a table and their types; none where there is no table. Whatever else is in the warehouse, it
	// costs the same.
	Columns(ctx context.Context, name schema.Name) (map[string]string, error)
	// Insert adds the rows of a record to a table, whose name is given quoted. They may still be under way when it
	// returns; the next statement waits for them. raw has the values of the first columns in the form that the warehouse
	// takes, or is nil.
	Insert(ctx context.Context, into string, columns []schema.Column, record arrow.RecordBatch, raw *rows.Raw) error
	// Read reads rows, as the transaction that is open has them; they are gone when sink returns.
	Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error
	// Close lets the connection go; a transaction that is still open is rolled back.
	Close()
}

// Divided is a connection to a warehouse whose tables lie elsewhere than its journal: itself it leads to the journal.
// What was done to the tables is kept with its COMMIT.
type Divided interface {
	Conn
	Tables() Tables
}

// Tables are the tables of such a warehouse. Statements reach those of them that were brought.
type Tables interface {
	Conn
	// Bring has rows of a table there, besides those that are. Where there is no such table, it does nothing.
	Bring(ctx context.Context, name schema.Name, w Which) error
}

// Which says which rows of a table are brought: those whose Key is in the Columns of the rows of the table Among, which
// is named as statements name it; or all of them.
type Which struct {
	Key     []string
	Among   string
	Columns []string
	None    bool // none: the table is about to be changed as a whole
	Look    bool // all, and nothing will be changed
}

// AllRows and NoRows are for statements that reach all rows, or none that are there.
var (
	AllRows = Which{}
	NoRows  = Which{None: true}
	Looking = Which{Look: true}
)

func tablesOf(c Conn) Conn {
	if d, is := c.(Divided); is {
		return d.Tables()
	}
	return c
}

// bring has rows of a table there, where it must be brought.
func bring(ctx context.Context, c Conn, name schema.Name, w Which) error {
	if d, is := c.(Divided); is {
		return d.Tables().Bring(ctx, name, w)
	}
	return nil
}

// Transact runs work as one transaction: all of it holds, or nothing.
func Transact(ctx context.Context, c Conn, work func(Conn) error) error {
	if _, err := c.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	if err := work(c); err != nil {
		return err // closing the connection rolls back
	}
	_, err := c.Exec(ctx, "COMMIT")
	return err
}

// execAll runs statements one after another.
func execAll(ctx context.Context, c Conn, statements []string) error {
	for _, sql := range statements {
		if _, err := c.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// Dialect is where the SQL of warehouses differs.
type Dialect struct {
	Types     map[schema.Kind]string                  // decimal is made from precision and scale
	Distinct  func(t schema.Type, a, b string) string // true when two values differ in any way
	NoEquals  func(t schema.Type) bool                // the type has no equality: compare as text
	Comments  string                                  // asks for all: schema, table, column ('' for the table's own), text
	Normal    func(typeName string) string            // one spelling of a type for each
	Convert   func(table, column, typeName string) string
	Stage     string                        // what follows the definition of a temporary table
	Updated   string                        // what follows the definition of a table whose rows are updated
	Roles     bool                          // there are roles that things are granted to
	Remake    bool                          // a table and its rows cannot be changed in one transaction
	DropStage bool                          // temporary tables are dropped at the end of a commit
	Direct    bool                          // a table may be emptied and filled while readers still see the old rows
	Rewrite   bool                          // a changed row is deleted and inserted, not updated in place
	Indexes   string                        // asks for the names of a table's indexes, by $1 schema and $2 table; empty: targets have none
	Size      func(name schema.Name) string // asks for the bytes that a table takes
	RowID     string                        // names a row of a table, within a transaction
	Analyze   bool                          // large stages need statistics
	// AsOf makes the function of a history; nil where there are none.
	AsOf func(t warehouse.Target, name schema.Name, query func(moment string) string) []string
}
