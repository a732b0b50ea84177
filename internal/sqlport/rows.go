package sqlport

import (
	"encoding/binary"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/jackc/pgx/v5/pgproto3"

	"noemata/internal/asking"
	"noemata/internal/core/schema"
)

// pending is a record whose rows were not all sent.
type pending struct {
	record arrow.RecordBatch
	next   int
	encode []encoder
	sent   int64
}

// pieces are written to the client at this size, in bytes.
const pieces = 64 << 10

// rows sends rows of an answer, so many at most; 0 is all. It tells how many they were, and whether there were no more.
func (x *session) rows(a *asking.Answer, formats []int16, most uint32, p *pending) (n uint32, over bool, err error) {
	if err := x.flush(); err != nil {
		return 0, false, err
	}
	var b []byte
	columns := a.Columns()
	for {
		if p.record == nil || p.next == int(p.record.NumRows()) {
			if p.record, err = a.Next(); err != nil {
				return n, false, x.interrupted(b, err)
			}
			if p.record == nil {
				break
			}
			p.next, p.encode = 0, encoders(p.record, columns, formats)
			continue
		}
		if most > 0 && n == most {
			return n, false, x.write(b)
		}
		at := len(b)
		b = appendRow(append(b, 'D', 0, 0, 0, 0), p.record, p.encode, p.next)
		binary.BigEndian.PutUint32(b[at+1:], uint32(len(b)-at-1))
		p.next, n, p.sent = p.next+1, n+1, p.sent+1
		if len(b) >= pieces {
			if err := x.write(b); err != nil {
				return n, false, err
			}
			b = b[:0]
		}
	}
	return n, true, x.write(b)
}

// complete tells that a statement is done, and how many rows it gave.
func (x *session) complete(tag string, n int64) {
	x.backend.Send(&pgproto3.CommandComplete{CommandTag: fmt.Appendf(nil, "%s %d", tag, n)})
}

// interrupted sends what came before an error.
func (x *session) interrupted(b []byte, err error) error {
	if gone := x.write(b); gone != nil {
		return gone
	}
	return err
}

func (x *session) write(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	if _, err := x.conn.Write(b); err != nil {
		return errGone
	}
	return nil
}

// copyOut sends an answer as COPY does (PostgreSQL, COPY; COPY Operations).
func (x *session) copyOut(a *asking.Answer, c *copying) error {
	columns := a.Columns()
	codes := make([]uint16, len(columns))
	overall := byte(0)
	if c.format == "binary" {
		overall = 1
		for i := range codes {
			codes[i] = 1
		}
	}
	x.backend.Send(&pgproto3.CopyOutResponse{OverallFormat: overall, ColumnFormatCodes: codes})
	if err := x.flush(); err != nil {
		return err
	}
	form := c.form(columns)
	b := piece(nil, form.header)
	n := int64(0)
	for {
		record, err := a.Next()
		if err != nil {
			return x.interrupted(b, err)
		}
		if record == nil {
			break
		}
		encode := form.encoders(record, columns)
		for row := range int(record.NumRows()) {
			at := len(b)
			b = form.row(append(b, 'd', 0, 0, 0, 0), record, encode, row)
			binary.BigEndian.PutUint32(b[at+1:], uint32(len(b)-at-1))
			if len(b) >= pieces {
				if err := x.write(b); err != nil {
					return err
				}
				b = b[:0]
			}
		}
		n += record.NumRows()
	}
	if err := x.write(piece(b, form.trailer)); err != nil {
		return err
	}
	x.backend.Send(&pgproto3.CopyDone{})
	x.backend.Send(&pgproto3.CommandComplete{CommandTag: fmt.Appendf(nil, "COPY %d", n)})
	return nil
}

// piece appends a message of a copy, where there is something in it.
func piece(b []byte, content []byte) []byte {
	if len(content) == 0 {
		return b
	}
	b = binary.BigEndian.AppendUint32(append(b, 'd'), uint32(len(content)+4))
	return append(b, content...)
}

// copyForm is how rows of a copy are written.
type copyForm struct {
	header, trailer []byte
	encoders        func(arrow.RecordBatch, []schema.Column) []encoder
	row             func(b []byte, record arrow.RecordBatch, encode []encoder, row int) []byte
}
