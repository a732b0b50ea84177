//go:build duckdb_arrow

package lake

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	"github.com/apache/iceberg-go/table/dv"
	duckdbgo "github.com/duckdb/duckdb-go/v2"

	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse/duckdb"
)

// Which files a snapshot has, iceberg-go tells. Their rows are read by DuckDB, with an error where a file is damaged:
// it is told under which name each file has each column, and which rows are deleted.

// spaceMemory is what a working space has; what is more goes to the disk.
const spaceMemory = 256 << 20

// openSpace makes a working space, in which the lake's files are read.
func (s *Source) openSpace(ctx context.Context) (*duckdb.Scratch, error) {
	folders, err := s.files.Folders()
	if err != nil {
		return nil, err
	}
	work, err := duckdb.OpenScratch(ctx, duckdb.Space{Memory: spaceMemory, What: s.what, Folders: folders,
		Exhausted: func(err error) error {
			return problem.Wrap(err, problem.Failed, fmt.Sprintf("To read rows of %s more than %d MB of memory are needed.",
				s.what,
				spaceMemory>>20), "Drop the columns with large values from the feed.")
		}})
	if err != nil {
		return nil, err
	}
	for _, sql := range []string{"CREATE SCHEMA noemata",
		"CREATE TABLE noemata.files (n INTEGER, path VARCHAR, local VARCHAR)",
		"CREATE TABLE noemata.gone (path VARCHAR, pos BIGINT, again BOOLEAN)"} {
		if _, err := work.Exec(ctx, sql); err != nil {
			work.Close()
			return nil, err
		}
	}
	return work, nil
}

// numbered is a table whose columns are called by their places, as a working space has them: names there would be one
// in upper and lower case.
func numbered(t schema.Table) schema.Table {
	columns, key := slices.Clone(t.Columns), slices.Clone(t.Key)
	for i, c := range t.Columns {
		columns[i].Name = fmt.Sprintf("c%d", i)
		if at := slices.Index(t.Key, c.Name); at >= 0 {
			key[at] = columns[i].Name
		}
	}
	t.Columns, t.Key, t.OtherKeys = columns, key, nil
	return t
}

// typeIn is DuckDB's type of a column in a working space.
func typeIn(c schema.Column, field iceberg.Type) string {
	if c.Wire == "" && c.Type.Kind == schema.Text { // the feed wants it so
		return "VARCHAR"
	}
	return duckType(field)
}

// duckType is DuckDB's type for one of the format.
func duckType(t iceberg.Type) string {
	switch x := t.(type) {
	case iceberg.DecimalType:
		return fmt.Sprintf("DECIMAL(%d,%d)", x.Precision(), x.Scale())
	case iceberg.FixedType:
		return "BLOB"
	}
	return cmp.Or(duckTypes[t.Type()], "VARCHAR")
}

var duckTypes = map[string]string{"boolean": "BOOLEAN", "int": "INTEGER", "long": "BIGINT", "float": "FLOAT",
	"double": "DOUBLE",
	"date":   "DATE", "time": "TIME", "timestamp": "TIMESTAMP", "timestamptz": "TIMESTAMP WITH TIME ZONE",
	"timestamp_ns": "TIMESTAMP_NS", "uuid": "UUID", "binary": "BLOB"}

