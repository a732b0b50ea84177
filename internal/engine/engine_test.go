package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/source"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/statement"
	"noemata/internal/testkit"
	"noemata/internal/testkit/byhand"
	"noemata/internal/testkit/storage"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	"noemata/internal/warehouse/lake"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// bench is one source and one warehouse, and a feed of tables between them.
type workbench struct {
	t         testing.TB
	kind      string    // of the warehouse
	conn      *pgx.Conn // to the source, as a client of its own
	settings  connection.Settings
	open      func(connection.Settings, string) (source.Source, error)
	source    source.Source
	warehouse warehouse.Warehouse
	engine    *engine.Engine
	feed      *feed.Feed
	run       int64
}

// raceless leaves a test out of the short form, which the race detector runs: what it does happens one after
// the other, or another test does the same at once.
func raceless(t *testing.T) {
	if testing.Short() {
		t.Skip("the race detector would find nothing in it that it does not find elsewhere")
	}
}

// kinds are all kinds of warehouse.
var kinds = []string{duckdb.Kind, pgwarehouse.Kind, lake.Kind}

// onEach runs a test once for every kind of warehouse; for lakes half of the times, and always in the long form.
func onEach(t *testing.T, test func(t *testing.T, b *workbench)) {
	list := kinds
	if os.Getenv("NOEMATA_TORTURE") == "" && rand.IntN(2) == 0 {
		list = kinds[:2] // what lakes do otherwise is not of each test's own
	}
	for _, kind := range list {
		t.Run(kind, func(t *testing.T) { test(t, newWorkbench(t, kind)) })
	}
}

// onDatabases is onEach for the warehouses that are databases, and have functions and comments of their own.
func onDatabases(t *testing.T, test func(t *testing.T, b *workbench)) {
	for _, kind := range kinds[:2] {
		t.Run(kind, func(t *testing.T) { test(t, newWorkbench(t, kind)) })
	}
}

func newWorkbench(t testing.TB, kind string) *workbench {
	settings, conn := testkit.Database(t)
	src, err := pgsource.Open(settings, `source "circulation"`)
	require.NoError(t, err)
	t.Cleanup(src.Close)
	return &workbench{t: t, kind: kind, conn: conn, settings: settings, open: pgsource.Open, source: src,
		warehouse: openWarehouse(t, kind), engine: engine.New(),
		feed: &feed.Feed{Name: "circulation", Source: "circulation", Warehouse: "lake"}}
}

// handledLake is a lake on whose tables statements are run by hand.
type handledLake struct{ *lake.Warehouse }

func (w handledLake) Ask(ctx context.Context, sql string, args ...any) ([][]any, error) {
	return byhand.Ask(ctx, w.Connect, sql, args...)
}

func lakeOf(t testing.TB, settings connection.Settings) warehouse.Warehouse {
	wh, err := lake.Open(settings, `warehouse "lake"`)
	require.NoError(t, err)
	t.Cleanup(wh.Close)
	return handledLake{wh.(*lake.Warehouse)}
}

func lakeInFolder(t testing.TB) warehouse.Warehouse {
	settings, _ := testkit.Database(t)
	settings.Path = filepath.Join(testkit.Dir(t), "lake")
	return lakeOf(t, settings)
}

// lakeInBucket makes a lake in object storage, of whose requests so many of a thousand fail.
func lakeInBucket(t testing.TB, failing int64) warehouse.Warehouse {
	t.Log("its files are in a bucket")
	server := storage.New(t)
	bucket := server.Bucket(t, "archive")
	settings, _ := testkit.Database(t)
	settings.Bucket = &bucket
	server.Failing.Store(failing)
	return lakeOf(t, settings)
}

// openWarehouse makes a warehouse of the test's own.
func openWarehouse(t testing.TB, kind string) (wh warehouse.Warehouse) {
	var err error
	switch kind {
	case duckdb.Kind:
		wh, err = duckdb.Open(connection.Settings{Path: filepath.Join(testkit.Dir(t), "lake.duckdb")},
			`warehouse "lake"`)
	case lake.Kind:
		if rand.IntN(2) == 0 {
			return lakeInBucket(t, 20)
		}
		return lakeInFolder(t)
	default:
		target, _ := testkit.Database(t)
		wh, err = pgwarehouse.Open(target, `warehouse "reports"`)
	}
	require.NoError(t, err)
	t.Cleanup(wh.Close)
	return wh
}

