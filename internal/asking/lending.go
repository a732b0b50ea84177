package asking

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/schema"
	"noemata/internal/store"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// A question may name tables of several warehouses, by the warehouse's name first: lake.live.loans. Those of others are
// lent to the conversation, as the one who asks may see them there. Each is one state of its warehouse.

const identifier = `("(?:[^"]|"")*"|[\pL_][\pL\pN_$]*)`

var ofAnother = regexp.MustCompile(identifier + `\s*\.\s*` + identifier + `\s*\.\s*` + identifier)

// lendable are the tables of other warehouses that a question may name, each with the warehouse.
func (c *Conversation) lendable(ctx context.Context, sql string) (from []string, tables []schema.Name, err error) {
	found := ofAnother.FindAllStringSubmatch(sql, -1)
	if len(found) == 0 {
		return nil, nil, nil
	}
	all, err := c.asking.store.Connections(ctx, store.Warehouses)
	if err != nil {
		return nil, nil, err
	}
	seen := map[string]bool{}
	for _, m := range found {
		name := plain(m[1])
		if name == c.warehouse || seen[strings.Join(m[1:], ".")] {
			continue
		}
		for _, w := range all {
			if _, may := c.asker.MayAsk(w.Name); w.Name == name && may {
				from, tables = append(from, name), append(tables, schema.Name{Schema: plain(m[2]), Table: plain(m[3])})
				seen[strings.Join(m[1:], ".")] = true
			}
		}
	}
	return from, tables, nil
}

// plain is a name as it is meant: one that is not quoted is in lower case.
func plain(name string) string {
	if inner, quoted := strings.CutPrefix(name, `"`); quoted {
		return strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
	}
	return strings.ToLower(name)
}

// lend has the tables of other warehouses that a question names in the conversation; with their rows, where it is
// answered now.
func (c *Conversation) lend(ctx context.Context, sql string, rows bool) error {
	from, tables, err := c.lendable(ctx, sql)
	if err != nil || len(tables) == 0 {
		return err
	}
	borrower, is := c.talk.(warehouse.Borrowing)
	if !is {
		return warehouse.Refused("0A000", "Tables of %s are asked together with those of the warehouse %s through a lake: ask "+
			"there, with the name of the warehouse before each table of another one.", from[0], c.warehouse)
	}
	needs, all, err := borrower.Needs(ctx, sql)
	for i := 0; err == nil && i < len(tables); i++ {
		err = c.lendOne(ctx, borrower, from[i], tables[i], func(column string) bool {
			return all || needs[strings.ToLower(column)]
		}, rows)
	}
	return err
}

func (c *Conversation) lendOne(ctx context.Context, to warehouse.Borrowing, from string, name schema.Name,
	needs func(column string) bool, rows bool) error {
	other, err := c.asking.Converse(ctx, c.asker, from)
	if err != nil {
		return err
	}
	defer other.Close()
	other.AsOf(c.asOf)
	q, err := other.Prepare(ctx, sqlmerge.RowsOf(schema.Table{Name: name}))
	if err != nil {
		return err
	}
	t := schema.Table{Name: name, Columns: needed(q.Columns, needs)}
	if !rows {
		return to.Borrow(ctx, from, t, nil)
	}
	if q, err = other.Prepare(ctx, sqlmerge.RowsOf(t)); err != nil {
		return err
	}
	answer, err := other.Ask(ctx, q, nil)
	if err != nil {
		return err
	}
	err = to.Borrow(ctx, from, t, func() (arrow.RecordBatch, error) { return answer.Next() })
	answer.Close()
	return err
}

// needed are the columns that a question needs; one, where only rows are counted.
func needed(columns []schema.Column, needs func(column string) bool) []schema.Column {
	some := slices.DeleteFunc(slices.Clone(columns), func(c schema.Column) bool { return !needs(c.Name) })
	if len(some) == 0 {
		return columns[:min(1, len(columns))]
	}
	return some
}
