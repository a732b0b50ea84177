package feeds

import (
	"context"
	"fmt"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// Positions lists how far the tables of a feed have come.
func (r *Rules) Positions(ctx context.Context, name string) ([]records.Checkpoint, error) {
	f, err := r.Store.Feed(ctx, name)
	if err != nil {
		return nil, err
	}
	wh, err := r.Databases.Warehouse(ctx, f.Warehouse)
	if err != nil {
		return nil, err
	}
	found, err := wh.Journal().Checkpoints(ctx, f.Name)
	list := []records.Checkpoint{}
	for _, t := range f.Tables {
		p := records.Checkpoint{Table: t.Table}
		for _, x := range found {
			if x.Table == t.Table || x.Table == "" && t.Find == feed.FindLog {
				p.Position, p.Run, p.MovedAt = x.Position.String(), x.Run, &x.MovedAt
			}
		}
		list = append(list, p)
	}
	return list, err
}

// SetPosition sets the position of a table that is found by watermark, and tells what the next run reads again
// or skips. All tables of a feed that follow the log are set together.
func (r *Rules) SetPosition(ctx context.Context, name, table string, m records.Move) (records.Checkpoint, error) {
	w, err := r.Runner.Work(ctx, name, table)
	if err != nil {
		return records.Checkpoint{}, err
	}
	if w.Table.Find == feed.FindLog {
		return r.moveLog(ctx, w, m)
	}
	if w.Table.Find != feed.FindWatermark {
		return records.Checkpoint{}, problem.Newf(problem.Conflict,
			"It is read anew each time, so there is nothing to set.", "The table %s is not found by watermark.", table)
	}
	stands, err := w.Warehouse.Journal().Checkpoint(ctx, name, table)
	if err != nil {
		return records.Checkpoint{}, err
	}
	text := m.Position
	if m.Back != "" {
		if text, err = back(ctx, w, stands.Position, m); err != nil {
			return records.Checkpoint{}, err
		}
	}
	p, err := checkPosition(ctx, w, text)
	if err != nil {
		return records.Checkpoint{}, err
	}
	out := records.Checkpoint{Table: table, Position: p.String()}
	again, skipped, err := between(ctx, w, stands.Position, p)
	if err == nil && !m.DryRun {
		out, err = r.move(ctx, w, &p)
	}
	out.Was, out.Again, out.Skipped = stands.Position.String(), again, skipped
	return out, err
}

// theEnd stands for the end of the log, as it is then.
const theEnd = "end"

// moveLog has a feed leave out a stretch of its source's log, or read one again.
func (r *Rules) moveLog(ctx context.Context, w engine.Work, m records.Move) (out records.Checkpoint, err error) {
	log, ok := w.Source.(source.Log)
	if !ok {
		return out, problem.Newf(problem.Conflict, "Correct the feed's file.", "The source of the feed %s has no log.",
			w.Feed.Name)
	}
	stands, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, "")
	if err != nil {
		return out, err
	}
	if stands.Position.IsZero() {
		return out, problem.Newf(problem.Conflict, "Start it: it begins at the end of the log, and copies what was before.",
			"The feed %s has no position in the log yet.", w.Feed.Name)
	}
	to, err := placeOf(ctx, w, log, stands, m)
	if err != nil {
		return out, err
	}
	out = records.Checkpoint{Table: w.Table.Table, Position: to, Run: stands.Run, Was: stands.Position.Value}
	if to < stands.Position.Value {
		if err := mayReadAgain(ctx, w, log, to); err != nil {
			return out, err
		}
		out.AgainLog, err = betweenPlaces(ctx, w, log, to, stands.Position.Value)
	} else {
		out.SkippedLog, err = betweenPlaces(ctx, w, log, stands.Position.Value, to)
	}
	if err != nil || m.DryRun {
		return out, err
	}
	running, err := r.Store.IsRunning(ctx, w.Feed.Name)
	if err == nil && running {
		err = problem.Newf(problem.Conflict, "Pause it first: noemata feeds pause "+problem.Word(w.Feed.Name)+".",
			"The feed %s follows its log now.", w.Feed.Name)
	}
	if err != nil {
		return out, err
	}
	p := position.Position{Value: to}
	if err := w.Warehouse.Journal().SetPosition(ctx, w.Feed.Name, "", &p); err != nil {
		return out, err
	}
	out.Run = 0
	for _, t := range w.Feed.Followers().Tables {
		if err := r.Store.NotePosition(ctx, w.Feed.Name, t.Table, to); err != nil {
			return out, err
		}
	}
	return out, r.Store.NotePlace(ctx, w.Feed.Name, to, time.Time{})
}

