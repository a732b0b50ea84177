package engine

import (
	"context"
	"slices"

	"noemata/internal/core/rows"
	"noemata/internal/core/shape"
	"noemata/internal/source"
)

// Preview is some rows of a table before and after a feed has shaped them. Nothing is written
// anywhere, and what must not be seen stands in neither.
type Preview struct {
	Before   []string // columns of the source that are read
	After    []string // columns of the target, without those that Noemata adds
	Rows     []PreviewRow
	Read     int64 // rows that were looked at
	Filtered int64 // of those, left out by the filter
	SetAside int64 // of those, not to be stored as they are
}

// PreviewRow is one row, each value as text; nil is null.
type PreviewRow struct {
	Before []*string
	After  []*string // empty where the row does not arrive
	Why    string    // it does not arrive
}

// previewReads is how many rows a preview looks at, and shows at most as many as are asked for.
const previewReads = 1000

// TakePreview shapes the first rows that the source gives, in no order: whatever the size of
// the table, few are read.
func TakePreview(ctx context.Context, w Work, show int) (Preview, error) {
	var known *columnsKnown
	var err error
	if w.Warehouse != nil { // of a feed that has begun: columns that came later are hashed
		if known, err = knownOf(ctx, w.Feed, w.Table, w.Warehouse); err != nil {
			return Preview{}, err
		}
	}
	p, err := makePlan(ctx, w.Feed, w.Table, w.Source, w.Keys, known)
	if err != nil {
		return Preview{}, err
	}
	if p.missing != nil && !w.Table.OfPattern() {
		return Preview{}, p.missing
	}
	w.Table = p.spec
	reads, arrives := p.shape.Reads(), p.shape.Arrives()
	out := Preview{Before: reads.ColumnNames(), After: arrives.ColumnNames(), Rows: []PreviewRow{}}
	var later []PreviewRow // that arrive, after those that are shown
	err = w.Source.Read(ctx, source.Query{Table: reads, Limit: previewReads, RowKey: p.key}, func(b rows.Batch) error {
		defer b.Record.Release()
		out.Read += b.Rows()
		verdicts, shaped := p.shape.Verdicts(b)
		defer shaped.Record.Release()
		out.Filtered += shaped.Filtered
		out.SetAside += int64(len(shaped.Aside))
		before, after := texts(b.Record, reads.Columns), texts(shaped.Record, arrives.Columns)
		for i, row := range before {
			r := PreviewRow{Before: row}
			for c, column := range reads.Columns {
				if w.Table.Private(column.Name) && row[c] != nil {
					hidden := shape.Hidden
					row[c] = &hidden
				}
			}
			switch verdicts[i].What {
			case shape.Arrives:
				r.After, after = after[0], after[1:]
			case shape.LeftOut:
				r.Why = "The filter leaves it out."
			default:
				r.Why = verdicts[i].Why
			}
			if len(out.Rows) < show {
				out.Rows = append(out.Rows, r)
			} else if r.After != nil && len(later) < show {
				later = append(later, r)
			}
		}
		return nil
	})
	out.Rows = halfArriving(out.Rows, later)
	return out, err
}

// halfArriving puts rows that arrive in the place of the last ones that do not, until they are half, as
// far as there are any.
func halfArriving(shown, later []PreviewRow) []PreviewRow {
	arriving := 0
	for _, r := range shown {
		if r.After != nil {
			arriving++
		}
	}
	for i := len(shown) - 1; i >= 0 && 2*arriving < len(shown) && len(later) > 0; i-- {
		if shown[i].After == nil {
			shown = append(slices.Delete(shown, i, i+1), later[0])
			later, arriving = later[1:], arriving+1
		}
	}
	return shown
}
