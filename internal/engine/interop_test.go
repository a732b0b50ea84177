//go:build interop

package engine_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	sourcelake "noemata/internal/source/lake"
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
		judge("Spark, "+when, timeless, run("by_spark.py", append([]string{strings.Join(jars, ","), settings.Path},
			of(timeless)...)...))
		require.NoError(t, b.warehouse.(warehouse.Upkept).Upkeep(t.Context()))
	}
}

// engineOf is Spark, which runs statements one after another.
type engineOf struct {
	t     *testing.T
	to    io.Writer
	lines *bufio.Scanner
}

// startSpark starts one whose catalogue is in a database, and whose tables are in a folder.
func startSpark(t *testing.T, installed string, settings connection.Settings) *engineOf {
	jars, err := filepath.Glob(filepath.Join(installed, "jars/*.jar"))
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), filepath.Join(installed, "bin/python"), "run_by_spark.py", strings.Join(jars,
		","), settings.Path,
		settings.Host, fmt.Sprint(settings.Port), settings.Database, settings.User, settings.Password)
	cmd.Dir, cmd.Env = "../../tools/interop", append(os.Environ(), "TZ=UTC")
	var trouble bytes.Buffer
	cmd.Stderr = &trouble
	to, err := cmd.StdinPipe()
	require.NoError(t, err)
	from, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = to.Close()
		if err := cmd.Wait(); t.Failed() {
			t.Logf("%v: %s", err, &trouble)
		}
	})
	return &engineOf{t: t, to: to, lines: bufio.NewScanner(from)}
}

// run runs a statement, and gives the rows as plainRow has them.
func (e *engineOf) run(sql string, args ...any) (rows []string) {
	e.t.Helper()
	_, err := fmt.Fprintln(e.to, strings.Join(strings.Fields(fmt.Sprintf(sql, args...)), " "))
	require.NoError(e.t, err)
	for e.lines.Scan() {
		if e.lines.Text() == "done" {
			return rows
		}
		var line struct{ Row map[string]*string }
		require.NoError(e.t, json.Unmarshal(e.lines.Bytes(), &line), e.lines.Text())
		rows = append(rows, plainRow(line.Row))
	}
	e.t.Fatalf("Spark ended: %s", sql)
	return nil
}

// What Spark does to tables arrives: by merges, updates and deletes that write files anew, places, or vectors; its
// compactions, and tables that it divides otherwise and gives columns.
//
// Longer than a screen: it is one story of a lake.
func TestInteropAsASource(t *testing.T) {
	installed := os.Getenv("NOEMATA_INTEROP")
	require.NotEmpty(t, installed, "it needs programs of other languages: make interop")
	b := newWorkbench(t, kinds[0])
	settings := b.settings
	settings.Path = filepath.Join(testkit.Dir(t), "foreign")
	spark := startSpark(t, installed, settings)
	spark.run("CREATE NAMESPACE noemata.kept")
	made := map[string]string{"anew": "'format-version'='2','write.delete.mode'='copy-on-write','write.update.mode'='copy-on-write','write.merge.mode'='copy-on-write'",
		"places":  "'format-version'='2','write.delete.mode'='merge-on-read','write.update.mode'='merge-on-read','write.merge.mode'='merge-on-read'",
		"vectors": "'format-version'='3','write.delete.mode'='merge-on-read','write.update.mode'='merge-on-read','write.merge.mode'='merge-on-read'"}
	names := slices.Sorted(maps.Keys(made))
	var tables []feed.Table
	const row = "id, concat('Kopie ', id, ' ☃'), CAST(id / 4 AS DECIMAL(8,2)), date_add(DATE '2026-01-01', CAST(id % 90 AS INT)), " +
		"timestamp_micros(1777600000000000 + id * 1000003), array('a', concat('t', id)), named_struct('shelf', CAST(id AS INT)), unhex('00ff')"
	for _, name := range names {
		spark.run(`CREATE TABLE noemata.kept.%s (id bigint NOT NULL, copy string, fee decimal(8,2), day date, lent timestamp, tags array<string>,
			place struct<shelf:int>, cover binary) USING iceberg PARTITIONED BY (bucket(3, id)) TBLPROPERTIES (%s)`, name, made[name])
		spark.run("INSERT INTO noemata.kept.%s SELECT %s FROM range(0, 400)", name, row)
		tables = append(tables, feed.Table{Table: "kept." + name, Keep: feed.KeepLatest, Target: "brought." + name,
			Key: []string{"id"}, Drift: &feed.Drift{Columns: drift.Follow}})
	}
	src, err := sourcelake.Open(settings, `source "foreign"`)
	require.NoError(t, err)
	t.Cleanup(src.Close)
	b.source = src
	f := newFollower(t, b, tables...)
	more := ""
	judge := func(when string) {
		t.Helper()
		f.catchUp()
		for _, name := range names {
			require.NoError(t, f.held("kept."+name), "%s, %s", name, when)
			want := spark.run("SELECT id, copy, fee, day, lent, to_json(tags) AS tags, to_json(place) AS place, lower(hex(cover)) AS cover %s "+
				"FROM noemata.kept.%s", more, name)
			found := testkit.SQL(t, b.warehouse,
				"SELECT CAST(id AS VARCHAR), copy, CAST(fee AS VARCHAR), CAST(day AS VARCHAR), "+
					"strftime(lent AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%f'), CAST(tags AS VARCHAR), CAST(place AS VARCHAR), lower(hex(cover))"+more+
					" FROM brought."+name)
			var got []string
			for _, values := range found {
				texts := map[string]*string{}
				for i, column := range []string{"id", "copy", "fee", "day", "lent", "tags", "place", "cover",
					"note"}[:len(values)] {
					if text, some := values[i].(string); some {
						texts[column] = &text
					}
				}
				got = append(got, plainRow(texts))
			}
			slices.Sort(want)
			slices.Sort(got)
			require.Equal(t, want, got, "%s, %s", name, when)
			t.Logf("%s: %d rows are equal, %s", name, len(got), when)
		}
	}
	judge("as they were copied")
	for round := range 4 {
		for _, name := range names {
			spark.run("UPDATE noemata.kept.%s SET fee = fee + 1, tags = array('u', 'round %d') WHERE id %% 7 = %[2]d", name,
				round)
			spark.run("DELETE FROM noemata.kept.%s WHERE id %% 11 = %d", name, round)
			spark.run(`MERGE INTO noemata.kept.%s t USING (SELECT id * 3 AS id, 'merged %d' AS copy FROM range(%[2]d, 300)) s ON t.id = s.id
				WHEN MATCHED AND t.id %% 2 = 0 THEN DELETE WHEN MATCHED THEN UPDATE SET copy = s.copy WHEN NOT MATCHED THEN INSERT (id, copy)
				VALUES (s.id, s.copy)`, name, round)
		}
		judge(fmt.Sprintf("after round %d", round))
		for _, name := range names {
			switch round {
			case 0:
				spark.run("CALL noemata.system.rewrite_data_files(table => 'kept.%s', options => map('rewrite-all', 'true'))", name)
			case 1:
				spark.run("ALTER TABLE noemata.kept.%s ADD PARTITION FIELD months(day)", name)
			case 2:
				spark.run("ALTER TABLE noemata.kept.%s ADD COLUMN note string", name)
				spark.run("UPDATE noemata.kept.%s SET note = concat('n', id) WHERE id < 50", name)
				more = ", note"
			}
		}
		judge(fmt.Sprintf("at the end of round %d", round))
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
