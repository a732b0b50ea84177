package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/pgdial"
	"noemata/internal/warehouse"
)

// asker is the user of the database that people's questions are asked as. What people may not do is what it may not
// do: the database itself sees to that, whatever a question says.
type asker struct {
	settings connection.Settings
	what     string

	mu     sync.Mutex
	opened *pgxpool.Pool
	looked time.Time // when it was last seen to be one that only reads
}

// askersAtOnce is how many conversations go on at once; another one waits for a while.
const (
	askersAtOnce = 16
	askersWait   = 15 * time.Second
)

// Each question is a transaction that ends with ROLLBACK, which takes back what it has set. What is set here is what
// the decoders of answers rely on.
var askerSession = []string{
	"SET default_transaction_read_only = on",
	"SET lock_timeout = '10s'",
	"SET idle_in_transaction_session_timeout = '15min'",
	"SET datestyle = 'ISO, YMD'",
	"SET intervalstyle = 'postgres'",
	"SET bytea_output = 'hex'",
	"SET extra_float_digits = 1",
	"SET client_encoding = 'UTF8'",
	"SET standard_conforming_strings = on",
	"SET timezone = 'UTC'",
	"SET client_min_messages = warning",
}

// newAsker is the user that is named for questions; nil where there is none.
func newAsker(s connection.Settings, what string) *asker {
	if s.AskUser == "" {
		return nil
	}
	s.User, s.Password, s.Certificate, s.Key = s.AskUser, s.AskPassword, "", ""
	return &asker{settings: s, what: what}
}

func (a *asker) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.opened != nil {
		a.opened.Close()
	}
}

func (a *asker) pool() (*pgxpool.Pool, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.opened == nil {
		pool, err := pgdial.Open(a.settings, askersAtOnce, "noemata asker", askerSession)
		if err != nil {
			return nil, err
		}
		a.opened = pool
	}
	return a.opened, nil
}

// acquire gives a connection to ask on, as a user of whom it was made sure that it only reads, and nothing but what
// may lets.
func (a *asker) acquire(ctx context.Context, may warehouse.May) (*pgxpool.Conn, error) {
	pool, err := a.pool()
	if err != nil {
		return nil, err
	}
	within, cancel := context.WithTimeout(ctx, askersWait)
	defer cancel()
	c, err := pool.Acquire(within)
	if err != nil {
		if ctx.Err() == nil && pool.Stat().AcquiredConns() >= askersAtOnce {
			return nil, warehouse.Refused("53300", "%d questions and transactions go on in this warehouse, which is as many as "+
				"may, and none has ended. Ask again later.", askersAtOnce)
		}
		return nil, a.explain(err)
	}
	if err := errors.Join(a.onlyReads(ctx, c), a.within(ctx, c, may)); err != nil {
		c.Release()
		return nil, a.explain(err)
	}
	return c, nil
}

// explain tells a fault of the sign-in by the settings that it is of.
func (a *asker) explain(err error) error {
	err = pgdial.Explain(err, a.what, a.settings)
	p := (*problem.Problem)(nil)
	if field := map[string]string{"user": "ask_user", "password": "ask_password"}; errors.As(err, &p) &&
		field[p.Field] != "" {
		copied := *p
		return copied.In(field[p.Field])
	}
	return err
}

// known are schemas of PostgreSQL's own.
const known = `n.nspname IN ('pg_catalog', 'information_schema') OR n.nspname ~ '^pg_(toast|temp)'`

