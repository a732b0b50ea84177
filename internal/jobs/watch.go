package jobs

import (
	"context"
	"errors"
	"time"

	"noemata/internal/core/problem"
)

// A run looks this often whether it is still wanted. One that follows a log may end its
// commit when it is not; after the grace it is given up, and rolled back.
const (
	watchEvery = 500 * time.Millisecond
	grace      = 3 * time.Second
)

// Why a run is given up.
var (
	errAsked = errors.New("a person has stopped the run")
	errGone  = errors.New("the feed was removed")
)

// followsFor is how long a run of a feed follows its log.
func (r *Runner) followsFor(ctx context.Context, name string) time.Duration {
	f, err := r.store.Feed(ctx, name)
	if err != nil { // the run itself will tell
		return followFor
	}
	return followFor + time.Duration(len(f.Tables))*followOfTable
}

// isStill tells whether nothing has happened in a run that follows its log, so that another one would do as it does.
func (r *Runner) isStill(run int64) (is bool) {
	if still, ok := r.still.Load(run); ok {
		_ = problem.Guarded(func() error { is = still.(func() bool)(); return nil })() // else the next run tells what is wrong
	}
	return is
}

// watch gives the context of a run, which ends when nobody wants the run any more, and a
// channel that is closed when a following one should end: it has followed for long enough, the process is to
// leave its work to others, a person waits for a run, or what it works with has changed. release must be called.
func (r *Runner) watch(ctx context.Context, name string, id int64) (running context.Context, until <-chan struct{},
	release func()) {
	running, cancel := context.WithCancelCause(ctx)
	enough := make(chan struct{})
	done := make(chan struct{})
	first, err := r.store.Wishes(ctx, []int64{id}) // before the run looks at its feed
	stamp, known := first[id].Stamp, err == nil
	told, forget := r.wishes.of(ctx, id)
	go func() {
		defer forget()
		closed := false
		end := func() {
			if !closed {
				closed = true
				close(enough)
			}
		}
		defer end()
		lasts, began := r.followsFor(ctx, name), time.Now()
		long, leaving := time.After(lasts), r.whenLeaving()
		for {
			select {
			case <-done:
				return
			case <-running.Done():
				return
			case <-r.stopping:
				return
			case <-long:
				if time.Since(began) < stillFor && r.isStill(id) {
					long = time.After(lasts)
				} else {
					end()
				}
				continue
			case <-leaving:
				end()
				leaving = nil
				continue
			case now := <-told:
				if !known {
					stamp, known = now.Stamp, true
				}
				switch {
				case now.Gone:
					cancel(errGone)
					return
				case now.Stop:
					end()
					if r.wait(done, grace) {
						return
					}
					cancel(errAsked)
					return
				case now.Stamp != stamp, now.Queued:
					end()
				}
			}
		}
	}()
	return running, enough, func() { close(done); cancel(nil) }
}

// wait tells whether done was closed before the time passed.
func (r *Runner) wait(done <-chan struct{}, d time.Duration) bool {
	select {
	case <-done:
		return true
	case <-time.After(d):
		return false
	}
}
