package wire_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/mariaserver"
	"noemata/internal/source/mariadb/wire"
	"noemata/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

func options(s *mariaserver.Server) wire.Options {
	return wire.Options{Dial: connection.Settings{}.Dial, Network: "tcp", Address: fmt.Sprintf("127.0.0.1:%d", s.Port),
		User: mariaserver.User, Password: s.Password, Timeout: 5 * time.Second}
}

func connect(t *testing.T, o wire.Options) *wire.Conn {
	t.Helper()
	c, err := wire.Connect(t.Context(), o)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// ask gives the rows of a query as text.
func ask(t *testing.T, c *wire.Conn, sql string) (out []string) {
	t.Helper()
	require.NoError(t, c.Query(t.Context(), sql, func(r wire.Row) error {
		text, ok := r.Value(0)
		if !ok {
			text = []byte("null")
		}
		out = append(out, string(text))
		return nil
	}))
	return out
}

// Rows come whole, also those that are split over several packets, and empty and null are two.
func TestRows(t *testing.T) {
	c := connect(t, options(testkit.MariaDB(t)))
	require.Equal(t, []string{"null", "", "a"}, ask(t, c, "SELECT NULL UNION ALL SELECT '' UNION ALL SELECT 'a'"))
	require.Empty(t, ask(t, c, "SELECT 1 FROM (SELECT 1) AS x WHERE false"))
	for _, n := range []int{250, 251, 65_535, 65_536, 1<<24 - 5, 1<<24 - 1, 1 << 24, 40_000_000} {
		require.Equal(t, strings.Repeat("x", n), ask(t, c, fmt.Sprintf("SELECT repeat('x', %d)", n))[0], n)
	}
	require.Equal(t, []string{"1"}, ask(t, c, "SELECT 1 -- "+strings.Repeat("long ", 4_000_000)),
		"a statement may be long, too")
	var server *wire.Error
	require.ErrorAs(t, c.Exec(t.Context(), "SELECT nonsense"), &server)
	require.Equal(t, 1054, server.Number)
	require.Equal(t, "42S22", server.State)
	require.Equal(t, []string{"2"}, ask(t, c, "SELECT 2"), "an error of the server ends nothing")
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, c.Exec(ctx, "SELECT sleep(20)"), context.DeadlineExceeded)
}

// A challenge is 32 bytes of chance, and ends with a zero now and then.
func TestSigningInAgainAndAgain(t *testing.T) {
	s := testkit.MariaDB(t)
	admin := connect(t, options(s))
	for _, sql := range []string{"INSTALL PLUGIN IF NOT EXISTS ed25519 SONAME 'auth_ed25519'",
		"CREATE USER 'often'@'127.0.0.1' IDENTIFIED VIA ed25519 USING PASSWORD('a sëcret')"} {
		require.NoError(t, admin.Exec(t.Context(), sql), sql)
	}
	o := options(s)
	o.User, o.Password = "often", "a sëcret"
	for i := range 1500 {
		c, err := wire.Connect(t.Context(), o)
		require.NoError(t, err, "after %d times", i)
		require.NoError(t, c.Close())
	}
}

// Every way to sign in that the server has a plugin for.
func TestSigningIn(t *testing.T) {
	s := testkit.MariaDB(t)
	admin := connect(t, options(s))
	for _, sql := range []string{"INSTALL PLUGIN IF NOT EXISTS ed25519 SONAME 'auth_ed25519'",
		"CREATE USER 'native'@'127.0.0.1' IDENTIFIED VIA mysql_native_password USING PASSWORD('a sëcret')",
		"CREATE USER 'signed'@'127.0.0.1' IDENTIFIED VIA ed25519 USING PASSWORD('a sëcret')",
		"CREATE USER 'open'@'127.0.0.1'", "CREATE USER 'local'@'127.0.0.1' IDENTIFIED VIA unix_socket"} {
		require.NoError(t, admin.Exec(t.Context(), sql), sql)
	}
	for _, user := range []string{"native", "signed"} {
		o := options(s)
		o.User, o.Password = user, "a sëcret"
		require.Equal(t, []string{user + "@127.0.0.1"}, ask(t, connect(t, o), "SELECT current_user"))
		o.Password = "another"
		_, err := wire.Connect(t.Context(), o)
		var server *wire.Error
		require.ErrorAs(t, err, &server)
		require.Equal(t, 1045, server.Number)
	}
	o := options(s)
	o.User, o.Password = "open", ""
	connect(t, o)
	o.User = "local"
	_, err := wire.Connect(t.Context(), o)
	require.Error(t, err)
	o = options(s)
	o.Database = "nowhere"
	_, err = wire.Connect(t.Context(), o)
	require.ErrorContains(t, err, "nowhere")
	_, err = wire.Connect(t.Context(), wire.Options{Dial: connection.Settings{}.Dial, Network: "tcp",
		Address: fmt.Sprintf("127.0.0.1:%d", testkit.Postgres(t).Port), User: "x", Timeout: time.Second})
	require.Error(t, err, "another kind of server")
}

