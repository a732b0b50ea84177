// Package engine moves the rows of one table from a source to a warehouse, from
// finding what changed to the commit, and compares the two sides afterwards.
//
// It is the only place that knows sources, the core and warehouses at once.
package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/shape"
	"noemata/internal/core/window"
	"noemata/internal/core/words"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// CommitRows is how many rows are committed at once while a long stretch is read
// in order.
const CommitRows = 500_000

// Engine runs tables. It remembers bounds that wait for open transactions, so one
// Engine should serve all runs of a process.
type Engine struct {
	mu        sync.Mutex
	proposals map[string]proposal
	ends      sync.Map // by origin: the *sharedEnd of a log
}

type proposal struct {
	window.Proposal
	clock time.Time
}

// New makes an Engine.
func New() *Engine { return &Engine{proposals: map[string]proposal{}} }

// Work is one table of one run.
type Work struct {
	Feed      *feed.Feed
	Table     feed.Table
	Run       int64
	Source    source.Source
	Warehouse warehouse.Warehouse
	Keys      shape.Keys     // that columns are hashed with
	Progress  func(Progress) // may be nil
	// Passed waits until a run has ended that began after the call; false where none has. Nil where no
	// run is to be waited for.
	Passed func(context.Context) (bool, error)
	Proven *Proven            // how far an earlier proof of the table had come; nil begins anew
	Note   func(Proven) error // is told how far a proof has come; its error ends the proof; may be nil
	Since  string             // of a proof or repair: the value of the watermark from which on rows are looked at; empty for all
}

// Progress tells how far a table's run has come.
type Progress struct {
	Phase    string // "looking", "comparing", "reading", "filling", "sweeping" or "writing"
	Read     int64
	Expected int64 // an estimate; 0 when there is none
	Position position.Position
}

// Outcome is what a table's run did.
type Outcome struct {
	Books      rows.Books
	From, To   warehouse.Checkpoint
	Window     window.Window
	CompleteAt time.Time // everything the source committed before this is in the warehouse; zero when unknown
	Nulls      int64     // rows whose watermark is null; they are not replicated
	Commits    int
	Spent
	Notes  []string // sentences worth showing
	Target warehouse.Target
}

// Run brings one table up to date. What was committed before an error stays, and
// the Outcome tells of it.
func (e *Engine) Run(ctx context.Context, w Work) (Outcome, error) {
	r := &run{Work: w, engine: e, clock: time.Now()}
	if r.Progress == nil {
		r.Progress = func(Progress) {}
	}
	r.Progress(Progress{Phase: "looking"})
	err := named(problem.Guarded(func() error { return r.run(ctx) })(), w.Feed.Name, w.Table.Table)
	if err != nil && ctx.Err() != nil {
		err = problem.Wrap(err, problem.Stopped, "The run was stopped before its end.",
			"What was committed stays; the next run goes on from there.")
	}
	return r.outcome, r.fromItsStart(ctx, err)
}

// fromItsStart makes a remedy that clears the position fit a table that began at the present:
// cleared, it would begin at another.
func (r *run) fromItsStart(ctx context.Context, err error) error {
	var p *problem.Problem
	clear := fmt.Sprintf("positions clear %s %s", problem.Word(r.Feed.Name), problem.Word(r.Table.Table))
	if w := r.Table.Watermark; w == nil || w.Start != feed.StartNow || !errors.As(err, &p) ||
		!strings.Contains(p.Remedy, clear) {
		return err
	}
	first, none := r.Warehouse.Journal().FirstPosition(ctx, r.Feed.Name, r.Table.Table)
	if none != nil || first.IsZero() {
		return err
	}
	set := strings.Replace(clear, "clear", "set", 1) + " " + problem.Word(first.String())
	return problem.Wrap(err, p.Code, p.What, strings.Replace(p.Remedy, clear, set, 1))
}

