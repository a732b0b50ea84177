// Package serve puts the parts of a service together and runs them.
package serve

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"noemata/console"
	"noemata/internal/core/problem"
	"noemata/internal/jobs"
	"noemata/internal/links"
	"noemata/internal/pgserver"
	"noemata/internal/secret"
	"noemata/internal/service"
	"noemata/internal/store"
)

// Options say how a service runs.
type Options struct {
	Listen      string // host:port
	DataDir     string // for the key and, without DatabaseURL, the records
	DatabaseURL string // of the records; empty starts PostgreSQL in DataDir
	Certificate string // PEM files for HTTPS; both or neither
	Key         string
	Version     string
}

// Service is a running service.
type Service struct {
	Address string // such as http://127.0.0.1:8420
	Store   *store.Store

	server  *pgserver.Server
	links   *links.Links
	runner  *jobs.Runner
	service *service.Service
	end     context.CancelFunc
	failed  chan error
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
	box, err := secret.Open(filepath.Join(o.DataDir, "key"))
	if err != nil {
		return s, "", err
	}
	url := o.DatabaseURL
	if url == "" {
		s.server, err = pgserver.Start(ctx, pgserver.Options{Dir: filepath.Join(o.DataDir, "records"), Settings: map[string]string{"shared_buffers": "64MB", "max_connections": "60"}})
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
	if len(tokens) == 0 {
		t, err := s.Store.AddToken(ctx, "first administrator")
		if err != nil {
			return s, "", err
		}
		firstToken = t.Secret
	}
	return s, firstToken, s.listen(o)
}

func (s *Service) listen(o Options) error {
	certificate, err := loadCertificate(o)
	if err != nil {
		return err
	}
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	s.links = links.New(s.Store)
	events := jobs.NewEvents(s.Store.Pool)
	registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "noemata_event_listeners", Help: "Consoles and programs that listen to events."}, func() float64 { return float64(events.Listeners()) }))
	if s.runner, err = jobs.New(s.Store, s.links, events, registry); err != nil {
		return err
	}
	running, end := context.WithCancel(context.Background())
	s.end = end
	go events.Run(running)
	if err := s.runner.Start(running); err != nil {
		return err
	}
	// Before the framework listens, so that a port in use is told at once.
	probe, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return problem.Wrap(err, problem.Conflict, fmt.Sprintf("The service cannot listen on %s: %v.", o.Listen, err), "Stop what uses the port, or choose another with --listen.")
	}
	address := probe.Addr().String()
	if err := probe.Close(); err != nil {
		return err
	}
	s.service = service.New(service.Parts{Store: s.Store, Links: s.links, Runner: s.runner, Events: events, Registry: registry, Console: console.Files(), Version: o.Version})
	go func() { s.failed <- s.service.Listen(address, certificate) }()
	s.Address = "http://" + address
	if certificate != nil {
		s.Address = "https://" + address
	}
	return s.awaitListening(address)
}

func (s *Service) awaitListening(address string) error {
	for range 100 {
		select {
		case err := <-s.failed:
			return fmt.Errorf("listen on %s: %w", address, err)
		default:
		}
		if conn, err := net.DialTimeout("tcp", address, time.Second); err == nil {
			return conn.Close()
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fmt.Errorf("the service does not listen on %s", address)
}

func loadCertificate(o Options) (*tls.Certificate, error) {
	if o.Certificate == "" && o.Key == "" {
		if host, _, err := net.SplitHostPort(o.Listen); err == nil && host != "localhost" && !net.ParseIP(host).IsLoopback() {
			slog.Warn("The service listens beyond this machine without TLS: tokens travel in the clear. Give --certificate and --key, or put a proxy in front.")
		}
		return nil, nil
	}
	c, err := tls.LoadX509KeyPair(o.Certificate, o.Key)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, "The certificate for HTTPS cannot be used: "+err.Error()+".", "Give --certificate and --key as PEM files that belong together.")
	}
	return &c, nil
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
	if s.service != nil {
		s.service.Stop(ctx)
	}
	if s.runner != nil {
		s.runner.Stop(ctx)
	}
	if s.end != nil {
		s.end()
	}
	if s.links != nil {
		s.links.Close()
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
