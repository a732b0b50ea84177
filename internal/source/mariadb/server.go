package mariadb

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source/mariadb/wire"
)

// Server says what servers that speak this protocol differ in.
type Server struct {
	Name      string                   // as people know it
	Limit     func(seconds int) string // has statements end after so long; as a variable of SET SESSION
	Test      func(ctx context.Context, r *Reader) (version string, err error)
	Lists     string // what the user must be able to read to be told of statements, besides PROCESS
	Statement string // tells statements of a session from those before, in the list p of sessions
	Generated string // tells a column that is computed and not in the log, in the catalogue's list c of columns
	Password  string // has a user sign in by a password, after IDENTIFIED
	RowEnd    string // tells that a column is the end of a row's time, by which keys of past rows are told
	Checked   bool   // documents are texts with a check, which the statement that makes a table shows
	Ties      bool   // pages may end with all rows of a value
	Log       *Log
}

// Log says what the logs of such servers differ in.
type Log struct {
	Example string // a place as the server writes it, for a person
	Parse   func(list string) (Reached, error)
	// From asks for the log after a place, as the server writes it.
	From   func(list string) (wire.Dump, error)
	Origin string // names the database, as SQL
	End    string // is the last place, as SQL
	// Begun tells an error where the server's past is another than one that has come to a place.
	Begun func(ctx context.Context, s *Source, place Reached) error
	// Snapshots begins transactions that show one and the same state of a table, on the first one of
	// the connections and as many of the others as may be, and tells at which place that is.
	Snapshots func(ctx context.Context, s *Source, table schema.Table, conns []*wire.Conn) (n int, at string, err error)
	// Findings tells what is in the way of following, given the server's variables.
	Findings func(ctx context.Context, s *Source, variables map[string]string, add AddFinding) error
	Waits    bool   // a copy waits for open transactions, and must be told of them
	Monitor  string // the privilege by which the log's files are listed
	Keep     string // has the server keep its log for a week
	// Constant tells from a default and what else the catalogue says of the column that it is the same
	// for each row.
	Constant func(text, extra string) bool
}

// AddFinding adds a finding.
type AddFinding func(level problem.Level, table, remedy, format string, args ...any)

var maria = Server{
	Name:      "MariaDB",
	Limit:     func(seconds int) string { return fmt.Sprintf("max_statement_time = %d", seconds) },
	Test:      test,
	Statement: "p.QUERY_ID",
	Generated: "c.GENERATION_EXPRESSION IS NOT NULL AND (c.EXTRA LIKE '%VIRTUAL%' OR c.GENERATION_EXPRESSION IN " +
		"('ROW START', 'ROW END'))", // the log has those that are stored, whatever it leaves out

	RowEnd:   "c.GENERATION_EXPRESSION = 'ROW END'",
	Password: "VIA mysql_native_password USING PASSWORD('…')",
	Checked:  true,
	Ties:     true,
	Log: &Log{
		Example: "0-1-4711, or with a comma between domains",
		Parse:   parseLasts,
		From:    func(list string) (wire.Dump, error) { return wire.Dump{GTID: list}, nil },
		Origin:  "concat(@@global.gtid_domain_id, '/', DATABASE())",
		End:     "@@global.gtid_binlog_pos",
		Begun: func(context.Context, *Source, Reached) error {
			return nil // the server says so itself, when it is asked for its log
		},
		Snapshots: snapshots,
		Findings:  findings,
		Monitor:   "BINLOG MONITOR",
		Keep:      "SET GLOBAL binlog_expire_logs_seconds = 604800",
		Constant:  func(text, _ string) bool { return constant.MatchString(text) },
	},
}

// constant matches defaults that are the same for each row.
var constant = regexp.MustCompile(`^(NULL|[bBxX]?'.*'|-?[0-9].*)$`)

// findings tells what MariaDB's servers must be set to, beside what all are.
func findings(_ context.Context, _ *Source, variables map[string]string, add AddFinding) error {
	if metadata := variables["binlog_row_metadata"]; metadata != "FULL" {
		add(problem.Warning, "", "SET GLOBAL binlog_row_metadata = 'FULL'; and the same in the server's configuration.",
			"The server's binlog_row_metadata is %s: the log tells no names of columns, so they are known by their "+
				"order, and a change of a table's structure holds the feed sooner.", metadata)
	}
	if variables["mysql56_temporal_format"] != "ON" {
		add(problem.Warning, "", "SET GLOBAL mysql56_temporal_format = ON; and rebuild the tables.",
			"The server stores times in an old format, whose fractions of seconds cannot be read from the log.")
	}
	return nil
}

func test(ctx context.Context, s *Reader) (string, error) {
	version, comment, err := s.Version(ctx)
	if err != nil {
		return "", err
	}
	number, _, _ := strings.Cut(version, "-")
	if !strings.Contains(version, "MariaDB") {
		return "", problem.Newf(problem.Invalid, "Use a MariaDB server.", "The server of %s is %s %s.", s.what, comment,
			version)
	}
	var major, minor int
	if _, err := fmt.Sscanf(number, "%d.%d", &major, &minor); err != nil || major < 10 || major == 10 && minor < 6 {
		return "", problem.Newf(problem.Invalid, "Use a server of version 10.6 or later.",
			"The server of %s is MariaDB %s, which is too old.", s.what, number)
	}
	return "MariaDB " + number, nil
}
