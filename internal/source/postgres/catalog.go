package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/source"
	"noemata/internal/statement"
)

// relation kinds that hold rows: ordinary, partitioned and foreign tables, views,
// materialized views (pg_class.relkind).
const relationKinds = `'r', 'p', 'f', 'v', 'm'`

// Tables lists the tables and views of the database, the system's own left out.
func (s *Source) Tables(ctx context.Context) ([]schema.Table, error) {
	// Sizes as of the last VACUUM or ANALYZE: to measure them takes a lock of each table.
	const sql = `SELECT n.nspname, c.relname, c.relkind IN ('v', 'm', 'f'), c.relkind = 'p', greatest(c.reltuples, -1)::int8, CASE WHEN c.reltuples < 0 THEN -1 ELSE c.relpages::int8 * 8192 END,
       coalesce(obj_description(c.oid, 'pg_class'), ''), coalesce((SELECT array_agg(a.attname::text ORDER BY k.n) FROM pg_index i CROSS JOIN unnest(i.indkey) WITH ORDINALITY AS k (attnum, n) JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.attnum WHERE i.indrelid = c.oid AND i.indisprimary), '{}')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN (` + relationKinds + `) AND NOT c.relispartition
  AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\_toast%' AND n.nspname NOT LIKE 'pg\_temp%'
ORDER BY 1, 2`
	done := statement.Begin(ctx, statement.Source, sql)
	found, err := s.pool.Query(ctx, sql)
	if err != nil {
		done(0, err)
		return nil, s.explain(err)
	}
	tables, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (schema.Table, error) {
		var t schema.Table
		err := row.Scan(&t.Name.Schema, &t.Name.Table, &t.View, &t.Partitioned, &t.Rows, &t.Bytes, &t.Comment, &t.Key)
		return t, err
	})
	done(int64(len(tables)), err)
	return tables, s.explain(err)
}

// attributes are the names of the columns that a foreign key lists, in order.
func attributes(list, of string) string {
	return fmt.Sprintf("(SELECT json_agg(a.attname ORDER BY k.place) FROM unnest(f.%s) WITH ORDINALITY AS k (attnum, place) "+
		"JOIN pg_attribute a ON a.attrelid = f.%s AND a.attnum = k.attnum)", list, of)
}

// Table describes a table and makes sure that it can be read.
func (s *Source) Table(ctx context.Context, name schema.Name) (schema.Table, error) {
	t := schema.Table{Name: name}
	var oid uint32
	var schemaUsable bool
	err := s.Row(ctx, `SELECT c.oid, c.relkind IN ('v', 'm', 'f'), c.relkind = 'p', greatest(c.reltuples, -1)::int8, has_schema_privilege(n.oid, 'USAGE'), coalesce(obj_description(c.oid, 'pg_class'), ''),
  coalesce((SELECT json_agg(json_build_object('Columns', `+attributes("conkey", "conrelid")+`, 'To', json_build_object('Schema', tn.nspname, 'Table', t.relname), 'ToColumns', `+attributes("confkey", "confrelid")+`) ORDER BY f.conname)
    FROM pg_constraint f JOIN pg_class t ON t.oid = f.confrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace WHERE f.conrelid = c.oid AND f.contype = 'f'), '[]')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN (`+relationKinds+`)`, []any{name.Schema, name.Table}, &oid, &t.View, &t.Partitioned, &t.Rows, &schemaUsable, &t.Comment, &t.Related)
	if errors.Is(err, pgx.ErrNoRows) {
		return t, problem.Newf(problem.NoTable,
			"Check whether it was dropped or renamed, then remove it from the feed or correct its name.",
			"The table %s does not exist in %s.", name, s.what)
	}
	if err != nil {
		return t, err
	}
	t.ID = strconv.FormatUint(uint64(oid), 10)
	if !schemaUsable {
		return t, s.noPrivilege(name, "USAGE", "SCHEMA "+schema.Quote(name.Schema))
	}
	forbidden, err := s.columns(ctx, oid, &t)
	if err != nil {
		return t, err
	}
	if len(t.Columns) == 0 {
		return t, problem.Newf(problem.Invalid, "Leave it out of the feed.", "The table %s of %s has no columns.", name,
			s.what)
	}
	if len(forbidden) > 0 {
		return t, s.noPrivilege(name, "SELECT", name.Quoted())
	}
	keys, err := s.keys(ctx, oid)
	if len(keys) > 0 {
		t.Key, t.OtherKeys = keys[0], keys[1:]
	}
	if err == nil && t.Partitioned {
		t.Parts, t.PartsAt, err = s.parts(ctx, oid)
	}
	if err == nil {
		err = source.Coherent(t, s.what)
	}
	return t, err
}

