package engine_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/engine"
	"noemata/internal/mariaserver"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/testkit"
	"noemata/internal/testkit/hostile"
	"noemata/internal/warehouse/duckdb"
)

// ownServer is a MariaDB server of the test's own, which it may harm.
func ownServer(t *testing.T, settings map[string]string) (*mariaserver.Server, *sql.DB) {
	all := testkit.MariaSettings()
	for k, v := range settings {
		all[k] = v
	}
	s, err := mariaserver.Start(context.Background(),
		mariaserver.Options{Dir: filepath.Join(testkit.Dir(t), "maria"), Settings: all})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop() })
	require.NoError(t, s.CreateDatabase(context.Background(), "catalogue"))
	db, err := s.Open("catalogue")
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return s, db
}

// purge has the server forget its log but for some files. It keeps what its checkpoint may still
// need, and what a session reads that it has not yet found gone.
func (b *mariaBench) purge(left int) {
	require.Eventually(b.t, func() bool {
		b.exec(`FLUSH BINARY LOGS; PURGE BINARY LOGS BEFORE now() + INTERVAL 1 DAY`)
		found, err := b.db.Query("SHOW BINARY LOGS")
		require.NoError(b.t, err)
		defer func() { _ = found.Close() }()
		n := 0
		for found.Next() {
			n++
		}
		return n <= left
	}, 10*time.Second, 100*time.Millisecond)
}

// at lets the bench read another server.
func (b *mariaBench) at(s *mariaserver.Server, db *sql.DB) {
	src, err := mariadb.Open(s.Settings("catalogue"), `source "catalogue"`)
	require.NoError(b.t, err)
	b.t.Cleanup(src.Close)
	b.source, b.db, b.settings = src, db, s.Settings("catalogue")
}

// The log goes on over new files, a restart of the server and its sudden death; one that
// was purged holds the feed, and a new copy keeps the history's past.
func TestMariaDBLogRotatedRestartedAndPurged(t *testing.T) {
	b := newMariaBench(t, "duckdb")
	s, db := ownServer(t, nil)
	b.at(s, db)
	b.exec(`CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40)); INSERT INTO copies VALUES (1, 'Grünau'), ` +
		`(2, 'Dornheim')`)
	f := newFollower(t, b.workbench, feed.Table{Table: "catalogue.copies", Keep: feed.KeepHistory,
		Target: "kept.copies"})
	f.catchUp()
	b.exec(`UPDATE copies SET branch = 'Fernmoor' WHERE id = 1; FLUSH BINARY LOGS; UPDATE copies SET branch = ` +
		`'Altwasser' WHERE id = 1`)
	require.NoError(t, s.Kill())
	again, err := mariaserver.Start(t.Context(),
		mariaserver.Options{Dir: s.Dir(), Port: s.Port, Settings: testkit.MariaSettings()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = again.Stop() })
	b.exec(`DELETE FROM copies WHERE id = 2`)
	b.source.Rest() // a run that meets a connection to the server that was killed says so, and the next one goes on
	require.Equal(t, rows.Books{Read: 3, Updated: 2, Deleted: 1}, f.catchUp()["catalogue.copies"])

	b.exec(`INSERT INTO copies VALUES (3, 'Hollerbach'); FLUSH BINARY LOGS`)
	b.purge(2)
	_, err = f.engine.Follow(t.Context(), f.work())
	require.True(t, problem.Is(err, problem.Held), "%v", err)
	require.ErrorContains(t, err, "noemata feeds copy")
	require.NoError(t, engine.CopyAgain(t.Context(), b.feed, nil, b.source, b.warehouse))
	f.catchUp()
	require.Equal(t, []string{"1 | Grünau | false", "1 | Fernmoor | false", "1 | Altwasser | true",
		"2 | Dornheim | false", "3 | Hollerbach | true"}, f.see(`SELECT id, branch, nm_current FROM kept.copies `+
		`ORDER BY id, nm_from`))
}

