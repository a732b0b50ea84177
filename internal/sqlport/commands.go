package sqlport

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"noemata/internal/core/schema"
)

// words are those of a statement that is about the session, in capitals where they are not quoted.
type words []string

var word = regexp.MustCompile(`'(?:[^']|'')*'|"(?:[^"]|"")*"|[^\s=,();]+|[=,]`)

// mostWords are as many as are looked at.
const mostWords = 12

func wordsOf(sql string) words {
	list := word.FindAllString(uncommented(sql[:min(len(sql), 2000)]), mostWords)
	for i, w := range list {
		if w[0] != '\'' && w[0] != '"' {
			list[i] = strings.ToUpper(w)
		}
	}
	return list
}

// is tells whether the statement begins with some words.
func (w words) is(first ...string) bool {
	return len(w) >= len(first) && slices.Equal(w[:len(first)], words(first))
}

// ends tells whether a transaction ends.
func (w words) ends() bool {
	return w.is("COMMIT") || w.is("END") || w.is("ROLLBACK") && !w.is("ROLLBACK", "TO") || w.is("ABORT")
}

// command answers statements about the session; false where it is none.
//
// Longer than a screen: it is their list.
func (x *session) command(ctx context.Context, w words) (bool, error) {
	done := func(tag string) (bool, error) {
		x.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
		return true, nil
	}
	switch {
	case w.is("BEGIN"), w.is("START", "TRANSACTION"):
		if slices.Contains(w, "WRITE") {
			return true, mistake("25006", "Nothing is written here: a transaction is READ ONLY.")
		}
		if !x.inside {
			if err := x.converse(ctx); err != nil {
				return true, err
			}
			if err := x.talk.Begin(ctx); err != nil {
				return true, err
			}
		}
		x.inside = true
		return done("BEGIN")
	case w.ends():
		tag := "COMMIT"
		if x.failed || w.is("ROLLBACK") || w.is("ABORT") {
			tag = "ROLLBACK"
		}
		for name := range x.portals {
			x.closePortal(name)
		}
		x.rest()
		return done(tag)
	case w.is("SAVEPOINT"), w.is("RELEASE"), w.is("ROLLBACK", "TO"):
		return true, mistake("0A000", "There are no savepoints where nothing is written.")
	case w.is("SET"):
		if err := x.set(w[1:]); err != nil {
			return true, err
		}
		return done("SET")
	case w.is("RESET"):
		if w.is("RESET", "AS_OF") || w.is("RESET", "ALL") {
			x.asOf = time.Time{}
		}
		if w.is("RESET", "STATEMENT_TIMEOUT") || w.is("RESET", "ALL") {
			x.timeout = 0
		}
		return done("RESET")
	case w.is("DISCARD"), w.is("DEALLOCATE", "ALL"):
		clear(x.statements)
		if w.is("DISCARD") { // for the next who has the connection out of a pool
			x.asOf, x.timeout = time.Time{}, 0
			return done("DISCARD ALL")
		}
		return done("DEALLOCATE ALL")
	case w.is("DEALLOCATE"):
		delete(x.statements, unquoted(w[len(w)-1]))
		return done("DEALLOCATE")
	case w.is("CLOSE") && len(w) > 1:
		for name := range x.portals {
			if w.is("CLOSE", "ALL") && isCursor(name) || name == cursorOf(w[1]) {
				x.closePortal(name)
			}
		}
		return done("CLOSE CURSOR")
	case w.is("LISTEN"), w.is("UNLISTEN"):
		return done(w[0])
	case w.is("SHOW") && len(w) >= 2:
		name, value, ok := x.setting(w[1:])
		if !ok { // DuckDB's own, such as SHOW TABLES
			return false, nil
		}
		x.backend.Send(&pgproto3.RowDescription{Fields: []pgproto3.FieldDescription{{Name: []byte(name),
			DataTypeOID: pgtype.TextOID, DataTypeSize: -1, TypeModifier: -1}}})
		x.backend.Send(&pgproto3.DataRow{Values: [][]byte{[]byte(value)}})
		return done("SHOW")
	}
	return false, nil
}

func unquoted(w string) string {
	if len(w) > 1 && (w[0] == '"' || w[0] == '\'') && w[len(w)-1] == w[0] {
		return w[1 : len(w)-1]
	}
	return strings.ToLower(w)
}

// length is a length of time as PostgreSQL's settings have it.
var length = regexp.MustCompile(`^(\d{1,9}) ?(ms|s|min|h|)$`)

