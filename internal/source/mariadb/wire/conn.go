// Package wire speaks MariaDB's client/server protocol as far as reading needs it: it
// signs in, runs statements, hands over rows as the server sends them, and follows the
// binary log (mariadb.com/kb/en/clientserver-protocol).
//
// A Conn is for one user at a time. After an error of the connection, as opposed to one
// that the server reports, it can only be closed.
package wire

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// Options say where to connect and as whom.
type Options struct {
	// Each wait of what it opens must have an end.
	Dial     func(ctx context.Context, network, address string) (net.Conn, error)
	Network  string // tcp or unix
	Address  string
	User     string
	Password string
	Database string      // may be empty
	TLS      *tls.Config // nil is in the clear
	InClear  bool        // the password may be sent as it is, to a server that TLS does not verify
	Verified bool        // TLS makes sure that the server is the right one
	Timeout  time.Duration
}

// Conn is a connection.
type Conn struct {
	Version string // the server's
	ID      uint32 // the server's number of the connection
	net     net.Conn
	in      *bufio.Reader
	out     []byte
	seq     byte
	packet  []byte // the last one that was read
	most    int    // how long one may be, in bytes
	options Options
}

// Error is what the server reports.
type Error struct {
	Number  int
	State   string
	Message string
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s (%d, SQLSTATE %s)", e.Message, e.Number, e.State)
}

// Capabilities (mariadb.com/kb/en/connection).
const (
	longPassword     = 1 << 0
	longFlag         = 1 << 2
	connectWithDB    = 1 << 3
	protocol41       = 1 << 9
	useTLS           = 1 << 11
	transactions     = 1 << 13
	secureConnection = 1 << 15
	pluginAuth       = 1 << 19
)

// utf8mb4 is the number of the collation utf8mb4_general_ci.
const utf8mb4 = 45

// Connect opens a connection and signs in.
func Connect(ctx context.Context, o Options) (*Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, o.Timeout)
	defer cancel()
	opened, err := o.Dial(ctx, o.Network, o.Address)
	if err != nil {
		return nil, err
	}
	c := &Conn{net: opened, most: mostBeforeSignIn, in: bufio.NewReaderSize(opened, 1<<17), options: o}
	deadline, _ := ctx.Deadline()
	err = opened.SetDeadline(deadline)
	if err == nil {
		err = c.signIn(ctx)
	}
	if err == nil {
		err = opened.SetDeadline(time.Time{})
	}
	if err != nil {
		_ = c.net.Close()
		return nil, err
	}
	c.most = MostPacket
	return c, nil
}

// Close ends the connection at once; an open transaction is rolled back.
func (c *Conn) Close() error { return c.net.Close() }

const largestPacket = 1<<24 - 1

// How long a packet may be, joined where it was split, in bytes: before the sign-in, and
// after it. A row, or an event of the log, travels in one.
const (
	mostBeforeSignIn = 64 << 10
	MostPacket       = 256 << 20
)

// mostColumns is how many columns a table of the server can have (mariadb.com/kb/en/innodb-limitations).
const mostColumns = 4096

// TooLongError says that a packet is longer than is taken in.
type TooLongError struct{ Bytes, Most int }

func (e *TooLongError) Error() string {
	return fmt.Sprintf("the server sent a packet of %d bytes or more, and %d are the most that is taken in", e.Bytes,
		e.Most)
}

// read gives the next packet, joined where it was split. It is valid until the next read.
func (c *Conn) read() ([]byte, error) {
	c.packet = c.packet[:0]
	for {
		var header [4]byte
		if _, err := io.ReadFull(c.in, header[:]); err != nil {
			return nil, err
		}
		n := int(header[0]) | int(header[1])<<8 | int(header[2])<<16
		c.seq = header[3] + 1
		from := len(c.packet)
		if from+n > c.most {
			return nil, &TooLongError{from + n, c.most}
		}
		if cap(c.packet) < from+n {
			larger := make([]byte, from, max(from+n, 2*cap(c.packet)))
			copy(larger, c.packet)
			c.packet = larger
		}
		c.packet = c.packet[:from+n]
		if _, err := io.ReadFull(c.in, c.packet[from:]); err != nil {
			return nil, err
		}
		if n < largestPacket {
			if cap(c.packet) > 1<<20 && len(c.packet) < 1<<16 {
				small := append(make([]byte, 0, 1<<16), c.packet...) // do not keep what one large row needed
				c.packet = small
			}
			return c.packet, nil
		}
	}
}

// write sends a packet.
func (c *Conn) write(content []byte) error {
	for {
		n := min(len(content), largestPacket)
		c.out = append(c.out[:0], byte(n), byte(n>>8), byte(n>>16), c.seq)
		c.seq++
		c.out = append(c.out, content[:n]...)
		if _, err := c.net.Write(c.out); err != nil {
			return err
		}
		content = content[n:]
		if n < largestPacket {
			return nil
		}
	}
}

// command begins a new exchange.
func (c *Conn) command(code byte, content []byte) error {
	c.seq = 0
	return c.write(append([]byte{code}, content...))
}

// Commands.
const (
	comQuery         = 0x03
	comBinlogDump    = 0x12
	comBinlogDumpSet = 0x1e
	comRegisterSlave = 0x15
)

// First bytes of packets.
const (
	isOK  = 0x00
	isEOF = 0xfe
	isErr = 0xff
)

func errorOf(packet []byte) error {
	if len(packet) < 3 {
		return errors.New("the server sent an error without a number")
	}
	e := &Error{Number: int(binary.LittleEndian.Uint16(packet[1:])), Message: string(packet[3:])}
	if len(packet) >= 9 && packet[3] == '#' {
		e.State, e.Message = string(packet[4:9]), string(packet[9:])
	}
	return e
}

