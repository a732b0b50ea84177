//go:build duckdb_arrow

package duckdb

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

func openAt(t *testing.T, path string) *Warehouse {
	w, err := Open(connection.Settings{Path: path}, `warehouse "lake"`)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w.(*Warehouse)
}

// makes runs statements as one transaction.
func makes(ctx context.Context, w warehouse.Warehouse, statements ...string) error {
	return w.(*Warehouse).exclusive(ctx, func(c sqlmerge.Conn) error {
		for _, sql := range statements {
			if _, err := c.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	})
}

// begun is a connection within a transaction.
func begun(t *testing.T, w warehouse.Warehouse) sqlmerge.Conn {
	c, err := w.(*Warehouse).connect(context.Background())
	require.NoError(t, err)
	_, err = c.Exec(context.Background(), "BEGIN")
	require.NoError(t, err)
	return c
}

// Options of DuckDB are those of the program: none comes from a path.
func TestAPathHoldsNoOptions(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"lake.duckdb?allow_unsigned_extensions=true&autoinstall_known_extensions=true&custom_extension_repository=http://127.0.0.1:1",
		"lake.duckdb?", "lake.duckdb#fragment", "lake%2e.duckdb"} {
		_, err := Open(connection.Settings{Path: filepath.Join(dir, name)}, `warehouse "lake"`)
		require.Equal(t, problem.Invalid, problem.Of(err).Code, name)
	}
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left)
}

// Whatever SQL came to be run: it reaches no other file, loads no code and changes no setting.
func TestAFileIsAllThatDuckDBReaches(t *testing.T) {
	dir := t.TempDir()
	other := filepath.Join(dir, "other.csv")
	require.NoError(t, os.WriteFile(other, []byte("copy\nC1\n"), 0o600))
	w, ctx := openAt(t, filepath.Join(dir, "lake.duckdb")), context.Background()
	require.NoError(t, makes(ctx, w, `CREATE TABLE copies ("copy" VARCHAR)`))
	for _, sql := range []string{
		fmt.Sprintf("SELECT * FROM read_csv('%s')", other),
		fmt.Sprintf("SELECT * FROM '%s'", other),
		fmt.Sprintf("SELECT * FROM glob('%s/*')", dir),
		fmt.Sprintf("COPY copies TO '%s'", filepath.Join(dir, "out.csv")),
		fmt.Sprintf("COPY copies FROM '%s'", other),
		fmt.Sprintf("ATTACH '%s' AS other", filepath.Join(dir, "attached.duckdb")),
		fmt.Sprintf("EXPORT DATABASE '%s'", filepath.Join(dir, "out")),
		"INSTALL httpfs", "LOAD httpfs", fmt.Sprintf("LOAD '%s'", other),
		"SELECT * FROM 'http://127.0.0.1:1/x.parquet'",
		"SET enable_external_access = true", "SET autoload_known_extensions = true", "SET memory_limit = '10GB'",
		"SET lock_configuration = false",
		"SET temp_directory = '/tmp'", "RESET allow_unsigned_extensions", "SET TimeZone = 'Europe/Vienna'",
	} {
		_, err := w.Ask(ctx, sql)
		require.Error(t, err, sql)
	}
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Subset(t, []string{other, w.file.path, w.file.path + ".wal", w.file.path + ".tmp"}, left)
	for name, value := range map[string]string{"TimeZone": "UTC", "autoinstall_known_extensions": "false",
		"allow_community_extensions": "false", "allow_unsigned_extensions": "false"} {
		found, err := w.Ask(ctx, "SELECT current_setting('"+name+"')::VARCHAR")
		require.NoError(t, err)
		require.Equal(t, value, found[0][0], name)
	}
}

// Looking whether a warehouse could be made makes none.
func TestTryingLeavesNothingBehind(t *testing.T) {
	dir := t.TempDir()
	version, err := openAt(t, filepath.Join(dir, "deep", "er", "lake.duckdb")).Test(context.Background())
	require.NoError(t, err)
	require.Contains(t, version, "DuckDB")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	_, err = openAt(t, filepath.Join(dir, "file", "lake.duckdb")).Test(context.Background())
	require.ErrorContains(t, err, "is not a folder")
}

// What is made is made whole or not at all, however it is interrupted.
func TestStatementsThatMakeAreOneTransaction(t *testing.T) {
	w, ctx := openAt(t, filepath.Join(t.TempDir(), "lake.duckdb")), context.Background()
	require.NoError(t, makes(ctx, w, `CREATE TABLE copies ("copy" VARCHAR)`, "INSERT INTO copies VALUES ('C1')"))
	err := makes(ctx, w, "ALTER TABLE copies ADD COLUMN current BOOLEAN", "UPDATE copies SET current = true",
		"SELECT * FROM missing")
	require.Error(t, err)
	columns, err := w.Ask(ctx, "SELECT column_name FROM duckdb_columns() WHERE table_name = 'copies'")
	require.NoError(t, err)
	require.Len(t, columns, 1)
}
