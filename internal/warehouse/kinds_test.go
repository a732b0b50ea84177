package warehouse_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/testkit"
	"noemata/internal/testkit/plain"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/lake"
	"noemata/internal/warehouse/postgres"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// onEach runs a test on a warehouse of each kind.
func onEach(t *testing.T, test func(t *testing.T, w warehouse.Warehouse)) {
	t.Run(duckdb.Kind, func(t *testing.T) {
		w, err := duckdb.Open(connection.Settings{Path: filepath.Join(testkit.Dir(t), "lake.duckdb")},
			`warehouse "lake"`)
		require.NoError(t, err)
		defer w.Close()
		test(t, w)
	})
	t.Run(plain.Kind, func(t *testing.T) { test(t, plain.New()) })
	t.Run(postgres.Kind, func(t *testing.T) {
		settings, _ := testkit.Database(t)
		w, err := postgres.Open(settings, `warehouse "reports"`)
		require.NoError(t, err)
		defer w.Close()
		test(t, w)
	})
	t.Run(lake.Kind, func(t *testing.T) {
		settings, _ := testkit.Database(t)
		settings.Path = filepath.Join(testkit.Dir(t), "lake")
		w, err := lake.Open(settings, `warehouse "lake"`)
		require.NoError(t, err)
		defer w.Close()
		test(t, w)
	})
}

func text(name string) schema.Column {
	return schema.Column{Name: name, Type: schema.Type{Kind: schema.Text}, Native: "text"}
}

func shelf(keep feed.Keep) warehouse.Target {
	columns := []schema.Column{text("branch"),
		{Name: "number", Type: schema.Type{Kind: schema.Int64}, Native: "bigint"}, text("st\"ate")}
	t := warehouse.Target{Name: schema.Name{Schema: `Sh"elf`, Table: "Co pies"}, Keep: keep, Prefix: "nm_",
		Columns: warehouse.ColumnsOf(columns, "nm_", keep, false), Key: []string{"branch", "number"}}
	if keep == feed.KeepReplace {
		t.Key = nil
	}
	return t
}

type copyRow struct {
	branch string
	number int64
	state  *string
}

func (r copyRow) key() string { return fmt.Sprintf("%q %d", r.branch, r.number) }

func (r copyRow) value() string {
	if r.state == nil {
		return "null"
	}
	return fmt.Sprintf("%q", *r.state)
}

// record makes a record of a target's stage.
func record(t warehouse.Target, run int64, list []copyRow, first int64) arrow.RecordBatch {
	columns := t.All()
	if warehouse.NumbersRows(t) {
		columns = warehouse.StageColumns(t)
	}
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	defer b.Release()
	for i, r := range list {
		b.Field(0).(*array.StringBuilder).Append(r.branch)
		b.Field(1).(*array.Int64Builder).Append(r.number)
		if r.state == nil {
			b.Field(2).AppendNull()
		} else {
			b.Field(2).(*array.StringBuilder).Append(*r.state)
		}
		if t.Keep == feed.KeepReplace {
			b.Field(3).(*array.Int64Builder).Append(run)
			continue
		}
		b.Field(3).AppendNull()
		b.Field(4).(*array.Int64Builder).Append(run)
		b.Field(5).(*array.Int64Builder).Append(first + int64(i))
	}
	return b.NewRecordBatch()
}

// held reads what a warehouse holds.
func held(t *testing.T, w warehouse.Warehouse, target warehouse.Target) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, w.Read(context.Background(), warehouse.Query{Target: target, Columns: target.Values()},
		func(r arrow.RecordBatch) error {
			for i := range int(r.NumRows()) {
				row := copyRow{branch: r.Column(0).(*array.String).Value(i),
					number: r.Column(1).(*array.Int64).Value(i)}
				if state := r.Column(2).(*array.String); !state.IsNull(i) {
					s := state.Value(i)
					row.state = &s
				}
				require.NotContains(t, out, row.key(), "a key came twice")
				out[row.key()] = row.value()
			}
			return nil
		}))
	return out
}