// Query describes what a SELECT gives. It is parsed by itself, which takes one statement alone, and
// then as a part of another one, which takes only what reads.
func (s *Source) Query(ctx context.Context, name schema.Name, sql string) (schema.Table, error) {
	t := source.QueryTable(name, sql)
	const types = `WITH RECURSIVE base AS (
    SELECT o.place, o.type, o.modifier FROM unnest($1::oid[], $2::int[]) WITH ORDINALITY AS o(type, modifier, place)
    UNION ALL
    SELECT b.place, t.typbasetype, CASE WHEN t.typtypmod = -1 THEN b.modifier ELSE t.typtypmod END
    FROM base b JOIN pg_type t ON t.oid = b.type WHERE t.typtype = 'd'
)
SELECT format_type(o.type, o.modifier), t.typname, n.nspname = 'pg_catalog', t.typtype = 'e', b.modifier
FROM unnest($1::oid[], $2::int[]) WITH ORDINALITY AS o(type, modifier, place) JOIN base b USING (place)
JOIN pg_type t ON t.oid = b.type AND t.typtype <> 'd' JOIN pg_namespace n ON n.oid = t.typnamespace ORDER BY place`
	err := s.pool.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
		for _, text := range []string{sql, "SELECT * FROM " + grammar.From(source.Query{Table: t})} {
			done := statement.Begin(ctx, statement.Source, "PREPARE: "+text)
			d, err := c.Conn().PgConn().Prepare(ctx, "", text, nil)
			if done(0, err); err != nil {
				return err
			}
			if len(d.ParamOIDs) > 0 {
				return errParameters
			}
			if text == sql {
				continue
			}
			oids, modifiers := make([]uint32, len(d.Fields)), make([]int32, len(d.Fields))
			for i, f := range d.Fields {
				oids[i], modifiers[i] = f.DataTypeOID, f.TypeModifier
				t.Columns = append(t.Columns, schema.Column{Name: f.Name, Nullable: true})
			}
			found, err := c.Query(ctx, types, oids, modifiers)
			if err != nil {
				return err
			}
			var native, typeName string
			var inCatalog, enum bool
			var modifier int32
			i := 0
			_, err = pgx.ForEachRow(found, []any{&native, &typeName, &inCatalog, &enum, &modifier}, func() error {
				if i < len(t.Columns) {
					t.Columns[i].Native = native
					t.Columns[i].Type, t.Columns[i].Wire = pgcopy.TypeOf(typeName, inCatalog, enum, modifier)
				}
				i++
				return nil
			})
			if err == nil && i != len(t.Columns) {
				err = fmt.Errorf("the server tells the types of %d of %d columns", i, len(t.Columns))
			}
			return err
		}
		return nil
	})
	var server *pgconn.PgError
	if errors.As(err, &server) && strings.HasPrefix(server.Code, "42") || errors.Is(err, errParameters) {
		return t, source.BadQuery(said(err), name, s.what, "Tables need their schema, as public.visits.")
	}
	if err != nil {
		return t, s.explain(err)
	}
	return t, source.Coherent(t, s.what)
}

// said is what the server says of an error, without the rest.
func said(err error) error {
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return errors.New(server.Message)
	}
	return err
}

var errParameters = errors.New("it has parameters, as $1")

func (s *Source) noPrivilege(name schema.Name, privilege, on string) error {
	return problem.Newf(problem.NoPrivilege,
		fmt.Sprintf("GRANT %s ON %s TO %s;", privilege, on, schema.Quote(s.settings.User)),
		"User %q of %s may not read the table %s: it lacks %s.", s.settings.User, s.what, name, privilege)
}

// columns fills in the table's columns and names those that may not be read.
func (s *Source) columns(ctx context.Context, oid uint32, t *schema.Table) (forbidden []string, err error) {
	const sql = `WITH RECURSIVE base AS (
    SELECT a.attnum, a.atttypid AS type, a.atttypmod AS modifier, a.attnotnull AS required
    FROM pg_attribute a WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped
    UNION ALL
    SELECT b.attnum, t.typbasetype, CASE WHEN t.typtypmod = -1 THEN b.modifier ELSE t.typtypmod END, b.required OR t.typnotnull
    FROM base b JOIN pg_type t ON t.oid = b.type WHERE t.typtype = 'd'
)
SELECT a.attname, format_type(a.atttypid, a.atttypmod), b.required, has_column_privilege(a.attrelid, a.attnum, 'SELECT'),
       t.typname, n.nspname = 'pg_catalog', t.typtype = 'e', b.modifier, a.attgenerated <> '',
       coalesce(col_description(a.attrelid, a.attnum), '')
FROM base b JOIN pg_attribute a ON a.attrelid = $1 AND a.attnum = b.attnum
JOIN pg_type t ON t.oid = b.type AND t.typtype <> 'd' JOIN pg_namespace n ON n.oid = t.typnamespace
ORDER BY a.attnum`
	done := statement.Begin(ctx, statement.Source, shown(sql, []any{oid}))
	found, err := s.pool.Query(ctx, sql, oid)
	if err != nil {
		done(0, err)
		return nil, s.explain(err)
	}
	var c schema.Column
	var required, readable, inCatalog, enum bool
	var typeName string
	var modifier int32
	_, err = pgx.ForEachRow(found, []any{&c.Name, &c.Native, &required, &readable, &typeName, &inCatalog, &enum,
		&modifier, &c.Generated, &c.Comment}, func() error {
		c.Nullable = !required
		c.Type, c.Wire = pgcopy.TypeOf(typeName, inCatalog, enum, modifier)
		t.Columns = append(t.Columns, c)
		if !readable {
			forbidden = append(forbidden, c.Name)
		}
		return nil
	})
	done(int64(len(t.Columns)), err)
	return forbidden, s.explain(err)
}

