package engine_test

import (
	"context"
	"fmt"
	"iter"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/engine"
	"noemata/internal/lakefiles"
	sourcelake "noemata/internal/source/lake"
	"noemata/internal/testkit"
	"noemata/internal/testkit/foreign"
)

var loansInLake = iceberg.NewSchemaWithIdentifiers(0, []int{1},
	iceberg.NestedField{ID: 1, Name: "id", Type: iceberg.PrimitiveTypes.Int64, Required: true},
	iceberg.NestedField{ID: 2, Name: "copy", Type: iceberg.PrimitiveTypes.String},
	iceberg.NestedField{ID: 3, Name: "fee", Type: iceberg.DecimalTypeOf(8, 2)})

// lent is a table that another program writes, and what it should hold.
type lent struct {
	*foreign.Lake
	name     string
	model    map[int64]string
	versions int // that a history has by now
}

// openForeign makes a lake of another program, and a feed that reads it.
func openForeign(t *testing.T, kind string) (*workbench, *foreign.Lake) {
	b := newWorkbench(t, kind)
	folder := filepath.Join(testkit.Dir(t), "foreign")
	settings := b.settings
	settings.Path = folder
	src, err := sourcelake.Open(settings, `source "archive"`)
	require.NoError(t, err)
	t.Cleanup(src.Close)
	b.source = src
	return b, foreign.New(t, b.conn, folder)
}

func (x *lent) row(id int64, copyOf string) map[string]any {
	return map[string]any{"id": id, "copy": copyOf, "fee": fmt.Sprintf("%d.25", id)}
}

// read has what the table holds by now, as iceberg-go reads it, and counts the versions that came to it.
func (x *lent) read() {
	x.T().Helper()
	now := map[int64]string{}
	_, records, err := x.Table(x.name).Scan().ToArrowRecords(context.Background())
	require.NoError(x.T(), err)
	for record, err := range records {
		require.NoError(x.T(), err)
		for row := range int(record.NumRows()) {
			id := record.Column(0).(*array.Int64).Value(row)
			require.NotContains(x.T(), now, id, "the program has written a key twice into %s", x.name)
			now[id] = record.Column(1).(*array.String).Value(row)
		}
	}
	for id, copyOf := range now {
		if was, there := x.model[id]; !there || was != copyOf {
			x.versions++
		}
	}
	x.model = now
}

// add appends rows that are new.
func (x *lent) add(ids []int64, copyOf string, properties iceberg.Properties) {
	var list []map[string]any
	for _, id := range ids {
		if _, there := x.model[id]; !there {
			list = append(list, x.row(id, copyOf))
		}
	}
	if list != nil {
		x.Commit(x.name, func(tx *table.Transaction) error { return x.Append(tx, x.Rows(x.name, nil, list), properties) })
	}
}

// replace deletes rows by their key and adds them with other values, in one snapshot.
func (x *lent) replace(ids []int64, copyOf string) {
	var keys, list []map[string]any
	for _, id := range ids {
		keys, list = append(keys, map[string]any{"id": id}), append(list, x.row(id, copyOf))
	}
	one := func(record arrow.RecordBatch) iter.Seq2[arrow.RecordBatch, error] {
		return func(yield func(arrow.RecordBatch, error) bool) { yield(record, nil) }
	}
	x.Commit(x.name, func(tx *table.Transaction) error {
		deletes, err := tx.WriteEqualityDeletes(context.Background(), []int{1}, one(x.Rows(x.name, []string{"id"}, keys)))
		if err != nil {
			return err
		}
		var files []iceberg.DataFile
		for file, err := range table.WriteRecords(context.Background(), x.Table(x.name), x.Rows(x.name, nil, list).Schema(),
			one(x.Rows(x.name, nil, list))) {
			if err != nil {
				return err
			}
			files = append(files, file)
		}
		return tx.NewRowDelta(nil).AddRows(files...).AddDeletes(deletes...).Commit(context.Background())
	})
}

// hasDeletes tells whether files of deletes are outstanding: iceberg-go forgets them when it writes files anew.
func (x *lent) hasDeletes() bool {
	tasks, err := x.Table(x.name).Scan().PlanFiles(context.Background())
	require.NoError(x.T(), err)
	return slices.ContainsFunc(tasks, func(t table.FileScanTask) bool {
		return len(t.DeleteFiles)+len(t.EqualityDeleteFiles)+len(t.DeletionVectorFiles) > 0
	})
}

