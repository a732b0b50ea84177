package mariadb

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/google/uuid"

	"noemata/internal/core/schema"
	"noemata/internal/source/mariadb/binlog"
)

// described is a column as the catalogue describes it.
type described struct {
	name, kind, native, charset string
	precision, scale            int
	bytes                       int64
	generated, json             bool
	comment                     string
}

// Ways to read a column: the first word of Column.Wire. Where it is empty, the value is
// read as the text that the server prints, and cannot be read from the log.
const (
	wayInt      = "int"
	wayUint     = "uint"
	wayDecimal  = "decimal"
	wayFloat    = "float"
	wayYear     = "year"
	wayDate     = "date"
	wayDateTime = "datetime"
	wayMoment   = "timestamp"
	wayTime     = "time"
	wayBit      = "bit"
	wayText     = "text"  // and its character set
	wayBytes    = "bytes" // of any length
	wayFixed    = "fixed" // and how many bytes it has
	wayEnum     = "enum"  // and its values, as the catalogue writes them
	waySet      = "set"   // likewise
	wayShape    = "shape" // a geometry
	wayJSON     = "json"  // a document in the server's own form
	wayUUID     = "uuid"  //
	wayInet     = "inet"  // and how many bytes it has
	wayUnknown  = ""
)

// typed maps the server's type to one of ours (docs/source-mariadb.md has the table).
func (d described) typed() (schema.Type, string) {
	kind := func(k schema.Kind, way string) (schema.Type, string) { return schema.Type{Kind: k}, way }
	unsigned := strings.Contains(d.native, "unsigned")
	switch d.kind {
	case "tinyint":
		if unsigned {
			return kind(schema.Int16, wayUint)
		}
		return kind(schema.Int16, wayInt)
	case "smallint":
		if unsigned {
			return kind(schema.Int32, wayUint)
		}
		return kind(schema.Int16, wayInt)
	case "mediumint":
		if unsigned {
			return kind(schema.Int32, wayUint)
		}
		return kind(schema.Int32, wayInt)
	case "int":
		if unsigned {
			return kind(schema.Int64, wayUint)
		}
		return kind(schema.Int32, wayInt)
	case "bigint":
		if unsigned {
			return schema.Type{Kind: schema.Decimal, Precision: 20}, wayUint
		}
		return kind(schema.Int64, wayInt)
	case "decimal":
		if d.precision > schema.MaxDecimalDigits {
			return kind(schema.Numeric, wayDecimal)
		}
		return schema.Type{Kind: schema.Decimal, Precision: d.precision, Scale: d.scale}, wayDecimal
	case "float":
		return kind(schema.Float32, wayFloat)
	case "double":
		return kind(schema.Float64, wayFloat)
	case "year":
		return kind(schema.Int16, wayYear)
	case "date":
		return kind(schema.Date, wayDate)
	case "datetime":
		return kind(schema.Timestamp, wayDateTime)
	case "timestamp":
		return kind(schema.TimestampTZ, wayMoment)
	case "time":
		return kind(schema.Interval, wayTime)
	case "bit":
		if d.precision == 1 {
			return kind(schema.Bool, wayBit)
		}
		return kind(schema.Text, fmt.Sprintf("%s %d", wayBit, d.precision))
	case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
		if d.json {
			return kind(schema.JSON, wayText+" "+d.charset)
		}
		return kind(schema.Text, wayText+" "+d.charset)
	case "json":
		return kind(schema.JSON, wayJSON)
	case "binary":
		return kind(schema.Bytes, fmt.Sprintf("%s %d", wayFixed, d.bytes))
	case "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		return kind(schema.Bytes, wayBytes)
	case "enum":
		return kind(schema.Text, wayEnum+" "+d.native)
	case "set":
		return kind(schema.Text, waySet+" "+d.native)
	case "uuid":
		return kind(schema.UUID, wayUUID)
	case "inet6":
		return kind(schema.Text, wayInet+" 16")
	case "inet4":
		return kind(schema.Text, wayInet+" 4")
	case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geometrycollection":
		return kind(schema.Bytes, wayShape)
	}
	return kind(schema.Text, wayUnknown)
}

