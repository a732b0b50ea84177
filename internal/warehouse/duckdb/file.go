package duckdb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/duckdb/duckdb-go/v2"

	"noemata/internal/core/problem"
)

// A file stays open for this long after its last use. While it is open, no other
// program can open it.
const linger = 2 * time.Second

// Settings of an open file. The memory limit bounds what DuckDB keeps; larger work goes
// through its temporary folder, beside the file. Some of it must be kept all the same: a
// block of each column of each table that a commit writes. A commit that is too wide for
// the limit fails, and raises it for the next one, up to a point.
const (
	memoryLimit = 96 << 20
	memoryMost  = 1 << 30
	threads     = 2
)

// file is a database file of this process. DuckDB wants one instance per file and
// process, so all who name the same path share one.
type file struct {
	path      string
	making    sync.Mutex // held while tables are made
	mu        sync.Mutex
	connector *duckdb.Connector
	users     int
	memory    int64 // the limit, in bytes
	outgrown  bool  // it is open with a lower limit than that, which cannot be raised
	closing   *time.Timer
}

var (
	filesMu sync.Mutex
	files   = map[string]*file{}
)

func fileAt(path string) *file {
	filesMu.Lock()
	defer filesMu.Unlock()
	f := files[path]
	if f == nil {
		f = &file{path: path, memory: memoryLimit}
		files[path] = f
	}
	return f
}

// connect opens the file if it must.
func (f *file) connect(ctx context.Context) (*conn, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closing != nil {
		f.closing.Stop()
		f.closing = nil
	}
	if f.outgrown && f.users == 0 {
		f.close()
	}
	if f.connector == nil {
		if err := f.open(); err != nil {
			return nil, err
		}
	}
	d, err := f.connector.Connect(ctx)
	if err != nil {
		if f.users == 0 {
			f.close()
		}
		return nil, err
	}
	a, err := duckdb.NewArrowFromConn(d)
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	f.users++
	return &conn{file: f, driver: d, arrow: a, view: fmt.Sprintf("noemata_batch_%d", views.Add(1)), explain: func(err error) error { return err }}, nil
}

func (f *file) open() error {
	if err := os.MkdirAll(filepath.Dir(f.path), 0o750); err != nil {
		return err
	}
	for {
		options := fmt.Sprintf("?memory_limit=%dB&threads=%d&preserve_insertion_order=false", f.memory, threads)
		connector, err := duckdb.NewConnector(f.path+options, func(e driver.ExecerContext) error {
			_, err := e.ExecContext(context.Background(), "SET TimeZone = 'UTC'", nil)
			return err
		})
		if isOutOfMemory(err) && f.memory < memoryMost {
			f.memory *= 2 // commits of a service that was killed are done once more, and are as wide as they were
			continue
		}
		f.connector = connector
		return err
	}
}

func isOutOfMemory(err error) bool {
	return err != nil && strings.Contains(err.Error(), "Out of Memory Error")
}

// raise doubles the memory limit that was had, and tells whether it could be. Where what
// DuckDB keeps leaves no room even to say so, the file is opened anew.
func (f *file) raise() (had int64, raised bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	had = f.memory
	if had >= memoryMost || f.connector == nil { // which open has tried to raise
		return had, false
	}
	f.memory = 2 * had
	f.outgrown = f.setMemory() != nil
	return had, true
}

func (f *file) setMemory() error {
	d, err := f.connector.Connect(context.Background())
	if err != nil {
		return err
	}
	defer func() { _ = d.Close() }()
	_, err = d.(driver.ExecerContext).ExecContext(context.Background(), fmt.Sprintf("SET memory_limit = '%dB'", f.memory), nil)
	return err
}

// leave lets the file be closed some time after its last connection.
func (f *file) leave() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.users--
	if f.users == 0 {
		f.closing = time.AfterFunc(linger, f.closeIdle)
	}
}

func (f *file) close() {
	_ = f.connector.Close()
	f.connector, f.closing, f.outgrown = nil, nil, false
}

// closeIdle closes the file if nobody uses it.
func (f *file) closeIdle() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.users == 0 && f.connector != nil {
		f.close()
	}
}

// explain turns DuckDB's error into a Problem.
func explain(err error, what, path string) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	var already *problem.Problem
	if errors.As(err, &already) {
		return err
	}
	at := fmt.Sprintf("The DuckDB file %s (%s)", path, what)
	switch text := err.Error(); {
	case strings.Contains(text, "Could not set lock on file"):
		return problem.Wrap(err, problem.Unreachable, at+" is open in another program, and only one may write it.", "Close it there; the next run goes on where this one ended.")
	case strings.Contains(text, "not a valid DuckDB database file"), strings.Contains(text, "Not a valid"):
		return problem.Wrap(err, problem.Unreachable, at+" is not a DuckDB database.", "Check the path, or move the file away so that a new one is made.")
	case errors.Is(err, os.ErrPermission), strings.Contains(text, "Permission denied"), strings.Contains(text, "read-only"):
		return problem.Wrap(err, problem.NoPrivilege, at+" cannot be written by the service's user.", "Give the user the right to write the file and its folder.")
	case strings.Contains(text, "Cannot open file"), strings.Contains(text, "not a directory"), strings.Contains(text, "Is a directory"):
		return problem.Wrap(err, problem.Unreachable, at+" cannot be opened: "+text+".", "Check the path.")
	case strings.Contains(text, "No space left"):
		return problem.Wrap(err, problem.Failed, at+" cannot grow: no disk space is left.", "Free some space; the next run goes on where this one ended.")
	case strings.Contains(text, "Conflict on"), strings.Contains(text, "write-write conflict"), strings.Contains(text, "Failed to commit: PRIMARY KEY"):
		return problem.Wrap(err, problem.Overtaken, at+" was changed by another worker during the run.", "Nothing was written; the next run goes on.")
	case strings.Contains(text, "Catalog Error: Table with name"):
		return problem.Wrap(err, problem.NoTable, at+": "+text+".", "Was the table dropped? The next run makes it again; clear its position to load it anew.")
	}
	return problem.Wrap(err, problem.Failed, "A statement failed in "+strings.TrimPrefix(at, "The ")+": "+strings.TrimSpace(err.Error()), "See the run's statements.")
}
