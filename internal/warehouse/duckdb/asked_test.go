//go:build duckdb_arrow

package duckdb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/schema"
	"noemata/internal/testkit/answers"
	"noemata/internal/warehouse"
)

// library is a file with some tables, as feeds leave them.
func library(t testing.TB) *Warehouse {
	t.Helper()
	opened, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, "warehouse lake")
	require.NoError(t, err)
	w := opened.(*Warehouse)
	t.Cleanup(w.Close)
	c, err := w.connect(t.Context())
	require.NoError(t, err)
	defer c.Close()
	for _, sql := range []string{"CREATE SCHEMA noemata",
		"CREATE TABLE noemata.positions (feed VARCHAR, position VARCHAR)",
		"INSERT INTO noemata.positions VALUES ('desk', '0/1')", "CREATE SCHEMA kept", "CREATE SCHEMA pay",
		"CREATE TABLE kept.loans (id INTEGER, title VARCHAR, lent_at TIMESTAMP WITH TIME ZONE, fee DECIMAL(8,2))",
		"INSERT INTO kept.loans VALUES (1, 'Low Tide', '2026-03-01 09:00:00Z', 1.50), (2, 'The Weir', '2026-03-02 " +
			"10:30:00Z', NULL)",
		"CREATE TABLE pay.fines (id INTEGER, amount DECIMAL(8,2))", "INSERT INTO pay.fines VALUES (1, 2.00)",
		"CREATE TABLE main.notes (id INTEGER)", "CREATE TABLE main.pg_notes (id INTEGER)", "CREATE SEQUENCE kept.numbers",
		"CREATE MACRO kept.loans_as_of(nm_moment) AS TABLE SELECT * FROM kept.loans WHERE lent_at <= nm_moment"} {
		_, err := c.Exec(t.Context(), sql)
		require.NoError(t, err, sql)
	}
	return w
}

// everyone may ask all but what Noemata keeps for itself.
func everyone(schema string) bool { return schema != "noemata" }

func converse(t testing.TB, w *Warehouse, may warehouse.May) warehouse.Conversation {
	t.Helper()
	c, err := w.Converse(t.Context(), may)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func TestQuestionsAreAnswered(t *testing.T) {
	c := converse(t, library(t), everyone)
	for sql, want := range map[string][]string{
		"SELECT id, title, fee FROM kept.loans ORDER BY id": {"1|Low Tide|1.50", "2|The Weir|~"},
		"FROM kept.loans SELECT max(lent_at)":               {"2026-03-02T10:30:00.000000Z"},
		"VALUES (1, 'a'), (2, NULL)":                        {"1|a", "2|~"},
		"TABLE pay.fines":                                   {"1|2.00"},
		"WITH a AS (SELECT 1 AS x), b AS (SELECT x + 1 AS y FROM a) SELECT * FROM a, b":      {"1|2"},
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3) FROM n": {"1", "2", "3"},
		"SELECT count(*) FROM kept.loans_as_of(TIMESTAMPTZ '2026-03-01 12:00:00Z')":          {"1"},
		"SELECT sum(id), [1, 2], {'a': 1}, 5::UTINYINT, 1::UBIGINT FROM kept.loans":          {`3|[1,2]|{"a":1}|5|1`},
		"SELECT 'b'::ENUM('a', 'b'), TIMESTAMP_NS '2026-01-01 00:00:00.123456789', " +
			"'101'::BIT": {"b|2026-01-01T00:00:00.123456789|101"},
		"SELECT table_schema FROM information_schema.tables WHERE table_name = 'loans'": {"kept"},
		"SELECT relname FROM pg_catalog.pg_class WHERE relname = 'fines'":               {"fines"},
		"SELECT lake.kept.loans.id FROM lake.kept.loans ORDER BY 1":                     {"1", "2"},
		"SELECT NULL": {"~"},
	} {
		rows, err := answers.Rows(t.Context(), c, sql)
		require.NoError(t, err, sql)
		require.Equal(t, want, rows, sql)
	}
	rows, err := answers.Rows(t.Context(), c, "EXPLAIN SELECT * FROM kept.loans")
	require.NoError(t, err)
	require.Contains(t, strings.Join(rows, ""), "loans")
	rows, err = answers.Rows(t.Context(), c, "DESCRIBE kept.loans")
	require.NoError(t, err)
	require.Len(t, rows, 4)
}

