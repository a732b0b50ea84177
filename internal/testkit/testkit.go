// Package testkit gives tests real servers: a PostgreSQL and a MariaDB of their own on
// loopback, shared by the tests of a package, and a database for each test.
package testkit

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/mariaserver"
	"noemata/internal/pgserver"
)

var (
	once   sync.Once
	server *pgserver.Server
	failed error
	folder string
	number atomic.Int64

	onceMaria   sync.Once
	maria       *mariaserver.Server
	failedMaria error
	folderMaria string
)

// Main runs a package's tests, and after them stops the server and what else the
// package names.
func Main(m *testing.M, after ...func()) {
	code := m.Run()
	for _, f := range after {
		f()
	}
	if server != nil {
		_ = server.Stop()
	}
	if maria != nil {
		_ = maria.Stop()
	}
	stopMySQL()
	for _, path := range []string{folder, folderMaria} {
		if path != "" {
			_ = os.RemoveAll(path)
		}
	}
	os.Exit(code)
}

// Dir makes a folder that another user, such as PostgreSQL's, may enter.
func Dir(t testing.TB) string {
	dir, err := os.MkdirTemp("", "noemata-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// Postgres is the package's server.
func Postgres(t testing.TB) *pgserver.Server {
	once.Do(func() {
		if folder, failed = makeDir(); failed != nil {
			return
		}
		server, failed = pgserver.Start(context.Background(),
			pgserver.Options{Dir: filepath.Join(folder, "postgres"), Settings: Settings()})
	})
	require.NoError(t, failed)
	return server
}

func makeDir() (string, error) {
	dir, err := os.MkdirTemp("", "noemata-test-")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

// MariaDB is the package's other server.
func MariaDB(t testing.TB) *mariaserver.Server {
	onceMaria.Do(func() {
		if folderMaria, failedMaria = makeDir(); failedMaria != nil {
			return
		}
		maria, failedMaria = mariaserver.Start(context.Background(),
			mariaserver.Options{Dir: filepath.Join(folderMaria, "mariadb"), Settings: MariaSettings()})
	})
	require.NoError(t, failedMaria)
	return maria
}

// MariaSettings are those of a test server: quick rather than safe against power loss.
func MariaSettings() map[string]string {
	return map[string]string{"log-bin": "binlog", "server-id": "1", "binlog-format": "ROW",
		"binlog-row-metadata": "FULL", "innodb-flush-log-at-trx-commit": "2", "sync-binlog": "0",
		"innodb-buffer-pool-size": "128M", "max-connections": "200", "default-time-zone": "+02:00",
		"max-allowed-packet": "64M", "log-warnings": "1"}
}

// MariaDatabase makes a database in MariaDB and connects to it.
func MariaDatabase(t testing.TB) (connection.Settings, *sql.DB) {
	s := MariaDB(t)
	name := fmt.Sprintf("t%d", number.Add(1))
	require.NoError(t, s.CreateDatabase(context.Background(), name))
	db, err := s.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return s.Settings(name), db
}

// Settings of a test server: quick rather than safe against power loss. The long forms of
// tests have the server's own upkeep beside them, as often as it can come.
func Settings() map[string]string {
	upkeep := "off"
	if os.Getenv("NOEMATA_TORTURE") != "" {
		upkeep = "on"
	}
	return map[string]string{"autovacuum": upkeep, "autovacuum_naptime": "1s", "autovacuum_vacuum_threshold": "10",
		"autovacuum_vacuum_scale_factor": "0",
		"autovacuum_analyze_threshold":   "10", "autovacuum_analyze_scale_factor": "0",
		"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off", "max_connections": "200",
		"max_prepared_transactions": "5", "timezone": "Europe/Berlin",
		"wal_level": "logical", "max_replication_slots": "50", "max_wal_senders": "50", "track_commit_timestamp": "on"}
}

// Database makes a database and connects to it.
func Database(t testing.TB) (connection.Settings, *pgx.Conn) {
	s := Postgres(t)
	ctx := context.Background()
	name := fmt.Sprintf("t%d_%s", number.Add(1), strings.ToLower(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '_'
	}, t.Name())))
	name = name[:min(len(name), 60)]
	require.NoError(t, s.CreateDatabase(ctx, name))
	return s.Settings(name), Connect(t, s.URL(name))
}

// Connect connects to a database until the test ends.
func Connect(t testing.TB, url string) *pgx.Conn {
	conn, err := pgx.Connect(context.Background(), url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}

// Exec runs statements and fails the test if one fails.
func Exec(t testing.TB, conn *pgx.Conn, sql string, args ...any) {
	t.Helper()
	_, err := conn.Exec(context.Background(), sql, args...)
	require.NoError(t, err, sql)
}

// Asker is a warehouse that understands SQL.
type Asker interface {
	Ask(ctx context.Context, sql string, args ...any) ([][]any, error)
}

// SQL runs a statement in a warehouse that understands SQL, and gives its rows.
func SQL(t testing.TB, wh any, sql string, args ...any) [][]any {
	t.Helper()
	found, err := TrySQL(wh, sql, args...)
	require.NoError(t, err, sql)
	return found
}

// TrySQL is SQL of what may be refused.
func TrySQL(wh any, sql string, args ...any) ([][]any, error) {
	return wh.(Asker).Ask(context.Background(), sql, args...)
}
