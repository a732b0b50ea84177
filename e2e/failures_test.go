package e2e

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/mariaserver"
	"noemata/internal/pgserver"
	"noemata/internal/testkit"
	"noemata/internal/testkit/hostile"
)

// failures provokes what can go wrong, on real servers, and keeps what is said of it: docs/failures.md is made
// of that. After a change of what is said: NOEMATA_GOLDEN=write go test ./e2e -run TestFailures
type failures struct {
	*service
	page   strings.Builder
	n      int
	hidden [][2]string // what differs from run to run, and what stands for it
}

const failuresHead = `# What goes wrong, and what is said

Each of these is provoked on real servers by ` + "`TestFailuresNameTheirCauseAndRemedy`" + `, which has written this page: what a
person is shown is what the test was shown. Names of hosts, files and processes stand for those of the test.
`

// section begins a part of the page.
func (f *failures) section(title string) {
	fmt.Fprintf(&f.page, "\n## %s\n\n| | what happens | what is said | what to do |\n| ---: | --- | --- | --- |\n", title)
}

// told adds a failure: what happens, and what was said of it, which must name a remedy.
func (f *failures) told(happens string, said client.Problem) {
	f.t.Helper()
	require.NotEmpty(f.t, said.What, happens)
	require.NotEmpty(f.t, said.Remedy, "%s: %s", happens, said.What)
	require.NotContains(f.t, said.What+said.Remedy, "%!", happens)
	f.n++
	fmt.Fprintf(&f.page, "| %d | %s | %s | %s |\n", f.n, happens, f.plain(said.What), f.plain(said.Remedy))
}

// asItIs adds the next failure as the page has it.
func (f *failures) asItIs() {
	f.t.Helper()
	content, err := os.ReadFile(failuresPage)
	require.NoError(f.t, err)
	f.n++
	row := regexp.MustCompile(fmt.Sprintf(`(?m)^\| %d \|.*\n`, f.n)).FindString(string(content))
	require.NotEmpty(f.t, row)
	f.page.WriteString(row)
}

var failuresPage = filepath.Join("..", "docs", "failures.md")

var (
	portPattern   = regexp.MustCompile(`127\.0\.0\.1:\d+`)
	pidPattern    = regexp.MustCompile(`process \d+`)
	placePattern  = regexp.MustCompile(`\b[0-9A-F]{8}/[0-9A-F]{8}\b|\b\d{20}\b`)
	localPattern  = regexp.MustCompile(`localhost:\d+`)
	slotPattern   = regexp.MustCompile(`noemata_live_\w+`)
	momentPattern = regexp.MustCompile(`20\d\d-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d(:\d\d)?)?`)
)

// plain is a text without what differs from run to run, as a cell of a table.
func (f *failures) plain(text string) string {
	for _, x := range f.hidden {
		text = strings.ReplaceAll(text, x[0], x[1])
	}
	text = portPattern.ReplaceAllString(text, "db.example:5432")
	text = pidPattern.ReplaceAllString(text, "process 4711")
	text = strings.ReplaceAll(placePattern.ReplaceAllString(text, "00000000/01C0F2D0"), "00000000/01C0F2D0 0-1-4711",
		"0-1-4711")
	text = localPattern.ReplaceAllString(text, "localhost:5432")
	text = slotPattern.ReplaceAllString(text, "noemata_live")
	text = momentPattern.ReplaceAllString(text, "2026-11-26 12:00:00Z")
	return strings.ReplaceAll(strings.ReplaceAll(strings.TrimSpace(text), "|", "\\|"), "\n", "<br>")
}

// run is what a run of a feed says, which must not succeed.
func (f *failures) run(feed string) client.Problem {
	f.t.Helper()
	run := f.finish(feed)
	if run.Problem == nil { // the table is held, and the rest of the feed goes on
		x, err := f.client.Feed(f.t.Context(), feed)
		require.NoError(f.t, err)
		for _, t := range x.Tables {
			if t.Problem != nil {
				return *t.Problem
			}
		}
	}
	require.NotNil(f.t, run.Problem, "the run of %s is %s", feed, run.State)
	return *run.Problem
}

