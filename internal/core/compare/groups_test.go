package compare

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// However many rows are in doubt, no more are looked at in one reading than memory has room for; what is
// left over is counted.
func TestRowsInDoubtAreLookedAtInGroups(t *testing.T) {
	c := New(nil, nil)
	a, b := c.Sums(), c.Sums()
	for i := range 100 {
		a.count[i*7], b.count[i*7] = 3, 2
	}
	a.count[5], b.count[5] = 4, 4 // the same
	buckets, beside := Differ(a, b)
	require.Equal(t, []int64{500, 4}, []int64{buckets.Rows, beside.Equal})
	groups, unlooked := buckets.groups(a, b, 50)
	require.Len(t, groups, 10)
	require.Zero(t, unlooked)
	seen := 0
	for _, g := range groups {
		require.LessOrEqual(t, g.Rows, int64(50))
		for _, in := range g.in {
			if in {
				seen++
			}
		}
	}
	require.Equal(t, 100, seen, "each bucket is in one group")
	groups, unlooked = buckets.groups(a, b, 10)
	require.Len(t, groups, mostGroups)
	require.Equal(t, int64(500-10*mostGroups), unlooked)
	groups, _ = buckets.groups(a, b, 1)
	require.Equal(t, int64(5), groups[0].Rows, "a bucket is looked at, however many rows it has")
}
