//go:build duckdb_arrow

package lake

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

// look is where the tables of a catalogue were at one moment.
type look struct {
	clock  time.Time              // of the catalogue: what was committed before is seen
	places map[schema.Name]string // of their metadata
}

// look reads the pointers of some tables at once, or of all where none is named. The clock is read before them.
func (s *Source) look(ctx context.Context, only ...schema.Name) (look, error) {
	x := look{places: map[schema.Name]string{}}
	if err := s.keeper.Row(ctx, "SELECT clock_timestamp()", nil, &x.clock); err != nil {
		return x, err
	}
	var catalogue string
	var name schema.Name
	var at *string
	catalogues := map[string]bool{}
	schemas, tables := []string{}, []string{}
	for _, n := range only {
		schemas, tables = append(schemas, n.Schema), append(tables, n.Table)
	}
	err := s.keeper.Each(ctx,
		"SELECT catalog_name, table_namespace, table_name, metadata_location FROM public.iceberg_tables "+
			"WHERE (catalog_name = $1 OR $1 = '') AND (cardinality($2::text[]) = 0 OR (table_namespace, table_name) IN "+
			"(SELECT * FROM unnest($2::text[], $3::text[])))", []any{s.named, schemas, tables}, []any{&catalogue, &name.Schema,
			&name.Table, &at}, func() error {
			catalogues[catalogue] = true
			if at != nil {
				x.places[name] = *at
			}
			return nil
		})
	switch {
	case problem.Is(err, problem.NoTable):
		return x, problem.Wrap(err, problem.NoTable, fmt.Sprintf("There is no catalogue of %s: the database has no table "+
			"public.iceberg_tables.", s.what), "Check the database's name, or have the program that writes the lake keep its "+
			"catalogue there.").In("database")
	case err != nil:
		return x, err
	case len(catalogues) > 1:
		return x, problem.Newf(problem.Invalid, "Name one of them with --catalogue.",
			"The catalogue of %s has several: %s.", s.what, strings.Join(sorted(catalogues), ", ")).In("catalogue")
	}
	return x, nil
}

func sorted(set map[string]bool) (list []string) {
	for name := range set {
		list = append(list, strconv.Quote(name))
	}
	slices.Sort(list)
	return list
}

// table reads a table as it is now.
func (s *Source) table(ctx context.Context, name schema.Name) (*table.Table, error) {
	x, err := s.look(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.seen(ctx, x, name)
}

// seen reads a table as it was at a look.
func (s *Source) seen(ctx context.Context, x look, name schema.Name) (*table.Table, error) {
	at, there := x.places[name]
	if !there {
		return nil, problem.Newf(problem.NoTable, "Check whether it was dropped or renamed, then remove it from the feed or "+
			"correct its name.", "The table %s does not exist in %s.", name, s.what)
	}
	return s.at(ctx, name, at)
}

// at reads a table by the place of its metadata.
func (s *Source) at(ctx context.Context, name schema.Name, at string) (*table.Table, error) {
	s.mu.Lock()
	known := s.loaded[name.Quoted()]
	s.mu.Unlock()
	if known != nil && known.MetadataLocation() == at {
		return known, nil
	}
	var t *table.Table
	if err := s.guarded(name, func() (err error) {
		t, err = table.NewFromLocation(ctx, table.Identifier{name.Schema, name.Table}, at, s.files.IO, nil)
		return err
	}); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.loaded[name.Quoted()] = t
	return t, nil
}

// describedAtOnce is how many tables a list tells the sizes of: the metadata of each has to be read.
const describedAtOnce = 200

// Tables lists the tables.
func (s *Source) Tables(ctx context.Context) (tables []schema.Table, err error) {
	x, err := s.look(ctx)
	if err != nil {
		return nil, err
	}
	for name := range x.places {
		tables = append(tables, schema.Table{Name: name, Rows: -1, Bytes: -1})
	}
	slices.SortFunc(tables, func(a, b schema.Table) int { return strings.Compare(a.Name.Quoted(), b.Name.Quoted()) })
	for i := range min(len(tables), describedAtOnce) {
		t, err := s.seen(ctx, x, tables[i].Name)
		if err != nil {
			continue // whoever asks for the table is told
		}
		if d, err := s.described(t, tables[i].Name); err == nil {
			d.Columns = nil
			tables[i] = d
		}
	}
	return tables, ctx.Err()
}

// Table describes a table.
func (s *Source) Table(ctx context.Context, name schema.Name) (schema.Table, error) {
	t, err := s.table(ctx, name)
	if err != nil {
		return schema.Table{Name: name}, err
	}
	return s.described(t, name)
}

func (s *Source) described(t *table.Table, name schema.Name) (schema.Table, error) {
	d := schema.Table{Name: name, ID: t.Metadata().TableUUID().String(), Rows: -1, Bytes: -1,
		Comment: t.Properties()["comment"]}
	for _, f := range t.Schema().Fields() {
		c := schema.Column{Name: f.Name, Native: f.Type.String(), Nullable: !f.Required, Comment: f.Doc}
		var read bool
		if c.Type, read = typeOf(f.Type); read {
			c.Wire = strconv.Itoa(f.ID)
		} else {
			c.Type.Kind, c.Wire = schema.Text, wayNone
		}
		d.Columns = append(d.Columns, c)
		if slices.Contains(t.Schema().IdentifierFieldIDs, f.ID) {
			d.Key = append(d.Key, f.Name)
		}
	}
	if len(d.Key) != len(t.Schema().IdentifierFieldIDs) { // some are parts of a column
		d.Key = nil
	}
	if now := t.CurrentSnapshot(); now == nil {
		d.Rows, d.Bytes = 0, 0
	} else if now.Summary != nil {
		d.Rows = summed(*now.Summary, "total-records") - max(0, summed(*now.Summary, "total-position-deletes"))
		d.Bytes = summed(*now.Summary, "total-files-size")
	}
	return d, source.Coherent(d, s.what)
}

// summed is a number of a snapshot's summary; -1 where it has none.
func summed(s table.Summary, name string) int64 {
	n, err := strconv.ParseInt(s.Properties[name], 10, 64)
	if err != nil || n < 0 {
		return -1
	}
	return n
}

// wayNone is how a column is read whose values cannot be.
const wayNone = "none"

// typeOf gives the type that values of a type of the format arrive as (Iceberg, Table Spec, Schemas and Data Types),
// and whether they can be read.
func typeOf(t iceberg.Type) (schema.Type, bool) {
	switch x := t.(type) {
	case iceberg.DecimalType:
		return schema.Type{Kind: schema.Decimal, Precision: x.Precision(), Scale: x.Scale()}, true
	case iceberg.FixedType:
		return schema.Type{Kind: schema.Bytes}, true
	case *iceberg.StructType, *iceberg.ListType, *iceberg.MapType:
		return schema.Type{Kind: schema.JSON}, true
	}
	kind, read := kinds[t.Type()]
	return schema.Type{Kind: kind}, read
}

var kinds = map[string]schema.Kind{
	"boolean": schema.Bool, "int": schema.Int32, "long": schema.Int64, "float": schema.Float32, "double": schema.Float64,
	"date": schema.Date, "time": schema.Time, "timestamp": schema.Timestamp, "timestamptz": schema.TimestampTZ,
	"timestamp_ns": schema.Timestamp, "string": schema.Text, "uuid": schema.UUID,
	"binary": schema.Bytes,
}
