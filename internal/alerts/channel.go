package alerts

import (
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/window"
	"noemata/internal/records"
)

// Check tells what is wrong with a channel, and completes it.
func Check(c records.Channel) (records.Channel, error) {
	wrong := func(field, remedy, format string, args ...any) error {
		return problem.Newf(problem.Invalid, remedy, format, args...).In(field)
	}
	for _, k := range c.Kinds {
		if !slices.Contains(records.AlertKinds, k) {
			return c, wrong("kinds", "Choose among "+strings.Join(records.AlertKinds, ", ")+".",
				"There are no alerts of the kind %q.", k)
		}
	}
	if _, err := bound(c); err != nil {
		return c, wrong("lag", "Write it as 15m, 2h or 1d.", "%q is not a length of time.", c.Lag)
	}
	if _, err := quietAt(c, time.Now()); err != nil {
		return c, wrong("quiet", "Write it as 22:00-06:30, and the zone as Europe/Vienna.",
			"The quiet hours %q %s cannot be read: %v.",
			c.Quiet, c.Zone, err)
	}
	if c.Way == "webhook" {
		u, err := url.Parse(c.URL)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
			return c, wrong("url", "Write it as https://alerts.example/noemata, without a user.",
				"%q is not an address that can be posted to.",
				c.URL)
		}
		c.Host, c.Port, c.TLS, c.User, c.From, c.To = "", 0, "", "", "", nil
		return c, nil
	}
	c.URL = ""
	if c.TLS == "" {
		c.TLS = "starttls"
	}
	if c.Port == 0 {
		c.Port = map[string]int{"always": 465, "starttls": 587, "off": 25}[c.TLS]
	}
	switch {
	case c.Host == "":
		return c, wrong("host", "Give the server that messages are handed to.", "E-mail needs a server.")
	case c.TLS == "off" && c.User != "":
		return c, wrong("tls", "Choose starttls or always, or leave the user out.", "A password is not sent in the clear.")
	case len(c.To) == 0:
		return c, wrong("to", "Give at least one address.", "E-mail needs a receiver.")
	}
	for _, x := range append([]string{c.From}, c.To...) {
		if _, err := mail.ParseAddress(x); err != nil {
			return c, wrong("to", "Write it as person@lending.example.", "%q is not an address of e-mail.", x)
		}
	}
	return c, nil
}

// bound is the lag from which on a channel is told; zero for never.
func bound(c records.Channel) (time.Duration, error) {
	if c.Lag == "" {
		return 0, nil
	}
	d, err := window.ParseDuration(c.Lag)
	if err == nil && d <= 0 {
		err = fmt.Errorf("%s is no length of time", c.Lag)
	}
	return d, err
}

// quietAt tells whether nothing is told at a moment.
func quietAt(c records.Channel, now time.Time) (bool, error) {
	hours, err := window.ParseHours(c.Quiet, c.Zone)
	return err == nil && !hours.Always() && hours.Contains(now), err
}

// wants tells whether a channel is told of an alert.
func wants(c records.Channel, a records.Alert, labels feed.Labels) bool {
	if len(c.Kinds) > 0 && !slices.Contains(c.Kinds, a.Kind) || c.Label != "" && !labels.Has(c.Label) {
		return false
	}
	if a.Kind == records.AlertLag {
		least, err := bound(c)
		return err == nil && least > 0 && a.Lag != nil && *a.Lag >= least.Seconds()
	}
	return true
}
