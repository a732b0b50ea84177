package jobs

import (
	"context"
	"sync"
	"time"

	"noemata/internal/store"
)

// wishes tell each run of a process what people want of it. All are asked for at once, however many runs go on.
type wishes struct {
	store *store.Store
	mu    sync.Mutex
	runs  map[int64]chan store.Wish
	asks  bool // a goroutine asks
}

// of gives a channel that tells what people want of a run, again and again until release is called.
func (w *wishes) of(ctx context.Context, run int64) (told <-chan store.Wish, release func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.runs == nil {
		w.runs = map[int64]chan store.Wish{}
	}
	c := make(chan store.Wish, 1)
	w.runs[run] = c
	if !w.asks {
		w.asks = true
		go w.ask(context.WithoutCancel(ctx))
	}
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.runs, run)
	}
}

// ask goes on as long as there are runs.
func (w *wishes) ask(ctx context.Context) {
	for {
		w.mu.Lock()
		ids := make([]int64, 0, len(w.runs))
		for id := range w.runs {
			ids = append(ids, id)
		}
		if w.asks = len(ids) > 0; !w.asks {
			w.mu.Unlock()
			return
		}
		w.mu.Unlock()
		limited, cancel := context.WithTimeout(ctx, recordWithin)
		found, err := w.store.Wishes(limited, ids)
		cancel()
		if err == nil { // else the records will be back; the runs go on
			w.tell(found)
		}
		time.Sleep(watchEvery)
	}
}

func (w *wishes) tell(found map[int64]store.Wish) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, wish := range found {
		c := w.runs[id]
		if c == nil {
			continue
		}
		select {
		case <-c: // the one before was not taken; only the newest counts
		default:
		}
		c <- wish
	}
}