// A replica that takes its server's place is followed from where the feed stands, by the
// global transaction ids that both have.
func TestMariaDBReplicaTakesOver(t *testing.T) {
	b := newMariaBench(t, "duckdb")
	first, db := ownServer(t, map[string]string{"log-slave-updates": "ON"})
	b.at(first, db)
	second, other := ownServer(t, map[string]string{"server-id": "2", "log-slave-updates": "ON"})
	_, err := other.Exec(fmt.Sprintf(`SET SESSION sql_log_bin = 0; RESET MASTER; DROP DATABASE catalogue; SET GLOBAL gtid_slave_pos = '';
CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = %d, MASTER_USER = '%s', MASTER_PASSWORD = '%s', MASTER_USE_GTID = slave_pos; START SLAVE`, first.Port, mariaserver.User, first.Password))
	require.NoError(t, err)
	b.exec(`CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40)); INSERT INTO copies VALUES (1, 'Grünau'), ` +
		`(2, 'Dornheim')`)
	f := newFollower(t, b.workbench, feed.Table{Table: "catalogue.copies", Keep: feed.KeepLatest,
		Target: "kept.copies"})
	f.catchUp()
	b.exec(`UPDATE copies SET branch = 'Fernmoor' WHERE id = 1; FLUSH BINARY LOGS; DELETE FROM copies WHERE id = 2`)
	var at string
	require.NoError(t, db.QueryRow("SELECT @@gtid_binlog_pos").Scan(&at))
	var waited int
	require.NoError(t, other.QueryRow("SELECT MASTER_GTID_WAIT(?, 20)", at).Scan(&waited))
	require.Zero(t, waited)
	require.NoError(t, first.Kill())
	_, err = other.Exec(`STOP SLAVE; RESET SLAVE ALL; SET SESSION sql_log_bin = 1; INSERT INTO catalogue.copies ` +
		`VALUES (3, 'Hollerbach')`)
	require.NoError(t, err)
	require.NoError(t, other.Close())
	db, err = second.Open("catalogue")
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	b.at(second, db)
	require.Equal(t, rows.Books{Read: 3, Inserted: 1, Updated: 1, Deleted: 1}, f.catchUp()["catalogue.copies"])
	require.Equal(t, []string{"1 | Fernmoor", "3 | Hollerbach"},
		f.see(`SELECT id, branch FROM kept.copies ORDER BY id`))
}

// A transaction that is prepared before a run ends, and committed during the next, comes
// whole, and no other is told twice.
func TestMariaDBPreparedTransactionsOutliveARun(t *testing.T) {
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec(`CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40))`)
		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("copies"), Keep: feed.KeepLedger, Target: "kept.copies"})
		f.catchUp()
		conn, err := b.db.Conn(t.Context())
		require.NoError(t, err)
		name := "'" + b.settings.Database + "'"
		for _, sql := range []string{"XA START " + name, "INSERT INTO copies VALUES (1, 'Grünau'), (2, 'Dornheim')",
			"XA END " + name, "XA PREPARE " + name} {
			_, err := conn.ExecContext(t.Context(), sql)
			require.NoError(t, err, sql)
		}
		b.exec(`INSERT INTO copies VALUES (3, 'Fernmoor')`)
		require.Equal(t, rows.Books{Read: 1, Inserted: 1}, f.catchUp()[b.table("copies")])
		b.exec(`INSERT INTO copies VALUES (4, 'Altwasser')`)
		require.Equal(t, rows.Books{Read: 1, Inserted: 1}, f.catchUp()[b.table("copies")])
		require.NoError(t, conn.Close())
		b.exec("XA COMMIT " + name)
		require.Equal(t, rows.Books{Read: 2, Inserted: 2}, f.catchUp()[b.table("copies")])
		b.exec(`INSERT INTO copies VALUES (5, 'Hollerbach')`)
		require.Equal(t, rows.Books{Read: 1, Inserted: 1}, f.catchUp()[b.table("copies")])
		require.Equal(t, []string{"3", "4", "1", "2", "5"}, f.see(`SELECT id FROM kept.copies ORDER BY nm_position`))
	})
}

