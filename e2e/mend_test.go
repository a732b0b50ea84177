package e2e

import (
	"database/sql"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// reader makes a user who may do nothing yet, and a source as which it signs in.
func (s *service) reader(name string, d *database) {
	s.t.Helper()
	role := d.settings.Database + "_reader"
	d.exec(fmt.Sprintf(`CREATE ROLE %s LOGIN PASSWORD 'a reader'`, role))
	s.t.Cleanup(func() { d.exec(fmt.Sprintf(`DROP OWNED BY %s; DROP ROLE %[1]s`, role)) })
	settings := d.settings
	settings.User, settings.Password = role, "a reader"
	_, err := s.client.ChangeConnection(s.t.Context(), client.Sources,
		client.NewConnection{Name: name, Kind: "postgresql", Settings: &settings})
	require.NoError(s.t, err)
}

// What is found on a real server is mended by its remedies: they are shown, run by whoever may, and the
// file is checked again. Nothing else is run.
func TestWhatIsFoundIsMended(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT now());
		INSERT INTO loans SELECT i FROM generate_series(1, 20000) i`)
	s.reader("circulation", d)
	s.addWarehouse("target", "postgresql")
	file := filepath.Join(s.dir, "feed.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, patternFeed, "mended", "every: 1h", "public.loans", "log"),
		0o600))
	said, code := s.cli("", "feeds", "mend", file)
	require.Equal(t, 2, code, said)
	require.Contains(t, said, "nobody is there to agree", "nothing is run in silence")
	require.Contains(t, said, "at the source: ")

	// The feed's own user may not mend it; the database's owner may.
	said, code = s.cli("", "feeds", "mend", file, "--yes")
	require.Equal(t, 3, code, said)
	require.Contains(t, said, "failed ")
	t.Setenv("NOEMATA_SOURCE_PASSWORD", d.settings.Password)
	for range 3 { // what is found next may be what a missing privilege has hidden
		if said, code = s.cli("", "feeds", "mend", file, "--yes", "--source-user", d.settings.User); code == 0 {
			break
		}
	}
	require.Zero(t, code, said)
	require.NotContains(t, s.must("feeds", "check", file), "blocker")
	s.must("feeds", "apply", file)

	content, err := os.ReadFile(file)
	require.NoError(t, err)
	_, err = s.client.Mend(t.Context(), client.Mending{File: string(content), Statements: []string{"DROP TABLE loans"}})
	require.ErrorContains(t, err, "is no remedy of what is found now, and nothing was run")
	d.exec(`SELECT 1 FROM loans`)

	// A watermark without an index gets one; a note's remedy is run where notes are asked for.
	require.NoError(t, os.WriteFile(file, []byte(`feed: mended-too
source: circulation
warehouse: target
every: 1h
tables:
  - {table: public.loans, find: watermark, watermark: {column: at}, keep: soft-delete}
`), 0o600))
	said = s.must("feeds", "mend", file, "--yes", "--notes", "--source-user", d.settings.User)
	require.Contains(t, said, "CREATE INDEX CONCURRENTLY")
	said = s.must("feeds", "check", file)
	require.NotContains(t, said, "CREATE INDEX")
	require.NotContains(t, said, "pg_read_all_stats")
}

// The same at a MariaDB server, and at a warehouse that does not let its user write.
func TestWhatIsFoundIsMendedElsewhere(t *testing.T) {
	s := newService(t)
	owner, db := testkit.MariaDatabase(t)
	settings := owner
	settings.User, settings.Password = owner.Database, "a reader"
	for _, sql := range []string{"CREATE TABLE copies (id int PRIMARY KEY, at datetime(6) NOT NULL)",
		"CREATE USER '" + settings.User + "'@'127.0.0.1' IDENTIFIED BY 'a reader'",
		fmt.Sprintf("GRANT SELECT ON `%s`.* TO '%s'@'127.0.0.1'", settings.Database, settings.User)} {
		_, err := db.Exec(sql)
		require.NoError(t, err)
	}
	t.Cleanup(func() { _, _ = db.Exec("DROP USER '" + settings.User + "'@'127.0.0.1'") })
	target, conn := testkit.Database(t)
	role := target.Database + "_writer"
	testkit.Exec(t, conn, fmt.Sprintf(`CREATE ROLE %s LOGIN PASSWORD 'a writer'`, role))
	t.Cleanup(func() { testkit.Exec(t, conn, fmt.Sprintf(`DROP OWNED BY %s; DROP ROLE %[1]s`, role)) })
	writer := target
	writer.User, writer.Password = role, "a writer"
	for side, x := range map[client.Side]client.NewConnection{
		client.Sources:    {Name: "catalogue", Kind: "mariadb", Settings: &settings},
		client.Warehouses: {Name: "target", Kind: "postgresql", Settings: &writer},
	} {
		_, err := s.client.AddConnection(t.Context(), side, x)
		require.NoError(t, err)
	}
	file := filepath.Join(s.dir, "feed.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "feed: catalogue\nsource: catalogue\nwarehouse: target\n"+
		"every: 1h\ntarget: kept.{table}\ntables:\n  - {table: %s.copies, find: log, keep: latest}\n", settings.Database),
		0o600))
	said, code := s.cli("", "feeds", "check", file)
	require.Equal(t, 3, code, said)
	require.Contains(t, said, "GRANT REPLICATION SLAVE")
	t.Setenv("NOEMATA_SOURCE_PASSWORD", owner.Password)
	t.Setenv("NOEMATA_WAREHOUSE_PASSWORD", target.Password)
	for range 3 {
		if said, code = s.cli("", "feeds", "mend", file, "--yes", "--source-user", owner.User, "--warehouse-user",
			target.User); code == 0 {
			break
		}
	}
	require.Zero(t, code, said)
	s.must("feeds", "apply", file)
	_, err := db.Exec("INSERT INTO copies VALUES (1, now(6))")
	require.NoError(t, err)
	run := s.finish("catalogue")
	require.Equal(t, "done", run.State, "%+v", run.Problem)
	s.proved("catalogue", settings.Database+".copies", 1)
}

// The statements that are proposed make users who can do what their feeds need, by log and by watermark,
// and analysts who can read what comes.
func TestUsersWithJustWhatAFeedNeeds(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	target := s.addWarehouse("target", "postgresql")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, card text, at timestamptz NOT NULL DEFAULT now()); CREATE SCHEMA "the desk";
		CREATE TABLE "the desk"."its notes" (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT now());
		INSERT INTO loans VALUES (1, 'V1'); INSERT INTO "the desk"."its notes" VALUES (1); CREATE TABLE secrets (id int)`)
	conn := testkit.Connect(t, fmt.Sprintf("postgresql://%s:%s@%s:%d/%s", target.User, target.Password, target.Host,
		target.Port, target.Database))
	reader, writer, analysts := d.settings.Database+" reader", target.Database+"_writer", target.Database+"_analysts"
	testkit.Exec(t, conn, fmt.Sprintf(`CREATE ROLE %s`, analysts))
	t.Cleanup(func() {
		d.exec(fmt.Sprintf(`DROP OWNED BY "%s"; DROP ROLE "%[1]s"`, reader))
		testkit.Exec(t, conn, fmt.Sprintf(`DROP OWNED BY %s`, writer))
		testkit.Exec(t, conn, fmt.Sprintf(`DROP OWNED BY %s`, analysts))
		testkit.Exec(t, conn, fmt.Sprintf(`DROP ROLE %s, %s`, writer, analysts))
	})
	file := func(find, more string) string {
		return fmt.Sprintf("feed: least\nsource: circulation\nwarehouse: target\nevery: 1h\ntarget: kept.{table}\ntables:\n"+
			"  - {table: public.loans, find: %s, keep: history, drop: [card]%s}\n  - {table: the desk.its notes, find: %[1]s, "+
			"keep: latest%[2]s}\n", find, more)
	}
	logged := file("log", "")
	users, err := s.client.Privileges(t.Context(), client.PrivilegesAsked{File: logged, Reader: reader, Writer: writer,
		Analysts: analysts})
	require.NoError(t, err)
	for _, sql := range users.Source {
		d.exec(strings.ReplaceAll(sql, "…", "a reader"))
	}
	for _, sql := range users.Warehouse {
		testkit.Exec(t, conn, strings.ReplaceAll(sql, "…", "a writer"))
	}
	from, to := d.settings, target
	from.User, from.Password, to.User, to.Password = reader, "a reader", writer, "a writer"
	for side, x := range map[client.Side]client.NewConnection{
		client.Sources:    {Name: "circulation", Kind: "postgresql", Settings: &from},
		client.Warehouses: {Name: "target", Kind: "postgresql", Settings: &to},
	} {
		_, err := s.client.ChangeConnection(t.Context(), side, x)
		require.NoError(t, err)
	}
	s.apply("%s", logged)
	run := s.finish("least") // the publication is for the tables' owner to make
	require.Equal(t, "failed", run.State)
	publish := regexp.MustCompile(`CREATE PUBLICATION [^;]+`).FindString(run.Problem.Remedy)
	require.NotEmpty(t, publish, "%+v", run.Problem)
	d.exec(publish)
	run = s.finish("least")
	require.Equal(t, "done", run.State, "%+v", run.Problem)
	d.exec(`UPDATE loans SET at = now()`)
	require.Equal(t, "done", s.finish("least").State)
	s.proved("least", "public.loans", 1)
	s.proved("least", "the desk.its notes", 1)
	testkit.Exec(t, conn, "SET ROLE "+analysts)
	testkit.Exec(t, conn, "SELECT * FROM kept.loans")
	var fresh string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT target FROM noemata.freshness WHERE source_table = 'public.loans'").
		Scan(&fresh))
	require.Equal(t, "kept.loans", fresh)
	_, err = conn.Exec(t.Context(), "SELECT * FROM noemata.set_aside")
	require.ErrorContains(t, err, "permission denied")
	testkit.Exec(t, conn, "RESET ROLE")

	s.apply("%s", file("watermark", ", watermark: {column: at}"))
	require.Equal(t, "done", s.finish("least").State)
	said, code := s.cli(file("watermark", ", watermark: {column: at}"), "feeds", "privileges", "-")
	require.Zero(t, code, said)
	require.Contains(t, said, "GRANT pg_read_all_stats TO \"replica_reader\";")
	require.NotContains(t, said, "REPLICATION")
	require.NotContains(t, said, "secrets")
}

