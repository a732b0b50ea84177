//go:build duckdb_arrow

package duckdb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/duckdb/duckdb-go/v2"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// resident is how much memory the process has, in bytes.
func resident(t *testing.T) int {
	text, err := os.ReadFile("/proc/self/statm")
	require.NoError(t, err)
	var all, pages int
	_, err = fmt.Sscan(string(text), &all, &pages)
	require.NoError(t, err)
	return pages * os.Getpagesize()
}

// A service that commits a few rows several times a second, for months, must not grow by
// a schema each time. This one is large, so that it shows soon.
func TestViewsLeaveNoSchemaBehind(t *testing.T) {
	w, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	defer w.Close()
	opened, err := w.(*Warehouse).connect(context.Background())
	require.NoError(t, err)
	defer opened.Close()
	c := opened.(*conn)
	remark := arrow.NewMetadata([]string{"remark"}, []string{strings.Repeat("shelved ", 50_000)})
	typed := arrow.NewSchema([]arrow.Field{{Name: "copy", Type: arrow.BinaryTypes.String, Metadata: remark}}, nil)
	b := array.NewRecordBuilder(memory.DefaultAllocator, typed)
	defer b.Release()
	b.Field(0).(*array.StringBuilder).Append("C1")
	record := b.NewRecordBatch()
	defer record.Release()
	register := func(times int) {
		for range times {
			reader, err := array.NewRecordReader(typed, []arrow.RecordBatch{record})
			require.NoError(t, err)
			release, err := registerView(c.driver, reader, "batch")
			require.NoError(t, err)
			found, err := c.Ask(context.Background(), "SELECT copy FROM batch")
			require.NoError(t, err)
			require.Equal(t, "C1", found[0][0])
			_, err = c.Exec(context.Background(), "DROP VIEW batch")
			require.NoError(t, err)
			release()
			reader.Release()
		}
	}
	register(100)
	before := resident(t)
	register(500)
	require.Less(t, resident(t)-before, 100<<20, "schemas that are kept take more than 200 MB")
}

// A reader that fails part of the way fails the insert, and says why.
func TestAnInsertThatFailsSaysWhy(t *testing.T) {
	w, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	defer w.Close()
	ctx := context.Background()
	columns := []schema.Column{{Name: "copy", Type: schema.Type{Kind: schema.Int16}}}
	require.NoError(t, makes(ctx, w, `CREATE TABLE copies ("copy" SMALLINT CHECK ("copy" < 3))`))
	c := begun(t, w)
	defer c.Close()
	b := array.NewRecordBuilder(memory.DefaultAllocator,
		arrow.NewSchema([]arrow.Field{{Name: "copy", Type: arrow.PrimitiveTypes.Int16}}, nil))
	defer b.Release()
	b.Field(0).(*array.Int16Builder).Append(3)
	record := b.NewRecordBatch()
	defer record.Release()
	err = c.Insert(ctx, `"main"."copies"`, columns, record, nil)
	require.ErrorContains(t, err, "CHECK")
}

// A run that is stopped while rows go in leaves no thread of DuckDB reading them: they are
// gone by then, and the service would go with them.
func TestAnInsertThatIsStoppedReadsNoFurther(t *testing.T) {
	w, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	defer w.Close()
	columns := []schema.Column{{Name: "note", Type: schema.Type{Kind: schema.Text}}}
	require.NoError(t, makes(context.Background(), w, `CREATE TABLE copies ("note" VARCHAR)`))
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(columns))
	defer b.Release()
	for i := range 20_000 {
		b.Field(0).(*array.StringBuilder).Append(fmt.Sprintf("seen on shelf %d", i))
	}
	record := b.NewRecordBatch()
	defer record.Release()
	for i := range 1000 {
		c := begun(t, w)
		ctx, stop := context.WithTimeout(context.Background(), time.Duration(i%100)*20*time.Microsecond)
		if err = c.Insert(ctx, `"main"."copies"`, columns, record, nil); err != nil {
			require.ErrorIs(t, err, context.DeadlineExceeded)
		}
		stop()
		c.Close()
	}
	left, err := w.(*Warehouse).Ask(context.Background(), "SELECT count(*) FROM copies")
	require.NoError(t, err)
	require.EqualValues(t, 0, left[0][0])
}

// A service that was killed after wide commits opens the file again, although DuckDB does
// them once more as it opens it.
func TestAFileWhoseLastCommitsWereWideIsOpened(t *testing.T) {
	dir := t.TempDir()
	open := func(name string) *Warehouse {
		w, err := Open(connection.Settings{Path: filepath.Join(dir, name)}, `warehouse "lake"`)
		require.NoError(t, err)
		return w.(*Warehouse)
	}
	ctx := context.Background()
	path := filepath.Join(dir, "lake.duckdb")
	// So that commits stay where they are done once more.
	wide, err := duckdb.NewConnector(path+"?checkpoint_threshold=10GB", nil)
	require.NoError(t, err)
	defer func() { _ = wide.Close() }()
	d, err := wide.Connect(ctx)
	require.NoError(t, err)
	defer func() { _ = d.Close() }()
	var columns []string
	for i := range 500 {
		columns = append(columns, fmt.Sprintf("range::VARCHAR AS c%d", i))
	}
	_, err = d.(driver.ExecerContext).ExecContext(ctx,
		fmt.Sprintf("CREATE TABLE wide AS SELECT %s FROM range(100)", strings.Join(columns, ", ")), nil)
	require.NoError(t, err)
	for _, end := range []string{"", ".wal"} { // as they are when the process is killed now
		content, err := os.ReadFile(path + end)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "killed.duckdb"+end), content, 0o600))
	}
	again := open("killed.duckdb")
	defer again.Close()
	again.file.memory = 12 << 20 // so that few columns are wide
	found, err := again.Ask(ctx, "SELECT count(*) FROM wide")
	require.NoError(t, err)
	require.EqualValues(t, 100, found[0][0])
	require.Greater(t, again.file.memory, int64(12<<20))
}

