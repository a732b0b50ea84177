package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/engine"
	"noemata/internal/testkit"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// A random life of two tables: inserts and updates in transactions that overlap,
// commit late or roll back; runs in between with pages of any size, positions set
// back and cleared by hand, runs that are given up half-way. Whatever happened,
// `latest` ends equal to the source, and the ledger holds each event exactly once.
func TestRandomHistories(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	onEach(t, func(t *testing.T, b *workbench) {
		r := rand.New(rand.NewPCG(seed, 1))
		b.exec(`CREATE TABLE loans (id bigint PRIMARY KEY, note text, updated_at timestamptz NOT NULL DEFAULT now())`)
		b.exec(`CREATE TABLE desk_events (at timestamptz NOT NULL DEFAULT now(), event text)`)
		l := &life{workbench: b, r: r}
		loans := feed.Table{Table: "public.loans", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "updated_at", Settle: "1ms"}}
		events := feed.Table{Table: "public.desk_events", Find: feed.FindWatermark, Keep: feed.KeepLedger,
			Watermark: &feed.Watermark{Column: "at", Settle: "1ms", LookBack: "20ms"}}
		for range 60 {
			switch n := r.IntN(10); {
			case n < 4:
				l.begin()
			case n < 6:
				l.end(r.IntN(4) > 0)
			default:
				for _, table := range []feed.Table{loans, events} {
					table.PageRows = int64(1 + r.IntN(40))
					l.runSomehow(table)
				}
			}
		}
		for len(l.open) > 0 {
			l.end(true)
		}
		time.Sleep(5 * time.Millisecond)
		b.bring(loans)
		b.bring(events)
		b.equal(loans, l.count("loans"))
		b.equal(events, l.count("desk_events"))
		require.Equal(t, rows.Books{}, b.bring(loans).Books)
		inLedger := b.rowsOf("public.desk_events", column("event", "text"))
		require.Len(t, inLedger, int(l.count("desk_events")), "no event is doubled")
	})
}

// life is a source that is being written by several transactions at once.
type life struct {
	*workbench
	r    *rand.Rand
	open []pgx.Tx
	next int
}

func (l *life) begin() {
	if len(l.open) >= 4 {
		return
	}
	conn := testkit.Connect(l.t, testkit.Postgres(l.t).URL(l.settings.Database))
	tx, err := conn.Begin(context.Background())
	require.NoError(l.t, err)
	l.open = append(l.open, tx)
	for range 1 + l.r.IntN(4) {
		l.next++
		sql := []string{
			fmt.Sprintf(`INSERT INTO loans SELECT %d * 100 + i, 'new' FROM generate_series(1, %d) i`, l.next, 1+
				l.r.IntN(30)),
			// Rows that another open transaction has changed are left to it.
			fmt.Sprintf(`UPDATE loans SET note = 'change %d', updated_at = now() WHERE id IN (SELECT id FROM loans `+
				`ORDER BY random() LIMIT 5 FOR UPDATE SKIP LOCKED)`, l.next),
			fmt.Sprintf(`INSERT INTO desk_events (event) SELECT 'gate' FROM generate_series(1, %d) i`, 1+l.r.IntN(20)),
			fmt.Sprintf(`INSERT INTO desk_events VALUES (clock_timestamp(), 'event %d')`, l.next),
		}[l.r.IntN(4)]
		_, err := tx.Exec(context.Background(), sql)
		require.NoError(l.t, err, sql)
	}
}

func (l *life) end(commit bool) {
	if len(l.open) == 0 {
		return
	}
	i := l.r.IntN(len(l.open))
	tx := l.open[i]
	l.open = append(l.open[:i], l.open[i+1:]...)
	if commit {
		require.NoError(l.t, tx.Commit(context.Background()))
	} else {
		require.NoError(l.t, tx.Rollback(context.Background()))
	}
	require.NoError(l.t, tx.Conn().Close(context.Background()))
}

// runSomehow runs a table as usual, or after its position was moved, or gives up.
func (l *life) runSomehow(table feed.Table) {
	ctx, give := context.WithCancel(context.Background())
	defer give()
	w := l.work(table)
	switch l.r.IntN(6) {
	case 0:
		require.NoError(l.t, l.warehouse.Journal().SetPosition(ctx, "circulation", table.Table, nil))
	case 1:
		back := position.Position{Value: time.Now().Add(-time.Duration(l.r.IntN(2000)) * time.Millisecond).UTC().Format("2006-01-02T15:04:05.000000Z")}
		stands, err := l.warehouse.Journal().Checkpoint(ctx, "circulation", table.Table)
		require.NoError(l.t, err)
		// Never forward: that would skip rows.
		if position.Compare(back, stands.Position, column("", "timestamptz").Type) < 0 {
			require.NoError(l.t, l.warehouse.Journal().SetPosition(ctx, "circulation", table.Table, &back))
		}
	case 2:
		time.AfterFunc(time.Duration(l.r.IntN(30))*time.Millisecond, give)
	}
	out, err := l.engine.Run(ctx, w)
	if err != nil {
		require.True(l.t, problem.Is(err, problem.Stopped), "%v", err)
	}
	require.True(l.t, out.Books.Balanced(), "%+v", out.Books)
}

func (l *life) count(table string) (n int64) {
	require.NoError(l.t, l.conn.QueryRow(context.Background(), "SELECT count(*) FROM "+table).Scan(&n))
	return n
}

