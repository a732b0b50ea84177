package httpapi

import (
	"context"
	"net/http"

	"noemata/client"
)

// describeBackfills adds the calls of backfills.
func (s *Service) describeBackfills(api calls) {
	const group = "backfills"
	handle(api, operation{"start-backfill", http.MethodPost, "/feeds/{name}/backfills",
		"Read a range of a table again in slices, beside the feed's runs", group, http.StatusCreated}, s.startBackfill)
	handle(api, operation{"list-backfills", http.MethodGet, "/feeds/{name}/backfills",
		"List a feed's backfills, the newest first",
		group, 0}, s.backfills)
	handle(api, operation{"show-backfill", http.MethodGet, "/backfills/{id}", "Show a backfill", group, 0}, s.backfill)
	for _, x := range []struct{ verb, state, what string }{
		{"pause", "paused", "Pause a backfill after the slice that it is at"},
		{"resume", "waiting", "Let a paused backfill go on"},
		{"stop", "stopped", "End a backfill after the slice that it is at; what it has read stays"},
	} {
		handle(api, operation{x.verb + "-backfill", http.MethodPost, "/backfills/{id}/" + x.verb, x.what, group, 0},
			func(ctx context.Context, in *numbered) (*answer[client.Backfill], error) {
				return reply(s.rules.SetBackfill(ctx, in.ID, x.state))
			})
	}
}

type backfillRequest struct {
	Name  string `path:"name" doc:"The feed's name"`
	Table string `query:"table" required:"true" doc:"The table, as the feed file has it"`
	Body  client.BackfillRange
}

func (s *Service) startBackfill(ctx context.Context, in *backfillRequest) (*answer[client.Backfill], error) {
	return reply(s.rules.Backfill(ctx, in.Name, in.Table, in.Body))
}

func (s *Service) backfills(ctx context.Context, in *named) (*answer[[]client.Backfill], error) {
	return reply(s.rules.Backfills(ctx, in.Name))
}

func (s *Service) backfill(ctx context.Context, in *numbered) (*answer[client.Backfill], error) {
	return reply(s.store.Backfill(ctx, in.ID))
}
