package engine

import (
	"context"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
)

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
