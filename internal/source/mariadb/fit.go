package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source/mariadb/binlog"
)

// fit finds the columns of a table in the log's description of it. Where the server tells
// their names, a column is found by it; else by its place, as long as there are as many.
func (t *followed) fit(log *binlog.Table) (places []int, unfit error) {
	if !log.Named && len(log.Columns) != len(t.all) {
		return nil, again(t, "The log holds changes of %s from when it had %d columns; it has %d now.", t.Table.Name, len(log.Columns), len(t.all))
	}
	for _, c := range t.Table.Columns {
		at := slices.IndexFunc(t.all, func(a schema.Column) bool { return a.Name == c.Name })
		if log.Named {
			at = slices.IndexFunc(log.Columns, func(l binlog.Column) bool { return l.Name == c.Name })
		}
		if at < 0 || at >= len(log.Columns) {
			return nil, again(t, "The log holds changes of %s from when it had no column %s, so the column's values are not known.", t.Table.Name, c.Name)
		}
		if !fits(c, log.Columns[at], log.Named) {
			return nil, again(t, "The type of the column %s of %s was changed; what the log holds from before or after does not fit.", c.Name, t.Table.Name)
		}
		places = append(places, at)
	}
	if log.Named && t.Whole {
		for _, l := range log.Columns {
			if _, known := t.Table.Column(l.Name); !known && !slices.ContainsFunc(t.all, func(a schema.Column) bool { return a.Name == l.Name }) {
				// A column that was dropped since, or one that was added after this run looked.
				return places, problem.Newf(problem.Held, "The next run looks at the table again.", "The log holds changes of %s with a column %s, which it does not have now.", t.Table.Name, l.Name)
			}
		}
	}
	return places, nil
}

// fits tells whether the log's column can hold what the catalogue's does.
func fits(c schema.Column, l binlog.Column, named bool) bool {
	way, _, _ := strings.Cut(c.Wire, " ")
	in := func(types ...binlog.Type) bool { return slices.Contains(types, l.Type) }
	switch way {
	case wayInt, wayUint:
		widths := map[string]binlog.Type{"tinyint": binlog.Tiny, "smallint": binlog.Short, "mediumint": binlog.Int24, "int": binlog.Long, "bigint": binlog.LongLong}
		name, _, _ := strings.Cut(strings.TrimSuffix(strings.Fields(c.Native)[0], " unsigned"), "(")
		return in(widths[name]) && (!named || l.Unsigned == (way == wayUint))
	case wayDecimal:
		return in(binlog.NewDecimal) && (c.Type.Kind != schema.Decimal || l.Scale == c.Type.Scale && l.Size <= c.Type.Precision)
	case wayFloat:
		return in(map[schema.Kind]binlog.Type{schema.Float32: binlog.Float, schema.Float64: binlog.Double}[c.Type.Kind])
	case wayYear:
		return in(binlog.Year)
	case wayDate:
		return in(binlog.Date)
	case wayDateTime:
		return in(binlog.DateTime, binlog.DateTime2)
	case wayMoment:
		return in(binlog.Timestamp, binlog.Timestamp2)
	case wayTime:
		return in(binlog.Time, binlog.Time2)
	case wayBit:
		return in(binlog.Bit)
	case wayText, wayBytes:
		return in(binlog.VarChar, binlog.VarString, binlog.String, binlog.Blob, binlog.BlobCompressed, binlog.VarCharCompressed)
	case wayFixed, wayUUID, wayInet:
		return in(binlog.String)
	case wayEnum:
		return in(binlog.Enum)
	case waySet:
		return in(binlog.Set)
	case wayShape:
		return in(binlog.Geometry, binlog.Blob)
	}
	return false
}

// aside is a row whose column at a place cannot be stored.
func (t *followed) aside(m *mapped, row []binlog.Cell, place int, reason string) rows.Aside {
	texts := make([]*string, len(t.Table.Columns))
	for i, c := range t.Table.Columns {
		v := row[m.places[i]]
		if !v.Told || v.Null {
			continue
		}
		text := strings.ToValidUTF8(strings.ReplaceAll(string(v.Data), "\x00", `\0`), "\uFFFD")
		if x, reason := t.codecs[i].log(v.Data, &m.log[m.places[i]]); reason == "" {
			text = cellText(c, t.codecs[i], x)
		} else if _, shown, ok := strings.Cut(reason, nowhere+": "); ok {
			text = shown
		}
		texts[i] = &text
	}
	return rows.NewAside(t.Table.Columns, texts, t.KeyAt, t.Table.Columns[place].Name, reason)
}

