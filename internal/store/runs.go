package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/records"
	"noemata/internal/statement"
)

// QueueRun notes that a person wants a run. A run that is queued already serves.
func (s *Store) QueueRun(ctx context.Context, feed string) (records.Run, error) {
	var id int64
	err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		var feedID int64
		err := tx.QueryRow(ctx, "SELECT id FROM feeds WHERE name = $1 FOR UPDATE", feed).Scan(&feedID)
		if errors.Is(err, pgx.ErrNoRows) {
			return notFound(fmt.Sprintf("feed %q", feed))
		}
		if err != nil {
			return err
		}
		err = tx.QueryRow(ctx, "SELECT id FROM runs WHERE feed_id = $1 AND state = 'queued'", feedID).Scan(&id)
		if errors.Is(err, pgx.ErrNoRows) {
			err = tx.QueryRow(ctx, "INSERT INTO runs (feed_id, trigger, state) VALUES ($1, 'person', 'queued') "+
				"RETURNING id", feedID).Scan(&id)
		}
		return err
	})
	if err != nil {
		return records.Run{}, err
	}
	return s.Run(ctx, id)
}

// BeginRun starts the queued run of a feed, or a new one where something, as "schedule", has made
// one due. It returns 0 when there is nothing to do.
func (s *Store) BeginRun(ctx context.Context, feed, worker, due string) (id int64, err error) {
	err = s.Pool.QueryRow(ctx, `UPDATE runs SET state = 'running', started_at = now(), worker = $2
WHERE id = (SELECT r.id FROM runs r JOIN feeds f ON f.id = r.feed_id WHERE f.name = $1 AND r.state = 'queued'
  ORDER BY r.id LIMIT 1) AND state = 'queued' RETURNING id`, feed, worker).Scan(&id)
	if !errors.Is(err, pgx.ErrNoRows) {
		return id, err
	}
	if due == "" {
		return 0, nil
	}
	err = s.Pool.QueryRow(ctx, `INSERT INTO runs (feed_id, trigger, state, started_at, worker) SELECT id, `+
		`$3, 'running', now(), $2 FROM feeds WHERE name = $1 RETURNING id`, feed, worker, due).Scan(&id)
	return id, err
}

// HasQueuedRun tells whether a person waits for a run of the feed.
func (s *Store) HasQueuedRun(ctx context.Context, feed string) (waiting bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM runs r JOIN feeds f ON f.id = r.feed_id WHERE f.name = "+
		"$1 AND r.state = 'queued')", feed).Scan(&waiting)
	return waiting, err
}

// EndRun closes a run and counts the failures in a row of its feed.
func (s *Store) EndRun(ctx context.Context, id int64, state string, books rows.Books, failure error) error {
	_, err := s.Pool.Exec(ctx, `WITH ended AS (
    UPDATE runs SET state = $2, ended_at = now(), books = $3, problem = $4 WHERE id = $1 RETURNING feed_id, trigger
) UPDATE feeds SET failures = CASE WHEN trigger = 'backfill' THEN failures WHEN $2 = 'done' THEN 0 WHEN $2 = 'failed' THEN failures + 1 ELSE failures END, deaths = 0 FROM ended WHERE feeds.id = ended.feed_id`,
		id, state, jsonOf(&books), jsonOf(records.NewProblem(failure)))
	return err
}

// mostDeaths is during how many runs of a feed in a row the service may end before the
// feed is held: what it reads may be what ends it. Fewer would hold feeds that share a process with such a one, or
// whose processes are ended by others again and again.
const mostDeaths = 8

