// Package mariadb reads MariaDB databases, version 10.6 and later.
//
// Its catalogue is read through the usual driver. Rows, and the binary log, are read by a
// client of our own, straight from the server's packets. The session is read-only, writes
// times in UTC, and quotes as standard SQL does.
package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// Kind is the name of this kind of source.
const Kind = "mariadb"

// DefaultPort is MariaDB's usual port.
const DefaultPort = 3306

// Opener is what to register.
var Opener = connection.Kind[source.Source]{Check: Check, Open: Open}

// Connections is how many connections a source uses at most for its catalogue. Each read
// has one of its own, and so has each feed that follows the log.
const Connections = 4

// mode fixes how SQL is read: identifiers and texts are quoted as schema.Quote and
// schema.Literal do it.
const mode = "ANSI_QUOTES,NO_BACKSLASH_ESCAPES"

// session is set on each connection that reads rows.
var session = []string{
	"SET SESSION sql_mode = '" + mode + "', time_zone = '+00:00', lock_wait_timeout = 10, max_statement_time = 21600, wait_timeout = 3600, net_write_timeout = 3600",
	"SET NAMES utf8mb4",
	"SET SESSION TRANSACTION READ ONLY, ISOLATION LEVEL REPEATABLE READ",
}

// Source is a MariaDB database that is read.
type Source struct {
	db       *sql.DB
	settings connection.Settings
	what     string
	places   sync.Map // by follower: the filePlace that its stream has come to
	tables   sync.Map // by character set: its decoding
}

// Check tells whether the settings can name a MariaDB database.
func Check(s connection.Settings) (connection.Settings, error) {
	return connection.CheckServer(s, "MariaDB", DefaultPort)
}

// Open prepares to read a database; nothing is connected yet.
func Open(s connection.Settings, what string) (source.Source, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	c := mysql.NewConfig()
	c.Net, c.Addr = network(s)
	c.User, c.Passwd, c.DBName, c.TLS = s.User, s.Password, s.Database, s.TLSConfig()
	c.Timeout, c.ParseTime, c.Logger = dialTimeout, true, &mysql.NopLogger{}
	c.Params = map[string]string{"sql_mode": "'" + mode + "'", "time_zone": "'+00:00'", "lock_wait_timeout": "10", "max_statement_time": "3600", "tx_read_only": "1"}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("prepare the connection: %w", err)
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(Connections)
	db.SetConnMaxIdleTime(time.Minute)
	return &Source{db: db, settings: s, what: what}, nil
}

const dialTimeout = 10 * time.Second

func network(s connection.Settings) (name, address string) {
	if strings.HasPrefix(s.Host, "/") {
		return "unix", s.Host
	}
	return "tcp", s.Address()
}

// Close ends all connections.
func (s *Source) Close() { _ = s.db.Close() }

// connect opens a connection for reading rows, and runs statements on it.
func (s *Source) connect(ctx context.Context, sets ...string) (*wire.Conn, error) {
	o := wire.Options{User: s.settings.User, Password: s.settings.Password, Database: s.settings.Database, TLS: s.settings.TLSConfig(), Timeout: dialTimeout}
	o.Network, o.Address = network(s.settings)
	c, err := wire.Connect(ctx, o)
	if err != nil {
		return nil, err
	}
	for _, sql := range sets {
		if err := c.Exec(ctx, sql); err != nil {
			_ = c.Close()
			return nil, err
		}
	}
	return c, nil
}

// row runs a query of one row and records it.
func (s *Source) row(ctx context.Context, query string, args []any, into ...any) error {
	done := statement.Begin(ctx, statement.Source, shown(query, args))
	err := s.db.QueryRowContext(ctx, query, args...).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		done(0, nil)
		return err
	}
	done(1, err)
	return s.explain(err)
}

// rows runs a query and scans each row into the same places.
func (s *Source) rows(ctx context.Context, query string, args, into []any, each func() error) error {
	done := statement.Begin(ctx, statement.Source, shown(query, args))
	n := int64(0)
	err := func() error {
		found, err := s.db.QueryContext(ctx, query, args...)
		if err != nil {
			return err
		}
		defer func() { _ = found.Close() }()
		for found.Next() {
			n++
			if err := found.Scan(into...); err != nil {
				return err
			}
			if err := each(); err != nil {
				return err
			}
		}
		return found.Err()
	}()
	done(n, err)
	return s.explain(err)
}

// shown is a statement with its parameters, for the run's log.
func shown(query string, args []any) string {
	if len(args) == 0 {
		return query
	}
	return fmt.Sprintf("%s\n-- parameters: %v", query, args)
}

