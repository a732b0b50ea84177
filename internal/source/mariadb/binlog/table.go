package binlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
)

// Type is the type of a column in the log (mariadb.com/kb/en/result-set-packets, field types).
type Type byte

// The types that columns have.
const (
	Tiny              Type = 1
	Short             Type = 2
	Long              Type = 3
	Float             Type = 4
	Double            Type = 5
	Timestamp         Type = 7
	LongLong          Type = 8
	Int24             Type = 9
	Date              Type = 10
	Time              Type = 11
	DateTime          Type = 12
	Year              Type = 13
	VarChar           Type = 15
	Bit               Type = 16
	Timestamp2        Type = 17
	DateTime2         Type = 18
	Time2             Type = 19
	BlobCompressed    Type = 140
	VarCharCompressed Type = 141
	JSONDocument      Type = 245
	NewDecimal        Type = 246
	Enum              Type = 247
	Set               Type = 248
	Blob              Type = 252
	VarString         Type = 253
	String            Type = 254
	Geometry          Type = 255
)

// Table describes a table as the events that follow have it.
type Table struct {
	ID           uint64
	Schema, Name string
	Columns      []Column
	Key          []int // places of the primary key's columns; known only where the table is Named
	Signs        bool  // it is told which numbers have a sign
	described    []byte
	Named        bool // the server tells names and the like: its binlog_row_metadata is FULL
}

// Column is one of a table's columns.
type Column struct {
	Type     Type
	Nullable bool
	Size     int // digits of a decimal, most bytes of a text or a bit field, bytes of a blob's length
	Scale    int // digits after the point, of a decimal or of seconds
	// Known only where the table is Named, but for Unsigned, which may be known alone.
	Name     string
	Unsigned bool
	Values   []string // of an enum or a set, in the character set of their collation
	// The number of the collation of a text, an enum or a set; 0 where the log does not tell.
	Collation uint64
}

// tableMap reads what tells the table of the events after it (Table Map Event).
func tableMap(r *reader, mysql bool) (*Table, error) {
	t := &Table{ID: r.uint(6)}
	r.skip(2)
	t.Schema = string(r.take(int(r.uint(1))))
	r.skip(1)
	t.Name = string(r.take(int(r.uint(1))))
	r.skip(1)
	n := int(min(r.length(), 1<<16))
	types := r.take(n)
	measures := reader{data: r.take(int(min(r.length(), 1<<20)))}
	nullable := r.bitmap(n)
	if r.err != nil {
		return nil, r.err
	}
	t.Columns = make([]Column, n)
	for i := range t.Columns {
		c := &t.Columns[i]
		c.Type, c.Nullable = Type(types[i]), nullable[i]
		c.measure(&measures)
	}
	if measures.err != nil {
		return nil, measures.err
	}
	for len(r.data) > 0 && r.err == nil {
		kind := r.uint(1)
		field := reader{data: r.take(int(min(r.length(), 1<<26)))}
		if mysql && t.uncertain(kind) {
			continue
		}
		t.remark(kind, &field)
		if field.err != nil {
			return nil, field.err
		}
	}
	return t, r.err
}

// measure reads what the log tells of a column's size.
func (c *Column) measure(r *reader) {
	switch c.Type {
	case Float, Double, Blob, Geometry, BlobCompressed, JSONDocument:
		c.Size = int(r.uint(1))
	case Timestamp2, DateTime2, Time2:
		c.Scale = int(r.uint(1))
	case VarChar, VarString, VarCharCompressed:
		c.Size = int(r.uint(2))
	case Bit:
		bits, whole := int(r.uint(1)), int(r.uint(1))
		c.Size = whole*8 + bits
	case NewDecimal:
		c.Size, c.Scale = int(r.uint(1)), int(r.uint(1))
	case String, Enum, Set:
		// The upper bits of a long text's size are hidden in its type, inverted.
		first, second := int(r.uint(1)), int(r.uint(1))
		c.Type, c.Size = Type(first|0x30), second|(first&0x30^0x30)<<4
	}
}

// What optional metadata tell, by their number.
const (
	remarkSigned         = 1
	remarkCollation      = 2 // the usual one of texts, and those that have another
	remarkCollations     = 3 // one for each text
	remarkNames          = 4
	remarkSets           = 5
	remarkEnums          = 6
	remarkKey            = 8
	remarkKeyOfPrefixes  = 9
	remarkEnumCollation  = 10
	remarkEnumCollations = 11
)

