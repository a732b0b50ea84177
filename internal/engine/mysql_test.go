package engine_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/source"
	"noemata/internal/source/mysql"
	"noemata/internal/testkit"
)

// newMySQLBench is a workbench whose source is a MySQL database.
func newMySQLBench(t testing.TB, kind string) *mariaBench {
	settings, db := testkit.MySQLDatabase(t)
	return newCatalogue(t, kind, mysql.Open, settings, db)
}

// Whatever the find, what was changed in MySQL is in the warehouse.
func TestMySQLInEveryFindAndKeep(t *testing.T) {
	raceless(t)
	for i, kind := range []string{"duckdb", "postgresql"} {
		b := newMySQLBench(t, kind)
		for _, x := range []struct {
			find feed.Find
			keep feed.Keep
		}{{feed.FindWatermark, feed.KeepLatest}, {feed.FindWatermark, feed.KeepHistory}, {feed.FindWatermark,
			feed.KeepLedger},
			{feed.FindWhole, feed.KeepReplace}, {feed.FindWhole, feed.KeepSoftDelete}, {feed.FindCompare,
				feed.KeepLatest},
			{feed.FindCompare, feed.KeepHistory}} {
			name := fmt.Sprintf("titles_%d_%s_%s", i, x.find, strings.ReplaceAll(string(x.keep), "-", ""))
			b.exec(fmt.Sprintf(`CREATE TABLE %s (id int PRIMARY KEY, title varchar(40), price decimal(8,2),
				at timestamp(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE CURRENT_TIMESTAMP(6))`, name))
			var values []string
			for i := range 250 {
				values = append(values, fmt.Sprintf("(%d, 'Käse %d', %d.25)", i, i, i))
			}
			b.exec("INSERT INTO " + name + " (id, title, price) VALUES " + strings.Join(values, ", "))
			table := feed.Table{Table: b.table(name), Find: x.find, Keep: x.keep, Target: "kept." + name, PageRows: 40,
				Where: "id < 200"}
			if x.find == feed.FindWatermark {
				table.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
				if x.keep != feed.KeepLedger {
					table.Sweep = "1ns"
				}
			}
			require.EqualValues(t, 200, b.bring(table).Books.Inserted, name)
			b.exec("UPDATE " + name + " SET price = price + 1 WHERE id % 10 = 3")
			if x.keep != feed.KeepLedger {
				b.exec("DELETE FROM " + name + " WHERE id % 10 = 7")
			}
			time.Sleep(5 * time.Millisecond)
			b.bring(table)
			proof, err := engine.Prove(t.Context(), b.work(table))
			require.NoError(t, err)
			require.True(t, proof.Same, "%s %+v", name, proof)
			require.Positive(t, proof.Equal)
		}
	}
}

// Every type comes as from MariaDB, at its edges.
func TestEveryMySQLType(t *testing.T) {
	raceless(t)
	onEachMySQL(t, func(t *testing.T, b *mariaBench) {
		b.exec(`SET SESSION sql_mode = '', time_zone = '+00:00'; ` + mysqlTypes)
		for _, find := range []feed.Find{feed.FindWatermark, feed.FindCompare} {
			table := feed.Table{Table: b.table("extremes"), Find: find, Keep: feed.KeepLatest,
				Target: "kept." + string(find)}
			if find == feed.FindWatermark {
				table.Watermark = &feed.Watermark{Column: "at"}
			}
			b.feed.Name = "f-" + string(find)
			require.Equal(t, rows.Books{Read: 3, Inserted: 3}, b.bring(table).Books)
			require.Equal(t, rows.Books{}, b.bring(table).Books)
			b.equal(table, 3)
		}
		query := feed.Table{Table: "queries.extremes", Name: "extremes", Query: "SELECT * FROM extremes",
			Key:  []string{"id"},
			Find: feed.FindWhole, Keep: feed.KeepLatest, Target: "kept.by_query"}
		require.EqualValues(t, 3, b.bring(query).Books.Inserted)
		b.equal(query, 3)

		// The log, and a copy, bring them to the byte.
		b.exec("CREATE TABLE copied LIKE extremes")
		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("copied"), Keep: feed.KeepLatest, Target: "kept.by_log"},
			feed.Table{Table: b.table("extremes"), Keep: feed.KeepHistory, Target: "kept.by_copy"})
		f.catchUp()
		b.exec("SET SESSION sql_mode = '', time_zone = '+00:00'; INSERT INTO copied SELECT * FROM extremes")
		require.Equal(t, rows.Books{Read: 3, Inserted: 3}, f.catchUp()[b.table("copied")])
		described, err := b.source.Table(t.Context(), schema.Name{Schema: b.settings.Database, Table: "extremes"})
		require.NoError(t, err)
		for _, c := range described.Columns {
			see := func(table string) []string {
				return f.see(`SELECT id, ` + schema.Quote(c.Name) + ` FROM kept.` + table + ` ORDER BY id`)
			}
			require.Equal(t, see("watermark"), see("by_log"), c.Name)
			require.Equal(t, see("watermark"), see("by_copy"), c.Name)
		}
	})
}