// load brings rows in one commit, in several batches and merges.
func load(ctx context.Context, w warehouse.Warehouse, target warehouse.Target, run int64, from warehouse.Checkpoint,
	to string, batches ...[]copyRow) (books rows.Books, next warehouse.Checkpoint, commit warehouse.Commit, err error) {
	if commit, err = w.Begin(ctx); err != nil {
		return books, next, nil, err
	}
	at := position.Position{Value: to}
	if next, err = commit.Move(ctx, "shelves", "copies", from, at, run); err != nil {
		return books, next, commit, err
	}
	part, err := commit.Table(ctx, warehouse.Load{Feed: "shelves", Table: "copies", Target: target, Run: run,
		From: from.Position})
	if err != nil {
		return books, next, commit, err
	}
	first := int64(0)
	for i, list := range batches {
		r := record(target, run, list, first)
		first += int64(len(list))
		err := part.Append(ctx, rows.Batch{Record: r})
		r.Release()
		if err == nil && (i%2 == 1 || i == len(batches)-1) {
			err = part.Merge(ctx, warehouse.Has{})
		}
		if err != nil {
			return books, next, commit, err
		}
	}
	books, err = part.Close(ctx, at)
	return books, next, commit, err
}

// However rows come, and whether commits end or are given up: a warehouse holds the last row
// of each key, its position is that of the last commit, and the books account for each row.
func TestLatestEndsAsTheModel(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		ctx := context.Background()
		target := shelf(feed.KeepLatest)
		prepared(t, w, target)
		prepared(t, w, target, "it may be there already")
		seed := uint64(time.Now().UnixNano())
		t.Logf("seed %d", seed)
		r := rand.New(rand.NewPCG(seed, 0))
		states := []string{"lent", "shelved", "", "lost 'at' sea", "zürück", "null"}
		model := map[string]string{}
		var at warehouse.Checkpoint
		var total rows.Books
		for run := range int64(25) {
			next := maps.Clone(model)
			var batches [][]copyRow
			for range 1 + r.IntN(4) {
				var list []copyRow
				for range r.IntN(40) {
					row := copyRow{branch: []string{"Aldermoor", "aldermoor", "Ælf'gate", ""}[r.IntN(4)],
						number: int64(r.IntN(6)) - 2}
					if n := r.IntN(len(states) + 1); n < len(states) {
						row.state = &states[n]
					}
					list = append(list, row)
					next[row.key()] = row.value()
				}
				batches = append(batches, list)
			}
			books, place, commit, err := load(ctx, w, target, run, at, fmt.Sprint(run), batches...)
			require.NoError(t, err)
			require.True(t, books.Balanced())
			if r.IntN(4) == 0 {
				commit.Abort()
			} else {
				require.NoError(t, commit.Finish(ctx))
				model, at, total = next, place, total.Add(books)
			}
			require.Equal(t, model, held(t, w, target))
			stands, err := w.Journal().Checkpoint(ctx, "shelves", "copies")
			require.NoError(t, err)
			require.Equal(t, []any{at.Position, at.Version}, []any{stands.Position, stands.Version})
		}
		require.EqualValues(t, len(model), total.Inserted)
		n, err := w.Count(ctx, target)
		require.NoError(t, err)
		require.EqualValues(t, len(model), n)
		if _, sql := w.(testkit.Asker); !sql {
			return
		}
		found := testkit.SQL(t, w, "SELECT CAST(sum(rows_read) AS BIGINT), CAST(sum(rows_folded) AS BIGINT), "+
			"CAST(sum(rows_unchanged) AS BIGINT), CAST(sum(rows_inserted) AS BIGINT), CAST(sum(rows_updated) AS "+
			"BIGINT) FROM noemata.loads")
		require.Equal(t, []any{total.Read, total.Folded, total.Unchanged, total.Inserted, total.Updated}, found[0])
	})
}

