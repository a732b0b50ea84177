package httpapi

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"

	"noemata/client"
	"noemata/internal/asking"
	"noemata/internal/core/problem"
	"noemata/internal/records"
	"noemata/internal/warehouse"
)

// describeAsking adds the calls that ask warehouses in SQL, and those about what was asked.
func (s *Service) describeAsking(api calls) {
	const group = "questions"
	handle(api, operation{"ask", http.MethodPost, "/warehouses/{name}/questions",
		"Ask a warehouse in SQL. The answer is one cut; where it breaks off, so does the response", group, 0}, s.ask)
	handle(api, operation{"export", http.MethodPost, "/warehouses/{name}/exports",
		"Copy tables out as one cut: a multipart response, a file each, and manifest.json at its end", group, 0}, s.export)
	handle(api, operation{"list-askable", http.MethodGet, "/askable",
		"List the warehouses that whoever is signed in may ask, with their tables and columns", group, 0}, s.askable)
	handle(api, operation{"list-questions", http.MethodGet, "/questions",
		"List what warehouses were asked, the newest first; of who only looks, their own", group, 0}, s.questions)
	handle(api, operation{"stop-question", http.MethodPost, "/questions/{id}/stop",
		"Stop a question: one's own, or any for who operates", group, 0}, s.stopQuestion)
	handle(api, operation{"list-saved-questions", http.MethodGet, "/saved-questions",
		"List the questions that people share, of warehouses that whoever is signed in may ask", group, 0}, s.savedQuestions)
	handle(api, operation{"save-question", http.MethodPut, "/saved-questions/{name}",
		"Share a question, or change one's own", group, 0}, s.saveQuestion)
	handle(api, operation{"remove-saved-question", http.MethodDelete, "/saved-questions/{name}",
		"Remove a question that one has shared", group, 0}, s.removeSavedQuestion)
}

type askRequest struct {
	overHTTP
	Name string `path:"name" doc:"The warehouse's name"`
	Body client.Ask
}

// ask answers while the answer is read, so nothing of it is kept here.
func (s *Service) ask(ctx context.Context, in *askRequest) (*huma.StreamResponse, error) {
	var c *asking.Conversation
	var a *asking.Answer
	running, stop, err := goesOn(ctx, func(running context.Context) (err error) {
		c, a, err = s.begin(running, asking.Asker{Token: who(ctx), Address: in.address, Way: records.ByAPI}, in)
		return err
	}, func() {
		a.Close()
		c.Close()
	})
	if err != nil {
		return nil, unanswered(err, in.Body.SQL)
	}
	format := asking.Format(in.Body.Format)
	return streamed(running, stop, asking.Media[format], func(w *bufioWriter, until func(time.Time)) error {
		until(a.Deadline())
		return a.Write(w, format, in.Body.Rows)
	}), nil
}

// goesOn begins what goes on after the call that asks for it: running ends with stop, which ends what was begun, too. A
// caller who goes away before that stops it.
func goesOn(ctx context.Context, begin func(running context.Context) error, end func()) (running context.Context,
	stop func(), err error) {
	running, cancel := context.WithCancel(context.WithoutCancel(ctx))
	gone := context.AfterFunc(ctx, cancel)
	err = begin(running)
	if !gone() && err == nil {
		end()
		err = context.Canceled
	}
	if err != nil {
		cancel()
		return nil, nil, err
	}
	return running, func() {
		end()
		cancel()
	}, nil
}

// streamed is a response that is written as it is read, until a moment that write says, for callers who do not read.
// Where write gives an error, or panics, the response has no end.
func streamed(running context.Context, stop func(), media string,
	write func(w *bufioWriter, until func(time.Time)) error) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(h huma.Context) {
		h.SetHeader("Content-Type", media)
		h.SetHeader("Cache-Control", "no-store")
		request := humafiber.Unwrap(h).Context()
		conn, path := request.Conn(), string(request.Path())
		request.SetBodyStreamWriter(func(w *bufioWriter) {
			until := func(at time.Time) { _ = conn.SetWriteDeadline(at) }
			defer stop()
			defer context.AfterFunc(running, func() { until(time.Now()) })()
			err := problem.Guarded(func() error { return write(w, until) })()
			if err != nil {
				slog.Warn("An answer broke off.", "path", path, "error", err)
				_ = conn.Close()
				return
			}
			if w.Flush() == nil {
				until(time.Time{})
			}
		})
	}}
}

// begin comes to the beginning of an answer.
func (s *Service) begin(ctx context.Context, asker asking.Asker, in *askRequest) (*asking.Conversation, *asking.Answer,
	error) {
	c, err := s.asking.Converse(ctx, asker, in.Name)
	if err != nil {
		return nil, nil, err
	}
	if in.Body.AsOf != nil {
		c.AsOf(*in.Body.AsOf)
	}
	err = c.AtMark(ctx, in.Body.Mark)
	var question warehouse.Question
	if err == nil {
		question, err = c.Prepare(ctx, in.Body.SQL)
	}
	var a *asking.Answer
	if err == nil {
		a, err = c.Ask(ctx, question, in.Body.Values)
	}
	if err != nil {
		c.Close()
	}
	return c, a, err
}

