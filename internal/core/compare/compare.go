// Package compare tells whether two sides hold the same rows, every value of
// every row, whatever order they come in, in flat memory.
//
// A first look adds up the digests of each side's rows in buckets, by the hash of their key: sides that
// are the same have the same Sums. Only of buckets that differ are rows looked at one by one, in a second
// reading, by a Closer: so a difference is named by its key. Rows without a key are matched as a whole, and
// counted. A third look, Again, tells what differs from what was on its way, and shows values.
package compare

import (
	"encoding/binary"
	"hash/maphash"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Examples is how many keys a Result names in words.
const Examples = 10

// Result says how two sides differ.
type Result struct {
	Equal     int64    `json:"equal" doc:"Rows that are the same on both sides, in every value"`
	Differing int64    `json:"differing" doc:"Rows whose key is on both sides but whose values differ"`
	Missing   int64    `json:"missing" doc:"Rows of the source that the warehouse lacks"`
	Extra     int64    `json:"extra" doc:"Rows of the warehouse that the source lacks"`
	InFlight  int64    `json:"in_flight" doc:"Rows that were on their way while they were compared, or beyond the table's position; they are not judged"`
	Unlooked  int64    `json:"unlooked,omitempty" doc:"Rows among which there are differences, too many to be looked at one by one"`
	Examples  []string `json:"examples" doc:"The first differences, in words"`
}

// Same tells whether no difference was found.
func (r Result) Same() bool {
	return r.Differing == 0 && r.Missing == 0 && r.Extra == 0 && r.Unlooked == 0
}

// bucketBits is how many bits of a key's hash tell its bucket. Sums of both sides take 12 MB.
const bucketBits = 18

type digest [2]uint64

// Comparison knows how the rows of two sides are told apart.
type Comparison struct {
	Hidden  map[string]bool // columns whose values are not shown
	Keeps   bool            // the warehouse may hold rows that the source lacks: they are counted, and no difference
	columns []schema.Column
	key     []int // places of the key's columns; none is of rows that are matched as a whole
	rest    []int // places of the others
	seeds   [3]maphash.Seed
}

// New begins a comparison of rows with these columns; key lists the columns of
// the key by place and may be empty.
func New(columns []schema.Column, key []int) *Comparison {
	c := &Comparison{columns: columns, key: key,
		seeds: [3]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed(), maphash.MakeSeed()}}
	for i := range columns {
		keyed := false
		for _, k := range key {
			keyed = keyed || k == i
		}
		if !keyed {
			c.rest = append(c.rest, i)
		}
	}
	return c
}

// look digests the rows of one side. It has a buffer, so each goroutine has its own.
type look struct {
	*Comparison
	buffer []byte
}

// row gives the digest of a row, and the bucket that it is in.
func (l *look) row(record arrow.RecordBatch, i int) (row digest, bucket uint32) {
	b := l.encode(l.buffer[:0], record, i, l.key)
	named := len(b)
	b = l.encode(b, record, i, l.rest)
	l.buffer = b
	row = digest{maphash.Bytes(l.seeds[0], b), maphash.Bytes(l.seeds[1], b)}
	if len(l.key) == 0 {
		return row, uint32(row[0] >> (64 - bucketBits))
	}
	return row, uint32(maphash.Bytes(l.seeds[2], b[:named]) >> (64 - bucketBits))
}

// name tells a row from others: by its key, or as a whole.
func (l *look) name(record arrow.RecordBatch, i int, row digest) string {
	if len(l.key) > 0 {
		return rows.KeyText(record, i, l.columns, l.key)
	}
	return string(binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, row[0]), row[1]))
}

