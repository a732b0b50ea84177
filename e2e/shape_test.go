package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/pgserver"
	"noemata/internal/testkit"
)

const shapedFeed = `feed: %[1]s
source: circulation
warehouse: %[2]s
target: kept.{table}
drift: {columns: follow}
tables:
  - table: public.payments
    find: %[3]s
%[4]s    keep: latest
    where: kind == "card" && amount > 0.5
    columns:
      card: drop
      email: {hash: people}
      phone: {mask: keep-last, count: 2}
      kind: {name: payment_kind}
      address: {take: {city: $.city}, keep: false}
    computed:
      doubled: {value: amount * 2, type: "decimal(8,2)"}
  - table: public.branch_*
    except: [public.branch_tmp]
    find: %[3]s
%[4]s    keep: latest
`

// payments are rows with values that nobody must see: half of them are left out by the filter.
func (d *database) payments(n int) {
	d.exec(`CREATE TABLE payments (id bigint PRIMARY KEY, kind text, amount numeric(8,2), card text, email text, phone text,
		address jsonb, at timestamptz NOT NULL DEFAULT '2026-01-01Z');
		CREATE TABLE branch_desks (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT '2026-01-01Z');
		CREATE VIEW branch_views AS SELECT 1 AS id;
		CREATE TABLE branch_tmp (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT '2026-01-01Z');
		INSERT INTO branch_desks (id) VALUES (1)`)
	d.exec(fmt.Sprintf(`INSERT INTO payments (id, kind, amount, card, email, phone, address) SELECT i,
		CASE i %% 2 WHEN 0 THEN 'card' ELSE 'cash' END, i, 'MARKDROPPED' || i, 'MARKHASHED' || i, 'MARKMASKED' || i,
		json_build_object('city', 'Grünau', 'door', 'MARKLEFT' || i) FROM generate_series(1, %d) i`, n))
}

// A feed file that chooses and shapes does so from the command line to the warehouse, and what
// must not be seen is nowhere: not in the warehouse, its files and its log, not in the records,
// not in an answer, and, soon after, not in the service's memory.
func TestWhatIsPrivateIsNowhere(t *testing.T) {
	for _, x := range []struct{ kind, find, more string }{
		{"duckdb", "log", ""}, {"postgresql", "watermark", "    watermark: {column: at}\n"}, {"postgresql", "log", ""},
	} {
		t.Run(x.kind+" "+x.find, func(t *testing.T) {
			s := newService(t)
			d := s.addSource("circulation")
			d.payments(1000)
			warehouse := s.addWarehouseHere("target", x.kind)
			file := filepath.Join(s.dir, "feed.yaml")
			require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, shapedFeed, "shaped", "target", x.find, x.more),
				0o600))

			said := s.must("feeds", "check", file)
			require.Contains(t, said, "The pattern stands for 1 table: public.branch_desks. It leaves out "+
				"public.branch_tmp.")
			require.Contains(t, said, "by their exact names only: not public.branch_views.")
			said = s.must("feeds", "preview", file, "public.payments", "--rows", "4")
			require.Contains(t, said, "(hidden)")
			require.Contains(t, said, " rows looked at: 500 arrive, 500 left out by the filter, 0 set aside.")
			require.NotContains(t, said, "MARK")
			s.must("feeds", "apply", file)
			run := s.finish("shaped")
			require.Equal(t, "done", run.State, "%+v", run.Problem)
			require.EqualValues(t, 500, run.Books.Filtered)
			s.proved("shaped", "public.payments", 500)
			s.proved("shaped", "public.branch_desks", 1)

			// A table and a column come; a row enters the filter, one leaves it, one cannot be stored.
			d.exec(`CREATE TABLE branch_gates (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT now());
				INSERT INTO branch_gates VALUES (7); ALTER TABLE branch_desks ADD COLUMN name text DEFAULT 'desk';
				UPDATE payments SET kind = 'card', at = now() WHERE id = 1; UPDATE payments SET kind = 'cash', at = now() WHERE id = 2;
				UPDATE payments SET amount = 999999.99, at = now() WHERE id = 4`)
			require.Eventually(t, func() bool {
				run = s.finish("shaped")
				f, err := s.client.Feed(t.Context(), "shaped")
				return err == nil && run.State == "done" && len(f.Tables) == 3 && s.same("shaped")
			}, time.Minute, time.Second, "%+v", run.Problem)
			s.proved("shaped", "public.branch_gates", 1)
			require.Contains(t, s.must("feeds", "drifts", "shaped"), "The table public.branch_gates is new")
			require.Contains(t, s.must("feeds", "drifts", "shaped"), "public.branch_desks, columns")
			exported := s.must("feeds", "export", "shaped")
			require.Contains(t, exported, "card: drop")
			again, code := s.cli(exported, "feeds", "diff", "-")
			require.Zero(t, code, again)
			require.Contains(t, again, "as the file has it")

			said, code = s.cli(strings.Replace(exported, "mask: keep-last", "mask: keep-first", 1), "feeds", "check", "-")
			require.Zero(t, code, said)
			require.Contains(t, said, "What the feed makes of its rows changes: ")

			key := strings.TrimSpace(s.must("keys", "export", "people"))
			require.Len(t, key, 64)
			said, code = s.cli(key, "keys", "import", "people")
			require.Equal(t, 1, code, said)
			require.Contains(t, said, "There is a key \"people\" already")
			s.must("sample", "shaped", "public.payments")

			s.nowhere("MARKDROPPED", "MARKHASHED", "MARKMASKED", "MARKLEFT")
			if x.kind == "postgresql" {
				conn := testkit.Connect(t,
					fmt.Sprintf("postgresql://%s:%s@%s:%d/%s", warehouse.User, warehouse.Password,
						warehouse.Host, warehouse.Port, warehouse.Database))
				nothing(t, "the warehouse", dump(t, conn), "MARK")
			}
			nothing(t, "the records", dump(t, s.records()), "MARK")
			require.NotContains(t, s.memory(), "MARKDROPPED", "what is dropped is not even read")
			s.forgotten()
		})
	}
}