// unanswered is a question's mistake as a problem.
func unanswered(err error, sql string) error {
	var m *warehouse.Mistake
	if !errors.As(err, &m) {
		return err
	}
	code, remedy := problem.Invalid, "Change the question."
	switch m.State {
	case "42501":
		code, remedy = problem.NoPrivilege,
			"An administrator says who may ask what: noemata users change PERSON --ask WAREHOUSE.SCHEMA"
	case "53300", "57014", "54000", "53200":
		code, remedy = problem.Conflict, ""
	}
	return problem.Wrap(err, code, m.Placed(sql), remedy).In("sql")
}

func (s *Service) askable(ctx context.Context, _ *none) (*answer[[]client.Askable], error) {
	return reply(s.asking.Askable(ctx, who(ctx)))
}

type questionsRequest struct {
	By        string `query:"by" doc:"By this person or token only, by its name"`
	Warehouse string `query:"warehouse" doc:"Of this warehouse only"`
	State     string `query:"state" enum:"running,done,failed,stopped" doc:"In this state only"`
	Before    int64  `query:"before" doc:"Only those before the one of this number"`
	Limit     int    `query:"limit" default:"50" minimum:"1" maximum:"500" doc:"How many at most"`
}

func (s *Service) questions(ctx context.Context, in *questionsRequest) (*answer[[]client.Question], error) {
	f := records.QuestionFilter{By: in.By, Warehouse: in.Warehouse, State: in.State, Before: in.Before, Limit: in.Limit}
	if t := who(ctx); !t.Role.May(records.Operate) {
		f.By = t.Name
	}
	return reply(s.store.Questions(ctx, f))
}

func (s *Service) stopQuestion(ctx context.Context, in *numbered) (*none, error) {
	q, err := s.store.Question(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	t := who(ctx)
	if q.By != t.Name && !t.Role.May(records.Operate) {
		return nil, forbidden("The question is somebody else's.", "Have it stopped by somebody who operates.")
	}
	return nil, s.store.StopQuestion(ctx, in.ID, t.Name)
}

func (s *Service) savedQuestions(ctx context.Context, _ *none) (*answer[[]client.SavedQuestion], error) {
	all, err := s.store.SavedQuestions(ctx)
	t := who(ctx)
	return reply(slices.DeleteFunc(all, func(q client.SavedQuestion) bool {
		_, any := t.MayAsk(q.Warehouse)
		return !any
	}), err)
}

type savedRequest struct {
	Name string `path:"name" minLength:"1" maxLength:"100" doc:"What it is called"`
	Body records.NewSavedQuestion
}

func (s *Service) saveQuestion(ctx context.Context, in *savedRequest) (*none, error) {
	t := who(ctx)
	if _, any := t.MayAsk(in.Body.Warehouse); !any {
		return nil, asking.NotAllowed(t.Name, in.Body.Warehouse)
	}
	q := client.SavedQuestion{Name: in.Name, Warehouse: in.Body.Warehouse, SQL: in.Body.SQL, By: t.Name}
	return nil, s.store.SaveQuestion(ctx, q, t.Role.May(records.Administer))
}

func (s *Service) removeSavedQuestion(ctx context.Context, in *named) (*none, error) {
	t := who(ctx)
	return nil, s.store.RemoveSavedQuestion(ctx, in.Name, t.Name, t.Role.May(records.Administer))
}

type exportRequest struct {
	overHTTP
	Name string `path:"name" doc:"The warehouse's name"`
	Body client.Export
}

// export sends files while they are read. One that breaks off has no manifest.
func (s *Service) export(ctx context.Context, in *exportRequest) (*huma.StreamResponse, error) {
	var e *asking.Export
	running, stop, err := goesOn(ctx, func(running context.Context) (err error) {
		asker := asking.Asker{Token: who(ctx), Address: in.address, Way: records.ByAPI}
		e, err = s.asking.Export(running, asker, in.Name, in.Body)
		return err
	}, func() { e.Close() })
	if err != nil {
		return nil, unanswered(err, "")
	}
	boundary := multipart.NewWriter(io.Discard).Boundary()
	return streamed(running, stop, "multipart/mixed; boundary="+boundary, func(w *bufioWriter,
		until func(time.Time)) error {
		parts := multipart.NewWriter(w)
		if err := parts.SetBoundary(boundary); err != nil {
			return err
		}
		file := func(name string) (io.Writer, error) {
			until(time.Now().Add(exportFileWithin))
			return parts.CreatePart(textproto.MIMEHeader{"Content-Disposition": {mime.FormatMediaType("attachment",
				map[string]string{"filename": name})}})
		}
		done, err := e.Write(running, file)
		if err != nil {
			return err
		}
		manifest, err := file(asking.Manifest)
		if err != nil {
			return err
		}
		if _, err := io.WriteString(manifest, encode(done)+"\n"); err != nil {
			return err
		}
		return parts.Close()
	}), nil
}

// exportFileWithin is how long one file of an export may take to be sent.
const exportFileWithin = time.Hour