type run struct {
	Work
	engine    *Engine
	plan      plan
	outcome   Outcome
	structure string            // of the table, as it was kept last
	was       *structure        // the same; nil where none was kept
	fills     []string          // columns that rows of before are given by key
	sweeps    bool              // also where it is not time for it
	entries   []warehouse.Entry // for the next commit
	last      position.Position // of the last row that was read
	clock     time.Time         // the source's, when the run began to read
}

func (r *run) run(ctx context.Context) (err error) {
	if r.plan, r.Table, err = planFor(ctx, r.Feed, r.Table, r.Source, r.Warehouse, r.Keys); err != nil {
		return err
	}
	if err := r.plan.known.remember(ctx, r.Feed, r.Table, r.Warehouse); err != nil {
		return err
	}
	r.outcome.Target = r.plan.target
	if err := r.recall(ctx); err != nil {
		return err
	}
	made, err := r.Warehouse.Prepare(ctx, r.plan.target)
	if kind, drifted := drift.KindOf(err); drifted {
		made, err = r.drifted(ctx, kind, err)
	}
	if err != nil {
		return err
	}
	stands, err := r.Warehouse.Journal().Checkpoint(ctx, r.Feed.Name, r.Table.Table)
	if err != nil {
		return err
	}
	if stands, err = r.sameTarget(ctx, stands, made); err != nil {
		return err
	}
	if stands, err = r.sameStructure(ctx, stands); err != nil {
		return err
	}
	r.outcome.From, r.outcome.To = stands, stands
	if err := r.leftOver(ctx); err != nil {
		return err
	}
	switch r.Table.Find {
	case feed.FindWhole:
		return r.whole(ctx)
	case feed.FindCompare:
		return r.compare(ctx)
	}
	if err := r.watermark(ctx); err != nil {
		return err
	}
	if err := r.fill(ctx); err != nil {
		return err
	}
	return r.sweep(ctx)
}

// recall reads what the journal has of the table's structure.
func (r *run) recall(ctx context.Context) (err error) {
	if r.structure, err = r.Warehouse.Journal().Structure(ctx, r.Feed.Name, r.Table.Table); err != nil ||
		r.structure == "" {
		return err
	}
	r.was = &structure{}
	if err := json.Unmarshal([]byte(r.structure), r.was); err != nil {
		return fmt.Errorf("the structure of %s in the warehouse's journal: %w", r.Table.Table, err)
	}
	if r.Table.Find == feed.FindWatermark {
		r.fills = structureOf(r.plan).fills(*r.was, r.plan.target)
	}
	return nil
}

