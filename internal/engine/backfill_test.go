package engine_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/engine"
)

// backfill reads a whole range of a table again.
func (b *workbench) backfill(table feed.Table, r window.Range) (sum rows.Books) {
	b.t.Helper()
	_, slices, err := engine.PlanBackfill(context.Background(), b.work(table), r)
	require.NoError(b.t, err)
	for i := range slices.Count {
		out, err := b.engine.Backfill(context.Background(), b.work(table), slices.At(i))
		require.NoError(b.t, err)
		require.True(b.t, out.Books.Balanced(), "%+v", out.Books)
		require.Equal(b.t, out.From.Position, out.To.Position, "a backfill moves no position")
		sum = sum.Add(out.Books)
	}
	return sum
}

// Whatever the watermark's type and the keep, a past that a table began without comes in slices,
// once, and again is nothing.
func TestAPastIsBroughtInSlices(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		for i, x := range []struct{ kind, value, slice string }{
			{"timestamptz", "'2026-01-01Z'::timestamptz + i / 3 * interval '1 day'", "1mo"},
			{"date", "'2026-01-01'::date + i / 3", "30d"},
			{"bigint", "i / 3", "30"},
			{"numeric(12,0)", "i / 4", "25"},
			{"text", "'v' || lpad((i / 3)::text, 4, '0')", ""},
		} {
			keep := []feed.Keep{feed.KeepLatest, feed.KeepHistory, feed.KeepLedger}[i%3]
			name := fmt.Sprintf("past_%d", i)
			b.exec(fmt.Sprintf(`CREATE TABLE %s (id int PRIMARY KEY, w %s NOT NULL, note text)`, name, x.kind))
			b.exec(fmt.Sprintf(`INSERT INTO %s SELECT i, %s, 'old' FROM generate_series(1, 200) i`, name, x.value))
			table := feed.Table{Table: "public." + name, Find: feed.FindWatermark, Keep: keep, PageRows: 60,
				Watermark: &feed.Watermark{Column: "w", Start: feed.StartNow, Settle: "0s"}}
			require.Equal(t, rows.Books{}, b.bring(table).Books)
			newest := window.Range{Slice: x.slice, Newest: true}
			require.Equal(t, rows.Books{Read: 200, Inserted: 200}, b.backfill(table, newest), name)
			require.Equal(t, rows.Books{Read: 200, Unchanged: 200}, b.backfill(table, window.Range{Slice: x.slice}),
				name)
			b.equal(table, 200)
		}
	})
}

// A row that was changed since is not made older, and a worker that was overtaken writes nothing.
func TestABackfillMakesNoRowOlder(t *testing.T) {
	b := newWorkbench(t, "duckdb")
	table := b.patrons(20)
	table.Watermark.Settle = "0s"
	b.bring(table)
	_, slices, err := engine.PlanBackfill(context.Background(), b.work(table), window.Range{})
	require.NoError(t, err)
	w := b.work(table)
	changed := false
	w.Progress = func(p engine.Progress) {
		if p.Phase == "reading" && !changed { // it has the old row in its hands
			changed = true
			b.exec("UPDATE patrons SET name = 'newer', updated_at = clock_timestamp() WHERE id = 7")
			b.exec("SELECT pg_sleep(0.01)")
			b.bring(table)
		}
	}
	_, err = b.engine.Backfill(context.Background(), w, slices.At(0))
	require.True(t, changed)
	require.True(t, problem.Is(err, problem.Overtaken), "%v", err)
	b.equal(table, 20)

	before := "2000-01-01T00:00:00Z"
	back := position.Position{Value: before}
	require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", table.Table, &back))
	_, err = b.engine.Backfill(context.Background(), b.work(table), slices.At(0))
	require.ErrorContains(t, err, "ends beyond the position")
}

// What is read again after a drift is also what backfills have brought of before the table began.
func TestADriftReachesWhatBackfillsBrought(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(20)
		table.Watermark.Settle, table.Watermark.Start = "0s", feed.StartNow
		table.Drift = &feed.Drift{Columns: drift.Follow}
		b.bring(table)
		require.Equal(t, rows.Books{Read: 20, Inserted: 20}, b.backfill(table, window.Range{}))
		b.exec("ALTER TABLE patrons ADD COLUMN note text DEFAULT 'n'")
		_, err := b.engine.Backfill(context.Background(), b.work(table), window.Window{High: "2026-01-01T00:00:00Z"})
		require.ErrorContains(t, err, "since its last run")
		b.bring(table)
		b.equal(table, 20)
		for _, row := range b.rowsOf("public.patrons", column("id", schema.Int64), column("note", schema.Text)) {
			require.Equal(t, "n", row[1], "row %s", row[0])
		}
	})
}
