package engine_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/testkit"
)

// extremesFor is extremes as a server takes it: negative scales came with PostgreSQL 15.
func extremesFor(conn *pgx.Conn) string {
	if strings.HasPrefix(conn.PgConn().ParameterStatus("server_version"), "14.") {
		return strings.Replace(extremes, "numeric(5,-2)", "numeric(5,0)", 1)
	}
	return extremes
}

// extremes has a column of every type and rows at the edges of each.
const extremes = `
CREATE EXTENSION IF NOT EXISTS hstore;
CREATE TYPE shelf AS ENUM ('low', 'hôch');
CREATE TYPE place AS (branch int, shelf text);
CREATE DOMAIN short AS varchar(5) NOT NULL DEFAULT '-';
CREATE DOMAIN cents AS numeric(12,2);
CREATE TABLE extremes (
  id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT '2026-01-01Z',
  c_bool bool, c_int2 int2, c_int4 int4, c_int8 int8, c_float4 float4, c_float8 float8,
  c_dec numeric(10,2), c_wide numeric(38,19), c_wider numeric(60,30), c_num numeric, c_neg numeric(5,-2),
  c_text text, c_varchar varchar(20), c_char char(6), c_one "char", c_name name, c_bytea bytea,
  c_date date, c_time time, c_timetz timetz, c_ts timestamp, c_tstz timestamptz, c_ts3 timestamp(3), c_interval interval,
  c_uuid uuid, c_json json, c_jsonb jsonb, c_xml xml, c_inet inet, c_cidr cidr, c_mac macaddr, c_mac8 macaddr8,
  c_bit bit(5), c_varbit varbit, c_money money, c_oid oid, c_regclass regclass, c_lsn pg_lsn,
  c_ints int[], c_texts text[], c_grid float8[][], c_enum shelf, c_enums shelf[], c_place place, c_short short, c_cents cents,
  c_range int4range, c_multi nummultirange, c_tstzrange tstzrange, c_point point, c_box box, c_path path,
  c_tsvector tsvector, c_tsquery tsquery, c_hstore hstore, c_generated int GENERATED ALWAYS AS (id * 2) STORED
);
INSERT INTO extremes (id) VALUES (0);
INSERT INTO extremes VALUES (1, default, true, 32767, 2147483647, 9223372036854775807, 'Infinity', 'NaN',
  99999999.99, 9999999999999999999.9999999999999999999, 123456789012345678901234567890.123456789012345678901234567890, 'NaN', 12300,
  repeat('größe 本 ', 20000), E'tab\tnew\nline', 'ab', 'x', 'a name', decode(repeat('00ff', 50000), 'hex'),
  'infinity', '24:00:00', '23:59:59.999999+14', 'infinity', 'infinity', '2026-10-25 02:30:00.123', '178 years 11 mons 5 days 23:59:59.999999',
  'ffffffff-ffff-ffff-ffff-ffffffffffff', '{"b": 1,  "a": [null, 1e400]}', '{"b": 1,  "a": [null, 12345678901234567890.5]}', '<a>é</a>', '::1/128', '10.0.0.0/8', '08:00:2b:01:02:03', '08:00:2b:01:02:03:04:05',
  B'10101', B'1', '$1,234.56', 4294967295, 'pg_class', 'FFFFFFFF/FFFFFFFF',
  '{1,null,3}', '{"a b",null,"\"q\""}', '{{1.5,NaN},{-Infinity,0}}', 'hôch', '{low,hôch}', '(1,"a,b")', 'abc', 0.01,
  '[1,10)', '{[1.5,2.5),[3,4)}', '[2026-01-01,infinity)', '(1.5,-2)', '(1,2),(0,0)', '[(0,0),(1,1)]',
  'fat:2 cat:1', 'fat & cat', 'a=>1, b=>NULL', default);
INSERT INTO extremes VALUES (2, default, false, -32768, -2147483648, -9223372036854775808, '-0', '-0',
  -0.01, -0.0000000000000000001, -1, 1.50, -100,
  '', '', '', '', '', '',
  '-infinity', '00:00:00', '00:00:00-15', '-infinity', '-infinity', '1969-12-31 23:59:59.999', '-1 mons +1 day -00:00:00.000001',
  '00000000-0000-0000-0000-000000000000', 'null', '"\u0041"', '', '0.0.0.0', '::/0', '00:00:00:00:00:00', '00:00:00:00:00:00:00:00',
  B'00000', B'', '-$0.01', 0, 'pg_class', '0/0',
  '{}', '{}', '{}', 'low', '{}', '(,)', '', -9999999999.99,
  'empty', '{}', 'empty', '(NaN,Infinity)', '(0,0),(0,0)', '((0,0))',
  '', '', '', default);
INSERT INTO extremes (id, c_date, c_ts, c_tstz, c_num, c_float4, c_float8, c_dec, c_wide, c_short) VALUES
  (3, '4713-01-01 BC', '4713-01-01 00:00:00 BC', '4713-01-01 00:00:00+00 BC', 'Infinity', 1.17549435e-38, 5e-324, 0, 0, 'a'),
  (4, '5874897-12-31', '294246-12-31 23:59:59.999999', '294246-12-31 23:59:59.999999+00', '-Infinity', 3.4028235e+38, 1.7976931348623157e+308, 1000, 10000, 'b'),
  (5, '1970-01-01', '1970-01-01', '1970-01-01Z', 1e-300, 0, 0, 0.10, 0.0001, 'c'),
  (6, '2000-01-01', '2000-01-01', '2000-01-01Z', 1e300, 0.1, 0.1, 12345678.90, 1234567890123456789.5, 'd'),
  (7, '0001-01-01', '0001-01-01', '0001-01-01Z', 10000, 1, 1, 10000.00, 10000, 'e'),
  (8, '0001-12-31 BC', '0001-12-31 BC', '0001-12-31 00:00Z BC', 0.0000, 1, 1, 99990000.00, 12340000, 'f');
`

