package httpapi

import (
	"bufio"
	"context"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/store"
)

type bufioWriter = bufio.Writer

func encode(v any) string {
	b, _ := json.Marshal(v) // our own types always marshal
	return string(b)
}

// register names every call of the API. Longer than a screen: it is their list.
func (s *Service) register(api calls) {
	get, post, put, del := http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete
	handle(api, operation{"about", get, "/about", "What the service is", "service", 0}, s.about)
	handle(api, operation{"sign-in", post, "/session", "Sign the console in", "sign-in", 0}, s.signIn)
	handle(api, operation{"session", get, "/session", "Who is signed in", "sign-in", 0}, s.session)
	handle(api, operation{"sign-out", del, "/session", "Sign the console out", "sign-in", 0}, s.signOut)
	handle(api, operation{"list-tokens", get, "/tokens", "List tokens", "sign-in", 0}, s.tokens)
	handle(api, operation{"add-token", post, "/tokens", "Make a token", "sign-in", http.StatusCreated}, s.addToken)
	handle(api, operation{"remove-token", del, "/tokens/{id}", "Remove a token", "sign-in", 0}, s.removeToken)
	handle(api, operation{"list-sessions", get, "/sessions", "List the console's sign-ins that go on", "sign-in", 0},
		s.sessions)
	handle(api, operation{"end-session", del, "/sessions/{id}", "End a sign-in of the console", "sign-in", 0},
		s.endSession)
	handle(api, operation{"list-changes", get, "/changes",
		"List what people and programs have changed, or were not let change, the newest first", "sign-in", 0}, s.changes)
	handle(api, operation{"list-hash-keys", get, "/hash-keys", "List the keys that columns are hashed with",
		"hash keys", 0},
		s.hashKeys)
	handle(api, operation{"export-hash-key", get, "/hash-keys/{name}", "Give a key that columns are hashed with",
		"hash keys", 0}, s.exportHashKey)
	handle(api, operation{"import-hash-key", put, "/hash-keys/{name}", "Keep a key that was made elsewhere",
		"hash keys",
		0}, s.importHashKey)
	for _, side := range []store.Side{store.Sources, store.Warehouses} {
		group, noun := string(side), side.Noun()
		c := connections{s, side}
		handle(api, operation{"list-" + group, get, "/" + group, "List " + group, group, 0}, c.list)
		handle(api, operation{"add-" + noun, post, "/" + group, "Add a " + noun, group, http.StatusCreated}, c.add)
		handle(api, operation{"try-" + noun, post, "/" + group + "/try", "Test the settings of a " + noun +
			" that is not added yet", group, 0}, c.try)
		handle(api, operation{"show-" + noun, get, "/" + group + "/{name}", "Show a " + noun, group, 0}, c.show)
		handle(api, operation{"change-" + noun, put, "/" + group + "/{name}", "Change a " + noun +
			"; without a password the stored one stays, as long as it goes to the same server", group, 0}, c.change)
		handle(api, operation{"remove-" + noun, del, "/" + group + "/{name}", "Remove a " + noun, group, 0}, c.remove)
		handle(api, operation{"test-" + noun, post, "/" + group + "/{name}/test", "Test a " + noun, group, 0}, c.test)
	}
	handle(api, operation{"list-source-tables", get, "/sources/{name}/tables", "List a source's tables", "sources", 0},
		s.sourceTables)
	handle(api, operation{"show-source-table", get, "/sources/{name}/table", "Show a source's table", "sources", 0},
		s.sourceTable)
	handle(api, operation{"list-feeds", get, "/feeds", "List feeds with their tables", "feeds", 0}, s.feeds)
	handle(api, operation{"show-overview", get, "/overview", "What needs a person, and how each feed is doing, in a line",
		"feeds", 0}, s.overview)
	handle(api, operation{"apply-feed-file", post, "/feed-files",
		"Check a feed file, tell what it would change, and apply it", "feeds", 0}, s.applyFile)
	handle(api, operation{"preview-feed-file", post, "/previews",
		"Show rows of a table before and after a feed file has shaped them; nothing is written", "feeds", 0}, s.preview)
	handle(api, operation{"mend-feed-file", post, "/mendings",
		"Run statements that a feed file's findings give as remedies, and check the file again", "feeds", 0}, s.mend)
	handle(api, operation{"list-privileges", post, "/privileges",
		"Give the statements that make users with just what a feed file needs; nothing is run", "feeds", 0}, s.privileges)
	handle(api, operation{"propose-feed", post, "/proposals",
		"Propose how tables of a source are brought, with the reasons; nothing is written", "feeds", 0}, s.propose)
	handle(api, operation{"show-feed", get, "/feeds/{name}", "Show a feed with its tables", "feeds", 0}, s.feed)
	handle(api, operation{"export-feed", get, "/feeds/{name}/file", "Give a feed as a feed file", "feeds", 0},
		s.exportFeed)
	handle(api, operation{"list-revisions", get, "/feeds/{name}/revisions",
		"What a feed's file has said, the newest first: when it was changed, by whom, and what", "feeds", 0}, s.revisions)
	handle(api, operation{"show-revision", get, "/feeds/{name}/revisions/{revision}", "Give a feed as its file was then",
		"feeds", 0}, s.revision)
	handle(api, operation{"start-feed", post, "/feeds/{name}/start", "Let a feed run on its schedule", "feeds", 0},
		s.startFeed)
	handle(api, operation{"pause-feed", post, "/feeds/{name}/pause", "Keep a feed from running on its schedule",
		"feeds", 0}, s.pauseFeed)
	handle(api, operation{"pause-tables", post, "/feeds/{name}/pauses",
		"Have tables of a feed wait, or go on; those that follow the log are copied again then", "feeds", 0}, s.pauseTables)
	handle(api, operation{"remove-feed", del, "/feeds/{name}", "Remove a feed; the warehouse's tables stay", "feeds",
		0}, s.removeFeed)
	handle(api, operation{"list-drifts", get, "/feeds/{name}/drifts",
		"What has changed of the structure of a feed's tables, and what was done, the newest first", "feeds", 0},
		s.drifts)
	handle(api, operation{"copy-again", post, "/feeds/{name}/copies",
		"Copy tables of a feed that follows the log anew, with the next run", "feeds", 0}, s.copyAgain)
	handle(api, operation{"list-log-samples", get, "/feeds/{name}/samples",
		"How far a feed was behind its source's log, and what it applied, over time", "feeds", 0}, s.logSamples)
	handle(api, operation{"list-versions", get, "/feeds/{name}/versions", "The versions of one row of a history",
		"tables", 0}, s.versions)
	handle(api, operation{"sample-table", get, "/feeds/{name}/sample", "The newest rows of a table on both sides",
		"tables", 0}, s.sample)
	handle(api, operation{"count-table", get, "/feeds/{name}/counts", "Count a table's rows on both sides", "tables",
		0}, s.counts)
	handle(api, operation{"list-positions", get, "/feeds/{name}/positions", "List the positions of a feed's tables",
		"positions", 0}, s.positions)
	handle(api, operation{"set-position", put, "/feeds/{name}/positions", "Set a table's position", "positions", 0},
		s.setPosition)
	handle(api, operation{"clear-position", del, "/feeds/{name}/positions",
		"Clear a table's position: the next run begins anew", "positions", 0}, s.clearPosition)
	handle(api, operation{"start-run", post, "/feeds/{name}/runs", "Run a feed now", "runs", http.StatusAccepted},
		s.startRun)
	handle(api, operation{"list-runs", get, "/runs", "List runs, the newest first", "runs", 0}, s.runs)
	handle(api, operation{"show-run", get, "/runs/{id}", "Show a run with its tables", "runs", 0}, s.run)
	handle(api, operation{"stop-run", post, "/runs/{id}/stop", "Stop a run; what it has committed stays", "runs",
		http.StatusAccepted}, s.stopRun)
	handle(api, operation{"list-statements", get, "/runs/{id}/statements", "Every statement of a run, in pages", "runs",
		0}, s.statements)
	s.describeBackfills(api)
	s.describeAlerts(api)
	s.describeProcesses(api)
	s.describeUsers(api)
	s.describeWatching(api)
	s.describeAsking(api)
	s.describeDerived(api)
	s.describeMarks(api)
	s.describeProvings(api)
	describeEvents(api)
}

