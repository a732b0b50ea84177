//go:build duckdb_arrow

package duckdb

import (
	"context"
	"database/sql/driver"
	"fmt"
	"path/filepath"
	"strings"

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

// OpenScratch opens a database that reads and writes files in some folders, and no others. asRead is how a column is
// selected that is read as Arrow.
func OpenScratch(ctx context.Context, memory int64, asRead func(schema.Column) string, what string,
	folders ...string) (*Scratch, error) {
	s := &Scratch{}
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
	allowed := make([]string, len(folders))
	for i, f := range folders {
		allowed[i] = schema.Literal(strings.TrimSuffix(f, "/") + "/")
	}
	for _, sql := range []string{
		fmt.Sprintf("SET memory_limit = '%dB'", memory), fmt.Sprintf("SET threads = %d", scratchThreads),
		"SET temp_directory = " + schema.Literal(s.dir.Path), "SET preserve_insertion_order = false",
		"SET autoinstall_known_extensions = false", "SET autoload_known_extensions = false",
		"SET allow_community_extensions = false", "SET TimeZone = 'UTC'",
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
			return problem.Wrap(err, problem.Failed,
				fmt.Sprintf("A commit to the %s needs more than %d MB of memory.", what, memory>>20),
				"Divide the feed into several, with fewer tables or columns each.")
		}
		return explain(err, fmt.Sprintf("The working space %s of the %s", s.dir.Path, what))
	}
	s.Conn = &conn{file: &file{path: scratchName, memory: memory, users: 2}, ownOnly: true, driver: d, arrow: a,
		plain: true, asRead: asRead, view: fmt.Sprintf("noemata_batch_%d", views.Add(1)), explain: explained}
	return s, nil
}

// scratchName is what DuckDB calls the database.
const scratchName = "work"

// Converse begins a conversation about the tables and views of the database.
func (s *Scratch) Converse(may warehouse.May) warehouse.Conversation {
	return &conversation{conn: s.Conn.(*conn), may: may}
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
