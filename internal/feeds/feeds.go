// Package feeds holds the rules of feeds, sources and warehouses: what may be added,
// changed, started and removed, and what that entails. Who asks, and how, is not its
// concern.
package feeds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/shape"
	"noemata/internal/engine"
	"noemata/internal/jobs"
	"noemata/internal/opened"
	"noemata/internal/records"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Rules act on what the service keeps, and wake what has to run for it.
type Rules struct {
	Store     *store.Store
	Databases *opened.Databases
	Runner    *jobs.Runner
}

// Feed is a feed and how it is doing.
func (r *Rules) Feed(ctx context.Context, name string) (records.FeedStatus, error) {
	found, err := r.Store.Feeds(ctx, name)
	if err != nil {
		return records.FeedStatus{}, err
	}
	return found[0], nil
}

// Applying says how far a feed file is applied.
type Applying int

// The ways of applying.
const (
	ForReal Applying = iota // checked, compared and applied
	DryRun                  // checked and compared
	Compare                 // compared; source and warehouse are not asked
)

// Apply applies a feed file unless a finding blocks it, for somebody whose name is kept.
func (r *Rules) Apply(ctx context.Context, file string, how Applying, by string) (records.Applied, error) {
	f, err := feed.ParseFile([]byte(file))
	if err != nil {
		return records.Applied{}, err
	}
	old, found, err := r.Store.FeedFile(ctx, f.Name)
	if problem.Is(err, problem.NotFound) {
		old, err = nil, nil
	}
	if err != nil {
		return records.Applied{}, err
	}
	out := records.Applied{Feed: f.Name, New: old == nil, Changes: feed.Diff(old, f), Findings: []problem.Finding{}}
	if how != Compare {
		src, wh, err := r.Databases.Of(ctx, f)
		if err != nil {
			return records.Applied{}, err
		}
		choices, views, err := engine.Choices(ctx, f, src)
		if err != nil {
			return records.Applied{}, err
		}
		found = f.Picks(choices)
		resolved, _ := f.Resolve(found)
		out.Findings = append(engine.CheckPatterns(f, choices, views), engine.Check(ctx, resolved.Running(), src, wh,
			r.keysOf(ctx))...)
	}
	resolved, _ := f.Resolve(found)
	names := warehouse.Names{} // of a warehouse that is not asked
	if how != Compare {
		wh, err := r.Databases.Warehouse(ctx, f.Warehouse)
		if err != nil {
			return records.Applied{}, err
		}
		names = wh.Names()
	}
	shared, err := r.sharedTargets(ctx, resolved, names)
	if err != nil {
		return records.Applied{}, err
	}
	if next := f.ByCron(time.Now(), 5); how == DryRun && next != nil {
		list := make([]string, len(next))
		for i, at := range next {
			list[i] = at.Format("Mon 2 Jan 2006 15:04 MST")
		}
		shared = append(shared, problem.Finding{Level: problem.Note, What: "By its cron it runs next at: " +
			strings.Join(list, ", ") + "."})
	}
	out.Findings = append(shared, append(r.consequences(ctx, old, found, resolved), out.Findings...)...)
	out.Findings = problem.Mendable(out.Findings)
	blocked := slices.IndexFunc(out.Findings, func(x problem.Finding) bool { return x.Level == problem.Blocker })
	if how != ForReal {
		return out, nil
	}
	if blocked >= 0 {
		x := out.Findings[blocked]
		return out, problem.New(problem.Invalid, fmt.Sprintf("The feed %s was not applied: %s", f.Name, x.What),
			x.Remedy)
	}
	for _, name := range f.HashKeys() {
		if err := r.Store.MakeHashKey(ctx, name); err != nil {
			return records.Applied{}, err
		}
	}
	if old != nil && (old.Source != f.Source || old.Warehouse != f.Warehouse) {
		out.Applied, err = r.moveElsewhere(ctx, old, f, found, by)
		return out, err
	}
	if err := r.Store.SaveFeed(ctx, f, found, by); err != nil {
		return records.Applied{}, err
	}
	out.Applied = true
	if len(out.Changes) > 0 && !out.New {
		err = r.reschedule(ctx, f.Name)
	}
	if err == nil && old != nil && old.Running().FollowsLog() && !f.Running().FollowsLog() {
		err = r.unfollow(ctx, f)
	}
	return out, err
}

