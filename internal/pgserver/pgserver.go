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
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"

	"noemata/internal/background"
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
	process  *background.Process
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
	owner, err := background.OwnerOf("PostgreSQL", "postgres", "postgresql")
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
	var last error
	if o.Port == 0 {
		o.Port = background.LastPort(s.dir)
	}
	for attempt := range 5 {
		wanted := o.Port
		if attempt > 0 {
			wanted = 0
		}
		port, err := background.Port(wanted)
		if err != nil {
			return nil, err
		}
		if last = s.launch(ctx, bin, owner, port, o.Settings); last == nil || ctx.Err() != nil {
			return s, errors.Join(last, background.KeepPort(s.dir, port))
		}
	}
	return nil, last
}

func (s *Server) data() string    { return filepath.Join(s.dir, "data") }
func (s *Server) log() string     { return filepath.Join(s.dir, "server.log") }
func (s *Server) pidFile() string { return filepath.Join(s.data(), "postmaster.pid") }

// binaries finds the folder of the newest installed server, unless NOEMATA_POSTGRES_BIN names another.
func binaries() (string, error) {
	if bin := os.Getenv("NOEMATA_POSTGRES_BIN"); bin != "" {
		return bin, nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", problem.New(problem.Failed, "PostgreSQL's server is not installed.",
			"Install Debian's package postgresql, or name a database with --database-url.")
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// initialize makes the database files, once.
func (s *Server) initialize(ctx context.Context, bin string, owner *background.Owner, o Options) error {
	secret := filepath.Join(s.dir, "password")
	if err := background.MakeHome(s.dir, owner); err != nil {
		return fmt.Errorf("make the folder for PostgreSQL: %w", err)
	}
	if content, err := os.ReadFile(secret); err == nil {
		if _, err := os.Stat(filepath.Join(s.data(), "PG_VERSION")); err == nil {
			s.Password = string(content)
			return nil
		}
	}
	_ = os.RemoveAll(s.data()) // left by a set-up that was interrupted
	if err := background.MakeDir(s.data(), owner); err != nil {
		return fmt.Errorf("make the folder for PostgreSQL's data: %w", err)
	}
	s.Password = o.Password
	if s.Password == "" {
		s.Password = rand.Text()
	}
	if err := background.WriteNew(secret, []byte(s.Password), owner); err != nil {
		return fmt.Errorf("write PostgreSQL's password: %w", err)
	}
	c := background.Command(owner, s.dir, filepath.Join(bin, "initdb"), "-D", s.data(), "-U", User, "-E", "UTF8",
		"--locale=C.UTF-8",
		"--auth=scram-sha-256", "--pwfile="+secret)
	if out, err := c.CombinedOutput(); err != nil {
		if errors.Is(err, os.ErrPermission) || strings.Contains(string(out), "Permission denied") {
			return problem.Wrap(err, problem.Failed,
				fmt.Sprintf("PostgreSQL's user cannot reach the folder %s.", s.dir),
				"Choose a data folder below one that everybody may enter, with --data.")
		}
		return problem.Wrap(err, problem.Failed, "PostgreSQL's database could not be made: "+
			strings.TrimSpace(string(out)), "See the reason; try another folder with --data.")
	}
	return ctx.Err()
}

// adopt finds a server that is still running in the folder. What a dead one left
// behind is cleared away.
func (s *Server) adopt(ctx context.Context) bool {
	process, lines := background.Find("PostgreSQL", s.pidFile(), "postgres")
	if process == nil || len(lines) < 4 {
		return false
	}
	s.process = process
	s.Port, _ = strconv.Atoi(strings.TrimSpace(lines[3]))
	return s.wait(ctx) == nil
}

func (s *Server) launch(ctx context.Context, bin string, owner *background.Owner, port int,
	settings map[string]string) error {
	args := []string{"-D", s.data()}
	all := map[string]string{"listen_addresses": "127.0.0.1", "port": strconv.Itoa(port), "unix_socket_directories": "",
		"logging_collector": "off", "password_encryption": "scram-sha-256"}
	for k, v := range settings {
		all[k] = v
	}
	for k, v := range all {
		args = append(args, "-c", k+"="+v)
	}
	var err error
	if s.process, err = background.Start("PostgreSQL",
		background.Command(owner, s.dir, filepath.Join(bin, "postgres"), args...), s.log()); err != nil {
		return err
	}
	s.Port = port
	if err := s.wait(ctx); err != nil {
		_ = s.Stop()
		return problem.Wrap(err, problem.Failed, "PostgreSQL did not start.", "Its log says why: "+s.log())
	}
	return nil
}

// wait returns when the server takes connections.
func (s *Server) wait(ctx context.Context) error {
	return s.process.Wait(ctx, func() error {
		conn, err := pgx.Connect(ctx, s.URL("postgres"))
		if err != nil {
			return err
		}
		return conn.Close(ctx)
	})
}

// Stop ends the server; open transactions are rolled back.
func (s *Server) Stop() error { return s.process.Signal(syscall.SIGINT) }

// Kill ends the server at once, as a crash would.
func (s *Server) Kill() error { return s.process.Signal(syscall.SIGQUIT) }

// URL names one of the server's databases, for its superuser.
func (s *Server) URL(database string) string {
	u := url.URL{Scheme: "postgresql", User: url.UserPassword(User, s.Password),
		Host: fmt.Sprintf("127.0.0.1:%d", s.Port), Path: "/" + database, RawQuery: "sslmode=disable"}
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
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = $1)",
		name).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize())
	return err
}
