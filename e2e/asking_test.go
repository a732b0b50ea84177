package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// asked is a service with a SQL port, and a lake that a feed has filled.
type asked struct {
	*service
	source *database
	secret string // of the token analyst, which may ask kept
}

func newAsked(t *testing.T, flags ...string) *asked {
	s := &service{t: t, dir: testkit.Dir(t), listen: "127.0.0.1:0", flags: append([]string{"--sql-listen",
		"127.0.0.1:0"}, flags...)}
	s.start()
	t.Cleanup(func() {
		if t.Failed() {
			t.Log("the service's log:\n" + s.stderr.String())
		}
		s.stop()
	})
	a := &asked{service: s, source: s.addSource("circulation")}
	s.addWarehouse("lake", "duckdb")
	a.source.exec(`CREATE TABLE loans (id int PRIMARY KEY, title text, lent_at timestamptz, fee numeric(8,2), extra jsonb,
		returned boolean);
		COMMENT ON TABLE loans IS 'What was lent';
		INSERT INTO loans VALUES (1, 'Low Tide', '2026-03-01 09:00:00Z', 1.50, '{"a": [1, 2]}', true),
			(2, 'The Weir', '2026-03-02 10:30:00.5Z', NULL, NULL, false);
		CREATE TABLE fines (id int PRIMARY KEY, amount numeric(8,2)); INSERT INTO fines VALUES (1, 2.00)`)
	s.apply("feed: desk\nsource: circulation\nwarehouse: lake\ntarget: kept.{table}\ntables:\n  - {table: " +
		"public.loans, find: whole, keep: latest}\n" +
		"  - {table: public.fines, find: whole, keep: latest, target: pay.fines}\n")
	require.Equal(t, "done", s.finish("desk").State)
	token, err := s.client.AddToken(t.Context(), client.NewToken{Name: "analyst", Role: "look",
		Asks: []string{"lake.kept"}})
	require.NoError(t, err)
	a.secret = token.Secret
	return a
}

// url is where somebody asks.
func (a *asked) url(user, secret, warehouse string) string {
	u := url.URL{Scheme: "postgresql", User: url.UserPassword(user, secret), Host: a.sql, Path: "/" + warehouse}
	return u.String()
}

func (a *asked) connect() *pgx.Conn { return testkit.Connect(a.t, a.url("analyst", a.secret, "lake")) }

// psql runs commands as the analyst.
func (a *asked) psql(commands ...string) (string, error) {
	args := []string{"-X", a.url("analyst", a.secret, "lake")}
	for _, c := range commands {
		args = append(args, "-c", c)
	}
	c := exec.Command("psql", args...)
	out, err := c.CombinedOutput()
	return string(out), err
}

