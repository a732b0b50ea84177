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
	"noemata/internal/core/rows"
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

// looked compares two sides as a proof does, each in batches.
func looked(key []int, source, warehouse []row, inFlight func(row) bool) (compare.Result, *compare.Closer) {
	c := compare.New(columns, key)
	batches := func(rows []row, add func(r arrow.RecordBatch, at func(int) bool)) {
		for len(rows) > 0 {
			n := min(len(rows), 1+rand.IntN(7))
			batch := rows[:n]
			add(record(batch), func(i int) bool { return inFlight != nil && inFlight(batch[i]) })
			rows = rows[n:]
		}
	}
	a, b := c.Sums(), c.Sums()
	batches(source, a.Add)
	batches(warehouse, func(r arrow.RecordBatch, _ func(int) bool) { b.Add(r, nil) })
	buckets, beside := compare.Differ(a, b)
	groups, unlooked := buckets.Groups(a, b)
	beside.Unlooked = unlooked
	if len(groups) == 0 {
		return beside, nil
	}
	var closer *compare.Closer
	for _, g := range groups {
		x := c.Closer(g)
		batches(source, x.Source)
		batches(warehouse, func(r arrow.RecordBatch, _ func(int) bool) { x.Warehouse(r) })
		if x.End(); closer == nil {
			closer = x
		} else {
			closer.Join(x)
		}
	}
	return closer.Result(beside), closer
}

func counts(r compare.Result) []int64 { return []int64{r.Equal, r.Differing, r.Missing, r.Extra} }

// The same rows are equal in any order; one value changed is one difference, one row
// taken away one missing, one added one extra. Null is not the empty text.
func TestFindsExactlyWhatDiffers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := drawRows(t)
		n := int64(len(rows))
		run := func(key []int, warehouse []row) compare.Result {
			r, _ := looked(key, rows, warehouse, nil)
			return r
		}
		require.Equal(t, []int64{n, 0, 0, 0}, counts(run([]int{0}, shuffled(rows))))
		require.Equal(t, []int64{n, 0, 0, 0}, counts(run(nil, shuffled(rows))))
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
		require.Equal(t, []int64{n - 1, 1, 0, 0}, counts(r))
		require.Equal(t, []string{fmt.Sprintf(`values differ: key ["%d"]`, at)}, r.Examples)
		require.Equal(t, []int64{n - 1, 0, 1, 1}, counts(run(nil, shuffled(changed))))
		without := append(append([]row{}, rows[:at]...), rows[at+1:]...)
		require.Equal(t, []int64{n - 1, 0, 1, 0}, counts(run([]int{0}, shuffled(without))))
		twice := append(append([]row{}, rows...), rows[at])
		require.Equal(t, []int64{n, 0, 0, 1}, counts(run([]int{0}, shuffled(twice))), "a doubled row")
	})
}

// What is looked at again counts only if it still differs as it did, and shows its values.
func TestWhatWasOnItsWayDoesNotCount(t *testing.T) {
	old, fresh, wrong := "old", "fresh", "wrong"
	source := []row{{1, &fresh}, {2, &fresh}, {3, &fresh}, {5, nil}}
	_, x := looked([]int{0}, source, []row{{1, &old}, {2, &wrong}, {4, &wrong}, {5, nil}}, nil)
	require.Equal(t, [][]string{{"1"}, {"2"}, {"3"}, {"4"}}, x.Keys())
	again := x.Again()
	again.Source(record(source), nil) // 1 and 3 have come in, 2 and 4 have not changed
	again.Warehouse(record([]row{{1, &fresh}, {2, &wrong}, {3, &fresh}, {4, &wrong}, {5, nil}}))
	again.End()
	r := again.Result(compare.Result{Equal: 1})
	require.Equal(t, []int64{3, 1, 0, 1}, counts(r))
	require.Equal(t, []string{`values differ: key ["2"], note is "fresh" at the source and "wrong" in the warehouse`,
		`only in the warehouse: key ["4"]`}, r.Examples)
	third := x.Again()
	other := "another"
	third.Source(record([]row{{2, &other}}), nil) // it differs otherwise than it did: it is being changed
	third.Warehouse(record([]row{{2, &wrong}}))
	third.End()
	require.Equal(t, int64(1), third.Result(compare.Result{}).InFlight)
	require.Empty(t, third.Found())
}

func TestHiddenValuesAreNotShown(t *testing.T) {
	a, b := "0676 5550142", "0676 5550143"
	c := compare.New(columns, []int{0})
	c.Hidden = map[string]bool{"note": true}
	x := c.Closer(compare.Buckets{})
	x.Source(record([]row{{1, &a}}), nil)
	x.Warehouse(record([]row{{1, &b}}))
	x.End()
	again := x.Again()
	again.Source(record([]row{{1, &a}}), nil)
	again.Warehouse(record([]row{{1, &b}}))
	again.End()
	require.Equal(t, []string{`values differ: key ["1"], note is "(hidden)" at the source and "(hidden)" in the warehouse`},
		again.Result(compare.Result{}).Examples)
}

func TestRowsInFlightAreNotJudged(t *testing.T) {
	old, fresh := "old", "new"
	r, _ := looked([]int{0}, []row{{1, &fresh}, {2, &fresh}, {3, &old}}, []row{{1, &old}, {3, &old}},
		func(r row) bool { return r.id < 3 })
	require.True(t, r.Same())
	require.Equal(t, []int64{1, 2}, []int64{r.Equal, r.InFlight})
}

// A row that cannot be stored is neither missing nor, as it was before, too much.
func TestRowsSetAsideAreNotJudged(t *testing.T) {
	old := "old"
	c := compare.New(columns, []int{0})
	x := c.Closer(compare.Buckets{})
	x.SourceAside(rows.Aside{Key: `["7"]`})
	x.Warehouse(record([]row{{7, &old}}))
	x.End()
	r := x.Result(compare.Result{})
	require.True(t, r.Same())
	require.Equal(t, int64(1), r.InFlight)
}

func TestTwinsAreCounted(t *testing.T) {
	x := "twin"
	r, _ := looked(nil, []row{{1, &x}, {1, &x}, {1, &x}}, []row{{1, &x}, {1, &x}}, nil)
	require.Equal(t, []int64{2, 1}, []int64{r.Equal, r.Missing})
}

// Where the warehouse keeps rows of before, those that it has beside are no differences, and are not kept in mind.
func TestRowsOfBeforeAreNoDifferences(t *testing.T) {
	a, b := "now", "before"
	c := compare.New(columns, nil)
	c.Keeps = true
	x := c.Closer(compare.Buckets{})
	x.Source(record([]row{{1, &a}, {2, &a}}), nil)
	x.Warehouse(record([]row{{1, &b}, {1, &a}, {1, &a}}))
	x.End()
	require.Equal(t, []int64{1, 0, 1, 2}, counts(x.Result(compare.Result{})))
	require.Equal(t, 1, x.Doubts())
	require.Len(t, x.Found(), 1)
}