// Every type that DuckDB has comes out as its own text says, at its edges, too.
func TestAnswersOfEveryType(t *testing.T) {
	w := library(t)
	x, err := w.connect(t.Context())
	require.NoError(t, err)
	_, err = x.Exec(t.Context(), "CREATE TABLE kept.kinds AS FROM test_all_types()")
	require.NoError(t, err)
	columns, err := x.Ask(t.Context(), "SELECT column_name, data_type FROM duckdb_columns() WHERE table_name = 'kinds'")
	require.NoError(t, err)
	require.Greater(t, len(columns), 50)
	x.Close()
	c := converse(t, w, everyone)
	var elsewhere []string // types that a person has to ask for as text
	for _, column := range columns {
		name := fmt.Sprintf("%q", column[0])
		rows, err := answers.Rows(t.Context(), c, "SELECT "+name+" FROM kept.kinds")
		if m := (*warehouse.Mistake)(nil); errors.As(err, &m) && m.State == "0A000" {
			require.Contains(t, m.Message, "AS VARCHAR)")
			elsewhere = append(elsewhere, column[1].(string))
			continue
		}
		require.NoError(t, err, "%v", column)
		texts, err := answers.Rows(t.Context(), c, "SELECT CAST("+name+" AS VARCHAR) FROM kept.kinds")
		require.NoError(t, err, "%v", column)
		if written := map[string]bool{"date": true, "time": true, "timestamp": true, "timestamp_s": true,
			"timestamp_ms": true,
			"timestamp_ns": true, "timestamp_tz": true, "timestamp_array": true, "timestamptz_array": true, "map": true,
			"interval": true, "blob": true}; written[column[0].(string)] {
			continue // in a form that is the same whichever database they come from, and tested there
		}
		for i := range rows {
			plain := strings.NewReplacer(" ", "", "'", "", `"`, "", "NULL", "null", "~", "null", "42.0", "42",
				"nan", "NaN", "-inf,", "-Inf,", "inf,", "+Inf,", "1970-01-01T00:00:00.000000", "1970-01-01 00:00:00")
			require.Equal(t, plain.Replace(texts[i]), plain.Replace(rows[i]), "%v", column)
		}
	}
	require.Len(t, elsewhere, 6, "%v", elsewhere)
}

// A list of something shows what that shows by itself, and so does a struct.
func TestListsShowWhatIsInThem(t *testing.T) {
	w := library(t)
	x, err := w.connect(t.Context())
	require.NoError(t, err)
	_, err = x.Exec(t.Context(), "CREATE TABLE kept.kinds AS FROM test_all_types()")
	require.NoError(t, err)
	columns, err := x.Ask(t.Context(), `SELECT column_name FROM duckdb_columns() WHERE table_name = 'kinds' AND data_type NOT LIKE '%[%'
		AND data_type NOT LIKE 'STRUCT%' AND data_type NOT LIKE 'MAP%'`)
	require.NoError(t, err)
	x.Close()
	c := converse(t, w, everyone)
	compared := 0
	for _, column := range columns {
		name := fmt.Sprintf("%q", column[0])
		alone, err := answers.Rows(t.Context(), c, "SELECT "+name+" FROM kept.kinds")
		if err != nil {
			continue
		}
		for form, sql := range map[string]string{"[%s]": "[" + name + "]", `{"a":%s}`: "{'a': " + name + "}"} {
			within, err := answers.Rows(t.Context(), c, "SELECT "+sql+" FROM kept.kinds")
			var m *warehouse.Mistake
			if errors.As(err, &m) && m.State == "0A000" {
				continue // refused, with the cast that helps
			}
			require.NoError(t, err)
			compared++
			for i := range alone {
				quoted, err := json.Marshal(alone[i])
				require.NoError(t, err)
				require.Contains(t, []string{fmt.Sprintf(form, alone[i]), fmt.Sprintf(form, quoted), fmt.Sprintf(form, "null")},
					within[i],
					"%v", column)
			}
		}
	}
	require.Greater(t, compared, 40)
}

