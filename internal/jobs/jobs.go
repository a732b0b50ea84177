// Package jobs decides when feeds run and runs them.
//
// Each feed is one River job, which is worked again and again: between runs it
// sleeps until the next is due. Several processes can share the work; a job whose
// process is gone goes to another one within seconds. Two workers of one feed do no
// harm, because only one of them can move a position.
package jobs

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/opened"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/statement"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// At one time a process works on this many feeds, which is as many as there may be, since
// sources have slots of their own; and on this many tables of each.
const (
	feedsAtOnce  = 5000
	tablesAtOnce = 2
)

// feedJob is the job of one feed.
type feedJob struct {
	Feed string `json:"feed"`
}

// Kind is the job's name in River's table.
func (feedJob) Kind() string { return "feed" }

// InsertOpts let a feed have one job only.
func (feedJob) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateRunning,
		rivertype.JobStateScheduled}}}
}

// Runner schedules feeds and works on them.
type Runner struct {
	self      records.Process // this process
	store     *store.Store
	databases *opened.Databases
	events    *Events
	record    recorder
	engine    *engine.Engine
	river     *river.Client[pgx.Tx]
	cancel    context.CancelFunc
	done      sync.WaitGroup

	slots    slots
	wishes   wishes
	still    sync.Map // by run: a function that tells whether nothing has happened in it, func() bool
	derivers derivers
	stopping chan struct{} // closed by Stop

	mu      sync.Mutex
	drifts  map[string]time.Time // when it was looked for drift, by feed
	leaving chan struct{}        // closed while this process is to take up no more work

	runs  *prometheus.CounterVec
	rows  *prometheus.CounterVec
	bytes *prometheus.CounterVec
	spent *prometheus.CounterVec
}

// ID is what the process is called.
func (r *Runner) ID() string { return r.self.ID }

// New makes a Runner; Start starts it. The process tells others by self where it runs; its name is filled in.
func New(s *store.Store, l *opened.Databases, e *Events, registry prometheus.Registerer, self records.Process) (*Runner,
	error) {
	self.ID = strings.ToLower(rand.Text()[:10])
	r := &Runner{self: self, store: s, databases: l, events: e, record: recorder{s, e}, engine: engine.New(),
		wishes: wishes{store: s}, drifts: map[string]time.Time{},
		stopping: make(chan struct{}), leaving: make(chan struct{}),
		runs: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "noemata_runs_total",
			Help: "Runs that ended, by feed and state."}, []string{"feed", "state"}),
		rows: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "noemata_rows_total",
			Help: "Rows by feed, table and what became of them; read is their sum."},
			[]string{"feed", "table", "outcome"}),
		bytes: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "noemata_bytes_total",
			Help: "Bytes of the rows that were read, by feed and table."}, []string{"feed", "table"}),
		spent: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "noemata_seconds_total",
			Help: "Time spent by feed, table and side, in seconds."}, []string{"feed", "table", "side"}),
	}
	registry.MustRegister(r.runs, r.rows, r.bytes, r.spent, feedMetrics{s})
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{runner: r})
	river.AddWorker(workers, &provingWorker{runner: r})
	var err error
	r.river, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID: r.self.ID, Workers: workers, Queues: map[string]river.QueueConfig{
			river.QueueDefault: {MaxWorkers: feedsAtOnce}, ownFeeds + self.ID: {MaxWorkers: feedsAtOnce},
			provingQueue: {MaxWorkers: provingAtOnce}, ownProofs + self.ID: {MaxWorkers: provingAtOnce}},
		JobTimeout: -1, RescueStuckJobsAfter: 365 * 24 * time.Hour, // recover is quicker and knows better
		FetchPollInterval: 500 * time.Millisecond, FetchCooldown: 50 * time.Millisecond,
		Logger: slog.New(slog.DiscardHandler),
	})
	if err != nil {
		return nil, fmt.Errorf("prepare the job queue: %w", err)
	}
	return r, nil
}

