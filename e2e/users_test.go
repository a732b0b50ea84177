package e2e

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"math/big"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"crypto"

	"noemata/client"
)

// People sign in by name and password, may what their role lets them, and are signed in nowhere once the password is
// another or they are removed. Guessing is slow.
func TestPeopleSignInByName(t *testing.T) {
	s := newService(t)
	s.addPatrons(1, "duckdb", "")
	const secret = "herons over the weir"
	out, code := s.cli(secret+"\n", "users", "add", "maren", "--role", "operate", "--password-stdin")
	require.Zero(t, code, out)
	require.NotContains(t, s.must("users", "list", "--output", "json"), secret)
	for _, wrong := range []client.NewUser{{Name: "kurz", Role: "look", Password: "short"},
		{Name: "long", Role: "look", Password: strings.Repeat("x", 73)},
		{Name: "maren", Role: "look", Password: secret},
		{Name: "all", Role: "administer", Label: "region", Password: secret}, {Name: "none", Role: "look"}} {
		_, err := s.client.AddUser(t.Context(), wrong)
		require.Error(t, err, wrong.Name)
	}
	enter := func(name, password string) (*http.Client, int) {
		t.Helper()
		jar, _ := cookiejar.New(nil)
		c := &http.Client{Jar: jar}
		body, _ := json.Marshal(map[string]string{"user": name, "password": password})
		answer, err := c.Post(s.address+"/api/v1/session", "application/json", strings.NewReader(string(body)))
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return c, answer.StatusCode
	}
	get := func(c *http.Client, path string) int {
		t.Helper()
		answer, err := c.Get(s.address + path)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	maren, code := enter("maren", secret)
	require.Equal(t, 200, code)
	require.Equal(t, 200, get(maren, "/api/v1/feeds"))
	require.Equal(t, 403, get(maren, "/api/v1/users"))
	sessions, err := s.client.Sessions(t.Context())
	require.NoError(t, err)
	require.Equal(t, "maren", sessions[0].Token)
	request, _ := http.NewRequest("POST", s.address+"/api/v1/feeds/patrons/start", nil)
	answer, err := maren.Do(request)
	require.NoError(t, err)
	require.Equal(t, 200, answer.StatusCode)
	changes, err := s.client.Changes(t.Context(), client.ChangeFilter{By: "maren"})
	require.NoError(t, err)
	require.Equal(t, "start-feed", changes[0].Operation)
	all, err := s.client.Changes(t.Context(), client.ChangeFilter{})
	require.NoError(t, err)
	content, _ := json.Marshal(all)
	require.NotContains(t, string(content), "herons", "a password is on no record")

	_, err = s.client.ChangeUser(t.Context(), client.NewUser{Name: "maren", Role: "look"})
	require.NoError(t, err)
	request, _ = http.NewRequest("POST", s.address+"/api/v1/feeds/patrons/pause", nil)
	answer, err = maren.Do(request)
	require.NoError(t, err)
	require.Equal(t, 403, answer.StatusCode, "a role counts at once")
	_, err = s.client.ChangeUser(t.Context(), client.NewUser{Name: "maren", Role: "look",
		Password: "otters under the weir"})
	require.NoError(t, err)
	require.Equal(t, 401, get(maren, "/api/v1/feeds"), "sign-ins with the password before end")
	maren, code = enter("maren", "otters under the weir")
	require.Equal(t, 200, code)
	s.must("users", "remove", "maren")
	require.Equal(t, 401, get(maren, "/api/v1/feeds"))

	limited := 0
	for range 15 {
		if _, code := enter("nobody", secret); code == 429 {
			limited++
		} else {
			require.Equal(t, 401, code)
		}
	}
	require.Positive(t, limited, "guessing is slow")
}

// provider stands in for an OpenID Connect provider, which cannot be had here: it signs in whoever asks, as the
// person that the test names, by the code flow (OpenID Connect Core 1.0, 3.1) with RFC 7636.
type provider struct {
	*httptest.Server
	key    *rsa.PrivateKey
	mu     sync.Mutex
	claims map[string]any
	asked  map[string]url.Values // by code: what was asked for
	forge  bool                  // sign with another key
}

func newProvider(t *testing.T) *provider {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p := &provider{key: key, asked: map[string]url.Values{}}
	mux := http.NewServeMux()
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	reply := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize",
			"token_endpoint": p.URL + "/token",
			"jwks_uri":       p.URL + "/keys", "id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, map[string]any{"keys": []any{map[string]string{"kty": "RSA", "alg": "RS256", "use": "sig", "kid": "1",
			"n": base64.RawURLEncoding.EncodeToString(key.N.Bytes()),
			"e": base64.RawURLEncoding.EncodeToString(big.NewInt(int64(key.E)).Bytes())}}})
	})
	mux.HandleFunc("/authorize", func(w http.ResponseWriter, r *http.Request) {
		code := rand.Text()
		p.mu.Lock()
		p.asked[code] = r.URL.Query()
		p.mu.Unlock()
		http.Redirect(w, r, r.URL.Query().Get("redirect_uri")+"?"+url.Values{"code": {code},
			"state": {r.URL.Query().Get("state")}}.Encode(), http.StatusSeeOther)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		asked := p.asked[r.FormValue("code")]
		delete(p.asked, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if asked == nil || asked.Get("code_challenge") != base64.RawURLEncoding.EncodeToString(sum[:]) {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		claims := map[string]any{"iss": p.URL, "aud": "noemata", "exp": time.Now().Add(time.Hour).Unix(),
			"iat": time.Now().Unix(), "nonce": asked.Get("nonce")}
		for name, value := range p.claims {
			claims[name] = value
		}
		reply(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": p.sign(claims)})
	})
	return p
}

// sign makes a JSON Web Token (RFC 7519) with RS256.
func (p *provider) sign(claims map[string]any) string {
	head, _ := json.Marshal(map[string]string{"alg": "RS256", "kid": "1"})
	body, _ := json.Marshal(claims)
	text := base64.RawURLEncoding.EncodeToString(head) + "." + base64.RawURLEncoding.EncodeToString(body)
	sum := sha256.Sum256([]byte(text))
	key := p.key
	if p.forge {
		key, _ = rsa.GenerateKey(rand.Reader, 2048)
	}
	signature, _ := rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA256, sum[:])
	return text + "." + base64.RawURLEncoding.EncodeToString(signature)
}

// is says whom the provider signs in from now on.
func (p *provider) is(claims map[string]any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims = claims
}

// People whom a provider signs in may what their groups let them; whoever is in none, and answers that are not the
// provider's, or not to the question that was asked, let nobody in. Longer than a screen: it is one story after
// another.
func TestPeopleSignInElsewhere(t *testing.T) {
	p := newProvider(t)
	t.Setenv("NOEMATA_OIDC_SECRET", "of the client")
	s := newService(t)
	s.stopNow()
	s.listen = strings.TrimPrefix(s.address, "http://")
	s.flags = []string{"--oidc-issuer", p.URL, "--oidc-client", "noemata", "--oidc-name", "the region's account",
		"--public-url", s.address,
		"--oidc-group", "administer=keepers", "--oidc-group", "operate@region=north=northern", "--oidc-group", "look=staff"}
	s.start()
	enter := func() (*http.Client, string) {
		t.Helper()
		jar, _ := cookiejar.New(nil)
		c := &http.Client{Jar: jar}
		answer, err := c.Get(s.address + "/sign-in/away?to=" + url.QueryEscape("/runs"))
		require.NoError(t, err)
		defer func() { _ = answer.Body.Close() }()
		return c, answer.Header.Get("Refresh") + answer.Request.URL.Query().Get("refused")
	}
	who := func(c *http.Client) (client.Token, int) {
		t.Helper()
		answer, err := c.Get(s.address + "/api/v1/session")
		require.NoError(t, err)
		defer func() { _ = answer.Body.Close() }()
		var token client.Token
		content, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		_ = json.Unmarshal(content, &token)
		return token, answer.StatusCode
	}
	p.is(map[string]any{"sub": "17", "email": "fjora@lending.example", "groups": []string{"staff", "northern"}})
	c, to := enter()
	require.Equal(t, "0; url=/runs", to)
	token, code := who(c)
	require.Equal(t, 200, code)
	require.Equal(t, "fjora@lending.example", token.Name)
	require.Equal(t, "operate", string(token.Role))
	require.Equal(t, "region=north", token.Label)
	p.is(map[string]any{"sub": "17", "email": "fjora@lending.example", "groups": "keepers"})
	c, _ = enter()
	token, _ = who(c)
	require.Equal(t, "administer", string(token.Role), "the next sign-in takes in what has changed")
	users, err := s.client.Users(t.Context())
	require.NoError(t, err)
	require.Len(t, users, 1)
	require.True(t, users[0].Elsewhere)
	_, err = s.client.ChangeUser(t.Context(), client.NewUser{Name: users[0].Name, Role: "look"})
	require.ErrorContains(t, err, "A provider signs")

	refused := func(says string) {
		t.Helper()
		c, said := enter()
		require.Contains(t, said, says)
		_, code := who(c)
		require.Equal(t, 401, code)
	}
	p.is(map[string]any{"sub": "18", "email": "visitor@elsewhere.example", "groups": []string{"visitors"}})
	refused("is in no group that may do something here")
	p.is(map[string]any{"sub": "19", "email": "fjora@lending.example", "groups": []string{"staff"}})
	refused("Another person is called")
	for what, claims := range map[string]map[string]any{"aud": {"aud": "another"},
		"iss": {"iss": "https://elsewhere.example"},
		"exp": {"exp": time.Now().Add(-time.Hour).Unix()}, "nonce": {"nonce": "of another question"}} {
		claims["sub"], claims["groups"] = "20", []string{"keepers"}
		p.is(claims)
		t.Log(what)
		refused("cannot be believed")
	}
	p.is(map[string]any{"sub": "20", "groups": []string{"keepers"}})
	p.forge = true
	refused("cannot be believed")
	p.forge = false
	for _, path := range []string{"/sign-in/back?code=x&state=y", "/sign-in/back",
		"/sign-in/back?error=access_denied&state="} {
		answer, err := http.Get(s.address + path)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		require.Contains(t, answer.Request.URL.Query().Get("refused"), "was not begun here")
	}
	for _, elsewhere := range []string{"https://elsewhere.example/", "//elsewhere.example/", `/\elsewhere.example`,
		"javascript:alert(1)"} {
		jar, _ := cookiejar.New(nil)
		answer, err := (&http.Client{Jar: jar}).Get(s.address + "/sign-in/away?to=" + url.QueryEscape(elsewhere))
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		require.Equal(t, "0; url=/", answer.Header.Get("Refresh"), elsewhere)
	}

	b := newBrowser(t, s)
	b.open("/runs")
	b.sees("Sign in with the region's account")
	b.do(chromedp.Click(chromedp.CSS("a.elsewhere")))
	b.sees("People", "Sign out")
	require.Contains(t, b.text(), "Runs")
	p.Close()
	out, code := s.cli("", "users", "list")
	require.Zero(t, code, out)
	require.Contains(t, out, "at the provider")
}
