// Package warehouse says, in the job's own words, what it takes to write a warehouse.
//
// A kind of warehouse is a folder below this one and one line of registration. No SQL
// passes this seam, so that a kind without SQL fits; what kinds with SQL share is in
// sqlmerge. A Commit is one transaction: rows of one or several tables, positions and
// entries of the journal, which become visible together. The Journal is what a warehouse
// remembers beside its tables: how far each table and each feed has come, what every
// commit did, copies that are under way, and rows that could not be stored as they are.
package warehouse

import (
	"context"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/connection"
	"noemata/internal/core/change"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Lake is the name of the kind whose tables are files, and whose catalogue is in a database.
const Lake = "iceberg"

// Warehouse writes one database. Its methods may be called from several
// goroutines. Every error names the warehouse and says what to do.
type Warehouse interface {
	// Test signs in, makes sure that tables can be made, and gives the version.
	Test(ctx context.Context) (version string, err error)
	// MayWrite tells which privilege is missing to make and write a target.
	MayWrite(ctx context.Context, t Target) error
	// Prepare makes the target where it is missing, brings the journal to the form of this
	// version, and tells what is in the way where an existing table does not fit. made tells
	// that there was no table.
	Prepare(ctx context.Context, t Target) (made bool, err error)
	// Refit makes an existing target take what the source has now, before it is copied
	// again.
	Refit(ctx context.Context, t Target) error
	// Lacks lists the columns of a target that an existing table does not have.
	Lacks(ctx context.Context, t Target) ([]string, error)
	// LeftOver lists the columns of an existing table that the target does not have.
	LeftOver(ctx context.Context, t Target) ([]LeftOver, error)
	// Grants are the statements that make a user who can write the targets, and who let a role of
	// others read them; empty for none. A warehouse that nobody signs in to has none.
	Grants(user, readers string, targets []schema.Name) []string
	// Mend runs a statement that mends a finding: a person has asked for it.
	Mend(ctx context.Context, sql string) error
	// File names the file that the warehouse is, which one process at a time can write, and tells whether it
	// is there; empty for a server.
	File() (path string, there bool)
	// Free is how many bytes the disk has room for; -1 where that cannot be known.
	Free(ctx context.Context) (int64, error)
	// Empty tells whether a target has no rows at all.
	Empty(ctx context.Context, t Target) (bool, error)
	// Count counts the rows of a table that hold now: neither flagged nor past versions.
	Count(ctx context.Context, t Target) (int64, error)
	// Size is the room that a table takes, in bytes, past versions and all; -1 where that is not told.
	Size(ctx context.Context, t Target) (int64, error)
	// Contradictions are keys whose rows contradict each other: that are there twice, or in versions
	// that overlap. The first MostFaults are told.
	Contradictions(ctx context.Context, t Target) (Faults, error)
	// Read passes rows on in batches. They, and the texts in them, are gone when
	// sink returns.
	Read(ctx context.Context, q Query, sink func(arrow.RecordBatch) error) error
	// Journal is what the warehouse remembers beside its tables.
	Journal() Journal
	// Names says how it tells names from each other.
	Names() Names
	// Form is a form besides Arrow in which it takes the rows of a direct load; empty for none.
	Form() string
	// Begin starts a commit.
	Begin(ctx context.Context) (Commit, error)
	Close()
}

// Upkept is a warehouse whose tables need upkeep beside what feeds write.
type Upkept interface {
	// Upkeep does what is due by now, and gives way to feeds.
	Upkeep(ctx context.Context) error
}

// Paced is a warehouse in which each commit costs more than its rows.
type Paced interface {
	// Pace is how long changes of a log are gathered at least before they are written.
	Pace() time.Duration
}

// Commit is one transaction. Finish or Abort ends it.
type Commit interface {
	// Table begins a table's part of the commit.
	Table(ctx context.Context, l Load) (Part, error)
	// Move advances a position by compare-and-set: the problem is Overtaken if another worker,
	// or a person, has moved it since from was read. It may make a second worker wait, so it
	// is best called before the merge.
	Move(ctx context.Context, feed, table string, from Checkpoint, to position.Position, run int64) (Checkpoint, error)
	// Note makes entries of the journal.
	Note(ctx context.Context, feed string, entries ...Entry) error
	// Read reads rows of a table as the commit has them by now. They are gone when sink returns.
	Read(ctx context.Context, q Query, sink func(arrow.RecordBatch) error) error
	// AddCopied adds rows of a snapshot to a copy: the table's columns.
	AddCopied(ctx context.Context, s Stash, snapshot int64, record arrow.RecordBatch) error
	// AddWaiting adds changes that wait for a copy: a record of stash.Columns.
	AddWaiting(ctx context.Context, s Stash, record arrow.RecordBatch) error
	// Finish makes everything visible.
	Finish(ctx context.Context) error
	// Abort leaves everything as it was. After Finish it does nothing.
	Abort()
}

// Part is what a commit does to one table. Rows are gathered, and merged as the target's
// keep asks.
type Part interface {
	// Count adds to the books what the caller has counted.
	Count(b rows.Books)
	// SetAside keeps rows that cannot be stored; the caller has counted them as read.
	SetAside(list []rows.Aside) error
	// Asides are the keys, as JSON, of the rows that are set aside by now.
	Asides() map[string]bool
	// Append gathers rows, as a record of StageColumns, and those that are set aside. They
	// count as read.
	Append(ctx context.Context, b rows.Batch) error
	// AppendFolded is Append of rows that were counted as read already.
	AppendFolded(ctx context.Context, record arrow.RecordBatch) error
	// AppendKeys gathers the keys that the source has, for Sweep.
	AppendKeys(ctx context.Context, record arrow.RecordBatch) error
	// Straighten takes out rows that contradict others of the keys of AppendKeys: one row of each key is
	// left, or versions that follow each other and do not end after a moment. They count as deleted.
	Straighten(ctx context.Context, moment int64) error
	// EndKeys ends, at a moment, each row that holds and whose key is among those of AppendKeys.
	EndKeys(ctx context.Context, moment int64) error
	// AppendFill gathers values of columns, which follow those of the key, for Fill.
	AppendFill(ctx context.Context, columns []schema.Column, record arrow.RecordBatch) error
	// Fill gives rows that hold the values that were gathered, each by its key, and tells how many
	// had others. A history gets no new versions by it.
	Fill(ctx context.Context, columns []schema.Column) (filled int64, err error)
	// FillCopied is Fill with the values that the rows of a copy have.
	FillCopied(ctx context.Context, columns []schema.Column) error
	// Sweep ends, at a moment, each row that holds and whose key is not among those of
	// AppendKeys or, where there were none, of the rows that were gathered. Those that were set
	// aside, before it or with it, are there. Merge follows.
	Sweep(ctx context.Context, moment int64, aside []rows.Aside) (gone int64, err error)
	// TakeCopy brings in the rows of a copy, which count as read, and ends the rows that hold
	// and that the copy lacks. begins is the transaction the rows are said to come from.
	TakeCopy(ctx context.Context, begins change.Txn) error
	// Merge brings what was gathered into the target.
	Merge(ctx context.Context, h Has) error
	// Truncate empties the target as its keep asks, at a moment of the source.
	Truncate(ctx context.Context, moment int64, h Has) error
	// Close ends the part, and gives the books. Rows that were gathered and that no step
	// counted were there already.
	Close(ctx context.Context, to position.Position) (rows.Books, error)
}

// Load says what one table's part of a commit is.
type Load struct {
	Feed   string
	Table  string
	Target Target
	Run    int64
	From   position.Position // where the table stands
	Shape  string            // tells the shape of the rows from another
	Direct bool              // the target is empty and no key comes twice: rows go straight in
}

// Has tells what is in the rows that were gathered, so that steps can be left out that
// would find nothing.
type Has struct {
	Gone      bool  // rows that end their key
	Unknown   bool  // rows with values that are to be taken from the target
	Chains    bool  // keys with several rows
	Continues bool  // the rows go on with a transaction whose first part was merged before
	Replays   int64 // changes of up to this moment may have been merged before; 0 for none
	Empty     bool  // there is nothing to merge them with
}

// Query says which rows of a warehouse table are read.
type Query struct {
	Target  Target
	Columns []schema.Column
	Holding bool     // only rows that hold now
	Key     []string // of one key only: a value as text for each of its columns; empty is all
	In      []string // only rows that have, in these columns, one of the lists of Values, as text
	Values  [][]string
	After   string // only rows whose first column of the key, a whole number, is higher than this; empty is all
	UpTo    string // only those of which it is not higher; empty is all
	Since   string // only rows whose watermark is this value or a higher one; empty is all
	OrderBy []string
	Newest  []string // columns of which the first that is not null decides, the highest first; before OrderBy
	Limit   int64
}

// LeftOver is a column that a table has and its target does not, and what removes it.
type LeftOver struct{ Column, Remedy string }

// MostFaults is how many contradictions are told.
const MostFaults = 10_000

// Faults are contradictions among the rows of a target.
type Faults []Fault

// Fault is a key whose rows contradict each other.
type Fault struct {
	What string   `json:"what" doc:"In which way"`
	Key  []string `json:"key" doc:"The values of the key"`
}

func (f Fault) String() string { return f.What + ": key " + rows.KeyJSON(f.Key) }

// Kinds are the kinds of warehouse.
var Kinds = connection.NewKinds[Warehouse]("warehouse")

// Overtaken is the problem of a worker that finds the position moved by another.
func Overtaken(table string) error {
	return problem.Newf(problem.Overtaken, "Nothing was written; the next run goes on from the new position.",
		"The position of %s was moved by another worker or by hand during the run.", table)
}

// MostAside is how many rows one commit may set aside. More than that is not a
// few odd rows but a table that does not fit, and a person should look at it.
const MostAside = 10_000

// TooManyAside is the problem of a commit with more than MostAside.
func TooManyAside(table, reason string) error {
	return problem.Newf(problem.Held,
		"See the reason and change the feed, for instance with as_text; nothing of this commit was written.",
		"More than %d rows of %s cannot be stored as they are. The last one: %s", MostAside, table, reason)
}