// A transaction that was prepared before the feed began is waited for, and is in the copy.
func TestMariaDBPreparedBeforeTheFeedBegan(t *testing.T) {
	b := newMariaBench(t, "duckdb")
	b.exec(`CREATE TABLE copies (id int PRIMARY KEY)`)
	name := "'" + b.settings.Database + "'"
	conn, err := b.db.Conn(t.Context())
	require.NoError(t, err)
	for _, sql := range []string{"XA START " + name, "INSERT INTO copies VALUES (1)", "XA END " + name, "XA PREPARE " +
		name} {
		_, err := conn.ExecContext(t.Context(), sql)
		require.NoError(t, err, sql)
	}
	require.NoError(t, conn.Close())
	f := newFollower(t, b.workbench, feed.Table{Table: b.table("copies"), Keep: feed.KeepLedger, Target: "kept.copies"})
	var waited atomic.Bool
	w := f.work()
	w.Report = func(r engine.LogReport) {
		if r.Tables[0].Waiting != "" && !waited.Swap(true) {
			go func() {
				time.Sleep(300 * time.Millisecond)
				_, _ = b.db.Exec("XA COMMIT " + name + "; INSERT INTO copies VALUES (2)")
			}()
		}
	}
	_, err = f.engine.Follow(t.Context(), w)
	require.NoError(t, err)
	require.True(t, waited.Load())
	f.catchUp()
	require.Equal(t, []string{"1 | copy", "2 | copy"}, f.see(`SELECT id, nm_change FROM kept.copies ORDER BY id`))
}

// What the log does not tell by rows holds the feed, and says what to do.
func TestHoldsWhatTheLogDoesNotTell(t *testing.T) { onEachCatalogue(t, holdsWhatTheLogDoesNotTell) }

func holdsWhatTheLogDoesNotTell(t *testing.T, b *mariaBench, _ bool) {
	for name, x := range map[string]struct{ statement, said string }{
		"statement": {"SET SESSION binlog_format = 'STATEMENT'; UPDATE copies SET branch = 'Fernmoor'",
			"logged as a statement"},
		"dropped": {"DROP TABLE copies; CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40))",
			"dropped, renamed or replaced"},
		"swapped": {"CREATE TABLE new_copies LIKE copies; RENAME TABLE copies TO old_copies, new_copies TO " +
			"copies; DROP TABLE old_copies", "dropped, renamed or replaced"},
		"partition": {"ALTER TABLE copies PARTITION BY HASH (id) PARTITIONS 2; ALTER TABLE copies TRUNCATE PARTITION p0",
			"has lost a partition"},
		"narrowed": {"ALTER TABLE copies MODIFY branch int; INSERT INTO copies VALUES (7, 7)", "branch"},
	} {
		t.Run(name, func(t *testing.T) {
			b.t = t
			b.exec(`DROP TABLE IF EXISTS copies; CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40)); ` +
				`INSERT INTO copies VALUES (1, 'Grünau')`)
			b.feed.Name = "holds-" + name
			f := newFollower(t, b.workbench,
				feed.Table{Table: b.table("copies"), Keep: feed.KeepLatest, Target: "kept.copies_" + name})
			f.catchUp()
			conn, err := b.db.Conn(t.Context())
			require.NoError(t, err)
			if name == "narrowed" {
				_, err = conn.ExecContext(t.Context(), "DELETE FROM copies")
				require.NoError(t, err)
			}
			_, err = conn.ExecContext(t.Context(), x.statement)
			require.NoError(t, err)
			_, err = conn.ExecContext(t.Context(), "SET SESSION binlog_format = 'ROW'")
			require.NoError(t, err)
			require.NoError(t, conn.Close())
			_, err = f.engine.Follow(t.Context(), f.work())
			require.True(t, problem.Is(err, problem.Held), "%v", err)
			require.ErrorContains(t, err, x.said)
		})
	}
}

