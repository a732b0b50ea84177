package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/window"
	"noemata/internal/records"
)

// Say adds an entry to a feed's log.
func (s *Store) Say(ctx context.Context, e records.LogEntry) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO log_entries (feed_id, run_id, source_table, level, what, remedy)
SELECT f.id, nullif($2::bigint, 0), $3, $4, $5, $6 FROM feeds f
  WHERE f.name = $1`, e.Feed, e.Run, e.Table, e.Level, plain(e.What), plain(e.Remedy))
	return unlessGone(err)
}

// Log gives entries of a feed's log: the newest, the last one last.
func (s *Store) Log(ctx context.Context, feed string, f records.LogFilter) ([]records.LogEntry, error) {
	order := "DESC"
	if f.After > 0 {
		order = "ASC"
	}
	found, err := s.Pool.Query(ctx, `SELECT * FROM (SELECT e.id, e.at, f.name, coalesce(e.run_id, 0), e.source_table,
  e.level, e.what, e.remedy
FROM log_entries e JOIN feeds f ON f.id = e.feed_id
WHERE f.name = $1 AND ($2 = 0 OR e.run_id = $2) AND ($3 = '' OR e.source_table IN ($3, ''))
  AND ($4 IN ('', 'info') OR e.level = 'error' OR e.level = $4)
  AND ($5 = '' OR strpos(lower(e.what), lower($5)) > 0) AND e.id > $6 AND ($7 = 0 OR e.id < $7)
ORDER BY e.id `+order+` LIMIT $8) x ORDER BY id`, feed, f.Run, f.Table, f.Level, f.Text, f.After, f.Before, f.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.LogEntry])
}

// Effort is what a stretch of work on a table has done and taken.
type Effort struct {
	Books            rows.Books
	Bytes            int64
	Reading, Writing time.Duration
	Statements       int64 // at the source
	Stated           time.Duration
}

// NoteEffort adds to what was done for a table today; an empty one is all of the feed.
func (s *Store) NoteEffort(ctx context.Context, feed, table string, e Effort) error {
	if e == (Effort{}) {
		return nil
	}
	_, err := s.Pool.Exec(ctx, `INSERT INTO volumes AS v (feed_id, source_table, day, read, inserted, updated, deleted,
  set_aside, bytes, reading, writing, statements, statement_seconds)
SELECT id, $2, (now() AT TIME ZONE 'UTC')::date, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12 FROM feeds WHERE name = $1
ON CONFLICT (feed_id, source_table, day) DO UPDATE
  SET read = v.read + excluded.read, inserted = v.inserted + excluded.inserted,
  updated = v.updated + excluded.updated, deleted = v.deleted + excluded.deleted,
  set_aside = v.set_aside + excluded.set_aside,
  bytes = v.bytes + excluded.bytes, reading = v.reading + excluded.reading, writing = v.writing + excluded.writing,
  statements = v.statements + excluded.statements,
  statement_seconds = v.statement_seconds + excluded.statement_seconds`,
		feed, table, e.Books.Read, e.Books.Inserted, e.Books.Updated, e.Books.Deleted, e.Books.SetAside, e.Bytes,
		e.Reading.Seconds(),
		e.Writing.Seconds(), e.Statements, e.Stated.Seconds())
	return unlessGone(err)
}

// Volumes gives what was done for a feed's tables, by day, since so many days; of one table where it is named.
func (s *Store) Volumes(ctx context.Context, feed, table string, days int) ([]records.Volume, error) {
	found, err := s.Pool.Query(ctx, `SELECT to_char(day, 'YYYY-MM-DD'), source_table, read, inserted, updated, deleted,
  set_aside, bytes, reading, writing
FROM volumes v JOIN feeds f ON f.id = v.feed_id WHERE f.name = $1 AND ($2 = '' OR source_table = $2)
  AND source_table <> ''
  AND day > (now() AT TIME ZONE 'UTC')::date - $3::int ORDER BY day, source_table`, feed, table, days)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.Volume])
}

// FeedBurdens are what the feeds of a source have cost it in so many days, today included.
func (s *Store) FeedBurdens(ctx context.Context, source string, days int) ([]records.FeedBurden, error) {
	found, err := s.Pool.Query(ctx, `SELECT f.name, coalesce(v.statements, 0), coalesce(v.seconds, 0), coalesce(v.read,
  0), coalesce(v.bytes, 0),
  coalesce((f.log->>'retained_bytes')::bigint, 0), l.growth, coalesce((f.log->>'stop_bytes')::bigint, 0)
FROM feeds f
LEFT JOIN (SELECT feed_id, sum(statements)::bigint AS statements, sum(statement_seconds) AS seconds,
  sum(read)::bigint AS read, sum(bytes)::bigint AS bytes
  FROM volumes WHERE day > (now() AT TIME ZONE 'UTC')::date - $2::int GROUP BY 1) v ON v.feed_id = f.id
LEFT JOIN LATERAL (SELECT regr_slope(retained, extract(epoch FROM at)) * 3600 AS growth FROM log_samples
  WHERE feed_id = f.id AND at > now() - '1 hour'::interval HAVING max(at) - min(at) > '1 minute'::interval) l ON true
