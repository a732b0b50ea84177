package opened_test

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/opened"
	"noemata/internal/secret"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/store"
	"noemata/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// A source whose settings are changed stays open for the run that has it, and is closed when
// that has ended; who comes later has the new one.
func TestAChangedSourceStaysOpenForItsUsers(t *testing.T) {
	source.Kinds.Register(mariadb.Kind, mariadb.Opener)
	source.Kinds.Register(pgsource.Kind, pgsource.Opener)
	records, _ := testkit.Database(t)
	box, err := secret.Open(filepath.Join(testkit.Dir(t), "key"))
	require.NoError(t, err)
	s, err := store.Open(t.Context(), testkit.Postgres(t).URL(records.Database), box)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	maria, _ := testkit.MariaDatabase(t)
	postgres, _ := testkit.Database(t)
	for kind, settings := range map[string]connection.Settings{mariadb.Kind: maria, pgsource.Kind: postgres} {
		l := opened.New(s, nil)
		require.NoError(t, s.SaveConnection(t.Context(), store.Sources, kind, kind, feed.Belongs{}, settings, false))
		running, end := context.WithCancel(t.Context())
		first, err := l.Source(running, kind)
		require.NoError(t, err)
		again, err := l.Source(running, kind)
		require.NoError(t, err)
		require.Same(t, first, again)

		other, done := context.WithCancel(t.Context())
		again, err = l.Source(other, kind)
		require.NoError(t, err)
		require.Same(t, first, again)
		require.NoError(t, s.SaveConnection(t.Context(), store.Sources, kind, kind, feed.Belongs{}, settings, true))
		second, err := l.Source(t.Context(), kind)
		require.NoError(t, err)
		require.NotSame(t, first, second)
		done()
		for range 5 {
			_, err = first.Test(t.Context())
			require.NoError(t, err, "a run that goes on has what it began with")
			time.Sleep(20 * time.Millisecond)
		}
		end()
		require.Eventually(t, func() bool {
			_, err := first.Test(t.Context())
			return err != nil
		}, 10*time.Second, 20*time.Millisecond, "it is closed when nobody has it any more")
		_, err = second.Test(t.Context())
		require.NoError(t, err)
		l.Close()
	}
}
