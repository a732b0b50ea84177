package derive_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/derive"
)

const file = `derived: reading
warehouse: lake
owner: Fjóra Quillfeather
every: 10m
tables:
  - table: reading.loans
    sql: |
      SELECT branch, count(*) AS loans
      FROM kept.loans GROUP BY branch
    as: merge
    key: [branch]
    parts: {column: branch, inputs: {kept.loans: branch}}
    checks:
      - unique: [branch]
      - values: {column: branch, in: [north, south]}
        failing: tell
  - table: reading.busy
    sql_file: busy.sql
    cron: 0 4 * * *
    zone: Europe/Vienna
    within: 30s
`

// A file that is written is the set that was read, with the SQL of its files in place.
func TestFilesAreReadAndWritten(t *testing.T) {
	require.Equal(t, []string{"busy.sql"}, derive.Files([]byte(file)))
	s, err := derive.Parse([]byte(file), map[string]string{"busy.sql": "SELECT 1 AS one"})
	require.NoError(t, err)
	require.Equal(t, "SELECT 1 AS one", s.Tables[1].SQL)
	again, err := derive.Parse(s.File(), nil)
	require.NoError(t, err, "%s", s.File())
	require.Equal(t, s, again)
	require.Empty(t, derive.Diff(s, again))
	again.Tables[1].SQL = "SELECT 2 AS one"
	again.Tables[0].Checks = again.Tables[0].Checks[:1]
	changes := derive.Diff(s, again)
	require.Len(t, changes, 2)
	require.Equal(t, "tables[reading.loans].checks[1]", changes[1].Path)
	require.NotEqual(t, s.Tables[1].Definition(), again.Tables[1].Definition())

	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	next, ok := s.TimesOf(s.Tables[0]).Next(at)
	require.True(t, ok)
	require.Equal(t, at.Add(10*time.Minute), next)
	next, ok = s.TimesOf(s.Tables[1]).Next(at)
	require.True(t, ok)
	require.Equal(t, time.Date(2026, 3, 2, 3, 0, 0, 0, time.UTC), next.UTC())
	require.Equal(t, 30*time.Second, s.Tables[1].Limit())
	require.Equal(t, "cron 0 4 * * * Europe/Vienna", s.When(s.Tables[1]))
	s.Every = ""
	require.Equal(t, "after commits", s.When(s.Tables[0]))
}

// What is wrong with a file is told with its line.
func TestFaultsOfFiles(t *testing.T) {
	for change, said := range map[string]string{
		"derived: reading->derived: Reading":                     "line 1, derived: \"Reading\" cannot be a name",
		"warehouse: lake->source: lake":                          "line 2, source: There is no such field",
		"every: 10m->every: soon":                                "line 4, every: \"soon\" is not a pause",
		"reading.busy->reading.loans":                            "the table reading.loans is there twice",
		"reading.busy->noemata.busy":                             "Noemata's own",
		"as: merge->as: picture":                                 "not what a derived table can be",
		"key: [branch]->key: []":                                 "A table that is merged needs a key",
		"failing: tell->failing: shout":                          "keep or tell",
		"unique: [branch]->unique: [branch]\n        none: x":    "A check is one of",
		"values: {column: branch, in: [north, south]}->none: ''": "A check is one of",
		"cron: 0 4 * * *->cron: 0 4 31 2 *":                      "a day that never comes",
		"    cron: 0 4 * * *\n->":                                "line 19, tables[1].zone: A zone is that of cron",
		"within: 30s->within: never":                             "not a second or more",
		"sql_file: busy.sql->sql_file: other.sql":                "The text of other.sql did not come along",
		"sql_file: busy.sql->comment: none":                      "needs the SELECT",
	} {
		old, new, _ := strings.Cut(change, "->")
		require.Contains(t, file, old)
		_, err := derive.Parse([]byte(strings.Replace(file, old, new, 1)), map[string]string{"busy.sql": "SELECT 1"})
		require.Error(t, err, change)
		require.Contains(t, strings.ToLower(err.Error()), strings.ToLower(said), change)
	}
}

// Each table comes after those that it reads; where there is no such order, those are named that read each other.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "tables")
		name := func(i int) string { return fmt.Sprintf("reading.t%02d", i) }
		reads := derive.Reads{}
		for i := range n {
			reads[name(i)] = []string{"kept.loans"}
			for j := range n {
				if rapid.IntRange(0, 9).Draw(t, "reads") < 2 && (j < i || rapid.IntRange(0, 19).Draw(t, "back") == 0) {
					reads[name(i)] = append(reads[name(i)], name(j))
				}
			}
		}
		order, err := derive.Order(reads)
		if err == nil {
			require.Len(t, order, n)
			for i, table := range order {
				for _, input := range reads[table] {
					if at := slices.Index(order, input); at >= i {
						t.Fatalf("%s comes before %s, which it reads", table, input)
					}
				}
			}
			return
		}
		_, list, _ := strings.Cut(err.Error(), "circle: ")
		list, _, _ = strings.Cut(list, ". ")
		way := strings.Split(strings.TrimSuffix(list, "."), " reads ")
		if len(way) < 2 || way[0] != way[len(way)-1] {
			t.Fatalf("no circle: %q", list)
		}
		for i, table := range way[:len(way)-1] {
			if !slices.Contains(reads[table], way[i+1]) {
				t.Fatalf("%s does not read %s", table, way[i+1])
			}
		}
	})
}

// A table is stale when it, or what it reads, is another than it was made from, and it is told why.
func TestStale(t *testing.T) {
	table := derive.Table{Table: "reading.loans", SQL: "SELECT 1"}
	made := &derive.Made{Definition: table.Definition(), Inputs: map[string]string{"a.a": "1", "a.b": "1"}}
	now := map[string]string{"a.a": "1", "a.b": "1"}
	reads := []string{"a.b", "a.a"}
	require.Equal(t, "it was never made", derive.Stale(table, reads, nil, now))
	require.Empty(t, derive.Stale(table, reads, made, now))
	now["a.b"] = "2"
	require.Equal(t, "a.b changed", derive.Stale(table, reads, made, now))
	delete(now, "a.a")
	require.Equal(t, "a.a, a.b changed", derive.Stale(table, reads, made, now))
	table.SQL = "SELECT 2"
	require.Equal(t, "its definition has changed", derive.Stale(table, reads, made, now))
}

// Whatever a file says, it is read or refused; what is read can be written, and is the same when it is read again.
func FuzzFiles(f *testing.F) {
	f.Add([]byte(file))
	f.Add([]byte("derived: a\nwarehouse: b\ntables: [{table: a.b, sql: SELECT 1, checks: [{values: {column: a, in: [x]}}]}]"))
	f.Fuzz(func(t *testing.T, content []byte) {
		s, err := derive.Parse(content, map[string]string{"busy.sql": "SELECT 1"})
		if err != nil {
			return
		}
		again, err := derive.Parse(s.File(), nil)
		require.NoError(t, err, "%s", s.File())
		require.Empty(t, derive.Diff(s, again))
		for _, table := range s.Tables {
			s.TimesOf(table).Next(time.Unix(0, 0))
			require.Positive(t, table.Limit())
		}
	})
}
