package jobs

import (
	"context"
	"errors"
	"time"

	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// keepUpEvery is how often it is looked whether the tables of a warehouse need upkeep.
const keepUpEvery = time.Minute

// keepUp does the upkeep that is due of all warehouses that need any, one after another.
func (r *Runner) keepUp(ctx context.Context) error {
	list, err := r.store.Connections(ctx, store.Warehouses)
	var failed []error
	for _, c := range list {
		if r.isLeaving() || ctx.Err() != nil {
			return nil
		}
		within, done := context.WithCancel(ctx) // the warehouse is used for no longer than this
		wh, err := r.databases.Warehouse(within, c.Name)
		if w, needs := wh.(warehouse.Upkept); err == nil && needs {
			failed = append(failed, w.Upkeep(within))
		}
		done()
	}
	return errors.Join(err, errors.Join(failed...))
}