// refused is what the service says to a call that fails.
func (f *failures) refused(err error) client.Problem {
	f.t.Helper()
	var e *client.Error
	require.ErrorAs(f.t, err, &e)
	return client.Problem{Code: e.Code, What: e.Detail, Remedy: e.Remedy}
}

// tried is what a test of settings says.
func (f *failures) tried(kind string, s client.Settings) client.Problem {
	f.t.Helper()
	_, err := f.client.TryConnection(f.t.Context(), client.Sources,
		client.NewConnection{Name: "tried", Kind: kind, Settings: &s})
	return f.refused(err)
}

// found is the finding of a check of a feed's file that contains a text.
func (f *failures) found(file, contains string) client.Problem {
	f.t.Helper()
	x, err := f.client.FeedFile(f.t.Context(), file, client.Check)
	require.NoError(f.t, err)
	for _, finding := range x.Findings {
		if strings.Contains(finding.What, contains) {
			return client.Problem{What: finding.What, Remedy: finding.Remedy}
		}
	}
	require.Fail(f.t, "not found", "%q among %+v", contains, x.Findings)
	return client.Problem{}
}

// well makes sure that a feed runs again once what was wrong is mended.
func (f *failures) well(feed string) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		run := f.finish(feed)
		return run.State == "done"
	}, 30*time.Second, 100*time.Millisecond, feed)
}

// failures of reading, named once.
const oneTable = "feed: %[1]s\nsource: circulation\nwarehouse: %[2]s\ntarget: kept_%[2]s.{table}\ntables:\n  - %[3]s\n"

const byWatermark = "{table: public.patrons, find: watermark, watermark: {column: updated_at, settle: 0s}, keep: latest}"

