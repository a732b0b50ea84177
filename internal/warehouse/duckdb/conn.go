//go:build duckdb_arrow

package duckdb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/duckdb/duckdb-go/v2"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// conn is a connection to an open file.
type conn struct {
	file    *file
	driver  driver.Conn
	arrow   *duckdb.Arrow
	view    string // what a batch is called while it is inserted
	explain func(error) error
	plain   bool // nothing was run but small questions, and all were answered
	asRead  func(schema.Column) string
	ownOnly bool            // files are open to it, so that a question must name tables that are there
	lent    map[string]bool // tables of other databases that are there, by lentName

	inserting string // the statement that inserts batches, until another one is run
	inserted  int64
	done      func(int64, error)
}

// asItIs is how a column is read.
func asItIs(c schema.Column) string { return schema.Quote(c.Name) }

// views numbers the views of batches. They are not temporary, so two connections must
// not use one name, and each is dropped in the transaction that made it.
var views atomic.Int64

// Close lets the connection go, and the file some time after its last one.
func (c *conn) Close() {
	c.note(nil)
	// Also where no transaction is open: it ends a statement that was stopped and is still
	// under way, which would keep the file open, and who opens it then would wait for ever.
	if !c.plain {
		_, _ = c.exec(context.Background(), "ROLLBACK")
	}
	_ = c.driver.Close()
	c.file.leave()
}

// Exec runs a statement, records it, and gives the number of rows it touched.
func (c *conn) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	c.note(nil)
	done := statement.Begin(ctx, statement.Warehouse, sql)
	n, err := c.exec(ctx, sql, args...)
	done(n, err)
	if err == nil && sql == "COMMIT" {
		c.settle(ctx)
	}
	return n, c.explain(err)
}

// settle moves what was committed to its place in the file when it fills much of the memory: DuckDB keeps some 90 KB
// of each table that little was written to, and by itself moves it only by the size of its log. Where a transaction
// is under way elsewhere it cannot be done; then it is left to the next commit.
func (c *conn) settle(ctx context.Context) {
	kept, err := c.Ask(ctx, "SELECT memory_usage_bytes FROM duckdb_memory() WHERE tag = 'IN_MEMORY_TABLE'")
	if err != nil || len(kept) != 1 || kept[0][0].(int64) < c.file.limit()/4 {
		return
	}
	done := statement.Begin(ctx, statement.Warehouse, "CHECKPOINT")
	_, err = c.exec(ctx, "CHECKPOINT")
	done(0, err)
}

func (c *conn) exec(ctx context.Context, sql string, args ...any) (int64, error) {
	c.plain = false
	result, err := c.driver.(driver.ExecerContext).ExecContext(ctx, sql, named(args))
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// Ask gives all rows of a small result.
func (c *conn) Ask(ctx context.Context, sql string, args ...any) ([][]any, error) {
	c.note(nil)
	done := statement.Begin(ctx, statement.Warehouse, sql)
	rows, err := c.ask(ctx, sql, args...)
	done(int64(len(rows)), err)
	return rows, c.explain(err)
}

// Columns asks for one table: the views of the catalogue list those of all.
func (c *conn) Columns(ctx context.Context, name schema.Name) (map[string]string, error) {
	c.note(nil)
	sql := "DESCRIBE " + name.Quoted()
	done := statement.Begin(ctx, statement.Warehouse, sql)
	rows, err := c.ask(ctx, sql)
	if err != nil && strings.Contains(err.Error(), "Catalog Error") && strings.Contains(err.Error(), "does not exist") {
		err = nil
	}
	done(int64(len(rows)), err)
	columns := map[string]string{}
	for _, row := range rows {
		columns[row[0].(string)] = row[1].(string)
	}
	return columns, c.explain(err)
}

func (c *conn) ask(ctx context.Context, sql string, args ...any) (all [][]any, err error) {
	defer func() { c.plain = c.plain && err == nil }()
	found, err := c.driver.(driver.QueryerContext).QueryContext(ctx, sql, named(args))
	if err != nil {
		return nil, err
	}
	defer func() { _ = found.Close() }()
	for {
		values := make([]driver.Value, len(found.Columns()))
		if err := found.Next(values); errors.Is(err, io.EOF) {
			return all, nil
		} else if err != nil {
			return nil, err
		}
		row := make([]any, len(values))
		for i, v := range values {
			row[i] = v
		}
		all = append(all, row)
	}
}

// Read reads rows as Arrow.
func (c *conn) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	c.note(nil)
	sql, err := dialect.Select(q, c.asRead)
	if err != nil {
		return err
	}
	return c.selected(ctx, sql, sink)
}

// selected passes on what a SELECT gives.
func (c *conn) selected(ctx context.Context, sql string, sink func(arrow.RecordBatch) error) error {
	c.plain = false
	var n int64
	done := statement.Begin(ctx, statement.Warehouse, sql)
	reader, err := c.arrow.QueryContext(ctx, sql)
	if err != nil {
		done(0, err)
		return c.explain(err)
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
	return c.explain(reader.Err())
}

func named(args []any) []driver.NamedValue {
	values := make([]driver.NamedValue, len(args))
	for i, a := range args {
		values[i] = driver.NamedValue{Ordinal: i + 1, Value: a}
	}
	return values
}

// Insert hands a record to DuckDB as a view and inserts from it.
func (c *conn) Insert(ctx context.Context, into string, columns []schema.Column, record arrow.RecordBatch,
	_ *rows.Raw) error {
	if err := ctx.Err(); err != nil || record.NumRows() == 0 {
		return err
	}
	sql := fmt.Sprintf("INSERT INTO %s (%s) SELECT * FROM %s", into,
		schema.QuoteAll("", schema.Table{Columns: columns}.ColumnNames()), c.view)
	if sql != c.inserting {
		c.note(nil)
		c.inserting, c.done = sql, statement.Begin(ctx, statement.Warehouse, sql+" -- once for each batch of rows")
	}
	c.inserted += record.NumRows()
	err := c.insert(ctx, sql, columns, record)
	if err != nil {
		c.note(err)
	}
	return c.explain(err)
}

func (c *conn) insert(ctx context.Context, sql string, columns []schema.Column, record arrow.RecordBatch) error {
	// The record's own schema lacks what tells DuckDB the types, so ours is put in its place.
	typed := schema.Arrow(columns)
	record = array.NewRecordBatch(typed, record.Columns()[:len(columns)], record.NumRows())
	defer record.Release()
	reader, err := array.NewRecordReader(typed, []arrow.RecordBatch{record})
	if err != nil {
		return fmt.Errorf("prepare rows for DuckDB: %w", err)
	}
	defer reader.Release()
	release, err := registerView(c.driver, reader, c.view)
	if err != nil {
		return err
	}
	defer release()
	// A statement that is stopped may return while DuckDB's threads still work on it. They
	// would read rows that are gone, so a batch goes in whole or not at all.
	whole := context.WithoutCancel(ctx)
	if _, err = c.exec(whole, sql); err == nil {
		_, err = c.exec(whole, "DROP VIEW "+c.view)
	}
	return err
}

// note records the statement that inserted batches, now that they are all in.
func (c *conn) note(err error) {
	if c.done != nil {
		c.done(c.inserted, err)
		c.inserting, c.inserted, c.done = "", 0, nil
	}
}
