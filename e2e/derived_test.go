package e2e

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

const reading = `derived: reading
warehouse: lake
labels: {region: north}
tables:
  - table: reading.busy
    sql: SELECT branch, sum(loans) AS loans FROM reading.by_title GROUP BY branch
  - table: reading.by_title
    sql_file: sql/by_title.sql
    as: merge
    key: [branch, title]
    checks:
      - unique: [title]
        failing: tell
      - none: SELECT * FROM reading.by_title WHERE loans > 100
  - table: reading.fees
    sql: SELECT id, amount FROM pay.fines
    as: view
`

// derived waits until tables of a set are in a state, and gives the set.
func (s *service) derived(set, state string, tables ...string) (d client.DerivedSet) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		var err error
		d, err = s.client.DerivedSet(s.t.Context(), set)
		if err != nil {
			return false
		}
		left := len(tables)
		for _, t := range d.Tables {
			for _, wanted := range tables {
				if t.Table == wanted && t.State == state && t.Why == "" {
					left--
				}
			}
		}
		return left == 0
	}, 30*time.Second, 50*time.Millisecond, "%+v", &d)
	return d
}

// asks gives the rows of an answer, each as a text.
func (s *service) asks(sql string) (rows []string) {
	s.t.Helper()
	x, err := s.client.Ask(s.t.Context(), "lake", client.Ask{SQL: sql})
	require.NoError(s.t, err)
	for _, row := range x.Rows {
		var cells []string
		for _, v := range row {
			if v == nil {
				cells = append(cells, "~")
			} else {
				cells = append(cells, *v)
			}
		}
		rows = append(rows, strings.Join(cells, " "))
	}
	return rows
}

