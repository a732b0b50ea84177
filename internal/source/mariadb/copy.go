package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// A part of a copy has about so many rows. Parts are read on so many connections at once.
const (
	partRows = 200_000
	readers  = 2
)

// attempts is how often several connections try to begin at one place in the log.
const attempts = 300

// snapshot is a copy of a table that is held open: transactions that show one and the same
// state, which is that at a place in the log.
type snapshot struct {
	s      *Source
	table  schema.Table
	key    []string // names its rows in the warehouse
	only   *source.Filter
	conns  chan *wire.Conn
	ends   []func() // of the connections that are open
	opened int
	place  string
	moment time.Time
	bounds [][]string // keys at which parts begin, but for the first
}

// Copy opens a snapshot. A server gives no snapshot away to another session; so several
// begin theirs at once, and again until no commit has come between them. Where commits
// come too fast, one session must do.
func (s *Source) Copy(ctx context.Context, f source.Followed, _ string) (source.Copy, error) {
	c := &snapshot{s: s, table: f.Table, key: f.Key, only: f.Only, conns: make(chan *wire.Conn, readers)}
	if err := c.open(ctx); err != nil {
		c.Close()
		return nil, s.Explain(err)
	}
	return c, nil
}

func (c *snapshot) open(ctx context.Context) error {
	if err := c.s.Row(ctx, "SELECT UTC_TIMESTAMP(6)", nil, &c.moment); err != nil {
		return err
	}
	bounds, err := c.parts(ctx)
	if err != nil {
		return err
	}
	c.bounds = bounds
	var conns []*wire.Conn
	defer func() {
		for _, conn := range conns {
			c.conns <- conn
		}
		c.opened = len(conns)
	}()
	for i := range min(readers, len(bounds)+1) {
		connect := c.s.connectToRead
		if i > 0 { // two copies that wait for each other's connections would wait for ever
			connect = c.s.connectIfFree
		}
		conn, end, err := connect(ctx)
		if err != nil {
			return err
		}
		if conn != nil {
			conns, c.ends = append(conns, conn), append(c.ends, end)
		}
	}
	n, at, err := c.s.server.Log.Snapshots(ctx, c.s, c.table, conns)
	if err != nil {
		return err
	}
	for _, end := range c.ends[n:] {
		end()
	}
	conns, c.ends = conns[:n], c.ends[:n]
	c.place, err = c.s.CheckPosition(at)
	return err
}

const beginSnapshot = "START TRANSACTION WITH CONSISTENT SNAPSHOT"

// BeginSnapshots begins a transaction with a snapshot on each connection, all at about the same time.
// then may ask more of each.
func BeginSnapshots(ctx context.Context, conns []*wire.Conn, then func(i int, c *wire.Conn) error) error {
	failures := make([]error, len(conns))
	var all sync.WaitGroup
	for i, conn := range conns {
		all.Go(func() {
			defer problem.Recover(&failures[i])
			if failures[i] = conn.Exec(ctx, beginSnapshot); failures[i] == nil && then != nil {
				failures[i] = then(i, conn)
			}
		})
	}
	all.Wait()
	return errors.Join(failures...)
}

// Snapshots says, for the run's log, that they are begun.
func Snapshots(conns []*wire.Conn) string {
	return fmt.Sprintf("%s -- on each of %d connections", beginSnapshot, len(conns))
}

// snapshots begins transactions at one place in MariaDB's log: all of them, or where commits come
// too fast, one.
func snapshots(ctx context.Context, s *Source, _ schema.Table, conns []*wire.Conn) (n int, at string, err error) {
	done := statement.Begin(ctx, statement.Source, Snapshots(conns))
	places := make([]string, len(conns))
	n = 1
	for range attempts {
		if err = BeginSnapshots(ctx, conns, func(i int, c *wire.Conn) (err error) {
			places[i], err = placeOf(ctx, c)
			return err
		}); err != nil {
			break
		}
		if !slices.ContainsFunc(places, func(p string) bool { return p != places[0] }) {
			n = len(conns)
			break
		}
	}
	done(0, err)
	if err != nil {
		return 0, "", err
	}
	file, offset, _ := strings.Cut(places[0], ":")
	err = s.Row(ctx, "SELECT BINLOG_GTID_POS(?, ?)", []any{file, offset}, &orEmpty{&at})
	return n, at, err
}

// placeOf asks where in the log a session's snapshot is.
func placeOf(ctx context.Context, conn *wire.Conn) (string, error) {
	var file, offset string
	err := conn.Query(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'", func(r wire.Row) error {
		name, _ := r.Value(0)
		value, _ := r.Value(1)
		switch strings.ToLower(string(name)) {
		case "binlog_snapshot_file":
			file = string(value)
		case "binlog_snapshot_position":
			offset = string(value)
		}
		return nil
	})
	if err == nil && file == "" {
		err = problem.New(problem.Held, "The server does not tell where in its binary log a snapshot is.",
			"Set log_bin = ON in the server's configuration, and restart it.")
	}
	return file + ":" + offset, err
}

