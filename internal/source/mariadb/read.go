package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"fmt"
	mathrand "math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

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

// The server makes its list of transactions anew only when nobody has read it for a tenth
// of a second (mariadb.com/kb/en/information-schema-innodb_trx-table).
const (
	listAge  = 110 * time.Millisecond
	freshFor = 5 * time.Second
	mayWrite = `COMMAND IN ('Query', 'Execute') AND ID <> CONNECTION_ID() AND INFO IS NOT NULL AND INFO NOT LIKE '` +
		marker + `%' AND NOT INFO REGEXP '^[[:space:]]*(select|show|explain|describe|kill|set|use)[[:space:]]'`
	isWriting = `NOT t.trx_is_read_only AND (t.trx_id < 281474976710656 OR t.trx_query IS NOT NULL)`
)

// Moment reads the clock first; then the statements that run, one of which may have fixed
// its time and wait for a lock before it is a transaction; then the transactions. Those that
// are read-only, and our own, cannot leave rows behind. A transaction keeps its name, which
// is its session and its start, when it begins to write. The list of transactions is known
// to be fresh when it has the very statement that reads it.
func (s *Reader) Moment(ctx context.Context) (m window.Moment, err error) {
	if err := s.Row(ctx, "SELECT UTC_TIMESTAMP(6)", nil, &m.Clock); err != nil {
		return m, err
	}
	var id string
	if err := s.Rows(ctx, "SELECT concat(ID, '?', coalesce("+s.server.Statement+", '')), ID FROM "+
		"information_schema.PROCESSLIST AS p WHERE "+mayWrite,
		nil, []any{&id, new(string)}, func() error {
			m.Open = append(m.Open, id)
			return nil
		}); err != nil {
		if problem.Is(err, problem.NoPrivilege) && s.server.Lists != "" {
			err = s.notTold(ctx, err, "SELECT", s.server.Lists)
		}
		return m, err
	}
	writing, err := s.Transactions(ctx, "concat(t.trx_mysql_thread_id, '/', t.trx_started)",
		"t.trx_mysql_thread_id <> 0")
	m.Open = append(m.Open, writing...)
	return m, err
}

// Transactions lists, each by an expression in SQL, the open transactions t that may write and a
// condition holds for.
func (s *Reader) Transactions(ctx context.Context, name, condition string) (list []string, err error) {
	alone, err := s.listing(ctx)
	if err != nil {
		return nil, err
	}
	defer alone()
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, s.Explain(err)
	}
	defer func() { _ = conn.Close() }()
	if _, err := conn.ExecContext(ctx, beginSnapshot+", READ ONLY"); err != nil {
		return nil, s.Explain(err)
	}
	defer rollBack(ctx, conn)
	var id string
	var ours bool
	for deadline, pause := time.Now().Add(freshFor), listAge; ; pause = listAge + mathrand.N(8*listAge) {
		list = list[:0]
		fresh := false
		query := fmt.Sprintf("/* noemata reader %s */ SELECT %s, t.trx_query LIKE '/* noemata reader %[1]s%%' AND "+
			"t.trx_mysql_thread_id = CONNECTION_ID() FROM information_schema.INNODB_TRX AS t WHERE "+
			"t.trx_mysql_thread_id = CONNECTION_ID() OR %s AND (%s)", rand.Text(), name, isWriting, condition)
		err = scan(ctx, conn, query, []any{&orEmpty{&id}, &orFalse{&ours}}, func() error {
			if fresh = fresh || ours; !ours {
				list = append(list, id)
			}
			return nil
		})
		if err = s.noticed(s.Explain(err)); err != nil || fresh {
			break
		}
		if time.Now().After(deadline) {
			return nil, problem.Newf(problem.Failed,
				"Find who reads information_schema.INNODB_TRX all the time, such as a monitor, and let it pause; "+
					"the next run tries again.",
				"The server of %s has not made its list of open transactions anew for %s, so it is not known which "+
					"rows are still to come.", s.what, freshFor)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pause):
		}
	}
	if problem.Is(err, problem.NoPrivilege) {
		err = s.notTold(ctx, err, "PROCESS", "*.*")
	}
	return list, err
}

