package sqlite_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/connection"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/source/sqlite"
)

// file is a database that a program writes, and that is read beside it.
type file struct {
	*testing.T
	path   string
	writer *sql.DB
	source.Source
}

func newFile(t *testing.T, statements ...string) *file {
	t.Helper()
	path := filepath.Join(t.TempDir(), "desk.sqlite")
	writer, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = writer.Close() })
	f := &file{T: t, path: path, writer: writer}
	f.exec("PRAGMA journal_mode = WAL", "PRAGMA synchronous = OFF")
	f.exec(statements...)
	f.Source, err = sqlite.Open(connection.Settings{Path: path}, `source "desk"`)
	require.NoError(t, err)
	t.Cleanup(f.Source.Close)
	return f
}

func (f *file) exec(statements ...string) {
	f.Helper()
	for _, s := range statements {
		_, err := f.writer.Exec(s)
		require.NoError(f.T, err, s)
	}
}

func (f *file) table(name string) schema.Table {
	f.Helper()
	t, err := f.Table(f.Context(), schema.Name{Schema: "main", Table: name})
	require.NoError(f.T, err)
	return t
}

// reads gives rows as text, and those that are set aside with their reason.
func (f *file) reads(q source.Query) (list, aside []string) {
	f.Helper()
	q.RowKey, q.NotNull = q.Table.Key, q.Table.Key
	require.NoError(f.T, f.Read(f.Context(), q, func(b rows.Batch) error {
		defer b.Record.Release()
		for _, a := range b.Aside {
			aside = append(aside, a.Key+" "+a.Reason)
		}
		for i := range int(b.Record.NumRows()) {
			var cells []string
			for j, c := range q.Table.Columns {
				text, ok := schema.CellText(b.Record.Column(j), i, c.Type)
				if !ok {
					text = "~"
				}
				cells = append(cells, text)
			}
			list = append(list, strings.Join(cells, "|"))
		}
		return nil
	}))
	return list, aside
}

// Columns come as what they hold; a value that its column's type does not promise is set aside, and none is changed.
func TestValuesAreWhatTheyAre(t *testing.T) {
	f := newFile(t, `CREATE TABLE kinds (id INTEGER PRIMARY KEY, n INT, r REAL, s VARCHAR(10), b BLOB, d DECIMAL(10,2), yes BOOLEAN,
		at DATETIME, free)`,
		`INSERT INTO kinds VALUES (1, 9223372036854775807, 0.1, 'Œsling', x'00ff', 12.50, 1, '2026-03-01 09:00:00', 'a')`,
		`INSERT INTO kinds VALUES (2, -9223372036854775808, 1e300, '', x'', 10, 0, 1772355600, x'01')`,
		`INSERT INTO kinds VALUES (3, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)`,
		`INSERT INTO kinds VALUES (4, 5, 9e999, char(0) || 'x', x'41', 1e-7, 1, '2026-03-01T09:00:00Z', 2.5)`,
		`INSERT INTO kinds (id, n) VALUES (10, 'five')`, `INSERT INTO kinds (id, n) VALUES (11, 1.5)`,
		`INSERT INTO kinds (id, r) VALUES (12, 'many')`, `INSERT INTO kinds (id, s) VALUES (13, x'ff')`,
		`INSERT INTO kinds (id, b) VALUES (14, 'text')`, `INSERT INTO kinds (id, d) VALUES (15, 'dear')`,
		`INSERT INTO kinds (id, yes) VALUES (16, 2)`, `INSERT INTO kinds (id, s) VALUES (17, CAST(x'ff' AS TEXT))`)
	table := f.table("kinds")
	require.Equal(t, []string{"id"}, table.Key)
	var types []string
	for _, c := range table.Columns {
		types = append(types, c.Type.String())
	}
	require.Equal(t, "int64 int64 float64 text bytes numeric bool text text", strings.Join(types, " "))
	list, aside := f.reads(source.Query{Table: table, Newest: true})
	require.Equal(t, []string{`1|9223372036854775807|0.1|Œsling|\x00ff|12.5|true|2026-03-01 09:00:00|a`,
		`2|-9223372036854775808|1e+300||\x|10|false|1772355600|\x01`, "3|~|~|~|~|~|~|~|~",
		"4|5|+Inf|\x00x|\\x41|1e-07|true|2026-03-01T09:00:00Z|2.5"}, list)
	for i, why := range []string{"is a text, where its type promises integers", "is a real number, where",
		"promises numbers",
		"is bytes, where its type promises texts", "promises bytes", "promises numbers", "promises 0 and 1",
		"not text in UTF-8"} {
		require.Contains(t, aside[i], why)
		require.True(t, strings.HasPrefix(aside[i], fmt.Sprintf(`["%d"]`, 10+i)), aside[i])
	}
	for i, c := range table.Columns { // named under as_text, all are kept
		if i > 0 {
			table.Columns[i] = c.AsText()
		}
	}
	list, aside = f.reads(source.Query{Table: table, Newest: true})
	require.Len(t, list, 11)
	require.Len(t, aside, 1, "bytes that are no text in UTF-8 have no text")
	require.Contains(t, list[4], "10|five|")
}

