package pgcopy

import (
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/google/uuid"

	"noemata/internal/core/schema"
)

// textOf reads values in the text form that the server prints under the settings of a
// source's sessions: ISO dates, UTC, intervals in PostgreSQL's own style.
func textOf(c schema.Column) func(b array.Builder, v []byte) error {
	switch c.Wire {
	case "bool":
		return func(b array.Builder, v []byte) error {
			if string(v) != "t" && string(v) != "f" {
				return fmt.Errorf("%q is neither t nor f", v)
			}
			b.(*array.BooleanBuilder).Append(string(v) == "t")
			return nil
		}
	case "int2":
		return integer(16, func(b array.Builder, n int64) { b.(*array.Int16Builder).Append(int16(n)) })
	case "int4":
		return integer(32, func(b array.Builder, n int64) { b.(*array.Int32Builder).Append(int32(n)) })
	case "int8", "oid":
		return integer(64, func(b array.Builder, n int64) { b.(*array.Int64Builder).Append(n) })
	case "float4":
		return float(32, func(b array.Builder, f float64) { b.(*array.Float32Builder).Append(float32(f)) })
	case "float8":
		return float(64, func(b array.Builder, f float64) { b.(*array.Float64Builder).Append(f) })
	case "bytea":
		return textBytes
	case "date":
		return textDate
	case "time":
		return textTime
	case "timestamp", "timestamptz":
		return textTimestamp
	case "interval":
		return textInterval
	case "uuid":
		return textUUID
	case wireDecimal:
		return textDecimal(c.Type)
	}
	return func(b array.Builder, v []byte) error {
		if reason, _ := checkText(v); reason != "" {
			return fmt.Errorf("%s", reason)
		}
		decodeText(b, v)
		return nil
	}
}

func integer(bits int, put func(array.Builder, int64)) func(array.Builder, []byte) error {
	return func(b array.Builder, v []byte) error {
		n, err := strconv.ParseInt(string(v), 10, bits)
		if err == nil {
			put(b, n)
		}
		return err
	}
}

func float(bits int, put func(array.Builder, float64)) func(array.Builder, []byte) error {
	return func(b array.Builder, v []byte) error {
		f, err := strconv.ParseFloat(string(v), bits)
		if err == nil {
			if math.IsNaN(f) { // one NaN for all, the one that the server sends
				f = math.Float64frombits(0x7ff8000000000000)
			}
			put(b, f)
		}
		return err
	}
}

func textBytes(b array.Builder, v []byte) error {
	raw, err := hex.DecodeString(strings.TrimPrefix(string(v), `\x`))
	if err == nil {
		b.(*array.BinaryBuilder).Append(raw)
	}
	return err
}

func textUUID(b array.Builder, v []byte) error {
	id, err := uuid.ParseBytes(v)
	if err == nil {
		b.(*array.FixedSizeBinaryBuilder).Append(id[:])
	}
	return err
}

func textDecimal(t schema.Type) func(array.Builder, []byte) error {
	return func(b array.Builder, v []byte) error {
		switch string(v) {
		case "NaN", "Infinity", "-Infinity":
			return fmt.Errorf("is %s, which %s cannot hold; name it under as_text to keep it", v, t)
		}
		if len(v) > 2*schema.MaxDecimalDigits || strings.Trim(string(v), "-.0123456789") != "" { // no exponent
			return fmt.Errorf("%q is not a decimal number", v)
		}
		n, err := decimal128.FromString(string(v), int32(t.Precision), int32(t.Scale))
		if err == nil {
			b.(*array.Decimal128Builder).Append(n)
		}
		return err
	}
}

// civil reads a date that may have more than four digits of year, and gives the days
// since 1970-01-01 and what follows the date.
func civil(s string) (days int64, rest string, err error) {
	var parts [3]int
	for i := range parts {
		end := strings.IndexFunc(s, func(r rune) bool { return r < '0' || r > '9' })
		if end < 0 {
			end = len(s)
		}
		if parts[i], err = strconv.Atoi(s[:end]); err != nil {
			return 0, "", fmt.Errorf("%q is not a date", s)
		}
		s = s[end:]
		if i < 2 {
			s = strings.TrimPrefix(s, "-")
		}
	}
	if rest, bc := strings.CutSuffix(s, " BC"); bc {
		parts[0], s = 1-parts[0], rest
	}
	t := time.Date(parts[0], time.Month(parts[1]), parts[2], 0, 0, 0, 0, time.UTC)
	return t.Unix() / 86400, s, nil // exact: t is a midnight
}

