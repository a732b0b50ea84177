package compare_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/compare"
	"noemata/internal/core/schema"
)

var columns = []schema.Column{
	{Name: "id", Type: schema.Type{Kind: schema.Int64}},
	{Name: "note", Type: schema.Type{Kind: schema.Text}},
}

type row struct {
	id   int64
	note *string
}

func record(rows []row) arrow.RecordBatch {
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	for _, r := range rows {
		b.Field(0).(*array.Int64Builder).Append(r.id)
		if r.note == nil {
			b.Field(1).AppendNull()
		} else {
			b.Field(1).(*array.StringBuilder).Append(*r.note)
		}
	}
	return b.NewRecordBatch()
}

func never(int) bool { return false }

func shuffled(rows []row) []row {
	out := append([]row{}, rows...)
	rand.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}

func drawRows(t *rapid.T) []row {
	var rows []row
	for i := range rapid.IntRange(0, 30).Draw(t, "rows") {
		r := row{id: int64(i)}
		if rapid.Bool().Draw(t, "noted") {
			s := rapid.StringN(0, 5, -1).Draw(t, "note")
			r.note = &s
		}
		rows = append(rows, r)
	}
	return rows
}

// The same rows are equal in any order; one value changed is one difference, one row
// taken away one missing, one added one extra. Null is not the empty text.
func TestFindsExactlyWhatDiffers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := drawRows(t)
		n := int64(len(rows))
		run := func(key []int, warehouse []row) compare.Result {
			c := compare.New(columns, key)
			require.NoError(t, c.Source(record(rows), never))
			require.NoError(t, c.Warehouse(record(warehouse)))
			return c.Result()
		}
		require.Equal(t, n, run([]int{0}, shuffled(rows)).Equal)
		require.Equal(t, n, run(nil, shuffled(rows)).Equal)
		if n == 0 {
			return
		}
		at := rapid.IntRange(0, len(rows)-1).Draw(t, "at")
		changed := append([]row{}, rows...)
		other := "changed by hand"
		if changed[at].note == nil && rapid.Bool().Draw(t, "empty") {
			other = ""
		}
		changed[at].note = &other
		r := run([]int{0}, shuffled(changed))
		require.Equal(t, []int64{n - 1, 1, 0, 0}, []int64{r.Equal, r.Differing, r.Missing, r.Extra})
		require.Equal(t, []string{fmt.Sprintf(`values differ: key ["%d"]`, at)}, r.Examples)
		r = run(nil, shuffled(changed))
		require.Equal(t, []int64{n - 1, 0, 1, 1}, []int64{r.Equal, r.Differing, r.Missing, r.Extra})
		without := append(append([]row{}, rows[:at]...), rows[at+1:]...)
		r = run([]int{0}, shuffled(without))
		require.Equal(t, []int64{n - 1, 0, 1, 0}, []int64{r.Equal, r.Differing, r.Missing, r.Extra})
		twice := append(append([]row{}, rows...), rows[at])
		r = run([]int{0}, shuffled(twice))
		require.Equal(t, int64(1), r.Extra, "a doubled row")
	})
}

func TestRowsInFlightAreNotJudged(t *testing.T) {
	old, new := "old", "new"
	c := compare.New(columns, []int{0})
	require.NoError(t, c.Source(record([]row{{1, &new}, {2, &new}, {3, &old}}), func(i int) bool { return i < 2 }))
	require.NoError(t, c.Warehouse(record([]row{{1, &old}, {3, &old}})))
	r := c.Result()
	require.True(t, r.Same())
	require.Equal(t, []int64{1, 2}, []int64{r.Equal, r.InFlight})
}

func TestTwinsAreCounted(t *testing.T) {
	x := "twin"
	c := compare.New(columns, nil)
	require.NoError(t, c.Source(record([]row{{1, &x}, {1, &x}, {1, &x}}), never))
	require.NoError(t, c.Warehouse(record([]row{{1, &x}, {1, &x}})))
	r := c.Result()
	require.Equal(t, []int64{2, 1}, []int64{r.Equal, r.Missing})
}
