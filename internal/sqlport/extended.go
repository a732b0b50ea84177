package sqlport

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"noemata/internal/asking"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// prepared is a statement with a name, or the unnamed one (PostgreSQL, Extended Query).
type prepared struct {
	sql      string
	words    words
	about    bool // the session: there is nothing to ask
	empty    bool
	question warehouse.Question
	asOf     time.Time // that histories are seen at
	oids     []uint32  // of parameters
}

// portal is a statement with values, that is being answered.
type portal struct {
	*prepared
	values  []*string
	formats []int16
	answer  *asking.Answer // nil before the first rows are asked for
	pending pending
	over    bool
	stop    context.CancelCauseFunc // ends the answer
}

// statementsAtMost is how many a session has.
const statementsAtMost = 5000

func (x *session) extended(message pgproto3.FrontendMessage) error {
	return x.within(func(ctx context.Context) error {
		switch m := message.(type) {
		case *pgproto3.Parse:
			return x.parse(ctx, m)
		case *pgproto3.Bind:
			return x.bind(ctx, m)
		case *pgproto3.Describe:
			return x.describe(ctx, m)
		case *pgproto3.Execute:
			return x.execute(ctx, m)
		case *pgproto3.Close:
			if m.ObjectType == 'S' {
				delete(x.statements, m.Name)
			} else {
				x.closePortal(m.Name)
			}
			x.backend.Send(&pgproto3.CloseComplete{})
		}
		return nil
	})
}

func (x *session) parse(ctx context.Context, m *pgproto3.Parse) error {
	if m.Name != "" && x.statements[m.Name] != nil {
		return mistake("42P05", "There is a prepared statement %s already.", m.Name)
	}
	if len(x.statements) >= statementsAtMost {
		return mistake("53400", "There are %d prepared statements; close some.", statementsAtMost)
	}
	p := &prepared{sql: m.Query}
	switch list := split(m.Query); {
	case len(list) > 1:
		return mistake("42601", "One statement is prepared at a time.")
	case len(list) == 0:
		p.empty = true
	default:
		p.sql, p.words = list[0], wordsOf(list[0])
		if x.failed && !p.words.ends() {
			return mistake("25P02", "The transaction has failed; end it with ROLLBACK.")
		}
		if p.about = isAbout(p.words); p.about {
			break
		}
		if p.words.is("SHOW") && len(p.words) > 1 {
			if name, value, ok := x.setting(p.words[1:]); ok {
				p.sql = fmt.Sprintf("SELECT %s AS %s", schema.Literal(value), schema.Quote(name))
			}
		}
		if copies.MatchString(p.sql) {
			return mistake("0A000", "COPY is asked for in a simple query.")
		}
		var err error
		if p.question, err = x.prepare(ctx, p.sql); err != nil {
			return err
		}
		p.asOf = x.asOf
		for i, t := range p.question.Takes {
			oid := oids[t.Kind].oid
			if i < len(m.ParameterOIDs) && m.ParameterOIDs[i] != 0 {
				oid = m.ParameterOIDs[i]
			}
			p.oids = append(p.oids, oid)
		}
	}
	x.statements[m.Name] = p
	x.backend.Send(&pgproto3.ParseComplete{})
	return nil
}

// isAbout tells whether a statement is about the session.
func isAbout(w words) bool {
	for _, first := range []string{"BEGIN", "START", "COMMIT", "END", "ROLLBACK", "ABORT", "SAVEPOINT", "RELEASE", "SET",
		"RESET", "DISCARD", "DEALLOCATE", "LISTEN", "UNLISTEN", "CLOSE"} {
		if w.is(first) {
			return true
		}
	}
	return false
}

func (x *session) bind(ctx context.Context, m *pgproto3.Bind) error {
	p := x.statements[m.PreparedStatement]
	if p == nil {
		return mistake("26000", "There is no prepared statement %s.", m.PreparedStatement)
	}
	if err := x.refresh(ctx, p); err != nil {
		return err
	}
	if len(m.Parameters) != len(p.oids) {
		return mistake("08P01", "The statement takes %d values, and there are %d.", len(p.oids), len(m.Parameters))
	}
	if n := len(m.ParameterFormatCodes); n > 1 && n != len(p.oids) {
		return mistake("08P01", "There are %d formats for %d values.", n, len(p.oids))
	}
	if n := len(m.ResultFormatCodes); n > 1 && p.question.Columns != nil && n != len(p.question.Columns) {
		return mistake("08P01", "There are %d formats for %d columns.", n, len(p.question.Columns))
	}
	to := &portal{prepared: p, formats: append([]int16(nil), m.ResultFormatCodes...)}
	for i, value := range m.Parameters {
		v, err := valueOf(x.types, i+1, value, formatOf(m.ParameterFormatCodes, i), p.oids[i])
		if err != nil {
			return err
		}
		to.values = append(to.values, v)
	}
	x.closePortal(m.DestinationPortal)
	x.portals[m.DestinationPortal] = to
	x.backend.Send(&pgproto3.BindComplete{})
	return nil
}

