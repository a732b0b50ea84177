package httpapi

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gofiber/fiber/v2"
	"golang.org/x/oauth2"

	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/store"
)

// Provider is where people sign in who are known elsewhere (OpenID Connect Core 1.0, with the code flow and RFC
// 7636). What groups a person is in says what the person may do.
type Provider struct {
	Name     string // by which people know it
	Issuer   string
	ClientID string
	Secret   string
	Claim    string   // that lists the groups
	Groups   []string // ROLE=GROUP, or ROLE@LABEL=GROUP for some feeds alone; the first one that fits counts
	Public   string   // the console's own address, as people reach it
}

// Check tells whether the settings can be used.
func (p *Provider) Check() error {
	if p.ClientID == "" || p.Public == "" || len(p.Groups) == 0 {
		return problem.New(problem.Invalid, "Sign-in by OpenID Connect needs a client, the console's own address and groups.",
			"Give --oidc-client, --public-url and --oidc-group, as operate=lending.")
	}
	for _, text := range p.Groups {
		if _, err := p.grant(text); err != nil {
			return err
		}
	}
	return nil
}

// grant is what a group lets its people do.
func (p *Provider) grant(text string) (g grant, err error) {
	what, group, ok := strings.Cut(text, "=")
	if at := strings.LastIndex(text, "="); at >= 0 {
		what, group = text[:at], text[at+1:] // a label has its own
	}
	role, label, _ := strings.Cut(what, "@")
	g = grant{records.Role(role), label, group}
	if !ok || !g.role.May(records.Look) || group == "" {
		return g, problem.Newf(problem.Invalid, "Write look=GROUP, operate=GROUP, operate@region=north=GROUP or administer=GROUP.",
			"%q does not say what a group may do.", text)
	}
	return g, nil
}

type grant struct {
	role         records.Role
	label, group string
}

// provider is a Provider that has been asked how it is used.
type provider struct {
	Provider
	mu     sync.Mutex
	config *oauth2.Config
	verify *oidc.IDTokenVerifier
}

// providerWithin is how long a provider may take to answer.
const providerWithin = 10 * time.Second

// ready asks the provider once how it is used (OpenID Connect Discovery 1.0).
func (p *provider) ready(ctx context.Context) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.config != nil {
		return nil
	}
	found, err := oidc.NewProvider(ctx, p.Issuer)
	if err != nil {
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("%s, where people sign in, cannot be used: %v.", p.Issuer, err),
			"Check --oidc-issuer, and that the provider answers; sign in with a token meanwhile.")
	}
	p.verify = found.Verifier(&oidc.Config{ClientID: p.ClientID})
	p.config = &oauth2.Config{ClientID: p.ClientID, ClientSecret: p.Secret, Endpoint: found.Endpoint(),
		RedirectURL: strings.TrimSuffix(p.Public, "/") + comesBack, Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}
	return nil
}

// Where a person is sent away, and comes back to.
const (
	goesAway  = "/sign-in/away"
	comesBack = "/sign-in/back"
)

// errand is what a person who is sent away takes along, sealed in a cookie.
type errand struct{ State, Nonce, Verifier, To string }

const errandCookie, errandLasts, errandSeal = "noemata_errand", 10 * time.Minute, "a sign-in"

// away sends a person to the provider.
func (s *Service) away(c *fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.UserContext(), providerWithin)
	defer cancel()
	if err := s.provider.ready(ctx); err != nil {
		return s.notSignedIn(c, err)
	}
	e := errand{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), To: ownPath(c.Query("to"))}
	content, _ := json.Marshal(e) // plain texts always marshal
	c.Cookie(&fiber.Cookie{Name: errandCookie, Value: base64.RawURLEncoding.EncodeToString(s.store.Seal(string(content),
		errandSeal)),
		Path: comesBack, MaxAge: int(errandLasts.Seconds()), HTTPOnly: true, Secure: c.Secure(),
		SameSite: fiber.CookieSameSiteLaxMode})
	return c.Redirect(s.provider.config.AuthCodeURL(e.State, oidc.Nonce(e.Nonce), oauth2.S256ChallengeOption(e.Verifier)),
		fiber.StatusSeeOther)
}

