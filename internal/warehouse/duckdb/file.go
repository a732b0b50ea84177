//go:build duckdb_arrow

package duckdb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/duckdb/duckdb-go/v2"

	"noemata/internal/core/problem"
	"noemata/internal/statement"
)

// A file stays open for this long after its last use. While it is open, no other
// program can open it.
const linger = 2 * time.Second

// Settings of an open file. The memory limit bounds what DuckDB keeps; larger work goes
// through its temporary folder, beside the file. Some of it must be kept all the same: a
// block of each column of each table that a commit writes. A commit that is too wide for
// the usual limit fails, and from then on the file is opened with the larger one. Each statement has the thread
// that runs it, and no other: a thread that all share made commits wait for a question that takes long.
const (
	memoryLimit = 96 << 20
	memoryMost  = 1 << 30
	threads     = 1
)

// optionsOf are the options that a file is opened with (duckdb.org/docs/stable/configuration,
// and operations_manual/securing_duckdb). No SQL can reach another file, load code or
// change a setting: what DuckDB brings is built in, and everything else stays out.
func optionsOf(memory int64) string {
	return url.Values{
		"memory_limit":                 {fmt.Sprintf("%dB", memory)},
		"threads":                      {strconv.Itoa(threads)},
		"preserve_insertion_order":     {"false"},
		"autoinstall_known_extensions": {"false"},
		"autoload_known_extensions":    {"false"},
		"allow_community_extensions":   {"false"},
		"allow_unsigned_extensions":    {"false"},
		"allow_persistent_secrets":     {"false"},
		"enable_external_access":       {"false"},
	}.Encode()
}

// file is a database file of this process. DuckDB wants one instance per file and
// process, so all who name the same path share one.
type file struct {
	path      string
	making    sync.Mutex    // held while tables are made
	deriving  chan struct{} // has something in it while derived tables are made
	mu        sync.Mutex
	connector *duckdb.Connector
	users     int
	memory    int64 // the limit, in bytes
	anew      bool  // it is to be opened again: with more memory, or since DuckDB has given it up
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
		f = &file{path: path, memory: memoryLimit, deriving: make(chan struct{}, 1)}
		files[path] = f
	}
	return f
}

// A file that another program has open is waited for, and so are those who use it with too
// little memory for somebody else's commit.
const (
	patience     = 15 * time.Second
	lookAgain    = 100 * time.Millisecond
	readersLeave = 5 * time.Second
)

// connect opens the file if it must.
func (f *file) connect(ctx context.Context) (*conn, error) {
	began := time.Now()
	var waited func(error)
	for {
		c, err := f.tryConnect(ctx, time.Since(began) > readersLeave)
		if err == nil || !isBusy(err) || time.Since(began) > patience {
			if waited != nil {
				waited(err)
			}
			return c, err
		}
		if waited == nil {
			done := statement.Begin(ctx, statement.Warehouse, "-- waiting for "+holder(err))
			waited = func(err error) { done(0, err) }
		}
		select {
		case <-ctx.Done():
			waited(ctx.Err())
			return nil, ctx.Err()
		case <-time.After(lookAgain):
		}
	}
}

// errAnew says that the file is to be opened again, and in use.
var errAnew = errors.New("the file is to be opened again, and in use")

func isBusy(err error) bool {
	return errors.Is(err, errAnew) || strings.Contains(err.Error(), "Could not set lock on file")
}

var holding = regexp.MustCompile(`held in (\S+) \(PID (\d+)\)`)

// holder names who has the file open.
func holder(err error) string {
	if m := holding.FindStringSubmatch(err.Error()); m != nil {
		return fmt.Sprintf("%s (process %s), which has the file open", m[1], m[2])
	}
	if errors.Is(err, errAnew) {
		return "others to leave the file, which is opened again"
	}
	return "another program, which has the file open"
}

