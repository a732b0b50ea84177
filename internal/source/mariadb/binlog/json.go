package binlog

import (
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Types of values in a document (dev.mysql.com/doc/dev/mysql-server/latest/json__binary_8h.html).
const (
	jsonSmallObject = 0
	jsonLargeObject = 1
	jsonSmallArray  = 2
	jsonLargeArray  = 3
	jsonLiteral     = 4
	jsonInt16       = 5
	jsonUint16      = 6
	jsonInt32       = 7
	jsonUint32      = 8
	jsonInt64       = 9
	jsonUint64      = 10
	jsonDouble      = 11
	jsonString      = 12
	jsonOpaque      = 15
)

var errJSON = errors.New("a document of the binary log is not in the form that MySQL stores")

// How deep a document may be nested (MySQL's own bound), and how large its text may be, in bytes.
const (
	mostNested   = 100
	mostDocument = largest
)

// JSON appends the text of a document that MySQL has stored in its own form, as its server
// prints it.
func JSON(out, b []byte) ([]byte, error) {
	if len(b) == 0 { // what the server makes of a document that was never there
		return append(out, "null"...), nil
	}
	return jsonValue(out, b[0], b[1:], 0)
}

// jsonValue appends a value of a type that begins a stretch of bytes.
func jsonValue(out []byte, kind byte, b []byte, depth int) ([]byte, error) {
	r := reader{data: b}
	switch kind {
	case jsonSmallObject, jsonLargeObject, jsonSmallArray, jsonLargeArray:
		if depth >= mostNested {
			return out, errJSON
		}
		return jsonMembers(out, kind, b, depth+1)
	case jsonLiteral:
		n := r.uint(1)
		if r.err != nil || n > 2 {
			return out, errJSON
		}
		return append(out, [...]string{"null", "true", "false"}[n]...), nil
	case jsonInt16:
		out = strconv.AppendInt(out, int64(int16(r.uint(2))), 10)
	case jsonUint16:
		out = strconv.AppendUint(out, r.uint(2), 10)
	case jsonInt32:
		out = strconv.AppendInt(out, int64(int32(r.uint(4))), 10)
	case jsonUint32:
		out = strconv.AppendUint(out, r.uint(4), 10)
	case jsonInt64:
		out = strconv.AppendInt(out, int64(r.uint(8)), 10)
	case jsonUint64:
		out = strconv.AppendUint(out, r.uint(8), 10)
	case jsonDouble:
		out = jsonFloat(out, math.Float64frombits(r.uint(8)))
	case jsonString:
		out = jsonQuoted(out, r.take(r.varying()))
	case jsonOpaque:
		return jsonOther(out, &r)
	default:
		return out, errJSON
	}
	if r.err != nil {
		return out, errJSON
	}
	return out, nil
}

// jsonMembers appends an object or an array: the number of members and of bytes, for each key its
// place and length, for each value its type and its place, or the value where it is short.
func jsonMembers(out []byte, kind byte, b []byte, depth int) ([]byte, error) {
	width, object := 2, kind == jsonSmallObject || kind == jsonLargeObject
	if kind == jsonLargeObject || kind == jsonLargeArray {
		width = 4
	}
	r := reader{data: b}
	n, size := int(r.uint(width)), int(r.uint(width))
	if r.err != nil || size > len(b) || n > size {
		return out, errJSON
	}
	b = b[:size]
	keys := reader{}
	if object {
		keys.data = r.take(n * (width + 2))
	}
	open, closed := byte('['), byte(']')
	if object {
		open, closed = '{', '}'
	}
	out = append(out, open)
	for i := range n {
		if i > 0 {
			out = append(out, ", "...)
		}
		if object {
			from, length := int(keys.uint(width)), int(keys.uint(2))
			if keys.err != nil || from+length > len(b) {
				return out, errJSON
			}
			out = append(jsonQuoted(out, b[from:from+length]), ": "...)
		}
		kind := byte(r.uint(1))
		place := r.take(width)
		if r.err != nil {
			return out, errJSON
		}
		inline := kind == jsonLiteral || kind == jsonInt16 || kind == jsonUint16 ||
			width == 4 && (kind == jsonInt32 || kind == jsonUint32)
		if !inline {
			at := int(Uint(place))
			if at >= len(b) || at < 2*width {
				return out, errJSON
			}
			place = b[at:]
		}
		var err error
		if out, err = jsonValue(out, kind, place, depth); err != nil {
			return out, err
		}
		if len(out) > mostDocument { // members that refer to one another grow without end
			return out, errJSON
		}
	}
	return append(out, closed), nil
}

// jsonOther appends a value of one of the server's own types.
func jsonOther(out []byte, r *reader) ([]byte, error) {
	kind := Type(r.uint(1))
	v := r.take(r.varying())
	if r.err != nil {
		return out, errJSON
	}
	switch kind {
	case NewDecimal:
		if len(v) < 2 {
			return out, errJSON
		}
		out, err := Decimal(out, v[2:], int(v[0]), int(v[1]))
		if err != nil {
			return out, errJSON
		}
		return out, nil
	case Date, DateTime, Timestamp, Time:
		if len(v) != 8 {
			return out, errJSON
		}
		return jsonTime(out, kind, int64(Uint(v))), nil
	}
	out = fmt.Appendf(out, `"base64:type%d:`, kind)
	out = base64.StdEncoding.AppendEncode(out, v)
	return append(out, '"'), nil
}

// jsonTime appends a date or a time: the parts of a second in the lower 24 bits, above them those of
// the time and of the date, as in a column.
func jsonTime(out []byte, kind Type, packed int64) []byte {
	sign := ""
	if packed < 0 {
		sign, packed = "-", -packed
	}
	micros, n := packed&(1<<24-1), packed>>24
	clock, date := n&(1<<17-1), n>>17
	month := date >> 5
	switch kind {
	case Date:
		return fmt.Appendf(out, `"%04d-%02d-%02d"`, month/13, month%13, date&31)
	case Time:
		return fmt.Appendf(out, `"%s%02d:%02d:%02d.%06d"`, sign, n>>12&1023, n>>6&63, n&63, micros)
	}
	return fmt.Appendf(out, `"%04d-%02d-%02d %02d:%02d:%02d.%06d"`, month/13, month%13, date&31, clock>>12,
		clock>>6&63, clock&63, micros)
}

// jsonFloat appends a double: in digits where its point lies within 15 of them, else with an
// exponent; a whole one with .0.
func jsonFloat(out []byte, f float64) []byte {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return append(out, "null"...)
	}
	digits, exponent, _ := strings.Cut(strconv.FormatFloat(f, 'e', -1, 64), "e")
	n, _ := strconv.Atoi(exponent)
	if point := n + 1; f != 0 && (point < -14 || point > 15) {
		return fmt.Appendf(out, "%se%d", digits, n)
	}
	text := strconv.FormatFloat(f, 'f', -1, 64)
	if !strings.Contains(text, ".") {
		text += ".0"
	}
	return append(out, text...)
}

// jsonQuoted appends a text as RFC 8259 quotes it.
func jsonQuoted(out, text []byte) []byte {
	out = append(out, '"')
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		switch {
		case r == '"' || r == '\\':
			out = append(out, '\\', byte(r))
		case r == '\b':
			out = append(out, `\b`...)
		case r == '\f':
			out = append(out, `\f`...)
		case r == '\n':
			out = append(out, `\n`...)
		case r == '\r':
			out = append(out, `\r`...)
		case r == '\t':
			out = append(out, `\t`...)
		case r < ' ':
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, text[:size]...)
		}
		text = text[size:]
	}
	return append(out, '"')
}

// varying reads a number of seven bits in each byte, the lowest first; the highest bit says that
// more follow.
func (r *reader) varying() (n int) {
	for i := range 5 {
		b := r.uint(1)
		n |= int(b&0x7f) << (7 * i)
		if b&0x80 == 0 {
			return n
		}
	}
	r.err = errShort
	return 0
}
