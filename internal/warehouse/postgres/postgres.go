// Package postgres writes warehouses in PostgreSQL, version 13 and later.
//
// Rows come in by COPY in binary form, into a temporary table that is merged
// set-wise, or straight into a target that is empty. Rows, position and counters
// are one transaction.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/pglink"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// Kind is the name of this kind of warehouse.
const Kind = "postgresql"

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{Check: pglink.Check, Open: Open}

// Connections is how many connections a warehouse uses at most.
const Connections = 4

var session = []string{
	"SET lock_timeout = '30s'",
	"SET idle_in_transaction_session_timeout = '1h'",
	"SET client_encoding = 'UTF8'",
	"SET search_path = pg_catalog, pg_temp",
	"SET standard_conforming_strings = on",
	"SET timezone = 'UTC'",
	"SET client_min_messages = warning",
	"SET maintenance_work_mem = '256MB'", // for the key of a table that was loaded whole
}

var dialect = warehouse.Dialect{
	Types: map[schema.Kind]string{
		schema.Bool: "boolean", schema.Int16: "smallint", schema.Int32: "integer", schema.Int64: "bigint",
		schema.Float32: "real", schema.Float64: "double precision", schema.Numeric: "numeric", schema.Text: "text",
		schema.Bytes: "bytea", schema.Date: "date", schema.Time: "time without time zone",
		schema.Timestamp: "timestamp without time zone", schema.TimestampTZ: "timestamp with time zone",
		schema.Interval: "interval", schema.UUID: "uuid", schema.JSON: "json",
	},
	Distinct: func(t schema.Type, a, b string) string {
		switch t.Kind {
		// These have values that are equal and yet not the same: 0 and -0, 1.0 and
		// 1.00, 24 hours and a day. The type json has no equality at all.
		case schema.Float32, schema.Float64, schema.Numeric, schema.Interval, schema.JSON:
			return a + "::text IS DISTINCT FROM " + b + "::text"
		}
		return a + " IS DISTINCT FROM " + b
	},
	NoEquals: func(t schema.Type) bool { return t.Kind == schema.JSON },
	Truncate: "TRUNCATE",
}

// Warehouse is a PostgreSQL database that is written.
type Warehouse struct {
	pool     *pgxpool.Pool
	settings connection.Settings
	what     string
}

// Open prepares to write a database; nothing is connected yet.
func Open(s connection.Settings, what string) (warehouse.Warehouse, error) {
	s, err := pglink.Check(s)
	if err != nil {
		return nil, err
	}
	pool, err := pglink.Open(s, Connections, "noemata writer", session)
	if err != nil {
		return nil, err
	}
	return &Warehouse{pool: pool, settings: s, what: what}, nil
}

// Close ends all connections.
func (w *Warehouse) Close() { w.pool.Close() }

func (w *Warehouse) explain(err error) error { return pglink.Explain(err, w.what, w.settings) }

// queryer is a pool, a connection or a transaction.
type queryer interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// exec runs a statement, records it, and gives the number of rows it touched.
func (w *Warehouse) exec(ctx context.Context, q queryer, sql string, args ...any) (int64, error) {
	done := statement.Begin(ctx, statement.Warehouse, sql)
	found, err := q.Query(ctx, sql, args...)
	if err == nil {
		found.Close()
		err = found.Err()
	}
	var n int64
	if err == nil {
		n = found.CommandTag().RowsAffected()
	}
	done(n, err)
	return n, w.explain(err)
}

// Test signs in and looks whether a schema may be made.
func (w *Warehouse) Test(ctx context.Context) (string, error) {
	var version string
	var may bool
	err := w.pool.QueryRow(ctx, `SELECT 'PostgreSQL ' || current_setting('server_version'),
       has_database_privilege(current_database(), 'CREATE, TEMPORARY')`).Scan(&version, &may)
	if err != nil {
		return "", w.explain(err)
	}
	if !may {
		return "", problem.Newf(problem.NoPrivilege, fmt.Sprintf("GRANT CREATE, TEMPORARY ON DATABASE %s TO %s;", schema.Quote(w.settings.Database), schema.Quote(w.settings.User)),
			"User %q of %s may not make schemas and temporary tables.", w.settings.User, w.what)
	}
	return version, nil
}

