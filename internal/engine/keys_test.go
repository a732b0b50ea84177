package engine_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/warehouse/duckdb"
)

// Pages are cut within rows of one watermark, so the key decides where the next one
// begins: whatever its type, no row is lost and none comes twice.
func TestPagesCutByKeysOfEveryType(t *testing.T) {
	raceless(t)
	b := newWorkbench(t, duckdb.Kind)
	b.exec(`CREATE TYPE medium AS ENUM ('map', 'book', 'film', 'score'); CREATE DOMAIN shelfmark AS varchar(30)`)
	for i, key := range []struct{ kind, value string }{
		{"smallint", "i - 15"},
		{"bigint", "(i - 15) * 1000000000000"},
		{"numeric(12,3)", "(i - 15) / 7.0"},
		{"numeric", "(i - 15) * 1e20 / 7"},
		{"double precision", "CASE i WHEN 1 THEN 'NaN' WHEN 2 THEN '-Infinity' WHEN 3 THEN 'Infinity' ELSE (i - 15) " +
			"/ 3.0 END"},
		{"real", "(i - 15)::real / 3"},
		{"text", "chr(64 + i * 7) || E'\\n''\"\\\\ ' || chr(300 + i)"},
		{`text COLLATE "en-x-icu"`, "(ARRAY['a','B','b','A','ä','z'])[1 + i % 6] || i"},
		{"varchar(20)", "'Zeile ' || i"},
		{"char(12)", "'x' || i"},
		{"shelfmark", "'QA ' || i"},
		{"uuid", "md5(i::text)::uuid"},
		{"date", "CASE i WHEN 1 THEN 'infinity'::date WHEN 2 THEN '0044-03-15 BC' ELSE date '2026-01-01' + i END"},
		{"timestamp", "CASE i WHEN 1 THEN '-infinity'::timestamp ELSE timestamp '2026-01-01' + i * interval '1 us' END"},
		{"timestamptz", "timestamptz '1969-12-31 23:59:59.99999Z' + i * interval '1 us'"},
		{"time", "time '00:00' + i * interval '1 us'"},
		{"interval", "i * interval '1 hour 3 us'"},
		{"bytea", "decode(lpad(to_hex(i), 4, '0'), 'hex')"},
		{"inet", "'10.0.0.0'::inet + i"},
		{"int4range", "int4range(i, i + 5)"},
		{"int[]", "ARRAY[i % 3, i]"},
		{"bit(6)", "i::bit(6)"},
		{"oid", "i + 4000000000"},
		{"pg_lsn", "('0/' || to_hex(i))::pg_lsn"},
		{"boolean, b int", "i % 2 = 0, i"},
		{"medium, b int", "(enum_range(null::medium))[1 + i % 4], i"},
		{"text, b numeric(5,2), c uuid", "'k' || i % 2, (i % 3) / 4.0, md5(i::text)::uuid"},
	} {
		t.Run(key.kind, func(t *testing.T) {
			b.t = t
			name := fmt.Sprintf("keyed_%d", i)
			columns := map[string]string{"boolean, b int": "a, b", "medium, b int": "a, b",
				"text, b numeric(5,2), c uuid": "a, b, c"}[key.kind]
			if columns == "" {
				columns = "a"
			}
			b.exec(fmt.Sprintf(`CREATE TABLE %s (a %s, at timestamptz, PRIMARY KEY (%s))`, name, key.kind, columns))
			b.exec(fmt.Sprintf(`INSERT INTO %s SELECT %s, timestamptz '2026-01-01Z' + (i / 20) * interval '1 s' `+
				`FROM generate_series(1, 30) i`, name, key.value))
			table := feed.Table{Table: "public." + name, Find: feed.FindWatermark, Keep: feed.KeepLatest, PageRows: 4,
				Watermark: &feed.Watermark{Column: "at"}}
			out := b.bring(table)
			require.Equal(t, rows.Books{Read: 30, Inserted: 30}, out.Books)
			require.GreaterOrEqual(t, out.Commits, 8)
			require.Equal(t, rows.Books{}, b.bring(table).Books)
			b.equal(table, 30)

			compared := feed.Table{Table: "public." + name, Find: feed.FindCompare, Keep: feed.KeepLatest, PageRows: 4,
				Target: "compared." + name}
			require.Equal(t, rows.Books{Read: 30, Inserted: 30}, b.bring(compared).Books)
			require.Equal(t, rows.Books{}, b.bring(compared).Books)
			b.exec(fmt.Sprintf(`DELETE FROM %s WHERE ctid = (SELECT max(ctid) FROM %[1]s)`, name))
			books := b.bring(compared).Books
			require.EqualValues(t, 1, books.Deleted)
			require.Less(t, books.Read, int64(10), "one range is read, and those that adjoin")
			b.equal(compared, 29)
			require.Equal(t, rows.Books{}, b.bring(compared).Books)
		})
	}
}

