//go:build duckdb_arrow

package duckdb

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/derive"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Temporary tables of a derivation.
const (
	madeRows     = "noemata_made"    // what the SQL gives
	partsNow     = "noemata_parts"   // digests of the parts of inputs
	partsChanged = "noemata_changed" // parts whose digests are others than before
)

// derivation is the making of one derived table.
type derivation struct {
	conn  *conn
	table derive.Table
	name  schema.Name
	key   string // as the warehouse tells the name from others
	said  string // the statement that was run last

	whole  bool         // all of its parts are made
	kind   string       // what is there of the name
	before *derive.Made // nil where it was never made
	times  int64        // rises each time that its rows become others
	out    warehouse.Derivation
}

func (d *derivation) exec(ctx context.Context, sql string, args ...any) (int64, error) {
	d.said = sql
	return d.conn.Exec(ctx, sql, args...)
}

func (d *derivation) count(ctx context.Context, sql string, args ...any) (int64, error) {
	d.said = sql
	found, err := d.conn.Ask(ctx, sql, args...)
	if err != nil {
		return 0, err
	}
	return found[0][0].(int64), nil
}

// make makes the table; what is not committed goes when the connection is closed.
func (d *derivation) make(ctx context.Context, reads []schema.Name) (warehouse.Derivation, error) {
	if _, err := d.exec(ctx, "BEGIN"); err != nil {
		return d.out, err
	}
	now, err := d.look(ctx)
	if err != nil {
		return d.out, err
	}
	d.out.Made = derive.Made{Definition: d.table.Definition(), Inputs: map[string]string{}}
	for _, r := range reads {
		d.out.Made.Inputs[keyOf(r)] = now[keyOf(r)]
	}
	if _, err := d.exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+schema.Quote(d.name.Schema)); err != nil {
		return d.out, err
	}
	switch d.table.Is() {
	case derive.AsView:
		err = d.view(ctx)
	case derive.AsMerge:
		err = d.merge(ctx)
	default:
		err = d.swap(ctx, unended(d.table.SQL))
	}
	if err == nil {
		err = d.check(ctx)
	}
	if err != nil || d.out.Kept {
		return d.out, err
	}
	return d.out, d.finish(ctx)
}

// look finds what is there, and gives the versions of all tables.
func (d *derivation) look(ctx context.Context) (map[string]string, error) {
	made, now, err := d.conn.derived(ctx)
	if err != nil {
		return nil, err
	}
	if d.kind, err = d.conn.kindOf(ctx, d.name); err != nil {
		return nil, err
	}
	known, err := d.conn.Ask(ctx, "SELECT version FROM noemata.derived WHERE target = $1", d.key)
	if err != nil {
		return nil, err
	}
	if len(known) == 0 && d.kind != "" {
		return nil, problem.Newf(problem.Held,
			fmt.Sprintf("DROP %s %s; if nobody needs it, or give the derived table another name.", d.kind, d.name.Quoted()),
			"There is a %s %s that Noemata has not derived, and it is left as it is.", strings.ToLower(d.kind), d.name.Display())
	}
	if m, is := made[d.key]; is {
		d.before = &m
	}
	d.times = time.Now().UnixMicro() // so that one that was dropped, and is made again, is another
	if len(known) > 0 {
		d.times = known[0][0].(int64)
	}
	return now, nil
}

func (d *derivation) view(ctx context.Context) error {
	d.out.Rows = -1
	if d.kind == "VIEW" && d.before != nil && d.before.Definition == d.out.Made.Definition {
		return nil
	}
	if d.kind == "TABLE" {
		if _, err := d.exec(ctx, "DROP TABLE "+d.name.Quoted()); err != nil {
			return err
		}
	}
	_, err := d.exec(ctx, viewOf(d.name, d.table.SQL))
	return err
}

// swap puts what a SELECT gives in the place of the table.
func (d *derivation) swap(ctx context.Context, rows string) error {
	had, before, err := int64(0), "", error(nil)
	switch d.kind {
	case "TABLE":
		had, before, err = d.sum(ctx)
	case "VIEW":
		_, err = d.exec(ctx, "DROP VIEW "+d.name.Quoted())
	}
	if err != nil {
		return err
	}
	if _, err := d.exec(ctx, "CREATE OR REPLACE TABLE "+d.name.Quoted()+" AS\n"+rows); err != nil {
		return err
	}
	var after string
	if d.out.Rows, after, err = d.sum(ctx); err != nil {
		return err
	}
	if d.out.Same = before == after; !d.out.Same {
		d.out.Inserted, d.out.Deleted = d.out.Rows, had
	}
	return nil
}

// sum counts the rows of the table, and gives a text that is another one when they, or its columns, are others.
func (d *derivation) sum(ctx context.Context) (rows int64, digest string, err error) {
	columns, err := d.conn.described(ctx, d.name.Quoted())
	if err != nil {
		return 0, "", err
	}
	d.said = fmt.Sprintf("SELECT count(*), %s FROM %s", digestOf(columns), d.name.Quoted())
	found, err := d.conn.Ask(ctx, d.said)
	if err != nil {
		return 0, "", err
	}
	return found[0][0].(int64), fmt.Sprintf("%s of %s", found[0][1], formOf(columns)), nil
}