// EndRunsOf closes the runs of a worker that is gone, and gives the feeds that are held
// from now on.
func (s *Store) EndRunsOf(ctx context.Context, worker string) (held []string, err error) {
	ended := problem.New(problem.Stopped, "The service ended during the run.",
		"What was committed stays; the next run goes on from there.")
	reason := problem.Newf(problem.Held,
		"Look into the service's log for what ended it. To try once more, start the feed.",
		"The service ended %d times in a row during a run of this feed, before anything was committed.", mostDeaths)
	found, err := s.Pool.Query(ctx, `WITH ended AS (
    UPDATE runs SET state = 'stopped', ended_at = now(), problem = $2 WHERE worker = $1 AND state = 'running'
    RETURNING id, feed_id
), told AS (
    INSERT INTO log_entries (feed_id, run_id, source_table, level, what, remedy)
    SELECT feed_id, id, '', 'warning', $5, $6 FROM ended
), uncounted AS ( -- what was written last may not have been noted
    UPDATE feed_tables SET row_count = NULL WHERE feed_id IN (SELECT feed_id FROM ended)
), counted AS (
    UPDATE feeds SET deaths = deaths + 1, state = CASE WHEN deaths + 1 >= $3 THEN 'held' ELSE state END,
      held = CASE WHEN deaths + 1 >= $3 THEN $4::jsonb ELSE held END
    WHERE id IN (SELECT feed_id FROM ended) RETURNING name, state
) SELECT name FROM counted WHERE state = 'held'`, worker, jsonOf(records.NewProblem(ended)), mostDeaths, jsonOf(records.NewProblem(reason)),
		problem.Of(ended).What, problem.Of(ended).Remedy)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, pgx.RowTo[string])
}

// Wish is what people want of a run that goes on.
type Wish struct {
	Gone   bool   // its feed was removed
	Stop   bool   // it is to be stopped
	Queued bool   // a person waits for another run of the feed
	Stamp  string // changes when the feed, its source or its warehouse is changed
}

// Wishes tells what people want of runs. Of those that it does not tell of the feed was removed.
func (s *Store) Wishes(ctx context.Context, runs []int64) (map[int64]Wish, error) {
	found, err := s.Pool.Query(ctx, `SELECT r.id, r.stop, EXISTS (SELECT 1 FROM runs q
  WHERE q.feed_id = f.id AND q.state = 'queued'), concat_ws(' ', f.updated_at, s.updated_at, w.updated_at)
FROM runs r JOIN feeds f ON f.id = r.feed_id JOIN sources s ON s.name = f.source
  JOIN warehouses w ON w.name = f.warehouse WHERE r.id = ANY($1)`, runs)
	if err != nil {
		return nil, err
	}
	wishes := map[int64]Wish{}
	for _, id := range runs {
		wishes[id] = Wish{Gone: true}
	}
	var id int64
	var w Wish
	_, err = pgx.ForEachRow(found, []any{&id, &w.Stop, &w.Queued, &w.Stamp}, func() error { wishes[id] = w; return nil })
	return wishes, err
}

// AskStop has runs that go on be stopped: one, or those of a feed.
func (s *Store) AskStop(ctx context.Context, run int64, feed string) (asked int64, err error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE runs SET stop = true WHERE state = 'running' AND (id = $1 OR feed_id = `+
		`(SELECT id FROM feeds WHERE name = $2))`, run, feed)
	return tag.RowsAffected(), err
}

// DropQueued ends the queued runs of all feeds, or of one: nobody waits for them any more.
func (s *Store) DropQueued(ctx context.Context, run int64, feed string) (dropped int64, err error) {
	p := problem.New(problem.Stopped, "The run was stopped before it began.", "Start another one.")
	tag, err := s.Pool.Exec(ctx, `UPDATE runs SET state = 'stopped', ended_at = now(), problem = $3 WHERE state = `+
		`'queued' AND ($1 = 0 AND $2 = '' OR id = $1 OR feed_id = (SELECT id FROM feeds WHERE name = $2))`,
		run, feed, jsonOf(records.NewProblem(p)))
	return tag.RowsAffected(), err
}

// IsRunning tells whether a run of the feed goes on.
func (s *Store) IsRunning(ctx context.Context, feed string) (running bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM runs r JOIN feeds f ON f.id = r.feed_id WHERE f.name = "+
		"$1 AND r.state = 'running')", feed).Scan(&running)
	return running, err
}

// SetNextRun notes when a feed will run again; nil when only a person can start it.
func (s *Store) SetNextRun(ctx context.Context, feed string, at *time.Time) error {
	_, err := s.Pool.Exec(ctx, "UPDATE feeds SET next_run_at = $2 WHERE name = $1", feed, at)
	return err
}

// Schedule tells whether a feed is active, when it is due, and its failures in a row.
func (s *Store) Schedule(ctx context.Context, feed string) (active bool, next *time.Time, failures int, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT state = 'active', next_run_at, failures FROM feeds WHERE name = $1",
		feed).Scan(&active, &next, &failures)
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("feed %q", feed))
	}
	return active, next, failures, err
}

// SaveRunTable keeps what a run does to one table.
func (s *Store) SaveRunTable(ctx context.Context, run int64, place int, t records.RunTable) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO run_tables (run_id, place, source_table, detail) VALUES ($1, $2, $3, $4)
ON CONFLICT (run_id, source_table) DO UPDATE SET detail = excluded.detail`, run, place, t.Table, jsonOf(&t))
	return unlessGone(err)
}

