//go:build duckdb_arrow

package duckdb

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// A question is let through when DuckDB's own parser takes it for a single SELECT, and all that its tree names may be
// read (duckdb.org/docs/stable/data/json/sql_to_and_from_json). Besides, it runs in a transaction that writes nothing,
// and no file is open to it (optionsOf).

// tableFunctions are those that read nothing but their arguments and the catalogue. Others take the name or the text
// of what they read, which the tree does not show.
var tableFunctions = setOf("range", "generate_series", "unnest", "repeat", "repeat_row", "json_each", "json_tree",
	"generate_subscripts", "regexp_split_to_table", "pg_timezone_names", "icu_calendar_names", "duckdb_columns",
	"duckdb_constraints", "duckdb_functions", "duckdb_indexes", "duckdb_keywords", "duckdb_schemas", "duckdb_tables",
	"duckdb_types", "duckdb_views")

// changing are functions that do more than compute.
var changing = setOf("nextval", "currval", "setseed", "write_log", "getenv", "getvariable")

func setOf(names ...string) map[string]bool {
	set := map[string]bool{}
	for _, n := range names {
		set[n] = true
	}
	return set
}

// catalogues are the schemas that tell of tables, and have no rows of any.
var catalogues = setOf("information_schema", "pg_catalog")

// explains is what may stand before a question, to be told how it is answered.
var explains = regexp.MustCompile(`(?is)^\s*EXPLAIN\s+(ANALYZE\s+)?`)

// mention is a table that a question names, and at which byte.
type mention struct {
	database, schema, table, alias string
	at                             int
	rows                           bool // it is asked for its rows, and not for what it is made of
}

// ofCatalogue tells whether it is one of PostgreSQL's catalogue.
func (m mention) ofCatalogue() bool {
	return strings.EqualFold(m.schema, "pg_catalog") || m.schema == "" && strings.HasPrefix(strings.ToLower(m.table),
		"pg_")
}

// gate lets a question through, and gives the tables that it names; or tells why not.
func (c *conn) gate(ctx context.Context, sql string, may warehouse.May) ([]mention, error) {
	r, err := c.through(ctx, sql, may)
	return r.tables, err
}

// through looks through a question, and tells why it is not let.
func (c *conn) through(ctx context.Context, sql string, may warehouse.May) (reading, error) {
	var r reading
	read := sql
	if at := explains.FindStringIndex(sql); at != nil {
		read = sql[at[1]:]
	}
	found, err := c.ask(ctx, "SELECT json_serialize_sql(CAST(? AS VARCHAR))::VARCHAR", read)
	if err != nil {
		return r, err
	}
	text, _ := found[0][0].(string)
	var parsed struct {
		Error   bool   `json:"error"`
		Kind    string `json:"error_type"`
		Message string `json:"error_message"`
		At      any    `json:"position"`
		List    []any  `json:"statements"`
	}
	if err := json.Unmarshal([]byte(text), &parsed); err != nil {
		return r, warehouse.Refused("42601", "The question cannot be taken apart: %v.", err)
	}
	switch {
	case parsed.Error && parsed.Kind == "parser":
		m := &warehouse.Mistake{State: "42601", Message: parsed.Message}
		if at, err := fmt.Sscan(fmt.Sprint(parsed.At), &m.Position); err == nil && at == 1 {
			m.Position = len([]rune(sql[:min(m.Position+len(sql)-len(read), len(sql))])) + 1
		}
		return r, m
	case parsed.Error:
		return r, warehouse.Refused("25006",
			"Only questions are answered here: SELECT, WITH, VALUES, FROM, TABLE, DESCRIBE, "+
				"SUMMARIZE, SHOW TABLES, and EXPLAIN before one of them. Nothing is written, and no setting is changed.")
	case len(parsed.List) != 1:
		return r, warehouse.Refused("42601", "There are %d statements. Ask one question at a time.", len(parsed.List))
	}
	r = reading{may: may, database: c.file.database(), ownOnly: c.ownOnly, lent: c.lent, has: func(list, schema, name string) (bool,
		error) {
		found, err := c.ask(ctx, "SELECT count(*) FROM "+list+" AS own(schema_name, name) WHERE lower(schema_name) = "+
			"lower(CAST(? AS VARCHAR)) AND lower(name) = lower(CAST(? AS VARCHAR))", schema, name)
		return err == nil && found[0][0].(int64) > 0, err
	}}
	err = r.see(parsed.List[0], nil)
	for i := range r.tables {
		r.tables[i].at += len(sql) - len(read)
	}
	return r, err
}

