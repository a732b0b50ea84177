package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"noemata/client"
)

const visitsFeed = `feed: visits
source: circulation
warehouse: %s
%starget: kept.{table}
tables:
  - {table: public.visits, find: watermark, watermark: {column: at, start: now, settle: 1ms}, keep: history, page_rows: 100}
  - {table: public.desks, find: whole, keep: latest}
`

// visits is a table with a past of 200 days, of which the feed has brought nothing.
func visits(t *testing.T, kind, schedule string) (*service, *database) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", kind)
	d.exec(`CREATE TABLE visits (id int PRIMARY KEY, n int, at timestamptz NOT NULL); CREATE INDEX ON visits (at, id);
		CREATE TABLE desks (id int PRIMARY KEY);
		INSERT INTO visits SELECT i, 0, '2026-01-01Z'::timestamptz + i / 20 * interval '1 day' FROM generate_series(1, 4000) i`)
	s.apply(visitsFeed, "target", schedule)
	require.Equal(t, "done", s.finish("visits").State)
	return s, d
}

// A past is brought in slices, the newest first, while rows change and the feed runs, and through the
// death of the service: in the end both sides are equal, and each row came once.
func TestABackfillGoesOnBesideTheRuns(t *testing.T) {
	t.Parallel() // beside others that wait
	for _, kind := range []string{"duckdb", "postgresql"} {
		t.Run(kind, func(t *testing.T) {
			s, d := visits(t, kind, "every: 1s\n")
			_, err := s.client.StartFeed(t.Context(), "visits")
			require.NoError(t, err)
			out := s.must("backfill", "visits", "public.visits", "--slice", "8d", "--newest-first",
				"--to", "2026-07-20T00:00:00Z")
			require.Contains(t, out, "in 25 slices")
			for i := 1; ; i++ {
				d.exec(fmt.Sprintf("UPDATE visits SET n = %d, at = clock_timestamp() WHERE id %% 400 = %[1]d", i))
				time.Sleep(100 * time.Millisecond)
				if i == 5 {
					s.kill()
					s.start()
				}
				list, err := s.client.Backfills(t.Context(), "visits")
				if err == nil && list[0].Ended() {
					require.Equal(t, "done", list[0].State)
					require.EqualValues(t, 25, list[0].Done)
					require.LessOrEqual(t, list[0].Books.Inserted, int64(4000))
					break
				}
				require.Less(t, i, 600, "%+v %v", list, err)
			}
			_, err = s.client.PauseFeed(t.Context(), "visits")
			require.NoError(t, err)
			require.Equal(t, "done", s.finish("visits").State)
			s.proved("visits", "public.visits", 4000)
			runs, err := s.client.Runs(t.Context(), client.RunFilter{Feed: "visits", Changed: true, Limit: 100})
			require.NoError(t, err)
			by := map[string]int{}
			for _, r := range runs {
				by[r.Trigger]++
			}
			require.Positive(t, by["backfill"])
			require.Greater(t, by["schedule"], 1, "the feed runs beside the backfill")
		})
	}
}

func TestABackfillWaitsForAPerson(t *testing.T) {
	s, d := visits(t, "duckdb", "")
	fails := func(says string, args ...string) {
		t.Helper()
		out, code := s.cli("", append([]string{"backfill", "visits"}, args...)...)
		require.NotZero(t, code)
		require.Contains(t, out, says)
	}
	fails("found by whole: each run sees all of its rows", "public.desks")
	fails(`has no table "public.none"`, "public.none")
	fails("in whole", "public.visits", "--slice", "1 day")
	fails("more than 100000 slices", "public.visits", "--slice", "1s")
	fails("before it begins", "public.visits", "--from", "2026-02-01T00:00:00Z", "--to", "2026-01-01T00:00:00Z")
	fails("\"yesterday\" is not a time", "public.visits", "--from", "yesterday")

	// What cannot go on is tried again, and says why; a pause keeps what is done.
	d.exec("ALTER TABLE visits RENAME TO visits_away")
	fails("does not exist", "public.visits")
	d.exec("ALTER TABLE visits_away RENAME TO visits")
	b, err := s.client.StartBackfill(t.Context(), "visits", "public.visits", client.BackfillRange{Slice: "1d",
		From: "2026-02-01T00:00:00Z", To: "2026-03-01T00:00:00Z"})
	require.NoError(t, err)
	require.EqualValues(t, 28, b.Slices)
	_, err = s.client.SetBackfill(t.Context(), b.ID, "pause")
	require.NoError(t, err)
	d.exec("ALTER TABLE visits RENAME TO visits_away")
	s.must("backfills", "resume", fmt.Sprint(b.ID))
	require.Eventually(t, func() bool {
		b, err = s.client.Backfill(t.Context(), b.ID)
		return err == nil && b.Problem != nil
	}, 20*time.Second, 50*time.Millisecond)
	require.Contains(t, b.Problem.What, "does not exist")
	require.Contains(t, s.must("backfills", "list", "visits"), "does not exist")
	d.exec("ALTER TABLE visits_away RENAME TO visits")
	done := b.Done
	require.Eventually(t, func() bool {
		b, err = s.client.Backfill(t.Context(), b.ID)
		return err == nil && b.State == "done"
	}, 30*time.Second, 50*time.Millisecond)
	require.Less(t, done, b.Done)
	require.EqualValues(t, 29*20, b.Books.Inserted, "both ends count")
	out, code := s.cli("", "backfills", "stop", fmt.Sprint(b.ID))
	require.NotZero(t, code)
	require.Contains(t, out, "has ended: it is done")

	out = s.must("backfill", "visits", "public.visits", "--from", "2026-02-01T00:00:00Z", "--to",
		"2026-02-05T00:00:00Z", "--wait")
	require.Contains(t, out, "100 read, 0 inserted, 0 updated, 100 unchanged")
}

// The console asks for a range, shows how far it is, and pauses it.
func TestConsoleBackfills(t *testing.T) {
	s, _ := visits(t, "duckdb", "")
	b := newBrowser(t, s)
	b.signIn(s, "/")
	b.open("/feeds/visits")
	b.sees("Backfills", "No range was read again.")
	b.click("Backfill…")
	b.sees("Read a range again")
	b.fill(`input[placeholder="the table's position"]`, "2026-07-20T00:00:00Z")
	b.fill(`input[placeholder="all in one"]`, "1h") // 4 800 slices do not end before the acts do
	b.do(chromedp.Click(chromedp.Search(`//footer//button[contains(., "Start")]`)))
	b.sees("800", "2026-01-01T00:00:00.000000Z")
	act := func(button, then string) {
		t.Helper()
		b.click(button)
		b.sees(then)
		time.Sleep(300 * time.Millisecond) // one act at a time: a click beside another is none
	}
	act("Pause", "Resume")
	act("Resume", "Pause")
	act("Pause", "Resume")
	act("Stop", "stopped")
}