type numbered struct {
	ID int64 `path:"id"`
}

// connections are the calls that sources and warehouses have in common.
type connections struct {
	*Service
	side store.Side
}

type newConnection struct{ Body client.NewConnection }

func (c connections) add(ctx context.Context, in *newConnection) (*answer[client.Connection], error) {
	return reply(c.rules.AddConnection(ctx, c.side, in.Body))
}

func (c connections) try(ctx context.Context, in *newConnection) (*answer[client.Tested], error) {
	return tested(c.rules.TryConnection(ctx, c.side, in.Body))
}

func (c connections) test(ctx context.Context, in *named) (*answer[client.Tested], error) {
	return tested(c.rules.TestConnection(ctx, c.side, in.Name))
}

func tested(t client.Tested, err error) (*answer[client.Tested], error) {
	if err != nil {
		return nil, fromTest(t.Steps, err)
	}
	return reply(t, nil)
}

// Belonging asks for what is of somebody, or has a label. It is exported for huma to fill it.
type Belonging struct {
	Owner string `query:"owner" doc:"Of this owner only"`
	Team  string `query:"team" doc:"Of this team only"`
	Label string `query:"label" doc:"With this label only: its name, or name=value"`
}

func (in *Belonging) leavesOut(b client.Belongs) bool {
	return other(in.Owner, b.Owner) || other(in.Team, b.Team) || in.Label != "" && !b.Labels.Has(in.Label)
}