// remove deletes rows by a filter, as the table's properties have it.
func (x *lent) remove(below int64) {
	if x.name == "by_copy" && x.hasDeletes() {
		x.compact()
	}
	x.Commit(x.name, func(tx *table.Transaction) error {
		return tx.Delete(context.Background(), iceberg.LessThan(iceberg.Reference("id"), below), nil)
	})
}

// overwrite writes the rows from some id on anew, with those that are as they were, and others.
func (x *lent) overwrite(from int64, copyOf string) {
	if x.hasDeletes() {
		x.compact()
	}
	var list []map[string]any
	for id, was := range x.model {
		if id%3 == 0 {
			was = copyOf
		}
		if id >= from {
			list = append(list, x.row(id, was))
		}
	}
	if list == nil {
		return
	}
	x.Commit(x.name, func(tx *table.Transaction) error {
		record := x.Rows(x.name, nil, list)
		reader, err := array.NewRecordReader(record.Schema(), []arrow.RecordBatch{record})
		if err != nil {
			return err
		}
		return tx.Overwrite(context.Background(), reader, nil,
			table.WithOverwriteFilter(iceberg.GreaterThanEqual(iceberg.Reference("id"), from)))
	})
}

// compact puts all files together.
func (x *lent) compact() {
	tasks, err := x.Table(x.name).Scan().PlanFiles(context.Background())
	require.NoError(x.T(), err)
	if len(tasks) > 0 {
		x.Commit(x.name, func(tx *table.Transaction) error {
			_, err := tx.RewriteDataFiles(context.Background(), []table.CompactionTaskGroup{{Tasks: tasks}},
				table.RewriteDataFilesOptions{})
			return err
		})
	}
}

// What other programs do to the tables of a lake arrives, each snapshot as a change of its own: appended, deleted by
// key
// or by place or by vectors, written anew with rows that are as they were, put together.
//
// Longer than a screen: it is one story of a lake.
func TestALakeIsFollowed(t *testing.T) {
	raceless(t)
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			b, lake := openForeign(t, kind)
			made := map[string]iceberg.Properties{
				"by_copy":   {table.PropertyFormatVersion: "2", "write.delete.mode": "copy-on-write"},
				"by_place":  {table.PropertyFormatVersion: "2", "write.delete.mode": "merge-on-read"},
				"by_vector": {table.PropertyFormatVersion: "3", "write.delete.mode": "merge-on-read"}}
			var tables []*lent
			var feeds []feed.Table
			for _, name := range slices.Sorted(maps.Keys(made)) {
				lake.Create(name, loansInLake, made[name])
				x := &lent{Lake: lake, name: name, model: map[int64]string{}}
				x.add([]int64{1, 2, 3, 4, 5, 6, 7, 8, 9}, "first", nil)
				x.read()
				tables = append(tables, x)
				feeds = append(feeds, feed.Table{Table: "kept." + name, Keep: feed.KeepHistory, Target: "brought." + name})
			}
			f := newFollower(t, b, feeds...)
			f.catchUp()
			seed := rand.Uint64()
			t.Logf("seed %d", seed)
			r := rand.New(rand.NewPCG(seed, 1))
			for round := range 4 {
				for n := range 12 {
					x := tables[r.IntN(len(tables))]
					ids := make([]int64, 1+r.IntN(6))
					for i := range ids {
						ids[i] = r.Int64N(60)
					}
					slices.Sort(ids)
					ids = slices.Compact(ids)
					text := fmt.Sprintf("%d %d", round, n)
					switch r.IntN(6) {
					case 0, 1:
						x.add(ids, text, nil)
					case 2:
						x.replace(ids, text)
					case 3:
						x.remove(ids[0] / 3)
					case 4:
						x.overwrite(ids[0], text)
					default:
						x.compact()
					}
					x.read()
				}
				f.catchUp()
				for _, x := range tables {
					require.NoError(t, f.held("kept."+x.name))
					want := []string{}
					for id, copyOf := range x.model {
						want = append(want, fmt.Sprintf("%d | %s | %d.25", id, copyOf, id))
					}
					slices.Sort(want)
					got := f.see("SELECT id, copy, CAST(fee AS VARCHAR) FROM brought." + x.name + " WHERE nm_current")
					slices.Sort(got)
					require.Equal(t, want, got, x.name)
					require.Equal(t, []string{fmt.Sprint(x.versions)}, f.see("SELECT count(*) FROM brought."+x.name),
						"each snapshot has made its versions in %s", x.name)
				}
			}
		})
	}
}

