package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/change"
	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A repair brings the rows that a proof finds to differ to what the source has, each by its key, and
// leaves the others alone. It commits beside the feed's runs, and exactly: of a table that does not follow
// the log, no run may have committed since the rows were read; of one that does, a row counts only if the
// log has come to the moment at which it was read and has not changed it on the way there.

// Repaired is what a repair has done.
type Repaired struct {
	Proof Proof      // before it
	Books rows.Books // of its commits
	Keys  int        // whose rows were brought to what the source has
	Left  int        // that differ still: they changed meanwhile, or are too many
}

// repairedAtOnce is how many keys a commit of a repair is about.
const repairedAtOnce = mostByKey

// Repair proves a table and brings the rows that differ to what the source has.
func Repair(ctx context.Context, w Work) (out Repaired, err error) {
	if err := Repairable(w); err != nil {
		return out, err
	}
	if err := following(ctx, w); err != nil {
		return out, err
	}
	p, err := newProver(ctx, w)
	if err != nil {
		return out, err
	}
	if err := p.look(ctx); err != nil {
		return out, err
	}
	if out.Proof, err = p.proof(); err != nil || out.Proof.Same {
		return out, err
	}
	r := &repairer{prover: p, books: rows.Books{}}
	names := r.names(out.Proof)
	p.at("repairing")
	p.expected = int64(len(names))
	for _, some := range slices.Collect(slices.Chunk(names, repairedAtOnce)) {
		if err := r.repair(ctx, some); err != nil {
			return out, named(err, w.Feed.Name, w.Table.Table)
		}
		out.Books, out.Keys = r.books, r.done
		p.count(int64(len(some)))
	}
	out.Left = len(names) - r.done + int(out.Proof.Unlooked)
	if total := int(out.Proof.Differing + out.Proof.Missing + out.Proof.Extra); len(out.Proof.Found) == compare.MostFound {
		out.Left += total - compare.MostFound // they were not named
	}
	return out, nil
}

// Repairable tells why a table cannot be repaired row by row, and what brings it right.
func Repairable(w Work) error {
	run := fmt.Sprintf("Run the feed: noemata runs start %s.", problem.Word(w.Feed.Name))
	switch {
	case w.Table.Keep == feed.KeepReplace:
		return problem.New(problem.Conflict, "Each run replaces all rows of "+w.Table.Table+".", run)
	case w.Table.Keep == feed.KeepLedger && w.Table.Find == feed.FindWatermark:
		return problem.Newf(problem.Conflict, fmt.Sprintf("noemata backfill %s %s", problem.Word(w.Feed.Name),
			problem.Word(w.Table.Table)), "%s is a ledger: a backfill adds the rows that it lacks.", w.Table.Table)
	case w.Table.Keep == feed.KeepLedger:
		return problem.Newf(problem.Conflict, problem.Of(named(problem.New(problem.Held, "", copyRemedy), w.Feed.Name,
			w.Table.Table)).Remedy, "%s is a ledger: what has happened cannot be read again.", w.Table.Table)
	}
	return nil
}

// following makes sure that a table which is found by the log has joined: a copy that is under way brings it right.
func following(ctx context.Context, w Work) error {
	if w.Table.Find != feed.FindLog {
		return nil
	}
	if state, err := stateOf(ctx, w); err != nil || state == warehouse.Following {
		return err
	}
	return problem.Newf(problem.Conflict, "See what it waits for: noemata feeds show "+problem.Word(w.Feed.Name)+".",
		"%s does not follow the log now, and cannot be repaired: when its copy has joined, it is right.", w.Table.Table)
}

// repairer brings rows to what the source has.
type repairer struct {
	*prover
	books rows.Books
	done  int
}

// names are the keys of all rows that differ or contradict each other.
func (r *repairer) names(found Proof) []string {
	names := map[string]bool{}
	for _, d := range found.Found {
		names[rows.KeyJSON(d.Key)] = true
	}
	for _, f := range found.Faults {
		names[rows.KeyJSON(f.Key)] = true
	}
	return slices.Sorted(maps.Keys(names))
}

// attempts is how often the rows of a commit are read anew, as runs have come between.
const attempts = 5

func (r *repairer) repair(ctx context.Context, names []string) (err error) {
	for range attempts {
		var done int
		if done, err = r.attempt(ctx, names); !problem.Is(err, problem.Overtaken) {
			r.done += done
			return err
		}
	}
	return err
}

