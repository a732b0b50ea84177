//go:build duckdb_arrow

package lake

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

var visits = warehouse.Target{Name: schema.Name{Schema: "kept", Table: "visits"}, Keep: feed.KeepLatest, Prefix: "nm_",
	Key: []string{"id"}, Columns: warehouse.ColumnsOf([]schema.Column{
		{Name: "id", Type: schema.Type{Kind: schema.Int64}}, {Name: "number", Type: schema.Type{Kind: schema.Int32}},
		{Name: "branch", Type: schema.Type{Kind: schema.Text}}, {Name: "day", Type: schema.Type{Kind: schema.Date}},
		{Name: "at", Type: schema.Type{Kind: schema.Timestamp}}, {Name: "seen", Type: schema.Type{Kind: schema.TimestampTZ}},
		{Name: "fee", Type: schema.Type{Kind: schema.Decimal, Precision: 8, Scale: 2}},
		{Name: "ref", Type: schema.Type{Kind: schema.UUID}}, {Name: "cover", Type: schema.Type{Kind: schema.Bytes}}},
		"nm_", feed.KeepLatest, false)}

// dividedBy is a target whose files are divided so.
func dividedBy(t *testing.T, target warehouse.Target, texts ...string) warehouse.Target {
	for _, text := range texts {
		p, err := feed.ParsePartition(text)
		require.NoError(t, err)
		target.Partition = append(target.Partition, p)
	}
	return target
}

// partsAreRight makes sure that each row is in a file of its part, as iceberg-go reckons it, and that deletes are in
// the
// parts of their rows. It gives the number of parts.
func partsAreRight(t *testing.T, w *Warehouse) int {
	t.Helper()
	opened, err := w.connect(t.Context())
	require.NoError(t, err)
	defer opened.Close()
	tbl, err := w.load(t.Context(), opened.(*conn).Conn, visits.Name)
	require.NoError(t, err)
	tasks, err := tbl.Scan().PlanFiles(t.Context())
	require.NoError(t, err)
	parts := map[string]bool{}
	for _, task := range tasks {
		parts[placeOf(task.File)] = true
		for _, d := range task.DeleteFiles {
			require.Equal(t, placeOf(task.File), placeOf(d))
		}
		spec := tbl.Metadata().PartitionSpecByID(int(task.File.SpecID()))
		_, records, err := tbl.Scan().ReadTasks(t.Context(), []table.FileScanTask{task})
		require.NoError(t, err)
		for record, err := range records {
			require.NoError(t, err)
			for _, f := range spec.Fields() {
				field, _ := tbl.Schema().FindFieldByID(f.SourceID())
				values := record.Column(record.Schema().FieldIndices(field.Name)[0])
				for row := range int(record.NumRows()) {
					var want any
					if !values.IsNull(row) {
						var literal iceberg.Literal
						if field.Type.Equals(iceberg.PrimitiveTypes.UUID) || strings.HasPrefix(field.Type.String(), "decimal") {
							literal, err = iceberg.StringLiteral(values.ValueStr(row)).To(field.Type)
						} else {
							literal, err = cellLiteral(column{NestedField: field}, values, row)
						}
						require.NoError(t, err)
						want = f.Transform.Apply(iceberg.Optional[iceberg.Literal]{Val: literal, Valid: true}).Val.Any()
					}
					require.EqualValues(t, fmt.Sprint(want), fmt.Sprint(task.File.Partition()[f.FieldID]), "%s of %s", f.Transform,
						field.Name)
				}
			}
		}
	}
	return len(parts)
}

