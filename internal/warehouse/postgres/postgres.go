// Package postgres writes warehouses in PostgreSQL, version 13 and later.
//
// Rows come in by COPY in binary form, into a temporary table that is merged
// set-wise, or straight into a target that is empty. Rows, position and counters
// are one transaction.
package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/pgdial"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// Kind is the name of this kind of warehouse.
const Kind = "postgresql"

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{Check: check, Open: Open}

func check(s connection.Settings) (connection.Settings, error) {
	if s.AskUser != "" && s.AskUser == s.User {
		return s, problem.Newf(problem.Invalid,
			"Name another one, who may only read: CREATE ROLE analysts LOGIN PASSWORD '…';",
			"The user %q writes the warehouse, and what people ask must not be asked as one who writes.", s.User).In("ask_user")
	}
	return pgdial.Check(s)
}

// Connections is how many connections a warehouse uses at most.
const Connections = 24

var session = []string{
	"SET lock_timeout = '30s'",
	"SET synchronous_commit = on", // the source lets go of what is said to be here
	"SET idle_in_transaction_session_timeout = '1h'",
	"SET client_encoding = 'UTF8'",
	"SET search_path = pg_catalog, pg_temp",
	"SET standard_conforming_strings = on",
	"SET timezone = 'UTC'",
	"SET client_min_messages = warning",
	"SET work_mem = '64MB'",              // a merge sorts a stage, or hashes it
	"SET maintenance_work_mem = '256MB'", // for the key of a table that was loaded whole
}

var types = map[schema.Kind]string{
	schema.Bool: "boolean", schema.Int16: "smallint", schema.Int32: "integer", schema.Int64: "bigint",
	schema.Float32: "real", schema.Float64: "double precision", schema.Numeric: "numeric", schema.Text: "text",
	schema.Bytes: "bytea", schema.Date: "date", schema.Time: "time without time zone",
	schema.Timestamp: "timestamp without time zone", schema.TimestampTZ: "timestamp with time zone",
	schema.Interval: "interval", schema.UUID: "uuid", schema.JSON: "json",
}

func typeName(t schema.Type) string { return sqlmerge.Dialect{Types: types}.TypeName(t) }

var dialect = sqlmerge.Dialect{
	Types: types,
	Roles: true,
	Distinct: func(t schema.Type, a, b string) string {
		switch t.Kind {
		// These have values that are equal and yet not the same: 0 and -0, 1.0 and
		// 1.00, 24 hours and a day. The type json has no equality at all.
		case schema.Float32, schema.Float64, schema.Numeric, schema.Interval, schema.JSON:
			return a + "::text IS DISTINCT FROM " + b + "::text"
		}
		return a + " IS DISTINCT FROM " + b
	},
	NoEquals: func(t schema.Type) bool { return t.Kind == schema.JSON },
	Comments: `SELECT n.nspname::text, c.relname::text, coalesce(a.attname, '')::text, d.description
FROM pg_description d JOIN pg_class c ON c.oid = d.objoid AND d.classoid = 'pg_class'::regclass JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0
WHERE n.nspname NOT IN ('pg_catalog', 'information_schema') AND (d.objsubid = 0 OR a.attname IS NOT NULL)`,
	Normal: func(typeName string) string {
		return strings.Replace(strings.ToLower(typeName), "decimal(", "numeric(", 1)
	},
	Stage:   " ON COMMIT DELETE ROWS",
	Updated: " WITH (fillfactor = 80)", // a row that finds room on its page needs no new entry in the index
	Indexes: `SELECT i.relname::text FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_class c ON c.oid = x.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relname = $2 AND x.indisvalid`,
	Convert: func(table, column, typeName string) string {
		return fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s USING %[2]s::text::%[3]s", table, column, typeName)
	},
	Size: func(name schema.Name) string {
		return "SELECT pg_total_relation_size(" + schema.Literal(name.Quoted()) + ")"
	},
	RowID:   "ctid",
	Analyze: true,
	AsOf: func(t warehouse.Target, name schema.Name, query func(string) string) []string {
		var columns []string
		for _, c := range t.Values() {
			columns = append(columns, schema.Quote(c.Name)+" "+typeName(c.Type))
		}
		// What it gives cannot be changed, so it is made anew where that is another by now.
		returns, body := strings.Join(columns, ", "), query("$1")
		return []string{fmt.Sprintf(`DO %s`, schema.Literal(fmt.Sprintf(`BEGIN
  IF EXISTS (SELECT 1 FROM pg_proc WHERE oid = to_regprocedure(%s) AND prosrc = %s) THEN RETURN; END IF;
  DROP FUNCTION IF EXISTS %s(timestamp with time zone);
  CREATE FUNCTION %[3]s(timestamp with time zone) RETURNS TABLE (%s) LANGUAGE sql STABLE AS %[2]s;
END`, schema.Literal(name.Quoted()+"(timestamp with time zone)"), schema.Literal(body), name.Quoted(), returns)))}
	},
}

