// Package httpapi is the HTTP side of Noemata: sign-in, the API under /api/v1, live
// events, metrics, and the console's files.
package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v2"
	"github.com/gofiber/fiber/v2/middleware/adaptor"
	"github.com/gofiber/fiber/v2/middleware/compress"
	"github.com/gofiber/fiber/v2/middleware/filesystem"
	"github.com/gofiber/fiber/v2/middleware/helmet"
	"github.com/gofiber/fiber/v2/middleware/limiter"
	"github.com/gofiber/fiber/v2/middleware/recover"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"noemata/client"
	"noemata/internal/asking"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/feeds"
	"noemata/internal/jobs"
	"noemata/internal/opened"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Service answers HTTP requests.
type Service struct {
	store     *store.Store
	databases *opened.Databases
	rules     *feeds.Rules
	runner    *jobs.Runner
	asking    *asking.Asking
	events    *jobs.Events
	app       *fiber.App
	version   string
	provider  *provider     // of sign-ins; nil for none
	stopped   chan struct{} // closed when the service stops: live events end
}

// Parts are what a Service is made of.
type Parts struct {
	Store     *store.Store
	Databases *opened.Databases
	Runner    *jobs.Runner
	Asking    *asking.Asking
	Events    *jobs.Events
	Registry  *prometheus.Registry
	Console   fs.FS // the built console
	Version   string
	Proxies   []string  // addresses, or networks, of proxies that tell whom a request is from
	Provider  *Provider // of sign-ins; nil for none
}

// SignInsPerMinute is how many failed sign-ins one address may make in a minute.
const SignInsPerMinute = 10

// New makes a Service; Listen starts it.
func New(p Parts) *Service {
	s := &Service{store: p.Store, databases: p.Databases,
		rules:  &feeds.Rules{Store: p.Store, Databases: p.Databases, Runner: p.Runner},
		runner: p.Runner, asking: p.Asking, events: p.Events, version: p.Version, stopped: make(chan struct{})}
	if p.Provider != nil {
		s.provider = &provider{Provider: *p.Provider}
	}
	s.app = fiber.New(fiber.Config{DisableStartupMessage: true, BodyLimit: 4 << 20, ReadBufferSize: 64 << 10,
		ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, ErrorHandler: fiberError,
		// Texts of a request are copied, so that whoever keeps one keeps it as it was.
		Immutable:               true,
		EnableTrustedProxyCheck: true, TrustedProxies: p.Proxies, ProxyHeader: fiber.HeaderXForwardedFor,
		EnableIPValidation: true})
	s.app.Use(recover.New(), helmet.New(helmet.Config{
		ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; " +
			"frame-ancestors 'none'",
		XFrameOptions:         "DENY",
		HSTSMaxAge:            365 * 24 * 60 * 60, // over HTTPS alone
		HSTSExcludeSubdomains: true,
	}))
	s.app.Get("/healthz", func(c *fiber.Ctx) error { return c.SendString("ok\n") })
	s.app.Get("/readyz", s.ready)
	s.app.Use("/api/v1/session", limiter.New(limiter.Config{
		Max: SignInsPerMinute, Expiration: time.Minute, SkipSuccessfulRequests: true,
		// Who knows a token signs in, however often others at the same address have failed.
		Next: func(c *fiber.Ctx) bool { return c.Method() != fiber.MethodPost || s.knows(c) },
		LimitReached: func(*fiber.Ctx) error {
			return &ProblemDetails{Type: "about:blank", Title: "Too Many Requests", Status: http.StatusTooManyRequests,
				Code: "rate-limited", Detail: "Too many sign-ins failed.", Remedy: "Wait a minute and try again."}
		},
	}))
	if s.provider != nil {
		s.app.Get(goesAway, s.away)
		s.app.Get(comesBack, s.back)
	}
	s.app.Use("/api/v1", onlyJSON, s.authenticate, untilAbandoned)
	s.app.Use("/metrics", s.authenticate, func(c *fiber.Ctx) error {
		if t := who(c.UserContext()); t.Label != "" {
			return forbidden(fmt.Sprintf("The token %q is for feeds with the label %s.", t.Name, t.Label), "Use another one.")
		}
		return c.Next()
	})
	s.app.Get("/metrics", adaptor.HTTPHandler(promhttp.HandlerFor(p.Registry, promhttp.HandlerOpts{})))
	api := humafiber.New(s.app, apiConfig(p.Version))
	s.register(calls{api, s.guard})
	s.app.Get("/api/v1/events", s.streamEvents)
	s.app.Use("/api", func(*fiber.Ctx) error {
		return &ProblemDetails{Type: "about:blank", Title: "Not Found", Status: http.StatusNotFound, Code: "not-found",
			Detail: "The API has no such path.", Remedy: "See /openapi.json for those it has."}
	})
	s.app.Use(compress.New(), filesystem.New(filesystem.Config{Root: http.FS(p.Console), NotFoundFile: "index.html",
		MaxAge: 0}))
	return s
}

