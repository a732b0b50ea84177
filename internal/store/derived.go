package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"noemata/internal/core/derive"
	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// DerivedSet is what is kept of a set of derived tables.
type DerivedSet struct {
	derive.Set
	Active    bool
	AppliedBy string
	AppliedAt time.Time
	States    map[string]DerivedState // by the tables' names
}

// DerivedState is how a derived table is doing.
type DerivedState struct {
	records.DerivedTable
	Tried    *derive.Made // what it was tried to be made of last
	TriedAt  *time.Time
	Failures int // in a row
	WantedBy string
}

// DerivedSets gives all sets by name, or one of a name, with their tables.
func (s *Store) DerivedSets(ctx context.Context, name string) ([]DerivedSet, error) {
	found, err := s.Pool.Query(ctx, `SELECT s.spec, s.active, s.applied_by, s.applied_at, coalesce((SELECT jsonb_agg(to_jsonb(t))
  FROM derived_tables t WHERE t.set_id = s.id), '[]') FROM derived_sets s WHERE $1 = '' OR s.name = $1 ORDER BY s.name`, name)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (d DerivedSet, err error) {
		var tables []struct {
			records.DerivedTable
			Name     string       `json:"name"`
			Tried    *derive.Made `json:"tried"`
			TriedAt  *time.Time   `json:"tried_at"`
			Failures int          `json:"failures"`
			Took     float64      `json:"took"`
			WantedBy string       `json:"wanted_by"`
		}
		if err := row.Scan(&d.Set, &d.Active, &d.AppliedBy, &d.AppliedAt, &tables); err != nil {
			return d, err
		}
		d.States = map[string]DerivedState{}
		for _, t := range tables {
			t.DerivedTable.Took = t.Took
			d.States[t.Name] = DerivedState{t.DerivedTable, t.Tried, t.TriedAt, t.Failures, t.WantedBy}
		}
		return d, nil
	})
	if err == nil && name != "" && len(list) == 0 {
		err = notFound(fmt.Sprintf("set of derived tables %q", name))
	}
	return list, err
}

// Status is the set as it is shown.
func (d *DerivedSet) Status() records.DerivedSet {
	out := records.DerivedSet{Name: d.Name, Warehouse: d.Warehouse, Belongs: d.Belongs, State: "active", AppliedBy: d.AppliedBy,
		AppliedAt: d.AppliedAt, Tables: []records.DerivedTable{}}
	if !d.Active {
		out.State = "paused"
	}
	for _, t := range d.Tables {
		state := d.States[t.Table].DerivedTable
		state.Table, state.As, state.Comment, state.SQL = t.Table, string(t.Is()), t.Comment, t.SQL
		state.When = d.When(t)
		out.Tables = append(out.Tables, state)
	}
	return out
}

// SaveDerivedSet makes or changes a set, and keeps by whom. reads are those of its tables.
func (s *Store) SaveDerivedSet(ctx context.Context, d *derive.Set, reads map[string][]string, by string) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		var id int64
		err := tx.QueryRow(ctx, `INSERT INTO derived_sets (name, warehouse, spec, applied_by) VALUES ($1, $2, $3, $4)
ON CONFLICT (name) DO UPDATE SET warehouse = $2, spec = $3, applied_by = $4, applied_at = now() RETURNING id`,
			d.Name, d.Warehouse, jsonOf(d), plain(by)).Scan(&id)
		var e *pgconn.PgError
		if errors.As(err, &e) && e.Code == "23503" {
			return notFound(fmt.Sprintf("warehouse %q", d.Warehouse))
		}
		if err != nil {
			return err
		}
		names := []string{}
		for _, t := range d.Tables {
			list := append([]string{}, reads[t.Table]...)
			names = append(names, t.Table)
			if _, err := tx.Exec(ctx, `INSERT INTO derived_tables (set_id, name, reads) VALUES ($1, $2, $3)
ON CONFLICT (set_id, name) DO UPDATE SET reads = $3, failures = 0`, id, t.Table, jsonOf(&list)); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, "DELETE FROM derived_tables WHERE set_id = $1 AND name <> ALL ($2)", id, names)
		return err
	})
}

