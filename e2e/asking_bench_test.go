package e2e

import (
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// BenchmarkAsking measures the SQL port beside PostgreSQL: a table of ten columns by COPY in binary, the quickest of
// three, and one row by its key. NOEMATA_ROWS says how many rows.
func BenchmarkAsking(b *testing.B) {
	rows, err := strconv.Atoi(os.Getenv("NOEMATA_ROWS"))
	if err != nil {
		rows = 1_000_000
	}
	s := &service{t: b, dir: testkit.Dir(b), listen: "127.0.0.1:0", flags: []string{"--sql-listen", "127.0.0.1:0"}}
	s.start()
	b.Cleanup(s.stop)
	c := s.client
	settings, source := testkit.Database(b)
	testkit.Exec(b, source, `CREATE TABLE wide AS SELECT i AS id, i * 7 AS a, i::int % 1000 AS b, (i % 500)::smallint AS c,
		i / 3.0::float8 AS d, (i % 90000)::numeric(10,2) / 100 AS e, 'patron ' || i % 5000 AS f, i % 2 = 0 AS g,
		date '2026-01-01' + (i % 300)::int AS h, '2026-01-01Z'::timestamptz + i * interval '1 second' AS k
		FROM generate_series(1, $1::bigint) i`, rows)
	testkit.Exec(b, source, "ALTER TABLE wide ADD PRIMARY KEY (id)")
	_, err = c.AddConnection(b.Context(), client.Sources, client.NewConnection{Name: "circulation", Kind: "postgresql",
		Settings: &settings})
	require.NoError(b, err)
	_, err = c.AddConnection(b.Context(), client.Warehouses, client.NewConnection{Name: "lake", Kind: "duckdb",
		Settings: &client.Settings{Path: filepath.Join(s.dir, "lake.duckdb")}})
	require.NoError(b, err)
	_, err = c.FeedFile(b.Context(), "feed: wide\nsource: circulation\nwarehouse: lake\ntarget: kept.{table}\ntables:\n"+
		"  - {table: public.wide, find: whole, keep: latest}\n", client.Apply)
	require.NoError(b, err)
	run := s.finish("wide")
	if run.State == "failed" { // a load that is too large for the usual memory has the next one take more
		run = s.finish("wide")
	}
	require.Equal(b, "done", run.State, "%+v", run.Problem)
	at := url.URL{Scheme: "postgresql", User: url.UserPassword("first administrator", s.token), Host: s.sql, Path: "/lake"}
	lake := testkit.Connect(b, at.String())
	took := map[*pgx.Conn]time.Duration{}
	for range 3 {
		for conn, table := range map[*pgx.Conn]string{lake: "kept.wide", source: "wide"} {
			began := time.Now()
			tag, err := conn.PgConn().CopyTo(b.Context(), io.Discard, "COPY (SELECT "+wideColumns+" FROM "+table+
				") TO STDOUT (FORMAT binary)")
			require.NoError(b, err)
			require.EqualValues(b, rows, tag.RowsAffected())
			if d := time.Since(began); took[conn] == 0 || d < took[conn] {
				took[conn] = d
			}
		}
	}
	b.ResetTimer()
	for i := range b.N {
		var f string
		require.NoError(b, lake.QueryRow(b.Context(), "SELECT f FROM kept.wide WHERE id = $1", i%rows+1).Scan(&f))
	}
	b.ReportMetric(took[lake].Seconds(), "s/copy")
	b.ReportMetric(took[source].Seconds(), "s/copy-from-PostgreSQL")
	b.ReportMetric(took[lake].Seconds()/took[source].Seconds(), "ratio")
}

const wideColumns = "id, a, b, c, d, e, f, g, h, k"