// keys finds the unique keys of columns that cannot be null: the primary key, and then the
// shortest first.
func (s *Source) keys(ctx context.Context, oid uint32) (keys [][]string, err error) {
	err = s.Row(ctx, `SELECT coalesce(json_agg(array(SELECT a.attname::text FROM unnest(i.indkey[0:i.indnkeyatts - 1]) WITH ORDINALITY AS k(attnum, place)
             JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum ORDER BY k.place) ORDER BY i.indisprimary DESC, i.indnkeyatts, i.indexrelid), '[]')
FROM pg_index i
WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL
  AND NOT EXISTS (SELECT 1 FROM unnest(i.indkey[0:i.indnkeyatts - 1]) AS k(attnum)
                  JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum WHERE NOT a.attnotnull)`, []any{oid}, &keys)
	return keys, err
}

// Indexed lists the columns that an index of a table begins with, of one that has all rows.
func (s *Source) Indexed(ctx context.Context, name schema.Name) (columns []string, err error) {
	err = s.Row(ctx, `SELECT coalesce(array_agg(DISTINCT a.attname::text), '{}') FROM pg_index i
JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = i.indkey[0] JOIN pg_class c ON c.oid = i.indrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE i.indisvalid AND i.indpred IS NULL AND n.nspname = $1 AND c.relname = $2`, []any{name.Schema, name.Table}, &columns)
	return columns, err
}

// Findings tells what is worth knowing about reading a table by watermark.
func (s *Source) Findings(ctx context.Context, q source.Query) ([]problem.Finding, error) {
	if q.Watermark == nil {
		return nil, nil
	}
	var findings []problem.Finding
	add := func(level problem.Level, remedy, format string, args ...any) {
		findings = append(findings, problem.Finding{Level: level, Table: q.Table.Name.Display(),
			What: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	w := q.Watermark.Column
	var told, standby bool
	if err := s.Row(ctx, "SELECT pg_has_role(current_user, 'pg_read_all_stats', 'USAGE'), pg_is_in_recovery()", nil, &told,
		&standby); err != nil {
		return nil, err
	}
	list, err := s.Indexed(ctx, q.Table.Name)
	if err != nil {
		return nil, err
	}
	indexed := slices.Contains(list, w.Name)
	if !told && !standby {
		add(problem.Note, fmt.Sprintf("GRANT pg_read_all_stats TO %s;", schema.Quote(s.settings.User)),
			"User %q is not told when other transactions began, so each run waits for the open ones to end.",
			s.settings.User)
	}
	if standby {
		add(problem.Warning, "Choose a look_back longer than the longest transaction of the primary.",
			"The source is a standby: a transaction of the primary that has written nothing yet cannot be seen from here.")
	}
	if (!indexed || q.Watermark.Fallback != "") && !q.Table.View {
		expression := schema.Quote(w.Name)
		if q.Watermark.Fallback != "" {
			expression = fmt.Sprintf("coalesce(%s, %s)", expression, schema.Quote(q.Watermark.Fallback))
		}
		columns := expression
		for _, k := range q.Table.Key {
			if k != w.Name {
				columns += ", " + schema.Quote(k)
			}
		}
		add(problem.Warning, fmt.Sprintf("CREATE INDEX CONCURRENTLY ON %s (%s);", q.Table.Name.Quoted(), columns),
			"No index begins with %s, so every run reads the whole table to find what changed.", expression)
	}
	if w.Nullable && q.Watermark.Fallback == "" {
		add(problem.Warning, "Name a fallback column, or make the column NOT NULL.",
			"The watermark %s can be null; such rows are counted and reported, but not replicated.", w.Name)
	}
	if w.Type.Kind == schema.Timestamp {
		zone, err := s.Zone(ctx)
		if err != nil {
			return nil, err
		}
		add(problem.Note, "Name another zone if that is wrong: watermark: {zone: Europe/Berlin}.",
			"The watermark %s has no zone and is taken as written in %s. Where clocks are set back, rows of the "+
				"repeated hour wait until it is over.", w.Name, zone)
	}
	return findings, nil
}

// Clustered tells whether the rows of a table lie in the order of the first column of its key, by the server's
// statistics
// (PostgreSQL, pg_stats): reading a range of keys by an index costs about what its rows cost then.
func (s *Source) Clustered(ctx context.Context, t schema.Table) (clustered bool, err error) {
	err = s.Row(ctx, "SELECT coalesce(max(abs(correlation)), 0) > 0.9 FROM pg_stats WHERE schemaname = $1 AND tablename = $2 "+
		"AND attname = $3 AND NOT inherited", []any{t.Name.Schema, t.Name.Table, t.Key[0]}, &clustered)
	return clustered, err
}
