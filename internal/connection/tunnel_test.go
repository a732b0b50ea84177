package connection_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"noemata/internal/connection"
	"noemata/internal/connection/tunnel"
	"noemata/internal/core/problem"
	"noemata/internal/testkit"
	"noemata/internal/testkit/hostile"
)

// echo is a server that says again what is said to it, line by line.
func echo(t *testing.T) int {
	return hostile.Listen(t, func(c net.Conn) { _, _ = io.Copy(c, c) })
}

func throughHops(port int, hops ...tunnel.Hop) connection.Settings {
	return connection.Settings{Host: "127.0.0.1", Port: port, Tunnel: hops}
}

func says(t *testing.T, s connection.Settings, text string) {
	t.Helper()
	c, err := s.Dial(t.Context(), "tcp", s.Address())
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	require.Equal(t, s.Address(), c.RemoteAddr().String())
	_, err = fmt.Fprintln(c, text)
	require.NoError(t, err)
	line, err := bufio.NewReader(c).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, text+"\n", line)
}

// A tunnel goes through one server or several, with a key, a locked key or the agent's keys; a
// connection in it knows deadlines; after a cut it is opened anew.
func TestTunnel(t *testing.T) {
	first, second, port := testkit.NewSSH(t), testkit.NewSSH(t), echo(t)
	says(t, throughHops(port, first.Hop()), "one hop")
	says(t, throughHops(port, first.Hop(), second.Hop()), "two hops")
	locked := first.Hop()
	locked.Key, locked.Passphrase = first.Locked, first.Passphrase
	says(t, throughHops(port, locked), "locked")

	s := throughHops(port, first.Hop())
	c, err := s.Dial(t.Context(), "tcp", s.Address())
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(50*time.Millisecond)))
	_, err = c.Read(make([]byte, 1))
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	first.Cut()
	require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
	_, err = c.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF, "a cut ends what goes through")
	require.NoError(t, c.Close())
	says(t, s, "after a cut")

	big := strings.Repeat("a shelf of books ", 1<<16)
	says(t, s, big)
}

// With the keys of an agent, where the operator lets it.
func TestTunnelWithAnAgent(t *testing.T) {
	server, port := testkit.NewSSH(t), echo(t)
	hop := server.Hop()
	hop.Key, hop.Agent = "", true
	_, without := explained(throughHops(port, hop))
	require.ErrorContains(t, without, "--ssh-agent")
	key, err := ssh.ParseRawPrivateKey([]byte(server.Key))
	require.NoError(t, err)
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: key}))
	socket := filepath.Join(testkit.Dir(t), "agent")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, c) }()
		}
	}()
	tunnel.AgentSocket = socket
	defer func() { tunnel.AgentSocket = "" }()
	says(t, throughHops(port, hop), "by the agent")
}

// explained goes the way to a server, and gives the steps and the problem.
func explained(s connection.Settings) ([]connection.Taken, *problem.Problem) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	steps, err := s.Reach(ctx, "The server at "+s.Address(), "circulation")
	return steps, problem.Of(err)
}

