package jobs

import (
	"context"
	"sync"

	"noemata/internal/records"
	"noemata/internal/statement"
)

// mostHeard is how many statements are kept of a proof, or of a derived table that is made.
const mostHeard = 500

// heard gathers the first statements of a piece of work.
type heard struct {
	mu   sync.Mutex
	list []statement.Statement
}

// in gives a context whose statements are gathered.
func (h *heard) in(ctx context.Context) context.Context {
	return statement.With(ctx, func(s statement.Statement) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if len(h.list) < mostHeard {
			h.list = append(h.list, s)
		}
	})
}

// all are the statements as they are kept, of one table.
func (h *heard) all(table string) (list []records.Statement) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, s := range h.list {
		list = append(list, records.Statement{Table: table, Side: s.Side, SQL: s.SQL, Rows: s.Rows, StartedAt: s.Start,
			Took: s.Took.Seconds(), Error: s.Error})
	}
	return list
}
