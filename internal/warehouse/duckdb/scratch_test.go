//go:build duckdb_arrow

package duckdb

import (
	"os"
	"path/filepath"
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