// A truncate empties the target, and rows that cannot be stored are set aside, and heal.
func TestTruncatesAndSetsAsideOfTheLog(t *testing.T) {
	onEachCatalogue(t, func(t *testing.T, b *mariaBench, _ bool) {
		b.exec("SET GLOBAL sql_mode = ''")
		b.exec(`SET SESSION sql_mode = ''; CREATE TABLE copies (id int PRIMARY KEY, bought date, note varchar(20)); ` +
			`INSERT INTO copies VALUES (1, '2026-00-15', 'half a date'), (2, '0000-00-00', NULL), (3, '2026-11-23', ` +
			`'zero \0')`)
		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("copies"), Keep: feed.KeepSoftDelete, Target: "kept.copies"})
		require.Equal(t, rows.Books{Read: 3, SetAside: 2, Inserted: 1}, f.catchUp()[b.table("copies")])
		require.Equal(t, []string{`["1"]`, `["3"]`}, f.see(`SELECT key FROM noemata.set_aside ORDER BY key`))
		b.exec(`SET SESSION sql_mode = ''; UPDATE copies SET bought = '2026-01-15' WHERE id = 1; INSERT INTO copies ` +
			`VALUES (4, '2026-02-00', 'half')`)
		require.Equal(t, rows.Books{Read: 2, SetAside: 1, Inserted: 1}, f.catchUp()[b.table("copies")])
		require.Equal(t, []string{`["3"]`, `["4"]`}, f.see(`SELECT key FROM noemata.set_aside ORDER BY key`))
		b.exec("/* spring cleaning */ TRUNCATE `copies`; INSERT INTO copies VALUES (9, '2026-03-03', 'new')")
		books := f.catchUp()[b.table("copies")]
		require.Equal(t, int64(2), books.Deleted, "%+v", books)
		require.Equal(t, []string{"1 | true", "2 | true", "9 | false"},
			f.see(`SELECT id, nm_deleted_at IS NOT NULL FROM kept.copies ORDER BY id`))
	})
}

// What is missing is said before a run starts, each with a statement that mends it.
func TestMariaDBFindings(t *testing.T) {
	b := newMariaBench(t, "duckdb")
	s, db := ownServer(t, map[string]string{"binlog-format": "MIXED", "binlog-row-metadata": "NO_LOG",
		"binlog-row-image": "MINIMAL", "binlog-expire-logs-seconds": "3600"})
	b.at(s, db)
	b.exec(`CREATE TABLE branches (id int PRIMARY KEY); CREATE TABLE copies (id int PRIMARY KEY, branch int, code varchar(9) CHARACTER SET sjis, FOREIGN KEY (branch) REFERENCES branches (id) ON DELETE CASCADE);
CREATE TABLE old_cards (id int PRIMARY KEY) ENGINE = MyISAM; CREATE VIEW all_copies AS SELECT * FROM copies; CREATE TABLE by_code (code int NOT NULL UNIQUE, id int PRIMARY KEY)`)
	b.exec(`CREATE USER 'reader'@'127.0.0.1' IDENTIFIED BY 'a secret'; GRANT SELECT ON catalogue.* TO ` +
		`'reader'@'127.0.0.1'`)
	settings := s.Settings("catalogue")
	settings.User, settings.Password = "reader", "a secret"
	var err error
	b.source, err = mariadb.Open(settings, `source "catalogue"`)
	require.NoError(t, err)
	t.Cleanup(b.source.Close)
	b.feed.Tables = []feed.Table{{Table: "catalogue.copies", Find: feed.FindLog, Keep: feed.KeepLatest},
		{Table: "catalogue.old_cards", Find: feed.FindLog, Keep: feed.KeepLatest},
		{Table: "catalogue.all_copies", Find: feed.FindLog, Keep: feed.KeepLatest,
			Key: []string{"id"}}, {Table: "catalogue.by_code", Find: feed.FindLog, Keep: feed.KeepLatest,
			Key: []string{"code"}}}
	said := fmt.Sprint(engine.Check(t.Context(), b.feed, b.source, b.warehouse, nil))
	for _, wanted := range []string{"SET GLOBAL binlog_format = 'ROW'", "SET GLOBAL binlog_row_metadata = 'FULL'",
		"SET GLOBAL binlog_expire_logs_seconds", "GRANT REPLICATION SLAVE", "GRANT BINLOG MONITOR",
		"character set sjis", "Add the table catalogue.branches to the feed",
		"ALTER TABLE `catalogue`.`old_cards` ENGINE = InnoDB",
		"It is a view", "SET GLOBAL binlog_row_image = 'FULL'"} {
		require.Contains(t, said, wanted)
	}
	_, err = newFollower(t, b.workbench, b.feed.Tables[0]).engine.Follow(t.Context(),
		(&follower{workbench: b.workbench}).work())
	require.True(t, problem.Is(err, problem.Held), "%v", err)
}

