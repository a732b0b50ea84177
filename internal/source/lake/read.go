//go:build duckdb_arrow

package lake

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/iceberg-go/table"

	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
	"noemata/internal/warehouse/duckdb"
)

// grammar is how rows in a working space are asked for.
var grammar = source.SQL{
	Literal: func(c schema.Column, value string) string {
		if c.Type.Kind == schema.Bytes {
			return "unhex(" + schema.Literal(strings.TrimPrefix(value, `\x`)) + ")"
		}
		return "CAST(" + schema.Literal(value) + " AS " + duckdb.Dialect().Types[c.Type.Kind] + ")"
	},
	Bytewise: func(text string) string { return text },
	After:    func(left, right []string) string { return list(left) + " > " + list(right) },
	UpTo:     func(left, right []string) string { return list(left) + " <= " + list(right) },
	Digest: func(columns []schema.Column) string {
		parts := make([]string, len(columns))
		for i, c := range columns {
			text := "CAST(t." + schema.Quote(c.Name) + " AS VARCHAR)"
			if c.Type.Kind == schema.Bytes {
				text = "hex(t." + schema.Quote(c.Name) + ")"
			}
			parts[i] = "coalesce(length(" + text + ") || ':' || " + text + ", '-')"
		}
		return "md5(concat(" + strings.Join(parts, ", ',', ") + "))"
	},
	Half: func(from int) string {
		return fmt.Sprintf("CAST(coalesce(sum(CAST('0x' || substr(d, %d, 15) AS UBIGINT)), 0) AS VARCHAR)", from)
	},
	NoTies: true,
	Down:   " DESC NULLS LAST",
	Texts:  never,
	Plain:  never,
}

// never matches: what a filter leaves out is left out later.
var never = regexp.MustCompile(`[^\s\S]`)

func list(parts []string) string { return "(" + strings.Join(parts, ", ") + ")" }

// space has the rows of a table as of one snapshot, in a database of its own.
type space struct {
	mu   sync.Mutex
	of   string // the snapshot and the columns
	work *duckdb.Scratch
}

func (x *space) close() {
	if x.work != nil {
		x.work.Close()
		x.work = nil
	}
}

// fill reads files into a table of a working space.
func (s *Source) fill(ctx context.Context, work *duckdb.Scratch, into schema.Name, t *table.Table, of schema.Table,
	parts []part) error {
	if err := s.makeTable(ctx, work, into, t, of); err != nil {
		return err
	}
	return s.scan(ctx, work, t, of, parts, func(sql string) error {
		_, err := work.Exec(ctx, "INSERT INTO "+into.Quoted()+" "+sql)
		return err
	})
}

// rows has the rows of a table in a working space, as they are now, until the function that it gives is called.
func (s *Source) rows(ctx context.Context, of schema.Table) (*space, func(), error) {
	t, err := s.table(ctx, of.Name)
	if err != nil {
		return nil, nil, err
	}
	var id int64
	if now := t.CurrentSnapshot(); now != nil {
		id = now.SnapshotID
	}
	which := fmt.Sprintf("%s %d %q", t.Metadata().TableUUID(), id, of.ColumnNames())
	x := &s.space
	x.mu.Lock()
	if x.work != nil && x.of == which {
		return x, x.mu.Unlock, nil
	}
	x.close()
	err = func() error {
		tasks, err := s.filesOf(ctx, t, of.Name, t.CurrentSnapshot())
		if err != nil {
			return err
		}
		if x.work, err = s.openSpace(ctx); err != nil {
			return err
		}
		x.of = which
		return s.fill(ctx, x.work, of.Name, t, of, partsOf(tasks))
	}()
	if err != nil {
		x.close()
		x.mu.Unlock()
		return nil, nil, err
	}
	return x, x.mu.Unlock, nil
}

// Count counts the rows of a query.
func (s *Source) Count(ctx context.Context, q source.Query) (int64, error) {
	x, done, err := s.rows(ctx, q.Table)
	if err != nil {
		return 0, err
	}
	defer done()
	q = inSpace(q)
	found, err := x.work.Ask(ctx, "SELECT count(*) FROM "+grammar.From(q)+grammar.Where(q))
	if err != nil {
		return 0, err
	}
	return found[0][0].(int64), nil
}

// Estimate is what the newest snapshot says of the table.
func (s *Source) Estimate(ctx context.Context, q source.Query) (int64, error) {
	t, err := s.Table(ctx, q.Table.Name)
	return t.Rows, err
}

// Digests gives the digest of each range of the query's rows.
func (s *Source) Digests(ctx context.Context, q source.Query, ranges []source.KeyRange) ([]source.Digest, error) {
	x, done, err := s.rows(ctx, q.Table)
	if err != nil {
		return nil, err
	}
	defer done()
	found, err := x.work.Ask(ctx, "SELECT CAST(\"at\" AS BIGINT), n, first, second FROM ("+grammar.Digests(inSpace(q),
		ranges)+
		") AS x(\"at\", n, first, second)")
	if err != nil {
		return nil, err
	}
	digests := make([]source.Digest, len(ranges))
	for _, row := range found {
		at, n := row[0].(int64), row[1].(int64)
		if digests[at], err = source.ParseHalves(n, [2]string{row[2].(string), row[3].(string)}); err != nil {
			return nil, err
		}
	}
	return digests, nil
}

// errEnough ends a scan of which no more is wanted.
var errEnough = errors.New("enough")