func (b *workbench) exec(sql string, args ...any) {
	b.t.Helper()
	testkit.Exec(b.t, b.conn, sql, args...)
}

func (b *workbench) work(table feed.Table) engine.Work {
	b.feed.Tables = []feed.Table{table}
	b.run++
	return engine.Work{Feed: b.feed, Table: table, Run: b.run, Source: b.source, Warehouse: b.warehouse,
		Keys: testKeys}
}

// bring runs a table and fails the test if the run fails or its books do not balance.
func (b *workbench) bring(table feed.Table) engine.Outcome {
	b.t.Helper()
	out, err := b.engine.Run(context.Background(), b.work(table))
	require.NoError(b.t, err)
	require.True(b.t, out.Books.Balanced(), "%+v", out.Books)
	return out
}

// bringBy runs a table by its own find, and gives what is wrong with it.
func (b *workbench) bringBy(table feed.Table) error {
	if table.Find != feed.FindLog {
		_, err := b.engine.Run(context.Background(), b.work(table))
		return err
	}
	b.feed.Tables = []feed.Table{table}
	report, err := b.engine.Follow(context.Background(), (&follower{workbench: b}).work())
	if err == nil && len(report.Tables) > 0 {
		err = report.Tables[0].Trouble
	}
	return err
}

// equal proves a table and requires n equal rows and no other.
func (b *workbench) equal(table feed.Table, n int64) {
	b.t.Helper()
	proof, err := engine.Prove(context.Background(), b.work(table))
	require.NoError(b.t, err)
	require.True(b.t, proof.Same, "%+v", proof)
	require.Equal(b.t, n, proof.Equal, "%+v", proof)
}

// rowsOf reads a warehouse table as text.
func (b *workbench) rowsOf(name string, columns ...schema.Column) [][]string {
	b.t.Helper()
	n, err := schema.ParseName(name)
	require.NoError(b.t, err)
	var out [][]string
	err = b.warehouse.Read(context.Background(),
		warehouse.Query{Target: warehouse.Target{Name: n}, Columns: columns,
			OrderBy: []string{columns[0].Name}}, func(r arrow.RecordBatch) error {
			for i := range int(r.NumRows()) {
				var row []string
				for k, c := range columns {
					text, ok := schema.CellText(r.Column(k), i, c.Type)
					if !ok {
						text = "null"
					}
					row = append(row, strings.Clone(text))
				}
				out = append(out, row)
			}
			return nil
		})
	require.NoError(b.t, err)
	return out
}

func column(name string, kind schema.Kind) schema.Column {
	return schema.Column{Name: name, Type: schema.Type{Kind: kind}}
}

// patrons is the usual table: a key, a watermark, a value.
func (b *workbench) patrons(rows int) feed.Table {
	b.exec(`CREATE TABLE patrons (id bigint PRIMARY KEY, name text, updated_at timestamptz)`)
	b.exec(`INSERT INTO patrons SELECT i, 'patron ' || i, now() - interval '1 hour' + i * interval '1 ms' FROM `+
		`generate_series(1, $1::int) i`, rows)
	return feed.Table{Table: "public.patrons", Find: feed.FindWatermark, Keep: feed.KeepLatest,
		Watermark: &feed.Watermark{Column: "updated_at", Settle: "0s"}}
}

func TestFirstAllThenNothingThenExactlyOne(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(1000)
		require.Equal(t, rows.Books{Read: 1000, Inserted: 1000}, b.bring(table).Books)
		require.Equal(t, rows.Books{}, b.bring(table).Books)
		b.exec(`UPDATE patrons SET name = 'Mirela Ostrakova', updated_at = clock_timestamp() WHERE id = 17`)
		require.Equal(t, rows.Books{Read: 1, Updated: 1}, b.bring(table).Books)
		b.exec(`INSERT INTO patrons VALUES (1001, 'Ægir Þórsson', clock_timestamp())`)
		require.Equal(t, rows.Books{Read: 1, Inserted: 1}, b.bring(table).Books)
		require.Equal(t, rows.Books{}, b.bring(table).Books)
		b.equal(table, 1001)
	})
}

