package jobs

import (
	"context"
	"log/slog"
	"time"

	"noemata/internal/core/rows"
	"noemata/internal/records"
	"noemata/internal/statement"
	"noemata/internal/store"
)

// recorder keeps what runs do, and tells whoever listens. It is written to when a run is
// stopped, too, and records that cannot be written fail no run: what is in the warehouse
// counts.
type recorder struct {
	store  *store.Store
	events *Events
}

// recordWithin is how long a record may take: one that stalls holds up no run for long.
const recordWithin = 30 * time.Second

// recordOfTable is how much longer the records of all tables of a run may take, for each of them.
const recordOfTable = 20 * time.Millisecond

// limited gives a record its time, also where the run was stopped.
func limited(ctx context.Context) (context.Context, context.CancelFunc) {
	until := time.Now().Add(recordWithin)
	if sooner, ok := ctx.Deadline(); ok && sooner.Before(until) {
		until = sooner
	}
	return context.WithDeadline(context.WithoutCancel(ctx), until)
}

// keep writes a record, and notes that it could not be written.
func keep(ctx context.Context, what string, run int64, table string, write func(context.Context) error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	if err := write(ctx); err != nil {
		slog.Error(what+" was not recorded.", "run", run, "table", table, "error", err)
	}
}

// tableOfRun keeps what a run has done to a table, by the table's place in the feed.
func (r recorder) tableOfRun(ctx context.Context, run int64, place int, t records.RunTable) {
	keep(ctx, "A table's run", run, t.Table, func(ctx context.Context) error {
		return r.store.SaveRunTable(ctx, run, place, t)
	})
}

// statements keeps what a run has said to source and warehouse.
func (r recorder) statements(ctx context.Context, run int64, table string, list []statement.Statement) {
	keep(ctx, "What a run has said", run, table, func(ctx context.Context) error {
		return r.store.SaveStatements(ctx, run, table, list)
	})
}

// books keeps the sum of a run that goes on.
func (r recorder) books(ctx context.Context, run int64, sum rows.Books) {
	keep(ctx, "A run's books", run, "", func(ctx context.Context) error { return r.store.NoteBooks(ctx, run, sum) })
}

// table keeps what a table has come to.
func (r recorder) table(ctx context.Context, feed, table string, run int64, result store.TableResult) {
	keep(ctx, "A table's state", run, table, func(ctx context.Context) error {
		return r.store.NoteTable(ctx, feed, table, run, result)
	})
}

// failure keeps why a table went no further.
func (r recorder) failure(ctx context.Context, feed, table string, run int64, why error) {
	keep(ctx, "A table's failure", run, table, func(ctx context.Context) error {
		return r.store.NoteFailure(ctx, feed, table, run, why)
	})
}

// copying keeps how a table's copy goes; nil is that none is under way.
func (r recorder) copying(ctx context.Context, feed, table string, run int64, status *records.CopyStatus) {
	keep(ctx, "A table's copy", run, table, func(ctx context.Context) error {
		return r.store.NoteCopy(ctx, feed, table, status)
	})
}

// log keeps where a feed stands in its source's log, and what it has applied since it was
// kept last.
func (r recorder) log(ctx context.Context, feed string, run int64, status records.LogStatus, applied int64) {
	keep(ctx, "The state of a log", run, "", func(ctx context.Context) error {
		return r.store.NoteLog(ctx, feed, status, applied)
	})
}

// place keeps how far a feed that follows a log has come.
func (r recorder) place(ctx context.Context, feed string, run int64, position string, completeAt time.Time) {
	keep(ctx, "A place in a log", run, "", func(ctx context.Context) error {
		return r.store.NotePlace(ctx, feed, position, completeAt)
	})
}

// end keeps how a run ended.
func (r recorder) end(ctx context.Context, run int64, state string, sum rows.Books, failure error) {
	keep(ctx, "A run's end", run, "", func(ctx context.Context) error {
		return r.store.EndRun(ctx, run, state, sum, failure)
	})
}

// counted tells whether the rows of a table were counted before.
func (r recorder) counted(ctx context.Context, feed, table string) bool {
	ctx, cancel := limited(ctx)
	defer cancel()
	counted, err := r.store.IsCounted(ctx, feed, table)
	return err != nil || counted
}

// progress tells how far a table of a run has come.
func (r recorder) progress(ctx context.Context, feed string, run int64, table, phase string, read, expected int64) {
	ctx, cancel := limited(ctx)
	defer cancel()
	r.events.Send(ctx, records.Event{Kind: "progress", Feed: feed, Run: run, Table: table, Phase: phase, Read: read,
		Expected: expected})
}
