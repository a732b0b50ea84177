package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// A feed that follows its log is set back to where it stood, as far as its file has the source keep the log: what was
// damaged since is right again, and a history has no version twice.
func TestALogIsSetBack(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, state text); INSERT INTO loans SELECT i, 'out' FROM generate_series(1, 50) i;
		CREATE TABLE holds (id int PRIMARY KEY, state text)`)
	settings, vault := testkit.Database(t)
	_, err := s.client.AddConnection(t.Context(), client.Warehouses,
		client.NewConnection{Name: "vault", Kind: "postgresql", Settings: &settings})
	require.NoError(t, err)
	const file = `{feed: desk, source: circulation, warehouse: vault, freshness: continuous, retain: {back: 1m}, tables: [
		{table: public.loans, find: log, keep: latest}, {table: public.holds, find: log, keep: history}]}`
	s.apply(file)
	s.must("feeds", "start", "desk")
	require.Eventually(t, func() bool { return s.same("desk") }, time.Minute, time.Second)
	position := func() string {
		list, err := s.client.Positions(t.Context(), "desk")
		require.NoError(t, err)
		return list[0].Position
	}
	began := position()
	time.Sleep(2 * time.Second) // the feed notes where it stands
	changed := time.Now()
	d.exec(`INSERT INTO loans VALUES (51, 'out'); UPDATE loans SET state = 'back' WHERE id <= 10; DELETE FROM loans WHERE id = 11;
		INSERT INTO holds VALUES (1, 'placed'); UPDATE holds SET state = 'ready'`)
	require.Eventually(t, func() bool { return position() > began && s.same("desk") }, time.Minute, 500*time.Millisecond)

	said, code := s.cli("", "positions", "set", "desk", "public.loans", "--back", "2d", "--dry-run")
	require.NotZero(t, code)
	require.Contains(t, said, "retain: {back: 2d}")
	said = s.must("positions", "set", "desk", "public.loans", began, "--dry-run")
	require.Regexp(t, `would be \S+, and was \S+\. [0-9.]+ k?B of the log would be read again`, said)
	said, code = s.cli("", "positions", "set", "desk", "public.loans", began)
	require.NotZero(t, code)
	require.Contains(t, said, "noemata feeds pause desk")
	s.must("feeds", "pause", "desk")
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "desk")
		return err == nil && f.Running == nil
	}, time.Minute, 100*time.Millisecond)
	before := s.must("versions", "desk", "public.holds", "1")
	_, err = vault.Exec(t.Context(), `DELETE FROM public.loans WHERE id = 51; UPDATE public.loans SET state = 'lost' WHERE id = 3`)
	require.NoError(t, err)
	stood := position()
	said = s.must("positions", "set", "desk", "public.loans", "--back", fmt.Sprintf("%ds", int(time.Since(changed).Seconds())+1))
	require.Contains(t, said, "of the log are read again, for all tables of the feed that follow it")
	require.Less(t, position(), stood)
	d.exec(`INSERT INTO loans VALUES (52, 'out')`)
	s.must("feeds", "start", "desk")
	require.Eventually(t, func() bool {
		p, err := s.client.Prove(t.Context(), "desk", "public.loans")
		return err == nil && p.Same && p.Equal == 51
	}, time.Minute, time.Second)
	require.Equal(t, before, s.must("versions", "desk", "public.holds", "1"), "no version is there twice")
	require.Contains(t, s.must("changes"), "set-position", "it is on record")
}
