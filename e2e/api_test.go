package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
)

// request sends a request as given and reads the answer whole.
func (s *service) request(method, path, body string, header map[string]string) (*http.Response, string) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.address+path, strings.NewReader(body))
	require.NoError(s.t, err)
	for k, v := range header {
		r.Header.Set(k, v)
	}
	answer, err := (&http.Client{Timeout: 3 * time.Minute}).Do(r)
	require.NoError(s.t, err, "%s %s", method, path)
	defer func() { _ = answer.Body.Close() }()
	content, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	return answer, string(content)
}

func TestSignIn(t *testing.T) {
	s := newService(t)
	jsonType := map[string]string{"Content-Type": "application/json"}
	for _, path := range []string{"/api/v1/feeds", "/api/v1/events", "/api/v1/nothing", "/metrics"} {
		answer, body := s.request("GET", path, "", nil)
		require.Equal(t, http.StatusUnauthorized, answer.StatusCode, path)
		require.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), body)
	}
	answer, _ := s.request("POST", "/api/v1/session", `{"token":"`+s.token+`"}`, jsonType)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	cookie := answer.Header.Get("Set-Cookie")
	for _, part := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		require.Contains(t, cookie, part)
	}
	session, _, _ := strings.Cut(cookie, ";")
	answer, _ = s.request("GET", "/api/v1/feeds", "", map[string]string{"Cookie": session})
	require.Equal(t, http.StatusOK, answer.StatusCode)

	// Another site's page cannot make changes in the name of someone signed in.
	for _, foreign := range []map[string]string{{"Sec-Fetch-Site": "cross-site"}, {"Sec-Fetch-Site": "same-site"},
		{"Origin": "https://elsewhere.example"}} {
		foreign["Cookie"], foreign["Content-Type"] = session, "application/json"
		answer, body := s.request("POST", "/api/v1/tokens", `{"name":"thief"}`, foreign)
		require.Equal(t, http.StatusForbidden, answer.StatusCode, body)
	}
	answer, _ = s.request("POST", "/api/v1/tokens", `{"name":"me"}`,
		map[string]string{"Cookie": session, "Sec-Fetch-Site": "same-origin", "Content-Type": "application/json"})
	require.Equal(t, http.StatusCreated, answer.StatusCode)
	answer, _ = s.request("DELETE", "/api/v1/session", "",
		map[string]string{"Cookie": session, "Sec-Fetch-Site": "same-origin"})
	require.Less(t, answer.StatusCode, 300)
	answer, _ = s.request("GET", "/api/v1/feeds", "", map[string]string{"Cookie": session})
	require.Equal(t, http.StatusUnauthorized, answer.StatusCode, "signed out")

	statuses := map[int]int{}
	for range 15 {
		answer, _ := s.request("POST", "/api/v1/session", `{"token":"noe_guess"}`, jsonType)
		statuses[answer.StatusCode]++
	}
	require.Equal(t, map[int]int{http.StatusUnauthorized: 10, http.StatusTooManyRequests: 5}, statuses)
}

func TestTheApiDescribesItself(t *testing.T) {
	s := newService(t)
	answer, served := s.request("GET", "/openapi.json", "", nil)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	kept, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	require.JSONEq(t, string(kept), served, "docs/openapi.json is not current: bin/noemata openapi > docs/openapi.json")
	schema, err := os.ReadFile("../docs/feed-file.schema.json")
	require.NoError(t, err)
	require.JSONEq(t, string(schema), s.must("feeds", "schema"),
		"docs/feed-file.schema.json is not current: bin/noemata feeds schema > docs/feed-file.schema.json")
	var described struct {
		OpenAPI string
		Paths   map[string]any
	}
	require.NoError(t, json.Unmarshal([]byte(served), &described))
	require.True(t, strings.HasPrefix(described.OpenAPI, "3.1"))
	require.Greater(t, len(described.Paths), 25)

	for path, want := range map[string]string{"/healthz": "ok\n", "/readyz": "ready\n"} {
		answer, body := s.request("GET", path, "", nil)
		require.Equal(t, http.StatusOK, answer.StatusCode)
		require.Equal(t, want, body)
	}
	answer, page := s.request("GET", "/feeds/any", "", nil)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	require.Contains(t, page, `<div id="app">`, "every page of the console is served; build it with make console")
	require.Contains(t, answer.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
}

// Requests that are wrong are refused without repeating what may be secret.
func TestRefusalsKeepSecrets(t *testing.T) {
	s := newService(t)
	header := map[string]string{"Authorization": "Bearer " + s.token, "Content-Type": "application/json"}
	for _, body := range []string{
		`{"name":"x","kind":"postgresql","settings":{"host":"h","port":"hunter2"}}`,
		`{"name":"x","kind":"postgresql","password":"hunter2"}`,
		`{"name":"x","kind":"postgresql","url":"postgresql://u:hunter2@h:bad/d"}`,
		`{"name":"x","kind":"postgresql","settings":{"host":"h","password":"hunter2","database":"d"}}`,
		`{"name":"NOT A NAME","kind":"postgresql","url":"postgresql://u:hunter2@h/d"}`,
		`{"name":"x","kind":"abacus","url":"postgresql://u:hunter2@h/d"}`,
	} {
		answer, said := s.request("POST", "/api/v1/sources", body, header)
		require.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, said)
		require.NotContains(t, said, "hunter2")
		var p struct{ Detail, Remedy, Code string }
		require.NoError(t, json.Unmarshal([]byte(said), &p))
		require.NotEmpty(t, p.Detail)
		require.NotEmpty(t, p.Remedy)
	}
	require.NotContains(t, s.stderr.String(), "hunter2")
}