// Start begins to work. Jobs that other processes left unfinished are taken over.
func (r *Runner) Start(ctx context.Context) error {
	ctx, r.cancel = context.WithCancel(ctx)
	alive := make(chan struct{})
	r.done.Go(func() { r.stayAlive(ctx, alive) })
	select {
	case <-alive:
	case <-time.After(10 * time.Second):
		return problem.New(problem.Unreachable, "The database for the records did not answer.", "Check that it runs.")
	}
	if err := r.recover(ctx); err != nil {
		return err
	}
	if err := r.river.Start(ctx); err != nil {
		return fmt.Errorf("start the job queue: %w", err)
	}
	if err := r.enqueueAll(ctx); err != nil {
		return err
	}
	r.done.Go(func() { r.keepHouse(ctx) })
	r.done.Go(func() { r.repeat(ctx, 10*time.Second, "Asking for proofs", r.askAll) })
	r.done.Go(func() { r.repeat(ctx, lookForDerived, "Looking for derived tables", r.deriveAll) })
	r.done.Go(func() { r.repeat(ctx, 30*time.Second, "Measuring the logs that sources retain", r.measureLogs) })
	r.done.Go(func() { r.repeat(ctx, keepUpEvery, "The upkeep of warehouses", r.keepUp) })
	r.done.Go(func() {
		r.repeat(ctx, 10*time.Minute, "Pruning the records", r.store.Prune)
	})
	return nil
}

