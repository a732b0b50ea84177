package source

import (
	"errors"
	"slices"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/change"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// Gathering is what a stream has read and not handed over yet.
type Gathering struct {
	Bytes int64 // that it takes, about

	tables    []*Changes
	txns      []change.Txn
	clock     change.Clock
	open      bool  // the last transaction goes on
	continues bool  // the first transaction began before what is gathered
	seq       int32 // of the last change within its transaction
	changes   int64
	commits   int64
	taken     int64 // how often what was gathered was handed over
}

// Changes is what has been gathered of one table.
type Changes struct {
	Followed
	KeyAt  []int           // places of the key's columns
	Fields []array.Builder // a value is appended to each of them, and then Add tells what they are

	builder *array.RecordBuilder
	batch   change.Batch
}

// NewGathering begins after the transaction that a clock has told last.
func NewGathering(clock change.Clock) Gathering { return Gathering{clock: clock} }

// Table makes a place for the changes of one more table.
func (g *Gathering) Table(f Followed) *Changes {
	c := &Changes{Followed: f, KeyAt: schema.Indexes(f.Table.Columns, f.Key),
		builder: array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(f.Table.Columns))}
	c.Fields = c.builder.Fields()
	g.tables = append(g.tables, c)
	return c
}

// BeginTxn begins a transaction that was committed at the given time, in microseconds since
// 1970 by the source's clock.
func (g *Gathering) BeginTxn(position string, id uint32, committed int64) {
	g.txns = append(g.txns, change.Txn{Position: position, ID: id, Moment: g.clock.Next(position, committed)})
	g.open = true
}

// Open tells whether a transaction has begun and not ended.
func (g *Gathering) Open() bool { return g.open }

// EndTxn ends a transaction, also one that never began since it changed nothing.
func (g *Gathering) EndTxn() {
	if g.open {
		g.commits++
	}
	g.open, g.seq = false, 0
}

// Mark is a place in what has been gathered.
type Mark struct{ taken, rows, aside, seq int64 }

// Mark is where the gathering stands.
func (g *Gathering) Mark() Mark {
	m := Mark{taken: g.taken, seq: int64(g.seq)}
	for _, c := range g.tables {
		m.rows, m.aside = m.rows+int64(len(c.batch.Rows)), m.aside+int64(len(c.batch.Aside))
	}
	return m
}

// Discard takes back what was gathered since a mark: it never happened. It cannot where some
// of it was handed over, and tells so.
func (g *Gathering) Discard(since Mark) bool {
	now := g.Mark()
	if now.rows == since.rows && now.aside == since.aside && now.taken == since.taken {
		return true
	}
	if now.taken != since.taken {
		return false
	}
	txn := int32(len(g.txns) - 1)
	for _, c := range g.tables {
		for i := len(c.batch.Rows) - 1; i >= 0 && c.batch.Rows[i].Txn == txn &&
			int64(c.batch.Rows[i].Seq) > since.seq; i-- {
			c.batch.Rows[i].Kind, c.batch.Rows[i].Misfit = 0, false
		}
		for len(c.batch.AsideAt) > 0 {
			last := c.batch.AsideAt[len(c.batch.AsideAt)-1]
			if last.Txn != txn || int64(last.Seq) <= since.seq {
				break
			}
			c.batch.AsideAt = c.batch.AsideAt[:len(c.batch.AsideAt)-1]
			c.batch.Aside = c.batch.Aside[:len(c.batch.Aside)-1]
		}
	}
	return true
}

// Count numbers the next change of a transaction.
func (g *Gathering) Count() {
	g.seq++
	g.changes++
}

// Row describes the change that was counted last. That a key came is numbered after that another left,
// and so is each change of what rows refer to: those of a table that wait are sorted by their numbers.
func (g *Gathering) Row(kind change.Kind) (change.Row, error) {
	if !g.open {
		return change.Row{}, errors.New("the log has a change outside a transaction")
	}
	if kind == change.Came || kind.Refers() {
		g.seq++
	}
	return change.Row{Kind: kind, Txn: int32(len(g.txns) - 1), Seq: g.seq}, nil
}

// StartAfter is what Stream asks for.
func (g *Gathering) StartAfter(moment int64) { g.clock.After(moment) }

// Progress is what has been gathered, up to a position.
func (g *Gathering) Progress(position string, idle bool) Progress {
	return Progress{Position: position, Bytes: g.Bytes, Changes: g.changes, Open: g.open, Idle: idle}
}

// Take hands over what was gathered, up to a position.
func (g *Gathering) Take(position string) Gathered {
	out := Gathered{To: position, Clock: g.clock, Commits: g.commits, Open: g.open, Continues: g.continues}
	for _, c := range g.tables {
		b := c.batch
		c.batch = change.Batch{}
		b.Txns = g.txns
		if len(b.Rows) > 0 {
			b.Record = c.builder.NewRecordBatch()
		}
		out.Batches = append(out.Batches, b)
	}
	g.Bytes, g.changes, g.commits, g.continues = 0, 0, 0, g.open
	g.taken++
	if g.open {
		g.txns = append([]change.Txn{}, g.txns[len(g.txns)-1])
	} else {
		g.txns = nil
	}
	return out
}

// Release gives the memory back.
func (g *Gathering) Release() {
	for _, c := range g.tables {
		c.builder.Release()
	}
}

// Add tells what the values are that were appended. unknown tells, by column, which of them
// the log leaves out because they did not change; nil is none.
func (c *Changes) Add(r change.Row, unknown []bool) {
	if unknown != nil {
		last := len(c.batch.Unknown)
		if last == 0 || !slices.Equal(c.batch.Unknown[last-1], unknown) {
			c.batch.Unknown = append(c.batch.Unknown, unknown)
			last++
		}
		r.Unknown = int32(last)
	}
	c.batch.Rows = append(c.batch.Rows, r)
}

// AddBare adds a change without values. An error says why its values are not known.
func (c *Changes) AddBare(r change.Row, unfit error) {
	if unfit != nil {
		r.Misfit, c.batch.Misfit = true, unfit
	}
	c.fill(0)
	c.batch.Rows = append(c.batch.Rows, r)
}

// Ignore counts a change of a kind that is left out.
func (c *Changes) Ignore() { c.batch.Ignored++ }

// SetAside keeps a change that cannot be stored. If values of it have been appended already,
// appended says to how many columns.
func (c *Changes) SetAside(a rows.Aside, r change.Row, appended int) {
	if appended > 0 {
		c.fill(appended)
		r.Kind = 0
		c.batch.Rows = append(c.batch.Rows, r)
	}
	c.batch.Aside, c.batch.AsideAt = append(c.batch.Aside, a), append(c.batch.AsideAt, r)
}

func (c *Changes) fill(from int) {
	for _, f := range c.Fields[from:] {
		f.AppendNull()
	}
}
