//go:build duckdb_arrow

package lake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"strconv"
	"strings"

	"github.com/apache/iceberg-go"
	icebergio "github.com/apache/iceberg-go/io"
	"github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/lakefiles"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/sqlmerge"
)

// The catalogue is the format's own in SQL (tables iceberg_tables and iceberg_namespace_properties, as other programs
// use them), in the database of the journal: so the pointers of all tables move in the transaction that moves the
// position.

// catalogueName is what the catalogue is called in its tables.
const catalogueName = "noemata"

var makeCatalogue = []string{
	// Two at once would be in each other's way.
	"SELECT pg_advisory_xact_lock(hashtextextended('noemata iceberg_tables', 0))",
	`CREATE TABLE IF NOT EXISTS public.iceberg_tables (
    catalog_name VARCHAR(255) NOT NULL, table_namespace VARCHAR(255) NOT NULL, table_name VARCHAR(255) NOT NULL,
    metadata_location VARCHAR(1000), previous_metadata_location VARCHAR(1000), iceberg_type VARCHAR(5),
    PRIMARY KEY (catalog_name, table_namespace, table_name))`,
	`CREATE TABLE IF NOT EXISTS public.iceberg_namespace_properties (
    catalog_name VARCHAR(255) NOT NULL, namespace VARCHAR(255) NOT NULL, property_key VARCHAR(255) NOT NULL,
    property_value VARCHAR(1000), PRIMARY KEY (catalog_name, namespace, property_key))`,
}

const (
	pointerSQL = `SELECT metadata_location FROM public.iceberg_tables
WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3`
	movePointer = `UPDATE public.iceberg_tables SET metadata_location = $5, previous_metadata_location = $4
WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3 AND metadata_location = $4`
	enterPointer = `INSERT INTO public.iceberg_tables (catalog_name, table_namespace, table_name, metadata_location, iceberg_type)
VALUES ($1, $2, $3, $4, 'TABLE') ON CONFLICT DO NOTHING`
	dropPointer = `DELETE FROM public.iceberg_tables
WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3 AND metadata_location = $4`
	enterNamespace = `INSERT INTO public.iceberg_namespace_properties (catalog_name, namespace, property_key, property_value)
VALUES ($1, $2, 'exists', 'true') ON CONFLICT DO NOTHING`
)

// load reads a table as its pointer has it; nil where there is none.
func (w *Warehouse) load(ctx context.Context, journal sqlmerge.Conn, name schema.Name) (*table.Table, error) {
	return w.loadFor(ctx, journal, name, pointerSQL)
}

func (w *Warehouse) loadFor(ctx context.Context, journal sqlmerge.Conn, name schema.Name, ask string) (*table.Table,
	error) {
	has, err := w.hasCatalogue(ctx, journal)
	if err != nil || !has {
		return nil, err
	}
	found, err := journal.Ask(ctx, ask, catalogueName, name.Schema, name.Table)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	at, _ := found[0][0].(string)
	return w.at(ctx, name, at)
}

// at reads a table by the place of its metadata.
func (w *Warehouse) at(ctx context.Context, name schema.Name, at string) (*table.Table, error) {
	if !strings.HasPrefix(at, w.files.Location()+"/") {
		return nil, problem.Newf(problem.Held, "Name the table otherwise in the feed, or write another catalogue.",
			"The catalogue has %s at %s, which is not in %s of the %s.", name, at, w.files.Location(), w.what)
	}
	t, err := table.NewFromLocation(ctx, identifier(name), at, w.files.IO, nil)
	if err != nil {
		return nil, w.unreadable(err, name)
	}
	return t, nil
}

