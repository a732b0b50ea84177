package engine_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/compare"
	"noemata/internal/core/feed"
	"noemata/internal/engine"
	"noemata/internal/testkit"
	"noemata/internal/warehouse/duckdb"
)

// damage is something that a hand has done to a target, to the row of a key of its own.
type damage struct {
	what string
	sql  []string // @t is the target, @k the key
}

// columns are those of the loans that the tests damage; the last ones are what each keep adds.
const damagedColumns = "id, card, note, price, lent, open, scan, grade, changed"

var damagesOfAll = []damage{
	{"a changed text", []string{`UPDATE @t SET note = 'changed by hand' WHERE id = @k`}},
	{"a text that became null", []string{`UPDATE @t SET note = NULL WHERE id = @k`}},
	{"a null that became empty", []string{`UPDATE @t SET card = '' WHERE id = @k`}},
	{"a space at the end", []string{`UPDATE @t SET note = note || ' ' WHERE id = @k`}},
	{"another form of a letter", []string{`UPDATE @t SET note = 'Gru' || chr(776) || 'nau' WHERE id = @k`}},
	{"a cent", []string{`UPDATE @t SET price = price + 0.01 WHERE id = @k`}},
	{"a microsecond", []string{`UPDATE @t SET lent = lent + INTERVAL '1 microsecond' WHERE id = @k`}},
	{"a flag", []string{`UPDATE @t SET open = NOT open WHERE id = @k`}},
	{"a byte", []string{`UPDATE @t SET scan = CAST('another' AS BYTES) WHERE id = @k`}},
	{"the sign of zero", []string{`UPDATE @t SET grade = 1 WHERE id = @k`,
		`UPDATE @t SET grade = -CAST(0 AS DOUBLE PRECISION) WHERE id = @k`}},
	{"a missing row", []string{`DELETE FROM @t WHERE id = @k`}},
	{"a row that nobody knows", []string{`INSERT INTO @t (id, @rest) SELECT @k, @rest FROM @t WHERE id = 300 AND @holds`}},
	{"a row left after a delete",
		[]string{`INSERT INTO @t (id, @rest) SELECT @k, @rest FROM @t WHERE id = 301 AND @holds`}},
	{"a doubled row", []string{`INSERT INTO @t (id, @rest) SELECT id, @rest FROM @t WHERE id = @k AND @holds`}},
	{"a row that is there three times, once changed", []string{
		`INSERT INTO @t (id, @rest) SELECT id, @rest FROM @t WHERE id = @k AND @holds`,
		`INSERT INTO @t (id, @rest) SELECT id, @rest FROM @t WHERE id = @k AND @holds`}},
	{"values of another row", []string{`UPDATE @t SET card = (SELECT max(card) FROM @t WHERE id = 302) WHERE id = @k`}},
}

var damagesOf = map[feed.Keep][]damage{
	feed.KeepLatest: nil,
	feed.KeepSoftDelete: {
		{"a row flagged as deleted that is there",
			[]string{`UPDATE @t SET nm_deleted_at = TIMESTAMPTZ '2026-01-01 00:00:00+00' WHERE id = @k`}},
		{"a doubled row, flagged", []string{`INSERT INTO @t (id, @rest) SELECT id, @rest FROM @t WHERE id = @k`,
			`UPDATE @t SET nm_deleted_at = TIMESTAMPTZ '2026-01-01 00:00:00+00' WHERE id = @k`}},
	},
	feed.KeepHistory: {
		{"a closed version that holds",
			[]string{`UPDATE @t SET nm_current = false, nm_until = nm_from + INTERVAL '1 day' WHERE id = @k`}},
		{"a flag without an end", []string{`UPDATE @t SET nm_current = false WHERE id = @k`}},
		{"an overlap", []string{`INSERT INTO @t (id, @rest) SELECT id, @rest FROM @t WHERE id = @k`,
			`UPDATE @t SET nm_from = nm_from - INTERVAL '1 day', nm_run = 0 WHERE id = @k AND nm_from = (SELECT min(nm_from) FROM @t WHERE ` +
				`id = @k) AND @row = (SELECT max(@row) FROM @t WHERE id = @k AND nm_from = (SELECT min(nm_from) FROM @t WHERE id = @k))`}},
		{"a version that ends before it begins",
			[]string{`UPDATE @t SET nm_until = nm_from - INTERVAL '1 day', nm_current = false ` +
				`WHERE id = @k`}},
	},
}

