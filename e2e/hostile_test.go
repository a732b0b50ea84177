package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/connection"
	"noemata/internal/pgserver"
	"noemata/internal/testkit"
	"noemata/internal/testkit/hostile"
	"noemata/internal/warehouse/duckdb"
)

// Servers that say nothing, that never stop talking, or that garble what they say harm their
// own feeds alone: all others stay fresh, the process lives, and the overview names exactly
// what is wrong.
//
// Longer than a screen: it is one story of one service.
func TestHostileServersHarmTheirOwnFeedsAlone(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "postgresql")
	s.addWarehouse("lake", "duckdb")
	held := s.addWarehouse("held-lake", "duckdb")
	ctx := t.Context()

	// Eight healthy feeds that follow without pause, into both kinds of warehouse.
	feeds := map[string]string{}
	for i := range 8 {
		name := fmt.Sprintf("live-%d", i)
		feeds[name] = fmt.Sprintf("desk_%d", i)
		d.exec(fmt.Sprintf(`CREATE TABLE desk_%d (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT `+
			`clock_timestamp())`, i))
		s.apply("feed: %s\nsource: circulation\nwarehouse: %s\nfreshness: continuous\ntarget: "+
			"live.{table}\ntables:\n  - {table: public.desk_%d, find: log, keep: latest}\n", name, []string{"target",
			"lake"}[i%2], i)
	}
	// A copy that waits for somebody's prepared transaction.
	d.exec(`CREATE TABLE waits (id int PRIMARY KEY); CREATE TABLE follows (id int PRIMARY KEY)`)
	const waitingFeed = "feed: waiting\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: " +
		"live.{table}\ntables:\n  - {table: public.follows, find: log, keep: latest}\n"
	s.apply("%s", waitingFeed)

	// A reader that has a warehouse's file open.
	d.exec(`CREATE TABLE shelves (id int PRIMARY KEY, updated_at timestamptz NOT NULL); INSERT INTO shelves VALUES ` +
		`(1, '2026-01-01Z')`)
	s.apply("feed: shelved\nsource: circulation\nwarehouse: held-lake\nevery: 1s\ntarget: copy.{table}\ntables:\n  " +
		"- {table: public.shelves, find: watermark, watermark: {column: updated_at}, keep: latest}\n")
	other, err := duckdb.Open(connection.Settings{Path: held.Path}, "the reader")
	require.NoError(t, err)
	reading, err := other.Begin(ctx)
	require.NoError(t, err)

	// Servers of each kind that say nothing, or do not stop.
	var hostiles []string
	bad := func(name, kind string, port int) {
		t.Helper()
		_, err := s.client.AddConnection(ctx, client.Sources,
			client.NewConnection{Name: name, Kind: kind,
				Settings: &client.Settings{Host: "127.0.0.1", Port: port, Database: "x", User: "x", Password: "x"}})
		require.NoError(t, err)
		hostiles = append(hostiles, name)
	}
	bad("mute-pg-1", "postgresql", hostile.Mute(t))
	bad("mute-pg-2", "postgresql", hostile.Mute(t))
	bad("mute-maria-1", "mariadb", hostile.Mute(t))
	bad("mute-maria-2", "mariadb", hostile.Mute(t))
	bad("endless-maria", "mariadb", hostile.Endless(t, []byte{0xff, 0xff, 0xff, 0, 10},
		bytes.Repeat([]byte("5.5.5-"), 10_000)))
	bad("endless-pg", "postgresql", hostile.Endless(t, []byte{'E', 0x7f, 0xff, 0xff, 0xff},
		bytes.Repeat([]byte("S"), 64<<10)))
	for _, name := range hostiles {
		// A file that names them cannot be applied: they are asked first.
		s.record(`INSERT INTO feeds (name, source, warehouse, spec, state)
SELECT 'of-' || $1, $1, 'target', spec || jsonb_build_object('feed', 'of-' || $1, 'source', $1::text, 'warehouse', 'target'), 'paused' FROM feeds WHERE name = 'shelved'`, name)
		s.record(`INSERT INTO feed_tables (feed_id, source_table) SELECT id, 'public.shelves' FROM feeds WHERE name `+
			`= 'of-' || $1`, name)
	}
	// One whose rows have other widths than their types, in every COPY.
	_, garbled := s.garbledSource(d)
	s.apply("feed: garbled\nsource: garbled\nwarehouse: target\nevery: 1s\ntarget: garbled.{table}\ntables:\n  - " +
		"{table: public.shelves, find: whole, keep: replace}\n")
	garbled.begin()

	list, err := s.client.Feeds(ctx)
	require.NoError(t, err)
	for _, f := range list {
		_, err := s.client.StartFeed(ctx, f.Name)
		require.NoError(t, err)
	}
	started := time.Now()
	state := func(feed string) client.FeedStatus {
		t.Helper()
		f, err := s.client.Feed(ctx, feed)
		require.NoError(t, err)
		return f
	}
	require.Eventually(t, func() bool {
		for name := range feeds {
			if f := state(name); f.Tables[0].State != "following" || f.Tables[0].CompleteAt == nil {
				return false
			}
		}
		return true
	}, 60*time.Second, 200*time.Millisecond, "the healthy feeds do not come to follow")

	d.exec(`BEGIN; INSERT INTO waits VALUES (1); PREPARE TRANSACTION 'somebody'`)
	t.Cleanup(func() { d.exec(`ROLLBACK PREPARED 'somebody'`) })
	s.apply("%s", waitingFeed+"  - {table: public.waits, find: log, keep: latest}\n")

	// Half a minute in which each must be fresh, at each look.
	worst := time.Duration(0)
	for until := time.Now().Add(30 * time.Second); time.Now().Before(until); time.Sleep(time.Second) {
		for _, table := range feeds {
			d.exec(fmt.Sprintf(`INSERT INTO %s SELECT coalesce(max(id), 0) + 1 FROM %[1]s`, table))
		}
		d.exec(`INSERT INTO follows SELECT coalesce(max(id), 0) + 1 FROM follows`)
		list, err := s.client.Feeds(ctx)
		require.NoError(t, err)
		for _, f := range list {
			if feeds[f.Name] != "" {
				worst = max(worst, time.Since(*f.Tables[0].CompleteAt))
			}
		}
	}
	require.Less(t, worst, 5*time.Second,
		"a healthy feed was not fresh: three seconds, and two of recording and asking")
	t.Logf("the worst age of a healthy feed was %v", worst)

	// Exactly what is wrong is told, by whom and with what to do.
	for _, name := range hostiles {
		f := state("of-" + name)
		require.NotNil(t, f.Tables[0].Problem, name)
		if strings.HasPrefix(name, "mute") {
			require.Contains(t, f.Tables[0].Problem.What, "did not answer in time", name)
		} else {
			require.Contains(t, f.Tables[0].Problem.What, "before the sign-in", name)
		}
	}
	require.NotNil(t, state("garbled").Tables[0].Problem, "%+v", state("garbled"))
	require.Contains(t, state("garbled").Tables[0].Problem.What, "in its binary form")
	require.Equal(t, "following", state("waiting").Tables[0].State, "a copy that waits lets others go on")
	require.Eventually(t, func() bool { // who is waited for is told a little later than that
		now := state("waiting").Tables[1].Copy
		return now != nil && strings.Contains(now.Waiting, "somebody")
	}, 30*time.Second, 100*time.Millisecond)
	runs, err := s.client.Runs(ctx, client.RunFilter{Feed: "shelved", Limit: 20})
	require.NoError(t, err)
	for _, r := range runs {
		require.Contains(t, []string{"waited", "running"}, r.State, "%+v", r.Problem)
	}
	require.Contains(t, runs[len(runs)-1].Problem.What, "which has the file open")
	reading.Abort()
	other.Close()
	require.Eventually(t, func() bool { return state("shelved").LastRun.State == "done" }, 40*time.Second,
		300*time.Millisecond, "it goes on once the reader has left")

	// What failed comes again after four seconds, and then after twice as long each time.
	failed, err := s.client.Runs(ctx, client.RunFilter{Feed: "garbled", Limit: 50})
	require.NoError(t, err)
	require.LessOrEqual(t, len(failed), 3+int(time.Since(started)/(8*time.Second)))
	for name, table := range feeds {
		var n int64
		require.NoError(t, d.conn.QueryRow(ctx, "SELECT count(*) FROM "+table).Scan(&n))
		require.Eventually(t, func() bool {
			p, err := s.client.Prove(context.Background(), name, "public."+table)
			return err == nil && p.Same && p.Equal == n
		}, 20*time.Second, 200*time.Millisecond, name)
	}
}

