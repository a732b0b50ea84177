package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/client"
)

// Someone new goes the whole way with the command line alone.
func TestTheWholeWayByCommandLine(t *testing.T) {
	s := newService(t)
	d := s.addSource("elsewhere")
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz NOT NULL DEFAULT now() - ` +
		`interval '1 hour')`)
	d.exec(`INSERT INTO patrons SELECT i, 'Ægir ' || i FROM generate_series(1, 250) i; CREATE INDEX ON patrons ` +
		`(updated_at, id)`)
	profile := filepath.Join(s.dir, "config", "noemata", "profile.yaml")

	require.Contains(t, s.must("sign-in", "--address", s.address, "--token", s.token), "Signed in to Noemata")
	info, err := os.Stat(profile)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	out, code := s.cli(d.settings.Password, "sources", "add", "circulation", "--host", "127.0.0.1", "--port",
		port(d.settings.Port), "--database", d.settings.Database, "--user", d.settings.User, "--password-stdin")
	require.Zero(t, code, out)
	require.Contains(t, out, "is kept and fine: PostgreSQL 1")
	require.Contains(t, s.must("sources", "tables", "circulation"), "public.patrons")
	require.Contains(t, s.must("sources", "tables", "circulation", "public.patrons"), "timestamp with time zone")
	require.Contains(t, s.must("warehouses", "add", "lake", "--path", filepath.Join(s.dir, "lake.duckdb")), "DuckDB v1")
	for _, args := range [][]string{{"sources", "list"}, {"sources", "show", "circulation"},
		{"sources", "show", "circulation", "-o", "json"}} {
		require.NotContains(t, s.must(args...), d.settings.Password)
	}

	file := filepath.Join(s.dir, "patrons.yaml")
	content := "feed: patrons\nsource: circulation\nwarehouse: lake\ntarget: copy.{table}\ntables:\n  - table: " +
		"public.patrons\n    find: watermark\n    watermark: {column: updated_at}\n    keep: latest\n"
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	require.Contains(t, s.must("feeds", "check", file), "The feed patrons would be new.")
	require.Contains(t, s.must("feeds", "apply", file), "Start it with noemata feeds start patrons")
	require.Contains(t, s.must("feeds", "apply", file), "nothing changed")
	require.Contains(t, s.must("runs", "start", "patrons"), "250")
	require.NoError(t, os.WriteFile(file,
		[]byte(strings.Replace(content, "feed: patrons", "feed: patrons\nevery: 1h", 1)), 0o600))
	out, code = s.cli("", "feeds", "diff", file)
	require.Equal(t, 3, code)
	require.Contains(t, out, "every")
	require.Contains(t, s.must("feeds", "apply", file), "is changed")
	exported := s.must("feeds", "export", "patrons")
	out, code = s.cli(exported, "feeds", "diff", "-")
	require.Zero(t, code, out)
	require.Contains(t, s.must("feeds", "start", "patrons"), "active")
	require.Contains(t, s.must("feeds", "pause", "patrons"), "paused")
	require.Contains(t, s.must("feeds", "list"), "every 1h")
	require.Contains(t, s.must("feeds", "show", "patrons"), "public.patrons")
	require.Contains(t, s.must("prove", "patrons"), "equal")
	require.Contains(t, s.must("sample", "patrons", "public.patrons"), "Ægir")

	require.Contains(t, s.must("positions", "list", "patrons"), "run 1")
	require.Contains(t, s.must("positions", "set", "patrons", "public.patrons", "2026-01-01"),
		"2026-01-01T00:00:00.000000Z")
	require.Contains(t, s.must("positions", "list", "patrons"), "a person")
	out, code = s.cli("", "positions", "set", "patrons", "public.patrons", "soon")
	require.Equal(t, 2, code)
	require.Contains(t, out, `"soon" is not a time`)
	require.Contains(t, s.must("positions", "clear", "patrons", "public.patrons"), "cleared")
	var run client.Run
	require.NoError(t, json.Unmarshal([]byte(s.must("runs", "start", "patrons", "-o", "json")), &run))
	require.Equal(t, client.Books{Read: 250, Unchanged: 250}, run.Books)
	shown := s.must("runs", "show", "1", "--statements")
	require.Contains(t, shown, "COPY (SELECT")
	require.Contains(t, shown, "COMMIT")
	require.Contains(t, s.must("runs", "list"), "unchanged")

	require.Contains(t, s.must("tokens", "add", "a colleague"), "noe_")
	require.Contains(t, s.must("tokens", "list"), "a colleague")
	require.Contains(t, s.must("tokens", "remove", "2"), "removed")
	out, code = s.cli("", "sources", "remove", "circulation")
	require.Equal(t, 1, code)
	require.Contains(t, out, "is used by feeds")
	require.Contains(t, s.must("feeds", "remove", "patrons"), "removed")
	require.Contains(t, s.must("sources", "remove", "circulation"), "removed")
	require.Contains(t, s.must("completion", "bash"), "noemata")
}

// Exit codes are for scripts: 1 failed, 2 wrong use, 3 the answer is no, 4 no service.
func TestExitCodes(t *testing.T) {
	s := newService(t)
	for want, commands := range map[int][][]string{
		1: {{"feeds", "show", "nothing"}},
		2: {{"feeds", "show"}, {"feeds", "frobnicate"}, {"about", "--output", "xml"},
			{"feeds", "apply", "/nowhere.yaml"}, {"about", "--no-such-flag"}, {"runs", "show", "x"}},
		4: {{"about", "--token", "noe_wrong"}, {"about", "--address", "http://127.0.0.1:1"}},
	} {
		for _, args := range commands {
			out, code := s.cli("", args...)
			require.Equal(t, want, code, "%v: %s", args, out)
			require.Contains(t, out, "Error: ", "%v", args)
		}
	}
}

func port(n int) string {
	b, _ := json.Marshal(n) // a number
	return string(b)
}

var listed = regexp.MustCompile(`(?m)^  ([a-z-]+) {2,}(\S.*)$`)

// commands walks the command line's own help, from a command downwards.
func commands(s *service, path ...string) (all [][]string) {
	help := s.must(append(slices.Clone(path), "--help")...)
	_, list, found := strings.Cut(help, "Available Commands:")
	if !found {
		return [][]string{path}
	}
	list, _, _ = strings.Cut(list, "Flags:")
	for _, m := range listed.FindAllStringSubmatch(list, -1) {
		if len(path) > 0 || m[1] != "completion" && m[1] != "help" {
			require.NotRegexp(s.t, `\.$`, m[2], "%v %s", path, m[1])
			all = append(all, commands(s, append(slices.Clone(path), m[1])...)...)
		}
	}
	return all
}

// Every command explains itself, stands in the reference, tells wrong use from failure, and
// says so when no service answers.
func TestEveryCommandExplainsItself(t *testing.T) {
	t.Parallel() // beside others that wait
	s := newService(t)
	reference, err := os.ReadFile("../docs/command-line.md")
	require.NoError(t, err)
	list := commands(s)
	require.Greater(t, len(list), 30)
	for _, path := range list {
		what := strings.Join(path, " ")
		require.Regexp(t, "(?m)^\\|.*`"+path[0]+"\\b.*\\b"+path[len(path)-1]+"\\b|^\\|.*`"+what+"\\b",
			string(reference), "docs/command-line.md")
		help := s.must(append(slices.Clone(path), "--help")...)
		use := regexp.MustCompile(`noemata ` + what + `(.*)`).FindStringSubmatch(help)[1]
		out, code := s.cli("", append(slices.Clone(path), "--no-such-flag")...)
		require.Equal(t, 2, code, what)
		require.Contains(t, out, "Error: ", what)
		if strings.Contains(help, "...") || path[0] == "serve" || path[0] == "demo" || path[0] == "openapi" {
			continue
		}
		args := []string{}
		for _, word := range regexp.MustCompile(`[A-Z]{2,}`).FindAllString(strings.ReplaceAll(use, "[flags]", ""), -1) {
			args = append(args, map[string]string{"FILE": "../demo/feeds/catalogue-live.yaml", "RUN": "1",
				"ID": "1"}[word])
			if args[len(args)-1] == "" {
				args[len(args)-1] = "nothing"
			}
		}
		out, code = s.cli("", append(append(slices.Clone(path), args...), "x1", "x2", "x3", "x4", "x5", "x6")...)
		require.Equal(t, 2, code, "%s with too many words: %s", what, out)
		if len(args) > 0 && !strings.Contains(use, "["+strings.ToUpper(path[len(path)-1])) &&
			!strings.Contains(strings.ReplaceAll(use, "[flags]", ""), "[") {
			out, code = s.cli("", path...)
			require.Equal(t, 2, code, "%s with too few words: %s", what, out)
		}
		if what == "feeds schema" || what == "sign-in" {
			continue
		}
		c := exec.Command(program, append(append(slices.Clone(path), args...), "--address", "http://127.0.0.1:1")...)
		c.Env = append(os.Environ(), "NOEMATA_TOKEN=noe_x", "XDG_CONFIG_HOME="+s.dir)
		said, _ := c.CombinedOutput()
		require.Contains(t, []int{2, 4}, c.ProcessState.ExitCode(), "%s %v: %s", what, args, said)
		if c.ProcessState.ExitCode() == 4 {
			require.Contains(t, string(said), "127.0.0.1:1", what)
		}
	}
}
