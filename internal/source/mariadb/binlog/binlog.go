// Package binlog decodes the binary log of a MariaDB or MySQL server: transactions, the tables
// they touch, and the rows they insert, update and delete (mariadb.com/kb/en/replication-protocol,
// and for each event the page that its type names; for MySQL's own events
// dev.mysql.com/doc/dev/mysql-server/latest/namespacemysql_1_1binlog_1_1event.html).
//
// It is a computation alone. A Decoder is given one event after another, as the server
// sends them, and tells what is in it. Values stay as they are in the log until somebody
// asks for them.
package binlog

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
)

// Header begins each event.
type Header struct {
	Timestamp uint32 // seconds since 1970 UTC, when the statement began
	Type      byte
	Server    uint32
	Next      uint32 // where the next event begins in the file; 0 in an event that is not in it
	Flags     uint16
}

const headerSize = 19

// Types of events.
const (
	typeQuery             = 2
	typeLoad              = 18
	typeStop              = 3
	typeRotate            = 4
	typeFormat            = 15
	typeXid               = 16
	typeTableMap          = 19
	typeWriteV1           = 23
	typeUpdateV1          = 24
	typeDeleteV1          = 25
	typeIncident          = 26
	typeHeartbeat         = 27
	typeWriteV2           = 30
	typeUpdateV2          = 31
	typeDeleteV2          = 32
	typeMyGTID            = 33
	typeAnonymous         = 34
	typePrepare           = 38
	typeUpdatePartly      = 39
	typePayload           = 40
	typeTagged            = 42
	typeGTID              = 162
	typeQueryCompressed   = 165
	typeWriteCompressed   = 166
	typeUpdateCompressed  = 167
	typeDeleteCompressed  = 168
	typeWriteCompressed2  = 169
	typeUpdateCompressed2 = 170
	typeDeleteCompressed2 = 171
)

// What an event tells is one of these; nil is nothing that matters here.
type (
	// Rotate says that the log goes on in another file.
	Rotate struct {
		File   string
		Offset uint64
	}
	// Begin begins a transaction, or stands before a statement that is one by itself.
	Begin struct {
		Domain, Server uint32
		Origin         string // MySQL's UUID of the server where it was committed first
		Seq            uint64
		Moment         int64  // when it was committed, in microseconds since 1970; 0 where that is not told
		Alone          bool   // there is no commit: the one statement that follows is all, unless that is BEGIN
		Prepared       string // it is prepared under this name and may be committed later
		Completes      string // it commits or gives up what was prepared under this name
	}
	// Payload is a transaction that was compressed: its events, one after another.
	Payload struct{ Events [][]byte }
	// Query is a statement: BEGIN, COMMIT, a change of a table's structure, or one that was
	// logged as it was written.
	Query struct {
		Schema string // the current one of its session
		SQL    string
	}
	// Commit ends a transaction.
	Commit struct{ At uint32 } // seconds since 1970
	// Prepare ends a transaction that was prepared, or, with OnePhase, commits it.
	Prepare struct{ OnePhase bool }
	// Incident says that the server may have lost changes.
	Incident struct{ What string }
)

// Decoder knows what earlier events said of later ones.
type Decoder struct {
	described bool // the format is known
	checksum  bool
	mysql     bool // a MySQL server has written it
	tables    map[uint64]*Table
	rows      Rows
}

// NewDecoder makes a Decoder for the beginning of a stream.
func NewDecoder() *Decoder { return &Decoder{tables: map[uint64]*Table{}} }

// Another makes a Decoder of the same log that knows no tables.
func (d *Decoder) Another() *Decoder {
	return &Decoder{described: d.described, checksum: d.checksum, mysql: d.mysql, tables: map[uint64]*Table{}}
}

var errShort = errors.New("an event of the binary log is shorter than it says")

// ErrNoNumber says that a transaction has no number by which it is known, or has a tag.
var ErrNoNumber = errors.New("a transaction of the binary log has no global id, or one with a tag")

// Decode reads one event. What it gives may refer to the event's bytes.
func (d *Decoder) Decode(event []byte) (h Header, what any, err error) {
	if len(event) < headerSize {
		return h, nil, errShort
	}
	le := binary.LittleEndian
	h = Header{Timestamp: le.Uint32(event), Type: event[4], Server: le.Uint32(event[5:]), Next: le.Uint32(event[13:]),
		Flags: le.Uint16(event[17:])}
	body := event[headerSize:]
	if h.Type == typeFormat {
		return h, nil, d.format(event)
	}
	// The name of the file comes before the format, with a checksum where the server adds them.
	if first := !d.described && len(body) >= 4; d.checksum || first {
		if len(body) < 4 {
			return h, nil, errShort
		}
		end := len(event) - 4
		switch matches := crc32.ChecksumIEEE(event[:end]) == le.Uint32(event[end:]); {
		case matches:
			body = event[headerSize:end]
		case d.checksum:
			return h, nil, errors.New("an event of the binary log does not match its checksum")
		}
	}
	what, err = d.decode(h, body)
	return h, what, err
}

