package engine_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/engine"
)

// Names that a warehouse does not tell apart, or cuts, are found before anything is written, each
// with what to do; what is done then works.
func TestNamesThatAWarehouseDoesNotTell(t *testing.T) {
	raceless(t)
	refused := func(t *testing.T, b *workbench, tables []feed.Table, at int, says, remedy string) {
		t.Helper()
		w := b.work(tables[at])
		b.feed.Tables = tables
		_, err := b.engine.Run(t.Context(), w)
		require.ErrorContains(t, err, says)
		require.Contains(t, problem.Of(err).Remedy, remedy)
		var told bool
		for _, f := range engine.Check(t.Context(), b.feed, b.source, b.warehouse, testKeys) {
			told = told || f.Level == problem.Blocker && strings.Contains(f.What, says)
		}
		require.True(t, told, "check tells, too")
	}
	t.Run("upper and lower case", func(t *testing.T) {
		b := newWorkbench(t, "duckdb")
		b.exec(`CREATE TABLE "Loans" (id int PRIMARY KEY, "Name" int, name int); CREATE TABLE loans (id int PRIMARY KEY);
			INSERT INTO "Loans" VALUES (1, 2, 3); INSERT INTO loans VALUES (7)`)
		upper := feed.Table{Table: `public."Loans"`, Find: feed.FindWhole, Keep: feed.KeepLatest}
		lower := feed.Table{Table: "public.loans", Find: feed.FindWhole, Keep: feed.KeepLatest}
		refused(t, b, []feed.Table{upper}, 0, "The columns Name and name of", `columns: {"name": {name: …}}`)
		upper.Columns = map[string]feed.Treatment{"name": {Name: "second"}}
		refused(t, b, []feed.Table{upper, lower}, 0, "are one table in DuckDB", "another target")
		refused(t, b, []feed.Table{upper, lower}, 1, "are one table in DuckDB", "another target")
		upper.Target = "kept.Loans"
		b.bring(upper)
		b.bring(lower)
		b.equal(upper, 1)
		b.equal(lower, 1)
		lower.Target = "NOEMATA.x"
		refused(t, b, []feed.Table{lower}, 0, "kept for Noemata's own records", "another target")

		p := newWorkbench(t, "postgresql")
		p.exec(`CREATE TABLE "Loans" (id int PRIMARY KEY, "Name" int, name int); INSERT INTO "Loans" VALUES (1, 2, 3)`)
		upper.Columns = nil
		p.bring(upper)
		p.equal(upper, 1)
	})
	t.Run("long names", func(t *testing.T) {
		b := newMariaBench(t, "postgresql")
		long := strings.Repeat("ü", 60)
		b.exec("CREATE TABLE loans (id int PRIMARY KEY, `" + long + "1` int, `" + long + "2` int); CREATE TABLE `" + long +
			"` (id int PRIMARY KEY); INSERT INTO loans VALUES (1, 2, 3)")
		loans := feed.Table{Table: b.table("loans"), Find: feed.FindWhole, Keep: feed.KeepLatest}
		b.feed.Tables = []feed.Table{loans}
		var told []string
		for _, f := range engine.Check(t.Context(), b.feed, b.source, b.warehouse, testKeys) {
			told = append(told, f.What)
		}
		require.Regexp(t, "The column ü{60}1 is called ü{27}_[0-9a-f]{8} in PostgreSQL, which cuts names after 63 bytes.",
			strings.Join(told, "\n"))
		b.bring(loans)
		b.equal(loans, 1)
		loans.Columns = map[string]feed.Treatment{long + "1": {Name: long}}
		refused(t, b.workbench, []feed.Table{loans}, 0, "has 120 bytes in its name", "Give it a shorter name")
		far := feed.Table{Table: b.table(long), Find: feed.FindWhole, Keep: feed.KeepHistory}
		b.feed.Tables = []feed.Table{far}
		findings := engine.Check(t.Context(), b.feed, b.source, b.warehouse, testKeys)
		require.True(t, slices.ContainsFunc(findings, func(f problem.Finding) bool {
			return f.Level == problem.Note && strings.Contains(f.What, "is longer than names may be")
		}), "%v", findings)
		b.bring(far)
		b.equal(far, 0)
		far.Target = "kept." + strings.Repeat("x", 60)
		refused(t, b.workbench, []feed.Table{far}, 0, "x_as_of", "a shorter target")
		far.Target = "kept.far"
		b.bring(far)
	})
}