// A file of derived tables is applied before its inputs are there, the tables follow what they read in their order, a check
// keeps one as it was and is an alert, and all of it is seen, exported, stopped and removed.
// Longer than a screen: it is one story of one service.
func TestDerivedTables(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	a.source.exec("CREATE TABLE branches (title text PRIMARY KEY, branch text); INSERT INTO branches VALUES ('Low Tide', 'north'), " +
		"('The Weir', 'south')")
	folder := testkit.Dir(t)
	file := filepath.Join(folder, "reading.yaml")
	require.NoError(t, os.Mkdir(filepath.Join(folder, "sql"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "sql", "by_title.sql"), []byte("SELECT b.branch, l.title, count(*) AS "+
		"loans\nFROM kept.loans AS l\nJOIN kept.branches AS b USING (title) GROUP BY ALL\n"), 0o600))
	require.NoError(t, os.WriteFile(file, []byte(reading), 0o600))
	out, code := a.cli("", "derived", "diff", file)
	require.Equal(t, 3, code)
	require.Contains(t, out, "would be new")
	out = a.must("derived", "apply", file)
	require.Contains(t, out, "kept.branches, which is not there yet")
	require.Contains(t, out, "reading.by_title, reading.busy, reading.fees")
	a.derived("reading", "made", "reading.fees")
	a.apply("feed: branches\nsource: circulation\nwarehouse: lake\ntarget: kept.{table}\ntables:\n  - {table: public.branches, " +
		"find: whole, keep: latest}\n")
	require.Equal(t, "done", a.finish("branches").State)
	d := a.derived("reading", "made", "reading.busy", "reading.by_title")
	require.Equal(t, []string{"kept.branches", "kept.loans"}, d.Tables[1].Reads)
	require.Equal(t, []string{"north 1", "south 1"}, a.asks("SELECT * FROM reading.busy ORDER BY 1"))

	// What changed reaches only those that read it.
	before, err := a.client.Derivations(t.Context(), "reading", "", 100)
	require.NoError(t, err)
	a.source.exec("INSERT INTO loans (id, title) VALUES (3, 'Low Tide')")
	require.Equal(t, "done", a.finish("desk").State)
	require.Eventually(t, func() bool {
		x, err := a.client.Ask(context.Background(), "lake", client.Ask{SQL: "FROM reading.busy WHERE loans = 2"})
		return err == nil && len(x.Rows) == 1
	}, 20*time.Second, 50*time.Millisecond)
	after, err := a.client.Derivations(t.Context(), "reading", "", 100)
	require.NoError(t, err)
	require.Len(t, after, len(before)+2)
	require.Equal(t, []string{"reading.busy", "reading.by_title"}, []string{after[0].Table, after[1].Table})
	require.Equal(t, []int64{0, 1, 0}, []int64{after[1].Inserted, after[1].Updated, after[1].Deleted})
	require.Equal(t, "kept.loans changed", after[1].Why)
	out = a.must("derived", "makings", "reading", "reading.by_title")
	require.Contains(t, out, "kept.loans changed")
	shown, err := a.client.Derivation(t.Context(), after[1].ID)
	require.NoError(t, err)
	require.NotEmpty(t, shown.Statements)

	// A check keeps the table as it was, and those that read it; somebody is told, until it is mended.
	h := newHook(t, "spring tide")
	_, err = a.client.AddChannel(t.Context(), client.Channel{Name: "desk", Way: "webhook", URL: h.URL, Kinds: []string{"derived"},
		Label: "region=north", Secret: "spring tide"})
	require.NoError(t, err)
	a.source.exec("INSERT INTO loans (id, title) SELECT i, 'The Weir' FROM generate_series(1000, 1200) i")
	require.Equal(t, "done", a.finish("desk").State)
	require.Eventually(t, func() bool {
		d, err = a.client.DerivedSet(t.Context(), "reading")
		return err == nil && d.Tables[1].State == "kept"
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, []string{"north 2", "south 1"}, a.asks("SELECT * FROM reading.busy ORDER BY 1"))
	out = a.must("derived", "show", "reading")
	require.Contains(t, out, "finds nothing: SELECT * FROM reading.by_title WHERE loans > 100 (1 finding)")
	told := h.took(t, func(m message) bool { return m.Kind == "derived" && !m.Over })
	require.Equal(t, "reading/reading.by_title", told.Alerts[0].About)
	_, code = a.cli("", "derived", "make", "reading", "reading.by_title")
	require.Equal(t, 3, code)
	a.source.exec("DELETE FROM loans WHERE id >= 1000")
	require.Equal(t, "done", a.finish("desk").State)
	a.derived("reading", "made", "reading.busy", "reading.by_title")

	// The file that is exported is the set that is there.
	exported := a.must("derived", "export", "reading")
	out, code = a.cli(exported, "derived", "diff", "-")
	require.Zero(t, code, out)
	require.Contains(t, out, "are as the file has them")
	out = a.must("derived", "list")
	require.Contains(t, out, "lake")
	require.Contains(t, a.must("--output", "json", "derived", "make", "reading", "reading.fees"), `"state": "done"`)

	// A pause keeps tables from being made but by hand; what the set leaves stays until it is dropped.
	a.must("derived", "pause", "reading")
	a.source.exec("DELETE FROM loans WHERE id = 3")
	require.Equal(t, "done", a.finish("desk").State)
	require.Eventually(t, func() bool {
		d, err = a.client.DerivedSet(t.Context(), "reading")
		return err == nil && d.Tables[1].Why == "kept.loans changed"
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, []string{"north 2", "south 1"}, a.asks("SELECT * FROM reading.busy ORDER BY 1"))
	a.must("derived", "make", "reading", "reading.by_title", "reading.busy")
	require.Equal(t, []string{"north 1", "south 1"}, a.asks("SELECT * FROM reading.busy ORDER BY 1"))
	out, code = a.cli(strings.Replace(exported, "  - table: reading.busy\n    sql: SELECT branch, sum(loans) AS loans FROM "+
		"reading.by_title GROUP BY branch\n", "", 1), "derived", "apply", "-")
	require.Zero(t, code, out)
	require.Contains(t, out, "The file has it no more")
	out, code = a.cli("", "derived", "drop", "lake", "reading.by_title")
	require.Equal(t, 1, code)
	require.Contains(t, out, "is of the derived tables reading")
	a.must("derived", "drop", "lake", "reading.busy")
	a.must("derived", "remove", "reading", "--drop")
	require.Empty(t, a.asks("SELECT table_name FROM information_schema.tables WHERE table_schema = 'reading'"))
	_, code = a.cli("", "derived", "show", "reading")
	require.Equal(t, 1, code)
}

// What a file of derived tables must not say is refused, with its reason and place, and nothing is kept of it.
// Longer than a screen: it is a list.
func TestDerivedTablesThatAreRefused(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	one := func(name, sql string) string {
		return "derived: odd\nwarehouse: lake\ntables:\n  - table: " + name + "\n    sql: |\n      " +
			strings.ReplaceAll(sql, "\n", "\n      ") + "\n"
	}
	for file, said := range map[string]string{
		one("kept.loans", "SELECT 1 AS one"):                                                            "is kept by the feed desk already",
		one("reading.t", "SELECT id\nFROM kept.loans\nWHERE nobody"):                                    "Line 3, column 7",
		one("reading.t", "SELECT id,, id FROM kept.loans"):                                              "Line 1, column 11: syntax error",
		one("reading.t", "DELETE FROM kept.loans"):                                                      "Only questions are answered",
		one("reading.t", "SELECT * FROM noemata.positions"):                                             "may not ask the schema noemata",
		one("reading.t", "SELECT * FROM read_csv('/etc/passwd')"):                                       "cannot be asked",
		one("reading.t", "SELECT * FROM reading.t"):                                                     "read each other in a circle: reading.t reads reading.t",
		one("reading.a", "FROM reading.b") + "  - {table: reading.b, sql: FROM reading.a}\n":            "reading.a reads reading.b reads reading.a",
		strings.Replace(one("reading.t", "SELECT 1 AS one"), "lake", "nowhere", 1):                      `no warehouse "nowhere"`,
		one("reading.t", "SELECT 1 AS one") + "  - {table: READING.T, sql: SELECT 1 AS one}\n":          "does not tell from that",
		one("reading.t", "SELECT no FROM kept.loans") + "  - {table: reading.u, sql: FROM reading.t}\n": "reading.t: Line 1",
		one("noemata.t", "SELECT 1 AS one"):                                                             "Noemata's own",
		one("reading.t", "SELECT 1 AS one") + "    as: merge\n":                                         "needs a key",
		one("reading.t", "SELECT 1 AS one") + "    as: merge\n    key: [two]\n":                         "a column that it does not have",
	} {
		_, err := a.client.DerivedFile(t.Context(), file, nil, client.Apply)
		require.Error(t, err, file)
		require.Contains(t, err.Error(), said)
	}
	sets, err := a.client.DerivedSets(t.Context())
	require.NoError(t, err)
	require.Empty(t, sets)

	// Who may not ask what a table reads, or the table itself, makes none of it.
	token, err := a.client.AddToken(t.Context(), client.NewToken{Name: "maker", Role: "operate", Asks: []string{"lake.kept",
		"lake.reading"}})
	require.NoError(t, err)
	maker := client.New(a.address, token.Secret)
	for file, allowed := range map[string]bool{
		one("reading.fines", "SELECT * FROM pay.fines"):  false,
		one("pay.loans", "SELECT * FROM kept.loans"):     false,
		one("reading.loans", "SELECT * FROM kept.loans"): true,
	} {
		_, err := maker.DerivedFile(t.Context(), file, nil, client.Apply)
		if allowed {
			require.NoError(t, err)
			continue
		}
		var refused *client.Error
		require.True(t, errors.As(err, &refused), "%v", err)
		require.Equal(t, "no-privilege", refused.Code)
	}
	_, err = a.client.FeedFile(t.Context(), "feed: clash\nsource: circulation\nwarehouse: lake\ntarget: reading.{table}\ntables:\n"+
		"  - {table: public.loans, find: whole, keep: latest}\n", client.Apply)
	require.ErrorContains(t, err, "is kept by the derived tables odd already")
	changes, err := a.client.Changes(t.Context(), client.ChangeFilter{About: "derived odd"})
	require.NoError(t, err)
	require.NotEmpty(t, changes)
	require.Equal(t, "maker", changes[0].By)

	// What rows hold is not told to those who only look.
	_, err = a.client.DerivedFile(t.Context(), strings.Replace(one("reading.cast", "SELECT CAST(title AS INTEGER) AS n FROM "+
		"kept.loans"), "derived: odd", "derived: cast", 1), nil, client.Apply)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		d, err := a.client.DerivedSet(t.Context(), "cast")
		return err == nil && d.Tables[0].Problem != nil && strings.Contains(d.Tables[0].Problem.What, "A value cannot be converted to another type.")
	}, 20*time.Second, 50*time.Millisecond)
	made, err := a.client.Derivations(t.Context(), "cast", "", 1)
	require.NoError(t, err)
	shown, err := a.client.Derivation(t.Context(), made[0].ID)
	require.NoError(t, err)
	require.NotContains(t, fmt.Sprint(shown), "Low Tide")

	// One that takes too long is stopped, by its own bound or by a person.
	slow := strings.Replace(one("reading.slow", "SELECT count(*) AS n FROM range(100000000) a, range(100000000) b"), "derived: odd",
		"derived: slow", 1)
	_, err = a.client.DerivedFile(t.Context(), slow+"    within: 1s\n", nil, client.Apply)
	require.NoError(t, err)
	d := a.derived("slow", "failed")
	require.Eventually(t, func() bool {
		d, err = a.client.DerivedSet(t.Context(), "slow")
		return err == nil && d.Tables[0].Problem != nil
	}, 20*time.Second, 50*time.Millisecond)
	require.Contains(t, d.Tables[0].Problem.What, "longer than 1s")
	_, err = a.client.DerivedFile(t.Context(), slow, nil, client.Apply)
	require.NoError(t, err)
	var making []client.Derivation
	require.Eventually(t, func() bool {
		making, err = a.client.Derivations(t.Context(), "slow", "", 1)
		return err == nil && making[0].EndedAt == nil
	}, 20*time.Second, 50*time.Millisecond)
	a.must("derived", "stop", fmt.Sprint(making[0].ID))
	require.Eventually(t, func() bool {
		making, err = a.client.Derivations(t.Context(), "slow", "", 1)
		return err == nil && making[0].State == "stopped"
	}, 20*time.Second, 50*time.Millisecond)
}

