package pgcopy

import (
	"encoding/binary"
	"math"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Header begins a stream for COPY FROM STDIN (FORMAT binary); Trailer ends it.
var (
	Header  = append(append([]byte{}, copySignature...), 0, 0, 0, 0, 0, 0, 0, 0)
	Trailer = []byte{0xff, 0xff}
)

// AppendRows appends the rows of a record whose columns have the given types.
func AppendRows(b []byte, record arrow.RecordBatch, columns []schema.Column) []byte {
	encoders := make([]func(b []byte, row int) []byte, len(columns))
	nullable := make([]arrow.Array, len(columns)) // nil where no value is null
	for i, c := range columns {
		encoders[i] = Encoder(record.Column(i), c.Type)
		if record.Column(i).NullN() > 0 {
			nullable[i] = record.Column(i)
		}
	}
	for row := range int(record.NumRows()) {
		b = binary.BigEndian.AppendUint16(b, uint16(len(columns)))
		for i, encode := range encoders {
			if nullable[i] != nil && nullable[i].IsNull(row) {
				b = binary.BigEndian.AppendUint32(b, math.MaxUint32)
				continue
			}
			b = encode(b, row)
		}
	}
	return b
}

// AppendRaw appends rows as they have come, from one to before another, each followed by
// the record's columns that they lack.
func AppendRaw(b []byte, raw *rows.Raw, from, to int, record arrow.RecordBatch, columns []schema.Column) []byte {
	var encoders []func(b []byte, row int) []byte
	for i := raw.Columns; i < len(columns); i++ {
		encoders = append(encoders, Encoder(record.Column(i), columns[i].Type))
	}
	for row := from; row < to; row++ {
		b = binary.BigEndian.AppendUint16(b, uint16(len(columns)))
		b = append(b, raw.Row(row)...)
		for i, encode := range encoders {
			if record.Column(raw.Columns + i).IsNull(row) {
				b = binary.BigEndian.AppendUint32(b, math.MaxUint32)
				continue
			}
			b = encode(b, row)
		}
	}
	return b
}

// Encoder appends one value with its length.
func Encoder(column arrow.Array, t schema.Type) func(b []byte, row int) []byte {
	order := binary.BigEndian
	switch c := column.(type) {
	case *array.Boolean:
		return func(b []byte, row int) []byte {
			if c.Value(row) {
				return append(b, 0, 0, 0, 1, 1)
			}
			return append(b, 0, 0, 0, 1, 0)
		}
	case *array.Int16:
		return func(b []byte, row int) []byte {
			return order.AppendUint16(append(b, 0, 0, 0, 2), uint16(c.Value(row)))
		}
	case *array.Int32:
		return func(b []byte, row int) []byte {
			return order.AppendUint32(append(b, 0, 0, 0, 4), uint32(c.Value(row)))
		}
	case *array.Int64:
		return func(b []byte, row int) []byte {
			return order.AppendUint64(append(b, 0, 0, 0, 8), uint64(c.Value(row)))
		}
	case *array.Float32:
		return func(b []byte, row int) []byte {
			return order.AppendUint32(append(b, 0, 0, 0, 4), math.Float32bits(c.Value(row)))
		}
	case *array.Float64:
		return func(b []byte, row int) []byte {
			return order.AppendUint64(append(b, 0, 0, 0, 8), math.Float64bits(c.Value(row)))
		}
	case *array.Decimal128:
		return func(b []byte, row int) []byte {
			n := c.Value(row)
			if v := int64(n.LowBits()); n.HighBits() == v>>63 && v < 1e14 && v > -1e14 {
				return appendSmallDecimal(b, v, t.Scale)
			}
			return appendNumeric(b, n.ToString(int32(t.Scale)))
		}
	case *array.Date32:
		return func(b []byte, row int) []byte {
			return order.AppendUint32(append(b, 0, 0, 0, 4), uint32(encodeDate(int32(c.Value(row)))))
		}
	case *array.Time64:
		return func(b []byte, row int) []byte {
			return order.AppendUint64(append(b, 0, 0, 0, 8), uint64(c.Value(row)))
		}
	case *array.Timestamp:
		return func(b []byte, row int) []byte {
			return order.AppendUint64(append(b, 0, 0, 0, 8), uint64(encodeTimestamp(int64(c.Value(row)))))
		}
	case *array.MonthDayNanoInterval:
		return func(b []byte, row int) []byte {
			v := c.Value(row)
			b = order.AppendUint64(append(b, 0, 0, 0, 16), uint64(v.Nanoseconds/1000))
			return order.AppendUint32(order.AppendUint32(b, uint32(v.Days)), uint32(v.Months))
		}
	case *array.FixedSizeBinary:
		return func(b []byte, row int) []byte { return appendBytes(b, c.Value(row)) }
	case *array.Binary:
		return func(b []byte, row int) []byte { return appendBytes(b, c.Value(row)) }
	case *array.String:
		if t.Kind == schema.Numeric {
			return func(b []byte, row int) []byte { return appendNumeric(b, c.Value(row)) }
		}
		return func(b []byte, row int) []byte {
			v := c.Value(row)
			return append(order.AppendUint32(b, uint32(len(v))), v...)
		}
	}
	return func(b []byte, row int) []byte { return appendBytes(b, []byte(column.ValueStr(row))) }
}

func appendBytes(b, v []byte) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(v))), v...)
}

