package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// CutBytes is how many bytes of changes are gathered before they are written, and
// before a transaction that is larger is written in parts.
const CutBytes = 48 << 20

// moveAfter is how long a position may lag behind a log in which nothing happens to the
// feed's tables.
const moveAfter = 10 * time.Second

// LogWork is one run of a feed that follows a change log.
type LogWork struct {
	Feed      *feed.Feed
	Run       int64
	Source    source.Source
	Warehouse warehouse.Warehouse
	Wait      time.Duration   // how long changes may be gathered before they are written
	Until     <-chan struct{} // the run follows on until this is closed; nil: it only catches up
	CutBytes  int64           // CutBytes, unless set
	Report    func(LogReport) // may be nil; called after each commit and while tables are copied
}

// LogReport is how far a run has come.
type LogReport struct {
	Position   string
	CompleteAt time.Time // everything the source committed before this is in the warehouse
	Commits    int64     // of the warehouse, in this run
	Tables     []TableReport
}

// TableReport is how far a run has come with one table.
type TableReport struct {
	Table    string
	Target   warehouse.Target
	State    string // copying, joining (the copy is done, and the log must pass its snapshot), following or held
	Trouble  error  // why it is held
	Copied   int64  // rows, while it is copied
	Expected int64  // an estimate of the rows
	Books    rows.Books
	Reading  time.Duration // from the source
	Writing  time.Duration // to the warehouse
	Waiting  string        // what the copy waits for, as a sentence
}

// The states of a table that follows the log.
const (
	Copying   = "copying"
	Joining   = "joining"
	Following = "following"
)

// Follow brings all tables of a feed forward together, each commit to the end of a
// transaction of the source. What was committed before an error stays.
func (e *Engine) Follow(ctx context.Context, w LogWork) (LogReport, error) {
	if w.CutBytes == 0 {
		w.CutBytes = CutBytes
	}
	f := &follow{LogWork: w, before: map[string]TableReport{}}
	var err error
	for range len(w.Feed.Tables) + 1 {
		err = problem.Guarded(func() error { return f.run(ctx) })()
		var trouble *tableError
		if ctx.Err() != nil || !errors.As(err, &trouble) {
			break
		}
		// The others go on without the table, from what was committed last.
		if err = hold(ctx, w.Warehouse, w.Feed.Name, f.place, trouble); err != nil {
			break
		}
		f = f.again()
	}
	err = named(err, w.Feed.Name, "TABLE")
	if err != nil && ctx.Err() != nil {
		err = problem.Wrap(err, problem.Stopped, "The run was stopped before its end.", "What was committed stays; the next run goes on from there.")
	}
	return f.report(), err
}

type follow struct {
	LogWork
	log    source.Log
	name   string      // of slot and publication
	tables []*logTable // that follow, or will
	held   []*logTable
	before map[string]TableReport // of the attempts before, in this run
	stream source.Stream
	cuts   chan cut
	copies chan beginning
	ready  chan struct{} // holds a token while the warehouse is free

	// Only used by whoever applies.
	commit *warehouse.Commit

	mu         sync.Mutex // guards what follows and the tables' states
	place      warehouse.Place
	lastMoment int64 // of the last transaction that was applied
	replays    bool  // the position was set by a person: changes may have been applied before
	waits      int   // cuts that were gathered and are not yet visible
	mark       mark  // the last end of the log that was asked for
	completeAt time.Time
	commits    int64
}

// cut is what was gathered of the log, and how long it was read.
type cut struct {
	source.Gathered
	reading time.Duration
}

// mark is an end of the log: what was committed before the moment lies before it.
type mark struct {
	position string
	moment   time.Time
}

// beginning is a copy that has begun: at the moment of its snapshot. What is read of the
// log from then on comes later; read answers with how far it was read before.
type beginning struct {
	moment int64
	read   chan string
}

// logTable is one table of the feed.
type logTable struct {
	plan
	feed.Table
	key      []int
	part     *warehouse.Part // of the commit that is under way
	books    rows.Books
	reading  time.Duration
	writing  time.Duration
	state    string
	joined   bool // in the commit that is under way
	copy     copyState
	copied   int64
	expected int64
	waiting  string
	made     bool  // its target was missing
	trouble  error // what is in the way, found before the log was read
	heldFor  *reason
}

