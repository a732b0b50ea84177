package engine_test

import (
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/source"
	sourcelake "noemata/internal/source/lake"
	"noemata/internal/testkit"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/lake"
)

// A first load of rows as they are, and the same rows hashed, masked, filtered and taken apart:
//
//	go test ./internal/engine -run xxx -bench Shaped -benchtime 3x
func BenchmarkShaped(b *testing.B) {
	const rows = 300_000
	for _, kind := range kinds {
		w := newWorkbench(b, kind)
		w.exec(`CREATE TABLE visits (id bigint PRIMARY KEY, branch text, email text, phone text, fee numeric(8,2), doc jsonb,
			at timestamptz NOT NULL)`)
		w.exec(`INSERT INTO visits SELECT i, 'Grünau', 'reader' || i || '@post.example', '0170' || i, i % 90,
			json_build_object('city', 'Dornheim', 'postal', json_build_object('code', i % 9000), 'floor', i % 9), now()
			FROM generate_series(1, ` + fmt.Sprint(rows) + `) i; ANALYZE visits`)
		plain := feed.Table{Table: "public.visits", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at", Settle: "0s"}}
		shaped := plain
		shaped.Where = `branch == "Grünau" && fee >= 0`
		shaped.Columns = map[string]feed.Treatment{"email": {Hash: "people"},
			"phone": {Mask: feed.MaskKeepLast, Count: 3},
			"doc": {Take: map[string]feed.Path{"city": {Path: "$.city"}, "code": {Path: "$.postal.code", Type: "int32"},
				"floor": {Path: "$.floor", Type: "int32"}}}}
		n := 0
		for _, x := range []struct {
			name  string
			table feed.Table
		}{{"plain", plain}, {"shaped", shaped}} {
			b.Run(kind+"/"+x.name, func(b *testing.B) {
				for range b.N {
					n++
					x.table.Target = fmt.Sprintf("kept.visits_%d", n)
					w.feed.Name = fmt.Sprintf("feed-%d", n)
					out, err := w.engine.Run(b.Context(), w.work(x.table))
					require.NoError(b, err)
					require.EqualValues(b, rows, out.Books.Inserted)
				}
				b.ReportMetric(float64(rows)*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
			})
		}
	}
}

// What large tables cost that are compared, read again in slices, filtered at the source and given columns
// that were chosen later: a table of NOEMATA_BENCH_ROWS rows, one million where that is not said, into DuckDB.
// The peak is of this process, DuckDB included.
func BenchmarkLarge(b *testing.B) {
	rows, err := strconv.ParseInt(cmp.Or(os.Getenv("NOEMATA_BENCH_ROWS"), "1000000"), 10, 64)
	require.NoError(b, err)
	w := newWorkbench(b, duckdb.Kind)
	w.exec(`CREATE TABLE visits (id bigint PRIMARY KEY, branch text, email text, fee numeric(8,2), at timestamptz NOT NULL)`)
	w.exec(fmt.Sprintf(`INSERT INTO visits SELECT i, 'branch ' || i %% 90, 'reader' || i || '@post.example', i %% 90,
		'2026-01-01Z'::timestamptz + i * interval '1 second' FROM generate_series(1, %d) i; CREATE INDEX ON visits (at, id);
		ANALYZE visits`, rows))
	step := func(name string, do func()) {
		b.Run(name, func(b *testing.B) {
			require.NoError(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0))
			b.ResetTimer()
			do()
			b.ReportMetric(b.Elapsed().Seconds(), "s")
			b.ReportMetric(float64(rows)/b.Elapsed().Seconds(), "rows/s")
			b.ReportMetric(peak(b), "MB-peak")
		})
	}
	table := func(name string, find feed.Find) feed.Table {
		t := feed.Table{Table: "public.visits", Find: find, Keep: feed.KeepLatest, Target: "kept." + name}
		if find == feed.FindWatermark {
			t.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
		}
		return t
	}
	run := func(t feed.Table) engine.Outcome {
		w.feed.Name = strings.ReplaceAll(t.Target[5:], "_", "-")
		out, err := w.engine.Run(b.Context(), w.work(t))
		require.NoError(b, err)
		return out
	}
	compared := table("compared", feed.FindCompare)
	step("compare/first", func() { run(compared) })
	step("compare/nothing_changed", func() { require.Zero(b, run(compared).Books) })
	w.exec(`UPDATE visits SET fee = 7777 WHERE id % 100000 = 0; DELETE FROM visits WHERE id % 100000 = 1`)
	step("compare/few_changed", func() { require.EqualValues(b, rows/100000, run(compared).Books.Updated) })

	marked := table("marked", feed.FindWatermark)
	marked.Drop = []string{"email"}
	step("watermark/first", func() { run(marked) })
	step("watermark/backfill", func() {
		_, slices, err := engine.PlanBackfill(b.Context(), w.work(marked), window.Range{Slice: "10d"})
		require.NoError(b, err)
		for i := range slices.Count {
			_, err := w.engine.Backfill(b.Context(), w.work(marked), slices.At(i))
			require.NoError(b, err)
		}
	})
	marked.Drop = nil
	step("watermark/column_chosen_later", func() { require.Contains(b, fmt.Sprint(run(marked).Notes), "by key") })

	for name, where := range map[string]string{"at_source": `fee == decimal("7")`, "here": `fee + 0 == decimal("7")`} {
		rare := table("rare_"+name, feed.FindWatermark)
		rare.Where = where
		step("filter/one_of_90_"+name, func() { run(rare) })
	}
	for name, where := range map[string]string{"at_source": `fee != decimal("7")`, "here": `fee + 0 != decimal("7")`} {
		most := table("most_"+name, feed.FindWatermark)
		most.Where = where
		step("filter/89_of_90_"+name, func() { run(most) })
	}
}

// peak is the most memory that this process has had since it was asked last, in MB (proc(5), status).
func peak(b *testing.B) float64 {
	content, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	_, after, _ := strings.Cut(string(content), "VmHWM:")
	kB, err := strconv.ParseFloat(strings.Fields(after)[0], 64)
	require.NoError(b, err)
	return kB / 1024
}

// What a proof of equal rows costs beside their first load, in one run, for each pair of source and warehouse;
// and what it costs to find, show and repair 20 rows that a hand has spoiled. 3 million rows, or
// NOEMATA_BENCH_ROWS:
//
//	go test ./internal/engine -run xxx -bench Proof -benchtime 1x -timeout 2h
func BenchmarkProof(b *testing.B) {
	rows, err := strconv.ParseInt(cmp.Or(os.Getenv("NOEMATA_BENCH_ROWS"), "3000000"), 10, 64)
	require.NoError(b, err)
	for _, source := range []string{"postgresql", "mariadb"} {
		for _, kind := range kinds {
			b.Run(source+"/"+kind, func(b *testing.B) { benchProof(b, source, kind, rows) })
		}
	}
}

func benchProof(b *testing.B, source, kind string, rows int64) {
	w := newWorkbench(b, kind)
	table := feed.Table{Table: "public.visits", Find: feed.FindWatermark, Keep: feed.KeepLatest, Target: "kept.visits",
		Watermark: &feed.Watermark{Column: "at", Settle: "0s"}}
	const columns = `(id bigint PRIMARY KEY, branch varchar(40), email varchar(60), fee numeric(8,2), at %s NOT NULL)`
	if source == "mariadb" {
		m := newMariaBench(b, kind)
		w = m.workbench
		table.Table = m.settings.Database + ".visits"
		_, err := m.db.Exec(fmt.Sprintf("CREATE TABLE visits "+columns, "datetime(6)"))
		require.NoError(b, err)
		_, err = m.db.Exec(fmt.Sprintf(`INSERT INTO visits SELECT seq, concat('branch ', seq %% 90), concat('reader', seq, '@post.example'),
			seq %% 90, '2026-01-01' + INTERVAL seq SECOND FROM seq_1_to_%d`, rows))
		require.NoError(b, err)
	} else {
		w.exec(fmt.Sprintf("CREATE TABLE visits "+columns, "timestamptz"))
		w.exec(fmt.Sprintf(`INSERT INTO visits SELECT i, 'branch ' || i %% 90, 'reader' || i || '@post.example', i %% 90,
			'2026-01-01Z'::timestamptz + i * interval '1 second' FROM generate_series(1, %d) i; ANALYZE visits`, rows))
	}
	require.NoError(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0))
	b.ResetTimer()
	began := time.Now()
	out, err := w.engine.Run(b.Context(), w.work(table))
	require.NoError(b, err)
	require.EqualValues(b, rows, out.Books.Inserted)
	load := time.Since(began)
	began = time.Now()
	proof, err := engine.Prove(b.Context(), w.work(table))
	require.NoError(b, err)
	require.True(b, proof.Same)
	require.EqualValues(b, rows, proof.Equal)
	prove := time.Since(began)
	testkit.SQL(b, w.warehouse, fmt.Sprintf(`UPDATE kept.visits SET branch = 'by hand' WHERE id %% %d = 0`, rows/20))
	began = time.Now()
	repaired, err := engine.Repair(b.Context(), w.work(table))
	require.NoError(b, err)
	require.Equal(b, []int{20, 0}, []int{repaired.Keys, repaired.Left})
	b.ReportMetric(load.Seconds(), "s/load")
	b.ReportMetric(prove.Seconds(), "s/proof")
	b.ReportMetric(prove.Seconds()/load.Seconds(), "proof/load")
	b.ReportMetric(time.Since(began).Seconds(), "s/repair")
	b.ReportMetric(peak(b), "MB-peak")
	b.ReportMetric(0, "ns/op")
}