// merge writes the rows that are others than before.
func (d *derivation) merge(ctx context.Context) error {
	changed, whole, err := d.changed(ctx)
	if err != nil {
		return err
	}
	rows, scope := unended(d.table.SQL), "true"
	if !whole {
		d.out.Parts = changed
		scope = among(d.table.Parts.Column, changed)
		rows = "SELECT * FROM (\n" + rows + ") WHERE " + scope
	}
	if _, err := d.exec(ctx, "CREATE TEMP TABLE "+madeRows+" AS\n"+rows); err != nil {
		return err
	}
	defer func() { _, _ = d.conn.exec(context.WithoutCancel(ctx), "DROP TABLE IF EXISTS "+madeRows) }()
	wanted, err := d.conn.described(ctx, madeRows)
	if err != nil {
		return err
	}
	var has []schema.Column
	if d.kind == "TABLE" {
		if has, err = d.conn.described(ctx, d.name.Quoted()); err != nil {
			return err
		}
	}
	if !slices.Equal(has, wanted) {
		return d.swap(ctx, "SELECT * FROM "+madeRows)
	}
	return d.write(ctx, scope, wanted)
}

// write brings the rows of the table that are in scope to what was made.
func (d *derivation) write(ctx context.Context, scope string, columns []schema.Column) error {
	var same, other []string
	for _, k := range d.table.Key {
		same = append(same, fmt.Sprintf("t.%s IS NOT DISTINCT FROM s.%[1]s", schema.Quote(k)))
	}
	for _, c := range columns {
		other = append(other, exact("t.", c)+" IS DISTINCT FROM "+exact("s.", c))
	}
	by := strings.Join(same, " AND ")
	gone, err := d.exec(ctx, fmt.Sprintf("DELETE FROM %s AS t WHERE %s AND NOT EXISTS (SELECT 1 FROM %s AS s WHERE %s)",
		d.name.Quoted(), scope, madeRows, by))
	if err != nil {
		return err
	}
	updated, err := d.exec(ctx, fmt.Sprintf("DELETE FROM %s AS t USING %s AS s WHERE %s AND (%s)", d.name.Quoted(), madeRows,
		by, strings.Join(other, " OR ")))
	if err != nil {
		return err
	}
	in, err := d.exec(ctx, fmt.Sprintf("INSERT INTO %[1]s SELECT * FROM %[2]s AS s WHERE NOT EXISTS (SELECT 1 FROM %[1]s AS t WHERE %[3]s)",
		d.name.Quoted(), madeRows, by))
	if err != nil {
		return err
	}
	d.out.Deleted, d.out.Updated, d.out.Inserted = gone, updated, in-updated
	d.out.Same = gone+updated+in == 0
	d.out.Rows, err = d.count(ctx, "SELECT count(*) FROM "+d.name.Quoted())
	return err
}

// mostParts is how many parts are made anew one by one; where more have changed, all are.
const mostParts = 1000

// changed tells which parts of the table a change of its inputs reaches. whole tells that it is all of them. The
// digests of inputs are kept, for the next time.
func (d *derivation) changed(ctx context.Context) (parts []string, whole bool, err error) {
	p := d.table.Parts
	if p == nil {
		return nil, true, nil
	}
	whole = d.whole || d.before == nil || d.before.Definition != d.out.Made.Definition
	inputs := map[string]string{} // as the warehouse tells them apart
	for input, column := range p.Inputs {
		name, _ := schema.ParseName(input) // the file was checked
		inputs[keyOf(name)] = column
	}
	var look []string
	for input, version := range d.out.Made.Inputs {
		changed := d.before == nil || d.before.Inputs[input] != version
		_, divided := inputs[input]
		whole = whole || changed && !divided
		if divided && (changed || whole) {
			look = append(look, input)
		}
	}
	if whole { // all digests are taken anew
		look = look[:0]
		for input := range inputs {
			look = append(look, input)
		}
		if _, err := d.exec(ctx, "DELETE FROM noemata.derived_parts WHERE target = $1", d.key); err != nil {
			return nil, true, err
		}
	}
	slices.Sort(look)
	reached := map[string]bool{}
	for _, input := range look {
		found, err := d.digests(ctx, input, inputs[input])
		if err != nil {
			return nil, true, err
		}
		for _, part := range found {
			reached[part] = true
		}
	}
	parts = slices.AppendSeq([]string{}, maps.Keys(reached))
	slices.Sort(parts)
	return parts, whole || len(parts) > mostParts, nil
}

