package binlog_test

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/source/mariadb/binlog"
)

// stored writes a value as MySQL stores it in a document: its type, and its bytes. Large ones have places
// of four bytes.
func stored(v any, large bool) (kind byte, out []byte) {
	le := binary.LittleEndian
	switch v := v.(type) {
	case nil:
		return 4, []byte{0}
	case bool:
		return 4, []byte{map[bool]byte{true: 1, false: 2}[v]}
	case int64:
		switch {
		case v == int64(int16(v)):
			return 5, le.AppendUint16(nil, uint16(v))
		case v == int64(int32(v)):
			return 7, le.AppendUint32(nil, uint32(v))
		}
		return 9, le.AppendUint64(nil, uint64(v))
	case float64:
		return 11, le.AppendUint64(nil, math.Float64bits(v))
	case string:
		n := len(v)
		for ; n >= 0x80; n >>= 7 {
			out = append(out, byte(n)|0x80)
		}
		return 12, append(append(out, byte(n)), v...)
	case []any:
		return members(2, nil, v, large)
	case map[string]any:
		var keys []string
		for k := range v {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		var values []any
		for _, k := range keys {
			values = append(values, v[k])
		}
		return members(0, keys, values, large)
	}
	panic(fmt.Sprintf("%T", v))
}

func members(kind byte, keys []string, values []any, large bool) (byte, []byte) {
	width := 2
	if large {
		kind, width = kind+1, 4
	}
	put := func(out []byte, n int) []byte {
		return append(out, binary.LittleEndian.AppendUint32(nil, uint32(n))[:width]...)
	}
	head := 2*width + len(keys)*(width+2) + len(values)*(1+width)
	var names, list, content []byte
	for _, k := range keys {
		names = put(names, head+len(content))
		names = binary.LittleEndian.AppendUint16(names, uint16(len(k)))
		content = append(content, k...)
	}
	for _, v := range values {
		kind, value := stored(v, large)
		list = append(list, kind)
		if len(value) <= width && kind != 12 && kind > 3 {
			list = append(list, append(value, make([]byte, width-len(value))...)...)
			continue
		}
		list = put(list, head+len(content))
		content = append(content, value...)
	}
	out := put(put(nil, len(values)), head+len(content))
	return kind, slices.Concat(out, names, list, content)
}

// Documents are told as they were written, however they are nested.
func TestDocuments(t *testing.T) {
	var value *rapid.Generator[any]
	value = rapid.Custom(func(t *rapid.T) any {
		switch n := rapid.IntRange(0, 8).Draw(t, "kind"); n {
		case 0:
			return nil
		case 1:
			return rapid.Bool().Draw(t, "truth")
		case 2:
			return rapid.Int64().Draw(t, "number")
		case 3:
			return rapid.Float64Range(-1e18, 1e18).Draw(t, "double")
		case 4:
			return rapid.SliceOfN(rapid.Deferred(func() *rapid.Generator[any] { return value }), 0, 4).Draw(t, "array")
		case 5:
			return rapid.MapOfN(rapid.String(), rapid.Deferred(func() *rapid.Generator[any] { return value }), 0,
				4).Draw(t, "object")
		}
		return rapid.String().Draw(t, "text")
	})
	rapid.Check(t, func(t *rapid.T) {
		v := value.Draw(t, "document")
		kind, content := stored(v, rapid.Bool().Draw(t, "large"))
		text, err := binlog.JSON(nil, append([]byte{kind}, content...))
		if err != nil {
			t.Fatal(err)
		}
		want, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		require.JSONEq(t, string(want), string(text))
	})
}

// Numbers, times and what JSON has no type for are written as the server prints them.
func TestDocumentsAreWrittenAsTheServerPrintsThem(t *testing.T) {
	for want, document := range map[string][]byte{
		"null":                         {},
		"18446744073709551615":         append([]byte{10}, slices.Repeat([]byte{0xff}, 8)...),
		"-1":                           {5, 0xff, 0xff},
		"12.50":                        {15, 246, 4, 4, 2, 0x80 | 12, 50},
		`"2015-01-15 23:24:25.000000"`: {15, 12, 8, 0, 0, 0, 0x19, 0x76, 0x1f, 0x95, 0x19},
		`"base64:type252:AQI="`:        {15, 252, 2, 1, 2},
		`{"a": [1, "\u001f\n\"ü"]}`: func() []byte {
			kind, content := stored(map[string]any{"a": []any{int64(1), "\x1f\n\"ü"}}, false)
			return append([]byte{kind}, content...)
		}(),
	} {
		text, err := binlog.JSON(nil, document)
		require.NoError(t, err, want)
		require.Equal(t, want, string(text))
	}
	for f, want := range map[float64]string{1: "1.0", 0: "0.0", -2.5: "-2.5", 1e14: "100000000000000.0", 1e15: "1e15",
		1.5e-20: "1.5e-20", 1e300: "1e300", 0.001: "0.001"} {
		_, content := stored(f, false)
		text, err := binlog.JSON(nil, append([]byte{11}, content...))
		require.NoError(t, err)
		require.Equal(t, want, string(text))
	}
}

// Whatever is stored, reading it ends.
func FuzzJSON(f *testing.F) {
	for _, v := range []any{nil, "text", []any{int64(1), map[string]any{"a": "b"}}, 1.5} {
		kind, content := stored(v, false)
		f.Add(append([]byte{kind}, content...))
	}
	f.Add([]byte{2, 2, 0, 40, 0, 2, 4, 0, 2, 4, 0, 2, 4, 0, 2, 4, 0})
	f.Fuzz(func(t *testing.T, document []byte) {
		text, err := binlog.JSON(nil, document)
		if err == nil && strings.Contains(string(text), "\n") {
			t.Fatalf("%q", text)
		}
	})
}
