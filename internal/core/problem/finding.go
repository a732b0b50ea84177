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
	Side   Side   `json:"side,omitempty" enum:"source,warehouse" doc:"Which of the two it is about; empty for the feed itself"`
	// Statements are those that the remedy begins with: they can be run for the person.
	Statements []string `json:"statements,omitempty" doc:"The statements of the remedy, which can be run there for the person"`
}

// Side is one of the two that a feed lies between.
type Side string

// The sides.
const (
	AtSource    Side = "source"
	AtWarehouse Side = "warehouse"
)

// Mendable gives findings with the statements of their remedies.
func Mendable(list []Finding) []Finding {
	for i, f := range list {
		if f.Side != "" {
			list[i].Statements, _ = Statements(f.Remedy)
		}
	}
	return list
}
