// Package alerts finds what needs a person, and tells those who want to know: once, and when it is over.
package alerts

import (
	"fmt"
	"slices"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/records"
)

// Find tells what needs a person, from how feeds are doing at a moment. least is the lag from which on somebody wants
// to know of it; zero where nobody does.
func Find(feeds []records.FeedStatus, now time.Time, least time.Duration) (list []records.Alert) {
	for _, f := range feeds {
		add := func(kind, about, what, remedy string) *records.Alert {
			list = append(list, records.Alert{Kind: kind, Feed: f.Name, About: about, What: what, Remedy: remedy})
			return &list[len(list)-1]
		}
		if f.Held != nil {
			add(records.AlertHeld, "", f.Held.What, f.Held.Remedy)
		}
		if f.Log != nil && f.Log.Risk {
			add(records.AlertLog, "", fmt.Sprintf("The source keeps %d MB of its log for %s, and the feed's bound is %d MB.",
				f.Log.Retained>>20, f.Name, f.Log.Warn>>20), "See what the feed waits for: noemata feeds show "+problem.Word(f.Name)+".")
		}
		if d := f.Drift; d != nil && now.Sub(d.At) < driftIsNews && !troubled(f, d.Table) {
			add(records.AlertDrift, d.Table, d.What+" "+d.Done,
				"See noemata feeds drifts "+problem.Word(f.Name)+", and whether what reads the table still fits.")
		}
		inTables := false
		for _, t := range f.Tables {
			switch t.State {
			case "held":
				add(records.AlertHeld, t.Table, t.Problem.What, t.Problem.Remedy)
			case "failing":
				add(records.AlertFailing, t.Table, t.Problem.What, t.Problem.Remedy)
			case "unequal":
				add(records.AlertUnequal, t.Table, fmt.Sprintf("The last proof found %d rows to differ.",
					t.Proof.Differing+t.Proof.Missing+t.Proof.Extra+t.Proof.Unlooked+t.Proof.Faults),
					fmt.Sprintf("noemata proofs list %s %s; noemata repair %[1]s %[2]s.", problem.Word(f.Name), problem.Word(t.Table)))
			case "behind":
				add(records.AlertLate, t.Table, fmt.Sprintf("No run has read it since %s.",
					t.LastRunAt.UTC().Format("2006-01-02 15:04Z")),
					"See noemata runs list --feed "+problem.Word(f.Name)+".")
			}
			inTables = inTables || t.Problem != nil
			if lag := lagOf(t, now); f.State == "active" && least > 0 && lag >= least {
				seconds := lag.Seconds()
				add(records.AlertLag, t.Table, fmt.Sprintf("What the warehouse shows is more than %s old.", rounded(lag)),
					"See what it waits for: noemata feeds show "+problem.Word(f.Name)+".").Lag = &seconds
			}
		}
		if r := f.LastRun; r != nil && r.State == "failed" && r.Problem != nil && !inTables {
			add(records.AlertFailing, "", r.Problem.What, r.Problem.Remedy)
		}
	}
	return list
}

// troubled tells whether a table waits for a person, who is told of it already.
func troubled(f records.FeedStatus, table string) bool {
	return slices.ContainsFunc(f.Tables, func(t records.TableStatus) bool { return t.Table == table && t.Problem != nil })
}

// driftIsNews is for how long a structure that has changed, and that was followed, is an alert.
const driftIsNews = time.Hour

// rounded is a length of time in whole minutes, where it has some: what is said of a lag does not change each moment.
func rounded(d time.Duration) time.Duration {
	if d >= 2*time.Minute {
		return d.Truncate(time.Minute)
	}
	return d.Truncate(10 * time.Second)
}

// lagOf is how old what a warehouse shows of a table is; zero where that is not known.
func lagOf(t records.TableStatus, now time.Time) time.Duration {
	if t.CompleteAt == nil {
		return 0
	}
	return now.Sub(*t.CompleteAt)
}
