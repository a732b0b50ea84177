package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

// main is the schema that a file's tables are in.
const main = "main"

// Tables lists the tables and views of the file.
func (s *Source) Tables(ctx context.Context) (tables []schema.Table, err error) {
	var name, kind string
	err = s.rows(ctx, `SELECT name, type FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'view', 'virtual') AND
name NOT LIKE 'sqlite\_%' ESCAPE '\' ORDER BY name`, nil, []any{&name, &kind}, func() error {
		tables = append(tables, schema.Table{Name: schema.Name{Schema: main, Table: name}, View: kind != "table", Rows: -1,
			Bytes: -1})
		return nil
	})
	for i := range tables {
		if t := &tables[i]; err == nil && !t.View {
			if t.Rows, err = s.estimate(ctx, t.Name.Table); err == nil {
				_, t.Key, err = s.columns(ctx, t.Name.Table)
			}
		}
	}
	return tables, err
}

// estimate is what ANALYZE has counted, or else how far the row numbers go; -1 where neither is known.
func (s *Source) estimate(ctx context.Context, table string) (int64, error) {
	n := int64(-1)
	err := s.row(ctx, "SELECT CAST(stat AS INTEGER) FROM main.sqlite_stat1 WHERE tbl = ? LIMIT 1", []any{table}, &n)
	if errors.Is(err, sql.ErrNoRows) || problem.Is(err, problem.NoTable) {
		var highest, lowest sql.NullInt64
		err = s.row(ctx, fmt.Sprintf("SELECT max(rowid), min(rowid) FROM %s", schema.Name{Schema: main,
			Table: table}.Quoted()), nil,
			&highest, &lowest)
		switch {
		case problem.Is(err, problem.Refused): // a table without row numbers
			return -1, nil
		case err == nil && highest.Valid:
			n = highest.Int64 - lowest.Int64 + 1
		case err == nil:
			n = 0
		}
	}
	return n, err
}

// Table describes a table.
func (s *Source) Table(ctx context.Context, name schema.Name) (schema.Table, error) {
	t := schema.Table{Name: name, Rows: -1, Bytes: -1}
	var kind string
	err := s.row(ctx, "SELECT name, type FROM pragma_table_list WHERE schema = 'main' AND name = ? COLLATE NOCASE AND type IN "+
		"('table', 'view', 'virtual')", []any{name.Table}, &t.Name.Table, &kind)
	switch {
	case errors.Is(err, sql.ErrNoRows) || err == nil && name.Schema != main:
		return t, problem.Newf(problem.NoTable,
			"Check whether it was dropped or renamed, then remove it from the feed or correct its "+
				"name. Tables of a file are in the schema main.", "The table %s does not exist in %s.", name, s.what)
	case err != nil:
		return t, err
	case t.Name != name: // SQLite does not tell upper case from lower
		return t, problem.Newf(problem.NoTable, "Write its name so.", "The table %s of %s is called %s.", name, s.what,
			t.Name)
	}
	t.View = kind != "table"
	if t.Columns, t.Key, err = s.columns(ctx, name.Table); err != nil {
		return t, err
	}
	if len(t.Columns) == 0 {
		return t, problem.Newf(problem.Invalid, "Leave it out of the feed.", "The table %s of %s has no columns.", name,
			s.what)
	}
	if t.View {
		return t, source.Coherent(t, s.what)
	}
	if t.Rows, err = s.estimate(ctx, name.Table); err != nil {
		return t, err
	}
	keys, err := s.uniques(ctx, t)
	if err != nil {
		return t, err
	}
	if len(t.Key) == 0 && len(keys) > 0 {
		t.Key, keys = keys[0], keys[1:]
	}
	t.OtherKeys = slices.DeleteFunc(keys, func(k []string) bool { return slices.Equal(k, t.Key) })
	if t.Related, err = s.references(ctx, name.Table); err != nil {
		return t, err
	}
	return t, source.Coherent(t, s.what)
}

