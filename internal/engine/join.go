package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/google/uuid"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// replayRows is how many suspended changes are merged at once; tests cut elsewhere.
var replayRows int64 = 100_000

// suspended makes the record that keeps some changes of a batch.
func suspended(t *logTable, b change.Batch, keep []int32) arrow.RecordBatch {
	n := len(keep)
	var columns []arrow.Array
	for i := range t.target.Columns {
		columns = append(columns, fold.Take(b.Record.Column(i), keep))
	}
	row := func(i int) change.Row { return b.Rows[keep[i]] }
	txn := func(i int) change.Txn { return b.Txns[row(i).Txn] }
	unknown, unfit := array.NewStringBuilder(allocator), array.NewStringBuilder(allocator)
	defer unknown.Release()
	defer unfit.Release()
	for i := range n {
		if mask := row(i).Unknown; mask > 0 {
			var text strings.Builder
			for _, u := range b.Unknown[mask-1] {
				text.WriteByte(map[bool]byte{false: '0', true: '1'}[u])
			}
			unknown.Append(text.String())
		} else {
			unknown.AppendNull()
		}
		if row(i).Unfit {
			unfit.Append(b.Unfit.Error())
		} else {
			unfit.AppendNull()
		}
	}
	columns = append(columns,
		each[string](array.NewStringBuilder(allocator), n, func(i int) string { return txn(i).EventPosition(row(i).Seq) }),
		each[int16](array.NewInt16Builder(allocator), n, func(i int) int16 { return int16(row(i).Kind) }),
		int64s(n, func(i int) int64 { return int64(txn(i).ID) }),
		each[string](array.NewStringBuilder(allocator), n, func(i int) string { return txn(i).Position }),
		int64s(n, func(i int) int64 { return txn(i).Moment }),
		each[int32](array.NewInt32Builder(allocator), n, func(i int) int32 { return row(i).Seq }),
		unknown.NewArray(), unfit.NewArray())
	record := array.NewRecordBatch(schema.Arrow(suspendedOf(t)), columns, int64(n))
	for _, c := range columns {
		c.Release()
	}
	return record
}

// join brings the tables whose copies the warehouse's position has passed to those that
// follow, at the beginning of a commit. No change that comes now is in their copies.
func (f *follow) join(ctx context.Context) error {
	if f.commit != nil {
		return nil
	}
	var ready []int
	f.mu.Lock()
	for i, t := range f.tables {
		if t.state == Joining && f.place.Position.Value >= t.copy.Reached {
			ready = append(ready, i)
		}
	}
	f.mu.Unlock()
	for _, i := range ready {
		began := time.Now()
		if err := f.settleCopy(ctx, f.tables[i]); err != nil {
			return blame(f.tables[i], err)
		}
		at, err := f.begins(ctx, f.tables[i])
		if err != nil {
			return err
		}
		if err := f.begun(ctx); err != nil {
			return err
		}
		if err := f.joinTable(ctx, f.tables[i], at); err != nil {
			return blame(f.tables[i], err)
		}
		f.tables[i].joined = true
		f.spent(f.tables[i], 0, time.Since(began))
	}
	return nil
}

// seenFrom gives the number of the first snapshot, counted from 1, that shows what a
// transaction did; 0 for none.
func (f *follow) seenFrom(t *logTable, x change.Txn) int {
	for i, s := range t.copy.Snapshots {
		if f.log.Sees(s, x) {
			return i + 1
		}
	}
	return 0
}

