// Package postgres reads PostgreSQL databases, version 13 and later.
//
// Rows are read with COPY in binary form. The session is read-only, writes times
// in UTC and ISO form, and fails rather than leave out rows that row-level
// security would hide.
package postgres

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/pgcopy"
	"noemata/internal/pgdial"
	"noemata/internal/source"
	"noemata/internal/statement"
)

// Kind is the name of this kind of source.
const Kind = "postgresql"

// Opener is what to register.
var Opener = connection.Kind[source.Source]{Check: pgdial.Check, Open: Open}

// usualConnections is how many connections a process opens at most, unless the settings say otherwise; each feed
// that follows the log has one more.
const usualConnections = 6

// copiesOpen is how many of a source's connections copies have.
const copiesOpen = 2

const application = "noemata reader"

// session is set on each connection, in this order. The settings fix the text
// form of values, so that it is the same whoever the user is.
var session = []string{
	"SET default_transaction_read_only = on",
	"SET row_security = off",
	"SET lock_timeout = '10s'",
	"SET statement_timeout = '6h'",
	"SET idle_in_transaction_session_timeout = '1h'",
	// Whatever is in a database in SQL_ASCII comes as it is; the others give UTF-8.
	"SELECT set_config('client_encoding', CASE current_setting('server_encoding') WHEN 'SQL_ASCII' THEN 'SQL_ASCII' " +
		"ELSE 'UTF8' END, false)",
	"SET search_path = pg_catalog",
	"SET datestyle = 'ISO, YMD'",
	"SET intervalstyle = 'postgres'",
	"SET extra_float_digits = 1",
	"SET bytea_output = 'hex'",
	"SET xmloption = 'content'",
	"SET standard_conforming_strings = on",
	"SET timezone = 'UTC'",
}

// Source is a PostgreSQL database that is read.
type Source struct {
	pool      *pgxpool.Pool
	copies    *pgxpool.Pool // holds snapshots open; of its own, so that those who read can always go on
	snapshots sync.Map      // text to snapshot
	settings  connection.Settings
	what      string
}

// Open prepares to read a database; nothing is connected yet.
func Open(s connection.Settings, what string) (source.Source, error) {
	s, err := pgdial.Check(s)
	if err != nil {
		return nil, err
	}
	pool, err := pgdial.Open(s, int32(cmp.Or(s.Connections, usualConnections)-copiesOpen), application, session)
	if err != nil {
		return nil, err
	}
	copies, err := pgdial.Open(s, copiesOpen, application, session)
	if err != nil {
		return nil, err
	}
	return &Source{pool: pool, copies: copies, settings: s, what: what}, nil
}

// Connections counts those of the user (PostgreSQL, The Statistics Collector: pg_stat_activity).
func (s *Source) Connections(ctx context.Context) (n int64, err error) {
	err = s.Row(ctx, "SELECT count(*) FROM pg_stat_activity WHERE usename = current_user", nil, &n)
	return n, err
}

// Quote is a name as PostgreSQL's SQL has it.
func (s *Source) Quote(name string) string { return schema.Quote(name) }

// Rest closes the connections that are not in use.
func (s *Source) Rest() {
	s.copies.Reset()
	s.pool.Reset()
}

// Close ends all connections.
func (s *Source) Close() {
	s.copies.Close()
	s.pool.Close()
}

func (s *Source) explain(err error) error { return pgdial.Explain(err, s.what, s.settings) }

// Row runs a query of one row and records it.
func (s *Source) Row(ctx context.Context, sql string, args []any, into ...any) error {
	done := statement.Begin(ctx, statement.Source, shown(sql, args))
	err := s.pool.QueryRow(ctx, sql, args...).Scan(into...)
	done(1, err)
	return s.explain(err)
}

