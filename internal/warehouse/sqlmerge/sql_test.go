package sqlmerge

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

var dialect = Dialect{
	Types: map[schema.Kind]string{schema.Int64: "BIGINT", schema.Text: "VARCHAR", schema.JSON: "JSON",
		schema.TimestampTZ: "TIMESTAMPTZ", schema.Bool: "BOOLEAN", schema.Int16: "SMALLINT"},
	Distinct: func(_ schema.Type, a, b string) string { return a + " IS DISTINCT FROM " + b },
	NoEquals: func(t schema.Type) bool { return t.Kind == schema.JSON },
}

func column(name string, kind schema.Kind) schema.Column {
	return schema.Column{Name: name, Type: schema.Type{Kind: kind}, Native: string(kind)}
}

func target(keep feed.Keep) warehouse.Target {
	columns := []schema.Column{column("id", schema.Int64), column(`n"ote`, schema.JSON),
		column("at", schema.TimestampTZ)}
	return warehouse.Target{Name: schema.Name{Schema: `sh"elf`, Table: "loans"}, Keep: keep, Key: []string{"id"},
		Unique: true, Prefix: "nm_",
		Watermark: []string{"at"}, Columns: warehouse.ColumnsOf(columns, "nm_", keep, false)}
}

// The statements of every merge as they are, one file for each case: names always quoted.
// After a change, look at what NOEMATA_GOLDEN=write go test ./internal/warehouse/sqlmerge makes of them.
func TestMergeStatements(t *testing.T) {
	log := func(keep feed.Keep) warehouse.Target {
		t := target(keep)
		t.Log, t.Watermark, t.Columns = true, nil, warehouse.ColumnsOf(t.Values(), "nm_", keep, true)
		return t
	}
	twins := target(feed.KeepLatest)
	twins.Unique = false
	sweeps := target(feed.KeepLatest)
	sweeps.Sweeps = true
	gone, into := warehouse.Has{Gone: true}, warehouse.Has{Gone: true, Empty: true}
	rewrites := dialect
	rewrites.Rewrite = true
	for name, x := range map[string]struct {
		dialect Dialect
		target  warehouse.Target
		has     warehouse.Has
	}{
		"latest/by-watermark":         {dialect, target(feed.KeepLatest), warehouse.Has{}},
		"latest/key-not-unique":       {dialect, twins, warehouse.Has{}},
		"latest/swept":                {dialect, sweeps, gone},
		"latest/into-none":            {dialect, sweeps, into},
		"latest/log":                  {dialect, log(feed.KeepLatest), gone},
		"latest/log-unknown-values":   {dialect, log(feed.KeepLatest), warehouse.Has{Gone: true, Unknown: true}},
		"latest/log-rewrites":         {rewrites, log(feed.KeepLatest), gone},
		"soft-delete/log":             {dialect, log(feed.KeepSoftDelete), gone},
		"soft-delete/by-watermark":    {dialect, target(feed.KeepSoftDelete), warehouse.Has{}},
		"replace/whole":               {dialect, target(feed.KeepReplace), warehouse.Has{}},
		"ledger/by-watermark":         {dialect, target(feed.KeepLedger), warehouse.Has{}},
		"ledger/log-replayed":         {dialect, log(feed.KeepLedger), warehouse.Has{Replays: 1767225600000000}},
		"history/by-watermark":        {dialect, target(feed.KeepHistory), gone},
		"history/singles":             {dialect, log(feed.KeepHistory), gone},
		"history/chains":              {dialect, log(feed.KeepHistory), warehouse.Has{Gone: true, Chains: true}},
		"history/chains-that-go-on":   {dialect, log(feed.KeepHistory), warehouse.Has{Gone: true, Continues: true}},
		"history/chains-replayed":     {dialect, log(feed.KeepHistory), warehouse.Has{Gone: true, Replays: 1767225600000000}},
		"latest/log-replayed-unknown": {dialect, log(feed.KeepLatest), warehouse.Has{Unknown: true, Replays: 1767225600000000}},
		"history/singles-and-unknown": {dialect, log(feed.KeepHistory), warehouse.Has{Unknown: true}},
	} {
		t.Run(name, func(t *testing.T) {
			var text strings.Builder
			for _, s := range x.dialect.Merge(x.target, 7, x.has) {
				if s.Counter != None {
					fmt.Fprintf(&text, "-- counts as %s", s.Counter)
				} else {
					text.WriteString("-- counts as nothing")
				}
				text.WriteString(map[When]string{Always: "", Unless: ", unless the step before touched all rows",
					Only: ", only where the step before touched all rows"}[s.When] + "\n")
				text.WriteString(strings.ReplaceAll(s.SQL, StageName(x.target), "stage") + ";\n\n")
			}
			golden(t, filepath.Join("testdata", name+".sql"), text.String())
		})
	}
}

