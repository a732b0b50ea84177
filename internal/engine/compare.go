package engine

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// A table with neither a log nor a watermark is compared: the source digests its rows by ranges of the
// key, and what it says is compared with the digests of the rows that came before, which the warehouse
// keeps. Ranges that differ are read, and the digests that are kept for them are those of the very rows
// that came, so that nothing can change in between unseen. Memory holds some thousand ranges, however
// large the table is.
//
// Rows that are gone leave their range with fewer rows. When all ranges have been read that differ, the
// target has every key of the source; it has others if it has more, and then keys are compared.

// A range has so many rows at least, and a table so many ranges at most.
const (
	rangeRows  = 10_000
	mostRanges = 4096
)

// compared is what is kept of a comparison.
type compared struct {
	Structure string   `json:"structure"` // of the rows that came; others are read anew
	Ranges    []ranged `json:"ranges"`    // the last one has no end
	Settled   bool     `json:"settled"`   // rows that are gone at the source are gone from the target
}

// ranged is one range of keys: up to and with one, after that of the range before.
type ranged struct {
	UpTo    []string `json:"up_to,omitempty"`
	Known   bool     `json:"known"` // its rows have come, and Tag is of their digest
	Arrived int64    `json:"arrived"`
	Count   int64    `json:"rows"`
	Tag     string   `json:"tag"`

	source.Digest `json:"-"` // of the rows that have come so far
}

var errNoDigest = errors.New("the source has told a row without its digest")

// comparing is one comparison that is under way.
type comparing struct {
	*committer
	found   compared
	key     []byte // of the tags; nil where the feed hides no column
	changed bool
}

// compare brings in the rows of those ranges that differ, and ends the rows that are gone.
func (r *run) compare(ctx context.Context) error {
	m, err := r.Source.Moment(ctx)
	if err != nil {
		return err
	}
	r.clock = m.Clock
	to := position.Position{Value: schema.TimestampTZText(m.Clock.UnixMicro())}
	c := &comparing{committer: &committer{run: r, query: r.plan.query, stretch: stretch{end: &to}}}
	defer c.abort()
	if err := c.recall(ctx); err != nil {
		return err
	}
	if err := c.tell(ctx); err != nil {
		return err
	}
	c.stretch.expected = c.rowsOf(func(x ranged) bool { return !x.Known })
	if err := c.readChanged(ctx); err != nil {
		return err
	}
	if c.pending > 0 || r.outcome.To.Version == 0 {
		if err := c.commitAll(ctx); err != nil {
			return err
		}
	}
	if err := c.settle(ctx); err != nil {
		return err
	}
	r.outcome.CompleteAt = m.Clock
	if n := len(c.found.Ranges); !c.changed {
		r.note("Nothing has changed: the digests of %s are the same.", words.Plural(int64(n), "range"))
	}
	return nil
}

// recall takes up what was kept, where it is of rows such as those that come now.
func (c *comparing) recall(ctx context.Context) error {
	text, err := c.Warehouse.Journal().Compared(ctx, c.Feed.Name, c.Table.Table)
	if err != nil {
		return err
	}
	if c.plan.spec.Hides() {
		if c.key, err = c.Keys(feed.ComparisonKey); err != nil {
			return err
		}
	}
	structure := structureOf(c.plan).layout()
	if text != "" && !c.outcome.To.Position.IsZero() {
		if err := json.Unmarshal([]byte(text), &c.found); err != nil {
			return err
		}
	}
	if c.found.Structure != structure || len(c.found.Ranges) == 0 {
		c.found = compared{Structure: structure, Ranges: []ranged{{}}}
	}
	return nil
}

// rangeOf is the i-th range.
func (c *comparing) rangeOf(i int) source.KeyRange {
	r := source.KeyRange{UpTo: c.found.Ranges[i].UpTo}
	if i > 0 {
		r.After = c.found.Ranges[i-1].UpTo
	}
	return r
}

