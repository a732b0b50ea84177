package warehouse

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/statement"
)

// Commit is one transaction: rows of one or several tables, positions and counters,
// which become visible together. Finish or Abort ends it.
type Commit struct {
	base  *Base
	conn  Conn
	parts []*Part
}

// Load says what one table's part of a commit is.
type Load struct {
	Feed   string
	Table  string
	Target Target
	Run    int64
	From   position.Position // where the table stands
	Direct bool              // the target is empty and no key comes twice: rows go straight in
}

// Begin starts a commit.
func (b *Base) Begin(ctx context.Context) (*Commit, error) {
	conn, err := b.Connect(ctx)
	if err != nil {
		return nil, err
	}
	c := &Commit{base: b, conn: conn}
	if _, err := conn.Exec(ctx, "BEGIN"); err != nil {
		c.Abort()
		return nil, err
	}
	return c, nil
}

// Exec runs a statement within the commit.
func (c *Commit) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	return c.conn.Exec(ctx, sql, args...)
}

// Ask gives all rows of a small result, as the commit sees them.
func (c *Commit) Ask(ctx context.Context, sql string, args ...any) ([][]any, error) {
	return c.conn.Ask(ctx, sql, args...)
}

// Insert adds the rows of a record to a table as they are.
func (c *Commit) Insert(ctx context.Context, into schema.Name, columns []schema.Column, record arrow.RecordBatch) error {
	return c.conn.Insert(ctx, into.Quoted(), columns, record)
}

// Move advances a position by compare-and-set; it fails if another worker, or a
// person, has moved it since from was read. In a server this makes a second worker
// wait, so it is best called before the merge.
func (c *Commit) Move(ctx context.Context, feed, table string, from Place, to position.Position, run int64) (Place, error) {
	sql, args := moveSQL, []any{feed, table, Text(to), run, from.Version}
	if from.Version == 0 {
		sql, args = enterSQL, args[:4]
	}
	n, err := c.conn.Exec(ctx, sql, args...)
	// A place that another transaction entered meanwhile is a duplicate key to this one.
	if (err == nil && n != 1) || (err != nil && strings.Contains(err.Error(), "Duplicate key")) {
		if table == "" {
			table = "the feed " + feed
		}
		return Place{}, Overtaken(table)
	}
	return Place{Table: table, Position: to, Version: from.Version + 1, Run: run, MovedAt: time.Now()}, err
}

// Finish makes everything visible.
func (c *Commit) Finish(ctx context.Context) error {
	if c.base.SQL.DropStage {
		for _, p := range c.parts {
			if p.staged {
				if _, err := c.conn.Exec(ctx, "DROP TABLE "+p.stage); err != nil {
					return err
				}
			}
		}
	}
	if _, err := c.conn.Exec(ctx, "COMMIT"); err != nil {
		return err
	}
	for _, p := range c.parts {
		if keys := c.base.SQL.Keys(p.load.Target); len(keys) > 0 {
			c.base.keyed.Store(strings.Join(keys, ";"), true)
		}
	}
	c.Abort()
	return nil
}

// Abort leaves everything as it was. After Finish it does nothing.
func (c *Commit) Abort() {
	if c.conn != nil {
		c.conn.Close()
		c.conn = nil
	}
}

// Part is what a commit does to one table. Its accounts hold what came in, what was
// set aside and what was written.
type Part struct {
	Books   rows.Books
	commit  *Commit
	load    Load
	into    string // what rows are gathered in
	stage   string
	staged  bool // the stage has been made
	used    bool // the stage holds rows that were merged
	columns []schema.Column
	pending int64 // rows gathered since the last merge
	merged  int64 // rows of merges that are not yet in the books
	aside   []rows.Aside
	healed  []string
	key     []int
	waiting map[string]bool // keys of rows that are set aside in the warehouse
}