// What it costs to merge 100 000 rows that have changed, all over a table of NOEMATA_BENCH_ROWS rows, three million
// where that
// is not said, and what a scan costs then:
//
//	go test ./internal/engine -run xxx -bench MergeIntoLarge -benchtime 1x
func BenchmarkMergeIntoLarge(b *testing.B) {
	rows, err := strconv.ParseInt(cmp.Or(os.Getenv("NOEMATA_BENCH_ROWS"), "3000000"), 10, 64)
	require.NoError(b, err)
	for _, kind := range kinds {
		b.Run(kind, func(b *testing.B) {
			w := newWorkbench(b, kind)
			if kind == lake.Kind {
				w.warehouse = lakeInFolder(b)
			}
			w.exec(fmt.Sprintf(`CREATE TABLE visits (id bigint PRIMARY KEY, branch varchar(40), email varchar(60), fee numeric(8,2), at timestamptz
				NOT NULL); INSERT INTO visits SELECT i, 'branch ' || i %% 90, 'reader' || i || '@post.example', i %% 90, '2026-01-01Z'::timestamptz +
				i * interval '1 second' FROM generate_series(1, %d) i; CREATE INDEX ON visits (at); ANALYZE visits`, rows))
			table := feed.Table{Table: "public.visits", Find: feed.FindWatermark, Keep: feed.KeepLatest, Target: "kept.visits",
				Watermark: &feed.Watermark{Column: "at", Settle: "0s"}}
			measured := func(unit string, work func()) {
				began := time.Now()
				work()
				b.ReportMetric(time.Since(began).Seconds(), unit)
			}
			scan := func() {
				n, err := w.warehouse.Count(b.Context(), warehouse.Target{Name: schema.Name{Schema: "kept", Table: "visits"}})
				require.NoError(b, err)
				require.Equal(b, rows, n)
			}
			brought := func(unit string) (out engine.Outcome) {
				err := errors.New("not yet")
				for tries := 0; err != nil; tries++ { // what is large takes more memory the next time
					measured(unit, func() { out, err = w.engine.Run(b.Context(), w.work(table)) })
					if err != nil {
						b.Log(err)
					}
					require.Less(b, tries, 4)
				}
				return out
			}
			brought("s/load")
			measured("s/scan", scan)
			w.exec(fmt.Sprintf(`UPDATE visits SET branch = 'moved', at = now() WHERE id %% %d = 0`, rows/100_000))
			require.EqualValues(b, 100_000, brought("s/merge").Books.Updated)
			measured("s/scan-after", scan)
			if upkept, is := w.warehouse.(warehouse.Upkept); is {
				measured("s/upkeep", func() { require.NoError(b, upkept.Upkeep(b.Context())) })
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

// What a scan of a lake's table costs after 1,000 commits, or NOEMATA_BENCH_COMMITS, each of which changed, added
// and deleted rows all over it,
// with upkeep after each twentieth, beside one of the same rows that were written at once:
//
//	go test ./internal/engine -run xxx -bench ScanAfterCommits -benchtime 1x
func BenchmarkScanAfterCommits(b *testing.B) {
	w := newWorkbench(b, duckdb.Kind)
	w.kind, w.warehouse = lake.Kind, lakeInFolder(b)
	w.exec(`CREATE TABLE visits (id bigint PRIMARY KEY, branch varchar(40), email varchar(60), fee numeric(8,2), at timestamptz);
		INSERT INTO visits SELECT i, 'branch ' || i % 90, 'reader' || i || '@post.example', i % 90, '2026-01-01Z'::timestamptz +
		i * interval '1 second' FROM generate_series(1, 1000000) i; ANALYZE visits`)
	f := newFollower(b, w, feed.Table{Table: "public.visits", Keep: feed.KeepLatest, Target: "kept.visits"})
	f.catchUp()
	r := rand.New(rand.NewPCG(5, 6))
	var upkeep time.Duration
	commits, err := strconv.Atoi(cmp.Or(os.Getenv("NOEMATA_BENCH_COMMITS"), "1000"))
	require.NoError(b, err)
	for i := range commits {
		w.exec(fmt.Sprintf(`UPDATE visits SET branch = 'moved %d', at = now() WHERE id %% 10007 = %d; DELETE FROM visits WHERE id = %d;
			INSERT INTO visits (id, branch) VALUES (%d, 'new')`, i, r.IntN(10007), 1+r.IntN(1000000), 1000001+i))
		f.catchUp()
		if i%20 == 19 {
			began := time.Now()
			require.NoError(b, w.warehouse.(warehouse.Upkept).Upkeep(b.Context()))
			upkeep += time.Since(began)
		}
	}
	scan := func() time.Duration {
		best := time.Hour
		talk, err := w.warehouse.(warehouse.Answering).Converse(b.Context(), func(string) bool { return true })
		require.NoError(b, err)
		defer talk.Close()
		for range 5 {
			began := time.Now()
			q, err := talk.Prepare(b.Context(), "SELECT count(*), sum(hash(id, branch, email, fee, \"at\")) FROM kept.visits")
			require.NoError(b, err)
			answer, err := talk.Ask(b.Context(), q, nil)
			require.NoError(b, err)
			record, err := answer.Next(b.Context())
			require.NoError(b, err)
			require.NotNil(b, record)
			answer.Close()
			best = min(best, time.Since(began))
		}
		return best
	}
	after := scan()
	require.NoError(b, engine.DropLog(b.Context(), w.feed, w.source, w.warehouse))
	w.feed.Name, w.warehouse = "again", lakeInFolder(b)
	newFollower(b, w, feed.Table{Table: "public.visits", Keep: feed.KeepLatest, Target: "kept.visits"}).catchUp()
	once := scan()
	b.ReportMetric(after.Seconds(), "s/scan-after")
	b.ReportMetric(once.Seconds(), "s/scan-of-one-file")
	b.ReportMetric(after.Seconds()/once.Seconds(), "ratio")
	b.ReportMetric(upkeep.Seconds(), "s/upkeep")
	b.ReportMetric(0, "ns/op")
}

// A first load out of a lake beside one of the same rows out of PostgreSQL, a commit that changes a hundredth of
// them all
// over the table, and a comparison; of NOEMATA_BENCH_ROWS rows, one million where that is not said, into DuckDB:
//
//	go test ./internal/engine -run xxx -bench FromALake -benchtime 1x
func BenchmarkFromALake(b *testing.B) {
	rows, err := strconv.ParseInt(cmp.Or(os.Getenv("NOEMATA_BENCH_ROWS"), "1000000"), 10, 64)
	require.NoError(b, err)
	w := newWorkbench(b, duckdb.Kind)
	w.exec(`CREATE TABLE visits (id bigint PRIMARY KEY, branch text, email text, fee numeric(8,2), at timestamptz NOT NULL)`)
	w.exec(fmt.Sprintf(`INSERT INTO visits SELECT i, 'branch ' || i %% 90, 'reader' || i || '@post.example', i %% 90,
		'2026-01-01Z'::timestamptz + i * interval '1 second' FROM generate_series(1, %d) i; ANALYZE visits`, rows))
	settings, _ := testkit.Database(b)
	settings.Path = filepath.Join(testkit.Dir(b), "lake")
	read, err := sourcelake.Open(settings, `source "archive"`)
	require.NoError(b, err)
	b.Cleanup(read.Close)
	follow := func(name string, src source.Source, wh warehouse.Warehouse, table feed.Table) {
		w.run++
		table.Find, table.Keep = feed.FindLog, feed.KeepLatest
		_, err := w.engine.Follow(b.Context(), engine.LogWork{Feed: &feed.Feed{Name: name, Source: "circulation",
			Warehouse: "lake", Prefix: name + "_",
			Tables: []feed.Table{table}}, Run: w.run, Source: src, Warehouse: wh, Keys: testKeys})
		require.NoError(b, err)
	}
	step := func(name string, do func()) {
		b.Run(name, func(b *testing.B) {
			do()
			b.ReportMetric(b.Elapsed().Seconds(), "s")
			b.ReportMetric(peak(b), "MB-peak")
		})
	}
	kept := lakeOf(b, settings)
	onward := feed.Table{Table: "kept.visits", Target: "onward.visits", Key: []string{"id"}}
	direct := feed.Table{Table: "public.visits", Target: "direct.visits"}
	follow("kept", w.source, kept, feed.Table{Table: "public.visits", Target: "kept.visits"})
	step("load/from_PostgreSQL", func() { follow("direct", w.source, w.warehouse, direct) })
	step("load/from_the_lake", func() { follow("onward", read, w.warehouse, onward) })
	w.exec("UPDATE visits SET fee = 7777 WHERE id % 100 = 0")
	follow("kept", w.source, kept, feed.Table{Table: "public.visits", Target: "kept.visits"})
	step("change/from_PostgreSQL", func() { follow("direct", w.source, w.warehouse, direct) })
	step("change/from_the_lake", func() { follow("onward", read, w.warehouse, onward) })
}
