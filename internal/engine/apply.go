package engine

import (
	"context"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// applyAll writes the cuts, one after another.
func (f *follow) applyAll(ctx context.Context) error {
	defer func() {
		if f.commit != nil {
			f.commit.Abort()
		}
	}()
	for {
		f.ready <- struct{}{}
		g, open := <-f.cuts
		if !open {
			return nil
		}
		err := f.apply(ctx, g)
		for _, b := range g.Batches {
			if b.Record != nil {
				b.Record.Release()
			}
		}
		if err != nil {
			return err
		}
	}
}

// apply writes one cut. The commit stays open while a transaction of the source goes on
// in the next cut.
func (f *follow) apply(ctx context.Context, g cut) error {
	if err := f.join(ctx); err != nil {
		return err
	}
	total := 0
	for _, b := range g.Batches {
		total += len(b.Rows)
	}
	for i, b := range g.Batches {
		if b.Record == nil && len(b.Aside) == 0 && b.Ignored == 0 {
			continue
		}
		if err := f.begun(ctx); err != nil {
			return err
		}
		t := f.tables[i]
		began := time.Now()
		var err error
		if f.follows(t) {
			err = f.merge(ctx, t, b, g.Goes)
		} else {
			err = f.suspend(ctx, t, b)
		}
		if err != nil {
			return blame(t, err)
		}
		f.spent(t, g.reading*time.Duration(len(b.Rows))/time.Duration(max(total, 1)), time.Since(began))
	}
	if g.Open || (f.commit == nil && g.To <= f.place.Position.Value) {
		f.mu.Lock()
		f.waits = 0
		f.mu.Unlock()
		return nil
	}
	if err := f.begun(ctx); err != nil {
		return err
	}
	return f.finish(ctx, g)
}

// spent adds to the time that a table took.
func (f *follow) spent(t *logTable, reading, writing time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	t.reading += reading
	t.writing += writing
}

// follows tells whether the changes of a table go into its target, not beside its copy.
func (f *follow) follows(t *logTable) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return t.state == Following || t.joined
}

// begun makes sure that a commit is under way.
func (f *follow) begun(ctx context.Context) (err error) {
	if f.commit == nil {
		f.commit, err = f.Warehouse.Begin(ctx)
	}
	return err
}

// finish makes all that was written visible, together with the position.
func (f *follow) finish(ctx context.Context, g cut) error {
	began := time.Now()
	to := position.Position{Value: g.To}
	place, err := f.commit.Move(ctx, f.Feed.Name, "", f.place, to, f.Run)
	if err != nil {
		return err
	}
	if g.Clock.Last > f.lastMoment {
		if _, err := f.commit.Exec(ctx, "UPDATE noemata.logs SET last_moment = $2 WHERE feed = $1", f.Feed.Name, g.Clock.Last); err != nil {
			return err
		}
	}
	books := map[*logTable]rows.Books{}
	for _, t := range f.tables {
		if t.part == nil {
			continue
		}
		if books[t], err = t.part.Close(ctx, to); err != nil {
			return blame(t, err)
		}
		t.part = nil
	}
	if err := f.commit.Finish(ctx); err != nil {
		return err
	}
	f.commit = nil
	f.stream.Confirm(g.To)
	f.mu.Lock()
	f.place, f.lastMoment = place, max(f.lastMoment, g.Clock.Last)
	f.commits++
	f.waits = 0
	if f.mark.position != "" && g.To >= f.mark.position {
		f.completeAt = f.mark.moment
	}
	for t, b := range books { // they share the time of the commit
		t.books = t.books.Add(b)
		t.writing += time.Since(began) / time.Duration(len(books))
	}
	for _, t := range f.tables {
		if t.joined {
			t.joined, t.state, t.copy = false, Following, copyState{}
		}
	}
	f.mu.Unlock()
	f.tell()
	return nil
}

// partOf is the table's part of the commit that is under way.
func (f *follow) partOf(ctx context.Context, t *logTable) (*warehouse.Part, error) {
	if t.part != nil {
		return t.part, nil
	}
	p, err := f.commit.Table(ctx, warehouse.Load{Feed: f.Feed.Name, Table: t.Table.Table, Target: t.target, Run: f.Run, From: f.place.Position})
	t.part = p
	return p, err
}

// merge folds the changes of a table and merges what is left. goes tells that the
// first transaction began in the batch before.
func (f *follow) merge(ctx context.Context, t *logTable, b change.Batch, goes bool) error {
	for _, r := range b.Rows {
		if r.Unfit {
			return b.Unfit
		}
	}
	part, err := f.partOf(ctx, t)
	if err != nil {
		return err
	}
	part.Books.Read += b.Read(t.Keep == feed.KeepLedger)
	part.Books.Filtered += b.Ignored
	if err := part.SetAside(b.Aside); err != nil {
		return err
	}
	if b.Record == nil {
		return nil
	}
	stretches := fold.Fold(b, t.key, t.Keep)
	for i, s := range stretches {
		part.Books.Folded += s.Folded
		has := warehouse.Has{Chains: s.Chains, Replays: f.replays, Continues: goes || s.Again}
		if s.Empties >= 0 {
			if err := part.Truncate(ctx, momentOf(b.Txns[s.Empties]), warehouse.Has{Continues: goes || i > 0}); err != nil {
				return err
			}
		}
		record := f.stage(t, b, s.Rows, &has)
		err := part.AppendFolded(ctx, record)
		record.Release()
		if err != nil {
			return err
		}
		if err := part.Merge(ctx, has); err != nil {
			return err
		}
	}
	return nil
}

