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

	"noemata/internal/core/drift"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/binlog"
)

// fit finds the columns of a table in the log's description of it. Where the server tells
// their names, a column is found by it; else by its place, as long as there are as many.
func (t *followed) fit(log *binlog.Table) (places []int, unfit error) {
	if n := len(t.all) + t.hidden; !log.Named && len(log.Columns) != n {
		return nil, source.CopyAgain(drift.Columns, t.Table.Name,
			"The log holds changes of %s from when it had %d columns; it has %d now.", t.Table.Name, len(log.Columns),
			n)
	}
	for _, c := range t.Table.Columns {
		at := slices.IndexFunc(t.all, func(a schema.Column) bool { return a.Name == c.Name })
		if log.Named {
			at = slices.IndexFunc(log.Columns, func(l binlog.Column) bool { return l.Name == c.Name })
		}
		if at < 0 || at >= len(log.Columns) {
			return nil, source.CopyAgain(drift.Columns, t.Table.Name,
				"The log holds changes of %s from when it had no column %s, so the column's values are not known.",
				t.Table.Name, c.Name)
		}
		if !fits(c, log.Columns[at], log.Named && log.Signs) {
			return nil, source.CopyAgain(drift.Types, t.Table.Name,
				"The type of the column %s of %s was changed; what the log holds from before or after does not fit.",
				c.Name, t.Table.Name)
		}
		places = append(places, at)
	}
	if !slices.IsSorted(places) {
		return nil, source.CopyAgain(drift.Columns, t.Table.Name,
			"The columns of %s stand in another order than the log has them: if names were exchanged, rows that are "+
				"not told have the wrong values under them.", t.Table.Name)
	}
	if log.Named {
		var key []string
		for _, i := range log.Key {
			if name := log.Columns[i].Name; name != t.rowEnd {
				key = append(key, name)
			}
		}
		slices.Sort(key)
		if !slices.Equal(key, t.primary) {
			return nil, source.CopyAgain(drift.Keys, t.Table.Name,
				"The primary key of %s is (%s) in the log, and it was (%s) when the run began.", t.Table.Name,
				strings.Join(key, ", "), strings.Join(t.primary, ", "))
		}
	} else if t.altered {
		return nil, source.CopyAgain(drift.Columns, t.Table.Name,
			"The structure of %s was changed, and the server's log does not tell how its rows are to be read since: "+
				"its binlog_row_metadata is not FULL.", t.Table.Name)
	}
	if log.Named && t.Whole {
		for _, l := range log.Columns {
			if l.Name == t.rowStart || l.Name == t.rowEnd {
				continue
			}
			if _, known := t.Table.Column(l.Name); !known &&
				!slices.ContainsFunc(t.all, func(a schema.Column) bool { return a.Name == l.Name }) {
				// A column that was dropped since, or one that was added after this run looked.
				return places, source.CopyAgain(drift.Columns, t.Table.Name,
					"The log holds changes of %s with a column %s, which was not there when the run began.",
					t.Table.Name, l.Name)
			}
		}
	}
	return places, nil
}

// Clustered tells whether the key is the primary key, in whose order InnoDB keeps rows.
func (s *Source) Clustered(ctx context.Context, t schema.Table) (bool, error) {
	primary, err := s.primaryOf(ctx, t.Name)
	return slices.Equal(primary, t.Key), err
}

// primaryOf lists the columns of a table's primary key.
func (s *Source) primaryOf(ctx context.Context, name schema.Name) (columns []string, err error) {
	var column string
	err = s.Rows(ctx, "SELECT COLUMN_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? AND TABLE_NAME "+
		"= ? AND INDEX_NAME = 'PRIMARY'", []any{name.Schema, name.Table}, []any{&column}, func() error {
		columns = append(columns, column)
		return nil
	})
	return columns, err
}

// period matches the columns of a table that say from when to when a version of a row held.
var period = regexp.MustCompile("PERIOD FOR SYSTEM_TIME \\(\"([^\"]+)\", \"([^\"]+)\"\\)")

