package plain

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/change"
	"noemata/internal/core/drift"
	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
	"noemata/internal/warehouse"
)

// of is a table of a feed; "" is the feed's own.
type of struct{ feed, table string }

// part is one part of a copy.
type partOf struct {
	of
	generation int64
	part       int
}

// load is one commit of a table.
type load struct {
	target   string
	from, to position.Position
	books    rows.Books
	shape    string
}

// state is all that a warehouse knows. Its maps are copied for each commit, and what is in
// them is never changed.
type state struct {
	tables      map[schema.Name]table
	checkpoints map[of]warehouse.Checkpoint
	loads       map[of][]load
	aside       map[of][]rows.Aside
	sweeps      map[of]time.Time
	logs        map[string]warehouse.Log
	copies      map[of]warehouse.Copy
	parts       map[partOf]warehouse.PartCopied
	copied      map[of]table
	waiting     map[of]table
	drifts      map[string][]drift.Drift // by feed, the newest last
	structures  map[of]string
	compared    map[of]string
	beginnings  map[of]position.Position
	columns     map[of]string
	places      map[string][]warehouse.Place // by feed, the newest last
}

func newState() state {
	return state{map[schema.Name]table{}, map[of]warehouse.Checkpoint{}, map[of][]load{}, map[of][]rows.Aside{},
		map[of]time.Time{},
		map[string]warehouse.Log{}, map[of]warehouse.Copy{}, map[partOf]warehouse.PartCopied{}, map[of]table{},
		map[of]table{}, map[string][]drift.Drift{}, map[of]string{}, map[of]string{},
		map[of]position.Position{}, map[of]string{}, map[string][]warehouse.Place{}}
}

func (s state) clone() state {
	return state{maps.Clone(s.tables), maps.Clone(s.checkpoints), maps.Clone(s.loads), maps.Clone(s.aside),
		maps.Clone(s.sweeps),
		maps.Clone(s.logs), maps.Clone(s.copies), maps.Clone(s.parts), maps.Clone(s.copied), maps.Clone(s.waiting),
		maps.Clone(s.drifts), maps.Clone(s.structures), maps.Clone(s.compared), maps.Clone(s.beginnings),
		maps.Clone(s.columns), maps.Clone(s.places)}
}

func (s state) dropStash(at of) {
	delete(s.copied, at)
	delete(s.waiting, at)
	maps.DeleteFunc(s.parts, func(p partOf, _ warehouse.PartCopied) bool { return p.of == at })
}

// move sets a checkpoint; without an expected version whatever it is.
func (s state) move(at of, expected *int64, to position.Position, run int64) (warehouse.Checkpoint, error) {
	c := s.checkpoints[at]
	if expected != nil && c.Version != *expected {
		name := at.table
		if name == "" {
			name = "the feed " + at.feed
		}
		return c, warehouse.Overtaken(name)
	}
	c = warehouse.Checkpoint{Table: at.table, Position: to, Version: c.Version + 1, Run: run, MovedAt: time.Now()}
	s.checkpoints[at] = c
	return c, nil
}

