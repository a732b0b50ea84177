package jobs

import (
	"context"
	"time"

	"noemata/internal/core/window"
	"noemata/internal/records"
	"noemata/internal/store"
)

// Burden tells what the feeds of a source have cost it in so many days, today included.
func (r *Runner) Burden(ctx context.Context, name string, days int) (b records.Burden, err error) {
	src, err := r.databases.Source(ctx, name)
	if err != nil {
		return b, err
	}
	_, settings, _, err := r.store.Settings(ctx, store.Sources, name)
	if err != nil {
		return b, err
	}
	b = records.Burden{Source: name, At: time.Now().UTC(), Days: days, Bound: settings.Connections}
	if heavy, err := settings.Heavy(); err == nil {
		b.HeavyHours = heavy.String()
	}
	if b.Connections, err = src.Connections(ctx); err != nil {
		return b, err
	}
	b.Feeds, err = r.store.FeedBurdens(ctx, name, days)
	return b, err
}

// heavy are the hours in which a source lets much be read of it.
func (r *Runner) heavy(ctx context.Context, source string) (window.Hours, error) {
	_, settings, _, err := r.store.Settings(ctx, store.Sources, source)
	if err != nil {
		return window.Hours{}, err
	}
	return settings.Heavy()
}