// A commit reads what it has made of a table, before anybody else sees it.
func TestACommitReadsWhatItHas(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		ctx := context.Background()
		target := shelf(feed.KeepLatest)
		prepared(t, w, target)
		q := warehouse.Query{Target: target, Columns: target.Values(), Holding: true, In: []string{"branch", "number"},
			Values: [][]string{{"Ald'ermoor", "2"}, {"Aldermoor", "7"}, {"nowhere", "1"}}}
		count := func(read func(context.Context, warehouse.Query, func(arrow.RecordBatch) error) error) (n int64) {
			require.NoError(t, read(ctx, q, func(r arrow.RecordBatch) error { n += r.NumRows(); return nil }))
			return n
		}
		_, _, commit, err := load(ctx, w, target, 1, warehouse.Checkpoint{}, "1",
			[]copyRow{{branch: "Ald'ermoor", number: 1}, {branch: "Ald'ermoor", number: 2}, {branch: "Aldermoor", number: 7}})
		require.NoError(t, err)
		defer commit.Abort()
		require.EqualValues(t, 2, count(commit.Read))
		require.Zero(t, count(w.Read))
		require.NoError(t, commit.Finish(ctx))
		require.EqualValues(t, 2, count(w.Read))
	})
}

// Of workers that have read one position, one moves it; what the others brought is not seen.
func TestOneWorkerMovesAPosition(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		ctx := context.Background()
		target := shelf(feed.KeepLatest)
		prepared(t, w, target)
		var at warehouse.Checkpoint
		for round := range 5 {
			var mu sync.Mutex
			var won []int64
			var all sync.WaitGroup
			for worker := range int64(4) {
				all.Go(func() {
					run := int64(round)*10 + worker
					_, _, commit, err := load(ctx, w, target, run, at, fmt.Sprint(run),
						[]copyRow{{branch: "Aldermoor", number: run}})
					if commit != nil {
						defer commit.Abort()
					}
					if err == nil {
						err = commit.Finish(ctx)
					}
					mu.Lock()
					defer mu.Unlock()
					if err == nil {
						won = append(won, run)
					} else if !problem.Is(err, problem.Overtaken) {
						t.Errorf("worker %d: %v", worker, err)
					}
				})
			}
			all.Wait()
			require.Len(t, won, 1, "round %d", round)
			stands, err := w.Journal().Checkpoint(ctx, "shelves", "copies")
			require.NoError(t, err)
			require.Equal(t, fmt.Sprint(won[0]), stands.Position.Value)
			require.EqualValues(t, round+1, stands.Version)
			require.Len(t, held(t, w, target), round+1)
			at = stands
		}
		places, err := w.Journal().Checkpoints(ctx, "shelves")
		require.NoError(t, err)
		require.Len(t, places, 1)
		require.NoError(t, w.Journal().SetPosition(ctx, "shelves", "copies", nil))
		stands, err := w.Journal().Checkpoint(ctx, "shelves", "copies")
		require.NoError(t, err)
		require.True(t, stands.Position.IsZero())
		require.Greater(t, stands.Version, at.Version, "a worker that is under way must notice")
	})
}

// Who reads a table while it is replaced sees the old rows or the new ones, and never none.
func TestReadersSeeAReplacedTableWhole(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		ctx := context.Background()
		target := shelf(feed.KeepReplace)
		prepared(t, w, target)
		fill := func(run int64, n int) {
			var list []copyRow
			state := fmt.Sprint("seen in run ", run)
			for i := range n {
				list = append(list, copyRow{branch: "Aldermoor", number: int64(i), state: &state})
			}
			at, err := w.Journal().Checkpoint(ctx, "shelves", "copies")
			require.NoError(t, err)
			books, _, commit, err := load(ctx, w, target, run, at, fmt.Sprint(run), list)
			if commit != nil {
				defer commit.Abort()
			}
			require.NoError(t, err)
			require.EqualValues(t, n, books.Inserted)
			require.NoError(t, commit.Finish(ctx))
		}
		fill(1, 100)
		reading, stop := context.WithCancel(ctx)
		stopped := make(chan error, 1)
		go func() {
			for reading.Err() == nil {
				n, err := w.Count(ctx, target)
				if err == nil && n != 100 && n != 200 {
					err = fmt.Errorf("a reader saw %d rows", n)
				}
				if err != nil {
					stopped <- err
					return
				}
			}
			stopped <- nil
		}()
		defer func() { // also where filling fails: who reads on keeps the warehouse open for ever
			stop()
			require.NoError(t, <-stopped)
		}()
		for run := range int64(12) {
			fill(run+2, int(100+run%2*100))
		}
	})
}

