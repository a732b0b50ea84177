package jobs

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/words"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/statement"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// A feed that follows its source without pause does so in runs of this length, so that
// the work can pass to another process and the records stay readable. To begin one takes
// some milliseconds for each table, in which nothing is followed; where nothing happens it goes on for longer.
const (
	followFor     = time.Minute
	stillFor      = 9 * time.Minute
	followOfTable = 100 * time.Millisecond
)

// While a feed follows, its state is kept this often, and what its source retains for it
// is measured this often.
const (
	firstNote    = 200 * time.Millisecond
	noteEvery    = time.Second
	measureEvery = 5 * time.Second
	measureStill = 15 * time.Second // where nothing happens
	placeEvery   = 5 * time.Second  // where nothing happens
)

// following is one run of a feed that follows a log.
type following struct {
	*feedWork
	feed *feed.Feed // with the tables that follow

	began    time.Time
	noted    map[string]store.Effort // what was added to the tables' state
	measured time.Time
	placed   time.Time
	counted  map[string]bool
	copying  map[string]bool // of which a copy was noted
	applied  int64
	last     engine.LogReport // what was recorded last

	mu     sync.Mutex
	latest engine.LogReport // what the engine has said last
	stirs  bool             // something has happened since stillness was looked for last
}

// follow runs a feed that follows a log. What it reports is recorded beside it, so that
// records that are slow or away hold nothing up.
func (w *feedWork) follow(ctx context.Context, f *feed.Feed, until <-chan struct{}) (rows.Books, error) {
	x := &following{feedWork: w, feed: f, began: time.Now(), noted: map[string]store.Effort{},
		counted: map[string]bool{}, copying: map[string]bool{}}
	kept := context.WithoutCancel(ctx)
	var made statements
	recording := statement.With(ctx, made.add)
	x.save(kept, "running", nil)
	err := x.copyAgain(recording)
	if err == nil {
		wait, follows := f.Fresh()
		if paced, is := w.wh.(warehouse.Paced); is {
			wait = max(wait, paced.Pace())
		}
		log := engine.LogWork{Feed: f, Run: w.run, Source: w.src, Warehouse: w.wh, Keys: w.databases.Keys(ctx),
			Wait: wait, Heavy: w.heavy, Report: x.hear}
		if follows && w.scheduled {
			log.Until = until
		}
		defer x.stays(ctx)()
		ended, recorded := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(recorded)
			x.recordAll(kept, ended)
		}()
		var report engine.LogReport
		report, err = w.engine.Follow(recording, log)
		x.hear(report)
		close(ended)
		<-recorded
	}
	state := "done"
	switch {
	case problem.Is(err, problem.Stopped), context.Cause(ctx) != nil:
		state = "stopped"
	case waits(err):
		state = "waited"
	case err != nil:
		state = "failed"
	}
	x.end(kept, err)
	x.save(kept, state, err)
	w.record.statements(ctx, w.run, "", made.list())
	for _, t := range x.last.Tables {
		w.measure(engine.Work{Feed: f, Table: feed.Table{Table: t.Table}},
			engine.Outcome{Books: t.Books, Spent: t.Spent})
	}
	x.sayAll(kept)
	n, stated := made.atSource()
	w.record.effort(kept, f.Name, "", w.run, store.Effort{Statements: n, Stated: stated})
	return x.sum(), err
}

// stays has the run go on for longer while it is still: no table has changed, none is copied or held, and the feed's
// patterns stand for the tables that they stood for. The function that it gives ends that.
func (x *following) stays(ctx context.Context) (end func()) {
	if len(x.feedWork.feed.Others().Tables) > 0 { // which are read at their own times
		return func() {}
	}
	choices := func() string {
		ctx, cancel := context.WithTimeout(ctx, choicesWithin)
		defer cancel()
		tables, views, err := engine.Choices(ctx, x.file, x.src)
		if err != nil {
			return err.Error() // which is not what it was
		}
		return fmt.Sprint(tables, views)
	}
	before := choices()
	x.still.Store(x.run, func() bool {
		x.mu.Lock()
		still := !x.stirs && !slices.ContainsFunc(x.latest.Tables, func(t engine.TableReport) bool {
			return t.State != warehouse.Following
		})
		x.stirs = false
		x.mu.Unlock()
		return still && choices() == before
	})
	return func() { x.still.Delete(x.run) }
}

// choicesWithin is how long a source may take to list its tables.
const choicesWithin = 5 * time.Second

