// Package pglink connects to PostgreSQL servers and says in plain words why a
// connection or a statement failed.
package pglink

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
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
	for _, field := range []struct{ name, value string }{{"host", s.Host}, {"database", s.Database}, {"user", s.User}} {
		if field.value == "" {
			return s, problem.Newf(problem.Invalid, "Give host, database and user, or a URL.", "A PostgreSQL connection needs its %s.", field.name)
		}
	}
	if s.Path != "" {
		return s, problem.New(problem.Invalid, "A PostgreSQL connection has no path.", "Leave path out; it is for databases in a file.")
	}
	if s.Port == 0 {
		s.Port = DefaultPort
	}
	switch s.TLS {
	case "", connection.TLSOff, connection.TLSRequire, connection.TLSVerifyCA, connection.TLSVerifyFull:
	default:
		return s, problem.Newf(problem.Invalid, "Write off, require, verify-ca or verify-full.", "%q is not a TLS mode.", s.TLS)
	}
	if s.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(s.CA)) {
		return s, problem.New(problem.Invalid, "The certificates to trust hold no certificate in PEM.", "Paste the content of the CA file, from BEGIN CERTIFICATE to END CERTIFICATE.")
	}
	return s, nil
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
	config.ShouldPing = func(_ context.Context, p pgxpool.ShouldPingParams) bool { return p.IdleDuration > 10*time.Millisecond }
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

func configOf(s connection.Settings, application string) (*pgxpool.Config, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	// An empty URL of a known host keeps every other setting from the environment out.
	config, err := pgxpool.ParseConfig("host=localhost user=x dbname=x sslmode=disable passfile=/dev/null min_read_buffer_size=131072")
	if err != nil {
		return nil, fmt.Errorf("prepare the connection: %w", err)
	}
	c := config.ConnConfig
	c.Host, c.Port, c.Database, c.User, c.Password = s.Host, uint16(s.Port), s.Database, s.User, s.Password
	c.Fallbacks = nil
	c.ConnectTimeout = 10 * time.Second
	c.TLSConfig = tlsConfig(s)
	c.RuntimeParams = map[string]string{"application_name": application}
	// Servers that share connections between clients need no prepared statements to be kept.
	c.DefaultQueryExecMode = pgx.QueryExecModeExec
	return config, nil
}

func tlsConfig(s connection.Settings) *tls.Config {
	mode := s.Mode()
	if mode == connection.TLSOff {
		return nil
	}
	config := &tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12}
	if s.CA != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(s.CA))
	}
	switch mode {
	case connection.TLSRequire:
		config.InsecureSkipVerify = true
	case connection.TLSVerifyCA:
		config.InsecureSkipVerify = true
		config.VerifyConnection = func(state tls.ConnectionState) error {
			options := x509.VerifyOptions{Roots: config.RootCAs, Intermediates: x509.NewCertPool()}
			for _, certificate := range state.PeerCertificates[1:] {
				options.Intermediates.AddCert(certificate)
			}
			_, err := state.PeerCertificates[0].Verify(options)
			return err
		}
	}
	return config
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
	var (
		dns       *net.DNSError
		authority x509.UnknownAuthorityError
		host      x509.HostnameError
		invalid   x509.CertificateInvalidError
	)
	switch text := err.Error(); {
	case errors.As(err, &dns):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("The host %q of %s is not known.", s.Host, what), "Check the host name.")
	case errors.As(err, &authority), errors.As(err, &host), errors.As(err, &invalid):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("The certificate of %s was not accepted: %v.", at, rootOf(err)), "Give the CA certificate that signed it, or choose a weaker TLS mode if the network is trusted.")
	case strings.Contains(text, "server refused TLS connection"):
		return problem.Wrap(err, problem.Unreachable, at+" does not offer TLS.", "Turn TLS on at the server (ssl = on), or set the TLS mode to off if the network is trusted.")
	case errors.Is(err, syscall.ECONNREFUSED):
		return problem.Wrap(err, problem.Unreachable, at+" refused the connection: nothing listens there.", "Start the server, or check host and port.")
	case errors.Is(err, context.DeadlineExceeded), strings.Contains(text, "i/o timeout"):
		return problem.Wrap(err, problem.Unreachable, at+" did not answer in time.", "Check host, port and firewall, and whether the server is overloaded.")
	case isConnectionLoss(err):
		return problem.Wrap(err, problem.Unreachable, "The connection to "+at+" was lost.", "Check whether the server is running; the next run goes on where this one ended.")
	}
	return fmt.Errorf("%s: %w", what, err)
}

func explainServer(e *pgconn.PgError, err error, at, what string, s connection.Settings) error {
	said := fmt.Sprintf("%s (SQLSTATE %s)", strings.TrimSuffix(e.Message, "."), e.Code)
	switch {
	case e.Code == "28P01":
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("%s did not accept the password of user %q.", at, s.User), "Set the right password.")
	case e.Code == "28000":
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("%s does not let user %q sign in: %s.", at, s.User, said), "Check the user's name and the server's pg_hba.conf.")
	case e.Code == "3D000":
		return problem.Wrap(err, problem.NoDatabase, fmt.Sprintf("%s has no database %q.", at, s.Database), "Check the database name, or create it.")
	case e.Code == "42501" && strings.Contains(e.Message, "row-level security"):
		return problem.Wrap(err, problem.NoPrivilege, fmt.Sprintf("%s would hide rows from user %q: %s.", at, s.User, said), fmt.Sprintf("Let the user see all rows: ALTER ROLE %s BYPASSRLS.", schema.Quote(s.User)))
	case e.Code == "42501":
		return problem.Wrap(err, problem.NoPrivilege, fmt.Sprintf("User %q lacks a privilege at %s: %s.", s.User, at, said), "Grant it to the user and start the run again.")
	case e.Code == "42P01" || e.Code == "3F000":
		return problem.Wrap(err, problem.NoTable, fmt.Sprintf("At %s: %s.", at, said), "Check whether the table was dropped or renamed, then remove it from the feed or correct its name.")
	case e.Code == "53300":
		return problem.Wrap(err, problem.Unreachable, at+" has no connection left.", "Wait, raise max_connections, or close idle connections.")
	case e.Code == "53100":
		return problem.Wrap(err, problem.Failed, at+" has no disk space left.", "Free some space; the next run goes on where this one ended.")
	case e.Code == "25006":
		return problem.Wrap(err, problem.NoPrivilege, at+" is read-only.", "Use the primary server, or lift default_transaction_read_only.")
	case e.Code == "55P03":
		return problem.Wrap(err, problem.Failed, fmt.Sprintf("At %s a lock was not given in time: %s.", at, said), "Find who holds it in pg_locks; the next run tries again.")
	case strings.HasPrefix(e.Code, "57P"):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("%s ended the connection: %s.", at, said), "Check whether the server is running; the next run goes on where this one ended.")
	}
	detail := ""
	if e.Hint != "" {
		detail = "The server adds: " + e.Hint
	}
	return problem.Wrap(err, problem.Failed, fmt.Sprintf("A statement failed at %s: %s.", at, said), detail)
}

func isConnectionLoss(err error) bool {
	var network net.Error
	text := err.Error()
	return errors.As(err, &network) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) ||
		strings.Contains(text, "unexpected EOF") || strings.Contains(text, "conn closed") || strings.Contains(text, "failed to connect")
}

func rootOf(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}
