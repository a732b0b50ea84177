package shape

import (
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/google/uuid"

	"noemata/internal/core/schema"
)

// appendText appends a value that is known as text; the error says, as the end of a sentence
// that begins with the column's name, why it is none of the type. It never shows the value.
type appendText func(b array.Builder, text string) error

// converter turns values of one type, written by schema.CellText, into another. What would
// lose something of every value is refused; of single values, when they come.
func converter(from, to schema.Type) (appendText, error) {
	f := from.Kind
	number := f == schema.Int16 || f == schema.Int32 || f == schema.Int64 || f == schema.Decimal || f == schema.Numeric
	text := f == schema.Text || f == schema.JSON
	allowed := f == to.Kind
	switch to.Kind {
	case schema.Text:
		allowed = true
	case schema.Int16, schema.Int32, schema.Int64, schema.Decimal, schema.Numeric:
		allowed = number || text || f == schema.Bool || f == schema.Float32 || f == schema.Float64
	case schema.Float32, schema.Float64:
		allowed = number || text || f == schema.Float32 || f == schema.Float64
	case schema.Bool:
		allowed = number || text || f == schema.Bool
	case schema.Timestamp:
		allowed = text || f == schema.Date || f == schema.Timestamp
	case schema.Date, schema.Time, schema.TimestampTZ, schema.UUID, schema.JSON:
		allowed = text || f == to.Kind
	}
	if !allowed {
		return nil, fmt.Errorf("%s cannot become %s without losing something", from, to)
	}
	if do := appenders[to.Kind]; do != nil {
		return do, nil
	}
	if to.Kind == schema.Decimal {
		return appendDecimal(to), nil
	}
	return nil, fmt.Errorf("%s cannot become %s", from, to)
}

// build makes a column of texts. A text that is none of the type is told of, and null there.
func build(to schema.Type, n int, text func(row int) (string, bool), wrong func(row int, reason string),
	do appendText) arrow.Array {
	b := array.NewBuilder(allocator, to.Arrow())
	defer b.Release()
	b.Reserve(n)
	for row := range n {
		v, ok := text(row)
		if !ok {
			b.AppendNull()
			continue
		}
		if err := do(b, v); err != nil {
			wrong(row, err.Error())
			b.AppendNull()
		}
	}
	return b.NewArray()
}

var appenders = map[schema.Kind]appendText{
	schema.Text: func(b array.Builder, v string) error {
		b.(*array.StringBuilder).Append(v)
		return nil
	},
	schema.Bool: func(b array.Builder, v string) error {
		switch strings.ToLower(v) {
		case "true", "t", "1", "yes":
			b.(*array.BooleanBuilder).Append(true)
		case "false", "f", "0", "no":
			b.(*array.BooleanBuilder).Append(false)
		default:
			return fmt.Errorf("is neither true nor false, 1 nor 0")
		}
		return nil
	},
	schema.Int16: whole(16, func(b array.Builder, n int64) { b.(*array.Int16Builder).Append(int16(n)) }),
	schema.Int32: whole(32, func(b array.Builder, n int64) { b.(*array.Int32Builder).Append(int32(n)) }),
	schema.Int64: whole(64, func(b array.Builder, n int64) { b.(*array.Int64Builder).Append(n) }),
	schema.Float32: func(b array.Builder, v string) error {
		f, err := strconv.ParseFloat(v, 32)
		if err != nil {
			return fmt.Errorf("is no number that float32 can hold")
		}
		b.(*array.Float32Builder).Append(float32(f))
		return nil
	},
	schema.Float64: func(b array.Builder, v string) error {
		f, err := strconv.ParseFloat(v, 64)
		if err != nil {
			return fmt.Errorf("is no number that float64 can hold")
		}
		b.(*array.Float64Builder).Append(f)
		return nil
	},
	schema.Numeric: func(b array.Builder, v string) error {
		if v != "NaN" && v != "Infinity" && v != "-Infinity" {
			r, ok := parseNumber(v)
			if !ok {
				return fmt.Errorf("is no number")
			}
			if !plainDigits.MatchString(v) {
				v = exact(r)
			}
		}
		b.(*array.StringBuilder).Append(v)
		return nil
	},
	schema.Date: func(b array.Builder, v string) error {
		switch v {
		case "infinity":
			b.(*array.Date32Builder).Append(arrow.Date32(schema.InfiniteDate))
			return nil
		case "-infinity":
			b.(*array.Date32Builder).Append(arrow.Date32(-schema.InfiniteDate))
			return nil
		}
		us, err := schema.ParseTimestamp(v)
		if err != nil || us%86400e6 != 0 || strings.ContainsAny(v, "Tt:") {
			return fmt.Errorf("is no date such as 2026-11-23")
		}
		b.(*array.Date32Builder).Append(arrow.Date32(schema.Days(us)))
		return nil
	},
	schema.Time: func(b array.Builder, v string) error {
		t, err := time.Parse("15:04:05.999999", v)
		if err != nil {
			if t, err = time.Parse("15:04", v); err != nil {
				return fmt.Errorf("is no time such as 08:30:00")
			}
		}
		us := t.Sub(t.Truncate(24 * time.Hour)).Microseconds()
		b.(*array.Time64Builder).Append(arrow.Time64(us))
		return nil
	},
	schema.Timestamp: func(b array.Builder, v string) error {
		us, err := schema.ParseTimestamp(v)
		if err != nil || zoned(v) {
			return fmt.Errorf("is no time of day without a zone, such as 2026-11-23T08:30:00")
		}
		b.(*array.TimestampBuilder).Append(arrow.Timestamp(us))
		return nil
	},
	schema.TimestampTZ: func(b array.Builder, v string) error {
		us, err := schema.ParseTimestamp(v)
		if err != nil || !zoned(v) {
			return fmt.Errorf("is no moment with its zone, such as 2026-11-23T08:30:00Z")
		}
		b.(*array.TimestampBuilder).Append(arrow.Timestamp(us))
		return nil
	},
	schema.UUID: func(b array.Builder, v string) error {
		id, err := uuid.Parse(v)
		if err != nil {
			return fmt.Errorf("is no UUID")
		}
		b.(*array.FixedSizeBinaryBuilder).Append(id[:])
		return nil
	},
	schema.JSON: func(b array.Builder, v string) error {
		if !json.Valid([]byte(v)) {
			return fmt.Errorf("is no JSON")
		}
		b.(*array.StringBuilder).Append(v)
		return nil
	},
}

