package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
)

// slots counts the places in the log that are kept for feeds of the database.
func (d *database) slots() (n int) {
	require.NoError(d.t, d.conn.QueryRow(d.t.Context(), "SELECT count(*) FROM pg_replication_slots WHERE database = "+
		"current_database()").Scan(&n))
	return n
}

// A table is paused while the others of its feed go on, and goes on without a gap: by its position, or by a copy where
// it follows the log, of which nothing is kept for it. A history keeps its past. Longer than a screen: it is one story.
func TestTablesArePaused(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, state text); INSERT INTO loans VALUES (1, 'out'), (2, 'out');
		CREATE TABLE holds (id int PRIMARY KEY, state text); INSERT INTO holds VALUES (1, 'placed');
		CREATE TABLE visits (id int PRIMARY KEY, at timestamptz NOT NULL); INSERT INTO visits VALUES (1, '2026-01-01Z')`)
	s.addWarehouse("target", "duckdb")
	s.apply(`{feed: desk, source: circulation, warehouse: target, freshness: continuous, every: 1s, tables: [
		{table: "public.lo*", find: log, keep: history}, {table: public.holds, find: log, keep: latest},
		{table: public.visits, find: watermark, keep: latest, watermark: {column: at, settle: 0s}}]}`)
	s.must("feeds", "start", "desk")
	require.Eventually(t, func() bool { return s.same("desk") }, time.Minute, time.Second)

	require.Contains(t, s.must("feeds", "pause", "desk", "--table", "public.loans", "--table", "public.visits"),
		"public.loans, public.visits of the feed desk is paused")
	require.Contains(t, s.must("feeds", "export", "desk"), "paused: true")
	said, code := s.cli("", "feeds", "pause", "desk", "--table", "public.nothing")
	require.NotZero(t, code)
	require.Contains(t, said, "The feed desk has no table")
	said, code = s.cli("", "feeds", "copy", "desk", "--table", "public.loans")
	require.NotZero(t, code)
	require.Contains(t, said, "noemata feeds start desk --table public.loans")
	status := func(table string) (out client.TableStatus) {
		f, err := s.client.Feed(t.Context(), "desk")
		require.NoError(t, err)
		for _, x := range f.Tables {
			if x.Table == table {
				out = x
			}
		}
		return out
	}
	state := func(table string) string { return status(table).State }
	holds := func(table string, n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			p, err := s.client.Prove(t.Context(), "desk", table)
			return err == nil && p.Same && p.Equal == n
		}, time.Minute, time.Second)
	}
	require.Equal(t, "paused", state("public.loans"))
	require.Eventually(t, func() bool { return state("public.holds") == "following" }, time.Minute, 100*time.Millisecond)
	d.exec(`UPDATE loans SET state = 'back' WHERE id = 1; DELETE FROM loans WHERE id = 2; INSERT INTO loans VALUES (3, 'out');
		INSERT INTO visits VALUES (2, now()); UPDATE holds SET state = 'ready'; INSERT INTO holds VALUES (2, 'placed')`)
	holds("public.holds", 2)
	_, err := s.client.Prove(t.Context(), "desk", "public.loans")
	require.ErrorContains(t, err, "The table public.loans is paused")
	var loans client.TableStatus
	require.Eventually(t, func() bool { // the run that went on then brings it until its end
		loans = status("public.loans")
		time.Sleep(2 * time.Second)
		return loans.CompleteAt.Equal(*status("public.loans").CompleteAt)
	}, time.Minute, time.Millisecond)
	require.Equal(t, "nothing: the table is paused", loans.Next)
	require.Eventually(t, func() bool { return loans.CompleteAt.Before(*status("public.holds").CompleteAt) }, time.Minute,
		100*time.Millisecond, "the others go on")
	require.Equal(t, loans.CompleteAt, status("public.loans").CompleteAt, "it is not said to be as fresh as they are")
	overview := s.must("overview")
	require.Contains(t, overview, "1 following, 2 paused")
	require.NotContains(t, overview, "lagging")

	b := newBrowser(t, s)
	b.signIn(s, "/feeds/desk/table?name=public.visits")
	b.sees("The table is paused", "read on from where it stands")
	b.click("Let it go on")
	b.sees("Pause")
	holds("public.visits", 2)
	s.must("feeds", "start", "desk", "--table", "public.loans")
	require.Eventually(t, func() bool { return state("public.loans") == "following" }, time.Minute, 100*time.Millisecond)
	holds("public.loans", 2)
	require.Contains(t, s.must("versions", "desk", "public.loans", "2"), "out", "its past is kept")

	// Where all that follow the log are paused, the source keeps nothing of it.
	s.must("feeds", "pause", "desk", "--table", "public.loans", "--table", "public.holds")
	require.Eventually(t, func() bool { return d.slots() == 0 }, time.Minute,
		200*time.Millisecond)
	d.exec(`INSERT INTO holds VALUES (3, 'placed'); INSERT INTO visits VALUES (3, now())`)
	ran := func() int {
		list, err := s.client.Runs(t.Context(), client.RunFilter{Feed: "desk", Limit: 500})
		require.NoError(t, err)
		return len(list)
	}
	before := ran()
	time.Sleep(4 * time.Second)
	require.LessOrEqual(t, ran()-before, 5, "it runs once a second, not all the time")
	holds("public.visits", 3)
	s.must("feeds", "start", "desk", "--table", "public.loans", "--table", "public.holds")
	require.Eventually(t, func() bool { return s.same("desk") }, time.Minute, time.Second)
	holds("public.holds", 3)

	// Nor is anything of it kept for a feed that is paused itself, and of which all tables are.
	s.must("feeds", "pause", "desk")
	s.must("feeds", "pause", "desk", "--table", "public.loans", "--table", "public.holds", "--table", "public.visits")
	require.Eventually(t, func() bool { return d.slots() == 0 }, time.Minute, 200*time.Millisecond)
	s.must("feeds", "start", "desk")
	time.Sleep(2 * time.Second)
	before = ran()
	time.Sleep(4 * time.Second)
	require.LessOrEqual(t, ran()-before, 5)
	s.must("feeds", "start", "desk", "--table", "public.loans", "--table", "public.holds", "--table", "public.visits")
	require.Eventually(t, func() bool { return s.same("desk") }, time.Minute, time.Second)
}