// momentOf is a transaction's moment as a literal.
func momentOf(t change.Txn) string {
	return schema.Literal(schema.TimestampTZText(t.Moment)) + "::timestamptz"
}

// stage makes the record of the rows of a stretch, as warehouse.StageColumns has them.
func (f *follow) stage(t *logTable, b change.Batch, list []fold.Row, has *warehouse.Has) arrow.RecordBatch {
	n := len(list)
	columns := fold.Gather(b.Record, list, t.key)
	moment := func(present func(fold.Row) (int32, bool)) arrow.Array {
		m := array.NewTimestampBuilder(allocator, schema.Type{Kind: schema.TimestampTZ}.Arrow().(*arrow.TimestampType))
		defer m.Release()
		m.Reserve(n)
		for _, r := range list {
			if txn, ok := present(r); ok {
				m.Append(arrow.Timestamp(b.Txns[txn].Moment))
			} else {
				m.AppendNull()
			}
		}
		return m.NewArray()
	}
	for _, added := range t.target.Added {
		var column arrow.Array
		switch names := t.target.Names; added.Name {
		case names.Run:
			column = int64s(n, func(int) int64 { return f.Run })
		case names.ChangedAt, names.From:
			column = moment(func(r fold.Row) (int32, bool) { return r.Txn, true })
		case names.DeletedAt:
			column = moment(func(r fold.Row) (int32, bool) { return r.Txn, r.Gone })
		case names.Until:
			column = moment(func(r fold.Row) (int32, bool) { return r.Until, r.Until >= 0 })
		case names.Current:
			column = each[bool](array.NewBooleanBuilder(allocator), n, func(i int) bool { return list[i].Until < 0 && !list[i].Gone })
		case names.Position:
			column = each[string](array.NewStringBuilder(allocator), n, func(i int) string {
				txn := b.Txns[list[i].Txn]
				if t.Keep == feed.KeepLedger {
					return txn.EventPosition(b.Rows[list[i].Change].Seq)
				}
				return txn.Position
			})
		case names.Changed:
			column = each[string](array.NewStringBuilder(allocator), n, func(i int) string { return eventName(b.Rows[list[i].Change].Kind) })
		}
		columns = append(columns, column)
	}
	columns = append(columns,
		each[bool](array.NewBooleanBuilder(allocator), n, func(i int) bool { has.Gone = has.Gone || list[i].Gone; return list[i].Gone }),
		each[bool](array.NewBooleanBuilder(allocator), n, func(i int) bool { return list[i].Bare }),
		each[int16](array.NewInt16Builder(allocator), n, func(i int) int16 { return list[i].Follows }))
	base := make([]int32, n)
	unknown := array.NewStringBuilder(allocator)
	defer unknown.Release()
	for i, r := range list {
		base[i] = -1
		mask := maskOf(r)
		if mask == "" {
			unknown.AppendNull()
			continue
		}
		base[i], has.Unknown = r.Base, true
		unknown.Append(mask)
	}
	columns = append(columns, unknown.NewArray())
	for _, k := range t.key {
		columns = append(columns, fold.Take(b.Record.Column(k), base))
	}
	record := array.NewRecordBatch(schema.Arrow(warehouse.StageColumns(t.target)), columns, int64(n))
	for _, c := range columns {
		c.Release()
	}
	return record
}

// eventName is what a ledger calls a change. An update of the key shows as the delete of
// the old one and the insert of the new one.
func eventName(k change.Kind) string {
	switch k {
	case change.Left:
		return change.Delete.String()
	case change.Came:
		return change.Insert.String()
	}
	return k.String()
}

// maskOf marks, column by column, values that are to be taken from the warehouse; empty
// where there is none.
func maskOf(r fold.Row) string {
	if r.From == nil || r.Bare {
		return ""
	}
	var mask strings.Builder
	some := false
	for _, from := range r.From {
		if from < 0 {
			some = true
			mask.WriteByte('1')
		} else {
			mask.WriteByte('0')
		}
	}
	if !some {
		return ""
	}
	return mask.String()
}

// each is a column of computed values.
func each[T any](b interface {
	array.Builder
	Append(T)
}, n int, value func(i int) T) arrow.Array {
	defer b.Release()
	b.Reserve(n)
	for i := range n {
		b.Append(value(i))
	}
	return b.NewArray()
}
