package connection_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
)

// A warehouse's file lies below a folder that the operator allows, whatever path leads there.
func TestFilesStayBelowTheFoldersThatAreAllowed(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	allowed, outside := filepath.Join(dir, "warehouses"), filepath.Join(dir, "outside")
	for _, d := range []string{allowed, outside, allowed + "-not"} {
		require.NoError(t, os.Mkdir(d, 0o700))
	}
	require.NoError(t, os.Symlink(outside, filepath.Join(allowed, "link")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "lake.duckdb"), filepath.Join(allowed, "file.duckdb")))
	folders := connection.Folders{Paths: []string{allowed}, Flag: "--warehouse-dir"}
	for path, want := range map[string]string{
		"lake.duckdb":     filepath.Join(allowed, "lake.duckdb"),
		"a/b/lake.duckdb": filepath.Join(allowed, "a/b/lake.duckdb"),
		filepath.Join(allowed, "x", "lake.duckdb"):  filepath.Join(allowed, "x", "lake.duckdb"),
		filepath.Join(allowed, "..", "outside/l.d"): "",
		"../outside/lake.duckdb":                    "",
		filepath.Join(outside, "lake.duckdb"):       "",
		filepath.Join(allowed+"-not", "l.duckdb"):   "",
		"link/lake.duckdb":                          "",
		"file.duckdb":                               "",
		allowed:                                     "",
		"/etc/passwd":                               "",
		"lake.duckdb?threads=1":                     "",
		"lake\n.duckdb":                             "",
	} {
		s, err := folders.Resolve(connection.Settings{Path: path})
		if want == "" {
			require.Error(t, err, path)
			continue
		}
		require.NoError(t, err, path)
		require.Equal(t, want, s.Path)
	}
	_, err = connection.Folders{}.Resolve(connection.Settings{Path: "/lake.duckdb"})
	require.Error(t, err, "nothing is allowed unless it is said")
}
