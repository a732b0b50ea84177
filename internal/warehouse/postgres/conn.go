package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// conn is a connection of the pool.
type conn struct {
	w      *Warehouse
	conn   *pgxpool.Conn
	copy   *copying // the COPY that is under way
	failed error    // of a COPY; nothing more can be done
}

// copying is a COPY that takes rows in while the next are made.
type copying struct {
	sql    string
	feed   *feeder
	result chan error
}

// Close gives the connection back; an open transaction is rolled back.
func (c *conn) Close() {
	if c.copy != nil {
		c.copy.feed.giveUp()
		<-c.copy.result
		c.copy = nil
	}
	if c.conn.Conn().PgConn().TxStatus() != 'I' {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, _ = c.conn.Exec(ctx, "ROLLBACK") // a connection that cannot roll back is closed, which has the same effect
	}
	c.conn.Release()
}

// Exec runs a statement, records it, and gives the number of rows it touched.
func (c *conn) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	if err := c.flush(); err != nil {
		return 0, err
	}
	done := statement.Begin(ctx, statement.Warehouse, sql)
	found, err := c.conn.Query(ctx, sql, args...)
	if err == nil {
		found.Close()
		err = found.Err()
	}
	var n int64
	if err == nil {
		n = found.CommandTag().RowsAffected()
	}
	done(n, err)
	return n, c.w.explain(err)
}

// Ask gives all rows of a small result.
func (c *conn) Ask(ctx context.Context, sql string, args ...any) ([][]any, error) {
	if err := c.flush(); err != nil {
		return nil, err
	}
	done := statement.Begin(ctx, statement.Warehouse, sql)
	found, err := c.conn.Query(ctx, sql, args...)
	if err != nil {
		done(0, err)
		return nil, c.w.explain(err)
	}
	rows, err := pgx.CollectRows(found, func(row pgx.CollectableRow) ([]any, error) { return row.Values() })
	done(int64(len(rows)), err)
	return rows, c.w.explain(err)
}

// Columns asks for those of one table.
func (c *conn) Columns(ctx context.Context, name schema.Name) (map[string]string, error) {
	found, err := c.Ask(ctx, `SELECT a.attname::text, format_type(a.atttypid, a.atttypmod)
FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relname = $2 AND a.attnum > 0 AND NOT a.attisdropped`, name.Schema, name.Table)
	columns := map[string]string{}
	for _, row := range found {
		columns[row[0].(string)] = row[1].(string)
	}
	return columns, err
}

// Read reads rows by COPY.
func (c *conn) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	if err := c.flush(); err != nil {
		return err
	}
	columns := make([]schema.Column, len(q.Columns))
	for i, c := range q.Columns {
		columns[i] = pgcopy.Stored(c)
	}
	q.Columns = columns
	selected, err := dialect.Select(q, pgcopy.Expression)
	if err != nil {
		return err
	}
	reader := pgcopy.NewReader(columns, len(columns), nil, nil, func(b rows.Batch) error {
		defer b.Record.Release()
		return sink(b.Record)
	})
	sql := "COPY (" + selected + ") TO STDOUT (FORMAT binary)"
	done := statement.Begin(ctx, statement.Warehouse, sql)
	_, err = c.conn.Conn().PgConn().CopyTo(ctx, reader, sql)
	done(reader.Total, err)
	if err != nil {
		return c.w.explain(err)
	}
	return reader.End()
}

// chunkRows is how many rows are encoded at a time: the server takes in one chunk
// while the next is made.
const chunkRows = 4096

// Insert sends rows by COPY, which goes on until another statement is run.
func (c *conn) Insert(ctx context.Context, into string, columns []schema.Column, record arrow.RecordBatch,
	raw *rows.Raw) error {
	sql := fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT binary)", into,
		schema.QuoteAll("", schema.Table{Columns: columns}.ColumnNames()))
	if c.copy == nil || c.copy.sql != sql {
		if err := c.flush(); err != nil {
			return err
		}
		c.begin(ctx, sql)
		if err := c.send(pgcopy.Header); err != nil {
			return err
		}
	}
	for from := int64(0); from < record.NumRows(); from += chunkRows {
		chunk, to := c.copy.feed.spare(), min(from+chunkRows, record.NumRows())
		if raw != nil {
			chunk = pgcopy.AppendRaw(chunk, raw, int(from), int(to), record, columns)
		} else {
			part := record.NewSlice(from, to)
			chunk = pgcopy.AppendRows(chunk, part, columns)
			part.Release()
		}
		if err := c.send(chunk); err != nil {
			return err
		}
	}
	return nil
}

func (c *conn) begin(ctx context.Context, sql string) {
	x := &copying{sql: sql, feed: newFeeder(), result: make(chan error, 1)}
	c.copy = x
	done := statement.Begin(ctx, statement.Warehouse, sql)
	go func() {
		tag, err := c.conn.Conn().PgConn().CopyFrom(ctx, x.feed, sql)
		x.feed.stop() // nobody must wait for a COPY that has failed
		done(tag.RowsAffected(), err)
		x.result <- err
	}()
}

// send hands bytes to the COPY. The server's reason counts when it has failed.
func (c *conn) send(chunk []byte) error {
	if c.copy.feed.give(chunk) {
		return nil
	}
	c.failed = c.w.explain(<-c.copy.result)
	c.copy = nil
	return c.failed
}

// flush ends the COPY that is under way.
func (c *conn) flush() error {
	if c.failed != nil || c.copy == nil {
		return c.failed
	}
	if err := c.send(pgcopy.Trailer); err != nil {
		return err
	}
	c.copy.feed.end()
	c.failed = c.w.explain(<-c.copy.result)
	c.copy = nil
	return c.failed
}
