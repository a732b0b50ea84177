package jobs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A feed may have two parts: tables that follow the log, and others that are read when they are
// due. A run works on both at once: what follows goes on while the others are read.

// scheduledRun has been asked for by a feed's schedule.
const scheduledRun = "schedule"

// feedWork is one run of a feed.
type feedWork struct {
	*Runner
	file      *feed.Feed // as it was written
	feed      *feed.Feed // with all of its tables
	run       int64
	scheduled bool
	src       source.Source
	wh        warehouse.Warehouse
	heavy     window.Hours // of the source

	mu   sync.Mutex
	read map[string]rows.Books // by table that does not follow the log: what the run has done
}

// place is where a table stands in the feed.
func (w *feedWork) place(table string) int {
	return slices.IndexFunc(w.feed.Tables, func(t feed.Table) bool { return t.Table == table })
}

// parts runs the parts of a feed that are due.
func (w *feedWork) parts(ctx context.Context, until <-chan struct{}) (rows.Books, error) {
	if !w.feed.FollowsLog() {
		if err := engine.Unfollow(ctx, w.feed, w.src, w.wh); err != nil {
			return rows.Books{}, err
		}
		return w.readAll(ctx, w.feed)
	}
	others := w.feed.Others()
	if len(others.Tables) == 0 {
		return w.follow(ctx, w.feed, until)
	}
	next, err := w.nextRead(ctx, others)
	if err != nil {
		return rows.Books{}, err
	}
	var books rows.Books
	var readErr error
	over := make(chan struct{}) // the run is to end
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if next.IsZero() {
			readErr = problem.Guarded(func() (err error) {
				books, err = w.readAll(ctx, others)
				return err
			})()
			next, _ = others.NextRead(time.Now())
		}
		go func() {
			defer close(over)
			w.wait(ctx, until, next)
		}()
		if _, follows := w.feed.Fresh(); follows && w.scheduled { // else its backfills have runs of their own
			readErr = cmp.Or(readErr, problem.Guarded(func() error {
				again, err := w.backfill(ctx, over)
				books = books.Add(again)
				return err
			})())
		}
	}()
	enough := make(chan struct{})
	go func() {
		defer close(enough)
		<-ended
		select {
		case <-over:
		case <-ctx.Done():
		}
	}()
	var followed rows.Books
	if followers := w.feed.Followers(); len(followers.Tables) > 0 {
		followed, err = w.follow(ctx, followers, enough)
	} else { // patterns that stand for no table
		err = engine.Unfollow(ctx, w.feed, w.src, w.wh)
		if _, follows := w.feed.Fresh(); follows && w.scheduled {
			<-enough
		}
	}
	<-ended
	if err == nil && readErr != nil {
		err = readFailed{readErr}
	}
	return books.Add(followed), err
}

// wait waits until a run is to end, or the next one is due; zero is never.
func (w *feedWork) wait(ctx context.Context, until <-chan struct{}, next time.Time) {
	var due <-chan time.Time
	if !next.IsZero() {
		due = time.After(time.Until(next))
	}
	select {
	case <-until:
	case <-due:
	case <-ctx.Done():
	}
}

// untilNext is closed when a run is to end, or when the feed's schedule asks for another.
func (w *feedWork) untilNext(ctx context.Context, until <-chan struct{}) <-chan struct{} {
	over := make(chan struct{})
	go func() {
		defer close(over)
		active, next, _, err := w.store.Schedule(ctx, w.feed.Name)
		if err != nil || !active || next == nil {
			next = &time.Time{}
		}
		w.wait(ctx, until, *next)
	}()
	return over
}

// nextRead tells when the tables that do not follow the log are to be read; zero for now.
func (w *feedWork) nextRead(ctx context.Context, others *feed.Feed) (next time.Time, err error) {
	if !w.scheduled {
		return next, nil
	}
	last, err := w.store.LastRead(ctx, others)
	if err != nil || last.IsZero() {
		return next, err
	}
	next, scheduled := others.NextRead(last)
	if !scheduled || !next.After(time.Now()) {
		return time.Time{}, nil
	}
	return next, nil
}

// readFailed is the failure of tables that are read beside those that follow the log. These go on
// without a pause.
type readFailed struct{ error }

func (e readFailed) Unwrap() error { return e.error }

// waitsForHours tells that the first load of a table waits for the hours of the source, and says so.
func (w *feedWork) waitsForHours(ctx context.Context, t feed.Table) bool {
	if w.heavy.Contains(time.Now()) {
		return false
	}
	position, err := w.store.PositionOf(ctx, w.feed.Name, t.Table)
	if err != nil || position != "" {
		return false
	}
	now := time.Now()
	w.record.tableOfRun(ctx, w.run, w.place(t.Table),
		records.RunTable{Table: t.Table, State: "waiting", StartedAt: &now, EndedAt: &now,
			Notes: []string{fmt.Sprintf("The table is copied for the first time in the hours that its source lets it: %s, next at %s.", w.heavy,
				w.heavy.Next(now).UTC().Format("2006-01-02 15:04Z"))}})
	return true
}

// readAll works on tables that do not follow the log. One that fails does not stop the others.
func (w *feedWork) readAll(ctx context.Context, f *feed.Feed) (rows.Books, error) {
	asked := time.Now()
	free, err := w.slots.take(ctx, f.Source)
	if err != nil {
		return rows.Books{}, err
	}
	defer free()
	waited := time.Since(asked)
	var sum rows.Books
	var failed []error
	var group errgroup.Group
	group.SetLimit(tablesAtOnce)
	for _, t := range f.Tables {
		group.Go(func() error {
			if w.waitsForHours(ctx, t) {
				return nil
			}
			work := engine.Work{Feed: f, Table: t, Run: w.run, Source: w.src, Warehouse: w.wh,
				Keys: w.databases.Keys(ctx)}
			var books rows.Books
			err := problem.Guarded(func() (err error) {
				books, err = w.runTable(ctx, work, w.place(t.Table), waited)
				return err
			})()
			w.mu.Lock()
			defer w.mu.Unlock()
			w.read[t.Table] = books
			sum = sum.Add(books)
			if err != nil {
				failed = append(failed, err)
			}
			return nil
		})
	}
	_ = group.Wait() // errors are gathered, so that each table has its turn
	if len(failed) == 0 {
		return sum, nil
	}
	first := problem.Of(failed[0])
	if len(failed) == 1 {
		return sum, first
	}
	return sum, problem.Wrap(first, first.Code,
		fmt.Sprintf("%d of %d tables failed. The first one: %s", len(failed), len(f.Tables), first.What), first.Remedy)
}
