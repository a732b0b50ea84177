package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/core/words"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// copyRate is what a first copy is reckoned with, in bytes a second: less than what was measured
// on two cores (docs/benchmarks.md), as servers have other work.
const copyRate = 20_000_000

// checkBurden tells what the first copy of a feed's tables takes, and what following them costs the source.
func checkBurden(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse,
	checks []tableCheck) (findings []problem.Finding) {
	note := func(level problem.Level, side problem.Side, remedy, format string, args ...any) {
		findings = append(findings, problem.Finding{Level: level, Side: side, What: fmt.Sprintf(format, args...),
			Remedy: remedy})
	}
	tables, count, bytes, err := firstCopy(ctx, f, src, wh, checks)
	if err != nil {
		return []problem.Finding{blocker(problem.AtSource, "", err)}
	}
	if tables > 0 && bytes > 0 {
		takes := max(time.Second, time.Duration(bytes/copyRate)*time.Second)
		note(problem.Note, problem.AtSource, "", "The first copy reads about %d rows, %s, of %s, by the source's "+
			"statistics: about %s at %s a second.", count, megabytes(bytes), words.Plural(int64(tables), "table"), takes,
			megabytes(copyRate))
		free, err := wh.Free(ctx)
		if err != nil {
			return append(findings, blocker(problem.AtWarehouse, "", err))
		}
		if free >= 0 && free < bytes {
			note(problem.Warning, problem.AtWarehouse, "Make room, or choose fewer tables, columns or rows.",
				"The first copy brings about %s, and the warehouse's disk has %s free.", megabytes(bytes), megabytes(free))
		}
	}
	if log, ok := src.(source.Log); ok && f.FollowsLog() {
		rate, err := log.LogRate(ctx)
		if err == nil && rate.PerHour > 0 {
			note(problem.Note, problem.AtSource, "", "The source writes about %s to its log in an hour, and keeps it for the "+
				"feed while the feed is paused or cannot reach it.", megabytes(rate.PerHour))
		}
	}
	return findings
}

// firstCopy adds up the tables that have not come yet. What a server knows nothing of counts nothing.
func firstCopy(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse,
	checks []tableCheck) (tables int, count, bytes int64, err error) {
	come, err := wh.Journal().Checkpoints(ctx, f.Name)
	if err != nil {
		return 0, 0, 0, err
	}
	offered, err := src.Tables(ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	known := make(map[schema.Name]schema.Table, len(offered))
	for _, t := range offered {
		known[t.Name] = t
	}
	for _, c := range checks {
		came := slices.ContainsFunc(come, func(at warehouse.Checkpoint) bool { return at.Table == placeName(c.table) })
		if t, is := known[c.plan.query.Table.Name]; is && c.err == nil && !came && !c.table.IsQuery() {
			tables++
			count += max(0, t.Rows)
			bytes += max(0, t.Bytes)
		}
	}
	return tables, count, bytes, nil
}

// farAhead is by how much a watermark may be ahead of the source's clock before it is worth a warning.
const farAhead = time.Minute

// inTheFuture warns of rows whose watermark the source's clock has not come to: they wait until it has. It
// looks where an index makes that cheap.
func (p plan) inTheFuture(ctx context.Context, src source.Source) (*problem.Finding, error) {
	w := p.query.Watermark
	if w == nil || w.Fallback != "" || p.query.Table.View || !window.Timed(w.Column.Type.Kind) {
		return nil, nil
	}
	indexed, err := src.Indexed(ctx, p.query.Table.Name)
	if err != nil || !slices.Contains(indexed, w.Column.Name) {
		return nil, err
	}
	highest, err := src.Highest(ctx, p.query)
	if err != nil || highest == "" {
		return nil, err
	}
	at, err := position.Position{Value: highest}.Check(w.Column.Type)
	if err != nil {
		return nil, nil // no instant: infinity, which a run tells of
	}
	us, err := schema.ParseTimestamp(at.Value)
	if err != nil {
		return nil, err
	}
	moment, err := src.Moment(ctx)
	if problem.Is(err, problem.NoPrivilege) {
		return nil, nil // what the source finds itself has told of it
	}
	if err != nil {
		return nil, err
	}
	instant := time.UnixMicro(us)
	if w.Column.Type.Kind != schema.TimestampTZ {
		instant = inZone(us, p.zone)
	}
	if !instant.After(moment.Clock.Add(farAhead)) {
		return nil, nil
	}
	return &problem.Finding{Level: problem.Warning, Side: problem.AtSource, Table: p.spec.Table,
		What: fmt.Sprintf("The watermark %s is up to %s, and the source's clock shows %s: rows beyond it wait until then.",
			w.Column.Name, at.Value, moment.Clock.UTC().Format("2006-01-02 15:04:05Z")),
		Remedy: "Choose a column that says when a row was written, or correct the rows: their values may be mistyped."}, nil
}

func megabytes(n int64) string {
	switch {
	case n < 10_000_000:
		return fmt.Sprintf("%d kB", n/1000)
	case n < 10_000_000_000:
		return fmt.Sprintf("%d MB", n/1_000_000)
	}
	return fmt.Sprintf("%d GB", n/1_000_000_000)
}
