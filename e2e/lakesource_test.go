package e2e

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
	"noemata/internal/testkit/storage"
)

// What a feed keeps in a lake, another one brings on from there, as it changes: through kills of the service the
// last of
// the chain is equal to the lake, and the lake to the source.
//
// Longer than a screen: it is one story of one service.
func TestALakeIsASource(t *testing.T) {
	t.Parallel()
	s := &service{t: t, dir: testkit.Dir(t), listen: "127.0.0.1:0"}
	s.flags = []string{"--source-dir", s.dir}
	s.start()
	t.Cleanup(s.stop)
	d := s.addSource("circulation")
	d.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text, fee numeric(8,2), lent timestamptz, cover bytea);
		INSERT INTO loans SELECT i, 'C' || i, i / 4.0, '2026-05-01Z', '\x00ff' FROM generate_series(1, 2000) i;
		CREATE TABLE holds (id int PRIMARY KEY, state text); INSERT INTO holds VALUES (1, 'placed')`)
	catalogue, _ := testkit.Database(t)
	if rand.IntN(2) == 0 {
		catalogue.Path = "archive"
	} else {
		t.Log("its files are in a bucket")
		server := storage.New(t)
		at := server.Bucket(t, "libraries")
		catalogue.Bucket = &at
		server.Failing.Store(20)
	}
	_, err := s.client.TryConnection(t.Context(), client.Sources, client.NewConnection{Name: "archive", Kind: "iceberg",
		Settings: &catalogue})
	require.ErrorContains(t, err, "the database has no table public.iceberg_tables")
	for _, side := range []client.Side{client.Warehouses, client.Sources} {
		_, err := s.client.AddConnection(t.Context(), side, client.NewConnection{Name: "archive", Kind: "iceberg",
			Settings: &catalogue})
		require.NoError(t, err)
	}
	s.addWarehouse("desk", "duckdb")
	s.apply("feed: kept\nsource: circulation\nwarehouse: archive\nfreshness: continuous\ntarget: kept.{table}\ntables:\n" +
		"  - {table: public.loans, find: log, keep: soft-delete}\n  - {table: public.holds, find: log, keep: latest}\n")
	_, err = s.client.StartFeed(t.Context(), "kept")
	require.NoError(t, err)
	s.holds("kept", "public.holds", 1)
	require.Contains(t, s.must("sources", "test", "archive"), "Iceberg, 2 tables")
	require.Contains(t, s.must("sources", "tables", "archive", "kept.loans"), "timestamptz")
	s.apply("feed: onward\nsource: archive\nwarehouse: desk\nfreshness: continuous\ntarget: onward.{table}\nprefix: on_\ntables:\n" +
		"  - {table: kept.loans, find: log, keep: history, key: [id]}\n  - {table: kept.holds, find: log, keep: latest, key: [id]}\n")
	_, err = s.client.StartFeed(t.Context(), "onward")
	require.NoError(t, err)
	for range 3 {
		for range 30 {
			id := rand.IntN(2500)
			d.exec(fmt.Sprintf(`BEGIN; INSERT INTO loans VALUES (%d, 'new', 1, '2026-05-02Z') ON CONFLICT (id) DO UPDATE SET copy = 'changed %[1]d';
				DELETE FROM loans WHERE id = %d; INSERT INTO holds VALUES (%[1]d, 'ready') ON CONFLICT DO NOTHING; COMMIT`, id, rand.IntN(2500)))
			time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
		}
		s.kill()
		s.start()
	}
	var loans, holds int64
	require.NoError(t, d.conn.QueryRow(t.Context(),
		"SELECT (SELECT count(*) FROM loans), (SELECT count(*) FROM holds)").Scan(&loans, &holds))
	s.holds("kept", "public.holds", holds)
	s.proved("kept", "public.loans", loans)
	x, err := s.client.Ask(t.Context(), "archive", client.Ask{SQL: "SELECT count(*) FROM kept.loans"})
	require.NoError(t, err)
	var all int64
	_, err = fmt.Sscan(*x.Rows[0][0], &all)
	require.NoError(t, err)
	s.holds("onward", "kept.holds", holds)
	require.Eventually(t, func() bool {
		x, err := s.client.Ask(t.Context(), "desk",
			client.Ask{SQL: "SELECT count(*) FILTER (WHERE nm_deleted_at IS NULL), count(*) FROM onward.loans WHERE on_current"})
		return err == nil && *x.Rows[0][0] == fmt.Sprint(loans) && *x.Rows[0][1] == fmt.Sprint(all)
	}, time.Minute, 200*time.Millisecond)
	s.proved("onward", "kept.loans", all)
	s.proved("onward", "kept.holds", holds)
	require.Contains(t, s.must("positions", "list", "onward"), `Z {"kept.holds":`)

	// Its tables are compared and read as a whole, too; there is no watermark to trust.
	s.apply("feed: looked\nsource: archive\nwarehouse: desk\ntarget: looked.{table}\nprefix: on_\ntables:\n" +
		"  - {table: kept.loans, find: compare, keep: latest, key: [id]}\n  - {table: kept.holds, find: whole, keep: history, key: [id]}\n")
	require.Equal(t, "done", s.finish("looked").State)
	s.proved("looked", "kept.loans", all)
	s.proved("looked", "kept.holds", holds)
	d.exec("DELETE FROM holds WHERE id = 1; UPDATE loans SET copy = 'all'")
	s.proved("kept", "public.holds", holds-1)
	s.holds("onward", "kept.holds", holds-1)
	require.Equal(t, "done", s.finish("looked").State)
	s.proved("looked", "kept.holds", holds-1)
	_, err = s.client.FeedFile(t.Context(),
		"feed: timed\nsource: archive\nwarehouse: desk\ntarget: timed.{table}\nprefix: on_\ntables:\n"+
			"  - {table: kept.loans, find: watermark, watermark: {column: lent}, keep: latest, key: [id]}\n", client.Apply)
	require.ErrorContains(t, err, "Write find: log")
}