// A lake is followed while it is written, by runs that are stopped at random, with tables that are copied meanwhile.
// At the end
// all is equal, and histories have no version that never was, nor two at once.
//
// Longer than a screen: it is one story of a lake.
func TestALakeIsFollowedWhileItIsWritten(t *testing.T) {
	b, lake := openForeign(t, kinds[rand.IntN(2)])
	var tables []*lent
	var feeds []feed.Table
	was := map[string]map[string]bool{} // by table: rows that ever were
	for i, name := range []string{"first", "second", "third"} {
		lake.Create(name, loansInLake, iceberg.Properties{table.PropertyFormatVersion: fmt.Sprint(2 + i%2),
			"write.delete.mode": "merge-on-read"})
		tables = append(tables, &lent{Lake: lake, name: name, model: map[int64]string{}})
		feeds = append(feeds, feed.Table{Table: "kept." + name, Keep: feed.KeepHistory, Target: "brought." + name})
		was[name] = map[string]bool{}
	}
	seed := rand.Uint64()
	t.Logf("%s, seed %d", b.kind, seed)
	r := rand.New(rand.NewPCG(seed, 1))
	change := func(n int) {
		x := tables[r.IntN(len(tables))]
		ids := []int64{r.Int64N(80), r.Int64N(80) + 80}
		switch text := fmt.Sprint(n); r.IntN(6) {
		case 0, 1:
			x.add(ids, text, nil)
		case 2, 3:
			x.replace(ids, text)
		case 4:
			x.remove(ids[0] / 6)
		default:
			x.compact()
		}
		x.read()
		for id, copyOf := range x.model {
			was[x.name][fmt.Sprint(id, " ", copyOf)] = true
		}
	}
	length := 8 * time.Second
	if long, err := time.ParseDuration(os.Getenv("NOEMATA_TORTURE")); err == nil {
		length = long
	}
	until, stopped := time.Now().Add(length), make(chan int)
	go func() {
		n := 0
		for ; time.Now().Before(until); n++ {
			change(n)
			time.Sleep(time.Duration(r.IntN(40)) * time.Millisecond)
		}
		stopped <- n
	}()
	f := newFollower(t, b, feeds[0])
	runs := 0
	for commits := -1; commits < 0; runs++ {
		if runs == 3 {
			b.feed.Tables = feeds
			for i := range feeds {
				feeds[i].Find = feed.FindLog
			}
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Duration(50+rand.IntN(1500))*time.Millisecond)
		w := f.work()
		w.Until = make(chan struct{})
		_, err := f.engine.Follow(ctx, w)
		cancel()
		require.True(t, err == nil || problem.Is(err, problem.Stopped) || problem.Is(err, problem.Overtaken), "%v", err)
		select {
		case commits = <-stopped:
			t.Logf("%d commits, %d runs", commits, runs)
		default:
		}
	}
	f.catchUp()
	for _, x := range tables {
		require.NoError(t, f.held("kept."+x.name))
		want := []string{}
		for id, copyOf := range x.model {
			want = append(want, fmt.Sprintf("%d | %s", id, copyOf))
		}
		slices.Sort(want)
		got := f.see("SELECT id, copy FROM brought." + x.name + " WHERE nm_current")
		slices.Sort(got)
		require.Equal(t, want, got, x.name)
		for _, row := range f.see("SELECT DISTINCT id || ' ' || copy FROM brought." + x.name) {
			require.True(t, was[x.name][row], "%s was never in %s", row, x.name)
		}
		require.Equal(t, []string{"0"},
			f.see(fmt.Sprintf("SELECT count(*) FROM brought.%s a JOIN brought.%[1]s b ON a.id = b.id AND "+
				"a.nm_from < b.nm_from WHERE a.nm_until > b.nm_from OR a.nm_until IS NULL", x.name)))
	}
}

