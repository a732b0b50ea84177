package sqlmerge

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

const (
	auditSQL = `INSERT INTO noemata.loads (feed, source_table, target, run, from_position, to_position, rows_read, rows_filtered,
rows_folded, rows_set_aside, rows_unchanged, rows_inserted, rows_updated, rows_deleted, committed_at, shape, rows_filled)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, now(), $15, $16)`
	forgetAside = `DELETE FROM noemata.set_aside WHERE feed = $1 AND source_table = $2 AND NOT ($3 AND EXISTS (
SELECT 1 FROM noemata.copies WHERE feed = $1 AND source_table = $2))`
	asideKeysSQL = `SELECT key FROM noemata.set_aside WHERE feed = $1 AND source_table = $2 AND key <> ''`
)

// part is what a commit does to one table. Rows gather in a stage, a temporary table, or
// go straight into the target.
type part struct {
	books   rows.Books
	commit  *commit
	load    warehouse.Load
	into    string // what rows are gathered in
	stage   string
	staged  bool // the stage has been made
	filled  bool // statements have put rows into it
	keys    bool // keys of the source were gathered
	used    bool // the stage holds rows that were merged
	columns []schema.Column
	pending int64 // rows gathered since the last merge
	gone    int64 // rows that a filter has left out, and that end their keys
	merged  int64 // rows of merges that are not yet in the books
	given   int64 // rows that were given values of columns that came later
	aside   []rows.Aside
	healed  []string
	key     []int
	waiting map[string]bool       // keys of rows that are set aside in the warehouse
	seen    map[string]bool       // those of them that the source has
	lost    map[string]rows.Aside // by key: rows of this commit that were set aside as values of them are not known
}

// Table begins a table's part of the commit.
func (c *commit) Table(ctx context.Context, l warehouse.Load) (warehouse.Part, error) {
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
			if _, err := c.tables.Exec(ctx, sql); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case l.Direct:
		p.into, p.columns = l.Target.Name.Quoted(), l.Target.All()
		err = p.bring(ctx, NoRows)
	default:
		p.into = p.stage
		p.staged = true
		_, err = c.tables.Exec(ctx, d.CreateStage(l.Target))
	}
	return p, err
}

func newPart(l warehouse.Load, waiting []string) *part {
	p := &part{load: l, stage: StageName(l.Target), columns: warehouse.StageColumns(l.Target),
		waiting: map[string]bool{}, seen: map[string]bool{}, lost: map[string]rows.Aside{},
		key: schema.Indexes(l.Target.Values(), l.Target.Key)}
	for _, key := range waiting {
		p.waiting[key] = true
	}
	return p
}

// Append gathers rows: a record of warehouse.StageColumns, and those that are set aside. They
// count as read.
func (p *part) Append(ctx context.Context, b rows.Batch) error {
	if err := p.take(b); err != nil {
		return err
	}
	p.books.Read += b.Rows()
	p.gone += b.Ended()
	return p.insert(ctx, b.Record, b.Raw)
}

// AppendFolded is Append of rows that were counted as read already.
func (p *part) AppendFolded(ctx context.Context, record arrow.RecordBatch) error {
	if err := p.take(rows.Batch{Record: record}); err != nil {
		return err
	}
	return p.insert(ctx, record, nil)
}

// Count adds to the books what the caller has counted.
func (p *part) Count(b rows.Books) { p.books = p.books.Add(b) }

// SetAside keeps rows that cannot be stored; the caller has counted them as read.
func (p *part) SetAside(aside []rows.Aside) error {
	p.books.SetAside += int64(len(aside))
	p.aside = append(p.aside, aside...)
	if len(p.aside) > warehouse.MostAside {
		return warehouse.TooManyAside(p.load.Table, aside[len(aside)-1].Reason)
	}
	return nil
}

// Asides are the keys of the rows that are set aside by now.
func (p *part) Asides() map[string]bool {
	keys := maps.Clone(p.waiting)
	for key := range p.lost {
		keys[key] = true
	}
	for _, a := range p.aside {
		keys[a.Key] = true
	}
	return keys
}

func (p *part) insert(ctx context.Context, record arrow.RecordBatch, raw *rows.Raw) error {
	if record.NumRows() == 0 {
		return nil
	}
	if err := p.clear(ctx); err != nil {
		return err
	}
	return p.commit.tables.Insert(ctx, p.into, p.columns, record, raw)
}

