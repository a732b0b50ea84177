package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"

	"noemata/client"
	"noemata/internal/store"
)

type signInRequest struct {
	overHTTP
	Body struct {
		Token    string `json:"token,omitempty" maxLength:"200" doc:"The token to sign in with"`
		User     string `json:"user,omitempty" maxLength:"100" doc:"Instead of a token: the person's name"`
		Password string `json:"password,omitempty" maxLength:"200" doc:"The person's password"`
	}
}

type sessionAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      struct {
		Name string `json:"name" doc:"The name of the token that signed in"`
	}
}

func (s *Service) signIn(ctx context.Context, in *signInRequest) (*sessionAnswer, error) {
	if in.Body.User != "" {
		return s.signInBy(ctx, in)
	}
	token, ok := s.store.TokenOf(ctx, in.Body.Token)
	if !ok {
		return nil, unauthorized("The token is not known.",
			"Copy it whole, from noe_ on; the service printed the first one when it started for the first time.")
	}
	cookie, err := s.store.AddSession(ctx, token.ID, in.address)
	if err != nil {
		return nil, err
	}
	out := &sessionAnswer{SetCookie: sessionCookie(in.secure, cookie, int(store.SessionLength.Seconds()))}
	out.Body.Name = token.Name
	return out, nil
}

// The console's session is kept in a cookie that over HTTPS is for this host alone and
// for nothing but HTTPS (RFC 6265bis, 4.1.3.2).
const (
	plainCookie  = "noemata_session"
	secureCookie = "__Host-noemata_session"
)

func cookieName(secure bool) string {
	if secure {
		return secureCookie
	}
	return plainCookie
}

func sessionCookie(secure bool, value string, age int) http.Cookie {
	return http.Cookie{Name: cookieName(secure), Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: secure,
		SameSite: http.SameSiteStrictMode}
}

// overHTTP is how a request came in.
type overHTTP struct {
	secure  bool
	address string
}

// Resolve finds out before the call (huma.Resolver).
func (o *overHTTP) Resolve(ctx huma.Context) []error {
	o.secure, o.address = humafiber.Unwrap(ctx).Secure(), humafiber.Unwrap(ctx).IP()
	return nil
}

type withCookie struct {
	overHTTP
	Plain  string `cookie:"noemata_session"`
	Secure string `cookie:"__Host-noemata_session"`
}

func (c withCookie) value() string {
	if c.secure {
		return c.Secure
	}
	return c.Plain
}

func (s *Service) session(ctx context.Context, _ *none) (*answer[client.Token], error) {
	return reply(who(ctx), nil)
}

func (s *Service) signOut(ctx context.Context, in *withCookie) (*sessionAnswer, error) {
	return &sessionAnswer{SetCookie: sessionCookie(in.secure, "", -1)}, s.store.RemoveSession(ctx, in.value())
}

func (s *Service) tokens(ctx context.Context, _ *none) (*answer[[]client.Token], error) {
	return reply(s.store.Tokens(ctx))
}

type newToken struct{ Body client.NewToken }

func (s *Service) addToken(ctx context.Context, in *newToken) (*answer[client.Token], error) {
	return reply(s.store.AddToken(ctx, in.Body))
}

func (s *Service) sessions(ctx context.Context, _ *none) (*answer[[]client.Session], error) {
	return reply(s.store.Sessions(ctx))
}

func (s *Service) endSession(ctx context.Context, in *numbered) (*none, error) {
	return nil, s.store.EndSession(ctx, in.ID)
}

type changesRequest struct {
	By     string `query:"by" doc:"By this token only, by its name"`
	About  string `query:"about" doc:"About this only, such as: feed loans"`
	Before int64  `query:"before" doc:"Only those before this one"`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500" doc:"How many at most"`
}

func (s *Service) changes(ctx context.Context, in *changesRequest) (*answer[[]client.ChangeMade], error) {
	return reply(s.store.Changes(ctx, store.ChangeFilter{By: in.By, About: in.About, Before: in.Before, Limit: in.Limit}))
}

func (s *Service) removeToken(ctx context.Context, in *numbered) (*none, error) {
	return nil, s.store.RemoveToken(ctx, in.ID)
}