// garbled is a server between a database and its readers.
type garbled struct {
	mu sync.Mutex
	on bool
}

func (g *garbled) begin() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.on = true
}

// garbledSource adds the source "garbled": a real server whose rows come in with another
// width than their types once it is told to begin.
func (s *service) garbledSource(d *database) (settings client.Settings, g *garbled) {
	s.t.Helper()
	g = &garbled{}
	signature := []byte("PGCOPY\n\xff\r\n\x00")
	port := hostile.Garbled(s.t, net.JoinHostPort(d.settings.Host, fmt.Sprint(d.settings.Port)),
		func(chunk []byte) []byte {
			g.mu.Lock()
			defer g.mu.Unlock()
			if i := bytes.Index(chunk, signature); g.on && i >= 0 {
				// The length of the first value of the first row.
				if at := i + len(signature) + 8 + 2 + 3; at < len(chunk) {
					chunk[at]--
				}
			}
			return chunk
		})
	settings = d.settings
	settings.Port = port
	_, err := s.client.AddConnection(s.t.Context(), client.Sources,
		client.NewConnection{Name: "garbled", Kind: "postgresql", Settings: &settings})
	require.NoError(s.t, err)
	return settings, g
}

// A run can be stopped, and so can what a feed is doing when it is paused or removed: also
// while its source says nothing.
func TestRunsCanBeStopped(t *testing.T) {
	s := newService(t)
	d := s.addPatrons(1, "postgresql", "")
	locked, err := d.conn.Begin(t.Context())
	require.NoError(t, err)
	defer func() { _ = locked.Rollback(context.Background()) }()
	_, err = locked.Exec(t.Context(), `LOCK TABLE patrons`)
	require.NoError(t, err)
	running := func() client.Run {
		t.Helper()
		run, err := s.client.StartRun(t.Context(), "patrons")
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			r, err := s.client.Run(t.Context(), run.ID)
			return err == nil && r.State == "running"
		}, 10*time.Second, 50*time.Millisecond)
		time.Sleep(300 * time.Millisecond)
		return run
	}
	run := running()
	require.Contains(t, s.must("runs", "stop", fmt.Sprint(run.ID)), "is stopped")
	got := s.await(run.ID)
	require.Equal(t, "A person has stopped the run.", got.Problem.What)
	_, err = s.client.StopRun(t.Context(), run.ID)
	require.ErrorContains(t, err, "has ended")

	run = running()
	_, err = s.client.PauseFeed(t.Context(), "patrons")
	require.NoError(t, err)
	require.Equal(t, "stopped", s.await(run.ID).State)
	running()
	require.NoError(t, s.client.RemoveFeed(t.Context(), "patrons"))
	require.Eventually(t, func() bool { // nothing of it goes on at the source
		var n int
		err := locked.QueryRow(t.Context(),
			`SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'`).Scan(&n)
		return err == nil && n == 0
	}, 15*time.Second, 200*time.Millisecond)
}

