package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"golang.org/x/sync/errgroup"

	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// Proof is what a comparison of the two sides of a table found.
type Proof struct {
	compare.Result
	Stands warehouse.Checkpoint // the position that was compared
	Same   bool
	Found  []compare.Difference // the rows that differ
	Notes  []string             // what the table's watermark has not shown
	Faults warehouse.Faults     // what the target's own rows contradict each other in
}

// passAfter is how long a proof waits for a feed to pass the moment of reading.
const passAfter = 30 * time.Second

// Prove compares every value of every row of a table with the warehouse: with the rows
// that hold now, where it keeps others too; and looks whether rows of the target contradict each other, as
// versions that overlap do. Rows that the position has not reached are not judged, and what differs is
// looked at again, of a table that follows the log after the feed has passed the moment of reading. In a
// ledger each row of the source must be there; older versions beside it are what a ledger is for. Memory
// does not grow with the table.
func Prove(ctx context.Context, w Work) (Proof, error) {
	p, err := newProver(ctx, w)
	if err != nil {
		return Proof{}, err
	}
	if err := p.look(ctx); err != nil {
		return Proof{}, err
	}
	proof, err := p.proof()
	if err == nil {
		proof.Notes, err = p.blindSpots(ctx, proof)
	}
	return proof, err
}

// prover compares the two sides of a table.
type prover struct {
	Work
	plan     plan
	c        *compare.Comparison
	closer   *compare.Closer // nil where the first look found no difference
	beside   compare.Result  // what was found beside it
	stands   warehouse.Checkpoint
	faults   warehouse.Faults
	part     string // which of several is looked at, in words
	phase    string
	read     atomic.Int64 // rows of both sides
	expected int64
}

func newProver(ctx context.Context, w Work) (*prover, error) {
	plan, table, err := planFor(ctx, w.Feed, w.Table, w.Source, w.Warehouse, w.Keys)
	if err != nil {
		return nil, err
	}
	if _, err := w.Warehouse.Prepare(ctx, plan.target); err != nil {
		return nil, named(err, w.Feed.Name, w.Table.Table)
	}
	if err := brought(ctx, w); err != nil {
		return nil, err
	}
	if w.Since != "" && len(plan.target.Watermark) == 0 {
		return nil, problem.Newf(problem.Conflict, "Prove it whole: leave since out.",
			"The target of %s does not have its watermark, by which the rows that changed lately would be found.", w.Table.Table)
	}
	if w.Progress == nil {
		w.Progress = func(Progress) {}
	}
	p := &prover{Work: w, plan: plan}
	ledger, keys := w.Table.Keep == feed.KeepLedger, plan.target.Key
	if ledger { // it has several rows of a key
		keys = nil
	}
	columns := plan.shape.Arrives().Columns
	p.c = compare.New(columns, schema.Indexes(columns, keys))
	p.c.Keeps = ledger
	p.expected = 2 * max(0, plan.query.Table.Rows)
	p.c.Hidden = map[string]bool{}
	for origin, treatment := range table.Columns {
		if treatment.Hash != "" || treatment.Mask != "" {
			p.c.Hidden[cmp.Or(treatment.Name, origin)] = true
		}
	}
	return p, nil
}

// brought fails where a table that is to follow the log does not do so yet: what is still on its way as a copy
// is no difference.
func brought(ctx context.Context, w Work) error {
	if w.Table.Find != feed.FindLog {
		return nil
	}
	switch state, err := stateOf(ctx, w); {
	case err != nil:
		return err
	case state == "":
		return notBrought(w)
	case state != warehouse.Copying && state != warehouse.Joining:
		return nil
	}
	return problem.Newf(problem.Conflict, "Prove it when it follows the log: noemata feeds show "+problem.Word(w.Feed.Name),
		"%s cannot be proved now: it is being copied.", w.Table.Table)
}

// stateOf is how far a table is in joining those that follow the log; empty where that has not begun.
func stateOf(ctx context.Context, w Work) (warehouse.State, error) {
	copies, err := w.Warehouse.Journal().Copies(ctx, w.Feed.Name)
	i := slices.IndexFunc(copies, func(c warehouse.Copy) bool { return c.Table == w.Table.Table })
	if err != nil || i < 0 {
		return "", err
	}
	return copies[i].State, nil
}

func notBrought(w Work) error {
	return problem.Newf(problem.Conflict, "Start the feed, or run it once, and prove the table then: noemata runs start "+
		problem.Word(w.Feed.Name), "%s cannot be proved: nothing of it has been brought yet.", w.Table.Table)
}

