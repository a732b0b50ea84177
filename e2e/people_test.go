package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// statusOf makes a call as somebody, and gives the answer's status.
func (s *service) statusOf(token, method, path, body string) int {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.address+path, strings.NewReader(body))
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	require.NoError(s.t, answer.Body.Close())
	return answer.StatusCode
}

// Each call is tried with a token of each role: it is let those who may make it, and nobody else.
func TestEachRoleMakesTheCallsThatItMay(t *testing.T) {
	s := newService(t)
	var described struct {
		Paths map[string]map[string]struct {
			ID   string  `json:"operationId"`
			Role *string `json:"x-role"`
			Body any     `json:"requestBody"`
		}
	}
	content, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(content, &described))
	rank := map[string]int{"look": 1, "operate": 2, "administer": 3}
	tokens := map[string]string{}
	for role := range rank {
		x, err := s.client.AddToken(t.Context(), client.NewToken{Name: "may " + role, Role: client.Role(role)})
		require.NoError(t, err)
		tokens[role] = x.Secret
	}
	calls := 0
	for path, methods := range described.Paths {
		for method, call := range methods {
			require.NotNil(t, call.Role, call.ID)
			if *call.Role == "" {
				require.Contains(t, []string{"/api/v1/session", "/api/v1/sign-in-ways"}, path, "only a sign-in needs none")
				continue
			}
			if call.ID == "events" { // a stream, for whoever is signed in
				continue
			}
			calls++
			for role, token := range tokens {
				body := ""
				if call.Body != nil {
					body = "{}"
				}
				at := strings.NewReplacer("{name}", "nothing", "{id}", "999999", "{revision}", "1").Replace(path)
				status := s.statusOf(token, strings.ToUpper(method), at+"?table=public.nothing", body)
				if rank[role] < rank[*call.Role] {
					require.Equal(t, http.StatusForbidden, status, "%s as %s", call.ID, role)
				} else {
					require.NotContains(t, []int{http.StatusForbidden, http.StatusUnauthorized}, status, "%s as %s", call.ID, role)
				}
			}
		}
	}
	require.Greater(t, calls, 50)
}

// A token may be for the feeds with a label alone, and for a time.
func TestATokenForSomeFeeds(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY); CREATE TABLE holds (id int PRIMARY KEY)`)
	s.addWarehouse("target", "duckdb")
	s.apply("labels: {region: north}\n"+patternFeed, "loans", "", "public.loans", "whole")
	s.apply("labels: {region: south}\n"+patternFeed, "holds", "", "public.holds", "whole")
	south := s.finish("holds")
	x, err := s.client.AddToken(t.Context(), client.NewToken{Name: "north", Role: "operate", Label: "region=north"})
	require.NoError(t, err)
	north := client.New(s.address, x.Secret)
	list, err := north.Feeds(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "loans", list[0].Name)
	_, err = north.StartRun(t.Context(), "loans")
	require.NoError(t, err)
	runs, err := north.Runs(t.Context(), client.RunFilter{})
	require.NoError(t, err)
	for _, r := range runs {
		require.Equal(t, "loans", r.Feed)
	}
	for what, call := range map[string]func() error{
		"another feed":       func() error { _, err := north.Feed(t.Context(), "holds"); return err },
		"its run":            func() error { _, err := north.Run(t.Context(), south.ID); return err },
		"running it":         func() error { _, err := north.StartRun(t.Context(), "holds"); return err },
		"proving it":         func() error { _, err := north.Prove(t.Context(), "holds", "public.holds"); return err },
		"taking it over":     func() error { return applied(north, "labels: {region: north}\n", "holds") },
		"another label":      func() error { return applied(north, "labels: {region: south}\n", "new") },
		"giving one's away":  func() error { return applied(north, "labels: {region: south}\n", "loans") },
		"what all feeds are": func() error { _, err := north.Tokens(t.Context()); return err },
	} {
		require.ErrorContains(t, call(), "The token \"north\"", what)
	}
	require.NoError(t, applied(north, "labels: {region: north}\n", "loans"))

	soon := time.Now().Add(1500 * time.Millisecond)
	x, err = s.client.AddToken(t.Context(), client.NewToken{Name: "brief", Role: "look", ExpiresAt: &soon})
	require.NoError(t, err)
	require.Equal(t, 200, s.statusOf(x.Secret, "GET", "/api/v1/feeds", ""))
	require.Eventually(t, func() bool { return s.statusOf(x.Secret, "GET", "/api/v1/feeds", "") == 401 }, 10*time.Second,
		100*time.Millisecond)
}

func applied(c *client.Client, labels, name string) error {
	_, err := c.FeedFile(context.Background(), fmt.Sprintf(labels+patternFeed, name, "", "public.loans", "whole"),
		client.Apply)
	return err
}

// Whoever changes something is on record, with what it was before and after; so is what was not allowed. No
// secret is in it, and nothing of it can be changed.
func TestEachChangeIsOnRecord(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY)`)
	s.addWarehouse("target", "duckdb")
	s.apply(patternFeed, "loans", "every: 1h", "public.loans", "whole")
	s.apply(patternFeed, "loans", "every: 2h", "public.loans", "whole")
	s.must("feeds", "check", "-h")
	settings := d.settings
	settings.Password = "not to be seen"
	_, err := s.client.ChangeConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "circulation", Kind: "postgresql", Settings: &settings})
	require.NoError(t, err)
	x, err := s.client.AddToken(t.Context(), client.NewToken{Name: "reader", Role: "look"})
	require.NoError(t, err)
	require.Equal(t, 403, s.statusOf(x.Secret, "POST", "/api/v1/feeds/loans/start", ""))
	require.NoError(t, s.client.RemoveToken(t.Context(), x.ID))
	require.NoError(t, s.client.RemoveFeed(t.Context(), "loans"))

	list, err := s.client.Changes(t.Context(), client.ChangeFilter{Limit: 100})
	require.NoError(t, err)
	all, err := json.Marshal(list)
	require.NoError(t, err)
	require.NotContains(t, string(all), "not to be seen")
	require.NotContains(t, string(all), x.Secret)
	var said []string
	for _, m := range list {
		require.NotEmpty(t, m.By)
		require.Equal(t, "127.0.0.1", m.Address)
		said = append(said, fmt.Sprintf("%s %s %d", m.Operation, m.About, m.Status))
	}
	require.Subset(t, said, []string{"remove-feed feed loans 204", "start-feed feed loans 403",
		"change-source source circulation 200",
		"apply-feed-file feed loans 200", "add-source source circulation 201", "add-token token reader 201"})
	about, err := s.client.Changes(t.Context(), client.ChangeFilter{About: "feed loans", By: "first administrator"})
	require.NoError(t, err)
	require.Len(t, about, 3, "a check is no change")
	require.Contains(t, string(about[1].Before), "1h")
	require.Contains(t, string(about[1].After), "2h")
	require.Empty(t, about[0].After, "it is removed")
	require.Contains(t, s.must("changes", "--about", "feed loans"), "not allowed")
}

