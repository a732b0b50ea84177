//go:build duckdb_arrow

package lake

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/sqlmerge"
)

// Columns that tell where a row that was brought lies.
const (
	fileColumn = "noemata_lies_in"
	rowColumn  = "noemata_lies_at"
)

// tables are the tables of a lake as one transaction has them: those that statements reach are tables of a working
// space, with the rows that were brought and where each of them lies. What has become of them is written when the
// transaction ends.
type tables struct {
	lake    *Warehouse
	journal sqlmerge.Conn
	work    *duckdb.Scratch // nil until it is used
	locals  []*local
	numbers int      // of locals, so far
	written []string // files
	commit  string   // what the snapshots have in common that it makes
}

// local is a table in the working space.
type local struct {
	name    schema.Name
	table   *table.Table // as its pointer has it; nil where there is none
	number  int
	made    bool // it is a table there, or was; else it is a view, or not there
	seen    bool // it is a view
	whole   bool // all rows were brought
	brought int  // how often rows were
	files   map[string]int
	data    map[string]iceberg.DataFile // by path, as files
	deletes map[string]bool             // files of deletes that were read
	held    []string                    // files that are on the disk
	mark    string                      // of the snapshot that is read; empty is the newest one
	key     []string
	comment string // that was written in the working space
}

// beside names a table that is kept beside one of the working space.
func (l *local) beside(what string) string { return fmt.Sprintf("main.noemata_%s_%d", what, l.number) }

// fields are the columns that the table has in the lake.
func (l *local) fields() []iceberg.NestedField {
	if l.table == nil {
		return nil
	}
	return l.table.Schema().Fields()
}

func (t *tables) space(ctx context.Context) (sqlmerge.Conn, error) {
	if t.work != nil {
		return t.work, nil
	}
	folders, err := t.lake.files.Folders()
	if err != nil {
		return nil, err
	}
	writes := t.journal != nil
	memory := int64(workMemory)
	if writes {
		memory = max(memory, t.lake.memory.Load())
	}
	work, err := duckdb.OpenScratch(ctx, duckdb.Space{Memory: memory, Exhausted: t.exhausted(memory), Folders: folders,
		AsRead: asRead, What: t.lake.what, AsWritten: writes})
	if err != nil {
		return nil, err
	}
	t.work = work
	if writes { // one transaction, that comes to nothing here: so rows go to the disk as they come
		_, err = t.work.Exec(ctx, "BEGIN")
	}
	return t.work, err
}

// workMemory is how many bytes a transaction works in, at first and at most; what is more goes to a folder for
// temporary
// files. Rows of many columns with large values are read many at a time, and want more.
const (
	workMemory     = 256 << 20
	mostWorkMemory = 1 << 30
)

// exhausted explains that a transaction wants more memory than it had, and gives the next one more.
func (t *tables) exhausted(had int64) func(error) error {
	return func(err error) error {
		if t.journal == nil {
			return problem.Wrap(err, problem.Failed,
				fmt.Sprintf("A question to the %s needs more than %d MB of memory.", t.lake.what, had>>20),
				"Ask for less at a time.")
		}
		what := fmt.Sprintf("A commit to the %s needs more than %d MB of memory.", t.lake.what, had>>20)
		if had >= mostWorkMemory {
			return problem.Wrap(err, problem.Failed, what, "Divide the feed into several, with fewer tables or columns each.")
		}
		next := min(2*had, mostWorkMemory)
		t.lake.memory.Store(max(next, t.lake.memory.Load()))
		return problem.Wrap(err, problem.Failed, what,
			fmt.Sprintf("The next run has %d MB for it, and goes on from what was committed.", next>>20))
	}
}

// Close lets the working space go, and the files that were read.
func (t *tables) Close() {
	if t.work != nil {
		t.work.Close()
		t.work = nil
	}
	for _, l := range t.locals {
		t.lake.files.Release(l.held...)
		l.held = nil
	}
}

// Exec runs a statement in the working space.
func (t *tables) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	c, err := t.space(ctx)
	if err != nil {
		return 0, err
	}
	return c.Exec(ctx, sql, args...)
}

// Ask asks the working space.
func (t *tables) Ask(ctx context.Context, sql string, args ...any) ([][]any, error) {
	c, err := t.space(ctx)
	if err != nil {
		return nil, err
	}
	return c.Ask(ctx, sql, args...)
}

// Insert adds rows to a table of the working space.
func (t *tables) Insert(ctx context.Context, into string, columns []schema.Column, record arrow.RecordBatch,
	raw *rows.Raw) error {
	c, err := t.space(ctx)
	if err != nil {
		return err
	}
	return c.Insert(ctx, into, columns, record, raw)
}

