package sqlmerge

import (
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Select writes a Query; expression says how a column is selected.
func (d Dialect) Select(q warehouse.Query, expression func(schema.Column) string) (string, error) {
	list := make([]string, len(q.Columns))
	for i, c := range q.Columns {
		list[i] = expression(c)
	}
	// A name alone in ORDER BY would mean the text that is selected.
	sql := "SELECT " + strings.Join(list, ", ") + " FROM " + q.Target.Name.Quoted() + " AS t"
	conditions, err := d.keyIs(q.Target, q.Key)
	if err != nil {
		return "", err
	}
	if holds := Holds(q.Target); q.Holding && holds != "" {
		conditions = append(conditions, holds)
	}
	if len(q.In) > 0 {
		conditions = append(conditions, among(q.In, q.Values))
	}
	for _, bound := range []struct{ operator, value string }{{">", q.After}, {"<=", q.UpTo}} {
		if bound.value != "" {
			conditions = append(conditions, "t."+schema.Quote(q.Target.Key[0])+" "+bound.operator+" CAST("+
				schema.Literal(bound.value)+" AS BIGINT)")
		}
	}
	if q.Since != "" {
		i := slices.IndexFunc(q.Target.Columns, func(c warehouse.Column) bool { return c.Name == q.Target.Watermark[0] })
		conditions = append(conditions, fmt.Sprintf("coalesce(%s) >= CAST(%s AS %s)", schema.QuoteAll("", q.Target.Watermark),
			schema.Literal(q.Since), d.TypeName(q.Target.Columns[i].Type)))
	}
	if len(conditions) > 0 {
		sql += " WHERE " + strings.Join(conditions, " AND ")
	}
	var order []string
	if len(q.Newest) > 0 {
		order = append(order, "coalesce("+schema.QuoteAll("", q.Newest)+") DESC NULLS LAST")
	}
	for _, c := range q.OrderBy {
		order = append(order, "t."+schema.Quote(c))
	}
	if len(order) > 0 {
		sql += " ORDER BY " + strings.Join(order, ", ")
	}
	if q.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d", q.Limit)
	}
	return sql, nil
}

// among is true of rows that have one of several lists of values, given as text, in some columns.
func among(columns []string, values [][]string) string {
	list := make([]string, len(values))
	for i, v := range values {
		texts := make([]string, len(v))
		for k, text := range v {
			texts[k] = schema.Literal(text)
		}
		list[i] = strings.Join(texts, ", ")
		if len(columns) > 1 {
			list[i] = "(" + list[i] + ")"
		}
	}
	left := schema.QuoteAll("t.", columns)
	if len(columns) > 1 {
		left = "(" + left + ")"
	}
	return left + " IN (" + strings.Join(list, ", ") + ")"
}

// keyIs is true of the rows of one key, whose values are given as text.
func (d Dialect) keyIs(t warehouse.Target, values []string) (conditions []string, err error) {
	for i, column := range t.KeyColumns()[:len(values)] {
		value, name := values[i], schema.Quote(column.Name)
		switch column.Type.Kind {
		case schema.Timestamp, schema.TimestampTZ, schema.Date: // their text has several forms
			if _, err := schema.ParseTimestamp(value); err != nil {
				return nil, problem.Newf(problem.Invalid, "Write it as 2026-03-01T09:00:00Z.",
					"%q is no value of the key's column %s.", value, column.Name)
			}
			conditions = append(conditions,
				fmt.Sprintf("%s = CAST(%s AS %s)", name, schema.Literal(value), d.TypeName(column.Type)))
		default:
			conditions = append(conditions, fmt.Sprintf("CAST(%s AS VARCHAR) = %s", name, schema.Literal(value)))
		}
	}
	return conditions, nil
}

// RowsOf is the question for all rows of a table; for all of its columns, where none are given.
func RowsOf(t schema.Table) string {
	if len(t.Columns) == 0 {
		return "SELECT * FROM " + t.Name.Quoted()
	}
	return "SELECT " + schema.QuoteAll("", t.ColumnNames()) + " FROM " + t.Name.Quoted()
}
