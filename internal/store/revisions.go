package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// keepRevision keeps what a feed's file says, where it says something else than before.
func keepRevision(ctx context.Context, tx pgx.Tx, id int64, f *feed.Feed, by string) error {
	_, err := tx.Exec(ctx, `INSERT INTO feed_revisions (feed_id, revision, spec, applied_by)
SELECT $1, coalesce(max(revision), 0) + 1, $2, $3 FROM feed_revisions WHERE feed_id = $1
HAVING (SELECT spec FROM feed_revisions WHERE feed_id = $1 ORDER BY revision DESC LIMIT 1) IS DISTINCT FROM $2::jsonb`,
		id, jsonOf(f), by)
	return err
}

// Revisions lists what a feed's file has said, the newest first, each with what it changed.
func (s *Store) Revisions(ctx context.Context, name string) ([]records.Revision, error) {
	found, err := s.Pool.Query(ctx, `SELECT r.revision, r.spec, r.applied_by, r.applied_at FROM feed_revisions r
JOIN feeds f ON f.id = r.feed_id WHERE f.name = $1 ORDER BY r.revision`, name)
	if err != nil {
		return nil, err
	}
	list := []records.Revision{}
	var before *feed.Feed
	var spec []byte
	var r records.Revision
	if _, err := pgx.ForEachRow(found, []any{&r.Revision, &spec, &r.By, &r.At}, func() error {
		f := &feed.Feed{}
		if err := json.Unmarshal(spec, f); err != nil {
			return fmt.Errorf("the revision %d of the feed %s: %w", r.Revision, name, err)
		}
		r.Changes = []feed.Change{}
		if before != nil {
			r.Changes = feed.Diff(before, f)
		}
		before = f
		list = append([]records.Revision{r}, list...)
		return nil
	}); err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, notFound(fmt.Sprintf("feed %q", name))
	}
	return list, nil
}

// Revision is what a feed's file said then.
func (s *Store) Revision(ctx context.Context, name string, revision int64) (*feed.Feed, error) {
	var spec []byte
	err := s.Pool.QueryRow(ctx, `SELECT r.spec FROM feed_revisions r JOIN feeds f ON f.id = r.feed_id
WHERE f.name = $1 AND r.revision = $2`, name, revision).Scan(&spec)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, problem.Newf(problem.NotFound, "List those that there are: noemata feeds revisions "+problem.Word(name),
			"The feed %s has no revision %d.", name, revision)
	}
	if err != nil {
		return nil, err
	}
	f := &feed.Feed{}
	return f, json.Unmarshal(spec, f)
}
