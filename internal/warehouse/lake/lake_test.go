//go:build duckdb_arrow

package lake

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/testkit"
	"noemata/internal/testkit/byhand"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// newLake is a lake with a table kept.shelves, of a key and a text.
func newLake(t *testing.T) (*Warehouse, connection.Settings) {
	settings, _ := testkit.Database(t)
	settings.Path = filepath.Join(testkit.Dir(t), "lake")
	w, err := Open(settings, `warehouse "lake"`)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	_, err = w.Prepare(t.Context(), shelves)
	require.NoError(t, err)
	return w.(*Warehouse), settings
}

var shelves = warehouse.Target{Name: schema.Name{Schema: "kept", Table: "shelves"}, Keep: feed.KeepLatest,
	Prefix: "nm_",
	Key:    []string{"id"}, Columns: warehouse.ColumnsOf([]schema.Column{
		{Name: "id", Type: schema.Type{Kind: schema.Int64}, Native: "bigint"},
		{Name: "branch", Type: schema.Type{Kind: schema.Text}, Native: "text"}}, "nm_", feed.KeepLatest, false)}

func ask(t *testing.T, w *Warehouse, sql string, args ...any) [][]any {
	t.Helper()
	found, err := byhand.Ask(t.Context(), w.connect, fmt.Sprintf(sql, args...))
	require.NoError(t, err, sql)
	return found
}

// filesOf are the files of a table that are in its folder.
func filesOf(t *testing.T, s connection.Settings, kind string) []string {
	list, err := filepath.Glob(filepath.Join(s.Path, "kept", "shelves-*", kind, "*"))
	require.NoError(t, err)
	return list
}

// Files are put together, old snapshots let go, and files that no commit names removed: those of a process that was
// killed, too. The rows are the same throughout.
func TestUpkeep(t *testing.T) {
	w, settings := newLake(t)
	for i := range 30 {
		ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (%d, 'b%[1]d'), (%d, 'c')", i, 100+i)
		ask(t, w, "DELETE FROM kept.shelves WHERE id = %d", 100+i)
	}
	rows := ask(t, w, "SELECT id, branch FROM kept.shelves ORDER BY id")
	require.Len(t, rows, 30)
	require.Len(t, filesOf(t, settings, "data"), 60)
	lost := filepath.Join(filepath.Dir(filesOf(t, settings, "data")[0]), "of-a-process-that-was-killed.parquet")
	require.NoError(t, os.WriteFile(lost, []byte("PAR1"), 0o600))

	require.NoError(t, w.Upkeep(t.Context()))
	require.Len(t, filesOf(t, settings, "data"), 62,
		"old snapshots have them, and what is lost may be of a commit under way")
	require.Equal(t, rows, ask(t, w, "SELECT id, branch FROM kept.shelves ORDER BY id"))

	snapshots, files, often := snapshotsFor, filesFor, lookAgain
	snapshotsFor, filesFor, lookAgain = time.Millisecond, time.Millisecond, 0
	t.Cleanup(func() { snapshotsFor, filesFor, lookAgain = snapshots, files, often })
	time.Sleep(10 * time.Millisecond)
	require.NoError(t, w.Upkeep(t.Context()))
	require.Len(t, filesOf(t, settings, "data"), 1)
	require.Equal(t, rows, ask(t, w, "SELECT id, branch FROM kept.shelves ORDER BY id"))
	ask(t, w, "UPDATE kept.shelves SET branch = 'z' WHERE id = 3")
	require.Equal(t, "z", ask(t, w, "SELECT branch FROM kept.shelves WHERE id = 3")[0][0])
}