func encodeDate(days int32) int32 {
	switch days {
	case schema.InfiniteDate:
		return math.MaxInt32
	case -schema.InfiniteDate:
		return math.MinInt32
	}
	return days - epochDays
}

func encodeTimestamp(us int64) int64 {
	switch us {
	case schema.InfiniteTime:
		return math.MaxInt64
	case -schema.InfiniteTime:
		return math.MinInt64
	}
	return us - epochMicros
}

// appendSmallDecimal appends n × 10^-scale, n below 10^14 either way.
func appendSmallDecimal(b []byte, n int64, scale int) []byte {
	var sign uint16
	if n < 0 {
		sign, n = numericNegative, -n
	}
	// Align to groups of four digits, counted from the decimal point.
	for range (4 - scale%4) % 4 {
		n *= 10
	}
	weight := -(scale + 3) / 4
	var groups [6]uint16
	first := len(groups)
	for ; n > 0; n /= 10000 {
		group := uint16(n % 10000)
		if first == len(groups) && group == 0 {
			weight++ // groups of zeros at the end are left out
			continue
		}
		first--
		groups[first] = group
	}
	return appendNumericParts(b, groups[first:], weight+len(groups)-first-1, sign, scale)
}

// appendNumeric appends a number that is written in decimal, or NaN or an infinity.
func appendNumeric(b []byte, text string) []byte {
	switch text {
	case "NaN":
		return appendNumericParts(b, nil, 0, numericNaN, 0)
	case "Infinity":
		return appendNumericParts(b, nil, 0, numericInf, 0)
	case "-Infinity":
		return appendNumericParts(b, nil, 0, numericNegInf, 0)
	}
	var sign uint16
	if rest, negative := strings.CutPrefix(text, "-"); negative {
		text, sign = rest, numericNegative
	}
	whole, fraction, _ := strings.Cut(text, ".")
	scale := len(fraction)
	whole = strings.Repeat("0", (4-len(whole)%4)%4) + whole
	fraction += strings.Repeat("0", (4-len(fraction)%4)%4)
	digits := whole + fraction
	groups := make([]uint16, 0, len(digits)/4)
	for i := 0; i < len(digits); i += 4 {
		group := uint16(0)
		for _, d := range []byte(digits[i : i+4]) {
			group = group*10 + uint16(d-'0')
		}
		groups = append(groups, group)
	}
	weight := len(whole)/4 - 1
	for len(groups) > 0 && groups[0] == 0 {
		groups, weight = groups[1:], weight-1
	}
	for len(groups) > 0 && groups[len(groups)-1] == 0 {
		groups = groups[:len(groups)-1]
	}
	return appendNumericParts(b, groups, weight, sign, scale)
}

// appendNumericParts appends the binary form of numeric (numeric_send).
func appendNumericParts(b []byte, groups []uint16, weight int, sign uint16, scale int) []byte {
	if len(groups) == 0 {
		weight = 0
		if sign == numericNegative {
			sign = 0
		}
	}
	order := binary.BigEndian
	b = order.AppendUint32(b, uint32(8+2*len(groups)))
	b = order.AppendUint16(b, uint16(len(groups)))
	b = order.AppendUint16(b, uint16(int16(weight)))
	b = order.AppendUint16(b, sign)
	b = order.AppendUint16(b, uint16(scale))
	for _, g := range groups {
		b = order.AppendUint16(b, g)
	}
	return b
}
