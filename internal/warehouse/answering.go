package warehouse

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
)

// Answering is a warehouse that people can ask in SQL while it is written. The questions are theirs: what they may
// say, and what it means, is the database's own.
type Answering interface {
	// Converse begins a conversation, in which a question is refused unless it only reads, and only what may lets it.
	Converse(ctx context.Context, may May) (Conversation, error)
}

// Told is a warehouse that tells clients of PostgreSQL of itself what they hear when they sign in, as its version
// (PostgreSQL, ParameterStatus). One that does not speaks as Noemata does for it.
type Told interface {
	Told(ctx context.Context) (map[string]string, error)
}

// ErrUnasked is a warehouse that cannot be asked, because nobody was named whom people's questions are asked as.
var ErrUnasked = errors.New("it has no user to ask as")

// May tells whether somebody may read the tables of a schema.
type May func(schema string) bool

// Conversation answers questions, one after another. It is not for several goroutines at once. Where it gives an
// error that the person who asks has made, that wraps a Mistake.
type Conversation interface {
	// Begin has all questions until End see what was committed by now. Without it each sees what was committed when
	// it was run.
	Begin(ctx context.Context) error
	// End ends what Begin began; at another time it does nothing.
	End()
	// AsOf has all questions that are prepared from now on see histories as they were at a moment; the zero time is now.
	AsOf(moment time.Time)
	// Tables lists the tables and views that may be asked, each column with the database's name for its type.
	Tables(ctx context.Context) ([]schema.Table, error)
	// Pieces are questions that together give all rows of a table, each once; of one that has no such column, or where
	// by is nil, a single one.
	Pieces(ctx context.Context, table schema.Table, by *Partition) ([]Piece, error)
	// Prepare checks a question.
	Prepare(ctx context.Context, sql string) (Question, error)
	// Ask gives the answer to one that was prepared, in this conversation or another one of the same May. Values are as
	// text, nil for null. A conversation has one answer at a time.
	Ask(ctx context.Context, q Question, values []*string) (Answer, error)
	Close()
}

// Marked is a warehouse that can keep what its tables hold at a moment under a name, beside what they hold later.
type Marked interface {
	// Mark keeps what all tables hold now, as one cut, for as long as it says; 0 is until it is removed.
	Mark(ctx context.Context, name string, keep time.Duration) error
	// Unmark lets it go.
	Unmark(ctx context.Context, name string) error
	// Marks lists what is kept, the newest first.
	Marks(ctx context.Context) ([]Mark, error)
}

// Mark is a state of tables that is kept under a name.
type Mark struct {
	Name   string
	At     time.Time  // when what it holds was last changed
	Until  *time.Time // until when it is kept; nil is until it is removed
	Tables int        // how many it holds
}

// AtMark is a conversation that can see what is kept under a name.
type AtMark interface {
	AtMark(ctx context.Context, name string) error
}

// Published are the tables and views of the control schema that are for all who may ask: how far each table has come,
// what names a row of each, and which refers to which.
var Published = func() []schema.Table {
	table := func(name string, columns ...schema.Column) schema.Table {
		return schema.Table{Name: schema.Name{Schema: feed.ControlSchema, Table: name}, Columns: columns}
	}
	of := func(kind schema.Kind, names ...string) (list []schema.Column) {
		for _, n := range names {
			list = append(list, schema.Column{Name: n, Type: schema.Type{Kind: kind}})
		}
		return list
	}
	freshness := append(of(schema.Text, "feed", "source_table", "target", "up_to"),
		of(schema.TimestampTZ, "complete_to", "committed_at", "proven_at")...)
	return []schema.Table{
		table("freshness", append(append(freshness, of(schema.Bool, "proven_same")...), of(schema.Int64, "proven_rows")...)...),
		table("keys", of(schema.Text, "target", "key_columns")...),
		table("relations", of(schema.Text, "target", "its_columns", "refers_to", "refers_to_columns")...),
	}
}()

// Borrowing is a conversation in which tables of other warehouses can be asked, too, by the name of the warehouse before
// that of the table.
type Borrowing interface {
	// Borrow has such a table there, instead of what was there of it: with the rows that next gives until it gives none,
	// or without any where it is nil.
	Borrow(ctx context.Context, from string, table schema.Table, next func() (arrow.RecordBatch, error)) error
	// Needs are the columns that a question names, in lower case; all tells that it may mean others, too.
	Needs(ctx context.Context, sql string) (columns map[string]bool, all bool, err error)
}

