package e2e

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
)

// Many feeds with many tables, half of them following the log: the overview comes at once, the service is idle
// while nothing changes, and a change in any of them shows within its freshness. `make torture` has 50 feeds with
// 2 000 tables.
func TestManyFeeds(t *testing.T) {
	feeds, tables, long := 4, 20, os.Getenv("NOEMATA_TORTURE") != ""
	if long {
		feeds, tables = 50, 40
	}
	s := newService(t)
	d := s.addSource("circulation")
	s.addWarehouse("target", "postgresql")
	d.exec(fmt.Sprintf(`DO $$ BEGIN FOR f IN 0..%d LOOP
  EXECUTE format('CREATE SCHEMA branch_%%s', f);
  FOR t IN 0..%d LOOP
    EXECUTE format('CREATE TABLE branch_%%s.shelf_%%s (id int PRIMARY KEY, updated_at timestamptz NOT NULL DEFAULT clock_timestamp())', f, t);
    EXECUTE format('INSERT INTO branch_%%s.shelf_%%s SELECT i, ''2026-01-01Z'' FROM generate_series(1, 20) i', f, t);
  END LOOP; END LOOP; END $$`, feeds-1, tables-1))
	for f := range feeds {
		if f%2 == 0 {
			s.apply("feed: branch-%d\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: '{schema}.{table}'\ntables:\n"+
				"  - {table: branch_%[1]d.*, find: log, keep: latest}\n", f)
		} else {
			s.apply("feed: branch-%d\nsource: circulation\nwarehouse: target\nevery: 5m\ntarget: '{schema}.{table}'\ntables:\n"+
				"  - {table: branch_%[1]d.*, find: watermark, watermark: {column: updated_at, settle: 0s}, keep: latest}\n", f)
		}
		_, err := s.client.StartFeed(t.Context(), fmt.Sprint("branch-", f))
		require.NoError(t, err)
	}
	var o client.Overview
	copying := time.Now()
	require.Eventually(t, func() bool {
		var err error
		o, err = s.client.Overview(t.Context(), client.FeedFilter{})
		return err == nil && o.Rows == int64(feeds*tables*20)
	}, 15*time.Minute, 500*time.Millisecond, "%+v", &o)
	t.Logf("%d tables of %d feeds were copied in %s", o.Tables, feeds, time.Since(copying).Round(time.Second))
	require.Equal(t, feeds*tables, o.Tables)
	require.Empty(t, o.Needs)

	wait := 2 * time.Second
	if long {
		wait = 5 * time.Minute
		time.Sleep(150 * time.Second) // the first runs, which have copied, end, and others begin
	}
	used := s.cpu()
	time.Sleep(wait)
	idle := float64(s.cpu()-used) / float64(wait)
	var longest time.Duration
	for range 10 {
		began := time.Now()
		_, err := s.client.Overview(t.Context(), client.FeedFilter{})
		require.NoError(t, err)
		longest = max(longest, time.Since(began))
	}
	d.exec(fmt.Sprintf("INSERT INTO branch_%d.shelf_%d VALUES (1000)", feeds-2, tables-1))
	changed := time.Now()
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), fmt.Sprint("branch-", feeds-2))
		return err == nil && slices.ContainsFunc(f.Tables, func(x client.TableStatus) bool { return *x.Rows == 21 })
	}, 20*time.Second, 20*time.Millisecond, "shelf_%d", tables-1)
	memory := s.resident()
	t.Logf("the overview took %s at most, idle took %.1f %% of a core, memory %d MB, a change showed after %s",
		longest.Round(time.Millisecond),
		100*idle, memory>>20, time.Since(changed).Round(time.Millisecond))
	if long {
		require.Less(t, longest, time.Second)
		require.Less(t, idle, 0.05)
		require.Less(t, memory, int64(300<<20))
	}
}

// cpu is the time that the service's process has used (proc(5), /proc/pid/stat: utime and stime).
func (s *service) cpu() time.Duration {
	s.t.Helper()
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Process.Pid))
	require.NoError(s.t, err)
	fields := strings.Fields(string(content[strings.LastIndexByte(string(content), ')')+2:]))
	var ticks int64
	for _, f := range fields[11:13] {
		n, err := strconv.ParseInt(f, 10, 64)
		require.NoError(s.t, err)
		ticks += n
	}
	return time.Duration(ticks) * time.Second / 100
}

// resident is what the service's process has resident, in bytes.
func (s *service) resident() int64 {
	s.t.Helper()
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.process.Process.Pid))
	require.NoError(s.t, err)
	_, rest, _ := strings.Cut(string(content), "VmRSS:")
	n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
	require.NoError(s.t, err)
	return n << 10
}
