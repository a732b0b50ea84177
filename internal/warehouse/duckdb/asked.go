//go:build duckdb_arrow

package duckdb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/duckdb/duckdb-go/v2"

	"noemata/internal/core/schema"
	"noemata/internal/statement"
	"noemata/internal/warehouse"
)

// Converse begins a conversation on a connection of its own, beside those that write.
func (w *Warehouse) Converse(ctx context.Context, may warehouse.May) (warehouse.Conversation, error) {
	c, err := w.file.connect(ctx)
	if err != nil {
		return nil, w.explain(err)
	}
	c.explain = w.explain
	return &conversation{conn: c, may: may}, nil
}

// database is what DuckDB calls the file.
func (f *file) database() string {
	return strings.TrimSuffix(filepath.Base(f.path), filepath.Ext(f.path))
}

type conversation struct {
	conn *conn
	may  warehouse.May
	open bool // Begin was called
	told bool // the views of the catalogue are there
	asOf time.Time
}

func (c *conversation) AsOf(moment time.Time) { c.asOf = moment }

func (c *conversation) Close() { c.conn.Close() }

func (c *conversation) Begin(ctx context.Context) error {
	err := c.begin(ctx)
	c.open = err == nil
	return err
}

func (c *conversation) begin(ctx context.Context) error {
	_, err := c.conn.exec(ctx, "BEGIN TRANSACTION READ ONLY")
	if err != nil {
		return c.fault(err, "")
	}
	return nil
}

func (c *conversation) End() {
	c.rollback()
	c.open, c.told = false, c.told && !c.open // what was made in a transaction goes with it
}

func (c *conversation) rollback() { _, _ = c.conn.exec(context.Background(), "ROLLBACK") }

// fault tells a mistake of the question from a fault of the file.
func (c *conversation) fault(err error, sql string) error {
	if m := mistakeOf(err, sql); m != nil {
		return m
	}
	return c.conn.explain(err)
}

func (c *conversation) Tables(ctx context.Context) ([]schema.Table, error) {
	found, err := c.conn.ask(ctx, `SELECT c.schema_name, c.table_name, coalesce(t.comment, ''), c.column_name, c.data_type,
  coalesce(c.comment, '')
FROM duckdb_columns() c LEFT JOIN duckdb_tables() t USING (database_name, schema_name, table_name)
WHERE c.database_name = current_database() AND NOT c.internal ORDER BY 1, 2, c.column_index`)
	if err != nil {
		return nil, c.fault(err, "")
	}
	var tables []schema.Table
	for _, row := range found {
		text := func(i int) string { s, _ := row[i].(string); return s }
		name := schema.Name{Schema: text(0), Table: text(1)}
		if !c.may(strings.ToLower(name.Schema)) && !isPublished(name.Schema, name.Table) {
			continue
		}
		if len(tables) == 0 || tables[len(tables)-1].Name != name {
			tables = append(tables, schema.Table{Name: name, Comment: text(2)})
		}
		t := &tables[len(tables)-1]
		t.Columns = append(t.Columns, schema.Column{Name: text(3), Native: text(4), Comment: text(5)})
	}
	return tables, nil
}

func (c *conversation) Pieces(ctx context.Context, t schema.Table, by *warehouse.Partition) ([]warehouse.Piece, error) {
	q, err := c.Prepare(ctx, "SELECT * FROM "+t.Name.Quoted()) // a history of then has fewer columns
	if err != nil {
		return nil, err
	}
	of := func(name, where string) warehouse.Piece {
		from := " FROM " + t.Name.Quoted() + where
		return warehouse.Piece{Name: name, SQL: "SELECT *" + from, Digest: fmt.Sprintf("SELECT md5(%s) || ' ' || %s",
			schema.Literal(formOf(q.Columns)), digestOf(q.Columns)) + from}
	}
	all := []warehouse.Piece{of("", "")}
	if by == nil {
		return all, nil
	}
	is := func(column schema.Column) bool {
		return strings.EqualFold(column.Name, by.Column) && dated.MatchString(column.Native)
	}
	at := slices.IndexFunc(t.Columns, is)
	form := map[string]string{"year": "%Y", "month": "%Y-%m", "day": "%Y-%m-%d"}[by.Unit]
	if at < 0 || form == "" {
		return all, nil
	}
	text := fmt.Sprintf("strftime(%s, %s)", schema.Quote(t.Columns[at].Name), schema.Literal(form))
	found, err := c.conn.ask(ctx, fmt.Sprintf("SELECT DISTINCT %s FROM %s ORDER BY 1", text, t.Name.Quoted()))
	if err != nil {
		return nil, c.fault(err, "")
	}
	var pieces []warehouse.Piece
	for _, row := range found {
		name, where := by.Unit+"=none", text+" IS NULL"
		if value, ok := row[0].(string); ok {
			name, where = by.Unit+"="+value, text+" = "+schema.Literal(value)
		}
		pieces = append(pieces, of(name, " WHERE "+where))
	}
	return pieces, nil
}

