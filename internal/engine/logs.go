package engine

import (
	"context"
	"fmt"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// DropLog removes what a feed has made at its source, and forgets where it stood. The
// target tables stay.
func DropLog(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) error {
	if err := LetGo(ctx, f, src, wh); err != nil {
		return err
	}
	return wh.Journal().Forget(ctx, f.Name)
}

// Unfollow is DropLog for a feed of which no table follows the log any more.
func Unfollow(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) error {
	if _, followed, err := wh.Journal().Log(ctx, f.Name); err != nil || !followed {
		return err
	}
	return DropLog(ctx, f, src, wh)
}

// LetGo has the source retain nothing more for a feed. The feed is held from then on,
// until its tables are copied again.
func LetGo(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) error {
	log, ok := src.(source.Log)
	if !ok {
		return nil
	}
	known, ok, err := wh.Journal().Log(ctx, f.Name)
	if err != nil || !ok {
		return err
	}
	return log.DropLog(ctx, known.Name)
}

// Paused says that nothing is done to a table that is paused.
func Paused(feed, table string) *problem.Problem {
	return problem.Newf(problem.Conflict, fmt.Sprintf("Let it go on: noemata feeds start %s --table %s", problem.Word(feed),
		problem.Word(table)), "The table %s is paused.", table)
}

// MayCopyAgain tells whether tables of a feed can be copied anew.
func MayCopyAgain(f *feed.Feed, tables []string) error {
	if !f.FollowsLog() {
		return problem.Newf(problem.Invalid, "Clear the table's position instead: noemata positions clear FEED TABLE.",
			"The feed %s does not follow the log.", f.Name)
	}
	for _, name := range tables {
		if t, ok := f.Table(name); ok && t.Paused {
			return Paused(f.Name, name)
		} else if ok && t.Find != feed.FindLog {
			return problem.Newf(problem.Invalid, fmt.Sprintf("Clear its position instead: noemata positions clear "+
				"%s %s.",
				problem.Word(f.Name), problem.Word(name)), "The table %s does not follow the log.", name)
		} else if !ok {
			return problem.Newf(problem.NotFound, "Check the name against the feed's tables; write it as schema.table.",
				"The feed %s has no table %q.", f.Name, name)
		}
	}
	return nil
}

// CopyAgain has tables copied anew by the next run; all of them, and from a new position in
// the log, where none is named. What the targets hold is kept until the copies are
// complete, and a history keeps its past.
func CopyAgain(ctx context.Context, f *feed.Feed, tables []string, src source.Source, wh warehouse.Warehouse) error {
	if err := MayCopyAgain(f, tables); err != nil {
		return err
	}
	var entries []warehouse.Entry
	for _, name := range tables {
		entries = append(entries, warehouse.CopyAgain{Table: name})
	}
	if len(tables) == 0 {
		if _, begun, err := wh.Journal().Log(ctx, f.Name); err != nil || !begun {
			return err
		}
		if err := DropLog(ctx, f, src, wh); err != nil {
			return err
		}
		for _, t := range f.Followers().Tables { // a second generation: what the targets hold is this feed's own
			entries = append(entries, warehouse.BeginCopy{Table: t.Table, Generation: 2})
		}
	}
	return wh.Journal().Note(ctx, f.Name, entries...)
}

// LogStateOf measures what a source retains for a feed; ok is false where nothing is yet.
func LogStateOf(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse) (
	state source.LogState, ok bool, err error) {
	log, follows := src.(source.Log)
	if !follows || !f.FollowsLog() {
		return state, false, nil
	}
	known, ok, err := wh.Journal().Log(ctx, f.Name)
	if err != nil || !ok {
		return state, false, err
	}
	stands, err := wh.Journal().Checkpoint(ctx, f.Name, "")
	if err != nil {
		return state, false, err
	}
	state, err = log.LogState(ctx, known.Name, stands.Position.Value)
	return state, err == nil, err
}
