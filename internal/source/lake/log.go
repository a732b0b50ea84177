//go:build duckdb_arrow

package lake

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/apache/iceberg-go/table"

	"noemata/internal/core/drift"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

// The log of a lake is the snapshots of its tables: each names the one that it was made from. They stay for as long as
// whoever writes the table keeps them.

// Origin names the database of the catalogue.
func (s *Source) Origin(ctx context.Context) (string, error) { return s.keeper.Origin(ctx) }

// End is now: what was committed before a moment is there at it.
func (s *Source) End(ctx context.Context) (string, time.Time, error) {
	m, err := s.Moment(ctx)
	return place{moment: m.Clock}.String(), m.Clock, err
}

// PrepareLog retains nothing. The place that it gives names every table: those that were not named are read from the
// snapshot on that they have now, and where they were copied already, that they had at the place's moment.
func (s *Source) PrepareLog(ctx context.Context, p source.Prepared) (string, error) {
	x, err := s.look(ctx)
	if err != nil {
		return "", err
	}
	begun := place{moment: x.clock, tables: map[string]int64{}}
	if p.Begun != "" {
		if begun, err = parse(p.Begun); err != nil {
			return "", err
		}
	}
	for _, f := range p.Tables {
		name := f.Table.Name
		t, err := s.seen(ctx, x, name)
		if err != nil {
			return "", &source.TableError{Table: name, Err: err}
		}
		at, named := begun.tables[name.Display()]
		_, _, reached := chain(t, at)
		switch {
		case named && (reached || f.Since != "" || f.Copied):
			continue // what is gone, who follows tells
		case f.Since != "" || f.Copied:
			if at, named = asOf(t, begun.moment); !named {
				return "", &source.TableError{Table: name, Err: s.lost(name, "its snapshots of then")}
			}
		default:
			at = newest(t)
		}
		begun.tables[name.Display()] = at
	}
	return begun.String(), nil
}

// newest is the snapshot that a table has.
func newest(t *table.Table) int64 {
	if now := t.CurrentSnapshot(); now != nil {
		return now.SequenceNumber
	}
	return 0
}

// asOf is the snapshot that a table had at a moment, if it is still there.
func asOf(t *table.Table, moment time.Time) (int64, bool) {
	seen := map[int64]bool{}
	for at := t.CurrentSnapshot(); at != nil && !seen[at.SnapshotID]; at = t.SnapshotByID(*at.ParentSnapshotID) {
		seen[at.SnapshotID] = true
		if at.TimestampMs <= moment.UnixMilli() {
			return at.SequenceNumber, true
		}
		if at.ParentSnapshotID == nil {
			return 0, true
		}
	}
	return 0, t.CurrentSnapshot() == nil
}

// chain lists the snapshots of a table after the one with a number, the oldest first, and tells whether they lead back
// to it; base is that one, nil before the first.
func chain(t *table.Table, number int64) (base *table.Snapshot, list []*table.Snapshot, reached bool) {
	seen := map[int64]bool{}
	for base = t.CurrentSnapshot(); base != nil && base.SequenceNumber != number; {
		if seen[base.SnapshotID] {
			return nil, nil, false
		}
		seen[base.SnapshotID], list = true, append(list, base)
		if base.ParentSnapshotID == nil {
			base = nil
			break
		}
		if base = t.SnapshotByID(*base.ParentSnapshotID); base == nil {
			return nil, nil, false
		}
	}
	slices.Reverse(list)
	return base, list, base != nil || number == 0
}

// lost says that snapshots are gone that a feed has yet to read.
func (s *Source) lost(name schema.Name, what string) error {
	return problem.Newf(problem.Held,
		"Have whoever writes the table keep its snapshots for longer than the feed may be paused. "+
			"Then compare it with what is there now, which leaves equal rows alone: noemata feeds copy FEED --table "+
			problem.Word(name.Display())+". A history keeps its past.",
		"The table %s of %s does not have %s any more: they have expired, or the table was set back or made anew, so what changed "+
			"since is not known.", name.Display(), s.what, what)
}

// DropLog forgets nothing: nothing is kept for a follower.
func (s *Source) DropLog(context.Context, string) error { return nil }

// LogState tells by how much the newest snapshots have grown since a place.
func (s *Source) LogState(ctx context.Context, _, at string) (source.LogState, error) {
	state := source.LogState{There: true, Confirms: at}
	if at == "" {
		return state, nil
	}
	from, err := parse(at)
	if err != nil {
		return state, err
	}
	x, err := s.look(ctx)
	if err != nil {
		return state, err
	}
	for name := range x.places {
		was, followed := from.tables[name.Display()]
		if !followed {
			continue
		}
		t, err := s.seen(ctx, x, name)
		if err != nil {
			continue // its run tells
		}
		_, since, _ := chain(t, was)
		for _, one := range since {
			if one.Summary != nil {
				state.Behind += max(0, summed(*one.Summary, "added-files-size"))
			}
		}
	}
	state.Retained = state.Behind
	return state, nil
}

// LogRate is not known.
func (s *Source) LogRate(context.Context) (source.LogRate, error) {
	return source.LogRate{PerHour: -1}, nil
}

// BehindFindings are none: snapshots stay for as long as the table's own policy says.
func (s *Source) BehindFindings(context.Context, time.Duration) ([]problem.Finding, error) {
	return []problem.Finding{{Level: problem.Note,
		What:   "How long snapshots stay is the affair of whoever writes the tables.",
		Remedy: "See that they expire later than the feed wants to go back."}}, nil
}