// dated are types that have a day.
var dated = regexp.MustCompile(`^(DATE|TIMESTAMP)`)

func (c *conversation) Prepare(ctx context.Context, sql string) (q warehouse.Question, err error) {
	if err := warehouse.CheckQuestion(sql); err != nil {
		return q, err
	}
	asked := sql
	tables, err := c.conn.gate(ctx, sql, c.may)
	about := len(tables) == 0 || slices.ContainsFunc(tables, mention.ofCatalogue)
	if catalogued.MatchString(sql) && (err != nil || about) { // it is a client's
		if err := c.tellCatalogue(ctx); err != nil {
			return q, err
		}
		sql = inOurWords(sql)
		tables, err = c.conn.gate(ctx, sql, c.may)
		defer func() { // places in our words are none in the asker's
			if m := (*warehouse.Mistake)(nil); errors.As(err, &m) && sql != asked {
				m.Position = 0
			}
		}()
	}
	if err == nil && !c.asOf.IsZero() {
		sql, err = c.then(ctx, sql, tables)
	}
	if err != nil {
		if m := (*warehouse.Mistake)(nil); errors.As(err, &m) {
			return q, err
		}
		return q, c.fault(err, sql)
	}
	if !c.open { // planned in the light of what is there now
		if err := c.begin(ctx); err != nil {
			return q, err
		}
		defer c.rollback()
	}
	prepared, err := c.conn.driver.(driver.ConnPrepareContext).PrepareContext(ctx, sql)
	if err != nil {
		return q, c.fault(err, sql)
	}
	stmt := prepared.(*duckdb.Stmt)
	defer func() { _ = stmt.Close() }()
	if kind, err := stmt.StatementType(); err != nil || kind != duckdb.STATEMENT_TYPE_SELECT &&
		kind != duckdb.STATEMENT_TYPE_EXPLAIN {
		return q, warehouse.Refused("25006", "Only questions are answered here.")
	}
	q = warehouse.Question{SQL: asked, Runs: sql, Takes: takes(stmt), Columns: gives(stmt)}
	for _, column := range q.Columns {
		if column.Type.Kind == "" {
			return q, warehouse.Refused("0A000",
				"The answer's column %s is of the type %s, which is not passed on as it is. Ask for "+
					"it as text: CAST(%[1]s AS VARCHAR).", column.Name, column.Native)
		}
	}
	return q, nil
}

// path is the name of a table as a question has it.
var path = regexp.MustCompile(`^(?:"(?:[^"]|"")*"|[\pL_][\pL\pN_$]*)(?:\s*\.\s*(?:"(?:[^"]|"")*"|[\pL_][\pL\pN_$]*))*`)

// then is a question with each history that it names as it was at the conversation's moment.
func (c *conversation) then(ctx context.Context, sql string, tables []mention) (string, error) {
	found, err := c.conn.ask(ctx, "SELECT lower(schema_name), lower(function_name) FROM "+ownFunctions)
	if err != nil {
		return sql, err
	}
	slices.SortFunc(tables, func(a, b mention) int { return b.at - a.at }) // from the end, so that places stay
	for _, t := range tables {
		name := warehouse.AsOfName(schema.Name{Schema: t.schema, Table: t.table})
		is := func(row []any) bool {
			return row[0] == strings.ToLower(name.Schema) && row[1] == strings.ToLower(name.Table)
		}
		if t.schema == "" || t.database != "" && !strings.EqualFold(t.database, c.conn.file.database()) || !t.rows || t.at > len(sql) || !slices.ContainsFunc(found, is) {
			continue
		}
		as := ""
		if t.alias == "" {
			as = " AS " + schema.Quote(t.table)
		}
		said := path.FindString(sql[t.at:])
		sql = fmt.Sprintf("%s%s(TIMESTAMPTZ '%s')%s%s", sql[:t.at], name.Quoted(),
			c.asOf.UTC().Format("2006-01-02 15:04:05.999999Z"), as, sql[t.at+len(said):])
	}
	return sql, nil
}