// What a person writes is not taken for a question of a client about the catalogue.
func TestWordsOfTheCatalogueAreLeftAlone(t *testing.T) {
	c := converse(t, library(t), everyone)
	for sql, want := range map[string]string{
		"SELECT 'see pg_catalog.pg_class', count(*) FROM kept.loans":                        "see pg_catalog.pg_class|2",
		"SELECT count(*) FROM kept.loans WHERE title ~ '^Low' OR title = 'pg_'":             "0",
		"SELECT 'pg_catalog.x', relname FROM pg_catalog.pg_class WHERE relname ~ '^loan'":   "pg_catalog.x|loans",
		"SELECT 'a::regclass' || '::name', nspname FROM pg_namespace WHERE nspname = 'pay'": "a::regclass::name|pay",
	} {
		rows, err := answers.Rows(t.Context(), c, sql)
		require.NoError(t, err, sql)
		require.Equal(t, []string{want}, rows, sql)
	}
}

// Values of parameters have the types that the question gives them.
func TestQuestionsTakeValues(t *testing.T) {
	c := converse(t, library(t), everyone)
	for _, x := range []struct {
		sql    string
		values []string
		want   string
	}{
		{"SELECT title FROM kept.loans WHERE id = $1", []string{"2"}, "The Weir"},
		{"SELECT id FROM kept.loans WHERE lent_at > $1", []string{"2026-03-02"}, "2"},
		{"SELECT id FROM kept.loans WHERE lent_at::DATE = $1", []string{"2026-03-01"}, "1"},
		{"SELECT id FROM kept.loans WHERE fee = $1", []string{"1.5"}, "1"},
		{"SELECT id FROM kept.loans WHERE title = $1 AND id < $2", []string{"Low Tide", "5"}, "1"},
		{"SELECT $1::INTEGER + 1", []string{"41"}, "42"},
		{"SELECT title FROM kept.loans WHERE id = $1", []string{"02"}, "The Weir"},
		{"SELECT $1", []string{"as it is"}, "as it is"},
		{"SELECT $1::BOOLEAN", []string{"t"}, "true"},
		{"SELECT $1::UUID", []string{"6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f"}, "6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f"},
		{"SELECT $1::BLOB", []string{`\x00ff`}, `\x00ff`},
		{"SELECT $1::DATE + 1", []string{"2026-01-31"}, "2026-02-01"},
	} {
		rows, err := answers.Rows(t.Context(), c, x.sql, x.values...)
		require.NoError(t, err, x.sql)
		require.Equal(t, []string{x.want}, rows, x.sql)
	}
}