// settleCopy leaves one row of each key in a copy that was read in several snapshots, and
// takes out of the suspended changes those that the rows show already.
func (f *follow) settleCopy(ctx context.Context, t *logTable) error {
	if len(t.copy.Snapshots) == 1 {
		return nil
	}
	shown := map[int][]string{}
	if err := f.suspendedTxns(ctx, t, func(x change.Txn) {
		if n := f.seenFrom(t, x); n > 1 {
			shown[n] = append(shown[n], schema.Literal(x.Position))
		}
	}); err != nil {
		return err
	}
	w, err := f.Warehouse.Begin(ctx)
	if err != nil {
		return err
	}
	defer w.Abort()
	var same []string
	for _, k := range t.target.Key {
		same = append(same, fmt.Sprintf("c.%s = p.%[1]s", schema.Quote(k)))
	}
	for n, list := range shown {
		for chunk := range slices.Chunk(list, 1000) {
			if _, err := w.Exec(ctx, fmt.Sprintf("DELETE FROM %s AS p WHERE p.noemata_commit IN (%s) AND coalesce((SELECT max(c.%s) FROM %s AS c WHERE %s), %d) >= %d",
				f.suspendedTable(t).Quoted(), strings.Join(chunk, ", "), snapshotTag, f.copiedTable(t).Quoted(), strings.Join(same, " AND "), len(t.copy.Snapshots), n)); err != nil {
				return err
			}
		}
	}
	if _, err := w.Exec(ctx, fmt.Sprintf("DELETE FROM %s AS p USING %[1]s AS c WHERE %s AND p.%s < c.%[3]s", f.copiedTable(t).Quoted(), strings.Join(same, " AND "), snapshotTag)); err != nil {
		return err
	}
	return w.Finish(ctx)
}

// begins is the transaction that the rows of a copy are said to come from. It precedes
// each change that is left to be merged: such a change may have committed while the
// snapshot was taken, and even before, without being visible in it, or after a snapshot
// that the copy had begun in.
func (f *follow) begins(ctx context.Context, t *logTable) (change.Txn, error) {
	at := change.Txn{Position: t.copy.Reached, Moment: t.copy.Moment}
	err := f.suspendedTxns(ctx, t, func(x change.Txn) {
		if !f.log.Sees(t.copy.Snapshots[0], x) {
			at.Position, at.Moment = min(at.Position, x.Position), min(at.Moment, x.Moment-1)
		}
	})
	return at, err
}

// suspendedTxns gives the transactions that suspended changes are from, in no order, and
// some of them more than once.
func (f *follow) suspendedTxns(ctx context.Context, t *logTable, visit func(change.Txn)) error {
	return f.Warehouse.Read(ctx, warehouse.Query{Name: f.suspendedTable(t), Columns: suspendedColumns[2:5]}, func(r arrow.RecordBatch) error {
		ids, commits, moments := r.Column(0).(*array.Int64), r.Column(1).(*array.String), r.Column(2).(*array.Int64)
		last := ""
		for i := range ids.Len() {
			if commits.Value(i) != last {
				last = strings.Clone(commits.Value(i))
				visit(change.Txn{ID: uint32(ids.Value(i)), Position: last, Moment: moments.Value(i)})
			}
		}
		return nil
	})
}

// joinTable merges a copy into its target, and then the changes that were suspended.
func (f *follow) joinTable(ctx context.Context, t *logTable, at change.Txn) error {
	part, err := f.mergeCopy(ctx, t, at)
	if err != nil {
		return err
	}
	found, err := f.commit.Ask(ctx, "SELECT CAST(coalesce(sum(aside_count), 0) AS BIGINT) FROM noemata.copy_parts WHERE feed = $1 AND source_table = $2 AND generation = $3", f.Feed.Name, t.Table.Table, t.copy.Generation)
	if err != nil {
		return err
	}
	part.Books.Read += found[0][0].(int64)
	part.Books.SetAside += found[0][0].(int64)
	if err := f.replay(ctx, t); err != nil {
		return err
	}
	for _, sql := range dropCopies(f.Feed.Name, t.Table.Table) {
		if _, err := f.commit.Exec(ctx, sql); err != nil {
			return err
		}
	}
	n, err := f.commit.Exec(ctx, "UPDATE noemata.copies SET state = $3, layout = $4, snapshots = '[]', reached = '', moment = 0 WHERE feed = $1 AND source_table = $2 AND generation = $5 AND state = $6",
		f.Feed.Name, t.Table.Table, Following, layoutOf(t).String(), t.copy.Generation, Joining)
	if err == nil && n != 1 {
		err = warehouse.Overtaken(t.Table.Table)
	}
	return err
}