// columns describes the columns of a table, and its primary key where no part of that can be null, and each is of a
// type whose values can be told apart by their text.
func (s *Source) columns(ctx context.Context, table string) (columns []schema.Column, key []string, err error) {
	var c schema.Column
	var notNull bool
	var place, hidden int
	type part struct {
		name  string
		place int
	}
	var parts []part
	fits := true
	err = s.rows(ctx, "SELECT name, type, \"notnull\", pk, hidden FROM pragma_table_xinfo(?, 'main') WHERE hidden <> 1 ORDER BY cid",
		[]any{table}, []any{&c.Name, &c.Native, &notNull, &place, &hidden}, func() error {
			c.Type, c.Wire = typed(c.Native)
			c.Nullable, c.Generated = !notNull, hidden > 1
			if place > 0 {
				parts = append(parts, part{c.Name, place})
				fits = fits && c.Wire != wayAny
			}
			columns = append(columns, c)
			return nil
		})
	if err != nil || len(parts) == 0 || !fits {
		return columns, nil, err
	}
	slices.SortFunc(parts, func(a, b part) int { return a.place - b.place })
	rowNumber, err := s.numbersRows(ctx, table, columns, parts[0].name, len(parts))
	if err != nil {
		return nil, nil, err
	}
	for _, p := range parts {
		i := slices.IndexFunc(columns, func(c schema.Column) bool { return c.Name == p.name })
		if columns[i].Nullable && !rowNumber { // a primary key may hold nulls (sqlite.org/lang_createtable.html, 3.5)
			return columns, nil, nil
		}
		columns[i].Nullable = false
		key = append(key, p.name)
	}
	return columns, key, nil
}

// numbersRows tells whether a primary key is the row's own number, or of a table that has none: it is never null then.
func (s *Source) numbersRows(ctx context.Context, table string, columns []schema.Column, first string,
	parts int) (bool, error) {
	var without bool
	if err := s.row(ctx, "SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?", []any{table},
		&without); err != nil {
		return false, err
	}
	if without {
		return true, nil
	}
	i := slices.IndexFunc(columns, func(c schema.Column) bool { return c.Name == first })
	if parts > 1 || !strings.EqualFold(columns[i].Native, "INTEGER") {
		return false, nil
	}
	var indexes int // INTEGER PRIMARY KEY DESC has an index of its own, and may hold nulls
	err := s.row(ctx, "SELECT count(*) FROM pragma_index_list(?, 'main') WHERE origin = 'pk'", []any{table}, &indexes)
	return indexes == 0, err
}

// uniques are the unique keys of columns that cannot be null, the shortest first.
func (s *Source) uniques(ctx context.Context, t schema.Table) (keys [][]string, err error) {
	var index string
	var column sql.NullString
	type candidate struct {
		name    string
		columns []string
		unfit   bool
	}
	var found []candidate
	err = s.rows(ctx, `SELECT l.name, i.name FROM pragma_index_list(?, 'main') l, pragma_index_xinfo(l.name, 'main') i
WHERE l."unique" AND NOT l.partial AND i.key ORDER BY l.seq, i.seqno`, []any{t.Name.Table}, []any{&index, &column},
		func() error {
			if len(found) == 0 || found[len(found)-1].name != index {
				found = append(found, candidate{name: index})
			}
			last := &found[len(found)-1]
			c, there := t.Column(column.String)
			last.columns = append(last.columns, column.String)
			last.unfit = last.unfit || !column.Valid || !there || c.Nullable || c.Wire == wayAny
			return nil
		})
	slices.SortStableFunc(found, func(a, b candidate) int { return len(a.columns) - len(b.columns) })
	for _, c := range found {
		if !c.unfit {
			keys = append(keys, c.columns)
		}
	}
	return keys, err
}

// references are the foreign keys of a table.
func (s *Source) references(ctx context.Context, table string) (list []schema.Reference, err error) {
	var id int
	var to, from string
	var column sql.NullString
	last := -1
	err = s.rows(ctx, `SELECT id, "table", "from", "to" FROM pragma_foreign_key_list(?, 'main') ORDER BY id, seq`,
		[]any{table},
		[]any{&id, &to, &from, &column}, func() error {
			if id != last {
				list, last = append(list, schema.Reference{To: schema.Name{Schema: main, Table: to}}), id
			}
			r := &list[len(list)-1]
			r.Columns = append(r.Columns, from)
			if column.Valid {
				r.ToColumns = append(r.ToColumns, column.String)
			}
			return nil
		})
	for i := range list {
		if err == nil && len(list[i].ToColumns) == 0 { // the primary key is meant
			_, list[i].ToColumns, err = s.columns(ctx, list[i].To.Table)
		}
	}
	return slices.DeleteFunc(list, func(r schema.Reference) bool { return len(r.ToColumns) != len(r.Columns) }), err
}

