package jobs

import (
	"context"
	"time"

	"noemata/internal/records"
	"noemata/internal/warehouse"
)

// lookForDrift is how often a feed's warehouse is asked whether a structure has changed, at most.
const lookForDrift = 10 * time.Second

// noteDrift keeps what has changed of the structure of a feed's tables, as its warehouse has it, and says it in the
// log.
func (r *Runner) noteDrift(ctx context.Context, feed string, wh warehouse.Warehouse) {
	r.mu.Lock()
	soon := time.Since(r.drifts[feed]) <= lookForDrift
	if !soon {
		r.drifts[feed] = time.Now()
	}
	r.mu.Unlock()
	if soon {
		return
	}
	keep(ctx, "A drift", 0, "", func(ctx context.Context) error {
		last, err := wh.Journal().Drifts(ctx, feed, 1)
		if err != nil || len(last) == 0 {
			return err
		}
		news, err := r.store.NoteDrift(ctx, feed, last[0])
		if news {
			r.record.say(ctx, records.LogEntry{Feed: feed, Run: last[0].Run, Table: last[0].Table, Level: records.LevelWarning,
				What: last[0].What + " " + last[0].Done})
		}
		return err
	})
}
