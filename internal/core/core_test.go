// Package core holds the computation; this test keeps it free of the world outside.
package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// imports lists the imports of every Go file below a folder, tests left out.
func imports(t *testing.T, root string) map[string][]string {
	found := map[string][]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.Name() == "node_modules" {
			return fs.SkipDir
		}
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
	forbidden := []string{"net", "os", "io/fs", "io/ioutil", "database/sql", "syscall", "log", "github.com/jackc",
		"github.com/duckdb", "github.com/gofiber", "github.com/riverqueue", "github.com/spf13"}
	for file, names := range imports(t, ".") {
		for _, name := range names {
			for _, f := range forbidden {
				require.False(t, name == f || strings.HasPrefix(name, f+"/"), "%s imports %s", file, name)
			}
			if strings.HasPrefix(name, "noemata/") {
				require.True(t, strings.HasPrefix(name, "noemata/internal/core/"),
					"%s imports %s, which is not in the core", file, name)
			}
		}
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NotContains(t, string(content), "time.Now(", "%s reads the clock", file)
		require.NotContains(t, string(content), "time.Since(", "%s reads the clock", file)
	}
}

// layers are the parts of the house from the top down. Those of one line do not know each
// other.
var layers = [][]string{
	{"cmd", "tools", "bench", "e2e"},
	{"demo"},
	{"internal/cli"},
	{"internal/service"},
	{"internal/httpapi", "internal/sqlport"},
	{"internal/feeds", "internal/asking"},
	{"internal/jobs", "internal/alerts"},
	{"internal/opened"},
	{"internal/store", "client", "console"},
	{"internal/records"},
	{"internal/engine"},
	{"internal/source/mysql"},
	{"internal/warehouse/lake", "internal/source/lake"},
	{"internal/warehouse/duckdb", "internal/warehouse/postgres", "internal/testkit/plain", "internal/source/postgres",
		"internal/source/mariadb", "internal/source/sqlite"},
	{"internal/warehouse/sqlmerge", "internal/source/mariadb/binlog"},
	{"internal/warehouse", "internal/source"},
	{"internal/source/mariadb/wire", "internal/pgcopy", "internal/pgdial", "internal/lakefiles"},
	{"internal/connection", "internal/statement", "internal/secret"},
	{"internal/core"},
}

// Servers that tests and demo start, and what tests need, may be used by whoever starts them.
var helpers = []string{"internal/testkit", "internal/background", "internal/pgserver", "internal/mariaserver",
	"internal/tempdir"}

// Imports point down only: each part may import those below it, never those above or beside
// it. Every package has its place.
func TestImportsPointDown(t *testing.T) {
	level := func(name string) int {
		best, found := "", -1
		for i, layer := range layers {
			for _, prefix := range layer {
				if (name == prefix || strings.HasPrefix(name, prefix+"/")) && len(prefix) > len(best) {
					best, found = prefix, i
				}
			}
		}
		return found
	}
	helps := func(name string) bool {
		return level(name) < 0 && slices.ContainsFunc(helpers,
			func(h string) bool { return name == h || strings.HasPrefix(name, h+"/") })
	}
	for file, names := range imports(t, "../..") {
		from := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(file, "../../")))
		require.True(t, level(from) >= 0 || helps(from), "%s has no place among the layers", from)
		for _, name := range names {
			to, ours := strings.CutPrefix(name, "noemata/")
			if !ours || helps(from) || helps(to) || to == from {
				continue
			}
			require.GreaterOrEqual(t, level(to), 0, "%s has no place among the layers", to)
			if strings.HasPrefix(from, to+"/") || strings.HasPrefix(to, from+"/") {
				require.LessOrEqual(t, level(from), level(to), "%s imports %s, which is above it", file, name)
				continue
			}
			if level(from) == level(to) && (from == "internal/core" || strings.HasPrefix(from, "internal/core/")) {
				continue // the core's own order is the compiler's
			}
			require.Less(t, level(from), level(to), "%s imports %s, which is not below it", file, name)
		}
	}
}

// sql matches what only a statement has.
var sql = regexp.MustCompile(`(?s)\b(SELECT\s.+\sFROM|INSERT INTO|UPDATE\s\S+\s(AS \w+ )?SET|DELETE FROM|TRUNCATE|` +
	`(CREATE|ALTER|DROP)\s+(TABLE|SCHEMA|INDEX|UNIQUE|VIEW|COLUMN|PUBLICATION|SUBSCRIPTION|FUNCTION|MACRO)|COPY\s.+\s(FROM|TO))\b`)

// Statements for a warehouse are in internal/warehouse, those for a source in
// internal/source, and those for the records in store and jobs. What starts servers, measures
// or shows them, or speaks SQL with others, has statements of its own.
func TestSQLStaysInItsPlace(t *testing.T) {
	places := []string{"internal/warehouse", "internal/source", "internal/store", "internal/jobs", "internal/pgcopy",
		"internal/pgdial",
		"internal/pgserver", "internal/mariaserver", "internal/testkit", "internal/sqlport", "demo", "bench", "tools"}
	seen := 0
	for file := range imports(t, "../..") {
		name := filepath.ToSlash(strings.TrimPrefix(file, "../../"))
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, nil, 0)
		require.NoError(t, err)
		own := slices.ContainsFunc(places, func(p string) bool { return strings.HasPrefix(name, p+"/") })
		ast.Inspect(parsed, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING && sql.MatchString(l.Value) {
				seen++
				require.True(t, own, "%s has a statement: %s", set.Position(l.Pos()), l.Value)
			}
			return true
		})
	}
	require.Greater(t, seen, 100, "the test finds the statements that there are")
}

// The warehouse's seam itself has no word of SQL.
func TestTheSeamHasNoSQL(t *testing.T) {
	files, err := filepath.Glob("../warehouse/*.go")
	require.NoError(t, err)
	for _, file := range files {
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.False(t, !strings.HasSuffix(file, "_test.go") && sql.Match(content), "%s has a statement", file)
	}
}

// screen is how many lines a function may have without saying why.
const screen = 80

func TestFunctionsFitAScreen(t *testing.T) {
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.Name() == "node_modules" {
			return fs.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			if n := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1; n > screen {
				require.Contains(t, f.Doc.Text(), "Longer than a screen: ", "%s of %s has %d lines", f.Name.Name, path, n)
			}
		}
		return nil
	}))
}
