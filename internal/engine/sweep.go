package engine

import (
	"context"
	"time"

	"noemata/internal/core/rows"
	"noemata/internal/core/window"
	"noemata/internal/core/words"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// sweep finds the deletes that a watermark cannot show: it reads the keys of all rows of
// the source, after the run has read what changed, and ends those that only the warehouse
// still has. A row that comes again later comes with a new watermark.
func (r *run) sweep(ctx context.Context) error {
	due, err := r.sweepIsDue(ctx)
	if err != nil || !due || r.outcome.To.Version == 0 {
		return err
	}
	moment, err := r.Source.Moment(ctx)
	if err != nil {
		return err
	}
	r.Progress(Progress{Phase: "sweeping", Position: r.outcome.To.Position})
	c, part, err := r.begin(ctx, false)
	if err != nil {
		return err
	}
	defer c.Abort()
	keys := r.plan.shape.For(r.plan.target.Key)
	q := source.Query{Table: keys.Reads(), RowKey: r.plan.key, Filter: r.plan.filter(false)}
	var read int64
	var aside []rows.Aside
	begun := time.Now()
	err = r.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		r.outcome.Bytes += sizeOf(b)
		shaped := keys.Batch(b, false)
		defer shaped.Record.Release()
		read += shaped.Rows()
		if aside = append(aside, shaped.Aside...); len(aside) > warehouse.MostAside {
			return warehouse.TooManyAside(r.Table.Table, aside[len(aside)-1].Reason)
		}
		return part.AppendKeys(ctx, shaped.Record)
	})
	r.outcome.Reading += time.Since(begun)
	if err != nil {
		return err
	}
	begun = time.Now()
	gone, err := part.Sweep(ctx, moment.Clock.UnixMicro(), aside)
	if err != nil {
		return err
	}
	if err := c.Note(ctx, r.Feed.Name, warehouse.Swept{Table: r.Table.Table, Keys: read, Gone: gone}); err != nil {
		return err
	}
	r.sweeps = false // done: the structure is kept with it
	if err := r.endWith(ctx, c, part, r.outcome.To.Position, warehouse.Has{Gone: true}); err != nil {
		return err
	}
	r.outcome.Writing += time.Since(begun)
	r.note("The sweep compared %d keys of the source and found %s deleted.", read, words.Plural(gone, "row"))
	return nil
}

func (r *run) sweepIsDue(ctx context.Context) (bool, error) {
	if r.sweeps || r.Table.Sweep == "" {
		return r.sweeps, nil
	}
	every, err := window.ParseDuration(r.Table.Sweep)
	if err != nil {
		return false, err
	}
	last, err := r.Warehouse.Journal().LastSweep(ctx, r.Feed.Name, r.Table.Table)
	return time.Since(last) >= every, err
}