// The same at MariaDB and MySQL servers.
func TestUsersOfCataloguesWithJustWhatAFeedNeeds(t *testing.T) {
	for kind, database := range map[string]func(testing.TB) (client.Settings, *sql.DB){
		"mariadb": testkit.MariaDatabase, "mysql": testkit.MySQLDatabase} {
		t.Run(kind, func(t *testing.T) {
			s := newService(t)
			settings, db := database(t)
			exec := func(sql string) {
				_, err := db.Exec(sql)
				require.NoError(t, err, sql)
			}
			exec("CREATE TABLE `its copies` (id int PRIMARY KEY, at datetime(6) NOT NULL)")
			exec("CREATE TABLE secrets (id int PRIMARY KEY)")
			exec("INSERT INTO `its copies` VALUES (1, '2026-01-01')")
			_, err := s.client.AddConnection(t.Context(), client.Sources,
				client.NewConnection{Name: "catalogue", Kind: kind, Settings: &settings})
			require.NoError(t, err)
			s.addWarehouse("target", "duckdb")
			table := settings.Database + ".its copies"
			file := func(name, find string) string {
				return fmt.Sprintf("feed: %s\nsource: catalogue\nwarehouse: target\nevery: 1h\ntarget: %[1]s.{table}\ntables:\n"+
					"  - {table: %s, find: %s, keep: latest}\n", name, table, find)
			}
			files := map[string]string{"marked": file("marked", "watermark, watermark: {column: at}"),
				"logged": file("logged", "log")}
			for _, name := range slices.Sorted(maps.Keys(files)) {
				user := settings.Database + name
				users, err := s.client.Privileges(t.Context(), client.PrivilegesAsked{File: files[name], Reader: user, Writer: "w"})
				require.NoError(t, err)
				require.Empty(t, users.Warehouse, "a file has no users")
				for _, sql := range users.Source {
					exec(strings.ReplaceAll(sql, "…", "a reader"))
				}
				t.Cleanup(func() { _, _ = db.Exec("DROP USER '" + user + "'@'%'") })
				as := settings
				as.User, as.Password = user, "a reader"
				_, err = s.client.ChangeConnection(t.Context(), client.Sources,
					client.NewConnection{Name: "catalogue", Kind: kind, Settings: &as})
				require.NoError(t, err)
				s.apply("%s", files[name])
				run := s.finish(name)
				require.Equal(t, "done", run.State, "%+v", run.Problem)
				s.proved(name, table, 1)
				tables, err := s.client.SourceTables(t.Context(), "catalogue")
				require.NoError(t, err)
				require.Len(t, tables, 1, "what the feed does not need is not seen")
			}
		})
	}
}

