package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Tables that follow the log and others are one feed: the log goes on while the others are read,
// wait or fail, and what the source keeps for the feed goes with the last table that follows.
func TestFindsAreMixedInAFeed(t *testing.T) {
	s, d := mixedFeed(t)
	_, err := s.client.StartFeed(t.Context(), "mixed")
	require.NoError(t, err)
	has := func(table string, n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			c, err := s.client.Counts(t.Context(), "mixed", table)
			return err == nil && c.Warehouse == n
		}, 30*time.Second, 100*time.Millisecond, "%s does not come to %d rows", table, n)
	}
	d.exec(`INSERT INTO loans VALUES (101); INSERT INTO fees VALUES (2, now() - interval '1 minute');
		INSERT INTO desks VALUES (2)`)
	has("public.loans", 101)
	has("public.fees", 2)
	has("public.desks", 2)

	// One that fails is told, again and again, and is in nobody's way.
	d.exec(`ALTER TABLE desks RENAME TO desks_away; INSERT INTO loans VALUES (102); INSERT INTO fees VALUES (3, now() - interval '1 minute')`)
	require.Eventually(t, func() bool {
		status, err := s.client.Feed(t.Context(), "mixed")
		return err == nil && status.Tables[2].State == "failing"
	}, 30*time.Second, 100*time.Millisecond)
	has("public.loans", 102)
	has("public.fees", 3)
	d.exec(`INSERT INTO loans VALUES (103)`)
	has("public.loans", 103)
	d.exec(`ALTER TABLE desks_away RENAME TO desks; INSERT INTO desks VALUES (3)`)
	has("public.desks", 3)
}

// mixedFeed makes a feed of three finds, whose first run is done.
func mixedFeed(t *testing.T) (*service, *database) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("lake", "duckdb")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT now());
		CREATE TABLE fees (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT '2026-01-01Z');
		CREATE TABLE desks (id int PRIMARY KEY);
		INSERT INTO loans SELECT i FROM generate_series(1, 100) i; INSERT INTO fees VALUES (1); INSERT INTO desks VALUES (1)`)
	s.apply(`feed: mixed
source: circulation
warehouse: lake
freshness: continuous
every: 1s
target: kept.{table}
tables:
  - {table: public.loans, find: log, keep: latest}
  - {table: public.fees, find: watermark, watermark: {column: at}, keep: history}
  - {table: public.desks, find: whole, keep: latest}
`)
	run := s.finish("mixed")
	require.Equal(t, "done", run.State, "%+v", run.Problem)
	require.Equal(t, []string{"public.loans", "public.fees", "public.desks"},
		[]string{run.Tables[0].Table, run.Tables[1].Table, run.Tables[2].Table})
	require.Equal(t, int64(102), run.Books.Read)
	s.proved("mixed", "public.loans", 100)
	s.proved("mixed", "public.fees", 1)
	s.proved("mixed", "public.desks", 1)
	return s, d
}

// What is asked of a table goes by its own find, and without a table that follows the source keeps no log.
func TestWhatIsAskedOfATableGoesByItsFind(t *testing.T) {
	s, d := mixedFeed(t)
	out, code := s.cli("", "feeds", "copy", "mixed", "--table", "public.fees")
	require.NotZero(t, code)
	require.Contains(t, out, "noemata positions clear mixed public.fees")
	s.must("positions", "clear", "mixed", "public.fees")
	out, code = s.cli("", "positions", "clear", "mixed", "public.loans")
	require.NotZero(t, code)
	require.Contains(t, out, "noemata feeds copy mixed --table public.loans")
	s.must("feeds", "copy", "mixed")
	positions, err := s.client.Positions(t.Context(), "mixed")
	require.NoError(t, err)
	require.NotEmpty(t, positions[2].Position, "a copy of all clears the positions of the others")

	require.Equal(t, "done", s.finish("mixed").State)
	s.proved("mixed", "public.loans", 100)
	s.proved("mixed", "public.fees", 1)

	slots := func() (n int) {
		require.NoError(t, d.conn.QueryRow(t.Context(), `SELECT count(*) FROM pg_replication_slots
			WHERE database = current_database()`).Scan(&n))
		return n
	}
	require.Equal(t, 1, slots())
	s.apply(`feed: mixed
source: circulation
warehouse: lake
every: 1s
target: kept.{table}
tables:
  - {table: public.desks, find: whole, keep: latest}
`)
	require.Zero(t, slots(), "also where it is paused")
	require.Equal(t, "done", s.finish("mixed").State)
}

// A query at the source goes from the file to the warehouse and back into the file.
func TestAQueryFromAFile(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("lake", "postgresql")
	d.exec(`CREATE TABLE visits (branch text, n int); INSERT INTO visits SELECT 'B' || i % 3, i FROM generate_series(1, 30) i`)
	file := filepath.Join(s.dir, "visits.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`feed: visits
source: circulation
warehouse: lake
target: kept.{table}
tables:
  - query: SELECT branch, sum(n)::int AS people FROM public.visits GROUP BY 1
    name: by_branch
    key: [branch]
    find: compare
    keep: latest
`), 0o600))
	require.Contains(t, s.must("feeds", "preview", file, "queries.by_branch"), "3 rows looked at")
	s.must("feeds", "apply", file)
	require.Equal(t, "done", s.finish("visits").State)
	s.proved("visits", "queries.by_branch", 3)
	require.NoError(t, os.WriteFile(file, []byte(s.must("feeds", "export", "visits")), 0o600))
	require.NotContains(t, s.must("feeds", "export", "visits"), "table:")
	s.must("feeds", "diff", file)
	d.exec("UPDATE visits SET n = 0 WHERE branch = 'B1'; DELETE FROM visits WHERE branch = 'B2'")
	run := s.finish("visits")
	require.EqualValues(t, 1, run.Books.Updated)
	require.EqualValues(t, 1, run.Books.Deleted)
	s.proved("visits", "queries.by_branch", 2)
}

// What a file changes for rows that came before is said in words and rows, before it is applied.
func TestADiffTellsWhatFollows(t *testing.T) {
	s, _ := mixedFeed(t)
	file := s.must("feeds", "export", "mixed")
	tells := func(old, new string, says ...string) {
		t.Helper()
		require.Contains(t, file, old)
		out, code := s.cli(strings.Replace(file, old, new, 1), "feeds", "diff", "-")
		require.Equal(t, 3, code, out)
		for _, x := range says {
			require.Contains(t, out, x)
		}
	}
	tells("keep: history", "keep: latest", "what is there (1 row) is taken along")
	tells("keep: history", "keep: ledger", "cannot be taken along")
	tells("find: whole", "find: compare", "Its changes are found by compare, no more by whole")
	tells("- table: public.loans\n", "- table: public.loans\n    drop: [at]\n", "at is brought no more")
	tells("- table: public.loans\n", "- table: public.loans\n    where: id > 5\n", "copies the table (100 rows) again")
	tells("- table: public.fees\n", "- table: public.fees\n    where: id > 5\n",
		"is held until its rows (1 row) are read again",
		"noemata positions clear mixed public.fees")
	tells("- table: public.fees\n", "- table: public.fees\n    target: kept.other\n", "Its target is kept.other")
	tells("- table: public.fees\n", "- table: public.fines\n", "New in the feed",
		"It leaves the feed. Its target kept.fees (1 row) stays")
}
