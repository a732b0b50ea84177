package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// loansIntoPostgres is a feed whose warehouse the test itself can spoil.
func (s *service) loansIntoPostgres(more string) (d *database, spoil func(sql string)) {
	s.t.Helper()
	d = s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, title text, card text, changed timestamptz NOT NULL DEFAULT now());
		CREATE INDEX ON loans (changed);
		INSERT INTO loans SELECT i, 'Title ' || i, 'V' || i, now() - interval '1 hour' FROM generate_series(1, 500) i`)
	target, conn := testkit.Database(s.t)
	_, err := s.client.AddConnection(s.t.Context(), client.Warehouses,
		client.NewConnection{Name: "target", Kind: "postgresql", Settings: &target})
	require.NoError(s.t, err)
	s.apply(`feed: loans
source: circulation
warehouse: target
every: 1s
%s
target: kept.{table}
tables:
  - table: public.loans
    find: watermark
    watermark: {column: changed}
    keep: soft-delete
    columns: {card: {mask: keep-last, count: 2}}
`, more)
	s.finish("loans")
	return d, func(sql string) { testkit.Exec(s.t, conn, sql) }
}

// What differs is shown with both values, but for those that are hidden; a repair mends just that, and each
// proof and repair is on record with whoever asked for it and what was run.
func TestProofsAndRepairs(t *testing.T) {
	s := newService(t)
	_, spoil := s.loansIntoPostgres("")
	require.Contains(t, s.must("prove", "loans"), "equal")
	spoil(`UPDATE kept.loans SET title = 'By hand' WHERE id = 7; DELETE FROM kept.loans WHERE id = 9;
		UPDATE kept.loans SET card = '**' WHERE id = 11; INSERT INTO kept.loans (id, title) VALUES (1000, 'Nobody knows it')`)
	said, code := s.cli("", "prove", "loans", "public.loans")
	require.Equal(t, 3, code, said)
	require.Contains(t, said, `values differ: key ["7"], title is "Title 7" at the source and "By hand" in the warehouse`)
	require.Contains(t, said, "noemata repair loans")
	list := s.must("proofs", "list", "loans")
	require.Regexp(t, `2 .*public.loans .*proof .*done .*NOT equal`, list)
	shown := s.must("proofs", "show", "2")
	require.Regexp(t, `9 .*missing .*id .*9`, shown)
	require.Regexp(t, `1000 .*extra`, shown)
	require.Contains(t, shown, "(hidden)")
	require.NotContains(t, shown, "V11")
	p, err := s.client.Proving(t.Context(), 2)
	require.NoError(t, err)
	require.NotEmpty(t, p.AskedBy)
	require.NotEmpty(t, p.Statements)
	f, err := s.client.Feed(t.Context(), "loans")
	require.NoError(t, err)
	require.Equal(t, "unequal", f.Tables[0].State)

	said, code = s.cli("", "repair", "loans")
	require.Equal(t, 2, code, said)
	require.Contains(t, said, "add --yes", "nothing is repaired in silence")
	require.Regexp(t, `public.loans .*NOT equal .* 4 .*0`, s.must("repair", "loans", "--yes"))
	s.proved("loans", "public.loans", 500)
	_, code = s.cli("", "proofs", "stop", "2")
	require.NotZero(t, code, "it has ended")
	said, code = s.cli("", "prove", "loans", "public.copies")
	require.Equal(t, 1, code)
	require.Contains(t, said, "has no table")
}

// A feed may have its tables proven by and by: after the first load, and when the last proof is old.
func TestTablesAreProvenByAndBy(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	s.loansIntoPostgres("prove: 1d")
	s.must("feeds", "start", "loans")
	require.Eventually(t, func() bool {
		f, err := s.client.Feed(t.Context(), "loans")
		return err == nil && f.Tables[0].Proof != nil && f.Tables[0].Proof.Same
	}, 40*time.Second, 200*time.Millisecond)
	list, err := s.client.Provings(t.Context(), "loans", "")
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Empty(t, list[0].AskedBy)
	said, code := s.cli("prove: 10s\n"+fmt.Sprintf(patternFeed, "x", "", "public.loans", "whole"), "feeds", "check", "-")
	require.Equal(t, 2, code)
	require.Contains(t, said, "is not an age of a minute or more")
}

// A proof that nobody wants any more is given up, whatever it is at.
func TestAProofIsStopped(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	d, _ := s.loansIntoPostgres("")
	d.exec(`INSERT INTO loans SELECT i, repeat('x', 100), 'c', now() - interval '1 hour' FROM generate_series(1000, 2000000) i`)
	p, err := s.client.StartProof(t.Context(), "loans", "public.loans", false, "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := s.client.Proving(t.Context(), p.ID)
		return err == nil && now.State == "running" && now.Read > 0
	}, time.Minute, 20*time.Millisecond)
	_, err = s.client.StopProving(t.Context(), p.ID)
	require.NoError(t, err)
	_, err = s.client.AwaitProving(t.Context(), p.ID, func(client.Proving) {})
	require.ErrorContains(t, err, "was stopped before its end")
	require.Eventually(t, func() bool {
		now, err := s.client.Proving(t.Context(), p.ID)
		return err == nil && now.EndedAt != nil && len(now.Statements) > 0
	}, 20*time.Second, 50*time.Millisecond, "what was run is on record")
}

// A feed that follows the log without pause is repaired beside its runs: none of them has failed by it, and it goes on.
func TestARepairBesideAFeedThatFollows(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, title text); INSERT INTO loans SELECT i, 'Title ' || i FROM generate_series(1, 300) i`)
	target, conn := testkit.Database(t)
	_, err := s.client.AddConnection(t.Context(), client.Warehouses,
		client.NewConnection{Name: "target", Kind: "postgresql", Settings: &target})
	require.NoError(t, err)
	s.apply("feed: live\nsource: circulation\nwarehouse: target\nfreshness: continuous\ntarget: kept.{table}\ntables:\n" +
		"  - {table: public.loans, find: log, keep: history}\n")
	_, err = s.client.Repair(t.Context(), "live", "public.loans")
	require.ErrorContains(t, err, "cannot be repaired", "it has not joined")
	s.must("feeds", "start", "live")
	require.Eventually(t, func() bool { return strings.Contains(s.must("feeds", "show", "live"), "following") },
		60*time.Second,
		200*time.Millisecond)
	testkit.Exec(t, conn, `UPDATE kept.loans SET title = 'By hand' WHERE id % 50 = 0`)
	d.exec(`UPDATE loans SET title = 'Changed' WHERE id % 7 = 0`)
	p, err := s.client.Repair(t.Context(), "live", "public.loans")
	require.NoError(t, err)
	require.LessOrEqual(t, p.Repaired.Keys, 6)
	s.proved("live", "public.loans", 300)
	runs, err := s.client.Runs(t.Context(), client.RunFilter{Feed: "live"})
	require.NoError(t, err)
	for _, r := range runs {
		require.NotEqual(t, "failed", r.State, "%+v", r.Problem)
	}
}

