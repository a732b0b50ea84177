package fold

import (
	"encoding/binary"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// keyer gives the key of a row in a form that two rows share only if their keys are
// the same.
func keyer(record arrow.RecordBatch, key []int) func(row int32) []byte {
	var parts []func(b []byte, row int) []byte
	for _, k := range key {
		parts = append(parts, appender(record.Column(k)))
	}
	var buffer []byte
	return func(row int32) []byte {
		buffer = buffer[:0]
		for _, p := range parts {
			buffer = p(buffer, int(row))
		}
		return buffer
	}
}

// appender appends a value of a column: fixed widths as they are, others with their length.
func appender(column arrow.Array) func(b []byte, row int) []byte {
	order := binary.BigEndian
	switch a := column.(type) {
	case *array.Int16:
		return func(b []byte, row int) []byte { return order.AppendUint16(b, uint16(a.Value(row))) }
	case *array.Int32:
		return func(b []byte, row int) []byte { return order.AppendUint32(b, uint32(a.Value(row))) }
	case *array.Int64:
		return func(b []byte, row int) []byte { return order.AppendUint64(b, uint64(a.Value(row))) }
	case *array.Date32:
		return func(b []byte, row int) []byte { return order.AppendUint32(b, uint32(a.Value(row))) }
	case *array.Time64:
		return func(b []byte, row int) []byte { return order.AppendUint64(b, uint64(a.Value(row))) }
	case *array.Timestamp:
		return func(b []byte, row int) []byte { return order.AppendUint64(b, uint64(a.Value(row))) }
	case *array.Float32: // 0 and -0 are one key
		return func(b []byte, row int) []byte { return order.AppendUint32(b, math.Float32bits(a.Value(row)+0)) }
	case *array.Float64:
		return func(b []byte, row int) []byte { return order.AppendUint64(b, math.Float64bits(a.Value(row)+0)) }
	case *array.Decimal128:
		return func(b []byte, row int) []byte {
			n := a.Value(row)
			return order.AppendUint64(order.AppendUint64(b, uint64(n.HighBits())), n.LowBits())
		}
	case *array.Boolean:
		return func(b []byte, row int) []byte {
			if a.Value(row) {
				return append(b, 1)
			}
			return append(b, 0)
		}
	case *array.FixedSizeBinary:
		return func(b []byte, row int) []byte { return append(b, a.Value(row)...) }
	case *array.MonthDayNanoInterval:
		return func(b []byte, row int) []byte {
			v := a.Value(row)
			return order.AppendUint64(order.AppendUint32(order.AppendUint32(b, uint32(v.Months)), uint32(v.Days)),
				uint64(v.Nanoseconds))
		}
	case *array.Binary:
		return func(b []byte, row int) []byte {
			v := a.Value(row)
			return append(order.AppendUint32(b, uint32(len(v))), v...)
		}
	case *array.String:
		return func(b []byte, row int) []byte {
			v := a.Value(row)
			return append(order.AppendUint32(b, uint32(len(v))), v...)
		}
	}
	panic("no key can be made of " + column.DataType().String())
}

// sameIn tells whether two values of a column are the same in every way: 0 and -0, or
// 1.0 and 1.00, are not.
func sameIn(column arrow.Array) func(i, j int32) bool {
	var same func(i, j int) bool
	switch a := column.(type) {
	case *array.Boolean:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Int16:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Int32:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Int64:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Float32:
		same = func(i, j int) bool { return math.Float32bits(a.Value(i)) == math.Float32bits(a.Value(j)) }
	case *array.Float64:
		same = func(i, j int) bool { return math.Float64bits(a.Value(i)) == math.Float64bits(a.Value(j)) }
	case *array.Date32:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Time64:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Timestamp:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.Decimal128:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.MonthDayNanoInterval:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	case *array.FixedSizeBinary:
		same = func(i, j int) bool { return string(a.Value(i)) == string(a.Value(j)) }
	case *array.Binary:
		same = func(i, j int) bool { return string(a.Value(i)) == string(a.Value(j)) }
	case *array.String:
		same = func(i, j int) bool { return a.Value(i) == a.Value(j) }
	default:
		same = func(i, j int) bool { return a.ValueStr(i) == a.ValueStr(j) }
	}
	return func(i, j int32) bool {
		if column.IsNull(int(i)) || column.IsNull(int(j)) {
			return column.IsNull(int(i)) && column.IsNull(int(j))
		}
		return same(int(i), int(j))
	}
}

// Take makes a column of the values at the given places; -1 is null.
func Take(column arrow.Array, from []int32) arrow.Array {
	if whole(column, from) {
		column.Retain()
		return column
	}
	switch a := column.(type) {
	case *array.Boolean:
		return gather(array.NewBooleanBuilder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Int16:
		return gather(array.NewInt16Builder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Int32:
		return gather(array.NewInt32Builder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Int64:
		return gather(array.NewInt64Builder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Float32:
		return gather(array.NewFloat32Builder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Float64:
		return gather(array.NewFloat64Builder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Date32:
		return gather(array.NewDate32Builder(memory.DefaultAllocator), a, from, a.Value)
	case *array.Time64:
		return gather(array.NewTime64Builder(memory.DefaultAllocator, a.DataType().(*arrow.Time64Type)), a, from,
			a.Value)
	case *array.Timestamp:
		return gather(array.NewTimestampBuilder(memory.DefaultAllocator, a.DataType().(*arrow.TimestampType)), a, from,
			a.Value)
	case *array.Decimal128:
		return gather(array.NewDecimal128Builder(memory.DefaultAllocator, a.DataType().(*arrow.Decimal128Type)), a,
			from, a.Value)
	case *array.MonthDayNanoInterval:
		return gather(array.NewMonthDayNanoIntervalBuilder(memory.DefaultAllocator), a, from, a.Value)
	case *array.FixedSizeBinary:
		return gather(array.NewFixedSizeBinaryBuilder(memory.DefaultAllocator,
			a.DataType().(*arrow.FixedSizeBinaryType)), a, from, a.Value)
	case *array.Binary:
		return gather(array.NewBinaryBuilder(memory.DefaultAllocator, arrow.BinaryTypes.Binary), a, from, a.Value)
	case *array.String:
		return gather(array.NewStringBuilder(memory.DefaultAllocator), a, from, a.Value)
	}
	panic("no rows can be chosen of " + column.DataType().String())
}

func whole(column arrow.Array, from []int32) bool {
	if len(from) != column.Len() {
		return false
	}
	for i, f := range from {
		if int(f) != i {
			return false
		}
	}
	return true
}

func gather[T any](b interface {
	array.Builder
	Append(T)
}, column arrow.Array, from []int32, value func(int) T) arrow.Array {
	defer b.Release()
	b.Reserve(len(from))
	nulls := column.NullN() > 0
	for _, f := range from {
		if f < 0 || nulls && column.IsNull(int(f)) {
			b.AppendNull()
			continue
		}
		b.Append(value(int(f)))
	}
	return b.NewArray()
}
