package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/problem"
	"noemata/internal/core/refer"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// A source may change rows by their foreign keys without telling its log. The log then tells what they
// referred to, and which rows that are is found among the changes and in the warehouse, before the
// changes of a table are folded.

// refuses tells why the rows that a table's references change cannot be found.
func (t *logTable) refuses(all []*logTable) error {
	const remedy = "Let the constraint restrict instead, or find the table's changes by watermark with a sweep."
	refuse := func(format string, args ...any) error {
		return problem.Newf(problem.Held, remedy, "The source changes rows of %s by a foreign key without logging it, and "+
			"%s.", t.Table.Table, fmt.Sprintf(format, args...))
	}
	if len(t.query.Table.Refers) > 0 && t.Keep == feed.KeepLedger {
		return refuse("a ledger does not know which rows refer to what")
	}
	for _, r := range t.query.Table.Refers {
		changes := r.OnDelete == schema.BecomesNull || r.OnUpdate != schema.NoEffect
		for _, c := range r.Columns {
			column, reads := t.query.Table.Column(c)
			_, arrives := t.shape.Name(c)
			switch kind := column.Type.Kind; {
			case !reads || !arrives:
				return refuse("the column %s, by which they refer, does not arrive as it is", c)
			case !slices.Contains(referring, kind):
				return refuse("the column %s is %s, of which texts that differ may be equal to the source", c,
					column.Native)
			case changes && slices.Contains(t.plan.key, c):
				return refuse("the column %s is part of the key, which would change", c)
			case changes && t.shape.Computes(c):
				return refuse("the feed computes with the column %s, which would change", c)
			}
		}
		for _, other := range t.query.Table.Refers {
			shared := slices.ContainsFunc(r.Columns, func(c string) bool { return slices.Contains(other.Columns, c) })
			if shared && r.OnUpdate == schema.Cascades && !slices.Equal(r.Columns, other.Columns) {
				return refuse("two of its foreign keys share a column")
			}
		}
		i := slices.IndexFunc(all, func(x *logTable) bool { return x.query.Table.Name == r.To && x.shape != nil })
		if i < 0 || len(all[i].query.Table.Refers) == 0 {
			continue // the source's findings tell of one that is not followed
		}
		parent := all[i]
		if !slices.Equal(sorted(r.ToColumns), sorted(parent.plan.key)) || len(parent.target.Key) == 0 {
			return refuse("its rows refer to others than the key of %s, whose rows the source changes likewise",
				parent.Table.Table)
		}
		for k, c := range r.Columns {
			if !t.shape.Same(c, parent.shape, r.ToColumns[k]) {
				return refuse("what they refer to in %s arrives in another form", parent.Table.Table)
			}
		}
	}
	return nil
}

// referring are the types of columns whose values are equal to the source where their texts are.
var referring = []schema.Kind{schema.Int16, schema.Int32, schema.Int64, schema.Decimal, schema.UUID, schema.Date}

func sorted(list []string) []string { return slices.Sorted(slices.Values(list)) }

// refersAs are the tables as refer sees them; nil where none refers to another.
func refersAs(tables []*logTable) []*refer.Table {
	out := make([]*refer.Table, len(tables))
	some := false
	of := func(i int) *refer.Table {
		if out[i] == nil {
			t := tables[i]
			out[i] = &refer.Table{Columns: t.shape.Arrives().Columns, Key: t.keyAt, Ignores: t.followed().Ignores}
		}
		return out[i]
	}
	for i, t := range tables {
		if t.shape == nil {
			continue
		}
		for _, r := range t.query.Table.Refers {
			some = true
			names := t.shape.Names(r.Columns)
			if names == nil {
				continue
			}
			x := of(i)
			if by := schema.Indexes(x.Columns, names); !slices.ContainsFunc(x.By, func(b []int) bool {
				return slices.Equal(b, by)
			}) {
				x.By = append(x.By, by)
			}
			p := slices.IndexFunc(tables, func(o *logTable) bool { return o.query.Table.Name == r.To && o.shape != nil })
			if p < 0 || len(tables[p].query.Table.Refers) == 0 {
				continue // its changes are all told
			}
			var to []int // in the order of the other's key
			for _, k := range tables[p].plan.key {
				if at := slices.Index(r.ToColumns, k); at >= 0 {
					to = append(to, schema.Indexes(x.Columns, []string{names[at]})...)
				}
			}
			if len(to) == len(r.Columns) {
				of(p).From = append(of(p).From, refer.Referrer{Table: i, To: to, OnDelete: r.OnDelete})
			}
		}
	}
	if !some {
		return nil
	}
	return out
}

