package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/testkit"
)

// compares has a table compared with their source while rows change at random, and
// runs are given up at random: each time one is through, they are equal, and the next reads nothing.
func compares(t *testing.T, b *workbench, exec func(string), table feed.Table) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	change := func() {
		branch, no := "ABCÄ"[r.IntN(3):][:1], r.IntN(400)
		switch n := r.IntN(10); {
		case n < 4:
			exec(fmt.Sprintf("DELETE FROM copies WHERE branch = '%s' AND no = %d", branch, no))
			exec(fmt.Sprintf("INSERT INTO copies VALUES ('%s', %d, 'new', %d.5, 'd%[2]d')", branch, no, r.IntN(9)))
		case n < 6:
			exec(fmt.Sprintf("UPDATE copies SET title = 'change %d' WHERE no %% 50 = %d", r.IntN(1000), r.IntN(50)))
		case n < 8:
			exec(fmt.Sprintf("DELETE FROM copies WHERE no BETWEEN %d AND %d", no, no+r.IntN(6)))
		default: // a key that changes
			exec(fmt.Sprintf("UPDATE copies SET no = no + 1000 WHERE branch = '%s' AND no = %d", branch, no))
			exec("DELETE FROM copies WHERE no > 1400")
		}
	}
	for round := range 6 {
		for range 8 {
			change()
		}
		table.PageRows = int64(10 + 40*(round%2))
		for range r.IntN(3) {
			ctx, give := context.WithCancel(context.Background())
			w := b.work(table)
			steps := r.IntN(12)
			w.Progress = func(engine.Progress) {
				if steps--; steps < 0 {
					give()
				}
			}
			_, err := b.engine.Run(ctx, w)
			require.True(t, err == nil || problem.Is(err, problem.Stopped), "%v", err)
			give()
		}
		b.bring(table)
		proof, err := engine.Prove(context.Background(), b.work(table))
		require.NoError(t, err)
		require.True(t, proof.Same, "round %d: %+v", round, proof)
		out := b.bring(table)
		require.Equal(t, rows.Books{}, out.Books, "nothing has changed, so nothing is read")
		require.Zero(t, out.Commits)
	}
}

// comparedTable is kept in one of the ways, another each time.
func comparedTable(table string) feed.Table {
	keeps := []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory}
	return feed.Table{Table: table, Find: feed.FindCompare, Keep: keeps[rand.IntN(len(keeps))], Target: "kept.copies"}
}

