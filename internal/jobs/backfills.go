package jobs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/records"
)

// Backfills are read in runs of their own, between those that are due. A feed that follows the log
// without pause reads them beside it.

// backfillRun has been asked for by no schedule and no person, but by a backfill.
const backfillRun = "backfill"

// backfillDue tells when a feed is to go on with a backfill, from now on and in the hours of its source; ok is false
// where it has none that goes on.
func (r *Runner) backfillDue(ctx context.Context, f *feed.Feed) (at time.Time, ok bool, err error) {
	at, ok, err = r.store.BackfillDue(ctx, f.Name)
	if err != nil || !ok {
		return at, ok, err
	}
	heavy, err := r.heavy(ctx, f.Source)
	if now := time.Now(); at.Before(now) {
		at = now
	}
	return heavy.Next(at), true, err
}

// backfill reads slices until there are none, or it should end; one at least.
func (w *feedWork) backfill(ctx context.Context, until <-chan struct{}) (sum rows.Books, err error) {
	var failed []error
	for w.heavy.Contains(time.Now()) {
		b, due, err := w.store.BeginSlice(ctx, w.feed.Name)
		if err != nil || !due {
			return sum, errors.Join(append(failed, err)...)
		}
		books, err := w.slice(ctx, b)
		sum = sum.Add(books)
		if err != nil {
			failed = append(failed, err)
		}
		if ctx.Err() != nil {
			return sum, errors.Join(failed...)
		}
		select {
		case <-until:
			return sum, errors.Join(failed...)
		default:
		}
	}
	return sum, errors.Join(failed...)
}

// slice reads the next slice of a backfill, and keeps what there is to know about it.
func (w *feedWork) slice(ctx context.Context, b records.Backfill) (rows.Books, error) {
	free, err := w.slots.take(ctx, w.feed.Source)
	if err != nil {
		return rows.Books{}, err
	}
	defer free()
	t, known := w.feed.Table(b.Table)
	t.Table = b.Table
	work := engine.Work{Feed: w.feed, Table: t, Run: w.run, Source: w.src, Warehouse: w.wh, Keys: w.databases.Keys(ctx)}
	detail := records.RunTable{Books: w.bookOf(b.Table, rows.Books{}),
		Notes: []string{fmt.Sprintf("Slice %d of %d of backfill %d.", b.Done+1, b.Slices, b.ID)}}
	out, err := w.recorded(ctx, work, w.place(b.Table), detail,
		func(ctx context.Context, work engine.Work) (out engine.Outcome, err error) {
			err = problem.Guarded(func() error {
				if !known {
					return problem.Newf(problem.NotFound, fmt.Sprintf("Stop the backfill: noemata backfills stop %d.", b.ID),
						"The feed %s has no table %q any more.", w.feed.Name, b.Table)
				}
				out, err = w.readSlice(ctx, work, b)
				return err
			})()
			return out, err
		})
	w.bookOf(b.Table, out.Books)
	keep(ctx, "A slice", w.run, b.Table, func(ctx context.Context) error {
		return w.store.EndSlice(ctx, b, out.Books, err, backfillPause)
	})
	if errors.Is(context.Cause(ctx), errAsked) { // else it would begin again at once
		keep(ctx, "A pause", w.run, b.Table, func(ctx context.Context) error {
			_, err := w.store.SetBackfill(ctx, b.ID, "paused")
			return err
		})
	}
	return out.Books, err
}

// readSlice reads the slice that a backfill has come to.
func (w *feedWork) readSlice(ctx context.Context, work engine.Work, b records.Backfill) (engine.Outcome, error) {
	asked := window.Range{From: b.From, To: b.To, Slice: b.Slice, Newest: b.NewestFirst}
	_, slices, err := engine.PlanBackfill(ctx, work, asked)
	if err != nil {
		return engine.Outcome{}, err
	}
	if int64(slices.Count) != b.Slices || b.Done >= b.Slices {
		return engine.Outcome{}, problem.Newf(problem.Conflict,
			fmt.Sprintf("Stop it, and ask for another: noemata backfills stop %d.", b.ID),
			"The range of backfill %d is cut into %d slices now, and was into %d: the watermark is another, or the table's "+
				"position was set back into it.", b.ID, slices.Count, b.Slices)
	}
	return w.engine.Backfill(ctx, work, slices.At(int(b.Done)))
}

// bookOf adds to the books of a table in this run.
func (w *feedWork) bookOf(table string, books rows.Books) rows.Books {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.read[table] = w.read[table].Add(books)
	return w.read[table]
}

// backfillPause is how long after so many failures in a row a slice is tried again.
func backfillPause(failures int) time.Duration {
	return min(firstPause<<min(failures-1, 10), mostPause)
}
