package engine

import (
	"context"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/change"
	"noemata/internal/core/rows"
	"noemata/internal/core/stash"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// replayRows is how many waiting changes are merged at once; tests cut elsewhere.
var replayRows int64 = 100_000

// joinColumns is how many columns are written at most by a commit that tables join in, one table at least: a
// warehouse may need memory for each of them at once.
const joinColumns = 300

// join brings the tables whose copies the feed's position has passed to those that
// follow, at the beginning of a commit. No change that comes now is in their copies. Of very many tables
// some join before, in commits of their own, which leave the position where it is.
func (a *applier) join(ctx context.Context) error {
	for a.commit == nil {
		stands, _ := a.board.at()
		var ready []*logTable // before the commit begins, which sees nothing of copies that end later
		columns, more := 0, false
		for _, t := range a.tables {
			if a.stateOf(t) != warehouse.Joining || stands.Position.Value < t.copy.Reached {
				continue
			}
			if columns += len(t.target.All()); columns > joinColumns && len(ready) > 0 {
				more = true
				break
			}
			ready = append(ready, t)
		}
		if err := a.joinAll(ctx, ready); err != nil || !more {
			return err
		}
		if err := a.finish(ctx, cut{Gathered: source.Gathered{To: stands.Position.Value}}, false); err != nil {
			return err
		}
	}
	return nil
}

func (a *applier) joinAll(ctx context.Context, ready []*logTable) error {
	// Both before the commit begins, too: what settles the copy of one table would not be seen in
	// a commit that another one has begun.
	from := map[*logTable]change.Txn{}
	for _, t := range ready {
		if err := a.settleCopy(ctx, t); err != nil {
			return blame(t, err)
		}
		var err error
		if from[t], err = a.precedes(ctx, t); err != nil {
			return err
		}
	}
	for _, t := range ready {
		began := time.Now()
		if err := a.begin(ctx); err != nil {
			return err
		}
		if err := a.joinTable(ctx, t, from[t]); err != nil {
			return blame(t, err)
		}
		a.joined[t] = true
		a.board.spent(t, Spent{Writing: time.Since(began)})
	}
	return nil
}

// settleCopy leaves one row of each key in a copy that was read in several snapshots, and
// takes out of the waiting changes those that the rows show already.
func (a *applier) settleCopy(ctx context.Context, t *logTable) error {
	if len(t.copy.Snapshots) == 1 { // as a copy of columns alone always has
		return nil
	}
	shown := map[int][]string{}
	if err := a.Warehouse.Journal().WaitingTxns(ctx, t.stash(a.Feed.Name), func(x change.Txn) {
		if n := a.seenFrom(t, x); n > 1 {
			shown[n] = append(shown[n], x.Position)
		}
	}); err != nil {
		return err
	}
	return a.Warehouse.Journal().Note(ctx, a.Feed.Name,
		warehouse.SettleCopy{Stash: t.stash(a.Feed.Name), Snapshots: len(t.copy.Snapshots), Shown: shown})
}

// seenFrom gives the number of the first snapshot, counted from 1, that shows what a
// transaction did; 0 for none.
func (a *applier) seenFrom(t *logTable, x change.Txn) int {
	for i, s := range t.copy.Snapshots {
		if a.log.Sees(s, x) {
			return i + 1
		}
	}
	return 0
}

// precedes is the transaction that the rows of a copy are said to come from. It precedes
// each change that is left to be merged: such a change may have committed while the
// snapshot was taken, and even before, without being visible in it, or after a snapshot
// that the copy had begun in.
func (a *applier) precedes(ctx context.Context, t *logTable) (change.Txn, error) {
	from := change.Txn{Position: t.copy.Reached, Moment: t.copy.Moment}
	err := a.Warehouse.Journal().WaitingTxns(ctx, t.stash(a.Feed.Name), func(x change.Txn) {
		if !a.log.Sees(t.copy.Snapshots[0], x) {
			from.Position, from.Moment = min(from.Position, x.Position), min(from.Moment, x.Moment-1)
		}
	})
	return from, err
}

// joinTable merges a copy into its target, and then the changes that wait.
func (a *applier) joinTable(ctx context.Context, t *logTable, from change.Txn) error {
	part, err := a.part(ctx, t)
	if err != nil {
		return err
	}
	if t.fills != nil {
		if err := a.joinFilled(ctx, t, part); err != nil {
			return err
		}
		return a.joinedAs(ctx, t)
	}
	if err := part.TakeCopy(ctx, from); err != nil {
		return err
	}
	done, err := a.Warehouse.Journal().Parts(ctx, a.Feed.Name, t.copy)
	if err != nil {
		return err
	}
	for _, p := range done { // the rows themselves were kept with their part
		part.Count(rows.Books{Read: p.Aside + p.Filtered, SetAside: p.Aside, Filtered: p.Filtered})
	}
	if err := a.replay(ctx, t, func(x change.Txn) bool {
		return len(t.copy.Snapshots) == 0 || !a.log.Sees(t.copy.Snapshots[0], x)
	}); err != nil {
		return err
	}
	return a.joinedAs(ctx, t)
}

// joinFilled merges the changes that the snapshot shows, gives the rows their values in it, and merges
// the changes that came after it.
func (a *applier) joinFilled(ctx context.Context, t *logTable, part warehouse.Part) error {
	shown := func(x change.Txn) bool { return a.log.Sees(t.copy.Snapshots[0], x) }
	if err := a.replay(ctx, t, shown); err != nil {
		return err
	}
	if err := part.FillCopied(ctx, t.filled()); err != nil {
		return err
	}
	return a.replay(ctx, t, func(x change.Txn) bool { return !shown(x) })
}

func (a *applier) joinedAs(ctx context.Context, t *logTable) error {
	return a.commit.Note(ctx, a.Feed.Name,
		warehouse.Joined{Table: t.Table.Table, Generation: t.copy.Generation, Structure: structureOf(t.plan).String()})
}

// replay merges the waiting changes of transactions that are wanted, in the order of the log.
func (a *applier) replay(ctx context.Context, t *logTable, wanted func(change.Txn) bool) error {
	columns := t.shape.Arrives().Columns
	var kept []arrow.RecordBatch
	var n int64
	before := "" // the transaction of the last change that was merged
	flush := func(last bool) error {
		if len(kept) == 0 {
			return nil
		}
		record := concatenate(kept)
		for _, r := range kept {
			r.Release()
		}
		kept, n = nil, 0
		// What becomes of a row whose key was changed needs both halves of the change.
		halves := []change.Kind{change.Left, change.RefFrom}
		if end := record.NumRows() - 1; !last && end > 0 &&
			slices.Contains(halves, stash.KindAt(record, columns, int(end))) {
			whole := record
			kept, n = append(kept, whole.NewSlice(end, end+1)), 1
			record = whole.NewSlice(0, end)
			whole.Release()
		}
		defer record.Release()
		b := stash.Decode(record, columns, wanted)
		if b.Record == nil {
			return nil
		}
		b, err := a.expandOne(ctx, t, b)
		if err != nil {
			return err
		}
		defer b.Record.Release()
		continues := b.Txns[0].Position == before
		before = b.Txns[len(b.Txns)-1].Position
		_, err = a.merge(ctx, t, b, 0, continues)
		return err
	}
	err := a.Warehouse.Journal().Waiting(ctx, t.stash(a.Feed.Name), func(r arrow.RecordBatch) error {
		// A copy: the texts of r are gone afterwards.
		kept = append(kept, concatenate([]arrow.RecordBatch{r, r.NewSlice(0, 0)}))
		if n += r.NumRows(); n < replayRows {
			return nil
		}
		return flush(false)
	})
	if err != nil {
		return err
	}
	return flush(true)
}

// concatenate makes one record of several of one form.
func concatenate(records []arrow.RecordBatch) arrow.RecordBatch {
	form := records[0].Schema()
	columns := make([]arrow.Array, form.NumFields())
	var n int64
	for i := range columns {
		parts := make([]arrow.Array, len(records))
		for k, r := range records {
			parts[k] = r.Column(i)
		}
		columns[i], _ = array.Concatenate(parts, allocator) // of one type, so it cannot fail
	}
	for _, r := range records {
		n += r.NumRows()
	}
	record := array.NewRecordBatch(form, columns, n)
	for _, c := range columns {
		c.Release()
	}
	return record
}
