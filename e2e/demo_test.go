package e2e

import (
	"database/sql"
	"os/exec"
	"path/filepath"
	"testing"

	_ "github.com/duckdb/duckdb-go/v2"
	"github.com/stretchr/testify/require"

	"noemata/internal/testkit"
)

// The whole example, without a person: it ends well, and does not once a single row
// was changed by hand in a warehouse.
func TestDemoCheck(t *testing.T) {
	dir := filepath.Join(testkit.Dir(t), "demo")
	check := func() (string, int) {
		c := exec.Command(program, "demo", "--check", "--data", dir)
		out, err := c.CombinedOutput()
		if err != nil {
			require.IsType(t, &exec.ExitError{}, err)
		}
		return string(out), c.ProcessState.ExitCode()
	}
	out, code := check()
	require.Zero(t, code, out)
	require.Regexp(t, `Equal: \d+ rows of 18 tables are the same on both sides, every value of every row\.`, out)
	require.Regexp(t, `(?s)which titles are lent most.*█{10,}.*8 rows`, out)
	require.Regexp(t, `(?s)Asked of both warehouses in one question.*title +loans +changes.*5 rows`, out)

	lake, err := sql.Open("duckdb", filepath.Join(dir, "service", "warehouses", "lake.duckdb"))
	require.NoError(t, err)
	changed, err := lake.Exec("UPDATE circulation.patrons SET note = 'changed by hand' WHERE id = 4711")
	require.NoError(t, err)
	n, err := changed.RowsAffected()
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	var views int
	require.NoError(t, lake.QueryRow("SELECT count(*) FROM duckdb_views() WHERE NOT internal AND schema_name NOT IN ("+
		"'noemata', 'reading')").Scan(&views))
	require.Zero(t, views, "nothing of how rows came in is left in the file")
	require.NoError(t, lake.Close())

	out, code = check()
	require.Equal(t, 3, code, out)
	require.Contains(t, out, `values differ: key ["4711"]`)
	require.Contains(t, out, "NOT equal")
}
