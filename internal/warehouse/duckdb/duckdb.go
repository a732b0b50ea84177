//go:build duckdb_arrow

// Package duckdb writes warehouses in a DuckDB file, inside the service's own
// process.
//
// Rows come in as Arrow record batches. A target has no index: a merge is a hash
// join. Rows, position and counters are one transaction. Only one program can have
// the file open for writing, so the service closes it when it is idle.
package duckdb

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// Kind is the name of this kind of warehouse.
const Kind = "duckdb"

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{Check: Check, Open: Open}

// Check tells whether the settings name a file, and makes its path absolute.
func Check(s connection.Settings) (connection.Settings, error) {
	if s.Path == "" || s.Host != "" || s.Database != "" || s.User != "" || s.Password != "" {
		return s, problem.New(problem.Invalid, "A DuckDB warehouse is a file.", "Give its path, and nothing else.").In("path")
	}
	return connection.Settings{Path: s.Path}, nil
}

var dialect = sqlmerge.Dialect{
	Types: map[schema.Kind]string{
		schema.Bool: "BOOLEAN", schema.Int16: "SMALLINT", schema.Int32: "INTEGER", schema.Int64: "BIGINT",
		schema.Float32: "FLOAT", schema.Float64: "DOUBLE", schema.Numeric: "VARCHAR", schema.Text: "VARCHAR",
		schema.Bytes: "BLOB", schema.Date: "DATE", schema.Time: "TIME",
		schema.Timestamp: "TIMESTAMP", schema.TimestampTZ: "TIMESTAMP WITH TIME ZONE",
		schema.Interval: "INTERVAL", schema.UUID: "UUID", schema.JSON: "JSON",
	},
	Distinct: func(t schema.Type, a, b string) string {
		switch t.Kind {
		case schema.Float32, schema.Float64: // 0 and -0 are equal and yet not the same
			return fmt.Sprintf("%s IS DISTINCT FROM %s OR signbit(coalesce(%[1]s, 0)) <> signbit(coalesce(%[2]s, 0))",
				a, b)
		case schema.Interval: // so are 24 hours and a day
			return fmt.Sprintf("CAST(%s AS VARCHAR) IS DISTINCT FROM CAST(%s AS VARCHAR)", a, b)
		}
		return a + " IS DISTINCT FROM " + b
	},
	NoEquals: func(schema.Type) bool { return false },
	Comments: `SELECT schema_name, table_name, '', comment FROM duckdb_tables() WHERE database_name = current_database() ` +
		`AND comment IS NOT NULL UNION ALL SELECT schema_name, table_name, column_name, comment FROM duckdb_columns() ` +
		`WHERE database_name = current_database() AND comment IS NOT NULL`,
	Normal: func(typeName string) string { return typeName },
	Remake: true,
	Convert: func(table, column, typeName string) string {
		return fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DATA TYPE %s USING CAST(CAST(%[2]s AS VARCHAR) AS %[3]s)",
			table, column, typeName)
	},
	Size: func(name schema.Name) string { // blocks of 256 kB, which columns may share; none before they are written out
		return "SELECT CAST(CASE WHEN count(DISTINCT block_id) = 0 THEN -1 ELSE count(DISTINCT block_id) * 262144 END AS " +
			"BIGINT) " +
			"FROM pragma_storage_info(" + schema.Literal(name.Quoted()) + ") WHERE block_id >= 0"
	},
	RowID:     "rowid",
	DropStage: true,
	Direct:    true,
	Rewrite:   true, // an update in place takes -0 for 0 and leaves it
	AsOf: func(t warehouse.Target, name schema.Name, query func(string) string) []string {
		moment := "nm_moment" // a column of that name would be taken for it
		for slices.ContainsFunc(t.All(), func(c schema.Column) bool { return strings.EqualFold(c.Name, moment) }) {
			moment += "_"
		}
		return []string{fmt.Sprintf("CREATE OR REPLACE MACRO %s(%s) AS TABLE %s", name.Quoted(), moment, query(moment))}
	},
}

// Warehouse is a DuckDB file that is written.
type Warehouse struct {
	sqlmerge.Base
	file *file
	what string
}

// Open prepares to write a file; it is opened and, if need be, made at its first use.
func Open(s connection.Settings, what string) (warehouse.Warehouse, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	if !filepath.IsAbs(s.Path) || strings.ContainsAny(s.Path, "?#%") { // the driver would read options from it
		return nil, problem.Newf(problem.Invalid, "Give an absolute path without ? # and %.",
			"The path %q cannot be opened.", s.Path)
	}
	w := &Warehouse{file: fileAt(s.Path), what: what}
	w.Base = sqlmerge.Base{SQL: dialect, Connect: w.connect, Exclusive: w.exclusive, Rows: w.Read}
	return w, nil
}

