package shape

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/schema"
)

// A value is hashed in a form that tells its family and is the same for all types of it, so
// that 7 is 7 whatever its column's width. docs/shaping.md has the forms.

// hashed is a column of HMAC-SHA-256 (RFC 2104, FIPS 180-4) in hexadecimal digits. Null stays null.
func hashed(column arrow.Array, t schema.Type, key []byte) arrow.Array {
	b := array.NewStringBuilder(allocator)
	defer b.Release()
	b.Reserve(column.Len())
	mac := hmac.New(sha256.New, key)
	var sum, digits [2 * sha256.Size]byte
	for i := range column.Len() {
		if column.IsNull(i) {
			b.AppendNull()
			continue
		}
		mac.Reset()
		writeForm(mac, column, i, t)
		hex.Encode(digits[:], mac.Sum(sum[:0]))
		b.BinaryBuilder.Append(digits[:])
	}
	return b.NewArray()
}

// hashText hashes a value that is known as text, as schema.CellText writes it.
func (s *Shape) hashText(c schema.Column, text string) string {
	mac := hmac.New(sha256.New, s.hashKeys[c.Name])
	mac.Write([]byte(formOf(c.Type, text)))
	return hex.EncodeToString(mac.Sum(nil))
}

func writeForm(h hash.Hash, column arrow.Array, row int, t schema.Type) {
	var room [24]byte
	switch c := column.(type) {
	case *array.String:
		if t.Kind == schema.Text {
			h.Write([]byte{'t', ':'})
			h.Write([]byte(c.Value(row)))
			return
		}
	case *array.Int64:
		h.Write(strconv.AppendInt(append(room[:0], "n:"...), c.Value(row), 10))
		return
	case *array.Int32:
		h.Write(strconv.AppendInt(append(room[:0], "n:"...), int64(c.Value(row)), 10))
		return
	}
	text, _ := schema.CellText(column, row, t)
	h.Write([]byte(formOf(t, text)))
}

// formOf is the form of a value that is known as text, as schema.CellText writes it.
func formOf(t schema.Type, text string) string {
	switch t.Kind {
	case schema.Int16, schema.Int32, schema.Int64, schema.Decimal, schema.Numeric:
		return "n:" + plainNumber(text)
	case schema.Float32, schema.Float64:
		if f, err := strconv.ParseFloat(text, 64); err == nil && t.Kind == schema.Float64 {
			text = strconv.FormatFloat(f, 'f', -1, 64)
		} else if err == nil {
			text = strconv.FormatFloat(f, 'f', -1, 32)
		}
		return "n:" + plainNumber(text)
	case schema.Text:
		return "t:" + text
	}
	return string(t.Kind) + ":" + text
}

// plainNumber writes a number without what does not change it: 7.00 and 7 are the same.
func plainNumber(text string) string {
	if strings.Contains(text, ".") {
		text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	if text == "-0" {
		return "0"
	}
	return text
}
