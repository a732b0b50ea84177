package plain

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
	"noemata/internal/warehouse"
)

// commit works on a copy of everything.
type commit struct {
	warehouse *Warehouse
	state     state
	over      bool
}

func (c *commit) Move(_ context.Context, feed, table string, from warehouse.Checkpoint, to position.Position,
	run int64) (
	warehouse.Checkpoint, error) {
	return c.state.move(of{feed, table}, &from.Version, to, run)
}

func (c *commit) Note(_ context.Context, feed string, entries ...warehouse.Entry) error {
	return noteAll(c.state, feed, entries)
}

func (c *commit) Read(_ context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	return read(c.state, q, sink)
}

func (c *commit) AddCopied(_ context.Context, s warehouse.Stash, snapshot int64, record arrow.RecordBatch) error {
	b := array.NewInt64Builder(memory.DefaultAllocator)
	for range record.NumRows() {
		b.Append(snapshot)
	}
	numbers := cell{value: b.NewArray()}
	list := rowsOf(record, s.Columns)
	for i, r := range list {
		one := fold.Take(numbers.value, []int32{int32(i)})
		text, _ := schema.CellText(one, 0, schema.Type{Kind: schema.Int64})
		r[stash.Snapshot] = cell{value: one, text: text}
	}
	add(c.state.copied, of{s.Feed, s.Table}, list)
	return nil
}

func (c *commit) AddWaiting(_ context.Context, s warehouse.Stash, record arrow.RecordBatch) error {
	add(c.state.waiting, of{s.Feed, s.Table}, rowsOf(record, stash.Columns(s.Columns)))
	return nil
}

func add(tables map[of]table, at of, list []row) {
	t := tables[at].clone()
	t.rows = append(t.rows, list...)
	tables[at] = t
}

func (c *commit) Finish(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	<-c.warehouse.now
	c.warehouse.now <- c.state
	c.Abort()
	return nil
}

func (c *commit) Abort() {
	if !c.over {
		c.over = true
		<-c.warehouse.writing
	}
}

func (c *commit) Table(_ context.Context, l warehouse.Load) (warehouse.Part, error) {
	p := &part{commit: c, load: l, t: l.Target, columns: l.Target.All()}
	if !l.Direct {
		p.columns = warehouse.StageColumns(l.Target)
	}
	return p, nil
}

// part gathers rows, and merges them one by one.
type part struct {
	commit  *commit
	load    warehouse.Load
	t       warehouse.Target
	columns []schema.Column
	books   rows.Books
	stage   []row
	gone    int64           // rows that a filter has left out, and that end their keys
	keys    map[string]bool // of the source, for a sweep
	fills   []row           // values of columns, by key
	aside   []rows.Aside
	came    map[string]bool // keys of rows that came in a form that can be stored
	healed  []string        // keys of rows that were set aside before, and have gone
}

func (p *part) Count(b rows.Books) { p.books = p.books.Add(b) }

func (p *part) SetAside(list []rows.Aside) error {
	p.books.SetAside += int64(len(list))
	if p.aside = append(p.aside, list...); len(p.aside) > warehouse.MostAside {
		return warehouse.TooManyAside(p.load.Table, list[len(list)-1].Reason)
	}
	return nil
}

func (p *part) Asides() map[string]bool {
	keys := map[string]bool{}
	for _, a := range p.commit.state.aside[of{p.load.Feed, p.load.Table}] {
		if !p.came[a.Key] {
			keys[a.Key] = true
		}
	}
	for _, a := range p.aside {
		keys[a.Key] = true
	}
	return keys
}

func (p *part) Append(ctx context.Context, b rows.Batch) error {
	p.books.Read += b.Rows()
	p.gone += b.Ended()
	if err := p.SetAside(b.Aside); err != nil {
		return err
	}
	return p.AppendFolded(ctx, b.Record)
}

func (p *part) AppendFolded(ctx context.Context, record arrow.RecordBatch) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	for _, r := range rowsOf(record, p.columns) {
		p.stage = append(p.stage, r)
		if len(p.t.Key) > 0 {
			if p.came == nil {
				p.came = map[string]bool{}
			}
			p.came[keyOf(p.t, r)] = true
		}
	}
	return nil
}

func (p *part) AppendKeys(_ context.Context, record arrow.RecordBatch) error {
	if p.keys == nil {
		p.keys = map[string]bool{}
	}
	for _, r := range rowsOf(record, p.t.KeyColumns()) {
		p.keys[keyOf(p.t, r)] = true
	}
	return nil
}

// Straighten finds nothing: nobody but this package writes the rows, and no hand can spoil them.
func (p *part) Straighten(context.Context, int64) error {
	p.keys = nil
	return nil
}

