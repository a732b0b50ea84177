package pgcopy

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Reader turns the stream of COPY TO STDOUT (FORMAT binary) into batches. It
// is the io.Writer that the connection writes to (PostgreSQL, SQL COPY, Binary Format).
type Reader struct {
	*rows.Batcher
	sink     func(rows.Batch) error
	columns  []schema.Column // of the records
	mappings []mapping
	table    int    // how many of them are the table's own
	key      []int  // places of the key, for rows set aside
	notNull  []bool // by place: a null sets the row aside
	checked  []int  // places of columns with values that may have to be set aside

	decoded []int         // places of the columns that are decoded, by the Batcher's fields
	raw     *rows.Raw     // the rows as they come; nil where all columns are decoded
	blank   []arrow.Array // by place: nulls for the columns that are passed on raw alone

	data     []byte // what the row is read from
	values   []span // of the row, within data
	tableEnd int    // where the table's own values end, within data
	partial  []byte // the beginning of a row that continues in the next write
	header   bool   // the header has been read
	ended    bool   // the trailer has been read
}

// span is where a value stands; a null stands nowhere. Spans rather than slices: they
// hold no pointer, which the garbage collector would have to be told of for each value.
type span struct{ from, to int }

var null = span{-1, -1}

// value is the value at a place of the row; nil is null.
func (r *Reader) value(place int) []byte {
	s := r.values[place]
	if s == null {
		return nil
	}
	return r.data[s.from:s.to:s.to]
}

// NewReader makes a Reader of rows with these columns. The first of them, as many
// as table says, are the table's own. Rows with a null in one of notNull are set
// aside; key names rows that are set aside.
func NewReader(columns []schema.Column, table int, key, notNull []string, sink func(rows.Batch) error) *Reader {
	r := &Reader{Batcher: rows.NewBatcher(columns, sink), sink: sink, columns: columns, table: table,
		key: schema.Indexes(columns, key), values: make([]span, len(columns))}
	for _, c := range columns {
		m, _ := mappingOf(c)
		r.mappings = append(r.mappings, m)
		r.notNull = append(r.notNull, slices.Contains(notNull, c.Name))
		if m.check != nil || slices.Contains(notNull, c.Name) {
			r.checked = append(r.checked, len(r.mappings)-1)
		}
		r.decoded = append(r.decoded, len(r.mappings)-1)
	}
	return r
}

// Form is the form of rows in which this package gives and takes them besides Arrow: the
// fields of a tuple of COPY in binary, each with its length.
const Form = "fields of COPY BINARY"

// rawRows is how many rows are passed on at once as they came. The other server takes them
// in while more are read, so few wait at the beginning and at the end.
const rawRows = 4096

// KeepRaw has the table's own columns passed on as they come, and only the named ones, and
// what the query adds, decoded. It does nothing where a warehouse stores a column in another
// form than it comes in. It is called before anything is read.
func (r *Reader) KeepRaw(named []string) {
	if slices.ContainsFunc(r.columns[:r.table], func(c schema.Column) bool { return !isSame(c) }) {
		return
	}
	r.decoded, r.blank = nil, make([]arrow.Array, len(r.columns))
	var columns []schema.Column
	for i, c := range r.columns {
		if i >= r.table || slices.Contains(named, c.Name) {
			r.decoded, columns = append(r.decoded, i), append(columns, c)
		} else {
			r.blank[i] = array.MakeArrayOfNull(memory.DefaultAllocator, c.Type.Arrow(), rawRows)
		}
	}
	r.Batcher = rows.NewBatcher(columns, r.passOnRaw)
	r.Most = rawRows
	r.raw = rows.NewRaw(Form, r.table)
}

// passOnRaw completes a batch by the columns that were not decoded.
func (r *Reader) passOnRaw(b rows.Batch) error {
	n := b.Record.NumRows()
	columns := make([]arrow.Array, len(r.columns))
	for field, place := range r.decoded {
		columns[place] = b.Record.Column(field)
		columns[place].Retain()
	}
	for place, blank := range r.blank {
		if blank != nil {
			columns[place] = array.NewSlice(blank, 0, n)
		}
	}
	full := array.NewRecordBatch(schema.Arrow(r.columns), columns, n)
	for _, c := range columns {
		c.Release()
	}
	b.Record.Release()
	b.Record, b.Raw, r.raw = full, r.raw, rows.NewRaw(Form, r.table)
	return r.sink(b)
}

// isSame tells whether the values of a column come in the bytes in which a warehouse stores
// them.
func isSame(c schema.Column) bool {
	switch c.Wire {
	case "":
		return c.Type.Kind == schema.Text
	case "oid", "jsonb":
		return false
	}
	return true
}

// How long the header's extension and a row may be, in bytes.
const (
	mostExtension = 64 << 10
	mostRow       = 256 << 20
)

var copySignature = []byte("PGCOPY\n\xff\r\n\x00")

