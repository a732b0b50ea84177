package service

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"

	"noemata/client"
	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/source"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

type bufioWriter = bufio.Writer

func encode(v any) string {
	b, _ := json.Marshal(v) // our own types always marshal
	return string(b)
}

// register names every call of the API.
func (s *Service) register(api huma.API) {
	get, post, put, del := http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete
	handle(api, operation{"about", get, "/about", "What the service is", "service", 0}, s.about)
	handle(api, operation{"sign-in", post, "/session", "Sign the console in", "sign-in", 0}, s.signIn)
	handle(api, operation{"session", get, "/session", "Who is signed in", "sign-in", 0}, s.session)
	handle(api, operation{"sign-out", del, "/session", "Sign the console out", "sign-in", 0}, s.signOut)
	handle(api, operation{"list-tokens", get, "/tokens", "List tokens", "sign-in", 0}, s.tokens)
	handle(api, operation{"add-token", post, "/tokens", "Make a token", "sign-in", http.StatusCreated}, s.addToken)
	handle(api, operation{"remove-token", del, "/tokens/{id}", "Remove a token", "sign-in", 0}, s.removeToken)
	for _, side := range []store.Side{store.Sources, store.Warehouses} {
		group, noun := string(side), side.Noun()
		c := connections{s, side}
		handle(api, operation{"list-" + group, get, "/" + group, "List " + group, group, 0}, c.list)
		handle(api, operation{"add-" + noun, post, "/" + group, "Add a " + noun, group, http.StatusCreated}, c.add)
		handle(api, operation{"try-" + noun, post, "/" + group + "/try", "Test the settings of a " + noun + " that is not added yet", group, 0}, c.try)
		handle(api, operation{"show-" + noun, get, "/" + group + "/{name}", "Show a " + noun, group, 0}, c.show)
		handle(api, operation{"change-" + noun, put, "/" + group + "/{name}", "Change a " + noun + "; without a password the stored one stays, as long as it goes to the same server", group, 0}, c.change)
		handle(api, operation{"remove-" + noun, del, "/" + group + "/{name}", "Remove a " + noun, group, 0}, c.remove)
		handle(api, operation{"test-" + noun, post, "/" + group + "/{name}/test", "Test a " + noun, group, 0}, c.test)
	}
	handle(api, operation{"list-source-tables", get, "/sources/{name}/tables", "List a source's tables", "sources", 0}, s.sourceTables)
	handle(api, operation{"show-source-table", get, "/sources/{name}/table", "Show a source's table", "sources", 0}, s.sourceTable)
	handle(api, operation{"list-feeds", get, "/feeds", "List feeds with their tables", "feeds", 0}, s.feeds)
	handle(api, operation{"apply-feed-file", post, "/feed-files", "Check a feed file, tell what it would change, and apply it", "feeds", 0}, s.applyFile)
	handle(api, operation{"show-feed", get, "/feeds/{name}", "Show a feed with its tables", "feeds", 0}, s.feed)
	handle(api, operation{"export-feed", get, "/feeds/{name}/file", "Give a feed as a feed file", "feeds", 0}, s.exportFeed)
	handle(api, operation{"start-feed", post, "/feeds/{name}/start", "Let a feed run on its schedule", "feeds", 0}, s.startFeed)
	handle(api, operation{"pause-feed", post, "/feeds/{name}/pause", "Keep a feed from running on its schedule", "feeds", 0}, s.pauseFeed)
	handle(api, operation{"remove-feed", del, "/feeds/{name}", "Remove a feed; the warehouse's tables stay", "feeds", 0}, s.removeFeed)
	handle(api, operation{"copy-again", post, "/feeds/{name}/copies", "Copy tables of a feed that follows the log anew, with the next run", "feeds", 0}, s.copyAgain)
	handle(api, operation{"list-log-samples", get, "/feeds/{name}/samples", "How far a feed was behind its source's log, and what it applied, over time", "feeds", 0}, s.logSamples)
	handle(api, operation{"list-versions", get, "/feeds/{name}/versions", "The versions of one row of a history", "tables", 0}, s.versions)
	handle(api, operation{"sample-table", get, "/feeds/{name}/sample", "The newest rows of a table on both sides", "tables", 0}, s.sample)
	handle(api, operation{"count-table", get, "/feeds/{name}/counts", "Count a table's rows on both sides", "tables", 0}, s.counts)
	handle(api, operation{"prove-table", post, "/feeds/{name}/proofs", "Compare every value of a table's rows on both sides", "tables", 0}, s.prove)
	handle(api, operation{"list-positions", get, "/feeds/{name}/positions", "List the positions of a feed's tables", "positions", 0}, s.positions)
	handle(api, operation{"set-position", put, "/feeds/{name}/positions", "Set a table's position", "positions", 0}, s.setPosition)
	handle(api, operation{"clear-position", del, "/feeds/{name}/positions", "Clear a table's position: the next run begins anew", "positions", 0}, s.clearPosition)
	handle(api, operation{"start-run", post, "/feeds/{name}/runs", "Run a feed now", "runs", http.StatusAccepted}, s.startRun)
	handle(api, operation{"list-runs", get, "/runs", "List runs, the newest first", "runs", 0}, s.runs)
	handle(api, operation{"show-run", get, "/runs/{id}", "Show a run with its tables", "runs", 0}, s.run)
	handle(api, operation{"stop-run", post, "/runs/{id}/stop", "Stop a run; what it has committed stays", "runs", http.StatusAccepted}, s.stopRun)
	handle(api, operation{"list-statements", get, "/runs/{id}/statements", "Every statement of a run", "runs", 0}, s.statements)
}