// unlessGone leaves out the error of keeping something of a run that was removed meanwhile.
func unlessGone(err error) error {
	var server *pgconn.PgError
	if errors.As(err, &server) && server.Code == "23503" { // foreign_key_violation
		return nil
	}
	return err
}

// NoteBooks keeps what a run that goes on has done so far.
func (s *Store) NoteBooks(ctx context.Context, run int64, books rows.Books) error {
	_, err := s.Pool.Exec(ctx, `WITH kept AS (UPDATE runs SET books = $2 WHERE id = $1 AND state = 'running'
  RETURNING feed_id)
UPDATE feeds SET deaths = 0 FROM kept WHERE feeds.id = kept.feed_id AND deaths > 0
  AND $3`, run, jsonOf(&books), books.Read > 0)
	return err
}

// TableResult is what a run leaves behind in a table's state.
type TableResult struct {
	Position   string
	CompleteAt time.Time // zero keeps the one there is
	Nulls      int64
	Books      rows.Books
	Count      *int64   // rows in the warehouse, where they were counted anew
	Key        []string // the columns that name its rows; nil where they are not known
	Failure    error
}

// NoteTable updates a table's state after a run.
func (s *Store) NoteTable(ctx context.Context, feed, table string, run int64, r TableResult) error {
	var completeAt *time.Time
	if !r.CompleteAt.IsZero() {
		completeAt = &r.CompleteAt
	}
	_, err := s.Pool.Exec(ctx, `UPDATE feed_tables t SET position = $3, complete_at = coalesce($4, complete_at),
  nulls = $5, set_aside = set_aside + $6,
  row_count = CASE WHEN $7::bigint IS NOT NULL THEN $7 ELSE row_count + $8 - $9 END,
  last_run = $10, last_run_at = now(), problem = $11, key = coalesce($13, key),
  changed = CASE WHEN $12 > 0 THEN $12 ELSE changed END, changed_at = CASE WHEN $12 > 0 THEN now() ELSE changed_at END
FROM feeds f WHERE f.id = t.feed_id AND f.name = $1 AND t.source_table = $2`,
		feed, table, plain(r.Position), completeAt, r.Nulls, r.Books.SetAside, r.Count, r.Books.Inserted,
		r.Books.Deleted, run,
		jsonOf(records.NewProblem(r.Failure)), r.Books.Written(), r.Key)
	return err
}

// LastRead is when the tables of a feed were read last, the one longest ago; zero where one never was.
func (s *Store) LastRead(ctx context.Context, f *feed.Feed) (time.Time, error) {
	names := make([]string, len(f.Tables))
	for i, t := range f.Tables {
		names[i] = t.Table
	}
	var last *time.Time
	err := s.Pool.QueryRow(ctx, `SELECT CASE WHEN count(t.last_run_at) = $3 THEN min(t.last_run_at) END FROM feed_tables t
JOIN feeds f ON f.id = t.feed_id WHERE f.name = $1 AND t.source_table = ANY($2)`, f.Name, names, len(names)).Scan(&last)
	if err != nil || last == nil {
		return time.Time{}, err
	}
	return *last, nil
}

