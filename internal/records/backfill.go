package records

import (
	"time"

	"noemata/internal/core/rows"
)

// BackfillRange says what a backfill reads.
type BackfillRange struct {
	From        string `json:"from,omitempty" doc:"The first watermark that counts; that of the table's first row when left out"`
	To          string `json:"to,omitempty" doc:"The last one; the table's position when left out, or beyond it"`
	Slice       string `json:"slice,omitempty" doc:"How long a slice is: 12h, 1d, 1mo or 1y, or a number for watermarks that count; all in one when left out"`
	NewestFirst bool   `json:"newest_first,omitempty" doc:"Whether the last slice is read first"`
}

// Backfill is a range of a table that is read again in slices, beside the regular runs.
type Backfill struct {
	ID    int64  `json:"id"`
	Feed  string `json:"feed"`
	Table string `json:"table"`
	BackfillRange
	State     string     `json:"state" enum:"waiting,running,paused,done,stopped"`
	Slices    int64      `json:"slices" doc:"Into how many slices the range is cut"`
	Done      int64      `json:"done" doc:"How many of them were read"`
	Books     rows.Books `json:"books" doc:"The sum over all slices"`
	Problem   *Problem   `json:"problem,omitempty" doc:"Why the last slice was not read; it is tried again"`
	AskedAt   time.Time  `json:"asked_at"`
	StartedAt *time.Time `json:"started_at,omitempty"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
}

// Ended tells whether it is over.
func (b Backfill) Ended() bool { return b.State == "done" || b.State == "stopped" }
