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
	"path/filepath"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// Kind is the name of this kind of warehouse.
const Kind = "duckdb"

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{Check: Check, Open: Open}

// Check tells whether the settings name a file, and makes its path absolute.
func Check(s connection.Settings) (connection.Settings, error) {
	if s.Path == "" || s.Host != "" || s.Database != "" || s.User != "" || s.Password != "" {
		return s, problem.New(problem.Invalid, "A DuckDB warehouse is a file.", "Give its path, and nothing else.")
	}
	path, err := filepath.Abs(s.Path)
	if err != nil {
		return s, problem.Wrap(err, problem.Invalid, fmt.Sprintf("The path %q cannot be used.", s.Path), "Give an absolute path.")
	}
	return connection.Settings{Path: path}, nil
}

var dialect = warehouse.Dialect{
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
			return fmt.Sprintf("%s IS DISTINCT FROM %s OR signbit(coalesce(%[1]s, 0)) <> signbit(coalesce(%[2]s, 0))", a, b)
		case schema.Interval: // so are 24 hours and a day
			return fmt.Sprintf("CAST(%s AS VARCHAR) IS DISTINCT FROM CAST(%s AS VARCHAR)", a, b)
		}
		return a + " IS DISTINCT FROM " + b
	},
	NoEquals:  func(schema.Type) bool { return false },
	Columns:   `SELECT column_name, data_type FROM duckdb_columns() WHERE database_name = current_database() AND schema_name = $1 AND table_name = $2`,
	Normal:    func(typeName string) string { return typeName },
	DropStage: true,
	Direct:    true,
	Rewrite:   true, // an update in place takes -0 for 0 and leaves it
	AsOf: func(_ warehouse.Target, name schema.Name, query string) []string {
		return []string{fmt.Sprintf("CREATE OR REPLACE MACRO %s(nm_moment) AS TABLE %s", name.Quoted(), strings.ReplaceAll(query, "$1", "nm_moment"))}
	},
}

// Warehouse is a DuckDB file that is written.
type Warehouse struct {
	warehouse.Base
	file *file
	what string
}

// Open prepares to write a file; it is opened and, if need be, made at its first use.
func Open(s connection.Settings, what string) (warehouse.Warehouse, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	w := &Warehouse{file: fileAt(s.Path), what: what}
	w.Base = warehouse.Base{SQL: dialect, Connect: w.connect, Create: w.create}
	return w, nil
}

// Close closes the file if nobody else uses it.
func (w *Warehouse) Close() { w.file.closeIdle() }

func (w *Warehouse) explain(err error) error {
	if isOutOfMemory(err) {
		had, raised := w.file.raise()
		said, _, _ := strings.Cut(err.Error(), "\n")
		at := fmt.Sprintf("A commit to the DuckDB file %s (%s) is too wide for %d MB of memory: %s.", w.file.path, w.what, had>>20, said)
		if raised {
			return problem.Wrap(err, problem.Failed, at, fmt.Sprintf("Nothing was written. The next run may use %d MB.", 2*had>>20))
		}
		return problem.Wrap(err, problem.Failed, at, "Nothing was written. Let the feed have fewer tables or columns.")
	}
	return explain(err, w.what, w.file.path)
}

func (w *Warehouse) connect(ctx context.Context) (warehouse.Conn, error) {
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	c.explain = w.explain
	return c, nil
}

// create keeps two connections from making the same thing: they would conflict.
func (w *Warehouse) create(ctx context.Context, statements []string) error {
	c, err := w.file.connect(ctx)
	if err != nil {
		return w.explain(err)
	}
	defer c.Close()
	w.file.making.Lock()
	defer w.file.making.Unlock()
	for _, sql := range statements {
		if _, err := c.Exec(ctx, sql); err != nil {
			return w.explain(err)
		}
	}
	return nil
}

// Test opens the file and gives DuckDB's version.
func (w *Warehouse) Test(ctx context.Context) (version string, err error) {
	found, err := w.Ask(ctx, "SELECT version()")
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("DuckDB %s", found[0][0]), nil
}

// Read passes rows on as Arrow batches.
func (w *Warehouse) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	c, err := w.file.connect(ctx)
	if err != nil {
		return w.explain(err)
	}
	defer c.Close()
	sql := warehouse.SelectSQL(q, func(c schema.Column) string { return schema.Quote(c.Name) })
	var n int64
	done := statement.Begin(ctx, statement.Warehouse, sql)
	reader, err := c.arrow.QueryContext(ctx, sql)
	if err != nil {
		done(0, err)
		return w.explain(err)
	}
	defer reader.Release()
	for reader.Next() {
		n += reader.RecordBatch().NumRows()
		if err := sink(reader.RecordBatch()); err != nil {
			done(n, err)
			return err
		}
	}
	done(n, reader.Err())
	return w.explain(reader.Err())
}