// Listen answers requests until Stop.
func (s *Service) Listen(l net.Listener) error { return s.app.Listener(l) }

// knows tells whether a sign-in names a token that is known.
func (s *Service) knows(c *fiber.Ctx) bool {
	var in signInRequest
	if json.Unmarshal(c.Body(), &in.Body) != nil {
		return false
	}
	_, known := s.store.TokenOf(c.UserContext(), in.Body.Token)
	return known
}

// onlyJSON refuses bodies of another type: a form of another site's page can be sent
// without asking first, and JSON cannot (Fetch Standard, CORS-safelisted request-header).
func onlyJSON(c *fiber.Ctx) error {
	if len(c.Request().Body()) == 0 {
		return c.Next()
	}
	if media, _, err := mime.ParseMediaType(c.Get(fiber.HeaderContentType)); err == nil &&
		media == fiber.MIMEApplicationJSON {
		return c.Next()
	}
	return &ProblemDetails{Type: "about:blank", Title: "Unsupported Media Type",
		Status: http.StatusUnsupportedMediaType, Code: string(problem.Invalid), Detail: "The request's body is not " +
			"said to be JSON.", Remedy: "Send it with Content-Type: application/json."}
}

// Stop lets running requests end, for a few seconds.
func (s *Service) Stop(ctx context.Context) {
	close(s.stopped)
	if err := s.app.ShutdownWithContext(ctx); err != nil {
		slog.Warn("Some requests were cut off.", "error", err)
	}
}

// apiConfig describes the API as a whole.
func apiConfig(version string) huma.Config {
	huma.NewError = newError
	huma.DefaultArrayNullable = false // answers have empty lists, never null
	config := huma.DefaultConfig("Noemata", version)
	config.DocsPath, config.SchemasPath = "", ""
	config.OpenAPIPath = "/openapi"
	config.CreateHooks = nil // no $schema links in answers
	config.Info.Description = "Keeps tables of databases replicated into a warehouse. Sign in with a token as " +
		"bearer; errors are problem details (RFC 9457)."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	return config
}

// OpenAPI is the description of the API, indented JSON.
func OpenAPI(version string) ([]byte, error) {
	api := humafiber.New(fiber.New(), apiConfig(version))
	s := &Service{}
	s.register(calls{api, s.guard})
	return json.MarshalIndent(api.OpenAPI(), "", "  ")
}

// FeedSchema is the JSON Schema (2020-12) of a feed file.
func FeedSchema() ([]byte, error) {
	huma.DefaultArrayNullable = false
	registry := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	root := registry.Schema(reflect.TypeFor[feed.Feed](), true, "")
	return json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title": "A feed of Noemata", "$ref": root.Ref, "$defs": registry.Map()}, "", "  ")
}

func fiberError(c *fiber.Ctx, err error) error {
	p, ok := err.(*ProblemDetails)
	if !ok {
		p = &ProblemDetails{Type: "about:blank", Status: http.StatusInternalServerError,
			Detail: "The service failed at this request: " + err.Error() + ".", Code: string(problem.Failed),
			Remedy: "Try again. If it fails again, look into the service's log."}
		if e, isFiber := err.(*fiber.Error); isFiber && e.Code < 500 {
			p.Status, p.Code, p.Detail, p.Remedy = e.Code, string(problem.Invalid), "The service does not take this "+
				"request: "+e.Message+".", "See /openapi.json for what it takes."
		} else {
			slog.Error("A request failed.", "error", err)
		}
		p.Title = http.StatusText(p.Status)
	}
	return c.Status(p.Status).JSON(p, "application/problem+json")
}

func (s *Service) ready(c *fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.UserContext(), 3*time.Second)
	defer cancel()
	if err := s.store.Ping(ctx); err != nil {
		return &ProblemDetails{Type: "about:blank", Title: "Service Unavailable", Status: http.StatusServiceUnavailable,
			Code: "unreachable", Detail: "The database for the records does not answer.", Remedy: "Check that it runs."}
	}
	return c.SendString("ready\n")
}