// The commands of psql, the driver of Go and one of another language ask while a feed's file is held by the service.
// Longer than a screen: it is one story of one service.
func TestClientsOfPostgreSQLAsk(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	out, err := a.psql(`\l`, `\dn`, `\dt`, `\dt+ kept.*`, `\d kept.loans`, `\d+ kept.loans`, `\dv`, `\du`, `\df`,
		`\z kept.loans`,
		`\dT`, `\x`, `SELECT count(*) AS n, max(lent_at) FROM kept.loans`, `\conninfo`)
	require.NoError(t, err, out)
	for _, text := range []string{"lake", " kept | noemata", "What was lent", "timestamp with time zone", "numeric(8,2)",
		"-[ RECORD 1 ]", "2026-03-02 10:30:00.5+00"} {
		require.Contains(t, out, text)
	}
	require.NotContains(t, out, "pay", "it may not be asked, and is not told of")
	out, err = a.psql("BEGIN", "SELECT 1 AS one; SELECT 'a;b' AS two", "COMMIT",
		"COPY (SELECT id, title, fee FROM kept.loans ORDER BY id) TO STDOUT WITH (FORMAT csv, HEADER)",
		"COPY kept.loans (id, fee) TO STDOUT")
	require.NoError(t, err, out)
	require.Contains(t, out, "id,title,fee\n1,Low Tide,1.50\n2,The Weir,\n")
	require.Contains(t, out, "1\t1.50\n")
	require.Contains(t, out, "2\t\\N\n")
	require.Contains(t, out, "a;b")
	out, err = a.psql(`\set FETCH_COUNT 1`, "SELECT id, title FROM kept.loans ORDER BY id", "SELECT 'after' AS it")
	require.NoError(t, err, out)
	for _, text := range []string{"Low Tide", "The Weir", "after"} { // each by a cursor
		require.Contains(t, out, text)
	}
	out, err = a.psql("BEGIN", "DECLARE c NO SCROLL CURSOR FOR SELECT * FROM range(5) r(i)", "FETCH 2 FROM c",
		"FETCH FORWARD ALL IN c",
		"FETCH NEXT FROM c", "CLOSE c", `DECLARE "odd c" CURSOR WITHOUT HOLD FOR SELECT 7 AS i`, `FETCH "odd c"`, "COMMIT")
	require.NoError(t, err, out)
	require.Contains(t, out,
		"DECLARE CURSOR\n i \n---\n 0\n 1\n(2 rows)\n\n i \n---\n 2\n 3\n 4\n(3 rows)\n\n i \n---\n(0 rows)\n\nCLOSE CURSOR\n"+
			"DECLARE CURSOR\n i \n---\n 7\n(1 row)\n")
	for sql, says := range map[string]string{
		"DECLARE c CURSOR FOR SELECT 1":                                         "one of a transaction",
		"BEGIN; DECLARE c SCROLL CURSOR FOR SELECT 1":                           "goes forward",
		"BEGIN; DECLARE c CURSOR WITH HOLD FOR SELECT 1":                        "ends with its transaction",
		"BEGIN; DECLARE c CURSOR FOR DELETE FROM kept.loans":                    "Only questions are answered here",
		"BEGIN; DECLARE c CURSOR FOR SELECT 1; FETCH BACKWARD 1 c":              "fetched forward",
		"FETCH 1 FROM nothing":                                                  "There is no cursor nothing",
		"BEGIN; DECLARE c CURSOR FOR SELECT * FROM range(9); FETCH c; SELECT 1": "not read to its end yet",
		"SELECT nothing FROM kept.loans":                                        "LINE 1: SELECT nothing FROM kept.loans\n               ^",
		"DELETE FROM kept.loans":                                                "Only questions are answered here",
		"SELECT * FROM pay.fines":                                               "You may not ask the schema pay.",
		"SELECT * FROM noemata.positions":                                       "You may not ask the schema noemata.",
		"COPY kept.loans FROM '/etc/passwd'":                                    "Nothing is written here, and no file",
		"SET timezone = 'Europe/Vienna'":                                        "timezone is UTC here",
		"SELECT 1; SELECT 2 +":                                                  "syntax error",
		"BEGIN; SELECT * FROM kept.nothing; SELECT 1":                           "does not exist",
	} {
		out, err := a.psql(sql)
		require.Error(t, err, sql)
		require.Contains(t, out, says, sql)
	}

	script := filepath.Join("..", "internal", "testkit", "pg", "ask.js")
	answer, err := exec.Command("node", script, a.url("analyst", a.secret, "lake")).Output()
	require.NoError(t, err, "%s", answer)
	require.JSONEq(t, `{"rows": [
		{"id": 1, "title": "Low Tide", "lent_at": "2026-03-01T09:00:00.000Z", "fee": "1.50",
			"extra": {"a": [1, 2]}, "returned": true},
		{"id": 2, "title": "The Weir", "lent_at": "2026-03-02T10:30:00.500Z", "fee": null, "extra": null, "returned": false}],
		"types": [23, 25, 1184, 1700, 114, 16], "titles": ["Low Tide", "The Weir"],
		"wrong": {"code": "42703", "position": "8", "message": "Referenced column \"nothing\" not found in FROM clause!\nCandidate bindings: \"nm_run\""},
		"after": [{"n": "2"}]}`, withoutCandidates(string(answer)))

	list, err := a.client.Questions(t.Context(), client.QuestionFilter{By: "analyst", Limit: 500})
	require.NoError(t, err)
	require.Greater(t, len(list), 20, "they are on record")
	require.Equal(t, "sql", list[0].Way)
	require.Equal(t, "done", list[0].State)
}

// withoutCandidates leaves out which names DuckDB thinks of.
func withoutCandidates(answer string) string {
	before, rest, found := strings.Cut(answer, "Candidate bindings: ")
	if !found {
		return answer
	}
	_, after, _ := strings.Cut(rest, `","position"`)
	return before + `Candidate bindings: \"nm_run\"","position"` + after
}

