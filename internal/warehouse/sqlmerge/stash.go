package sqlmerge

import (
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

func (d Dialect) createStash(s warehouse.Stash) []string {
	return []string{
		d.CreateTableOf(copiedTable(s.Feed, s.Table), stash.CopiedColumns(s.Columns)),
		d.CreateTableOf(waitingTable(s.Feed, s.Table), stash.Columns(s.Columns)),
	}
}

func dropStash(feed, table string) []string {
	return []string{
		"DROP TABLE IF EXISTS " + copiedTable(feed, table).Quoted(),
		"DROP TABLE IF EXISTS " + waitingTable(feed, table).Quoted(),
		fmt.Sprintf("DELETE FROM noemata.copy_parts WHERE feed = %s AND source_table = %s", schema.Literal(feed),
			schema.Literal(table)),
	}
}
