package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"noemata/internal/core/derive"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
	"noemata/internal/records"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Derived tables are made by the process that writes their warehouse, one after another. What is to be made is told from
// the warehouse itself, by the versions that each table was made from: so nothing is forgotten, whoever dies when.

// lookForDerived is how often it is looked for derived tables that are to be made.
const lookForDerived = time.Second

// After its tables were made a warehouse rests for so many times as long as that took. After a failure a table is tried
// again after a pause that doubles from the first to the most: a shorter one when what it reads has changed.
const (
	restAfter         = 2
	firstDerivedPause = 10 * time.Second
	mostChangedPause  = time.Minute
	mostDerivedPause  = 10 * time.Minute
)

// derivers are the warehouses that are looked after.
type derivers struct {
	mu   sync.Mutex
	busy map[string]bool
	seen map[string]glance
	told map[string]time.Time // when it was said last that one cannot be looked at
}

// tellAgain is after how long it is said again that a warehouse cannot be looked at.
const tellAgain = time.Minute

// idle waits until no tables are being made, by a process that begins to make no others.
func (d *derivers) idle(ctx context.Context) {
	for ctx.Err() == nil {
		d.mu.Lock()
		none := len(d.busy) == 0
		d.mu.Unlock()
		if none {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(watchEvery):
		}
	}
}

// glance is what was seen of a warehouse when nothing was left to be made.
type glance struct {
	stamp string
	sets  string
	again time.Time // when something is due by the clock; zero for never
	rests time.Time // until when nothing is made because of commits
}

// deriveAll begins to make what is to be made, a warehouse at a time.
func (r *Runner) deriveAll(ctx context.Context) error {
	if r.isLeaving() {
		return nil
	}
	all, err := r.store.DerivedSets(ctx, "")
	if err != nil {
		return err
	}
	of := map[string][]store.DerivedSet{}
	for _, s := range all {
		of[s.Warehouse] = append(of[s.Warehouse], s)
	}
	d := &r.derivers
	for name, sets := range of {
		d.mu.Lock()
		busy := d.busy[name]
		if !busy {
			if d.busy == nil {
				d.busy, d.seen, d.told = map[string]bool{}, map[string]glance{}, map[string]time.Time{}
			}
			d.busy[name] = true
		}
		d.mu.Unlock()
		if busy {
			continue
		}
		r.done.Go(func() {
			err := problem.Guarded(func() error { return r.deriveIn(ctx, name, sets) })()
			d.mu.Lock()
			defer d.mu.Unlock()
			delete(d.busy, name)
			if err != nil && ctx.Err() == nil && !problem.Is(err, problem.Busy) && time.Since(d.told[name]) > tellAgain {
				d.told[name] = time.Now()
				slog.Warn("Derived tables cannot be looked at; it is tried again.", "warehouse", name, "error", err)
			}
		})
	}
	return nil
}

// setsStamp is another one when sets, or what people want of them, have changed.
func setsStamp(sets []store.DerivedSet) string {
	var b strings.Builder
	for _, s := range sets {
		fmt.Fprint(&b, s.Name, s.AppliedAt.UnixNano(), s.Active)
		for _, t := range s.Tables {
			fmt.Fprint(&b, s.States[t.Table].WantedBy)
		}
	}
	return b.String()
}

// deriveIn makes what is to be made in a warehouse, if this process writes it.
func (r *Runner) deriveIn(ctx context.Context, name string, sets []store.DerivedSet) error {
	ctx, cancel := context.WithCancel(ctx) // the warehouse is used for no longer than this
	defer cancel()
	if at, err := r.store.PlaceOf(ctx, name); err != nil || at.Host != "" && at.Host != r.self.Host {
		return err // a process there makes them
	}
	wh, err := r.databases.Warehouse(ctx, name)
	if err != nil {
		return err
	}
	w, ok := wh.(warehouse.Deriving)
	if !ok {
		return nil // its set was refused, or the warehouse is another now
	}
	if _, there := wh.File(); !there {
		return nil // nothing was brought yet
	}
	stamp, err := w.Stamp(ctx)
	if err != nil {
		return err
	}
	seen := r.derivers.last(name)
	now := time.Now()
	clock := !seen.again.IsZero() && !now.Before(seen.again)
	if seen.sets == setsStamp(sets) && !clock && (seen.stamp == stamp || now.Before(seen.rests)) {
		return nil
	}
	if err := r.here(ctx, name, wh); err != nil {
		return err
	}
	p := &pass{Runner: r, in: w, key: func(n schema.Name) string { return wh.Names().KeyOf(n).Display() }}
	if err := p.make(ctx, sets); err != nil {
		return err
	}
	rests := time.Now().Add(restAfter * time.Since(now))
	r.derivers.note(name, glance{stamp, setsStamp(sets), p.again, rests})
	return nil
}