// A removed feed leaves no slot behind, also while its first copy waits.
func TestARemovedFeedLeavesNoSlot(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "postgresql")
	d.exec(`CREATE TABLE holds (id int PRIMARY KEY); CREATE TABLE loans (id int PRIMARY KEY)`)
	const file = "feed: live\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: " +
		"live.{table}\ntables:\n  - {table: public.loans, find: log, keep: latest}\n"
	s.apply("%s", file)
	_, err := s.client.StartFeed(t.Context(), "live")
	require.NoError(t, err)
	var last client.FeedStatus
	comes := func(what string, is func() bool) {
		t.Helper()
		require.Eventually(t, func() bool {
			f, err := s.client.Feed(context.Background(), "live")
			last = f
			return err == nil && is()
		}, 30*time.Second, 100*time.Millisecond, "%s: %+v", what, &last)
	}
	comes("the table does not follow", func() bool { return last.Tables[0].State == "following" })
	d.exec(`BEGIN; INSERT INTO holds VALUES (1); PREPARE TRANSACTION 'holder'`)
	s.apply("%s", file+"  - {table: public.holds, find: log, keep: latest}\n")
	comes("the copy does not wait", func() bool {
		return len(last.Tables) == 2 && last.Tables[1].Copy != nil &&
			strings.Contains(last.Tables[1].Copy.Waiting, "holder")
	})

	// A slot itself can be made only when what is open has ended: that is said, too.
	s.apply("%s", strings.NewReplacer("feed: live", "feed: later", "target: live", "target: later").Replace(file))
	run, err := s.client.StartRun(t.Context(), "later")
	require.NoError(t, err)
	ended := s.await(run.ID)
	require.Equal(t, "waited", ended.State, "%+v", ended.Problem)
	require.Contains(t, ended.Problem.What, "holder")
	require.NoError(t, s.client.RemoveFeed(t.Context(), "live"))
	var slots int
	require.NoError(t, d.conn.QueryRow(t.Context(),
		`SELECT count(*) FROM pg_replication_slots WHERE database = current_database()`).Scan(&slots))
	require.Zero(t, slots)

	// Records that are removed under a run that follows end the run, and are no error.
	_, err = s.client.StartFeed(t.Context(), "later")
	require.NoError(t, err)
	d.exec(`ROLLBACK PREPARED 'holder'`)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(context.Background(), "later")
		return err == nil && f.Tables[0].State == "following" && f.Running != nil
	}, 40*time.Second, 100*time.Millisecond)
	s.record(`DELETE FROM runs`)
	d.exec(`INSERT INTO loans VALUES (1)`)
	time.Sleep(3 * time.Second)
	d.exec(`INSERT INTO loans VALUES (2)`) // the first may have gone with the run, which has no record to be counted in
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(context.Background(), "later")
		return err == nil && f.Running != nil && f.Tables[0].Rows != nil && *f.Tables[0].Rows >= 1
	}, 40*time.Second, 100*time.Millisecond, "the feed does not go on")
	require.NotContains(t, s.stderr.String(), `"ERROR"`)

	// What is changed of a source reaches a feed that follows within seconds.
	running := func() int64 {
		f, err := s.client.Feed(context.Background(), "later")
		if err != nil || f.Running == nil {
			return 0
		}
		return f.Running.ID
	}
	before := running()
	_, err = s.client.ChangeConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "circulation", Kind: "postgresql", Settings: &d.settings})
	require.NoError(t, err)
	changed := time.Now()
	require.Eventually(t, func() bool { id := running(); return id != 0 && id != before }, 30*time.Second,
		100*time.Millisecond, "the run goes on with what was")
	t.Logf("another run after %v", time.Since(changed))
}

