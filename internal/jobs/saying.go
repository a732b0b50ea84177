package jobs

import (
	"context"
	"fmt"
	"strings"
	"time"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/words"
	"noemata/internal/engine"
	"noemata/internal/records"
	"noemata/internal/statement"
	"noemata/internal/store"
)

// What runs say in the log of their feed. A run that was due and finds nothing says one sentence.

// say adds to the log of a feed.
func (r recorder) say(ctx context.Context, e records.LogEntry) {
	keep(ctx, "What a run has said", e.Run, e.Table, func(ctx context.Context) error { return r.store.Say(ctx, e) })
}

// sayBegun says that a run has begun that was not due by its schedule, and why.
func (r *Runner) sayBegun(ctx context.Context, feed string, run records.Run) {
	why := "as a person has asked"
	if run.Trigger == backfillRun {
		why = "for a backfill"
	}
	r.record.say(ctx, records.LogEntry{Feed: feed, Run: run.ID, Level: records.LevelInfo,
		What: fmt.Sprintf("The run begins, %s, in the process %s on %s.", why, r.self.ID, r.self.Host)})
}

// sayEnded says how a run has ended.
func (r *Runner) sayEnded(ctx context.Context, feed string, run int64, state string, books rows.Books, err error) {
	e := records.LogEntry{Feed: feed, Run: run, Level: records.LevelInfo}
	switch {
	case err == nil && books.Read == 0:
		e.What = "The run ends; nothing has changed."
	case err == nil:
		e.What = "The run ends: " + said(books) + "."
	default:
		p := problem.Of(err)
		e.What, e.Remedy = fmt.Sprintf("The run ends (%s): %s", state, p.What), p.Remedy
		if e.Level = records.LevelWarning; state == "failed" {
			e.Level = records.LevelError
		}
	}
	r.record.say(ctx, e)
}

// sayNext says when a run that did not succeed is tried again.
func (r *Runner) sayNext(ctx context.Context, feed string, run int64, at time.Time, failures int) {
	what := fmt.Sprintf("It is tried again at %s.", at.UTC().Format("15:04:05Z"))
	if failures > 1 {
		what = fmt.Sprintf("It is tried again at %s, after %d failures in a row.", at.UTC().Format("15:04:05Z"), failures)
	}
	r.record.say(ctx, records.LogEntry{Feed: feed, Run: run, Level: records.LevelInfo, What: what})
}

// sayTable says what a run has done to a table; nothing of one in which nothing has changed.
func (r recorder) sayTable(ctx context.Context, feed string, run int64, table string, out engine.Outcome, err error) {
	e := records.LogEntry{Feed: feed, Run: run, Table: table, Level: records.LevelInfo}
	idle := out.Books.Read == out.Books.Unchanged && err == nil
	for _, note := range out.Notes {
		if !idle {
			e.What = note
			r.say(ctx, e)
		}
	}
	if out.Books.Read > 0 && !idle {
		e.What = fmt.Sprintf("Read %s, %s%s; %s; %s; %s.", words.Plural(out.Books.Read, "row"), words.Size(out.Bytes),
			stretch(out), said(out.Books),
			words.Plural(int64(out.Commits), "commit"), took(out.Spent))
		r.say(ctx, e)
	}
	if err != nil {
		p := problem.Of(err)
		e.What, e.Remedy, e.Level = p.What, p.Remedy, records.LevelError
		if problem.Is(err, problem.Stopped) || waits(err) {
			e.Level = records.LevelWarning
		}
		r.say(ctx, e)
	}
}

// stretch names the window that was read.
func stretch(out engine.Outcome) string {
	switch low, high := out.Window.Low.String(), out.Window.High; {
	case high == "":
		return ""
	case low == "":
		return " up to " + high
	default:
		return " above " + low + " up to " + high
	}
}

// said are books in words: what became of what was read.
func said(b rows.Books) string {
	var parts []string
	for _, x := range []struct {
		n    int64
		what string
	}{{b.Inserted, "inserted"}, {b.Updated, "updated"}, {b.Deleted, "deleted"}, {b.Unchanged, "unchanged"},
		{b.Folded, "folded"},
		{b.Filtered, "filtered"}, {b.SetAside, "set aside"}} {
		if x.n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", words.Number(x.n), x.what))
		}
	}
	if len(parts) == 0 {
		return "nothing was written"
	}
	return strings.Join(parts, ", ")
}

func took(s engine.Spent) string {
	return fmt.Sprintf("reading took %s, shaping %s, writing %s", short(s.Reading), short(s.Shaping), short(s.Writing))
}

func short(d time.Duration) string { return d.Round(time.Millisecond).String() }

// effort keeps what a stretch of work has done and taken, by table and day.
func (r recorder) effort(ctx context.Context, feed, table string, run int64, e store.Effort) {
	keep(ctx, "What a run has taken", run, table,
		func(ctx context.Context) error { return r.store.NoteEffort(ctx, feed, table, e) })
}

// atSource adds up statements that were made at a source.
func atSource(list []statement.Statement, times func(statement.Statement) int64) (n int64, took time.Duration) {
	for _, s := range list {
		if s.Side == statement.Source {
			n += times(s)
			took += s.Took
		}
	}
	return n, took
}
