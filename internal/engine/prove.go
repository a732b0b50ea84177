package engine

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Proof is what a comparison of the two sides of a table found.
type Proof struct {
	compare.Result
	Place warehouse.Place // the position that was compared
	Same  bool
}

// Prove compares every value of every row of a table with the warehouse. Rows that
// the position has not reached are not judged. In a ledger each row of the source
// must be there; older versions beside it are what a ledger is for.
func Prove(ctx context.Context, w Work) (Proof, error) {
	p, err := makePlan(ctx, w.Feed, w.Table, w.Source)
	if err != nil {
		return Proof{}, err
	}
	place, err := w.Warehouse.Place(ctx, w.Feed.Name, w.Table.Table)
	if err != nil {
		return Proof{}, err
	}
	if err := w.Warehouse.Prepare(ctx, p.target); err != nil {
		return Proof{}, err
	}
	q := p.query
	if q.Watermark != nil {
		q.Beyond = &place.Position
	}
	keys := p.target.Key
	if w.Table.Keep == feed.KeepLedger {
		keys = nil
	}
	var key []int
	for _, k := range keys {
		key = append(key, slices.IndexFunc(q.Table.Columns, func(c schema.Column) bool { return c.Name == k }))
	}
	c := compare.New(q.Table.Columns, key)
	err = w.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		for _, a := range b.Aside {
			c.SourceAside(a)
		}
		inFlight := func(int) bool { return place.Position.IsZero() }
		if q.Beyond != nil && !place.Position.IsZero() {
			inFlight = b.Record.Column(int(b.Record.NumCols()) - 1).(*array.Boolean).Value
		}
		c.Source(b.Record, inFlight)
		return nil
	})
	if err != nil {
		return Proof{}, err
	}
	err = w.Warehouse.Read(ctx, warehouse.Query{Name: p.target.Name, Columns: q.Table.Columns}, func(record arrow.RecordBatch) error {
		c.Warehouse(record)
		return nil
	})
	if err != nil {
		return Proof{}, err
	}
	result := c.Result()
	same := result.Same()
	if w.Table.Keep == feed.KeepLedger {
		same = result.Missing == 0 && result.Differing == 0
	}
	return Proof{Result: result, Place: place, Same: same}, nil
}
