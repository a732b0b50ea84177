// Package source is what it takes to read a database.
//
// A kind of source is a folder below this one and one line of registration. It
// knows how its server is asked; what is asked, and when, is decided elsewhere.
package source

import (
	"context"
	"time"

	"noemata/internal/connection"
	"noemata/internal/core/condition"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
)

// Source reads one database. Its methods may be called from several goroutines.
// Every error names the source and says what to do.
type Source interface {
	// Test signs in and gives the server's version.
	Test(ctx context.Context) (version string, err error)
	// Tables lists the tables and views the user may see, without their columns.
	Tables(ctx context.Context) ([]schema.Table, error)
	// Table describes one table; it fails when the table is missing or may not be read.
	Table(ctx context.Context, name schema.Name) (schema.Table, error)
	// Query describes what a SELECT gives, as a table of that name. It fails where the text is not
	// one statement that only reads.
	Query(ctx context.Context, name schema.Name, sql string) (schema.Table, error)
	// Moment tells the source's clock and its open transactions.
	Moment(ctx context.Context) (window.Moment, error)
	// Zone is the zone in which clients of the database write times, unless they choose another.
	Zone(ctx context.Context) (*time.Location, error)
	// Highest is the largest watermark that is visible; empty when there is none.
	Highest(ctx context.Context, q Query) (string, error)
	// Nulls counts the rows whose watermark is null.
	Nulls(ctx context.Context, q Query) (int64, error)
	// Count counts the rows of a query.
	Count(ctx context.Context, q Query) (int64, error)
	// Estimate guesses the number of rows of a query without reading them.
	Estimate(ctx context.Context, q Query) (int64, error)
	// Digests gives the digest of each range of the query's rows, of RangesAtOnce ranges at most.
	Digests(ctx context.Context, q Query, ranges []KeyRange) ([]Digest, error)
	// Read passes the rows of a query on in batches and ends with sink's error, if any.
	Read(ctx context.Context, q Query, sink func(rows.Batch) error) error
	// Connections counts those that the user has open at the server, of whatever program.
	Connections(ctx context.Context) (int64, error)
	// Quote is a name as the server's own SQL has it.
	Quote(name string) string
	// Indexed lists the columns that an index of a table begins with.
	Indexed(ctx context.Context, name schema.Name) ([]string, error)
	// Grants are the statements that make a user who can read what a feed reads, and no more; the
	// password is left to whoever runs them ('…').
	Grants(user string, needs Needs) []string
	// Mend runs a statement that mends a finding: a person has asked for it.
	Mend(ctx context.Context, sql string) error
	// Findings tells what is worth knowing about a table before it is read.
	Findings(ctx context.Context, q Query) ([]problem.Finding, error)
	// Rest closes the connections that are not in use, and with them what their buffers hold.
	Rest()
	Close()
}

// Clustered is a source that knows whether the rows of a table lie in the order of its key, so that to read ranges
// of it
// costs about what the rows cost.
type Clustered interface {
	Clustered(ctx context.Context, t schema.Table) (bool, error)
}

// Keyed is a source in which a key is declared otherwise than by ALTER TABLE … ADD.
type Keyed interface {
	DeclareKey(t schema.Table, key []string) (remedy string)
}

// Needs is what a feed asks of a source.
type Needs struct {
	Tables    []schema.Name
	Watermark bool // some are found by watermark
	Log       bool // some follow the log
}

// Query says which rows of a table are read. The records that Read passes on hold
// Table.Columns in order, then the watermark if ReadsWatermark, then, if Beyond is
// set, a boolean that tells whether the row lies beyond it, then, if Digest is set, a
// digest of the row.
type Query struct {
	Table     schema.Table
	Watermark *Watermark
	Window    window.Window
	Keys      *KeyRange // rows of these keys only; nil for all
	Only      *Only     // rows that have certain values only; nil for all
	Ordered   bool      // by watermark, then by the table's key
	Newest    bool      // in the opposite order, or by key where there is no watermark
	Limit     int64     // 0 is without; rows that tie with the last one are added where the table has no key
	Beyond    *position.Position
	Digest    bool
	Batch     int      // how many rows a batch has at most; 0 is as many as usual
	Apart     bool     // the watermark travels as a column of its own
	RowKey    []string // names a row that is set aside: the key in the warehouse
	NotNull   []string // columns of which a null sets a row aside
	Raw       *Raw     // rows may come in another form beside a record; nil for none
	Filter    *Filter  // rows that need not be read; nil for none
}

// Only names rows by the values that they have in some columns, each as schema.CellText has it.
type Only struct {
	Columns []string
	Values  [][]string
}

// Filter lets a server leave out rows of which a condition is false. Where they are counted, it is at
// the moment of the rows that are read, and the last batch tells how many they were.
type Filter struct {
	condition.Condition
	Counts bool
}

// Raw is a form in which rows may come as they are. Of the columns that the record beside them
// has, the named ones are looked at on the way; the others may be null there.
type Raw struct {
	Form   string
	Looked []string
}

// Watermark is the column that windows are cut from, and the one that counts
// where it is null.
type Watermark struct {
	Column   schema.Column
	Fallback string
}

// ReadsWatermark tells whether the watermark travels as a column of its own.
func (q Query) ReadsWatermark() bool {
	return q.Watermark != nil && (q.Apart || q.Watermark.Fallback != "")
}

// Kinds are the kinds of source.
var Kinds = connection.NewKinds[Source]("source")
