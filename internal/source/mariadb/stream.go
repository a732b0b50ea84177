package mariadb

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/change"
	"noemata/internal/core/drift"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/binlog"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// heartbeat is how often the server speaks when nothing happens; when it has not spoken
// for three times as long, the connection is dead.
const heartbeat = 5 * time.Second

// stream reads the binary log.
type stream struct {
	s       *Source
	follow  source.Follow
	conn    *wire.Conn
	hangUp  func()
	decoder *binlog.Decoder
	tables  []*followed
	fold    bool // the server does not tell upper case from lower in names of tables
	maps    map[*binlog.Table]*mapped

	from   place // where the feed stands
	at     place // up to here all is gathered
	next   place // after the transaction that is open
	begun  *binlog.Begin
	beyond bool  // the log was read beyond the feed's place, where it had to be read from before it
	when   int64 // the open transaction's time, in microseconds

	prepared map[string]*prepared // by name
	filling  *prepared            // what the open transaction is gathered in, if it is prepared

	source.Gathering
	first    source.Mark            // where the open transaction begins in what is gathered
	saved    map[string]source.Mark // its savepoints
	skipping bool                   // it is known to be rolled back
	heard    time.Time
	file     filePlace
}

// filePlace is a place in the files of one server.
type filePlace struct {
	file     string
	offset   uint64
	position string
}

// prepared is a transaction that may be committed later.
type prepared struct {
	before  string // the place before it
	decoder *binlog.Decoder
	events  [][]byte
	size    int
}

// mostPrepared is how many bytes of prepared transactions are kept.
const mostPrepared = 256 << 20

// followed gathers the changes of one table.
type followed struct {
	*source.Changes
	codecs  []codec
	values  []scalar
	all     []schema.Column // of the table at the source, in their order
	primary []string        // columns of the primary key, sorted
	altered bool            // by a statement that was read, so that events without metadata are not understood
	// A table with system versioning has rows that are past in the log, too. They end before
	// the end of time. Where the columns that say so are implicit, no catalogue tells them.
	rowStart, rowEnd string
	hidden           int
	effects          []referring
	// What an insert leaves out where the log has the least: a column that got its default.
	defaults map[int]scalar
}

// mapped is a table as the log describes it, until it does so again.
type mapped struct {
	table  *followed
	places []int // by the table's column: its place in the log's
	log    []binlog.Column
	codecs []codec
	ends   int   // the place of the column that says when a version of a row ends; -1 for none
	unfit  error // why its rows do not fit the table as it is known
}

// Follow starts to read the log.
func (s *Source) Follow(ctx context.Context, f source.Follow) (source.Stream, error) {
	from, err := s.place(f.From)
	if err != nil {
		return nil, err
	}
	if err := s.server.Log.Begun(ctx, s, from.Reached); err != nil {
		return nil, err
	}
	x := &stream{s: s, follow: f, decoder: binlog.NewDecoder(), maps: map[*binlog.Table]*mapped{},
		Gathering: source.NewGathering(f.Clock), from: from, at: from, prepared: map[string]*prepared{},
		saved: map[string]source.Mark{}, heard: time.Now()}
	x.at.before = ""
	if err := s.Row(ctx, "SELECT @@global.lower_case_table_names > 0", nil, &x.fold); err != nil {
		return nil, err
	}
	for _, t := range f.Tables {
		g := &followed{Changes: x.Table(t), values: make([]scalar, len(t.Table.Columns))}
		made, err := s.created(ctx, t.Table.Name)
		if err != nil {
			return nil, err
		}
		if g.all, err = s.columns(ctx, t.Table.Name, made); err != nil {
			return nil, err
		}
		for _, c := range t.Table.Columns {
			charset, err := s.charsetOf(ctx, c)
			if err != nil {
				return nil, err
			}
			g.codecs = append(g.codecs, codecOf(c, charset))
		}
		if err := s.defaultsOf(ctx, g); err != nil {
			return nil, err
		}
		if err := s.versioning(ctx, g); err != nil {
			return nil, err
		}
		if g.primary, err = s.primaryOf(ctx, t.Table.Name); err != nil {
			return nil, err
		}
		g.primary = slices.DeleteFunc(g.primary, func(c string) bool { return c == g.rowEnd })
		slices.Sort(g.primary)
		x.tables = append(x.tables, g)
	}
	x.link()
	if x.conn, x.hangUp, err = s.dumpAfter(ctx, from); err != nil {
		x.Release()
		return nil, s.explainLog(ctx, err, f.From)
	}
	return x, nil
}

