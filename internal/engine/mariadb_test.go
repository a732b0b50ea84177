package engine_test

import (
	"context"
	"database/sql"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/mysql"
	"noemata/internal/testkit"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// mariaBench is a workbench whose source is a MariaDB database.
type mariaBench struct {
	*workbench
	db *sql.DB
}

func (b *mariaBench) exec(statements string) {
	b.t.Helper()
	_, err := b.db.Exec(statements)
	require.NoError(b.t, err, statements)
}

func newMariaBench(t testing.TB, kind string) *mariaBench {
	settings, db := testkit.MariaDatabase(t)
	return newCatalogue(t, kind, mariadb.Open, settings, db)
}

// newCatalogue is a workbench whose source is a database that was opened in one of the ways.
func newCatalogue(t testing.TB, kind string, open func(connection.Settings, string) (source.Source, error),
	settings connection.Settings, db *sql.DB) *mariaBench {
	src, err := open(settings, `source "catalogue"`)
	require.NoError(t, err)
	t.Cleanup(src.Close)
	return &mariaBench{&workbench{t: t, settings: settings, open: open, source: src,
		warehouse: openWarehouse(t, kind), engine: engine.New(),
		feed: &feed.Feed{Name: "catalogue", Source: "catalogue", Warehouse: "lake"}}, db}
}

func onEachMaria(t *testing.T, test func(t *testing.T, b *mariaBench)) {
	for _, kind := range []string{duckdb.Kind, pgwarehouse.Kind} {
		t.Run(kind, func(t *testing.T) { test(t, newMariaBench(t, kind)) })
	}
}

// onEachCatalogue runs a test with a MariaDB and with a MySQL source.
func onEachCatalogue(t *testing.T, test func(t *testing.T, b *mariaBench, mysql bool)) {
	t.Run(mariadb.Kind, func(t *testing.T) { test(t, newMariaBench(t, duckdb.Kind), false) })
	t.Run(mysql.Kind, func(t *testing.T) {
		raceless(t)
		test(t, newMySQLBench(t, duckdb.Kind), true)
	})
}

// table names one of the test's tables.
func (b *mariaBench) table(name string) string { return b.settings.Database + "." + name }

// mariaExtremes has a column of every type and rows at the edges of each.
const mariaExtremes = `
SET SESSION sql_mode = '', time_zone = '+00:00';
CREATE TABLE extremes (
  id int PRIMARY KEY, at timestamp(6) NOT NULL DEFAULT '2026-01-01 00:00:00',
  c_tiny tinyint, c_utiny tinyint unsigned, c_small smallint, c_usmall smallint unsigned, c_medium mediumint, c_umedium mediumint unsigned,
  c_int int, c_uint int unsigned, c_big bigint, c_ubig bigint unsigned, c_zero int(8) unsigned zerofill, c_bool boolean,
  c_dec decimal(10,2), c_wide decimal(38,19), c_wider decimal(65,30), c_whole decimal(20,0), c_udec decimal(9,9) unsigned,
  c_float float, c_double double, c_bit1 bit(1), c_bit5 bit(5), c_bit64 bit(64), c_year year,
  c_date date, c_time time, c_time6 time(6), c_time3 time(3), c_dt datetime, c_dt6 datetime(6), c_dt3 datetime(3), c_ts timestamp NULL, c_ts6 timestamp(6) NULL, c_ts1 timestamp(1) NULL,
  c_char char(6), c_varchar varchar(300), c_latin1 varchar(20) CHARACTER SET latin1, c_utf8 varchar(20) CHARACTER SET utf8mb3, c_ucs2 char(5) CHARACTER SET ucs2, c_utf16 varchar(5) CHARACTER SET utf16, c_utf32 varchar(5) CHARACTER SET utf32,
  c_koi8r varchar(20) CHARACTER SET koi8r, c_cp1250 text CHARACTER SET cp1250, c_ascii char(3) CHARACTER SET ascii,
  c_tinytext tinytext, c_text text, c_mtext mediumtext CHARACTER SET latin1, c_ltext longtext, c_json json,
  c_binary binary(6), c_varbinary varbinary(300), c_tinyblob tinyblob, c_blob blob, c_mblob mediumblob, c_lblob longblob,
  c_enum enum('low','hôch','a,b','it''s'), c_set set('a','b','ü','d e'), c_uuid uuid, c_inet6 inet6, c_inet4 inet4,
  c_geometry geometry, c_point point, c_compressed varchar(1000) COMPRESSED, c_cblob blob COMPRESSED,
  c_virtual int AS (id * 2) VIRTUAL, c_stored int AS (id * 3) STORED, c_hidden int INVISIBLE DEFAULT 7
) CHARACTER SET utf8mb4;
INSERT INTO extremes (id) VALUES (0);
INSERT INTO extremes (id, c_tiny, c_utiny, c_small, c_usmall, c_medium, c_umedium, c_int, c_uint, c_big, c_ubig, c_zero, c_bool, c_dec, c_wide, c_wider, c_whole, c_udec, c_float, c_double, c_bit1, c_bit5, c_bit64, c_year,
  c_date, c_time, c_time6, c_time3, c_dt, c_dt6, c_dt3, c_ts, c_ts6, c_ts1, c_char, c_varchar, c_latin1, c_utf8, c_ucs2, c_utf16, c_utf32, c_koi8r, c_cp1250, c_ascii, c_tinytext, c_text, c_mtext, c_ltext, c_json,
  c_binary, c_varbinary, c_tinyblob, c_blob, c_mblob, c_lblob, c_enum, c_set, c_uuid, c_inet6, c_inet4, c_geometry, c_point, c_compressed, c_cblob) VALUES
 (1, 127, 255, 32767, 65535, 8388607, 16777215, 2147483647, 4294967295, 9223372036854775807, 18446744073709551615, 42, true, 99999999.99, 9999999999999999999.9999999999999999999, 99999999999999999999999999999999999.999999999999999999999999999999, 99999999999999999999, 0.999999999, 3.4028234e38, 1.7976931348623157e308, b'1', b'10101', 0xFFFFFFFFFFFFFFFF, 2155,
  '9999-12-31', '838:59:59', '838:59:58.999999', '01:02:03.456', '9999-12-31 23:59:59', '9999-12-31 23:59:59.999999', '2026-10-25 02:30:00.123', '2038-01-19 03:14:07', '2038-01-19 03:14:07.999999', '2026-01-01 00:00:00.5', 'ab', repeat('größe 😀', 30), 'Käse €', 'größe', 'äö', '😀', '😀', 'Привет', 'žluťoučký', 'abc', 'tiny', repeat('größe 本 ', 5000), 'Fluß', repeat('x', 200000), '{"b": 1,  "a": [null, 1e400]}',
  'ab', repeat('x', 300), x'00', x'00ff', repeat('y', 70000), repeat('z', 100000), 'hôch', 'a,ü', '6ccd780c-baba-1026-9564-5b8c656024db', '2001:db8::ff00:42:8329', '192.168.0.1', ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))'), ST_GeomFromText('POINT(1.5 -2)'), repeat('compressed ', 50), repeat('c', 500)),
 (2, -128, 0, -32768, 0, -8388608, 0, -2147483648, 0, -9223372036854775808, 0, 0, false, -0.01, -0.0000000000000000001, -0.000000000000000000000000000001, 0, 0, -1.17549435e-38, -5e-324, b'0', b'0', 0, 0,
  '0000-00-00', '-838:59:59', '-00:00:00.000001', '-01:02:03.4', '0000-00-00 00:00:00', '0000-00-00 00:00:00', '1000-01-01 00:00:00', '0000-00-00 00:00:00', '1970-01-01 00:00:01', '1970-01-01 00:00:01.1', '', '', '', '', '', '', '', '', '', '', '', '', '', '', 'null',
  '', '', '', '', '', '', 'it''s', '', '00000000-0000-0000-0000-000000000000', '::', '0.0.0.0', ST_GeomFromText('POINT(0 0)'), ST_GeomFromText('POINT(0 0)'), '', ''),
 (3, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0.10, 1, 1, 1, 0.5, 0.1, 0.1, b'1', b'1', 1, 1901, '2000-02-29', '00:00:00', '-12:34:56.789', '23:59:59.999', '2000-02-29 12:00:00', '1969-12-31 23:59:59.999999', '0001-01-01 00:00:00', '2000-02-29 12:00:00', '2000-02-29 12:00:00.000001', '2000-02-29 12:00:00.9', 'x  ', 'blanks  ', 'ÿ', 'x', 'x', 'x', 'x', 'Ё', 'x', 'x', 'x', 'x', 'x', 'x', '"\\u0041"',
  x'000100000000', x'0000', x'0000', x'0000', x'00', x'00', 'a,b', 'a,b,ü,d e', 'ffffffff-ffff-4fff-bfff-ffffffffffff', '::ffff:1.2.3.4', '255.255.255.255', NULL, NULL, 'short', 'short'),
 (4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, b'0', b'0', 0, 1970, '0001-01-01', '00:00:00', '00:00:00', '00:00:00', '0001-01-01 00:00:00', '0001-01-01 00:00:00', '0001-01-01 00:00:00', NULL, NULL, NULL, '0', '0', '0', '0', '0', '0', '0', '0', '0', '0', '0', '0', '0', '0', '0',
  '0', '0', '0', '0', '0', '0', 'wrong', 'd e', '01890a5d-ac96-774b-bcce-b302099a8057', '::1.2.3.4', '1.2.3.4', NULL, NULL, NULL, NULL);
`

// A value is, to the byte, the same whether a query by watermark, a copy or the log has
// brought it.
func TestEveryMariaDBTypeIsTheSameInThreeWays(t *testing.T) {
	raceless(t)
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec(mariaExtremes)
		b.exec(`CREATE TABLE copied LIKE extremes`)
		described, err := b.source.Table(t.Context(), schema.Name{Schema: b.settings.Database, Table: "extremes"})
		require.NoError(t, err)
		document, _ := described.Column("c_json")
		require.Equal(t, schema.JSON, document.Type.Kind)
		query := feed.Table{Table: b.table("extremes"), Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at"}, Target: "kept.by_query"}
		require.Equal(t, rows.Books{Read: 5, Inserted: 5}, b.bring(query).Books)
		b.equal(query, 5)
		require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "catalogue", query.Table, nil))
		require.Equal(t, rows.Books{Read: 5, Unchanged: 5}, b.bring(query).Books)

		f := newFollower(t, b.workbench,
			feed.Table{Table: b.table("copied"), Keep: feed.KeepLatest,
				Target: "kept.by_log"},
			feed.Table{Table: b.table("extremes"), Keep: feed.KeepHistory, Target: "kept.by_copy"})
		f.catchUp()
		columns := "id, at, c_tiny, c_utiny, c_small, c_usmall, c_medium, c_umedium, c_int, c_uint, c_big, c_ubig, " +
			"c_zero, c_bool, c_dec, c_wide, c_wider, c_whole, c_udec, c_float, c_double, c_bit1, c_bit5, c_bit64, " +
			"c_year, c_date, c_time, c_time6, c_time3, c_dt, c_dt6, c_dt3, c_ts, c_ts6, c_ts1, c_char, c_varchar, " +
			"c_latin1, c_utf8, c_ucs2, c_utf16, c_utf32, c_koi8r, c_cp1250, c_ascii, c_tinytext, c_text, c_mtext, " +
			"c_ltext, c_json, c_binary, c_varbinary, c_tinyblob, c_blob, c_mblob, c_lblob, c_enum, c_set, c_uuid, " +
			"c_inet6, c_inet4, c_geometry, c_point, c_compressed, c_cblob, c_hidden"
		b.exec(`SET SESSION sql_mode = '', time_zone = '+00:00'; INSERT INTO copied (` + columns + `) SELECT ` +
			columns + ` FROM extremes`)
		books := f.catchUp()[b.table("copied")]
		require.Equal(t, rows.Books{Read: 5, Inserted: 5}, books, "%v", f.see("SELECT reason FROM noemata.set_aside"))
		for column := range strings.SplitSeq(columns, ", ") {
			shown := schema.Quote(column)
			if column == "c_json" {
				shown = "CAST(c_json AS VARCHAR)"
			}
			see := func(table string) []string {
				return f.see(`SELECT id, ` + shown + ` FROM kept.` + table + ` ORDER BY id`)
			}
			require.Equal(t, see("by_query"), see("by_log"), column)
			require.Equal(t, see("by_query"), see("by_copy"), column)
		}
		// A row that is deleted and comes again as it was is no change.
		b.exec(`SET SESSION sql_mode = '', time_zone = '+00:00'; START TRANSACTION; DELETE FROM copied; INSERT INTO ` +
			`copied (` + columns + `) SELECT ` + columns + ` FROM extremes; COMMIT`)
		require.Equal(t, rows.Books{Read: 10, Folded: 5, Unchanged: 5}, f.catchUp()[b.table("copied")])
		proof, err := engine.Prove(context.Background(),
			b.work(feed.Table{Table: b.table("copied"), Find: feed.FindLog, Keep: feed.KeepLatest,
				Target: "kept.by_log"}))
		require.NoError(t, err)
		require.True(t, proof.Same, "%+v", proof)
	})
}

