package e2e

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// What the command line says in a working day: what it keeps and what it refuses, and that
// what it shows of runs, proofs and schedules is so.
//
// Longer than a screen: it is one day from morning to evening.
func TestWhatAWorkingDayAsks(t *testing.T) {
	s := newService(t)
	d := s.addSource("circulation")
	target := s.addWarehouse("target", "postgresql")
	d.exec(`CREATE TABLE patrons (id int PRIMARY KEY, name text, updated_at timestamptz NOT NULL); CREATE INDEX ON patrons (updated_at, id);
INSERT INTO patrons SELECT i, 'Ægir ' || i, '2026-01-01Z'::timestamptz + i * interval '1 day' FROM generate_series(1, 20) i;
CREATE TABLE loans (id int PRIMARY KEY); INSERT INTO loans VALUES (1)`)

	// A source whose test fails is kept, and that is said; what changes is all that is told.
	out, code := s.cli("wrong", "sources", "add", "annex", "--host", "127.0.0.1", "--port", port(d.settings.Port),
		"--database", d.settings.Database, "--user", d.settings.User, "--password-stdin")
	require.Equal(t, 1, code)
	require.Contains(t, out, "is kept")
	require.Contains(t, out, "did not accept the password")
	require.Contains(t, s.must("sources", "list"), "annex")
	out, code = s.cli(d.settings.Password, "sources", "change", "annex", "--password-stdin")
	require.Zero(t, code, out)
	require.Contains(t, out, "PostgreSQL 1")
	out, code = s.cli("", "sources", "change", "annex", "--port", "1")
	require.NotZero(t, code, out)
	require.Contains(t, out, "password", "another address asks for it again")

	// A time of day is waited for, also when the feed is started.
	file := filepath.Join(s.dir, "patrons.yaml")
	write := func(content string) {
		t.Helper()
		require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
		s.must("feeds", "apply", file)
	}
	night := time.Now().UTC().Add(-2 * time.Hour).Format("4 15") // minute and hour of a time that is far away
	write("feed: patrons\nsource: circulation\nwarehouse: target\ncron: '" + night +
		" * * *'\ntarget: copy.{table}\ntables:\n  - table: public.patrons\n    find: watermark\n    watermark: " +
		"{column: updated_at, start: '2026-01-11'}\n    keep: latest\n")
	s.must("feeds", "start", "patrons")
	time.Sleep(2 * time.Second)
	f, err := s.client.Feed(t.Context(), "patrons")
	require.NoError(t, err)
	require.Nil(t, f.LastRun)
	require.Nil(t, f.Running)
	require.NotNil(t, f.NextRunAt)
	require.Greater(t, time.Until(*f.NextRunAt), time.Hour)

	// What start leaves out is not missing; a row that somebody took away is.
	require.Contains(t, s.must("runs", "start", "patrons"), "11")
	require.Contains(t, s.must("prove", "patrons"), "equal")
	testkit.Exec(t, testkit.Connect(t, testkit.Postgres(t).URL(target.Database)),
		`DELETE FROM copy.patrons WHERE id = 15`)
	out, code = s.cli("", "prove", "patrons")
	require.Equal(t, 3, code, out)
	require.Contains(t, s.must("feeds", "show", "patrons"), "unequal")
	out, code = s.cli("", "positions", "set", "patrons", "public.patrons", "2099-01-01T00:00:00Z")
	require.Equal(t, 2, code, out)
	require.Contains(t, out, "lies in the future")
	s.must("positions", "clear", "patrons", "public.patrons")
	s.must("runs", "start", "patrons")
	require.Contains(t, s.must("prove", "patrons"), "equal")
	require.NotContains(t, s.must("feeds", "show", "patrons"), "unequal")

	// A run that follows a log is shown by table, too; where nothing happens nothing is told.
	s.apply("feed: live\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: " +
		"live.{table}\ntables:\n  - {table: public.loans, find: log, keep: latest}\n")
	s.must("runs", "start", "live")
	list, err := s.client.Runs(t.Context(), client.RunFilter{Feed: "live"})
	require.NoError(t, err)
	shown := s.must("runs", "show", port(int(list[0].ID)), "--table", "public.loans", "--statements")
	require.Contains(t, shown, "public.loans")
	require.Contains(t, shown, "COMMIT")
	run, err := s.client.Run(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Positive(t, run.Tables[0].Reading)
	require.Positive(t, run.Tables[0].Writing)
	s.must("feeds", "start", "live")
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(context.Background(), "live")
		return err == nil && f.Running != nil && f.Tables[0].State == "following"
	}, 20*time.Second, 100*time.Millisecond)
	time.Sleep(2 * time.Second)
	ctx, cancel := context.WithTimeout(t.Context(), 6*time.Second)
	defer cancel()
	told := 0
	err = s.client.Events(ctx, func(client.Event) error {
		told++
		return nil
	})
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.LessOrEqual(t, told, 4, "an idle feed tells of a run that ends and one that begins")
}
