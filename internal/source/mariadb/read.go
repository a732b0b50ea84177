package mariadb

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/statement"
)

// marker begins each statement that reads rows, so that our own transactions are known
// among the open ones.
const marker = "/* noemata reader */ "

// Moment reads the clock first. Every transaction that has written shows in
// INNODB_TRX with a number below 2^48; one that runs a statement may be about to. Those
// that are read-only, and our own, cannot leave rows behind.
func (s *Source) Moment(ctx context.Context) (m window.Moment, err error) {
	if err := s.row(ctx, "SELECT UTC_TIMESTAMP(6)", nil, &m.Clock); err != nil {
		return m, err
	}
	var id string
	err = s.rows(ctx, `SELECT concat(trx_mysql_thread_id, '/', trx_started, '/', IF(trx_id < 281474976710656, trx_id, '')) FROM information_schema.INNODB_TRX
WHERE NOT trx_is_read_only AND trx_mysql_thread_id <> CONNECTION_ID() AND (trx_id < 281474976710656 OR (trx_query IS NOT NULL AND trx_query NOT LIKE '`+marker+`%'))`, nil,
		[]any{&id}, func() error {
			m.Open = append(m.Open, id)
			return nil
		})
	if problem.Is(err, problem.NoPrivilege) {
		err = problem.Wrap(err, problem.NoPrivilege, fmt.Sprintf("User %q of %s may not see which transactions are open, so it is not known which rows are still to come.", s.settings.User, s.what), "GRANT PROCESS ON *.* TO the user.")
	}
	return m, err
}

// Zone is the time zone that sessions have when they choose none.
func (s *Source) Zone(ctx context.Context) (*time.Location, error) {
	var name string
	if err := s.row(ctx, "SELECT IF(@@global.time_zone = 'SYSTEM', @@system_time_zone, @@global.time_zone)", nil, &name); err != nil {
		return nil, err
	}
	var hours, minutes int
	if n, _ := fmt.Sscanf(name, "%d:%d", &hours, &minutes); n == 2 {
		if strings.HasPrefix(name, "-") {
			minutes = -minutes
		}
		return time.FixedZone(name, hours*3600+minutes*60), nil
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, fmt.Sprintf("The time zone %q of %s is not known here.", name, s.what), "Name the zone of the watermark in the feed: watermark: {zone: Europe/Berlin}.")
	}
	return zone, nil
}

// Highest is the largest watermark that is visible.
func (s *Source) Highest(ctx context.Context, q source.Query) (string, error) {
	var highest sql.NullString
	w := watermark(q)
	if q.Watermark.Column.Type.Kind == schema.Text {
		w = "CONVERT(max(" + w + ") USING utf8mb4)"
	} else {
		w = "CAST(max(" + w + ") AS CHAR)"
	}
	err := s.row(ctx, "SELECT "+w+" FROM "+from(q), nil, &highest)
	return highest.String, err
}

// Nulls counts the rows whose watermark is null.
func (s *Source) Nulls(ctx context.Context, q source.Query) (n int64, err error) {
	err = s.row(ctx, fmt.Sprintf("%sSELECT count(*) FROM %s WHERE %s IS NULL", marker, from(q), watermark(q)), nil, &n)
	return n, err
}

// Count counts the rows of a query.
func (s *Source) Count(ctx context.Context, q source.Query) (n int64, err error) {
	err = s.row(ctx, marker+"SELECT count(*) FROM "+from(q)+where(q), nil, &n)
	return n, err
}

// Estimate asks the planner.
func (s *Source) Estimate(ctx context.Context, q source.Query) (n int64, err error) {
	var estimate sql.NullInt64
	var rest [9]sql.NullString
	err = s.row(ctx, "EXPLAIN SELECT 1 FROM "+from(q)+where(q), nil, &rest[0], &rest[1], &rest[2], &rest[3], &rest[4], &rest[5], &rest[6], &rest[7], &estimate, &rest[8])
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return estimate.Int64, err
}

