// Package rows holds batches of rows on their way from a source to a warehouse.
package rows

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"sync"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/schema"
)

// Aside is a row that cannot be stored as it is.
type Aside struct {
	Key    string             // its key as JSON, empty for a table without one
	Row    map[string]*string // every value as text; nil is null
	Reason string             // a sentence
	Column string             // the one for whose sake it is set aside; empty where it is none's
	Values []*string          // every value by place, those that the query adds included
}

// Digest tells the row from every other one that is set aside.
func (a Aside) Digest() string {
	content, _ := json.Marshal(a.Row) // maps marshal in the order of their keys
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:16])
}

// Batch is rows of one table. The receiver releases Record, and may free Raw.
type Batch struct {
	Record    arrow.RecordBatch
	Raw       *Raw // nil where the rows are in Record alone
	Aside     []Aside
	EndsAside bool   // the last row that was read is the last of Aside
	Gone      []bool // of the rows of Record: those that end their key; nil for none
	Filtered  int64  // rows that a filter has left out
}

// Raw is the rows of a batch in the source's own form, for a warehouse that takes them as
// they are. The record beside it has the columns that are looked at on the way; the others
// are null there.
type Raw struct {
	Form    string // what the bytes are
	Columns int    // that each row has: the first ones of the record
	Data    []byte // the values of one row after the other
	Ends    []int  // where each row ends in Data
}

var freed sync.Pool

// NewRaw is an empty one, with the room of one that was freed if there is any.
func NewRaw(form string, columns int) *Raw {
	r, _ := freed.Get().(*Raw)
	if r == nil {
		r = &Raw{}
	}
	r.Form, r.Columns, r.Data, r.Ends = form, columns, r.Data[:0], r.Ends[:0]
	return r
}

// Free is for whoever needs the rows no more. Of nil it does nothing.
func (r *Raw) Free() {
	if r != nil {
		freed.Put(r)
	}
}

// Row is the bytes of one row.
func (r *Raw) Row(i int) []byte {
	if i == 0 {
		return r.Data[:r.Ends[0]]
	}
	return r.Data[r.Ends[i-1]:r.Ends[i]]
}

// Rows counts all rows of the batch, those set aside included.
func (b Batch) Rows() int64 { return b.Record.NumRows() + int64(len(b.Aside)) }

// KeyText writes the key of one row as JSON, the form in which keys are shown
// and in which rows set aside are found again.
func KeyText(record arrow.RecordBatch, row int, columns []schema.Column, key []int) string {
	return KeyJSON(Key(record, row, columns, key))
}

// KeyJSON writes a key as JSON.
func KeyJSON(parts []string) string {
	text, _ := json.Marshal(parts) // a list of texts always marshals
	return string(text)
}

// ValuesJSON writes values as JSON; nil is null.
func ValuesJSON(values []*string) string {
	text, _ := json.Marshal(values) // a list of texts always marshals
	return string(text)
}

// KeyParts reads what KeyJSON has written; nil of another text.
func KeyParts(text string) (parts []string) {
	if json.Unmarshal([]byte(text), &parts) != nil {
		return nil
	}
	return parts
}

// Key gives the key of one row, each part as schema.CellText writes it.
func Key(record arrow.RecordBatch, row int, columns []schema.Column, key []int) []string {
	parts := make([]string, len(key))
	for i, k := range key {
		parts[i], _ = schema.CellText(record.Column(k), row, columns[k].Type)
	}
	return parts
}

// Books are the counters of one table in one run. Null and Ahead are not part of
// the balance: such rows are not read.
type Books struct {
	Read      int64 `json:"read" doc:"Rows read from the source"`
	Filtered  int64 `json:"filtered" doc:"Rows left out by a filter"`
	Folded    int64 `json:"folded" doc:"Rows replaced by a later row of the same key before they were written"`
	SetAside  int64 `json:"set_aside" doc:"Rows that cannot be stored as they are, kept with their reason"`
	Unchanged int64 `json:"unchanged" doc:"Rows the warehouse already had as they are"`
	Inserted  int64 `json:"inserted" doc:"Rows written for the first time"`
	Updated   int64 `json:"updated" doc:"Rows written over an older version"`
	Deleted   int64 `json:"deleted" doc:"Rows removed or flagged as removed"`
}

// Ended counts the rows that end their key.
func (b Batch) Ended() (n int64) {
	for _, gone := range b.Gone {
		if gone {
			n++
		}
	}
	return n
}

// Add sums two books.
func (b Books) Add(o Books) Books {
	return Books{
		Read: b.Read + o.Read, Filtered: b.Filtered + o.Filtered, Folded: b.Folded + o.Folded, SetAside: b.SetAside +
			o.SetAside,
		Unchanged: b.Unchanged + o.Unchanged, Inserted: b.Inserted + o.Inserted, Updated: b.Updated + o.Updated,
		Deleted: b.Deleted + o.Deleted,
	}
}

// Balance counts the rows that nothing else has counted as unchanged. Of those that a filter
// left out, and that came to end their keys, the ones that found none count as filtered.
func (b *Books) Balance(gone int64) {
	b.Unchanged = b.Read - b.Filtered - b.Folded - b.SetAside - b.Updated - b.Inserted - b.Deleted
	filtered := max(0, min(gone-b.Deleted, b.Unchanged))
	b.Filtered, b.Unchanged = b.Filtered+filtered, b.Unchanged-filtered
}

// Balanced tells whether every row read is accounted for.
func (b Books) Balanced() bool {
	return b.Read == b.Filtered+b.Folded+b.SetAside+b.Unchanged+b.Inserted+b.Updated+b.Deleted
}

// Written counts the rows that changed the warehouse.
func (b Books) Written() int64 { return b.Inserted + b.Updated + b.Deleted }
