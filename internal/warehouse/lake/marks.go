//go:build duckdb_arrow

package lake

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/apache/iceberg-go/table"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// A mark is a tag of the format (Iceberg, Table Spec, Snapshot References) on the newest snapshot of each table, so
// that
// it is a name that other programs know, too. All tables are marked by one transaction of the catalogue: a cut.

var markName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.:-]{0,63}$`)

// lockPointers are the pointers of all tables, which nobody moves until the transaction ends.
const lockPointers = pointersSQL + " FOR UPDATE"

// Mark keeps what all tables hold now under a name.
func (w *Warehouse) Mark(ctx context.Context, name string, keep time.Duration) error {
	if !markName.MatchString(name) || name == table.MainBranch {
		return problem.Newf(problem.Invalid, "Write up to 64 letters, digits, and _ . : - between them, such as 2026-11-30.",
			"%q cannot be the name of a mark.", name).In("name")
	}
	return w.remark(ctx, func(t *table.Table) (table.Update, error) {
		newest := t.CurrentSnapshot()
		if newest == nil {
			return nil, nil
		}
		if t.SnapshotByName(name) != nil {
			return nil, problem.Newf(problem.Conflict, "Choose another name, or remove that mark first.",
				"There is a mark %s already in the %s.", name, w.what)
		}
		age := int64(0) // for ever
		if keep > 0 {   // which is told from when the snapshot was made
			age = time.Since(time.UnixMilli(newest.TimestampMs)).Milliseconds() + keep.Milliseconds()
		}
		return table.NewSetSnapshotRefUpdate(name, newest.SnapshotID, table.TagRef, age, 0, 0), nil
	})
}

// Unmark lets what was kept under a name go, with the next upkeep.
func (w *Warehouse) Unmark(ctx context.Context, name string) error {
	found := false
	err := w.remark(ctx, func(t *table.Table) (table.Update, error) {
		if name == table.MainBranch || t.SnapshotByName(name) == nil {
			return nil, nil
		}
		found = true
		return table.NewRemoveSnapshotRefUpdate(name), nil
	})
	if err == nil && !found {
		err = w.noMark(name)
	}
	return err
}

func (w *Warehouse) noMark(name string) error {
	return problem.Newf(problem.NotFound, "Look which there are with noemata marks list.",
		"There is no mark %s in the %s.", name,
		w.what)
}

// remark changes the names of snapshots of all tables in one transaction.
func (w *Warehouse) remark(ctx context.Context, change func(*table.Table) (table.Update, error)) error {
	return w.inCatalogue(ctx, func(c sqlmerge.Conn) error {
		if _, err := c.Exec(ctx, "BEGIN"); err != nil {
			return err
		}
		found, err := c.Ask(ctx, lockPointers, catalogueName)
		if err != nil {
			return err
		}
		for _, row := range found {
			name := schema.Name{Schema: row[0].(string), Table: row[1].(string)}
			at, _ := row[2].(string)
			if err := w.remarkOne(ctx, c, name, at, change); err != nil {
				return err
			}
		}
		_, err = c.Exec(ctx, "COMMIT")
		return err
	})
}

func (w *Warehouse) remarkOne(ctx context.Context, c sqlmerge.Conn, name schema.Name, at string,
	change func(*table.Table) (table.Update, error)) error {
	t, err := w.at(ctx, name, at)
	if err != nil {
		return err
	}
	update, err := change(t)
	if err != nil || update == nil {
		return err
	}
	next, err := table.UpdateTableMetadata(t.Metadata(), []table.Update{update}, at)
	if err != nil {
		return err
	}
	to, err := writeMetadata(ctx, w.files, next, at)
	if err != nil {
		return w.unwritten(err)
	}
	return pointer{name, at, to}.move(ctx, c)
}

// Marks lists what is kept under names, the newest first.
func (w *Warehouse) Marks(ctx context.Context) ([]warehouse.Mark, error) {
	found, err := w.pointers(ctx)
	if err != nil {
		return nil, err
	}
	marks := map[string]*warehouse.Mark{}
	for _, row := range found {
		at, _ := row[2].(string)
		t, err := w.at(ctx, schema.Name{Schema: row[0].(string), Table: row[1].(string)}, at)
		if err != nil {
			return nil, err
		}
		for name, ref := range t.Metadata().Refs() {
			snapshot := t.SnapshotByID(ref.SnapshotID)
			if ref.SnapshotRefType != table.TagRef || snapshot == nil {
				continue
			}
			m := marks[name]
			if m == nil {
				m = &warehouse.Mark{Name: name}
				marks[name] = m
			}
			m.Tables++
			if made := time.UnixMilli(snapshot.TimestampMs).UTC(); made.After(m.At) {
				m.At = made
				if m.Until = nil; ref.MaxRefAgeMs != nil {
					until := made.Add(time.Duration(*ref.MaxRefAgeMs) * time.Millisecond)
					m.Until = &until
				}
			}
		}
	}
	list := make([]warehouse.Mark, 0, len(marks))
	for _, m := range marks {
		list = append(list, *m)
	}
	slices.SortFunc(list, func(a, b warehouse.Mark) int {
		if c := b.At.Compare(a.At); c != 0 {
			return c
		}
		return strings.Compare(b.Name, a.Name)
	})
	return list, nil
}

// daily is when a lake is marked each day.
type daily struct {
	at     time.Duration // since midnight
	zone   *time.Location
	keep   time.Duration // 0 is until it is removed
	on     bool
	marked string // the last one, that need not be looked for
}

func dailyOf(s connection.Settings) (d daily, err error) {
	if s.MarkDaily == "" {
		return d, nil
	}
	at, err := time.Parse("15:04", s.MarkDaily)
	if err != nil {
		return d, problem.Newf(problem.Invalid, "Write it as 23:59.", "%q is no time of day.", s.MarkDaily).In("mark_daily")
	}
	d.at, d.on = time.Duration(at.Hour())*time.Hour+time.Duration(at.Minute())*time.Minute, true
	if d.zone, err = time.LoadLocation(s.MarkZone); err != nil {
		return d, problem.Newf(problem.Invalid, "Write it as Europe/Vienna.", "%q is no time zone.",
			s.MarkZone).In("mark_zone")
	}
	if s.MarkKeep != "" {
		if d.keep, err = window.ParseDuration(s.MarkKeep); err != nil || d.keep <= 0 {
			return d, problem.Newf(problem.Invalid, "Write it as 90d.", "%q is no length of time.", s.MarkKeep).In("mark_keep")
		}
	}
	return d, nil
}

// markToday makes the mark of the day where its time has come.
func (w *Warehouse) markToday(ctx context.Context, now time.Time) error {
	d := &w.daily
	if !d.on {
		return nil
	}
	now = now.In(d.zone)
	name := now.Format(time.DateOnly)
	due := time.Date(now.Year(), now.Month(), now.Day(), 0, int(d.at.Minutes()), 0, 0, d.zone)
	if now.Before(due) || d.marked == name {
		return nil
	}
	marks, err := w.Marks(ctx)
	if err == nil && !slices.ContainsFunc(marks, func(m warehouse.Mark) bool { return m.Name == name }) {
		err = w.Mark(ctx, name, d.keep)
	}
	if err == nil {
		d.marked = name
	}
	return err
}

// AtMark has the questions from now on see what is kept under a name; of tables without it, nothing.
func (c *conversation) AtMark(ctx context.Context, name string) error {
	marks, err := c.tables.lake.Marks(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(marks, func(m warehouse.Mark) bool { return m.Name == name }) {
		return c.tables.lake.noMark(name)
	}
	for seen := range c.seen {
		if err := c.forget(ctx, seen); err != nil {
			return err
		}
	}
	c.mark = name
	return nil
}

var _ warehouse.Marked = (*Warehouse)(nil)
