package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/testkit"
	"noemata/internal/testkit/answers"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/postgres"
)

// reading is a warehouse with some tables as feeds leave them, of which a role may read the schema live.
type reading struct {
	warehouse.Warehouse
	role     string
	settings connection.Settings
	admin    *pgx.Conn
}

func newReading(t *testing.T) *reading {
	settings, admin := testkit.Database(t)
	role := "analysts of " + settings.Database
	role = role[:min(len(role), 63)]
	testkit.Exec(t, admin, fmt.Sprintf(`CREATE ROLE %[1]s LOGIN PASSWORD 'quiet'; REVOKE CREATE ON SCHEMA public FROM PUBLIC;
		CREATE SCHEMA noemata; CREATE TABLE noemata.positions (feed text); INSERT INTO noemata.positions VALUES ('desk');
		CREATE SCHEMA live; CREATE SCHEMA pay; CREATE TABLE pay.fines (id int); INSERT INTO pay.fines VALUES (1);
		CREATE TABLE live.loans (id int PRIMARY KEY, title text, lent_at timestamptz, fee numeric(8,2));
		COMMENT ON TABLE live.loans IS 'What was lent'; COMMENT ON COLUMN live.loans.fee IS 'in crowns';
		INSERT INTO live.loans VALUES (1, 'Low Tide', '2026-03-01 09:00:00Z', 1.50), (2, 'The Weir', '2026-03-02 10:30:00Z', NULL);
		CREATE SEQUENCE live.numbers;
		GRANT USAGE ON SCHEMA live TO %[1]s; GRANT SELECT ON ALL TABLES IN SCHEMA live TO %[1]s`, schema.Quote(role)))
	t.Cleanup(func() {
		testkit.Exec(t, admin, fmt.Sprintf("DROP OWNED BY %[1]s; DROP ROLE %[1]s", schema.Quote(role)))
	})
	settings.AskUser, settings.AskPassword = role, "quiet"
	w, err := postgres.Open(settings, `warehouse "reports"`)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return &reading{w, role, settings, admin}
}

func everyone(name string) bool { return name != "noemata" }

