package records

import (
	"fmt"
	"strings"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/words"
)

// DerivedSet is a set of derived tables, and how they are doing.
type DerivedSet struct {
	Name      string `json:"name"`
	Warehouse string `json:"warehouse"`
	feed.Belongs
	State     string         `json:"state" enum:"active,paused" doc:"paused: its tables are made only when a person asks for it"`
	AppliedBy string         `json:"applied_by" doc:"Who applied its file last"`
	AppliedAt time.Time      `json:"applied_at"`
	Tables    []DerivedTable `json:"tables"`
}

// States of a derived table.
const (
	DerivedNew    = "new"    // it was not made yet
	DerivedMade   = "made"   // it was made; why tells whether it is to be made again
	DerivedMaking = "making" // it is being made
	DerivedFailed = "failed" // it could not be made, and is as it was before
	DerivedKept   = "kept"   // a check failed, and it is as it was before
)

// DerivedTable is a derived table, and how it is doing.
type DerivedTable struct {
	Table   string         `json:"table"`
	As      string         `json:"as" enum:"view,table,merge"`
	Comment string         `json:"comment,omitempty"`
	SQL     string         `json:"sql" doc:"What makes it"`
	When    string         `json:"when" doc:"When it is made, in words"`
	Reads   []string       `json:"reads" doc:"The tables that it reads"`
	State   string         `json:"state" enum:"new,made,making,failed,kept"`
	Why     string         `json:"why,omitempty" doc:"Why it is to be made, or waits to be"`
	Problem *Problem       `json:"problem,omitempty"`
	Rows    *int64         `json:"rows,omitempty"`
	MadeAt  *time.Time     `json:"made_at,omitempty" doc:"When it was made last"`
	Took    float64        `json:"took_seconds" doc:"How long that took"`
	Checks  []DerivedCheck `json:"checks" doc:"What came of its checks, when it was tried last"`
}

// Needs tells what of the set needs a person: tables that were not made as their file has them, and those of which a check
// tells.
func (d DerivedSet) Needs() (list []Need) {
	for _, t := range d.Tables {
		n := Need{Kind: AlertDerived, Table: d.Name + "/" + t.Table, Warns: t.Problem == nil}
		if t.Problem != nil {
			n.What, n.Remedy = t.Problem.What, t.Problem.Remedy
		}
		for _, c := range t.Checks {
			if !c.Holds && t.State == DerivedMade {
				n.What += fmt.Sprintf("A check does not hold: %s (%s). ", c.Check, words.Plural(c.Found, "finding"))
				n.Remedy = "See what breaks it: noemata derived show " + problem.Word(d.Name) + " has a question for it."
			}
		}
		if n.What = strings.TrimSpace(n.What); n.What != "" {
			list = append(list, n)
		}
	}
	return list
}

// DerivedCheck is what came of a check.
type DerivedCheck struct {
	Check string  `json:"check"`
	Holds bool    `json:"holds"`
	Found int64   `json:"found" doc:"How many rows, or values, break it"`
	Keeps bool    `json:"keeps" doc:"Whether its failure leaves the table as it was"`
	SQL   string  `json:"sql" doc:"A question that gives what breaks it"`
	Took  float64 `json:"took_seconds"`
}

// Derivation is one making of a derived table.
type Derivation struct {
	ID         int64          `json:"id"`
	Set        string         `json:"set"`
	Table      string         `json:"table"`
	Why        string         `json:"why" doc:"What it was made for"`
	State      string         `json:"state" enum:"running,done,failed,kept,stopped"`
	Process    string         `json:"process" doc:"The process of the service that made it"`
	StartedAt  time.Time      `json:"started_at"`
	EndedAt    *time.Time     `json:"ended_at,omitempty"`
	Rows       int64          `json:"rows" doc:"That it has now; of a view -1"`
	Inserted   int64          `json:"inserted"`
	Updated    int64          `json:"updated"`
	Deleted    int64          `json:"deleted"`
	Same       bool           `json:"same" doc:"Whether its rows are those that it had before"`
	Parts      *int64         `json:"parts,omitempty" doc:"Of a table with parts: how many were made; of all it is left out"`
	Checks     []DerivedCheck `json:"checks"`
	Problem    *Problem       `json:"problem,omitempty"`
	Statements []Statement    `json:"statements,omitempty" doc:"What was run; only where one is shown"`
}

// DerivedApplied is what applying a file of derived tables has come to.
type DerivedApplied struct {
	Set      string            `json:"set"`
	New      bool              `json:"new" doc:"Whether the set did not exist before"`
	Applied  bool              `json:"applied" doc:"Whether it now is as the file has it"`
	Changes  []feed.Change     `json:"changes"`
	Findings []problem.Finding `json:"findings"`
	Order    []string          `json:"order" doc:"The tables of the file, each after those that it reads"`
}