// IsCounted tells whether the rows of a table were counted, and are kept by the books since.
func (s *Store) IsCounted(ctx context.Context, feed, table string) (counted bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT t.row_count IS NOT NULL FROM feed_tables t JOIN feeds f ON f.id = t.feed_id
WHERE f.name = $1 AND t.source_table = $2`, feed, table).Scan(&counted)
	return counted, err
}

// NoteFailure keeps why a run could not begin with a table; nil that nothing is wrong.
func (s *Store) NoteFailure(ctx context.Context, feed, table string, run int64, failure error) error {
	_, err := s.Pool.Exec(ctx, `UPDATE feed_tables t SET last_run = $3, last_run_at = now(), problem = $4 FROM `+
		`feeds f WHERE f.id = t.feed_id AND f.name = $1 AND t.source_table = $2`,
		feed, table, run, jsonOf(records.NewProblem(failure)))
	return err
}

// NoteLog keeps where a feed stands in its source's log, and a sample for the chart.
func (s *Store) NoteLog(ctx context.Context, feed string, l records.LogStatus, applied int64) error {
	var lag *float64
	if l.CompleteAt != nil {
		seconds := max(time.Since(*l.CompleteAt).Seconds(), 0)
		lag = &seconds
	}
	_, err := s.Pool.Exec(ctx, `WITH kept AS (UPDATE feeds SET log = $2 WHERE name = $1 RETURNING id)
INSERT INTO log_samples (feed_id, lag, behind, retained, applied) SELECT id, $3, $4, $5, $6
  FROM kept`, feed, jsonOf(&l), lag, l.Behind, l.Retained, applied)
	return err
}

// NoteDrift keeps what has changed last of the structure of a feed's tables, and tells whether that is news.
func (s *Store) NoteDrift(ctx context.Context, feed string, d drift.Drift) (news bool, err error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE feeds SET drift = $2
  WHERE name = $1 AND coalesce((drift->>'at')::timestamptz < $3, true)`, feed, jsonOf(&d), d.At)
	return err == nil && tag.RowsAffected() > 0, err
}

// NotePlace keeps how far a feed that follows a log has come: all of its tables that follow are there. Of a zero
// time it is not known until when they are complete.
func (s *Store) NotePlace(ctx context.Context, feed, position string, completeAt time.Time) error {
	var at *time.Time
	if !completeAt.IsZero() {
		utc := completeAt.UTC()
		at = &utc
	}
	_, err := s.Pool.Exec(ctx, `UPDATE feeds SET log = log || jsonb_strip_nulls(jsonb_build_object('position', $2::text,
  'complete_at', $3::timestamptz))
WHERE name = $1 AND log IS NOT NULL`, feed, plain(position), at)
	return err
}

// samplePoints is how many points a chart has at most.
const samplePoints = 300

// LogSamples gives how a feed was doing since a moment: of each stretch the worst.
func (s *Store) LogSamples(ctx context.Context, feed string, since time.Duration) ([]records.LogSample, error) {
	found, err := s.Pool.Query(ctx, `SELECT max(at), max(lag), max(behind), max(retained), sum(applied)::int8
  FROM log_samples l JOIN feeds f ON f.id = l.feed_id
WHERE f.name = $1 AND at > now() - $2::interval GROUP BY floor(extract(epoch FROM at) / $3)
  ORDER BY 1`, feed, since, max(since.Seconds()/samplePoints, 1))
	if err != nil {
		return nil, err
	}
	samples, err := pgx.CollectRows(found, pgx.RowToStructByPos[records.LogSample])
	if samples == nil {
		samples = []records.LogSample{}
	}
	return samples, err
}

