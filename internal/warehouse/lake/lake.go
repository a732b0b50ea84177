//go:build duckdb_arrow

// Package lake writes warehouses of Iceberg tables: Parquet files and metadata in a folder or in object storage,
// and a catalogue in PostgreSQL, which any engine that knows the format reads (iceberg.apache.org/spec, format
// version 2).
//
// The journal is in the catalogue's database, so that rows, position and counters are one transaction, though the rows
// lie elsewhere: files are written first, and what COMMIT makes visible are the pointers to them. A merge is DuckDB's,
// over the rows whose keys have changed; rows that are replaced are deleted by their place.
package lake

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/lakefiles"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/postgres"
	"noemata/internal/warehouse/sqlmerge"
)

// Kind is the name of this kind of warehouse.
const Kind = warehouse.Lake

// Opener is what to register.
var Opener = connection.Kind[warehouse.Warehouse]{Check: Check, Open: Open}

// Check tells whether the settings name a folder or a bucket, and the database of the catalogue.
func Check(s connection.Settings) (connection.Settings, error) {
	if s.Bucket != nil {
		if s.Path != "" {
			return s, problem.New(problem.Invalid, "A lake's tables lie in a folder or in a bucket.",
				"Give its path, or the bucket.").In("path")
		}
		b, err := s.Bucket.Check()
		if err != nil {
			return s, err
		}
		s.Bucket = &b
	} else if s.Path == "" || strings.ContainsAny(s.Path, "?#%*[]{}'\x00") || filepath.Clean(s.Path) == "/" {
		return s, problem.New(problem.Invalid, "A lake's tables lie in a folder, or in a bucket of object storage.",
			"Give the folder's path, without characters that stand for others; or the bucket.").In("path")
	}
	if s.AskUser != "" {
		return s, problem.New(problem.Invalid, "A lake is not asked as a user of its catalogue.",
			"Leave ask_user out.").In("ask_user")
	}
	if _, err := dailyOf(s); err != nil {
		return s, err
	}
	if s.Host == "" && s.Database == "" && s.User == "" {
		return s, nil // it is in the service's own server
	}
	if s.Host == "" || s.Database == "" {
		return s, problem.New(problem.Invalid, "A lake's catalogue is in a PostgreSQL database.",
			"Give its host, database and user; or none of them, and it is in the service's own server.").In("database")
	}
	at, bucket := s.Path, s.Bucket
	if at != "" {
		at = filepath.Clean(at)
	}
	s.Path, s.Bucket = "", nil
	s, err := postgres.Opener.Check(s)
	s.Path, s.Bucket = at, bucket
	return s, err
}

// Warehouse is a lake that is written.
type Warehouse struct {
	sqlmerge.Base
	keeper     *postgres.Warehouse // of the catalogue and the journal
	files      lakefiles.Files
	what       string
	catalogued atomic.Bool // the tables of the catalogue are there
	daily      daily
	memory     atomic.Int64 // that transactions have, where that is more than usual
	upkeeps    sync.Map     // what is known of the upkeep of each table, by its name
	divided    sync.Map     // what each table was found to be divided by, by its name
}

// Open prepares to write a lake.
func Open(s connection.Settings, what string) (warehouse.Warehouse, error) {
	s, err := Check(s)
	if err != nil {
		return nil, err
	}
	if s.Host == "" {
		return nil, problem.Newf(problem.Invalid, "Give its host, database and user.",
			"The %s has no database for its catalogue.", what).In("database")
	}
	if s.Bucket == nil && !filepath.IsAbs(s.Path) {
		return nil, problem.Newf(problem.Invalid, "Give an absolute path.", "The path %q cannot be opened.",
			s.Path).In("path")
	}
	files, err := lakefiles.Of(s, what)
	if err != nil {
		return nil, err
	}
	w := &Warehouse{files: files, what: what}
	if w.daily, err = dailyOf(s); err != nil {
		return nil, err
	}
	s.Path, s.Bucket = "", nil
	keeper, err := postgres.Open(s, "the catalogue of the "+what)
	if err != nil {
		return nil, err
	}
	w.keeper = keeper.(*postgres.Warehouse)
	w.Base = sqlmerge.Base{SQL: dialect, Connect: w.connect, Exclusive: w.exclusive, Rows: w.Read, Noted: w.commentsOf}
	return w, nil
}

// Close lets the connections to the catalogue go.
func (w *Warehouse) Close() { w.keeper.Close() }

// Names are one in upper and lower case: engines that read the format differ in that.
func (w *Warehouse) Names() warehouse.Names {
	return warehouse.Names{Kind: "Iceberg", OneCase: true, Longest: 200, Divides: true}
}

// File is none: several hosts may write a lake, each table at a time.
func (w *Warehouse) File() (string, bool) { return "", false }

// Test signs in to the catalogue, and makes and removes a file.
func (w *Warehouse) Test(ctx context.Context) (string, error) {
	version, err := w.keeper.Test(ctx)
	if err != nil {
		return "", err
	}
	may, err := w.keeper.Ask(ctx, `SELECT to_regclass('public.iceberg_tables') IS NOT NULL OR has_schema_privilege('public', 'CREATE'),
pg_catalog.quote_ident(current_user)`)
	if err != nil {
		return "", err
	}
	if !may[0][0].(bool) {
		return "", problem.Newf(problem.NoPrivilege, fmt.Sprintf("GRANT CREATE ON SCHEMA public TO %s;", may[0][1]),
			"The user %s may not make the tables of the catalogue of the %s.", may[0][1], w.what)
	}
	return "Iceberg, version 2 of the format; the catalogue is in " + version, w.files.Try(ctx)
}

