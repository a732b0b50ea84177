package warehouse

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Stage is the name of the temporary table that rows are gathered in, and
// StageRow its column that numbers them where the key is not unique.
const (
	Stage    = "noemata_stage"
	StageRow = "noemata_row"
)

// Control is the definition of the control schema, in SQL that every warehouse
// understands. Positions are kept unique by compare-and-set.
var Control = []string{
	`CREATE SCHEMA IF NOT EXISTS noemata`,
	`CREATE TABLE IF NOT EXISTS noemata.positions (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, position VARCHAR, version BIGINT NOT NULL, run BIGINT NOT NULL,
    moved_at TIMESTAMP WITH TIME ZONE NOT NULL, PRIMARY KEY (feed, source_table))`,
	`CREATE TABLE IF NOT EXISTS noemata.loads (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, target VARCHAR NOT NULL, run BIGINT NOT NULL,
    from_position VARCHAR, to_position VARCHAR, rows_read BIGINT NOT NULL, rows_filtered BIGINT NOT NULL, rows_folded BIGINT NOT NULL,
    rows_set_aside BIGINT NOT NULL, rows_unchanged BIGINT NOT NULL, rows_inserted BIGINT NOT NULL, rows_updated BIGINT NOT NULL,
    rows_deleted BIGINT NOT NULL, committed_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
	`CREATE TABLE IF NOT EXISTS noemata.set_aside (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, digest VARCHAR NOT NULL, key VARCHAR NOT NULL, content VARCHAR NOT NULL,
    reason VARCHAR NOT NULL, run BIGINT NOT NULL, noted_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
}

// Dialect is where the SQL of warehouses differs.
type Dialect struct {
	Types    map[schema.Kind]string                  // decimal is made from precision and scale
	Distinct func(t schema.Type, a, b string) string // true when two values differ in any way
	NoEquals func(t schema.Type) bool                // the type has no equality: compare as text
	Truncate string                                  // empties a table: TRUNCATE or DELETE FROM
	Rewrite  bool                                    // a changed row is deleted and inserted, not updated in place
}

// TypeName is the warehouse's name of a type.
func (d Dialect) TypeName(t schema.Type) string {
	if t.Kind == schema.Decimal {
		return fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale)
	}
	return d.Types[t.Kind]
}

// CreateTable makes a target.
func (d Dialect) CreateTable(t Target) string {
	var columns []string
	for _, c := range t.All() {
		columns = append(columns, "    "+schema.Quote(c.Name)+" "+d.TypeName(c.Type))
	}
	return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n%s\n)", t.Name.Quoted(), strings.Join(columns, ",\n"))
}

