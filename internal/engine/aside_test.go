package engine_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/engine"
	"noemata/internal/warehouse"
)

// A row that is set aside has no values that a change may leave out: what the warehouse has is of before.
// It stays as it was, and set aside, until it is written whole.
func TestValuesThatWereSetAsideAreNotThoseOfBefore(t *testing.T) {
	raceless(t)
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec("SET GLOBAL sql_mode = ''")
		var tables []feed.Table
		for _, keep := range allKeeps {
			name := strings.ReplaceAll(string(keep), "-", "_")
			b.exec(`CREATE TABLE ` + name + ` (id int PRIMARY KEY, bought date, note varchar(20));
				INSERT INTO ` + name + ` VALUES (1, '2026-01-01', 'a'), (2, '2026-01-01', 'a'), (3, '2026-01-01', 'a')`)
			tables = append(tables, feed.Table{Table: b.table(name), Keep: keep, Target: "kept." + name})
		}
		f := newFollower(t, b.workbench, tables...)
		f.settle()
		on := func(image string, statements ...string) {
			all := []string{"SET SESSION sql_mode = '', binlog_row_image = '" + image + "'"}
			for _, keep := range allKeeps {
				for _, sql := range statements {
					all = append(all, strings.ReplaceAll(sql, "TABLE_", strings.ReplaceAll(string(keep), "-", "_")))
				}
			}
			b.session(all...)
			f.settle()
		}
		has := func(keep feed.Keep, want ...string) {
			t.Helper()
			name := strings.ReplaceAll(string(keep), "-", "_")
			holds := map[feed.Keep]string{feed.KeepLatest: "true", feed.KeepSoftDelete: "nm_deleted_at IS NULL",
				feed.KeepHistory: "nm_current", feed.KeepLedger: "nm_change <> 'delete'"}[keep]
			require.Equal(t, want, f.see("SELECT id, CAST(bought AS VARCHAR), note FROM kept."+name+" WHERE "+holds+
				" ORDER BY id, note"), string(keep))
		}
		aside := func(want ...string) {
			t.Helper()
			for _, x := range tables {
				require.ElementsMatch(t, want, f.see("SELECT DISTINCT key FROM noemata.set_aside WHERE source_table = '"+x.Table+
					"' ORDER BY key"), x.Table)
			}
		}
		// In one batch, and in two.
		on("MINIMAL", "UPDATE TABLE_ SET bought = '2026-00-15' WHERE id = 1")
		on("MINIMAL", "UPDATE TABLE_ SET note = 'b' WHERE id = 1", "UPDATE TABLE_ SET bought = '2026-00-16' WHERE id = 2",
			"UPDATE TABLE_ SET note = 'b' WHERE id = 2", "UPDATE TABLE_ SET bought = '2026-00-17' WHERE id = 3",
			"UPDATE TABLE_ SET id = 4 WHERE id = 3")
		for _, keep := range allKeeps[:3] {
			has(keep, "1 | 2026-01-01 | a", "2 | 2026-01-01 | a")
		}
		has(feed.KeepLedger, "1 | 2026-01-01 | a", "2 | 2026-01-01 | a", "3 | 2026-01-01 | a")
		aside(`["1"]`, `["2"]`, `["4"]`)
		on("FULL", "UPDATE TABLE_ SET bought = '2026-03-03'")
		for _, keep := range allKeeps[:3] {
			has(keep, "1 | 2026-03-03 | b", "2 | 2026-03-03 | b", "4 | 2026-03-03 | a")
		}
		aside()
		// What was set aside for a while only is not listed any more.
		on("FULL", "UPDATE TABLE_ SET bought = '2026-00-18' WHERE id = 1",
			"UPDATE TABLE_ SET bought = '2026-04-04' WHERE id = 1",
			"UPDATE TABLE_ SET bought = '2026-00-19' WHERE id = 2", "DELETE FROM TABLE_ WHERE id = 2")
		aside()
		f.proveAll()
	})
}

// A change that cannot be stored, and that came while its table was copied, is not lost.
func TestAChangeThatIsSetAsideWhileItsTableIsCopied(t *testing.T) {
	raceless(t)
	b := newMariaBench(t, "duckdb")
	b.exec("CREATE TABLE copies (id int PRIMARY KEY, bought date); INSERT INTO copies VALUES (1, '2026-01-01')")
	f := newFollower(t, b.workbench, feed.Table{Table: b.table("copies"), Keep: feed.KeepLatest, Target: "kept.copies"})
	w := f.work()
	var once sync.Once
	w.Report = func(r engine.LogReport) {
		for _, x := range r.Tables {
			if x.State == warehouse.Copying && x.Copied > 0 { // its snapshot was taken
				once.Do(func() {
					b.session("SET SESSION sql_mode = ''", "UPDATE copies SET bought = '2026-00-15' WHERE id = 1")
					time.Sleep(300 * time.Millisecond) // the log is read meanwhile
				})
			}
		}
	}
	_, err := f.engine.Follow(t.Context(), w)
	require.NoError(t, err)
	f.settle()
	require.Equal(t, []string{`["1"]`}, f.see("SELECT key FROM noemata.set_aside"))
	b.exec("UPDATE copies SET bought = '2026-02-02'")
	f.settle()
	require.Empty(t, f.see("SELECT key FROM noemata.set_aside"))
	f.proveAll()
}
