package feed_test

import (
	"os"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

func TestFaultsAreToldWithTheirLines(t *testing.T) {
	content, err := os.ReadFile("testdata/faults.txt")
	require.NoError(t, err)
	stories := strings.Split(string(content), "\n---\n")
	for i := 1; i < len(stories); i++ {
		before := strings.Split(strings.TrimSpace(stories[i-1]), "\n")
		title := before[len(before)-1]
		t.Run(title, func(t *testing.T) {
			file, rest, ok := strings.Cut(stories[i], "\n===\n")
			require.True(t, ok)
			want, _, _ := strings.Cut(rest, "\n\n")
			_, err := feed.ParseFile([]byte(file))
			require.True(t, problem.Is(err, problem.Invalid))
			var told []string
			for line := range strings.Lines(problem.Of(err).What) {
				if strings.HasPrefix(line, "  line") {
					told = append(told, strings.TrimSpace(line))
				}
			}
			require.Equal(t, strings.Split(strings.TrimSpace(want), "\n"), told)
		})
	}
}

func TestFilesThatAreNoFeedFiles(t *testing.T) {
	for file, want := range map[string]string{"": "empty", "feed: [": "not valid YAML", "- a\n": "Fields are expected",
		"feed: a\n---\nfeed: b\n": "more than one document"} {
		_, err := feed.ParseFile([]byte(file))
		require.ErrorContains(t, err, want)
	}
}

// What is exported and applied again changes nothing.
func TestExportAndApplyAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := &feed.Feed{
			Name: rapid.StringMatching(`[a-z][a-z0-9-]{0,20}`).Draw(t,
				"feed"), Source: "circulation", Warehouse: "lake",
			Every: rapid.SampledFrom([]string{"", "10s", "2h", "1d"}).Draw(t,
				"every"), Target: rapid.SampledFrom([]string{"", "{source}.{table}",
				`"a b"."{table}"`}).Draw(t, "target"),
		}
		for i := range rapid.IntRange(1, 4).Draw(t, "tables") {
			name := schema.Name{Schema: rapid.StringMatching(`[a-zé "' .]{1,8}`).Draw(t, "schema"),
				Table: rapid.StringMatching(`[A-Zü#:{}"]{1,8}`).Draw(t, "table") + string(rune('a'+i))}
			if strings.ContainsAny(name.Table, "{}") {
				name.Table = strings.NewReplacer("{", "", "}", "").Replace(name.Table)
			}
			table := feed.Table{Table: name.Display(), Find: feed.FindWatermark, Keep: feed.KeepLatest,
				Watermark: &feed.Watermark{Column: rapid.StringN(1, 10, -1).Draw(t, "column")}}
			if strings.TrimSpace(table.Watermark.Column) == "" ||
				strings.ContainsFunc(table.Watermark.Column,
					func(r rune) bool { return r < ' ' || r == 0xfeff || r > 0xffff }) {
				table.Watermark.Column = "updated_at"
			}
			if rapid.Bool().Draw(t, "keyed") {
				table.Key = []string{"id", "no"}
			}
			f.Tables = append(f.Tables, table)
		}
		if len(f.Check()) > 0 {
			return // not a feed that can be applied
		}
		back, err := feed.ParseFile(f.File())
		require.NoError(t, err, string(f.File()))
		require.Empty(t, feed.Diff(f, back), string(f.File()))
	})
}

func TestDiffNamesWhatChanged(t *testing.T) {
	old := &feed.Feed{Name: "loans", Every: "10s",
		Tables: []feed.Table{{Table: "public.loans", Keep: "latest", Watermark: &feed.Watermark{Column: "a"}}}}
	new := &feed.Feed{Name: "loans", Every: "30s",
		Tables: []feed.Table{{Table: "public.loans", Keep: "latest", Watermark: &feed.Watermark{Column: "b"}}}}
	require.Equal(t, []feed.Change{{Path: "every", Old: "10s", New: "30s"},
		{Path: "tables[public.loans].watermark.column", Old: "a", New: "b"}}, feed.Diff(old, new))
}

