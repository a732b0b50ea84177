package postgres

import (
	"encoding/hex"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/change"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

var allocator = memory.DefaultAllocator

// setAside keeps a change whose column at a place cannot be stored. The first columns,
// as many as done says, have been appended already; the row is void.
func (g *gatherer) setAside(place int, row []cell, c change.Row, reason string, done int) error {
	if done > 0 {
		for _, f := range g.fields[done:] {
			f.AppendNull()
		}
		c.Kind = 0
		g.batch.Rows = append(g.batch.Rows, c)
	}
	a := rows.Aside{Row: map[string]*string{}, Reason: fmt.Sprintf("Column %s %s.", g.Table.Columns[place].Name, reason)}
	texts := make([]string, len(row))
	for i, v := range row {
		column := g.Table.Columns[i]
		switch {
		case v.kind == 't':
			texts[i] = string(v.data)
		case v.kind == 'b' && i != place:
			texts[i] = textOf(g, i, v.data)
		case v.kind == 'b':
			texts[i] = `\x` + hex.EncodeToString(v.data)
			if g.values[i].Check != nil {
				if _, shown := g.values[i].Check(v.data); shown != "" {
					texts[i] = shown
				}
			}
		default:
			a.Row[column.Name] = nil
			continue
		}
		a.Row[column.Name] = &texts[i]
	}
	key := make([]string, len(g.key))
	for i, k := range g.key {
		key[i] = texts[k]
	}
	if len(key) > 0 {
		a.Key = rows.KeyJSON(key)
	}
	g.batch.Aside = append(g.batch.Aside, a)
	return nil
}

func textOf(g *gatherer, place int, value []byte) string {
	if check := g.values[place].Check; check != nil {
		if reason, shown := check(value); reason != "" {
			return shown
		}
	}
	t := g.Table.Columns[place].Type
	b := array.NewBuilder(allocator, t.Arrow())
	defer b.Release()
	g.values[place].Binary(b, value)
	text, _ := schema.CellText(b.NewArray(), 0, t)
	return text
}
