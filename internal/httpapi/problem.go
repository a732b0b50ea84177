package httpapi

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// ProblemDetails is an error of the API, as RFC 9457 describes problem details.
type ProblemDetails struct {
	Type   string             `json:"type" doc:"Always about:blank: code tells the kinds apart"`
	Title  string             `json:"title" doc:"The HTTP status in words"`
	Status int                `json:"status" doc:"The HTTP status"`
	Detail string             `json:"detail" doc:"What happened, to which thing"`
	Code   string             `json:"code" doc:"A stable name for the kind of problem"`
	Remedy string             `json:"remedy,omitempty" doc:"What to do"`
	Field  string             `json:"field,omitempty" doc:"The setting that is to be corrected, such as host or tunnel.0.user"`
	Value  string             `json:"value,omitempty" doc:"What the setting may be set to, once a person has made sure of it"`
	Steps  []connection.Taken `json:"steps,omitempty" doc:"Of a test: the steps that were taken; the last one is the one that failed"`
	Errors []string           `json:"errors,omitempty" doc:"What is wrong with the request or the feed file, item by item, each after where it is"`
}

func (p *ProblemDetails) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *ProblemDetails) GetStatus() int { return p.Status }

// ContentType is that of problem details.
func (p *ProblemDetails) ContentType(string) string { return "application/problem+json" }

var statuses = map[problem.Code]int{
	problem.Invalid: http.StatusUnprocessableEntity, problem.NotFound: http.StatusNotFound,
	problem.Conflict:    http.StatusConflict,
	problem.Unreachable: http.StatusBadGateway, problem.Denied: http.StatusBadGateway,
	problem.NoDatabase:  http.StatusBadGateway,
	problem.NoPrivilege: http.StatusBadGateway, problem.NoTable: http.StatusBadGateway,
	problem.Held: http.StatusConflict, problem.Refused: http.StatusConflict, problem.Busy: http.StatusConflict,
	problem.Overtaken: http.StatusConflict,
}

// fromError makes an API problem of any error. What has no remedy for a person is a
// fault of the service: it is logged, and its text may be shown.
func fromError(err error) error {
	var already *ProblemDetails
	if errors.As(err, &already) {
		return already
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (refused.Code == "22021" || refused.Code == "22P05") {
		err = problem.Wrap(err, problem.Invalid, "The request holds a character that cannot be kept, such as a zero.",
			"Leave it out.")
	}
	p := problem.Of(err)
	status, ok := statuses[p.Code]
	if !ok {
		status = http.StatusInternalServerError
		if !errors.Is(err, context.Canceled) {
			slog.Error("A request failed.", "error", err)
		}
	}
	return &ProblemDetails{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: p.What,
		Code: string(p.Code), Remedy: p.Remedy, Field: p.Field, Value: p.Value, Errors: p.Items}
}

// fromTest is fromError with the steps that were taken.
func fromTest(steps []connection.Taken, err error) error {
	err = fromError(err)
	if p := (*ProblemDetails)(nil); errors.As(err, &p) {
		p.Steps = steps
	}
	return err
}

// newError replaces the framework's own errors. The values it would repeat are left
// out: one of them may be a password.
func newError(status int, message string, errs ...error) huma.StatusError {
	p := &ProblemDetails{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: message,
		Code: string(problem.Invalid), Remedy: "See /openapi.json for what the API wants."}
	for _, err := range errs {
		var detail huma.ErrorDetailer
		if errors.As(err, &detail) {
			d := detail.ErrorDetail()
			p.Errors = append(p.Errors, d.Location+": "+d.Message)
			if p.Field == "" {
				p.Field = strings.TrimPrefix(strings.TrimPrefix(d.Location, "body."), "settings.")
			}
		} else if err != nil {
			p.Errors = append(p.Errors, err.Error())
		}
	}
	if len(p.Errors) > 0 {
		p.Detail = "The request is not as the API wants it: " + p.Errors[0] + "."
	}
	return p
}