// again is a new attempt of the same run.
func (f *follow) again() *follow {
	next := &follow{LogWork: f.LogWork, before: map[string]TableReport{}, commits: f.commits, completeAt: f.completeAt}
	for _, t := range f.report().Tables {
		next.before[t.Table] = t
	}
	return next
}

func (f *follow) run(ctx context.Context) error {
	if err := f.begin(ctx); err != nil {
		return err
	}
	end := ""
	if f.Until == nil {
		var err error
		if end, _, err = f.log.End(ctx); err != nil {
			return err
		}
	}
	var tables []source.Followed
	for _, t := range f.tables {
		tables = append(tables, t.followed())
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	var err error
	f.stream, err = f.log.Follow(working, source.Follow{Name: f.name, Tables: tables, From: f.place.Position.Value, Clock: f.clock(), MaxBytes: f.CutBytes})
	if err != nil {
		return err
	}
	defer f.stream.Close()
	f.cuts, f.copies, f.ready = make(chan cut), make(chan beginning), make(chan struct{}, 1)
	group, working := errgroup.WithContext(working)
	work := func(do func() error) { group.Go(problem.Guarded(do)) }
	work(func() error { return f.applyAll(working) })
	work(func() error { return f.copyAll(working) })
	watching, rest := context.WithCancel(working)
	work(func() error { return f.watchEnd(watching) })
	work(func() error {
		defer rest()
		defer close(f.cuts)
		return f.gather(working, end)
	})
	if err := group.Wait(); err != nil {
		return err
	}
	f.stream.Confirm(f.place.Position.Value)
	return f.stream.Beat()
}

// followed is the table as the log must tell of it.
func (t *logTable) followed() source.Followed {
	return source.Followed{Table: t.query.Table, Key: t.target.Key, Whole: len(t.Drop) == 0, Takes: t.Changes}
}

// logName makes up the name of a feed's follower at the source.
func logName(feed string) string {
	return fmt.Sprintf("noemata_%.30s_%s", strings.ReplaceAll(feed, "-", "_"), strings.ToLower(rand.Text()[:8]))
}

// begin finds out where the feed stands and makes what is missing on both sides.
func (f *follow) begin(ctx context.Context) error {
	var ok bool
	if f.log, ok = f.Source.(source.Log); !ok {
		return problem.Newf(problem.Invalid, "Write find: watermark.", "The change log of this kind of source cannot be followed.")
	}
	f.tables, f.held = nil, nil
	var first error
	for _, t := range f.Feed.Tables {
		x := &logTable{Table: t, state: Copying}
		var err error
		if x.plan, err = makePlan(ctx, f.Feed, t, f.Source); err == nil {
			x.made, err = f.Warehouse.Prepare(ctx, x.target)
		}
		if err != nil && !problem.OfTable(err) {
			return err
		}
		x.trouble, x.expected, x.key = err, max(x.query.Table.Rows, 0), schema.Places(x.target.Columns, x.target.Key)
		f.tables, first = append(f.tables, x), cmp.Or(first, named(err, f.Feed.Name, t.Table))
	}
	names, err := logNames(ctx, f.Feed.Name, f.Warehouse)
	if err != nil {
		return err
	}
	if len(names) == 0 && !slices.ContainsFunc(f.tables, func(t *logTable) bool { return t.trouble == nil }) {
		return first // nothing has begun, and nothing can
	}
	if f.place, err = f.Warehouse.Place(ctx, f.Feed.Name, ""); err != nil {
		return err
	}
	f.replays = f.place.Version > 0 && f.place.Run == 0 && !f.place.Position.IsZero()
	if err := f.recognise(ctx); err != nil {
		return err
	}
	if err := f.readCopies(ctx); err != nil {
		return err
	}
	if err := f.findTroubles(ctx); err != nil {
		return err
	}
	var tables []source.Followed
	for _, t := range f.tables {
		tables = append(tables, t.since(f.place))
	}
	begun, err := f.log.PrepareLog(ctx, f.name, tables, f.place.Position.Value)
	var one *source.TableError
	if errors.As(err, &one) {
		i := slices.IndexFunc(f.tables, func(t *logTable) bool { return t.query.Table.Name == one.Table })
		return blame(f.tables[i], err)
	}
	if err != nil {
		return err
	}
	f.place.Position = position.Position{Value: begun}
	return nil
}

// since is the table as the log must tell of it from the feed's place on.
func (t *logTable) since(place warehouse.Place) source.Followed {
	x := t.followed()
	if t.state == Following {
		x.Since = place.Position.Value
	}
	return x
}

// findTroubles asks the source what is in the way of following, and holds the tables that
// something is in the way of. What is in the way of all is the run's own failure.
func (f *follow) findTroubles(ctx context.Context) error {
	var asked []source.Followed
	for _, t := range f.tables {
		if t.trouble == nil && t.state != Held {
			asked = append(asked, t.since(f.place))
		}
	}
	findings, err := f.log.LogFindings(ctx, asked)
	if err != nil {
		return err
	}
	for _, found := range findings {
		if found.Level != problem.Blocker {
			continue
		}
		trouble := problem.New(problem.Held, strings.TrimSpace(found.Table+": "+found.What), found.Remedy)
		i := slices.IndexFunc(f.tables, func(t *logTable) bool { return t.trouble == nil && t.query.Table.Name.Display() == found.Table })
		if i < 0 {
			return trouble
		}
		f.tables[i].trouble = trouble
	}
	if !slices.ContainsFunc(f.tables, func(t *logTable) bool { return t.trouble == nil && (t.state != Held || t.heldFor.Heals) }) {
		return f.allHeld()
	}
	var goes []*logTable
	for _, t := range f.tables {
		switch {
		case t.state == Held && t.trouble == nil && t.heldFor.Heals: // nothing is in the way any more
			if err := CopyAgain(ctx, f.Feed, []string{t.Table.Table}, f.Source, f.Warehouse); err != nil {
				return err
			}
			return f.begin(ctx)
		case t.state == Held && t.trouble == nil:
			t.trouble = t.heldFor.problem()
		case t.state == Held:
			t.trouble = named(t.trouble, f.Feed.Name, t.Table.Table)
		case t.trouble != nil:
			if err := hold(ctx, f.Warehouse, f.Feed.Name, f.place, &tableError{t.Table.Table, t.trouble, true}); err != nil {
				return err
			}
			t.trouble, t.state = named(t.trouble, f.Feed.Name, t.Table.Table), Held
		}
		if t.state == Held {
			f.held = append(f.held, t)
		} else {
			goes = append(goes, t)
		}
	}
	f.tables = goes
	return nil
}

// allHeld is the failure of a run in which no table can go on. The feed's place stays, so no
// table misses anything by it, and none needs to be copied for that.
func (f *follow) allHeld() error {
	for _, t := range f.tables {
		if t.trouble == nil {
			t.trouble = t.heldFor.problem()
		}
		t.trouble, t.state = named(t.trouble, f.Feed.Name, t.Table.Table), Held
	}
	f.tables, f.held = nil, f.tables
	return f.held[0].trouble
}

// recognise finds the follower's name, or makes one up, and makes sure that the source
// is the one that was followed before.
func (f *follow) recognise(ctx context.Context) error {
	origin, err := f.log.Origin(ctx)
	if err != nil {
		return err
	}
	const known = "SELECT name, origin FROM noemata.logs WHERE feed = $1"
	found, err := f.Warehouse.Ask(ctx, known, f.Feed.Name)
	if err != nil {
		return err
	}
	if len(found) == 0 { // of two first runs at once, one has its name kept, and both go on under that
		if err := f.Warehouse.Make(ctx, fmt.Sprintf("INSERT INTO noemata.logs (feed, name, origin, last_moment) VALUES (%s, %s, %s, 0) ON CONFLICT DO NOTHING",
			schema.Literal(f.Feed.Name), schema.Literal(logName(f.Feed.Name)), schema.Literal(origin))); err != nil {
			return err
		}
		if found, err = f.Warehouse.Ask(ctx, known, f.Feed.Name); err != nil {
			return err
		}
		if len(found) == 0 {
			return warehouse.Overtaken("the feed " + f.Feed.Name)
		}
	}
	f.name = found[0][0].(string)
	if was := found[0][1].(string); was != origin {
		return problem.Newf(problem.Held, "If that is meant, copy the feed's tables from it: noemata feeds copy FEED. A history keeps its past.",
			"The source is not the database that this feed has followed: it says it is %s, and the feed stands in the log of %s.", origin, was)
	}
	return nil
}

// clock is that of the last transaction that was applied.
func (f *follow) clock() change.Clock {
	return change.Clock{Last: f.lastMoment}
}

// gather reads the log and decides where it is cut. The warehouse takes in one cut while
// the next is gathered.
func (f *follow) gather(ctx context.Context, end string) error {
	var since time.Time // the oldest change that waits
	var reading time.Duration
	var had int64
	moved := time.Now()
	for {
		began := time.Now()
		p, err := f.stream.Next(ctx, began.Add(20*time.Millisecond))
		if err != nil {
			return err
		}
		now := time.Now()
		if p.Bytes > had { // else it was waited for
			reading += now.Sub(began)
		}
		had = p.Bytes
		f.reach(p)
		if !p.Open {
			select {
			case c := <-f.copies:
				f.stream.Rise(c.moment)
				c.read <- p.Position
			default:
			}
		}
		if p.Changes > 0 && since.IsZero() {
			since = now
		}
		done := f.finished(p, end)
		full := p.Bytes >= f.CutBytes || !p.Open && p.Bytes >= f.CutBytes/2 // better than to cut the next transaction in two
		due := p.Changes > 0 && !p.Open && now.Sub(since) >= f.Wait
		move := !p.Open && p.Changes == 0 && (now.Sub(moved) > moveAfter && p.Position > f.position() || f.joins(p.Position))
		if !done && !full && !due && !move {
			continue
		}
		if !f.await(ctx, done || full) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			continue
		}
		g := f.stream.Take()
		f.mu.Lock()
		f.waits++
		f.mu.Unlock()
		select {
		case f.cuts <- cut{g, reading}:
		case <-ctx.Done():
			return ctx.Err()
		}
		since, moved, reading, had = time.Time{}, now, 0, 0
		if done {
			return nil
		}
	}
}