// expression selects a column, or its default, in the form that codec.text reads.
func expression(c schema.Column, name string) string {
	way, rest, _ := strings.Cut(c.Wire, " ")
	switch way {
	case wayFloat: // a float is printed with fewer digits than it has
		return name + " * 1e0"
	case wayYear, wayInt, wayUint:
		return name
	case wayBit:
		if rest != "" {
			return "LPAD(BIN(" + name + " + 0), " + rest + ", '0')"
		}
		return name + " + 0"
	case wayShape:
		return "ST_AsWKB(" + name + ")"
	case wayUnknown:
		return "CAST(" + name + " AS CHAR)"
	}
	return name
}

// scalar is one value on its way into a column: a number, the bits of a float, a decimal
// of which high has the upper half, or bytes.
type scalar struct {
	null    bool
	i, high int64
	b       []byte
}

func floatOf(f float64) scalar { return scalar{i: int64(math.Float64bits(f))} }

func decimalScalar(d decimal128.Num) scalar { return scalar{i: int64(d.LowBits()), high: d.HighBits()} }

// codec reads the values of one column. A reason is a predicate that says why a value
// cannot be stored.
type codec struct {
	text func(v []byte) (x scalar, reason string)
	log  func(v []byte, c *binlog.Column) (x scalar, reason string)
	put  func(b array.Builder, x scalar)
}

const nowhere = "has a value that is not a date in any calendar"

