package store

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"noemata/internal/records"
)

// Live tells everybody, by a lock on a connection of its own, that a process lives for as long as the
// connection does; draining, that it takes up no more work.
func (s *Store) Live(ctx context.Context, conn *pgx.Conn, p records.Process, draining bool) error {
	_, err := conn.Exec(ctx, "SELECT process_lock($1)", p.ID)
	if err == nil { // others may have taken it for gone, and forgotten it
		_, err = conn.Exec(ctx, `INSERT INTO processes (id, host, pid, version, address, draining)
  VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (id) DO UPDATE SET seen_at = now()`, p.ID, p.Host, p.PID, p.Version, p.Address, draining)
	}
	return err
}

// Seen notes that a process lives still, and tells whether it is to take up no more work.
func (s *Store) Seen(ctx context.Context, conn *pgx.Conn, id string) (drain bool, err error) {
	err = conn.QueryRow(ctx, "UPDATE processes SET seen_at = now() WHERE id = $1 RETURNING draining", id).Scan(&drain)
	return drain, err
}

// Processes lists the processes that live, the oldest first.
func (s *Store) Processes(ctx context.Context) ([]records.Process, error) {
	found, err := s.Pool.Query(ctx, `SELECT p.id, host, pid, version, address, started_at, seen_at,
  CASE WHEN NOT draining THEN 'working' WHEN drained THEN 'drained' ELSE 'draining' END, coalesce(r.feeds, '{}'),
  coalesce(l.files, '{}')
FROM processes p
LEFT JOIN (SELECT worker, array_agg(DISTINCT f.name ORDER BY f.name) AS feeds FROM runs JOIN feeds f ON f.id = feed_id
  WHERE runs.state = 'running' GROUP BY 1) r ON r.worker = p.id
LEFT JOIN (SELECT process, array_agg(warehouse ORDER BY warehouse) AS files FROM places
  GROUP BY 1) l ON l.process = p.id
WHERE process_lives(p.id) ORDER BY started_at, p.id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.Process])
}

// Places lists where the warehouses are that are files.
func (s *Store) Places(ctx context.Context) ([]records.Place, error) {
	found, err := s.Pool.Query(ctx, `SELECT warehouse, host, CASE WHEN process_lives(process) THEN process ELSE '' END
FROM places ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowToStructByPos[records.Place])
}

// PlaceOf is where a warehouse is that is a file; empty where that is not known, or it is a server.
func (s *Store) PlaceOf(ctx context.Context, warehouse string) (records.Place, error) {
	all, err := s.Places(ctx)
	i := slices.IndexFunc(all, func(p records.Place) bool { return p.Warehouse == warehouse })
	if err != nil || i < 0 {
		return records.Place{}, err
	}
	return all[i], nil
}

// Drain has a process take up no more work, or work again.
func (s *Store) Drain(ctx context.Context, id string, drain bool) (records.Process, error) {
	tag, err := s.Pool.Exec(ctx, "UPDATE processes SET draining = $2, drained = false WHERE id = $1 AND process_lives(id)", id, drain)
	if err == nil && tag.RowsAffected() == 0 {
		err = notFound(fmt.Sprintf("process %q", id))
	}
	if err != nil {
		return records.Process{}, err
	}
	all, err := s.Processes(ctx)
	for _, p := range all {
		if p.ID == id {
			return p, err
		}
	}
	return records.Process{}, errors.Join(err, notFound(fmt.Sprintf("process %q", id)))
}

// TakePlace gives a warehouse that is a file to a process, unless another one that lives has it, or the file
// is on another host; there tells that it is on this one, wherever it was before. It returns who has it and where.
func (s *Store) TakePlace(ctx context.Context, warehouse, host, process string, there bool) (records.Place, error) {
	p := records.Place{Warehouse: warehouse}
	err := pgx.ErrNoRows
	for range 3 { // where another process takes it at the same instant, neither sees it at first
		if !errors.Is(err, pgx.ErrNoRows) {
			break
		}
		err = s.takePlace(ctx, &p, host, process, there)
	}
	return p, err
}

