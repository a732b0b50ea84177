package compare

import (
	"fmt"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/schema"
)

// What the first look costs for each row, of five columns.
func BenchmarkSums(b *testing.B) {
	columns := []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int64}}, {Name: "branch", Type: schema.Type{Kind: schema.Text}},
		{Name: "email", Type: schema.Type{Kind: schema.Text}}, {Name: "fee", Type: schema.Type{Kind: schema.Int32}},
		{Name: "at", Type: schema.Type{Kind: schema.TimestampTZ}}}
	builder := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	const rows = 50_000
	for i := range rows {
		builder.Field(0).(*array.Int64Builder).Append(int64(i))
		builder.Field(1).(*array.StringBuilder).Append(fmt.Sprint("branch ", i%90))
		builder.Field(2).(*array.StringBuilder).Append(fmt.Sprintf("reader%d@post.example", i))
		builder.Field(3).(*array.Int32Builder).Append(int32(i % 90))
		builder.Field(4).(*array.TimestampBuilder).Append(arrow.Timestamp(i * 1_000_000))
	}
	record := builder.NewRecordBatch()
	sums := New(columns, []int{0}).Sums()
	b.ResetTimer()
	for b.Loop() {
		sums.Add(record, nil)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/rows, "ns/row")
}
