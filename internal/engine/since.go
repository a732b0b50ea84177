package engine

import (
	"context"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/window"
)

// Since gives the value of a table's watermark from which on a proof looks at its rows: as a person has written it, or
// a length of time below where the table stands.
func Since(ctx context.Context, w Work, text string) (string, error) {
	if w.Table.Find != feed.FindWatermark {
		return "", problem.Newf(problem.Conflict, "Prove it whole: leave since out.",
			"The table %s is not found by watermark, so it is not known which of its rows changed lately.", w.Table.Table)
	}
	t, err := Describe(ctx, w.Source, w.Table)
	if err != nil {
		return "", err
	}
	column, _ := t.Column(w.Table.Watermark.Column)
	value := text
	if window.Timed(column.Type.Kind) && window.LookBack(text).Check(column.Type) == nil {
		stands, err := w.Warehouse.Journal().Checkpoint(ctx, w.Feed.Name, w.Table.Table)
		if err != nil {
			return "", err
		}
		if stands.Position.IsZero() {
			return "", notBrought(w)
		}
		if value, err = window.LookBack(text).Below(stands.Position.Value, column.Type); err != nil {
			return "", err
		}
	}
	p, err := position.Parse(value)
	if err == nil {
		p, err = p.Check(column.Type)
	}
	if err != nil {
		remedy := "Write a value of the watermark."
		if window.Timed(column.Type.Kind) {
			remedy = "Write a length of time, as 2h or 3d, or a value of the watermark."
		}
		return "", problem.Newf(problem.Invalid, remedy,
			"%q is no place to begin at: %v.", text, err).In("since")
	}
	return p.Value, nil
}