func (r *reading) converse(t *testing.T) warehouse.Conversation {
	c, err := r.Warehouse.(warehouse.Answering).Converse(t.Context(), everyone)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func TestQuestionsAreAnswered(t *testing.T) {
	c := newReading(t).converse(t)
	for sql, want := range map[string][]string{
		"SELECT id, title, fee FROM live.loans ORDER BY id":                    {"1|Low Tide|1.50", "2|The Weir|~"},
		"/* how many */ (SELECT count(*) FROM live.loans)":                     {"2"},
		"-- by year\nTABLE live.loans ORDER BY id LIMIT 1":                     {"1|Low Tide|2026-03-01T09:00:00.000000Z|1.50"},
		"VALUES (1, 'a'), (2, NULL)":                                           {"1|a", "2|~"},
		"WITH n AS (SELECT generate_series(1, 3) i) SELECT sum(i) FROM n":      {"6"},
		"/* a /* b */ c */ -- d\r(select 1)":                                   {"1"},
		"SHOW transaction_read_only":                                           {"on"},
		"SELECT NULL, true, '\\x00ff'::bytea, 'NaN'::numeric, 1.5e300::float8": {`~|true|\x00ff|NaN|1.5e+300`},
		"SELECT '{1,2}'::int[], '10.0.0.1'::inet, '[1,5)'::int4range, 'r'::\"char\", 'live.loans'::regclass": {
			"{1,2}|10.0.0.1|[1,5)|r|live.loans"},
		`SELECT '{"a": 1}'::jsonb, 'infinity'::timestamptz, '-infinity'::date, '1 mon 2 days'::interval`: {
			`{"a": 1}|infinity|-infinity|1 months 2 days 0 us`},
		"SELECT relname FROM pg_class WHERE oid = 'live.loans'::regclass": {"loans"},
		"SELECT FROM live.loans": nil, // rows without columns
	} {
		rows, err := answers.Rows(t.Context(), c, sql)
		require.NoError(t, err, sql)
		if want != nil {
			require.Equal(t, want, rows, sql)
		}
	}
	for _, x := range []struct {
		sql    string
		values []string
		want   string
	}{
		{"SELECT title FROM live.loans WHERE id = $1 AND lent_at > $2", []string{"2", "2026-03-01"}, "The Weir"},
		{"SELECT encode($1::bytea, 'hex'), $2::numeric + 1, $3::inet", []string{`\x0aff`, "1.5", "10.0.0.1"},
			"0aff|2.5|10.0.0.1"},
		{"SELECT encode($1::bytea, 'hex')", []string{"0aff"}, "0aff"},
	} {
		rows, err := answers.Rows(t.Context(), c, x.sql, x.values...)
		require.NoError(t, err, x.sql)
		require.Equal(t, []string{x.want}, rows, x.sql)
	}
	tables, err := c.Tables(t.Context())
	require.NoError(t, err)
	require.Len(t, tables, 1, "what the role may read")
	require.Equal(t, "What was lent", tables[0].Comment)
	require.Equal(t, schema.Column{Name: "fee", Native: "numeric(8,2)", Comment: "in crowns"}, tables[0].Columns[3])
	told, err := newReading(t).Warehouse.(warehouse.Told).Told(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, told["server_version_num"])
}

func TestMistakesOfQuestions(t *testing.T) {
	c := newReading(t).converse(t)
	for sql, want := range map[string]warehouse.Mistake{
		"SELECT nothing FROM live.loans":            {State: "42703", Position: 8},
		"SELECT * FROM live.nothing":                {State: "42P01", Position: 15},
		"SELECT 1 +":                                {State: "42601", Position: 11},
		"SELECT 1 / 0":                              {State: "22012"},
		"SELECT 'x'::int":                           {State: "22P02", Position: 8},
		"SELECT * FROM pay.fines":                   {State: "42501"},
		"SELECT * FROM noemata.positions":           {State: "42501"},
		"SELECT 'NaN'::numeric(8,2) AS fee":         {State: "22003"},
		"SELECT 1 \x00":                             {State: "22021"},
		"SELECT '" + strings.Repeat("x", 1e5) + "'": {State: "54000"},
		"": {State: "25006"},
	} {
		_, err := answers.Rows(t.Context(), c, sql)
		var m *warehouse.Mistake
		require.ErrorAs(t, err, &m, sql)
		require.Equal(t, want.State, m.State, "%s: %s", sql, m.Message)
		if want.Position > 0 {
			require.Equal(t, want.Position, m.Position, sql)
		}
	}
	_, err := answers.Rows(t.Context(), c, "SELECT $1::int")
	require.ErrorContains(t, err, "takes 1 value")
	c.AsOf(time.Now())
	_, err = answers.Rows(t.Context(), c, "SELECT * FROM live.loans")
	require.ErrorContains(t, err, "by its own function")
}

// Whatever a question says, nothing is written, nothing that was set stays, and no file is read.
func TestQuestionsWriteNothing(t *testing.T) {
	r := newReading(t)
	testkit.Exec(t, r.admin, `CREATE FUNCTION live.wipe() RETURNS int LANGUAGE plpgsql AS
		$$ BEGIN SET transaction_read_only = off; DELETE FROM live.loans; RETURN 1; END $$;
		GRANT EXECUTE ON FUNCTION live.wipe() TO PUBLIC`)
	c := r.converse(t)
	for _, sql := range []string{
		"INSERT INTO live.loans VALUES (3)", "DELETE FROM live.loans", "DROP TABLE live.loans", "COMMIT", "DO $$BEGIN END$$",
		"COPY live.loans TO '/tmp/x'", "SET transaction_read_only = off", "CALL live.wipe()", "LOCK TABLE live.loans",
		"/* SELECT */ DELETE FROM live.loans", "--SELECT\nDELETE FROM live.loans", "PREPARE x AS SELECT 1", "VACUUM",
		"/* /* */ SELECT */ COMMIT", "-- \rCOMMIT /*\nSELECT */", "/*/* */*/ SET datestyle = german", "/* SELECT 1", "-- SELECT",
		"/* /* */ SELECT */ SET default_transaction_read_only = off", "/* /* */ SELECT */ CREATE TEMP TABLE loans (id int)",
		"SELECT 1; DELETE FROM live.loans", "SELECT 1; COMMIT; DELETE FROM live.loans",
		"WITH d AS (DELETE FROM live.loans RETURNING *) SELECT * FROM d", "SELECT 3 AS id INTO live.more",
		"EXPLAIN ANALYZE DELETE FROM live.loans", "EXPLAIN ANALYZE CREATE TABLE live.more AS SELECT 1",
		"SELECT * FROM live.loans FOR UPDATE", "SELECT nextval('live.numbers')", "SELECT live.wipe()",
		"SELECT set_config('transaction_read_only', 'off', false)", "SELECT pg_read_file('/etc/passwd')",
		"SELECT lo_import('/etc/passwd')", "SELECT pg_ls_dir('/')",
		"SELECT query_to_xml('DELETE FROM live.loans', true, true, '')",
		"SELECT query_to_xml('SELECT * FROM pay.fines', true, true, '')",
		"SELECT pg_reload_conf()", "SELECT set_config('role', 'postgres', false)", "SELECT pg_export_snapshot(), 1 / 0",
	} {
		rows, err := answers.Rows(t.Context(), c, sql)
		require.Error(t, err, "%s: %v", sql, rows)
		require.NotEmpty(t, problem.Of(err).What)
	}
	_, err := answers.Rows(t.Context(), c,
		"SELECT set_config('search_path', 'pay', false), set_config('default_transaction_read_only', "+
			"'off', false), set_config('timezone', 'Asia/Tokyo', false), pg_advisory_lock(4711), "+
			"lo_from_bytea(4711, 'x')")
	require.NoError(t, err)
	rows, err := answers.Rows(t.Context(), c,
		"SELECT current_setting('default_transaction_read_only'), current_setting('timezone'), "+
			"current_setting('search_path') LIKE '%pay%'")
	require.NoError(t, err)
	require.Equal(t, []string{"on|UTC|false"}, rows)
	var free bool
	require.NoError(t, r.admin.QueryRow(t.Context(), "SELECT pg_try_advisory_lock(4711)").Scan(&free))
	require.True(t, free, "the lock that a question took is given back")
	require.NoError(t, r.admin.QueryRow(t.Context(), "SELECT count(*) = 0 FROM pg_largeobject").Scan(&free))
	require.True(t, free, "what the server lets be made in a transaction that writes nothing goes with it")
	rows, err = answers.Rows(t.Context(), c, "SELECT count(*) FROM live.loans")
	require.NoError(t, err)
	require.Equal(t, []string{"2"}, rows)
}

// Who could do more than read is not asked as; what the remedy says mends it.
func TestWhoIsAskedAsOnlyReads(t *testing.T) {
	r := newReading(t)
	role := schema.Quote(r.role)
	for given, says := range map[string]string{
		"ALTER ROLE %s SUPERUSER":                                                            "has the rights of the role",
		"ALTER ROLE %s CREATEROLE":                                                           "may do more than read",
		"GRANT pg_read_server_files TO %s":                                                   "pg_read_server_files",
		"GRANT CREATE ON SCHEMA live TO %s":                                                  "may make tables in the schema live",
		"GRANT CREATE ON SCHEMA public TO PUBLIC; --%s":                                      "may make tables in the schema public",
		"GRANT INSERT ON live.loans TO %s":                                                   "may write the table live.loans",
		"GRANT UPDATE (fee) ON live.loans TO %s":                                             "may write the table live.loans",
		"GRANT USAGE ON SCHEMA noemata TO %[1]s; GRANT SELECT ON noemata.positions TO %[1]s": "which Noemata keeps for itself",
	} {
		testkit.Exec(t, r.admin, fmt.Sprintf(given, role))
		try := func() error { // by a warehouse that was opened anew
			w, err := postgres.Open(r.settings, `warehouse "reports"`)
			require.NoError(t, err)
			defer w.Close()
			_, err = w.Test(t.Context())
			c, unasked := w.(warehouse.Answering).Converse(t.Context(), everyone)
			require.Equal(t, err == nil, unasked == nil, "%s: tested %v, asked %v", given, err, unasked)
			if unasked == nil {
				c.Close()
			}
			return err
		}
		err := try()
		require.ErrorContains(t, err, says, given)
		p := problem.Of(err)
		require.Equal(t, "ask_user", p.Field)
		testkit.Exec(t, r.admin, p.Remedy)
		require.NoError(t, try(), "%s, mended by %s", given, p.Remedy)
	}
	s := r.settings
	s.AskUser = "nobody at all"
	w, err := postgres.Open(s, `warehouse "reports"`)
	require.NoError(t, err)
	defer w.Close()
	_, err = w.Test(t.Context())
	require.ErrorContains(t, err, "nobody at all")
	require.Equal(t, "ask_password", problem.Of(err).Field)
	s.AskUser = s.User
	_, err = postgres.Open(s, `warehouse "reports"`)
	require.ErrorContains(t, err, "must not be asked as one who writes")
	s.AskUser = ""
	w, err = postgres.Open(s, `warehouse "reports"`)
	require.NoError(t, err)
	defer w.Close()
	_, err = w.(warehouse.Answering).Converse(t.Context(), everyone)
	require.ErrorIs(t, err, warehouse.ErrUnasked)
}

// Who may ask some schemas asks where the user reads no other, and nowhere else: a question reads what its user can.
func TestWhoMayAskSomeSchemas(t *testing.T) {
	r := newReading(t)
	may := func(name string) bool { return name == "live" }
	c, err := r.Warehouse.(warehouse.Answering).Converse(t.Context(), may)
	require.NoError(t, err)
	c.Close()
	testkit.Exec(t, r.admin, fmt.Sprintf("GRANT USAGE ON SCHEMA pay TO %[1]s; GRANT SELECT ON pay.fines TO %[1]s",
		schema.Quote(r.role)))
	_, err = r.Warehouse.(warehouse.Answering).Converse(t.Context(), may)
	require.ErrorContains(t, err, "You may not ask the schema pay")
	r.converse(t)
}

func TestQuestionsSeeOneCut(t *testing.T) {
	r := newReading(t)
	c := r.converse(t)
	count := func() string {
		rows, err := answers.Rows(t.Context(), c, "SELECT count(*) FROM live.loans")
		require.NoError(t, err)
		return rows[0]
	}
	require.NoError(t, c.Begin(t.Context()))
	testkit.Exec(t, r.admin, "INSERT INTO live.loans VALUES (3, 'Reeds')")
	require.Equal(t, "2", count())
	require.Equal(t, "2", count())
	_, err := answers.Rows(t.Context(), c, "SELECT 1 / 0")
	require.Error(t, err)
	c.End()
	require.Equal(t, "3", count())
	q, err := c.Prepare(t.Context(), "SELECT * FROM live.loans")
	require.NoError(t, err)
	testkit.Exec(t, r.admin, "ALTER TABLE live.loans ADD COLUMN due date")
	_, err = c.Ask(t.Context(), q, nil)
	require.ErrorContains(t, err, "other columns since the question was prepared")
	require.Equal(t, "3", count())
}

// An answer that is not read to its end leaves the conversation, and its transaction, as they were.
func TestAnswersAreLeft(t *testing.T) {
	r := newReading(t)
	c := r.converse(t)
	ask := func(sql string) warehouse.Answer {
		q, err := c.Prepare(t.Context(), sql)
		require.NoError(t, err)
		a, err := c.Ask(t.Context(), q, nil)
		require.NoError(t, err)
		return a
	}
	const long = "SELECT i, repeat('x', 100) FROM generate_series(1, 100000) i"
	require.NoError(t, c.Begin(t.Context()))
	for range 2 {
		a := ask(long)
		record, err := a.Next(t.Context())
		require.NoError(t, err)
		require.NotZero(t, record.NumRows())
		a.Close()
	}
	rows, err := answers.Rows(t.Context(), c, long)
	require.NoError(t, err)
	require.Len(t, rows, 100000)
	require.True(t, strings.HasPrefix(rows[99999], "100000|xxx"))
	c.End()

	wide := ask("SELECT repeat('y', 3000000) FROM generate_series(1, 20)")
	record, err := wide.Next(t.Context())
	require.NoError(t, err)
	require.Less(t, record.NumRows(), int64(4), "a record of wide rows has few")
	wide.Close()

	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(200*time.Millisecond, cancel)
	_, err = answers.Rows(ctx, c, "SELECT pg_sleep(300)")
	require.True(t, errors.Is(err, context.Canceled), "%v", err)
	require.Eventually(t, func() bool {
		var n int
		err := r.admin.QueryRow(context.Background(),
			"SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep(300)%' "+
				"AND pid <> pg_backend_pid() AND state = 'active'").Scan(&n)
		return err == nil && n == 0
	}, 10*time.Second, 50*time.Millisecond, "the server does not go on with it")
	rows, err = answers.Rows(t.Context(), c, "SELECT 1")
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, rows)

	require.NoError(t, c.Begin(t.Context()))
	testkit.Exec(t, r.admin, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = $1", r.role)
	_, err = answers.Rows(t.Context(), c, "SELECT 1")
	require.Error(t, err)
	_, err = answers.Rows(t.Context(), c, "SELECT 1")
	require.ErrorContains(t, err, "ended with its connection")
	c.End()
	_, err = answers.Rows(t.Context(), c, "SELECT 1")
	require.NoError(t, err)
}

func TestPiecesOfTables(t *testing.T) {
	r := newReading(t)
	c := r.converse(t)
	testkit.Exec(t, r.admin, "INSERT INTO live.loans VALUES (3, 'Reeds', NULL, 2), (4, 'Fog', '2026-04-01 00:00:00Z', 3)")
	tables, err := c.Tables(t.Context())
	require.NoError(t, err)
	pieces, err := c.Pieces(t.Context(), tables[0], &warehouse.Partition{Unit: "month", Column: "lent_at"})
	require.NoError(t, err)
	digests, total := map[string]string{}, 0
	for _, p := range pieces {
		rows, err := answers.Rows(t.Context(), c, p.SQL)
		require.NoError(t, err, p.SQL)
		total += len(rows)
		digest, err := answers.Rows(t.Context(), c, p.Digest)
		require.NoError(t, err, p.Digest)
		digests[p.Name] = digest[0]
	}
	require.Len(t, digests, 3)
	require.Contains(t, digests, "month=none")
	require.Equal(t, 4, total)
	testkit.Exec(t, r.admin, "UPDATE live.loans SET fee = 4 WHERE id = 4")
	for _, p := range pieces {
		digest, err := answers.Rows(t.Context(), c, p.Digest)
		require.NoError(t, err)
		require.Equal(t, p.Name != "month=2026-04", digest[0] == digests[p.Name], p.Name)
	}
	whole, err := c.Pieces(t.Context(), tables[0], nil)
	require.NoError(t, err)
	require.Len(t, whole, 1)
}