// Longer than a screen: it is a list.
func TestFailuresNameTheirCauseAndRemedy(t *testing.T) {
	t.Parallel() // it waits much
	s := newService(t)
	f := &failures{service: s, hidden: [][2]string{{s.dir, "/var/lib/noemata/warehouses"}}}
	f.page.WriteString(failuresHead)
	dir := testkit.Dir(t)
	ca := testkit.Authority(t, dir, "postgres")
	server, err := pgserver.Start(t.Context(), pgserver.Options{Dir: filepath.Join(dir, "source"),
		Settings: testkit.Settings()})
	require.NoError(t, err)
	defer func() { _ = server.Stop() }() // the one that it is by then
	require.NoError(t, server.CreateDatabase(t.Context(), "circulation"))
	d := &database{t, server.Settings("circulation"), testkit.Connect(t, server.URL("circulation"))}
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz NOT NULL); CREATE INDEX ON patrons (updated_at);
INSERT INTO patrons SELECT i, 'patron ' || i, '2026-01-01Z' FROM generate_series(1, 1000) i; ANALYZE;
CREATE ROLE reader LOGIN PASSWORD 'right' REPLICATION; GRANT SELECT ON ALL TABLES IN SCHEMA public TO reader`)
	settings := d.settings
	settings.User, settings.Password = "reader", "right"
	source := client.NewConnection{Name: "circulation", Kind: "postgresql", Settings: &settings}
	_, err = s.client.AddConnection(t.Context(), client.Sources, source)
	require.NoError(t, err)
	s.addWarehouse("lake", "duckdb")
	library, err := mariaserver.Start(t.Context(),
		mariaserver.Options{Dir: filepath.Join(dir, "mariadb"), Settings: testkit.MariaSettings()})
	require.NoError(t, err)
	defer func() { _ = library.Stop() }()
	require.NoError(t, library.CreateDatabase(t.Context(), "catalogue"))
	maria, err := library.Open("catalogue")
	require.NoError(t, err)
	defer func() { _ = maria.Close() }()
	catalogue := library.Settings("catalogue")

	f.network(settings)
	f.signIn(d, settings, catalogue)
	f.certificates(dir, ca)
	f.permissions(d, settings)
	f.structures(d)
	f.values(d)
	f.locksAndTimes(d, &server, filepath.Join(dir, "source"), settings)
	f.logs(d, maria, catalogue)
	f.filesAndDisks(d)
	f.ourselves()

	if os.Getenv("NOEMATA_GOLDEN") == "write" {
		require.NoError(t, os.WriteFile(failuresPage, []byte(f.page.String()), 0o644))
	}
	want, err := os.ReadFile(failuresPage)
	require.NoError(t, err)
	require.Equal(t, string(want), f.page.String(), "what is said has changed; look at it, and write the page anew")
	require.GreaterOrEqual(t, f.n, 30)
}

func (f *failures) network(settings client.Settings) {
	f.section("The network")
	s := settings
	s.Host, s.TLS = "no-such-host.invalid", "off"
	f.told("The host's name is not known.", f.tried("postgresql", s))
	s = settings
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(f.t, err)
	s.Port = free.Addr().(*net.TCPAddr).Port
	require.NoError(f.t, free.Close())
	f.told("Nothing listens at the port.", f.tried("postgresql", s))
	s.Port = hostile.Mute(f.t)
	f.told("Something listens and says nothing.", f.tried("mariadb", s))
	s.Port = hostile.Endless(f.t, []byte("HTTP/1.1 400 Bad Request\r\n\r\n"), []byte("no"))
	f.told("Something else listens there, such as a web server.", f.tried("mariadb", s))
}

func (f *failures) signIn(d *database, settings, catalogue client.Settings) {
	f.section("Signing in")
	s := settings
	s.Password = "wrong secret"
	f.told("The password is wrong (PostgreSQL).", f.tried("postgresql", s))
	s = catalogue
	s.Password = "wrong secret"
	f.told("The password is wrong (MariaDB).", f.tried("mariadb", s))
	d.exec(`CREATE ROLE shelf NOLOGIN PASSWORD 'right'`)
	s = settings
	s.User = "shelf"
	f.told("The role may not sign in.", f.tried("postgresql", s))
	s = settings
	s.Database = "acquisitions"
	f.told("The server has no such database.", f.tried("postgresql", s))
	d.exec(`ALTER ROLE reader CONNECTION LIMIT 0`)
	f.told("The role has no connection left.", f.tried("postgresql", settings))
	d.exec(`ALTER ROLE reader CONNECTION LIMIT -1`)
}

func (f *failures) certificates(dir, ca string) {
	f.section("Certificates")
	config := testkit.Settings()
	config["ssl"], config["ssl_cert_file"], config["ssl_key_file"] = "on", filepath.Join(dir, "server.crt"),
		filepath.Join(dir, "server.key")
	server, err := pgserver.Start(f.t.Context(), pgserver.Options{Dir: filepath.Join(dir, "secured"), Settings: config})
	require.NoError(f.t, err)
	defer func() { _ = server.Stop() }()
	s := server.Settings("postgres")
	s.TLS = "verify-full"
	f.told("An authority that is not trusted has signed the server's certificate.", f.tried("postgresql", s))
	s.Host, s.CA = "localhost", ca
	f.told("The certificate is of another host.", f.tried("postgresql", s))
	plain := testkit.Postgres(f.t).Settings("postgres")
	plain.TLS = "require"
	f.told("The server does not offer TLS.", f.tried("postgresql", plain))
}

func (f *failures) permissions(d *database, settings client.Settings) {
	f.section("Privileges")
	f.apply(oneTable, "patrons", "lake", byWatermark)
	f.well("patrons")
	d.exec(`REVOKE SELECT ON patrons FROM reader`)
	f.told("The source's user may not read a table.", f.run("patrons"))
	d.exec(`GRANT SELECT ON patrons TO reader`)
	f.well("patrons")
	d.exec(`ALTER ROLE reader NOREPLICATION`)
	f.told("The source's user may not follow the log.", f.found(fmt.Sprintf(oneTable, "live", "lake",
		"{table: public.patrons, find: log, keep: latest}"), "change log."))
	d.exec(`ALTER ROLE reader REPLICATION`)
	target, conn := testkit.Database(f.t)
	f.hidden = append(f.hidden, [2]string{target.Database, "reports"})
	testkit.Exec(f.t, conn, `DO $$ BEGIN CREATE ROLE writer LOGIN PASSWORD 'right'; EXCEPTION WHEN duplicate_object THEN NULL; END $$`)
	target.User, target.Password = "writer", "right"
	_, err := f.client.AddConnection(f.t.Context(), client.Warehouses,
		client.NewConnection{Name: "reports", Kind: "postgresql", Settings: &target})
	require.NoError(f.t, err)
	f.told("The warehouse's user may not make a schema.",
		f.found(fmt.Sprintf(oneTable, "to-reports", "reports", byWatermark), "may not"))
	_, err = f.client.AddConnection(f.t.Context(), client.Warehouses,
		client.NewConnection{Name: "elsewhere", Kind: "duckdb",
			Settings: &client.Settings{Path: "/etc/lake.duckdb"}})
	f.told("A warehouse file would lie outside the folders that the operator allows.", f.refused(err))
	reader, err := f.client.AddToken(f.t.Context(), client.NewToken{Name: "a reader", Role: "look"})
	require.NoError(f.t, err)
	_, err = client.New(f.address, reader.Secret).StartFeed(f.t.Context(), "patrons")
	f.told("A token's role does not reach for what is asked.", f.refused(err))
	_, err = client.New(f.address, "noe_WRONG").Feeds(f.t.Context())
	f.told("A token is not known, or has expired.", f.refused(err))
}

func (f *failures) structures(d *database) {
	f.section("Structures that change")
	d.exec(`ALTER TABLE patrons RENAME TO readers`)
	f.told("A table is not there any more.", f.run("patrons"))
	d.exec(`ALTER TABLE readers RENAME TO patrons`)
	f.well("patrons")
	d.exec(`CREATE TABLE fines (id bigint PRIMARY KEY, amount numeric(8,2), note text, updated_at timestamptz NOT NULL DEFAULT clock_timestamp()); ` +
		`INSERT INTO fines SELECT i, i FROM generate_series(1, 10) i; GRANT SELECT ON fines TO reader`)
	const fines = "{table: public.fines, find: watermark, watermark: {column: updated_at, settle: 0s}, keep: latest}"
	f.apply("drift: {columns: hold, types: hold, keys: hold}\n"+oneTable, "fines", "lake", fines)
	f.well("fines")
	d.exec(`ALTER TABLE fines ADD paid boolean`)
	f.told("A column is added, and the feed holds the table.", f.run("fines"))
	d.exec(`ALTER TABLE fines DROP paid`)
	f.well("fines")
	d.exec(`ALTER TABLE fines ALTER amount TYPE text`)
	f.told("A column's type changes, and the feed holds the table.", f.run("fines"))
	d.exec(`ALTER TABLE fines ALTER amount TYPE numeric(8,2) USING amount::numeric`)
	f.well("fines")
	d.exec(`ALTER TABLE fines DROP CONSTRAINT fines_pkey`)
	f.told("A table loses its key.", f.run("fines"))
	d.exec(`ALTER TABLE fines ADD PRIMARY KEY (id)`)
	f.well("fines")
	f.told("Two columns have one name for the warehouse.", f.found(func() string {
		d.exec(`CREATE TABLE twins (id int PRIMARY KEY, "Branch" text, branch text, updated_at timestamptz NOT NULL DEFAULT now()); GRANT SELECT ON twins TO reader`)
		return fmt.Sprintf(oneTable, "twins", "lake", strings.ReplaceAll(byWatermark, "patrons", "twins"))
	}(), "ranch"))
	f.told("Another feed keeps the target already.", func() client.Problem {
		_, err := f.client.FeedFile(f.t.Context(), fmt.Sprintf(oneTable, "again", "lake", byWatermark), client.Apply)
		return f.refused(err)
	}())
	_, err := f.client.FeedFile(f.t.Context(), strings.Replace(fmt.Sprintf(oneTable, "typed", "lake", byWatermark),
		"keep:", "keeep:", 1), client.Apply)
	f.told("A feed file has a word that does not exist.", f.refused(err))
}

func (f *failures) values(d *database) {
	f.section("Values")
	d.exec(`CREATE TABLE stock (id int, number text, updated_at timestamptz NOT NULL DEFAULT now()); GRANT SELECT ON stock TO reader;