// golden compares a text with a file.
func golden(t *testing.T, file, text string) {
	if os.Getenv("NOEMATA_GOLDEN") == "write" {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), text)
}

func TestMisfitSaysWhatToDo(t *testing.T) {
	lower := strings.ToLower
	dialect := dialect
	dialect.Convert = func(table, column, typeName string) string {
		return "CONVERT " + table + " " + column + " " +
			typeName
	}
	whole := map[string]string{"id": "bigint", `n"ote`: "json", "at": "timestamptz", "nm_run": "bigint",
		"nm_changed_at": "timestamptz", "of the user's own": "text"}
	require.NoError(t, dialect.Misfit(target(feed.KeepLatest), whole, lower))
	delete(whole, `n"ote`)
	err := dialect.Misfit(target(feed.KeepLatest), whole, lower)
	require.True(t, problem.Is(err, problem.Held))
	require.ErrorContains(t, err, `ALTER TABLE "sh""elf"."loans" ADD COLUMN "n""ote" JSON`)
	whole[`n"ote`] = "text"
	require.ErrorContains(t, dialect.Misfit(target(feed.KeepLatest), whole, lower), `n"ote is text and must be JSON`)
	require.ErrorContains(t, dialect.Misfit(target(feed.KeepLatest), whole, lower),
		`CONVERT "sh""elf"."loans" "n""ote" JSON;`)
}

func batch(ids []int64, aside ...rows.Aside) rows.Batch {
	columns := target(feed.KeepLatest).Values()
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	for _, id := range ids {
		b.Field(0).(*array.Int64Builder).Append(id)
		b.Field(1).AppendNull()
		b.Field(2).AppendNull()
	}
	return rows.Batch{Record: b.NewRecordBatch(), Aside: aside}
}

func TestPartsKeepTheBooks(t *testing.T) {
	p := newPart(warehouse.Load{Table: "public.loans", Target: target(feed.KeepLatest)}, []string{`["2"]`, `["9"]`})
	require.NoError(t, p.take(batch([]int64{1, 2, 3}, rows.Aside{Key: `["4"]`, Reason: "odd"})))
	require.NoError(t, p.take(batch([]int64{5})))
	require.Equal(t, []string{`["2"]`}, p.healed)
	p.books.Read = 5
	p.count(Step{Counter: Rewritten}, 1)
	p.count(Step{Counter: Inserted}, 3) // the rewritten one among them
	require.NoError(t, p.balance())
	require.Equal(t, rows.Books{Read: 5, SetAside: 1, Updated: 1, Inserted: 2, Unchanged: 1}, p.books)
}

func TestBooksThatDoNotBalanceStopTheCommit(t *testing.T) {
	p := newPart(warehouse.Load{Table: "public.loans", Target: target(feed.KeepLatest)}, nil)
	require.NoError(t, p.take(batch([]int64{1})))
	p.books.Read = 1
	p.count(Step{Counter: Inserted}, 2)
	require.ErrorContains(t, p.balance(), "The books of public.loans do not balance")
}

func TestTooManyRowsSetAsideHoldTheTable(t *testing.T) {
	p := newPart(warehouse.Load{Table: "public.loans", Target: target(feed.KeepLatest)}, nil)
	aside := make([]rows.Aside, warehouse.MostAside+1)
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
	made, shown := asideStatements(aside{feed: "f", table: "public.loans", run: 7}, []rows.Aside{row, row},
		[]string{`["2"]`})
	require.Len(t, made, 3)
	require.Contains(t, made[0], "DELETE FROM noemata.set_aside WHERE feed = 'f' AND source_table = 'public.loans' "+
		"AND digest IN ('"+row.Digest()+"')")
	require.Contains(t, made[1], `key IN ('["2"]')`)
	require.Equal(t, 1, strings.Count(made[2], "O''Malvey''s"))
	require.NotContains(t, shown, "Malvey")
	require.Contains(t, shown, "2 rows set aside, 1 no longer")
}