// Numbers of the server's errors (mariadb.com/kb/en/mariadb-error-code-reference).
const (
	errTooManyConnections = 1040
	errNoDatabaseAccess   = 1044
	errDenied             = 1045
	errNoDatabase         = 1049
	errNoTableAccess      = 1142
	errNoColumnAccess     = 1143
	errNoTable            = 1146
	errLockTimeout        = 1205
	errNoPrivilege        = 1227
	errLog                = 1236
	errReadOnly           = 1290
)

// explain turns an error of a connection or a statement into a Problem.
func (s *Source) explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if already := (*problem.Problem)(nil); errors.As(err, &already) {
		return err
	}
	at := fmt.Sprintf("MariaDB at %s (%s)", s.settings.Address(), s.what)
	number, said := serverError(err)
	if number == 0 {
		if unknown := (*wire.UnknownPluginError)(nil); errors.As(err, &unknown) {
			return problem.Wrap(err, problem.Denied, fmt.Sprintf("%s asks user %q to sign in by %s, which is not known here.", at, s.settings.User, unknown.Plugin),
				fmt.Sprintf("Let the user sign in by a password: ALTER USER '%s'@'…' IDENTIFIED VIA mysql_native_password USING PASSWORD('…').", s.settings.User))
		}
		return connection.Explain(err, at, s.what, s.settings)
	}
	switch number {
	case errDenied, 1698:
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("%s did not accept the password of user %q.", at, s.settings.User), "Set the right password, and check from which hosts the user may sign in.")
	case errNoDatabase:
		return problem.Wrap(err, problem.NoDatabase, fmt.Sprintf("%s has no database %q.", at, s.settings.Database), "Check the database name, or create it.")
	case errNoDatabaseAccess:
		return problem.Wrap(err, problem.NoPrivilege, fmt.Sprintf("User %q may not use the database %q of %s.", s.settings.User, s.settings.Database, at), fmt.Sprintf("GRANT SELECT ON %s.* TO the user.", schema.Quote(s.settings.Database)))
	case errNoTableAccess, errNoColumnAccess, errNoPrivilege:
		return problem.Wrap(err, problem.NoPrivilege, fmt.Sprintf("User %q lacks a privilege at %s: %s.", s.settings.User, at, said), "Grant it to the user and start the run again.")
	case errNoTable:
		return problem.Wrap(err, problem.NoTable, fmt.Sprintf("At %s: %s.", at, said), "Check whether the table was dropped or renamed, then remove it from the feed or correct its name.")
	case errTooManyConnections:
		return problem.Wrap(err, problem.Unreachable, at+" has no connection left.", "Wait, raise max_connections, or close idle connections.")
	case errLockTimeout:
		return problem.Wrap(err, problem.Failed, fmt.Sprintf("At %s a lock was not given in time: %s.", at, said), "Find who holds it by SHOW ENGINE INNODB STATUS; the next run tries again.")
	case errReadOnly:
		return problem.Wrap(err, problem.NoPrivilege, at+" is read-only.", "Use the primary server.")
	case 1053, 1927, 1317:
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("%s ended the connection: %s.", at, said), "Check whether the server is running; the next run goes on where this one ended.")
	}
	return problem.Wrap(err, problem.Failed, fmt.Sprintf("A statement failed at %s: %s.", at, said), "")
}

// serverError gives the number and the words of what the server reported; 0 for another error.
func serverError(err error) (number int, said string) {
	var driver *mysql.MySQLError
	var own *wire.Error
	switch {
	case errors.As(err, &driver):
		number, said = int(driver.Number), driver.Message
	case errors.As(err, &own):
		number, said = own.Number, own.Message
	default:
		return 0, ""
	}
	return number, fmt.Sprintf("%s (error %d)", strings.TrimSuffix(said, "."), number)
}

// Test signs in and gives the server's version.
func (s *Source) Test(ctx context.Context) (string, error) {
	var version, comment string
	if err := s.row(ctx, "SELECT version(), @@version_comment", nil, &version, &comment); err != nil {
		return "", err
	}
	number, _, _ := strings.Cut(version, "-")
	if !strings.Contains(version, "MariaDB") {
		return "", problem.Newf(problem.Invalid, "Use a MariaDB server.", "The server of %s is %s %s.", s.what, comment, version)
	}
	var major, minor int
	if _, err := fmt.Sscanf(number, "%d.%d", &major, &minor); err != nil || major < 10 || major == 10 && minor < 6 {
		return "", problem.Newf(problem.Invalid, "Use a server of version 10.6 or later.", "The server of %s is MariaDB %s, which is too old.", s.what, number)
	}
	return "MariaDB " + number, nil
}