// versioning finds out whether the server keeps old versions of a table's rows, which the
// log tells as rows of their own (mariadb.com/kb/en/system-versioned-tables).
func (s *Source) versioning(ctx context.Context, t *followed) error {
	var kind string
	if err := s.Row(ctx, "SELECT TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?",
		[]any{t.Table.Name.Schema, t.Table.Name.Table}, &kind); err != nil || kind != "SYSTEM VERSIONED" {
		return err
	}
	created, err := s.created(ctx, t.Table.Name)
	if err != nil {
		return err
	}
	if m := period.FindStringSubmatch(created); m != nil {
		t.rowStart, t.rowEnd = m[1], m[2]
		return nil
	}
	t.rowStart, t.rowEnd, t.hidden = "row_start", "row_end", 2
	return nil
}

// isPast tells whether a version of a row has ended: before the end of time, which is the
// last moment, or the last number of a transaction, that the column can hold.
func isPast(v binlog.Cell, c *binlog.Column) bool {
	if !v.Told || v.Null || len(v.Data) < 4 {
		return false
	}
	if c.Type == binlog.LongLong {
		return binlog.Uint(v.Data) != 1<<64-1
	}
	last := binlog.Bits(v.Data[:4])
	return last != 1<<31-1 && last != 1<<32-1
}

// fits tells whether the log's column can hold what the catalogue's does.
func fits(c schema.Column, l binlog.Column, signs bool) bool {
	way, _, _ := strings.Cut(c.Wire, " ")
	in := func(types ...binlog.Type) bool { return slices.Contains(types, l.Type) }
	switch way {
	case wayInt, wayUint:
		widths := map[string]binlog.Type{"tinyint": binlog.Tiny, "smallint": binlog.Short, "mediumint": binlog.Int24,
			"int": binlog.Long, "bigint": binlog.LongLong}
		name, _, _ := strings.Cut(strings.TrimSuffix(strings.Fields(c.Native)[0], " unsigned"), "(")
		return in(widths[name]) && (!signs || l.Unsigned == (way == wayUint))
	case wayDecimal:
		return in(binlog.NewDecimal) &&
			(c.Type.Kind != schema.Decimal || l.Scale == c.Type.Scale && l.Size <= c.Type.Precision)
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
		return in(binlog.VarChar, binlog.VarString, binlog.String, binlog.Blob, binlog.BlobCompressed,
			binlog.VarCharCompressed)
	case wayFixed, wayUUID, wayInet:
		return in(binlog.String)
	case wayEnum:
		return in(binlog.Enum)
	case waySet:
		return in(binlog.Set)
	case wayJSON:
		return in(binlog.JSONDocument)
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
		if x, reason := m.codecs[i].log(v.Data, &m.log[m.places[i]]); reason == "" {
			text = cellText(c, t.codecs[i], x)
		} else if _, shown, ok := strings.Cut(reason, nowhere+": "); ok {
			text = shown
		}
		texts[i] = &text
	}
	return rows.NewAside(t.Table.Columns, texts, t.KeyAt, t.Table.Columns[place].Name, reason)
}

