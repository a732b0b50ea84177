package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/window"
	"noemata/internal/records"
)

const backfillColumns = `b.id, f.name, b.source_table, b.range, b.state, b.slices, b.done, b.books, b.problem,
b.asked_at, b.started_at, b.ended_at FROM backfills b JOIN feeds f ON f.id = b.feed_id`

func scanBackfill(row pgx.CollectableRow) (b records.Backfill, err error) {
	var r window.Range
	err = row.Scan(&b.ID, &b.Feed, &b.Table, &r, &b.State, &b.Slices, &b.Done, &b.Books, &b.Problem, &b.AskedAt,
		&b.StartedAt, &b.EndedAt)
	b.From, b.To, b.Slice, b.NewestFirst = r.From, r.To, r.Slice, r.Newest
	return b, err
}

// AddBackfill notes that a range is to be read again.
func (s *Store) AddBackfill(ctx context.Context, feed, table string, r window.Range, slices int) (records.Backfill,
	error) {
	var id int64
	err := s.Pool.QueryRow(ctx, `INSERT INTO backfills (feed_id, source_table, range, slices, books)
SELECT id, $2, $3, $4, $5 FROM feeds WHERE name = $1 RETURNING id`, feed, table, jsonOf(&r), slices,
		jsonOf(&rows.Books{})).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("feed %q", feed))
	}
	if err != nil {
		return records.Backfill{}, err
	}
	return s.Backfill(ctx, id)
}

// Backfill gives one.
func (s *Store) Backfill(ctx context.Context, id int64) (records.Backfill, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+backfillColumns+" WHERE b.id = $1", id)
	if err != nil {
		return records.Backfill{}, err
	}
	b, err := pgx.CollectExactlyOneRow(found, scanBackfill)
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("backfill %d", id))
	}
	return b, err
}

// Backfills lists those of a feed, the newest first.
func (s *Store) Backfills(ctx context.Context, feed string) ([]records.Backfill, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+backfillColumns+" WHERE f.name = $1 ORDER BY b.id DESC LIMIT 100", feed)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, scanBackfill)
}

// SetBackfill changes the state of a backfill that has not ended: it goes on, pauses or stops.
func (s *Store) SetBackfill(ctx context.Context, id int64, state string) (records.Backfill, error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE backfills SET state = $2, next_at = now(), failures = 0,
problem = CASE WHEN $2 = 'waiting' THEN NULL ELSE problem END,
ended_at = CASE WHEN $2 = 'stopped' THEN now() END
  WHERE id = $1 AND state IN ('waiting', 'running', 'paused')`, id, state)
	if err != nil {
		return records.Backfill{}, err
	}
	b, err := s.Backfill(ctx, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = problem.Newf(problem.Conflict, "Ask for another one.", "Backfill %d has ended: it is %s.", id, b.State)
	}
	return b, err
}

// PauseBackfills pauses those of a feed.
func (s *Store) PauseBackfills(ctx context.Context, feed string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE backfills b SET state = 'paused' FROM feeds f WHERE f.id = b.feed_id AND f.name = $1
AND b.state IN ('waiting', 'running')`, feed)
	return err
}

// BackfillDue tells when a feed is to go on with a backfill; ok is false where it has none that goes on.
func (s *Store) BackfillDue(ctx context.Context, feed string) (at time.Time, ok bool, err error) {
	var next *time.Time
	err = s.Pool.QueryRow(ctx, `SELECT min(b.next_at) FROM backfills b JOIN feeds f ON f.id = b.feed_id
WHERE f.name = $1 AND f.state <> 'held' AND b.state IN ('waiting', 'running')`, feed).Scan(&next)
	if err != nil || next == nil {
		return at, false, err
	}
	return *next, true, nil
}

// BeginSlice takes the backfill of a feed that is due first; ok is false where none is.
func (s *Store) BeginSlice(ctx context.Context, feed string) (b records.Backfill, ok bool, err error) {
	found, err := s.Pool.Query(ctx, `WITH next AS (
    SELECT b.id FROM backfills b JOIN feeds f ON f.id = b.feed_id
    WHERE f.name = $1 AND f.state <> 'held' AND b.state IN ('waiting', 'running') AND b.next_at <= now() ORDER BY b.id
    LIMIT 1
), begun AS (
    UPDATE backfills SET state = 'running', started_at = coalesce(started_at, now()) WHERE id = (SELECT id FROM next)
) SELECT `+backfillColumns+` WHERE b.id = (SELECT id FROM next)`, feed)
	if err != nil {
		return b, false, err
	}
	b, err = pgx.CollectExactlyOneRow(found, scanBackfill)
	if errors.Is(err, pgx.ErrNoRows) {
		return b, false, nil
	}
	return b, err == nil, err
}

// EndSlice notes what came of a slice, and adds its rows to the table's state. Of one that failed
// the next attempt comes after a pause.
func (s *Store) EndSlice(ctx context.Context, b records.Backfill, books rows.Books, failure error,
	pause func(failures int) time.Duration) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		var sum rows.Books
		var failures int
		err := tx.QueryRow(ctx, "SELECT books, failures FROM backfills WHERE id = $1 FOR UPDATE", b.ID).Scan(&sum,
			&failures)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil // removed with its feed
		}
		if err != nil {
			return err
		}
		sum = sum.Add(books)
		switch {
		case problem.Is(failure, problem.Stopped): // by a person, or with the service
			_, err = tx.Exec(ctx, "UPDATE backfills SET books = $2 WHERE id = $1", b.ID, jsonOf(&sum))
		case failure != nil:
			failures++
			_, err = tx.Exec(ctx, `UPDATE backfills SET books = $2, problem = $3, failures = $4, next_at = now() + $5
WHERE id = $1`, b.ID, jsonOf(&sum), jsonOf(records.NewProblem(failure)), failures, pause(failures))
		default:
			_, err = tx.Exec(ctx, `UPDATE backfills SET books = $2, done = done + 1, problem = NULL, failures = 0,
state = CASE WHEN done + 1 >= slices AND state <> 'stopped' THEN 'done' ELSE state END,
ended_at = CASE WHEN done + 1 >= slices THEN coalesce(ended_at, now()) ELSE ended_at END
  WHERE id = $1`, b.ID, jsonOf(&sum))
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `UPDATE feed_tables t SET set_aside = set_aside + $3, row_count = row_count + $4 - $5,
changed = CASE WHEN $6 > 0 THEN $6 ELSE changed END, changed_at = CASE WHEN $6 > 0 THEN now() ELSE changed_at END
FROM feeds f WHERE f.id = t.feed_id AND f.name = $1 AND t.source_table = $2`, b.Feed, b.Table, books.SetAside,
			books.Inserted, books.Deleted, books.Written())
		return err
	})
}