// remark takes in one piece of optional metadata.
func (t *Table) remark(kind uint64, r *reader) {
	switch kind {
	case remarkSigned: // one bit for each number, the highest first
		t.Signs = true
		i := 0
		for k := range t.Columns {
			switch t.Columns[k].Type {
			case Tiny, Short, Int24, Long, LongLong, Float, Double, NewDecimal, Year:
				if i/8 < len(r.data) {
					t.Columns[k].Unsigned = r.data[i/8]>>(7-i%8)&1 == 1
				}
				i++
			}
		}
	case remarkNames:
		names := r.texts(len(t.Columns))
		if len(names) == len(t.Columns) {
			t.Named = true
			for i, name := range names {
				t.Columns[i].Name = name
			}
		}
	case remarkCollation, remarkEnumCollation:
		usual := r.length()
		columns := t.withCollation(kind == remarkEnumCollation)
		for _, c := range columns {
			c.Collation = usual
		}
		for len(r.data) > 0 && r.err == nil {
			if i, other := r.length(), r.length(); i < uint64(len(columns)) {
				columns[i].Collation = other
			}
		}
	case remarkCollations, remarkEnumCollations:
		for _, c := range t.withCollation(kind == remarkEnumCollations) {
			c.Collation = r.length()
		}
	case remarkKey, remarkKeyOfPrefixes:
		for len(r.data) > 0 && r.err == nil {
			if i := r.length(); i < uint64(len(t.Columns)) {
				t.Key = append(t.Key, int(i))
			}
			if kind == remarkKeyOfPrefixes {
				r.length()
			}
		}
	case remarkSets, remarkEnums:
		wanted := map[uint64]Type{remarkSets: Set, remarkEnums: Enum}[kind]
		for i := range t.Columns {
			if t.Columns[i].Type == wanted {
				t.Columns[i].Values = r.texts(int(min(r.length(), 1<<16)))
			}
		}
	}
}

// uncertain tells whether a piece of MySQL's metadata cannot be put down to columns: whether years
// are among the numbers, and geometries among the texts, its pages do not say.
func (t *Table) uncertain(kind uint64) bool {
	of := Year
	switch kind {
	case remarkCollation, remarkCollations:
		of = Geometry
	case remarkSigned:
	default:
		return false
	}
	return slices.ContainsFunc(t.Columns, func(c Column) bool { return c.Type == of })
}

// withCollation gives the columns that collations are told of, in their order: enums and
// sets, or all else that is stored as text or bytes.
func (t *Table) withCollation(chosen bool) (columns []*Column) {
	for i := range t.Columns {
		switch t.Columns[i].Type {
		case Enum, Set:
			if chosen {
				columns = append(columns, &t.Columns[i])
			}
		case VarChar, VarString, String, Blob, Geometry, BlobCompressed, VarCharCompressed:
			if !chosen {
				columns = append(columns, &t.Columns[i])
			}
		}
	}
	return columns
}

// extent is how many bytes the value at the front of data has, and where the content
// begins in it; -1 where data is too short.
func (c *Column) extent(data []byte) (from, to int) {
	prefixed := func(width int) (int, int) {
		if len(data) < width {
			return 0, -1
		}
		n := 0
		for i := range width {
			n |= int(data[i]) << (8 * i)
		}
		return width, width + n
	}
	switch c.Type {
	case Tiny, Year:
		return 0, 1
	case Short:
		return 0, 2
	case Int24, Date, Time:
		return 0, 3
	case Long, Float, Timestamp:
		return 0, 4
	case LongLong, Double, DateTime:
		return 0, 8
	case Timestamp2:
		return 0, 4 + (c.Scale+1)/2
	case DateTime2:
		return 0, 5 + (c.Scale+1)/2
	case Time2:
		return 0, 3 + (c.Scale+1)/2
	case NewDecimal:
		return 0, decimalBytes(c.Size-c.Scale) + decimalBytes(c.Scale)
	case Bit:
		return 0, (c.Size + 7) / 8
	case Enum, Set:
		return 0, c.Size
	case VarChar, VarString, VarCharCompressed, String:
		if c.Size < 256 {
			return prefixed(1)
		}
		return prefixed(2)
	case Blob, Geometry, BlobCompressed, JSONDocument:
		return prefixed(c.Size)
	}
	return 0, -1
}

// Cut gives the content of the value at the front of data, and how many bytes it takes
// there; -1 where data is too short for it, or its type is not known.
func (c *Column) Cut(data []byte) (value []byte, size int) {
	from, to := c.extent(data)
	if to < from || to > len(data) {
		return nil, -1
	}
	return data[from:to:to], to
}

// decimalBytes is how many bytes so many digits take: four for nine, fewer for the rest.
func decimalBytes(digits int) int {
	return digits/9*4 + [...]int{0, 1, 1, 2, 2, 3, 3, 4, 4}[max(digits, 0)%9]
}

// Kind is what an event did with its rows.
type Kind byte

// The kinds.
const (
	Insert Kind = iota + 1
	Update
	Delete
)

// Rows are the rows of one event. Each is read by Next; before or after it is as long as
// the table has columns.
type Rows struct {
	Table         *Table
	Kind          Kind
	Partly        bool   // documents are told by how they differ; such rows are not read
	Unchecked     bool   // foreign keys had no effect
	before, after []bool // the columns that are told
	data          []byte
	Before, After []Cell
}