// Each reason that a source cannot be used is told as what it is.
func TestMariaDBConnectionProblems(t *testing.T) {
	raceless(t)
	settings, db := testkit.MariaDatabase(t)
	try := func(change func(*connection.Settings)) error {
		s := settings
		change(&s)
		src, err := mariadb.Open(s, `source "catalogue"`)
		require.NoError(t, err)
		defer src.Close()
		_, err = src.Test(t.Context())
		return err
	}
	require.NoError(t, try(func(*connection.Settings) {}))
	require.True(t, problem.Is(try(func(s *connection.Settings) { s.Password = "wrong" }), problem.Denied))
	require.True(t, problem.Is(try(func(s *connection.Settings) { s.Database = "nowhere" }), problem.NoDatabase))
	require.ErrorContains(t, try(func(s *connection.Settings) { s.Port = 1 }), "nothing listens there")
	require.ErrorContains(t, try(func(s *connection.Settings) { s.TLS = connection.TLSRequire }), "does not offer TLS")
	postgres := testkit.Postgres(t)
	require.Error(t, try(func(s *connection.Settings) { s.Port = postgres.Port }))

	src, err := mariadb.Open(settings, `source "catalogue"`)
	require.NoError(t, err)
	defer src.Close()
	_, err = db.Exec(`CREATE TABLE "x" (id int)`)
	require.Error(t, err)
	_, err = db.Exec("CREATE TABLE `Odd. \"Copies\"` (`Söme \"Column` int PRIMARY KEY, `b``c` int)")
	require.NoError(t, err)
	tables, err := src.Tables(t.Context())
	require.NoError(t, err)
	require.Equal(t, `Odd. "Copies"`, tables[0].Name.Table)
	table, err := src.Table(t.Context(), tables[0].Name)
	require.NoError(t, err)
	require.Equal(t, []string{`Söme "Column`}, table.Key)
	missing := tables[0].Name
	missing.Table = "nothing"
	_, err = src.Table(t.Context(), missing)
	require.True(t, problem.Is(err, problem.NoTable))
}

