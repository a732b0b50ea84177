package postgres

import (
	"errors"
	"io"
	"sync"
)

// feeder passes chunks from the one who encodes rows to the COPY that sends them,
// so that both work at the same time. It is the io.Reader of the COPY.
type feeder struct {
	chunks  chan []byte
	spares  chan []byte
	stopped chan struct{} // closed when the COPY has ended
	once    sync.Once
	current []byte
	rest    []byte // of current, still to be read
	gaveUp  bool   // set before chunks is closed
}

func newFeeder() *feeder {
	return &feeder{chunks: make(chan []byte, 2), spares: make(chan []byte, 4), stopped: make(chan struct{})}
}

// give hands a chunk over; false means that the COPY has ended. The chunk belongs to
// the feeder from then on.
func (f *feeder) give(chunk []byte) bool {
	select {
	case f.chunks <- chunk:
		return true
	case <-f.stopped:
		return false
	}
}

// spare is an empty buffer, one that was read before if there is one.
func (f *feeder) spare() []byte {
	select {
	case b := <-f.spares:
		return b[:0]
	default:
		return nil
	}
}

// end tells that no chunk comes any more; giveUp that the COPY must not succeed.
func (f *feeder) end() { close(f.chunks) }

func (f *feeder) giveUp() {
	f.gaveUp = true
	close(f.chunks)
}

// stop tells whoever gives chunks that nobody takes them.
func (f *feeder) stop() { f.once.Do(func() { close(f.stopped) }) }

func (f *feeder) Read(p []byte) (int, error) {
	for len(f.rest) == 0 {
		if cap(f.current) > 1024 { // not the header, which is shared
			select {
			case f.spares <- f.current:
			default:
			}
		}
		var open bool
		if f.current, open = <-f.chunks; !open {
			if f.gaveUp {
				return 0, errors.New("the load was given up")
			}
			return 0, io.EOF
		}
		f.rest = f.current
	}
	n := copy(p, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}