// repeat does something again and again, now first. What fails is tried the next time.
func (r *Runner) repeat(ctx context.Context, every time.Duration, what string, work func(context.Context) error) {
	for {
		if err := problem.Guarded(func() error { return work(ctx) })(); err != nil && ctx.Err() == nil {
			slog.Warn(what+" failed; it is tried again.", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
	}
}

// Stop gives up the runs that go on: what they have not committed is rolled back.
func (r *Runner) Stop(ctx context.Context) {
	close(r.stopping)
	_ = r.river.StopAndCancel(ctx)
	if r.cancel != nil {
		r.cancel()
	}
	r.done.Wait()
}

// enqueueAll makes sure that each feed that should run has its job.
func (r *Runner) enqueueAll(ctx context.Context) error {
	wanted, err := r.store.FeedsWithoutJob(ctx)
	if err != nil {
		return err
	}
	for name, queued := range wanted {
		if queued {
			err = r.wake(ctx, name)
		} else {
			_, err = r.river.Insert(ctx, feedJob{Feed: name}, nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (r *Runner) keepHouse(ctx context.Context) {
	for tick := 0; ; tick++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second):
		}
		err := r.recover(ctx)
		if err == nil && tick%2 == 0 {
			err = r.enqueueAll(ctx)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("Housekeeping failed; trying again.", "error", err)
		}
	}
}

// Wake makes a feed's job due now: a run was queued, or the feed has changed.
func (r *Runner) Wake(ctx context.Context, feed string) error {
	r.events.Send(ctx, records.Event{Kind: "feed", Feed: feed})
	return r.wake(ctx, feed)
}

func (r *Runner) wake(ctx context.Context, feed string) error {
	result, err := r.river.Insert(ctx, feedJob{Feed: feed}, nil)
	if err != nil {
		return err
	}
	switch {
	case !result.UniqueSkippedAsDuplicate:
	case result.Job.State == rivertype.JobStateScheduled:
		_, err = r.river.JobRetry(ctx, result.Job.ID)
	case result.Job.State == rivertype.JobStateRunning:
		r.done.Go(func() { r.wakeAfter(context.WithoutCancel(ctx), feed) })
	}
	return err
}

// wakeAfter wakes a feed whose job was running when it was woken: it may have looked
// for queued runs for the last time already.
func (r *Runner) wakeAfter(ctx context.Context, feed string) {
	for range 10 {
		select {
		case <-r.stopping:
			return
		case <-time.After(150 * time.Millisecond):
		}
		if queued, err := r.store.HasQueuedRun(ctx, feed); err != nil || !queued {
			return
		}
		result, err := r.river.Insert(ctx, feedJob{Feed: feed}, nil)
		if err == nil && result.UniqueSkippedAsDuplicate && result.Job.State == rivertype.JobStateScheduled {
			_, err = r.river.JobRetry(ctx, result.Job.ID)
		}
		if err != nil {
			return // housekeeping comes round within seconds
		}
	}
}

type worker struct {
	river.WorkerDefaults[feedJob]
	runner *Runner
}

// Work runs the feed if a run is queued or due, and sleeps until the next.
func (w *worker) Work(ctx context.Context, job *river.Job[feedJob]) error {
	r, name := w.runner, job.Args.Feed
	for {
		active, next, _, err := r.store.Schedule(ctx, name)
		if problem.Is(err, problem.NotFound) {
			return nil
		}
		if err != nil {
			return later(name, err)
		}
		f, err := r.store.Feed(ctx, name)
		if err != nil {
			return later(name, err)
		}
		if r.elsewhere(ctx, f, job.ID, ownFeeds) || r.isLeaving() {
			return river.JobSnooze(0)
		}
		backfillAt, backfills, err := r.backfillDue(ctx, f)
		if err != nil {
			return later(name, err)
		}
		due := ""
		switch {
		case active && (next == nil || !next.After(time.Now())):
			due = scheduledRun
		case backfills && !backfillAt.After(time.Now()):
			due = backfillRun
		}
		id, err := r.store.BeginRun(ctx, name, r.self.ID, due)
		if err != nil {
			return later(name, err)
		}
		if id != 0 {
			r.run(ctx, name, id)
			if ctx.Err() != nil {
				return river.JobSnooze(0)
			}
			if queued, err := r.store.HasQueuedRun(ctx, name); err == nil && queued {
				continue
			}
			if active, next, _, err = r.store.Schedule(ctx, name); err == nil {
				backfillAt, backfills, err = r.backfillDue(ctx, f)
			}
			if err != nil {
				return later(name, err)
			}
		}
		if backfills && (!active || next == nil || backfillAt.Before(*next)) {
			active, next = true, &backfillAt
		}
		return r.sleep(active, next)
	}
}

// later comes back to a feed whose schedule could not be read or kept.
func later(feed string, err error) error {
	slog.Warn("The schedule of a feed cannot be read; trying again.", "feed", feed, "error", err)
	return river.JobSnooze(2 * time.Second)
}

func (r *Runner) sleep(active bool, next *time.Time) error {
	if !active || next == nil {
		return nil // the job ends; Wake makes another
	}
	return river.JobSnooze(max(time.Until(*next), 0))
}

// run works on all tables of a feed. A table that fails does not stop the others.
func (r *Runner) run(ctx context.Context, name string, id int64) {
	kept := context.WithoutCancel(ctx) // records are written even when the run is stopped
	r.events.Send(kept, records.Event{Kind: "run", Feed: name, Run: id, State: "running"})
	running, until, release := r.watch(ctx, name, id)
	var books rows.Books
	trigger := scheduledRun
	err := problem.Guarded(func() error {
		run, err := r.store.Run(running, id)
		if err != nil {
			return err
		}
		trigger = run.Trigger
		if trigger != scheduledRun {
			r.sayBegun(kept, name, run)
		}
		books, err = r.runTables(running, name, run, until)
		return err
	})()
	cause := context.Cause(running)
	release()
	state := "done"
	switch {
	case cause != nil:
		state = "stopped"
		err = problem.New(problem.Stopped, "The run was stopped before its end.",
			"What was committed stays; the next run goes on from there.")
		if errors.Is(cause, errAsked) {
			err = problem.New(problem.Stopped, "A person has stopped the run.",
				"What was committed stays; the next run goes on from there.")
		}
	case waits(err):
		state = "waited"
	case err != nil:
		state = "failed"
	}
	if errors.Is(cause, errGone) {
		return
	}
	r.sayEnded(ctx, name, id, state, books, err)
	r.record.end(ctx, id, state, books, err)
	if trigger != backfillRun {
		r.scheduleNext(kept, name, id, state, errors.As(err, new(readFailed)))
	}
	r.runs.WithLabelValues(name, state).Inc()
	if err != nil {
		slog.Warn("A run did not succeed.", "feed", name, "run", id, "state", state, "error", err)
		var fault *problem.Panic
		if errors.As(err, &fault) {
			slog.Error("A fault of the service ended a run.", "feed", name, "run", id, "stack", string(fault.Stack))
		}
	}
	r.events.Send(kept, records.Event{Kind: "run", Feed: name, Run: id, State: state})
}

// waits tells whether a run met another worker, a repair or a person at work, and only comes again.
func waits(err error) bool {
	return problem.Is(err, problem.Busy) || problem.Is(err, problem.Overtaken)
}

// After a failure the next run is not before four seconds, and the pause doubles with each
// one, up to five minutes. Whoever waits for another program looks again soon.
const (
	firstPause = 4 * time.Second
	mostPause  = 5 * time.Minute
	busyPause  = 5 * time.Second
)

// scheduleNext sets the time of the next run. goes tells that the log is followed on, whatever else
// has failed.
func (r *Runner) scheduleNext(ctx context.Context, name string, run int64, state string, goes bool) {
	err := func() error {
		f, err := r.store.Feed(ctx, name)
		if problem.Is(err, problem.NotFound) {
			return nil // removed meanwhile
		}
		if err != nil {
			return err
		}
		_, _, failures, err := r.store.Schedule(ctx, name)
		if err != nil {
			return err
		}
		at, scheduled := f.Running().Next(time.Now())
		if !scheduled {
			return r.store.SetNextRun(ctx, name, nil)
		}
		if !goes {
			at = afterFailures(at, f.Cron != "", failures, time.Now())
		}
		if state == "waited" {
			at = time.Now().Add(busyPause)
		}
		if state == "failed" {
			r.sayNext(ctx, name, run, at, failures)
		}
		return r.store.SetNextRun(ctx, name, &at)
	}()
	if err != nil {
		slog.Error("The next run was not scheduled.", "feed", name, "error", err)
	}
}

// afterFailures is when a feed that has failed so often in a row runs next. A time of day
// is far away, so it is tried again before.
func afterFailures(next time.Time, cron bool, failures int, now time.Time) time.Time {
	if failures == 0 {
		return next
	}
	again := now.Add(min(firstPause<<min(failures-1, 10), mostPause))
	if cron == again.Before(next) {
		return again
	}
	return next
}

// chosen is a feed with the tables that its patterns stand for now.
func (r *Runner) chosen(ctx context.Context, file *feed.Feed, before []schema.Name, id int64, src source.Source,
	wh warehouse.Warehouse) (*feed.Feed, error) {
	now := before
	if file.HasPatterns() {
		others := func() (map[schema.Name]string, error) { return r.store.Targets(ctx, file) }
		var err error
		if now, err = engine.Chosen(ctx, file, before, others, id, src, wh); err != nil {
			return nil, err
		}
		if !slices.Equal(now, before) {
			if err := r.store.SaveFound(ctx, file, now); err != nil {
				return nil, err
			}
		}
	}
	f, _ := file.Resolve(now)
	return f, nil
}

// rest is a run of a feed whose patterns stand for no table: where it follows without pause, it
// waits as long as others would follow, and then they are looked at again.
func (r *Runner) rest(ctx context.Context, f *feed.Feed, run records.Run, until <-chan struct{}) error {
	if _, follows := f.Fresh(); !follows || run.Trigger != scheduledRun {
		return nil
	}
	select {
	case <-until:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (r *Runner) runTables(ctx context.Context, name string, run records.Run, until <-chan struct{}) (rows.Books,
	error) {
	file, before, err := r.store.FeedFile(ctx, name)
	if err != nil {
		return rows.Books{}, err
	}
	src, wh, err := r.databases.Of(ctx, file)
	if err == nil {
		err = r.here(ctx, file.Warehouse, wh)
	}
	if err != nil {
		return rows.Books{}, err
	}
	defer r.noteDrift(ctx, name, wh)
	f, err := r.chosen(ctx, file, before, run.ID, src, wh)
	if err != nil {
		return rows.Books{}, err
	}
	if f = f.Running(); len(f.Tables) == 0 {
		return rows.Books{}, errors.Join(engine.Unfollow(ctx, f, src, wh), r.rest(ctx, f, run, until))
	}
	heavy, err := r.heavy(ctx, file.Source)
	if err != nil {
		return rows.Books{}, err
	}
	w := &feedWork{Runner: r, file: file, feed: f, heavy: heavy, run: run.ID, scheduled: run.Trigger == scheduledRun,
		src: src, wh: wh,
		read: map[string]rows.Books{}}
	if run.Trigger == backfillRun {
		return w.backfill(ctx, w.untilNext(ctx, until))
	}
	return w.parts(ctx, until)
}

// runTable runs one table, for which the source was waited for so long, and keeps what there is to know about it.
func (r *Runner) runTable(ctx context.Context, w engine.Work, place int, waited time.Duration) (rows.Books, error) {
	out, err := r.recorded(ctx, w, place, records.RunTable{Notes: []string{}, Waiting: waited.Seconds()}, r.engine.Run)
	r.note(ctx, w, out, err)
	return out.Books, err
}

// recorded does work on one table, and keeps what a run has done to it beyond what is known before.
func (r *Runner) recorded(ctx context.Context, w engine.Work, place int, detail records.RunTable,
	do func(context.Context, engine.Work) (engine.Outcome, error)) (engine.Outcome, error) {
	began := time.Now()
	detail.Table, detail.State, detail.StartedAt = w.Table.Table, "running", &began
	if target, err := w.Feed.TargetOf(w.Table); err == nil {
		detail.Target = target.Display()
	}
	r.record.tableOfRun(ctx, w.Run, place, detail)
	w.Progress = r.progress(ctx, w)
	var mu sync.Mutex
	var made []statement.Statement
	out, err := do(statement.With(ctx, func(s statement.Statement) {
		mu.Lock()
		defer mu.Unlock()
		made = append(made, s)
	}), w)
	ended := time.Now()
	detail.State = "done"
	if err != nil {
		detail.State = "failed"
		if problem.Is(err, problem.Stopped) {
			detail.State = "stopped"
		}
	}
	detail.Books = detail.Books.Add(out.Books)
	detail.From, detail.To = out.From.Position.String(), out.To.Position.String()
	detail.Low, detail.High = out.Window.Low.String(), out.Window.High
	detail.Commits, detail.Bytes = out.Commits, out.Bytes
	detail.Reading, detail.Shaping, detail.Writing = out.Reading.Seconds(), out.Shaping.Seconds(), out.Writing.Seconds()
	detail.Notes, detail.EndedAt, detail.Problem = append(detail.Notes, out.Notes...), &ended, records.NewProblem(err)
	r.record.statements(ctx, w.Run, w.Table.Table, made)
	r.record.tableOfRun(ctx, w.Run, place, detail)
	r.record.sayTable(ctx, w.Feed.Name, w.Run, w.Table.Table, out, err)
	n, stated := atSource(made, func(statement.Statement) int64 { return 1 })
	r.record.effort(ctx, w.Feed.Name, w.Table.Table, w.Run,
		store.Effort{Books: out.Books, Bytes: out.Bytes, Reading: out.Reading,
			Writing: out.Writing, Statements: n, Stated: stated})
	r.record.progress(ctx, w.Feed.Name, w.Run, w.Table.Table, records.PhaseDone, out.Books.Read, 0)
	r.measure(w, out)
	return out, err
}

// note updates the table's state. Rows in the warehouse are counted when they have
// not been before, and kept by the books from then on.
func (r *Runner) note(ctx context.Context, w engine.Work, out engine.Outcome, failure error) {
	result := store.TableResult{Position: out.To.Position.String(), CompleteAt: out.CompleteAt, Nulls: out.Nulls,
		Books: out.Books, Key: out.Target.Key, Failure: failure}
	if out.Target.Name.Table != "" && !r.record.counted(ctx, w.Feed.Name, w.Table.Table) {
		if n, err := w.Warehouse.Count(ctx, out.Target); err == nil {
			result.Count = &n
		}
	}
	if problem.Is(failure, problem.Stopped) || problem.Is(failure, problem.Overtaken) {
		result.Failure = nil // it was not the table's fault
	}
	r.record.table(ctx, w.Feed.Name, w.Table.Table, w.Run, result)
}

// progress sends progress on, four times a second at most.
func (r *Runner) progress(ctx context.Context, w engine.Work) func(engine.Progress) {
	var last time.Time
	var phase string
	return func(p engine.Progress) {
		if time.Since(last) < 250*time.Millisecond && p.Phase == phase {
			return
		}
		last, phase = time.Now(), p.Phase
		r.record.progress(ctx, w.Feed.Name, w.Run, w.Table.Table, p.Phase, p.Read, p.Expected)
	}
}

func (r *Runner) measure(w engine.Work, out engine.Outcome) {
	b := out.Books
	for outcome, n := range map[string]int64{"read": b.Read, "filtered": b.Filtered, "folded": b.Folded,
		"set_aside": b.SetAside, "unchanged": b.Unchanged, "inserted": b.Inserted, "updated": b.Updated,
		"deleted": b.Deleted} {
		r.rows.WithLabelValues(w.Feed.Name, w.Table.Table, outcome).Add(float64(n))
	}
	r.bytes.WithLabelValues(w.Feed.Name, w.Table.Table).Add(float64(out.Bytes))
	r.spent.WithLabelValues(w.Feed.Name, w.Table.Table, "source").Add(out.Reading.Seconds())
	r.spent.WithLabelValues(w.Feed.Name, w.Table.Table, "warehouse").Add(out.Writing.Seconds())
}

// Work finds what is needed to look at one table of a feed.
func (r *Runner) Work(ctx context.Context, name, table string) (engine.Work, error) {
	f, err := r.store.Feed(ctx, name)
	if err != nil {
		return engine.Work{}, err
	}
	t, ok := f.Table(table)
	if !ok {
		return engine.Work{}, problem.Newf(problem.NotFound,
			"Check the name against the feed's tables; write it as schema.table.", "The feed %s has no table %q.", name,
			table)
	}
	src, wh, err := r.databases.Of(ctx, f)
	return engine.Work{Feed: f, Table: t, Source: src, Warehouse: wh, Keys: r.databases.Keys(ctx)}, err
}