// Read reads rows of a table.
func (t *tables) Read(ctx context.Context, q warehouse.Query, sink func(arrow.RecordBatch) error) error {
	l, err := t.local(ctx, q.Target.Name)
	if err != nil {
		return err
	}
	if l.table == nil && !l.made && q.Target.Name.Schema == controlSchema {
		return t.journal.Read(ctx, q, sink)
	}
	if err := t.Bring(ctx, q.Target.Name, sqlmerge.Looking); err != nil {
		return err
	}
	return t.work.Read(ctx, q, sink)
}

// Columns are those of a table, as the transaction has it.
func (t *tables) Columns(ctx context.Context, name schema.Name) (map[string]string, error) {
	if l := t.known(name); l != nil && l.made {
		all, err := t.work.Columns(ctx, name)
		delete(all, fileColumn)
		delete(all, rowColumn)
		return all, err
	}
	l, err := t.local(ctx, name)
	columns := map[string]string{}
	if err != nil {
		return nil, err
	}
	for _, f := range l.fields() {
		columns[f.Name] = nameOf(f.Type)
	}
	return columns, nil
}

func (t *tables) known(name schema.Name) *local {
	i := slices.IndexFunc(t.locals, func(l *local) bool { return l.name == name })
	if i < 0 {
		return nil
	}
	return t.locals[i]
}

// local finds a table in the catalogue, once in a transaction.
func (t *tables) local(ctx context.Context, name schema.Name) (*local, error) {
	if l := t.known(name); l != nil {
		return l, nil
	}
	found, err := t.lake.load(ctx, t.journal, name)
	if err != nil {
		return nil, err
	}
	return t.localOf(name, found)
}

// localOf is a table as its pointer has it, or none.
func (t *tables) localOf(name schema.Name, found *table.Table) (*local, error) {
	l := &local{name: name, table: found, number: t.numbers, files: map[string]int{},
		data: map[string]iceberg.DataFile{}, deletes: map[string]bool{}}
	t.numbers++
	for _, f := range l.fields() {
		if nameOf(f.Type) == "" {
			return nil, problem.Newf(problem.Held, "Name the table otherwise in the feed.",
				"The table %s of the %s has the column %s of the type %s, which Noemata does not write.", name, t.lake.what, f.Name,
				f.Type)
		}
	}
	t.locals = append(t.locals, l)
	return l, nil
}

// Bring has rows of a table in the working space.
func (t *tables) Bring(ctx context.Context, name schema.Name, w sqlmerge.Which) error {
	l, err := t.local(ctx, name)
	if err != nil {
		return err
	}
	if _, err := t.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+schema.Quote(name.Schema)); err != nil {
		return err
	}
	if l.table == nil { // who needs it makes it
		l.made = true
		return nil
	}
	if w.Look && !l.made {
		return t.show(ctx, l, false)
	}
	if err := t.make(ctx, l); err != nil {
		return err
	}
	if len(w.Key) > 0 {
		l.key = w.Key
	}
	if w.None || l.whole {
		return nil
	}
	return t.fetch(ctx, l, w)
}

// show makes a view of a table that nothing is changed in; an empty one has its columns alone.
func (t *tables) show(ctx context.Context, l *local, empty bool) error {
	if l.seen {
		return nil
	}
	if err := t.beside(ctx, l); err != nil {
		return err
	}
	scan, err := t.scanOf(ctx, l, nil, "")
	if !empty {
		scan, err = t.scan(ctx, l, nil, "")
	}
	if err != nil {
		return err
	}
	_, err = t.Exec(ctx, fmt.Sprintf("CREATE VIEW %s AS SELECT %s FROM (%s) AS t", l.name.Quoted(), l.names(), scan))
	l.seen = err == nil
	return err
}

func (l *local) names() string {
	names := make([]string, len(l.fields()))
	for i, f := range l.fields() {
		names[i] = schema.Quote(f.Name)
	}
	return strings.Join(names, ", ")
}

