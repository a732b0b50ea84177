package engine

import (
	"context"
	"fmt"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
)

// blindSpots tells what a table's watermark has not shown, by what a proof has found, and what would see it:
// deletes, rows that changed or came without the watermark rising above the position, nulls, and values that
// the source's clock has not come to.
func (p *prover) blindSpots(ctx context.Context, proof Proof) (notes []string, err error) {
	if p.Table.Find != feed.FindWatermark {
		return nil, nil
	}
	note := func(n int64, one, more, remedy string) {
		switch {
		case n == 1:
			notes = append(notes, "1 row "+one+" "+remedy)
		case n > 1:
			notes = append(notes, fmt.Sprintf("%d rows %s %s", n, more, remedy))
		}
	}
	w := p.plan.query.Watermark
	if p.Table.Keep != feed.KeepLedger {
		note(proof.Extra, "was deleted at the source, which no watermark shows.",
			"were deleted at the source, which no watermark shows.",
			"A sweep ends them: sweep: 1d. find: log or compare sees each.")
	}
	note(proof.Differing, "has other values, although "+w.Column.Name+" has not risen above the position.",
		"have other values, although "+w.Column.Name+" has not risen above the position.",
		"Whatever changes rows must set it; find: log or compare sees the change all the same.")
	note(proof.Missing, "below the position has not come: it was committed later than the feed waits for.",
		"below the position have not come: they were committed later than the feed waits for.",
		"A look_back reads such rows again, a backfill brings them now; find: log misses none.")
	if w.Column.Nullable && w.Fallback == "" {
		nulls, err := p.Source.Nulls(ctx, p.plan.query)
		if err != nil {
			return notes, err
		}
		note(nulls, "has no "+w.Column.Name+", and is not brought.", "have no "+w.Column.Name+", and are not brought.",
			"Name a fallback column; find: log or compare brings them.")
	}
	future, err := p.future(ctx)
	note(future, "has a "+w.Column.Name+" that the source's clock has not come to, and waits until then.",
		"have a "+w.Column.Name+" that the source's clock has not come to, and wait until then.",
		"Correct their values; find: log or compare does not wait.")
	return notes, err
}

// future counts the rows whose watermark lies beyond the source's clock.
func (p *prover) future(ctx context.Context) (int64, error) {
	w := p.plan.query.Watermark
	if !window.Timed(w.Column.Type.Kind) {
		return 0, nil
	}
	m, err := p.Source.Moment(ctx)
	if err != nil {
		return 0, err
	}
	q := p.plan.query
	at := m.Clock.Add(farAhead)
	switch w.Column.Type.Kind {
	case schema.TimestampTZ:
		q.Window.Low = position.Position{Value: schema.TimestampTZText(at.UnixMicro())}
	case schema.Timestamp:
		q.Window.Low = position.Position{Value: at.In(p.plan.zone).Format("2006-01-02T15:04:05.000000")}
	default:
		q.Window.Low = position.Position{Value: at.In(p.plan.zone).Format("2006-01-02")}
	}
	return p.Source.Count(ctx, q)
}