// codecOf makes the codec of a column. charset decodes the texts of the log.
//
// Longer than a screen: it has a case for each type, and each is short.
func codecOf(c schema.Column, charset func([]byte) []byte) codec {
	way, rest, _ := strings.Cut(c.Wire, " ")
	k := codec{put: putOf(c.Type)}
	number := func(v []byte) (scalar, string) {
		n, err := strconv.ParseInt(string(v), 10, 64)
		return scalar{i: n}, reasonOf(err)
	}
	asText := func(v []byte) (scalar, string) { return scalar{b: v}, textReason(v) }
	switch way {
	case wayInt:
		k.text = number
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) { return scalar{i: binlog.Int(v)}, "" }
	case wayUint:
		k.text = number
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) { return scalar{i: int64(binlog.Uint(v))}, "" }
		if c.Type.Kind == schema.Decimal {
			k.text = func(v []byte) (scalar, string) {
				n, err := strconv.ParseUint(string(v), 10, 64)
				return scalar{i: int64(n)}, reasonOf(err)
			}
			k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
				return scalar{i: int64(binlog.Uint(v))}, ""
			}
		}
	case wayDecimal:
		k.text = func(v []byte) (scalar, string) { return decimalOf(v, c.Type) }
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			digits, err := binlog.Decimal(make([]byte, 0, 72), v, l.Size, l.Scale)
			if err != nil {
				return scalar{}, reasonOf(err)
			}
			return decimalOf(digits, c.Type)
		}
	case wayFloat:
		k.text = func(v []byte) (scalar, string) {
			f, err := strconv.ParseFloat(string(v), 64)
			return floatOf(f), reasonOf(err)
		}
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
			if len(v) == 4 {
				return floatOf(float64(math.Float32frombits(binlog.Float32Bits(v)))), ""
			}
			return scalar{i: int64(binlog.Float64Bits(v))}, ""
		}
	case wayYear:
		k.text = number
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
			if v[0] == 0 {
				return scalar{}, ""
			}
			return scalar{i: int64(v[0]) + 1900}, ""
		}
	case wayDate, wayDateTime:
		k.text = func(v []byte) (scalar, string) { return dateOf(partsOf(v), c.Type) }
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			switch l.Type {
			case binlog.DateTime2:
				return dateOf(binlog.DateTimeParts(v, l.Scale), c.Type)
			case binlog.DateTime:
				return dateOf(binlog.OldDateTimeParts(v), c.Type)
			}
			return dateOf(binlog.DateParts(v), c.Type)
		}
	case wayMoment:
		k.text = func(v []byte) (scalar, string) { return dateOf(partsOf(v), c.Type) }
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			seconds, micros := int64(binlog.Uint(v)), 0
			if l.Type == binlog.Timestamp2 {
				seconds, micros = binlog.Seconds(v, l.Scale)
			}
			if seconds == 0 && micros == 0 {
				return scalar{i: -schema.InfiniteTime}, ""
			}
			return scalar{i: seconds*1_000_000 + int64(micros)}, ""
		}
	case wayTime:
		k.text = timeOf
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			if l.Type == binlog.Time {
				return scalar{i: binlog.OldTimeMicros(v)}, ""
			}
			return scalar{i: binlog.TimeMicros(v, l.Scale)}, ""
		}
	case wayBit:
		if rest == "" {
			k.text = number
			k.log = func(v []byte, _ *binlog.Column) (scalar, string) { return scalar{i: int64(binlog.Bits(v))}, "" }
			break
		}
		k.text = asText
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			return scalar{b: fmt.Appendf(nil, "%0*b", l.Size, binlog.Bits(v))}, ""
		}
	case wayText:
		k.text = asText
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			if l.Type == binlog.BlobCompressed || l.Type == binlog.VarCharCompressed {
				var err error
				if v, err = binlog.Expand(v); err != nil {
					return scalar{}, reasonOf(err)
				}
			}
			return asText(charset(v))
		}
	case wayBytes, wayFixed:
		k.text = func(v []byte) (scalar, string) { return scalar{b: v}, "" }
		length, _ := strconv.Atoi(rest)
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			if l.Type == binlog.BlobCompressed || l.Type == binlog.VarCharCompressed {
				var err error
				v, err = binlog.Expand(v)
				return scalar{b: v}, reasonOf(err)
			}
			return scalar{b: padded(v, length)}, ""
		}
	case wayShape:
		k.text = func(v []byte) (scalar, string) { return scalar{b: v}, "" }
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
			return scalar{b: v[min(4, len(v)):]}, "" // the number of the reference system stands before it
		}
	case wayJSON:
		k.text = asText
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
			text, err := binlog.JSON(nil, v)
			if err != nil {
				return scalar{}, reasonOf(err)
			}
			return asText(text)
		}
	case wayEnum, waySet:
		values := valuesOf(rest)
		k.text = asText
		k.log = func(v []byte, l *binlog.Column) (scalar, string) {
			names := values
			if l.Values != nil {
				names = l.Values
			}
			return chosen(binlog.Uint(v), names, way == waySet)
		}
	case wayUUID:
		k.text = func(v []byte) (scalar, string) {
			id, err := uuid.ParseBytes(v)
			return scalar{b: id[:]}, reasonOf(err)
		}
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
			if len(v) > 16 {
				return scalar{}, "has a value that is not a UUID"
			}
			return scalar{b: uuidOf(padded(v, 16))}, ""
		}
	case wayInet:
		length, _ := strconv.Atoi(rest)
		k.text = asText
		k.log = func(v []byte, _ *binlog.Column) (scalar, string) {
			if len(v) > length {
				return scalar{}, "has a value that is not an address"
			}
			return scalar{b: []byte(addressOf(padded(v, length)))}, ""
		}
	default:
		k.text = asText
		k.log = func([]byte, *binlog.Column) (scalar, string) {
			return scalar{}, "has a type that cannot be read from the log"
		}
	}
	return k
}

func reasonOf(err error) string {
	if err == nil {
		return ""
	}
	return "has a value that cannot be read: " + err.Error()
}

// textReason tells why a text cannot be stored everywhere.
func textReason(v []byte) string {
	switch {
	case bytes.IndexByte(v, 0) >= 0:
		return "has a text with a zero character, which not every warehouse can store"
	case !utf8.Valid(v):
		return "has a text that is not valid in its character set"
	}
	return ""
}

// padded gives back the zero bytes that the log leaves out at the end of a fixed length.
func padded(v []byte, length int) []byte {
	if len(v) >= length {
		return v
	}
	return append(slices.Clone(v), make([]byte, length-len(v))...)
}