func TestEveryTypeIsEqualInBothWarehouses(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(extremesFor(b.conn))
		table := feed.Table{Table: "public.extremes", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at"}}
		require.Equal(t, rows.Books{Read: 9, Inserted: 9}, b.bring(table).Books)
		b.equal(table, 9)
		// The same by merge: every value is recognised as the one that is there.
		require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", "public.extremes", nil))
		require.Equal(t, rows.Books{Read: 9, Unchanged: 9}, b.bring(table).Books)
		// Values that are equal and yet not the same are changes.
		b.exec(`UPDATE extremes SET at = '2026-01-02Z', c_float8 = 0, c_float4 = 0, c_num = 1.5, c_interval = '-1 ` +
			`mons +23:59:59.999999' WHERE id = 2`)
		require.Equal(t, rows.Books{Read: 1, Updated: 1}, b.bring(table).Books)
		b.equal(table, 9)
		ledger := table
		ledger.Keep, ledger.Target = feed.KeepLedger, "public.extremes_ledger"
		require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", "public.extremes", nil))
		require.Equal(t, rows.Books{Read: 9, Inserted: 9}, b.bring(ledger).Books)
		require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", "public.extremes", nil))
		require.Equal(t, rows.Books{Read: 9, Unchanged: 9}, b.bring(ledger).Books)
		b.equal(ledger, 9)
	})
}

