package postgres

import (
	"encoding/hex"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// aside is a change whose column at a place cannot be stored.
func (g *followed) aside(place int, row []cell, reason string) rows.Aside {
	texts := make([]*string, len(row))
	for i, v := range row {
		text := ""
		switch {
		case v.kind == 't':
			text = string(v.data)
		case v.kind == 'b' && i != place:
			text = g.textOf(i, v.data)
		case v.kind == 'b':
			text = `\x` + hex.EncodeToString(v.data)
			if g.values[i].Check != nil {
				if _, shown := g.values[i].Check(v.data); shown != "" {
					text = shown
				}
			}
		default:
			continue
		}
		texts[i] = &text
	}
	return rows.NewAside(g.Table.Columns, texts, g.KeyAt, g.Table.Columns[place].Name, reason)
}

func (g *followed) textOf(place int, value []byte) string {
	if check := g.values[place].Check; check != nil {
		if reason, shown := check(value); reason != "" {
			return shown
		}
	}
	t := g.Table.Columns[place].Type
	b := array.NewBuilder(memory.DefaultAllocator, t.Arrow())
	defer b.Release()
	g.values[place].Binary(b, value)
	text, _ := schema.CellText(b.NewArray(), 0, t)
	return text
}