// hear takes what the engine reports.
func (x *following) hear(l engine.LogReport) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.stirs = x.stirs || l.Commits != x.latest.Commits
	x.latest = l
}

// recordAll keeps what was heard, once a second, until the run has ended, and then once more.
func (x *following) recordAll(ctx context.Context, ended <-chan struct{}) {
	wait := firstNote
	for over := false; !over; wait = noteEvery {
		select {
		case <-ended:
			over = true
		case <-time.After(wait):
		}
		if err := problem.Guarded(func() error {
			within := recordWithin + time.Duration(len(x.feed.Tables))*recordOfTable
			ctx, cancel := context.WithTimeout(ctx, within)
			defer cancel()
			x.note(ctx, over)
			return nil
		})(); err != nil {
			slog.Error("A run was not recorded.", "run", x.run, "error", err)
		}
	}
}

// sum adds up the books of all tables.
func (x *following) sum() (sum rows.Books) {
	for _, t := range x.last.Tables {
		sum = sum.Add(t.Books)
	}
	return sum
}

// copyAgain does what a person has asked for.
func (x *following) copyAgain(ctx context.Context) error {
	tables, asked, err := x.store.Copies(ctx, x.feed.Name)
	if err != nil || !asked {
		return err
	}
	if err := engine.CopyAgain(ctx, x.feed, tables, x.src, x.wh); err != nil {
		return err
	}
	return x.store.EndCopies(ctx, x.feed.Name)
}

// note records what was heard last, and tells whoever listens if anything has happened.
func (x *following) note(ctx context.Context, over bool) {
	x.mu.Lock()
	l := x.latest
	x.mu.Unlock()
	if len(l.Tables) == 0 {
		return
	}
	before := map[string]engine.TableReport{}
	for _, t := range x.last.Tables {
		before[t.Table] = t
	}
	x.last = l
	var moved []engine.TableReport
	for _, t := range l.Tables {
		if was := before[t.Table]; was.State != t.State || was.Books != t.Books || was.Copied != t.Copied ||
			was.Waiting != t.Waiting ||
			problem.Of(was.Trouble) != problem.Of(t.Trouble) {
			moved = append(moved, t)
		}
	}
	x.noteTables(ctx, moved, nil)
	if len(moved) > 0 || time.Since(x.placed) > placeEvery {
		x.placed = time.Now()
		x.record.place(ctx, x.feed.Name, x.run, l.Position, l.CompleteAt)
	}
	if since := time.Since(x.measured); over || since > measureStill || since > measureEvery && len(moved) > 0 {
		x.measured = time.Now()
		x.sample(ctx)
	}
	for _, t := range moved {
		x.sayState(ctx, before[t.Table], t)
		if was := before[t.Table]; was.State == t.State && was.Books == t.Books && was.Copied == t.Copied {
			continue
		}
		phase := "following"
		if t.State != warehouse.Following {
			phase = "copying"
		}
		x.record.progress(ctx, x.feed.Name, x.run, t.Table, phase, max(t.Books.Read, t.Copied), t.Expected)
	}
	if len(moved) > 0 {
		x.saveTables(ctx, moved, "running", nil)
		x.record.books(ctx, x.run, x.sum())
	}
}

// noteTables adds what has happened since the last time to the tables' state.
func (x *following) noteTables(ctx context.Context, tables []engine.TableReport, failure error) {
	for _, t := range tables {
		was := x.noted[t.Table]
		now := store.Effort{Books: t.Books, Bytes: t.Bytes, Reading: t.Reading, Writing: t.Writing}
		delta := rows.Books{Read: now.Books.Read - was.Books.Read, SetAside: now.Books.SetAside - was.Books.SetAside,
			Inserted: now.Books.Inserted - was.Books.Inserted, Updated: now.Books.Updated - was.Books.Updated,
			Deleted: now.Books.Deleted - was.Books.Deleted}
		x.noted[t.Table] = now
		x.applied += delta.Read
		x.record.effort(ctx, x.feed.Name, t.Table, x.run, store.Effort{Books: delta, Bytes: now.Bytes - was.Bytes,
			Reading: now.Reading - was.Reading, Writing: now.Writing - was.Writing})
		result := store.TableResult{CompleteAt: x.last.CompleteAt, Books: delta, Key: t.Target.Key, Failure: failure}
		var copying *records.CopyStatus
		switch t.State {
		case warehouse.Following:
			result.Position = x.last.Position
		case warehouse.Held: // it stays where it was
			x.record.failure(ctx, x.feed.Name, t.Table, x.run, t.Trouble)
			x.record.copying(ctx, x.feed.Name, t.Table, x.run, nil)
			continue
		default:
			copying = &records.CopyStatus{State: string(t.State), Copied: t.Copied, Expected: t.Expected,
				Waiting: t.Waiting}
		}
		if copying == nil && !x.counted[t.Table] {
			x.counted[t.Table] = x.record.counted(ctx, x.feed.Name, t.Table)
		}
		if copying == nil && !x.counted[t.Table] {
			if n, err := x.wh.Count(statement.With(ctx, func(statement.Statement) {}), t.Target); err == nil {
				result.Count, x.counted[t.Table] = &n, true
			}
		}
		x.record.table(ctx, x.feed.Name, t.Table, x.run, result)
		if was, known := x.copying[t.Table]; copying != nil || was || !known {
			x.record.copying(ctx, x.feed.Name, t.Table, x.run, copying)
			x.copying[t.Table] = copying != nil
		}
	}
}