// What the file has of its own.
const (
	ownFunctions = "(SELECT schema_name, function_name FROM duckdb_functions() WHERE NOT internal AND function_type = " +
		"'table_macro' AND database_name = current_database())"
	ownTables = "(SELECT schema_name, table_name FROM duckdb_tables() WHERE database_name = current_database() UNION ALL " +
		"SELECT schema_name, view_name FROM duckdb_views() WHERE database_name = current_database() AND NOT internal)"
)

// reading looks through the tree of a question.
type reading struct {
	may      warehouse.May
	database string                                        // as DuckDB names the file
	ownOnly  bool                                          // no table is read that is not there: it would be a file
	lent     map[string]bool                               // tables of other databases that may be asked
	has      func(list, schema, name string) (bool, error) // tells whether one of these lists has a name
	tables   []mention
	reads    []schema.Name // the file's own tables that it reads
	unseen   string        // what it reads besides, whose changes nobody sees
	shown    int           // how many DESCRIBE and the like what is looked at is in
	depth    int           // of what is looked at
	sum      int           // of the squares of the depths, so far
}

// To plan what nests takes DuckDB a time that grows with the cube of the depth, and cannot be stopped. So a tree has a
// depth, two or three levels for each expression or question in another, and the squares of its expressions' depths
// a sum:
// half a second for one that is as deep as may be, and some seconds for several.
const (
	mostDeep = 400
	mostSum  = 50_000_000
)

// see looks at a part of the tree. ctes are the names that WITH gives in this place.
func (r *reading) see(part any, ctes map[string]bool) error {
	r.depth++
	if x, ok := part.(map[string]any); ok && x["class"] != nil {
		r.sum += r.depth * r.depth
	}
	if r.depth > mostDeep || r.sum > mostSum {
		return warehouse.Refused("54001",
			"The question nests too deep. Write it with less in each other: a list with IN, or a WITH for "+
				"each step.")
	}
	defer func() { r.depth-- }()
	if x, ok := part.(map[string]any); ok && x["type"] == "SHOW_REF" {
		r.shown++
		r.unseen = "DESCRIBE, SHOW or SUMMARIZE is asked,"
		defer func() { r.shown-- }()
	}
	switch x := part.(type) {
	case []any:
		for _, one := range x {
			if err := r.see(one, ctes); err != nil {
				return err
			}
		}
	case map[string]any:
		within, err := r.with(x, ctes)
		if err != nil {
			return err
		}
		if err := r.check(x, within); err != nil {
			return err
		}
		for key, one := range x {
			if key == "cte_map" {
				continue
			}
			if err := r.see(one, within); err != nil {
				return err
			}
		}
	}
	return nil
}

// with looks at what WITH names, each in the light of those before it, and gives what is named after it.
func (r *reading) with(node map[string]any, ctes map[string]bool) (map[string]bool, error) {
	list, _ := node["cte_map"].(map[string]any)
	named, _ := list["map"].([]any)
	if len(named) == 0 {
		return ctes, nil
	}
	within := maps.Clone(ctes)
	if within == nil {
		within = map[string]bool{}
	}
	for _, one := range named {
		entry, _ := one.(map[string]any)
		name := strings.ToLower(textOf(entry["key"]))
		inner := maps.Clone(within)
		inner[name] = isRecursive(entry["value"])
		if err := r.see(entry["value"], inner); err != nil {
			return nil, err
		}
		within[name] = true
	}
	return within, nil
}

// isRecursive tells whether what WITH names may name itself.
func isRecursive(cte any) bool {
	for _, key := range []string{"query", "node"} {
		within, _ := cte.(map[string]any)
		cte = within[key]
	}
	node, _ := cte.(map[string]any)
	return node["type"] == "RECURSIVE_CTE_NODE"
}

func textOf(v any) string {
	s, _ := v.(string)
	return s
}

