package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
	"noemata/internal/testkit/storage"
)

// A lake is set up from the command line, follows a log while the service is killed, is proven equal, and asked: with
// Noemata's command, by psql, and as a copy in Parquet. It is in a folder, with a catalogue in a database that is
// named;
// or in a bucket whose server fails now and then, with a catalogue in the service's own server.
func TestALake(t *testing.T) {
	for _, place := range []string{"folder", "bucket"} {
		t.Run(place, func(t *testing.T) { lakeIn(t, place == "bucket") })
	}
}

// Longer than a screen: it is one story of one service.
func lakeIn(t *testing.T, bucket bool) {
	s := &service{t: t, dir: testkit.Dir(t), listen: "127.0.0.1:0", flags: []string{"--sql-listen", "127.0.0.1:0"}}
	s.start()
	t.Cleanup(s.stop)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text, fee numeric(8,2)); CREATE TABLE holds (id int PRIMARY KEY, state text);
		INSERT INTO loans SELECT i, 'C' || i, i / 4.0 FROM generate_series(1, 2000) i; INSERT INTO holds VALUES (1, 'placed');
		CREATE TABLE kinds (id int PRIMARY KEY, a smallint, b bigint, c numeric(38,9), d numeric, e real, f float8, g boolean, h date, i time,
			j timestamp, k timestamptz, l interval, m uuid, n bytea, o jsonb, p text, q char(5), r int[], s inet);
		INSERT INTO kinds VALUES (1, -32768, 9223372036854775807, -99999999999999999999999999999.999999999, 1e60, 'NaN', '-Infinity', true,
			'0001-01-01', '23:59:59.999999', '9999-12-31 23:59:59.999999', '2026-03-29 02:30:00.5+02', '1 mon 2 days 3.5 s',
			'00000000-0000-0000-0000-00000000000f', '\x00ff', '{"a": [1, null]}', E'a\n☃''"', 'x', '{1,NULL}', '10.0.0.1/8');
		INSERT INTO kinds (id) VALUES (2)`)
	catalogue, conn := testkit.Database(t)
	add := []string{"warehouses", "add", "archive", "--kind", "iceberg"}
	if bucket {
		server := storage.New(t)
		at := server.Bucket(t, "libraries")
		add = append(add, "--bucket", at.URL(), "--endpoint", at.Endpoint, "--path-style")
		t.Setenv("NOEMATA_SECRET_KEY", at.SecretKey)
		out, code := s.cli("", append(add, "--access-key", "ANOTHER")...)
		require.NotZero(t, code)
		require.Contains(t, out, "The access key was refused")
		require.Contains(t, s.must("warehouses", "change", "archive", "--access-key", at.AccessKey),
			"version 2 of the format")
		out = s.must("warehouses", "show", "archive", "--output", "json")
		require.Contains(t, out, at.AccessKey)
		require.NotContains(t, out, at.SecretKey)
		server.Failing.Store(150)
		t.Cleanup(func() {
			require.Positive(t, server.Failed.Load())
			require.Contains(t, strings.Join(server.Objects(t, at.Name), " "), "lakes/libraries/kept/loans-")
		})
	} else {
		out, code := s.cli("", append(add, "--path", "archive", "--host", catalogue.Host)...)
		require.NotZero(t, code)
		require.Contains(t, out, "A lake's catalogue is in a PostgreSQL database.")
		t.Setenv("NOEMATA_DATABASE_PASSWORD", catalogue.Password)
		require.Contains(t, s.must(append(add, "--path", "archive", "--host", catalogue.Host, "--port",
			fmt.Sprint(catalogue.Port), "--database", catalogue.Database, "--user", catalogue.User)...),
			"version 2 of the format")
	}
	s.apply("feed: kept\nsource: circulation\nwarehouse: archive\nfreshness: continuous\ntarget: kept.{table}\ntables:\n" +
		"  - {table: public.loans, find: log, keep: history, partition: [\"bucket(4, id)\"]}\n  - {table: public.holds, find: log, keep: soft-delete}\n")
	_, err := s.client.StartFeed(t.Context(), "kept")
	require.NoError(t, err)
	for range 3 {
		for range 40 {
			id := rand.IntN(2500)
			d.exec(fmt.Sprintf(`BEGIN; INSERT INTO loans VALUES (%d, 'new', 1) ON CONFLICT (id) DO UPDATE SET copy = 'changed %[1]d';
				DELETE FROM loans WHERE id = %d; INSERT INTO holds VALUES (%[1]d, 'ready') ON CONFLICT DO NOTHING; COMMIT`, id,
				rand.IntN(2500)))
			time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
		}
		s.kill()
		s.start()
	}
	var loans, holds int64
	require.NoError(t, d.conn.QueryRow(t.Context(),
		"SELECT (SELECT count(*) FROM loans), (SELECT count(*) FROM holds)").Scan(&loans, &holds))
	s.holds("kept", "public.loans", loans)
	s.proved("kept", "public.loans", loans)
	s.proved("kept", "public.holds", holds)

	if !bucket {
		var pointers int
		require.NoError(t, conn.QueryRow(t.Context(),
			`SELECT count(*) FROM iceberg_tables WHERE table_namespace = 'kept'`).Scan(&pointers))
		require.Equal(t, 2, pointers)
	}
	const question = "SELECT count(*) FROM kept.loans WHERE nm_current"
	require.Contains(t, s.must("ask", "archive", question), fmt.Sprint(loans))
	x, err := s.client.Ask(t.Context(), "archive",
		client.Ask{SQL: "SELECT count(*) FROM kept.holds WHERE nm_deleted_at IS NULL"})
	require.NoError(t, err)
	require.Equal(t, fmt.Sprint(holds), *x.Rows[0][0])
	// What is marked stays as it is, whatever comes after.
	require.Contains(t, s.must("marks", "add", "archive", "before-the-move", "--keep", "90d"),
		"is kept as before-the-move")
	d.exec("DELETE FROM holds")
	require.Eventually(t, func() bool {
		x, err := s.client.Ask(t.Context(), "archive",
			client.Ask{SQL: "SELECT count(*) FROM kept.holds WHERE nm_deleted_at IS NULL"})
		return err == nil && *x.Rows[0][0] == "0"
	}, time.Minute, time.Second)
	require.Contains(t, s.must("ask", "archive", "--mark", "before-the-move",
		"SELECT count(*) AS n FROM kept.holds WHERE nm_deleted_at IS NULL"), fmt.Sprint(holds))
	require.Contains(t, s.must("marks", "list", "archive"), "before-the-move")
	if !bucket {
		marked(t, s, holds)
	}
	s.must("marks", "remove", "archive", "before-the-move")
	_, err = s.client.Ask(t.Context(), "archive", client.Ask{SQL: "SELECT 1", Mark: "before-the-move"})
	require.ErrorContains(t, err, "There is no mark before-the-move")
	d.exec("INSERT INTO holds SELECT i, 'placed' FROM generate_series(1, 7) i")
	holds = 7
	s.holds("kept", "public.holds", holds)
	s.proved("kept", "public.holds", holds)

	// How fresh it is, and tables of another warehouse in one question, as far as she may ask them there.
	x, err = s.client.Ask(t.Context(), "archive",
		client.Ask{SQL: "SELECT target, proven_rows FROM noemata.freshness ORDER BY 1"})
	require.NoError(t, err)
	require.Equal(t, []string{"kept.holds", fmt.Sprint(holds), "kept.loans", fmt.Sprint(loans)},
		[]string{*x.Rows[0][0], *x.Rows[0][1], *x.Rows[1][0], *x.Rows[1][1]})
	s.addWarehouse("desk", "duckdb")
	_, err = s.client.FeedFile(t.Context(), "feed: beside\nsource: circulation\nwarehouse: desk\ntables:\n"+
		"  - {table: public.holds, find: whole, keep: latest, partition: [\"bucket(4, id)\"]}\n", client.Apply)
	require.ErrorContains(t, err, "Leave partition out, or choose a lake")
	s.apply("feed: beside\nsource: circulation\nwarehouse: desk\ntarget: Kept.{table}\ntables:\n" +
		"  - {table: public.holds, find: whole, keep: latest}\n  - {table: public.kinds, find: whole, keep: latest}\n")
	require.Equal(t, "done", s.finish("beside").State)
	there, err := s.client.Ask(t.Context(), "desk", client.Ask{SQL: "SELECT * FROM kept.kinds ORDER BY id"})
	require.NoError(t, err)
	here, err := s.client.Ask(t.Context(), "archive", client.Ask{SQL: "SELECT * FROM desk.kept.kinds ORDER BY id"})
	require.NoError(t, err)
	require.Equal(t, there.Rows, here.Rows, "values of every type are the same where they are lent")
	require.Len(t, here.Rows, 2)
	for _, sql := range []string{
		"SELECT count(*) FROM kept.holds h JOIN desk.kept.holds AS d ON d.id = h.id AND d.state = h.state WHERE h.nm_deleted_at IS NULL",
		`SELECT count(*) FROM "desk"."Kept".holds`,
		"WITH joined AS (SELECT h.id, d.* FROM kept.holds h JOIN desk.kept.holds d USING (id)) SELECT count(state) FROM joined"} {
		x, err = s.client.Ask(t.Context(), "archive", client.Ask{SQL: sql})
		require.NoError(t, err, sql)
		require.Equal(t, fmt.Sprint(holds), *x.Rows[0][0], sql)
	}
	_, err = s.client.Ask(t.Context(), "desk", client.Ask{SQL: "SELECT 1", Mark: "today"})
	require.ErrorContains(t, err, "Nothing is kept under names")
	_, err = s.client.Ask(t.Context(), "desk", client.Ask{SQL: "SELECT count(*) FROM archive.kept.loans"})
	require.ErrorContains(t, err, "through a lake")
	_, err = s.client.Ask(t.Context(), "archive", client.Ask{SQL: "SELECT count(*) FROM desk.noemata.positions"})
	require.ErrorContains(t, err, "may not ask the schema noemata")
	_, err = s.client.Ask(t.Context(), "archive", client.Ask{SQL: "SELECT count(*) FROM nobody.kept.loans"})
	require.ErrorContains(t, err, "no database nobody here")
	copies := testkit.Dir(t)
	s.must("export", "archive", "--tables", "kept.*", "--format", "parquet", "--to", copies)
	files, err := filepath.Glob(filepath.Join(copies, "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	_, err = os.Stat(files[0])
	require.NoError(t, err)
}

// marked keeps what a lake holds under a name in the console, asks what was kept before, and lets it go.
func marked(t *testing.T, s *service, holds int64) {
	b := newBrowser(t, s)
	b.signIn(s, "/warehouses")
	b.click("Marks")
	b.sees("before-the-move", "in 89 days")
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Name of the mark"]`), "by hand"))
	b.press(`//form//button[normalize-space(.)="Keep"]`)
	b.sees("cannot be the name of a mark")
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Name of the mark"]`),
		kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+"-hand"))
	b.press(`//form//button[normalize-space(.)="Keep"]`)
	b.sees("by-hand", "it is removed")
	b.press(`//button[@aria-label="Remove by-hand"]`)
	b.press(`//div[contains(@class, "el-message-box")]//button[normalize-space(.)="Remove"]`)
	require.Eventually(t, func() bool {
		list, err := s.client.Marks(t.Context(), "archive")
		return err == nil && len(list) == 1
	}, 20*time.Second, 100*time.Millisecond)
	b.open("/ask")
	b.choose("Mark", "before-the-move")
	b.asks("SELECT count(*) AS n FROM kept.holds WHERE nm_deleted_at IS NULL")
	b.sees(", of before-the-move", fmt.Sprint(holds))
}

