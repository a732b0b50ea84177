package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/pgserver"
	"noemata/internal/testkit"
)

const patronsFeed = `
feed: patrons
source: circulation
warehouse: target
tables:
  - table: public.patrons
    find: watermark
    watermark: {column: updated_at, settle: 0s}
    keep: latest
    target: copy.patrons
`

// addPatrons adds a source with some patrons, a warehouse, and a feed from one to the other;
// schedule is a line of its file, or empty.
func (s *service) addPatrons(n int, warehouse, schedule string) *database {
	s.t.Helper()
	d := s.addSource("circulation")
	s.addWarehouse("target", warehouse)
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, updated_at timestamptz NOT NULL)`)
	d.exec(`INSERT INTO patrons SELECT i, '2026-01-01Z' FROM generate_series(1, $1) i`, n)
	d.exec(`ANALYZE patrons`)
	s.apply("%s", strings.Replace(patronsFeed, "warehouse: target\n", "warehouse: target\n"+schedule+"\n", 1))
	return d
}

// failing runs the feed, which must fail, and gives what API and command line say.
func (s *service) failing(feed string) (client.Problem, string) {
	s.t.Helper()
	run := s.finish(feed)
	require.Equal(s.t, "failed", run.State)
	require.NotNil(s.t, run.Problem)
	out, code := s.cli("", "runs", "start", feed)
	require.Equal(s.t, 3, code)
	return *run.Problem, out
}

func TestAWarehouseThatStopsAndOneThatIsInUse(t *testing.T) {
	s := newService(t)
	server, err := pgserver.Start(t.Context(),
		pgserver.Options{Dir: filepath.Join(s.dir, "target"), Settings: testkit.Settings()})
	require.NoError(t, err)
	defer func() { _ = server.Stop() }()
	require.NoError(t, server.CreateDatabase(t.Context(), "reports"))
	settings := server.Settings("reports")
	_, err = s.client.AddConnection(t.Context(), client.Warehouses,
		client.NewConnection{Name: "target", Kind: "postgresql", Settings: &settings})
	require.NoError(t, err)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, updated_at timestamptz NOT NULL); INSERT INTO patrons ` +
		`SELECT i, '2026-01-01Z' FROM generate_series(1, 100) i`)
	s.apply("%s", patronsFeed)
	require.NoError(t, server.Stop())
	p, _ := s.failing("patrons")
	require.Contains(t, p.What, `(warehouse "target") refused the connection`)
	server, err = pgserver.Start(t.Context(),
		pgserver.Options{Dir: filepath.Join(s.dir, "target"), Port: settings.Port, Settings: testkit.Settings()})
	require.NoError(t, err)
	require.Equal(t, int64(100), s.finish("patrons").Books.Inserted)

	broken := filepath.Join(s.dir, "broken.duckdb")
	require.NoError(t, os.WriteFile(broken, []byte(strings.Repeat("this is not a database ", 500)), 0o600))
	_, err = s.client.AddConnection(t.Context(), client.Warehouses,
		client.NewConnection{Name: "broken", Kind: "duckdb", Settings: &client.Settings{Path: broken}})
	require.NoError(t, err)
	_, err = s.client.TestConnection(t.Context(), client.Warehouses, "broken")
	require.ErrorContains(t, err, "is not a DuckDB database")
}

func TestAFeedFileWithFaults(t *testing.T) {
	s := newService(t)
	s.addSource("circulation")
	s.addWarehouse("target", "duckdb")
	_, err := s.client.FeedFile(t.Context(), strings.Replace(patronsFeed, "keep:", "keeep:", 1), client.Apply)
	require.ErrorContains(t, err, "tables[0].keeep: There is no such field. Did you mean keep?")
	_, err = s.client.FeedFile(t.Context(), strings.Replace(patronsFeed, "source: circulation", "source: nowhere", 1),
		client.Apply)
	require.ErrorContains(t, err, `There is no source "nowhere"`)
	_, err = s.client.FeedFile(t.Context(), patronsFeed, client.Apply)
	require.ErrorContains(t, err, "The feed patrons was not applied: The table public.patrons does not exist")
	checked, err := s.client.FeedFile(t.Context(), patronsFeed, client.Check)
	require.NoError(t, err)
	require.Equal(t, "blocker", string(checked.Findings[0].Level))
	feeds, err := s.client.Feeds(t.Context())
	require.NoError(t, err)
	require.Empty(t, feeds, "nothing was changed")
}

func TestFindingsBeforeAFeedRuns(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "duckdb")
	d.exec(`CREATE TABLE patrons (id bigint, tags text[], updated_at timestamptz)`)
	x, err := s.client.FeedFile(t.Context(),
		strings.Replace(patronsFeed, "keep: latest", "keep: latest\n    key: [id]", 1), client.Check)
	require.NoError(t, err)
	var said []string
	for _, f := range x.Findings {
		said = append(said, string(f.Level)+" "+f.What+" "+f.Remedy)
	}
	all := strings.Join(said, "\n")
	require.Contains(t, all, "warning No index begins with \"updated_at\"")
	require.Contains(t, all, `CREATE INDEX CONCURRENTLY ON "public"."patrons" ("updated_at")`)
	require.Contains(t, all, "warning The watermark updated_at can be null")
	require.Contains(t, all, "note The column tags is text[], which is stored as text")
	require.Contains(t, all, "warning The source does not promise that the key of this table is unique")
	// A second feed must not write what another one keeps.
	s.apply("%s", strings.Replace(patronsFeed, "keep: latest", "keep: latest\n    key: [id]", 1))
	_, err = s.client.FeedFile(t.Context(),
		strings.NewReplacer("keep: latest", "keep: latest\n    key: [id]", "feed: patrons",
			"feed: other").Replace(patronsFeed), client.Apply)
	require.ErrorContains(t, err, "is kept by the feed patrons already")
}

// A schedule goes on by itself, waits longer after failures, and a restart of the
// service loses nothing of it.
func TestSchedule(t *testing.T) {
	s := newService(t)
	d := s.addPatrons(1, "duckdb", "every: 1s")
	_, err := s.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	arrives := func(n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			f, err := s.client.Feed(t.Context(), "patrons")
			return err == nil && f.Tables[0].Rows != nil && *f.Tables[0].Rows == n
		}, 20*time.Second, 100*time.Millisecond)
	}
	arrives(1)
	d.exec(`INSERT INTO patrons VALUES (2, clock_timestamp())`)
	arrives(2)
	s.kill()
	d.exec(`INSERT INTO patrons VALUES (3, clock_timestamp())`)
	s.start()
	arrives(3)
	_, err = s.client.PauseFeed(t.Context(), "patrons")
	require.NoError(t, err)
	d.exec(`ALTER TABLE patrons RENAME TO gone`)
	_, err = s.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "patrons")
		return err == nil && f.Tables[0].State == "failing" && f.NextRunAt != nil &&
			time.Until(*f.NextRunAt) > 2*time.Second
	}, 20*time.Second, 100*time.Millisecond, "the pause grows after a failure")
}
