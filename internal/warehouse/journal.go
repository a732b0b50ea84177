package warehouse

import (
	"context"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/change"
	"noemata/internal/core/drift"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Journal is what a warehouse remembers beside its tables. Reading it changes nothing:
// where there is none yet, nothing is known.
type Journal interface {
	// Checkpoint tells how far a table has come; without a version when it has not begun.
	// A feed whose tables advance together has one, of the table "".
	Checkpoint(ctx context.Context, feed, table string) (Checkpoint, error)
	// Checkpoints lists those of a feed's tables.
	Checkpoints(ctx context.Context, feed string) ([]Checkpoint, error)
	// SetPosition moves a table's position without loading rows; nil clears it. Where that of a feed that follows a
	// log is set back, the changes up to where it stood are known as replays.
	SetPosition(ctx context.Context, feed, table string, p *position.Position) error
	// FirstPosition is where a table's first commit brought it, or what Begins has noted.
	FirstPosition(ctx context.Context, feed, table string) (position.Position, error)
	// LastLoad tells what a table's rows were written to last, and in which shape; empty where
	// there were none.
	LastLoad(ctx context.Context, feed, table string) (target, shape string, err error)
	// Structure is what a table had when its rows came last, as its owner wrote it; empty for none.
	Structure(ctx context.Context, feed, table string) (string, error)
	// Compared is what was kept of the last comparison with the source; empty for nothing.
	Compared(ctx context.Context, feed, table string) (string, error)
	// Columns is what was kept of a table's columns; empty for nothing.
	Columns(ctx context.Context, feed, table string) (string, error)
	// LastSweep is when the keys of a table were last compared; zero for never.
	LastSweep(ctx context.Context, feed, table string) (time.Time, error)

	// Log tells of a feed that follows a change log; ok is false where it has not begun.
	Log(ctx context.Context, feed string) (l Log, ok bool, err error)
	// EnterLog begins the log of a feed, unless it has one, and gives the one that counts.
	EnterLog(ctx context.Context, feed string, l Log) (Log, error)
	// PlaceAt is the last place in a log that a feed is known to have come to by a moment; ok is false where none is.
	PlaceAt(ctx context.Context, feed string, by time.Time) (p Place, ok bool, err error)
	// Forget clears log, copies, places and position of a feed.
	Forget(ctx context.Context, feed string) error

	// Copies lists the tables of a feed that follows a log, and brings the journal to the form
	// of this version first: whoever asks is about to go on with them.
	Copies(ctx context.Context, feed string) ([]Copy, error)
	// Parts lists the parts of a copy that are done.
	Parts(ctx context.Context, feed string, c Copy) ([]PartCopied, error)
	// Waiting passes on the changes that wait for a copy, in the order of the log. They are
	// gone when sink returns.
	Waiting(ctx context.Context, s Stash, sink func(arrow.RecordBatch) error) error
	// WaitingTxns gives the transactions those changes are from, in no order, and some of
	// them more than once.
	WaitingTxns(ctx context.Context, s Stash, visit func(change.Txn)) error

	// Drifts lists what has changed of the structure of a feed's tables, the newest first.
	Drifts(ctx context.Context, feed string, limit int) ([]drift.Drift, error)

	// Note makes entries, all of them or none.
	Note(ctx context.Context, feed string, entries ...Entry) error
}

// Checkpoint is how far a table, or a feed that follows a log, has come in a warehouse.
// Version rises with every move, so that a worker can tell whether another one has been
// here. Run is 0 where a person has set the position.
type Checkpoint struct {
	Table    string
	Position position.Position
	Version  int64
	Run      int64
	MovedAt  time.Time
}

// Log is what is remembered of a feed that follows a change log.
type Log struct {
	Name       string // of what the feed has at the source
	Origin     string // the database that is followed
	LastMoment int64  // of the last transaction that was applied
	ReplaysTo  string // transactions up to this position have been applied before; empty for none
}

// Place is where a feed had come in a log, and when.
type Place struct {
	Position string
	At       time.Time
}

// State is how far a table is in joining those that follow the log.
type State string

// The states of a table.
const (
	Copying   State = "copying"   // its rows are being copied
	Joining   State = "joining"   // the copy is done, and the log must pass its snapshot
	Following State = "following" // its changes go into the target
	Held      State = "held"      // it waits for a person, or for what is in the way to go
)

// Copy is what is remembered of a table that follows a log, or is on its way there.
type Copy struct {
	Table      string
	State      State
	Generation int64    // rises each time that the copy begins anew
	Layout     string   // how the table lay at the source: rows have moved where it is another
	Snapshots  []string // that rows were read in, the first one first
	Reached    string   // the log up to here holds all that the last snapshot shows
	Moment     int64    // of the last snapshot, in microseconds since 1970
	Structure  string   // that the table had when it joined, as its owner wrote it
	Reason     string   // why it is held, as its owner wrote it
	Fills      string   // what rows that are there are given, as its owner wrote it; empty where whole rows are copied
}

// Stash is where a warehouse keeps what comes before a table joins: the rows of its copy,
// each with the number of its snapshot, and the changes that wait for the copy.
type Stash struct {
	Feed, Table string
	Columns     []schema.Column // of the table
	Key         []string
}

// Entry is something that a journal keeps. An entry that finds another state than it
// expects gives the problem Overtaken.
type Entry interface{ entry() }

// The entries. Those with a Generation expect it to be the copy's.
type (
	// BeginCopy begins the first copy of a table, unless there is one.
	BeginCopy struct {
		Table      string
		Generation int64
	}
	// CopyAgain begins the copy of a table anew, and drops what was gathered for it. With Fills it is
	// one of columns alone.
	CopyAgain struct{ Table, Fills string }
	// DropCopy forgets a table and what was gathered for it.
	DropCopy struct{ Table string }
	// MakeStash makes the stash of a copy where it is missing.
	MakeStash struct{ Stash Stash }
	// TakeSnapshot begins or goes on with a copy in a new snapshot.
	TakeSnapshot struct{ From, To Copy }
	// EmptyStash takes all rows of a copy out. Fills tells that it is one of columns alone.
	EmptyStash struct {
		Stash Stash
		Fills bool
	}
	// PartCopied tells that one part of a copy is there.
	PartCopied struct {
		Table      string
		Generation int64
		Part       int
		Snapshot   int64
		Rows       int64
		Aside      int64
		Filtered   int64
	}
	// CopyDone tells that all rows of a copy are there.
	CopyDone struct {
		Table      string
		Generation int64
		Reached    string
		Moment     int64
	}
	// SettleCopy leaves one row of each key in a copy that was read in several snapshots, and
	// takes out the changes that its rows show already. Shown lists, by the number of the first
	// snapshot that shows them, the positions of transactions.
	SettleCopy struct {
		Stash     Stash
		Snapshots int
		Shown     map[int][]string
	}
	// Joined tells that a table follows with the others, and drops its stash.
	Joined struct {
		Table      string
		Generation int64
		Structure  string
	}
	// KeepStructure keeps the structure of a table that follows.
	KeepStructure struct{ Table, Structure string }
	// Structured keeps the structure of a table that does not follow the log.
	Structured struct{ Table, Structure string }
	// Compared keeps what a comparison of a table with its source has found, as its owner wrote it.
	Compared struct{ Table, Found string }
	// Columns keeps which columns of a table are known, as its owner wrote it.
	Columns struct{ Table, Known string }
	// Begins notes the position above which rows of a table were brought.
	Begins struct {
		Table    string
		Position position.Position
	}
	// Hold keeps a table out of its feed, whose checkpoint must have the version.
	Hold struct {
		Table, Reason string
		Version       int64
	}
	// LastMoment is of the last transaction of a log that was applied.
	LastMoment struct{ Moment int64 }
	// Reached keeps where a feed has come in its log, and forgets what was kept before a moment.
	Reached struct {
		Place
		Forget time.Time
	}
	// Proved tells what the last proof of a table has found, for those who ask the warehouse.
	Proved struct {
		Table string
		At    time.Time
		Same  bool
		Rows  int64 // that the source had
	}
	// Swept tells that the keys of a table were compared.
	Swept struct {
		Table      string
		Keys, Gone int64
	}
	// Drifted tells that the structure of a table has changed, and what was done.
	Drifted struct{ Entry drift.Drift }
	// SetAside keeps rows that could not be stored as they are.
	SetAside struct {
		Table string
		Run   int64
		Rows  []rows.Aside
	}
)

func (BeginCopy) entry()     {}
func (CopyAgain) entry()     {}
func (DropCopy) entry()      {}
func (MakeStash) entry()     {}
func (TakeSnapshot) entry()  {}
func (EmptyStash) entry()    {}
func (PartCopied) entry()    {}
func (CopyDone) entry()      {}
func (SettleCopy) entry()    {}
func (Joined) entry()        {}
func (KeepStructure) entry() {}
func (Structured) entry()    {}
func (Compared) entry()      {}
func (Begins) entry()        {}
func (Columns) entry()       {}
func (Hold) entry()          {}
func (LastMoment) entry()    {}
func (Reached) entry()       {}
func (Proved) entry()        {}
func (Swept) entry()         {}
func (Drifted) entry()       {}
func (SetAside) entry()      {}

// TooNew is the problem of a journal that a later version of Noemata has written.
func TooNew(has, knows int) error {
	return problem.Newf(problem.Held, "Run the version of Noemata that wrote it, or a later one.",
		"The warehouse's control schema has version %d, and this Noemata knows versions up to %d.", has, knows)
}
