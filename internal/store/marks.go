package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Mark is where a feed stood in its source's log.
type Mark struct {
	At       time.Time
	Position string
}

// Marks lists the marks of a feed, the oldest first.
func (s *Store) Marks(ctx context.Context, feed string) ([]Mark, error) {
	found, err := s.Pool.Query(ctx, `SELECT m.at, m.position FROM log_marks m JOIN feeds f ON f.id = m.feed_id
WHERE f.name = $1 ORDER BY m.at`, feed)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[Mark])
}

// AddMark keeps where a feed stands, and forgets what is older than the last mark before a length of time.
func (s *Store) AddMark(ctx context.Context, feed, position string, back time.Duration) error {
	_, err := s.Pool.Exec(ctx, `WITH old AS (DELETE FROM log_marks m USING feeds f WHERE f.id = m.feed_id AND f.name = $1
  AND m.at < (SELECT max(l.at) FROM log_marks l WHERE l.feed_id = f.id AND l.at < now() - $3::interval))
INSERT INTO log_marks (feed_id, position) SELECT id, $2 FROM feeds WHERE name = $1 ON CONFLICT DO NOTHING`, feed, position,
		back)
	return err
}

// ForgetMarks forgets where a feed stood.
func (s *Store) ForgetMarks(ctx context.Context, feed string) error {
	_, err := s.Pool.Exec(ctx, `DELETE FROM log_marks m USING feeds f WHERE f.id = m.feed_id AND f.name = $1`, feed)
	return err
}