type signInRequest struct {
	overHTTP
	Body struct {
		Token string `json:"token" minLength:"1" doc:"The token to sign in with"`
	}
}

type sessionAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      struct {
		Name string `json:"name" doc:"The name of the token that signed in"`
	}
}

func (s *Service) signIn(ctx context.Context, in *signInRequest) (*sessionAnswer, error) {
	token, ok := s.store.TokenOf(ctx, in.Body.Token)
	if !ok {
		return nil, unauthorized("The token is not known.", "Copy it whole, from noe_ on; the service printed the first one when it started for the first time.")
	}
	cookie, err := s.store.AddSession(ctx, token.ID)
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
	return http.Cookie{Name: cookieName(secure), Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: secure, SameSite: http.SameSiteStrictMode}
}

// overHTTP is how a request came in.
type overHTTP struct{ secure bool }

// Resolve finds out before the call (huma.Resolver).
func (o *overHTTP) Resolve(ctx huma.Context) []error {
	o.secure = humafiber.Unwrap(ctx).Secure()
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

func (s *Service) session(ctx context.Context, in *withCookie) (*answer[client.Token], error) {
	token, ok := s.store.SessionOf(ctx, in.value())
	if !ok {
		return nil, unauthorized("You are not signed in.", "Sign in with a token.")
	}
	return reply(token, nil)
}

func (s *Service) signOut(ctx context.Context, in *withCookie) (*sessionAnswer, error) {
	return &sessionAnswer{SetCookie: sessionCookie(in.secure, "", -1)}, s.store.RemoveSession(ctx, in.value())
}

func (s *Service) tokens(ctx context.Context, _ *none) (*answer[[]client.Token], error) {
	return reply(s.store.Tokens(ctx))
}

type newToken struct {
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"100" doc:"Whose it is, or what for"`
	}
}

func (s *Service) addToken(ctx context.Context, in *newToken) (*answer[client.Token], error) {
	return reply(s.store.AddToken(ctx, in.Body.Name))
}

type numbered struct {
	ID int64 `path:"id"`
}

func (s *Service) removeToken(ctx context.Context, in *numbered) (*none, error) {
	return nil, s.store.RemoveToken(ctx, in.ID)
}

// connections are the calls that sources and warehouses have in common.
type connections struct {
	*Service
	side store.Side
}

type newConnection struct{ Body client.NewConnection }

func (c connections) list(ctx context.Context, _ *none) (*answer[[]client.Connection], error) {
	return reply(c.store.Connections(ctx, c.side))
}

func (c connections) show(ctx context.Context, in *named) (*answer[client.Connection], error) {
	return reply(c.store.Connection(ctx, c.side, in.Name))
}

// settings takes them from a request, and has the kind check them.
func (c connections) settings(n client.NewConnection) (connection.Settings, error) {
	if (n.URL == "") == (n.Settings == nil) {
		return connection.Settings{}, problem.New(problem.Invalid, "A connection is given by url or by settings.", "Give one of the two.")
	}
	var s connection.Settings
	var err error
	if n.Settings != nil {
		s = *n.Settings
	} else if s, err = connection.FromURL(n.URL); err != nil {
		return s, err
	}
	if c.side == store.Sources {
		s, err = source.Kinds.Check(n.Kind, s)
	} else {
		s, err = warehouse.Kinds.Check(n.Kind, s)
	}
	if err != nil {
		return s, err
	}
	return c.links.Folders.Resolve(s)
}

func (c connections) add(ctx context.Context, in *newConnection) (*answer[client.Connection], error) {
	settings, err := c.settings(in.Body)
	if err != nil {
		return nil, err
	}
	if err := c.store.SaveConnection(ctx, c.side, in.Body.Name, in.Body.Kind, settings, false); err != nil {
		return nil, err
	}
	return reply(c.store.Connection(ctx, c.side, in.Body.Name))
}

type changedConnection struct {
	Name string `path:"name"`
	Body client.NewConnection
}

func (c connections) change(ctx context.Context, in *changedConnection) (*answer[client.Connection], error) {
	settings, err := c.settings(in.Body)
	if err != nil {
		return nil, err
	}
	if in.Body.Name != in.Name {
		return nil, problem.New(problem.Invalid, "The name in the body is not the one in the path.", "A name cannot be changed; add another and remove this one.")
	}
	if err := c.store.SaveConnection(ctx, c.side, in.Name, in.Body.Kind, settings, true); err != nil {
		return nil, err
	}
	return reply(c.store.Connection(ctx, c.side, in.Name))
}

func (c connections) remove(ctx context.Context, in *named) (*none, error) {
	return nil, c.store.RemoveConnection(ctx, c.side, in.Name)
}

func (c connections) try(ctx context.Context, in *newConnection) (*answer[client.Tested], error) {
	settings, err := c.settings(in.Body)
	if err != nil {
		return nil, err
	}
	version, err := c.tryOne(ctx, in.Body.Kind, settings, c.side.What(in.Body.Name))
	return reply(client.Tested{Version: version}, err)
}

func (c connections) tryOne(ctx context.Context, kind string, settings connection.Settings, what string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if c.side == store.Sources {
		open, err := source.Kinds.Open(kind, settings, what)
		if err != nil {
			return "", err
		}
		defer open.Close()
		return open.Test(ctx)
	}
	settings, err := c.links.Folders.Resolve(settings)
	if err != nil {
		return "", err
	}
	open, err := warehouse.Kinds.Open(kind, settings, what)
	if err != nil {
		return "", err
	}
	defer open.Close()
	return open.Test(ctx)
}

func (c connections) test(ctx context.Context, in *named) (*answer[client.Tested], error) {
	kind, settings, _, err := c.store.Settings(ctx, c.side, in.Name)
	if err != nil {
		return nil, err
	}
	version, failure := c.tryOne(ctx, kind, settings, c.side.What(in.Name))
	if err := c.store.NoteTest(ctx, c.side, in.Name, version, failure); err != nil {
		return nil, err
	}
	return reply(client.Tested{Version: version}, failure)
}

func (s *Service) sourceTables(ctx context.Context, in *named) (*answer[[]client.SourceTable], error) {
	src, err := s.links.Source(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	found, err := src.Tables(ctx)
	tables := []client.SourceTable{}
	for _, t := range found {
		tables = append(tables, client.SourceTable{Table: t.Name.Display(), View: t.View, Rows: t.Rows})
	}
	return reply(tables, err)
}

func (s *Service) sourceTable(ctx context.Context, in *ofTable) (*answer[client.SourceTable], error) {
	name, err := schema.ParseName(in.Table)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, err.Error()+".", "Quote a part that contains a dot.")
	}
	src, err := s.links.Source(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, name)
	out := client.SourceTable{Table: t.Name.Display(), View: t.View, Rows: t.Rows, Key: t.Key}
	for _, c := range t.Columns {
		out.Columns = append(out.Columns, client.SourceColumn{Name: c.Name, Native: c.Native, Type: c.Type.String(), Nullable: c.Nullable, Watermark: window.Usable(c.Type)})
	}
	return reply(out, err)
}

func (s *Service) feeds(ctx context.Context, _ *none) (*answer[[]client.FeedStatus], error) {
	return reply(s.store.Feeds(ctx, ""))
}

func (s *Service) feed(ctx context.Context, in *named) (*answer[client.FeedStatus], error) {
	found, err := s.store.Feeds(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return reply(found[0], nil)
}

type fileRequest struct {
	Body struct {
		File    string `json:"file" doc:"The feed file, in YAML"`
		DryRun  bool   `json:"dry_run,omitempty" doc:"Check and compare only; change nothing"`
		Offline bool   `json:"offline,omitempty" doc:"With dry_run: do not ask the source and the warehouse for findings"`
	}
}

// applyFile applies a feed file unless a finding blocks it.
func (s *Service) applyFile(ctx context.Context, in *fileRequest) (*answer[client.Applied], error) {
	f, err := feed.ParseFile([]byte(in.Body.File))
	if err != nil {
		return nil, err
	}
	old, err := s.store.Feed(ctx, f.Name)
	if problem.Is(err, problem.NotFound) {
		old, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := client.Applied{Feed: f.Name, New: old == nil, Changes: feed.Diff(old, f), Findings: []client.Finding{}}
	if !in.Body.DryRun || !in.Body.Offline {
		src, err := s.links.Source(ctx, f.Source)
		if err != nil {
			return nil, err
		}
		wh, err := s.links.Warehouse(ctx, f.Warehouse)
		if err != nil {
			return nil, err
		}
		out.Findings = engine.Check(ctx, f, src, wh)
	}
	shared, err := s.sharedTargets(ctx, f)
	if err != nil {
		return nil, err
	}
	out.Findings = append(shared, out.Findings...)
	blocked := slices.IndexFunc(out.Findings, func(x client.Finding) bool { return x.Level == problem.Blocker })
	if in.Body.DryRun {
		return reply(out, nil)
	}
	if blocked >= 0 {
		x := out.Findings[blocked]
		return nil, problem.New(problem.Invalid, fmt.Sprintf("The feed %s was not applied: %s", f.Name, x.What), x.Remedy)
	}
	if err := s.store.SaveFeed(ctx, f); err != nil {
		return nil, err
	}
	out.Applied = true
	if len(out.Changes) > 0 && !out.New {
		err = s.reschedule(ctx, f.Name)
	}
	return reply(out, err)
}

// sharedTargets finds the tables that another feed keeps already: two feeds that
// wrote one table would undo each other's work.
func (s *Service) sharedTargets(ctx context.Context, f *feed.Feed) ([]client.Finding, error) {
	findings := []client.Finding{}
	names, err := s.store.FeedNames(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		other, err := s.store.Feed(ctx, name)
		if err != nil {
			return nil, err
		}
		if name == f.Name || other.Warehouse != f.Warehouse {
			continue
		}
		for _, t := range f.Tables {
			target, _ := f.TargetOf(t) // the file was checked
			for _, theirs := range other.Tables {
				if x, err := other.TargetOf(theirs); err == nil && x == target {
					findings = append(findings, client.Finding{Level: problem.Blocker, Table: t.Table, What: fmt.Sprintf("Its target %s is kept by the feed %s already.", target.Display(), name), Remedy: "Choose another target, or remove the table from the other feed."})
				}
			}
		}
	}
	return findings, nil
}

// reschedule makes a changed feed run soon, if it is active.
func (s *Service) reschedule(ctx context.Context, name string) error {
	active, _, _, err := s.store.Schedule(ctx, name)
	if err != nil || !active {
		return err
	}
	if err := s.store.SetFeedState(ctx, name, "active"); err != nil {
		return err
	}
	return s.runner.Wake(ctx, name)
}

type feedFile struct {
	File string `json:"file" doc:"The feed file, in YAML"`
}

func (s *Service) exportFeed(ctx context.Context, in *named) (*answer[feedFile], error) {
	f, err := s.store.Feed(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return reply(feedFile{string(f.File())}, nil)
}

func (s *Service) startFeed(ctx context.Context, in *named) (*answer[client.FeedStatus], error) {
	f, err := s.store.Feed(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if err := s.store.SetFeedState(ctx, in.Name, "active"); err != nil {
		return nil, err
	}
	if next, scheduled := f.Next(time.Now()); scheduled && f.Cron != "" { // at the times that were written, and not before
		if err := s.store.SetNextRun(ctx, in.Name, &next); err != nil {
			return nil, err
		}
	}
	if err := s.runner.Wake(ctx, in.Name); err != nil {
		return nil, err
	}
	return s.feed(ctx, in)
}

func (s *Service) pauseFeed(ctx context.Context, in *named) (*answer[client.FeedStatus], error) {
	if err := s.store.SetFeedState(ctx, in.Name, "paused"); err != nil {
		return nil, err
	}
	if _, err := s.store.AskStop(ctx, 0, in.Name); err != nil {
		return nil, err
	}
	if err := s.runner.Wake(ctx, in.Name); err != nil {
		return nil, err
	}
	return s.feed(ctx, in)
}

func (s *Service) removeFeed(ctx context.Context, in *named) (*none, error) {
	f, err := s.store.Feed(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if err := s.quiet(ctx, in.Name); err != nil {
		return nil, err
	}
	if err := s.store.RemoveFeed(ctx, in.Name); err != nil || !f.FollowsLog() {
		return nil, err
	}
	return nil, s.dropLog(ctx, f)
}

// quietWithin is how long the run of a feed that is removed may take to end.
const quietWithin = 20 * time.Second

// quiet pauses a feed and waits until nothing of it runs: a copy that went on would make
// anew what is about to be dropped.
func (s *Service) quiet(ctx context.Context, name string) error {
	if err := s.store.SetFeedState(ctx, name, "paused"); err != nil {
		return err
	}
	if _, err := s.store.DropQueued(ctx, 0, name); err != nil {
		return err
	}
	for until := time.Now().Add(quietWithin); ; {
		if _, err := s.store.AskStop(ctx, 0, name); err != nil {
			return err
		}
		running, err := s.store.IsRunning(ctx, name)
		if err != nil || !running {
			return err
		}
		if time.Now().After(until) {
			return problem.Newf(problem.Conflict, "It is paused. Remove it again when its run has ended.", "The feed %s was not removed: its run has not ended within %s.", name, quietWithin)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// dropLog removes what a feed has made at its source.
func (s *Service) dropLog(ctx context.Context, f *feed.Feed) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	src, err := s.links.Source(ctx, f.Source)
	if err != nil {
		return err
	}
	wh, err := s.links.Warehouse(ctx, f.Warehouse)
	if err == nil {
		err = engine.DropLog(ctx, f, src, wh)
	}
	if err != nil {
		p := problem.Of(err)
		return problem.Wrap(err, p.Code, fmt.Sprintf("The feed %s is removed, but not what it made at its source: %s", f.Name, p.What), "At the source, drop the replication slot and the publication whose names begin with noemata_: a slot that nobody reads keeps the log for ever.")
	}
	return nil
}

type copiesRequest struct {
	Name string `path:"name"`
	Body struct {
		Tables []string `json:"tables,omitempty" doc:"The tables, as the feed file has them; all where none is named, from a new place in the log"`
	}
}

// copyAgain has the next run copy tables anew.
func (s *Service) copyAgain(ctx context.Context, in *copiesRequest) (*none, error) {
	f, err := s.store.Feed(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if err := engine.MayCopyAgain(f, in.Body.Tables); err != nil {
		return nil, err
	}
	if err := s.store.AskCopies(ctx, in.Name, in.Body.Tables); err != nil {
		return nil, err
	}
	return nil, s.runner.Wake(ctx, in.Name)
}

type samplesRequest struct {
	Name  string  `path:"name"`
	Hours float64 `query:"hours" minimum:"0.05" maximum:"72" default:"1" doc:"How far back"`
}

func (s *Service) logSamples(ctx context.Context, in *samplesRequest) (*answer[[]client.LogSample], error) {
	return reply(s.store.LogSamples(ctx, in.Name, time.Duration(in.Hours*float64(time.Hour))))
}

type versionsRequest struct {
	Name  string   `path:"name"`
	Table string   `query:"table" required:"true" doc:"The table, as the feed file has it"`
	Key   []string `query:"key,explode" required:"true" doc:"A value for each column of the key, in its order"`
}

func (s *Service) versions(ctx context.Context, in *versionsRequest) (*answer[client.Versions], error) {
	w, err := s.runner.Work(ctx, in.Name, in.Table)
	if err != nil {
		return nil, err
	}
	columns, list, err := engine.Versions(ctx, w, in.Key)
	out := client.Versions{Table: in.Table, Key: in.Key, Columns: columns, Versions: []client.Version{}}
	for _, v := range list {
		out.Versions = append(out.Versions, client.Version{From: *v.From, Until: v.Until, Position: v.Position, Run: v.Run, Values: v.Values, Changed: append([]string{}, v.Changed...)})
	}
	return reply(out, err)
}

const sampleRows = 20

func (s *Service) sample(ctx context.Context, in *ofTable) (*answer[client.Sample], error) {
	w, err := s.runner.Work(ctx, in.Name, in.Table)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	x, err := engine.TakeSample(ctx, w, sampleRows)
	return reply(client.Sample(x), err)
}

func (s *Service) counts(ctx context.Context, in *ofTable) (*answer[client.Counts], error) {
	w, err := s.runner.Work(ctx, in.Name, in.Table)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	inSource, inWarehouse, err := engine.Counts(ctx, w)
	return reply(client.Counts{Source: inSource, Warehouse: inWarehouse, At: time.Now().UTC()}, err)
}

func (s *Service) prove(ctx context.Context, in *ofTable) (*answer[client.Proof], error) {
	return reply(s.runner.Prove(ctx, in.Name, in.Table))
}

func (s *Service) positions(ctx context.Context, in *named) (*answer[[]client.Place], error) {
	f, err := s.store.Feed(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	wh, err := s.links.Warehouse(ctx, f.Warehouse)
	if err != nil {
		return nil, err
	}
	found, err := wh.Places(ctx, f.Name)
	places := []client.Place{}
	for _, t := range f.Tables {
		p := client.Place{Table: t.Table}
		for _, x := range found {
			if x.Table == t.Table || x.Table == "" && t.Find == feed.FindLog {
				p.Position, p.Run, p.MovedAt = x.Position.String(), x.Run, &x.MovedAt
			}
		}
		places = append(places, p)
	}
	return reply(places, err)
}

type positionRequest struct {
	Name  string `path:"name" doc:"The feed's name"`
	Table string `query:"table" required:"true" doc:"The table, as the feed file has it"`
	Body  struct {
		Position string `json:"position" minLength:"1" doc:"The position, as it is shown"`
	}
}

func (s *Service) setPosition(ctx context.Context, in *positionRequest) (*answer[client.Place], error) {
	w, err := s.runner.Work(ctx, in.Name, in.Table)
	if err != nil {
		return nil, err
	}
	if w.Table.Find == feed.FindLog {
		return nil, problem.Newf(problem.Conflict, "To begin anew, copy the table again: noemata feeds copy "+problem.Word(in.Name)+" --table "+problem.Word(in.Table)+".", "The feed %s follows the log, and its source keeps only what lies beyond its position.", in.Name)
	}
	if w.Table.Find != feed.FindWatermark {
		return nil, problem.Newf(problem.Conflict, "It is read anew each time, so there is nothing to set.", "The table %s is not found by watermark.", in.Table)
	}
	p, err := s.checkPosition(ctx, w, in.Body.Position)
	if err != nil {
		return nil, err
	}
	return s.place(ctx, w, &p)
}

// checkPosition makes sure that a position suits the watermark's type.
func (s *Service) checkPosition(ctx context.Context, w engine.Work, text string) (position.Position, error) {
	p, err := position.Parse(text)
	if err != nil {
		return p, problem.Wrap(err, problem.Invalid, err.Error()+".", "Write it as noemata positions list shows it.")
	}
	name, err := schema.ParseName(w.Table.Table)
	if err != nil {
		return p, err
	}
	t, err := w.Source.Table(ctx, name)
	if err != nil {
		return p, err
	}
	column, _ := t.Column(w.Table.Watermark.Column)
	if p, err = p.Check(column.Type); err != nil {
		return p, problem.Wrap(err, problem.Invalid, err.Error()+".", "Write a value of the watermark column, as noemata positions list shows it.")
	}
	return p, notInTheFuture(ctx, w, p, column.Type)
}

func (s *Service) clearPosition(ctx context.Context, in *ofTable) (*answer[client.Place], error) {
	w, err := s.runner.Work(ctx, in.Name, in.Table)
	if err != nil {
		return nil, err
	}
	if w.Table.Find == feed.FindLog {
		return nil, problem.Newf(problem.Conflict, "Copy the table again: noemata feeds copy "+problem.Word(in.Name)+" --table "+problem.Word(in.Table)+".", "All tables of the feed %s advance together, so the position of one cannot be cleared.", in.Name)
	}
	return s.place(ctx, w, nil)
}

func (s *Service) place(ctx context.Context, w engine.Work, p *position.Position) (*answer[client.Place], error) {
	if err := w.Warehouse.SetPlace(ctx, w.Feed.Name, w.Table.Table, p); err != nil {
		return nil, err
	}
	x, err := w.Warehouse.Place(ctx, w.Feed.Name, w.Table.Table)
	if err != nil {
		return nil, err
	}
	if err := s.store.NotePosition(ctx, w.Feed.Name, w.Table.Table, x.Position.String()); err != nil {
		return nil, err
	}
	return reply(client.Place{Table: w.Table.Table, Position: x.Position.String(), Run: x.Run, MovedAt: &x.MovedAt}, nil)
}

func (s *Service) startRun(ctx context.Context, in *named) (*answer[client.Run], error) {
	run, err := s.store.QueueRun(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return reply(run, s.runner.Wake(ctx, in.Name))
}

type runsRequest struct {
	Feed    string `query:"feed" doc:"Only this feed's"`
	Table   string `query:"table" doc:"Only those that had this table"`
	Before  int64  `query:"before" doc:"Only those older than this run"`
	Limit   int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
	Changed bool   `query:"changed" doc:"Only those that read rows or did not succeed"`
}

func (s *Service) runs(ctx context.Context, in *runsRequest) (*answer[[]client.Run], error) {
	return reply(s.store.Runs(ctx, store.RunFilter{Feed: in.Feed, Table: in.Table, Before: in.Before, Limit: in.Limit, Changed: in.Changed}))
}

func (s *Service) run(ctx context.Context, in *numbered) (*answer[client.Run], error) {
	return reply(s.store.Run(ctx, in.ID))
}

type statementsRequest struct {
	ID    int64  `path:"id"`
	Table string `query:"table" doc:"Only those of this table"`
}

func (s *Service) statements(ctx context.Context, in *statementsRequest) (*answer[[]client.Statement], error) {
	return reply(s.store.Statements(ctx, in.ID, in.Table))
}

// stopRun has a run end that is queued or goes on.
func (s *Service) stopRun(ctx context.Context, in *numbered) (*answer[client.Run], error) {
	dropped, err := s.store.DropQueued(ctx, in.ID, "")
	if err != nil {
		return nil, err
	}
	asked, err := s.store.AskStop(ctx, in.ID, "")
	if err != nil {
		return nil, err
	}
	run, err := s.store.Run(ctx, in.ID)
	if err == nil && dropped+asked == 0 {
		err = problem.Newf(problem.Conflict, "There is nothing to stop.", "Run %d has ended: it is %s.", in.ID, run.State)
	}
	return reply(run, err)
}

// notInTheFuture refuses a position that the source's clock has not come to: whatever is
// written until then would be passed over.
func notInTheFuture(ctx context.Context, w engine.Work, p position.Position, t schema.Type) error {
	if !window.Timed(t.Kind) {
		return nil
	}
	moment, err := w.Source.Moment(ctx)
	if err != nil {
		return err
	}
	latest := moment.Clock.Add(24 * time.Hour) // whatever the zone that it is written in
	if us, err := schema.ParseTimestamp(p.Value); err != nil || us <= latest.UnixMicro() {
		return err
	}
	return problem.Newf(problem.Invalid, "Write a time that has been: rows that are written before it would never be read.", "The position %s lies in the future; the source's clock shows %s.", p, moment.Clock.UTC().Format(time.RFC3339))
}