func TestKeysAndReferences(t *testing.T) {
	f := newFile(t, "CREATE TABLE plain (id INTEGER PRIMARY KEY)",
		"CREATE TABLE loose (id TEXT PRIMARY KEY, other INT NOT NULL UNIQUE)",
		"CREATE TABLE firm (a TEXT, b INT, PRIMARY KEY (b, a)) WITHOUT ROWID",
		"CREATE TABLE any_key (id PRIMARY KEY NOT NULL)",
		"CREATE TABLE down (id INTEGER PRIMARY KEY DESC)", "CREATE TABLE none (x INT)",
		"CREATE TABLE partial (x INT NOT NULL)", "CREATE UNIQUE INDEX some ON partial (x) WHERE x > 0",
		"CREATE TABLE computed (id INTEGER PRIMARY KEY, a INT, b INT AS (a + 1), c INT AS (a + 2) STORED)",
		"CREATE TABLE refers (id INTEGER PRIMARY KEY, p INT REFERENCES plain, a TEXT, b INT, FOREIGN KEY (b, a) REFERENCES firm)",
		"CREATE VIEW seen AS SELECT id, a + 1 AS next FROM computed", "CREATE VIRTUAL TABLE words USING fts5(text)",
		`CREATE TABLE "odd ""name" ("a b" INTEGER PRIMARY KEY, "select" TEXT)`, `INSERT INTO "odd ""name" VALUES (1, 'x')`)
	for name, key := range map[string][]string{"plain": {"id"}, "loose": {"other"}, "firm": {"b", "a"}, "any_key": nil,
		"none":    nil,
		"partial": nil, "down": nil, `odd "name`: {"a b"}} {
		require.Equal(t, key, f.table(name).Key, name)
	}
	computed := f.table("computed")
	require.True(t, !computed.Columns[1].Generated && computed.Columns[2].Generated && computed.Columns[3].Generated)
	related := f.table("refers").Related
	require.Len(t, related, 2)
	for _, r := range related {
		require.Equal(t, map[string][]string{"plain": {"id"}, "firm": {"b", "a"}}[r.To.Table], r.ToColumns)
	}
	tables, err := f.Tables(t.Context())
	require.NoError(t, err)
	require.Len(t, tables, 12, "tables of SQLite's own are not among them")
	require.True(t, f.table("seen").View)
	list, _ := f.reads(source.Query{Table: f.table(`odd "name`)})
	require.Equal(t, []string{"1|x"}, list)
	_, err = f.Table(t.Context(), schema.Name{Schema: "main", Table: "Plain"})
	require.ErrorContains(t, err, "is called main.plain")
	_, err = f.Table(t.Context(), schema.Name{Schema: "public", Table: "plain"})
	require.True(t, problem.Is(err, problem.NoTable), "%v", err)
	clustered, err := f.Source.(source.Clustered).Clustered(t.Context(), f.table("plain"))
	require.NoError(t, err)
	require.True(t, clustered)
}

