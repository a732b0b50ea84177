// Package plain is a warehouse without SQL, in memory, for tests: the simplest program that
// keeps what the warehouse's seam promises. It shows that the seam lets no SQL through, and
// it says in few lines what the merges of the other kinds must come to.
//
// One commit is under way at a time, on a copy of everything; to finish it puts the copy in
// the place of what was there.
package plain

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/connection"
	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Kind is the name of this kind of warehouse.
const Kind = "plain"

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{
	Check: func(s connection.Settings) (connection.Settings, error) { return s, nil },
	Open:  func(connection.Settings, string) (warehouse.Warehouse, error) { return New(), nil },
}

// Warehouse keeps tables in memory.
type Warehouse struct {
	writing chan struct{} // holds a token while a commit is under way
	now     chan state    // holds what everybody sees
}

// New makes an empty warehouse.
func New() *Warehouse {
	w := &Warehouse{writing: make(chan struct{}, 1), now: make(chan state, 1)}
	w.now <- newState()
	return w
}

// cell is one value: an array of one, and its text.
type cell struct {
	value arrow.Array
	text  string
	null  bool
}

// row is the values of a row by column.
type row map[string]cell

// table is rows in the order they came in. Rows are never changed, but replaced.
type table struct {
	columns []schema.Column
	rows    []row
}

func (t table) clone() table { return table{t.columns, slices.Clone(t.rows)} }

// rowsOf takes a record apart. Its memory may be used again afterwards.
func rowsOf(record arrow.RecordBatch, columns []schema.Column) []row {
	list := make([]row, record.NumRows())
	for i := range list {
		list[i] = row{}
	}
	every := make([]int32, len(list))
	for i := range every {
		every[i] = int32(i)
	}
	for k, c := range columns {
		column := fold.Take(record.Column(k), every)
		for i := range list {
			one := array.NewSlice(column, int64(i), int64(i)+1)
			text, ok := schema.CellText(one, 0, c.Type)
			list[i][c.Name] = cell{one, strings.Clone(text), !ok}
		}
	}
	return list
}

// recordOf puts rows together again.
func recordOf(list []row, columns []schema.Column) arrow.RecordBatch {
	arrays := make([]arrow.Array, len(columns))
	for k, c := range columns {
		parts := []arrow.Array{array.MakeArrayOfNull(memory.DefaultAllocator, c.Type.Arrow(), 0)}
		for _, r := range list {
			if v, ok := r[c.Name]; ok {
				parts = append(parts, v.value)
			} else {
				parts = append(parts, array.MakeArrayOfNull(memory.DefaultAllocator, c.Type.Arrow(), 1))
			}
		}
		arrays[k], _ = array.Concatenate(parts, memory.DefaultAllocator) // of one type, so it cannot fail
	}
	return array.NewRecordBatch(schema.Arrow(columns), arrays, int64(len(list)))
}

// Test tells that there is nothing to sign in to.
func (w *Warehouse) Test(context.Context) (string, error) { return "plain", nil }

// MayWrite finds no privilege missing.
func (w *Warehouse) MayWrite(context.Context, warehouse.Target) error { return nil }

// Names are told apart as they are.
func (w *Warehouse) Names() warehouse.Names { return warehouse.Names{Kind: "the plain warehouse"} }

// Form is none.
func (w *Warehouse) Form() string { return "" }

// Close does nothing.
func (w *Warehouse) Close() {}

// see gives what everybody sees.
func (w *Warehouse) see() state {
	s := <-w.now
	w.now <- s
	return s
}

// change does work as one commit.
func (w *Warehouse) change(ctx context.Context, work func(s state) error) error {
	c, err := w.Begin(ctx)
	if err != nil {
		return err
	}
	defer c.Abort()
	if err := work(c.(*commit).state); err != nil {
		return err
	}
	return c.Finish(ctx)
}

// Prepare makes a table where it is missing.
func (w *Warehouse) Prepare(ctx context.Context, t warehouse.Target) (made bool, err error) {
	has, ok := w.see().tables[t.Name]
	if !ok {
		return true, w.change(ctx, func(s state) error {
			s.tables[t.Name] = table{columns: t.All()}
			return nil
		})
	}
	for _, c := range t.All() {
		if have, ok := (schema.Table{Columns: has.columns}).Column(c.Name); !ok || have.Type != c.Type {
			kind := drift.Columns
			if ok {
				kind = drift.Types
			}
			return false, drift.Of(kind, problem.Newf(problem.Held, "Copy the table again.",
				"The target %s does not have the columns that the source has now.", t.Name))
		}
	}
	return false, nil
}

// Refit gives a table the columns of its target. Values of another type are gone.
func (w *Warehouse) Refit(ctx context.Context, t warehouse.Target) error {
	return w.change(ctx, func(s state) error {
		has := s.tables[t.Name].clone()
		for i, r := range has.rows {
			has.rows[i] = maps.Clone(r)
			for _, c := range t.All() {
				if have, ok := (schema.Table{Columns: has.columns}).Column(c.Name); ok && have.Type != c.Type {
					delete(has.rows[i], c.Name)
				}
			}
		}
		has.columns = t.All()
		s.tables[t.Name] = has
		return nil
	})
}