// attempt reads the rows of both sides, and commits what the source has.
func (r *repairer) attempt(ctx context.Context, names []string) (done int, err error) {
	log := r.Table.Find == feed.FindLog
	stands, err := r.Warehouse.Journal().Checkpoint(ctx, r.Feed.Name, placeName(r.Table))
	if err != nil {
		return 0, err
	}
	asked := make(map[string]bool, len(names))
	for _, name := range names {
		asked[name] = true
	}
	// The warehouse first: whatever changes there from now on is newer than what the source is about to give.
	before, err := r.readTarget(ctx, asked, r.Warehouse.Read)
	defer before.release()
	if err != nil {
		return 0, err
	}
	m, err := r.Source.Moment(ctx)
	if err != nil {
		return 0, err
	}
	read, err := r.readSource(ctx, asked, stands)
	defer read.release()
	if err != nil {
		return 0, err
	}
	if log {
		if err := r.passed(ctx); err != nil {
			return 0, err
		}
		if stands, err = r.Warehouse.Journal().Checkpoint(ctx, r.Feed.Name, ""); err != nil {
			return 0, err
		}
	}
	c, err := r.Warehouse.Begin(ctx)
	if err != nil {
		return 0, err
	}
	defer c.Abort()
	at := placeName(r.Table)
	if _, err := c.Move(ctx, r.Feed.Name, at, stands, stands.Position, r.Run); err != nil {
		return 0, err
	}
	if log {
		now, err := r.readTarget(ctx, asked, c.Read)
		now.release()
		if err != nil {
			return 0, err
		}
		for name := range asked {
			if !now.same(before, name) {
				delete(asked, name) // the log has brought another row since
			}
		}
	}
	for name := range read.aside {
		delete(asked, name) // what cannot be stored cannot be repaired
	}
	books, err := r.write(ctx, c, stands, m.Clock, asked, before, read)
	if err != nil {
		return 0, err
	}
	if err := c.Finish(ctx); err != nil {
		return 0, err
	}
	r.books = r.books.Add(books)
	return len(asked), nil
}

// write puts what the source has in the place of what the target has, of the keys that are left.
func (r *repairer) write(ctx context.Context, c warehouse.Commit, stands warehouse.Checkpoint, clock time.Time,
	asked map[string]bool, before *heldRows, read *readRows) (rows.Books, error) {
	none := rows.Books{}
	part, err := c.Table(ctx, warehouse.Load{Feed: r.Feed.Name, Table: r.Table.Table, Target: r.plan.target, Run: r.Run,
		Shape: r.plan.shape.Digest(), From: stands.Position})
	if err != nil {
		return none, err
	}
	moment := clock.UnixMicro()
	if r.Table.Find == feed.FindLog {
		l, _, err := r.Warehouse.Journal().Log(ctx, r.Feed.Name)
		if err != nil {
			return none, err
		}
		moment = l.LastMoment + 1 // between what was applied and what will be (see change.Clock)
		if err := c.Note(ctx, r.Feed.Name, warehouse.LastMoment{Moment: moment}); err != nil {
			return none, err
		}
	}
	if err := before.keys(ctx, part, asked, func(string) bool { return true }); err != nil {
		return none, err
	}
	if err := part.Straighten(ctx, moment); err != nil {
		return none, err
	}
	if err := before.keys(ctx, part, asked, func(name string) bool { return !read.has[name] }); err != nil {
		return none, err
	}
	if err := part.EndKeys(ctx, moment); err != nil {
		return none, err
	}
	for _, b := range read.batches {
		if err := r.put(ctx, part, b, asked, stands, clock, moment); err != nil {
			return none, err
		}
	}
	return part.Close(ctx, stands.Position)
}

// put merges the rows of a batch whose keys are asked for.
func (r *repairer) put(ctx context.Context, part warehouse.Part, b rows.Batch, asked map[string]bool,
	stands warehouse.Checkpoint, clock time.Time, moment int64) error {
	columns := r.plan.shape.Arrives().Columns
	keyAt := schema.Indexes(columns, r.plan.target.Key)
	record := picked(b.Record, func(i int) bool { return asked[rows.KeyText(b.Record, i, columns, keyAt)] })
	defer record.Release()
	n := int(record.NumRows())
	if n == 0 {
		return nil
	}
	if r.Table.Find != feed.FindLog {
		of := &run{Work: r.Work, plan: r.plan, clock: clock}
		of.outcome.To = stands
		made := build(r.plan.target, found{&committer{run: of, query: r.plan.query,
			stretch: stretch{end: &stands.Position}}, record, nil, 0})
		defer made.Release()
		if err := part.Append(ctx, rows.Batch{Record: made}); err != nil {
			return err
		}
		return part.Merge(ctx, warehouse.Has{})
	}
	changes := change.Batch{Record: record, Rows: make([]change.Row, n),
		Txns: []change.Txn{{Position: stands.Position.Value, Moment: moment}}}
	for i := range changes.Rows {
		changes.Rows[i] = change.Row{Kind: change.Update, Seq: int32(i)}
	}
	part.Count(rows.Books{Read: int64(n)})
	t := &logTable{plan: r.plan, Table: r.Table, keyAt: keyAt}
	_, err := t.mergeChanges(ctx, part, r.Run, changes, 0, false)
	return err
}

// heldRows are the rows of a target of some keys.
type heldRows struct {
	target  warehouse.Target
	rows    map[string][]string // by key: all its rows, those that do not hold included
	records []arrow.RecordBatch // their keys
}