// Preview shapes some rows of a table as a feed file has it. Nothing is written.
func (r *Rules) Preview(ctx context.Context, file, table string, show int) (engine.Preview, error) {
	f, err := feed.ParseFile([]byte(file))
	if err != nil {
		return engine.Preview{}, err
	}
	src, err := r.Databases.SourceToHide(ctx, f.Source)
	if err != nil {
		return engine.Preview{}, err
	}
	choices, _, err := engine.Choices(ctx, f, src)
	if err != nil {
		return engine.Preview{}, err
	}
	f, _ = f.Resolve(choices)
	w := engine.Work{Feed: f, Source: src, Keys: r.keysOf(ctx)}
	if _, err := r.Store.Feed(ctx, f.Name); err == nil {
		if w.Warehouse, err = r.Databases.Warehouse(ctx, f.Warehouse); err != nil {
			return engine.Preview{}, err
		}
	}
	t, ok := f.Table(table)
	if !ok {
		return engine.Preview{}, problem.Newf(problem.NotFound,
			"Check the name against the file's tables; write it as schema.table.", "The feed file has no table %q.",
			table)
	}
	w.Table = t
	return engine.TakePreview(ctx, w, show)
}

// Drifts lists what has changed of the structure of a feed's tables, the newest first.
func (r *Rules) Drifts(ctx context.Context, name string, limit int) ([]drift.Drift, error) {
	f, err := r.Store.Feed(ctx, name)
	if err != nil {
		return nil, err
	}
	wh, err := r.Databases.Warehouse(ctx, f.Warehouse)
	if err != nil {
		return nil, err
	}
	return wh.Journal().Drifts(ctx, name, limit)
}

// keysOf gives the keys that columns are hashed with. One that applying a file would make
// stands for itself while the file is checked.
func (r *Rules) keysOf(ctx context.Context) shape.Keys {
	keys := r.Databases.Keys(ctx)
	return func(name string) ([]byte, error) {
		key, err := keys(name)
		if problem.Is(err, problem.NotFound) {
			return []byte("made when the feed is applied"), nil
		}
		return key, err
	}
}

// sharedTargets finds the tables that another feed keeps already: two feeds that
// wrote one table would undo each other's work.
func (r *Rules) sharedTargets(ctx context.Context, f *feed.Feed, names warehouse.Names) ([]problem.Finding, error) {
	targets, err := r.Store.Targets(ctx, f)
	taken := map[schema.Name]string{}
	for target, by := range targets {
		taken[names.KeyOf(target)] = by
	}
	sets, failed := r.Store.DerivedSets(ctx, "")
	err = errors.Join(err, failed)
	for _, s := range sets {
		for _, t := range s.Tables {
			if s.Warehouse == f.Warehouse {
				taken[names.KeyOf(t.Name())] = "the derived tables " + s.Name
			}
		}
	}
	findings := []problem.Finding{}
	for _, t := range f.Tables {
		target, _ := f.TargetOf(t) // the file was checked
		if other, is := taken[names.KeyOf(target)]; is {
			findings = append(findings, problem.Finding{Level: problem.Blocker, Table: t.Table,
				What:   fmt.Sprintf("Its target %s is kept by %s already.", target.Display(), other),
				Remedy: "Choose another target, or remove the table from the other feed."})
		}
	}
	return findings, err
}

// moveElsewhere has a feed go from one source or warehouse to another. Nothing of it runs meanwhile, and what it made at
// its source for the warehouse that it leaves is dropped: the source would keep its log for ever. Another name of
// the same database is no other source.
func (r *Rules) moveElsewhere(ctx context.Context, old, f *feed.Feed, found []schema.Name, by string) (bool, error) {
	active, _, _, err := r.Store.Schedule(ctx, f.Name)
	if err != nil {
		return false, err
	}
	err = r.quiet(ctx, f.Name, "changed", "Apply the file again when its run has ended.")
	if err == nil {
		err = r.Store.SaveFeed(ctx, f, found, by)
	}
	saved := err == nil
	if saved && old.FollowsLog() && (old.Warehouse != f.Warehouse || !r.sameDatabase(ctx, old.Source, f.Source)) {
		err = r.dropLog(ctx, old, "has moved")
	}
	if active {
		err = errors.Join(r.reactivate(context.WithoutCancel(ctx), f.Name), err)
	}
	return saved, err
}