// Of a table with a watermark, what changed lately is proven alone, and repaired; what a proof of all rows has found
// stays what is known of the table.
func TestWhatChangedLatelyIsProven(t *testing.T) {
	for _, kind := range []string{"duckdb", "postgresql"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel() // it waits for the most part
			s := newService(t)
			d := s.addSource("circulation")
			d.exec(`CREATE TABLE loans (id int PRIMARY KEY, title text, updated_at timestamptz NOT NULL); CREATE INDEX ON loans (updated_at);
				INSERT INTO loans SELECT i, 'Title ' || i, timestamptz '2026-01-01Z' + i * interval '1 hour' FROM generate_series(1, 240) i`)
			s.addWarehouse("lake", kind)
			s.apply("feed: loans\nsource: circulation\nwarehouse: lake\ntables:\n  - table: public.loans\n    find: watermark\n" +
				"    watermark: {column: updated_at}\n    keep: soft-delete\n    columns:\n      updated_at: {name: written}\n")
			require.Equal(t, "done", s.finish("loans").State)
			s.proved("loans", "public.loans", 240)
			d.exec(`UPDATE loans SET title = 'silent' WHERE id IN (2, 239); DELETE FROM loans WHERE id = 238`)

			said, code := s.cli("", "prove", "loans", "--since", "1d")
			require.Equal(t, 3, code)
			require.Regexp(t, `public.loans .*NOT equal +23 +1 +0 +1 `, said, "of the 25 rows of the last day")
			said, code = s.cli("", "prove", "loans", "--since", "2026-01-10T22:00:00Z")
			require.Equal(t, 3, code)
			require.Regexp(t, `public.loans .*NOT equal +1 +1 +0 +1 `, said)
			require.Regexp(t, `public.loans .*NOT equal +1 +0 +1 +2 +0 `, s.must("repair", "loans", "--since", "1d", "--yes"))
			require.Regexp(t, `public.loans .*equal +24 +0 +0 +0 `, s.must("prove", "loans", "--since", "1d"))
			f, err := s.client.Feed(t.Context(), "loans")
			require.NoError(t, err)
			require.False(t, f.Tables[0].Proof.Same, "the proof of a part says nothing of the whole")
			said, code = s.cli("", "prove", "loans")
			require.Equal(t, 3, code)
			require.Regexp(t, `public.loans .*NOT equal +238 +1 +0 +0 `, said)
			s.apply("feed: late\nsource: circulation\nwarehouse: lake\ntarget: late.{table}\ntables:\n  - table: public.loans\n    find: watermark\n" +
				"    watermark: {column: updated_at, start: '2026-01-10T12:00:00Z'}\n    keep: latest\n")
			require.Equal(t, "done", s.finish("late").State)
			require.Regexp(t, `public.loans .*equal +12 +0 +0 +0 `, s.must("prove", "late", "--since", "3d"), "what lies before its start is not meant to be there")
			said, code = s.cli("", "prove", "loans", "--since", "lately")
			require.NotZero(t, code)
			require.Contains(t, said, "Write a length of time, as 2h or 3d, or a value of the watermark.")
		})
	}
}