// digests keeps the digest of each part of an input, and gives the parts whose digest has changed. A part is the text
// of a value, with a sign before it; that of null is the sign alone.
func (d *derivation) digests(ctx context.Context, input, column string) ([]string, error) {
	table, err := schema.ParseName(input)
	if err != nil {
		return nil, err
	}
	columns, err := d.conn.described(ctx, table.Quoted())
	if err != nil {
		return nil, err
	}
	for _, sql := range []string{
		"DROP TABLE IF EXISTS " + partsNow, "DROP TABLE IF EXISTS " + partsChanged,
		fmt.Sprintf(`CREATE TEMP TABLE %s AS SELECT CASE WHEN %s IS NULL THEN '' ELSE '=' || CAST(%[2]s AS VARCHAR) END AS part,
  %[3]s AS digest FROM %[4]s GROUP BY 1`, partsNow, schema.Quote(column), digestOf(columns), table.Quoted()),
		fmt.Sprintf(`CREATE TEMP TABLE %s AS SELECT coalesce(n.part, b.part) AS part FROM %s AS n FULL JOIN (
  SELECT part, digest FROM noemata.derived_parts WHERE target = %s AND input = %s) AS b USING (part)
WHERE n.digest IS DISTINCT FROM b.digest`, partsChanged, partsNow, schema.Literal(d.key), schema.Literal(input)),
		fmt.Sprintf("DELETE FROM noemata.derived_parts WHERE target = %s AND input = %s AND part IN (SELECT part FROM %s)",
			schema.Literal(d.key), schema.Literal(input), partsChanged),
		fmt.Sprintf("INSERT INTO noemata.derived_parts SELECT %s, %s, part, digest FROM %s WHERE part IN (SELECT part FROM %s)",
			schema.Literal(d.key), schema.Literal(input), partsNow, partsChanged),
	} {
		if _, err := d.exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	found, err := d.conn.Ask(ctx, fmt.Sprintf("SELECT part FROM %s LIMIT %d", partsChanged, mostParts+1))
	var parts []string
	for _, row := range found {
		parts = append(parts, row[0].(string))
	}
	return parts, err
}

// among is the condition of rows that are in one of some parts.
func among(column string, parts []string) string {
	conditions := []string{"false"}
	var values []string
	for _, p := range parts {
		if value, is := strings.CutPrefix(p, "="); is {
			values = append(values, schema.Literal(value))
		} else {
			conditions = append(conditions, schema.Quote(column)+" IS NULL")
		}
	}
	if len(values) > 0 {
		conditions = append(conditions, schema.Quote(column)+" IN ("+strings.Join(values, ", ")+")")
	}
	return "(" + strings.Join(conditions, " OR ") + ")"
}

// check looks for what breaks the table's checks.
func (d *derivation) check(ctx context.Context) error {
	checks := d.table.Checks
	if d.table.Is() == derive.AsMerge {
		checks = append([]derive.Check{{Unique: d.table.Key}, {NotNull: d.table.Key}}, checks...)
	}
	for _, c := range checks {
		began := time.Now()
		found, err := d.count(ctx, "SELECT count(*) FROM (\n"+breaks(d.name.Quoted(), c)+")")
		if err != nil {
			return err
		}
		d.out.Checks = append(d.out.Checks, warehouse.Checked{Check: c, Found: found, Took: time.Since(began),
			SQL: breaks("(\n"+unended(d.table.SQL)+")", c)})
		d.out.Kept = d.out.Kept || found > 0 && c.Keeps() && d.table.Is() != derive.AsView
	}
	return nil
}

// finish notes how the table was made, and commits. Rows that are those that were there are left where they are.
func (d *derivation) finish(ctx context.Context) error {
	if d.out.Same && d.table.Is() == derive.AsTable {
		for _, sql := range []string{"ROLLBACK", "BEGIN"} {
			if _, err := d.exec(ctx, sql); err != nil {
				return err
			}
		}
	}
	if !d.out.Same {
		d.times++
	}
	if err := d.comment(ctx); err != nil {
		return err
	}
	inputs, err := json.Marshal(d.out.Made.Inputs)
	if err != nil {
		return err
	}
	if _, err := d.exec(ctx, "DELETE FROM noemata.derived WHERE target = $1", d.key); err != nil {
		return err
	}
	if _, err := d.exec(ctx, `INSERT INTO noemata.derived (target, kept_as, definition, inputs, version, row_count, made_at)
VALUES ($1, $2, $3, $4, $5, $6, now())`, d.key, string(d.table.Is()), d.out.Made.Definition, string(inputs), d.times,
		d.out.Rows); err != nil {
		return err
	}
	_, err = d.exec(ctx, "COMMIT")
	return err
}

// comment says what the table is.
func (d *derivation) comment(ctx context.Context) error {
	kind, comment := "TABLE", "NULL"
	if d.table.Comment != "" {
		comment = schema.Literal(d.table.Comment)
	}
	if d.table.Is() == derive.AsView {
		kind = "VIEW"
	}
	_, err := d.exec(ctx, "COMMENT ON "+kind+" "+d.name.Quoted()+" IS "+comment)
	return err
}