// placeOf is the place in the log that a person asks for.
func placeOf(ctx context.Context, w engine.Work, log source.Log, stands warehouse.Checkpoint, m records.Move) (string,
	error) {
	end, _, err := log.End(ctx)
	if err != nil {
		return "", err
	}
	switch {
	case m.Back != "" && m.Position != "":
		return "", eitherOr()
	case m.Back != "":
		by, err := window.ParseDuration(m.Back)
		if err != nil || by <= 0 {
			return "", problem.Newf(problem.Invalid, "Write a length of time, as 2h or 3d.", "%q is no way back in a log.",
				m.Back).In("back")
		}
		place, ok, err := w.Warehouse.Journal().PlaceAt(ctx, w.Feed.Name, stands.MovedAt.Add(-by))
		if err == nil && (!ok || place.Position > stands.Position.Value) {
			err = problem.Newf(problem.Conflict, "Write a shorter way, or a place in the log. "+otherwise(w),
				"It is not known where the feed %s was so long ago: places are kept every few minutes, for eight days.",
				w.Feed.Name).In("back")
		}
		return place.Position, err
	case m.Position == theEnd:
		return end, nil
	}
	to, err := log.CheckPosition(m.Position)
	if err == nil && to > end {
		err = problem.Newf(problem.Invalid, "Write a place before that, or: end.", "The log ends at %s.", end).In("position")
	}
	return to, err
}

// otherwise is what brings rows right without reading the log again.
func otherwise(w engine.Work) string {
	return fmt.Sprintf("To have rows read again that differ: noemata repair %s %s. To begin anew: noemata feeds copy %[1]s.",
		problem.Word(w.Feed.Name), problem.Word(w.Table.Table))
}

// mayReadAgain fails where the log cannot be read again from a place on.
func mayReadAgain(ctx context.Context, w engine.Work, log source.Log, to string) error {
	copies, err := w.Warehouse.Journal().Copies(ctx, w.Feed.Name)
	if err != nil {
		return err
	}
	for _, c := range copies {
		if c.State == warehouse.Copying || c.State == warehouse.Joining {
			return problem.Newf(problem.Conflict, "Wait until it follows the log: noemata feeds show "+problem.Word(w.Feed.Name)+".",
				"%s is being copied, and its changes wait in their order.", c.Table)
		}
	}
	known, ok, err := w.Warehouse.Journal().Log(ctx, w.Feed.Name)
	if err != nil || !ok {
		return err
	}
	state, err := log.LogState(ctx, known.Name, to)
	switch {
	case err != nil:
		return problem.Wrap(err, problem.Conflict, problem.Of(err).What,
			"Write a later place. "+otherwise(w))
	case state.Oldest != "" && to < state.Oldest:
		return problem.Newf(problem.Conflict, "Write a later place. To have the log kept for longer from now on, "+
			"write in the feed's file: retain: {behind: 6h}. "+otherwise(w),
			"The source keeps the log from %s on, and no longer.", state.Oldest)
	}
	return nil
}

// betweenPlaces is how many bytes of the log lie between two places, by what lies beyond each; nil where that is not
// told.
func betweenPlaces(ctx context.Context, w engine.Work, log source.Log, from, to string) (*int64, error) {
	known, ok, err := w.Warehouse.Journal().Log(ctx, w.Feed.Name)
	if err != nil || !ok {
		return nil, err
	}
	var behind [2]int64
	for i, at := range []string{from, to} {
		state, err := log.LogState(ctx, known.Name, at)
		if err != nil || !state.There {
			return nil, err
		}
		behind[i] = state.Behind
	}
	n := max(behind[0]-behind[1], 0)
	return &n, nil
}

