// Package statement records every statement that is run against a source or a
// warehouse, so that a run can show them.
//
// The recorder travels in the context; code that runs a statement reports it
// with Done and need not know who listens.
package statement

import (
	"context"
	"strings"
	"time"
)

// Statement is one statement as it was run.
type Statement struct {
	Side  string // "source" or "warehouse"
	SQL   string
	Rows  int64 // rows read or written; -1 when the database does not say
	Start time.Time
	Took  time.Duration
	Error string
}

// The sides of a feed.
const (
	Source    = "source"
	Warehouse = "warehouse"
)

type key struct{}

// With gives a context whose statements are passed to record, which must be
// safe to call from several goroutines.
func With(ctx context.Context, record func(Statement)) context.Context {
	return context.WithValue(ctx, key{}, record)
}

// Begin notes that a statement starts; the function it returns reports the end.
func Begin(ctx context.Context, side, sql string) func(rows int64, err error) {
	record, ok := ctx.Value(key{}).(func(Statement))
	if !ok {
		return func(int64, error) {}
	}
	start := time.Now()
	return func(rows int64, err error) {
		s := Statement{Side: side, SQL: strings.TrimSpace(sql), Rows: rows, Start: start, Took: time.Since(start)}
		if err != nil {
			s.Error = err.Error()
		}
		record(s)
	}
}