func textDate(b array.Builder, v []byte) error {
	days := int64(schema.InfiniteDate)
	switch string(v) {
	case "infinity":
	case "-infinity":
		days = -days
	default:
		var err error
		if days, _, err = civil(string(v)); err != nil {
			return err
		}
	}
	b.(*array.Date32Builder).Append(arrow.Date32(days))
	return nil
}

// clock reads hours, minutes, seconds and their fraction as microseconds.
func clock(s string) (int64, error) {
	parts := strings.SplitN(s, ":", 3)
	if len(parts) != 3 {
		return 0, fmt.Errorf("%q is not a time", s)
	}
	whole, fraction, _ := strings.Cut(parts[2], ".")
	hours, err1 := strconv.ParseInt(parts[0], 10, 64)
	minutes, err2 := strconv.ParseInt(parts[1], 10, 64)
	seconds, err3 := strconv.ParseInt(whole, 10, 64)
	micros, err4 := strconv.ParseInt((fraction + "000000")[:6], 10, 64)
	if err1 != nil || err2 != nil || err3 != nil || err4 != nil {
		return 0, fmt.Errorf("%q is not a time", s)
	}
	return ((hours*60+minutes)*60+seconds)*1_000_000 + micros, nil
}

func textTime(b array.Builder, v []byte) error {
	us, err := clock(string(v))
	if err == nil {
		b.(*array.Time64Builder).Append(arrow.Time64(us))
	}
	return err
}

func textTimestamp(b array.Builder, v []byte) error {
	us := int64(schema.InfiniteTime)
	switch string(v) {
	case "infinity":
	case "-infinity":
		us = -us
	default:
		days, rest, err := civil(string(v))
		if err != nil {
			return err
		}
		rest = strings.TrimSuffix(strings.TrimPrefix(rest, " "), "+00")
		if us, err = clock(rest); err != nil {
			return err
		}
		if days > (math.MaxInt64-us)/86400e6 {
			return fmt.Errorf("is later than the year 294246, more than can be stored; name it under as_text to keep it")
		}
		us += days * 86400e6
	}
	b.(*array.TimestampBuilder).Append(arrow.Timestamp(us))
	return nil
}

// textInterval reads "1 year 2 mons -3 days +04:05:06.7" (PostgreSQL, Interval Output).
func textInterval(b array.Builder, v []byte) error {
	var x arrow.MonthDayNanoInterval
	fields := strings.Fields(string(v))
	for i := 0; i < len(fields); i++ {
		if strings.Contains(fields[i], ":") {
			sign, text := int64(1), strings.TrimPrefix(fields[i], "+")
			if rest, negative := strings.CutPrefix(text, "-"); negative {
				sign, text = -1, rest
			}
			us, err := clock(text)
			if err != nil {
				return err
			}
			if us > math.MaxInt64/1000 {
				return fmt.Errorf("is an interval with more than 292 years of hours, more than can be stored; name " +
					"it under as_text to keep it")
			}
			x.Nanoseconds = sign * us * 1000
			continue
		}
		n, err := strconv.ParseInt(fields[i], 10, 32)
		if err != nil || i+1 == len(fields) {
			return fmt.Errorf("%q is not an interval", v)
		}
		i++
		switch unit := strings.TrimSuffix(fields[i], "s"); unit {
		case "year":
			x.Months += int32(n) * 12
		case "mon":
			x.Months += int32(n)
		case "day":
			x.Days += int32(n)
		default:
			return fmt.Errorf("%q is not an interval", v)
		}
	}
	b.(*array.MonthDayNanoIntervalBuilder).Append(x)
	return nil
}
