//go:build duckdb_arrow

package duckdb

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A working space reaches the files of its folders, and no others; and nothing that is asked of it loads code.
func TestAWorkingSpaceReachesItsFolders(t *testing.T) {
	within, beside := t.TempDir(), t.TempDir()
	for _, folder := range []string{within, beside} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "a.csv"), []byte("n\n1\n"), 0o600))
	}
	s, err := OpenScratch(t.Context(), Space{Memory: 64 << 20, AsRead: asItIs,
		Exhausted: func(err error) error { return err }, What: `warehouse "lake"`, Folders: []string{within}})
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Ask(t.Context(), "SELECT n FROM read_csv('"+within+"/a.csv')")
	require.NoError(t, err)
	for _, sql := range []string{"SELECT n FROM read_csv('" + beside + "/a.csv')",
		"SELECT n FROM read_csv('" + within + "/../" + filepath.Base(beside) + "/a.csv')",
		"COPY (SELECT 1) TO '" + beside + "/b.csv'", "INSTALL httpfs", "LOAD httpfs",
		"SET allowed_directories = ['/']", "SET enable_external_access = true", "ATTACH '" + beside + "/x.duckdb'"} {
		_, err := s.Exec(t.Context(), sql)
		require.Error(t, err, sql)
	}
	require.NoFileExists(t, filepath.Join(beside, "b.csv"))
}

// A question of tables that were lent needs the columns that it names, and all of them where it may mean more: a star in
// any form, a row as a whole, and what groups by what is left.
func TestWhatAQuestionNeeds(t *testing.T) {
	s, err := OpenScratch(t.Context(), Space{Memory: 64 << 20, AsRead: asItIs, Exhausted: func(err error) error { return err },
		What: `warehouse "lake"`})
	require.NoError(t, err)
	defer s.Close()
	for sql, want := range map[string]string{
		`SELECT a, t."B b", count(*) FROM desk.kept.holds AS t JOIN x.y.z USING (k) WHERE upper(c) = 'd' ORDER BY 1`: "a b b c k t",
		"EXPLAIN SELECT a FROM desk.kept.holds":                   "a",
		"SELECT count(*) FROM desk.kept.holds":                    "",
		"SELECT * FROM desk.kept.holds":                           "all",
		"-- FROM first\nFROM desk.kept.holds":                     "all",
		"TABLE desk.kept.holds":                                   "all",
		"SELECT a FROM x UNION ALL FROM desk.kept.holds":          "all",
		"SELECT t FROM desk.kept.holds t":                         "all",
		"SELECT to_json(holds) FROM desk.kept.holds":              "all",
		"SELECT a FROM desk.kept.holds NATURAL JOIN x":            "all",
		"SELECT COLUMNS('a.*') FROM desk.kept.holds":              "all",
		"SELECT * EXCLUDE (a) FROM desk.kept.holds":               "all",
		"SELECT q FROM desk.kept.holds AS t(q, r)":                "all",
		"SELECT a FROM (PIVOT desk.kept.holds ON b USING sum(c))": "all",
		"SUMMARIZE desk.kept.holds":                               "all",
		"SELECT a FROM (SELECT t.* FROM desk.kept.holds t)":       "all",
		"SELECT no such question":                                 "all",
	} {
		columns, all, err := s.Needs(t.Context(), sql)
		require.NoError(t, err)
		got := strings.Join(slices.Sorted(maps.Keys(columns)), " ")
		if all {
			got = "all"
		}
		require.Equal(t, want, got, sql)
	}
}