// plainDigits are numbers that are kept as they are written, zeros at the end included.
var plainDigits = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)

// zoned tells whether a time has a zone or an offset.
func zoned(v string) bool {
	i := strings.IndexAny(v, "T ")
	return strings.HasSuffix(v, "infinity") || i > 0 && strings.ContainsAny(v[i:], "Z+-")
}

// truth writes true and false as numbers, as databases do that have no type for them.
func truth(v string) string {
	switch v {
	case "true":
		return "1"
	case "false":
		return "0"
	}
	return v
}

// whole appends whole numbers of so many bits.
func whole(bits int, do func(b array.Builder, n int64)) appendText {
	return func(b array.Builder, v string) error {
		v = truth(v)
		n, err := strconv.ParseInt(v, 10, bits)
		if err != nil {
			r, ok := parseNumber(v)
			if !ok || !r.IsInt() || !r.Num().IsInt64() || bits < 64 && (r.Num().Int64() >= 1<<(bits-1) ||
				r.Num().Int64() < -1<<(bits-1)) {
				return fmt.Errorf("is no whole number that int%d can hold", bits)
			}
			n = r.Num().Int64()
		}
		do(b, n)
		return nil
	}
}

// longestNumber is how many characters of a number are looked at: beyond, none is held.
const longestNumber = 1000

// parseNumber reads a number in decimal digits, with an exponent of a size that is bounded.
func parseNumber(v string) (*big.Rat, bool) {
	v = truth(v)
	if len(v) == 0 || len(v) > longestNumber || strings.ContainsAny(v, "/_xXpPbBoO") {
		return nil, false
	}
	if i := strings.IndexAny(v, "eE"); i >= 0 {
		if e, err := strconv.Atoi(v[i+1:]); err != nil || e > longestNumber || e < -longestNumber {
			return nil, false
		}
	}
	return new(big.Rat).SetString(v)
}

// exact writes a number that has an end in decimal digits.
func exact(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	n, _ := r.FloatPrec()
	return r.FloatString(n)
}

// appendDecimal appends numbers that fit into a decimal's digits; none is rounded.
func appendDecimal(t schema.Type) appendText {
	scale := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Scale)), nil)
	most := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Precision)), nil)
	return func(b array.Builder, v string) error {
		r, ok := parseNumber(v)
		if ok {
			r.Mul(r, new(big.Rat).SetInt(scale))
			ok = r.IsInt() && r.Num().CmpAbs(most) < 0
		}
		if !ok {
			return fmt.Errorf("is no number that %s can hold", t)
		}
		b.(*array.Decimal128Builder).Append(decimal128.FromBigInt(r.Num()))
		return nil
	}
}
