package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/schema"
)

// Conn is one connection to a warehouse. Its errors are explained, and its
// statements recorded.
type Conn interface {
	// Exec runs a statement and gives the number of rows it touched.
	Exec(ctx context.Context, sql string, args ...any) (int64, error)
	// Ask gives all rows of a small result; the values are string, int64, bool,
	// time.Time or nil.
	Ask(ctx context.Context, sql string, args ...any) ([][]any, error)
	// Insert adds the rows of a record to a table, whose name is given quoted. They
	// may still be under way when it returns; the next statement waits for them.
	Insert(ctx context.Context, into string, columns []schema.Column, record arrow.RecordBatch) error
	// Close lets the connection go; a transaction that is still open is rolled back.
	Close()
}

// Dialect is where the SQL of warehouses differs.
type Dialect struct {
	Types     map[schema.Kind]string                  // decimal is made from precision and scale
	Distinct  func(t schema.Type, a, b string) string // true when two values differ in any way
	NoEquals  func(t schema.Type) bool                // the type has no equality: compare as text
	Columns   string                                  // asks for name and type of a table's columns, by $1 schema and $2 table
	Normal    func(typeName string) string            // one spelling of a type for each
	Stage     string                                  // what follows the definition of a temporary table
	Updated   string                                  // what follows the definition of a table whose rows are updated
	DropStage bool                                    // temporary tables are dropped at the end of a commit
	Direct    bool                                    // a table may be emptied and filled while readers still see the old rows
	Rewrite   bool                                    // a changed row is deleted and inserted, not updated in place
	Indexes   bool                                    // targets have indexes on their keys
	Analyze   bool                                    // large stages need statistics
	AsOf      func(t Target, name schema.Name, query string) []string
}

// Base is a Warehouse but for what only its kind can do.
type Base struct {
	SQL     Dialect
	Connect func(ctx context.Context) (Conn, error)
	Create  func(ctx context.Context, statements []string) error // one connection at a time
}

// Dialect is where its SQL differs.
func (b *Base) Dialect() Dialect { return b.SQL }

// with runs work on a connection of its own.
func (b *Base) with(ctx context.Context, work func(Conn) error) error {
	c, err := b.Connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return work(c)
}

// Ask gives all rows of a small result.
func (b *Base) Ask(ctx context.Context, sql string, args ...any) (rows [][]any, err error) {
	err = b.with(ctx, func(c Conn) error {
		rows, err = c.Ask(ctx, sql, args...)
		return err
	})
	return rows, err
}

// Make runs statements of the form CREATE IF NOT EXISTS and the like.
func (b *Base) Make(ctx context.Context, statements ...string) error {
	return b.Create(ctx, statements)
}

// columns tells names and types of a table's columns; none when there is no table.
func (b *Base) columns(ctx context.Context, name schema.Name) (map[string]string, error) {
	found, err := b.Ask(ctx, b.SQL.Columns, name.Schema, name.Table)
	existing := map[string]string{}
	for _, row := range found {
		existing[row[0].(string)] = row[1].(string)
	}
	return existing, err
}

func (b *Base) hasControl(ctx context.Context) (bool, error) {
	existing, err := b.columns(ctx, schema.Name{Schema: feed.ControlSchema, Table: lastControl})
	return len(existing) > 0, err
}

// Prepare makes control schema, schema and table where they are missing.
func (b *Base) Prepare(ctx context.Context, t Target) error {
	has, err := b.hasControl(ctx)
	if err != nil {
		return err
	}
	if !has {
		if err := b.Create(ctx, Control); err != nil {
			return err
		}
	}
	existing, err := b.columns(ctx, t.Name)
	if err != nil {
		return err
	}
	if len(existing) > 0 {
		change, err := b.SQL.ChangeKeep(t, existing)
		if err != nil {
			return err
		}
		if len(change) == 0 {
			return b.SQL.Misfit(t, existing, b.SQL.Normal)
		}
		if err := b.Create(ctx, change); err != nil {
			return err
		}
		if existing, err = b.columns(ctx, t.Name); err != nil {
			return err
		}
		return b.SQL.Misfit(t, existing, b.SQL.Normal)
	}
	return b.Create(ctx, append([]string{"CREATE SCHEMA IF NOT EXISTS " + schema.Quote(t.Name.Schema), b.SQL.CreateTable(t)}, b.SQL.asOf(t)...))
}