// dumpAfter has the server send its log from a place on.
func (s *Source) dumpAfter(ctx context.Context, from place) (*wire.Conn, func(), error) {
	request, err := s.server.Log.From(from.start())
	if err != nil {
		return nil, nil, err
	}
	return s.Dump(ctx, request)
}

// Dump has the server send its log, until the context ends or the caller hangs up. It is one more
// of the server's replicas, under a number that none has.
func (s *Source) Dump(ctx context.Context, request wire.Dump) (*wire.Conn, func(), error) {
	conn, err := s.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	hangUp := func() {
		stop()
		_ = conn.Close()
	}
	request.Server, request.Heartbeat = 1<<31+rand.Uint32N(1<<31), heartbeat
	done := statement.Begin(ctx, statement.Source, "-- the binary log "+request.String())
	err = conn.Follow(ctx, request)
	done(0, err)
	if err != nil {
		hangUp()
		return nil, nil, err
	}
	return conn, hangUp, nil
}

// explainLog is explain of what goes wrong while the log is read.
func (s *Source) explainLog(ctx context.Context, err error, from string) error {
	switch number, said := serverError(err); {
	case number == errLog:
		return s.LostLog(fmt.Sprintf("The binary log of %s cannot be read from %s on: %s.", s.what, from, said))
	case number == errNoPrivilege:
		return problem.Wrap(err, problem.NoPrivilege,
			fmt.Sprintf("User %q of %s may not read the binary log: %s.", s.settings.User, s.what, said), s.grant(ctx,
				"REPLICATION SLAVE", "*.*"))
	case errors.Is(err, binlog.ErrNoNumber):
		return problem.Wrap(err, problem.Held,
			fmt.Sprintf("The binary log of %s has transactions without a global id, or with a tag, which positions "+
				"cannot name.", s.what),
			"Let gtid_mode be ON and gtid_next AUTOMATIC, without a tag; then copy the feed's tables again: "+
				"noemata feeds copy FEED.")
	case errors.Is(err, wire.ErrEnd):
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("The server of %s has ended its binary log; it is shutting down.", s.what),
			"The next run goes on where this one ended.")
	}
	return s.Explain(err)
}

// LostLog says that changes are gone.
func (s *Source) LostLog(what string) error {
	return problem.New(problem.Held, what,
		"Copy the feed's tables again: noemata feeds copy FEED. A history keeps its past. To keep the log for "+
			"longer: "+s.server.Log.Keep+".")
}

// Close ends the connection.
func (x *stream) Close() {
	x.hangUp()
	x.Release()
}

// Confirm notes how far the warehouse is. The server keeps its log whether it is or not.
func (x *stream) Confirm(position string) {
	if known, ok := x.s.places.Load(x.follow.Name); ok {
		for _, p := range known.([]filePlace) {
			if p.position == position {
				x.s.places.Store(x.follow.Name, []filePlace{p})
			}
		}
	}
}

// Beat does nothing: the server wants no answer.
func (x *stream) Beat() error { return nil }

// Next reads to the end of a transaction.
func (x *stream) Next(ctx context.Context, deadline time.Time) (source.Progress, error) {
	for {
		if err := x.conn.Await(deadline); errors.Is(err, os.ErrDeadlineExceeded) {
			if ctx.Err() != nil {
				return source.Progress{}, ctx.Err()
			}
			if time.Since(x.heard) > 3*heartbeat {
				return source.Progress{},
					x.s.Explain(fmt.Errorf("unexpected EOF: the server has been silent for %v", 3*heartbeat))
			}
			return x.Progress(x.position().String(), true), nil
		} else if err != nil {
			return source.Progress{}, x.failed(ctx, err)
		}
		event, err := x.conn.Event()
		if err != nil {
			return source.Progress{}, x.failed(ctx, err)
		}
		ended, err := x.take(event)
		if err != nil {
			return source.Progress{}, x.failed(ctx, err)
		}
		if ended || x.Bytes >= x.follow.MaxBytes {
			return x.Progress(x.position().String(), false), nil
		}
	}
}

func (x *stream) failed(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return x.s.explainLog(ctx, err, x.follow.From)
}

// position is what has been gathered, with the place of the first prepared transaction.
func (x *stream) position() place {
	p := x.at
	if x.from.before != "" && !x.beyond {
		return x.from
	}
	first := uint64(0)
	for _, t := range x.prepared {
		before, _ := x.s.place(t.before)
		if n := before.Sum(); p.before == "" || n < first {
			p.before, first = t.before, n
		}
	}
	return p
}

