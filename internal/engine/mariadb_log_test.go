package engine_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/engine"
	"noemata/internal/testkit"
	"noemata/internal/warehouse"
)

// session runs statements one after another on a connection of their own.
func (b *mariaBench) session(statements ...string) {
	b.t.Helper()
	conn, err := b.db.Conn(b.t.Context())
	require.NoError(b.t, err)
	defer func() { _ = conn.Close() }()
	for _, sql := range append(statements, "SET SESSION binlog_format = 'ROW'") {
		_, err = conn.ExecContext(b.t.Context(), sql)
		require.NoError(b.t, err, sql)
	}
}

// Texts are read in the character set that they had when they were written, whatever the
// table has by now: the log tells it with each event.
func TestMariaDBCharacterSetsOfTheLog(t *testing.T) {
	raceless(t)
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec("CREATE TABLE titles (id int PRIMARY KEY, title varchar(40)) CHARACTER SET latin1; INSERT INTO " +
			"titles VALUES (1, 'é')")
		b.exec("CREATE TABLE kinds (id int PRIMARY KEY, kind enum('ä', 'Ã¤') CHARACTER SET latin1, wide enum('Œ', " +
			"'b') CHARACTER SET ucs2, marks set('ü', 'n') CHARACTER SET latin1); INSERT INTO kinds VALUES (1, 'ä', " +
			"'Œ', 'ü,n')")
		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("titles"), Keep: feed.KeepLatest,
				Target: "kept.titles"},
			feed.Table{Table: b.table("kinds"), Keep: feed.KeepLatest, Target: "kept.kinds"})
		f.catchUp()
		b.exec("INSERT INTO titles VALUES (2, 'éa'); ALTER TABLE titles CONVERT TO CHARACTER SET utf8mb4; INSERT " +
			"INTO titles VALUES (3, 'éb'); ALTER TABLE titles CONVERT TO CHARACTER SET utf16; INSERT INTO titles " +
			"VALUES (4, 'éc')")
		b.exec("INSERT INTO kinds VALUES (2, 'Ã¤', 'b', 'n'), (3, 'ä', 'Œ', ''), (4, NULL, NULL, NULL)")
		f.catchUp()
		require.NoError(t, f.held(b.table("titles")))
		require.Equal(t, []string{"1 | é", "2 | éa", "3 | éb", "4 | éc"},
			f.see("SELECT id, title FROM kept.titles ORDER BY id"))
		require.Equal(t, []string{"1 | ä | Œ | ü,n", "2 | Ã¤ | b | n", "3 | ä | Œ | ", "4 | <nil> | <nil> | <nil>"},
			f.see("SELECT id, kind, wide, marks FROM kept.kinds ORDER BY id"))
	})
}

// What a transaction gave up never happened, to whatever savepoint it went back.
func TestMariaDBRollbacksInTheLog(t *testing.T) {
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec("CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40)); CREATE TABLE visits (id int) ENGINE = " +
			"MyISAM; INSERT INTO copies VALUES (1, 'Grünau')")
		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("copies"), Keep: feed.KeepHistory, Target: "kept.copies"})
		f.catchUp()
		// Tables without transactions, and temporary ones, bring what was given up into the log.
		b.session("BEGIN", "INSERT INTO copies VALUES (10, 'a')", "CREATE TEMPORARY TABLE t (i int)",
			"UPDATE copies SET branch = 'b'", "ROLLBACK", "DROP TEMPORARY TABLE t")
		b.session("BEGIN", "INSERT INTO copies VALUES (2, 'kept')", "SAVEPOINT one",
			"INSERT INTO copies VALUES (20, 'a')", "INSERT INTO visits VALUES (1)", "SAVEPOINT two",
			"DELETE FROM copies WHERE id = 1",
			"ROLLBACK TO two", "INSERT INTO copies VALUES (21, 'a')", "ROLLBACK TO SAVEPOINT one",
			"INSERT INTO copies VALUES (3, 'kept')", "COMMIT")
		b.session("BEGIN", "INSERT INTO copies VALUES (30, 'a')", "INSERT INTO visits VALUES (2)", "ROLLBACK")
		f.catchUp()
		require.Equal(t, []string{"1 | Grünau | true", "2 | kept | true", "3 | kept | true"},
			f.see("SELECT id, branch, nm_current FROM kept.copies ORDER BY id, nm_from"))

		// Of one that is too large to be gathered a part was taken in before it was given up.
		b.session("BEGIN", "INSERT INTO copies SELECT seq + 100, repeat('x', 40) FROM seq_1_to_20000",
			"CREATE TEMPORARY TABLE t (i int)", "ROLLBACK", "DROP TEMPORARY TABLE t")
		b.exec("INSERT INTO copies VALUES (4, 'kept')")
		w := f.work()
		w.CutBytes = 100_000
		_, err := f.engine.Follow(t.Context(), w)
		require.ErrorContains(t, err, "rolled back after a part")
		f.catchUp()
		require.Equal(t, []string{"4"}, f.see("SELECT count(*) FROM kept.copies"))
	})
}

