package engine

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/fold"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// found is rows that a query has found.
type found struct {
	*committer
	record arrow.RecordBatch
	first  int64 // how many came before
}

func (f found) len() int { return int(f.record.NumRows()) }

func (f found) value(origin string) arrow.Array {
	column := f.record.Column(f.index(origin))
	column.Retain()
	return column
}

func (f found) added(c warehouse.Column) arrow.Array {
	switch n := f.len(); c.Role {
	case warehouse.Run:
		return int64s(n, func(int) int64 { return f.Run })
	case warehouse.ChangedAt:
		return f.changedAt()
	case warehouse.From:
		return f.beginnings()
	case warehouse.Current:
		return same[bool](array.NewBooleanBuilder(allocator), n, true)
	case warehouse.Position:
		return f.positions()
	default:
		return array.MakeArrayOfNull(allocator, c.Type.Arrow(), n)
	}
}

func (f found) numbers() arrow.Array {
	return int64s(f.len(), func(i int) int64 { return f.first + int64(i) })
}

func (f found) ends() (gone, keyOnly, order arrow.Array) {
	n := f.len()
	return same[bool](array.NewBooleanBuilder(allocator), n, false),
		same[bool](array.NewBooleanBuilder(allocator), n, false),
		same[int16](array.NewInt16Builder(allocator), n, int16(fold.FirstOfKey))
}

func (f found) unknown() (mask arrow.Array, base []arrow.Array) {
	panic("a query leaves no value out") // only targets of logs ask
}

// beginnings is when each version began: at its watermark, or, where that is not a
// moment, at the time of the run.
func (f found) beginnings() arrow.Array {
	known := f.changedAt().(*array.Timestamp)
	defer known.Release()
	return each[arrow.Timestamp](instants(), known.Len(), func(i int) arrow.Timestamp {
		if v := int64(known.Value(i)); known.IsValid(i) && v != schema.InfiniteTime && v != -schema.InfiniteTime {
			return known.Value(i)
		}
		return arrow.Timestamp(f.clock.UnixMicro())
	})
}

// changedAt is the watermark as an instant, or null where it is not a time.
func (f found) changedAt() arrow.Array {
	if f.query.Watermark != nil {
		switch a := f.record.Column(f.watermarkIndex()).(type) {
		case *array.Timestamp:
			if f.query.Watermark.Column.Type.Kind == schema.TimestampTZ {
				a.Retain()
				return a
			}
			return f.instants(func(i int) int64 { return int64(a.Value(i)) })
		case *array.Date32:
			return f.instants(func(i int) int64 {
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
	return array.MakeArrayOfNull(allocator, schema.Type{Kind: schema.TimestampTZ}.Arrow(), f.len())
}

// instants turns wall-clock readings of the watermark's zone into instants.
func (f found) instants(wall func(int) int64) arrow.Array {
	return each[arrow.Timestamp](instants(), f.len(), func(i int) arrow.Timestamp {
		us := wall(i)
		if us != schema.InfiniteTime && us != -schema.InfiniteTime {
			us = inZone(us, f.plan.zone).UnixMicro()
		}
		return arrow.Timestamp(us)
	})
}

// positions is each row's own watermark as text, or, of a table that is read whole, the
// moment it was read at.
func (f found) positions() arrow.Array {
	if f.query.Watermark == nil {
		return same[string](array.NewStringBuilder(allocator), f.len(), f.stretch.end.Value)
	}
	column := f.record.Column(f.watermarkIndex())
	return each[string](array.NewStringBuilder(allocator), f.len(), func(i int) string {
		text, _ := schema.CellText(column, i, f.query.Watermark.Column.Type)
		return text
	})
}

// watermarkIndex is where the watermark stands in the records of a query.
func (c *committer) watermarkIndex() int {
	if c.query.ReadsWatermark() {
		return len(c.query.Table.Columns)
	}
	return c.index(c.query.Watermark.Column.Name)
}

// index is where a column of the source stands in the records of a query.
func (c *committer) index(column string) int {
	return slices.IndexFunc(c.query.Table.Columns, func(x schema.Column) bool { return x.Name == column })
}
