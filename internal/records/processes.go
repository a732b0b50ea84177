package records

import "time"

// Process is one of the service's processes that share the work.
type Process struct {
	ID        string    `json:"id"`
	Host      string    `json:"host" doc:"The name of the machine that it runs on"`
	PID       int       `json:"pid" doc:"Its number there"`
	Version   string    `json:"version"`
	Address   string    `json:"address" doc:"Where it listens"`
	StartedAt time.Time `json:"started_at"`
	SeenAt    time.Time `json:"seen_at" doc:"When it told last that it lives"`
	State     string    `json:"state" enum:"working,draining,drained" doc:"draining: it takes up no more work and ends what it has; drained: it has none"`
	Feeds     []string  `json:"feeds" doc:"The feeds of the runs that it works on now"`
	Files     []string  `json:"files" doc:"The warehouses that are files, and whose feeds it works on"`
}

// Place is where a warehouse is that is a file: processes of that host alone can write it, and one at a time.
type Place struct {
	Warehouse string `json:"warehouse"`
	Host      string `json:"host" doc:"The name of the machine that the file is on"`
	Process   string `json:"process,omitempty" doc:"The process that works on its feeds"`
}
