package schema

import (
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/google/uuid"
)

// Infinite dates and times travel as the largest value and its negation, in
// days or microseconds.
const (
	InfiniteDate = math.MaxInt32
	InfiniteTime = math.MaxInt64
)

// Arrow is the Arrow type that columns of this type travel as.
func (t Type) Arrow() arrow.DataType {
	switch t.Kind {
	case Bool:
		return arrow.FixedWidthTypes.Boolean
	case Int16:
		return arrow.PrimitiveTypes.Int16
	case Int32:
		return arrow.PrimitiveTypes.Int32
	case Int64:
		return arrow.PrimitiveTypes.Int64
	case Float32:
		return arrow.PrimitiveTypes.Float32
	case Float64:
		return arrow.PrimitiveTypes.Float64
	case Decimal:
		return &arrow.Decimal128Type{Precision: int32(t.Precision), Scale: int32(t.Scale)}
	case Bytes:
		return arrow.BinaryTypes.Binary
	case Date:
		return arrow.FixedWidthTypes.Date32
	case Time:
		return arrow.FixedWidthTypes.Time64us
	case Timestamp:
		return &arrow.TimestampType{Unit: arrow.Microsecond}
	case TimestampTZ:
		return &arrow.TimestampType{Unit: arrow.Microsecond, TimeZone: "UTC"}
	case Interval:
		return arrow.FixedWidthTypes.MonthDayNanoInterval
	case UUID:
		return &arrow.FixedSizeBinaryType{ByteWidth: 16}
	default: // Text, Numeric, JSON
		return arrow.BinaryTypes.String
	}
}

// Arrow is the Arrow schema of rows with these columns.
func Arrow(columns []Column) *arrow.Schema {
	fields := make([]arrow.Field, len(columns))
	for i, c := range columns {
		fields[i] = arrow.Field{Name: c.Name, Type: c.Type.Arrow(), Nullable: true}
		if c.Type.Kind == UUID {
			fields[i].Metadata = uuidMetadata
		}
	}
	return arrow.NewSchema(fields, nil)
}

// uuidMetadata marks 16 bytes as a UUID (Arrow columnar format, canonical
// extension types).
var uuidMetadata = arrow.NewMetadata([]string{"ARROW:extension:name", "ARROW:extension:metadata"},
	[]string{"arrow.uuid", ""})

// CellText gives one value as text, in a form that is the same whichever
// database the column was read from. It returns false for null.
func CellText(column arrow.Array, row int, t Type) (string, bool) {
	if column.IsNull(row) {
		return "", false
	}
	switch c := column.(type) {
	case *array.Boolean:
		return strconv.FormatBool(c.Value(row)), true
	case *array.Int16:
		return strconv.FormatInt(int64(c.Value(row)), 10), true
	case *array.Int32:
		return strconv.FormatInt(int64(c.Value(row)), 10), true
	case *array.Int64:
		return strconv.FormatInt(c.Value(row), 10), true
	case *array.Float32:
		return strconv.FormatFloat(float64(c.Value(row)), 'g', -1, 32), true
	case *array.Float64:
		return strconv.FormatFloat(c.Value(row), 'g', -1, 64), true
	case *array.Decimal128:
		return c.Value(row).ToString(int32(t.Scale)), true
	case *array.String:
		return c.Value(row), true
	case *array.Binary:
		return `\x` + hex.EncodeToString(c.Value(row)), true
	case *array.Date32:
		return DateText(int32(c.Value(row))), true
	case *array.Time64:
		return timeText(int64(c.Value(row))), true
	case *array.Timestamp:
		if t.Kind == TimestampTZ {
			return TimestampTZText(int64(c.Value(row))), true
		}
		return TimestampText(int64(c.Value(row))), true
	case *array.MonthDayNanoInterval:
		v := c.Value(row)
		return fmt.Sprintf("%d months %d days %d us", v.Months, v.Days, v.Nanoseconds/1000), true
	case *array.FixedSizeBinary:
		if id, err := uuid.FromBytes(c.Value(row)); err == nil {
			return id.String(), true
		}
	}
	return column.ValueStr(row), true
}

// DateText writes days since 1970-01-01 as a date.
func DateText(days int32) string {
	switch days {
	case InfiniteDate:
		return "infinity"
	case -InfiniteDate:
		return "-infinity"
	}
	return eraText(time.Unix(int64(days)*86400, 0).UTC(), "-01-02")
}

// TimestampText writes microseconds since 1970-01-01 without a zone.
func TimestampText(us int64) string { return timestampText(us, "-01-02T15:04:05.000000") }

// TimestampTZText writes microseconds since 1970-01-01 UTC with its zone.
func TimestampTZText(us int64) string { return timestampText(us, "-01-02T15:04:05.000000Z") }

func timestampText(us int64, layout string) string {
	switch us {
	case InfiniteTime:
		return "infinity"
	case -InfiniteTime:
		return "-infinity"
	}
	return eraText(time.UnixMicro(us).UTC(), layout)
}

// eraText writes years before the common era the way SQL databases do.
func eraText(t time.Time, layout string) string {
	year, era := t.Year(), ""
	if year <= 0 {
		year, era = 1-year, " BC"
	}
	return fmt.Sprintf("%04d", year) + t.Format(layout) + era
}

// Days is the day that holds an instant, both counted from 1970-01-01.
func Days(us int64) int32 {
	days := us / 86400e6
	if us%86400e6 < 0 {
		days--
	}
	return int32(days)
}

func timeText(us int64) string {
	s := us / 1e6
	return fmt.Sprintf("%02d:%02d:%02d.%06d", s/3600, s/60%60, s%60, us%1e6)
}

// ParseTimestamp reads what TimestampText or TimestampTZText wrote, and the
// shorter forms a person would type: a date, or a time without fractions.
func ParseTimestamp(s string) (int64, error) {
	switch s {
	case "infinity":
		return InfiniteTime, nil
	case "-infinity":
		return -InfiniteTime, nil
	}
	text, bc := strings.CutSuffix(s, " BC")
	for _, layout := range []string{"2006-01-02T15:04:05.999999Z07:00", "2006-01-02T15:04:05.999999",
		"2006-01-02 15:04:05.999999", "2006-01-02 15:04:05.999999Z07:00", "2006-01-02 15:04:05.999999Z07", "2006-01-02"} {
		t, err := time.Parse(layout, text)
		if err != nil {
			continue
		}
		if bc {
			// Not AddDate: 29 February of a leap year BC has no twin in the year it was parsed as.
			t = time.Date(1-t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(),
				t.Location())
		}
		return t.UnixMicro(), nil
	}
	return 0, fmt.Errorf("%q is not a time: write it as 2026-11-23T08:30:00Z", s)
}
