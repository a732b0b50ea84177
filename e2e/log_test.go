package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/pgserver"
	"noemata/internal/testkit"
	"noemata/internal/testkit/torture"
)

// The service, the warehouse and connections are killed at random while the log is
// followed, under concurrent transactions of every kind. At checkpoints every table is what
// the source's own record of changes says. `make torture` does it for half an hour.
func TestTheLogSurvivesKills(t *testing.T) {
	kinds := []string{"postgresql", "duckdb"}
	if os.Getenv("NOEMATA_TORTURE") != "" {
		kinds = append(kinds, "iceberg")
	}
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			ctx := context.Background()
			s := newService(t)
			d := s.addSource("circulation")
			w := s.addMortalWarehouse(kind)
			d.exec(`CREATE TABLE quiet (id int PRIMARY KEY)`)
			writers, err := torture.New(ctx, testkit.Postgres(t).URL(d.settings.Database))
			require.NoError(t, err)
			defer writers.Close()
			length, long, err := writers.Length(20 * time.Second)
			require.NoError(t, err)
			// The slot is made while nobody writes; see the limits of the source.
			file := "feed: torture\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: " +
				"kept.{table}\ntables:\n  - {table: public.quiet, find: log, keep: latest}\n"
			s.apply("%s", file)
			require.Equal(t, "done", s.finish("torture").State)
			for _, keep := range torture.Keeps {
				for _, name := range torture.Tables(keep) {
					quoted := `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
					file += fmt.Sprintf("  - {table: 'public.%s', find: log, keep: %s, target: 'kept.%s'}\n", quoted,
						keep, quoted)
				}
			}
			s.apply("%s", file)
			for round, ends := 1, time.Now().Add(length); round == 1 || time.Now().Before(ends); round++ {
				_, err = s.client.StartFeed(ctx, "torture")
				require.NoError(t, err)
				writers.Start(4)
				for until := time.Now().Add(long); time.Now().Before(until); {
					time.Sleep(time.Duration(500+rand.IntN(2500)) * time.Millisecond)
					switch rand.IntN(3) {
					case 0:
						s.kill()
						s.start()
					case 1:
						w.kill(s)
					default:
						d.exec(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE ` +
							`'noemata%'`)
					}
					s.release("torture")
				}
				writers.Pause()
				s.catchUp("torture", d)
				if round == 1 {
					require.NoError(t, writers.Mark(ctx))
				}
				faults, err := writers.Judge(ctx, w.ask)
				require.NoError(t, err)
				require.Empty(t, faults, "round %d, after %d transactions", round, writers.Count)
			}
			t.Logf("%d transactions", writers.Count)
		})
	}
}

// release starts a feed again that is held because the service was killed too often during its runs.
func (s *service) release(feed string) {
	s.t.Helper()
	status, err := s.client.Feed(s.t.Context(), feed)
	require.NoError(s.t, err)
	if status.State == "held" {
		_, err = s.client.StartFeed(s.t.Context(), feed)
		require.NoError(s.t, err)
	}
}

// catchUp waits until an active feed has come to the end of the log, whatever happened, and pauses it.
func (s *service) catchUp(feed string, d *database) {
	s.t.Helper()
	var end string
	require.NoError(s.t, d.conn.QueryRow(context.Background(),
		`SELECT lpad(split_part(l, '/', 1), 8, '0') || '/' || lpad(split_part(l, '/', 2), 8, '0') FROM (SELECT `+
			`pg_current_wal_lsn()::text AS l) x`).Scan(&end))
	var last client.FeedStatus
	require.Eventually(s.t, func() bool {
		var err error
		last, err = s.client.Feed(context.Background(), feed)
		if err != nil || last.Log == nil {
			return false
		}
		if last.State == "held" {
			_, _ = s.client.StartFeed(context.Background(), feed)
			return false
		}
		for _, t := range last.Tables {
			if t.Copy != nil || t.Problem != nil || t.Position < end[:len(end)-2]+"00" {
				return false
			}
		}
		return true
	}, 3*time.Minute, 200*time.Millisecond, "the feed does not come to %s: %+v", end, &last)
	_, err := s.client.PauseFeed(context.Background(), feed) // a DuckDB file can then be opened by the test
	require.NoError(s.t, err)
	run := s.finish(feed)
	require.Equal(s.t, "done", run.State, "%+v", run.Problem)
}

// mortal is a warehouse that can be killed.
type mortal struct {
	t      testing.TB
	server *pgserver.Server
	dir    string
	path   string // of a DuckDB file
}

func (s *service) addMortalWarehouse(kind string) *mortal {
	s.t.Helper()
	w := &mortal{t: s.t}
	if kind == "duckdb" {
		w.path = s.addWarehouse("target", kind).Path
		return w
	}
	w.dir = filepath.Join(testkit.Dir(s.t), "warehouse")
	w.start()
	require.NoError(s.t, w.server.CreateDatabase(context.Background(), "target"))
	settings := w.server.Settings("target")
	if kind == "iceberg" {
		settings.Path = filepath.Join(s.dir, "target")
	}
	_, err := s.client.AddConnection(s.t.Context(), client.Warehouses,
		client.NewConnection{Name: "target", Kind: kind, Settings: &settings})
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = w.server.Stop() })
	return w
}

