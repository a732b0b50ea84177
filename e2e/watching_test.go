package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// What runs say is in the feed's log, which is filtered and followed; what they did is added up by table and
// day; and what that cost the source is told.
func TestWhatRunsSayAndDo(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	d := s.addPatrons(3, "duckdb", "")
	require.Equal(t, "done", s.finish("patrons").State)
	first, err := s.client.Log(t.Context(), "patrons", client.LogFilter{})
	require.NoError(t, err)
	last := first[len(first)-1].ID
	out := s.must("log", "patrons")
	require.Regexp(t, `The run begins, as a person has asked, in the process \w+ on `, out)
	require.Regexp(t, `public\.patrons: Read 3 rows, \d+ B up to [^;]+; 3 inserted; 1 commit; reading took`, out)
	require.Contains(t, out, "patrons: The run ends: 3 inserted.")

	// A failure is an error with its remedy, and the next attempt is told.
	d.exec(`ALTER TABLE patrons RENAME TO readers`)
	run := s.finish("patrons")
	require.Equal(t, "failed", run.State)
	d.exec(`ALTER TABLE readers RENAME TO patrons`)
	bad, err := s.client.Log(t.Context(), "patrons", client.LogFilter{Level: "error", After: last})
	require.NoError(t, err)
	require.NotEmpty(t, bad)
	for _, e := range bad {
		require.Equal(t, "error", e.Level)
		require.Equal(t, run.ID, e.Run)
		require.NotEmpty(t, e.Remedy, e.What)
	}
	require.NotContains(t, s.must("log", "patrons", "--run", fmt.Sprint(run.ID)), "3 inserted")
	require.Contains(t, s.must("log", "patrons", "--text", "INSERTED"), "3 inserted")
	require.Equal(t, "", s.must("log", "patrons", "--text", "nobody said so"))
	_, code := s.cli("", "log", "nothing")
	require.Equal(t, 1, code)

	d.exec(`INSERT INTO patrons SELECT i, clock_timestamp() FROM generate_series(10, 19) i; DELETE FROM patrons WHERE id = 1`)
	require.Equal(t, "done", s.finish("patrons").State)
	volumes, err := s.client.Volumes(t.Context(), "patrons", "public.patrons", 2)
	require.NoError(t, err)
	var read, inserted, bytes int64
	for _, v := range volumes { // the test may run over midnight
		read, inserted, bytes = read+v.Read, inserted+v.Inserted, bytes+v.Bytes
	}
	require.Equal(t, int64(13), inserted)
	require.GreaterOrEqual(t, read, inserted)
	require.Positive(t, bytes)
	require.Contains(t, s.must("volumes", "patrons"), "public.patrons")

	// What a feed follows of a structure that changes is said and alerted of.
	s.apply("%s", strings.Replace(patronsFeed, "tables:", "drift: {columns: follow}\ntables:", 1))
	d.exec(`ALTER TABLE patrons ADD phone text`)
	require.Eventually(t, func() bool {
		s.finish("patrons")
		said, err := s.client.Log(t.Context(), "patrons", client.LogFilter{Level: "warning", Text: "phone"})
		return err == nil && len(said) > 0 && said[0].Table == "public.patrons"
	}, 30*time.Second, time.Second)
	require.Eventually(t, func() bool { return strings.Contains(s.must("alerts"), "drift") }, 30*time.Second,
		500*time.Millisecond)

	c, err := s.client.Counts(t.Context(), "patrons", "public.patrons")
	require.NoError(t, err)
	require.NotZero(t, c.Bytes)

	b, err := s.client.Burden(t.Context(), "circulation", 2)
	require.NoError(t, err)
	require.Positive(t, b.Connections)
	require.Len(t, b.Feeds, 1)
	require.Greater(t, b.Feeds[0].Statements, int64(5))
	require.GreaterOrEqual(t, b.Feeds[0].Rows, read)
	require.Positive(t, b.Feeds[0].Seconds)
	require.Regexp(t, `circulation has \d+ connections? open now`, s.must("burden", "circulation"))
}