func unauthorized(detail, remedy string) *ProblemDetails {
	return &ProblemDetails{Type: "about:blank", Title: "Unauthorized", Status: http.StatusUnauthorized,
		Code: "unauthorized", Detail: detail, Remedy: remedy}
}

// authenticate lets a request pass that carries a token or the console's cookie.
func (s *Service) authenticate(c *fiber.Ctx) error {
	if bearer, ok := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer "); ok {
		token, known := s.store.TokenOf(c.UserContext(), strings.TrimSpace(bearer))
		if !known {
			return unauthorized("The token is not known.",
				"Sign in with a token that was not removed; noemata tokens add makes one.")
		}
		c.SetUserContext(context.WithValue(c.UserContext(), whoKey{}, token))
		return c.Next()
	}
	if c.Path() == "/api/v1/session" && c.Method() == fiber.MethodPost || c.Path() == "/api/v1/sign-in-ways" {
		return s.sameOrigin(c)
	}
	cookie := c.Cookies(cookieName(c.Secure()))
	token, known := s.store.SessionOf(c.UserContext(), cookie)
	if cookie == "" || !known {
		return unauthorized("You are not signed in.", "Sign in with a token.")
	}
	c.SetUserContext(context.WithValue(c.UserContext(), whoKey{}, token))
	return s.sameOrigin(c)
}

// sameOrigin refuses changes that another site's page asks for in the name of
// someone who is signed in. Browsers say where a request comes from (Fetch Metadata,
// Sec-Fetch-Site; Origin in those that do not).
func (s *Service) sameOrigin(c *fiber.Ctx) error {
	switch c.Method() {
	case fiber.MethodGet, fiber.MethodHead, fiber.MethodOptions:
		return c.Next()
	}
	site := c.Get("Sec-Fetch-Site")
	if site == "same-origin" || site == "none" {
		return c.Next()
	}
	said := c.Get(fiber.HeaderOrigin)
	origin, err := url.Parse(said)
	if site == "" && err == nil && (said == "" || origin.Host == string(c.Request().Host())) {
		return c.Next()
	}
	return &ProblemDetails{Type: "about:blank", Title: "Forbidden", Status: http.StatusForbidden, Code: "other-origin",
		Detail: "The request comes from another site.", Remedy: "Use the console at its own address."}
}

// untilAbandoned ends what a request has begun when whoever made it has gone: a count at a
// source would go on for nobody.
func untilAbandoned(c *fiber.Ctx) error {
	conn, ok := socketOf(c.Context().Conn())
	if !ok {
		return c.Next()
	}
	ctx, cancel := context.WithCancel(c.UserContext())
	defer cancel()
	c.SetUserContext(ctx)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(lookForCaller):
			}
			if hasEnded(conn) {
				cancel()
				return
			}
		}
	}()
	return c.Next()
}

// lookForCaller is how often it is looked whether the caller of a request is still there.
const lookForCaller = 500 * time.Millisecond

// socketOf finds the socket below TLS and the like.
func socketOf(conn net.Conn) (syscall.Conn, bool) {
	if secure, ok := conn.(interface{ NetConn() net.Conn }); ok {
		conn = secure.NetConn()
	}
	socket, ok := conn.(syscall.Conn)
	return socket, ok
}

// hasEnded looks, without taking anything in, whether the other side has closed a socket.
func hasEnded(conn syscall.Conn) (ended bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return true
	}
	err = raw.Control(func(fd uintptr) {
		n, _, err := syscall.Recvfrom(int(fd), make([]byte, 1), syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		ended = n == 0 && err == nil || err == syscall.ECONNRESET
	})
	return ended || err != nil
}

// knownAgain is how often the token or session of a stream of events is looked at again.
const knownAgain = 3 * time.Second

// describeEvents tells of the stream, which no handler of the API's kind can give.
func describeEvents(api huma.API) {
	event := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[client.Event](), true, "Event")
	api.OpenAPI().AddOperation(&huma.Operation{OperationID: "events", Method: http.MethodGet, Path: "/api/v1/events",
		Summary: "What happens, as it happens", Tags: []string{"events"}, Extensions: map[string]any{"x-role": "look"},
		Description: "A stream of server-sent events; the data of each is an Event, and its name the event's kind.",
		Responses: map[string]*huma.Response{"200": {Description: "OK",
			Content: map[string]*huma.MediaType{"text/event-stream": {Schema: event}}}}})
}

