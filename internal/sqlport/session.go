package sqlport

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"noemata/internal/asking"
	"noemata/internal/core/problem"
	"noemata/internal/warehouse"
)

// session is one client that is signed in.
type session struct {
	server    *Server
	conn      net.Conn
	backend   *pgproto3.Backend
	address   string
	asker     asking.Asker
	warehouse string
	known     time.Time // when it was last looked whether the asker still may
	settings  map[string]string
	told      map[string]string // what the client hears of the warehouse
	types     *pgtype.Map       // reads values of parameters
	timeout   time.Duration     // of a statement, as the client wishes; zero is the service's own
	asOf      time.Time         // when histories are seen; zero is now
	number    uint32
	key       []byte
	ctx       context.Context
	end       context.CancelFunc

	talk       *asking.Conversation // nil while nothing is asked, so that nobody waits for this session
	inside     bool                 // a transaction, that the client has begun
	failed     bool                 // it is of no use any more
	skipping   bool                 // what comes before the next Sync, after an error
	statements map[string]*prepared
	portals    map[string]*portal

	mu     sync.Mutex
	cancel context.CancelCauseFunc // of what is being answered; nil for nothing
}

// run attends to the client until it leaves.
func (x *session) run() error {
	ok, err := x.open()
	if !ok || err != nil {
		return err
	}
	defer x.server.remove(x)
	defer x.leave()
	for {
		_ = x.conn.SetDeadline(time.Now().Add(x.patience()))
		message, err := x.backend.Receive()
		switch {
		case x.server.ctx.Err() != nil:
			return x.fatal("57P01", "The service stops; connect again in a while.")
		case errors.Is(err, os.ErrDeadlineExceeded):
			return x.fatal("57P05", fmt.Sprintf("Nothing was asked for %s, so the session ends; connect again.", x.patience()))
		case err != nil:
			return errGone
		}
		if _, leaves := message.(*pgproto3.Terminate); leaves {
			return nil
		}
		_ = x.conn.SetDeadline(time.Time{})
		if err := x.handle(message); err != nil {
			return err
		}
	}
}

// patience is how long the client may say nothing. A transaction keeps old versions of rows from being cleared away.
func (x *session) patience() time.Duration {
	if x.inside {
		return transactionAtMost
	}
	return idleAtMost
}

// transactionAtMost is how long a client may keep a transaction open between two questions.
const transactionAtMost = 10 * time.Minute

// leave lets go of what the session holds.
func (x *session) leave() {
	for name := range x.portals {
		x.closePortal(name)
	}
	x.rest()
}

// rest ends the conversation, where no transaction keeps it.
func (x *session) rest() {
	if x.talk != nil {
		x.talk.End()
		x.talk.Close()
		x.talk = nil
	}
	x.inside, x.failed = false, false
}

// handle answers one message. An error of it ends the session; what is wrong with a question is told.
func (x *session) handle(message pgproto3.FrontendMessage) error {
	if x.skipping {
		if _, ok := message.(*pgproto3.Sync); !ok {
			return nil
		}
	}
	switch m := message.(type) {
	case *pgproto3.Query:
		x.closePortal("")
		if err := x.simple(m.String); err != nil {
			if err := x.tell(err); err != nil {
				return err
			}
		}
		return x.ready()
	case *pgproto3.Sync:
		x.skipping = false
		if !x.inside {
			for name := range x.portals { // they end with the transaction
				x.closePortal(name)
			}
		}
		return x.ready()
	case *pgproto3.Flush:
		return x.flush()
	case *pgproto3.Parse, *pgproto3.Bind, *pgproto3.Describe, *pgproto3.Execute, *pgproto3.Close:
		if err := x.extended(m); err != nil {
			x.skipping = true
			return x.tell(err)
		}
		return nil
	case *pgproto3.FunctionCall:
		if err := x.tell(mistake("0A000", "Functions are called in questions alone.")); err != nil {
			return err
		}
		return x.ready()
	case *pgproto3.CopyData, *pgproto3.CopyDone, *pgproto3.CopyFail: // of a copy that was refused
		return nil
	}
	return x.fatal("08P01", "The message has no place here.")
}

// mistake is what a client hears of what it must not, or cannot, do.
var mistake = warehouse.Refused

// ready tells that the next question may come.
func (x *session) ready() error {
	state := byte('I')
	switch {
	case x.failed:
		state = 'E'
	case x.inside:
		state = 'T'
	default:
		x.restUnlessAnswering()
	}
	x.backend.Send(&pgproto3.ReadyForQuery{TxStatus: state})
	return x.flush()
}

func (x *session) restUnlessAnswering() {
	if len(x.portals) == 0 {
		x.rest()
	}
}

func (x *session) flush() error {
	if err := x.backend.Flush(); err != nil {
		return errGone
	}
	return nil
}