// ownPath is a path of the console's own; another site is none.
func ownPath(to string) string {
	if u, err := url.Parse(to); err != nil || u.Host != "" || u.Scheme != "" || !strings.HasPrefix(to, "/") ||
		strings.HasPrefix(to, "//") ||
		strings.Contains(to, `\`) {
		return "/"
	}
	return to
}

// back takes in a person whom the provider has sent back.
func (s *Service) back(c *fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.UserContext(), providerWithin)
	defer cancel()
	carried := c.Cookies(errandCookie)
	c.Cookie(&fiber.Cookie{Name: errandCookie, Path: comesBack, MaxAge: -1, HTTPOnly: true})
	cookie, to, err := s.takeIn(ctx, carried, c.Query("state"), c.Query("code"), c.Query("error"), c.IP())
	if err != nil {
		return s.notSignedIn(c, err)
	}
	set := sessionCookie(c.Secure(), cookie, int(store.SessionLength.Seconds()))
	// The provider's site has sent the person here: a strict cookie counts from the next request on, which the
	// page makes by itself.
	c.Cookie(&fiber.Cookie{Name: set.Name, Value: set.Value, Path: set.Path, MaxAge: set.MaxAge, HTTPOnly: set.HttpOnly,
		Secure:   set.Secure,
		SameSite: fiber.CookieSameSiteStrictMode})
	c.Set("Refresh", "0; url="+to)
	return c.Status(fiber.StatusOK).SendString("Signed in.\n")
}

// takeIn finds out who a person is, and what the person may do here.
func (s *Service) takeIn(ctx context.Context, carried, state, code, refused, address string) (cookie, to string,
	err error) {
	var e errand
	sealed, err := base64.RawURLEncoding.DecodeString(carried)
	if err == nil {
		var content string
		if content, err = s.store.Unseal(sealed, errandSeal); err == nil {
			err = json.Unmarshal([]byte(content), &e)
		}
	}
	if err != nil || e.State == "" || state != e.State {
		return "", "", problem.New(problem.Denied, "The sign-in was not begun here, or long ago.", "Begin again.")
	}
	if refused != "" || code == "" {
		return "", "", problem.Newf(problem.Denied, "Begin again, or sign in with a token.", "%s did not sign you in: %s.",
			s.provider.Name, refused)
	}
	if err := s.provider.ready(ctx); err != nil {
		return "", "", err
	}
	wrong := func(err error) error {
		return problem.Wrap(err, problem.Denied, fmt.Sprintf("What %s says of you cannot be believed: %v.", s.provider.Name,
			err),
			"Begin again; if it stays so, tell the operator.")
	}
	token, err := s.provider.config.Exchange(ctx, code, oauth2.VerifierOption(e.Verifier))
	if err != nil {
		return "", "", wrong(err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := s.provider.verify.Verify(ctx, raw)
	if err != nil {
		return "", "", wrong(err)
	}
	if id.Nonce != e.Nonce {
		return "", "", wrong(fmt.Errorf("it answers another question"))
	}
	var claims map[string]any
	if err := id.Claims(&claims); err != nil {
		return "", "", wrong(err)
	}
	n, err := s.provider.person(claims, id.Subject)
	if err != nil {
		return "", "", err
	}
	cookie, err = s.store.SignInElsewhere(ctx, id.Issuer+" "+id.Subject, n, address)
	return cookie, e.To, err
}

// person is who the claims tell of, and what its groups let it do.
func (p *provider) person(claims map[string]any, subject string) (n records.NewUser, err error) {
	n.Name = subject
	for _, claim := range []string{"email", "preferred_username"} {
		if text, ok := claims[claim].(string); ok && text != "" && len(text) <= 100 {
			n.Name = text
		}
	}
	var groups []string
	switch list := claims[p.Claim].(type) {
	case string:
		groups = strings.Fields(list)
	case []any:
		for _, x := range list {
			groups = append(groups, fmt.Sprint(x))
		}
	}
	for _, text := range p.Groups {
		g, err := p.grant(text)
		if err != nil {
			return n, err
		}
		if slices.Contains(groups, g.group) {
			n.Role, n.Label = g.role, g.label
			return n, nil
		}
	}
	return n, problem.Newf(problem.Denied, "Ask for one of the groups that may; the operator gives them by --oidc-group.",
		"%s is in no group that may do something here.", n.Name)
}

// notSignedIn brings a person back to the door, which tells why.
func (s *Service) notSignedIn(c *fiber.Ctx, err error) error {
	p := problem.Of(err)
	slog.Warn("A sign-in at the provider did not succeed.", "error", err)
	return c.Redirect("/sign-in?"+url.Values{"refused": {p.What + " " + p.Remedy}}.Encode(), fiber.StatusSeeOther)
}