// beside makes the tables that tell of a table's files.
func (t *tables) beside(ctx context.Context, l *local) error {
	for _, sql := range []string{
		"CREATE TABLE IF NOT EXISTS " + l.beside("files") + " (n INTEGER, path VARCHAR, local VARCHAR)",
		"CREATE TABLE IF NOT EXISTS " + l.beside("deletes") + " (path VARCHAR, pos BIGINT)",
	} {
		if _, err := t.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// make makes the table in the working space, without rows.
func (t *tables) make(ctx context.Context, l *local) error {
	if l.made {
		return nil
	}
	if l.seen {
		if _, err := t.Exec(ctx, "DROP VIEW "+l.name.Quoted()); err != nil {
			return err
		}
		l.seen = false
	}
	if err := t.beside(ctx, l); err != nil {
		return err
	}
	columns := make([]string, len(l.fields()))
	for i, f := range l.fields() {
		columns[i] = schema.Quote(f.Name) + " " + nameOf(f.Type)
	}
	columns = append(columns, fileColumn+" INTEGER", rowColumn+" BIGINT")
	for _, sql := range []string{
		fmt.Sprintf("CREATE TABLE %s (%s)", l.name.Quoted(), strings.Join(columns, ", ")),
		fmt.Sprintf("CREATE TABLE %s (%s, batch INTEGER)", l.beside("brought"), strings.Join(columns, ", ")),
	} {
		if _, err := t.Exec(ctx, sql); err != nil {
			return err
		}
	}
	l.made = true
	return nil
}

// fetch brings rows that were not brought before.
func (t *tables) fetch(ctx context.Context, l *local, w sqlmerge.Which) error {
	filter, err := t.bounds(ctx, l, w)
	if err != nil {
		return err
	}
	// The keys are looked for before anything else is: so most of what a file has is passed by.
	among := ""
	if len(w.Key) > 0 {
		same := make([]string, len(w.Key))
		for i, k := range w.Key {
			field, has := l.table.Schema().FindFieldByName(k)
			if !has {
				return fmt.Errorf("the table %s has no column %s", l.name, k)
			}
			same[i] = fmt.Sprintf("k.%s = s.c%d", schema.Quote(w.Columns[i]), field.ID)
		}
		among = "EXISTS (SELECT 1 FROM " + w.Among + " AS k WHERE " + strings.Join(same, " AND ") + ")"
	}
	scan, err := t.scan(ctx, l, filter, among)
	if err != nil {
		return err
	}
	conditions := []string{"true"}
	if l.brought > 0 {
		conditions = append(conditions,
			fmt.Sprintf("NOT EXISTS (SELECT 1 FROM %s AS b WHERE b.%s = t.%[2]s AND b.%s = t.%[3]s)",
				l.beside("brought"), fileColumn, rowColumn))
	}
	l.brought++
	columns := l.names() + ", " + fileColumn + ", " + rowColumn
	for _, sql := range []string{
		fmt.Sprintf("INSERT INTO %s (%s, batch) SELECT %[2]s, %d FROM (%s) AS t WHERE %s", l.beside("brought"), columns,
			l.brought, scan, strings.Join(conditions, " AND ")),
		fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s WHERE batch = %d", l.name.Quoted(), columns,
			l.beside("brought"), l.brought),
	} {
		if _, err := t.Exec(ctx, sql); err != nil {
			return err
		}
	}
	l.whole = len(w.Key) == 0
	return nil
}

// bounds are what the first column of a key can be of the rows that are brought, so that files without them are not
// read.
func (t *tables) bounds(ctx context.Context, l *local, w sqlmerge.Which) (iceberg.BooleanExpression, error) {
	if len(w.Key) == 0 {
		return nil, nil
	}
	field, ok := l.table.Schema().FindFieldByName(w.Key[0])
	if !ok {
		return nil, nil
	}
	found, err := t.Ask(ctx, fmt.Sprintf("SELECT CAST(min(k.%s) AS VARCHAR), CAST(max(k.%[1]s) AS VARCHAR) FROM %s AS k",
		schema.Quote(w.Columns[0]), w.Among))
	if err != nil {
		return nil, err
	}
	low, _ := found[0][0].(string)
	high, some := found[0][1].(string)
	if !some {
		return iceberg.AlwaysFalse{}, nil
	}
	return between(field, low, high), nil
}

// scan is a SELECT of the rows of a table with their places, of the files that may have some that a filter lets
// through, and of these that meet a condition.
func (t *tables) scan(ctx context.Context, l *local, filter iceberg.BooleanExpression, among string) (string, error) {
	options := []table.ScanOption{table.WithCaseSensitive(true)}
	if filter != nil {
		options = append(options, table.WithRowFilter(filter))
	}
	var tasks []table.FileScanTask
	if l.table.CurrentSnapshot() != nil {
		var err error
		scan := l.table.Scan(options...)
		if l.mark != "" {
			if scan, err = scan.UseRef(l.mark); err != nil {
				return "", t.lake.unreadable(err, l.name)
			}
		}
		if tasks, err = scan.PlanFiles(ctx); err != nil {
			return "", t.lake.unreadable(err, l.name)
		}
	}
	return t.scanOf(ctx, l, tasks, among)
}

// scanOf is a scan of some files. The condition has the rows of a file as s, with columns called c and their number.
func (t *tables) scanOf(ctx context.Context, l *local, tasks []table.FileScanTask, among string) (string, error) {
	if len(tasks) == 0 {
		columns := make([]string, len(l.fields()))
		for i, f := range l.fields() {
			columns[i] = "CAST(NULL AS " + nameOf(f.Type) + ") AS " + schema.Quote(f.Name)
		}
		return fmt.Sprintf("SELECT %s, 0 AS %s, 0 AS %s WHERE false", strings.Join(columns, ", "), fileColumn, rowColumn), nil
	}
	paths, err := t.note(ctx, l, tasks)
	if err != nil {
		return "", err
	}
	var mapped, columns []string
	for _, f := range l.fields() {
		mapped = append(mapped, fmt.Sprintf("%d: {name: 'c%[1]d', type: '%s', default_value: NULL}", f.ID, nameOf(f.Type)))
		columns = append(columns, fmt.Sprintf("s.c%d AS %s", f.ID, schema.Quote(f.Name)))
	}
	// DuckDB does not know how few rows there are: it is not asked to join what need not be.
	read := fmt.Sprintf("SELECT * FROM read_parquet([%s], schema = MAP {%s}, filename = true, file_row_number = true) AS s",
		strings.Join(paths, ", "), strings.Join(mapped, ", "))
	from, number, where := "("+read+") AS s", fmt.Sprint(l.files[tasks[0].File.FilePath()]), ""
	if among != "" {
		from = "(" + read + " WHERE " + among + ") AS s"
	}
	if len(tasks) > 1 {
		from, number = from+" JOIN "+l.beside("files")+" AS f ON f.local = s.filename", "f.n"
	}
	if slices.ContainsFunc(tasks, func(task table.FileScanTask) bool { return len(task.DeleteFiles) > 0 }) {
		where = fmt.Sprintf(" WHERE NOT EXISTS (SELECT 1 FROM (SELECT e.n, d.pos FROM %s AS d JOIN %s AS e ON e.path = d.path) AS d "+
			"WHERE d.n = %s AND d.pos = s.file_row_number)", l.beside("deletes"), l.beside("files"), number)
	}
	return fmt.Sprintf("SELECT %s, %s AS %s, s.file_row_number AS %s FROM %s%s", strings.Join(columns, ", "), number,
		fileColumn, rowColumn, from, where), nil
}

// note keeps which files are read, and which rows of them are deleted. It gives the paths of those with rows, as
// literals.
func (t *tables) note(ctx context.Context, l *local, tasks []table.FileScanTask) ([]string, error) {
	var all, fresh, gone []string // files with rows, those of them that are new here, and new files of deletes
	for _, task := range tasks {
		if len(task.EqualityDeleteFiles)+len(task.DeletionVectorFiles) > 0 {
			return nil, problem.Newf(problem.Held, "Have the other program compact the table, and keep it from writing it.",
				"The table %s of the %s was written by another program, in a form that Noemata does not read.", l.name, t.lake.what)
		}
		at := task.File.FilePath()
		all = append(all, at)
		if _, seen := l.files[at]; !seen {
			l.files[at], l.data[at] = len(l.files), task.File
			fresh = append(fresh, at)
		}
		for _, d := range task.DeleteFiles {
			if !l.deletes[d.FilePath()] {
				l.deletes[d.FilePath()] = true
				gone = append(gone, d.FilePath())
			}
		}
	}
	paths, err := t.hold(ctx, l, all)
	if err != nil {
		return nil, err
	}
	local := map[string]string{}
	for i, at := range all {
		local[at], paths[i] = paths[i], schema.Literal(paths[i])
	}
	entries := make([]string, len(fresh))
	for i, at := range fresh {
		entries[i] = fmt.Sprintf("(%d, %s, %s)", l.files[at], schema.Literal(at), schema.Literal(local[at]))
	}
	for chunk := range slices.Chunk(entries, 500) {
		if _, err := t.Exec(ctx, "INSERT INTO "+l.beside("files")+" VALUES "+strings.Join(chunk, ", ")); err != nil {
			return nil, err
		}
	}
	for chunk := range slices.Chunk(gone, 500) {
		held, err := t.hold(ctx, l, chunk)
		if err != nil {
			return nil, err
		}
		for i := range held {
			held[i] = schema.Literal(held[i])
		}
		if _, err := t.Exec(ctx, fmt.Sprintf("INSERT INTO %s SELECT file_path, pos FROM read_parquet([%s])",
			l.beside("deletes"), strings.Join(held, ", "))); err != nil {
			return nil, err
		}
	}
	return paths, nil
}

// hold has files on the disk for as long as their table is here.
func (t *tables) hold(ctx context.Context, l *local, names []string) ([]string, error) {
	paths, err := t.lake.files.Hold(ctx, names...)
	if err != nil {
		return nil, t.lake.unreadable(err, l.name)
	}
	l.held = append(l.held, names...)
	return paths, nil
}