// take takes in one event; ended tells that a transaction has ended. What the server sends
// is checked as it is read; if something was forgotten, the run ends, and not the process.
func (x *stream) take(event []byte) (ended bool, err error) {
	defer problem.Recover(&err)
	x.heard = time.Now()
	h, what, err := x.decoder.Decode(event)
	if err != nil {
		return false, err
	}
	if h.Next > 0 {
		x.file.offset = uint64(h.Next)
	}
	switch e := what.(type) {
	case *binlog.Rotate:
		x.file.file, x.file.offset = e.File, e.Offset
		clear(x.maps)
	case *binlog.Begin:
		x.begin(h, e)
	case *binlog.Query:
		return x.query(e)
	case *binlog.Commit:
		return x.end(), nil
	case *binlog.Prepare:
		return x.preparedEnd(e)
	case *binlog.Payload:
		for _, inner := range e.Events {
			if ended, err = x.take(inner); err != nil {
				return false, err
			}
		}
		return ended, nil
	case *binlog.Incident:
		return false, x.s.LostLog(fmt.Sprintf("The server of %s says that its binary log may lack changes: %s.", x.s.what,
			e.What))
	case *binlog.Table, *binlog.Rows:
		if x.filling != nil {
			return false, x.fill(event)
		}
		return false, x.rows(what, int64(len(event)))
	}
	return false, nil
}

// begin takes note of a transaction. One that lies before the feed's place is passed over,
// unless it is prepared.
func (x *stream) begin(h binlog.Header, e *binlog.Begin) {
	x.begun, x.filling = e, nil
	x.first = x.Mark()
	if x.when = e.Moment; x.when == 0 {
		x.when = int64(h.Timestamp) * 1_000_000
	}
	if x.next = x.at; !x.passed() {
		x.beyond = true
		x.next = x.at.with(e)
	}
	if e.Prepared != "" {
		x.fillFor(e.Prepared)
	}
}

// fillFor has the open transaction kept until it is known whether it is committed.
func (x *stream) fillFor(name string) {
	x.filling = &prepared{before: x.at.Reached.String(), decoder: x.decoder.Another()}
	if !x.beyond {
		x.filling.before = x.from.before
	}
	x.prepared[name] = x.filling
}

// passed tells whether the open transaction was in the warehouse before.
func (x *stream) passed() bool {
	return x.begun != nil && x.from.before != "" && x.from.Has(x.begun)
}

// fill keeps an event of a prepared transaction.
func (x *stream) fill(event []byte) error {
	x.filling.events = append(x.filling.events, slices.Clone(event))
	total := 0
	for _, p := range x.prepared {
		total += p.size
	}
	if x.filling.size += len(event); total > mostPrepared {
		return problem.Newf(problem.Held, "Commit them, or give them up: XA RECOVER shows their names.",
			"Prepared transactions of %s hold more than %d MB of changes.", x.s.what, mostPrepared>>20)
	}
	return nil
}

// end is the end of a transaction.
func (x *stream) end() bool {
	if x.begun == nil {
		return false
	}
	x.EndTxn()
	x.at, x.begun, x.filling = x.next, nil, nil
	x.skipping = false
	clear(x.saved)
	return true
}

// mostSavepoints is how many savepoints a transaction may have.
const mostSavepoints = 10_000

// save remembers what a transaction has done up to a savepoint.
func (x *stream) save(name string) error {
	if len(x.saved) >= mostSavepoints {
		return problem.Newf(problem.Held, "Let it have fewer.", "A transaction of %s has more than %d savepoints.",
			x.s.what, mostSavepoints)
	}
	if x.begun != nil {
		x.saved[name] = x.Mark()
	}
	return nil
}

// giveUp takes back what a transaction has done since a mark. Where some of it was handed
// over already, the run ends, and the next one leaves the transaction out.
func (x *stream) giveUp(since source.Mark, whole bool) error {
	if !x.Open() || x.skipping || x.Discard(since) {
		return nil
	}
	if whole {
		x.s.givenUp.Store(x.next.String(), true)
		return problem.Newf(problem.Failed, "The next run leaves it out.",
			"A transaction of %s was rolled back after a part of it had been taken in; nothing of it was committed.",
			x.s.what)
	}
	return x.s.LostLog(fmt.Sprintf("A transaction of %s went back to a savepoint after a part of what it gave up had "+
		"been taken in.", x.s.what))
}

