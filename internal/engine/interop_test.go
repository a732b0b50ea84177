//go:build interop

package engine_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/testkit"
	"noemata/internal/warehouse"
)

// What a lake holds is read by others from its catalogue alone, and is what the source has: by PyIceberg, and by Spark,
// after changes of every kind, before and after upkeep. make interop installs these, and runs it.
//
// Longer than a screen: it is one story of a lake.
func TestInterop(t *testing.T) {
	installed := os.Getenv("NOEMATA_INTEROP")
	require.NotEmpty(t, installed, "it needs programs of other languages: make interop")
	catalogue, _ := testkit.Database(t)
	settings := catalogue
	settings.Path = filepath.Join(testkit.Dir(t), "lake")
	b := newWorkbench(t, "duckdb")
	b.warehouse, b.kind = lakeOf(t, settings), "iceberg"
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text, small smallint, big bigint, fee numeric(38,6), weight real,
		share double precision, returned boolean, day date, at timestamp, lent timestamptz, ref uuid, cover bytea,
		notes jsonb);
		CREATE TABLE hours (id int PRIMARY KEY, opens time, closes time);
		CREATE TABLE holds (id int PRIMARY KEY, state text);
		CREATE TABLE visits (branch text, day date, n int, PRIMARY KEY (branch, day));
		INSERT INTO loans SELECT i, 'Kopie „' || i || '“ ☃', i - 100, i * 10000000000, i / 7.0, i / 8.0, i / 3.0, i % 2 = 0,
			'2026-01-01'::date + i, '2026-01-01 00:00:00.000001'::timestamp + i * interval '1 hour 1 microsecond',
			'2026-03-29 00:30:00.5+01'::timestamptz + i * interval '13 minutes', gen_random_uuid(), decode(md5(i::text), 'hex'),
			jsonb_build_object('shelf', i) FROM generate_series(1, 3000) i;
		INSERT INTO loans VALUES (9001, '', -32768, -9223372036854775808, -99999999999999999999999999999999.999999, '-Infinity',
			'NaN', NULL, '0001-01-01', '0001-01-01', '1900-01-01 00:00:00+00', NULL, '', '[]'),
			(9002, 'a' || chr(10) || 'b', 32767, 9223372036854775807, 99999999999999999999999999999999.999999, 3.4028235e38,
			1.7976931348623157e308, NULL, '9999-12-31', '9999-12-31 23:59:59.999999', '2199-12-31 23:59:59.999999+00', NULL,
			decode('00ff', 'hex'), NULL); INSERT INTO loans (id) VALUES (9003);
		INSERT INTO hours SELECT i, '08:00'::time + i * interval '1 second', '23:59:59.999999' FROM generate_series(1, 50) i;
		INSERT INTO holds SELECT i, 'placed' FROM generate_series(1, 500) i;
		INSERT INTO visits SELECT 'B' || i % 9, '2026-01-01'::date + i / 9, i FROM generate_series(1, 900) i`)
	var tables []feed.Table
	for name, keep := range map[string]feed.Keep{"loans": feed.KeepLatest, "hours": feed.KeepLatest,
		"holds": feed.KeepHistory, "visits": feed.KeepSoftDelete} {
		tables = append(tables, feed.Table{Table: "public." + name, Keep: keep, Target: "kept." + name,
			Drift: &feed.Drift{Columns: drift.Follow}, Partition: map[string][]string{"loans": {"month(day)", "bucket(3, copy)"},
				"visits": {"truncate(1, branch)"}}[name]})
	}
	f := newFollower(t, b, tables...)
	f.catchUp()
	lake := b.warehouse.(warehouse.Marked)
	require.NoError(t, lake.Mark(t.Context(), "at-first", 0))
	first := read(t, b, holdsOf)
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 25 {
		b.exec(fmt.Sprintf(`UPDATE loans SET copy = copy || ' %d', fee = NULL WHERE id %% 17 = %d;
			DELETE FROM loans WHERE id %% 101 = %d; INSERT INTO loans (id, copy) VALUES (%d, 'new');
			UPDATE holds SET state = 'ready %[1]d' WHERE id %% 23 = %[2]d; DELETE FROM holds WHERE id %% 67 = %[3]d;
			DELETE FROM visits WHERE n %% 71 = %[3]d`, round, r.IntN(17), r.IntN(67), 10000+round))
		if round == 12 {
			b.exec(`ALTER TABLE loans ADD COLUMN due date; UPDATE loans SET due = day + 21 WHERE id % 5 = 0`)
		}
		f.catchUp()
		require.NoError(t, f.held("public.loans"))
	}
	// What the source has, as texts.
	want := map[string]string{
		"loans": `SELECT id::text, copy, small::text, big::text, fee::text, weight::text, share::text, returned::text, day::text,
			to_char(at, 'YYYY-MM-DD"T"HH24:MI:SS.US') AS at, to_char(lent AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US') AS lent,
			ref::text, encode(cover, 'hex') AS cover, notes::text, due::text FROM loans`,
		"hours": `SELECT id::text, to_char(opens, 'HH24:MI:SS.US') AS opens, to_char(closes, 'HH24:MI:SS.US') AS closes FROM hours`,
		"holds": holdsOf, "visits": `SELECT branch, day::text, n::text FROM visits`,
	}
	judge := func(by string, of []string, out []byte) {
		t.Helper()
		found := map[string][]string{}
		for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
			var line struct {
				Table string
				Row   map[string]*string
			}
			require.NoError(t, json.Unmarshal(lines.Bytes(), &line), lines.Text())
			if is := line.Row["nm_current"]; is != nil && *is != "true" || line.Row["nm_deleted_at"] != nil {
				continue // a version of then, or a row that is no more
			}
			name := strings.TrimPrefix(line.Table, "kept.")
			found[name] = append(found[name], plainRow(line.Row))
		}
		for _, name := range of {
			rows := first
			if name != "holds@at-first" {
				rows = read(t, b, want[name])
			}
			slices.Sort(found[name])
			require.NotEmpty(t, rows)
			require.Equal(t, rows, found[name], "%s by %s", name, by)
			t.Logf("%s: %d rows are equal, read by %s", name, len(rows), by)
		}
	}
	run := func(script string, args ...string) []byte {
		t.Helper()
		var out, trouble bytes.Buffer
		cmd := exec.CommandContext(t.Context(), filepath.Join(installed, "bin/python"), append([]string{script}, args...)...)
		cmd.Dir, cmd.Env = "../../tools/interop", append(os.Environ(), "TZ=UTC")
		cmd.Stdout, cmd.Stderr = &out, &trouble
		require.NoError(t, cmd.Run(), "%s", &trouble)
		return out.Bytes()
	}
	way := []string{catalogue.Host, fmt.Sprint(catalogue.Port), catalogue.Database, catalogue.User, catalogue.Password}
	jars, err := filepath.Glob(filepath.Join(installed, "jars/*.jar"))
	require.NoError(t, err)
	for _, when := range []string{"as it was written", "after upkeep"} {
		timeless := []string{"loans", "holds", "visits", "holds@at-first"} // Spark has no type for a time of day
		of := func(tables []string) (args []string) {
			args = append(args, way...)
			for _, name := range tables {
				args = append(args, "kept."+name)
			}
			return args
		}
		all := append([]string{"hours"}, timeless...)
		judge("PyIceberg, "+when, all, run("by_pyiceberg.py", of(all)...))
		judge("Spark, "+when, timeless, run("by_spark.py", append([]string{strings.Join(jars, ","), settings.Path}, of(timeless)...)...))
		require.NoError(t, b.warehouse.(warehouse.Upkept).Upkeep(t.Context()))
	}
}

// holdsOf asks the source for its holds.
const holdsOf = "SELECT id::text, state FROM holds"

// read gives the rows of the source, as plainRow has them.
func read(t *testing.T, b *workbench, sql string) []string {
	t.Helper()
	found, err := b.conn.Query(t.Context(), sql)
	require.NoError(t, err)
	rows, err := pgx.CollectRows(found, func(r pgx.CollectableRow) (string, error) {
		row, err := pgx.RowToMap(r)
		texts := map[string]*string{}
		for column, v := range row {
			if text, some := v.(string); some {
				texts[column] = &text
			}
		}
		return plainRow(texts), err
	})
	require.NoError(t, err)
	slices.Sort(rows)
	return rows
}

// plainRow is a row as one text, its columns in order; those that the warehouse has added are left out.
func plainRow(row map[string]*string) string {
	var parts []string
	for name, v := range row {
		if strings.HasPrefix(name, "nm_") || v == nil {
			continue
		}
		text := *v
		if name == "weight" || name == "share" {
			text = strings.NewReplacer("Infinity", "inf", "NaN", "nan").Replace(text)
			var x float64
			if _, err := fmt.Sscan(text, &x); err == nil {
				text = fmt.Sprint(x)
				if name == "weight" {
					text = fmt.Sprint(float32(x))
				}
			}
		}
		parts = append(parts, name+"="+text)
	}
	slices.Sort(parts)
	return strings.Join(parts, "|")
}
