package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"noemata/internal/connection"
	"noemata/internal/core/change"
	"noemata/internal/core/drift"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/pgdial"
	"noemata/internal/source"
	"noemata/internal/statement"
)

// format is the part of session that fixes the text form of values.
var format = session[5:]

// reportEvery is how often the server is told how far we are; it ends connections that
// are silent for wal_sender_timeout, a minute unless set otherwise.
const reportEvery = 5 * time.Second

// stream reads what the output plugin pgoutput sends, protocol version 1 (PostgreSQL,
// Logical Replication Message Formats).
type stream struct {
	s         *Source
	follow    source.Follow
	conn      net.Conn
	frontend  *pgproto3.Frontend
	stop      func() bool
	relations map[uint32]*described
	tables    []*followed

	source.Gathering
	at       lsn       // up to here all is gathered
	deadline time.Time // of reads

	confirmed atomic.Uint64
	reported  uint64
	reportAt  time.Time
	heard     time.Time // when something came last
	asked     bool      // the server was asked to say something since
}

// followed is a table whose changes are gathered.
type followed struct {
	*source.Changes
	types  []uint32 // of the columns, by the catalogue
	names  []string // the columns that name old rows, by the catalogue
	values []pgcopy.Value
}

// described is a table as the log describes it from here on.
type described struct {
	table   *followed
	columns []int // by the log's column: its place in the table, -1 where it is not wanted
	unfit   error // why its rows do not fit the table as it is known
	lacks   []int // columns of the table that the log does not tell of yet
}

// Follow starts to read the log.
func (s *Source) Follow(ctx context.Context, f source.Follow) (source.Stream, error) {
	from, err := parseLSN(f.From)
	if err != nil {
		return nil, err
	}
	x := &stream{s: s, follow: f, relations: map[uint32]*described{}, Gathering: source.NewGathering(f.Clock), at: from}
	binaryForm := true
	identities, err := s.identities(ctx, f.Tables)
	if err != nil {
		return nil, err
	}
	for _, t := range f.Tables {
		g := &followed{Changes: x.Table(t)}
		for _, c := range t.Table.Columns {
			g.values = append(g.values, pgcopy.ValueOf(c))
			binaryForm = binaryForm && c.Wire != ""
		}
		if err := s.Row(ctx, `SELECT array(SELECT coalesce((SELECT a.atttypid FROM pg_attribute a WHERE a.attrelid `+
			`= $1::regclass AND a.attname = n AND NOT a.attisdropped), 0)::int8 FROM unnest($2::text[]) WITH `+
			`ORDINALITY AS l(n, i) ORDER BY i)`,
			[]any{t.Table.Name.Quoted(), t.Table.ColumnNames()}, &g.types); err != nil {
			return nil, err
		}
		g.names = identities[t.Table.Name].columns
		x.tables = append(x.tables, g)
	}
	sql := fmt.Sprintf(`START_REPLICATION SLOT %s LOGICAL %X/%X (proto_version '1', publication_names %s, binary '%t')`,
		schema.Quote(f.Name), uint32(from>>32), uint32(from), schema.Literal(schema.Quote(f.Name)), binaryForm)
	done := statement.Begin(ctx, statement.Source, sql)
	err = x.start(ctx, sql)
	// The server may still be busy with the connection that the run before this one has closed.
	for began := time.Now(); isInUse(err) && time.Since(began) < slotPatience; {
		select {
		case <-ctx.Done():
			err = ctx.Err()
		case <-time.After(100 * time.Millisecond):
			err = x.start(ctx, sql)
		}
	}
	done(0, err)
	if err != nil {
		x.Release()
		return nil, s.explainLog(err, f.Name)
	}
	return x, nil
}

// slotPatience is how long a slot is waited for that another connection uses.
const slotPatience = 5 * time.Second

func isInUse(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "55006" // object_in_use
}

