// Package fold reduces changes to what a warehouse must do.
//
// For latest and soft-delete that is one row for each key; for history, one version for
// each transaction that changed the key; for ledger, every change. A transaction that
// deletes a row and inserts it again has updated it, and one that inserts a row and deletes
// it again leaves nothing, but for soft-delete, which flags every row that ever was.
package fold

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
)

// Stretch is what is merged at once: the rows between two truncates, or up to a change
// that can be told from no change only by what the warehouse has.
type Stretch struct {
	Empties int32 // the transaction that empties the table before the rows come; -1 for none
	Rows    []Row
	Folded  int64 // changes that a later one of the stretch replaced
	Chains  bool  // some keys have several rows
	Again   bool  // its first transaction may have changed rows in the stretch before
}

// Row is one row that is to be merged.
type Row struct {
	Change  int32   // the change whose values it has
	Gone    bool    // the key ends
	KeyOnly bool    // of the values only the key is known
	Order   Order   // what comes before it of its key
	Txn     int32   // the transaction that made it
	Until   int32   // the one that ended it; -1 while it holds
	From    []int32 // by column: the change that has the value, -1 for the row of Base; nil: all from Change
	Base    int32   // the change that names, by its key, the row that unknown values are taken from
}

// Order tells what comes before a row of a stretch.
type Order int16

// The orders of rows.
const (
	FirstOfKey Order = iota // nothing of its key
	AfterRow                // a row of its key
	AfterEnd                // one that ends its key
)

// Fold reduces a batch. key holds the places of the key's columns.
func Fold(b change.Batch, key []int, keep feed.Keep) []Stretch {
	f := &folder{batch: b, keep: keep, sames: map[int]func(i, j int32) bool{}}
	if len(key) > 0 && (keep != feed.KeepLedger || len(b.Unknown) > 0) {
		f.keys = keyer(b.Record, key)
	}
	f.begin(-1)
	for i := range b.Rows {
		if b.Rows[i].Kind == 0 {
			f.marks(int32(i))
			continue
		}
		if b.Rows[i].Kind == change.Truncate {
			if keep == feed.KeepLedger {
				f.ledger(int32(i))
				continue
			}
			f.end()
			f.begin(b.Rows[i].Txn)
			continue
		}
		if f.isOut(int32(i)) {
			f.end()
			f.begin(-1)
		}
		f.take(int32(i))
		f.marks(int32(i))
	}
	f.end()
	return f.done
}

type folder struct {
	batch change.Batch
	keep  feed.Keep
	keys  func(row int32) []byte // valid until the next call
	sames map[int]func(i, j int32) bool
	done  []Stretch

	stretch Stretch
	slots   map[string]int32 // key to its place in latest
	latest  []int32          // the latest state of each key, in the order they came
	out     map[string]bool  // keys whose values are not known, as the filter left them out
	items   []item
}

// item is a key's state after one transaction.
type item struct {
	Row
	prev   int32 // the state before; -1 where there is none in the stretch
	absent bool  // for the first one: the key was not there before
	live   int32 // the last item with values, this one or an earlier one; -1 for none
}

func (f *folder) begin(txn int32) {
	f.stretch = Stretch{Empties: txn, Again: len(f.done) > 0 || txn >= 0}
	f.slots, f.latest, f.items, f.out = map[string]int32{}, nil, nil, nil
}

func (f *folder) take(i int32) {
	if f.keep == feed.KeepLedger {
		f.ledger(i)
		return
	}
	r := f.batch.Rows[i]
	if r.Kind == change.Left && f.keep == feed.KeepHistory && f.hangs(i+1) {
		f.end()
		f.begin(-1)
	}
	slot, at := f.find(i)
	x := item{Row: Row{Change: i, Txn: r.Txn, Gone: r.Kind.Ends(), Until: -1, Base: i}, prev: at, live: -1}
	switch {
	case at < 0:
		x.absent = r.Kind == change.Insert || r.Kind == change.Came
	case f.items[at].Txn == r.Txn:
		f.stretch.Folded++
		x.prev, x.absent = f.items[at].prev, f.items[at].absent
	case f.keep != feed.KeepHistory:
		f.stretch.Folded++
	}
	f.resolve(&x, i, r, at)
	if x.prev >= 0 && r.Kind != change.Came && f.undecided(x.prev, &x) {
		f.end()
		f.begin(-1)
		f.take(i)
		return
	}
	f.put(slot, at, x)
}