// EndKeys ends the rows that hold of the keys that were gathered.
func (p *part) EndKeys(_ context.Context, moment int64) error {
	t := p.commit.state.tables[p.t.Name].clone()
	var left []row
	for _, r := range t.rows {
		if !holds(p.t, r) || !p.keys[keyOf(p.t, r)] {
			left = append(left, r)
			continue
		}
		p.books.Deleted, p.books.Read = p.books.Deleted+1, p.books.Read+1
		switch p.t.Keep {
		case feed.KeepSoftDelete:
			left = append(left, p.with(r, row{p.t.Called(warehouse.DeletedAt): instant(moment),
				p.t.Called(warehouse.ChangedAt): instant(moment), p.t.Called(warehouse.Run): number(p.load.Run)}))
		case feed.KeepHistory:
			until := max(moment, r[p.t.Called(warehouse.From)].micros()+1)
			left = append(left, p.with(r, row{p.t.Called(warehouse.Until): instant(until),
				p.t.Called(warehouse.Current): truth(false)}))
		}
	}
	t.rows = left
	p.commit.state.tables[p.t.Name] = t
	p.keys = nil
	return nil
}

func (p *part) AppendFill(_ context.Context, columns []schema.Column, record arrow.RecordBatch) error {
	p.fills = append(p.fills, rowsOf(record, columns)...)
	return nil
}

func (p *part) FillCopied(ctx context.Context, columns []schema.Column) error {
	all := slices.Concat(p.t.KeyColumns(), columns)
	for _, copied := range p.commit.state.copied[of{p.load.Feed, p.load.Table}].rows {
		r := row{}
		for _, c := range all {
			r[c.Name] = copied[c.Name]
		}
		p.fills = append(p.fills, r)
	}
	_, err := p.Fill(ctx, all)
	return err
}

func (p *part) Fill(_ context.Context, columns []schema.Column) (filled int64, err error) {
	values := map[string]row{}
	for _, r := range p.fills {
		values[keyOf(p.t, r)] = r
	}
	t := p.commit.state.tables[p.t.Name].clone()
	for i, r := range t.rows {
		v, found := values[keyOf(p.t, r)]
		if !found || !holds(p.t, r) {
			continue
		}
		for _, c := range columns[len(p.t.Key):] {
			if r[c.Name].text != v[c.Name].text || r[c.Name].null != v[c.Name].null {
				t.rows[i], filled = p.with(r, v), filled+1
				break
			}
		}
	}
	p.commit.state.tables[p.t.Name] = t
	return filled, nil
}

// Sweep puts a row that ends its key among those that were gathered, for each key that is
// not there any more.
func (p *part) Sweep(_ context.Context, moment int64, aside []rows.Aside) (int64, error) {
	keys := p.keys
	if keys == nil {
		keys = map[string]bool{}
		for _, r := range p.stage {
			keys[keyOf(p.t, r)] = true
		}
	}
	for _, a := range slices.Concat(p.aside, aside) {
		keys[a.Key] = true
	}
	for key := range p.Asides() {
		if !keys[key] { // the row is not there any more
			p.healed = append(p.healed, key)
		}
	}
	p.keys = nil
	gone := p.sweep(keys, moment)
	p.books.Read += gone
	return gone, nil
}

func (p *part) sweep(keys map[string]bool, moment int64) (n int64) {
	for _, r := range p.commit.state.tables[p.t.Name].rows {
		if !holds(p.t, r) || keys[keyOf(p.t, r)] {
			continue
		}
		ends := row{warehouse.StageGone: truth(true), warehouse.StageKeyOnly: truth(true),
			p.t.Called(warehouse.Run): number(p.load.Run)}
		for _, k := range p.t.Key {
			ends[k] = r[k]
		}
		for _, role := range []warehouse.Role{warehouse.DeletedAt, warehouse.ChangedAt, warehouse.From} {
			ends[p.t.Called(role)] = instant(moment)
		}
		p.stage = append(p.stage, ends)
		n++
	}
	return n
}

// TakeCopy puts the rows of a copy among those that were gathered, and merges them.
func (p *part) TakeCopy(ctx context.Context, begins change.Txn) error {
	at := begins.Position
	if p.t.Keep == feed.KeepLedger {
		at = begins.EventPosition(0)
	}
	keys := p.Asides()
	for _, r := range p.commit.state.copied[of{p.load.Feed, p.load.Table}].rows {
		keys[keyOf(p.t, r)] = true
		r = maps.Clone(r)
		delete(r, stash.Snapshot)
		maps.Copy(r, row{p.t.Called(warehouse.Run): number(p.load.Run),
			p.t.Called(warehouse.ChangedAt): instant(begins.Moment),
			p.t.Called(warehouse.From):      instant(begins.Moment), p.t.Called(warehouse.Current): truth(true),
			p.t.Called(warehouse.Position): text(at), p.t.Called(warehouse.Changed): text(change.Copied)})
		p.stage = append(p.stage, r)
		p.books.Read++
	}
	if p.t.Keep != feed.KeepLedger {
		p.giveWay(begins.Moment)
		p.books.Read += p.sweep(keys, begins.Moment)
	}
	return p.Merge(ctx, warehouse.Has{Gone: true})
}

