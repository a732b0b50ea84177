package alerts

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/compare"
	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/records"
)

// What needs a person is found once, of whatever it is about; what is only late by intent is not.
func TestFindsWhatNeedsAPerson(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	long := now.Add(-2 * time.Hour)
	trouble := &records.Problem{What: "The table is gone.", Remedy: "Make it."}
	feeds := []records.FeedStatus{
		{Name: "fine", State: "active", Tables: []records.TableStatus{{Table: "a", State: "current", CompleteAt: &now}}},
		{Name: "loans", State: "active", LastRun: &records.Run{State: "failed", Problem: trouble},
			Tables: []records.TableStatus{
				{Table: "held", State: "held", Problem: trouble}, {Table: "failing", State: "failing", Problem: trouble},
				{Table: "late", State: "behind", LastRunAt: &long, CompleteAt: &long},
				{Table: "unequal", State: "unequal", Proof: &records.Proof{Result: compare.Result{Differing: 2, Missing: 1}}}}},
		{Name: "paused", State: "paused", Tables: []records.TableStatus{{Table: "b", State: "current", CompleteAt: &long}}},
		{Name: "whole", State: "active", LastRun: &records.Run{State: "failed", Problem: trouble}},
		{Name: "drifted", State: "active", Drift: &drift.Drift{Table: "c", What: "It has phone.", Done: "It was added.",
			At: now.Add(-time.Minute)},
			Tables: []records.TableStatus{{Table: "c", State: "current"}}},
		{Name: "drifted-long-ago", State: "active", Drift: &drift.Drift{Table: "c", What: "It has phone.",
			Done: "It was added.", At: long}},
		{Name: "drifted-held", State: "active", Drift: &drift.Drift{Table: "d", What: "It has phone.", Done: "It is held.",
			At: now},
			Tables: []records.TableStatus{{Table: "d", State: "held", Problem: trouble}}},
		{Name: "log", State: "active", Log: &records.LogStatus{Risk: true, Retained: 5 << 30, Warn: 1 << 30}},
	}
	var said []string
	for _, a := range Find(feeds, now, time.Hour) {
		require.NotEmpty(t, a.What)
		require.NotEmpty(t, a.Remedy, "%+v", a)
		said = append(said, a.Kind+" "+a.Feed+" "+a.About)
	}
	require.Equal(t, []string{"held loans held", "failing loans failing", "late loans late", "lag loans late",
		"unequal loans unequal",
		"failing whole ", "drift drifted c", "held drifted-held d", "log log "}, said)
	require.Len(t, Find(feeds, now, 0), 8, "nobody wants to know of lag")
}

// Nothing is told in quiet hours, also where they go over midnight and a clock is set.
func TestQuietHours(t *testing.T) {
	c := records.Channel{Quiet: "22:00-06:30", Zone: "Europe/Vienna"}
	for at, want := range map[string]bool{"2026-11-26T20:59:00Z": false, "2026-11-26T21:00:00Z": true,
		"2026-11-26T23:30:00Z": true,
		"2026-11-27T05:29:00Z": true, "2026-11-27T05:30:00Z": false, "2026-07-01T20:00:00Z": true,
		"2026-07-01T04:30:00Z": false} {
		moment, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		quiet, err := quietAt(c, moment)
		require.NoError(t, err)
		require.Equal(t, want, quiet, at)
	}
	quiet, err := quietAt(records.Channel{Quiet: "12:00-13:00"}, time.Date(2026, 1, 1, 12, 30, 0, 0, time.UTC))
	require.NoError(t, err)
	require.True(t, quiet)
}

func TestChannelsAreChecked(t *testing.T) {
	mail := records.Channel{Way: "email", Host: "mail.example", From: "noemata@lending.example",
		To: []string{"duty@lending.example"}}
	c, err := Check(mail)
	require.NoError(t, err)
	require.Equal(t, []any{"starttls", 587}, []any{c.TLS, c.Port})
	for field, change := range map[string]func(*records.Channel){
		"kinds": func(c *records.Channel) { c.Kinds = []string{"heldd"} },
		"lag":   func(c *records.Channel) { c.Lag = "soon" },
		"quiet": func(c *records.Channel) { c.Quiet = "at night" },
		"to":    func(c *records.Channel) { c.To = []string{"nobody\r\nBcc: all@lending.example"} },
		"host":  func(c *records.Channel) { c.Host = "" },
		"tls":   func(c *records.Channel) { c.TLS, c.User = "off", "noemata" },
		"url":   func(c *records.Channel) { c.Way, c.URL = "webhook", "file:///etc/passwd" },
	} {
		x := mail
		change(&x)
		_, err := Check(x)
		require.Error(t, err, field)
	}
}

// A channel is told of what it wants to know.
func TestWhatAChannelWants(t *testing.T) {
	lag := 1800.0
	a := records.Alert{Kind: records.AlertLag, Lag: &lag}
	north := feed.Labels{"region": "north"}
	require.False(t, wants(records.Channel{}, a, nil), "nobody asked for lag")
	require.True(t, wants(records.Channel{Lag: "30m"}, a, nil))
	require.False(t, wants(records.Channel{Lag: "31m"}, a, nil))
	held := records.Alert{Kind: records.AlertHeld}
	require.True(t, wants(records.Channel{Kinds: []string{"held"}, Label: "region=north"}, held, north))
	require.False(t, wants(records.Channel{Label: "region=south"}, held, north))
	require.False(t, wants(records.Channel{Kinds: []string{"failing"}}, held, north))
	list := grouped([]records.Alert{{Feed: "a", Kind: "held", About: "1"}, {Feed: "a", Kind: "held", About: "2"},
		{Feed: "b", Kind: "held"}},
		false, func(records.Alert) bool { return true })
	require.Len(t, list, 2)
	require.Equal(t, "Noemata: a waits for a person (2 tables)", list[0].Title())
}
