package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"sync/atomic"
	"time"

	"github.com/apache/arrow-go/v18/arrow/array"
	"golang.org/x/sync/errgroup"

	"noemata/internal/core/change"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A table that is new to a feed is copied while the log is read. Its rows gather in a
// table of the control schema, its changes in another. When all rows are there, and the
// log has been read past the snapshot they were read in, both are merged into the target
// in one commit: the rows, and then each change that the snapshot does not show. From
// there on the table follows with the others.
//
// A copy that is interrupted goes on in a new snapshot. Each row is kept with the number
// of its snapshot, and of a key that was read in several the last one counts. Parts that
// were done are not read again, but for rows that were written since: they may have come
// from a part that had not been read.

// copyState is what the warehouse knows of a copy.
type copyState struct {
	Generation int64
	Layout     string
	Snapshots  []string
	Reached    string // the log up to here holds all that the last snapshot shows
	Moment     int64  // of the last snapshot, in microseconds since 1970
}

const (
	partsAtOnce = 2
	snapshotTag = "noemata_snapshot"
)

// Columns of suspended changes, beside the table's.
var suspendedColumns = []schema.Column{
	{Name: "noemata_place", Type: schema.Type{Kind: schema.Text}}, // sorts as the log does
	{Name: "noemata_kind", Type: schema.Type{Kind: schema.Int16}},
	{Name: "noemata_txn", Type: schema.Type{Kind: schema.Int64}},
	{Name: "noemata_commit", Type: schema.Type{Kind: schema.Text}},
	{Name: "noemata_moment", Type: schema.Type{Kind: schema.Int64}},
	{Name: "noemata_seq", Type: schema.Type{Kind: schema.Int32}},
	{Name: "noemata_unknown", Type: schema.Type{Kind: schema.Text}},
	{Name: "noemata_unfit", Type: schema.Type{Kind: schema.Text}},
}

func controlTable(what, feed, table string) schema.Name {
	h := fnv.New64a()
	_, _ = fmt.Fprintf(h, "%s\x00%s", feed, table)
	return schema.Name{Schema: "noemata", Table: fmt.Sprintf("%s_%016x", what, h.Sum64())}
}

func dropCopies(feed, table string) []string {
	return []string{
		"DROP TABLE IF EXISTS " + controlTable("copied", feed, table).Quoted(),
		"DROP TABLE IF EXISTS " + controlTable("suspended", feed, table).Quoted(),
		fmt.Sprintf("DELETE FROM noemata.copy_parts WHERE feed = %s AND source_table = %s", schema.Literal(feed), schema.Literal(table)),
	}
}

// beginCopy gives the statement that begins the first copy of a table.
func beginCopy(feed, table string, generation int64) string {
	return fmt.Sprintf("INSERT INTO noemata.copies (feed, source_table, state, generation, layout, snapshots, reached, moment) VALUES (%s, %s, '%s', %d, '', '[]', '', 0) ON CONFLICT DO NOTHING",
		schema.Literal(feed), schema.Literal(table), Copying, generation)
}

// copyAgain gives the statements that begin the copy of a table anew.
func copyAgain(feed, table string) []string {
	return append(dropCopies(feed, table), fmt.Sprintf("UPDATE noemata.copies SET state = '%s', generation = generation + 1, layout = '', snapshots = '[]', reached = '', moment = 0 WHERE feed = %s AND source_table = %s",
		Copying, schema.Literal(feed), schema.Literal(table)))
}

func (f *follow) copiedTable(t *logTable) schema.Name {
	return controlTable("copied", f.Feed.Name, t.Table.Table)
}

func (f *follow) suspendedTable(t *logTable) schema.Name {
	return controlTable("suspended", f.Feed.Name, t.Table.Table)
}

func copiedColumns(t *logTable) []schema.Column {
	return append(slices.Clone(t.target.Columns), schema.Column{Name: snapshotTag, Type: schema.Type{Kind: schema.Int64}})
}

func suspendedOf(t *logTable) []schema.Column {
	return append(slices.Clone(t.target.Columns), suspendedColumns...)
}

