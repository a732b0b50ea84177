package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/warehouse"
)

// Proofs and repairs are jobs of their own, in a queue of their own: they read much, so a process works on
// few of them at a time, and each takes a slot of its source.

const (
	provingQueue  = "proofs"
	provingAtOnce = 2
)

// provingJob is the job of one proof or repair.
type provingJob struct {
	ID int64 `json:"id"`
}

// Kind is the job's name in River's table.
func (provingJob) Kind() string { return "proof" }

// InsertOpts let a proof have one job only.
func (provingJob) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: provingQueue, MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true,
		ByState: []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable,
			rivertype.JobStateRunning, rivertype.JobStateScheduled}}}
}

type provingWorker struct {
	river.WorkerDefaults[provingJob]
	runner *Runner
}

// Work compares a table, and repairs it where that was asked for.
func (w *provingWorker) Work(ctx context.Context, job *river.Job[provingJob]) error {
	r := w.runner
	p, wait, err := r.takeUp(ctx, job.ID, job.Args.ID)
	switch {
	case problem.Is(err, problem.NotFound), err == nil && p.Ended():
		return nil // it was stopped, or removed with its feed
	case err != nil:
		slog.Warn("A proof cannot be taken up; trying again.", "proof", job.Args.ID, "error", err)
		return river.JobSnooze(2 * time.Second)
	case wait >= 0:
		return river.JobSnooze(wait)
	}
	r.prove(ctx, p)
	if ctx.Err() != nil { // another process begins it anew
		return river.JobSnooze(0)
	}
	return nil
}

// now says that a proof need not wait.
const now = time.Duration(-1)

// takeUp begins a proof, or tells after how long it is looked at again: at once where another process does it, and
// soon where the hours of its source have to come, which may be changed meanwhile.
func (r *Runner) takeUp(ctx context.Context, job, id int64) (p records.Proving, wait time.Duration, err error) {
	if p, err = r.store.Proving(ctx, id); err != nil || p.Ended() {
		return p, now, err
	}
	f, err := r.store.Feed(ctx, p.Feed)
	if err != nil {
		return p, now, err
	}
	if r.elsewhere(ctx, f, job, ownProofs) {
		return p, 0, nil
	}
	heavy, err := r.heavy(ctx, f.Source)
	if err != nil {
		return p, now, err
	}
	if next := heavy.Next(time.Now()); !heavy.Contains(time.Now()) {
		err = r.store.PutOffProving(ctx, id, fmt.Sprintf("waits until %s, for the hours of its source: %s",
			next.UTC().Format("2006-01-02 15:04Z"), heavy))
		return p, min(time.Until(next), 10*time.Second), err
	}
	p, ok, err := r.store.BeginProving(ctx, id)
	if err == nil && !ok {
		p, err = r.store.Proving(ctx, id) // it has ended meanwhile
	}
	return p, now, err
}

// ask has a proof or a repair worked on.
func (r *Runner) ask(ctx context.Context, id int64) error {
	_, err := r.river.Insert(ctx, provingJob{ID: id}, nil)
	return err
}

// Prove asks for a proof of a table, or a repair of it.
func (r *Runner) Prove(ctx context.Context, name, table string, repair bool, since, by string) (records.Proving,
	error) {
	w, err := r.Work(ctx, name, table)
	if err == nil && w.Table.Paused {
		err = engine.Paused(name, table)
	}
	if err == nil && repair {
		err = engine.Repairable(w)
	}
	if err == nil && since != "" {
		since, err = engine.Since(ctx, w, since)
	}
	if err != nil {
		return records.Proving{}, err
	}
	p, err := r.store.AddProving(ctx, name, table, repair, since, by)
	if err != nil {
		return p, err
	}
	return p, r.ask(ctx, p.ID)
}

// askAll makes sure that each proof that waits has its job, and asks for those that feeds' files ask for.
func (r *Runner) askAll(ctx context.Context) error {
	if err := r.askDue(ctx); err != nil {
		return err
	}
	waiting, err := r.store.WaitingProvings(ctx)
	for _, id := range waiting {
		err = errors.Join(err, r.ask(ctx, id))
	}
	return err
}

// askDue asks for proofs of tables whose last one is older than their feed wants.
func (r *Runner) askDue(ctx context.Context) error {
	wanted, err := r.store.ProvedFeeds(ctx)
	for name, age := range wanted {
		every, parsed := window.ParseDuration(age)
		status, asked := r.store.Feeds(ctx, name)
		if err = errors.Join(err, parsed, asked); err != nil {
			return err
		}
		for _, f := range status {
			for _, t := range f.Tables {
				if (t.Proof == nil || time.Since(t.Proof.At) >= every) && t.Provable() && t.State != "paused" {
					err = errors.Join(err, r.proveAgain(ctx, name, t.Table, every))
				}
			}
		}
	}
	return err
}

// proveAgain asks for a proof of a table, unless one was not long ago, whatever came of it.
func (r *Runner) proveAgain(ctx context.Context, name, table string, every time.Duration) error {
	last, err := r.store.Provings(ctx, name, table, 1)
	if err != nil || len(last) > 0 && (!last[0].Ended() || time.Since(last[0].AskedAt) < every) {
		return err
	}
	_, err = r.store.AddProving(ctx, name, table, false, "", "")
	return err
}