// note makes one entry.
//
// Longer than a screen: it has a case for each entry.
func (s state) note(feed string, entry warehouse.Entry) error {
	at := func(table string) of { return of{feed, table} }
	update := func(table string, expect func(warehouse.Copy) bool, change func(*warehouse.Copy)) error {
		c, ok := s.copies[at(table)]
		if !ok || !expect(c) {
			return warehouse.Overtaken(table)
		}
		change(&c)
		s.copies[at(table)] = c
		return nil
	}
	any := func(warehouse.Copy) bool { return true }
	switch e := entry.(type) {
	case warehouse.BeginCopy:
		if _, ok := s.copies[at(e.Table)]; !ok {
			delete(s.aside, at(e.Table))
			s.copies[at(e.Table)] = warehouse.Copy{Table: e.Table, State: warehouse.Copying, Generation: e.Generation}
		}
	case warehouse.CopyAgain:
		s.dropStash(at(e.Table))
		if e.Fills == "" {
			delete(s.aside, at(e.Table))
		}
		_ = update(e.Table, any, func(c *warehouse.Copy) {
			*c = warehouse.Copy{Table: e.Table, State: warehouse.Copying, Generation: c.Generation + 1, Fills: e.Fills}
		})
	case warehouse.DropCopy:
		s.dropStash(at(e.Table))
		delete(s.copies, at(e.Table))
	case warehouse.MakeStash:
		if _, ok := s.copied[at(e.Stash.Table)]; !ok {
			s.copied[at(e.Stash.Table)] = table{columns: stash.CopiedColumns(e.Stash.Columns)}
			s.waiting[at(e.Stash.Table)] = table{columns: stash.Columns(e.Stash.Columns)}
		}
	case warehouse.TakeSnapshot:
		return update(e.To.Table, func(c warehouse.Copy) bool {
			return c.Generation == e.From.Generation && slices.Equal(c.Snapshots, e.From.Snapshots) &&
				c.State == warehouse.Copying
		}, func(c *warehouse.Copy) {
			c.Generation, c.Layout, c.Snapshots = e.To.Generation, e.To.Layout, slices.Clone(e.To.Snapshots)
		})
	case warehouse.EmptyStash:
		if !e.Fills {
			delete(s.aside, at(e.Stash.Table))
		}
		s.copied[at(e.Stash.Table)] = table{columns: s.copied[at(e.Stash.Table)].columns}
	case warehouse.PartCopied:
		s.parts[partOf{at(e.Table), e.Generation, e.Part}] = e
	case warehouse.CopyDone:
		_ = update(e.Table, func(c warehouse.Copy) bool {
			return c.Generation == e.Generation &&
				c.State == warehouse.Copying
		},
			func(c *warehouse.Copy) { c.State, c.Reached, c.Moment = warehouse.Joining, e.Reached, e.Moment })
	case warehouse.SettleCopy:
		s.settle(at(e.Stash.Table), e)
	case warehouse.Joined:
		s.dropStash(at(e.Table))
		return update(e.Table, func(c warehouse.Copy) bool {
			return c.Generation == e.Generation &&
				c.State == warehouse.Joining
		},
			func(c *warehouse.Copy) {
				*c = warehouse.Copy{Table: e.Table, State: warehouse.Following, Generation: c.Generation,
					Structure: e.Structure}
			})
	case warehouse.KeepStructure:
		return update(e.Table, any, func(c *warehouse.Copy) { c.Structure = e.Structure })
	case warehouse.Hold:
		s.dropStash(at(e.Table))
		return update(e.Table, func(warehouse.Copy) bool { return s.checkpoints[at("")].Version == e.Version },
			func(c *warehouse.Copy) {
				*c = warehouse.Copy{Table: e.Table, State: warehouse.Held, Generation: c.Generation + 1,
					Reason: e.Reason}
			})
	case warehouse.LastMoment:
		l := s.logs[feed]
		l.LastMoment = e.Moment
		s.logs[feed] = l
	case warehouse.Reached:
		s.places[feed] = append(slices.DeleteFunc(slices.Clone(s.places[feed]),
			func(p warehouse.Place) bool { return p.At.Before(e.Forget) }), e.Place)
	case warehouse.Proved: // nobody asks it
	case warehouse.Swept:
		s.sweeps[at(e.Table)] = time.Now()
	case warehouse.Structured:
		s.structures[at(e.Table)] = e.Structure
	case warehouse.Compared:
		s.compared[at(e.Table)] = e.Found
	case warehouse.Columns:
		s.columns[at(e.Table)] = e.Known
	case warehouse.Begins:
		s.beginnings[at(e.Table)] = e.Position
	case warehouse.Drifted:
		e.Entry.At = time.Now()
		s.drifts[feed] = append(slices.Clone(s.drifts[feed]), e.Entry)
	case warehouse.SetAside:
		s.keepAside(at(e.Table), e.Rows, nil)
	default:
		return fmt.Errorf("the journal knows no entry of the form %T", entry)
	}
	return nil
}