// What a lake's program does that cannot be followed holds the table, with the reason, and no other.
func TestALakeThatCannotBeFollowed(t *testing.T) {
	raceless(t)
	b, lake := openForeign(t, kinds[0])
	var tables []feed.Table
	all := map[string]*lent{}
	for _, name := range []string{"anew", "dropped", "expired", "fine", "retyped", "twice", "widened"} {
		lake.Create(name, loansInLake, iceberg.Properties{table.PropertyFormatVersion: "2"})
		all[name] = &lent{Lake: lake, name: name, model: map[int64]string{}}
		all[name].add([]int64{1, 2, 3}, "first", nil)
		tables = append(tables, feed.Table{Table: "kept." + name, Keep: feed.KeepLatest, Target: "brought." + name,
			Drift: &feed.Drift{Columns: drift.Follow}})
	}
	f := newFollower(t, b, tables...)
	f.catchUp()
	for _, x := range all {
		x.add([]int64{4}, "second", nil)
	}
	lake.Create("anew", loansInLake, iceberg.Properties{table.PropertyFormatVersion: "2"})
	lake.Drop("dropped")
	all["expired"].add([]int64{5}, "third", nil)
	lake.Commit("expired", func(tx *table.Transaction) error {
		return tx.ExpireSnapshots(table.WithRetainLast(1), table.WithOlderThan(0))
	})
	lake.Commit("twice", func(tx *table.Transaction) error {
		return lake.Append(tx, lake.Rows("twice", nil, []map[string]any{{"id": 9, "copy": "a"}, {"id": 9, "copy": "b"}}), nil)
	})
	lake.Commit("retyped", func(tx *table.Transaction) error {
		return tx.UpdateSchema(true, true).UpdateColumn([]string{"fee"}, table.ColumnUpdate{
			FieldType: iceberg.Optional[iceberg.Type]{Val: iceberg.DecimalTypeOf(12, 2), Valid: true}}).Commit()
	})
	lake.Commit("widened", func(tx *table.Transaction) error {
		return tx.UpdateSchema(true, true).AddColumn([]string{"branch"}, iceberg.PrimitiveTypes.String, "", false,
			nil).Commit()
	})
	f.catchUp()
	for name, says := range map[string]string{
		"anew": "is another than", "dropped": "does not exist", "expired": "have expired",
		"twice":   "2 rows with the key (id) = (9)",
		"retyped": "fee is DECIMAL(8,2)",
	} {
		err := f.held("kept." + name)
		require.ErrorContains(t, err, says, name)
		require.NotEmpty(t, problem.Of(err).Remedy, name)
	}
	for _, name := range []string{"fine", "widened"} {
		require.NoError(t, f.held("kept."+name), name)
		require.Equal(t, []string{"4"}, f.see("SELECT count(*) FROM brought."+name), name)
	}
	lake.Commit("widened", func(tx *table.Transaction) error {
		return lake.Append(tx, lake.Rows("widened", nil, []map[string]any{{"id": 7, "branch": "Grünau"}}), nil)
	})
	f.catchUp()
	require.Equal(t, []string{"1 | ~", "7 | Grünau"},
		f.see("SELECT id, coalesce(branch, '~') FROM brought.widened WHERE id IN (1, 7) ORDER BY id"))

	// A copy compares: what is there again arrives, and rows that are equal stay as they are.
	require.NoError(t, engine.CopyAgain(t.Context(), b.feed, []string{"kept.expired"}, b.source, b.warehouse))
	f.catchUp()
	require.Equal(t, []string{"5"}, f.see("SELECT count(*) FROM brought.expired"))
}

// What several tables were changed by at once is never seen apart, also when much is read again after a pause.
func TestALakesTablesMoveTogether(t *testing.T) {
	b, lake := openForeign(t, kinds[0])
	var feeds []feed.Table
	tables := map[string]*lent{}
	for _, name := range []string{"loans", "holds"} {
		lake.Create(name, loansInLake, iceberg.Properties{table.PropertyFormatVersion: "2"})
		tables[name] = &lent{Lake: lake, name: name, model: map[int64]string{}}
		feeds = append(feeds, feed.Table{Table: "kept." + name, Keep: feed.KeepLatest, Target: "brought." + name})
	}
	f := newFollower(t, b, feeds...)
	f.catchUp()
	w := f.work()
	until := make(chan struct{})
	w.Until, w.CutBytes = until, 400 // a cut after each commit
	done := make(chan error, 1)
	go func() {
		_, err := f.engine.Follow(context.Background(), w)
		done <- err
	}()
	for n := range int64(40) {
		lake.Staging = map[string]string{}
		for _, name := range []string{"loans", "holds"} {
			tables[name].add([]int64{n}, "both", iceberg.Properties{lakefiles.CommitProperty: fmt.Sprint("c", n)})
		}
		lake.Move()
		got := f.see("SELECT (SELECT count(*) FROM brought.loans), (SELECT count(*) FROM brought.holds)")
		var loans, holds int
		_, err := fmt.Sscanf(got[0], "%d | %d", &loans, &holds)
		require.NoError(t, err)
		require.Equal(t, loans, holds)
	}
	require.Eventually(t, func() bool {
		return f.see("SELECT count(*) FROM brought.loans")[0] == "40"
	}, time.Minute, 50*time.Millisecond)
	close(until)
	require.NoError(t, <-done)
}
