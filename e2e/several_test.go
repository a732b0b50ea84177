package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// processes are services that share one database of records. All run on this machine, under names that may
// differ.
func processes(t *testing.T, hosts ...string) (list []*service, records string) {
	t.Helper()
	t.Setenv("NOEMATA_KEY", strings.Repeat("0123456789abcdef", 4))
	settings, _ := testkit.Database(t)
	records = testkit.Postgres(t).URL(settings.Database)
	t.Setenv("NOEMATA_DATABASE_URL", records)
	for i, host := range hosts {
		s := &service{t: t, dir: testkit.Dir(t), listen: "127.0.0.1:0", flags: []string{"--host", host}}
		if i > 0 {
			s.token, s.dir = list[0].token, list[0].dir
		}
		s.start()
		list = append(list, s)
		t.Cleanup(func() {
			if t.Failed() {
				t.Log("the log of a service:\n" + s.stderr.String())
			}
			if s.process.ProcessState == nil {
				s.stop()
			}
		})
	}
	return list, records
}

// process is what the services say of one.
func (s *service) self() client.Process {
	s.t.Helper()
	list, err := s.client.Processes(s.t.Context())
	require.NoError(s.t, err)
	i := slices.IndexFunc(list, func(p client.Process) bool { return p.PID == s.process.Process.Pid })
	require.GreaterOrEqual(s.t, i, 0, "%+v", list)
	return list[i]
}

// arrives waits until so many rows of patrons are in the warehouse.
func (s *service) arrives(n int64) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		c, err := s.client.Counts(s.t.Context(), "patrons", "public.patrons")
		return err == nil && c.Warehouse == n
	}, 30*time.Second, 100*time.Millisecond)
}

// Two processes share the work on one database of records; when one dies, the other
// goes on, and nothing is lost or doubled. One that is drained works on nothing until it is resumed.
func TestTwoProcessesShareTheWork(t *testing.T) {
	list, _ := processes(t, "desk", "desk")
	first, second := list[0], list[1]
	d := first.addPatrons(1000, "postgresql", "every: 1s")
	_, err := first.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	second.arrives(1000)
	for i, victim := range list {
		other := list[1-i]
		victim.kill()
		d.exec(`INSERT INTO patrons VALUES ($1, clock_timestamp())`, 2000+i)
		other.arrives(1001 + int64(i))
		victim.start()
	}
	drained := second.self().ID
	require.Contains(t, first.must("processes", "drain", drained), "takes up no more work")
	require.Eventually(t, func() bool { return second.self().State == "drained" }, 10*time.Second, 100*time.Millisecond)
	last, err := first.client.Runs(t.Context(), client.RunFilter{Limit: 1})
	require.NoError(t, err)
	d.exec(`INSERT INTO patrons VALUES (3000, clock_timestamp())`)
	first.arrives(1003)
	runs, err := first.client.Runs(t.Context(), client.RunFilter{Limit: 500})
	require.NoError(t, err)
	for _, r := range runs {
		require.NotEqual(t, "failed", r.State, "%+v", r.Problem)
		require.False(t, r.ID > last[0].ID && r.Process == drained, "a run of the drained process: %+v", r)
	}
	out := first.must("processes", "list")
	require.Regexp(t, drained+` +drained +desk`, out)
	first.must("processes", "resume", drained)
	require.Equal(t, "working", second.self().State)
	_, code := first.cli("", "processes", "drain", "nobody")
	require.Equal(t, 1, code)
	first.kill() // so that the one that was drained has to work
	d.exec(`INSERT INTO patrons VALUES (3001, clock_timestamp())`)
	second.arrives(1004)
	second.proved("patrons", "public.patrons", 1004)
}

