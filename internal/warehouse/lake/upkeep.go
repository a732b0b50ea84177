//go:build duckdb_arrow

package lake

import (
	"cmp"
	"context"
	"strings"
	"time"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// When files of a table are put together: when so many are small, or when one of them is read with so many files of
// deletes.
const (
	smallFile   = 64 << 20 // bytes
	mostSmall   = 20
	mostDeletes = 10
)

// How long snapshots are kept that are not the newest; how old a file is that none of them names and that goes: younger
// ones may be of a commit that is under way; and how often that is looked at.
var (
	snapshotsFor = 2 * time.Hour
	filesFor     = 24 * time.Hour
	lookAgain    = 10 * time.Minute
)

// mostLost is how often upkeep of a table gives way to a feed, which has written it meanwhile, until the feed waits for
// it.
const mostLost = 3

// upkeep is what is known of the upkeep of a table.
type upkeep struct {
	lost   int
	looked time.Time
}

// Upkeep puts small files of tables together, takes out rows that were deleted, lets old snapshots go, and removes
// files that no commit names. One process does it at a time. A table that a feed has written meanwhile is left to the
// next time.
func (w *Warehouse) Upkeep(ctx context.Context) error {
	return w.inCatalogue(ctx, func(c sqlmerge.Conn) error {
		if _, err := c.Exec(ctx, "BEGIN"); err != nil {
			return err
		}
		alone, err := c.Ask(ctx, "SELECT pg_try_advisory_xact_lock(hashtextextended($1, 0))",
			"noemata upkeep "+w.files.Location())
		if err != nil || !alone[0][0].(bool) {
			return err
		}
		found, err := c.Ask(ctx,
			"SELECT table_namespace, table_name FROM public.iceberg_tables WHERE catalog_name = $1 ORDER BY 1, 2",
			catalogueName)
		if err != nil {
			return err
		}
		failed := w.markToday(ctx, time.Now())
		for _, row := range found {
			err := w.keepUp(ctx, schema.Name{Schema: row[0].(string), Table: row[1].(string)})
			if ctx.Err() != nil {
				return ctx.Err()
			}
			failed = cmp.Or(failed, err)
		}
		return failed
	})
}

// Pace is a few seconds: each commit writes five files for each table that it changes.
func (w *Warehouse) Pace() time.Duration { return 5 * time.Second }

// keepUp does the upkeep of one table.
func (w *Warehouse) keepUp(ctx context.Context, name schema.Name) error {
	u, _ := w.upkeeps.LoadOrStore(name, &upkeep{})
	of := u.(*upkeep)
	err := w.compact(ctx, name, of)
	switch {
	case problem.Is(err, problem.Overtaken):
		of.lost++
		return nil
	case err != nil:
		return err
	}
	of.lost = 0
	if time.Since(of.looked) < lookAgain {
		return nil
	}
	of.looked = time.Now()
	err = w.expire(ctx, name)
	if problem.Is(err, problem.Overtaken) {
		of.looked = time.Time{}
		return nil
	}
	return err
}

// change changes a table in a transaction of its own, whose pointer is moved if nobody has moved it.
func (w *Warehouse) change(ctx context.Context, name schema.Name, waits bool,
	work func(t *tables, l *local, tbl *table.Table) (*table.Transaction, error)) error {
	opened, err := w.connect(ctx)
	if err != nil {
		return err
	}
	c := opened.(*conn)
	defer c.Close()
	if _, err := c.Conn.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	if waits {
		if _, err := c.Conn.Ask(ctx, pointerSQL+" FOR UPDATE", catalogueName, name.Schema, name.Table); err != nil {
			return err
		}
	}
	l, err := c.tables.local(ctx, name)
	if err != nil || l.table == nil {
		return err
	}
	s := &staged{files: w.files, base: l.table.Metadata(), location: l.table.MetadataLocation()}
	tx, err := work(c.tables, l, table.New(l.table.Identifier(), s.base, s.location, w.files.IO, s))
	if err != nil || tx == nil {
		return err
	}
	if _, err := tx.Commit(ctx); err != nil {
		return w.unwritten(err)
	}
	if s.next == "" {
		return nil
	}
	p := pointer{name: name, from: s.location, to: s.next}
	if err := p.move(ctx, c.Conn); err != nil {
		return err
	}
	c.tables.written = nil
	_, err = c.Conn.Exec(ctx, "COMMIT")
	return err
}

// compact writes small files, and files many of whose rows are deleted, into one, without these.
func (w *Warehouse) compact(ctx context.Context, name schema.Name, of *upkeep) error {
	return w.change(ctx, name, of.lost >= mostLost, func(t *tables, l *local, tbl *table.Table) (*table.Transaction,
		error) {
		if tbl.CurrentSnapshot() == nil {
			return nil, nil
		}
		tasks, err := tbl.Scan().PlanFiles(ctx)
		if err != nil {
			return nil, w.unreadable(err, name)
		}
		chosen, deletes := toCompact(tasks, tbl.Metadata().DefaultPartitionSpec())
		if len(chosen) == 0 {
			return nil, nil
		}
		if err := t.beside(ctx, l); err != nil {
			return nil, err
		}
		scan, err := t.scanOf(ctx, l, chosen, "")
		if err != nil {
			return nil, err
		}
		var has []column
		for _, f := range l.fields() {
			has = append(has, column{f, nameOf(f.Type)})
		}
		key, err := w.keyOf(ctx, t, l)
		if err != nil {
			return nil, err
		}
		after, err := t.writeRows(ctx, tbl, has, "("+scan+") AS t WHERE true", key)
		if err != nil {
			return nil, err
		}
		var before []iceberg.DataFile
		for _, task := range chosen {
			before = append(before, task.File)
		}
		tx := tbl.NewTransaction()
		return tx, tx.ReplaceFiles(ctx, before, after, deletes, nil, table.WithoutAutoNameMapping())
	})
}

// toCompact chooses the files that are put together with others of their part of the table, and the files of deletes
// that
// then are about none. Files of before the table was divided as it is are written anew with each other.
func toCompact(tasks []table.FileScanTask, spec int) (chosen []table.FileScanTask, deletes []iceberg.DataFile) {
	parts := map[string][]table.FileScanTask{}
	for _, task := range tasks {
		at := ""
		if int(task.File.SpecID()) == spec {
			at = placeOf(task.File)
		}
		parts[at] = append(parts[at], task)
	}
	goes, stay := map[string]bool{}, map[string]bool{}
	for at, part := range parts {
		for _, task := range dueOf(part, at == "") {
			chosen, goes[task.File.FilePath()] = append(chosen, task), true
		}
	}
	files := map[string]iceberg.DataFile{}
	for _, task := range tasks {
		for _, d := range task.DeleteFiles {
			if files[d.FilePath()] = d; !goes[task.File.FilePath()] {
				stay[d.FilePath()] = true
			}
		}
	}
	for path, d := range files {
		if !stay[path] {
			deletes = append(deletes, d)
		}
	}
	return chosen, deletes
}

// dueOf are the files of a part that are put together, if any are due.
func dueOf(tasks []table.FileScanTask, outdated bool) (chosen []table.FileScanTask) {
	small, due := 0, outdated
	for _, task := range tasks {
		if task.File.FileSizeBytes() < smallFile {
			small++
		}
		due = due || len(task.DeleteFiles) >= mostDeletes
	}
	if small <= mostSmall && !due {
		return nil
	}
	for _, task := range tasks {
		if outdated || task.File.FileSizeBytes() < smallFile || len(task.DeleteFiles) >= mostDeletes {
			chosen = append(chosen, task)
		}
	}
	return chosen
}

// keyOf is the key that a target's rows are kept in the order of; none where the journal does not tell it.
func (w *Warehouse) keyOf(ctx context.Context, t *tables, l *local) ([]string, error) {
	found, err := t.journal.Ask(ctx, "SELECT key_columns FROM noemata.keys WHERE target = $1", l.name.Display())
	if err != nil || len(found) == 0 {
		return nil, err
	}
	key := strings.Split(found[0][0].(string), ", ")
	for _, k := range key {
		if _, ok := l.table.Schema().FindFieldByName(k); !ok {
			return nil, nil // a name with a comma
		}
	}
	return key, nil
}

// expire lets old snapshots go, and then the files that none names.
func (w *Warehouse) expire(ctx context.Context, name schema.Name) error {
	err := w.change(ctx, name, false, func(_ *tables, _ *local, tbl *table.Table) (*table.Transaction, error) {
		if tbl.CurrentSnapshot() == nil {
			return nil, nil
		}
		tx := tbl.NewTransaction()
		return tx, tx.ExpireSnapshots(table.WithOlderThan(snapshotsFor), table.WithRetainLast(1), table.WithPostCommit(false))
	})
	if err != nil {
		return err
	}
	c, err := w.keeper.Connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	tbl, err := w.load(ctx, c, name)
	if err != nil || tbl == nil {
		return err
	}
	_, err = tbl.DeleteOrphanFiles(ctx, table.WithFilesOlderThan(filesFor), table.WithCleanupMaxConcurrency(2))
	return w.unwritten(err)
}

var (
	_ warehouse.Upkept = (*Warehouse)(nil)
	_ warehouse.Paced  = (*Warehouse)(nil)
)
