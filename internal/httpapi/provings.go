package httpapi

import (
	"context"
	"net/http"

	"noemata/client"
)

// describeProvings adds the calls of proofs and repairs.
func (s *Service) describeProvings(api calls) {
	const group = "proofs"
	handle(api, operation{"start-proof", http.MethodPost, "/feeds/{name}/proofs",
		"Compare every value of a table's rows on both sides; or repair it: bring the rows that differ to what the source has",
		group, http.StatusAccepted}, s.startProving)
	handle(api, operation{"list-proofs", http.MethodGet, "/feeds/{name}/proofs",
		"List a feed's proofs and repairs, the newest first", group, 0}, s.provings)
	handle(api, operation{"show-proof", http.MethodGet, "/proofs/{id}",
		"Show a proof or a repair, with the first rows that differ and its statements", group, 0}, s.proving)
	handle(api, operation{"stop-proof", http.MethodPost, "/proofs/{id}/stop",
		"Stop a proof or a repair; what was repaired stays", group, 0}, s.stopProving)
}

type provingRequest struct {
	Name  string `path:"name" doc:"The feed's name"`
	Table string `query:"table" required:"true" doc:"The table, as the feed file has it"`
	Body  *struct {
		Repair bool   `json:"repair,omitempty" doc:"Bring the rows that differ to what the source has"`
		Since  string `json:"since,omitempty" doc:"Look at rows from this value of the watermark on, or at those of so long before where the table stands, as 2d; at all where it is left out"`
	}
}

func (s *Service) startProving(ctx context.Context, in *provingRequest) (*answer[client.Proving], error) {
	repair, since := false, ""
	if in.Body != nil {
		repair, since = in.Body.Repair, in.Body.Since
	}
	return reply(s.runner.Prove(ctx, in.Name, in.Table, repair, since, who(ctx).Name))
}

type provingsRequest struct {
	Name  string `path:"name" doc:"The feed's name"`
	Table string `query:"table" doc:"Of this table only"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"500" doc:"How many at most"`
}

func (s *Service) provings(ctx context.Context, in *provingsRequest) (*answer[[]client.Proving], error) {
	if _, err := s.store.Feed(ctx, in.Name); err != nil {
		return nil, err
	}
	return reply(s.store.Provings(ctx, in.Name, in.Table, in.Limit))
}

func (s *Service) proving(ctx context.Context, in *numbered) (*answer[client.Proving], error) {
	return reply(s.store.Proving(ctx, in.ID))
}

func (s *Service) stopProving(ctx context.Context, in *numbered) (*answer[client.Proving], error) {
	return reply(s.store.StopProving(ctx, in.ID))
}