func TestTiesAtThePageEdge(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(0)
		b.exec(`INSERT INTO patrons SELECT i, 'p' || i, '2026-03-01 09:00Z'::timestamptz + (i / 4) * interval '1 s' ` +
			`FROM generate_series(1, 30) i`)
		table.PageRows = 3
		out := b.bring(table)
		require.Equal(t, rows.Books{Read: 30, Inserted: 30}, out.Books)
		require.Greater(t, out.Commits, 5)
		require.Equal(t, rows.Books{}, b.bring(table).Books)
		b.equal(table, 30)
	})
}

func TestLedgerWithoutKeyKeepsTiesAndTwins(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE desk_events (at timestamptz NOT NULL, desk text, detail json)`)
		b.exec(`INSERT INTO desk_events SELECT '2026-03-01 09:00Z'::timestamptz + (i / 5) * interval '1 s', ` +
			`'north', '{"a":1}' FROM generate_series(0, 49) i`)
		table := feed.Table{Table: "public.desk_events", Find: feed.FindWatermark, Keep: feed.KeepLedger, PageRows: 7,
			Watermark: &feed.Watermark{Column: "at", Settle: "0s", LookBack: "3s"}}
		require.Equal(t, rows.Books{Read: 50, Inserted: 50}, b.bring(table).Books)
		// Twins that arrive late, within the look-back.
		b.exec(`INSERT INTO desk_events VALUES ('2026-03-01 09:00:08Z', 'north', '{"a":1}'), ('2026-03-01 ` +
			`09:00:08Z', 'south', null)`)
		out := b.bring(table)
		require.Equal(t, int64(2), out.Books.Inserted, "%+v", out.Books)
		require.Equal(t, out.Books.Read-2, out.Books.Unchanged)
		b.equal(table, 52)
		require.NoError(t, b.warehouse.Journal().SetPosition(context.Background(), "circulation", "public.desk_events",
			nil))
		require.Equal(t, rows.Books{Read: 52, Unchanged: 52}, b.bring(table).Books)
		b.equal(table, 52)
	})
}

func TestLateCommitIsNotLost(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(10)
		late := testkit.Connect(t, testkit.Postgres(t).URL(b.settings.Database))
		tx, err := late.Begin(context.Background())
		require.NoError(t, err)
		_, err = tx.Exec(context.Background(), `INSERT INTO patrons VALUES (11, 'late', now())`)
		require.NoError(t, err)
		time.Sleep(5 * time.Millisecond)
		b.exec(`INSERT INTO patrons VALUES (12, 'early', clock_timestamp())`)
		out := b.bring(table)
		require.Equal(t, int64(10), out.Books.Read, "the row above the open transaction must wait")
		require.NoError(t, tx.Commit(context.Background()))
		require.Equal(t, rows.Books{Read: 2, Inserted: 2}, b.bring(table).Books)
		b.equal(table, 12)
	})
}

func TestLateCommitOfACountingWatermark(t *testing.T) {
	for _, privilege := range []string{"told", "not told"} {
		t.Run(privilege, func(t *testing.T) {
			b := newWorkbench(t, duckdb.Kind)
			b.exec(`CREATE TABLE fines (id bigint PRIMARY KEY, change_no bigint NOT NULL)`)
			b.exec(`INSERT INTO fines SELECT i, i FROM generate_series(1, 10) i`)
			if privilege == "not told" {
				b.limitedUser("fines")
			}
			table := feed.Table{Table: "public.fines", Find: feed.FindWatermark, Keep: feed.KeepLatest,
				Watermark: &feed.Watermark{Column: "change_no", Wait: "200ms"}}
			require.Equal(t, int64(10), b.bring(table).Books.Read)
			late := testkit.Connect(t, testkit.Postgres(t).URL(b.settings.Database))
			tx, err := late.Begin(context.Background())
			require.NoError(t, err)
			_, err = tx.Exec(context.Background(), `INSERT INTO fines VALUES (11, 11)`)
			require.NoError(t, err)
			b.exec(`INSERT INTO fines VALUES (12, 12)`)
			out := b.bring(table)
			require.Zero(t, out.Books.Read)
			require.NotEmpty(t, out.Notes)
			// Transactions that come after the proposal do not hold it back.
			other := testkit.Connect(t, testkit.Postgres(t).URL(b.settings.Database))
			second, err := other.Begin(context.Background())
			require.NoError(t, err)
			_, err = second.Exec(context.Background(), `INSERT INTO fines VALUES (13, 13)`)
			require.NoError(t, err)
			require.NoError(t, tx.Commit(context.Background()))
			require.Equal(t, rows.Books{Read: 2, Inserted: 2}, b.bring(table).Books)
			require.NoError(t, second.Commit(context.Background()))
			require.Equal(t, rows.Books{Read: 1, Inserted: 1}, b.bring(table).Books)
			b.equal(table, 13)
		})
	}
}

