// Package sqlport lets clients of PostgreSQL ask warehouses: it speaks PostgreSQL's protocol, version 3 (PostgreSQL,
// Frontend/Backend Protocol), whatever database the warehouse is.
//
// The database is the warehouse's name, the user a person's or a token's, and the password that one's. Nothing is
// written through it.
package sqlport

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"log/slog"
	"maps"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"noemata/internal/asking"
	"noemata/internal/core/problem"
	"noemata/internal/store"
)

// Bounds of sessions.
const (
	sessionsAtMost  = 200
	signInWithin    = 30 * time.Second
	idleAtMost      = 4 * time.Hour
	messageAtMost   = 8 << 20 // bytes of one message of a client
	failedPerMinute = 10      // sign-ins from one address
	leaveWithin     = 3 * time.Second
)

// Server answers clients of PostgreSQL.
type Server struct {
	store  *store.Store
	asking *asking.Asking
	tls    *tls.Config // nil for none

	ctx  context.Context
	stop context.CancelFunc
	all  sync.WaitGroup
	next atomic.Uint32

	mu       sync.Mutex
	sessions map[uint32]*session
	failures map[string][]time.Time // of sign-ins, by address
}

// New makes a Server. Without a certificate secrets are kept safe by SCRAM, and answers travel in the clear.
func New(s *store.Store, a *asking.Asking, certificate func(*tls.ClientHelloInfo) (*tls.Certificate, error)) *Server {
	x := &Server{store: s, asking: a, sessions: map[uint32]*session{}, failures: map[string][]time.Time{}}
	if certificate != nil {
		x.tls = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: certificate, NextProtos: []string{"postgresql"}}
	}
	x.ctx, x.stop = context.WithCancel(context.Background())
	return x
}

// Serve answers until Stop.
func (s *Server) Serve(l net.Listener) error {
	context.AfterFunc(s.ctx, func() { _ = l.Close() })
	for {
		conn, err := l.Accept()
		if s.ctx.Err() != nil {
			return nil
		}
		if err != nil {
			var temporary interface{ Temporary() bool }
			if errors.As(err, &temporary) && temporary.Temporary() { // as where files have run out
				time.Sleep(100 * time.Millisecond)
				continue
			}
			return err
		}
		s.all.Go(func() { s.attend(conn) })
	}
}

// Stop ends all sessions; questions that are being answered are stopped.
func (s *Server) Stop() {
	s.stop()
	s.all.Wait()
}

// attend looks after one connection until it ends.
func (s *Server) attend(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	x := &session{server: s, conn: conn, address: addressOf(conn), statements: map[string]*prepared{},
		portals: map[string]*portal{}, settings: map[string]string{}, told: maps.Clone(told), types: pgtype.NewMap()}
	x.ctx, x.end = context.WithCancel(s.ctx)
	defer x.end()
	defer context.AfterFunc(s.ctx, func() {
		_ = conn.SetDeadline(time.Now().Add(time.Second))
		time.AfterFunc(leaveWithin, func() { _ = conn.Close() }) // another deadline may have been set meanwhile
	})()
	err := problem.Guarded(x.run)()
	if err != nil && !errors.Is(err, errGone) && s.ctx.Err() == nil {
		slog.Warn("A session of the SQL port ended.", "user", x.asker.Name, "warehouse", x.warehouse, "address", x.address,
			"error", err)
	}
}

func addressOf(conn net.Conn) string {
	host, _, err := net.SplitHostPort(conn.RemoteAddr().String())
	if err != nil {
		return conn.RemoteAddr().String()
	}
	return host
}

// add gives a session its number, by which it can be asked to stop; false where there are too many.
func (s *Server) add(x *session) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.sessions) >= sessionsAtMost {
		return false
	}
	x.number = s.next.Add(1)
	x.key = make([]byte, 4) // as long as version 3.0 of the protocol has it
	_, _ = rand.Read(x.key) // never fails (crypto/rand)
	s.sessions[x.number] = x
	return true
}

func (s *Server) remove(x *session) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.sessions, x.number)
}

// cancel stops what a session does, for whoever knows its number and key.
func (s *Server) cancel(number uint32, key []byte) {
	s.mu.Lock()
	x := s.sessions[number]
	s.mu.Unlock()
	if x != nil && subtle.ConstantTimeCompare(x.key, key) == 1 {
		x.cancelAnswer()
	}
}

// tooMany tells whether an address has failed to sign in too often lately.
func (s *Server) tooMany(address string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.lately(address)) >= failedPerMinute
}

// failed notes a sign-in that failed.
func (s *Server) failed(address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.failures[address] = append(s.lately(address), time.Now())
	for other := range s.failures {
		s.lately(other)
	}
}

// lately are the failures of the last minute; the others are forgotten. The lock is held.
func (s *Server) lately(address string) []time.Time {
	var list []time.Time
	for _, at := range s.failures[address] {
		if time.Since(at) < time.Minute {
			list = append(list, at)
		}
	}
	if s.failures[address] = list; len(list) == 0 {
		delete(s.failures, address)
	}
	return list
}