func (d *Decoder) decode(h Header, body []byte) (any, error) {
	r := reader{data: body}
	switch h.Type {
	case typeRotate:
		clear(d.tables) // numbers of tables begin anew with a server
		e := &Rotate{Offset: r.uint(8)}
		e.File = string(r.data)
		return e, r.err
	case typeGTID:
		return begin(h, &r)
	case typeMyGTID:
		d.mysql = true
		return myBegin(h, &r)
	case typeAnonymous, typeTagged:
		return nil, ErrNoNumber
	case typePayload:
		return d.payload(&r)
	case typeQuery:
		return query(&r, false)
	case typeLoad: // a statement with the file that it has loaded, which came before
		return &Query{SQL: "LOAD DATA"}, nil
	case typeQueryCompressed:
		return query(&r, true)
	case typeXid:
		return &Commit{At: h.Timestamp}, nil
	case typePrepare:
		return &Prepare{OnePhase: r.uint(1) == 1}, r.err
	case typeIncident:
		r.skip(2)
		return &Incident{What: string(r.take(int(r.uint(1))))}, r.err
	case typeTableMap:
		return d.table(body)
	case typeWriteV1, typeWriteV2, typeWriteCompressed, typeWriteCompressed2:
		return d.rowsOf(h, &r, Insert)
	case typeUpdateV1, typeUpdateV2, typeUpdateCompressed, typeUpdateCompressed2, typeUpdatePartly:
		return d.rowsOf(h, &r, Update)
	case typeDeleteV1, typeDeleteV2, typeDeleteCompressed, typeDeleteCompressed2:
		return d.rowsOf(h, &r, Delete)
	}
	return nil, nil
}

// table reads the description of a table, which the server repeats for each statement.
func (d *Decoder) table(body []byte) (*Table, error) {
	r := reader{data: body}
	if known := d.tables[r.uint(6)]; known != nil && bytes.Equal(known.described, body) {
		return known, nil
	}
	t, err := tableMap(&reader{data: body}, d.mysql)
	if err != nil {
		return nil, err
	}
	if len(d.tables) >= mostTables {
		return nil, fmt.Errorf("the binary log describes more than %d tables", mostTables)
	}
	t.described = bytes.Clone(body)
	d.tables[t.ID] = t
	return t, nil
}

// mostTables is how many tables a file of the log may describe.
const mostTables = 100_000

// format reads the description that begins each file: of interest is whether checksums
// follow (Format Description Event).
func (d *Decoder) format(event []byte) error {
	const fixed = headerSize + 2 + 50 + 4 + 1
	if len(event) < fixed+5 {
		return errShort
	}
	if v := binary.LittleEndian.Uint16(event[headerSize:]); v != 4 {
		return fmt.Errorf("the binary log is of version %d, and 4 is needed", v)
	}
	d.described, d.checksum = true, event[len(event)-5] == 1
	return nil
}

// Flags of a transaction's first event (GTID Event).
const (
	flagAlone       = 1
	flagGroupCommit = 2
	flagPreparedXA  = 64
	flagCompletedXA = 128
)

func begin(h Header, r *reader) (*Begin, error) {
	e := &Begin{Server: h.Server, Seq: r.uint(8), Domain: uint32(r.uint(4))}
	flags := r.uint(1)
	e.Alone = flags&flagAlone != 0
	if flags&flagGroupCommit != 0 {
		r.skip(8)
	}
	if flags&(flagPreparedXA|flagCompletedXA) != 0 {
		format, first, second := r.uint(4), int(r.uint(1)), int(r.uint(1))
		name := fmt.Sprintf("%x,%x,%d", r.take(first), r.take(second), format)
		if flags&flagPreparedXA != 0 {
			e.Prepared = name
		} else {
			e.Completes = name
		}
	}
	return e, r.err
}

// query reads a statement (Query Event).
func query(r *reader, compressed bool) (*Query, error) {
	r.skip(4 + 4)
	name := int(r.uint(1))
	r.skip(2)
	r.skip(int(r.uint(2)))
	e := &Query{Schema: string(r.take(name))}
	r.skip(1)
	text := r.data
	if compressed && r.err == nil {
		var err error
		if text, err = expand(text); err != nil {
			return nil, err
		}
	}
	e.SQL = string(text)
	return e, r.err
}

// reader takes bytes apart; err is set when there are fewer than are asked for.
type reader struct {
	data []byte
	err  error
}

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.data) {
		r.err = errShort
		r.data = nil
		return nil
	}
	b := r.data[:n:n]
	r.data = r.data[n:]
	return b
}

func (r *reader) skip(n int) { r.take(n) }

// uint reads a number of so many bytes, the lowest first.
func (r *reader) uint(width int) (n uint64) {
	for i, b := range r.take(width) {
		n |= uint64(b) << (8 * i)
	}
	return n
}

// length reads a number of a length that its first byte tells.
func (r *reader) length() uint64 {
	switch first := r.uint(1); first {
	case 0xfc:
		return r.uint(2)
	case 0xfd:
		return r.uint(3)
	case 0xfe:
		return r.uint(8)
	default:
		return first
	}
}

// texts reads a list of texts, each with its length.
func (r *reader) texts(n int) (list []string) {
	for len(list) != n && len(r.data) > 0 && r.err == nil {
		list = append(list, string(r.take(int(min(r.length(), 1<<30)))))
	}
	return list
}

// bitmap reads n bits, the lowest of each byte first.
func (r *reader) bitmap(n int) []bool {
	b := r.take((n + 7) / 8)
	list := make([]bool, n)
	for i := range list {
		list[i] = b != nil && b[i/8]>>(i%8)&1 == 1
	}
	return list
}