// look compares: all rows by what they add up to, those that are in doubt one by one, and those that differ
// once more.
func (p *prover) look(ctx context.Context) error {
	err := p.lookAtParts(ctx)
	if err != nil {
		return err
	}
	if p.faults, err = p.Warehouse.Contradictions(ctx, p.plan.target); err != nil {
		return err
	}
	if p.closer == nil || p.closer.Doubts() == 0 {
		return nil
	}
	if err := p.passed(ctx); err != nil {
		return err
	}
	return p.lookAgain(ctx)
}

// sum takes the first look: both sides at once, added up in buckets.
func (p *prover) sum(ctx context.Context, keys source.KeyRange) (groups []compare.Buckets, err error) {
	p.at("adding up")
	atSource, inTarget := p.c.Sums(), p.c.Sums()
	err = p.both(ctx, keys, nil, func(b rows.Batch, inFlight func(int) bool) { atSource.Add(b.Record, inFlight) },
		func(record arrow.RecordBatch) { inTarget.Add(record, nil) })
	if err != nil {
		return nil, err
	}
	buckets, beside := compare.Differ(atSource, inTarget)
	groups, beside.Unlooked = buckets.Groups(atSource, inTarget)
	p.beside = p.beside.Add(beside)
	return groups, nil
}

// lookCloser looks at rows one by one, in as many readings as their number takes.
func (p *prover) lookCloser(ctx context.Context, keys source.KeyRange, groups []compare.Buckets) error {
	if len(groups) > 0 {
		p.at("looking closer")
	}
	for _, group := range groups {
		if p.closer != nil && p.closer.Doubts() >= compare.MostFound { // enough is known, and memory is flat
			p.beside.Unlooked += group.Rows
			continue
		}
		x := p.c.Closer(group)
		if err := p.both(ctx, keys, nil, closerSource(x), x.Warehouse); err != nil {
			return err
		}
		if x.End(); p.closer == nil {
			p.closer = x
		} else {
			p.closer.Join(x)
		}
	}
	return nil
}

// closerSource passes rows of the source on to a closer look.
func closerSource(x *compare.Closer) func(b rows.Batch, inFlight func(int) bool) {
	return func(b rows.Batch, inFlight func(int) bool) {
		for _, a := range b.Aside {
			x.SourceAside(a)
		}
		x.Source(b.Record, inFlight)
	}
}

// lookAgain looks again at what differs.
func (p *prover) lookAgain(ctx context.Context) error {
	p.at("looking again")
	again := p.closer.Again()
	if err := p.both(ctx, source.KeyRange{}, p.closer.Keys(), closerSource(again), again.Warehouse); err != nil {
		return err
	}
	again.End()
	// What the first closer look found beside the differences stands.
	r := p.closer.Result(p.beside)
	p.beside = compare.Result{Equal: r.Equal, InFlight: r.InFlight, Unlooked: r.Unlooked}
	p.closer = again
	return nil
}

// both reads both sides at once: a range of keys, or the rows of some.
func (p *prover) both(ctx context.Context, keys source.KeyRange, only [][]string,
	atSource func(b rows.Batch, inFlight func(int) bool), inTarget func(arrow.RecordBatch)) error {
	stands, err := p.Warehouse.Journal().Checkpoint(ctx, p.Feed.Name, placeName(p.Table))
	if err != nil {
		return err
	}
	p.stands = stands
	q, err := p.query(ctx, stands)
	if err != nil {
		return err
	}
	w := warehouse.Query{Target: p.plan.target, Columns: p.plan.target.Values(), Holding: true}
	if len(only) == 0 && p.Since != "" {
		since := position.Position{Value: p.Since}
		if position.Compare(since, q.Window.Low, q.Watermark.Column.Type) > 0 { // what lies below the low end was never meant to come
			q.Window.Low, q.Window.Inclusive = since, true
		}
		w.Since = p.Since
	}
	if keys.After != nil {
		q.Keys, w.After = &keys, keys.After[0]
	}
	if keys.UpTo != nil {
		q.Keys, w.UpTo = &keys, keys.UpTo[0]
	}
	p.keysOnly(&q, &w, only)
	group, ctx := errgroup.WithContext(ctx)
	group.Go(problem.Guarded(func() error {
		return p.Source.Read(ctx, q, func(b rows.Batch) error {
			defer b.Record.Release()
			shaped := p.plan.shape.Batch(b, false)
			defer shaped.Record.Release()
			inFlight := func(int) bool { return stands.Position.IsZero() }
			if q.Beyond != nil && !stands.Position.IsZero() {
				inFlight = shaped.Record.Column(int(shaped.Record.NumCols()) - 1).(*array.Boolean).Value
			}
			atSource(shaped, inFlight)
			p.count(shaped.Record.NumRows())
			return ctx.Err()
		})
	}))
	group.Go(problem.Guarded(func() error {
		return p.Warehouse.Read(ctx, w, func(record arrow.RecordBatch) error {
			inTarget(record)
			p.count(record.NumRows())
			return ctx.Err()
		})
	}))
	return group.Wait()
}