// In the console a token is made for a role, and what happened is on record.
func TestPeopleInTheConsole(t *testing.T) {
	s := newService(t)
	b := newBrowser(t, s)
	b.signIn(s, "/people")
	b.sees("first administrator", "Sign-ins of the console")
	b.click("Make a token")
	b.field("Name", "Tamsin Orrel")
	b.choose("Role", "look: sees feeds, runs, proofs and what is wrong")
	b.field("For feeds with", "region=north")
	b.click("Make it")
	b.sees("It is shown this once")
	made := regexp.MustCompile(`noe_[A-Z0-9]+`).FindString(b.text())
	b.click("I have kept it")
	b.do(chromedp.WaitNotPresent(chromedp.CSS("p.made")))
	b.sees("Tamsin Orrel", "with region=north", "add token", "token Tamsin Orrel")
	require.Equal(t, 200, s.statusOf(made, "GET", "/api/v1/feeds", ""))
	require.Equal(t, 403, s.statusOf(made, "POST", "/api/v1/feed-files", `{"file": "feed: x"}`))
	require.NotContains(t, b.text(), made, "it is shown no more")
}

// A position is set back by a length of time, what that means is counted beforehand, and who did it is on record.
func TestAPositionIsSetBack(t *testing.T) {
	s := newService(t)
	s.loansIntoPostgres("")
	before, err := s.client.Positions(t.Context(), "loans")
	require.NoError(t, err)
	said := s.must("positions", "set", "loans", "public.loans", "--back", "2h", "--dry-run")
	require.Contains(t, said, "500 rows of the source would be read again.")
	now, err := s.client.Positions(t.Context(), "loans")
	require.NoError(t, err)
	require.Equal(t, before, now, "nothing was changed")
	require.Contains(t, s.must("positions", "set", "loans", "public.loans", "--back", "2h"),
		"500 rows of the source are read again.")
	require.Equal(t, int64(500), s.finish("loans").Books.Read)
	said, code := s.cli("", "positions", "set", "loans", "public.loans", "--back", "never")
	require.Equal(t, 2, code, said)
	_, code = s.cli("", "positions", "set", "loans", "public.loans")
	require.Equal(t, 2, code)
	list, err := s.client.Changes(t.Context(), client.ChangeFilter{About: "feed loans"})
	require.NoError(t, err)
	done := slices.DeleteFunc(list, func(m client.ChangeMade) bool {
		return m.Operation != "set-position" ||
			m.Status != 200
	})
	require.Len(t, done, 1)
	require.Contains(t, string(done[0].Asked), "2h")
	require.NotEqual(t, string(done[0].Before), string(done[0].After))
}

