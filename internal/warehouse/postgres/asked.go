package postgres

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"noemata/internal/core/schema"
	"noemata/internal/pgcopy"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// Converse begins a conversation as the user that is named for questions.
func (w *Warehouse) Converse(ctx context.Context, may warehouse.May) (warehouse.Conversation, error) {
	if w.asker == nil {
		return nil, warehouse.ErrUnasked
	}
	c := &conversation{asker: w.asker, may: may}
	return c, c.connect(ctx)
}

// Told is what the server tells of itself, whose catalogue clients will ask.
func (w *Warehouse) Told(ctx context.Context) (map[string]string, error) {
	if w.asker == nil {
		return nil, warehouse.ErrUnasked
	}
	c, err := w.asker.acquire(ctx, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	defer c.Release()
	found, err := firstColumn(ctx, c,
		"SELECT current_setting(name) FROM unnest('{server_version,server_version_num}'::text[]) name")
	if err != nil || len(found) != 2 {
		return nil, w.asker.explain(err)
	}
	return map[string]string{"server_version": found[0], "server_version_num": found[1]}, nil
}

// conversation is one on a connection of its own. Each question is a transaction that writes nothing, or a part of the
// one that Begin begins.
type conversation struct {
	asker *asker
	may   warehouse.May
	conn  *pgxpool.Conn // nil where it was lost
	open  bool          // Begin was called
	asOf  time.Time
}

func (c *conversation) connect(ctx context.Context) (err error) {
	if c.conn != nil && c.conn.Conn().IsClosed() {
		c.conn.Release()
		c.conn = nil
	}
	if c.conn != nil {
		return nil
	}
	if c.open {
		return warehouse.Refused("25P02",
			"The transaction ended with its connection; end it with ROLLBACK, and begin another.")
	}
	c.conn, err = c.asker.acquire(ctx, c.may)
	return err
}

func (c *conversation) AsOf(moment time.Time) { c.asOf = moment }

func (c *conversation) Close() {
	if c.conn != nil {
		c.rollback()
	}
	if c.conn != nil {
		c.conn.Release()
		c.conn = nil
	}
}

func (c *conversation) Begin(ctx context.Context) error {
	err := c.begin(ctx)
	c.open = err == nil
	return err
}

// begin begins a transaction that sees one cut, from now on.
func (c *conversation) begin(ctx context.Context) error {
	if err := c.connect(ctx); err != nil {
		return err
	}
	return c.run(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SELECT FROM pg_catalog.pg_namespace LIMIT 0")
}

func (c *conversation) End() {
	if c.open && c.conn != nil {
		c.rollback()
	}
	c.open = false
}

// letGoWithin is how long a server may take to end what nobody waits for any more.
const letGoWithin = 5 * time.Second

// rollback takes back what a question has set, and the locks that it took.
func (c *conversation) rollback() {
	ctx, cancel := context.WithTimeout(context.Background(), letGoWithin)
	defer cancel()
	if c.run(ctx, "ROLLBACK; SELECT pg_catalog.pg_advisory_unlock_all()") != nil {
		c.abandon()
	}
}

// run runs statements of ours.
func (c *conversation) run(ctx context.Context, sql string) error {
	_, err := c.conn.Conn().PgConn().Exec(ctx, sql).ReadAll()
	return c.fault(err)
}

// abandon stops what the server does for the conversation, and ends the connection.
func (c *conversation) abandon() {
	if c.conn == nil {
		return
	}
	conn := c.conn.Hijack()
	c.conn = nil
	ctx, cancel := context.WithTimeout(context.Background(), letGoWithin)
	defer cancel()
	_ = conn.PgConn().CancelRequest(ctx) // one that has ended already answers nothing
	_ = conn.Close(ctx)
}

// ours are classes of errors that no question is to blame for (PostgreSQL, Error Codes): of the connection, resources,
// the operator, the system, and what the server did not expect.
var ours = regexp.MustCompile(`^(08|53|57P|58|XX)`)

// fault tells a mistake of the question from a fault of the server.
func (c *conversation) fault(err error) error {
	var server *pgconn.PgError
	var m *warehouse.Mistake
	if errors.As(err, &m) {
		return m
	}
	if !errors.As(err, &server) || ours.MatchString(server.Code) {
		return c.asker.explain(err)
	}
	m = &warehouse.Mistake{State: server.Code, Message: server.Message, Position: int(server.Position)}
	if server.Hint != "" {
		m.Message += ". " + server.Hint
	}
	return m
}

func (c *conversation) Tables(ctx context.Context) ([]schema.Table, error) {
	if err := c.connect(ctx); err != nil {
		return nil, err
	}
	found, err := c.conn.Query(ctx, `SELECT n.nspname::text, c.relname::text, coalesce(obj_description(c.oid, 'pg_class'), ''),
  a.attname::text, format_type(a.atttypid, a.atttypmod), coalesce(col_description(c.oid, a.attnum), '')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT (`+known+`) AND has_schema_privilege(n.oid, 'USAGE') AND
  has_column_privilege(c.oid, a.attnum, 'SELECT') ORDER BY 1, 2, a.attnum`)
	if err != nil {
		return nil, c.fault(err)
	}
	defer found.Close()
	var tables []schema.Table
	for found.Next() {
		var name schema.Name
		var comment string
		var column schema.Column
		if err := found.Scan(&name.Schema, &name.Table, &comment, &column.Name, &column.Native, &column.Comment); err != nil {
			return nil, err
		}
		if len(tables) == 0 || tables[len(tables)-1].Name != name {
			tables = append(tables, schema.Table{Name: name, Comment: comment})
		}
		t := &tables[len(tables)-1]
		t.Columns = append(t.Columns, column)
	}
	return tables, c.fault(found.Err())
}

// dated are types that have a day.
var dated = regexp.MustCompile(`^(date|timestamp)`)

func (c *conversation) Pieces(ctx context.Context, t schema.Table, by *warehouse.Partition) ([]warehouse.Piece, error) {
	q, err := c.Prepare(ctx, "SELECT * FROM "+t.Name.Quoted())
	if err != nil {
		return nil, err
	}
	form := ""
	for _, column := range q.Columns {
		form += schema.Quote(column.Name) + " " + column.Native + ", "
	}
	of := func(name, where string) warehouse.Piece {
		from := " FROM " + t.Name.Quoted() + " t" + where
		half := "coalesce(sum(('x' || %s(h, 16))::bit(64)::bigint::numeric), 0)"
		return warehouse.Piece{Name: name, SQL: "SELECT t.*" + from,
			Digest: fmt.Sprintf("SELECT concat_ws(' ', md5(%s), count(*), "+half+", "+half+") FROM (SELECT md5(ROW(t.*)::text) AS h%s) d",
				schema.Literal(form), "left", "right", from)}
	}
	at := slices.IndexFunc(q.Columns, func(x schema.Column) bool {
		return by != nil && x.Name == by.Column && dated.MatchString(x.Native)
	})
	if at < 0 {
		return []warehouse.Piece{of("", "")}, nil
	}
	letters := map[string]string{"year": "YYYY", "month": "YYYY-MM", "day": "YYYY-MM-DD"}[by.Unit]
	text := fmt.Sprintf("to_char(t.%s, %s)", schema.Quote(by.Column), schema.Literal(letters))
	found, err := firstColumn(ctx, c.conn, fmt.Sprintf("SELECT DISTINCT coalesce(%s, 'none') FROM %s t ORDER BY 1", text,
		t.Name.Quoted()))
	if err != nil {
		return nil, c.fault(err)
	}
	var pieces []warehouse.Piece
	for _, value := range found {
		pieces = append(pieces, of(by.Unit+"="+value, fmt.Sprintf(" WHERE coalesce(%s, 'none') = %s", text,
			schema.Literal(value))))
	}
	return pieces, nil
}

// asks are the words that what can be asked begins with. What else a statement may be that begins so writes nothing, as
// its transaction does not.
var asks = []string{"SELECT", "WITH", "VALUES", "TABLE", "EXPLAIN", "SHOW"}

// begins is the first word of a statement, after blanks, comments and parentheses, as PostgreSQL reads them: comments
// nest, and a line ends with a carriage return, too (PostgreSQL, Lexical Structure; scan.l).
func begins(sql string) string {
	const blank, word = " \t\n\r\f(", "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	for sql != "" {
		switch {
		case strings.HasPrefix(sql, "--"):
			sql = sql[min(len(sql), len("--")+strings.IndexAny(sql[2:]+"\n", "\n\r")):]
		case strings.HasPrefix(sql, "/*"):
			sql = afterComment(sql)
		case strings.ContainsRune(blank, rune(sql[0])):
			sql = sql[1:]
		default:
			end := strings.IndexFunc(sql, func(r rune) bool { return !strings.ContainsRune(word, unicode.ToUpper(r)) })
			if end < 0 {
				end = len(sql)
			}
			return strings.ToUpper(sql[:end])
		}
	}
	return ""
}

// afterComment is what follows a comment that a text begins with; nothing where that does not end.
func afterComment(sql string) string {
	for depth, i := 0, 0; i < len(sql); i++ {
		switch {
		case strings.HasPrefix(sql[i:], "/*"):
			depth, i = depth+1, i+1
		case strings.HasPrefix(sql[i:], "*/"):
			if depth, i = depth-1, i+1; depth == 0 {
				return sql[i+1:]
			}
		}
	}
	return ""
}

func (c *conversation) Prepare(ctx context.Context, sql string) (q warehouse.Question, err error) {
	if err := warehouse.CheckQuestion(sql); err != nil {
		return q, err
	}
	if !slices.Contains(asks, begins(sql)) {
		return q, warehouse.Refused("25006",
			"Only questions are answered here: SELECT, WITH, VALUES, TABLE, EXPLAIN and SHOW.")
	}
	if !c.asOf.IsZero() {
		return q, warehouse.Refused("0A000", "In PostgreSQL a history is seen as of a moment by its own function: "+
			"SELECT * FROM live.loans_as_of('2026-03-01T08:30:00Z').")
	}
	if !c.open {
		if err := c.begin(ctx); err != nil {
			return q, err
		}
		defer c.rollbackUnlessLost()
	} else if err := c.connect(ctx); err != nil {
		return q, err
	}
	described, err := c.conn.Conn().PgConn().Prepare(ctx, "", sql, nil)
	if err != nil {
		return q, c.failed(ctx, err)
	}
	q = warehouse.Question{SQL: sql, Runs: sql}
	for _, oid := range described.ParamOIDs {
		t, _ := typeOf(oid, -1)
		q.Takes = append(q.Takes, t)
	}
	q.Columns = columnsOf(described.Fields)
	return q, c.name(ctx, q.Columns, described.Fields)
}

func (c *conversation) rollbackUnlessLost() {
	if c.conn != nil {
		c.rollback()
	}
}

// failed is an error of a question. A connection on which nobody knows what comes next is given up.
func (c *conversation) failed(ctx context.Context, err error) error {
	var server *pgconn.PgError
	if ctx.Err() != nil || !errors.As(err, &server) {
		c.abandon()
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return c.fault(err)
}

// name asks what PostgreSQL calls the columns' types.
func (c *conversation) name(ctx context.Context, columns []schema.Column, fields []pgconn.FieldDescription) error {
	var oids []uint32
	var modifiers []int32
	for _, f := range fields {
		oids, modifiers = append(oids, f.DataTypeOID), append(modifiers, f.TypeModifier)
	}
	found, err := c.conn.Query(ctx,
		`SELECT format_type(o, m) FROM unnest($1::oid[], $2::int4[]) WITH ORDINALITY x (o, m, n) ORDER BY n`,
		oids, modifiers)
	if err != nil {
		return c.fault(err)
	}
	defer found.Close()
	for i := 0; i < len(columns) && found.Next(); i++ {
		if err := found.Scan(&columns[i].Native); err != nil {
			return err
		}
	}
	return c.fault(found.Err())
}

// typeNames names PostgreSQL's own types.
var typeNames = pgtype.NewMap()

// typeOf is what values of a type travel as. One that has no place of its own travels as text.
func typeOf(oid uint32, modifier int32) (schema.Type, string) {
	t, own := typeNames.TypeForOID(oid)
	if !own {
		return schema.Type{Kind: schema.Text}, ""
	}
	return pgcopy.TypeOf(t.Name, true, false, modifier)
}

func columnsOf(fields []pgconn.FieldDescription) []schema.Column {
	columns := make([]schema.Column, len(fields))
	for i, f := range fields {
		columns[i] = schema.Column{Name: f.Name, Nullable: true}
		columns[i].Type, columns[i].Wire = typeOf(f.DataTypeOID, f.TypeModifier)
	}
	return columns
}

// pageRows is how many rows are asked for at a time: an answer that is not read to its end costs no more than these.
const pageRows = 4096

// theAnswer is the name of the portal (PostgreSQL, Extended Query).
const theAnswer = "answer"

func (c *conversation) Ask(ctx context.Context, q warehouse.Question, values []*string) (warehouse.Answer, error) {
	args, err := q.Values(values)
	if err != nil {
		return nil, err
	}
	given := make([][]byte, len(args))
	for i, arg := range args {
		switch v := arg.(type) {
		case string:
			given[i] = []byte(v)
		case []byte:
			given[i] = fmt.Appendf(nil, `\x%x`, v)
		}
	}
	if !c.open {
		if err := c.begin(ctx); err != nil {
			return nil, err
		}
	} else if err := c.connect(ctx); err != nil {
		return nil, err
	}
	a := &answer{conversation: c, whole: !c.open, columns: q.Columns, done: statement.Begin(ctx, statement.Warehouse,
		q.Runs)}
	a.read = make([]pgcopy.Value, len(q.Columns))
	formats := make([]int16, len(q.Columns))
	for i, column := range q.Columns {
		if a.read[i] = pgcopy.ValueOf(column); a.isBinary(i) {
			formats[i] = pgproto3.BinaryFormat
		}
	}
	f := c.conn.Conn().PgConn().Frontend()
	f.SendParse(&pgproto3.Parse{Query: q.Runs})
	f.SendBind(&pgproto3.Bind{DestinationPortal: theAnswer, Parameters: given, ResultFormatCodes: formats})
	f.SendDescribe(&pgproto3.Describe{ObjectType: 'P', Name: theAnswer})
	a.ask(f)
	first, err := a.Next(ctx) // what is wrong with the question is heard now
	if err != nil {
		a.Close()
		return nil, err
	}
	a.first = first
	a.begun = true
	return a, nil
}

// answer is read page by page through a portal.
type answer struct {
	*conversation
	columns []schema.Column
	read    []pgcopy.Value
	whole   bool // the transaction is this answer's alone
	first   arrow.RecordBatch
	begun   bool // first is to be given next
	now     arrow.RecordBatch
	asked   bool // a page is on its way
	over    bool
	err     error
	rows    int64
	done    func(int64, error)
}

func (a *answer) Columns() []schema.Column { return a.columns }

// isBinary tells whether the values of a column come in their binary form.
func (a *answer) isBinary(i int) bool { return a.columns[i].Wire != "" }

// ask asks for a page.
func (a *answer) ask(f *pgproto3.Frontend) {
	f.SendExecute(&pgproto3.Execute{Portal: theAnswer, MaxRows: pageRows})
	f.SendSync(&pgproto3.Sync{})
	a.asked = true
	a.err = f.Flush()
}

// batchBytes is how much a record has, more or less.
const batchBytes = 4 << 20

func (a *answer) Next(ctx context.Context) (arrow.RecordBatch, error) {
	if a.begun {
		a.begun, a.now = false, a.first
		return a.now, nil
	}
	a.let()
	if a.conn == nil {
		return nil, a.err
	}
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema.Arrow(a.columns))
	defer b.Release()
	size := 0
	for n := 0; n < pageRows && size < batchBytes; {
		if !a.asked {
			if a.over {
				break
			}
			a.ask(a.conn.Conn().PgConn().Frontend())
		}
		var message pgproto3.BackendMessage
		if a.err == nil {
			message, a.err = a.conn.Conn().PgConn().ReceiveMessage(ctx)
		}
		if a.err != nil {
			return nil, a.failed(ctx, a.err)
		}
		switch m := message.(type) {
		case *pgproto3.RowDescription:
			a.err = a.isAsPrepared(m)
		case *pgproto3.DataRow:
			if a.err == nil {
				a.err = a.add(b, m.Values)
			}
			n++
			for _, v := range m.Values {
				size += len(v)
			}
		case *pgproto3.CommandComplete, *pgproto3.EmptyQueryResponse:
			a.over = true
		case *pgproto3.ErrorResponse:
			if a.err = pgconn.ErrorResponseToPgError(m); m.Code == "08P01" { // more or fewer columns than formats
				a.err = errOtherColumns
			}
		case *pgproto3.ReadyForQuery:
			if a.asked = false; m.TxStatus == 'I' { // what it set is not taken back by ours
				a.err = warehouse.Refused("25000", "A question does not end the transaction that it is asked in.")
				a.abandon()
			}
		}
		if a.err != nil {
			a.over = true
			return nil, a.drained(a.fault(a.err))
		}
	}
	record := b.NewRecordBatch()
	if record.NumRows() == 0 {
		record.Release()
		return nil, nil
	}
	a.rows += record.NumRows()
	a.now = record
	return record, nil
}

// isAsPrepared refuses an answer of other columns than were told.
func (a *answer) isAsPrepared(m *pgproto3.RowDescription) error {
	same := len(m.Fields) == len(a.columns)
	for i := 0; same && i < len(m.Fields); i++ {
		t, wire := typeOf(m.Fields[i].DataTypeOID, m.Fields[i].TypeModifier)
		same = string(m.Fields[i].Name) == a.columns[i].Name && t == a.columns[i].Type && wire == a.columns[i].Wire
	}
	if !same {
		return errOtherColumns
	}
	return nil
}

var errOtherColumns = warehouse.Refused("0A000",
	"A table has other columns since the question was prepared. Ask it again.")

// add appends a row.
func (a *answer) add(b *array.RecordBuilder, values [][]byte) error {
	if len(values) != len(a.columns) {
		return fmt.Errorf("the server sent %d values in a row of %d columns", len(values), len(a.columns))
	}
	for i, v := range values {
		read, column := a.read[i], a.columns[i]
		switch {
		case v == nil:
			b.Field(i).AppendNull()
			continue
		case !a.isBinary(i):
			if err := read.Text(b.Field(i), v); err != nil {
				return err
			}
			continue
		}
		if err := read.Fits(v); err != nil {
			return err
		}
		if read.Check != nil {
			if _, shown := read.Check(v); shown != "" {
				return warehouse.Refused("22003",
					"The column %s has the value %s, which its type in the answer, %s, has no place for. "+
						"Ask for it as text: %s::text.", column.Name, shown, column.Type, schema.Quote(column.Name))
			}
		}
		read.Binary(b.Field(i), v)
	}
	return nil
}

func (a *answer) let() {
	if a.now != nil {
		a.now.Release()
		a.now = nil
	}
}

// drained takes in what is on its way, after which the connection serves again; it gives the error that it is given.
func (a *answer) drained(err error) error {
	ctx, cancel := context.WithTimeout(context.Background(), letGoWithin)
	defer cancel()
	for a.asked && a.conn != nil {
		message, lost := a.conn.Conn().PgConn().ReceiveMessage(ctx)
		if lost != nil {
			a.abandon()
			return err
		}
		if _, ready := message.(*pgproto3.ReadyForQuery); ready {
			a.asked = false
		}
	}
	return err
}

func (a *answer) Close() {
	if a.begun {
		a.begun, a.now = false, a.first
	}
	a.let()
	a.done(a.rows, a.err)
	_ = a.drained(nil)
	switch {
	case a.conn == nil:
	case a.whole:
		a.rollback()
	default:
		ctx, cancel := context.WithTimeout(context.Background(), letGoWithin)
		defer cancel()
		f := a.conn.Conn().PgConn().Frontend()
		f.SendClose(&pgproto3.Close{ObjectType: 'P', Name: theAnswer})
		f.SendSync(&pgproto3.Sync{})
		a.asked = true
		if f.Flush() != nil || ctx.Err() != nil {
			a.abandon()
			return
		}
		_ = a.drained(nil)
	}
}
