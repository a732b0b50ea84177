// Package tunnel reaches servers through others, by SSH (RFC 4254, section 7.2).
//
// A tunnel is opened by whoever first needs it, shared by all connections that go the same way, opened
// anew after it was cut, and closed when nobody has used it for a while.
package tunnel

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Hop is one server that a tunnel goes through, and how to sign in to it.
type Hop struct {
	Host       string `json:"host" doc:"Host name or address, as the service or the hop before it knows it"`
	Port       int    `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"Port; 22 when left out"`
	User       string `json:"user" doc:"User to sign in as"`
	Password   string `json:"password,omitempty" doc:"Password; kept encrypted and never returned"`
	Key        string `json:"key,omitempty" doc:"Private key, as OpenSSH or PEM has it; kept encrypted and never returned"`
	Passphrase string `json:"passphrase,omitempty" doc:"What the key is locked with; kept encrypted and never returned"`
	Agent      bool   `json:"agent,omitempty" doc:"Sign in with the keys of the service's own agent, where its operator lets it"`
	HostKey    string `json:"host_key,omitempty" doc:"The server's key as it was accepted, such as 'ssh-ed25519 SHA256:…'; without it nothing is sent to the server, and its key is told"`
}

// Address is host and port.
func (h Hop) Address() string {
	port := h.Port
	if port == 0 {
		port = 22
	}
	return net.JoinHostPort(h.Host, strconv.Itoa(port))
}

// WithoutSecrets is the hop as it may be shown.
func (h Hop) WithoutSecrets() Hop {
	h.Password, h.Key, h.Passphrase = "", "", ""
	return h
}

// Check tells what is wrong with a hop as it is written; field names the part. Secrets may be missing:
// they may be kept elsewhere.
func (h Hop) Check() (field string, err error) {
	switch {
	case h.Host == "":
		return "host", errors.New("its host is missing")
	case h.User == "":
		return "user", errors.New("its user is missing")
	case h.HostKey != "" && !hostKeyForm.MatchString(h.HostKey):
		return "host_key", errors.New("its host key is not written as 'ssh-ed25519 SHA256:…'")
	}
	if h.Key == "" {
		return "", nil
	}
	_, err = h.signer()
	if missing := (*ssh.PassphraseMissingError)(nil); errors.As(err, &missing) {
		return "passphrase", errors.New("its key is locked, and its passphrase is missing")
	}
	if err != nil && h.Passphrase != "" {
		return "passphrase", errors.New("its key cannot be unlocked with the passphrase, or is none")
	}
	if err != nil {
		return "key", errors.New("its key is not a private key of OpenSSH or in PEM")
	}
	return "", nil
}

func (h Hop) signer() (ssh.Signer, error) {
	if h.Passphrase != "" {
		return ssh.ParsePrivateKeyWithPassphrase([]byte(h.Key), []byte(h.Passphrase))
	}
	return ssh.ParsePrivateKey([]byte(h.Key))
}

// AgentSocket is the socket of the agent that hops may sign in with; empty for none. Whoever operates
// the service sets it before anything is opened.
var AgentSocket string

// How long it may take to reach and enter one server, how often an open tunnel is tried, and how long
// it stays without use.
const (
	enterWithin = 10 * time.Second
	beatEvery   = 10 * time.Second
	idleFor     = time.Minute
)

// Error tells at which hop, and at which part of it, a tunnel ended.
type Error struct {
	Hop  Hop
	At   int // counted from 0
	Part Part
	Err  error
}

// Part is one of what it takes to get through a server.
type Part string

// The parts, in their order.
const (
	Reaching  Part = "reach"    // a connection to it
	HostKey   Part = "host key" // whether it is the right one
	SigningIn Part = "sign in"
	Passing   Part = "pass" // a connection from it to what comes next
)

func (e *Error) Error() string { return fmt.Sprintf("tunnel through %s: %v", e.Hop.Address(), e.Err) }
func (e *Error) Unwrap() error { return e.Err }

// UnknownHostError tells the key of a server whose key was not accepted yet, or is another one now.
type UnknownHostError struct {
	Key    string // as HostKey has it
	Before string // what was accepted; empty where nothing was
}

func (e *UnknownHostError) Error() string {
	return "the host key " + e.Key + " is not the accepted one"
}

// Tunnel is one that was opened, or will be when it is needed.
type Tunnel struct {
	hops []Hop
	id   [sha256.Size]byte

	mu    sync.Mutex // one opens it at a time
	open  []*ssh.Client
	dead  chan struct{} // closed when what is open has ended
	conns int
	used  time.Time
}

// known are the tunnels that are open or about to be, by the digest of their hops.
var known sync.Map

// Through gives the tunnel that goes through servers, one after another.
func Through(hops []Hop) *Tunnel {
	text, _ := json.Marshal(hops) // plain values always marshal
	id := sha256.Sum256(text)
	t, _ := known.LoadOrStore(id, &Tunnel{hops: hops, id: id})
	return t.(*Tunnel)
}

// Dial opens a connection to an address as the last hop knows it.
func (t *Tunnel) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, cut, err := t.pass(ctx, network, address)
	if cut { // and nobody had noticed
		conn, _, err = t.pass(ctx, network, address)
	}
	return conn, err
}