func (f *file) tryConnect(ctx context.Context, whatever bool) (*conn, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closing != nil {
		f.closing.Stop()
		f.closing = nil
	}
	if f.anew && f.connector != nil {
		if f.users == 0 {
			f.close()
		} else if !whatever {
			return nil, errAnew
		}
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
	return &conn{file: f, driver: d, arrow: a, plain: true, asRead: asItIs, view: fmt.Sprintf("noemata_batch_%d", views.Add(1)),
		explain: func(err error) error { return err }}, nil
}

func (f *file) open() error {
	if err := os.MkdirAll(filepath.Dir(f.path), 0o700); err != nil {
		return err
	}
	for {
		connector, err := duckdb.NewConnector(f.path+"?"+optionsOf(f.memory), nil)
		if isOutOfMemory(err) && f.memory < memoryMost {
			// Commits of a service that was killed are done once more, and are as wide as they were.
			f.memory = memoryMost
			continue
		}
		if err == nil {
			if err = lock(connector); err != nil {
				err = errors.Join(err, connector.Close())
			}
		}
		if err == nil {
			f.connector = connector
		}
		return err
	}
}

// lock sets what has to be set by a statement, and no setting can be changed afterwards.
func lock(connector *duckdb.Connector) error {
	d, err := connector.Connect(context.Background())
	if err != nil {
		return err
	}
	defer func() { _ = d.Close() }()
	for _, sql := range []string{"SET GLOBAL TimeZone = 'UTC'", "SET GLOBAL lock_configuration = true"} {
		if _, err := d.(driver.ExecerContext).ExecContext(context.Background(), sql, nil); err != nil {
			return err
		}
	}
	return nil
}

// noRoom and givenUp match errors of memory, also while what was committed is moved to its place in
// the file, and of a file that DuckDB does nothing for any more until it is opened again.
var (
	noRoom  = regexp.MustCompile(`Out of Memory Error|failed to (pin|allocate) block|could not allocate block`)
	givenUp = regexp.MustCompile(`FATAL Error|database has been invalidated`)
)

func isOutOfMemory(err error) bool { return err != nil && noRoom.MatchString(err.Error()) }

func isGivenUp(err error) bool { return err != nil && givenUp.MatchString(err.Error()) }

// limit is how much memory the file has, in bytes.
func (f *file) limit() int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.memory
}

// openAnew has the file opened again by who connects when all have left.
func (f *file) openAnew() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.anew = f.connector != nil
}

// raise lets the file have more memory when it is opened next, and tells whether it may
// have more. Who connects next waits for the others to leave, for a while.
func (f *file) raise() (had int64, raised bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.memory >= memoryMost {
		return f.memory, f.anew
	}
	had = f.memory
	f.memory, f.anew = memoryMost, true
	return had, true
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
	f.connector, f.closing, f.anew = nil, nil, false
}

// closeIdle closes the file if nobody uses it.
func (f *file) closeIdle() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.users == 0 && f.connector != nil {
		f.close()
	}
}

// refusal matches errors that are a statement's own, and not the file's or the machine's.
var refusal = regexp.MustCompile(`^(Constraint|Conversion|Binder|Catalog|Out of Range|Parser|Invalid Input) Error`)

// explain turns DuckDB's error into a Problem. at names the database, as a sentence begins with it.
func explain(err error, at string) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	var already *problem.Problem
	if errors.As(err, &already) {
		return err
	}
	switch text := err.Error(); {
	case strings.Contains(text, "Could not set lock on file"):
		return problem.Wrap(err, problem.Busy,
			fmt.Sprintf("%s was waited for: it is open in another program, and only one may have it open. It waits "+
				"for %s.", at, holder(err)),
			"Close it there; the next run goes on where this one ended.")
	case strings.Contains(text, "not a valid DuckDB database file"), strings.Contains(text, "Not a valid"):
		return problem.Wrap(err, problem.Unreachable, at+" is not a DuckDB database.",
			"Check the path, or move the file away so that a new one is made.")
	case errors.Is(err, os.ErrPermission), strings.Contains(text, "Permission denied"), strings.Contains(text,
		"read-only"):
		return problem.Wrap(err, problem.NoPrivilege, at+" cannot be written by the service's user.",
			"Give the user the right to write the file and its folder.")
	case strings.Contains(text, "Cannot open file"), strings.Contains(text, "not a directory"), strings.Contains(text,
		"Is a directory"):
		return problem.Wrap(err, problem.Unreachable, at+" cannot be opened: "+text+".", "Check the path.")
	case strings.Contains(text, "No space left"):
		return problem.Wrap(err, problem.Failed, at+" cannot grow: no disk space is left.",
			"Free some space; the next run goes on where this one ended.")
	case strings.Contains(text, "Conflict on"), strings.Contains(text, "write-write conflict"), strings.Contains(text,
		"Failed to commit: PRIMARY KEY"):
		return problem.Wrap(err, problem.Overtaken, at+" was changed by another worker during the run.",
			"Nothing was written; the next run goes on.")
	case strings.Contains(text, "Catalog Error: Table with name"):
		return problem.Wrap(err, problem.NoTable, at+": "+text+".",
			"Was the table dropped? The next run makes it again; clear its position to load it anew.")
	}
	code := problem.Failed
	if refusal.MatchString(err.Error()) {
		code = problem.Refused
	}
	return problem.Wrap(err, code, "A statement failed in "+strings.TrimPrefix(at, "The ")+": "+
		strings.TrimSpace(err.Error()), "See the run's statements.")
}
