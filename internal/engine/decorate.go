package engine

import (
	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

var allocator = memory.DefaultAllocator

// decorate adds Noemata's columns to a record of the query: those of the target,
// then, where rows must be numbered, the number. first is the number of rows that
// came before.
func (c *committer) decorate(record arrow.RecordBatch, first int64) arrow.RecordBatch {
	n := int(record.NumRows())
	var made []arrow.Array
	defer func() {
		for _, column := range made {
			column.Release()
		}
	}()
	columns := append([]arrow.Array{}, record.Columns()[:len(c.query.Table.Columns)]...)
	put := func(column arrow.Array) {
		columns = append(columns, column)
		made = append(made, column)
	}
	t := c.plan.target
	for _, added := range t.Added {
		put(c.added(added, record))
	}
	if warehouse.NumbersRows(t) {
		put(int64s(n, func(i int) int64 { return first + int64(i) }))
	}
	if warehouse.Ends(t) {
		put(same[bool](array.NewBooleanBuilder(allocator), n, false))
		put(same[bool](array.NewBooleanBuilder(allocator), n, false))
		put(same[int16](array.NewInt16Builder(allocator), n, 0))
	}
	return array.NewRecordBatch(schema.Arrow(warehouse.StageColumns(t)), columns, int64(n))
}

// added makes one of Noemata's columns.
func (c *committer) added(column schema.Column, record arrow.RecordBatch) arrow.Array {
	n := int(record.NumRows())
	switch names := c.plan.target.Names; column.Name {
	case names.Run:
		return int64s(n, func(int) int64 { return c.Run })
	case names.ChangedAt:
		return c.changedAt(record)
	case names.From:
		return c.beginnings(record)
	case names.Current:
		return same[bool](array.NewBooleanBuilder(allocator), n, true)
	case names.Position:
		return c.positions(record)
	}
	return array.MakeArrayOfNull(allocator, column.Type.Arrow(), n)
}

// same is a column of one value.
func same[T any](b interface {
	array.Builder
	Append(T)
}, n int, value T) arrow.Array {
	defer b.Release()
	b.Reserve(n)
	for range n {
		b.Append(value)
	}
	return b.NewArray()
}

// beginnings is when each version began: at its watermark, or, where that is not a
// moment, at the time of the run.
func (c *committer) beginnings(record arrow.RecordBatch) arrow.Array {
	known := c.changedAt(record).(*array.Timestamp)
	defer known.Release()
	b := array.NewTimestampBuilder(allocator, known.DataType().(*arrow.TimestampType))
	defer b.Release()
	for i := range known.Len() {
		v := int64(known.Value(i))
		if known.IsNull(i) || v == schema.InfiniteTime || v == -schema.InfiniteTime {
			v = c.clock.UnixMicro()
		}
		b.Append(arrow.Timestamp(v))
	}
	return b.NewArray()
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

// changedAt is the watermark as an instant, or null where it is not a time.
func (c *committer) changedAt(record arrow.RecordBatch) arrow.Array {
	n := int(record.NumRows())
	typ := schema.Type{Kind: schema.TimestampTZ}.Arrow()
	if c.query.Watermark != nil {
		column := record.Column(c.watermarkPlace())
		switch a := column.(type) {
		case *array.Timestamp:
			if c.query.Watermark.Column.Type.Kind == schema.TimestampTZ {
				a.Retain()
				return a
			}
			return c.instants(n, typ, func(i int) int64 { return int64(a.Value(i)) })
		case *array.Date32:
			return c.instants(n, typ, func(i int) int64 {
				switch d := int64(a.Value(i)); d {
				case schema.InfiniteDate:
					return schema.InfiniteTime
				case -schema.InfiniteDate:
					return -schema.InfiniteTime
				default:
					return d * 86400e6
				}
			})
		}
	}
	return array.MakeArrayOfNull(allocator, typ, n)
}

// instants turns wall-clock readings of the watermark's zone into instants.
func (c *committer) instants(n int, typ arrow.DataType, wall func(int) int64) arrow.Array {
	b := array.NewTimestampBuilder(allocator, typ.(*arrow.TimestampType))
	defer b.Release()
	b.Reserve(n)
	for i := range n {
		us := wall(i)
		if us != schema.InfiniteTime && us != -schema.InfiniteTime {
			us = inZone(us, c.plan.zone).UnixMicro()
		}
		b.UnsafeAppend(arrow.Timestamp(us))
	}
	return b.NewArray()
}

// positions is each row's own watermark as text.
func (c *committer) positions(record arrow.RecordBatch) arrow.Array {
	b := array.NewStringBuilder(allocator)
	defer b.Release()
	if c.query.Watermark == nil { // of a table that is read whole: the moment it was read at
		for range record.NumRows() {
			b.Append(c.stretch.end.Value)
		}
		return b.NewArray()
	}
	column := record.Column(c.watermarkPlace())
	for i := range int(record.NumRows()) {
		text, _ := schema.CellText(column, i, c.query.Watermark.Column.Type)
		b.Append(text)
	}
	return b.NewArray()
}
