package engine_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/engine"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/mysql"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/testkit"
	"noemata/internal/testkit/hostile"
	"noemata/internal/testkit/torture"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/lake"
)

// Concurrent transactions of every kind of change, while runs are stopped and connections
// cut at random instants: at checkpoints each table is what the source's own record of
// changes says it must be.
func TestTorture(t *testing.T) {
	for _, kind := range append(someKinds(), inBucket) {
		t.Run(kind, func(t *testing.T) {
			b := newWorkbench(t, duckdb.Kind)
			if b.kind = kind; kind == inBucket { // which fails in all ways that such servers have
				b.kind, b.warehouse = lake.Kind, lakeInBucket(t, 80)
			} else {
				b.warehouse = openWarehouse(t, kind)
			}
			s, err := torture.New(context.Background(), testkit.Postgres(t).URL(b.settings.Database))
			require.NoError(t, err)
			tortured(t, b, s, "public", func() {
				b.exec(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'noemata ` +
					`reader' AND random() < 0.5`)
			})
		})
	}
}

const inBucket = "lake in a bucket"

// tortured follows a source while it is written, and judges what becomes of it.
func tortured(t *testing.T, b *workbench, s *torture.Source, database string, cut func()) {
	defer s.Close()
	ctx := context.Background()
	var tables []feed.Table
	for _, keep := range torture.Keeps {
		for _, name := range torture.Tables(keep) {
			x := feed.Table{Table: database + `."` + doubled(name) + `"`, Keep: feed.Keep(keep), Target: `kept."` +
				doubled(name) + `"`}
			if b.kind == lake.Kind && rand.IntN(2) == 0 {
				x.Partition = []string{"bucket(2, branch)"}
			}
			tables = append(tables, x)
		}
	}
	// The first table is followed before anybody writes: a slot that is made while a
	// transaction that truncates is open may be one that a PostgreSQL server of version 15
	// cannot decode. The other tables are then added to a running feed.
	newFollower(t, b, tables[0]).catchUp()
	f := newFollower(t, b, tables...)
	f.feed.Retain = &feed.Retain{Behind: "1d"}
	var places []position.Position // that the feed has come to
	defer besideHostiles(t, b)()
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 0))
	short := 15 * time.Second
	if testing.Short() {
		short /= 4
	}
	length, long, err := s.Length(short)
	require.NoError(t, err)
	ends := time.Now().Add(length)
	for round := 1; time.Now().Before(ends); round++ {
		back := ""
		if len(places) > 0 { // what is read again comes to the same, while it is disturbed, too
			p := places[r.IntN(len(places))]
			require.NoError(t, b.warehouse.Journal().SetPosition(ctx, f.feed.Name, "", &p))
			back = fmt.Sprintf(", set back to %s", p)
		}
		s.Start(6)
		for until := time.Now().Add(long/2 + time.Duration(r.Int64N(int64(long)))); time.Now().Before(until); {
			f.disturbed(r, cut)
		}
		s.Pause()
		f.settle()
		if round == 1 {
			require.NoError(t, s.Mark(ctx))
		}
		begun := time.Now()
		faults, err := s.Judge(ctx, func(sql string) ([][]string, error) { return asTexts(f, sql) })
		require.NoError(t, err)
		t.Logf("round %d: %d transactions, judged in %v%s", round, s.Count, time.Since(begun), back)
		stands, err := b.warehouse.Journal().Checkpoint(ctx, f.feed.Name, "")
		require.NoError(t, err)
		places = append(places, stands.Position)
		for _, fault := range faults {
			t.Log(s.Explain(ctx, fault))
		}
		require.Empty(t, faults, "round %d, after %d transactions; set aside: %s", round, s.Count,
			f.see("SELECT source_table, key, reason FROM noemata.set_aside"))
	}
	t.Logf("%d transactions; refused: %v", s.Count, s.Errors)
}

