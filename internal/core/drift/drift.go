// Package drift names the ways in which the structure of a source changes, and what a feed
// makes of each.
package drift

import (
	"errors"
	"time"
)

// Kind is what has changed.
type Kind string

// The kinds of drift.
const (
	Tables  Kind = "tables"  // a table came, went or was replaced
	Columns Kind = "columns" // a column came or went, or stands elsewhere
	Types   Kind = "types"   // a column has another type, or another character set
	Keys    Kind = "keys"    // rows are named by other columns
)

// Policy is what becomes of a table whose structure has changed.
type Policy string

// The policies.
const (
	Follow Policy = "follow" // the target is changed, and rows of before are brought again where they must be
	Hold   Policy = "hold"   // the table waits for a person
	Ignore Policy = "ignore" // new columns and tables are not brought
)

// Error says that the structure of a table has changed.
type Error struct {
	Kind    Kind
	Columns []string // of the target, where they are what no longer fits
	Err     error    // for a person, as long as nothing is done about it
}

func (e *Error) Error() string { return e.Err.Error() }
func (e *Error) Unwrap() error { return e.Err }

// Of makes an error a drift.
func Of(kind Kind, err error) error {
	if kind == "" {
		return err
	}
	return &Error{Kind: kind, Err: err}
}

// OfColumns makes an error a drift of columns of the target.
func OfColumns(kind Kind, columns []string, err error) error { return &Error{kind, columns, err} }

// ColumnsOf lists the columns of the target that no longer fit; nil where it is not columns.
func ColumnsOf(err error) []string {
	var e *Error
	if errors.As(err, &e) {
		return e.Columns
	}
	return nil
}

// KindOf tells whether an error is a drift, and of which kind.
func KindOf(err error) (Kind, bool) {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind, true
	}
	return "", false
}

// Drift is one, as a warehouse remembers it.
type Drift struct {
	Table string    `json:"table"`
	Kind  Kind      `json:"kind" enum:"tables,columns,types,keys" doc:"What has changed"`
	What  string    `json:"what" doc:"What was noticed, as a sentence"`
	Done  string    `json:"done" doc:"What was done about it, as a sentence"`
	Run   int64     `json:"run" doc:"The run that noticed it"`
	At    time.Time `json:"at"`
}
