// Package sqlite reads SQLite databases: files that a program of this machine writes.
//
// A file is opened to be read alone, beside whoever writes it. What a statement may do besides reading tables, SQLite's
// authorizer refuses, also where a view of the file asks for it (sqlite.org/security.html).
package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/statement"
)

// Kind is the name of this kind of source.
const Kind = "sqlite"

// Opener is what to register.
var Opener = connection.Kind[source.Source]{Check: check, Open: Open}

// usualConnections is how many connections a process opens at most, unless the settings say otherwise.
const usualConnections = 8

func check(s connection.Settings) (connection.Settings, error) {
	if s.Path == "" {
		return s, problem.New(problem.Invalid, "A SQLite database needs the path of its file.",
			"Give it with --path.").In("path")
	}
	if s.Host != "" || s.Database != "" || s.User != "" {
		return s, problem.New(problem.Invalid, "A SQLite database is a file, and has no host, database name or user.",
			"Give its path alone.").In("host")
	}
	if _, err := s.Heavy(); err != nil {
		return s, err
	}
	return s, nil
}

// Source is a file that is read.
type Source struct {
	db       *sql.DB
	settings connection.Settings
	what     string
}

// Open prepares to read a file; nothing is opened yet.
func Open(s connection.Settings, what string) (source.Source, error) {
	s, err := check(s)
	if err != nil {
		return nil, err
	}
	// Pages are read as they are needed, and checked as they are read; functions that a file's views name must be
	// harmless.
	base, err := sqlite.NewConnector("file:" + s.Path + "?mode=ro&_pragma=busy_timeout(10000)&_pragma=query_only(1)" +
		"&_pragma=trusted_schema(0)&_pragma=cell_size_check(1)&_pragma=mmap_size(0)")
	if err != nil {
		return nil, fmt.Errorf("prepare to open the file: %w", err)
	}
	db := sql.OpenDB(guarded{base})
	db.SetMaxOpenConns(cmp.Or(s.Connections, usualConnections))
	db.SetMaxIdleConns(2)
	db.SetConnMaxIdleTime(10 * time.Second) // a file that was put in the place of this one is soon noticed
	db.SetConnMaxLifetime(time.Minute)
	return &Source{db: db, settings: s, what: what}, nil
}

// guarded opens connections on which statements can only read.
type guarded struct{ driver.Connector }

func (g guarded) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := g.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	by, ok := c.(sqlite.AuthorizerRegisterer)
	if !ok {
		return nil, errors.Join(errors.New("the connection takes no authorizer"), c.Close())
	}
	if err := by.RegisterAuthorizer(mayOnlyRead); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// pragmas are those that tell of tables.
var pragmas = []string{"table_list", "table_xinfo", "index_list", "index_xinfo", "foreign_key_list", "journal_mode"}

func mayOnlyRead(action sqlite.AuthorizerActionCode, arg1, arg2, _, _ string) sqlite.AuthorizerReturnCode {
	switch action {
	case sqlite.AuthSelect, sqlite.AuthRead, sqlite.AuthRecursive, sqlite.AuthTransaction:
		return sqlite.AuthorizerOK
	case sqlite.AuthFunction:
		if !strings.EqualFold(arg2, "load_extension") {
			return sqlite.AuthorizerOK
		}
	case sqlite.AuthPragma:
		if slices.Contains(pragmas, strings.ToLower(arg1)) && (arg2 == "" || !strings.EqualFold(arg1, "journal_mode")) {
			return sqlite.AuthorizerOK
		}
	}
	return sqlite.AuthorizerDeny
}

// Bounds of what a file may have a statement do (sqlite.org/limits.html): how long a value is, and how many
// databases are
// attached.
const (
	limitLength   = 0
	limitAttached = 7
	mostValue     = 256 << 20
)

// connect gives a connection of its own; it is given back by Close.
func (s *Source) connect(ctx context.Context) (*sql.Conn, error) {
	c, err := s.db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	for id, most := range map[int]int{limitLength: mostValue, limitAttached: 0} {
		if _, err := sqlite.Limit(c, id, most); err != nil {
			return nil, errors.Join(err, c.Close())
		}
	}
	return c, nil
}

// Rest closes the connections that are not in use.
func (s *Source) Rest() {
	s.db.SetMaxIdleConns(0)
	s.db.SetMaxIdleConns(2)
}

// Close ends all connections.
func (s *Source) Close() { _ = s.db.Close() }

// Quote is a name as SQLite's SQL has it.
func (s *Source) Quote(name string) string { return schema.Quote(name) }

// Connections counts those that are open; the file knows of no others.
func (s *Source) Connections(context.Context) (int64, error) {
	return int64(s.db.Stats().OpenConnections), nil
}

// Grants are none: nobody signs in.
func (s *Source) Grants(string, source.Needs) []string { return nil }

// Mend changes nothing: the file is opened to be read alone.
func (s *Source) Mend(context.Context, string) error {
	return problem.Newf(problem.Invalid,
		"Run the statement in the program that writes the file, or with the sqlite3 shell.",
		"The file of %s is only read.", s.what)
}