// watchEnd asks for the end of the log once a second, so that it can be told how far
// behind the warehouse is.
func (f *follow) watchEnd(ctx context.Context) error {
	for {
		end, moment, err := f.log.End(statement.With(ctx, func(statement.Statement) {}))
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		f.mu.Lock()
		f.mark = mark{end, moment}
		f.mu.Unlock()
		f.tell()
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Second):
		}
	}
}

// reach notes that the log was read to an end that was asked for, and has nothing that the
// warehouse lacks.
func (f *follow) reach(p source.Progress) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if p.Changes == 0 && !p.Open && f.waits == 0 && f.mark.position != "" && p.Position >= f.mark.position {
		f.completeAt = f.mark.moment
	}
}

// await waits until the warehouse is free, if it must.
func (f *follow) await(ctx context.Context, must bool) bool {
	for {
		select {
		case <-f.ready:
			return true
		case <-ctx.Done():
			return false
		default:
		}
		if !must {
			return false
		}
		select {
		case <-f.ready:
			return true
		case <-ctx.Done():
			return false
		case <-time.After(time.Second):
			if err := f.stream.Beat(); err != nil {
				return false // the next read tells why
			}
		}
	}
}

// finished tells whether the run may end: at the end of a transaction, when it was asked
// to, or, where it only catches up, when it has, and all tables have been copied.
func (f *follow) finished(p source.Progress, end string) bool {
	if p.Open {
		return false
	}
	if f.Until != nil {
		select {
		case <-f.Until:
			return !f.reading()
		default:
			return false
		}
	}
	return p.Position >= end && f.copied() && !f.joins("")
}