// Prepare makes control schema, schema and table where they are missing.
func (w *Warehouse) Prepare(ctx context.Context, t warehouse.Target) error {
	existing, control, err := w.columns(ctx, t.Name)
	if err != nil {
		return err
	}
	if !control {
		if err := w.create(ctx, warehouse.Control...); err != nil {
			return err
		}
	}
	if len(existing) > 0 {
		return dialect.Misfit(t, existing, func(name string) string {
			return strings.Replace(strings.ToLower(name), "decimal(", "numeric(", 1)
		})
	}
	return w.create(ctx, "CREATE SCHEMA IF NOT EXISTS "+schema.Quote(t.Name.Schema), dialect.CreateTable(t))
}

// create runs statements of the form CREATE IF NOT EXISTS, which two sessions must
// not run at the same time: one of them would fail.
func (w *Warehouse) create(ctx context.Context, statements ...string) error {
	return w.explain(pgx.BeginFunc(ctx, w.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext('noemata'))"); err != nil {
			return err
		}
		for _, sql := range statements {
			if _, err := w.exec(ctx, tx, sql); err != nil {
				return err
			}
		}
		return nil
	}))
}

func (w *Warehouse) columns(ctx context.Context, name schema.Name) (existing map[string]string, control bool, err error) {
	found, err := w.pool.Query(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod)
FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relname = $2 AND a.attnum > 0 AND NOT a.attisdropped`, name.Schema, name.Table)
	if err != nil {
		return nil, false, w.explain(err)
	}
	existing = map[string]string{}
	var column, typeName string
	if _, err = pgx.ForEachRow(found, []any{&column, &typeName}, func() error {
		existing[column] = typeName
		return nil
	}); err != nil {
		return nil, false, w.explain(err)
	}
	err = w.pool.QueryRow(ctx, "SELECT to_regclass('noemata.set_aside') IS NOT NULL").Scan(&control)
	return existing, control, w.explain(err)
}

// Place tells how far a table has come.
func (w *Warehouse) Place(ctx context.Context, feed, table string) (warehouse.Place, error) {
	places, err := w.places(ctx, feed, table)
	if err != nil || len(places) == 0 {
		return warehouse.Place{Table: table}, err
	}
	return places[0], nil
}

// Places lists the places of a feed's tables.
func (w *Warehouse) Places(ctx context.Context, feed string) ([]warehouse.Place, error) {
	return w.places(ctx, feed, "")
}

func (w *Warehouse) places(ctx context.Context, feed, table string) ([]warehouse.Place, error) {
	done := statement.Begin(ctx, statement.Warehouse, warehouse.PlacesSQL)
	found, err := w.pool.Query(ctx, warehouse.PlacesSQL, feed, table)
	if err != nil {
		done(0, err)
		return nil, w.explain(err)
	}
	places, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (warehouse.Place, error) {
		var p warehouse.Place
		var text *string
		if err := row.Scan(&p.Table, &text, &p.Version, &p.Run, &p.MovedAt); err != nil || text == nil {
			return p, err
		}
		var err error
		p.Position, err = position.Parse(*text)
		return p, err
	})
	done(int64(len(places)), err)
	if missing(err) { // nothing was ever loaded here
		return nil, nil
	}
	return places, w.explain(err)
}

func missing(err error) bool {
	var coded interface{ SQLState() string }
	return errors.As(err, &coded) && (coded.SQLState() == "42P01" || coded.SQLState() == "3F000")
}

// SetPlace moves or clears a position by hand.
func (w *Warehouse) SetPlace(ctx context.Context, feed, table string, p *position.Position) error {
	if err := w.create(ctx, warehouse.Control...); err != nil {
		return err
	}
	var text any
	if p != nil {
		text = warehouse.Text(*p)
	}
	_, err := w.exec(ctx, w.pool, `INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at) VALUES ($1, $2, $3, 1, 0, now())
