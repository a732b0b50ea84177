package torture

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// mariaColumns are those of a table beside its key: each with its value, how it is told as text
// there, and how in a warehouse. MySQL of version 5.6 has no such types as the last ones.
var mariaColumns = []struct{ name, definition, value, there, here string }{
	{"note", "longtext", "", "note", "note"},
	{"fee", "decimal(12,2)", "", "CAST(fee AS CHAR)", "CAST(fee AS VARCHAR)"},
	{"seen", "int", "", "CAST(seen AS CHAR)", "CAST(seen AS VARCHAR)"},
	{"flag", "bit(1)", "rand() < 0.5", "IF(flag, 'true', 'false')", "CAST(flag AS VARCHAR)"},
	{"tiny", "tinyint", "floor(rand() * 250 - 125)", "CAST(tiny AS CHAR)", "CAST(tiny AS VARCHAR)"},
	{"small", "smallint unsigned", "floor(rand() * 65535)", "CAST(small AS CHAR)", "CAST(small AS VARCHAR)"},
	{"medium", "mediumint", "floor(rand() * -8388607)", "CAST(medium AS CHAR)", "CAST(medium AS VARCHAR)"},
	{"large", "bigint unsigned", "floor(rand() * 18000000000000000000)", "CAST(large AS CHAR)",
		"CAST(large AS VARCHAR)"},
	{"ratio", "double", "floor(rand() * 1000) / 8", "CAST(CAST(ratio * 8 AS SIGNED) AS CHAR)",
		"CAST(CAST(ratio * 8 AS BIGINT) AS VARCHAR)"},
	{"exact", "decimal(65,30)", "rand() * 1e10 - 5e9", "CAST(exact AS CHAR)", "CAST(exact AS VARCHAR)"},
	{"day", "date", "'2026-01-01' + INTERVAL floor(rand() * 9999) DAY", "CAST(day AS CHAR)", "CAST(day AS VARCHAR)"},
	{"stamp", "datetime", "'2026-01-01' + INTERVAL floor(rand() * 99999999) SECOND", "CAST(stamp AS CHAR)",
		"CAST(stamp AS VARCHAR)"},
	{"instant", "timestamp(6) NULL", "now(6)", "CAST(CAST(unix_timestamp(instant) * 1000000 AS SIGNED) AS CHAR)",
		"CAST(CAST(extract(epoch FROM instant) * 1000000 AS BIGINT) AS VARCHAR)"},
	{"span", "time", "sec_to_time(floor(rand() * 6000000 - 3000000))", "CAST(time_to_sec(span) AS CHAR)",
		"CAST(CAST(extract(epoch FROM CAST(span AS INTERVAL)) AS BIGINT) AS VARCHAR)"},
	{"made", "year", "floor(1901 + rand() * 250)", "CAST(made AS CHAR)", "CAST(made AS VARCHAR)"},
	{"kind", "enum('low','high','hôch')", "floor(1 + rand() * 3)", "CAST(kind AS CHAR)", "kind"},
	{"tags", "set('new','lent','zu prüfen')", "floor(rand() * 8)", "CAST(tags AS CHAR)", "tags"},
	{"raw", "varbinary(40)", "unhex(md5(rand()))", "md5(raw)", "md5(raw)"},
	{"code", "varchar(40) CHARACTER SET latin1", "concat('Größe ', rand())", "CONVERT(code USING utf8mb4)", "code"},
	{"mark", "uuid", "uuid()", "CAST(mark AS CHAR)", "CAST(mark AS VARCHAR)"},
	{"doc", "json", "json_object('shelf', rand(), 'title', 'Über den Fluß')", "doc", "CAST(doc AS VARCHAR)"},
}

const mariaAlone = 2 // of the columns

// maria is a MariaDB or MySQL database that is written.
type maria struct {
	*Source
	db       *sql.DB
	number   atomic.Int64 // of the last transaction
	versions atomic.Int64
	last     int64 // of the record that was brought
}

// NewMariaDB makes the tables in a MariaDB database. The record is judged in a PostgreSQL
// database of its own, by the same SQL.
func NewMariaDB(ctx context.Context, db *sql.DB, judge string) (*Source, error) {
	return newMaria(ctx, db, judge, false)
}

