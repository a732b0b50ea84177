// Package mariadb reads MariaDB databases, version 10.6 and later.
//
// Catalogue, rows and the binary log are read by a client of our own (wire), straight from
// the server's packets. A Reader reads catalogue and rows, of MySQL's servers too; what these
// differ in, a Server says. The session is read-only, writes times in UTC, and quotes as
// standard SQL does.
package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

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

// usualConnections is how many connections a process opens at most, unless the settings say otherwise; each feed
// that follows the log, and each copy that goes on, has some more.
const usualConnections = 20

// forCatalogue is how many of a source's connections ask the catalogue. Each read has one of its own.
const forCatalogue = 4

// mode fixes how SQL is read: identifiers and texts are quoted as schema.Quote and
// schema.Literal do it.
const mode = "ANSI_QUOTES,NO_BACKSLASH_ESCAPES"

// How long a statement of the catalogue may take, and one that reads rows, in seconds.
const (
	briefly   = 3600
	atLeisure = 21600
)

// session gives what is set on each connection; variables are more of them.
func session(variables string) []string {
	return []string{
		"SET SESSION sql_mode = '" + mode + "', time_zone = '+00:00', " + variables,
		"SET NAMES utf8mb4",
		"SET SESSION TRANSACTION READ ONLY, ISOLATION LEVEL REPEATABLE READ",
	}
}

// reading is the session of a connection that reads rows.
func (r *Reader) reading() []string {
	return session("lock_wait_timeout = 10, wait_timeout = 3600, net_write_timeout = 3600" + r.limit(atLeisure))
}

func (r *Reader) limit(seconds int) string {
	if limit := r.server.Limit(seconds); limit != "" {
		return ", " + limit
	}
	return ""
}

// Reader reads the catalogue and the rows of a database.
type Reader struct {
	server   Server
	grammar  source.SQL
	db       *sql.DB
	reads    chan struct{} // full when as many rows are read at once as may be
	settings connection.Settings
	what     string
}

// Source is a database that is read, and whose log is followed.
type Source struct {
	*Reader
	places  sync.Map // by follower: the filePlace that its stream has come to
	tables  sync.Map // by character set: its decoding
	givenUp sync.Map // transactions that were rolled back after some of them was read, by position

	collated sync.Mutex
	charsets map[uint64]string // by the number of a collation
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
	return New(maria, s, what), nil
}

// New prepares to read a database of a kind of server; nothing is connected yet. The settings
// were checked.
func New(server Server, s connection.Settings, what string) *Source {
	return &Source{Reader: newReader(server, s, what)}
}

func newReader(server Server, s connection.Settings, what string) *Reader {
	r := &Reader{server: server, grammar: grammar, settings: s, what: what}
	r.grammar.NoTies = !server.Ties
	r.db = sql.OpenDB(&wire.Connector{Options: options(s), Sets: session("lock_wait_timeout = 10" + r.limit(briefly))})
	r.db.SetMaxOpenConns(forCatalogue)
	r.reads = make(chan struct{}, cmp.Or(s.Connections, usualConnections)-forCatalogue)
	r.db.SetConnMaxIdleTime(time.Minute)
	return r
}

// options say how a database is reached.
func options(s connection.Settings) wire.Options {
	o := wire.Options{Dial: s.Dial, User: s.User, Password: s.Password, Database: s.Database,
		TLS: s.TLSConfig(), InClear: s.InClear, Verified: s.Verified(), Timeout: connection.DialTimeout}
	o.Network, o.Address = network(s)
	return o
}

func network(s connection.Settings) (name, address string) {
	if strings.HasPrefix(s.Host, "/") {
		return "unix", s.Host
	}
	return "tcp", s.Address()
}

// Quote is a name as MariaDB's SQL has it, whatever the session's sql_mode.
func (s *Reader) Quote(name string) string {
	return "`" + strings.ReplaceAll(name, "`", "``") + "`"
}

// named is a table's name in a statement that a person runs.
func (s *Reader) named(name schema.Name) string {
	return s.Quote(name.Schema) + "." + s.Quote(name.Table)
}

// grant is the statement that lets the user do something. The server says how it knows the
// user; where it cannot be asked, the host is left open.
func (s *Reader) grant(ctx context.Context, privilege, on string) string {
	account := s.settings.User + "@…"
	_ = s.Row(ctx, "SELECT CURRENT_USER()", nil, &account)
	s.Rest() // the server looks at some privileges only at the sign-in
	return grantTo(account, privilege, on)
}

func grantTo(account, privilege, on string) string {
	at := strings.LastIndex(account, "@")
	return fmt.Sprintf("GRANT %s ON %s TO %s@%s;", privilege, on, schema.Literal(account[:at]),
		schema.Literal(account[at+1:]))
}

// refused matches whom the server has refused a database.
var refused = regexp.MustCompile(`^Access denied for user '(.*)'@'(.*)' to database`)