// What the log tells of a value is, to the byte, what the copy has read: a row that is
// deleted and inserted again as it was is no change. Once in text, as the server sends the
// log where a type has no binary form that is known here, and once in binary.
func TestEveryTypeIsTheSameByCopyAndByLog(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(extremesFor(b.conn))
		b.exec(`CREATE TABLE plain AS SELECT id, c_bool, c_int2, c_int4, c_int8, c_float4, c_float8, c_dec, c_wide, c_text, c_varchar, c_char, c_name, c_bytea, c_date, c_time, c_ts, c_tstz, c_ts3,
c_interval, c_uuid, c_json, c_jsonb, c_xml, c_oid, c_enum, c_short, c_cents FROM extremes; ALTER TABLE plain ADD PRIMARY KEY (id)`)
		var tables []feed.Table
		for _, name := range []string{"extremes", "plain"} {
			for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepHistory} {
				source := name + "_" + string(keep)
				b.exec(fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING ALL EXCLUDING GENERATED); INSERT INTO %[1]s `+
					`SELECT * FROM %[2]s`, source, name))
				tables = append(tables, feed.Table{Table: "public." + source, Keep: keep})
			}
		}
		// One feed each, so that the second is sent in binary.
		for _, part := range [][]feed.Table{tables[:2], tables[2:]} {
			b.feed.Name = strings.TrimPrefix(strings.ReplaceAll(part[0].Table, "_", "-"), "public.")
			f := newFollower(t, b, part...)
			f.catchUp()
			for _, x := range part {
				b.exec(fmt.Sprintf(`BEGIN; CREATE TEMPORARY TABLE before ON COMMIT DROP AS TABLE %s; DELETE FROM `+
					`%[1]s; INSERT INTO %[1]s SELECT * FROM before; COMMIT`, x.Table))
			}
			for name, books := range f.catchUp() {
				require.Equal(t, rows.Books{Read: 18, Folded: 9, Unchanged: 9}, books, name)
			}
			for _, x := range part {
				b.exec(fmt.Sprintf(`UPDATE %s SET c_float8 = 0 WHERE id = 2`, x.Table)) // it was -0
			}
			for name, books := range f.catchUp() {
				require.Equal(t, rows.Books{Read: 1, Updated: 1}, books, name)
			}
			for _, x := range part {
				proof, err := engine.Prove(context.Background(),
					engine.Work{Feed: b.feed, Table: x, Source: b.source, Warehouse: b.warehouse})
				require.NoError(t, err)
				require.True(t, proof.Same, "%s: %+v", x.Table, proof)
			}
		}
	})
}

// The values are not only equal to each other: they are the right ones.
func TestExtremesAsTheWarehousePrintsThem(t *testing.T) {
	for _, kind := range kinds {
		b := newWorkbench(t, kind)
		b.exec(extremesFor(b.conn))
		b.bring(feed.Table{Table: "public.extremes", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at"}})
		got := b.rowsOf("public.extremes", column("id", schema.Int32), column("c_int8", schema.Int64),
			column("c_date", schema.Date), column("c_tstz", schema.TimestampTZ),
			column("c_time", schema.Time), column("c_ints", schema.Text), column("c_json", schema.JSON),
			column("c_uuid", schema.UUID), column("c_interval", schema.Interval),
			schema.Column{Name: "c_dec",
				Type: schema.Type{Kind: schema.Decimal, Precision: 10,
					Scale: 2}}, column("c_place", schema.Text), column("c_char", schema.Text),
			column("c_wider", schema.Numeric))
		require.Equal(t, []string{"0", "null", "null", "null", "null", "null", "null", "null", "null", "null", "null",
			"null", "null"}, got[0], kind)
		require.Equal(t, []string{"1", "9223372036854775807", "infinity", "infinity", "24:00:00.000000", "{1,NULL,3}",
			`{"b": 1,  "a": [null, 1e400]}`,
			"ffffffff-ffff-ffff-ffff-ffffffffffff", "2147 months 5 days 86399999999 us", "99999999.99", `(1,"a,b")`,
			"ab    ", "123456789012345678901234567890.123456789012345678901234567890"}, got[1], kind)
		require.Equal(t, []string{"2", "-9223372036854775808", "-infinity", "-infinity", "00:00:00.000000", "{}",
			"null",
			"00000000-0000-0000-0000-000000000000", "-1 months 1 days -1 us", "-0.01", "(,)", "      ",
			"-1.000000000000000000000000000000"}, got[2], kind)
		require.Equal(t, "4713-01-01 BC", got[3][2], kind)
		require.Equal(t, "294246-12-31T23:59:59.999999Z", got[4][3], kind)
		require.Equal(t, "5874897-12-31", got[4][2], kind)
	}
}

func TestWhatCannotBeStoredIsSetAsideWithItsReason(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE odd (id int PRIMARY KEY, d numeric(6,2), ts timestamp, iv interval, at timestamptz ` +
			`DEFAULT '2026-01-01Z')`)
		b.exec(`INSERT INTO odd VALUES (1, 'NaN', null, null), (2, 1, '294276-12-31 23:59:59', null), (3, 1, null, ` +
			`'2600000:00:00'), (4, 4, '2026-01-01', '1 day')`)
		table := feed.Table{Table: "public.odd", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at"}}
		require.Equal(t, rows.Books{Read: 4, SetAside: 3, Inserted: 1}, b.bring(table).Books)
		b.equal(table, 1)
		// As text, all of them can be kept.
		table.AsText, table.Target = []string{"d", "ts", "iv"}, "public.odd_text"
		require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", "public.odd", nil))
		require.Equal(t, rows.Books{Read: 4, Inserted: 4}, b.bring(table).Books)
		b.equal(table, 4)
	})
}

