package engine_test

import (
	"math/rand/v2"
	"os"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
)

// partCases are what becomes of partitions, and what is said of it; empty for nothing.
var partCases = []struct{ name, sql, says string }{
	{"a new one", "CREATE TABLE visits_c PARTITION OF visits FOR VALUES IN ('C'); INSERT INTO visits VALUES ('C', " +
		"1, now())", ""},
	{"a new one with rows in one transaction", "BEGIN; CREATE TABLE visits_c PARTITION OF visits FOR VALUES IN " +
		"('C'); " +
		"INSERT INTO visits VALUES ('C', 1, now()); COMMIT", ""},
	{"an empty one is attached", "CREATE TABLE visits_c (LIKE visits); ALTER TABLE visits ATTACH PARTITION visits_c " +
		"FOR VALUES " +
		"IN ('C'); INSERT INTO visits VALUES ('C', 1, now())", ""},
	{"upkeep", "VACUUM FULL visits_a", ""},
	{"one with rows is attached", "CREATE TABLE visits_c (LIKE visits); INSERT INTO visits_c VALUES ('C', 1, " +
		"'2025-01-01Z'); " +
		"ALTER TABLE visits ATTACH PARTITION visits_c FOR VALUES IN ('C')", came},
	{"one with rows is attached in its transaction", "BEGIN; CREATE TABLE visits_c (LIKE visits); INSERT INTO " +
		"visits_c VALUES " +
		"('C', 1, '2025-01-01Z'); ALTER TABLE visits ATTACH PARTITION visits_c FOR VALUES IN ('C'); COMMIT",
		came},
	{"a parted one is attached", "CREATE TABLE visits_cd (LIKE visits) PARTITION BY LIST (branch); CREATE TABLE " +
		"visits_d PARTITION " +
		"OF visits_cd FOR VALUES IN ('D'); INSERT INTO visits_cd VALUES ('D', 1, '2025-01-01Z'); ALTER TABLE visits " +
		"ATTACH " +
		"PARTITION visits_cd FOR VALUES IN ('C', 'D')", came},
	{"one is detached", "ALTER TABLE visits DETACH PARTITION visits_a", went},
	{"one is dropped", "DROP TABLE visits_a", went},
	{"one is emptied", "TRUNCATE visits_a", went},
	{"one is emptied and filled", "TRUNCATE visits_a; INSERT INTO visits VALUES ('A', 77, now())", went},
}

// What becomes of a partition as a whole is in no log: it is noticed, and the table held or copied
// again, while the routine of new partitions and of upkeep is none of it.
func TestPartitionsThatComeAndGo(t *testing.T) {
	raceless(t)
	for _, x := range partCases {
		// Half of the cases each time, others each time; all of them in the long form.
		if os.Getenv("NOEMATA_TORTURE") == "" && rand.IntN(2) == 0 {
			continue
		}
		t.Run(x.name, func(t *testing.T) {
			b := newWorkbench(t, "duckdb")
			b.exec(`CREATE TABLE visits (branch text, n int, at timestamptz, PRIMARY KEY (branch, n)) PARTITION BY LIST (branch);
				CREATE TABLE visits_a PARTITION OF visits FOR VALUES IN ('A'); CREATE TABLE visits_b PARTITION OF visits FOR VALUES IN ('B');
				INSERT INTO visits SELECT CASE i % 2 WHEN 0 THEN 'A' ELSE 'B' END, i, '2026-01-01Z' FROM generate_series(1, 20) i`)
			table := feed.Table{Table: "public.visits", Keep: feed.KeepLatest, Target: "kept.visits",
				Drift: &feed.Drift{Tables: drift.Follow}}
			holds := table
			holds.Drift, holds.Target = nil, "kept.held"
			inserts := table
			inserts.Drift, inserts.Changes, inserts.Target = nil, []string{"insert", "update"}, "kept.inserts"
			f := newFollower(t, b, table)
			others := map[string]*follower{}
			for name, table := range map[string]feed.Table{"held": holds, "inserts": inserts} {
				own := *b
				own.feed = &feed.Feed{Name: name, Source: "circulation", Warehouse: "lake"}
				others[name] = newFollower(t, &own, table)
			}
			for _, f := range []*follower{f, others["held"], others["inserts"]} {
				f.catchUp()
				f.catchUp()
			}
			b.exec(x.sql)
			b.exec("INSERT INTO visits VALUES ('B', 100, now())")
			for range 2 {
				f.catchUp()
			}
			found, err := b.conn.Query(t.Context(), "SELECT branch || ' | ' || n FROM visits ORDER BY branch, n")
			require.NoError(t, err)
			rows, err := pgx.CollectRows(found, pgx.RowTo[string])
			require.NoError(t, err)
			require.Equal(t, rows, f.see("SELECT branch, n FROM kept.visits ORDER BY 1, 2"))
			trouble := func(f *follower) error {
				report, err := f.engine.Follow(t.Context(), f.work())
				if err == nil {
					err = report.Tables[0].Trouble
				}
				return err
			}
			for name, f := range others {
				// A table that takes no deletes need not know of what went.
				if err := trouble(f); x.says == "" || name == "inserts" && x.says == went {
					require.NoError(t, err, name)
				} else {
					require.ErrorContains(t, err, x.says, name)
				}
			}
			if x.says == "" {
				drifts, err := b.warehouse.Journal().Drifts(t.Context(), b.feed.Name, 9)
				require.NoError(t, err)
				require.Empty(t, drifts, "nothing was copied again")
			}
		})
	}
}

const (
	came = "was attached to public.visits with rows in it"
	went = "was detached, dropped or emptied by itself"
)
