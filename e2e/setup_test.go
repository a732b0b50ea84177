package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
)

// What is proposed of a source is a file that can be applied as it is: its tables come, and what looks
// private is not seen.
func TestWhatIsProposedRuns(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("lake", "duckdb")
	d.exec(`CREATE TABLE patrons (id int PRIMARY KEY, email text, phone text, born_on date, contact text, branch text);
		INSERT INTO patrons SELECT n, 'r' || n || '@post.example', '+49 30 55500' || n, '1990-02-03', 'e' || n || '@post.example',
		'Grünau' FROM generate_series(1, 40) n;
		CREATE TABLE desk_notes (branch text, note text); INSERT INTO desk_notes VALUES ('Grünau', 'a');
		CREATE TABLE visits (id int PRIMARY KEY); CREATE VIEW busy AS SELECT branch, count(*) AS n FROM patrons GROUP BY 1;
		CREATE SCHEMA "Odd, one"; CREATE TABLE "Odd, one"."t.x" (id int PRIMARY KEY, "e mail" text)`)
	propose := func(args ...string) (string, int) {
		return s.cli("", append([]string{"feeds", "propose", "circulation", "lake"}, args...)...)
	}
	said := s.must("feeds", "propose", "circulation", "lake", "--tables", "public.*", "--except", "public.visits",
		"--tables",
		`"Odd, one"."t.x"`, "--tables", "public.busy")
	f, err := feed.ParseFile([]byte(said))
	require.NoError(t, err, said)
	require.Equal(t, "circulation-lake", f.Name)
	found := map[string]feed.Find{}
	for _, table := range f.Tables {
		found[table.Table] = table.Find
	}
	require.Equal(t, map[string]feed.Find{"public.patrons": "log", "public.desk_notes": "whole", "public.busy": "whole",
		`Odd, one."t.x"`: "log"}, found, said)
	require.Contains(t, said, "  # It has no key that tells its rows apart. Each run reads it whole.\n  - table: public.desk_notes")
	require.Contains(t, said, "# looks like an e-mail address\n      contact:\n        hash: people")

	file := filepath.Join(s.dir, "proposed.yaml")
	require.NoError(t, os.WriteFile(file, []byte(said), 0o600))
	checked := s.must("feeds", "check", file)
	require.NotContains(t, checked, "blocker", checked)
	s.must("feeds", "apply", file)
	require.Equal(t, "done", s.finish("circulation-lake").State)
	s.proved("circulation-lake", "public.patrons", 40)
	s.proved("circulation-lake", "public.desk_notes", 1)
	s.proved("circulation-lake", "public.busy", 1)
	s.nowhere("@post.example", "55500")

	said, code := propose("--tables", "public.*", "--name", "other")
	require.Zero(t, code, said)
	require.Contains(t, said, "by their names only: not public.busy.")
	require.Contains(t, s.must("feeds", "propose", "circulation", "lake", "--tables", "public.patrons"),
		"feed: circulation-lake-2\n")
	said, code = propose("--tables", "public.*", "--name", "circulation-lake")
	require.Zero(t, code, said)
	require.Contains(t, said, "There is a feed circulation-lake already")
	for _, x := range []struct{ pattern, says string }{{"nowhere.*", "has no table that is called nowhere.*"},
		{"public", "write it as schema.table"}, {`"public.x`, "quote is not closed"}, {"", "not a table name"},
		{"public.nothing", "does not exist"}} {
		said, code = propose("--tables", x.pattern)
		require.NotZero(t, code, said)
		require.Contains(t, said, x.says)
	}
	said, code = propose()
	require.NotZero(t, code)
	require.Contains(t, said, "--tables 'public.*'")
}

