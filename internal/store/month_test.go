package store_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

// The records of 500 tables in 50 feeds after a month: each feed runs every five minutes and finds something in two
// of its ten tables each fifth time; half of the feeds follow a log and are measured every five seconds. What is kept by
// default after a month is put in as the service writes it, pruned once more, and measured.
// go test ./internal/store -run xxx -bench Month -benchtime 1x
func BenchmarkMonth(b *testing.B) {
	s := open(b)
	ctx := context.Background()
	exec := func(sql string) {
		b.Helper()
		_, err := s.Pool.Exec(ctx, sql)
		require.NoError(b, err, sql)
	}
	for range b.N {
		exec(`INSERT INTO sources (name, kind, settings, secret) VALUES ('circulation', 'postgresql', '{}', ''); INSERT INTO warehouses (name, kind, settings, secret) VALUES ('lake', 'duckdb', '{}', '');
INSERT INTO feeds (name, source, warehouse, spec) SELECT 'feed-' || i, 'circulation', 'lake', '{}' FROM generate_series(1, 50) i;
INSERT INTO feed_tables (feed_id, source_table) SELECT id, 'public.table_' || t FROM feeds, generate_series(1, 10) t`)
		exec(`INSERT INTO runs (feed_id, trigger, state, worker, queued_at, started_at, ended_at, books)
SELECT f.id, 'schedule', 'done', 'd2ougjefjo', at, at, at, jsonb_build_object('read', CASE WHEN (extract(epoch FROM at)::bigint / 300 + f.id) % 5 = 0 THEN 240 ELSE 0 END,
  'filtered', 0, 'folded', 0, 'set_aside', 0, 'unchanged', 40, 'inserted', 120, 'updated', 80, 'deleted', 0)
FROM feeds f, generate_series(now() - interval '14 days', now(), interval '5 minutes') at
WHERE (extract(epoch FROM at)::bigint / 300 + f.id) % 5 = 0 OR at > now() - interval '1 hour'`)
		exec(`INSERT INTO run_tables (run_id, place, source_table, detail) SELECT r.id, t, 'public.table_' || t,
  jsonb_build_object('table', 'public.table_' || t, 'target', 'kept.table_' || t, 'state', 'done', 'from', '2026-11-26T20:39:26.023025Z', 'to', '2026-11-26T20:44:26.023025Z',
    'low', '2026-11-26T20:39:26.023025Z', 'high', '2026-11-26T20:44:26.023025Z', 'commits', 1, 'bytes', 24000, 'waiting_seconds', 0.0, 'reading_seconds', 0.0123,
    'shaping_seconds', 0.0012, 'writing_seconds', 0.0321, 'notes', '[]'::jsonb, 'started_at', r.started_at, 'ended_at', r.ended_at,
    'books', jsonb_build_object('read', CASE WHEN t <= 2 THEN 120 ELSE 0 END, 'filtered', 0, 'folded', 0, 'set_aside', 0, 'unchanged', 20, 'inserted', 60, 'updated', 40, 'deleted', 0))
FROM runs r, generate_series(1, 10) t WHERE r.ended_at > now() - interval '14 days' AND (r.books->>'read')::int > 0
  AND (t <= 2 OR r.ended_at > now() - interval '1 hour')`)
		exec(`INSERT INTO statements (run_id, source_table, side, statement, row_count, started_at, took_us, error)
SELECT x.run_id, x.source_table, CASE WHEN n < 6 THEN 'source' ELSE 'warehouse' END, repeat('SELECT id, card, branch, lent_at FROM public.loans ', 8), 120, now(), 3000, ''
FROM run_tables x JOIN runs r ON r.id = x.run_id, generate_series(1, 12) n WHERE r.ended_at > now() - interval '1 day' AND x.place <= 2 OR r.ended_at > now() - interval '1 hour'`)
		exec(`INSERT INTO log_entries (at, feed_id, run_id, source_table, level, what, remedy)
SELECT r.ended_at, r.feed_id, r.id, CASE WHEN n < 3 THEN 'public.table_' || n ELSE '' END, 'info',
  'Read 120 rows, 24.0 kB above 2026-11-26T20:39:26.023025Z up to 2026-11-26T20:44:26.023025Z; 60 inserted, 40 updated, 20 unchanged; 1 commit; reading took 12ms, shaping 1ms, writing 32ms.', ''
FROM runs r, generate_series(1, 3) n WHERE r.ended_at > now() - interval '14 days' AND (r.books->>'read')::int > 0`)
		exec(`INSERT INTO log_samples (feed_id, at, lag, behind, retained, applied)
SELECT f.id, at, 0.5, 4711, 500000, 12 FROM feeds f, generate_series(now() - interval '1 day', now(), interval '5 seconds') at WHERE f.id % 2 = 0`)
		exec(`INSERT INTO volumes (feed_id, source_table, day, read) SELECT feed_id, source_table, day, 4711 FROM feed_tables,
  generate_series(now() - interval '30 days', now(), interval '1 day') day`)
		require.NoError(b, s.Prune(ctx))
		exec(`VACUUM ANALYZE`)
		var bytes int64
		require.NoError(b, s.Pool.QueryRow(ctx, "SELECT pg_database_size(current_database())").Scan(&bytes))
		b.ReportMetric(float64(bytes)/1e6, "MB")
		list, err := s.Retention(ctx)
		require.NoError(b, err)
		for _, r := range list {
			b.Logf("%-10s %9d rows %7.1f MB", r.What, r.Rows, float64(r.Bytes)/1e6)
		}
	}
}