// Read reads the rows of a query.
func (s *Source) Read(ctx context.Context, q source.Query, sink func(rows.Batch) error) error {
	columns := slices.Clone(q.Table.Columns)
	list := selected(columns)
	if q.ReadsWatermark() {
		w := q.Watermark.Column
		w.Name = "watermark"
		columns, list = append(columns, w), append(list, watermark(q))
	}
	if q.Beyond != nil {
		columns, list = append(columns, schema.Column{Name: "beyond", Type: schema.Type{Kind: schema.Bool}, Wire: wayBit}), append(list, beyond(q))
	}
	key := q.Table.Key
	if len(q.NotNull) > 0 {
		key = q.NotNull
	}
	g := newGatherer(columns, len(q.Table.Columns), key, q.NotNull, sink)
	conn, err := s.connect(ctx, session...)
	if err != nil {
		return s.explain(err)
	}
	defer func() { _ = conn.Close() }()
	return s.gather(ctx, conn, "SELECT "+strings.Join(list, ", ")+" FROM "+from(q)+where(q)+order(q), g)
}

func selected(columns []schema.Column) []string {
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = expression(c, column(c.Name))
	}
	return list
}

// gather runs a query and gathers its rows.
func (s *Source) gather(ctx context.Context, conn *wire.Conn, query string, g *gatherer) error {
	done := statement.Begin(ctx, statement.Source, query)
	var failed error
	err := conn.Query(ctx, marker+query, func(r wire.Row) error {
		failed = g.row(r)
		return failed
	})
	done(g.total, err)
	if failed != nil {
		return failed
	}
	if err != nil {
		return s.explain(err)
	}
	return g.passOn()
}

// order is the ORDER BY of a query, and how many rows it gives.
func order(q source.Query) string {
	var list []string
	if q.Watermark != nil && q.Ordered {
		list = append(list, watermark(q))
	}
	if q.Watermark != nil && q.Newest {
		list = append(list, watermark(q)+" DESC") // nulls are last
	}
	if q.Ordered || q.Newest {
		for _, k := range q.Table.Key {
			list = append(list, column(k))
		}
	}
	text := ""
	if len(list) > 0 {
		text = " ORDER BY " + strings.Join(list, ", ")
	}
	switch {
	case q.Limit > 0 && (len(q.Table.Key) > 0 || !q.Ordered):
		text += fmt.Sprintf(" LIMIT %d", q.Limit)
	case q.Limit > 0:
		text += fmt.Sprintf(" OFFSET 0 ROWS FETCH FIRST %d ROWS WITH TIES", q.Limit)
	}
	return text
}

// from and column name the table by an alias, so that a column is meant and never what is
// selected under its name.
func from(q source.Query) string { return q.Table.Name.Quoted() + " AS t" }

func column(name string) string { return "t." + schema.Quote(name) }

// watermark is the expression that windows are cut from. Text is compared byte by byte, so
// that a collation does not change the order.
func watermark(q source.Query) string {
	w := column(q.Watermark.Column.Name)
	if q.Watermark.Fallback != "" {
		w = "coalesce(" + w + ", " + column(q.Watermark.Fallback) + ")"
	}
	if q.Watermark.Column.Type.Kind == schema.Text {
		w = "CAST(CONVERT(" + w + " USING utf8mb4) AS BINARY)"
	}
	return w
}

// where is the WHERE clause of a query's window, empty when there is none.
func where(q source.Query) string {
	if q.Watermark == nil {
		return ""
	}
	w := watermark(q)
	var conditions []string
	if low := q.Window.Low; !low.IsZero() {
		if q.Window.Inclusive {
			conditions = append(conditions, w+" >= "+literal(q.Watermark.Column, low.Value))
		} else {
			conditions = append(conditions, above(q, low))
		}
	}
	if q.Window.High != "" {
		conditions = append(conditions, w+" <= "+literal(q.Watermark.Column, q.Window.High))
	}
	if len(conditions) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(conditions, " AND ")
}

