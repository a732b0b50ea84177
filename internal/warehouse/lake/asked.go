//go:build duckdb_arrow

package lake

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/sqlmerge"
)

// A lake is asked in a working space, in which its tables are views of their files. Which files these are is read from
// all pointers at once: so a question sees one cut, and goes on reading the files of then, which upkeep leaves for a
// day.

const pointersSQL = `SELECT table_namespace, table_name, metadata_location FROM public.iceberg_tables
WHERE catalog_name = $1 AND table_namespace <> '` + controlSchema + `' ORDER BY 1, 2`

// conversation answers questions about a lake.
type conversation struct {
	warehouse.Conversation
	tables *tables
	cut    [][]any          // the pointers that are seen until End; nil outside of what Begin began
	seen   map[string]shown // by table
	mark   string           // what is seen; nothing is what tables hold now
}

// shown is a view of a table.
type shown struct {
	at    string // the place of its metadata
	empty bool   // it has columns and no rows: nothing has named the table yet
}

// Converse begins a conversation in a working space of its own.
func (w *Warehouse) Converse(ctx context.Context, may warehouse.May) (warehouse.Conversation, error) {
	t := &tables{lake: w}
	if _, err := t.space(ctx); err != nil {
		return nil, err
	}
	about := t.work.Converse(func(schema string) bool { return schema != "main" && may(schema) }) // that is ours
	return &conversation{Conversation: about, tables: t, seen: map[string]shown{}}, nil
}

// Begin has all questions until End see what was committed by now: files do not change, so the pointers are enough.
func (c *conversation) Begin(ctx context.Context) error {
	if err := c.publish(ctx, "freshness keys relations"); err != nil {
		return err
	}
	found, err := c.tables.lake.pointers(ctx)
	if err == nil {
		c.cut = append([][]any{}, found...)
	}
	return err
}

// End ends what Begin began.
func (c *conversation) End() { c.cut = nil }

// Borrow has a table of another warehouse in the working space.
func (c *conversation) Borrow(ctx context.Context, from string, t schema.Table,
	next func() (arrow.RecordBatch, error)) error {
	return c.tables.work.Lend(ctx, from, t, next)
}

// Needs are the columns that a question names.
func (c *conversation) Needs(ctx context.Context, sql string) (columns map[string]bool, all bool, err error) {
	return c.tables.work.Needs(ctx, sql)
}

// Close lets the working space go.
func (c *conversation) Close() { c.tables.Close() }

// Tables lists the tables that may be asked.
func (c *conversation) Tables(ctx context.Context) ([]schema.Table, error) {
	if err := c.look(ctx, ""); err != nil {
		return nil, err
	}
	return c.Conversation.Tables(ctx)
}

// Prepare checks a question.
func (c *conversation) Prepare(ctx context.Context, sql string) (warehouse.Question, error) {
	if err := c.look(ctx, sql); err != nil {
		return warehouse.Question{}, err
	}
	return c.Conversation.Prepare(ctx, sql)
}

// Ask gives the answer to a question that was prepared.
func (c *conversation) Ask(ctx context.Context, q warehouse.Question, values []*string) (warehouse.Answer, error) {
	if err := c.look(ctx, q.Runs); err != nil {
		return nil, err
	}
	return c.Conversation.Ask(ctx, q, values)
}

// ofAll matches what may be about the columns of all tables.
var ofAll = regexp.MustCompile(`(?i)\bpg_|information_schema|duckdb_|\bSHOW\b|\bDESCRIBE\b|\bSUMMARIZE\b|::\s*reg`)

