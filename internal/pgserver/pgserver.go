// Package pgserver runs a PostgreSQL server of Debian's on loopback, in a folder
// of its own.
//
// The server outlives a service that is killed; the next Start finds it and goes
// on with it. Started by root, the server runs as the user postgres.
package pgserver

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// User is the superuser of the server.
const User = "noemata"

// Options say where a server runs and how.
type Options struct {
	Dir      string            // its own folder; made when missing
	Port     int               // tried first; any free one when 0 or busy
	Settings map[string]string // server settings beyond the usual
	Password string            // of User, for a new server; made up when empty
}

// Server is a running server.
type Server struct {
	Port     int
	Password string
	dir      string
	pid      int
	exited   chan struct{} // closed when our own child ends; nil when it was found running
}

// Start starts the server in a folder, or finds it running there.
func Start(ctx context.Context, o Options) (*Server, error) {
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("the folder for PostgreSQL: %w", err)
	}
	o.Dir = dir
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	owner, err := serverUser()
	if err != nil {
		return nil, err
	}
	s := &Server{dir: dir}
	if err := s.initialize(ctx, bin, owner, o); err != nil {
		return nil, err
	}
	if s.adopt(ctx) {
		return s, nil
	}
	for attempt := range 5 {
		port := o.Port
		if attempt > 0 || port == 0 || !free(port) {
			if port, err = freePort(); err != nil {
				return nil, err
			}
		}
		if err = s.launch(ctx, bin, owner, port, o.Settings); err == nil || ctx.Err() != nil {
			return s, err
		}
	}
	return nil, err
}

func (s *Server) data() string    { return filepath.Join(s.dir, "data") }
func (s *Server) log() string     { return filepath.Join(s.dir, "server.log") }
func (s *Server) pidFile() string { return filepath.Join(s.data(), "postmaster.pid") }

// binaries finds the folder of the newest installed server.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", problem.New(problem.Failed, "PostgreSQL's server is not installed.", "Install Debian's package postgresql, or name a database with --database-url.")
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// serverUser is who the server runs as: root must not.
func serverUser() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, problem.Wrap(err, problem.Failed, "PostgreSQL cannot run as root, and there is no user postgres to run it as.", "Install Debian's package postgresql, or start the service as another user.")
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func command(owner *syscall.Credential, dir, name string, args ...string) *exec.Cmd {
	c := exec.Command(name, args...)
	c.Dir = dir
	c.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8"}
	// A group of its own: an interrupt typed at the service must not stop the server first.
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: owner}
	return c
}

// initialize makes the database files, once.
func (s *Server) initialize(ctx context.Context, bin string, owner *syscall.Credential, o Options) error {
	secret := filepath.Join(s.dir, "password")
	if content, err := os.ReadFile(secret); err == nil {
		if _, err := os.Stat(filepath.Join(s.data(), "PG_VERSION")); err == nil {
			s.Password = string(content)
			return nil
		}
	}
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		return fmt.Errorf("make the folder for PostgreSQL: %w", err)
	}
	if owner != nil {
		if err := os.Chown(s.dir, int(owner.Uid), int(owner.Gid)); err != nil {
			return fmt.Errorf("give the folder to PostgreSQL's user: %w", err)
		}
	}
	_ = os.RemoveAll(s.data()) // left by a set-up that was interrupted
	s.Password = o.Password
	if s.Password == "" {
		s.Password = rand.Text()
	}
	if err := os.WriteFile(secret, []byte(s.Password), 0o600); err != nil {
		return fmt.Errorf("write PostgreSQL's password: %w", err)
	}
	if owner != nil {
		if err := os.Chown(secret, int(owner.Uid), int(owner.Gid)); err != nil {
			return fmt.Errorf("give the password to PostgreSQL's user: %w", err)
		}
	}
	c := command(owner, s.dir, filepath.Join(bin, "initdb"), "-D", s.data(), "-U", User, "-E", "UTF8", "--locale=C.UTF-8",
		"--auth=scram-sha-256", "--pwfile="+secret)
	if out, err := c.CombinedOutput(); err != nil {
		if errors.Is(err, os.ErrPermission) || strings.Contains(string(out), "Permission denied") {
			return problem.Wrap(err, problem.Failed, fmt.Sprintf("PostgreSQL's user cannot reach the folder %s.", s.dir), "Choose a data folder below one that everybody may enter, with --data.")
		}
		return problem.Wrap(err, problem.Failed, "PostgreSQL's database could not be made: "+strings.TrimSpace(string(out)), "See the reason; try another folder with --data.")
	}
	return ctx.Err()
}