// above is true of rows that come after a position. It is written out, since the server
// finds no index for a comparison of lists.
func above(q source.Query, low position.Position) string {
	w, v := watermark(q), literal(q.Watermark.Column, low.Value)
	switch {
	case len(low.After) == 0:
		return w + " > " + v
	case len(low.After) != len(q.Table.Key): // of another key: rows at the value may be missing still
		return w + " >= " + v
	}
	return fmt.Sprintf("(%s >= %s AND (%[1]s > %[2]s OR %s))", w, v, after(q.Table, low.After))
}

// after is true of rows whose key comes after the given one.
func after(t schema.Table, key []string) string {
	var any []string
	same := ""
	for i, k := range t.Key {
		c, _ := t.Column(k)
		v := literal(c, key[i])
		any = append(any, "("+same+column(k)+" > "+v+")")
		same += column(k) + " = " + v + " AND "
	}
	return "(" + strings.Join(any, " OR ") + ")"
}

// beyond is true of rows that the position has not reached.
func beyond(q source.Query) string {
	if q.Watermark == nil || q.Beyond.IsZero() {
		return "0"
	}
	return "coalesce(" + above(q, *q.Beyond) + ", 1)"
}

// literal writes a value, given as schema.CellText has it, as an SQL literal.
func literal(c schema.Column, value string) string {
	switch c.Type.Kind {
	case schema.Int16, schema.Int32, schema.Int64, schema.Decimal, schema.Numeric, schema.Float32, schema.Float64:
		if _, err := strconv.ParseFloat(value, 64); err == nil {
			return value
		}
	case schema.Bool:
		return map[bool]string{true: "b'1'", false: "b'0'"}[value == "true"]
	case schema.Bytes:
		if content, ok := strings.CutPrefix(value, `\x`); ok {
			if _, err := hex.DecodeString(content); err == nil {
				return "X'" + content + "'"
			}
		}
	case schema.Timestamp, schema.TimestampTZ, schema.Date:
		us, err := schema.ParseTimestamp(value)
		switch {
		case err != nil:
		case us == schema.InfiniteTime:
			return "'9999-12-31 23:59:59.999999'"
		case us == -schema.InfiniteTime:
			return "'0000-00-00 00:00:00'"
		case c.Type.Kind == schema.Date:
			return schema.Literal(time.UnixMicro(us).UTC().Format("2006-01-02"))
		default:
			return schema.Literal(time.UnixMicro(us).UTC().Format("2006-01-02 15:04:05.000000"))
		}
	case schema.Interval:
		var months, days, micros int64
		if n, _ := fmt.Sscanf(value, "%d months %d days %d us", &months, &days, &micros); n == 3 {
			sign := ""
			if micros < 0 {
				sign, micros = "-", -micros
			}
			return fmt.Sprintf("'%s%02d:%02d:%02d.%06d'", sign, micros/3_600_000_000, micros/60_000_000%60, micros/1_000_000%60, micros%1_000_000)
		}
	case schema.Text, schema.JSON:
		if way, rest, _ := strings.Cut(c.Wire, " "); way == wayBit && rest != "" {
			return "b" + schema.Literal(value)
		}
	}
	return schema.Literal(value)
}

var allocator = memory.DefaultAllocator

// A batch is passed on when it holds this many rows or bytes. As many rows make a row group
// of DuckDB, which takes whole ones in quickest.
const (
	batchRows  = 122_880
	batchBytes = 16 << 20
)

// gatherer makes batches of rows.
type gatherer struct {
	columns []schema.Column
	table   int // how many of them are the table's own
	codecs  []codec
	notNull []bool
	key     []int
	sink    func(rows.Batch) error

	total     int64
	builder   *array.RecordBuilder
	fields    []array.Builder
	values    []scalar // of the row
	aside     []rows.Aside
	endsAside bool
	count     int
	size      int
}