// readTarget reads the rows of a target whose keys are asked for, those that do not hold included.
func (r *repairer) readTarget(ctx context.Context, asked map[string]bool,
	read func(context.Context, warehouse.Query, func(arrow.RecordBatch) error) error) (*heldRows, error) {
	h := &heldRows{target: r.plan.target, rows: map[string][]string{}}
	all := h.target.All()
	q := warehouse.Query{Target: h.target, Columns: all}
	r.keysOnly(&source.Query{}, &q, keysOf(asked))
	keyAt := schema.Indexes(all, h.target.Key)
	err := read(ctx, q, func(record arrow.RecordBatch) error {
		var which []int32
		for i := range int(record.NumRows()) {
			if name := rows.KeyText(record, i, all, keyAt); asked[name] {
				h.rows[name] = append(h.rows[name], rowText(record, i, all))
				which = append(which, int32(i))
			}
		}
		columns := make([]arrow.Array, len(keyAt))
		for k, at := range keyAt {
			columns[k] = copied(record.Column(at), which)
		}
		h.records = append(h.records, array.NewRecordBatch(schema.Arrow(h.target.KeyColumns()), columns, int64(len(which))))
		for _, c := range columns {
			c.Release()
		}
		return ctx.Err()
	})
	return h, err
}

// same tells whether the rows of a key are as they were.
func (h *heldRows) same(before *heldRows, name string) bool {
	slices.Sort(h.rows[name])
	slices.Sort(before.rows[name])
	return slices.Equal(h.rows[name], before.rows[name])
}

// keys gathers the keys that are asked for and meet a condition.
func (h *heldRows) keys(ctx context.Context, part warehouse.Part, asked map[string]bool,
	meets func(name string) bool) error {
	columns := h.target.KeyColumns()
	all := make([]int, len(columns))
	for i := range all {
		all[i] = i
	}
	for _, record := range h.records {
		some := picked(record, func(i int) bool {
			name := rows.KeyText(record, i, columns, all)
			return asked[name] && meets(name)
		})
		err := part.AppendKeys(ctx, some)
		some.Release()
		if err != nil {
			return err
		}
	}
	return nil
}

func (h *heldRows) release() {
	for _, r := range h.records {
		r.Release()
	}
}

// readRows are rows of the source, as they arrive.
type readRows struct {
	batches []rows.Batch
	has     map[string]bool
	aside   map[string]bool
}

func (x *readRows) release() {
	for _, b := range x.batches {
		b.Record.Release()
	}
}

// readSource reads the rows of the source whose keys are asked for.
func (r *repairer) readSource(ctx context.Context, asked map[string]bool, stands warehouse.Checkpoint) (*readRows,
	error) {
	x := &readRows{has: map[string]bool{}, aside: map[string]bool{}}
	q, err := r.query(ctx, stands)
	if err != nil {
		return x, err
	}
	q.Beyond = nil // what the source has now is what counts
	r.keysOnly(&q, &warehouse.Query{}, keysOf(asked))
	columns := r.plan.shape.Arrives().Columns
	keyAt := schema.Indexes(columns, r.plan.target.Key)
	err = r.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		shaped := r.plan.shape.Batch(b, false)
		defer shaped.Record.Release()
		for _, a := range shaped.Aside {
			if asked[a.Key] {
				x.aside[a.Key] = true
			}
		}
		record := picked(shaped.Record, func(i int) bool {
			name := rows.KeyText(shaped.Record, i, columns, keyAt)
			x.has[name] = x.has[name] || asked[name]
			return asked[name]
		})
		x.batches = append(x.batches, rows.Batch{Record: record})
		return ctx.Err()
	})
	return x, err
}

func keysOf(names map[string]bool) (keys [][]string) {
	for _, name := range slices.Sorted(maps.Keys(names)) {
		keys = append(keys, rows.KeyParts(name))
	}
	return keys
}

// picked are the rows of a record that meet a condition.
func picked(record arrow.RecordBatch, meets func(i int) bool) arrow.RecordBatch {
	var which []int32
	for i := range int(record.NumRows()) {
		if meets(i) {
			which = append(which, int32(i))
		}
	}
	columns := make([]arrow.Array, record.NumCols())
	for k := range columns {
		columns[k] = fold.Take(record.Column(k), which)
	}
	out := array.NewRecordBatch(record.Schema(), columns, int64(len(which)))
	for _, c := range columns {
		c.Release()
	}
	return out
}

// copied is a column of the values at some places, in memory of its own.
func copied(column arrow.Array, which []int32) arrow.Array {
	taken := fold.Take(column, which)
	defer taken.Release()
	own, err := array.Concatenate([]arrow.Array{taken, array.MakeArrayOfNull(allocator, column.DataType(), 0)}, allocator)
	if err != nil {
		panic(err) // of one type, so it cannot fail
	}
	return own
}

// rowText tells a row from others by all of its values.
func rowText(record arrow.RecordBatch, i int, columns []schema.Column) string {
	values := make([]*string, len(columns))
	for k, c := range columns {
		if text, ok := schema.CellText(record.Column(k), i, c.Type); ok {
			values[k] = &text
		}
	}
	return rows.ValuesJSON(values)
}