// other tells whether something else was asked for.
func other(asked, got string) bool { return asked != "" && asked != got }

type connectionFilter struct {
	Belonging
	Kind string `query:"kind" doc:"Of this kind only"`
}

func (c connections) list(ctx context.Context, in *connectionFilter) (*answer[[]client.Connection], error) {
	all, err := c.store.Connections(ctx, c.side)
	return reply(slices.DeleteFunc(all, func(x client.Connection) bool {
		return other(in.Kind, x.Kind) || in.leavesOut(x.Belongs)
	}), err)
}

func (c connections) show(ctx context.Context, in *named) (*answer[client.Connection], error) {
	return reply(c.store.Connection(ctx, c.side, in.Name))
}

type changedConnection struct {
	Name string `path:"name"`
	Body client.NewConnection
}

func (c connections) change(ctx context.Context, in *changedConnection) (*answer[client.Connection], error) {
	return reply(c.rules.ChangeConnection(ctx, c.side, in.Name, in.Body))
}

func (c connections) remove(ctx context.Context, in *named) (*none, error) {
	return nil, c.store.RemoveConnection(ctx, c.side, in.Name)
}

func (s *Service) sourceTables(ctx context.Context, in *named) (*answer[[]client.SourceTable], error) {
	src, err := s.databases.Source(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	found, err := src.Tables(ctx)
	tables := []client.SourceTable{}
	for _, t := range found {
		tables = append(tables, client.SourceTable{Table: t.Name.Display(), Schema: t.Name.Schema, View: t.View,
			Partitioned: t.Partitioned, Rows: t.Rows, Bytes: t.Bytes, Key: t.Key, Comment: t.Comment})
	}
	return reply(tables, err)
}

func (s *Service) sourceTable(ctx context.Context, in *ofTable) (*answer[client.SourceTable], error) {
	name, err := schema.ParseName(in.Table)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, err.Error()+".", "Quote a part that contains a dot.")
	}
	src, err := s.databases.Source(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	t, err := src.Table(ctx, name)
	out := client.SourceTable{Table: t.Name.Display(), Schema: t.Name.Schema, View: t.View, Partitioned: t.Partitioned,
		Rows: t.Rows, Bytes: -1, Key: t.Key, Comment: t.Comment}
	for _, c := range t.Columns {
		out.Columns = append(out.Columns,
			client.SourceColumn{Name: c.Name, Native: c.Native, Type: c.Type.String(), Nullable: c.Nullable,
				Watermark: window.Usable(c.Type)})
	}
	return reply(out, err)
}