func TestTablesAreCompared(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE copies (branch text, no int, title text, price numeric(8,2), doc text, PRIMARY KEY (branch, no));
			INSERT INTO copies SELECT chr(65 + i % 3), i, 'title', i / 4.0, NULL FROM generate_series(1, 400) i`)
		compares(t, b, func(sql string) { b.exec(sql) }, comparedTable("public.copies"))
	})
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec(`CREATE TABLE copies (branch varchar(20) COLLATE utf8mb4_general_ci, no int, title text, price decimal(8,2),
			doc blob, PRIMARY KEY (branch, no)); INSERT INTO copies SELECT char(65 + seq % 3), seq, 'title', seq / 4.0, NULL FROM
			seq_1_to_400`)
		compares(t, b.workbench, b.exec, comparedTable(b.table("copies")))
	})
}

// Whatever a table's types are, rows are told from others by the source as they are by what came.
func TestEveryTypeIsCompared(t *testing.T) {
	raceless(t)
	b := newWorkbench(t, "duckdb")
	b.exec(extremesFor(b.conn))
	table := feed.Table{Table: "public.extremes", Find: feed.FindCompare, Keep: feed.KeepLatest, PageRows: 2}
	books := b.bring(table).Books
	require.Positive(t, books.Inserted)
	require.Equal(t, rows.Books{}, b.bring(table).Books)
	b.equal(table, books.Inserted)

	m := newMariaBench(t, "duckdb")
	m.exec(mariaExtremes)
	table = feed.Table{Table: m.table("extremes"), Find: feed.FindCompare, Keep: feed.KeepLatest, PageRows: 2}
	require.Equal(t, rows.Books{Read: 5, Inserted: 5}, m.bring(table).Books)
	require.Equal(t, rows.Books{}, m.bring(table).Books)
	m.equal(table, 5)
	for _, set := range []string{"c_float = 0.1000001", "c_dec = -0.02", "c_blob = x'00ff00'", "c_json = '{}'",
		"c_varchar = 'a '",
		"c_time6 = '00:00:00.000001'", "c_bit64 = 1", "c_latin1 = 'Ä'", "c_double = -0.0", "c_set = 'b'",
		"c_uuid = NULL",
		"c_geometry = ST_GeomFromText('POINT(0 1)')", "c_hidden = NULL"} {
		m.exec("UPDATE extremes SET " + set + " WHERE id = 2")
		require.EqualValues(t, 1, m.bring(table).Books.Updated, set)
	}
	m.equal(table, 5)
}

// A view is compared by the key that the feed names; a row without it is set aside, and a key that
// is hashed leaves one range.
func TestAViewIsCompared(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE visits (branch text, day date, n int); CREATE VIEW days AS SELECT branch, day, sum(n) AS people
			FROM visits GROUP BY 1, 2; INSERT INTO visits SELECT 'B' || i % 7, date '2026-01-01' + i, i FROM generate_series(1, 90) i;
			INSERT INTO visits VALUES (NULL, '2026-01-01', 5)`)
		days := feed.Table{Table: "public.days", Find: feed.FindCompare, Keep: feed.KeepHistory,
			Key:      []string{"branch", "day"},
			PageRows: 20}
		require.Equal(t, rows.Books{Read: 91, SetAside: 1, Inserted: 90}, b.bring(days).Books)
		require.Equal(t, rows.Books{}, b.bring(days).Books)
		b.exec(`INSERT INTO visits VALUES ('B1', '2026-01-02', 9); DELETE FROM visits WHERE day = '2026-01-03'`)
		books := b.bring(days).Books
		require.EqualValues(t, 1, books.Updated, "%+v", books)
		require.EqualValues(t, 1, books.Deleted, "%+v", books)
		require.Less(t, books.Read, int64(91))
		b.equal(days, 89)
		require.Len(t, b.rowsOf("noemata.set_aside", column("key", schema.Text)), 1)

		days.Columns = map[string]feed.Treatment{"branch": {Hash: "branches"}}
		require.EqualValues(t, 89, b.bring(days).Books.Inserted)
		require.Equal(t, rows.Books{}, b.bring(days).Books)
		require.EqualValues(t, 0, testkit.SQL(t, b.warehouse,
			`SELECT count(*) FROM noemata.comparisons WHERE found LIKE '%B1%'`)[0][0], "the key stands nowhere")
		b.exec(`DELETE FROM visits WHERE branch = 'B2'`)
		gone := b.bring(days).Books.Deleted
		require.Positive(t, gone)
		b.equal(days, 89-gone)
	})
}

// A table that is found otherwise from now on loses no row by it: what was open when it was read whole,
// or compared, has a lower watermark than the moment of the reading.
func TestAnotherFindLosesNothing(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, n int, at timestamptz NOT NULL DEFAULT clock_timestamp());
			INSERT INTO loans SELECT i, 0 FROM generate_series(1, 20) i`)
		loans := feed.Table{Table: "public.loans", Keep: feed.KeepLatest, PageRows: 5}
		other := testkit.Connect(t, testkit.Postgres(t).URL(b.settings.Database))
		id := 100
		for _, find := range []feed.Find{feed.FindWhole, feed.FindWatermark, feed.FindCompare, feed.FindWatermark,
			feed.FindWhole,
			feed.FindCompare, feed.FindWatermark} {
			loans.Find, loans.Watermark = find, nil
			if find == feed.FindWatermark {
				loans.Watermark = &feed.Watermark{Column: "at", Settle: "0s"}
			}
			b.bring(loans)
			b.bring(loans)
			b.equal(loans, int64(20+id-100))
			id++
			testkit.Exec(t, other, "BEGIN")
			testkit.Exec(t, other, fmt.Sprintf("INSERT INTO loans (id, n) VALUES (%d, 0)", id))
			if find != feed.FindWatermark {
				b.bring(loans)
			}
			testkit.Exec(t, other, "COMMIT")
		}
	})
}
