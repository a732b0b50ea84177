package engine

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/source"
)

// Whatever its edges are, each key of a range is in one of its lanes, and no other is.
func TestLanesComeToTheWhole(t *testing.T) {
	number := func(t *rapid.T, what string) int64 {
		return rapid.OneOf(rapid.Int64(), rapid.SampledFrom([]int64{math.MinInt64, -1, 0, 1, math.MaxInt64})).Draw(t, what)
	}
	rapid.Check(t, func(t *rapid.T) {
		low, high := number(t, "low"), number(t, "high")
		low, high = min(low, high), max(low, high)
		require.GreaterOrEqual(t, edge(low, high, 1, 2), low)
		require.LessOrEqual(t, edge(low, high, 1, 2), high)
		list := (&lanes{low, high}).of(source.KeyRange{})
		require.Len(t, list, 2)
		require.Nil(t, list[0].After)
		require.Nil(t, list[1].UpTo)
		require.Equal(t, list[0].UpTo, list[1].After)
	})
	one := (*lanes)(nil).of(source.KeyRange{After: []string{"5"}})
	require.Equal(t, []source.KeyRange{{After: []string{"5"}}}, one)
	within := (&lanes{0, 100}).of(source.KeyRange{After: []string{"10"}, UpTo: []string{"20"}})
	require.Equal(t, []source.KeyRange{{After: []string{"10"}, UpTo: []string{"15"}},
		{After: []string{"15"}, UpTo: []string{"20"}}}, within)
}
