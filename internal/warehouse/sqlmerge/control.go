package sqlmerge

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// migrations bring the control schema from each version to the next, in SQL that every
// warehouse understands. Each is a transaction of its own. The first one also takes along
// what versions of Noemata have made that kept no version: they have its form.
var migrations = [][]string{
	{
		// Positions are kept unique by compare-and-set.
		`CREATE TABLE IF NOT EXISTS noemata.positions (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, position VARCHAR, version BIGINT NOT NULL, run BIGINT NOT NULL,
    moved_at TIMESTAMP WITH TIME ZONE NOT NULL, PRIMARY KEY (feed, source_table))`,
		`CREATE TABLE IF NOT EXISTS noemata.loads (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, target VARCHAR NOT NULL, run BIGINT NOT NULL,
    from_position VARCHAR, to_position VARCHAR, rows_read BIGINT NOT NULL, rows_filtered BIGINT NOT NULL,
    rows_folded BIGINT NOT NULL, rows_set_aside BIGINT NOT NULL, rows_unchanged BIGINT NOT NULL,
    rows_inserted BIGINT NOT NULL, rows_updated BIGINT NOT NULL, rows_deleted BIGINT NOT NULL,
    committed_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
		`CREATE TABLE IF NOT EXISTS noemata.set_aside (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, digest VARCHAR NOT NULL, key VARCHAR NOT NULL,
    content VARCHAR NOT NULL, reason VARCHAR NOT NULL, run BIGINT NOT NULL, noted_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
		// When the keys of a table were last compared with those of its source.
		`CREATE TABLE IF NOT EXISTS noemata.sweeps (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, swept_at TIMESTAMP WITH TIME ZONE NOT NULL,
    keys_read BIGINT NOT NULL, keys_gone BIGINT NOT NULL, PRIMARY KEY (feed, source_table))`,
		// One row for each feed that follows a change log: what it is called at the source,
		// which database that was, and the moment of the last transaction that was applied.
		`CREATE TABLE IF NOT EXISTS noemata.logs (
    feed VARCHAR NOT NULL PRIMARY KEY, name VARCHAR NOT NULL, origin VARCHAR NOT NULL, last_moment BIGINT NOT NULL)`,
		// One row for each table of such a feed, and one for each part of its copy.
		`CREATE TABLE IF NOT EXISTS noemata.copies (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, state VARCHAR NOT NULL, generation BIGINT NOT NULL,
    layout VARCHAR NOT NULL, snapshots VARCHAR NOT NULL, reached VARCHAR NOT NULL, moment BIGINT NOT NULL,
    PRIMARY KEY (feed, source_table))`,
		`CREATE TABLE IF NOT EXISTS noemata.copy_parts (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, generation BIGINT NOT NULL, part BIGINT NOT NULL,
    snapshot BIGINT NOT NULL, row_count BIGINT NOT NULL, aside_count BIGINT NOT NULL,
    PRIMARY KEY (feed, source_table, generation, part))`,
	},
	// The layout of a copy, the structure of a table that follows and the reason of one that
	// is held were one column.
	{
		`ALTER TABLE noemata.copies ADD COLUMN structure VARCHAR`,
		`ALTER TABLE noemata.copies ADD COLUMN reason VARCHAR`,
	},
	{
		`UPDATE noemata.copies SET structure = layout, layout = '' WHERE state = 'following'`,
		`UPDATE noemata.copies SET reason = layout, layout = '' WHERE state = 'held'`,
	},
	{
		`ALTER TABLE noemata.loads ADD COLUMN shape VARCHAR`,
		`ALTER TABLE noemata.copy_parts ADD COLUMN filtered_count BIGINT`,
		// Of tables that are found otherwise than by the log.
		`CREATE TABLE noemata.structures (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, structure VARCHAR NOT NULL, PRIMARY KEY (feed, source_table))`,
		`CREATE TABLE noemata.drifts (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, kind VARCHAR NOT NULL, what VARCHAR NOT NULL,
    done VARCHAR NOT NULL, run BIGINT NOT NULL, noted_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
	},
	{
		// Of tables that are found by comparing both sides.
		`CREATE TABLE noemata.comparisons (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, found VARCHAR NOT NULL, PRIMARY KEY (feed, source_table))`,
		// Of tables whose columns are hashed that come later.
		`CREATE TABLE noemata.columns (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, known VARCHAR NOT NULL, PRIMARY KEY (feed, source_table))`,
		// Of tables that began in the midst, and of which backfills have brought what was before.
		`CREATE TABLE noemata.beginnings (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, position VARCHAR NOT NULL, PRIMARY KEY (feed, source_table))`,
	},
	{
		`ALTER TABLE noemata.copies ADD COLUMN fills VARCHAR`,
	},
	{
		// What those who ask may see of all this: how far each table has come in what they see. Of tables that follow a
		// log, up_to is a place in it, and complete_to when the source committed the last transaction before that; of others
		// up_to is a watermark. Steps of 24 hours are the same in all zones, and 32 bits hold each.
		"CREATE VIEW noemata.freshness AS\nSELECT f.feed, f.source_table, t.target, f.up_to, f.complete_to, f.committed_at " + freshness,
		`GRANT SELECT ON noemata.freshness TO PUBLIC`,
	},
	{
		// Rows that were given values of columns that came later: no step of a merge counts them.
		`ALTER TABLE noemata.loads ADD COLUMN rows_filled BIGINT`,
		// How derived tables were made last: from which versions of what they read, and how often their rows have become
		// others.
		`CREATE TABLE noemata.derived (
    target VARCHAR NOT NULL, kept_as VARCHAR NOT NULL, definition VARCHAR NOT NULL, inputs VARCHAR NOT NULL,
    version BIGINT NOT NULL, row_count BIGINT NOT NULL, made_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
		// The rows of what they read, part by part, as they were then.
		`CREATE TABLE noemata.derived_parts (
    target VARCHAR NOT NULL, input VARCHAR NOT NULL, part VARCHAR NOT NULL, digest VARCHAR NOT NULL)`,
		// For those who ask: what names a row of each target, and the foreign keys of the source between targets.
		`CREATE TABLE noemata.keys (target VARCHAR NOT NULL, key_columns VARCHAR NOT NULL)`,
		`CREATE TABLE noemata.relations (
    target VARCHAR NOT NULL, its_columns VARCHAR NOT NULL, refers_to VARCHAR NOT NULL, refers_to_columns VARCHAR NOT NULL)`,
		`GRANT SELECT ON noemata.keys, noemata.relations TO PUBLIC`,
	},
	{
		// Where feeds that follow a log had come, now and then: to where their positions can be set back. And up to where
		// a log is read again, since it was.
		`CREATE TABLE noemata.places (
    feed VARCHAR NOT NULL, position VARCHAR NOT NULL, reached_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
		`ALTER TABLE noemata.logs ADD COLUMN replays_to VARCHAR`,
	},
	{
		// The last proof of each table, for those who ask: whether both sides held the same rows, and how many the source had.
		`CREATE TABLE noemata.proofs (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, proven_at TIMESTAMP WITH TIME ZONE NOT NULL,
    proven_same BOOLEAN NOT NULL, proven_rows BIGINT NOT NULL, PRIMARY KEY (feed, source_table))`,
		"CREATE OR REPLACE VIEW noemata.freshness AS\nSELECT f.feed, f.source_table, t.target, f.up_to, f.complete_to, " +
			"f.committed_at, p.proven_at, p.proven_same, p.proven_rows " + freshness +
			"\nLEFT JOIN noemata.proofs AS p ON p.feed = f.feed AND p.source_table = f.source_table",
	},
}

// freshness is what the view of that name is made of, in each of its forms.
const freshness = `FROM (
    SELECT c.feed, c.source_table, p.position AS up_to, p.moved_at AS committed_at,
      TIMESTAMP WITH TIME ZONE '1970-01-01 00:00:00+00'
        + CAST((l.last_moment - l.last_moment % 86400000000) / 86400000000 AS INTEGER) * INTERVAL '24 hours'
        + CAST((l.last_moment % 86400000000 - l.last_moment % 1000000) / 1000000 AS INTEGER) * INTERVAL '1 second'
        + CAST(l.last_moment % 1000000 AS INTEGER) * INTERVAL '1 microsecond' AS complete_to
    FROM noemata.copies AS c JOIN noemata.positions AS p ON p.feed = c.feed AND p.source_table = ''
      JOIN noemata.logs AS l ON l.feed = c.feed WHERE c.state = 'following' AND l.last_moment > 0
    UNION ALL
    SELECT p.feed, p.source_table, p.position, p.moved_at, CAST(NULL AS TIMESTAMP WITH TIME ZONE)
    FROM noemata.positions AS p WHERE p.source_table <> '') AS f
LEFT JOIN (SELECT DISTINCT b.feed, b.source_table, b.target FROM noemata.loads AS b JOIN (
      SELECT feed, source_table, max(run) AS run FROM noemata.loads GROUP BY feed, source_table) AS last
    ON last.feed = b.feed AND last.source_table = b.source_table AND last.run = b.run) AS t
  ON t.feed = f.feed AND t.source_table = f.source_table`

// versionTable holds one row: the version of the control schema, which is the number of
// migrations that were made.
var versionTable = schema.Name{Schema: feed.ControlSchema, Table: "control"}

// version is that of the control schema; 0 where there is none, or it keeps no version.
func (b *Base) version(ctx context.Context, c Conn) (int, error) {
	has, err := c.Columns(ctx, versionTable)
	if err != nil || len(has) == 0 {
		return 0, err
	}
	found, err := c.Ask(ctx, "SELECT version FROM noemata.control")
	if err != nil || len(found) == 0 {
		return 0, err
	}
	return int(found[0][0].(int64)), nil
}

// knownFor is how long the control schema is not looked at again: a feed asks for it once for each of its tables.
const knownFor = 2 * time.Second

// Migrate brings the control schema to the form that this version knows.
func (b *Base) Migrate(ctx context.Context) error {
	if at := b.migrated.Load(); at != nil && time.Since(*at) < knownFor {
		return nil
	}
	now := time.Now()
	var version int
	err := b.with(ctx, func(c Conn) (err error) {
		version, err = b.version(ctx, c)
		return err
	})
	for err == nil && version < len(migrations) {
		err = b.Exclusive(ctx, func(c Conn) error {
			// Another worker may have been here since.
			if version, err = b.version(ctx, c); err != nil || version >= len(migrations) {
				return err
			}
			steps := slices.Clone(migrations[version])
			if !b.SQL.Roles {
				steps = slices.DeleteFunc(steps, func(sql string) bool { return strings.HasPrefix(sql, "GRANT ") })
			}
			if version == 0 {
				first, err := createSchema(ctx, c, "noemata")
				if err != nil {
					return err
				}
				steps = slices.Concat(first, []string{"CREATE TABLE IF NOT EXISTS noemata.control (version BIGINT NOT NULL)",
					"INSERT INTO noemata.control (version) VALUES (0)"}, steps)
			}
			version++
			return execAll(ctx, c, append(steps, fmt.Sprintf("UPDATE noemata.control SET version = %d", version)))
		})
	}
	if err == nil && version > len(migrations) {
		return warehouse.TooNew(version, len(migrations))
	}
	if err == nil {
		b.migrated.Store(&now)
	}
	return err
}
