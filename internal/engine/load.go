package engine

import (
	"context"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// stretch says how the rows of one query are committed.
type stretch struct {
	expected int64              // an estimate of their number
	direct   bool               // they come in no order, go straight into an empty target, and are one commit
	limit    int64              // they come in order and end after so many: long stretches are several commits
	end      *position.Position // the position at their end, whatever they are
}

// load reads one query while it writes what has come, and commits.
func (r *run) load(ctx context.Context, q source.Query, s stretch) error {
	begun := time.Now()
	c := &committer{run: r, query: q, stretch: s}
	defer c.abort()
	reading, stop := context.WithCancel(ctx)
	defer stop()
	batches, failed := make(chan rows.Batch, 1), make(chan error, 1)
	go func() {
		defer close(batches)
		failed <- problem.Guarded(func() error {
			return r.Source.Read(reading, q, func(b rows.Batch) error {
				select {
				case batches <- b:
					return nil
				case <-reading.Done():
					return reading.Err()
				}
			})
		})()
	}()
	var err error
	for batch := range c.shaped(batches) {
		if err == nil {
			if err = batch.fault; err == nil {
				err = c.take(ctx, batch)
			}
			if err != nil {
				stop()
			}
		}
		batch.Record.Release()
		if batch.made.Record != nil {
			batch.made.Record.Release()
		}
	}
	if readErr := <-failed; err == nil {
		err = readErr
	}
	if err == nil {
		err = c.finish(ctx)
	}
	r.outcome.Spent = r.outcome.Add(Spent{Bytes: c.bytes, Reading: time.Since(begun) - c.writing, Shaping: c.shaping,
		Writing: c.writing})
	return err
}

// arrived is rows as they were read, of which positions are taken, and what the shape has made
// of them.
type arrived struct {
	rows.Batch
	made  rows.Batch
	fault error // of ours, that kept the shape from making it
}

// shaped shapes batches while others are read and written.
func (c *committer) shaped(batches <-chan rows.Batch) <-chan arrived {
	out := make(chan arrived)
	go func() {
		defer close(out)
		for b := range batches {
			a := arrived{Batch: b}
			a.fault = problem.Guarded(func() error {
				began := time.Now()
				a.made = c.shape(b)
				c.shaping += time.Since(began)
				return nil
			})()
			out <- a
		}
	}()
	return out
}

// shape shapes a batch. The target is empty before a direct load, so no key of it must end.
func (c *committer) shape(b rows.Batch) rows.Batch {
	return c.plan.shape.Batch(b, c.plan.target.Filters && !c.stretch.direct)
}

// committer writes batches to the warehouse and decides where a commit ends.
type committer struct {
	*run
	query   source.Query
	stretch stretch
	writes  warehouse.Commit // the one that is under way
	part    warehouse.Part
	pending int64 // rows since the last commit
	gone    bool  // some of them end their key
	read    int64 // rows of this stretch
	highest position.Position
	bytes   int64
	writing time.Duration
	shaping time.Duration // before the channel of batches is closed, its goroutine's alone
}

func (c *committer) take(ctx context.Context, a arrived) error {
	b, made := a.Batch, a.made
	c.bytes += sizeOf(b)
	if c.stretch.limit > 0 && c.pending >= CommitRows {
		rest, err := c.commitBetween(ctx, b)
		if err != nil {
			return err
		}
		if rest.Record != b.Record {
			made = c.shape(rest)
			defer made.Record.Release()
		}
		b = rest
	}
	if err := c.append(ctx, b.Rows(), made); err != nil {
		return err
	}
	if c.query.Watermark != nil {
		if c.stretch.direct {
			c.raise(b)
		} else {
			c.last = c.positionAt(b, int(b.Record.NumRows())-1, b.EndsAside)
		}
	}
	c.Progress(Progress{Phase: "reading", Read: c.outcome.Books.Read + c.pending,
		Expected: max(c.stretch.expected, c.outcome.Books.Read+c.pending), Position: c.outcome.To.Position})
	return nil
}

// commitBetween commits what is pending where the position can tell it from what
// follows. With a key that is anywhere; without one it is where the watermark
// changes, so rows that share the last one are taken along. It gives back the
// rows that are still to be written.
func (c *committer) commitBetween(ctx context.Context, b rows.Batch) (rows.Batch, error) {
	if len(c.query.Table.Key) > 0 {
		return b, c.commit(ctx, c.last)
	}
	n := int(b.Record.NumRows())
	for i := range n {
		if c.positionAt(b, i, false).Value == c.last.Value {
			continue
		}
		head := rows.Batch{Record: b.Record.NewSlice(0, int64(i)), Aside: b.Aside}
		made := c.shape(head)
		err := c.append(ctx, head.Rows(), made)
		made.Record.Release()
		if err != nil {
			return b, err
		}
		if err := c.commit(ctx, position.Position{Value: c.last.Value}); err != nil {
			return b, err
		}
		return rows.Batch{Record: b.Record.NewSlice(int64(i), int64(n)), EndsAside: false}, nil
	}
	return b, nil
}

// append writes what was made of so many rows.
func (c *committer) append(ctx context.Context, read int64, b rows.Batch) error {
	begun := time.Now()
	defer func() { c.writing += time.Since(begun) }()
	if c.writes == nil {
		var err error
		if c.writes, c.part, err = c.begin(ctx, c.stretch.direct); err != nil {
			return err
		}
	}
	defer b.Raw.Free()
	first := c.read
	c.pending, c.read = c.pending+read, c.read+read
	c.gone = c.gone || b.Gone != nil
	c.part.Count(rows.Books{Read: b.Filtered, Filtered: b.Filtered})
	record := build(c.plan.target, found{c, b.Record, b.Gone, first})
	defer record.Release()
	return c.part.Append(ctx, rows.Batch{Record: record, Raw: b.Raw, Aside: b.Aside, Gone: b.Gone})
}

// begin starts a commit of the table.
func (r *run) begin(ctx context.Context, direct bool) (warehouse.Commit, warehouse.Part, error) {
	c, err := r.Warehouse.Begin(ctx)
	if err != nil {
		return nil, nil, err
	}
	p, err := c.Table(ctx, warehouse.Load{Feed: r.Feed.Name, Table: r.Table.Table, Target: r.plan.target, Run: r.Run,
		Shape: r.plan.shape.Digest(), From: r.outcome.To.Position, Direct: direct})
	if err != nil {
		c.Abort()
		return nil, nil, err
	}
	return c, p, nil
}

// end merges what has come in, moves the position and makes it all visible.
func (r *run) end(ctx context.Context, c warehouse.Commit, p warehouse.Part, to position.Position) error {
	return r.endWith(ctx, c, p, to, warehouse.Has{})
}

func (r *run) endWith(ctx context.Context, c warehouse.Commit, p warehouse.Part, to position.Position,
	has warehouse.Has) error {
	// The position first: it makes a second worker wait here, and then fail.
	stands, err := c.Move(ctx, r.Feed.Name, r.Table.Table, r.outcome.To, to, r.Run)
	if err != nil {
		return err
	}
	if r.Table.Find == feed.FindWhole && r.Table.Keep != feed.KeepReplace { // what was not read has gone
		if _, err := p.Sweep(ctx, r.clock.UnixMicro(), nil); err != nil {
			return err
		}
		has = warehouse.Has{Gone: true}
	}
	if err := p.Merge(ctx, has); err != nil {
		return err
	}
	books, err := p.Close(ctx, to)
	if err == nil && r.Table.Find == feed.FindWhole && books.Folded > 0 { // each row was read once
		err = problem.Newf(problem.Held, "Name further columns in its key, so that it tells every row from the others; or keep "+
			"it as ledger or replace, which need none.",
			"%s has %s with a key (%s) that another row has too; nothing was written.", r.Table.Table,
			words.Plural(books.Folded, "row"), strings.Join(r.plan.target.Key, ", "))
	}
	if err != nil {
		return err
	}
	now := structureOf(r.plan).String()
	keeps := now != r.structure && !r.sweeps && len(r.fills) == 0
	if keeps {
		if err := c.Note(ctx, r.Feed.Name, warehouse.Structured{Table: r.Table.Table, Structure: now}); err != nil {
			return err
		}
	}
	if err := c.Note(ctx, r.Feed.Name, r.entries...); err != nil {
		return err
	}
	if err := c.Finish(ctx); err != nil {
		return err
	}
	r.entries = nil
	if keeps {
		r.structure = now
	}
	r.outcome.Books = r.outcome.Books.Add(books)
	r.outcome.To = stands
	r.outcome.Commits++
	return nil
}

// finish commits the last rows. A stretch that ended before its limit has read
// everything at its last watermark.
func (c *committer) finish(ctx context.Context) error {
	to := c.last
	switch {
	case c.stretch.end != nil:
		if c.writes == nil { // an empty table replaces what was there, too
			if err := c.none(ctx); err != nil {
				return err
			}
		}
		to = *c.stretch.end
	case c.writes == nil:
		return nil
	case c.stretch.direct:
		to = c.highest
	case c.read < c.stretch.limit || len(c.query.Table.Key) == 0:
		to.After = nil
	}
	return c.commit(ctx, to)
}

// none begins a commit without rows.
func (c *committer) none(ctx context.Context) error {
	b := array.NewRecordBuilder(allocator, schema.Arrow(c.query.Table.Columns))
	defer b.Release()
	none := c.shape(rows.Batch{Record: b.NewRecordBatch()})
	defer none.Record.Release()
	return c.append(ctx, 0, none)
}

// commit ends the pending commit. A look-back reads below the table's position and
// must not take it back.
func (c *committer) commit(ctx context.Context, to position.Position) error {
	begun := time.Now()
	defer func() { c.writing += time.Since(begun) }()
	if c.query.Watermark != nil && position.Compare(to, c.outcome.To.Position, c.query.Watermark.Column.Type) < 0 {
		to = c.outcome.To.Position
	}
	c.Progress(Progress{Phase: "writing", Read: c.outcome.Books.Read + c.pending, Expected: c.stretch.expected,
		Position: c.outcome.To.Position})
	if err := c.endWith(ctx, c.writes, c.part, to, warehouse.Has{Gone: c.gone}); err != nil {
		return err
	}
	c.writes, c.pending, c.gone = nil, 0, false
	return nil
}

func (c *committer) abort() {
	if c.writes != nil {
		c.writes.Abort()
	}
}

// positionAt is the position of a row, or of the last row set aside.
func (c *committer) positionAt(b rows.Batch, row int, aside bool) position.Position {
	key := make([]int, len(c.query.Table.Key))
	for i, k := range c.query.Table.Key {
		key[i] = place(c.query.Table, k)
	}
	w := c.watermarkIndex(c.query.Table)
	var p position.Position
	if aside {
		values := b.Aside[len(b.Aside)-1].Values
		p.Value = deref(values[w])
		for _, k := range key {
			p.After = append(p.After, deref(values[k]))
		}
		return p
	}
	p.Value, _ = schema.CellText(b.Record.Column(w), row, c.query.Watermark.Column.Type)
	if len(key) > 0 {
		p.After = rows.Key(b.Record, row, c.query.Table.Columns, key)
	}
	return p
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// raise remembers the highest watermark of rows that come in no order.
func (c *committer) raise(b rows.Batch) {
	t := c.query.Watermark.Column.Type
	w := c.watermarkIndex(c.query.Table)
	higher := func(p position.Position) {
		p.After = nil
		if position.Compare(p, c.highest, t) > 0 {
			c.highest = p
		}
	}
	if b.Record.NumRows() > 0 {
		value, _ := schema.CellText(b.Record.Column(w), highestRow(b.Record.Column(w), t), t)
		higher(position.Position{Value: value})
	}
	for _, a := range b.Aside {
		higher(position.Position{Value: deref(a.Values[w])})
	}
}

// highestRow finds the row with the highest watermark; none is null.
func highestRow(column arrow.Array, t schema.Type) int {
	best := 0
	for i := 1; i < column.Len(); i++ {
		var higher bool
		switch a := column.(type) {
		case *array.Timestamp:
			higher = a.Value(i) > a.Value(best)
		case *array.Date32:
			higher = a.Value(i) > a.Value(best)
		case *array.Int64:
			higher = a.Value(i) > a.Value(best)
		case *array.Int32:
			higher = a.Value(i) > a.Value(best)
		case *array.Int16:
			higher = a.Value(i) > a.Value(best)
		case *array.String:
			higher = a.Value(i) > a.Value(best)
		case *array.Decimal128:
			higher = a.Value(i).Greater(a.Value(best))
		default:
			x, _ := schema.CellText(column, i, t)
			y, _ := schema.CellText(column, best, t)
			higher = position.Compare(position.Position{Value: x}, position.Position{Value: y}, t) > 0
		}
		if higher {
			best = i
		}
	}
	return best
}