// keepAside keeps rows that are set aside, once each, and takes out those that have healed.
func (s state) keepAside(at of, list []rows.Aside, healed []string) {
	kept := slices.DeleteFunc(slices.Clone(s.aside[at]), func(a rows.Aside) bool {
		return slices.Contains(healed, a.Key) ||
			slices.ContainsFunc(list, func(b rows.Aside) bool { return a.Digest() == b.Digest() })
	})
	for _, a := range list {
		if !slices.ContainsFunc(kept, func(b rows.Aside) bool { return a.Digest() == b.Digest() }) {
			kept = append(kept, a)
		}
	}
	s.aside[at] = kept
}

// settle leaves the latest row of each key in a copy, and takes out the changes it shows.
func (s state) settle(at of, e warehouse.SettleCopy) {
	t := warehouse.Target{Key: e.Stash.Key}
	latest := map[string]row{}
	number := func(r row) string { return fmt.Sprintf("%020s", r[stash.Snapshot].text) }
	for _, r := range s.copied[at].rows {
		if was, ok := latest[keyOf(t, r)]; !ok || number(was) < number(r) {
			latest[keyOf(t, r)] = r
		}
	}
	copied, waiting := s.copied[at].clone(), s.waiting[at].clone()
	copied.rows = slices.DeleteFunc(copied.rows, func(r row) bool { return number(r) < number(latest[keyOf(t, r)]) })
	waiting.rows = slices.DeleteFunc(waiting.rows, func(r row) bool {
		for n, positions := range e.Shown {
			if slices.Contains(positions, r[stash.Commit].text) {
				shows := fmt.Sprintf("%020d", e.Snapshots)
				if c, ok := latest[keyOf(t, r)]; ok {
					shows = number(c)
				}
				return shows >= fmt.Sprintf("%020d", n)
			}
		}
		return false
	})
	s.copied[at], s.waiting[at] = copied, waiting
}

// journal is what the warehouse remembers.
type journal struct{ *Warehouse }

// Journal is what the warehouse remembers.
func (w *Warehouse) Journal() warehouse.Journal { return journal{w} }

func (j journal) Checkpoint(_ context.Context, feed, table string) (warehouse.Checkpoint, error) {
	c, ok := j.see().checkpoints[of{feed, table}]
	if !ok {
		c.Table = table
	}
	return c, nil
}

func (j journal) Checkpoints(_ context.Context, feed string) (list []warehouse.Checkpoint, err error) {
	for at, c := range j.see().checkpoints {
		if at.feed == feed {
			list = append(list, c)
		}
	}
	slices.SortFunc(list, func(a, b warehouse.Checkpoint) int { return strings.Compare(a.Table, b.Table) })
	return list, nil
}

func (j journal) SetPosition(ctx context.Context, feed, table string, p *position.Position) error {
	return j.change(ctx, func(s state) error {
		var to position.Position
		if p != nil {
			to = *p
		}
		stood := s.checkpoints[of{feed, table}].Position.Value
		if l, ok := s.logs[feed]; ok && table == "" && p != nil && to.Value < stood {
			l.ReplaysTo = max(l.ReplaysTo, stood)
			s.logs[feed] = l
		}
		_, err := s.move(of{feed, table}, nil, to, 0)
		return err
	})
}

func (j journal) FirstPosition(_ context.Context, feed, table string) (position.Position, error) {
	if p, ok := j.see().beginnings[of{feed, table}]; ok {
		return p, nil
	}
	for _, l := range j.see().loads[of{feed, table}] {
		if !l.to.IsZero() {
			return l.to, nil
		}
	}
	return position.Position{}, nil
}

