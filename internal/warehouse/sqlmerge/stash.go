package sqlmerge

import (
	"context"
	"fmt"
	"hash/fnv"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/core/stash"
	"noemata/internal/warehouse"
)

// controlTable names a table of the control schema that belongs to a table of a feed.
func controlTable(what, of, table string) schema.Name {
	h := fnv.New64a()
	_, _ = fmt.Fprintf(h, "%s\x00%s", of, table)
	return schema.Name{Schema: feed.ControlSchema, Table: fmt.Sprintf("%s_%016x", what, h.Sum64())}
}

// copiedTable holds the rows of a copy, and waitingTable the changes that wait for it.
func copiedTable(feed, table string) schema.Name  { return controlTable("copied", feed, table) }
func waitingTable(feed, table string) schema.Name { return controlTable("suspended", feed, table) }

// keysTable holds the keys of a sweep, within its commit.
func keysTable(feed, table string) schema.Name { return controlTable("keys", feed, table) }

// stashOf are both of them.
func stashOf(feed, table string) []schema.Name {
	return []schema.Name{copiedTable(feed, table), waitingTable(feed, table)}
}

func (b *Base) createStash(ctx context.Context, c Conn, s warehouse.Stash) error {
	for i, columns := range [][]schema.Column{stash.CopiedColumns(s.Columns), stash.Columns(s.Columns)} {
		name := stashOf(s.Feed, s.Table)[i]
		if err := bring(ctx, c, name, NoRows); err != nil {
			return err
		}
		if _, err := tablesOf(c).Exec(ctx, b.SQL.CreateTableOf(name, columns)); err != nil {
			return err
		}
	}
	return nil
}

// emptyCopied takes all rows of a copy out.
func emptyCopied(ctx context.Context, c Conn, s warehouse.Stash) error {
	name := copiedTable(s.Feed, s.Table)
	if err := bring(ctx, c, name, AllRows); err != nil {
		return err
	}
	_, err := tablesOf(c).Exec(ctx, "DELETE FROM "+name.Quoted())
	return err
}

func dropStash(ctx context.Context, c Conn, feed, table string) error {
	for _, name := range stashOf(feed, table) {
		if err := bring(ctx, c, name, NoRows); err != nil {
			return err
		}
		if _, err := tablesOf(c).Exec(ctx, "DROP TABLE IF EXISTS "+name.Quoted()); err != nil {
			return err
		}
	}
	_, err := c.Exec(ctx, fmt.Sprintf("DELETE FROM noemata.copy_parts WHERE feed = %s AND source_table = %s",
		schema.Literal(feed), schema.Literal(table)))
	return err
}
