package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/testkit"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// driftCase is one way in which the structure of a table changes, as each kind of server
// writes it.
type driftCase struct {
	name, postgres, maria string
	kind                  drift.Kind
}

// onMySQL are statements that the version of the tests has in another form than MariaDB, or not at all.
var onMySQL = map[string]string{
	"ADD note varchar(40) NOT NULL DEFAULT (uuid())": "",
	"ADD note int AS (days * 2) STORED":              "",
	"RENAME COLUMN days TO length":                   "CHANGE days length int",
	"RENAME COLUMN copy TO note0, RENAME COLUMN note0 TO copy": "CHANGE copy note0 varchar(20) NOT NULL, " +
		"CHANGE note0 copy varchar(20)",
}

// on is the statement of a kind of server; empty where it has none.
func (x driftCase) on(server string) string {
	if server == "PostgreSQL" {
		return x.postgres
	}
	if other, has := onMySQL[x.maria]; has && server == "MySQL" {
		return other
	}
	return x.maria
}

// The table is loans (id int PRIMARY KEY, copy varchar(20) NOT NULL, days int, at), with rows 1
// to 3.
var driftCases = []driftCase{
	{"a column is added that may be null", "ADD note text", "ADD note text", drift.Columns},
	{"a column is added with a constant default", "ADD note text DEFAULT 'n'", "ADD note varchar(9) DEFAULT 'n'",
		drift.Columns},
	{"a column is added with a default of its own for each row",
		"ADD note text NOT NULL DEFAULT gen_random_uuid()::text",
		"ADD note varchar(40) NOT NULL DEFAULT (uuid())", drift.Columns},
	{"a column is added that is computed", "ADD note int GENERATED ALWAYS AS (days * 2) STORED",
		"ADD note int AS (days * 2) STORED", drift.Columns},
	{"a column is added before the others", "", "ADD note varchar(9) DEFAULT 'n' FIRST", drift.Columns},
	{"a column is dropped", "DROP days", "DROP days", drift.Columns},
	{"a column is renamed", "RENAME days TO length", "RENAME COLUMN days TO length", drift.Columns},
	{"columns exchange their names", "RENAME copy TO x; ALTER TABLE loans RENAME note0 TO copy; ALTER TABLE loans " +
		"RENAME x TO note0",
		"RENAME COLUMN copy TO note0, RENAME COLUMN note0 TO copy", drift.Columns},
	{"columns change places", "", "MODIFY days int FIRST", drift.Columns},
	{"a type becomes wider", "ALTER days TYPE bigint", "MODIFY days bigint", drift.Types},
	{"a type becomes narrower", "ALTER days TYPE smallint", "MODIFY days smallint", drift.Types},
	{"a number becomes a text", "ALTER days TYPE text", "MODIFY days varchar(20)", drift.Types},
	{"a text gets another character set", "", "MODIFY copy varchar(20) CHARACTER SET latin1 NOT NULL", drift.Types},
	{"the key is another", "DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY (copy)",
		"DROP PRIMARY KEY, ADD PRIMARY KEY (copy)", drift.Keys},
	{"the table is replaced", "RENAME TO gone; CREATE TABLE loans (LIKE gone INCLUDING ALL); INSERT INTO loans " +
		"SELECT * FROM gone WHERE id < 3",
		"RENAME TO gone; CREATE TABLE loans LIKE gone; INSERT INTO loans SELECT * FROM gone WHERE id < 3",
		drift.Tables},
}

// drifting is a source whose tables change, of some kind.
type drifting struct {
	*workbench
	exec  func(string)
	table func(string) string
	now   string
}

func newDrifting(t *testing.T, server, warehouse string) *drifting {
	if server == "PostgreSQL" {
		b := newWorkbench(t, warehouse)
		return &drifting{b, func(sql string) { b.exec(sql) }, func(name string) string { return "public." + name },
			"clock_timestamp()"}
	}
	make := newMariaBench
	if server == "MySQL" {
		make = newMySQLBench
	}
	b := make(t, warehouse)
	return &drifting{b.workbench, b.exec, b.table, "now(6)"}
}