// limitedUser makes the source sign in as a user who may read one table and is not
// told about the transactions of others.
func (b *workbench) limitedUser(table string) {
	name := fmt.Sprintf("reader_%d", time.Now().UnixNano())
	b.exec(fmt.Sprintf(`CREATE ROLE %s LOGIN PASSWORD 'quiet please'`, name))
	b.exec(fmt.Sprintf(`GRANT SELECT ON %s TO %s`, table, name))
	b.t.Cleanup(func() {
		b.source.Close()
		b.exec(fmt.Sprintf(`DROP OWNED BY %s; DROP ROLE %[1]s`, name))
	})
	s := b.settings
	s.User, s.Password = name, "quiet please"
	src, err := pgsource.Open(s, `source "circulation"`)
	require.NoError(b.t, err)
	b.source.Close()
	b.source = src
}

func TestPreparedTransactionHoldsTheBound(t *testing.T) {
	b := newWorkbench(t, pgwarehouse.Kind)
	table := b.patrons(3)
	table.Watermark.Wait = "200ms"
	b.exec(`BEGIN; INSERT INTO patrons VALUES (4, 'prepared', now()); PREPARE TRANSACTION 'holds'`)
	time.Sleep(5 * time.Millisecond)
	b.exec(`INSERT INTO patrons VALUES (5, 'later', clock_timestamp())`)
	require.Zero(t, b.bring(table).Books.Read)
	b.exec(`COMMIT PREPARED 'holds'`)
	b.bring(table)
	b.bring(table)
	b.equal(table, 5)
}

func TestNullWatermarks(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(5)
		b.exec(`ALTER TABLE patrons ADD created_at timestamptz NOT NULL DEFAULT '2026-01-01Z'; UPDATE patrons SET ` +
			`updated_at = null WHERE id IN (2, 3)`)
		out := b.bring(table)
		require.Equal(t, int64(3), out.Books.Read)
		require.Equal(t, int64(2), out.Nulls)
		require.Contains(t, out.Notes[0], "2 rows with a null watermark are not replicated")
		table.Watermark.Fallback = "created_at"
		require.NoError(t, b.warehouse.Journal().SetPosition(context.Background(), "circulation", "public.patrons",
			nil))
		out = b.bring(table)
		require.Equal(t, rows.Books{Read: 5, Unchanged: 3, Inserted: 2}, out.Books)
		require.Zero(t, out.Nulls)
		b.equal(table, 5)
	})
}

func TestPositionSetBackDoublesNothing(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(100)
		out := b.bring(table)
		back, err := position.Position{Value: out.To.Position.Value}.Check(schema.Type{Kind: schema.TimestampTZ})
		require.NoError(t, err)
		us, err := schema.ParseTimestamp(back.Value)
		require.NoError(t, err)
		back.Value = schema.TimestampTZText(us - 40_000)
		require.NoError(t, b.warehouse.Journal().SetPosition(context.Background(), "circulation", "public.patrons",
			&back))
		require.Equal(t, rows.Books{Read: 40, Unchanged: 40}, b.bring(table).Books)
		b.equal(table, 100)
	})
}

func TestCatchesUpAfterDays(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	table := b.patrons(0)
	b.exec(`INSERT INTO patrons SELECT i, 'p', now() - interval '6 days' + i * interval '1 minute' FROM ` +
		`generate_series(1, 100) i`)
	b.bring(table)
	// Nobody ran the feed for five days of the source's time.
	b.exec(`INSERT INTO patrons SELECT 1000 + i, 'p', now() - interval '5 days' + i * interval '1 minute' FROM ` +
		`generate_series(1, 7000) i`)
	b.exec(`UPDATE patrons SET name = 'renamed', updated_at = now() - interval '1 day' WHERE id <= 10`)
	table.PageRows = 1000
	out := b.bring(table)
	require.Equal(t, rows.Books{Read: 7010, Inserted: 7000, Updated: 10}, out.Books)
	require.Equal(t, 8, out.Commits)
	b.equal(table, 7100)
}

