package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"

	"noemata/client"
	"noemata/internal/core/derive"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/store"
)

// needs is the role that each call needs. A call that is not named here is let nobody.
var needs = map[string]records.Role{
	"about": records.Look, "session": records.Look, "sign-in": "", "sign-out": "", "list-ways": "",
	// whoever signs in or out is nobody yet
	"list-feeds": records.Look, "show-overview": records.Look, "show-feed": records.Look, "export-feed": records.Look,
	"list-revisions": records.Look,
	"show-revision":  records.Look, "list-drifts": records.Look, "list-log-samples": records.Look,
	"list-positions": records.Look, "list-runs": records.Look, "show-run": records.Look, "list-statements": records.Look,
	"list-proofs": records.Look, "list-backfills": records.Look, "show-backfill": records.Look,
	"list-sources": records.Look, "show-source": records.Look, "list-warehouses": records.Look,
	"show-warehouse": records.Look, "list-processes": records.Look, "list-places": records.Look,
	"list-log": records.Look, "list-volumes": records.Look, "list-retention": records.Look,
	"show-burden": records.Operate, "list-hash-keys": records.Look,

	// What may be asked is said for each person and token, besides the role.
	"ask": records.Look, "export": records.Look, "list-askable": records.Look, "list-questions": records.Look, "stop-question": records.Look,
	"list-saved-questions": records.Look, "save-question": records.Look, "remove-saved-question": records.Look,

	"list-marks": records.Look, "add-mark": records.Operate, "remove-mark": records.Operate,

	"list-derived": records.Look, "show-derived": records.Look, "export-derived": records.Look,
	"list-derivations": records.Look,
	// Whoever applies derived tables must be let ask what they read, besides the role.
	"apply-derived-file": records.Operate, "start-derived": records.Operate, "pause-derived": records.Operate,
	"make-derived": records.Operate, "remove-derived": records.Operate, "drop-derived": records.Operate,
	"show-derivation": records.Operate, "stop-derivation": records.Operate,

	"start-feed": records.Operate, "pause-feed": records.Operate, "pause-tables": records.Operate,
	"remove-feed":     records.Operate,
	"apply-feed-file": records.Operate, "preview-feed-file": records.Operate, "list-privileges": records.Operate,
	"propose-feed": records.Operate, "copy-again": records.Operate, "list-versions": records.Operate,
	"sample-table": records.Operate, "count-table": records.Operate, "set-position": records.Operate,
	"clear-position": records.Operate, "start-run": records.Operate, "stop-run": records.Operate,
	"show-proof": records.Operate, "start-proof": records.Operate, "stop-proof": records.Operate,
	"start-backfill": records.Operate,
	"pause-backfill": records.Operate, "resume-backfill": records.Operate, "stop-backfill": records.Operate,
	"list-source-tables": records.Operate, "show-source-table": records.Operate, "test-source": records.Operate,
	"test-warehouse": records.Operate,

	"mend-feed-file": records.Administer, "add-source": records.Administer, "try-source": records.Administer,
	"change-source": records.Administer, "remove-source": records.Administer, "add-warehouse": records.Administer,
	"try-warehouse": records.Administer, "change-warehouse": records.Administer, "remove-warehouse": records.Administer,
	"export-hash-key": records.Administer, "import-hash-key": records.Administer, "list-tokens": records.Administer,
	"add-token": records.Administer, "remove-token": records.Administer, "list-sessions": records.Administer,
	"list-alerts": records.Look, "list-channels": records.Administer, "add-channel": records.Administer,
	"show-channel": records.Administer, "change-channel": records.Administer, "remove-channel": records.Administer,
	"test-channel": records.Administer, "end-session": records.Administer, "drain-process": records.Administer,
	"resume-process": records.Administer, "set-retention": records.Administer,
	"list-users": records.Administer, "add-user": records.Administer, "change-user": records.Administer,
	"remove-user": records.Administer, "list-changes": records.Administer,
}

// changesNothing are the calls that ask by a body, or only look at a database.
var changesNothing = map[string]bool{"preview-feed-file": true, "list-privileges": true, "propose-feed": true,
	"try-source": true, "try-warehouse": true, "test-source": true, "test-warehouse": true, "test-channel": true,
	"sign-in": true, "sign-out": true, "ask": true, "export": true}

// beyondLabel are the calls that are about all feeds, or about one that only their body names, and that a
// token for some feeds alone is not let make.
var beyondLabel = map[string]bool{"preview-feed-file": true, "list-privileges": true, "propose-feed": true,
	"apply-derived-file": true, "drop-derived": true, "add-mark": true, "remove-mark": true}

type whoKey struct{}

// who is the token that a request is from; none of a sign-in.
func who(ctx context.Context) client.Token {
	token, _ := ctx.Value(whoKey{}).(client.Token)
	return token
}