// A file all of whose rows are gone goes with them, and no places of rows are written for it.
func TestDeadFiles(t *testing.T) {
	w, _ := newLake(t)
	names := func() (files, deletes int) {
		c, err := w.connect(t.Context())
		require.NoError(t, err)
		defer c.Close()
		tbl, err := w.load(t.Context(), c, shelves.Name)
		require.NoError(t, err)
		tasks, err := tbl.Scan().PlanFiles(t.Context())
		require.NoError(t, err)
		for _, task := range tasks {
			deletes += len(task.DeleteFiles)
		}
		return len(tasks), deletes
	}
	ask(t, w, "INSERT INTO kept.shelves (id, branch) SELECT i, 'a' FROM range(100) r(i)")
	ask(t, w, "INSERT INTO kept.shelves (id, branch) SELECT i, 'b' FROM range(100, 200) r(i)")
	ask(t, w, "DELETE FROM kept.shelves WHERE id %% 2 = 0 AND id < 100")
	files, deletes := names()
	require.Equal(t, []int{2, 1}, []int{files, deletes})
	ask(t, w, "UPDATE kept.shelves SET branch = 'c' WHERE id < 101") // what is left of the first file, and a row of the second
	files, deletes = names()
	require.Equal(t, []int{2, 1}, []int{files, deletes})
	require.Equal(t, int64(150), ask(t, w, "SELECT count(*) FROM kept.shelves")[0][0])
	ask(t, w, "DELETE FROM kept.shelves")
	files, deletes = names()
	require.Equal(t, []int{0, 0}, []int{files, deletes})
	require.Equal(t, int64(0), ask(t, w, "SELECT count(*) FROM kept.shelves")[0][0])
}

// A process that dies between any two steps of a commit leaves the lake as it was: the pointers are moved by the COMMIT
// that moves the position, and what was written before it is named by nobody.
func TestDeathAtEachStepOfACommit(t *testing.T) {
	for _, step := range []string{"after the rows were written", "after the metadata was written",
		"after the pointers were moved"} {
		t.Run(step, func(t *testing.T) {
			w, settings := newLake(t)
			ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (1, 'a'), (2, 'b')")
			before := len(filesOf(t, settings, "metadata"))
			opened, err := w.connect(t.Context())
			require.NoError(t, err)
			c := opened.(*conn)
			_, err = c.Exec(t.Context(), "BEGIN")
			require.NoError(t, err)
			require.NoError(t, c.tables.Bring(t.Context(), shelves.Name, sqlmerge.AllRows))
			_, err = c.tables.Exec(t.Context(),
				"UPDATE kept.shelves SET branch = 'other' WHERE id = 1; DELETE FROM kept.shelves WHERE id = 2")
			require.NoError(t, err)
			switch step {
			case "after the rows were written":
				l := c.tables.known(shelves.Name)
				has, placed, err := c.tables.described(t.Context(), l)
				require.NoError(t, err)
				tbl, _, _, err := c.tables.evolved(l, has)
				require.NoError(t, err)
				rows, deletes, dead, err := c.tables.files(t.Context(), l, tbl, has, placed)
				require.NoError(t, err)
				require.Equal(t, []int{1, 0, 1}, []int{len(rows), len(deletes), len(dead)})
			case "after the metadata was written":
				_, err := c.tables.write(t.Context())
				require.NoError(t, err)
				require.Greater(t, len(filesOf(t, settings, "metadata")), before)
			default:
				_, err := c.move(t.Context())
				require.NoError(t, err)
			}
			c.Conn.Close() // the process is gone, and its files stay
			c.tables.Close()
			require.Equal(t, [][]any{{int64(1), "a"}, {int64(2), "b"}}, ask(t, w,
				"SELECT id, branch FROM kept.shelves ORDER BY id"))
			ask(t, w, "UPDATE kept.shelves SET branch = 'next' WHERE id = 1")
			require.Equal(t, [][]any{{int64(1), "next"}, {int64(2), "b"}}, ask(t, w,
				"SELECT id, branch FROM kept.shelves ORDER BY id"))
		})
	}
}