// A feed's file is kept from one change to the next, with who has changed it, and can be had back.
func TestAFeedIsSetBackToAnEarlierRevision(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("lake", "duckdb")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, branch text, note text); INSERT INTO loans VALUES (1, 'Grünau', 'a')`)
	file := func(more string) string {
		return "feed: loans\nsource: circulation\nwarehouse: lake\nevery: 1h\ntables:\n  - table: public.loans\n    find: whole\n" +
			"    keep: latest\n" + more
	}
	apply := func(more string) {
		said, code := s.cli(file(more), "feeds", "apply", "-")
		require.Zero(t, code, said)
	}
	apply("")
	said, code := s.cli("", "feeds", "revert", "loans")
	require.NotZero(t, code)
	require.Contains(t, said, "as it was when it was made")
	apply("    drop: [note]\n")
	apply("    drop: [note]\n")
	apply("    drop: [note, branch]\n")

	said = s.must("feeds", "revisions", "loans")
	require.Regexp(t, `(?s)3 .*first administrator.*tables\[public.loans\].drop.*note.*note, branch.*2 .*1 .*the first that is kept`, said)
	require.NotRegexp(t, `(?m)^ +4 `, said)
	said = s.must("feeds", "revert", "loans", "--dry-run")
	require.Contains(t, said, "Nothing was changed. To do it: noemata feeds revert loans 2")
	require.Regexp(t, `drop   note, branch   note`, said)
	require.Contains(t, s.must("feeds", "export", "loans"), "drop: [note, branch]")
	require.Contains(t, s.must("feeds", "export", "loans", "--revision", "2"), "drop: [note]")
	require.Contains(t, s.must("feeds", "revert", "loans"), "as it was in revision 2.")
	require.Contains(t, s.must("feeds", "export", "loans"), "drop: [note]")
	s.must("feeds", "revert", "loans", "1")
	require.Equal(t, s.must("feeds", "export", "loans", "--revision", "1"), s.must("feeds", "export", "loans"))
	require.NotContains(t, s.must("feeds", "export", "loans"), "drop")
	for _, wrong := range []string{"9", "0", "x"} {
		said, code := s.cli("", "feeds", "revert", "loans", wrong)
		require.NotZero(t, code)
		require.Contains(t, said, "noemata feeds revisions loans")
	}
}

// What is there is completed where a command takes its name, and settings are tried without being kept.
func TestNamesAreCompleted(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("lake", "duckdb")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY); CREATE TABLE holds (id int PRIMARY KEY)`)
	s.apply("feed: loans\nsource: circulation\nwarehouse: lake\nevery: 1h\ntables:\n  - table: public.loans\n    find: whole\n" +
		"    keep: latest\n")
	s.finish("loans")
	for asked, want := range map[string][]string{
		"feeds show":                              {"loans\tcirculation to lake, paused"},
		"sources show":                            {"circulation\tpostgresql at "},
		"warehouses test":                         {"lake\tduckdb at "},
		"sources tables circulation":              {"public.loans\ttable", "public.holds\ttable"},
		"prove loans":                             {"public.loans\twhole, latest"},
		"feeds copy loans --table":                {"public.loans\twhole, latest"},
		"feeds propose circulation":               {"lake\tduckdb at "},
		"feeds propose circulation lake --tables": {"public.*\tall tables of public", "public.holds\ttable"},
		"feeds revert loans":                      {"1\tapplied "},
		"runs show":                               {"1\tloans, done"},
		"runs list --feed":                        {"loans\t"},
		"words":                                   {"watermark", "set aside"},
		"feeds apply":                             {"yaml", "yml"},
		"feeds show nothing more":                 nil,
		"prove nowhere":                           nil,
	} {
		said := s.must(append(append([]string{"__complete"}, strings.Fields(asked)...), "")...)
		for _, line := range want {
			require.Contains(t, said, line, asked)
		}
		if want == nil {
			require.Contains(t, said, ":4\n", asked)
			require.Equal(t, 2, strings.Count(said, "\n"), said)
		}
	}
	address, token := s.address, s.token
	s.token = "noe_wrong"
	require.NotContains(t, s.must("__complete", "feeds", "show", ""), "loans", "who is not signed in learns nothing")
	s.address, s.token = address, token

	said := s.must("warehouses", "try", "--path", "other.duckdb")
	require.Contains(t, said, "Nothing was kept.")
	require.NotContains(t, s.must("warehouses", "list"), "other.duckdb")
	said, code := s.cli("", "sources", "try", "--url", "postgresql://nobody:x@127.0.0.1:1/none")
	require.NotZero(t, code)
	require.Contains(t, said, "127.0.0.1:1")
}

// Who has a source and a warehouse comes to a feed in the console by what is proposed, and sees why.
func TestAFeedIsProposedInTheConsole(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	b := newBrowser(t, s)
	b.signIn(s, "/sign-in")
	b.sees("No feed yet")
	b.click("Apply a feed file")
	b.sees("add a source and a warehouse first")
	s.addWarehouse("lake", "duckdb")
	d.exec(`CREATE TABLE patrons (id int PRIMARY KEY, email text, branch text);
		INSERT INTO patrons SELECT n, 'r' || n || '@post.example', 'Grünau' FROM generate_series(1, 25) n`)
	b.open("/")
	b.click("Apply a feed file")
	b.do(chromedp.WaitVisible(chromedp.Search(`//form//button[contains(., "Propose")]`)))
	b.do(chromedp.Click(chromedp.Search(`//form//button[contains(., "Propose")]`)))
	b.sees("public.patrons", "log, latest", "The log tells of its inserts, updates and deletes",
		"like an e-mail address: hash: people")
	b.do(chromedp.Click(chromedp.Search(`//footer//button[contains(., "Apply")]`)))
	b.sees("The feed circulation-lake is as the file has it.", "Start it on its page.")
	require.Equal(t, "done", s.finish("circulation-lake").State)
	s.proved("circulation-lake", "public.patrons", 25)
	s.nowhere("@post.example")
}
