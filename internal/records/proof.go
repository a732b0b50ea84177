package records

import (
	"time"

	"noemata/internal/core/compare"
	"noemata/internal/core/rows"
)

// Proof is a dated statement whether two sides are equal.
type Proof struct {
	Table    string    `json:"table"`
	Target   string    `json:"target"`
	At       time.Time `json:"at"`
	Position string    `json:"position" doc:"The position that was compared"`
	Same     bool      `json:"same" doc:"Whether no difference was found"`
	compare.Result
	Notes  []string `json:"notes,omitempty" doc:"What the table's watermark has not shown, and what would see it"`
	Faults int64    `json:"contradictions,omitempty" doc:"Keys whose rows in the warehouse contradict each other, such as versions that overlap"`
}

// Proving is a comparison of a table that was asked for: how far it is, and what it has found. A repair
// brings the rows that it finds to differ to what the source has.
type Proving struct {
	ID          int64                `json:"id"`
	Feed        string               `json:"feed"`
	Table       string               `json:"table"`
	Repair      bool                 `json:"repair" doc:"Whether rows that differ are brought to what the source has"`
	Since       string               `json:"since,omitempty" doc:"The value of the watermark from which on rows are looked at; empty for all rows"`
	State       string               `json:"state" enum:"waiting,running,done,failed,stopped"`
	AskedBy     string               `json:"asked_by,omitempty" doc:"The name of the token that asked for it; empty where the feed's file did"`
	AskedAt     time.Time            `json:"asked_at"`
	StartedAt   *time.Time           `json:"started_at,omitempty"`
	EndedAt     *time.Time           `json:"ended_at,omitempty"`
	Phase       string               `json:"phase,omitempty" doc:"What is done now"`
	Read        int64                `json:"read" doc:"Rows of both sides that were read in this phase"`
	Expected    int64                `json:"expected" doc:"An estimate of all of them"`
	Proof       *Proof               `json:"proof,omitempty" doc:"What was found; of a repair, before it"`
	Differences []compare.Difference `json:"differences,omitempty" doc:"The first rows that differ, with the values of both sides"`
	Repaired    *Repaired            `json:"repaired,omitempty"`
	Problem     *Problem             `json:"problem,omitempty" doc:"Why it failed"`
	Statements  []Statement          `json:"statements,omitempty" doc:"What was run at the source and the warehouse; only where one is shown"`
}

// Ended tells whether it is over.
func (p Proving) Ended() bool { return p.State != "waiting" && p.State != "running" }

// Repaired is what a repair has done.
type Repaired struct {
	Keys  int        `json:"keys" doc:"Keys whose rows were brought to what the source has"`
	Left  int        `json:"left" doc:"Keys that differ still, since their rows changed meanwhile or are too many: repair again"`
	Books rows.Books `json:"books"`
}