type feedFilter struct {
	Belonging
	Source    string `query:"source" doc:"From this source only"`
	Warehouse string `query:"warehouse" doc:"Into this warehouse only"`
	State     string `query:"state" doc:"In this state only"`
}

func (in *feedFilter) leavesOut(f client.FeedStatus) bool {
	return in.Belonging.leavesOut(f.Belongs) || other(in.Source, f.Source) || other(in.Warehouse, f.Warehouse) ||
		other(in.State, f.State)
}

func (s *Service) feeds(ctx context.Context, in *feedFilter) (*answer[[]client.FeedStatus], error) {
	all, err := s.store.Feeds(ctx, "")
	t := who(ctx)
	return reply(slices.DeleteFunc(all, func(f client.FeedStatus) bool { return in.leavesOut(f) || !sees(t, f.Labels) }),
		err)
}

func (s *Service) overview(ctx context.Context, in *feedFilter) (*answer[client.Overview], error) {
	found, err := s.feeds(ctx, in)
	if err != nil {
		return nil, err
	}
	derived, err := s.derivedSets(ctx, nil)
	if err != nil {
		return nil, err
	}
	sets := slices.DeleteFunc(derived.Body, func(d client.DerivedSet) bool {
		return in.Belonging.leavesOut(d.Belongs) || in.Source != "" || other(in.Warehouse, d.Warehouse) || other(in.State, d.State)
	})
	return reply(records.Summed(found.Body, sets, time.Now().UTC()), nil)
}

func (s *Service) feed(ctx context.Context, in *named) (*answer[client.FeedStatus], error) {
	return reply(s.rules.Feed(ctx, in.Name))
}

type fileRequest struct {
	Body struct {
		File    string `json:"file" doc:"The feed file, in YAML"`
		DryRun  bool   `json:"dry_run,omitempty" doc:"Check and compare only; change nothing"`
		Offline bool   `json:"offline,omitempty" doc:"With dry_run: do not ask the source and the warehouse for findings"`
	}
}

func (s *Service) applyFile(ctx context.Context, in *fileRequest) (*answer[client.Applied], error) {
	return reply(s.rules.Apply(ctx, in.Body.File, applying(in.Body.DryRun, in.Body.Offline), who(ctx).Name))
}

type previewRequest struct {
	Body struct {
		File  string `json:"file" doc:"The feed file, in YAML"`
		Table string `json:"table" doc:"The table, as the file has it"`
		Rows  int    `json:"rows,omitempty" minimum:"1" maximum:"100" default:"10" doc:"How many rows are shown"`
	}
}

// previewWithin is how long a preview may take.
const previewWithin = 30 * time.Second

func (s *Service) preview(ctx context.Context, in *previewRequest) (*answer[client.Preview], error) {
	ctx, cancel := context.WithTimeout(ctx, previewWithin)
	defer cancel()
	x, err := s.rules.Preview(ctx, in.Body.File, in.Body.Table, in.Body.Rows)
	out := client.Preview{Table: in.Body.Table, Before: x.Before, After: x.After, Rows: []client.PreviewRow{},
		Read:     x.Read,
		Filtered: x.Filtered, SetAside: x.SetAside}
	for _, r := range x.Rows {
		out.Rows = append(out.Rows, client.PreviewRow(r))
	}
	return reply(out, err)
}

type mendingRequest struct {
	Body client.Mending
}

func (s *Service) mend(ctx context.Context, in *mendingRequest) (*answer[client.Mended], error) {
	return reply(s.rules.Mend(ctx, in.Body, who(ctx).Name))
}

type privilegesRequest struct{ Body client.PrivilegesAsked }

func (s *Service) privileges(ctx context.Context, in *privilegesRequest) (*answer[client.Privileges], error) {
	return reply(s.rules.Privileges(ctx, in.Body))
}

