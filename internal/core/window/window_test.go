package window_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/position"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
)

func TestBounds(t *testing.T) {
	content, err := os.ReadFile("testdata/bounds.txt")
	require.NoError(t, err)
	stories := 0
	for line := range strings.Lines(string(content)) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		stories++
		given, want, ok := strings.Cut(line, "=>")
		require.True(t, ok, line)
		parts := strings.Split(given, "|")
		head := strings.Fields(parts[0])
		settle, err := time.ParseDuration(head[1])
		require.NoError(t, err)
		zone, err := time.LoadLocation(head[2])
		require.NoError(t, err)
		m := window.Moment{Clock: instant(t, parts[1])}
		if oldest := strings.TrimSpace(parts[2]); oldest != "-" {
			at := instant(t, oldest)
			m.Oldest = &at
		}
		if open := strings.TrimSpace(parts[3]); open != "-" {
			m.Open = strings.Fields(open)
		}
		p := window.Propose(schema.Type{Kind: schema.Kind(head[0])}, m, settle, "5179", zone)
		bound, waits, _ := strings.Cut(want, "waits")
		require.Equal(t, strings.TrimSpace(bound), p.High, line)
		require.Equal(t, strings.Fields(waits), append([]string{}, p.Waiting...), line)
	}
	require.Greater(t, stories, 10)
}

func instant(t *testing.T, s string) time.Time {
	at, err := time.Parse(time.RFC3339, strings.TrimSpace(s))
	require.NoError(t, err)
	return at
}

// However clocks are set, what is written from the moment of the proposal on lies
// above the bound: later wall-clock readings are never at or below it.
func TestNothingLaterFallsBelowTheBound(t *testing.T) {
	zones := []string{"Europe/Vienna", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "UTC"}
	rapid.Check(t, func(t *rapid.T) {
		zone, err := time.LoadLocation(rapid.SampledFrom(zones).Draw(t, "zone"))
		require.NoError(t, err)
		clock := time.Unix(rapid.Int64Range(1_750_000_000, 1_810_000_000).Draw(t, "clock"), 0)
		later := clock.Add(time.Duration(rapid.Int64Range(0, int64(6*time.Hour)).Draw(t, "later")))
		for _, kind := range []schema.Kind{schema.Timestamp, schema.Date} {
			typ := schema.Type{Kind: kind}
			p := window.Propose(typ, window.Moment{Clock: clock}, 0, "", zone)
			written, err := position.Position{Value: later.In(zone).Format("2006-01-02T15:04:05.000000")}.Check(typ)
			require.NoError(t, err)
			require.Negative(t, position.Compare(position.Position{Value: p.High}, written, typ),
				"bound %s, written %s", p.High, written.Value)
		}
	})
}

func TestAProposalSettlesWhenItsTransactionsHaveEnded(t *testing.T) {
	p := window.Proposal{Waiting: []string{"a", "b"}}
	require.False(t, p.Settled(window.Moment{Open: []string{"b", "c"}}))
	require.True(t, p.Settled(window.Moment{Open: []string{"c", "d"}}))

	// A statement that had its time, but was no transaction yet, is waited for as what it
	// became, and no longer.
	s := window.Proposal{Waiting: []string{"7?41", "8/noon"}}
	require.False(t, s.Settled(window.Moment{Open: []string{"7?41", "9/one"}}))
	require.False(t, s.Settled(window.Moment{Open: []string{"7/two", "9/one"}}))
	require.False(t, s.Settled(window.Moment{Open: []string{"7/two", "7?42"}}))
	require.True(t, s.Settled(window.Moment{Open: []string{"7/three", "7?43"}}))
}

func TestLookBack(t *testing.T) {
	for _, c := range []struct {
		back       window.LookBack
		kind       schema.Kind
		from, want string
	}{
		{"90s", schema.TimestampTZ, "2026-11-23T00:01:00.000000Z", "2026-11-22T23:59:30.000000Z"},
		{"2d", schema.Timestamp, "2026-03-01T00:00:00.000000", "2026-02-27T00:00:00.000000"},
		{"36h", schema.Date, "2026-11-23", "2026-11-21"},
		{"10", schema.Int64, "5", "-5"},
		{"0", schema.Int64, "5", "5"},
		{"1h", schema.TimestampTZ, "-infinity", "-infinity"},
	} {
		got, err := c.back.Below(c.from, schema.Type{Kind: c.kind})
		require.NoError(t, err)
		require.Equal(t, c.want, got)
	}
	for kind, back := range map[schema.Kind]window.LookBack{schema.Int64: "1h", schema.TimestampTZ: "10",
		schema.Text: "1"} {
		require.Error(t, back.Check(schema.Type{Kind: kind}), "%s", back)
	}
}

func TestEmptyWindows(t *testing.T) {
	n := schema.Type{Kind: schema.Int64}
	at := func(v string, after ...string) position.Position { return position.Position{Value: v, After: after} }
	require.True(t, window.Window{High: ""}.Empty(n))
	require.False(t, window.Window{High: "1"}.Empty(n))
	require.True(t, window.Window{Low: at("7"), High: "7"}.Empty(n))
	require.False(t, window.Window{Low: at("7", "k"), High: "7"}.Empty(n), "rows of the same value may follow the key")
	require.False(t, window.Window{Low: at("7"), Inclusive: true, High: "7"}.Empty(n))
	require.True(t, window.Window{Low: at("10"), High: "9"}.Empty(n), "10 is above 9, whatever the letters say")
}