// Who has a table that another has changed meanwhile is told so, and nothing of it is written.
func TestAPointerThatHasMoved(t *testing.T) {
	w, settings := newLake(t)
	ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (1, 'a')")
	opened, err := w.connect(t.Context())
	require.NoError(t, err)
	defer opened.Close()
	c := opened.(*conn)
	_, err = c.Exec(t.Context(), "BEGIN")
	require.NoError(t, err)
	require.NoError(t, c.tables.Bring(t.Context(), shelves.Name, sqlmerge.AllRows))
	_, err = c.tables.Exec(t.Context(), "UPDATE kept.shelves SET branch = 'mine'")
	require.NoError(t, err)
	ask(t, w, "UPDATE kept.shelves SET branch = 'theirs'")
	files := len(filesOf(t, settings, "data"))
	_, err = c.Exec(t.Context(), "COMMIT")
	require.ErrorContains(t, err, "was moved by another worker")
	c.tables.forget()
	require.Len(t, filesOf(t, settings, "data"), files)
	require.Equal(t, "theirs", ask(t, w, "SELECT branch FROM kept.shelves")[0][0])
}

// answered asks a question, and gives the first column of its rows.
func answered(t *testing.T, c warehouse.Conversation, sql string) (list []string) {
	t.Helper()
	q, err := c.Prepare(t.Context(), sql)
	require.NoError(t, err, sql)
	a, err := c.Ask(t.Context(), q, nil)
	require.NoError(t, err, sql)
	defer a.Close()
	for {
		r, err := a.Next(t.Context())
		require.NoError(t, err)
		if r == nil {
			return list
		}
		for i := range int(r.NumRows()) {
			list = append(list, strings.Clone(r.Column(0).ValueStr(i)))
		}
	}
}

// A lake is asked while it is written: each question sees what was committed by then, or by Begin, and nothing but the
// tables that its asker may read: no files, and none of what the lake keeps for itself.
func TestALakeIsAsked(t *testing.T) {
	w, settings := newLake(t)
	past := shelves
	past.Name.Table, past.Keep = "past", feed.KeepHistory
	past.Columns = warehouse.ColumnsOf(shelves.Values(), "nm_", feed.KeepHistory, false)
	_, err := w.Prepare(t.Context(), past)
	require.NoError(t, err)
	ask(t, w, "INSERT INTO kept.past (id, branch, nm_from, nm_until, nm_current) VALUES (1, 'a', '2026-01-01 00:00:00Z', '2026-02-01 00:00:00Z', false),"+
		" (1, 'b', '2026-02-01 00:00:00Z', NULL, true)")
	ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (1, 'first')")
	c, err := w.Converse(t.Context(), func(schema string) bool { return schema == "kept" })
	require.NoError(t, err)
	defer c.Close()
	const question = "SELECT branch FROM kept.shelves ORDER BY id"
	require.Equal(t, []string{"first"}, answered(t, c, question))
	ask(t, w, "INSERT INTO kept.shelves (id, branch) VALUES (2, 'second')")
	require.Equal(t, []string{"first", "second"}, answered(t, c, question))
	require.NoError(t, c.Begin(t.Context()))
	ask(t, w, "DELETE FROM kept.shelves WHERE id = 1")
	require.Equal(t, []string{"first", "second"}, answered(t, c, question))
	c.End()
	require.Equal(t, []string{"second"}, answered(t, c, question))
	require.Equal(t, []string{"a"}, answered(t, c, "SELECT branch FROM kept.past_as_of('2026-01-15 00:00:00Z')"))
	c.AsOf(time.Date(2026, 1, 15, 0, 0, 0, 0, time.UTC))
	require.Equal(t, []string{"a"}, answered(t, c, "SELECT branch FROM kept.past"))
	c.AsOf(time.Time{})
	list, err := c.Tables(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 2+len(warehouse.Published), "%+v", list)
	data := filesOf(t, settings, "data")[0]
	for _, refused := range []string{"SELECT * FROM '" + data + "'", "SELECT * FROM kept.\"" + data + "\"",
		"SELECT * FROM read_parquet('" + data + "')", "SELECT * FROM main.noemata_files_0", "SELECT * FROM noemata_files_0",
		"SELECT * FROM noemata.positions", "DROP VIEW kept.shelves", "COPY kept.shelves TO '" + settings.Path + "/x'",
		"SELECT * FROM parquet_metadata('" + data + "')", "SELECT * FROM glob('" + settings.Path + "/*')",
		"SELECT content FROM read_text('/etc/hostname')", "SELECT * FROM work.main.noemata_files_0"} {
		_, err := c.Prepare(t.Context(), refused)
		require.Error(t, err, refused)
		require.ErrorAs(t, err, new(*warehouse.Mistake), refused)
	}
	other, err := w.Converse(t.Context(), func(string) bool { return false })
	require.NoError(t, err)
	defer other.Close()
	_, err = other.Prepare(t.Context(), question)
	require.ErrorContains(t, err, "You may not ask the schema kept")
}

