package jobs

import (
	"context"
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/records"
)

// channel is the PostgreSQL channel that events travel on, so that every process
// of the service hears what happens in the others.
const channel = "noemata_events"

// Events passes on what happens to whoever listens.
type Events struct {
	pool      *pgxpool.Pool
	mu        sync.Mutex
	listeners map[chan records.Event]struct{}
}

// NewEvents makes Events that travel through the records' database.
func NewEvents(pool *pgxpool.Pool) *Events {
	return &Events{pool: pool, listeners: map[chan records.Event]struct{}{}}
}

// Send tells all processes of an event. It is not kept for those who listen later.
func (e *Events) Send(ctx context.Context, event records.Event) {
	payload, _ := json.Marshal(event) // plain fields always marshal
	if _, err := e.pool.Exec(ctx, "SELECT pg_notify($1, $2)", channel, string(payload)); err != nil &&
		ctx.Err() == nil {
		slog.Warn("An event was not sent.", "error", err)
	}
}

// Listen gives a channel of events and a function that ends it. A listener that
// does not keep up misses events.
func (e *Events) Listen() (<-chan records.Event, func()) {
	c := make(chan records.Event, 64)
	e.mu.Lock()
	e.listeners[c] = struct{}{}
	e.mu.Unlock()
	return c, func() {
		e.mu.Lock()
		delete(e.listeners, c)
		e.mu.Unlock()
	}
}

// Listeners counts those who listen.
func (e *Events) Listeners() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.listeners)
}

// Run hears events until the context ends.
func (e *Events) Run(ctx context.Context) {
	for ctx.Err() == nil {
		if err := e.hear(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("Events cannot be heard; trying again.", "error", err)
			time.Sleep(time.Second)
		}
	}
}

func (e *Events) hear(ctx context.Context) error {
	conn, err := pgx.ConnectConfig(ctx, e.pool.Config().ConnConfig)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.Background()) }()
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var event records.Event
		if err := json.Unmarshal([]byte(n.Payload), &event); err != nil {
			continue // of another version of the service
		}
		e.mu.Lock()
		for c := range e.listeners {
			select {
			case c <- event:
			default:
			}
		}
		e.mu.Unlock()
	}
}
