package warehouse

import (
	"fmt"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

var dialect = Dialect{
	Types:    map[schema.Kind]string{schema.Int64: "BIGINT", schema.Text: "VARCHAR", schema.JSON: "JSON", schema.TimestampTZ: "TIMESTAMPTZ"},
	Distinct: func(_ schema.Type, a, b string) string { return a + " IS DISTINCT FROM " + b },
	NoEquals: func(t schema.Type) bool { return t.Kind == schema.JSON },
}

func column(name string, kind schema.Kind) schema.Column {
	return schema.Column{Name: name, Type: schema.Type{Kind: kind}, Native: string(kind)}
}

func target(keep feed.Keep) Target {
	return Target{Name: schema.Name{Schema: `sh"elf`, Table: "loans"}, Keep: keep, Key: []string{"id"}, Unique: true, Names: Names{Run: "nm_run"}, Watermark: []string{"at"},
		Columns: []schema.Column{column("id", schema.Int64), column(`n"ote`, schema.JSON), column("at", schema.TimestampTZ)}, Added: []schema.Column{column("nm_run", schema.Int64)}}
}

func statements(t Target) []string {
	var out []string
	for _, s := range dialect.Merge(t, 7, Has{}) {
		out = append(out, strings.TrimSpace(s.Counter+": "+strings.ReplaceAll(s.SQL, StageName(t), "stage")))
	}
	return out
}

// The statements as they are: one for each action and table, names always quoted.
func TestMergeStatements(t *testing.T) {
	require.Equal(t, []string{
		`updated: UPDATE "sh""elf"."loans" AS t SET "id" = s."id", "n""ote" = s."n""ote", "at" = s."at", "nm_run" = s."nm_run" FROM stage AS s WHERE true AND t."id" = s."id" AND (t."n""ote" IS DISTINCT FROM s."n""ote" OR t."at" IS DISTINCT FROM s."at")`,
		`inserted: INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_run") SELECT s."id", s."n""ote", s."at", s."nm_run" FROM stage AS s WHERE true AND NOT EXISTS (SELECT 1 FROM "sh""elf"."loans" AS t WHERE t."id" = s."id")`,
	}, statements(target(feed.KeepLatest)))
	folded := target(feed.KeepLatest)
	folded.Unique = false
	require.Equal(t, `folded: DELETE FROM stage AS s USING (SELECT "id", max(noemata_row) AS last FROM stage GROUP BY "id") AS l WHERE s."id" = l."id" AND s.noemata_row < l.last`, statements(folded)[0])
	require.Equal(t, []string{
		`inserted: INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_run") SELECT "id", CAST("n""ote" AS JSON), "at", 7 FROM (SELECT "id", CAST("n""ote" AS VARCHAR) AS "n""ote", "at" FROM stage EXCEPT ALL SELECT "id", CAST("n""ote" AS VARCHAR) AS "n""ote", "at" FROM "sh""elf"."loans" WHERE "at" >= (SELECT min("at") FROM stage) AND "at" <= (SELECT max("at") FROM stage)) AS fresh`,
	}, statements(target(feed.KeepLedger)))
	require.Equal(t, []string{
		`: TRUNCATE "sh""elf"."loans"`,
		`inserted: INSERT INTO "sh""elf"."loans" ("id", "n""ote", "at", "nm_run") SELECT "id", "n""ote", "at", "nm_run" FROM stage`,
	}, statements(target(feed.KeepReplace)))
}

func TestMisfitSaysWhatToDo(t *testing.T) {
	lower := strings.ToLower
	dialect := dialect
	dialect.Convert = func(table, column, typeName string) string { return "CONVERT " + table + " " + column + " " + typeName }
	whole := map[string]string{"id": "bigint", `n"ote`: "json", "at": "timestamptz", "nm_run": "bigint", "of the user's own": "text"}
	require.NoError(t, dialect.Misfit(target(feed.KeepLatest), whole, lower))
	delete(whole, `n"ote`)
	err := dialect.Misfit(target(feed.KeepLatest), whole, lower)
	require.True(t, problem.Is(err, problem.Held))
	require.ErrorContains(t, err, `ALTER TABLE "sh""elf"."loans" ADD COLUMN "n""ote" JSON`)
	whole[`n"ote`] = "text"
	require.ErrorContains(t, dialect.Misfit(target(feed.KeepLatest), whole, lower), `n"ote is text and must be JSON`)
	require.ErrorContains(t, dialect.Misfit(target(feed.KeepLatest), whole, lower), `CONVERT "sh""elf"."loans" "n""ote" JSON;`)
}

func batch(ids []int64, aside ...rows.Aside) rows.Batch {
	columns := target(feed.KeepLatest).Columns
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	for _, id := range ids {
		b.Field(0).(*array.Int64Builder).Append(id)
		b.Field(1).AppendNull()
		b.Field(2).AppendNull()
	}
	return rows.Batch{Record: b.NewRecordBatch(), Aside: aside}
}

func TestPartsKeepTheBooks(t *testing.T) {
	p := newPart(Load{Table: "public.loans", Target: target(feed.KeepLatest)}, []string{`["2"]`, `["9"]`})
	require.NoError(t, p.take(batch([]int64{1, 2, 3}, rows.Aside{Key: `["4"]`, Reason: "odd"})))
	require.NoError(t, p.take(batch([]int64{5})))
	require.Equal(t, []string{`["2"]`}, p.healed)
	p.Books.Read = 5
	p.count(Step{Counter: "rewritten"}, 1)
	p.count(Step{Counter: "inserted"}, 3) // the rewritten one among them
	require.NoError(t, p.balance())
	require.Equal(t, rows.Books{Read: 5, SetAside: 1, Updated: 1, Inserted: 2, Unchanged: 1}, p.Books)
}

func TestBooksThatDoNotBalanceStopTheCommit(t *testing.T) {
	p := newPart(Load{Table: "public.loans", Target: target(feed.KeepLatest)}, nil)
	require.NoError(t, p.take(batch([]int64{1})))
	p.Books.Read = 1
	p.count(Step{Counter: "inserted"}, 2)
	require.ErrorContains(t, p.balance(), "The books of public.loans do not balance")
}

func TestTooManyRowsSetAsideHoldTheTable(t *testing.T) {
	p := newPart(Load{Table: "public.loans", Target: target(feed.KeepLatest)}, nil)
	aside := make([]rows.Aside, MostAside+1)
	for i := range aside {
		aside[i] = rows.Aside{Key: fmt.Sprint(i), Reason: "Column fee is NaN."}
	}
	err := p.take(batch(nil, aside...))
	require.True(t, problem.Is(err, problem.Held))
	require.ErrorContains(t, err, "Column fee is NaN.")
}

// Rows that are set aside are written once each, with their values quoted, and the
// log is told only how many there were.
func TestAsideStatements(t *testing.T) {
	note := "O'Malvey's"
	row := rows.Aside{Key: `["4"]`, Row: map[string]*string{"note": &note, "fee": nil}, Reason: "Column fee is NaN."}
	made, shown := AsideStatements(Load{Feed: "f", Table: "public.loans", Run: 7}, []rows.Aside{row, row}, []string{`["2"]`})
	require.Len(t, made, 3)
	require.Contains(t, made[0], "DELETE FROM noemata.set_aside WHERE feed = 'f' AND source_table = 'public.loans' AND digest IN ('"+row.Digest()+"')")
	require.Contains(t, made[1], `key IN ('["2"]')`)
	require.Equal(t, 1, strings.Count(made[2], "O''Malvey''s"))
	require.NotContains(t, shown, "Malvey")
	require.Contains(t, shown, "2 rows set aside, 1 no longer")
}