// A feed during whose runs the process ended again and again is held, with the reason; and a
// service that is started paused runs nothing.
func TestAFeedThatEndsTheProcessIsHeld(t *testing.T) {
	s := newService(t)
	d := s.addPatrons(1, "postgresql", "every: 1s")
	locked, err := d.conn.Begin(t.Context())
	require.NoError(t, err)
	_, err = locked.Exec(t.Context(), `LOCK TABLE patrons`)
	require.NoError(t, err)
	_, err = s.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	for range 8 {
		require.Eventually(t, func() bool {
			f, err := s.client.Feed(context.Background(), "patrons")
			return err == nil && f.Running != nil
		}, 20*time.Second, 50*time.Millisecond)
		s.kill()
		s.start()
	}
	var f client.FeedStatus
	require.Eventually(t, func() bool {
		f, err = s.client.Feed(t.Context(), "patrons")
		return err == nil && f.State == "held"
	}, 20*time.Second, 100*time.Millisecond)
	require.Contains(t, f.Held.What, "ended 8 times in a row")
	require.NoError(t, locked.Rollback(t.Context()))
	_, err = s.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "patrons")
		return err == nil && f.State == "active" && f.LastRun.State == "done"
	}, 20*time.Second, 100*time.Millisecond)

	s.stopNow()
	s.flags = []string{"--paused"}
	s.start()
	f, err = s.client.Feed(t.Context(), "patrons")
	require.NoError(t, err)
	require.Equal(t, "paused", f.State)
	require.Nil(t, f.Running)
	require.Equal(t, "done", s.finish("patrons").State, "a person may still run it")
}

