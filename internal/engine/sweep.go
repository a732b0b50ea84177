package engine

import (
	"context"
	"fmt"
	"time"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// sweep finds the deletes that a watermark cannot show: it reads the keys of all rows of
// the source, after the run has read what changed, and ends those that only the warehouse
// still has. A row that comes again later comes with a new watermark.
func (r *run) sweep(ctx context.Context) error {
	if r.Table.Sweep == "" || r.outcome.To.Version == 0 {
		return nil
	}
	every, err := window.ParseDuration(r.Table.Sweep)
	if err != nil {
		return err
	}
	found, err := r.Warehouse.Ask(ctx, "SELECT swept_at FROM noemata.sweeps WHERE feed = $1 AND source_table = $2", r.Feed.Name, r.Table.Table)
	if err != nil || len(found) > 0 && time.Since(found[0][0].(time.Time)) < every {
		return err
	}
	moment, err := r.Source.Moment(ctx)
	if err != nil {
		return err
	}
	r.Progress(Progress{Phase: "sweeping", Position: r.outcome.To.Position})
	c, part, err := r.begin(ctx, false)
	if err != nil {
		return err
	}
	defer c.Abort()
	keys := controlTable("keys", r.Feed.Name, r.Table.Table)
	q := source.Query{Table: r.plan.query.Table}
	q.Table.Columns = nil
	for _, k := range r.plan.target.Key {
		column, _ := r.plan.query.Table.Column(k)
		q.Table.Columns = append(q.Table.Columns, column)
	}
	if _, err := c.Exec(ctx, r.Warehouse.Dialect().CreateTableOf(keys, q.Table.Columns)); err != nil {
		return err
	}
	var read int64
	begun := time.Now()
	err = r.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		read += b.Record.NumRows()
		return c.Insert(ctx, keys, q.Table.Columns, b.Record)
	})
	r.outcome.Reading += time.Since(begun)
	if err != nil {
		return err
	}
	begun = time.Now()
	at := schema.Literal(schema.TimestampTZText(moment.Clock.UnixMicro())) + "::timestamptz"
	gone, err := c.Exec(ctx, r.Warehouse.Dialect().Sweep(r.plan.target, keys.Quoted(), at, r.Run))
	if err != nil {
		return err
	}
	part.Staged(gone)
	for _, sql := range []string{"DROP TABLE " + keys.Quoted(),
		fmt.Sprintf("DELETE FROM noemata.sweeps WHERE feed = %s AND source_table = %s", schema.Literal(r.Feed.Name), schema.Literal(r.Table.Table)),
		fmt.Sprintf("INSERT INTO noemata.sweeps (feed, source_table, swept_at, keys_read, keys_gone) VALUES (%s, %s, now(), %d, %d)", schema.Literal(r.Feed.Name), schema.Literal(r.Table.Table), read, gone)} {
		if _, err := c.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if err := r.endWith(ctx, c, part, r.outcome.To.Position, warehouse.Has{Gone: true, Filled: true}); err != nil {
		return err
	}
	r.outcome.Writing += time.Since(begun)
	r.note("The sweep compared %d keys of the source and found %s deleted.", read, plural(gone, "row"))
	return nil
}