// Close ends all connections.
func (s *Reader) Close() { _ = s.db.Close() }

// connect opens a connection for reading rows, and runs statements on it.
func (s *Reader) connect(ctx context.Context, sets ...string) (*wire.Conn, error) {
	c, err := wire.Connect(ctx, options(s.settings))
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

// connectToRead waits until one more may read, and opens a connection for it; end gives both back.
func (s *Reader) connectToRead(ctx context.Context) (c *wire.Conn, end func(), err error) {
	select {
	case s.reads <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	return s.connectAdmitted(ctx)
}

// connectIfFree is connectToRead where nobody has to be waited for; else c is nil.
func (s *Reader) connectIfFree(ctx context.Context) (c *wire.Conn, end func(), err error) {
	select {
	case s.reads <- struct{}{}:
		return s.connectAdmitted(ctx)
	default:
		return nil, nil, nil
	}
}

func (s *Reader) connectAdmitted(ctx context.Context) (c *wire.Conn, end func(), err error) {
	if c, err = s.connect(ctx, s.reading()...); err != nil {
		<-s.reads
		return nil, nil, err
	}
	return c, func() {
		_ = c.Close()
		<-s.reads
	}, nil
}

// Connections counts those of the user (MariaDB, Information Schema PROCESSLIST Table).
func (s *Reader) Connections(ctx context.Context) (n int64, err error) {
	err = s.Row(ctx, "SELECT count(*) FROM information_schema.processlist WHERE user = SUBSTRING_INDEX(CURRENT_USER(), '@', 1)", nil, &n)
	return n, err
}

// Grants are the statements that make a reader, who signs in from any host.
func (s *Reader) Grants(user string, needs source.Needs) []string {
	account := user + "@%"
	list := []string{fmt.Sprintf("CREATE USER %s@'%%' IDENTIFIED BY '…'", schema.Literal(user))}
	grant := func(privilege, on string) {
		list = append(list, strings.TrimSuffix(grantTo(account, privilege, on), ";"))
	}
	for _, t := range needs.Tables {
		grant("SELECT", s.named(t))
	}
	if needs.Watermark || needs.Log && s.server.Log.Waits { // which transactions are open
		grant("PROCESS", "*.*")
		if s.server.Lists != "" {
			grant("SELECT", s.server.Lists)
		}
	}
	if needs.Log {
		grant("REPLICATION SLAVE, "+s.server.Log.Monitor, "*.*")
	}
	return list
}

// Mend runs a statement that a person has asked for. It does not wait long for a lock, behind which others
// would queue.
func (s *Reader) Mend(ctx context.Context, sql string) error {
	done := statement.Begin(ctx, statement.Source, sql)
	c, err := s.connect(ctx, "SET lock_wait_timeout = 10", sql)
	done(0, err)
	if err == nil {
		err = c.Close()
	}
	return s.Explain(err)
}

// Row runs a query of one row and records it.
func (s *Reader) Row(ctx context.Context, query string, args []any, into ...any) error {
	done := statement.Begin(ctx, statement.Source, shown(query, args))
	err := s.db.QueryRowContext(ctx, query, args...).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		done(0, nil)
		return err
	}
	done(1, err)
	return s.noticed(s.Explain(err))
}

// noticed has the next query sign in anew after one that was refused.
func (s *Reader) noticed(err error) error {
	if problem.Is(err, problem.NoPrivilege) {
		s.Rest() // the server looks at some privileges only at the sign-in
	}
	return err
}

// Rest closes the connections that are not in use.
func (s *Reader) Rest() {
	s.db.SetMaxIdleConns(0)
	s.db.SetMaxIdleConns(2)
}

// Rows runs a query and scans each row into the same places.
func (s *Reader) Rows(ctx context.Context, query string, args, into []any, each func() error) error {
	return s.noticed(s.Explain(scan(ctx, s.db, query, into, each, args...)))
}

// scan runs a query on a connection, or on any, and records it.
func scan(ctx context.Context, on source.Queryer, query string, into []any, each func() error, args ...any) error {
	done := statement.Begin(ctx, statement.Source, shown(query, args))
	n, err := source.Scan(ctx, on, query, args, into, each)
	done(n, err)
	return err
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
	errNoColumn           = 1054
	errNoTableAccess      = 1142
	errNoColumnAccess     = 1143
	errNoTable            = 1146
	errLockTimeout        = 1205
	errNoPrivilege        = 1227
	errLog                = 1236
	errReadOnly           = 1290
	errRedefined          = 1412
)

// Explain turns an error of a connection or a statement into a Problem.
func (s *Reader) Explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if already := (*problem.Problem)(nil); errors.As(err, &already) {
		return err
	}
	at := fmt.Sprintf("%s at %s (%s)", s.server.Name, s.settings.Address(), s.what)
	number, said := serverError(err)
	if number == 0 {
		if unknown := (*wire.UnknownPluginError)(nil); errors.As(err, &unknown) {
			return problem.Wrap(err, problem.Denied,
				fmt.Sprintf("%s asks user %q to sign in by %s, which is not known here.", at, s.settings.User,
					unknown.Plugin),
				fmt.Sprintf("Let the user sign in by a password: ALTER USER '%s'@'…' IDENTIFIED %s.", s.settings.User,
					s.server.Password)).In("user")
		}
		var long *wire.TooLongError
		switch {
		case errors.Is(err, wire.ErrInClear):
			return problem.Wrap(err, problem.Denied,
				fmt.Sprintf("%s asks for the password of user %q in the clear, and TLS does not verify that it is "+
					"the right server.", at, s.settings.User),
				"Let the user sign in by a password that is not sent (mysql_native_password or ed25519), use the "+
					"TLS mode verify-full, or allow it with --password-in-clear.").In("password_in_clear")
		case errors.As(err, &long) && long.Most < wire.MostPacket:
			return problem.Wrap(err, problem.Unreachable,
				fmt.Sprintf("%s sent a packet of %d bytes before the sign-in, which no such server does.", at,
					long.Bytes), "Check host and port.").In("port")
		case errors.As(err, &long):
			return problem.Wrap(err, problem.Failed,
				fmt.Sprintf("%s sent a row of %d MB or more, and %d MB are the most that is taken in.", at,
					long.Bytes>>20, long.Most>>20), "Drop the column that holds so much from the feed.")
		}
		return connection.Explain(err, at, s.what, s.settings)
	}
	switch number {
	case errDenied, 1698:
		return problem.Wrap(err, problem.Denied,
			fmt.Sprintf("%s did not accept the password of user %q.", at,
				s.settings.User), "Set the right password, and check from which hosts the user may sign in.").In("password")
	case errNoDatabase:
		return problem.Wrap(err, problem.NoDatabase, fmt.Sprintf("%s has no database %q.", at, s.settings.Database),
			"Check the database name, or create it.").In("database")
	case errNoDatabaseAccess:
		account := s.settings.User + "@…"
		if m := refused.FindStringSubmatch(said); m != nil {
			account = m[1] + "@" + m[2]
		}
		return problem.Wrap(err, problem.NoPrivilege,
			fmt.Sprintf("User %q may not use the database %q of %s.", s.settings.User, s.settings.Database, at),
			grantTo(account, "SELECT", s.Quote(s.settings.Database)+".*")).In("database")
	case errNoTableAccess, errNoColumnAccess, errNoPrivilege:
		return problem.Wrap(err, problem.NoPrivilege,
			fmt.Sprintf("User %q lacks a privilege at %s: %s.", s.settings.User, at, said),
			"Grant it to the user and start the run again.")
	case errNoTable:
		return problem.Wrap(err, problem.NoTable, fmt.Sprintf("At %s: %s.", at, said),
			"Check whether the table was dropped or renamed, then remove it from the feed or correct its name.")
	case errTooManyConnections:
		return problem.Wrap(err, problem.Unreachable, at+" has no connection left.",
			"Wait, raise max_connections, or close idle connections.")
	case errLockTimeout:
		return problem.Wrap(err, problem.Busy, fmt.Sprintf("At %s a lock was not given in time: %s.", at, said),
			"Find who holds it by SHOW ENGINE INNODB STATUS; the next run tries again.")
	case errRedefined:
		return problem.Wrap(err, problem.Busy,
			fmt.Sprintf("At %s a table was altered or emptied while it was being read: %s.", at, said),
			"The next run reads it again.")
	case errReadOnly:
		return problem.Wrap(err, problem.NoPrivilege, at+" is read-only.", "Use the primary server.")
	case 1053, 1927, 1317:
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("%s ended the connection: %s.", at, said),
			"Check whether the server is running; the next run goes on where this one ended.")
	}
	return problem.Wrap(err, problem.Failed, fmt.Sprintf("A statement failed at %s: %s.", at, said),
		problem.LookAtStatement)
}

// serverError gives the number and the words of what the server reported; 0 for another error.
func serverError(err error) (number int, said string) {
	var server *wire.Error
	if !errors.As(err, &server) {
		return 0, ""
	}
	return server.Number, fmt.Sprintf("%s (error %d)", strings.TrimSuffix(server.Message, "."), server.Number)
}

// Test signs in and gives the server's version.
func (s *Reader) Test(ctx context.Context) (string, error) {
	s.Rest() // the server looks at some privileges only at the sign-in, and whoever tests may have been granted more
	return s.server.Test(ctx, s)
}

// Version is what the server calls itself, and who made it.
func (s *Reader) Version(ctx context.Context) (version, comment string, err error) {
	err = s.Row(ctx, "SELECT version(), @@version_comment", nil, &version, &comment)
	return version, comment, err
}
