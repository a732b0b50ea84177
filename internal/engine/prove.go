package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// Proof is what a comparison of the two sides of a table found.
type Proof struct {
	compare.Result
	Stands warehouse.Checkpoint // the position that was compared
	Same   bool
}

// passAfter is how long a proof waits for a feed to pass the moment of reading.
const passAfter = 30 * time.Second

// Prove compares every value of every row of a table with the warehouse: with the rows
// that hold now, where it keeps others too. Rows that the position has not reached are
// not judged; of a table that follows the log, rows that differ are looked at again
// after the feed has passed the moment of reading. In a ledger each row of the source
// must be there; older versions beside it are what a ledger is for.
func Prove(ctx context.Context, w Work) (Proof, error) {
	p, _, err := planFor(ctx, w.Feed, w.Table, w.Source, w.Warehouse, w.Keys)
	if err != nil {
		return Proof{}, err
	}
	if _, err := w.Warehouse.Prepare(ctx, p.target); err != nil {
		return Proof{}, named(err, w.Feed.Name, w.Table.Table)
	}
	keys := p.target.Key
	if w.Table.Keep == feed.KeepLedger {
		keys = nil
	}
	columns := p.shape.Arrives().Columns
	c := compare.New(columns, schema.Indexes(columns, keys))
	proof, err := proveOnce(ctx, w, p, c)
	if w.Table.Find != feed.FindLog || err != nil || proof.Same {
		return proof, err
	}
	if err := passed(ctx, w); err != nil {
		return proof, err
	}
	return proveOnce(ctx, w, p, c.Again())
}

func proveOnce(ctx context.Context, w Work, p plan, c *compare.Comparison) (Proof, error) {
	stands, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, placeName(w.Table))
	if err != nil {
		return Proof{}, err
	}
	q := p.query
	if q.Watermark != nil {
		q.Beyond = &stands.Position
		switch start := w.Table.Watermark.Start; start {
		case "", feed.StartBeginning:
		case feed.StartNow: // what lies below the first position was never meant to come
			first, err := w.Warehouse.Journal().FirstPosition(ctx, w.Feed.Name, w.Table.Table)
			if err != nil {
				return Proof{}, err
			}
			q.Window.Low = first
		default:
			q.Window.Low, q.Window.Inclusive = position.Position{Value: start}, true
		}
	}
	err = w.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		b = p.shape.Batch(b, false)
		defer b.Record.Release()
		for _, a := range b.Aside {
			c.SourceAside(a)
		}
		inFlight := func(int) bool { return stands.Position.IsZero() }
		if q.Beyond != nil && !stands.Position.IsZero() {
			inFlight = b.Record.Column(int(b.Record.NumCols()) - 1).(*array.Boolean).Value
		}
		return tooLarge(c.Source(b.Record, inFlight), w)
	})
	if err != nil {
		return Proof{}, err
	}
	err = w.Warehouse.Read(ctx, warehouse.Query{Target: p.target, Columns: p.target.Values(), Holding: true},
		func(record arrow.RecordBatch) error {
			return tooLarge(c.Warehouse(record), w)
		})
	if err != nil {
		return Proof{}, err
	}
	result := c.Result()
	same := result.Same()
	if w.Table.Keep == feed.KeepLedger {
		same = result.Missing == 0 && result.Differing == 0
	}
	return Proof{Result: result, Stands: stands, Same: same}, nil
}

// tooLarge explains that a table has too many rows to be proved.
func tooLarge(err error, w Work) error {
	if errors.Is(err, compare.ErrBudget) {
		return problem.Wrap(err, problem.Conflict,
			fmt.Sprintf("%s cannot be proved: it has more rows than a proof has memory for (%d MB).", w.Table.Table,
				compare.Budget>>20), "Nothing was judged. Prove smaller tables, or a feed of a part of this one.")
	}
	return err
}

// placeName is the name under which a table's position is kept: that of the feed, where
// all its tables advance together.
func placeName(t feed.Table) string {
	if t.Find == feed.FindLog {
		return ""
	}
	return t.Table
}

// passed waits until the feed has applied what the log holds now.
func passed(ctx context.Context, w Work) error {
	log, ok := w.Source.(source.Log)
	if !ok {
		return nil
	}
	end, _, err := log.End(ctx)
	if err != nil {
		return err
	}
	for until := time.Now().Add(passAfter); ; {
		stands, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, "")
		if err != nil || stands.Position.Value >= end {
			return err
		}
		if time.Now().After(until) {
			return problem.Newf(problem.Conflict, "Start the feed, or run it once, and prove the table then.",
				"%s cannot be proved now: rows differ, and the feed stands at %s while the log of its source has "+
					"come to %s.", w.Table.Table, orNothing(stands.Position.Value), end)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Version is one version of a row in a history, each value as text; nil is null.
type Version struct {
	From, Until *time.Time // half-open; no Until while it holds
	Position    string
	Run         int64
	Values      []*string
	Changed     []string // the columns that differ from the version before
}

// Versions gives the versions of one row of a history, the oldest first. key holds a
// value, as text, for each column of the key.
func Versions(ctx context.Context, w Work, key []string) (columns []string, list []Version, err error) {
	if w.Table.Keep != feed.KeepHistory {
		return nil, nil, problem.Newf(problem.Conflict, "Only a table with keep: history has versions.",
			"The table %s is kept as %s.", w.Table.Table, w.Table.Keep)
	}
	p, _, err := planFor(ctx, w.Feed, w.Table, w.Source, w.Warehouse, w.Keys)
	if err != nil {
		return nil, nil, err
	}
	if len(key) != len(p.target.Key) {
		return nil, nil, problem.Newf(problem.Invalid, "Give a value for each of them, in this order.",
			"The key of %s is %v.", w.Table.Table, p.target.Key)
	}
	all := p.target.All()
	values := len(p.target.Values())
	added := map[warehouse.Role]int{}
	for i, c := range p.target.Columns {
		added[c.Role] = i
	}
	order := []string{p.target.Called(warehouse.From), p.target.Called(warehouse.Position)}
	err = w.Warehouse.Read(ctx, warehouse.Query{Target: p.target, Columns: all, Key: key, OrderBy: order},
		func(r arrow.RecordBatch) error {
			moment := func(role warehouse.Role, i int) *time.Time {
				c := r.Column(added[role]).(*array.Timestamp)
				if c.IsNull(i) {
					return nil
				}
				at := time.UnixMicro(int64(c.Value(i))).UTC()
				return &at
			}
			for i, row := range texts(r, all) {
				v := Version{From: moment(warehouse.From, i), Until: moment(warehouse.Until, i), Values: row[:values],
					Run: r.Column(added[warehouse.Run]).(*array.Int64).Value(i)}
				if position := row[added[warehouse.Position]]; position != nil {
					v.Position = *position
				}
				if len(list) > 0 {
					before := list[len(list)-1].Values
					for c := range v.Values {
						if (before[c] == nil) != (v.Values[c] == nil) || before[c] != nil &&
							*before[c] != *v.Values[c] {
							v.Changed = append(v.Changed, all[c].Name)
						}
					}
				}
				list = append(list, v)
			}
			return nil
		})
	return schema.Table{Columns: p.target.Values()}.ColumnNames(), list, err
}