// sameStructure makes sure that rows that came in before are known by the same key and have the
// same columns, of the same table.
func (r *run) sameStructure(ctx context.Context, stands warehouse.Checkpoint) (warehouse.Checkpoint, error) {
	if r.was == nil {
		return stands, nil
	}
	journal, was, now := r.Warehouse.Journal(), *r.was, structureOf(r.plan)
	var err error
	if r.Table.Find != feed.FindWatermark { // every row comes anew
		if lost := now.lost(was, r.Table, r.Run); lost != nil {
			err = journal.Note(ctx, r.Feed.Name, lost)
		}
		return stands, err
	}
	if was.Find != "" && was.Find != now.Find && !stands.Position.IsZero() {
		// What was read whole, or compared, has a moment for a position: what was open then lies below it.
		r.note("The table was found by %s before, so all of its rows are read again.", was.Find)
		if err := journal.SetPosition(ctx, r.Feed.Name, r.Table.Table, nil); err != nil {
			return stands, err
		}
		return journal.Checkpoint(ctx, r.Feed.Name, r.Table.Table)
	}
	was.Target = now.Target // sameTarget has judged it
	trouble := now.changed(was, r.Table.Table, clearRemedy)
	if trouble == nil {
		trouble = partsChanged(ctx, r.Source, r.plan, r.Table, was, clearRemedy)
	}
	kind, drifted := drift.KindOf(trouble)
	// Read again already, by the feed's policy or a person: see again.
	if drifted && (stands.Position.IsZero() || stands.Run == 0 && r.Table.Watermark.Start == feed.StartNow) {
		r.sweepsOf(kind)
		return stands, nil
	}
	if lost := now.lost(was, r.Table, r.Run); lost != nil && trouble == nil {
		if err := journal.Note(ctx, r.Feed.Name, lost); err != nil {
			return stands, err
		}
	}
	if trouble == nil && len(r.fills) == 0 && len(now.Made.more(was.Made)) > 0 && was.Made != nil &&
		r.Table.Keep != feed.KeepLedger && !stands.Position.IsZero() {
		r.note("Rows of before have no values in %s, and no key tells them apart, so all rows are read again.",
			strings.Join(now.Made.more(was.Made), ", "))
		if err := r.again(ctx); err != nil {
			return stands, err
		}
		return journal.Checkpoint(ctx, r.Feed.Name, r.Table.Table)
	}
	if !drifted && trouble == nil && len(r.fills) == 0 && now.String() != r.structure {
		// Now, though nothing may come in: a column that is left out from here on, and comes back, was away.
		r.structure = now.String()
		return stands, journal.Note(ctx, r.Feed.Name, warehouse.Structured{Table: r.Table.Table, Structure: r.structure})
	}
	if !drifted {
		return stands, trouble
	}
	if _, err := r.drifted(ctx, kind, trouble); err != nil {
		return stands, err
	}
	r.sweepsOf(kind)
	return journal.Checkpoint(ctx, r.Feed.Name, r.Table.Table)
}

// sweepsOf has the run compare keys at its end, where rows of before may be known by nothing that
// comes again. The new structure is kept with that comparison, so that a run which dies before it
// leaves it to the next.
func (r *run) sweepsOf(kind drift.Kind) {
	if (kind == drift.Keys || kind == drift.Tables) && len(r.plan.target.Key) > 0 {
		r.sweeps, r.plan.target.Sweeps = true, true
	}
}

// again has the rows of before read again. A table that began at the present is read from there.
func (r *run) again(ctx context.Context) error {
	r.fills = nil
	journal := r.Warehouse.Journal()
	if r.Table.Watermark.Start != feed.StartNow {
		return journal.SetPosition(ctx, r.Feed.Name, r.Table.Table, nil)
	}
	first, err := journal.FirstPosition(ctx, r.Feed.Name, r.Table.Table)
	if err != nil {
		return err
	}
	return journal.SetPosition(ctx, r.Feed.Name, r.Table.Table, &first)
}

// drifted changes the target to what the source has now, where the feed follows such changes,
// and has rows of before read again, whose values it lacks. A ledger without a key would take
// them for new ones: it keeps the old as they came.
func (r *run) drifted(ctx context.Context, kind drift.Kind, trouble error) (made bool, err error) {
	note := func(done string) warehouse.Entry {
		return warehouse.Drifted{Entry: drift.Drift{Table: r.Table.Table, Kind: kind, What: problem.Of(trouble).What,
			Done: done, Run: r.Run}}
	}
	journal := r.Warehouse.Journal()
	chosen := r.was != nil && (kind == drift.Columns && structureOf(r.plan).chosen(*r.was, r.plan) ||
		r.Table.Find != feed.FindWatermark && structureOf(r.plan).remade(*r.was, r.plan, drift.ColumnsOf(trouble)))
	if r.Feed.Policy(r.Table, kind) != drift.Follow && !chosen {
		last, err := journal.Drifts(ctx, r.Feed.Name, mostTold)
		told := slices.ContainsFunc(last, func(e drift.Drift) bool {
			return e.Table == r.Table.Table && e.What == problem.Of(trouble).What
		})
		if err == nil && !told { // once, though each run meets it
			err = journal.Note(ctx, r.Feed.Name, note("The table is held, as the feed asks."))
		}
		return false, cmp.Or(err, trouble)
	}
	if err := r.Warehouse.Refit(ctx, r.plan.target); err != nil {
		return false, err
	}
	done := "Followed: the target was changed, and all rows are read again."
	switch {
	case r.Table.Find != feed.FindWatermark:
		done = "Followed: the target was changed."
	case r.Table.Keep == feed.KeepLedger && kind != drift.Tables:
		done = "Followed: the target was changed; rows of before stay as they came."
	case kind == drift.Columns && len(r.fills) > 0:
		done = "Followed: the target was changed, and rows of before are given the values by their key."
	default:
		if err := r.again(ctx); err != nil {
			return false, err
		}
	}
	if chosen { // by a person, who knows
		return r.Warehouse.Prepare(ctx, r.plan.target)
	}
	r.note("%s %s", problem.Of(trouble).What, done)
	if err := journal.Note(ctx, r.Feed.Name, note(done)); err != nil {
		return false, err
	}
	return r.Warehouse.Prepare(ctx, r.plan.target)
}

