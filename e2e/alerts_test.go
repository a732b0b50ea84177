package e2e

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// hook stands in for whatever takes messages by HTTP: it keeps those that are signed as they should be.
type hook struct {
	*httptest.Server
	mu       sync.Mutex
	refuses  bool
	messages []message
	wrong    []string
}

type message struct {
	Over, Test bool
	Kind, Feed string
	Alerts     []client.Alert
}

func newHook(t *testing.T, secret string) *hook {
	h := &hook{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		content, _ := io.ReadAll(r.Body)
		sum := hmac.New(sha256.New, []byte(secret))
		sum.Write([]byte(r.Header.Get("Noemata-Time") + "."))
		sum.Write(content)
		if r.Header.Get("Noemata-Signature") != hex.EncodeToString(sum.Sum(nil)) {
			h.wrong = append(h.wrong, string(content))
		}
		if h.refuses {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		var m message
		if json.Unmarshal(content, &m) != nil {
			h.wrong = append(h.wrong, string(content))
		}
		h.messages = append(h.messages, m)
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) refuse(is bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.refuses = is
}

// took waits for a message.
func (h *hook) took(t *testing.T, want func(message) bool) (found message) {
	t.Helper()
	require.Eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		for _, m := range h.messages {
			if want(m) {
				found = m
				return true
			}
		}
		return false
	}, 60*time.Second, 100*time.Millisecond)
	return found
}

func (h *hook) all() []message {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]message{}, h.messages...)
}

