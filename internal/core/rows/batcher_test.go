package rows_test

import (
	"errors"
	"fmt"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

var columns = []schema.Column{{Name: "branch", Type: schema.Type{Kind: schema.Text}},
	{Name: "number", Type: schema.Type{Kind: schema.Int64}}, {Name: "watermark", Type: schema.Type{Kind: schema.Int64}}}

// Rows leave in the order in which they came, stored or set aside, and a batch says how the
// last of them left: a position must not pass a row that nobody has.
func TestRowsLeaveInTheirOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var got, aside []int64
		endsAside := false
		g := rows.NewBatcher(columns, func(b rows.Batch) error {
			require.Positive(t, b.Rows())
			for i := range int(b.Record.NumRows()) {
				got = append(got, b.Record.Column(1).(*array.Int64).Value(i))
			}
			for _, a := range b.Aside {
				var n int64
				_, err := fmt.Sscan(*a.Row["number"], &n)
				require.NoError(t, err)
				aside = append(aside, n)
			}
			endsAside = b.EndsAside
			b.Record.Release()
			return nil
		})
		var stored, kept []int64
		n := rapid.Int64Range(0, 60).Draw(t, "rows")
		lastAside := false
		for i := range n {
			size := rapid.SampledFrom([]int{10, 1 << 20, 20 << 20}).Draw(t, "size")
			if lastAside = rapid.IntRange(0, 4).Draw(t, "odd") == 0; lastAside {
				text := fmt.Sprint(i)
				require.NoError(t, g.SetAside(rows.NewAside(columns[:2], []*string{nil, &text, nil}, []int{0, 1},
					"branch", rows.IsNullKey), size))
				kept = append(kept, i)
				continue
			}
			g.Fields[0].AppendNull()
			g.Fields[1].(*array.Int64Builder).Append(i)
			g.Fields[2].AppendNull()
			require.NoError(t, g.Add(size))
			stored = append(stored, i)
		}
		require.NoError(t, g.PassOn())
		require.NoError(t, g.PassOn(), "nothing is passed on twice")
		require.Equal(t, n, g.Total)
		require.Equal(t, [][]int64{stored, kept}, [][]int64{got, aside})
		require.Equal(t, lastAside, endsAside)
	})
}

// A batch that is full is passed on at once, and what becomes of it is told.
func TestAFullBatchIsPassedOn(t *testing.T) {
	no := errors.New("the warehouse is full")
	batches := 0
	g := rows.NewBatcher(columns[1:2], func(b rows.Batch) error {
		batches++
		b.Record.Release()
		if batches == 2 {
			return no
		}
		return nil
	})
	for i := range int64(1 << 20) {
		g.Fields[0].(*array.Int64Builder).Append(i)
		if err := g.Add(8); err != nil {
			require.ErrorIs(t, err, no)
			require.Equal(t, 2, batches)
			require.EqualValues(t, 2*122_880, g.Total)
			return
		}
	}
	t.Fatal("no batch was passed on")
}

// What is set aside names its column, and is found again by its key and its content.
func TestAside(t *testing.T) {
	branch, number, watermark := "o'hara", "7", "2026"
	a := rows.NewAside(columns[:2], []*string{&branch, &number, &watermark}, []int{0, 1}, "number", "is too large")
	require.Equal(t, rows.Aside{Key: `["o'hara","7"]`, Row: map[string]*string{"branch": &branch, "number": &number},
		Reason: "Column number is too large.", Column: "number", Values: []*string{&branch, &number, &watermark}}, a)
	other := rows.NewAside(columns[:2], []*string{&branch, nil, &watermark}, []int{0, 1}, "number", "is too large")
	require.Equal(t, `["o'hara",""]`, other.Key)
	require.NotEqual(t, a.Digest(), other.Digest())
	again := rows.NewAside(columns[:2], []*string{&branch, &number, nil}, nil, "watermark", "is null")
	require.Equal(t, a.Digest(), again.Digest(), "the same row, whatever is wrong with it")
	require.Empty(t, again.Key)
}

// The books balance when each row that was read is accounted for once.
func TestBooks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := func(of string) int64 { return rapid.Int64Range(0, 1000).Draw(t, of) }
		draw := func() rows.Books {
			b := rows.Books{Filtered: n("filtered"), Folded: n("folded"), SetAside: n("aside"),
				Unchanged: n("unchanged"), Inserted: n("inserted"), Updated: n("updated"), Deleted: n("deleted")}
			b.Read = b.Filtered + b.Folded + b.SetAside + b.Unchanged + b.Inserted + b.Updated + b.Deleted
			return b
		}
		a, b := draw(), draw()
		sum := a.Add(b)
		require.True(t, sum.Balanced())
		require.Equal(t, a.Written()+b.Written(), sum.Written())
		sum.Read++
		require.False(t, sum.Balanced())
	})
}