func TestStart(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	table := b.patrons(0)
	b.exec(`INSERT INTO patrons SELECT i, 'p', '2026-01-01Z'::timestamptz + i * interval '1 day' FROM ` +
		`generate_series(0, 9) i`)
	table.Watermark.Start = "2026-01-08"
	require.Equal(t, int64(3), b.bring(table).Books.Read, "the start itself counts")
	require.NoError(t, b.warehouse.Journal().SetPosition(context.Background(), "circulation", "public.patrons", nil))
	table.Watermark.Start = feed.StartNow
	out := b.bring(table)
	require.Zero(t, out.Books.Read)
	b.exec(`INSERT INTO patrons VALUES (77, 'new', clock_timestamp())`)
	require.Equal(t, int64(1), b.bring(table).Books.Read)
}

func TestDaysCountWhenComplete(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	b.exec(`CREATE TABLE closed_days (branch int, day date, PRIMARY KEY (branch, day))`)
	b.exec(`INSERT INTO closed_days SELECT 1, current_date + i FROM generate_series(-5, 1) i`)
	table := feed.Table{Table: "public.closed_days", Find: feed.FindWatermark, Keep: feed.KeepLatest,
		Watermark: &feed.Watermark{Column: "day", Settle: "0s"}}
	require.Equal(t, int64(5), b.bring(table).Books.Read, "today and tomorrow are not complete")
}

func TestReplaceSwapsWhole(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loan_rules (kind text, days int); INSERT INTO loan_rules VALUES ('book', 28), ('film', 7)`)
		table := feed.Table{Table: "public.loan_rules", Find: feed.FindWhole, Keep: feed.KeepReplace}
		require.Equal(t, rows.Books{Read: 2, Inserted: 2}, b.bring(table).Books)
		b.exec(`DELETE FROM loan_rules WHERE kind = 'film'; INSERT INTO loan_rules VALUES ('map', 3), ('game', 14)`)
		require.Equal(t, rows.Books{Read: 4, Inserted: 2, Deleted: 1, Unchanged: 1}, b.bring(table).Books)
		b.equal(table, 3)
		out := b.bring(table)
		require.Equal(t, rows.Books{Read: 3, Unchanged: 3}, out.Books)
		require.Contains(t, fmt.Sprint(out.Notes), "Nothing has changed")
		b.exec(`INSERT INTO loan_rules VALUES ('map', 3)`) // a twin
		require.Equal(t, rows.Books{Read: 4, Inserted: 1, Unchanged: 3}, b.bring(table).Books)
		b.exec(`DELETE FROM loan_rules`)
		require.Equal(t, rows.Books{Read: 4, Deleted: 4}, b.bring(table).Books)
		b.equal(table, 0)
	})
}

// A table that is read whole is kept in every way that needs no single changes.
func TestWholeInEveryKeep(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory} {
			b.exec(`DROP TABLE IF EXISTS loan_rules; CREATE TABLE loan_rules (kind text PRIMARY KEY, days int); ` +
				`INSERT INTO loan_rules VALUES ('book', 28), ('film', 7), ('map', 3)`)
			table := feed.Table{Table: "public.loan_rules", Find: feed.FindWhole, Keep: keep, Target: "kept." +
				strings.ReplaceAll(string(keep), "-", "_")}
			require.Equal(t, rows.Books{Read: 3, Inserted: 3}, b.bring(table).Books, keep)
			require.Equal(t, rows.Books{Read: 3, Unchanged: 3}, b.bring(table).Books, keep)
			b.exec(`DELETE FROM loan_rules WHERE kind = 'film'; UPDATE loan_rules SET days = 5 WHERE kind = 'map'; ` +
				`INSERT INTO loan_rules VALUES ('game', 14)`)
			books := b.bring(table).Books
			require.Equal(t, []int64{1, 1, 1, 1},
				[]int64{books.Inserted, books.Updated, books.Deleted, books.Unchanged}, "%s %+v", keep, books)
			b.equal(table, 3)
			b.exec(`INSERT INTO loan_rules VALUES ('film', 7); DELETE FROM loan_rules WHERE kind <> 'film'`)
			b.bring(table)
			b.equal(table, 1)
		}
	})
}

func TestKeyOfTheFeedsOwn(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE holds (patron int, title int, note text, seen timestamptz)`)
		b.exec(`INSERT INTO holds VALUES (1, 1, 'old', '2026-01-01Z'), (1, 1, 'new', '2026-01-02Z'), (1, 2, 'only', ` +
			`'2026-01-01Z'), (null, 2, 'lost key', '2026-01-03Z')`)
		table := feed.Table{Table: "public.holds", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Key: []string{"patron", "title"}, Watermark: &feed.Watermark{Column: "seen"}}
		require.Equal(t, rows.Books{Read: 4, Folded: 1, SetAside: 1, Inserted: 2}, b.bring(table).Books)
		require.Equal(t, [][]string{{"1", "new"}, {"2", "only"}},
			b.rowsOf("public.holds", column("title", schema.Int32), column("note", schema.Text)))
		require.Equal(t, rows.Books{}, b.bring(table).Books)
	})
}