// Settle waits for nothing: what is not committed is in no snapshot.
func (s *Source) Settle(context.Context, schema.Table, func(string)) error { return nil }

// WholeRows is nothing: rows are always whole.
func (s *Source) WholeRows(schema.Table) string { return "" }

// LogFindings tells what is in the way of following tables.
func (s *Source) LogFindings(ctx context.Context, tables []source.Followed) (findings []problem.Finding, err error) {
	x, err := s.look(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range tables {
		name := f.Table.Name
		block := func(remedy, format string, args ...any) {
			findings = append(findings, problem.Finding{Level: problem.Blocker, Table: name.Display(), What: fmt.Sprintf(format,
				args...),
				Remedy: remedy})
		}
		t, err := s.seen(ctx, x, name)
		if err != nil {
			p := problem.Of(err)
			block(p.Remedy, "%s", p.What)
			continue
		}
		if version := t.Metadata().Version(); version < 2 {
			block("ALTER TABLE … SET TBLPROPERTIES ('format-version' = '2'); in the engine that writes it. Or find: compare.",
				"It is of version %d of the format, whose snapshots have no order.", version)
		}
		findings = append(findings, unread(f.Table)...)
	}
	return findings, nil
}

// partRows is about how many rows a part of a copy has.
const partRows = 500_000

// copied is a table as of one snapshot. Its files stay, whatever is committed meanwhile, until the snapshot expires.
type copied struct {
	s     *Source
	t     *table.Table
	of    source.Followed
	at    int64 // its number
	clock time.Time
	end   place // after the snapshot
	parts [][]table.FileScanTask
}

// Copy opens the newest snapshot of a table.
func (s *Source) Copy(ctx context.Context, f source.Followed, _ string) (source.Copy, error) {
	x, err := s.look(ctx)
	if err != nil {
		return nil, err
	}
	t, err := s.seen(ctx, x, f.Table.Name)
	if err != nil {
		return nil, err
	}
	if err := s.same(t, f); err != nil {
		return nil, err
	}
	c := &copied{s: s, t: t, of: f, at: newest(t), clock: x.clock}
	after, err := s.Moment(ctx) // whoever looks from then on sees at least as much
	if err != nil {
		return nil, err
	}
	c.end.moment = after.Clock.Add(time.Microsecond)
	tasks, err := s.filesOf(ctx, t, f.Table.Name, t.CurrentSnapshot())
	if err != nil {
		return nil, err
	}
	rows := int64(0)
	for _, task := range tasks {
		if len(c.parts) == 0 || rows+task.File.Count() > partRows {
			c.parts, rows = append(c.parts, nil), 0
		}
		last := len(c.parts) - 1
		c.parts[last], rows = append(c.parts[last], task), rows+task.File.Count()
	}
	return c, nil
}

// same tells whether a table has the columns that are followed, and no others where it has them all.
func (s *Source) same(t *table.Table, f source.Followed) error {
	name := f.Table.Name
	if id := t.Metadata().TableUUID().String(); f.Table.ID != id {
		return source.CopyAgain(drift.Tables, name, "The table %s of %s was made anew: it is another one than before.",
			name.Display(), s.what)
	}
	has, err := s.described(t, name)
	if err != nil {
		return err
	}
	for _, c := range f.Table.Columns {
		now, there := has.Column(c.Name)
		switch {
		case !there, c.Wire != "" && now.Wire != c.Wire:
			return source.CopyAgain(drift.Columns, name, "The table %s of %s does not have its column %s any more.",
				name.Display(), s.what, c.Name)
		case now.Native != c.Native:
			return source.CopyAgain(drift.Types, name, "The column %s of %s is of the type %s now, and was of the type %s.",
				c.Name, name.Display(), now.Native, c.Native)
		}
	}
	if f.Whole && len(has.Columns) > len(f.Table.Columns) {
		for _, c := range has.Columns {
			if _, followed := f.Table.Column(c.Name); !followed {
				return source.CopyAgain(drift.Columns, name, "The table %s of %s has a new column %s.", name.Display(), s.what,
					c.Name)
			}
		}
	}
	return nil
}

// Snapshot is the table's, for Sees.
func (c *copied) Snapshot() string { return shownBy(c.of.Table.Name.Display(), c.at) }

// Moment is just before the snapshot was looked up.
func (c *copied) Moment() time.Time { return c.clock }

// Passed is a place after which the table has come to the snapshot.
func (c *copied) Passed() string { return c.end.String() }

// Layout is that of one snapshot.
func (c *copied) Layout() string { return c.Snapshot() }

// Parts is how many there are.
func (c *copied) Parts() int { return max(1, len(c.parts)) }

// Read reads one part.
func (c *copied) Read(ctx context.Context, part int, since string, sink func(rows.Batch) error) error {
	if since != "" || len(c.parts) == 0 { // nothing is written to a snapshot
		return nil
	}
	g := newGatherer(source.Query{Table: c.of.Table, RowKey: c.of.Key, NotNull: c.of.Key}, sink)
	if err := c.s.readFiles(ctx, c.t, c.of.Table, c.parts[part], g); err != nil {
		return err
	}
	return g.PassOn()
}

// Close lets go of nothing.
func (c *copied) Close() {}
