package httpapi

import (
	"context"
	"net/http"

	"noemata/client"
	"noemata/internal/store"
)

// describeWatching adds the calls of what runs have said and done, of what that costs sources, and of how
// long it is kept.
func (s *Service) describeWatching(api calls) {
	handle(api, operation{"list-log", http.MethodGet, "/feeds/{name}/log",
		"What the runs of a feed have said, the last entry last", "runs", 0}, s.log)
	handle(api, operation{"list-volumes", http.MethodGet, "/feeds/{name}/volumes",
		"Rows and bytes of a feed by table and day of UTC", "feeds", 0}, s.volumes)
	handle(api, operation{"show-burden", http.MethodGet, "/sources/{name}/burden",
		"What feeds cost a source: connections, statements, time, rows, bytes, and the log that it keeps for them",
		"sources", 0}, s.burden)
	handle(api, operation{"list-retention", http.MethodGet, "/retention",
		"How long things are kept, and what room they take", "processes", 0},
		s.retention)
	handle(api, operation{"set-retention", http.MethodPut, "/retention/{name}",
		"Say how long things of one kind are kept", "processes", 0},
		s.setRetention)
}

type logRequest struct {
	Name   string `path:"name" doc:"The feed's name"`
	Run    int64  `query:"run" doc:"Of this run only"`
	Table  string `query:"table" doc:"Of this table, and of the feed as a whole"`
	Level  string `query:"level" enum:"info,warning,error" default:"info" doc:"Of this level, and of those that are worse"`
	Text   string `query:"text" maxLength:"200" doc:"That contain this text, in upper or lower case"`
	After  int64  `query:"after" doc:"That came after the entry of this number, the first ones: so a log is followed"`
	Before int64  `query:"before" doc:"That came before the entry of this number"`
	Limit  int    `query:"limit" default:"200" minimum:"1" maximum:"1000" doc:"How many at most"`
}

func (s *Service) log(ctx context.Context, in *logRequest) (*answer[[]client.LogEntry], error) {
	if _, err := s.store.Feed(ctx, in.Name); err != nil {
		return nil, err
	}
	return reply(s.store.Log(ctx, in.Name, client.LogFilter{Run: in.Run, Table: in.Table, Level: in.Level, Text: in.Text,
		After: in.After, Before: in.Before, Limit: in.Limit}))
}

type volumesRequest struct {
	Name  string `path:"name" doc:"The feed's name"`
	Table string `query:"table" doc:"Of this table only"`
	Days  int    `query:"days" default:"30" minimum:"1" maximum:"400" doc:"How many days, today included"`
}

func (s *Service) volumes(ctx context.Context, in *volumesRequest) (*answer[[]client.Volume], error) {
	if _, err := s.store.Feed(ctx, in.Name); err != nil {
		return nil, err
	}
	return reply(s.store.Volumes(ctx, in.Name, in.Table, in.Days))
}

type burdenRequest struct {
	Name string `path:"name" doc:"The source's name"`
	Days int    `query:"days" default:"1" minimum:"1" maximum:"400" doc:"How many days are added up, today included"`
}

func (s *Service) burden(ctx context.Context, in *burdenRequest) (*answer[client.Burden], error) {
	if _, err := s.store.Connection(ctx, store.Sources, in.Name); err != nil {
		return nil, err
	}
	return reply(s.runner.Burden(ctx, in.Name, in.Days))
}

func (s *Service) retention(ctx context.Context, _ *none) (*answer[[]client.Retention], error) {
	return reply(s.store.Retention(ctx))
}

type retentionRequest struct {
	Name string `path:"name" doc:"What is kept, as list-retention names it"`
	Body struct {
		Keep string `json:"keep" maxLength:"20" doc:"How long, as 12h or 30d; or: forever"`
	}
}

func (s *Service) setRetention(ctx context.Context, in *retentionRequest) (*answer[[]client.Retention], error) {
	if err := s.store.SetRetention(ctx, in.Name, in.Body.Keep); err != nil {
		return nil, err
	}
	return s.retention(ctx, nil)
}