// What is not a question, or reaches further than its asker may, is refused, and says why.
func TestWhatIsNotAQuestionIsRefused(t *testing.T) {
	w := library(t)
	c := converse(t, w, func(s string) bool { return s == "kept" })
	for sql, state := range map[string]string{
		"INSERT INTO kept.loans VALUES (3)": "25006", "UPDATE kept.loans SET id = 1": "25006",
		"DELETE FROM kept.loans": "25006", "TRUNCATE kept.loans": "25006", "DROP TABLE kept.loans": "25006",
		"CREATE TABLE kept.x (i INT)": "25006", "CREATE TEMP TABLE x (i INT)": "25006",
		"CREATE TEMP MACRO m() AS 1": "25006", "ALTER TABLE kept.loans ADD COLUMN x INT": "25006",
		"COPY kept.loans TO '/tmp/x.csv'": "25006", "COPY kept.loans FROM '/etc/passwd'": "25006",
		"EXPORT DATABASE '/tmp/x'": "25006", "ATTACH '/tmp/x.db'": "25006", "ATTACH ':memory:' AS m": "25006",
		"DETACH lake": "25006", "USE kept": "25006", "SET threads = 1": "25006", "RESET threads": "25006",
		"PRAGMA database_list": "25006", "CALL checkpoint()": "25006", "CHECKPOINT": "25006", "VACUUM": "25006",
		"INSTALL httpfs": "25006", "LOAD httpfs": "25006", "BEGIN": "25006", "COMMIT": "25006", "ROLLBACK": "25006",
		"PREPARE p AS SELECT 1": "25006", "EXECUTE p": "25006", "CREATE SECRET (TYPE s3)": "25006",
		"EXPLAIN ANALYZE DELETE FROM kept.loans": "25006", "EXPLAIN INSERT INTO kept.loans VALUES (3)": "25006",
		"WITH x AS (SELECT 1) INSERT INTO kept.loans SELECT * FROM x": "25006", "SELECT nextval('kept.numbers')": "25006",
		"SELECT write_log('x')": "25006",
		"SELECT 1; SELECT 2":    "42601", "SELECT 1; DROP TABLE kept.loans": "25006", "": "42601", "SELEC 1": "42601",
		"SELECT": "42601", "SELECT FROM kept.loans WHERE": "42601",
		"SELECT * FROM noemata.positions": "42501", "SELECT * FROM NOEMATA.positions": "42501",
		`SELECT * FROM "lake"."noemata"."positions"`: "42501", "SELECT * FROM pay.fines": "42501",
		"SELECT (SELECT max(id) FROM pay.fines)":                                             "42501",
		"SELECT * FROM kept.loans WHERE id IN (SELECT id FROM pay.fines)":                    "42501",
		"SELECT 1 UNION SELECT id FROM pay.fines":                                            "42501",
		"WITH x AS (SELECT * FROM pay.fines) SELECT 1":                                       "42501",
		"SELECT * FROM notes":                                                                "42501",
		"WITH notes AS (SELECT * FROM notes) SELECT * FROM notes":                            "42501",
		"SELECT * FROM (WITH notes AS (SELECT 1) SELECT * FROM notes), notes":                "42501",
		"WITH notes AS (SELECT *, 'RECURSIVE_CTE_NODE' AS x FROM notes) SELECT * FROM notes": "42501",
		"WITH a AS (WITH RECURSIVE b AS (SELECT 1) SELECT * FROM a) SELECT * FROM a":         "42501",
		"SELECT * FROM pg_notes":                                                             "42501", "PIVOT pay.fines ON id IN (1) USING count(*)": "42501",
		"DESCRIBE pay.fines": "42501", "SUMMARIZE pay.fines": "42501", "DESCRIBE TABLE pay.fines": "42501",
		"SELECT * FROM query('SELECT * FROM pay.fines')": "42501", "SELECT * FROM query_table('pay.fines')": "42501",
		"SELECT * FROM kept.loans l, LATERAL (SELECT * FROM pay.fines) f": "42501",
		"EXPLAIN SELECT * FROM pay.fines":                                 "42501",
		"SELECT * FROM read_text('/etc/passwd')":                          "42501",
		"SELECT * FROM read_csv('/etc/passwd')":                           "42501",
		"SELECT * FROM glob('/*')":                                        "42501", "SELECT * FROM '/etc/passwd'": "42501",
		"SELECT * FROM parquet_scan('/x')": "42501", "SELECT * FROM duckdb_settings()": "42501",
		"SELECT * FROM duckdb_secrets()": "42501", "SELECT * FROM duckdb_logs": "42501",
		"SELECT * FROM checkpoint()":                      "42501",
		"SELECT * FROM json_execute_serialized_sql('{}')": "42501", "SELECT * FROM enable_logging()": "42501",
		"SELECT * FROM pragma_database_list": "42501", "SELECT * FROM seq_scan('pay.fines')": "42501",
		"SELECT * FROM histogram('pay.fines', id)": "42501", "SELECT * FROM pg_catalog.query('SELECT 1')": "42501",
		"SELECT * FROM kept.query('FROM pay.fines')": "42501", "SELECT * FROM main.query('FROM pay.fines')": "42501",
		"SELECT * FROM system.main.query('FROM pay.fines')": "42501", "SELECT * FROM lake.main.query_table('x')": "42501",
		"SELECT * FROM main.arrow_scan(1, 2, 3)": "42501", "SELECT * FROM kept.range(3)": "42501",
		"SELECT * FROM system.kept.loans_as_of(now())": "42501",
		"SELECT * FROM sql_auto_complete('SEL')":       "42501", "SELECT * FROM which_secret('s3://', 's3')": "42501",
		"SELECT * FROM temp.information_schema.tables": "42501", "SELECT * FROM other.kept.loans": "42501",
		"SELECT * FROM kept.nothing": "42P01", "SELECT nothing FROM kept.loans": "42703", "SELECT nothing(1)": "42883",
		"SELECT 'x'::INTEGER": "22P02", "SELECT 1::nothing": "42704", "SELECT id, count(*) FROM kept.loans": "42803",
		"SELECT 300::TINYINT": "22003", "SELECT \xff": "22021", "SELECT error('mine')": "22023",
	} {
		_, err := answers.Rows(t.Context(), c, sql)
		var m *warehouse.Mistake
		require.True(t, errors.As(err, &m), "%s: %v", sql, err)
		require.Equal(t, state, m.State, "%s: %v", sql, err)
		require.NotEmpty(t, m.Message)
	}
	rows, err := answers.Rows(t.Context(), c, "SELECT count(*) FROM kept.loans")
	require.NoError(t, err, "after all that questions are still answered")
	require.Equal(t, []string{"2"}, rows)
}