// takes are the types of a statement's parameters.
func takes(stmt *duckdb.Stmt) []schema.Type {
	types := make([]schema.Type, stmt.NumInput())
	for i := range types {
		kind, err := stmt.ParamType(i + 1)
		if types[i] = typeOf(kind); err != nil || types[i].Kind == "" {
			types[i].Kind = schema.Text
		}
	}
	return types
}

// gives are the columns of a statement's answer, where they are known.
func gives(stmt *duckdb.Stmt) []schema.Column {
	n, err := stmt.ColumnCount()
	if err != nil {
		return nil
	}
	columns := make([]schema.Column, n)
	for i := range columns {
		name, err := stmt.ColumnName(i)
		info, err2 := stmt.ColumnTypeInfo(i)
		if err != nil || err2 != nil || info.InternalType() == duckdb.TYPE_INVALID || info.InternalType() == duckdb.TYPE_ANY {
			return nil
		}
		columns[i] = schema.Column{Name: name, Type: columnType(info), Native: nativeOf(info), Nullable: true}
	}
	return columns
}

// typeOf is what values of a type travel as; of no kind where they would not come out as they are.
func typeOf(t duckdb.Type) schema.Type {
	kinds := map[duckdb.Type]schema.Kind{
		duckdb.TYPE_BOOLEAN: schema.Bool, duckdb.TYPE_TINYINT: schema.Int16, duckdb.TYPE_SMALLINT: schema.Int16,
		duckdb.TYPE_UTINYINT: schema.Int16, duckdb.TYPE_USMALLINT: schema.Int32, duckdb.TYPE_INTEGER: schema.Int32,
		duckdb.TYPE_UINTEGER: schema.Int64, duckdb.TYPE_BIGINT: schema.Int64, duckdb.TYPE_UBIGINT: schema.Numeric,
		duckdb.TYPE_HUGEINT: schema.Numeric, duckdb.TYPE_VARCHAR: schema.Text, duckdb.TYPE_ENUM: schema.Text,
		duckdb.TYPE_FLOAT: schema.Float32, duckdb.TYPE_DOUBLE: schema.Float64, duckdb.TYPE_DECIMAL: schema.Numeric,
		duckdb.TYPE_DATE: schema.Date, duckdb.TYPE_TIME: schema.Time, duckdb.TYPE_TIMESTAMP: schema.Timestamp,
		duckdb.TYPE_TIMESTAMP_S: schema.Timestamp, duckdb.TYPE_TIMESTAMP_MS: schema.Timestamp,
		duckdb.TYPE_TIMESTAMP_TZ: schema.TimestampTZ, duckdb.TYPE_INTERVAL: schema.Interval,
		duckdb.TYPE_BLOB: schema.Bytes, duckdb.TYPE_UUID: schema.UUID,
		duckdb.TYPE_LIST: schema.JSON, duckdb.TYPE_ARRAY: schema.JSON, duckdb.TYPE_STRUCT: schema.JSON,
		duckdb.TYPE_MAP: schema.JSON, duckdb.TYPE_BIT: schema.Text, duckdb.TYPE_SQLNULL: schema.Text,
		duckdb.TYPE_TIMESTAMP_NS: schema.Text, // which has digits that no other kind has
	}
	return schema.Type{Kind: kinds[t]}
}

func columnType(info duckdb.TypeInfo) schema.Type {
	switch d := info.Details().(type) {
	case *duckdb.DecimalDetails:
		return schema.Type{Kind: schema.Decimal, Precision: int(d.Width), Scale: int(d.Scale)}
	case *duckdb.ListDetails:
		return nested(d.Child)
	case *duckdb.ArrayDetails:
		return nested(d.Child)
	case *duckdb.MapDetails:
		return nested(d.Key, d.Value)
	case *duckdb.StructDetails:
		var parts []duckdb.TypeInfo
		for _, e := range d.Entries {
			parts = append(parts, e.Info())
		}
		return nested(parts...)
	}
	if info.InternalType() == duckdb.TYPE_VARCHAR && info.Alias() == "JSON" {
		return schema.Type{Kind: schema.JSON}
	}
	return typeOf(info.InternalType())
}

// nested is the type of what is made of others. Bits among them cannot be told from bytes.
func nested(parts ...duckdb.TypeInfo) schema.Type {
	for _, p := range parts {
		if columnType(p).Kind == "" || p.InternalType() == duckdb.TYPE_BIT {
			return schema.Type{}
		}
	}
	return schema.Type{Kind: schema.JSON}
}

