// Package stash is the form in which changes wait while their table is copied: a record
// of the table's columns, and of columns that say what each change was. Whatever warehouse
// keeps them, the changes that come out are those that went in.
package stash

import (
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/change"
	"noemata/internal/core/fold"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// Columns that say what a change was.
const (
	Event    = "noemata_place"   // sorts as the log does
	Kind     = "noemata_kind"    // a change.Kind
	Txn      = "noemata_txn"     // the source's number of the transaction
	Commit   = "noemata_commit"  // the transaction's position
	Moment   = "noemata_moment"  // its moment
	Seq      = "noemata_seq"     // the change's number within it
	Unknown  = "noemata_unknown" // column by column, 1 where the log leaves the value out
	Misfit   = "noemata_unfit"   // why the row does not fit the table
	Snapshot = "noemata_snapshot"
)

// added are the columns of changes beside the table's, in order.
var added = []schema.Column{
	{Name: Event, Type: schema.Type{Kind: schema.Text}}, {Name: Kind, Type: schema.Type{Kind: schema.Int16}},
	{Name: Txn, Type: schema.Type{Kind: schema.Int64}}, {Name: Commit, Type: schema.Type{Kind: schema.Text}},
	{Name: Moment, Type: schema.Type{Kind: schema.Int64}}, {Name: Seq, Type: schema.Type{Kind: schema.Int32}},
	{Name: Unknown, Type: schema.Type{Kind: schema.Text}}, {Name: Misfit, Type: schema.Type{Kind: schema.Text}},
}

// Columns are those of changes that wait.
func Columns(table []schema.Column) []schema.Column {
	return append(append([]schema.Column{}, table...), added...)
}

// TxnColumns are those that Txns reads.
func TxnColumns() []schema.Column { return added[2:5] }

// CopiedColumns are those of the rows of a copy: the table's, and the number of the snapshot
// that a row was read in.
func CopiedColumns(table []schema.Column) []schema.Column {
	return append(append([]schema.Column{}, table...),
		schema.Column{Name: Snapshot, Type: schema.Type{Kind: schema.Int64}})
}

// out marks, in the kind, a row that the filter leaves out.
const out = 0x100

// Encode makes the record of some changes of a batch.
func Encode(b change.Batch, table []schema.Column, keep []int32) arrow.RecordBatch {
	r := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(added))
	defer r.Release()
	text := func(i int) *array.StringBuilder { return r.Field(i).(*array.StringBuilder) }
	number := func(i int) *array.Int64Builder { return r.Field(i).(*array.Int64Builder) }
	for _, k := range keep {
		row := b.Rows[k]
		txn := b.Txns[row.Txn]
		text(0).Append(txn.EventPosition(row.Seq))
		kind := int16(row.Kind)
		if row.Out {
			kind |= out
		}
		r.Field(1).(*array.Int16Builder).Append(kind)
		number(2).Append(int64(txn.ID))
		text(3).Append(txn.Position)
		number(4).Append(txn.Moment)
		r.Field(5).(*array.Int32Builder).Append(row.Seq)
		if row.Unknown > 0 {
			text(6).Append(Mask(b.Unknown[row.Unknown-1]))
		} else {
			text(6).AppendNull()
		}
		if row.Misfit {
			text(7).Append(b.Misfit.Error())
		} else {
			text(7).AppendNull()
		}
	}
	extra := r.NewRecordBatch()
	defer extra.Release()
	var columns []arrow.Array
	for i := range table {
		columns = append(columns, fold.Take(b.Record.Column(i), keep))
	}
	record := array.NewRecordBatch(schema.Arrow(Columns(table)), append(columns, extra.Columns()...), int64(len(keep)))
	for _, c := range columns {
		c.Release()
	}
	return record
}

// Mask writes which columns are meant, column by column.
func Mask(columns []bool) string {
	var text strings.Builder
	for _, is := range columns {
		if is {
			text.WriteByte('1')
		} else {
			text.WriteByte('0')
		}
	}
	return text.String()
}

// Decode makes the batch of a record, without the transactions that are not wanted. It has
// no Record where none is left.
func Decode(record arrow.RecordBatch, table []schema.Column, wanted func(change.Txn) bool) change.Batch {
	n := len(table)
	text := func(i, row int) string { return record.Column(n + i).(*array.String).Value(row) }
	number := func(i, row int) int64 { return record.Column(n + i).(*array.Int64).Value(row) }
	var b change.Batch
	var keep []int32
	for row := range int(record.NumRows()) {
		x := change.Txn{ID: uint32(number(2, row)), Position: text(3, row), Moment: number(4, row)}
		if len(b.Txns) == 0 || b.Txns[len(b.Txns)-1].Position != x.Position {
			if !wanted(x) {
				continue
			}
			b.Txns = append(b.Txns, x)
		}
		kind := record.Column(n + 1).(*array.Int16).Value(row)
		r := change.Row{Kind: change.Kind(kind &^ out), Out: kind&out != 0, Txn: int32(len(b.Txns) - 1),
			Seq: record.Column(n + 5).(*array.Int32).Value(row)}
		if !record.Column(n + 6).IsNull(row) {
			mask := make([]bool, n)
			for i, m := range text(6, row) {
				mask[i] = m == '1'
			}
			b.Unknown = append(b.Unknown, mask)
			r.Unknown = int32(len(b.Unknown))
		}
		if !record.Column(n + 7).IsNull(row) {
			r.Misfit, b.Misfit = true, problem.New(problem.Held, text(7, row), "")
		}
		b.Rows = append(b.Rows, r)
		keep = append(keep, int32(row))
	}
	if len(keep) == 0 {
		return change.Batch{}
	}
	var columns []arrow.Array
	for i := range n {
		columns = append(columns, fold.Take(record.Column(i), keep))
	}
	b.Record = array.NewRecordBatch(schema.Arrow(table), columns, int64(len(keep)))
	for _, c := range columns {
		c.Release()
	}
	return b
}

// KindAt is the kind of a change of a record of Columns.
func KindAt(record arrow.RecordBatch, table []schema.Column, row int) change.Kind {
	return change.Kind(record.Column(len(table)+1).(*array.Int16).Value(row) &^ out)
}

// Txns gives the transactions of a record of TxnColumns, each once where its changes stand
// together.
func Txns(record arrow.RecordBatch, visit func(change.Txn)) {
	ids, commits, moments := record.Column(0).(*array.Int64), record.Column(1).(*array.String),
		record.Column(2).(*array.Int64)
	last := ""
	for i := range ids.Len() {
		if commits.Value(i) != last {
			last = strings.Clone(commits.Value(i))
			visit(change.Txn{ID: uint32(ids.Value(i)), Position: last, Moment: moments.Value(i)})
		}
	}
}