// isOut tells whether a change leaves out values of a row that the filter has left out: what they are
// by now is not known, and what is known of the row before must end first.
func (f *folder) isOut(i int32) bool {
	r := f.batch.Rows[i]
	if r.Unknown == 0 || len(f.out) == 0 {
		return false
	}
	if r.Kind == change.Came {
		i--
	}
	return i >= 0 && f.out[string(f.keys(i))]
}

// marks takes note of whether the filter leaves a row out from here on.
func (f *folder) marks(i int32) {
	switch r := f.batch.Rows[i]; {
	case f.keys == nil:
	case r.Out:
		if f.out == nil {
			f.out = map[string]bool{}
		}
		f.out[string(f.keys(i))] = true
	case len(f.out) > 0 && !r.Kind.Ends():
		delete(f.out, string(f.keys(i)))
	}
}

// undecided tells whether only a value that the batch does not know can tell if a state of
// a history differs from the one before it. The warehouse knows, once that one is merged.
func (f *folder) undecided(before int32, x *item) bool {
	was := &f.items[before]
	if f.keep != feed.KeepHistory || was.Gone || x.Gone || was.From == nil {
		return false
	}
	hangs := false
	for c := range int(f.batch.Record.NumCols()) {
		i, j := was.source(c), x.source(c)
		switch {
		case i == j:
		case i < 0 || j < 0:
			hangs = true
		case !f.sameCell(c, i, j):
			return false
		}
	}
	return hangs
}

// hangs tells whether the key of a change has a state with values that the batch does not
// know.
func (f *folder) hangs(i int32) bool {
	if int(i) >= len(f.batch.Rows) || f.batch.Rows[i].Kind != change.Came {
		return false
	}
	slot, seen := f.slots[string(f.keys(i))]
	if !seen {
		return false
	}
	for at := f.latest[slot]; at >= 0; at = f.items[at].prev {
		if slices.Contains(f.items[at].From, -1) {
			return true
		}
	}
	return false
}

// find gives the slot of a change's key, a new one if need be, and its latest state.
func (f *folder) find(i int32) (slot, at int32) {
	k := f.keys(i)
	slot, seen := f.slots[string(k)]
	if !seen {
		slot = int32(len(f.latest))
		f.slots[string(k)] = slot
		f.latest = append(f.latest, -1)
	}
	return slot, f.latest[slot]
}

// put makes x the latest state of its key.
func (f *folder) put(slot, at int32, x item) {
	place := int32(len(f.items))
	switch {
	case !x.Gone:
		x.live = place
	case at >= 0:
		x.live = f.items[at].live
	}
	f.items = append(f.items, x)
	f.latest[slot] = place
}

// resolve finds where the values come from that the log leaves out.
func (f *folder) resolve(x *item, i int32, r change.Row, base int32) {
	if r.Unknown == 0 {
		return
	}
	if r.Kind == change.Came { // from the row of the old key, which the change before this one ended
		base = -1
		if i > 0 && f.batch.Rows[i-1].Kind == change.Left {
			_, base = f.find(i - 1)
			x.Base = i - 1
		}
	}
	if base >= 0 && f.items[base].Gone {
		base = f.items[base].live
	}
	x.From = make([]int32, len(f.batch.Unknown[r.Unknown-1]))
	for c, unknown := range f.batch.Unknown[r.Unknown-1] {
		switch {
		case !unknown:
			x.From[c] = i
		case base >= 0 && f.items[base].From != nil:
			x.From[c] = f.items[base].From[c]
		case base >= 0:
			x.From[c] = f.items[base].Change
		default:
			x.From[c] = -1
		}
	}
	if base >= 0 {
		x.Base = f.items[base].Base
	}
}

// ledger passes every change on. States are kept only to find values that are left out.
func (f *folder) ledger(i int32) {
	r := f.batch.Rows[i]
	x := item{Row: Row{Change: i, Txn: r.Txn, Until: -1, Base: i}, prev: -1, live: -1}
	if f.keys != nil && r.Kind != change.Truncate {
		slot, at := f.find(i)
		f.resolve(&x, i, r, at)
		state := x
		state.Gone = r.Kind.Ends()
		f.put(slot, at, state)
	}
	f.stretch.Rows = append(f.stretch.Rows, x.Row)
}