// Close closes the file if nobody else uses it.
func (w *Warehouse) Close() { w.file.closeIdle() }

// Names are one in upper and lower case (DuckDB, Keywords and Identifiers).
func (w *Warehouse) Names() warehouse.Names { return names }

var names = warehouse.Names{Kind: "DuckDB", OneCase: true}

func (w *Warehouse) explain(err error) error {
	if isGivenUp(err) {
		defer w.file.openAnew()
	}
	if !isOutOfMemory(err) {
		if isGivenUp(err) {
			return problem.Wrap(err, problem.Failed,
				fmt.Sprintf("DuckDB has given up the file %s (%s): %s.", w.file.path, w.what, strings.TrimSpace(err.Error())),
				"The next run opens it again and goes on from what was committed.")
		}
		return explain(err, fmt.Sprintf("The DuckDB file %s (%s)", w.file.path, w.what))
	}
	had, raised := w.file.raise()
	at := fmt.Sprintf("A commit to the DuckDB file %s (%s) writes more columns at a time than %d MB of memory have "+
		"room for.", w.file.path, w.what, had>>20)
	if raised {
		return problem.Wrap(err, problem.Failed, at, fmt.Sprintf("The next run opens the file with %d MB and goes on "+
			"from what was committed.", memoryMost>>20))
	}
	return problem.Wrap(err, problem.Failed, at, "Divide the feed into several, with fewer tables or columns each.")
}

func (w *Warehouse) connect(ctx context.Context) (sqlmerge.Conn, error) {
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	c.explain = w.explain
	return c, nil
}

// exclusive runs statements as one transaction, and keeps two connections from making the
// same thing: they would conflict.
func (w *Warehouse) exclusive(ctx context.Context, work func(sqlmerge.Conn) error) error {
	c, err := w.connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	w.file.making.Lock()
	defer w.file.making.Unlock()
	return sqlmerge.Transact(ctx, c, work)
}

// Grants are none: a file belongs to whoever may write it.
func (w *Warehouse) Grants(string, string, []schema.Name) []string { return nil }

// File is the path of the file.
func (w *Warehouse) File() (string, bool) {
	_, err := os.Stat(w.file.path)
	return w.file.path, err == nil
}

// Free is what the disk of the file has left for users that are not root (statfs(2)).
func (w *Warehouse) Free(context.Context) (int64, error) {
	free, err := connection.FreeAt(w.file.path)
	if err != nil {
		return 0, w.explain(err)
	}
	return free, nil
}

// Test gives DuckDB's version, and tells whether the file can be opened or, where there is
// none yet, made. It leaves nothing behind.
func (w *Warehouse) Test(ctx context.Context) (version string, err error) {
	if _, err := os.Stat(w.file.path); err != nil {
		return w.testFolder(ctx)
	}
	return w.version(ctx)
}

func (w *Warehouse) version(ctx context.Context) (string, error) {
	found, err := w.Ask(ctx, "SELECT version()")
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("DuckDB %s", found[0][0]), nil
}

// testFolder makes another file where the warehouse's will be, or as near as there is a
// folder, and removes it.
func (w *Warehouse) testFolder(ctx context.Context) (version string, err error) {
	near := connection.Nearest(filepath.Dir(w.file.path))
	if info, err := os.Stat(near); err == nil && !info.IsDir() {
		return "", problem.Newf(problem.Invalid, "Choose another path.",
			"The DuckDB file %s (%s) cannot be made: %s is not a folder.", w.file.path, w.what, near).In("path")
	}
	dir, err := os.MkdirTemp(near, ".noemata-try-")
	if err != nil {
		return "", w.explain(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	trial := &Warehouse{file: &file{path: filepath.Join(dir, "try.duckdb"), memory: memoryLimit}, what: w.what}
	trial.Base = sqlmerge.Base{SQL: dialect, Connect: trial.connect}
	defer trial.Close()
	return trial.version(ctx)
}

// Read passes rows on as Arrow batches.
func (w *Warehouse) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	c, err := w.file.connect(ctx)
	if err != nil {
		return w.explain(err)
	}
	defer c.Close()
	c.explain = w.explain
	return c.Read(ctx, q, sink)
}