// The same with a MariaDB source, whose writers choose what the log tells of a row, commit
// some of their transactions in two phases, and begin new files of the log.
func TestTortureOfMariaDB(t *testing.T) {
	for _, kind := range someKinds() {
		t.Run(kind, func(t *testing.T) {
			b := newMariaBench(t, kind)
			judge, _ := testkit.Database(t)
			s, err := torture.NewMariaDB(context.Background(), b.db, testkit.Postgres(t).URL(judge.Database))
			require.NoError(t, err)
			b.exec("SET GLOBAL log_bin_compress = " + oneOf("ON", "OFF"))
			tortured(t, b.workbench, s, b.settings.Database, func() {
				b.exec("BEGIN NOT ATOMIC FOR c IN (SELECT id FROM information_schema.PROCESSLIST WHERE COMMAND = " +
					"'Binlog Dump' OR INFO LIKE '/* noemata reader%') DO KILL c.id; END FOR; END")
			})
		})
	}
}

// someKinds are all kinds of warehouse; one of them at random where the race detector makes each long.
func someKinds() []string {
	if testing.Short() {
		return []string{oneOf(kinds...)}
	}
	return kinds
}

// oneOf is one of some at random: what takes long is not done with all of them each time.
func oneOf(list ...string) string { return list[rand.IntN(len(list))] }

// The same with a MySQL source.
func TestTortureOfMySQL(t *testing.T) {
	some := []string{oneOf(kinds...)}
	if os.Getenv("NOEMATA_TORTURE") != "" {
		some = kinds
	}
	for _, kind := range some {
		t.Run(kind, func(t *testing.T) {
			b := newMySQLBench(t, kind)
			judge, _ := testkit.Database(t)
			s, err := torture.NewMySQL(context.Background(), b.db, testkit.Postgres(t).URL(judge.Database))
			require.NoError(t, err)
			tortured(t, b.workbench, s, b.settings.Database, func() {
				found, err := b.db.Query("SELECT ID FROM information_schema.PROCESSLIST WHERE COMMAND LIKE " +
					"'Binlog Dump%' OR INFO LIKE '/* noemata reader%'")
				require.NoError(t, err)
				defer func() { _ = found.Close() }()
				for found.Next() {
					var id int64
					require.NoError(t, found.Scan(&id))
					_, _ = b.db.Exec(fmt.Sprintf("KILL %d", id))
				}
			})
		})
	}
}

// besideHostiles has the same engine read servers that do not do what their protocol says,
// until the test ends. Their runs may fail with whatever problem there is, but for a fault of
// our own, and each of them ends.
func besideHostiles(t *testing.T, b *workbench) (end func()) {
	ctx, stop := context.WithCancel(context.Background())
	first, again := []byte{'E', 0x7f, 0xff, 0xff, 0xff}, []byte("S")
	if _, own := b.source.(*pgsource.Source); !own {
		first, again = []byte{0xff, 0xff, 0xff, 0, 10}, []byte("5.5.5-")
	}
	garbled := hostile.Garbled(t, fmt.Sprintf("127.0.0.1:%d", b.settings.Port), garble(20))
	table := b.feed.Tables[0]
	var group sync.WaitGroup
	ends := map[string]*atomic.Int64{}
	beside := func(name string, port int, find feed.Find) {
		settings := b.settings
		settings.Port = port
		src, err := b.open(settings, "source "+name)
		require.NoError(t, err)
		t.Cleanup(src.Close)
		wh := openWarehouse(t, duckdb.Kind)
		table := feed.Table{Table: table.Table, Find: find, Keep: feed.KeepLatest, Target: "kept.beside"}
		if find == feed.FindWhole {
			table.Keep = feed.KeepReplace
		}
		x := &feed.Feed{Name: name, Source: "hostile", Warehouse: "lake", Tables: []feed.Table{table}}
		t.Cleanup(func() { _ = engine.DropLog(context.Background(), x, b.source, wh) })
		ended := &atomic.Int64{}
		ends[name] = ended
		group.Go(func() {
			for run := int64(1); ctx.Err() == nil; run++ {
				limited, cancel := context.WithTimeout(ctx, time.Minute)
				var err error
				if find == feed.FindLog {
					_, err = b.engine.Follow(limited, engine.LogWork{Feed: x, Run: run, Source: src, Warehouse: wh})
				} else {
					_, err = b.engine.Run(limited,
						engine.Work{Feed: x, Table: table, Run: run, Source: src, Warehouse: wh})
				}
				cancel()
				ended.Add(1)
				noFault(t, name, err)
				time.Sleep(time.Second)
			}
		})
	}
	beside("mute", hostile.Mute(t), feed.FindLog)
	beside("endless", hostile.Endless(t, first, bytes.Repeat(again, 10_000)), feed.FindLog)
	beside("garbled-log", garbled, feed.FindLog)
	beside("garbled-whole", garbled, feed.FindWhole)
	return func() {
		stop()
		group.Wait()
		for name, n := range ends {
			t.Logf("%d runs beside, of the hostile server %s", n.Load(), name)
			require.Positive(t, n.Load(), name)
		}
	}
}