// Partition says how rows are divided: by the year, month or day of a column.
type Partition struct{ Unit, Column string }

// Piece is a part of a table: its name, as month=2026-03, the question that gives its rows, and the one that gives a
// text
// which is another when they are others.
type Piece struct{ Name, SQL, Digest string }

// Question is one that was checked.
type Question struct {
	SQL     string          // as it was asked
	Runs    string          // as it is run: in the database's own words, with histories as they were
	Takes   []schema.Type   // of $1, $2 and so on; Text where it is not known
	Columns []schema.Column // of the answer; nil where that is not known before the values of parameters are
}

// Answer is what a question was answered: records as schema.Arrow(Columns()) says.
type Answer interface {
	Columns() []schema.Column
	// Next gives some rows, which are gone with the next call; nil after the last.
	Next(ctx context.Context) (arrow.RecordBatch, error)
	Close()
}

// Mistake is what is wrong with a question.
type Mistake struct {
	State    string // as SQL has it (ISO 9075, SQLSTATE; PostgreSQL, Appendix A)
	Message  string
	Position int // of the character that it is about, from 1 on; 0 where it is about none
}

func (m *Mistake) Error() string { return m.Message }

// Refused is a question that is not answered.
func Refused(state, format string, args ...any) *Mistake {
	return &Mistake{State: state, Message: fmt.Sprintf(format, args...)}
}

// longest is how many bytes a question has at most: what a database makes of it takes some hundred times as many.
const longest = 100_000

// CheckQuestion refuses what cannot be a question.
func CheckQuestion(sql string) error {
	if !utf8.ValidString(sql) || strings.ContainsRune(sql, 0) {
		return Refused("22021", "The question is not UTF-8.")
	}
	if len(sql) > longest {
		return Refused("54000", "The question has %d bytes, and %d at most are taken.", len(sql), longest)
	}
	return nil
}

// Values are those that a question takes: nil for null, []byte for bytes, else the text that was given.
func (q Question) Values(given []*string) ([]any, error) {
	if len(given) != len(q.Takes) {
		return nil, Refused("08P01", "The question takes %s, and there are %d.", words.Plural(int64(len(q.Takes)), "value"),
			len(given))
	}
	values := make([]any, len(given))
	for i, v := range given {
		switch {
		case v == nil:
		case q.Takes[i].Kind == schema.Bytes:
			b, err := hex.DecodeString(strings.TrimPrefix(*v, `\x`))
			if err != nil {
				return nil, Refused("22P02",
					"The value of $%d is not bytes: they are written as \\x and two digits of 16 for each.",
					i+1)
			}
			values[i] = b
		default:
			values[i] = *v
		}
	}
	return values, nil
}

// OfData tells whether it is about values of rows, which its message may name (ISO 9075, SQLSTATE, class 22).
func (m *Mistake) OfData() bool { return strings.HasPrefix(m.State, "22") }

// WithoutValues is the mistake in words that have nothing of what stands in rows.
func (m *Mistake) WithoutValues() *Mistake {
	if !m.OfData() {
		return m
	}
	what := map[string]string{"22P02": "A value cannot be converted to another type.", "22003": "A value is out of range.",
		"22023": "A value is not one that a function takes."}[m.State]
	return &Mistake{State: m.State, Message: cmp.Or(what, "A value does not fit."), Position: m.Position}
}

// Placed is the mistake as a sentence that begins with its line and column in the SQL, where it has a place.
func (m *Mistake) Placed(sql string) string {
	said := m.Message
	if !strings.ContainsAny(said[max(len(said)-1, 0):], ".!?:)") { // as servers say it
		said += "."
	}
	if m.Position < 1 {
		return said
	}
	before := string([]rune(sql)[:min(m.Position-1, utf8.RuneCountInString(sql))])
	line := before[strings.LastIndex(before, "\n")+1:]
	return fmt.Sprintf("Line %d, column %d: %s", strings.Count(before, "\n")+1, utf8.RuneCountInString(line)+1, said)
}