// sameDatabase tells whether two sources are known to be one database, whose log goes on.
func (r *Rules) sameDatabase(ctx context.Context, one, other string) bool {
	var origins []string
	for _, name := range []string{one, other} {
		src, err := r.Databases.Source(ctx, name)
		if err != nil {
			return false
		}
		log, ok := src.(source.Log)
		if !ok {
			return false
		}
		origin, err := log.Origin(ctx)
		if err != nil {
			return false
		}
		origins = append(origins, origin)
	}
	return origins[0] == origins[1]
}

func (r *Rules) reactivate(ctx context.Context, name string) error {
	if err := r.Store.SetFeedState(ctx, name, "active"); err != nil {
		return err
	}
	return r.Runner.Wake(ctx, name)
}

// reschedule makes a changed feed run soon, if it is active.
func (r *Rules) reschedule(ctx context.Context, name string) error {
	active, _, _, err := r.Store.Schedule(ctx, name)
	if err != nil || !active {
		return err
	}
	return r.reactivate(ctx, name)
}

// Start lets a feed run on its schedule.
func (r *Rules) Start(ctx context.Context, name string) error {
	f, err := r.Store.Feed(ctx, name)
	if err != nil {
		return err
	}
	if err := r.Store.SetFeedState(ctx, name, "active"); err != nil {
		return err
	}
	// At the times that were written, and not before.
	if next, scheduled := f.Next(time.Now()); scheduled && f.Cron != "" {
		if err := r.Store.SetNextRun(ctx, name, &next); err != nil {
			return err
		}
	}
	return r.Runner.Wake(ctx, name)
}

// PauseTables has tables of a feed wait, or go on, in its file, for somebody whose name is kept. What else the file
// says is not checked anew: a table is paused just when something is wrong.
func (r *Rules) PauseTables(ctx context.Context, name string, tables []string, paused bool, by string) error {
	f, found, err := r.Store.FeedFile(ctx, name)
	if err != nil {
		return err
	}
	resolved, _ := f.Resolve(found)
	follow := func(f *feed.Feed) bool { return len(f.Running().Followers().Tables) > 0 }
	followed := follow(resolved)
	if err := f.Pause(resolved, tables, paused); err != nil {
		return err
	}
	backfills, err := r.Store.Backfills(ctx, name)
	if err != nil {
		return err
	}
	for _, b := range backfills {
		if paused && slices.Contains(tables, b.Table) && (b.State == "waiting" || b.State == "running") {
			if _, err := r.Store.SetBackfill(ctx, b.ID, "paused"); err != nil {
				return err
			}
		}
	}
	if err := r.Store.SaveFeed(ctx, f, found, by); err != nil {
		return err
	}
	if err := r.reschedule(ctx, name); err != nil {
		return err
	}
	if now, _ := f.Resolve(found); !followed || follow(now) {
		return nil
	}
	return r.unfollow(ctx, f)
}

// Pause keeps a feed from running on its schedule, and ends what runs.
func (r *Rules) Pause(ctx context.Context, name string) error {
	if err := r.Store.SetFeedState(ctx, name, "paused"); err != nil {
		return err
	}
	if err := r.Store.PauseBackfills(ctx, name); err != nil {
		return err
	}
	if _, err := r.Store.AskStop(ctx, 0, name); err != nil {
		return err
	}
	return r.Runner.Wake(ctx, name)
}

// Remove removes a feed and what it has made at its source. The tables in the warehouse stay.
func (r *Rules) Remove(ctx context.Context, name string) error {
	f, err := r.Store.Feed(ctx, name)
	if err != nil {
		return err
	}
	if err := r.quiet(ctx, name, "removed", "It is paused. Remove it again when its run has ended."); err != nil {
		return err
	}
	if err := r.Store.RemoveFeed(ctx, name); err != nil || !f.FollowsLog() {
		return err
	}
	return r.dropLog(ctx, f, "is removed")
}

