// Package clock says when work is done by the clock: with a pause in between, or at times of day.
package clock

import (
	"cmp"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"noemata/internal/core/window"
)

// Times say when something is done. Where nothing is said, the clock has no part in it.
type Times struct {
	Every string `json:"every,omitempty" yaml:"every,omitempty" doc:"The pause from one time to the next, as 10s, 15m or 2h"`
	Cron  string `json:"cron,omitempty" yaml:"cron,omitempty" doc:"When, as five cron fields, instead of every"`
	Zone  string `json:"zone,omitempty" yaml:"zone,omitempty" doc:"The time zone that cron is read in; UTC when left out"`
}

// Said tells whether the clock has a part in it.
func (t Times) Said() bool { return t.Every != "" || t.Cron != "" }

// Next is the first time after one that ended at a moment; ok is false where there is none.
func (t Times) Next(ended time.Time) (next time.Time, ok bool) {
	if t.Every != "" {
		d, err := window.ParseDuration(t.Every)
		return ended.Add(d), err == nil
	}
	if t.Cron == "" {
		return time.Time{}, false
	}
	s, err := t.schedule()
	if err != nil {
		return time.Time{}, false
	}
	next = s.Next(ended)
	return next, !next.IsZero()
}

// Words say when, in words.
func (t Times) Words() string {
	if t.Every != "" {
		return "every " + t.Every
	}
	return strings.TrimSpace("cron " + t.Cron + " " + t.Zone)
}

// Check tells what is wrong, with the field that it is in, of those that begin with at.
func (t Times) Check(at string, fault func(path, format string, args ...any)) {
	if t.Every != "" && t.Cron != "" {
		fault(at+"cron", "Give every or cron, not both.")
	}
	if d, err := window.ParseDuration(t.Every); t.Every != "" && (err != nil || d < time.Second) {
		fault(at+"every", "%q is not a pause of a second or more: write it as 10s, 15m, 2h or 1d.", t.Every)
	}
	if _, err := time.LoadLocation(t.Zone); err != nil {
		fault(at+"zone", "%q is not a time zone: write it as Europe/Berlin.", t.Zone)
		return
	}
	if t.Cron == "" {
		return
	}
	if s, err := t.schedule(); err != nil {
		fault(at+"cron", "%q is not a cron schedule of five fields: %v.", t.Cron, err)
	} else if s.Next(time.Unix(0, 0)).IsZero() {
		fault(at+"cron", "%q names a day that never comes.", t.Cron)
	}
}

func (t Times) schedule() (cron.Schedule, error) {
	return cron.ParseStandard("CRON_TZ=" + cmp.Or(t.Zone, "UTC") + " " + t.Cron)
}