func newGatherer(columns []schema.Column, table int, key, notNull []string, sink func(rows.Batch) error) *gatherer {
	g := &gatherer{columns: columns, table: table, sink: sink, values: make([]scalar, len(columns)), builder: array.NewRecordBuilder(allocator, schema.Arrow(columns))}
	g.fields = g.builder.Fields()
	for _, c := range columns {
		g.codecs = append(g.codecs, codecOf(c, nil))
		g.notNull = append(g.notNull, slices.Contains(notNull, c.Name))
	}
	g.key = placesOf(columns, key)
	return g
}

func placesOf(columns []schema.Column, names []string) (places []int) {
	for _, name := range names {
		places = append(places, slices.IndexFunc(columns, func(c schema.Column) bool { return c.Name == name }))
	}
	return places
}

func (g *gatherer) row(r wire.Row) error {
	g.total++
	for i := range g.values {
		v, ok := r.Value(i)
		reason := ""
		switch {
		case ok:
			g.values[i], reason = g.codecs[i].text(v)
			g.size += len(v) + 8
		case g.notNull[i]:
			reason = isNullKey
		default:
			g.values[i] = scalar{null: true}
			g.size += 8
		}
		if reason != "" {
			g.setAside(r, i, reason)
			return g.passOnIfFull()
		}
	}
	for i, x := range g.values {
		if x.null {
			g.fields[i].AppendNull()
		} else {
			g.codecs[i].put(g.fields[i], x)
		}
	}
	g.count++
	g.endsAside = false
	return g.passOnIfFull()
}

const isNullKey = "is null, and it is part of the key"

// setAside keeps a row as text.
func (g *gatherer) setAside(r wire.Row, place int, reason string) {
	texts := make([]*string, len(g.columns))
	for i := range g.columns {
		if v, ok := r.Value(i); ok {
			text := plainText(g.columns[i], g.codecs[i], v)
			texts[i] = &text
		}
	}
	g.aside = append(g.aside, asideOf(g.columns[:g.table], texts, g.key, place, reason))
	g.endsAside = true
}

// asideOf describes a row that is set aside for the sake of one column.
func asideOf(columns []schema.Column, texts []*string, key []int, place int, reason string) rows.Aside {
	a := rows.Aside{Row: map[string]*string{}, Values: texts, Reason: fmt.Sprintf("Column %s %s.", columns[min(place, len(columns)-1)].Name, reason)}
	for i, c := range columns {
		a.Row[c.Name] = texts[i]
	}
	if len(key) > 0 {
		parts := make([]string, len(key))
		for i, k := range key {
			if texts[k] != nil {
				parts[i] = *texts[k]
			}
		}
		a.Key = rows.KeyJSON(parts)
	}
	return a
}

// plainText is a value as schema.CellText writes it; one that cannot be stored, as the
// server prints it, without zero characters.
func plainText(c schema.Column, k codec, v []byte) string {
	x, reason := k.text(v)
	if reason != "" {
		return strings.ToValidUTF8(strings.ReplaceAll(string(v), "\x00", `\0`), "\uFFFD")
	}
	return cellText(c, k, x)
}

func cellText(c schema.Column, k codec, x scalar) string {
	b := array.NewBuilder(allocator, c.Type.Arrow())
	defer b.Release()
	k.put(b, x)
	text, _ := schema.CellText(b.NewArray(), 0, c.Type)
	return text
}

func (g *gatherer) passOnIfFull() error {
	if g.count+len(g.aside) < batchRows && g.size < batchBytes {
		return nil
	}
	return g.passOn()
}

// passOn hands over what has gathered.
func (g *gatherer) passOn() error {
	if g.count+len(g.aside) == 0 {
		return nil
	}
	batch := rows.Batch{Record: g.builder.NewRecordBatch(), Aside: g.aside, EndsAside: g.endsAside}
	if g.count == batchRows {
		g.builder.Reserve(batchRows) // more are likely to come
	}
	g.count, g.size, g.aside = 0, 0, nil
	return g.sink(batch)
}
