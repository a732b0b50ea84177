package sqlport

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/warehouse"
)

// oids are what PostgreSQL calls the kinds (pg_type.dat), and how many bytes a value has; -1 where that differs.
var oids = map[schema.Kind]struct {
	oid  uint32
	size int16
}{
	schema.Bool: {pgtype.BoolOID, 1}, schema.Int16: {pgtype.Int2OID, 2}, schema.Int32: {pgtype.Int4OID, 4},
	schema.Int64: {pgtype.Int8OID, 8}, schema.Float32: {pgtype.Float4OID, 4}, schema.Float64: {pgtype.Float8OID, 8},
	schema.Decimal: {pgtype.NumericOID, -1}, schema.Numeric: {pgtype.NumericOID, -1}, schema.Text: {pgtype.TextOID, -1},
	schema.Bytes: {pgtype.ByteaOID, -1}, schema.Date: {pgtype.DateOID, 4}, schema.Time: {pgtype.TimeOID, 8},
	schema.Timestamp: {pgtype.TimestampOID, 8}, schema.TimestampTZ: {pgtype.TimestamptzOID, 8},
	schema.Interval: {pgtype.IntervalOID, 16}, schema.UUID: {pgtype.UUIDOID, 16}, schema.JSON: {pgtype.JSONOID, -1},
}

// described tells a client which columns come. formats are as a Bind message has them: none, one for all, or one each.
func described(columns []schema.Column, formats []int16) *pgproto3.RowDescription {
	d := &pgproto3.RowDescription{}
	for i, c := range columns {
		o := oids[c.Type.Kind]
		modifier := int32(-1)
		if c.Type.Kind == schema.Decimal { // the header's four bytes are counted, as the catalogue does
			modifier = int32(c.Type.Precision)<<16 | int32(c.Type.Scale) + 4
		}
		d.Fields = append(d.Fields, pgproto3.FieldDescription{Name: []byte(strings.ToValidUTF8(c.Name, "\ufffd")),
			DataTypeOID: o.oid, DataTypeSize: o.size, TypeModifier: modifier, Format: formatOf(formats, i)})
	}
	return d
}

func formatOf(formats []int16, i int) int16 {
	switch len(formats) {
	case 0:
		return pgproto3.TextFormat
	case 1:
		return formats[0]
	}
	return formats[i]
}

// encoder appends a value with its length.
type encoder func(b []byte, row int) []byte

// encoders are those of a record's columns.
func encoders(record arrow.RecordBatch, columns []schema.Column, formats []int16) []encoder {
	list := make([]encoder, len(columns))
	for i, c := range columns {
		if formatOf(formats, i) == pgproto3.BinaryFormat {
			list[i] = pgcopy.Encoder(record.Column(i), c.Type)
		} else {
			list[i] = textEncoder(record.Column(i), c.Type)
		}
	}
	return list
}

// appendRow appends a row as DataRow and COPY in binary have it: how many values, and each with its length.
func appendRow(b []byte, record arrow.RecordBatch, encode []encoder, row int) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(encode)))
	for i, e := range encode {
		if record.Column(i).IsNull(row) {
			b = binary.BigEndian.AppendUint32(b, math.MaxUint32)
			continue
		}
		b = e(b, row)
	}
	return b
}

// textEncoder is that of PostgreSQL's text form.
func textEncoder(column arrow.Array, t schema.Type) encoder {
	text := textOf(column, t)
	return func(b []byte, row int) []byte {
		at := len(b)
		b = text(append(b, 0, 0, 0, 0), row)
		binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at-4))
		return b
	}
}

