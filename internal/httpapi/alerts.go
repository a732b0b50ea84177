package httpapi

import (
	"context"
	"net/http"
	"slices"
	"time"

	"noemata/client"
	"noemata/internal/alerts"
	"noemata/internal/core/problem"
)

// describeAlerts adds the calls of alerts and channels.
func (s *Service) describeAlerts(api calls) {
	const group = "alerts"
	handle(api, operation{"list-alerts", http.MethodGet, "/alerts",
		"List what needs a person, and what did, the newest first", group, 0},
		s.alerts)
	handle(api, operation{"list-channels", http.MethodGet, "/channels", "List who is told of alerts, and how", group, 0},
		s.channels)
	handle(api, operation{"add-channel", http.MethodPost, "/channels", "Add a channel", group, http.StatusCreated},
		s.addChannel)
	handle(api, operation{"show-channel", http.MethodGet, "/channels/{name}", "Show a channel", group, 0}, s.channel)
	handle(api, operation{"change-channel", http.MethodPut, "/channels/{name}",
		"Change a channel; without a secret the stored one stays, as long as messages go where they went", group, 0},
		s.changeChannel)
	handle(api, operation{"remove-channel", http.MethodDelete, "/channels/{name}", "Remove a channel", group, 0},
		s.removeChannel)
	handle(api, operation{"test-channel", http.MethodPost, "/channels/{name}/test",
		"Send a message by a channel that says that it works",
		group, 0}, s.testChannel)
}

type alertsRequest struct {
	All   bool `query:"all" doc:"Also those that are over"`
	Limit int  `query:"limit" default:"100" minimum:"1" maximum:"1000" doc:"How many at most"`
}

func (s *Service) alerts(ctx context.Context, in *alertsRequest) (*answer[[]client.Alert], error) {
	list, err := s.store.Alerts(ctx, in.All, in.Limit)
	if t := who(ctx); t.Label != "" && err == nil {
		wanted := s.wanted(t)
		list = slices.DeleteFunc(list, func(a client.Alert) bool { return a.Feed == "" || !wanted(a.Feed) })
	}
	return reply(list, err)
}

func (s *Service) channels(ctx context.Context, _ *none) (*answer[[]client.Channel], error) {
	return reply(s.store.Channels(ctx))
}

func (s *Service) channel(ctx context.Context, in *named) (*answer[client.Channel], error) {
	return reply(s.store.Channel(ctx, in.Name))
}

type newChannel struct{ Body client.Channel }

func (s *Service) addChannel(ctx context.Context, in *newChannel) (*answer[client.Channel], error) {
	return s.saveChannel(ctx, in.Body, false)
}

type changedChannel struct {
	Name string `path:"name"`
	Body client.Channel
}

func (s *Service) changeChannel(ctx context.Context, in *changedChannel) (*answer[client.Channel], error) {
	if in.Body.Name != in.Name {
		return nil, problem.New(problem.Invalid, "The name in the body is not the one in the path.",
			"A name cannot be changed; add another and remove this one.")
	}
	return s.saveChannel(ctx, in.Body, true)
}

func (s *Service) saveChannel(ctx context.Context, c client.Channel, replace bool) (*answer[client.Channel], error) {
	c, err := alerts.Check(c)
	if err == nil {
		err = s.store.SaveChannel(ctx, c, replace)
	}
	if err != nil {
		return nil, err
	}
	return reply(s.store.Channel(ctx, c.Name))
}

func (s *Service) removeChannel(ctx context.Context, in *named) (*none, error) {
	return nil, s.store.RemoveChannel(ctx, in.Name)
}

func (s *Service) testChannel(ctx context.Context, in *named) (*answer[client.Channel], error) {
	c, err := s.store.ChannelWithSecret(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	failure := alerts.Send(ctx, c, alerts.Message{Test: true,
		Alerts: []client.Alert{{Kind: "test", What: "Somebody has tried this channel.",
			BeganAt: time.Now().UTC(), Told: []string{}}}})
	if err := s.store.Told(ctx, c.Name, nil, false, failure); err != nil {
		return nil, err
	}
	if failure != nil {
		return nil, failure
	}
	return reply(s.store.Channel(ctx, in.Name))
}
