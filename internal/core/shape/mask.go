package shape

import (
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"noemata/internal/core/schema"
)

// maskYear leaves the first of January of the year.
func maskYear(kind schema.Kind, c *compiler, column schema.Column) (func(arrow.Array) arrow.Array, error) {
	firstOf := func(us int64) int64 {
		if us == schema.InfiniteTime || us == -schema.InfiniteTime {
			return us
		}
		return time.Date(time.UnixMicro(us).UTC().Year(), 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	}
	switch kind {
	case schema.Timestamp, schema.TimestampTZ:
		return func(a arrow.Array) arrow.Array {
			b := array.NewTimestampBuilder(allocator, a.DataType().(*arrow.TimestampType))
			return eachValue(b, a, func(i int) arrow.Timestamp {
				return arrow.Timestamp(firstOf(int64(a.(*array.Timestamp).Value(i))))
			})
		}, nil
	case schema.Date:
		return func(a arrow.Array) arrow.Array {
			return eachValue(array.NewDate32Builder(allocator), a, func(i int) arrow.Date32 {
				d := a.(*array.Date32).Value(i)
				if int32(d) == schema.InfiniteDate || int32(d) == -schema.InfiniteDate {
					return d
				}
				return arrow.Date32(schema.Days(firstOf(int64(d) * 86400e6)))
			})
		}, nil
	}
	return nil, c.refuse(column, "mask: year", "it is for dates and times")
}

// maskRound rounds numbers to the nearest multiple of a number, halves away from zero. What
// would not fit any more is rounded towards zero.
func maskRound(kind schema.Kind, step int64, c *compiler, column schema.Column) (func(arrow.Array) arrow.Array, error) {
	round := func(n, most int64) int64 {
		rest := n % step
		down := n - rest
		switch {
		case rest >= step-rest && down <= most-step:
			return down + step
		case -rest >= step+rest && down >= -most+step:
			return down - step
		}
		return down
	}
	switch kind {
	case schema.Int16:
		return func(a arrow.Array) arrow.Array {
			return eachValue(array.NewInt16Builder(allocator), a,
				func(i int) int16 { return int16(round(int64(a.(*array.Int16).Value(i)), 1<<15-1)) })
		}, nil
	case schema.Int32:
		return func(a arrow.Array) arrow.Array {
			return eachValue(array.NewInt32Builder(allocator), a,
				func(i int) int32 { return int32(round(int64(a.(*array.Int32).Value(i)), 1<<31-1)) })
		}, nil
	case schema.Int64:
		return func(a arrow.Array) arrow.Array {
			return eachValue(array.NewInt64Builder(allocator), a,
				func(i int) int64 { return round(a.(*array.Int64).Value(i), 1<<63-1) })
		}, nil
	case schema.Decimal:
		t := column.Type
		unit := decimal128.FromI64(step)
		if unit.FitsInPrecision(int32(t.Precision - t.Scale)) {
			unit = unit.IncreaseScaleBy(int32(t.Scale))
			return func(a arrow.Array) arrow.Array {
				return eachValue(array.NewDecimal128Builder(allocator, a.DataType().(*arrow.Decimal128Type)), a,
					func(i int) decimal128.Num {
						return roundDecimal(a.(*array.Decimal128).Value(i), unit,
							t.Precision)
					})
			}, nil
		}
	case schema.Date, schema.Timestamp, schema.TimestampTZ:
		return nil, c.refuse(column, "mask: round", "it is for whole numbers and decimals; write mask: year")
	}
	return nil, c.refuse(column, "mask: round", "it is for whole numbers and decimals that can hold the number")
}

func roundDecimal(n, unit decimal128.Num, precision int) decimal128.Num {
	_, rest := n.Div(unit)
	down := n.Sub(rest)
	twice := rest.Abs().Add(rest.Abs())
	if twice.Cmp(unit) < 0 {
		return down
	}
	up := down.Add(unit)
	if n.Sign() < 0 {
		up = down.Sub(unit)
	}
	if !up.FitsInPrecision(int32(precision)) {
		return down
	}
	return up
}

// eachValue makes a column of the values that are not null.
func eachValue[T any](b interface {
	array.Builder
	Append(T)
}, a arrow.Array, value func(i int) T) arrow.Array {
	defer b.Release()
	b.Reserve(a.Len())
	for i := range a.Len() {
		if a.IsNull(i) {
			b.AppendNull()
			continue
		}
		b.Append(value(i))
	}
	return b.NewArray()
}
