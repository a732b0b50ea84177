package sqlmerge

import (
	"context"
	"fmt"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Straighten takes out what contradicts other rows of the keys that were gathered.
func (p *part) Straighten(ctx context.Context, moment int64) error {
	if !p.keys {
		return nil
	}
	if err := p.bringBy(ctx, keysTable(p.load.Feed, p.load.Table).Quoted()); err != nil {
		return err
	}
	for _, step := range p.commit.base.SQL.Straighten(p.load.Target, keysTable(p.load.Feed, p.load.Table).Quoted(),
		moment) {
		n, err := p.commit.tables.Exec(ctx, step.SQL)
		if err != nil {
			return err
		}
		p.count(step, n)
	}
	return p.dropKeys(ctx)
}

// EndKeys ends the rows of the keys that were gathered.
func (p *part) EndKeys(ctx context.Context, moment int64) error {
	if !p.keys {
		return nil
	}
	if err := p.bringBy(ctx, keysTable(p.load.Feed, p.load.Table).Quoted()); err != nil {
		return err
	}
	step := p.commit.base.SQL.EndKeys(p.load.Target, keysTable(p.load.Feed, p.load.Table).Quoted(), moment, p.load.Run)
	n, err := p.commit.tables.Exec(ctx, step.SQL)
	if err != nil {
		return err
	}
	p.count(step, n)
	return p.dropKeys(ctx)
}

// Straighten leaves one row of each key of another table or, of a history, versions that follow each
// other and have ended by a moment, if they have ended.
func (d Dialect) Straighten(t warehouse.Target, keys string, moment int64) []Step {
	m := merge{Dialect: d, t: t}
	key, among := schema.QuoteAll("", t.Key), "EXISTS (SELECT 1 FROM "+keys+" AS k WHERE "+equal(t.Key, "t", "k")+")"
	surplus := func(by, order string) {
		m.step(Removed, "DELETE FROM %s WHERE %s IN (SELECT %[2]s FROM (SELECT %[2]s, row_number() OVER (PARTITION BY %[3]s"+
			" ORDER BY %[4]s) AS n FROM %[1]s AS t WHERE %[5]s) AS x WHERE n > 1)", m.target(), d.RowID, by, order, among)
	}
	switch t.Keep {
	case feed.KeepLatest:
		surplus(key, m.added(warehouse.ChangedAt)+" DESC NULLS LAST")
	case feed.KeepSoftDelete:
		surplus(key, fmt.Sprintf("(%s IS NOT NULL), %s DESC NULLS LAST", m.added(warehouse.DeletedAt),
			m.added(warehouse.ChangedAt)))
	case feed.KeepHistory:
		from, until, current := m.added(warehouse.From), m.added(warehouse.Until), m.added(warehouse.Current)
		m.step(Removed, "DELETE FROM %s AS t WHERE %s AND %s <= %s", m.target(), among, until, from)
		surplus(key+", "+from, "("+until+" IS NULL) DESC, "+until+" DESC")
		m.step(None, "UPDATE %s AS t SET %s = x.next FROM (SELECT %s AS id, lead(%s) OVER (PARTITION BY %s ORDER BY %[4]s) "+
			"AS next FROM %[1]s AS t WHERE %[6]s) AS x WHERE t.%[3]s = x.id AND x.next IS NOT NULL AND (t.%[2]s IS NULL OR "+
			"t.%[2]s > x.next)", m.target(), until, d.RowID, from, key, among)
		m.step(None, "UPDATE %s AS t SET %s = greatest(%s, %s + INTERVAL '1 microsecond') WHERE %s AND %[2]s > %[3]s",
			m.target(),
			until, instant(moment), from, among)
		m.step(None, "UPDATE %s AS t SET %s = (%s IS NULL) WHERE %s AND %[2]s IS DISTINCT FROM (%[3]s IS NULL)", m.target(),
			current, until, among)
	}
	return m.steps
}

// EndKeys ends the rows that hold of the keys of another table, as the target's keep asks.
func (d Dialect) EndKeys(t warehouse.Target, keys string, moment, run int64) Step {
	m, at := merge{Dialect: d, t: t}, instant(moment)
	among := "EXISTS (SELECT 1 FROM " + keys + " AS k WHERE " + equal(t.Key, "t", "k") + ")"
	switch t.Keep {
	case feed.KeepSoftDelete:
		m.step(Removed, "UPDATE %s AS t SET %s = %s, %s = %[3]s, %[5]s = %[6]d WHERE %[2]s IS NULL AND %[7]s", m.target(),
			m.added(warehouse.DeletedAt), at, m.added(warehouse.ChangedAt), m.added(warehouse.Run), run, among)
	case feed.KeepHistory: // a version has some length, whatever the clocks say
		m.step(Removed, "UPDATE %s AS t SET %s = greatest(%s, %s + INTERVAL '1 microsecond'), %s = false WHERE %[5]s AND %s",
			m.target(), m.added(warehouse.Until), at, m.added(warehouse.From), m.added(warehouse.Current), among)
	default:
		m.step(Removed, "DELETE FROM %s AS t WHERE %s", m.target(), among)
	}
	return m.steps[0]
}

// Contradictions finds the keys whose rows contradict each other.
func (b *Base) Contradictions(ctx context.Context, t warehouse.Target) (faults warehouse.Faults, err error) {
	sql := b.SQL.Contradictions(t)
	if sql == "" {
		return nil, nil
	}
	found, err := b.look(ctx, t.Name, sql)
	for _, row := range found {
		f := warehouse.Fault{What: row[0].(string)}
		for i, c := range t.KeyColumns() {
			cast, _ := row[2*i+2].(string)
			f.Key = append(f.Key, keyPart(row[2*i+1], cast, c.Type))
		}
		faults = append(faults, f)
	}
	return faults, err
}

// Contradictions asks for the keys whose rows contradict each other, of keeps that allow of several rows;
// empty for the others, where a comparison finds what is too much.
func (d Dialect) Contradictions(t warehouse.Target) string {
	m := merge{Dialect: d, t: t}
	key := schema.QuoteAll("", t.Key)
	var list []string
	for _, k := range t.Key {
		list = append(list, schema.Quote(k), "CAST("+schema.Quote(k)+" AS VARCHAR)")
	}
	switch asked := strings.Join(list, ", "); t.Keep {
	case feed.KeepSoftDelete:
		return fmt.Sprintf("SELECT 'There is more than one row', %s FROM %s GROUP BY %s HAVING count(*) > 1 LIMIT %d", asked,
			m.target(), key, warehouse.MostFaults)
	case feed.KeepHistory:
		from, until, current := m.added(warehouse.From), m.added(warehouse.Until), m.added(warehouse.Current)
		return fmt.Sprintf("SELECT what, %s FROM (SELECT %s, CASE WHEN %s <= %s THEN 'A version ends before it begins' "+
			"WHEN next = %[4]s THEN 'Two versions begin at once' WHEN %[3]s IS NULL AND next IS NOT NULL OR %[3]s > next THEN "+
			"'Versions overlap' WHEN %[5]s IS DISTINCT FROM (%[3]s IS NULL) THEN 'A version is flagged otherwise than it ends' "+
			"END AS what FROM (SELECT %[2]s, %[4]s, %[3]s, %[5]s, lead(%[4]s) OVER (PARTITION BY %[2]s ORDER BY %[4]s, %[3]s "+
			"NULLS LAST) AS next FROM %[6]s) AS t) AS x WHERE what IS NOT NULL LIMIT %[7]d", asked, key, until, from, current,
			m.target(), warehouse.MostFaults)
	}
	return ""
}