// A count that nobody waits for any more ends at the source.
func TestAbandonedRequestsEndTheirWork(t *testing.T) {
	s := newService(t)
	d := s.addPatrons(1, "postgresql", "")
	s.finish("patrons")
	watch := testkit.Connect(t, testkit.Postgres(t).URL(d.settings.Database))
	locked, err := d.conn.Begin(t.Context())
	require.NoError(t, err)
	defer func() { _ = locked.Rollback(context.Background()) }()
	_, err = locked.Exec(t.Context(), `LOCK TABLE patrons`)
	require.NoError(t, err)
	waiting := func() (n int) {
		require.NoError(t, watch.QueryRow(t.Context(),
			`SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'`).Scan(&n))
		return n
	}
	ctx, leave := context.WithCancel(t.Context())
	left := make(chan error, 1)
	go func() {
		_, err := s.client.Counts(ctx, "patrons", "public.patrons")
		left <- err
	}()
	require.Eventually(t, func() bool { return waiting() > 0 }, 10*time.Second, 50*time.Millisecond)
	leave()
	require.Error(t, <-left)
	require.Eventually(t, func() bool { return waiting() == 0 }, 10*time.Second, 100*time.Millisecond)
}

// record runs a statement in the database of the service's records.
func (s *service) record(sql string, args ...any) {
	s.t.Helper()
	conn := s.records()
	defer func() { _ = conn.Close(context.Background()) }()
	_, err := conn.Exec(s.t.Context(), sql, args...)
	require.NoError(s.t, err)
}

// records connects to the database of the service's records.
func (s *service) records() *pgx.Conn {
	s.t.Helper()
	// It runs: this finds it.
	server, err := pgserver.Start(s.t.Context(), pgserver.Options{Dir: filepath.Join(s.dir, "service", "records")})
	require.NoError(s.t, err)
	conn, err := pgx.Connect(s.t.Context(), server.URL("noemata"))
	require.NoError(s.t, err)
	return conn
}

// Records that cannot be written for a while keep no change from the warehouse: a run reports
// beside its work.
func TestRecordsThatStallKeepNoChangeWaiting(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	target := s.addWarehouse("target", "postgresql")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY)`)
	s.apply("feed: live\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: " +
		"live.{table}\ntables:\n  - {table: public.loans, find: log, keep: latest}\n")
	_, err := s.client.StartFeed(t.Context(), "live")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(context.Background(), "live")
		return err == nil && f.Running != nil && f.Tables[0].State == "following" && f.Running.StartedAt != nil &&
			time.Since(*f.Running.StartedAt) < 20*time.Second
	}, 60*time.Second, 100*time.Millisecond)
	replica := testkit.Connect(t, testkit.Postgres(t).URL(target.Database))
	count := func() (n int) {
		require.NoError(t, replica.QueryRow(t.Context(), `SELECT count(*) FROM live.loans`).Scan(&n))
		return n
	}
	records := s.records()
	defer func() { _ = records.Close(context.Background()) }()
	_, err = records.Exec(t.Context(), `BEGIN; LOCK TABLE feed_tables, run_tables IN ACCESS EXCLUSIVE MODE`)
	require.NoError(t, err)
	for i := range 8 { // longer than a report would have waited
		d.exec(fmt.Sprintf(`INSERT INTO loans VALUES (%d)`, i))
		require.Eventually(t, func() bool { return count() == i+1 }, 3*time.Second, 20*time.Millisecond,
			"the change waits for the records")
		time.Sleep(time.Second)
	}
	_, err = records.Exec(t.Context(), `ROLLBACK`)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(context.Background(), "live")
		return err == nil && f.Tables[0].Rows != nil && *f.Tables[0].Rows == 8
	}, 40*time.Second, 100*time.Millisecond, "what was not recorded meanwhile is caught up")
}