// Test opens the file and gives SQLite's version, and how whoever writes commits.
func (s *Source) Test(ctx context.Context) (string, error) {
	s.Rest() // another file may be there by now
	var version, mode string
	if err := s.row(ctx, "SELECT sqlite_version()", nil, &version); err != nil {
		return "", err
	}
	if err := s.row(ctx, "PRAGMA journal_mode", nil, &mode); err != nil {
		return "", err
	}
	var n int64
	if err := s.row(ctx, "SELECT count(*) FROM main.sqlite_master", nil, &n); err != nil {
		return "", err
	}
	return fmt.Sprintf("SQLite %s (journal %s)", version, mode), nil
}

// Moment is the clock of this machine, which is whoever writes the file's, too. Who writes commits alone, so there
// is no
// transaction that others could have overtaken but one that has not written yet.
func (s *Source) Moment(context.Context) (window.Moment, error) {
	return window.Moment{Clock: time.Now()}, nil
}

// Zone is UTC: SQLite's own functions write times so (sqlite.org/lang_datefunc.html).
func (s *Source) Zone(context.Context) (*time.Location, error) { return time.UTC, nil }

// row runs a query of one row and records it.
func (s *Source) row(ctx context.Context, query string, args []any, into ...any) error {
	found := false
	err := s.rows(ctx, query, args, into, func() error { found = true; return nil })
	if err == nil && !found {
		err = sql.ErrNoRows
	}
	return err
}

// rows runs a query and scans each row into the same places.
func (s *Source) rows(ctx context.Context, query string, args, into []any, each func() error) error {
	c, err := s.connect(ctx)
	if err != nil {
		return s.explain(err)
	}
	defer func() { _ = c.Close() }()
	done := statement.Begin(ctx, statement.Source, query)
	n, err := source.Scan(ctx, c, query, args, into, each)
	done(n, err)
	return s.explain(err)
}

// Primary codes of SQLite's errors (sqlite.org/rescode.html).
const (
	codeError     = 1
	codeBusy      = 5
	codeLocked    = 6
	codeNoMemory  = 7
	codeInterrupt = 9
	codeRead      = 10
	codeCorrupt   = 11
	codeCannot    = 14
	codeTooBig    = 18
	codeDenied    = 23
	codeNotOne    = 26
)

// explain turns an error into a Problem.
func (s *Source) explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if already := (*problem.Problem)(nil); errors.As(err, &already) {
		return err
	}
	at := fmt.Sprintf("The file %s (%s)", s.settings.Path, s.what)
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return connection.Explain(err, at, s.what, s.settings)
	}
	said := strings.TrimSuffix(strings.TrimPrefix(e.Error(), "SQL logic error: "), ".")
	wrap := func(code problem.Code, what, remedy string) error {
		return problem.Wrap(err, code, at+" "+what, remedy)
	}
	switch e.Code() & 0xff {
	case codeInterrupt:
		return context.Canceled
	case codeBusy, codeLocked:
		return wrap(problem.Busy, "is being written, and was not free to be read within 10 s.",
			"The next run tries again. In the journal mode WAL who reads and who writes do not wait for each other: "+
				"PRAGMA journal_mode = WAL, in the program that writes it.")
	case codeCannot:
		if _, missing := os.Stat(s.settings.Path); errors.Is(missing, os.ErrNotExist) {
			return problem.Wrap(err, problem.NoDatabase, fmt.Sprintf("There is no file %s (%s).", s.settings.Path, s.what),
				"Check the path.").In("path")
		}
		return problem.Wrap(err, problem.NoPrivilege, at+" cannot be opened by the service's user.",
			"Let that user read the file, and in the journal mode WAL its folder and the files beside it, which end in -wal "+
				"and -shm, or write the folder.").In("path")
	case codeNotOne:
		return problem.Wrap(err, problem.NoDatabase, at+" is no SQLite database, or is encrypted.",
			"Check the path.").In("path")
	case codeCorrupt:
		return wrap(problem.Failed, "is damaged: "+said+".",
			"PRAGMA integrity_check tells where; bring it back from a backup.")
	case codeRead:
		return wrap(problem.Unreachable, "cannot be read from its disk: "+said+".",
			"Look at the disk; the next run tries again.")
	case codeTooBig:
		return wrap(problem.Failed, fmt.Sprintf("has a value of more than %d MB, which is the most that is taken in.",
			mostValue>>20), "Drop the column that holds so much from the feed.")
	case codeNoMemory:
		return wrap(problem.Failed, "needs more memory than there is.", "Read less at a time, or give the service more.")
	case codeDenied:
		return wrap(problem.Refused, "asks for more than to read its tables: "+said+".",
			"Read tables, and views that only read tables.")
	case codeError:
		if strings.Contains(said, "no such table") {
			return wrap(problem.NoTable, "does not have it: "+said+".",
				"Check whether the table was dropped or renamed, then remove it from the feed or correct its name.")
		}
		return wrap(problem.Refused, "refused a statement: "+said+".", problem.LookAtStatement)
	}
	return wrap(problem.Failed, "failed: "+said+".", problem.LookAtStatement)
}
