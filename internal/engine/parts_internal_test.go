package engine

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever the lowest and the highest key are, the edges of ranges between them rise.
func TestEdgesOfRangesRise(t *testing.T) {
	number := func(t *rapid.T, what string) int64 {
		return rapid.OneOf(rapid.Int64(), rapid.SampledFrom([]int64{math.MinInt64, -1, 0, 1, math.MaxInt64})).Draw(t, what)
	}
	rapid.Check(t, func(t *rapid.T) {
		low, high := number(t, "low"), number(t, "high")
		low, high = min(low, high), max(low, high)
		n := rapid.Uint64Range(1, 1000).Draw(t, "n")
		last := low
		for i := uint64(1); i < n; i++ {
			now := edge(low, high, i, n)
			require.GreaterOrEqual(t, now, last)
			require.LessOrEqual(t, now, high)
			last = now
		}
	})
}
