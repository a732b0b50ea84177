//go:build duckdb_arrow

package lake

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	duckdbgo "github.com/duckdb/duckdb-go/v2"
	"github.com/google/uuid"

	"noemata/internal/core/schema"
	"noemata/internal/lakefiles"
	"noemata/internal/warehouse"
)

// column is one of a table of the working space.
type column struct {
	iceberg.NestedField
	duckdb string // its type there
}

// write writes what has become of the tables, and gives the moves of their pointers.
func (t *tables) write(ctx context.Context) (moves []pointer, err error) {
	if t.work == nil {
		return nil, nil
	}
	t.commit = uuid.NewString()
	for _, sql := range []string{"COMMIT", "BEGIN"} { // rows of its own transaction are read by one thread
		if _, err := t.work.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	for _, l := range t.locals {
		if !l.made {
			continue
		}
		p, err := t.writeOne(ctx, l)
		if err != nil {
			return nil, err
		}
		if p != (pointer{}) {
			moves = append(moves, p)
		}
	}
	return moves, nil
}

// writeOne writes what has become of a table. The pointer is that of nothing where it is as it was.
func (t *tables) writeOne(ctx context.Context, l *local) (pointer, error) {
	has, placed, err := t.described(ctx, l)
	if err == nil && len(has) > 0 {
		err = t.comments(ctx, l, has)
	}
	switch {
	case err != nil:
		return pointer{}, err
	case len(has) == 0 && l.table == nil:
		return pointer{}, nil
	case len(has) == 0:
		return pointer{name: l.name, from: l.table.MetadataLocation()}, nil
	}
	if l.table != nil && l.brought == 0 && placed {
		// Rows are added and none is changed: whoever has added some meanwhile, to the same columns, is not in the way.
		now, err := t.lake.loadFor(ctx, t.journal, l.name, pointerSQL+" FOR UPDATE")
		if err != nil || now == nil || !now.Schema().Equals(l.table.Schema()) {
			return pointer{}, cmp.Or(err, warehouse.Overtaken("the table "+l.name.Display()))
		}
		l.table = now
	}
	tbl, s, fresh, err := t.evolved(l, has)
	if err != nil {
		return pointer{}, err
	}
	from := ""
	if l.table != nil {
		from = l.table.MetadataLocation()
	}
	rows, deletes, dead, err := t.files(ctx, l, tbl, has, placed)
	if err != nil {
		return pointer{}, err
	}
	if len(rows)+len(deletes)+len(dead) == 0 {
		if !fresh {
			return pointer{}, nil
		}
		if s.next, err = writeMetadata(ctx, s.files, s.base, from); err != nil {
			return pointer{}, t.lake.unwritten(err)
		}
		return pointer{l.name, from, s.next}, nil
	}
	tx := tbl.NewTransaction()
	at := iceberg.Properties{lakefiles.CommitProperty: t.commit}
	if len(dead) > 0 {
		err = tx.ReplaceDataFilesWithDataFiles(ctx, dead, rows, at, table.WithoutAutoNameMapping())
		rows = nil
	}
	switch {
	case err != nil:
	case len(deletes) > 0:
		err = tx.NewRowDelta(at).AddRows(rows...).AddDeletes(deletes...).Commit(ctx)
	default:
		err = tx.AddDataFiles(ctx, rows, at, table.WithoutAutoNameMapping(), table.WithoutDuplicateCheck())
	}
	if err == nil {
		_, err = tx.Commit(ctx)
	}
	if err != nil {
		return pointer{}, t.lake.unwritten(err)
	}
	return pointer{l.name, from, s.next}, nil
}

// described are the columns of a table in the working space; placed tells whether its rows know their places. There are
// none where it was dropped.
func (t *tables) described(ctx context.Context, l *local) (has []column, placed bool, err error) {
	all, err := t.work.Columns(ctx, l.name)
	if err != nil || len(all) == 0 {
		return nil, false, err
	}
	found, err := t.Ask(ctx, "DESCRIBE "+l.name.Quoted())
	if err != nil {
		return nil, false, err
	}
	for _, row := range found {
		name, typeName := row[0].(string), row[1].(string)
		if name == fileColumn || name == rowColumn {
			placed = true
			continue
		}
		of, err := typeOf(typeName)
		if err != nil {
			return nil, false, fmt.Errorf("the column %s of %s: %w", name, l.name, err)
		}
		has = append(has, column{iceberg.NestedField{ID: len(has) + 1, Name: name, Type: of}, typeName})
	}
	return has, placed, nil
}

// comments are what was written to a table and its columns in the working space.
func (t *tables) comments(ctx context.Context, l *local, has []column) error {
	found, err := t.Ask(ctx,
		fmt.Sprintf("SELECT '', comment FROM duckdb_tables() WHERE schema_name = %[1]s AND table_name = %[2]s AND "+
			"comment IS NOT NULL UNION ALL SELECT column_name, comment FROM duckdb_columns() WHERE schema_name = %[1]s AND table_name = "+
			"%[2]s AND comment IS NOT NULL", schema.Literal(l.name.Schema), schema.Literal(l.name.Table)))
	for _, row := range found {
		name, text := row[0].(string), row[1].(string)
		if name == "" {
			l.comment = text
		}
		for i := range has {
			if has[i].Name == name {
				has[i].Doc = text
			}
		}
	}
	return err
}

// evolved is the table with the columns that it has by now, which are given the numbers that they have there. A column
// of another type is another column. fresh tells that its metadata is another.
func (t *tables) evolved(l *local, has []column) (tbl *table.Table, s *staged, fresh bool, err error) {
	if l.table == nil {
		fields := make([]iceberg.NestedField, len(has))
		for i, c := range has {
			fields[i] = c.NestedField
		}
		tbl, s, err = t.lake.newTable(l.name, fields, l.comment)
		return tbl, s, true, err
	}
	s = &staged{files: t.lake.files, base: l.table.Metadata(), location: l.table.MetadataLocation()}
	tbl = table.New(l.table.Identifier(), s.base, s.location, t.lake.files.IO, s)
	if tbl, fresh, err = t.undivided(l, tbl, s, has); err != nil {
		return nil, nil, false, err
	}
	update, changes := tbl.NewTransaction().UpdateSchema(true, true), false
	before, now, docs := map[string]iceberg.Type{}, map[string]bool{}, map[string]string{}
	for _, c := range has {
		now[c.Name] = true
	}
	for _, f := range l.fields() {
		before[f.Name], docs[f.Name] = f.Type, f.Doc
		if !now[f.Name] {
			update, changes = update.DeleteColumn([]string{f.Name}), true
		}
	}
	for _, c := range has {
		was, there := before[c.Name]
		if there && was.Equals(c.Type) {
			if c.Doc != "" && c.Doc != docs[c.Name] {
				doc := iceberg.Optional[string]{Val: c.Doc, Valid: true}
				update, changes = update.UpdateColumn([]string{c.Name}, table.ColumnUpdate{Doc: doc}), true
			}
			continue
		}
		if there {
			update = update.DeleteColumn([]string{c.Name})
		}
		update, changes = update.AddColumn([]string{c.Name}, c.Type, c.Doc, false, nil), true
	}
	commented := l.comment != "" && l.comment != l.table.Properties()[commentProperty]
	if changes || commented {
		fresh = true
		var updates []table.Update
		if changes {
			if updates, _, err = update.BuildUpdates(); err != nil {
				return nil, nil, false, err
			}
		}
		if commented {
			updates = append(updates, table.NewSetPropertiesUpdate(iceberg.Properties{commentProperty: l.comment}))
		}
		if s.base, err = table.UpdateTableMetadata(s.base, updates, s.location); err != nil {
			return nil, nil, false, err
		}
		tbl = table.New(l.table.Identifier(), s.base, s.location, t.lake.files.IO, s)
	}
	for i, c := range has {
		f, ok := tbl.Schema().FindFieldByName(c.Name)
		if !ok {
			return nil, nil, false, fmt.Errorf("the column %s of %s has no number", c.Name, l.name)
		}
		has[i].ID = f.ID
	}
	return tbl, s, fresh, nil
}

// undivided is the table without what files are divided by of columns that go, or become others.
func (t *tables) undivided(l *local, tbl *table.Table, s *staged, has []column) (*table.Table, bool, error) {
	spec := tbl.Spec()
	update, changes := tbl.NewTransaction().UpdateSpec(true), false
	for _, f := range spec.Fields() {
		source, ok := tbl.Schema().FindFieldByID(f.SourceID())
		if ok && f.Transform.String() != "void" &&
			!slices.ContainsFunc(has, func(c column) bool { return c.Name == source.Name && c.Type.Equals(source.Type) }) {
			update, changes = update.RemoveField(f.Name), true
		}
	}
	if !changes {
		return tbl, false, nil
	}
	updates, _, err := update.BuildUpdates()
	if err == nil {
		s.base, err = table.UpdateTableMetadata(s.base, updates, s.location)
	}
	t.lake.divided.Delete(l.name)
	return table.New(l.table.Identifier(), s.base, s.location, t.lake.files.IO, s), true, err
}

// files writes the rows that are new or were changed, and the places of those that are no more, or were changed. Files
// that have no rows any more are dead.
func (t *tables) files(ctx context.Context, l *local, tbl *table.Table, has []column, placed bool) (rows, deletes,
	dead []iceberg.DataFile, err error) {
	where := "true"
	if l.table != nil && placed {
		if where, err = t.compare(ctx, l, has); err != nil {
			return nil, nil, nil, err
		}
	} else if l.table != nil { // it was made anew
		if _, err := t.Exec(ctx, fmt.Sprintf("CREATE TABLE %s AS SELECT %s, %s FROM %s", l.beside("gone"), fileColumn,
			rowColumn, l.beside("brought"))); err != nil {
			return nil, nil, nil, err
		}
	}
	key := l.key
	if len(key) > 0 && l.brought == 0 { // often they come in order
		if ordered, err := t.inOrder(ctx, l, key[0]); err != nil {
			return nil, nil, nil, err
		} else if ordered {
			key = nil
		}
	}
	if rows, err = t.writeRows(ctx, tbl, has, l.name.Quoted()+" AS t WHERE "+where, key); err != nil {
		return nil, nil, nil, err
	}
	if l.table == nil || l.brought == 0 {
		return rows, nil, nil, nil
	}
	if dead, err = t.dead(ctx, l); err != nil {
		return nil, nil, nil, err
	}
	deletes, err = t.writeDeletes(ctx, l, tbl)
	return rows, deletes, dead, err
}

// dead are the files all of whose rows are gone. Their places need not be written.
func (t *tables) dead(ctx context.Context, l *local) (dead []iceberg.DataFile, err error) {
	found, err := t.Ask(ctx, fmt.Sprintf("SELECT f.path, CAST(f.n AS BIGINT), count(*) + (SELECT count(DISTINCT d.pos) "+
		"FROM %s AS d WHERE d.path = f.path) FROM %s AS g JOIN %s AS f ON f.n = g.%s GROUP BY f.path, f.n",
		l.beside("deletes"), l.beside("gone"), l.beside("files"), fileColumn))
	if err != nil {
		return nil, err
	}
	for _, row := range found {
		file := l.data[row[0].(string)]
		if file.Count() != row[2].(int64) {
			continue
		}
		dead = append(dead, file)
		if _, err := t.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s = %d", l.beside("gone"), fileColumn,
			row[1])); err != nil {
			return nil, err
		}
	}
	return dead, nil
}

