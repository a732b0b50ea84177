package httpapi

import (
	"context"
	"net/http"

	"noemata/client"
)

// describeMarks adds the calls about what lakes keep under names.
func (s *Service) describeMarks(api calls) {
	const group = "warehouses"
	handle(api, operation{"list-marks", http.MethodGet, "/warehouses/{name}/marks",
		"List what a lake keeps under names, the newest first", group, 0}, s.marks)
	handle(api, operation{"add-mark", http.MethodPost, "/warehouses/{name}/marks",
		"Keep what all tables of a lake hold now under a name", group, http.StatusCreated}, s.addMark)
	handle(api, operation{"remove-mark", http.MethodDelete, "/warehouses/{name}/marks/{mark}",
		"Let what a lake keeps under a name go", group, 0}, s.removeMark)
}

func (s *Service) marks(ctx context.Context, in *named) (*answer[[]client.Mark], error) {
	return reply(s.rules.Marks(ctx, in.Name))
}

type markRequest struct {
	Name string `path:"name" doc:"The warehouse's name"`
	Body client.NewMark
}

func (s *Service) addMark(ctx context.Context, in *markRequest) (*none, error) {
	return nil, s.rules.AddMark(ctx, in.Name, in.Body)
}

type marked struct {
	Name string `path:"name" doc:"The warehouse's name"`
	Mark string `path:"mark" doc:"The mark's name"`
}

func (s *Service) removeMark(ctx context.Context, in *marked) (*none, error) {
	return nil, s.rules.RemoveMark(ctx, in.Name, in.Mark)
}