// MariaDB's wire is our own, and so are its buffers: nothing stays in them either.
func TestWhatIsPrivateIsForgotten(t *testing.T) {
	s := newService(t)
	settings, db := testkit.MariaDatabase(t)
	_, err := s.client.AddConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "catalogue", Kind: "mariadb", Settings: &settings})
	require.NoError(t, err)
	s.addWarehouse("target", "duckdb")
	_, err = db.Exec("CREATE TABLE donors (id int PRIMARY KEY, email varchar(60), notes longtext)")
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO donors SELECT seq, CONCAT('MARKHASHED', seq), CONCAT('MARKMASKED', REPEAT('x', seq))
		FROM seq_1_to_2000`)
	require.NoError(t, err)
	for _, find := range []string{"whole", "log"} {
		s.apply(`{feed: donors-%[2]s, source: catalogue, warehouse: target, target: "%[2]s.{table}", tables: [{table: %[1]s.donors,
			find: %[2]s, keep: latest, columns: {email: {hash: people}, notes: {mask: keep-first, count: 1}}}]}`, settings.Database,
			find)
		require.Equal(t, "done", s.finish("donors-"+find).State)
		_, err = db.Exec("UPDATE donors SET email = CONCAT('MARKHASHED+', id) WHERE id < 100")
		require.NoError(t, err)
		require.Equal(t, "done", s.finish("donors-"+find).State)
	}
	s.proved("donors-log", settings.Database+".donors", 2000)
	s.forgotten()
}

// addWarehouseHere adds a warehouse whose files are all in the service's folder: PostgreSQL has a server of its own, so
// that its data folder can be searched, its log and what is free in its files, too.
func (s *service) addWarehouseHere(name, kind string) client.Settings {
	s.t.Helper()
	if kind != "postgresql" {
		return s.addWarehouse(name, kind)
	}
	server, err := pgserver.Start(s.t.Context(), pgserver.Options{Dir: filepath.Join(s.dir, name)})
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = server.Stop() })
	require.NoError(s.t, server.CreateDatabase(s.t.Context(), name))
	settings := server.Settings(name)
	_, err = s.client.AddConnection(s.t.Context(), client.Warehouses,
		client.NewConnection{Name: name, Kind: kind, Settings: &settings})
	require.NoError(s.t, err)
	return settings
}

// same tells whether all tables of a feed are equal on both sides.
func (s *service) same(feed string) bool {
	f, err := s.client.Feed(s.t.Context(), feed)
	if err != nil {
		return false
	}
	for _, t := range f.Tables {
		if p, err := s.client.Prove(s.t.Context(), feed, t.Table); err != nil || !p.Same {
			return false
		}
	}
	return true
}

// dump gives all rows of a database as text.
func dump(t *testing.T, conn *pgx.Conn) string {
	t.Helper()
	names, err := conn.Query(t.Context(), `SELECT format('%I.%I', schemaname, tablename) FROM pg_tables
		WHERE schemaname NOT IN ('pg_catalog', 'information_schema')`)
	require.NoError(t, err)
	tables, err := pgx.CollectRows(names, pgx.RowTo[string])
	require.NoError(t, err)
	require.NotEmpty(t, tables)
	var all strings.Builder
	for _, table := range tables {
		var content *string
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT string_agg(t::text, ' ') FROM "+table+
			" AS t").Scan(&content))
		if content != nil {
			all.WriteString(*content)
		}
	}
	return all.String()
}

func nothing(t testing.TB, where, content string, marks ...string) {
	t.Helper()
	for _, mark := range marks {
		if i := strings.Index(content, mark); i >= 0 {
			require.Fail(t, "a private value is in the clear", "in %s: …%q…", where,
				content[max(0, i-60):min(len(content), i+60)])
		}
	}
}

// nowhere looks for marks in every answer of the API, in the service's log, and in every file
// that it has: warehouses, records, and what they keep besides.
func (s *service) nowhere(marks ...string) {
	s.t.Helper()
	var described struct{ Paths map[string]map[string]any }
	_, served := s.request("GET", "/openapi.json", "", nil)
	require.NoError(s.t, json.Unmarshal([]byte(served), &described))
	delete(described.Paths, "/api/v1/events")
	runs, err := s.client.Runs(s.t.Context(), client.RunFilter{Limit: 100})
	require.NoError(s.t, err)
	header := map[string]string{"Authorization": "Bearer " + s.token}
	for path, methods := range described.Paths {
		if _, ok := methods["get"]; !ok {
			continue
		}
		for _, name := range []string{"shaped", "circulation", "target"} {
			for _, run := range runs {
				full := strings.NewReplacer("{name}", name, "{id}", fmt.Sprint(run.ID)).Replace(path)
				answer, said := s.request(http.MethodGet, full+"?table=public.payments&key=2&limit=1000", "", header)
				require.NotNil(s.t, answer)
				nothing(s.t, full, said, marks...)
			}
		}
	}
	nothing(s.t, "the service's log", s.stderr.String(), marks...)
	require.NoError(s.t, filepath.WalkDir(s.dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return nil
		}
		content, err := os.ReadFile(path)
		if err == nil {
			nothing(s.t, path, string(content), marks...)
		}
		return nil
	}))
}

// forgotten waits until nothing is left in the service's memory of what was hashed and masked, as it must be soon
// after nobody reads the source.
func (s *service) forgotten() {
	s.t.Helper()
	private := regexp.MustCompile("MARK(HASHED|MASKED|LEFT)")
	require.Eventually(s.t, func() bool { return !private.MatchString(s.memory()) }, 20*time.Second, time.Second, "values are left")
}

// memory is what the service's process can write to, as it is now (proc(5), maps and mem).
func (s *service) memory() string {
	s.t.Helper()
	pid := s.process.Process.Pid
	maps, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	require.NoError(s.t, err)
	mem, err := os.Open(fmt.Sprintf("/proc/%d/mem", pid))
	require.NoError(s.t, err)
	defer func() { _ = mem.Close() }()
	var content bytes.Buffer
	for line := range strings.Lines(string(maps)) {
		var from, to int64
		var may string
		if n, _ := fmt.Sscanf(line, "%x-%x %s", &from, &to, &may); n != 3 || !strings.HasPrefix(may, "rw") {
			continue
		}
		for at := from; at < to; at += 1 << 20 {
			part := make([]byte, min(to-at, 1<<20))
			if n, err := mem.ReadAt(part, at); err == nil || n > 0 {
				content.Write(part[:n])
			}
		}
	}
	require.Greater(s.t, content.Len(), 1<<20)
	return content.String()
}

// The console shows rows before and after, and what has drifted.
func TestConsoleShowsShapeAndDrift(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.payments(100)
	s.addWarehouse("target", "duckdb")
	file := fmt.Sprintf(shapedFeed, "shaped", "target", "whole", "")
	b := newBrowser(t, s)
	b.signIn(s, "/")
	b.sees("No feed yet")
	b.click("Apply a feed file")
	b.fill("textarea", file)
	b.click("Preview")
	b.sees("100 rows looked at; 50 arrive", "(hidden)", "The filter leaves it out.", "payment_kind")
	b.do(chromedp.Click(chromedp.Search(`//footer//button[contains(., "Apply")]`)))
	b.sees("is as the file has it")
	s.finish("shaped")
	d.exec("ALTER TABLE branch_desks ADD COLUMN name text DEFAULT 'desk'")
	require.Equal(t, "done", s.finish("shaped").State)
	b.open("/feeds/shaped")
	b.sees("Drifts", "does not have the columns that the source has now. It lacks name.",
		"Followed: the target was changed.", "Filtered")
	require.NotContains(t, b.text(), "MARK")
}