// A watermark's windows find each row once, whatever is among its values, and those that no window finds are counted.
func TestWindowsOfWatermarks(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		kind := rapid.SampledFrom([]string{"INTEGER", "REAL", "TEXT", "NUMERIC", "TEXT COLLATE NOCASE", "DATETIME"}).Draw(rt,
			"kind")
		values := map[string][]string{
			"INTEGER": {"-3", "0", "7", "7", "9007199254740993", "'x'", "x'00'", "NULL"},
			"REAL":    {"-1.5", "0", "0.1", "1e300", "'x'", "x'00'", "NULL"},
			"NUMERIC": {"1", "1.5", "20", "'x'", "NULL"},
			"TEXT":    {"''", "'a'", "'B'", "'b'", "'Œ'", "'10'", "'9'", "x'61'", "NULL"}}
		values["TEXT COLLATE NOCASE"], values["DATETIME"] = values["TEXT"], []string{"'2026-01-01'", "'2026-01-02 10:00'",
			"x'61'", "NULL"}
		f := newFile(t, "CREATE TABLE loans (id INTEGER PRIMARY KEY, w "+kind+")", "CREATE INDEX by_w ON loans (w)")
		n := rapid.IntRange(0, 30).Draw(rt, "rows")
		for range n {
			f.exec("INSERT INTO loans (w) VALUES (" + rapid.SampledFrom(values[kind]).Draw(rt, "value") + ")")
		}
		q := source.Query{Table: f.table("loans"), Ordered: true}
		w, _ := q.Table.Column("w")
		q.Watermark = &source.Watermark{Column: w}
		unseen, err := f.Nulls(t.Context(), q)
		require.NoError(t, err)
		var bad int64
		require.NoError(t, f.writer.QueryRow("SELECT count(*) FROM loans WHERE w IS NULL OR typeof(w) = 'blob' OR typeof(w) = 'text' AND ?",
			kind == "INTEGER" || kind == "REAL" || kind == "NUMERIC").Scan(&bad))
		require.Equal(t, bad, unseen)
		highest, err := f.Highest(t.Context(), q)
		require.NoError(t, err)
		if highest == "" { // nothing, or an empty text, which comes with the first that is not
			var empty int64
			require.NoError(t, f.writer.QueryRow("SELECT count(*) FROM loans WHERE w = ''").Scan(&empty))
			require.EqualValues(t, n, bad+empty)
			bad += empty
		}
		seen := map[string]bool{}
		for at := (*position.Position)(nil); highest != ""; {
			q.Limit, q.Window = int64(rapid.IntRange(1, 5).Draw(rt, "page")), window.Window{High: highest}
			if at != nil {
				q.Window.Low = *at
			}
			q.Table.Columns[1] = w
			list, aside := f.reads(q)
			require.Empty(t, aside)
			for _, row := range list {
				id, value, _ := strings.Cut(row, "|")
				require.False(t, seen[id], "%s comes twice", row)
				seen[id] = true
				at = &position.Position{Value: value, After: []string{id}}
			}
			if len(list) < int(q.Limit) {
				break
			}
		}
		require.Len(t, seen, n-int(bad))
	})
}

func TestAWatermarkOfNumbersThatNobodyPromised(t *testing.T) {
	f := newFile(t, "CREATE TABLE loans (id INTEGER PRIMARY KEY, at DATETIME)", "INSERT INTO loans VALUES (1, 9), (2, 10)")
	q := source.Query{Table: f.table("loans")}
	q.Watermark = &source.Watermark{Column: q.Table.Columns[1]}
	_, err := f.Highest(t.Context(), q)
	require.ErrorContains(t, err, "as texts they would sort otherwise")
	_, err = f.Table(t.Context(), schema.Name{Schema: "main", Table: "gone"})
	require.True(t, problem.Is(err, problem.NoTable))
	numbered, err := f.Query(t.Context(), schema.Name{Schema: "q", Table: "numbered"},
		"SELECT id, CAST(at AS INTEGER) AS at FROM loans")
	require.NoError(t, err)
	require.Len(t, numbered.Columns, 2)
}