INSERT INTO stock SELECT i, 'many' FROM generate_series(1, 10001) i`)
	f.apply(oneTable, "stock", "lake", "{table: public.stock, find: whole, keep: latest, key: [id], columns: {number: {type: int32}}}")
	f.told("More than 10 000 rows of a commit do not fit the type that the feed asks for.", f.run("stock"))
	d.exec(`UPDATE stock SET number = '7'`)
	f.well("stock")
	d.exec(`INSERT INTO stock SELECT 5, '8'`)
	f.told("A key that the feed names is not unique.", f.run("stock"))
	d.exec(`DELETE FROM stock WHERE number = '8'`)
	f.well("stock")
	d.exec(`INSERT INTO patrons VALUES (100000, 'from the future', now() + interval '10 years')`)
	f.told("Watermarks lie in the future.", f.found(fmt.Sprintf(oneTable, "patrons", "lake", byWatermark), "clock shows"))
	d.exec(`DELETE FROM patrons WHERE id = 100000`)
}

func (f *failures) locksAndTimes(d *database, server **pgserver.Server, dir string, settings client.Settings) {
	f.section("Locks, limits and times")
	d.exec(`INSERT INTO patrons VALUES (2000, 'new', clock_timestamp())`)
	locks := testkit.Connect(f.t, (*server).URL("circulation"))
	for _, sql := range []string{"BEGIN", "LOCK TABLE stock IN ACCESS EXCLUSIVE MODE"} {
		testkit.Exec(f.t, locks, sql)
	}
	f.told("Somebody's lock keeps a table from being read.", f.run("stock"))
	testkit.Exec(f.t, locks, "ROLLBACK")
	f.well("stock")
	f.apply("feed: slow\nsource: circulation\nwarehouse: lake\ntables:\n  - {query: 'SELECT id, 1 / (id - 500) AS share FROM public.patrons', name: shares, " +
		"key: [id], find: whole, keep: latest, target: kept.shares}\n")
	f.told("A query that is read as a table fails at the source.", f.run("slow"))
	require.NoError(f.t, (*server).Stop())
	f.told("The source is stopped.", f.run("patrons"))
	var err error
	*server, err = pgserver.Start(f.t.Context(), pgserver.Options{Dir: dir, Port: settings.Port,
		Settings: testkit.Settings()})
	require.NoError(f.t, err)
	d.conn = testkit.Connect(f.t, (*server).URL("circulation"))
	f.well("patrons")
}

func (f *failures) logs(d *database, maria *sql.DB, catalogue client.Settings) {
	f.section("Change logs")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text); GRANT SELECT ON loans TO reader`)
	const follows = "{table: public.loans, find: log, keep: latest}"
	h := &healing{service: f.service, run: func(sql string) { d.exec(sql) }}
	h.checked(fmt.Sprintf(oneTable, "live", "lake", follows))
	f.apply(oneTable, "live", "lake", follows)
	f.well("live")
	d.exec(`SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name LIKE 'noemata%'`)
	f.told("The source's log was let go: somebody has dropped the slot.", f.run("live"))
	err := f.client.CopyAgain(f.t.Context(), "live", nil)
	require.NoError(f.t, err)
	f.well("live")
	var publication string
	require.NoError(f.t, d.conn.QueryRow(f.t.Context(), "SELECT pubname FROM pg_publication LIMIT 1").Scan(&publication))
	f.hidden = append(f.hidden, [2]string{publication, "noemata_live"})
	d.exec(`ALTER TABLE loans REPLICA IDENTITY NOTHING`)
	f.told("A table does not tell its log which rows change.", f.run("live"))
	d.exec(`ALTER TABLE loans REPLICA IDENTITY DEFAULT`)
	f.well("live")

	exec := func(sql string) {
		f.t.Helper()
		_, err := maria.Exec(sql)
		require.NoError(f.t, err, sql)
	}
	exec(`CREATE TABLE titles (id int PRIMARY KEY, name varchar(80))`)
	_, err = f.client.AddConnection(f.t.Context(), client.Sources,
		client.NewConnection{Name: "catalogue", Kind: "mariadb", Settings: &catalogue})
	require.NoError(f.t, err)
	titles := fmt.Sprintf("feed: titles\nsource: catalogue\nwarehouse: lake\ntarget: kept.{table}\ntables:\n  - {table: %s.titles, find: log, keep: latest}\n", catalogue.Database)
	f.apply("%s", titles)
	f.well("titles")
	exec(`SET GLOBAL binlog_format = STATEMENT`)
	f.told("The binary log tells statements instead of rows.", f.found(titles, "binlog_format"))
	exec(`SET GLOBAL binlog_format = ROW`)
	exec(`INSERT INTO titles VALUES (1, 'Die Brücke')`)
	require.Eventually(f.t, func() bool { // a file that somebody reads still is not purged
		exec(`FLUSH BINARY LOGS`)
		var file string
		if err := maria.QueryRow(`SHOW MASTER STATUS`).Scan(&file, new(any), new(any), new(any)); err != nil {
			return false
		}
		exec(`PURGE BINARY LOGS TO '` + file + `'`)
		found, err := maria.Query(`SHOW BINARY LOGS`)
		if err != nil {
			return false
		}
		defer func() { _ = found.Close() }()
		n := 0
		for found.Next() {
			n++
		}
		return n == 1
	}, 30*time.Second, 500*time.Millisecond)
	p := f.run("titles")
	for _, m := range regexp.MustCompile(`\d+-\d+-\d+|binlog\.\d+`).FindAllString(p.What+p.Remedy, -1) {
		f.hidden = append(f.hidden, [2]string{m, map[bool]string{true: "binlog.000042",
			false: "0-1-4711"}[strings.HasPrefix(m, "binlog")]})
	}
	f.told("The binary log was purged before the feed had read it.", p)
	err = f.client.CopyAgain(f.t.Context(), "titles", nil)
	require.NoError(f.t, err)
	f.well("titles")
}

