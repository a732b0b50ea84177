package postgres_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/testkit"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/postgres"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// Of two sessions that make the same schema, the later one finds it, also where it has looked
// before and remembers that there was none.
func TestASchemaIsMadeOnce(t *testing.T) {
	settings, other := testkit.Database(t)
	w, err := postgres.Open(settings, `warehouse "reports"`)
	require.NoError(t, err)
	defer w.Close()
	target := warehouse.Target{Name: schema.Name{Schema: "kept", Table: "loans"}, Keep: feed.KeepReplace, Prefix: "nm_",
		Columns: warehouse.ColumnsOf([]schema.Column{{Name: "id", Type: schema.Type{Kind: schema.Int64}}}, "nm_",
			feed.KeepReplace, false)}
	aside := target
	aside.Name.Schema = "aside"
	_, err = w.Prepare(t.Context(), aside) // the control schema is there
	require.NoError(t, err)
	require.NoError(t, w.MayWrite(t.Context(), target), "the session remembers that there is no schema kept")

	testkit.Exec(t, other, `BEGIN; SELECT pg_advisory_xact_lock(hashtext('noemata'))`)
	prepared := make(chan error)
	go func() {
		_, err := w.Prepare(context.Background(), target)
		prepared <- err
	}()
	require.Eventually(t, func() bool {
		var waits bool
		err := other.QueryRow(context.Background(),
			`SELECT EXISTS (SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND NOT granted)`).Scan(&waits)
		return err == nil && waits
	}, 10*time.Second, 20*time.Millisecond)
	testkit.Exec(t, other, `CREATE SCHEMA kept; COMMIT`)
	require.NoError(t, <-prepared)
}