// NoteCopy keeps how the copy of a table goes; nil when it is done.
func (s *Store) NoteCopy(ctx context.Context, feed, table string, c *records.CopyStatus) error {
	_, err := s.Pool.Exec(ctx, `UPDATE feed_tables t SET copy = $3 FROM feeds f WHERE f.id = t.feed_id AND f.name = `+
		`$1 AND t.source_table = $2 AND t.copy IS DISTINCT FROM $3::jsonb`, feed, table, jsonOf(c))
	return err
}

// AskCopies has the next run of a feed copy tables anew; all where none is named.
func (s *Store) AskCopies(ctx context.Context, feed string, tables []string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE feeds SET copy_again = $2, updated_at = now(), failures = 0, next_run_at = "+
		"NULL WHERE name = $1", feed, append([]string{}, tables...))
	return err
}

// Copies gives the tables to copy anew; ok is false where none were asked for.
func (s *Store) Copies(ctx context.Context, feed string) (tables []string, ok bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT coalesce(copy_again, '{}'), copy_again IS NOT NULL FROM feeds WHERE name = $1",
		feed).Scan(&tables, &ok)
	return tables, ok, err
}

// EndCopies notes that what was asked for is under way.
func (s *Store) EndCopies(ctx context.Context, feed string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE feeds SET copy_again = NULL WHERE name = $1", feed)
	return err
}

// PositionOf is how far a table has come; empty where it has not begun.
func (s *Store) PositionOf(ctx context.Context, feed, table string) (position string, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT t.position FROM feed_tables t JOIN feeds f ON f.id = t.feed_id
  WHERE f.name = $1 AND t.source_table = $2`,
		feed, table).Scan(&position)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return position, err
}

// NotePosition keeps a position that a person has set.
func (s *Store) NotePosition(ctx context.Context, feed, table, position string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE feed_tables t SET position = $3 FROM feeds f WHERE f.id = t.feed_id AND `+
		`f.name = $1 AND t.source_table = $2`, feed, table, plain(position))
	return err
}

// NoteProof keeps a table's last proof.
func (s *Store) NoteProof(ctx context.Context, feed, table string, p records.Proof) error {
	_, err := s.Pool.Exec(ctx, `UPDATE feed_tables t SET proof = $3 FROM feeds f WHERE f.id = t.feed_id AND f.name `+
		`= $1 AND t.source_table = $2`, feed, table, jsonOf(&p))
	return err
}

// longest is how much of a statement is kept, in bytes.
const longest = 20_000

// SaveStatements keeps the statements of one table of a run.
func (s *Store) SaveStatements(ctx context.Context, run int64, table string, list []statement.Statement) error {
	_, err := s.Pool.CopyFrom(ctx, pgx.Identifier{"statements"},
		[]string{"run_id", "source_table", "side", "statement", "row_count", "started_at", "took_us", "error"},
		pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
			x := list[i]
			if len(x.SQL) > longest {
				x.SQL = strings.ToValidUTF8(x.SQL[:longest], "") + " …"
			}
			return []any{run, table, x.Side, plain(x.SQL), x.Rows, x.Start, x.Took.Microseconds(), plain(x.Error)}, nil
		}))
	return unlessGone(err)
}

const runColumns = `r.id, f.name, r.trigger, r.state, r.worker, r.queued_at, r.started_at, r.ended_at, r.books,
  r.problem`

func scanRun(row pgx.CollectableRow) (records.Run, error) {
	var r records.Run
	err := row.Scan(&r.ID, &r.Feed, &r.Trigger, &r.State, &r.Process, &r.QueuedAt, &r.StartedAt, &r.EndedAt, &r.Books,
		&r.Problem)
	return r, err
}

