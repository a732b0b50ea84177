package mariadb

import (
	"context"
	"errors"

	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// Types and flags of a column in an answer (mariadb.com/kb/en/result-set-packets, field types).
const (
	typeDecimal, typeTiny, typeShort, typeLong        = 0, 1, 2, 3
	typeFloat, typeDouble, typeTimestamp, typeLongest = 4, 5, 7, 8
	typeMedium, typeDate, typeTime, typeDateTime      = 9, 10, 11, 12
	typeYear, typeBit, typeNewDecimal, typeGeometry   = 13, 16, 246, 255
	flagUnsigned                                      = 32
	collationBinary                                   = 63
)

// Query describes what a SELECT gives. It is prepared by itself, which takes one statement alone,
// and then read as a part of another one, which takes only what reads.
func (s *Reader) Query(ctx context.Context, name schema.Name, sql string) (schema.Table, error) {
	t := source.QueryTable(name, sql)
	conn, err := s.connect(ctx, s.reading()...)
	if err != nil {
		return t, s.explain(err)
	}
	defer func() { _ = conn.Close() }()
	whole := "SELECT * FROM " + s.grammar.From(source.Query{Table: t}) + " LIMIT 0"
	for _, text := range []string{"PREPARE noemata FROM " + schema.Literal(sql), whole} {
		done := statement.Begin(ctx, statement.Source, text)
		err = conn.QueryTyped(ctx, marker+text, func(columns []wire.Column) error {
			for _, c := range columns {
				t.Columns = append(t.Columns, answered(c))
			}
			return nil
		}, func(wire.Row) error { return nil })
		if done(0, err); err != nil {
			break
		}
	}
	if number, said := serverError(err); number != 0 {
		return t, source.BadQuery(errors.New(said), name, s.what, "")
	}
	if err != nil {
		return t, s.explain(err)
	}
	return t, source.Coherent(t, s.what)
}

// answered is a column as the server describes it in an answer. Texts come in UTF-8, whatever
// the table has them in.
func answered(c wire.Column) schema.Column {
	d := described{name: c.Name, charset: "utf8mb4"}
	unsigned := c.Flags&flagUnsigned != 0
	switch c.Type {
	case typeTiny:
		d.kind = "tinyint"
	case typeShort:
		d.kind = "smallint"
	case typeMedium:
		d.kind = "mediumint"
	case typeLong:
		d.kind = "int"
	case typeLongest:
		d.kind = "bigint"
	case typeDecimal, typeNewDecimal:
		d.kind, d.precision, d.scale = "decimal", int(c.Length), int(c.Decimals)
		if c.Decimals > 0 {
			d.precision--
		}
		if !unsigned {
			d.precision--
		}
	case typeFloat:
		d.kind = "float"
	case typeDouble:
		d.kind = "double"
	case typeYear:
		d.kind = "year"
	case typeDate:
		d.kind = "date"
	case typeTime:
		d.kind = "time"
	case typeDateTime:
		d.kind = "datetime"
	case typeTimestamp:
		d.kind = "timestamp"
	case typeBit:
		d.kind, d.precision = "bit", int(c.Length)
	case typeGeometry:
		d.kind = "geometry"
	default:
		if d.kind = "text"; c.Charset == collationBinary {
			d.kind = "blob"
		}
	}
	if d.native = d.kind; unsigned {
		d.native += " unsigned"
	}
	column := schema.Column{Name: c.Name, Native: d.native, Nullable: true}
	column.Type, column.Wire = d.typed()
	return column
}
