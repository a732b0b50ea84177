// Package duckdb writes warehouses in a DuckDB file, inside the service's own
// process.
//
// Rows come in as Arrow record batches. A target has no index: a merge is a hash
// join. Rows, position and counters are one transaction. Only one program can have
// the file open for writing, so the service closes it when it is idle.
package duckdb

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// Kind is the name of this kind of warehouse.
const Kind = "duckdb"

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{Check: Check, Open: Open}

// Check tells whether the settings name a file, and makes its path absolute.
func Check(s connection.Settings) (connection.Settings, error) {
	if s.Path == "" || s.Host != "" || s.Database != "" || s.User != "" || s.Password != "" {
		return s, problem.New(problem.Invalid, "A DuckDB warehouse is a file.", "Give its path, and nothing else.")
	}
	path, err := filepath.Abs(s.Path)
	if err != nil {
		return s, problem.Wrap(err, problem.Invalid, fmt.Sprintf("The path %q cannot be used.", s.Path), "Give an absolute path.")
	}
	return connection.Settings{Path: path}, nil
}

var dialect = warehouse.Dialect{
	Types: map[schema.Kind]string{
		schema.Bool: "BOOLEAN", schema.Int16: "SMALLINT", schema.Int32: "INTEGER", schema.Int64: "BIGINT",
		schema.Float32: "FLOAT", schema.Float64: "DOUBLE", schema.Numeric: "VARCHAR", schema.Text: "VARCHAR",
		schema.Bytes: "BLOB", schema.Date: "DATE", schema.Time: "TIME",
		schema.Timestamp: "TIMESTAMP", schema.TimestampTZ: "TIMESTAMP WITH TIME ZONE",
		schema.Interval: "INTERVAL", schema.UUID: "UUID", schema.JSON: "JSON",
	},
	Distinct: func(t schema.Type, a, b string) string {
		switch t.Kind {
		case schema.Float32, schema.Float64: // 0 and -0 are equal and yet not the same
			return fmt.Sprintf("%s IS DISTINCT FROM %s OR signbit(coalesce(%[1]s, 0)) <> signbit(coalesce(%[2]s, 0))", a, b)
		case schema.Interval: // so are 24 hours and a day
			return fmt.Sprintf("CAST(%s AS VARCHAR) IS DISTINCT FROM CAST(%s AS VARCHAR)", a, b)
		}
		return a + " IS DISTINCT FROM " + b
	},
	NoEquals: func(schema.Type) bool { return false },
	Truncate: "DELETE FROM",
	Rewrite:  true, // an update in place takes -0 for 0 and leaves it
}

// Warehouse is a DuckDB file that is written.
type Warehouse struct {
	file *file
	what string
}

// Open prepares to write a file; it is opened and, if need be, made at its first use.
func Open(s connection.Settings, what string) (warehouse.Warehouse, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	return &Warehouse{file: fileAt(s.Path), what: what}, nil
}

// Close closes the file if nobody else uses it.
func (w *Warehouse) Close() { w.file.closeIdle() }

func (w *Warehouse) explain(err error) error { return explain(err, w.what, w.file.path) }

// with runs work on a connection of its own.
func (w *Warehouse) with(ctx context.Context, work func(*conn) error) error {
	c, err := w.file.connect(ctx)
	if err != nil {
		return w.explain(err)
	}
	defer c.close()
	return w.explain(work(c))
}

// Test opens the file and gives DuckDB's version.
func (w *Warehouse) Test(ctx context.Context) (version string, err error) {
	err = w.with(ctx, func(c *conn) error {
		found, err := c.query(ctx, "SELECT version()")
		if err == nil {
			version = fmt.Sprintf("DuckDB %s", found[0][0])
		}
		return err
	})
	return version, err
}

// Prepare makes control schema, schema and table where they are missing.
func (w *Warehouse) Prepare(ctx context.Context, t warehouse.Target) error {
	return w.with(ctx, func(c *conn) error {
		found, err := c.query(ctx, `SELECT column_name, data_type FROM duckdb_columns() WHERE database_name = current_database() AND schema_name = $1 AND table_name = $2`, t.Name.Schema, t.Name.Table)
		if err != nil {
			return err
		}
		existing := map[string]string{}
		for _, row := range found {
			existing[row[0].(string)] = row[1].(string)
		}
		if len(existing) > 0 {
			if err := dialect.Misfit(t, existing, func(name string) string { return name }); err != nil {
				return err
			}
		}
		has, err := c.hasControl(ctx)
		if err != nil {
			return err
		}
		var statements []string
		if !has {
			statements = append(statements, warehouse.Control...)
		}
		if len(existing) == 0 {
			statements = append(statements, "CREATE SCHEMA IF NOT EXISTS "+schema.Quote(t.Name.Schema), dialect.CreateTable(t))
		}
		return c.create(ctx, statements)
	})
}

