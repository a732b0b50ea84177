package e2e

import (
	"context"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// Two processes share the work on one database of records; when one dies, the other
// goes on, and nothing is lost or doubled.
func TestTwoProcessesShareTheWork(t *testing.T) {
	t.Setenv("NOEMATA_KEY", strings.Repeat("0123456789abcdef", 4))
	records, _ := testkit.Database(t)
	t.Setenv("NOEMATA_DATABASE_URL", testkit.Postgres(t).URL(records.Database))
	first := newService(t)
	second := &service{t: t, dir: testkit.Dir(t), token: first.token}
	second.start()
	t.Cleanup(func() {
		if second.process.ProcessState == nil {
			second.stop()
		}
	})
	d := first.addPatrons(1000, "postgresql", "every: 1s")
	_, err := first.client.StartFeed(t.Context(), "patrons")
	require.NoError(t, err)
	arrives := func(s *service, n int64) {
		t.Helper()
		require.Eventually(t, func() bool {
			c, err := s.client.Counts(t.Context(), "patrons", "public.patrons")
			return err == nil && c.Warehouse == n
		}, 30*time.Second, 100*time.Millisecond)
	}
	arrives(second, 1000)
	for i, victim := range []*service{first, second} {
		other := []*service{second, first}[i]
		victim.kill()
		d.exec(`INSERT INTO patrons VALUES ($1, clock_timestamp())`, 2000+i)
		arrives(other, 1001+int64(i))
		victim.start()
	}
	other := []*service{first, second}
	runs, err := other[0].client.Runs(t.Context(), client.RunFilter{Limit: 500})
	require.NoError(t, err)
	for _, r := range runs {
		require.NotEqual(t, "failed", r.State, "%+v", r.Problem)
	}
	first.proved("patrons", "public.patrons", 1002)
}

// With a person watching, a run shows a bar; piped, it does not.
func TestProgressIsForPeople(t *testing.T) {
	if _, err := exec.LookPath("script"); err != nil {
		t.Fatal("the program script, of Debian's bsdutils, is needed for a terminal")
	}
	s := newService(t)
	d := s.addPatrons(300000, "duckdb", "")
	locked, err := d.conn.Begin(t.Context())
	require.NoError(t, err)
	_, err = locked.Exec(t.Context(), `LOCK TABLE patrons`)
	require.NoError(t, err)
	time.AfterFunc(time.Second, func() { _ = locked.Rollback(context.Background()) })
	watch := exec.Command("script", "-qec", program+" runs start patrons --address "+s.address+" --token "+s.token,
		"/dev/null")
	out, err := watch.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "public.patrons (")
	require.Contains(t, string(out), "300 000")
	require.NotContains(t, s.must("runs", "start", "patrons"), "public.patrons (")
}
