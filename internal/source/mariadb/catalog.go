package mariadb

import (
	"cmp"
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

// Tables lists the tables and views of the database.
func (s *Reader) Tables(ctx context.Context) (tables []schema.Table, err error) {
	var t schema.Table
	var estimate, bytes sql.NullInt64
	err = s.Rows(ctx, `SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE LIKE '%VIEW', TABLE_ROWS, DATA_LENGTH, `+
		`IF(TABLE_TYPE LIKE '%VIEW', '', TABLE_COMMENT) FROM `+
		`information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE <> 'SEQUENCE' ORDER BY 1, 2`, nil,
		[]any{&t.Name.Schema, &t.Name.Table, &t.View, &estimate, &bytes, &orEmpty{&t.Comment}}, func() error {
			t.Rows, t.Bytes = estimated(estimate), estimated(bytes)
			tables = append(tables, t)
			return nil
		})
	if err != nil {
		return nil, err
	}
	keys := map[schema.Name][]string{}
	var name schema.Name
	var column string
	err = s.Rows(ctx, `SELECT TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME FROM information_schema.STATISTICS WHERE `+
		`TABLE_SCHEMA = DATABASE() AND INDEX_NAME = 'PRIMARY' ORDER BY TABLE_NAME, SEQ_IN_INDEX`, nil,
		[]any{&name.Schema, &name.Table, &column}, func() error {
			keys[name] = append(keys[name], column)
			return nil
		})
	for i := range tables {
		tables[i].Key = keys[tables[i].Name]
	}
	return tables, err
}

func estimated(n sql.NullInt64) int64 {
	if !n.Valid {
		return -1
	}
	return n.Int64
}

// Table describes a table and makes sure that it can be read.
func (s *Reader) Table(ctx context.Context, name schema.Name) (schema.Table, error) {
	t := schema.Table{Name: name}
	var estimate sql.NullInt64
	var created string
	err := s.Row(ctx, `SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE LIKE '%VIEW', TABLE_ROWS, CREATE_OPTIONS, `+
		`IF(TABLE_TYPE LIKE '%VIEW', '', TABLE_COMMENT) FROM `+
		`information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND TABLE_TYPE <> 'SEQUENCE'`,
		[]any{name.Schema, name.Table}, &t.Name.Schema, &t.Name.Table, &t.View, &estimate, &orEmpty{&created},
		&t.Comment)
	if errors.Is(err, sql.ErrNoRows) {
		return t, problem.Newf(problem.NoTable,
			"Check whether it was dropped or renamed, then remove it from the feed or correct its name. A table "+
				"without any privilege cannot be seen: "+s.grant(ctx, "SELECT", s.named(name)),
			"The table %s does not exist in %s, or user %q may not see it.", name, s.what, s.settings.User)
	}
	if err != nil {
		return t, err
	}
	if t.Name != name { // the server may not tell upper case from lower
		return t, problem.Newf(problem.NoTable, "Write its name so.", "The table %s of %s is called %s.", name, s.what,
			t.Name)
	}
	t.Rows, t.Partitioned = estimated(estimate), strings.Contains(created, "partitioned")
	made, err := s.created(ctx, name)
	if err != nil {
		return t, err
	}
	if t.Columns, err = s.columns(ctx, name, made); err != nil {
		return t, err
	}
	t.Related = references(tokens(made), name.Schema)
	t.Refers = acting(t.Related)
	if len(t.Columns) == 0 {
		return t, problem.Newf(problem.Invalid, "Leave it out of the feed.", "The table %s of %s has no columns.", name,
			s.what)
	}
	// Whether all of it may be read, the server tells best. Columns that may not be read are not
	// in the catalogue, and those that are invisible are not among all columns.
	err = s.Rows(ctx, "SELECT t.*, "+schema.QuoteAll("t.", t.ColumnNames())+" FROM "+name.Quoted()+" AS t LIMIT 0", nil,
		nil, nil)
	switch number, _ := serverError(err); {
	case number == errNoTableAccess || number == errNoColumnAccess:
		return t, problem.Newf(problem.NoPrivilege, s.grant(ctx, "SELECT", s.named(name)),
			"User %q of %s may not read the table %s: it lacks SELECT.", s.settings.User, s.what, name)
	case err != nil:
		return t, err
	}
	keys, err := s.keys(ctx, name)
	if len(keys) > 0 {
		t.Key, t.OtherKeys = keys[0], keys[1:]
	}
	if err == nil {
		err = source.Coherent(t, s.what)
	}
	return t, err
}

// orEmpty scans a text that may be null.
type orEmpty struct{ into *string }

func (o *orEmpty) Scan(v any) error {
	var text sql.NullString
	err := text.Scan(v)
	*o.into = text.String
	return err
}

// created is the statement that would make a table. It tells more to a user who may only
// read than the catalogue does. It is empty for a view.
func (s *Reader) created(ctx context.Context, name schema.Name) (text string, err error) {
	var called string
	err = s.Row(ctx, "SHOW CREATE TABLE "+name.Quoted(), nil, &called, &text)
	if err != nil && strings.Contains(err.Error(), "expected 4 destination") || problem.Is(err, problem.NoPrivilege) {
		return "", nil
	}
	return text, err
}

// columns describes all columns of a table, in their order; the log has the same order.
// created is the statement that would make it.
func (s *Reader) columns(ctx context.Context, name schema.Name, created string) (columns []schema.Column, err error) {
	var d described
	var nullable string
	err = s.Rows(ctx, `SELECT c.COLUMN_NAME, c.DATA_TYPE, c.COLUMN_TYPE, coalesce(c.CHARACTER_SET_NAME, ''), c.IS_NULLABLE, coalesce(c.NUMERIC_PRECISION, 0), coalesce(c.NUMERIC_SCALE, 0),
  coalesce(c.CHARACTER_OCTET_LENGTH, 0), `+s.server.Generated+`, c.COLUMN_COMMENT
FROM information_schema.COLUMNS c WHERE c.TABLE_SCHEMA = ? AND c.TABLE_NAME = ? ORDER BY c.ORDINAL_POSITION`, []any{name.Schema, name.Table},
		[]any{&d.name, &d.kind, &d.native, &d.charset, &nullable, &d.precision, &d.scale, &d.bytes,
			&d.generated, &d.comment}, func() error {
			d.json = s.server.Checked && strings.Contains(created, "CHECK (json_valid("+schema.Quote(d.name)+"))")
			c := schema.Column{Name: d.name, Native: d.native, Nullable: nullable == "YES", Generated: d.generated,
				Comment: d.comment}
			c.Type, c.Wire = d.typed()
			columns = append(columns, c)
			return nil
		})
	return columns, err
}

// keys finds the unique keys of columns that cannot be null: the primary key, and then the
// shortest first.
func (s *Reader) keys(ctx context.Context, name schema.Name) (keys [][]string, err error) {
	var index, column string
	var nullable, partial bool
	type candidate struct {
		name    string
		columns []string
		unfit   bool
	}
	var found []candidate
	err = s.Rows(ctx, `SELECT s.INDEX_NAME, coalesce(s.COLUMN_NAME, ''), s.NULLABLE = 'YES', s.SUB_PART IS NOT NULL FROM information_schema.STATISTICS s
WHERE s.TABLE_SCHEMA = ? AND s.TABLE_NAME = ? AND s.NON_UNIQUE = 0
  AND NOT EXISTS (SELECT 1 FROM information_schema.COLUMNS c WHERE c.TABLE_SCHEMA = s.TABLE_SCHEMA AND c.TABLE_NAME = s.TABLE_NAME AND c.COLUMN_NAME = s.COLUMN_NAME AND `+s.server.RowEnd+`)
ORDER BY s.INDEX_NAME <> 'PRIMARY', s.INDEX_NAME, s.SEQ_IN_INDEX`, []any{name.Schema, name.Table},
		[]any{&index, &column, &nullable, &partial}, func() error {
			if len(found) == 0 || found[len(found)-1].name != index {
				found = append(found, candidate{name: index})
			}
			last := &found[len(found)-1]
			last.columns, last.unfit = append(last.columns, column), last.unfit || nullable || partial || column == ""
			return nil
		})
	if err != nil {
		return nil, err
	}
	// The primary key first, and then the shortest.
	length := func(c candidate) int {
		if c.name == "PRIMARY" {
			return 0
		}
		return len(c.columns)
	}
	slices.SortStableFunc(found, func(a, b candidate) int { return cmp.Compare(length(a), length(b)) })
	for _, c := range found {
		if !c.unfit {
			keys = append(keys, c.columns)
		}
	}
	return keys, nil
}

// Indexed lists the columns that an index of a table begins with.
func (s *Reader) Indexed(ctx context.Context, name schema.Name) (columns []string, err error) {
	var column string
	err = s.Rows(ctx, `SELECT DISTINCT coalesce(COLUMN_NAME, '') FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND
SEQ_IN_INDEX = 1`, []any{name.Schema, name.Table}, []any{&column}, func() error {
		columns = append(columns, column)
		return nil
	})
	return columns, err
}

// Findings tells what is worth knowing about reading a table by watermark.
func (s *Reader) Findings(ctx context.Context, q source.Query) ([]problem.Finding, error) {
	if q.Watermark == nil {
		return nil, nil
	}
	var findings []problem.Finding
	add := func(level problem.Level, remedy, format string, args ...any) {
		findings = append(findings, problem.Finding{Level: level, Table: q.Table.Name.Display(),
			What: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	w := q.Watermark.Column
	list, err := s.Indexed(ctx, q.Table.Name)
	if err != nil {
		return nil, err
	}
	indexed := slices.Contains(list, w.Name)
	if _, err := s.Moment(ctx); problem.Is(err, problem.NoPrivilege) {
		add(problem.Blocker, problem.Of(err).Remedy, "%s", problem.Of(err).What)
	}
	switch {
	case q.Table.View:
	case q.Watermark.Fallback != "" || w.Type.Kind == schema.Text:
		add(problem.Warning, "Choose a watermark that an index can serve: one column, not of text.",
			"No index can serve the watermark, so every run reads the whole table to find what changed.")
	case !indexed:
		columns := s.Quote(w.Name)
		for _, k := range q.Table.Key {
			if k != w.Name {
				columns += ", " + s.Quote(k)
			}
		}
		add(problem.Warning, fmt.Sprintf("CREATE INDEX %s ON %s (%s);", s.Quote("nm_"+w.Name), s.named(q.Table.Name),
			columns), "No index begins with %s, so every run reads the whole table to find what changed.", w.Name)
	}
	if w.Nullable && q.Watermark.Fallback == "" {
		add(problem.Warning, "Name a fallback column, or make the column NOT NULL.",
			"The watermark %s can be null; such rows are counted and reported, but not replicated.", w.Name)
	}
	if w.Type.Kind == schema.Timestamp {
		zone, err := s.Zone(ctx)
		if err != nil {
			return nil, err
		}
		add(problem.Note, "Name another zone if that is wrong: watermark: {zone: Europe/Berlin}.",
			"The watermark %s has no zone and is taken as written in %s. Where clocks are set back, rows of the "+
				"repeated hour wait until it is over.", w.Name, zone)
	}
	return findings, nil
}
