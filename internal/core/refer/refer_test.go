package refer_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/change"
	"noemata/internal/core/refer"
	"noemata/internal/core/schema"
)

// item is a row of a table of items: where it is, and above which other it stands.
type item struct{ place, above int32 } // 0 is null

var itemColumns = []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int32}},
	{Name: "place", Type: schema.Type{Kind: schema.Int32}}, {Name: "above", Type: schema.Type{Kind: schema.Int32}},
	{Name: "note", Type: schema.Type{Kind: schema.Int32}}}

const id, place, above, note = 0, 1, 2, 3

// written is a batch in the making, and what the rows are after it.
type written struct {
	builder *array.RecordBuilder
	batch   change.Batch
	rows    map[int32]item
}

func (w *written) add(kind change.Kind, unknown []bool, values ...int32) {
	for i, v := range values {
		if v == 0 {
			w.builder.Field(i).AppendNull()
		} else {
			w.builder.Field(i).(*array.Int32Builder).Append(v)
		}
	}
	r := change.Row{Kind: kind, Seq: int32(len(w.batch.Rows) + 1)}
	if unknown != nil {
		w.batch.Unknown = append(w.batch.Unknown, unknown)
		r.Unknown = int32(len(w.batch.Unknown))
	}
	w.batch.Rows = append(w.batch.Rows, r)
}

// delete is what a server does: what stands above goes, too.
func (w *written) delete(k int32) {
	delete(w.rows, k)
	for other, x := range w.rows {
		if x.above == k {
			w.delete(other)
		}
	}
}

// step makes one change at random.
func (w *written) step(t *rapid.T) {
	number := func(most int32, what string) int32 { return rapid.Int32Range(1, most).Draw(t, what) }
	k, x := number(8, "id"), item{number(4, "place"), number(9, "above") - 1}
	was, there := w.rows[k]
	if _, known := w.rows[x.above]; !known || x.above == k {
		x.above = 0
	}
	only := func(column int) []bool {
		u := []bool{true, true, true, true}
		u[column] = false
		return u
	}
	switch rapid.IntRange(0, 7).Draw(t, "change") {
	case 0:
		if !there {
			w.add(change.Insert, nil, k, x.place, x.above, 1)
			w.rows[k] = x
		}
	case 1: // the log tells all
		if there {
			x.above = was.above
			w.add(change.Update, nil, k, x.place, x.above, 2)
			w.rows[k] = x
		}
	case 2: // and here the note alone
		if there {
			w.add(change.Update, []bool{false, true, true, false}, k, 0, 0, 3)
		}
	case 3:
		if there {
			w.add(change.RefDeleted, only(above), 0, 0, k, 0)
			w.add(change.Delete, nil, k, 0, 0, 0)
			w.delete(k)
		}
	case 4:
		if _, taken := w.rows[k+20]; there && !taken && !slices.ContainsFunc(slices.Collect(maps.Values(w.rows)),
			func(o item) bool { return o.above == k }) {
			w.add(change.Left, nil, k, 0, 0, 0)
			w.add(change.Came, []bool{false, true, true, true}, k+20, 0, 0, 0)
			delete(w.rows, k)
			w.rows[k+20] = was
		}
	case 5: // a place went, with all that was there
		w.add(change.RefDeleted, only(place), 0, x.place, 0, 0)
		for other, o := range w.rows {
			if o.place == x.place {
				w.delete(other)
			}
		}
	case 6:
		w.add(change.RefNull, only(place), 0, x.place, 0, 0)
		for other, o := range w.rows {
			if o.place == x.place {
				w.rows[other] = item{0, o.above}
			}
		}
	case 7:
		to := number(4, "to")
		w.add(change.RefFrom, only(place), 0, x.place, 0, 0)
		w.add(change.RefTo, only(place), 0, to, 0, 0)
		for other, o := range w.rows {
			if o.place == x.place {
				w.rows[other] = item{to, o.above}
			}
		}
	}
}

// applied is what rows become by the changes of a batch that the log tells or that were derived.
func applied(rows map[int32]item, b change.Batch) map[int32]item {
	rows = maps.Clone(rows)
	at := func(column, i int) int32 {
		if b.Record.Column(column).IsNull(i) {
			return 0
		}
		return b.Record.Column(column).(*array.Int32).Value(i)
	}
	var left item
	for i, r := range b.Rows {
		if r.Kind == 0 {
			continue
		}
		k := at(id, i)
		was := rows[k]
		switch r.Kind {
		case change.Delete:
			delete(rows, k)
			continue
		case change.Left:
			left = was
			delete(rows, k)
			continue
		case change.Came:
			was = left
		}
		x := item{at(place, i), at(above, i)}
		if r.Unknown > 0 && b.Unknown[r.Unknown-1][place] {
			x.place = was.place
		}
		if r.Unknown > 0 && b.Unknown[r.Unknown-1][above] {
			x.above = was.above
		}
		rows[k] = x
	}
	return rows
}

// Whatever the log tells and leaves out, the rows are those that the server has.
func TestRowsAreThoseOfTheServer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := &written{rows: map[int32]item{}}
		for range rapid.IntRange(0, 3).Draw(t, "batches") + 1 {
			before := maps.Clone(w.rows)
			w.builder, w.batch = array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(itemColumns)),
				change.Batch{Txns: []change.Txn{{Position: "1"}}}
			for range rapid.IntRange(1, 12).Draw(t, "changes") {
				w.step(t)
			}
			w.batch.Record = w.builder.NewRecordBatch()
			table := &refer.Table{Columns: itemColumns, Key: []int{id}, By: [][]int{{place}, {above}},
				From: []refer.Referrer{{Table: 0, To: []int{above}, OnDelete: schema.Cascades}},
				Holding: func(columns []int, values [][]string) ([]arrow.RecordBatch, error) {
					return held(before, columns, values), nil
				}}
			batches := []change.Batch{w.batch}
			if _, err := refer.Expand([]*refer.Table{table}, batches); err != nil {
				t.Fatal(err)
			}
			if got := applied(before, batches[0]); !maps.Equal(got, w.rows) {
				t.Fatalf("%v becomes %v, not %v, by %v", before, got, w.rows, batches[0].Rows)
			}
		}
	})
}

// held are the rows of a warehouse that have some values.
func held(rows map[int32]item, columns []int, values [][]string) []arrow.RecordBatch {
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(itemColumns))
	for k, x := range rows {
		v := map[int]int32{place: x.place, above: x.above}[columns[0]]
		if v != 0 && slices.ContainsFunc(values, func(list []string) bool { return list[0] == fmt.Sprint(v) }) {
			b.Field(id).(*array.Int32Builder).Append(k)
			b.Field(columns[0]).(*array.Int32Builder).Append(v)
			for _, other := range []int{place, above, note} {
				if other != columns[0] {
					b.Field(other).AppendNull()
				}
			}
		}
	}
	return []arrow.RecordBatch{b.NewRecordBatch()}
}

// Tables come after those they refer to; a circle has no order.
func TestOrder(t *testing.T) {
	to := func(list ...int) *refer.Table {
		x := &refer.Table{}
		for _, i := range list {
			x.From = append(x.From, refer.Referrer{Table: i})
		}
		return x
	}
	require.Equal(t, []int{2, 0, 1}, refer.Order([]*refer.Table{to(1), to(1), to(0, 1)}))
	require.Nil(t, refer.Order([]*refer.Table{to(1), to(2), to(0)}))
	require.Len(t, refer.Order([]*refer.Table{nil, to(0), nil}), 3)
}