// defaultsOf asks for the defaults of a table's columns that are the same for each row. The
// log may leave them out of an insert; others it tells.
func (s *Source) defaultsOf(ctx context.Context, t *followed) error {
	t.defaults = map[int]scalar{}
	var name, nullable, extra string
	var text sql.NullString
	var list []string
	var places []int
	err := s.Rows(ctx, "SELECT COLUMN_NAME, COLUMN_DEFAULT, IS_NULLABLE, EXTRA FROM information_schema.COLUMNS WHERE "+
		"TABLE_SCHEMA = ? AND TABLE_NAME = ?", []any{t.Table.Name.Schema, t.Table.Name.Table},
		[]any{&name, &text, &nullable, &extra}, func() error {
			i := slices.IndexFunc(t.Table.Columns, func(c schema.Column) bool { return c.Name == name })
			switch {
			case i < 0 || strings.Contains(extra, "GENERATED") || text.Valid && !s.server.Log.Constant(text.String, extra):
			case !text.Valid || text.String == "NULL" && s.server.Checked:
				if nullable == "YES" {
					t.defaults[i] = scalar{null: true}
				}
			default:
				list, places = append(list, expression(t.Table.Columns[i], "DEFAULT("+column(name)+")")), append(places,
					i)
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
	if err := s.Row(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+t.Table.Name.Quoted()+
		" AS t RIGHT JOIN (SELECT 1) AS one ON FALSE", nil, into...); err != nil {
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
	return s.decoderOf(ctx, name)
}

// collations asks the server once which character sets its collations are of, by number.
func (s *Source) collations(ctx context.Context) (map[uint64]string, error) {
	s.collated.Lock()
	defer s.collated.Unlock()
	if s.charsets != nil {
		return s.charsets, nil
	}
	found := map[uint64]string{}
	var id sql.NullInt64
	var charset sql.NullString
	// Since 10.10 a collation may be of several character sets, each with a number of its own.
	for _, from := range []string{"ID, CHARACTER_SET_NAME FROM information_schema.COLLATIONS",
		"ID, CHARACTER_SET_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY"} {
		err := s.Rows(ctx, "SELECT "+from, nil, []any{&id, &charset}, func() error {
			if id.Valid && charset.Valid {
				found[uint64(id.Int64)] = charset.String
			}
			return nil
		})
		if number, _ := serverError(err); err != nil && number != errNoColumn && number != 0 {
			return nil, err
		}
	}
	s.charsets = found
	return found, nil
}

// codecsOf gives the codecs of a table as an event describes it: with the character sets
// that its texts, enums and sets had then. Where the event tells none, they are those of the
// catalogue.
func (s *Source) codecsOf(ctx context.Context, t *followed, m *mapped) error {
	m.codecs = t.codecs
	for i, c := range t.Table.Columns {
		l := &m.log[m.places[i]]
		way, known, _ := strings.Cut(c.Wire, " ")
		if l.Collation == 0 || way != wayText && way != wayEnum && way != waySet {
			continue
		}
		charsets, err := s.collations(ctx)
		if err != nil {
			return err
		}
		charset, ok := charsets[l.Collation]
		if !ok {
			m.unfit = source.CopyAgain(drift.Types, t.Table.Name,
				"The column %s of %s has a collation in the log that the server does not know any more (number %d).",
				c.Name, t.Table.Name, l.Collation)
			return nil
		}
		if way == wayText && charset == known {
			continue
		}
		decode, err := s.decoderOf(ctx, charset)
		if err != nil {
			return err
		}
		if decode == nil {
			m.unfit = source.CopyAgain(drift.Types, t.Table.Name,
				"The column %s of %s is in the character set %s in the log, which cannot be read from it.", c.Name,
				t.Table.Name, charset)
			return nil
		}
		if &m.codecs[0] == &t.codecs[0] {
			m.codecs = slices.Clone(t.codecs)
		}
		if way == wayText {
			m.codecs[i] = codecOf(c, decode)
			continue
		}
		values := make([]string, len(l.Values))
		for k, v := range l.Values {
			values[k] = string(decode([]byte(v)))
		}
		l.Values = values
	}
	return nil
}

// decoderOf gives what decodes texts of a character set; nil where it cannot be done here.
func (s *Source) decoderOf(ctx context.Context, name string) (func([]byte) []byte, error) {
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
	if err := s.Row(ctx, "SELECT coalesce(max(MAXLEN), 0) FROM information_schema.CHARACTER_SETS WHERE "+
		"CHARACTER_SET_NAME = ?", []any{charset}, &width); err != nil {
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
	return list, s.Row(ctx, "SELECT "+strings.Join(parts, ", "), nil, into...)
}