// constant matches defaults that are the same for each row.
var constant = regexp.MustCompile(`^(NULL|[bBxX]?'.*'|-?[0-9].*)$`)

// defaultsOf asks for the defaults of a table's columns that are the same for each row. The
// log may leave them out of an insert; others it tells.
func (s *Source) defaultsOf(ctx context.Context, t *followed) error {
	t.defaults = map[int]scalar{}
	var name, nullable string
	var text sql.NullString
	var list []string
	var places []int
	err := s.rows(ctx, "SELECT COLUMN_NAME, COLUMN_DEFAULT, IS_NULLABLE FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?", []any{t.Table.Name.Schema, t.Table.Name.Table},
		[]any{&name, &text, &nullable}, func() error {
			i := slices.IndexFunc(t.Table.Columns, func(c schema.Column) bool { return c.Name == name })
			switch {
			case i < 0 || text.Valid && !constant.MatchString(text.String):
			case !text.Valid || text.String == "NULL":
				if nullable == "YES" {
					t.defaults[i] = scalar{null: true}
				}
			default:
				list, places = append(list, expression(t.Table.Columns[i], "DEFAULT("+column(name)+")")), append(places, i)
			}
			return nil
		})
	if err != nil || len(list) == 0 {
		return err
	}
	values, into := make([]sql.NullString, len(list)), make([]any, len(list))
	for i := range values {
		into[i] = &values[i]
	}
	if err := s.row(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+t.Table.Name.Quoted()+" AS t RIGHT JOIN (SELECT 1) AS one ON FALSE", nil, into...); err != nil {
		return err
	}
	for i, v := range values {
		if x, reason := t.codecs[places[i]].text([]byte(v.String)); v.Valid && reason == "" {
			t.defaults[places[i]] = x
		}
	}
	return nil
}

// charsetOf gives what decodes the texts of a column from the log; nil where it cannot be
// done here.
func (s *Source) charsetOf(ctx context.Context, c schema.Column) (func([]byte) []byte, error) {
	way, name, _ := strings.Cut(c.Wire, " ")
	if way != wayText {
		return nil, nil
	}
	switch name {
	case "utf8mb4", "utf8mb3", "utf8", "ascii", "binary":
		return func(v []byte) []byte { return v }, nil
	case "ucs2", "utf16":
		return func(v []byte) []byte { return wide(v, 1, 0) }, nil
	case "utf16le":
		return func(v []byte) []byte { return wide(v, 0, 1) }, nil
	case "utf32":
		return func(v []byte) []byte {
			var out []byte
			for ; len(v) >= 4; v = v[4:] {
				out = append(out, string(rune(binlog.Bits(v[:4])))...)
			}
			return out
		}, nil
	}
	known, ok := s.tables.Load(name)
	if !ok {
		table, err := s.decoding(ctx, name)
		if err != nil {
			return nil, err
		}
		known, _ = s.tables.LoadOrStore(name, table)
	}
	table := known.([]string)
	if table == nil {
		return nil, nil
	}
	return func(v []byte) []byte {
		if !bytes.ContainsFunc(v, func(r rune) bool { return r >= 0x80 }) {
			return v
		}
		out := make([]byte, 0, len(v)+8)
		for _, b := range v {
			out = append(out, table[b]...)
		}
		return out
	}, nil
}

func wide(v []byte, low, high int) []byte {
	units := make([]uint16, len(v)/2)
	for i := range units {
		units[i] = uint16(v[2*i+high])<<8 | uint16(v[2*i+low])
	}
	return []byte(string(utf16.Decode(units)))
}

// decoding asks the server for the characters of a character set of one byte each; nil for
// one that has longer ones.
func (s *Source) decoding(ctx context.Context, charset string) ([]string, error) {
	var width int
	if err := s.row(ctx, "SELECT coalesce(max(MAXLEN), 0) FROM information_schema.CHARACTER_SETS WHERE CHARACTER_SET_NAME = ?", []any{charset}, &width); err != nil {
		return nil, err
	}
	if width != 1 {
		return nil, nil
	}
	list := make([]string, 256)
	var parts []string
	into := make([]any, 256)
	for i := range list {
		parts = append(parts, fmt.Sprintf("CONVERT(CHAR(%d USING %s) USING utf8mb4)", i, charset))
		into[i] = &orEmpty{&list[i]}
	}
	return list, s.row(ctx, "SELECT "+strings.Join(parts, ", "), nil, into...)
}