// check looks at one node.
func (r *reading) check(x map[string]any, ctes map[string]bool) error {
	lower := func(key string) string { return strings.ToLower(textOf(x[key])) }
	switch {
	case x["type"] == "BASE_TABLE":
		at, _ := x["query_location"].(float64)
		r.tables = append(r.tables, mention{textOf(x["catalog_name"]), textOf(x["schema_name"]), textOf(x["table_name"]), textOf(x["alias"]), int(at),
			r.shown == 0})
		return r.table(lower("catalog_name"), textOf(x["schema_name"]), textOf(x["table_name"]), ctes)
	case x["type"] == "SHOW_REF" && x["query"] == nil && !strings.HasPrefix(textOf(x["show_type"]), "SHOW_"):
		return r.table(lower("catalog_name"), textOf(x["schema_name"]), textOf(x["table_name"]), ctes)
	case x["type"] == "TABLE_FUNCTION":
		f, _ := x["function"].(map[string]any)
		return r.function(textOf(f["catalog"]), textOf(f["schema"]), textOf(f["function_name"]))
	case x["class"] == "FUNCTION" && changing[lower("function_name")]:
		return warehouse.Refused("25006", "The function %s does more than compute, and questions change nothing.",
			lower("function_name"))
	}
	return nil
}

// function looks at a function that gives rows. Those that DuckDB brings are in a schema, too, so one with a schema
// must
// be the file's own.
func (r *reading) function(catalog, in, called string) error {
	name := strings.ToLower(called)
	if catalog == "" && in == "" && tableFunctions[name] {
		if strings.HasPrefix(name, "duckdb_") {
			r.unseen = "the catalogue is asked,"
		}
		return nil
	}
	own := in != "" && (catalog == "" || strings.EqualFold(catalog, r.database))
	if own {
		var err error
		if own, err = r.has(ownFunctions, in, name); err != nil {
			return err
		}
	}
	if !own {
		return warehouse.Refused("42501",
			"The function %s cannot be asked. Of Noemata's own functions name the schema, too: "+
				"SELECT * FROM kept.loans_as_of(…).", name)
	}
	r.reads = append(r.reads, asOfTable(schema.Name{Schema: in, Table: called}))
	return r.within(in)
}

// table looks at a table or view that is named.
func (r *reading) table(catalog, in, called string, ctes map[string]bool) error {
	table := strings.ToLower(called)
	switch {
	case catalog == "" && in == "" && ctes[table]:
		return nil
	case r.lent[lentName(catalog, in, called)]:
		r.unseen = "another warehouse is asked,"
		return nil
	case catalog != "" && catalog != strings.ToLower(r.database) && (catalog != "system" || !catalogues[in]):
		return warehouse.Refused("42501", "There is no database %s here; this one is %s.", catalog, r.database)
	case catalogues[strings.ToLower(in)]:
		r.unseen = "the catalogue is asked,"
		return nil
	case in == "" && strings.HasPrefix(table, "pg_"): // so these are found without their schema
		if own, err := r.has(ownTables, "main", table); err != nil || !own {
			r.unseen = "the catalogue is asked,"
			return err
		}
		return r.within("main")
	case in == "" && (strings.HasPrefix(table, "duckdb_") || strings.HasPrefix(table, "pragma_")) &&
		!tableFunctions[table]:
		return warehouse.Refused("42501", "The view %s is about the service, and not to be asked.", table)
	case isPublished(in, table):
		r.unseen = "noemata." + table + " is asked,"
		return nil
	case in == "":
		in = "main"
	}
	r.reads = append(r.reads, schema.Name{Schema: in, Table: called})
	if err := r.within(in); err != nil || !r.ownOnly {
		return err
	}
	if own, err := r.has(ownTables, in, table); err != nil || own {
		return err
	}
	return warehouse.Refused("42P01", "There is no table %s.%s here.", in, called)
}

// isPublished tells whether a table of Noemata's own is for all who may ask.
func isPublished(in, table string) bool {
	return slices.ContainsFunc(warehouse.Published, func(t schema.Table) bool {
		return strings.EqualFold(in, t.Name.Schema) && strings.EqualFold(table, t.Name.Table)
	})
}

// within looks at a schema that is named.
func (r *reading) within(schema string) error {
	if !r.may(strings.ToLower(schema)) {
		return warehouse.Refused("42501", "You may not ask the schema %s.", schema)
	}
	return nil
}
