// Package compare tells whether two sides hold the same rows, every value of
// every row, whatever order they come in.
//
// The rows of the source are added first, then those of the warehouse. Rows with
// a key are matched by it, so a difference can be named by key and column; rows
// without one are matched as a whole, and counted. Memory grows with the number
// of rows, about 130 bytes and the key for each, up to a budget.
package compare

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Examples is how many keys a Result names per kind of difference.
const Examples = 10

// Result says how two sides differ.
type Result struct {
	Equal     int64    `json:"equal" doc:"Rows that are the same on both sides, in every value"`
	Differing int64    `json:"differing" doc:"Rows whose key is on both sides but whose values differ"`
	Missing   int64    `json:"missing" doc:"Rows of the source that the warehouse lacks"`
	Extra     int64    `json:"extra" doc:"Rows of the warehouse that the source lacks"`
	InFlight  int64    `json:"in_flight" doc:"Rows of the source beyond the table's position; they are not judged"`
	Examples  []string `json:"examples" doc:"The first differences, in words"`
}

// Same tells whether no difference was found.
func (r Result) Same() bool { return r.Differing == 0 && r.Missing == 0 && r.Extra == 0 }

// Budget is how much memory a comparison may take, in bytes. About three million rows with a
// short key fit.
const Budget = 512 << 20

// perRow is what one entry takes beside its name: itself, and its place in a map.
const perRow = 130

// ErrBudget says that a comparison needs more memory than it may have.
var ErrBudget = errors.New("there are more rows than can be compared at a time")

type digest [2]uint64

type entry struct {
	row      digest
	count    int64
	inFlight bool
}

// Comparison takes in the rows of both sides.
type Comparison struct {
	columns []schema.Column
	key     []int
	rows    map[string]*entry
	seeds   [2]maphash.Seed
	buffer  []byte
	taken   int64 // memory, in bytes, about
	budget  int64
	result  Result
	doubts  map[string]pair // what differs, by the row's name
	before  *Comparison     // the one that this one looks again for
}

// pair is a row's digest on both sides; zero where it is not there.
type pair struct{ source, warehouse digest }

// New begins a comparison of rows with these columns; key lists the columns of
// the key by place and may be empty.
func New(columns []schema.Column, key []int) *Comparison {
	return &Comparison{
		columns: columns, key: key, budget: Budget, rows: map[string]*entry{}, doubts: map[string]pair{},
		seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()},
	}
}

// Again begins a comparison of the same sides at a later moment. What differs now counts
// only if it differed before in the same way; else it was on its way.
func (c *Comparison) Again() *Comparison {
	again := New(c.columns, c.key)
	c.rows = nil // all but the doubts is counted
	again.seeds, again.before, again.budget = c.seeds, c, c.budget
	return again
}

// stands tells whether a difference counts, and keeps it for a later look.
func (c *Comparison) stands(name string, p pair) bool {
	c.doubts[name] = p
	c.taken += int64(len(name)) + perRow
	if c.before == nil {
		return true
	}
	was, known := c.before.doubts[name]
	if known && was == p {
		return true
	}
	c.result.InFlight++
	return false
}

// Source adds rows of the source; inFlight tells of each whether it lies beyond
// the position that is compared. It fails with ErrBudget alone.
func (c *Comparison) Source(record arrow.RecordBatch, inFlight func(row int) bool) error {
	for i := range int(record.NumRows()) {
		row := c.digest(record, i)
		name := c.name(record, i, row)
		flying := inFlight(i)
		if e := c.rows[name]; e != nil {
			e.count++
			continue
		}
		c.rows[name] = &entry{row: row, count: 1, inFlight: flying}
		c.taken += int64(len(name)) + perRow
	}
	return c.within()
}

func (c *Comparison) within() error {
	if c.taken > c.budget {
		return ErrBudget
	}
	return nil
}

// SourceAside adds a row of the source that cannot be stored as it is: it is
// accounted for elsewhere and must not count as missing or extra.
func (c *Comparison) SourceAside(a rows.Aside) {
	if len(c.key) > 0 {
		c.rows[a.Key] = &entry{count: 1, inFlight: true}
	}
}

// Warehouse adds rows of the warehouse. It fails with ErrBudget alone.
func (c *Comparison) Warehouse(record arrow.RecordBatch) error {
	for i := range int(record.NumRows()) {
		row := c.digest(record, i)
		name := c.name(record, i, row)
		e := c.rows[name]
		switch {
		case e == nil || e.count == 0:
			if c.stands(name, pair{warehouse: row}) {
				c.result.Extra++
				c.example("only in the warehouse: ", record, i)
			}
		case e.inFlight:
			c.result.InFlight++
			e.count--
		case e.row != row:
			e.count--
			if c.stands(name, pair{e.row, row}) {
				c.result.Differing++
				c.example("values differ: ", record, i)
			}
		default:
			c.result.Equal++
			e.count--
		}
	}
	return c.within()
}

// Result ends the comparison.
func (c *Comparison) Result() Result {
	for name, e := range c.rows {
		switch {
		case e.count == 0:
		case e.inFlight:
			c.result.InFlight += e.count
		case !c.stands(name, pair{source: e.row}):
		default:
			c.result.Missing += e.count
			if len(c.key) > 0 {
				c.addExample("only in the source: key " + name)
			}
		}
	}
	if len(c.key) == 0 && c.result.Missing > 0 {
		c.addExample(fmt.Sprintf("only in the source: %d rows; the table has no key to name them by", c.result.Missing))
	}
	if c.result.Examples == nil {
		c.result.Examples = []string{}
	}
	return c.result
}

func (c *Comparison) name(record arrow.RecordBatch, i int, row digest) string {
	if len(c.key) > 0 {
		return rows.KeyText(record, i, c.columns, c.key)
	}
	return string(binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, row[0]), row[1]))
}

func (c *Comparison) digest(record arrow.RecordBatch, i int) digest {
	b := c.buffer[:0]
	for k, column := range c.columns {
		text, ok := schema.CellText(record.Column(k), i, column.Type)
		if !ok {
			b = append(b, 0)
			continue
		}
		b = append(binary.AppendUvarint(append(b, 1), uint64(len(text))), text...)
	}
	c.buffer = b
	return digest{maphash.Bytes(c.seeds[0], b), maphash.Bytes(c.seeds[1], b)}
}

func (c *Comparison) example(what string, record arrow.RecordBatch, i int) {
	if len(c.result.Examples) >= Examples {
		return
	}
	if len(c.key) > 0 {
		c.addExample(what + "key " + rows.KeyText(record, i, c.columns, c.key))
		return
	}
	row := map[string]any{}
	for k, column := range c.columns {
		if text, ok := schema.CellText(record.Column(k), i, column.Type); ok {
			row[column.Name] = text
		} else {
			row[column.Name] = nil
		}
	}
	text, _ := json.Marshal(row)
	c.addExample(what + string(text))
}

func (c *Comparison) addExample(s string) {
	if len(c.result.Examples) < Examples {
		c.result.Examples = append(c.result.Examples, s)
	}
}
