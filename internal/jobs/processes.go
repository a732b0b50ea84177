package jobs

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/warehouse"
)

// Several processes share the work. Any of them can run any feed, but those into a warehouse that is a file:
// it is on one host, and open to one process at a time. Jobs of such feeds are in a queue of that process alone.

// What queues of one process begin with, before its name.
const (
	ownFeeds  = "at-"
	ownProofs = "proofs-at-"
)

// stayAlive holds a lock that the database lets go when this process dies, and hears on the same connection
// whether the process is to leave its work to others.
func (r *Runner) stayAlive(ctx context.Context, alive chan struct{}) {
	var once sync.Once
	for ctx.Err() == nil {
		conn, err := pgx.ConnectConfig(ctx, r.store.Pool.Config().ConnConfig)
		if err == nil {
			err = r.store.Live(ctx, conn, r.self, r.isLeaving())
		}
		for err == nil {
			once.Do(func() { close(alive) })
			select {
			case <-ctx.Done():
				err = ctx.Err()
			case <-time.After(time.Second):
				var drain bool
				if drain, err = r.store.Seen(ctx, conn, r.self.ID); err == nil {
					r.drain(ctx, drain)
				}
			}
		}
		if conn != nil {
			_ = conn.Close(context.Background())
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// drain has the process take up no more work, or work again. Runs that follow a log end with their next commit,
// all others in their own time; what waits goes to others.
func (r *Runner) drain(ctx context.Context, drain bool) {
	if drain == r.isLeaving() {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if !drain {
		slog.Info("The process works again.", "process", r.self.ID)
		r.leaving = make(chan struct{})
		if err := r.river.Start(ctx); err != nil {
			slog.Error("The job queue did not start again; end the process and start it anew.", "error", err)
		}
		return
	}
	slog.Info("The process takes up no more work.", "process", r.self.ID)
	close(r.leaving)
	r.done.Go(func() {
		if err := r.river.Stop(ctx); err != nil {
			return // the process ends
		}
		r.derivers.idle(ctx)
		if err := r.store.Drained(ctx, r.self.ID); err != nil {
			slog.Warn("Warehouse files were not left to other processes.", "error", err)
		}
	})
}

// whenLeaving is closed when the process is to take up no more work.
func (r *Runner) whenLeaving() <-chan struct{} {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.leaving
}

func (r *Runner) isLeaving() bool {
	select {
	case <-r.whenLeaving():
		return true
	default:
		return false
	}
}

// recover frees the jobs of processes that are gone.
func (r *Runner) recover(ctx context.Context) error {
	orphans, err := r.store.Orphans(ctx)
	if err != nil {
		return err
	}
	for _, o := range orphans {
		slog.Info("Taking over from a process that is gone.", "process", o.Process)
		held, err := r.store.EndRunsOf(ctx, o.Process)
		if err != nil {
			return err
		}
		for _, feed := range held {
			slog.Error("A feed is held: the service ended during its runs, several times in a row.", "feed", feed)
		}
		if err := r.store.FreeJob(ctx, o); err != nil {
			return err
		}
	}
	if err := r.store.ReturnJobs(ctx, ownFeeds, river.QueueDefault); err != nil {
		return err
	}
	return r.store.ReturnJobs(ctx, ownProofs, provingQueue)
}

// elsewhere tells that another process has the file of a feed's warehouse open, and gives the job to it. What
// cannot be known is told by the run itself.
func (r *Runner) elsewhere(ctx context.Context, f *feed.Feed, job int64, own string) bool {
	ctx, cancel := context.WithCancel(ctx) // the warehouse is used for no longer than this
	defer cancel()
	wh, err := r.databases.Warehouse(ctx, f.Warehouse)
	if err != nil {
		return false
	}
	file, there := wh.File()
	if file == "" {
		return false
	}
	at, err := r.store.TakePlace(ctx, f.Warehouse, r.self.Host, r.self.ID, there)
	if err != nil || at.Process == "" || at.Process == r.self.ID {
		return false
	}
	if err := r.store.MoveJob(ctx, job, own+at.Process); err != nil {
		slog.Warn("A job was not given to the process that can do it; trying again.", "feed", f.Name, "error", err)
	}
	return true
}

// here makes sure that a warehouse that is a file is this process's to write.
func (r *Runner) here(ctx context.Context, name string, wh warehouse.Warehouse) error {
	file, there := wh.File()
	if file == "" {
		return nil
	}
	at, err := r.store.TakePlace(ctx, name, r.self.Host, r.self.ID, there)
	if err == nil && at.Process != r.self.ID {
		err = problem.Newf(problem.Busy, "The next run goes on there.",
			"The file %s of the warehouse %s is open in another process "+
				"of the service, %s on %s.", file, name, at.Process, at.Host)
	}
	return err
}
