package engine_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/testkit"
	"noemata/internal/testkit/plain"
	"noemata/internal/testkit/torture"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// Whatever the kind of a warehouse, it comes to the same: feeds of one source, cut at other
// places each, leave the same rows, versions and events in all of them. One of them has no
// SQL and merges row by row.
func TestEveryKindComesToTheSame(t *testing.T) {
	keeps, rounds := torture.Keeps, 2
	if testing.Short() { // row by row takes its time under the race detector
		keeps, rounds = []string{"history"}, 1
	}
	settings, _ := testkit.Database(t)
	s, err := torture.New(context.Background(), testkit.Postgres(t).URL(settings.Database))
	require.NoError(t, err)
	defer s.Close()
	src, err := pgsource.Open(settings, `source "circulation"`)
	require.NoError(t, err)
	defer src.Close()
	var tables []feed.Table
	for _, keep := range keeps {
		for _, name := range torture.Tables(keep) {
			tables = append(tables, feed.Table{Table: schema.Name{Schema: "public", Table: name}.Display(),
				Find: feed.FindLog,
				Keep: feed.Keep(keep), Target: schema.Name{Schema: "kept", Table: name}.Display()})
		}
	}
	kinds := map[string]warehouse.Warehouse{plain.Kind: plain.New(), duckdb.Kind: openWarehouse(t, duckdb.Kind),
		pgwarehouse.Kind: openWarehouse(t, pgwarehouse.Kind)}
	feeds, targets := map[string]*feed.Feed{}, map[string]warehouse.Target{}
	e, run := engine.New(), int64(0)
	catchUp := func(kind string) {
		t.Helper()
		run++
		done, err := e.Follow(context.Background(),
			engine.LogWork{Feed: feeds[kind], Run: run, Source: src, Warehouse: kinds[kind]})
		require.NoError(t, err, kind)
		for _, x := range done.Tables {
			require.Equal(t, warehouse.Following, x.State, "%s: %v", x.Table, x.Trouble)
			require.True(t, x.Books.Balanced(), "%s: %+v", x.Table, x.Books)
			targets[x.Table] = x.Target
		}
	}
	s.Start(1)
	time.Sleep(200 * time.Millisecond)
	s.Pause()
	for kind := range kinds {
		feeds[kind] = &feed.Feed{Name: "kinds-" + kind, Source: "s", Warehouse: "w", Tables: tables}
		t.Cleanup(func() { _ = engine.DropLog(context.Background(), feeds[kind], src, kinds[kind]) })
		catchUp(kind)
	}
	copied := time.Now()
	for range rounds {
		s.Start(1)
		time.Sleep(200 * time.Millisecond)
		for kind := range kinds {
			catchUp(kind)
		}
		s.Pause()
	}
	for kind := range kinds {
		catchUp(kind)
	}
	rows := 0
	for table, target := range targets {
		want := allRows(t, kinds[plain.Kind], target, copied)
		rows += len(want) // one table may have been emptied last
		for _, kind := range []string{duckdb.Kind, pgwarehouse.Kind} {
			got := allRows(t, kinds[kind], target, copied)
			require.Equal(t, strings.Join(want, "\n"), strings.Join(got, "\n"), "%s in %s", table, kind)
		}
	}
	require.Positive(t, rows)
	t.Logf("%d transactions, %d rows", s.Count, rows)
}

// allRows reads a target, but for the runs that wrote its rows, and without what depends on
// where the log was cut: the moment of what came by a copy, and that of rows which came back
// to what they had been.
func allRows(t *testing.T, wh warehouse.Warehouse, target warehouse.Target, copied time.Time) (list []string) {
	columns := slices.DeleteFunc(slices.Clone(target.Columns),
		func(c warehouse.Column) bool { return c.Role == warehouse.Run })
	var plain []schema.Column
	for _, c := range columns {
		plain = append(plain, c.Column)
	}
	require.NoError(t, wh.Read(context.Background(), warehouse.Query{Target: target, Columns: plain},
		func(r arrow.RecordBatch) error {
			for i := range int(r.NumRows()) {
				var row strings.Builder
				byCopy := false
				for k, c := range columns {
					if c.Role == warehouse.From || c.Role == warehouse.ChangedAt {
						byCopy = byCopy || r.Column(k).(*array.Timestamp).Value(i) < arrow.Timestamp(copied.UnixMicro())
					}
				}
				for k, c := range columns {
					text, ok := schema.CellText(r.Column(k), i, c.Type)
					switch {
					case c.Role == warehouse.ChangedAt && target.Keep != feed.KeepLedger:
						text = "cut elsewhere"
					case byCopy && (c.Role == warehouse.From || c.Role == warehouse.ChangedAt ||
						c.Role == warehouse.Position):
						text = "of the copy"
					case !ok:
						text = "null"
					}
					row.WriteString(c.Name + "=" + text + " ")
				}
				list = append(list, row.String())
			}
			return nil
		}))
	slices.Sort(list)
	return list
}