// What goes over TLS is read by nobody else, and only a server that proves its name is told
// a password.
func TestTLS(t *testing.T) {
	dir := testkit.Dir(t)
	ca := testkit.Authority(t, dir, "mysql")
	settings := testkit.MariaSettings()
	settings["ssl-cert"], settings["ssl-key"] = filepath.Join(dir, "server.crt"), filepath.Join(dir, "server.key")
	s, err := mariaserver.Start(t.Context(), mariaserver.Options{Dir: filepath.Join(dir, "maria"), Settings: settings})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop() })
	o := options(s)
	require.Equal(t, []string{""}, ask(t, connect(t, o),
		"SELECT VARIABLE_VALUE FROM information_schema.SESSION_STATUS WHERE VARIABLE_NAME = 'Ssl_cipher'"))
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(ca))
	o.TLS = &tls.Config{RootCAs: pool, ServerName: "127.0.0.1"}
	c := connect(t, o)
	require.NotEmpty(t, ask(t, c, "SELECT VARIABLE_VALUE FROM information_schema.SESSION_STATUS WHERE VARIABLE_NAME "+
		"= 'Ssl_cipher'")[0])
	require.Equal(t, strings.Repeat("x", 20_000_000), ask(t, c, "SELECT repeat('x', 20000000)")[0])
	o.TLS = &tls.Config{RootCAs: pool, ServerName: "db.example"}
	_, err = wire.Connect(t.Context(), o)
	var host x509.HostnameError
	require.ErrorAs(t, err, &host)
	o = options(testkit.MariaDB(t))
	o.TLS = &tls.Config{RootCAs: pool, ServerName: "127.0.0.1"}
	_, err = wire.Connect(t.Context(), o)
	require.True(t, errors.Is(err, wire.ErrNoTLS), "%v", err)
}

// The log is sent from a file and place, or after a global transaction id, and waiting for
// more of it does no harm.
func TestTheLog(t *testing.T) {
	s := testkit.MariaDB(t)
	admin := connect(t, options(s))
	require.NoError(t, admin.Exec(t.Context(), "CREATE DATABASE IF NOT EXISTS shelf"))
	after := ask(t, admin, "SELECT @@gtid_binlog_pos")[0]
	require.NoError(t, admin.Exec(t.Context(), "CREATE TABLE shelf.books (id int)"))
	read := func(d wire.Dump) (found bool) {
		c := connect(t, options(s))
		d.Server, d.Heartbeat = 4711, 100*time.Millisecond
		require.NoError(t, c.Follow(t.Context(), d))
		for quiet := 0; quiet < 5; {
			if err := c.Await(time.Now().Add(50 * time.Millisecond)); err != nil {
				quiet++
				continue
			}
			event, err := c.Event()
			require.NoError(t, err)
			found = found || strings.Contains(string(event), "CREATE TABLE shelf.books")
			if event[4] == 27 { // a heartbeat
				quiet++
			}
		}
		return found
	}
	require.True(t, read(wire.Dump{GTID: after}))
	require.True(t, read(wire.Dump{File: ask(t, admin, "SHOW BINARY LOGS")[0], Offset: 4}))
	require.False(t, read(wire.Dump{GTID: ask(t, admin, "SELECT @@gtid_binlog_pos")[0]}))
	c := connect(t, options(s))
	require.NoError(t, c.Follow(t.Context(), wire.Dump{Server: 4712, GTID: "0-1-999999999", Heartbeat: time.Second}))
	var err error
	for range 5 {
		if _, err = c.Event(); err != nil {
			break
		}
	}
	var server *wire.Error
	require.ErrorAs(t, err, &server)
	require.Equal(t, 1236, server.Number)
}
