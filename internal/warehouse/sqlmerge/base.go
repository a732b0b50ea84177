// Package sqlmerge is what warehouses share that are written in SQL. Base answers what can
// be asked and keeps the journal in tables of the schema "noemata"; a commit is a
// transaction, and rows gather in a temporary table that is merged set-wise. A kind brings
// connections that execute, answer and take Arrow in, and a Dialect.
package sqlmerge

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Base is a Warehouse but for what only its kind can do.
type Base struct {
	SQL     Dialect
	Connect func(ctx context.Context) (Conn, error)
	// Rows is the Read of the kind.
	Rows func(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error
	// Noted gives the comments of a table and, by their names, of its columns, where no SQL asks for them; nil else.
	Noted func(ctx context.Context, name schema.Name) (map[string]string, error)
	// Exclusive runs work as one transaction that makes or changes tables, one at a time.
	Exclusive func(ctx context.Context, work func(Conn) error) error

	migrated atomic.Pointer[time.Time] // when the control schema was last seen in the form that this version knows

	seen  sync.Map // tables of the control schema that were there
	keyed sync.Map // targets whose indexes are there, by the statements that make them
	forms sync.Map // in which this process has left comments, relations and functions of targets last, by ofTarget

	commenting sync.Mutex
	commented  map[schema.Name]map[string]string // what comments has found
	related    map[string][]string               // what relations has found
}

// hasKeys tells whether the indexes of a target are known to be there: to make one that is
// there takes a lock all the same, which waits for the server's own upkeep of the table.
func (b *Base) hasKeys(t warehouse.Target) bool {
	statements := b.SQL.Keys(t)
	_, known := b.keyed.Load(strings.Join(statements, ";"))
	return len(statements) == 0 || known
}

// findKeys looks which indexes a table has, and drops those of another key.
func (b *Base) findKeys(ctx context.Context, t warehouse.Target) error {
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
		if err := b.create(ctx, schema.Name{}, drop); err != nil {
			return err
		}
	}
	if there == len(wanted) {
		b.keyed.Store(strings.Join(wanted, ";"), true)
	}
	return nil
}

// create makes or changes tables. Rows of the one that is named are changed, or it is made.
func (b *Base) create(ctx context.Context, of schema.Name, statements []string) error {
	return b.createWith(ctx, of, AllRows, statements)
}

// createWith is create of which only some rows need be there.
func (b *Base) createWith(ctx context.Context, of schema.Name, w Which, statements []string) error {
	return b.Exclusive(ctx, func(c Conn) error {
		if of != (schema.Name{}) {
			if err := bring(ctx, c, of, w); err != nil {
				return err
			}
		}
		return execAll(ctx, tablesOf(c), statements)
	})
}

// write changes the journal.
func (b *Base) write(ctx context.Context, statements []string) error {
	return b.Exclusive(ctx, func(c Conn) error { return execAll(ctx, c, statements) })
}

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

// look gives all rows of a small result that is asked of a table.
func (b *Base) look(ctx context.Context, table schema.Name, sql string, args ...any) (rows [][]any, err error) {
	err = b.with(ctx, func(c Conn) error {
		if err := bring(ctx, c, table, Looking); err != nil {
			return err
		}
		rows, err = tablesOf(c).Ask(ctx, sql, args...)
		return err
	})
	return rows, err
}

// Mend runs a statement that mends a finding: a person has asked for it.
func (b *Base) Mend(ctx context.Context, sql string) error {
	_, err := b.Ask(ctx, sql)
	return err
}

// columns tells names and types of a table's columns; none when there is no table.
func (b *Base) columns(ctx context.Context, name schema.Name) (existing map[string]string, err error) {
	err = b.with(ctx, func(c Conn) (err error) {
		existing, err = tablesOf(c).Columns(ctx, name)
		return err
	})
	return existing, err
}