func TestSchedules(t *testing.T) {
	ended := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	next, ok := (&feed.Feed{Every: "2d"}).Next(ended)
	require.True(t, ok)
	require.Equal(t, ended.AddDate(0, 0, 2), next)
	next, ok = (&feed.Feed{Cron: "30 3 * * *", Zone: "Europe/Vienna"}).Next(ended)
	require.True(t, ok)
	require.Equal(t, time.Date(2026, 11, 24, 2, 30, 0, 0, time.UTC), next.UTC())
	_, ok = (&feed.Feed{}).Next(ended)
	require.False(t, ok)
}

func TestTargets(t *testing.T) {
	f := &feed.Feed{Source: "circulation", Target: "{source}.{schema}_{table}"}
	name, err := f.TargetOf(feed.Table{Table: "public.loans"})
	require.NoError(t, err)
	require.Equal(t, schema.Name{Schema: "circulation", Table: "public_loans"}, name)
	_, err = f.TargetOf(feed.Table{Table: "public.loans", Target: "{databse}.x"})
	require.ErrorContains(t, err, "only {source}, {schema} and {table}")
}

// What a template makes fits every warehouse, and names that begin alike stay apart; what a person wrote stays.
func TestTargetsAreCut(t *testing.T) {
	f := &feed.Feed{Source: "circulation", Target: "{source}.{schema}_{table}"}
	long := strings.Repeat("ü", 30)
	seen := map[schema.Name]bool{}
	for _, table := range []string{long + "1", long + "2"} {
		for keep, room := range map[feed.Keep]int{feed.KeepLatest: 63, feed.KeepHistory: 63 - len(feed.AsOf)} {
			x := feed.Table{Table: "public." + table, Keep: keep}
			name, err := f.TargetOf(x)
			require.NoError(t, err)
			require.Equal(t, "circulation", name.Schema)
			require.LessOrEqual(t, len(name.Table), room)
			require.True(t, utf8.ValidString(name.Table))
			seen[name] = true
			uncut, ok := f.Uncut(x)
			require.True(t, ok)
			require.Equal(t, "public_"+table, uncut.Table)
		}
	}
	require.Len(t, seen, 4)
	name, err := f.TargetOf(feed.Table{Table: "public.x", Target: "kept." + long + long})
	require.NoError(t, err)
	require.Equal(t, long+long, name.Table)
}

// A feed by cron runs in its zone, also where clocks are changed; a day that never comes is none.
func TestWhenAFeedRunsByCron(t *testing.T) {
	f := &feed.Feed{Cron: "30 2 * * *", Zone: "Europe/Vienna"}
	var got []string
	for _, at := range f.ByCron(time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC), 3) {
		got = append(got, at.Format("2 Jan 15:04 MST"))
	}
	require.Equal(t, []string{"30 Mar 02:30 CEST", "31 Mar 02:30 CEST", "1 Apr 02:30 CEST"}, got,
		"on the 29th there is no 02:30")
	require.Empty(t, (&feed.Feed{Every: "1h"}).ByCron(time.Now(), 5))
	never := &feed.Feed{Cron: "0 0 30 2 *"}
	require.Empty(t, never.ByCron(time.Now(), 5))
	_, ok := never.Next(time.Now())
	require.False(t, ok)
	var said []string
	for _, fault := range never.Check() {
		said = append(said, fault.Path+": "+fault.Message)
	}
	require.Contains(t, strings.Join(said, "\n"), `cron: "0 0 30 2 *" names a day that never comes.`)
}

func TestHowLongALogIsKeptBehind(t *testing.T) {
	file := "feed: live\nsource: library\nwarehouse: lake\nretain: {behind: %s}\ntables:\n  - {table: public.loans, find: log, keep: latest}\n"
	for text, by := range map[string]time.Duration{"10m": 10 * time.Minute, "6h": 6 * time.Hour, "7d": 7 * 24 * time.Hour} {
		f, err := feed.ParseFile([]byte(strings.ReplaceAll(file, "%s", text)))
		require.NoError(t, err, text)
		require.Equal(t, by, f.BehindBy())
	}
	for _, text := range []string{"9m", "8d", "soon", "-1h", "'0'"} {
		_, err := feed.ParseFile([]byte(strings.ReplaceAll(file, "%s", text)))
		require.ErrorContains(t, err, "is not a length of time from 10 minutes to 7 days", text)
	}
}