// How far a feed is behind is measured from where its warehouse stands, whether or not this
// process has read the log: after a restart, or while the feed is paused.
func TestBehindIsMeasuredWithoutAStream(t *testing.T) {
	maria := newMariaBench(t, duckdb.Kind)
	maria.exec(`CREATE TABLE loans (id int PRIMARY KEY, note text); INSERT INTO loans VALUES (1, 'first')`)
	postgres := newWorkbench(t, duckdb.Kind)
	postgres.exec(`CREATE TABLE loans (id int PRIMARY KEY, note text); ALTER TABLE loans ALTER note SET STORAGE ` +
		`EXTERNAL; INSERT INTO loans VALUES (1, 'first')`)
	for b, table := range map[*workbench]string{maria.workbench: maria.table("loans"), postgres: "public.loans"} {
		f := newFollower(t, b, feed.Table{Table: table, Keep: feed.KeepLatest, Target: "kept.loans"})
		f.catchUp()
		behind := func(src source.Source) int64 {
			t.Helper()
			state, ok, err := engine.LogStateOf(context.Background(), b.feed, src, b.warehouse)
			require.NoError(t, err)
			require.True(t, ok)
			return state.Behind
		}
		require.Less(t, behind(b.source), int64(50_000), table)
		write := func(from int) {
			for i := range 9 {
				sql := fmt.Sprintf(`INSERT INTO loans VALUES (%d, repeat('n', 10000))`, from+i)
				if b == maria.workbench {
					maria.exec(sql)
				} else {
					postgres.exec(sql)
				}
			}
		}
		write(10)
		if b == maria.workbench {
			maria.exec(`FLUSH BINARY LOGS`) // the rest is in another file
		}
		write(30)
		open := pgsource.Open
		if b == maria.workbench {
			open = mariadb.Open
		}
		another, err := open(b.settings, "source of another process") // that has read no log
		require.NoError(t, err)
		defer another.Close()
		for _, src := range []source.Source{b.source, another, another} {
			require.Eventually(t, func() bool { // the server writes its log a moment after the commit
				n := behind(src) - 18*10_300
				return max(n, -n) < 50_000
			}, 5*time.Second, 20*time.Millisecond, table)
		}
		f.catchUp()
		require.Less(t, behind(b.source), int64(50_000), table)
		require.Less(t, behind(another), int64(50_000), table)
	}
}

// A catalogue that contradicts itself fails the run, and nothing is looked up in it.
func TestACatalogueThatContradictsItself(t *testing.T) {
	maria, postgres := newMariaBench(t, duckdb.Kind), newWorkbench(t, duckdb.Kind)
	const table = `CREATE TABLE shelves (copyno int PRIMARY KEY, note text)`
	maria.exec(table)
	postgres.exec(table)
	for _, x := range []struct {
		b            *workbench
		table        string
		open         func(connection.Settings, string) (source.Source, error)
		said, garbed string
		within       string
	}{
		{maria.workbench, maria.table("shelves"), mariadb.Open, "copyno", "copyXX", "PRIMARY"},
		{postgres, "public.shelves", pgsource.Open, `["copyno"`, `["copyXX"`, `["copyno"`},
	} {
		settings := x.b.settings
		settings.TLS = connection.TLSOff
		settings.Port = hostile.Garbled(t, fmt.Sprintf("127.0.0.1:%d", x.b.settings.Port), func(chunk []byte) []byte {
			if bytes.Contains(chunk, []byte(x.within)) {
				return bytes.ReplaceAll(chunk, []byte(x.said), []byte(x.garbed))
			}
			return chunk
		})
		src, err := x.open(settings, "source of another mind")
		require.NoError(t, err)
		defer src.Close()
		for _, find := range []feed.Find{feed.FindWhole, feed.FindLog} {
			work := x.b.work(feed.Table{Table: x.table, Find: find,
				Keep: map[bool]feed.Keep{true: feed.KeepReplace,
					false: feed.KeepLatest}[find == feed.FindWhole], Target: "kept.shelves"})
			if work.Source = src; find == feed.FindWhole {
				_, err = x.b.engine.Run(context.Background(), work)
			} else {
				_, err = x.b.engine.Follow(context.Background(),
					engine.LogWork{Feed: work.Feed, Run: work.Run, Source: src, Warehouse: x.b.warehouse})
			}
			require.ErrorContains(t, err, "contradicts itself: a key has the column \"copyXX\", and the table has none",
				"%s by %s", x.table, find)
		}
	}
}
