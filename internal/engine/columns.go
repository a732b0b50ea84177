package engine

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

var allocator = memory.DefaultAllocator

// arriving is rows on their way to a target: found by a query, or folded from a log. Each
// array that it gives belongs to the caller.
type arriving interface {
	len() int
	// value is a column of the source.
	value(origin string) arrow.Array
	// added is a column that Noemata adds.
	added(c warehouse.Column) arrow.Array
	// numbers counts the rows, in the order they came in.
	numbers() arrow.Array
	// ends tells of each row whether it ends its key, holds the key only, and its fold.Order.
	ends() (gone, keyOnly, order arrow.Array)
	// unknown marks the values that are to be taken from the target, and gives the keys of the
	// rows they are taken from.
	unknown() (mask arrow.Array, base []arrow.Array)
}

// build makes the record of warehouse.StageColumns. It is the one place that knows where
// the columns of a target come from.
func build(t warehouse.Target, a arriving) arrow.RecordBatch {
	var columns []arrow.Array
	for _, c := range t.Columns {
		if c.Role == warehouse.Value {
			columns = append(columns, a.value(c.Origin))
		} else {
			columns = append(columns, a.added(c))
		}
	}
	if warehouse.NumbersRows(t) {
		columns = append(columns, a.numbers())
	}
	if warehouse.Ends(t) {
		gone, keyOnly, order := a.ends()
		columns = append(columns, gone, keyOnly, order)
	}
	if t.Log {
		mask, base := a.unknown()
		columns = append(append(columns, mask), base...)
	}
	record := array.NewRecordBatch(schema.Arrow(warehouse.StageColumns(t)), columns, int64(a.len()))
	for _, c := range columns {
		c.Release()
	}
	return record
}

// each is a column of computed values.
func each[T any](b interface {
	array.Builder
	Append(T)
}, n int, value func(i int) T) arrow.Array {
	defer b.Release()
	b.Reserve(n)
	for i := range n {
		b.Append(value(i))
	}
	return b.NewArray()
}

// same is a column of one value.
func same[T any](b interface {
	array.Builder
	Append(T)
}, n int, value T) arrow.Array {
	return each(b, n, func(int) T { return value })
}

func int64s(n int, value func(int) int64) arrow.Array {
	b := array.NewInt64Builder(allocator)
	defer b.Release()
	b.Reserve(n)
	for i := range n {
		b.UnsafeAppend(value(i))
	}
	return b.NewArray()
}

// instants is a builder of moments.
func instants() *array.TimestampBuilder {
	return array.NewTimestampBuilder(allocator, schema.Type{Kind: schema.TimestampTZ}.Arrow().(*arrow.TimestampType))
}