// Lacks lists the columns of a target that an existing table does not have.
func (w *Warehouse) Lacks(_ context.Context, t warehouse.Target) (list []string, err error) {
	has := w.see().tables[t.Name].columns
	for _, c := range t.All() {
		if _, ok := (schema.Table{Columns: has}).Column(c.Name); !ok && len(has) > 0 {
			list = append(list, c.Name)
		}
	}
	return list, nil
}

// Grants are none.
func (w *Warehouse) Grants(string, string, []schema.Name) []string { return nil }

// Mend runs nothing: no statement means anything here.
func (w *Warehouse) Mend(context.Context, string) error {
	return errors.New("this warehouse has no statements")
}

// LeftOver lists the columns that a target does not have.
func (w *Warehouse) LeftOver(_ context.Context, t warehouse.Target) (list []warehouse.LeftOver, err error) {
	for _, c := range w.see().tables[t.Name].columns {
		if _, ok := (schema.Table{Columns: t.All()}).Column(c.Name); !ok {
			list = append(list, warehouse.LeftOver{Column: c.Name, Remedy: "Make the table anew."})
		}
	}
	return list, nil
}

// Contradictions are none: nobody but this package writes the rows.
func (w *Warehouse) Contradictions(context.Context, warehouse.Target) (warehouse.Faults, error) {
	return nil, nil
}

// Size is not told.
func (w *Warehouse) Size(context.Context, warehouse.Target) (int64, error) { return -1, nil }

// File is none: it is a server.
func (w *Warehouse) File() (string, bool) { return "", false }

// Free is not known.
func (w *Warehouse) Free(context.Context) (int64, error) { return -1, nil }

// Empty tells whether a table has no rows.
func (w *Warehouse) Empty(_ context.Context, t warehouse.Target) (bool, error) {
	return len(w.see().tables[t.Name].rows) == 0, nil
}

// Count counts the rows that hold.
func (w *Warehouse) Count(_ context.Context, t warehouse.Target) (n int64, err error) {
	for _, r := range w.see().tables[t.Name].rows {
		if holds(t, r) {
			n++
		}
	}
	return n, nil
}

// holds tells whether a row holds now.
func holds(t warehouse.Target, r row) bool {
	switch t.Keep {
	case feed.KeepSoftDelete:
		return r.null(t.Called(warehouse.DeletedAt))
	case feed.KeepHistory:
		return r[t.Called(warehouse.Current)].text == "true"
	}
	return true
}

func (r row) null(column string) bool {
	c, ok := r[column]
	return !ok || c.null
}

// Read passes rows on in one batch.
func (w *Warehouse) Read(_ context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	return read(w.see(), q, sink)
}

// above compares whole numbers.
func above(a, b string) bool {
	x, _ := strconv.ParseInt(a, 10, 64)
	y, _ := strconv.ParseInt(b, 10, 64)
	return x > y
}

func read(from state, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	var list []row
	for _, r := range from.tables[q.Target.Name].rows {
		among := func(values []string) bool {
			for i, c := range q.In {
				if r.null(c) || r[c].text != values[i] {
					return false
				}
			}
			return true
		}
		if len(q.In) > 0 && !slices.ContainsFunc(q.Values, among) {
			continue
		}
		if q.After != "" && !above(r[q.Target.Key[0]].text, q.After) || q.UpTo != "" && above(r[q.Target.Key[0]].text, q.UpTo) {
			continue
		}
		if q.Holding && !holds(q.Target, r) || len(q.Key) > 0 && keyOf(q.Target, r) != rows.KeyJSON(q.Key) {
			continue
		}
		list = append(list, r)
	}
	newest := func(r row) string {
		for _, c := range q.Newest {
			if !r.null(c) {
				return r[c].text
			}
		}
		return ""
	}
	columns := schema.Table{Columns: q.Columns}
	slices.SortStableFunc(list, func(a, b row) int {
		order := cmp.Compare(newest(b), newest(a))
		for _, name := range q.OrderBy {
			c, _ := columns.Column(name)
			order = cmp.Or(order, compare(a[name], b[name], c.Type.Kind))
		}
		return order
	})
	if q.Limit > 0 && int64(len(list)) > q.Limit {
		list = list[:q.Limit]
	}
	if len(list) == 0 {
		return nil
	}
	return sink(recordOf(list, q.Columns))
}

// compare orders whole numbers by value, and all else by text.
func compare(a, b cell, kind schema.Kind) int {
	if kind == schema.Int64 && !a.null && !b.null {
		return cmp.Compare(a.value.(*array.Int64).Value(0), b.value.(*array.Int64).Value(0))
	}
	return cmp.Compare(a.text, b.text)
}

// keyOf is the key of a row as text.
func keyOf(t warehouse.Target, r row) string {
	parts := make([]string, len(t.Key))
	for i, k := range t.Key {
		parts[i] = r[k].text
	}
	return rows.KeyJSON(parts)
}

// Begin starts a commit, when the one before has ended.
func (w *Warehouse) Begin(ctx context.Context) (warehouse.Commit, error) {
	select {
	case w.writing <- struct{}{}:
		return &commit{warehouse: w, state: w.see().clone()}, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