// sees tells whether a token is for a feed.
func sees(t client.Token, labels feed.Labels) bool { return t.Label == "" || labels.Has(t.Label) }

// guard lets those make a call who may, and keeps what they change.
func (s *Service) guard(op operation) func(ctx huma.Context, next func(huma.Context)) {
	need, known := needs[op.id]
	kept := op.method != http.MethodGet && !changesNothing[op.id]
	return func(ctx huma.Context, next func(huma.Context)) {
		token := who(ctx.Context())
		if !known || need != "" && !token.Role.May(need) {
			s.refuse(ctx, op, forbidden(fmt.Sprintf("The token %q may not do that: its role is %s, and this needs %s.",
				token.Name,
				token.Role, need), "Sign in with a token of that role; an administrator makes one with noemata tokens add --role."))
			return
		}
		if err := s.within(ctx, op, token); err != nil {
			s.refuse(ctx, op, err)
			return
		}
		if !kept || bodyOf(ctx).DryRun {
			next(ctx)
			return
		}
		before := s.snapshot(ctx, op)
		next(ctx)
		s.noteChange(ctx, op, before, s.snapshot(ctx, op), ctx.Status())
	}
}

func forbidden(detail, remedy string) *ProblemDetails {
	return &ProblemDetails{Type: "about:blank", Title: "Forbidden", Status: http.StatusForbidden, Code: "forbidden",
		Detail: detail, Remedy: remedy}
}

func (s *Service) refuse(ctx huma.Context, op operation, err error) {
	p := fromError(err)
	details, ok := p.(*ProblemDetails)
	if !ok {
		details = forbidden(err.Error(), "")
	}
	if op.method != http.MethodGet {
		s.noteChange(ctx, op, nil, nil, details.Status)
	}
	_ = humafiber.Unwrap(ctx).Status(details.Status).JSON(details, "application/problem+json")
}

// within makes sure that a token for some feeds alone is used for them.
func (s *Service) within(ctx huma.Context, op operation, t client.Token) error {
	if t.Label == "" {
		return nil
	}
	name, err := s.feedOf(ctx, op)
	if err != nil {
		return err
	}
	outside := forbidden(fmt.Sprintf("The token %q is for feeds with the label %s.", t.Name, t.Label),
		"Sign in with another one.")
	if beyondLabel[op.id] {
		return outside
	}
	if set, err := s.derivedOf(ctx, op); err != nil || set != nil && !sees(t, set.Labels) {
		return cmp.Or[error](err, outside)
	}
	if op.id == "apply-feed-file" {
		f, err := feed.ParseFile([]byte(bodyOf(ctx).File))
		if err != nil {
			return nil // told by the call itself
		}
		if !sees(t, f.Labels) {
			return outside
		}
		name = f.Name
	}
	if name == "" {
		return nil
	}
	f, err := s.store.Feed(ctx.Context(), name)
	switch {
	case problem.Is(err, problem.NotFound):
		return nil // told by the call itself
	case err != nil:
		return err
	case !sees(t, f.Labels):
		return outside
	}
	return nil
}

// derivedOf is the set of derived tables that a call is about; nil of none.
func (s *Service) derivedOf(ctx huma.Context, op operation) (*store.DerivedSet, error) {
	name := ""
	switch {
	case strings.HasPrefix(op.path, "/derived/{name}"):
		name = ctx.Param("name")
	case strings.HasPrefix(op.path, "/derivations/{id}"):
		id, _ := strconv.ParseInt(ctx.Param("id"), 10, 64)
		d, err := s.store.Derivation(ctx.Context(), id)
		if err != nil && !problem.Is(err, problem.NotFound) {
			return nil, err
		}
		name = d.Set
	}
	if name == "" {
		return nil, nil
	}
	found, err := s.store.DerivedSets(ctx.Context(), name)
	if problem.Is(err, problem.NotFound) {
		return nil, nil // told by the call itself
	}
	if err != nil {
		return nil, err
	}
	return &found[0], nil
}

// feedOf is the feed that a call is about; empty of none.
func (s *Service) feedOf(ctx huma.Context, op operation) (string, error) {
	if strings.HasPrefix(op.path, "/feeds/{name}") {
		return ctx.Param("name"), nil
	}
	id, _ := strconv.ParseInt(ctx.Param("id"), 10, 64)
	var name string
	var err error
	switch {
	case strings.HasPrefix(op.path, "/runs/{id}"):
		var r records.Run
		r, err = s.store.Run(ctx.Context(), id)
		name = r.Feed
	case strings.HasPrefix(op.path, "/backfills/{id}"):
		var b records.Backfill
		b, err = s.store.Backfill(ctx.Context(), id)
		name = b.Feed
	case strings.HasPrefix(op.path, "/proofs/{id}"):
		var p records.Proving
		p, err = s.store.Proving(ctx.Context(), id)
		name = p.Feed
	}
	if problem.Is(err, problem.NotFound) {
		err = nil // told by the call itself
	}
	return name, err
}

