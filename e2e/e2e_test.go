// Package e2e tests Noemata as its users meet it: the program started as a process,
// called through its command line, its client and its console, on real databases.
package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// program is the binary under test, built once.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "noemata-e2e-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "noemata")
	build := exec.Command("go", "build", "-o", program, "../cmd/noemata")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	testkit.Main(m, func() { _ = os.RemoveAll(dir) })
}

// service is a process of `noemata serve`.
type service struct {
	t       testing.TB
	dir     string
	listen  string
	client  *client.Client
	address string
	sql     string // where its SQL port is, if it has one
	token   string
	process *exec.Cmd
	stderr  *lockedBuffer
	flags   []string // of serve, beyond the usual
}

type lockedBuffer struct {
	mu sync.Mutex
	bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.Buffer.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.Buffer.String()
}

var askedAt = regexp.MustCompile(`ask warehouses at (\S+)\n`)

var greeting = regexp.MustCompile(`listens on (\S+)\n(?:The first administrator's token, shown this once: (\S+)\n)?`)

func newService(t *testing.T) *service {
	s := &service{t: t, dir: testkit.Dir(t), listen: "127.0.0.1:0"}
	s.start()
	t.Cleanup(func() {
		if t.Failed() {
			t.Log("the service's log:\n" + s.stderr.String())
		}
		s.stop()
	})
	return s
}

func (s *service) start() {
	s.t.Helper()
	s.process = exec.Command(program, append([]string{"serve", "--listen", s.listen, "--data",
		filepath.Join(s.dir, "service"), "--warehouse-dir", s.dir}, s.flags...)...)
	s.stderr = &lockedBuffer{}
	s.process.Stderr = s.stderr
	out, err := s.process.StdoutPipe()
	require.NoError(s.t, err)
	require.NoError(s.t, s.process.Start())
	var said strings.Builder
	buffer := make([]byte, 4096)
	for {
		n, err := out.Read(buffer)
		said.Write(buffer[:n])
		if m := greeting.FindStringSubmatch(said.String()); m != nil && (m[2] != "" || s.token != "") {
			s.address = m[1]
			if at := askedAt.FindStringSubmatch(said.String()); at != nil {
				s.sql = at[1]
			}
			if s.token == "" {
				s.token = m[2]
			}
			break
		}
		require.NoError(s.t, err, "the service ended: %s", s.stderr.String())
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	s.client = client.New(s.address, s.token)
}

// kill ends the process as a power cut would; its database goes on without it.
func (s *service) kill() {
	require.NoError(s.t, s.process.Process.Kill())
	_ = s.process.Wait()
}

func (s *service) stop() {
	if s.process.ProcessState == nil {
		_ = s.process.Process.Signal(syscall.SIGTERM)
		_ = s.process.Wait()
		return
	}
	s.start() // killed: start it once more so that it stops its database
	_ = s.process.Process.Signal(syscall.SIGTERM)
	_ = s.process.Wait()
}

// stopNow ends the process as its operator would.
func (s *service) stopNow() {
	s.t.Helper()
	require.NoError(s.t, s.process.Process.Signal(syscall.SIGTERM))
	_ = s.process.Wait()
}

// cli runs a command against the service and gives its output and exit code.
func (s *service) cli(stdin string, args ...string) (out string, code int) {
	s.t.Helper()
	c := exec.Command(program, args...)
	c.Env = append(os.Environ(), "NOEMATA_ADDRESS="+s.address, "NOEMATA_TOKEN="+s.token, "XDG_CONFIG_HOME="+
		filepath.Join(s.dir, "config"))
	c.Stdin = strings.NewReader(stdin)
	content, err := c.CombinedOutput()
	if err != nil {
		require.IsType(s.t, &exec.ExitError{}, err)
	}
	return string(content), c.ProcessState.ExitCode()
}

// must is cli that has to succeed.
func (s *service) must(args ...string) string {
	s.t.Helper()
	out, code := s.cli("", args...)
	require.Zero(s.t, code, "%v: %s", args, out)
	return out
}

// finish runs a feed and waits for the end.
func (s *service) finish(feed string) client.Run {
	s.t.Helper()
	run, err := s.client.StartRun(s.t.Context(), feed)
	require.NoError(s.t, err)
	return s.await(run.ID)
}

func (s *service) await(id int64) client.Run {
	s.t.Helper()
	var run client.Run
	require.Eventually(s.t, func() bool {
		var err error
		run, err = s.client.Run(context.Background(), id)
		return err == nil && run.Ended()
	}, 3*time.Minute, 50*time.Millisecond, "run %d does not end", id)
	return run
}

// proved requires a table to be equal on both sides, n rows.
func (s *service) proved(feed, table string, n int64) {
	s.t.Helper()
	p, err := s.client.Prove(s.t.Context(), feed, table)
	require.NoError(s.t, err)
	require.True(s.t, p.Same, "%+v", p)
	require.Equal(s.t, n, p.Equal, "%+v", p)
}

func (s *service) addSource(name string) *database {
	s.t.Helper()
	settings, conn := testkit.Database(s.t)
	_, err := s.client.AddConnection(s.t.Context(), client.Sources,
		client.NewConnection{Name: name, Kind: "postgresql", Settings: &settings})
	require.NoError(s.t, err)
	return &database{s.t, settings, conn}
}

func (s *service) addWarehouse(name, kind string) client.Settings {
	s.t.Helper()
	settings := client.Settings{Path: filepath.Join(s.dir, name+".duckdb")}
	if kind == "postgresql" {
		settings, _ = testkit.Database(s.t)
	}
	if kind == "iceberg" {
		settings, _ = testkit.Database(s.t)
		settings.Path = filepath.Join(s.dir, name)
	}
	_, err := s.client.AddConnection(s.t.Context(), client.Warehouses,
		client.NewConnection{Name: name, Kind: kind, Settings: &settings})
	require.NoError(s.t, err)
	return settings
}

// holds waits until a table has so many rows in the warehouse. A slot may first have to wait for what other tests have
// open.
func (s *service) holds(feed, table string, n int64) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		c, err := s.client.Counts(s.t.Context(), feed, table)
		return err == nil && c.Warehouse == n
	}, 2*time.Minute, 100*time.Millisecond)
}

// pause pauses a feed and waits until its run has ended.
func (s *service) pause(feed string) {
	s.t.Helper()
	_, err := s.client.PauseFeed(s.t.Context(), feed)
	require.NoError(s.t, err)
	require.Eventually(s.t, func() bool {
		f, err := s.client.Feed(s.t.Context(), feed)
		return err == nil && f.Running == nil
	}, 20*time.Second, 100*time.Millisecond)
}

func (s *service) apply(file string, args ...any) {
	s.t.Helper()
	x, err := s.client.FeedFile(s.t.Context(), fmt.Sprintf(file, args...), client.Apply)
	require.NoError(s.t, err)
	require.True(s.t, x.Applied)
}
