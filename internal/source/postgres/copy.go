package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/core/change"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/source"
	"noemata/internal/statement"
)

// partBlocks is how many blocks of 8 kB one part of a copy has.
const partBlocks = 8192

// copyOf is a snapshot of a table: a transaction that exports it and holds the table's
// mildest lock, so that row addresses stay as they are.
type copyOf struct {
	s        *Source
	conn     *pgxpool.Conn
	table    schema.Table
	key      []string // names its rows in the warehouse
	only     *source.Filter
	exported string
	snapshot string
	passed   string
	moment   time.Time
	layout   []relation
	parts    []part
}

// relation is a table that holds rows: the table itself, or a partition of it.
type relation struct {
	Name   string `json:"name"`
	File   int64  `json:"file"` // changes when the rows are moved
	Blocks int64  `json:"blocks"`
}

// part is a range of blocks of a relation; the last one of it has no end.
type part struct {
	relation string
	from, to int64
}

// Copy opens a snapshot in which all parts of a copy are read.
func (s *Source) Copy(ctx context.Context, f source.Followed, layout string) (source.Copy, error) {
	conn, err := s.copies.Acquire(ctx)
	if err != nil {
		return nil, s.explain(err)
	}
	c := &copyOf{s: s, conn: conn, table: f.Table, key: f.Key, only: f.Only}
	if err := c.open(ctx, layout); err != nil {
		c.Close()
		return nil, s.explain(err)
	}
	return c, nil
}

func (c *copyOf) open(ctx context.Context, layout string) error {
	for _, sql := range []string{
		"BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY",
		"SET LOCAL idle_in_transaction_session_timeout = 0",
		// Before the snapshot: what it shows is at the addresses that are read.
		"LOCK TABLE " + c.name() + " IN ACCESS SHARE MODE",
	} {
		done := statement.Begin(ctx, statement.Source, sql)
		_, err := c.conn.Exec(ctx, sql)
		done(0, err)
		if err != nil {
			return err
		}
	}
	// The end of the log after the snapshot: all that the snapshot shows lies before it.
	if err := c.row(ctx, "SELECT pg_export_snapshot(), pg_current_snapshot()::text, clock_timestamp()", nil,
		&c.exported, &c.snapshot, &c.moment); err != nil {
		return err
	}
	if err := c.row(ctx, "SELECT pg_current_wal_insert_lsn()::text", nil, &c.passed); err != nil {
		return err
	}
	var err error
	if c.passed, err = c.s.CheckPosition(c.passed); err != nil {
		return err
	}
	var found []byte
	if err := c.row(ctx, `SELECT coalesce(json_agg(json_build_object('name', quote_ident(n.nspname) || '.' || quote_ident(r.relname), 'file', pg_relation_filenode(r.oid)::int8, 'blocks', pg_relation_size(r.oid) / 8192) ORDER BY r.oid), '[]')
FROM pg_class r JOIN pg_namespace n ON n.oid = r.relnamespace
WHERE r.relkind = 'r' AND r.oid IN (SELECT $1::regclass::oid UNION SELECT relid FROM pg_partition_tree($1::regclass) WHERE isleaf)
  AND (r.oid = $1::regclass OR has_table_privilege(r.oid, 'SELECT'))`, []any{c.table.Name.Quoted()}, &found); err != nil {
		return err
	}
	var now, before []relation
	if err := json.Unmarshal(found, &now); err != nil {
		return err
	}
	c.layout = now
	if layout != "" && json.Unmarshal([]byte(layout), &before) == nil && sameFiles(now, before) {
		c.layout = before
	}
	for _, r := range c.layout {
		for from := int64(0); ; from += partBlocks {
			c.parts = append(c.parts, part{r.Name, from, from + partBlocks})
			if from+partBlocks >= r.Blocks {
				c.parts[len(c.parts)-1].to = 0
				break
			}
		}
	}
	return c.complete(ctx)
}

// complete reads the table by its own name where a partition may not be read by itself.
func (c *copyOf) complete(ctx context.Context) error {
	if !c.table.Partitioned {
		return nil
	}
	var leaves int
	if err := c.row(ctx, "SELECT count(*) FROM pg_partition_tree($1::regclass) WHERE isleaf",
		[]any{c.table.Name.Quoted()}, &leaves); err != nil {
		return err
	}
	if leaves != len(c.layout) {
		c.layout, c.parts = nil, []part{{relation: ""}}
	}
	return nil
}

func sameFiles(a, b []relation) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Name != b[i].Name || a[i].File != b[i].File {
			return false
		}
	}
	return true
}

func (c *copyOf) row(ctx context.Context, sql string, args []any, into ...any) error {
	done := statement.Begin(ctx, statement.Source, shown(sql, args))
	err := c.conn.QueryRow(ctx, sql, args...).Scan(into...)
	done(1, err)
	return err
}

