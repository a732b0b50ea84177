package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/drift"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// logName makes up the name of a feed's follower at the source.
func logName(feed string) string {
	return fmt.Sprintf("noemata_%.30s_%s", strings.ReplaceAll(feed, "-", "_"), strings.ToLower(rand.Text()[:8]))
}

// begin finds out where the feed stands and makes what is missing on both sides.
func (s *session) begin(ctx context.Context) error {
	var ok bool
	if s.log, ok = s.Source.(source.Log); !ok {
		return problem.Newf(problem.Invalid, "Write find: watermark.",
			"The change log of this kind of source cannot be followed.")
	}
	if err := s.plan(ctx); err != nil {
		return err
	}
	if err := s.recognise(ctx); err != nil {
		return err
	}
	if err := s.recallAll(ctx); err != nil {
		return err
	}
	if err := s.findTroubles(ctx); err != nil {
		return err
	}
	stands, _ := s.board.at()
	var tables []source.Followed
	for _, t := range s.tables {
		tables = append(tables, t.since(stands))
	}
	since, err := s.keptSince(ctx)
	if err != nil {
		return err
	}
	begun, err := s.log.PrepareLog(ctx, source.Prepared{Name: s.name, Tables: tables, Begun: stands.Position.Value,
		Behind: s.Feed.BehindBy() > 0, Since: since})
	var one *source.TableError
	if errors.As(err, &one) {
		i := slices.IndexFunc(s.tables, func(t *logTable) bool { return t.query.Table.Name == one.Table })
		return blame(s.tables[i], err)
	}
	if err != nil {
		return err
	}
	if begun != stands.Position.Value { // what is read may hang on it
		stands, err = s.standAt(ctx, stands, begun)
	}
	s.board.mu.Lock()
	s.board.stands = stands
	s.board.mu.Unlock()
	return err
}

// standAt keeps where a feed begins, before anything is copied: what the copies do not show
// is read from there on, also by another run.
func (s *session) standAt(ctx context.Context, stands warehouse.Checkpoint, begun string) (warehouse.Checkpoint,
	error) {
	c, err := s.Warehouse.Begin(ctx)
	if err != nil {
		return stands, err
	}
	defer c.Abort()
	next, err := c.Move(ctx, s.Feed.Name, "", stands, position.Position{Value: begun}, s.Run)
	if err != nil {
		return stands, err
	}
	return next, c.Finish(ctx)
}

// plan looks every table up on both sides. What is wrong with one is its own trouble, but
// where nothing has begun and nothing can.
func (s *session) plan(ctx context.Context) error {
	var tables []*logTable
	var first error
	for _, table := range s.Feed.Tables {
		t := &logTable{Table: table, copy: warehouse.Copy{Table: table.Table, State: warehouse.Copying, Generation: 1}}
		var err error
		if t.plan, t.Table, err = planFor(ctx, s.Feed, table, s.Source, s.Warehouse, s.Keys); err == nil {
			err = t.known.remember(ctx, s.Feed, table, s.Warehouse)
		}
		if err == nil {
			t.made, err = s.Warehouse.Prepare(ctx, t.target)
		}
		if err != nil && !problem.OfTable(err) {
			return err
		}
		if t.trouble = err; t.shape != nil {
			t.keyAt = schema.Indexes(t.shape.Arrives().Columns, t.target.Key)
		}
		t.told = TableReport{Table: table.Table, Target: t.target, State: t.copy.State,
			Expected: max(t.query.Table.Rows, 0)}
		tables, first = append(tables, t), cmp.Or(first, named(err, s.Feed.Name, table.Table))
	}
	linked(tables)
	s.tables = tables
	s.board.mu.Lock()
	s.board.tables = tables
	s.board.mu.Unlock()
	_, begun, err := s.Warehouse.Journal().Log(ctx, s.Feed.Name)
	if err != nil {
		return err
	}
	if !begun && !slices.ContainsFunc(tables, func(t *logTable) bool { return t.trouble == nil }) {
		return first
	}
	return nil
}

// recognise finds where the feed stands and its follower's name, or makes one up, and makes
// sure that the source is the one that was followed before.
func (s *session) recognise(ctx context.Context) error {
	journal := s.Warehouse.Journal()
	stands, err := journal.Checkpoint(ctx, s.Feed.Name, "")
	if err != nil {
		return err
	}
	origin, err := s.log.Origin(ctx)
	if err != nil {
		return err
	}
	log, known, err := journal.Log(ctx, s.Feed.Name)
	if err == nil && !known {
		log, err = journal.EnterLog(ctx, s.Feed.Name, warehouse.Log{Name: logName(s.Feed.Name), Origin: origin})
	}
	if err != nil {
		return err
	}
	s.name, s.origin = log.Name, origin
	if log.Origin != origin {
		return problem.Newf(problem.Held,
			"If that is meant, copy the feed's tables from it: noemata feeds copy FEED. A history keeps its past.",
			"The source is not the database that this feed has followed: it says it is %s, and the feed stands in "+
				"the log of %s.",
			origin, log.Origin)
	}
	if stands.Position.Value < log.ReplaysTo {
		s.replays = log.ReplaysTo
	}
	s.board.mu.Lock()
	s.board.stands, s.board.lastMoment = stands, log.LastMoment
	s.board.mu.Unlock()
	return nil
}

