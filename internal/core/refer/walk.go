package refer

import (
	"fmt"
	"noemata/internal/core/change"
	"noemata/internal/core/fold"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"slices"
	"sort"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// row is where the values of a row's key are.
type row struct {
	record arrow.RecordBatch
	at     int
}

// derived is a change that the log does not tell. Its columns have values of rows elsewhere.
type derived struct {
	change.Row
	columns map[int]cell // by place; the others are null
	after   int          // the row of the batch that it comes after; -1 for none
}

type cell struct {
	array arrow.Array
	at    int
}

// state is what is known of a key by the changes so far.
type state struct {
	row
	gone  bool
	base  string         // the key that it had in the warehouse; empty where it was not there
	known map[int]string // by number of the reference: what it refers to
}

const nothing = "\x00" // what a row refers to that refers to nothing

type walk struct {
	table  *Table
	number int
	batch  change.Batch
	more   [][]derived
	told   []derived // changes of what rows refer to that were derived, in order
	out    []derived

	states  map[string]*state
	last    string                     // the key of the row that left, for the one that came
	refers  map[string]map[string]bool // by reference and value: keys, as the changes so far know
	moved   []string                   // keys that have another one in the warehouse
	emptied bool                       // nothing of the warehouse is there any more
	masks   map[int]int32              // by reference: what is not known where its columns change
	holding map[string][]row           // by reference and value: rows of the warehouse
}

// weave finds where derived changes stand among those of the batch: before the first one of a later
// place in the log.
func (w *walk) weave(list []derived) {
	for _, d := range list {
		d.after = sort.Search(len(w.batch.Rows), func(i int) bool {
			r := w.batch.Rows[i]
			return r.Txn > d.Txn || r.Txn == d.Txn && r.Seq > d.Seq
		}) - 1
		w.told = append(w.told, d)
	}
	slices.SortStableFunc(w.told, func(a, b derived) int { return a.after - b.after })
	if w.table.Waits {
		w.out = w.told
	}
}

// text is the values of some columns as one text; ok is false where one is null.
func text(columns []schema.Column, places []int, of func(place int) cell) (values []string, ok bool) {
	for _, p := range places {
		c := of(p)
		if c.array == nil || c.array.IsNull(c.at) {
			return nil, false
		}
		v, _ := schema.CellText(c.array, c.at, columns[p].Type)
		values = append(values, v)
	}
	return values, true
}

func joined(values []string) string { return rows.KeyJSON(values) }

func of(record arrow.RecordBatch, at int) func(int) cell {
	return func(place int) cell { return cell{record.Column(place), at} }
}

func (d derived) of(place int) cell { return d.columns[place] }

// reference finds which reference a change is of, by the columns that it knows.
func (w *walk) reference(known func(place int) bool) int {
	in := map[int]bool{}
	for _, by := range w.table.By {
		for _, p := range by {
			in[p] = in[p] || known(p)
		}
	}
	for n, by := range w.table.By {
		hits := 0
		for _, is := range in {
			if is {
				hits++
			}
		}
		if hits == len(by) && !slices.ContainsFunc(by, func(p int) bool { return !in[p] }) {
			return n
		}
	}
	return -1
}

// place of a reference and a value in the maps.
func at(reference int, value string) string { return fmt.Sprintf("%d %s", reference, value) }

// prefetch reads the rows of the warehouse that refer to what has changed, and to those, as far as rows
// of a table refer to others of it.
func (w *walk) prefetch() error {
	wanted := map[int][][]string{}
	want := func(n int, values []string, ok bool) {
		if n >= 0 && ok {
			wanted[n] = append(wanted[n], values)
		}
	}
	for i, r := range w.batch.Rows {
		if r.Kind.Refers() && r.Kind != change.RefTo {
			n := w.reference(w.knownIn(r))
			if n >= 0 {
				values, ok := text(w.table.Columns, w.table.By[n], of(w.batch.Record, i))
				want(n, values, ok)
			}
		}
	}
	for _, d := range w.told {
		if d.Kind != change.RefTo {
			n := w.reference(func(p int) bool { _, ok := d.columns[p]; return ok })
			if n >= 0 {
				values, ok := text(w.table.Columns, w.table.By[n], d.of)
				want(n, values, ok)
			}
		}
	}
	for len(wanted) > 0 {
		found := map[int][][]string{}
		for n, values := range wanted {
			list, err := w.read(n, values)
			if err != nil {
				return err
			}
			for _, self := range w.self() {
				for _, r := range list {
					key, ok := text(w.table.Columns, w.table.Key, of(r.record, r.at))
					if _, had := w.holding[at(self, joined(key))]; ok && !had {
						found[self] = append(found[self], key)
					}
				}
			}
		}
		wanted = found
	}
	return nil
}

// self lists the references of the table's rows to others of it.
func (w *walk) self() (list []int) {
	for _, f := range w.table.From {
		if f.Table == w.number && f.OnDelete != schema.NoEffect {
			for n, by := range w.table.By {
				if slices.Equal(by, f.To) {
					list = append(list, n)
				}
			}
		}
	}
	return list
}

// mostValues is how many values are asked for at once.
const mostValues = 500

// read reads rows of the warehouse that refer to values.
func (w *walk) read(n int, values [][]string) (all []row, err error) {
	by := w.table.By[n]
	var ask [][]string
	for _, v := range values {
		if _, had := w.holding[at(n, joined(v))]; !had {
			w.holding[at(n, joined(v))] = nil
			ask = append(ask, v)
		}
	}
	if w.emptied {
		return nil, nil
	}
	for part := range slices.Chunk(ask, mostValues) {
		records, err := w.table.Holding(by, part)
		if err != nil {
			return nil, err
		}
		for _, record := range records {
			for i := range int(record.NumRows()) {
				v, ok := text(w.table.Columns, by, of(record, i))
				if !ok {
					continue
				}
				place := at(n, joined(v))
				w.holding[place] = append(w.holding[place], row{record, i})
				all = append(all, row{record, i})
			}
		}
	}
	return all, nil
}

func (w *walk) knownIn(r change.Row) func(place int) bool {
	return func(place int) bool { return r.Unknown == 0 || !w.batch.Unknown[r.Unknown-1][place] }
}

// all goes through the changes in the order of the log.
func (w *walk) all() error {
	next := 0
	flush := func(after int) error {
		for ; next < len(w.told) && w.told[next].after <= after; next++ {
			d := w.told[next]
			n := w.reference(func(p int) bool { _, ok := d.columns[p]; return ok })
			if err := w.affect(d.Row, n, d.of, d.after, nil); err != nil {
				return err
			}
		}
		return nil
	}
	if err := flush(-1); err != nil {
		return err
	}
	for i := range w.batch.Rows {
		r := &w.batch.Rows[i]
		switch {
		case r.Kind == change.RefTo || r.Kind == 0 || r.Kind == change.Truncate || r.Misfit:
			if r.Kind == change.Truncate && !r.Misfit {
				w.empty()
			}
		case r.Kind.Refers():
			var to func(int) cell
			if r.Kind == change.RefFrom {
				if i+1 == len(w.batch.Rows) || w.batch.Rows[i+1].Kind != change.RefTo {
					return fmt.Errorf("a change of what rows refer to has no second half")
				}
				to = of(w.batch.Record, i+1)
			}
			if err := w.affect(*r, w.reference(w.knownIn(*r)), of(w.batch.Record, i), i, to); err != nil {
				return err
			}
		default:
			w.note(i, *r)
		}
		if err := flush(i); err != nil {
			return err
		}
	}
	for i := range w.batch.Rows {
		if w.batch.Rows[i].Kind.Refers() {
			w.batch.Rows[i].Kind = 0
		}
	}
	return nil
}

// empty forgets all rows: the table was emptied.
func (w *walk) empty() {
	w.emptied = true
	w.states, w.refers, w.moved = map[string]*state{}, map[string]map[string]bool{}, nil
	for place := range w.holding {
		w.holding[place] = nil
	}
}

// key is the key of a row as text.
func (w *walk) key(r row) string {
	values, _ := text(w.table.Columns, w.table.Key, of(r.record, r.at))
	return joined(values)
}

// note takes in a change that the log has told.
func (w *walk) note(i int, r change.Row) {
	key := w.key(row{w.batch.Record, i})
	was := w.states[key]
	now := &state{row: row{w.batch.Record, i}, base: key, known: map[int]string{}}
	switch {
	case r.Kind == change.Came:
		was = w.states[w.last]
		if now.base = w.last; was != nil {
			now.base = was.base
		}
	case was != nil:
		now.base = was.base
	}
	w.forget(key)
	if r.Kind.Ends() {
		if w.last = key; r.Kind == change.Left && was != nil { // for the one that comes
			w.states[key] = &state{row: was.row, gone: true, base: was.base, known: was.known}
			return
		}
		now.gone = true
		w.states[key] = now
		return
	}
	known := w.knownIn(r)
	for n, by := range w.table.By {
		switch {
		case !slices.ContainsFunc(by, func(p int) bool { return !known(p) }):
			values, ok := text(w.table.Columns, by, of(w.batch.Record, i))
			now.known[n] = nothing
			if ok {
				now.known[n] = joined(values)
			}
		case was != nil:
			if v, ok := was.known[n]; ok {
				now.known[n] = v
			}
		}
	}
	if r.Kind == change.Insert {
		now.base = ""
	}
	w.keep(key, now)
}

// keep makes a state that of a key.
func (w *walk) keep(key string, s *state) {
	w.states[key] = s
	for n, v := range s.known {
		if w.refers[at(n, v)] == nil {
			w.refers[at(n, v)] = map[string]bool{}
		}
		w.refers[at(n, v)][key] = true
	}
	if s.base != "" && s.base != key {
		w.moved = append(w.moved, key)
	}
}

// forget takes a key out of those that refer to something.
func (w *walk) forget(key string) {
	if s := w.states[key]; s != nil {
		for n, v := range s.known {
			delete(w.refers[at(n, v)], key)
		}
	}
}

// affect derives the changes of the rows that refer to what has changed.
func (w *walk) affect(r change.Row, n int, of func(int) cell, after int, to func(int) cell) error {
	if n < 0 {
		return fmt.Errorf("a change of what rows refer to is of no reference that is known")
	}
	by := w.table.By[n]
	values, ok := text(w.table.Columns, by, of)
	if !ok {
		return nil
	}
	value := joined(values)
	if _, had := w.holding[at(n, value)]; !had {
		if _, err := w.read(n, [][]string{values}); err != nil {
			return err
		}
	}
	for _, key := range w.referring(n, value) {
		if err := w.derive(key, r, n, after, to); err != nil {
			return err
		}
	}
	return nil
}

// referring lists the keys of the rows that refer to a value now, sorted.
func (w *walk) referring(n int, value string) []string {
	there := map[string]row{}
	for _, r := range w.holding[at(n, value)] {
		there[w.key(r)] = r
	}
	var keys []string
	for key, r := range there {
		if w.states[key] == nil {
			w.states[key] = &state{row: r, base: key, known: map[int]string{}}
		}
		if s := w.states[key]; !s.gone && s.base == key {
			if _, known := s.known[n]; !known {
				keys = append(keys, key)
			}
		}
	}
	for key := range w.refers[at(n, value)] {
		keys = append(keys, key)
	}
	for _, key := range w.moved {
		s := w.states[key]
		if _, is := there[s.base]; is && !s.gone && s.base != key {
			if _, known := s.known[n]; !known && !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	slices.Sort(keys)
	return keys
}

// derive adds the change of one row.
func (w *walk) derive(key string, r change.Row, n, after int, to func(int) cell) error {
	s := w.states[key]
	d := derived{Row: change.Row{Txn: r.Txn, Seq: r.Seq}, columns: map[int]cell{}, after: after}
	for _, p := range w.table.Key {
		d.columns[p] = cell{s.record.Column(p), s.at}
	}
	w.forget(key)
	now := *s
	if r.Kind == change.RefDeleted {
		d.Kind = change.Delete
		now.gone = true
		w.states[key] = &now
		w.add(d)
		return w.passOn(d, after)
	}
	d.Kind = change.Update
	d.Unknown = w.unknown(n)
	now.known = map[int]string{}
	for other, by := range w.table.By {
		shares := slices.ContainsFunc(by, func(p int) bool { return slices.Contains(w.table.By[n], p) })
		if v, known := s.known[other]; known && !shares {
			now.known[other] = v
		}
		if shares && to == nil {
			now.known[other] = nothing
		}
	}
	if to != nil {
		values, ok := text(w.table.Columns, w.table.By[n], to)
		now.known[n] = nothing
		if ok {
			now.known[n] = joined(values)
		}
		for _, p := range w.table.By[n] {
			d.columns[p] = to(p)
		}
	}
	w.keep(key, &now)
	w.add(d)
	return nil
}

// unknown marks what is not known of rows of which the columns of a reference change.
func (w *walk) unknown(n int) int32 {
	if w.masks[n] == 0 {
		mask := make([]bool, len(w.table.Columns))
		for p := range mask {
			mask[p] = !slices.Contains(w.table.Key, p) && !slices.Contains(w.table.By[n], p)
		}
		w.batch.Unknown = append(slices.Clone(w.batch.Unknown), mask)
		w.masks[n] = int32(len(w.batch.Unknown))
	}
	return w.masks[n]
}

// add adds a change that the table takes.
func (w *walk) add(d derived) {
	if w.table.Ignores != nil && w.table.Ignores(d.Kind) {
		w.batch.Ignored++
		return
	}
	w.out = append(w.out, d)
}

// passOn has the rows changed that refer to one that was deleted.
func (w *walk) passOn(d derived, after int) error {
	for _, f := range w.table.From {
		kind := change.RefDeleted
		switch f.OnDelete {
		case schema.NoEffect:
			continue
		case schema.BecomesNull:
			kind = change.RefNull
		}
		next := derived{Row: change.Row{Kind: kind, Txn: d.Txn, Seq: d.Seq}, columns: map[int]cell{}}
		for i, p := range f.To {
			next.columns[p] = d.columns[w.table.Key[i]]
		}
		if f.Table != w.number {
			w.more[f.Table] = append(w.more[f.Table], next)
			continue
		}
		n := slices.IndexFunc(w.table.By, func(by []int) bool { return slices.Equal(by, f.To) })
		if err := w.affect(next.Row, n, next.of, after, nil); err != nil {
			return err
		}
	}
	return nil
}

// batchOf is the batch with the derived changes among the others.
func (w *walk) batchOf() change.Batch {
	if len(w.out) == 0 {
		return w.batch
	}
	b := w.batch
	if w.table.Waits {
		b.Unknown = slices.Clone(b.Unknown)
	}
	count := 0
	if b.Record != nil {
		count = int(b.Record.NumRows())
	}
	var list []change.Row
	var from []int32
	next := 0
	flush := func(after int) {
		for ; next < len(w.out) && w.out[next].after <= after; next++ {
			r := w.out[next].Row
			if w.table.Waits {
				unknown := make([]bool, len(w.table.Columns))
				for p := range unknown {
					_, known := w.out[next].columns[p]
					unknown[p] = !known
				}
				b.Unknown = append(b.Unknown, unknown)
				r.Unknown = int32(len(b.Unknown))
			}
			list, from = append(list, r), append(from, int32(count+next))
		}
	}
	flush(-1)
	for i, r := range b.Rows {
		list, from = append(list, r), append(from, int32(i))
		flush(i)
	}
	columns := make([]arrow.Array, len(w.table.Columns))
	for p := range columns {
		var parts []arrow.Array
		if b.Record != nil {
			parts = append(parts, b.Record.Column(p))
		}
		made := w.column(p)
		all, err := array.Concatenate(append(parts, made), memory.DefaultAllocator)
		made.Release()
		if err != nil { // they are of one type
			panic(err)
		}
		columns[p] = fold.Take(all, from)
		all.Release()
	}
	b.Rows, b.Record = list, array.NewRecordBatch(schema.Arrow(w.table.Columns), columns, int64(len(list)))
	for _, c := range columns {
		c.Release()
	}
	return b
}

// column is a column of the derived changes.
func (w *walk) column(p int) arrow.Array {
	kind := w.table.Columns[p].Type.Arrow()
	var parts []arrow.Array
	nulls := 0
	flush := func() {
		if nulls > 0 {
			parts = append(parts, array.MakeArrayOfNull(memory.DefaultAllocator, kind, nulls))
			nulls = 0
		}
	}
	for _, d := range w.out {
		c, is := d.columns[p]
		if !is || c.array == nil {
			nulls++
			continue
		}
		flush()
		parts = append(parts, array.NewSlice(c.array, int64(c.at), int64(c.at+1)))
	}
	flush()
	all, err := array.Concatenate(parts, memory.DefaultAllocator)
	for _, part := range parts {
		part.Release()
	}
	if err != nil {
		panic(fmt.Errorf("%s: %w", strings.TrimSpace(w.table.Columns[p].Name), err))
	}
	return all
}
