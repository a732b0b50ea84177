package stash_test

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/change"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
)

var table = []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int64}},
	{Name: "note", Type: schema.Type{Kind: schema.Text}}}

// told is what a change says, in words.
func told(b change.Batch, i int) string {
	r := b.Rows[i]
	x := b.Txns[r.Txn]
	text := fmt.Sprintf("%s %d of %s (%d at %d)", r.Kind, r.Seq, x.Position, x.ID, x.Moment)
	for k, c := range table {
		value, ok := schema.CellText(b.Record.Column(k), i, c.Type)
		text += fmt.Sprintf(" %q %v", value, ok)
	}
	if r.Unknown > 0 {
		text += fmt.Sprint(b.Unknown[r.Unknown-1])
	}
	if r.Misfit {
		text += " " + b.Misfit.Error()
	}
	return text
}

// What waits comes back as it went in, in its order, without the transactions that are not
// wanted any more.
func TestChangesComeBackAsTheyWent(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := change.Batch{Misfit: errors.New("it has another structure")}
		r := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(table))
		for txn := range rapid.IntRange(1, 5).Draw(t, "transactions") {
			b.Txns = append(b.Txns, change.Txn{Position: fmt.Sprintf("%08d", txn), ID: rapid.Uint32().Draw(t, "id"),
				Moment: rapid.Int64().Draw(t, "moment")})
			for seq := range rapid.IntRange(1, 4).Draw(t, "changes") {
				row := change.Row{Kind: change.Kind(rapid.IntRange(1, 6).Draw(t, "kind")), Txn: int32(txn),
					Seq: int32(seq)}
				r.Field(0).(*array.Int64Builder).Append(rapid.Int64().Draw(t, "key"))
				if rapid.Bool().Draw(t, "null") {
					r.Field(1).AppendNull()
				} else {
					r.Field(1).(*array.StringBuilder).Append(rapid.String().Draw(t, "note"))
				}
				if rapid.Bool().Draw(t, "unknown") {
					b.Unknown = append(b.Unknown, []bool{false, rapid.Bool().Draw(t, "left out")})
					row.Unknown = int32(len(b.Unknown))
				}
				row.Misfit = rapid.IntRange(0, 9).Draw(t, "misfit") == 0
				b.Rows = append(b.Rows, row)
			}
		}
		b.Record = r.NewRecordBatch()
		var keep []int32
		var want []string
		shown := rapid.IntRange(0, 5).Draw(t, "shown")
		for i := range b.Rows {
			if rapid.IntRange(0, 3).Draw(t, "kept") > 0 {
				keep = append(keep, int32(i))
				if int(b.Rows[i].Txn) != shown {
					want = append(want, told(b, i))
				}
			}
		}
		if len(keep) == 0 {
			return
		}
		record := stash.Encode(b, table, keep)
		events := record.Column(len(table)).(*array.String)
		var order []string
		for i := range events.Len() {
			order = append(order, events.Value(i))
			require.Equal(t, b.Rows[keep[i]].Kind, stash.KindAt(record, table, i))
		}
		require.True(t, slices.IsSorted(order), "they sort as the log does")
		back := stash.Decode(record, table, func(x change.Txn) bool { return x.Position != fmt.Sprintf("%08d", shown) })
		var got []string
		for i := range back.Rows {
			got = append(got, told(back, i))
		}
		require.Equal(t, want, got)
	})
}