// copied tells whether no table is being copied, or waits for the log to pass its copy.
func (f *follow) copied() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return !slices.ContainsFunc(f.tables, func(t *logTable) bool { return t.state == Copying })
}

// reading tells whether rows of a copy come in, which a run that ends would give up.
func (f *follow) reading() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.ContainsFunc(f.tables, func(t *logTable) bool { return t.state == Copying && t.waiting == "" })
}

// joins tells whether a table can join those that follow, now that the log was read up
// to a position; with an empty one, whether any table still waits to.
func (f *follow) joins(at string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.ContainsFunc(f.tables, func(t *logTable) bool { return t.state == Joining && (at == "" || at >= t.copy.Reached) })
}

func (f *follow) position() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.place.Position.Value
}

func (f *follow) report() LogReport {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := LogReport{Position: f.place.Position.Value, CompleteAt: f.completeAt, Commits: f.commits}
	for _, t := range slices.Concat(f.tables, f.held) {
		before := f.before[t.Table.Table]
		r.Tables = append(r.Tables, TableReport{Table: t.Table.Table, Target: t.target, State: t.state, Trouble: t.trouble, Copied: t.copied, Expected: max(t.expected, t.copied), Books: before.Books.Add(t.books),
			Reading: before.Reading + t.reading, Writing: before.Writing + t.writing, Waiting: t.waiting})
	}
	return r
}