// Query describes what a SELECT gives. Columns that are a table's own have its types; others have any value.
func (s *Source) Query(ctx context.Context, name schema.Name, text string) (schema.Table, error) {
	t := source.QueryTable(name, text)
	if !isOne(text) {
		return t, source.BadQuery(errors.New("it is more than one statement, or ends with a semicolon"), name, s.what, "")
	}
	c, err := s.connect(ctx)
	if err != nil {
		return t, s.explain(err)
	}
	defer func() { _ = c.Close() }()
	found, err := c.QueryContext(ctx, "SELECT * FROM "+grammar.From(source.Query{Table: t})+" LIMIT 0")
	if err != nil {
		if p := problem.Of(s.explain(err)); p.Code == problem.Refused || p.Code == problem.NoTable {
			return t, source.BadQuery(errors.New(p.What), name, s.what, "")
		}
		return t, s.explain(err)
	}
	defer func() { _ = found.Close() }()
	columns, err := found.ColumnTypes()
	if err != nil {
		return t, s.explain(err)
	}
	for _, c := range columns {
		column := schema.Column{Name: c.Name(), Native: c.DatabaseTypeName(), Nullable: true}
		column.Type, column.Wire = typed(column.Native)
		t.Columns = append(t.Columns, column)
	}
	return t, source.Coherent(t, s.what)
}

// isOne tells whether a text has no semicolon outside of names, texts and comments: the driver would run what
// follows one.
func isOne(text string) bool {
	for i := 0; i < len(text); i++ {
		end, begun := "", 1
		switch c := text[i]; {
		case c == '\'' || c == '"' || c == '`':
			end = string(c)
		case c == '[':
			end = "]"
		case strings.HasPrefix(text[i:], "--"):
			end, begun = "\n", len("--")
		case strings.HasPrefix(text[i:], "/*"):
			end, begun = "*/", len("/*")
		case c == ';':
			return false
		}
		if end != "" {
			n := strings.Index(text[i+begun:], end)
			if n < 0 {
				return end == "\n"
			}
			i += begun + n + len(end) - 1
		}
	}
	return true
}

// Indexed lists the columns that an index of a table begins with.
func (s *Source) Indexed(ctx context.Context, name schema.Name) (columns []string, err error) {
	var column string
	err = s.rows(ctx, `SELECT DISTINCT i.name FROM pragma_index_list(?, 'main') l, pragma_index_xinfo(l.name, 'main') i
WHERE i.seqno = 0 AND i.name IS NOT NULL AND NOT l.partial`, []any{name.Table}, []any{&column}, func() error {
		columns = append(columns, column)
		return nil
	})
	if err != nil {
		return nil, err
	}
	t, err := s.Table(ctx, name)
	if len(t.Key) == 1 && !slices.Contains(columns, t.Key[0]) { // the row's number
		columns = append(columns, t.Key[0])
	}
	return columns, err
}

// Clustered tells whether rows lie in the order of their key, which they do where that is the row's number.
func (s *Source) Clustered(_ context.Context, t schema.Table) (bool, error) {
	if len(t.Key) != 1 || t.View {
		return false, nil
	}
	c, _ := t.Column(t.Key[0])
	return strings.EqualFold(c.Native, "INTEGER"), nil
}

// Findings tells what is worth knowing about reading a table.
func (s *Source) Findings(ctx context.Context, q source.Query) (findings []problem.Finding, err error) {
	add := func(level problem.Level, remedy, format string, args ...any) {
		findings = append(findings, problem.Finding{Level: level, Table: q.Table.Name.Display(), What: fmt.Sprintf(format, args...),
			Remedy: remedy})
	}
	var mode string
	if err := s.row(ctx, "PRAGMA journal_mode", nil, &mode); err != nil {
		return nil, err
	}
	if !strings.EqualFold(mode, "wal") {
		add(problem.Warning, "In the program that writes it: PRAGMA journal_mode = WAL;",
			"The journal mode of the file is %s: whoever writes it waits for as long as rows are read.", mode)
	}
	w := q.Watermark
	if w == nil {
		return findings, nil
	}
	list, err := s.Indexed(ctx, q.Table.Name)
	if q.Table.View || err != nil {
		return findings, err
	}
	if w.Fallback != "" || w.Column.Wire == wayAny || !slices.Contains(list, w.Column.Name) {
		add(problem.Warning, fmt.Sprintf("CREATE INDEX %s ON %s (%s);", schema.Quote("nm_"+w.Column.Name), schema.Quote(q.Table.Name.Table),
			schema.Quote(w.Column.Name)), "No index serves the watermark %s, so every run reads the whole table to find what changed.",
			w.Column.Name)
	}
	if w.Column.Nullable && w.Fallback == "" {
		add(problem.Warning, "Name a fallback column, or make the column NOT NULL.",
			"The watermark %s can be null; such rows are counted and reported, but not replicated.", w.Column.Name)
	}
	return findings, nil
}