// Whoever wants to know is told once of what needs a person, of all tables of a feed together, and when it is over. A
// message that was not taken goes out again.
func TestAlertsAreToldOnceAndWhenTheyAreOver(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY); CREATE TABLE holds (id int PRIMARY KEY); INSERT INTO loans VALUES (1)`)
	s.addWarehouse("target", "duckdb")
	h := newHook(t, "spring tide")
	desk := client.Channel{Name: "desk", Way: "webhook", URL: h.URL + "/noemata", Kinds: []string{"failing", "held"},
		Label: "region=north", Secret: "spring tide"}
	_, err := s.client.AddChannel(t.Context(), desk)
	require.NoError(t, err)
	s.must("channels", "add", "elsewhere", "--url", h.URL+"/elsewhere", "--label", "region=south")
	s.must("channels", "test", "desk")
	require.True(t, h.all()[0].Test)
	h.refuse(true)
	refused, code := s.cli("", "channels", "test", "desk")
	require.Equal(t, 1, code, refused)
	require.Contains(t, refused, "503")
	s.apply("labels: {region: north}\n"+patternFeed, "loans", "every: 1s", "public.*", "whole")
	s.must("feeds", "start", "loans")
	s.finish("loans")
	d.exec(`ALTER TABLE loans RENAME TO l; ALTER TABLE holds RENAME TO h`)
	require.Eventually(t, func() bool { return strings.Contains(s.must("channels", "list"), "failed: ") }, 60*time.Second,
		200*time.Millisecond, "that it is not taken shows")
	h.refuse(false)
	m := h.took(t, func(m message) bool { return m.Feed == "loans" && !m.Over })
	require.NotEmpty(t, m.Alerts)
	for _, a := range m.Alerts {
		require.NotEmpty(t, a.What)
		require.NotEmpty(t, a.Remedy)
	}
	require.Contains(t, s.must("alerts"), "told: desk")
	time.Sleep(12 * time.Second) // one more look
	n := 0
	for _, x := range h.all() {
		if x.Feed == "loans" && x.Kind == m.Kind && !x.Over {
			n++
		}
	}
	require.Equal(t, 1, n, "it is told once, and by the channel that wants it")
	d.exec(`ALTER TABLE l RENAME TO loans; ALTER TABLE h RENAME TO holds`)
	h.took(t, func(m message) bool { return m.Feed == "loans" && m.Over })
	require.Contains(t, s.must("alerts", "--all"), "over ")
	require.Empty(t, h.wrong, "each is signed")
	require.NotContains(t, s.must("channels", "list", "-o", "json"), "spring tide")
	s.must("channels", "change", "desk", "--kinds", "held")
	desk.URL = "http://192.0.2.1/"
	_, err = s.client.ChangeChannel(t.Context(), desk)
	require.NoError(t, err)
	said, code := s.cli("", "channels", "change", "desk", "--url", "http://192.0.2.2/")
	require.Equal(t, 2, code, said)
	require.Contains(t, said, "Give the secret again")
}

// post stands in for a server of e-mail.
type post struct {
	mu      sync.Mutex
	letters []string
	user    string
}

func (p *post) NewSession(*smtp.Conn) (smtp.Session, error) { return &postSession{p}, nil }

type postSession struct{ *post }

func (s *postSession) AuthMechanisms() []string { return []string{sasl.Plain} }
func (s *postSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if password != "a postbox" {
			return smtp.ErrAuthFailed
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.user = user
		return nil
	}), nil
}
func (s *postSession) Mail(string, *smtp.MailOptions) error { return nil }
func (s *postSession) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s *postSession) Data(r io.Reader) error {
	content, err := io.ReadAll(r)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.letters = append(s.letters, string(content))
	return err
}
func (s *postSession) Reset()        {}
func (s *postSession) Logout() error { return nil }

// Alerts go out by e-mail: over TLS that is verified, with a sign-in, and never the password without it.
func TestAlertsByEMail(t *testing.T) {
	certificate, key := testkit.Certificate(t, "localhost")
	pair, err := tls.X509KeyPair(certificate, key)
	require.NoError(t, err)
	file := filepath.Join(testkit.Dir(t), "ca.pem")
	require.NoError(t, os.WriteFile(file, certificate, 0o600))
	p := &post{}
	server := smtp.NewServer(p)
	server.Domain, server.TLSConfig = "localhost", &tls.Config{Certificates: []tls.Certificate{pair}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	port := listener.Addr().(*net.TCPAddr).Port

	stranger := newService(t) // it does not trust the certificate
	mail := client.Channel{Name: "duty", Way: "email", Host: "localhost", Port: port, User: "noemata", Secret: "a postbox",
		From: "noemata@lending.example", To: []string{"duty@lending.example"}}
	_, err = stranger.client.AddChannel(t.Context(), mail)
	require.NoError(t, err)
	_, err = stranger.client.TestChannel(t.Context(), "duty")
	require.ErrorContains(t, err, "certificate")
	require.Empty(t, p.user, "the password was not sent")

	t.Setenv("SSL_CERT_FILE", file)
	s := newService(t)
	_, err = s.client.AddChannel(t.Context(), mail)
	require.NoError(t, err)
	_, err = s.client.TestChannel(t.Context(), "duty")
	require.NoError(t, err)
	require.Equal(t, "noemata", p.user)
	require.Contains(t, p.letters[0], "Subject: Noemata: this channel works")
	mail.Secret = "wrong"
	_, err = s.client.ChangeChannel(t.Context(), mail)
	require.NoError(t, err)
	_, err = s.client.TestChannel(t.Context(), "duty")
	require.ErrorContains(t, err, "The channel duty did not take a message")
}

// In the console a channel is added and tried, and what is wrong with it stands beside the field.
func TestAlertsInTheConsole(t *testing.T) {
	s := newService(t)
	h := newHook(t, "spring tide")
	b := newBrowser(t, s)
	b.signIn(s, "/alerts")
	b.sees("Nothing needs a person", "Nobody is told")
	b.click("Add a channel")
	b.field("Name", "desk")
	b.field("URL", "ftp://alerts.example")
	b.field("Signed with", "spring tide")
	b.press(`//footer//button[contains(., "Add")]`)
	b.sees("is not an address that can be posted to")
	b.fill(".el-dialog .mono input", h.URL)
	b.press(`//footer//button[contains(., "Add")]`)
	b.sees("desk", h.URL)
	b.click("Test")
	require.True(t, h.took(t, func(m message) bool { return m.Test }).Test)
	require.Empty(t, h.wrong)
	b.sees("now")
}
