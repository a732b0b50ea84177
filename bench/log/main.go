// Command log measures how long changes take from a PostgreSQL source into a warehouse,
// from the start of the writes, side by side with what the servers' own programs need for
// the same writes: pg_recvlogical, which throws the log away, and a subscription, which
// applies it to another server. Two servers on loopback, one run; the machine's speed
// varies, so the ratios count.
//
//	go run ./bench/log -rows 1000000 -dir /dev/shm
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/engine"
	"noemata/internal/pgserver"
	"noemata/internal/source"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

func main() {
	rows := flag.Int("rows", 1_000_000, "rows of the table, and updates of each workload")
	dir := flag.String("dir", os.TempDir(), "where the servers keep their data")
	only := flag.String("only", "", "only this contender")
	rounds := flag.Int("rounds", 5, "how often all is measured")
	steady := flag.Duration("steady", 0,
		"instead, write 1000 transactions a second for so long, and tell when they are visible")
	flag.Parse()
	if err := run(context.Background(), *rows, *rounds, *dir, *only, *steady); err != nil {
		log.Fatal(err)
	}
}

type bench struct {
	rows           int
	dir            string
	source, target *pgserver.Server
	conn, other    *pgx.Conn
}

const columns = `id bigint PRIMARY KEY, patron_id bigint, copy text, branch text, lent_at timestamptz, due_on date, ` +
	`fee numeric(8,2), renewals int, note text, updated_at timestamptz`

// workload is what is written: statements, each a transaction.
type workload struct {
	name       string
	statements []string
}