func (j journal) LastLoad(_ context.Context, feed, table string) (target, shape string, err error) {
	loads := j.see().loads[of{feed, table}]
	if len(loads) == 0 {
		return "", "", nil
	}
	last := loads[len(loads)-1]
	return last.target, last.shape, nil
}

func (j journal) Drifts(_ context.Context, feed string, limit int) ([]drift.Drift, error) {
	list := slices.Clone(j.see().drifts[feed])
	slices.Reverse(list)
	return list[:min(limit, len(list))], nil
}

func (j journal) Structure(_ context.Context, feed, table string) (string, error) {
	return j.see().structures[of{feed, table}], nil
}

func (j journal) Columns(_ context.Context, feed, table string) (string, error) {
	return j.see().columns[of{feed, table}], nil
}

func (j journal) Compared(_ context.Context, feed, table string) (string, error) {
	return j.see().compared[of{feed, table}], nil
}

func (j journal) LastSweep(_ context.Context, feed, table string) (time.Time, error) {
	return j.see().sweeps[of{feed, table}], nil
}

func (j journal) Log(_ context.Context, feed string) (warehouse.Log, bool, error) {
	l, ok := j.see().logs[feed]
	return l, ok, nil
}

func (j journal) PlaceAt(_ context.Context, feed string, by time.Time) (p warehouse.Place, ok bool, err error) {
	for _, x := range j.see().places[feed] {
		if !x.At.After(by) {
			p, ok = x, true
		}
	}
	return p, ok, nil
}

func (j journal) EnterLog(ctx context.Context, feed string, l warehouse.Log) (kept warehouse.Log, err error) {
	err = j.change(ctx, func(s state) error {
		if _, ok := s.logs[feed]; !ok {
			s.logs[feed] = l
		}
		kept = s.logs[feed]
		return nil
	})
	return kept, err
}

func (j journal) Forget(ctx context.Context, feed string) error {
	if _, ok := j.see().logs[feed]; !ok {
		return nil
	}
	return j.change(ctx, func(s state) error {
		delete(s.logs, feed)
		delete(s.places, feed)
		for at := range s.copies {
			if at.feed == feed {
				s.dropStash(at)
				delete(s.copies, at)
			}
		}
		_, err := s.move(of{feed, ""}, nil, position.Position{}, 0)
		return err
	})
}

func (j journal) Copies(_ context.Context, feed string) (list []warehouse.Copy, err error) {
	for at, c := range j.see().copies {
		if at.feed == feed {
			list = append(list, c)
		}
	}
	return list, nil
}

func (j journal) Parts(_ context.Context, feed string, c warehouse.Copy) (list []warehouse.PartCopied, err error) {
	for p, x := range j.see().parts {
		if p.of == (of{feed, c.Table}) && p.generation == c.Generation {
			list = append(list, x)
		}
	}
	return list, nil
}

func (j journal) Waiting(_ context.Context, s warehouse.Stash, sink func(arrow.RecordBatch) error) error {
	t := j.see().waiting[of{s.Feed, s.Table}].clone()
	if len(t.rows) == 0 {
		return nil
	}
	slices.SortStableFunc(t.rows,
		func(a, b row) int {
			return strings.Compare(a[stash.Event].text, b[stash.Event].text)
		})
	return sink(recordOf(t.rows, stash.Columns(s.Columns)))
}

func (j journal) WaitingTxns(_ context.Context, s warehouse.Stash, visit func(change.Txn)) error {
	t := j.see().waiting[of{s.Feed, s.Table}]
	stash.Txns(recordOf(t.rows, stash.TxnColumns()), visit)
	return nil
}

func (j journal) Note(ctx context.Context, feed string, entries ...warehouse.Entry) error {
	return j.change(ctx, func(s state) error { return noteAll(s, feed, entries) })
}

func noteAll(s state, feed string, entries []warehouse.Entry) error {
	for _, e := range entries {
		if err := s.note(feed, e); err != nil {
			return err
		}
	}
	return nil
}