// bring runs the tables once; what is wrong with them is told by name.
func (d *drifting) bring(tables []feed.Table) map[string]error {
	d.feed.Tables = tables
	troubles := map[string]error{}
	if tables[0].Find == feed.FindLog {
		f := &follower{workbench: d.workbench}
		ctx := context.Background()
		report, err := d.engine.Follow(ctx, f.work())
		require.NoError(d.t, err)
		for _, x := range report.Tables {
			troubles[x.Table] = x.Trouble
		}
		return troubles
	}
	for _, table := range tables {
		w := d.work(table)
		d.feed.Tables = tables
		_, err := d.engine.Run(context.Background(), w)
		troubles[table.Table] = err
	}
	return troubles
}

// Whatever changes of a table's structure, while rows are written, under each policy: what the
// feed follows is equal to the source again, what it holds waits alone, what it ignores goes on,
// and each is said. The lines of docs/drift.md are made here.
func TestDrift(t *testing.T) {
	raceless(t)
	var lines []string
	// One of so many cases each time, others each time; all of them in the long form.
	one := 15
	if os.Getenv("NOEMATA_GOLDEN") == "write" || os.Getenv("NOEMATA_TORTURE") != "" {
		one = 1
	}
	n := rand.IntN(one)
	for _, server := range []string{"PostgreSQL", "MariaDB", "MySQL"} {
		for _, find := range []feed.Find{feed.FindLog, feed.FindWatermark, feed.FindCompare, feed.FindWhole} {
			for i, x := range driftCases {
				statement := x.on(server)
				for k, policy := range []drift.Policy{drift.Follow, drift.Hold, drift.Ignore} {
					if statement == "" || policy == drift.Ignore && x.kind != drift.Columns {
						continue
					}
					if n++; n%one != 0 {
						continue
					}
					kind := []string{duckdb.Kind, pgwarehouse.Kind}[(i+k)%2]
					t.Run(fmt.Sprintf("%s/%s/%s/%s", server, find, strings.ReplaceAll(x.name, " ", "_"), policy),
						func(t *testing.T) {
							lines = append(lines,
								drifts(t, newDrifting(t, server, kind), x, statement, server, find, policy))
						})
				}
			}
		}
	}
	if os.Getenv("NOEMATA_GOLDEN") == "write" {
		path := filepath.Join("..", "..", "docs", "drift.md")
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		head, _, _ := strings.Cut(string(content), "| source | find |")
		head += "| source | find | what changes | policy | what becomes of the table | rows of before |\n| --- | " +
			"--- | --- | --- | --- | --- |\n"
		require.NoError(t, os.WriteFile(path, []byte(head+strings.Join(lines, "\n")+"\n"), 0o644))
	}
}

// drifts has a table change and gives the line of docs/drift.md.
func drifts(t *testing.T, d *drifting, x driftCase, statement, server string, find feed.Find,
	policy drift.Policy) string {
	text := "varchar(20)"
	d.exec("CREATE TABLE loans (id int PRIMARY KEY, copy " + text + " NOT NULL, note0 " + text +
		", days int, at timestamp(6) NOT NULL DEFAULT " +
		d.now + ")")
	d.exec("CREATE TABLE holds (id int PRIMARY KEY, at timestamp(6) NOT NULL DEFAULT " +
		d.now + ")")
	for i := range 3 {
		d.exec(fmt.Sprintf("INSERT INTO loans (id, copy, note0, days) VALUES (%d, 'C%d', 'N%[1]d', %d)", i+1, 9-i, 7*i))
	}
	loans := feed.Table{Table: d.table("loans"), Find: find, Keep: feed.KeepLatest, Target: "kept.loans",
		Drift: &feed.Drift{Columns: policy, Types: policy, Keys: policy, Tables: policy}}
	holds := feed.Table{Table: d.table("holds"), Find: find, Keep: feed.KeepLatest, Target: "kept.holds"}
	if policy == drift.Ignore {
		loans.Drift = &feed.Drift{Columns: policy}
	}
	if find == feed.FindWatermark {
		loans.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
		holds.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
	}
	tables := []feed.Table{loans, holds}
	if find == feed.FindLog {
		d.feed.Tables = tables
		t.Cleanup(func() { _ = engine.DropLog(context.Background(), d.feed, d.source, d.warehouse) })
	}
	for name, err := range d.bring(tables) {
		require.NoError(t, err, name)
	}
	d.exec("UPDATE loans SET days = 70, at = " + d.now + " WHERE id = 2")
	for _, sql := range strings.Split("ALTER TABLE loans "+statement, "; ") {
		d.exec(sql)
	}
	d.exec("INSERT INTO loans (id, copy, note0) VALUES (4, 'C4', 'N4')")
	d.exec("INSERT INTO holds (id) VALUES (1)")
	var troubles map[string]error
	for range 3 {
		troubles = d.bring(tables)
	}
	require.NoError(t, troubles[holds.Table], "the other table goes on")
	require.Len(t, testkit.SQL(t, d.warehouse, "SELECT id FROM kept.holds"), 1, "the other table goes on")
	entries, err := d.warehouse.Journal().Drifts(context.Background(), d.feed.Name, 10)
	require.NoError(t, err)
	entries = slices.DeleteFunc(entries, func(e drift.Drift) bool { return e.Table != loans.Table })

	trouble := troubles[loans.Table]
	became, before := "goes on as it was", "as they were"
	if len(entries) > 0 {
		became = strings.ToLower(entries[0].Done[:1]) + strings.TrimSuffix(entries[0].Done[1:], ".")
		require.NotEmpty(t, entries[0].What)
	}
	if trouble != nil {
		before = "wait"
		require.NotEmpty(t, entries, "what is held is an entry: %v", trouble)
		require.NotEqual(t, drift.Follow, policy, "%v", trouble)
	} else {
		w := d.work(loans)
		d.feed.Tables = tables
		proof, err := engine.Prove(context.Background(), w)
		require.NoError(t, err)
		switch {
		case x.kind == drift.Tables && server != "PostgreSQL" && find == feed.FindWatermark:
			// The server has no name for a table that another one of its name would not have.
			require.EqualValues(t, 1, proof.Extra, "%+v", proof)
			became, before = "is not noticed", "those that are gone stay, until a sweep"
		case strings.HasPrefix(became, "followed"):
			before = "have all values"
			fallthrough
		default:
			require.True(t, proof.Same, "%s: %+v", became, proof)
		}
	}
	if policy == drift.Follow {
		require.NoError(t, trouble)
	}
	return fmt.Sprintf("| %s | %s | %s | %s | %s | %s |", server, find, x.name, policy, became, before)
}

