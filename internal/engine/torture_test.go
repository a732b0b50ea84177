package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/testkit"
	"noemata/internal/testkit/torture"
)

// Concurrent transactions of every kind of change, while runs are stopped and connections
// cut at random instants: at checkpoints each table is what the source's own record of
// changes says it must be.
func TestTorture(t *testing.T) {
	for i, kind := range []string{"duckdb", "postgresql"} {
		t.Run(kind, func(t *testing.T) {
			b := newWorkbench(t, kind)
			ctx := context.Background()
			s, err := torture.New(ctx, testkit.Postgres(t).URL(b.settings.Database))
			require.NoError(t, err)
			defer s.Close()
			var tables []feed.Table
			for _, keep := range torture.Keeps {
				for _, name := range torture.Tables(keep) {
					tables = append(tables, feed.Table{Table: `public."` + doubled(name) + `"`, Keep: feed.Keep(keep), Target: `kept."` + doubled(name) + `"`})
				}
			}
			// The slot is made while nobody writes: made while a transaction that truncates is
			// open, a server of version 15 may be unable to decode it. The other tables are then
			// added to a running feed.
			newFollower(t, b, tables[0]).catchUp()
			f := newFollower(t, b, tables...)
			r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), uint64(i)))
			short := 15 * time.Second
			if testing.Short() {
				short /= 4
			}
			length, long, err := s.Length(short)
			require.NoError(t, err)
			ends := time.Now().Add(length)
			for round := 1; time.Now().Before(ends); round++ {
				s.Start(6)
				for until := time.Now().Add(long/2 + time.Duration(r.Int64N(int64(long)))); time.Now().Before(until); {
					f.disturbed(r)
				}
				s.Pause()
				f.settle()
				if round == 1 {
					require.NoError(t, s.Mark(ctx))
				}
				begun := time.Now()
				faults, err := s.Judge(ctx, func(sql string) ([][]string, error) { return asTexts(f, sql) })
				require.NoError(t, err)
				t.Logf("round %d: %d transactions, judged in %v", round, s.Count, time.Since(begun))
				if len(faults) > 0 {
					t.Log(f.see("SELECT source_table, key, content, reason FROM noemata.set_aside"))
					for _, fault := range faults {
						t.Log(s.Explain(ctx, fault))
					}
				}
				require.Empty(t, faults, "round %d, after %d transactions", round, s.Count)
			}
			t.Logf("%d transactions; refused: %v", s.Count, s.Errors)
		})
	}
}

func doubled(name string) string {
	out := ""
	for _, r := range name {
		if r == '"' {
			out += `"`
		}
		out += string(r)
	}
	return out
}

func asTexts(f *follower, sql string) ([][]string, error) {
	found, err := f.warehouse.Ask(context.Background(), sql)
	var out [][]string
	for _, row := range found {
		texts := make([]string, len(row))
		for i, v := range row {
			if v != nil {
				texts[i] = fmt.Sprint(v)
			}
		}
		out = append(out, texts)
	}
	return out, err
}

// disturbed runs the feed for a while, and ends it in one of several ways.
func (f *follower) disturbed(r *rand.Rand) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	w := f.work()
	until := make(chan struct{})
	w.Until = until
	w.CutBytes = int64(1+r.IntN(400)) << 10
	done := make(chan error, 1)
	go func() {
		_, err := f.engine.Follow(ctx, w)
		done <- err
	}()
	wait := time.After(time.Duration(r.IntN(1500)) * time.Millisecond)
	select {
	case err := <-done:
		f.bearable(err)
		return
	case <-wait:
	}
	switch r.IntN(4) {
	case 0:
		close(until)
	case 1:
		cancel()
	case 2: // a connection to the source, or to the warehouse, is cut
		f.cut("noemata reader")
	default:
		f.cut("noemata writer")
	}
	select {
	case err := <-done:
		f.bearable(err)
	case <-time.After(300 * time.Millisecond):
		cancel()
		<-done
	}
}

func (f *follower) bearable(err error) {
	if err != nil {
		f.t.Logf("a run ended: %v", err)
	}
}

func (f *follower) cut(application string) {
	f.exec(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = $1 AND random() < 0.5`, application)
}

// settle brings the feed to the end of the log, whatever it takes.
func (f *follower) settle() {
	f.t.Helper()
	var err error
	for range 20 {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
		_, err = f.engine.Follow(ctx, f.work())
		cancel()
		if err == nil {
			return
		}
		f.bearable(err)
		time.Sleep(200 * time.Millisecond)
	}
	require.NoError(f.t, err)
}