// compare finds which of the rows that were brought are no more, or others, and gives the condition of rows to be
// written.
func (t *tables) compare(ctx context.Context, l *local, has []column) (string, error) {
	if l.brought == 0 {
		return "true", nil
	}
	before := map[string]iceberg.Type{}
	for _, f := range l.fields() {
		before[f.Name] = f.Type
	}
	differ := []string{"false"}
	for _, c := range has {
		name := schema.Quote(c.Name)
		if was, there := before[c.Name]; !there || !was.Equals(c.Type) {
			differ = append(differ, "t."+name+" IS NOT NULL")
			continue
		}
		kind := schema.Text
		if c.duckdb == "FLOAT" || c.duckdb == "DOUBLE" {
			kind = schema.Float64
		}
		differ = append(differ, dialect.Distinct(schema.Type{Kind: kind}, "b."+name, "t."+name))
	}
	same := fmt.Sprintf("t.%s = b.%[1]s AND t.%s = b.%[2]s", fileColumn, rowColumn)
	for _, sql := range []string{
		fmt.Sprintf("CREATE TABLE %s AS SELECT b.%s, b.%s FROM %s AS b JOIN %s AS t ON %s WHERE %s", l.beside("changed"),
			fileColumn, rowColumn, l.beside("brought"), l.name.Quoted(), same, strings.Join(differ, " OR ")),
		fmt.Sprintf("CREATE TABLE %s AS SELECT %s, %s FROM %s AS b WHERE NOT EXISTS (SELECT 1 FROM %s AS t WHERE %s) UNION ALL "+
			"FROM %s", l.beside("gone"), fileColumn, rowColumn, l.beside("brought"), l.name.Quoted(), same, l.beside("changed")),
	} {
		if _, err := t.Exec(ctx, sql); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("t.%s IS NULL OR EXISTS (SELECT 1 FROM %s AS b WHERE %s)", fileColumn, l.beside("changed"), same),
		nil
}

// inOrder tells whether the rows of a table in the working space lie there in the order of a column, but for those that
// are near each other: then they need not be put in order.
func (t *tables) inOrder(ctx context.Context, l *local, column string) (bool, error) {
	found, err := t.Ask(ctx,
		fmt.Sprintf("SELECT coalesce(bool_and(low >= before), true) FROM (SELECT low, lag(high) OVER "+
			"(ORDER BY n) AS before FROM (SELECT rowid // %d AS n, min(%s) AS low, max(%[2]s) AS high FROM %s GROUP BY 1))",
			rowGroup, schema.Quote(column), l.name.Quoted()))
	if err != nil {
		return false, err
	}
	return found[0][0].(bool), nil
}

// rowGroup is how many rows DuckDB keeps together, in its tables and in files.
const rowGroup = 122880

// writeRows writes rows, which are called t, into files of a table, in the order of a key: one for each part that it is
// divided into, and none where there are none.
func (t *tables) writeRows(ctx context.Context, tbl *table.Table, has []column, from string,
	key []string) (files []iceberg.DataFile, err error) {
	parts := []piece{{from: from}}
	if spec := tbl.Spec(); !spec.IsUnpartitioned() {
		if parts, err = t.pieces(ctx, tbl, has, from); err != nil {
			return nil, err
		}
	}
	for _, p := range parts {
		file, err := t.writeFile(ctx, tbl, has, p, key)
		if err != nil {
			return nil, err
		}
		if file != nil {
			files = append(files, file)
		}
	}
	return files, nil
}

// writeFile writes the rows of a piece into a file; nil where there are none.
func (t *tables) writeFile(ctx context.Context, tbl *table.Table, has []column, p piece,
	key []string) (iceberg.DataFile, error) {
	from := p.from
	signed := []string{"false"}
	names, numbers := make([]string, len(has)), make([]string, len(has))
	for i, c := range has {
		names[i] = schema.Quote(c.Name)
		numbers[i] = fmt.Sprintf("%s: %d", names[i], c.ID)
		if c.duckdb == "FLOAT" || c.duckdb == "DOUBLE" {
			signed = append(signed, fmt.Sprintf("EXISTS (SELECT 1 FROM %s AND t.%s = 0 AND signbit(t.%[2]s))", from, names[i]))
		}
	}
	found, err := t.Ask(ctx, "SELECT EXISTS (SELECT 1 FROM "+from+"), "+strings.Join(signed, " OR "))
	if err != nil || !found[0][0].(bool) {
		return nil, err
	}
	sql := "SELECT " + strings.Join(names, ", ") + " FROM " + from
	if len(key) > 0 {
		sql += " ORDER BY " + schema.QuoteAll("t.", key)
	}
	described, err := json.Marshal(tbl.Schema())
	if err != nil {
		return nil, err
	}
	more := `, KV_METADATA {"iceberg.schema": ` + schema.Literal(string(described)) + `}` // as other writers do
	if found[0][1].(bool) {
		more += ", DICTIONARY_SIZE_LIMIT 0" // a dictionary takes -0 for 0
	}
	file, err := t.copyTo(ctx, tbl, sql, numbers, more)
	if err != nil {
		return nil, err
	}
	b, err := iceberg.NewDataFileBuilder(tbl.Spec(), iceberg.EntryContentData, file.at, iceberg.ParquetFile, p.values,
		logicalTypes(tbl, tbl.Spec()), nil, file.rows, file.size)
	if err != nil {
		return nil, err
	}
	counts, nulls := map[int]int64{}, map[int]int64{}
	for _, c := range has {
		if n, known := file.columns[c.Name].nulls(); known {
			counts[c.ID], nulls[c.ID] = file.rows, n
		}
	}
	low, high, err := t.bounded(ctx, has, file)
	if err != nil {
		return nil, err
	}
	return b.ValueCounts(counts).NullValueCounts(nulls).LowerBoundValues(low).UpperBoundValues(high).Build(), nil
}

// bounded are the bounds of a file's columns in the form that the format has for them.
func (t *tables) bounded(ctx context.Context, has []column, file copied) (low, high map[int][]byte, err error) {
	low, high = map[int][]byte{}, map[int][]byte{}
	for _, c := range has {
		for of, bounds := range map[string]map[int][]byte{"min": low, "max": high} {
			text, there := file.columns[c.Name][of]
			if there {
				text, there, err = t.bound(ctx, c, text)
			}
			if err != nil {
				return nil, nil, err
			}
			if data := boundOf(c.duckdb, text, of == "max"); there && data != nil {
				bounds[c.ID] = data
			}
		}
	}
	return low, high, nil
}

// bound gives a bound that DuckDB tells in the text that boundOf reads.
func (t *tables) bound(ctx context.Context, c column, text string) (string, bool, error) {
	counts := countsOf(c.duckdb, "CAST("+schema.Literal(text)+" AS "+c.duckdb+")")
	if counts == "" {
		return text, true, nil
	}
	found, err := t.Ask(ctx, "SELECT CAST("+counts+" AS VARCHAR)")
	if err != nil {
		return "", false, err
	}
	text, there := found[0][0].(string)
	return text, there, nil
}

// Field numbers of the columns of a file of deletes by place (Iceberg, Table Spec, Position Delete Files).
const (
	pathField  = 2147483546
	placeField = 2147483545
)

// writeDeletes writes the places of rows that are no more into files: one for each part that the table is divided into,
// or was when their rows were written.
func (t *tables) writeDeletes(ctx context.Context, l *local, tbl *table.Table) (files []iceberg.DataFile, err error) {
	found, err := t.Ask(ctx,
		fmt.Sprintf("SELECT DISTINCT f.path, CAST(f.n AS BIGINT) FROM %s AS g JOIN %s AS f ON f.n = g.%s",
			l.beside("gone"), l.beside("files"), fileColumn))
	if err != nil {
		return nil, err
	}
	type group struct {
		of      iceberg.DataFile
		numbers []string
		paths   []string
	}
	groups := map[string]*group{}
	for _, row := range found {
		file := l.data[row[0].(string)]
		at := placeOf(file)
		if groups[at] == nil {
			groups[at] = &group{of: file}
		}
		groups[at].numbers = append(groups[at].numbers, fmt.Sprint(row[1]))
		groups[at].paths = append(groups[at].paths, row[0].(string))
	}
	for _, at := range slices.Sorted(maps.Keys(groups)) {
		g := groups[at]
		sql := fmt.Sprintf("SELECT f.path AS file_path, g.%s AS pos FROM %s AS g JOIN %s AS f ON f.n = g.%s WHERE f.n IN (%s) ORDER BY 1, 2",
			rowColumn, l.beside("gone"), l.beside("files"), fileColumn, strings.Join(g.numbers, ", "))
		numbers := []string{fmt.Sprintf("file_path: %d", pathField), fmt.Sprintf("pos: %d", placeField)}
		file, err := t.copyTo(ctx, tbl, sql, numbers, "")
		if err != nil {
			return nil, err
		}
		spec := tbl.Metadata().PartitionSpecByID(int(g.of.SpecID()))
		if spec == nil {
			return nil, t.lake.unreadable(fmt.Errorf("it does not tell how the file %s is divided", g.of.FilePath()), l.name)
		}
		b, err := iceberg.NewDataFileBuilder(*spec, iceberg.EntryContentPosDeletes, file.at, iceberg.ParquetFile,
			g.of.Partition(),
			logicalTypes(tbl, *spec), nil, file.rows, file.size)
		if err != nil {
			return nil, err
		}
		// Which files it is about, so that those who read others pass it by.
		b.LowerBoundValues(map[int][]byte{pathField: []byte(slices.Min(g.paths))})
		b.UpperBoundValues(map[int][]byte{pathField: []byte(slices.Max(g.paths))})
		files = append(files, b.Build())
	}
	return files, nil
}

// copied is a file that was written.
type copied struct {
	at         string
	rows, size int64
	columns    map[string]statistics // by name
}

// statistics are what DuckDB tells of a column of a file, by what it calls it: min and max are values, or beyond them.
type statistics map[string]string

// nulls are how many of the values are null.
func (s statistics) nulls() (n int64, known bool) {
	_, err := fmt.Sscan(s["null_count"], &n)
	return n, err == nil
}

// copyTo writes what a question gives into a file of a table, which is there to stay when it returns.
func (t *tables) copyTo(ctx context.Context, tbl *table.Table, sql string, numbers []string, more string) (copied,
	error) {
	c := copied{at: tbl.Location() + "/data/" + uuid.NewString() + ".parquet", columns: map[string]statistics{}}
	path, err := t.lake.files.New(c.at)
	if err != nil {
		return c, err
	}
	t.written = append(t.written, c.at)
	found, err := t.Ask(ctx,
		fmt.Sprintf("COPY (%s) TO %s (FORMAT parquet, COMPRESSION zstd, RETURN_STATS, FIELD_IDS {%s}%s)", sql,
			schema.Literal(path), strings.Join(numbers, ", "), more))
	if err != nil {
		return c, err
	}
	if len(found) != 1 {
		return c, fmt.Errorf("DuckDB tells of %d files that it has written, instead of one", len(found))
	}
	rows, told := found[0][1].(uint64)
	all, described := found[0][4].(duckdbgo.OrderedMap)
	if !told || !described {
		return c, fmt.Errorf("DuckDB does not tell of the file that it has written: %v", found[0])
	}
	c.rows = int64(rows) //nolint:gosec // there are fewer
	for _, name := range all.Keys() {
		value, _ := all.Get(name)
		its := statistics{}
		if m, is := value.(duckdbgo.OrderedMap); is {
			for _, k := range m.Keys() {
				v, _ := m.Get(k)
				its[fmt.Sprint(k)] = fmt.Sprint(v)
			}
		}
		c.columns[unquoted(fmt.Sprint(name))] = its
	}
	c.size, err = t.lake.files.Keep(ctx, c.at)
	return c, err
}

// unquoted is a name that may be quoted.
func unquoted(name string) string {
	if inner, quoted := strings.CutPrefix(name, `"`); quoted && strings.HasSuffix(inner, `"`) {
		return strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
	}
	return name
}

func (w *Warehouse) unwritten(err error) error { return lakefiles.Unwritten(err, w.what) }

// forget removes the files that a transaction has written which came to nothing.
func (t *tables) forget() {
	t.lake.files.Remove(context.Background(), t.written...)
	t.written = nil
}