// query reads the source for a comparison with a target that stands somewhere.
func (p *prover) query(ctx context.Context, stands warehouse.Checkpoint) (source.Query, error) {
	q := p.plan.query
	if q.Watermark == nil {
		return q, nil
	}
	q.Beyond = &stands.Position
	switch start := p.Table.Watermark.Start; start {
	case "", feed.StartBeginning:
	case feed.StartNow: // what lies below the first position was never meant to come
		first, err := p.Warehouse.Journal().FirstPosition(ctx, p.Feed.Name, p.Table.Table)
		if err != nil {
			return q, err
		}
		q.Window.Low = first
	default:
		q.Window.Low, q.Window.Inclusive = position.Position{Value: start}, true
	}
	return q, nil
}

// at begins a phase.
func (p *prover) at(phase string) {
	p.phase = p.part + phase
	p.read.Store(0)
	p.count(0)
}

func (p *prover) count(n int64) {
	read := p.read.Add(n)
	p.Progress(Progress{Phase: p.phase, Read: read, Expected: max(read, p.expected)})
}

// proof is what the looks have come to.
func (p *prover) proof() (Proof, error) {
	proof := Proof{Result: p.beside, Stands: p.stands, Faults: p.faults}
	if p.closer != nil {
		proof.Result, proof.Found = p.closer.Result(p.beside), p.closer.Found()
	}
	if proof.Examples == nil {
		proof.Examples = []string{}
	}
	if p.stands.Position.IsZero() && proof.InFlight > 0 {
		return proof, notBrought(p.Work)
	}
	proof.Same = proof.Result.Same() && len(p.faults) == 0
	if p.c.Keeps { // what it has beside is what it is for
		if proof.Unlooked > 0 && proof.Missing == 0 {
			return proof, problem.Newf(problem.Conflict, "Prove a feed of a part of the table.",
				"%s cannot be proved: its ledger has %d rows among those that are not in the source as they are, which are "+
					"more than can be looked at one by one.", p.Table.Table, proof.Unlooked)
		}
		proof.Same = proof.Missing == 0
	}
	for _, f := range p.faults {
		if len(proof.Examples) < compare.Examples {
			proof.Examples = append(proof.Examples, f.String())
		}
	}
	return proof, nil
}

// passed waits until the feed has taken in what the source held when rows were found to differ.
func (p *prover) passed(ctx context.Context) error {
	cannot := func(why string) error {
		return problem.Newf(problem.Conflict, "Start the feed, or run it once, and prove the table then.",
			"%s cannot be proved now: rows differ, and %s.", p.Table.Table, why)
	}
	switch p.Table.Find {
	case feed.FindWatermark: // rows beyond the position are told by their watermark
		return nil
	case feed.FindWhole, feed.FindCompare:
		if p.Passed == nil {
			return nil
		}
		if ok, err := p.Passed(ctx); err != nil || ok {
			return err
		}
		return cannot("no run has read the source since they were found to")
	}
	log, ok := p.Source.(source.Log)
	if !ok {
		return nil
	}
	end, _, err := log.End(ctx)
	if err != nil {
		return err
	}
	for until := time.Now().Add(passAfter); ; {
		stands, err := p.Warehouse.Journal().Checkpoint(ctx, p.Feed.Name, "")
		if err != nil || stands.Position.Value >= end {
			return err
		}
		if time.Now().After(until) {
			return cannot(fmt.Sprintf("the feed stands at %s while the log of its source has come to %s",
				orNothing(stands.Position.Value), end))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// mostByKey is how many rows are asked for by their keys; of more, all are read.
const mostByKey = 500

// keysOnly asks both sides for the rows of some keys, where they can be asked for by their keys; of none, and
// else, for all.
func (p *prover) keysOnly(q *source.Query, w *warehouse.Query, keys [][]string) {
	if len(keys) == 0 || len(keys) > mostByKey || !p.plan.shape.Passes(p.plan.key) {
		return
	}
	for _, c := range p.plan.target.KeyColumns() {
		switch c.Type.Kind {
		case schema.Int16, schema.Int32, schema.Int64, schema.UUID, schema.Text:
		default: // several texts may stand for one value
			return
		}
	}
	q.Only = &source.Only{Columns: p.plan.key, Values: keys}
	w.In, w.Values = p.plan.target.Key, keys
}

// placeName is the name under which a table's position is kept: that of the feed, where
// all its tables advance together.
func placeName(t feed.Table) string {
	if t.Find == feed.FindLog {
		return ""
	}
	return t.Table
}