// A feed that follows a log is set forward while it is paused, and back as far as the source keeps the log: what was left
// out comes then, and what had come comes to the same. It is not set beyond the end, or while it runs.
func TestALogIsSetForwardAndBack(t *testing.T) {
	for _, kind := range []string{"postgresql", "mariadb"} {
		t.Run(kind, func(t *testing.T) {
			s := newService(t)
			s.addWarehouse("target", "duckdb")
			table := "public.loans"
			var exec func(sql string)
			if kind == "postgresql" {
				d := s.addSource("library")
				exec = func(sql string) { d.exec(sql) }
			} else {
				settings, db := testkit.MariaDatabase(t)
				_, err := s.client.AddConnection(t.Context(), client.Sources,
					client.NewConnection{Name: "library", Kind: kind, Settings: &settings})
				require.NoError(t, err)
				table = settings.Database + ".loans"
				exec = func(sql string) {
					t.Helper()
					_, err := db.Exec(sql)
					require.NoError(t, err, sql)
				}
			}
			exec(`CREATE TABLE loans (id int PRIMARY KEY, copy varchar(20))`)
			exec(`INSERT INTO loans VALUES (1, 'C1'), (2, 'C2')`)
			s.apply("feed: live\nsource: library\nwarehouse: target\nfreshness: continuous\ntarget: kept.loans\n"+
				"retain: {behind: 10m}\ntables:\n  - {table: %s, find: log, keep: history}\n", table)
			_, err := s.client.SetPosition(t.Context(), "live", table, client.Move{Position: "end"})
			require.ErrorContains(t, err, "has no position in the log yet")
			_, err = s.client.StartFeed(t.Context(), "live")
			require.NoError(t, err)
			follows := func(n int64) { t.Helper(); s.holds("live", table, n) }
			follows(2)
			require.Eventually(t, func() bool {
				_, err := s.client.SetPosition(t.Context(), "live", table, client.Move{Position: "end"})
				return err != nil && strings.Contains(err.Error(), "follows its log now")
			}, 10*time.Second, 100*time.Millisecond)
			s.pause("live")
			exec(`INSERT INTO loans VALUES (3, 'left out')`)
			require.Regexp(t, `B of the log would be read by no run`,
				s.must("positions", "set", "live", table, "end", "--dry-run"))
			out := s.must("positions", "set", "live", table, "end")
			require.Regexp(t, `The position of \S+ is .+, and was .+ B of the log are read by no run`, out)
			_, err = s.client.SetPosition(t.Context(), "live", table, client.Move{Back: "2h"})
			require.ErrorContains(t, err, "It is not known where the feed live was so long ago")
			exec(`INSERT INTO loans VALUES (4, 'follows')`)
			_, err = s.client.StartFeed(t.Context(), "live")
			require.NoError(t, err)
			follows(3)
			p, err := s.client.Prove(t.Context(), "live", table)
			require.NoError(t, err)
			require.Equal(t, int64(1), p.Missing)
			s.pause("live")
			if kind == "postgresql" {
				said, code := s.cli("", "positions", "set", "live", table, "0/1")
				require.Equal(t, 1, code)
				require.Contains(t, said, "The source keeps the log from")
				require.Contains(t, said, "retain: {behind: 6h}")
			}
			require.Regexp(t, `B of the log would be read again`,
				s.must("positions", "set", "live", table, "--back", "100ms", "--dry-run"))
			require.Regexp(t, `B of the log are read again`, s.must("positions", "set", "live", table, "--back", "100ms"))
			_, err = s.client.StartFeed(t.Context(), "live")
			require.NoError(t, err)
			follows(4)
			s.proved("live", table, 4)
			v, err := s.client.Versions(t.Context(), "live", table, []string{"4"})
			require.NoError(t, err)
			require.Len(t, v.Versions, 1, "what had come")
			changes, err := s.client.Changes(t.Context(), client.ChangeFilter{About: "feed live"})
			require.NoError(t, err)
			require.True(t, slices.ContainsFunc(changes, func(c client.ChangeMade) bool { return c.Operation == "set-position" && c.Status == 200 }))
		})
	}
}
