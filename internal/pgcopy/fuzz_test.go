package pgcopy

import (
	"encoding/binary"
	"errors"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// every is a column of each type that is read from its binary form.
func every() []schema.Column {
	var names []string
	for name := range builtin {
		names = append(names, name)
	}
	slices.Sort(names)
	var columns []schema.Column
	for _, name := range names {
		columns = append(columns, schema.Column{Name: name, Type: builtin[name].typ, Wire: name, Nullable: true})
	}
	return append(columns, schema.Column{Name: "decimal",
		Type: schema.Type{Kind: schema.Decimal, Precision: 12, Scale: 2}, Wire: wireDecimal, Nullable: true},
		schema.Column{Name: "enum", Type: of(schema.Text), Wire: wireEnum}, schema.Column{Name: "other",
			Type: of(schema.Text)})
}

// valid is the value of a column that the decoder takes: zeros, as far as its type has them.
func valid(c schema.Column) []byte {
	m, _ := mappingOf(c)
	switch {
	case c.Wire == wireDecimal:
		return []byte{0, 1, 0, 0, 0, 0, 0, 2, 0, 42}
	case c.Wire == "jsonb":
		return []byte("\x01{}")
	case m.width > 0:
		return make([]byte, m.width)
	}
	return []byte("Œ")
}

func streamOf(columns []schema.Column, value func(schema.Column) []byte) []byte {
	out := append(slices.Clone(copySignature), make([]byte, 8)...)
	out = binary.BigEndian.AppendUint16(out, uint16(len(columns)))
	for _, c := range columns {
		v := value(c)
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(v))), v...)
	}
	return append(out, 0xff, 0xff)
}

// A server may send whatever it likes: rows come in, or an error ends it.
func FuzzReader(f *testing.F) {
	columns := every()
	f.Add(streamOf(columns, valid), uint8(200))
	for i := range columns {
		f.Add(streamOf(columns, func(c schema.Column) []byte {
			if c.Name == columns[i].Name {
				return []byte{1, 2, 3}
			}
			return valid(c)
		}), uint8(50))
	}
	f.Fuzz(func(t *testing.T, stream []byte, chunk uint8) {
		r := NewReader(columns, len(columns), []string{"int4"}, []string{"int8"}, func(b rows.Batch) error {
			b.Record.Release()
			return nil
		})
		for part := range slices.Chunk(stream, int(chunk)+1) {
			if _, err := r.Write(part); err != nil {
				return
			}
		}
		_ = r.End()
	})
}

// Values in their text form, as the change log has them.
func FuzzText(f *testing.F) {
	for _, text := range []string{"t", "-32768", "9223372036854775807", "1.5e308", `\x00ff`, "0044-03-15 BC",
		"294276-12-31 23:59:59.999999+00", "-178000000 years -11 mons +99:59:59.999", "infinity", "NaN", "2b9e…",
		"00000000-0000-0000-0000-000000000000", "1e999999999", "24:00:00"} {
		f.Add([]byte(text))
	}
	columns := every()
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, c := range columns {
			b := array.NewBuilder(memory.DefaultAllocator, c.Type.Arrow())
			_ = ValueOf(c).Text(b, text)
			b.Release()
		}
	})
}

// Each width but the right one is refused, for each type.
func TestAValueOfAnotherWidthIsRefused(t *testing.T) {
	columns := every()
	for i, column := range columns {
		m, _ := mappingOf(column)
		if m.width == 0 && m.fits == nil {
			continue
		}
		for width := range 24 {
			if width == m.width && m.fits == nil {
				continue
			}
			value := make([]byte, width)
			if m.fits != nil && m.fits(value) {
				continue // a numeric without digits
			}
			r := NewReader(columns, len(columns), nil, nil,
				func(rows.Batch) error { return errors.New("a row came in") })
			_, err := r.Write(streamOf(columns, func(c schema.Column) []byte {
				if c.Name == columns[i].Name {
					return value
				}
				return valid(c)
			}))
			if err == nil {
				t.Errorf("%s took a value of %d bytes", column.Name, width)
			}
		}
	}
}