// Each runs a query and takes its rows one by one; into is scanned anew for each.
func (s *Source) Each(ctx context.Context, sql string, args []any, into []any, take func() error) error {
	done := statement.Begin(ctx, statement.Source, shown(sql, args))
	var tag pgconn.CommandTag
	found, err := s.pool.Query(ctx, sql, args...)
	if err == nil {
		tag, err = pgx.ForEachRow(found, into, take)
	}
	done(tag.RowsAffected(), err)
	return s.explain(err)
}

// shown is a statement with its parameters, for the run's log.
func shown(sql string, args []any) string {
	if len(args) == 0 {
		return sql
	}
	return fmt.Sprintf("%s\n-- parameters: %v", sql, args)
}

// Test signs in and gives the server's version.
func (s *Source) Test(ctx context.Context) (string, error) {
	var version string
	var number int
	if err := s.Row(ctx, "SELECT 'PostgreSQL ' || current_setting('server_version'), "+
		"current_setting('server_version_num')::int", nil, &version, &number); err != nil {
		return "", err
	}
	if number < 130000 {
		return "", problem.Newf(problem.Invalid, "Use a server of version 13 or later.",
			"The server of %s is %s, which is too old.", s.what, version)
	}
	return version, nil
}

// Grants are the statements that make a reader.
func (s *Source) Grants(user string, needs source.Needs) []string {
	role := schema.Quote(user)
	list := []string{fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '…'", role),
		fmt.Sprintf("GRANT CONNECT ON DATABASE %s TO %s", schema.Quote(s.settings.Database), role)}
	var schemas []string
	for _, t := range needs.Tables {
		if !slices.Contains(schemas, t.Schema) {
			schemas = append(schemas, t.Schema)
			list = append(list, fmt.Sprintf("GRANT USAGE ON SCHEMA %s TO %s", schema.Quote(t.Schema), role))
		}
	}
	for _, t := range needs.Tables {
		list = append(list, fmt.Sprintf("GRANT SELECT ON %s TO %s", t.Quoted(), role))
	}
	if needs.Watermark { // when other transactions began
		list = append(list, "GRANT pg_read_all_stats TO "+role)
	}
	if needs.Log {
		list = append(list, fmt.Sprintf("ALTER ROLE %s REPLICATION", role))
	}
	return list
}

// Mend runs a statement that a person has asked for. It does not wait long for a lock, behind which others
// would queue; an index that is made beside the table's work waits, since it would be left half made.
func (s *Source) Mend(ctx context.Context, sql string) error {
	done := statement.Begin(ctx, statement.Source, sql)
	wait := "10s"
	if strings.HasPrefix(sql, "CREATE INDEX CONCURRENTLY ") {
		wait = "0"
	}
	err := pgdial.Run(ctx, s.settings, application, "SET lock_timeout = '"+wait+"'", sql)
	done(0, err)
	return s.explain(err)
}

// Moment reads the clock first: a transaction that begins after that cannot have
// an earlier start. Within one database, every transaction that can write shows
// in pg_stat_activity; its start is told only to members of pg_read_all_stats. On
// a standby the transactions of the primary show as ids that are in progress.
func (s *Source) Moment(ctx context.Context) (window.Moment, error) {
	var m window.Moment
	var standby, told bool
	err := s.Row(ctx, `SELECT CASE WHEN pg_is_in_recovery() THEN least(clock_timestamp(), coalesce(pg_last_xact_replay_timestamp(), '-infinity')) ELSE clock_timestamp() END,
       pg_is_in_recovery(), pg_has_role(current_user, 'pg_read_all_stats', 'USAGE')`, nil, &m.Clock, &standby, &told)
	if err != nil {
		return m, err
	}
	if standby {
		err = s.Row(ctx, `SELECT coalesce(array_agg(x::text), '{}') FROM pg_snapshot_xip(pg_current_snapshot()) AS x`,
			nil, &m.Open)
		return m, err
	}
	var prepared int
	var oldest *time.Time
	err = s.Row(ctx, `WITH others AS (
    SELECT l.virtualxid AS id, a.xact_start FROM pg_locks l JOIN pg_stat_activity a USING (pid)
    WHERE l.locktype = 'virtualxid' AND l.granted AND a.datid = (SELECT oid FROM pg_database WHERE datname = current_database())
      AND NOT (a.usename = current_user AND a.application_name = $1)
), started AS (
    SELECT xact_start FROM pg_stat_activity
    WHERE datname = current_database() AND NOT (usename = current_user AND application_name = $1)
), twophase AS (
    SELECT 'prepared ' || gid AS id FROM pg_prepared_xacts WHERE database = current_database()
)
SELECT (SELECT min(xact_start) FROM started), (SELECT count(*) FROM twophase),
       array(SELECT id FROM others UNION ALL SELECT id FROM twophase)`, []any{application}, &oldest, &prepared, &m.Open)
	if told && prepared == 0 {
		m.Oldest = oldest
		if oldest == nil {
			m.Open = nil // all that was open has ended since
		}
	}
	return m, err
}

