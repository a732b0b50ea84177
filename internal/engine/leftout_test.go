package engine_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
)

var allKeeps = []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory, feed.KeepLedger}

// A row that was left out by the filter for a while, and comes back by a change that does not tell all
// its values, has none that it had before: what was changed meanwhile is not known. It is set aside
// until it is written whole.
func TestARowThatComesBackHasNoStaleValues(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
		table := func(keep feed.Keep) string { return "public." + strings.ReplaceAll(string(keep), "-", "_") }
		var tables []feed.Table
		for _, keep := range allKeeps {
			b.exec("CREATE TABLE " + table(keep) + " (id int PRIMARY KEY, kind text, note text); ALTER TABLE " + table(keep) +
				" ALTER note SET STORAGE EXTERNAL")
			tables = append(tables, feed.Table{Table: table(keep), Keep: keep, Where: `kind == "card"`,
				Target: strings.Replace(table(keep), "public", "kept", 1)})
		}
		f := newFollower(t, b, tables...)
		f.catchUp()
		aside := 0
		for version := range 25 {
			for n := range 1 + r.IntN(12) {
				sql := comesAndGoes(r, 20*version+n)
				for _, keep := range allKeeps {
					b.exec(strings.ReplaceAll(sql, "TABLE_", table(keep)))
				}
			}
			f.catchUp()
			for _, x := range tables {
				aside += f.nothingStale(x)
			}
		}
		require.Positive(t, aside)
	})
}

// comesAndGoes is a change of TABLE_ by which a row may enter the filter or leave it, most often
// without its note, which the log then leaves out.
func comesAndGoes(r *rand.Rand, version int) string {
	id := 1 + r.IntN(6)
	kind := []string{"card", "cash"}[r.IntN(2)]
	note := fmt.Sprintf("repeat('%d ', 900)", version)
	switch r.IntN(12) {
	case 0, 1, 2:
		return fmt.Sprintf("UPDATE TABLE_ SET kind = '%s', note = %s WHERE id = %d", kind, note, id)
	case 3:
		return fmt.Sprintf("DELETE FROM TABLE_ WHERE id = %d", id)
	case 4, 5:
		return fmt.Sprintf("INSERT INTO TABLE_ VALUES (%d, '%s', %s) ON CONFLICT DO NOTHING", id, kind, note)
	case 6:
		return fmt.Sprintf("UPDATE TABLE_ SET id = id + 6 WHERE id = %d AND NOT EXISTS (SELECT 1 FROM TABLE_ AS x WHERE "+
			"x.id = %[1]d + 6)", id)
	case 7:
		return "DELETE FROM TABLE_ WHERE id > 6"
	}
	return fmt.Sprintf("UPDATE TABLE_ SET kind = '%s' WHERE id = %d", kind, id)
}

// nothingStale makes sure that a target has the rows of its table that the filter lets in, but for those
// that were set aside, and gives how many these are.
func (f *follower) nothingStale(x feed.Table) int {
	holds := map[feed.Keep]string{feed.KeepLatest: "true", feed.KeepSoftDelete: "nm_deleted_at IS NULL",
		feed.KeepHistory: "nm_current"}[x.Keep]
	has := "SELECT id, left(note, 9) FROM " + x.Target + " WHERE " + holds
	if x.Keep == feed.KeepLedger {
		has = "SELECT id, left(note, 9) FROM (SELECT DISTINCT ON (id) * FROM " + x.Target +
			" ORDER BY id, nm_position DESC) AS l WHERE nm_change <> 'delete'"
	}
	waits := map[string]bool{}
	for _, key := range f.see("SELECT key FROM noemata.set_aside WHERE source_table = '" + x.Table + "'") {
		waits[strings.Trim(key, `[]"`)] = true
	}
	must := map[string]string{}
	found, err := f.conn.Query(f.t.Context(), "SELECT id::text, left(note, 9) FROM "+x.Table+" WHERE kind = 'card'")
	require.NoError(f.t, err)
	for found.Next() {
		var id, note string
		require.NoError(f.t, found.Scan(&id, &note))
		must[id] = note
	}
	require.NoError(f.t, found.Err())
	for _, row := range f.see(has) {
		id, note, _ := strings.Cut(row, " | ")
		at := fmt.Sprintf("%s, row %s", x.Keep, id)
		require.Contains(f.t, must, id, at)
		require.Equal(f.t, must[id], note, at)
		if x.Keep == feed.KeepLatest || x.Keep == feed.KeepSoftDelete { // others lack what it was before
			require.NotContains(f.t, waits, id, at)
		}
		delete(must, id)
	}
	for id := range must {
		require.Contains(f.t, waits, id, "%s, row %s", x.Keep, id)
	}
	return len(waits)
}
