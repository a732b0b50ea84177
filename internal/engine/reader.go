package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"noemata/internal/core/change"
	"noemata/internal/core/problem"
	"noemata/internal/core/shape"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// moveAfter is how long a position may lag behind a log in which nothing happens to the
// feed's tables.
const moveAfter = 10 * time.Second

// cut is what was gathered of the log, and how long it was read.
type cut struct {
	source.Gathered
	reading time.Duration
	shaping []time.Duration // by table
}

// beginning is a copy that has begun: at the moment of its snapshot. What is read of the
// log from then on comes later; read answers with how far it was read before.
type beginning struct {
	moment int64
	read   chan string
}

// reader reads the log and decides where it is cut. The warehouse takes in one cut while
// the next is gathered.
type reader struct {
	*session
	stream source.Stream
	end    string // the run is over when this is reached; of runs that only catch up
	cuts   chan<- cut
	begun  <-chan beginning
	free   <-chan struct{} // has a token while the warehouse is free

	began   time.Time // when the log was begun to be read
	came    time.Time // when it came past where the feed stood; zero while it has not
	since   time.Time // when the oldest change came that was not handed over; zero for none
	moved   time.Time // when the last cut was
	replays bool      // what is read was applied before
	reading time.Duration
	had     int64 // bytes that were gathered at the last look
}

func (r *reader) run(ctx context.Context) error {
	r.began, r.moved = time.Now(), time.Now()
	stood, _ := r.board.at()
	r.replays = r.replaying(stood.Position.Value)
	for {
		p, err := r.next(ctx)
		if err != nil {
			return err
		}
		if r.came.IsZero() && p.Position > stood.Position.Value {
			r.came = time.Now()
		}
		r.board.reach(p)
		r.meetCopy(p)
		done := r.finished(p)
		if !r.cutsAt(p, done) {
			continue
		}
		if !r.await(ctx, r.mustCut(p, done)) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			continue
		}
		gathered := r.stream.Take()
		shaping := make([]time.Duration, len(r.tables))
		for i, t := range r.tables {
			began := time.Now()
			gathered.Batches[i] = t.shaped(gathered.Batches[i], r.log)
			shaping[i] = time.Since(began)
		}
		r.replays = r.replays && !r.ends(p)
		r.board.handed(true)
		select {
		case r.cuts <- cut{gathered, r.reading, shaping}:
		case <-ctx.Done():
			return ctx.Err()
		}
		r.since, r.moved, r.reading, r.had = time.Time{}, time.Now(), 0, 0
		if done {
			return nil
		}
	}
}

// next reads on.
func (r *reader) next(ctx context.Context) (source.Progress, error) {
	began := time.Now()
	p, err := r.stream.Next(ctx, began.Add(r.patience()))
	now := time.Now()
	if p.Bytes > r.had { // else it was waited for
		r.reading += now.Sub(began)
	}
	r.had = p.Bytes
	if p.Changes > 0 && r.since.IsZero() {
		r.since = now
	}
	return p, err
}

// patience is how long is read on before anything else is looked at: shortly where changes wait to be written, or a
// copy for a place in the log. What comes is read at once all the same.
func (r *reader) patience() time.Duration {
	const busy, quiet = 20 * time.Millisecond, 250 * time.Millisecond
	if !r.since.IsZero() {
		return busy
	}
	r.board.mu.Lock()
	defer r.board.mu.Unlock()
	for _, t := range r.tables {
		if t.told.State == warehouse.Copying || t.told.State == warehouse.Joining {
			return busy
		}
	}
	return quiet
}

// meetCopy answers a copy that has begun, between two transactions.
func (r *reader) meetCopy(p source.Progress) {
	if p.Open {
		return
	}
	select {
	case c := <-r.begun:
		r.stream.StartAfter(c.moment)
		c.read <- p.Position
	default:
	}
}

// full tells that no more may be gathered. Better before the next transaction than in it.
func (r *reader) full(p source.Progress) bool {
	return p.Bytes >= r.CutBytes || !p.Open && p.Bytes >= r.CutBytes/2
}

// mustCut tells that nothing more may be read before what was gathered is written.
func (r *reader) mustCut(p source.Progress, done bool) bool { return done || r.full(p) || r.ends(p) }

// cutsAt tells whether what was gathered should be written now.
func (r *reader) cutsAt(p source.Progress, done bool) bool {
	if r.mustCut(p, done) {
		return true
	}
	if p.Open || r.replays { // what is read again becomes visible at its end
		return false
	}
	if p.Changes > 0 {
		return time.Since(r.since) >= r.Wait
	}
	stands, _ := r.board.at()
	return time.Since(r.moved) > moveAfter && p.Position > stands.Position.Value || r.joinsAt(p.Position)
}

// ends tells whether the log was read again as far as it is.
func (r *reader) ends(p source.Progress) bool {
	return r.replays && !p.Open && !r.replaying(p.Position)
}

// joinsAt tells whether a table can join those that follow, now that the log was read up
// to a position.
func (r *reader) joinsAt(position string) bool {
	r.board.mu.Lock()
	defer r.board.mu.Unlock()
	for _, t := range r.tables {
		if t.told.State == warehouse.Joining && position >= t.copy.Reached {
			return true
		}
	}
	return false
}

// await waits until the warehouse is free, if it must.
func (r *reader) await(ctx context.Context, must bool) bool {
	for {
		select {
		case <-r.free:
			return true
		case <-ctx.Done():
			return false
		default:
		}
		if !must {
			return false
		}
		select {
		case <-r.free:
			return true
		case <-ctx.Done():
			return false
		case <-time.After(time.Second):
			if err := r.stream.Beat(); err != nil {
				return false // the next read tells why
			}
		}
	}
}

// finished tells whether the run may end: at the end of a transaction, when it was asked
// to and has come on, or, where it only catches up, when it has, and all tables have been copied.
func (r *reader) finished(p source.Progress) bool {
	if p.Open || r.replays && !r.ends(p) {
		return false
	}
	if r.Until != nil {
		select {
		case <-r.Until: // rows of a copy that come in would be given up
			return r.cameOn(p) &&
				!r.any(func(t TableReport) bool { return t.State == warehouse.Copying && t.Waiting == "" })
		default:
			return false
		}
	}
	return p.Position >= r.end &&
		!r.any(func(t TableReport) bool { return t.State == warehouse.Copying || t.State == warehouse.Joining })
}

// cameOn tells whether the log was read on for as long as it took to come to where the feed stood, or to its end. A
// server may have to read much of its log again before that, for the sake of old transactions: runs that ended sooner
// would never come on.
func (r *reader) cameOn(p source.Progress) bool {
	r.board.mu.Lock()
	end := r.board.end.position
	r.board.mu.Unlock()
	return end != "" && p.Position >= end || !r.came.IsZero() && time.Since(r.came) >= r.came.Sub(r.began)
}

// shaped gives changes of the table the shape that the feed wants.
func (t *logTable) shaped(b change.Batch, log source.Log) change.Batch {
	b = t.shape.Changes(b)
	var lacks *shape.LacksError
	if errors.As(b.Misfit, &lacks) {
		b.Misfit = problem.Newf(problem.Held, fmt.Sprintf("At the source: %s Then: noemata feeds copy FEED --table "+
			"TABLE. Or leave the column out of where and computed.", log.WholeRows(t.query.Table)),
			"A change of %s does not tell the value of %s, which has not changed, and the feed computes with it.",
			t.Table.Table, lacks.Column)
	}
	return b
}
