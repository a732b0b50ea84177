package jobs

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// After a failure the pause begins at four seconds and doubles, up to five minutes; a time of
// day is not waited for, and a schedule is never overtaken.
func TestThePauseAfterFailuresGrows(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	soon, later := now.Add(time.Second), now.Add(12*time.Hour)
	for failures, want := range []time.Duration{0, 4 * time.Second, 8 * time.Second, 16 * time.Second, 32 * time.Second,
		64 * time.Second, 128 * time.Second, 256 * time.Second, 5 * time.Minute, 5 * time.Minute} {
		if failures == 0 {
			require.Equal(t, soon, afterFailures(soon, false, 0, now))
			require.Equal(t, later, afterFailures(later, true, 0, now))
			continue
		}
		require.Equal(t, now.Add(max(want, time.Second)), afterFailures(soon, false, failures, now),
			"%d failures of a feed without pause", failures)
		require.Equal(t, now.Add(want), afterFailures(later, true, failures, now), "%d failures at a time of day",
			failures)
		require.Equal(t, later, afterFailures(later, false, failures, now), "every twelve hours is every twelve hours")
	}
}

// The slots of one source are its own: when they are taken, another source has its.
func TestSlotsAreOfOneSource(t *testing.T) {
	var s slots
	ctx, stop := context.WithCancel(context.Background())
	for range feedsOfSource {
		_, err := s.take(ctx, "mute")
		require.NoError(t, err)
	}
	free, err := s.take(ctx, "healthy")
	require.NoError(t, err)
	free()
	waits := make(chan error)
	go func() {
		_, err := s.take(ctx, "mute")
		waits <- err
	}()
	select {
	case <-waits:
		t.Fatal("a fifth run of one source has a slot")
	case <-time.After(50 * time.Millisecond):
	}
	stop()
	require.ErrorIs(t, <-waits, context.Canceled, "and whoever waits can be stopped")
}