func (w *mortal) start() {
	var err error
	options := pgserver.Options{Dir: w.dir, Settings: testkit.Settings()}
	options.Settings["fsync"] = "on" // it must survive what is done to it
	options.Settings["full_page_writes"] = "on"
	if w.server != nil {
		options.Port, options.Password = w.server.Port, w.server.Password
	}
	w.server, err = pgserver.Start(context.Background(), options)
	require.NoError(w.t, err)
}

// kill ends the warehouse at once. One in a file dies with the service.
func (w *mortal) kill(s *service) {
	if w.server == nil {
		s.kill()
		s.start()
		return
	}
	require.NoError(w.t, w.server.Kill())
	time.Sleep(300 * time.Millisecond)
	w.start()
}

// ask runs a query of the warehouse, as a program of its own would.
func (w *mortal) ask(query string) ([][]string, error) {
	if w.server != nil {
		conn, err := pgx.Connect(context.Background(), w.server.URL("target"))
		if err != nil {
			return nil, err
		}
		defer func() { _ = conn.Close(context.Background()) }()
		found, err := conn.Query(context.Background(), query)
		if err != nil {
			return nil, err
		}
		return pgx.CollectRows(found, torture.Texts)
	}
	// The service lets go of the file two seconds after its last use.
	var out [][]string
	var err error
	for range 150 {
		if out, err = w.askFile(query); err == nil || !strings.Contains(err.Error(), "lock") {
			return out, err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return out, err
}

func (w *mortal) askFile(query string) ([][]string, error) {
	file, err := sql.Open("duckdb", w.path+"?access_mode=read_only")
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	found, err := file.Query(query)
	if err != nil {
		return nil, err
	}
	defer func() { _ = found.Close() }()
	columns, err := found.Columns()
	if err != nil {
		return nil, err
	}
	var out [][]string
	for found.Next() {
		values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := found.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(columns))
		for i, v := range values {
			row[i] = v.String
		}
		out = append(out, row)
	}
	return out, found.Err()
}

// What a person does with a feed that follows the log, by command: look at it, see the
// versions of a row, copy it again, and remove it, after which the source is as it was.
func TestAFeedThatFollowsTheLogByCommand(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "postgresql")
	d.exec(`CREATE TABLE patrons (id int PRIMARY KEY, name text, branch text); INSERT INTO patrons VALUES (1, ` +
		`'Aelis Nightjar', 'Grünau'), (2, 'Kael Ashgrove', 'Dornheim')`)
	d.exec(`CREATE TABLE desk_events (at timestamptz, event text)`)
	s.apply(`
feed: live
source: circulation
warehouse: target
freshness: continuous
target: live.{table}
tables:
  - {table: public.patrons, find: log, keep: history}
`)
	_, err := s.client.StartFeed(t.Context(), "live")
	require.NoError(t, err)
	follows := func(versions int) string {
		t.Helper()
		var out string
		require.Eventually(t, func() bool {
			out, _ = s.cli("", "versions", "live", "public.patrons", "1")
			return strings.Count(out, "  version ") == versions
		}, 30*time.Second, 100*time.Millisecond, "%s", &out)
		return out
	}
	follows(1)
	d.exec(`UPDATE patrons SET branch = 'Fernmoor' WHERE id = 1`)
	require.Contains(t, follows(2), "branch: Grünau → Fernmoor")
	d.exec(`DELETE FROM patrons WHERE id = 1`)
	require.Eventually(t, func() bool {
		return strings.Contains(s.must("versions", "live", "public.patrons", "1"), "  deleted")
	}, 30*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(s.must("feeds", "show", "live"), "the source keeps") },
		10*time.Second, 100*time.Millisecond)
	out, code := s.cli("", "positions", "set", "live", "public.patrons", "0/1")
	require.Equal(t, 1, code)
	require.Contains(t, out, "noemata feeds copy live")
	require.Contains(t, s.must("feeds", "copy", "live"), "will be copied anew")
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "live")
		return err == nil && f.Tables[0].Copy == nil && f.Tables[0].State == "following" && f.Tables[0].Problem == nil
	}, 30*time.Second, 100*time.Millisecond)
	d.exec(`UPDATE patrons SET branch = 'Kesselgrund' WHERE id = 2`)
	require.Eventually(t, func() bool {
		return strings.Contains(s.must("versions", "live", "public.patrons", "2"), "Dornheim → Kesselgrund")
	}, 30*time.Second, 100*time.Millisecond)
	s.proved("live", "public.patrons", 1)
	samples, err := s.client.LogSamples(t.Context(), "live", 1)
	require.NoError(t, err)
	require.NotEmpty(t, samples)
	s.must("feeds", "remove", "live")
	var left int
	require.NoError(t, d.conn.QueryRow(t.Context(),
		`SELECT (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_replication_slots WHERE database = `+
			`current_database())`).Scan(&left))
	require.Zero(t, left, "nothing of the feed is left at the source")

	// What cannot be followed is refused before it does harm, with what to do.
	out, code = s.cli("feed: bare\nsource: circulation\nwarehouse: target\nfreshness: 1s\ntables:\n  - {table: "+
		"public.desk_events, find: log, keep: ledger}\n", "feeds", "apply", "-")
	require.NotZero(t, code)
	require.Contains(t, out, "REPLICA IDENTITY FULL")
	out, code = s.cli("feed: mixed\nsource: circulation\nwarehouse: target\ntables:\n  - {table: public.patrons, "+
		"find: log, keep: latest}\n  - {table: public.desk_events, find: whole, keep: replace}\n", "feeds", "check",
		"-")
	require.Zero(t, code, out)
}
