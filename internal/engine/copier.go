package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A table that is new to a feed is copied while the log is read. Its rows gather in a
// stash of the warehouse, and so do its changes. When all rows are there, and the log has
// been read past the snapshot they were read in, both are merged into the target in one
// commit: the rows, and then each change that the snapshot does not show. From there on
// the table follows with the others.
//
// A copy that is interrupted goes on in a new snapshot. Each row is kept with the number
// of its snapshot, and of a key that was read in several the last one counts. Parts that
// were done are not read again, but for rows that were written since: they may have come
// from a part that had not been read.

// copier copies the tables that are new.
type copier struct {
	*session
	begun chan<- beginning
}

// partsAtOnce is how many parts of a table are read at once.
const partsAtOnce = 2

// settleFor is how long one table's open transactions are waited for, while others wait to
// be copied.
const settleFor = 5 * time.Second

// run copies the tables that are not yet there, until the log is not read any more: what has not
// come in by then is the next run's.
func (c *copier) run(ctx context.Context) error {
	err := c.copyAll(ctx)
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// copyAll copies one table after another. One that waits for somebody's transaction lets the others
// go first.
func (c *copier) copyAll(ctx context.Context) error {
	for {
		waiting := 0
		for _, t := range c.tables {
			if c.stateOf(t) != warehouse.Copying {
				continue
			}
			if !c.Heavy.Contains(time.Now()) && t.copy.Snapshots == nil {
				c.wait(t, "the hours must come in which the source lets tables be copied: "+c.Heavy.String())
				waiting++
				continue
			}
			if before := c.copiedBefore(t); before != nil {
				c.wait(t, "the table that its rows refer to must be copied before it: "+before.Table.Table)
				waiting++
				continue
			}
			if err := c.copyTable(ctx, t); errors.Is(err, errUnsettled) {
				waiting++
			} else if err != nil {
				return blame(t, err)
			}
		}
		if waiting == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookAgain):
		}
	}
}

// lookAgain is how long tables that wait are left alone.
const lookAgain = 50 * time.Millisecond

// copiedBefore is a table that has yet to join, and with whose rows those of another one are changed
// without being told; nil where there is none.
func (c *copier) copiedBefore(t *logTable) *logTable {
	if c.links == nil {
		return nil
	}
	for _, other := range c.tables {
		if c.stateOf(other) != warehouse.Following && slices.Contains(c.referrers(other), t) {
			return other
		}
	}
	return nil
}

// errUnsettled says that transactions are still open that a copy waits for.
var errUnsettled = errors.New("transactions are open")

func (c *copier) copyTable(ctx context.Context, t *logTable) error {
	const others = "transactions that wrote to the table before it was followed must end"
	c.wait(t, others)
	settling, stop := context.WithTimeout(ctx, settleFor)
	defer stop()
	err := c.log.Settle(settling, t.query.Table, func(who string) { c.wait(t, others+": "+who) })
	if settling.Err() != nil && ctx.Err() == nil {
		return errUnsettled
	}
	if err != nil {
		return err
	}
	c.wait(t, "other copies from this source must end")
	followed := t.followed()
	followed.Table.Columns, followed.Only = t.copies().Reads().Columns, t.filter(true)
	reads, err := c.log.Copy(ctx, followed, t.copy.Layout)
	if err != nil {
		return err
	}
	defer reads.Close()
	reached, err := c.later(ctx, reads)
	if err != nil {
		return err
	}
	c.wait(t, "")
	done, err := c.resume(ctx, t, reads)
	if err != nil {
		return err
	}
	group, working := errgroup.WithContext(ctx)
	group.SetLimit(partsAtOnce)
	for part := range reads.Parts() {
		since := ""
		if slices.Contains(done, part) {
			if since = t.copy.Snapshots[0]; len(t.copy.Snapshots) == 1 {
				continue
			}
		}
		group.Go(problem.Guarded(func() error { return c.copyPart(working, t, reads, part, since) }))
	}
	if err := group.Wait(); err != nil {
		return err
	}
	moment := reads.Moment().UnixMicro()
	if err := c.Warehouse.Journal().Note(ctx, c.Feed.Name,
		warehouse.CopyDone{Table: t.Table.Table, Generation: t.copy.Generation, Reached: reached,
			Moment: moment}); err != nil {
		return err
	}
	c.board.update(t, func(r *TableReport) {
		r.State, t.copy.State, t.copy.Reached, t.copy.Moment = warehouse.Joining, warehouse.Joining, reached, moment
	})
	c.tell()
	return nil
}