func (f *failures) filesAndDisks(d *database) {
	f.section("Warehouse files and disks")
	broken := filepath.Join(f.dir, "broken.duckdb")
	require.NoError(f.t, os.WriteFile(broken, []byte(strings.Repeat("this is not a database ", 500)), 0o600))
	_, err := f.client.TryConnection(f.t.Context(), client.Warehouses, client.NewConnection{Name: "broken", Kind: "duckdb",
		Settings: &client.Settings{Path: broken}})
	f.told("The file is no DuckDB database.", f.refused(err))
	d.exec(`INSERT INTO patrons VALUES (2001, 'newer', clock_timestamp())`)
	time.Sleep(3 * time.Second) // the service closes a file that it does not use
	file, err := os.OpenFile(filepath.Join(f.dir, "lake.duckdb"), os.O_RDWR, 0)
	require.NoError(f.t, err)
	lock := syscall.Flock_t{Type: syscall.F_WRLCK}
	require.NoError(f.t, syscall.FcntlFlock(file.Fd(), syscall.F_SETLK, &lock))
	p := f.run("patrons")
	require.NoError(f.t, file.Close())
	if m := regexp.MustCompile(`waits for (\S+) \(process`).FindStringSubmatch(p.What); m != nil {
		f.hidden = append(f.hidden, [2]string{m[1], "/usr/bin/another-program"})
	}
	f.told("Another program has the file open.", p)
	f.well("patrons")
	full := filepath.Join(f.dir, "full")
	require.NoError(f.t, os.Mkdir(full, 0o700))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", full).CombinedOutput(); err != nil {
		f.t.Logf("a small disk cannot be had, which needs root, so that its failure is taken from the page as it is: %s", out)
		f.asItIs()
		return
	}
	defer func() { _ = exec.Command("umount", "-l", full).Run() }()
	_, err = f.client.AddConnection(f.t.Context(), client.Warehouses, client.NewConnection{Name: "small", Kind: "duckdb",
		Settings: &client.Settings{Path: filepath.Join(full, "small.duckdb")}})
	require.NoError(f.t, err)
	d.exec(`CREATE TABLE scans (id int PRIMARY KEY, image text, updated_at timestamptz NOT NULL DEFAULT now()); GRANT SELECT ON scans TO reader;
INSERT INTO scans SELECT i, md5(i::text) || md5((i * 7)::text) FROM generate_series(1, 60000) i`)
	f.apply(oneTable, "scans", "small", strings.ReplaceAll(byWatermark, "patrons", "scans"))
	f.told("The disk of a warehouse file is full.", f.run("scans"))
}