// stashesAtOnce is how many stashes are made in one transaction: PostgreSQL locks each of their tables in it.
const stashesAtOnce = 500

// recallAll finds the state of each table, and begins those that are new.
func (s *session) recallAll(ctx context.Context) error {
	known, err := s.Warehouse.Journal().Copies(ctx, s.Feed.Name)
	if err != nil {
		return err
	}
	var entries, begins, stashes []warehouse.Entry
	for _, c := range known {
		if _, ok := s.Feed.Table(c.Table); !ok {
			entries = append(entries, warehouse.DropCopy{Table: c.Table})
		}
	}
	for _, t := range s.tables {
		i := slices.IndexFunc(known, func(c warehouse.Copy) bool { return c.Table == t.Table.Table })
		if i < 0 {
			begins = append(begins, warehouse.BeginCopy{Table: t.Table.Table, Generation: 1})
		} else {
			t.copy = known[i]
			if entries, err = s.recall(ctx, t, entries); err != nil {
				return err
			}
		}
		if t.trouble == nil && (t.copy.State == warehouse.Copying || t.copy.State == warehouse.Joining) {
			stashes = append(stashes, warehouse.MakeStash{Stash: t.stash(s.Feed.Name)})
		}
		s.board.update(t, func(r *TableReport) { r.State = t.copy.State })
	}
	if err := s.Warehouse.Journal().Note(ctx, s.Feed.Name, append(entries, begins...)...); err != nil {
		return err
	}
	for some := range slices.Chunk(stashes, stashesAtOnce) {
		if err := s.Warehouse.Journal().Note(ctx, s.Feed.Name, some...); err != nil {
			return err
		}
	}
	return nil
}

// recall takes up a table that was known before, as the journal has it.
func (s *session) recall(ctx context.Context, t *logTable, entries []warehouse.Entry) ([]warehouse.Entry, error) {
	if t.copy.Fills != "" && !t.recallFills() { // the table has changed again, or the feed
		entries = append(entries, t.copyAgain())
	}
	switch {
	case t.copy.State == warehouse.Held:
		t.heldFor = &reason{}
		return entries, json.Unmarshal([]byte(t.copy.Reason), t.heldFor)
	case t.copy.State == warehouse.Following && t.made: // what it held is gone, or is elsewhere
		entries = append(entries, t.copyAgain())
	case t.copy.State == warehouse.Following && t.trouble == nil && t.copy.Structure == "":
		// It joined under a version that kept none.
		entries = append(entries, warehouse.KeepStructure{Table: t.Table.Table,
			Structure: structureOf(t.plan).String()})
	case t.copy.State == warehouse.Following && t.trouble == nil:
		var was structure
		if err := json.Unmarshal([]byte(t.copy.Structure), &was); err != nil {
			return entries, fmt.Errorf("the structure of %s in the warehouse's journal: %w", t.Table.Table, err)
		}
		if err := structureOf(t.plan).changed(was, t.Table.Table, copyRemedy); err != nil {
			return entries, blame(t, err)
		}
		if err := partsChanged(ctx, s.Source, t.plan, t.Table, was, copyRemedy); err != nil {
			return entries, blame(t, err)
		}
		if lost := structureOf(t.plan).lost(was, t.Table, s.Run); lost != nil {
			entries = append(entries, lost)
		}
		now := structureOf(t.plan)
		switch {
		case now.gains(was): // the target has the new columns already; older rows have no values in them
			entries = append(entries, s.copyAgainFor(t, was))
		case now.String() != t.copy.Structure: // a column that is left out from here on, and comes back, was away
			entries = append(entries, warehouse.KeepStructure{Table: t.Table.Table, Structure: now.String()})
		}
	case t.copy.State == warehouse.Copying && t.copy.Generation > 1 && t.trouble != nil && t.target.Name.Table != "":
		// A person has asked for it, so the target may be changed.
		if err := s.Warehouse.Refit(ctx, t.target); err != nil {
			return entries, blame(t, err)
		}
		if t.made, t.trouble = s.Warehouse.Prepare(ctx, t.target); t.trouble != nil && !problem.OfTable(t.trouble) {
			return entries, t.trouble
		}
	}
	return entries, nil
}

