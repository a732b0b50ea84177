package connection_test

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// Whatever names and passwords hold, a URL brings them.
func TestAURLBringsEverything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[ -~äé深]{1,20}`)
		want := connection.Settings{Host: rapid.SampledFrom([]string{"127.0.0.1", "::1", "db.example"}).Draw(t, "host"),
			Port:     rapid.IntRange(1, 65535).Draw(t, "port"),
			Database: text.Draw(t, "database"), User: text.Draw(t, "user"), Password: text.Draw(t,
				"password"), TLS: rapid.SampledFrom([]connection.TLS{"", connection.TLSOff,
				connection.TLSVerifyFull}).Draw(t, "tls")}
		u := url.URL{Scheme: "postgresql", Host: want.Address(), User: url.UserPassword(want.User, want.Password),
			Path: "/" + want.Database}
		if want.TLS != "" {
			u.RawQuery = "tls=" + string(want.TLS)
		}
		got, err := connection.FromURL(u.String())
		require.NoError(t, err, u.String())
		require.Equal(t, want, got)
		require.Empty(t, got.WithoutSecret().Password)
	})
}

// A URL that is wrong is not repeated: it may hold a password.
func TestAWrongURLKeepsItsPassword(t *testing.T) {
	for _, text := range []string{"", "circulation", "postgresql://clerk:hunter2@h:port/d",
		"postgresql://clerk:hunter2@[::1/d", "postgresql://clerk:hunter2%zz@h/d",
		"postgresql://clerk:hunter2@h/d?sslmode=off", "postgresql:///d",
		"postgresql://clerk:hunter2@h:99999999999999999999/d"} {
		_, err := connection.FromURL(text)
		require.True(t, problem.Is(err, problem.Invalid), "%s: %v", text, err)
		require.NotContains(t, err.Error(), "hunter2")
		require.NotEmpty(t, problem.Of(err).Remedy)
	}
}

// Each way in which a server cannot be reached is told apart, with its remedy.
func TestWhatIsInTheWay(t *testing.T) {
	s := connection.Settings{Host: "db.example", Port: 5432}
	for want, err := range map[string]error{
		"The host \"db.example\" of source \"circulation\" is not known.": fmt.Errorf("dial: %w",
			&net.DNSError{Name: "db.example"}),
		"refused the connection: nothing listens there": fmt.Errorf("dial: %w", syscall.ECONNREFUSED),
		"did not answer in time":                        context.DeadlineExceeded,
		"does not offer TLS":                            errors.New("server refused TLS connection"),
		"was not accepted": fmt.Errorf("tls: %w",
			x509.UnknownAuthorityError{}),
		"was lost": fmt.Errorf("read: %w", syscall.ECONNRESET),
	} {
		got := connection.Explain(err, "PostgreSQL at db.example:5432", `source "circulation"`, s)
		require.True(t, problem.Is(got, problem.Unreachable), "%v", got)
		require.ErrorContains(t, got, want)
		require.ErrorIs(t, got, err)
		require.NotEmpty(t, problem.Of(got).Remedy)
	}
	odd := errors.New("syntax error")
	require.EqualError(t, connection.Explain(odd, "PostgreSQL", `source "circulation"`, s),
		`source "circulation": syntax error`)
}

func TestKindsAreFoundByName(t *testing.T) {
	kinds := connection.NewKinds[string]("source")
	kinds.Register("shelf", connection.Kind[string]{
		Check: func(s connection.Settings) (connection.Settings, error) { s.Port = 7; return s, nil },
		Open:  func(_ connection.Settings, what string) (string, error) { return "open " + what, nil },
	})
	kinds.Register("abacus", connection.Kind[string]{})
	require.Equal(t, []string{"abacus", "shelf"}, kinds.Names())
	checked, err := kinds.Check("shelf", connection.Settings{})
	require.NoError(t, err)
	require.Equal(t, 7, checked.Port)
	open, err := kinds.Open("shelf", checked, `source "x"`)
	require.NoError(t, err)
	require.Equal(t, `open source "x"`, open)
	for _, err := range []error{func() error { _, err := kinds.Check("drawer", checked); return err }(),
		func() error { _, err := kinds.Open("drawer", checked, ""); return err }()} {
		require.True(t, problem.Is(err, problem.Invalid))
		require.True(t, strings.Contains(err.Error(), "Known kinds: abacus, shelf."), "%v", err)
	}
}

func TestModesAndAddresses(t *testing.T) {
	for host, local := range map[string]bool{"localhost": true, "127.0.0.1": true, "127.9.9.9": true, "::1": true,
		"/run/server": true, "10.0.0.1": false, "db.example": false, "": false} {
		s := connection.Settings{Host: host}
		require.Equal(t, local, s.Local(), host)
		require.Equal(t, local, s.TLSConfig() == nil, host)
	}
	full := connection.Settings{Host: "db.example"}.TLSConfig()
	require.False(t, full.InsecureSkipVerify)
	require.Equal(t, "db.example", full.ServerName)
	ca := connection.Settings{Host: "db.example", TLS: connection.TLSVerifyCA}.TLSConfig()
	require.NotNil(t, ca.VerifyConnection, "without the host's name, the chain is still verified")
	require.Equal(t, "[::1]:5432", connection.Settings{Host: "::1", Port: 5432}.Address())
	require.Equal(t, "/lake.duckdb", connection.Settings{Path: "/lake.duckdb"}.Address())
}