WHERE f.source = $1 ORDER BY 3 DESC, 1`, source, days)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, func(row pgx.CollectableRow) (records.FeedBurden, error) {
		var b records.FeedBurden
		err := row.Scan(&b.Feed, &b.Statements, &b.Seconds, &b.Rows, &b.Bytes, &b.Retained, &b.Growth, &b.Stop)
		if b.Stop > 0 && b.Growth != nil && *b.Growth > 0 {
			lasts := max(float64(b.Stop-b.Retained)/(*b.Growth)*3600, 0)
			b.Lasts = &lasts
		}
		return b, err
	})
}

// forever is a retention without an end.
const forever = "forever"

// kept are things that the records keep for a while: the tables they are in, how long by default, and what
// removes those that are older than $1.
var kept = []struct{ what, says, keep, tables, prune string }{
	{"idle-runs", "runs that found nothing, and tables of other runs that nothing was done to", "1h", "",
		`WITH idle AS (DELETE FROM runs r WHERE ended_at < now() - $1::interval AND state = 'done'
  AND (books->>'read')::bigint = 0
  AND NOT EXISTS (SELECT 1 FROM feed_tables t WHERE t.last_run = r.id)),
untouched AS (DELETE FROM run_tables t USING runs r
  WHERE r.id = t.run_id AND r.ended_at < now() - $1::interval AND r.state = 'done'
  AND t.detail->>'state' = 'done' AND (t.detail->'books'->>'read')::bigint = 0 AND (r.books->>'read')::bigint > 0
  RETURNING t.run_id, t.source_table)
DELETE FROM statements s USING untouched u WHERE s.run_id = u.run_id AND s.source_table = u.source_table`},
	{"statements", "statements of runs that ended well; those of others stay with their run", "1d", "statements",
		`DELETE FROM statements s USING runs r WHERE r.id = s.run_id AND r.ended_at < now() - $1::interval
  AND r.state = 'done'`},
	{"runs", "runs with their tables", "14d", "runs run_tables backfills",
		`WITH filled AS (DELETE FROM backfills WHERE ended_at < now() - $1::interval) DELETE FROM runs
  WHERE ended_at < now() - $1::interval`},
	{"logs", "what runs have said", "14d", "log_entries", `DELETE FROM log_entries WHERE at < now() - $1::interval`},
	{"samples", "samples of lag and of retained log", "1d", "log_samples",
		`DELETE FROM log_samples WHERE at < now() - $1::interval`},
	{"volumes", "rows and bytes by table and day", "400d", "volumes",
		`DELETE FROM volumes WHERE day < now() - $1::interval`},
	{"proofs", "proofs and repairs but the last of each table", "90d", "provings",
		`DELETE FROM provings p WHERE ended_at < now() - $1::interval AND EXISTS (SELECT 1 FROM provings l
WHERE l.feed_id = p.feed_id AND l.source_table = p.source_table AND l.id > p.id)`},
	{"questions", "questions that warehouses were asked", "90d", "questions",
		`DELETE FROM questions WHERE ended_at < now() - $1::interval`},
	{"derivations", "makings of derived tables; of each the last 200, at most", "14d", "derivations",
		`DELETE FROM derivations WHERE ended_at < now() - $1::interval`},
	{"alerts", "alerts that are over", "90d", "alerts", `DELETE FROM alerts WHERE ended_at < now() - $1::interval`},
}

// Prune removes what is older than it is kept.
func (s *Store) Prune(ctx context.Context) error {
	list, err := s.Retention(ctx)
	for i, r := range list {
		if r.Keep == forever {
			continue
		}
		age, parsed := window.ParseDuration(r.Keep)
		if parsed != nil {
			err = errors.Join(err, parsed)
			continue
		}
		_, removed := s.Pool.Exec(ctx, kept[i].prune, age)
		err = errors.Join(err, removed)
	}
	return err
}

// Retention tells how long things are kept, and what room they take.
func (s *Store) Retention(ctx context.Context) ([]records.Retention, error) {
	found, err := s.Pool.Query(ctx, "SELECT what, keep FROM retention")
	if err != nil {
		return nil, err
	}
	said := map[string]string{}
	var what, keep string
	if _, err := pgx.ForEachRow(found, []any{&what, &keep}, func() error { said[what] = keep; return nil }); err != nil {
		return nil, err
	}
	list := make([]records.Retention, len(kept))
	for i, k := range kept {
		r := records.Retention{What: k.what, Says: k.says, Keep: k.keep, Default: k.keep}
		if keep, ok := said[k.what]; ok {
			r.Keep = keep
		}
		for _, table := range strings.Fields(k.tables) {
			var rows, bytes int64
			if err := s.Pool.QueryRow(ctx,
				"SELECT greatest(reltuples, 0)::bigint, pg_total_relation_size(oid) FROM pg_class WHERE oid = $1::regclass",
				table).Scan(&rows, &bytes); err != nil {
				return nil, err
			}
			r.Rows, r.Bytes = r.Rows+rows, r.Bytes+bytes
		}
		list[i] = r
	}
	return list, nil
}

// SetRetention says how long things of one kind are kept: a length of time, or forever.
func (s *Store) SetRetention(ctx context.Context, what, keep string) error {
	var names []string
	for _, k := range kept {
		names = append(names, k.what)
		if k.what != what {
			continue
		}
		if d, err := window.ParseDuration(keep); keep != forever && (err != nil || d < time.Minute) {
			return problem.Newf(problem.Invalid, "Give it as 12h or 30d, a minute at least; or: forever.",
				"%q is not a length of time to keep things for.", keep).In("keep")
		}
		_, err := s.Pool.Exec(ctx, `INSERT INTO retention (what, keep) VALUES ($1, $2) ON CONFLICT (what)
  DO UPDATE SET keep = excluded.keep`, what, keep)
		return err
	}
	return problem.Newf(problem.NotFound, fmt.Sprintf("There are %s.", strings.Join(names, ", ")),
		"Nothing called %q is kept.", what)
}
