package e2e

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// A MariaDB source as its users meet it: added by a URL, looked through, followed by its log
// and read by a watermark into one warehouse, proved, and its versions shown.
func TestMariaDBByCommand(t *testing.T) {
	s := newService(t)
	settings, db := testkit.MariaDatabase(t)
	exec := func(sql string) {
		t.Helper()
		_, err := db.Exec(sql)
		require.NoError(t, err, sql)
	}
	exec(`CREATE TABLE titles (id int PRIMARY KEY, name varchar(80) CHARACTER SET latin1, updated_at timestamp(6) DEFAULT now(6) ON UPDATE now(6)) CHARACTER SET utf8mb4;
CREATE TABLE copies (barcode char(8) PRIMARY KEY, branch varchar(40)) CHARACTER SET utf8mb4; INSERT INTO titles (id, name) VALUES (1, 'Die Brücke'), (2, 'The Ferry');
INSERT INTO copies VALUES ('C1', 'Grünau'), ('C2', 'Dornheim')`)
	s.addWarehouse("lake", "duckdb")
	url := fmt.Sprintf("mariadb://%s:%s@127.0.0.1:%d/%s", settings.User, settings.Password, settings.Port,
		settings.Database)
	out := s.must("sources", "add", "catalogue", "--url", url)
	require.Contains(t, out, "MariaDB 1")
	require.NotContains(t, out, settings.Password)
	require.Contains(t, s.must("sources", "tables", "catalogue"), settings.Database+".titles")
	out, code := s.cli("", "sources", "add", "wrong", "--url", strings.Replace(url, settings.Password, "nonsense", 1))
	require.Equal(t, 1, code)
	require.Contains(t, out, "did not accept the password")

	s.apply(`
feed: catalogue
source: catalogue
warehouse: lake
freshness: continuous
target: kept.{table}
tables:
  - {table: %s.copies, find: log, keep: history}
`, settings.Database)
	s.apply(`
feed: titles
source: catalogue
warehouse: lake
target: kept.{table}
tables:
  - {table: %s.titles, find: watermark, watermark: {column: updated_at, settle: 1ms}, keep: latest}
`, settings.Database)
	require.Equal(t, "done", s.finish("titles").State)
	_, err := s.client.StartFeed(t.Context(), "catalogue")
	require.NoError(t, err)
	table := settings.Database + ".copies"
	shows := func(text string) {
		t.Helper()
		var out string
		require.Eventually(t, func() bool {
			out, _ = s.cli("", "versions", "catalogue", table, "C1")
			return strings.Contains(out, text)
		}, 30*time.Second, 100*time.Millisecond, "%s", &out)
	}
	shows("Grünau")
	exec(`UPDATE copies SET branch = 'Fernmoor' WHERE barcode = 'C1'; UPDATE titles SET name = 'Der Fluß' WHERE id = 1`)
	shows("branch: Grünau → Fernmoor")
	time.Sleep(10 * time.Millisecond)
	require.EqualValues(t, 1, s.finish("titles").Books.Updated)
	s.proved("titles", settings.Database+".titles", 2)
	s.proved("catalogue", table, 2)
	place := regexp.MustCompile(`^\d{20} \d+-\d+-\d+`)
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "catalogue")
		return err == nil && place.MatchString(f.Tables[0].Position)
	}, 20*time.Second, 100*time.Millisecond)
	connection, err := s.client.Connection(t.Context(), client.Sources, "catalogue")
	require.NoError(t, err)
	require.Equal(t, "mariadb", connection.Kind)
	require.Empty(t, connection.Settings.Password)
	s.must("feeds", "remove", "catalogue")
}

// A MySQL source by command: it is followed by its log, compared, and what cannot be done is said.
func TestMySQLByCommand(t *testing.T) {
	s := newService(t)
	settings, db := testkit.MySQLDatabase(t)
	exec := func(sql string) {
		t.Helper()
		_, err := db.Exec(sql)
		require.NoError(t, err, sql)
	}
	exec(`CREATE TABLE titles (id int PRIMARY KEY, name varchar(80)) CHARACTER SET utf8mb4;
		INSERT INTO titles VALUES (1, 'Die Brücke'), (2, 'The Ferry');
		CREATE TABLE copies (id int PRIMARY KEY, title int, FOREIGN KEY (title) REFERENCES titles (id) ON DELETE CASCADE);
		INSERT INTO copies VALUES (7, 1), (8, 1), (9, 2)`)
	s.addWarehouse("lake", "duckdb")
	out := s.must("sources", "add", "catalogue", "--url", fmt.Sprintf("mysql://%s:%s@127.0.0.1:%d/%s", settings.User,
		strings.ReplaceAll(settings.Password, " ", "%20"), settings.Port, settings.Database))
	require.Contains(t, out, "is kept and fine: MySQL 5.6.24")
	const compared = `
feed: titles
source: catalogue
warehouse: lake
target: compared.{table}
tables:
  - {table: %s.titles, find: compare, keep: latest}
`
	s.apply(compared, settings.Database)
	require.Equal(t, "done", s.finish("titles").State)

	const followed = `
feed: catalogue
source: catalogue
warehouse: lake
target: kept.{table}
tables:
  - {table: %s.copies, find: log, keep: history}
`
	_, err := s.client.FeedFile(t.Context(), fmt.Sprintf(followed, settings.Database), client.Apply)
	require.ErrorContains(t, err, "when rows of "+settings.Database+".titles go or change")
	s.apply(followed+"  - {table: %[1]s.titles, find: log, keep: soft-delete}\n", settings.Database)
	require.Equal(t, "done", s.finish("catalogue").State)
	exec("DELETE FROM titles WHERE id = 1; INSERT INTO titles VALUES (3, 'Föhr')")
	run := s.finish("catalogue")
	require.Equal(t, "done", run.State, "%+v", run.Problem)
	require.EqualValues(t, 3, run.Books.Deleted, "a title and its copies")
	s.proved("catalogue", settings.Database+".titles", 2)
	s.proved("catalogue", settings.Database+".copies", 1)
	require.EqualValues(t, 1, s.finish("titles").Books.Deleted)
	s.proved("titles", settings.Database+".titles", 2)
	f, err := s.client.Feed(t.Context(), "catalogue")
	require.NoError(t, err)
	require.Regexp(t, `^\d{20} [0-9a-f-]{36}:1-\d+$`, f.Tables[0].Position)
	require.Regexp(t, `the server writes [0-9.]+ [kMG]?B of it in an hour`, s.must("sources", "test", "catalogue"))
}