// Rows of a first load go from one PostgreSQL to another as they come, where every column is
// stored in the form in which it comes. What they are then is what is read and written value
// by value: a second reading finds every row unchanged. Values that cannot be stored are set
// aside all the same.
func TestRowsThatPassAsTheyCome(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(extremesFor(b.conn))
		b.exec(`CREATE TABLE plain AS SELECT id, at, c_bool, c_int2, c_int4, c_int8, c_float4, c_float8, c_dec, c_wide, c_text, c_varchar, c_char,
c_one, c_name, c_bytea, c_date, c_time, c_timetz, c_ts, c_tstz, c_ts3, c_interval, c_uuid, c_json, c_xml, c_inet, c_enum, c_enums, c_range, c_short, c_cents FROM extremes;
ALTER TABLE plain ADD PRIMARY KEY (id); INSERT INTO plain (id, at, c_dec) VALUES (9, '2026-01-01Z', 'NaN'); INSERT INTO plain (id, at) SELECT i, '2026-01-01Z' FROM generate_series(100, 20000) i`)
		for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepHistory, feed.KeepSoftDelete} {
			b.feed.Name = "plain-" + string(keep)
			table := feed.Table{Table: "public.plain", Find: feed.FindWatermark, Keep: keep, Target: "kept.plain_" +
				strings.ReplaceAll(string(keep), "-", "_"), Watermark: &feed.Watermark{Column: "at"}}
			require.Equal(t, rows.Books{Read: 19911, Inserted: 19910, SetAside: 1}, b.bring(table).Books)
			b.equal(table, 19910)
			require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), b.feed.Name, "public.plain", nil))
			require.Equal(t, rows.Books{Read: 19911, Unchanged: 19910, SetAside: 1}, b.bring(table).Books)
		}
	})
}

// A row that was set aside heals when it comes in a form that can be stored, also in a first
// load whose rows pass as they come, and by a key that is not the source's own.
func TestARowHealsInAFirstLoad(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE fines (id int PRIMARY KEY, receipt text NOT NULL UNIQUE, amount numeric(8,2), at timestamptz NOT NULL);
INSERT INTO fines VALUES (1, 'R1', 'NaN', '2026-01-01Z'), (2, 'R2', 0.50, '2026-01-01Z')`)
		table := feed.Table{Table: "public.fines", Find: feed.FindWatermark, Keep: feed.KeepLatest, Key: []string{"receipt"},
			Target: "kept.fines", Watermark: &feed.Watermark{Column: "at"}}
		require.Equal(t, rows.Books{Read: 2, Inserted: 1, SetAside: 1}, b.bring(table).Books)
		aside := func() [][]any { return testkit.SQL(t, b.warehouse, "SELECT key FROM noemata.set_aside") }
		require.Equal(t, [][]any{{`["R1"]`}}, aside())
		b.exec(`UPDATE fines SET amount = 1.20 WHERE id = 1`)
		testkit.SQL(t, b.warehouse, "DROP TABLE kept.fines")
		require.Equal(t, rows.Books{Read: 2, Inserted: 2}, b.bring(table).Books)
		require.Empty(t, aside())
		b.equal(table, 2)
	})
}