// Table begins a table's part of the commit.
func (c *Commit) Table(ctx context.Context, l Load) (*Part, error) {
	found, err := c.conn.Ask(ctx, asideKeysSQL, l.Feed, l.Table)
	if err != nil {
		return nil, err
	}
	var waiting []string
	for _, row := range found {
		waiting = append(waiting, row[0].(string))
	}
	p := newPart(l, waiting)
	p.commit = c
	c.parts = append(c.parts, p)
	d := c.base.SQL
	if !l.Direct && !c.base.hasKeys(l.Target) {
		for _, sql := range d.Keys(l.Target) {
			if _, err := c.conn.Exec(ctx, sql); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case l.Direct:
		p.into, p.columns = l.Target.Name.Quoted(), l.Target.All()
	default:
		p.into = p.stage
		p.staged = true
		_, err = c.conn.Exec(ctx, d.CreateStage(l.Target))
	}
	return p, err
}

func newPart(l Load, waiting []string) *Part {
	p := &Part{load: l, stage: StageName(l.Target), columns: StageColumns(l.Target), waiting: map[string]bool{}, key: schema.Places(l.Target.Columns, l.Target.Key)}
	for _, key := range waiting {
		p.waiting[key] = true
	}
	return p
}

// Append gathers rows: a record of StageColumns, and those that are set aside. They
// count as read.
func (p *Part) Append(ctx context.Context, b rows.Batch) error {
	if err := p.take(b); err != nil {
		return err
	}
	p.Books.Read += b.Rows()
	return p.insert(ctx, b.Record)
}

// AppendFolded is Append of rows that were counted as read already.
func (p *Part) AppendFolded(ctx context.Context, record arrow.RecordBatch) error {
	if err := p.take(rows.Batch{Record: record}); err != nil {
		return err
	}
	return p.insert(ctx, record)
}

// SetAside keeps rows that cannot be stored; the caller has counted them as read.
func (p *Part) SetAside(aside []rows.Aside) error {
	p.Books.SetAside += int64(len(aside))
	p.aside = append(p.aside, aside...)
	if len(p.aside) > MostAside {
		return TooManyAside(p.load.Table, aside[len(aside)-1].Reason)
	}
	return nil
}

func (p *Part) insert(ctx context.Context, record arrow.RecordBatch) error {
	if record.NumRows() == 0 {
		return nil
	}
	if err := p.Clear(ctx); err != nil {
		return err
	}
	return p.commit.conn.Insert(ctx, p.into, p.columns, record)
}

// take notes a batch that comes in.
func (p *Part) take(b rows.Batch) error {
	if err := p.SetAside(b.Aside); err != nil {
		return err
	}
	p.pending += b.Record.NumRows()
	if len(p.waiting) == 0 || len(p.key) == 0 {
		return nil
	}
	for row := range int(b.Record.NumRows()) {
		if key := rows.KeyText(b.Record, row, p.load.Target.Columns, p.key); p.waiting[key] {
			p.healed = append(p.healed, key)
			delete(p.waiting, key)
		}
	}
	return nil
}

// analyzeAbove is how many rows a stage has before statistics of it pay.
const analyzeAbove = 10_000

// Merge brings what was gathered into the target.
func (p *Part) Merge(ctx context.Context, h Has) error {
	n := p.pending
	p.pending, p.merged = 0, p.merged+n
	if p.into != p.stage {
		p.Books.Inserted += n
		if !p.load.Direct {
			return nil
		}
		return p.exec(ctx, p.commit.base.SQL.Keys(p.load.Target)...)
	}
	if p.load.Target.Keep == feed.KeepReplace {
		return p.replace(ctx, n)
	}
	if n == 0 && !h.Filled {
		return nil
	}
	d := p.commit.base.SQL
	if d.Analyze && n > analyzeAbove {
		analyze := "ANALYZE " + p.stage
		if len(p.load.Target.Key) > 0 { // joins are by the key alone
			analyze += " (" + schema.QuoteAll("", p.load.Target.Key) + ")"
		}
		if err := p.exec(ctx, analyze); err != nil {
			return err
		}
	}
	touched := int64(0)
	for _, step := range d.Merge(p.load.Target, p.load.Run, h) {
		if all := touched == n && n > 0; step.Rest && all || step.All && !all {
			continue
		}
		var err error
		if step.Counts {
			var found [][]any
			if found, err = p.commit.conn.Ask(ctx, step.SQL); err == nil {
				touched = found[0][0].(int64)
			}
		} else {
			touched, err = p.commit.conn.Exec(ctx, step.SQL)
		}
		if err != nil {
			return err
		}
		p.count(step, touched)
		if step.Counter == "baseless" && touched > 0 {
			if err := p.baseless(ctx); err != nil {
				return err
			}
		}
	}
	p.used = true
	return nil
}

// replace puts the rows that were gathered in the place of the target's. Rows that are the
// same, as often as they are there, count as unchanged, and where all are nothing is written.
func (p *Part) replace(ctx context.Context, n int64) error {
	d, t := p.commit.base.SQL, p.load.Target
	found, err := p.commit.conn.Ask(ctx, d.SameRows(t, p.stage))
	if err != nil {
		return err
	}
	had, same := found[0][0].(int64), found[0][1].(int64)
	if had == n && same == n {
		return nil
	}
	for _, step := range d.Merge(t, p.load.Run, Has{}) {
		if _, err := p.commit.conn.Exec(ctx, step.SQL); err != nil {
			return err
		}
	}
	p.Books.Inserted += n - same
	p.Books.Deleted += had - same
	p.Books.Read += had - same // no row told of them one by one
	p.merged += had - same
	p.used = true
	return nil
}

// Stage is the name of the temporary table that the part's rows are gathered in.
func (p *Part) Stage() string { return p.stage }

// Clear empties the stage of rows that were merged.
func (p *Part) Clear(ctx context.Context) error {
	if !p.used {
		return nil
	}
	p.used = false
	return p.exec(ctx, "TRUNCATE TABLE "+p.stage)
}

// Staged notes rows that the caller has put into the stage by a statement.
func (p *Part) Staged(n int64) {
	p.pending += n
	p.Books.Read += n
}

func (p *Part) exec(ctx context.Context, statements ...string) error {
	for _, sql := range statements {
		if _, err := p.commit.conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// baseless sets aside the changes whose unknown values have no row to come from.
func (p *Part) baseless(ctx context.Context) error {
	var list []string
	for _, k := range p.load.Target.Key {
		list = append(list, schema.Quote(k), "CAST("+schema.Quote(k)+" AS VARCHAR)")
	}
	found, err := p.commit.conn.Ask(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL LIMIT %d", strings.Join(list, ", "), p.stage, StageUnknown, MostAside+1))
	if err != nil {
		return err
	}
	var aside []rows.Aside
	for _, values := range found {
		a := rows.Aside{Row: map[string]*string{}, Reason: "The log leaves out values that did not change, and the warehouse has no row to take them from. It comes in when the row is written whole, or when the table is copied again."}
		key := make([]string, len(p.load.Target.Key))
		for i := range key {
			column, _ := schema.Table{Columns: p.load.Target.Columns}.Column(p.load.Target.Key[i])
			cast, _ := values[2*i+1].(string)
			key[i] = keyPart(values[2*i], cast, column.Type)
			a.Row[p.load.Target.Key[i]] = &key[i]
		}
		a.Key = rows.KeyJSON(key)
		aside = append(aside, a)
	}
	p.Books.SetAside -= int64(len(aside)) // the step has counted them
	if err := p.SetAside(aside); err != nil {
		return err
	}
	return p.exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s IS NOT NULL", p.stage, StageUnknown))
}

// keyPart is a value of a key in the one text form that keys have everywhere, which for
// times is another than the database's.
func keyPart(v any, cast string, t schema.Type) string {
	at, ok := v.(time.Time)
	if !ok {
		return cast
	}
	switch t.Kind {
	case schema.TimestampTZ:
		return schema.TimestampTZText(at.UnixMicro())
	case schema.Timestamp:
		return schema.TimestampText(at.UnixMicro())
	case schema.Date:
		return schema.DateText(schema.Days(at.UnixMicro()))
	}
	return cast
}

// count adds the rows of one step of a merge.
func (p *Part) count(s Step, n int64) {
	b := &p.Books
	switch s.Counter {
	case "folded":
		b.Folded += n
	case "updated":
		b.Updated += n
	case "rewritten":
		b.Updated += n
		b.Inserted -= n
	case "inserted":
		b.Inserted += n
	case "deleted":
		b.Deleted += n
	case "removed": // deleted rows that no change named one by one
		b.Deleted += n
		b.Read += n
		p.merged += n
	case "baseless":
		b.SetAside += n
	}
}

// Truncate empties the target as its keep asks, at a moment of the source.
func (p *Part) Truncate(ctx context.Context, at string, h Has) error {
	for _, step := range p.commit.base.SQL.Truncate(p.load.Target, at, h) {
		n, err := p.commit.conn.Exec(ctx, step.SQL)
		if err != nil {
			return err
		}
		p.count(step, n)
	}
	return nil
}

// Close writes what was set aside and the audit row, and gives the books. Rows that
// were gathered and that no step counted were there already.
func (p *Part) Close(ctx context.Context, to position.Position) (rows.Books, error) {
	if err := p.keepAside(ctx); err != nil {
		return rows.Books{}, err
	}
	if err := p.balance(); err != nil {
		return p.Books, err
	}
	b, l := p.Books, p.load
	_, err := p.commit.conn.Exec(ctx, auditSQL, l.Feed, l.Table, l.Target.Name.Display(), l.Run, Text(l.From), Text(to), b.Read, b.Filtered, b.Folded, b.SetAside, b.Unchanged, b.Inserted, b.Updated, b.Deleted)
	return b, err
}

func (p *Part) balance() error {
	b := &p.Books
	b.Unchanged = b.Read - b.Filtered - b.Folded - b.SetAside - b.Updated - b.Inserted - b.Deleted
	if b.Unchanged < 0 || b.Inserted < 0 {
		return problem.Newf(problem.Held, "Nothing was written. Is the key unique in the target? Please report this with the run's statements.",
			"The books of %s do not balance: %+v of %d rows merged.", p.load.Table, *b, p.merged)
	}
	return nil
}

func (p *Part) keepAside(ctx context.Context) error {
	if len(p.aside)+len(p.healed) == 0 {
		return nil
	}
	statements, shown := AsideStatements(p.load, p.aside, p.healed)
	done := statement.Begin(ctx, statement.Warehouse, shown)
	quiet := statement.With(ctx, func(statement.Statement) {})
	for _, sql := range statements {
		if _, err := p.commit.conn.Exec(quiet, sql); err != nil {
			done(0, err)
			return err
		}
	}
	done(int64(len(p.aside)), nil)
	return nil
}