// A feed is duplicated into another warehouse, and found by whom it is of.
func TestAFeedIsDuplicatedAndFound(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY); INSERT INTO loans VALUES (1)`)
	s.addWarehouse("target", "duckdb")
	s.addWarehouse("other", "duckdb")
	s.apply("owner: Fjóra Quillfeather\nteam: lending\nlabels: {region: north}\n"+patternFeed, "loans", "every: 1h",
		"public.loans",
		"whole")
	require.Contains(t, s.must("feeds", "duplicate", "loans", "loans-too", "--warehouse", "other"), "is like loans")
	require.Equal(t, "done", s.finish("loans-too").State)
	s.proved("loans-too", "public.loans", 1)
	said, code := s.cli("", "feeds", "duplicate", "loans", "loans-again")
	require.Equal(t, 2, code, said)
	require.Contains(t, said, "is kept by")
	list := s.must("feeds", "list", "--label", "region=north", "--warehouse", "other")
	require.Contains(t, list, "loans-too")
	require.Contains(t, list, "Fjóra Quillfeather, lending")
	require.NotContains(t, list, "loans   ")
	require.NotContains(t, s.must("feeds", "list", "--owner", "nobody"), "loans")
	said, code = s.cli("labels: {Region!: north}\n"+fmt.Sprintf(patternFeed, "x", "", "public.loans", "whole"), "feeds",
		"check", "-")
	require.Equal(t, 2, code)
	require.Contains(t, said, "cannot be the name of a label")
}

// Sources and warehouses are found by whom they are of, too; changing that leaves the rest as it is.
func TestSourcesAreFoundByWhomTheyAreOf(t *testing.T) {
	s := newService(t)
	s.addSource("circulation")
	s.addWarehouse("lake", "duckdb")
	s.must("sources", "change", "circulation", "--owner", "Tamsin Orrel", "--label", "region=north", "--label",
		"kind=live")
	s.must("warehouses", "change", "lake", "--team", "analysts")
	require.Regexp(t, `circulation .* Tamsin Orrel .* kind=live, region=north`,
		s.must("sources", "list", "--label", "region=north"))
	s.must("sources", "change", "circulation", "--team", "lending")
	require.Contains(t, s.must("sources", "show", "circulation"), "Tamsin Orrel, lending")
	require.NotContains(t, s.must("sources", "list", "--label", "region=south"), "circulation")
	require.NotContains(t, s.must("warehouses", "list", "--owner", "Tamsin Orrel"), "lake")
	require.Contains(t, s.must("warehouses", "list", "--team", "analysts", "--kind", "duckdb"), "lake")
	said, code := s.cli("", "sources", "change", "circulation", "--label", "Region!=north")
	require.Equal(t, 2, code)
	require.Contains(t, said, "cannot be the name of a label")
	require.Contains(t, s.must("sources", "show", "circulation"), "region=north")
}