func TestRowsSetAsideAndHealed(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE fines (id int PRIMARY KEY, amount numeric(10,2), at timestamptz)`)
		b.exec(`INSERT INTO fines VALUES (1, 2.50, '2026-01-01Z'), (2, 'NaN', '2026-01-02Z')`)
		table := feed.Table{Table: "public.fines", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: "at"}}
		require.Equal(t, rows.Books{Read: 2, SetAside: 1, Inserted: 1}, b.bring(table).Books)
		require.Equal(t, rows.Books{}, b.bring(table).Books, "the position has passed the row set aside")
		aside := []schema.Column{column("key", schema.Text), column("content", schema.Text),
			column("reason", schema.Text)}
		require.Equal(t, [][]string{{`["2"]`, `{"amount":"NaN","at":"2026-01-02T00:00:00.000000Z","id":"2"}`,
			"Column amount is NaN, which decimal(10,2) cannot hold; name it under as_text to keep it."}},
			b.rowsOf("noemata.set_aside", aside...))
		b.exec(`UPDATE fines SET amount = 3, at = '2026-01-05Z' WHERE id = 2`)
		require.Equal(t, rows.Books{Read: 1, Inserted: 1}, b.bring(table).Books)
		require.Empty(t, b.rowsOf("noemata.set_aside", aside...))
		b.equal(table, 2)
	})
}

func TestOddNames(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE SCHEMA "Zweig ""Nord"""; CREATE TABLE "Zweig ""Nord"""."Leih.Gänge" ("Ключ 1" int, "select" ` +
			`text, "a""b" timestamptz, PRIMARY KEY ("Ключ 1"))`)
		b.exec(`INSERT INTO "Zweig ""Nord"""."Leih.Gänge" VALUES (1, 'x''y', '2026-01-01Z'), (2, '\', '2026-01-01Z')`)
		table := feed.Table{Table: `Zweig "Nord"."Leih.Gänge"`, Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Watermark: &feed.Watermark{Column: `a"b`}, PageRows: 1}
		table.Table = schema.Name{Schema: `Zweig "Nord"`, Table: "Leih.Gänge"}.Display()
		table.Target = `"{schema}"."{table} ❤"`
		require.Equal(t, rows.Books{Read: 2, Inserted: 2}, b.bring(table).Books)
		b.equal(table, 2)
		b.exec(`UPDATE "Zweig ""Nord"""."Leih.Gänge" SET "select" = 'é', "a""b" = '2026-01-02Z'`)
		require.Equal(t, rows.Books{Read: 2, Updated: 2}, b.bring(table).Books)
		b.equal(table, 2)
	})
}

func TestProblemsNameTheThingAndTheRemedy(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	table := b.patrons(1)
	run := func(table feed.Table) *problem.Problem {
		_, err := b.engine.Run(context.Background(), b.work(table))
		require.Error(t, err)
		return problem.Of(err)
	}
	gone := table
	gone.Table = "public.gone"
	p := run(gone)
	require.Equal(t, problem.NoTable, p.Code)
	require.Contains(t, p.What, `The table public.gone does not exist in source "circulation"`)
	b.exec(`CREATE TABLE secret (id int PRIMARY KEY, at timestamptz)`)
	b.limitedUser("patrons")
	secret := table
	secret.Table = "public.secret"
	p = run(secret)
	require.Equal(t, problem.NoPrivilege, p.Code)
	require.Contains(t, p.Remedy, `GRANT SELECT ON "public"."secret" TO "reader_`)
	b.exec(`ALTER TABLE patrons ENABLE ROW LEVEL SECURITY`)
	p = run(table)
	require.Equal(t, problem.NoPrivilege, p.Code)
	require.Contains(t, p.Error(), "BYPASSRLS")
	wrong := b.settings
	wrong.Password = "wrong"
	src, err := pgsource.Open(wrong, `source "circulation"`)
	require.NoError(t, err)
	defer src.Close()
	_, err = src.Test(context.Background())
	require.True(t, problem.Is(err, problem.Denied), "%v", err)
	require.NotContains(t, err.Error(), "wrong\"")
}

