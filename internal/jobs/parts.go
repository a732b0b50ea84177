package jobs

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/engine"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A feed may have two parts: tables that follow the log, and others that are read when they are
// due. A run works on both at once, and neither waits for the other.

// parts runs the parts of a feed that are due.
func (r *Runner) parts(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse, id int64,
	until <-chan struct{}) (rows.Books, error) {
	w := feedWork{Runner: r, feed: f, run: id, src: src, wh: wh}
	if !f.FollowsLog() {
		if err := engine.Unfollow(ctx, f, src, wh); err != nil {
			return rows.Books{}, err
		}
		return w.read(ctx, f)
	}
	others := f.Others()
	if len(others.Tables) == 0 {
		return w.follow(ctx, f, until)
	}
	next, err := r.readIsDue(ctx, others, id)
	if err != nil {
		return rows.Books{}, err
	}
	var books rows.Books
	var readErr error
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if !next.IsZero() {
			return
		}
		readErr = problem.Guarded(func() (err error) {
			books, err = w.read(ctx, others)
			return err
		})()
	}()
	followed, err := w.follow(ctx, f.Followers(), r.untilDue(ctx, until, ended, others, next))
	<-ended
	if err == nil {
		err = onlyRead(readErr)
	}
	return books.Add(followed), err
}

// untilDue is when a run that follows is to end, so that the next one reads what is due then: not
// before what it reads now has ended.
func (r *Runner) untilDue(ctx context.Context, until, ended <-chan struct{}, others *feed.Feed,
	next time.Time) <-chan struct{} {
	enough := make(chan struct{})
	go func() {
		defer close(enough)
		select {
		case <-ended:
		case <-ctx.Done():
			return
		}
		if at, scheduled := others.NextRead(time.Now()); next.IsZero() && scheduled {
			next = at
		}
		var due <-chan time.Time
		if !next.IsZero() {
			due = time.After(time.Until(next))
		}
		select {
		case <-until:
		case <-due:
		case <-ctx.Done():
		}
	}()
	return enough
}

// readIsDue tells when the tables that do not follow the log are to be read; zero for now.
func (r *Runner) readIsDue(ctx context.Context, others *feed.Feed, id int64) (next time.Time, err error) {
	run, err := r.store.Run(ctx, id)
	if err != nil || run.Trigger != "schedule" {
		return next, err
	}
	last, err := r.store.LastRead(ctx, others)
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

func onlyRead(err error) error {
	if err == nil {
		return nil
	}
	return readFailed{err}
}

// feedWork is one run of a feed.
type feedWork struct {
	*Runner
	feed *feed.Feed // with all of its tables
	run  int64
	src  source.Source
	wh   warehouse.Warehouse
}

// place is where a table stands in the feed.
func (w feedWork) place(table string) int {
	return slices.IndexFunc(w.feed.Tables, func(t feed.Table) bool { return t.Table == table })
}

// read works on tables that do not follow the log. One that fails does not stop the others.
func (w feedWork) read(ctx context.Context, f *feed.Feed) (rows.Books, error) {
	free, err := w.slots.take(ctx, f.Source)
	if err != nil {
		return rows.Books{}, err
	}
	defer free()
	var mu sync.Mutex
	var sum rows.Books
	var failed []error
	var group errgroup.Group
	group.SetLimit(tablesAtOnce)
	for _, t := range f.Tables {
		group.Go(func() error {
			work := engine.Work{Feed: f, Table: t, Run: w.run, Source: w.src, Warehouse: w.wh,
				Keys: w.databases.Keys(ctx)}
			var books rows.Books
			err := problem.Guarded(func() (err error) {
				books, err = w.runTable(ctx, work, w.place(t.Table))
				return err
			})()
			mu.Lock()
			defer mu.Unlock()
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
