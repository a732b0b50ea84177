package engine

import (
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
	gone   []bool // rows that end their key; nil for none
	first  int64  // how many came before
}

func (f found) len() int { return int(f.record.NumRows()) }

func (f found) value(origin string) arrow.Array {
	column := f.record.Column(place(f.plan.shape.Arrives(), origin))
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
		return f.yes(func(i int) bool { return !f.ended(i) })
	case warehouse.DeletedAt:
		return f.deletedAt()
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
	return f.yes(f.ended), f.yes(f.ended), same[int16](array.NewInt16Builder(allocator), n, int16(fold.FirstOfKey))
}

func (f found) unknown() (mask arrow.Array, base []arrow.Array) {
	panic("a query leaves no value out") // only targets of logs ask
}

// ended tells whether a row ends its key.
func (f found) ended(i int) bool { return f.gone != nil && f.gone[i] }

func (f found) yes(of func(i int) bool) arrow.Array {
	return each[bool](array.NewBooleanBuilder(allocator), f.len(), of)
}

// deletedAt is when rows left that end their key.
func (f found) deletedAt() arrow.Array {
	if f.gone == nil {
		return array.MakeArrayOfNull(allocator, schema.Type{Kind: schema.TimestampTZ}.Arrow(), f.len())
	}
	at := f.beginnings().(*array.Timestamp)
	defer at.Release()
	b := instants()
	defer b.Release()
	for i := range at.Len() {
		if f.ended(i) {
			b.Append(at.Value(i))
		} else {
			b.AppendNull()
		}
	}
	return b.NewArray()
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
		switch a := f.record.Column(f.watermarkIndex(f.plan.shape.Arrives())).(type) {
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
	column := f.record.Column(f.watermarkIndex(f.plan.shape.Arrives()))
	return each[string](array.NewStringBuilder(allocator), f.len(), func(i int) string {
		text, _ := schema.CellText(column, i, f.query.Watermark.Column.Type)
		return text
	})
}

// watermarkIndex is where the watermark stands in records of a table: as it is read, or as it
// arrives.
func (c *committer) watermarkIndex(t schema.Table) int {
	if c.query.ReadsWatermark() {
		return len(t.Columns)
	}
	return place(t, c.query.Watermark.Column.Name)
}

// place is where a column stands in records of a table.
func place(t schema.Table, column string) int { return schema.Indexes(t.Columns, []string{column})[0] }