// body is what the guard looks at in a request's body.
type body struct {
	File   string            `json:"file"`
	Files  map[string]string `json:"files"`
	Name   string            `json:"name"`
	DryRun bool              `json:"dry_run"`
}

func bodyOf(ctx huma.Context) (b body) {
	_ = json.Unmarshal(humafiber.Unwrap(ctx).Body(), &b) // told by the call itself
	return b
}

// about names what a call is about.
func about(ctx huma.Context, op operation) string {
	kind, name := "", ctx.Param("name")
	for prefix, noun := range map[string]string{"/feeds": "feed", "/sources": "source", "/warehouses": "warehouse",
		"/tokens": "token", "/runs": "run", "/backfills": "backfill", "/proofs": "proof", "/hash-keys": "hash key",
		"/sessions": "session", "/channels": "channel", "/processes": "process", "/retention": "retention",
		"/users": "person", "/derived": "derived", "/derivations": "making"} {
		if op.path == prefix || strings.HasPrefix(op.path, prefix+"/") {
			kind = noun
		}
	}
	if op.path == "/feed-files" || op.path == "/mendings" {
		kind = "feed"
		if f, err := feed.ParseFile([]byte(bodyOf(ctx).File)); err == nil {
			name = f.Name
		}
	}
	if op.path == "/derived-files" {
		kind = "derived"
		if set, err := derive.Parse([]byte(bodyOf(ctx).File), bodyOf(ctx).Files); err == nil {
			name = set.Name
		}
	}
	if name == "" {
		name = ctx.Param("id")
	}
	if name == "" {
		name = bodyOf(ctx).Name
	}
	return strings.TrimSpace(kind + " " + name)
}

// snapshot is what a call is about, as it is now; nothing where that cannot be told.
func (s *Service) snapshot(ctx huma.Context, op operation) json.RawMessage {
	kind, name, _ := strings.Cut(about(ctx, op), " ")
	var is any
	var err error
	switch kind {
	case "source", "warehouse":
		is, err = s.store.Connection(ctx.Context(), map[string]store.Side{"source": store.Sources,
			"warehouse": store.Warehouses}[kind], name)
	case "feed":
		is, err = s.feedNow(ctx.Context(), name)
	case "derived":
		var found []store.DerivedSet
		if found, err = s.store.DerivedSets(ctx.Context(), name); err == nil && name != "" {
			is = map[string]any{"file": found[0].Set, "active": found[0].Active}
		}
	default:
		return nil
	}
	if err != nil {
		return nil
	}
	content, _ := json.Marshal(is) // our own types always marshal
	return content
}

// feedNow is what the record of changes keeps of a feed.
func (s *Service) feedNow(ctx context.Context, name string) (any, error) {
	active, _, _, err := s.store.Schedule(ctx, name)
	if err != nil {
		return nil, err
	}
	f, _, err := s.store.FeedFile(ctx, name)
	if err != nil {
		return nil, err
	}
	positions := map[string]string{}
	status, err := s.store.Feeds(ctx, name)
	for _, x := range status {
		for _, t := range x.Tables {
			positions[t.Table] = t.Position
		}
	}
	return map[string]any{"file": f, "active": active, "positions": positions}, err
}

// secrets are fields of requests that are kept nowhere.
var secrets = map[string]bool{"password": true, "passphrase": true, "key": true, "secret": true, "token": true,
	"url": true}

// withoutSecrets is a request's body without what nobody is to read.
func withoutSecrets(content []byte) json.RawMessage {
	var v any
	if len(content) == 0 || json.Unmarshal(content, &v) != nil {
		return nil
	}
	var clean func(v any) any
	clean = func(v any) any {
		switch x := v.(type) {
		case map[string]any:
			for k, value := range x {
				if text, is := value.(string); is && secrets[k] && text != "" {
					x[k] = "(not kept)"
				} else {
					x[k] = clean(value)
				}
			}
		case []any:
			for i := range x {
				x[i] = clean(x[i])
			}
		}
		return v
	}
	out, _ := json.Marshal(clean(v)) // it was JSON
	return out
}

// noteChange adds to the record of changes. What cannot be recorded is in the service's log.
func (s *Service) noteChange(ctx huma.Context, op operation, before, after json.RawMessage, status int) {
	token := who(ctx.Context())
	c := records.ChangeMade{By: token.Name, Address: humafiber.Unwrap(ctx).IP(), Operation: op.id, About: about(ctx, op),
		Status: status,
		Asked:  withoutSecrets(humafiber.Unwrap(ctx).Body()), Before: before, After: after}
	if err := s.store.NoteChange(context.WithoutCancel(ctx.Context()), c, token.ID); err != nil {
		slog.Error("A change was not recorded.", "operation", op.id, "about", c.About, "by", c.By, "error", err)
	}
}
