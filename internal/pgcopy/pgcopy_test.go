package pgcopy_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// Numbers that are written reach the server as they are, and come back the same.
func TestNumbersThroughTheServer(t *testing.T) {
	_, conn := testkit.Database(t)
	testkit.Exec(t, conn, `CREATE TABLE n (i bigint, d numeric(38,9), w numeric)`)
	columns := []schema.Column{
		{Name: "i", Type: schema.Type{Kind: schema.Int64}},
		{Name: "d", Type: schema.Type{Kind: schema.Decimal, Precision: 38, Scale: 9}},
		{Name: "w", Type: schema.Type{Kind: schema.Numeric}},
	}
	var wide, fixed []string
	builder := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	add := func(d decimal128.Num, w string) {
		builder.Field(0).(*array.Int64Builder).Append(int64(len(wide)))
		builder.Field(1).(*array.Decimal128Builder).Append(d)
		builder.Field(2).(*array.StringBuilder).Append(w)
		wide, fixed = append(wide, w), append(fixed, d.ToString(9))
	}
	for _, w := range []string{"NaN", "Infinity", "-Infinity", "0", "0.00", "-0.01", "10000", "0.0001", "0.00001",
		"99999999", "1234567890.000000000000"} {
		add(decimal128.FromI64(int64(len(w))*1_000_000_000), w)
	}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64().Draw(t, "low")
		d := decimal128.New(rapid.Int64Range(-2_000_000_000_000_000_000, 2_000_000_000_000_000_000).Draw(t, "high"),
			uint64(n))
		if rapid.Bool().Draw(t, "small") {
			d = decimal128.FromI64(n % 1_000_000_000_000)
		}
		w := rapid.StringMatching(`(-[1-9])?[1-9][0-9]{0,30}(\.[0-9]{1,30})?`).Draw(t, "wide")
		add(d, w)
	})
	record := builder.NewRecordBatch()
	stream := append(append(append([]byte{}, pgcopy.Header...), pgcopy.AppendRows(nil, record, columns)...),
		pgcopy.Trailer...)
	_, err := conn.PgConn().CopyFrom(context.Background(), bytes.NewReader(stream), `COPY n FROM STDIN (FORMAT binary)`)
	require.NoError(t, err)
	found, err := conn.Query(context.Background(), `SELECT d::text, w::text FROM n ORDER BY i`)
	require.NoError(t, err)
	i := 0
	for ; found.Next(); i++ {
		var d, w string
		require.NoError(t, found.Scan(&d, &w))
		require.Equal(t, []string{fixed[i], wide[i]}, []string{d, w})
	}
	require.NoError(t, found.Err())
	require.Equal(t, len(wide), i)
	var back []string
	stored := []schema.Column{pgcopy.Stored(columns[1])}
	reader := pgcopy.NewReader(stored, 1, nil, nil, func(b rows.Batch) error {
		for row := range int(b.Record.NumRows()) {
			text, _ := schema.CellText(b.Record.Column(0), row, stored[0].Type)
			back = append(back, text)
		}
		return nil
	})
	_, err = conn.PgConn().CopyTo(context.Background(), reader,
		`COPY (SELECT d FROM n ORDER BY i) TO STDOUT (FORMAT binary)`)
	require.NoError(t, err)
	require.NoError(t, reader.End())
	require.Equal(t, fixed, back)
}

// However the stream is cut into messages, the rows are the same.
func TestAnyCutOfTheStream(t *testing.T) {
	columns := []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int32}, Wire: "int4"},
		{Name: "note", Type: schema.Type{Kind: schema.Text}, Wire: "text"}}
	builder := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	for i := range 40 {
		builder.Field(0).(*array.Int32Builder).Append(int32(i))
		if i%3 == 0 {
			builder.Field(1).AppendNull()
		} else {
			builder.Field(1).(*array.StringBuilder).Append(strings.Repeat("é", i))
		}
	}
	record := builder.NewRecordBatch()
	stream := append(append(append([]byte{}, pgcopy.Header...), pgcopy.AppendRows(nil, record, columns)...),
		pgcopy.Trailer...)
	rapid.Check(t, func(t *rapid.T) {
		total := int64(0)
		r := pgcopy.NewReader(columns, 2, nil, nil, func(b rows.Batch) error {
			require.True(t, array.RecordEqual(record, b.Record))
			total += b.Rows()
			return nil
		})
		for rest := stream; len(rest) > 0; {
			n := rapid.IntRange(1, min(len(rest), 60)).Draw(t, "cut")
			written, err := r.Write(rest[:n])
			require.NoError(t, err)
			require.Equal(t, n, written)
			rest = rest[n:]
		}
		require.NoError(t, r.End())
		require.Equal(t, int64(40), total)
	})
}

