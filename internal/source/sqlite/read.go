package sqlite

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

// never matches: a value may be of another kind than its column's type says, so no filter is left to SQLite.
var never = regexp.MustCompile(`[^\s\S]`)

// grammar is how queries are written. Digests are taken here, of the rows that were read.
var grammar = source.SQL{
	Literal:  literal,
	Bytewise: func(text string) string { return "CAST(" + text + " AS TEXT) COLLATE BINARY" },
	After:    func(left, right []string) string { return list(left) + " > " + list(right) },
	UpTo:     func(left, right []string) string { return list(left) + " <= " + list(right) },
	NoTies:   true,
	Down:     " DESC", // nulls are last
	Texts:    never,
	Plain:    never,
}

func list(parts []string) string { return "(" + strings.Join(parts, ", ") + ")" }

// grammarOf is that of a query: an index can serve a watermark of a type that makes all its values texts.
func grammarOf(q source.Query) source.SQL {
	g := grammar
	if q.Watermark != nil && q.Watermark.Fallback == "" && q.Watermark.Column.Wire == wayText {
		g.Bytewise = func(text string) string { return text + " COLLATE BINARY" }
	}
	return g
}

// Values that a watermark cannot have sort after all others: texts and bytes after numbers, bytes after texts
// (sqlite.org/datatype3.html, 4.1).
func beyondAll(q source.Query) string {
	if q.Watermark.Column.Type.Kind == schema.Text {
		return "X''"
	}
	return "''"
}

// bare is the watermark without a conversion.
func bare(q source.Query) string {
	w := grammar.Column(q.Watermark.Column.Name)
	if q.Watermark.Fallback != "" {
		w = "coalesce(" + w + ", " + grammar.Column(q.Watermark.Fallback) + ")"
	}
	return w
}

// Highest is the largest watermark that is visible, among those that are of its kind.
func (s *Source) Highest(ctx context.Context, q source.Query) (string, error) {
	if err := s.sorts(ctx, q); err != nil {
		return "", err
	}
	var highest sql.NullString
	w := "max(" + grammarOf(q).Watermark(q) + ")"
	if q.Watermark.Column.Type.Kind == schema.Int64 {
		w = "CAST(" + w + " AS INTEGER)"
	}
	err := s.row(ctx, fmt.Sprintf("SELECT CAST(%s AS TEXT) FROM %s WHERE %s < %s", w, grammar.From(q), bare(q),
		beyondAll(q)), nil,
		&highest)
	return highest.String, err
}

// sorts makes sure that the watermark's values sort as their texts do, where the type does not say what they are.
func (s *Source) sorts(ctx context.Context, q source.Query) error {
	if q.Watermark.Column.Wire != wayAny {
		return nil
	}
	var number bool
	if err := s.row(ctx, fmt.Sprintf("SELECT EXISTS (SELECT 1 FROM %s WHERE %s < '')", grammar.From(q), bare(q)), nil,
		&number); err != nil || !number {
		return err
	}
	return problem.Newf(problem.Invalid, "Choose another watermark, or a query with its value as a number: CAST("+
		schema.Quote(q.Watermark.Column.Name)+" AS INTEGER).",
		"The watermark %s of %s holds numbers, which its type (%s) does not say; as texts they would sort otherwise, and rows "+
			"would be missed.", q.Watermark.Column.Name, q.Table.Name, orNone(q.Watermark.Column.Native))
}

// Nulls counts the rows whose watermark is null, or of another kind than its type promises.
func (s *Source) Nulls(ctx context.Context, q source.Query) (n int64, err error) {
	err = s.row(ctx, fmt.Sprintf("SELECT count(*) FROM %s WHERE %s IS NULL OR %[2]s >= %s", grammar.From(q), bare(q),
		beyondAll(q)), nil,
		&n)
	return n, err
}

// Count counts the rows of a query.
func (s *Source) Count(ctx context.Context, q source.Query) (n int64, err error) {
	err = s.row(ctx, "SELECT count(*) FROM "+grammar.From(q)+grammarOf(q).Where(q), nil, &n)
	return n, err
}

// Estimate is that of the table: SQLite does not tell what a condition would find.
func (s *Source) Estimate(ctx context.Context, q source.Query) (int64, error) {
	if q.Table.View {
		return -1, nil
	}
	return s.estimate(ctx, q.Table.Name.Table)
}

// Read reads the rows of a query.
func (s *Source) Read(ctx context.Context, q source.Query, sink func(rows.Batch) error) error {
	g := newGatherer(q, sink)
	from := " FROM " + grammar.From(q) + grammarOf(q).Where(q) + grammarOf(q).Order(q)
	return s.gather(ctx, "SELECT "+strings.Join(g.selected, ", ")+from, g)
}