// A hundred derived tables over twenty replicated ones: a change of one of these has only those made that depend on it,
// and however often the service is killed meanwhile, they end as their SQL has them.
// Longer than a screen: it is one story of one service.
func TestManyDerivedTables(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	const sources, tables = 20, 100
	feed := "feed: many\nsource: circulation\nwarehouse: lake\ntarget: many.{table}\nevery: 1s\ntables:\n"
	for i := range sources {
		a.source.exec(fmt.Sprintf("CREATE TABLE s%02d (id int PRIMARY KEY, n int); INSERT INTO s%02[1]d SELECT i, i %% 7 FROM "+
			"generate_series(1, 50) i", i))
		feed += fmt.Sprintf("  - {table: public.s%02d, find: whole, keep: latest}\n", i)
	}
	a.apply("%s", feed)
	require.Equal(t, "done", a.finish("many").State)
	r := rand.New(rand.NewPCG(7, 0))
	file := "derived: many\nwarehouse: lake\ntables:\n"
	reaches := map[string]map[int]bool{} // by derived table: the replicated ones that it depends on
	sql := map[string]string{}
	for i := range tables {
		name := fmt.Sprintf("made.t%02d", i)
		reaches[name] = map[int]bool{}
		from := func() string {
			if i > 0 && r.IntN(2) == 0 {
				of := fmt.Sprintf("made.t%02d", r.IntN(i))
				for s := range reaches[of] {
					reaches[name][s] = true
				}
				return of
			}
			s := r.IntN(sources)
			reaches[name][s] = true
			return fmt.Sprintf("many.s%02d", s)
		}
		as := []string{"table", "view", "merge, key: [id]"}[r.IntN(3)]
		sql[name] = fmt.Sprintf("SELECT a.id, a.n + b.n AS n FROM %s AS a JOIN %s AS b USING (id)", from(), from())
		file += fmt.Sprintf("  - {table: %s, sql: '%s', as: %s}\n", name, sql[name], as)
	}
	_, err := a.client.DerivedFile(t.Context(), file, nil, client.Apply)
	require.NoError(t, err)
	// settled waits until each table has what its SQL gives, and is said to have it.
	settled := func() {
		t.Helper()
		for name, q := range sql {
			require.Eventually(t, func() bool {
				x, err := a.client.Ask(context.Background(), "lake", client.Ask{SQL: fmt.Sprintf(
					"(TABLE %s EXCEPT ALL (%s)) UNION ALL ((%[2]s) EXCEPT ALL TABLE %[1]s)", name, q)})
				return err == nil && len(x.Rows) == 0
			}, time.Minute, 200*time.Millisecond, name)
		}
		require.Eventually(t, func() bool {
			d, err := a.client.DerivedSet(context.Background(), "many")
			for _, table := range d.Tables {
				if err != nil || table.State != "made" || table.Why != "" {
					return false
				}
			}
			return err == nil
		}, time.Minute, 200*time.Millisecond)
	}
	settled()
	last := func() (id int64) {
		list, err := a.client.Derivations(t.Context(), "many", "", 1)
		require.NoError(t, err)
		return list[0].ID
	}
	before := last()
	a.source.exec("UPDATE s03 SET n = n + 1 WHERE id = 9")
	require.Equal(t, "done", a.finish("many").State)
	require.Eventually(t, func() bool { return last() > before }, time.Minute, 50*time.Millisecond)
	settled()
	list, err := a.client.Derivations(t.Context(), "many", "", 500)
	require.NoError(t, err)
	for _, d := range list {
		require.True(t, d.ID <= before || reaches[d.Table][3], "%s does not depend on what changed: %s", d.Table, d.Why)
	}

	_, err = a.client.StartFeed(t.Context(), "many")
	require.NoError(t, err)
	for range 3 {
		for range 20 {
			a.source.exec(fmt.Sprintf("UPDATE s%02d SET n = n + 1 WHERE id %% 5 = %d", r.IntN(sources), r.IntN(5)))
			time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
		}
		a.kill()
		a.start()
	}
	_, err = a.client.PauseFeed(t.Context(), "many")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		run, err := a.client.StartRun(t.Context(), "many")
		return err == nil && a.await(run.ID).State == "done"
	}, time.Minute, time.Second)
	settled()
}