// back is the value that lies so far below a position.
func back(ctx context.Context, w engine.Work, stands position.Position, m records.Move) (string, error) {
	if m.Position != "" {
		return "", eitherOr()
	}
	if stands.IsZero() {
		return "", problem.New(problem.Conflict, "The table "+w.Table.Table+" has no position yet.",
			"The next run reads all of it.")
	}
	t, err := engine.Describe(ctx, w.Source, w.Table)
	if err != nil {
		return "", err
	}
	column, _ := t.Column(w.Table.Watermark.Column)
	below, err := window.LookBack(m.Back).Below(stands.Value, column.Type)
	if err != nil || below == stands.Value {
		return "", problem.Newf(problem.Invalid, "Write a length of time, as 2h or 3d; of a watermark that counts, a number.",
			"%q is no way back from %s.", m.Back, stands).In("back")
	}
	return below, nil
}

func eitherOr() error {
	return problem.New(problem.Invalid, "Give one of the two.",
		"A position is set to a value, or back from where it stands.").In("back")
}

// countWithin is how long the rows between two positions are counted at the source.
const countWithin = 20 * time.Second

// between counts the rows that are read again, or skipped, when a position is moved. Where that takes too long they
// are not told.
func between(ctx context.Context, w engine.Work, from, to position.Position) (again, skipped *int64, err error) {
	if from.IsZero() {
		return nil, nil, nil
	}
	counting, cancel := context.WithTimeout(ctx, countWithin)
	defer cancel()
	n, back, err := engine.CountBetween(counting, w, from, to)
	switch {
	case counting.Err() != nil:
		return nil, nil, ctx.Err()
	case err != nil:
		return nil, nil, err
	case back:
		return &n, nil, nil
	}
	return nil, &n, nil
}

// ClearPosition has a table begin anew.
func (r *Rules) ClearPosition(ctx context.Context, name, table string) (records.Checkpoint, error) {
	w, err := r.Runner.Work(ctx, name, table)
	if err != nil {
		return records.Checkpoint{}, err
	}
	if w.Table.Find == feed.FindLog {
		return records.Checkpoint{}, problem.Newf(problem.Conflict, "Copy the table again: noemata feeds copy "+
			problem.Word(name)+" --table "+problem.Word(table)+".", "All tables of the feed %s advance together, so "+
			"the position of one cannot be cleared.", name)
	}
	return r.move(ctx, w, nil)
}

// move sets a position, or clears it, and has the records show it.
func (r *Rules) move(ctx context.Context, w engine.Work, p *position.Position) (records.Checkpoint, error) {
	if err := w.Warehouse.Journal().SetPosition(ctx, w.Feed.Name, w.Table.Table, p); err != nil {
		return records.Checkpoint{}, err
	}
	x, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, w.Table.Table)
	if err != nil {
		return records.Checkpoint{}, err
	}
	if err := r.Store.NotePosition(ctx, w.Feed.Name, w.Table.Table, x.Position.String()); err != nil {
		return records.Checkpoint{}, err
	}
	return records.Checkpoint{Table: w.Table.Table, Position: x.Position.String(), Run: x.Run, MovedAt: &x.MovedAt}, nil
}

// checkPosition makes sure that a position suits the watermark's type.
func checkPosition(ctx context.Context, w engine.Work, text string) (position.Position, error) {
	p, err := position.Parse(text)
	if err != nil {
		return p, problem.Wrap(err, problem.Invalid, err.Error()+".", "Write it as noemata positions list shows it.")
	}
	t, err := engine.Describe(ctx, w.Source, w.Table)
	if err != nil {
		return p, err
	}
	column, _ := t.Column(w.Table.Watermark.Column)
	if p, err = p.Check(column.Type); err != nil {
		return p, problem.Wrap(err, problem.Invalid, err.Error()+".",
			"Write a value of the watermark column, as noemata positions list shows it.")
	}
	return p, notInTheFuture(ctx, w, p, column.Type)
}

// notInTheFuture refuses a position that the source's clock has not come to: whatever is
// written until then would be passed over.
func notInTheFuture(ctx context.Context, w engine.Work, p position.Position, t schema.Type) error {
	if !window.Timed(t.Kind) {
		return nil
	}
	moment, err := w.Source.Moment(ctx)
	if err != nil {
		return err
	}
	latest := moment.Clock.Add(24 * time.Hour) // whatever the zone that it is written in
	if us, err := schema.ParseTimestamp(p.Value); err != nil || us <= latest.UnixMicro() {
		return err
	}
	return problem.Newf(problem.Invalid,
		"Write a time that has been: rows that are written before it would never be read.",
		"The position %s lies in the future; the source's clock shows %s.", p,
		moment.Clock.UTC().Format(time.RFC3339))
}
