package feed_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
)

func parse(t *testing.T, text string) *feed.Feed {
	f, err := feed.ParseFile([]byte("feed: f\nsource: s\nwarehouse: w\n" + text))
	require.NoError(t, err)
	return f
}

func names(texts ...string) (list []schema.Name) {
	for _, text := range texts {
		name, err := schema.ParseName(text)
		if err != nil {
			panic(err)
		}
		list = append(list, name)
	}
	return list
}

func tablesOf(f *feed.Feed) (list []string) {
	for _, t := range f.Tables {
		list = append(list, t.Table+" "+string(t.Keep))
	}
	return list
}

func TestPatternsStandForTablesThatAreThereAndThoseToCome(t *testing.T) {
	f := parse(t, `target: "{source}_{schema}.{table}"
tables:
  - table: public.*
    except: [public.tmp_*, public.audit]
    find: whole
    keep: latest
  - table: public.loans
    find: whole
    keep: history
  - table: branch_?.desk*
    find: whole
    keep: replace
`)
	source := names("branch_1.desks", "branch_1.visits", "branch_22.desks", "public.audit", "public.holds",
		"public.loans",
		"public.tmp_import", `public."tmp.x"`)
	resolved, found := f.Resolve(source)
	require.Equal(t, []string{"public.holds latest", `public."tmp.x" latest`, "public.loans history",
		"branch_1.desks replace"}, tablesOf(resolved), "exact names go first, and each table is brought once")
	require.Equal(t, []feed.Match{
		{Pattern: "public.*", Tables: names("public.holds", `public."tmp.x"`),
			Except: names("public.audit", "public.loans", "public.tmp_import")},
		{Pattern: "branch_?.desk*", Tables: names("branch_1.desks")},
	}, found)
	same, _ := f.Resolve(f.Picks(source))
	require.Equal(t, resolved, same, "what they stand for is all that has to be kept")
	require.Empty(t, resolved.Clashes())
	target, err := resolved.TargetOf(resolved.Tables[0])
	require.NoError(t, err)
	require.Equal(t, "s_public.holds", target.String())

	later, _ := f.Resolve(append(source, names("public.zones")...))
	require.Contains(t, tablesOf(later), "public.zones latest")

	again, err := feed.ParseFile(f.File())
	require.NoError(t, err)
	require.Equal(t, f, again)
}

func TestTargetsOfPatternsThatClash(t *testing.T) {
	f := parse(t, "target: kept.{table}\ntables:\n  - {table: '*.desks', find: whole, keep: latest}\n")
	resolved, _ := f.Resolve(names("branch_1.desks", "branch_2.desks"))
	require.Equal(t, []feed.Fault{{Path: "branch_2.desks",
		Message: "Its target kept.desks is already the target of branch_1.desks."}}, resolved.Clashes())
}

func TestPatternsThatCannotBe(t *testing.T) {
	for text, says := range map[string]string{
		"{table: 'loans*', find: whole, keep: latest}":                                       "write it as schema.table",
		"{table: 'public.*', target: kept.all, find: whole, keep: latest}":                   "needs {table}",
		"{table: public.loans, except: [public.x], find: whole, keep: latest}":               "except goes with a pattern",
		"{table: 'public.*', except: [x], find: whole, keep: latest}":                        `"x" is not a table name`,
		"{table: public.loans, find: whole, keep: latest, columns: {a: {hash: A}}}":          "cannot name a key",
		"{table: public.loans, find: whole, keep: latest, columns: {a: hide}}":               "write drop, or fields",
		"{table: public.loans, find: whole, keep: latest, columns: {a: {mask: blur}}}":       "is not a mask",
		"{table: public.loans, find: whole, keep: latest, columns: {a: {mask: round}}}":      "needs a count",
		"{table: public.loans, find: whole, keep: latest, columns: {a: {hash: }}}":           "A value is expected here",
		"{table: public.loans, find: whole, keep: latest, columns: {a: {name: b, hash: ~}}}": "A value is expected here",
		"{table: public.loans, find: whole, keep: latest, columns: {a: }}":                   "write drop, or fields",
		"{table: public.loans, find: whole, keep: latest, columns: {a: {}}}":                 "Nothing is to become",
		"{table: public.loans, find: whole, keep: latest, computed: {a: }}":                  "needs an expression",
		"{table: public.loans, find: whole, keep: latest, drift: {keys: ignore}}":            "cannot be ignored",
		"{table: public.loans, find: whole, keep: latest, drift: {columns: perhaps}}":        "is not a policy",
		"{table: public.loans, find: whole, keep: latest, columns: {a: {take: {b: c}}}}":     "begins with $",
	} {
		_, err := feed.ParseFile([]byte("feed: f\nsource: s\nwarehouse: w\ntables:\n  - " + text + "\n"))
		require.ErrorContains(t, err, says, text)
	}
}

// null is a mask, however YAML takes it, and nothing else may be left open.
func TestNullIsAMask(t *testing.T) {
	for _, null := range []string{"null", `"null"`} {
		f := parse(t, "tables:\n  - {table: public.loans, find: whole, keep: latest, columns: {a: {mask: "+null+"}}}\n")
		require.Equal(t, feed.MaskNull, f.Tables[0].Columns["a"].Mask)
		again, err := feed.ParseFile(f.File())
		require.NoError(t, err)
		require.Equal(t, f, again)
	}
}

// A feed that follows the log still does where its patterns stand for nothing yet.
func TestAFeedOfNoTablesIsWhatItIs(t *testing.T) {
	f := parse(t, "freshness: continuous\ntables:\n  - {table: 'public.*', find: log, keep: latest}\n")
	resolved, _ := f.Resolve(nil)
	require.Empty(t, resolved.Tables)
	require.True(t, resolved.FollowsLog())
	_, follows := resolved.Fresh()
	require.True(t, follows)
	require.Empty(t, feed.Diff(f, f))
}