func decimalOf(v []byte, t schema.Type) (scalar, string) {
	if t.Kind == schema.Numeric {
		return scalar{b: v}, ""
	}
	if len(v) <= 18 { // the usual case, without the point in 64 bits
		n, negative, digits := int64(0), false, 0
		point := -1
		for i, c := range v {
			switch {
			case c == '-' && i == 0:
				negative = true
			case c == '.' && point < 0:
				point = digits
			case c >= '0' && c <= '9':
				n = n*10 + int64(c-'0')
				digits++
			default:
				return scalar{}, "has a value that is not a number"
			}
		}
		after := 0
		if point >= 0 {
			after = digits - point
		}
		if negative {
			n = -n
		}
		if after == t.Scale {
			return scalar{i: n, high: n >> 63}, ""
		}
	}
	if len(v) > 2*schema.MaxDecimalDigits || len(bytes.Trim(v, "-.0123456789")) > 0 { // no exponent
		return scalar{}, "has a value that is not a number"
	}
	d, err := decimal128.FromString(string(v), int32(t.Precision), int32(t.Scale))
	return decimalScalar(d), reasonOf(err)
}

// partsOf reads a date, or a date and time, as the server prints it.
func partsOf(v []byte) (p binlog.Parts) {
	at := 0
	number := func() (n int) {
		for at < len(v) && v[at] >= '0' && v[at] <= '9' {
			n = n*10 + int(v[at]-'0')
			at++
		}
		at++
		return n
	}
	p.Year, p.Month, p.Day = number(), number(), number()
	if at < len(v) {
		p.Hour, p.Minute, p.Second = number(), number(), number()
	}
	if from := at; at < len(v) {
		p.Micro = number()
		for range 6 - (len(v) - from) {
			p.Micro *= 10
		}
	}
	return p
}

// dateOf is the value of a date or a time. The zero date, which stands before all others,
// travels as -infinity. A date with a zero in it is set aside.
func dateOf(p binlog.Parts, t schema.Type) (scalar, string) {
	if p == (binlog.Parts{}) {
		if t.Kind == schema.Date {
			return scalar{i: -schema.InfiniteDate}, ""
		}
		return scalar{i: -schema.InfiniteTime}, ""
	}
	if p.Month < 1 || p.Month > 12 || p.Day < 1 || p.Day > daysOf(p.Year, p.Month) || p.Year == 0 {
		return scalar{}, fmt.Sprintf("%s: %04d-%02d-%02d", nowhere, p.Year, p.Month, p.Day)
	}
	days := daysSince1970(p.Year, p.Month, p.Day)
	if t.Kind == schema.Date {
		return scalar{i: days}, ""
	}
	return scalar{i: ((days*24+int64(p.Hour))*60+int64(p.Minute))*60_000_000 + int64(p.Second)*1_000_000 +
		int64(p.Micro)}, ""
}