// Whatever a hand does to a target is found, named by its key, and repaired: in each find, keep and kind of
// warehouse. Nothing else is found, and what comes afterwards comes in as ever.
func TestDamageIsFoundAndRepaired(t *testing.T) {
	raceless(t)
	for _, find := range []feed.Find{feed.FindLog, feed.FindWatermark, feed.FindCompare} {
		for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory} {
			t.Run(fmt.Sprintf("%s %s", find, keep), func(t *testing.T) {
				if find == feed.FindCompare {
					damaged(t, newWorkbench(t, duckdb.Kind), find, keep)
				} else {
					onEach(t, func(t *testing.T, b *workbench) { damaged(t, b, find, keep) })
				}
			})
		}
	}
}

// rowsToDamage is how many rows the tables have that are damaged; as many as NOEMATA_ROWS says in a long run.
func rowsToDamage(t *testing.T) int64 {
	said := os.Getenv("NOEMATA_ROWS")
	if said == "" {
		return 400
	}
	n, err := strconv.ParseInt(said, 10, 64)
	require.NoError(t, err)
	return n
}

func damaged(t *testing.T, b *workbench, find feed.Find, keep feed.Keep) {
	rows := rowsToDamage(t)
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, card text, note text, price numeric(10,2), lent timestamptz, open boolean,
		scan bytea, grade float8, changed timestamptz NOT NULL DEFAULT clock_timestamp())`)
	b.exec(`INSERT INTO loans SELECT i, CASE WHEN i % 3 > 0 THEN 'V' || i END, 'Grünau ' || i, i, now(), i % 2 = 0, '\x00ff', 0,
			now() - interval '1 hour' + i % 400 * interval '1 second' FROM generate_series(1, $1::int) i`, rows)
	table := feed.Table{Table: "public.loans", Target: "kept.loans", Find: find, Keep: keep}
	if find == feed.FindWatermark {
		table.Watermark = &feed.Watermark{Column: "changed"}
	}
	b.exec(`CREATE INDEX ON loans (changed)`)
	bring := func() {
		t.Helper()
		if find == feed.FindLog {
			(&follower{workbench: b}).catchUp()
		} else {
			b.bring(table)
		}
	}
	if find == feed.FindLog {
		newFollower(t, b, table)
	}
	bring()
	b.exec(`UPDATE loans SET note = note || '!', changed = now() - interval '30 minutes' WHERE id % 4 = 0`)
	bring()
	b.equal(table, rows)

	if rows == 400 && rand.IntN(2) == 0 { // as large tables are
		b.exec("ANALYZE loans")
		defer engine.ProveInParts(90)()
	}
	want := b.spoil(keep, rows)
	_, stop := b.keepRunning(table)
	proof, err := engine.Prove(context.Background(), b.work(table))
	require.NoError(t, err)
	require.False(t, proof.Same)
	got := map[string]bool{}
	for _, d := range proof.Found {
		got[d.Key[0]] = true
		if d.Kind == compare.Differing && d.Key[0] == "3" {
			require.Equal(t, "note", d.Columns[0].Column)
			require.Equal(t, []string{"Grünau 3", "changed by hand"}, []string{*d.Columns[0].Source, *d.Columns[0].Warehouse})
		}
	}
	for _, f := range proof.Faults {
		got[f.Key[0]] = true
	}
	require.Equal(t, slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(got)), "the keys that were damaged")

	repaired, err := engine.Repair(context.Background(), b.work(table))
	require.NoError(t, err)
	require.Equal(t, []int{len(want), 0}, []int{repaired.Keys, repaired.Left})
	require.True(t, repaired.Books.Balanced(), "%+v", repaired.Books)
	b.equal(table, rows)
	repaired, err = engine.Repair(context.Background(), b.work(table))
	require.NoError(t, err)
	require.Zero(t, repaired.Keys, "nothing is left to do")

	stop()
	b.exec(`UPDATE loans SET note = 'later', changed = now() - interval '10 minutes' WHERE id < 30`)
	b.exec(`INSERT INTO loans (id, changed) VALUES ($1, now() - interval '10 minutes')`, rows+1)
	bring()
	b.equal(table, rows+1)
	if find != feed.FindWatermark && rows == 400 {
		b.exec(`DELETE FROM loans WHERE id % 5 = 0`)
		bring()
		b.equal(table, 321)
	}
}

// spoil does each damage to the row of a key of its own, and gives the keys.
func (b *workbench) spoil(keep feed.Keep, rows int64) map[string]bool {
	t := b.t
	holds := map[feed.Keep]string{feed.KeepLatest: "true", feed.KeepSoftDelete: "nm_deleted_at IS NULL",
		feed.KeepHistory: "nm_current"}[keep]
	row := map[string]string{"duckdb": "rowid", "postgresql": "ctid", "iceberg": "rowid"}[b.kind]
	added := map[feed.Keep]string{feed.KeepLatest: "nm_changed_at, nm_run",
		feed.KeepSoftDelete: "nm_deleted_at, nm_changed_at, nm_run",
		feed.KeepHistory:    "nm_from, nm_until, nm_current, nm_position, nm_run"}[keep]
	replace := strings.NewReplacer("@rest", strings.TrimPrefix(damagedColumns, "id, ")+", "+added, "@t", "kept.loans",
		"@holds", holds, "@row", row, "BYTES", map[string]string{"duckdb": "BLOB", "postgresql": "bytea",
			"iceberg": "BLOB"}[b.kind])
	want, key := map[string]bool{}, 0
	for _, d := range slices.Concat(damagesOfAll, damagesOf[keep]) {
		key += 3
		at := fmt.Sprint(key)
		if strings.HasPrefix(d.what, "a row that nobody") || strings.HasPrefix(d.what, "a row left") {
			at = fmt.Sprint(rows + 1000 + int64(key))
		}
		for _, sql := range d.sql {
			sql = strings.ReplaceAll(replace.Replace(sql), "@k", at)
			_, err := testkit.TrySQL(b.warehouse, sql)
			if err != nil && strings.Contains(err.Error(), "duplicate key") { // the target itself prevents it
				at = ""
				break
			}
			require.NoError(t, err, d.what)
		}
		if at != "" {
			want[at] = true
		}
	}
	return want
}

// keepRunning runs a table again and again, as its feed would, until stop is called. passed waits until a run
// has ended that began after the call.
func (b *workbench) keepRunning(table feed.Table) (passed func(context.Context) (bool, error), stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	var ended atomic.Int64
	of := *b.feed // the test's own goes on being changed
	of.Tables = []feed.Table{table}
	group.Go(func() {
		for run := int64(1000); ctx.Err() == nil; run++ {
			if table.Find == feed.FindLog {
				_, _ = b.engine.Follow(ctx, engine.LogWork{Feed: &of, Run: run, Source: b.source, Warehouse: b.warehouse,
					Keys: testKeys}) // a repair overtakes it now and then
			} else {
				_, _ = b.engine.Run(ctx, engine.Work{Feed: &of, Table: table, Run: run, Source: b.source,
					Warehouse: b.warehouse, Keys: testKeys})
			}
			ended.Add(1)
			time.Sleep(20 * time.Millisecond)
		}
	})
	passed = func(ctx context.Context) (bool, error) {
		for begun := ended.Load(); ended.Load() < begun+2; time.Sleep(10 * time.Millisecond) {
			if ctx.Err() != nil {
				return false, ctx.Err()
			}
		}
		return true, nil
	}
	return passed, func() { cancel(); group.Wait() }
}

// A proof of a large table goes through it in parts. One that was interrupted goes on with the part that it was at, and
// finds what was wrong before and after.
func TestAnInterruptedProofGoesOn(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, note text);
			INSERT INTO loans SELECT i - 100, 'n' || i FROM generate_series(1, 1000) i; ANALYZE loans`)
		table := feed.Table{Table: "public.loans", Target: "kept.loans", Find: feed.FindCompare, Keep: feed.KeepSoftDelete}
		b.bring(table)
		for _, sql := range []string{`UPDATE kept.loans SET note = 'wrong' WHERE id IN (-99, 150)`,
			`DELETE FROM kept.loans WHERE id = 700`,
			`INSERT INTO kept.loans (id, note, nm_deleted_at, nm_changed_at, nm_run) SELECT 100000, note, nm_deleted_at, nm_changed_at, nm_run FROM kept.loans WHERE id = 1`} {
			_, err := testkit.TrySQL(b.warehouse, sql)
			require.NoError(t, err)
		}
		defer engine.ProveInParts(100)()
		var kept engine.Proven
		enough := errors.New("the process ends")
		w := b.work(table)
		w.Note = func(p engine.Proven) error {
			kept = p
			if at, err := strconv.Atoi(p.UpTo); err != nil || at > 290 {
				return enough
			}
			return nil
		}
		_, err := engine.Prove(context.Background(), w)
		require.ErrorIs(t, err, enough)
		require.Len(t, kept.Differ, 2, "%+v", kept)
		text, err := json.Marshal(kept) // as it is kept
		require.NoError(t, err)
		var again engine.Proven
		require.NoError(t, json.Unmarshal(text, &again))

		w = b.work(table)
		var phases []string
		var both sync.Mutex // sides are read
		w.Proven, w.Progress = &again, func(p engine.Progress) {
			both.Lock()
			defer both.Unlock()
			phases = append(phases, p.Phase)
		}
		proof, err := engine.Prove(context.Background(), w)
		require.NoError(t, err)
		require.Contains(t, phases, "looking at what differed")
		require.Contains(t, phases, "part 5 of 10, adding up")
		require.NotContains(t, phases, "part 1 of 10, adding up")
		require.Equal(t, []int64{997, 2, 1, 1}, []int64{proof.Equal, proof.Differing, proof.Missing, proof.Extra})
		var keys []string
		for _, d := range proof.Found {
			keys = append(keys, d.Key[0])
		}
		require.ElementsMatch(t, []string{"-99", "150", "700", "100000"}, keys)
	})
}

