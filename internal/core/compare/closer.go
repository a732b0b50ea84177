package compare

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Kind is in which way a row differs.
type Kind string

// The kinds of difference.
const (
	Differing Kind = "differing" // its key is on both sides, its values are not the same
	Missing   Kind = "missing"   // only the source has it
	Extra     Kind = "extra"     // only the warehouse has it
)

// Difference is a row that is not the same on both sides.
type Difference struct {
	Kind    Kind     `json:"kind" enum:"differing,missing,extra"`
	Key     []string `json:"key,omitempty" doc:"The values of its key; empty where the table has none"`
	Columns []Values `json:"columns,omitempty" doc:"The columns that differ; all of them where one side lacks the row"`
	name    string
}

// Values are what both sides hold in a column; null where a side has null, or lacks the row.
type Values struct {
	Column    string  `json:"column"`
	Source    *string `json:"source"`
	Warehouse *string `json:"warehouse"`
}

// Shown is of how many rows that differ both sides' values are shown.
const Shown = 100

// longestShown is how much of a value is shown, in bytes.
const longestShown = 500

// Closer looks at rows one by one. Both sides may come at once, each by a goroutine of its own.
type Closer struct {
	*Comparison
	in        []bool          // buckets that are looked at; nil for all
	only      map[string]bool // names that are looked at, and whether their values are shown; nil for all
	source    side
	warehouse side
	before    *Closer // the one that this one looks again for
	result    Result
	found     []Difference
	doubts    map[string]uint64 // what differs, by name: in which way
}

// side is the rows of one side, by name.
type side struct {
	look
	rows map[string]*entry
}

// entry is the rows of one name.
type entry struct {
	row      digest
	more     []digest // of further rows of the name
	inFlight bool
	values   []*string // of the first one
}

// Closer begins to look at the rows of some buckets.
func (c *Comparison) Closer(b Buckets) *Closer {
	x := &Closer{Comparison: c, in: b.in, doubts: map[string]uint64{}}
	x.source, x.warehouse = newSide(c), newSide(c)
	return x
}

func newSide(c *Comparison) side { return side{look: look{Comparison: c}, rows: map[string]*entry{}} }

// Again begins to look, at a later moment, at the rows that differ. What differs now counts only if it
// differed before in the same way; else it was on its way.
func (x *Closer) Again() *Closer {
	again := x.Closer(Buckets{})
	again.before, again.only = x, make(map[string]bool, len(x.doubts))
	for i, name := range slices.Sorted(maps.Keys(x.doubts)) {
		again.only[name] = i < Shown
	}
	x.source.rows, x.warehouse.rows = nil, nil
	return again
}

// Named begins to look at the rows of some keys alone.
func (c *Comparison) Named(keys [][]string) *Closer {
	x := c.Closer(Buckets{})
	x.only = make(map[string]bool, len(keys))
	for _, k := range keys {
		x.only[rows.KeyJSON(k)] = false
	}
	return x
}

// Doubts is how many names differ.
func (x *Closer) Doubts() int { return len(x.doubts) }

// Join adds what another look, at other buckets, has found.
func (x *Closer) Join(other *Closer) {
	x.result.Equal += other.result.Equal
	x.result.Differing += other.result.Differing
	x.result.Missing += other.result.Missing
	x.result.Extra += other.result.Extra
	x.result.InFlight += other.result.InFlight
	x.found = append(x.found, other.found...)
	for name, way := range other.doubts {
		x.doubts[name] = way
	}
}

// Keys are the keys of the rows that differ, as rows.Key gives them; none of a table without a key.
func (x *Closer) Keys() (keys [][]string) {
	if len(x.key) == 0 {
		return nil
	}
	for name := range x.doubts {
		keys = append(keys, rows.KeyParts(name))
	}
	slices.SortFunc(keys, slices.Compare)
	return keys
}

// Has tells whether a row is looked at.
func (x *Closer) has(s *side, record arrow.RecordBatch, i int) (name string, row digest, has bool) {
	row, bucket := s.row(i)
	if x.in != nil && !x.in[bucket] {
		return "", row, false
	}
	name = s.name(record, i, row)
	_, asked := x.only[name]
	return name, row, x.only == nil || asked
}

func (x *Closer) add(s *side, record arrow.RecordBatch, inFlight func(row int) bool) {
	s.take(record)
	for i := range int(record.NumRows()) {
		name, row, has := x.has(s, record, i)
		if !has {
			continue
		}
		flying := inFlight != nil && inFlight(i)
		if e := s.rows[name]; e != nil {
			e.more = append(e.more, row)
			e.inFlight = e.inFlight || flying
			continue
		}
		e := &entry{row: row, inFlight: flying}
		if x.only[name] {
			e.values = x.valuesOf(record, i)
		}
		s.rows[name] = e
	}
}

// Source adds rows of the source; inFlight tells of each whether it lies beyond
// the position that is compared; nil is of none.
func (x *Closer) Source(record arrow.RecordBatch, inFlight func(row int) bool) {
	x.add(&x.source, record, inFlight)
}

// SourceAside adds a row of the source that cannot be stored as it is: it is
// accounted for elsewhere and must not count as missing or extra.
func (x *Closer) SourceAside(a rows.Aside) {
	if _, asked := x.only[a.Key]; len(x.key) > 0 && (x.only == nil || asked) {
		x.source.rows[a.Key] = &entry{inFlight: true}
	}
}

// Warehouse adds rows of the warehouse.
func (x *Closer) Warehouse(record arrow.RecordBatch) { x.add(&x.warehouse, record, nil) }