// read finds how the rows of a table are read that an event has described.
func (x *stream) read(t *followed, m *mapped) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if t.rowEnd != "" {
		m.ends = slices.IndexFunc(m.log, func(c binlog.Column) bool { return c.Name == t.rowEnd })
		if m.ends < 0 && t.hidden > 0 && len(m.log) == len(t.all)+t.hidden {
			m.ends = len(m.log) - 1
		}
	}
	return x.s.codecsOf(ctx, t, m)
}

// query takes in a statement.
func (x *stream) query(e *binlog.Query) (ended bool, err error) {
	list := tokens(e.SQL)
	if len(list) == 0 {
		return false, nil
	}
	alone := x.begun != nil && x.begun.Alone
	switch first := list[0]; {
	case first.is("BEGIN"):
		if x.begun != nil {
			x.begun.Alone = false
		}
		return false, nil
	case first.is("COMMIT"):
		return x.end(), nil
	case first.is("XA"):
		return x.xa(list, e.SQL)
	case first.is("SAVEPOINT") && len(list) == 2:
		return false, x.save(list[1].text)
	case first.is("ROLLBACK") && len(list) > 2 && list[1].is("TO"):
		mark, known := x.saved[list[len(list)-1].text]
		if !known {
			mark = x.first // nothing of the transaction had been logged when it was set
		}
		return false, x.giveUp(mark, false)
	case first.is("ROLLBACK"):
		if err := x.giveUp(x.first, true); err != nil {
			return false, err
		}
		return x.end(), nil
	case first.is("RELEASE"):
		return false, nil
	}
	unknown := writesAnything(list)
	for _, t := range x.tables {
		what := effectOn(list, e.Schema, t.Table.Name, x.fold)
		if unknown {
			what = writes
		}
		if what == reshapes {
			t.altered = true
			if !slices.ContainsFunc(list, func(x token) bool { return x.is("FOREIGN", "CONSTRAINT", "REFERENCES") }) {
				continue
			}
		}
		if what == noEffect || x.passed() {
			continue
		}
		var unfit error
		switch what {
		case reshapes:
			unfit = source.CopyAgain(drift.Keys, t.Table.Name, "Foreign keys, or other constraints, of %s were changed: "+
				"by which of them the server has changed rows by itself since then is not known.", t.Table.Name)
		case replaces:
			unfit = source.CopyAgain(drift.Tables, t.Table.Name,
				"The table %s was dropped, renamed or replaced, or has lost a partition: what became of its rows is "+
					"not told.", t.Table.Name)
		case writes:
			unfit = source.CopyAgain("", t.Table.Name,
				"A change was logged as a statement (%s), not by its rows: whether it wrote to %s, by itself, a "+
					"view, a trigger or a function, is not told. SET GLOBAL binlog_format = ROW, and let no session "+
					"choose another.", words(list), t.Table.Name)
		}
		x.Bytes += 64
		x.Count()
		if err := x.add(t, nil, unfit, change.Truncate, nil); err != nil {
			return false, err
		}
	}
	if alone {
		return x.end(), nil
	}
	return false, nil
}

// xa takes in what becomes of a transaction in two phases. One that was prepared before the feed
// began is not known, and need not be: Settle has waited for its end, so that copies show it.
func (x *stream) xa(list []token, sql string) (ended bool, err error) {
	if len(list) < 2 || x.begun == nil {
		return false, nil
	}
	name := x.begun.Completes
	if name == "" { // MySQL tells it here alone: XA COMMIT X'74',X'',1
		name = xid(sql)
	}
	switch {
	case list[1].is("START", "BEGIN") && x.begun.Prepared == "":
		x.begun.Alone, x.begun.Prepared = false, name
		x.fillFor(name)
		return false, nil
	case list[1].is("COMMIT"):
		if err := x.complete(name); err != nil {
			return false, err
		}
		return x.end(), nil
	case list[1].is("ROLLBACK"):
		delete(x.prepared, name)
		return x.end(), nil
	}
	return false, nil
}

// xid is the name of a transaction in two phases, which is the third word of a statement.
func xid(sql string) string {
	if words := strings.Fields(sql); len(words) > 2 {
		return words[2]
	}
	return ""
}

// preparedEnd ends a transaction that was prepared. In one phase it is committed as well.
func (x *stream) preparedEnd(e *binlog.Prepare) (ended bool, err error) {
	if e.OnePhase && x.begun != nil && x.filling != nil {
		x.filling = nil
		if err := x.complete(x.begun.Prepared); err != nil {
			return false, err
		}
	}
	return x.end(), nil
}