func (d *derivers) last(name string) glance {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.seen[name]
}

func (d *derivers) note(name string, g glance) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.seen[name] = g
}

// pass looks once at all derived tables of a warehouse.
type pass struct {
	*Runner
	in    warehouse.Deriving
	key   func(schema.Name) string
	again time.Time
}

// derivedTable is one of them.
type derivedTable struct {
	derive.Table
	set   store.DerivedSet
	state store.DerivedState
	reads []string // what a change of makes it another
}

// make makes the tables that are to be made, each after those that it reads.
func (p *pass) make(ctx context.Context, sets []store.DerivedSet) error {
	tables, reads := map[string]derivedTable{}, derive.Reads{}
	for _, s := range sets {
		for _, t := range s.Tables {
			key := p.key(t.Name())
			tables[key] = derivedTable{Table: t, set: s, state: s.States[t.Table]}
			reads[key] = s.States[t.Table].Reads
		}
	}
	order, err := derive.Order(reads)
	if err != nil {
		return err
	}
	made, now, err := p.in.Derived(ctx)
	if err != nil {
		return err
	}
	for _, key := range order {
		t := tables[key]
		t.reads = seenThrough(tables, t.state.Reads)
		tables[key] = t
		var last *derive.Made
		if m, is := made[key]; is {
			last = &m
		}
		due, why := p.due(t, last, now)
		if !due && why == t.state.Why {
			continue
		}
		if !due {
			if err := p.store.NoteDerived(ctx, t.set.Name, t.Table.Table, why); err != nil {
				return err
			}
			continue
		}
		if err := p.one(ctx, t, why, now); err != nil || ctx.Err() != nil || p.isLeaving() {
			return errors.Join(err, ctx.Err())
		}
		if made, now, err = p.in.Derived(ctx); err != nil {
			return err
		}
	}
	return nil
}

