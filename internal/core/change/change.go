// Package change describes what a change log tells: transactions, and the inserts,
// updates, deletes and truncates they made, one table at a time.
package change

import (
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/rows"
)

// Kind is what a change did.
type Kind uint8

// The kinds of change; a Row without one is void. An update that changes the key is two: Left ends the old key,
// and Came, right after it, begins the new one.
const (
	Insert Kind = iota + 1
	Update
	Delete
	Truncate
	Left
	Came
	// What became of rows without being told, by what they refer to. The columns of the reference have
	// what they referred to, the others are unknown. A change of it is two: RefFrom, and right after it RefTo.
	RefDeleted
	RefNull
	RefFrom
	RefTo
)

func (k Kind) String() string {
	return [...]string{"", "insert", "update", "delete", "truncate", "left", "came", "referrers deleted",
		"referrers null", "referrers from", "referrers to"}[k]
}

// Ends tells whether the key is gone after the change.
func (k Kind) Ends() bool { return k == Delete || k == Left }

// Refers tells whether it is not a change of a row, but of all that refer to something.
func (k Kind) Refers() bool { return k >= RefDeleted }

// Txn is a transaction of the source.
type Txn struct {
	Position string // its commit's place in the log, in text that sorts
	ID       uint32 // the source's number for it
	Moment   int64  // microseconds since 1970 UTC; rises from each transaction to the next
}

// EventPosition is the place of one change within the log, in text that sorts.
func (t Txn) EventPosition(seq int32) string {
	return fmt.Sprintf("%s:%0*d", t.Position, SeqWidth-1, seq)
}

// SeqWidth is how many characters of an event's position follow that of its transaction.
const SeqWidth = 11

// Row tells of one row of a Batch what the change was.
type Row struct {
	Kind    Kind
	Txn     int32 // place in Batch.Txns
	Seq     int32 // the change's number within its transaction
	Unknown int32 // place in Batch.Unknown, counted from 1; 0 where all values are known
	Misfit  bool  // the row does not fit the table as it is known; Batch.Misfit says why
	Out     bool  // the filter leaves the row out from here on: what its values are then is not kept; it may be void
}

// Batch is changes of one table, in the order of the log.
type Batch struct {
	Record  arrow.RecordBatch // the table's columns; Delete and Left hold the key at least
	Rows    []Row             // what each row of Record is
	Txns    []Txn
	Unknown [][]bool // by column: the log leaves the value out because it did not change
	Aside   []rows.Aside
	AsideAt []Row // of each row that is set aside, what the change was
	Misfit  error
	Ignored int64 // changes of kinds that the table does not take
}

// Read counts the changes that came in. A truncate is a change where events are kept;
// elsewhere it is counted by the rows it removes.
func (b Batch) Read(events bool) int64 {
	n := b.Ignored + int64(len(b.Aside))
	for _, r := range b.Rows {
		if r.Kind != 0 && !r.Kind.Refers() && (r.Kind != Truncate || events) {
			n++
		}
	}
	return n
}

// Clock gives each transaction a moment of its own: the time of its commit, or two
// microseconds after the transaction before it, where clocks tie or were set back. So
// moments order transactions as the log does, and leave room for a copy in between.
//
// Transactions up to the position Replays are read again. Their clock begins with nothing, so that
// none has a later moment than it had at first; those beyond come after the moment Then.
type Clock struct {
	Last    int64
	Replays string // empty for none
	Then    int64
}

// Next is the moment of the next transaction, which committed at the given time and lies at a position.
func (c *Clock) Next(position string, committed int64) int64 {
	if c.Replays != "" && position > c.Replays {
		c.Last, c.Replays = max(c.Last, c.Then), ""
	}
	c.Last = max(committed, c.Last+2)
	return c.Last
}

// After gives new transactions later moments than the given one.
func (c *Clock) After(moment int64) {
	if c.Replays != "" {
		c.Then = max(c.Then, moment)
	} else {
		c.Last = max(c.Last, moment)
	}
}

// Copied is what a ledger calls a row that came by a copy, not by a change.
const Copied = "copy"
