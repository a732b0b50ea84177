package pgcopy

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"math/big"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"

	"noemata/internal/core/schema"
)

// Between PostgreSQL's epoch, 2000-01-01, and 1970-01-01 (datatype/timestamp.h).
const (
	epochDays   = 10957
	epochMicros = epochDays * 86400 * 1_000_000
)

func decodeBool(b array.Builder, v []byte) {
	b.(*array.BooleanBuilder).Append(v[0] != 0)
}

func decodeInt16(b array.Builder, v []byte) {
	b.(*array.Int16Builder).Append(int16(binary.BigEndian.Uint16(v)))
}

func decodeInt32(b array.Builder, v []byte) {
	b.(*array.Int32Builder).Append(int32(binary.BigEndian.Uint32(v)))
}

func decodeInt64(b array.Builder, v []byte) {
	b.(*array.Int64Builder).Append(int64(binary.BigEndian.Uint64(v)))
}

func decodeOID(b array.Builder, v []byte) {
	b.(*array.Int64Builder).Append(int64(binary.BigEndian.Uint32(v)))
}

func decodeFloat32(b array.Builder, v []byte) {
	b.(*array.Float32Builder).Append(math.Float32frombits(binary.BigEndian.Uint32(v)))
}

func decodeFloat64(b array.Builder, v []byte) {
	b.(*array.Float64Builder).Append(math.Float64frombits(binary.BigEndian.Uint64(v)))
}

// checkText matters in a database in SQL_ASCII, which may hold any bytes, and with a server
// that does not do what it says: whoever reads the rows later relies on it.
func checkText(v []byte) (reason, shown string) {
	if utf8.Valid(v) {
		return "", ""
	}
	return "holds bytes that are not text in UTF-8", `\x` + hex.EncodeToString(v)
}

func decodeText(b array.Builder, v []byte) {
	b.(*array.StringBuilder).BinaryBuilder.Append(v)
}

// fitsJSONB wants the version byte that jsonb_send writes.
func fitsJSONB(v []byte) bool { return len(v) > 0 && v[0] == 1 }

func checkJSONB(v []byte) (reason, shown string) { return checkText(v[1:]) }

// decodeJSONB skips the version byte (jsonb_send).
func decodeJSONB(b array.Builder, v []byte) { decodeText(b, v[1:]) }

func decodeBytes(b array.Builder, v []byte) {
	b.(*array.BinaryBuilder).Append(v)
}

func decodeUUID(b array.Builder, v []byte) {
	b.(*array.FixedSizeBinaryBuilder).Append(v)
}

func decodeDate(b array.Builder, v []byte) {
	days := int32(binary.BigEndian.Uint32(v))
	switch days {
	case math.MaxInt32:
		days = schema.InfiniteDate
	case math.MinInt32:
		days = -schema.InfiniteDate
	default:
		days += epochDays // 5874897-12-31, the last date, still fits
	}
	b.(*array.Date32Builder).Append(arrow.Date32(days))
}

func decodeTime(b array.Builder, v []byte) {
	b.(*array.Time64Builder).Append(arrow.Time64(binary.BigEndian.Uint64(v)))
}

func checkTimestamp(v []byte) (reason, shown string) {
	us := int64(binary.BigEndian.Uint64(v))
	if us == math.MaxInt64 || us < math.MaxInt64-epochMicros {
		return "", ""
	}
	return "is later than the year 294246, more than can be stored; name it under as_text to keep it",
		fmt.Sprintf("%d microseconds after 2000-01-01", us)
}

func decodeTimestamp(b array.Builder, v []byte) {
	us := int64(binary.BigEndian.Uint64(v))
	switch us {
	case math.MaxInt64:
		us = schema.InfiniteTime
	case math.MinInt64:
		us = -schema.InfiniteTime
	default:
		us += epochMicros
	}
	b.(*array.TimestampBuilder).Append(arrow.Timestamp(us))
}

func checkInterval(v []byte) (reason, shown string) {
	us := int64(binary.BigEndian.Uint64(v))
	if us <= math.MaxInt64/1000 && us >= math.MinInt64/1000 {
		return "", ""
	}
	return "is an interval with more than 292 years of hours, more than can be stored; name it under as_text to keep it",
		fmt.Sprintf("%d microseconds and more", us)
}

