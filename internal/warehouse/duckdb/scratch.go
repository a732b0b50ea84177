//go:build duckdb_arrow

package duckdb

import (
	"context"
	"database/sql/driver"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/duckdb/duckdb-go/v2"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/tempdir"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// Dialect is DuckDB's, for warehouses whose rows DuckDB works on.
func Dialect() sqlmerge.Dialect { return dialect }

// Scratch is a database of one connection, in a folder of its own that goes with it.
type Scratch struct {
	sqlmerge.Conn
	connector *duckdb.Connector
	dir       *tempdir.Dir
}

// Space is what a Scratch is opened for.
type Space struct {
	Memory  int64                      // bytes
	Folders []string                   // in which alone files are read and written
	AsRead  func(schema.Column) string // how a column is selected that is read as Arrow
	What    string                     // names the warehouse in messages
	// Exhausted explains that the memory does not suffice.
	Exhausted func(error) error
	// AsWritten has joins look rows up among those of their right side, for statements that know which side is small:
	// DuckDB takes files whose columns are given by number for nearly empty.
	AsWritten bool
}

// OpenScratch opens a database that goes when it is closed.
func OpenScratch(ctx context.Context, space Space) (*Scratch, error) {
	s, what := &Scratch{}, space.What
	fail := func(err error) (*Scratch, error) {
		s.close()
		return nil, problem.Wrap(err, problem.Failed,
			fmt.Sprintf("The working space of the %s cannot be opened: %v.", what, err),
			"Is there room in the folder for temporary files, and may the service write it?")
	}
	var err error
	if s.dir, err = tempdir.New(); err != nil {
		return fail(err)
	}
	if s.connector, err = duckdb.NewConnector(filepath.Join(s.dir.Path, scratchName+".duckdb"), nil); err != nil {
		return fail(err)
	}
	d, err := s.connector.Connect(ctx)
	if err != nil {
		return fail(err)
	}
	allowed := make([]string, len(space.Folders))
	for i, f := range space.Folders {
		allowed[i] = schema.Literal(strings.TrimSuffix(f, "/") + "/")
	}
	unused := ""
	if space.AsWritten {
		unused = "build_side_probe_side"
	}
	for _, sql := range []string{
		"SET disabled_optimizers = " + schema.Literal(unused),
		fmt.Sprintf("SET memory_limit = '%dB'", space.Memory), fmt.Sprintf("SET threads = %d", scratchThreads),
		"SET temp_directory = " + schema.Literal(s.dir.Path), "SET preserve_insertion_order = false",
		"SET autoinstall_known_extensions = false", "SET autoload_known_extensions = false",
		"SET allow_community_extensions = false", "SET TimeZone = 'UTC'",
		"SET wal_autocheckpoint = '1TB'", "PRAGMA disable_checkpoint_on_shutdown", // what is in it is not kept
		"SET allowed_directories = [" + strings.Join(allowed, ", ") + "]",
		"SET enable_external_access = false", "SET lock_configuration = true",
	} {
		if _, err := d.(driver.ExecerContext).ExecContext(ctx, sql, nil); err != nil {
			_ = d.Close()
			return fail(err)
		}
	}
	a, err := duckdb.NewArrowFromConn(d)
	if err != nil {
		_ = d.Close()
		return fail(err)
	}
	explained := func(err error) error {
		if isOutOfMemory(err) {
			return space.Exhausted(err)
		}
		return explain(err, fmt.Sprintf("The working space %s of the %s", s.dir.Path, what))
	}
	s.Conn = &conn{file: &file{path: scratchName, memory: space.Memory, users: 2}, ownOnly: true, driver: d, arrow: a,
		plain: true, asRead: space.AsRead, view: fmt.Sprintf("noemata_batch_%d", views.Add(1)), explain: explained}
	return s, nil
}

// scratchName is what DuckDB calls the database.
const scratchName = "work"

// Converse begins a conversation about the tables and views of the database.
func (s *Scratch) Converse(may warehouse.May) warehouse.Conversation {
	return &conversation{conn: s.Conn.(*conn), may: may}
}

// Select passes what a SELECT gives on as Arrow; it is gone when sink returns.
func (s *Scratch) Select(ctx context.Context, sql string, sink func(arrow.RecordBatch) error) error {
	c := s.Conn.(*conn)
	c.note(nil)
	return c.selected(ctx, sql, sink)
}

// scratchThreads is how many threads work on a statement.
const scratchThreads = 2

// Close lets the database and its folder go.
func (s *Scratch) Close() {
	s.Conn.Close()
	s.close()
}

func (s *Scratch) close() {
	if s.connector != nil {
		_ = s.connector.Close()
	}
	if s.dir != nil {
		s.dir.Close()
	}
}