// Every type comes out as it is, in text and in binary, as a value and as a parameter. Longer than a screen: these
// are many.
func TestTypesThroughTheSQLPort(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	text, err := pgx.ParseConfig(a.url("analyst", a.secret, "lake"))
	require.NoError(t, err)
	text.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	simple, err := pgx.ConnectConfig(t.Context(), text)
	require.NoError(t, err)
	defer func() { _ = simple.Close(context.Background()) }()
	inBinary := a.connect()
	at := time.Date(2026, 3, 1, 9, 0, 0, 123456000, time.UTC)
	for sql, want := range map[string]any{
		"true": true, "32767::SMALLINT": int16(32767), "(-2147483648)::INTEGER": int32(-2147483648),
		"9223372036854775807::BIGINT": int64(9223372036854775807), "1.5::FLOAT": float32(1.5), "-0.1::DOUBLE": -0.1,
		"'Œsling — \"x\"'": `Œsling — "x"`, "''": "", "'\\x00\\xff'::BLOB": []byte{0, 255},
		"DATE '2026-02-28'": time.Date(2026, 2, 28, 0, 0, 0, 0, time.UTC), "TIMESTAMP '2026-03-01 09:00:00.123456'": at,
		"TIMESTAMPTZ '2026-03-01 10:00:00.123456+01'": at, "255::UTINYINT": int16(255),
		"4294967295::UINTEGER":            int64(4294967295),
		"DATE '0044-03-15 (BC)'":          time.Date(-43, 3, 15, 0, 0, 0, 0, time.UTC),
		"TIMESTAMP '2026-03-01 09:00:00'": at.Truncate(time.Second),
	} {
		for form, conn := range map[string]*pgx.Conn{"text": simple, "binary": inBinary} {
			rows, err := conn.Query(t.Context(), "SELECT "+sql)
			require.NoError(t, err)
			values, err := pgx.CollectOneRow(rows, func(row pgx.CollectableRow) (any, error) {
				v, err := row.Values()
				if err != nil {
					return nil, err
				}
				return v[0], nil
			})
			require.NoError(t, err, "%s as %s", sql, form)
			if is, ok := values.(time.Time); ok {
				values = is.UTC()
			}
			require.Equal(t, want, values, "%s as %s", sql, form)
		}
	}
	for sql, want := range map[string]string{
		"12345678901234567890.12::DECIMAL(38,2)":           "12345678901234567890.12",
		"170141183460469231731687303715884105727::HUGEINT": "170141183460469231731687303715884105727",
		"18446744073709551615::UBIGINT":                    "18446744073709551615", "sum(1)": "1",
		"INTERVAL '1 year 2 months -3 days 04:05:06.5'": "1 year 2 mons -3 days 04:05:06.5",
		"TIME '23:59:59.000001'":                        "23:59:59.000001", "DATE 'infinity'": "infinity",
		"TIMESTAMP '-infinity'": "-infinity",
		"'nan'::DOUBLE":         "NaN", "'-inf'::DOUBLE": "-Infinity", "1e300::DOUBLE": "1e+300",
		"[1, NULL, 3]":                         "[1,null,3]",
		"{'a': 'x', 'b': [DATE '2026-01-01']}": `{"a":"x","b":["2026-01-01"]}`, "'b'::ENUM('a','b')": "b",
		"'6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f'::UUID": "6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f",
		"'{\"a\": 1}'::JSON":                           `{"a": 1}`,
	} {
		result := simple.PgConn().ExecParams(t.Context(), "SELECT "+sql, nil, nil, nil, nil).Read()
		require.NoError(t, result.Err, sql)
		require.Equal(t, want, string(result.Rows[0][0]), sql)
		m := inBinary.TypeMap()
		result = inBinary.PgConn().ExecParams(t.Context(), "SELECT "+sql, nil, nil, nil, []int16{1}).Read()
		require.NoError(t, result.Err, sql)
		oid := result.FieldDescriptions[0].DataTypeOID
		typ, ok := m.TypeForOID(oid)
		require.True(t, ok)
		v, err := typ.Codec.DecodeValue(m, oid, 1, result.Rows[0][0])
		require.NoError(t, err, sql)
		again, err := m.Encode(oid, 0, v, nil)
		require.NoError(t, err, sql)
		switch oid {
		case pgtype.JSONOID, pgtype.IntervalOID, pgtype.Float8OID: // the driver has another form for the same
		default:
			require.Equal(t, want, strings.TrimSuffix(string(again), " 00:00:00"), sql)
		}
	}
	var n int
	var title string
	require.NoError(t, inBinary.QueryRow(t.Context(), `SELECT count(*)::INTEGER, max(title) FROM kept.loans
		WHERE id = $1 AND lent_at < $2 AND fee >= $3 AND returned = $4`, 1, time.Now(), pgtype.Numeric{Int: pgInt(150), Exp: -2, Valid: true}, true).Scan(&n, &title))
	require.Equal(t, 1, n)
	require.Equal(t, "Low Tide", title)
	var none *string
	require.NoError(t, inBinary.QueryRow(t.Context(),
		"SELECT title FROM kept.loans WHERE id = $1 AND title IS NOT DISTINCT FROM $2 UNION ALL SELECT NULL",
		1, nil).Scan(&none))
	require.Nil(t, none)

	var copied bytes.Buffer
	tag, err := inBinary.PgConn().CopyTo(t.Context(), &copied, "COPY (SELECT 1, NULL, 'a') TO STDOUT (FORMAT binary)")
	require.NoError(t, err)
	require.EqualValues(t, 1, tag.RowsAffected())
	require.Equal(t, "PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00"+"\x00\x03\x00\x00\x00\x04\x00\x00\x00\x01\xff\xff\xff\xff"+"\x00\x00\x00\x01a\xff\xff",
		copied.String())
}