func daysOf(year, month int) int {
	switch month {
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

// daysSince1970 counts the days to a date of the Gregorian calendar, in years that begin in
// March, so that the leap day is the last.
func daysSince1970(year, month, day int) int64 {
	if month < 3 {
		year, month = year-1, month+12
	}
	return int64(365*year + year/4 - year/100 + year/400 + (153*(month-3)+2)/5 + day - 719_469)
}

// timeOf reads a length of time as the server prints it, up to 838 hours.
func timeOf(v []byte) (scalar, string) {
	text, negative := bytes.CutPrefix(v, []byte("-"))
	parts := bytes.FieldsFunc(text, func(r rune) bool { return r == ':' || r == '.' })
	if len(parts) < 3 {
		return scalar{}, "has a value that is not a time"
	}
	var n [4]int64
	for i, p := range parts[:min(len(parts), 4)] {
		for _, c := range p {
			n[i] = n[i]*10 + int64(c-'0')
		}
	}
	if len(parts) == 4 {
		for range 6 - len(parts[3]) {
			n[3] *= 10
		}
	}
	micros := ((n[0]*60+n[1])*60+n[2])*1_000_000 + n[3]
	if negative {
		micros = -micros
	}
	return scalar{i: micros}, ""
}

// valuesOf reads the values of an enum or a set as the catalogue writes them.
func valuesOf(native string) (values []string) {
	_, list, _ := strings.Cut(native, "(")
	for {
		_, rest, open := strings.Cut(list, "'")
		if !open {
			return values
		}
		var value strings.Builder
		for {
			part, after, _ := strings.Cut(rest, "'")
			value.WriteString(part)
			if !strings.HasPrefix(after, "'") {
				list = after
				break
			}
			value.WriteByte('\'')
			rest = after[1:]
		}
		values = append(values, value.String())
	}
}

// chosen is the text of an enum's number, or of a set's bits.
func chosen(n uint64, names []string, set bool) (scalar, string) {
	if !set {
		switch {
		case n == 0:
			return scalar{b: []byte{}}, "" // what an invalid value becomes
		case n > uint64(len(names)):
			return scalar{}, fmt.Sprintf("has value number %d of an enum of %d", n, len(names))
		}
		return scalar{b: []byte(names[n-1])}, ""
	}
	out := []byte{}
	for i, name := range names {
		if n>>i&1 == 1 {
			if len(out) > 0 {
				out = append(out, ',')
			}
			out = append(out, name...)
		}
	}
	return scalar{b: out}, ""
}

// uuidOf puts the parts of a UUID in their order. The server stores those of versions 1 to
// 5 with the node first, so that they sort by time.
func uuidOf(v []byte) []byte {
	if v[6]&0x80 == 0 || v[8] == 0 || v[8] >= 0x60 {
		return v
	}
	out := make([]byte, 0, 16)
	for _, part := range [][2]int{{12, 16}, {10, 12}, {8, 10}, {6, 8}, {0, 6}} {
		out = append(out, v[part[0]:part[1]]...)
	}
	return out
}

// addressOf prints an address as the server does.
func addressOf(v []byte) string {
	a, _ := netip.AddrFromSlice(v)
	compatible := len(v) == 16 && bytes.Equal(v[:12], make([]byte, 12)) && binary.BigEndian.Uint32(v[12:]) > 0xffff
	if compatible {
		return "::" + netip.AddrFrom4([4]byte(v[12:])).String()
	}
	return a.String()
}

// putOf appends values of a type.
func putOf(t schema.Type) func(array.Builder, scalar) {
	switch t.Kind {
	case schema.Bool:
		return func(b array.Builder, x scalar) { b.(*array.BooleanBuilder).Append(x.i != 0) }
	case schema.Int16:
		return func(b array.Builder, x scalar) { b.(*array.Int16Builder).Append(int16(x.i)) }
	case schema.Int32:
		return func(b array.Builder, x scalar) { b.(*array.Int32Builder).Append(int32(x.i)) }
	case schema.Int64:
		return func(b array.Builder, x scalar) { b.(*array.Int64Builder).Append(x.i) }
	case schema.Float32:
		return func(b array.Builder, x scalar) {
			b.(*array.Float32Builder).Append(float32(math.Float64frombits(uint64(x.i))))
		}
	case schema.Float64:
		return func(b array.Builder, x scalar) { b.(*array.Float64Builder).Append(math.Float64frombits(uint64(x.i))) }
	case schema.Decimal:
		return func(b array.Builder, x scalar) {
			b.(*array.Decimal128Builder).Append(decimal128.New(x.high, uint64(x.i)))
		}
	case schema.Bytes:
		return func(b array.Builder, x scalar) { b.(*array.BinaryBuilder).Append(x.b) }
	case schema.Date:
		return func(b array.Builder, x scalar) { b.(*array.Date32Builder).Append(arrow.Date32(x.i)) }
	case schema.Timestamp, schema.TimestampTZ:
		return func(b array.Builder, x scalar) { b.(*array.TimestampBuilder).Append(arrow.Timestamp(x.i)) }
	case schema.Interval:
		return func(b array.Builder, x scalar) {
			b.(*array.MonthDayNanoIntervalBuilder).Append(arrow.MonthDayNanoInterval{Nanoseconds: x.i * 1000})
		}
	case schema.UUID:
		return func(b array.Builder, x scalar) { b.(*array.FixedSizeBinaryBuilder).Append(x.b) }
	}
	return func(b array.Builder, x scalar) { b.(*array.StringBuilder).BinaryBuilder.Append(x.b) }
}
