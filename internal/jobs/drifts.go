package jobs

import (
	"context"
	"time"

	"noemata/internal/records"
)

// lookForDrift is how often a feed's warehouse is asked whether a structure has changed, at most.
const lookForDrift = 10 * time.Second

// noteDrift keeps what has changed of the structure of a feed's tables, and says it in the log.
func (r *Runner) noteDrift(ctx context.Context, feed string, run int64) {
	r.mu.Lock()
	looked := r.drifts[feed]
	if time.Since(looked) > lookForDrift {
		r.drifts[feed] = time.Now()
	}
	r.mu.Unlock()
	if time.Since(looked) <= lookForDrift {
		return
	}
	keep(ctx, "A drift", run, "", func(ctx context.Context) error {
		f, err := r.store.Feed(ctx, feed)
		if err != nil {
			return err
		}
		wh, err := r.databases.Warehouse(ctx, f.Warehouse)
		if err != nil {
			return err
		}
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
