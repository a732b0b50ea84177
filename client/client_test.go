package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/core/problem"
)

// answering gives a client of a server that answers each request alike, and the requests
// that came.
func answering(t *testing.T, status int, kind, body string) (*client.Client, *[]*http.Request) {
	var came []*http.Request
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		came = append(came, r)
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(status)
		_, _ = fmt.Fprint(w, body)
	}))
	t.Cleanup(server.Close)
	return client.New(server.URL+"/", "noe_secret"), &came
}

// A refusal keeps what the service says: what is wrong, what to do, and each item of it.
func TestRefusals(t *testing.T) {
	c, came := answering(t, 422, "application/problem+json",
		`{"title":"Unprocessable Entity","status":422,"detail":"The feed file has 2 `+
			`faults.","code":"invalid","remedy":"Correct them.","errors":["line 3: no such field","line 5: no such `+
			`keep"]}`)
	_, err := c.FeedFile(t.Context(), "feed: x", client.Check)
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	require.Equal(t, client.Error{Status: 422, Code: "invalid", Detail: "The feed file has 2 faults.",
		Remedy: "Correct them.", Errors: []string{"line 3: no such field", "line 5: no such keep"}}, *refused)
	require.EqualError(t, err, "The feed file has 2 faults. Correct them.")
	require.Equal(t, "Bearer noe_secret", (*came)[0].Header.Get("Authorization"))
	require.Equal(t, "/api/v1/feed-files", (*came)[0].URL.Path)
}

// What answers may be something else altogether.
func TestWhatIsNoNoemata(t *testing.T) {
	c, _ := answering(t, 502, "text/html", "<h1>Bad Gateway</h1>")
	_, err := c.About(t.Context())
	require.ErrorContains(t, err, "answered 502 Bad Gateway")
	c, _ = answering(t, 200, "text/html", "<h1>Welcome</h1>")
	_, err = c.About(t.Context())
	require.ErrorContains(t, err, "Is it a Noemata service")
	for address, want := range map[string]problem.Code{"http://127.0.0.1:1": problem.Unreachable,
		"http://[::1": problem.Invalid, "127.0.0.1:8420": problem.Invalid} {
		_, err = client.New(address, "noe_secret").About(t.Context())
		require.Equal(t, want, problem.Of(err).Code, "%s: %v", address, err)
		require.ErrorContains(t, err, address)
		require.NotContains(t, err.Error(), "noe_secret")
	}
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err = client.New("http://127.0.0.1:1", "").About(stopped)
	require.ErrorIs(t, err, context.Canceled)
}

// Names and keys come through whatever they hold.
func TestOddNamesInPaths(t *testing.T) {
	c, came := answering(t, 200, "application/json", `{}`)
	odd := "a/b?c=d #é%2F\"'"
	_, err := c.Versions(t.Context(), "live", odd, []string{odd, "", "&x=y"})
	require.NoError(t, err)
	require.NoError(t, c.RemoveFeed(t.Context(), odd))
	first, second := (*came)[0].URL, (*came)[1].URL
	require.Equal(t, "/api/v1/feeds/live/versions", first.Path)
	require.Equal(t, []string{odd}, first.Query()["table"])
	require.Equal(t, []string{odd, "", "&x=y"}, first.Query()["key"])
	require.Equal(t, "/api/v1/feeds/"+odd, second.Path)
}

// Events come one by one; whoever listens decides when it is enough, and learns of an end.
func TestEvents(t *testing.T) {
	c, _ := answering(t, 200, "text/event-stream",
		": listening\n\ndata: {\"kind\":\"run\",\"feed\":\"live\",\"state\":\"done\"}\n\n: still here\n\ndata: "+
			"{\"kind\":\"feed\",\"feed\":\"lake\"}\n\n")
	var heard []string
	err := c.Events(t.Context(), func(e client.Event) error {
		heard = append(heard, e.Kind+" "+e.Feed+e.State)
		return nil
	})
	require.Equal(t, []string{"run livedone", "feed lake"}, heard)
	require.True(t, problem.Is(err, problem.Unreachable), "%v", err)
	require.ErrorContains(t, err, "ended the stream of events")
	enough := errors.New("enough")
	require.ErrorIs(t, c.Events(t.Context(), func(client.Event) error { return enough }), enough)
	c, _ = answering(t, 200, "text/event-stream", "data: {odd\n\n")
	require.ErrorContains(t, c.Events(t.Context(), func(client.Event) error { return nil }), "read an event")

	silent := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(200)
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}))
	defer silent.Close()
	short, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	require.ErrorIs(t, client.New(silent.URL, "").Events(short, func(client.Event) error { return nil }),
		context.DeadlineExceeded)
}