// Grants are none: who may read is the affair of the place and the catalogue.
func (w *Warehouse) Grants(string, string, []schema.Name) []string { return nil }

// Free is what the disk of the folder has left for users that are not root (statfs(2)); a bucket has no bound.
func (w *Warehouse) Free(context.Context) (int64, error) { return w.files.Free() }

// Size is the room that the files of a table take which its newest snapshot has.
func (w *Warehouse) Size(ctx context.Context, t warehouse.Target) (size int64, err error) {
	c, err := w.connect(ctx)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	found, err := w.load(ctx, c, t.Name)
	if err != nil || found == nil || found.CurrentSnapshot() == nil {
		return -1, err
	}
	summary := found.CurrentSnapshot().Summary
	if summary == nil {
		return -1, nil
	}
	if _, err := fmt.Sscan(summary.Properties["total-files-size"], &size); err != nil {
		return -1, nil
	}
	return size, nil
}

// commentsOf are the comments of a table and its columns.
func (w *Warehouse) commentsOf(ctx context.Context, name schema.Name) (map[string]string, error) {
	c, err := w.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	found, err := w.load(ctx, c, name)
	if err != nil || found == nil {
		return nil, err
	}
	comments := map[string]string{}
	if text := found.Properties()[commentProperty]; text != "" {
		comments[""] = text
	}
	for _, f := range found.Schema().Fields() {
		if f.Doc != "" {
			comments[f.Name] = f.Doc
		}
	}
	return comments, nil
}

// Mend runs nothing: findings of a lake are mended where it lies.
func (w *Warehouse) Mend(context.Context, string) error {
	return problem.New(problem.Conflict, "A lake has no statements to mend it by.", "Mend it by hand.")
}

// Read passes rows on as Arrow batches.
func (w *Warehouse) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	c, err := w.connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return c.(sqlmerge.Divided).Tables().Read(ctx, q, sink)
}

// conn is a connection to the journal, and the tables of a transaction.
type conn struct {
	sqlmerge.Conn
	tables *tables
}

func (w *Warehouse) connect(ctx context.Context) (sqlmerge.Conn, error) {
	c, err := w.keeper.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return w.opened(c), nil
}

func (w *Warehouse) opened(c sqlmerge.Conn) *conn {
	return &conn{Conn: c, tables: &tables{lake: w, journal: c}}
}

// Tables are those that the transaction has.
func (c *conn) Tables() sqlmerge.Tables { return c.tables }

// Exec runs a statement of the journal. Before COMMIT the tables are written, and their pointers moved.
func (c *conn) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	if sql != "COMMIT" {
		return c.Conn.Exec(ctx, sql, args...)
	}
	moves, err := c.move(ctx)
	if err != nil {
		return 0, err
	}
	// If its answer is lost it may have taken effect all the same: what came to nothing is left to upkeep.
	c.tables.written = nil
	n, err := c.Conn.Exec(ctx, sql)
	if err == nil {
		c.tables.lake.after(ctx, c.tables, moves)
	}
	return n, err
}

// move writes the tables and moves their pointers.
func (c *conn) move(ctx context.Context) ([]pointer, error) {
	moves, err := c.tables.write(ctx)
	if err != nil || len(moves) == 0 {
		return nil, err
	}
	if has, err := c.tables.lake.hasCatalogue(ctx, c.Conn); err != nil {
		return nil, err
	} else if !has {
		for _, sql := range makeCatalogue {
			if _, err := c.Conn.Exec(ctx, sql); err != nil {
				return nil, err
			}
		}
	}
	for _, p := range moves {
		if err := p.move(ctx, c.Conn); err != nil {
			return nil, err
		}
	}
	return moves, nil
}

// after removes the files of tables of the journal that were dropped: nobody reads them.
func (w *Warehouse) after(ctx context.Context, t *tables, moves []pointer) {
	for _, p := range moves {
		if p.to != "" || p.name.Schema != controlSchema {
			continue
		}
		if l := t.known(p.name); l != nil && l.table != nil {
			_ = w.files.RemoveAll(ctx, l.table.Location()) // what stays is in nobody's way
		}
	}
}

// Close ends what is open. Files of a transaction that was not committed go.
func (c *conn) Close() {
	c.tables.forget()
	c.tables.Close()
	c.Conn.Close()
}

// exclusive runs work as one transaction that makes or changes tables, one at a time.
func (w *Warehouse) exclusive(ctx context.Context, work func(sqlmerge.Conn) error) error {
	var done *conn
	var moves []pointer
	err := w.keeper.Exclusive(ctx, func(c sqlmerge.Conn) error {
		done = w.opened(c)
		if err := work(done); err != nil {
			return err
		}
		var err error
		if moves, err = done.move(ctx); err == nil {
			done.tables.written = nil // as with COMMIT, which follows
		}
		return err
	})
	if done == nil {
		return err
	}
	defer done.tables.Close()
	if err != nil {
		done.tables.forget()
		return err
	}
	w.after(ctx, done.tables, moves)
	return nil
}