// A warehouse that is a file is written by one process at a time, on its own host: jobs find their way there,
// pass to another process of that host when this one dies, and say what they wait for when none is left.
func TestAFileHasItsPlace(t *testing.T) {
	list, records := processes(t, "desk", "desk", "attic")
	here, beside, attic := list[0], list[1], list[2]
	for _, s := range []*service{beside, attic} {
		_, err := here.client.Drain(t.Context(), s.self().ID, true)
		require.NoError(t, err)
		require.Eventually(t, func() bool { return s.self().State == "drained" }, 10*time.Second, 100*time.Millisecond)
	}
	d := here.addPatrons(1000, "duckdb", "every: 1s")
	_, err := here.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	here.arrives(1000)
	require.Equal(t, []string{"target"}, here.self().Files)
	works := func(s *service) {
		t.Helper()
		_, err := s.client.Drain(t.Context(), s.self().ID, false)
		require.NoError(t, err)
	}
	works(beside)
	time.Sleep(3 * time.Second)
	runs, err := here.client.Runs(t.Context(), client.RunFilter{Limit: 500})
	require.NoError(t, err)
	for _, r := range runs {
		require.Equal(t, here.self().ID, r.Process)
		require.Contains(t, []string{"done", "running"}, r.State, "%+v", r.Problem)
	}
	// Read through the records: to ask by a process that has not the file would open it there.
	conn := testkit.Connect(t, records)
	came := func(n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			var rows *int64
			err := conn.QueryRow(t.Context(), "SELECT row_count FROM feed_tables").Scan(&rows)
			return err == nil && rows != nil && *rows == n
		}, 20*time.Second, 100*time.Millisecond)
	}
	here.kill()
	d.exec(`INSERT INTO patrons VALUES (2000, clock_timestamp())`)
	came(1001)
	require.Equal(t, []string{"target"}, beside.self().Files)
	beside.kill()
	// The host's name differs and the file is not moved by that: the third process sees the same file, since
	// it runs on this machine in truth, so the file is hidden from it.
	file := here.dir + "/target.duckdb"
	require.NoError(t, os.Rename(file, file+".away"))
	works(attic)
	require.Eventually(t, func() bool {
		f, err := attic.client.Feed(t.Context(), "patrons")
		return err == nil && f.LastRun != nil && f.LastRun.Problem != nil &&
			strings.Contains(f.LastRun.Problem.What, "on the host desk, and no process of the service runs there; this one runs on attic")
	}, 30*time.Second, 100*time.Millisecond)
	require.Contains(t, attic.must("processes", "list"), "none: its feeds wait for one on this host")
	require.NoFileExists(t, file)
	require.NoError(t, os.Rename(file+".away", file)) // it was moved to the attic
	d.exec(`INSERT INTO patrons VALUES (2001, clock_timestamp())`)
	came(1002)
	attic.proved("patrons", "public.patrons", 1002)
}