// giveWay ends or drops the rows of a target that its key does not tell apart.
func (p *part) giveWay(moment int64) {
	seen, twice := map[string]bool{}, false
	t := p.commit.state.tables[p.t.Name].clone()
	for _, r := range t.rows {
		if p.t.Keep == feed.KeepHistory && !holds(p.t, r) {
			continue
		}
		twice = twice || seen[keyOf(p.t, r)]
		seen[keyOf(p.t, r)] = true
	}
	if !twice {
		return
	}
	if p.t.Keep != feed.KeepHistory {
		t.rows = nil
	}
	for i, r := range t.rows {
		if holds(p.t, r) {
			t.rows[i] = p.with(r, row{p.t.Called(warehouse.Until): instant(moment),
				p.t.Called(warehouse.Current): truth(false)})
		}
	}
	p.commit.state.tables[p.t.Name] = t
}

// with is a row with other values in some columns.
func (p *part) with(r, other row) row {
	r = maps.Clone(r)
	maps.Copy(r, other)
	return r
}

func (p *part) Truncate(_ context.Context, moment int64, h warehouse.Has) error {
	t := p.commit.state.tables[p.t.Name].clone()
	var left []row
	for _, r := range t.rows {
		switch ends := holds(p.t, r); {
		case p.t.Keep == feed.KeepLedger || !ends,
			h.Replays > 0 && r[p.t.Called(warehouse.MomentOf(p.t))].micros() >= moment:
			left = append(left, r)
		case p.t.Keep == feed.KeepHistory && h.Continues && r[p.t.Called(warehouse.From)].text == instant(moment).text:
			// What the same transaction made never was.
		case p.t.Keep == feed.KeepHistory:
			left = append(left, p.with(r,
				row{p.t.Called(warehouse.Until): instant(moment), p.t.Called(warehouse.Current): truth(false)}))
			p.books.Deleted, p.books.Read = p.books.Deleted+1, p.books.Read+1
		case p.t.Keep == feed.KeepSoftDelete:
			left = append(left, p.with(r,
				row{p.t.Called(warehouse.DeletedAt): instant(moment),
					p.t.Called(warehouse.ChangedAt): instant(moment)}))
			p.books.Deleted, p.books.Read = p.books.Deleted+1, p.books.Read+1
		default:
			p.books.Deleted, p.books.Read = p.books.Deleted+1, p.books.Read+1
		}
	}
	t.rows = left
	p.commit.state.tables[p.t.Name] = t
	return nil
}

func (p *part) Close(_ context.Context, to position.Position) (rows.Books, error) {
	b := &p.books
	b.Balance(p.gone)
	if b.Unchanged < 0 || b.Inserted < 0 {
		return *b, problem.Newf(problem.Held, "Please report this.", "The books of %s do not balance: %+v.",
			p.load.Table, *b)
	}
	at := of{p.load.Feed, p.load.Table}
	p.commit.state.keepAside(at, p.aside, slices.AppendSeq(p.healed, maps.Keys(p.came)))
	p.commit.state.loads[at] = append(slices.Clone(p.commit.state.loads[at]),
		load{p.t.Name.Display(), p.load.From, to, *b, p.load.Shape})
	return *b, nil
}

func number(n int64) cell {
	b := array.NewInt64Builder(memory.DefaultAllocator)
	b.Append(n)
	return cellOf(b.NewArray(), schema.Int64)
}

func truth(is bool) cell {
	b := array.NewBooleanBuilder(memory.DefaultAllocator)
	b.Append(is)
	return cellOf(b.NewArray(), schema.Bool)
}

func text(s string) cell {
	b := array.NewStringBuilder(memory.DefaultAllocator)
	b.Append(s)
	return cellOf(b.NewArray(), schema.Text)
}

func instant(moment int64) cell {
	t := schema.Type{Kind: schema.TimestampTZ}
	b := array.NewTimestampBuilder(memory.DefaultAllocator, t.Arrow().(*arrow.TimestampType))
	b.Append(arrow.Timestamp(moment))
	return cellOf(b.NewArray(), t.Kind)
}

func cellOf(value arrow.Array, kind schema.Kind) cell {
	text, ok := schema.CellText(value, 0, schema.Type{Kind: kind})
	return cell{value, strings.Clone(text), !ok}
}

// micros is a moment in microseconds.
func (c cell) micros() int64 {
	if c.null || c.value == nil {
		return 0
	}
	return int64(c.value.(*array.Timestamp).Value(0))
}
