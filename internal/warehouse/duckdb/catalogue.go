//go:build duckdb_arrow

package duckdb

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"noemata/internal/core/schema"
)

// Clients of PostgreSQL ask its catalogue (PostgreSQL, System Catalogs). What they ask is put in words that DuckDB has,
// and answered from views of this conversation alone, which tell of what the asker may read.

// catalogued matches questions that may be about PostgreSQL's catalogue.
var catalogued = regexp.MustCompile(`(?i)\bpg_\w+|::\s*reg\w+|\bquote_ident\b`)

// foreign are PostgreSQL's words that DuckDB has not, or has otherwise.
var foreign = []struct {
	words *regexp.Regexp
	ours  string
	texts bool // it is about texts in quotes; others leave them alone
}{
	{regexp.MustCompile(`(?i)OPERATOR\(pg_catalog\.([^)]+)\)`), "$1", false},
	{regexp.MustCompile(`(?i)\s+COLLATE\s+pg_catalog\.(\w+|"\w+")`), "", false},
	{regexp.MustCompile(`(?i)\bpg_catalog\.`), "", false},
	{regexp.MustCompile(`(!?~)\s*'(\^[^'$]*)'`), "$1 '$2.*'", true}, // DuckDB's ~ is about the whole text
	{regexp.MustCompile(`(?i)'[\w.]+'\s*::\s*reg\w+`), "0", true},   // which object of the catalogue itself
	{regexp.MustCompile(`(?i)::\s*(reg\w+|name\b|"char")`), "::VARCHAR", false},
	{regexp.MustCompile(`(?i)::\s*(oid|xid|cid)\b`), "::BIGINT", false},
	{regexp.MustCompile(`(?i)::\s*(int2vector|oidvector)\b`), "::VARCHAR", false},
	{regexp.MustCompile(`\bprattrs\[s\]`), "prattrs[s.generate_series]", false}, // a function's alias names its column there
	{regexp.MustCompile(`(?i)\bcurrent_schemas\((true|false)\)`), "['main', 'pg_catalog']", false},
}

// quoted matches texts (PostgreSQL, String Constants).
var quoted = regexp.MustCompile(`\b[eE]'(?:[^'\\]|\\.|'')*'|'(?:[^']|'')*'`)

// inOurWords is a question about the catalogue in DuckDB's words.
func inOurWords(sql string) string {
	for _, f := range foreign {
		if f.texts {
			sql = f.words.ReplaceAllString(sql, f.ours)
			continue
		}
		var b strings.Builder
		at := 0
		for _, text := range quoted.FindAllStringIndex(sql, -1) {
			b.WriteString(f.words.ReplaceAllString(sql[at:text[0]], f.ours))
			b.WriteString(sql[text[0]:text[1]])
			at = text[1]
		}
		b.WriteString(f.words.ReplaceAllString(sql[at:], f.ours))
		sql = b.String()
	}
	return sql
}

// pgTypes are the types of columns by PostgreSQL's number, with the names that it and DuckDB have for them.
var pgTypes = []struct {
	oid          int
	name, short  string
	ours         string // matched from the beginning
	bytes        int
	typeCategory string
}{
	{16, "boolean", "bool", "BOOLEAN", 1, "B"}, {21, "smallint", "int2", "SMALLINT", 2, "N"},
	{21, "smallint", "int2", "TINYINT", 2, "N"}, {21, "smallint", "int2", "UTINYINT", 2, "N"},
	{23, "integer", "int4", "INTEGER", 4, "N"}, {23, "integer", "int4", "USMALLINT", 4, "N"},
	{20, "bigint", "int8", "BIGINT", 8, "N"}, {20, "bigint", "int8", "UINTEGER", 8, "N"},
	{700, "real", "float4", "FLOAT", 4, "N"}, {701, "double precision", "float8", "DOUBLE", 8, "N"},
	{1700, "numeric", "numeric", "DECIMAL", -1, "N"}, {1700, "numeric", "numeric", "HUGEINT", -1, "N"},
	{1700, "numeric", "numeric", "UBIGINT", -1, "N"}, {17, "bytea", "bytea", "BLOB", -1, "U"},
	{1082, "date", "date", "DATE", 4, "D"},
	{1184, "timestamp with time zone", "timestamptz", "TIMESTAMP WITH TIME ZONE", 8, "D"},
	{1114, "timestamp without time zone", "timestamp", "TIMESTAMP", 8, "D"},
	{1083, "time without time zone", "time", "TIME", 8, "D"}, {1186, "interval", "interval", "INTERVAL", 16, "T"},
	{2950, "uuid", "uuid", "UUID", 16, "U"}, {114, "json", "json", "JSON", -1, "U"},
	{25, "text", "text", "", -1, "S"},
}

