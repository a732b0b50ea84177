package sqlite

import (
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/schema"
)

// Ways to read a column, which are its Wire: by which values it has, whatever its type says, it is known which can be
// stored. Where it is empty every value is read as text.
const (
	wayInteger = "integer"
	wayReal    = "real"
	wayText    = "text"
	wayBytes   = "blob"
	wayNumeric = "numeric"
	wayBool    = "boolean"
	wayAny     = ""
)

// typed maps a declared type by its affinity (sqlite.org/datatype3.html, 3.1), and those that promise more by their
// name. Dates and times are texts or numbers to SQLite, and come as it has them.
func typed(declared string) (schema.Type, string) {
	d := strings.ToUpper(declared)
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(d, p) {
				return true
			}
		}
		return false
	}
	kind := func(k schema.Kind, way string) (schema.Type, string) { return schema.Type{Kind: k}, way }
	switch {
	case has("INT"):
		return kind(schema.Int64, wayInteger)
	case has("CHAR", "CLOB", "TEXT"):
		return kind(schema.Text, wayText)
	case has("BLOB"):
		return kind(schema.Bytes, wayBytes)
	case has("REAL", "FLOA", "DOUB"):
		return kind(schema.Float64, wayReal)
	case has("BOOL"):
		return kind(schema.Bool, wayBool)
	case has("DECIMAL", "NUMERIC", "NUMBER", "MONEY"):
		return kind(schema.Numeric, wayNumeric)
	}
	return kind(schema.Text, wayAny)
}

// storage says what a value is to SQLite.
func storage(v any) string {
	switch v.(type) {
	case int64:
		return "an integer"
	case float64:
		return "a real number"
	case string:
		return "a text"
	case []byte:
		return "bytes"
	}
	return "a value of another kind"
}

// misfit tells what is in the way of a value that cannot be stored in a column; empty for nothing.
func misfit(way string, v any) string {
	fits, promised := true, ""
	switch way {
	case wayInteger:
		_, fits = v.(int64)
		promised = "integers"
	case wayBool:
		fits, promised = v == int64(0) || v == int64(1), "0 and 1"
	case wayReal, wayNumeric:
		switch v.(type) {
		case int64, float64:
		default:
			fits, promised = false, "numbers"
		}
	case wayBytes:
		_, fits = v.([]byte)
		promised = "bytes"
	case wayText:
		_, fits = v.(string)
		promised = "texts"
	}
	if !fits {
		return fmt.Sprintf("is %s, where its type promises %s; name it under as_text to keep it", storage(v), promised)
	}
	if text, is := v.(string); is && !utf8.ValidString(text) {
		return "holds bytes that are not text in UTF-8"
	}
	return ""
}

// put appends a value that fits to a column.
func put(b array.Builder, v any) {
	switch b := b.(type) {
	case *array.Int64Builder:
		b.Append(v.(int64))
	case *array.BooleanBuilder:
		b.Append(v == int64(1))
	case *array.BinaryBuilder:
		b.Append(v.([]byte))
	case *array.Float64Builder:
		if n, is := v.(int64); is { // of a view: a table's column would have made it a real number
			b.Append(float64(n))
		} else {
			b.Append(v.(float64))
		}
	case *array.StringBuilder:
		b.Append(printed(v))
	}
}

// printed is a value as a text: the digits of a number that tell it from every other one, and bytes in hexadecimal.
func printed(v any) string {
	switch x := v.(type) {
	case int64:
		return strconv.FormatInt(x, 10)
	case float64:
		switch {
		case math.IsInf(x, 1):
			return "Infinity"
		case math.IsInf(x, -1):
			return "-Infinity"
		case math.Abs(x) >= 1e-6 && math.Abs(x) < 1e21 || x == 0:
			return strconv.FormatFloat(x, 'f', -1, 64)
		}
		return strconv.FormatFloat(x, 'e', -1, 64)
	case string:
		return x
	case []byte:
		return `\x` + hex.EncodeToString(x)
	}
	return fmt.Sprint(v)
}

// shown is a value that cannot be stored, for a person.
func shown(v any) string {
	return strings.ToValidUTF8(strings.ReplaceAll(printed(v), "\x00", `\0`), "\uFFFD")
}

// literal writes a value, given as schema.CellText has it, as an SQL literal.
func literal(c schema.Column, value string) string {
	switch c.Type.Kind {
	case schema.Int64, schema.Numeric, schema.Float64:
		f, err := strconv.ParseFloat(value, 64)
		switch {
		case err != nil || math.IsNaN(f):
		case math.IsInf(f, 1):
			return "9e999"
		case math.IsInf(f, -1):
			return "-9e999"
		default:
			return value
		}
	case schema.Bool:
		return map[bool]string{true: "1", false: "0"}[value == "true"]
	case schema.Bytes:
		if content, ok := strings.CutPrefix(value, `\x`); ok {
			if _, err := hex.DecodeString(content); err == nil {
				return "X'" + content + "'"
			}
		}
	}
	if strings.ContainsRune(value, 0) {
		return fmt.Sprintf("CAST(X'%x' AS TEXT)", value)
	}
	return schema.Literal(value)
}
