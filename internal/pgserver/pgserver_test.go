package pgserver_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/pgserver"
	"noemata/internal/testkit"
)

func start(t *testing.T, o pgserver.Options) *pgserver.Server {
	t.Helper()
	o.Settings = testkit.Settings()
	s, err := pgserver.Start(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop() })
	return s
}

func TestLifeOfAServer(t *testing.T) {
	dir := filepath.Join(testkit.Dir(t), "server")
	s := start(t, pgserver.Options{Dir: dir})
	require.NoError(t, s.CreateDatabase(context.Background(), "circulation"))
	require.NoError(t, s.CreateDatabase(context.Background(), "circulation"), "again is nothing")
	conn := testkit.Connect(t, s.URL("circulation"))
	testkit.Exec(t, conn, "CREATE TABLE patrons (id int)")

	// A service that was killed has left the server running: the next one goes on with it.
	again := start(t, pgserver.Options{Dir: dir})
	require.Equal(t, s.Port, again.Port)
	require.Equal(t, s.Password, again.Password)
	testkit.Exec(t, testkit.Connect(t, again.URL("circulation")), "SELECT * FROM patrons")
	require.NoError(t, again.Stop())

	// A pid file that names no server, or somebody else's process, is cleared away.
	for _, pid := range []int{os.Getpid(), 4_000_000} {
		stale := fmt.Sprintf("%d\n%s\n1\n5432\n\n127.0.0.1\n", pid, filepath.Join(dir, "data"))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "postmaster.pid"), []byte(stale), 0o600))
		s = start(t, pgserver.Options{Dir: dir})
		testkit.Exec(t, testkit.Connect(t, s.URL("circulation")), "SELECT * FROM patrons")
		require.NoError(t, s.Kill())
	}

	// A port that is busy gives way to a free one.
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = busy.Close() }()
	port := busy.Addr().(*net.TCPAddr).Port
	s = start(t, pgserver.Options{Dir: dir, Port: port})
	require.NotEqual(t, port, s.Port)
	testkit.Exec(t, testkit.Connect(t, s.URL("circulation")), "SELECT * FROM patrons")
}

func TestASetUpThatWasInterruptedIsDoneAnew(t *testing.T) {
	dir := filepath.Join(testkit.Dir(t), "server")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data", "base"), 0o755))
	s := start(t, pgserver.Options{Dir: dir})
	testkit.Exec(t, testkit.Connect(t, s.URL("postgres")), "SELECT 1")
}
