//go:build duckdb_arrow

package duckdb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/schema"
)

// digestOf is an expression over rows: a text that is another one when they are others, but for one chance in 2^64. The
// columns are named one by one: where a column is called like the rows themselves, DuckDB takes it for them.
func digestOf(columns []schema.Column) string {
	values := make([]string, len(columns))
	for i, c := range columns {
		values[i] = exact("", c)
	}
	row := "hash(" + strings.Join(values, ", ") + ")"
	return fmt.Sprintf("count(*) || ' ' || coalesce(bit_xor(%s), 0) || ' ' || coalesce(sum(%[1]s), 0)", row)
}

// exact is a column, in a form in which values differ that are equal and yet not the same, such as 0 and -0.
func exact(of string, c schema.Column) string {
	name := of + schema.Quote(c.Name)
	if slices.ContainsFunc([]string{"FLOAT", "DOUBLE", "INTERVAL", "TIME WITH TIME ZONE", "[", "STRUCT", "MAP", "UNION"},
		func(part string) bool {
			return strings.Contains(c.Native, part) && c.Native != "TIMESTAMP WITH TIME ZONE"
		}) {
		return "CAST(" + name + " AS VARCHAR)"
	}
	return name
}

// formOf tells columns from others by their names and types.
func formOf(columns []schema.Column) string {
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = schema.Quote(c.Name) + " " + c.Native
	}
	return strings.Join(list, ", ")
}

// described are the columns of a table, each with DuckDB's name for its type.
func (c *conn) described(ctx context.Context, table string) (columns []schema.Column, err error) {
	found, err := c.Ask(ctx, "DESCRIBE "+table)
	for _, row := range found {
		columns = append(columns, schema.Column{Name: row[0].(string), Native: row[1].(string)})
	}
	return columns, err
}