// leftOver says which columns the target has from before the feed dropped them.
func (r *run) leftOver(ctx context.Context) error {
	left, err := r.Warehouse.LeftOver(ctx, r.plan.target)
	for _, c := range left {
		if r.Table.Dropped(c.Column) {
			r.note("The target still holds the column %s, which the feed drops, with the values of before. To "+
				"remove them: %s", c.Column, c.Remedy)
		}
	}
	return err
}

// sameTarget makes sure that a position is that of the target: what lies before it must be
// there. A target that was missing is loaded from the beginning.
func (r *run) sameTarget(ctx context.Context, stands warehouse.Checkpoint, made bool) (warehouse.Checkpoint, error) {
	if stands.Position.IsZero() || stands.Run == 0 && !made { // nothing was loaded, or a person has set it
		return stands, nil
	}
	if made {
		r.note("The target %s was not there, so the table is loaded from its beginning.", r.plan.target.Name)
		if err := r.Warehouse.Journal().SetPosition(ctx, r.Feed.Name, r.Table.Table, nil); err != nil {
			return stands, err
		}
		return r.Warehouse.Journal().Checkpoint(ctx, r.Feed.Name, r.Table.Table)
	}
	last, was, err := r.Warehouse.Journal().LastLoad(ctx, r.Feed.Name, r.Table.Table)
	if err != nil || last == "" {
		return stands, err
	}
	if last == r.plan.target.Name.Display() {
		same := was == r.plan.shape.Digest()
		if r.was != nil && r.was.Made != nil {
			same = !structureOf(r.plan).Made.differs(r.was.Made)
		}
		if !same && r.Table.Find == feed.FindWatermark {
			err = problem.Newf(problem.Held,
				fmt.Sprintf("To load it from the beginning: noemata positions clear %s %s. Or give the feed its old "+
					"shape again.", problem.Word(r.Feed.Name), problem.Word(r.Table.Table)),
				"What the feed makes of the rows of %s was changed, and those that came in before, up to %s, are as "+
					"the feed had them then.", r.Table.Table, stands.Position)
		}
		return stands, err
	}
	return stands, problem.Newf(problem.Held,
		fmt.Sprintf("To load it from the beginning: noemata positions clear %s %s. If it is the old table under "+
			"another name: noemata positions set %[1]s %[2]s %[3]s.", problem.Word(r.Feed.Name),
			problem.Word(r.Table.Table), problem.Word(stands.Position.String())),
		"%s was loaded into %s up to %s, and its target is %s now, a table that was there before.", r.Table.Table, last,
		stands.Position, r.plan.target.Name)
}