// end turns what has gathered into the rows of a stretch.
func (f *folder) end() {
	var chain []int32
	for _, last := range f.latest {
		if last < 0 || f.keep == feed.KeepLedger {
			continue // only looked for
		}
		chain = chain[:0]
		for at := last; at >= 0; at = f.items[at].prev {
			chain = append(chain, at)
		}
		f.emit(chain)
	}
	if len(f.stretch.Rows) > 0 || f.stretch.Folded > 0 || f.stretch.Empties >= 0 {
		f.done = append(f.done, f.stretch)
	}
}

// emit passes on the states of one key that make a difference; chain is in reverse.
func (f *folder) emit(chain []int32) {
	first := f.items[chain[len(chain)-1]]
	was := int32(-1) // the last one that made a difference
	there := !first.absent
	begun := len(f.stretch.Rows)
	for i := len(chain) - 1; i >= 0; i-- {
		x := &f.items[chain[i]]
		switch {
		case x.Gone && !there && (f.keep != feed.KeepSoftDelete || x.live < 0):
			continue // it was not there before the transaction either
		case !x.Gone && was >= 0 && !f.items[was].Gone && f.keep == feed.KeepHistory && f.same(&f.items[was], x):
			continue
		}
		there = !x.Gone
		if f.keep != feed.KeepHistory {
			was = chain[i]
			continue
		}
		r := x.Row
		r.KeyOnly = r.Gone
		if was >= 0 {
			f.stretch.Rows[len(f.stretch.Rows)-1].Until = r.Txn
			r.Order = AfterRow
			if f.items[was].Gone {
				r.Order = AfterEnd
			}
		}
		was = chain[i]
		f.stretch.Rows = append(f.stretch.Rows, r)
	}
	if f.keep == feed.KeepHistory {
		f.stretch.Chains = f.stretch.Chains || len(f.stretch.Rows) > begun+1
		return
	}
	if was < 0 {
		return
	}
	r := f.items[was].Row
	if r.Gone {
		live := f.items[was].live
		r.KeyOnly = f.keep == feed.KeepLatest || live < 0
		if !r.KeyOnly {
			r.Change, r.From, r.Base = f.items[live].Change, f.items[live].From, f.items[live].Base
		}
	}
	f.stretch.Rows = append(f.stretch.Rows, r)
}

// same tells whether two states have the same values, as far as the batch knows them.
func (f *folder) same(a, b *item) bool {
	for c := range int(f.batch.Record.NumCols()) {
		i, j := a.source(c), b.source(c)
		if i == j {
			continue
		}
		if i < 0 || j < 0 || !f.sameCell(c, i, j) {
			return false
		}
	}
	return true
}

func (r *Row) source(c int) int32 {
	if r.From != nil {
		return r.From[c]
	}
	return r.Change
}

func (f *folder) sameCell(c int, i, j int32) bool {
	same := f.sames[c]
	if same == nil {
		same = sameIn(f.batch.Record.Column(c))
		f.sames[c] = same
	}
	return same(i, j)
}

// Gather makes the record of a stretch's rows: the table's columns, each value from
// where it is known. Unknown values, and those of bare rows but the key, are null.
func Gather(record arrow.RecordBatch, stretch []Row, key []int) []arrow.Array {
	isKey := map[int]bool{}
	for _, k := range key {
		isKey[k] = true
	}
	plain := true
	for i := range stretch {
		if stretch[i].From != nil || (stretch[i].KeyOnly && len(isKey) > 0) {
			plain = false
			break
		}
	}
	columns := make([]arrow.Array, record.NumCols())
	from := make([]int32, len(stretch))
	for i := range stretch {
		from[i] = stretch[i].Change
	}
	for c := range columns {
		if !plain {
			for i := range stretch {
				switch x := &stretch[i]; {
				case x.KeyOnly && !isKey[c]:
					from[i] = -1
				default:
					from[i] = x.source(c)
				}
			}
		}
		columns[c] = Take(record.Column(c), from)
	}
	return columns
}
