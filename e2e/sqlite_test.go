package e2e

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the program that writes the file

	"noemata/internal/testkit"
)

// A SQLite file is read beside the program that writes it, by watermark, by comparison and as a whole, into both
// warehouses;
// after random changes each table is proven equal, and what cannot be stored is set aside.
//
// Longer than a screen: it is one story of one service.
func TestASQLiteFileIsReplicated(t *testing.T) {
	t.Parallel() // beside others that wait
	files := testkit.Dir(t)
	s := &service{t: t, dir: testkit.Dir(t), listen: "127.0.0.1:0", flags: []string{"--source-dir", files}}
	s.start()
	t.Cleanup(s.stop)
	path := filepath.Join(files, "desk.sqlite")
	out, code := s.cli("", "sources", "add", "desk", "--kind", "sqlite", "--path", "/etc/desk.sqlite")
	require.NotZero(t, code)
	require.Contains(t, out, "Choose a file below "+files)
	out, code = s.cli("", "sources", "add", "desk", "--kind", "sqlite", "--path", "desk.sqlite")
	require.NotZero(t, code)
	require.Contains(t, out, "There is no file "+path)
	writer, err := sql.Open("sqlite", path+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer func() { _ = writer.Close() }()
	exec := func(statement string, args ...any) {
		t.Helper()
		_, err := writer.Exec(statement, args...)
		require.NoError(t, err, statement)
	}
	exec("PRAGMA journal_mode = WAL")
	exec(`CREATE TABLE loans (id INTEGER PRIMARY KEY, title TEXT, fee DECIMAL(8,2), returned BOOLEAN, changed INTEGER NOT NULL);
		CREATE INDEX by_changed ON loans (changed);
		CREATE TABLE holds (branch TEXT, number INT, state TEXT, PRIMARY KEY (branch, number)) WITHOUT ROWID;
		CREATE TABLE rules (name TEXT NOT NULL UNIQUE, days REAL, extra)`)
	require.Contains(t, s.must("sources", "test", "desk"), "SQLite 3.")
	require.Contains(t, s.must("sources", "tables", "desk", "main.loans"), "key id")
	for _, kind := range []string{"duckdb", "postgresql"} {
		s.addWarehouse(kind, kind)
		s.apply("feed: desk-%s\nsource: desk\nwarehouse: %[1]s\ntarget: desk.{table}\ntables:\n"+
			"  - {table: main.loans, find: watermark, watermark: {column: changed}, keep: history, sweep: 1s}\n"+
			"  - {table: main.holds, find: compare, keep: soft-delete}\n"+
			"  - {table: main.rules, find: whole, keep: latest}\n", kind)
	}
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	odd := []any{"Low Tide", "Œsling's", "", nil, strings.Repeat("x", 3000)}
	for round := range 4 {
		for range 60 {
			id := r.IntN(40)
			changed := time.Now().UnixMicro()
			switch r.IntN(6) {
			case 0, 1:
				exec("INSERT INTO loans VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET title = excluded.title, fee = excluded.fee, "+
					"returned = excluded.returned, changed = excluded.changed", id, odd[r.IntN(len(odd))], r.IntN(1000), r.IntN(2),
					changed)
			case 2:
				exec("INSERT INTO holds VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET state = excluded.state", fmt.Sprint("b", id%3),
					id,
					odd[r.IntN(len(odd))])
			case 3:
				exec("DELETE FROM holds WHERE number = ?", id)
			case 4:
				exec("INSERT INTO rules VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET days = excluded.days, extra = excluded.extra",
					fmt.Sprint("rule ", id), r.Float64(), odd[r.IntN(len(odd))])
			default:
				exec("DELETE FROM loans WHERE id = ?", id)
			}
		}
		time.Sleep(1100 * time.Millisecond) // keys are compared once a second
		for _, kind := range []string{"duckdb", "postgresql"} {
			require.Equal(t, "done", s.finish("desk-"+kind).State)
			for _, table := range []string{"loans", "holds", "rules"} {
				proof, err := s.client.Prove(t.Context(), "desk-"+kind, "main."+table)
				require.NoError(t, err)
				require.True(t, proof.Same, "round %d, %s into %s: %+v", round, table, kind, proof)
			}
		}
	}
	exec("INSERT INTO loans VALUES (100, 'Fog', 'dear', 0, ?)", time.Now().UnixMicro())
	run := s.finish("desk-duckdb")
	require.Equal(t, "done", run.State)
	aside := int64(0)
	for _, x := range run.Tables {
		aside += x.Books.SetAside
	}
	require.EqualValues(t, 1, aside, "what its column does not promise is set aside: %+v", run.Tables)
}