// Read reads the rows of a query. The newest of a table are any: files have no order.
func (s *Source) Read(ctx context.Context, q source.Query, sink func(rows.Batch) error) error {
	if q.Watermark != nil {
		return errNoWatermark
	}
	g := newGatherer(q, sink)
	if q.Keys != nil || q.Only != nil || q.Ordered || q.Digest || q.Limit > 0 && !q.Newest {
		return s.readSpace(ctx, q, g)
	}
	t, err := s.table(ctx, q.Table.Name)
	if err != nil {
		return err
	}
	tasks, err := s.filesOf(ctx, t, q.Table.Name, t.CurrentSnapshot())
	if err != nil {
		return err
	}
	g.most = q.Limit
	if err := s.readFiles(ctx, t, q.Table, tasks, g); err != nil && !errors.Is(err, errEnough) {
		return err
	}
	return g.PassOn()
}

// readFiles reads the rows of files.
func (s *Source) readFiles(ctx context.Context, t *table.Table, of schema.Table, tasks []table.FileScanTask,
	g *gatherer) error {
	work, err := s.openSpace(ctx)
	if err != nil {
		return err
	}
	defer work.Close()
	err = s.scan(ctx, work, t, of, partsOf(tasks), func(sql string) error { return work.Select(ctx, sql, g.take) })
	if g.failed != nil { // not for the sake of files
		return g.failed
	}
	return err
}

// inSpace is a query with its columns called as in a working space.
func inSpace(q source.Query) source.Query {
	its := numbered(q.Table)
	if q.Only != nil {
		only := source.Only{Values: q.Only.Values}
		for _, at := range schema.Indexes(q.Table.Columns, q.Only.Columns) {
			only.Columns = append(only.Columns, its.Columns[at].Name)
		}
		q.Only = &only
	}
	q.Table, q.Filter = its, nil
	return q
}

// readSpace reads the rows of a query that wants some of them, or in an order.
func (s *Source) readSpace(ctx context.Context, q source.Query, g *gatherer) error {
	x, done, err := s.rows(ctx, q.Table)
	if err != nil {
		return err
	}
	defer done()
	q = inSpace(q)
	selected := []string{schema.QuoteAll("t.", q.Table.ColumnNames())}
	if q.Beyond != nil {
		selected = append(selected, "false")
	}
	if q.Digest {
		selected = append(selected, grammar.Digest(q.Table.Columns))
	}
	if err := x.work.Select(ctx, "SELECT "+strings.Join(selected,
		", ")+" FROM "+grammar.From(q)+grammar.Where(q)+grammar.Order(q),
		g.take); err != nil {
		return err
	}
	return g.PassOn()
}

// gatherer makes batches of the rows of a query.
type gatherer struct {
	*rows.Batcher
	columns []schema.Column
	table   int // how many of the columns are the table's own
	key     []int
	notNull []bool
	most    int64 // rows; then it fails with errEnough; 0 for all
	failed  error // of whoever takes the rows
}

func newGatherer(q source.Query, sink func(rows.Batch) error) *gatherer {
	g := &gatherer{columns: slices.Clone(q.Table.Columns), table: len(q.Table.Columns)}
	if q.Beyond != nil {
		g.columns = append(g.columns, schema.Column{Name: "beyond", Type: schema.Type{Kind: schema.Bool}, Wire: "beyond"})
	}
	if q.Digest {
		g.columns = append(g.columns, source.DigestColumn("digest"))
	}
	g.Batcher = rows.NewBatcher(g.columns, func(b rows.Batch) error {
		g.failed = sink(b)
		return g.failed
	})
	if q.Batch > 0 {
		g.Most = q.Batch
	}
	g.key = schema.Indexes(g.columns, q.RowKey)
	for _, c := range g.columns {
		g.notNull = append(g.notNull, slices.Contains(q.NotNull, c.Name))
	}
	return g
}

// misfit finds a column whose value in a row cannot be stored, and why; -1 for none.
func misfit(cells []cell, row int) (at int, why string) {
	for i := range cells {
		if why = cells[i].misfit(row); why != "" {
			return i, why
		}
	}
	return -1, ""
}

// take takes the rows of a record.
func (g *gatherer) take(record arrow.RecordBatch) error {
	cells, err := cellsOf(record, g.columns)
	if err != nil {
		return err
	}
	for row := range int(record.NumRows()) {
		if g.most > 0 && g.Total >= g.most {
			return errEnough
		}
		if err := g.one(cells, row); err != nil {
			return err
		}
	}
	return nil
}

func (g *gatherer) one(cells []cell, row int) error {
	at, why := misfit(cells, row)
	for i := range cells {
		if why == "" && g.notNull[i] && cells[i].values.IsNull(row) {
			at, why = i, rows.IsNullKey
		}
	}
	if why != "" {
		return g.SetAside(asideOf(cells, g.table, g.key, row, at, why), 64*len(cells))
	}
	size := 0
	for i := range cells {
		size += 8 + cells[i].append(g.Fields[i], row)
	}
	return g.Add(size)
}

// asideOf is a row that cannot be stored for the sake of the column at a place.
func asideOf(cells []cell, own int, key []int, row, at int, why string) rows.Aside {
	columns, texts := make([]schema.Column, len(cells)), make([]*string, len(cells))
	for i := range cells {
		columns[i], texts[i] = cells[i].column, cells[i].text(row)
	}
	return rows.NewAside(columns[:own], texts, key, columns[at].Name, why)
}
