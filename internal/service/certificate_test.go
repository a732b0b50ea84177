package service

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/problem"
	"noemata/internal/testkit"
)

// Plain HTTP stays on this machine, unless the operator says otherwise.
func TestWherePlainHTTPIsAllowed(t *testing.T) {
	for listen, allowed := range map[string]bool{
		"127.0.0.1:8420": true, "localhost:8420": true, "[::1]:8420": true, "127.0.0.2:0": true,
		"0.0.0.0:8420": false, ":8420": false, "[::]:8420": false, "10.1.2.3:8420": false,
		"library.example:8420": false,
	} {
		c, err := certificateOf(Options{Listen: listen})
		require.Nil(t, c)
		if allowed {
			require.NoError(t, err, listen)
		} else {
			require.True(t, problem.Is(err, problem.Invalid), "%s: %v", listen, err)
			require.Contains(t, problem.Of(err).Remedy, "--plain-http")
		}
		_, err = certificateOf(Options{Listen: listen, PlainHTTP: true})
		require.NoError(t, err, listen)
	}
}

// A certificate that was renewed serves without a restart; files that do not belong together
// let the one before serve on.
func TestACertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	o := Options{Listen: "0.0.0.0:8420", Certificate: filepath.Join(dir, "server.crt"),
		Key: filepath.Join(dir, "server.key")}
	_, err := certificateOf(o)
	require.ErrorContains(t, err, "cannot be used")
	testkit.Authority(t, dir, "root")
	c, err := certificateOf(o)
	require.NoError(t, err)
	leaf := func() string {
		t.Helper()
		c.asked = time.Time{} // as if the files had not been looked at for a while
		pair, err := c.get(nil)
		require.NoError(t, err)
		return string(pair.Certificate[0])
	}
	first := leaf()
	require.Equal(t, first, leaf())

	later := time.Now().Add(time.Minute)
	written := func(names ...string) {
		t.Helper()
		for _, name := range names { // clocks of file systems are coarse
			require.NoError(t, os.Chtimes(name, later, later))
		}
		later = later.Add(time.Minute)
	}
	require.NoError(t, os.Rename(o.Key, o.Key+".old"))
	require.Equal(t, first, leaf(), "a key that is missing for a moment")
	key, err := os.ReadFile(o.Key + ".old")
	require.NoError(t, err)
	testkit.Authority(t, dir, "root")
	renewed, err := os.ReadFile(o.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(o.Key, key, 0o600))
	written(o.Certificate, o.Key)
	require.Equal(t, first, leaf(), "a certificate whose key has not come yet")
	require.NoError(t, os.WriteFile(o.Key, renewed, 0o600))
	written(o.Key)
	second := leaf()
	require.NotEqual(t, first, second)

	require.NoError(t, os.Chmod(o.Key, 0o644))
	written(o.Key)
	require.Equal(t, second, leaf(), "a key that everybody can read is not taken")
	_, err = certificateOf(o)
	require.Error(t, err)
	require.Equal(t, "chmod o= "+o.Key, problem.Of(err).Remedy)
	require.NoError(t, os.Chmod(o.Key, 0o640))
	_, err = certificateOf(o)
	require.NoError(t, err)
}

// The files are not looked at for each connection.
func TestACertificateIsNotReadForEachConnection(t *testing.T) {
	dir := t.TempDir()
	testkit.Authority(t, dir, "root")
	c, err := certificateOf(Options{Certificate: filepath.Join(dir, "server.crt"),
		Key: filepath.Join(dir, "server.key")})
	require.NoError(t, err)
	asked := c.asked
	for range 100 {
		_, err := c.get(nil)
		require.NoError(t, err)
	}
	require.Equal(t, asked, c.asked)
}
