package e2e

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/connection"
	"noemata/internal/testkit"
	"noemata/internal/testkit/hostile"
)

// A source is reached through two servers by SSH. A host key that nobody has accepted is told, and
// nothing is sent; one that has changed is refused; the log is followed on after each cut.
func TestThroughATunnel(t *testing.T) {
	s := newService(t)
	settings, conn := testkit.Database(t)
	near, far := testkit.NewSSH(t), testkit.NewSSH(t)
	key := filepath.Join(s.dir, "tunnel.key")
	require.NoError(t, os.WriteFile(key, []byte(near.Key), 0o600))
	far.Accept(near)
	t.Setenv("NOEMATA_DATABASE_PASSWORD", settings.Password)
	args := []string{"sources", "add", "circulation", "--host", "127.0.0.1", "--port", fmt.Sprint(settings.Port),
		"--database", settings.Database, "--user", settings.User, "--tunnel", near.At(), "--tunnel", far.At(),
		"--tunnel-key-file", key}
	said, code := s.cli("", args...)
	require.Equal(t, 1, code, said)
	require.Contains(t, said, near.HostKey)
	require.Contains(t, said, "Nothing was sent to it.")
	require.Regexp(t, `tunnel +failed`, said)

	// The remedy runs as it is, and the password that is kept stays.
	t.Setenv("NOEMATA_DATABASE_PASSWORD", "")
	change := []string{"sources", "change", "circulation", "--tunnel-host-key", near.HostKey}
	said, code = s.cli("", change...)
	require.Equal(t, 1, code, said)
	require.Contains(t, said, far.HostKey)
	said = s.must(append(change, "--tunnel-host-key", far.HostKey)...)
	require.Regexp(t, `tunnel +done +through `+near.At()[len(near.User)+1:], said)
	require.Contains(t, said, "The change log can be followed.")
	c, err := s.client.Connection(t.Context(), client.Sources, "circulation")
	require.NoError(t, err)
	require.Empty(t, c.Settings.Secret(), "secrets are not returned")

	d := &database{t, settings, conn}
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, state text);
		INSERT INTO loans SELECT i, 'lent' FROM generate_series(1, 1000) i`)
	s.addWarehouse("target", "duckdb")
	s.apply(patternFeed, "tunnelled", "freshness: continuous", "public.loans", "log")
	_, err = s.client.StartFeed(t.Context(), "tunnelled")
	require.NoError(t, err)
	for i := range 6 {
		d.exec(fmt.Sprintf(`UPDATE loans SET state = 'returned %d' WHERE id %% 7 = %[1]d; INSERT INTO loans VALUES (%d)`,
			i, 2000+i))
		[]*testkit.SSH{near, far}[i%2].Cut()
		time.Sleep(300 * time.Millisecond)
	}
	require.Eventually(t, func() bool {
		p, err := s.client.Prove(t.Context(), "tunnelled", "public.loans")
		return err == nil && p.Same && p.Equal == 1006
	}, 2*time.Minute, time.Second)

	_, err = s.client.PauseFeed(t.Context(), "tunnelled")
	require.NoError(t, err)
	near.Stop()
	near.NewHostKey()
	near.Start()
	require.Eventually(t, func() bool {
		_, err = s.client.TestConnection(t.Context(), client.Sources, "circulation")
		return err != nil
	}, 20*time.Second, 100*time.Millisecond)
	var answer *client.Error
	require.True(t, errors.As(err, &answer))
	require.Equal(t, "tunnel.0.host_key", answer.Field)
	require.Equal(t, near.HostKey, answer.Value)
	require.Contains(t, answer.Detail, "somebody else answers in its place")
	require.Equal(t, connection.StepTunnel, answer.Steps[len(answer.Steps)-1].Step)
}

// The same with a MariaDB source, whose binary log is followed through the tunnel.
func TestMariaDBThroughATunnel(t *testing.T) {
	s := newService(t)
	settings, db := testkit.MariaDatabase(t)
	server := testkit.NewSSH(t)
	settings.Tunnel = append(settings.Tunnel, server.Hop())
	_, err := s.client.AddConnection(t.Context(), client.Sources,
		client.NewConnection{Name: "circulation", Kind: "mariadb", Settings: &settings})
	require.NoError(t, err)
	exec := func(sql string) {
		_, err := db.Exec(sql)
		require.NoError(t, err, sql)
	}
	exec("CREATE TABLE copies (id int PRIMARY KEY, state varchar(40))")
	exec("INSERT INTO copies SELECT seq, 'on the shelf' FROM seq_1_to_1000")
	s.addWarehouse("target", "duckdb")
	s.apply(patternFeed, "tunnelled", "freshness: continuous", settings.Database+".copies", "log")
	_, err = s.client.StartFeed(t.Context(), "tunnelled")
	require.NoError(t, err)
	for i := range 4 {
		exec(fmt.Sprintf("UPDATE copies SET state = 'lent %d' WHERE id %% 7 = %[1]d", i))
		exec(fmt.Sprintf("INSERT INTO copies VALUES (%d, 'new')", 2000+i))
		server.Cut()
		time.Sleep(300 * time.Millisecond)
	}
	require.Eventually(t, func() bool {
		p, err := s.client.Prove(t.Context(), "tunnelled", settings.Database+".copies")
		return err == nil && p.Same && p.Equal == 1004
	}, 2*time.Minute, time.Second)
}

// Settings of a source that is there are tried with its password, as long as they lead to the same server;
// it goes nowhere else.
func TestWhatIsTriedHasThePasswordThatIsKept(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	same := d.settings
	same.Password = ""
	try := func(settings client.Settings) error {
		_, err := s.client.TryConnection(t.Context(), client.Sources,
			client.NewConnection{Name: "circulation", Kind: "postgresql", Settings: &settings})
		return err
	}
	require.NoError(t, try(same))
	port := hostile.Listen(t, func(c net.Conn) {
		content, _ := io.ReadAll(c)
		require.NotContains(t, string(content), d.settings.Password)
	})
	other := same
	other.Port, other.InClear = port, true
	require.Error(t, try(other))
	other = same
	other.User = "somebody"
	require.Error(t, try(other))
}

// Wrong input has an answer that names the field, and says what to do. Longer than a screen: it is a list.
func TestWrongInputNamesTheField(t *testing.T) {
	s := newService(t)
	good, _ := testkit.Database(t)
	maria, _ := testkit.MariaDatabase(t)
	server := testkit.NewSSH(t)
	certificates := testkit.Dir(t)
	ca := testkit.Authority(t, certificates, "root")
	type set = client.Settings
	same := func(*set) {}
	change := func(of set, change func(*set)) *set {
		of.Tunnel = nil
		change(&of)
		return &of
	}
	hop := func(change func(*set)) *set {
		of := good
		h := server.Hop()
		of.Tunnel = append(of.Tunnel, h)
		change(&of)
		return &of
	}

	for name, x := range map[string]struct {
		kind     string
		settings *client.Settings
		field    string
	}{
		"no host": {"postgresql", change(good, func(s *set) { s.Host = "" }), "host"},
		"no database": {"postgresql", change(good, func(s *set) { s.Database = "" }),
			"database"},
		"no user":            {"postgresql", change(good, func(s *set) { s.User = "" }), "user"},
		"no user of MariaDB": {"mariadb", change(maria, func(s *set) { s.User = "" }), "user"},
		"unknown host": {"postgresql", change(good, func(s *set) { s.Host = "nowhere.invalid" }),
			"host"},
		"unknown MariaDB": {"mariadb", change(maria, func(s *set) { s.Host = "nowhere.invalid" }),
			"host"},
		"nobody listens":     {"postgresql", change(good, func(s *set) { s.Port = 1 }), "port"},
		"no MariaDB listens": {"mariadb", change(maria, func(s *set) { s.Port = 1 }), "port"},
		"another server": {"postgresql", change(good, func(s *set) { s.Port = server.Port }),
			"port"},
		"wrong password": {"postgresql", change(good, func(s *set) { s.Password = "wrong" }),
			"password"},
		"MariaDB's password": {"mariadb", change(maria, func(s *set) { s.Password = "wrong" }),
			"password"},
		"unknown user": {"postgresql", change(good, func(s *set) { s.User = "nobody" }),
			"password"},
		"unknown database": {"postgresql", change(good, func(s *set) { s.Database = "nowhere" }),
			"database"},
		"MariaDB's database": {"mariadb", change(maria, func(s *set) { s.Database = "nowhere" }),
			"database"},
		"a path for a server": {"postgresql", change(good, func(s *set) { s.Path = "x.duckdb" }),
			"path"},
		"no TLS there": {"postgresql", change(good, func(s *set) { s.TLS = connection.TLSRequire }),
			"tls"},
		"no such TLS mode": {"postgresql", change(good, func(s *set) { s.TLS = "strong" }), "tls"},
		"no CA": {"postgresql", change(good, func(s *set) { s.TLS, s.CA = connection.TLSVerifyCA, "my CA" }),
			"ca"},
		"certificate, TLS off": {"postgresql", change(good, func(s *set) { s.Certificate, s.Key = ca, "x" }),
			"tls"},
		"a key alone": {"postgresql", change(good, func(s *set) { s.TLS, s.Key = connection.TLSRequire, "x" }),
			"certificate"},
		"no certificate": {"postgresql", change(good, func(s *set) { s.TLS, s.Certificate = connection.TLSRequire, "x" }),
			"certificate"},
		"another's key": {"postgresql", change(good, func(s *set) {
			s.TLS, s.Certificate, s.Key = connection.TLSRequire, ca, server.Key
		}), "certificate"},
		"port too large": {"postgresql", change(good, func(s *set) { s.Port = 70000 }), "port"},
		"hop without host": {"postgresql", hop(func(s *set) { s.Tunnel[0].Host = "" }),
			"tunnel.0.host"},
		"hop without user": {"postgresql", hop(func(s *set) { s.Tunnel[0].User = "" }),
			"tunnel.0.user"},
		"hop without key": {"postgresql", hop(func(s *set) { s.Tunnel[0].Key = "" }),
			"tunnel.0.key"},
		"hop's key is none": {"postgresql", hop(func(s *set) { s.Tunnel[0].Key = "open sesame" }),
			"tunnel.0.key"},
		"hop's key is locked": {"postgresql", hop(func(s *set) { s.Tunnel[0].Key = server.Locked }),
			"tunnel.0.passphrase"},
		"wrong passphrase": {"postgresql", hop(func(s *set) { s.Tunnel[0].Key, s.Tunnel[0].Passphrase = server.Locked, "x" }),
			"tunnel.0.passphrase"},
		"no such host key": {"postgresql", hop(func(s *set) { s.Tunnel[0].HostKey = "blue" }),
			"tunnel.0.host_key"},
		"host key to accept": {"postgresql", hop(func(s *set) { s.Tunnel[0].HostKey = "" }),
			"tunnel.0.host_key"},
		"agent not allowed": {"postgresql", hop(func(s *set) { s.Tunnel[0].Key, s.Tunnel[0].Agent = "", true }),
			"tunnel.0.agent"},
		"hop's user": {"postgresql", hop(func(s *set) { s.Tunnel[0].User = "nobody-here" }),
			"tunnel.0.user"},
		"hop's port": {"postgresql", hop(func(s *set) { s.Tunnel[0].Port = 1 }),
			"tunnel.0.port"},
		"nobody beyond": {"postgresql", hop(func(s *set) { s.Port = 1 }), "host"},
		"a socket beyond": {"postgresql", hop(func(s *set) { s.Host = "/run/postgresql" }),
			"tunnel"},
		"password beyond": {"postgresql", hop(func(s *set) { s.Password = "wrong" }), "password"},
		"no path":         {"duckdb", change(set{}, same), "path"},
		"a server's file": {"duckdb", change(set{Path: "x.duckdb"}, func(s *set) { s.Host = "db.example" }),
			"path"},
		"a path outside": {"duckdb", change(set{Path: "/etc/x.duckdb"}, same),
			"path"},
	} {
		t.Run(name, func(t *testing.T) {
			side := client.Sources
			if x.kind == "duckdb" {
				side = client.Warehouses
			}
			_, err := s.client.TryConnection(t.Context(), side,
				client.NewConnection{Name: "wrong", Kind: x.kind, Settings: x.settings})
			var answer *client.Error
			require.True(t, errors.As(err, &answer), "%v", err)
			require.Equal(t, x.field, answer.Field, "%+v", answer)
			require.NotEmpty(t, answer.Remedy, "%+v", answer)
			require.False(t, strings.Contains(answer.Error(), "PRIVATE KEY"), "%+v", answer)
		})
	}
}
