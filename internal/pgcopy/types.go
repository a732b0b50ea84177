// Package pgcopy reads and writes rows in the binary form of PostgreSQL's COPY,
// to and from Arrow record batches.
//
// It also says how PostgreSQL's types map to those that travel. Types that are
// not listed here are read as the text that the server prints.
package pgcopy

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/schema"
)

// mapping says how a column of some PostgreSQL type is read from a binary COPY.
type mapping struct {
	typ    schema.Type
	decode func(b array.Builder, value []byte)
	check  func(value []byte) (reason, shown string) // nil where every value can be stored
	width  int                                       // of each value, in bytes; 0 where it varies
	// Whether bytes of varying width are such a value; nil where all are.
	fits func(value []byte) bool
}

// malformed tells that bytes are no value of the type, whatever the server says.
func (m *mapping) malformed(v []byte) error {
	if m.width != 0 && len(v) != m.width || m.fits != nil && !m.fits(v) {
		return fmt.Errorf("the server sent %d bytes that are no %s in its binary form", len(v), m.typ)
	}
	return nil
}

// builtin maps the types whose binary form is decoded here, by their name in
// pg_catalog. The name is also the Wire of such a column.
var builtin = map[string]mapping{
	"bool":        {typ: of(schema.Bool), decode: decodeBool, width: 1},
	"int2":        {typ: of(schema.Int16), decode: decodeInt16, width: 2},
	"int4":        {typ: of(schema.Int32), decode: decodeInt32, width: 4},
	"int8":        {typ: of(schema.Int64), decode: decodeInt64, width: 8},
	"oid":         {typ: of(schema.Int64), decode: decodeOID, width: 4},
	"float4":      {typ: of(schema.Float32), decode: decodeFloat32, width: 4},
	"float8":      {typ: of(schema.Float64), decode: decodeFloat64, width: 8},
	"text":        {typ: of(schema.Text), decode: decodeText, check: checkText},
	"varchar":     {typ: of(schema.Text), decode: decodeText, check: checkText},
	"bpchar":      {typ: of(schema.Text), decode: decodeText, check: checkText},
	"name":        {typ: of(schema.Text), decode: decodeText, check: checkText},
	"xml":         {typ: of(schema.Text), decode: decodeText, check: checkText},
	"json":        {typ: of(schema.JSON), decode: decodeText, check: checkText},
	"jsonb":       {typ: of(schema.JSON), decode: decodeJSONB, check: checkJSONB, fits: fitsJSONB},
	"bytea":       {typ: of(schema.Bytes), decode: decodeBytes},
	"date":        {typ: of(schema.Date), decode: decodeDate, width: 4},
	"time":        {typ: of(schema.Time), decode: decodeTime, width: 8},
	"timestamp":   {typ: of(schema.Timestamp), decode: decodeTimestamp, check: checkTimestamp, width: 8},
	"timestamptz": {typ: of(schema.TimestampTZ), decode: decodeTimestamp, check: checkTimestamp, width: 8},
	"interval":    {typ: of(schema.Interval), decode: decodeInterval, check: checkInterval, width: 16},
	"uuid":        {typ: of(schema.UUID), decode: decodeUUID, width: 16},
}

// The Wire of columns that are not read by a name in builtin.
const (
	wireDecimal = "decimal"
	wireEnum    = "enum"
)

func of(k schema.Kind) schema.Type { return schema.Type{Kind: k} }

// TypeOf maps a type of the catalogue, domains resolved to the type below them.
// modifier is the column's type modifier. It gives the column's Wire too.
func TypeOf(name string, inCatalog, enum bool, modifier int32) (schema.Type, string) {
	switch {
	case enum:
		return of(schema.Text), wireEnum
	case !inCatalog:
		return of(schema.Text), ""
	case name == "numeric":
		return numericType(modifier)
	}
	if m, ok := builtin[name]; ok {
		return m.typ, name
	}
	return of(schema.Text), ""
}

// numericType reads precision and scale from the type modifier, which is
// ((precision << 16) | (scale & 0x7ff)) + 4, the scale in two's complement of 11
// bits (numerictypmodin in PostgreSQL's numeric.c).
func numericType(modifier int32) (schema.Type, string) {
	if modifier >= 4 {
		precision := int((modifier - 4) >> 16 & 0xffff)
		scale := int(((modifier-4)&0x7ff)^1024) - 1024
		if precision <= schema.MaxDecimalDigits && scale >= 0 && scale <= precision {
			return schema.Type{Kind: schema.Decimal, Precision: precision, Scale: scale}, wireDecimal
		}
	}
	return of(schema.Numeric), ""
}

// Stored is the column as a PostgreSQL warehouse holds it, ready to be read.
func Stored(c schema.Column) schema.Column {
	c.Wire = ""
	switch c.Type.Kind {
	case schema.Decimal:
		c.Wire = wireDecimal
	case schema.Numeric:
	default:
		for name, m := range builtin {
			if m.typ == c.Type && name != "jsonb" && name != "oid" && name != "bpchar" {
				c.Wire = name
			}
		}
	}
	return c
}

// Expression is how a column must be selected for a Reader to read it. Text is what
// the type's output function gives, as in the change log: a cast may write it otherwise.
func Expression(c schema.Column) string {
	if _, cast := mappingOf(c); cast {
		return fmt.Sprintf("CASE WHEN %s IS DISTINCT FROM NULL THEN concat(%[1]s) END", schema.Quote(c.Name))
	}
	return schema.Quote(c.Name)
}

// Value reads the values of one column as the change log has them.
type Value struct {
	Fits   func(value []byte) error                  // of a binary value: whether it is one; asked before the others
	Check  func(value []byte) (reason, shown string) // of a binary value; nil where every one can be stored
	Binary func(b array.Builder, value []byte)
	Text   func(b array.Builder, value []byte) error
}

// ValueOf says how a column's values are read.
func ValueOf(c schema.Column) Value {
	m, _ := mappingOf(c)
	return Value{Fits: m.malformed, Check: m.check, Binary: m.decode, Text: textOf(c)}
}

// Literal is a text, as schema.CellText writes it, as a literal of the column's
// own type.
func Literal(c schema.Column, text string) string {
	literal := schema.Literal(text)
	if c.Type.Kind == schema.Text && c.Wire != "" && c.Wire != wireEnum {
		return literal
	}
	return literal + "::" + c.Native
}

// mappingOf says how to read a column, and whether the server must turn it into
// text first.
func mappingOf(c schema.Column) (m mapping, cast bool) {
	switch c.Wire {
	case "":
		m = builtin["text"]
		m.typ = c.Type
		return m, true
	case wireEnum: // sent as its label
		return builtin["text"], false
	case wireDecimal:
		return mapping{typ: c.Type, decode: decodeDecimal(c.Type.Scale), check: checkDecimal(c.Type),
			fits: fitsDecimal(c.Type)}, false
	}
	return builtin[c.Wire], false
}