func run(ctx context.Context, rows, rounds int, parent, only string, steady time.Duration) error {
	dir, err := os.MkdirTemp(parent, "noemata-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	b := &bench{rows: rows, dir: dir}
	settings := map[string]string{"wal_level": "logical", "shared_buffers": "256MB", "max_wal_size": "4GB",
		"max_replication_slots": "20", "max_wal_senders": "20", "checkpoint_timeout": "30min"}
	for _, s := range []struct {
		name string
		into **pgserver.Server
		conn **pgx.Conn
	}{{"source", &b.source, &b.conn}, {"target", &b.target, &b.other}} {
		if *s.into, err = pgserver.Start(ctx,
			pgserver.Options{Dir: filepath.Join(dir, s.name), Settings: settings}); err != nil {
			return err
		}
		defer func() { _ = (*s.into).Stop() }()
		if err := (*s.into).CreateDatabase(ctx, "bench"); err != nil {
			return err
		}
		if *s.conn, err = pgx.Connect(ctx, (*s.into).URL("bench")); err != nil {
			return err
		}
	}
	for _, sql := range []string{
		"CREATE TABLE loans (" + columns + ")",
		fmt.Sprintf(`INSERT INTO loans SELECT i, i %% 20000, 'C' || i, 'Brückenmarkt', '2026-01-01Z'::timestamptz + `+
			`i * interval '1 s', '2026-02-01', (i %% 700) / 100.0, i %% 3, repeat('x', (i %% 40)::int), now() FROM `+
			`generate_series(1, %d) i`, rows),
		"CREATE PUBLICATION bench FOR TABLE loans",
	} {
		if _, err := b.conn.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if steady > 0 {
		for _, file := range []string{"", "lake"} {
			if only != "" && only != into(file) {
				continue
			}
			if err := b.steady(ctx, steady, file); err != nil {
				return err
			}
		}
		return nil
	}
	few := workload{name: fmt.Sprintf("%d updates of %d rows", rows, rows/10)}
	all := workload{name: fmt.Sprintf("%d updates of as many rows", rows)}
	for i := range 10 {
		few.statements = append(few.statements,
			fmt.Sprintf("UPDATE loans SET renewals = renewals + 1, updated_at = clock_timestamp() WHERE id <= %d",
				rows/10))
		all.statements = append(all.statements,
			fmt.Sprintf("UPDATE loans SET renewals = renewals + 1, updated_at = clock_timestamp() WHERE id > %d AND "+
				"id <= %d", i*rows/10, (i+1)*rows/10))
	}
	for _, w := range []workload{few, all} {
		if err := b.measure(ctx, w, rounds, only); err != nil {
			return err
		}
	}
	return nil
}

// The contenders that others are measured beside.
const (
	drained    = "pg_recvlogical to nowhere"
	subscribed = "the server's own subscription"
)

// contender is one way to bring the changes over; the aim is beside the subscription.
type contender struct {
	name string
	time func(context.Context, workload) (time.Duration, error)
	aim  string
}

// measure has each contender bring the workload over, in rounds, and prints the medians.
func (b *bench) measure(ctx context.Context, w workload, rounds int, only string) error {
	contenders := []contender{
		{"the writes alone", b.writes, ""}, {drained, b.drain, ""}, {subscribed, b.subscription, ""},
		{"Noemata, latest, PostgreSQL", b.noemata(feed.KeepLatest, ""), "aim 1.00 or less"},
		{"Noemata, history, PostgreSQL", b.noemata(feed.KeepHistory, ""), "aim 1.50 or less"},
		{"Noemata, latest, DuckDB", b.noemata(feed.KeepLatest, "lake"), ""},
		{"Noemata, history, DuckDB", b.noemata(feed.KeepHistory, "lake"), ""},
	}
	fmt.Printf("%s, ten columns, ten transactions: the median of %d rounds\n", w.name, rounds)
	times := map[string][]float64{}
	for range rounds {
		for _, c := range contenders {
			if only != "" && c.name != only {
				continue
			}
			for _, sql := range []string{"VACUUM loans", "CHECKPOINT"} {
				if _, err := b.conn.Exec(ctx, sql); err != nil {
					return err
				}
			}
			took, err := c.time(ctx, w)
			if err != nil {
				return fmt.Errorf("%s: %w", c.name, err)
			}
			times[c.name] = append(times[c.name], took.Seconds())
		}
	}
	median := func(name string) float64 {
		if len(times[name]) == 0 {
			return 0
		}
		slices.Sort(times[name])
		return times[name][len(times[name])/2]
	}
	for _, c := range contenders {
		took := median(c.name)
		if took == 0 {
			continue
		}
		fmt.Printf("  %-32s %7.2f s", c.name, took)
		if x := median(drained); x > 0 {
			fmt.Printf("  %5.2f × the drain", took/x)
		}
		if x := median(subscribed); x > 0 {
			fmt.Printf("  %5.2f × the subscription  %s", took/x, c.aim)
		}
		fmt.Println()
	}
	return nil
}

// write runs the workload and gives the end of the log after it.
func (b *bench) write(ctx context.Context, w workload) (string, error) {
	for _, sql := range w.statements {
		if _, err := b.conn.Exec(ctx, sql); err != nil {
			return "", err
		}
	}
	var end string
	err := b.conn.QueryRow(ctx, "SELECT pg_current_wal_flush_lsn()::text").Scan(&end)
	return end, err
}

func (b *bench) writes(ctx context.Context, w workload) (time.Duration, error) {
	begun := time.Now()
	_, err := b.write(ctx, w)
	return time.Since(begun), err
}

func (b *bench) drain(ctx context.Context, w workload) (time.Duration, error) {
	if _, err := b.conn.Exec(ctx, "SELECT pg_create_logical_replication_slot('drain', 'pgoutput')"); err != nil {
		return 0, err
	}
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_recvlogical")
	if err != nil || len(bins) == 0 {
		return 0, fmt.Errorf("find pg_recvlogical: %w", err)
	}
	slices.Sort(bins)
	c := exec.CommandContext(ctx, bins[len(bins)-1], "-d", b.source.URL("bench"), "-S", "drain", "--start", "-f",
		"/dev/null", "-s", "1", "-F", "0", "-o", "proto_version=1", "-o", "publication_names=bench")
	if err := c.Start(); err != nil {
		return 0, err
	}
	time.Sleep(500 * time.Millisecond)
	begun := time.Now()
	end, err := b.write(ctx, w)
	if err != nil {
		return 0, err
	}
	for { // what was sent, not what was confirmed: that is told once a second only
		var done bool
		if err := b.conn.QueryRow(ctx, "SELECT coalesce(bool_or(sent_lsn >= $1::pg_lsn), false) FROM "+
			"pg_stat_replication", end).Scan(&done); err != nil {
			return 0, err
		}
		if done {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	took := time.Since(begun)
	_ = c.Process.Signal(os.Interrupt)
	_ = c.Wait()
	_, err = b.conn.Exec(ctx, "SELECT pg_drop_replication_slot('drain')")
	return took, err
}

func (b *bench) subscription(ctx context.Context, w workload) (time.Duration, error) {
	for _, sql := range []string{"CREATE TABLE IF NOT EXISTS public.loans (" + columns + ")", "TRUNCATE public.loans"} {
		if _, err := b.other.Exec(ctx, sql); err != nil {
			return 0, err
		}
	}
	if _, err := b.other.Exec(ctx, fmt.Sprintf("CREATE SUBSCRIPTION bench CONNECTION '%s' PUBLICATION bench WITH "+
		"(binary = true)", b.source.URL("bench"))); err != nil {
		return 0, err
	}
	for {
		var ready bool
		if err := b.other.QueryRow(ctx,
			"SELECT bool_and(srsubstate = 'r') FROM pg_subscription_rel").Scan(&ready); err != nil {
			return 0, err
		}
		if ready {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	begun := time.Now()
	end, err := b.write(ctx, w)
	if err != nil {
		return 0, err
	}
	for {
		var done bool
		if err := b.conn.QueryRow(ctx, "SELECT coalesce(bool_or(replay_lsn >= $1::pg_lsn), false) FROM "+
			"pg_stat_replication WHERE application_name = 'bench'", end).Scan(&done); err != nil {
			return 0, err
		}
		if done {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	took := time.Since(begun)
	_, err = b.other.Exec(ctx, "DROP SUBSCRIPTION bench")
	return took, err
}

func (b *bench) open(keep feed.Keep, file string) (src source.Source, wh warehouse.Warehouse, err error) {
	if src, err = pgsource.Open(b.source.Settings("bench"), `source "bench"`); err != nil {
		return nil, nil, err
	}
	if file != "" {
		wh, err = duckdb.Open(connection.Settings{Path: filepath.Join(b.dir,
			fmt.Sprintf("%s-%s-%d.duckdb", file, keep, time.Now().UnixNano()))}, `warehouse "lake"`)
	} else {
		wh, err = pgwarehouse.Open(b.target.Settings("bench"), `warehouse "target"`)
	}
	return src, wh, err
}

// asker is a warehouse that is asked in SQL.
type asker interface {
	Ask(ctx context.Context, sql string, args ...any) ([][]any, error)
}

// steady writes transactions of one row at an even pace, and looks in the warehouse when
// they have become visible.
func (b *bench) steady(ctx context.Context, length time.Duration, file string) error {
	src, wh, err := b.open(feed.KeepLatest, file)
	if err != nil {
		return err
	}
	defer src.Close()
	defer wh.Close()
	f := &feed.Feed{Name: "steady", Source: "s", Warehouse: "w",
		Tables: []feed.Table{{Table: "public.loans", Find: feed.FindLog, Keep: feed.KeepLatest, Target: "kept.steady"}}}
	e := engine.New()
	if _, err := e.Follow(ctx, engine.LogWork{Feed: f, Run: 1, Source: src, Warehouse: wh}); err != nil {
		return err
	}
	until, done, stop := make(chan struct{}), make(chan error, 1), make(chan struct{})
	go func() {
		_, err := e.Follow(ctx, engine.LogWork{Feed: f, Run: 2, Source: src, Warehouse: wh, Until: until})
		done <- err
	}()
	var written atomic.Int64
	for w := range 4 {
		conn, err := pgx.Connect(ctx, b.source.URL("bench"))
		if err != nil {
			return err
		}
		go func() {
			defer func() { _ = conn.Close(ctx) }()
			for next := time.Now(); ; next = next.Add(4 * time.Millisecond) {
				select {
				case <-stop:
					return
				case <-time.After(time.Until(next)):
				}
				if _, err := conn.Exec(ctx, "UPDATE loans SET renewals = renewals + 1 WHERE id = $1",
					(int(written.Add(1))*7919+w)%b.rows+1); err != nil {
					log.Print(err)
					return
				}
			}
		}()
	}
	var ages []float64
	var last time.Time
	begun := time.Now()
	for minute := 0; time.Since(begun) < length; {
		found, err := wh.(asker).Ask(ctx, "SELECT max(nm_changed_at) FROM kept.steady WHERE nm_run = 2")
		if err != nil {
			return err
		}
		now := time.Now()
		if newest, ok := found[0][0].(time.Time); ok && newest.After(last) {
			for i := range 10 { // transactions come evenly, so those that became visible now are spread between the two
				if !last.IsZero() {
					ages = append(ages, now.Sub(last.Add(newest.Sub(last)*time.Duration(i)/10)).Seconds())
				}
			}
			last = newest
		}
		if m := int(time.Since(begun).Minutes()); m > minute {
			minute = m
			fmt.Printf("  minute %2d: %d transactions, memory of the process %d MB\n", m, written.Load(), memory())
		}
		time.Sleep(50 * time.Millisecond)
	}
	close(stop)
	close(until)
	slices.Sort(ages)
	at := func(p float64) float64 { return ages[int(float64(len(ages)-1)*p)] }
	fmt.Printf("%-11s %.0f transactions a second: visible after %.2f s (median), %.2f s (99 %%), %.2f s (all)\n",
		into(file), float64(written.Load())/length.Seconds(), at(0.5), at(0.99), at(1))
	if err := <-done; err != nil {
		return err
	}
	return engine.DropLog(ctx, f, src, wh)
}

// into names the warehouse that a file stands for.
func into(file string) string {
	return map[string]string{"": "PostgreSQL", "lake": "DuckDB"}[file]
}

// memory is what the process has in memory, in MB.
func memory() int {
	content, _ := os.ReadFile("/proc/self/statm")
	var all, resident int
	_, _ = fmt.Sscan(string(content), &all, &resident)
	return resident * os.Getpagesize() / 1_000_000
}

func (b *bench) noemata(keep feed.Keep, file string) func(context.Context, workload) (time.Duration, error) {
	return func(ctx context.Context, w workload) (time.Duration, error) {
		src, wh, err := b.open(keep, file)
		if err != nil {
			return 0, err
		}
		defer src.Close()
		defer wh.Close()
		f := &feed.Feed{Name: "bench-" + string(keep), Source: "s", Warehouse: "w",
			Tables: []feed.Table{{Table: "public.loans", Find: feed.FindLog, Keep: keep, Target: "kept.loans_" +
				string(keep)}}}
		e := engine.New()
		if _, err := e.Follow(ctx, engine.LogWork{Feed: f, Run: 1, Source: src, Warehouse: wh}); err != nil {
			return 0, err
		}
		defer func() {
			_ = engine.DropLog(ctx, f, src, wh)
			if file == "" {
				_, _ = wh.(asker).Ask(ctx, "DROP TABLE kept.loans_"+string(keep))
			}
		}()
		until, done, position := make(chan struct{}), make(chan error, 1), make(chan string, 1000)
		go func() {
			_, err := e.Follow(ctx, engine.LogWork{Feed: f, Run: 2, Source: src, Warehouse: wh, Until: until,
				Report: func(r engine.LogReport) {
					select {
					case position <- r.Position:
					default:
					}
				}})
			done <- err
		}()
		time.Sleep(time.Second)
		begun := time.Now()
		end, err := b.write(ctx, w)
		if err != nil {
			return 0, err
		}
		if c, ok := src.(interface{ CheckPosition(string) (string, error) }); ok {
			if end, err = c.CheckPosition(end); err != nil {
				return 0, err
			}
		}
		var took time.Duration
		for took == 0 {
			select {
			case err := <-done:
				return 0, fmt.Errorf("the feed ended: %w", err)
			case at := <-position:
				if at >= end[:len(end)-2]+"00" { // the last commit; what follows is the server's own
					took = time.Since(begun)
				}
			}
		}
		close(until)
		return took, <-done
	}
}
