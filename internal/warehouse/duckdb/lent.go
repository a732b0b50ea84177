//go:build duckdb_arrow

package duckdb

import (
	"context"
	"fmt"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/schema"
)

// Lend has a table of another database in a working space, instead of what was there of it: with the rows that next
// gives until it gives none, or without any where it is nil. The database is called as it is said, and is in memory or,
// where that does not suffice, in the folder of the working space.
func (s *Scratch) Lend(ctx context.Context, database string, t schema.Table, next func() (arrow.RecordBatch, error)) error {
	c := s.Conn.(*conn)
	in := schema.Quote(database) + "." + schema.Quote(t.Name.Schema)
	at := in + "." + schema.Quote(t.Name.Table)
	columns := make([]string, len(t.Columns))
	for i, column := range t.Columns {
		columns[i] = schema.Quote(column.Name) + " " + dialect.TypeName(column.Type)
	}
	for _, sql := range []string{
		"ATTACH IF NOT EXISTS ':memory:' AS " + schema.Quote(database), "CREATE SCHEMA IF NOT EXISTS " + in,
		fmt.Sprintf("CREATE OR REPLACE TABLE %s (%s)", at, strings.Join(columns, ", ")),
	} {
		if _, err := s.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if c.lent == nil {
		c.lent = map[string]bool{}
	}
	c.lent[lentName(database, t.Name.Schema, t.Name.Table)] = true
	for next != nil {
		record, err := next()
		if err != nil || record == nil {
			return err
		}
		if err := s.Insert(ctx, at, t.Columns, record, nil); err != nil {
			return err
		}
	}
	return nil
}

// lentName is what a table of another database is known by.
func lentName(database, in, table string) string {
	return strings.ToLower(fmt.Sprintf("%q %q %q", database, in, table))
}
