// Package service puts the parts of a service together and runs them.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"noemata/console"
	"noemata/internal/alerts"
	"noemata/internal/asking"
	"noemata/internal/background"
	"noemata/internal/connection"
	"noemata/internal/connection/tunnel"
	"noemata/internal/core/problem"
	"noemata/internal/httpapi"
	"noemata/internal/jobs"
	"noemata/internal/opened"
	"noemata/internal/pgserver"
	"noemata/internal/records"
	"noemata/internal/secret"
	"noemata/internal/sqlport"
	"noemata/internal/store"
)

// Options say how a service runs.
type Options struct {
	Listen      string // host:port
	DataDir     string // for the key and, without DatabaseURL, the records
	DatabaseURL string // of the records; empty starts PostgreSQL in DataDir
	Certificate string // PEM files for HTTPS; both or neither
	Key         string
	PlainHTTP   bool     // tokens may travel in the clear beyond this machine
	Proxies     []string // addresses, or networks, of proxies that are believed
	Folders     []string // where warehouse files may be; empty is warehouses/ in DataDir
	SourceDirs  []string // where files of sources may be; empty is nowhere
	Agent       bool     // tunnels may sign in with the keys of the agent at SSH_AUTH_SOCK
	Paused      bool     // nothing runs until a person starts it
	NewToken    bool     // make another administrator's token
	Version     string
	Provider    *httpapi.Provider // of sign-ins; nil for none
	Host        string            // what this machine is called; empty is as it calls itself
	Asking      asking.Bounds     // of questions; asking.Usual where they are nothing
	SQLListen   string            // host:port of the SQL port; empty for none
}

// Service is a running service.
type Service struct {
	Address    string // such as http://127.0.0.1:8420
	SQLAddress string // such as 127.0.0.1:8433; empty without a SQL port
	Store      *store.Store

	server    *pgserver.Server
	databases *opened.Databases
	runner    *jobs.Runner
	service   *httpapi.Service
	sql       *sqlport.Server
	end       context.CancelFunc
	failed    chan error
}

// Start starts a service. firstToken is what the first administrator signs in
// with; it is empty unless this is the first start on these records.
func Start(ctx context.Context, o Options) (s *Service, firstToken string, err error) {
	s = &Service{failed: make(chan error, 1)}
	defer func() {
		if err != nil {
			s.Stop()
			s = nil
		}
	}()
	if o, err = prepare(o); err != nil {
		return s, "", err
	}
	if o.Agent {
		if tunnel.AgentSocket = os.Getenv("SSH_AUTH_SOCK"); tunnel.AgentSocket == "" {
			return s, "", problem.New(problem.Invalid, "There is no agent: SSH_AUTH_SOCK is not set.",
				"Start one (ssh-agent) and set it, or leave --ssh-agent out.")
		}
	}
	box, err := secret.Open(filepath.Join(o.DataDir, "key"))
	if err != nil {
		return s, "", err
	}
	url := o.DatabaseURL
	if url == "" {
		s.server, err = pgserver.Start(ctx,
			pgserver.Options{Dir: filepath.Join(o.DataDir, "records"),
				Settings: map[string]string{"shared_buffers": "64MB", "max_connections": "60"}})
		if err != nil {
			return s, "", err
		}
		if err := s.server.CreateDatabase(ctx, "noemata"); err != nil {
			return s, "", fmt.Errorf("make the database for the records: %w", err)
		}
		url = s.server.URL("noemata")
	}
	if s.Store, err = store.Open(ctx, url, box); err != nil {
		return s, "", err
	}
	tokens, err := s.Store.Tokens(ctx)
	if err != nil {
		return s, "", err
	}
	if len(tokens) == 0 || o.NewToken {
		name := "first administrator"
		if len(tokens) > 0 {
			name = "made anew on " + time.Now().UTC().Format("2006-01-02 15:04") + "Z"
		}
		t, err := s.Store.AddToken(ctx, records.NewToken{Name: name, Role: records.Administer})
		if err != nil {
			return s, "", err
		}
		firstToken = t.Secret
	}
	return s, firstToken, s.listen(o)
}

// prepare makes the data folder. Its files are their owner's alone; the folder itself may
// be passed through by the user that runs the records' database.
func prepare(o Options) (Options, error) {
	dir, err := filepath.Abs(o.DataDir)
	if err == nil {
		err = background.MakePassable(dir)
	}
	if err != nil {
		return o, problem.Wrap(err, problem.Failed, "The data folder cannot be used: "+err.Error()+".",
			"Choose another with --data.")
	}
	o.DataDir = dir
	if o.Asking == (asking.Bounds{}) {
		o.Asking = asking.Usual
	}
	if err := o.Asking.Check(); err != nil {
		return o, err
	}
	if o.Provider != nil {
		if err := o.Provider.Check(); err != nil {
			return o, err
		}
	}
	if o.Host == "" {
		if o.Host, err = os.Hostname(); err != nil {
			return o, problem.Wrap(err, problem.Failed, "This machine does not tell its name: "+err.Error()+".",
				"Give it with --host.")
		}
	}
	if len(o.Folders) == 0 {
		o.Folders = []string{filepath.Join(dir, "warehouses")}
	}
	for i, folder := range o.Folders {
		if o.Folders[i], err = filepath.Abs(folder); err == nil {
			err = os.MkdirAll(folder, 0o700)
		}
		if err != nil {
			return o, problem.Wrap(err, problem.Failed, "The folder for warehouse files cannot be used: "+err.Error()+
				".", "Choose another with --warehouse-dir.")
		}
	}
	for i, folder := range o.SourceDirs {
		if o.SourceDirs[i], err = filepath.Abs(folder); err != nil {
			return o, err
		}
	}
	return o, nil
}

