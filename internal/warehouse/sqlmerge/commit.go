package sqlmerge

import (
	"context"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/position"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
	"noemata/internal/warehouse"
)

// commit is one transaction of the database.
type commit struct {
	base   *Base
	conn   Conn // to the journal
	tables Conn // to targets, stages and stashes
	parts  []*part
}

// Begin starts a commit.
func (b *Base) Begin(ctx context.Context) (warehouse.Commit, error) {
	conn, err := b.Connect(ctx)
	if err != nil {
		return nil, err
	}
	c := &commit{base: b, conn: conn, tables: tablesOf(conn)}
	if _, err := conn.Exec(ctx, "BEGIN"); err != nil {
		c.Abort()
		return nil, err
	}
	return c, nil
}

// Note makes entries of the journal within the commit.
func (c *commit) Note(ctx context.Context, feed string, entries ...warehouse.Entry) error {
	return c.base.note(ctx, c.conn, feed, entries)
}

// Read reads rows as the commit has them.
func (c *commit) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	return c.tables.Read(ctx, q, sink)
}

// AddCopied adds rows of a snapshot to a copy.
func (c *commit) AddCopied(ctx context.Context, s warehouse.Stash, snapshot int64, record arrow.RecordBatch) error {
	numbers := array.NewInt64Builder(memory.DefaultAllocator)
	defer numbers.Release()
	for range record.NumRows() {
		numbers.Append(snapshot)
	}
	column := numbers.NewArray()
	defer column.Release()
	columns := stash.CopiedColumns(s.Columns)
	tagged := array.NewRecordBatch(schema.Arrow(columns), append(append([]arrow.Array{}, record.Columns()...), column),
		record.NumRows())
	defer tagged.Release()
	return c.addTo(ctx, copiedTable(s.Feed, s.Table), columns, tagged)
}

// AddWaiting adds changes that wait for a copy.
func (c *commit) AddWaiting(ctx context.Context, s warehouse.Stash, record arrow.RecordBatch) error {
	return c.addTo(ctx, waitingTable(s.Feed, s.Table), stash.Columns(s.Columns), record)
}

func (c *commit) addTo(ctx context.Context, name schema.Name, columns []schema.Column, record arrow.RecordBatch) error {
	if err := bring(ctx, c.conn, name, NoRows); err != nil {
		return err
	}
	return c.tables.Insert(ctx, name.Quoted(), columns, record, nil)
}

// Move advances a position by compare-and-set. In a server it makes a second worker wait.
func (c *commit) Move(ctx context.Context, feed, table string, from warehouse.Checkpoint, to position.Position,
	run int64) (warehouse.Checkpoint, error) {
	sql, args := moveSQL, []any{feed, table, stored(to), run, from.Version}
	if from.Version == 0 {
		sql, args = enterSQL, args[:4]
	}
	n, err := c.conn.Exec(ctx, sql, args...)
	// A place that another transaction entered meanwhile is a duplicate key to this one.
	if (err == nil && n != 1) || (err != nil && strings.Contains(err.Error(), "Duplicate key")) {
		if table == "" {
			table = "the feed " + feed
		}
		return warehouse.Checkpoint{}, warehouse.Overtaken(table)
	}
	return warehouse.Checkpoint{Table: table, Position: to, Version: from.Version + 1, Run: run, MovedAt: time.Now()},
		err
}

// Finish makes everything visible.
func (c *commit) Finish(ctx context.Context) error {
	if c.base.SQL.DropStage {
		for _, p := range c.parts {
			if p.staged {
				if _, err := c.tables.Exec(ctx, "DROP TABLE "+p.stage); err != nil {
					return err
				}
			}
		}
	}
	if _, err := c.conn.Exec(ctx, "COMMIT"); err != nil {
		return err
	}
	for _, p := range c.parts {
		if keys := c.base.SQL.Keys(p.load.Target); len(keys) > 0 {
			c.base.keyed.Store(strings.Join(keys, ";"), true)
		}
	}
	c.Abort()
	return nil
}

// Abort leaves everything as it was. After Finish it does nothing.
func (c *commit) Abort() {
	if c.conn != nil {
		c.conn.Close()
		c.conn = nil
	}
}
