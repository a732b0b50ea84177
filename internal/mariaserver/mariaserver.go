// Package mariaserver runs a MariaDB server of Debian's on loopback, in a folder of its
// own.
//
// The server outlives a service that is killed; the next Start finds it and goes on with
// it. Started by root, the server runs as the user mysql.
package mariaserver

import (
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/go-sql-driver/mysql"

	"noemata/internal/background"
	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// User may do everything at the server, from this machine.
const User = "noemata"

// Options say where a server runs and how.
type Options struct {
	Dir      string            // its own folder; made when missing
	Port     int               // tried first; any free one when 0 or busy
	Settings map[string]string // server settings beyond the usual
}

// Server is a running server.
type Server struct {
	Port     int
	Password string
	dir      string
	process  *background.Process
}

const name = "MariaDB"

// Start starts the server in a folder, or finds it running there.
func Start(ctx context.Context, o Options) (*Server, error) {
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("the folder for MariaDB: %w", err)
	}
	program, err := exec.LookPath("mariadbd")
	if err != nil {
		if program = "/usr/sbin/mariadbd"; !exists(program) {
			return nil, problem.New(problem.Failed, "MariaDB's server is not installed.",
				"Install Debian's package mariadb-server.")
		}
	}
	owner, err := background.OwnerOf(name, "mysql", "mariadb-server")
	if err != nil {
		return nil, err
	}
	s := &Server{dir: dir}
	if err := s.initialize(owner); err != nil {
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
		if s.Port, err = background.Port(wanted); err != nil {
			return nil, err
		}
		if last = s.launch(ctx, program, owner, o.Settings); last == nil || ctx.Err() != nil {
			return s, last
		}
	}
	return nil, last
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func (s *Server) data() string    { return filepath.Join(s.dir, "data") }
func (s *Server) pidFile() string { return filepath.Join(s.data(), "mariadb.pid") }

// temporary is a folder of the server's own: one that starts removes what looks like
// temporary tables of its.
func (s *Server) temporary() string { return filepath.Join(s.dir, "tmp") }

func (s *Server) secret() string { return filepath.Join(s.dir, "set-up.sql") }

// initialize makes the database files, once. The statements that the server runs when it
// starts make the user, with a password that only the owner of the folder can read.
func (s *Server) initialize(owner *background.Owner) error {
	err := background.MakeHome(s.dir, owner)
	if err == nil {
		err = background.MakeDir(s.temporary(), owner)
	}
	if err != nil {
		return fmt.Errorf("make the folder for MariaDB: %w", err)
	}
	content, err := os.ReadFile(s.secret())
	if err == nil && exists(filepath.Join(s.data(), "mysql", "global_priv.MAD")) {
		_, rest, _ := strings.Cut(string(content), "IDENTIFIED BY '")
		s.Password, _, _ = strings.Cut(rest, "'")
		return nil
	}
	_ = os.RemoveAll(s.data()) // left by a set-up that was interrupted
	if err := background.MakeDir(s.data(), owner); err != nil {
		return fmt.Errorf("make the folder for MariaDB's data: %w", err)
	}
	s.Password = rand.Text()
	c := background.Command(owner, s.dir, "mariadb-install-db", "--no-defaults", "--datadir="+s.data(),
		"--auth-root-authentication-method=socket", "--auth-root-socket-user=root", "--skip-test-db",
		"--skip-name-resolve")
	c.Env = append(c.Env, "TMPDIR="+s.temporary())
	if out, err := c.CombinedOutput(); err != nil {
		return problem.Wrap(err, problem.Failed, "MariaDB's database could not be made: "+
			strings.TrimSpace(string(out)), "See the reason; try another folder with --data.")
	}
	sets := fmt.Sprintf("SET SESSION sql_log_bin = 0;\nCREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY "+
		"'%s';\nGRANT ALL ON *.* TO '%[1]s'@'127.0.0.1' WITH GRANT OPTION;\n", User, s.Password)
	if err := background.WriteNew(s.secret(), []byte(sets), owner); err != nil {
		return fmt.Errorf("write MariaDB's password: %w", err)
	}
	return nil
}

// adopt finds a server that is still running in the folder.
func (s *Server) adopt(ctx context.Context) bool {
	process, _ := background.Find(name, s.pidFile(), "mariadbd")
	if process == nil {
		return false
	}
	s.process = process
	s.Port = background.LastPort(s.dir)
	return s.wait(ctx) == nil
}

func (s *Server) launch(ctx context.Context, program string, owner *background.Owner,
	settings map[string]string) error {
	all := map[string]string{"datadir": s.data(), "tmpdir": s.temporary(), "bind-address": "127.0.0.1",
		"port": strconv.Itoa(s.Port), "socket": "mariadb.sock", "pid-file": s.pidFile(),
		"init-file": s.secret(), "skip-name-resolve": "ON", "character-set-server": "utf8mb4"}
	for k, v := range settings {
		all[k] = v
	}
	args := []string{"--no-defaults"}
	for k, v := range all {
		args = append(args, "--"+k+"="+v)
	}
	var err error
	log := filepath.Join(s.dir, "server.log")
	if s.process, err = background.Start(name, background.Command(owner, s.dir, program, args...), log); err != nil {
		return err
	}
	if err := background.KeepPort(s.dir, s.Port); err != nil {
		return err
	}
	if err := s.wait(ctx); err != nil {
		_ = s.Stop()
		return problem.Wrap(err, problem.Failed, "MariaDB did not start.", "Its log says why: "+log)
	}
	return nil
}

// wait returns when the server takes connections.
func (s *Server) wait(ctx context.Context) error {
	db, err := s.Open("")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	return s.process.Wait(ctx, func() error { return db.PingContext(ctx) })
}

// Stop ends the server; open transactions are rolled back.
func (s *Server) Stop() error { return s.process.Signal(syscall.SIGTERM) }

// Dir is the folder that the server runs in.
func (s *Server) Dir() string { return s.dir }

// Kill ends the server at once, as a crash would.
func (s *Server) Kill() error { return s.process.Signal(syscall.SIGKILL) }

// Open connects to one of the server's databases, for its user.
func (s *Server) Open(database string) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", fmt.Sprintf("127.0.0.1:%d", s.Port), User, s.Password, database
	c.MultiStatements, c.ParseTime, c.Logger = true, true, &mysql.NopLogger{}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// Settings are the connection settings of one of the server's databases.
func (s *Server) Settings(database string) connection.Settings {
	return connection.Settings{Host: "127.0.0.1", Port: s.Port, Database: database, User: User, Password: s.Password}
}

// CreateDatabase makes a database unless it is there.
func (s *Server) CreateDatabase(ctx context.Context, database string) error {
	db, err := s.Open("")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	_, err = db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(database, "`", "``")+"`")
	return err
}
