package mariadb

import (
	"context"
	"errors"

	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// kinds are the types of columns in an answer, as the catalogue calls them, but for texts and bytes
// (mariadb.com/kb/en/result-set-packets, field types).
var kinds = map[byte]string{0: "decimal", 1: "tinyint", 2: "smallint", 3: "int", 4: "float", 5: "double",
	7: "timestamp",
	8: "bigint", 9: "mediumint", 10: "date", 11: "time", 12: "datetime", 13: "year", 16: "bit", 246: "decimal",
	255: "geometry"}

// A flag of a column, and the collation of bytes.
const (
	flagUnsigned    = 32
	collationBinary = 63
)

// Query describes what a SELECT gives. It is prepared by itself, which takes one statement alone,
// and then read as a part of another one, which takes only what reads.
func (s *Reader) Query(ctx context.Context, name schema.Name, sql string) (schema.Table, error) {
	t := source.QueryTable(name, sql)
	conn, end, err := s.connectToRead(ctx)
	if err != nil {
		return t, s.Explain(err)
	}
	defer end()
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
		return t, s.Explain(err)
	}
	return t, source.Coherent(t, s.what)
}

// answered is a column as the server describes it in an answer. Texts come in UTF-8, whatever
// the table has them in.
func answered(c wire.Column) schema.Column {
	d := described{name: c.Name, charset: "utf8mb4"}
	unsigned := c.Flags&flagUnsigned != 0
	d.kind = kinds[c.Type]
	switch {
	case d.kind == "decimal": // its length counts point and sign, too
		d.precision, d.scale = int(c.Length), int(c.Decimals)
		if c.Decimals > 0 {
			d.precision--
		}
		if !unsigned {
			d.precision--
		}
	case d.kind == "bit":
		d.precision = int(c.Length)
	case d.kind == "" && c.Charset == collationBinary:
		d.kind = "blob"
	case d.kind == "":
		d.kind = "text"
	}
	if d.native = d.kind; unsigned {
		d.native += " unsigned"
	}
	column := schema.Column{Name: c.Name, Native: d.native, Nullable: true}
	column.Type, column.Wire = d.typed()
	return column
}