// Exec runs a statement that gives no rows.
func (c *Conn) Exec(ctx context.Context, sql string) error {
	return c.Query(ctx, sql, func(Row) error { return nil })
}

// Row is one row as the text protocol sends it.
type Row struct {
	data  []byte
	spans []span
}

type span struct{ from, to int }

// Value gives one value; it is valid until the next row. ok is false for null.
func (r Row) Value(i int) (text []byte, ok bool) {
	s := r.spans[i]
	if s.from < 0 {
		return nil, false
	}
	return r.data[s.from:s.to:s.to], true
}

// Query runs a statement and passes each row on. An error of visit ends the connection's
// use: what is left of the rows is not read.
func (c *Conn) Query(ctx context.Context, sql string, visit func(Row) error) error {
	return c.QueryTyped(ctx, sql, func([]Column) error { return nil }, visit)
}

// Column is what the server says of a column of its answer.
type Column struct {
	Name     string
	Type     byte   // mariadb.com/kb/en/result-set-packets, field types
	Charset  uint16 // the number of its collation
	Length   uint32 // the most bytes that are shown of a value
	Flags    uint16
	Decimals byte
}

// QueryTyped is Query that is told the columns first.
func (c *Conn) QueryTyped(ctx context.Context, sql string, columns func([]Column) error, visit func(Row) error) error {
	stop := context.AfterFunc(ctx, func() { _ = c.net.SetDeadline(time.Now()) })
	err := c.query(sql, columns, visit)
	if !stop() { // the connection is of no use any more, even where all has come in
		go c.kill() // the server does not notice by itself that nobody waits any more
		return ctx.Err()
	}
	return err
}

// kill ends what the connection does at the server. Where that cannot be done, the
// statement's own time limit ends it.
func (c *Conn) kill() {
	ctx, cancel := context.WithTimeout(context.Background(), c.options.Timeout)
	defer cancel()
	other, err := Connect(ctx, c.options)
	if err != nil {
		return
	}
	defer func() { _ = other.Close() }()
	_ = other.Exec(ctx, fmt.Sprintf("KILL CONNECTION %d", c.ID))
}

func (c *Conn) query(sql string, described func([]Column) error, visit func(Row) error) error {
	if err := c.command(comQuery, []byte(sql)); err != nil {
		return err
	}
	packet, err := c.read()
	if err != nil {
		return err
	}
	if len(packet) == 0 {
		return errShort
	}
	switch packet[0] {
	case isOK:
		return nil
	case isErr:
		return errorOf(packet)
	}
	count, _, ok := lengthOf(packet)
	if !ok {
		return errShort
	}
	if count == 0 || count > mostColumns {
		return fmt.Errorf("the server says that its answer has %d columns", count)
	}
	columns := make([]Column, count)
	for i := range columns {
		packet, err := c.read()
		if err != nil {
			return err
		}
		if columns[i], err = columnOf(packet); err != nil {
			return err
		}
	}
	if _, err := c.read(); err != nil { // the end of the descriptions
		return err
	}
	if err := described(columns); err != nil {
		return err
	}
	row := Row{spans: make([]span, count)}
	for {
		packet, err := c.read()
		switch {
		case err != nil:
			return err
		case len(packet) == 0:
			return errShort
		case packet[0] == isErr:
			return errorOf(packet)
		case packet[0] == isEOF && len(packet) < 9: // a longer one is a row that begins with a very long value
			return nil
		}
		if err := row.take(packet); err != nil {
			return err
		}
		if err := visit(row); err != nil {
			return err
		}
	}
}

var errShort = errors.New("the server sent a packet that is shorter than it says")

func (r *Row) take(packet []byte) error {
	r.data = packet
	at := 0
	for i := range r.spans {
		if at >= len(packet) {
			return errShort
		}
		if packet[at] == 0xfb {
			r.spans[i] = span{-1, -1}
			at++
			continue
		}
		n, used, ok := lengthOf(packet[at:])
		if !ok || n > uint64(len(packet)-at-used) {
			return errShort
		}
		r.spans[i] = span{at + used, at + used + int(n)}
		at += used + int(n)
	}
	return nil
}

// columnOf reads a column's description (mariadb.com/kb/en/result-set-packets).
func columnOf(packet []byte) (c Column, err error) {
	for i := range 6 { // catalogue, schema, table twice, column twice
		n, used, ok := lengthOf(packet)
		if !ok || n > uint64(len(packet)-used) {
			return c, errShort
		}
		if i == 4 {
			c.Name = string(packet[used : used+int(n)])
		}
		packet = packet[used+int(n):]
	}
	if len(packet) < 1+2+4+1+2+1 {
		return c, errShort
	}
	fixed := packet[1:]
	c.Charset, c.Length = binary.LittleEndian.Uint16(fixed), binary.LittleEndian.Uint32(fixed[2:])
	c.Type, c.Flags, c.Decimals = fixed[6], binary.LittleEndian.Uint16(fixed[7:]), fixed[9]
	return c, nil
}

// lengthOf reads a length-encoded number.
func lengthOf(b []byte) (n uint64, used int, ok bool) {
	if len(b) == 0 {
		return 0, 0, false
	}
	width := map[byte]int{0xfc: 2, 0xfd: 3, 0xfe: 8}[b[0]]
	if width == 0 {
		return uint64(b[0]), 1, b[0] < 0xfb
	}
	if len(b) < 1+width {
		return 0, 0, false
	}
	for i := range width {
		n |= uint64(b[1+i]) << (8 * i)
	}
	return n, 1 + width, true
}