// later makes sure that whatever is read of the log from here on gets a later moment than
// the copy, also where the source's log tells the times of commits in whole seconds. It
// gives the position up to which the log holds what the copy shows, and what was read
// before.
func (c *copier) later(ctx context.Context, reads source.Copy) (string, error) {
	b := beginning{reads.Moment().UnixMicro(), make(chan string, 1)}
	select {
	case c.begun <- b:
		return max(reads.Passed(), <-b.read), nil
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// wait tells what a copy waits for; empty for nothing.
func (c *copier) wait(t *logTable, what string) {
	c.board.update(t, func(r *TableReport) { r.Waiting = what })
	c.tell()
}

// resume notes the snapshot and tells which parts are done. A copy whose rows have been
// moved at the source, that has no key to recognise rows by, or that is of columns alone, begins anew.
func (c *copier) resume(ctx context.Context, t *logTable, reads source.Copy) (done []int, err error) {
	var entries []warehouse.Entry
	next := t.copy
	if len(next.Snapshots) > 0 && (reads.Layout() != next.Layout || len(t.target.Key) == 0 || t.fills != nil) {
		entries = append(entries, warehouse.EmptyStash{Stash: t.stash(c.Feed.Name), Fills: t.fills != nil})
		next.Generation, next.Snapshots = next.Generation+1, nil
	}
	next.Layout = reads.Layout()
	next.Snapshots = append(slices.Clone(next.Snapshots), reads.Snapshot())
	journal := c.Warehouse.Journal()
	if err := journal.Note(ctx, c.Feed.Name,
		append(entries, warehouse.TakeSnapshot{From: t.copy, To: next})...); err != nil {
		return nil, err
	}
	parts, err := journal.Parts(ctx, c.Feed.Name, next)
	if err != nil {
		return nil, err
	}
	c.board.update(t, func(r *TableReport) {
		t.copy = next
		for _, p := range parts {
			done = append(done, p.Part)
			r.Copied += p.Rows
		}
	})
	return done, nil
}

// copyPart brings one part of a table into the warehouse, in a commit of its own.
func (c *copier) copyPart(ctx context.Context, t *logTable, reads source.Copy, part int, since string) error {
	w, err := c.Warehouse.Begin(ctx)
	if err != nil {
		return err
	}
	defer w.Abort()
	snapshot := int64(len(t.copy.Snapshots))
	var n, filtered int64
	var aside []rows.Aside
	last := time.Now()
	copies := t.copies()
	err = reads.Read(ctx, part, since, func(b rows.Batch) error {
		defer b.Record.Release()
		spent := Spent{Bytes: sizeOf(b), Reading: time.Since(last)}
		last = time.Now()
		b = copies.Batch(b, false)
		b.Record = t.padded(b.Record)
		defer b.Record.Release()
		spent.Shaping, last = time.Since(last), time.Now()
		defer func() {
			spent.Writing, last = time.Since(last), time.Now()
			c.board.spent(t, spent)
		}()
		n += b.Record.NumRows()
		filtered += b.Filtered
		if aside = append(aside, b.Aside...); len(aside) > warehouse.MostAside {
			return warehouse.TooManyAside(t.Table.Table, aside[len(aside)-1].Reason)
		}
		if err := w.AddCopied(ctx, t.stash(c.Feed.Name), snapshot, b.Record); err != nil {
			return err
		}
		c.board.update(t, func(r *TableReport) { r.Copied += b.Record.NumRows() })
		c.tell()
		return nil
	})
	if err != nil {
		return err
	}
	var entries []warehouse.Entry
	if len(aside) > 0 {
		entries = append(entries, warehouse.SetAside{Table: t.Table.Table, Run: c.Run, Rows: aside})
	}
	if since == "" {
		entries = append(entries, warehouse.PartCopied{Table: t.Table.Table, Generation: t.copy.Generation, Part: part,
			Snapshot: snapshot, Rows: n, Aside: int64(len(aside)), Filtered: filtered})
	}
	if err := w.Note(ctx, c.Feed.Name, entries...); err != nil {
		return err
	}
	return w.Finish(ctx)
}
