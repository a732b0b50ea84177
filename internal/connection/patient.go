package connection

import (
	"context"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"noemata/internal/connection/tunnel"
)

// Silence is how long a server may say nothing, or take nothing in, while something is
// waited for; then the connection is given up. A statement that takes longer before its
// first row must be cut into smaller ones.
var Silence = 10 * time.Minute

// DialTimeout is how long it may take to reach a server and to sign in.
const DialTimeout = 10 * time.Second

// Dial opens a connection, through the settings' tunnel where they have one, on which each wait has an
// end: after Silence, or at a deadline that whoever uses it sets.
func (s Settings) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	dial := (&net.Dialer{Timeout: DialTimeout, KeepAlive: 15 * time.Second}).DialContext
	if len(s.Tunnel) > 0 {
		dial = tunnel.Through(s.Tunnel).Dial
	}
	c, err := dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &patient{Conn: c, silence: Silence}, nil
}

// SilentError says that a server has said nothing for too long.
type SilentError struct{ Silence time.Duration }

func (e *SilentError) Error() string { return fmt.Sprintf("no byte came within %s", e.Silence) }

// Timeout makes it a net.Error.
func (e *SilentError) Timeout() bool { return true }

// Temporary makes it a net.Error.
func (e *SilentError) Temporary() bool { return false }

type patient struct {
	net.Conn
	silence time.Duration
	mu      sync.Mutex
	read    time.Time // the deadlines that were asked for; zero is none
	write   time.Time
}

func (p *patient) Read(b []byte) (int, error) {
	return p.wait(&p.read, p.Conn.SetReadDeadline, p.Conn.Read, b)
}

func (p *patient) Write(b []byte) (int, error) {
	return p.wait(&p.write, p.Conn.SetWriteDeadline, p.Conn.Write, b)
}

// wait reads or writes until a deadline or, if that is nearer, the end of patience. A deadline
// that was set meanwhile is told from the latter.
func (p *patient) wait(deadline *time.Time, set func(time.Time) error, do func([]byte) (int, error), b []byte) (int,
	error) {
	p.mu.Lock()
	end := time.Now().Add(p.silence)
	impatient := deadline.IsZero() || end.Before(*deadline)
	if !impatient {
		end = *deadline
	}
	err := set(end)
	p.mu.Unlock()
	if err != nil {
		return 0, err
	}
	n, err := do(b)
	if timeout, ok := err.(net.Error); !ok || !timeout.Timeout() || !impatient {
		return n, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !deadline.IsZero() && !deadline.After(time.Now()) {
		return n, os.ErrDeadlineExceeded
	}
	return n, &SilentError{p.silence}
}

func (p *patient) SetDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.read, p.write = t, t
	return p.Conn.SetDeadline(t)
}

func (p *patient) SetReadDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.read = t
	return p.Conn.SetReadDeadline(t)
}

func (p *patient) SetWriteDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.write = t
	return p.Conn.SetWriteDeadline(t)
}