func TestWatermarksOfEveryType(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		for i, w := range []struct{ kind, value, later string }{
			{"smallint", "i", "2000"},
			{"integer", "i * 100000", "2000000000"},
			{"bigint", "i * 1000000000000", "9000000000000000000"},
			{"numeric(30,0)", "i * 1e20", "1e29"},
			{"text", "'2026-' || lpad(i::text, 3, '0')", "'2026-é'"},
			{"varchar(30)", "chr(64 + i)", "'~'"},
			{"date", "date '2026-01-01' + i", "date '2026-06-01'"},
			{"timestamp", "timestamp '2026-01-01' + i * interval '1 us'", "timestamp '2026-06-01'"},
			{"timestamptz(3)", "timestamptz '2026-01-01Z' + i * interval '1 ms'", "timestamptz '2026-06-01Z'"},
			{"date", "CASE i WHEN 1 THEN '-infinity' WHEN 2 THEN '0044-03-15 BC'::date ELSE date '2026-01-01' + i END",
				"date '2026-06-01'"},
		} {
			name := fmt.Sprintf("risen_%d", i)
			b.exec(fmt.Sprintf(`CREATE TABLE %s (id int PRIMARY KEY, w %s)`, name, w.kind))
			b.exec(fmt.Sprintf(`INSERT INTO %s SELECT i, %s FROM generate_series(1, 25) i`, name, w.value))
			for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepLedger} {
				table := feed.Table{Table: "public." + name, Find: feed.FindWatermark, Keep: keep, PageRows: 4,
					Target: fmt.Sprintf("copy.%s_%s", name, keep), Watermark: &feed.Watermark{Column: "w"}}
				require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", table.Table, nil))
				require.Equal(t, rows.Books{Read: 25, Inserted: 25}, b.bring(table).Books, w.kind)
				require.Equal(t, rows.Books{}, b.bring(table).Books, w.kind)
				b.exec(fmt.Sprintf(`INSERT INTO %s VALUES (99, %s)`, name, w.later))
				require.Equal(t, rows.Books{Read: 1, Inserted: 1}, b.bring(table).Books, w.kind)
				b.equal(table, 26)
				b.exec(fmt.Sprintf(`DELETE FROM %s WHERE id = 99`, name))
			}
		}
	})
}

// A position that was left within rows of one watermark, by a key the table no longer
// has, reads those rows again rather than skip the rest of them.
func TestPositionOfAnotherKeySkipsNothing(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	b.exec(`CREATE TABLE loans (id int, copy int, at timestamptz DEFAULT '2026-01-01Z', PRIMARY KEY (id, copy)); ` +
		`INSERT INTO loans SELECT i, i FROM generate_series(1, 10) i`)
	table := feed.Table{Table: "public.loans", Find: feed.FindWatermark, Keep: feed.KeepLatest, PageRows: 3,
		Watermark: &feed.Watermark{Column: "at"}}
	within := position.Position{Value: "2026-01-01T00:00:00.000000Z", After: []string{"4"}}
	require.NoError(t, b.warehouse.Journal().SetPosition(t.Context(), "circulation", "public.loans", &within))
	require.Equal(t, int64(10), b.bring(table).Books.Read)
	b.equal(table, 10)
}

func TestPartitionedTablesAndViews(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int, branch text, at timestamptz DEFAULT '2026-01-01Z', PRIMARY KEY (id, ` +
			`branch)) PARTITION BY LIST (branch)`)
		b.exec(`CREATE TABLE loans_north PARTITION OF loans FOR VALUES IN ('north'); CREATE TABLE loans_rest ` +
			`PARTITION OF loans DEFAULT`)
		b.exec(`INSERT INTO loans SELECT i, CASE WHEN i % 2 = 0 THEN 'north' ELSE 'south' END FROM ` +
			`generate_series(1, 10) i`)
		b.exec(`CREATE VIEW north AS SELECT * FROM loans WHERE branch = 'north'; CREATE MATERIALIZED VIEW south AS ` +
			`SELECT * FROM loans WHERE branch = 'south'`)
		for name, n := range map[string]int64{"loans": 10, "north": 5, "south": 5} {
			table := feed.Table{Table: "public." + name, Find: feed.FindWatermark, Keep: feed.KeepLatest, PageRows: 3,
				Watermark: &feed.Watermark{Column: "at"}}
			if name != "loans" {
				table.Key = []string{"id"}
			}
			require.Equal(t, rows.Books{Read: n, Inserted: n}, b.bring(table).Books, name)
			require.Equal(t, rows.Books{}, b.bring(table).Books, name)
			b.equal(table, n)
		}
	})
}
