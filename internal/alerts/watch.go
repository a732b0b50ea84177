package alerts

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/store"
)

// watchEvery is how often it is looked whether something needs a person.
const watchEvery = 10 * time.Second

// leastRoom is how much room a disk has before that is an alert, in bytes.
const leastRoom = 1 << 30

// Watcher finds alerts and tells channels of them. Of several processes one does so at a time.
type Watcher struct {
	Store *store.Store
	Free  func(ctx context.Context, warehouse string) (int64, error) // room on the disk of a warehouse; -1 where that is not known

	away map[subject]time.Time // since when an alert that goes on was not found any more
}

// subject is what an alert is about.
type subject struct{ kind, feed, about string }

func subjectOf(a records.Alert) subject { return subject{a.Kind, a.Feed, a.About} }

// overAfter is how long something must be well again before that is told: what fails again and again is one alert.
const overAfter = 20 * time.Second

// Watch goes on until the context ends.
func (w *Watcher) Watch(ctx context.Context) {
	for {
		err := problem.Guarded(func() error {
			return w.Store.Alone(ctx, "alerts", func(ctx context.Context) error { return w.Look(ctx, time.Now()) })
		})()
		if err != nil && ctx.Err() == nil {
			slog.Warn("Looking for alerts failed; it is tried again.", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(watchEvery):
		}
	}
}

// Look finds what needs a person now, keeps it, and tells the channels.
func (w *Watcher) Look(ctx context.Context, now time.Time) error {
	channels, err := w.Store.ChannelsWithSecrets(ctx)
	if err != nil {
		return err
	}
	feeds, err := w.Store.Feeds(ctx, "")
	if err != nil {
		return err
	}
	list := Find(feeds, now, leastBound(channels))
	full, err := w.disks(ctx)
	if err != nil {
		return err
	}
	sets, err := w.Store.DerivedSets(ctx, "")
	if err != nil {
		return err
	}
	for _, s := range sets {
		for _, n := range s.Status().Needs() {
			list = append(list, records.Alert{Kind: n.Kind, About: n.Table, What: n.What, Remedy: n.Remedy})
		}
	}
	list, err = w.settled(ctx, append(list, full...), now)
	if err == nil {
		err = w.Store.KeepAlerts(ctx, list)
	}
	if err != nil {
		return err
	}
	labels := map[string]feed.Labels{}
	for _, f := range feeds {
		labels[f.Name] = f.Labels
	}
	for _, s := range sets {
		labels["/"+s.Name] = s.Labels
	}
	for _, c := range channels {
		if err := w.tell(ctx, c, labels, now); err != nil {
			return err
		}
	}
	return nil
}

// settled adds the alerts that were not found for a moment only.
func (w *Watcher) settled(ctx context.Context, list []records.Alert, now time.Time) ([]records.Alert, error) {
	open, err := w.Store.Alerts(ctx, false, mostOpen)
	if err != nil {
		return nil, err
	}
	so, away := map[subject]bool{}, map[subject]time.Time{}
	for _, a := range list {
		so[subjectOf(a)] = true
	}
	for _, a := range open {
		of := subjectOf(a)
		if so[of] {
			continue
		}
		since, known := w.away[of]
		if !known {
			since = now
		}
		if away[of] = since; now.Sub(since) < overAfter {
			list = append(list, a)
		}
	}
	w.away = away
	return list, nil
}

// mostOpen is how many alerts are looked at that go on.
const mostOpen = 100_000

// leastBound is the lag from which on any channel wants to know of it.
func leastBound(channels []records.Channel) (least time.Duration) {
	for _, c := range channels {
		if d, err := bound(c); err == nil && d > 0 && (least == 0 || d < least) {
			least = d
		}
	}
	return least
}

// disks finds the warehouses whose disk is nearly full.
func (w *Watcher) disks(ctx context.Context) (list []records.Alert, err error) {
	all, err := w.Store.Connections(ctx, store.Warehouses)
	for _, c := range all {
		if c.Settings.Path == "" || len(c.Feeds) == 0 {
			continue
		}
		free, err := w.Free(ctx, c.Name)
		if err == nil && free >= 0 && free < leastRoom { // what cannot be asked shows where it is written
			list = append(list, records.Alert{Kind: records.AlertDisk, About: c.Name,
				What: fmt.Sprintf("The disk of the warehouse %s has %d MB left.", c.Name, free>>20), Remedy: "Make room on it."})
		}
	}
	return list, err
}

// ownerOf names whose labels are an alert's: a feed, or after a slash a set of derived tables.
func ownerOf(a records.Alert) string {
	if a.Kind != records.AlertDerived {
		return a.Feed
	}
	set, _, _ := strings.Cut(a.About, "/")
	return "/" + set
}

// tell tells a channel what it does not know yet, and what is over of what it knows. What is over before it was
// told is told by nobody.
func (w *Watcher) tell(ctx context.Context, c records.Channel, labels map[string]feed.Labels, now time.Time) error {
	if quiet, err := quietAt(c, now); err != nil || quiet {
		return nil // the settings were checked; a zone that has gone is no reason to wake somebody
	}
	for _, over := range []bool{false, true} {
		untold, err := w.Store.Untold(ctx, c.Name, over)
		if err != nil {
			return err
		}
		for _, m := range grouped(untold, over, func(a records.Alert) bool { return over || wants(c, a, labels[ownerOf(a)]) }) {
			failure := Send(ctx, c, m)
			if err := w.Store.Told(ctx, c.Name, m.Alerts, over, failure); err != nil {
				return err
			}
			if failure != nil {
				slog.Warn("An alert was not delivered; it is tried again.", "channel", c.Name, "error", failure)
				return nil // the others wait, too: the channel does not work
			}
		}
	}
	return nil
}

// grouped makes one message of the alerts of a kind and a feed.
func grouped(list []records.Alert, over bool, wanted func(records.Alert) bool) (messages []Message) {
	for _, a := range list {
		if !wanted(a) {
			continue
		}
		last := len(messages) - 1
		if last < 0 || messages[last].Kind != a.Kind || messages[last].Feed != a.Feed {
			messages = append(messages, Message{Over: over, Kind: a.Kind, Feed: a.Feed})
			last++
		}
		messages[last].Alerts = append(messages[last].Alerts, a)
	}
	return messages
}