// SetDerivedActive lets the tables of a set be made on their own, or not.
func (s *Store) SetDerivedActive(ctx context.Context, name string, active bool) error {
	return s.ofSet(ctx, name, "UPDATE derived_sets SET active = $2 WHERE name = $1", active)
}

// RemoveDerivedSet forgets a set; its tables stay.
func (s *Store) RemoveDerivedSet(ctx context.Context, name string) error {
	return s.ofSet(ctx, name, "DELETE FROM derived_sets WHERE name = $1")
}

func (s *Store) ofSet(ctx context.Context, name, sql string, args ...any) error {
	tag, err := s.Pool.Exec(ctx, sql, append([]any{name}, args...)...)
	if err == nil && tag.RowsAffected() == 0 {
		err = notFound(fmt.Sprintf("set of derived tables %q", name))
	}
	return err
}

// WantDerived asks for tables of a set to be made, all where none is named.
func (s *Store) WantDerived(ctx context.Context, set string, tables []string, by string) error {
	if tables == nil {
		tables = []string{}
	}
	_, err := s.Pool.Exec(ctx, `UPDATE derived_tables t SET wanted_by = $3 FROM derived_sets s
WHERE s.id = t.set_id AND s.name = $1 AND (cardinality($2::text[]) = 0 OR t.name = ANY ($2))`, set, tables, plain(by))
	return err
}

// NoteDerived keeps why a table is to be made, or waits to be, or that it need not.
func (s *Store) NoteDerived(ctx context.Context, set, table, why string) error {
	_, err := s.Pool.Exec(ctx, `UPDATE derived_tables t SET why = $3 FROM derived_sets s
WHERE s.id = t.set_id AND s.name = $1 AND t.name = $2 AND t.why <> $3`, set, table, plain(why))
	return err
}

// BeginDerivation notes that a table is being made. One that goes on still by the records was left by a process that is
// gone: a warehouse's tables are made one after another.
func (s *Store) BeginDerivation(ctx context.Context, set, table, why, process string) (id int64, err error) {
	err = pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE derivations d SET state = 'stopped', ended_at = now(), problem = $3 FROM derived_sets s
WHERE s.id = d.set_id AND s.name = $1 AND d.name = $2 AND d.state = 'running'`, set, table, jsonOf(records.NewProblem(
			problem.New(problem.Stopped, "The process that made it has ended.", "It is made again.")))); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `INSERT INTO derivations (set_id, name, why, process)
SELECT id, $2, $3, $4 FROM derived_sets WHERE name = $1 RETURNING id`, set, table, plain(why), process).Scan(&id)
		if errors.Is(err, pgx.ErrNoRows) {
			return notFound(fmt.Sprintf("set of derived tables %q", set))
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `UPDATE derived_tables t SET state = 'making', wanted_by = '', why = $3 FROM derived_sets s
WHERE s.id = t.set_id AND s.name = $1 AND t.name = $2`, set, table, plain(why))
		return err
	})
	return id, err
}

// mostMakings is how many are kept of a table: it may be made each second.
const mostMakings = 200

// EndDerivation keeps what came of making a table, of which tried tells what it was made of.
func (s *Store) EndDerivation(ctx context.Context, d records.Derivation, tried *derive.Made) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error {
		checks, statements := append([]records.DerivedCheck{}, d.Checks...), append([]records.Statement{}, d.Statements...)
		var took float64
		err := tx.QueryRow(ctx, `UPDATE derivations SET state = $2, ended_at = now(), rows = $3, inserted = $4, updated = $5,
  deleted = $6, same = $7, parts = $8, checks = $9, problem = $10, statements = $11 WHERE id = $1
RETURNING extract(epoch FROM ended_at - started_at)::float8`, d.ID, d.State, d.Rows, d.Inserted, d.Updated, d.Deleted, d.Same,
			d.Parts, jsonOf(&checks), jsonOf(d.Problem), jsonOf(&statements)).Scan(&took)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil // its set was removed meanwhile
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM derivations WHERE id IN (SELECT d.id FROM derivations d
  JOIN derived_sets s ON s.id = d.set_id WHERE s.name = $1 AND d.name = $2 ORDER BY d.id DESC OFFSET $3)`,
			d.Set, d.Table, mostMakings); err != nil {
			return err
		}
		if d.State == "done" {
			_, err = tx.Exec(ctx, `UPDATE derived_tables t SET state = 'made', why = '', problem = NULL, tried = $3, tried_at = now(),
  failures = 0, rows = nullif($4, -1), made_at = now(), took = $5, checks = $6 FROM derived_sets s
WHERE s.id = t.set_id AND s.name = $1 AND t.name = $2`, d.Set, d.Table, jsonOf(tried), d.Rows, took, jsonOf(&checks))
			return err
		}
		state := d.State
		if state == "stopped" {
			state = records.DerivedFailed
		}
		_, err = tx.Exec(ctx, `UPDATE derived_tables t SET state = $3, problem = $4, tried = $5, tried_at = now(),
  failures = failures + 1, checks = $6 FROM derived_sets s WHERE s.id = t.set_id AND s.name = $1 AND t.name = $2`,
			d.Set, d.Table, state, jsonOf(d.Problem), jsonOf(tried), jsonOf(&checks))
		return err
	})
}