func TestOvertakenWorkerCannotCommit(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(10)
		w := b.work(table)
		moved := false
		w.Progress = func(p engine.Progress) {
			if p.Phase == "writing" && !moved {
				moved = true
				require.NoError(t, b.warehouse.Journal().SetPosition(context.Background(), "circulation",
					"public.patrons", nil))
			}
		}
		_, err := b.engine.Run(context.Background(), w)
		require.True(t, problem.Is(err, problem.Overtaken), "%v", err)
		n, err := b.warehouse.Count(context.Background(),
			warehouse.Target{Name: schema.Name{Schema: "public", Table: "patrons"}})
		require.NoError(t, err)
		require.Zero(t, n, "nothing of the late worker is to be seen")
		b.bring(table)
		b.equal(table, 10)
	})
}

func TestEveryStatementIsRecorded(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		table := b.patrons(10)
		var seen []statement.Statement
		ctx := statement.With(context.Background(), func(s statement.Statement) { seen = append(seen, s) })
		_, err := b.engine.Run(ctx, b.work(table))
		require.NoError(t, err)
		sides := map[string]int{}
		for _, s := range seen {
			sides[s.Side]++
		}
		require.Greater(t, sides[statement.Source], 4)
		require.Greater(t, sides[statement.Warehouse], 6)
	})
}

// A position belongs to one target: another one, or one that was dropped, is filled from the
// beginning, or held with the choice. No hole comes about in silence.
func TestATargetThatIsAnotherIsNoHole(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		ctx := context.Background()
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text, at timestamptz NOT NULL); INSERT INTO loans ` +
			`VALUES (1, 'C1', '2026-01-01Z'), (2, 'C2', '2026-01-02Z')`)
		b.exec(`CREATE TABLE holds (id int PRIMARY KEY, copy text); INSERT INTO holds VALUES (1, 'C1')`)
		count := func(target string) string {
			t.Helper()
			found := testkit.SQL(t, b.warehouse, "SELECT count(*) FROM "+target)
			return fmt.Sprint(found[0][0])
		}
		table := feed.Table{Table: "public.loans", Find: feed.FindWatermark, Keep: feed.KeepLatest,
			Target: "kept.loans", Watermark: &feed.Watermark{Column: "at"}}
		run := func() error {
			_, err := b.engine.Run(ctx, b.work(table))
			return err
		}
		require.NoError(t, run())
		table.Target = "kept.lent"
		require.NoError(t, run())
		require.Equal(t, "2", count("kept.lent"), "a new target is filled")
		testkit.SQL(t, b.warehouse, "DROP TABLE kept.lent")
		require.NoError(t, run())
		require.Equal(t, "2", count("kept.lent"), "and so is one that was dropped")
		table.Target = "kept.loans"
		require.ErrorContains(t, run(), "To load it from the beginning: noemata positions clear")
		require.NoError(t, b.warehouse.Journal().SetPosition(ctx, b.feed.Name, "public.loans", nil))
		require.NoError(t, run())

		table.Drop = []string{"copy"}
		out, err := b.engine.Run(ctx, b.work(table))
		require.NoError(t, err)
		require.Contains(t, fmt.Sprint(out.Notes), `ALTER TABLE "kept"."loans" DROP COLUMN "copy"`)
		require.Contains(t, fmt.Sprint(engine.Check(ctx, b.feed, b.source, b.warehouse, nil)),
			"still holds the column copy")

		f := newFollower(t, b, feed.Table{Table: "public.holds", Keep: feed.KeepLatest, Target: "kept.holds"})
		f.catchUp()
		testkit.SQL(t, b.warehouse, "DROP TABLE kept.holds")
		f.catchUp()
		require.Equal(t, "1", count("kept.holds"))
		b.feed.Tables[0].Target = "kept.held"
		f.catchUp()
		require.Equal(t, "1", count("kept.held"))
		b.feed.Tables[0].Target = "kept.holds"
		_, err = f.engine.Follow(ctx, f.work())
		require.ErrorContains(t, err, "that this feed has not filled")
	})
}