// The log goes on over its files; one that was purged, and a server that was set back, hold the feed,
// and a new copy keeps the history's past. What a transaction gave up never happened.
func TestMySQLLogRotatedPurgedAndSetBack(t *testing.T) {
	raceless(t)
	onEachMySQL(t, func(t *testing.T, b *mariaBench) {
		b.exec(`CREATE TABLE copies (id int PRIMARY KEY, branch varchar(40)); INSERT INTO copies VALUES (1, 'Grünau')`)
		f := newFollower(t, b.workbench, feed.Table{Table: b.table("copies"), Keep: feed.KeepHistory,
			Target: "kept.copies"})
		f.catchUp()
		b.exec(`UPDATE copies SET branch = 'Fernmoor'; FLUSH BINARY LOGS; UPDATE copies SET branch = 'Altwasser'`)
		b.session("START TRANSACTION", "INSERT INTO copies VALUES (5, 'given up')", "SAVEPOINT one",
			"DELETE FROM copies", "ROLLBACK TO one", "ROLLBACK")
		b.session("START TRANSACTION", "SAVEPOINT one", "DELETE FROM copies", "ROLLBACK TO one",
			"INSERT INTO copies VALUES (2, 'Dornheim')", "COMMIT")
		require.Equal(t, rows.Books{Read: 3, Inserted: 1, Updated: 2}, f.catchUp()[b.table("copies")])

		gone := func(said string) {
			_, err := f.engine.Follow(t.Context(), f.work())
			require.True(t, problem.Is(err, problem.Held), "%v", err)
			require.ErrorContains(t, err, said)
			require.ErrorContains(t, err, "noemata feeds copy")
			require.NoError(t, engine.CopyAgain(t.Context(), b.feed, nil, b.source, b.warehouse))
			f.catchUp()
		}
		b.exec("INSERT INTO copies VALUES (3, 'Hollerbach')")
		b.purge(1)
		gone("cannot be read from")
		b.exec("INSERT INTO copies VALUES (4, 'Hollerbach'); RESET MASTER")
		gone("was set back")
		require.Equal(t, []string{"1 | Grünau | false", "1 | Fernmoor | false", "1 | Altwasser | true",
			"2 | Dornheim | true", "3 | Hollerbach | true", "4 | Hollerbach | true"},
			f.see(`SELECT id, branch, nm_current FROM kept.copies ORDER BY id, nm_from`))
		state, ok, err := engine.LogStateOf(t.Context(), b.feed, b.source, b.warehouse)
		require.NoError(t, err)
		require.True(t, ok)
		require.Zero(t, state.Behind)
		b.exec("UPDATE copies SET branch = repeat('x', 40)")
		state, _, err = engine.LogStateOf(t.Context(), b.feed, b.source, b.warehouse)
		require.NoError(t, err)
		require.Greater(t, state.Behind, int64(160))
	})
}

const mysqlTypes = `CREATE TABLE extremes (
  id int PRIMARY KEY, at timestamp(6) NOT NULL DEFAULT '2026-01-01 00:00:00',
  c_tiny tinyint, c_utiny tinyint unsigned, c_medium mediumint, c_umedium mediumint unsigned, c_uint int unsigned, c_big bigint,
  c_ubig bigint unsigned, c_bool boolean, c_dec decimal(10,2), c_wide decimal(38,19), c_wider decimal(65,30), c_float float,
  c_double double, c_bit1 bit(1), c_bit64 bit(64), c_year year, c_date date, c_time6 time(6), c_dt6 datetime(6), c_ts6 timestamp(6) NULL,
  c_char char(6), c_latin1 varchar(20) CHARACTER SET latin1, c_utf16 varchar(5) CHARACTER SET utf16, c_cp1250 text CHARACTER SET cp1250,
  c_ltext longtext, c_binary binary(6), c_blob blob, c_enum enum('low','hôch','a,b','it''s'), c_set set('a','b','ü'), c_point point
) CHARACTER SET utf8mb4;
INSERT INTO extremes (id) VALUES (0);
INSERT INTO extremes VALUES (1, '2026-01-02 00:00:00', 127, 255, 8388607, 16777215, 4294967295, 9223372036854775807, 18446744073709551615,
  true, 99999999.99, 9999999999999999999.9999999999999999999, 99999999999999999999999999999999999.999999999999999999999999999999,
  3.4028234e38, 1.7976931348623157e308, b'1', 0xFFFFFFFFFFFFFFFF, 2155, '9999-12-31', '838:59:58.999999', '9999-12-31 23:59:59.999999',
  '2038-01-19 03:14:07.999999', 'ab', 'Käse €', '😀', 'žluťoučký', repeat('x', 200000), 'ab', x'00ff', 'hôch', 'a,ü',
  ST_GeomFromText('POINT(1.5 -2)')),
 (2, '2026-01-02 00:00:00', -128, 0, -8388608, 0, 0, -9223372036854775808, 0, false, -0.01, -0.0000000000000000001,
  -0.000000000000000000000000000001, 0.1, -5e-324, b'0', 0, 1901, '0000-00-00', '-838:59:59', '0000-00-00 00:00:00',
  '1970-01-01 00:00:01', '', '', '', '', '', '', '', 'it''s', '', NULL)`