// What the user must not be able to do: the query names, quoted, the first thing with which it is; the remedy takes the
// user and that.
var mustNot = []struct{ sql, what, remedy string }{
	{`SELECT format('%I', rolname) FROM pg_roles r WHERE pg_has_role(current_user, r.oid, 'MEMBER') AND (rolsuper OR rolcreaterole OR
  rolcreatedb OR rolreplication OR rolname IN ('pg_read_server_files', 'pg_write_server_files', 'pg_execute_server_program',
  'pg_write_all_data', 'pg_signal_backend', 'pg_maintain', 'pg_create_subscription'))
ORDER BY rolname <> current_user, rolname LIMIT 1`,
		"has the rights of the role %s, which may do more than read", "REVOKE %[2]s FROM %[1]s;"},
	{`SELECT format('%I', n.nspname) FROM pg_namespace n WHERE NOT (` + known + `) AND has_schema_privilege(n.oid, 'CREATE')
ORDER BY 1 LIMIT 1`,
		"may make tables in the schema %s",
		"REVOKE CREATE ON SCHEMA %[2]s FROM %[1]s, PUBLIC;"},
	{`SELECT format('%I', current_database()) WHERE has_database_privilege(current_database(), 'CREATE')`,
		"may make schemas in the database %s", "REVOKE CREATE ON DATABASE %[2]s FROM %[1]s, PUBLIC;"},
	{`SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT (` + known + `) AND (
  has_table_privilege(c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE, TRIGGER') OR
  has_any_column_privilege(c.oid, 'INSERT, UPDATE')) ORDER BY 1 LIMIT 1`,
		"may write the table %s",
		"REVOKE INSERT, UPDATE, DELETE, TRUNCATE, TRIGGER ON %[2]s FROM %[1]s, PUBLIC;"},
	{`SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname = 'noemata' AND
  c.relname NOT IN ('freshness', 'keys', 'relations') AND has_schema_privilege(n.oid, 'USAGE') AND
  has_any_column_privilege(c.oid, 'SELECT') ORDER BY 1 LIMIT 1`,
		"may read %s, which Noemata keeps for itself", "REVOKE SELECT ON %[2]s FROM %[1]s, PUBLIC;"},
}

// lookAgain is after how long it is made sure again that the user only reads.
const lookAgain = time.Minute

// onlyReads makes sure that the user cannot do more than read. Each question is asked in a transaction that writes
// nothing, too.
func (a *asker) onlyReads(ctx context.Context, c *pgxpool.Conn) error {
	a.mu.Lock()
	looked := a.looked
	a.mu.Unlock()
	if time.Since(looked) < lookAgain {
		return nil
	}
	for _, m := range mustNot {
		found, err := firstColumn(ctx, c, m.sql)
		if err != nil {
			return err
		}
		if len(found) > 0 {
			user := schema.Quote(a.settings.User)
			remedy := fmt.Sprintf(m.remedy, user, found[0])
			if found[0] == user || found[0] == a.settings.User { // it is of itself what it must not be
				remedy = fmt.Sprintf("ALTER ROLE %s NOSUPERUSER NOCREATEROLE NOCREATEDB NOREPLICATION;", user)
			}
			return problem.Newf(problem.NoPrivilege, remedy, "Questions to %s would be asked as the user %q, who %s.", a.what,
				a.settings.User, fmt.Sprintf(m.what, found[0])).In("ask_user")
		}
	}
	a.mu.Lock()
	a.looked = time.Now()
	a.mu.Unlock()
	return nil
}

// within makes sure that the user reads nothing that may does not let: a question can read, by functions that take a
// text, whatever the user can.
func (a *asker) within(ctx context.Context, c *pgxpool.Conn, may warehouse.May) error {
	const any = " "
	if may(any) {
		return nil
	}
	found, err := firstColumn(ctx, c, `SELECT DISTINCT n.nspname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT (`+known+`) AND n.nspname <> 'noemata' AND
  has_schema_privilege(n.oid, 'USAGE') AND has_any_column_privilege(c.oid, 'SELECT') ORDER BY 1`)
	if err != nil {
		return err
	}
	found = slices.DeleteFunc(found, func(name string) bool { return may(strings.ToLower(name)) })
	if len(found) > 0 {
		return problem.Newf(problem.NoPrivilege,
			"To ask here is to ask all that this user reads. An administrator lets somebody "+
				"ask the whole warehouse, or takes those schemas from the user.",
			"You may not ask the schema %s, and questions to %s are asked as the user %q, who may read it.",
			strings.Join(found, ", "), a.what, a.settings.User)
	}
	return nil
}

// firstColumn gives the texts of a query's only column.
func firstColumn(ctx context.Context, c *pgxpool.Conn, sql string) (list []string, err error) {
	found, err := c.Query(ctx, sql)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var text string
		if err := found.Scan(&text); err != nil {
			return nil, err
		}
		list = append(list, text)
	}
	return list, found.Err()
}