// complete takes in the changes of a prepared transaction that is committed.
func (x *stream) complete(name string) error {
	p := x.prepared[name]
	delete(x.prepared, name)
	if p == nil || x.passed() {
		return nil
	}
	for _, event := range p.events {
		_, what, err := p.decoder.Decode(event)
		if err != nil {
			return err
		}
		if t, ok := what.(*binlog.Table); ok {
			defer delete(x.maps, t) // it describes a table to this transaction alone
		}
		if err := x.rows(what, int64(len(event))); err != nil {
			return err
		}
	}
	return nil
}

// rows takes in the description of a table, or rows of it.
func (x *stream) rows(what any, size int64) error {
	switch e := what.(type) {
	case *binlog.Table:
		if x.maps[e] != nil {
			return nil
		}
		m := &mapped{log: slices.Clone(e.Columns), ends: -1}
		for _, t := range x.tables {
			if t.Table.Name.Schema == e.Schema && t.Table.Name.Table == e.Name {
				m.table = t
				m.places, m.unfit = t.fit(e)
				if m.unfit == nil {
					if err := x.read(t, m); err != nil {
						return err
					}
				}
			}
		}
		x.maps[e] = m
	case *binlog.Rows:
		m := x.maps[e.Table]
		if m == nil || m.table == nil || x.passed() {
			return nil
		}
		x.Bytes += max(size, e.Size()) + 64
		if e.Partly {
			x.Count()
			return x.add(m.table, m, source.CopyAgain("", m.table.Table.Name,
				"A document of %s was logged by how it differs, not whole. SET GLOBAL binlog_row_value_options = ''.",
				m.table.Table.Name), change.Truncate, nil)
		}
		for {
			more, err := e.Next()
			if !more || err != nil {
				return err
			}
			if err := x.change(m, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// change takes in one row.
func (x *stream) change(m *mapped, e *binlog.Rows) error {
	t := m.table
	if m.ends >= 0 {
		switch past := func(row []binlog.Cell) bool { return len(row) > 0 && isPast(row[m.ends], &m.log[m.ends]) }; {
		case e.Kind != binlog.Update && past(e.After), e.Kind == binlog.Delete && past(e.Before),
			e.Kind == binlog.Update && past(e.Before):
			return nil // what was, not what is
		case e.Kind == binlog.Update && past(e.After):
			x.Count()
			return x.add(t, m, m.unfit, change.Delete, e.Before)
		}
	}
	x.Count()
	for i := range e.After { // what is told of the old row need not be looked for
		if e.Kind == binlog.Update && !e.After[i].Told {
			e.After[i] = e.Before[i]
		}
	}
	if !e.Unchecked && e.Kind != binlog.Insert {
		for i := range t.effects {
			if err := x.affect(&t.effects[i], m, e); err != nil {
				return err
			}
		}
	}
	switch e.Kind {
	case binlog.Insert:
		return x.add(t, m, m.unfit, change.Insert, e.After)
	case binlog.Delete:
		return x.add(t, m, m.unfit, change.Delete, e.Before)
	}
	moved := false
	if m.unfit == nil {
		for _, k := range t.KeyAt {
			old, now := e.Before[m.places[k]], e.After[m.places[k]]
			moved = moved || old.Null != now.Null || string(old.Data) != string(now.Data)
		}
	}
	if !moved {
		return x.add(t, m, m.unfit, change.Update, e.After)
	}
	if t.Ignores(change.Update) {
		t.Ignore()
		return nil
	}
	if err := x.add(t, m, nil, change.Left, e.Before); err != nil {
		return err
	}
	return x.add(t, m, nil, change.Came, e.After)
}

// add appends a change to its table's batch.
func (x *stream) add(t *followed, m *mapped, unfit error, kind change.Kind, row []binlog.Cell) error {
	if t.Ignores(kind) && unfit == nil {
		t.Ignore()
		return nil
	}
	if !x.opened() {
		return nil
	}
	c, err := x.Row(kind)
	if err != nil {
		return err
	}
	if unfit != nil || row == nil {
		t.AddBare(c, unfit)
		return nil
	}
	var unknown []bool
	for i := range t.values {
		v := row[m.places[i]]
		reason := ""
		switch {
		case !v.Told:
			if standing, stands := t.defaults[i]; stands && kind == change.Insert {
				t.values[i] = standing
				continue
			}
			t.values[i] = scalar{null: true}
			if kind == change.Delete || kind == change.Left {
				continue
			}
			if unknown == nil {
				unknown = make([]bool, len(t.values))
			}
			unknown[i] = true
		case v.Null && slices.Contains(t.KeyAt, i):
			reason = rows.IsNullKey
		case v.Null:
			t.values[i] = scalar{null: true}
		default:
			t.values[i], reason = m.codecs[i].log(v.Data, &m.log[m.places[i]])
		}
		if reason != "" && kind.Ends() && !slices.Contains(t.KeyAt, i) { // what ends a row needs its key
			t.values[i], reason = scalar{null: true}, ""
		}
		if reason != "" {
			t.SetAside(t.aside(m, row, i, reason), c, 0)
			return nil
		}
	}
	for i, v := range t.values {
		if v.null {
			t.Fields[i].AppendNull()
		} else {
			t.codecs[i].put(t.Fields[i], v)
		}
	}
	t.Add(c, unknown)
	return nil
}

// opened begins the transaction with its first change; false is one that is left out.
func (x *stream) opened() bool {
	if x.begun != nil && !x.Open() {
		x.BeginTxn(x.next.String(), uint32(x.begun.Seq), x.when)
		if _, known := x.s.givenUp.Load(x.next.String()); known {
			x.skipping = true
		}
	}
	return !x.skipping
}

// affect adds what becomes of the rows that refer to a row which went, or was changed.
func (x *stream) affect(f *referring, m *mapped, e *binlog.Rows) error {
	what := f.onDelete
	if e.Kind == binlog.Update {
		what = f.onUpdate
	}
	if what == schema.NoEffect {
		return nil
	}
	if m.unfit != nil {
		return x.add(f.on, nil, source.CopyAgain("", f.on.Table.Name, "Rows of %s may have been changed by foreign keys "+
			"to a table whose changes are not understood.", f.on.Table.Name), change.Truncate, nil)
	}
	same := e.Kind == binlog.Update
	for _, place := range f.from {
		old := e.Before[m.places[place]]
		switch {
		case !old.Told:
			return x.add(f.on, nil, source.CopyAgain("", f.on.Table.Name, "Rows of %s refer to a column that the log "+
				"leaves out of an old row. SET GLOBAL binlog_row_image = FULL.", f.on.Table.Name), change.Truncate, nil)
		case old.Null:
			return nil // nothing refers to it
		}
		if same {
			now := e.After[m.places[place]]
			same = !now.Null && string(old.Data) == string(now.Data)
		}
	}
	switch {
	case same:
		return nil
	case e.Kind == binlog.Delete && what == schema.Cascades:
		return x.refer(f, m, change.RefDeleted, e.Before)
	case what == schema.BecomesNull:
		return x.refer(f, m, change.RefNull, e.Before)
	}
	if err := x.refer(f, m, change.RefFrom, e.Before); err != nil {
		return err
	}
	return x.refer(f, m, change.RefTo, e.After)
}

// refer adds a change of all rows that refer to a row.
func (x *stream) refer(f *referring, m *mapped, kind change.Kind, row []binlog.Cell) error {
	if !x.opened() {
		return nil
	}
	c, err := x.Row(kind)
	if err != nil {
		return err
	}
	for i := range f.on.values {
		f.on.values[i] = scalar{null: true}
	}
	for i, place := range f.from {
		at := m.places[place]
		if row[at].Null {
			continue
		}
		var reason string
		if f.on.values[f.to[i]], reason = m.codecs[place].log(row[at].Data, &m.log[at]); reason != "" {
			return x.add(f.on, nil, source.CopyAgain("", f.on.Table.Name, "Rows of %s refer to a value that cannot be "+
				"stored: it %s.", f.on.Table.Name, reason), change.Truncate, nil)
		}
	}
	for i, v := range f.on.values {
		if v.null {
			f.on.Fields[i].AppendNull()
		} else {
			f.on.codecs[i].put(f.on.Fields[i], v)
		}
	}
	f.on.Add(c, f.unknown)
	return nil
}

// Take hands over what was gathered.
func (x *stream) Take() source.Gathered {
	at := x.position().String()
	x.file.position = at
	known, _ := x.s.places.LoadOrStore(x.follow.Name, []filePlace{})
	list := known.([]filePlace)
	x.s.places.Store(x.follow.Name, append(slices.Clone(list[max(0, len(list)-8):]), x.file))
	return x.Gathering.Take(at)
}