// expand finds the changes of rows that the log does not tell.
func (a *applier) expand(ctx context.Context, batches []change.Batch) error {
	if a.links == nil {
		return nil
	}
	tables := make([]*refer.Table, len(a.links))
	for i, link := range a.links {
		if link == nil {
			continue
		}
		x, t := *link, a.tables[i]
		x.Waits = !a.joined[t] && a.stateOf(t) != warehouse.Following
		x.Holding = func(columns []int, values [][]string) ([]arrow.RecordBatch, error) {
			return a.holding(ctx, t, columns, values)
		}
		tables[i] = &x
	}
	if _, err := refer.Expand(tables, batches); err != nil {
		return err
	}
	for i, x := range tables {
		if x != nil && x.Waits && slices.ContainsFunc(batches[i].Rows,
			func(r change.Row) bool { return r.Kind.Refers() }) {
			if err := a.missed(ctx, a.tables[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// expandOne does the same with changes of one table that have waited.
func (a *applier) expandOne(ctx context.Context, t *logTable, b change.Batch) (change.Batch, error) {
	i := slices.Index(a.tables, t)
	if a.links == nil || a.links[i] == nil {
		return b, nil
	}
	x := *a.links[i]
	x.Holding = func(columns []int, values [][]string) ([]arrow.RecordBatch, error) {
		return a.holding(ctx, t, columns, values)
	}
	tables := make([]*refer.Table, len(a.links))
	tables[i] = &x
	batches := make([]change.Batch, len(a.tables))
	batches[i] = b
	unmet, err := refer.Expand(tables, batches)
	if err != nil {
		return b, err
	}
	if len(unmet) > 0 {
		err = a.missed(ctx, t)
	}
	return batches[i], err
}

// missed has the tables copied again whose rows were changed with those of a table that waits: which
// these are is not known. They are copied once that one has joined.
func (a *applier) missed(ctx context.Context, t *logTable) error {
	for _, other := range a.referrers(t) {
		fresh := false
		a.board.update(other, func(r *TableReport) {
			fresh = r.State == warehouse.Copying && len(other.copy.Snapshots) == 0
		})
		if fresh || a.unmet[other] {
			continue
		}
		if err := a.begin(ctx); err != nil {
			return err
		}
		a.unmet[other] = true
	}
	return nil
}

// referrers are the tables whose rows are changed with those of a table that are changed without being
// told, through all levels.
func (s *session) referrers(t *logTable) (list []*logTable) {
	if s.links == nil {
		return nil
	}
	var visit func(i int)
	visit = func(i int) {
		if s.links[i] == nil {
			return
		}
		for _, f := range s.links[i].From {
			if other := s.tables[f.Table]; other != t && !slices.Contains(list, other) {
				list = append(list, other)
				visit(f.Table)
			}
		}
	}
	visit(slices.Index(s.tables, t))
	return list
}

// holding reads the keys of the rows that have some values.
func (a *applier) holding(ctx context.Context, t *logTable, columns []int,
	values [][]string) (all []arrow.RecordBatch, err error) {
	if err := a.begin(ctx); err != nil {
		return nil, err
	}
	arrives := t.shape.Arrives().Columns
	places := slices.Clone(t.keyAt)
	q := warehouse.Query{Target: t.target, Holding: true, Values: values}
	for _, p := range columns {
		q.In = append(q.In, arrives[p].Name)
		if !slices.Contains(places, p) {
			places = append(places, p)
		}
	}
	for _, p := range places {
		q.Columns = append(q.Columns, arrives[p])
	}
	err = a.commit.Read(ctx, q, func(r arrow.RecordBatch) error {
		n := int(r.NumRows())
		keep := make([]int32, n)
		for i := range keep {
			keep[i] = int32(i)
		}
		made := make([]arrow.Array, len(arrives))
		for p, c := range arrives {
			if at := slices.Index(places, p); at >= 0 {
				one, err := array.Concatenate([]arrow.Array{r.Column(at)}, allocator) // of our own
				if err != nil {
					return err
				}
				made[p] = fold.Take(one, keep)
				one.Release()
				continue
			}
			made[p] = array.MakeArrayOfNull(allocator, c.Type.Arrow(), n)
		}
		all = append(all, array.NewRecordBatch(schema.Arrow(arrives), made, int64(n)))
		for _, c := range made {
			c.Release()
		}
		return nil
	})
	return all, err
}

// linked finds what keeps tables from being followed for what they refer to.
func linked(tables []*logTable) {
	for _, t := range tables {
		if t.trouble == nil && t.shape != nil {
			t.trouble = t.refuses(tables)
		}
	}
	var fine []*logTable
	for _, t := range tables {
		if t.trouble == nil {
			fine = append(fine, t)
		}
	}
	if list := refersAs(fine); list != nil && refer.Order(list) == nil {
		for _, t := range fine {
			if len(t.query.Table.Refers) > 0 {
				t.trouble = problem.Newf(problem.Held, "Let one of the constraints restrict instead.",
					"The foreign keys of %s and other tables refer to one another in a circle.", t.Table.Table)
			}
		}
	}
}

// refersText tells the references of a table from those it had.
func refersText(list []schema.Reference) string {
	var all []string
	for _, r := range list {
		all = append(all, fmt.Sprintf("(%s) %s (%s) %s %s", strings.Join(r.Columns, ", "), r.To.Display(),
			strings.Join(r.ToColumns, ", "), r.OnDelete, r.OnUpdate))
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}