// Zone is the TimeZone that sessions of this user have when they choose none.
func (s *Source) Zone(ctx context.Context) (*time.Location, error) {
	var name string
	if err := s.Row(ctx, "SELECT reset_val FROM pg_settings WHERE name = 'TimeZone'", nil, &name); err != nil {
		return nil, err
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid,
			fmt.Sprintf("The time zone %q of %s is not known here.", name, s.what),
			"Name the zone of the watermark in the feed: watermark: {zone: Europe/Berlin}.")
	}
	return zone, nil
}

// Highest is the largest watermark that is visible.
func (s *Source) Highest(ctx context.Context, q source.Query) (string, error) {
	var highest *string
	w := grammar.Watermark(q)
	sql := fmt.Sprintf("SELECT max(%s)::text FROM %s", w, grammar.From(q))
	if err := s.Row(ctx, sql, nil, &highest); err != nil || highest == nil {
		return "", err
	}
	return *highest, nil
}

// Nulls counts the rows whose watermark is null.
func (s *Source) Nulls(ctx context.Context, q source.Query) (int64, error) {
	var n int64
	err := s.Row(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE %s IS NULL", grammar.From(q), grammar.Watermark(q)),
		nil, &n)
	return n, err
}

// Count counts the rows of a query.
func (s *Source) Count(ctx context.Context, q source.Query) (int64, error) {
	var n int64
	err := s.Row(ctx, "SELECT count(*) FROM "+grammar.From(q)+grammar.Where(q), nil, &n)
	return n, err
}

// Estimate asks the planner.
func (s *Source) Estimate(ctx context.Context, q source.Query) (int64, error) {
	var plan []struct {
		Plan struct {
			Rows float64 `json:"Plan Rows"`
		}
	}
	err := s.Row(ctx, "EXPLAIN (FORMAT json) SELECT 1 FROM "+grammar.From(q)+grammar.Where(q), nil, &plan)
	if err != nil || len(plan) == 0 {
		return 0, err
	}
	return int64(plan[0].Plan.Rows), nil
}

// Read copies the rows of a query.
func (s *Source) Read(ctx context.Context, q source.Query, sink func(rows.Batch) error) error {
	columns := append([]schema.Column{}, q.Table.Columns...)
	if q.ReadsWatermark() {
		w := q.Watermark.Column
		w.Name = "watermark"
		columns = append(columns, w)
	}
	if q.Beyond != nil {
		columns = append(columns, schema.Column{Name: "beyond", Type: schema.Type{Kind: schema.Bool}, Wire: "bool"})
	}
	if q.Digest {
		columns = append(columns, source.DigestColumn("text"))
	}
	reader := pgcopy.NewReader(columns, len(q.Table.Columns), q.RowKey, q.NotNull, sink)
	if q.Raw != nil && q.Raw.Form == pgcopy.Form {
		reader.KeepRaw(q.Raw.Looked)
	}
	if q.Batch > 0 {
		reader.Most = q.Batch
	}
	sql := "COPY (" + selectSQL(q) + ") TO STDOUT (FORMAT binary)"
	done := statement.Begin(ctx, statement.Source, sql)
	err := s.pool.AcquireFunc(ctx, func(c *pgxpool.Conn) (err error) {
		if q.Filter == nil || !q.Filter.Counts {
			_, err = c.Conn().PgConn().CopyTo(ctx, reader, sql)
			return err
		}
		return pgx.BeginTxFunc(ctx, c, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly},
			func(tx pgx.Tx) error {
				if _, err := tx.Conn().PgConn().CopyTo(ctx, reader, sql); err != nil {
					return err
				}
				reader.Left, err = leftOut(ctx, tx.Conn(), grammar.LeftOutOf(q))
				return err
			})
	})
	done(reader.Total, err)
	if err != nil {
		return s.explain(err)
	}
	return reader.End()
}