// catalogue are the statements that make the views and functions, for who may read some schemas.
//
// Longer than a screen: it is their list.
func catalogue(schemas []string) []string {
	list := make([]string, len(schemas))
	for i, s := range schemas {
		list[i] = schema.Literal(s)
	}
	in := "database_name = current_database() AND schema_name IN (" + strings.Join(append(list, "''"), ", ") + ")"
	typeOid, nameOf, rows := "CASE", "CASE oid", []string{}
	var seen []int
	for _, t := range pgTypes {
		typeOid += fmt.Sprintf(" WHEN data_type LIKE '%s%%' THEN %d", t.ours, t.oid)
		if slices.Contains(seen, t.oid) {
			continue
		}
		seen = append(seen, t.oid)
		name := schema.Literal(t.name)
		if t.oid == 1700 {
			name = "CASE WHEN modifier IS NULL OR modifier < 4 THEN 'numeric' ELSE printf('numeric(%d,%d)', (modifier - 4) " +
				"// 65536, " +
				"(modifier - 4) % 65536) END"
		}
		nameOf += fmt.Sprintf(" WHEN %d THEN %s", t.oid, name)
		rows = append(rows, fmt.Sprintf("(%d, '%s', %d, '%s')", t.oid, t.short, t.bytes, t.typeCategory))
	}
	typeOid, nameOf = typeOid+" END", nameOf+" ELSE 'text' END"
	relation := func(from, oid, name, kind, comment string) string {
		return "SELECT " + oid + "::BIGINT AS oid, " + name + " AS relname, schema_oid::BIGINT AS relnamespace, '" + kind +
			"' AS relkind, " + comment + " AS described FROM " + from + "() WHERE " + in + " AND NOT internal"
	}
	none := func(view, columns string) string {
		return "CREATE OR REPLACE TEMP VIEW " + view + " AS SELECT " + columns + " WHERE false"
	}
	return []string{
		"CREATE OR REPLACE TEMP VIEW pg_namespace AS SELECT oid::BIGINT AS oid, schema_name AS nspname, 10 AS nspowner, " +
			"NULL::VARCHAR[] AS nspacl FROM duckdb_schemas() WHERE " + in + " UNION ALL SELECT 11, 'pg_catalog', 10, NULL",
		"CREATE OR REPLACE TEMP VIEW pg_class AS SELECT *, 0 AS reltype, 0 AS reloftype, 10 AS relowner, 2 AS relam, " +
			"oid AS relfilenode, 0 AS reltablespace, 0 AS relpages, -1::FLOAT AS reltuples, 0 AS relallvisible, 0 AS " +
			"reltoastrelid, " +
			"false AS relhasindex, false AS relisshared, 'p' AS relpersistence, 0 AS relchecks, false AS relhasrules, " +
			"false AS relhastriggers, false AS relhassubclass, false AS relrowsecurity, false AS relforcerowsecurity, " +
			"true AS relispopulated, 'd' AS relreplident, false AS relispartition, 0 AS relrewrite, 0 AS relfrozenxid, " +
			"0 AS relminmxid, NULL::VARCHAR[] AS relacl, NULL::VARCHAR[] AS reloptions, NULL::VARCHAR AS relpartbound FROM (" +
			relation("duckdb_tables", "table_oid", "table_name", "r", "comment") + " UNION ALL " +
			relation("duckdb_views", "view_oid", "view_name", "v", "comment") + ")",
		"CREATE OR REPLACE TEMP VIEW pg_attribute AS SELECT table_oid::BIGINT AS attrelid, column_name AS attname, " +
			"" + typeOid +
			" AS atttypid, CASE WHEN data_type LIKE 'DECIMAL%' THEN numeric_precision * 65536 + numeric_scale + 4 ELSE -1 " +
			"END::INTEGER " +
			"AS atttypmod, column_index AS attnum, NOT is_nullable AS attnotnull, column_default IS NOT NULL AS atthasdef, " +
			"false AS attisdropped, '' AS attidentity, '' AS attgenerated, 0 AS attcollation, -1 AS attstattarget, 'p' AS " +
			"attstorage, " +
			"'' AS attcompression, -1 AS attlen, 0 AS attndims, 0 AS attinhcount, true AS attislocal, false AS atthasmissing, " +
			"NULL::VARCHAR[] AS attacl, NULL::VARCHAR[] AS attoptions, NULL::VARCHAR[] AS attfdwoptions, comment AS described " +
			"FROM duckdb_columns() WHERE " + in,
		"CREATE OR REPLACE TEMP VIEW pg_type AS SELECT oid, typname, 11 AS typnamespace, 10 AS typowner, typlen, " +
			"typcategory, " +
			"'b' AS typtype, 0 AS typrelid, 0 AS typelem, 0 AS typarray, 0 AS typbasetype, -1 AS typtypmod, 0 AS " +
			"typcollation, " +
			"false AS typnotnull, ',' AS typdelim, '-' AS typinput, '-' AS typreceive, NULL::VARCHAR AS typdefault, 0 AS " +
			"typndims, " +
			"true AS typisdefined FROM (VALUES " + strings.Join(rows, ", ") + ") AS t(oid, typname, typlen, typcategory)",
		"CREATE OR REPLACE TEMP VIEW pg_database AS SELECT 1 AS oid, current_database() AS datname, 10 AS datdba, 6 AS " +
			"encoding, " +
			"'C.UTF-8' AS datcollate, 'C.UTF-8' AS datctype, 'c' AS datlocprovider, NULL::VARCHAR AS daticulocale, " +
			"NULL::VARCHAR AS daticurules, NULL::VARCHAR AS datlocale, NULL::VARCHAR[] AS datacl, true AS datallowconn, " +
			"false AS datistemplate, -1 AS datconnlimit, 0 AS dattablespace",
		"CREATE OR REPLACE TEMP VIEW pg_roles AS SELECT 10 AS oid, 'noemata' AS rolname, false AS rolsuper, true AS " +
			"rolinherit, " +
			"false AS rolcreaterole, false AS rolcreatedb, true AS rolcanlogin, -1 AS rolconnlimit, NULL::TIMESTAMP AS " +
			"rolvaliduntil, " +
			"false AS rolreplication, false AS rolbypassrls",
		"CREATE OR REPLACE TEMP VIEW pg_user AS SELECT 'noemata' AS usename, 10 AS usesysid, false AS usesuper",
		"CREATE OR REPLACE TEMP VIEW pg_description AS SELECT oid AS objoid, 0 AS classoid, 0 AS objsubid, described AS " +
			"description " +
			"FROM pg_class WHERE described IS NOT NULL UNION ALL SELECT attrelid, 0, attnum, described FROM pg_attribute " +
			"WHERE described IS NOT NULL",
		none("pg_auth_members", "0 AS roleid, 0 AS member"),
		none("pg_extension", "0 AS oid, '' AS extname, '' AS extversion, 0 AS extnamespace"),
		none("pg_policy", "'' AS polname, 0 AS polrelid, '' AS polcmd, true AS polpermissive, NULL::INTEGER[] AS "+
			"polroles, '' AS "+
			"polqual, '' AS polwithcheck"),
		none("pg_inherits", "0 AS inhrelid, 0 AS inhparent, 0 AS inhseqno, false AS inhdetachpending"),
		none("pg_publication", "0 AS oid, '' AS pubname, false AS puballtables"),
		none("pg_publication_rel", "0 AS prpubid, 0 AS prrelid, '' AS prqual, NULL::INTEGER[] AS prattrs"),
		none("pg_publication_namespace", "0 AS pnpubid, 0 AS pnnspid"),
		none("pg_statistic_ext", "0 AS oid, 0 AS stxrelid, 0 AS stxnamespace, '' AS stxname, NULL::VARCHAR[] AS stxkind, "+
			"0 AS "+
			"stxstattarget"),
		none("pg_trigger", "0 AS oid, 0 AS tgrelid, '' AS tgname, '' AS tgenabled, false AS tgisinternal, 0 AS "+
			"tgparentid, 0 AS "+
			"tgconstraint"),
		none("pg_rewrite", "0 AS oid, 0 AS ev_class, '' AS rulename, '' AS ev_enabled, '' AS ev_type"),
		none("pg_foreign_table", "0 AS ftrelid, 0 AS ftserver, NULL::VARCHAR[] AS ftoptions"),
		none("pg_foreign_server", "0 AS oid, '' AS srvname"),
		none("pg_index", "0 AS indexrelid, 0 AS indrelid, false AS indisunique, false AS indisprimary, false AS "+
			"indisclustered, true "+
			"AS indisvalid, true AS indimmediate, false AS indisreplident, NULL::INTEGER[] AS indkey, 0 AS indnkeyatts, 0 "+
			"AS indnatts, NULL::VARCHAR AS indexprs, NULL::VARCHAR AS indpred"),
		none("pg_constraint", "0 AS oid, '' AS conname, 0 AS connamespace, '' AS contype, 0 AS conrelid, 0 AS confrelid, "+
			"0 AS "+
			"conindid, 0 AS conparentid, false AS condeferrable, false AS condeferred, true AS convalidated, "+
			"NULL::INTEGER[] AS conkey, "+
			"NULL::INTEGER[] AS confkey, '' AS confupdtype, '' AS confdeltype"),
		none("pg_attrdef", "0 AS oid, 0 AS adrelid, 0 AS adnum, '' AS adbin"),
		none("pg_proc", "0 AS oid, '' AS proname, 0 AS pronamespace, '' AS prokind, 0 AS prorettype, '' AS proargtypes"),
		none("pg_enum", "0 AS oid, 0 AS enumtypid, '' AS enumlabel, 0 AS enumsortorder"),
		none("pg_range", "0 AS rngtypid, 0 AS rngsubtype"),
		none("pg_sequence", "0 AS seqrelid, 0 AS seqtypid"),
		none("pg_partitioned_table", "0 AS partrelid"),
		none("pg_collation", "0 AS oid, '' AS collname, 0 AS collnamespace"),
		none("pg_am", "0 AS oid, '' AS amname, '' AS amtype"),
		none("pg_stat_activity", "0 AS pid, '' AS usename, '' AS query, '' AS state"),
		none("pg_matviews", "'' AS schemaname, '' AS matviewname"),
		"CREATE OR REPLACE TEMP MACRO format_type(oid, modifier) AS " + nameOf,
		"CREATE OR REPLACE TEMP MACRO pg_get_userbyid(x) AS 'noemata'",
		"CREATE OR REPLACE TEMP MACRO pg_encoding_to_char(x) AS 'UTF8'",
		"CREATE OR REPLACE TEMP MACRO pg_table_is_visible(x) AS true",
		"CREATE OR REPLACE TEMP MACRO pg_type_is_visible(x) AS true",
		"CREATE OR REPLACE TEMP MACRO pg_function_is_visible(x) AS true",
		"CREATE OR REPLACE TEMP MACRO pg_relation_is_publishable(x) AS false",
		"CREATE OR REPLACE TEMP MACRO pg_get_function_result(x) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_function_arguments(x) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_function_identity_arguments(x) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_indexdef(x) AS '', (x, y, z) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_constraintdef(x) AS '', (x, y) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_triggerdef(x) AS '', (x, y) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_ruledef(x) AS '', (x, y) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_partkeydef(x) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_statisticsobjdef_columns(x) AS ''",
		"CREATE OR REPLACE TEMP MACRO pg_get_expr(x, y) AS x::VARCHAR, (x, y, z) AS x::VARCHAR",
		"CREATE OR REPLACE TEMP MACRO pg_get_viewdef(x) AS (SELECT any_value(sql) FROM duckdb_views() WHERE " + in +
			" AND view_oid = x), (x, y) AS (SELECT any_value(sql) FROM duckdb_views() WHERE " + in + " AND view_oid = x)",
		"CREATE OR REPLACE TEMP MACRO pg_table_size(x) AS NULL::BIGINT",
		"CREATE OR REPLACE TEMP MACRO pg_relation_size(x) AS NULL::BIGINT",
		"CREATE OR REPLACE TEMP MACRO pg_total_relation_size(x) AS NULL::BIGINT",
		"CREATE OR REPLACE TEMP MACRO pg_database_size(x) AS NULL::BIGINT",
		"CREATE OR REPLACE TEMP MACRO array_upper(x, y) AS len(x)",
		"CREATE OR REPLACE TEMP MACRO pg_get_functiondef(x) AS NULL::VARCHAR",
		"CREATE OR REPLACE TEMP MACRO pg_is_in_recovery() AS false",
		"CREATE OR REPLACE TEMP MACRO pg_backend_pid() AS 0",
		"CREATE OR REPLACE TEMP MACRO pg_tablespace_location(x) AS ''",
		"CREATE OR REPLACE TEMP MACRO shobj_description(x, y) AS NULL::VARCHAR",
		"CREATE OR REPLACE TEMP MACRO quote_ident(x) AS CASE WHEN regexp_full_match(x, '[a-z_][a-z0-9_]*') THEN x ELSE " +
			"'\"' || " +
			"replace(x, '\"', '\"\"') || '\"' END",
		"CREATE OR REPLACE TEMP MACRO obj_description(x, y) AS (SELECT any_value(description) FROM pg_description WHERE " +
			"objoid = x " +
			"AND objsubid = 0)",
		"CREATE OR REPLACE TEMP MACRO col_description(x, y) AS (SELECT any_value(description) FROM pg_description WHERE " +
			"objoid = x " +
			"AND objsubid = y)",
	}
}

// tellCatalogue makes the views of this conversation, once.
func (c *conversation) tellCatalogue(ctx context.Context) error {
	if c.told {
		return nil
	}
	found, err := c.conn.ask(ctx, "SELECT schema_name FROM duckdb_schemas() WHERE database_name = current_database()")
	if err != nil {
		return c.fault(err, "")
	}
	var schemas []string
	for _, row := range found {
		if name, _ := row[0].(string); c.may(strings.ToLower(name)) {
			schemas = append(schemas, name)
		}
	}
	for _, sql := range catalogue(schemas) {
		if _, err := c.conn.exec(ctx, sql); err != nil {
			return fmt.Errorf("tell of the catalogue: %w", err)
		}
	}
	c.told = true
	return nil
}
