package warehouse

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
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

// Transact runs statements as one transaction: all of them hold, or none.
func Transact(ctx context.Context, c Conn, statements []string) error {
	for _, sql := range slices.Concat([]string{"BEGIN"}, statements, []string{"COMMIT"}) {
		if _, err := c.Exec(ctx, sql); err != nil {
			return err // closing the connection rolls back
		}
	}
	return nil
}

// Dialect is where the SQL of warehouses differs.
type Dialect struct {
	Types     map[schema.Kind]string                  // decimal is made from precision and scale
	Distinct  func(t schema.Type, a, b string) string // true when two values differ in any way
	NoEquals  func(t schema.Type) bool                // the type has no equality: compare as text
	Columns   string                                  // asks for name and type of a table's columns, by $1 schema and $2 table
	Normal    func(typeName string) string            // one spelling of a type for each
	Convert   func(table, column, typeName string) string
	Stage     string // what follows the definition of a temporary table
	Updated   string // what follows the definition of a table whose rows are updated
	Remake    bool   // a table and its rows cannot be changed in one transaction
	DropStage bool   // temporary tables are dropped at the end of a commit
	Direct    bool   // a table may be emptied and filled while readers still see the old rows
	Rewrite   bool   // a changed row is deleted and inserted, not updated in place
	Indexes   string // asks for the names of a table's indexes, by $1 schema and $2 table; empty: targets have none
	Analyze   bool   // large stages need statistics
	AsOf      func(t Target, name schema.Name, query func(moment string) string) []string
}

// Base is a Warehouse but for what only its kind can do.
type Base struct {
	SQL     Dialect
	Connect func(ctx context.Context) (Conn, error)
	Create  func(ctx context.Context, statements []string) error // one connection at a time

	keyed sync.Map // targets whose indexes are there, by the statements that make them
}

// hasKeys tells whether the indexes of a target are known to be there: to make one that is
// there takes a lock all the same, which waits for the server's own upkeep of the table.
func (b *Base) hasKeys(t Target) bool {
	statements := b.SQL.Keys(t)
	_, known := b.keyed.Load(strings.Join(statements, ";"))
	return len(statements) == 0 || known
}

// findKeys looks which indexes a table has, and drops those of another key.
func (b *Base) findKeys(ctx context.Context, t Target) error {
	wanted := b.SQL.Keys(t)
	if len(wanted) == 0 {
		return nil
	}
	b.keyed.Delete(strings.Join(wanted, ";"))
	found, err := b.Ask(ctx, b.SQL.Indexes, t.Name.Schema, t.Name.Table)
	if err != nil {
		return err
	}
	names := map[string]bool{}
	for _, sql := range wanted {
		names[indexName(sql)] = true
	}
	there := 0
	var drop []string
	for _, row := range found {
		switch name := row[0].(string); {
		case names[name]:
			there++
		case ourIndex.MatchString(name):
			drop = append(drop, "DROP INDEX "+schema.Quote(t.Name.Schema)+"."+schema.Quote(name))
		}
	}
	if len(drop) > 0 {
		if err := b.Create(ctx, drop); err != nil {
			return err
		}
	}
	if there == len(wanted) {
		b.keyed.Store(strings.Join(wanted, ";"), true)
	}
	return nil
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
func (b *Base) Prepare(ctx context.Context, t Target) (made bool, err error) {
	has, err := b.hasControl(ctx)
	if err != nil {
		return false, err
	}
	if !has {
		if err := b.Create(ctx, Control); err != nil {
			return false, err
		}
	}
	existing, err := b.columns(ctx, t.Name)
	if err != nil {
		return false, err
	}
	if len(existing) == 0 {
		b.keyed.Delete(strings.Join(b.SQL.Keys(t), ";"))
		return true, b.Create(ctx, append([]string{"CREATE SCHEMA IF NOT EXISTS " + schema.Quote(t.Name.Schema), b.SQL.CreateTable(t)}, b.SQL.asOf(t)...))
	}
	change, err := b.SQL.ChangeKeep(t, existing)
	if err != nil {
		return false, err
	}
	if len(change) > 0 {
		if err := b.Create(ctx, change); err != nil {
			return false, err
		}
		if existing, err = b.columns(ctx, t.Name); err != nil {
			return false, err
		}
	}
	if err := b.SQL.Misfit(t, existing, b.SQL.Normal); err != nil {
		return false, err
	}
	if err := b.asOfIsCurrent(ctx, t); err != nil {
		return false, err
	}
	return false, b.findKeys(ctx, t)
}

// asOfIsCurrent makes the function of a history anew where its columns may have changed:
// once for each form of it that this process meets.
func (b *Base) asOfIsCurrent(ctx context.Context, t Target) error {
	statements := b.SQL.asOf(t)
	made := strings.Join(statements, ";")
	if _, known := b.keyed.Load(made); known || len(statements) == 0 {
		return nil
	}
	if err := b.Create(ctx, statements); err != nil {
		return err
	}
	b.keyed.Store(made, true)
	return nil
}

// LeftOver lists the columns of a table that the target does not have.
func (b *Base) LeftOver(ctx context.Context, t Target) ([]string, error) {
	existing, err := b.columns(ctx, t.Name)
	for _, c := range t.All() {
		delete(existing, c.Name)
	}
	return slices.Sorted(maps.Keys(existing)), err
}

// LastTarget is what a table's rows were written to last.
func (b *Base) LastTarget(ctx context.Context, feed, table string) (string, error) {
	has, err := b.hasControl(ctx)
	if err != nil || !has {
		return "", err
	}
	found, err := b.Ask(ctx, "SELECT target FROM noemata.loads WHERE feed = $1 AND source_table = $2 ORDER BY committed_at DESC LIMIT 1", feed, table)
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0][0].(string), nil
}

