package engine

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/shape"
	"noemata/internal/core/words"
	"noemata/internal/warehouse"
)

// fill gives rows that came in before values in columns that have come since, by their key: the columns
// alone are read, of rows up to the position, after the run has read what changed. The structure is kept
// with the last commit of it, so that a run which dies before leaves it to the next.
func (r *run) fill(ctx context.Context) error {
	if len(r.fills) == 0 || r.outcome.To.Version == 0 {
		return nil
	}
	f := &filler{run: r, narrow: r.plan.shape.For(slices.Concat(r.plan.target.Key, r.fills))}
	defer f.abort()
	q := r.plan.query
	q.Table.Columns, q.Filter = f.narrow.Reads().Columns, r.plan.filter(false)
	q.Window.High = r.outcome.To.Position.Value
	begun := time.Now()
	if err := r.Source.Read(ctx, q, func(b rows.Batch) error { return f.take(ctx, b) }); err != nil {
		return err
	}
	names := strings.Join(r.fills, ", ")
	r.fills = nil // done: the structure is kept with it
	if err := f.commit(ctx); err != nil {
		return err
	}
	r.outcome.Spent = r.outcome.Add(Spent{Bytes: f.bytes, Reading: time.Since(begun) - f.writing, Writing: f.writing})
	r.note("Rows of before were given their values of %s by key: %s.", names, words.Plural(f.filled, "row"))
	return nil
}

// fillRows is how many rows are filled in one commit: what DuckDB updates stays in its memory until then.
const fillRows = 100_000

// filler gathers values of columns, and commits them from time to time.
type filler struct {
	*run
	narrow                *shape.Shape
	writes                warehouse.Commit // the one that is under way; nil for none
	part                  warehouse.Part
	aside                 []rows.Aside
	pending, read, filled int64
	bytes                 int64
	writing               time.Duration
}

func (f *filler) take(ctx context.Context, b rows.Batch) error {
	f.bytes += sizeOf(b)
	begun := time.Now()
	defer func() { f.writing += time.Since(begun) }()
	defer b.Record.Release()
	made := f.narrow.Batch(b, false)
	defer made.Record.Release()
	if f.aside = append(f.aside, made.Aside...); len(f.aside) > warehouse.MostAside {
		return warehouse.TooManyAside(f.Table.Table, f.aside[len(f.aside)-1].Reason)
	}
	if f.writes == nil {
		var err error
		if f.writes, f.part, err = f.begin(ctx, false); err != nil {
			return err
		}
	}
	n := made.Record.NumRows()
	f.pending, f.read = f.pending+n, f.read+n
	f.Progress(Progress{Phase: "filling", Read: f.read, Expected: max(f.plan.query.Table.Rows, f.read),
		Position: f.outcome.To.Position})
	columns := f.narrow.Arrives().Columns // those of the key first; the watermark may follow
	record := array.NewRecordBatch(schema.Arrow(columns), made.Record.Columns()[:len(columns)], n)
	defer record.Release()
	if err := f.part.AppendFill(ctx, columns, record); err != nil {
		return err
	}
	if f.pending < fillRows {
		return nil
	}
	return f.commit(ctx)
}

// commit gives rows what was gathered. The last commit may be of none.
func (f *filler) commit(ctx context.Context) (err error) {
	if f.writes == nil {
		if f.writes, f.part, err = f.begin(ctx, false); err != nil {
			return err
		}
	}
	filled, err := f.part.Fill(ctx, f.narrow.Arrives().Columns)
	if err != nil {
		return err
	}
	if len(f.aside) > 0 {
		if err := f.writes.Note(ctx, f.Feed.Name, warehouse.SetAside{Table: f.Table.Table, Run: f.Run,
			Rows: f.aside}); err != nil {
			return err
		}
	}
	if err := f.endWith(ctx, f.writes, f.part, f.outcome.To.Position, warehouse.Has{}); err != nil {
		return err
	}
	f.writes, f.aside, f.pending, f.filled = nil, nil, 0, f.filled+filled
	return nil
}

func (f *filler) abort() {
	if f.writes != nil {
		f.writes.Abort()
	}
}

// filling is what a journal keeps of a copy of columns alone.
type filling struct {
	Columns   []string `json:"columns"`
	Structure string   `json:"structure"` // that the table had when it began
}

// copyAgainFor has rows of before brought what they lack: where a person has chosen more columns, those
// alone. What the source changes by foreign keys is found among whole rows.
func (s *session) copyAgainFor(t *logTable, was structure) warehouse.Entry {
	now := structureOf(t.plan)
	fills := now.fills(was, t.target)
	refers := func(x *logTable) bool { return len(x.query.Table.Refers) > 0 }
	if len(fills) == 0 || !now.chosen(was, t.plan) || !t.shape.Simple(fills) || slices.ContainsFunc(s.tables, refers) {
		return t.copyAgain()
	}
	text, _ := json.Marshal(filling{fills, now.String()}) // texts always marshal
	t.copyAgain()
	t.fills, t.copy.Fills = fills, string(text)
	return warehouse.CopyAgain{Table: t.Table.Table, Fills: t.copy.Fills}
}

// recallFills takes up a copy of columns alone, unless it has become one of other columns.
func (t *logTable) recallFills() bool {
	var f filling
	if json.Unmarshal([]byte(t.copy.Fills), &f) != nil || t.shape == nil || f.Structure != structureOf(t.plan).String() {
		return false
	}
	t.fills = f.Columns
	return true
}

// copies is what becomes of the rows of a copy.
func (t *logTable) copies() *shape.Shape {
	if t.fills == nil {
		return t.shape
	}
	return t.shape.For(slices.Concat(t.target.Key, t.fills))
}

// filled are the columns of the target that rows are given.
func (t *logTable) filled() []schema.Column {
	return slices.DeleteFunc(slices.Clone(t.shape.Arrives().Columns),
		func(c schema.Column) bool { return !slices.Contains(t.fills, c.Name) })
}

// sourcesOf are the columns of the source that some that arrive are made of.
func (t *logTable) sourcesOf(columns []string) (list []string) {
	if len(columns) == 0 {
		return nil
	}
	_, of := t.shape.Made()
	for _, c := range columns {
		list = append(list, of[c]...)
	}
	return list
}

// padded is a record of a copy in the form of whole rows.
func (t *logTable) padded(record arrow.RecordBatch) arrow.RecordBatch {
	if t.fills == nil {
		return record
	}
	defer record.Release()
	columns := t.shape.Arrives().Columns
	has := t.copies().Arrives().Columns
	made := make([]arrow.Array, len(columns))
	for i, c := range columns {
		if at := slices.IndexFunc(has, func(x schema.Column) bool { return x.Name == c.Name }); at >= 0 {
			made[i] = record.Column(at)
			made[i].Retain()
		} else {
			made[i] = array.MakeArrayOfNull(allocator, c.Type.Arrow(), int(record.NumRows()))
		}
	}
	whole := array.NewRecordBatch(schema.Arrow(columns), made, record.NumRows())
	for _, c := range made {
		c.Release()
	}
	return whole
}
