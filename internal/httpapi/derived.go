package httpapi

import (
	"context"
	"net/http"
	"slices"

	"noemata/client"
	"noemata/internal/feeds"
)

// describeDerived adds the calls about derived tables.
func (s *Service) describeDerived(api calls) {
	const group = "derived tables"
	handle(api, operation{"list-derived", http.MethodGet, "/derived", "List sets of derived tables", group, 0}, s.derivedSets)
	handle(api, operation{"apply-derived-file", http.MethodPost, "/derived-files",
		"Check a file of derived tables, tell what it would change, and apply it", group, 0}, s.applyDerived)
	handle(api, operation{"show-derived", http.MethodGet, "/derived/{name}", "Show a set of derived tables", group, 0},
		s.derivedSet)
	handle(api, operation{"export-derived", http.MethodGet, "/derived/{name}/file", "Give a set as its file", group, 0},
		s.exportDerived)
	handle(api, operation{"start-derived", http.MethodPost, "/derived/{name}/start", "Let the tables of a set be made on their own",
		group, 0}, s.startDerived)
	handle(api, operation{"pause-derived", http.MethodPost, "/derived/{name}/pause",
		"Have the tables of a set made only when a person asks for it", group, 0}, s.pauseDerived)
	handle(api, operation{"make-derived", http.MethodPost, "/derived/{name}/makings", "Make tables of a set now", group,
		http.StatusAccepted}, s.makeDerived)
	handle(api, operation{"remove-derived", http.MethodDelete, "/derived/{name}",
		"Remove a set; its tables stay in the warehouse unless they are to be dropped", group, 0}, s.removeDerived)
	handle(api, operation{"drop-derived", http.MethodDelete, "/warehouses/{name}/derived",
		"Drop a derived table that no set has any more", group, 0}, s.dropDerived)
	handle(api, operation{"list-derivations", http.MethodGet, "/derived/{name}/makings",
		"List when tables of a set were made, the newest first", group, 0}, s.derivations)
	handle(api, operation{"show-derivation", http.MethodGet, "/derivations/{id}", "Show one making of a table, with its statements",
		group, 0}, s.derivation)
	handle(api, operation{"stop-derivation", http.MethodPost, "/derivations/{id}/stop",
		"Stop the making of a table, which stays as it was", group, http.StatusAccepted}, s.stopDerivation)
}

func (s *Service) derivedSets(ctx context.Context, _ *none) (*answer[[]client.DerivedSet], error) {
	all, err := s.rules.DerivedSets(ctx, "")
	t := who(ctx)
	return reply(slices.DeleteFunc(all, func(d client.DerivedSet) bool { return !sees(t, d.Labels) }), err)
}

func (s *Service) derivedSet(ctx context.Context, in *named) (*answer[client.DerivedSet], error) {
	found, err := s.rules.DerivedSets(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return reply(found[0], nil)
}

type derivedFileRequest struct {
	Body struct {
		File    string            `json:"file" doc:"The file of derived tables, in YAML"`
		Files   map[string]string `json:"files,omitempty" doc:"The texts of the files that it names for SQL, by these names"`
		DryRun  bool              `json:"dry_run,omitempty" doc:"Check and compare only; change nothing"`
		Offline bool              `json:"offline,omitempty" doc:"With dry_run: do not ask the warehouse for findings"`
	}
}

func (s *Service) applyDerived(ctx context.Context, in *derivedFileRequest) (*answer[client.DerivedApplied], error) {
	return reply(s.rules.ApplyDerived(ctx, in.Body.File, in.Body.Files, applying(in.Body.DryRun, in.Body.Offline), who(ctx)))
}

// applying is how far a file is applied.
func applying(dryRun, offline bool) feeds.Applying {
	switch {
	case dryRun && offline:
		return feeds.Compare
	case dryRun:
		return feeds.DryRun
	}
	return feeds.ForReal
}

func (s *Service) exportDerived(ctx context.Context, in *named) (*answer[feedFile], error) {
	found, err := s.store.DerivedSets(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return reply(feedFile{string(found[0].File())}, nil)
}

func (s *Service) startDerived(ctx context.Context, in *named) (*answer[client.DerivedSet], error) {
	if err := s.store.SetDerivedActive(ctx, in.Name, true); err != nil {
		return nil, err
	}
	return s.derivedSet(ctx, in)
}

func (s *Service) pauseDerived(ctx context.Context, in *named) (*answer[client.DerivedSet], error) {
	if err := s.store.SetDerivedActive(ctx, in.Name, false); err != nil {
		return nil, err
	}
	return s.derivedSet(ctx, in)
}

type makeDerivedRequest struct {
	Name string `path:"name" doc:"The set's name"`
	Body struct {
		Tables []string `json:"tables,omitempty" maxItems:"1000" doc:"Tables, as the set's file has them; all when left out"`
	}
}

func (s *Service) makeDerived(ctx context.Context, in *makeDerivedRequest) (*none, error) {
	return nil, s.rules.MakeDerived(ctx, in.Name, in.Body.Tables, who(ctx).Name)
}

type removeDerivedRequest struct {
	Name string `path:"name" doc:"The set's name"`
	Drop bool   `query:"drop" doc:"Drop its tables, too"`
}

func (s *Service) removeDerived(ctx context.Context, in *removeDerivedRequest) (*none, error) {
	return nil, s.rules.RemoveDerived(ctx, in.Name, in.Drop)
}

type dropDerivedRequest struct {
	Name  string `path:"name" doc:"The warehouse's name"`
	Table string `query:"table" required:"true" doc:"The table, as schema.table"`
}

func (s *Service) dropDerived(ctx context.Context, in *dropDerivedRequest) (*none, error) {
	return nil, s.rules.DropDerived(ctx, in.Name, in.Table)
}

type derivationsRequest struct {
	Name  string `path:"name" doc:"The set's name"`
	Table string `query:"table" doc:"Of this table only, as the set's file has it"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"500" doc:"How many at most"`
}

func (s *Service) derivations(ctx context.Context, in *derivationsRequest) (*answer[[]client.Derivation], error) {
	if _, err := s.store.DerivedSets(ctx, in.Name); err != nil {
		return nil, err
	}
	return reply(s.store.Derivations(ctx, in.Name, in.Table, in.Limit))
}

func (s *Service) derivation(ctx context.Context, in *numbered) (*answer[client.Derivation], error) {
	return reply(s.store.Derivation(ctx, in.ID))
}

func (s *Service) stopDerivation(ctx context.Context, in *numbered) (*none, error) {
	if _, err := s.store.Derivation(ctx, in.ID); err != nil {
		return nil, err
	}
	return nil, s.store.StopDerivation(ctx, in.ID, who(ctx).Name)
}
