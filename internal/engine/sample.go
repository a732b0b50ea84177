package engine

import (
	"context"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// Sample is rows of both sides, each value as text; nil is null.
type Sample struct {
	Columns   []string // of the source
	Added     []string // that only the warehouse has; they come after the others
	Source    [][]*string
	Warehouse [][]*string
}

// longestValue is how much of a value a sample shows, in bytes.
const longestValue = 500

// TakeSample reads the newest rows of both sides, by watermark where there is one.
func TakeSample(ctx context.Context, w Work, limit int64) (Sample, error) {
	p, _, err := planFor(ctx, w.Feed, w.Table, w.Source, w.Warehouse, w.Keys)
	if err != nil {
		return Sample{}, err
	}
	s := Sample{Columns: p.shape.Arrives().ColumnNames(), Added: schema.Table{Columns: p.target.Added()}.ColumnNames(),
		Source: [][]*string{}, Warehouse: [][]*string{}}
	q := p.query
	q.Newest, q.Limit = true, limit
	if err := w.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		shaped := p.shape.Batch(b, false)
		defer shaped.Record.Release()
		s.Source = append(s.Source, texts(shaped.Record, p.shape.Arrives().Columns)...)
		return nil
	}); err != nil {
		return Sample{}, err
	}
	stands, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, placeName(w.Table))
	if err != nil || stands.Version == 0 {
		return s, err // nothing there yet
	}
	columns := p.target.All()
	err = w.Warehouse.Read(ctx, warehouse.Query{Target: p.target, Columns: columns, Newest: p.target.Watermark,
		OrderBy: p.shape.Arrives().Key, Limit: limit}, func(record arrow.RecordBatch) error {
		s.Warehouse = append(s.Warehouse, texts(record, columns)...)
		return nil
	})
	return s, err
}

// texts copies the values of a record.
func texts(record arrow.RecordBatch, columns []schema.Column) [][]*string {
	var out [][]*string
	for i := range int(record.NumRows()) {
		row := make([]*string, len(columns))
		for k, c := range columns {
			if text, ok := schema.CellText(record.Column(k), i, c.Type); ok {
				text = strings.Clone(text)
				if len(text) > longestValue {
					text = strings.ToValidUTF8(text[:longestValue], "") + " …"
				}
				row[k] = &text
			}
		}
		out = append(out, row)
	}
	return out
}

// Counts counts the rows of both sides, and tells the room that the target takes, in bytes; -1 where that is not told.
func Counts(ctx context.Context, w Work) (inSource, inWarehouse, size int64, err error) {
	p, _, err := planFor(ctx, w.Feed, w.Table, w.Source, w.Warehouse, w.Keys)
	if err != nil {
		return 0, 0, -1, err
	}
	if inSource, err = p.count(ctx, w.Source); err != nil {
		return 0, 0, -1, err
	}
	stands, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, placeName(w.Table))
	if err != nil || stands.Version == 0 {
		return inSource, 0, -1, err
	}
	if inWarehouse, err = w.Warehouse.Count(ctx, p.target); err != nil {
		return inSource, 0, -1, err
	}
	size, err = w.Warehouse.Size(ctx, p.target)
	return inSource, inWarehouse, size, err
}

// filter is what the source need not read of the table; nil where that cannot be told.
func (p plan) filter(counts bool) *source.Filter {
	asked, ok := p.shape.Pushed()
	if !ok {
		return nil
	}
	return &source.Filter{Condition: asked, Counts: counts}
}

// count counts the rows of the source that are brought. Those that a filter decides about
// are looked at one by one, but for those that the source itself can tell of.
func (p plan) count(ctx context.Context, src source.Source) (int64, error) {
	if !p.shape.Filters() {
		return src.Count(ctx, p.query)
	}
	filter := p.shape.For(nil)
	var n int64
	err := src.Read(ctx, source.Query{Table: filter.Reads(), Filter: p.filter(false)}, func(b rows.Batch) error {
		defer b.Record.Release()
		shaped := filter.Batch(b, false)
		defer shaped.Record.Release()
		n += shaped.Record.NumRows() + int64(len(shaped.Aside))
		return nil
	})
	return n, err
}

// CountBetween counts the rows of the source between two positions; back tells that the second one is below the first.
func CountBetween(ctx context.Context, w Work, from, to position.Position) (n int64, back bool, err error) {
	p, _, err := planFor(ctx, w.Feed, w.Table, w.Source, w.Warehouse, w.Keys)
	if err != nil {
		return 0, false, err
	}
	q := p.query
	back = position.Compare(to, from, q.Watermark.Column.Type) < 0
	q.Window.Low, q.Window.High = from, to.Value
	if back {
		q.Window.Low, q.Window.High = to, from.Value
	}
	n, err = w.Source.Count(ctx, q)
	return n, back, err
}
