//go:build duckdb_arrow

package lake

import (
	"strconv"

	"github.com/apache/iceberg-go"

	"noemata/internal/core/feed"
)

// controlSchema is the namespace of tables that are not for those who read the lake.
const controlSchema = feed.ControlSchema

// between is the filter of rows whose column is between two values, which are told as text; of all, where its type has
// no bounds.
func between(f iceberg.NestedField, low, high string) iceberg.BooleanExpression {
	column := iceberg.Reference(f.Name)
	switch f.Type {
	case iceberg.PrimitiveTypes.Int32, iceberg.PrimitiveTypes.Int64:
		from, err := strconv.ParseInt(low, 10, 64)
		to, also := strconv.ParseInt(high, 10, 64)
		if err == nil && also == nil {
			return iceberg.NewAnd(iceberg.GreaterThanEqual(column, from), iceberg.LessThanEqual(column, to))
		}
	case iceberg.PrimitiveTypes.String:
		return iceberg.NewAnd(iceberg.GreaterThanEqual(column, low), iceberg.LessThanEqual(column, high))
	}
	return nil
}