// CreateStage makes the temporary table for a target's rows.
func (d Dialect) CreateStage(t Target, after string) string {
	var columns []string
	for _, c := range StageColumns(t) {
		columns = append(columns, schema.Quote(c.Name)+" "+d.TypeName(c.Type))
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE %s (%s)%s", Stage, strings.Join(columns, ", "), after)
}

// StageColumns are the columns of rows on their way to a target.
func StageColumns(t Target) []schema.Column {
	columns := t.All()
	if NumbersRows(t) {
		columns = append(columns, schema.Column{Name: StageRow, Type: schema.Type{Kind: schema.Int64}})
	}
	return columns
}

// NumbersRows tells whether rows must be numbered to tell which of a key's is the last.
func NumbersRows(t Target) bool { return t.Keep == feed.KeepLatest && !t.Unique }

// Step is one statement of a merge and the counter its rows belong to.
type Step struct {
	SQL     string
	Counter string // "folded", "updated", "rewritten" (updated, and to be inserted again), "inserted" or "" for none
}

// Merge brings what is in the stage into the target. Rows of the stage that no
// step counts were there already.
func (d Dialect) Merge(t Target, run int64) []Step {
	switch t.Keep {
	case feed.KeepLedger:
		return []Step{{d.appendNew(t, run), "inserted"}}
	case feed.KeepReplace:
		return []Step{
			{d.Truncate + " " + t.Name.Quoted(), ""},
			{fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", t.Name.Quoted(), names(t.All()), Stage), "inserted"},
		}
	}
	var steps []Step
	if NumbersRows(t) {
		steps = append(steps, Step{d.foldByKey(t), "folded"})
	}
	if d.Rewrite {
		return append(steps, Step{d.deleteChanged(t), "rewritten"}, Step{d.insert(t), "inserted"})
	}
	return append(steps, Step{d.update(t), "updated"}, Step{d.insert(t), "inserted"})
}

// foldByKey leaves the last row of each key in the stage.
func (d Dialect) foldByKey(t Target) string {
	return fmt.Sprintf("DELETE FROM %s AS s USING (SELECT %s, max(%s) AS last FROM %[1]s GROUP BY %[2]s) AS l WHERE %[4]s AND s.%[3]s < l.last",
		Stage, schema.QuoteAll("", t.Key), StageRow, equal(t.Key, "s", "l"))
}

// update writes over the rows whose values differ, and leaves the others alone.
func (d Dialect) update(t Target) string {
	var sets []string
	for _, c := range t.All() {
		name := schema.Quote(c.Name)
		sets = append(sets, name+" = s."+name)
	}
	return fmt.Sprintf("UPDATE %s AS t SET %s FROM %s AS s WHERE %s AND (%s)", t.Name.Quoted(), strings.Join(sets, ", "), Stage, equal(t.Key, "t", "s"), d.differ(t))
}

// deleteChanged takes out the rows whose values differ; insert then brings them
// back as they are now.
func (d Dialect) deleteChanged(t Target) string {
	return fmt.Sprintf("DELETE FROM %s AS t USING %s AS s WHERE %s AND (%s)", t.Name.Quoted(), Stage, equal(t.Key, "t", "s"), d.differ(t))
}

func (d Dialect) differ(t Target) string {
	var differ []string
	for _, c := range t.Columns {
		differ = append(differ, d.Distinct(c.Type, "t."+schema.Quote(c.Name), "s."+schema.Quote(c.Name)))
	}
	return strings.Join(differ, " OR ")
}

func (d Dialect) insert(t Target) string {
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s AS s WHERE NOT EXISTS (SELECT 1 FROM %[1]s AS t WHERE %[5]s)",
		t.Name.Quoted(), names(t.All()), schema.QuoteAll("s.", columnNames(t.All())), Stage, equal(t.Key, "t", "s"))
}

// appendNew adds the rows of the stage that the ledger lacks. Rows are matched as a
// whole and counted, so that two rows alike in every value are both kept, and a
// stretch that is read again adds nothing. Only the ledger's rows between the
// stage's lowest and highest watermark can match.
func (d Dialect) appendNew(t Target, run int64) string {
	var list, back []string
	for _, c := range t.All() {
		if c.Name == t.RunColumn {
			back = append(back, fmt.Sprint(run))
			continue
		}
		name := schema.Quote(c.Name)
		if d.NoEquals(c.Type) {
			list = append(list, fmt.Sprintf("CAST(%s AS VARCHAR) AS %[1]s", name))
			back = append(back, fmt.Sprintf("CAST(%s AS %s)", name, d.TypeName(c.Type)))
			continue
		}
		list = append(list, name)
		back = append(back, name)
	}
	w := schema.QuoteAll("", t.Watermark)
	if len(t.Watermark) > 1 {
		w = "coalesce(" + w + ")"
	}
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (SELECT %s FROM %s EXCEPT ALL SELECT %[4]s FROM %[1]s WHERE %[6]s >= (SELECT min(%[6]s) FROM %[5]s) AND %[6]s <= (SELECT max(%[6]s) FROM %[5]s)) AS fresh",
		t.Name.Quoted(), names(t.All()), strings.Join(back, ", "), strings.Join(list, ", "), Stage, w)
}