func (c *copyOf) name() string {
	if c.table.Partitioned {
		return c.table.Name.Quoted()
	}
	return "ONLY " + c.table.Name.Quoted()
}

func (c *copyOf) Snapshot() string  { return c.snapshot }
func (c *copyOf) Passed() string    { return c.passed }
func (c *copyOf) Moment() time.Time { return c.moment }
func (c *copyOf) Parts() int        { return len(c.parts) }

func (c *copyOf) Layout() string {
	text, _ := json.Marshal(c.layout) // plain values always marshal
	return string(text)
}

// Read copies one part, on a connection of its own that takes up the snapshot. Rows
// written since an earlier snapshot are told by the transaction in xmin, which may be
// one that ended long ago: such rows are read for nothing, and do no harm.
func (c *copyOf) Read(ctx context.Context, n int, since string, sink func(rows.Batch) error) error {
	p := c.parts[n]
	list := make([]string, len(c.table.Columns))
	for i, column := range c.table.Columns {
		list[i] = pgcopy.Expression(column)
	}
	var conditions []string
	from := c.name()
	if p.relation != "" {
		from = "ONLY " + p.relation
		conditions = append(conditions, fmt.Sprintf("ctid >= '(%d,0)'::tid", p.from))
		if p.to > 0 {
			conditions = append(conditions, fmt.Sprintf("ctid < '(%d,0)'::tid", p.to))
		}
	}
	if since != "" {
		earlier, err := parseSnapshot(since)
		if err != nil {
			return err
		}
		conditions = append(conditions,
			fmt.Sprintf("((xmin::text::int8 - %d) & 4294967295) < 2147483648", uint32(earlier.min)))
	}
	from += " AS t"
	sql := "COPY (SELECT " + strings.Join(list, ", ") + " FROM " + from +
		source.Where(slices.Concat(conditions, grammar.Meets(c.only))) + ") TO STDOUT (FORMAT binary)"
	reader := pgcopy.NewReader(c.table.Columns, len(c.table.Columns), c.key, c.key, sink)
	err := c.s.pool.AcquireFunc(ctx, func(conn *pgxpool.Conn) error {
		if _, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
			return err
		}
		defer func() {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			_, _ = conn.Exec(ctx, "ROLLBACK")
		}()
		if _, err := conn.Exec(ctx, "SET TRANSACTION SNAPSHOT "+schema.Literal(c.exported)); err != nil {
			return err
		}
		done := statement.Begin(ctx, statement.Source, sql)
		_, err := conn.Conn().PgConn().CopyTo(ctx, reader, sql)
		done(reader.Total, err)
		if c.only != nil && err == nil {
			reader.Left, err = leftOut(ctx, conn.Conn(), grammar.LeftOut(from, *c.only, conditions))
		}
		return err
	})
	if err != nil {
		return c.s.explain(err)
	}
	return reader.End()
}

func (c *copyOf) Close() {
	if c.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, _ = c.conn.Exec(ctx, "ROLLBACK")
		c.conn.Release()
		c.conn = nil
	}
}

// snapshot is what pg_current_snapshot tells: transactions below min are seen, those
// from max on are not, and of those between, the open ones are not.
type snapshot struct {
	min, max uint64
	open     map[uint64]bool
}

func parseSnapshot(text string) (snapshot, error) {
	parts := strings.Split(text, ":")
	if len(parts) != 3 {
		return snapshot{}, fmt.Errorf("%q is not a snapshot", text)
	}
	low, err1 := strconv.ParseUint(parts[0], 10, 64)
	high, err2 := strconv.ParseUint(parts[1], 10, 64)
	if err1 != nil || err2 != nil {
		return snapshot{}, fmt.Errorf("%q is not a snapshot", text)
	}
	s := snapshot{min: low, max: high, open: map[uint64]bool{}}
	for id := range strings.SplitSeq(parts[2], ",") {
		if n, err := strconv.ParseUint(id, 10, 64); err == nil {
			s.open[n] = true
		}
	}
	return s, nil
}

// sees tells whether the snapshot shows what a transaction did. The log has the lower 32
// bits of its number; the rest are those of the snapshot, or beside them.
func (s snapshot) sees(id uint32) bool {
	full := s.max&^0xffffffff | uint64(id)
	switch {
	case full > s.max && full-s.max > 1<<31 && full >= 1<<32:
		full -= 1 << 32
	case full < s.max && s.max-full > 1<<31:
		full += 1 << 32
	}
	return full < s.max && !s.open[full]
}

// Sees tells whether a snapshot shows what a transaction did.
func (s *Source) Sees(text string, t change.Txn) bool {
	known, ok := s.snapshots.Load(text)
	if !ok {
		parsed, err := parseSnapshot(text)
		if err != nil {
			return false
		}
		s.snapshots.Store(text, parsed)
		known = parsed
	}
	return known.(snapshot).sees(t.ID)
}