// create runs statements of the form CREATE IF NOT EXISTS, one connection at a
// time: two that make the same thing would conflict.
func (c *conn) create(ctx context.Context, statements []string) error {
	c.file.mu.Lock()
	defer c.file.mu.Unlock()
	for _, sql := range statements {
		if _, err := c.exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

func (c *conn) hasControl(ctx context.Context) (bool, error) {
	found, err := c.query(ctx, "SELECT count(*) FROM duckdb_tables() WHERE database_name = current_database() AND schema_name = 'noemata' AND table_name = 'set_aside'")
	return err == nil && found[0][0].(int64) == 1, err
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

func (w *Warehouse) places(ctx context.Context, feed, table string) (places []warehouse.Place, err error) {
	err = w.with(ctx, func(c *conn) error {
		if has, err := c.hasControl(ctx); err != nil || !has {
			return err
		}
		done := statement.Begin(ctx, statement.Warehouse, warehouse.PlacesSQL)
		found, err := c.query(ctx, warehouse.PlacesSQL, feed, table)
		done(int64(len(found)), err)
		for _, row := range found {
			p := warehouse.Place{Table: row[0].(string), Version: row[2].(int64), Run: row[3].(int64), MovedAt: row[4].(time.Time)}
			if text, ok := row[1].(string); ok {
				if p.Position, err = position.Parse(text); err != nil {
					return err
				}
			}
			places = append(places, p)
		}
		return err
	})
	return places, err
}

// SetPlace moves or clears a position by hand.
func (w *Warehouse) SetPlace(ctx context.Context, feed, table string, p *position.Position) error {
	var text any
	if p != nil {
		text = warehouse.Text(*p)
	}
	return w.with(ctx, func(c *conn) error {
		if err := c.create(ctx, warehouse.Control); err != nil {
			return err
		}
		_, err := c.exec(ctx, `INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at) VALUES ($1, $2, $3, 1, 0, now())
ON CONFLICT (feed, source_table) DO UPDATE SET position = excluded.position, version = version + 1, run = 0, moved_at = now()`, feed, table, text)
		return err
	})
}

// Count counts the rows of a table.
func (w *Warehouse) Count(ctx context.Context, name schema.Name) (n int64, err error) {
	sql := "SELECT count(*) FROM " + name.Quoted()
	err = w.with(ctx, func(c *conn) error {
		done := statement.Begin(ctx, statement.Warehouse, sql)
		found, err := c.query(ctx, sql)
		done(1, err)
		if err == nil {
			n = found[0][0].(int64)
		}
		return err
	})
	return n, err
}

// Read passes rows on as Arrow batches.
func (w *Warehouse) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	sql := warehouse.SelectSQL(q, func(c schema.Column) string { return schema.Quote(c.Name) })
	return w.with(ctx, func(c *conn) error {
		var n int64
		done := statement.Begin(ctx, statement.Warehouse, sql)
		reader, err := c.arrow.QueryContext(ctx, sql)
		if err != nil {
			done(0, err)
			return err
		}
		defer reader.Release()
		for reader.Next() {
			n += reader.RecordBatch().NumRows()
			if err := sink(reader.RecordBatch()); err != nil {
				done(n, err)
				return err
			}
		}
		done(n, reader.Err())
		return reader.Err()
	})
}

// loader is one commit: a transaction on a connection of its own.
type loader struct {
	w      *Warehouse
	conn   *conn
	load   warehouse.Load
	ledger *warehouse.Ledger
	into   string
	schema *arrow.Schema
	view   string // what a batch is called while it is inserted
	open   bool   // the transaction is
}

// views numbers the views of batches. They are not temporary, so two loads must
// not use one name, and each is dropped in the transaction that made it.
var views atomic.Int64

// Begin opens the transaction.
func (w *Warehouse) Begin(ctx context.Context, l warehouse.Load) (warehouse.Loader, error) {
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	b := &loader{w: w, conn: c, load: l, into: l.Target.Name.Quoted(), schema: schema.Arrow(warehouse.StageColumns(l.Target)), view: fmt.Sprintf("noemata_batch_%d", views.Add(1))}
	if err := b.begin(ctx); err != nil {
		b.Abort()
		return nil, w.explain(err)
	}
	return b, nil
}

func (b *loader) begin(ctx context.Context) error {
	if _, err := b.conn.exec(ctx, "BEGIN TRANSACTION"); err != nil {
		return err
	}
	b.open = true
	found, err := b.conn.query(ctx, warehouse.AsideKeysSQL, b.load.Feed, b.load.Table)
	if err != nil {
		return err
	}
	var waiting []string
	for _, row := range found {
		waiting = append(waiting, row[0].(string))
	}
	b.ledger = warehouse.NewLedger(b.load, waiting)
	switch {
	case b.load.Direct:
	case b.load.Target.Keep == feed.KeepReplace:
		// Readers see the old rows until the commit, so the new ones can go straight in.
		_, err = b.conn.exec(ctx, "DELETE FROM "+b.into)
	default:
		b.into = warehouse.Stage
		_, err = b.conn.exec(ctx, dialect.CreateStage(b.load.Target, ""))
	}
	return err
}

// Append hands a batch to DuckDB as a view and inserts from it.
func (b *loader) Append(ctx context.Context, batch rows.Batch) error {
	if err := b.ledger.Take(batch); err != nil {
		return err
	}
	if batch.Record.NumRows() == 0 {
		return nil
	}
	// The record's own schema lacks what tells DuckDB the types, so ours is put in its place.
	record := array.NewRecordBatch(b.schema, batch.Record.Columns(), batch.Record.NumRows())
	defer record.Release()
	reader, err := array.NewRecordReader(b.schema, []arrow.RecordBatch{record})
	if err != nil {
		return fmt.Errorf("prepare rows for DuckDB: %w", err)
	}
	defer reader.Release()
	release, err := b.conn.arrow.RegisterView(reader, b.view)
	if err != nil {
		return b.w.explain(err)
	}
	defer release()
	if _, err = b.conn.execQuietly(ctx, b.insertSQL()); err == nil {
		_, err = b.conn.execQuietly(ctx, "DROP VIEW "+b.view)
	}
	return b.w.explain(err)
}

func (b *loader) insertSQL() string {
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT * FROM %s", b.into,
		schema.QuoteAll("", schema.Table{Columns: warehouse.StageColumns(b.load.Target)}.ColumnNames()), b.view)
}

// Commit merges, moves the position and writes the audit row.
func (b *loader) Commit(ctx context.Context, to position.Position) (rows.Books, warehouse.Place, error) {
	books, place, err := b.commit(ctx, to)
	if err != nil {
		return rows.Books{}, warehouse.Place{}, b.w.explain(err)
	}
	b.open = false
	b.Abort()
	return books, place, nil
}

func (b *loader) commit(ctx context.Context, to position.Position) (books rows.Books, place warehouse.Place, err error) {
	statement.Begin(ctx, statement.Warehouse, b.insertSQL()+" -- once for each batch of rows")(b.ledger.Staged, nil)
	if b.into != warehouse.Stage {
		b.ledger.Books.Inserted = b.ledger.Staged
	} else if b.ledger.Staged > 0 {
		for _, step := range dialect.Merge(b.load.Target, b.load.Run) {
			n, err := b.conn.exec(ctx, step.SQL)
			if err != nil {
				return books, place, err
			}
			b.ledger.Count(step, n)
		}
	}
	if err := b.keepAside(ctx); err != nil {
		return books, place, err
	}
	if books, err = b.ledger.Close(); err != nil {
		return books, place, err
	}
	if err := b.move(ctx, to); err != nil {
		return books, place, err
	}
	if _, err := b.conn.exec(ctx, warehouse.AuditSQL, b.ledger.AuditArgs(to)...); err != nil {
		return books, place, err
	}
	if b.into == warehouse.Stage {
		if _, err := b.conn.exec(ctx, "DROP TABLE "+warehouse.Stage); err != nil {
			return books, place, err
		}
	}
	if _, err := b.conn.exec(ctx, "COMMIT"); err != nil {
		return books, place, err
	}
	place = b.load.From
	place.Position, place.Version, place.Run, place.MovedAt = to, place.Version+1, b.load.Run, time.Now()
	return books, place, nil
}

func (b *loader) keepAside(ctx context.Context) error {
	if len(b.ledger.Aside)+len(b.ledger.Healed) == 0 {
		return nil
	}
	statements, shown := warehouse.AsideStatements(b.load, b.ledger.Aside, b.ledger.Healed)
	done := statement.Begin(ctx, statement.Warehouse, shown)
	for _, sql := range statements {
		if _, err := b.conn.execQuietly(ctx, sql); err != nil {
			done(0, err)
			return err
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
	n, err := b.conn.exec(ctx, sql, args...)
	// A place that another transaction entered meanwhile is a duplicate key to this one.
	if (err == nil && n != 1) || (err != nil && strings.Contains(err.Error(), "Duplicate key")) {
		return warehouse.Overtaken(b.load.Table)
	}
	return err
}

// Abort rolls back and lets the connection go.
func (b *loader) Abort() {
	if b.conn == nil {
		return
	}
	if b.open {
		_, _ = b.conn.execQuietly(context.Background(), "ROLLBACK") // closing the connection does the same
	}
	b.conn.close()
	b.conn = nil
}