// A commit whose context ends leaves nothing behind, and the warehouse works on.
func TestACommitThatIsStoppedLeavesNothing(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		target := shelf(feed.KeepLatest)
		prepared(t, w, target)
		var list []copyRow
		for i := range 5000 {
			list = append(list, copyRow{branch: "Aldermoor", number: int64(i)})
		}
		for i := range 40 {
			ctx, stop := context.WithTimeout(context.Background(), time.Duration(i)*time.Millisecond)
			_, _, commit, err := load(ctx, w, target, 1, warehouse.Checkpoint{}, "1", list, list)
			if err == nil {
				err = errors.New("given up")
			}
			require.Error(t, err)
			if commit != nil {
				commit.Abort()
			}
			stop()
		}
		require.Empty(t, held(t, w, target))
		stands, err := w.Journal().Checkpoint(context.Background(), "shelves", "copies")
		require.NoError(t, err)
		require.Zero(t, stands.Version)
		_, _, commit, err := load(context.Background(), w, target, 1, warehouse.Checkpoint{}, "1", list)
		require.NoError(t, err)
		require.NoError(t, commit.Finish(context.Background()))
		require.Len(t, held(t, w, target), 5000)
	})
}

func prepared(t *testing.T, w warehouse.Warehouse, target warehouse.Target, why ...any) {
	t.Helper()
	_, err := w.Prepare(context.Background(), target)
	require.NoError(t, err, why...)
}

// Rows are given values by their key where they have others, and those are ended whose keys are neither
// gathered nor set aside.
func TestRowsAreFilledAndSwept(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		ctx := context.Background()
		target := shelf(feed.KeepLatest)
		target.Sweeps = true
		prepared(t, w, target)
		lent, lost := "lent", "lo'st"
		list := []copyRow{{"Ald'er", 1, nil}, {"Ald'er", 2, &lent}, {`a"b`, 3, nil}, {"", 4, nil}, {"gone", 5, nil}}
		commit, err := w.Begin(ctx)
		require.NoError(t, err)
		begin := func() warehouse.Part {
			part, err := commit.Table(ctx, warehouse.Load{Feed: "shelves", Table: "copies", Target: target, Run: 1})
			require.NoError(t, err)
			return part
		}
		part := begin()
		b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(warehouse.StageColumns(target)))
		for _, row := range list {
			b.Field(0).(*array.StringBuilder).Append(row.branch)
			b.Field(1).(*array.Int64Builder).Append(row.number)
			if row.state == nil {
				b.Field(2).AppendNull()
			} else {
				b.Field(2).(*array.StringBuilder).Append(*row.state)
			}
			b.Field(3).AppendNull()
			b.Field(4).(*array.Int64Builder).Append(1)
			for i := 5; i < len(warehouse.StageColumns(target)); i++ {
				switch f := b.Field(i).(type) {
				case *array.Int64Builder:
					f.Append(row.number)
				case *array.BooleanBuilder:
					f.Append(false)
				default:
					f.AppendEmptyValue()
				}
			}
		}
		require.NoError(t, part.Append(ctx, rows.Batch{Record: b.NewRecordBatch()}))
		require.NoError(t, part.Merge(ctx, warehouse.Has{}))

		keyed := func(n int, list ...copyRow) arrow.RecordBatch {
			b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(target.Values()[:n]))
			for _, row := range list {
				b.Field(0).(*array.StringBuilder).Append(row.branch)
				b.Field(1).(*array.Int64Builder).Append(row.number)
				if n == 3 && row.state != nil {
					b.Field(2).(*array.StringBuilder).Append(*row.state)
				} else if n == 3 {
					b.Field(2).AppendNull()
				}
			}
			return b.NewRecordBatch()
		}
		require.NoError(t, part.AppendFill(ctx, target.Values(), keyed(3, copyRow{"Ald'er", 1, &lost},
			copyRow{"Ald'er", 2, &lent}, copyRow{`a"b`, 3, nil}, copyRow{"", 4, &lent}, copyRow{"not there", 4, &lent})))
		filled, err := part.Fill(ctx, target.Values())
		require.NoError(t, err)
		require.EqualValues(t, 2, filled)

		require.NoError(t, part.AppendKeys(ctx, keyed(2, copyRow{"Ald'er", 1, nil})))
		gone, err := part.Sweep(ctx, 7, []rows.Aside{{Key: `["Ald'er","2"]`}, {Key: `["a\"b","3"]`}, {Key: `["","x"]`},
			{Key: ""}})
		require.NoError(t, err)
		require.EqualValues(t, 2, gone)
		require.NoError(t, part.Merge(ctx, warehouse.Has{Gone: true}))
		books, err := part.Close(ctx, position.Position{})
		require.NoError(t, err)
		require.Equal(t, rows.Books{Read: 7, Inserted: 5, Deleted: 2}, books)
		require.NoError(t, commit.Finish(ctx))
		require.Equal(t, map[string]string{`"Ald'er" 1`: `"lo'st"`, `"Ald'er" 2`: `"lent"`, `"a\"b" 3`: "null"},
			held(t, w, target))
	})
}

