//go:build duckdb_arrow

package duckdb

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/testkit/answers"
	"noemata/internal/warehouse"
)

// What nests without an end is refused before it is planned, and harms nothing.
func TestQuestionsThatNestDeeply(t *testing.T) {
	c := converse(t, library(t), everyone)
	for _, n := range []int{60, 900, 30_000} {
		r := func(s string) string { return strings.Repeat(s, n) }
		for name, sql := range map[string]string{
			"parentheses": "SELECT " + r("(") + "1" + r(")"), "not": "SELECT " + r("NOT ") + "true",
			"minus": "SELECT " + r("- ") + "1", "lists": "SELECT " + r("[") + r("]"), "casts": "SELECT 1" + r("::INTEGER"),
			"questions": r("SELECT * FROM (") + "SELECT 1" + r(")"), "plus": "SELECT 1" + r(" + 1"),
			"cases": "SELECT " + r("CASE WHEN true THEN ") + "1" + r(" END"), "functions": "SELECT " + r("abs(") + "1" + r(")"),
			"structs": "SELECT " + r("{'a': ") + "1" + r("}"), "places": "SELECT [1]" + r("[1:1]"),
			"joins": "SELECT 1 FROM range(1)" + r(", range(1)"), "unions": "SELECT 1" + r(" UNION ALL SELECT 1"),
		} {
			if n == 30_000 && (name == "joins" || name == "unions") {
				continue
			}
			_, err := answers.Rows(t.Context(), c, sql)
			var m *warehouse.Mistake
			require.True(t, err == nil || errors.As(err, &m), "%d %s: %v", n, name, err)
		}
	}
	chain := "1" + strings.Repeat(" + 1", 150)
	_, err := answers.Rows(t.Context(), c, "SELECT "+chain)
	require.NoError(t, err)
	_, err = answers.Rows(t.Context(), c, "SELECT "+chain+strings.Repeat(", "+chain, 100))
	require.ErrorContains(t, err, "nests too deep", "nor are there many that are deep")
	_, err = answers.Rows(t.Context(), c, "SELECT '"+strings.Repeat("x", 300_000)+"'")
	require.ErrorContains(t, err, "100000 at most")
	_, err = answers.Rows(t.Context(), c, "SELECT 1 IN (1"+strings.Repeat(", 1", 30_000)+")")
	require.NoError(t, err, "lists may be long")
	rows, err := answers.Rows(t.Context(), c, "SELECT 1")
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, rows)
}
