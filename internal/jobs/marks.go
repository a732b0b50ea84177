package jobs

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"noemata/internal/store"
)

// marks are where a feed stood in its source's log, so that it can be set back: what lies after the place that far back
// is kept by the source.
type marks struct {
	back time.Duration

	mu   sync.Mutex
	list []store.Mark // the oldest first
}

// each is how much time lies between two marks.
func (m *marks) each() time.Duration { return min(max(m.back/60, time.Second), time.Minute) }

// readMarks gives the marks of a feed; nil where it is not set back beyond where it stands.
func (x *following) readMarks(ctx context.Context) (*marks, error) {
	if x.feed.Back() == 0 {
		return nil, x.store.ForgetMarks(ctx, x.feed.Name)
	}
	list, err := x.store.Marks(ctx, x.feed.Name)
	return &marks{back: x.feed.Back(), list: list}, err
}

// confirms is the last place that is at least so far back, or what is in the warehouse where that is set back before
// it; empty for none.
func (m *marks) confirms(stands string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	limit := time.Now().Add(-m.back)
	for len(m.list) > 1 && m.list[1].At.Before(limit) {
		m.list = m.list[1:]
	}
	if len(m.list) == 0 || !m.list[0].At.Before(limit) {
		return ""
	}
	return min(m.list[0].Position, stands)
}

// mark notes where a feed stands, every so often.
func (x *following) mark(ctx context.Context, position string) {
	m := x.marks
	if m == nil || position == "" {
		return
	}
	m.mu.Lock()
	due := len(m.list) == 0 || time.Since(m.list[len(m.list)-1].At) >= m.each()
	m.mu.Unlock()
	if !due {
		return
	}
	if err := x.store.AddMark(ctx, x.feed.Name, position, m.back); err != nil {
		slog.Warn("Where a feed stands could not be kept; its source keeps its log for longer.", "feed", x.feed.Name, "error", err)
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.list = append(m.list, store.Mark{At: time.Now(), Position: position})
}
