// Package core holds the computation; this test keeps it free of the world outside.
package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// imports lists the imports of every Go file below a folder, tests left out.
func imports(t *testing.T, root string) map[string][]string {
	found := map[string][]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range file.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			found[path] = append(found[path], name)
		}
		return nil
	}))
	require.NotEmpty(t, found)
	return found
}

// The core computes: no network, no database, no file, no process, no clock.
func TestCoreImportsNothingOfTheWorld(t *testing.T) {
	forbidden := []string{"net", "os", "io/fs", "io/ioutil", "database/sql", "syscall", "log", "github.com/jackc", "github.com/duckdb", "github.com/gofiber", "github.com/riverqueue", "github.com/spf13"}
	for file, names := range imports(t, ".") {
		for _, name := range names {
			for _, f := range forbidden {
				require.False(t, name == f || strings.HasPrefix(name, f+"/"), "%s imports %s", file, name)
			}
			if strings.HasPrefix(name, "noemata/") {
				require.True(t, strings.HasPrefix(name, "noemata/internal/core/"), "%s imports %s, which is not in the core", file, name)
			}
		}
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NotContains(t, string(content), "time.Now(", "%s reads the clock", file)
		require.NotContains(t, string(content), "time.Since(", "%s reads the clock", file)
	}
}

// Imports point down only: each part may import those after it, never those before.
func TestImportsPointDown(t *testing.T) {
	order := []string{"noemata/cmd", "noemata/demo", "noemata/internal/cli", "noemata/internal/serve", "noemata/internal/service", "noemata/internal/jobs", "noemata/internal/links",
		"noemata/internal/store", "noemata/client", "noemata/internal/engine", "noemata/internal/warehouse", "noemata/internal/source", "noemata/internal/core"}
	level := func(name string) int {
		for i, prefix := range order {
			if name == prefix || strings.HasPrefix(name, prefix+"/") {
				return i
			}
		}
		return -1
	}
	for file, names := range imports(t, "../..") {
		path := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(file, "../../")))
		from := level("noemata/" + path)
		for _, name := range names {
			to := level(name)
			if from < 0 || to < 0 || order[from] == "noemata/client" || strings.HasPrefix(file, "../../internal/testkit") {
				continue
			}
			require.LessOrEqual(t, from, to, "%s imports %s, which is above it", file, name)
		}
	}
}