// Misfit tells what keeps an existing table from being the target.
func (d Dialect) Misfit(t Target, existing map[string]string, normal func(typeName string) string) error {
	for _, c := range t.All() {
		have, ok := existing[c.Name]
		want := d.TypeName(c.Type)
		switch {
		case !ok:
			return problem.Newf(problem.Held, fmt.Sprintf("Add it with ALTER TABLE %s ADD COLUMN %s %s; or rename the table, so that it is made and loaded anew after its position is cleared.", t.Name.Quoted(), schema.Quote(c.Name), want),
				"The target table %s lacks the column %s, which the source has.", t.Name, c.Name)
		case normal(have) != normal(want):
			return problem.Newf(problem.Held, "Change the column's type, or rename the table, so that it is made and loaded anew after its position is cleared.",
				"The column %s of the target table %s is %s, and %s is needed for the source's %s.", c.Name, t.Name, have, want, c.Native)
		}
	}
	return nil
}

func equal(columns []string, a, b string) string {
	conditions := make([]string, len(columns))
	for i, c := range columns {
		conditions[i] = fmt.Sprintf("%s.%s = %s.%[2]s", a, schema.Quote(c), b)
	}
	return strings.Join(conditions, " AND ")
}

func columnNames(columns []schema.Column) []string {
	return schema.Table{Columns: columns}.ColumnNames()
}

func names(columns []schema.Column) string { return schema.QuoteAll("", columnNames(columns)) }

// Statements on the control schema; parameters are numbered alike everywhere.
const (
	PlacesSQL = `SELECT source_table, position, version, run, moved_at FROM noemata.positions WHERE feed = $1 AND ($2 = '' OR source_table = $2) ORDER BY source_table`
	MoveSQL   = `UPDATE noemata.positions SET position = $3, version = version + 1, run = $4, moved_at = now() WHERE feed = $1 AND source_table = $2 AND version = $5`
	EnterSQL  = `INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at) VALUES ($1, $2, $3, 1, $4, now()) ON CONFLICT DO NOTHING`
	AuditSQL  = `INSERT INTO noemata.loads (feed, source_table, target, run, from_position, to_position, rows_read, rows_filtered, rows_folded, rows_set_aside, rows_unchanged, rows_inserted, rows_updated, rows_deleted, committed_at)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, now())`
	AsideKeysSQL = `SELECT key FROM noemata.set_aside WHERE feed = $1 AND source_table = $2 AND key <> ''`
)

// MostAside is how many rows one commit may set aside. More than that is not a
// few odd rows but a table that does not fit, and a person should look at it.
const MostAside = 10_000

// TooManyAside is the problem of a commit with more than MostAside.
func TooManyAside(table, reason string) error {
	return problem.Newf(problem.Held, "See the reason and change the feed, for instance with as_text; nothing of this commit was written.", "More than %d rows of %s cannot be stored as they are. The last one: %s", MostAside, table, reason)
}

// AsideStatements keep rows that are set aside, once each, and take out those
// whose key has since come in a form that can be stored. shown is what a log may
// say instead, as the statements hold the rows' values.
func AsideStatements(l Load, aside []rows.Aside, healed []string) (statements []string, shown string) {
	at := fmt.Sprintf("feed = %s AND source_table = %s", schema.Literal(l.Feed), schema.Literal(l.Table))
	var digests, values []string
	seen := map[string]bool{}
	for _, a := range aside {
		digest := a.Digest()
		if seen[digest] {
			continue
		}
		seen[digest] = true
		content, _ := json.Marshal(a.Row) // a map of texts always marshals
		digests = append(digests, schema.Literal(digest))
		values = append(values, fmt.Sprintf("(%s, %s, %s, %s, %s, %s, %d, now())", schema.Literal(l.Feed), schema.Literal(l.Table),
			schema.Literal(digest), schema.Literal(a.Key), schema.Literal(string(content)), schema.Literal(a.Reason), l.Run))
	}
	for chunk := range slices.Chunk(digests, 500) {
		statements = append(statements, fmt.Sprintf("DELETE FROM noemata.set_aside WHERE %s AND digest IN (%s)", at, strings.Join(chunk, ", ")))
	}
	for chunk := range slices.Chunk(healed, 500) {
		for i, key := range chunk {
			chunk[i] = schema.Literal(key)
		}
		statements = append(statements, fmt.Sprintf("DELETE FROM noemata.set_aside WHERE %s AND key IN (%s)", at, strings.Join(chunk, ", ")))
	}
	for chunk := range slices.Chunk(values, 500) {
		statements = append(statements, "INSERT INTO noemata.set_aside (feed, source_table, digest, key, content, reason, run, noted_at) VALUES "+strings.Join(chunk, ", "))
	}
	return statements, fmt.Sprintf("DELETE and INSERT INTO noemata.set_aside -- %d rows set aside, %d no longer", len(aside), len(healed))
}

