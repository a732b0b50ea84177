package asking

import (
	"fmt"
	"io"
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/schema"

	core "noemata/internal/core/schema"
)

// rowGroup is how many rows a group of a Parquet file has, about.
const rowGroup = 122_880

// parquetFile writes Apache Parquet (parquet.apache.org/docs/file-format). Its columns are written one by one here: the
// library's own way from Arrow to Parquet brings a whole network with it.
type parquetFile struct {
	columns []core.Column
	w       *file.Writer
	group   file.BufferedRowGroupWriter // nil between two
	rows    int64                       // of the group
}

// plainWriter hides that a writer may be closed.
type plainWriter struct{ io.Writer }

func newParquet(w io.Writer, columns []core.Column) (*parquetFile, error) {
	fields := make(schema.FieldList, len(columns))
	for i, c := range columns {
		var err error
		if fields[i], err = parquetNode(c); err != nil {
			return nil, fmt.Errorf("the column %s in Parquet: %w", c.Name, err)
		}
	}
	root, err := schema.NewGroupNode("rows", parquet.Repetitions.Required, fields, -1)
	if err != nil {
		return nil, err
	}
	p, err := file.NewParquetWriterWithError(plainWriter{w}, root, file.WithWriterProps(parquet.NewWriterProperties(
		parquet.WithCompression(compress.Codecs.Zstd), parquet.WithCreatedBy("noemata"))))
	return &parquetFile{columns: columns, w: p}, err
}

// parquetNode is a column's type (parquet-format, LogicalTypes.md). Intervals have no form that others read, and are
// texts.
func parquetNode(c core.Column) (schema.Node, error) {
	physical, length := parquet.Types.ByteArray, -1
	var logical schema.LogicalType = schema.StringLogicalType{}
	switch c.Type.Kind {
	case core.Bool:
		physical, logical = parquet.Types.Boolean, schema.NoLogicalType{}
	case core.Int16:
		physical, logical = parquet.Types.Int32, schema.NewIntLogicalType(16, true)
	case core.Int32:
		physical, logical = parquet.Types.Int32, schema.NoLogicalType{}
	case core.Int64:
		physical, logical = parquet.Types.Int64, schema.NoLogicalType{}
	case core.Float32:
		physical, logical = parquet.Types.Float, schema.NoLogicalType{}
	case core.Float64:
		physical, logical = parquet.Types.Double, schema.NoLogicalType{}
	case core.Decimal:
		physical, length = parquet.Types.FixedLenByteArray, 16
		logical = schema.NewDecimalLogicalType(int32(c.Type.Precision), int32(c.Type.Scale))
	case core.Bytes:
		logical = schema.NoLogicalType{}
	case core.Date:
		physical, logical = parquet.Types.Int32, schema.DateLogicalType{}
	case core.Time:
		physical, logical = parquet.Types.Int64, schema.NewTimeLogicalType(false, schema.TimeUnitMicros)
	case core.Timestamp, core.TimestampTZ:
		physical = parquet.Types.Int64
		logical = schema.NewTimestampLogicalTypeForce(c.Type.Kind == core.TimestampTZ, schema.TimeUnitMicros)
	case core.UUID:
		physical, length, logical = parquet.Types.FixedLenByteArray, 16, schema.UUIDLogicalType{}
	case core.JSON:
		logical = schema.JSONLogicalType{}
	}
	return schema.NewPrimitiveNodeLogical(c.Name, parquet.Repetitions.Optional, logical, physical, length, -1)
}

func (p *parquetFile) begin() error { return nil }

func (p *parquetFile) add(record arrow.RecordBatch) error {
	if p.group == nil {
		group, err := p.w.AppendBufferedRowGroupChecked()
		if err != nil {
			return err
		}
		p.group, p.rows = group, 0
	}
	for i, c := range p.columns {
		w, err := p.group.Column(i)
		if err == nil {
			err = writeColumn(w, record.Column(i), c.Type)
		}
		if err != nil {
			return fmt.Errorf("the column %s in Parquet: %w", c.Name, err)
		}
	}
	if p.rows += record.NumRows(); p.rows < rowGroup {
		return nil
	}
	return p.endGroup()
}

func (p *parquetFile) endGroup() error {
	if p.group == nil {
		return nil
	}
	err := p.group.Close()
	p.group = nil
	return err
}

func (p *parquetFile) end(bool) error {
	if err := p.endGroup(); err != nil {
		return err
	}
	return p.w.Close()
}

// writeColumn writes the values of a column; a level of 0 says that there is none (parquet-format, Nested Encoding).
func writeColumn(w file.ColumnChunkWriter, column arrow.Array, t core.Type) (err error) {
	levels := make([]int16, column.Len())
	for i := range levels {
		if column.IsValid(i) {
			levels[i] = 1
		}
	}
	switch w := w.(type) {
	case *file.BooleanColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, column.(*array.Boolean).Value), levels, nil)
	case *file.Int32ColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, int32Of(column)), levels, nil)
	case *file.Int64ColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, int64Of(column)), levels, nil)
	case *file.Float32ColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, column.(*array.Float32).Value), levels, nil)
	case *file.Float64ColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, column.(*array.Float64).Value), levels, nil)
	case *file.FixedLenByteArrayColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, fixedOf(column)), levels, nil)
	case *file.ByteArrayColumnChunkWriter:
		_, err = w.WriteBatch(valuesOf(levels, bytesOf(column, t)), levels, nil)
	default:
		err = fmt.Errorf("there is no form for %s", t)
	}
	return err
}

// valuesOf gathers the values that there are.
func valuesOf[T any](levels []int16, value func(int) T) []T {
	values := make([]T, 0, len(levels))
	for i, level := range levels {
		if level == 1 {
			values = append(values, value(i))
		}
	}
	return values
}

func int32Of(column arrow.Array) func(int) int32 {
	switch c := column.(type) {
	case *array.Int16:
		return func(i int) int32 { return int32(c.Value(i)) }
	case *array.Date32:
		return func(i int) int32 { return int32(c.Value(i)) }
	}
	return column.(*array.Int32).Value
}

func int64Of(column arrow.Array) func(int) int64 {
	switch c := column.(type) {
	case *array.Time64:
		return func(i int) int64 { return int64(c.Value(i)) }
	case *array.Timestamp:
		return func(i int) int64 { return int64(c.Value(i)) }
	}
	return column.(*array.Int64).Value
}

func fixedOf(column arrow.Array) func(int) parquet.FixedLenByteArray {
	if c, ok := column.(*array.Decimal128); ok {
		return func(i int) parquet.FixedLenByteArray { return bigEndian(c.Value(i)) }
	}
	return func(i int) parquet.FixedLenByteArray { return column.(*array.FixedSizeBinary).Value(i) }
}

// bigEndian is a number's two's complement, the highest byte first.
func bigEndian(n decimal128.Num) []byte {
	b := make([]byte, 16)
	for i := range 8 {
		b[i] = byte(uint64(n.HighBits()) >> (56 - 8*i) & math.MaxUint8)
		b[8+i] = byte(n.LowBits() >> (56 - 8*i) & math.MaxUint8)
	}
	return b
}

func bytesOf(column arrow.Array, t core.Type) func(int) parquet.ByteArray {
	switch c := column.(type) {
	case *array.Binary:
		return func(i int) parquet.ByteArray { return c.Value(i) }
	case *array.String:
		return func(i int) parquet.ByteArray { return []byte(c.Value(i)) }
	}
	return func(i int) parquet.ByteArray {
		text, _ := core.CellText(column, i, t)
		return []byte(text)
	}
}
