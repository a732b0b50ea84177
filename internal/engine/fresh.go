package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// A feed may have columns that come later hashed until it names them. Which of them came later the
// warehouse remembers, from before a row of them arrives.

// columnsKnown is what is remembered of a table's columns.
type columnsKnown struct {
	Known  []string `json:"known"`  // that were there when the table began, or were named since
	Hashed []string `json:"hashed"` // that came later
}

// knownOf reads what is remembered, where the feed asks for it; nil where it does not.
func knownOf(ctx context.Context, f *feed.Feed, t feed.Table, wh warehouse.Warehouse) (*columnsKnown, error) {
	if f.HashNew(t) == "" {
		return nil, nil
	}
	text, err := wh.Journal().Columns(ctx, f.Name, t.Table)
	if err != nil {
		return nil, err
	}
	known := &columnsKnown{}
	if text == "" {
		return known, nil
	}
	if err := json.Unmarshal([]byte(text), known); err != nil {
		return nil, fmt.Errorf("the columns of %s in the warehouse's journal: %w", t.Table, err)
	}
	return known, nil
}

// withHashed is the table of a feed with the columns hashed that came later, and what is to be
// remembered of them. Nothing came later than the beginning.
func (k *columnsKnown) withHashed(f *feed.Feed, t feed.Table, table schema.Table) (feed.Table, *columnsKnown) {
	if k == nil {
		return t, nil
	}
	now := &columnsKnown{Known: k.Known, Hashed: []string{}}
	if len(k.Known) == 0 {
		now.Known = table.ColumnNames()
		return t, now
	}
	t.Columns = maps.Clone(t.Columns)
	for _, c := range table.Columns {
		switch {
		case slices.Contains(k.Known, c.Name) || t.Dropped(c.Name):
		case t.Names(c.Name):
			now.Known = append(slices.Clone(now.Known), c.Name)
		default:
			now.Hashed = append(now.Hashed, c.Name)
			if t.Columns == nil {
				t.Columns = map[string]feed.Treatment{}
			}
			t.Columns[c.Name] = feed.Treatment{Hash: f.HashNew(t)}
		}
	}
	return t, now
}

// remember keeps what is to be remembered of a table's columns, before rows of them arrive.
func (k *columnsKnown) remember(ctx context.Context, f *feed.Feed, t feed.Table, wh warehouse.Warehouse) error {
	if k == nil {
		return nil
	}
	content, _ := json.Marshal(k) // texts always marshal
	was, err := wh.Journal().Columns(ctx, f.Name, t.Table)
	if err != nil || was == string(content) {
		return err
	}
	return wh.Journal().Note(ctx, f.Name, warehouse.Columns{Table: t.Table, Known: string(content)})
}