// mergeCopy brings the rows of a copy into the target. What the target has and the copy
// lacks has ended.
func (f *follow) mergeCopy(ctx context.Context, t *logTable, begins change.Txn) (*warehouse.Part, error) {
	n, at := t.target.Names, momentOf(begins)
	columns, values := t.query.Table.ColumnNames(), []string{schema.QuoteAll("", t.query.Table.ColumnNames())}
	for _, c := range t.target.Added {
		value := "NULL"
		switch c.Name {
		case n.Run:
			value = fmt.Sprint(f.Run)
		case n.ChangedAt, n.From:
			value = at
		case n.Current:
			value = "true"
		case n.Position:
			value = schema.Literal(begins.Position)
			if t.Keep == feed.KeepLedger {
				value = schema.Literal(begins.EventPosition(0)) // changes are numbered from 1
			}
		case n.Changed:
			value = "'copy'"
		}
		columns, values = append(columns, c.Name), append(values, value)
	}
	found, err := f.commit.Ask(ctx, "SELECT EXISTS (SELECT 1 FROM "+t.target.Name.Quoted()+")")
	if err != nil {
		return nil, err
	}
	filled := found[0][0].(bool)
	if filled && t.Keep != feed.KeepLedger {
		if filled, err = f.sameKey(ctx, t, at); err != nil {
			return nil, err
		}
	}
	if !filled || t.Keep == feed.KeepLedger {
		count, err := f.commit.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", t.target.Name.Quoted(), schema.QuoteAll("", columns), strings.Join(values, ", "), f.copiedTable(t).Quoted()))
		if err != nil {
			return nil, err
		}
		part, err := f.partOf(ctx, t)
		if err == nil {
			part.Books.Read += count
			part.Books.Inserted += count
		}
		return part, err
	}
	part, err := f.partOf(ctx, t)
	if err != nil {
		return nil, err
	}
	columns, values = append(columns, warehouse.StageGone, warehouse.StageBare, warehouse.StageFollows), append(values, "false", "false", "0")
	for _, sql := range []string{
		fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", part.Stage(), schema.QuoteAll("", columns), strings.Join(values, ", "), f.copiedTable(t).Quoted()),
		f.Warehouse.Dialect().Sweep(t.target, f.copiedTable(t).Quoted(), at, f.Run),
	} {
		count, err := f.commit.Exec(ctx, sql)
		if err != nil {
			return nil, err
		}
		part.Staged(count)
	}
	return part, part.Merge(ctx, warehouse.Has{Gone: true, Filled: true})
}

// sameKey tells whether the rows of a target can be matched by the table's key. Where they
// were kept by another one, and some of them are alike in this, they give way to the copy: a
// history ends them, and the others are emptied.
func (f *follow) sameKey(ctx context.Context, t *logTable, at string) (bool, error) {
	key, where := schema.QuoteAll("", t.target.Key), ""
	if t.Keep == feed.KeepHistory {
		where = " WHERE " + schema.Quote(t.target.Names.Current)
	}
	found, err := f.commit.Ask(ctx, fmt.Sprintf("SELECT EXISTS (SELECT 1 FROM %s%s GROUP BY %s HAVING count(*) > 1)", t.target.Name.Quoted(), where, key))
	if err != nil || !found[0][0].(bool) {
		return true, err
	}
	if t.Keep != feed.KeepHistory {
		_, err = f.commit.Exec(ctx, "DELETE FROM "+t.target.Name.Quoted())
		return false, err
	}
	n := t.target.Names
	_, err = f.commit.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = %s, %s = false WHERE %[4]s", t.target.Name.Quoted(), schema.Quote(n.Until), at, schema.Quote(n.Current)))
	return false, err
}

