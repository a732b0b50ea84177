package window

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestHours(t *testing.T) {
	night, err := ParseHours("22:00-06:30", "Europe/Vienna")
	require.NoError(t, err)
	require.Equal(t, "22:00-06:30 (Europe/Vienna)", night.String())
	for text, within := range map[string]bool{
		"2026-01-10T20:59:59Z": false, "2026-01-10T21:00:00Z": true, "2026-01-11T05:29:59Z": true,
		"2026-01-11T05:30:00Z": false,
		"2026-07-10T20:00:00Z": true, // in summer Vienna is two hours ahead
	} {
		at, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		require.Equal(t, within, night.Contains(at), text)
	}
	noon := time.Date(2026, 1, 10, 12, 0, 30, 0, time.UTC)
	require.Equal(t, time.Date(2026, 1, 10, 21, 0, 0, 0, time.UTC), night.Next(noon).UTC())
	// On the day that clocks are set forward, half past two does not come.
	early, err := ParseHours("02:30-02:45", "Europe/Vienna")
	require.NoError(t, err)
	require.Equal(t, time.Date(2026, 3, 30, 0, 30, 0, 0, time.UTC),
		early.Next(time.Date(2026, 3, 29, 0, 0, 0, 0, time.UTC)).UTC())
	always, err := ParseHours("", "")
	require.NoError(t, err)
	require.True(t, always.Contains(noon))
	require.Equal(t, noon, always.Next(noon))
	for _, wrong := range []string{"at night", "22:00", "25:00-06:00", "22:00-22:00", "22-6"} {
		_, err := ParseHours(wrong, "")
		require.Error(t, err, wrong)
	}
	_, err = ParseHours("22:00-06:00", "Atlantis/Harbour")
	require.Error(t, err)
}

// The next moment lies within the hours, and none before it does.
func TestTheNextOfHours(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		clock := rapid.Custom(func(t *rapid.T) string {
			return time.Date(2026, 1, 1, rapid.IntRange(0, 23).Draw(t, "hour"), rapid.IntRange(0, 59).Draw(t, "minute"), 0, 0,
				time.UTC).Format("15:04")
		})
		from, until := clock.Draw(t, "from"), clock.Draw(t, "until")
		if from == until {
			return
		}
		h, err := ParseHours(from+"-"+until, rapid.SampledFrom([]string{"", "Europe/Vienna", "Asia/Kathmandu"}).Draw(t,
			"zone"))
		require.NoError(t, err)
		at := time.Unix(rapid.Int64Range(1_700_000_000, 1_900_000_000).Draw(t, "at"), 0)
		next := h.Next(at)
		require.True(t, h.Contains(next))
		for m := at; m.Before(next); m = m.Add(7 * time.Minute) {
			require.False(t, h.Contains(m), "%s lies before %s", m, next)
		}
	})
}
