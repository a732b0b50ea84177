package httpapi

import (
	"context"
	"net/http"

	"noemata/client"
)

// describeProcesses adds the calls of the service's processes.
func (s *Service) describeProcesses(api calls) {
	const group = "processes"
	handle(api, operation{"list-processes", http.MethodGet, "/processes", "List the processes that share the work", group,
		0}, s.processes)
	handle(api, operation{"list-places", http.MethodGet, "/places",
		"List the warehouses that are files, where they are and which process works on their feeds", group, 0}, s.places)
	handle(api, operation{"drain-process", http.MethodPost, "/processes/{name}/drain",
		"Have a process take up no more work, and leave what it has to others", group, 0}, s.drain)
	handle(api, operation{"resume-process", http.MethodPost, "/processes/{name}/resume", "Have a process work again",
		group, 0}, s.resume)
}

func (s *Service) processes(ctx context.Context, _ *none) (*answer[[]client.Process], error) {
	return reply(s.store.Processes(ctx))
}

func (s *Service) places(ctx context.Context, _ *none) (*answer[[]client.Place], error) {
	return reply(s.store.Places(ctx))
}

func (s *Service) drain(ctx context.Context, in *named) (*answer[client.Process], error) {
	return reply(s.store.Drain(ctx, in.Name, true))
}

func (s *Service) resume(ctx context.Context, in *named) (*answer[client.Process], error) {
	return reply(s.store.Drain(ctx, in.Name, false))
}
