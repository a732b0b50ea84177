package engine

import (
	"context"
	"errors"
	"time"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/core/stash"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// applier writes the cuts, one after another, and brings in the tables that join.
type applier struct {
	*session
	stream source.Stream // told what is in the warehouse
	cuts   <-chan cut
	free   chan<- struct{}

	reached string // the end of the last cut

	commit warehouse.Commit // the one that is under way
	parts  map[*logTable]warehouse.Part
	joined map[*logTable]bool // in this commit
	unmet  map[*logTable]bool // they must be copied again: rows changed in a way that cannot wait
}

func (a *applier) run(ctx context.Context) error {
	defer func() {
		if a.commit != nil {
			a.commit.Abort()
		}
	}()
	stands, _ := a.board.at()
	a.reached = stands.Position.Value
	for {
		a.free <- struct{}{}
		c, open := <-a.cuts
		if !open {
			return nil
		}
		err := a.apply(ctx, c)
		for _, b := range c.Batches {
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
// in the next cut, and while the log is read again.
func (a *applier) apply(ctx context.Context, c cut) error {
	if err := a.join(ctx); err != nil {
		return err
	}
	if err := a.expand(ctx, c.Batches); err != nil {
		return err
	}
	total := 0
	for _, b := range c.Batches {
		total += len(b.Rows)
	}
	for i, b := range c.Batches {
		if b.Record == nil && len(b.Aside) == 0 && b.Ignored == 0 {
			continue
		}
		if err := a.begin(ctx); err != nil {
			return err
		}
		t := a.tables[i]
		began := time.Now()
		spent := Spent{Bytes: sizeOfRecord(b.Record), Shaping: c.shaping[i],
			Reading: c.reading * time.Duration(len(b.Rows)) / time.Duration(max(total, 1))}
		var folding time.Duration
		var err error
		if a.joined[t] || a.stateOf(t) == warehouse.Following {
			folding, err = a.merge(ctx, t, b, a.replayed(), c.Continues)
		} else {
			err = a.keepWaiting(ctx, t, b)
		}
		if err != nil {
			return blame(t, err)
		}
		spent.Shaping, spent.Writing = spent.Shaping+folding, time.Since(began)-folding
		a.board.spent(t, spent)
	}
	a.reached = c.To
	stands, _ := a.board.at()
	if c.Open || a.replaying(c.To) || (a.commit == nil && c.To <= stands.Position.Value) {
		a.board.handed(false)
		return nil
	}
	if err := a.begin(ctx); err != nil {
		return err
	}
	return a.finish(ctx, c, true)
}

// begin makes sure that a commit is under way.
func (a *applier) begin(ctx context.Context) (err error) {
	if a.commit == nil {
		a.parts, a.joined, a.unmet = map[*logTable]warehouse.Part{}, map[*logTable]bool{}, map[*logTable]bool{}
		a.commit, err = a.Warehouse.Begin(ctx)
	}
	return err
}

// part is the table's part of the commit that is under way.
func (a *applier) part(ctx context.Context, t *logTable) (warehouse.Part, error) {
	if p := a.parts[t]; p != nil {
		return p, nil
	}
	stands, _ := a.board.at()
	p, err := a.commit.Table(ctx, warehouse.Load{Feed: a.Feed.Name, Table: t.Table.Table, Target: t.target, Run: a.Run,
		Shape: t.shape.Digest(), From: stands.Position})
	if err == nil {
		a.parts[t] = p
	}
	return p, err
}

// finish makes all that was written visible, together with the position; a cut, or tables that join before it.
func (a *applier) finish(ctx context.Context, c cut, ofCut bool) error {
	began := time.Now()
	to := position.Position{Value: c.To}
	stands, lastMoment := a.board.at()
	next, err := a.commit.Move(ctx, a.Feed.Name, "", stands, to, a.Run)
	if err != nil {
		return err
	}
	if err := a.notePlace(ctx, c.To); err != nil {
		return err
	}
	if c.Clock.Last > lastMoment {
		if err := a.commit.Note(ctx, a.Feed.Name, warehouse.LastMoment{Moment: c.Clock.Last}); err != nil {
			return err
		}
	}
	books := map[*logTable]rows.Books{}
	for _, t := range a.tables {
		if p := a.parts[t]; p != nil {
			if books[t], err = p.Close(ctx, to); err != nil {
				return blame(t, err)
			}
		}
	}
	for t := range a.unmet {
		if err := a.commit.Note(ctx, a.Feed.Name, warehouse.CopyAgain{Table: t.Table.Table}); err != nil {
			return err
		}
	}
	if err := a.commit.Finish(ctx); err != nil {
		return err
	}
	a.commit = nil
	a.stream.Confirm(c.To)
	a.board.committed(next, c.Clock.Last, ofCut)
	for t, b := range books { // they share the time of the commit
		a.board.update(t, func(r *TableReport) {
			r.Books = r.Books.Add(b)
			r.Writing += time.Since(began) / time.Duration(len(books))
			if a.joined[t] {
				r.State, t.copy = warehouse.Following, warehouse.Copy{Table: t.Table.Table, State: warehouse.Following}
			}
		})
	}
	a.tell()
	if len(a.unmet) > 0 {
		a.isSetBack.Store(true)
		return errAgain
	}
	return nil
}

// errAgain says that tables are to be copied again, as the journal has it by now.
var errAgain = errors.New("tables are copied again")

// merge folds the changes of a table and merges what is left. Changes of up to the moment replays may have been
// merged before. continues tells that the first transaction began in the batch before. It returns how long folding took.
func (a *applier) merge(ctx context.Context, t *logTable, b change.Batch, replays int64, continues bool) (
	folding time.Duration, err error) {
	for _, r := range b.Rows {
		if r.Misfit {
			return 0, b.Misfit
		}
	}
	part, err := a.part(ctx, t)
	if err != nil {
		return 0, err
	}
	part.Count(rows.Books{Read: b.Read(t.Keep == feed.KeepLedger), Filtered: b.Ignored})
	aside, passed := unsure(t, b, part.Asides())
	part.Count(rows.Books{SetAside: passed})
	if err := part.SetAside(aside); err != nil {
		return 0, err
	}
	if b.Record == nil {
		return 0, nil
	}
	return t.mergeChanges(ctx, part, a.Run, b, replays, continues)
}

// mergeChanges folds changes and merges what is left of them. Those of up to the moment replays may have been merged before;
// continues that the first transaction began in the batch before. It returns how long folding took.
func (t *logTable) mergeChanges(ctx context.Context, part warehouse.Part, run int64, b change.Batch,
	replays int64, continues bool) (folding time.Duration, err error) {
	began := time.Now()
	stretches := fold.Fold(b, t.keyAt, t.Keep)
	folding = time.Since(began)
	for i, s := range stretches {
		part.Count(rows.Books{Folded: s.Folded})
		if s.Empties != never {
			if err := part.Truncate(ctx, b.Txns[s.Empties].Moment,
				warehouse.Has{Continues: continues || i > 0, Replays: replays}); err != nil {
				return folding, err
			}
		}
		folded := newFolded(t, run, b, s.Rows)
		has := folded.has(warehouse.Has{Chains: s.Chains, Replays: replays, Continues: continues || s.Again})
		record := build(t.target, folded)
		folded.release()
		err := part.AppendFolded(ctx, record)
		record.Release()
		if err != nil {
			return folding, err
		}
		if err := part.Merge(ctx, has); err != nil {
			return folding, err
		}
	}
	return folding, nil
}

// keepWaiting keeps the changes of a table that is being copied. Those that its first
// snapshot shows are not needed, unless it shows some columns alone.
func (a *applier) keepWaiting(ctx context.Context, t *logTable, b change.Batch) error {
	var first string
	a.board.update(t, func(*TableReport) {
		if len(t.copy.Snapshots) > 0 {
			first = t.copy.Snapshots[0]
		}
	})
	var keep []int32
	known := map[int32]bool{}
	shown := func(txn int32) bool {
		is, ok := known[txn]
		if !ok {
			is = first != "" && t.fills == nil && a.log.Sees(first, b.Txns[txn])
			known[txn] = is
		}
		return is
	}
	for i, r := range b.Rows {
		if (r.Kind != 0 || r.Out) && !shown(r.Txn) {
			keep = append(keep, int32(i))
		}
	}
	for _, r := range b.AsideAt { // what cannot be stored cannot wait: a copy that shows it sets it aside itself
		if (first != "" || t.fills != nil) && !shown(r.Txn) {
			a.unmet[t] = true
		}
	}
	if len(keep) == 0 {
		return nil
	}
	record := stash.Encode(b, t.shape.Arrives().Columns, keep)
	defer record.Release()
	return a.commit.AddWaiting(ctx, t.stash(a.Feed.Name), record)
}