// ignored are settings that change nothing of what is answered.
var ignored = []string{"APPLICATION_NAME", "EXTRA_FLOAT_DIGITS", "CLIENT_MIN_MESSAGES", "LOCK_TIMEOUT",
	"IDLE_IN_TRANSACTION_SESSION_TIMEOUT", "SEARCH_PATH", "SYNCHRONOUS_COMMIT", "JIT", "ROW_SECURITY", "BYTEA_OUTPUT"}

// set takes a setting that is one already, or that changes nothing.
func (x *session) set(w words) error {
	if len(w) > 0 && (w[0] == "SESSION" || w[0] == "LOCAL") {
		w = w[1:]
	}
	switch {
	case len(w) == 0:
		return mistake("42601", "SET lacks a name.")
	case w.is("CHARACTERISTICS"), w.is("TRANSACTION"), slices.Contains([]string{"DEFAULT_TRANSACTION_READ_ONLY",
		"TRANSACTION_READ_ONLY", "DEFAULT_TRANSACTION_ISOLATION", "TRANSACTION_ISOLATION"}, w[0]):
		if slices.Contains(w, "WRITE") || slices.Contains(w, "OFF") || slices.Contains(w, "FALSE") {
			return mistake("25006", "Nothing is written here.")
		}
		return nil
	case w.is("AS_OF") && len(w) > 1:
		us, err := schema.ParseTimestamp(unquoted(w[len(w)-1]))
		if err != nil {
			return mistake("22007", "as_of is a moment, as '2026-03-01T08:30:00Z'; RESET as_of comes back to now.")
		}
		x.asOf = time.UnixMicro(us)
		return nil
	case w.is("STATEMENT_TIMEOUT") && len(w) > 1:
		m := length.FindStringSubmatch(strings.TrimSpace(unquoted(w[len(w)-1])))
		if m == nil {
			return mistake("22023", "statement_timeout is a length of time: 5000 in milliseconds, or 5s, 2min; 0 is none.")
		}
		n, _ := strconv.Atoi(m[1]) // digits that fit
		x.timeout = time.Duration(n) * map[string]time.Duration{"": time.Millisecond, "ms": time.Millisecond,
			"s":   time.Second,
			"min": time.Minute, "h": time.Hour}[m[2]]
		return nil
	case slices.Contains(ignored, w[0]):
		if len(w) > 2 {
			x.settings[strings.ToLower(w[0])] = unquoted(w[len(w)-1])
		}
		return nil
	}
	fixed := map[string]string{"CLIENT_ENCODING": "UTF8", "NAMES": "UTF8", "DATESTYLE": "ISO", "INTERVALSTYLE": "POSTGRES",
		"TIMEZONE": "UTC", "TIME": "UTC", "STANDARD_CONFORMING_STRINGS": "ON"}
	only, known := fixed[w[0]]
	if !known {
		return mistake("42704", "There is no setting %s here.", strings.ToLower(w[0]))
	}
	for _, value := range w[1:] {
		if plain := strings.ToUpper(strings.ReplaceAll(strings.Trim(value, `'"`), "-", "")); strings.Contains(plain, only) ||
			only == "UTC" && slices.Contains([]string{"ETC/UTC", "GMT", "Z", "0"}, plain) {
			return nil
		}
	}
	return mistake("0A000", "The setting %s is %s here, and stays so.", strings.ToLower(w[0]), only)
}

// setting is one that can be shown.
func (x *session) setting(w words) (name, value string, ok bool) {
	name = strings.ToLower(strings.Join(w, "_"))
	switch name {
	case "transaction_isolation_level", "transaction_isolation":
		return "transaction_isolation", "repeatable read", true
	case "time_zone":
		name = "timezone"
	case "transaction_read_only":
		return name, "on", true
	case "max_identifier_length":
		return name, "63", true
	case "statement_timeout":
		return name, x.timeout.String(), true
	case "as_of":
		if x.asOf.IsZero() {
			return name, "now", true
		}
		return name, x.asOf.UTC().Format(time.RFC3339Nano), true
	case "search_path":
		return name, "main", true
	}
	for known, value := range x.told {
		if strings.EqualFold(known, name) {
			return known, value, true
		}
	}
	if slices.Contains(ignored, strings.ToUpper(name)) {
		return name, fmt.Sprint(x.settings[name]), true
	}
	return name, "", false
}