// replay merges the suspended changes in the order of the log.
func (f *follow) replay(ctx context.Context, t *logTable) error {
	columns := suspendedOf(t)
	var kept []arrow.RecordBatch
	var rows int64
	before := "" // the transaction of the last change that was merged
	flush := func(last bool) error {
		if len(kept) == 0 {
			return nil
		}
		record := concatenate(schema.Arrow(columns), kept)
		for _, r := range kept {
			r.Release()
		}
		kept, rows = nil, 0
		// What becomes of a row whose key was changed needs both halves of the change.
		if n := record.NumRows(); !last && n > 1 && change.Kind(record.Column(len(t.target.Columns)+1).(*array.Int16).Value(int(n-1))) == change.Left {
			whole := record
			kept, rows = append(kept, whole.NewSlice(n-1, n)), 1
			record = whole.NewSlice(0, n-1)
			whole.Release()
		}
		defer record.Release()
		b := f.revive(t, record)
		if b.Record == nil {
			return nil
		}
		defer b.Record.Release()
		goes := b.Txns[0].Position == before
		before = b.Txns[len(b.Txns)-1].Position
		return f.merge(ctx, t, b, goes)
	}
	err := f.Warehouse.Read(ctx, warehouse.Query{Name: f.suspendedTable(t), Columns: columns, OrderBy: []string{"noemata_place"}}, func(r arrow.RecordBatch) error {
		kept = append(kept, concatenate(schema.Arrow(columns), []arrow.RecordBatch{r, r.NewSlice(0, 0)})) // a copy: the texts of r are gone afterwards
		if rows += r.NumRows(); rows < replayRows {
			return nil
		}
		return flush(false)
	})
	if err != nil {
		return err
	}
	return flush(true)
}

func concatenate(s *arrow.Schema, records []arrow.RecordBatch) arrow.RecordBatch {
	columns := make([]arrow.Array, s.NumFields())
	var n int64
	for i := range columns {
		parts := make([]arrow.Array, len(records))
		for k, r := range records {
			parts[k] = asUUID(r.Column(i), s.Field(i).Type)
		}
		columns[i], _ = array.Concatenate(parts, allocator) // of one type, so it cannot fail
		for _, p := range parts {
			p.Release()
		}
	}
	for _, r := range records {
		n += r.NumRows()
	}
	record := array.NewRecordBatch(s, columns, n)
	for _, c := range columns {
		c.Release()
	}
	return record
}

// asUUID gives a column as its type has it: a warehouse may tell a UUID as text.
func asUUID(column arrow.Array, t arrow.DataType) arrow.Array {
	texts, ok := column.(*array.String)
	width, fixed := t.(*arrow.FixedSizeBinaryType)
	if !ok || !fixed {
		column.Retain()
		return column
	}
	b := array.NewFixedSizeBinaryBuilder(allocator, width)
	defer b.Release()
	for i := range texts.Len() {
		id, err := uuid.Parse(texts.Value(i))
		if texts.IsNull(i) || err != nil {
			b.AppendNull()
			continue
		}
		b.Append(id[:])
	}
	return b.NewArray()
}

// revive makes a batch of suspended changes, without those that the copy shows.
func (f *follow) revive(t *logTable, record arrow.RecordBatch) change.Batch {
	n := len(t.target.Columns)
	text := func(i, row int) string { return record.Column(n + i).(*array.String).Value(row) }
	var b change.Batch
	var keep []int32
	for row := range int(record.NumRows()) {
		x := change.Txn{ID: uint32(record.Column(n + 2).(*array.Int64).Value(row)), Position: text(3, row), Moment: record.Column(n + 4).(*array.Int64).Value(row)}
		known := len(b.Txns) > 0 && b.Txns[len(b.Txns)-1].Position == x.Position
		if !known {
			if len(t.copy.Snapshots) > 0 && f.log.Sees(t.copy.Snapshots[0], x) {
				continue
			}
			b.Txns = append(b.Txns, x)
		}
		r := change.Row{Kind: change.Kind(record.Column(n + 1).(*array.Int16).Value(row)), Txn: int32(len(b.Txns) - 1), Seq: record.Column(n + 5).(*array.Int32).Value(row)}
		if !record.Column(n + 6).IsNull(row) {
			mask := make([]bool, n)
			for i, m := range text(6, row) {
				mask[i] = m == '1'
			}
			b.Unknown = append(b.Unknown, mask)
			r.Unknown = int32(len(b.Unknown))
		}
		if !record.Column(n + 7).IsNull(row) {
			r.Unfit, b.Unfit = true, problem.New(problem.Held, text(7, row), "")
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
	b.Record = array.NewRecordBatch(schema.Arrow(t.target.Columns), columns, int64(len(keep)))
	for _, c := range columns {
		c.Release()
	}
	return b
}