// prove works on a proof that was taken up, and keeps what came of it.
func (r *Runner) prove(ctx context.Context, p records.Proving) {
	running, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var at atomic.Pointer[engine.Progress]
	r.done.Go(func() { r.watchProving(running, cancel, p.ID, &at) })
	var said heard
	err := problem.Guarded(func() error {
		w, err := r.Work(running, p.Feed, p.Table)
		if err != nil {
			return err
		}
		free, err := r.slots.take(running, w.Feed.Source)
		if err != nil {
			return err
		}
		defer free()
		w.Run = -p.ID // of what a repair writes: no run has written it
		w.Progress = func(now engine.Progress) { at.Store(&now) }
		active, _, _, err := r.store.Schedule(running, p.Feed)
		if err != nil {
			return err
		}
		if !idle(w.Feed, active) {
			w.Passed = r.passed(p.Feed)
		}
		if err := r.goOn(running, &w, p.ID); err != nil {
			return err
		}
		return r.compare(said.in(running), w, &p)
	})()
	switch {
	case errors.Is(context.Cause(running), errAsked):
		p.State = "stopped"
	case ctx.Err() != nil:
		return
	case errors.Is(err, errLater):
		keep(ctx, "A proof", p.ID, p.Table, func(ctx context.Context) error { return r.store.LayAside(ctx, p.ID) })
		return
	case err != nil:
		p.State, p.Problem = "failed", records.NewProblem(err)
		slog.Warn("A proof did not succeed.", "feed", p.Feed, "table", p.Table, "error", err)
	default:
		p.State = "done"
	}
	p.Statements = said.all(p.Table)
	keep(ctx, "A proof", p.ID, p.Table, func(ctx context.Context) error { return r.store.EndProving(ctx, p) })
	r.events.Send(context.WithoutCancel(ctx), records.Event{Kind: "feed", Feed: p.Feed})
}

// errLater says that a proof is to go on when the hours of its source have come again.
var errLater = errors.New("the hours of the source have ended")

// goOn has a proof go on from where an earlier worker had come to, and keeps how far it comes. It ends between two parts
// of its table with the hours of its source.
func (r *Runner) goOn(ctx context.Context, w *engine.Work, id int64) error {
	var kept engine.Proven
	if err := r.store.Proven(ctx, id, &kept); err != nil {
		return err
	}
	if kept.UpTo != "" {
		w.Proven = &kept
	}
	source := w.Feed.Source
	w.Note = func(now engine.Proven) error {
		if err := r.store.NoteProven(ctx, id, now); err != nil {
			return err
		}
		heavy, err := r.heavy(ctx, source)
		if err == nil && !heavy.Contains(time.Now()) {
			err = errLater
		}
		return err
	}
	return nil
}

// compare proves the table or repairs it, and tells what was found.
func (r *Runner) compare(ctx context.Context, w engine.Work, p *records.Proving) error {
	var found engine.Proof
	var err error
	w.Since = p.Since
	if p.Repair {
		var out engine.Repaired
		out, err = engine.Repair(ctx, w)
		found = out.Proof
		p.Repaired = &records.Repaired{Keys: out.Keys, Left: out.Left, Books: out.Books}
	} else {
		found, err = engine.Prove(ctx, w)
	}
	if err != nil {
		return err
	}
	target, err := w.Feed.TargetOf(w.Table)
	if err != nil {
		target = schema.Name{}
	}
	p.Proof = &records.Proof{Table: p.Table, Target: target.Display(), At: time.Now().UTC(),
		Position: found.Stands.Position.String(), Same: found.Same, Result: found.Result, Notes: found.Notes,
		Faults: int64(len(found.Faults))}
	p.Differences = found.Found[:min(len(found.Found), compare.Shown)]
	if p.Since != "" && found.Same { // what the last proof of all rows has found stands
		return nil
	}
	if p.Repair && !found.Same && p.Repaired.Left == 0 {
		return nil // what is so now is for the next proof to tell
	}
	if err := w.Warehouse.Journal().Note(ctx, p.Feed, warehouse.Proved{Table: p.Table, At: p.Proof.At, Same: found.Same,
		Rows: found.Equal + found.Differing + found.Missing}); err != nil {
		return err
	}
	return r.store.NoteProof(ctx, p.Feed, p.Table, *p.Proof)
}

// watchProving keeps how far a proof is, and gives it up when nobody wants it any more.
func (r *Runner) watchProving(ctx context.Context, cancel context.CancelCauseFunc, id int64,
	at *atomic.Pointer[engine.Progress]) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(watchEvery):
		}
		now := at.Load()
		if now == nil {
			now = &engine.Progress{}
		}
		wanted, err := r.store.NoteProving(ctx, id, now.Phase, now.Read, now.Expected)
		if err == nil && !wanted {
			cancel(errAsked)
			return
		}
	}
}

// passedWithin is how long a proof waits for a run of a feed.
const passedWithin = 60 * time.Second

// passed waits until a run of a feed has ended that began after the call.
func (r *Runner) passed(name string) func(context.Context) (bool, error) {
	return func(ctx context.Context) (bool, error) {
		since, err := r.store.Now(ctx)
		for until := time.Now().Add(passedWithin); err == nil && time.Now().Before(until); {
			var ended bool
			if ended, err = r.store.RunEndedSince(ctx, name, since); err != nil || ended {
				return ended, err
			}
			select {
			case <-ctx.Done():
				return false, ctx.Err()
			case <-time.After(watchEvery):
			}
		}
		return false, err
	}
}

// idle tells whether nothing of a feed is read but when a person asks for it.
func idle(f *feed.Feed, active bool) bool {
	_, scheduled := f.Next(time.Now())
	return !active || !scheduled
}
