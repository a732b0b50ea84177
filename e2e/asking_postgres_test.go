package e2e

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/core/schema"
	"noemata/internal/testkit"
)

// newAskedReports is a service with a SQL port, and a PostgreSQL warehouse that a feed has filled. Nobody may ask yet.
func newAskedReports(t *testing.T) (a *asked, owner *pgx.Conn, settings client.Settings) {
	a = newAsked(t)
	settings = a.addWarehouse("reports", "postgresql")
	a.apply("feed: shelf\nsource: circulation\nwarehouse: reports\ntarget: kept.{table}\ntables:\n  - {table: " +
		"public.loans, find: whole, keep: history}\n")
	require.Equal(t, "done", a.finish("shelf").State)
	return a, testkit.Connect(t, testkit.Postgres(t).URL(settings.Database)), settings
}

// A PostgreSQL warehouse is asked as a user who only reads, through the same doors, by those who may.
//
// Longer than a screen: it is one story of one service.
func TestAPostgreSQLWarehouseIsAsked(t *testing.T) {
	t.Parallel() // beside others that wait
	a, owner, settings := newAskedReports(t)
	out, code := a.cli("", "ask", "reports", "SELECT 1")
	require.NotZero(t, code)
	require.Contains(t, out, "has no user yet that people's questions are asked as")
	require.Contains(t, out, "noemata warehouses change reports --ask-user USER")
	_, err := pgx.Connect(t.Context(), a.url("first administrator", a.token, "reports"))
	require.ErrorContains(t, err, "has no user yet")

	analysts := "analysts of " + settings.Database[:min(len(settings.Database), 40)]
	testkit.Exec(t, owner, fmt.Sprintf("CREATE ROLE %[1]s LOGIN PASSWORD 'quiet'; GRANT CREATE ON SCHEMA kept TO %[1]s",
		schema.Quote(analysts)))
	t.Cleanup(func() {
		testkit.Exec(t, owner, fmt.Sprintf("DROP OWNED BY %[1]s; DROP ROLE %[1]s", schema.Quote(analysts)))
	})
	change := func() (string, int) {
		settings.AskUser, settings.AskPassword = analysts, "quiet"
		_, err := a.client.ChangeConnection(t.Context(), client.Warehouses, client.NewConnection{Name: "reports",
			Kind:     "postgresql",
			Settings: &settings})
		require.NoError(t, err)
		return a.cli("", "warehouses", "test", "reports")
	}
	out, code = change()
	require.NotZero(t, code, "it could make tables")
	for {
		_, statement, found := strings.Cut(out, "REVOKE ")
		if !found {
			break
		}
		statement, _, _ = strings.Cut(statement, ";")
		testkit.Exec(t, owner, "REVOKE "+statement)
		out, code = change()
	}
	require.Zero(t, code, out)
	file := filepath.Join(a.dir, "shelf.yaml")
	require.NoError(t, os.WriteFile(file, []byte(a.must("feeds", "export", "shelf")), 0o600))
	for line := range strings.Lines(a.must("feeds", "privileges", file, "--analysts", analysts)) {
		if strings.HasPrefix(line, "GRANT") && strings.Contains(line, schema.Quote(analysts)) {
			testkit.Exec(t, owner, line)
		}
	}
	require.Contains(t, a.must("warehouses", "show", "reports"), analysts)
	require.Contains(t, a.must("warehouses", "test", "reports"), analysts+", who may read, and no more")
	out, code = a.cli("", "warehouses", "change", "lake", "--ask-user", analysts)
	require.NotZero(t, code)
	require.Contains(t, out, "only one on a server wants a user to be asked as")
	require.NotContains(t, a.must("warehouses", "show", "reports", "--output", "json"), "quiet")

	require.Equal(t, "title\nLow Tide\nThe Weir\n", a.must("ask", "reports", "SELECT title FROM kept.loans ORDER BY id",
		"--output", "csv"))
	require.Contains(t, a.must("ask", "reports", "SELECT title FROM kept.loans WHERE id = $1", "--value", "2"), "The Weir")
	require.Contains(t, a.must("ask", "reports", "SELECT source_table, target FROM noemata.freshness"),
		"public.loans   kept.loans")
	out, code = a.cli("", "ask", "reports", "SELECT * FROM noemata.positions")
	require.NotZero(t, code)
	require.Contains(t, out, "permission denied")
	out, code = a.cli("", "ask", "reports", "DROP TABLE kept.loans")
	require.NotZero(t, code)
	require.Contains(t, out, "Only questions are answered here")
	out, code = a.cli("", "ask", "reports", "SELECT * FROM kept.loans", "--as-of", "2026-03-01T08:30:00Z")
	require.NotZero(t, code)
	require.Contains(t, out, "by its own function")
	require.Contains(t, a.must("ask", "reports", "SELECT count(*) FROM kept.loans_as_of(now())"), "2")
	to := filepath.Join(a.dir, "copies")
	require.Contains(t, a.must("export", "reports", "--tables", "kept.*", "--partition-by", "day(lent_at)", "--changed",
		"--to", to),
		"2 rows in 2 files")
	require.Contains(t, a.must("export", "reports", "--tables", "kept.*", "--partition-by", "day(lent_at)", "--changed",
		"--to", to),
		"0 rows in 0 files, and 2 files as before")
	require.Equal(t, [][]any{{int64(2), "1.50"}}, readParquet(t, filepath.Join(to, "kept", "loans", "*", "rows.parquet"),
		"SELECT count(*), max(fee)::VARCHAR"))

	// Through the port it is PostgreSQL that clients find: its version, its catalogue, its types.
	token, err := a.client.AddToken(t.Context(), client.NewToken{Name: "reporter", Role: "look",
		Asks: []string{"reports"}})
	require.NoError(t, err)
	url := a.url("reporter", token.Secret, "reports")
	said, err := exec.Command("psql", "-X", url, "-c", `\d kept.loans`, "-c", `\dt kept.*`, "-c", `\l`, "-c", `\dn`, "-c",
		`\df kept.*`,
		"-c", "SELECT version()", "-c", "BEGIN", "-c", "SELECT '{1,2}'::int[] AS list, '10.0.0.1'::inet AS address", "-c",
		"COMMIT",
		"-c", "COPY kept.loans (id, title) TO STDOUT WITH (FORMAT csv)").CombinedOutput()
	require.NoError(t, err, string(said))
	for _, text := range []string{"timestamp with time zone", "loans_as_of", "PostgreSQL 15", "{1,2}", "1,Low Tide"} {
		require.Contains(t, string(said), text)
	}
	answer, err := exec.Command("node", filepath.Join("..", "internal", "testkit", "pg", "ask.js"), url).Output()
	require.NoError(t, err, "%s", answer)
	require.Contains(t, string(answer), `"code":"42703"`)
	require.Contains(t, string(answer),
		`"title":"Low Tide","lent_at":"2026-03-01T09:00:00.000Z","fee":"1.50","extra":{"a":[1,2]}`)
	conn := testkit.Connect(t, url)
	tx, err := conn.Begin(t.Context())
	require.NoError(t, err)
	count := func() (n int) {
		require.NoError(t, tx.QueryRow(t.Context(), "SELECT count(*) FROM kept.loans WHERE id > $1", 0).Scan(&n))
		return n
	}
	require.Equal(t, 2, count())
	a.source.exec("INSERT INTO loans VALUES (3, 'Reeds', now(), 2, NULL, false)")
	require.Equal(t, "done", a.finish("shelf").State)
	require.Equal(t, 2, count(), "a transaction sees one cut")
	require.NoError(t, tx.Rollback(t.Context()))
	var n int
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT count(*) FROM kept.loans").Scan(&n))
	require.Equal(t, 3, n)

	refused := make(chan error, 1)
	sleeping := testkit.Connect(t, url)
	go func() {
		_, err := sleeping.Exec(t.Context(), "SELECT pg_sleep(300)")
		refused <- err
	}()
	var id int64
	require.Eventually(t, func() bool {
		list, err := a.client.Questions(t.Context(), client.QuestionFilter{State: "running", By: "reporter", Limit: 10})
		if err == nil && len(list) == 1 {
			id = list[0].ID
		}
		return id != 0
	}, 10*time.Second, 20*time.Millisecond)
	a.must("questions", "stop", fmt.Sprint(id))
	var stopped *pgconn.PgError
	require.True(t, errors.As(<-refused, &stopped))
	require.Equal(t, "57014", stopped.Code)
	require.Contains(t, stopped.Message, "was stopped by first administrator")
	require.NoError(t, sleeping.QueryRow(t.Context(), "SELECT count(*) FROM kept.loans").Scan(&n), "the session goes on")

	// Who may ask one schema asks while that is all the user reads.
	some, err := a.client.AddToken(t.Context(), client.NewToken{Name: "some", Role: "look",
		Asks: []string{"reports.kept"}})
	require.NoError(t, err)
	theirs := client.New(a.address, some.Secret)
	_, err = theirs.Ask(t.Context(), "reports", client.Ask{SQL: "SELECT count(*) FROM kept.loans"})
	require.NoError(t, err)
	testkit.Exec(t, owner,
		fmt.Sprintf("CREATE SCHEMA pay; CREATE TABLE pay.fines (id int); GRANT USAGE ON SCHEMA pay TO %[1]s; "+
			"GRANT SELECT ON pay.fines TO %[1]s", schema.Quote(analysts)))
	_, err = theirs.Ask(t.Context(), "reports", client.Ask{SQL: "SELECT count(*) FROM kept.loans"})
	require.ErrorContains(t, err, "You may not ask the schema pay")
}