// SelectSQL writes a Query; expression says how a column is selected.
func SelectSQL(q Query, expression func(schema.Column) string) string {
	list := make([]string, len(q.Columns))
	for i, c := range q.Columns {
		list[i] = expression(c)
	}
	sql := "SELECT " + strings.Join(list, ", ") + " FROM " + q.Name.Quoted() + " AS t" // a bare name in ORDER BY would mean the selected text
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

// Ledger keeps a Loader's accounts: what came in, what was set aside, what was
// written. It is the part of a Loader that is the same in every warehouse.
type Ledger struct {
	Books  rows.Books
	Staged int64
	Aside  []rows.Aside
	Healed []string

	load    Load
	key     []int
	waiting map[string]bool // keys of rows that are set aside in the warehouse
}

// NewLedger begins the accounts of a load; waiting are the keys set aside so far.
func NewLedger(l Load, waiting []string) *Ledger {
	g := &Ledger{load: l, waiting: map[string]bool{}}
	for _, key := range waiting {
		g.waiting[key] = true
	}
	for _, k := range l.Target.Key {
		g.key = append(g.key, slices.IndexFunc(l.Target.Columns, func(c schema.Column) bool { return c.Name == k }))
	}
	return g
}

// Take notes a batch that comes in.
func (g *Ledger) Take(b rows.Batch) error {
	g.Books.Read += b.Rows()
	g.Books.SetAside += int64(len(b.Aside))
	g.Staged += b.Record.NumRows()
	g.Aside = append(g.Aside, b.Aside...)
	if len(g.Aside) > MostAside {
		return TooManyAside(g.load.Table, b.Aside[len(b.Aside)-1].Reason)
	}
	if len(g.waiting) == 0 || len(g.key) == 0 {
		return nil
	}
	for row := range int(b.Record.NumRows()) {
		if key := rows.KeyText(b.Record, row, g.load.Target.Columns, g.key); g.waiting[key] {
			g.Healed = append(g.Healed, key)
		}
	}
	return nil
}

// Count adds the rows of one step of a merge.
func (g *Ledger) Count(s Step, n int64) {
	switch s.Counter {
	case "folded":
		g.Books.Folded += n
	case "updated":
		g.Books.Updated += n
	case "rewritten":
		g.Books.Updated += n
		g.Books.Inserted -= n
	case "inserted":
		g.Books.Inserted += n
	}
}

// Close balances the books: staged rows that no step counted were there already.
func (g *Ledger) Close() (rows.Books, error) {
	b := &g.Books
	b.Unchanged = g.Staged - b.Folded - b.Updated - b.Inserted
	if b.Unchanged < 0 || !b.Balanced() {
		return *b, problem.Newf(problem.Failed, "Nothing was written. Is the key unique in the target? Please report this with the run's statements.",
			"The books of %s do not balance: %+v of %d rows staged.", g.load.Table, *b, g.Staged)
	}
	return *b, nil
}

// AuditArgs are the parameters of AuditSQL.
func (g *Ledger) AuditArgs(to position.Position) []any {
	b, l := g.Books, g.load
	return []any{l.Feed, l.Table, l.Target.Name.Display(), l.Run, Text(l.From.Position), Text(to), b.Read, b.Filtered, b.Folded, b.SetAside, b.Unchanged, b.Inserted, b.Updated, b.Deleted}
}

// Text is a position as it is stored: null when it is before everything.
func Text(p position.Position) any {
	if p.IsZero() {
		return nil
	}
	return p.String()
}