func (s *Store) takePlace(ctx context.Context, p *records.Place, host, process string, there bool) error {
	return s.Pool.QueryRow(ctx, `WITH taken AS (
    INSERT INTO places AS p (warehouse, host, process) VALUES ($1, $2, $3)
    ON CONFLICT (warehouse) DO UPDATE SET host = excluded.host, process = excluded.process
    WHERE p.process <> $3 AND (p.host = $2 OR $4) AND NOT process_lives(p.process)
    RETURNING host, process)
SELECT host, process FROM (SELECT host, process, 1 AS nth FROM taken UNION ALL
SELECT host, CASE WHEN process = $3 OR process_lives(process) THEN process ELSE '' END, 2 FROM places
  WHERE warehouse = $1) x
ORDER BY nth LIMIT 1`, p.Warehouse, host, process, there).Scan(&p.Host, &p.Process)
}

// Drained notes that a process has no more work, and lets others have its warehouses.
func (s *Store) Drained(ctx context.Context, process string) error {
	_, err := s.Pool.Exec(ctx, `WITH left_behind AS (UPDATE places SET process = '' WHERE process = $1)
UPDATE processes SET drained = true WHERE id = $1 AND draining`, process)
	return err
}

// Orphans gives the jobs that processes worked on which are gone, and forgets these.
func (s *Store) Orphans(ctx context.Context) ([]Orphan, error) {
	found, err := s.Pool.Query(ctx, `SELECT id, attempted_by[array_length(attempted_by, 1)] FROM river_job
WHERE state = 'running' AND NOT process_lives(attempted_by[array_length(attempted_by, 1)])`)
	if err != nil {
		return nil, err
	}
	orphans, err := pgx.CollectRows(found, pgx.RowToStructByPos[Orphan])
	if err == nil {
		_, err = s.Pool.Exec(ctx, "DELETE FROM processes WHERE NOT process_lives(id)")
	}
	return orphans, err
}

// FeedsWithoutJob gives the feeds that want a job: those that a person waits for a run of, and others that are
// active or have a backfill to go on with and for which there is no job.
func (s *Store) FeedsWithoutJob(ctx context.Context) (queued map[string]bool, err error) {
	found, err := s.Pool.Query(ctx, `SELECT f.name, r.feed_id IS NOT NULL FROM feeds f
LEFT JOIN (SELECT DISTINCT feed_id FROM runs WHERE state = 'queued') r ON r.feed_id = f.id
WHERE r.feed_id IS NOT NULL OR (f.state = 'active' OR f.state <> 'held' AND EXISTS (
    SELECT 1 FROM backfills b WHERE b.feed_id = f.id AND b.state IN ('waiting', 'running')))
  AND NOT EXISTS (SELECT 1 FROM river_job j WHERE j.kind = 'feed' AND j.args->>'feed' = f.name
    AND j.state IN ('available', 'pending', 'retryable', 'running', 'scheduled'))`)
	if err != nil {
		return nil, err
	}
	queued = map[string]bool{}
	var name string
	var waits bool
	_, err = pgx.ForEachRow(found, []any{&name, &waits}, func() error { queued[name] = waits; return nil })
	return queued, err
}

// Orphan is a job whose process is gone.
type Orphan struct {
	Job     int64
	Process string
}

// FreeJob lets another process take up a job.
func (s *Store) FreeJob(ctx context.Context, o Orphan) error {
	_, err := s.Pool.Exec(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now(), attempt = 0
WHERE id = $1 AND state = 'running' AND attempted_by[array_length(attempted_by, 1)] = $2`, o.Job, o.Process)
	return err
}

// MoveJob gives a job to the queue of the process that can do it.
func (s *Store) MoveJob(ctx context.Context, job int64, queue string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE river_job SET queue = $2 WHERE id = $1", job, queue)
	return err
}

// ReturnJobs gives jobs back to everybody's queue whose process takes up none: it is gone, or is to leave. own
// is what queues of one process begin with, before its name.
func (s *Store) ReturnJobs(ctx context.Context, own, everybodys string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE river_job SET queue = $2
  WHERE starts_with(queue, $1) AND state NOT IN ('completed', 'cancelled', 'discarded')
AND NOT EXISTS (SELECT 1 FROM processes p WHERE p.id = substr(queue, length($1) + 1) AND NOT p.draining
  AND process_lives(p.id))`, own, everybodys)
	return err
}