// leftOut counts rows that are not read.
func leftOut(ctx context.Context, conn *pgx.Conn, sql string) (n int64, err error) {
	done := statement.Begin(ctx, statement.Source, sql)
	err = conn.QueryRow(ctx, sql).Scan(&n)
	done(1, err)
	return n, err
}

// selectSQL writes a query's SELECT.
func selectSQL(q source.Query) string {
	var list []string
	for _, c := range q.Table.Columns {
		list = append(list, pgcopy.Expression(c))
	}
	if q.ReadsWatermark() {
		list = append(list, grammar.Watermark(q))
	}
	if q.Beyond != nil {
		list = append(list, grammar.Beyond(q))
	}
	if q.Digest {
		list = append(list, grammar.Digest(q.Table.Columns))
	}
	return "SELECT " + strings.Join(list, ", ") + " FROM " + grammar.From(q) + grammar.Where(q) + grammar.Order(q)
}

var grammar = source.SQL{
	Literal:  pgcopy.Literal,
	Bytewise: func(text string) string { return text + ` COLLATE "C"` },
	After: func(left, right []string) string {
		return "(" + strings.Join(left, ", ") + ") > (" + strings.Join(right, ", ") + ")"
	},
	UpTo: func(left, right []string) string {
		return "(" + strings.Join(left, ", ") + ") <= (" + strings.Join(right, ", ") + ")"
	},
	Digest: func(columns []schema.Column) string {
		list := make([]string, len(columns))
		for i, c := range columns {
			list[i] = pgcopy.Expression(c)
		}
		return "encode(sha256(convert_to(ROW(" + strings.Join(list, ", ") + ")::text, 'UTF8')), 'hex')"
	},
	Half: func(from int) string {
		return fmt.Sprintf("coalesce(sum(('x' || substr(d, %d, 15))::bit(60)::bigint), 0)::text", from)
	},
	AsIs:    " OFFSET 0",
	Down:    " DESC NULLS LAST",
	Text:    schema.Literal,
	Instant: func(text string) string { return "TIMESTAMPTZ " + schema.Literal(text+"+00") },
	Texts:   regexp.MustCompile(`^(text|character varying(\(\d+\))?)$`),
	Plain: regexp.MustCompile(`^(smallint|integer|bigint|numeric(\([^)]*\))?|boolean|date|` +
		`timestamp(\(\d\))? with(out)? time zone)$`),
}

// Digests asks for them in one statement.
func (s *Source) Digests(ctx context.Context, q source.Query, ranges []source.KeyRange) ([]source.Digest, error) {
	sql := grammar.Digests(q, ranges)
	done := statement.Begin(ctx, statement.Source, sql)
	found, err := s.pool.Query(ctx, sql)
	digests := make([]source.Digest, len(ranges))
	if err == nil {
		var at, n int64
		var halves [2]string
		_, err = pgx.ForEachRow(found, []any{&at, &n, &halves[0], &halves[1]}, func() (err error) {
			if at < 0 || at >= int64(len(digests)) {
				return fmt.Errorf("the server tells of range %d of %d", at, len(digests))
			}
			digests[at], err = source.ParseHalves(n, halves)
			return err
		})
	}
	done(int64(len(ranges)), err)
	return digests, s.explain(err)
}