ON CONFLICT (feed, source_table) DO UPDATE SET position = excluded.position, version = positions.version + 1, run = 0, moved_at = now()`, feed, table, text)
	return err
}

// Count counts the rows of a table.
func (w *Warehouse) Count(ctx context.Context, name schema.Name) (int64, error) {
	var n int64
	sql := "SELECT count(*) FROM " + name.Quoted()
	done := statement.Begin(ctx, statement.Warehouse, sql)
	err := w.pool.QueryRow(ctx, sql).Scan(&n)
	done(n, err)
	return n, w.explain(err)
}

// Read copies rows out.
func (w *Warehouse) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	columns := make([]schema.Column, len(q.Columns))
	for i, c := range q.Columns {
		columns[i] = pgcopy.Stored(c)
	}
	q.Columns = columns
	reader := pgcopy.NewReader(columns, len(columns), nil, nil, func(b rows.Batch) error {
		defer b.Record.Release()
		return sink(b.Record)
	})
	sql := "COPY (" + warehouse.SelectSQL(q, pgcopy.Expression) + ") TO STDOUT (FORMAT binary)"
	done := statement.Begin(ctx, statement.Warehouse, sql)
	err := w.pool.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
		_, err := c.Conn().PgConn().CopyTo(ctx, reader, sql)
		return err
	})
	done(reader.Total, err)
	if err != nil {
		return w.explain(err)
	}
	return reader.End()
}

// loader is one commit: a transaction on a connection of its own.
type loader struct {
	w       *Warehouse
	load    warehouse.Load
	ledger  *warehouse.Ledger
	conn    *pgxpool.Conn
	tx      pgx.Tx
	columns []schema.Column
	feed    *feeder
	copied  chan error
	copySQL string
	failed  error
}

// Begin opens the transaction and starts the COPY that rows will come in by.
func (w *Warehouse) Begin(ctx context.Context, l warehouse.Load) (warehouse.Loader, error) {
	conn, err := w.pool.Acquire(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	b := &loader{w: w, load: l, conn: conn, columns: warehouse.StageColumns(l.Target)}
	if err := b.begin(ctx); err != nil {
		b.Abort()
		return nil, err
	}
	return b, nil
}

func (b *loader) begin(ctx context.Context) error {
	tx, err := b.conn.Begin(ctx)
	if err != nil {
		return b.w.explain(err)
	}
	b.tx = tx
	found, err := tx.Query(ctx, warehouse.AsideKeysSQL, b.load.Feed, b.load.Table)
	if err != nil {
		return b.w.explain(err)
	}
	waiting, err := pgx.CollectRows(found, pgx.RowTo[string])
	if err != nil {
		return b.w.explain(err)
	}
	b.ledger = warehouse.NewLedger(b.load, waiting)
	into := b.load.Target.Name.Quoted()
	if !b.load.Direct {
		if err := b.ensureKey(ctx); err != nil {
			return err
		}
		if _, err := b.w.exec(ctx, tx, dialect.CreateStage(b.load.Target, " ON COMMIT DROP")); err != nil {
			return err
		}
		into = warehouse.Stage
	}
	b.copySQL = fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT binary)", into, schema.QuoteAll("", schema.Table{Columns: b.columns}.ColumnNames()))
	chunks := newFeeder()
	b.feed, b.copied = chunks, make(chan error, 1)
	done := statement.Begin(ctx, statement.Warehouse, b.copySQL)
	go func() {
		tag, err := b.conn.Conn().PgConn().CopyFrom(ctx, chunks, b.copySQL)
		chunks.stop() // nobody must wait for a COPY that has failed
		done(tag.RowsAffected(), err)
		b.copied <- err
	}()
	return b.send(pgcopy.Header)
}

// ensureKey makes the unique index that a merge needs. A direct load makes it
// after the rows have come in, which is quicker.
func (b *loader) ensureKey(ctx context.Context) error {
	t := b.load.Target
	if t.Keep != feed.KeepLatest {
		return nil
	}
	h := fnv.New64a()
	_, _ = io.WriteString(h, t.Name.Quoted()+"\x00"+schema.QuoteAll("", t.Key))
	name := fmt.Sprintf("nm_key_%016x", h.Sum64())
	var there bool
	if err := b.tx.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", schema.Name{Schema: t.Name.Schema, Table: name}.Quoted()).Scan(&there); err != nil || there {
		return b.w.explain(err)
	}
	_, err := b.w.exec(ctx, b.tx, fmt.Sprintf("CREATE UNIQUE INDEX IF NOT EXISTS %s ON %s (%s)", name, t.Name.Quoted(), schema.QuoteAll("", t.Key)))
	return err
}

// send hands bytes to the COPY. The server's reason counts when it has failed.
func (b *loader) send(chunk []byte) error {
	if b.failed == nil && !b.feed.give(chunk) {
		b.feed = nil
		b.failed = b.w.explain(<-b.copied)
	}
	return b.failed
}

// chunkRows is how many rows are encoded at a time: the server takes in one chunk
// while the next is made.
const chunkRows = 4096

// Append sends rows to the server.
func (b *loader) Append(_ context.Context, batch rows.Batch) error {
	if err := b.ledger.Take(batch); err != nil {
		return err
	}
	n := batch.Record.NumRows()
	for from := int64(0); from < n; from += chunkRows {
		part := batch.Record.NewSlice(from, min(from+chunkRows, n))
		chunk := pgcopy.AppendRows(b.spare(), part, b.columns)
		part.Release()
		if err := b.send(chunk); err != nil {
			return err
		}
	}
	return nil
}

func (b *loader) spare() []byte {
	if b.feed == nil {
		return nil // the COPY has failed; send will say so
	}
	return b.feed.spare()
}

// Commit merges, moves the position and writes the audit row.
func (b *loader) Commit(ctx context.Context, to position.Position) (rows.Books, warehouse.Place, error) {
	fail := func(err error) (rows.Books, warehouse.Place, error) { return rows.Books{}, warehouse.Place{}, err }
	if err := b.send(pgcopy.Trailer); err != nil {
		return fail(err)
	}
	b.feed.end()
	b.feed = nil
	if err := <-b.copied; err != nil {
		return fail(b.w.explain(err))
	}
	// The position first: it makes a second worker wait here, and then fail.
	if err := b.move(ctx, to); err != nil {
		return fail(err)
	}
	if err := b.merge(ctx); err != nil {
		return fail(err)
	}
	books, err := b.ledger.Close()
	if err != nil {
		return fail(err)
	}
	place := b.load.From
	if _, err := b.w.exec(ctx, b.tx, warehouse.AuditSQL, b.ledger.AuditArgs(to)...); err != nil {
		return fail(err)
	}
	done := statement.Begin(ctx, statement.Warehouse, "COMMIT")
	err = b.tx.Commit(ctx)
	done(0, err)
	if err != nil {
		return fail(b.w.explain(err))
	}
	b.tx = nil
	b.Abort()
	place.Position, place.Version, place.Run, place.MovedAt = to, place.Version+1, b.load.Run, time.Now()
	return books, place, nil
}

func (b *loader) merge(ctx context.Context) error {
	if b.load.Direct {
		b.ledger.Books.Inserted = b.ledger.Staged
		if err := b.ensureKey(ctx); err != nil {
			return err
		}
	} else if b.ledger.Staged > 0 || b.load.Target.Keep == feed.KeepReplace {
		if b.ledger.Staged > 10_000 {
			if _, err := b.w.exec(ctx, b.tx, "ANALYZE "+warehouse.Stage); err != nil {
				return err
			}
		}
		for _, step := range dialect.Merge(b.load.Target, b.load.Run) {
			n, err := b.w.exec(ctx, b.tx, step.SQL)
			if err != nil {
				return err
			}
			b.ledger.Count(step, n)
		}
	}
	if len(b.ledger.Aside)+len(b.ledger.Healed) == 0 {
		return nil
	}
	statements, shown := warehouse.AsideStatements(b.load, b.ledger.Aside, b.ledger.Healed)
	done := statement.Begin(ctx, statement.Warehouse, shown)
	for _, sql := range statements {
		if _, err := b.tx.Exec(ctx, sql); err != nil {
			done(0, err)
			return b.w.explain(err)
		}
	}
	done(int64(len(b.ledger.Aside)), nil)
	return nil
}

// move advances the position by compare-and-set.
func (b *loader) move(ctx context.Context, to position.Position) error {
	sql, args := warehouse.MoveSQL, []any{b.load.Feed, b.load.Table, warehouse.Text(to), b.load.Run, b.load.From.Version}
	if b.load.From.Version == 0 {
		sql, args = warehouse.EnterSQL, args[:4]
	}
	n, err := b.w.exec(ctx, b.tx, sql, args...)
	if err == nil && n != 1 {
		return warehouse.Overtaken(b.load.Table)
	}
	return err
}

// Abort rolls back and gives the connection back.
func (b *loader) Abort() {
	if b.conn == nil {
		return
	}
	if b.feed != nil {
		b.feed.giveUp()
		<-b.copied
		b.feed = nil
	}
	if b.tx != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_ = b.tx.Rollback(ctx) // a connection that cannot roll back is closed, which has the same effect
	}
	b.conn.Release()
	b.conn = nil
}
