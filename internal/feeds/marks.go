package feeds

import (
	"context"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/core/window"
	"noemata/internal/records"
	"noemata/internal/warehouse"
)

// Marks lists what a lake keeps under names.
func (r *Rules) Marks(ctx context.Context, in string) (list []records.Mark, err error) {
	return list, r.inMarked(ctx, in, func(w warehouse.Marked) error {
		found, err := w.Marks(ctx)
		list = make([]records.Mark, len(found))
		for i, m := range found {
			list[i] = records.Mark(m)
		}
		return err
	})
}

// AddMark keeps what a lake's tables hold now under a name.
func (r *Rules) AddMark(ctx context.Context, in string, n records.NewMark) error {
	var keep time.Duration
	if n.Keep != "" {
		var err error
		if keep, err = window.ParseDuration(n.Keep); err != nil || keep <= 0 {
			return problem.Newf(problem.Invalid, "Write it as 90d or 12h.", "%q is no length of time.", n.Keep).In("keep")
		}
	}
	return r.inMarked(ctx, in, func(w warehouse.Marked) error { return w.Mark(ctx, n.Name, keep) })
}

// RemoveMark lets what is kept under a name go.
func (r *Rules) RemoveMark(ctx context.Context, in, name string) error {
	return r.inMarked(ctx, in, func(w warehouse.Marked) error { return w.Unmark(ctx, name) })
}

// inMarked does something in a warehouse that keeps marks.
func (r *Rules) inMarked(ctx context.Context, in string, do func(warehouse.Marked) error) error {
	ctx, cancel := context.WithCancel(ctx) // the warehouse is used for no longer than this
	defer cancel()
	wh, err := r.Databases.Warehouse(ctx, in)
	if err != nil {
		return err
	}
	w, ok := wh.(warehouse.Marked)
	if !ok {
		return problem.Newf(problem.Invalid, "Name a lake, or keep a history: keep: history.",
			"Nothing is kept under names in the warehouse %s.", in)
	}
	return do(w)
}
