// Package problem describes what went wrong in words for a person at work.
//
// A Problem says what happened and to which thing, and what to do about it.
// It travels unchanged from the place that knows the reason to the command
// line, the HTTP API and the console.
package problem

import (
	"errors"
	"fmt"
	"strings"
)

// Code is a stable, machine-readable name for a kind of problem.
type Code string

// The kinds of problem that callers can tell apart.
const (
	Invalid     Code = "invalid"      // the request or file is wrong as written
	NotFound    Code = "not-found"    // a named thing does not exist
	Conflict    Code = "conflict"     // the thing is in a state that forbids this
	Unreachable Code = "unreachable"  // a database server cannot be reached
	Denied      Code = "denied"       // a database server refused the sign-in
	NoDatabase  Code = "no-database"  // the database does not exist
	NoPrivilege Code = "no-privilege" // a privilege is missing
	NoTable     Code = "no-table"     // the table does not exist
	Refused     Code = "refused"      // a database refused a statement for what it says or holds
	Held        Code = "held"         // a table waits for a person's decision
	Busy        Code = "busy"         // another program has what is needed; it is waited for
	Overtaken   Code = "overtaken"    // another worker has moved the position
	Stopped     Code = "stopped"      // the run was stopped before its end
	Failed      Code = "failed"       // anything else
)

// Problem is an error with a remedy.
type Problem struct {
	Code   Code
	What   string   // a sentence: what happened, to which thing
	Remedy string   // a sentence: what to do
	Field  string   // the setting that is to be corrected, such as "host"; empty where it is none's
	Value  string   // what the setting may be set to, once a person has made sure of it
	Items  []string // what is wrong, item by item, as "tables[0].key: a sentence"
	Cause  error    // the underlying error, if any
}

// New makes a Problem from two sentences.
func New(code Code, what, remedy string) *Problem {
	return &Problem{Code: code, What: what, Remedy: remedy}
}

// Wrap makes a Problem that keeps its cause.
func Wrap(cause error, code Code, what, remedy string) *Problem {
	return &Problem{Code: code, What: what, Remedy: remedy, Cause: cause}
}

// In names the setting that is to be corrected.
func (p *Problem) In(field string) *Problem {
	p.Field = field
	return p
}

// Offer gives what the setting may be set to, once a person has made sure of it.
func (p *Problem) Offer(value string) *Problem {
	p.Value = value
	return p
}

// Word gives a text as one word of a shell's command line, for remedies that are commands
// (POSIX.1-2017, Shell Command Language, 2.2).
func Word(text string) string {
	if text != "" && !strings.ContainsFunc(text, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("._-/:,", r))
	}) {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// OfTable tells whether a problem is one table's own: the others of its feed can go on.
func OfTable(err error) bool {
	var p *Problem
	if !errors.As(err, &p) {
		return false
	}
	switch p.Code {
	case Invalid, NotFound, NoPrivilege, NoTable, Held, Refused:
		return true
	}
	return false
}

// LookAtStatement is what to do about a statement that a server has refused for a reason of its own.
const LookAtStatement = "The run's statements show which one it was; correct at the server what it complains of, or in the feed what it is asked."

// Newf is New with a formatted first sentence.
func Newf(code Code, remedy, format string, args ...any) *Problem {
	return New(code, fmt.Sprintf(format, args...), remedy)
}

func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.What
	}
	return p.What + " " + p.Remedy
}

func (p *Problem) Unwrap() error { return p.Cause }

// Of returns the Problem in err's chain; an error without one becomes a
// Problem of code Failed, so that every error can be shown the same way.
func Of(err error) *Problem {
	if err == nil {
		return nil
	}
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	return &Problem{Code: Failed, What: err.Error(), Cause: err}
}

// Is tells whether err carries a Problem of the given code.
func Is(err error, code Code) bool {
	var p *Problem
	return errors.As(err, &p) && p.Code == code
}