// Copies, proofs and backfills wait for the hours of their source, say so, and come when they do.
func TestHeavyReadingWaitsForItsHours(t *testing.T) {
	s := newService(t)
	soon := time.Now().UTC().Add(3 * time.Hour)
	hours := soon.Format("15:04") + "-" + soon.Add(time.Hour).Format("15:04")
	d := s.addPatrons(3, "duckdb", "")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY)`)
	s.must("sources", "change", "circulation", "--heavy-hours", hours)
	out, code := s.cli("", "sources", "change", "circulation", "--heavy-hours", "at night")
	require.Equal(t, 2, code)
	require.Contains(t, out, "Write them as 22:00-06:30")
	s.apply("feed: live\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: kept.{table}\ntables:\n" +
		"  - {table: public.loans, find: log, keep: latest}\n")
	_, err := s.client.StartFeed(t.Context(), "live")
	require.NoError(t, err)
	run := s.finish("patrons")
	require.Equal(t, "done", run.State)
	require.Zero(t, run.Books.Read)
	require.Contains(t, run.Tables[0].Notes[0],
		"The table is copied for the first time in the hours that its source lets it: "+hours)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "live")
		return err == nil && f.Tables[0].Copy != nil && strings.Contains(f.Tables[0].Copy.Waiting, "the hours must come") &&
			strings.Contains(f.Tables[0].Copy.Waiting, hours)
	}, 90*time.Second, 100*time.Millisecond, "a slot is made when other tests' transactions have ended")

	s.must("sources", "change", "circulation", "--heavy-hours", "")
	require.Equal(t, int64(3), s.finish("patrons").Books.Inserted)
	s.must("sources", "change", "circulation", "--heavy-hours", hours)
	d.exec(`INSERT INTO patrons VALUES (4, clock_timestamp())`)
	require.Equal(t, int64(1), s.finish("patrons").Books.Inserted, "what changes is read at any time")
	slices, err := s.client.StartBackfill(t.Context(), "patrons", "public.patrons",
		client.BackfillRange{From: "2026-01-01T00:00:00Z"})
	require.NoError(t, err)
	p, err := s.client.StartProof(t.Context(), "patrons", "public.patrons", false, "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		p, err = s.client.Proving(t.Context(), p.ID)
		return err == nil && p.State == "waiting" && strings.Contains(p.Phase, "for the hours of its source")
	}, 60*time.Second, 100*time.Millisecond)
	runs, err := s.client.Runs(t.Context(), client.RunFilter{Feed: "patrons", Limit: 100})
	require.NoError(t, err)
	for _, r := range runs {
		require.NotEqual(t, "backfill", r.Trigger, "a backfill waits, and makes no runs meanwhile: %+v", r)
	}
	s.must("sources", "change", "circulation", "--heavy-hours", "")
	require.Eventually(t, func() bool {
		b, err := s.client.Backfill(t.Context(), slices.ID)
		return err == nil && b.State == "done"
	}, 90*time.Second, 500*time.Millisecond)
	require.Eventually(t, func() bool { // it looks again within seconds
		p, err = s.client.Proving(t.Context(), p.ID)
		return err == nil && p.State == "done" && p.Proof.Same
	}, 90*time.Second, 200*time.Millisecond)
}

// What is older than it is kept is removed, and what is needed stays; lengths are an administrator's to say.
func TestWhatIsKept(t *testing.T) {
	list, records := processes(t, "desk")
	s := list[0]
	d := s.addPatrons(3, "duckdb", "")
	require.Equal(t, "done", s.finish("patrons").State)
	s.finish("patrons") // idle
	d.exec(`INSERT INTO patrons VALUES (4, clock_timestamp())`)
	require.Equal(t, int64(1), s.finish("patrons").Books.Inserted)
	conn := testkit.Connect(t, records)
	age := func(by string) {
		t.Helper()
		for _, sql := range []string{"UPDATE runs SET ended_at = ended_at - $1::interval",
			"UPDATE log_entries SET at = at - $1::interval"} {
			_, err := conn.Exec(t.Context(), sql, by)
			require.NoError(t, err)
		}
	}
	has := func(n int, sql, why string) {
		t.Helper()
		var is int
		require.Eventually(t, func() bool {
			return conn.QueryRow(t.Context(), "SELECT count(*) FROM "+sql).Scan(&is) == nil && (is == n || n < 0 && is > 0)
		}, 10*time.Second, 50*time.Millisecond, "%s: %s: %d", sql, why, &is)
	}
	const some = -1
	prune := func() { // it is done at the start, and every ten minutes
		s.stopNow()
		s.start()
	}
	has(some, "statements", "stays")
	age("2 hours")
	prune()
	has(2, "runs", "the idle one has gone")
	has(some, "statements", "stays")
	age("1 day")
	prune()
	has(0, "statements", "is old")
	has(2, "runs", "stays")
	has(some, "log_entries", "stays")
	out := s.must("retention", "set", "runs", "12h")
	require.Regexp(t, `runs +12h +14d`, out)
	prune()
	has(0, "runs", "is old")
	has(1, "feed_tables WHERE position <> ''", "where tables stand stays")
	has(some, "volumes", "stays")
	s.must("retention", "set", "logs", "forever")
	age("1000 days")
	prune()
	has(0, "log_entries WHERE run_id IS NOT NULL", "is old")
	for _, wrong := range [][]string{{"runs", "soon"}, {"runs", "0d"}, {"shelves", "3d"}} {
		out, code := s.cli("", append([]string{"retention", "set"}, wrong...)...)
		require.NotZero(t, code, out)
	}
	var kept []client.Retention
	require.NoError(t, json.Unmarshal([]byte(s.must("retention", "list", "--output", "json")), &kept))
	require.Equal(t, "12h", kept[2].Keep)
}

// The service's page drains a process and changes how long things are kept; a feed's page shows its log as it
// grows, and filters it.
func TestTheServiceInTheConsole(t *testing.T) {
	s := newService(t)
	d := s.addPatrons(3, "duckdb", "")
	require.Equal(t, "done", s.finish("patrons").State)
	b := newBrowser(t, s)
	b.signIn(s, "/service")
	b.sees("working", "what runs have said")
	b.press(`//button[contains(., "Drain")]`)
	b.press(`//div[contains(@class, "el-message-box")]//button[contains(., "Drain")]`)
	b.sees("drained", "No process takes up work")
	b.do(chromedp.WaitNotPresent(chromedp.CSS(".el-overlay")))
	b.click("Resume")
	b.sees("working")
	b.press(`//tr[contains(., "what runs have said")]//button[contains(., "Change")]`)
	b.fill(".length input", "soon")
	b.press(`//form//button[contains(., "Keep")]`)
	b.sees("is not a length of time")
	b.fill(".length input", "60d")
	b.press(`//form//button[contains(., "Keep")]`)
	b.sees("60d, usually 14d")

	b.open("/feeds/patrons")
	b.sees("The run ends: 3 inserted.", "Change by day")
	b.do(chromedp.WaitVisible(chromedp.CSS(`[aria-label="Change by day"] canvas`)))
	d.exec(`INSERT INTO patrons VALUES (4, clock_timestamp())`)
	s.finish("patrons")
	b.sees("The run ends: 1 inserted.")
	b.do(chromedp.SendKeys(chromedp.CSS(`[aria-label="Only entries with this text"] input, input[aria-label="Only entries with this text"]`), "3 INSERTED\r"),
		chromedp.WaitNotPresent(chromedp.Search(`//td[contains(., "The run ends: 1 inserted.")]`)))
	b.sees("The run ends: 3 inserted.")
	b.open("/sources")
	b.sees("circulation")
	b.click("Burden")
	b.sees("open now", "Their time")
}