// Copies share the bound of a source's connections with other reads: one that finds none waits for its turn.
func TestCopiesKeepToTheBoundOfConnections(t *testing.T) {
	b := newMariaBench(t, duckdb.Kind)
	b.exec("CREATE TABLE titles (id int PRIMARY KEY, title varchar(40)); INSERT INTO titles VALUES (1, 'Œuvres')")
	settings := b.settings
	settings.Connections = 6
	src, err := b.open(settings, "source bounded")
	require.NoError(t, err)
	defer src.Close()
	table, err := src.Table(t.Context(), schema.Name{Schema: b.settings.Database, Table: "titles"})
	require.NoError(t, err)
	copyOne := func(ctx context.Context) (source.Copy, error) {
		return src.(source.Log).Copy(ctx, source.Followed{Table: table, Key: table.Key}, "")
	}
	var copies []source.Copy
	for range 2 { // four of the six ask the catalogue
		c, err := copyOne(t.Context())
		require.NoError(t, err)
		copies = append(copies, c)
	}
	shortly, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err = copyOne(shortly)
	require.Error(t, err)
	require.ErrorIs(t, shortly.Err(), context.DeadlineExceeded)
	copies[0].Close()
	c, err := copyOne(t.Context())
	require.NoError(t, err)
	c.Close()
	for _, c := range copies[1:] {
		c.Close()
	}
}

// A server that removes its log too soon for what a feed wants is told of.
func TestABinaryLogThatIsKeptTooShortly(t *testing.T) {
	b := newMariaBench(t, duckdb.Kind)
	behind := func(by time.Duration) []problem.Finding {
		t.Helper()
		found, err := b.source.(source.Log).BehindFindings(t.Context(), by)
		require.NoError(t, err)
		return found
	}
	var was int64
	require.NoError(t, b.db.QueryRow("SELECT @@GLOBAL.binlog_expire_logs_seconds").Scan(&was))
	t.Cleanup(func() { _, _ = b.db.Exec("SET GLOBAL binlog_expire_logs_seconds = ?", was) })
	b.exec("SET GLOBAL binlog_expire_logs_seconds = 36000")
	require.Empty(t, behind(6*time.Hour))
	found := behind(24 * time.Hour)
	require.Len(t, found, 1)
	require.Contains(t, found[0].What, "removes its binary log after 10h0m0s")
	b.exec(found[0].Remedy)
	require.Empty(t, behind(24*time.Hour))
}