// makeTable makes a table for rows of one of a lake.
func (s *Source) makeTable(ctx context.Context, work *duckdb.Scratch, name schema.Name, t *table.Table,
	of schema.Table) error {
	columns := make([]string, len(of.Columns))
	for i, c := range of.Columns {
		f, _ := t.Schema().FindFieldByName(c.Name)
		columns[i] = fmt.Sprintf("c%d %s", i, typeIn(c, f.Type))
	}
	for _, sql := range []string{"CREATE SCHEMA IF NOT EXISTS " + schema.Quote(name.Schema),
		fmt.Sprintf("CREATE TABLE %s (%s)", name.Quoted(), strings.Join(columns, ", "))} {
		if _, err := work.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// filesOf are the files that a snapshot has, each with those of its deletes.
func (s *Source) filesOf(ctx context.Context, t *table.Table, name schema.Name,
	at *table.Snapshot) (tasks []table.FileScanTask,
	err error) {
	if at == nil {
		return nil, nil
	}
	err = s.guarded(name, func() error {
		tasks, err = t.Scan(table.WithSnapshotID(at.SnapshotID), table.WithMaxConcurrency(1)).PlanFiles(ctx)
		return err
	})
	return tasks, err
}

// guarded runs what takes files apart: what it stumbles over is the table's fault.
func (s *Source) guarded(name schema.Name, work func() error) error {
	return s.unreadable(problem.Guarded(work)(), name)
}

// part is rows of a file: those that are not deleted, but for those that some other deletes of the file leave, too.
type part struct {
	table.FileScanTask
	but *table.FileScanTask // nil for all that are not deleted
}

// partsOf are all rows of files.
func partsOf(tasks []table.FileScanTask) []part {
	parts := make([]part, len(tasks))
	for i, t := range tasks {
		parts[i].FileScanTask = t
	}
	return parts
}

// filesAtOnce is how many files are held, and read by one statement.
const filesAtOnce = 100

// scan calls each with SELECTs of rows of files until all were read. Their columns are c0, c1 and so on, those of a
// table in its order.
func (s *Source) scan(ctx context.Context, work *duckdb.Scratch, t *table.Table, of schema.Table, parts []part,
	each func(sql string) error) error {
	for some := range slices.Chunk(parts, filesAtOnce) {
		x := &scan{s: s, work: work, t: t, of: of, parts: some, held: map[string]string{}}
		err := x.run(ctx, each)
		s.files.Release(slices.Collect(maps.Keys(x.held))...)
		if err != nil {
			return x.blamed(err)
		}
	}
	return nil
}

// scan is of some files of a table.
type scan struct {
	s     *Source
	work  *duckdb.Scratch
	t     *table.Table
	of    schema.Table
	parts []part
	held  map[string]string // where files are on the disk
}

// blamed tells what a file is at fault for from what befell the working space.
func (x *scan) blamed(err error) error {
	var e *duckdbgo.Error
	if errors.As(err, &e) && slices.Contains([]duckdbgo.ErrorType{duckdbgo.ErrorTypeInvalidInput,
		duckdbgo.ErrorTypeConversion,
		duckdbgo.ErrorTypeOutOfRange, duckdbgo.ErrorTypeSerialization, duckdbgo.ErrorTypeInternal, duckdbgo.ErrorTypeFatal,
		duckdbgo.ErrorTypeBinder, duckdbgo.ErrorTypeNotImplemented, duckdbgo.ErrorTypeInvalidType}, e.Type) {
		first, _, _ := strings.Cut(e.Msg, "\n")
		return x.s.unreadable(errors.New(strings.TrimSuffix(first, ".")), x.of.Name)
	}
	return x.s.unreadable(err, x.of.Name)
}

func (x *scan) run(ctx context.Context, each func(sql string) error) error {
	paths := make([]string, len(x.parts))
	for i, p := range x.parts {
		paths[i] = p.File.FilePath()
	}
	if err := x.hold(ctx, paths); err != nil {
		return err
	}
	if err := x.note(ctx); err != nil {
		return err
	}
	layouts, err := x.layouts(ctx, paths)
	if err != nil {
		return err
	}
	groups := map[string][]int{} // places of files by their layout
	for i, path := range paths {
		key := layouts[path].text + " " + equalities(x.parts[i])
		groups[key] = append(groups[key], i)
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		sql, err := x.selected(ctx, groups[key], layouts[paths[groups[key][0]]])
		if err != nil {
			return err
		}
		if err := each(sql); err != nil {
			return err
		}
	}
	return nil
}

// hold has files on the disk.
func (x *scan) hold(ctx context.Context, names []string) error {
	var more []string
	for _, name := range names {
		if x.held[name] == "" && !slices.Contains(more, name) {
			more = append(more, name)
		}
	}
	paths, err := x.s.files.Hold(ctx, more...)
	if err != nil {
		return err
	}
	for i, name := range more {
		x.held[name] = paths[i]
	}
	return nil
}

// literals are where files are, for a statement.
func (x *scan) literals(names []string) string {
	list := make([]string, len(names))
	for i, name := range names {
		list[i] = schema.Literal(x.held[name])
	}
	return "[" + strings.Join(list, ", ") + "]"
}

// note has the files in the working space, and the places of rows that are deleted by it (Iceberg, Table Spec, Position
// Delete Files and Deletion Vectors).
func (x *scan) note(ctx context.Context) error {
	var entries []string
	for i, p := range x.parts {
		if format := p.File.FileFormat(); format != iceberg.ParquetFile {
			return fmt.Errorf("the file %s is of the format %s", p.File.FilePath(), format)
		}
		entries = append(entries, fmt.Sprintf("(%d, %s, %s)", i, schema.Literal(p.File.FilePath()),
			schema.Literal(x.held[p.File.FilePath()])))
	}
	for _, sql := range []string{"TRUNCATE noemata.files", "TRUNCATE noemata.gone",
		"INSERT INTO noemata.files VALUES " + strings.Join(entries, ", ")} {
		if _, err := x.work.Exec(ctx, sql); err != nil {
			return err
		}
	}
	var tasks, others []table.FileScanTask
	for _, p := range x.parts {
		if tasks = append(tasks, p.FileScanTask); p.but != nil {
			others = append(others, *p.but)
		}
	}
	if err := x.gone(ctx, tasks, false); err != nil {
		return err
	}
	return x.gone(ctx, others, true)
}

// gone notes the places of rows that are deleted; again tells that it is of the other deletes of files.
func (x *scan) gone(ctx context.Context, tasks []table.FileScanTask, again bool) error {
	var deletes []string
	for _, task := range tasks {
		for _, d := range task.DeletionVectorFiles {
			if err := x.vector(ctx, task.File, d, again); err != nil {
				return err
			}
		}
		for _, d := range task.DeleteFiles {
			deletes = append(deletes, d.FilePath())
		}
	}
	if len(deletes) == 0 {
		return nil
	}
	if err := x.hold(ctx, deletes); err != nil {
		return err
	}
	_, err := x.work.Exec(ctx, fmt.Sprintf("INSERT INTO noemata.gone SELECT DISTINCT d.file_path, d.pos, %t FROM "+
		"read_parquet(%s, union_by_name = true) AS d SEMI JOIN noemata.files AS f ON f.path = d.file_path", again,
		x.literals(slices.Compact(slices.Sorted(slices.Values(deletes))))))
	return err
}

// vectorRows is how many places of a deletion vector are noted by one statement.
const vectorRows = 5000

// vector notes the places that a deletion vector has.
func (x *scan) vector(ctx context.Context, file, d iceberg.DataFile, again bool) error {
	to, err := x.s.files.IO(ctx)
	if err != nil {
		return err
	}
	return x.s.guarded(x.of.Name, func() error {
		places, err := dv.ReadDV(to, d)
		if err != nil {
			return err
		}
		var entries []string
		note := func() error {
			_, err := x.work.Exec(ctx, fmt.Sprintf("INSERT INTO noemata.gone SELECT %s, unnest([%s]), %t",
				schema.Literal(file.FilePath()), strings.Join(entries, ", "), again))
			entries = entries[:0]
			return err
		}
		for at := range places.Positions() {
			if at >= uint64(file.Count()) {
				break
			}
			if entries = append(entries, strconv.FormatUint(at, 10)); len(entries) == vectorRows {
				if err := note(); err != nil {
					return err
				}
			}
		}
		if len(entries) == 0 {
			return nil
		}
		return note()
	})
}

// layout is how a file has its columns.
type layout struct {
	text  string         // tells it from others
	named map[int]string // the columns' names by their field numbers
	below map[int]string // of nested columns, what is below them
}

// elementSQL is what is asked of an element of Parquet's schema of a file: its number, how many are below it, and its type.
const elementSQL = "coalesce(CAST(field_id AS BIGINT), -1), coalesce(CAST(num_children AS BIGINT), 0), " +
	"concat_ws(' ', type, logical_type, converted_type, scale, precision)"

// layouts are those of files, as Parquet's own schemas have them.
func (x *scan) layouts(ctx context.Context, paths []string) (map[string]*layout, error) {
	found, err := x.work.Ask(ctx, fmt.Sprintf("SELECT f.path, s.name, %s FROM (SELECT *, row_number() OVER () AS r "+
		"FROM parquet_schema(%s)) AS s JOIN noemata.files AS f ON f.local = s.file_name ORDER BY f.n, s.r", elementSQL,
		x.literals(paths)))
	if err != nil {
		return nil, err
	}
	byFile := map[string][][]any{}
	for _, row := range found {
		byFile[row[0].(string)] = append(byFile[row[0].(string)], row)
	}
	layouts := map[string]*layout{}
	for _, path := range paths {
		l, err := x.layoutOf(byFile[path])
		if err != nil {
			return nil, fmt.Errorf("the file %s: %w", path, err)
		}
		layouts[path] = l
	}
	return layouts, nil
}

func (x *scan) layoutOf(elements [][]any) (*layout, error) {
	if len(elements) == 0 {
		return nil, errors.New("it has no schema")
	}
	l := &layout{named: map[int]string{}, below: map[int]string{}}
	var text strings.Builder
	for at := 1; at < len(elements); {
		name, id := elements[at][1].(string), int(elements[at][2].(int64))
		end := subtree(elements, at)
		if id < 0 {
			if id = x.mapped(name); id < 0 {
				return nil, fmt.Errorf("its column %s has no field number, and the table has no mapping of names", name)
			}
		}
		var below strings.Builder
		for _, e := range elements[at+1 : end] {
			fmt.Fprintf(&below, "%q %d %d %q;", e[1], e[2], e[3], e[4])
		}
		l.named[id], l.below[id] = name, below.String()
		fmt.Fprintf(&text, "%q %d %q {%s};", name, id, elements[at][4], below.String())
		at = end
	}
	l.text = text.String()
	return l, nil
}

// subtree is where the elements end that a column is made of.
func subtree(elements [][]any, at int) int {
	end := at + 1
	for children := elements[at][3].(int64); children > 0 && end < len(elements); children-- {
		end = subtree(elements, end)
	}
	return end
}

// mapped is the field number of a column of a file that has none, by the table's mapping of names; -1 for none.
func (x *scan) mapped(name string) int {
	for _, f := range x.t.NameMapping() {
		if f.FieldID != nil && slices.Contains(f.Names, name) {
			return *f.FieldID
		}
	}
	return -1
}

// column is an expression of a column's values in files of a layout.
func (x *scan) column(field iceberg.NestedField, c schema.Column, l *layout) (string, error) {
	to := typeIn(c, field.Type)
	name, has := l.named[field.ID]
	switch {
	case !has && field.InitialDefault != nil:
		return "", fmt.Errorf("the column %s has a value for rows of before it, and that is not read", field.Name)
	case !has:
		return "CAST(NULL AS " + to + ")", nil
	}
	value := "r." + schema.Quote(name)
	if _, nested := field.Type.(iceberg.NestedType); nested {
		if err := x.sameBelow(field, l.below[field.ID]); err != nil {
			return "", err
		}
		return "CAST(to_json(" + value + ") AS VARCHAR)", nil
	}
	if value = "CAST(" + value + " AS " + duckType(field.Type) + ")"; to != duckType(field.Type) {
		if duckType(field.Type) == "BLOB" {
			return `'\x' || lower(hex(` + value + "))", nil
		}
		return "CAST(" + value + " AS VARCHAR)", nil
	}
	return value, nil
}

// sameBelow makes sure that what is below a nested column is called in a file as it is now: it is read by its names.
func (x *scan) sameBelow(field iceberg.NestedField, below string) error {
	var check func(t iceberg.Type) error
	check = func(t iceberg.Type) error {
		nested, is := t.(iceberg.NestedType)
		if !is {
			return nil
		}
		for _, f := range nested.Fields() {
			if _, structure := t.(*iceberg.StructType); structure && !strings.Contains(below, fmt.Sprintf("%q %d ", f.Name,
				f.ID)) {
				return fmt.Errorf("the column %s has files from before its part %s was there, or was called so", field.Name, f.Name)
			}
			if err := check(f.Type); err != nil {
				return err
			}
		}
		return nil
	}
	return check(field.Type)
}

// equalities tells files with deletes by values from others.
func equalities(p part) string {
	parts := valuesOf(p.FileScanTask)
	if p.but != nil {
		parts = append(append(parts, "but"), valuesOf(*p.but)...)
	}
	return strings.Join(parts, "\n")
}

func valuesOf(task table.FileScanTask) (files []string) {
	for _, d := range task.EqualityDeleteFiles {
		files = append(files, d.FilePath())
	}
	slices.Sort(files)
	return files
}

// selected is a SELECT of the rows of files of one layout, whose rows are deleted by the same values.
func (x *scan) selected(ctx context.Context, places []int, l *layout) (string, error) {
	columns := make([]string, len(x.of.Columns))
	for i, c := range x.of.Columns {
		field, has := x.t.Schema().FindFieldByName(c.Name)
		if !has {
			return "", fmt.Errorf("it has no column %s", c.Name)
		}
		value, err := x.column(field, c, l)
		if err != nil {
			return "", err
		}
		columns[i] = fmt.Sprintf("%s AS c%d", value, i)
	}
	names := make([]string, len(places))
	for i, at := range places {
		names[i] = x.parts[at].File.FilePath()
	}
	first := x.parts[places[0]]
	deleted, err := x.deleted(ctx, first.FileScanTask, l, false)
	if err != nil {
		return "", err
	}
	where := "NOT (" + deleted + ")"
	if first.but != nil {
		if deleted, err = x.deleted(ctx, *first.but, l, true); err != nil {
			return "", err
		}
		where += " AND (" + deleted + ")"
	}
	return fmt.Sprintf("SELECT %s FROM read_parquet(%s, filename = true, file_row_number = true) AS r WHERE %s",
		strings.Join(columns, ", "), x.literals(names), where), nil
}

// deleted is true of rows that are deleted, by the places that are noted or by the files of values that a task has.
func (x *scan) deleted(ctx context.Context, task table.FileScanTask, l *layout, again bool) (string, error) {
	conditions := []string{fmt.Sprintf("EXISTS (SELECT 1 FROM noemata.gone AS g JOIN noemata.files AS f ON f.path = g.path "+
		"WHERE g.again = %t AND f.local = r.filename AND g.pos = r.file_row_number)", again)}
	for _, d := range task.EqualityDeleteFiles {
		condition, err := x.equality(ctx, d, l)
		if err != nil {
			return "", err
		}
		conditions = append(conditions, condition)
	}
	return strings.Join(conditions, " OR "), nil
}

// equality is true of rows that a file of deletes by values deletes (Iceberg, Table Spec, Equality Delete Files).
func (x *scan) equality(ctx context.Context, d iceberg.DataFile, l *layout) (string, error) {
	if err := x.hold(ctx, []string{d.FilePath()}); err != nil {
		return "", err
	}
	found, err := x.work.Ask(ctx, fmt.Sprintf("SELECT 'd', name, %s FROM parquet_schema(%s)", elementSQL,
		x.literals([]string{d.FilePath()})))
	if err != nil {
		return "", err
	}
	its, err := x.layoutOf(found)
	if err != nil {
		return "", err
	}
	if len(d.EqualityFieldIDs()) == 0 {
		return "", fmt.Errorf("the file %s deletes by no column", d.FilePath())
	}
	var same []string
	for _, id := range d.EqualityFieldIDs() {
		field, known := x.fieldOf(id)
		theirs, has := its.named[id]
		if _, nested := field.Type.(iceberg.NestedType); !known || !has || nested {
			return "", fmt.Errorf("the file %s deletes by a column that it does not have", d.FilePath())
		}
		ours := "NULL"
		if name, has := l.named[id]; has {
			ours = "r." + schema.Quote(name)
		}
		to := duckType(field.Type)
		same = append(same, fmt.Sprintf("CAST(e.%s AS %s) IS NOT DISTINCT FROM CAST(%s AS %[2]s)", schema.Quote(theirs), to,
			ours))
	}
	return fmt.Sprintf("EXISTS (SELECT 1 FROM read_parquet(%s) AS e WHERE %s)", x.literals([]string{d.FilePath()}),
		strings.Join(same, " AND ")), nil
}

// fieldOf finds a column by its number, also one that the table has no more.
func (x *scan) fieldOf(id int) (iceberg.NestedField, bool) {
	if f, has := x.t.Schema().FindFieldByID(id); has {
		return f, true
	}
	for _, s := range x.t.Metadata().Schemas() {
		if f, has := s.FindFieldByID(id); has {
			return f, true
		}
	}
	return iceberg.NestedField{ID: id, Name: strconv.Itoa(id)}, false
}
