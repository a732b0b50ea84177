package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/client"
)

// Someone new goes the whole way with the command line alone.
func TestTheWholeWayByCommandLine(t *testing.T) {
	s := newService(t)
	d := s.addSource("elsewhere")
	d.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz NOT NULL DEFAULT now() - interval '1 hour')`)
	d.exec(`INSERT INTO patrons SELECT i, 'Ægir ' || i FROM generate_series(1, 250) i; CREATE INDEX ON patrons (updated_at, id)`)
	profile := filepath.Join(s.dir, "config", "noemata", "profile.yaml")

	require.Contains(t, s.must("sign-in", "--address", s.address, "--token", s.token), "Signed in to Noemata")
	info, err := os.Stat(profile)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	out, code := s.cli(d.settings.Password, "sources", "add", "circulation", "--host", "127.0.0.1", "--port", port(d.settings.Port), "--database", d.settings.Database, "--user", d.settings.User, "--password-stdin")
	require.Zero(t, code, out)
	require.Contains(t, out, "is kept and fine: PostgreSQL 1")
	require.Contains(t, s.must("sources", "tables", "circulation"), "public.patrons")
	require.Contains(t, s.must("sources", "tables", "circulation", "public.patrons"), "timestamp with time zone")
	require.Contains(t, s.must("warehouses", "add", "lake", "--path", filepath.Join(s.dir, "lake.duckdb")), "DuckDB v1")
	for _, args := range [][]string{{"sources", "list"}, {"sources", "show", "circulation"}, {"sources", "show", "circulation", "-o", "json"}} {
		require.NotContains(t, s.must(args...), d.settings.Password)
	}

	file := filepath.Join(s.dir, "patrons.yaml")
	content := "feed: patrons\nsource: circulation\nwarehouse: lake\ntarget: copy.{table}\ntables:\n  - table: public.patrons\n    find: watermark\n    watermark: {column: updated_at}\n    keep: latest\n"
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	require.Contains(t, s.must("feeds", "check", file), "The feed patrons would be new.")
	require.Contains(t, s.must("feeds", "apply", file), "Start it with noemata feeds start patrons")
	require.Contains(t, s.must("feeds", "apply", file), "nothing changed")
	require.Contains(t, s.must("runs", "start", "patrons"), "250")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(content, "feed: patrons", "feed: patrons\nevery: 1h", 1)), 0o600))
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
	require.Contains(t, s.must("positions", "set", "patrons", "public.patrons", "2026-01-01"), "2026-01-01T00:00:00.000000Z")
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
		2: {{"feeds", "show"}, {"feeds", "frobnicate"}, {"about", "--output", "xml"}, {"feeds", "apply", "/nowhere.yaml"}, {"about", "--no-such-flag"}, {"runs", "show", "x"}},
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