// readCopies finds the state of each table, and begins those that are new.
func (f *follow) readCopies(ctx context.Context) error {
	found, err := f.Warehouse.Ask(ctx, "SELECT source_table, state, generation, layout, snapshots, reached, moment FROM noemata.copies WHERE feed = $1", f.Feed.Name)
	if err != nil {
		return err
	}
	last, err := f.Warehouse.Ask(ctx, "SELECT last_moment FROM noemata.logs WHERE feed = $1", f.Feed.Name)
	if err != nil {
		return err
	}
	if len(last) > 0 {
		f.lastMoment = last[0][0].(int64)
	}
	known := map[string][]any{}
	var statements []string
	for _, row := range found {
		name := row[0].(string)
		known[name] = row
		if _, ok := f.Feed.Table(name); !ok {
			statements = append(statements, dropCopies(f.Feed.Name, name)...)
			statements = append(statements, fmt.Sprintf("DELETE FROM noemata.copies WHERE feed = %s AND source_table = %s", schema.Literal(f.Feed.Name), schema.Literal(name)))
		}
	}
	d := f.Warehouse.Dialect()
	for _, t := range f.tables {
		row, ok := known[t.Table.Table]
		if !ok {
			statements = append(statements, beginCopy(f.Feed.Name, t.Table.Table, 1))
			t.copy = copyState{Generation: 1}
		} else {
			t.state = row[1].(string)
			t.copy = copyState{Generation: row[2].(int64), Layout: row[3].(string), Reached: row[5].(string), Moment: row[6].(int64)}
			if err := json.Unmarshal([]byte(row[4].(string)), &t.copy.Snapshots); err != nil {
				return fmt.Errorf("the snapshots of %s in noemata.copies: %w", t.Table.Table, err)
			}
			if statements, err = f.recall(ctx, t, statements); err != nil {
				return err
			}
		}
		if t.trouble == nil && t.state != Following && t.state != Held {
			statements = append(statements, d.CreateTableOf(f.copiedTable(t), copiedColumns(t)), d.CreateTableOf(f.suspendedTable(t), suspendedOf(t)))
		}
	}
	if len(statements) == 0 {
		return nil
	}
	return f.Warehouse.Make(ctx, statements...)
}

// recall takes up a table that was known before, as the control schema has it.
func (f *follow) recall(ctx context.Context, t *logTable, statements []string) ([]string, error) {
	switch {
	case t.state == Held:
		t.heldFor = &reason{}
		return statements, json.Unmarshal([]byte(t.copy.Layout), t.heldFor)
	case t.state == Following && t.made: // what it held is gone, or is elsewhere
		statements = append(statements, f.copyAgain(t)...)
	case t.state == Following && t.trouble == nil && t.copy.Layout == "": // of a version that kept none
		statements = append(statements, fmt.Sprintf("UPDATE noemata.copies SET layout = %s WHERE feed = %s AND source_table = %s", schema.Literal(layoutOf(t).String()), schema.Literal(f.Feed.Name), schema.Literal(t.Table.Table)))
	case t.state == Following && t.trouble == nil:
		var was layout
		if err := json.Unmarshal([]byte(t.copy.Layout), &was); err != nil {
			return statements, fmt.Errorf("the layout of %s in noemata.copies: %w", t.Table.Table, err)
		}
		if err := layoutOf(t).changed(was, t.Table.Table); err != nil {
			return statements, blame(t, err)
		}
		if layoutOf(t).gains(was) { // the target has the new columns already; older rows have no values in them
			statements = append(statements, f.copyAgain(t)...)
		}
	case t.state == Copying && t.copy.Generation > 1 && t.trouble != nil && t.target.Name.Table != "": // a person has asked for it, so the target may be changed
		if err := f.Warehouse.Refit(ctx, t.target); err != nil {
			return statements, blame(t, err)
		}
		if t.made, t.trouble = f.Warehouse.Prepare(ctx, t.target); t.trouble != nil && !problem.OfTable(t.trouble) {
			return statements, t.trouble
		}
	}
	return statements, nil
}

// copyAgain begins the copy of a table that was known before anew.
func (f *follow) copyAgain(t *logTable) []string {
	t.state, t.copy = Copying, copyState{Generation: t.copy.Generation + 1}
	return copyAgain(f.Feed.Name, t.Table.Table)
}

// settleFor is how long one table's open transactions are waited for, while others wait to
// be copied.
const settleFor = 5 * time.Second