// nativeOf is DuckDB's name for a type.
func nativeOf(info duckdb.TypeInfo) string {
	switch d := info.Details().(type) {
	case *duckdb.DecimalDetails:
		return fmt.Sprintf("DECIMAL(%d,%d)", d.Width, d.Scale)
	case *duckdb.ListDetails:
		return nativeOf(d.Child) + "[]"
	}
	if alias := info.Alias(); alias != "" {
		return alias
	}
	names := map[duckdb.Type]string{duckdb.TYPE_BOOLEAN: "BOOLEAN", duckdb.TYPE_TINYINT: "TINYINT",
		duckdb.TYPE_SMALLINT: "SMALLINT", duckdb.TYPE_INTEGER: "INTEGER", duckdb.TYPE_BIGINT: "BIGINT",
		duckdb.TYPE_UTINYINT: "UTINYINT", duckdb.TYPE_USMALLINT: "USMALLINT", duckdb.TYPE_UINTEGER: "UINTEGER",
		duckdb.TYPE_UBIGINT: "UBIGINT", duckdb.TYPE_HUGEINT: "HUGEINT", duckdb.TYPE_UHUGEINT: "UHUGEINT",
		duckdb.TYPE_FLOAT: "FLOAT", duckdb.TYPE_DOUBLE: "DOUBLE", duckdb.TYPE_VARCHAR: "VARCHAR", duckdb.TYPE_BLOB: "BLOB",
		duckdb.TYPE_DATE: "DATE", duckdb.TYPE_TIME: "TIME", duckdb.TYPE_TIME_TZ: "TIME WITH TIME ZONE",
		duckdb.TYPE_TIMESTAMP: "TIMESTAMP", duckdb.TYPE_TIMESTAMP_S: "TIMESTAMP_S",
		duckdb.TYPE_TIMESTAMP_MS: "TIMESTAMP_MS", duckdb.TYPE_TIMESTAMP_NS: "TIMESTAMP_NS",
		duckdb.TYPE_TIMESTAMP_TZ: "TIMESTAMP WITH TIME ZONE", duckdb.TYPE_INTERVAL: "INTERVAL", duckdb.TYPE_UUID: "UUID",
		duckdb.TYPE_BIT: "BIT", duckdb.TYPE_ENUM: "ENUM", duckdb.TYPE_STRUCT: "STRUCT", duckdb.TYPE_MAP: "MAP",
		duckdb.TYPE_ARRAY: "ARRAY", duckdb.TYPE_UNION: "UNION", duckdb.TYPE_BIGNUM: "BIGNUM", duckdb.TYPE_SQLNULL: "NULL",
		duckdb.TYPE_GEOMETRY: "GEOMETRY", duckdb.TYPE_VARIANT: "VARIANT"}
	if name := names[info.InternalType()]; name != "" {
		return name
	}
	return "OTHER"
}

// Ask runs the question in a transaction that writes nothing.
func (c *conversation) Ask(ctx context.Context, q warehouse.Question, values []*string) (warehouse.Answer, error) {
	args, err := q.Values(values)
	if err != nil {
		return nil, err
	}
	if !c.open {
		if err := c.begin(ctx); err != nil {
			return nil, err
		}
	}
	done := statement.Begin(ctx, statement.Warehouse, q.Runs)
	c.conn.plain = false
	reader, err := c.conn.arrow.QueryContext(ctx, q.Runs, args...)
	if err != nil {
		done(0, err)
		if !c.open {
			c.rollback()
		}
		return nil, c.fault(err, q.Runs)
	}
	a := &answer{conversation: c, reader: reader, done: done, whole: !c.open, columns: q.Columns}
	if a.columns == nil {
		a.columns = columnsOf(reader.Schema())
	}
	return a, nil
}

type answer struct {
	*conversation
	reader  array.RecordReader
	columns []schema.Column
	whole   bool // the transaction is this answer's alone
	now     arrow.RecordBatch
	rows    int64
	done    func(int64, error)
}

func (a *answer) Columns() []schema.Column { return a.columns }

func (a *answer) Next(ctx context.Context) (arrow.RecordBatch, error) {
	a.let()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if !a.reader.Next() {
		if err := a.reader.Err(); err != nil {
			return nil, a.fault(err, "")
		}
		return nil, nil
	}
	a.rows += a.reader.RecordBatch().NumRows()
	var err error
	a.now, err = plainRecord(a.reader.RecordBatch(), a.columns)
	return a.now, err
}

func (a *answer) let() {
	if a.now != nil {
		a.now.Release()
		a.now = nil
	}
}

func (a *answer) Close() {
	a.let()
	a.done(a.rows, a.reader.Err())
	a.reader.Release()
	if a.whole {
		a.rollback()
	}
}