// What a drift by watermark asks for is done whole, also when the run dies in the midst: rows of
// the table that was replaced end, though the run that read the new ones never came to compare keys.
func TestADriftIsFollowedToItsEnd(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(20)
		table.Drift = &feed.Drift{Tables: drift.Follow}
		b.bring(table)
		b.exec(`CREATE TABLE others (LIKE patrons INCLUDING ALL); INSERT INTO others SELECT * FROM patrons WHERE id > 15;
			DROP TABLE patrons; ALTER TABLE others RENAME TO patrons`)
		ctx, cancel := context.WithCancel(context.Background())
		w := b.work(table)
		w.Progress = func(p engine.Progress) {
			if p.Phase == "sweeping" {
				cancel()
			}
		}
		_, err := b.engine.Run(ctx, w)
		require.Error(t, err)
		b.bring(table)
		b.equal(table, 5)
		require.Len(t, b.rowsOf("public.patrons", column("id", schema.Int64)), 5)
		b.bring(table)
		drifts, err := b.warehouse.Journal().Drifts(context.Background(), b.feed.Name, 10)
		require.NoError(t, err)
		require.Len(t, drifts, 2, "of the run that died and the one that went on, and no more")
	})
}

// A table that began at the present is read again from there: what was written since its last run
// is not passed over.
func TestADriftOfATableThatBeganAtThePresent(t *testing.T) {
	for _, policy := range []drift.Policy{drift.Follow, drift.Hold} {
		t.Run(string(policy), func(t *testing.T) {
			b := newWorkbench(t, duckdb.Kind)
			table := b.patrons(5)
			table.Watermark.Start = feed.StartNow
			table.Drift = &feed.Drift{Columns: policy}
			b.bring(table)
			add := func(id int) {
				b.exec(fmt.Sprintf("INSERT INTO patrons VALUES (%d, 'new', clock_timestamp())", id))
				time.Sleep(10 * time.Millisecond)
			}
			add(100)
			b.bring(table)
			add(101)
			b.exec("ALTER TABLE patrons ADD COLUMN note text DEFAULT 'n'")
			_, err := b.engine.Run(context.Background(), b.work(table))
			if policy == drift.Hold {
				require.ErrorContains(t, err, "positions set circulation public.patrons ")
				return
			}
			require.NoError(t, err)
			require.Equal(t, [][]string{{"100", "n"}, {"101", "n"}},
				b.rowsOf("public.patrons", column("id", schema.Int64), column("note", schema.Text)))
		})
	}
}