// RunFilter chooses runs.
type RunFilter struct {
	Feed    string
	Table   string // only runs that read or failed this table
	Before  int64  // only runs older than this one
	Limit   int
	Changed bool   // only runs that read rows or did not succeed
	Label   string // only of feeds with this label: its name, or name=value
}

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]records.Run, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+runColumns+` FROM runs r JOIN feeds f ON f.id = r.feed_id
WHERE ($1 = '' OR f.name = $1) AND ($2 = 0 OR r.id < $2) AND (NOT $3 OR r.state <> 'done'
  OR (r.books->>'read')::bigint > 0)
  AND ($5 = '' OR EXISTS (SELECT 1 FROM run_tables t
  WHERE t.run_id = r.id AND t.source_table = $5 AND (NOT $3 OR t.detail->>'state' <> 'done'
  OR (t.detail->'books'->>'read')::bigint > 0)))
  AND ($6 = '' OR f.spec->'labels' ? split_part($6, '=', 1)
    AND (strpos($6, '=') = 0 OR f.spec->'labels'->>split_part($6, '=', 1) = substr($6, strpos($6, '=') + 1)))
ORDER BY r.id DESC LIMIT $4`, f.Feed, f.Before, f.Changed, f.Limit, f.Table, f.Label)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, scanRun)
}

// Run finds a run with its tables.
func (s *Store) Run(ctx context.Context, id int64) (records.Run, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+runColumns+
		" FROM runs r JOIN feeds f ON f.id = r.feed_id WHERE r.id = $1", id)
	if err != nil {
		return records.Run{}, err
	}
	run, err := pgx.CollectExactlyOneRow(found, scanRun)
	if errors.Is(err, pgx.ErrNoRows) {
		return run, notFound(fmt.Sprintf("run %d", id))
	}
	if err != nil {
		return run, err
	}
	if found, err = s.Pool.Query(ctx, "SELECT detail FROM run_tables WHERE run_id = $1 ORDER BY place",
		id); err != nil {
		return run, err
	}
	run.Tables, err = pgx.CollectRows(found, pgx.RowTo[records.RunTable])
	return run, err
}

// Statements lists a run's statements in the order they ended: all, or those of one table
// and those that are for all tables together.
// They begin after the given one, and are so many at most.
func (s *Store) Statements(ctx context.Context, run int64, table string, after int64, limit int) ([]records.Statement,
	error) {
	found, err := s.Pool.Query(ctx, `SELECT id, source_table, side, statement, row_count, started_at, took_us, error
  FROM statements
WHERE run_id = $1 AND ($2 = '' OR source_table IN ($2, '')) AND id > $3 ORDER BY id LIMIT $4`, run, table, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, func(row pgx.CollectableRow) (records.Statement, error) {
		var x records.Statement
		var took int64
		err := row.Scan(&x.ID, &x.Table, &x.Side, &x.SQL, &x.Rows, &x.StartedAt, &took, &x.Error)
		x.Took = float64(took) / 1e6
		return x, err
	})
}

// Feeds lists feeds and how they are doing; one of them where name is given.
func (s *Store) Feeds(ctx context.Context, name string) ([]records.FeedStatus, error) {
	found, err := s.Pool.Query(ctx, `SELECT f.name, f.state, f.next_run_at, f.spec, f.found, f.log, f.held, f.drift,
  m.applied_by, m.applied_at, c.applied_by, c.applied_at
FROM feeds f
LEFT JOIN LATERAL (SELECT applied_by, applied_at FROM feed_revisions WHERE feed_id = f.id ORDER BY revision
  LIMIT 1) m ON true
LEFT JOIN LATERAL (SELECT applied_by, applied_at FROM feed_revisions WHERE feed_id = f.id ORDER BY revision DESC
  LIMIT 1) c ON true
WHERE $1 = '' OR f.name = $1 ORDER BY 1`, name)
	if err != nil {
		return nil, err
	}
	specs := map[string]*feed.Feed{}
	feeds, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (records.FeedStatus, error) {
		x := records.FeedStatus{Tables: []records.TableStatus{}}
		var f feed.Feed
		var found []schema.Name
		var madeBy, changedBy *string
		err := row.Scan(&x.Name, &x.State, &x.NextRunAt, &f, &found, &x.Log, &x.Held, &x.Drift, &madeBy, &x.MadeAt,
			&changedBy, &x.ChangedAt)
		specs[x.Name], _ = f.Resolve(found)
		x.Source, x.Warehouse, x.Schedule = f.Source, f.Warehouse, scheduleInWords(&f)
		x.Belongs = f.Belongs
		if madeBy != nil {
			x.MadeBy, x.ChangedBy = *madeBy, *changedBy
		}
		return x, err
	})
	if err != nil {
		return nil, err
	}
	if len(feeds) == 0 && name != "" {
		return nil, notFound(fmt.Sprintf("feed %q", name))
	}
	byName := map[string]*records.FeedStatus{}
	for i := range feeds {
		byName[feeds[i].Name] = &feeds[i]
	}
	if err := s.addRuns(ctx, name, byName); err != nil {
		return nil, err
	}
	return feeds, s.addTables(ctx, name, byName, specs)
}