func (s *Source) explainLog(err error, name string) error {
	var server *pgconn.PgError
	if errors.As(err, &server) {
		switch {
		case isInUse(err):
			return problem.Wrap(err, problem.Overtaken,
				fmt.Sprintf("The replication slot %s of %s is in use: another worker reads the log of this feed.", name,
					s.what), "Nothing was lost; the next run tries again. If no other service runs this feed, look "+
					"for the slot's active_pid in pg_replication_slots.")
		case server.Code == "55000" || strings.Contains(server.Message, "requested WAL segment"):
			return lostSlot(fmt.Sprintf("The log of %s cannot be read from where the feed stands: %s.", s.what,
				server.Message))
		case server.Code == "XX000" && strings.Contains(server.Message, "could not map filenode"):
			return lostSlot(fmt.Sprintf("The server of %s cannot decode its own log: %s. That happens where a slot "+
				"was made while a transaction that truncates was open.", s.what, server.Message))
		case server.Code == "42704" && strings.Contains(server.Message, "publication"):
			return problem.Wrap(err, problem.Held,
				fmt.Sprintf("The publication %s of %s was dropped while the log was read: %s.", name, s.what,
					server.Message), "Copy the feed's tables again: noemata feeds copy FEED. A history keeps its past.")
		}
	}
	return s.explain(err)
}

func (x *stream) start(ctx context.Context, sql string) error {
	conn, err := pgdial.Replicate(ctx, x.s.settings, application, format)
	if err != nil {
		return err
	}
	hijacked, err := conn.Hijack()
	if err != nil {
		return err
	}
	x.conn, x.frontend = hijacked.Conn, hijacked.Frontend
	x.stop = context.AfterFunc(ctx, func() { _ = x.conn.SetReadDeadline(time.Now()) })
	x.frontend.Send(&pgproto3.Query{String: sql})
	if err := x.frontend.Flush(); err != nil {
		x.hangUp()
		return err
	}
	for {
		message, err := x.frontend.Receive()
		if err != nil {
			x.hangUp()
			return err
		}
		switch m := message.(type) {
		case *pgproto3.CopyBothResponse:
			x.reportAt, x.heard = time.Now(), time.Now()
			return x.conn.SetReadDeadline(x.reportAt) // so that the first read sets a new one
		case *pgproto3.ErrorResponse:
			x.hangUp()
			return pgconn.ErrorResponseToPgError(m)
		}
	}
}

// Close ends the connection.
func (x *stream) Close() {
	x.hangUp()
	x.Release()
}

func (x *stream) hangUp() {
	x.stop()
	_ = x.conn.Close()
}

// Confirm is safe to call beside Next.
func (x *stream) Confirm(position string) {
	if l, err := parseLSN(position); err == nil {
		x.confirmed.Store(uint64(l))
	}
}

// Next reads to the end of a transaction.
func (x *stream) Next(ctx context.Context, deadline time.Time) (source.Progress, error) {
	for {
		if err := x.report(false); err != nil {
			return source.Progress{}, x.s.explain(err)
		}
		message, err := x.frontend.Receive()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			if ctx.Err() != nil {
				return source.Progress{}, ctx.Err()
			}
			now := time.Now()
			if err := x.listen(now); err != nil {
				return source.Progress{}, x.s.explain(err)
			}
			if !now.Before(deadline) {
				return x.Progress(x.at.String(), true), nil
			}
			x.deadline = earlier(deadline, now.Add(250*time.Millisecond))
			if err := x.conn.SetReadDeadline(x.deadline); err != nil {
				return source.Progress{}, x.s.explain(err)
			}
			if ctx.Err() != nil { // it may have been set in between
				return source.Progress{}, ctx.Err()
			}
			continue
		}
		if err != nil {
			if ctx.Err() != nil {
				err = ctx.Err()
			}
			return source.Progress{}, x.s.explain(err)
		}
		x.heard, x.asked = time.Now(), false
		ended, err := x.handle(message)
		if err != nil {
			return source.Progress{}, x.s.explainLog(err, x.follow.Name)
		}
		if ended || x.Bytes >= x.follow.MaxBytes {
			return x.Progress(x.at.String(), false), nil
		}
	}
}

// A server that has said nothing for a while is asked to; when it stays silent it is gone.
const (
	askAfter  = 20 * time.Second
	goneAfter = time.Minute
)

