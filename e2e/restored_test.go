package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A warehouse that is restored from an older state goes on from there where the source has kept its log for longer than it
// was needed. Where it has not, the feed is held, and says what to do.
func TestARestoredWarehouseGoesOn(t *testing.T) {
	t.Parallel()
	for name, retain := range map[string]string{"kept": "retain: {behind: 10m}\n", "not kept": ""} {
		t.Run(name, func(t *testing.T) {
			s := newService(t)
			s.addWarehouse("target", "duckdb")
			d := s.addSource("library")
			d.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text); INSERT INTO loans VALUES (1, 'C1'), (2, 'C2')`)
			s.apply("%s", "feed: live\nsource: library\nwarehouse: target\nfreshness: continuous\ntarget: kept.loans\n"+retain+
				"tables:\n  - {table: public.loans, find: log, keep: history}\n")
			_, err := s.client.StartFeed(t.Context(), "live")
			require.NoError(t, err)
			follows := func(n int64) { t.Helper(); s.holds("live", "public.loans", n) }
			follows(2)
			d.exec(`UPDATE loans SET copy = 'C1 b' WHERE id = 1`)
			d.exec(`INSERT INTO loans VALUES (3, 'C3')`)
			follows(3)
			file, backup := filepath.Join(s.dir, "target.duckdb"), filepath.Join(s.dir, "backup")
			s.stopNow()
			was, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(backup, was, 0o600))
			s.start()
			d.exec(`UPDATE loans SET copy = 'C1 c' WHERE id = 1; DELETE FROM loans WHERE id = 2`)
			d.exec(`INSERT INTO loans VALUES (4, 'C4'), (5, 'C5')`)
			var after string
			require.NoError(t, d.conn.QueryRow(t.Context(), `SELECT pg_current_wal_lsn()::text`).Scan(&after))
			follows(4)
			require.Eventually(t, func() bool { // the source has been told, so its own slot is beyond the older state
				var beyond bool
				require.NoError(t, d.conn.QueryRow(t.Context(), `SELECT bool_or(confirmed_flush_lsn >= $1::pg_lsn)
					FROM pg_replication_slots WHERE database = current_database() AND slot_name NOT LIKE '%_behind'`, after).Scan(&beyond))
				return beyond
			}, time.Minute, 100*time.Millisecond)
			s.stopNow()
			_ = os.Remove(file + ".wal") // of the newer state, if it left one
			require.NoError(t, os.Rename(backup, file))
			s.start()
			if retain == "" {
				require.Eventually(t, func() bool {
					f, err := s.client.Feed(t.Context(), "live")
					return err == nil && f.LastRun != nil && f.LastRun.Problem != nil &&
						strings.Contains(f.LastRun.Problem.What, "an older state of the warehouse was restored")
				}, time.Minute, 100*time.Millisecond)
				require.Contains(t, s.must("feeds", "copy", "live"), "copied anew")
			}
			follows(4)
			s.proved("live", "public.loans", 4)
			if retain != "" {
				v, err := s.client.Versions(t.Context(), "live", "public.loans", []string{"1"})
				require.NoError(t, err)
				require.Len(t, v.Versions, 3, "each version, also those since")
			}
			s.must("feeds", "remove", "live")
			var left int
			require.NoError(t, d.conn.QueryRow(t.Context(),
				`SELECT count(*) FROM pg_replication_slots WHERE database = current_database()`).Scan(&left))
			require.Zero(t, left)
		})
	}
}
