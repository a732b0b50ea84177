package mariaserver_test

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/mariaserver"
	"noemata/internal/testkit"
)

func TestLifeOfAServer(t *testing.T) {
	dir := filepath.Join(testkit.Dir(t), "server")
	start := func(o mariaserver.Options) *mariaserver.Server {
		t.Helper()
		o.Dir = dir
		s, err := mariaserver.Start(t.Context(), o)
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.Stop() })
		return s
	}
	count := func(s *mariaserver.Server) (n int) {
		t.Helper()
		db, err := s.Open("catalogue")
		require.NoError(t, err)
		defer func() { _ = db.Close() }()
		require.NoError(t, db.QueryRow("SELECT count(*) FROM copies").Scan(&n))
		return n
	}
	s := start(mariaserver.Options{})
	require.NoError(t, s.CreateDatabase(t.Context(), "catalogue"))
	require.NoError(t, s.CreateDatabase(t.Context(), "catalogue"), "again is nothing")
	db, err := s.Open("catalogue")
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE copies (id int PRIMARY KEY); INSERT INTO copies VALUES (1), (2)")
	require.NoError(t, err)
	require.NoError(t, db.Close())

	// A service that was killed has left the server running: the next one goes on with it.
	again := start(mariaserver.Options{})
	require.Equal(t, s.Port, again.Port)
	require.Equal(t, s.Password, again.Password)
	require.Equal(t, 2, count(again))

	// A server that died comes back with what it had, on another port where its own is taken.
	require.NoError(t, again.Kill())
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = busy.Close() }()
	port := busy.Addr().(*net.TCPAddr).Port
	s = start(mariaserver.Options{Port: port})
	require.NotEqual(t, port, s.Port)
	require.Equal(t, 2, count(s))

	// A pid file that names somebody else's process is cleared away.
	require.NoError(t, s.Stop())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mariadb.pid"), []byte("1\n"), 0o644))
	require.Equal(t, 2, count(start(mariaserver.Options{})))
}