// take notes a batch that comes in.
func (p *part) take(b rows.Batch) error {
	if err := p.SetAside(b.Aside); err != nil {
		return err
	}
	p.pending += b.Record.NumRows()
	if len(p.waiting)+len(p.lost) == 0 || len(p.key) == 0 {
		return nil
	}
	for row := range int(b.Record.NumRows()) {
		key := rows.KeyText(b.Record, row, p.load.Target.Values(), p.key)
		if p.waiting[key] {
			p.healed = append(p.healed, key)
			delete(p.waiting, key)
		}
		delete(p.lost, key)
	}
	return nil
}

// bring has rows of the target there, where they must be brought.
func (p *part) bring(ctx context.Context, w Which) error {
	return bring(ctx, p.commit.conn, p.load.Target.Name, w)
}

// bringBy has those there whose keys are in another table.
func (p *part) bringBy(ctx context.Context, among string) error {
	return p.bring(ctx, Which{Key: p.load.Target.Key, Among: among, Columns: p.load.Target.Key})
}

// bringForMerge has the rows there that a merge may reach.
func (p *part) bringForMerge(ctx context.Context, h warehouse.Has) error {
	t := p.load.Target
	switch {
	case t.Keep == feed.KeepLedger && !t.Log, len(t.Key) == 0 && h.Replays > 0:
		return p.bring(ctx, AllRows)
	case len(t.Key) == 0:
		return p.bring(ctx, NoRows)
	}
	if err := p.bringBy(ctx, p.stage); err != nil || !h.Unknown {
		return err
	}
	base := make([]string, len(t.Key))
	for i := range base {
		base[i] = warehouse.StageBase(i)
	}
	return p.bring(ctx, Which{Key: t.Key, Among: p.stage, Columns: base})
}

// How many rows a stage has before statistics of it pay, and before it pays to look whether there are any to be merged
// with: where there are none, rows stay in the order in which they came, which questions about few of them find quickly.
const (
	analyzeAbove = 10_000
	lookAbove    = 10_000
)

