//go:build duckdb_arrow

package duckdb

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/google/uuid"

	"noemata/internal/core/schema"
)

// plainType is the kind that values of an Arrow type travel as.
func plainType(t arrow.DataType) schema.Type {
	switch t := t.(type) {
	case *arrow.BooleanType:
		return schema.Type{Kind: schema.Bool}
	case *arrow.Int8Type, *arrow.Uint8Type, *arrow.Int16Type:
		return schema.Type{Kind: schema.Int16}
	case *arrow.Uint16Type, *arrow.Int32Type:
		return schema.Type{Kind: schema.Int32}
	case *arrow.Uint32Type, *arrow.Int64Type:
		return schema.Type{Kind: schema.Int64}
	case *arrow.Uint64Type:
		return schema.Type{Kind: schema.Numeric}
	case *arrow.Float32Type:
		return schema.Type{Kind: schema.Float32}
	case *arrow.Float64Type:
		return schema.Type{Kind: schema.Float64}
	case *arrow.Decimal128Type:
		return schema.Type{Kind: schema.Decimal, Precision: int(t.Precision), Scale: int(t.Scale)}
	case *arrow.Date32Type:
		return schema.Type{Kind: schema.Date}
	case *arrow.Time64Type:
		return schema.Type{Kind: schema.Time}
	case *arrow.TimestampType:
		switch {
		case t.Unit == arrow.Nanosecond:
			return schema.Type{Kind: schema.Text}
		case t.TimeZone != "":
			return schema.Type{Kind: schema.TimestampTZ}
		}
		return schema.Type{Kind: schema.Timestamp}
	case *arrow.MonthDayNanoIntervalType:
		return schema.Type{Kind: schema.Interval}
	case *arrow.BinaryType:
		return schema.Type{Kind: schema.Bytes}
	case arrow.NestedType:
		return schema.Type{Kind: schema.JSON}
	}
	return schema.Type{Kind: schema.Text}
}

// plainRecord gives rows of an answer the types that their columns have been described with.
func plainRecord(record arrow.RecordBatch, columns []schema.Column) (arrow.RecordBatch, error) {
	arrays := make([]arrow.Array, len(columns))
	defer func() {
		for _, a := range arrays {
			if a != nil {
				a.Release()
			}
		}
	}()
	for i, c := range columns {
		var err error
		if arrays[i], err = plainArray(record.Column(i), c.Type); err != nil {
			return nil, fmt.Errorf("the column %s of the answer: %w", c.Name, err)
		}
	}
	return array.NewRecordBatch(schema.Arrow(columns), arrays, record.NumRows()), nil
}

func plainArray(from arrow.Array, t schema.Type) (arrow.Array, error) {
	if e, ok := from.(array.ExtensionArray); ok {
		from = e.Storage()
	}
	if arrow.TypeEqual(from.DataType(), t.Arrow()) {
		from.Retain()
		return from, nil
	}
	b := array.NewBuilder(memory.DefaultAllocator, t.Arrow())
	defer b.Release()
	b.Reserve(from.Len())
	add := adder(from, b)
	for i := range from.Len() {
		if from.IsNull(i) {
			b.AppendNull()
			continue
		}
		if err := add(i); err != nil {
			return nil, err
		}
	}
	return b.NewArray(), nil
}

// adder appends values of one type as those of another.
func adder(from arrow.Array, to array.Builder) func(i int) error {
	whole := func(value func(int) int64) func(int) error {
		switch b := to.(type) {
		case *array.Int16Builder:
			return func(i int) error { b.Append(int16(value(i))); return nil }
		case *array.Int32Builder:
			return func(i int) error { b.Append(int32(value(i))); return nil }
		case *array.Int64Builder:
			return func(i int) error { b.Append(value(i)); return nil }
		}
		return func(i int) error { return to.AppendValueFromString(strconv.FormatInt(value(i), 10)) }
	}
	switch a := from.(type) {
	case *array.Int8:
		return whole(func(i int) int64 { return int64(a.Value(i)) })
	case *array.Uint8:
		return whole(func(i int) int64 { return int64(a.Value(i)) })
	case *array.Uint16:
		return whole(func(i int) int64 { return int64(a.Value(i)) })
	case *array.Uint32:
		return whole(func(i int) int64 { return int64(a.Value(i)) })
	case *array.Timestamp:
		return timestamps(a, to)
	case *array.Date32:
		return func(i int) error { return to.AppendValueFromString(schema.DateText(int32(a.Value(i)))) }
	case *array.Dictionary:
		return func(i int) error { return to.AppendValueFromString(a.Dictionary().ValueStr(a.GetValueIndex(i))) }
	case *array.String:
		return texts(a, to)
	case *array.Binary:
		return func(i int) error { return to.AppendValueFromString(bits(a.Value(i))) }
	case array.ListLike, *array.Struct:
		return func(i int) error { return to.AppendValueFromString(string(nestedJSON(nil, from, i))) }
	case *array.Decimal128:
		if b, ok := to.(*array.StringBuilder); ok {
			scale := a.DataType().(*arrow.Decimal128Type).Scale
			return func(i int) error { b.Append(a.Value(i).ToString(scale)); return nil }
		}
	}
	if b, ok := to.(*array.StringBuilder); ok {
		return func(i int) error { b.Append(from.ValueStr(i)); return nil }
	}
	return func(i int) error { return to.AppendValueFromString(from.ValueStr(i)) }
}

