// Package foreign writes lakes as another program would, by iceberg-go's own transactions: a stand-in for the engines
// that people write lakes with.
package foreign

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/iceberg-go"
	icebergio "github.com/apache/iceberg-go/io"
	"github.com/apache/iceberg-go/table"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Lake is one in a folder, with its catalogue in a database.
type Lake struct {
	t       testing.TB
	conn    *pgx.Conn
	folder  string
	Staging map[string]string // moves of pointers that wait for Move, by table; nil: each is made at once
}

// T is the test that it is of.
func (l *Lake) T() testing.TB { return l.t }

// New makes one that is empty.
func New(t testing.TB, conn *pgx.Conn, folder string) *Lake {
	_, err := conn.Exec(context.Background(), `CREATE TABLE iceberg_tables (catalog_name VARCHAR(255) NOT NULL,
		table_namespace VARCHAR(255) NOT NULL, table_name VARCHAR(255) NOT NULL, metadata_location VARCHAR(1000),
		previous_metadata_location VARCHAR(1000), PRIMARY KEY (catalog_name, table_namespace, table_name))`)
	require.NoError(t, err)
	return &Lake{t: t, conn: conn, folder: folder}
}

func io(context.Context) (icebergio.IO, error) { return icebergio.LocalFS{}, nil }

// Create makes a table.
func (l *Lake) Create(name string, schema *iceberg.Schema, properties iceberg.Properties) {
	l.t.Helper()
	place := "file://" + filepath.Join(l.folder, name+"-"+uuid.NewString()[:8])
	m, err := table.NewMetadata(schema, iceberg.UnpartitionedSpec, table.UnsortedSortOrder, place, properties)
	require.NoError(l.t, err)
	at := l.write(m, 0)
	_, err = l.conn.Exec(context.Background(), "INSERT INTO iceberg_tables VALUES ('other', 'kept', $1, $2) ON CONFLICT "+
		"(catalog_name, table_namespace, table_name) DO UPDATE SET metadata_location = excluded.metadata_location", name, at)
	require.NoError(l.t, err)
}

func (l *Lake) write(m table.Metadata, number int) string {
	data, err := json.Marshal(m)
	require.NoError(l.t, err)
	at := fmt.Sprintf("%s/metadata/%05d-%s.metadata.json", m.Location(), number, uuid.NewString())
	local := strings.TrimPrefix(at, "file://")
	require.NoError(l.t, os.MkdirAll(filepath.Dir(local), 0o755))
	require.NoError(l.t, os.WriteFile(local, data, 0o600))
	return at
}

// Table is one as it is now.
func (l *Lake) Table(name string) *table.Table {
	l.t.Helper()
	t, err := l.LoadTable(context.Background(), table.Identifier{"kept", name})
	require.NoError(l.t, err)
	return t
}

// LoadTable reads a table by its pointer.
func (l *Lake) LoadTable(ctx context.Context, id table.Identifier) (*table.Table, error) {
	at := l.Staging[id[1]]
	if at == "" {
		if err := l.conn.QueryRow(ctx, "SELECT metadata_location FROM iceberg_tables WHERE table_name = $1",
			id[1]).Scan(&at); err != nil {
			return nil, err
		}
	}
	return table.NewFromLocation(ctx, id, at, io, l)
}

// CommitTable moves the pointer of a table.
func (l *Lake) CommitTable(ctx context.Context, id table.Identifier, reqs []table.Requirement,
	updates []table.Update) (table.Metadata, string, error) {
	now, err := l.LoadTable(ctx, id)
	if err != nil {
		return nil, "", err
	}
	for _, r := range reqs {
		if err := r.Validate(now.Metadata()); err != nil {
			return nil, "", err
		}
	}
	next, err := table.UpdateTableMetadata(now.Metadata(), updates, now.MetadataLocation())
	if err != nil {
		return nil, "", err
	}
	at := l.write(next, len(next.Snapshots()))
	if l.Staging != nil {
		l.Staging[id[1]] = at
		return next, at, nil
	}
	_, err = l.conn.Exec(ctx, "UPDATE iceberg_tables SET metadata_location = $2 WHERE table_name = $1", id[1], at)
	return next, at, err
}

// Move moves the pointers of all tables that were written since Staging was set, at once.
func (l *Lake) Move() {
	l.t.Helper()
	ctx := context.Background()
	require.NoError(l.t, pgx.BeginFunc(ctx, l.conn, func(tx pgx.Tx) error {
		for name, at := range l.Staging {
			if _, err := tx.Exec(ctx, "UPDATE iceberg_tables SET metadata_location = $2 WHERE table_name = $1", name,
				at); err != nil {
				return err
			}
		}
		return nil
	}))
	l.Staging = nil
}

// Drop drops a table from the catalogue.
func (l *Lake) Drop(name string) {
	l.t.Helper()
	_, err := l.conn.Exec(context.Background(), "DELETE FROM iceberg_tables WHERE table_name = $1", name)
	require.NoError(l.t, err)
}

// Commit does something to a table in a transaction.
func (l *Lake) Commit(name string, work func(tx *table.Transaction) error) {
	l.t.Helper()
	tx := l.Table(name).NewTransaction()
	require.NoError(l.t, work(tx))
	_, err := tx.Commit(context.Background())
	require.NoError(l.t, err)
}

// Rows makes a record of rows in JSON, with columns of a table.
func (l *Lake) Rows(name string, columns []string, rows []map[string]any) arrow.RecordBatch {
	l.t.Helper()
	its := l.Table(name).Schema()
	if columns != nil {
		var err error
		its, err = its.Select(true, columns...)
		require.NoError(l.t, err)
	}
	form, err := table.SchemaToArrowSchema(its, nil, true, false)
	require.NoError(l.t, err)
	text, err := json.Marshal(rows)
	require.NoError(l.t, err)
	record, _, err := array.RecordFromJSON(memory.DefaultAllocator, form, strings.NewReader(string(text)))
	require.NoError(l.t, err)
	return record
}

// Append adds rows.
func (l *Lake) Append(tx *table.Transaction, record arrow.RecordBatch, properties iceberg.Properties) error {
	reader, err := array.NewRecordReader(record.Schema(), []arrow.RecordBatch{record})
	if err != nil {
		return err
	}
	return tx.Append(context.Background(), reader, properties)
}