// Warehouse is a PostgreSQL database that is written.
type Warehouse struct {
	sqlmerge.Base
	pool     *pgxpool.Pool
	asker    *asker // nil where nobody asks
	settings connection.Settings
	what     string
}

// Open prepares to write a database; nothing is connected yet.
func Open(s connection.Settings, what string) (warehouse.Warehouse, error) {
	s, err := check(s)
	if err != nil {
		return nil, err
	}
	pool, err := pgdial.Open(s, Connections, "noemata writer", session)
	if err != nil {
		return nil, err
	}
	w := &Warehouse{pool: pool, asker: newAsker(s, what), settings: s, what: what}
	w.Base = sqlmerge.Base{SQL: dialect, Connect: w.connect, Exclusive: w.exclusive, Rows: w.Read}
	return w, nil
}

// Names says that longer names are cut (PostgreSQL, SQL Syntax, Identifiers and Key Words).
func (w *Warehouse) Names() warehouse.Names { return warehouse.Names{Kind: "PostgreSQL", Longest: 63} }

// Form is that of a PostgreSQL source: rows go on as they come.
func (w *Warehouse) Form() string { return pgcopy.Form }

// Close ends all connections.
func (w *Warehouse) Close() {
	w.pool.Close()
	if w.asker != nil {
		w.asker.close()
	}
}

func (w *Warehouse) explain(err error) error { return pgdial.Explain(err, w.what, w.settings) }