var errShort = errors.New("the row continues in the next message")

func (r *Reader) Write(chunk []byte) (int, error) {
	data := chunk
	if len(r.partial) > 0 {
		data = append(r.partial, chunk...)
	}
	for len(data) > 0 && !r.ended {
		used, err := r.next(data)
		if errors.Is(err, errShort) {
			break
		}
		if err != nil {
			return 0, err
		}
		data = data[used:]
	}
	if len(data) > mostRow {
		return 0, fmt.Errorf("the server's COPY stream has a row of more than %d MB, which is the most that is taken in",
			mostRow>>20)
	}
	r.partial = append(r.partial[:0:0], data...)
	return len(chunk), nil
}

// next reads the header, a row or the trailer from the front of data.
func (r *Reader) next(data []byte) (int, error) {
	if !r.header {
		const fixed = 11 + 4 + 4
		if len(data) < fixed {
			return 0, errShort
		}
		if !bytes.HasPrefix(data, copySignature) {
			return 0, errors.New("the server's COPY stream does not begin as PostgreSQL documents it")
		}
		extension := int(binary.BigEndian.Uint32(data[15:]))
		if extension > mostExtension {
			return 0, fmt.Errorf("the server's COPY stream has a header of %d bytes", extension)
		}
		if len(data) < fixed+extension {
			return 0, errShort
		}
		r.header = true
		return fixed + extension, nil
	}
	if len(data) < 2 {
		return 0, errShort
	}
	fields := int16(binary.BigEndian.Uint16(data))
	if fields == -1 {
		r.ended = true
		return 2, nil
	}
	if int(fields) != len(r.values) {
		return 0, fmt.Errorf("the server's COPY stream has %d fields in a row, not %d", fields, len(r.values))
	}
	used := 2
	for i := range r.values {
		if i == r.table {
			r.tableEnd = used
		}
		if len(data) < used+4 {
			return 0, errShort
		}
		length := int(int32(binary.BigEndian.Uint32(data[used:])))
		used += 4
		if length == -1 {
			r.values[i] = null
			continue
		}
		if length < 0 || length > mostRow {
			return 0, fmt.Errorf("the server's COPY stream has a value of %d bytes in the column %s, and %d MB are "+
				"the most that is taken in", length, r.columns[i].Name, mostRow>>20)
		}
		if len(data) < used+length {
			return 0, errShort
		}
		r.values[i] = span{used, used + length}
		// A call for each value would cost more than all else.
		if m := &r.mappings[i]; m.fits != nil || m.width != 0 && length != m.width {
			if err := m.malformed(data[used : used+length]); err != nil {
				return 0, fmt.Errorf("the column %s: %w", r.columns[i].Name, err)
			}
		}
		used += length
	}
	if r.data = data; r.table == len(r.values) {
		r.tableEnd = used
	}
	return used, r.row(used)
}

func (r *Reader) row(size int) error {
	for _, i := range r.checked {
		s, v := r.values[i], []byte(nil)
		if s != null {
			v = r.data[s.from:s.to:s.to]
		}
		reason, shown := "", ""
		switch check := r.mappings[i].check; {
		case v == nil && r.notNull[i]:
			reason = rows.IsNullKey
		case v != nil && check != nil:
			reason, shown = check(v)
		}
		if reason != "" {
			return r.SetAside(r.aside(i, reason, shown), size)
		}
	}
	for field, place := range r.decoded {
		if s := r.values[place]; s == null {
			r.Fields[field].AppendNull()
		} else {
			r.mappings[place].decode(r.Fields[field], r.data[s.from:s.to:s.to])
		}
	}
	if r.raw != nil {
		r.raw.Data = append(r.raw.Data, r.data[2:r.tableEnd]...)
		r.raw.Ends = append(r.raw.Ends, len(r.raw.Data))
	}
	return r.Add(size)
}

// aside is the row that is in values, as text.
func (r *Reader) aside(place int, reason, shown string) rows.Aside {
	texts := make([]*string, len(r.values))
	for i := range r.values {
		v := r.value(i)
		if v == nil {
			continue
		}
		text := ""
		if i == place {
			text = shown
		} else if m := r.mappings[i]; m.check != nil {
			_, text = m.check(v)
		}
		if text == "" {
			text = r.text(i, v)
		}
		texts[i] = &text
	}
	return rows.NewAside(r.columns[:r.table], texts, r.key, r.columns[place].Name, reason)
}

func (r *Reader) text(place int, value []byte) string {
	b := array.NewBuilder(memory.DefaultAllocator, r.columns[place].Type.Arrow())
	r.mappings[place].decode(b, value)
	text, _ := schema.CellText(b.NewArray(), 0, r.columns[place].Type)
	return text
}

// End passes on the last rows, after the whole stream was written.
func (r *Reader) End() error {
	if !r.ended {
		return errors.New("the server's COPY stream ended before its trailer")
	}
	return r.PassOn()
}