// addRuns tells of each feed which run goes on, and which ended last.
func (s *Store) addRuns(ctx context.Context, name string, feeds map[string]*records.FeedStatus) error {
	found, err := s.Pool.Query(ctx, "SELECT "+runColumns+` FROM feeds f CROSS JOIN LATERAL (
  (SELECT * FROM runs WHERE feed_id = f.id AND state IN ('queued', 'running') ORDER BY id LIMIT 1)
  UNION ALL (SELECT * FROM runs WHERE feed_id = f.id AND state NOT IN ('queued', 'running') ORDER BY id DESC LIMIT 1)) r
WHERE $1 = '' OR f.name = $1`, name)
	if err != nil {
		return err
	}
	runs, err := pgx.CollectRows(found, scanRun)
	for _, r := range runs {
		switch x := feeds[r.Feed]; {
		case x == nil: // made meanwhile
		case r.Ended():
			x.LastRun = &r
		default:
			x.Running = &r
		}
	}
	return err
}

// addTables tells how the tables of each feed are doing, in the order of the feed's file.
func (s *Store) addTables(ctx context.Context, name string, feeds map[string]*records.FeedStatus,
	specs map[string]*feed.Feed) error {
	found, err := s.Pool.Query(ctx, `SELECT f.name, t.source_table, t.target, t.position, t.complete_at, t.row_count,
  t.nulls, t.set_aside, t.last_run, t.last_run_at, t.changed, t.changed_at, t.problem, t.proof, t.copy, t.key,
  rt.run_id IS NOT NULL
FROM feed_tables t JOIN feeds f ON f.id = t.feed_id
LEFT JOIN (SELECT DISTINCT ON (r.feed_id, x.source_table) r.feed_id, x.source_table, x.run_id FROM runs r
  JOIN run_tables x ON x.run_id = r.id
  WHERE r.state = 'running' AND x.detail->>'state' = 'running') rt ON rt.feed_id = f.id
  AND rt.source_table = t.source_table
WHERE $1 = '' OR f.name = $1`, name)
	if err != nil {
		return err
	}
	states := map[[2]string]records.TableStatus{}
	if _, err = pgx.CollectRows(found, func(row pgx.CollectableRow) (int, error) {
		var t records.TableStatus
		var running bool
		err := row.Scan(&t.Feed, &t.Table, &t.Target, &t.Position, &t.CompleteAt, &t.Rows, &t.Nulls, &t.SetAside, &t.LastRun,
			&t.LastRunAt, &t.Changed, &t.ChangedAt, &t.Problem, &t.Proof, &t.Copy, &t.Key, &running)
		if x := feeds[t.Feed]; err == nil && x != nil {
			t.State = tableState(t, running, x.State == "active", specs[t.Feed])
		}
		states[[2]string{t.Feed, t.Table}] = t
		return 0, err
	}); err != nil {
		return err
	}
	for name, x := range feeds {
		for _, spec := range specs[name].Tables {
			t := states[[2]string{name, spec.Table}]
			t.Find, t.Keep = string(spec.Find), string(spec.Keep)
			if l := x.Log; l != nil && l.CompleteAt != nil && t.Find == string(feed.FindLog) && t.Position != "" &&
				t.Copy == nil && t.Problem == nil && !spec.Paused &&
				t.CompleteAt != nil && !l.CompleteAt.Before(*t.CompleteAt) { // a table in which nothing happens is not noted
				t.Position, t.CompleteAt = l.Position, l.CompleteAt
			}
			t.Next = spec.Next(t.Position)
			if !spec.Paused {
				t.Promised = promised(specs[name], spec, t.Position)
			}
			x.Tables = append(x.Tables, t)
		}
	}
	return nil
}