// whole reads the table and swaps it in.
func (r *run) whole(ctx context.Context) error {
	m, err := r.Source.Moment(ctx)
	if err != nil {
		return err
	}
	expected := max(r.plan.query.Table.Rows, 0)
	r.clock = m.Clock
	to := position.Position{Value: schema.TimestampTZText(m.Clock.UnixMicro())}
	q := r.plan.query
	q.Filter = r.plan.filter(true)
	if err := r.load(ctx, q, stretch{expected: expected, end: &to}); err != nil {
		return err
	}
	r.outcome.CompleteAt = m.Clock
	if b := r.outcome.Books; b.Read > 0 && b.Read == b.Unchanged {
		r.note("Nothing has changed: all %d rows are the same.", b.Read)
	}
	return nil
}

// watermark reads what lies between the position and the highest safe bound.
func (r *run) watermark(ctx context.Context) error {
	q := r.plan.query
	t := q.Watermark.Column.Type
	if q.Watermark.Column.Nullable {
		var err error
		if r.outcome.Nulls, err = r.Source.Nulls(ctx, q); err != nil {
			return err
		}
		if r.outcome.Nulls > 0 {
			r.note("%s with a null watermark %s not replicated; name a fallback column to include them.",
				words.Plural(r.outcome.Nulls, "row"), isAre(r.outcome.Nulls))
		}
	}
	high, completeAt, err := r.bound(ctx)
	if err != nil {
		return err
	}
	stands := r.outcome.From
	w := window.Window{Low: stands.Position, High: high}
	if stands.Position.IsZero() {
		switch start := r.Table.Watermark.Start; start {
		case "", feed.StartBeginning:
		case feed.StartNow:
			return r.startNow(ctx, high, completeAt)
		default:
			checked, err := position.Position{Value: start}.Check(t)
			if err != nil {
				return err // makePlan has checked it
			}
			w.Low, w.Inclusive = checked, true
		}
	} else if lookBack := r.Table.Watermark.LookBack; lookBack != "" && lookBack != "0" {
		below, err := lookBack.Below(stands.Position.Value, t)
		if err != nil {
			return err
		}
		w.Low = position.Position{Value: below}
	}
	r.outcome.Window = w
	if !w.Empty(t) {
		if err := r.read(ctx, w); err != nil {
			return err
		}
	}
	r.outcome.CompleteAt = completeAt
	return nil
}

