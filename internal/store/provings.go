package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

const provingColumns = `p.id, f.name, p.source_table, p.repair, p.since, p.state, p.asked_by, p.asked_at, p.started_at,
  p.ended_at,
p.phase, p.read, p.expected, p.proof, p.repaired, p.problem`

const provingFrom = ` FROM provings p JOIN feeds f ON f.id = p.feed_id`

func scanProving(more ...any) func(row pgx.CollectableRow) (records.Proving, error) {
	return func(row pgx.CollectableRow) (p records.Proving, err error) {
		into := []any{&p.ID, &p.Feed, &p.Table, &p.Repair, &p.Since, &p.State, &p.AskedBy, &p.AskedAt, &p.StartedAt, &p.EndedAt,
			&p.Phase, &p.Read, &p.Expected, &p.Proof, &p.Repaired, &p.Problem}
		err = row.Scan(append(into, more...)...)
		return p, err
	}
}

// AddProving asks for a comparison of a table, or a repair. Where one waits already, that one counts.
func (s *Store) AddProving(ctx context.Context, feed, table string, repair bool, since, by string) (records.Proving,
	error) {
	var id int64
	err := s.Pool.QueryRow(ctx, `INSERT INTO provings (feed_id, source_table, repair, asked_by, since)
SELECT id, $2, $3, $4, $5 FROM feeds WHERE name = $1
ON CONFLICT (feed_id, source_table, repair, since) WHERE state = 'waiting' DO UPDATE SET state = 'waiting'
  RETURNING id`, feed, table,
		repair, by, since).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("feed %q", feed))
	}
	if err != nil {
		return records.Proving{}, err
	}
	return s.Proving(ctx, id)
}

// Proving gives one, with the rows that differ and its statements.
func (s *Store) Proving(ctx context.Context, id int64) (p records.Proving, err error) {
	found, err := s.Pool.Query(ctx, "SELECT "+provingColumns+", p.differences, p.statements"+provingFrom+" WHERE p.id = $1", id)
	if err != nil {
		return p, err
	}
	var differs records.Proving
	p, err = pgx.CollectExactlyOneRow(found, scanProving(&differs.Differences, &differs.Statements))
	p.Differences, p.Statements = differs.Differences, differs.Statements
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("proof %d", id))
	}
	return p, err
}

// Provings lists those of a feed, the newest first; of one table where it is named.
func (s *Store) Provings(ctx context.Context, feed, table string, limit int) ([]records.Proving, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+provingColumns+provingFrom+`
  WHERE f.name = $1 AND ($2 = '' OR p.source_table = $2)
ORDER BY p.id DESC LIMIT $3`, feed, table, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, scanProving())
}

// BeginProving takes one up, also where another process has begun it and is gone; ok is false where it
// has ended.
func (s *Store) BeginProving(ctx context.Context, id int64) (p records.Proving, ok bool, err error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE provings SET state = 'running', started_at = now(), phase = '', read = 0,
  expected = 0
WHERE id = $1 AND state IN ('waiting', 'running')`, id)
	if err != nil || tag.RowsAffected() == 0 {
		return p, false, err
	}
	p, err = s.Proving(ctx, id)
	return p, err == nil, err
}

// NoteProving keeps how far one is, and tells whether it is wanted still.
func (s *Store) NoteProving(ctx context.Context, id int64, phase string, read, expected int64) (wanted bool,
	err error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE provings SET phase = $2, read = $3, expected = $4
  WHERE id = $1 AND state = 'running'`,
		id, phase, read, expected)
	return err != nil || tag.RowsAffected() > 0, err
}

// NoteProven keeps how far one has come, as its worker wrote it, for another one to go on.
func (s *Store) NoteProven(ctx context.Context, id int64, proven any) error {
	_, err := s.Pool.Exec(ctx, "UPDATE provings SET proven = $2 WHERE id = $1 AND state = 'running'", id, jsonOf(&proven))
	return err
}

// Proven reads what NoteProven has kept; it leaves into as it is where that is nothing.
func (s *Store) Proven(ctx context.Context, id int64, into any) error {
	var text []byte
	err := s.Pool.QueryRow(ctx, "SELECT proven FROM provings WHERE id = $1", id).Scan(&text)
	if err != nil || text == nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// LayAside has one that runs wait, which goes on later.
func (s *Store) LayAside(ctx context.Context, id int64) error {
	_, err := s.Pool.Exec(ctx, `UPDATE provings p SET state = 'waiting' WHERE id = $1 AND state = 'running' AND NOT EXISTS (
  SELECT 1 FROM provings w WHERE w.feed_id = p.feed_id AND w.source_table = p.source_table AND w.repair = p.repair
  AND w.since = p.since AND w.state = 'waiting')`, id)
	return err
}

// EndProving keeps what came of one.
func (s *Store) EndProving(ctx context.Context, p records.Proving) error {
	_, err := s.Pool.Exec(ctx, `UPDATE provings SET state = CASE WHEN state = 'stopped' THEN state ELSE $2 END,
  ended_at = now(),
phase = '', proven = NULL, proof = $3, differences = $4, repaired = $5, problem = $6, statements = $7
  WHERE id = $1`, p.ID, p.State, jsonOf(p.Proof),
		jsonOf(&p.Differences), jsonOf(p.Repaired), jsonOf(p.Problem), jsonOf(&p.Statements))
	return err
}

// PutOffProving notes what a proof waits for before it is begun.
func (s *Store) PutOffProving(ctx context.Context, id int64, why string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE provings SET phase = $2 WHERE id = $1 AND state = 'waiting'", id, why)
	return err
}

// StopProving ends one that has not ended.
func (s *Store) StopProving(ctx context.Context, id int64) (records.Proving, error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE provings SET state = 'stopped', ended_at = now() WHERE id = $1
AND state IN ('waiting', 'running')`, id)
	if err != nil {
		return records.Proving{}, err
	}
	p, err := s.Proving(ctx, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = problem.Newf(problem.Conflict, "Ask for another one.", "Proof %d has ended: it is %s.", id, p.State)
	}
	return p, err
}

// WaitingProvings lists those that wait or run, for processes that take them up.
func (s *Store) WaitingProvings(ctx context.Context) ([]int64, error) {
	found, err := s.Pool.Query(ctx, "SELECT id FROM provings WHERE state IN ('waiting', 'running') ORDER BY id")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowTo[int64])
}

// ProvedFeeds gives the active feeds whose tables are proven by and by, and how old a proof may become.
func (s *Store) ProvedFeeds(ctx context.Context) (map[string]string, error) {
	found, err := s.Pool.Query(ctx, "SELECT name, spec->>'prove' FROM feeds WHERE state = 'active' AND spec->>'prove' <> ''")
	if err != nil {
		return nil, err
	}
	feeds := map[string]string{}
	var name, age string
	_, err = pgx.ForEachRow(found, []any{&name, &age}, func() error {
		feeds[name] = age
		return nil
	})
	return feeds, err
}

// RunEndedSince tells whether a run of a feed has ended well that began after a moment of the records.
func (s *Store) RunEndedSince(ctx context.Context, feed string, since time.Time) (ended bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM runs r JOIN feeds f ON f.id = r.feed_id WHERE f.name = $1
AND r.started_at > $2 AND r.state = 'done')`, feed, since).Scan(&ended)
	return ended, err
}

// Now is the moment of the records.
func (s *Store) Now(ctx context.Context) (at time.Time, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&at)
	return at, err
}
