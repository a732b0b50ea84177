package mariadb

import (
	"context"
	"database/sql"
	"fmt"
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
	conns  chan *wire.Conn
	opened int
	place  string
	moment time.Time
	bounds [][]string // keys at which parts begin, but for the first
}

// Copy opens a snapshot. A server gives no snapshot away to another session; so several
// begin theirs at once, and again until no commit has come between them. Where commits
// come too fast, one session must do.
func (s *Source) Copy(ctx context.Context, f source.Followed, _ string) (source.Copy, error) {
	c := &snapshot{s: s, table: f.Table, key: f.Key, conns: make(chan *wire.Conn, readers)}
	if err := c.open(ctx); err != nil {
		c.Close()
		return nil, s.explain(err)
	}
	return c, nil
}

func (c *snapshot) open(ctx context.Context) error {
	if err := c.s.row(ctx, "SELECT UTC_TIMESTAMP(6)", nil, &c.moment); err != nil {
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
	for range min(readers, len(bounds)+1) {
		conn, err := c.s.connect(ctx, c.s.reading()...)
		if err != nil {
			return err
		}
		conns = append(conns, conn)
	}
	const begin = "START TRANSACTION WITH CONSISTENT SNAPSHOT"
	done := statement.Begin(ctx, statement.Source, begin+" -- on each of "+strconv.Itoa(len(conns))+" connections")
	places, err := begun(ctx, conns, begin)
	done(0, err)
	if err != nil {
		return err
	}
	for _, p := range places[1:] {
		if p != places[0] {
			for _, conn := range conns[1:] {
				_ = conn.Close()
			}
			conns = conns[:1]
			break
		}
	}
	var list string
	file, offset, _ := strings.Cut(places[0], ":")
	if err := c.s.row(ctx, "SELECT BINLOG_GTID_POS(?, ?)", []any{file, offset}, &orEmpty{&list}); err != nil {
		return err
	}
	c.place, err = c.s.CheckPosition(list)
	return err
}

// begun begins a transaction on each connection, at one place in the log if it can be
// had, and gives the places.
func begun(ctx context.Context, conns []*wire.Conn, begin string) ([]string, error) {
	places, failures := make([]string, len(conns)), make([]error, len(conns))
	for attempt := range attempts {
		var all sync.WaitGroup
		for i, conn := range conns {
			all.Go(func() {
				defer problem.Recover(&failures[i])
				if failures[i] = conn.Exec(ctx, begin); failures[i] == nil {
					places[i], failures[i] = placeOf(ctx, conn)
				}
			})
		}
		all.Wait()
		same := true
		for i := range conns {
			if failures[i] != nil {
				return nil, failures[i]
			}
			same = same && places[i] == places[0]
		}
		if same || attempt == attempts-1 {
			return places, nil
		}
	}
	return places, nil
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
		if err := c.s.row(ctx, fmt.Sprintf("SELECT min(%s), max(%[1]s) FROM %s AS t", column(first.Name),
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
	conn, err := c.s.connect(ctx, c.s.reading()...)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
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
	query := "SELECT " + strings.Join(selected(c.table.Columns), ", ") + " FROM " + c.table.Name.Quoted() + " AS t"
	if len(conditions) > 0 {
		query += " WHERE " + strings.Join(conditions, " AND ")
	}
	var conn *wire.Conn
	select {
	case conn = <-c.conns:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { c.conns <- conn }()
	return c.s.gather(ctx, conn, query,
		newGatherer(c.table.Columns, len(c.table.Columns), c.key, c.key, sink))
}

// Close ends the transactions.
func (c *snapshot) Close() {
	for range c.opened {
		_ = (<-c.conns).Close()
	}
	c.opened = 0
}