// garble changes a byte in one of so many chunks.
func garble(every int) func(chunk []byte) []byte {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	var mu sync.Mutex
	return func(chunk []byte) []byte {
		mu.Lock()
		defer mu.Unlock()
		if r.IntN(every) == 0 {
			chunk[r.IntN(len(chunk))] = byte(r.Uint32())
		}
		return chunk
	}
}

// noFault fails the test where a run met something that it should have checked.
func noFault(t *testing.T, what string, err error) {
	var fault *problem.Panic
	if errors.As(err, &fault) {
		t.Errorf("%s: %v\n%s", what, err, fault.Stack)
	}
}

// Whatever byte of what a server says is another one, runs of every kind end, and with a
// problem of the server's.
func TestGarbledServers(t *testing.T) {
	length := 10 * time.Second
	if text := os.Getenv("NOEMATA_TORTURE"); text != "" {
		var err error
		length, err = time.ParseDuration(text)
		require.NoError(t, err)
	}
	garbled := func(b *workbench, table string, open func(connection.Settings, string) (source.Source, error)) {
		b.t.Helper()
		settings := b.settings
		settings.TLS = connection.TLSOff // a byte that is another one would end TLS
		settings.Port = hostile.Garbled(b.t, fmt.Sprintf("127.0.0.1:%d", b.settings.Port), garble(12))
		src, err := open(settings, "source garbled")
		require.NoError(b.t, err)
		defer src.Close()
		x := &feed.Feed{Name: "garbled", Source: "garbled", Warehouse: "lake"}
		b.t.Cleanup(func() { _ = engine.DropLog(context.Background(), x, b.source, b.warehouse) })
		ended, done := map[bool]int{}, map[string]int{}
		for end := time.Now().Add(length); time.Now().Before(end); b.run++ {
			// A length that is another one is waited for.
			ctx, cancel := context.WithTimeout(context.Background(), 4*time.Second)
			of := feed.Table{Table: table, Target: "kept.of_" +
				string([]feed.Find{feed.FindWhole, feed.FindWatermark, feed.FindLog}[b.run%3])}
			switch b.run % 3 {
			case 0:
				of.Find, of.Keep = feed.FindWhole, feed.KeepReplace
			case 1:
				of.Find, of.Keep, of.Watermark = feed.FindWatermark, feed.KeepLatest, &feed.Watermark{Column: "at"}
				require.NoError(b.t, b.warehouse.Journal().SetPosition(ctx, x.Name, table, nil))
			default:
				of.Find, of.Keep = feed.FindLog, feed.KeepHistory
			}
			x.Tables = []feed.Table{of}
			if of.Find == feed.FindLog && b.run%2 == 0 {
				require.NoError(b.t, engine.CopyAgain(ctx, x, []string{table}, b.source, b.warehouse))
			}
			if of.Find == feed.FindLog {
				_, err = b.engine.Follow(ctx, engine.LogWork{Feed: x, Run: b.run, Source: src, Warehouse: b.warehouse})
			} else {
				_, err = b.engine.Run(ctx,
					engine.Work{Feed: x, Table: of, Run: b.run, Source: src, Warehouse: b.warehouse})
			}
			cancel()
			ended[err == nil]++
			if err != nil {
				done[string(problem.Of(err).Code)]++
			}
			noFault(b.t.(*testing.T), string(of.Find), err)
		}
		b.t.Logf("%s: %d runs were not harmed, %d ended with problems: %v", table, ended[true], ended[false], done)
		require.Positive(b.t, ended[false])
	}
	t.Run("postgresql", func(t *testing.T) {
		b := newWorkbench(t, duckdb.Kind)
		b.exec(extremesFor(b.conn))
		garbled(b, "public.extremes", pgsource.Open)
	})
	t.Run("mariadb", func(t *testing.T) {
		b := newMariaBench(t, duckdb.Kind)
		b.exec(mariaExtremes)
		garbled(b.workbench, b.table("extremes"), mariadb.Open)
	})
	t.Run("mysql", func(t *testing.T) {
		b := newMySQLBench(t, duckdb.Kind)
		b.exec(`SET SESSION sql_mode = '', time_zone = '+00:00'; ` + mysqlTypes)
		garbled(b.workbench, b.table("extremes"), mysql.Open)
	})
}

