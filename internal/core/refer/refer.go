// Package refer finds what became of rows that a source changed without telling its log: those that
// refer, by a foreign key, to a row that went, or that changed what they refer to. The log tells of the
// row; which rows refer to it is what the changes before, and the warehouse, know.
package refer

import (
	"errors"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/change"
	"noemata/internal/core/schema"
)

// Table is a table whose rows refer, or are referred to.
type Table struct {
	Columns []schema.Column // as they arrive
	Key     []int           // places of the key's columns
	By      [][]int         // of each reference, the places of its columns
	From    []Referrer      // who refers to its key, in rows that are changed without being told
	Waits   bool            // its changes are kept as they come
	Ignores func(change.Kind) bool
	// Holding reads the rows of the warehouse that have, in some columns, one of several lists of values,
	// as text: a record of all columns, in which those of the key are filled.
	Holding func(columns []int, values [][]string) ([]arrow.RecordBatch, error)
}

// Referrer is a table whose rows refer to another one's.
type Referrer struct {
	Table    int   // its number; it may be the table itself
	To       []int // places of its columns, as the other's key has them
	OnDelete schema.Effect
}

// Order gives the numbers of tables such that each comes after those it refers to; nil where they refer
// to one another in a circle.
func Order(tables []*Table) []int {
	var order []int
	state := make([]int, len(tables)) // 1: begun, 2: ended
	var visit func(i int) bool
	visit = func(i int) bool {
		if state[i] == 1 {
			return false
		}
		if state[i] == 0 && tables[i] != nil {
			state[i] = 1
			for _, f := range tables[i].From {
				if f.Table != i && !visit(f.Table) {
					return false
				}
			}
		}
		if state[i] != 2 {
			state[i] = 2
			order = append(order, i)
		}
		return true
	}
	for i := range tables {
		if !visit(i) {
			return nil
		}
	}
	slices.Reverse(order)
	return order
}

// Expand puts, in the place of changes of what rows refer to, the changes of the rows themselves: tables
// that wait get those of what they refer to. tables has an entry for each batch, nil where its table
// neither refers nor is referred to, or is not among those that are expanded: unmet are the numbers of
// the latter whose rows refer to rows that were changed.
func Expand(tables []*Table, batches []change.Batch) (unmet []int, err error) {
	more := make([][]derived, len(tables))
	order := Order(tables)
	if order == nil && len(tables) > 0 {
		return nil, errors.New("tables refer to one another in a circle")
	}
	for _, i := range order {
		t := tables[i]
		if t == nil && len(more[i]) > 0 {
			unmet = append(unmet, i)
		}
		if t == nil || len(more[i]) == 0 && !slices.ContainsFunc(batches[i].Rows,
			func(r change.Row) bool { return r.Kind.Refers() }) {
			continue
		}
		w := &walk{table: t, number: i, batch: batches[i], more: more, states: map[string]*state{},
			holding: map[string][]row{}, refers: map[string]map[string]bool{}, masks: map[int]int32{}}
		w.weave(more[i])
		if !t.Waits {
			if err := w.prefetch(); err != nil {
				return nil, err
			}
			if err := w.all(); err != nil {
				return nil, err
			}
		}
		made := w.batchOf()
		if was := batches[i].Record; was != nil && was != made.Record {
			defer was.Release() // changes of other tables have values of it
		}
		batches[i] = made
	}
	return unmet, nil
}