// Each mistake of those who ask has its SQLSTATE and a sentence, and harms nothing. testdata/mistakes.sql has a
// state and
// a statement in each line.
func TestMistakesAreTold(t *testing.T) {
	w := library(t)
	c := converse(t, w, func(s string) bool { return s == "kept" })
	content, err := os.ReadFile("testdata/mistakes.sql")
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSuffix(string(content), "\n"), "\n")
	require.Greater(t, len(lines), 150)
	for _, line := range lines {
		state, sql, _ := strings.Cut(line, " ")
		_, err := answers.Rows(t.Context(), c, sql)
		var m *warehouse.Mistake
		if assert.True(t, errors.As(err, &m), "%s: %v", sql, err) {
			assert.Equal(t, state, m.State, "%s: %v", sql, err)
			assert.NotEmpty(t, m.Message, sql)
		}
	}
	rows, err := answers.Rows(t.Context(), c, "SELECT count(*) FROM kept.loans")
	require.NoError(t, err)
	require.Equal(t, []string{"2"}, rows)
}

// Nor does somebody who may ask all reach what is Noemata's, or DuckDB's own functions by their schema.
func TestWhatNobodyMayAsk(t *testing.T) {
	c := converse(t, library(t), everyone)
	for _, sql := range []string{"SELECT * FROM noemata.positions", "SELECT * FROM main.query('FROM noemata.positions')",
		"SELECT * FROM main.query_table('noemata.positions')", "SELECT * FROM system.main.read_text('/etc/passwd')",
		"SELECT * FROM main.arrow_scan(1, 2, 3)", "SELECT * FROM main.seq_scan('x')", "DESCRIBE noemata.positions",
		"SELECT * FROM pg_catalog.query('FROM noemata.positions')", "SELECT (SELECT feed FROM noemata.positions)"} {
		_, err := answers.Rows(t.Context(), c, sql)
		var m *warehouse.Mistake
		require.True(t, errors.As(err, &m), "%s: %v", sql, err)
		require.Equal(t, "42501", m.State, "%s: %v", sql, err)
	}
}

// The tree of a question shows all that it reads, so the list of functions that may be asked is checked against what
// this version of DuckDB has: each table function that takes a text is known to read nothing by it.
func TestATextIsNeverReadAsATable(t *testing.T) {
	w := library(t)
	c := converse(t, w, everyone)
	for name := range tableFunctions {
		for _, form := range []string{"SELECT * FROM %s('noemata.positions')",
			"SELECT * FROM %s('noemata.positions', 'feed')",
			"SELECT * FROM %s('FROM noemata.positions')"} {
			rows, err := answers.Rows(t.Context(), c, fmt.Sprintf(form, name))
			require.NotContains(t, fmt.Sprint(rows), "0/1", "%s: %v", name, err)
		}
	}
}

