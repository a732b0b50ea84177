package source

import (
	"context"
	"fmt"
	"slices"
	"time"

	"noemata/internal/core/change"
	"noemata/internal/core/drift"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Log is a source whose change log can be followed.
type Log interface {
	// Origin names the database, so that a restored or exchanged one is noticed.
	Origin(ctx context.Context) (string, error)
	// LogFindings tells what is in the way of following the tables, or worth knowing.
	LogFindings(ctx context.Context, tables []Followed) ([]problem.Finding, error)
	// PrepareLog makes sure that the source retains the changes of the tables for a
	// follower from now on, and gives the place in the log from which it does.
	PrepareLog(ctx context.Context, p Prepared) (position string, err error)
	// BehindFindings tells what is in the way of keeping the log for longer than it is needed.
	BehindFindings(ctx context.Context, by time.Duration) ([]problem.Finding, error)
	// DropLog removes what PrepareLog has made. It does nothing where there is nothing.
	DropLog(ctx context.Context, name string) error
	// LogState measures what the source retains for a follower whose warehouse stands at a
	// position; empty where it stands nowhere yet.
	LogState(ctx context.Context, name, at string) (LogState, error)
	// LogRate tells how much the server writes to its log, by its own statistics.
	LogRate(ctx context.Context) (LogRate, error)
	// CheckPosition gives a position of the log in its one written form, which sorts.
	CheckPosition(text string) (string, error)
	// End is the end of the log: whatever was committed before the moment, by the source's
	// clock, lies before it.
	End(ctx context.Context) (position string, moment time.Time, err error)
	// Follow reads the log from a position on.
	Follow(ctx context.Context, f Follow) (Stream, error)
	// Settle waits until no transaction is open that wrote to the table before its
	// changes were retained. waits is told who is waited for.
	Settle(ctx context.Context, table schema.Table, waits func(who string)) error
	// Copy opens a consistent snapshot of a table, whose rows are set aside where a value of
	// the key is null. layout is what an earlier copy of the
	// same table gave, or empty.
	Copy(ctx context.Context, f Followed, layout string) (Copy, error)
	// WholeRows is the statement by which the log tells the rows of a table whole.
	WholeRows(table schema.Table) string
	// Sees tells whether a snapshot, as Copy gave it, shows what a transaction did.
	Sees(snapshot string, t change.Txn) bool
}

// TableError is an error that is one table's.
type TableError struct {
	Table schema.Name
	Err   error
}

func (e *TableError) Error() string { return e.Err.Error() }
func (e *TableError) Unwrap() error { return e.Err }

// Coherent tells whether what a source says of a table contradicts itself.
func Coherent(t schema.Table, what string) error {
	if err := t.Check(); err != nil {
		return problem.Wrap(err, problem.Failed,
			fmt.Sprintf("What %s says of the table %s contradicts itself: %v.", what, t.Name, err),
			"The next run asks again. If it stays so, the server, or something between it and the service, is at fault.")
	}
	return nil
}

// CopyAgain is the problem of a table whose rows are not known any more. drifted tells what has
// changed of its structure; empty for nothing.
func CopyAgain(drifted drift.Kind, table schema.Name, format string, args ...any) error {
	return drift.Of(drifted, problem.Newf(problem.Held, "Copy the table again: noemata feeds copy FEED --table "+
		problem.Word(table.Display())+". A history keeps its past.", format, args...))
}

// Followed is a table whose changes are followed.
type Followed struct {
	Table schema.Table // with the columns that are wanted
	Key   []string     // names its rows in the warehouse; none for a ledger without one
	Whole bool         // it has all the columns that the source has
	Since string       // its changes have been retained since this position; empty while it is copied
	// Copied tells that its rows were copied, and wait for the changes up to their snapshot.
	Copied bool
	Takes  []string // the kinds of change that are wanted; all where it is empty
	Only   *Filter  // rows that a copy need not read; nil for none
	Fills  []string // columns of which the log may not tell yet: rows are given them otherwise
}

// Ignores tells whether changes of a kind are left out. An update of the key is an update.
func (f Followed) Ignores(k change.Kind) bool {
	if k == change.Left || k == change.Came {
		k = change.Update
	}
	return len(f.Takes) > 0 && !slices.Contains(f.Takes, k.String())
}

// Prepared says what a source retains for a follower.
type Prepared struct {
	Name   string // of the follower
	Tables []Followed
	Begun  string // where its warehouse stands; empty where nothing was followed yet
	Behind bool   // the log is to be kept for longer than it is needed:
	Since  string // from this position on; empty is from as far back as it is kept
}

// LogState is what a source retains for a follower.
type LogState struct {
	There    bool   // the source knows the follower
	Lost     string // why changes are gone, as a sentence; empty when none are
	Busy     bool   // somebody reads the log under this name
	Retained int64  // bytes of log that are kept for the follower
	Behind   int64  // bytes from where the warehouse stands to the end of the log
	Confirms string // the position it has confirmed
	Oldest   string // the position from which on the log can be read again; empty where only trying tells
}

// LogRate is how much is written to a log.
type LogRate struct {
	PerHour int64         // bytes, on average; -1 where the server does not tell
	Over    time.Duration // what the average is of
}

// Follow says what is read of a log.
type Follow struct {
	Name     string
	Tables   []Followed
	From     string       // position
	Clock    change.Clock // of the last transaction that was applied
	MaxBytes int64        // of changes that Next gathers before it gives a part of a transaction
}

// Stream is a log that is being read. Only Confirm may be called beside another method.
type Stream interface {
	// Next reads on to the end of a transaction, but not beyond the deadline, and not
	// beyond MaxBytes of changes.
	Next(ctx context.Context, deadline time.Time) (Progress, error)
	// Take hands over what was gathered since the last call.
	Take() Gathered
	// StartAfter gives the transactions that are read from here on later moments than the given
	// one, in microseconds since 1970. It must not be called within a transaction.
	StartAfter(moment int64)
	// Confirm tells the source that everything up to a position is in the warehouse.
	Confirm(position string)
	// Beat tells the source that we are alive, while nothing is read.
	Beat() error
	Close()
}

// Progress is where a stream stands.
type Progress struct {
	Position string // up to here everything has been gathered; empty as long as that is nowhere
	Bytes    int64  // gathered
	Changes  int64  // gathered
	Open     bool   // within a transaction
	Idle     bool   // the deadline passed
}

// Gathered is what a stream has read.
type Gathered struct {
	Batches   []change.Batch // by the place of their table in Follow.Tables; without a record where nothing changed
	To        string         // the position at their end
	Clock     change.Clock
	Commits   int64
	Open      bool // the last transaction goes on
	Continues bool // the first transaction began before
}

// Copy is a consistent snapshot of one table that is held open.
type Copy interface {
	Snapshot() string  // for Sees
	Moment() time.Time // when it was taken, by the source's clock
	Passed() string    // the log up to here holds all that the snapshot shows
	Layout() string    // the parts; differs from the one given where they had to be made anew
	Parts() int
	// Read reads one part. Where since is set, only rows that may have been written after
	// that snapshot are read.
	Read(ctx context.Context, part int, since string, sink func(rows.Batch) error) error
	Close()
}
