package records

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/feed"
)

// Overview is what a person looks at first: what needs one, and how each feed is doing.
type Overview struct {
	At     time.Time     `json:"at"`
	Tables int           `json:"tables"`
	Rows   int64         `json:"rows" doc:"Rows in warehouses"`
	Needs  []Need        `json:"needs" doc:"What needs a person, the worst first"`
	Feeds  []FeedSummary `json:"feeds" doc:"What needs a person first, then what is furthest behind what it promises"`
}

// Need is something that needs a person.
type Need struct {
	Kind   string `json:"kind" enum:"held,failing,unequal,derived,waiting,behind,lagging,nulls"`
	Feed   string `json:"feed,omitempty" doc:"Empty for a derived table"`
	Table  string `json:"table,omitempty" doc:"Empty for the feed as a whole; of a derived table set/schema.table"`
	More   int    `json:"more,omitempty" doc:"Further tables of the feed of which the same is true"`
	Warns  bool   `json:"warns" doc:"Whether it is only worth knowing"`
	What   string `json:"what"`
	Remedy string `json:"remedy,omitempty"`
}

// FeedSummary is how a feed is doing, in a line.
type FeedSummary struct {
	Name      string `json:"name"`
	Source    string `json:"source"`
	Warehouse string `json:"warehouse"`
	feed.Belongs
	Schedule   string         `json:"schedule"`
	State      string         `json:"state" enum:"active,paused,held,running,following"`
	NextRunAt  *time.Time     `json:"next_run_at,omitempty"`
	MadeBy     string         `json:"made_by,omitempty"`
	MadeAt     *time.Time     `json:"made_at,omitempty"`
	ChangedBy  string         `json:"changed_by,omitempty"`
	ChangedAt  *time.Time     `json:"changed_at,omitempty"`
	Tables     int            `json:"tables"`
	States     map[string]int `json:"states" doc:"How many tables are in each state"`
	Needs      int            `json:"needs" doc:"How much of it needs a person"`
	Rows       int64          `json:"rows"`
	CompleteAt *time.Time     `json:"complete_at,omitempty" doc:"Of the table that is furthest behind what was promised"`
	Promised   *float64       `json:"promised_seconds,omitempty" doc:"Of that table"`
	Lagging    int            `json:"lagging" doc:"Tables that are further behind than was promised"`
	WrittenAt  *time.Time     `json:"written_at,omitempty" doc:"When rows were written last"`
}

// Lags tells whether a table is further behind than its feed promises, with some patience.
func (t TableStatus) Lags(now time.Time) bool {
	return t.CompleteAt != nil && t.Promised != nil && excess(t, now) > max(60, *t.Promised/2)
}

// excess is by how many seconds a table is further behind than was promised.
func excess(t TableStatus, now time.Time) float64 {
	lag := now.Sub(*t.CompleteAt).Seconds()
	if t.Promised == nil {
		return -1 / (1 + lag) // whatever is promised nothing comes after all others, the oldest first
	}
	return lag - *t.Promised
}

// Summed is the overview of feeds and derived tables.
func Summed(feeds []FeedStatus, derived []DerivedSet, now time.Time) Overview {
	o := Overview{At: now, Needs: []Need{}, Feeds: []FeedSummary{}}
	for _, d := range derived {
		o.Needs = append(o.Needs, d.Needs()...)
	}
	for _, f := range feeds {
		needs := needsOf(f, now)
		x := summed(f, now)
		for _, n := range needs {
			if !n.Warns {
				x.Needs++
			}
		}
		o.Needs, o.Feeds = append(o.Needs, needs...), append(o.Feeds, x)
		o.Tables, o.Rows = o.Tables+x.Tables, o.Rows+x.Rows
	}
	order := []string{AlertHeld, AlertFailing, AlertUnequal, AlertDerived, "waiting", "behind", "lagging", "nulls"}
	slices.SortStableFunc(o.Needs, func(a, b Need) int {
		return cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind))
	})
	slices.SortStableFunc(o.Feeds, func(a, b FeedSummary) int {
		return cmp.Or(cmp.Compare(b.Needs, a.Needs), cmp.Compare(b.Lagging, a.Lagging), strings.Compare(a.Name, b.Name))
	})
	return o
}

