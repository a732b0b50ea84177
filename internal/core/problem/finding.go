package problem

// Level is how much a finding matters.
type Level string

// The levels: a blocker keeps a feed from running, a warning says that its
// result may not be what is wanted, a note is good to know.
const (
	Blocker Level = "blocker"
	Warning Level = "warning"
	Note    Level = "note"
)

// Finding is one result of checking a feed before it runs.
type Finding struct {
	Level  Level  `json:"level" enum:"blocker,warning,note"`
	Table  string `json:"table,omitempty" doc:"The table it is about; empty for the feed as a whole"`
	What   string `json:"what" doc:"What was found"`
	Remedy string `json:"remedy,omitempty" doc:"What to do about it"`
}