// look makes views of tables as their pointers are now, where they have moved: with their rows of those that a question
// may name, and without where it may be about all.
func (c *conversation) look(ctx context.Context, sql string) error {
	found := c.cut
	if found == nil {
		if err := c.publish(ctx, sql); err != nil {
			return err
		}
		var err error
		if found, err = c.tables.lake.pointers(ctx); err != nil {
			return err
		}
	}
	all := sql == "" || ofAll.MatchString(sql)
	sql = strings.ToLower(strings.ReplaceAll(sql, `""`, `"`))
	there := map[string]bool{}
	for _, row := range found {
		name := schema.Name{Schema: row[0].(string), Table: row[1].(string)}
		at, _ := row[2].(string)
		there[name.Quoted()] = true
		named := strings.Contains(sql, strings.ToLower(name.Table))
		if seen := c.seen[name.Quoted()]; seen.at == at && !(seen.empty && named) || !named && !all {
			continue
		}
		if err := c.forget(ctx, name.Quoted()); err != nil {
			return err
		}
		if err := c.show(ctx, name, at, !named); err != nil {
			return err
		}
		c.seen[name.Quoted()] = shown{at, !named}
	}
	for name := range c.seen {
		if !there[name] {
			if err := c.forget(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// publish has what Noemata tells those who ask of its journal: with its rows, where a question may name it. It is read
// before the pointers are, so that freshness promises no more than rows have.
func (c *conversation) publish(ctx context.Context, sql string) error {
	sql = strings.ToLower(sql)
	all := sql == "" || ofAll.MatchString(sql)
	for _, t := range warehouse.Published {
		named := strings.Contains(sql, t.Name.Table)
		if !named && !all {
			continue
		}
		if err := c.publishOne(ctx, t, named); err != nil {
			return err
		}
	}
	return nil
}

func (c *conversation) publishOne(ctx context.Context, t schema.Table, rows bool) error {
	for _, sql := range []string{"CREATE SCHEMA IF NOT EXISTS " + schema.Quote(t.Name.Schema),
		"DROP TABLE IF EXISTS " + t.Name.Quoted(), dialect.CreateTableOf(t.Name, t.Columns)} {
		if _, err := c.tables.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if !rows {
		return nil
	}
	keeper, err := c.tables.lake.keeper.Connect(ctx)
	if err != nil {
		return err
	}
	defer keeper.Close()
	if has, err := keeper.Columns(ctx, t.Name); err != nil || len(has) < len(t.Columns) {
		return err // nothing was written yet
	}
	q := warehouse.Query{Target: warehouse.Target{Name: t.Name}, Columns: t.Columns}
	return keeper.Read(ctx, q, func(record arrow.RecordBatch) error {
		return c.tables.Insert(ctx, t.Name.Quoted(), t.Columns, record, nil)
	})
}

// pointers are those of all tables, as of one moment.
func (w *Warehouse) pointers(ctx context.Context) (found [][]any, err error) {
	return found, w.inCatalogue(ctx, func(c sqlmerge.Conn) error {
		found, err = c.Ask(ctx, pointersSQL, catalogueName)
		return err
	})
}

// show makes a view of a table and, of a history, the function that gives it as it was at a moment.
func (c *conversation) show(ctx context.Context, name schema.Name, at string, empty bool) error {
	t := c.tables
	tbl, err := t.lake.at(ctx, name, at)
	if err != nil {
		return err
	}
	if c.mark != "" && tbl.SnapshotByName(c.mark) == nil {
		return nil
	}
	l, err := t.localOf(name, tbl)
	if err != nil {
		return err
	}
	l.mark = c.mark
	if _, err := t.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+schema.Quote(name.Schema)); err != nil {
		return err
	}
	if err := t.show(ctx, l, empty); err != nil {
		return err
	}
	for _, sql := range duckdb.Dialect().History(l.target()) {
		if _, err := t.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// target is what the columns of a table tell of it: of a history, which of them were added; of another, nothing.
func (l *local) target() warehouse.Target {
	roles := warehouse.Adds(feed.KeepHistory, true)
	for _, f := range l.fields() {
		prefix, ends := strings.CutSuffix(f.Name, string(warehouse.Until))
		added := map[string]warehouse.Role{}
		for _, r := range roles {
			if _, has := l.table.Schema().FindFieldByName(prefix + string(r)); has {
				added[prefix+string(r)] = r
			}
		}
		if !ends || len(added) < len(roles) {
			continue
		}
		t := warehouse.Target{Name: l.name, Keep: feed.KeepHistory, Prefix: prefix}
		for _, f := range l.fields() {
			t.Columns = append(t.Columns, warehouse.Column{Column: schema.Column{Name: f.Name}, Role: added[f.Name]})
		}
		return t
	}
	return warehouse.Target{}
}

// forget drops the view of a table.
func (c *conversation) forget(ctx context.Context, name string) error {
	t := c.tables
	if c.seen[name].at == "" {
		return nil
	}
	delete(c.seen, name)
	i := slices.IndexFunc(t.locals, func(l *local) bool { return l.name.Quoted() == name })
	if i < 0 { // it was not there at the mark
		return nil
	}
	l := t.locals[i]
	t.locals = slices.Delete(t.locals, i, i+1)
	defer t.lake.files.Release(l.held...)
	for _, sql := range []string{"DROP VIEW " + name, "DROP TABLE " + l.beside("files"),
		"DROP TABLE " + l.beside("deletes"), "DROP MACRO TABLE IF EXISTS " + warehouse.AsOfName(l.name).Quoted()} {
		if _, err := t.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

var (
	_ warehouse.Conversation = (*conversation)(nil)
	_ warehouse.Borrowing    = (*conversation)(nil)
)