// ourselves are failures of the service itself.
func (f *failures) ourselves() {
	f.section("The service itself")
	said := func(env string, args ...string) client.Problem {
		f.t.Helper()
		c := exec.Command(program, append([]string{"serve", "--data", filepath.Join(f.dir, "other"), "--listen",
			"127.0.0.1:0"}, args...)...)
		if c.Env = os.Environ(); env != "" {
			c.Env = append(c.Env, env)
		}
		out, err := c.CombinedOutput()
		require.Error(f.t, err, string(out))
		_, text, said := strings.Cut(strings.TrimSpace(string(out)), "Error: ")
		require.True(f.t, said, string(out))
		at := strings.Index(text, ". ")
		require.Positive(f.t, at, text)
		return client.Problem{What: text[:at+1], Remedy: text[at+2:]}
	}
	f.told("The port is in use.", said("", "--listen", strings.TrimPrefix(f.address, "http://")))
	f.told("It would listen beyond this machine without TLS.", said("", "--listen", "0.0.0.0:8420"))
	records, _ := testkit.Database(f.t)
	url := testkit.Postgres(f.t).URL(records.Database)
	f.hidden = append(f.hidden, [2]string{records.Database, "noemata"})
	first := exec.Command(program, "serve", "--data", filepath.Join(f.dir, "first"), "--listen", "127.0.0.1:0",
		"--database-url", url)
	require.NoError(f.t, first.Start())
	require.Eventually(f.t, func() bool {
		conn := testkit.Connect(f.t, url)
		var n int
		return conn.QueryRow(f.t.Context(), "SELECT count(*) FROM tokens").Scan(&n) == nil && n == 1
	}, 30*time.Second, 200*time.Millisecond)
	_ = first.Process.Signal(syscall.SIGTERM)
	_ = first.Wait()
	f.told("The key does not belong to the records.",
		said("NOEMATA_KEY="+strings.Repeat("fedcba9876543210", 4), "--database-url", url))
	f.told("The records' database cannot be reached.",
		said("", "--database-url", "postgresql://nobody:x@127.0.0.1:1/noemata"))
	out, code := f.cli("", "--address", "http://127.0.0.1:1", "--token", "noe_X", "feeds", "list")
	require.NotZero(f.t, code)
	text := strings.TrimPrefix(strings.TrimSpace(out), "Error: ")
	at := strings.Index(text, ". ")
	require.Positive(f.t, at, text)
	f.told("The command line does not reach the service.", client.Problem{What: text[:at+1], Remedy: text[at+2:]})
}