// The log of a table with system versioning has rows that are past: they are no rows of it.
func TestMariaDBSystemVersioning(t *testing.T) {
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec(`CREATE TABLE hidden (id int PRIMARY KEY, branch varchar(40)) WITH SYSTEM VERSIONING;
CREATE TABLE shown (id int PRIMARY KEY, branch varchar(40), since timestamp(6) GENERATED ALWAYS AS ROW START, until timestamp(6) GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (since, until)) WITH SYSTEM VERSIONING`)
		var tables []feed.Table
		for _, name := range []string{"hidden", "shown"} {
			tables = append(tables, feed.Table{Table: b.table(name), Keep: feed.KeepLatest, Target: "kept." + name})
			b.exec(fmt.Sprintf("INSERT INTO %s (id, branch) VALUES (1, 'Grünau'), (2, 'Grünau')", name))
		}
		f := newFollower(t, b.workbench, tables...)
		f.catchUp()
		for _, name := range []string{"hidden", "shown"} {
			b.exec(strings.ReplaceAll("UPDATE t SET branch = 'Fernmoor' WHERE id = 1; INSERT INTO t (id, branch) "+
				"VALUES (3, 'Dornheim'); DELETE FROM t WHERE id = 2; UPDATE t SET id = 4 WHERE id = 3", " t ", " "+name+
				" "))
		}
		books := f.catchUp()
		for _, name := range []string{"hidden", "shown"} {
			require.NoError(t, f.held(b.table(name)))
			require.Equal(t, []string{"1 | Fernmoor", "4 | Dornheim"},
				f.see("SELECT id, branch FROM kept."+name+" ORDER BY id"), "%s %+v", name, books)
		}
	})
}

// Whoever cannot know what a statement wrote holds: by a trigger, a view, a function or a
// file it writes to tables that it does not name.
func TestStatementsThatWriteElsewhere(t *testing.T) { onEachCatalogue(t, statementsThatWriteElsewhere) }

