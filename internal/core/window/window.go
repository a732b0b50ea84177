// Package window decides which stretch of a watermark column a run may read.
//
// A run reads above a low bound, up to a high one. The high bound is the delicate
// side: a transaction that is still open may yet commit rows whose watermark is
// lower than values that are already visible, and a bound above them would jump
// over those rows for good. So the high bound stays below the start of the oldest
// open transaction; where the source does not tell when that was, a bound is
// proposed and used only once every transaction that was open beside it has ended.
package window

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"noemata/internal/core/position"
	"noemata/internal/core/schema"
)

// Moment is the state of a source at one instant of its own clock.
type Moment struct {
	Clock time.Time
	// Open names the transactions that were open, others than our own. A statement that is
	// no transaction yet, but has its time already, is named SESSION?STATEMENT, and what
	// becomes of it SESSION/START.
	Open   []string
	Oldest *time.Time // the earliest start among them; nil when the source does not tell, or none is open
}

// Timed tells whether a watermark of this kind follows the clock.
func Timed(k schema.Kind) bool {
	return k == schema.Date || k == schema.Timestamp || k == schema.TimestampTZ
}

// Usable tells whether a column of this type can be a watermark.
func Usable(t schema.Type) bool {
	switch t.Kind {
	case schema.Int16, schema.Int32, schema.Int64, schema.Text:
		return true
	case schema.Decimal:
		return t.Scale == 0
	}
	return Timed(t.Kind)
}

// Proposal is a high bound that becomes safe when the transactions that were
// open when it was taken have ended.
type Proposal struct {
	High    string
	Waiting []string
}

// Propose gives the highest bound that a watermark may be read up to, as far as
// one look at the source can tell. highest is the largest value visible in the
// table; it bounds watermarks that do not follow the clock, and may be empty for
// those that do. zone is the zone in which watermarks without a zone were written.
func Propose(t schema.Type, m Moment, settle time.Duration, highest string, zone *time.Location) Proposal {
	if !Timed(t.Kind) {
		return Proposal{High: highest, Waiting: m.Open}
	}
	limit := m.Clock.Add(-settle)
	waiting := m.Open
	if m.Oldest != nil {
		waiting = nil
		if m.Oldest.Before(limit) {
			limit = *m.Oldest
		}
	}
	// A transaction may start within the limit's own microsecond.
	limit = limit.Add(-time.Microsecond)
	return Proposal{High: timeBound(t.Kind, limit, zone), Waiting: waiting}
}

// Settled tells whether none of the transactions the proposal waits for is open any more.
// It goes on to wait for those that statements have become.
func (p *Proposal) Settled(m Moment) bool {
	var left []string
	for _, id := range p.Waiting {
		if slices.Contains(m.Open, id) {
			left = append(left, id)
			continue
		}
		if session, _, statement := strings.Cut(id, "?"); statement {
			for _, open := range m.Open {
				if strings.HasPrefix(open, session+"/") {
					left = append(left, open)
				}
			}
		}
	}
	p.Waiting = left
	return len(left) == 0
}

// timeBound writes an instant as a watermark of the given kind.
func timeBound(k schema.Kind, instant time.Time, zone *time.Location) string {
	switch k {
	case schema.TimestampTZ:
		return schema.TimestampTZText(instant.UnixMicro())
	case schema.Timestamp:
		return schema.TimestampText(lowestWallClock(instant.In(zone)))
	default: // a day counts when it is complete
		return schema.DateText(schema.Days(lowestWallClock(instant.In(zone))) - 1)
	}
}

// lowestWallClock is the lowest wall-clock reading, in microseconds, that any
// later instant can still show: where clocks are about to be set back, readings
// that will come a second time are not over yet.
func lowestWallClock(t time.Time) int64 {
	now := wallMicros(t)
	if _, change := t.ZoneBounds(); !change.IsZero() {
		return min(now, wallMicros(change.In(t.Location()))-1)
	}
	return now
}

func wallMicros(t time.Time) int64 {
	_, offset := t.Zone()
	return t.UnixMicro() + int64(offset)*1e6
}

// LookBack is how far below the stored position a run begins: a length of time
// for watermarks that follow the clock, a number for those that count.
type LookBack string

// Check tells whether the look-back fits a watermark of this type.
func (l LookBack) Check(t schema.Type) error {
	_, err := l.Below("", t)
	return err
}

// Measures tells whether it is a length of time or a whole number, whatever the watermark is.
func (l LookBack) Measures() bool {
	d, err := ParseDuration(string(l))
	n, notNumber := strconv.ParseInt(string(l), 10, 64)
	return l == "" || err == nil && d >= 0 || notNumber == nil && n >= 0
}

// Below gives the value that lies the look-back below value.
func (l LookBack) Below(value string, t schema.Type) (string, error) {
	if l == "" || l == "0" {
		return value, nil
	}
	switch {
	case Timed(t.Kind):
		d, err := ParseDuration(string(l))
		if err != nil || d < 0 {
			return "", fmt.Errorf("look_back %q is not a length of time: write it as 90s, 15m, 2h or 3d", l)
		}
		if value == "" {
			return "", nil
		}
		us, err := schema.ParseTimestamp(value)
		if err != nil || us == -schema.InfiniteTime {
			return value, err
		}
		below := us - d.Microseconds()
		switch t.Kind {
		case schema.TimestampTZ:
			return schema.TimestampTZText(below), nil
		case schema.Timestamp:
			return schema.TimestampText(below), nil
		}
		days := d / (24 * time.Hour)
		if d%(24*time.Hour) != 0 {
			days++
		}
		return schema.DateText(schema.Days(us) - int32(days)), nil
	case t.Kind == schema.Text:
		return "", fmt.Errorf("look_back cannot be used with a watermark of type text: there is no distance between texts")
	}
	n, err := strconv.ParseInt(string(l), 10, 64)
	if err != nil || n < 0 {
		return "", fmt.Errorf("look_back %q is not a whole number, and the watermark column is %s", l, t)
	}
	if value == "" {
		return "", nil
	}
	v, err := strconv.ParseInt(value, 10, 64)
	if err != nil {
		return value, nil // a decimal beyond 64 bits: no look-back rather than a wrong one
	}
	return strconv.FormatInt(v-n, 10), nil
}

// ParseDuration reads a length of time; beyond Go's units it knows d for days.
func ParseDuration(s string) (time.Duration, error) {
	if n, err := strconv.Atoi(trimSuffix(s, "d")); err == nil && s != trimSuffix(s, "d") {
		return time.Duration(n) * 24 * time.Hour, nil
	}
	return time.ParseDuration(s)
}

func trimSuffix(s, suffix string) string {
	if n := len(s) - len(suffix); n > 0 && s[n:] == suffix {
		return s[:n]
	}
	return s
}

// Window is the stretch a run reads.
type Window struct {
	Low       position.Position // above this; zero is from the beginning
	Inclusive bool              // the row at Low itself counts too
	High      string            // up to and including this
}

// Empty tells whether the window can hold no row.
func (w Window) Empty(t schema.Type) bool {
	if w.High == "" {
		return true
	}
	if w.Low.IsZero() {
		return false
	}
	c := position.Compare(position.Position{Value: w.Low.Value}, position.Position{Value: w.High}, t)
	if w.Inclusive || w.Low.After != nil {
		return c > 0
	}
	return c >= 0
}