// Whatever is in the way, the step and the setting are named, with a remedy.
func TestWhatIsInTheWayIsNamed(t *testing.T) {
	server, port := testkit.NewSSH(t), echo(t)
	closed := testkit.NewSSH(t, "AllowTcpForwarding no")
	dead := hostile.Listen(t, func(net.Conn) {})
	changed := func(change func(*tunnel.Hop)) connection.Settings {
		hop := server.Hop()
		change(&hop)
		return throughHops(port, hop)
	}
	for name, x := range map[string]struct {
		s           connection.Settings
		step        connection.Step
		field, said string
	}{
		"unknown host": {connection.Settings{Host: "nowhere.invalid", Port: 1}, connection.StepName, "host", "is not known"},
		"nobody listens": {connection.Settings{Host: "127.0.0.1", Port: 1}, connection.StepNetwork, "port",
			"nothing listens there"},
		"host key not accepted": {changed(func(h *tunnel.Hop) { h.HostKey = "" }), connection.StepTunnel, "tunnel.0.host_key",
			server.HostKey},
		"another host key": {changed(func(h *tunnel.Hop) { h.HostKey = closed.HostKey }), connection.StepTunnel,
			"tunnel.0.host_key", "Nothing was sent to it"},
		"another user's key": {changed(func(h *tunnel.Hop) { h.User = "nobody-here" }), connection.StepTunnel,
			"tunnel.0.user",
			`does not let user "nobody-here" sign in`},
		"nothing to sign in with": {changed(func(h *tunnel.Hop) { h.Key = "" }), connection.StepTunnel, "tunnel.0.key",
			"nothing is given"},
		"hop unknown": {changed(func(h *tunnel.Hop) { h.Host = "nowhere.invalid" }), connection.StepTunnel, "tunnel.0.host",
			"not known by that name"},
		"hop refused": {changed(func(h *tunnel.Hop) { h.Port = 1 }), connection.StepTunnel, "tunnel.0.port",
			"nothing listens there"},
		"no SSH there": {changed(func(h *tunnel.Hop) { h.Port = dead }), connection.StepTunnel, "tunnel.0.host",
			"whether SSH runs there"},
		"not let through": {throughHops(port, closed.Hop()), connection.StepNetwork, "tunnel.0.host",
			"AllowTcpForwarding"},
		"nobody listens beyond": {throughHops(1, server.Hop()), connection.StepNetwork, "host", "cannot be reached from"},
		"second hop": {throughHops(port, server.Hop(), tunnel.Hop{Host: "127.0.0.1", Port: 1, User: "x", Key: server.Key}),
			connection.StepTunnel, "tunnel.1.host", "cannot be used"},
	} {
		t.Run(name, func(t *testing.T) {
			steps, p := explained(x.s)
			require.NotNil(t, p)
			last := steps[len(steps)-1]
			require.False(t, last.Done)
			require.Equal(t, x.step, last.Step)
			require.Equal(t, x.field, p.Field, "%+v", p)
			require.Contains(t, p.What+" "+p.Remedy, x.said)
			require.NotEmpty(t, p.Remedy)
		})
	}
}

// A server of the tunnel that says nothing, or nonsense, ends the wait and nothing else.
func TestAHostileTunnel(t *testing.T) {
	for name, serve := range map[string]func(net.Conn){
		"silent": func(c net.Conn) { _, _ = io.Copy(io.Discard, c) },
		"nonsense": func(c net.Conn) {
			_, _ = io.WriteString(c, "SSH-2.0-nobody\r\n"+strings.Repeat("\x00\xff\x01", 4000))
		},
		"endless": func(c net.Conn) {
			for {
				if _, err := io.WriteString(c, strings.Repeat("x", 1<<16)); err != nil {
					return
				}
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			port := hostile.Listen(t, serve)
			began := time.Now()
			_, p := explained(throughHops(1, tunnel.Hop{Host: "127.0.0.1", Port: port, User: "x", Password: "y"}))
			require.NotNil(t, p)
			require.Less(t, time.Since(began), 20*time.Second)
		})
	}
}

// Secrets are kept apart from what is shown, and come back to where they were.
func TestSecretsOfSettings(t *testing.T) {
	s := connection.Settings{Host: "db.example", Password: "p", Certificate: "c", Key: "k", Tunnel: []tunnel.Hop{
		{Host: "a", User: "u", Key: "one", Passphrase: "two"}, {Host: "b", User: "u", Password: "three"}}}
	bare := s.WithoutSecret()
	require.NotContains(t, fmt.Sprintf("%+v", bare), "three")
	require.Equal(t, "one", s.Tunnel[0].Key, "the original is as it was")
	require.Equal(t, s, bare.WithSecret(s.Secret()))
	require.Equal(t, "p", connection.Settings{Password: "p"}.Secret(), "a password alone is kept as it is")
	changed := bare
	changed.Password = "new"
	require.Equal(t, "new", changed.WithSecret(s.Secret()).Password)
	require.Equal(t, "k", changed.WithSecret(s.Secret()).Key)
	pinned := s.WithoutSecret()
	pinned.Tunnel[0].HostKey = "ssh-ed25519 SHA256:x"
	require.True(t, connection.SameWay(s, "postgresql", pinned, "postgresql"), "a key that was accepted since")
	require.False(t, connection.SameWay(pinned, "postgresql", s, "postgresql"), "a key that is accepted no more")
	elsewhere := s.WithoutSecret()
	elsewhere.Tunnel[1].Host = "c"
	require.False(t, connection.SameWay(s, "postgresql", elsewhere, "postgresql"))
}