// tell asks the source for the digests of the ranges whose rows have come, and knows those no more
// that differ.
func (c *comparing) tell(ctx context.Context) error {
	known := make([]int, 0, len(c.found.Ranges))
	for i, x := range c.found.Ranges {
		if x.Known {
			known = append(known, i)
		}
	}
	var looked int64
	for group := range slices.Chunk(known, source.RangesAtOnce) {
		ranges := make([]source.KeyRange, len(group))
		for i, at := range group {
			ranges[i] = c.rangeOf(at)
		}
		digests, err := c.Source.Digests(ctx, c.query, ranges)
		if err != nil {
			return err
		}
		for i, at := range group {
			x := &c.found.Ranges[at]
			x.Known = x.Tag == c.tag(digests[i])
			looked += digests[i].Rows
		}
		c.Progress(Progress{Phase: "comparing", Read: looked, Position: c.outcome.To.Position})
	}
	return nil
}

// rowsOf counts the rows of ranges, as far as they were known.
func (c *comparing) rowsOf(which func(ranged) bool) (n int64) {
	for _, x := range c.found.Ranges {
		if which(x) {
			n += x.Count
		}
	}
	return n
}

// readChanged reads all ranges that are not known, those that adjoin in one go.
func (c *comparing) readChanged(ctx context.Context) error {
	most := int64(rangeRows)
	if rows := max(c.plan.query.Table.Rows, c.rowsOf(func(ranged) bool { return true })); rows/mostRanges > most {
		most = rows / mostRanges
	}
	most = min(most, c.Table.Page())
	for i := 0; i < len(c.found.Ranges); i++ {
		if c.found.Ranges[i].Known {
			continue
		}
		last := i
		for last+1 < len(c.found.Ranges) && !c.found.Ranges[last+1].Known {
			last++
		}
		c.changed, c.found.Settled = true, false
		keys := c.rangeOf(i)
		keys.UpTo = c.found.Ranges[last].UpTo
		// Of what is read anew, one range remains, which shrinks as its rows come in.
		c.found.Ranges = slices.Replace(c.found.Ranges, i, last+1, ranged{UpTo: keys.UpTo})
		var err error
		if i, err = c.readRange(ctx, i, keys, most); err != nil {
			return err
		}
	}
	return nil
}

// readRange reads the i-th range and cuts it into those of so many rows. It gives the place of the
// last of them.
func (c *comparing) readRange(ctx context.Context, i int, keys source.KeyRange, most int64) (int, error) {
	for {
		q := c.query
		q.Keys, q.Digest, q.Batch = &keys, true, int(min(most, rangeRows))
		q.Ordered = len(q.Table.Key) > 0
		if q.Ordered && !slices.ContainsFunc(q.Table.Key, q.Table.Nullable) {
			q.Limit = c.Table.Page()
		}
		var made ranged
		var read int64
		var last []string // the key of the row that came last
		begun, written := time.Now(), c.writing
		err := c.Source.Read(ctx, q, func(b rows.Batch) (err error) {
			defer b.Record.Release()
			c.outcome.Bytes += sizeOf(b)
			read += b.Rows()
			if err := c.came(ctx, b, &made); err != nil {
				return err
			}
			last = c.lastKey(b)
			if last == nil || made.Rows < most {
				return nil
			}
			c.found.Ranges = slices.Insert(c.found.Ranges, i, c.closed(made, last))
			i, made = i+1, ranged{}
			if c.pending >= CommitRows {
				return c.commitAll(ctx)
			}
			return nil
		})
		c.outcome.Reading += time.Since(begun) - (c.writing - written)
		switch {
		case err != nil:
			return i, err
		case q.Limit > 0 && read >= q.Limit && last != nil:
			if made.Rows > 0 {
				c.found.Ranges = slices.Insert(c.found.Ranges, i, c.closed(made, last))
				i++
			}
			keys.After = last
			continue
		case made.Rows == 0 && i > 0: // the range before reaches up to there
			c.found.Ranges[i-1].UpTo = keys.UpTo
			c.found.Ranges = slices.Delete(c.found.Ranges, i, i+1)
			return i - 1, nil
		}
		c.found.Ranges[i] = c.closed(made, keys.UpTo)
		return i, nil
	}
}

// closed is a range whose rows have all come, up to a key.
func (c *comparing) closed(x ranged, upTo []string) ranged {
	x.UpTo, x.Known, x.Count, x.Tag = upTo, true, x.Rows, c.tag(x.Digest)
	return x
}

