package engine

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
	"noemata/internal/warehouse"
)

// folded is what a fold has left of the changes of a batch.
type folded struct {
	t      *logTable
	run    int64
	batch  change.Batch
	list   []fold.Row
	values []arrow.Array // of the source's columns
	masks  []string      // of unknown values; empty where there are none
}

func newFolded(t *logTable, run int64, b change.Batch, list []fold.Row) *folded {
	f := &folded{t: t, run: run, batch: b, list: list, values: fold.Gather(b.Record, list, t.keyAt),
		masks: make([]string, len(list))}
	for i, r := range list {
		f.masks[i] = maskOf(r)
	}
	return f
}

// release lets go of values that build has not taken.
func (f *folded) release() {
	for _, column := range f.values {
		column.Release()
	}
}

// has tells what is among the rows.
func (f *folded) has(h warehouse.Has) warehouse.Has {
	for i, r := range f.list {
		h.Gone = h.Gone || r.Gone
		h.Unknown = h.Unknown || f.masks[i] != ""
	}
	return h
}

func (f *folded) len() int { return len(f.list) }

func (f *folded) value(origin string) arrow.Array {
	column := f.values[schema.Indexes(f.t.shape.Arrives().Columns, []string{origin})[0]]
	column.Retain()
	return column
}

// never stands for the number of a transaction where there was none.
const never int32 = -1

// moments is a column of the moments of transactions.
func (f *folded) moments(of func(fold.Row) int32) arrow.Array {
	b := instants()
	defer b.Release()
	b.Reserve(len(f.list))
	for _, r := range f.list {
		if txn := of(r); txn == never {
			b.AppendNull()
		} else {
			b.Append(arrow.Timestamp(f.batch.Txns[txn].Moment))
		}
	}
	return b.NewArray()
}

func (f *folded) added(c warehouse.Column) arrow.Array {
	n := len(f.list)
	texts := func(value func(i int) string) arrow.Array {
		return each[string](array.NewStringBuilder(allocator), n, value)
	}
	change := func(i int) change.Row { return f.batch.Rows[f.list[i].Change] }
	switch c.Role {
	case warehouse.Run:
		return int64s(n, func(int) int64 { return f.run })
	case warehouse.ChangedAt, warehouse.From:
		return f.moments(func(r fold.Row) int32 { return r.Txn })
	case warehouse.DeletedAt:
		return f.moments(func(r fold.Row) int32 {
			if !r.Gone {
				return never
			}
			return r.Txn
		})
	case warehouse.Until:
		return f.moments(func(r fold.Row) int32 { return r.Until })
	case warehouse.Current:
		return each[bool](array.NewBooleanBuilder(allocator), n,
			func(i int) bool { return f.list[i].Until == never && !f.list[i].Gone })
	case warehouse.Position:
		return texts(func(i int) string {
			txn := f.batch.Txns[f.list[i].Txn]
			if f.t.Keep == feed.KeepLedger {
				return txn.EventPosition(change(i).Seq)
			}
			return txn.Position
		})
	case warehouse.Changed:
		return texts(func(i int) string { return eventName(change(i).Kind) })
	}
	return array.MakeArrayOfNull(allocator, c.Type.Arrow(), n)
}

func (f *folded) numbers() arrow.Array {
	return int64s(len(f.list), func(i int) int64 { return int64(i) })
}

func (f *folded) ends() (gone, keyOnly, order arrow.Array) {
	n := len(f.list)
	return each[bool](array.NewBooleanBuilder(allocator), n, func(i int) bool { return f.list[i].Gone }),
		each[bool](array.NewBooleanBuilder(allocator), n, func(i int) bool { return f.list[i].KeyOnly }),
		each[int16](array.NewInt16Builder(allocator), n, func(i int) int16 { return int16(f.list[i].Order) })
}

func (f *folded) unknown() (mask arrow.Array, base []arrow.Array) {
	masks := array.NewStringBuilder(allocator)
	defer masks.Release()
	from := make([]int32, len(f.list))
	for i, r := range f.list {
		from[i] = never
		if f.masks[i] == "" {
			masks.AppendNull()
			continue
		}
		from[i] = r.Base
		masks.Append(f.masks[i])
	}
	for _, k := range f.t.keyAt {
		base = append(base, fold.Take(f.batch.Record.Column(k), from))
	}
	return masks.NewArray(), base
}

// eventName is what a ledger calls a change. An update of the key shows as the delete of
// the old one and the insert of the new one.
func eventName(k change.Kind) string {
	switch k {
	case change.Left:
		return change.Delete.String()
	case change.Came:
		return change.Insert.String()
	}
	return k.String()
}

// maskOf marks, column by column, values that are to be taken from the warehouse; empty
// where there is none.
func maskOf(r fold.Row) string {
	if r.From == nil || r.KeyOnly {
		return ""
	}
	unknown := make([]bool, len(r.From))
	for i, from := range r.From {
		unknown[i] = from < 0
	}
	if !slices.Contains(unknown, true) {
		return ""
	}
	return stash.Mask(unknown)
}
