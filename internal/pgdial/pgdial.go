// Package pgdial connects to PostgreSQL servers and says in plain words why a
// connection or a statement failed.
package pgdial

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// DefaultPort is PostgreSQL's usual port.
const DefaultPort = 5432

// Check tells whether the settings can name a PostgreSQL database, and fills in
// the usual port.
func Check(s connection.Settings) (connection.Settings, error) {
	return connection.CheckServer(s, "PostgreSQL", DefaultPort)
}

// Open makes a pool of at most conns connections. Each one runs the given SET
// statements first. Nothing is connected yet.
func Open(s connection.Settings, conns int32, application string, sets []string) (*pgxpool.Pool, error) {
	config, err := configOf(s, application)
	if err != nil {
		return nil, err
	}
	config.MaxConns = conns
	config.MaxConnIdleTime = time.Minute
	// A server that was restarted meanwhile is noticed before a statement fails of it.
	config.ShouldPing = func(_ context.Context,
		p pgxpool.ShouldPingParams) bool {
		return p.IdleDuration > 10*time.Millisecond
	}
	config.AfterConnect = func(ctx context.Context, conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, strings.Join(sets, "; "), pgx.QueryExecModeSimpleProtocol)
		return err
	}
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	if err != nil {
		return nil, fmt.Errorf("prepare the connection: %w", err)
	}
	return pool, nil
}

// Replicate opens a connection that can read the change log of its database, and runs
// the given SET statements on it (PostgreSQL, Streaming Replication Protocol).
func Replicate(ctx context.Context, s connection.Settings, application string, sets []string) (*pgconn.PgConn, error) {
	config, err := configOf(s, application)
	if err != nil {
		return nil, err
	}
	c := config.ConnConfig.Config
	c.RuntimeParams["replication"] = "database"
	conn, err := pgconn.ConnectConfig(ctx, &c)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, strings.Join(sets, "; ")).ReadAll(); err != nil {
		_ = conn.Close(ctx)
		return nil, err
	}
	return conn, nil
}

// Run runs statements one after another, on a connection of its own and outside of a transaction.
func Run(ctx context.Context, s connection.Settings, application string, statements ...string) error {
	config, err := configOf(s, application)
	if err != nil {
		return err
	}
	conn, err := pgx.ConnectConfig(ctx, config.ConnConfig)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	for _, sql := range statements {
		if _, err := conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol); err != nil {
			return err
		}
	}
	return nil
}

// readBuffer is how much is read of a server at once, in bytes: rows come in one message each.
const readBuffer = 128 << 10

// How long a message of a server may be, in bytes: before the sign-in, and after it. A row
// travels in one message.
const (
	mostBeforeSignIn = 64 << 10
	MostMessage      = 256 << 20
)

func configOf(s connection.Settings, application string) (*pgxpool.Config, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	// An empty URL of a known host keeps every other setting from the environment out.
	config, err := pgxpool.ParseConfig("host=localhost user=x dbname=x sslmode=disable passfile=/dev/null")
	if err != nil {
		return nil, fmt.Errorf("prepare the connection: %w", err)
	}
	c := config.ConnConfig
	c.Host, c.Port, c.Database, c.User, c.Password = s.Host, uint16(s.Port), s.Database, s.User, s.Password
	c.Fallbacks = nil
	c.ConnectTimeout, c.DialFunc = connection.DialTimeout, s.Dial
	if len(s.Tunnel) > 0 { // the name is known at the other end
		c.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	}
	c.TLSConfig = s.TLSConfig()
	c.RuntimeParams = map[string]string{"application_name": application}
	if !s.Verified() && !s.InClear {
		c.RequireAuth = "scram-sha-256,none" // whoever else listens there learns nothing from these
	}
	c.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		f := pgproto3.NewFrontend(bufio.NewReaderSize(r, readBuffer), w)
		f.SetMaxBodyLen(mostBeforeSignIn)
		return f
	}
	c.AfterConnect = func(_ context.Context, conn *pgconn.PgConn) error {
		conn.Frontend().SetMaxBodyLen(MostMessage)
		return nil
	}
	// Servers that share connections between clients need no prepared statements to be kept.
	c.DefaultQueryExecMode = pgx.QueryExecModeExec
	return config, nil
}