// Where a feed had come in its log is kept, and forgotten in time; what a position that is set back has read again is known
// to have been applied, however often it is set.
func TestPlacesInALog(t *testing.T) {
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		ctx, j := t.Context(), w.Journal()
		prepared(t, w, shelf(feed.KeepLatest))
		_, err := j.EnterLog(ctx, "shelves", warehouse.Log{Name: "noemata_shelves", Origin: "library"})
		require.NoError(t, err)
		set := func(to string) string {
			t.Helper()
			require.NoError(t, j.SetPosition(ctx, "shelves", "", &position.Position{Value: to}))
			l, ok, err := j.Log(ctx, "shelves")
			require.NoError(t, err)
			require.True(t, ok)
			return l.ReplaysTo
		}
		require.Empty(t, set("0050"), "it had no position")
		require.Empty(t, set("0070"), "forward")
		require.Equal(t, "0070", set("0030"))
		require.Equal(t, "0070", set("0020"), "further back")
		require.Equal(t, "0070", set("0060"), "forward again")
		require.Equal(t, "0070", set("0040"))

		noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
		for i, at := range []string{"0010", "0020", "0030"} {
			require.NoError(t, j.Note(ctx, "shelves", warehouse.Reached{Forget: noon.Add(time.Duration(i-1) * time.Hour),
				Place: warehouse.Place{Position: at, At: noon.Add(time.Duration(i) * time.Hour)}}))
		}
		for by, want := range map[time.Duration]string{30 * time.Minute: "", 90 * time.Minute: "0020", 2 * time.Hour: "0030"} {
			p, ok, err := j.PlaceAt(ctx, "shelves", noon.Add(by))
			require.NoError(t, err)
			require.Equal(t, want != "", ok, by)
			require.Equal(t, want, p.Position, by)
		}
		_, ok, err := j.PlaceAt(ctx, "others", noon.Add(time.Hour))
		require.NoError(t, err)
		require.False(t, ok)
		require.NoError(t, j.Forget(ctx, "shelves"))
		_, ok, err = j.PlaceAt(ctx, "shelves", noon.Add(9*time.Hour))
		require.NoError(t, err)
		require.False(t, ok)
	})
}
