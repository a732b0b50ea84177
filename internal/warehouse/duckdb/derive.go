//go:build duckdb_arrow

package duckdb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"noemata/internal/core/derive"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Reads lets the SQL of a derived table through the gate of questions. What it reads besides tables, whose changes
// nobody would see, is refused.
func (w *Warehouse) Reads(ctx context.Context, sql string, may warehouse.May) ([]schema.Name, error) {
	if explains.MatchString(sql) {
		return nil, warehouse.Refused("42601", "A derived table is made by one SELECT.")
	}
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	defer c.Close()
	r, err := c.through(ctx, sql, may)
	if err == nil { // it stands in parentheses later
		if _, within := c.through(ctx, "SELECT * FROM (\n"+unended(sql)+")", may); within != nil {
			return nil, warehouse.Refused("42601", "A derived table is made by one SELECT, and nothing after it.")
		}
	}
	switch m := (*warehouse.Mistake)(nil); {
	case errors.As(err, &m):
		return nil, err
	case err != nil:
		return nil, w.explain(err)
	case r.unseen != "":
		return nil, warehouse.Refused("0A000", "A derived table reads tables. When %s changes cannot be seen.", r.unseen)
	}
	for i, name := range r.reads {
		r.reads[i] = names.KeyOf(name)
	}
	return r.reads, nil
}

// Stamp is what the system tells of the file and its log (fstat(2)): it is not opened, so that others can.
func (w *Warehouse) Stamp(context.Context) (string, error) {
	stamp := ""
	for _, path := range []string{w.file.path, w.file.path + ".wal"} {
		info, err := os.Stat(path)
		switch {
		case errors.Is(err, os.ErrNotExist):
			stamp += "none "
		case err != nil:
			return "", w.explain(err)
		default:
			stamp += fmt.Sprintf("%d at %d ", info.Size(), info.ModTime().UnixNano())
		}
	}
	return stamp, nil
}

// Versions of tables: of a derived one a number that rises when its rows become others, of another one how many commits
// have changed rows of it; and its columns.
const (
	versionsSQL = `SELECT c.schema_name, c.table_name, md5(string_agg(c.column_name || ' ' || c.data_type,
  ',' ORDER BY c.column_index))
FROM duckdb_columns() c WHERE c.database_name = current_database() AND NOT c.internal AND c.schema_name <> 'noemata'
GROUP BY 1, 2`
	loadsSQL = `SELECT target, count(*) FROM noemata.loads
WHERE rows_inserted + rows_updated + rows_deleted + coalesce(rows_filled, 0) > 0 GROUP BY 1`
	derivedSQL = `SELECT target, definition, inputs, version FROM noemata.derived`
)

// Derived reads what was kept of derived tables, and the versions of all tables.
func (w *Warehouse) Derived(ctx context.Context) (made map[string]derive.Made, now map[string]string, err error) {
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, nil, w.explain(err)
	}
	defer c.Close()
	c.explain = w.explain
	if _, err = c.exec(ctx, "BEGIN TRANSACTION READ ONLY"); err == nil {
		made, now, err = c.derived(ctx)
	}
	return made, now, w.explain(err)
}

// keyOf is a name as DuckDB tells it from others.
func keyOf(name schema.Name) string { return names.KeyOf(name).Display() }

// derived is that of one transaction.
func (c *conn) derived(ctx context.Context) (made map[string]derive.Made, now map[string]string, err error) {
	now, made = map[string]string{}, map[string]derive.Made{}
	found, err := c.ask(ctx, versionsSQL)
	if err != nil {
		return nil, nil, err
	}
	for _, row := range found {
		now[keyOf(schema.Name{Schema: row[0].(string), Table: row[1].(string)})] = row[2].(string)
	}
	has, err := c.ask(ctx, "SELECT count(*) FROM duckdb_tables() WHERE schema_name = 'noemata' AND table_name = 'derived'")
	if err != nil || has[0][0].(int64) == 0 {
		return made, now, err
	}
	loads, err := c.ask(ctx, loadsSQL)
	if err != nil {
		return nil, nil, err
	}
	for _, row := range loads {
		name, err := schema.ParseName(row[0].(string))
		if columns, there := now[keyOf(name)]; err == nil && there {
			now[keyOf(name)] = fmt.Sprintf("%d %s", row[1], columns)
		}
	}
	derived, err := c.ask(ctx, derivedSQL)
	if err != nil {
		return nil, nil, err
	}
	for _, row := range derived {
		target := row[0].(string)
		m := derive.Made{Definition: row[1].(string), Inputs: map[string]string{}}
		if err := json.Unmarshal([]byte(row[2].(string)), &m.Inputs); err != nil {
			return nil, nil, fmt.Errorf("what the derived table %s was made of: %w", target, err)
		}
		if columns, there := now[target]; there { // else somebody has dropped it
			made[target], now[target] = m, fmt.Sprintf("%d %s", row[3], columns)
		}
	}
	return made, now, nil
}