// Prepare makes control schema, schema and table where they are missing.
func (b *Base) Prepare(ctx context.Context, t warehouse.Target) (made bool, err error) {
	if err := b.Migrate(ctx); err != nil {
		return false, err
	}
	existing, err := b.columns(ctx, t.Name)
	if err != nil {
		return false, err
	}
	if len(existing) == 0 {
		b.keyed.Delete(strings.Join(b.SQL.Keys(t), ";"))
		b.forgetComments(t)
		var steps []string
		if err := b.with(ctx, func(c Conn) (err error) {
			steps, err = createSchema(ctx, tablesOf(c), t.Name.Schema)
			return err
		}); err != nil {
			return false, err
		}
		if err := b.create(ctx, t.Name, append(append(steps, b.SQL.CreateTable(t)), b.SQL.History(t)...)); err != nil {
			return true, err
		}
		return true, errors.Join(b.comment(ctx, t), b.relate(ctx, t))
	}
	change, err := b.SQL.ChangeKeep(t, existing)
	if err != nil {
		return false, err
	}
	if len(change) > 0 {
		b.forgetComments(t) // a table that is remade has none
		if err := b.create(ctx, t.Name, change); err != nil {
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
	if err := b.comment(ctx, t); err != nil {
		return false, err
	}
	if err := b.relate(ctx, t); err != nil {
		return false, err
	}
	return false, b.findKeys(ctx, t)
}

// createSchema makes a schema where there is none. A server asks for the privilege to make one, also where
// it is there already.
func createSchema(ctx context.Context, c Conn, name string) ([]string, error) {
	found, err := c.Ask(ctx, "SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = "+schema.Literal(name))
	if err != nil || len(found) > 0 {
		return nil, err
	}
	return []string{"CREATE SCHEMA IF NOT EXISTS " + schema.Quote(name)}, nil
}

// comment gives a target and its columns the comments that the source has, where it has any: once for
// each form of them that this process meets. A user who may not is not stopped by it.
func (b *Base) comment(ctx context.Context, t warehouse.Target) error {
	wanted, of := t.Comments(), ofTarget{"comments", t.Name}
	form := fmt.Sprint(wanted)
	last, looked := b.forms.Load(of)
	if last == form || len(wanted) == 0 {
		return nil
	}
	var has map[string]string // what this process has written since it looked is not in what it found
	if !looked {
		var err error
		if has, err = b.comments(ctx, t.Name); err != nil {
			return err
		}
	}
	for column, text := range has {
		if text == wanted[column] {
			delete(wanted, column)
		}
	}
	var statements []string
	for _, column := range slices.Sorted(maps.Keys(wanted)) {
		on := "TABLE " + t.Name.Quoted()
		if column != "" {
			on = "COLUMN " + t.Name.Quoted() + "." + schema.Quote(column)
		}
		statements = append(statements, "COMMENT ON "+on+" IS "+schema.Literal(wanted[column]))
	}
	if len(statements) > 0 {
		if err := b.createWith(ctx, t.Name, NoRows, statements); err != nil && !problem.Is(err, problem.NoPrivilege) {
			return err
		}
	}
	b.forms.Store(of, form)
	return nil
}

// ofTarget is what there is once of a target, beside its rows.
type ofTarget struct {
	what string
	name schema.Name
}

// comments gives those that a table and its columns had when this process looked first: to ask for those of one
// table costs as much as for all. What it gives is not changed by anybody.
func (b *Base) comments(ctx context.Context, of schema.Name) (map[string]string, error) {
	if b.Noted != nil {
		return b.Noted(ctx, of)
	}
	b.commenting.Lock()
	defer b.commenting.Unlock()
	if b.commented != nil {
		return b.commented[of], nil
	}
	found, err := b.Ask(ctx, b.SQL.Comments)
	if err != nil {
		return nil, err
	}
	all := map[schema.Name]map[string]string{}
	for _, row := range found {
		name := schema.Name{Schema: row[0].(string), Table: row[1].(string)}
		if all[name] == nil {
			all[name] = map[string]string{}
		}
		all[name][row[2].(string)] = row[3].(string)
	}
	b.commented = all
	return all[of], nil
}

// forgetComments has those of a table looked at again.
func (b *Base) forgetComments(t warehouse.Target) {
	b.forms.Delete(ofTarget{"comments", t.Name})
	b.commenting.Lock()
	defer b.commenting.Unlock()
	delete(b.commented, t.Name)
}

// asOfIsCurrent makes the function of a history anew where its columns may have changed:
// once for each form of it that this process meets.
func (b *Base) asOfIsCurrent(ctx context.Context, t warehouse.Target) error {
	statements, of := b.SQL.History(t), ofTarget{"function", t.Name}
	form := strings.Join(statements, ";")
	if last, _ := b.forms.Load(of); last == form || len(statements) == 0 {
		return nil
	}
	if err := b.create(ctx, schema.Name{}, statements); err != nil {
		return err
	}
	b.forms.Store(of, form)
	return nil
}

// Lacks lists the columns of a target that an existing table does not have.
func (b *Base) Lacks(ctx context.Context, t warehouse.Target) (list []string, err error) {
	existing, err := b.columns(ctx, t.Name)
	for _, c := range t.All() {
		if _, there := existing[c.Name]; !there && len(existing) > 0 {
			list = append(list, c.Name)
		}
	}
	return list, err
}

// LeftOver lists the columns of a table that the target does not have.
func (b *Base) LeftOver(ctx context.Context, t warehouse.Target) (list []warehouse.LeftOver, err error) {
	existing, err := b.columns(ctx, t.Name)
	for _, c := range t.All() {
		delete(existing, c.Name)
	}
	for _, column := range slices.Sorted(maps.Keys(existing)) {
		remedy := fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s;", t.Name.Quoted(), schema.Quote(column))
		list = append(list, warehouse.LeftOver{Column: column, Remedy: remedy})
	}
	return list, err
}

// Form is none, where a warehouse takes Arrow alone.
func (b *Base) Form() string { return "" }

// MayWrite finds no privilege missing, where a warehouse knows none.
func (b *Base) MayWrite(context.Context, warehouse.Target) error { return nil }

// Refit makes an existing target take what the source has now: columns that it lacks are
// added, and those of another type converted. Where values cannot be, the column is made
// anew if all rows are about to be written again, and else it is said what to do.
func (b *Base) Refit(ctx context.Context, t warehouse.Target) error {
	defer b.forgetComments(t) // columns that are made anew have none
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
			if err := b.create(ctx, t.Name, convert); err == nil {
				continue
			} else if !problem.OfTable(err) {
				return err
			} else if t.Keep != feed.KeepLatest && t.Keep != feed.KeepReplace {
				return problem.Wrap(err, problem.Held,
					fmt.Sprintf("The column %s of the target table %s is %s, and its values cannot all be converted "+
						"to %s, which is needed for the source's %s.", c.Name, t.Name, have, want, c.Native),
					fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s; and copy the table again.", table, name,
						schema.Quote(c.Name+"_before")))
			}
			steps = append(steps, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, name),
				fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, name, want))
		}
	}
	if steps == nil {
		return nil
	}
	return b.create(ctx, t.Name, append(steps, b.SQL.History(t)...))
}

