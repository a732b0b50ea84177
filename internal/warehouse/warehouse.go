// Package warehouse is what it takes to write a warehouse.
//
// A kind of warehouse is a folder below this one and one line of registration. What
// is SQL alike in every kind is here: Base answers what can be asked, Commit is one
// transaction of rows, positions and counters, and the merges bring rows into a
// target as its keep asks. In every warehouse the schema "noemata" holds what Control
// lists: how far each table and each feed has come, a row of counters for every
// commit, and the rows that could not be stored as they are.
package warehouse

import (
	"context"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// Warehouse writes one database. Its methods may be called from several
// goroutines. Every error names the warehouse and says what to do.
type Warehouse interface {
	// Test signs in, makes sure that tables can be made, and gives the version.
	Test(ctx context.Context) (version string, err error)
	// Prepare makes the target's schema and table where they are missing, and
	// tells what is in the way where an existing table does not fit. made tells that there
	// was no table.
	Prepare(ctx context.Context, t Target) (made bool, err error)
	// MayWrite tells which privilege is missing to make and write a target.
	MayWrite(ctx context.Context, t Target) error
	// LeftOver lists the columns of an existing table that the target does not have.
	LeftOver(ctx context.Context, t Target) ([]string, error)
	// LastTarget is what a table's rows were written to last; empty where there were none.
	LastTarget(ctx context.Context, feed, table string) (string, error)
	// Refit makes an existing target take what the source has now, before it is copied
	// again.
	Refit(ctx context.Context, t Target) error
	// FirstPosition is where a table's first commit brought it.
	FirstPosition(ctx context.Context, feed, table string) (position.Position, error)
	// Place tells how far a table has come; the zero Place when it has not begun.
	Place(ctx context.Context, feed, table string) (Place, error)
	// Places lists the places of a feed's tables.
	Places(ctx context.Context, feed string) ([]Place, error)
	// SetPlace moves a table's position without loading rows; nil clears it.
	SetPlace(ctx context.Context, feed, table string, p *position.Position) error
	// Begin starts a commit.
	Begin(ctx context.Context) (*Commit, error)
	// Ask gives all rows of a small result.
	Ask(ctx context.Context, sql string, args ...any) ([][]any, error)
	// Make runs statements of the form CREATE IF NOT EXISTS and the like.
	Make(ctx context.Context, statements ...string) error
	// Dialect is where its SQL differs.
	Dialect() Dialect
	// Count counts the rows of a table that hold now: neither flagged nor past versions.
	Count(ctx context.Context, t Target) (int64, error)
	// Read passes rows on in batches. They, and the texts in them, are gone when
	// sink returns.
	Read(ctx context.Context, q Query, sink func(arrow.RecordBatch) error) error
	Close()
}

// Target is a table of a warehouse.
type Target struct {
	Name      schema.Name
	Columns   []schema.Column // as they come from the source
	Added     []schema.Column // those that Noemata adds, in order
	Names     Names           // what those are called
	Key       []string
	Unique    bool // the source promises that the key is unique
	Keep      feed.Keep
	Log       bool     // its changes come from a change log
	Sweeps    bool     // its deletes are found by comparing keys
	Watermark []string // the watermark column and its fallback, if any
}

// Names are the names of the columns that Noemata adds.
type Names struct{ Changed, ChangedAt, DeletedAt, From, Until, Current, Position, Run string }

// All is the target's columns in order.
func (t Target) All() []schema.Column { return slices.Concat(t.Columns, t.Added) }

// Place is how far a table has come in a warehouse. Version rises with every
// move, so that a worker can tell whether another one has been here.
type Place struct {
	Table    string
	Position position.Position
	Version  int64
	Run      int64
	MovedAt  time.Time
}

// Query says which rows of a warehouse table are read.
type Query struct {
	Name    schema.Name
	Columns []schema.Column
	Where   string // a condition in SQL that both kinds understand; empty is all
	OrderBy []string
	Newest  []string // columns of which the first that is not null decides, the highest first; before OrderBy
	Limit   int64
}

// Kinds are the kinds of warehouse.
var Kinds = connection.NewKinds[Warehouse]("warehouse")

// Overtaken is the problem of a worker that finds the position moved by another.
func Overtaken(table string) error {
	return problem.Newf(problem.Overtaken, "Nothing was written; the next run goes on from the new position.", "The position of %s was moved by another worker or by hand during the run.", table)
}
