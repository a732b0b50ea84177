package e2e

import (
	"fmt"
	"maps"
	"noemata/client"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A feed moves to another warehouse, with tables of each find, while its source is written to, and back
// again. What it brings is whole in the new one; nothing in the old one is touched.
func TestAFeedMovesToAnotherWarehouse(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, branch text); INSERT INTO loans SELECT i, 'Grünau' FROM generate_series(1, 500) i;
		CREATE TABLE fines (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT now());
		INSERT INTO fines SELECT i FROM generate_series(1, 300) i;
		CREATE TABLE desks (id int PRIMARY KEY); INSERT INTO desks VALUES (1), (2)`)
	s.addWarehouse("lake", "duckdb")
	s.addWarehouse("vault", "postgresql")
	s.apply(`{feed: moved, source: circulation, warehouse: lake, target: "kept.{table}", freshness: continuous, every: 2s, tables: [
		{table: public.loans, find: log, keep: history},
		{table: public.fines, find: watermark, watermark: {column: at}, keep: latest},
		{table: public.desks, find: compare, keep: soft-delete}]}`)
	s.must("feeds", "start", "moved")
	want := map[string]int64{"public.loans": 500, "public.fines": 300, "public.desks": 2}
	arrived := func(to string) {
		t.Helper()
		var found map[string]int64
		require.Eventually(t, func() bool {
			found = map[string]int64{}
			for table := range want {
				if p, err := s.client.Prove(t.Context(), "moved", table); err == nil && p.Same {
					found[table] = p.Equal
				}
			}
			return maps.Equal(found, want)
		}, time.Minute, 300*time.Millisecond, "in %s: %v", to, found)
	}
	arrived("lake")
	for i, to := range []string{"vault", "lake", "vault"} {
		require.Contains(t, s.must("feeds", "move", "moved", to, "--yes"), "keeps its tables in "+to)
		arrived(to)
		d.exec(fmt.Sprintf(`INSERT INTO loans SELECT max(id) + 1, 'Île-Verte' FROM loans; UPDATE loans SET branch = 'Dornheim' WHERE id = %d;
			DELETE FROM desks WHERE id = %d; INSERT INTO fines SELECT max(id) + 1 FROM fines`, 7+i, 1+i))
		want["public.loans"]++
		want["public.fines"]++
		if i < 2 {
			want["public.desks"]--
		}
		arrived(to)
	}
	settings := d.settings
	_, err := s.client.AddConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "renamed", Kind: "postgresql", Settings: &settings})
	require.NoError(t, err)
	runs := s.must("log", "moved")
	said, _ := s.cli(strings.Replace(s.must("feeds", "export", "moved"), "source: circulation", "source: renamed", 1), "feeds", "apply", "-")
	require.Contains(t, said, "The feed reads from renamed, no more from circulation")
	d.exec(`INSERT INTO loans SELECT max(id) + 1, 'Fernmoor' FROM loans`)
	want["public.loans"]++
	arrived("vault")
	after := strings.TrimPrefix(s.must("log", "moved"), runs)
	require.NotContains(t, after, "public.loans: The table is copied", "the same database goes on under another name")
	var slots int
	require.NoError(t, d.conn.QueryRow(t.Context(), `SELECT count(*) FROM pg_replication_slots
		WHERE database = current_database()`).Scan(&slots))
	require.Equal(t, 1, slots, "the source keeps no log for a warehouse that the feed has left")
}
