package testkit

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"noemata/internal/connection/tunnel"
)

// SSH is Debian's openssh server, for tunnels of tests.
type SSH struct {
	t       testing.TB
	dir     string
	config  string
	process *exec.Cmd

	Port       int
	User       string
	HostKey    string // as a hop has it
	Key        string // that opens it
	Locked     string // the same, locked with Passphrase
	Passphrase string
}

// NewSSH starts a server whose configuration has more lines.
func NewSSH(t testing.TB, more ...string) *SSH {
	t.Helper()
	dir := Dir(t)
	me, err := user.Current()
	require.NoError(t, err)
	s := &SSH{t: t, dir: dir, config: filepath.Join(dir, "sshd_config"), User: me.Username, Passphrase: "open the stacks"}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized_keys"), ssh.MarshalAuthorizedKey(key), 0o600))
	s.Key = pemOf(t, private, "")
	s.Locked = pemOf(t, private, s.Passphrase)
	s.NewHostKey()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.Port = l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	lines := append([]string{fmt.Sprintf("Port %d", s.Port), "ListenAddress 127.0.0.1", "HostKey " + s.file("host_key"),
		"AuthorizedKeysFile " + s.file("authorized_keys"), "StrictModes no", "UsePAM no", "PermitRootLogin yes",
		"PasswordAuthentication no", "PidFile none", "MaxStartups 100"}, more...)
	require.NoError(t, os.WriteFile(s.config, []byte(strings.Join(lines, "\n")+"\n"), 0o600))
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	s.Start()
	t.Cleanup(s.Stop)
	return s
}

func (s *SSH) file(name string) string { return filepath.Join(s.dir, name) }

func pemOf(t testing.TB, key ed25519.PrivateKey, passphrase string) string {
	t.Helper()
	block, err := ssh.MarshalPrivateKey(key, "")
	if passphrase != "" {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(passphrase))
	}
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block))
}

// NewHostKey gives the server another key, from its next start on.
func (s *SSH) NewHostKey() {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(s.t, err)
	require.NoError(s.t, os.WriteFile(s.file("host_key"), []byte(pemOf(s.t, private, "")), 0o600))
	key, err := ssh.NewPublicKey(public)
	require.NoError(s.t, err)
	s.HostKey = key.Type() + " " + ssh.FingerprintSHA256(key)
}

// Start starts the server.
func (s *SSH) Start() {
	s.t.Helper()
	s.process = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", s.config)
	log, err := os.OpenFile(s.file("log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(s.t, err)
	defer func() { _ = log.Close() }()
	s.process.Stderr = log
	require.NoError(s.t, s.process.Start(), "is it installed? make install")
	require.Eventually(s.t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
}

// Stop ends the server and all that goes through it.
func (s *SSH) Stop() {
	if s.process.ProcessState != nil {
		return
	}
	s.Cut()
	_ = s.process.Process.Kill()
	_ = s.process.Wait()
}

// Cut ends all that goes through the server, which goes on.
func (s *SSH) Cut() {
	found, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range found {
		content, _ := os.ReadFile(path)
		_, rest, _ := strings.Cut(string(content), ") ") // proc(5): state and parent come after the name
		fields := strings.Fields(rest)
		if len(fields) > 1 && fields[1] == strconv.Itoa(s.process.Process.Pid) {
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path))); err == nil {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	}
}

// At is the server as the command line has it.
func (s *SSH) At() string { return fmt.Sprintf("%s@127.0.0.1:%d", s.User, s.Port) }

// Accept lets the key of another server open this one, too.
func (s *SSH) Accept(other *SSH) {
	content, err := os.ReadFile(other.file("authorized_keys"))
	require.NoError(s.t, err)
	own, err := os.ReadFile(s.file("authorized_keys"))
	require.NoError(s.t, err)
	require.NoError(s.t, os.WriteFile(s.file("authorized_keys"), append(own, content...), 0o600))
}

// Hop is the server as a hop of a tunnel.
func (s *SSH) Hop() tunnel.Hop {
	return tunnel.Hop{Host: "127.0.0.1", Port: s.Port, User: s.User, Key: s.Key, HostKey: s.HostKey}
}
