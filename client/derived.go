package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"noemata/internal/core/problem"
)

// DerivedSets lists sets of derived tables.
func (c *Client) DerivedSets(ctx context.Context) ([]DerivedSet, error) {
	return get[[]DerivedSet](ctx, c, "/derived", nil)
}

// DerivedSet is a set of derived tables, and how they are doing.
func (c *Client) DerivedSet(ctx context.Context, name string) (DerivedSet, error) {
	return get[DerivedSet](ctx, c, at("derived", name), nil)
}

// DerivedFile checks, compares or applies a file of derived tables. files are those that it names for SQL.
func (c *Client) DerivedFile(ctx context.Context, file string, files map[string]string, mode FileMode) (DerivedApplied,
	error) {
	return post[DerivedApplied](ctx, c, "/derived-files", nil,
		map[string]any{"file": file, "files": files, "dry_run": mode != Apply, "offline": mode == Compare})
}

// ExportDerived gives a set as its file.
func (c *Client) ExportDerived(ctx context.Context, name string) (string, error) {
	x, err := get[struct{ File string }](ctx, c, at("derived", name, "file"), nil)
	return x.File, err
}

// StartDerived lets the tables of a set be made on their own.
func (c *Client) StartDerived(ctx context.Context, name string) (DerivedSet, error) {
	return post[DerivedSet](ctx, c, at("derived", name, "start"), nil, nil)
}

// PauseDerived has the tables of a set made only when a person asks for it.
func (c *Client) PauseDerived(ctx context.Context, name string) (DerivedSet, error) {
	return post[DerivedSet](ctx, c, at("derived", name, "pause"), nil, nil)
}

// makersWithin is how long a making is waited for while nothing of its set is made.
const makersWithin = 2 * time.Minute

// MakeDerived has tables of a set made now, all where none is named, waits for it, and gives what came of each.
func (c *Client) MakeDerived(ctx context.Context, name string, tables ...string) ([]Derivation, error) {
	if len(tables) == 0 {
		s, err := c.DerivedSet(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, t := range s.Tables {
			tables = append(tables, t.Table)
		}
	}
	last := func(table string) (Derivation, error) {
		found, err := c.Derivations(ctx, name, table, 1)
		if err != nil || len(found) == 0 {
			return Derivation{}, err
		}
		return found[0], nil
	}
	before := map[string]int64{}
	for _, t := range tables {
		d, err := last(t)
		if err != nil {
			return nil, err
		}
		before[t] = d.ID
	}
	if err := c.call(ctx, http.MethodPost, at("derived", name, "makings"), nil, map[string]any{"tables": tables},
		nil); err != nil {
		return nil, err
	}
	list := []Derivation{}
	heard := time.Now() // of any table of the set that was made
	for _, t := range tables {
		for d, err := last(t); ; d, err = last(t) {
			if err != nil {
				return nil, err
			}
			if d.ID > before[t] && d.EndedAt != nil {
				list, heard = append(list, d), time.Now()
				break
			}
			if newest, err := last(""); err != nil {
				return nil, err
			} else if newest.ID > 0 && newest.EndedAt == nil {
				heard = time.Now()
			}
			if time.Since(heard) > makersWithin {
				return nil, problem.Newf(problem.Busy, "See whether one is there that has its warehouse: noemata processes list.",
					"No process of the service has begun to make %s.", t)
			}
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(200 * time.Millisecond):
			}
		}
	}
	return list, nil
}

// RemoveDerived removes a set, and its tables where drop says so.
func (c *Client) RemoveDerived(ctx context.Context, name string, drop bool) error {
	return c.call(ctx, http.MethodDelete, at("derived", name), url.Values{"drop": {strconv.FormatBool(drop)}}, nil, nil)
}

// DropDerived drops a derived table that no set has any more.
func (c *Client) DropDerived(ctx context.Context, warehouse, table string) error {
	return c.call(ctx, http.MethodDelete, at("warehouses", warehouse, "derived"), ofTable(table), nil, nil)
}

// Derivations lists when tables of a set were made, the newest first; of one table where it is named.
func (c *Client) Derivations(ctx context.Context, name, table string, limit int) ([]Derivation, error) {
	return get[[]Derivation](ctx, c, at("derived", name, "makings"), url.Values{"table": {table},
		"limit": {strconv.Itoa(limit)}})
}

// Derivation is one making of a table, with its statements.
func (c *Client) Derivation(ctx context.Context, id int64) (Derivation, error) {
	return get[Derivation](ctx, c, at("derivations", strconv.FormatInt(id, 10)), nil)
}

// StopDerivation stops the making of a table.
func (c *Client) StopDerivation(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodPost, at("derivations", strconv.FormatInt(id, 10), "stop"), nil, nil, nil)
}
