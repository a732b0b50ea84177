package mariadb

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/change"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/binlog"
)

// What MySQL's servers of version 8 write cannot be had here: the events of these tests are made as
// its pages describe them.

var origin = uuid.MustParse("3e11fa47-71ca-11e1-9e33-c80aa9429562")

func event(kind byte, parts ...any) []byte {
	out := make([]byte, 19)
	out[4] = kind
	for _, p := range parts {
		switch p := p.(type) {
		case int:
			out = append(out, byte(p))
		case string:
			out = append(out, p...)
		case []byte:
			out = append(out, p...)
		case uint64:
			out = binary.LittleEndian.AppendUint64(out, p)
		}
	}
	binary.LittleEndian.PutUint32(out[9:], uint32(len(out)))
	return out
}

const committedAt = 1_795_000_000_123_456

func begins(n uint64) []byte {
	moment := binary.LittleEndian.AppendUint64(nil, committedAt+10*n|1<<55)
	return event(33, 1, origin[:], n, 2, uint64(0), uint64(0), moment[:7], make([]byte, 7))
}

func says(sql string) []byte {
	return event(2, make([]byte, 8), 1, 0, 0, 0, 0, "c", 0, sql)
}

func describes() []byte { // c.copies (id int, note varchar(40))
	return event(19, 7, make([]byte, 5), 0, 0, 1, "c", 0, 6, "copies", 0, 2, 3, 15, 2, 160, 0, 2)
}

func inserts(id int, note string) []byte {
	return event(30, 7, make([]byte, 5), 0, 0, 2, 0, 2, 3, 0, id, 0, 0, 0, len(note), note)
}

func commits() []byte { return event(16, uint64(1)) }

func compressed(t *testing.T, events ...[]byte) []byte {
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	var plain []byte
	for _, e := range events {
		plain = append(plain, e...)
	}
	content := z.EncodeAll(plain, nil)
	return event(40, 2, 1, 0, 3, 3, 0xfc, len(plain)&0xff, len(plain)>>8, 1, 1, len(content), 0, content)
}

// seen is a set of transactions for the test, all of one server.
type seen string

func (s seen) Sum() uint64                  { return uint64(len(s)) }
func (s seen) String() string               { return string(s) }
func (s seen) Has(b *binlog.Begin) bool     { return strings.Contains(string(s), fmt.Sprint(b.Seq)) }
func (s seen) With(b *binlog.Begin) Reached { return seen(string(s) + fmt.Sprint(b.Seq)) }

// stream makes one that reads from a place.
func newStream(t *testing.T, from place) *stream {
	columns := []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int32}, Wire: wayInt, Native: "int(11)"},
		{Name: "note", Type: schema.Type{Kind: schema.Text}, Wire: wayText + " utf8mb4", Native: "varchar(40)"}}
	log := &Log{Parse: func(list string) (Reached, error) { return seen(list), nil }}
	s := &Source{Reader: &Reader{server: Server{Name: "MySQL", Log: log}}}
	x := &stream{s: s, decoder: binlog.NewDecoder(), maps: map[*binlog.Table]*mapped{}, from: from,
		at: place{Reached: from.Reached}, prepared: map[string]*prepared{}, saved: map[string]source.Mark{},
		Gathering: source.NewGathering(change.Clock{})}
	g := &followed{Changes: x.Table(source.Followed{Key: []string{"id"},
		Table: schema.Table{Name: schema.Name{Schema: "c", Table: "copies"}, Columns: columns, Key: []string{"id"}}}),
		values: make([]scalar, 2), all: columns}
	for _, c := range columns {
		charset, err := s.charsetOf(t.Context(), c)
		require.NoError(t, err)
		g.codecs = append(g.codecs, codecOf(c, charset))
	}
	x.tables = []*followed{g}
	return x
}

// taken tells what a stream makes of events, a line for each change.
func taken(t *testing.T, x *stream, events ...[]byte) (lines []string) {
	for _, e := range events {
		_, err := x.take(e)
		require.NoError(t, err)
	}
	b := x.Take().Batches[0]
	for i, r := range b.Rows {
		line := fmt.Sprintf("%d %s", (b.Txns[r.Txn].Moment-committedAt)/10, r.Kind)
		if !r.Misfit {
			line += fmt.Sprintf(" %d %s", b.Record.Column(0).(*array.Int32).Value(i),
				b.Record.Column(1).(*array.String).Value(i))
		}
		lines = append(lines, line)
	}
	return lines
}

// Transactions in two phases count when they are committed, compressed ones like others, and one that
// a statement ends at once as what it is.
func TestTransactionsOfMySQL(t *testing.T) {
	x := newStream(t, place{Reached: seen("")})
	require.Equal(t, []string{"2 insert 2 two", "3 insert 1 one", "5 insert 5 five", "6 insert 6 at once"}, taken(t, x,
		begins(1), says("XA START X'74',X'',1"), describes(), inserts(1, "one"), says("XA END X'74',X'',1"),
		event(38, 0, make([]byte, 12)),
		begins(2), says("BEGIN"), describes(), inserts(2, "two"), commits(),
		begins(3), says("XA COMMIT X'74',X'',1"),
		begins(4), says("CREATE TABLE other (id int)"),
		begins(5), compressed(t, says("BEGIN"), describes(), inserts(5, "five"), commits()),
		begins(6), says("XA START X'75',X'',1"), describes(), inserts(6, "at once"), says("XA END X'75',X'',1"),
		event(38, 1, make([]byte, 12)),
		begins(7), says("XA START X'76',X'',1"), compressed(t, describes(), inserts(7, "given up")),
		says("XA END X'76',X'',1"), event(38, 0, make([]byte, 12)),
		begins(8), says("XA ROLLBACK X'76',X'',1")))
	require.Equal(t, "00000000000000000008 12345678", x.position().String())

	// What was prepared in the run before is read again for its commit alone.
	x = newStream(t, place{Reached: seen("12"), before: "0"})
	require.Equal(t, []string{"3 insert 1 one"}, taken(t, x,
		begins(1), says("XA START X'74',X'',1"), describes(), inserts(1, "one"), says("XA END X'74',X'',1"),
		event(38, 0, make([]byte, 12)),
		begins(2), says("BEGIN"), describes(), inserts(2, "two"), commits(),
		begins(3), says("XA COMMIT X'74',X'',1")))
}

// Documents that are told by how they differ, and transactions without a number, are not guessed at.
func TestWhatMySQLDoesNotTell(t *testing.T) {
	x := newStream(t, place{Reached: seen("")})
	partly := inserts(1, "one")
	partly[4] = 39
	partly = append(partly[:30], append([]byte{3}, partly[30:]...)...)
	require.Equal(t, []string{"1 truncate"}, taken(t, x, begins(1), says("BEGIN"), describes(), partly, commits()))
	_, err := x.take(event(34, make([]byte, 40)))
	require.ErrorIs(t, err, binlog.ErrNoNumber)
}