type proposalRequest struct {
	Body struct {
		Feed      string   `json:"feed,omitempty" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"What the feed is to be called; after source and warehouse when left out"`
		Source    string   `json:"source" doc:"The name of the source"`
		Warehouse string   `json:"warehouse" doc:"The name of the warehouse"`
		Tables    []string `json:"tables" minItems:"1" maxItems:"1000" doc:"Tables, as schema.table, or patterns, as public.*"`
		Except    []string `json:"except,omitempty" maxItems:"1000" doc:"Tables, or patterns, that patterns leave out"`
	}
}

// proposedWithin is how long a proposal may take.
const proposedWithin = 5 * time.Minute

func (s *Service) propose(ctx context.Context, in *proposalRequest) (*answer[client.Proposed], error) {
	ctx, cancel := context.WithTimeout(ctx, proposedWithin)
	defer cancel()
	b := in.Body
	file, proposals, findings, err := s.rules.Propose(ctx, b.Feed, b.Source, b.Warehouse, b.Tables, b.Except)
	out := client.Proposed{File: file, Tables: []client.ProposedTable{}, Findings: findings}
	for _, p := range proposals {
		t := client.ProposedTable{Table: p.Table.Table, Rows: p.Rows, Find: string(p.Table.Find), Keep: string(p.Table.Keep),
			Why: p.Why, Private: []client.ProposedColumn{}}
		for _, c := range p.Private {
			t.Private = append(t.Private, client.ProposedColumn{Column: c.Column, Looks: c.Looks,
				Treatment: c.Treatment.Words()})
		}
		out.Tables = append(out.Tables, t)
	}
	return reply(out, err)
}

func (s *Service) hashKeys(ctx context.Context, _ *none) (*answer[[]client.HashKey], error) {
	return reply(s.store.HashKeys(ctx))
}

type hashKeyContent struct {
	Key string `json:"key" doc:"64 hexadecimal digits"`
}

func (s *Service) exportHashKey(ctx context.Context, in *named) (*answer[hashKeyContent], error) {
	key, err := s.store.HashKey(ctx, in.Name)
	return reply(hashKeyContent{hex.EncodeToString(key)}, err)
}

type hashKeyRequest struct {
	Name string `path:"name" pattern:"^[a-z][a-z0-9-]{0,62}$"`
	Body hashKeyContent
}

func (s *Service) importHashKey(ctx context.Context, in *hashKeyRequest) (*none, error) {
	key, err := hex.DecodeString(strings.TrimSpace(in.Body.Key))
	if err != nil {
		return nil, problem.New(problem.Invalid, "The key is not written in hexadecimal digits.",
			"Give what noemata keys export has written.")
	}
	return nil, s.store.TakeHashKey(ctx, in.Name, key)
}

type feedFile struct {
	File string `json:"file" doc:"The feed file, in YAML"`
}