// seenThrough are the tables that are read, and those that views among them read: their rows are those of these.
func seenThrough(tables map[string]derivedTable, reads []string) []string {
	all := slices.Clone(reads)
	for _, r := range reads {
		if t, derived := tables[r]; derived && t.Is() == derive.AsView {
			all = append(all, t.reads...) // it comes before
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// later has it looked again at a moment.
func (p *pass) later(at time.Time) {
	if p.again.IsZero() || at.Before(p.again) {
		p.again = at
	}
}

// due tells whether a table is to be made now, and why; or what it waits for.
func (p *pass) due(t derivedTable, last *derive.Made, now map[string]string) (due bool, why string) {
	if t.state.WantedBy != "" {
		return true, t.state.WantedBy + " asked for it"
	}
	for _, input := range t.reads {
		if _, there := now[input]; !there {
			return false, "waits for " + input + ", which is not there yet"
		}
	}
	stale := derive.Stale(t.Table, t.reads, last, now)
	if t.Is() == derive.AsView && len(t.Checks) == 0 && last != nil && last.Definition == t.Definition() {
		return false, "" // it is what it reads
	}
	if !t.set.Active {
		return false, stale
	}
	times := t.set.TimesOf(t.Table)
	tried := t.state.TriedAt
	if times.Said() && tried != nil && last != nil && last.Definition == t.Definition() {
		next, ok := times.Next(*tried)
		if !ok {
			return false, stale
		}
		if next.After(time.Now()) {
			p.later(next)
			return false, ""
		}
		stale = "it is time: " + times.Words()
	}
	if stale == "" {
		return false, ""
	}
	if t.state.Failures > 0 && t.state.Tried != nil {
		most := mostChangedPause
		if derive.Stale(t.Table, t.reads, t.state.Tried, now) == "" {
			again := t.state.State == records.DerivedFailed && t.state.Problem != nil &&
				t.state.Problem.Code != string(problem.Stopped)
			if !again { // it would fail again, or somebody has stopped it
				return false, stale
			}
			most = mostDerivedPause
		}
		at := tried.Add(min(firstDerivedPause<<min(t.state.Failures-1, 10), most))
		if at.After(time.Now()) && t.state.Tried.Definition == t.Definition() {
			p.later(at)
			return false, stale
		}
	}
	return true, stale
}

// one makes a table, and keeps what came of it.
func (p *pass) one(ctx context.Context, t derivedTable, why string, now map[string]string) error {
	id, err := p.store.BeginDerivation(ctx, t.set.Name, t.Table.Table, why, p.self.ID)
	if err != nil {
		return err
	}
	p.events.Send(ctx, records.Event{Kind: "derived"})
	tried := &derive.Made{Definition: t.Definition(), Inputs: map[string]string{}}
	var reads []schema.Name
	for _, input := range t.reads {
		tried.Inputs[input] = now[input]
		if name, err := schema.ParseName(input); err == nil { // as it was written
			reads = append(reads, name)
		}
	}
	running, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	p.done.Go(func() { p.watchDerivation(running, stop, id) })
	limited, cancel := context.WithTimeoutCause(running, t.Limit(), errTooLong)
	defer cancel()
	var said heard
	var d warehouse.Derivation
	err = problem.Guarded(func() (err error) {
		d, err = p.in.Derive(said.in(limited), t.Table, reads, t.state.WantedBy != "")
		return err
	})()
	if err == nil {
		tried = &d.Made
	}
	out := t.came(d, err, context.Cause(limited))
	out.ID = id
	for _, s := range said.all(t.Table.Table) {
		if m := (*warehouse.Mistake)(nil); s.Error != "" && errors.As(err, &m) {
			s.Error = m.WithoutValues().Message
		}
		out.Statements = append(out.Statements, s)
	}
	if ctx.Err() != nil { // it is made again at once
		tried = nil
	}
	keep(ctx, "A derived table", id, t.Table.Table, func(ctx context.Context) error {
		return p.store.EndDerivation(ctx, out, tried)
	})
	p.events.Send(context.WithoutCancel(ctx), records.Event{Kind: "derived"})
	return nil
}

// errTooLong is why a table is not made on that has taken as long as it may.
var errTooLong = errors.New("it has taken as long as it may")

// came is what came of making a table. cause is why it was not made on, if it was not.
func (t derivedTable) came(d warehouse.Derivation, err, cause error) records.Derivation {
	out := records.Derivation{Set: t.set.Name, Table: t.Table.Table, State: "done", Rows: d.Rows, Inserted: d.Inserted,
		Updated: d.Updated, Deleted: d.Deleted, Same: d.Same}
	if d.Parts != nil {
		n := int64(len(d.Parts))
		out.Parts = &n
	}
	for _, c := range d.Checks {
		out.Checks = append(out.Checks, records.DerivedCheck{Check: c.Check.String(), Holds: c.Found == 0, Found: c.Found,
			Keeps: c.Check.Keeps() && t.Is() != derive.AsView, SQL: c.SQL, Took: c.Took.Seconds()})
	}
	if err == nil && !d.Kept {
		return out
	}
	asked := (*stopped)(nil)
	switch {
	case err == nil:
		out.State, err = "kept", broken(d, t)
	case errors.As(cause, &asked):
		out.State, err = "stopped", problem.Newf(problem.Stopped,
			"It is tried again when what it reads has changed, or: noemata derived make "+problem.Word(t.set.Name)+" "+
				problem.Word(t.Table.Table), "%s has stopped it.", asked.by)
	case errors.Is(cause, errTooLong):
		out.State, err = "failed", problem.Newf(problem.Failed,
			"Have its SQL read less, or let it take longer: within, in its file.", "It took longer than %s.", t.Limit())
	case cause != nil:
		out.State, err = "stopped", problem.New(problem.Stopped, "The service ended while it was made.", "It is made again.")
	default:
		out.State, err = "failed", inSQL(err, t.SQL)
	}
	out.Problem = records.NewProblem(err)
	return out
}

// broken is the problem of a table whose checks did not hold.
func broken(d warehouse.Derivation, t derivedTable) *problem.Problem {
	var list []string
	for _, c := range d.Checks {
		if c.Found > 0 && c.Check.Keeps() {
			list = append(list, fmt.Sprintf("%s (%s)", c.Check, words.Plural(c.Found, "finding")))
		}
	}
	return problem.Newf(problem.Held,
		"See what breaks the checks: noemata derived show "+problem.Word(t.set.Name)+" has a question for each. It is made again "+
			"when what it reads has changed.",
		"The table is as it was before, since what its SQL gives now does not hold: %s.", strings.Join(list, "; "))
}

// inSQL is a mistake of a table's SQL with its place, and without what stands in rows: whoever looks is not let ask.
func inSQL(err error, sql string) error {
	var m *warehouse.Mistake
	if !errors.As(err, &m) {
		return err
	}
	remedy := "Change its SQL, and apply its file again."
	if m.OfData() {
		remedy = "Somebody who may ask what it reads sees the value by asking its SQL. Change that, or the value at its source."
	}
	return problem.New(problem.Invalid, m.WithoutValues().Placed(sql), remedy)
}

// stopped is why a table is not made on: somebody wants so.
type stopped struct{ by string }

func (s *stopped) Error() string { return s.by + " has stopped it" }

// watchDerivation stops the making of a table when somebody wants it to.
func (p *pass) watchDerivation(ctx context.Context, stop context.CancelCauseFunc, id int64) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(watchEvery):
		}
		wanted, err := p.store.DerivationsToStop(ctx, p.self.ID)
		if by, is := wanted[id]; err == nil && is {
			stop(&stopped{by})
			return
		}
	}
}
