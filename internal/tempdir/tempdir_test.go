package tempdir

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Folders of processes that have died are removed by the next one, and those in use are not.
func TestFoldersOfTheDeadGo(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	d, err := New()
	require.NoError(t, err)
	left, young := filepath.Join(os.TempDir(), prefix+"1"), filepath.Join(os.TempDir(), prefix+"2")
	for _, folder := range []string{left, young} {
		require.NoError(t, os.Mkdir(folder, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(folder, "rows"), []byte("rows"), 0o600))
	}
	before := time.Now().Add(-time.Hour)
	for _, folder := range []string{left, d.Path} {
		require.NoError(t, os.Chtimes(folder, before, before))
	}
	sweep()
	require.NoDirExists(t, left)
	require.DirExists(t, young)
	require.DirExists(t, d.Path)
	d.Close()
	require.NoDirExists(t, d.Path)
}