// Who may not ask does not; who is not known does not learn what there is; failures are few and on record.
//
// Longer than a screen: it is one story of one service.
func TestWhoMayAsk(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	try := func(user, secret, warehouse string) *pgconn.PgError {
		t.Helper()
		conn, err := pgx.Connect(t.Context(), a.url(user, secret, warehouse))
		if err == nil {
			_ = conn.Close(t.Context())
			return nil
		}
		var refused *pgconn.PgError
		require.True(t, errors.As(err, &refused), "%v", err)
		return refused
	}
	look, err := a.client.AddToken(t.Context(), client.NewToken{Name: "looker", Role: "look"})
	require.NoError(t, err)
	require.Equal(t, "42501", try("looker", look.Secret, "lake").Code, "to look is not to ask")
	require.Equal(t, "42501", try("analyst", a.secret, "other").Code)
	require.Equal(t, try("analyst", a.secret, "other").Message, strings.ReplaceAll(try("looker", look.Secret,
		"other").Message, "looker", "analyst"))
	_, err = a.client.AddUser(t.Context(), client.NewUser{Name: "maren w/ a blank", Role: "look",
		Password: "four small islands"})
	require.NoError(t, err)
	_, err = a.client.ChangeUser(t.Context(), client.NewUser{Name: "maren w/ a blank", Role: "look",
		Asks: []string{"lake"}})
	require.NoError(t, err, "names are what they are in paths, too")
	require.Nil(t, try("maren w/ a blank", "four small islands", "lake"))
	_, err = a.client.AddUser(t.Context(), client.NewUser{Name: "maren", Role: "look", Password: "four small islands",
		Asks: []string{"la*"}})
	require.NoError(t, err)
	require.Nil(t, try("maren", "four small islands", "lake"))
	_, err = a.client.ChangeUser(t.Context(), client.NewUser{Name: "maren", Role: "look", Password: "five small islands"})
	require.NoError(t, err)
	require.Equal(t, "28P01", try("maren", "four small islands", "lake").Code)
	require.Equal(t, "42501", try("maren", "five small islands", "lake").Code, "what she may ask was left out")
	_, err = a.client.AddToken(t.Context(), client.NewToken{Name: "wrong", Role: "look", Asks: []string{"lake."}})
	require.ErrorContains(t, err, "names nothing that can be asked")

	// What is taken away is gone from sessions that go on, also of what was prepared.
	_, err = a.client.ChangeUser(t.Context(), client.NewUser{Name: "maren", Role: "look", Asks: []string{"lake.pay",
		"lake.kept"}})
	require.NoError(t, err)
	hers := testkit.Connect(t, a.url("maren", "five small islands", "lake"))
	_, err = hers.Prepare(t.Context(), "fines", "SELECT count(*) FROM pay.fines")
	require.NoError(t, err)
	_, err = a.client.ChangeUser(t.Context(), client.NewUser{Name: "maren", Role: "look", Asks: []string{"lake.kept"}})
	require.NoError(t, err)
	time.Sleep(6 * time.Second)
	_, err = hers.Exec(t.Context(), "fines")
	require.ErrorContains(t, err, "What you may ask has changed")
	_, err = hers.Exec(t.Context(), "fines")
	require.Error(t, err)
	_, err = hers.Exec(t.Context(), "SELECT count(*) FROM kept.loans")
	require.NoError(t, err)
	conn := a.connect()
	_, err = conn.Exec(t.Context(), "SELECT 1")
	require.NoError(t, err)
	tokens, err := a.client.Tokens(t.Context())
	require.NoError(t, err)
	for _, x := range tokens {
		if x.Name == "analyst" {
			require.Equal(t, []string{"lake.kept"}, x.Asks)
			require.NoError(t, a.client.RemoveToken(t.Context(), x.ID))
		}
	}
	require.Eventually(t, func() bool {
		_, err := conn.Exec(t.Context(), "SELECT 1")
		var refused *pgconn.PgError
		return errors.As(err, &refused) && refused.Code == "28000"
	}, 20*time.Second, 500*time.Millisecond)

	for range 20 {
		if refused := try("nobody", "nothing at all", "lake"); refused.Code == "28000" {
			require.Contains(t, refused.Message, "Wait a minute")
			changes, err := a.client.Changes(t.Context(), client.ChangeFilter{By: "nobody", Limit: 50})
			require.NoError(t, err)
			require.NotEmpty(t, changes)
			require.Equal(t, "sign-in-to-ask", changes[0].Operation)
			require.Equal(t, 401, changes[0].Status)
			return
		}
	}
	t.Fatal("sign-ins may fail without an end")
}

