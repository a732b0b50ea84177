// Package asking lets people and programs ask warehouses in SQL while feeds keep them: within bounds, each question on
// record, and each answer one cut.
package asking

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
	"noemata/internal/opened"
	"noemata/internal/records"
	"noemata/internal/store"
	"noemata/internal/warehouse"
)

// Bounds are those of questions.
type Bounds struct {
	Time   time.Duration // of one question, its answer included
	Rows   int64         // of one answer
	AtOnce int           // how many this process answers at once; others wait for a while
}

// Usual are the bounds where nobody says otherwise.
var Usual = Bounds{Time: 10 * time.Minute, Rows: 100_000_000, AtOnce: 4}

// queueFor is how long a question waits for others to end.
const queueFor = 15 * time.Second

// Asking answers questions.
type Asking struct {
	store     *store.Store
	databases *opened.Databases
	process   string
	bounds    Bounds
	places    chan struct{}

	mu      sync.Mutex
	running map[int64]context.CancelCauseFunc
}

// Check tells whether the bounds leave anything to ask.
func (b Bounds) Check() error {
	if b.Time <= 0 || b.Rows < 1 || b.AtOnce < 1 {
		return problem.New(problem.Invalid, "The bounds of questions leave nothing to ask.",
			"Give --ask-time, --ask-rows and --ask-at-once as more than nothing, or leave them out.")
	}
	return nil
}

// New makes an Asking; Watch has it stop what is to be stopped.
func New(s *store.Store, d *opened.Databases, process string, b Bounds) *Asking {
	return &Asking{store: s, databases: d, process: process, bounds: b, places: make(chan struct{}, b.AtOnce),
		running: map[int64]context.CancelCauseFunc{}}
}

// Watch stops the questions that somebody has asked to stop, until the context ends, and ends on record those that
// processes have left that are gone.
func (a *Asking) Watch(ctx context.Context) {
	const every, leftEvery = 500 * time.Millisecond, time.Minute
	var looked time.Time
	for ; ctx.Err() == nil; wait(ctx, every) {
		err := problem.Guarded(func() error {
			if time.Since(looked) > leftEvery {
				looked = time.Now()
				if err := a.store.EndLeftQuestions(ctx, a.process); err != nil {
					return err
				}
			}
			return a.stopWhatIsTo(ctx)
		})()
		if err != nil && ctx.Err() == nil {
			slog.Warn("It cannot be seen which questions are to stop, or were left.", "error", err)
		}
	}
}

