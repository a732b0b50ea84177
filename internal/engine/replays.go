package engine

import (
	"context"
	"time"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/warehouse"
)

// A log is read again where its feed's position was set back. All of what is read again is one commit, so that nobody
// sees an older state: what shows a change already is left as it is, and rows that are gone come and go again.

// placeEvery is how often the place that a feed has come to is kept, and placesFor how long.
const (
	placeEvery = 5 * time.Minute
	placesFor  = feed.MostBehind + 24*time.Hour
)

// clock gives transactions their moments: those that are read again none that is later than their first one.
func (s *session) clock(last int64) change.Clock {
	if s.replays == "" {
		return change.Clock{Last: last}
	}
	return change.Clock{Replays: s.replays, Then: last}
}

// keptSince is the place from which on the source keeps the log for a feed that wants it for longer than it needs it, and
// notes when the last place was kept.
func (s *session) keptSince(ctx context.Context) (since string, err error) {
	now := time.Now()
	last, _, err := s.Warehouse.Journal().PlaceAt(ctx, s.Feed.Name, now)
	s.placed = last.At
	if by := s.Feed.BehindBy(); err == nil && by > 0 {
		var then warehouse.Place
		then, _, err = s.Warehouse.Journal().PlaceAt(ctx, s.Feed.Name, now.Add(-by))
		since = then.Position
	}
	return since, err
}

// notePlace keeps where the feed comes to by a commit, now and then.
func (a *applier) notePlace(ctx context.Context, to string) error {
	now := time.Now()
	if now.Sub(a.placed) < placeEvery {
		return nil
	}
	a.placed = now
	return a.commit.Note(ctx, a.Feed.Name, warehouse.Reached{Place: warehouse.Place{Position: to, At: now},
		Forget: now.Add(-placesFor)})
}

// replaying tells whether what lies beyond a position may have been applied before.
func (s *session) replaying(position string) bool { return position < s.replays }

// replayed is the moment up to which changes of a cut may have been merged before; 0 where none were.
func (a *applier) replayed() int64 {
	if !a.replaying(a.reached) {
		return 0
	}
	_, last := a.board.at()
	return last
}