// NewMySQL does the same in a MySQL database.
func NewMySQL(ctx context.Context, db *sql.DB, judge string) (*Source, error) {
	return newMaria(ctx, db, judge, true)
}

func newMaria(ctx context.Context, db *sql.DB, judge string, mysql bool) (*Source, error) {
	pool, err := pgxpool.New(ctx, judge)
	if err != nil {
		return nil, err
	}
	if _, err := pool.Exec(ctx, strings.ReplaceAll(schemaSQL, "SUM_OF_ROW", "''")); err != nil {
		return nil, err
	}
	m := &maria{Source: &Source{Pool: pool, Bulk: 5000, Huge: 200_000, Errors: map[string]int{}}, db: db}
	m.write, m.bring = m.transact, m.bringRecord
	db.SetMaxOpenConns(20)
	statements := m.tables(mysql)
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	for _, sql := range statements {
		if _, err := conn.ExecContext(ctx, sql); err != nil {
			return nil, fmt.Errorf("%w: %s", err, sql)
		}
	}
	return m.Source, nil
}

// tables gives the statements that make the tables, with the triggers that keep the record.
func (m *maria) tables(mysql bool) []string {
	var there, here, list, anew []string
	columns := mariaColumns
	if mysql {
		columns = columns[:len(columns)-mariaAlone]
	}
	var standing []string
	for _, c := range columns {
		there, here = append(there, "coalesce("+strings.ReplaceAll(c.there, c.name, "NEW."+c.name)+
			", 'null')"), append(here, c.here)
		definition := c.name + " " + c.definition
		if c.value != "" {
			if mysql { // it has no defaults that are computed
				standing = append(standing, "NEW."+c.name+" = "+c.value)
			} else {
				definition += " DEFAULT (" + c.value + ")"
			}
			anew = append(anew, c.name+" = "+c.value)
		}
		list = append(list, definition)
	}
	m.sum, m.anew = sumOf(here), strings.Join(anew, ", ")
	statements := []string{"SET NAMES utf8mb4",
		"CREATE TABLE record (seq bigint AUTO_INCREMENT PRIMARY KEY, tbl varchar(60) NOT NULL, xid bigint NOT NULL, " +
			"op char(1) NOT NULL, id varchar(60), v bigint, sum char(32))",
		"CREATE TABLE numbers (seq int PRIMARY KEY)",
		"INSERT INTO numbers SELECT a.d + 10 * b.d + 100 * c.d + 1000 * e.d + 1 FROM (D) a, (D) b, (D) c, (D) e"}
	digits := "SELECT 0 AS d"
	for d := 1; d <= 9; d++ {
		digits += fmt.Sprintf(" UNION SELECT %d", d)
	}
	statements[len(statements)-1] = strings.ReplaceAll(statements[len(statements)-1], "(D)", "("+digits+")")
	row := "md5(concat_ws('|', " + strings.Join(there, ", ") + "))"
	for _, keep := range Keeps {
		for i, name := range Tables(keep) {
			table := back(name)
			note := func(op, prefix string) string {
				v, sum := "NULL", "NULL"
				if op != "D" {
					v, sum = "NEW.v", row
				}
				return fmt.Sprintf("INSERT INTO record (tbl, xid, op, id, v, sum) VALUES (%s, @txn, '%s', "+
					"concat(%s.branch, '/', %[3]s.no), %[4]s, %[5]s);", "'"+name+"'", op, prefix, v, sum)
			}
			statements = append(statements,
				fmt.Sprintf("CREATE TABLE %s (branch varchar(40), no int, v bigint NOT NULL DEFAULT 0, %s, `Söme "+
					"\"Column` varchar(20) DEFAULT 'as it is', PRIMARY KEY (branch, no)) CHARACTER SET utf8mb4", table,
					strings.Join(list, ", ")),
				fmt.Sprintf("CREATE TRIGGER %s AFTER INSERT ON %s FOR EACH ROW BEGIN %s END",
					back(fmt.Sprintf("i%d%s", i, keep)), table, note("I", "NEW")),
				fmt.Sprintf("CREATE TRIGGER %s AFTER DELETE ON %s FOR EACH ROW BEGIN %s END",
					back(fmt.Sprintf("d%d%s", i, keep)), table, note("D", "OLD")),
				fmt.Sprintf("CREATE TRIGGER %s AFTER UPDATE ON %s FOR EACH ROW BEGIN IF OLD.branch <> NEW.branch OR "+
					"OLD.no <> NEW.no THEN %s %s ELSEIF OLD.v <> NEW.v THEN %s END IF; END", back(fmt.Sprintf("u%d%s",
					i, keep)), table, note("D", "OLD"), note("I", "NEW"), note("U", "NEW")),
				"SET @txn = 0")
			if mysql {
				statements = append(statements, fmt.Sprintf("CREATE TRIGGER %s BEFORE INSERT ON %s FOR EACH ROW SET %s",
					back(fmt.Sprintf("b%d%s", i, keep)), table, strings.Join(standing, ", ")))
			}
			statements = append(statements, fmt.Sprintf("INSERT INTO %s (branch, no, note) SELECT 'main', seq, "+
				"repeat('n', seq * 40) FROM numbers WHERE seq <= 150", table))
		}
	}
	return statements
}