// refresh has a question see histories at the moment that was set since it was prepared.
func (x *session) refresh(ctx context.Context, p *prepared) error {
	if p.about || p.empty || p.asOf.Equal(x.asOf) {
		return nil
	}
	q, err := x.prepare(ctx, p.sql)
	if err != nil {
		return err
	}
	same := func(a, b schema.Column) bool { return a.Name == b.Name && a.Type == b.Type }
	if !slices.EqualFunc(q.Columns, p.question.Columns, same) || !slices.Equal(q.Takes, p.question.Takes) {
		return mistake("0A000", "The answer has other columns since as_of was set; prepare the question again.")
	}
	p.question, p.asOf = q, x.asOf
	return nil
}

func (x *session) closePortal(name string) {
	if p := x.portals[name]; p != nil {
		if p.answer != nil {
			p.answer.Close()
		}
		if p.stop != nil {
			p.stop(nil)
		}
		delete(x.portals, name)
	}
}

func (x *session) describe(ctx context.Context, m *pgproto3.Describe) error {
	if m.ObjectType == 'S' {
		p := x.statements[m.Name]
		if p == nil {
			return mistake("26000", "There is no prepared statement %s.", m.Name)
		}
		x.backend.Send(&pgproto3.ParameterDescription{ParameterOIDs: p.oids})
		switch {
		case p.about || p.empty:
			x.backend.Send(&pgproto3.NoData{})
		case p.question.Columns == nil: // the values decide
			return mistake("42P18", "The types of the answer depend on the values. Say them in the question: $1::INTEGER.")
		default:
			x.backend.Send(described(p.question.Columns, nil))
		}
		return nil
	}
	p := x.portals[m.Name]
	switch {
	case p == nil:
		return mistake("34000", "There is no portal %s.", m.Name)
	case p.about || p.empty:
		x.backend.Send(&pgproto3.NoData{})
		return nil
	case p.question.Columns == nil:
		if err := x.ask(ctx, p); err != nil {
			return err
		}
		x.backend.Send(described(p.answer.Columns(), p.formats))
		return nil
	}
	x.backend.Send(described(p.question.Columns, p.formats))
	return nil
}

// ask begins the answer of a portal, which goes on until the portal is closed.
func (x *session) ask(ctx context.Context, p *portal) error {
	if p.answer != nil {
		return nil
	}
	if err := x.converse(ctx); err != nil {
		return err
	}
	if err := x.free(p); err != nil {
		return err
	}
	if n := len(p.formats); n > 1 && p.question.Columns == nil {
		return mistake("42P18", "The types of the answer depend on the values. Say them in the question: $1::INTEGER.")
	}
	var running context.Context
	running, p.stop = context.WithCancelCause(x.ctx)
	defer p.during(ctx)()
	answer, err := x.talk.Ask(running, p.question, p.values)
	if err != nil {
		return err
	}
	p.answer = answer
	return nil
}

// free makes sure that no portal but one has an answer that goes on: a conversation has one at a time.
func (x *session) free(but *portal) error {
	for name, other := range x.portals {
		if other != but && other.answer != nil && !other.over {
			return mistake("0A000", "What %q gives is not read to its end yet. Read it, close it, or connect once more.",
				strings.TrimPrefix(name, cursorMark))
		}
	}
	return nil
}

// during has the answer stop with what is being done now; what it gives ends that.
func (p *portal) during(ctx context.Context) func() bool {
	stop := p.stop
	return context.AfterFunc(ctx, func() { stop(context.Cause(ctx)) })
}

func (x *session) execute(ctx context.Context, m *pgproto3.Execute) error {
	p := x.portals[m.Portal]
	switch {
	case p == nil:
		return mistake("34000", "There is no portal %s.", m.Portal)
	case p.empty:
		x.backend.Send(&pgproto3.EmptyQueryResponse{})
		return nil
	case p.about:
		if _, err := x.command(ctx, p.words); err != nil {
			return err
		}
		return nil
	case x.failed:
		return mistake("25P02", "The transaction has failed; end it with ROLLBACK.")
	case p.over:
		x.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte("SELECT 0")})
		return nil
	}
	if err := x.ask(ctx, p); err != nil {
		return err
	}
	defer p.during(ctx)()
	_ = x.conn.SetWriteDeadline(p.answer.Deadline())
	defer func() { _ = x.conn.SetWriteDeadline(time.Time{}) }()
	_, over, err := x.rows(p.answer, p.formats, m.MaxRows, &p.pending)
	if over || err != nil {
		p.end()
	}
	switch {
	case err != nil:
		return err
	case over:
		x.complete("SELECT", p.pending.sent)
	default:
		x.backend.Send(&pgproto3.PortalSuspended{})
	}
	return nil
}

// end ends the answer of a portal that was read to its end.
func (p *portal) end() {
	p.answer.Close()
	p.answer, p.over = nil, true
}