// Merge brings what was gathered into the target.
func (p *part) Merge(ctx context.Context, h warehouse.Has) error {
	n := p.pending
	p.pending, p.merged = 0, p.merged+n
	if err := p.dropKeys(ctx); err != nil {
		return err
	}
	if p.into != p.stage {
		p.books.Inserted += n
		if !p.load.Direct {
			return nil
		}
		return p.exec(ctx, p.commit.base.SQL.Keys(p.load.Target)...)
	}
	if p.load.Target.Keep == feed.KeepReplace {
		return p.replace(ctx, n)
	}
	if n == 0 && !p.filled {
		return nil
	}
	p.filled = false
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
	if err := p.bringForMerge(ctx, h); err != nil {
		return err
	}
	if n > lookAbove { // of a divided connection, rows of the same keys are there by now
		found, err := p.commit.tables.Ask(ctx, "SELECT EXISTS (SELECT 1 FROM "+p.load.Target.Name.Quoted()+")")
		if err != nil {
			return err
		}
		h.Empty = !found[0][0].(bool)
	}
	touched := int64(0)
	for _, step := range d.Merge(p.load.Target, p.load.Run, h) {
		if all := touched == n && n > 0; step.When == Unless && all || step.When == Only && !all {
			continue
		}
		var err error
		if step.Counts {
			var found [][]any
			if found, err = p.commit.tables.Ask(ctx, step.SQL); err == nil {
				touched = found[0][0].(int64)
			}
		} else {
			touched, err = p.commit.tables.Exec(ctx, step.SQL)
		}
		if err != nil {
			return err
		}
		p.count(step, touched)
		if step.Counter == Baseless && touched > 0 {
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
func (p *part) replace(ctx context.Context, n int64) error {
	d, t := p.commit.base.SQL, p.load.Target
	if err := p.bring(ctx, AllRows); err != nil {
		return err
	}
	found, err := p.commit.tables.Ask(ctx, d.SameRows(t, p.stage))
	if err != nil {
		return err
	}
	had, same := found[0][0].(int64), found[0][1].(int64)
	if had == n && same == n {
		return nil
	}
	for _, step := range d.Merge(t, p.load.Run, warehouse.Has{}) {
		if _, err := p.commit.tables.Exec(ctx, step.SQL); err != nil {
			return err
		}
	}
	p.books.Inserted += n - same
	p.books.Deleted += had - same
	p.books.Read += had - same // no row told of them one by one
	p.merged += had - same
	p.used = true
	return nil
}

// clear empties the stage of rows that were merged.
func (p *part) clear(ctx context.Context) error {
	if !p.used {
		return nil
	}
	p.used = false
	return p.exec(ctx, "TRUNCATE TABLE "+p.stage)
}

// stageBy puts rows into the stage by a statement. They count as read.
func (p *part) stageBy(ctx context.Context, sql string) (int64, error) {
	if err := p.clear(ctx); err != nil {
		return 0, err
	}
	n, err := p.commit.tables.Exec(ctx, sql)
	p.pending += n
	p.books.Read += n
	p.filled = true
	return n, err
}

func (p *part) exec(ctx context.Context, statements ...string) error {
	return execAll(ctx, p.commit.tables, statements)
}

// baseless sets aside the changes whose unknown values have no row to come from.
func (p *part) baseless(ctx context.Context) error {
	var list []string
	for _, k := range p.load.Target.Key {
		list = append(list, schema.Quote(k), "CAST("+schema.Quote(k)+" AS VARCHAR)")
	}
	found, err := p.commit.tables.Ask(ctx,
		fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL LIMIT %d", strings.Join(list, ", "), p.stage,
			warehouse.StageUnknown, warehouse.MostAside+1))
	if err != nil {
		return err
	}
	const reason = "The log leaves out values that did not change, and the warehouse has no row to take them from. It " +
		"comes in when the row is written whole, or when the table is copied again."
	columns := p.load.Target.KeyColumns()
	for _, values := range found {
		a := rows.Aside{Row: map[string]*string{}, Reason: reason}
		key := make([]string, len(p.load.Target.Key))
		for i := range key {
			cast, _ := values[2*i+1].(string)
			key[i] = keyPart(values[2*i], cast, columns[i].Type)
			a.Row[p.load.Target.Key[i]] = &key[i]
		}
		a.Key = rows.KeyJSON(key)
		p.lost[a.Key] = a
	}
	if len(p.lost) > warehouse.MostAside {
		return warehouse.TooManyAside(p.load.Table, reason)
	}
	return p.exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s IS NOT NULL", p.stage, warehouse.StageUnknown))
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
func (p *part) count(s Step, n int64) {
	b := &p.books
	switch s.Counter {
	case Folded:
		b.Folded += n
	case Updated:
		b.Updated += n
	case Rewritten:
		b.Updated += n
		b.Inserted -= n
	case Inserted:
		b.Inserted += n
	case Deleted:
		b.Deleted += n
	case Removed: // deleted rows that no change named one by one
		b.Deleted += n
		b.Read += n
		p.merged += n
	case Baseless:
		b.SetAside += n
	}
}

// Truncate empties the target as its keep asks, at a moment of the source.
func (p *part) Truncate(ctx context.Context, moment int64, h warehouse.Has) error {
	if err := p.bring(ctx, AllRows); err != nil {
		return err
	}
	for _, step := range p.commit.base.SQL.Truncate(p.load.Target, moment, h) {
		n, err := p.commit.tables.Exec(ctx, step.SQL)
		if err != nil {
			return err
		}
		p.count(step, n)
	}
	return nil
}

// Close writes what was set aside and the audit row, and gives the books. Rows that
// were gathered and that no step counted were there already.
func (p *part) Close(ctx context.Context, to position.Position) (rows.Books, error) {
	of := aside{feed: p.load.Feed, table: p.load.Table, run: p.load.Run}
	for _, key := range slices.Sorted(maps.Keys(p.lost)) {
		p.aside = append(p.aside, p.lost[key])
	}
	if err := keepAside(ctx, p.commit.conn, of, p.aside, p.healed); err != nil {
		return rows.Books{}, err
	}
	if err := p.balance(); err != nil {
		return p.books, err
	}
	b, l := p.books, p.load
	_, err := p.commit.conn.Exec(ctx, auditSQL, l.Feed, l.Table, l.Target.Name.Display(), l.Run, stored(l.From),
		stored(to), b.Read, b.Filtered, b.Folded, b.SetAside, b.Unchanged, b.Inserted, b.Updated, b.Deleted,
		l.Shape, p.given)
	return b, err
}

func (p *part) balance() error {
	b := &p.books
	b.Balance(p.gone)
	if b.Unchanged < 0 || b.Inserted < 0 {
		return problem.Newf(problem.Held,
			"Nothing was written. Is the key unique in the target? Please report this with the run's statements.",
			"The books of %s do not balance: %+v of %d rows merged.", p.load.Table, *b, p.merged)
	}
	return nil
}