// listen makes sure that the server is there while nothing comes from it.
func (x *stream) listen(now time.Time) error {
	switch quiet := now.Sub(x.heard); {
	case quiet > goneAfter:
		return &connection.SilentError{Silence: goneAfter}
	case quiet > askAfter && !x.asked:
		x.asked = true
		return x.send(1)
	}
	return nil
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// Beat reports how far we are.
func (x *stream) Beat() error { return x.s.explain(x.report(true)) }

// report tells the server what is confirmed, when it has changed or some time has passed.
func (x *stream) report(now bool) error {
	confirmed := x.confirmed.Load()
	if !now && confirmed == x.reported && time.Since(x.reportAt) < reportEvery {
		return nil
	}
	return x.send(0)
}

// send reports; ask 1 has the server answer at once (Standby status update).
func (x *stream) send(ask byte) error {
	x.reported, x.reportAt = x.confirmed.Load(), time.Now()
	b := []byte{'r'}
	for range 3 { // written, flushed, applied: all mean that the warehouse has it
		b = binary.BigEndian.AppendUint64(b, x.reported)
	}
	b = binary.BigEndian.AppendUint64(b, uint64(time.Since(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).Microseconds()))
	x.frontend.Send(&pgproto3.CopyData{Data: append(b, ask)})
	return x.frontend.Flush()
}

// handle takes one message in; ended tells that a transaction has ended, or that the
// position has moved on between two.
func (x *stream) handle(message pgproto3.BackendMessage) (ended bool, err error) {
	switch m := message.(type) {
	case *pgproto3.CopyData:
		if len(m.Data) == 0 || len(m.Data) < map[byte]int{'k': 18, 'w': 25}[m.Data[0]] {
			return false, fmt.Errorf("a message of the log is shorter than its kind needs: %d bytes", len(m.Data))
		}
		switch m.Data[0] {
		case 'k': // keepalive: the end of the log that was read, the time, whether to answer
			end := lsn(binary.BigEndian.Uint64(m.Data[1:]))
			if m.Data[17] == 1 {
				if err := x.report(true); err != nil {
					return false, err
				}
			}
			if !x.Open() && end > x.at {
				x.at = end
				return true, nil
			}
		case 'w': // data: two positions, the time, the message
			return x.take(m.Data[25:])
		}
	case *pgproto3.ErrorResponse:
		return false, pgconn.ErrorResponseToPgError(m)
	case *pgproto3.CopyDone, *pgproto3.CommandComplete, *pgproto3.ReadyForQuery:
		return false, problem.Newf(problem.Unreachable, "The next run goes on where this one ended.",
			"The server of %s has ended the stream of changes; it is shutting down.", x.s.what)
	}
	return false, nil
}

// take reads one message of the plugin. What the server sends is checked as it is read; if
// something was forgotten, the run ends, and not the process.
func (x *stream) take(data []byte) (ended bool, err error) {
	defer problem.Recover(&err)
	return x.message(data)
}

func (x *stream) message(data []byte) (ended bool, err error) {
	if len(data) == 0 {
		return false, errors.New("a message of the log is empty")
	}
	r := reader{data: data[1:]}
	switch data[0] {
	case 'B':
		at, committed, id := lsn(r.uint64()), int64(r.uint64()), r.uint32()
		x.BeginTxn(at.String(), id, committed+epochMicros)
	case 'C':
		r.skip(1 + 8)
		x.at = lsn(r.uint64())
		x.EndTxn()
		return true, r.err
	case 'R':
		return false, x.relation(&r)
	case 'I', 'U', 'D':
		x.Bytes += int64(len(data)) + 64
		return false, x.change(data[0], &r)
	case 'T':
		x.Bytes += 64
		return false, x.truncate(&r)
	}
	return false, r.err // origins, types and messages tell nothing that is needed
}

// epochMicros is 2000-01-01 in microseconds since 1970.
const epochMicros = 946_684_800_000_000

// relation notes how a table looks from here on.
func (x *stream) relation(r *reader) error {
	id := r.uint32()
	name := schema.Name{Schema: r.text(), Table: r.text()}
	identity := r.byte()
	n := int(r.uint16())
	p := &described{}
	i := slices.IndexFunc(x.tables, func(g *followed) bool { return g.Table.Name == name })
	if i >= 0 {
		p.table = x.tables[i]
	}
	var extra, key []string
	last := -1
	for range n {
		if r.err != nil {
			return r.err
		}
		ofKey := r.byte() == 1
		column, typ := r.text(), r.uint32()
		if ofKey {
			key = append(key, column)
		}
		r.skip(4)
		place := -1
		if p.table != nil {
			place = slices.IndexFunc(p.table.Table.Columns, func(c schema.Column) bool { return c.Name == column })
			switch {
			case place < 0:
				extra = append(extra, column)
			case p.table.types[place] != typ && p.unfit == nil:
				p.unfit = source.CopyAgain(drift.Types, name,
					"The type of the column %s of %s was changed; what the log holds from before or after does not fit.", column, name)
			case place < last && p.unfit == nil:
				p.unfit = source.CopyAgain(drift.Columns, name,
					"The columns of %s stand in another order than the log has them: if names were exchanged, rows "+
						"that are not told have the wrong values under them.", name)
			}
			last = max(last, place)
		}
		p.columns = append(p.columns, place)
	}
	x.relations[id] = p
	if p.table == nil || r.err != nil {
		return r.err
	}
	for i, c := range p.table.Table.Columns {
		if slices.Contains(p.columns, i) {
			continue
		}
		if slices.Contains(p.table.Fills, c.Name) {
			p.lacks = append(p.lacks, i)
		} else if p.unfit == nil {
			p.unfit = source.CopyAgain(drift.Columns, name,
				"The log holds changes of %s from before it had the column %s, so the column's values are not known.",
				name, c.Name)
		}
	}
	slices.Sort(key)
	if was := slices.Sorted(slices.Values(p.table.names)); identity != 'f' && p.unfit == nil && p.table.names != nil &&
		!slices.Equal(key, was) {
		p.unfit = source.CopyAgain(drift.Keys, name,
			"The key of %s was changed: the log names its rows by (%s), and they are known by (%s).", name,
			strings.Join(key, ", "), strings.Join(was, ", "))
	}
	if p.table.Whole && len(extra) > 0 && p.unfit == nil {
		// A column that was dropped since, or one that was added after this run looked.
		p.unfit = x.extra(name, extra)
	}
	return nil
}

// extra tells whether columns that the log has and the table had not are there now.
func (x *stream) extra(name schema.Name, columns []string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	var added []string
	if err := x.s.Row(ctx, `SELECT array(SELECT attname::text FROM pg_attribute WHERE attrelid = to_regclass($1) `+
		`AND attname = ANY ($2) AND NOT attisdropped)`, []any{name.Quoted(), columns}, &added); err != nil {
		return err
	}
	if len(added) == 0 {
		return nil
	}
	return source.CopyAgain(drift.Columns, name, "The source's table %s has a new column %s.", name,
		strings.Join(added, ", "))
}

// cell is one value of a tuple: 'n' null, 'u' left out, 't' text, 'b' binary.
type cell struct {
	kind byte
	data []byte
}

func (p *described) tuple(r *reader) []cell {
	cells := make([]cell, len(p.table.Table.Columns))
	for i := range cells {
		cells[i].kind = 'n'
	}
	n := int(r.uint16())
	for i := range n {
		if r.err != nil {
			return cells
		}
		c := cell{kind: r.byte()}
		if c.kind == 't' || c.kind == 'b' {
			c.data = r.bytes(int(r.uint32()))
		}
		if i < len(p.columns) && p.columns[i] >= 0 {
			cells[p.columns[i]] = c
		}
	}
	return cells
}

func (x *stream) change(kind byte, r *reader) error {
	p := x.relations[r.uint32()]
	if p == nil || r.err != nil {
		return errors.New("the log has a change of a table that it has not described")
	}
	if p.table == nil {
		return nil
	}
	var old, row []cell
	whole := false
	for len(r.data) > 0 && r.err == nil {
		switch mark := r.byte(); mark {
		case 'K', 'O':
			old, whole = p.tuple(r), mark == 'O'
		case 'N':
			row = p.tuple(r)
		default:
			return fmt.Errorf("the log has a tuple of the unknown kind %q", mark)
		}
	}
	if r.err != nil {
		return r.err
	}
	if kind == 'D' && old == nil || kind != 'D' && row == nil {
		return fmt.Errorf("the log has a change of the kind %q without its row", kind)
	}
	x.Count()
	g := p.table
	for i := range row { // what the old row tells need not be looked for
		if row[i].kind == 'u' && old != nil && (whole || old[i].kind != 'n') {
			row[i] = old[i]
		}
	}
	for _, i := range p.lacks {
		if kind == 'U' { // what the row had it still has
			row[i].kind = 'u'
		}
	}
	switch {
	case kind == 'I':
		return x.add(p, change.Insert, row)
	case kind == 'D':
		return x.add(p, change.Delete, old)
	case old != nil && g.moved(old, row):
		if g.Ignores(change.Update) {
			g.Ignore()
			return nil
		}
		if err := x.add(p, change.Left, old); err != nil {
			return err
		}
		return x.add(p, change.Came, row)
	}
	return x.add(p, change.Update, row)
}

// moved tells whether an update changed the key.
func (g *followed) moved(old, row []cell) bool {
	for _, k := range g.KeyAt {
		if row[k].kind != 'u' && (old[k].kind != row[k].kind || string(old[k].data) != string(row[k].data)) {
			return true
		}
	}
	return false
}

func (x *stream) truncate(r *reader) error {
	n := int(r.uint32())
	r.skip(1)
	for range n {
		p := x.relations[r.uint32()]
		if r.err != nil {
			return r.err
		}
		if p == nil || p.table == nil {
			continue
		}
		x.Count()
		if err := x.add(p, change.Truncate, nil); err != nil {
			return err
		}
	}
	return r.err
}

// add appends a change to its table's batch.
func (x *stream) add(p *described, kind change.Kind, row []cell) error {
	g := p.table
	if g.Ignores(kind) {
		g.Ignore()
		return nil
	}
	c, err := x.Row(kind)
	if err != nil {
		return err
	}
	if p.unfit != nil || row == nil {
		g.AddBare(c, p.unfit)
		return nil
	}
	var unknown []bool
	needless := func(i int) bool { return kind.Ends() && !slices.Contains(g.KeyAt, i) } // what ends a row needs its key
	for i, v := range row {
		var reason string
		switch {
		case v.kind == 'n' && slices.Contains(g.KeyAt, i):
			reason = rows.IsNullKey
		case v.kind == 'b':
			if err := g.values[i].Fits(v.data); err != nil {
				return fmt.Errorf("the column %s of %s: %w", g.Table.Columns[i].Name, g.Table.Name, err)
			}
			if g.values[i].Check != nil {
				reason, _ = g.values[i].Check(v.data)
			}
		}
		if reason != "" && needless(i) {
			row[i].kind, reason = 'n', ""
		}
		if reason != "" {
			g.SetAside(g.aside(i, row, reason), c, 0)
			return nil
		}
	}
	for i, v := range row {
		switch v.kind {
		case 't':
			if err := g.values[i].Text(g.Fields[i], v.data); err != nil && needless(i) {
				g.Fields[i].AppendNull()
			} else if err != nil {
				g.SetAside(g.aside(i, row, err.Error()), c, i)
				return nil
			}
		case 'b':
			g.values[i].Binary(g.Fields[i], v.data) // checked above
		case 'u':
			if unknown == nil {
				unknown = make([]bool, len(row))
			}
			unknown[i] = true
			fallthrough
		default:
			g.Fields[i].AppendNull()
		}
	}
	g.Add(c, unknown)
	return nil
}

// Take hands over what was gathered.
func (x *stream) Take() source.Gathered { return x.Gathering.Take(x.at.String()) }

// reader takes a message apart; err is set when it is shorter than it says.
type reader struct {
	data []byte
	err  error
}

func (r *reader) bytes(n int) []byte {
	if n < 0 || n > len(r.data) {
		r.err = errors.New("a message of the log is shorter than it says")
		r.data = nil
		return make([]byte, max(min(n, 16), 8))
	}
	b := r.data[:n:n]
	r.data = r.data[n:]
	return b
}

func (r *reader) skip(n int)     { r.bytes(n) }
func (r *reader) byte() byte     { return r.bytes(1)[0] }
func (r *reader) uint16() uint16 { return binary.BigEndian.Uint16(r.bytes(2)) }
func (r *reader) uint32() uint32 { return binary.BigEndian.Uint32(r.bytes(4)) }
func (r *reader) uint64() uint64 { return binary.BigEndian.Uint64(r.bytes(8)) }

func (r *reader) text() string {
	end := slices.Index(r.data, 0)
	if end < 0 {
		r.err = errors.New("a text of the log has no end")
		return ""
	}
	s := string(r.data[:end])
	r.data = r.data[end+1:]
	return s
}
