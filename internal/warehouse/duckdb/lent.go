//go:build duckdb_arrow

package duckdb

import (
	"context"
	"encoding/json"
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

// Needs are the columns that a question names, in lower case; all tells that it may mean others, too, or cannot be read.
func (s *Scratch) Needs(ctx context.Context, sql string) (columns map[string]bool, all bool, err error) {
	found, err := s.Conn.(*conn).ask(ctx, "SELECT json_serialize_sql(CAST(? AS VARCHAR))::VARCHAR", explains.ReplaceAllString(sql, ""))
	if err != nil {
		return nil, false, err
	}
	text, _ := found[0][0].(string)
	var tree map[string]any
	if err := json.Unmarshal([]byte(text), &tree); err != nil || tree["error"] != false {
		return nil, true, nil
	}
	n := needs{columns: map[string]bool{}, alone: map[string]bool{}, tables: map[string]bool{}}
	n.see(tree)
	for name := range n.alone {
		n.all = n.all || n.tables[name] // a row as a whole
	}
	return n.columns, n.all, nil
}

// needs is what a question names, in lower case.
type needs struct {
	columns map[string]bool
	alone   map[string]bool // names of columns without that of a table
	tables  map[string]bool // names and aliases
	all     bool
}

func (n *needs) see(part any) {
	switch x := part.(type) {
	case []any:
		for _, one := range x {
			n.see(one)
		}
	case map[string]any:
		n.node(x)
		for _, one := range x {
			n.see(one)
		}
	}
}

func (n *needs) node(x map[string]any) {
	names := func(key string) (list []string) {
		all, _ := x[key].([]any)
		for _, one := range all {
			list = append(list, strings.ToLower(textOf(one)))
		}
		return list
	}
	kind := textOf(x["type"])
	switch {
	case x["class"] == "STAR", strings.Contains(kind, "PIVOT"), kind == "SHOW_REF", x["ref_type"] == "NATURAL",
		len(names("column_name_alias")) > 0:
		n.all = true
	case x["class"] == "COLUMN_REF":
		list := names("column_names")
		for _, name := range list {
			n.columns[name] = true
		}
		if len(list) == 1 {
			n.alone[list[0]] = true
		}
	case kind == "BASE_TABLE":
		n.tables[strings.ToLower(textOf(x["table_name"]))] = true
		n.tables[strings.ToLower(textOf(x["alias"]))] = true
	}
	for _, name := range names("using_columns") {
		n.columns[name] = true
	}
}
