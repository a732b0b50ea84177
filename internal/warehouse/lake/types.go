//go:build duckdb_arrow

package lake

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/apache/iceberg-go"

	"noemata/internal/core/schema"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/sqlmerge"
)

// dialect is DuckDB's, with the types that the format has (Iceberg, Table Spec, Schemas and Data Types): what has no
// place there is kept as text.
var dialect = func() sqlmerge.Dialect {
	d := duckdb.Dialect()
	types := map[schema.Kind]string{}
	for kind, name := range d.Types {
		types[kind] = name
	}
	types[schema.Int16] = "INTEGER"
	types[schema.Interval], types[schema.JSON] = "VARCHAR", "VARCHAR"
	d.Types = types
	d.Comments = ""
	d.DropStage = false // it goes with the working space
	d.AsOf = nil
	return d
}()

// asRead is how a column is read that is kept as another type than the source's.
func asRead(c schema.Column) string {
	name := schema.Quote(c.Name)
	switch c.Type.Kind {
	case schema.Int16:
		return "CAST(" + name + " AS SMALLINT)"
	case schema.Interval:
		return "CAST(" + name + " AS INTERVAL)"
	}
	return name
}

// plainTypes are the format's types by DuckDB's names for them.
var plainTypes = map[string]iceberg.Type{
	"BOOLEAN": iceberg.PrimitiveTypes.Bool, "INTEGER": iceberg.PrimitiveTypes.Int32,
	"BIGINT": iceberg.PrimitiveTypes.Int64,
	"FLOAT":  iceberg.PrimitiveTypes.Float32, "DOUBLE": iceberg.PrimitiveTypes.Float64,
	"VARCHAR": iceberg.PrimitiveTypes.String, "BLOB": iceberg.PrimitiveTypes.Binary, "DATE": iceberg.PrimitiveTypes.Date,
	"TIME": iceberg.PrimitiveTypes.Time, "TIMESTAMP": iceberg.PrimitiveTypes.Timestamp,
	"TIMESTAMP WITH TIME ZONE": iceberg.PrimitiveTypes.TimestampTz, "UUID": iceberg.PrimitiveTypes.UUID,
}

// typeOf gives the format's type of a column that DuckDB describes.
func typeOf(name string) (iceberg.Type, error) {
	if t, ok := plainTypes[name]; ok {
		return t, nil
	}
	if inner, ok := strings.CutPrefix(name, "DECIMAL("); ok {
		p, s, _ := strings.Cut(strings.TrimSuffix(inner, ")"), ",")
		precision, err := strconv.Atoi(p)
		if err == nil {
			var scale int
			if scale, err = strconv.Atoi(s); err == nil {
				return iceberg.DecimalTypeOf(precision, scale), nil
			}
		}
	}
	return nil, fmt.Errorf("the format has no type for %s", name)
}

// nameOf gives DuckDB's name of a type of the format; empty where it has none that Noemata writes.
func nameOf(t iceberg.Type) string {
	if d, is := t.(iceberg.DecimalType); is {
		return fmt.Sprintf("DECIMAL(%d,%d)", d.Precision(), d.Scale())
	}
	for name, plain := range plainTypes {
		if plain.Equals(t) {
			return name
		}
	}
	return ""
}

// boundOf reads the lowest or highest value of a column, which DuckDB has told as text, in the form of a bound of a
// file; nil where it is not kept. A text is cut: what is kept of it is not above the lowest, and there is no highest of
// a long one.
func boundOf(typeName, value string, upper bool) []byte {
	var literal interface{ MarshalBinary() ([]byte, error) }
	switch typeName {
	case "INTEGER":
		n, err := strconv.ParseInt(value, 10, 32)
		if err != nil {
			return nil
		}
		literal = iceberg.Int32Literal(int32(n))
	case "BIGINT":
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return nil
		}
		literal = iceberg.Int64Literal(n)
	case "VARCHAR":
		if len(value) > longestBound {
			if upper {
				return nil
			}
			value = strings.ToValidUTF8(value[:longestBound], "")
		}
		literal = iceberg.StringLiteral(value)
	case "DATE":
		days, err := strconv.ParseInt(value, 10, 32)
		if err != nil {
			return nil
		}
		literal = iceberg.DateLiteral(iceberg.Date(days))
	case "TIMESTAMP", "TIMESTAMP WITH TIME ZONE":
		micros, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return nil
		}
		literal = iceberg.TimestampLiteral(iceberg.Timestamp(micros))
	default:
		return nil
	}
	data, err := literal.MarshalBinary()
	if err != nil {
		return nil
	}
	return data
}

// longestBound is how many bytes of a text are kept as a bound.
const longestBound = 64

// countsOf is an expression of the number that boundOf reads for a moment or a day; empty for other types, whose
// bounds it
// reads as they are.
func countsOf(typeName, value string) string {
	switch typeName {
	case "DATE":
		return "date_diff('day', DATE '1970-01-01', " + value + ")"
	case "TIMESTAMP", "TIMESTAMP WITH TIME ZONE":
		return "epoch_us(" + value + ")"
	}
	return ""
}
