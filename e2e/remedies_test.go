package e2e

import (
	"crypto/rand"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// statements matches what a remedy has to be pasted into a database's own program.
var statements = regexp.MustCompile(`(?:(?:ALTER|GRANT|CREATE) [^;]*;\s*)+|SET GLOBAL [^;]*;`)

// healing runs the statements of remedies as they are told, each once.
type healing struct {
	*service
	run  func(sql string)
	done []string
}

// heal runs the statements of a remedy, and tells whether it had any.
func (h *healing) heal(what, remedy string) bool {
	h.t.Helper()
	found := statements.FindString(remedy)
	if found == "" {
		return false
	}
	require.NotContains(h.t, h.done, found, "the remedy was run, and %q is still so", what)
	h.done = append(h.done, found)
	for sql := range strings.SplitSeq(strings.TrimSpace(found), ";") {
		if sql != "" {
			h.run(sql)
		}
	}
	return true
}

// checked heals whatever a check of a feed's file tells, until it tells no more that a
// statement could mend.
func (h *healing) checked(file string) {
	h.t.Helper()
	for {
		x, err := h.client.FeedFile(h.t.Context(), file, client.Check)
		require.NoError(h.t, err)
		if !slices.ContainsFunc(x.Findings, func(f client.Finding) bool { return h.heal(f.What, f.Remedy) }) {
			for _, f := range x.Findings {
				require.NotEqual(h.t, "blocker", string(f.Level), "%s %s", f.What, f.Remedy)
			}
			return
		}
	}
}

// runs heals whatever a run fails of, until one is done.
func (h *healing) runs(feed string) client.Run {
	h.t.Helper()
	for {
		run := h.finish(feed)
		if run.State == "done" {
			return run
		}
		require.NotNil(h.t, run.Problem)
		require.True(h.t, h.heal(run.Problem.What, run.Problem.Remedy), "%+v", run.Problem)
	}
}

func (h *healing) ran(part string) {
	h.t.Helper()
	require.True(h.t, slices.ContainsFunc(h.done, func(sql string) bool { return strings.Contains(sql, part) }),
		"no remedy has %s: %q", part, h.done)
}

// From users that may do nothing to feeds that run, by nothing but the statements that are
// told: each is run as it stands, by an administrator, on the server that it is for.
func TestRemediesOfPostgreSQLRunAsTheyStand(t *testing.T) {
	s := newService(t)
	source, admin := testkit.Database(t)
	target, warehouse := testkit.Database(t)
	suffix := strings.ToLower(rand.Text()[:8])
	reader, writer, owner := "Reader "+suffix, "Writer "+suffix, "owner_"+suffix
	testkit.Exec(t, admin, `CREATE ROLE "`+reader+`" LOGIN PASSWORD 'spring tide'; CREATE ROLE "`+writer+`" LOGIN PASSWORD 'neap tide'; CREATE ROLE `+owner+`;
CREATE SCHEMA "Desk"; CREATE TABLE "Desk"."Loans" ("Id" int, "Branch" text, "Changed" timestamptz); INSERT INTO "Desk"."Loans" VALUES (1, 'Grünau', '2026-03-01 09:00Z');
CREATE TABLE holds (id int, shelf text); INSERT INTO holds VALUES (1, 'A'), (2, 'B');
CREATE TABLE fines (id int PRIMARY KEY, place int NOT NULL, cents int); INSERT INTO fines VALUES (1, 1, 50);
CREATE TABLE cards (id int PRIMARY KEY); INSERT INTO cards VALUES (1); ALTER TABLE cards ENABLE ROW LEVEL SECURITY;
ALTER TABLE holds OWNER TO `+owner+`; ALTER TABLE fines OWNER TO `+owner)
	testkit.Exec(t, warehouse, `REVOKE ALL ON DATABASE "`+target.Database+`" FROM public; GRANT CONNECT ON DATABASE "`+target.Database+`" TO "`+writer+`";
CREATE SCHEMA kept; CREATE TABLE kept.cards (id int, nm_change text, nm_run bigint)`)
	source.User, source.Password, target.User, target.Password = reader, "spring tide", writer, "neap tide"
	for side, settings := range map[client.Side]*client.Settings{client.Sources: &source, client.Warehouses: &target} {
		name := map[client.Side]string{client.Sources: "circulation", client.Warehouses: "target"}[side]
		_, err := s.client.AddConnection(t.Context(), side,
			client.NewConnection{Name: name, Kind: "postgresql", Settings: settings})
		require.NoError(t, err)
	}
	h := &healing{service: s, run: func(sql string) {
		t.Helper()
		conn := admin
		if strings.Contains(sql, writer) || strings.Contains(sql, `"kept"`) {
			conn = warehouse
		}
		testkit.Exec(t, conn, sql)
	}}

	const watermark = `
feed: loans
source: circulation
warehouse: target
target: kept.{table}
tables:
  - {table: Desk.Loans, find: watermark, watermark: {column: Changed, settle: 0s}, keep: latest, key: [Id, Branch]}
  - {table: public.cards, find: whole, keep: replace}
`
	h.checked(watermark)
	s.apply("%s", watermark)
	h.runs("loans")
	s.proved("loans", "Desk.Loans", 1)
	s.proved("loans", "public.cards", 1)
	for _, part := range []string{"GRANT USAGE ON SCHEMA \"Desk\"", "GRANT SELECT ON \"Desk\".\"Loans\"",
		"CREATE INDEX CONCURRENTLY", "GRANT pg_read_all_stats", "ADD PRIMARY KEY",
		"BYPASSRLS", "GRANT CREATE, TEMPORARY ON DATABASE", "GRANT USAGE, CREATE ON SCHEMA \"kept\"",
		"OWNER TO \"Writer "} {
		h.ran(part)
	}

	const log = `
feed: live
source: circulation
warehouse: target
target: live.{table}
tables:
  - {table: public.holds, find: log, keep: ledger}
  - {table: public.fines, find: log, keep: latest, key: [place]}
`
	h.checked(log)
	s.apply("%s", log)
	h.runs("live")
	s.proved("live", "public.fines", 1)
	for _, part := range []string{"REPLICATION", "ADD UNIQUE (\"place\")", "GRANT CREATE ON DATABASE", "GRANT \"" +
		owner, "\"holds\" REPLICA IDENTITY FULL", "\"fines\" REPLICA IDENTITY FULL"} {
		h.ran(part)
	}
	require.NoError(t, s.client.RemoveFeed(t.Context(), "live"))
	require.NoError(t, s.client.RemoveFeed(t.Context(), "loans"))
}

func TestRemediesOfMariaDBRunAsTheyStand(t *testing.T) {
	s := newService(t)
	settings, admin := testkit.MariaDatabase(t)
	exec := func(sql string) {
		t.Helper()
		_, err := admin.Exec(sql)
		require.NoError(t, err, sql)
	}
	suffix := strings.ToLower(rand.Text()[:8])
	account := `'o''reader ` + suffix + `'@'127.%'`
	exec(`CREATE USER ` + account + ` IDENTIFIED BY 'spring tide'`)
	defer exec(`DROP USER ` + account)
	exec("CREATE TABLE `Old ``titles` (id int, branch int, changed timestamp(6) NULL) ENGINE = MyISAM; INSERT INTO " +
		"`Old ``titles` VALUES (1, 1, '2026-03-01 09:00:00')")
	exec(`CREATE TABLE copies (barcode char(8) PRIMARY KEY, shelf varchar(40) NOT NULL); INSERT INTO copies VALUES ` +
		`('C1', 'A'), ('C2', 'B')`)
	exec(`CREATE TABLE other (id int)`)
	settings.User, settings.Password = "o'reader "+suffix, "spring tide"
	_, err := s.client.AddConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "catalogue", Kind: "mariadb", Settings: &settings})
	require.NoError(t, err)
	s.addWarehouse("target", "duckdb")

	h := &healing{service: s, run: exec}
	_, err = s.client.TestConnection(t.Context(), client.Sources, "catalogue")
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	require.True(t, h.heal(refused.Detail, refused.Remedy), refused)
	h.ran("GRANT SELECT ON `" + settings.Database + "`.* TO " + account)
	exec("REVOKE SELECT ON `" + settings.Database + "`.* FROM " + account) // one table at a time
	exec("GRANT SELECT ON other TO " + account)
	exec("GRANT SELECT (barcode) ON copies TO " + account)

	watermark := strings.ReplaceAll("\nfeed: titles\nsource: catalogue\nwarehouse: target\ntarget: "+
		"kept.titles\ntables:\n  - {table: 'DB.Old `titles', find: watermark, watermark: {column: changed, settle: "+
		"0s}, keep: latest, key: [id]}\n", "DB", settings.Database)
	h.checked(watermark)
	s.apply("%s", watermark)
	require.Equal(t, int64(1), h.runs("titles").Books.Inserted)
	log := strings.ReplaceAll("\nfeed: live\nsource: catalogue\nwarehouse: target\ntarget: live.{table}\ntables:\n  "+
		"- {table: DB.copies, find: log, keep: history, key: [shelf]}\n  - {table: 'DB.Old `titles', find: log, "+
		"keep: latest, key: [id], target: live.titles}\n", "DB", settings.Database)
	h.checked(log)
	s.apply("%s", log)
	require.Equal(t, int64(3), h.runs("live").Books.Inserted)
	for _, part := range []string{"`Old ``titles` TO " + account, "GRANT SELECT ON `" + settings.Database +
		"`.`copies`", "GRANT PROCESS ON *.* TO " + account, "CREATE INDEX `nm_changed`", "ADD PRIMARY KEY",
		"ADD UNIQUE",
		"GRANT REPLICATION SLAVE ON *.* TO " + account, "GRANT BINLOG MONITOR ON *.* TO " + account,
		"ENGINE = InnoDB"} {
		h.ran(part)
	}
}