// A statement that was stopped does not keep the file open: who opened it again would wait
// for ever.
func TestAFileIsOpenedAgainAfterStatementsThatWereStopped(t *testing.T) {
	w, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	ctx := context.Background()
	require.NoError(t, makes(ctx, w, "CREATE TABLE copies AS SELECT 'seen on shelf ' || range AS note FROM "+
		"range(400000)"))
	ended := make(chan error, 1)
	go func() {
		for range 600 {
			c, err := w.Begin(ctx)
			if err != nil {
				ended <- err
				return
			}
			short, stop := context.WithTimeout(ctx, time.Duration(rand.IntN(3000))*time.Microsecond)
			_, _ = w.(*Warehouse).Ask(short, "SELECT count(*), max(note) FROM copies")
			stop()
			c.Abort()
			w.Close()
		}
		ended <- nil
	}()
	select {
	case err := <-ended:
		require.NoError(t, err)
	case <-time.After(5 * time.Minute):
		t.Fatal("the file cannot be opened")
	}
}

// A commit that is too wide for the memory limit fails, says once what the next one gets,
// and that one gets it.
func TestMemoryIsRaisedWhereACommitNeedsMore(t *testing.T) {
	w, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	defer w.Close()
	ctx := context.Background()
	c := begun(t, w)
	const wide = "SELECT string_agg(repeat('x', 1000), ',' ORDER BY i) FROM range(200000) r(i)"
	_, err = c.Ask(ctx, wide)
	require.ErrorContains(t, err, "than 96 MB of memory have room for")
	require.ErrorContains(t, err, "opens the file with 1024 MB")
	require.NotContains(t, err.Error(), "Possible solutions", "the library's own advice is not for our reader")
	c.Close()
	limit, err := w.(*Warehouse).Ask(ctx, "SELECT current_setting('memory_limit')")
	require.NoError(t, err)
	require.Equal(t, "1.0 GiB", limit[0][0])
	_, err = w.(*Warehouse).Ask(ctx, wide)
	require.NoError(t, err)
}

// A file that DuckDB has given up is opened again by the next one, with more memory where that was the
// reason.
func TestAFileThatWasGivenUpIsOpenedAgain(t *testing.T) {
	opened, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	w := opened.(*Warehouse)
	defer w.Close()
	require.NoError(t, makes(t.Context(), w, "CREATE TABLE copies (id int)"))
	for text, remedy := range map[string]string{
		"FATAL Error: Failed to create checkpoint because of error: disk":                                "opens it again",
		"FATAL Error: Failed to create checkpoint because of error: failed to pin block of size 256 KiB": "1024 MB",
	} {
		before := w.file.connector
		require.NotNil(t, before)
		require.ErrorContains(t, w.explain(errors.New(text)), remedy)
		_, err = w.Ask(t.Context(), "SELECT count(*) FROM copies")
		require.NoError(t, err)
		require.NotSame(t, before, w.file.connector)
	}
}

// A feed of very many tables, each of a few rows, needs no more memory than another one: neither for what is noted
// at its beginning, nor for its commits.
func TestManyTablesNeedLittleMemory(t *testing.T) {
	opened, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, `warehouse "lake"`)
	require.NoError(t, err)
	w := opened.(*Warehouse)
	defer w.Close()
	var begins []warehouse.Entry
	for i := range 2000 {
		begins = append(begins, warehouse.BeginCopy{Table: fmt.Sprintf("public.t%d", i), Generation: 1})
	}
	require.NoError(t, w.Journal().Note(t.Context(), "five", begins...))
	known, err := w.Journal().Copies(t.Context(), "five")
	require.NoError(t, err)
	require.Len(t, known, 2000)

	held := begun(t, w) // the file stays open
	defer held.Close()
	_, err = held.Exec(t.Context(), "ROLLBACK")
	require.NoError(t, err)
	for i := range 1000 {
		require.NoError(t, w.exclusive(t.Context(), func(c sqlmerge.Conn) error {
			for _, sql := range []string{"CREATE TABLE t%d (id int, name text, noted timestamptz)",
				"INSERT INTO t%d VALUES (1, 'Grünau', now())"} {
				if _, err := c.Exec(t.Context(), fmt.Sprintf(sql, i)); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	kept, err := w.Ask(t.Context(), "SELECT memory_usage_bytes FROM duckdb_memory() WHERE tag = 'IN_MEMORY_TABLE'")
	require.NoError(t, err)
	require.Less(t, kept[0][0], int64(memoryLimit/3))
	require.EqualValues(t, memoryLimit, w.file.limit())
}