// Binds makes the tables as views, in a transaction that is given up. A statement that fails ends it, so after each
// mistake it is begun anew, without that table.
func (w *Warehouse) Binds(ctx context.Context, list []derive.Table) (warehouse.Mistakes, error) {
	if err := w.deriving(ctx); err != nil {
		return nil, err
	}
	defer w.derives()
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	defer c.Close()
	c.explain = w.explain
	mistakes := warehouse.Mistakes{}
	for len(mistakes) < mostMistakes {
		at, err := c.bindAll(ctx, list, mistakes)
		if err == nil {
			break
		}
		m := (*warehouse.Mistake)(nil)
		if !errors.As(err, &m) {
			return nil, w.explain(err)
		}
		mistakes[at] = m
	}
	return mistakes, nil
}

// mostMistakes is how many tables are told to be wrong at a time.
const mostMistakes = 25

// bindAll makes views of all tables but those that are known to be wrong, and gives them up. Where one is wrong, it
// is at.
func (c *conn) bindAll(ctx context.Context, list []derive.Table, but warehouse.Mistakes) (at string, err error) {
	if _, err := c.exec(ctx, "BEGIN"); err != nil {
		return "", err
	}
	defer func() { _, _ = c.exec(context.WithoutCancel(ctx), "ROLLBACK") }()
	for _, t := range list {
		if but[t.Table] != nil {
			continue
		}
		if err := c.bind(ctx, t); err != nil {
			return t.Table, err
		}
	}
	return "", nil
}

// bind makes a view of a table. What is wrong with it is a Mistake.
func (c *conn) bind(ctx context.Context, t derive.Table) error {
	name := t.Name()
	if _, err := c.exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+schema.Quote(name.Schema)); err != nil {
		return err
	}
	if err := c.drop(ctx, name); err != nil {
		return err
	}
	view := viewOf(name, t.SQL)
	if _, err := c.exec(ctx, view); err != nil {
		return placedIn(err, view, t.SQL)
	}
	if err := c.has(ctx, "Its key needs a column that it does not have", name, t.Key...); err != nil {
		return err
	}
	for _, check := range t.Checks {
		if _, err := c.ask(ctx, "EXPLAIN "+breaks(name.Quoted(), check)); err != nil {
			return because(err, "The check: "+check.String())
		}
	}
	if t.Parts == nil {
		return nil
	}
	if err := c.has(ctx, "Its parts need a column that it does not have", name, t.Parts.Column); err != nil {
		return err
	}
	for _, input := range slices.Sorted(maps.Keys(t.Parts.Inputs)) {
		of, _ := schema.ParseName(input) // the file was checked
		if err := c.has(ctx, "Its parts need a column that "+input+" does not have", of, t.Parts.Inputs[input]); err != nil {
			return err
		}
	}
	return nil
}

// has looks whether a table has columns.
func (c *conn) has(ctx context.Context, lacks string, of schema.Name, columns ...string) error {
	if len(columns) == 0 {
		return nil
	}
	_, err := c.ask(ctx, "EXPLAIN SELECT "+schema.QuoteAll("", columns)+" FROM "+of.Quoted())
	return because(err, lacks)
}

// because says what it is that DuckDB finds wrong.
func because(err error, what string) error {
	m := mistakeOf(err, "")
	if m == nil {
		return err
	}
	return warehouse.Refused(m.State, "%s: %s", what, m.Message)
}

func viewOf(name schema.Name, sql string) string {
	return "CREATE OR REPLACE VIEW " + name.Quoted() + " AS\n" + unended(sql)
}

// unended is a SELECT without what ends it.
func unended(sql string) string { return strings.TrimRight(sql, "; \t\r\n") + "\n" }

// drop drops what has the name of a derived table.
func (c *conn) drop(ctx context.Context, name schema.Name) error {
	kind, err := c.kindOf(ctx, name)
	if err == nil && kind != "" {
		_, err = c.exec(ctx, "DROP "+kind+" "+name.Quoted())
	}
	return err
}

// kindOf tells whether a name is that of a TABLE or a VIEW; empty for none.
func (c *conn) kindOf(ctx context.Context, name schema.Name) (string, error) {
	found, err := c.ask(ctx, `SELECT schema_name, table_name, 'TABLE' FROM duckdb_tables() WHERE database_name = current_database()
UNION ALL SELECT schema_name, view_name, 'VIEW' FROM duckdb_views() WHERE database_name = current_database() AND NOT internal`)
	for _, row := range found {
		if keyOf(schema.Name{Schema: row[0].(string), Table: row[1].(string)}) == keyOf(name) {
			return row[2].(string), nil
		}
	}
	return "", err
}