// Cell is one value: told or not, null or not.
type Cell struct {
	Data []byte // within the event
	Told bool
	Null bool
}

// noForeignKeys is the flag of rows whose session did not look at foreign keys.
const noForeignKeys = 2

// rowsOf reads the head of an event of rows (Rows Event).
func (d *Decoder) rowsOf(h Header, r *reader, kind Kind) (*Rows, error) {
	id := r.uint(6)
	flags := r.uint(2)
	switch h.Type {
	case typeWriteV2, typeUpdateV2, typeDeleteV2, typeWriteCompressed2, typeUpdateCompressed2, typeDeleteCompressed2,
		typeUpdatePartly:
		r.skip(int(r.uint(2)) - 2)
	}
	n := int(min(r.length(), 1<<16))
	if r.err != nil {
		return nil, r.err
	}
	if id == 0xffffff && len(r.data) <= 8 {
		return nil, nil // ends a statement that changed nothing
	}
	t := d.tables[id]
	if t == nil {
		return nil, fmt.Errorf("the binary log has rows of table number %d, which it has not described", id)
	}
	if n != len(t.Columns) {
		return nil, fmt.Errorf("the binary log has rows of %d columns of %s.%s, which has %d", n, t.Schema, t.Name,
			len(t.Columns))
	}
	rows := &d.rows
	rows.Table, rows.Kind, rows.before, rows.after = t, kind, nil, nil
	rows.Partly, rows.Unchecked = h.Type == typeUpdatePartly, flags&noForeignKeys != 0
	first := r.bitmap(n)
	switch kind {
	case Insert:
		rows.after = first
	case Delete:
		rows.before = first
	default:
		rows.before, rows.after = first, r.bitmap(n)
	}
	if r.err != nil {
		return nil, r.err
	}
	rows.data = r.data
	if h.Type >= typeWriteCompressed && h.Type <= typeDeleteCompressed2 {
		var err error
		if rows.data, err = expand(rows.data); err != nil {
			return nil, err
		}
	}
	return rows, nil
}

// Size is how many bytes the rows take that have not been read, expanded.
func (r *Rows) Size() int64 { return int64(len(r.data)) }

// Next reads the next row; false is the end.
func (r *Rows) Next() (bool, error) {
	if len(r.data) == 0 {
		return false, nil
	}
	var err error
	size := len(r.data)
	if r.Before, err = r.image(r.Before, r.before); err != nil {
		return false, err
	}
	if r.After, err = r.image(r.After, r.after); err == nil && len(r.data) == size {
		err = errors.New("an event of the binary log has rows of nothing")
	}
	return err == nil, err
}

// image reads the columns that are told of a row.
func (r *Rows) image(cells []Cell, told []bool) ([]Cell, error) {
	if told == nil {
		return cells[:0], nil
	}
	if cap(cells) < len(told) {
		cells = make([]Cell, len(told))
	}
	cells = cells[:len(told)]
	n := 0
	for _, x := range told {
		if x {
			n++
		}
	}
	width := (n + 7) / 8
	if len(r.data) < width {
		return cells, errShort
	}
	nulls := r.data[:width]
	data := r.data[width:]
	k := 0
	for i := range cells {
		if !told[i] {
			cells[i] = Cell{}
			continue
		}
		null := nulls[k/8]>>(k%8)&1 == 1
		k++
		if null {
			cells[i] = Cell{Told: true, Null: true}
			continue
		}
		c := &r.Table.Columns[i]
		value, size := c.Cut(data)
		if size < 0 {
			if _, to := c.extent(data); to < 0 && len(data) > 8 {
				return cells, fmt.Errorf("column %d of %s.%s has type %d, which is not known", i+1, r.Table.Schema,
					r.Table.Name, c.Type)
			}
			return cells, errShort
		}
		cells[i] = Cell{Told: true, Data: value}
		data = data[size:]
	}
	r.data = data
	return cells, nil
}

// Int is a whole number with a sign; its lowest byte comes first.
func Int(b []byte) int64 {
	shift := 64 - 8*len(b)
	return int64(Uint(b)<<shift) >> shift
}

// Uint is a whole number without a sign; its lowest byte comes first.
func Uint(b []byte) (n uint64) {
	for i, x := range b {
		n |= uint64(x) << (8 * i)
	}
	return n
}

// Bits is a bit field, whose highest byte comes first.
func Bits(b []byte) (n uint64) {
	for _, x := range b {
		n = n<<8 | uint64(x)
	}
	return n
}

// Float32Bits and Float64Bits are numbers as IEEE 754 has them.
func Float32Bits(b []byte) uint32 { return binary.LittleEndian.Uint32(b) }

// Float64Bits is a double.
func Float64Bits(b []byte) uint64 { return binary.LittleEndian.Uint64(b) }