func back(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// bringRecord brings what is new in the record.
func (m *maria) bringRecord(ctx context.Context) error {
	found, err := m.db.QueryContext(ctx, "SELECT seq, tbl, xid, op, id, v, sum FROM record WHERE seq > ? ORDER BY seq",
		m.last)
	if err != nil {
		return err
	}
	defer func() { _ = found.Close() }()
	_, err = m.Pool.CopyFrom(ctx, pgx.Identifier{"record"}, []string{"seq", "tbl", "xid", "op", "id", "v", "sum"},
		pgx.CopyFromFunc(func() ([]any, error) {
			if !found.Next() {
				return nil, found.Err()
			}
			var seq, xid int64
			var tbl, op string
			var id, sum sql.NullString
			var v sql.NullInt64
			if err := found.Scan(&seq, &tbl, &xid, &op, &id, &v, &sum); err != nil {
				return nil, err
			}
			m.last = seq
			return []any{seq, tbl, uint64(xid), op, id, v, sum}, nil
		}))
	return err
}

func (m *maria) transact(r *rand.Rand) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	conn, err := m.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	exec := func(sql string, args ...any) error {
		_, err := conn.ExecContext(ctx, sql, args...)
		return err
	}
	var tables []string
	for _, keep := range Keeps {
		tables = append(tables, Tables(keep)...)
	}
	r.Shuffle(len(tables), func(i, j int) { tables[i], tables[j] = tables[j], tables[i] })
	tables = tables[:1+r.IntN(3)]
	number := m.number.Add(1)
	if err := exec(fmt.Sprintf("SET @txn = %d, lock_wait_timeout = 5, innodb_lock_wait_timeout = 5, "+
		"binlog_row_image = '%s'", number, []string{"FULL", "NOBLOB", "MINIMAL"}[r.IntN(3)])); err != nil {
		return err
	}
	if r.IntN(150) == 0 {
		return m.truncate(exec, tables[0])
	}
	if r.IntN(200) == 0 {
		return exec("FLUSH BINARY LOGS")
	}
	begin, commit, rollback := "START TRANSACTION", "COMMIT", "ROLLBACK"
	if r.IntN(15) == 0 { // in two phases
		name := fmt.Sprintf("'t%d'", number)
		begin, commit, rollback = "XA START "+name, "XA COMMIT "+name, "XA ROLLBACK "+name
		defer func() { _ = exec("XA END " + name); _ = exec(rollback) }() // where it was not ended
	}
	if err := exec(begin); err != nil {
		return err
	}
	err = func() error {
		for range 1 + r.IntN(6) {
			if err := m.change(exec, r, back(tables[r.IntN(len(tables))]), begin == "START TRANSACTION"); err != nil {
				return err
			}
		}
		return nil
	}()
	if name, ok := strings.CutPrefix(begin, "XA START "); ok {
		if e := exec("XA END " + name); e != nil && err == nil {
			err = e
		}
		if err == nil {
			err = exec("XA PREPARE " + name)
		}
	}
	switch r.IntN(25) {
	case 0:
		return exec(rollback)
	case 1:
		time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond) // slow to commit
	}
	if err != nil {
		_ = exec(rollback)
		return err
	}
	return exec(commit)
}