func statementsThatWriteElsewhere(t *testing.T, b *mariaBench, mysql bool) {
	file := filepath.Join(os.TempDir(), "noemata-branches.csv")
	require.NoError(t, os.WriteFile(file, []byte("7\tGrünau\n"), 0o644))
	t.Cleanup(func() { _ = os.Remove(file) })
	b.exec("CREATE TABLE desks (id int PRIMARY KEY)")
	statements := map[string]string{
		"trigger":  "INSERT INTO desks VALUES (1)",
		"view":     "UPDATE all_copies SET branch = 'Fernmoor'",
		"function": "INSERT INTO desks VALUES (lend())",
		"load":     "LOAD DATA INFILE '" + file + "' INTO TABLE copies (id, branch)",
		"key":      "ALTER TABLE copies DROP PRIMARY KEY, ADD PRIMARY KEY (branch)",
		"no key":   "ALTER TABLE copies DROP PRIMARY KEY",
		"names":    "ALTER TABLE copies CHANGE a b varchar(9), CHANGE b a varchar(9)",
	}
	if mysql { // it refuses such a statement
		delete(statements, "function")
	}
	for name, statement := range statements {
		t.Run(name, func(t *testing.T) {
			b.t = t
			b.exec(`DROP TABLE IF EXISTS copies; CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40), a varchar(9), b varchar(9)); INSERT INTO copies VALUES (1, 'Grünau', 'a', 'b'); DELETE FROM desks;
CREATE OR REPLACE VIEW all_copies AS SELECT * FROM copies; DROP TRIGGER IF EXISTS lends; DROP FUNCTION IF EXISTS lend`)
			b.feed.Name = "writes-" + strings.ReplaceAll(name, " ", "-")
			f := newFollower(t, b.workbench,
				feed.Table{Table: b.table("copies"), Keep: feed.KeepLatest, Target: "kept.copies_" +
					strings.ReplaceAll(name, " ", "_")})
			f.catchUp()
			if name == "trigger" {
				b.exec("CREATE TRIGGER lends AFTER INSERT ON desks FOR EACH ROW UPDATE copies SET branch = 'lent'")
			}
			if name == "function" {
				b.exec("CREATE FUNCTION lend() RETURNS int DETERMINISTIC MODIFIES SQL DATA BEGIN UPDATE copies SET " +
					"branch = 'lent'; RETURN 9; END")
			}
			b.session("SET SESSION binlog_format = 'STATEMENT'", statement)
			b.exec("INSERT INTO copies VALUES (2, 'Dornheim', 'c', 'd')")
			_, err := f.engine.Follow(t.Context(), f.work())
			if name == "no key" { // nothing tells its rows apart any more
				require.ErrorContains(t, err, "has no primary or unique key")
				return
			}
			require.ErrorContains(t, err, "feeds copy "+b.feed.Name+" --table "+b.table("copies"))
			require.NoError(t, engine.CopyAgain(t.Context(), b.feed, []string{b.table("copies")}, b.source,
				b.warehouse))
			f.catchUp()
			proof, err := engine.Prove(t.Context(),
				engine.Work{Feed: b.feed, Table: b.feed.Tables[0], Source: b.source, Warehouse: b.warehouse})
			require.NoError(t, err)
			require.True(t, proof.Same, "%+v", proof)
		})
	}
}

// A commit that comes late is not lost: of a transaction that began by reading, of a
// statement that had its time and waited for a lock, and while somebody else reads the
// server's list of transactions all the time.
func TestMariaDBLateCommitsAreNotLost(t *testing.T) {
	b := newMariaBench(t, "duckdb")
	b.exec("CREATE TABLE visits (id int PRIMARY KEY, at timestamp(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6), KEY " +
		"(at)); INSERT INTO visits (id) VALUES (1)")
	table := feed.Table{Table: b.table("visits"), Find: feed.FindWatermark, Keep: feed.KeepLatest,
		Target: "kept.visits", Watermark: &feed.Watermark{Column: "at", Settle: "0s", Wait: "1s"}}
	run := func() []string {
		t.Helper()
		_, err := b.engine.Run(t.Context(), b.work(table))
		require.NoError(t, err)
		found := testkit.SQL(t, b.warehouse, "SELECT id FROM kept.visits ORDER BY id")
		var ids []string
		for _, row := range found {
			ids = append(ids, fmt.Sprint(row[0]))
		}
		return ids
	}
	require.Equal(t, []string{"1"}, run())

	conn, err := b.db.Conn(t.Context())
	require.NoError(t, err)
	do := func(sql string) {
		t.Helper()
		_, err := conn.ExecContext(t.Context(), sql)
		require.NoError(t, err, sql)
	}
	do("START TRANSACTION WITH CONSISTENT SNAPSHOT")
	do("INSERT INTO visits (id) VALUES (2)")
	b.exec("INSERT INTO visits (id) VALUES (3)")
	require.Equal(t, []string{"1"}, run(), "what lies above an open transaction waits")
	do("UPDATE visits SET id = 22 WHERE id = 2")
	require.Equal(t, []string{"1"}, run())
	do("COMMIT")
	require.Equal(t, []string{"1", "3", "22"}, run())

	// The statement has fixed its time and waits for the table: it is no transaction yet.
	do("LOCK TABLES visits WRITE")
	waiting := make(chan error, 1)
	go func() {
		_, err := b.db.ExecContext(t.Context(), "INSERT INTO visits (id) VALUES (4)")
		waiting <- err
	}()
	require.Eventually(t, func() bool {
		var n int
		return b.db.QueryRowContext(t.Context(),
			"SELECT count(*) FROM information_schema.PROCESSLIST WHERE STATE LIKE 'Waiting for table%'").Scan(&n) == nil && n > 0
	}, 10*time.Second, 20*time.Millisecond)
	do("INSERT INTO visits (id) VALUES (5)")
	slow := make(chan []string, 1)
	go func() { // it reads once the lock is gone
		time.Sleep(300 * time.Millisecond)
		do("UNLOCK TABLES")
		slow <- nil
	}()
	require.Subset(t, []string{"1", "3", "4", "5", "22"}, run())
	<-slow
	require.NoError(t, <-waiting)
	require.Eventually(t, func() bool { return len(run()) == 5 }, 10*time.Second, 10*time.Millisecond)

	// Monitors that read the list again and again keep the server from making it anew.
	ctx, stop := context.WithCancel(t.Context())
	var monitors sync.WaitGroup
	for range 4 {
		monitors.Go(func() {
			for ctx.Err() == nil {
				_, _ = b.db.ExecContext(ctx, "SELECT count(*) FROM information_schema.INNODB_TRX")
				time.Sleep(5 * time.Millisecond)
			}
		})
	}
	_, err = b.engine.Run(t.Context(), b.work(table))
	require.ErrorContains(t, err, "has not made its list of open transactions anew")
	stop()
	monitors.Wait()
	require.Len(t, run(), 5)
}