// While rows change without pause, none of those on their way is called wrong, and what a hand has spoiled
// is found and repaired beside them.
func TestProofsAndRepairsUnderLoad(t *testing.T) {
	for _, find := range []feed.Find{feed.FindLog, feed.FindWatermark, feed.FindCompare} {
		t.Run(string(find), func(t *testing.T) {
			if find == feed.FindLog && !testing.Short() {
				onEach(t, func(t *testing.T, b *workbench) { provenUnderLoad(t, b, find) })
			} else {
				provenUnderLoad(t, newWorkbench(t, duckdb.Kind), find)
			}
		})
	}
}

func provenUnderLoad(t *testing.T, b *workbench, find feed.Find) {
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, note text, changed timestamptz NOT NULL DEFAULT clock_timestamp());
		CREATE INDEX ON loans (changed);
		INSERT INTO loans SELECT i, 'n' || i, now() - interval '1 hour' FROM generate_series(1, 20000) i`)
	table := feed.Table{Table: "public.loans", Target: "kept.loans", Find: find, Keep: feed.KeepSoftDelete}
	if find == feed.FindWatermark {
		table.Watermark = &feed.Watermark{Column: "changed", Settle: "100ms"}
	}
	if find == feed.FindLog {
		newFollower(t, b, table).catchUp()
	} else {
		b.bring(table)
	}
	passed, stop := b.keepRunning(table)
	prove := func() engine.Proof {
		t.Helper()
		w := b.work(table)
		w.Passed = passed
		proof, err := engine.Prove(context.Background(), w)
		require.NoError(t, err)
		return proof
	}
	writing, quiet := context.WithCancel(context.Background())
	conn := testkit.Connect(t, b.conn.Config().ConnString())
	var group sync.WaitGroup
	group.Go(func() {
		for i := 0; writing.Err() == nil; i++ {
			_, _ = conn.Exec(writing, `UPDATE loans SET note = $1, changed = clock_timestamp() WHERE id % 97 = $2`,
				fmt.Sprint(i), i%97)
			_, _ = conn.Exec(writing, `INSERT INTO loans (id, note) VALUES ($1, 'new')`, 100_000+i)
		}
	})
	for range 2 {
		proof := prove()
		require.True(t, proof.Same, "%+v", proof.Result)
		require.Greater(t, proof.Equal+proof.InFlight, int64(19_000))
	}
	damage := func(sql string) { // beside commits of the feed, which may come first
		t.Helper()
		require.Eventually(t, func() bool {
			_, err := testkit.TrySQL(b.warehouse, sql)
			return err == nil
		}, 20*time.Second, 10*time.Millisecond, sql)
	}
	damage(`DELETE FROM kept.loans WHERE id IN (11, 12)`)
	damage(`UPDATE kept.loans SET nm_deleted_at = TIMESTAMPTZ '2026-01-01 00:00:00+00' WHERE id = 13`)
	w := b.work(table)
	w.Passed = passed
	repaired, err := engine.Repair(context.Background(), w)
	require.NoError(t, err)
	for _, d := range repaired.Proof.Found {
		require.Contains(t, []string{"11", "12", "13"}, d.Key[0])
	}
	proof := prove()
	require.True(t, proof.Same, "%+v", proof.Result)
	quiet()
	group.Wait()
	stop()
	if find == feed.FindLog {
		(&follower{workbench: b}).catchUp()
	} else {
		time.Sleep(200 * time.Millisecond) // for the watermark to settle
		b.bring(table)
	}
	proof, err = engine.Prove(context.Background(), b.work(table))
	require.NoError(t, err)
	require.True(t, proof.Same, "%+v", proof.Result)
	require.Zero(t, proof.InFlight)
}

// What a watermark does not show is counted, and told with what would see it.
func TestBlindSpotsOfAWatermark(t *testing.T) {
	raceless(t)
	b := newWorkbench(t, "duckdb")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, note text, changed timestamptz);
		INSERT INTO loans SELECT i, 'n', now() - interval '2 hours' + i * interval '1 second' FROM generate_series(1, 100) i;
		INSERT INTO loans VALUES (500, 'null', NULL), (501, 'null', NULL), (502, 'far', now() + interval '70 years')`)
	table := feed.Table{Table: "public.loans", Target: "kept.loans", Find: feed.FindWatermark, Keep: feed.KeepLatest,
		Watermark: &feed.Watermark{Column: "changed"}}
	b.bring(table)
	b.exec(`DELETE FROM loans WHERE id IN (1, 2, 3); UPDATE loans SET note = 'silently' WHERE id = 10;
		INSERT INTO loans VALUES (600, 'late', now() - interval '2 hours'), (601, 'late', now() - interval '2 hours')`)
	proof, err := engine.Prove(context.Background(), b.work(table))
	require.NoError(t, err)
	require.False(t, proof.Same)
	require.Equal(t, []string{
		"3 rows were deleted at the source, which no watermark shows. A sweep ends them: sweep: 1d. find: log or compare sees each.",
		"1 row has other values, although changed has not risen above the position. Whatever changes rows must set it; find: " +
			"log or compare sees the change all the same.",
		"2 rows below the position have not come: they were committed later than the feed waits for. A look_back reads such " +
			"rows again, a backfill brings them now; find: log misses none.",
		"2 rows have no changed, and are not brought. Name a fallback column; find: log or compare brings them.",
		"1 row has a changed that the source's clock has not come to, and waits until then. Correct their values; find: log or " +
			"compare does not wait.",
	}, proof.Notes)
}