// quietWithin is how long the run of a feed that is removed, or moves, may take to end.
const quietWithin = 20 * time.Second

// quiet pauses a feed and waits until nothing of it runs: a copy that went on would make
// anew what is about to be dropped. Where something runs on, the feed was not done to as was meant.
func (r *Rules) quiet(ctx context.Context, name, done, remedy string) error {
	if err := r.Store.SetFeedState(ctx, name, "paused"); err != nil {
		return err
	}
	if err := r.Store.PauseBackfills(ctx, name); err != nil {
		return err
	}
	if _, err := r.Store.DropQueued(ctx, 0, name); err != nil {
		return err
	}
	for until := time.Now().Add(quietWithin); ; {
		if _, err := r.Store.AskStop(ctx, 0, name); err != nil {
			return err
		}
		running, err := r.Store.IsRunning(ctx, name)
		if err != nil || !running {
			return err
		}
		if time.Now().After(until) {
			return problem.Newf(problem.Conflict, remedy,
				"The feed %s was not %s: its run has not ended within %s.", name, done, quietWithin)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// dropLog removes what a feed has made at its source.
func (r *Rules) dropLog(ctx context.Context, f *feed.Feed, done string) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	src, wh, err := r.Databases.Of(ctx, f)
	if err == nil {
		err = engine.DropLog(ctx, f, src, wh)
	}
	if err != nil {
		p := problem.Of(err)
		return problem.Wrap(err, p.Code,
			fmt.Sprintf("The feed %s %s, and what it made at its source is still there: %s", f.Name, done, p.What),
			"At the source, drop the replication slot and the publication whose names begin with "+
				"noemata_: a slot that nobody reads keeps the log for ever.")
	}
	return nil
}

// unfollow has the source keep no more log for a feed of which no table follows it any more. One that is
// active does so with its next run, which begins when this one has ended; of another one the last run may not have.
func (r *Rules) unfollow(ctx context.Context, f *feed.Feed) error {
	active, _, _, err := r.Store.Schedule(ctx, f.Name)
	if err != nil || active {
		return err
	}
	if err := r.quiet(ctx, f.Name, "parted from its source's log", "Run it once: noemata runs start "+
		problem.Word(f.Name)+"."); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	src, wh, err := r.Databases.Of(ctx, f)
	if err == nil {
		err = engine.Unfollow(ctx, f, src, wh)
	}
	if err != nil {
		p := problem.Of(err)
		return problem.Wrap(err, p.Code,
			fmt.Sprintf("The feed %s is as the file has it, but its source still keeps the log for it: %s", f.Name,
				p.What),
			"Run it once: noemata runs start "+problem.Word(f.Name)+".")
	}
	return nil
}

// CopyAgain has the next run copy tables anew.
func (r *Rules) CopyAgain(ctx context.Context, name string, tables []string) error {
	f, err := r.Store.Feed(ctx, name)
	if err != nil {
		return err
	}
	if err := engine.MayCopyAgain(f, tables); err != nil {
		return err
	}
	if err := r.Store.AskCopies(ctx, name, tables); err != nil {
		return err
	}
	return r.Runner.Wake(ctx, name)
}

// Run has a feed run now.
func (r *Rules) Run(ctx context.Context, name string) (records.Run, error) {
	run, err := r.Store.QueueRun(ctx, name)
	if err != nil {
		return run, err
	}
	return run, r.Runner.Wake(ctx, name)
}

// Stop has a run end that is queued or goes on.
func (r *Rules) Stop(ctx context.Context, id int64) (records.Run, error) {
	dropped, err := r.Store.DropQueued(ctx, id, "")
	if err != nil {
		return records.Run{}, err
	}
	asked, err := r.Store.AskStop(ctx, id, "")
	if err != nil {
		return records.Run{}, err
	}
	run, err := r.Store.Run(ctx, id)
	if err == nil && dropped+asked == 0 {
		err = problem.Newf(problem.Conflict, "There is nothing to stop.", "Run %d has ended: it is %s.", id, run.State)
	}
	return run, err
}