// textOf appends a value in the form that PostgreSQL prints under DateStyle ISO and IntervalStyle postgres.
func textOf(column arrow.Array, t schema.Type) encoder {
	switch c := column.(type) {
	case *array.Boolean:
		return func(b []byte, row int) []byte {
			if c.Value(row) {
				return append(b, 't')
			}
			return append(b, 'f')
		}
	case *array.Int16:
		return func(b []byte, row int) []byte { return strconv.AppendInt(b, int64(c.Value(row)), 10) }
	case *array.Int32:
		return func(b []byte, row int) []byte { return strconv.AppendInt(b, int64(c.Value(row)), 10) }
	case *array.Int64:
		return func(b []byte, row int) []byte { return strconv.AppendInt(b, c.Value(row), 10) }
	case *array.Float32:
		return func(b []byte, row int) []byte { return appendFloat(b, float64(c.Value(row)), 32) }
	case *array.Float64:
		return func(b []byte, row int) []byte { return appendFloat(b, c.Value(row), 64) }
	case *array.String:
		return func(b []byte, row int) []byte { return append(b, c.Value(row)...) }
	case *array.Timestamp:
		return func(b []byte, row int) []byte {
			return appendTimestamp(b, int64(c.Value(row)), t.Kind == schema.TimestampTZ)
		}
	case *array.Time64:
		return func(b []byte, row int) []byte { return appendClock(b, int64(c.Value(row))) }
	case *array.MonthDayNanoInterval:
		return func(b []byte, row int) []byte { return appendInterval(b, c.Value(row)) }
	}
	return func(b []byte, row int) []byte {
		text, _ := schema.CellText(column, row, t)
		return append(b, text...)
	}
}

func appendFloat(b []byte, f float64, bits int) []byte {
	switch {
	case math.IsInf(f, 1):
		return append(b, "Infinity"...)
	case math.IsInf(f, -1):
		return append(b, "-Infinity"...)
	}
	form := byte('f')
	if a := math.Abs(f); a != 0 && (a < 1e-4 || a >= 1e15) {
		form = 'e'
	}
	return strconv.AppendFloat(b, f, form, -1, bits)
}

func appendTimestamp(b []byte, us int64, zone bool) []byte {
	text := schema.TimestampText(us)
	if strings.HasSuffix(text, "infinity") {
		return append(b, text...)
	}
	text, era, _ := strings.Cut(text, " ")
	day, clock, _ := strings.Cut(text, "T")
	b = append(append(append(b, day...), ' '), trimFraction(clock)...)
	if zone {
		b = append(b, "+00"...)
	}
	if era != "" {
		b = append(append(b, ' '), era...)
	}
	return b
}

// trimFraction leaves out the zeros that end a fraction, as of 09:00:00.500000.
func trimFraction(clock string) string {
	if !strings.Contains(clock, ".") {
		return clock
	}
	return strings.TrimSuffix(strings.TrimRight(clock, "0"), ".")
}

func appendClock(b []byte, us int64) []byte {
	s := us / 1e6
	b = fmt.Appendf(b, "%02d:%02d:%02d", s/3600, s/60%60, s%60)
	if us%1e6 != 0 {
		b = append(b, strings.TrimRight(fmt.Sprintf(".%06d", us%1e6), "0")...)
	}
	return b
}

// appendInterval writes an interval (PostgreSQL, interval_out).
func appendInterval(b []byte, v arrow.MonthDayNanoInterval) []byte {
	at := len(b)
	part := func(n int32, unit string) {
		if n == 0 {
			return
		}
		if len(b) > at {
			b = append(b, ' ')
		}
		b = fmt.Appendf(b, "%d %s", n, unit)
		if n != 1 {
			b = append(b, 's')
		}
	}
	part(v.Months/12, "year")
	part(v.Months%12, "mon")
	part(v.Days, "day")
	us := v.Nanoseconds / 1000
	if us == 0 && len(b) > at {
		return b
	}
	if len(b) > at {
		b = append(b, ' ')
	}
	if us < 0 {
		b, us = append(b, '-'), -us
	}
	return appendClock(b, us)
}

// valueOf gives a parameter's value as text; nil for null.
func valueOf(types *pgtype.Map, place int, value []byte, format int16, oid uint32) (*string, error) {
	if value == nil {
		return nil, nil
	}
	text := string(value)
	if format == pgproto3.BinaryFormat {
		t, known := types.TypeForOID(oid)
		if !known {
			return nil, &warehouse.Mistake{State: "0A000",
				Message: fmt.Sprintf("The value of $%d is in the binary form of a type "+
					"that is not known here (%d); send it as text.", place, oid)}
		}
		v, err := t.Codec.DecodeValue(types, oid, format, value)
		var out []byte
		if err == nil {
			out, err = types.Encode(oid, pgproto3.TextFormat, v, nil)
		}
		if err != nil {
			return nil, &warehouse.Mistake{State: "22P03",
				Message: fmt.Sprintf("The value of $%d is not in the binary form of %s: %v.",
					place, t.Name, err)}
		}
		text = string(out)
	}
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return nil, &warehouse.Mistake{State: "22021", Message: fmt.Sprintf("The value of $%d is not UTF-8.", place)}
	}
	return &text, nil
}