// listings has a place for each server, which who reads its list of transactions takes: several who read
// it again and again would keep it from becoming fresh. Other processes are given way to by chance.
var listings sync.Map

func (s *Reader) listing(ctx context.Context) (done func(), err error) {
	place, _ := listings.LoadOrStore(s.settings.Address(), make(chan struct{}, 1))
	select {
	case place.(chan struct{}) <- struct{}{}:
		return func() { <-place.(chan struct{}) }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (s *Reader) notTold(ctx context.Context, err error, privilege, on string) error {
	return problem.Wrap(err, problem.NoPrivilege,
		fmt.Sprintf("User %q of %s may not see which transactions are open, so it is not known which rows are "+
			"still to come.", s.settings.User, s.what), s.grant(ctx, privilege, on))
}

// rollBack ends a transaction, also of a run that was stopped. A server that is silent now is not
// waited for: its connection is of no use any more.
func rollBack(ctx context.Context, conn *sql.Conn) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), endsWithin)
	defer cancel()
	_, _ = conn.ExecContext(ctx, "ROLLBACK")
}

// endsWithin is how long the end of a transaction may take that has only read.
const endsWithin = 5 * time.Second

// orFalse scans a condition that may be null.
type orFalse struct{ into *bool }

func (o *orFalse) Scan(v any) error {
	var x sql.NullBool
	err := x.Scan(v)
	*o.into = x.Bool
	return err
}

// Zone is the time zone that sessions have when they choose none.
func (s *Reader) Zone(ctx context.Context) (*time.Location, error) {
	var name string
	if err := s.Row(ctx, "SELECT IF(@@global.time_zone = 'SYSTEM', @@system_time_zone, @@global.time_zone)", nil,
		&name); err != nil {
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
		return nil, problem.Wrap(err, problem.Invalid,
			fmt.Sprintf("The time zone %q of %s is not known here.", name, s.what),
			"Name the zone of the watermark in the feed: watermark: {zone: Europe/Berlin}.")
	}
	return zone, nil
}

// Highest is the largest watermark that is visible.
func (s *Reader) Highest(ctx context.Context, q source.Query) (string, error) {
	var highest sql.NullString
	w := s.grammar.Watermark(q)
	if q.Watermark.Column.Type.Kind == schema.Text {
		w = "CONVERT(max(" + w + ") USING utf8mb4)"
	} else {
		w = "CAST(max(" + w + ") AS CHAR)"
	}
	err := s.Row(ctx, "SELECT "+w+" FROM "+s.grammar.From(q), nil, &highest)
	return highest.String, err
}

// Nulls counts the rows whose watermark is null.
func (s *Reader) Nulls(ctx context.Context, q source.Query) (n int64, err error) {
	err = s.Row(ctx, fmt.Sprintf("%sSELECT count(*) FROM %s WHERE %s IS NULL", marker, s.grammar.From(q),
		s.grammar.Watermark(q)), nil, &n)
	return n, err
}

// Count counts the rows of a query.
func (s *Reader) Count(ctx context.Context, q source.Query) (n int64, err error) {
	err = s.Row(ctx, marker+"SELECT count(*) FROM "+s.grammar.From(q)+s.grammar.Where(q), nil, &n)
	return n, err
}

// Estimate asks the planner. Servers tell of its plan in different columns.
func (s *Reader) Estimate(ctx context.Context, q source.Query) (n int64, err error) {
	conn, end, err := s.connectToRead(ctx)
	if err != nil {
		return 0, s.Explain(err)
	}
	defer end()
	text := "EXPLAIN SELECT 1 FROM " + s.grammar.From(q) + s.grammar.Where(q)
	done := statement.Begin(ctx, statement.Source, text)
	at, first := -1, true
	err = conn.QueryTyped(ctx, text, func(columns []wire.Column) error {
		at = slices.IndexFunc(columns, func(c wire.Column) bool { return c.Name == "rows" })
		return nil
	}, func(r wire.Row) error {
		if at >= 0 && first { // the others are of what the first one reads
			v, _ := r.Value(at)
			n, _ = strconv.ParseInt(string(v), 10, 64)
			first = false
		}
		return nil
	})
	done(n, err)
	return n, s.Explain(err)
}