// tag is what is kept of a digest. Where the feed hides columns it is keyed: of a range of few rows a bare
// digest would let values be guessed.
func (c *comparing) tag(d source.Digest) string {
	text := fmt.Sprintf("%d %016x%016x", d.Rows, d.Halves[0], d.Halves[1])
	if c.key == nil {
		return text
	}
	mac := hmac.New(sha256.New, c.key)
	mac.Write([]byte(text))
	return hex.EncodeToString(mac.Sum(nil))
}

// came writes rows that were read, and adds them to their range.
func (c *comparing) came(ctx context.Context, b rows.Batch, to *ranged) error {
	n := len(c.query.Table.Columns)
	digests, ok := b.Record.Column(n).(*array.String)
	for i := range int(b.Record.NumRows()) {
		if !ok || digests.IsNull(i) {
			return errNoDigest
		}
		if err := to.Add(digests.Value(i)); err != nil {
			return err
		}
	}
	for _, a := range b.Aside {
		if err := to.Add(deref(a.Values[n])); err != nil {
			return err
		}
	}
	plain := array.NewRecordBatch(schema.Arrow(c.query.Table.Columns), b.Record.Columns()[:n], b.Record.NumRows())
	defer plain.Release()
	made := c.shape(rows.Batch{Record: plain, Aside: b.Aside, EndsAside: b.EndsAside})
	defer made.Record.Release()
	to.Arrived += made.Record.NumRows() - made.Ended()
	if err := c.append(ctx, b.Rows(), made); err != nil {
		return err
	}
	c.Progress(Progress{Phase: "reading", Read: c.outcome.Books.Read + c.pending,
		Expected: max(c.stretch.expected, c.outcome.Books.Read+c.pending), Position: c.outcome.To.Position})
	return nil
}

// lastKey is the key of the last row of a batch; nil where there is none, or it lacks a value.
func (c *comparing) lastKey(b rows.Batch) []string {
	key := schema.Indexes(c.query.Table.Columns, c.query.Table.Key)
	if len(key) == 0 || b.Rows() == 0 {
		return nil
	}
	if b.EndsAside {
		var values []string
		for _, k := range key {
			v := b.Aside[len(b.Aside)-1].Values[k]
			if v == nil {
				return nil
			}
			values = append(values, *v)
		}
		return values
	}
	last := int(b.Record.NumRows()) - 1
	if slices.ContainsFunc(key, func(k int) bool { return b.Record.Column(k).IsNull(last) }) {
		return nil
	}
	return rows.Key(b.Record, last, c.query.Table.Columns, key)
}

// commitAll commits what has come in, with the ranges that it is of.
func (c *comparing) commitAll(ctx context.Context) error {
	if c.writes == nil {
		if err := c.none(ctx); err != nil {
			return err
		}
	}
	c.entries = []warehouse.Entry{c.entry()}
	return c.commit(ctx, *c.stretch.end)
}

func (c *comparing) entry() warehouse.Entry {
	text, _ := json.Marshal(c.found) // texts and numbers always marshal
	return warehouse.Compared{Table: c.Table.Table, Found: string(text)}
}

// settle compares keys where the target has rows that the source has not.
func (c *comparing) settle(ctx context.Context) error {
	if c.found.Settled {
		return nil
	}
	arrived := int64(0)
	for _, x := range c.found.Ranges {
		arrived += x.Arrived
	}
	has, err := c.Warehouse.Count(ctx, c.plan.target)
	if err != nil {
		return err
	}
	c.found.Settled = true
	if has == arrived && c.plan.target.Unique {
		w, p, err := c.begin(ctx, false)
		if err != nil {
			return err
		}
		defer w.Abort()
		c.entries = []warehouse.Entry{c.entry()}
		return c.end(ctx, w, p, c.outcome.To.Position)
	}
	c.sweeps, c.entries = true, []warehouse.Entry{c.entry()}
	return c.sweep(ctx)
}

// comparable is the key by which ranges of a table are told apart: its own, or the one that the
// feed names.
func comparable(t feed.Table, p plan, table schema.Table) []string {
	key := table.Key
	if len(key) == 0 {
		key = t.Key
	}
	if !p.shape.Passes(key) {
		return nil
	}
	return key
}