// Three processes are killed at random while both sources are written to: at the end both warehouses are equal
// to them, and no feed was without a process for ten seconds. `make torture` does it for ten minutes.
func TestThreeProcessesUnderKills(t *testing.T) {
	length := 10 * time.Second
	if os.Getenv("NOEMATA_TORTURE") != "" {
		length = 10 * time.Minute
	}
	list, records := processes(t, "desk", "desk", "desk")
	s := list[0]
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id bigint PRIMARY KEY, copy text, fee numeric(8,2)); CREATE TABLE visits (id bigint PRIMARY KEY, branch text, ` +
		`updated_at timestamptz NOT NULL DEFAULT clock_timestamp()); CREATE INDEX ON visits (updated_at, id)`)
	settings, maria := testkit.MariaDatabase(t)
	_, err := s.client.AddConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "catalogue", Kind: "mariadb", Settings: &settings})
	require.NoError(t, err)
	_, err = maria.Exec(`CREATE TABLE copies (id bigint PRIMARY KEY, branch varchar(40))`)
	require.NoError(t, err)
	feeds := []string{}
	for _, kind := range []string{"duckdb", "postgresql"} {
		s.addWarehouse(kind, kind)
		s.apply("feed: loans-%s\nsource: circulation\nwarehouse: %[1]s\nfreshness: continuous\ntarget: kept.{table}\ntables:\n"+
			"  - {table: public.loans, find: log, keep: soft-delete}\n", kind)
		s.apply("feed: visits-%s\nsource: circulation\nwarehouse: %[1]s\nevery: 1s\ntarget: kept.{table}\ntables:\n"+
			"  - {table: public.visits, find: watermark, watermark: {column: updated_at}, keep: latest}\n", kind)
		s.apply("feed: copies-%s\nsource: catalogue\nwarehouse: %[1]s\nfreshness: continuous\ntarget: kept.{table}\ntables:\n"+
			"  - {table: %s.copies, find: log, keep: history}\n", kind, settings.Database)
		feeds = append(feeds, "loans-"+kind, "visits-"+kind, "copies-"+kind)
	}
	for _, feed := range feeds {
		_, err := s.client.StartFeed(t.Context(), feed)
		require.NoError(t, err)
	}
	var loans, copies int
	d.exec(`INSERT INTO loans VALUES (0, 'C0', 0)`)
	conn := testkit.Connect(t, records)
	longest := map[string]time.Duration{}
	began := time.Now()
	next := began.Add(5 * time.Second)
	for time.Since(began) < length {
		for range 5 {
			loans++
			d.exec(`INSERT INTO loans VALUES ($1::int, 'C' || $1::int, $1::int % 700)`, loans)
			d.exec(`UPDATE loans SET fee = fee + 1 WHERE id = $1`, rand.IntN(loans))
			d.exec(`DELETE FROM loans WHERE id = $1::int AND id % 7 = 0`, rand.IntN(loans))
			d.exec(`INSERT INTO visits VALUES ($1, 'Dornheim')`, loans)
			copies++
			_, err = maria.Exec(`REPLACE INTO copies VALUES (?, ?)`, rand.IntN(copies), fmt.Sprint("branch ", copies))
			require.NoError(t, err)
		}
		for feed, idle := range idleFor(t, conn) {
			longest[feed] = max(longest[feed], min(idle, time.Since(began)))
		}
		if time.Now().After(next) {
			victim := list[rand.IntN(len(list))]
			victim.kill()
			victim.start()
			next = time.Now().Add(time.Duration(1000+rand.IntN(4000)) * time.Millisecond)
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Logf("%d loans, %d copies; the longest without a run: %v", loans, copies, longest)
	for _, feed := range feeds {
		require.Less(t, longest[feed], 10*time.Second, feed)
	}
	time.Sleep(3 * time.Second) // beyond the settle delay of the last visits
	for _, feed := range feeds {
		f, err := list[1].client.Feed(t.Context(), feed)
		require.NoError(t, err)
		require.Equal(t, "active", f.State, "%s: %+v", feed, f.Held)
		var p client.Proof
		require.Eventually(t, func() bool {
			p, err = list[1].client.Prove(t.Context(), feed, f.Tables[0].Table)
			return err == nil && p.Same
		}, time.Minute, time.Second, "%s: %+v", feed, &p)
	}
}

// idleFor is for how long each feed has had no run that a living process works on.
func idleFor(t *testing.T, records *pgx.Conn) map[string]time.Duration {
	t.Helper()
	found, err := records.Query(context.Background(), `SELECT f.name, CASE WHEN EXISTS (SELECT 1 FROM runs r
  WHERE r.feed_id = f.id AND r.state = 'running' AND process_lives(r.worker)) THEN '0'::interval
ELSE clock_timestamp() - coalesce((SELECT max(ended_at) FROM runs r WHERE r.feed_id = f.id), f.created_at) END FROM feeds f`)
	require.NoError(t, err)
	idle := map[string]time.Duration{}
	var name string
	var d time.Duration
	_, err = pgx.ForEachRow(found, []any{&name, &d}, func() error { idle[name] = d; return nil })
	require.NoError(t, err)
	return idle
}

// With a person watching, a run shows a bar; piped, it does not.
func TestProgressIsForPeople(t *testing.T) {
	if _, err := exec.LookPath("script"); err != nil {
		t.Fatal("the program script, of Debian's bsdutils, is needed for a terminal")
	}
	s := newService(t)
	d := s.addPatrons(300000, "duckdb", "")
	locked, err := d.conn.Begin(t.Context())
	require.NoError(t, err)
	_, err = locked.Exec(t.Context(), `LOCK TABLE patrons`)
	require.NoError(t, err)
	time.AfterFunc(time.Second, func() { _ = locked.Rollback(context.Background()) })
	watch := exec.Command("script", "-qec", program+" runs start patrons --address "+s.address+" --token "+s.token,
		"/dev/null")
	out, err := watch.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "public.patrons (")
	require.Contains(t, string(out), "300 000")
	require.NotContains(t, s.must("runs", "start", "patrons"), "public.patrons (")
}