func (a *Asking) stopWhatIsTo(ctx context.Context) error {
	a.mu.Lock()
	none := len(a.running) == 0
	a.mu.Unlock()
	if none {
		return nil
	}
	stop, err := a.store.ToStop(ctx, a.process)
	a.mu.Lock()
	defer a.mu.Unlock()
	for id, by := range stop {
		if cancel := a.running[id]; cancel != nil {
			cancel(&warehouse.Mistake{State: "57014", Message: fmt.Sprintf("The question was stopped by %s.", by)})
		}
	}
	return err
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Asker is who asks.
type Asker struct {
	records.Token
	Address string
	Way     string // records.ByAPI or records.BySQL
}

// Conversation is one with a warehouse, by somebody who may.
type Conversation struct {
	asking    *Asking
	asker     Asker
	warehouse string
	talk      warehouse.Conversation
	asOf      time.Time
	end       context.CancelFunc
}

// NotAllowed is the problem of somebody who may not ask a warehouse, or hear that it is there.
func NotAllowed(asker, name string) *problem.Problem {
	return problem.Newf(problem.NoPrivilege,
		"An administrator lets a person ask with noemata users change PERSON --ask "+problem.Word(name)+
			", and a token that is made with --ask.",
		"%s may not ask the warehouse %s, or there is none of that name.", asker, name)
}

// Converse begins a conversation.
func (a *Asking) Converse(ctx context.Context, asker Asker, name string) (*Conversation, error) {
	may, any := asker.MayAsk(name)
	if !any {
		return nil, NotAllowed(asker.Name, name)
	}
	using, end := context.WithCancel(context.WithoutCancel(ctx)) // the warehouse stays open until then
	wh, err := a.databases.Warehouse(using, name)
	if problem.Is(err, problem.NotFound) {
		err = NotAllowed(asker.Name, name)
	}
	if err != nil {
		end()
		return nil, err
	}
	answering, ok := wh.(warehouse.Answering)
	if !ok {
		end()
		return nil, problem.Newf(problem.Invalid, "Ask it with a program that reads its tables by itself.",
			"The warehouse %s is not asked through Noemata.", name)
	}
	talk, err := answering.Converse(ctx, may)
	if err != nil {
		end()
		return nil, unasked(err, name)
	}
	return &Conversation{asking: a, asker: asker, warehouse: name, talk: talk, end: end}, nil
}

// unasked says what a warehouse lacks that cannot be asked yet.
func unasked(err error, name string) error {
	if !errors.Is(err, warehouse.ErrUnasked) {
		return err
	}
	return problem.Newf(problem.Conflict, "An administrator names one with noemata warehouses change "+problem.Word(name)+
		" --ask-user USER; noemata feeds privileges FEED --analysts USER says what to grant.",
		"The warehouse %s has no user yet that people's questions are asked as, who may only read.", name)
}

// Told is what a warehouse tells clients of PostgreSQL of itself; nothing where it leaves that to us.
func (a *Asking) Told(ctx context.Context, name string) (map[string]string, error) {
	using, end := context.WithCancel(ctx)
	defer end()
	wh, err := a.databases.Warehouse(using, name)
	if err != nil {
		return nil, err
	}
	w, ok := wh.(warehouse.Told)
	if !ok {
		return nil, nil
	}
	told, err := w.Told(ctx)
	return told, unasked(err, name)
}

// Begin has all questions until End see what was committed by now.
func (c *Conversation) Begin(ctx context.Context) error { return c.talk.Begin(ctx) }

// End ends what Begin began.
func (c *Conversation) End() { c.talk.End() }

// Close ends the conversation.
func (c *Conversation) Close() {
	c.talk.Close()
	c.end()
}

// AsOf has the questions that are prepared from now on see histories as they were at a moment; the zero time is now.
func (c *Conversation) AsOf(moment time.Time) {
	c.asOf = moment
	c.talk.AsOf(moment)
}

// AtMark has the questions from now on see what is kept under a name, where one is given.
func (c *Conversation) AtMark(ctx context.Context, name string) error {
	if name == "" {
		return nil
	}
	talk, is := c.talk.(warehouse.AtMark)
	if !is {
		return problem.Newf(problem.Invalid, "Ask a lake; or a history as it was: as_of.",
			"Nothing is kept under names in the warehouse %s.", c.warehouse).In("mark")
	}
	ctx, cancel := context.WithTimeout(ctx, c.asking.bounds.Time)
	defer cancel()
	return talk.AtMark(ctx, name)
}

// Prepare checks a question. One that is refused is on record, too.
func (c *Conversation) Prepare(ctx context.Context, sql string) (warehouse.Question, error) {
	a := c.asking
	within, cancel := context.WithTimeout(ctx, a.bounds.Time)
	defer cancel()
	var q warehouse.Question
	err := c.lend(within, sql, false)
	if err == nil {
		q, err = c.talk.Prepare(within, sql)
	}
	err = a.bounds.told(within, err)
	if m := (*warehouse.Mistake)(nil); errors.As(err, &m) {
		id, failed := c.note(ctx, sql)
		if failed == nil {
			failed = a.noteEnd(ctx, id, records.Unanswered, 0, m.Message)
		}
		if failed != nil {
			slog.Error("A question that was refused was not recorded.", "by", c.asker.Name, "error", failed)
		}
	}
	return q, err
}

// noteWithin is how long the records are waited for, also where nobody waits for the answer any more.
const noteWithin = 10 * time.Second

// note puts a question on record.
func (c *Conversation) note(ctx context.Context, sql string) (id int64, err error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), noteWithin)
	defer cancel()
	return c.asking.store.AddQuestion(ctx, records.Question{By: c.asker.Name, Address: c.asker.Address, Way: c.asker.Way,
		Warehouse: c.warehouse, SQL: sql, Process: c.asking.process})
}

// noteEnd puts on record what became of one.
func (a *Asking) noteEnd(ctx context.Context, id int64, state string, rows int64, why string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), noteWithin)
	defer cancel()
	return a.store.EndQuestion(ctx, id, state, rows, why)
}

// tables are those that may be asked.
func (c *Conversation) tables(ctx context.Context) ([]schema.Table, error) {
	ctx, cancel := context.WithTimeout(ctx, c.asking.bounds.Time)
	defer cancel()
	return c.talk.Tables(ctx)
}

// pieces are questions that together give all rows of a table.
func (c *Conversation) pieces(ctx context.Context, t schema.Table, by *warehouse.Partition) ([]warehouse.Piece, error) {
	ctx, cancel := context.WithTimeout(ctx, c.asking.bounds.Time)
	defer cancel()
	return c.talk.Pieces(ctx, t, by)
}

// told says why a question has no answer, where it was its bounds or a wish.
func (b Bounds) told(ctx context.Context, err error) error {
	if err == nil || ctx.Err() == nil {
		return err
	}
	var m *warehouse.Mistake
	switch cause := context.Cause(ctx); {
	case errors.As(cause, &m):
		return m
	case errors.Is(cause, context.DeadlineExceeded):
		return &warehouse.Mistake{State: "57014",
			Message: fmt.Sprintf("The question took longer than the %s that one may take. "+
				"Ask for less, or have the service started with a longer --ask-time.", b.Time)}
	}
	return err
}