// deriving waits until nobody else derives tables in the file: two who did would undo each other's work.
func (w *Warehouse) deriving(ctx context.Context) error {
	select {
	case w.file.deriving <- struct{}{}:
		return nil
	case <-time.After(derivingWithin):
		return problem.New(problem.Busy, "A derived table is being made in the warehouse.",
			"Try again when it is done; noemata derived list shows it.")
	case <-ctx.Done():
		return ctx.Err()
	}
}

const derivingWithin = 20 * time.Second

func (w *Warehouse) derives() { <-w.file.deriving }

// Derive makes a derived table in one transaction.
func (w *Warehouse) Derive(ctx context.Context, t derive.Table, reads []schema.Name, whole bool) (warehouse.Derivation,
	error) {
	if err := w.deriving(ctx); err != nil {
		return warehouse.Derivation{}, err
	}
	defer w.derives()
	if err := w.Migrate(ctx); err != nil {
		return warehouse.Derivation{}, err
	}
	c, err := w.file.connect(ctx)
	if err != nil {
		return warehouse.Derivation{}, w.explain(err)
	}
	defer c.Close() // which rolls back what was not committed
	d := &derivation{conn: c, table: t, name: t.Name(), key: keyOf(t.Name()), whole: whole}
	out, err := d.make(ctx, reads)
	if isOutOfMemory(err) {
		return out, w.noRoomToDerive(err)
	}
	if err = placedIn(err, d.said, t.SQL); errors.As(err, new(*warehouse.Mistake)) {
		return out, err
	}
	return out, w.explain(err)
}

// noRoomToDerive is the problem of a table whose making takes more memory than the file is opened with.
func (w *Warehouse) noRoomToDerive(err error) error {
	had, raised := w.file.raise()
	remedy := "Have its SQL read, or gather, less at a time."
	if raised {
		remedy = fmt.Sprintf("The file is opened with %d MB, and it is tried again.", memoryMost>>20)
	}
	return problem.Wrap(err, problem.Failed, fmt.Sprintf("To make it takes more than %d MB of memory.", had>>20), remedy)
}

// placedIn is an error of a statement that has a table's SQL in it: where it is a mistake, with its place in that SQL.
func placedIn(err error, said, sql string) error {
	m := mistakeOf(err, said)
	if m == nil {
		return err
	}
	if before := strings.Index(said, unended(sql)); before < 0 {
		m.Position = 0
	} else if m.Position > 0 {
		m.Position = max(m.Position-utf8.RuneCountInString(said[:before]), 0)
	}
	return m
}

// DropDerived drops a derived table and what is known of it.
func (w *Warehouse) DropDerived(ctx context.Context, name schema.Name) error {
	if err := w.deriving(ctx); err != nil {
		return err
	}
	defer w.derives()
	if err := w.Migrate(ctx); err != nil {
		return err
	}
	c, err := w.file.connect(ctx)
	if err != nil {
		return w.explain(err)
	}
	defer c.Close()
	c.explain = w.explain
	key := keyOf(name)
	if _, err := c.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	known, err := c.Ask(ctx, "SELECT 1 FROM noemata.derived WHERE target = $1", key)
	if err != nil || len(known) == 0 {
		return err
	}
	if err := c.drop(ctx, name); err != nil {
		return w.explain(err)
	}
	for _, sql := range []string{"DELETE FROM noemata.derived WHERE target = $1",
		"DELETE FROM noemata.derived_parts WHERE target = $1"} {
		if _, err := c.Exec(ctx, sql, key); err != nil {
			return err
		}
	}
	_, err = c.Exec(ctx, "COMMIT")
	return err
}

// breaks asks for what breaks a check among the rows of a table, or of a SELECT in parentheses.
func breaks(of string, c derive.Check) string {
	from := " FROM " + of + " WHERE "
	nulls := func(columns []string, is, or string) string {
		list := make([]string, len(columns))
		for i, column := range columns {
			list[i] = schema.Quote(column) + is
		}
		return strings.Join(list, or)
	}
	switch {
	case c.Unique != nil:
		columns := schema.QuoteAll("", c.Unique)
		return "SELECT " + columns + ", count(*) AS times" + from + nulls(c.Unique, " IS NOT NULL", " AND ") + " GROUP BY " +
			columns + " HAVING count(*) > 1"
	case c.NotNull != nil:
		return "SELECT *" + from + nulls(c.NotNull, " IS NULL", " OR ")
	case c.Values != nil:
		list := make([]string, len(c.Values.In))
		for i, v := range c.Values.In {
			list[i] = schema.Literal(v)
		}
		return "SELECT *" + from + "CAST(" + schema.Quote(c.Values.Column) + " AS VARCHAR) NOT IN (" +
			strings.Join(list, ", ") + ")"
	}
	return unended(c.None)
}

// asOfTable is the table that a function of its history is of.
func asOfTable(name schema.Name) schema.Name {
	return schema.Name{Schema: name.Schema, Table: strings.TrimSuffix(name.Table, feed.AsOf)}
}