// FirstPosition is where a table's first commit brought it.
func (b *Base) FirstPosition(ctx context.Context, feed, table string) (position.Position, error) {
	found, err := b.Ask(ctx, "SELECT to_position FROM noemata.loads WHERE feed = $1 AND source_table = $2 AND to_position IS NOT NULL ORDER BY committed_at LIMIT 1", feed, table)
	if err != nil || len(found) == 0 {
		return position.Position{}, err
	}
	return position.Parse(found[0][0].(string))
}

// MayWrite finds no privilege missing, where a warehouse knows none.
func (b *Base) MayWrite(context.Context, Target) error { return nil }

// Refit makes an existing target take what the source has now: columns that it lacks are
// added, and those of another type converted. Where values cannot be, the column is made
// anew if all rows are about to be written again, and else it is said what to do.
func (b *Base) Refit(ctx context.Context, t Target) error {
	existing, err := b.columns(ctx, t.Name)
	if err != nil || len(existing) == 0 {
		return err
	}
	table := t.Name.Quoted()
	var steps []string
	for _, c := range t.All() {
		have, ok := existing[c.Name]
		name, want := schema.Quote(c.Name), b.SQL.TypeName(c.Type)
		switch {
		case !ok:
			steps = append(steps, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, name, want))
		case b.SQL.Normal(have) != b.SQL.Normal(want):
			convert := []string{b.SQL.Convert(table, name, want)}
			if err := b.Create(ctx, convert); err == nil {
				continue
			} else if !problem.OfTable(err) {
				return err
			} else if t.Keep != feed.KeepLatest && t.Keep != feed.KeepReplace {
				return problem.Wrap(err, problem.Held, fmt.Sprintf("The column %s of the target table %s is %s, and its values cannot all be converted to %s, which is needed for the source's %s.", c.Name, t.Name, have, want, c.Native),
					fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s; and copy the table again.", table, name, schema.Quote(c.Name+"_before")))
			}
			steps = append(steps, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, name), fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, name, want))
		}
	}
	if steps == nil {
		return nil
	}
	return b.Create(ctx, append(steps, b.SQL.asOf(t)...))
}

// asOf makes the function that gives a history table as it was at a moment.
func (d Dialect) asOf(t Target) []string {
	if t.Keep != feed.KeepHistory {
		return nil
	}
	return d.AsOf(t, AsOfName(t.Name), func(moment string) string {
		return fmt.Sprintf("SELECT %s FROM %s WHERE %s <= %[4]s AND (%[5]s IS NULL OR %[5]s > %[4]s)", names(t.Columns), t.Name.Quoted(), schema.Quote(t.Names.From), moment, schema.Quote(t.Names.Until))
	})
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