// states are DuckDB's kinds of errors as SQL's states (PostgreSQL, Appendix A). More exact ones go before.
var states = []struct {
	errors *regexp.Regexp
	state  string
}{
	{regexp.MustCompile(`^Parser Error`), "42601"},
	{regexp.MustCompile(`^Catalog Error: (Table|View) with name`), "42P01"},
	{regexp.MustCompile(`^Catalog Error: (\w+ )*Function with name`), "42883"},
	{regexp.MustCompile(`^Catalog Error: Type with name`), "42704"},
	{regexp.MustCompile(`^Catalog Error`), "42704"},
	{regexp.MustCompile(`^Binder Error: .*(Referenced column|does not have a column|not found in FROM clause)`), "42703"},
	{regexp.MustCompile(`^Binder Error: .*(Referenced table|Referenced schema)`), "42P01"},
	{regexp.MustCompile(`^Binder Error: .*[Aa]mbiguous`), "42702"},
	{regexp.MustCompile(`^Binder Error: .*(GROUP BY|aggregate)`), "42803"},
	{regexp.MustCompile(`^Binder Error: No function matches`), "42883"},
	{regexp.MustCompile(`^Binder Error`), "42000"},
	{regexp.MustCompile(`^Conversion Error: \w+ field value out of range`), "22008"},
	{regexp.MustCompile(`^Conversion Error: .*out of range`), "22003"},
	{regexp.MustCompile(`^Conversion Error: Unimplemented type for cast`), "42846"},
	{regexp.MustCompile(`^Conversion Error`), "22P02"},
	{regexp.MustCompile(`^Out of Range Error`), "22003"},
	{regexp.MustCompile(`^Invalid Input Error: More than one row returned by a subquery`), "21000"},
	{regexp.MustCompile(`^Invalid Input Error`), "22023"},
	{regexp.MustCompile(`^Constraint Error`), "23000"},
	{regexp.MustCompile(`^Mismatch Type Error`), "42804"},
	{regexp.MustCompile(`^(Not implemented|Dependency) Error`), "0A000"},
	{regexp.MustCompile(`^Permission Error`), "42501"},
	{regexp.MustCompile(`^TransactionContext Error`), "25006"},
	{regexp.MustCompile(`^INTERRUPT Error`), "57014"},
	{regexp.MustCompile(`^Out of Memory Error`), "53200"},
	{regexp.MustCompile(`^(Parameter|Expression) Error|^Invalid (type|Type) Error`), "22023"},
}

// pointed is how DuckDB shows where an error is: the line, or a piece of it, and below it a caret.
var pointed = regexp.MustCompile(`(?s)\n\nLINE (\d+): ([^\n]*)\n( *)\^\s*$`)

// place is the character of a question, from 1 on, that lies so far into an excerpt of one of its lines; 0 where the
// excerpt is not found.
func place(sql string, line int, excerpt string, column int) int {
	lines := strings.Split(sql, "\n")
	if line < 1 || line > len(lines) || column < 0 || column > len(excerpt) {
		return 0
	}
	if cut, ok := strings.CutPrefix(excerpt, "..."); ok {
		excerpt, column = cut, column-len("...")
	}
	at := strings.Index(lines[line-1], strings.TrimSuffix(excerpt, "..."))
	if at < 0 || column < 0 {
		return 0
	}
	before := strings.Join(append(lines[:line-1:line-1], lines[line-1][:min(at+column, len(lines[line-1]))]), "\n")
	return utf8.RuneCountInString(before) + 1
}

// mistakeOf is what is wrong with a question by DuckDB's own words; nil where it is not the question's fault.
func mistakeOf(err error, sql string) *warehouse.Mistake {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	text := strings.TrimSpace(err.Error())
	for _, s := range states {
		if s.errors.MatchString(text) {
			_, message, _ := strings.Cut(text, ": ")
			m := &warehouse.Mistake{State: s.state, Message: message}
			if at := pointed.FindStringSubmatchIndex(message); at != nil {
				line, _ := strconv.Atoi(message[at[2]:at[3]])
				m.Position = place(sql, line, message[at[4]:at[5]], at[7]-at[6]-len("LINE : ")-(at[3]-at[2]))
				m.Message = message[:at[0]]
			}
			return m
		}
	}
	return nil
}

// columnsOf describes what an answer turned out to have.
func columnsOf(s *arrow.Schema) []schema.Column {
	columns := make([]schema.Column, s.NumFields())
	for i, f := range s.Fields() {
		columns[i] = schema.Column{Name: f.Name, Type: plainType(f.Type), Native: strings.ToUpper(f.Type.Name())}
	}
	return columns
}
