package engine

import (
	"context"
	"errors"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/refer"
	"noemata/internal/core/rows"
	"noemata/internal/core/shape"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A feed that follows a log is three at work: a reader takes the log in and decides where
// it is cut, an applier writes the cuts and brings tables in whose copies are done, and a
// copier copies the tables that are new. What they must know of each other is on a board.

// CutBytes is how many bytes of changes are gathered before they are written, and
// before a transaction that is larger is written in parts.
const CutBytes = 48 << 20

// LogWork is one run of a feed that follows a change log.
type LogWork struct {
	Feed      *feed.Feed
	Run       int64
	Source    source.Source
	Warehouse warehouse.Warehouse
	Keys      shape.Keys      // that columns are hashed with
	Wait      time.Duration   // how long changes may be gathered before they are written
	Until     <-chan struct{} // the run follows on until this is closed; nil: it only catches up
	CutBytes  int64           // CutBytes, unless set
	Heavy     window.Hours    // when copies may begin
	Report    func(LogReport) // may be nil; called after each commit and while tables are copied
}

// LogReport is how far a run has come.
type LogReport struct {
	Name       string // of the follower, at the source
	Position   string
	CompleteAt time.Time // everything the source committed before this is in the warehouse
	Commits    int64     // of the warehouse, in this run
	Tables     []TableReport
}

// TableReport is how far a run has come with one table.
type TableReport struct {
	Table    string
	Target   warehouse.Target
	State    warehouse.State
	Trouble  error // why it is held
	Copied   int64 // rows, while it is copied
	Expected int64 // an estimate of the rows
	Books    rows.Books
	Spent
	Waiting string // what the copy waits for, as a sentence
}

// Follow brings all tables of a feed forward together, each commit to the end of a
// transaction of the source. What was committed before an error stays.
func (e *Engine) Follow(ctx context.Context, w LogWork) (LogReport, error) {
	if w.CutBytes == 0 {
		w.CutBytes = CutBytes
	}
	s := &session{engine: e, LogWork: w, board: &board{before: map[string]TableReport{}}}
	var err error
	copies := map[string]int{} // by table: how often it was set back in this run
	for range 2*len(w.Feed.Tables) + 1 {
		err = problem.Guarded(func() error { return s.run(ctx) })()
		if errors.Is(err, errAgain) && ctx.Err() == nil {
			s = &session{engine: e, LogWork: w, board: s.board.again()}
			continue
		}
		var trouble *tableError
		if ctx.Err() != nil || !errors.As(err, &trouble) {
			break
		}
		// The others go on without the table, from what was committed last.
		if _, err = s.setBack(ctx, trouble, copies[trouble.table] > 0); err != nil {
			break
		}
		copies[trouble.table]++
		s = &session{engine: e, LogWork: w, board: s.board.again()}
	}
	if errors.Is(err, errAgain) {
		err = nil // the next run goes on
	}
	err = named(err, w.Feed.Name, "TABLE")
	if err != nil && ctx.Err() != nil {
		err = problem.Wrap(err, problem.Stopped, "The run was stopped before its end.",
			"What was committed stays; the next run goes on from there.")
	}
	return s.board.report(), err
}

// session is one attempt of a run.
type session struct {
	LogWork
	engine    *Engine
	log       source.Log
	name      string // of slot and publication
	origin    string // of the log: which database it is
	tables    []*logTable
	links     []*refer.Table // how rows of the tables refer to others; nil where none do
	board     *board
	replays   string      // transactions up to this position have been applied before; empty for none
	placed    time.Time   // when the last place was kept
	isSetBack atomic.Bool // tables are to be copied again, which may have failed whoever was copying them
}

// logTable is one table of the feed. Its copy is the copier's until it joins, and the
// applier's from then on; others ask the board.
type logTable struct {
	plan
	feed.Table
	keyAt   []int // indexes of the key's columns
	copy    warehouse.Copy
	fills   []string // columns that rows which are there are given; nil where whole rows are copied
	made    bool     // its target was missing
	trouble error    // what is in the way, found before the log was read
	heldFor *reason
	told    TableReport // guarded by the board
}

// followed is the table as the log must tell of it.
func (t *logTable) followed() source.Followed {
	return source.Followed{Table: t.query.Table, Key: t.followedKey(), Whole: t.whole, Takes: t.Changes,
		Fills: t.sourcesOf(t.fills)}
}

// followedKey is the target's key, as the source calls it.
func (t *logTable) followedKey() []string {
	if len(t.target.Key) == 0 {
		return nil
	}
	return t.plan.key
}

// stash is where the warehouse keeps what comes before the table joins.
func (t *logTable) stash(feed string) warehouse.Stash {
	return warehouse.Stash{Feed: feed, Table: t.Table.Table, Columns: t.shape.Arrives().Columns, Key: t.target.Key}
}

func (s *session) run(ctx context.Context) error {
	if err := s.begin(ctx); err != nil {
		return err
	}
	end := ""
	if s.Until == nil {
		var err error
		if end, _, err = s.log.End(ctx); err != nil {
			return err
		}
	}
	var tables []source.Followed
	for _, t := range s.tables {
		tables = append(tables, t.followed())
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	from, lastMoment := s.board.at()
	for _, t := range s.tables { // what is read from here on comes after the copies that have yet to join
		if t.copy.State == warehouse.Joining {
			lastMoment = max(lastMoment, t.copy.Moment)
		}
	}
	stream, err := s.log.Follow(working, source.Follow{Name: s.name, Tables: tables, From: from.Position.Value,
		Clock: s.clock(lastMoment), MaxBytes: s.CutBytes})
	if err != nil {
		return err
	}
	defer stream.Close()
	cuts, begun, free := make(chan cut), make(chan beginning), make(chan struct{}, 1)
	reads := &reader{session: s, stream: stream, end: end, cuts: cuts, begun: begun, free: free}
	applies := &applier{session: s, stream: stream, cuts: cuts, free: free}
	copies := &copier{session: s, begun: begun}
	group, working := errgroup.WithContext(working)
	work := func(do func() error) { group.Go(problem.Guarded(do)) }
	work(func() error { return applies.run(working) })
	beside, rest := context.WithCancel(working) // as long as the log is read
	work(func() error { return copies.run(beside) })
	work(func() error { return s.watchEnd(beside) })
	work(func() error {
		defer rest()
		defer close(cuts)
		return reads.run(working)
	})
	if err := group.Wait(); err != nil {
		if s.isSetBack.Load() {
			return errAgain
		}
		return err
	}
	stands, _ := s.board.at()
	stream.Confirm(stands.Position.Value)
	return stream.Beat()
}

// tell reports how far the run has come.
func (s *session) tell() {
	if s.Report != nil {
		r := s.board.report()
		r.Name = s.name
		s.Report(r)
	}
}

// stateOf is a table's state, as the board has it.
func (s *session) stateOf(t *logTable) warehouse.State {
	s.board.mu.Lock()
	defer s.board.mu.Unlock()
	return t.told.State
}

// any tells whether there is a table of which something holds.
func (s *session) any(of func(TableReport) bool) bool {
	s.board.mu.Lock()
	defer s.board.mu.Unlock()
	return slices.ContainsFunc(s.tables, func(t *logTable) bool { return of(t.told) })
}
