package postgres

import (
	"encoding/binary"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/change"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/source"
)

func aStream() *stream {
	columns := []schema.Column{
		{Name: "id", Type: schema.Type{Kind: schema.Int64}, Wire: "int8"}, {Name: "name",
			Type: schema.Type{Kind: schema.Text}, Wire: "text"},
		{Name: "fee", Type: schema.Type{Kind: schema.Decimal, Precision: 8, Scale: 2}, Wire: "decimal"}, {Name: "at",
			Type: schema.Type{Kind: schema.TimestampTZ}, Wire: "timestamptz"},
	}
	x := &stream{relations: map[uint32]*described{}}
	g := &followed{Changes: x.Table(source.Followed{Table: schema.Table{Name: schema.Name{Schema: "public",
		Table: "fines"}, Columns: columns}, Key: []string{"id"}, Whole: true}), types: []uint32{20, 25, 1700, 1184}}
	for _, c := range columns {
		g.values = append(g.values, pgcopy.ValueOf(c))
	}
	x.tables = []*followed{g}
	return x
}

var (
	describes = append([]byte("R\x00\x00\x00\x01public\x00fines\x00d\x00\x04"),
		[]byte("\x01id\x00\x00\x00\x00\x14\xff\xff\xff\xff\x00name\x00\x00\x00\x00\x19\xff\xff\xff\xff\x00fee\x00\x00\x00\x06\xa4\x00\x08\x00\x06\x00at\x00\x00\x00\x04\xa0\xff\xff\xff\xff")...)
	begins = append([]byte("B"), make([]byte, 20)...)
	insert = append(append([]byte("I\x00\x00\x00\x01N\x00\x04b\x00\x00\x00\x08"),
		binary.BigEndian.AppendUint64(nil, 7)...), []byte("t\x00\x00\x00\x05Aelisnn")...)
)

func TestMessagesOfTheLog(t *testing.T) {
	x := aStream()
	for _, m := range [][]byte{begins, describes, insert} {
		_, err := x.take(m)
		require.NoError(t, err)
	}
	got := x.Take()
	require.True(t, got.Open)
	require.Equal(t, []change.Row{{Kind: change.Insert, Seq: 1}}, got.Batches[0].Rows)
	require.Equal(t, int64(7), got.Batches[0].Record.Column(0).(*array.Int64).Value(0))
	require.Equal(t, "Aelis", got.Batches[0].Record.Column(1).(*array.String).Value(0))
}

// Whatever comes, the worst is an error: messages cut short, bytes changed, any order.
func TestNoMessageEndsTheProcess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		x := aStream()
		for range rapid.IntRange(1, 8).Draw(t, "messages") {
			m := append([]byte{}, rapid.SampledFrom([][]byte{begins, describes, insert, []byte("C"),
				[]byte("D\x00\x00\x00\x01K"), []byte("T\x00\x00\x00\x01\x00\x00\x00\x00\x01")}).Draw(t, "kind")...)
			for range rapid.IntRange(0, 3).Draw(t, "changed bytes") {
				m[rapid.IntRange(0, len(m)-1).Draw(t, "place")] = rapid.Byte().Draw(t, "byte")
			}
			if m[0] == 'R' && (len(m) < 2 || m[1] > 0) {
				continue // a table whose catalogue would have to be asked
			}
			_, _ = x.take(m[:rapid.IntRange(0, len(m)).Draw(t, "length")])
		}
	})
}

func TestSnapshotsSeeWhatHadCommitted(t *testing.T) {
	s, err := parseSnapshot("8589934600:8589934610:8589934602,8589934605") // 2 × 2^32 + 8 to + 18
	require.NoError(t, err)
	for id, want := range map[uint32]bool{7: true, 8: true, 9: true, 10: false, 13: false, 12: true, 17: true,
		18: false, 19: false, 4294967295: true} {
		require.Equal(t, want, s.sees(id), "transaction %d", id)
	}
	for _, wrong := range []string{"", "1:2", "a:b:"} {
		_, err := parseSnapshot(wrong)
		require.Error(t, err, wrong)
	}
}

func TestPositionsSortAsText(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := lsn(rapid.Uint64().Draw(t, "a")), lsn(rapid.Uint64().Draw(t, "b"))
		if (a < b) != (a.String() < b.String()) {
			t.Fatalf("%s and %s do not sort as they are", a, b)
		}
		if back, err := parseLSN(a.String()); err != nil || back != a {
			t.Fatalf("%s reads as %s: %v", a, back, err)
		}
	})
}

// Messages one after another, each with its length before it.
func FuzzMessages(f *testing.F) {
	together := func(messages ...[]byte) (out []byte) {
		for _, m := range messages {
			out = append(binary.BigEndian.AppendUint16(out, uint16(len(m))), m...)
		}
		return out
	}
	f.Add(together(begins, describes, insert, []byte("C")))
	f.Add(together(begins, describes, []byte("U\x00\x00\x00\x01K\x00\x04b\x00\x00\x00\x08\x00\x00\x00\x00\x00\x00\x00\x01nnnN\x00\x04b\x00\x00\x00\x08\x00\x00\x00\x00\x00\x00\x00\x02uuu")))
	f.Add(together(begins, describes, []byte("D\x00\x00\x00\x01K\x00\x04b\x00\x00\x00\x02\x00\x01nnn")))
	f.Add(together(begins, []byte("T\x00\x00\x00\x01\x00\x00\x00\x00\x01")))
	f.Fuzz(func(t *testing.T, data []byte) {
		x := aStream()
		x.tables[0].Whole = false // else its catalogue would be asked
		defer x.Release()
		for len(data) >= 2 {
			n := min(int(binary.BigEndian.Uint16(data)), len(data)-2)
			if _, err := x.message(data[2 : 2+n]); err != nil {
				return
			}
			data = data[2+n:]
		}
		for _, b := range x.Take().Batches {
			if b.Record != nil {
				require.Len(t, b.Rows, int(b.Record.NumRows()))
				b.Record.Release()
			}
		}
	})
}
