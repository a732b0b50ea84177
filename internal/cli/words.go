package cli

import (
	"fmt"
	"time"

	"noemata/client"
	"noemata/internal/core/words"
)

func optional(n *int64) string {
	if n == nil {
		return "–"
	}
	return words.Number(*n)
}

// when writes a time with its zone and how long ago it is.
func when(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return t.UTC().Format("2006-01-02 15:04:05") + "Z (" + ago(time.Since(*t)) + ")"
}

// moment is an instant to the microsecond.
func moment(t *time.Time) string { return t.UTC().Format("2006-01-02 15:04:05.000000") + "Z" }

func ago(d time.Duration) string {
	switch {
	case d < -time.Second:
		return "in " + duration(-d)
	case d < 2*time.Second:
		return "now"
	}
	return duration(d) + " ago"
}

// duration writes a length of time in its one or two largest units.
func duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

func seconds(s float64) string { return duration(time.Duration(s * float64(time.Second))) }

// lag is how far a table is behind its source's present.
func lag(completeAt *time.Time) string {
	if completeAt == nil {
		return "–"
	}
	return duration(max(time.Since(*completeAt), 0))
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func took(r client.Run) string {
	switch {
	case r.StartedAt == nil:
		return "–"
	case r.EndedAt == nil:
		return duration(time.Since(*r.StartedAt))
	}
	return duration(r.EndedAt.Sub(*r.StartedAt))
}