// sample measures what the source retains.
func (x *following) sample(ctx context.Context) {
	warn, stop := x.feed.Levels()
	l := records.LogStatus{Position: x.last.Position, Warn: warn, Stop: stop, MeasuredAt: time.Now().UTC()}
	if !x.last.CompleteAt.IsZero() {
		at := x.last.CompleteAt.UTC()
		l.CompleteAt = &at
	}
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if log, follows := x.src.(source.Log); follows && x.last.Name != "" {
		if state, err := log.LogState(limited, x.last.Name, x.last.Position); err == nil {
			l.Behind, l.Retained = state.Behind, state.Retained
		}
	}
	l.Risk = l.Retained > warn
	x.record.log(ctx, x.feed.Name, x.run, l, x.applied)
	x.applied = 0
}

// end keeps the tables' state at the end of a run.
func (x *following) end(ctx context.Context, failure error) {
	if problem.Is(failure, problem.Stopped) || waits(failure) {
		failure = nil // it was not the feed's fault
	}
	if len(x.last.Tables) == 0 { // it failed before it knew the tables
		for _, t := range x.feed.Tables {
			x.record.failure(ctx, x.feed.Name, t.Table, x.run, failure)
		}
		return
	}
	x.noteTables(ctx, x.last.Tables, failure)
}

// save keeps what the run did to each table.
func (x *following) save(ctx context.Context, state string, failure error) {
	reports := slices.Clone(x.last.Tables)
	for _, t := range x.feed.Tables {
		if !slices.ContainsFunc(reports, func(r engine.TableReport) bool { return r.Table == t.Table }) {
			reports = append(reports, engine.TableReport{Table: t.Table})
		}
	}
	x.saveTables(ctx, reports, state, failure)
}

// saveTables keeps what the run did to some tables.
func (x *following) saveTables(ctx context.Context, tables []engine.TableReport, state string, failure error) {
	for _, r := range tables {
		t, ok := x.feed.Table(r.Table)
		if !ok {
			continue
		}
		d := records.RunTable{Table: t.Table, State: state, StartedAt: &x.began, Notes: []string{},
			Books: r.Books, Bytes: r.Bytes, Reading: r.Reading.Seconds(),
			Shaping: r.Shaping.Seconds(), Writing: r.Writing.Seconds(), To: x.last.Position, Commits: int(x.last.Commits),
			Problem: records.NewProblem(failure)}
		if target, err := x.feed.TargetOf(t); err == nil {
			d.Target = target.Display()
		}
		if r.State == warehouse.Held {
			d.State, d.To, d.Problem = string(warehouse.Held), "", records.NewProblem(r.Trouble)
		} else if r.State != "" && r.State != warehouse.Following {
			d.Notes = append(d.Notes, fmt.Sprintf("The table is being copied: %d rows have come in.", r.Copied))
			if r.Waiting != "" {
				d.Notes = append(d.Notes, "Before the copy, "+r.Waiting+".")
			}
		}
		if state != "running" {
			now := time.Now()
			d.EndedAt = &now
		}
		x.record.tableOfRun(ctx, x.run, x.place(t.Table), d)
	}
}

