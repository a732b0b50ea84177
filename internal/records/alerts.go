package records

import "time"

// Kinds of alert.
const (
	AlertFailing = "failing" // a run or a table failed
	AlertHeld    = "held"    // a table, or a feed, waits for a person
	AlertLate    = "late"    // no run has come when one was due
	AlertLag     = "lag"     // what the warehouse shows is older than a channel's bound
	AlertLog     = "log"     // the source keeps more log than the feed's bound
	AlertUnequal = "unequal" // a proof found differences
	AlertDrift   = "drift"   // the structure of a table has changed, and the feed has followed
	AlertDerived = "derived" // a derived table could not be made, or a check of it has failed
	AlertDisk    = "disk"    // the disk of a warehouse's file is nearly full
)

// AlertKinds are all of them, in the order in which they are told.
var AlertKinds = []string{AlertHeld, AlertFailing, AlertUnequal, AlertLate, AlertLag, AlertLog, AlertDrift,
	AlertDerived, AlertDisk}

// Channel says who is told what, and how.
type Channel struct {
	Name string `json:"name" pattern:"^[a-z][a-z0-9-]{0,62}$" patternDescription:"lower-case letters, digits and hyphens, beginning with a letter" doc:"Its name"`
	Way  string `json:"way" enum:"webhook,email" doc:"How messages go out"`

	URL string `json:"url,omitempty" maxLength:"2000" doc:"Of a webhook: where JSON is posted to"`

	Host    string     `json:"host,omitempty" maxLength:"255" doc:"Of e-mail: the server that messages are handed to"`
	Port    int        `json:"port,omitempty" minimum:"1" maximum:"65535" doc:"587 when left out, 465 with tls: always"`
	TLS     string     `json:"tls,omitempty" enum:"always,starttls,off" doc:"always: from the first byte; starttls: before anything is sent, when left out; off: in the clear, without a password"`
	User    string     `json:"user,omitempty" maxLength:"255" doc:"Whom to sign in as; nobody when left out"`
	From    string     `json:"from,omitempty" maxLength:"255" doc:"The sender's address"`
	To      []string   `json:"to,omitempty" maxItems:"50" doc:"The receivers' addresses"`
	Kinds   []string   `json:"kinds,omitempty" doc:"Kinds of alert that it is told of; all when left out: held, failing, unequal, late, lag, log, drift, derived, disk"`
	Label   string     `json:"label,omitempty" maxLength:"140" doc:"Only of feeds with this label: its name, or name=value"`
	Lag     string     `json:"lag,omitempty" doc:"How old what a warehouse shows may become before that is an alert, as 15m or 1d; never when left out"`
	Quiet   string     `json:"quiet,omitempty" doc:"Hours in which nothing is told, as 22:00-06:30; what is still so afterwards is told then"`
	Zone    string     `json:"zone,omitempty" doc:"The time zone of quiet; UTC when left out"`
	Secret  string     `json:"secret,omitempty" maxLength:"1000" doc:"The password of user, or what a webhook's messages are signed with (HMAC-SHA256); never returned"`
	ToldAt  *time.Time `json:"told_at,omitempty" readOnly:"true" doc:"When a message went out last"`
	Problem *Problem   `json:"problem,omitempty" readOnly:"true" doc:"Why the last message did not go out; it is tried again"`
}

// Alert is something that needs, or needed, a person.
type Alert struct {
	ID      int64      `json:"id"`
	Kind    string     `json:"kind" enum:"held,failing,unequal,late,lag,log,drift,derived,disk"`
	Feed    string     `json:"feed,omitempty"`
	About   string     `json:"about,omitempty" doc:"The table, the derived table as set/schema.table, or the warehouse; empty for the feed as a whole"`
	What    string     `json:"what"`
	Remedy  string     `json:"remedy,omitempty"`
	Lag     *float64   `json:"lag_seconds,omitempty" doc:"Of kind lag: how old what the warehouse showed was"`
	BeganAt time.Time  `json:"began_at"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	Told    []string   `json:"told" doc:"The channels that were told of it"`
}