// copyAgain begins the copy of a table that was known before anew.
func (t *logTable) copyAgain() warehouse.Entry {
	t.fills = nil
	t.copy = warehouse.Copy{Table: t.Table.Table, State: warehouse.Copying, Generation: t.copy.Generation + 1}
	return warehouse.CopyAgain{Table: t.Table.Table}
}

// since is the table as the log must tell of it from where the feed stands.
func (t *logTable) since(stands warehouse.Checkpoint) source.Followed {
	x := t.followed()
	if t.copy.State == warehouse.Following || t.fills != nil {
		x.Since = stands.Position.Value
	}
	x.Copied = t.copy.State == warehouse.Joining
	return x
}

// findTroubles asks the source what is in the way of following, and holds the tables that
// something is in the way of. What is in the way of all is the run's own failure.
func (s *session) findTroubles(ctx context.Context) error {
	if err := s.askTroubles(ctx); err != nil {
		return err
	}
	if follows, err := s.followDrift(ctx); err != nil || follows {
		if err == nil {
			err = s.begin(ctx)
		}
		return err
	}
	canGo := func(t *logTable) bool {
		return t.trouble == nil && (t.copy.State != warehouse.Held || t.heldFor.Heals)
	}
	if !slices.ContainsFunc(s.tables, canGo) {
		return s.allHeld()
	}
	var going []*logTable
	for _, t := range s.tables {
		held := t.copy.State == warehouse.Held
		switch {
		case held && t.trouble == nil && t.heldFor.Heals: // nothing is in the way any more
			if err := CopyAgain(ctx, s.Feed, []string{t.Table.Table}, s.Source, s.Warehouse); err != nil {
				return err
			}
			return s.begin(ctx)
		case held && t.trouble == nil:
			s.isHeld(t, t.heldFor.problem())
		case held:
			s.isHeld(t, t.trouble)
		case t.trouble != nil:
			if _, err := s.setBack(ctx, &tableError{t.Table.Table, t.trouble, true}, true); err != nil {
				return err
			}
			s.isHeld(t, t.trouble)
		default:
			going = append(going, t)
		}
	}
	s.tables, s.links = going, refersAs(going)
	return nil
}

// followDrift sets the tables back whose structure has changed and that follow such changes.
func (s *session) followDrift(ctx context.Context) (follows bool, err error) {
	for _, t := range s.tables {
		kind, drifted := drift.KindOf(t.trouble)
		if !drifted || t.copy.State != warehouse.Following {
			continue
		}
		// What a person has chosen, or made otherwise, is followed whatever the policy: they know.
		var entry warehouse.Entry
		if kind == drift.Columns {
			entry = s.chosen(t)
		}
		if entry == nil && s.remade(t) {
			entry = t.copyAgain()
		}
		if entry != nil {
			if err := s.Warehouse.Journal().Note(ctx, s.Feed.Name, entry); err != nil {
				return follows, err
			}
			follows = true
			continue
		}
		if s.Feed.Policy(t.Table, kind) != drift.Follow {
			continue
		}
		follows = true
		if _, err := s.setBack(ctx, &tableError{t.Table.Table, t.trouble, true}, false); err != nil {
			return follows, err
		}
	}
	return follows, nil
}

// askTroubles notes what the source says of each table. What is of none is the feed's.
func (s *session) askTroubles(ctx context.Context) error {
	stands, _ := s.board.at()
	var asked []source.Followed
	for _, t := range s.tables {
		if t.trouble == nil && t.copy.State != warehouse.Held {
			asked = append(asked, t.since(stands))
		}
	}
	findings, err := s.log.LogFindings(ctx, asked)
	if err != nil {
		return err
	}
	for _, found := range findings {
		if found.Level != problem.Blocker {
			continue
		}
		trouble := problem.New(problem.Held, strings.TrimSpace(found.Table+": "+found.What), found.Remedy)
		i := slices.IndexFunc(s.tables, func(t *logTable) bool {
			return t.trouble == nil && t.query.Table.Name.Display() == found.Table
		})
		if i < 0 {
			return trouble
		}
		s.tables[i].trouble = trouble
	}
	return nil
}

// isHeld tells that a table is held, and why.
func (s *session) isHeld(t *logTable, trouble error) {
	s.board.update(t, func(r *TableReport) {
		r.State, r.Trouble = warehouse.Held, named(trouble, s.Feed.Name, t.Table.Table)
	})
}

// allHeld is the failure of a run in which no table can go on. The feed stays where it
// stands, so no table misses anything by it, and none needs to be copied for that.
func (s *session) allHeld() error {
	var first error
	for _, t := range s.tables {
		trouble := t.trouble
		if trouble == nil {
			trouble = t.heldFor.problem()
		}
		s.isHeld(t, trouble)
		first = cmp.Or(first, named(trouble, s.Feed.Name, t.Table.Table))
	}
	s.tables = nil
	return first
}
