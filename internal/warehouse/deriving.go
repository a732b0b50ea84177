package warehouse

import (
	"context"
	"time"

	"noemata/internal/core/derive"
	"noemata/internal/core/schema"
)

// Deriving is a warehouse in which tables can be made from others. Names are told apart by Names.Key, and versions go
// by that of schema.Name's Display.
type Deriving interface {
	// Reads checks the SQL of a derived table, and tells which tables it reads, as far as may lets. What is wrong with
	// it is a Mistake.
	Reads(ctx context.Context, sql string, may May) ([]schema.Name, error)
	// Binds checks derived tables, each after those that it reads, against what is there, and makes nothing. Mistakes
	// tells what is wrong with which of them, the first ones; a table that reads one that is wrong is wrong, too.
	Binds(ctx context.Context, list []derive.Table) (Mistakes, error)
	// Stamp is another one after each commit.
	Stamp(ctx context.Context) (string, error)
	// Derived tells how derived tables were made last, and in which versions all tables are now.
	Derived(ctx context.Context) (made map[string]derive.Made, now map[string]string, err error)
	// Derive makes a table, in one transaction, from a single cut of what it reads: all of it, where whole says so, and else
	// only parts that a change reaches, where it has parts. What is wrong with its SQL is a Mistake.
	Derive(ctx context.Context, t derive.Table, reads []schema.Name, whole bool) (Derivation, error)
	// DropDerived drops a derived table, if there is one.
	DropDerived(ctx context.Context, name schema.Name) error
}

// Mistakes are those of derived tables, by table.
type Mistakes map[string]*Mistake

// Derivation is what came of making a derived table.
type Derivation struct {
	Made     derive.Made
	Kept     bool // a check has failed, and the table is as it was
	Same     bool // the rows are those that were there
	Rows     int64
	Inserted int64
	Updated  int64
	Deleted  int64
	Parts    []string // of a table that is merged: those that were made anew; nil for all
	Checks   []Checked
}

// Checked is what came of a check.
type Checked struct {
	Check derive.Check
	Found int64  // how many rows, or values, break it
	SQL   string // gives them, also where the table was kept as it was; of None it is the check's own
	Took  time.Duration
}
