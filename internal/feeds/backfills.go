package feeds

import (
	"context"

	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/records"
)

// Backfill has a range of a table read again in slices, beside the feed's runs.
func (r *Rules) Backfill(ctx context.Context, name, table string, asked records.BackfillRange) (records.Backfill,
	error) {
	w, err := r.Runner.Work(ctx, name, table)
	if err != nil {
		return records.Backfill{}, err
	}
	if w.Table.Paused {
		return records.Backfill{}, engine.Paused(name, table)
	}
	whole, slices, err := engine.PlanBackfill(ctx, w,
		window.Range{From: asked.From, To: asked.To, Slice: asked.Slice, Newest: asked.NewestFirst})
	if err != nil {
		return records.Backfill{}, err
	}
	b, err := r.Store.AddBackfill(ctx, name, table, whole, slices.Count)
	if err != nil {
		return b, err
	}
	return b, r.Runner.Wake(ctx, name)
}

// Backfills lists those of a feed, the newest first.
func (r *Rules) Backfills(ctx context.Context, name string) ([]records.Backfill, error) {
	if _, err := r.Store.Feed(ctx, name); err != nil {
		return nil, err
	}
	return r.Store.Backfills(ctx, name)
}

// SetBackfill has a backfill go on, pause or stop. One that pauses or stops ends with the slice that
// it is at.
func (r *Rules) SetBackfill(ctx context.Context, id int64, state string) (records.Backfill, error) {
	b, err := r.Store.SetBackfill(ctx, id, state)
	if err != nil {
		return b, err
	}
	return b, r.Runner.Wake(ctx, b.Feed)
}
