//go:build duckdb_arrow

package lake

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// asked is the first value that a question is answered, at a mark or of what holds now.
func asked(t *testing.T, w *Warehouse, mark, sql string) any {
	t.Helper()
	c, err := w.Converse(t.Context(), func(string) bool { return true })
	require.NoError(t, err)
	defer c.Close()
	if mark != "" {
		require.NoError(t, c.(*conversation).AtMark(t.Context(), mark))
	}
	q, err := c.Prepare(t.Context(), sql)
	require.NoError(t, err)
	answer, err := c.Ask(t.Context(), q, nil)
	require.NoError(t, err)
	defer answer.Close()
	record, err := answer.Next(t.Context())
	require.NoError(t, err)
	return strings.Clone(record.Column(0).ValueStr(0))
}

// What was marked stays, whatever becomes of the table and with whatever upkeep, until the mark is removed or its time
// is over; then its files go.
func TestMarks(t *testing.T) {
	w, settings := newLake(t)
	const sum = "SELECT count(*) || ' ' || string_agg(DISTINCT branch, ',' ORDER BY branch) FROM kept.shelves"
	require.NoError(t, w.Mark(t.Context(), "empty", 0), "there is nothing to be marked yet")
	ask(t, w, "INSERT INTO kept.shelves (id, branch) SELECT i, 'a' FROM range(100) r(i)")
	require.NoError(t, w.Mark(t.Context(), "2026-11-30", 0))
	require.NoError(t, w.Mark(t.Context(), "for-a-moment", time.Second))
	ask(t, w, "UPDATE kept.shelves SET branch = 'b' WHERE id < 50")
	ask(t, w, "DELETE FROM kept.shelves WHERE id >= 90")
	require.NoError(t, w.Mark(t.Context(), "later", time.Hour))
	ask(t, w, "DELETE FROM kept.shelves")
	ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (1, 'z')")
	require.True(t, problem.Is(w.Mark(t.Context(), "later", 0), problem.Conflict))
	for _, wrong := range []string{"", "main", "a b", "-a", "a/b", "ä"} {
		require.True(t, problem.Is(w.Mark(t.Context(), wrong, 0), problem.Invalid), wrong)
	}
	holds := func() {
		t.Helper()
		require.Equal(t, "100 a", asked(t, w, "2026-11-30", sum))
		require.Equal(t, "90 a,b", asked(t, w, "later", sum))
		require.Equal(t, "1 z", asked(t, w, "", sum))
	}
	holds()
	snapshots, files, often := snapshotsFor, filesFor, lookAgain
	snapshotsFor, filesFor, lookAgain = time.Millisecond, time.Millisecond, 0
	t.Cleanup(func() { snapshotsFor, filesFor, lookAgain = snapshots, files, often })
	time.Sleep(1500 * time.Millisecond)
	require.NoError(t, w.Upkeep(t.Context()))
	holds()
	marks, err := w.Marks(t.Context())
	require.NoError(t, err)
	require.Len(t, marks, 2, "the time of one is over")
	require.Equal(t, []string{"later", "2026-11-30"}, []string{marks[0].Name, marks[1].Name})
	require.WithinDuration(t, time.Now().Add(time.Hour), *marks[0].Until, time.Minute)
	require.Nil(t, marks[1].Until)
	require.Equal(t, 1, marks[0].Tables)

	before := len(filesOf(t, settings, "data"))
	require.NoError(t, w.Unmark(t.Context(), "2026-11-30"))
	require.NoError(t, w.Unmark(t.Context(), "later"))
	require.True(t, problem.Is(w.Unmark(t.Context(), "later"), problem.NotFound))
	require.True(t, problem.Is(w.Unmark(t.Context(), "main"), problem.NotFound))
	time.Sleep(10 * time.Millisecond)
	require.NoError(t, w.Upkeep(t.Context()))
	require.Less(t, len(filesOf(t, settings, "data")), before)
	require.Equal(t, "1 z", asked(t, w, "", sum))
	c, err := w.Converse(t.Context(), func(string) bool { return true })
	require.NoError(t, err)
	defer c.Close()
	require.True(t, problem.Is(c.(*conversation).AtMark(t.Context(), "later"), problem.NotFound))
}

// Each day has its mark, once its time has come, and one only.
func TestDailyMarks(t *testing.T) {
	w, _ := newLake(t)
	ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (1, 'z')")
	var err error
	w.daily, err = dailyOf(connection.Settings{MarkDaily: "22:30", MarkZone: "Europe/Vienna", MarkKeep: "90d"})
	require.NoError(t, err)
	names := func() (list []string) {
		marks, err := w.Marks(t.Context())
		require.NoError(t, err)
		for _, m := range marks {
			list = append(list, m.Name)
		}
		return list
	}
	day := time.Date(2026, 11, 30, 21, 29, 59, 0, time.UTC) // 22:29:59 in Vienna
	require.NoError(t, w.markToday(t.Context(), day))
	require.Empty(t, names())
	for _, later := range []time.Duration{time.Second, time.Minute, 90 * time.Minute} {
		require.NoError(t, w.markToday(t.Context(), day.Add(later)))
		require.Equal(t, []string{"2026-11-30"}, names())
		w.daily.marked = "" // as in another process
	}
	require.NoError(t, w.markToday(t.Context(), day.Add(24*time.Hour+time.Minute)))
	require.ElementsMatch(t, []string{"2026-11-30", "2026-12-01"}, names())
	for field, s := range map[string]connection.Settings{"mark_daily": {MarkDaily: "25:00"},
		"mark_zone": {MarkDaily: "10:00", MarkZone: "Nowhere/At"}, "mark_keep": {MarkDaily: "10:00", MarkKeep: "soon"}} {
		_, err := dailyOf(s)
		require.Equal(t, field, problem.Of(err).Field)
	}
}