func (s *Service) listen(o Options) error {
	certificate, err := certificateOf(o)
	if err != nil {
		return err
	}
	// Before anything runs, so that a port in use is told at once.
	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return problem.Wrap(err, problem.Conflict, fmt.Sprintf("The service cannot listen on %s: %v.", o.Listen, err),
			"Stop what uses the port, or choose another with --listen.")
	}
	sqlListener, err := s.listenSQL(o)
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	started := false
	defer func() {
		if !started {
			_ = listener.Close()
			if sqlListener != nil {
				_ = sqlListener.Close()
			}
		}
	}()
	address := listener.Addr().String()
	s.Address = "http://" + address
	if certificate != nil {
		s.Address = "https://" + address
		listener = tls.NewListener(listener, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: certificate.get})
	}
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	s.databases = opened.New(s.Store, map[store.Side]connection.Folders{
		store.Warehouses: {Paths: o.Folders, Flag: "--warehouse-dir"}, store.Sources: {Paths: o.SourceDirs,
			Flag: "--source-dir"}})
	s.databases.Host = o.Host
	events := jobs.NewEvents(s.Store.Pool)
	registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "noemata_event_listeners",
		Help: "Consoles and programs that listen to events."}, func() float64 { return float64(events.Listeners()) }))
	self := records.Process{Host: o.Host, PID: os.Getpid(), Version: o.Version, Address: s.Address}
	if s.runner, err = jobs.New(s.Store, s.databases, events, registry, self); err != nil {
		return err
	}
	running, end := context.WithCancel(context.Background())
	s.end = end
	go events.Run(running)
	watcher := &alerts.Watcher{Store: s.Store, Free: func(ctx context.Context, name string) (int64, error) {
		wh, err := s.databases.Warehouse(ctx, name)
		if err != nil {
			return -1, err
		}
		return wh.Free(ctx)
	}}
	go watcher.Watch(running)
	if o.Paused {
		if err := s.pause(running); err != nil {
			return err
		}
	}
	if err := s.runner.Start(running); err != nil {
		return err
	}
	started = true
	questions := asking.New(s.Store, s.databases, s.runner.ID(), o.Asking)
	go questions.Watch(running)
	s.service = httpapi.New(httpapi.Parts{Store: s.Store, Databases: s.databases, Runner: s.runner, Asking: questions,
		Events:   events,
		Registry: registry, Console: console.Files(), Version: o.Version, Proxies: o.Proxies, Provider: o.Provider})
	go func() { s.failed <- s.service.Listen(listener) }()
	if sqlListener != nil {
		var own func(*tls.ClientHelloInfo) (*tls.Certificate, error)
		if certificate != nil {
			own = certificate.get
		}
		s.sql = sqlport.New(s.Store, questions, own)
		go func() { s.failed <- s.sql.Serve(sqlListener) }()
	}
	return nil
}

// listenSQL listens for clients of PostgreSQL, where that is asked for.
func (s *Service) listenSQL(o Options) (net.Listener, error) {
	if o.SQLListen == "" {
		return nil, nil
	}
	as := o
	as.Listen = o.SQLListen
	if _, err := certificateOf(as); err != nil { // as for HTTP, nothing goes beyond this machine in the clear unasked
		return nil, err
	}
	l, err := net.Listen("tcp", o.SQLListen)
	if err != nil {
		return nil, problem.Wrap(err, problem.Conflict,
			fmt.Sprintf("The SQL port cannot listen on %s: %v.", o.SQLListen, err),
			"Stop what uses the port, or choose another with --sql-listen.")
	}
	s.SQLAddress = l.Addr().String()
	return l, nil
}

// pause leaves nothing that would run by itself.
func (s *Service) pause(ctx context.Context) error {
	names, err := s.Store.PauseAll(ctx)
	if err == nil {
		_, err = s.Store.DropQueued(ctx, 0, "")
	}
	if len(names) > 0 {
		slog.Warn("Feeds were paused, as --paused asks; each runs again once it is started.", "feeds", names)
	}
	return err
}

// Wait returns when the context ends or the service fails.
func (s *Service) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-s.failed:
		return err
	}
}

// Stop ends the service: runs that go on are given up and rolled back.
func (s *Service) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if s.sql != nil {
		s.sql.Stop()
	}
	if s.service != nil {
		s.service.Stop(ctx)
	}
	if s.runner != nil {
		s.runner.Stop(ctx)
	}
	if s.end != nil {
		s.end()
	}
	if s.databases != nil {
		s.databases.Close()
	}
	if s.Store != nil {
		s.Store.Close()
	}
	if s.server != nil {
		if err := s.server.Stop(); err != nil {
			slog.Warn("The records' database did not stop.", "error", err)
		}
	}
}

// DefaultDataDir is where a service keeps its data when nothing else is named.
func DefaultDataDir() string {
	if os.Getuid() == 0 {
		return "/var/lib/noemata"
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "noemata-data"
	}
	return filepath.Join(home, ".local", "share", "noemata")
}