// nestedJSON appends a value that may be made of others as JSON. What JSON has no form for is a text, as it is outside.
func nestedJSON(b []byte, from arrow.Array, i int) []byte {
	if from.IsNull(i) {
		return append(b, "null"...)
	}
	switch a := from.(type) {
	case array.ListLike: // of a map: its keys and values, each pair a struct
		start, end := a.ValueOffsets(i)
		b = append(b, '[')
		for j := start; j < end; j++ {
			if j > start {
				b = append(b, ',')
			}
			b = nestedJSON(b, a.ListValues(), int(j))
		}
		return append(b, ']')
	case *array.Struct:
		b = append(b, '{')
		for j, f := range a.DataType().(*arrow.StructType).Fields() {
			if j > 0 {
				b = append(b, ',')
			}
			b = append(appendJSON(b, f.Name), ':')
			b = nestedJSON(b, a.Field(j), i)
		}
		return append(b, '}')
	case *array.Dictionary:
		return appendJSON(b, a.Dictionary().ValueStr(a.GetValueIndex(i)))
	}
	text, _ := schema.CellText(from, i, plainType(from.DataType()))
	if a, ok := from.(*array.Timestamp); ok && plainType(from.DataType()).Kind != schema.TimestampTZ {
		text = timestampText(a, i)
	}
	if id := arrow.TypeEqual(from.DataType(), arrow.FixedWidthTypes.Boolean); id || isNumber(from.DataType()) &&
		json.Valid([]byte(text)) {
		return append(b, text...)
	}
	return appendJSON(b, text)
}

func isNumber(t arrow.DataType) bool {
	return arrow.IsInteger(t.ID()) || arrow.IsFloating(t.ID()) || arrow.IsDecimal(t.ID())
}

func appendJSON(b []byte, text string) []byte {
	quoted, _ := json.Marshal(text) // texts always marshal
	return append(b, quoted...)
}

// bits are those of a BIT, whose first byte says how many of the next one's are none (duckdb/common/types/bit.hpp).
func bits(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	var all strings.Builder
	for _, x := range b[1:] {
		fmt.Fprintf(&all, "%08b", x)
	}
	return all.String()[min(int(b[0]), all.Len()):]
}

func texts(a *array.String, to array.Builder) func(i int) error {
	if b, ok := to.(*array.FixedSizeBinaryBuilder); ok { // a UUID
		return func(i int) error {
			id, err := uuid.Parse(a.Value(i))
			if err == nil {
				b.Append(id[:])
			}
			return err
		}
	}
	return func(i int) error { return to.AppendValueFromString(a.Value(i)) }
}

func timestamps(a *array.Timestamp, to array.Builder) func(i int) error {
	if b, ok := to.(*array.TimestampBuilder); ok {
		return func(i int) error { b.Append(arrow.Timestamp(microseconds(a, i))); return nil }
	}
	return func(i int) error { return to.AppendValueFromString(timestampText(a, i)) }
}

// microseconds is a value of seconds, thousandths or millionths of them.
func microseconds(a *array.Timestamp, i int) int64 {
	switch v := int64(a.Value(i)); a.DataType().(*arrow.TimestampType).Unit {
	case arrow.Second:
		return v * 1_000_000
	case arrow.Millisecond:
		return v * 1000
	default:
		return v
	}
}

// timestampText is a value of any unit, of no zone.
func timestampText(a *array.Timestamp, i int) string {
	if a.DataType().(*arrow.TimestampType).Unit != arrow.Nanosecond {
		return schema.TimestampText(microseconds(a, i))
	}
	whole, rest := int64(a.Value(i))/1000, int64(a.Value(i))%1000
	if rest < 0 {
		whole, rest = whole-1, rest+1000
	}
	return fmt.Sprintf("%s%03d", schema.TimestampText(whole), rest)
}