// Read reads the rows of a query.
func (s *Reader) Read(ctx context.Context, q source.Query, sink func(rows.Batch) error) error {
	columns := slices.Clone(q.Table.Columns)
	list := selected(columns)
	if q.ReadsWatermark() {
		w := q.Watermark.Column
		w.Name = "watermark"
		columns, list = append(columns, w), append(list, s.grammar.Watermark(q))
	}
	if q.Beyond != nil {
		columns = append(columns, schema.Column{Name: "beyond", Type: schema.Type{Kind: schema.Bool}, Wire: wayBit})
		list = append(list, s.grammar.Beyond(q))
	}
	if q.Digest {
		columns = append(columns, source.DigestColumn(wayUnknown))
		list = append(list, s.grammar.Digest(q.Table.Columns))
	}
	g := newGatherer(columns, len(q.Table.Columns), q.RowKey, q.NotNull, sink)
	if q.Batch > 0 {
		g.Most = q.Batch
	}
	conn, end, err := s.connectToRead(ctx)
	if err != nil {
		return s.Explain(err)
	}
	defer end()
	left := ""
	if q.Filter != nil && q.Filter.Counts {
		if err := conn.Exec(ctx, beginSnapshot+", READ ONLY"); err != nil {
			return s.Explain(err)
		}
		left = s.grammar.LeftOutOf(q)
	}
	return s.gather(ctx, conn, "SELECT "+strings.Join(list, ", ")+" FROM "+s.grammar.From(q)+s.grammar.Where(q)+
		s.grammar.Order(q), left, g)
}

func selected(columns []schema.Column) []string {
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = expression(c, column(c.Name))
	}
	return list
}

// gather runs a query and gathers its rows, and then another one that counts those that were left out,
// where there is one.
func (s *Reader) gather(ctx context.Context, conn *wire.Conn, query, left string, g *gatherer) error {
	done := statement.Begin(ctx, statement.Source, query)
	var failed error
	err := conn.Query(ctx, marker+query, func(r wire.Row) error {
		failed = g.row(r)
		return failed
	})
	done(g.Total, err)
	if failed != nil {
		return failed
	}
	if left != "" && err == nil {
		done := statement.Begin(ctx, statement.Source, left)
		err = conn.Query(ctx, marker+left, func(r wire.Row) (err error) {
			text, _ := r.Value(0)
			g.Left, err = strconv.ParseInt(string(text), 10, 64)
			return err
		})
		done(1, err)
	}
	if err != nil {
		return s.Explain(err)
	}
	return g.PassOn()
}

var grammar = source.SQL{
	Literal:  literal,
	Bytewise: func(text string) string { return "CAST(CONVERT(" + text + " USING utf8mb4) AS BINARY)" },
	After:    after,
	UpTo: func(left, right []string) string {
		return "(" + left[0] + " <= " + right[0] + " AND NOT " + after(left, right) + ")"
	},
	Digest: digest,
	Half: func(from int) string {
		return fmt.Sprintf("CAST(coalesce(sum(CAST(conv(substr(d, %d, 15), 16, 10) AS UNSIGNED)), 0) AS CHAR)", from)
	},
	AsIs:    " LIMIT 18446744073709551615",
	Down:    " DESC", // nulls are last
	Text:    func(ascii string) string { return "X'" + hex.EncodeToString([]byte(ascii)) + "'" },
	Instant: func(text string) string { return "TIMESTAMP " + schema.Literal(text) },
	Texts:   regexp.MustCompile(`^((var)?char|(tiny|medium|long)?text|enum)\b`),
	Plain:   regexp.MustCompile(`^((tiny|small|medium|big)?int|decimal|bit|date|datetime|timestamp)\b`),
}