func (s *Service) exportFeed(ctx context.Context, in *named) (*answer[feedFile], error) {
	f, _, err := s.store.FeedFile(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return reply(feedFile{string(f.File())}, nil)
}

func (s *Service) revisions(ctx context.Context, in *named) (*answer[[]client.Revision], error) {
	return reply(s.store.Revisions(ctx, in.Name))
}

type revisionRequest struct {
	Name     string `path:"name" doc:"The feed's name"`
	Revision int64  `path:"revision" minimum:"1"`
}

func (s *Service) revision(ctx context.Context, in *revisionRequest) (*answer[feedFile], error) {
	f, err := s.store.Revision(ctx, in.Name, in.Revision)
	if err != nil {
		return nil, err
	}
	return reply(feedFile{string(f.File())}, nil)
}

func (s *Service) startFeed(ctx context.Context, in *named) (*answer[client.FeedStatus], error) {
	if err := s.rules.Start(ctx, in.Name); err != nil {
		return nil, err
	}
	return s.feed(ctx, in)
}

func (s *Service) pauseFeed(ctx context.Context, in *named) (*answer[client.FeedStatus], error) {
	if err := s.rules.Pause(ctx, in.Name); err != nil {
		return nil, err
	}
	return s.feed(ctx, in)
}

type pausesRequest struct {
	Name string `path:"name"`
	Body struct {
		Tables []string `json:"tables" minItems:"1" doc:"The tables, as schema.table"`
		Paused bool     `json:"paused" doc:"Whether they wait"`
	}
}

func (s *Service) pauseTables(ctx context.Context, in *pausesRequest) (*answer[client.FeedStatus], error) {
	if err := s.rules.PauseTables(ctx, in.Name, in.Body.Tables, in.Body.Paused, who(ctx).Name); err != nil {
		return nil, err
	}
	return s.feed(ctx, &named{Name: in.Name})
}

func (s *Service) removeFeed(ctx context.Context, in *named) (*none, error) {
	return nil, s.rules.Remove(ctx, in.Name)
}

type copiesRequest struct {
	Name string `path:"name"`
	Body struct {
		Tables []string `json:"tables,omitempty" doc:"The tables, as the feed file has them; all where none is named, from a new place in the log"`
	}
}

func (s *Service) copyAgain(ctx context.Context, in *copiesRequest) (*none, error) {
	return nil, s.rules.CopyAgain(ctx, in.Name, in.Body.Tables)
}

// mostDrifts is how many drifts are listed at most.
const mostDrifts = 500

func (s *Service) drifts(ctx context.Context, in *named) (*answer[[]client.Drift], error) {
	return reply(s.rules.Drifts(ctx, in.Name, mostDrifts))
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
		out.Versions = append(out.Versions,
			client.Version{From: *v.From, Until: v.Until, Position: v.Position, Run: v.Run, Values: v.Values,
				Changed: append([]string{}, v.Changed...)})
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
	inSource, inWarehouse, size, err := engine.Counts(ctx, w)
	return reply(client.Counts{Source: inSource, Warehouse: inWarehouse, Bytes: size, At: time.Now().UTC()}, err)
}

func (s *Service) positions(ctx context.Context, in *named) (*answer[[]client.Checkpoint], error) {
	return reply(s.rules.Positions(ctx, in.Name))
}

type positionRequest struct {
	Name  string `path:"name" doc:"The feed's name"`
	Table string `query:"table" required:"true" doc:"The table, as the feed file has it"`
	Body  client.Move
}

func (s *Service) setPosition(ctx context.Context, in *positionRequest) (*answer[client.Checkpoint], error) {
	return reply(s.rules.SetPosition(ctx, in.Name, in.Table, in.Body))
}

func (s *Service) clearPosition(ctx context.Context, in *ofTable) (*answer[client.Checkpoint], error) {
	return reply(s.rules.ClearPosition(ctx, in.Name, in.Table))
}

func (s *Service) startRun(ctx context.Context, in *named) (*answer[client.Run], error) {
	return reply(s.rules.Run(ctx, in.Name))
}

func (s *Service) stopRun(ctx context.Context, in *numbered) (*answer[client.Run], error) {
	return reply(s.rules.Stop(ctx, in.ID))
}

type runsRequest struct {
	Feed    string `query:"feed" doc:"Only this feed's"`
	Table   string `query:"table" doc:"Only those that had this table"`
	Before  int64  `query:"before" doc:"Only those older than this run"`
	Limit   int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
	Changed bool   `query:"changed" doc:"Only those that read rows or did not succeed"`
}

func (s *Service) runs(ctx context.Context, in *runsRequest) (*answer[[]client.Run], error) {
	return reply(s.store.Runs(ctx, store.RunFilter{Feed: in.Feed, Table: in.Table, Before: in.Before, Limit: in.Limit,
		Changed: in.Changed, Label: who(ctx).Label}))
}

func (s *Service) run(ctx context.Context, in *numbered) (*answer[client.Run], error) {
	return reply(s.store.Run(ctx, in.ID))
}

type statementsRequest struct {
	ID    int64  `path:"id"`
	Table string `query:"table" doc:"Only those of this table"`
	After int64  `query:"after" doc:"Only those after this one"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (s *Service) statements(ctx context.Context, in *statementsRequest) (*answer[[]client.Statement], error) {
	return reply(s.store.Statements(ctx, in.ID, in.Table, in.After, in.Limit))
}