// Ask answers a question. The answer must be closed.
func (c *Conversation) Ask(ctx context.Context, q warehouse.Question, values []*string) (*Answer, error) {
	a := c.asking
	within, cancel := context.WithTimeout(ctx, a.bounds.Time)
	ctx, stop := context.WithCancelCause(within)
	x := &Answer{conversation: c, ctx: ctx, left: a.bounds.Rows, release: func() { stop(nil); cancel() }}
	noted := make(chan error, 1)
	go func() { // beside the answer, as it may be a short one
		noted <- problem.Guarded(func() (err error) {
			if x.ID, err = c.note(ctx, q.SQL); err == nil {
				a.mu.Lock()
				a.running[x.ID] = stop
				a.mu.Unlock()
			}
			return err
		})()
	}()
	err := c.lend(ctx, q.SQL, true)
	if err == nil {
		err = a.take(ctx)
	}
	if x.placed = err == nil; x.placed {
		x.answer, err = c.talk.Ask(ctx, q, values)
	}
	if unnoted := <-noted; unnoted != nil {
		err = errors.Join(err, unnoted)
	}
	if err != nil {
		if x.answer != nil {
			x.answer.Close()
		}
		return nil, x.fail(err)
	}
	return x, nil
}

// take waits for a place.
func (a *Asking) take(ctx context.Context) error {
	select {
	case a.places <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(queueFor):
		return &warehouse.Mistake{State: "53300",
			Message: fmt.Sprintf("%s are being answered, which is as many as may be at once, "+
				"and none has ended. Ask again later; noemata questions list --running shows them.",
				words.Plural(int64(a.bounds.AtOnce), "question"))}
	}
}

// Answer is one that goes on.
type Answer struct {
	ID           int64 // of the question, as the records have it
	conversation *Conversation
	ctx          context.Context
	answer       warehouse.Answer
	rows, left   int64
	placed       bool
	err          error
	release      func()
}

// Deadline is when the question has taken as long as it may.
func (x *Answer) Deadline() time.Time {
	at, _ := x.ctx.Deadline()
	return at
}

// Rows is how many rows were read by now.
func (x *Answer) Rows() int64 { return x.rows }

// Columns are those of the answer.
func (x *Answer) Columns() []schema.Column { return x.answer.Columns() }

// Next gives some rows, which are gone with the next call; nil after the last.
func (x *Answer) Next() (arrow.RecordBatch, error) {
	record, err := x.answer.Next(x.ctx)
	if err != nil {
		x.err = x.conversation.asking.bounds.told(x.ctx, err)
		return nil, x.err
	}
	if record == nil {
		return nil, nil
	}
	x.rows += record.NumRows()
	if x.left -= record.NumRows(); x.left < 0 {
		x.err = &warehouse.Mistake{State: "54000", Message: fmt.Sprintf("The answer has more than the %s that one may have. "+
			"Ask for less, or have the service started with more --ask-rows.", words.Plural(x.conversation.asking.bounds.Rows,
			"row"))}
		return nil, x.err
	}
	return record, nil
}

// Close ends the answer. Who has read enough calls it, too.
func (x *Answer) Close() {
	x.answer.Close()
	x.end()
}

func (x *Answer) fail(err error) error {
	x.err = x.conversation.asking.bounds.told(x.ctx, err)
	x.end()
	return x.err
}

// end notes what became of the question.
func (x *Answer) end() {
	a := x.conversation.asking
	state, why := records.Answered, ""
	var m *warehouse.Mistake
	switch {
	case errors.As(x.err, &m) && m.State == "57014", x.err != nil && x.ctx.Err() != nil:
		state, why = records.AskedNoMore, x.err.Error()
	case x.err != nil:
		state, why = records.Unanswered, x.err.Error()
	}
	if errors.Is(x.err, context.Canceled) {
		why = "Who asked has gone."
	}
	a.mu.Lock()
	delete(a.running, x.ID)
	a.mu.Unlock()
	if x.placed {
		<-a.places
	}
	x.release()
	if err := a.noteEnd(x.ctx, x.ID, state, x.rows, why); err != nil {
		slog.Error("What became of a question was not recorded.", "question", x.ID, "error", err)
	}
}

// Askable lists what somebody may ask, warehouse by warehouse. One that cannot be opened now is there without tables,
// and says why.
func (a *Asking) Askable(ctx context.Context, by records.Token) ([]records.Askable, error) {
	all, err := a.store.Connections(ctx, store.Warehouses)
	if err != nil {
		return nil, err
	}
	list := []records.Askable{}
	for _, w := range all {
		if _, any := by.MayAsk(w.Name); !any {
			continue
		}
		x := records.Askable{Warehouse: w.Name, Kind: w.Kind, Tables: []records.AskableTable{}}
		if err := a.tables(ctx, by, &x); err != nil {
			x.Problem = err.Error()
		}
		list = append(list, x)
	}
	return list, nil
}

func (a *Asking) tables(ctx context.Context, by records.Token, x *records.Askable) error {
	c, err := a.Converse(ctx, Asker{Token: by}, x.Warehouse)
	if err != nil {
		return err
	}
	defer c.Close()
	tables, err := c.tables(ctx)
	for _, t := range tables {
		listed := records.AskableTable{Schema: t.Name.Schema, Table: t.Name.Table, Comment: t.Comment,
			Columns: []records.AskableColumn{}}
		for _, column := range t.Columns {
			listed.Columns = append(listed.Columns, records.AskableColumn{Name: column.Name, Type: column.Native,
				Comment: column.Comment})
		}
		x.Tables = append(x.Tables, listed)
	}
	return err
}
