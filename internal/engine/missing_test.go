package engine_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/testkit"
)

// A column that the feed hides, or leaves at the source, may go without being missed. One that goes while
// another comes may have been renamed: then nothing is brought under the new name.
func TestColumnsThatTheFeedNamesMayGo(t *testing.T) {
	raceless(t)
	for _, find := range []feed.Find{feed.FindLog, feed.FindWatermark, feed.FindCompare, feed.FindWhole} {
		t.Run(string(find), func(t *testing.T) {
			b := newWorkbench(t, "duckdb")
			b.exec(`CREATE TABLE patrons (id int PRIMARY KEY, card text, email text, phone text, at timestamptz NOT NULL DEFAULT
				clock_timestamp()); INSERT INTO patrons SELECT i, 'SECRET', 'SECRET', 'SECRET' FROM generate_series(1, 5) i`)
			table := feed.Table{Table: "public.patrons", Find: find, Keep: feed.KeepLatest, Target: "kept.patrons",
				AsText: []string{"at"}, Drift: &feed.Drift{Columns: drift.Follow, Tables: drift.Follow},
				Columns: map[string]feed.Treatment{"card": {Drop: true}, "email": {Hash: "people"},
					"phone": {Mask: feed.MaskNull}}}
			if find == feed.FindWatermark {
				table.AsText, table.Watermark = nil, &feed.Watermark{Column: "at", Settle: "0s"}
			}
			bring := func() error { return b.bringBy(table) }
			t.Cleanup(func() { _ = engine.DropLog(context.Background(), b.feed, b.source, b.warehouse) })
			require.NoError(t, bring())
			b.exec("ALTER TABLE patrons DROP card, DROP phone CASCADE")
			b.exec("INSERT INTO patrons (id, email) VALUES (6, 'SECRET')")
			for range 3 {
				require.NoError(t, bring())
			}
			require.Len(t, b.rowsOf("kept.patrons", column("id", schema.Int32)), 6)
			b.exec("ALTER TABLE patrons RENAME email TO mail")
			b.exec("INSERT INTO patrons (id, mail) VALUES (7, 'SECRET')")
			var err error
			for range 2 {
				err = bring()
			}
			require.ErrorContains(t, err, "the feed does not say what is to become of it")
			if find == feed.FindLog { // nor by a copy that a person asks for
				require.NoError(t, engine.CopyAgain(t.Context(), b.feed, []string{table.Table}, b.source, b.warehouse))
				require.ErrorContains(t, bring(), "the feed does not say what is to become of it")
			}
			for _, name := range []string{"kept", "noemata"} {
				for _, found := range testkit.SQL(t, b.warehouse,
					"SELECT table_name FROM information_schema.tables WHERE table_schema = '"+name+"'") {
					in := testkit.SQL(t, b.warehouse, fmt.Sprintf("SELECT count(*) FROM %s.%q AS t WHERE CAST(t AS "+
						"VARCHAR) LIKE '%%SECRET%%'",
						name, fmt.Sprint(found[0])))
					require.EqualValues(t, 0, in[0][0], "%v", found)
				}
			}
			table.Columns = map[string]feed.Treatment{"mail": {Hash: "people", Name: "email"}}
			if find == feed.FindWatermark {
				require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), b.feed.Name, table.Table, nil))
			}
			if find == feed.FindLog {
				require.NoError(t, engine.CopyAgain(t.Context(), b.feed, []string{table.Table}, b.source, b.warehouse))
			}
			for range 3 {
				require.NoError(t, bring())
			}
			require.Len(t, b.rowsOf("kept.patrons", column("id", schema.Int32)), 7)
		})
	}
}