// pass opens a connection in the tunnel as it is; cut tells that it was open, and is no more.
func (t *Tunnel) pass(ctx context.Context, network, address string) (conn net.Conn, cut bool, err error) {
	last, err := t.enter(ctx)
	if err != nil {
		return nil, false, err
	}
	limited, cancel := context.WithTimeout(ctx, enterWithin)
	defer cancel()
	channel, err := last.DialContext(limited, network, address)
	if err == nil {
		conn, err = t.carry(channel, address)
		return conn, false, err
	}
	// Whoever refuses is there; and who is late keeps nobody else from going through.
	refused := (*ssh.OpenChannelError)(nil)
	if cut = limited.Err() == nil && !errors.As(err, &refused); cut {
		t.drop(last)
	}
	return nil, cut, &Error{t.hops[len(t.hops)-1], len(t.hops) - 1, Passing, err}
}

// Enter opens what is not open.
func (t *Tunnel) Enter(ctx context.Context) error {
	_, err := t.enter(ctx)
	return err
}

// enter gives the client of the last hop, and opens what is not open.
func (t *Tunnel) enter(ctx context.Context) (*ssh.Client, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.used = time.Now()
	if len(t.open) > 0 {
		select {
		case <-t.dead:
		default:
			return t.open[len(t.open)-1], nil
		}
	}
	t.shut()
	known.Store(t.id, t)
	for i, h := range t.hops {
		client, err := t.enterHop(ctx, i, h)
		if err != nil {
			t.shut()
			return nil, err
		}
		t.open = append(t.open, client)
	}
	last := t.open[len(t.open)-1]
	dead := make(chan struct{})
	t.dead = dead
	go func() {
		_ = last.Wait()
		close(dead)
	}()
	go t.watch(last, dead)
	return last, nil
}

func (t *Tunnel) enterHop(ctx context.Context, at int, h Hop) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, enterWithin)
	defer cancel()
	dial := (&net.Dialer{KeepAlive: 15 * time.Second}).DialContext
	if at > 0 {
		dial = t.open[at-1].DialContext
	}
	conn, err := dial(ctx, "tcp", h.Address())
	if err != nil {
		return nil, &Error{h, at, Reaching, err}
	}
	var part atomic.Value // it is moved on beside
	part.Store(Reaching)
	config, release, err := h.config(&part)
	if err != nil {
		_ = conn.Close()
		return nil, &Error{h, at, SigningIn, err}
	}
	defer release()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() }) // a server may say nothing at all
	c, channels, requests, err := ssh.NewClientConn(conn, h.Address(), config)
	if !stop() && err == nil {
		_ = c.Close()
		err = ctx.Err()
	}
	if err != nil {
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		_ = conn.Close()
		return nil, &Error{h, at, part.Load().(Part), err}
	}
	return ssh.NewClient(c, channels, requests), nil
}

// config says how a hop is entered. part is moved on as it comes to it.
func (h Hop) config(part *atomic.Value) (config *ssh.ClientConfig, release func(), err error) {
	release = func() {}
	config = &ssh.ClientConfig{User: h.User, ClientVersion: "SSH-2.0-Noemata"}
	if kind := h.keyKind(); kind != "" {
		config.HostKeyAlgorithms = algorithms(kind)
	}
	config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		part.Store(HostKey)
		if now := describe(key); now != h.HostKey {
			return &UnknownHostError{Key: now, Before: h.HostKey}
		}
		part.Store(SigningIn)
		return nil
	}
	if h.Key != "" {
		signer, err := h.signer()
		if err != nil {
			return nil, release, err
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	}
	if h.Agent {
		if AgentSocket == "" {
			return nil, release, ErrNoAgent
		}
		conn, err := net.DialTimeout("unix", AgentSocket, enterWithin)
		if err != nil {
			return nil, release, fmt.Errorf("reach the agent: %w", err)
		}
		_ = conn.SetDeadline(time.Now().Add(enterWithin))
		release = func() { _ = conn.Close() }
		config.Auth = append(config.Auth, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
	}
	if h.Password != "" {
		config.Auth = append(config.Auth, ssh.Password(h.Password),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				if len(answers) > 0 {
					answers[0] = h.Password
				}
				return answers, nil
			}))
	}
	if len(config.Auth) == 0 {
		return nil, release, ErrNothingGiven
	}
	return config, release, nil
}

// ErrNothingGiven says that a hop has neither key nor password, and no agent.
var ErrNothingGiven = errors.New("nothing is given to sign in with")

// ErrNoAgent says that the service has no agent to sign in with.
var ErrNoAgent = errors.New("the service was started without an agent")

// watch looks whether a tunnel still answers, and closes one that nobody uses.
func (t *Tunnel) watch(last *ssh.Client, dead chan struct{}) {
	for {
		select {
		case <-dead:
			t.drop(last)
			return
		case <-time.After(beatEvery):
		}
		answered := make(chan error, 1)
		go func() {
			_, _, err := last.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		select {
		case err := <-answered:
			if err == nil && !t.idle() {
				continue
			}
		case <-time.After(beatEvery):
		}
		t.drop(last)
		return
	}
}

func (t *Tunnel) idle() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.conns == 0 && time.Since(t.used) > idleFor
}

// drop closes what is open, if it is still that.
func (t *Tunnel) drop(last *ssh.Client) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.open) > 0 && t.open[len(t.open)-1] == last {
		t.shut()
	}
}

// shut closes what is open. Whoever comes next opens another tunnel.
func (t *Tunnel) shut() {
	known.CompareAndDelete(t.id, t)
	for i := len(t.open) - 1; i >= 0; i-- {
		_ = t.open[i].Close()
	}
	t.open = nil
}
