package wire

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Connector opens connections for database/sql, so that small answers can be scanned and
// connections are kept in a pool. An answer is read whole before its first row is given,
// mostAnswer bytes at most.
type Connector struct {
	Options
	Sets []string // run on each new connection
}

const mostAnswer = 64 << 20

// Connect implements driver.Connector.
func (k *Connector) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := Connect(ctx, k.Options)
	if err != nil {
		return nil, err
	}
	for _, sql := range k.Sets {
		if err := c.Exec(ctx, sql); err != nil {
			return nil, errors.Join(err, c.Close())
		}
	}
	return &pooled{conn: c}, nil
}

// Driver implements driver.Connector.
func (k *Connector) Driver() driver.Driver { return noDriver{} }

type noDriver struct{}

func (noDriver) Open(string) (driver.Conn, error) { return nil, errUnsupported }

var errUnsupported = errors.New("only queries are run here")

// pooled is a Conn of a pool.
type pooled struct {
	conn   *Conn
	broken bool
}

func (p *pooled) Prepare(string) (driver.Stmt, error) { return nil, errUnsupported }
func (p *pooled) Begin() (driver.Tx, error)           { return nil, errUnsupported }
func (p *pooled) Close() error                        { return p.conn.Close() }
func (p *pooled) IsValid() bool                       { return !p.broken }

// ResetSession notices that the server has closed a connection that was not in use: what
// can be read of it is its end.
func (p *pooled) ResetSession(context.Context) error {
	if err := p.conn.Await(time.Now().Add(500 * time.Microsecond)); !errors.Is(err, os.ErrDeadlineExceeded) {
		p.broken = true
		return driver.ErrBadConn
	}
	return p.conn.net.SetReadDeadline(time.Time{})
}

// QueryContext implements driver.QueryerContext.
func (p *pooled) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	sql, err := interpolated(query, args)
	if err != nil {
		return nil, err
	}
	a := &answer{}
	size := 0
	err = p.conn.QueryTyped(ctx, sql, func(columns []Column) error {
		a.columns = columns
		return nil
	}, func(r Row) error {
		values := make([]driver.Value, len(a.columns))
		for i, c := range a.columns {
			text, ok := r.Value(i)
			if !ok {
				continue
			}
			if size += len(text) + 24; size > mostAnswer {
				return fmt.Errorf("the server's answer to a query of its catalogue is longer than %d MB",
					mostAnswer>>20)
			}
			if values[i], err = valueOf(c.Type, text); err != nil {
				return err
			}
		}
		a.rows = append(a.rows, values)
		return nil
	})
	var server *Error
	if err != nil {
		p.broken = !errors.As(err, &server) || slices.Contains(denials, server.Number)
	}
	return a, err
}

// denials are the errors of who lacks a privilege. The server looks at some privileges only at
// the sign-in, so such a connection would not notice when they are granted.
var denials = []int{1044, 1142, 1143, 1227, 1370}

// ExecContext implements driver.ExecerContext.
func (p *pooled) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	_, err := p.QueryContext(ctx, query, args)
	return driver.ResultNoRows, err
}

// Types of columns whose values are times.
const (
	typeTimestamp = 7
	typeDate      = 10
	typeDatetime  = 12
)

func valueOf(t byte, text []byte) (driver.Value, error) {
	switch t {
	case typeTimestamp, typeDatetime:
		return time.ParseInLocation("2006-01-02 15:04:05.999999", string(text), time.UTC)
	case typeDate:
		return time.ParseInLocation("2006-01-02", string(text), time.UTC)
	}
	return string(text), nil
}

// interpolated puts values in the place of question marks outside quotes. The session reads
// no backslash as an escape.
func interpolated(query string, args []driver.NamedValue) (string, error) {
	var b strings.Builder
	quote, next := rune(0), 0
	for _, r := range query {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '\'' || r == '"' || r == '`':
			quote = r
		case r == '?':
			if next == len(args) {
				return "", errors.New("a query has more places than values")
			}
			text, err := literal(args[next].Value)
			if err != nil {
				return "", err
			}
			b.WriteString(text)
			next++
			continue
		}
		b.WriteRune(r)
	}
	if next != len(args) {
		return "", errors.New("a query has fewer places than values")
	}
	return b.String(), nil
}

func literal(v driver.Value) (string, error) {
	switch v := v.(type) {
	case nil:
		return "NULL", nil
	case int64:
		return strconv.FormatInt(v, 10), nil
	case string:
		return "'" + strings.ReplaceAll(v, "'", "''") + "'", nil
	}
	return "", fmt.Errorf("a value of the type %T cannot be part of a query", v)
}

// answer is what a query gave.
type answer struct {
	columns []Column
	rows    [][]driver.Value
}

func (a *answer) Columns() []string {
	names := make([]string, len(a.columns))
	for i, c := range a.columns {
		names[i] = c.Name
	}
	return names
}

func (a *answer) Close() error { return nil }

func (a *answer) Next(into []driver.Value) error {
	if len(a.rows) == 0 {
		return io.EOF
	}
	copy(into, a.rows[0])
	a.rows = a.rows[1:]
	return nil
}