// decodeInterval reads microseconds, days and months (interval_send).
func decodeInterval(b array.Builder, v []byte) {
	b.(*array.MonthDayNanoIntervalBuilder).Append(arrow.MonthDayNanoInterval{
		Nanoseconds: int64(binary.BigEndian.Uint64(v)) * 1000,
		Days:        int32(binary.BigEndian.Uint32(v[8:])),
		Months:      int32(binary.BigEndian.Uint32(v[12:])),
	})
}

// The sign field of a binary numeric (numeric_send).
const (
	numericNegative = 0x4000
	numericNaN      = 0xC000
	numericInf      = 0xD000
	numericNegInf   = 0xF000
)

func checkDecimal(t schema.Type) func(v []byte) (reason, shown string) {
	return func(v []byte) (reason, shown string) {
		switch binary.BigEndian.Uint16(v[4:]) {
		case numericNaN:
			shown = "NaN"
		case numericInf:
			shown = "Infinity"
		case numericNegInf:
			shown = "-Infinity"
		default:
			return "", ""
		}
		return fmt.Sprintf("is %s, which %s cannot hold; name it under as_text to keep it", shown, t), shown
	}
}

// fitsDecimal tells whether a value is a numeric with no more digits than its column has
// room for: there are as many groups of digits as it says, and none is above 9999.
func fitsDecimal(t schema.Type) func(v []byte) bool {
	return func(v []byte) bool {
		if len(v) < 8 || len(v) != 8+2*int(binary.BigEndian.Uint16(v)) {
			return false
		}
		switch binary.BigEndian.Uint16(v[4:]) {
		case 0, numericNegative:
		case numericNaN, numericInf, numericNegInf:
			return true
		default:
			return false
		}
		groups := len(v)/2 - 4
		weight := int(int16(binary.BigEndian.Uint16(v[2:])))
		for i := range groups {
			if binary.BigEndian.Uint16(v[8+2*i:]) > 9999 {
				return false
			}
		}
		if groups == 0 {
			return true
		}
		whole := 4 * weight // digits before the point, below the first group
		for first := binary.BigEndian.Uint16(v[8:]); first > 0; first /= 10 {
			whole++
		}
		return whole <= t.Precision-t.Scale && weight-groups >= -32
	}
}

// decodeDecimal reads a binary numeric: a count of digits to base 10000, the
// weight of the first, the sign, the scale it is shown with, the digits.
func decodeDecimal(scale int) func(b array.Builder, v []byte) {
	return func(b array.Builder, v []byte) {
		digits := int(binary.BigEndian.Uint16(v))
		weight := int(int16(binary.BigEndian.Uint16(v[2:])))
		// The digits as one whole number stand for n × 10^(shift - scale).
		shift := 4*(weight-digits+1) + scale
		var n decimal128.Num
		if digits <= 4 && shift >= -3 && shift <= 2 { // at most 18 decimal digits
			var small int64
			for i := range digits {
				small = small*10000 + int64(binary.BigEndian.Uint16(v[8+2*i:]))
			}
			n = decimal128.FromI64(shifted(small, shift))
		} else {
			large := new(big.Int)
			for i := range digits {
				large.Mul(large, big.NewInt(10000)).Add(large, big.NewInt(int64(binary.BigEndian.Uint16(v[8+2*i:]))))
			}
			power := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(shift, -shift))), nil)
			if shift >= 0 {
				large.Mul(large, power)
			} else {
				large.Quo(large, power) // exact: digits below the column's scale are zero
			}
			n = decimal128.FromBigInt(large)
		}
		if binary.BigEndian.Uint16(v[4:]) == numericNegative {
			n = n.Negate()
		}
		b.(*array.Decimal128Builder).Append(n)
	}
}

func shifted(n int64, shift int) int64 {
	for ; shift > 0; shift-- {
		n *= 10
	}
	for ; shift < 0; shift++ {
		n /= 10
	}
	return n
}