// Explain turns an error of a connection or a statement into a Problem. what
// names the database for a person, such as `source "circulation"`.
func Explain(err error, what string, s connection.Settings) error {
	if err == nil {
		return nil
	}
	var already *problem.Problem
	if errors.As(err, &already) || errors.Is(err, context.Canceled) {
		return err
	}
	at := fmt.Sprintf("PostgreSQL at %s (%s)", s.Address(), what)
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return explainServer(server, err, at, what, s)
	}
	var long *pgproto3.ExceededMaxBodyLenErr
	switch {
	case errors.As(err, &long) && long.MaxExpectedBodyLen == mostBeforeSignIn:
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("%s sent a message of %d bytes before the sign-in, which no PostgreSQL server does.", at,
				long.ActualBodyLen), "Check host and port.").In("port")
	case errors.As(err, &long):
		return problem.Wrap(err, problem.Failed,
			fmt.Sprintf("%s sent a row of %d MB, and %d MB are the most that is taken in.", at, long.ActualBodyLen>>20,
				MostMessage>>20), "Drop the column that holds so much from the feed.")
	case strings.Contains(err.Error(), "require_auth check failed"):
		return problem.Wrap(err, problem.Denied,
			fmt.Sprintf("%s asks for the password of user %q in the clear or by MD5, and TLS does not verify that "+
				"it is the right server.", at, s.User),
			"Let the server ask by SCRAM (password_encryption = 'scram-sha-256', and set the password again), use "+
				"the TLS mode verify-full, or allow it with --password-in-clear.").In("password_in_clear")
	}
	return connection.Explain(err, at, what, s)
}

// refusal matches the codes of errors that are a statement's own: of data, constraints, names
// and syntax (PostgreSQL, Error Codes).
var refusal = regexp.MustCompile("^(22|23|42)")

func explainServer(e *pgconn.PgError, err error, at, what string, s connection.Settings) error {
	said := fmt.Sprintf("%s (SQLSTATE %s)", strings.TrimSuffix(e.Message, "."), e.Code)
	switch {
	case e.Code == "28P01":
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("%s did not accept the password of user %q.", at, s.User),
			"Set the right password.").In("password")
	case e.Code == "28000":
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("%s does not let user %q sign in: %s.", at, s.User, said),
			"Check the user's name and the server's pg_hba.conf.").In("user")
	case e.Code == "3D000":
		return problem.Wrap(err, problem.NoDatabase, fmt.Sprintf("%s has no database %q.", at, s.Database),
			"Check the database name, or create it.").In("database")
	case e.Code == "42501" && strings.Contains(e.Message, "row-level security"):
		return problem.Wrap(err, problem.NoPrivilege,
			fmt.Sprintf("%s would hide rows from user %q: %s.", at, s.User, said),
			fmt.Sprintf("Let the user see all rows: ALTER ROLE %s BYPASSRLS;", schema.Quote(s.User)))
	case e.Code == "42501":
		return problem.Wrap(err, problem.NoPrivilege,
			fmt.Sprintf("User %q lacks a privilege at %s: %s.", s.User, at, said),
			"Grant it to the user and start the run again.")
	case e.Code == "42P01" || e.Code == "3F000":
		return problem.Wrap(err, problem.NoTable, fmt.Sprintf("At %s: %s.", at, said),
			"Check whether the table was dropped or renamed, then remove it from the feed or correct its name.")
	case e.Code == "53300" && strings.Contains(e.Message, "for role"):
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("%s gives user %q no further connection: %s.", at, s.User, said),
			fmt.Sprintf("Close others of this user, or ALTER ROLE %s CONNECTION LIMIT -1;", schema.Quote(s.User)))
	case e.Code == "53300":
		return problem.Wrap(err, problem.Unreachable, at+" has no connection left.",
			"Wait, raise max_connections, or close idle connections.")
	case e.Code == "53100":
		return problem.Wrap(err, problem.Failed, at+" has no disk space left.",
			"Free some space; the next run goes on where this one ended.")
	case e.Code == "25006":
		return problem.Wrap(err, problem.NoPrivilege, at+" is read-only.",
			"Use the primary server, or lift default_transaction_read_only.")
	case e.Code == "55P03":
		return problem.Wrap(err, problem.Busy, fmt.Sprintf("At %s a lock was not given in time: %s.", at, said),
			"Find who holds it in pg_locks; the next run tries again.")
	// Whoever took the snapshot has lost its connection.
	case strings.Contains(e.Message, "invalid snapshot identifier"):
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("%s has let go of the snapshot that a copy was read in, as happens when a connection is lost.",
				at), "The next run goes on where this one ended.")
	case strings.HasPrefix(e.Code, "57P"):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("%s ended the connection: %s.", at, said),
			"Check whether the server is running; the next run goes on where this one ended.")
	}
	detail := ""
	if e.Hint != "" {
		detail = "The server adds: " + e.Hint
	}
	code := problem.Failed
	if refusal.MatchString(e.Code) {
		code = problem.Refused
	}
	return problem.Wrap(err, code, fmt.Sprintf("A statement failed at %s: %s.", at, said),
		strings.TrimSpace(detail+" "+problem.LookAtStatement))
}