// Columns may be called like what a statement uses for itself; and the function that gives a
// history as it was has the columns that the table has by now.
func TestAsOfWithOddNamesAndNewColumns(t *testing.T) {
	onDatabases(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE holds (id int PRIMARY KEY, "a$1b" text, nm_moment text, "$1" text); INSERT INTO holds ` +
			`VALUES (1, 'x', 'y', 'z')`)
		f := newFollower(t, b, feed.Table{Table: "public.holds", Keep: feed.KeepHistory, Target: "kept.holds"})
		f.catchUp()
		require.Equal(t, []string{"1 | x | y | z"}, f.see(`SELECT * FROM kept.holds_as_of(now())`))
		b.exec(`ALTER TABLE holds ADD COLUMN shelf text DEFAULT 's'; UPDATE holds SET nm_moment = 'w'`)
		_, err := f.engine.Follow(context.Background(), f.work())
		require.ErrorContains(t, err, "noemata feeds copy "+b.feed.Name+" --table public.holds")
		require.NoError(t, engine.CopyAgain(context.Background(), b.feed, []string{"public.holds"}, b.source,
			b.warehouse))
		f.catchUp()
		require.Equal(t, []string{"1 | x | w | z | s"}, f.see(`SELECT * FROM kept.holds_as_of(now())`))
		b.feed.Tables[0].Drop = []string{"shelf"}
		f.catchUp()
		require.Equal(t, []string{"1 | x | w | z"}, f.see(`SELECT * FROM kept.holds_as_of(now())`))

		// A column that a person has added to the target is filled for older rows, too.
		b.feed.Tables[0].Drop = nil
		b.exec(`ALTER TABLE holds ADD COLUMN seen text DEFAULT 'never'`)
		testkit.SQL(t, b.warehouse, `ALTER TABLE kept.holds ADD COLUMN seen `+
			map[string]string{"duckdb": "VARCHAR", "postgresql": "text"}[b.kind])
		f.catchUp()
		require.Equal(t, []string{"1 | x | w | z | s | never"}, f.see(`SELECT * FROM kept.holds_as_of(now())`))
	})
	b := newWorkbench(t, "duckdb")
	b.exec(`CREATE TABLE odd (id int PRIMARY KEY, noemata_row text)`)
	_, err := newFollower(t, b, feed.Table{Table: "public.odd", Keep: feed.KeepLatest,
		Target: "kept.odd"}).engine.Follow(context.Background(),
		engine.LogWork{Feed: b.feed, Source: b.source, Warehouse: b.warehouse})
	require.ErrorContains(t, err, "drop: [noemata_row]")
}

// A commit waits for no upkeep of its target, and cancels none: it makes no index that is there.
func TestACommitTakesNoLockThatUpkeepHolds(t *testing.T) {
	b := newWorkbench(t, "postgresql")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY, at timestamptz NOT NULL DEFAULT clock_timestamp()); INSERT INTO ` +
		`loans VALUES (1)`)
	f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
	f.catchUp()
	upkeep, err := b.warehouse.(*pgwarehouse.Warehouse).Connect(context.Background()) // as VACUUM and ANALYZE do
	require.NoError(t, err)
	defer upkeep.Close()
	_, err = upkeep.Exec(context.Background(), "BEGIN")
	require.NoError(t, err)
	_, err = upkeep.Exec(context.Background(), `LOCK TABLE kept.loans IN SHARE UPDATE EXCLUSIVE MODE`)
	require.NoError(t, err)
	for i := range 3 {
		b.exec(fmt.Sprintf(`INSERT INTO loans VALUES (%d); UPDATE loans SET at = clock_timestamp()`, i+2))
		require.EqualValues(t, 1, f.catchUp()["public.loans"].Inserted)
	}
	b.engine = engine.New() // of another process, whose first commit finds the index as well
	b.exec(`DELETE FROM loans WHERE id = 1`)
	require.EqualValues(t, 1, f.catchUp()["public.loans"].Deleted)
}

// A key of times has one text: its versions are found, and a row that was set aside is taken
// out again.
func TestAKeyOfTimesHasOneText(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE visits (at timestamptz PRIMARY KEY, people int, note text); ALTER TABLE visits ALTER ` +
			`note SET STORAGE EXTERNAL; INSERT INTO visits VALUES ('2026-03-01 09:00:00.25Z', 3, repeat('n', 5000))`)
		f := newFollower(t, b, feed.Table{Table: "public.visits", Keep: feed.KeepHistory, Target: "kept.visits"})
		f.catchUp()
		b.exec(`UPDATE visits SET people = 4`)
		f.catchUp()
		for _, key := range []string{"2026-03-01T09:00:00.250000Z"} {
			_, versions, err := engine.Versions(context.Background(),
				engine.Work{Feed: b.feed, Table: b.feed.Tables[0], Source: b.source,
					Warehouse: b.warehouse}, []string{key})
			require.NoError(t, err)
			require.Len(t, versions, 2, key)
		}
		_, _, err := engine.Versions(context.Background(),
			engine.Work{Feed: b.feed, Table: b.feed.Tables[0], Source: b.source,
				Warehouse: b.warehouse}, []string{"yesterday"})
		require.ErrorContains(t, err, "is no value of the key's column at")
		testkit.SQL(t, b.warehouse, `DELETE FROM kept.visits`)
		b.exec(`UPDATE visits SET people = 5`) // the note is left out of the log, and there is no row to take it from
		require.EqualValues(t, 1, f.catchUp()["public.visits"].SetAside)
		require.Equal(t, []string{`["2026-03-01T09:00:00.250000Z"]`}, f.see(`SELECT key FROM noemata.set_aside`))
		b.exec(`UPDATE visits SET people = 6, note = 'whole'`)
		f.catchUp()
		require.Empty(t, f.see(`SELECT key FROM noemata.set_aside`))
	})
}
