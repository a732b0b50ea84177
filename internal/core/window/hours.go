package window

import (
	"fmt"
	"strings"
	"time"
)

// Hours is a part of each day; the zero value is all of it.
type Hours struct {
	from, until time.Duration // since midnight; until may lie before from, on the next day
	zone        *time.Location
	text        string
}

// ParseHours reads hours such as 22:00-06:30, in a time zone such as Europe/Vienna; empty is UTC. No text is
// all day.
func ParseHours(text, zone string) (Hours, error) {
	at, err := time.LoadLocation(zone)
	if err != nil || text == "" {
		return Hours{}, err
	}
	from, until, ok := strings.Cut(text, "-")
	a, err1 := time.Parse("15:04", strings.TrimSpace(from))
	b, err2 := time.Parse("15:04", strings.TrimSpace(until))
	if !ok || err1 != nil || err2 != nil || a.Equal(b) {
		return Hours{}, fmt.Errorf("two times of day that differ are expected, with a hyphen between")
	}
	since := func(t time.Time) time.Duration {
		return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	}
	return Hours{since(a), since(b), at, fmt.Sprintf("%s (%s)", text, at)}, nil
}

func (h Hours) String() string { return h.text }

// Always tells whether they are all of the day.
func (h Hours) Always() bool { return h.zone == nil }

// Contains tells whether a moment lies within them.
func (h Hours) Contains(t time.Time) bool {
	if h.Always() {
		return true
	}
	t = t.In(h.zone)
	at := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	if h.from < h.until {
		return at >= h.from && at < h.until
	}
	return at >= h.from || at < h.until
}

// Next is the first moment from t on, to the minute, that lies within them.
func (h Hours) Next(t time.Time) time.Time {
	if h.Contains(t) {
		return t
	}
	local := t.In(h.zone)
	for day := range 3 { // a clock that is set may skip the minute that they begin in
		begins := time.Date(local.Year(), local.Month(), local.Day()+day, int(h.from.Hours()), int(h.from.Minutes())%60, 0,
			0, h.zone)
		for m := range 180 {
			if at := begins.Add(time.Duration(m) * time.Minute); at.After(t) && h.Contains(at) {
				return at
			}
		}
	}
	return t.Add(24 * time.Hour)
}
