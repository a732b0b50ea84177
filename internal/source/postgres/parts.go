package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/schema"
)

// What becomes of a partitioned table as a whole, neither its log nor a watermark tells: rows that
// were there when a partition was attached, and those that went when one was detached, dropped or
// emptied.

// parts lists the pieces of a partitioned table that hold rows, by number and file, and how far
// transactions have come.
func (s *Source) parts(ctx context.Context, oid uint32) (parts []string, at string, err error) {
	err = s.Row(ctx, `SELECT pg_snapshot_xmin(pg_current_snapshot())::text, coalesce((SELECT array_agg(relid::oid || '/' ||
    coalesce(pg_relation_filenode(relid), 0) ORDER BY relid::oid) FROM pg_partition_tree($1::oid::regclass) WHERE isleaf), '{}')`,
		[]any{oid}, &at, &parts)
	return parts, at, err
}

// Came tells whether a partition was attached with rows in it.
func (s *Source) Came(ctx context.Context, t schema.Table, was []string) (came string, err error) {
	known := map[string]bool{}
	for _, p := range was {
		oid, _, _ := strings.Cut(p, "/")
		known[oid] = true
	}
	for _, p := range t.Parts {
		oid, _, _ := strings.Cut(p, "/")
		if known[oid] {
			continue
		}
		name, err := s.partName(ctx, oid)
		if err != nil || name == "" {
			return "", err
		}
		// Rows of the transaction that attached it count where they were written by an earlier command.
		var before bool
		err = s.Row(ctx, `WITH attached AS (
    SELECT age(i.xmin) AS age, i.cmin::text::int8 AS command FROM pg_inherits AS i
    WHERE i.inhrelid IN (SELECT relid FROM pg_partition_ancestors($1::oid::regclass)) ORDER BY 1, 2 DESC LIMIT 1
) SELECT EXISTS (SELECT FROM ONLY `+name+` AS l, attached AS a WHERE age(l.xmin) > a.age OR age(l.xmin) = a.age
    AND l.cmin::text::int8 <= a.command)`, []any{oid}, &before)
		if err != nil || before {
			return name, err
		}
	}
	return "", nil
}

// Went tells whether a partition is gone, or was emptied, since transactions had come to a place.
// A file that is another may have been written anew: then it has rows of before.
func (s *Source) Went(ctx context.Context, t schema.Table, was []string, at string) (went string, err error) {
	for _, p := range was {
		if slices.Contains(t.Parts, p) {
			continue
		}
		oid, _, _ := strings.Cut(p, "/")
		if !slices.ContainsFunc(t.Parts, func(x string) bool { return strings.HasPrefix(x, oid+"/") }) {
			return fmt.Sprintf("the one of number %s", oid), nil
		}
		name, err := s.partName(ctx, oid)
		if err != nil || name == "" {
			return name, err
		}
		var has bool
		err = s.Row(ctx, `SELECT EXISTS (SELECT FROM ONLY `+name+` AS l
WHERE age(l.xmin) > pg_snapshot_xmax(pg_current_snapshot())::text::int8 - $1::text::int8)`, []any{at}, &has)
		if err != nil || !has {
			return name, err
		}
	}
	return "", nil
}

// partName is the quoted name of a table by its number; empty where it has gone meanwhile.
func (s *Source) partName(ctx context.Context, oid string) (name string, err error) {
	err = s.Row(ctx, `SELECT coalesce((SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname) FROM pg_class AS c
JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE c.oid = $1::text::oid), '')`, []any{oid}, &name)
	return name, err
}