// sayState says what has become of a table that is copied, or held.
func (x *following) sayState(ctx context.Context, was, is engine.TableReport) {
	e := records.LogEntry{Feed: x.feed.Name, Run: x.run, Table: is.Table, Level: records.LevelInfo}
	switch {
	case was.State == is.State && was.Waiting == is.Waiting:
		return
	case is.State == warehouse.Held:
		p := problem.Of(is.Trouble)
		e.Level, e.What, e.Remedy = records.LevelError, "The table is held: "+p.What, p.Remedy
	case is.State == warehouse.Following && was.State == "":
		return // as before this run
	case is.State == warehouse.Following:
		e.What = "The copy is complete; from here on the table follows the log."
	case is.Waiting != "":
		e.What = "Before the copy, " + is.Waiting + "."
	case is.State == warehouse.Copying:
		e.What = fmt.Sprintf("The table is copied: about %s.", words.Plural(is.Expected, "row"))
	default:
		e.What = fmt.Sprintf("%s were copied; they are merged when the log has come to the moment they were read at.",
			words.Plural(is.Copied, "row"))
	}
	x.record.say(ctx, e)
}

// sayAll says what a run has applied to each table.
func (x *following) sayAll(ctx context.Context) {
	for _, t := range x.last.Tables {
		if t.Books.Read > 0 {
			x.record.say(ctx, records.LogEntry{Feed: x.feed.Name, Run: x.run, Table: t.Table, Level: records.LevelInfo,
				What: fmt.Sprintf("Applied %s, %s, up to %s: %s; %s.", words.Plural(t.Books.Read, "change"), words.Size(t.Bytes),
					x.last.Position,
					said(t.Books), took(t.Spent))})
		}
	}
}

// statements gathers what a run has made. A run that follows a log makes the same ones
// again and again, so those that are alike are kept once, with their number.
type statements struct {
	mu    sync.Mutex
	order []string
	kept  map[string]*statement.Statement
	times map[string]int
}

// atSource tells how many were made at the source, and how long they took.
func (s *statements) atSource() (n int64, took time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []statement.Statement
	for _, x := range s.kept {
		list = append(list, *x)
	}
	return atSource(list, func(x statement.Statement) int64 { return int64(s.times[x.Side+x.SQL+x.Error]) })
}

// mostStatements is how many statements that differ are kept of a run.
const mostStatements = 1000

func (s *statements) add(x statement.Statement) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept == nil {
		s.kept, s.times = map[string]*statement.Statement{}, map[string]int{}
	}
	key := x.Side + x.SQL + x.Error
	if known := s.kept[key]; known != nil {
		known.Rows += x.Rows
		known.Took += x.Took
		s.times[key]++
		return
	}
	if len(s.order) < mostStatements {
		s.order, s.kept[key], s.times[key] = append(s.order, key), &x, 1
	}
}

func (s *statements) list() []statement.Statement {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []statement.Statement
	for _, key := range s.order {
		x := *s.kept[key]
		if n := s.times[key]; n > 1 {
			x.SQL += fmt.Sprintf("\n-- %d times in this run", n)
		}
		out = append(out, x)
	}
	return out
}

// measureLogs looks after the logs of feeds that do not run: what the source retains for
// them grows, and beyond the level at which a feed is to stop it is let go.
func (r *Runner) measureLogs(ctx context.Context) error {
	all, err := r.store.Feeds(ctx, "")
	if err != nil {
		return err
	}
	for _, status := range all {
		if status.Running != nil || status.Log == nil {
			continue
		}
		if f, err := r.store.Feed(ctx, status.Name); err == nil && f.FollowsLog() {
			r.measureLog(ctx, f, *status.Log)
		}
	}
	return nil
}

func (r *Runner) measureLog(ctx context.Context, f *feed.Feed, l records.LogStatus) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	src, wh, err := r.databases.Of(ctx, f)
	if err == nil {
		err = r.here(ctx, f.Warehouse, wh)
	}
	if err != nil {
		return // another process does it, or the next run tells why
	}
	state, ok, err := engine.LogStateOf(ctx, f, src, wh)
	if err != nil || !ok {
		return // the next run tells why
	}
	l.Warn, l.Stop = f.Levels()
	l.Behind, l.Retained, l.MeasuredAt, l.Risk = state.Behind, state.Retained, time.Now().UTC(), state.Retained > l.Warn
	if err := r.store.NoteLog(ctx, f.Name, l, 0); err != nil {
		slog.Error("The state of a log was not recorded.", "feed", f.Name, "error", err)
	}
	if l.Stop > 0 && state.Retained > l.Stop {
		slog.Warn("The log that a source retains has passed the feed's stop level; the source keeps nothing more.",
			"feed", f.Name, "bytes", state.Retained)
		if err := engine.LetGo(ctx, f, src, wh); err != nil {
			slog.Error("The source still retains its log.", "feed", f.Name, "error", err)
		}
	}
}
