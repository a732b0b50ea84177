package position_test

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/position"
	"noemata/internal/core/schema"
)

// Whatever the watermark and the key hold, a position is one line and reads back.
func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := position.Position{Value: rapid.StringN(1, 40, -1).Draw(t, "value")}
		if rapid.Bool().Draw(t, "within") {
			p.After = rapid.SliceOfN(rapid.String(), 1, 3).Draw(t, "key")
		}
		p.Value = strings.ToValidUTF8(p.Value, "?")
		for i := range p.After {
			p.After[i] = strings.ToValidUTF8(p.After[i], "?")
		}
		text := p.String()
		require.NotContains(t, text, "\n")
		back, err := position.Parse(text)
		require.NoError(t, err)
		require.Equal(t, p, back)
	})
}

func TestTheFormsThatPeopleMeet(t *testing.T) {
	require.Equal(t, `2026-11-23T08:30:00.000000Z after ["4711"]`,
		position.Position{Value: "2026-11-23T08:30:00.000000Z", After: []string{"4711"}}.String())
	require.Equal(t, "5179", position.Position{Value: "5179"}.String())
	require.Equal(t, "", position.Position{}.String())
	for _, wrong := range []string{`x after [`, `x after [1]`, `"open`} {
		_, err := position.Parse(wrong)
		require.Error(t, err, wrong)
	}
}

func TestCompareFollowsTheType(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.Int64().Draw(t, "a"), rapid.Int64().Draw(t, "b")
		of := func(n int64) position.Position { return position.Position{Value: strconv.FormatInt(n, 10)} }
		want := 0
		if a < b {
			want = -1
		} else if a > b {
			want = 1
		}
		require.Equal(t, want, position.Compare(of(a), of(b), schema.Type{Kind: schema.Int64}))
		at := func(n int64) position.Position {
			return position.Position{Value: schema.TimestampTZText(n % (1 << 55))}
		}
		x, y := a%(1<<55), b%(1<<55)
		want = 0
		if x < y {
			want = -1
		} else if x > y {
			want = 1
		}
		require.Equal(t, want, position.Compare(at(a), at(b), schema.Type{Kind: schema.TimestampTZ}))
	})
	within := position.Position{Value: "7", After: []string{"1"}}
	past := position.Position{Value: "7"}
	require.Equal(t, -1, position.Compare(within, past, schema.Type{Kind: schema.Int32}))
	require.Equal(t, -1, position.Compare(position.Position{}, within, schema.Type{Kind: schema.Int32}))
}

func TestCheckGivesTheOneWrittenForm(t *testing.T) {
	for _, c := range []struct {
		kind     schema.Kind
		in, want string
	}{
		{schema.TimestampTZ, "2026-11-23", "2026-11-23T00:00:00.000000Z"},
		{schema.TimestampTZ, "2026-11-23T10:00:00+02:00", "2026-11-23T08:00:00.000000Z"},
		{schema.Timestamp, "2026-11-23 10:00:00.5", "2026-11-23T10:00:00.500000"},
		{schema.Date, "2026-11-23", "2026-11-23"},
		{schema.Int64, "42", "42"},
		{schema.Text, "anything", "anything"},
	} {
		p, err := position.Position{Value: c.in}.Check(schema.Type{Kind: c.kind})
		require.NoError(t, err)
		require.Equal(t, c.want, p.Value)
	}
	for kind, in := range map[schema.Kind]string{schema.TimestampTZ: "yesterday", schema.Int64: "4.5",
		schema.Date: "23.11.2026"} {
		_, err := position.Position{Value: in}.Check(schema.Type{Kind: kind})
		require.ErrorContains(t, err, in)
	}
}

// Times keep their meaning through their text, from before our era to the far future.
func TestTimesRoundTrip(t *testing.T) {
	low, high := time.Date(-4000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro(), time.Date(9999, 1, 1, 0, 0, 0, 0,
		time.UTC).UnixMicro()
	rapid.Check(t, func(t *rapid.T) {
		us := rapid.Int64Range(low, high).Draw(t, "us")
		back, err := schema.ParseTimestamp(schema.TimestampTZText(us))
		require.NoError(t, err)
		require.Equal(t, us, back)
	})
}
