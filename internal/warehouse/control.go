package warehouse

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Control is the definition of the control schema, in SQL that every warehouse
// understands. Positions are kept unique by compare-and-set.
var Control = []string{
	`CREATE SCHEMA IF NOT EXISTS noemata`,
	`CREATE TABLE IF NOT EXISTS noemata.positions (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, position VARCHAR, version BIGINT NOT NULL, run BIGINT NOT NULL,
    moved_at TIMESTAMP WITH TIME ZONE NOT NULL, PRIMARY KEY (feed, source_table))`,
	`CREATE TABLE IF NOT EXISTS noemata.loads (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, target VARCHAR NOT NULL, run BIGINT NOT NULL,
    from_position VARCHAR, to_position VARCHAR, rows_read BIGINT NOT NULL, rows_filtered BIGINT NOT NULL, rows_folded BIGINT NOT NULL,
    rows_set_aside BIGINT NOT NULL, rows_unchanged BIGINT NOT NULL, rows_inserted BIGINT NOT NULL, rows_updated BIGINT NOT NULL,
    rows_deleted BIGINT NOT NULL, committed_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
	`CREATE TABLE IF NOT EXISTS noemata.set_aside (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, digest VARCHAR NOT NULL, key VARCHAR NOT NULL, content VARCHAR NOT NULL,
    reason VARCHAR NOT NULL, run BIGINT NOT NULL, noted_at TIMESTAMP WITH TIME ZONE NOT NULL)`,
	// When the keys of a table were last compared with those of its source.
	`CREATE TABLE IF NOT EXISTS noemata.sweeps (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, swept_at TIMESTAMP WITH TIME ZONE NOT NULL, keys_read BIGINT NOT NULL,
    keys_gone BIGINT NOT NULL, PRIMARY KEY (feed, source_table))`,
	// One row for each feed that follows a change log: what it is called at the source,
	// which database that was, and the moment of the last transaction that was applied.
	`CREATE TABLE IF NOT EXISTS noemata.logs (
    feed VARCHAR NOT NULL PRIMARY KEY, name VARCHAR NOT NULL, origin VARCHAR NOT NULL, last_moment BIGINT NOT NULL)`,
	// One row for each table of such a feed, and one for each part of its copy.
	`CREATE TABLE IF NOT EXISTS noemata.copies (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, state VARCHAR NOT NULL, generation BIGINT NOT NULL, layout VARCHAR NOT NULL,
    snapshots VARCHAR NOT NULL, reached VARCHAR NOT NULL, moment BIGINT NOT NULL, PRIMARY KEY (feed, source_table))`,
	`CREATE TABLE IF NOT EXISTS noemata.copy_parts (
    feed VARCHAR NOT NULL, source_table VARCHAR NOT NULL, generation BIGINT NOT NULL, part BIGINT NOT NULL, snapshot BIGINT NOT NULL,
    row_count BIGINT NOT NULL, aside_count BIGINT NOT NULL, PRIMARY KEY (feed, source_table, generation, part))`,
}

// lastControl is the table of Control that is made last.
const lastControl = "copy_parts"

// Statements on the control schema; parameters are numbered alike everywhere.
const (
	placesSQL = `SELECT source_table, position, version, run, moved_at FROM noemata.positions WHERE feed = $1 AND (NOT $3 OR source_table = $2) ORDER BY source_table`
	moveSQL   = `UPDATE noemata.positions SET position = $3, version = version + 1, run = $4, moved_at = now() WHERE feed = $1 AND source_table = $2 AND version = $5`
	enterSQL  = `INSERT INTO noemata.positions (feed, source_table, position, version, run, moved_at) VALUES ($1, $2, $3, 1, $4, now()) ON CONFLICT DO NOTHING`
	auditSQL  = `INSERT INTO noemata.loads (feed, source_table, target, run, from_position, to_position, rows_read, rows_filtered, rows_folded, rows_set_aside, rows_unchanged, rows_inserted, rows_updated, rows_deleted, committed_at)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, now())`
	asideKeysSQL = `SELECT key FROM noemata.set_aside WHERE feed = $1 AND source_table = $2 AND key <> ''`
)

// Text is a position as it is stored: null when it is before everything.
func Text(p position.Position) any {
	if p.IsZero() {
		return nil
	}
	return p.String()
}

// MostAside is how many rows one commit may set aside. More than that is not a
// few odd rows but a table that does not fit, and a person should look at it.
const MostAside = 10_000

// TooManyAside is the problem of a commit with more than MostAside.
func TooManyAside(table, reason string) error {
	return problem.Newf(problem.Held, "See the reason and change the feed, for instance with as_text; nothing of this commit was written.", "More than %d rows of %s cannot be stored as they are. The last one: %s", MostAside, table, reason)
}

// AsideStatements keep rows that are set aside, once each, and take out those
// whose key has since come in a form that can be stored. shown is what a log may
// say instead, as the statements hold the rows' values.
func AsideStatements(l Load, aside []rows.Aside, healed []string) (statements []string, shown string) {
	at := fmt.Sprintf("feed = %s AND source_table = %s", schema.Literal(l.Feed), schema.Literal(l.Table))
	var digests, values []string
	seen := map[string]bool{}
	for _, a := range aside {
		digest := a.Digest()
		if seen[digest] {
			continue
		}
		seen[digest] = true
		content, _ := json.Marshal(a.Row) // a map of texts always marshals
		digests = append(digests, schema.Literal(digest))
		values = append(values, fmt.Sprintf("(%s, %s, %s, %s, %s, %s, %d, now())", schema.Literal(l.Feed), schema.Literal(l.Table),
			schema.Literal(digest), schema.Literal(a.Key), schema.Literal(string(content)), schema.Literal(a.Reason), l.Run))
	}
	for chunk := range slices.Chunk(digests, 500) {
		statements = append(statements, fmt.Sprintf("DELETE FROM noemata.set_aside WHERE %s AND digest IN (%s)", at, strings.Join(chunk, ", ")))
	}
	for chunk := range slices.Chunk(healed, 500) {
		literals := make([]string, len(chunk))
		for i, key := range chunk {
			literals[i] = schema.Literal(key)
		}
		statements = append(statements, fmt.Sprintf("DELETE FROM noemata.set_aside WHERE %s AND key IN (%s)", at, strings.Join(literals, ", ")))
	}
	for chunk := range slices.Chunk(values, 500) {
		statements = append(statements, "INSERT INTO noemata.set_aside (feed, source_table, digest, key, content, reason, run, noted_at) VALUES "+strings.Join(chunk, ", "))
	}
	return statements, fmt.Sprintf("DELETE and INSERT INTO noemata.set_aside -- %d rows set aside, %d no longer", len(aside), len(healed))
}