// encode appends values so that equal ones, and no others, give the same bytes.
func (l *look) encode(b []byte, record arrow.RecordBatch, i int, places []int) []byte {
	for _, k := range places {
		column := record.Column(k)
		if column.IsNull(i) {
			b = append(b, 0)
			continue
		}
		b = append(b, 1)
		switch c := column.(type) {
		case *array.Int16:
			b = binary.LittleEndian.AppendUint64(b, uint64(c.Value(i)))
		case *array.Int32:
			b = binary.LittleEndian.AppendUint64(b, uint64(c.Value(i)))
		case *array.Int64:
			b = binary.LittleEndian.AppendUint64(b, uint64(c.Value(i)))
		case *array.Float64:
			b = binary.LittleEndian.AppendUint64(b, floatBits(c.Value(i)))
		case *array.Timestamp:
			b = binary.LittleEndian.AppendUint64(b, uint64(c.Value(i)))
		case *array.Date32:
			b = binary.LittleEndian.AppendUint32(b, uint32(c.Value(i)))
		case *array.Decimal128:
			v := c.Value(i)
			b = binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(b, uint64(v.HighBits())), v.LowBits())
		case *array.Boolean:
			if c.Value(i) {
				b = append(b, 1)
			} else {
				b = append(b, 0)
			}
		case *array.String:
			text := c.Value(i)
			b = append(binary.AppendUvarint(b, uint64(len(text))), text...)
		case *array.Binary:
			v := c.Value(i)
			b = append(binary.AppendUvarint(b, uint64(len(v))), v...)
		default:
			text, _ := schema.CellText(column, i, l.columns[k].Type)
			b = append(binary.AppendUvarint(b, uint64(len(text))), text...)
		}
	}
	return b
}

// floatBits are the same for all that is not a number, and tell 0 from -0.
func floatBits(f float64) uint64 {
	if math.IsNaN(f) {
		f = math.NaN()
	}
	return math.Float64bits(f)
}

// Sums are what the rows of one side add up to, bucket by bucket. Each side may be read by a goroutine
// of its own.
type Sums struct {
	look
	sums   []digest
	count  []int32
	flying []int32 // rows in flight
}

// Sums begins the first look at one side.
func (c *Comparison) Sums() *Sums {
	n := 1 << bucketBits
	return &Sums{look: look{Comparison: c}, sums: make([]digest, n), count: make([]int32, n), flying: make([]int32, n)}
}

// Add adds rows. Those that are in flight do not count, so where the other side has a row of their key
// the bucket is looked at closer; and so it is with rows that are set aside. A nil inFlight is of none.
func (s *Sums) Add(record arrow.RecordBatch, inFlight func(row int) bool) {
	for i := range int(record.NumRows()) {
		row, bucket := s.row(record, i)
		if inFlight != nil && inFlight(i) {
			s.flying[bucket]++
			continue
		}
		s.count[bucket]++
		s.sums[bucket][0] += row[0]
		s.sums[bucket][1] += row[1]
	}
}

// Buckets are those that are looked at closer.
type Buckets struct {
	in   []bool
	Rows int64 // of both sides
}

// None tells whether the sides are the same.
func (b Buckets) None() bool { return b.in == nil }

// Differ gives the buckets in which two sides differ, and what was found beside them.
func Differ(source, warehouse *Sums) (b Buckets, beside Result) {
	for i := range source.sums {
		n := source.rowsIn(i) + warehouse.rowsIn(i)
		if source.sums[i] == warehouse.sums[i] && source.count[i] == warehouse.count[i] {
			beside.Equal += int64(source.count[i])
			beside.InFlight += int64(source.flying[i])
			continue
		}
		if b.in == nil {
			b.in = make([]bool, len(source.sums))
		}
		b.in[i] = true
		b.Rows += n
	}
	return b, beside
}

func (s *Sums) rowsIn(bucket int) int64 { return int64(s.count[bucket]) + int64(s.flying[bucket]) }

// Budget is how much memory rows may take that are looked at one by one, in bytes.
const Budget = 64 << 20

// perRow is about what a row takes beside its name, in bytes.
const perRow = 150

// mostGroups is how often both sides are read at most to look at rows one by one.
const mostGroups = 32

// Groups divides buckets so that the rows of each group fit into memory. What is left over are too many
// rows to be looked at.
func (b Buckets) Groups(source, warehouse *Sums) (groups []Buckets, unlooked int64) {
	return b.groups(source, warehouse, Budget/perRow)
}

func (b Buckets) groups(source, warehouse *Sums, most int64) (groups []Buckets, unlooked int64) {
	for i, in := range b.in {
		if !in {
			continue
		}
		n := source.rowsIn(i) + warehouse.rowsIn(i)
		last := len(groups) - 1
		if last < 0 || groups[last].Rows > 0 && groups[last].Rows+n > most {
			if len(groups) == mostGroups {
				unlooked += n
				continue
			}
			groups = append(groups, Buckets{in: make([]bool, len(b.in))})
			last++
		}
		groups[last].in[i] = true
		groups[last].Rows += n
	}
	return groups, unlooked
}