func onEachMySQL(t *testing.T, test func(t *testing.T, b *mariaBench)) {
	for _, kind := range []string{"duckdb", "postgresql"} {
		t.Run(kind, func(t *testing.T) { test(t, newMySQLBench(t, kind)) })
	}
}

// A transaction that is open holds the bound, whoever has begun it and however busy its session is.
func TestMySQLWaitsForOpenTransactions(t *testing.T) {
	b := newMySQLBench(t, "duckdb")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, at timestamp(6) NOT NULL)`)
	loans := feed.Table{Table: b.table("loans"), Find: feed.FindWatermark, Keep: feed.KeepLatest,
		Watermark: &feed.Watermark{Column: "at", Settle: "0s", Wait: "200ms"}}
	b.exec("INSERT INTO loans VALUES (1, now(6))")
	late, err := b.db.Begin()
	require.NoError(t, err)
	_, err = late.Exec("INSERT INTO loans VALUES (2, now(6))")
	require.NoError(t, err)
	time.Sleep(5 * time.Millisecond)
	b.exec("INSERT INTO loans VALUES (3, now(6))")
	time.Sleep(5 * time.Millisecond)
	out := b.bring(loans)
	require.Contains(t, strings.Join(out.Notes, " "), "have not ended")
	require.NoError(t, late.Commit())
	b.bring(loans)
	b.bring(loans)
	b.equal(loans, 3)
}

// A user who may see less is told what to grant, until it is enough to follow the log; and a server of
// the other kind is named.
func TestMySQLSaysWhatItCannot(t *testing.T) {
	b := newMySQLBench(t, "duckdb")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, at timestamp(6) NOT NULL)`)
	user := "reader" + b.settings.Database
	b.exec("CREATE USER " + user + "@'127.0.0.1' IDENTIFIED BY 'p'; GRANT SELECT ON " + b.settings.Database + ".* " +
		"TO " + user + "@'127.0.0.1'")
	reader := b.settings
	reader.User, reader.Password = user, "p"
	open := func() source.Source {
		src, err := mysql.Open(reader, `source "catalogue"`)
		require.NoError(t, err)
		t.Cleanup(src.Close)
		return src
	}
	followed := []source.Followed{{Table: schema.Table{Name: schema.Name{Schema: b.settings.Database, Table: "loans"}},
		Key: []string{"id"}}}
	for range 6 {
		_, err := open().Moment(t.Context())
		if err != nil {
			require.True(t, problem.Is(err, problem.NoPrivilege), "%v", err)
			b.exec(problem.Of(err).Remedy)
		}
		findings, err := open().(source.Log).LogFindings(t.Context(), followed)
		require.NoError(t, err)
		for _, x := range findings {
			if x.Level == problem.Blocker {
				require.Regexp(t, `^GRANT [A-Z ]+ (/\*!80000 , XA_RECOVER_ADMIN \*/ )?ON .*;$`, x.Remedy)
				b.exec(x.Remedy)
			}
		}
	}
	b.source = open()
	f := newFollower(t, b.workbench, feed.Table{Table: b.table("loans"), Keep: feed.KeepLatest, Target: "kept.loans"})
	f.catchUp()
	b.exec("INSERT INTO loans VALUES (1, now())")
	require.EqualValues(t, 1, f.catchUp()[b.table("loans")].Inserted, "the remedies are enough")

	settings, _ := testkit.MariaDatabase(t)
	src, err := mysql.Open(settings, `source "x"`)
	require.NoError(t, err)
	defer src.Close()
	_, err = src.Test(t.Context())
	require.ErrorContains(t, err, "of the kind mariadb")
}

// Structures that change are told as they are of MariaDB.
func TestMySQLDrifts(t *testing.T) {
	b := newMySQLBench(t, "duckdb")
	for _, find := range []feed.Find{feed.FindWatermark, feed.FindCompare, feed.FindWhole} {
		name := "loans_" + string(find)
		b.feed.Name = name
		b.exec(`CREATE TABLE ` + name + ` (id int PRIMARY KEY, days int, at timestamp(6) NOT NULL DEFAULT now(6)); INSERT INTO ` + name + ` (id, days) VALUES (1, 7)`)
		loans := feed.Table{Table: b.table(name), Find: find, Keep: feed.KeepLatest,
			Drift: &feed.Drift{Columns: drift.Follow, Types: drift.Follow}}
		if find == feed.FindWatermark {
			loans.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
		}
		b.bring(loans)
		b.exec(`ALTER TABLE ` + name + ` ADD note varchar(9) DEFAULT 'n' FIRST, MODIFY days varchar(20)`)
		b.bring(loans)
		b.equal(loans, 1)
		drifts, err := b.warehouse.Journal().Drifts(t.Context(), name, 10)
		require.NoError(t, err)
		require.NotEmpty(t, drifts)
	}
}
