package compare

import (
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/schema"
)

// A comparison of more rows than it has memory for ends, and judges nothing.
func TestABudgetEndsAComparison(t *testing.T) {
	columns := []schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int64}}}
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	defer b.Release()
	for i := range 1000 {
		b.Field(0).(*array.Int64Builder).Append(int64(i))
	}
	record := b.NewRecordBatch()
	defer record.Release()
	here := func(int) bool { return false }
	c := New(columns, []int{0})
	c.budget = 1000 * (perRow + 10)
	require.NoError(t, c.Source(record, here))
	require.NoError(t, c.Warehouse(record), "what is equal takes no more")
	require.True(t, c.Result().Same())
	c = New(columns, []int{0})
	c.budget = 1000 * perRow
	require.ErrorIs(t, c.Source(record, here), ErrBudget)
	c = New(columns, []int{0})
	c.budget = 1000 * perRow
	require.ErrorIs(t, c.Warehouse(record), ErrBudget, "nor do rows that only the warehouse has fill the memory")
}