// gather runs a query and gathers its rows.
func (s *Source) gather(ctx context.Context, query string, g *gatherer) error {
	if err := s.scan(ctx, query, g.into, g.row); err != nil {
		return err
	}
	return g.PassOn()
}

// scan is rows whose each may fail for a reason of its own, which is left as it is.
func (s *Source) scan(ctx context.Context, query string, into []any, each func() error) error {
	var failed error
	err := s.rows(ctx, query, nil, into, func() error {
		failed = each()
		return failed
	})
	if failed != nil {
		return failed
	}
	return err
}

// Digests reads the rows of each range: this process takes them in either case.
func (s *Source) Digests(ctx context.Context, q source.Query, ranges []source.KeyRange) ([]source.Digest, error) {
	digests := make([]source.Digest, len(ranges))
	g := newGatherer(source.Query{Table: q.Table}, nil)
	for i := range ranges {
		q.Keys = &ranges[i]
		query := "SELECT " + strings.Join(g.selected, ", ") + " FROM " + grammar.From(q) + grammarOf(q).Where(q)
		if err := s.scan(ctx, query, g.into, func() error { return digests[i].Add(digestOf(g.values)) }); err != nil {
			return nil, err
		}
	}
	return digests, nil
}

// gatherer makes batches of the rows of a query.
type gatherer struct {
	*rows.Batcher
	columns  []schema.Column
	selected []string
	table    int // how many of the columns are the table's own
	digest   int // place of the digest among the columns; -1 for none
	notNull  []bool
	key      []int
	values   []any // of the row
	into     []any // that they are scanned into
}

// newGatherer takes the columns as a plain column's value would not come: the driver makes times of some texts,
// which an
// expression's are not.
func newGatherer(q source.Query, sink func(rows.Batch) error) *gatherer {
	g := &gatherer{columns: slices.Clone(q.Table.Columns), table: len(q.Table.Columns), digest: -1}
	for _, c := range g.columns {
		g.selected = append(g.selected, "+"+grammar.Column(c.Name))
	}
	if q.ReadsWatermark() {
		w := q.Watermark.Column
		w.Name = "watermark"
		g.columns, g.selected = append(g.columns, w), append(g.selected, "+"+bare(q))
	}
	if q.Beyond != nil {
		g.columns = append(g.columns, schema.Column{Name: "beyond", Type: schema.Type{Kind: schema.Bool}, Wire: wayBool})
		g.selected = append(g.selected, grammarOf(q).Beyond(q))
	}
	g.values = make([]any, len(g.columns))
	for i := range g.values {
		g.into = append(g.into, &g.values[i])
	}
	if q.Digest {
		g.digest = len(g.columns)
		g.columns = append(g.columns, source.DigestColumn(wayText))
	}
	g.Batcher = rows.NewBatcher(g.columns, sink)
	if q.Batch > 0 {
		g.Most = q.Batch
	}
	g.key = schema.Indexes(g.columns, q.RowKey)
	for _, c := range g.columns {
		g.notNull = append(g.notNull, slices.Contains(q.NotNull, c.Name))
	}
	return g
}

func (g *gatherer) row() error {
	size := 8 * len(g.values)
	for i, v := range g.values {
		why := ""
		switch x := v.(type) {
		case nil:
			if g.notNull[i] {
				why = rows.IsNullKey
			}
		case string:
			size += len(x)
		case []byte:
			size += len(x)
		}
		if v != nil {
			why = misfit(g.columns[i].Wire, v)
		}
		if why != "" {
			return g.SetAside(g.aside(i, why), size)
		}
	}
	for i, v := range g.values {
		if v == nil {
			g.Fields[i].AppendNull()
		} else {
			put(g.Fields[i], v)
		}
	}
	if g.digest >= 0 {
		g.Fields[g.digest].(*array.StringBuilder).Append(digestOf(g.values[:g.table]))
	}
	return g.Add(size)
}

// aside is the row, whose column at a place cannot be stored.
func (g *gatherer) aside(place int, why string) rows.Aside {
	texts := make([]*string, len(g.values))
	for i, v := range g.values {
		if v != nil {
			text := shown(v)
			texts[i] = &text
		}
	}
	return rows.NewAside(g.columns[:g.table], texts, g.key, g.columns[place].Name, why)
}

// digestOf tells a row from others, by the kinds of its values and their bytes.
func digestOf(values []any) string {
	h := sha256.New()
	for _, v := range values {
		text := printed(v)
		_, _ = fmt.Fprintf(h, "%T %d:%s,", v, len(text), text)
	}
	return hex.EncodeToString(h.Sum(nil))
}

func orNone(declared string) string {
	if declared == "" {
		return "no type"
	}
	return declared
}
