package engine_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/engine"
	"noemata/internal/testkit"
)

// Columns that come later arrive hashed, by whatever find, also when they are renamed or the table is
// copied again, until the feed names them.
func TestColumnsThatComeLaterAreHashed(t *testing.T) {
	raceless(t)
	for _, find := range []feed.Find{feed.FindLog, feed.FindWatermark, feed.FindCompare} {
		for _, kind := range []string{"duckdb", "postgresql"} {
			t.Run(fmt.Sprintf("%s/%s", find, kind), func(t *testing.T) {
				b := newWorkbench(t, kind)
				b.exec(`CREATE TABLE patrons (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT clock_timestamp());
					INSERT INTO patrons SELECT i FROM generate_series(1, 9) i`)
				table := feed.Table{Table: "public.patrons", Find: find, Keep: feed.KeepHistory, Target: "kept.patrons",
					Drift: &feed.Drift{Columns: drift.Follow, Types: drift.Follow, HashNew: "people"}}
				if find == feed.FindWatermark {
					table.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
				}
				bring := func() error { return b.bringBy(table) }
				t.Cleanup(func() { _ = engine.DropLog(context.Background(), b.feed, b.source, b.warehouse) })
				require.NoError(t, bring())
				b.exec("ALTER TABLE patrons ADD email text; UPDATE patrons SET email = 'SECRET' || id, at = " +
					"clock_timestamp()")
				hidden := func(column string) {
					t.Helper()
					for range 3 {
						require.NoError(t, bring())
					}
					found := testkit.SQL(t, b.warehouse, "SELECT count(*) FROM kept.patrons WHERE nm_current AND "+
						"length("+column+") = 64")
					require.EqualValues(t, 9, found[0][0])
					for _, table := range testkit.SQL(t, b.warehouse,
						"SELECT table_schema, table_name FROM information_schema.tables "+
							"WHERE table_schema IN ('kept', 'noemata')") {
						found := testkit.SQL(t, b.warehouse, fmt.Sprintf("SELECT count(*) FROM %v.%q AS t WHERE "+
							"CAST(t AS VARCHAR) LIKE '%%SECRET%%'",
							table[0], fmt.Sprint(table[1])))
						require.EqualValues(t, 0, found[0][0], "%v", table)
					}
					sample, err := engine.TakeSample(context.Background(), b.work(table), 5)
					require.NoError(t, err)
					preview, err := engine.TakePreview(context.Background(), b.work(table), 5)
					require.NoError(t, err)
					require.NotContains(t, fmt.Sprint(texts(sample.Source), texts(sample.Warehouse), preview.Before),
						"SECRET")
					for _, row := range preview.Rows {
						require.NotContains(t, fmt.Sprint(texts([][]*string{row.Before, row.After})), "SECRET")
					}
				}
				hidden("email")
				b.exec("UPDATE patrons SET email = 'SECRETER' || id, at = clock_timestamp() WHERE id < 4")
				hidden("email")
				b.exec("ALTER TABLE patrons RENAME email TO mail")
				hidden("mail")

				// The feed decides.
				table.Columns = map[string]feed.Treatment{"mail": {Name: "address"}}
				err := bring()
				if find == feed.FindWatermark {
					require.True(t, problem.Is(err, problem.Held) || err == nil, "%v", err)
					require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), b.feed.Name, table.Table, nil))
				}
				for range 3 {
					require.NoError(t, bring())
				}
				found := testkit.SQL(t, b.warehouse, "SELECT count(*) FROM kept.patrons WHERE nm_current AND "+
					"address LIKE 'SECRET%'")
				require.EqualValues(t, 9, found[0][0])
			})
		}
	}
}

func texts(rows [][]*string) (out []string) {
	for _, row := range rows {
		for _, v := range row {
			if v != nil {
				out = append(out, *v)
			}
		}
	}
	return out
}