// Who writes goes on while rows are read, and the rows are those of one moment.
func TestRowsAreReadBesideAWriter(t *testing.T) {
	f := newFile(t, "CREATE TABLE loans (id INTEGER PRIMARY KEY, note TEXT)",
		"WITH n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5000) INSERT INTO loans SELECT i, 'before' FROM n")
	table := f.table("loans")
	n := 0
	require.NoError(t, f.Read(t.Context(), source.Query{Table: table, Batch: 100}, func(b rows.Batch) error {
		defer b.Record.Release()
		if n += int(b.Record.NumRows()); n == 100 {
			f.exec("UPDATE loans SET note = 'after'", "INSERT INTO loans VALUES (9999, 'after')")
		}
		for i := range int(b.Record.NumRows()) {
			text, _ := schema.CellText(b.Record.Column(1), i, table.Columns[1].Type)
			require.Equal(t, "before", text)
		}
		return nil
	}))
	require.Equal(t, 5000, n)
	count, err := f.Count(t.Context(), source.Query{Table: table})
	require.NoError(t, err)
	require.EqualValues(t, 5001, count)

	digests := func() []source.Digest {
		list, err := f.Digests(t.Context(), source.Query{Table: table}, []source.KeyRange{{UpTo: []string{"2500"}},
			{After: []string{"2500"}}})
		require.NoError(t, err)
		return list
	}
	before := digests()
	require.EqualValues(t, 2500, before[0].Rows)
	f.exec("UPDATE loans SET note = NULL WHERE id = 9999")
	after := digests()
	require.Equal(t, before[0], after[0])
	require.NotEqual(t, before[1], after[1])
	var whole source.Digest
	at := len(table.Columns)
	require.NoError(t, f.Read(t.Context(), source.Query{Table: table, Digest: true}, func(b rows.Batch) error {
		defer b.Record.Release()
		for i := range int(b.Record.NumRows()) {
			text, _ := schema.CellText(b.Record.Column(at), i, schema.Type{Kind: schema.Text})
			require.NoError(t, whole.Add(text))
		}
		return nil
	}))
	require.Equal(t, after[0].Halves[0]+after[1].Halves[0], whole.Halves[0], "rows have the same digests in both")

	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(100*time.Millisecond, cancel)
	endless, err := f.Query(t.Context(), schema.Name{Schema: "q", Table: "endless"},
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n WHERE i < 0")
	require.NoError(t, err)
	require.ErrorIs(t, f.Read(ctx, source.Query{Table: endless}, func(rows.Batch) error { return nil }), context.Canceled)
}

// Nothing that a file or a feed says has more done than its tables read.
func TestNothingIsDoneButReading(t *testing.T) {
	f := newFile(t, "CREATE TABLE loans (id INTEGER PRIMARY KEY)", "INSERT INTO loans VALUES (1)",
		"CREATE VIEW loads AS SELECT load_extension('/tmp/x.so') AS x", "CREATE VIEW huge AS SELECT zeroblob(900000000) AS x",
		"CREATE VIEW changes AS SELECT * FROM pragma_user_version")
	other := filepath.Join(t.TempDir(), "other.sqlite")
	for _, text := range []string{"SELECT 1; DELETE FROM loans", "SELECT 1) AS t; ATTACH '" + other + "' AS o; SELECT (1",
		"DELETE FROM loans",
		"SELECT 1 AS a;", "PRAGMA user_version = 3", "ATTACH '" + other + "' AS o", "SELECT load_extension('x') AS x",
		"SELECT * FROM loads",
		"SELECT 'a;b' AS a; --", "INSERT INTO loans VALUES (2) RETURNING id", "VACUUM INTO '" + other + "'",
		"SELECT * FROM changes",
		"SELECT nothing FROM loans", "SELECT", "SELECT 1 AS a /*/ ' */; SELECT '2' AS b", "SELECT 1 AS a /* ; */ ; SELECT 2"} {
		q, err := f.Query(t.Context(), schema.Name{Schema: "q", Table: "tried"}, text)
		if err == nil {
			err = f.Read(t.Context(), source.Query{Table: q}, func(rows.Batch) error { return nil })
		}
		require.Error(t, err, text)
		require.NotEmpty(t, problem.Of(err).Remedy, "%s: %v", text, err)
	}
	for _, text := range []string{"SELECT 'a;b' AS a", "SELECT id AS \"x;y\" FROM loans -- ; and more",
		"SELECT 1 AS [a;b]",
		"SELECT 1 AS a /*/ ; */"} {
		_, err := f.Query(t.Context(), schema.Name{Schema: "q", Table: "taken"}, text)
		require.NoError(t, err, text)
	}
	err := f.Read(t.Context(), source.Query{Table: f.table("huge")}, func(rows.Batch) error { return nil })
	require.ErrorContains(t, err, "more than 256 MB")
	require.NoFileExists(t, other)
	require.Error(t, f.Mend(t.Context(), "DELETE FROM loans"))
	n, err := f.Count(t.Context(), source.Query{Table: f.table("loans")})
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
}

// Each way in which a file cannot be read is told apart, with its remedy.
func TestFilesThatCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	test := func(path string) error {
		s, err := sqlite.Open(connection.Settings{Path: path}, `source "desk"`)
		require.NoError(t, err)
		defer s.Close()
		_, err = s.Test(t.Context())
		return err
	}
	require.True(t, problem.Is(test(filepath.Join(dir, "nothing.sqlite")), problem.NoDatabase))
	text := filepath.Join(dir, "text")
	require.NoError(t, os.WriteFile(text, []byte(strings.Repeat("no database ", 1000)), 0o600))
	require.ErrorContains(t, test(text), "is no SQLite database")

	f := newFile(t, "CREATE TABLE loans (id INTEGER PRIMARY KEY, note TEXT)",
		"WITH n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) INSERT INTO loans SELECT i, hex(randomblob(50)) FROM n",
		"PRAGMA wal_checkpoint(TRUNCATE)")
	version, err := f.Test(t.Context())
	require.NoError(t, err)
	require.Regexp(t, `^SQLite 3\.\d+\.\d+ \(journal wal\)$`, version)
	findings, err := f.Findings(t.Context(), source.Query{Table: f.table("loans")})
	require.NoError(t, err)
	require.Empty(t, findings)
	f.Rest()
	f.exec("PRAGMA journal_mode = DELETE")
	findings, err = f.Findings(t.Context(), source.Query{Table: f.table("loans")})
	require.NoError(t, err)
	require.Contains(t, findings[0].What, "whoever writes it waits")

	content, err := os.ReadFile(f.path)
	require.NoError(t, err)
	for i := 40 * 4096; i < len(content); i++ {
		content[i] ^= 0xa5
	}
	damaged := filepath.Join(dir, "damaged.sqlite")
	require.NoError(t, os.WriteFile(damaged, content, 0o600))
	s, err := sqlite.Open(connection.Settings{Path: damaged}, `source "desk"`)
	require.NoError(t, err)
	defer s.Close()
	table := f.table("loans")
	err = s.Read(t.Context(), source.Query{Table: table}, func(rows.Batch) error { return nil })
	require.ErrorContains(t, err, "is damaged")
	require.Contains(t, problem.Of(err).Remedy, "integrity_check")
	for _, wrong := range []connection.Settings{{}, {Path: "x", Host: "h"}} {
		_, err := sqlite.Open(wrong, "x")
		require.True(t, problem.Is(err, problem.Invalid))
	}
}