// Within Begin and End all questions see what was committed at its beginning; each alone what was when it was asked.
func TestQuestionsSeeOneCut(t *testing.T) {
	w := library(t)
	c := converse(t, w, everyone)
	count := func() string {
		rows, err := answers.Rows(t.Context(), c,
			"SELECT (SELECT count(*) FROM kept.loans), (SELECT count(*) FROM pay.fines)")
		require.NoError(t, err)
		return rows[0]
	}
	commit := func() {
		x, err := w.connect(t.Context())
		require.NoError(t, err)
		defer x.Close()
		for _, sql := range []string{"BEGIN", "INSERT INTO kept.loans (id) VALUES (9)",
			"INSERT INTO pay.fines (id) VALUES (9)", "COMMIT"} {
			_, err := x.Exec(t.Context(), sql)
			require.NoError(t, err)
		}
	}
	require.Equal(t, "2|1", count())
	require.NoError(t, c.Begin(t.Context()))
	require.Equal(t, "2|1", count())
	commit()
	require.Equal(t, "2|1", count())
	c.End()
	require.Equal(t, "3|2", count())

	q, err := c.Prepare(t.Context(), "SELECT count(*) FROM kept.loans")
	require.NoError(t, err)
	commit()
	a, err := c.Ask(t.Context(), q, nil)
	require.NoError(t, err)
	record, err := a.Next(t.Context())
	require.NoError(t, err)
	require.Equal(t, "4", record.Column(0).ValueStr(0), "it sees what was committed when it was asked")
	a.Close()
}

// Histories are seen as they were, wherever a question names them, and all else as it is.
func TestHistoriesAreSeenAsTheyWere(t *testing.T) {
	c := converse(t, library(t), everyone)
	c.AsOf(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	for sql, want := range map[string]string{
		"SELECT count(*) FROM kept.loans": "1", `SELECT loans.id FROM "kept" . "loans" WHERE loans.id > 0`: "1",
		"SELECT l.id, f.amount FROM kept.loans AS l JOIN pay.fines f ON f.id = l.id":  "1|2.00",
		"/* Œ */ SELECT (SELECT max(id) FROM kept.loans), count(*) FROM kept.loans x": "1|1",
		"WITH a AS (FROM kept.loans) SELECT count(*) FROM a, kept.loans":              "1",
		"SELECT column_name FROM (DESCRIBE kept.loans) LIMIT 1":                       "id",
	} {
		rows, err := answers.Rows(t.Context(), c, sql)
		require.NoError(t, err, sql)
		require.Equal(t, []string{want}, rows, sql)
	}
	c.AsOf(time.Time{})
	rows, err := answers.Rows(t.Context(), c, "SELECT count(*) FROM kept.loans")
	require.NoError(t, err)
	require.Equal(t, []string{"2"}, rows)
}

// A question ends when its asker has gone, and another is answered then.
func TestAQuestionIsStopped(t *testing.T) {
	c := converse(t, library(t), everyone)
	ctx, cancel := context.WithTimeout(t.Context(), 300*1e6)
	defer cancel()
	_, err := answers.Rows(ctx, c, "SELECT sum(a.range * b.range) FROM range(10000000) a, range(10000000) b")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	rows, err := answers.Rows(t.Context(), c, "SELECT 1")
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, rows)
}

// The digest of a piece is that of the rows that are copied out, also of a history as it was.
func TestDigestsOfPieces(t *testing.T) {
	w := library(t)
	c := converse(t, w, everyone)
	digest := func(asOf time.Time) string {
		t.Helper()
		c.AsOf(asOf)
		tables, err := c.Tables(t.Context())
		require.NoError(t, err)
		at := slices.IndexFunc(tables, func(x schema.Table) bool { return x.Name.String() == "kept.loans" })
		pieces, err := c.Pieces(t.Context(), tables[at], nil)
		require.NoError(t, err)
		require.Len(t, pieces, 1)
		rows, err := answers.Rows(t.Context(), c, pieces[0].Digest)
		require.NoError(t, err)
		require.Len(t, rows, 1)
		return rows[0]
	}
	now := digest(time.Time{})
	require.Equal(t, now, digest(time.Time{}))
	require.NotEqual(t, now, digest(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)), "one of the loans was not there then")
	conn, err := w.connect(t.Context())
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Exec(t.Context(), "UPDATE kept.loans SET fee = 2 WHERE id = 1")
	require.NoError(t, err)
	require.NotEqual(t, now, digest(time.Time{}))
}