func (f *follow) tell() {
	if f.Report != nil {
		f.Report(f.report())
	}
}

// DropLog removes what a feed has made at its source, and forgets where it stood. The
// target tables stay.
func DropLog(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) error {
	log, ok := src.(source.Log)
	if !ok {
		return nil
	}
	names, err := logNames(ctx, f.Name, wh)
	if err != nil {
		return err
	}
	for _, name := range names {
		if err := log.DropLog(ctx, name); err != nil {
			return err
		}
	}
	return forget(ctx, f.Name, wh)
}

// LetGo has the source retain nothing more for a feed. The feed is held from then on,
// until its tables are copied again.
func LetGo(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) error {
	log, ok := src.(source.Log)
	if !ok {
		return nil
	}
	names, err := logNames(ctx, f.Name, wh)
	for _, name := range names {
		if err = log.DropLog(ctx, name); err != nil {
			return err
		}
	}
	return err
}

func logNames(ctx context.Context, feed string, wh warehouse.Warehouse) ([]string, error) {
	var names []string
	has, err := wh.Ask(ctx, wh.Dialect().Columns, "noemata", "logs")
	if err != nil || len(has) == 0 {
		return nil, err
	}
	found, err := wh.Ask(ctx, "SELECT name FROM noemata.logs WHERE feed = $1", feed)
	for _, row := range found {
		names = append(names, row[0].(string))
	}
	return names, err
}

// forget clears position and copies of a feed.
func forget(ctx context.Context, feed string, wh warehouse.Warehouse) error {
	if names, err := logNames(ctx, feed, wh); err != nil || len(names) == 0 {
		return err
	}
	found, err := wh.Ask(ctx, "SELECT source_table FROM noemata.copies WHERE feed = $1", feed)
	if err != nil {
		return err
	}
	var statements []string
	for _, row := range found {
		statements = append(statements, dropCopies(feed, row[0].(string))...)
	}
	for _, table := range []string{"logs", "copies", "copy_parts"} {
		statements = append(statements, fmt.Sprintf("DELETE FROM noemata.%s WHERE feed = %s", table, schema.Literal(feed)))
	}
	if err := wh.Make(ctx, statements...); err != nil {
		return err
	}
	return wh.SetPlace(ctx, feed, "", nil)
}

// MayCopyAgain tells whether tables of a feed can be copied anew.
func MayCopyAgain(f *feed.Feed, tables []string) error {
	if !f.FollowsLog() {
		return problem.Newf(problem.Invalid, "Clear the table's position instead: noemata positions clear FEED TABLE.", "The feed %s does not follow the log.", f.Name)
	}
	for _, name := range tables {
		if _, ok := f.Table(name); !ok {
			return problem.Newf(problem.NotFound, "Check the name against the feed's tables; write it as schema.table.", "The feed %s has no table %q.", f.Name, name)
		}
	}
	return nil
}

// CopyAgain has tables copied anew by the next run; all of them, and from a new place in
// the log, where none is named. What the targets hold is kept until the copies are
// complete, and a history keeps its past.
func CopyAgain(ctx context.Context, f *feed.Feed, tables []string, src source.Source, wh warehouse.Warehouse) error {
	if err := MayCopyAgain(f, tables); err != nil {
		return err
	}
	var statements []string
	if len(tables) == 0 {
		names, err := logNames(ctx, f.Name, wh)
		if err != nil || len(names) == 0 {
			return err // it has not begun
		}
		if err := DropLog(ctx, f, src, wh); err != nil {
			return err
		}
		for _, t := range f.Tables { // a second generation: what the targets hold is this feed's own
			statements = append(statements, beginCopy(f.Name, t.Table, 2))
		}
		return wh.Make(ctx, statements...)
	}
	for _, name := range tables {
		statements = append(statements, copyAgain(f.Name, name)...)
	}
	return wh.Make(ctx, statements...)
}

// LogStateOf measures what a source retains for a feed; ok is false where nothing is yet.
func LogStateOf(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) (state source.LogState, ok bool, err error) {
	log, follows := src.(source.Log)
	if !follows || !f.FollowsLog() {
		return state, false, nil
	}
	names, err := logNames(ctx, f.Name, wh)
	if err != nil || len(names) == 0 {
		return state, false, err
	}
	place, err := wh.Place(ctx, f.Name, "")
	if err != nil {
		return state, false, err
	}
	state, err = log.LogState(ctx, names[0], place.Position.Value)
	return state, err == nil, err
}
