package sqlmerge

import (
	"context"
	"fmt"
	"maps"
	"slices"
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
	columns := p.load.Target.KeyColumns()
	if len(p.waiting) > 0 {
		for row := range int(record.NumRows()) {
			p.seen[rows.KeyText(record, row, columns, all(len(columns)))] = true
		}
	}
	return p.AppendFill(ctx, columns, record)
}

// AppendFill gathers values beside the key.
func (p *part) AppendFill(ctx context.Context, columns []schema.Column, record arrow.RecordBatch) error {
	table := keysTable(p.load.Feed, p.load.Table)
	if !p.keys {
		p.keys = true
		if err := bring(ctx, p.commit.conn, table, NoRows); err != nil {
			return err
		}
		if err := p.exec(ctx, p.commit.base.SQL.CreateTableOf(table, columns)); err != nil {
			return err
		}
	}
	return p.commit.tables.Insert(ctx, table.Quoted(), columns, record, nil)
}

// FillCopied gives rows that hold values of a copy.
func (p *part) FillCopied(ctx context.Context, columns []schema.Column) error {
	err := bring(ctx, p.commit.conn, copiedTable(p.load.Feed, p.load.Table), Looking)
	if err == nil {
		err = p.bringBy(ctx, copiedTable(p.load.Feed, p.load.Table).Quoted())
	}
	if err != nil {
		return err
	}
	n, err := p.commit.tables.Exec(ctx, p.commit.base.SQL.Fill(p.load.Target,
		copiedTable(p.load.Feed, p.load.Table).Quoted(), columns))
	p.given += n
	return err
}

// Fill gives rows that hold the values that were gathered.
func (p *part) Fill(ctx context.Context, columns []schema.Column) (int64, error) {
	if !p.keys {
		return 0, nil
	}
	if err := p.bringBy(ctx, keysTable(p.load.Feed, p.load.Table).Quoted()); err != nil {
		return 0, err
	}
	filled, err := p.commit.tables.Exec(ctx, p.commit.base.SQL.Fill(p.load.Target,
		keysTable(p.load.Feed, p.load.Table).Quoted(), columns[len(p.load.Target.Key):]))
	if err != nil {
		return 0, err
	}
	p.given += filled
	return filled, p.dropKeys(ctx)
}

func all(n int) []int {
	list := make([]int, n)
	for i := range list {
		list[i] = i
	}
	return list
}

// Sweep ends the rows that the source has no more. A row that is set aside is there.
func (p *part) Sweep(ctx context.Context, moment int64, aside []rows.Aside) (int64, error) {
	among := p.stage
	if p.keys {
		among = keysTable(p.load.Feed, p.load.Table).Quoted()
	}
	there := map[string]bool{}
	for _, a := range slices.Concat(p.aside, aside) {
		there[a.Key] = true
	}
	for key := range p.waiting {
		if !there[key] && !p.seen[key] {
			p.healed = append(p.healed, key)
		}
	}
	return p.sweep(ctx, among, moment, there)
}

// sweep ends the rows whose keys are neither among those of a table nor in a list.
func (p *part) sweep(ctx context.Context, among string, moment int64, there map[string]bool) (int64, error) {
	if err := p.bring(ctx, AllRows); err != nil {
		return 0, err
	}
	gone, err := p.stageBy(ctx, p.commit.base.SQL.Sweep(p.load.Target, among, moment, p.load.Run))
	if err != nil {
		return gone, err
	}
	var keys []string
	for _, key := range slices.Sorted(maps.Keys(there)) {
		condition, err := p.commit.base.SQL.keyIs(p.load.Target, rows.KeyParts(key))
		if err == nil && len(condition) > 0 { // else the target cannot have it
			keys = append(keys, "("+strings.Join(condition, " AND ")+")")
		}
	}
	for chunk := range slices.Chunk(keys, 500) {
		n, err := p.commit.tables.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s AND %s AND (%s)", p.stage,
			schema.Quote(warehouse.StageGone), schema.Quote(warehouse.StageKeyOnly), strings.Join(chunk, " OR ")))
		if err != nil {
			return gone, err
		}
		gone, p.pending, p.books.Read = gone-n, p.pending-n, p.books.Read-n
	}
	return gone, nil
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
	if err := bring(ctx, p.commit.conn, copiedTable(p.load.Feed, p.load.Table), Looking); err != nil {
		return err
	}
	filled, err := filled(ctx, p.commit.conn, t)
	if err != nil {
		return err
	}
	which := AllRows
	if !filled || t.Keep == feed.KeepLedger {
		which = NoRows
	}
	if err := p.bring(ctx, which); err != nil {
		return err
	}
	if filled && t.Keep != feed.KeepLedger {
		if filled, err = p.sameKey(ctx, begins.Moment); err != nil {
			return err
		}
	}
	if !filled || t.Keep == feed.KeepLedger { // straight into the target
		n, err := p.commit.tables.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s",
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
	if _, err := p.sweep(ctx, copied, begins.Moment, p.waiting); err != nil {
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
	found, err := p.commit.tables.Ask(ctx,
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