// commitWithin is what a feed that follows its log is allowed for a commit.
const commitWithin = 10 * time.Second

// promised is how old, in seconds, what the warehouse shows of a table may be as its feed is meant; nil where
// only a person starts it.
func promised(f *feed.Feed, spec feed.Table, position string) *float64 {
	wait := time.Duration(0)
	if spec.Find == feed.FindLog && f.Freshness != "" {
		fresh, _ := f.Fresh()
		wait = fresh + commitWithin
	} else {
		now := time.Now()
		first, ok := f.NextRead(now)
		second, again := f.NextRead(first)
		if !ok || !again {
			return nil
		}
		wait = second.Sub(first)
		if spec.Watermark != nil {
			settle, _ := spec.Watermark.Times()
			wait += settle
		}
		if len(position) == len(time.DateOnly) {
			if _, err := time.Parse(time.DateOnly, position); err == nil { // a day counts when it is over
				wait += 24 * time.Hour
			}
		}
	}
	seconds := wait.Seconds()
	return &seconds
}

func scheduleInWords(f *feed.Feed) string {
	reads := *f
	reads.Freshness = ""
	switch {
	case f.Freshness != "" && (f.Every != "" || f.Cron != ""):
		return freshnessInWords(f) + "; tables that do not follow the log " + scheduleInWords(&reads)
	case f.Freshness != "":
		return freshnessInWords(f)
	case f.Every != "":
		return "every " + f.Every
	case f.Cron != "" && f.Zone != "":
		return "cron " + f.Cron + " (" + f.Zone + ")"
	case f.Cron != "":
		return "cron " + f.Cron + " (UTC)"
	}
	return "when a person starts it"
}

func freshnessInWords(f *feed.Feed) string {
	if f.Freshness == feed.Continuous {
		return "continuously"
	}
	return "within " + f.Freshness
}

// tableState tells how a table is doing in one word.
func tableState(t records.TableStatus, running, active bool, f *feed.Feed) string {
	spec, _ := f.Table(t.Table)
	follows := spec.Find == feed.FindLog && f.Freshness != ""
	switch {
	case spec.Paused:
		return "paused"
	case t.Problem != nil && t.Problem.Code == string(problem.Held):
		return "held"
	case t.Problem != nil:
		return "failing"
	case t.Copy != nil:
		return "copying"
	case t.Proof != nil && !t.Proof.Same:
		return "unequal"
	case running && (!follows || t.Position == ""): // the log is followed from the first position on
		return "running"
	case running:
		return "following"
	case t.LastRunAt == nil:
		return "waiting"
	case active && follows && !late(*t.LastRunAt, f, follows):
		return "following"
	case active && late(*t.LastRunAt, f, follows):
		return "behind"
	}
	return "current"
}

// late tells whether the runs of an active feed have stopped coming.
func late(last time.Time, f *feed.Feed, follows bool) bool {
	if every, err := window.ParseDuration(f.Every); err == nil && f.Every != "" && !follows {
		return time.Since(last) > 3*every+time.Minute
	}
	next, ok := f.NextRead(last)
	if follows {
		next, ok = f.Next(last)
	}
	return ok && time.Since(next) > 10*time.Minute
}

// Ping tells whether the records can be reached.
func (s *Store) Ping(ctx context.Context) error { return s.Pool.Ping(ctx) }