// parts finds keys that cut the table into parts: evenly between the lowest and the highest
// where the key begins with a whole number, else by walking along it.
func (c *snapshot) parts(ctx context.Context) (bounds [][]string, err error) {
	t := c.table
	if len(t.Key) == 0 || t.Rows < 2*partRows {
		return nil, nil
	}
	first, _ := t.Column(t.Key[0])
	switch first.Type.Kind {
	case schema.Int16, schema.Int32, schema.Int64:
		var low, high sql.NullInt64
		if err := c.s.Row(ctx, fmt.Sprintf("SELECT min(%s), max(%[1]s) FROM %s AS t", column(first.Name),
			t.Name.Quoted()), nil, &low, &high); err != nil || !low.Valid {
			return nil, err
		}
		n := t.Rows / partRows
		width := (uint64(high.Int64)-uint64(low.Int64))/uint64(n) + 1
		for i := int64(1); i < n && uint64(i)*width < uint64(high.Int64)-uint64(low.Int64); i++ {
			bounds = append(bounds, []string{strconv.FormatInt(low.Int64+i*int64(width), 10)})
		}
		return bounds, nil
	}
	columns := make([]schema.Column, len(t.Key))
	var list []string
	for i, k := range t.Key {
		columns[i], _ = t.Column(k)
		list = append(list, expression(columns[i], column(k)))
	}
	conn, end, err := c.s.connectToRead(ctx)
	if err != nil {
		return nil, err
	}
	defer end()
	for {
		condition := ""
		if len(bounds) > 0 {
			condition = " WHERE " + after(grammar.Key(t, bounds[len(bounds)-1]))
		}
		var key []string
		if err := conn.Query(ctx, fmt.Sprintf("SELECT %s FROM %s AS t%s ORDER BY %s LIMIT 1 OFFSET %d",
			strings.Join(list, ", "), t.Name.Quoted(), condition, schema.QuoteAll("t.",
				t.Key), partRows), func(r wire.Row) error {
			for i, k := range columns {
				v, _ := r.Value(i)
				key = append(key, plainText(k, codecOf(k, nil), v))
			}
			return nil
		}); err != nil || key == nil {
			return bounds, err
		}
		bounds = append(bounds, key)
	}
}

// Snapshot is the place in the log that the copy shows, and Passed the same.
func (c *snapshot) Snapshot() string { return c.place }

// Passed is the place up to which the log holds what the copy shows.
func (c *snapshot) Passed() string { return c.place }

// Moment is when the snapshot was about to be taken.
func (c *snapshot) Moment() time.Time { return c.moment }

// Parts is how many there are.
func (c *snapshot) Parts() int { return len(c.bounds) + 1 }

// Layout differs each time: the server cannot tell which rows were written since an earlier
// snapshot, so a copy that was interrupted begins anew.
func (c *snapshot) Layout() string { return c.place + " at " + c.moment.Format(time.RFC3339Nano) }

// Read reads one part.
func (c *snapshot) Read(ctx context.Context, part int, _ string, sink func(rows.Batch) error) error {
	var conditions []string
	bound := func(i int) string {
		if len(c.bounds[i]) < len(c.table.Key) { // of the first column of the key alone
			return column(c.table.Key[0]) + " > " + c.bounds[i][0]
		}
		return after(grammar.Key(c.table, c.bounds[i]))
	}
	if part > 0 {
		conditions = append(conditions, bound(part-1))
	}
	if part < len(c.bounds) {
		conditions = append(conditions, "NOT ("+bound(part)+")")
	}
	from, left := c.table.Name.Quoted()+" AS t", ""
	query := "SELECT " + strings.Join(selected(c.table.Columns), ", ") + " FROM " + from +
		source.Where(slices.Concat(conditions, grammar.Meets(c.only)))
	if c.only != nil {
		left = grammar.LeftOut(from, *c.only, conditions)
	}
	var conn *wire.Conn
	select {
	case conn = <-c.conns:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { c.conns <- conn }()
	return c.s.gather(ctx, conn, query, left,
		newGatherer(c.table.Columns, len(c.table.Columns), c.key, c.key, sink))
}

// Close ends the transactions.
func (c *snapshot) Close() {
	for range c.opened { // whoever reads has them
		<-c.conns
	}
	for _, end := range c.ends {
		end()
	}
	c.opened, c.ends = 0, nil
}