// bound finds the highest watermark that may be read, and the time up to which
// the table is complete once it is.
func (r *run) bound(ctx context.Context) (high string, completeAt time.Time, err error) {
	settle, wait := r.Table.Watermark.Times()
	key := r.Feed.Name + "\x00" + r.Table.Table
	t := r.plan.query.Watermark.Column.Type
	r.engine.mu.Lock()
	p, waiting := r.engine.proposals[key]
	r.engine.mu.Unlock()
	if !waiting {
		if p, err = r.propose(ctx, settle); err != nil {
			return "", time.Time{}, err
		}
	}
	for deadline := time.Now().Add(wait); ; {
		m, err := r.Source.Moment(ctx)
		if err != nil {
			return "", time.Time{}, err
		}
		if p.Settled(m) {
			break
		}
		if time.Now().After(deadline) {
			r.engine.mu.Lock()
			r.engine.proposals[key] = p
			r.engine.mu.Unlock()
			r.note("Transactions that were open at %s have not ended, so rows above %s wait for them.",
				p.clock.UTC().Format(time.RFC3339), orNothing(r.outcome.From.Position.String()))
			return "", time.Time{}, nil
		}
		select {
		case <-ctx.Done():
			return "", time.Time{}, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	r.engine.mu.Lock()
	delete(r.engine.proposals, key)
	r.engine.mu.Unlock()
	return p.High, r.completeAt(p, t), nil
}

func (r *run) propose(ctx context.Context, settle time.Duration) (proposal, error) {
	t := r.plan.query.Watermark.Column.Type
	highest := ""
	if !window.Timed(t.Kind) {
		var err error
		if highest, err = r.Source.Highest(ctx, r.plan.query); err != nil {
			return proposal{}, err
		}
	}
	// After Highest: whoever wrote a lower value is visible by now, or still open.
	m, err := r.Source.Moment(ctx)
	if err != nil {
		return proposal{}, err
	}
	r.clock = m.Clock
	return proposal{window.Propose(t, m, settle, highest, r.plan.zone), m.Clock}, nil
}

func (r *run) completeAt(p proposal, t schema.Type) time.Time {
	if !window.Timed(t.Kind) {
		return p.clock
	}
	us, err := schema.ParseTimestamp(p.High)
	if err != nil {
		return time.Time{}
	}
	if t.Kind == schema.Date {
		us += 86400e6 // the day is complete at its end
	}
	if t.Kind == schema.TimestampTZ {
		return time.UnixMicro(us).UTC()
	}
	return inZone(us, r.plan.zone)
}

// inZone is the instant at which clocks of the zone show the given microseconds.
func inZone(us int64, zone *time.Location) time.Time {
	w := time.UnixMicro(us).UTC()
	return time.Date(w.Year(), w.Month(), w.Day(), w.Hour(), w.Minute(), w.Second(), w.Nanosecond(), zone)
}

// startNow begins a table at the present, without its past.
func (r *run) startNow(ctx context.Context, high string, completeAt time.Time) error {
	if high == "" {
		return nil
	}
	c, p, err := r.begin(ctx, false)
	if err != nil {
		return err
	}
	defer c.Abort()
	if err := r.end(ctx, c, p, position.Position{Value: high}); err != nil {
		return err
	}
	r.outcome.CompleteAt = completeAt
	r.outcome.Window = window.Window{Low: r.outcome.To.Position, High: high}
	r.note("The table begins at %s, as the feed asks; what was there before is not replicated.", high)
	return nil
}

// read loads a window: all at once where the target is empty and the rows fit into one page, else in
// order, page by page. Only of an empty target it is known that it has no row that has left the filter.
func (r *run) read(ctx context.Context, w window.Window) error {
	q := r.plan.query
	q.Window = w
	page := r.Table.Page()
	first := false
	if r.outcome.From.Position.IsZero() && page >= feed.DefaultPageRows && !warehouse.NumbersRows(r.plan.target) {
		var err error
		if first, err = r.Warehouse.Empty(ctx, r.plan.target); err != nil {
			return err
		}
	}
	if first {
		q.Filter = r.plan.filter(true)
	}
	expected, err := r.Source.Estimate(ctx, q)
	if err != nil {
		return err
	}
	if !first || expected > page {
		return r.readPages(ctx, w, expected)
	}
	s := stretch{expected: expected, direct: true}
	if q.Filter != nil { // what was left out has been seen, too
		s.end = &position.Position{Value: w.High}
	}
	if r.plan.shape.Plain() {
		looked := slices.Concat(r.plan.target.Key, r.plan.target.Watermark)
		q.Raw = &source.Raw{Form: r.Warehouse.Form(), Looked: looked}
	}
	return r.load(ctx, q, s)
}

// readPages loads a window in order, page by page.
func (r *run) readPages(ctx context.Context, w window.Window, expected int64) error {
	q, page := r.plan.query, r.Table.Page()
	q.Window, q.Ordered, q.Limit = w, true, page
	for {
		before := r.outcome.Books.Read
		s := stretch{expected: expected, limit: page}
		if err := r.load(ctx, q, s); err != nil {
			return err
		}
		if r.outcome.Books.Read-before < page {
			return nil
		}
		// The last position of this page, not the table's: a look-back reads below it.
		q.Window.Low, q.Window.Inclusive = r.last, false
	}
}

func (r *run) note(format string, args ...any) {
	r.outcome.Notes = append(r.outcome.Notes, fmt.Sprintf(format, args...))
}

func isAre(n int64) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func orNothing(s string) string {
	if s == "" {
		return "the beginning"
	}
	return s
}
