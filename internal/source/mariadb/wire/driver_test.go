package wire_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/source/mariadb/wire"
	"noemata/internal/testkit"
)

// pool opens a pool of one connection, so that a test knows which one it has.
func pool(t *testing.T, o wire.Options) *sql.DB {
	t.Helper()
	db := sql.OpenDB(&wire.Connector{Options: o,
		Sets: []string{"SET SESSION sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES', time_zone = '+00:00'",
			"SET NAMES utf8mb4"}})
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// Values reach the server as they are, whatever they hold; question marks within quotes are no
// places for them.
func TestValuesOfQueries(t *testing.T) {
	db := pool(t, options(testkit.MariaDB(t)))
	for _, text := range []string{"", "plain", "it's", `\`, `\'`, "''", `"quoted"`, "a ? b", "'; DROP TABLE loans; --",
		"\x00\n\r\x1a", "Œsling 本 🙂", strings.Repeat("'", 1000)} {
		var back, twice string
		var number int64
		var null sql.NullString
		require.NoError(t, db.QueryRow(`SELECT ?, concat(?, ?), ?, ? /* it?s */`, text, text, text, int64(-7), nil,
			"the comment's").Scan(&back, &twice, &number, &null), "%q", text)
		require.Equal(t, text, back)
		require.Equal(t, text+text, twice)
		require.EqualValues(t, -7, number)
		require.False(t, null.Valid)
	}
	var literal, name string
	require.NoError(t, db.QueryRow("SELECT 'is it ?', x.\"what ?\" FROM (SELECT ? AS `what ?`) AS x",
		"this").Scan(&literal, &name))
	require.Equal(t, "is it ?", literal)
	require.Equal(t, "this", name)
	require.ErrorContains(t, db.QueryRow("SELECT ?, ?", "one").Scan(&literal, &name), "more places than values")
	require.ErrorContains(t, db.QueryRow("SELECT ?", "one", "two").Scan(&literal), "fewer places than values")
	require.ErrorContains(t, db.QueryRow("SELECT ?", 1.5).Scan(&literal), "cannot be part of a query")
	_, err := db.Begin()
	require.ErrorContains(t, err, "only queries are run here")
	_, err = db.Prepare("SELECT 1")
	require.ErrorContains(t, err, "only queries are run here")
}

// Times come as times, and everything else as the server writes it.
func TestValuesOfAnswers(t *testing.T) {
	db := pool(t, options(testkit.MariaDB(t)))
	var at, day, stamp time.Time
	var decimal, text string
	var number int64
	var yes bool
	require.NoError(t, db.QueryRow(`SELECT CAST('2026-11-25 09:30:15.123456' AS datetime(6)), CAST('2026-02-28' AS `+
		`date), UTC_TIMESTAMP(6), CAST('12.340' AS decimal(6,3)), repeat('x', 100000), CAST(18446744073709551615 AS `+
		`signed), 1 = 1`).
		Scan(&at, &day, &stamp, &decimal, &text, &number, &yes))
	require.Equal(t, time.Date(2026, 11, 25, 9, 30, 15, 123_456_000, time.UTC), at)
	require.Equal(t, time.Date(2026, 2, 28, 0, 0, 0, 0, time.UTC), day)
	require.WithinDuration(t, time.Now(), stamp, time.Minute)
	require.Equal(t, "12.340", decimal)
	require.Len(t, text, 100_000)
	require.EqualValues(t, -1, number)
	require.True(t, yes)
	require.Error(t, db.QueryRow(`SELECT CAST('0000-00-00' AS date)`).Scan(&day), "no day")

	rows, err := db.Query("SELECT seq, repeat('y', seq) FROM mysql.seq_1_to_300")
	require.NoError(t, err)
	defer func() { _ = rows.Close() }()
	columns, err := rows.Columns()
	require.NoError(t, err)
	require.Equal(t, []string{"seq", "repeat('y', seq)"}, columns)
	n := 0
	for ; rows.Next(); n++ {
		require.NoError(t, rows.Scan(&number, &text))
		require.EqualValues(t, n+1, number)
		require.Len(t, text, n+1)
	}
	require.NoError(t, rows.Err())
	require.Equal(t, 300, n)
}

// An answer that is longer than a catalogue's can be ends the query and not the process, and
// the connection is not used again.
func TestAnAnswerHasABound(t *testing.T) {
	db := pool(t, options(testkit.MariaDB(t)))
	var before, after int64
	require.NoError(t, db.QueryRow("SELECT CONNECTION_ID()").Scan(&before))
	_, err := db.Query("SELECT repeat('x', 1000000) FROM mysql.seq_1_to_100")
	require.ErrorContains(t, err, "longer than 64 MB")
	require.NoError(t, db.QueryRow("SELECT CONNECTION_ID()").Scan(&after))
	require.NotEqual(t, before, after)
}

// What the server says is wrong with a statement leaves the connection as it is; a connection
// that it has closed, or whose privileges may have changed, is not used again.
func TestConnectionsAreGivenUpWhereTheyMust(t *testing.T) {
	s := testkit.MariaDB(t)
	admin := connect(t, options(s))
	for _, sql := range []string{"CREATE DATABASE IF NOT EXISTS pooled",
		"CREATE TABLE IF NOT EXISTS pooled.loans (id int)",
		"CREATE USER 'reader'@'127.0.0.1' IDENTIFIED BY 'a secret'"} {
		require.NoError(t, admin.Exec(t.Context(), sql), sql)
	}
	o := options(s)
	o.User, o.Password = "reader", "a secret"
	db := pool(t, o)
	id := func() (id int64) {
		t.Helper()
		require.NoError(t, db.QueryRow("SELECT CONNECTION_ID()").Scan(&id))
		return id
	}
	var text string
	first := id()
	require.Error(t, db.QueryRow("SELECT nonsense").Scan(&text))
	require.Equal(t, first, id())

	require.NoError(t, admin.Exec(t.Context(), fmt.Sprintf("KILL %d", first)))
	time.Sleep(50 * time.Millisecond)
	second := id() // without an error: it is noticed before it is used
	require.NotEqual(t, first, second)

	var server *wire.Error
	require.ErrorAs(t, db.QueryRow("SELECT id FROM pooled.loans").Scan(&text), &server)
	require.Equal(t, 1142, server.Number)
	require.NoError(t, admin.Exec(t.Context(), "GRANT SELECT ON pooled.* TO 'reader'@'127.0.0.1'"))
	require.ErrorIs(t, db.QueryRow("SELECT id FROM pooled.loans").Scan(&text), sql.ErrNoRows)
	require.NotEqual(t, second, id())
}

// A query that nobody waits for any more ends at the server, too.
func TestAQueryThatIsGivenUpEndsAtTheServer(t *testing.T) {
	s := testkit.MariaDB(t)
	admin := connect(t, options(s))
	db := pool(t, options(s))
	ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	began := time.Now()
	_, err := db.QueryContext(ctx, "SELECT sleep(30) /* given up */")
	require.True(t, errors.Is(err, context.DeadlineExceeded), "%v", err)
	require.Less(t, time.Since(began), 10*time.Second)
	require.Eventually(t, func() bool {
		return ask(t, admin, "SELECT count(*) FROM information_schema.PROCESSLIST WHERE INFO LIKE '%/* given up */' "+
			"AND ID <> CONNECTION_ID()")[0] == "0"
	}, 10*time.Second, 100*time.Millisecond)
}
