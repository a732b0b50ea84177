package engine_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
)

// daily is a query at the source: visits by branch and day, the last line a comment.
func daily(find feed.Find, from string) feed.Table {
	t := feed.Table{Table: "queries.daily_visits", Name: "daily_visits", Key: []string{"branch", "day"}, Find: find,
		Query: `SELECT branch, day, sum(n) AS people, max(at) AS at FROM ` + from + ` WHERE n > 0 GROUP BY 1, 2 -- by day`,
		Keep:  feed.KeepLatest, PageRows: 7}
	if find == feed.FindWatermark {
		t.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
	}
	return t
}

// A query is kept like a table, by watermark, whole and by comparing, with a shape and with deletes.
func TestAQueryIsATable(t *testing.T) {
	raceless(t)
	check := func(t *testing.T, b *workbench, exec func(string), from string) {
		for _, find := range []feed.Find{feed.FindWatermark, feed.FindCompare, feed.FindWhole} {
			b.feed.Name = "f-" + string(find)
			exec("DELETE FROM visits")
			exec("INSERT INTO visits SELECT branch, day, n, at FROM past")
			table := daily(find, from)
			table.Target, table.Where = "kept."+string(find), `branch != "B6"`
			table.Columns = map[string]feed.Treatment{"people": {Name: "visitors"}}
			out := b.bring(table)
			require.EqualValues(t, 60, out.Books.Inserted, "%s %+v", find, out.Books)
			require.EqualValues(t, 10, out.Books.Filtered, "%s %+v", find, out.Books)
			b.equal(table, 60)
			exec("INSERT INTO visits SELECT branch, day, 5, now() FROM past WHERE branch = 'B1'")
			exec("DELETE FROM visits WHERE branch = 'B2'")
			table.Sweep = map[feed.Find]string{feed.FindWatermark: "1ns"}[find]
			b.bring(table)
			books := b.bring(table).Books
			require.Zero(t, books.Written(), "%s %+v", find, books)
			b.equal(table, 50)
		}
	}
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE visits (branch text, day date, n int, at timestamptz); CREATE TABLE past AS SELECT 'B' || i % 7 AS branch,
			'2026-01-01'::date + i / 7 AS day, 1 AS n, '2026-01-01Z'::timestamptz + i * interval '1 s' AS at FROM generate_series(0, 69) i`)
		check(t, b, func(sql string) { b.exec(sql) }, "public.visits")
	})
	b := newMariaBench(t, "duckdb")
	b.exec(`CREATE TABLE visits (branch varchar(9), day date, n int, at datetime(6)); CREATE TABLE past AS SELECT concat('B', seq % 7) AS branch,
		'2026-01-01' + INTERVAL (seq DIV 7) DAY AS day, 1 AS n, '2026-01-01 00:00:00' + INTERVAL seq SECOND AS at FROM seq_0_to_69`)
	check(t, b.workbench, b.exec, "visits")
}

// A query gives every type as a table does.
func TestAQueryOfEveryType(t *testing.T) {
	raceless(t)
	b := newWorkbench(t, "duckdb")
	b.exec(extremesFor(b.conn))
	of := feed.Table{Table: "public.extremes", Find: feed.FindWhole, Keep: feed.KeepLatest, Key: []string{"id"}}
	by := of
	by.Table, by.Name, by.Query = "queries.extremes", "extremes", "SELECT * FROM public.extremes"
	described, err := engine.Describe(t.Context(), b.source, of)
	require.NoError(t, err)
	asked, err := engine.Describe(t.Context(), b.source, by)
	require.NoError(t, err)
	for i, c := range described.Columns {
		c.Nullable, c.Generated, c.Native = true, false, asked.Columns[i].Native // a domain is told as what it is of
		require.Equal(t, c, asked.Columns[i])
	}
	m := newMariaBench(t, "duckdb")
	m.exec(mariaExtremes)
	of.Table, of.Target = m.table("extremes"), "kept.of"
	by.Query, by.Target = "SELECT e.*, c_hidden FROM extremes AS e", "kept.by"
	require.EqualValues(t, 5, m.bring(of).Books.Inserted)
	require.EqualValues(t, 5, m.bring(by).Books.Inserted)
	m.equal(by, 5)
	described, err = engine.Describe(t.Context(), m.source, of)
	require.NoError(t, err)
	for _, c := range described.Columns {
		plain := []schema.Column{column("id", schema.Int32), {Name: c.Name, Type: schema.Type{Kind: schema.Text}}}
		if c.Type.Kind == schema.Bytes || c.Type.Kind == schema.UUID {
			continue // a query gives some of these in another family
		}
		if c.Type.Kind != schema.Bool && c.Type.Kind != schema.JSON {
			plain[1].Type = c.Type
		} else {
			continue
		}
		require.Equal(t, m.rowsOf("kept.of", plain...), m.rowsOf("kept.by", plain...), c.Name)
	}
}

// What is not one statement that reads is refused, by the file or by the server, and nothing happens.
func TestAQueryReads(t *testing.T) {
	b := newWorkbench(t, "duckdb")
	b.exec("CREATE TABLE visits (id int); INSERT INTO visits VALUES (1); CREATE SEQUENCE numbers")
	m := newMariaBench(t, "duckdb")
	m.exec("CREATE TABLE visits (id int); INSERT INTO visits VALUES (1)")
	for _, sql := range []string{
		"DELETE FROM public.visits RETURNING id", "SELECT 1 AS id; DELETE FROM public.visits",
		"SELECT 1 AS id) AS t, (SELECT 2 AS b",
		"WITH x AS (DELETE FROM public.visits RETURNING id) SELECT * FROM x",
		"SELECT id INTO public.others FROM public.visits",
		"SELECT $1::int AS id", "SELECT 1, 2", "SELECT 1 AS a, 2 AS a", "SELECT", "SELECT id FROM public.nowhere",
		"SELECT nextval('public.numbers')::int AS id", "SELECT id FROM public.visits FOR UPDATE",
		"TABLE public.visits) --",
	} {
		table := feed.Table{Table: "queries.x", Name: "x", Query: sql, Find: feed.FindWhole, Keep: feed.KeepReplace}
		_, err := b.engine.Run(context.Background(), b.work(table))
		require.Error(t, err, sql)
	}
	require.EqualValues(t, 1, func() (n int64) {
		require.NoError(t, b.conn.QueryRow(t.Context(), "SELECT count(*) FROM visits").Scan(&n))
		return n
	}())
	for _, sql := range []string{
		"DELETE FROM visits RETURNING id", "SELECT 1 AS id; DELETE FROM visits", "SELECT 1 AS id) AS t, (SELECT 2 AS b",
		"SELECT id FROM visits INTO OUTFILE '" + t.TempDir() + "/x'", "SELECT ? AS id", "SELECT 1 AS a, 2 AS a",
		"SELECT id FROM nowhere", "SELECT id INTO @x FROM visits", "VALUES (1) UNION DELETE FROM visits",
	} {
		table := feed.Table{Table: "queries.x", Name: "x", Query: sql, Find: feed.FindWhole, Keep: feed.KeepReplace}
		_, err := m.engine.Run(context.Background(), m.work(table))
		require.True(t, problem.Is(err, problem.Invalid), "%s: %v", sql, err)
	}
	var n int
	require.NoError(t, m.db.QueryRow("SELECT count(*) FROM visits").Scan(&n))
	require.Equal(t, 1, n)
}

// A query whose text is another is told as a table that was replaced.
func TestAQueryThatReadsOtherwise(t *testing.T) {
	b := newWorkbench(t, "duckdb")
	b.exec(`CREATE TABLE visits (branch text, day date, n int, at timestamptz);
		INSERT INTO visits SELECT 'B' || i % 7, '2026-01-01', i, '2026-01-01Z' FROM generate_series(0, 69) i`)
	table := daily(feed.FindWatermark, "public.visits")
	require.Equal(t, rows.Books{Read: 7, Inserted: 7}, b.bring(table).Books)
	table.Query = strings.ReplaceAll(table.Query, "n > 0", "branch < 'B3'")
	_, err := b.engine.Run(t.Context(), b.work(table))
	require.ErrorContains(t, err, "is a query that reads otherwise")
	table.Drift = &feed.Drift{Tables: drift.Follow}
	require.EqualValues(t, 4, b.bring(table).Books.Deleted)
	b.equal(table, 3)
}
