//go:build duckdb_arrow

package lake

import (
	"fmt"
	"time"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/google/uuid"

	"noemata/internal/core/schema"
)

// cell is a column of a record.
type cell struct {
	values arrow.Array
	column schema.Column
	put    func(to array.Builder, row int) (size int) // appends a value that is not null and fits; it has so many bytes
	unfit  func(row int) string                       // why a value that is not null cannot be stored; nil where each can
}

// cellsOf are those of the first columns of a record.
func cellsOf(record arrow.RecordBatch, columns []schema.Column) ([]cell, error) {
	cells := make([]cell, len(columns))
	for i, c := range columns {
		cells[i] = cell{values: record.Column(i), column: c}
		if x, is := cells[i].values.(array.ExtensionArray); is {
			cells[i].values = x.Storage()
		}
		if !cells[i].known() {
			return nil, fmt.Errorf("the column %s comes as %s, not as %s", c.Name, record.Column(i).DataType(), c.Native)
		}
	}
	return cells, nil
}

// append appends the value of a row.
func (c *cell) append(to array.Builder, row int) (size int) {
	if c.values.IsNull(row) {
		to.AppendNull()
		return 0
	}
	return c.put(to, row)
}

// misfit says why the value of a row cannot be stored; empty where it can.
func (c *cell) misfit(row int) string {
	if c.unfit == nil || c.values.IsNull(row) {
		return ""
	}
	return c.unfit(row)
}

// text is the value of a row as text; nil for null.
func (c *cell) text(row int) *string {
	if v, some := schema.CellText(c.values, row, textOf(c.values.DataType())); some {
		return &v
	}
	return nil
}

// known finds out how values of a type are taken, if they are.
//
// Longer than a screen: it is one list of types.
func (c *cell) known() bool {
	kind := c.column.Type.Kind
	fixed := func(of schema.Kind, put func(to array.Builder, row int)) bool {
		c.put = func(to array.Builder, row int) int { put(to, row); return 8 }
		return kind == of
	}
	switch x := c.values.(type) {
	case *array.Boolean:
		return fixed(schema.Bool, func(to array.Builder, row int) { to.(*array.BooleanBuilder).Append(x.Value(row)) })
	case *array.Int32:
		return fixed(schema.Int32, func(to array.Builder, row int) { to.(*array.Int32Builder).Append(x.Value(row)) })
	case *array.Int64:
		return fixed(schema.Int64, func(to array.Builder, row int) { to.(*array.Int64Builder).Append(x.Value(row)) })
	case *array.Float32:
		return fixed(schema.Float32, func(to array.Builder, row int) { to.(*array.Float32Builder).Append(x.Value(row)) })
	case *array.Float64:
		return fixed(schema.Float64, func(to array.Builder, row int) { to.(*array.Float64Builder).Append(x.Value(row)) })
	case *array.Decimal128:
		return fixed(schema.Decimal, func(to array.Builder,
			row int) {
			to.(*array.Decimal128Builder).Append(x.Value(row))
		}) &&
			int(x.DataType().(*arrow.Decimal128Type).Scale) == c.column.Type.Scale
	case *array.Date32:
		c.unfit = func(row int) string { return outOfRange(x.Value(row)) }
		return fixed(schema.Date, func(to array.Builder, row int) { to.(*array.Date32Builder).Append(x.Value(row)) })
	case *array.Time64:
		return fixed(schema.Time, func(to array.Builder, row int) { to.(*array.Time64Builder).Append(x.Value(row)) }) &&
			x.DataType().(*arrow.Time64Type).Unit == arrow.Microsecond
	case *array.Timestamp:
		micros := microsOf(x)
		c.unfit = func(row int) string { _, unfit := micros(row); return unfit }
		return fixed(kind, func(to array.Builder, row int) {
			v, _ := micros(row)
			to.(*array.TimestampBuilder).Append(arrow.Timestamp(v))
		}) && (kind == schema.Timestamp || kind == schema.TimestampTZ)
	case *array.FixedSizeBinary:
		if kind == schema.UUID {
			return fixed(kind, func(to array.Builder, row int) { to.(*array.FixedSizeBinaryBuilder).Append(x.Value(row)) })
		}
		return c.bytes(x.Value)
	case array.StringLike:
		return c.texts(x)
	case *array.Binary:
		return c.bytes(x.Value)
	}
	return false
}

func (c *cell) bytes(value func(int) []byte) bool {
	c.put = func(to array.Builder, row int) int {
		to.(*array.BinaryBuilder).Append(value(row))
		return len(value(row))
	}
	return c.column.Type.Kind == schema.Bytes
}

// texts are also how a working space gives UUIDs.
func (c *cell) texts(values array.StringLike) bool {
	if c.column.Type.Kind == schema.UUID {
		c.unfit = func(row int) string {
			if uuid.Validate(values.Value(row)) != nil {
				return "is no UUID"
			}
			return ""
		}
		c.put = func(to array.Builder, row int) int {
			id, _ := uuid.Parse(values.Value(row)) // checked above
			to.(*array.FixedSizeBinaryBuilder).Append(id[:])
			return len(id)
		}
		return true
	}
	c.unfit = func(row int) string {
		if !utf8.ValidString(values.Value(row)) {
			return "is not UTF-8"
		}
		return ""
	}
	c.put = func(to array.Builder, row int) int {
		to.(*array.StringBuilder).Append(values.Value(row))
		return len(values.Value(row))
	}
	return c.column.Type.Kind == schema.Text || c.column.Type.Kind == schema.JSON
}

// Days that every warehouse has, since 1970: from 4713 BC to the year 5874897
// (postgresql.org/docs/current/datatype-datetime.html).
const (
	firstDay = -2440588
	lastDay  = 2145031948
)

func outOfRange(day arrow.Date32) string {
	if int64(day) >= firstDay && int64(day) <= lastDay || day == schema.InfiniteDate || day == -schema.InfiniteDate {
		return ""
	}
	return fmt.Sprintf("is the day %d since 1970, which is out of range", day)
}

// microsOf gives moments in microseconds, or why one cannot be stored.
func microsOf(x *array.Timestamp) func(row int) (int64, string) {
	unit := x.DataType().(*arrow.TimestampType).Unit
	return func(row int) (int64, string) {
		v := int64(x.Value(row))
		if unit == arrow.Nanosecond {
			if v%1000 != 0 {
				return 0, "has nanoseconds (" + time.Unix(0, v).UTC().Format("2006-01-02T15:04:05.000000000") + ")"
			}
			v /= 1000
		}
		if v < firstDay*24*3600*1e6 && v != -schema.InfiniteTime {
			return 0, fmt.Sprintf("is %d µs since 1970, which is out of range", v)
		}
		return v, ""
	}
}

// textOf is what a type's text depends on.
func textOf(t arrow.DataType) schema.Type {
	switch x := t.(type) {
	case *arrow.Decimal128Type:
		return schema.Type{Kind: schema.Decimal, Precision: int(x.Precision), Scale: int(x.Scale)}
	case *arrow.TimestampType:
		if x.TimeZone != "" {
			return schema.Type{Kind: schema.TimestampTZ}
		}
	}
	return schema.Type{}
}
