package engine_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	icebergio "github.com/apache/iceberg-go/io"
	"github.com/apache/iceberg-go/table"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/lakefiles"
	"noemata/internal/testkit"
	"noemata/internal/testkit/storage"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/lake"
)

// newestMetadata is the metadata that the pointer of a table is at, of all files of a lake, where nothing was given up.
func newestMetadata(t *testing.T, files []string, table string) string {
	t.Helper()
	var list []string
	for _, name := range files {
		if strings.Contains(name, "/kept/"+table+"-") && strings.HasSuffix(name, ".metadata.json") {
			list = append(list, name)
		}
	}
	require.NotEmpty(t, list)
	sort.Strings(list)
	return list[len(list)-1]
}

// scanned reads a table through iceberg-go's own scan.
func scanned(t *testing.T, fs func(context.Context) (icebergio.IO, error), metadata string) (rows []string) {
	t.Helper()
	tbl, err := table.NewFromLocation(t.Context(), table.Identifier{"kept", "loans"}, metadata, fs, nil)
	require.NoError(t, err)
	_, records, err := tbl.Scan().ToArrowRecords(t.Context())
	require.NoError(t, err)
	for r, err := range records {
		require.NoError(t, err)
		for i := range int(r.NumRows()) {
			id := r.Column(0).(*array.Int32).Value(i)
			copy, fee := "~", "~"
			if c := r.Column(1); c.IsValid(i) {
				copy = c.ValueStr(i)
			}
			if c := r.Column(2); c.IsValid(i) {
				fee = c.ValueStr(i)
			}
			rows = append(rows, fmt.Sprintf("%d %s %s", id, copy, fee))
		}
	}
	slices.Sort(rows)
	return rows
}

// readByNode reads a table through a library of another language.
func readByNode(t *testing.T, metadata, objects string) (rows []string) {
	t.Helper()
	var out, trouble bytes.Buffer
	cmd := exec.CommandContext(t.Context(), "node", "../testkit/icebird/read.mjs", metadata)
	cmd.Stdout, cmd.Stderr, cmd.Env = &out, &trouble, append(os.Environ(), "OBJECTS="+objects)
	require.NoError(t, cmd.Run(), "make testkit installs it: %s", &trouble)
	for lines := bufio.NewScanner(&out); lines.Scan(); {
		var r struct {
			ID   int      `json:"id"`
			Copy *string  `json:"copy"`
			Fee  *float64 `json:"fee"`
		}
		require.NoError(t, json.Unmarshal(lines.Bytes(), &r))
		copy, fee := "~", "~"
		if r.Copy != nil {
			copy = *r.Copy
		}
		if r.Fee != nil {
			fee = fmt.Sprintf("%.2f", *r.Fee)
		}
		rows = append(rows, fmt.Sprintf("%d %s %s", r.ID, copy, fee))
	}
	slices.Sort(rows)
	return rows
}

// What is in a lake is read alike by others: by the scan of the library that writes its metadata, and by a reader of
// another language; however often rows were changed, and before and after its files were put together; in a folder, and
// in a bucket of whose requests one in thirty fails.
func TestOthersReadTheLake(t *testing.T) {
	raceless(t)
	for _, place := range []string{"folder", "bucket"} {
		t.Run(place, func(t *testing.T) { othersRead(t, place == "bucket") })
	}
}

// Longer than a screen: it is one story of one table.
func othersRead(t *testing.T, inBucket bool) {
	settings, _ := testkit.Database(t)
	judging := func(bool) {}
	objects, all := "", func() (list []string) {
		require.NoError(t, filepath.WalkDir(settings.Path, func(at string, _ fs.DirEntry, err error) error {
			list = append(list, "file://"+at)
			return err
		}))
		return list
	}
	settings.Path = filepath.Join(testkit.Dir(t), "lake")
	if inBucket {
		server := storage.New(t)
		at := server.Bucket(t, "archive")
		settings.Path, settings.Bucket, objects = "", &at, server.URL
		all = func() (list []string) {
			for _, name := range server.Objects(t, at.Name) {
				list = append(list, "s3://archive/"+name)
			}
			return list
		}
		server.Failing.Store(30)
		judging = func(on bool) { server.Failing.Store(map[bool]int64{true: 0, false: 30}[on]) }
	}
	files, err := lakefiles.Of(settings, `warehouse "lake"`)
	require.NoError(t, err)
	wh, err := lake.Open(settings, `warehouse "lake"`)
	require.NoError(t, err)
	t.Cleanup(wh.Close)
	b := newWorkbench(t, "duckdb")
	b.warehouse, b.kind = wh, lake.Kind
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text, fee numeric(8,2), at timestamptz DEFAULT now(), day date DEFAULT now(),
		returned bool DEFAULT false, ref uuid DEFAULT gen_random_uuid(), cover bytea DEFAULT '\x00ff')`)
	f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
	judge := func(why string) {
		t.Helper()
		var want []string
		require.NoError(t, b.conn.QueryRow(t.Context(), `SELECT array_agg(id || ' ' || coalesce(copy, '~') || ' ' ||
			coalesce(fee::text, '~')) FROM loans`).Scan(&want))
		slices.Sort(want)
		metadata := newestMetadata(t, all(), "loans")
		require.Equal(t, want, scanned(t, files.IO, metadata), why)
		judging(true) // others do not ask again
		require.Equal(t, want, readByNode(t, metadata, objects), why)
		judging(false)
	}
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 30 {
		b.exec(fmt.Sprintf(`INSERT INTO loans SELECT i, 'C' || i, (i %% 90) + 0.25 FROM generate_series(1, 400) i WHERE i %% 7 = %d
			ON CONFLICT (id) DO UPDATE SET copy = excluded.copy || ' %d', fee = NULL`, r.IntN(7), round))
		b.exec(fmt.Sprintf("DELETE FROM loans WHERE id %% 11 = %d; UPDATE loans SET copy = NULL WHERE id %% 13 = %d",
			r.IntN(11),
			r.IntN(13)))
		f.catchUp()
		if round%10 == 9 {
			judge(fmt.Sprintf("round %d", round))
		}
	}
	parquet := func() (n int) {
		for _, name := range all() {
			if strings.Contains(name, "/kept/loans-") && strings.HasSuffix(name, ".parquet") {
				n++
			}
		}
		return n
	}
	before := parquet()
	require.NoError(t, wh.(warehouse.Upkept).Upkeep(t.Context()))
	judge("after its files were put together")
	require.Equal(t, before+1, parquet(), "old snapshots still have them")
	b.exec(`UPDATE loans SET copy = 'at last' WHERE id < 40; DELETE FROM loans WHERE id > 390`)
	f.catchUp()
	judge("and it goes on")
}
