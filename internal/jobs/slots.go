package jobs

import (
	"context"
	"sync"
)

// feedsOfSource is how many feeds of one source are read at a time by a process. Each
// source has slots of its own, so that one that does not answer keeps only its own feeds
// waiting. Feeds that follow a log need none: what they read comes by itself.
const feedsOfSource = 4

// slots are those of all sources.
type slots struct {
	mu     sync.Mutex
	source map[string]chan struct{}
}

// take waits for a slot of a source and gives what frees it.
func (s *slots) take(ctx context.Context, source string) (free func(), err error) {
	s.mu.Lock()
	if s.source == nil {
		s.source = map[string]chan struct{}{}
	}
	c := s.source[source]
	if c == nil {
		c = make(chan struct{}, feedsOfSource)
		s.source[source] = c
	}
	s.mu.Unlock()
	select {
	case c <- struct{}{}:
		return func() { <-c }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
