//go:build duckdb_arrow

package lake

import (
	"context"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	duckdbgo "github.com/duckdb/duckdb-go/v2"
	"github.com/google/uuid"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// The files of a table can be divided by what is in columns (Iceberg, Table Spec, Partitioning): each then has rows of
// one part, and whoever asks for some parts reads no others. A change of it is about files that are written from then
// on; upkeep writes the others anew.

// Prepare makes a target, or finds it fit, and has its files divided as it says.
func (w *Warehouse) Prepare(ctx context.Context, t warehouse.Target) (made bool, err error) {
	if made, err = w.Base.Prepare(ctx, t); err != nil {
		return made, err
	}
	wanted := fmt.Sprint(t.Partition)
	if was, known := w.divided.Load(t.Name); known && was == wanted && !made {
		return made, nil
	}
	err = w.change(ctx, t.Name, true, func(_ *tables, _ *local, tbl *table.Table) (*table.Transaction, error) {
		return divide(tbl, t)
	})
	if err == nil {
		w.divided.Store(t.Name, wanted)
	}
	return made, err
}

// divide changes what the files of a table are divided by, where it is another; nil where it is not.
func divide(tbl *table.Table, t warehouse.Target) (*table.Transaction, error) {
	spec := tbl.Spec()
	has := map[string]string{} // names of fields, by what they are of
	for _, f := range spec.Fields() {
		if column, ok := tbl.Schema().FindColumnName(f.SourceID()); ok && f.Transform.String() != "void" {
			has[f.Transform.String()+" "+column] = f.Name
		}
	}
	tx := tbl.NewTransaction()
	update, changes := tx.UpdateSpec(true), false
	for _, p := range t.Partition {
		field, _ := tbl.Schema().FindFieldByName(p.Column)
		by := transformOf(p)
		if field.Type == nil || !by.CanTransform(field.Type) {
			return nil, problem.Newf(problem.Invalid,
				"Choose another column, or another way: a day of a date, a bucket of a number.",
				"The files of %s cannot be divided by %s of the column %s.", t.Name.Display(), p.By, p.Column)
		}
		what := by.String() + " " + p.Column
		if _, there := has[what]; there {
			delete(has, what)
			continue
		}
		name := p.Column + "_" + p.By
		if p.N > 0 {
			name += fmt.Sprintf("_%d", p.N)
		}
		if _, taken := tbl.Schema().FindFieldByName(name); taken {
			name += "_part"
		}
		update, changes = update.AddField(p.Column, by, name), true
	}
	for _, name := range has {
		update, changes = update.RemoveField(name), true
	}
	if !changes {
		return nil, nil
	}
	return tx, update.Commit()
}

func transformOf(p feed.Partition) iceberg.Transform {
	switch p.By {
	case "year":
		return iceberg.YearTransform{}
	case "month":
		return iceberg.MonthTransform{}
	case "day":
		return iceberg.DayTransform{}
	case "hour":
		return iceberg.HourTransform{}
	case "bucket":
		return iceberg.BucketTransform{NumBuckets: p.N}
	}
	return iceberg.TruncateTransform{Width: p.N}
}

// placeOf tells files of one part of a table from others.
func placeOf(file iceberg.DataFile) string {
	values := file.Partition()
	ids := make([]int, 0, len(values))
	for id := range values {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	text := fmt.Sprint(file.SpecID())
	for _, id := range ids {
		text += fmt.Sprintf(" %d=%T %[2]v", id, values[id])
	}
	return text
}

// logicalTypes are Avro's names for the types of what files are divided by, where they are more than a number or a
// text.
func logicalTypes(tbl *table.Table, spec iceberg.PartitionSpec) map[int]string {
	types := map[int]string{}
	for _, f := range spec.Fields() {
		source, ok := tbl.Schema().FindFieldByID(f.SourceID())
		if !ok {
			continue
		}
		switch f.Transform.ResultType(source.Type).(type) {
		case iceberg.DateType:
			types[f.FieldID] = "date"
		case iceberg.DecimalType:
			types[f.FieldID] = "decimal"
		}
	}
	return types
}

// piece is rows that go into one file.
type piece struct {
	from   string
	values map[int]any // what it is a part by, by the fields of the table's spec
}

// mostPieces is how many files one commit may write into a table.
const mostPieces = 2000

// pieces divides rows by what the files of a table are divided by.
func (t *tables) pieces(ctx context.Context, tbl *table.Table, has []column, from string) ([]piece, error) {
	spec := tbl.Spec()
	var fields []iceberg.PartitionField
	for _, f := range spec.Fields() {
		fields = append(fields, f)
	}
	t.numbers++
	rows, parts := fmt.Sprintf("main.noemata_divided_%d", t.numbers), fmt.Sprintf("main.noemata_parts_%d", t.numbers)
	names := make([]string, len(has))
	for i, c := range has {
		names[i] = "t." + schema.Quote(c.Name)
	}
	var by, same, sources []string
	for i, f := range fields {
		source, ok := columnOf(has, f.SourceID())
		if !ok {
			return nil, fmt.Errorf("the table is divided by a column that it does not have")
		}
		by = append(by, fmt.Sprintf("%s AS noemata_part_%d", partOf(f.Transform, source), i))
		same = append(same, fmt.Sprintf("p.noemata_part_%d IS NOT DISTINCT FROM t.noemata_part_%[1]d", i))
		sources = append(sources, "any_value(t."+schema.Quote(source.Name)+")")
	}
	if _, err := t.Exec(ctx, fmt.Sprintf("CREATE TABLE %s_all AS SELECT %s, %s FROM %s", rows, strings.Join(names, ", "),
		strings.Join(by, ", "), from)); err != nil {
		return nil, err
	}
	for i, f := range fields {
		if bucket, is := f.Transform.(iceberg.BucketTransform); is {
			source, _ := columnOf(has, f.SourceID())
			if err := t.buckets(ctx, rows+"_all", fmt.Sprintf("noemata_part_%d", i), source, bucket); err != nil {
				return nil, err
			}
		}
	}
	for _, sql := range []string{
		fmt.Sprintf("CREATE TABLE %s AS SELECT CAST(row_number() OVER () AS BIGINT) AS n, * FROM (SELECT DISTINCT COLUMNS('^noemata_part_') FROM %s_all)",
			parts, rows),
		fmt.Sprintf("CREATE TABLE %s AS SELECT t.*, p.n AS noemata_part FROM %[1]s_all AS t JOIN %s AS p ON %s ORDER BY p.n",
			rows, parts,
			strings.Join(same, " AND ")),
		fmt.Sprintf("DROP TABLE %s_all", rows),
	} {
		if _, err := t.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	found, err := t.Ask(ctx, fmt.Sprintf("SELECT t.noemata_part, %s FROM %s AS t GROUP BY 1 ORDER BY 1",
		strings.Join(sources, ", "), rows))
	if err != nil {
		return nil, err
	}
	if len(found) > mostPieces {
		return nil, problem.Newf(problem.Held, "Divide them less finely: partition: [month(c)] instead of day(c).",
			"One commit to %s would write %d files, and may write %d.", strings.Join(tbl.Identifier(), "."), len(found),
			mostPieces)
	}
	list := make([]piece, len(found))
	for i, row := range found {
		list[i] = piece{from: fmt.Sprintf("%s AS t WHERE t.noemata_part = %d", rows, row[0]), values: map[int]any{}}
		for k, f := range fields {
			source, _ := columnOf(has, f.SourceID())
			if list[i].values[f.FieldID], err = partValue(f.Transform, source, row[k+1]); err != nil {
				return nil, err
			}
		}
	}
	return list, nil
}

func columnOf(has []column, id int) (column, bool) {
	i := slices.IndexFunc(has, func(c column) bool { return c.ID == id })
	if i < 0 {
		return column{}, false
	}
	return has[i], true
}

// partOf is an expression that is the same for rows of one part. That of a bucket is found out later.
func partOf(by iceberg.Transform, source column) string {
	name := "t." + schema.Quote(source.Name)
	if source.duckdb == "TIMESTAMP WITH TIME ZONE" {
		name = "(" + name + " AT TIME ZONE 'UTC')"
	}
	switch x := by.(type) {
	case iceberg.YearTransform, iceberg.MonthTransform, iceberg.DayTransform, iceberg.HourTransform:
		// Infinite times, which have no year, are a part of their own: they travel as the largest and smallest values.
		return fmt.Sprintf("CASE WHEN isfinite(%s) THEN date_trunc('%s', CAST(%[1]s AS TIMESTAMP)) ELSE CAST(%[1]s AS TIMESTAMP) END", name, by)
	case iceberg.TruncateTransform:
		switch {
		case source.duckdb == "VARCHAR":
			return fmt.Sprintf("left(%s, %d)", name, x.Width)
		case source.duckdb == "BLOB":
			return fmt.Sprintf("left(hex(%s), %d)", name, 2*x.Width)
		case strings.HasPrefix(source.duckdb, "DECIMAL"):
			name = "CAST(replace(CAST(" + name + " AS VARCHAR), '.', '') AS HUGEINT)" // its digits
		default:
			name = "CAST(" + name + " AS HUGEINT)"
		}
		return fmt.Sprintf("%s - (((%[1]s %% %d) + %[2]d) %% %[2]d)", name, x.Width)
	}
	return "CAST(NULL AS INTEGER)"
}

// buckets fills a column of a table of rows with the buckets that they are in (Iceberg, Table Spec, Appendix B).
func (t *tables) buckets(ctx context.Context, rows, into string, source column, by iceberg.BucketTransform) error {
	t.numbers++
	beside := fmt.Sprintf("main.noemata_buckets_%d", t.numbers)
	columns := []schema.Column{{Name: "n", Type: schema.Type{Kind: schema.Int64}}, {Name: "bucket",
		Type: schema.Type{Kind: schema.Int32}}}
	if _, err := t.Exec(ctx, "CREATE TABLE "+beside+" (n BIGINT, bucket INTEGER)"); err != nil {
		return err
	}
	value := "t." + schema.Quote(source.Name)
	if strings.HasPrefix(source.duckdb, "DECIMAL") || source.duckdb == "UUID" {
		value = "CAST(" + value + " AS VARCHAR)"
	}
	// Numbers of rows that were not committed begin far up.
	ends, err := t.Ask(ctx, "SELECT coalesce(min(rowid), 0), coalesce(max(rowid), -1) FROM "+rows)
	if err != nil {
		return err
	}
	for from := ends[0][0].(int64); from <= ends[0][1].(int64); from += bucketsAtOnce {
		sql := fmt.Sprintf("SELECT CAST(rowid AS BIGINT), %s FROM %s AS t WHERE rowid >= %d AND rowid < %d AND %[1]s IS NOT NULL",
			value, rows, from, from+bucketsAtOnce)
		b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
		if err := t.work.Select(ctx, sql, func(record arrow.RecordBatch) error {
			return bucketsOf(record, source, by, b)
		}); err != nil {
			b.Release()
			return err
		}
		record := b.NewRecordBatch()
		b.Release()
		err := t.Insert(ctx, beside, columns, record, nil)
		record.Release()
		if err != nil {
			return err
		}
	}
	_, err = t.Exec(ctx, fmt.Sprintf("UPDATE %s AS t SET %s = b.bucket FROM %s AS b WHERE b.n = t.rowid", rows, into,
		beside))
	return err
}

// bucketsAtOnce is how many rows are given their buckets at once.
const bucketsAtOnce = 500_000

// bucketsOf gathers the numbers of rows, and the buckets that they are in.
func bucketsOf(record arrow.RecordBatch, source column, by iceberg.BucketTransform, to *array.RecordBuilder) error {
	numbers := record.Column(0).(*array.Int64)
	for row := range int(record.NumRows()) {
		literal, err := cellLiteral(source, record.Column(1), row)
		if err != nil {
			return err
		}
		to.Field(0).(*array.Int64Builder).Append(numbers.Value(row))
		to.Field(1).(*array.Int32Builder).Append(
			by.Apply(iceberg.Optional[iceberg.Literal]{Val: literal, Valid: true}).Val.Any().(int32))
	}
	return nil
}

// partValue is what a part is called by, from one of its values.
func partValue(by iceberg.Transform, source column, value any) (any, error) {
	if value == nil {
		return nil, nil
	}
	literal, err := literalOf(source, value)
	if err != nil {
		return nil, err
	}
	of := by.Apply(iceberg.Optional[iceberg.Literal]{Val: literal, Valid: true})
	if !of.Valid {
		return nil, fmt.Errorf("the format has no %s of %v", by, value)
	}
	return of.Val.Any(), nil
}

// literalOf is a value as DuckDB gives it, in the form that the format's transforms take.
func literalOf(source column, value any) (iceberg.Literal, error) {
	switch v := value.(type) {
	case int32:
		return iceberg.Int32Literal(v), nil
	case int64:
		return iceberg.Int64Literal(v), nil
	case string:
		return iceberg.StringLiteral(v), nil
	case time.Time:
		switch source.duckdb {
		case "DATE":
			return iceberg.DateLiteral(iceberg.Date(v.Unix() / (24 * 3600))), nil
		case "TIMESTAMP", "TIMESTAMP WITH TIME ZONE":
			return iceberg.TimestampLiteral(iceberg.Timestamp(v.UnixMicro())), nil
		}
	case []byte:
		if source.duckdb == "UUID" {
			id, err := uuid.FromBytes(v)
			return iceberg.UUIDLiteral(id), err
		}
		return iceberg.BinaryLiteral(v), nil
	case duckdbgo.Decimal:
		return decimalLiteral(v.Value, int(v.Scale))
	}
	return nil, fmt.Errorf("the column %s of the type %s cannot divide files", source.Name, source.duckdb)
}

func decimalLiteral(v *big.Int, scale int) (iceberg.Literal, error) {
	if v.BitLen() > 127 {
		return nil, errors.New("a number has more than 38 digits")
	}
	return iceberg.DecimalLiteral{Val: decimal128.FromBigInt(v), Scale: scale}, nil
}

// cellLiteral is a value of a record in that form.
func cellLiteral(source column, values arrow.Array, row int) (iceberg.Literal, error) {
	switch x := values.(type) {
	case *array.Int32:
		return iceberg.Int32Literal(x.Value(row)), nil
	case *array.Int64:
		return iceberg.Int64Literal(x.Value(row)), nil
	case *array.Date32:
		return iceberg.DateLiteral(iceberg.Date(x.Value(row))), nil
	case *array.Time64:
		return iceberg.TimeLiteral(iceberg.Time(x.Value(row))), nil
	case *array.Timestamp:
		return iceberg.TimestampLiteral(iceberg.Timestamp(x.Value(row))), nil
	case *array.Binary:
		return iceberg.BinaryLiteral(x.Value(row)), nil
	case array.StringLike:
		text := x.Value(row)
		switch t := source.Type.(type) {
		case iceberg.UUIDType:
			id, err := uuid.Parse(text)
			return iceberg.UUIDLiteral(id), err
		case iceberg.DecimalType:
			n, err := decimal128.FromString(text, int32(t.Precision()), int32(t.Scale())) //nolint:gosec // at most 38
			return iceberg.DecimalLiteral{Val: n, Scale: t.Scale()}, err
		}
		return iceberg.StringLiteral(text), nil
	}
	return nil, fmt.Errorf("the column %s of the type %s cannot divide files", source.Name, source.duckdb)
}