// Rows that two transactions add to one table are both there; but not where one of them has given it another column.
func TestTwoAddRows(t *testing.T) {
	w, _ := newLake(t)
	begun := func() *conn {
		opened, err := w.connect(t.Context())
		require.NoError(t, err)
		t.Cleanup(opened.Close)
		c := opened.(*conn)
		_, err = c.Exec(t.Context(), "BEGIN")
		require.NoError(t, err)
		require.NoError(t, c.tables.Bring(t.Context(), shelves.Name, sqlmerge.NoRows))
		return c
	}
	add := func(c *conn, sql string) {
		_, err := c.tables.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	one, two, three := begun(), begun(), begun()
	add(one, "INSERT INTO kept.shelves (id, branch) VALUES (1, 'a')")
	add(two, "INSERT INTO kept.shelves (id, branch) VALUES (2, 'b')")
	_, err := one.Exec(t.Context(), "COMMIT")
	require.NoError(t, err)
	_, err = two.Exec(t.Context(), "COMMIT")
	require.NoError(t, err)
	require.Equal(t, [][]any{{int64(1)}, {int64(2)}}, ask(t, w, "SELECT id FROM kept.shelves ORDER BY id"))
	ask(t, w, "ALTER TABLE kept.shelves ADD COLUMN floor INTEGER")
	add(three, "INSERT INTO kept.shelves (id, branch) VALUES (3, 'c')")
	_, err = three.Exec(t.Context(), "COMMIT")
	require.ErrorContains(t, err, "was moved by another worker")
	require.Equal(t, int64(2), ask(t, w, "SELECT count(floor IS NULL) FROM kept.shelves")[0][0])
}

// A transaction that wants more memory than it had ends with that, and the next one has more, up to a bound.
func TestMoreMemory(t *testing.T) {
	w, _ := newLake(t)
	var said []string
	for range 4 {
		c, err := w.connect(t.Context())
		require.NoError(t, err)
		_, err = c.(*conn).tables.Exec(t.Context(),
			"CREATE TABLE t AS SELECT list(repeat('x', 100000) || i) AS l FROM range(20000) r(i)")
		require.Error(t, err)
		said = append(said, err.Error())
		c.Close()
	}
	require.Contains(t, said[0], "more than 256 MB of memory. The next run has 512 MB")
	require.Contains(t, said[1], "more than 512 MB of memory. The next run has 1024 MB")
	require.Contains(t, said[2], "more than 1024 MB of memory. Divide the feed")
	require.Contains(t, said[3], "more than 1024 MB of memory. Divide the feed")
	asked := &tables{lake: w}
	defer asked.Close()
	_, err := asked.Exec(t.Context(),
		"CREATE TABLE t AS SELECT list(repeat('x', 100000) || i) AS l FROM range(20000) r(i)")
	require.ErrorContains(t, err, "A question to the")
	require.ErrorContains(t, err, "256 MB")
}

// What the settings cannot be, and what is not the lake's, is refused.
func TestWhatIsNoLake(t *testing.T) {
	good := connection.Settings{Path: "/srv/lake", Host: "127.0.0.1", Database: "catalogue", User: "noemata"}
	for field, change := range map[string]func(*connection.Settings){
		"path":     func(s *connection.Settings) { s.Path = "" },
		"database": func(s *connection.Settings) { s.Database = "" },
		"ask_user": func(s *connection.Settings) { s.AskUser = "reader" },
		"a bucket": func(s *connection.Settings) { s.Bucket = &connection.Bucket{Name: "archive"} },
	} {
		s := good
		change(&s)
		_, err := Check(s)
		require.Error(t, err, field)
	}
	_, err := Check(good)
	require.NoError(t, err)
	_, err = Check(connection.Settings{Bucket: &connection.Bucket{Name: "archive"}})
	require.NoError(t, err, "its catalogue is in the service's own server")
	_, err = Open(connection.Settings{Path: "/srv/lake"}, "lake")
	require.ErrorContains(t, err, "no database for its catalogue")
	w, settings := newLake(t)
	_, err = w.keeper.Ask(t.Context(),
		"UPDATE public.iceberg_tables SET metadata_location = 'file:///etc/passwd' RETURNING 1")
	require.NoError(t, err)
	_, err = byhand.Ask(t.Context(), w.connect, "SELECT * FROM kept.shelves")
	require.ErrorContains(t, err, "is not in file://"+settings.Path)
	c, err := w.connect(t.Context())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.(*conn).tables.Ask(t.Context(), "SELECT * FROM read_csv('/etc/passwd')")
	require.ErrorContains(t, err, "Permission")
}

// Bounds that are written with a file are those of its values, or beyond them: else rows that are looked for by
// their key
// would not be found. So it is with texts of any characters and length.
func TestBoundsOfTexts(t *testing.T) {
	w, _ := newLake(t)
	opened, err := w.connect(t.Context())
	require.NoError(t, err)
	defer opened.Close()
	its := opened.(*conn).tables
	tbl, err := w.load(t.Context(), opened.(*conn).Conn, shelves.Name)
	require.NoError(t, err)
	field := tbl.Schema().Fields()[1]
	_, err = its.Exec(t.Context(), "CREATE TABLE main.texts (branch VARCHAR)")
	require.NoError(t, err)
	text := rapid.Custom(func(r *rapid.T) string {
		unit := rapid.SampledFrom([]string{"a", "z", "ä", "\u07ff", "\uffff", "\U0010ffff", "\x00", "'", "\"", "\n", "\\x41",
			"{", "☃"})
		list := rapid.SliceOfN(unit, 0, 5).Draw(r, "units")
		return strings.Join(list, "") + strings.Repeat(unit.Draw(r, "unit"), rapid.SampledFrom([]int{0, 1, 31, 64, 65, 127,
			128, 300}).Draw(r, "times"))
	})
	rapid.Check(t, func(r *rapid.T) {
		values := rapid.SliceOfN(text, 1, 6).Draw(r, "values")
		_, err := its.Exec(t.Context(), "DELETE FROM main.texts")
		require.NoError(r, err)
		for _, v := range values {
			_, err := its.Exec(t.Context(), "INSERT INTO main.texts VALUES (CAST(? AS VARCHAR))", v)
			require.NoError(r, err)
		}
		files, err := its.writeRows(t.Context(), tbl, []column{{field, "VARCHAR"}}, "main.texts AS t WHERE true", nil)
		require.NoError(r, err)
		file := files[0]
		low, bounded := file.LowerBoundValues()[field.ID]
		high, above := file.UpperBoundValues()[field.ID]
		for _, v := range values {
			require.True(r, !bounded || string(low) <= v, "%q is below %q", v, low)
			require.True(r, !above || v <= string(high), "%q is above %q", v, high)
		}
		if len(values) == 1 && len(values[0]) <= longestBound {
			require.Equal(r, []any{values[0], values[0]}, []any{string(low), string(high)})
		}
	})
}