// DerivationsToStop gives those of a process that somebody wants to stop, with who does.
func (s *Store) DerivationsToStop(ctx context.Context, process string) (map[int64]string, error) {
	return s.toStop(ctx, "derivations", process)
}

// StopDerivation asks whoever makes a table to stop.
func (s *Store) StopDerivation(ctx context.Context, id int64, by string) error {
	_, err := s.Pool.Exec(ctx, "UPDATE derivations SET stop = $2 WHERE id = $1 AND state = 'running'", id, plain(by))
	return err
}

const derivationColumns = `d.id, s.name, d.name, d.why, d.state, d.process, d.started_at, d.ended_at, d.rows, d.inserted,
  d.updated, d.deleted, d.same, d.parts, d.checks, d.problem`

// Derivations lists makings, the newest first: of a set, and of one table where it is named.
func (s *Store) Derivations(ctx context.Context, set, table string, limit int) ([]records.Derivation, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+derivationColumns+`, NULL::jsonb FROM derivations d
JOIN derived_sets s ON s.id = d.set_id WHERE s.name = $1 AND ($2 = '' OR d.name = $2) ORDER BY d.id DESC LIMIT $3`, set, table,
		limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(found, scanDerivation)
}

// Derivation gives one, with its statements.
func (s *Store) Derivation(ctx context.Context, id int64) (records.Derivation, error) {
	found, err := s.Pool.Query(ctx, "SELECT "+derivationColumns+`, d.statements FROM derivations d
JOIN derived_sets s ON s.id = d.set_id WHERE d.id = $1`, id)
	if err != nil {
		return records.Derivation{}, err
	}
	d, err := pgx.CollectExactlyOneRow(found, scanDerivation)
	if errors.Is(err, pgx.ErrNoRows) {
		err = notFound(fmt.Sprintf("making %d of a derived table", id))
	}
	return d, err
}

func scanDerivation(row pgx.CollectableRow) (d records.Derivation, err error) {
	var statements []byte
	err = row.Scan(&d.ID, &d.Set, &d.Table, &d.Why, &d.State, &d.Process, &d.StartedAt, &d.EndedAt, &d.Rows, &d.Inserted,
		&d.Updated, &d.Deleted, &d.Same, &d.Parts, &d.Checks, &d.Problem, &statements)
	if err == nil && statements != nil {
		err = json.Unmarshal(statements, &d.Statements)
	}
	return d, err
}