// truncate notes what it does while nobody else can write.
func (m *maria) truncate(exec func(string, ...any) error, name string) error {
	defer func() { _ = exec("UNLOCK TABLES") }()
	if err := exec("LOCK TABLES " + back(name) + " WRITE, record WRITE"); err != nil {
		return err
	}
	if err := exec("INSERT INTO record (tbl, xid, op) VALUES (?, @txn, 'T')", name); err != nil {
		return err
	}
	return exec("TRUNCATE TABLE " + back(name))
}

// change is one statement, some of them under a savepoint that is rolled back.
func (m *maria) change(run func(string, ...any) error, r *rand.Rand, table string, savepoints bool) error {
	if savepoints && r.IntN(12) == 0 {
		if err := run("SAVEPOINT inner_one"); err != nil {
			return err
		}
		if err := m.change(run, r, table, false); err != nil {
			return err
		}
		if r.IntN(2) == 0 {
			return run("ROLLBACK TO inner_one")
		}
		return run("RELEASE SAVEPOINT inner_one")
	}
	version := fmt.Sprint(m.versions.Add(1)) // a sequence as a default brings down a server of version 10.11
	exec := func(sql string, args ...any) error {
		return run(strings.NewReplacer("TABLE_", table, "VERSION_", version).Replace(sql), args...)
	}
	no, other := 1+r.IntN(200), 1+r.IntN(200)
	note := noteOf(r, no, m.Huge)
	switch n := r.IntN(1000); {
	case n < 250:
		return exec(`INSERT INTO TABLE_ (branch, no, v, note, fee, seen) VALUES ('main', ?, VERSION_, ?, ? / 100, `+
			`?) ON DUPLICATE KEY UPDATE v = VERSION_, note = VALUES(note), fee = VALUES(fee)`, no, note, r.IntN(9999),
			r.IntN(5))
	case n < 500: // the note, however long, is left as it is
		return exec(`UPDATE TABLE_ SET v = VERSION_, seen = ? WHERE branch = 'main' AND no = ?`, r.IntN(5), no)
	case n < 560:
		return exec(`UPDATE TABLE_ SET v = VERSION_, `+m.anew+` WHERE branch = 'main' AND no = ?`, no)
	case n < 600:
		return exec(`UPDATE TABLE_ SET v = VERSION_, note = ? WHERE branch = 'main' AND no = ?`, note, no)
	case n < 650: // nothing changes
		return exec(`UPDATE TABLE_ SET seen = seen WHERE branch = 'main' AND no = ?`, no)
	case n < 800:
		return exec(`DELETE FROM TABLE_ WHERE branch = 'main' AND no = ?`, no)
	case n < 870: // the key changes
		return exec(`UPDATE TABLE_ SET no = ?, v = VERSION_ WHERE branch = 'main' AND no = ? AND NOT EXISTS (SELECT `+
			`1 FROM (SELECT 1 FROM TABLE_ WHERE branch = 'main' AND no = ?) AS there)`, other, no, other)
	case n < 900:
		if err := exec(`DELETE FROM TABLE_ WHERE branch = 'main' AND no = ?`, no); err != nil {
			return err
		}
		return exec(`INSERT INTO TABLE_ (branch, no, v, note) VALUES ('main', ?, VERSION_, ?)`, no, note)
	case n < 985:
		return exec(`UPDATE TABLE_ SET v = VERSION_, fee = coalesce(fee, 0) + 0.01 WHERE branch = 'main' AND no `+
			`BETWEEN ? AND ?`, min(no, other), min(no, other)+10)
	case n < 990: // a large transaction
		if err := exec(fmt.Sprintf(`INSERT INTO TABLE_ (branch, no, v, note) SELECT 'bulk', seq, VERSION_, `+
			`concat('bulk ', seq) FROM numbers WHERE seq <= %d ON DUPLICATE KEY UPDATE v = VERSION_`,
			m.bulkRows(r))); err != nil {
			return err
		}
		if r.IntN(2) == 0 {
			return nil
		}
		return exec(`DELETE FROM TABLE_ WHERE branch = 'bulk' AND no % 3 > 0`)
	default:
		return exec(`UPDATE TABLE_ SET v = VERSION_`)
	}
}
