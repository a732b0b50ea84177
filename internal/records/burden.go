package records

import "time"

// Burden is what feeds cost their source.
type Burden struct {
	Source      string       `json:"source"`
	At          time.Time    `json:"at"`
	Days        int          `json:"days" doc:"Days of UTC that are added up, today's included"`
	Connections int64        `json:"connections" doc:"Connections that the source's user has open there now, of whatever program"`
	Bound       int          `json:"bound" doc:"How many a process of the service opens at most, beside those of feeds that follow the log; 0 where the source has no bound of its own"`
	HeavyHours  string       `json:"heavy_hours,omitempty" doc:"When copies, backfills, proofs and repairs may begin; at any time when empty"`
	Feeds       []FeedBurden `json:"feeds"`
}

// FeedBurden is what one feed costs its source.
type FeedBurden struct {
	Feed       string   `json:"feed"`
	Statements int64    `json:"statements"`
	Seconds    float64  `json:"statement_seconds" doc:"What they took at the source"`
	Rows       int64    `json:"rows" doc:"Rows and changes that were read"`
	Bytes      int64    `json:"bytes" doc:"Of these, as the service holds them"`
	Retained   int64    `json:"retained_bytes" doc:"Log that the source keeps for the feed; 0 where it follows none"`
	Growth     *float64 `json:"growth_bytes_per_hour,omitempty" doc:"By how much that grew, over the last hour or what is known of it"`
	Stop       int64    `json:"stop_bytes" doc:"From where on the source keeps nothing more; 0 is never"`
	Lasts      *float64 `json:"lasts_seconds,omitempty" doc:"In how long that is reached at this rate; not told where the log does not grow or has no end"`
}
