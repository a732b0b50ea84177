package sqlmerge

import (
	"context"
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// AppendKeys gathers the keys that the source has.
func (p *part) AppendKeys(ctx context.Context, record arrow.RecordBatch) error {
	table, columns := keysTable(p.load.Feed, p.load.Table), p.load.Target.KeyColumns()
	if !p.keys {
		p.keys = true
		if err := p.exec(ctx, p.commit.base.SQL.CreateTableOf(table, columns)); err != nil {
			return err
		}
	}
	return p.commit.conn.Insert(ctx, table.Quoted(), columns, record, nil)
}

// Sweep ends the rows that the source has no more.
func (p *part) Sweep(ctx context.Context, moment int64) (int64, error) {
	among := p.stage
	if p.keys {
		among = keysTable(p.load.Feed, p.load.Table).Quoted()
	}
	return p.stageBy(ctx, p.commit.base.SQL.Sweep(p.load.Target, among, moment, p.load.Run))
}

// dropKeys lets the keys of a sweep go.
func (p *part) dropKeys(ctx context.Context) error {
	if !p.keys {
		return nil
	}
	p.keys = false
	return p.exec(ctx, "DROP TABLE "+keysTable(p.load.Feed, p.load.Table).Quoted())
}

// TakeCopy brings in the rows of a copy.
func (p *part) TakeCopy(ctx context.Context, begins change.Txn) error {
	t := p.load.Target
	copied := copiedTable(p.load.Feed, p.load.Table).Quoted()
	columns := columnNames(t.All())
	values := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		values[i] = p.copiedValue(c, begins)
	}
	filled, err := filled(ctx, p.commit.conn, t)
	if err != nil {
		return err
	}
	if filled && t.Keep != feed.KeepLedger {
		if filled, err = p.sameKey(ctx, begins.Moment); err != nil {
			return err
		}
	}
	if !filled || t.Keep == feed.KeepLedger { // straight into the target
		n, err := p.commit.conn.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s",
			t.Name.Quoted(), schema.QuoteAll("", columns), strings.Join(values, ", "), copied))
		p.Count(rows.Books{Read: n, Inserted: n})
		return err
	}
	columns = append(columns, warehouse.StageGone, warehouse.StageKeyOnly, warehouse.StageOrder)
	values = append(values, "false", "false", fmt.Sprint(int(fold.FirstOfKey)))
	if _, err := p.stageBy(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s",
		p.stage, schema.QuoteAll("", columns), strings.Join(values, ", "), copied)); err != nil {
		return err
	}
	if _, err := p.stageBy(ctx, p.commit.base.SQL.Sweep(t, copied, begins.Moment, p.load.Run)); err != nil {
		return err
	}
	return p.Merge(ctx, warehouse.Has{Gone: true})
}

// copiedValue is what a column has in a row of a copy.
func (p *part) copiedValue(c warehouse.Column, begins change.Txn) string {
	switch c.Role {
	case warehouse.Value:
		return schema.Quote(c.Origin)
	case warehouse.Run:
		return fmt.Sprint(p.load.Run)
	case warehouse.ChangedAt, warehouse.From:
		return instant(begins.Moment)
	case warehouse.Current:
		return "true"
	case warehouse.Position:
		if p.load.Target.Keep == feed.KeepLedger {
			return schema.Literal(begins.EventPosition(0)) // changes are numbered from 1
		}
		return schema.Literal(begins.Position)
	case warehouse.Changed:
		return schema.Literal(change.Copied)
	}
	return "NULL"
}

// sameKey tells whether the rows of a target can be matched by the table's key. Where they
// were kept by another one, and some of them are alike in this, they give way to the copy: a
// history ends them, and the others are emptied.
func (p *part) sameKey(ctx context.Context, moment int64) (bool, error) {
	t := p.load.Target
	current, where := schema.Quote(t.Called(warehouse.Current)), ""
	if t.Keep == feed.KeepHistory {
		where = " WHERE " + current
	}
	found, err := p.commit.conn.Ask(ctx,
		fmt.Sprintf("SELECT EXISTS (SELECT 1 FROM %s%s GROUP BY %s HAVING count(*) > 1)",
			t.Name.Quoted(), where, schema.QuoteAll("", t.Key)))
	if err != nil || !found[0][0].(bool) {
		return true, err
	}
	if t.Keep != feed.KeepHistory {
		return false, p.exec(ctx, "DELETE FROM "+t.Name.Quoted())
	}
	return false, p.exec(ctx, fmt.Sprintf("UPDATE %s SET %s = %s, %s = false WHERE %[4]s",
		t.Name.Quoted(), schema.Quote(t.Called(warehouse.Until)), instant(moment), current))
}