// A pattern may stand for nothing yet: tables that come are brought by the feed's own runs, but
// none whose target is another's.
func TestTablesComeToAPattern(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "duckdb")
	s.apply(patternFeed, "patterns", "freshness: continuous", "*.desk_*", "log")
	_, err := s.client.StartFeed(t.Context(), "patterns")
	require.NoError(t, err)
	d.exec(`CREATE TABLE desk_notes (id int PRIMARY KEY); INSERT INTO desk_notes VALUES (1), (2); CREATE SCHEMA branch`)
	_, err = s.client.StartRun(t.Context(), "patterns") // which ends the one that rests
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "patterns")
		return err == nil && len(f.Tables) == 1 && f.Tables[0].Rows != nil && *f.Tables[0].Rows == 2
	}, time.Minute, 200*time.Millisecond)
	_, err = s.client.PauseFeed(t.Context(), "patterns")
	require.NoError(t, err)

	s.apply(patternFeed, "others", "every: 1h", "branch.*", "whole")
	d.exec(`CREATE TABLE branch.desk_notes (id int PRIMARY KEY); CREATE TABLE branch.desk_lamps (id int PRIMARY KEY)`)
	require.Eventually(t, func() bool { return s.finish("patterns").State == "done" }, time.Minute, time.Second)
	said := s.must("feeds", "drifts", "patterns")
	require.Contains(t, said, "The table branch.desk_notes is new, and its target kept.desk_notes is that of public.desk_notes.")
	require.Contains(t, said, "The table branch.desk_lamps is new, and the feed's pattern stands for it.")
	require.Equal(t, "done", s.finish("others").State)
	said = s.must("feeds", "drifts", "others")
	require.Contains(t, said, "branch.desk_lamps is new, and its target kept.desk_lamps is that of the feed patterns.")
	require.Equal(t, "done", s.finish("others").State)
	require.Equal(t, said, s.must("feeds", "drifts", "others"), "it is said once")
}

const patternFeed = `feed: %s
source: circulation
warehouse: target
%s
target: kept.{table}
tables:
  - {table: "%s", find: %s, keep: latest}
`
