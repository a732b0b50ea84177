package engine

import (
	"context"
	"sync"
	"time"

	"noemata/internal/source"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// board is what reader, applier and copier tell of themselves. Each field has one writer.
type board struct {
	before map[string]TableReport // of the attempts before, in this run

	mu         sync.Mutex // guards what follows, and what the tables have told
	tables     []*logTable
	stands     warehouse.Checkpoint // the applier's
	lastMoment int64                // of the last transaction that was applied; the applier's
	commits    int64                // the applier's
	pending    int                  // cuts that the reader has handed over and that are not yet visible
	end        logEnd               // the last end of the log that was asked for; the watcher's
	completeAt time.Time
}

// logEnd is an end of the log: what was committed before the moment lies before it.
type logEnd struct {
	position string
	moment   time.Time
}

// again is the board of another attempt of the same run.
func (b *board) again() *board {
	next := &board{before: map[string]TableReport{}, commits: b.commits, completeAt: b.completeAt}
	for _, t := range b.report().Tables {
		next.before[t.Table] = t
	}
	return next
}

// at is where the feed stands, and the moment of the last transaction before that.
func (b *board) at() (warehouse.Checkpoint, int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.stands, b.lastMoment
}

// update changes what a table tells.
func (b *board) update(t *logTable, change func(*TableReport)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	change(&t.told)
}

// spent adds to what a table took.
func (b *board) spent(t *logTable, s Spent) {
	b.update(t, func(r *TableReport) { r.Spent = r.Spent.Add(s) })
}

// handed notes that a cut was handed over, or that none is under way any more.
func (b *board) handed(over bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if over {
		b.pending++
	} else {
		b.pending = 0
	}
}

// reach notes that the log was read to an end that was asked for, and has nothing that the
// warehouse lacks.
func (b *board) reach(p source.Progress) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if p.Changes == 0 && !p.Open && b.pending == 0 && b.end.position != "" && p.Position >= b.end.position {
		b.completeAt = b.end.moment
	}
}

// committed notes a commit of the warehouse; of a cut, if it was one.
func (b *board) committed(to warehouse.Checkpoint, lastMoment int64, ofCut bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.stands, b.lastMoment = to, max(b.lastMoment, lastMoment)
	b.commits++
	if ofCut {
		b.pending = 0
	}
	if b.end.position != "" && to.Position.Value >= b.end.position {
		b.completeAt = b.end.moment
	}
}

func (b *board) report() LogReport {
	b.mu.Lock()
	defer b.mu.Unlock()
	r := LogReport{Position: b.stands.Position.Value, CompleteAt: b.completeAt, Commits: b.commits}
	for _, t := range b.tables {
		told, before := t.told, b.before[t.Table.Table]
		told.Expected = max(told.Expected, told.Copied)
		told.Books = before.Books.Add(told.Books)
		told.Spent = told.Spent.Add(before.Spent)
		r.Tables = append(r.Tables, told)
	}
	return r
}

// The end of the log is asked for this often, and less often where it has stood still.
const (
	askEnd      = time.Second
	askStillEnd = 2 * time.Second
)

// endsFor is how long an end of a log that one feed has asked for serves all that follow it: it stays true.
const endsFor = askEnd / 2

// sharedEnd is the end of a log that was asked for last.
type sharedEnd struct {
	asks chan struct{} // has a token while somebody asks, or looks
	end  logEnd
	at   time.Time
}

// endOf is the end of a log, as somebody has asked for it shortly before, and not before the given time.
func (e *Engine) endOf(ctx context.Context, log source.Log, origin string, after time.Time) (logEnd, error) {
	kept, _ := e.ends.LoadOrStore(origin, &sharedEnd{asks: make(chan struct{}, 1)})
	x := kept.(*sharedEnd)
	select {
	case x.asks <- struct{}{}:
		defer func() { <-x.asks }()
	case <-ctx.Done():
		return logEnd{}, ctx.Err()
	}
	if time.Since(x.at) < endsFor && x.at.After(after) {
		return x.end, nil
	}
	now := time.Now()
	position, moment, err := log.End(ctx)
	if err == nil {
		x.end, x.at = logEnd{position, moment}, now
	}
	return x.end, err
}

// watchEnd asks for the end of the log again and again, so that it can be told how far
// behind the warehouse is.
func (s *session) watchEnd(ctx context.Context) error {
	began := time.Now()
	for wait := askEnd; ; {
		end, err := s.engine.endOf(statement.With(ctx, func(statement.Statement) {}), s.log, s.origin, began)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		s.board.mu.Lock()
		if wait = askEnd; s.board.end.position == end.position {
			wait = askStillEnd
		}
		s.board.end = end
		s.board.mu.Unlock()
		s.tell()
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
	}
}