// tell tells what is wrong with a question.
func (x *session) tell(err error) error {
	if errors.Is(err, errGone) {
		return err
	}
	e := &pgproto3.ErrorResponse{Severity: "ERROR", SeverityUnlocalized: "ERROR", Code: "XX000"}
	var m *warehouse.Mistake
	switch {
	case errors.As(err, &m):
		e.Code, e.Message, e.Position = m.State, m.Message, int32(m.Position)
	case errors.Is(err, context.Canceled):
		e.Code, e.Message = "57014", "The question was stopped, as its asker wished."
	default:
		p := problem.Of(err)
		e.Message, e.Hint = p.What, p.Remedy
		if state := map[problem.Code]string{problem.NoPrivilege: "42501", problem.Busy: "55P03", problem.Unreachable: "08006",
			problem.NotFound: "3D000"}[p.Code]; state != "" {
			e.Code = state
		}
	}
	x.failed = x.inside
	x.backend.Send(e)
	return x.flush()
}

// converse makes sure that there is a conversation, and that the asker still may.
func (x *session) converse(ctx context.Context) error {
	const lookAgain = 5 * time.Second
	if time.Since(x.known) > lookAgain {
		now, still, err := x.server.store.Still(ctx, x.asker.Token)
		if err != nil {
			return err
		}
		if _, any := now.MayAsk(x.warehouse); !any || !still {
			x.rest()
			return mistake("28000", "You may not ask here any more; connect again with another sign-in.")
		}
		changed := !slices.Equal(now.Asks, x.asker.Asks) || now.Role != x.asker.Role
		x.asker.Token, x.known = now, time.Now()
		if changed { // what was prepared may ask for more than may be asked now
			clear(x.statements)
			x.rest()
			return mistake("28000", "What you may ask has changed; ask again, and prepare again what was prepared.")
		}
	}
	if x.talk != nil {
		return nil
	}
	talk, err := x.server.asking.Converse(ctx, x.asker, x.warehouse)
	if err != nil {
		return err
	}
	if x.inside {
		if err := talk.Begin(ctx); err != nil {
			talk.Close()
			return err
		}
	}
	x.talk = talk
	return nil
}

// within runs work that the client can cancel, and that ends when the client has gone.
func (x *session) within(work func(ctx context.Context) error) error {
	ctx, cancel := context.WithCancelCause(x.ctx)
	if x.timeout > 0 {
		defer time.AfterFunc(x.timeout, func() {
			cancel(mistake("57014", "The question took longer than statement_timeout lets it, which the client has set."))
		}).Stop()
	}
	x.mu.Lock()
	x.cancel = cancel
	x.mu.Unlock()
	defer func() {
		x.mu.Lock()
		x.cancel = nil
		x.mu.Unlock()
		cancel(nil)
	}()
	return work(ctx)
}

// cancelAnswer stops what is being answered.
func (x *session) cancelAnswer() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.cancel != nil {
		x.cancel(mistake("57014", "The question was stopped, as its asker wished."))
	}
}

// simple answers a simple query: statements, one after another, until one is wrong.
func (x *session) simple(text string) error {
	list := split(text)
	if len(list) == 0 {
		x.backend.Send(&pgproto3.EmptyQueryResponse{})
		return nil
	}
	for _, sql := range list {
		if err := x.within(func(ctx context.Context) error { return x.statement(ctx, sql) }); err != nil {
			return err
		}
	}
	return nil
}

func (x *session) statement(ctx context.Context, sql string) error {
	w := wordsOf(sql)
	if x.failed && !w.ends() {
		return mistake("25P02", "The transaction has failed; end it with ROLLBACK.")
	}
	if done, err := x.command(ctx, w); done || err != nil {
		return err
	}
	if done, err := x.cursor(ctx, sql); done || err != nil {
		return err
	}
	c, err := copyOf(sql)
	if err != nil {
		return err
	}
	if c != nil {
		sql = c.query
	}
	q, err := x.prepare(ctx, sql)
	if err != nil {
		return err
	}
	if len(q.Takes) > 0 {
		return mistake("42P02", "There is no parameter $1 in a simple query.")
	}
	if err := x.free(nil); err != nil {
		return err
	}
	a, err := x.talk.Ask(ctx, q, nil)
	if err != nil {
		return err
	}
	defer a.Close()
	_ = x.conn.SetWriteDeadline(a.Deadline())
	defer func() { _ = x.conn.SetWriteDeadline(time.Time{}) }()
	if c != nil {
		return x.copyOut(a, c)
	}
	x.backend.Send(described(a.Columns(), nil))
	var p pending
	if _, _, err = x.rows(a, nil, 0, &p); err == nil {
		x.complete("SELECT", p.sent)
	}
	return err
}

// prepare checks a question; one about the catalogue is put in the words of the warehouse.
func (x *session) prepare(ctx context.Context, sql string) (warehouse.Question, error) {
	if err := x.converse(ctx); err != nil {
		return warehouse.Question{}, err
	}
	x.talk.AsOf(x.asOf)
	return x.talk.Prepare(ctx, sql)
}
