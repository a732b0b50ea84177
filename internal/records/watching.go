package records

import "time"

// LogEntry is something that a run has said.
type LogEntry struct {
	ID     int64     `json:"id" doc:"Rises from each entry to the next"`
	At     time.Time `json:"at"`
	Feed   string    `json:"feed"`
	Run    int64     `json:"run,omitempty" doc:"The run that said it; 0 where none did"`
	Table  string    `json:"table,omitempty" doc:"The table that it is about; empty for all of the feed"`
	Level  string    `json:"level" enum:"info,warning,error"`
	What   string    `json:"what" doc:"What happened, as a sentence"`
	Remedy string    `json:"remedy,omitempty" doc:"What to do"`
}

// Levels of entries.
const (
	LevelInfo    = "info"
	LevelWarning = "warning"
	LevelError   = "error"
)

// LogFilter chooses entries of a feed's log.
type LogFilter struct {
	Run    int64
	Table  string
	Level  string // this one and those that are worse
	Text   string // that what was said contains, in upper or lower case
	After  int64  // only entries with a higher number, the lowest first
	Before int64  // only entries with a lower number
	Limit  int
}

// Volume is what was done for a table on a day of UTC.
type Volume struct {
	Day      string  `json:"day" format:"date"`
	Table    string  `json:"table"`
	Read     int64   `json:"read"`
	Inserted int64   `json:"inserted"`
	Updated  int64   `json:"updated"`
	Deleted  int64   `json:"deleted"`
	SetAside int64   `json:"set_aside"`
	Bytes    int64   `json:"bytes" doc:"Of the rows that were read, as the service holds them"`
	Reading  float64 `json:"reading_seconds"`
	Writing  float64 `json:"writing_seconds"`
}

// Retention is how long things of one kind are kept, and what room they take.
type Retention struct {
	What    string `json:"what"`
	Says    string `json:"says" doc:"What these are, in words"`
	Keep    string `json:"keep" doc:"How long they are kept, as 14d; or: forever"`
	Default string `json:"default" doc:"How long they are kept where nobody says otherwise"`
	Rows    int64  `json:"rows" doc:"How many there are, by the database's estimate"`
	Bytes   int64  `json:"bytes" doc:"What room they take in the service's own database"`
}
