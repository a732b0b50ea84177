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
	"math/bits"
	"math/rand/v2"
	"slices"

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

// Add adds what was found elsewhere; its examples stay there.
func (r Result) Add(other Result) Result {
	r.Equal, r.Differing, r.Missing = r.Equal+other.Equal, r.Differing+other.Differing, r.Missing+other.Missing
	r.Extra, r.InFlight, r.Unlooked = r.Extra+other.Extra, r.InFlight+other.InFlight, r.Unlooked+other.Unlooked
	return r
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
	seeds   seeds
}

// seeds are random numbers, so that nobody can make rows that differ and come to the same.
type seeds struct {
	rows    digest // what a row begins with
	keys    uint64
	null    digest
	columns [][2]uint64
	texts   [2]maphash.Seed
}

func newSeeds(columns int) seeds {
	s := seeds{rows: digest{rand.Uint64(), rand.Uint64()}, keys: rand.Uint64(), null: digest{rand.Uint64(), rand.Uint64()},
		texts: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}}
	for range columns {
		s.columns = append(s.columns, [2]uint64{rand.Uint64(), rand.Uint64()})
	}
	return s
}

// New begins a comparison of rows with these columns; key lists the columns of
// the key by place and may be empty.
func New(columns []schema.Column, key []int) *Comparison {
	return &Comparison{columns: columns, key: key, seeds: newSeeds(len(columns))}
}

// look digests the rows of one side, a batch at a time. It keeps what it has found, so each goroutine has its own.
type look struct {
	*Comparison
	rows []digest // of the rows of the batch
	keys []uint64 // hashes of their keys
}

// take digests the rows of a batch, column by column.
func (l *look) take(record arrow.RecordBatch) {
	n := int(record.NumRows())
	l.rows, l.keys = slices.Grow(l.rows[:0], n)[:n], slices.Grow(l.keys[:0], n)[:n]
	for i := range n {
		l.rows[i], l.keys[i] = l.seeds.rows, l.seeds.keys
	}
	for k := range l.columns {
		l.mix(record.Column(k), k, slices.Contains(l.key, k))
	}
}

// row gives the digest of a row of the batch, and the bucket that it is in.
func (l *look) row(i int) (row digest, bucket uint32) {
	of := l.keys[i]
	if len(l.key) == 0 {
		of = l.rows[i][0]
	}
	return l.rows[i], uint32(of >> (64 - bucketBits))
}

// name tells a row from others: by its key, or as a whole.
func (l *look) name(record arrow.RecordBatch, i int, row digest) string {
	if len(l.key) > 0 {
		return rows.KeyText(record, i, l.columns, l.key)
	}
	return string(binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, row[0]), row[1]))
}

// mix adds the values of a column to what is known of the rows, so that equal ones, and no others, give the same.
func (l *look) mix(column arrow.Array, k int, keyed bool) {
	x := mixer{look: l, of: l.seeds.columns[k], keyed: keyed, column: column, nulls: column.NullN() > 0}
	switch c := column.(type) {
	case *array.Int16:
		mixNumbers(x, c.Int16Values(), func(v int16) uint64 { return uint64(v) })
	case *array.Int32:
		mixNumbers(x, c.Int32Values(), func(v int32) uint64 { return uint64(v) })
	case *array.Int64:
		mixNumbers(x, c.Int64Values(), func(v int64) uint64 { return uint64(v) })
	case *array.Float64:
		mixNumbers(x, c.Float64Values(), floatBits)
	case *array.Timestamp:
		mixNumbers(x, c.TimestampValues(), func(v arrow.Timestamp) uint64 { return uint64(v) })
	case *array.Date32:
		mixNumbers(x, c.Date32Values(), func(v arrow.Date32) uint64 { return uint64(v) })
	case *array.Decimal128:
		for i := range c.Len() {
			x.add(i, uint64(c.Value(i).HighBits()))
			x.add(i, c.Value(i).LowBits())
		}
	case *array.Boolean:
		for i := range c.Len() {
			v := uint64(0)
			if c.IsValid(i) && c.Value(i) {
				v = 1
			}
			x.add(i, v)
		}
	case *array.String:
		for i := range c.Len() {
			x.text(i, c.Value(i))
		}
	case *array.Binary:
		for i := range c.Len() {
			x.text(i, c.ValueString(i))
		}
	default:
		for i := range c.Len() {
			text, _ := schema.CellText(column, i, l.columns[k].Type)
			x.text(i, text)
		}
	}
}

// mixer adds the values of one column.
type mixer struct {
	*look
	of     [2]uint64 // numbers of the column's own
	keyed  bool
	column arrow.Array
	nulls  bool
}

func mixNumbers[T any](x mixer, values []T, bits func(T) uint64) {
	for i, v := range values {
		x.add(i, bits(v))
	}
}

// add adds a number to a row.
func (x mixer) add(i int, v uint64) { x.both(i, v, v) }

// text adds a text to a row.
func (x mixer) text(i int, text string) {
	x.both(i, maphash.String(x.seeds.texts[0], text), maphash.String(x.seeds.texts[1], text))
}

func (x mixer) both(i int, v, w uint64) {
	if x.nulls && x.column.IsNull(i) {
		v, w = x.seeds.null[0], x.seeds.null[1]
	}
	row := &x.rows[i]
	row[0], row[1] = folded(row[0]^x.seeds.rows[1], v^x.of[0]), folded(row[1]^x.seeds.rows[0], w^x.of[1])
	if x.keyed {
		x.keys[i] = folded(x.keys[i]^x.seeds.rows[0], v^x.of[1])
	}
}

// folded multiplies two numbers and folds the product: each bit of both has its part in each bit of it. Where one is
// random, as all numbers of a comparison are, no values can be chosen that come to the same (Wang Yi and others, wyhash).
func folded(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
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
	s.take(record)
	for i := range int(record.NumRows()) {
		row, bucket := s.row(i)
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