// adopt finds a server that is still running in the folder. What a dead one left
// behind is cleared away.
func (s *Server) adopt(ctx context.Context) bool {
	content, err := os.ReadFile(s.pidFile())
	if err != nil {
		return false
	}
	lines := strings.Split(string(content), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(lines[0]))
	name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	if err != nil || len(lines) < 4 || strings.TrimSpace(string(name)) != "postgres" {
		_ = os.Remove(s.pidFile()) // stale: no such process, or another one by now
		return false
	}
	s.pid = pid
	s.Port, _ = strconv.Atoi(strings.TrimSpace(lines[3]))
	return s.wait(ctx) == nil
}

func (s *Server) launch(ctx context.Context, bin string, owner *syscall.Credential, port int, settings map[string]string) error {
	args := []string{"-D", s.data()}
	all := map[string]string{"listen_addresses": "127.0.0.1", "port": strconv.Itoa(port), "unix_socket_directories": "", "logging_collector": "off", "password_encryption": "scram-sha-256"}
	for k, v := range settings {
		all[k] = v
	}
	for k, v := range all {
		args = append(args, "-c", k+"="+v)
	}
	log, err := os.OpenFile(s.log(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return fmt.Errorf("open PostgreSQL's log: %w", err)
	}
	defer func() { _ = log.Close() }()
	c := command(owner, s.dir, filepath.Join(bin, "postgres"), args...)
	c.Stdout, c.Stderr = log, log
	if err := c.Start(); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	s.Port, s.pid, s.exited = port, c.Process.Pid, make(chan struct{})
	exited := s.exited
	go func() {
		_ = c.Wait()
		close(exited)
	}()
	if err := s.wait(ctx); err != nil {
		_ = s.Stop()
		return problem.Wrap(err, problem.Failed, "PostgreSQL did not start.", "Its log says why: "+s.log())
	}
	return nil
}

// wait returns when the server takes connections.
func (s *Server) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-ctx.Done():
			return err
		case <-s.exited:
			return errors.New("the server ended")
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Stop ends the server; open transactions are rolled back.
func (s *Server) Stop() error { return s.signal(syscall.SIGINT) }

// Kill ends the server at once, as a crash would.
func (s *Server) Kill() error { return s.signal(syscall.SIGQUIT) }

func (s *Server) signal(sig syscall.Signal) error {
	if err := syscall.Kill(s.pid, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("stop PostgreSQL: %w", err)
	}
	for range 1200 {
		if s.exited != nil {
			select {
			case <-s.exited:
				return nil
			case <-time.After(50 * time.Millisecond):
				continue
			}
		}
		if errors.Is(syscall.Kill(s.pid, 0), syscall.ESRCH) {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("PostgreSQL did not stop within a minute; its process is %d", s.pid)
}

// URL names one of the server's databases, for its superuser.
func (s *Server) URL(database string) string {
	u := url.URL{Scheme: "postgresql", User: url.UserPassword(User, s.Password), Host: fmt.Sprintf("127.0.0.1:%d", s.Port), Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Settings are the connection settings of one of the server's databases.
func (s *Server) Settings(database string) connection.Settings {
	return connection.Settings{Host: "127.0.0.1", Port: s.Port, Database: database, User: User, Password: s.Password}
}

// CreateDatabase makes a database unless it is there.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return fmt.Errorf("connect to make database %s: %w", name, err)
	}
	defer func() { _ = conn.Close(ctx) }()
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)", name).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize())
	return err
}

func free(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return false
	}
	return l.Close() == nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port: %w", err)
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port, nil
}