// inCatalogue does something with the tables of the catalogue, where there are any.
func (w *Warehouse) inCatalogue(ctx context.Context, work func(sqlmerge.Conn) error) error {
	c, err := w.keeper.Connect(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if has, err := w.hasCatalogue(ctx, c); err != nil || !has {
		return err
	}
	return work(c)
}

func (w *Warehouse) hasCatalogue(ctx context.Context, journal sqlmerge.Conn) (bool, error) {
	if w.catalogued.Load() {
		return true, nil
	}
	has, err := journal.Columns(ctx, schema.Name{Schema: "public", Table: "iceberg_tables"})
	w.catalogued.Store(len(has) > 0)
	return len(has) > 0, err
}

// unreadable explains why a table cannot be read, where that is not explained already.
func (w *Warehouse) unreadable(err error, name schema.Name) error {
	if p := (*problem.Problem)(nil); errors.As(err, &p) || errors.Is(err, context.Canceled) {
		return err
	}
	return problem.Wrap(err, problem.Held, fmt.Sprintf("The table %s of the %s cannot be read: %v.", name, w.what, err),
		"Its files were changed or removed by another program: bring them back, or drop the table and copy it again.")
}

func identifier(n schema.Name) table.Identifier { return table.Identifier{n.Schema, n.Table} }

// staged takes what a transaction of a table comes to, without moving its pointer.
type staged struct {
	files    lakefiles.Files
	base     table.Metadata
	location string // of the metadata that the base came from; empty of a new table
	next     string // of the metadata that was written
}

// LoadTable fails: a transaction whose table has moved is not tried again here.
func (s *staged) LoadTable(context.Context, table.Identifier) (*table.Table, error) {
	return nil, table.ErrCommitFailed
}

// CommitTable writes the metadata that a transaction comes to.
func (s *staged) CommitTable(ctx context.Context, _ table.Identifier, reqs []table.Requirement,
	updates []table.Update) (table.Metadata, string, error) {
	for _, r := range reqs {
		if err := r.Validate(s.base); err != nil {
			return nil, "", err
		}
	}
	next, err := table.UpdateTableMetadata(s.base, updates, s.location)
	if err != nil {
		return nil, "", err
	}
	s.next, err = writeMetadata(ctx, s.files, next, s.location)
	return next, s.next, err
}

var metadataNumber = regexp.MustCompile(`/(\d+)-[^/]*\.metadata\.json$`)

// writeMetadata writes the metadata of a table beside what came before.
func writeMetadata(ctx context.Context, files lakefiles.Files, m table.Metadata, before string) (string, error) {
	number := 0
	if found := metadataNumber.FindStringSubmatch(before); found != nil {
		number, _ = strconv.Atoi(found[1])
		number++
	}
	at := fmt.Sprintf("%s/metadata/%05d-%s.metadata.json", m.Location(), number, uuid.New())
	data, err := json.Marshal(m)
	if err != nil {
		return "", err
	}
	to, err := files.IO(ctx)
	if err != nil {
		return "", err
	}
	return at, to.(icebergio.WriteFileIO).WriteFile(at, data)
}

// newTable is a table that is not in the catalogue yet.
func (w *Warehouse) newTable(name schema.Name, columns []iceberg.NestedField, comment string) (*table.Table, *staged,
	error) {
	its := maps.Clone(properties)
	if comment != "" {
		its[commentProperty] = comment
	}
	location := w.files.Location() + "/" + folderOf(name.Schema) + "/" + folderOf(name.Table) + "-" + uuid.NewString()[:8]
	m, err := table.NewMetadata(iceberg.NewSchema(0, columns...), nil, table.UnsortedSortOrder, location, its)
	if err != nil {
		return nil, nil, err
	}
	s := &staged{files: w.files, base: m}
	return table.New(identifier(name), m, "", w.files.IO, s), s, nil
}

// properties of each table.
var properties = iceberg.Properties{
	table.PropertyFormatVersion:    "2",
	table.ManifestMergeEnabledKey:  "true",
	table.ManifestMinMergeCountKey: "20",
	table.CommitNumRetriesKey:      "0",
	// Each version of the metadata lists all snapshots, so few are kept.
	table.MetadataDeleteAfterCommitEnabledKey: "true",
	table.MetadataPreviousVersionsMaxKey:      "20",
	"write.delete.mode":                       "merge-on-read",
	"write.update.mode":                       "merge-on-read",
	"write.merge.mode":                        "merge-on-read",
	"write.parquet.compression-codec":         "zstd",
}

// commentProperty is the property that has a table's comment, as other programs write it.
const commentProperty = "comment"

var notInFolders = regexp.MustCompile(`[^A-Za-z0-9_.-]+`)

// folderOf names a folder after a schema or table; another name may give the same.
func folderOf(name string) string {
	name = notInFolders.ReplaceAllString(name, "_")
	if name = strings.TrimLeft(name, "."); len(name) > 80 {
		name = name[:80]
	}
	return path.Clean("/" + name)[1:]
}

// pointer is a move of a table's pointer.
type pointer struct {
	name     schema.Name
	from, to string // empty where the table is new, or dropped
}

func (p pointer) move(ctx context.Context, journal sqlmerge.Conn) error {
	var n int64
	var err error
	switch {
	case p.from == "":
		if _, err = journal.Exec(ctx, enterNamespace, catalogueName, p.name.Schema); err == nil {
			n, err = journal.Exec(ctx, enterPointer, catalogueName, p.name.Schema, p.name.Table, p.to)
		}
	case p.to == "":
		n, err = journal.Exec(ctx, dropPointer, catalogueName, p.name.Schema, p.name.Table, p.from)
	default:
		n, err = journal.Exec(ctx, movePointer, catalogueName, p.name.Schema, p.name.Table, p.from, p.to)
	}
	if err == nil && n != 1 {
		err = warehouse.Overtaken("the table " + p.name.Display())
	}
	return err
}
