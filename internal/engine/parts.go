package engine

import (
	"context"
	"fmt"
	"strconv"

	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

// A proof of a large table goes through it in parts, ranges of its key: so a snapshot of the source is held for a short time
// only, and a proof that was interrupted goes on with the part that it was at. That takes a key of one whole number, in
// whose order the rows lie at the source; other tables are one part.

// partRows is about how many rows a part has; tests have smaller ones. A table of less than two parts is one.
var partRows int64 = 4_000_000

// mostParts is how many parts there are at most.
const mostParts = 1000

// Proven is how far a proof has come.
type Proven struct {
	UpTo   string         `json:"up_to"`            // all rows up to this key were looked at
	Beside compare.Result `json:"beside"`           // what was found of them beside those that differ
	Differ [][]string     `json:"differ,omitempty"` // keys of rows that differ, to be looked at again
}

// lookAtParts takes the first two looks at all rows, part by part.
func (p *prover) lookAtParts(ctx context.Context) error {
	parts, done, err := p.parts(ctx)
	if err != nil {
		return err
	}
	if p.Proven != nil && p.Proven.UpTo != "" {
		if err := p.recall(ctx); err != nil {
			return err
		}
	}
	for i, keys := range parts {
		if all := done + len(parts); all > 1 {
			p.part = fmt.Sprintf("part %d of %d, ", done+i+1, all)
			p.expected = 2 * p.plan.query.Table.Rows / int64(all)
		}
		groups, err := p.sum(ctx, keys)
		if err != nil {
			return err
		}
		if err := p.lookCloser(ctx, keys, groups); err != nil {
			return err
		}
		if err := p.note(keys); err != nil {
			return err
		}
	}
	p.part = ""
	return nil
}

// parts are ranges of keys that come to the whole table, but for those that an earlier proof has done.
func (p *prover) parts(ctx context.Context) (list []source.KeyRange, done int, err error) {
	whole := []source.KeyRange{{}}
	rows := p.plan.query.Table.Rows
	if ok, err := p.parted(ctx); err != nil || !ok || rows < 2*partRows {
		p.Proven = nil
		return whole, 0, err
	}
	low, high, err := p.edges(ctx)
	if err != nil || low >= high {
		p.Proven = nil
		return whole, 0, err
	}
	n := min(rows/partRows, mostParts)
	first := int64(0)
	if p.Proven != nil {
		first, err = strconv.ParseInt(p.Proven.UpTo, 10, 64)
		if err != nil {
			return nil, 0, fmt.Errorf("how far the proof had come: %w", err)
		}
		list = append(list, source.KeyRange{After: []string{p.Proven.UpTo}})
	} else {
		list = append(list, source.KeyRange{})
	}
	for i := range n - 1 {
		bound := edge(low, high, uint64(i+1), uint64(n))
		if p.Proven != nil && bound <= first {
			done++
			continue
		}
		text := []string{strconv.FormatInt(bound, 10)}
		list[len(list)-1].UpTo = text
		list = append(list, source.KeyRange{After: text})
	}
	return list, done, nil
}

// edge is the upper edge of the i-th of n ranges of the numbers between two, whatever these are.
func edge(low, high int64, i, n uint64) int64 {
	span := uint64(high) - uint64(low)
	return int64(uint64(low) + span/n*i)
}

// parted tells whether a table can be proven in parts.
func (p *prover) parted(ctx context.Context) (bool, error) {
	t, target := p.plan.query.Table, p.plan.target
	clustered, ok := p.Source.(source.Clustered)
	if !ok || t.Query != "" || p.Since != "" || p.Table.Keep == feed.KeepLedger || len(t.Key) != 1 || len(target.Key) != 1 ||
		p.plan.key[0] != t.Key[0] || t.Nullable(t.Key[0]) || !p.plan.shape.Passes(p.plan.key) {
		return false, nil
	}
	for _, kind := range []schema.Kind{keyOf(t).Type.Kind, target.KeyColumns()[0].Type.Kind} {
		switch kind {
		case schema.Int16, schema.Int32, schema.Int64:
		default:
			return false, nil
		}
	}
	return clustered.Clustered(ctx, t)
}

// keyOf is the one column of a key.
func keyOf(t schema.Table) schema.Column {
	c, _ := t.Column(t.Key[0])
	return c
}

// edges are the lowest and the highest key of the source.
func (p *prover) edges(ctx context.Context) (low, high int64, err error) {
	key := keyOf(p.plan.query.Table)
	q := source.Query{Table: p.plan.query.Table, Watermark: &source.Watermark{Column: key}}
	q.Table.Columns = []schema.Column{key}
	highest, err := p.Source.Highest(ctx, q)
	if err != nil || highest == "" {
		return 0, 0, err
	}
	if high, err = strconv.ParseInt(highest, 10, 64); err != nil {
		return 0, 0, err
	}
	q.Watermark, q.Ordered, q.Limit = nil, true, 1
	low = high
	err = p.Source.Read(ctx, q, func(b rows.Batch) error {
		defer b.Record.Release()
		for i := range int(b.Record.NumRows()) {
			text, _ := schema.CellText(b.Record.Column(0), i, key.Type)
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				return err
			}
			low = min(low, n)
		}
		return nil
	})
	return low, high, err
}

// note tells how far the proof has come. One that has found many rows is not taken up again: they would be read whole.
func (p *prover) note(keys source.KeyRange) error {
	if p.Note == nil || keys.UpTo == nil {
		return nil
	}
	state := Proven{UpTo: keys.UpTo[0], Beside: p.beside}
	if p.closer != nil {
		if state.Differ = p.closer.Keys(); len(state.Differ) > mostByKey {
			return p.Note(Proven{})
		}
		state.Beside = p.closer.Result(p.beside)
		state.Beside.Differing, state.Beside.Missing, state.Beside.Extra, state.Beside.Examples = 0, 0, 0, nil
	}
	return p.Note(state)
}

// recall takes up what an earlier proof has found, and looks at the rows that differed then.
func (p *prover) recall(ctx context.Context) error {
	p.beside = p.Proven.Beside
	if len(p.Proven.Differ) == 0 {
		return nil
	}
	p.at("looking at what differed")
	x := p.c.Named(p.Proven.Differ)
	if err := p.both(ctx, source.KeyRange{}, p.Proven.Differ, closerSource(x), x.Warehouse); err != nil {
		return err
	}
	x.End()
	p.closer = x
	return nil
}