// asOf makes the function that gives a history table as it was at a moment.
func (d Dialect) asOf(t Target) []string {
	if t.Keep != feed.KeepHistory {
		return nil
	}
	query := fmt.Sprintf("SELECT %s FROM %s WHERE %s <= $1 AND (%s IS NULL OR %[4]s > $1)", names(t.Columns), t.Name.Quoted(), schema.Quote(t.Names.From), schema.Quote(t.Names.Until))
	return d.AsOf(t, AsOfName(t.Name), query)
}

// AsOfName names the function that gives a history table as it was at a moment.
func AsOfName(table schema.Name) schema.Name {
	return schema.Name{Schema: table.Schema, Table: table.Table + "_as_of"}
}

// Place tells how far a table has come.
func (b *Base) Place(ctx context.Context, feed, table string) (Place, error) {
	places, err := b.places(ctx, feed, table, true)
	if err != nil || len(places) == 0 {
		return Place{Table: table}, err
	}
	return places[0], nil
}

// Places lists the places of a feed's tables.
func (b *Base) Places(ctx context.Context, feed string) ([]Place, error) {
	return b.places(ctx, feed, "", false)
}

func (b *Base) places(ctx context.Context, feed, table string, one bool) (places []Place, err error) {
	err = b.with(ctx, func(c Conn) error {
		existing, err := c.Ask(ctx, b.SQL.Columns, "noemata", lastControl)
		if err != nil || len(existing) == 0 {
			return err
		}
		found, err := c.Ask(ctx, placesSQL, feed, table, one)
		for _, row := range found {
			p := Place{Table: row[0].(string), Version: row[2].(int64), Run: row[3].(int64), MovedAt: row[4].(time.Time)}
			if text, ok := row[1].(string); ok {
				if p.Position, err = position.Parse(text); err != nil {
					return err
				}
			}
			places = append(places, p)
		}
		return err
	})
	return places, err
}

// SetPlace moves or clears a position by hand.
func (b *Base) SetPlace(ctx context.Context, feed, table string, p *position.Position) error {
	if err := b.Create(ctx, Control); err != nil {
		return err
	}
	var text any
	if p != nil {
		text = Text(*p)
	}
	return b.with(ctx, func(c Conn) error {
		n, err := c.Exec(ctx, `UPDATE noemata.positions SET position = $3, version = version + 1, run = 0, moved_at = now() WHERE feed = $1 AND source_table = $2`, feed, table, text)
		if err == nil && n == 0 {
			_, err = c.Exec(ctx, enterSQL, feed, table, text, int64(0))
		}
		return err
	})
}

// Count counts the rows of a table that hold now.
func (b *Base) Count(ctx context.Context, t Target) (int64, error) {
	sql := "SELECT count(*) FROM " + t.Name.Quoted()
	if holds := Holds(t); holds != "" {
		sql += " WHERE " + holds
	}
	found, err := b.Ask(ctx, sql)
	if err != nil {
		return 0, err
	}
	return found[0][0].(int64), nil
}

// Holds is the condition of rows that hold now; empty where all do.
func Holds(t Target) string {
	switch t.Keep {
	case feed.KeepSoftDelete:
		return schema.Quote(t.Names.DeletedAt) + " IS NULL"
	case feed.KeepHistory:
		return schema.Quote(t.Names.Current)
	}
	return ""
}

// SelectSQL writes a Query; expression says how a column is selected.
func SelectSQL(q Query, expression func(schema.Column) string) string {
	list := make([]string, len(q.Columns))
	for i, c := range q.Columns {
		list[i] = expression(c)
	}
	sql := "SELECT " + strings.Join(list, ", ") + " FROM " + q.Name.Quoted() + " AS t" // a bare name in ORDER BY would mean the selected text
	if q.Where != "" {
		sql += " WHERE " + q.Where
	}
	var order []string
	if len(q.Newest) > 0 {
		order = append(order, "coalesce("+schema.QuoteAll("", q.Newest)+") DESC NULLS LAST")
	}
	for _, c := range q.OrderBy {
		order = append(order, "t."+schema.Quote(c))
	}
	if len(order) > 0 {
		sql += " ORDER BY " + strings.Join(order, ", ")
	}
	if q.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d", q.Limit)
	}
	return sql
}