// copyAll copies the tables that are not yet there, one after another. One that waits for
// somebody's transaction lets the others go first.
func (f *follow) copyAll(ctx context.Context) error {
	for {
		waiting := 0
		for _, t := range f.tables {
			f.mu.Lock()
			copying := t.state == Copying
			f.mu.Unlock()
			if !copying {
				continue
			}
			if err := f.copyTable(ctx, t); errors.Is(err, errUnsettled) {
				waiting++
			} else if err != nil {
				return blame(t, err)
			}
		}
		if waiting == 0 {
			return nil
		}
	}
}

// errUnsettled says that transactions are still open that a copy waits for.
var errUnsettled = errors.New("transactions are open")

func (f *follow) copyTable(ctx context.Context, t *logTable) error {
	f.wait(t, "transactions that wrote to the table before it was followed must end")
	settling, stop := context.WithTimeout(ctx, settleFor)
	defer stop()
	err := f.log.Settle(settling, t.query.Table, func(who string) {
		f.wait(t, "transactions that wrote to the table before it was followed must end: "+who)
	})
	if settling.Err() != nil && ctx.Err() == nil {
		return errUnsettled
	}
	if err != nil {
		return err
	}
	f.wait(t, "other copies from this source must end")
	c, err := f.log.Copy(ctx, t.query.Table, t.copy.Layout)
	if err != nil {
		return err
	}
	defer c.Close()
	reached, err := f.later(ctx, c)
	if err != nil {
		return err
	}
	f.wait(t, "")
	done, err := f.resume(ctx, t, c)
	if err != nil {
		return err
	}
	var copied atomic.Int64
	f.mu.Lock()
	copied.Store(t.copied)
	f.mu.Unlock()
	group, working := errgroup.WithContext(ctx)
	group.SetLimit(partsAtOnce)
	for part := range c.Parts() {
		since := ""
		if slices.Contains(done, part) {
			if since = t.copy.Snapshots[0]; len(t.copy.Snapshots) == 1 {
				continue
			}
		}
		group.Go(problem.Guarded(func() error { return f.copyPart(working, t, c, part, since, &copied) }))
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if err := f.Warehouse.Make(ctx, fmt.Sprintf("UPDATE noemata.copies SET state = '%s', reached = %s, moment = %d WHERE feed = %s AND source_table = %s AND generation = %d AND state = '%s'",
		Joining, schema.Literal(reached), c.Moment().UnixMicro(), schema.Literal(f.Feed.Name), schema.Literal(t.Table.Table), t.copy.Generation, Copying)); err != nil {
		return err
	}
	f.mu.Lock()
	t.state, t.copy.Reached, t.copy.Moment = Joining, reached, c.Moment().UnixMicro()
	f.mu.Unlock()
	f.tell()
	return nil
}

// later makes sure that whatever is read of the log from here on gets a later moment than
// the copy, also where the source's log tells the times of commits in whole seconds. It
// gives the place up to which the log holds what the copy shows, and what was read before.
func (f *follow) later(ctx context.Context, c source.Copy) (string, error) {
	b := beginning{c.Moment().UnixMicro(), make(chan string, 1)}
	select {
	case f.copies <- b:
		return max(c.Passed(), <-b.read), nil
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

func (f *follow) wait(t *logTable, what string) {
	f.mu.Lock()
	t.waiting = what
	f.mu.Unlock()
	f.tell()
}

// resume notes the snapshot and tells which parts are done. A copy whose rows have been
// moved at the source, or that has no key to recognise rows by, begins anew.
func (f *follow) resume(ctx context.Context, t *logTable, c source.Copy) (done []int, err error) {
	next := t.copy
	if len(next.Snapshots) > 0 && (c.Layout() != next.Layout || len(t.target.Key) == 0) {
		if err := f.Warehouse.Make(ctx, "DELETE FROM "+f.copiedTable(t).Quoted()); err != nil {
			return nil, err
		}
		next = copyState{Generation: next.Generation + 1}
	}
	next.Layout = c.Layout()
	next.Snapshots = append(slices.Clone(next.Snapshots), c.Snapshot())
	was, _ := json.Marshal(t.copy.Snapshots) // texts always marshal
	if t.copy.Snapshots == nil {
		was = []byte("[]")
	}
	now, _ := json.Marshal(next.Snapshots)
	w, err := f.Warehouse.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer w.Abort()
	n, err := w.Exec(ctx, "UPDATE noemata.copies SET generation = $3, layout = $4, snapshots = $5 WHERE feed = $1 AND source_table = $2 AND generation = $6 AND snapshots = $7 AND state = $8",
		f.Feed.Name, t.Table.Table, next.Generation, next.Layout, string(now), t.copy.Generation, string(was), Copying)
	if err != nil {
		return nil, err
	}
	if n != 1 {
		return nil, warehouse.Overtaken(t.Table.Table)
	}
	found, err := w.Ask(ctx, "SELECT part, row_count FROM noemata.copy_parts WHERE feed = $1 AND source_table = $2 AND generation = $3", f.Feed.Name, t.Table.Table, next.Generation)
	if err != nil {
		return nil, err
	}
	if err := w.Finish(ctx); err != nil {
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	t.copy = next
	for _, row := range found {
		done = append(done, int(row[0].(int64)))
		t.copied += row[1].(int64)
	}
	return done, nil
}

// copyPart brings one part of a table into the warehouse, in a commit of its own.
func (f *follow) copyPart(ctx context.Context, t *logTable, c source.Copy, part int, since string, copied *atomic.Int64) error {
	w, err := f.Warehouse.Begin(ctx)
	if err != nil {
		return err
	}
	defer w.Abort()
	tag := int64(len(t.copy.Snapshots))
	columns := copiedColumns(t)
	var n int64
	var aside []rows.Aside
	last := time.Now()
	err = c.Read(ctx, part, since, func(b rows.Batch) error {
		defer b.Record.Release()
		came := time.Now()
		defer func() {
			now := time.Now()
			f.spent(t, came.Sub(last), now.Sub(came))
			last = now
		}()
		n += b.Record.NumRows()
		if aside = append(aside, b.Aside...); len(aside) > warehouse.MostAside {
			return warehouse.TooManyAside(t.Table.Table, aside[len(aside)-1].Reason)
		}
		tags := int64s(int(b.Record.NumRows()), func(int) int64 { return tag })
		defer tags.Release()
		record := array.NewRecordBatch(schema.Arrow(columns), append(slices.Clone(b.Record.Columns()), tags), b.Record.NumRows())
		defer record.Release()
		if err := w.Insert(ctx, f.copiedTable(t), columns, record); err != nil {
			return err
		}
		f.mu.Lock()
		t.copied = copied.Add(b.Record.NumRows())
		f.mu.Unlock()
		f.tell()
		return nil
	})
	if err != nil {
		return err
	}
	statements, _ := warehouse.AsideStatements(warehouse.Load{Feed: f.Feed.Name, Table: t.Table.Table, Run: f.Run}, aside, nil)
	for _, sql := range statements {
		if _, err := w.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if since == "" {
		if _, err := w.Exec(ctx, "INSERT INTO noemata.copy_parts (feed, source_table, generation, part, snapshot, row_count, aside_count) VALUES ($1, $2, $3, $4, $5, $6, $7)",
			f.Feed.Name, t.Table.Table, t.copy.Generation, int64(part), tag, n, int64(len(aside))); err != nil {
			return err
		}
	}
	return w.Finish(ctx)
}

// suspend keeps the changes of a table that is being copied. Those that its first
// snapshot shows are not needed.
func (f *follow) suspend(ctx context.Context, t *logTable, b change.Batch) error {
	if b.Record == nil {
		return nil
	}
	f.mu.Lock()
	var first string
	if len(t.copy.Snapshots) > 0 {
		first = t.copy.Snapshots[0]
	}
	f.mu.Unlock()
	var keep []int32
	seen := map[int32]bool{}
	for i, r := range b.Rows {
		s, known := seen[r.Txn]
		if !known {
			s = first != "" && f.log.Sees(first, b.Txns[r.Txn])
			seen[r.Txn] = s
		}
		if !s && r.Kind != 0 {
			keep = append(keep, int32(i))
		}
	}
	if len(keep) == 0 {
		return nil
	}
	record := suspended(t, b, keep)
	defer record.Release()
	return f.commit.Insert(ctx, f.suspendedTable(t), suspendedOf(t), record)
}