// digest is that of a row's values in the form in which they are read. A row that is longer than
// the server puts together has another digest each time: it is read each time.
func digest(columns []schema.Column) string {
	list := make([]string, len(columns))
	for i, e := range selected(columns) {
		list[i] = "coalesce(hex(CAST(" + e + " AS BINARY)), '-')"
	}
	return "coalesce(sha2(concat_ws(',', " + strings.Join(list, ", ") + "), 256), sha2(uuid(), 256))"
}

// Digests asks for them in one statement.
func (s *Reader) Digests(ctx context.Context, q source.Query, ranges []source.KeyRange) ([]source.Digest, error) {
	digests := make([]source.Digest, len(ranges))
	var at, n int64
	var halves [2]string
	err := s.Rows(ctx, marker+s.grammar.Digests(q, ranges), nil, []any{&at, &n, &halves[0], &halves[1]},
		func() (err error) {
			if at < 0 || at >= int64(len(digests)) {
				return fmt.Errorf("the server tells of range %d of %d", at, len(digests))
			}
			digests[at], err = source.ParseHalves(n, halves)
			return err
		})
	return digests, err
}

func column(name string) string { return source.SQL{}.Column(name) }

// after is true where the first list sorts after the second. It is written out, since the
// server finds no index for a comparison of lists.
func after(left, right []string) string {
	var any []string
	same := ""
	for i := range left {
		any = append(any, "("+same+left[i]+" > "+right[i]+")")
		same += left[i] + " = " + right[i] + " AND "
	}
	return "(" + left[0] + " >= " + right[0] + " AND (" + strings.Join(any, " OR ") + "))"
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
			return fmt.Sprintf("'%s%02d:%02d:%02d.%06d'", sign, micros/3_600_000_000, micros/60_000_000%60,
				micros/1_000_000%60, micros%1_000_000)
		}
	case schema.Text, schema.JSON:
		if way, rest, _ := strings.Cut(c.Wire, " "); way == wayBit && rest != "" {
			return "b" + schema.Literal(value)
		}
	}
	return schema.Literal(value)
}

// gatherer makes batches of the rows of a query.
type gatherer struct {
	*rows.Batcher
	columns []schema.Column
	table   int // how many of them are the table's own
	codecs  []codec
	notNull []bool // by place: a null sets the row aside
	key     []int
	values  []scalar // of the row
}

func newGatherer(columns []schema.Column, table int, key, notNull []string, sink func(rows.Batch) error) *gatherer {
	g := &gatherer{Batcher: rows.NewBatcher(columns, sink), columns: columns, table: table,
		key: schema.Indexes(columns, key), values: make([]scalar, len(columns))}
	for _, c := range columns {
		g.codecs = append(g.codecs, codecOf(c, nil))
		g.notNull = append(g.notNull, slices.Contains(notNull, c.Name))
	}
	return g
}

func (g *gatherer) row(r wire.Row) error {
	size := 0
	for i := range g.values {
		v, ok := r.Value(i)
		size += len(v) + 8
		reason := ""
		switch {
		case ok:
			g.values[i], reason = g.codecs[i].text(v)
		case g.notNull[i]:
			reason = rows.IsNullKey
		default:
			g.values[i] = scalar{null: true}
		}
		if reason != "" {
			return g.SetAside(g.aside(r, i, reason), size)
		}
	}
	for i, x := range g.values {
		if x.null {
			g.Fields[i].AppendNull()
		} else {
			g.codecs[i].put(g.Fields[i], x)
		}
	}
	return g.Add(size)
}

// aside is a row whose column at a place cannot be stored.
func (g *gatherer) aside(r wire.Row, place int, reason string) rows.Aside {
	texts := make([]*string, len(g.columns))
	for i := range g.columns {
		if v, ok := r.Value(i); ok {
			text := plainText(g.columns[i], g.codecs[i], v)
			texts[i] = &text
		}
	}
	return rows.NewAside(g.columns[:g.table], texts, g.key, g.columns[place].Name, reason)
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
	b := array.NewBuilder(memory.DefaultAllocator, c.Type.Arrow())
	defer b.Release()
	k.put(b, x)
	text, _ := schema.CellText(b.NewArray(), 0, c.Type)
	return text
}
