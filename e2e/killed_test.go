package e2e

import (
	"context"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

type database struct {
	t        testing.TB
	settings client.Settings
	conn     *pgx.Conn
}

func (d *database) exec(sql string, args ...any) {
	d.t.Helper()
	testkit.Exec(d.t, d.conn, sql, args...)
}

// The service is killed at random instants of a load. After the last restart rows
// are equal, nothing is doubled and the books balance. `make torture` does it with
// a million rows, 20 times in a row.
func TestKilledAgainAndAgain(t *testing.T) {
	rows, kills := int64(100_000), 4
	if os.Getenv("NOEMATA_TORTURE") != "" {
		rows, kills = 1_000_000, 20
	}
	for _, kind := range []string{"duckdb", "postgresql", "iceberg"} {
		t.Run(kind, func(t *testing.T) {
			s := newService(t)
			d := s.addSource("circulation")
			s.addWarehouse("target", kind)
			d.exec(`CREATE TABLE loans (id bigint PRIMARY KEY, copy text, fee numeric(8,2), note text, updated_at ` +
				`timestamptz NOT NULL)`)
			d.exec(`CREATE TABLE desk_events (at timestamptz NOT NULL, event text)`)
			d.exec(`INSERT INTO loans SELECT i, 'C' || i % 9973, i % 700, repeat('x', (i % 90)::int), `+
				`'2026-01-01Z'::timestamptz + (i / 7) * interval '1 s' FROM generate_series(1, $1::bigint) i`, rows)
			d.exec(`INSERT INTO desk_events SELECT '2026-01-01Z'::timestamptz + (i / 50) * interval '1 s', 'gate' `+
				`FROM generate_series(1, $1::bigint) i`, rows)
			d.exec(`CREATE INDEX ON loans (updated_at, id); CREATE INDEX ON desk_events (at); ANALYZE`)
			// Three ways through the engine: at once, page by page with a key, page by page without.
			s.apply(`
feed: torture
source: circulation
warehouse: target
every: 1s
tables:
  - {table: public.loans, find: watermark, watermark: {column: updated_at}, keep: latest, target: at_once.loans}
  - {table: public.desk_events, find: watermark, watermark: {column: at, look_back: 5s}, keep: ledger, target: paged.desk_events, page_rows: %d}
`, rows/7)
			s.apply(`
feed: torture-paged
source: circulation
warehouse: target
every: 1s
tables:
  - {table: public.loans, find: watermark, watermark: {column: updated_at}, keep: latest, target: paged.loans, page_rows: %d}
`, rows/9)
			for _, feed := range []string{"torture", "torture-paged"} {
				_, err := s.client.StartFeed(t.Context(), feed)
				require.NoError(t, err)
			}
			for i := range kills {
				time.Sleep(time.Duration(50+rand.IntN(2500)) * time.Millisecond)
				s.kill()
				d.exec(`UPDATE loans SET note = 'after kill', updated_at = clock_timestamp() WHERE id % 1000 = $1`, i)
				s.start()
				s.release("torture")
				s.release("torture-paged")
			}
			time.Sleep(2500 * time.Millisecond) // beyond the settle delay of the last updates
			for _, feed := range []string{"torture", "torture-paged"} {
				_, err := s.client.PauseFeed(t.Context(), feed)
				require.NoError(t, err)
				run := s.finish(feed)
				require.Equal(t, "done", run.State, "%+v", run.Problem)
			}
			s.proved("torture", "public.loans", rows)
			s.proved("torture", "public.desk_events", rows)
			s.proved("torture-paged", "public.loans", rows)
			s.booksBalance(rows)
		})
	}
}

// booksBalance checks every run: what was inserted into each target is what is there.
func (s *service) booksBalance(rows int64) {
	s.t.Helper()
	runs, err := s.client.Runs(context.Background(), client.RunFilter{Limit: 500})
	require.NoError(s.t, err)
	for _, r := range runs {
		r, err := s.client.Run(context.Background(), r.ID)
		require.NoError(s.t, err)
		require.Contains(s.t, []string{"done", "stopped"}, r.State, "%+v", r.Problem)
		for _, table := range r.Tables {
			require.True(s.t, table.Books.Balanced(), "run %d, %s: %+v", r.ID, table.Table, table.Books)
		}
	}
	for _, feed := range []string{"torture", "torture-paged"} {
		f, err := s.client.Feed(context.Background(), feed)
		require.NoError(s.t, err)
		for _, table := range f.Tables {
			c, err := s.client.Counts(context.Background(), feed, table.Table)
			require.NoError(s.t, err)
			require.Equal(s.t, rows, c.Warehouse, table.Target)
		}
	}
}
