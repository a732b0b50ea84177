package secret_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/secret"
)

func TestSealAndOpen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "sub", "key")
	box, err := secret.Open(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	sealed := box.Seal("hush", "source a")
	require.NotContains(t, string(sealed), "hush")
	require.NotEqual(t, sealed, box.Seal("hush", "source a"), "two seals of one text do not look alike")

	again, err := secret.Open(file)
	require.NoError(t, err)
	text, err := again.Open(sealed, "source a", "source a")
	require.NoError(t, err)
	require.Equal(t, "hush", text)
	_, err = again.Open(sealed, "source b", "source b")
	require.ErrorContains(t, err, "cannot be decrypted", "a secret cannot be moved to something else")
	sealed[len(sealed)-1] ^= 1
	_, err = again.Open(sealed, "source a", "source a")
	require.Error(t, err)

	t.Setenv(secret.Variable, "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef")
	other, err := secret.Open(file)
	require.NoError(t, err)
	_, err = other.Open(box.Seal("hush", "x"), "x", "x")
	require.ErrorContains(t, err, "Put the old key back")
	t.Setenv(secret.Variable, "")
	require.NoError(t, os.Chmod(file, 0o644))
	_, err = secret.Open(file)
	require.ErrorContains(t, err, "can be read by others", "a key that everybody knows protects nothing")
	t.Setenv(secret.Variable, "short")
	_, err = secret.Open(file)
	require.ErrorContains(t, err, "64 hexadecimal digits")
}
