package engine_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// A first load of rows as they are, and the same rows hashed, masked, filtered and taken apart:
//
//	go test ./internal/engine -run xxx -bench Shaped -benchtime 3x
func BenchmarkShaped(b *testing.B) {
	const rows = 300_000
	for _, kind := range []string{duckdb.Kind, pgwarehouse.Kind} {
		w := newWorkbench(b, kind)
		w.exec(`CREATE TABLE visits (id bigint PRIMARY KEY, branch text, email text, phone text, fee numeric(8,2), doc jsonb,
			at timestamptz NOT NULL)`)
		w.exec(`INSERT INTO visits SELECT i, 'Grünau', 'reader' || i || '@post.example', '0170' || i, i % 90,
			json_build_object('city', 'Dornheim', 'postal', json_build_object('code', i % 9000), 'floor', i % 9), now()
			FROM generate_series(1, ` + fmt.Sprint(rows) + `) i; ANALYZE visits`)
		plain := feed.Table{Table: "public.visits", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at", Settle: "0s"}}
		shaped := plain
		shaped.Where = `branch == "Grünau" && fee >= 0`
		shaped.Columns = map[string]feed.Treatment{"email": {Hash: "people"},
			"phone": {Mask: feed.MaskKeepLast, Count: 3},
			"doc": {Take: map[string]feed.Path{"city": {Path: "$.city"}, "code": {Path: "$.postal.code", Type: "int32"},
				"floor": {Path: "$.floor", Type: "int32"}}}}
		n := 0
		for _, x := range []struct {
			name  string
			table feed.Table
		}{{"plain", plain}, {"shaped", shaped}} {
			b.Run(kind+"/"+x.name, func(b *testing.B) {
				for range b.N {
					n++
					x.table.Target = fmt.Sprintf("kept.visits_%d", n)
					w.feed.Name = fmt.Sprintf("feed-%d", n)
					out, err := w.engine.Run(b.Context(), w.work(x.table))
					require.NoError(b, err)
					require.EqualValues(b, rows, out.Books.Inserted)
				}
				b.ReportMetric(float64(rows)*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
			})
		}
	}
}
