// Package answers asks warehouses in tests.
package answers

import (
	"context"
	"strings"

	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Rows gives the rows of an answer as text, their values parted by |, and ~ for null.
func Rows(ctx context.Context, c warehouse.Conversation, sql string, values ...string) (rows []string, err error) {
	q, err := c.Prepare(ctx, sql)
	if err != nil {
		return nil, err
	}
	given := make([]*string, len(values))
	for i := range values {
		given[i] = &values[i]
	}
	a, err := c.Ask(ctx, q, given)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	for {
		record, err := a.Next(ctx)
		if err != nil || record == nil {
			return rows, err
		}
		for i := range int(record.NumRows()) {
			cells := make([]string, record.NumCols())
			for j, column := range a.Columns() {
				cells[j] = "~"
				if text, ok := schema.CellText(record.Column(j), i, column.Type); ok {
					cells[j] = strings.Clone(text) // it is gone with the record
				}
			}
			rows = append(rows, strings.Join(cells, "|"))
		}
	}
}
