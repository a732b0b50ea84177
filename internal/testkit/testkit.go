// Package testkit gives tests real servers: a PostgreSQL of their own on loopback,
// shared by the tests of a package, and a database for each test.
package testkit

import (
	"context"
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
	"noemata/internal/pgserver"
)

var (
	once   sync.Once
	server *pgserver.Server
	failed error
	folder string
	number atomic.Int64
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
	if folder != "" {
		_ = os.RemoveAll(folder)
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
		if folder, failed = os.MkdirTemp("", "noemata-test-"); failed != nil {
			return
		}
		if failed = os.Chmod(folder, 0o755); failed != nil {
			return
		}
		server, failed = pgserver.Start(context.Background(), pgserver.Options{Dir: filepath.Join(folder, "postgres"), Settings: Settings()})
	})
	require.NoError(t, failed)
	return server
}

// Settings of a test server: quick rather than safe against power loss.
func Settings() map[string]string {
	return map[string]string{"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off", "max_connections": "200", "max_prepared_transactions": "5", "autovacuum": "off", "timezone": "Europe/Berlin",
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
