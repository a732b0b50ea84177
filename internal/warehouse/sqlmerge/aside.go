package sqlmerge

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/statement"
)

// aside says whose rows are set aside.
type aside struct {
	feed, table string
	run         int64
}

// keepAside keeps rows that are set aside, and takes out those that have healed. What is
// recorded of it holds no values.
func keepAside(ctx context.Context, c Conn, of aside, list []rows.Aside, healed []string) error {
	if len(list)+len(healed) == 0 {
		return nil
	}
	statements, shown := asideStatements(of, list, healed)
	done := statement.Begin(ctx, statement.Warehouse, shown)
	quiet := statement.With(ctx, func(statement.Statement) {})
	for _, sql := range statements {
		if _, err := c.Exec(quiet, sql); err != nil {
			done(0, err)
			return err
		}
	}
	done(int64(len(list)), nil)
	return nil
}

// asideStatements keep rows that are set aside, once each, and take out those whose key
// has since come in a form that can be stored. shown is what a log may say instead, as
// the statements hold the rows' values.
func asideStatements(of aside, list []rows.Aside, healed []string) (statements []string, shown string) {
	at := fmt.Sprintf("feed = %s AND source_table = %s", schema.Literal(of.feed), schema.Literal(of.table))
	var digests, values []string
	seen := map[string]bool{}
	for _, a := range list {
		digest := a.Digest()
		if seen[digest] {
			continue
		}
		seen[digest] = true
		content, _ := json.Marshal(a.Row) // a map of texts always marshals
		digests = append(digests, schema.Literal(digest))
		values = append(values, fmt.Sprintf("(%s, %s, %s, %s, %s, %s, %d, now())", schema.Literal(of.feed),
			schema.Literal(of.table),
			schema.Literal(digest), schema.Literal(a.Key), schema.Literal(string(content)), schema.Literal(a.Reason),
			of.run))
	}
	for chunk := range slices.Chunk(digests, 500) {
		statements = append(statements,
			fmt.Sprintf("DELETE FROM noemata.set_aside WHERE %s AND digest IN (%s)", at, strings.Join(chunk, ", ")))
	}
	for chunk := range slices.Chunk(healed, 500) {
		literals := make([]string, len(chunk))
		for i, key := range chunk {
			literals[i] = schema.Literal(key)
		}
		statements = append(statements,
			fmt.Sprintf("DELETE FROM noemata.set_aside WHERE %s AND key IN (%s)", at, strings.Join(literals, ", ")))
	}
	for chunk := range slices.Chunk(values, 500) {
		statements = append(statements,
			"INSERT INTO noemata.set_aside (feed, source_table, digest, key, content, reason, run, noted_at) VALUES "+
				strings.Join(chunk, ", "))
	}
	return statements, fmt.Sprintf("DELETE and INSERT INTO noemata.set_aside -- %d rows set aside, %d no longer",
		len(list), len(healed))
}