// History makes the function that gives a history table as it was at a moment.
func (d Dialect) History(t warehouse.Target) []string {
	if t.Keep != feed.KeepHistory || d.AsOf == nil {
		return nil
	}
	return d.AsOf(t, warehouse.AsOfName(t.Name), func(moment string) string {
		return fmt.Sprintf("SELECT %s FROM %s WHERE %s <= %[4]s AND (%[5]s IS NULL OR %[5]s > %[4]s)",
			names(t.Values()), t.Name.Quoted(), schema.Quote(t.Called(warehouse.From)), moment,
			schema.Quote(t.Called(warehouse.Until)))
	})
}

// Count counts the rows of a table that hold now.
func (b *Base) Count(ctx context.Context, t warehouse.Target) (int64, error) {
	sql := "SELECT count(*) FROM " + t.Name.Quoted()
	if holds := Holds(t); holds != "" {
		sql += " WHERE " + holds
	}
	found, err := b.look(ctx, t.Name, sql)
	if err != nil {
		return 0, err
	}
	return found[0][0].(int64), nil
}

// Size is the room that a table takes.
func (b *Base) Size(ctx context.Context, t warehouse.Target) (int64, error) {
	found, err := b.Ask(ctx, b.SQL.Size(t.Name))
	if err != nil {
		return 0, err
	}
	return found[0][0].(int64), nil
}

// File is none of a server.
func (b *Base) File() (string, bool) { return "", false }

// Free is not told by a server: which disk it writes to is its own affair.
func (b *Base) Free(context.Context) (int64, error) { return -1, nil }

// Empty tells whether a target has no rows.
func (b *Base) Empty(ctx context.Context, t warehouse.Target) (empty bool, err error) {
	err = b.with(ctx, func(c Conn) error {
		filled, err := filled(ctx, c, t)
		empty = !filled
		return err
	})
	return empty, err
}

func filled(ctx context.Context, c Conn, t warehouse.Target) (bool, error) {
	if err := bring(ctx, c, t.Name, Looking); err != nil {
		return false, err
	}
	found, err := tablesOf(c).Ask(ctx, "SELECT EXISTS (SELECT 1 FROM "+t.Name.Quoted()+")")
	return err == nil && found[0][0].(bool), err
}

// Holds is the condition of rows that hold now; empty where all do.
func Holds(t warehouse.Target) string {
	switch t.Keep {
	case feed.KeepSoftDelete:
		return schema.Quote(t.Called(warehouse.DeletedAt)) + " IS NULL"
	case feed.KeepHistory:
		return schema.Quote(t.Called(warehouse.Current))
	}
	return ""
}
