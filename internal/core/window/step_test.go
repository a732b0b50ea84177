package window

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/schema"
)

func cut(t *testing.T, r Range, kind schema.Kind) []string {
	s, err := r.Cut(schema.Type{Kind: kind})
	require.NoError(t, err)
	var list []string
	for i := range s.Count {
		w := s.At(i)
		open := "("
		if w.Inclusive {
			open = "["
		}
		list = append(list, open+w.Low.Value+", "+w.High+"]")
	}
	return list
}

func TestARangeIsCutIntoSlices(t *testing.T) {
	require.Equal(t, []string{"[2026-01-31, 2026-02-28]", "(2026-02-28, 2026-03-31]", "(2026-03-31, 2026-04-10]"},
		cut(t, Range{From: "2026-01-31", To: "2026-04-10", Slice: "1mo"}, schema.Date), "a month's last day")
	require.Equal(t, []string{"(2026-01-03, 2026-01-04]", "(2026-01-02, 2026-01-03]", "[2026-01-01, 2026-01-02]"},
		cut(t, Range{From: "2026-01-01", To: "2026-01-04", Slice: "1d", Newest: true}, schema.Date))
	require.Equal(t, []string{"[2024-02-29T12:00:00.000000Z, 2025-02-28T12:00:00.000000Z]",
		"(2025-02-28T12:00:00.000000Z, 2025-03-01T00:00:00.000000Z]"},
		cut(t, Range{From: "2024-02-29T12:00:00.000000Z", To: "2025-03-01T00:00:00.000000Z", Slice: "1y"},
			schema.TimestampTZ))
	require.Equal(t, []string{"[-5, 0]", "(0, 5]", "(5, 7]"}, cut(t, Range{From: "-5", To: "7", Slice: "5"},
		schema.Int32))
	require.Equal(t, []string{"[5, 5]"}, cut(t, Range{From: "5", To: "5", Slice: "5"}, schema.Int64))
	require.Equal(t, []string{"[a, z]"}, cut(t, Range{From: "a", To: "z"}, schema.Text))
	require.Equal(t, []string{"[0, 500000000000000000]", "(500000000000000000, 900000000000000000]"},
		cut(t, Range{From: "0", To: "900000000000000000", Slice: "500000000000000000"}, schema.Int64))
	require.Equal(t, []string{"[-9223372036854775808, -1]", "(-1, 9223372036854775806]",
		"(9223372036854775806, 9223372036854775807]"},
		cut(t, Range{From: "-9223372036854775808", To: "9223372036854775807", Slice: "9223372036854775807"},
			schema.Int64))
	for text, r := range map[string]Range{
		"ends at 1, before it begins at 2": {From: "2", To: "1"}, "100000 slices": {From: "1", To: "1000000",
			Slice: "1"},
		`"1d" is not the length`: {From: "1", To: "5", Slice: "1d"},
		`"0" is not the length`:  {From: "1", To: "5", Slice: "0"}} {
		_, err := r.Cut(schema.Type{Kind: schema.Int64})
		require.ErrorContains(t, err, text)
	}
	for text, slice := range map[string]string{"in whole days": "12h", `"1 month" is not`: "1 month",
		`"-1d" is not`: "-1d"} {
		_, err := Range{From: "2026-01-01", To: "2026-02-01", Slice: slice}.Cut(schema.Type{Kind: schema.Date})
		require.ErrorContains(t, err, text)
	}
	_, err := Range{From: "a", To: "b", Slice: "1"}.Cut(schema.Type{Kind: schema.Text})
	require.ErrorContains(t, err, "no distance between texts")
	_, err = Range{From: "-infinity", To: "2026-01-01", Slice: "1d"}.Cut(schema.Type{Kind: schema.Date})
	require.ErrorContains(t, err, "cannot be cut")
}

func TestBelow(t *testing.T) {
	for _, x := range []struct {
		kind         schema.Kind
		value, below string
	}{{schema.Text, "abc", "ab"}, {schema.Text, "é", "\x01"}, {schema.Date, "2026-01-01", "2025-12-31"},
		{schema.Timestamp, "2026-01-01T00:00:00.000000", "2025-12-31T23:59:59.999999"}, {schema.Int64, "-5", "-6"},
		{schema.Decimal, "12.5", "11"}, {schema.Decimal, "-12.5", "-14"}} {
		typ := schema.Type{Kind: x.kind}
		require.Equal(t, x.below, Below(x.value, typ))
		require.Negative(t, compared(x.below, x.value, typ))
	}
}

// Each value of a range is in one slice, whichever comes first.
func TestSlicesCoverTheirRange(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom([]schema.Kind{schema.Date, schema.Timestamp, schema.TimestampTZ}).Draw(t, "kind")
		text := map[schema.Kind]func(int64) string{
			schema.Date:        func(us int64) string { return schema.DateText(schema.Days(us)) },
			schema.Timestamp:   schema.TimestampText,
			schema.TimestampTZ: schema.TimestampTZText,
		}[kind]
		const day = 86400e6
		from := rapid.Int64Range(-20000*day, 20000*day).Draw(t, "from")
		to := from + rapid.Int64Range(0, 900*day).Draw(t, "length")
		at := rapid.Int64Range(from, to).Draw(t, "value")
		r := Range{From: text(from), To: text(to), Newest: rapid.Bool().Draw(t, "newest"),
			Slice: rapid.SampledFrom([]string{"", "1d", "7d", "1mo", "3mo", "1y"}).Draw(t, "slice")}
		typ := schema.Type{Kind: kind}
		s, err := r.Cut(typ)
		if err != nil {
			t.Fatal(err)
		}
		var in []int
		for i := range s.Count {
			w := s.At(i)
			low := compared(text(at), w.Low.Value, typ)
			if (low > 0 || low == 0 && w.Inclusive) && compared(text(at), w.High, typ) <= 0 {
				in = append(in, i)
			}
		}
		if len(in) != 1 {
			t.Fatalf("%s is in the slices %v of %s", text(at), in, strings.Join([]string{r.From, r.To, r.Slice}, " "))
		}
	})
}
