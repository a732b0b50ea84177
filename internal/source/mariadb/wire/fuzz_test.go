package wire

import (
	"context"
	"database/sql/driver"
	"io"
	"net"
	"testing"
	"time"
)

// said is a connection on which a server has said what it will say.
type said struct {
	net.Conn
	data []byte
}

func (s *said) Read(p []byte) (int, error) {
	if len(s.data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, s.data)
	s.data = s.data[n:]
	return n, nil
}
func (s *said) Write(p []byte) (int, error)      { return len(p), nil }
func (s *said) Close() error                     { return nil }
func (s *said) SetDeadline(time.Time) error      { return nil }
func (s *said) SetReadDeadline(time.Time) error  { return nil }
func (s *said) SetWriteDeadline(time.Time) error { return nil }

func packet(seq byte, content string) []byte {
	n := len(content)
	return append([]byte{byte(n), byte(n >> 8), byte(n >> 16), seq}, content...)
}

func join(parts ...[]byte) (all []byte) {
	for _, p := range parts {
		all = append(all, p...)
	}
	return all
}

const greeted = "\x0a10.11.19-MariaDB\x00\x07\x00\x00\x00abcdefgh\x00\xfe\xf7\x2d\x02\x00\xff\x81\x15\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00ijklmnopqrst\x00mysql_native_password\x00"

// Whatever a server says, it is an answer or an error: from its greeting to its rows.
func FuzzServer(f *testing.F) {
	column := "\x03def\x00\x00\x00\x01n\x00\x0c\x3f\x00\x14\x00\x00\x00\x03\x00\x00\x00\x00\x00"
	f.Add(join(packet(0, greeted), packet(2, "\x00\x00\x00\x02\x00\x00\x00"), packet(1, "\x01"), packet(2, column),
		packet(3, "\xfe\x00\x00\x02\x00"), packet(4, "\x0242"), packet(5, "\xfe\x00\x00\x02\x00")))
	f.Add(join(packet(0, greeted), packet(2, "\xfeclient_ed25519\x0001234567890123456789012345678901"),
		packet(4, "\x00\x00\x00\x02\x00\x00\x00"), packet(1, "\xff\x15\x04#28000no")))
	f.Add(join(packet(0, greeted), packet(2, "\x00"), packet(1, "\xfe\xff\xff\xff\xff\xff\xff\xff\x7f")))
	f.Add(join(packet(0, greeted), packet(2, "\xfemysql_clear_password\x00")))
	f.Fuzz(func(t *testing.T, data []byte) {
		ctx := context.Background()
		conn := &said{data: data}
		c, err := Connect(ctx, Options{Dial: func(context.Context, string, string) (net.Conn, error) {
			return conn,
				nil
		}, User: "reader", Password: "spring tide", Timeout: time.Minute})
		if err != nil {
			return
		}
		p := &pooled{conn: c}
		rows, err := p.QueryContext(ctx, "SELECT ?", []driver.NamedValue{{Ordinal: 1, Value: "'"}})
		if err != nil {
			return
		}
		values := make([]driver.Value, len(rows.Columns()))
		for err == nil {
			err = rows.Next(values)
		}
	})
}