// A question ends when it takes too long, when its asker or somebody who operates stops it, and when its client goes.
//
// Longer than a screen: it is one story of one service.
func TestQuestionsHaveBounds(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t, "--ask-time", "3s", "--ask-rows", "1000", "--ask-at-once", "2")
	const endless = "SELECT sum(a.range * b.range) FROM range(10000000) a, range(10000000) b"
	refused := func(err error, code, says string) {
		t.Helper()
		var e *pgconn.PgError
		require.True(t, errors.As(err, &e), "%v", err)
		require.Equal(t, code, e.Code, e.Message)
		require.Contains(t, e.Message, says)
	}
	_, err := a.connect().Exec(t.Context(), endless)
	refused(err, "57014", "longer than the 3s")
	_, err = a.connect().Exec(t.Context(), "SELECT * FROM range(2000)")
	refused(err, "54000", "more than the 1 000 rows")

	stopped := func(stop func(id int64)) error {
		conn := a.connect()
		failed := make(chan error, 1)
		go func() {
			_, err := conn.Exec(context.Background(), endless)
			failed <- err
		}()
		var id int64
		require.Eventually(t, func() bool {
			list, err := a.client.Questions(t.Context(), client.QuestionFilter{State: "running", Limit: 10})
			if err == nil && len(list) == 1 {
				id = list[0].ID
			}
			return id != 0
		}, 10*time.Second, 20*time.Millisecond)
		stop(id)
		return <-failed
	}
	refused(stopped(func(id int64) { a.must("questions", "stop", fmt.Sprint(id)) }), "57014",
		"was stopped by first administrator")
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	_, err = a.connect().Exec(ctx, endless) // the driver sends a cancel
	require.Error(t, err)
	require.Eventually(t, func() bool {
		list, err := a.client.Questions(t.Context(), client.QuestionFilter{State: "running", Limit: 10})
		return err == nil && len(list) == 0
	}, 10*time.Second, 50*time.Millisecond, "nothing goes on for a client that has gone")

	conn := a.connect()
	batch := &pgx.Batch{} // portals that are read in pieces
	batch.Queue("SELECT 1")
	batch.Queue("SELECT nothing")
	batch.Queue("SELECT 3")
	results := conn.SendBatch(t.Context(), batch)
	_, err = results.Exec()
	require.Error(t, err)
	require.Error(t, results.Close())
	require.NoError(t, conn.Ping(t.Context()))

	for _, odd := range []string{"SET application_name = '", "SHOW '", "RESET", "SET", "DEALLOCATE '", "SET as_of = now"} {
		_, _ = conn.PgConn().Exec(t.Context(), odd).ReadAll() // refused or not, the session goes on
		require.NoError(t, conn.Ping(t.Context()), odd)
	}
	var shown string
	require.NoError(t, conn.QueryRow(t.Context(), "SHOW transaction_isolation").Scan(&shown))
	require.Equal(t, "repeatable read", shown)
	_, err = conn.Exec(t.Context(), "SET statement_timeout = '300ms'")
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), endless)
	refused(err, "57014", "statement_timeout")

	var all sync.WaitGroup
	for range 6 { // more than are answered at once: they wait for each other
		all.Go(func() {
			_, err := a.client.Ask(t.Context(), "lake", client.Ask{SQL: "SELECT count(*) FROM range(20000000)"})
			require.NoError(t, err)
		})
	}
	all.Wait()

	// A service that stops waits for nobody who only listens, and says so.
	began := time.Now()
	a.stopNow()
	require.Less(t, time.Since(began), 20*time.Second)
	_, err = conn.Exec(t.Context(), "SELECT 1")
	require.Error(t, err)
	a.start()
}