// Rows that are kept as they come leave as they came, with what is added behind them; the
// columns that are looked at are decoded beside them.
func TestRowsKeptRaw(t *testing.T) {
	text := schema.Column{Name: "note", Type: schema.Type{Kind: schema.Text}, Wire: "text"}
	columns := []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int32}, Wire: "int4"}, text,
		{Name: "nm_run", Type: schema.Type{Kind: schema.Int64}, Wire: "int8"}}
	builder := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	for i := range 10_000 {
		builder.Field(0).(*array.Int32Builder).Append(int32(i))
		if i%3 == 0 {
			builder.Field(1).AppendNull()
		} else {
			builder.Field(1).(*array.StringBuilder).Append(strings.Repeat("é", i%50))
		}
		builder.Field(2).(*array.Int64Builder).Append(7)
	}
	record := builder.NewRecordBatch()
	want := pgcopy.AppendRows(nil, record, columns)
	own := array.NewRecordBatch(schema.Arrow(columns[:2]), record.Columns()[:2], record.NumRows())
	stream := append(append(append([]byte{}, pgcopy.Header...), pgcopy.AppendRows(nil, own, columns[:2])...),
		pgcopy.Trailer...)
	var got []byte
	from := 0
	r := pgcopy.NewReader(columns[:2], 2, nil, nil, func(b rows.Batch) error {
		n := int(b.Record.NumRows())
		require.Equal(t, pgcopy.Form, b.Raw.Form)
		require.True(t, array.Equal(record.NewSlice(int64(from), int64(from+n)).Column(0), b.Record.Column(0)))
		require.Equal(t, n, b.Record.Column(1).NullN(), "a column that nobody looks at is not decoded")
		whole := array.NewRecordBatch(schema.Arrow(columns),
			append(append([]arrow.Array{}, b.Record.Columns()...),
				record.NewSlice(int64(from), int64(from+n)).Column(2)), int64(n))
		got = pgcopy.AppendRaw(pgcopy.AppendRaw(got, b.Raw, 0, n/2, whole, columns), b.Raw, n/2, n, whole, columns)
		from += n
		return nil
	})
	r.KeepRaw([]string{"id"})
	_, err := r.Write(stream)
	require.NoError(t, err)
	require.NoError(t, r.End())
	require.Equal(t, want, got)

	// A warehouse stores jsonb in another form.
	decoded := pgcopy.NewReader([]schema.Column{{Name: "doc", Type: schema.Type{Kind: schema.JSON}, Wire: "jsonb"}}, 1,
		nil, nil, func(b rows.Batch) error {
			require.Nil(t, b.Raw)
			return nil
		})
	decoded.KeepRaw(nil)
	_, err = decoded.Write(append(append(append([]byte{}, pgcopy.Header...), 0, 1, 0, 0, 0, 3, 1, '{', '}'),
		pgcopy.Trailer...))
	require.NoError(t, err)
	require.NoError(t, decoded.End())
}

func TestStreamsThatAreWrongAreRefused(t *testing.T) {
	columns := []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int32}, Wire: "int4"}}
	read := func(stream []byte) error {
		r := pgcopy.NewReader(columns, 1, nil, nil, func(rows.Batch) error { return nil })
		if _, err := r.Write(stream); err != nil {
			return err
		}
		return r.End()
	}
	require.ErrorContains(t, read([]byte("not a COPY stream at all, but long enough")), "does not begin")
	require.ErrorContains(t, read(pgcopy.Header), "ended before its trailer")
	twoFields := binary.BigEndian.AppendUint16(append([]byte{}, pgcopy.Header...), 2)
	require.ErrorContains(t, read(append(twoFields, 0, 0)), "2 fields in a row, not 1")
}