func summed(f FeedStatus, now time.Time) FeedSummary {
	x := FeedSummary{Name: f.Name, Source: f.Source, Warehouse: f.Warehouse, Belongs: f.Belongs, Schedule: f.Schedule,
		State:     f.State,
		NextRunAt: f.NextRunAt, MadeBy: f.MadeBy, MadeAt: f.MadeAt, ChangedBy: f.ChangedBy, ChangedAt: f.ChangedAt,
		Tables: len(f.Tables),
		States: map[string]int{}}
	if f.Running != nil {
		if x.State = "running"; f.Log != nil {
			x.State = "following"
		}
	}
	worst := 0.0
	for _, t := range f.Tables {
		x.States[t.State]++
		if t.Rows != nil {
			x.Rows += *t.Rows
		}
		if t.ChangedAt != nil && (x.WrittenAt == nil || t.ChangedAt.After(*x.WrittenAt)) {
			x.WrittenAt = t.ChangedAt
		}
		if t.CompleteAt == nil {
			continue
		}
		if f.State == "active" && t.Lags(now) {
			x.Lagging++
		}
		if by := excess(t, now); x.CompleteAt == nil || by > worst {
			x.CompleteAt, x.Promised, worst = t.CompleteAt, t.Promised, by
		}
	}
	return x
}

// needsOf is what of a feed needs a person. Tables with one cause are told once.
func needsOf(f FeedStatus, now time.Time) (list []Need) {
	at := map[Need]int{}
	add := func(kind, table string, warns bool, what, remedy string) {
		n := Need{Kind: kind, Feed: f.Name, Warns: warns, What: what, Remedy: remedy}
		if i, known := at[n]; known {
			list[i].More++
			return
		}
		at[n] = len(list)
		n.Table = table
		list = append(list, n)
	}
	if f.Held != nil {
		add(AlertHeld, "", false, f.Held.What, f.Held.Remedy)
	}
	troubled := false
	for _, t := range f.Tables {
		troubled = troubled || t.Problem != nil
		switch {
		case t.Problem != nil && t.State == "held":
			add(AlertHeld, t.Table, false, t.Problem.What, t.Problem.Remedy)
		case t.Problem != nil:
			add(AlertFailing, t.Table, false, t.Problem.What, t.Problem.Remedy)
		}
		if p := t.Proof; p != nil && !p.Same {
			example := ""
			if len(p.Examples) > 0 {
				example = p.Examples[0]
			}
			add(AlertUnequal, t.Table, false, fmt.Sprintf("The last proof found %d differences.",
				p.Differing+p.Missing+p.Extra), example)
		}
		switch {
		case t.State == "behind":
			add("behind", t.Table, true, "No run has come when one was due.",
				"Look at the feed's runs, and at the processes of the service.")
		case f.State == "active" && t.Problem == nil && t.Copy == nil && t.Lags(now):
			add("lagging", t.Table, true, "It is further behind than the feed promises.",
				"Look at its log: what the last runs waited for, and what took their time.")
		}
		if t.Nulls > 0 {
			add("nulls", t.Table, true, fmt.Sprintf("Rows with a null watermark are not replicated: %d.", t.Nulls),
				"Name a fallback column in the feed to include them.")
		}
	}
	if r := f.LastRun; r != nil && r.Problem != nil { // what it failed of is past once another one goes on
		switch {
		case r.State == "failed" && f.Running == nil && !troubled:
			add(AlertFailing, "", false, r.Problem.What, r.Problem.Remedy)
		case r.State == "waited" && f.State == "active":
			add("waiting", "", true, r.Problem.What, r.Problem.Remedy)
		}
	}
	return list
}