// streamEvents sends what happens as server-sent events (HTML Living Standard, 9.2), until
// the token or the session that asked for them ends.
func (s *Service) streamEvents(c *fiber.Ctx) error {
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-store")
	c.Set("X-Accel-Buffering", "no")
	known, wanted := s.stillKnown(c), s.wanted(who(c.UserContext()))
	events, end := s.events.Listen()
	c.Context().SetBodyStreamWriter(func(w *bufioWriter) {
		defer end()
		again := time.NewTicker(knownAgain)
		defer again.Stop()
		_, _ = fmt.Fprint(w, ": listening\n\n")
		for quiet := time.Now(); ; {
			if w.Flush() != nil {
				return // the client is gone
			}
			select {
			case <-s.stopped:
				return
			case event := <-events:
				if !wanted(event.Feed) {
					continue
				}
				_, _ = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event.Kind, encode(event))
				quiet = time.Now()
			case <-again.C:
				if !known() {
					return
				}
				if time.Since(quiet) > 15*time.Second {
					_, _ = fmt.Fprint(w, ": still here\n\n")
					quiet = time.Now()
				}
			}
		}
	})
	return nil
}

// wanted tells whether a token is for a feed, as it was a moment ago.
func (s *Service) wanted(t client.Token) func(feed string) bool {
	known, at := map[string]bool{}, time.Now()
	return func(feed string) bool {
		if t.Label == "" || feed == "" {
			return true
		}
		if time.Since(at) > knownAgain {
			known, at = map[string]bool{}, time.Now()
		}
		is, asked := known[feed]
		if !asked {
			f, err := s.store.Feed(context.Background(), feed)
			is = err == nil && sees(t, f.Labels)
			known[feed] = is
		}
		return is
	}
}

// stillKnown looks whether whoever made a request might make it again.
func (s *Service) stillKnown(c *fiber.Ctx) func() bool {
	bearer, isBearer := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer ")
	cookie := c.Cookies(cookieName(c.Secure()))
	return func() (known bool) {
		ctx, cancel := context.WithTimeout(context.Background(), knownAgain)
		defer cancel()
		if isBearer {
			_, known = s.store.TokenOf(ctx, strings.TrimSpace(bearer))
		} else {
			_, known = s.store.SessionOf(ctx, cookie)
		}
		return known
	}
}

// calls are those of the API, each behind a guard.
type calls struct {
	huma.API
	guard func(op operation) func(ctx huma.Context, next func(huma.Context))
}

// operation describes one call of the API.
type operation struct {
	id, method, path, summary, group string
	status                           int
}

// handle registers a call whose errors become problem details.
func handle[I, O any](api calls, op operation, work func(context.Context, *I) (*O, error)) {
	huma.Register(api, huma.Operation{OperationID: op.id, Method: op.method, Path: "/api/v1" + op.path,
		Summary: op.summary, Tags: []string{op.group}, DefaultStatus: op.status,
		Extensions:  map[string]any{"x-role": needs[op.id]},
		Middlewares: huma.Middlewares{unescape, api.guard(op)}},
		func(ctx context.Context, in *I) (*O, error) {
			out, err := work(ctx, in)
			if err != nil {
				return nil, fromError(err)
			}
			return out, nil
		})
}

// unescaped is a request whose path's parts are as they were meant: a blank, and not %20.
type unescaped struct{ request }

type request = huma.Context // which has a method Context

func unescape(ctx huma.Context, next func(huma.Context)) { next(unescaped{ctx}) }

func (u unescaped) Unwrap() huma.Context { return u.request }

func (u unescaped) Param(name string) string {
	raw := u.request.Param(name)
	if plain, err := url.PathUnescape(raw); err == nil {
		return plain
	}
	return raw
}

// answer is a response with a body.
type answer[T any] struct{ Body T }

func reply[T any](body T, err error) (*answer[T], error) { return &answer[T]{Body: body}, err }

type none struct{}

type named struct {
	Name string `path:"name" doc:"Its name"`
}

type ofTable struct {
	Name  string `path:"name" doc:"Its name"`
	Table string `query:"table" required:"true" doc:"The table, as a feed file has it"`
}

func (s *Service) about(context.Context, *none) (*answer[client.About], error) {
	return reply(client.About{Version: s.version, Sources: source.Kinds.Names(), Warehouses: warehouse.Kinds.Names()},
		nil)
}