// Rows of tables that are divided lie in files of their parts, and so do deletes: also after the parts were chosen
// anew,
// and after upkeep. Their values are the same throughout.
//
// Longer than a screen: it is one story of a table.
func TestPartitions(t *testing.T) {
	w, _ := newLake(t)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	change := func() {
		var values []string
		for range 20 {
			values = append(values, fmt.Sprintf("(%d, %s, %s, %s, %s, %s, %s, %s, %s)", r.IntN(200), one("NULL",
				fmt.Sprint(r.IntN(40)-20), "-2147483648"),
				one("NULL", "''", "'Grünau'", "'Grüße'", "'☃☃☃☃☃'", "'x'"), one("NULL", "DATE '1969-12-31'", "DATE '2026-02-28'",
					"DATE '0001-01-01'"),
				one("NULL", "TIMESTAMP '1969-12-31 23:59:59.999999'", "TIMESTAMP '2026-05-01 10:00:00'",
					"TIMESTAMP '9999-12-31 23:59:59'"),
				one("NULL", "TIMESTAMPTZ '2026-03-29 00:30:00.5+02'", "TIMESTAMPTZ '2026-12-31 23:30:00-05'"), one("NULL", "-0.05",
					"12.5", "-99.99", "0"),
				one("NULL", "'00000000-0000-0000-0000-00000000000f'", "'f0000000-0000-4000-8000-000000000000'"),
				one("NULL", "'\\x00\\xFF\\x41'::BLOB", "''::BLOB", "'abcdef'::BLOB")))
		}
		ask(t, w, "DELETE FROM kept.visits WHERE id %% 7 = %d", r.IntN(7))
		ask(t, w, "DELETE FROM kept.visits WHERE id IN (SELECT id FROM (VALUES %s) AS v(id, b, c, d, e, f, g, h, i))",
			strings.Join(values, ", "))
		ask(t, w, "INSERT INTO kept.visits (id, number, branch, day, \"at\", seen, fee, ref, cover) SELECT DISTINCT ON (id) * FROM (VALUES %s) AS v(id, b, c, d, e, f, g, h, i)",
			strings.Join(values, ", "))
	}
	_, err := w.Prepare(t.Context(), visits)
	require.NoError(t, err)
	change()
	for _, by := range [][]string{
		{"month(seen)", "bucket(3, id)", "truncate(2, branch)"}, {"year(day)", "day(at)", "truncate(10, number)"},
		{"hour(seen)", "bucket(4, ref)", "bucket(2, fee)"}, {"truncate(2, cover)", "truncate(50, fee)", "bucket(2, branch)"},
		{"month(day)", "year(at)", "bucket(2, day)", "bucket(2, at)"}, {"day(day)", "bucket(2, cover)", "bucket(3, number)",
			"truncate(7, id)"},
		nil,
	} {
		made, err := w.Prepare(t.Context(), dividedBy(t, visits, by...))
		require.NoError(t, err, "%v", by)
		require.False(t, made)
		for range 2 {
			change()
		}
		require.Positive(t, partsAreRight(t, w), "%v", by)
		before := ask(t, w, "SELECT * FROM kept.visits ORDER BY id")
		require.NoError(t, w.Upkeep(t.Context()))
		require.Equal(t, before, ask(t, w, "SELECT * FROM kept.visits ORDER BY id"), "%v", by)
		parts := partsAreRight(t, w)
		if by == nil {
			require.Equal(t, 1, parts)
		} else {
			require.Greater(t, parts, 1, "%v", by)
		}
	}
	// A column that files were divided by goes.
	_, err = w.Prepare(t.Context(), dividedBy(t, visits, "month(seen)", "bucket(2, id)"))
	require.NoError(t, err)
	change()
	before := ask(t, w, "SELECT id, number FROM kept.visits ORDER BY id")
	ask(t, w, "ALTER TABLE kept.visits DROP COLUMN seen")
	require.Equal(t, before, ask(t, w, "SELECT id, number FROM kept.visits ORDER BY id"))
	ask(t, w, "DELETE FROM kept.visits WHERE id %% 2 = 0")
	require.NoError(t, w.Upkeep(t.Context()))
	ask(t, w, "ALTER TABLE kept.visits ADD COLUMN seen TIMESTAMPTZ")
	_, err = w.Prepare(t.Context(), dividedBy(t, visits, "month(seen)"))
	require.NoError(t, err)
	change()
	partsAreRight(t, w)
	for _, text := range []string{"month(branch)", "hour(day)", "bucket(4, nobody)"} {
		_, err := w.Prepare(t.Context(), dividedBy(t, visits, text))
		require.True(t, problem.Is(err, problem.Invalid), text)
	}
}

// A commit into very many files is refused, and tells what to do.
func TestTooManyParts(t *testing.T) {
	w, _ := newLake(t)
	_, err := w.Prepare(t.Context(), dividedBy(t, visits, "day(day)"))
	require.NoError(t, err)
	c, err := w.connect(t.Context())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Exec(t.Context(), "BEGIN")
	require.NoError(t, err)
	its := c.(*conn).tables
	require.NoError(t, its.Bring(t.Context(), visits.Name, sqlmerge.NoRows))
	_, err = its.Exec(t.Context(),
		"INSERT INTO kept.visits (id, day) SELECT i, DATE '2000-01-01' + CAST(i AS INTEGER) FROM range(3000) t(i)")
	require.NoError(t, err)
	_, err = c.Exec(t.Context(), "COMMIT")
	require.ErrorContains(t, err, "would write 3000 files, and may write 2000")
}