// A run that is stopped between a copy and its joining leaves the copy's moment to the next
// one: what is read of the log then comes later, although the log says that it was earlier.
func TestMariaDBACopyThatHasYetToJoinComesFirst(t *testing.T) {
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec("CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40)); INSERT INTO copies VALUES (1, 'Grünau')")
		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("copies"), Keep: feed.KeepHistory, Target: "kept.copies"})
		ctx, stop := context.WithCancel(t.Context())
		w := f.work()
		w.Report = func(r engine.LogReport) {
			for _, x := range r.Tables {
				if x.State == warehouse.Joining {
					stop()
				}
			}
		}
		_, err := f.engine.Follow(ctx, w)
		require.True(t, problem.Is(err, problem.Stopped), "%v", err)
		b.session("SET timestamp = UNIX_TIMESTAMP() - 1000", "UPDATE copies SET branch = 'Dornheim'")
		_, err = f.engine.Follow(t.Context(), f.work())
		require.NoError(t, err)
		require.Equal(t, []string{"Grünau | false", "Dornheim | true"},
			f.see("SELECT branch, nm_current FROM kept.copies ORDER BY nm_from"))
	})
}

// Computed columns that are stored are in the log, however little it has of a row; those that are not
// are left out, and that is said.
func TestMariaDBComputedColumns(t *testing.T) {
	raceless(t)
	b := newMariaBench(t, "duckdb")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, days int, note text, twice int AS (days * 2) VIRTUAL,
		fee int AS (days * 3) STORED, shown longtext AS (concat(note, '!')) STORED)`)
	f := newFollower(t, b.workbench, feed.Table{Table: b.table("loans"), Keep: feed.KeepLatest, Target: "kept.loans"})
	f.catchUp()
	for i, image := range []string{"FULL", "NOBLOB", "MINIMAL"} {
		b.session("SET SESSION binlog_row_image = '"+image+"'",
			fmt.Sprintf("INSERT INTO loans (id, days, note) VALUES (%d, 1, 'x'), (%d, 2, 'y'), (%d, 3, 'z')", 3*i, 3*i+1, 3*i+2),
			fmt.Sprintf("UPDATE loans SET days = 10 WHERE id = %d", 3*i),
			fmt.Sprintf("UPDATE loans SET note = 'other' WHERE id = %d", 3*i+1))
		f.catchUp()
		require.Equal(t, []string{"10 | x | 30 | x!", "2 | other | 6 | other!", "3 | z | 9 | z!"},
			f.see("SELECT days, note, fee, shown FROM kept.loans ORDER BY id")[3*i:], image)
	}
	f.proveAll()
	require.NotContains(t, f.see("SELECT column_name FROM duckdb_columns() WHERE table_name = 'loans'"), "twice")
	told := fmt.Sprint(engine.Check(t.Context(), b.feed, b.source, b.warehouse, testKeys))
	require.Contains(t, told, "The column twice is generated, and the log leaves such columns out")
	require.NotContains(t, told, "The column fee")
}