// A lake in a bucket is added in the console: what is wrong stands beside its field, and what was right is kept.
func TestALakeIsAddedInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	at := storage.New(t).Bucket(t, "libraries")
	b := newBrowser(t, s)
	b.signIn(s, "/warehouses")
	b.click("Add a warehouse")
	b.field("Name", "archive")
	b.choose("Kind", "iceberg")
	b.press(`//label[contains(., "A bucket (S3)")]`)
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Bucket"]`), "libraries"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Folder in the bucket"]`), "lakes"))
	b.field("Server", at.Endpoint)
	b.field("Access key", "ANOTHER")
	b.field("Secret key", at.SecretKey)
	b.press(`//footer//button[contains(., "Test")]`)
	b.sees("The access key was refused by the bucket libraries", "Correct the access key and the secret key.")
	b.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.el-dialog label')].find((l) => l.textContent === ` +
		`'Access key').parentElement.querySelector('input').select()`))
	b.field("Access key", at.AccessKey)
	b.press(`//footer//button[contains(., "Test")]`)
	b.sees("objects can be written, read, listed and removed", "It answers: Iceberg, version 2 of the format")
	b.press(`//footer//button[contains(., "Add")]`)
	b.sees("s3://libraries/lakes")
	b.click("Change…")
	b.sees("Change the warehouse archive", "The service's own server")
	b.press(`//footer//button[contains(., "Change")]`) // its secret key stays
	b.do(chromedp.WaitNotVisible(chromedp.CSS(".el-overlay")))
	require.Contains(t, s.must("warehouses", "test", "archive"), "is fine")
}