// The command line asks, and writes each format whole.
func TestAskOnTheCommandLine(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	out := a.must("ask", "lake", "SELECT id, title, fee FROM kept.loans ORDER BY id")
	require.Equal(t, "id   title       fee   \n 1   Low Tide   1.50   \n 2   The Weir      –   \n2 rows\n", out)
	out, code := a.cli("FROM kept.loans SELECT title WHERE id = 2", "ask", "lake", "-o", "csv")
	require.Zero(t, code, out)
	require.Equal(t, "title\nThe Weir\n", out)
	require.JSONEq(t, `[{"id": 1, "extra": {"a": [1, 2]}, "fee": 1.50}, {"id": 2, "extra": null, "fee": null}]`,
		a.must("ask", "lake", "SELECT id, extra, fee FROM kept.loans ORDER BY id", "--output", "json"))
	require.Contains(t, a.must("ask", "lake", "SELECT title FROM kept.loans WHERE id = $1", "--value", "1"), "Low Tide")
	require.Contains(t, a.must("ask", "lake", "SELECT * FROM range(5000)"), "1 000 rows, and more")
	file := filepath.Join(a.dir, "answer")
	all := `SELECT true AS a, 1::SMALLINT AS b, 2 AS c, 3::BIGINT AS d, 1.5::FLOAT AS e, 2.5::DOUBLE AS f,
		12.34::DECIMAL(9,2) AS g, -1::HUGEINT AS h, 'x' AS i, '\x00\xff'::BLOB AS j, DATE '2026-01-02' AS k,
		TIME '01:02:03' AS l, TIMESTAMP '2026-01-02 03:04:05.6' AS m, TIMESTAMPTZ '2026-01-02 03:04:05.6Z' AS n,
		INTERVAL '1 month 2 days' AS o, '6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f'::UUID AS p, '{"a": 1}'::JSON AS q,
		[1, 2] AS r FROM range(300000) UNION ALL SELECT ` + strings.Repeat("NULL, ", 17) + "NULL"
	for _, format := range []string{"parquet", "arrow", "csv", "json"} {
		a.must("ask", "lake", all, "--output", format, "--file", file)
		info, err := os.Stat(file)
		require.NoError(t, err)
		require.Greater(t, info.Size(), int64(1000), format)
		if format == "parquet" {
			require.Equal(t, [][]any{{int64(300001), int64(300000), "12.34", "2026-01-02 03:04:05.6+00",
				"6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f", "[1,2]"}},
				readParquet(t, file, "SELECT count(*), count(a), max(g)::VARCHAR, max(n)::VARCHAR, max(p)::VARCHAR, "+
					"max(r)::VARCHAR"))
		}
	}
	out, code = a.cli("", "ask", "lake", "DROP TABLE kept.loans")
	require.Equal(t, 2, code)
	require.Contains(t, out, "Only questions are answered here")
	out, code = a.cli("", "ask", "lake", "SELECT * FROM range(10)", "--file", filepath.Join(a.dir, "no", "such", "folder"))
	require.Equal(t, 2, code)
	require.Contains(t, out, "--file")
	out, code = a.cli("", "ask", "nothing", "SELECT 1")
	require.NotZero(t, code)
	require.Contains(t, out, "may not ask the warehouse nothing")

	list, err := a.client.Askable(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Len(t, list[0].Tables, 5)
	require.Equal(t, "freshness", list[0].Tables[1].Table)
	require.Contains(t, a.must("ask", "lake", "SELECT feed, source_table, target FROM noemata.freshness ORDER BY target"),
		"desk   public.loans   kept.loans")
	proof, err := a.client.Prove(t.Context(), "desk", "public.loans")
	require.NoError(t, err)
	require.Regexp(t, fmt.Sprintf(`public\.loans +true +%d `, proof.Equal),
		a.must("ask", "lake",
			"SELECT source_table, proven_same, proven_rows FROM noemata.freshness WHERE proven_at <= now()"))
	require.Equal(t, "What was lent", list[0].Tables[0].Comment)
	mine := client.New(a.address, a.secret)
	list, err = mine.Askable(t.Context())
	require.NoError(t, err)
	require.Len(t, list[0].Tables, 4, "what may not be asked is not told of")
	_, err = mine.Ask(t.Context(), "lake", client.Ask{SQL: "SELECT * FROM pay.fines"})
	require.ErrorContains(t, err, "You may not ask the schema pay.")
	questions, err := mine.Questions(t.Context(), client.QuestionFilter{})
	require.NoError(t, err)
	for _, q := range questions {
		require.Equal(t, "analyst", q.By, "who looks sees their own")
	}
	others, err := a.client.Questions(t.Context(), client.QuestionFilter{By: "first administrator", Limit: 1})
	require.NoError(t, err)
	require.ErrorContains(t, mine.StopQuestion(t.Context(), others[0].ID), "somebody else's")
	content, err := json.Marshal(others)
	require.NoError(t, err)
	require.NotContains(t, string(content), a.secret)
}

// Who asks learns what names a row, and which tables belong together, by the names that they have in the warehouse.
func TestKeysAndRelationsAreListed(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	reports := a.addWarehouse("reports", "postgresql")
	a.source.exec(`CREATE TABLE branches (region text, name text, PRIMARY KEY (region, name));
CREATE TABLE copies (barcode text PRIMARY KEY, loan int REFERENCES loans, region text, "home town" text, secret int,
  FOREIGN KEY (region, "home town") REFERENCES branches)`)
	for _, warehouse := range []string{"lake", "reports"} {
		feed := "copies-" + warehouse
		a.apply("{feed: %s, source: circulation, warehouse: %s, target: 'shelf.{table}', tables: [{table: public.copies, find: whole, "+
			"keep: latest, columns: {'home town': {name: home}}}, {table: public.branches, find: whole, keep: latest}]}", feed,
			warehouse)
		require.Equal(t, "done", a.finish(feed).State)
	}
	const keys, relations = "SELECT target, key_columns FROM noemata.keys ORDER BY target",
		"SELECT target, its_columns, refers_to, refers_to_columns FROM noemata.relations ORDER BY target"
	related := "shelf.copies region, home shelf.branches region, name" // loans are kept by another feed
	require.Equal(t, []string{"kept.loans id", "pay.fines id", "shelf.branches region, name", "shelf.copies barcode"},
		a.asks(keys))
	require.Equal(t, []string{related}, a.asks(relations))
	conn := testkit.Connect(t, testkit.Postgres(t).URL(reports.Database))
	var row [4]string
	require.NoError(t, conn.QueryRow(t.Context(), relations).Scan(&row[0], &row[1], &row[2], &row[3]))
	require.Equal(t, related, strings.Join(row[:], " "))

	a.source.exec(`ALTER TABLE copies DROP CONSTRAINT "copies_region_home town_fkey"`)
	require.Equal(t, "done", a.finish("copies-lake").State)
	require.Empty(t, a.asks(relations), "it goes when it is gone")
	a.source.exec(`ALTER TABLE copies ADD FOREIGN KEY (region, "home town") REFERENCES branches; COMMENT ON TABLE copies IS 'Old'`)
	require.Equal(t, "done", a.finish("copies-lake").State)
	require.Equal(t, []string{related}, a.asks(relations), "and comes back")
	for _, comment := range []string{"New", "Old"} {
		a.source.exec("COMMENT ON TABLE copies IS '" + comment + "'")
		require.Equal(t, "done", a.finish("copies-lake").State)
		require.Equal(t, []string{comment},
			a.asks("SELECT comment FROM duckdb_tables() WHERE schema_name = 'shelf' AND table_name = 'copies'"))
	}
}

// Tables are copied out as one cut, whole or by month; a folder has all of an export, or what it had before.
func TestExports(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	to := filepath.Join(a.dir, "copies", "all")
	said := a.must("export", "lake", "--tables", "kept.*", "--tables", "pay.fines", "--to", to)
	require.Contains(t, said, "3 rows in 2 files are in "+to)
	require.Equal(t, [][]any{{int64(2), "1.50"}}, readParquet(t, filepath.Join(to, "kept", "loans.parquet"),
		"SELECT count(*), max(fee)::VARCHAR"))
	require.Equal(t, [][]any{{int64(1)}}, readParquet(t, filepath.Join(to, "pay", "fines.parquet"), "SELECT count(*)"))
	manifest, err := os.ReadFile(filepath.Join(to, "manifest.json"))
	require.NoError(t, err)
	require.Contains(t, string(manifest), `"file":"pay/fines.parquet","schema":"pay","table":"fines","rows":1`)

	a.must("export", "lake", "--tables", "kept.loans", "--partition-by", "day(lent_at)", "--format", "csv", "--to", to)
	content, err := os.ReadFile(filepath.Join(to, "kept", "loans", "day=2026-03-01", "rows.csv"))
	require.NoError(t, err)
	require.Contains(t, string(content), "1,Low Tide,2026-03-01T09:00:00.000000Z,1.50")
	require.NoFileExists(t, filepath.Join(to, "pay", "fines.parquet"), "the earlier export has made room, all of it")
	left, err := os.ReadDir(filepath.Dir(to))
	require.NoError(t, err)
	require.Len(t, left, 1)

	// Only what has changed is written anew, also of a table that has other columns now, or a file that is gone.
	changed := func(said string) {
		t.Helper()
		require.Contains(t, a.must("export", "lake", "--tables", "kept.*", "--tables", "pay.fines", "--partition-by",
			"day(lent_at)",
			"--changed", "--to", to), said)
	}
	changed("3 rows in 3 files, and 0 files as before,")
	changed("0 rows in 0 files, and 3 files as before,")
	a.source.exec("UPDATE loans SET fee = 2 WHERE id = 2")
	require.Equal(t, "done", a.finish("desk").State)
	changed("1 row in 1 file, and 2 files as before,")
	require.NoError(t, os.Remove(filepath.Join(to, "pay", "fines.parquet")))
	changed("1 row in 1 file, and 2 files as before,")
	require.Equal(t, [][]any{{int64(2), "2.00"}}, readParquet(t, filepath.Join(to, "kept", "loans", "*", "rows.parquet"),
		"SELECT count(*), max(fee)::VARCHAR"))
	manifest, err = os.ReadFile(filepath.Join(to, "manifest.json"))
	require.NoError(t, err)
	require.Contains(t, string(manifest),
		`"file":"kept/loans/day=2026-03-01/rows.parquet","schema":"kept","table":"loans","rows":1,`)
	a.must("export", "lake", "--tables", "kept.loans", "--partition-by", "day(lent_at)", "--format", "csv", "--to", to)

	for _, x := range [][]string{{"--tables", "kept.nothing", "--to", to}, {"--tables", "kept.loans", "--to", a.dir},
		{"--tables", "kept.loans", "--partition-by", "week(x)", "--to", to}, {"--to", to}} {
		out, code := a.cli("", append([]string{"export", "lake"}, x...)...)
		require.NotZero(t, code, "%v: %s", x, out)
	}
	require.FileExists(t, filepath.Join(to, "kept", "loans", "day=2026-03-01", "rows.csv"), "what was there stays")
	mine := client.New(a.address, a.secret)
	_, err = mine.Export(t.Context(), "lake", client.Export{Tables: []string{"*.*"}}, func(string,
		io.Reader) error {
		return nil
	})
	require.NoError(t, err)
	_, err = mine.Export(t.Context(), "lake", client.Export{Tables: []string{"pay.fines"}}, nil)
	require.ErrorContains(t, err, "no table pay.fines that you may ask")
}

// Whatever bytes come, before the sign-in and after it, the port answers others, and the process lives.
func TestTheSQLPortTakesAnything(t *testing.T) {
	t.Parallel() // beside others that wait
	a := newAsked(t)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	noise := func(n int) []byte {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return b
	}
	for i := range 150 { // before the sign-in
		conn, err := net.Dial("tcp", a.sql)
		require.NoError(t, err)
		first := noise(r.IntN(200))
		if i%2 == 0 { // a length that fits, and the version
			body := append([]byte{0, 3, 0, 0}, first...)
			first = append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+4)), body...)
		}
		_, _ = conn.Write(first)
		_, _ = conn.Write(noise(r.IntN(50)))
		_ = conn.Close()
	}
	for range 150 { // after it: messages of every kind, with anything in them
		conn, err := pgconn.Connect(t.Context(), a.url("analyst", a.secret, "lake"))
		require.NoError(t, err)
		raw, err := conn.Hijack()
		require.NoError(t, err)
		_ = raw.Conn.SetDeadline(time.Now().Add(5 * time.Second))
		for range 1 + r.IntN(6) {
			kind := "QPBEDCSHFXdcf"[r.IntN(13)]
			body := noise(r.IntN(120))
			if r.IntN(2) == 0 {
				body = append([]byte("SELECT 1\x00\x00\x01"), body...)
			}
			length := uint32(len(body) + 4)
			if r.IntN(10) == 0 {
				length = r.Uint32()
			}
			if _, err := raw.Conn.Write(append(binary.BigEndian.AppendUint32([]byte{kind}, length), body...)); err != nil {
				break
			}
		}
		_ = raw.Conn.Close()
	}
	out, err := a.psql("SELECT count(*) FROM kept.loans")
	require.NoError(t, err, out)
	require.Eventually(t, func() bool {
		list, err := a.client.Questions(t.Context(), client.QuestionFilter{State: "running"})
		return err == nil && len(list) == 0
	}, 20*time.Second, 100*time.Millisecond)
	require.NotContains(t, a.stderr.String(), "panic")
}

func pgInt(n int64) *big.Int { return big.NewInt(n) }

// readParquet asks a Parquet file as another program would.
func readParquet(t *testing.T, file, columns string) [][]any {
	t.Helper()
	db, err := sql.Open("duckdb", "")
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	rows, err := db.QueryContext(t.Context(), columns+" FROM read_parquet('"+file+"')")
	require.NoError(t, err)
	defer func() { _ = rows.Close() }()
	names, err := rows.Columns()
	require.NoError(t, err)
	var all [][]any
	for rows.Next() {
		row, into := make([]any, len(names)), make([]any, len(names))
		for i := range row {
			into[i] = &row[i]
		}
		require.NoError(t, rows.Scan(into...))
		all = append(all, row)
	}
	require.NoError(t, rows.Err())
	return all
}