// Whatever a request holds, the service answers it: with what was asked for, or with what is
// wrong and what to do.
//
// Longer than a screen: it is a list of requests.
func TestEveryRequestIsAnswered(t *testing.T) {
	s := newService(t)
	s.addPatrons(100, "duckdb", "")
	s.finish("patrons")
	var described struct {
		Paths map[string]map[string]struct {
			Parameters  []struct{ Name, In string }
			RequestBody any
		}
	}
	_, served := s.request("GET", "/openapi.json", "", nil)
	require.NoError(t, json.Unmarshal([]byte(served), &described))
	texts := []string{"nothing", "0", "-1", "9223372036854775808", "\x00", "../../etc", "ä'\"$(x)%",
		strings.Repeat("x", 3000), "public.patrons", "a.b.c"}
	bodies := []string{"", "{", "[]", "null", "7", `{"odd":1}`, `{"name":7}`,
		`{"name":"\u0000","kind":"\u0000","url":"\u0000"}`, `{"position":"\u0000"}`, `{"yaml":"feed: [\u0000"}`,
		strings.Repeat("[", 50_000), `{"name":"` + strings.Repeat("x", 3<<20) + `"}`}
	header := map[string]string{"Authorization": "Bearer " + s.token, "Content-Type": "application/json"}
	asked := 0
	ask := func(method, path, body string) {
		t.Helper()
		asked++
		answer, said := s.request(method, path, body, header)
		what := method + " " + path[:min(len(path), 120)] + " " + body[:min(len(body), 60)]
		if answer.StatusCode != http.StatusBadGateway { // which is of a source or a warehouse, not of the service
			require.Less(t, answer.StatusCode, 500, "%s: %s", what, said)
		}
		if answer.StatusCode < 400 {
			return
		}
		require.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), what)
		var p struct{ Title, Detail, Remedy, Code string }
		require.NoError(t, json.Unmarshal([]byte(said), &p), "%s: %s", what, said)
		for _, part := range []string{p.Title, p.Detail, p.Remedy, p.Code} {
			require.NotEmpty(t, part, "%s: %s", what, said)
		}
	}
	delete(described.Paths, "/api/v1/events") // which ends with whoever listens: see TestEventsAndMetrics
	for path, methods := range described.Paths {
		for method, call := range methods {
			method = strings.ToUpper(method)
			names := []string{"nothing"}
			if method != "DELETE" && !strings.Contains(path, "/session") {
				names = []string{"patrons", "circulation", "target", "nothing"}
			}
			for _, text := range append(names, texts...) {
				full, query, inPath := path, url.Values{}, false
				for _, p := range call.Parameters {
					switch p.In {
					case "path":
						full, inPath = strings.ReplaceAll(full, "{"+p.Name+"}", url.PathEscape(text)), true
					case "query":
						query.Set(p.Name, text)
						for _, name := range names[:len(names)-1] { // a real name and an odd parameter
							ask(method, strings.ReplaceAll(path, "{name}", name)+"?"+
								url.Values{p.Name: {text}}.Encode(), "")
						}
					}
				}
				if !inPath && len(query) == 0 && text != "nothing" || strings.HasPrefix(full, "/api/v1/tokens/") &&
					method == "DELETE" && text == "0" {
					continue
				}
				if len(query) > 0 {
					full += "?" + query.Encode()
				}
				if call.RequestBody == nil {
					ask(method, full, "")
					continue
				}
				for i, body := range bodies {
					if i < 4 || text == "nothing" || text == "patrons" || text == "circulation" {
						ask(method, full, body)
					}
				}
			}
		}
	}
	require.Greater(t, asked, 500)
	require.NotContains(t, s.stderr.String(), "panic")
	s.proved("patrons", "public.patrons", 100)
}

func TestEventsAndMetrics(t *testing.T) {
	s := newService(t)
	s.addPatrons(100, "duckdb", "")
	heard := make(chan client.Event, 100)
	listening, stop := context.WithCancel(t.Context())
	defer stop()
	go func() {
		_ = s.client.Events(listening, func(e client.Event) error { heard <- e; return nil })
	}()
	time.Sleep(300 * time.Millisecond)
	run := s.finish("patrons")
	seen := map[string]bool{}
	for deadline := time.After(10 * time.Second); !seen["run done"] || !seen["progress reading"]; {
		select {
		case e := <-heard:
			seen[strings.TrimSpace(e.Kind+" "+e.State+e.Phase)] = true
			if e.Kind != "feed" {
				require.Equal(t, run.ID, e.Run)
			}
		case <-deadline:
			t.Fatalf("heard only %v", seen)
		}
	}
	_, metrics := s.request("GET", "/metrics", "", map[string]string{"Authorization": "Bearer " + s.token})
	require.Contains(t, metrics, `noemata_rows_total{feed="patrons",outcome="inserted",table="public.patrons"} 100`)
	require.Contains(t, metrics, `noemata_runs_total{feed="patrons",state="done"} 1`)
}