func (w *Warehouse) connect(ctx context.Context) (sqlmerge.Conn, error) {
	c, err := w.pool.Acquire(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	return &conn{w: w, conn: c}, nil
}

// Test signs in and looks whether a schema may be made, and whether who is asked as only reads.
func (w *Warehouse) Test(ctx context.Context) (string, error) {
	var version string
	var may bool
	err := w.pool.QueryRow(ctx, `SELECT 'PostgreSQL ' || current_setting('server_version'),
       has_database_privilege(current_database(), 'CREATE, TEMPORARY')`).Scan(&version, &may)
	if err != nil {
		return "", w.explain(err)
	}
	if !may {
		return "", problem.Newf(problem.NoPrivilege,
			fmt.Sprintf("GRANT CREATE, TEMPORARY ON DATABASE %s TO %s;", schema.Quote(w.settings.Database),
				schema.Quote(w.settings.User)),
			"User %q of %s may not make schemas and temporary tables.", w.settings.User, w.what)
	}
	if w.asker != nil {
		c, err := w.asker.acquire(ctx, func(string) bool { return true })
		if err != nil {
			return "", err
		}
		c.Release()
	}
	return version, nil
}

// Grants are the statements that make a writer, and who let readers read.
func (w *Warehouse) Grants(user, readers string, targets []schema.Name) []string {
	role := schema.Quote(user)
	list := []string{fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '…'", role),
		fmt.Sprintf("GRANT CONNECT, TEMPORARY ON DATABASE %s TO %s", schema.Quote(w.settings.Database), role)}
	schemas := []string{"noemata"} // positions, and what is set aside
	for _, t := range targets {
		if !slices.Contains(schemas, t.Schema) {
			schemas = append(schemas, t.Schema)
		}
	}
	for _, name := range schemas {
		quoted := schema.Quote(name)
		list = append(list, "CREATE SCHEMA IF NOT EXISTS "+quoted,
			fmt.Sprintf("GRANT USAGE, CREATE ON SCHEMA %s TO %s", quoted,
				role))
		if readers == "" {
			continue
		}
		list = append(list, fmt.Sprintf("GRANT USAGE ON SCHEMA %s TO %s", quoted, schema.Quote(readers)))
		if name == "noemata" { // where the view freshness is for all who come so far, and no table is
			continue
		}
		list = append(list,
			fmt.Sprintf("GRANT SELECT ON ALL TABLES IN SCHEMA %s TO %s", quoted, schema.Quote(readers)),
			fmt.Sprintf("ALTER DEFAULT PRIVILEGES FOR ROLE %s IN SCHEMA %s GRANT SELECT ON TABLES TO %s", role, quoted,
				schema.Quote(readers)))
	}
	return list
}

// MayWrite looks for the privileges that making and writing a target needs.
func (w *Warehouse) MayWrite(ctx context.Context, t warehouse.Target) error {
	user := schema.Quote(w.settings.User)
	for _, name := range []string{"noemata", t.Name.Schema} {
		var missing bool
		if err := w.pool.QueryRow(ctx, `SELECT CASE WHEN to_regnamespace($1) IS NULL THEN NOT `+
			`has_database_privilege(current_database(), 'CREATE') ELSE NOT has_schema_privilege($2, 'CREATE, `+
			`USAGE') END`, schema.Quote(name), name).Scan(&missing); err != nil {
			return w.explain(err)
		}
		if missing {
			return problem.Newf(problem.NoPrivilege,
				fmt.Sprintf("CREATE SCHEMA IF NOT EXISTS %s; GRANT USAGE, CREATE ON SCHEMA %[1]s TO %s;",
					schema.Quote(name), user), "User %q of %s may not make tables in the schema %s.", w.settings.User,
				w.what, name)
		}
	}
	var owned bool
	if err := w.pool.QueryRow(ctx, `SELECT coalesce((SELECT pg_has_role(c.relowner, 'USAGE') FROM pg_class c WHERE `+
		`c.oid = to_regclass($1)), true)`, t.Name.Quoted()).Scan(&owned); err != nil {
		return w.explain(err)
	}
	if !owned {
		return problem.Newf(problem.NoPrivilege, fmt.Sprintf("ALTER TABLE %s OWNER TO %s;", t.Name.Quoted(), user),
			"The target table %s of %s belongs to another user than %q, who can add neither columns nor indexes to it.",
			t.Name, w.what, w.settings.User)
	}
	return nil
}

// alone waits for the session that is making something. To read a catalogue then has this
// one forget what it remembers to be missing, which to wait for an advisory lock does not.
var alone = []string{"SELECT pg_advisory_xact_lock(hashtext('noemata'))", "SELECT FROM pg_catalog.pg_namespace LIMIT 0"}

// exclusive runs work that two sessions must not do at the same time: one of them would
// fail.
func (w *Warehouse) exclusive(ctx context.Context, work func(sqlmerge.Conn) error) error {
	c, err := w.connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return sqlmerge.Transact(ctx, c, func(c sqlmerge.Conn) error {
		for _, sql := range alone {
			if _, err := c.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return work(c)
	})
}

// Read copies rows out.
func (w *Warehouse) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	c, err := w.connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return c.Read(ctx, q, sink)
}
