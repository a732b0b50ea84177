package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/window"
	"noemata/internal/warehouse"
)

// A backfill reads a range of watermarks again, in slices. It goes no further than the table's
// position, so it reads only what runs have passed; and it moves the version of the checkpoint
// with each commit, as they do, so that of the two one waits or begins again. What it writes
// is what the source has now, so no row becomes older.

// PlanBackfill completes the range of a backfill, and cuts it. What is left out of it is the
// beginning of the table, and its position.
func PlanBackfill(ctx context.Context, w Work, asked window.Range) (window.Range, window.Slices, error) {
	r := &run{Work: w, engine: &Engine{}}
	if err := r.backfillable(ctx); err != nil {
		return asked, window.Slices{}, err
	}
	t, stands := r.plan.query.Watermark.Column.Type, r.outcome.To.Position.Value
	for _, x := range []struct {
		name  string
		value *string
	}{{"from", &asked.From}, {"to", &asked.To}} {
		if *x.value == "" {
			continue
		}
		p, err := (position.Position{Value: *x.value}).Check(t)
		if err != nil {
			return asked, window.Slices{}, problem.Wrap(err, problem.Invalid, fmt.Sprintf("%s: %v.", x.name, err),
				"Write a value of the watermark column, as noemata positions list shows it.")
		}
		*x.value = p.Value
	}
	if asked.To == "" || position.Compare(position.Position{Value: asked.To}, position.Position{Value: stands}, t) > 0 {
		asked.To = stands
	}
	if asked.From == "" {
		lowest, err := r.lowest(ctx)
		if err != nil {
			return asked, window.Slices{}, err
		}
		if asked.From = lowest; lowest == "" {
			asked.From = asked.To
		}
	}
	slices, err := asked.Cut(t)
	if err != nil {
		err = problem.Wrap(err, problem.Invalid, strings.ToUpper(err.Error()[:1])+err.Error()[1:]+".",
			"Correct the range, or its slices.")
	}
	return asked, slices, err
}

// lowest is the first watermark of the table; empty where it has no rows.
func (r *run) lowest(ctx context.Context) (lowest string, err error) {
	q := r.plan.query
	q.Window.High = r.outcome.To.Position.Value
	q.Ordered, q.Limit = true, 1
	c := &committer{run: r, query: q}
	err = r.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		switch {
		case b.Record.NumRows() > 0:
			lowest = c.positionAt(b, 0, false).Value
		case len(b.Aside) > 0:
			lowest = c.positionAt(b, 0, true).Value
		default:
			return nil
		}
		return errFound
	})
	if errors.Is(err, errFound) {
		err = nil
	}
	return lowest, err
}

// errFound ends the reading of rows of which the first is enough.
var errFound = errors.New("found")

// backfillable looks the table up on both sides, and tells why it cannot be read again in part.
func (r *run) backfillable(ctx context.Context) (err error) {
	switch r.Table.Find {
	case feed.FindWatermark:
	case feed.FindLog:
		return problem.New(problem.Conflict, "The table "+r.Table.Table+" follows the log, which has brought every "+
			"change.",
			"To have all its rows again: "+problem.Of(named(problem.New(problem.Held, "", copyRemedy), r.Feed.Name,
				r.Table.Table)).Remedy)
	default:
		return problem.Newf(problem.Conflict, "Run the feed: noemata runs start "+problem.Word(r.Feed.Name)+".",
			"The table %s is found by %s: each run sees all of its rows.", r.Table.Table, r.Table.Find)
	}
	if r.plan, r.Table, err = planFor(ctx, r.Feed, r.Table, r.Source, r.Warehouse, r.Keys); err != nil {
		return err
	}
	stands, err := r.Warehouse.Journal().Checkpoint(ctx, r.Feed.Name, r.Table.Table)
	if err != nil {
		return err
	}
	if r.outcome.From, r.outcome.To = stands, stands; stands.Position.IsZero() {
		return problem.Newf(problem.Conflict, fmt.Sprintf("Run the feed first: noemata runs start %s. With start: now "+
			"it begins at the present, and leaves what was before to backfills.", problem.Word(r.Feed.Name)),
			"The table %s has no position yet, so its next run reads it anyway.", r.Table.Table)
	}
	return nil
}

// Backfill reads the window of a slice again.
func (e *Engine) Backfill(ctx context.Context, w Work, slice window.Window) (Outcome, error) {
	r := &run{Work: w, engine: e}
	if r.Progress == nil {
		r.Progress = func(Progress) {}
	}
	err := named(problem.Guarded(func() error { return r.backfill(ctx, slice) })(), w.Feed.Name, w.Table.Table)
	if err != nil && ctx.Err() != nil {
		err = problem.Wrap(err, problem.Stopped, "The backfill was stopped before its end.",
			"What was committed stays; it goes on with the slice that it was at.")
	}
	return r.outcome, err
}

func (r *run) backfill(ctx context.Context, slice window.Window) error {
	if err := r.backfillable(ctx); err != nil {
		return err
	}
	m, err := r.Source.Moment(ctx)
	if err != nil {
		return err
	}
	r.clock, r.outcome.Target, r.outcome.Window = m.Clock, r.plan.target, slice
	made, err := r.Warehouse.Prepare(ctx, r.plan.target)
	if _, drifted := drift.KindOf(err); drifted || made {
		return problem.Newf(problem.Conflict, fmt.Sprintf("Run the feed first: noemata runs start %s.",
			problem.Word(r.Feed.Name)), "The structure of %s was changed since its last run, or its target is gone.",
			r.Table.Table)
	}
	if err != nil {
		return err
	}
	// A commit takes the position along to what was read: no slice may go beyond it.
	if t := r.plan.query.Watermark.Column.Type; position.Compare(position.Position{Value: slice.High},
		position.Position{Value: r.outcome.To.Position.Value}, t) > 0 {
		return problem.New(problem.Conflict, "The slice ends beyond the position of "+r.Table.Table+".",
			"Run the feed until it has come there, or ask for another backfill.")
	}
	if err := r.sameRows(ctx); err != nil {
		return err
	}
	if err := r.beginsBefore(ctx, slice); err != nil {
		return err
	}
	return r.readPages(ctx, slice, 0)
}

// beginsBefore notes, with the first commit, that rows were brought of before the table began: what
// has its rows read again begins there.
func (r *run) beginsBefore(ctx context.Context, slice window.Window) error {
	first, err := r.Warehouse.Journal().FirstPosition(ctx, r.Feed.Name, r.Table.Table)
	if err != nil {
		return err
	}
	t := r.plan.query.Watermark.Column.Type
	if below := window.Below(slice.Low.Value, t); position.Compare(position.Position{Value: below}, first, t) < 0 {
		r.entries = []warehouse.Entry{warehouse.Begins{Table: r.Table.Table, Position: position.Position{Value: below}}}
	}
	return nil
}

// sameRows makes sure that rows that are read now are like those that runs have brought.
func (r *run) sameRows(ctx context.Context) error {
	if err := r.recall(ctx); err != nil {
		return err
	}
	stands, err := r.sameTarget(ctx, r.outcome.To, false)
	if err != nil {
		return err
	}
	if r.was != nil && structureOf(r.plan).layout() != r.was.layout() || stands.Version != r.outcome.To.Version {
		return problem.Newf(problem.Conflict, fmt.Sprintf("Run the feed first: noemata runs start %s.",
			problem.Word(r.Feed.Name)), "The structure of %s was changed since its last run.", r.Table.Table)
	}
	return nil
}