// valuesOf copies the values of a row, as text.
func (x *Closer) valuesOf(record arrow.RecordBatch, i int) []*string {
	values := make([]*string, len(x.columns))
	for k, c := range x.columns {
		if text, ok := schema.CellText(record.Column(k), i, c.Type); ok {
			if len(text) > longestShown {
				text = strings.ToValidUTF8(text[:longestShown], "") + " …"
			}
			text = strings.Clone(text)
			values[k] = &text
		}
	}
	return values
}

// MostFound is how many rows that differ are named one by one.
const MostFound = 100_000

// End tells what was found. It ends the look at both sides.
func (x *Closer) End() {
	for name, s := range x.source.rows {
		w := x.warehouse.rows[name]
		delete(x.warehouse.rows, name)
		x.judge(name, s, w)
	}
	for name, w := range x.warehouse.rows {
		x.judge(name, nil, w)
	}
	x.source.rows, x.warehouse.rows = nil, nil
	slices.SortFunc(x.found, func(a, b Difference) int {
		if by := strings.Compare(string(a.Kind), string(b.Kind)); by != 0 {
			return by
		}
		return slices.Compare(a.Key, b.Key)
	})
}

// all are the digests of an entry's rows.
func (e *entry) all() []digest {
	if e == nil {
		return nil
	}
	return append([]digest{e.row}, e.more...)
}

// judge compares the rows of one name.
func (x *Closer) judge(name string, s, w *entry) {
	if s != nil && s.inFlight {
		x.result.InFlight += int64(max(1+len(s.more), len(w.all())))
		return
	}
	left := s.all()
	var extra []digest
	for _, row := range w.all() {
		if i := slices.Index(left, row); i >= 0 {
			left = slices.Delete(left, i, i+1)
			x.result.Equal++
		} else {
			extra = append(extra, row)
		}
	}
	if x.Keeps {
		x.result.Extra += int64(len(extra))
		extra = nil
	}
	if len(left)+len(extra) == 0 {
		return
	}
	way := x.way(left, extra)
	x.doubts[name] = way
	if x.before != nil && x.before.doubts[name] != way {
		x.result.InFlight += int64(max(len(left), len(extra)))
		return
	}
	differing := min(len(left), len(extra))
	x.result.Differing += int64(differing)
	x.result.Missing += int64(len(left) - differing)
	x.result.Extra += int64(len(extra) - differing)
	if len(x.found) >= MostFound {
		return
	}
	d := Difference{name: name}
	switch {
	case differing > 0:
		d.Kind = Differing
	case len(left) > 0:
		d.Kind = Missing
	default:
		d.Kind = Extra
	}
	if len(x.key) > 0 {
		d.Key = rows.KeyParts(name)
	}
	d.Columns = x.valuesThatDiffer(s, w)
	x.found = append(x.found, d)
}

// way tells one difference of a name from another.
func (x *Closer) way(left, extra []digest) uint64 {
	var b []byte
	for i, list := range [][]digest{left, extra} {
		slices.SortFunc(list, func(a, b digest) int { return slices.Compare(a[:], b[:]) })
		for _, d := range list {
			b = binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(append(b, byte(i)), d[0]), d[1])
		}
	}
	return maphash.Bytes(x.seeds.texts[0], b)
}

func (x *Closer) valuesThatDiffer(s, w *entry) (list []Values) {
	var a, b []*string
	if s != nil {
		a = s.values
	}
	if w != nil {
		b = w.values
	}
	if a == nil && b == nil {
		return nil
	}
	for k, c := range x.columns {
		v := Values{Column: c.Name}
		if a != nil {
			v.Source = a[k]
		}
		if b != nil {
			v.Warehouse = b[k]
		}
		both := a != nil && b != nil
		if both && (v.Source == nil) == (v.Warehouse == nil) && (v.Source == nil || *v.Source == *v.Warehouse) {
			continue
		}
		if x.Hidden[c.Name] {
			v.Source, v.Warehouse = hidden(v.Source), hidden(v.Warehouse)
		}
		list = append(list, v)
	}
	return list
}

// hidden stands for a value that nobody is to see.
func hidden(value *string) *string {
	if value == nil {
		return nil
	}
	text := "(hidden)"
	return &text
}

// Result tells what was found, with what was found beside the rows that were looked at.
func (x *Closer) Result(beside Result) Result {
	r := x.result
	r.Equal += beside.Equal
	r.InFlight += beside.InFlight
	r.Unlooked += beside.Unlooked
	r.Examples = []string{}
	for _, d := range x.found {
		if len(r.Examples) == Examples {
			break
		}
		r.Examples = append(r.Examples, x.said(d))
	}
	return r
}

// Found are the rows that differ, in the order of their keys.
func (x *Closer) Found() []Difference { return x.found }

// said tells a difference in words.
func (x *Closer) said(d Difference) string {
	what := map[Kind]string{Differing: "values differ: ", Missing: "only in the source: ",
		Extra: "only in the warehouse: "}[d.Kind]
	if len(d.Key) == 0 {
		row := map[string]*string{}
		for _, v := range d.Columns {
			row[v.Column] = v.Source
			if d.Kind == Extra {
				row[v.Column] = v.Warehouse
			}
		}
		if len(row) == 0 {
			return what + "a row; the table has no key to name it by"
		}
		text, _ := json.Marshal(row) // texts always marshal
		return what + string(text)
	}
	said := what + "key " + rows.KeyJSON(d.Key)
	if d.Kind == Differing && len(d.Columns) > 0 {
		v := d.Columns[0]
		said += fmt.Sprintf(", %s is %s at the source and %s in the warehouse", v.Column, shown(v.Source), shown(v.Warehouse))
		if n := len(d.Columns) - 1; n > 0 {
			said += fmt.Sprintf(", and %d more columns", n)
		}
	}
	return said
}

func shown(value *string) string {
	if value == nil {
		return "null"
	}
	text, _ := json.Marshal(*value)
	return string(text)
}