func doubled(name string) string {
	out := ""
	for _, r := range name {
		if r == '"' {
			out += `"`
		}
		out += string(r)
	}
	return out
}

func asTexts(f *follower, sql string) ([][]string, error) {
	found, err := f.warehouse.(testkit.Asker).Ask(context.Background(), sql)
	var out [][]string
	for _, row := range found {
		texts := make([]string, len(row))
		for i, v := range row {
			if v != nil {
				texts[i] = fmt.Sprint(v)
			}
		}
		out = append(out, texts)
	}
	return out, err
}

// disturbed runs the feed for a while, and ends it in one of several ways.
func (f *follower) disturbed(r *rand.Rand, cut func()) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	w := f.work()
	until := make(chan struct{})
	w.Until = until
	w.CutBytes = int64(1+r.IntN(400)) << 10
	done := make(chan error, 1)
	go func() {
		_, err := f.engine.Follow(ctx, w)
		done <- err
	}()
	wait := time.After(time.Duration(r.IntN(1500)) * time.Millisecond)
	select {
	case err := <-done:
		f.bearable(err)
		return
	case <-wait:
	}
	switch r.IntN(4) {
	case 0:
		close(until)
	case 1:
		cancel()
	case 2: // a connection to the source, or to the warehouse, is cut
		cut()
	default:
		_, err := testkit.Connect(f.t, testkit.Postgres(f.t).URL("postgres")).Exec(ctx,
			`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'noemata writer' AND `+
				`random() < 0.5`)
		f.bearable(err)
	}
	select {
	case err := <-done:
		f.bearable(err)
	case <-time.After(300 * time.Millisecond):
		cancel()
		<-done
	}
}

// bearable lets pass what follows from stopping runs and cutting connections, and nothing
// else: books that do not balance, or a table that is held, are faults.
func (f *follower) bearable(err error) {
	f.t.Helper()
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return
	}
	switch problem.Of(err).Code {
	case problem.Stopped, problem.Unreachable, problem.Overtaken, problem.Busy:
		f.t.Logf("a run ended: %v", err)
		return
	}
	if fault := (*problem.Panic)(nil); errors.As(err, &fault) {
		f.t.Logf("%s", fault.Stack)
	}
	// More columns than the usual memory has room for.
	if strings.Contains(err.Error(), "The next run opens the file with") || strings.Contains(err.Error(),
		"The next run has") {
		f.t.Logf("a run ended: %v", err)
		return
	}
	require.NoError(f.t, err)
}

// settle brings the feed to the end of the log, whatever it takes.
func (f *follower) settle() {
	f.t.Helper()
	var err error
	for range 20 {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
		var report engine.LogReport
		report, err = f.engine.Follow(ctx, f.work())
		cancel()
		if err == nil {
			for _, t := range report.Tables {
				require.NoError(f.t, t.Trouble, t.Table)
			}
			return
		}
		f.bearable(err)
		time.Sleep(200 * time.Millisecond)
	}
	require.NoError(f.t, err)
}
