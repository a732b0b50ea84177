package engine_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/pgserver"
	"noemata/internal/source"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/statement"
	"noemata/internal/testkit"
	"noemata/internal/testkit/torture"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/duckdb"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// follower brings log tables and reads what the warehouse then has.
type follower struct {
	*workbench
	troubles map[string]error // of the last run, by table
}

// held is why a table was held in the last run.
func (f *follower) held(table string) error { return f.troubles[table] }

// rowsOf gives the rows of a target, its own columns by name, sorted as text.
func (f *follower) rowsOf(target string) []string {
	f.t.Helper()
	schemaName, table, _ := strings.Cut(target, ".")
	columns := f.see(fmt.Sprintf("SELECT column_name FROM information_schema.columns WHERE table_schema = '%s' AND "+
		"table_name = '%s' AND column_name NOT LIKE 'nm_%%' ORDER BY CASE column_name WHEN 'id' THEN '1' WHEN "+
		"'copy' THEN '2' WHEN 'note' THEN '3' ELSE column_name END", schemaName, table))
	for i, c := range columns {
		columns[i] = fmt.Sprintf("coalesce(CAST(%s AS VARCHAR), '~')", c)
	}
	return f.see(fmt.Sprintf("SELECT %s FROM %s ORDER BY %[1]s", strings.Join(columns, ", "), target))
}

func newFollower(t testing.TB, b *workbench, tables ...feed.Table) *follower {
	for i := range tables {
		tables[i].Find = feed.FindLog
	}
	b.feed.Tables = tables
	f := &follower{workbench: b}
	t.Cleanup(func() { _ = engine.DropLog(context.Background(), b.feed, b.source, b.warehouse) })
	return f
}

func (f *follower) work() engine.LogWork {
	f.run++
	return engine.LogWork{Feed: f.feed, Run: f.run, Source: f.source, Warehouse: f.warehouse, Keys: testKeys}
}

// catchUp runs the feed to the present end of the log, and gives what became of each table.
func (f *follower) catchUp() map[string]rows.Books {
	f.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	report, err := f.engine.Follow(ctx, f.work())
	if err != nil && (strings.Contains(err.Error(), "The next run opens the file with") ||
		strings.Contains(err.Error(), "The next run has")) { // a table of very many columns
		report, err = f.engine.Follow(ctx, f.work())
	}
	require.NoError(f.t, err)
	books := map[string]rows.Books{}
	f.troubles = map[string]error{}
	for _, t := range report.Tables {
		if f.troubles[t.Table] = t.Trouble; t.State == warehouse.Held {
			continue
		}
		require.Equal(f.t, warehouse.Following, t.State, t.Table)
		require.True(f.t, t.Books.Balanced(), "%s %+v", t.Table, t.Books)
		if t.Books.Read > 0 {
			require.Positive(f.t, t.Reading, t.Table)
			require.Positive(f.t, t.Writing, t.Table)
		}
		books[t.Table] = t.Books
	}
	return books
}

// see gives the rows of a query of the warehouse as text.
func (f *follower) see(sql string, args ...any) []string {
	f.t.Helper()
	found := testkit.SQL(f.t, f.warehouse, sql, args...)
	out := []string{}
	for _, row := range found {
		parts := make([]string, len(row))
		for i, v := range row {
			parts[i] = fmt.Sprint(v)
			if at, ok := v.(time.Time); ok {
				parts[i] = at.UTC().Format("15:04:05.000000")
			}
		}
		out = append(out, strings.Join(parts, " | "))
	}
	return out
}

// holds is one source table kept in all four ways; the source has a view of it for each.
func fourKeeps(b *workbench, table string) []feed.Table {
	var out []feed.Table
	for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory, feed.KeepLedger} {
		name := fmt.Sprintf("%s_%s", table, strings.ReplaceAll(string(keep), "-", "_"))
		out = append(out, feed.Table{Table: "public." + name, Keep: keep, Target: "kept." + name})
	}
	return out
}

func TestEveryKeepFromTheLog(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		tables := fourKeeps(b, "holds")
		all := func(sql string) {
			t.Helper()
			for _, x := range tables {
				b.exec(strings.ReplaceAll(sql, "holds", strings.TrimPrefix(x.Table, "public.")))
			}
		}
		all(`CREATE TABLE holds (id int PRIMARY KEY, state text, note text); ALTER TABLE holds ALTER note SET ` +
			`STORAGE EXTERNAL`)
		all(`INSERT INTO holds VALUES (1, 'placed', NULL), (2, 'placed', repeat('n', 5000))`)
		f := newFollower(t, b, tables...)
		for name, books := range f.catchUp() {
			require.Equal(t, rows.Books{Read: 2, Inserted: 2}, books, name)
		}
		for name, books := range f.catchUp() {
			require.Equal(t, rows.Books{}, books, "nothing has changed in %s", name)
		}
		all(`UPDATE holds SET state = 'ready' WHERE id = 2`) // the note is left out of the log
		all(`INSERT INTO holds VALUES (3, 'placed', 'new')`)
		all(`DELETE FROM holds WHERE id = 1`)
		all(`BEGIN; INSERT INTO holds VALUES (9, 'never seen', NULL); DELETE FROM holds WHERE id = 9; COMMIT`)
		all(`UPDATE holds SET id = 4 WHERE id = 2`) // the key changes, and the note is still left out
		all(`UPDATE holds SET state = state WHERE id = 3`)
		f.catchUp()
		require.Equal(t, []string{"3 | placed | 3", "4 | ready | 5000"},
			f.see(`SELECT id, state, length(note) FROM kept.holds_latest ORDER BY id`))
		require.Equal(t, []string{"1 | placed | true", "2 | ready | true", "3 | placed | false", "4 | ready | false",
			"9 | never seen | true"},
			f.see(`SELECT id, state, nm_deleted_at IS NOT NULL FROM kept.holds_soft_delete ORDER BY id`))
		require.Equal(t, []string{"1 | placed | <nil> | false", "2 | placed | 5000 | false", "2 | ready | 5000 | false",
			"3 | placed | 3 | true", "4 | ready | 5000 | true"},
			f.see(`SELECT id, state, length(note), nm_current FROM kept.holds_history ORDER BY id, nm_from`))
		require.Equal(t, []string{"copy | 1 | placed | <nil>", "copy | 2 | placed | 5000", "update | 2 | ready | 5000",
			"insert | 3 | placed | 3", "delete | 1 | <nil> | <nil>",
			"insert | 9 | never seen | <nil>", "delete | 9 | <nil> | <nil>", "delete | 2 | <nil> | <nil>",
			"insert | 4 | ready | 5000", "update | 3 | placed | 3"},
			f.see(`SELECT nm_change, id, state, length(note) FROM kept.holds_ledger ORDER BY nm_position, id`))
		all(`BEGIN; TRUNCATE holds; INSERT INTO holds VALUES (3, 'placed', 'new'), (5, 'placed', 'last'); COMMIT`)
		f.catchUp()
		require.Equal(t, []string{"3 | new", "5 | last"}, f.see(`SELECT id, note FROM kept.holds_latest ORDER BY id`))
		require.Equal(t, []string{"1 | true", "2 | true", "3 | false", "4 | true", "5 | false", "9 | true"},
			f.see(`SELECT id, nm_deleted_at IS NOT NULL FROM kept.holds_soft_delete ORDER BY id`))
		require.Equal(t, []string{"1 | 1 | 0", "2 | 2 | 0", "3 | 1 | 1", "4 | 1 | 0", "5 | 1 | 1"},
			f.see(`SELECT id, count(*), CAST(sum(CASE WHEN nm_current THEN 1 ELSE 0 END) AS BIGINT) FROM `+
				`kept.holds_history GROUP BY id ORDER BY id`), "a row that comes back unchanged in the same "+
				"transaction makes no version")
		require.Equal(t, []string{"0"},
			f.see(`SELECT count(*) FROM kept.holds_history a JOIN kept.holds_history b ON a.id = b.id AND a.nm_from `+
				`< b.nm_from AND (a.nm_until IS NULL OR a.nm_until > b.nm_from)`))
	})
}

// Tables are copied while others write to them, again and again, each time from a new
// place in the log: no version of a history is lost, none is there twice, none is out of
// order, and no event of a ledger either.
func TestCopiesMeetTheLogExactly(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		s, err := torture.New(context.Background(), testkit.Postgres(t).URL(b.settings.Database))
		require.NoError(t, err)
		b.exec(`CREATE TABLE quiet (id int PRIMARY KEY)`)
		copiedUnderLoad(t, b, s, "public")
	})
}

// The same with a MariaDB source.
func TestCopiesMeetTheLogExactlyOfMariaDB(t *testing.T) {
	raceless(t)
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		judge, _ := testkit.Database(t)
		s, err := torture.NewMariaDB(context.Background(), b.db, testkit.Postgres(t).URL(judge.Database))
		require.NoError(t, err)
		b.exec(`CREATE TABLE quiet (id int PRIMARY KEY)`)
		copiedUnderLoad(t, b.workbench, s, b.settings.Database)
	})
}

// The same with a MySQL source, which does not tell at which place a snapshot is.
func TestCopiesMeetTheLogExactlyOfMySQL(t *testing.T) {
	raceless(t)
	b := newMySQLBench(t, oneOf(duckdb.Kind, pgwarehouse.Kind))
	judge, _ := testkit.Database(t)
	s, err := torture.NewMySQL(context.Background(), b.db, testkit.Postgres(t).URL(judge.Database))
	require.NoError(t, err)
	b.exec(`CREATE TABLE quiet (id int PRIMARY KEY)`)
	copiedUnderLoad(t, b.workbench, s, b.settings.Database)
}

func copiedUnderLoad(t *testing.T, b *workbench, s *torture.Source, database string) {
	defer s.Close()
	rounds := 3
	if testing.Short() {
		rounds = 1
	}
	if os.Getenv("NOEMATA_TORTURE") != "" {
		rounds = 100
	}
	ctx := context.Background()
	var tables []feed.Table
	for _, keep := range []string{"history", "ledger"} {
		for _, name := range torture.Tables(keep) {
			tables = append(tables, feed.Table{Table: database + `."` + doubled(name) + `"`, Keep: feed.Keep(keep),
				Target: `kept."` + doubled(name) + `"`})
		}
	}
	defer engine.CutReplaysAt(100_000)
	for round := range rounds {
		engine.CutReplaysAt([]int64{100_000, 1, 7}[round%3])
		b.feed.Name = fmt.Sprintf("round-%d", round)
		quiet := feed.Table{Table: database + ".quiet", Keep: feed.KeepLatest,
			Target: fmt.Sprintf("kept.quiet_%d", round)}
		newFollower(t, b, quiet).catchUp()
		f := newFollower(t, b, append([]feed.Table{quiet}, tables...)...)
		s.Start(6)
		time.Sleep(100 * time.Millisecond)
		f.settle() // a lock that is not given in time ends a run; the next one goes on
		time.Sleep(200 * time.Millisecond)
		s.Pause()
		f.catchUp()
		faults, err := s.JudgeKeeps(ctx, func(sql string) ([][]string, error) { return asTexts(f, sql) }, "history",
			"ledger")
		require.NoError(t, err)
		for _, fault := range faults {
			t.Log(s.Explain(ctx, fault))
		}
		require.Empty(t, faults, "round %d", round)
		require.NoError(t, engine.DropLog(ctx, b.feed, b.source, b.warehouse))
		for _, x := range tables {
			testkit.SQL(t, b.warehouse, "DROP TABLE "+x.Target)
		}
	}
}

// broken is a source whose copies end with a part that fails, once the part before it is in
// the warehouse.
type broken struct {
	*pgsource.Source
	fails func() error
}

func (s broken) Copy(ctx context.Context, t source.Followed, layout string) (source.Copy, error) {
	c, err := s.Source.Copy(ctx, t, layout)
	return brokenCopy{c, s.fails}, err
}

type brokenCopy struct {
	source.Copy
	fails func() error
}

func (c brokenCopy) Parts() int { return c.Copy.Parts() + 1 }

func (c brokenCopy) Read(ctx context.Context, part int, since string, sink func(rows.Batch) error) error {
	if part < c.Copy.Parts() {
		return c.Copy.Read(ctx, part, since, sink)
	}
	return c.fails()
}

// A copy that is interrupted goes on in a later snapshot. Rows that were deleted or changed
// between the two were there before they were.
func TestAnInterruptedCopyKeepsTheOrderOfChanges(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE quiet (id int PRIMARY KEY); CREATE TABLE loans (id int PRIMARY KEY, state text); ` +
			`INSERT INTO loans SELECT i, 'lent' FROM generate_series(1, 4) i`)
		b.exec(`CREATE TABLE events (id int PRIMARY KEY, state text); INSERT INTO events SELECT * FROM loans`)
		f := newFollower(t, b, feed.Table{Table: "public.quiet", Keep: feed.KeepLatest, Target: "kept.quiet"})
		f.catchUp()
		for table, keep := range map[string]feed.Keep{"loans": feed.KeepHistory, "events": feed.KeepLedger} {
			f.feed.Tables = append(f.feed.Tables,
				feed.Table{Table: "public." + table, Find: feed.FindLog, Keep: keep, Target: "kept." + table})
			w := f.work()
			w.Source = broken{b.source.(*pgsource.Source), func() error {
				require.Eventually(t, func() bool { return f.see(`SELECT count(*) FROM noemata.copy_parts`)[0] == "1" },
					10*time.Second, 10*time.Millisecond)
				b.exec(fmt.Sprintf(`DELETE FROM %s WHERE id = 1; UPDATE %[1]s SET state = 'returned' WHERE id = 2; `+
					`INSERT INTO %[1]s VALUES (5, 'lent')`, table))
				return errors.New("the reading room is closed")
			}}
			_, err := f.engine.Follow(context.Background(), w)
			require.ErrorContains(t, err, "the reading room is closed")
			b.exec(fmt.Sprintf(`DELETE FROM %s WHERE id = 3`, table))
			f.catchUp()
		}
		require.Equal(t, []string{"1 | lent | false", "2 | returned | true", "3 | lent | false", "4 | lent | true",
			"5 | lent | true"},
			f.see(`SELECT id, state, nm_current FROM kept.loans ORDER BY id, nm_from`))
		require.Equal(t, []string{"0"}, f.see(`SELECT count(*) FROM kept.loans WHERE nm_until <= nm_from`))
		require.Equal(t, []string{"1 | copy", "1 | delete", "2 | copy", "3 | copy", "3 | delete", "4 | copy",
			"5 | copy"}, f.see(`SELECT id, nm_change FROM kept.events ORDER BY id, nm_position`))
	})
}

// staged is a source whose copies and log go on as a test has it.
type staged struct {
	*pgsource.Source
	breaks string        // the table whose copy breaks after its first part
	waits  string        // the table that waits for a transaction of others
	broken func() error  // what happens then
	reads  chan struct{} // the log is read when this is closed; nil: from the beginning
}

func (s staged) Copy(ctx context.Context, f source.Followed, layout string) (source.Copy, error) {
	c, err := s.Source.Copy(ctx, f, layout)
	if err == nil && f.Table.Name.Table == s.breaks {
		c = brokenCopy{c, s.broken}
	}
	return c, err
}

func (s staged) Settle(ctx context.Context, table schema.Table, waits func(string)) error {
	if table.Name.Table == s.waits {
		<-ctx.Done()
		return ctx.Err()
	}
	return s.Source.Settle(ctx, table, waits)
}

func (s staged) Follow(ctx context.Context, f source.Follow) (source.Stream, error) {
	stream, err := s.Source.Follow(ctx, f)
	return stagedStream{stream, s.reads, f.From}, err
}

type stagedStream struct {
	source.Stream
	reads chan struct{}
	from  string
}

func (s stagedStream) Next(ctx context.Context, deadline time.Time) (source.Progress, error) {
	if s.reads != nil {
		select {
		case <-s.reads:
		case <-time.After(time.Until(deadline)):
			return source.Progress{Position: s.from, Idle: true}, nil
		}
	}
	return s.Stream.Next(ctx, deadline)
}

// Tables whose copies were interrupted, and that join in one commit, have each row once: what
// settles the copy of one is seen by a commit that another has begun.
func TestInterruptedCopiesJoinTogether(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE quiet (id int PRIMARY KEY)`)
		f := newFollower(t, b, feed.Table{Table: "public.quiet", Keep: feed.KeepLatest, Target: "kept.quiet"})
		f.catchUp()
		names := []string{"loans", "events"}
		for name, keep := range map[string]feed.Keep{"loans": feed.KeepLatest, "events": feed.KeepLedger} {
			b.exec(fmt.Sprintf(`CREATE TABLE %s (id int PRIMARY KEY, state text); INSERT INTO %[1]s SELECT i, 'lent' `+
				`FROM generate_series(1, 4) i`, name))
			f.feed.Tables = append(f.feed.Tables,
				feed.Table{Table: "public." + name, Find: feed.FindLog, Keep: keep, Target: "kept." + name})
		}
		for i, name := range names {
			w := f.work()
			w.Source = staged{Source: b.source.(*pgsource.Source), breaks: name, waits: names[1-i],
				broken: func() error {
					require.Eventually(t, func() bool {
						return f.see(`SELECT count(*) FROM noemata.copy_parts WHERE source_table = 'public.` + name +
							`'`)[0] == "1"
					}, 10*time.Second, 10*time.Millisecond)
					b.exec(fmt.Sprintf(`UPDATE %s SET state = 'returned' WHERE id < 3`, name))
					return errors.New("the reading room is closed")
				}}
			_, err := f.engine.Follow(context.Background(), w)
			require.ErrorContains(t, err, "the reading room is closed")
		}
		w := f.work()
		reads := make(chan struct{})
		var once sync.Once
		w.Source = staged{Source: b.source.(*pgsource.Source), reads: reads}
		w.Report = func(r engine.LogReport) {
			joining := 0
			for _, x := range r.Tables {
				if x.State == warehouse.Joining {
					joining++
				}
			}
			if joining == len(names) {
				once.Do(func() { close(reads) })
			}
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		_, err := f.engine.Follow(ctx, w)
		require.NoError(t, err)
		for _, name := range names {
			require.Equal(t, []string{"1 | returned", "2 | returned", "3 | lent", "4 | lent"},
				f.see(`SELECT id, state FROM kept.`+name+` ORDER BY id`), name)
		}
	})
}

// What one transaction changes in two tables is never seen apart.
func TestReadersNeverSeeTablesApart(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE desk_a (id int PRIMARY KEY, n int); CREATE TABLE desk_b (id int PRIMARY KEY, n int); ` +
			`INSERT INTO desk_a VALUES (1, 0); INSERT INTO desk_b VALUES (1, 0)`)
		f := newFollower(t, b, feed.Table{Table: "public.desk_a", Keep: feed.KeepLatest, Target: "kept.desk_a"},
			feed.Table{Table: "public.desk_b", Keep: feed.KeepHistory, Target: "kept.desk_b"})
		f.catchUp()
		w := f.work()
		until := make(chan struct{})
		w.Until = until
		done := make(chan error, 1)
		go func() {
			_, err := f.engine.Follow(context.Background(), w)
			done <- err
		}()
		writing := make(chan struct{})
		var moved atomic.Bool // as the readers see it
		var written atomic.Int64
		go func() {
			defer close(writing)
			for n := 0; n < 300 || !moved.Load(); n++ {
				b.exec(fmt.Sprintf(`BEGIN; UPDATE desk_a SET n = %d; UPDATE desk_b SET n = %[1]d; COMMIT`, n+1))
				written.Store(int64(n + 1))
				time.Sleep(5 * time.Millisecond)
			}
		}()
		seen := map[string]bool{}
		for ended := false; !ended; {
			got := f.see(`SELECT a.n, b.n FROM kept.desk_a a JOIN kept.desk_b b ON a.id = b.id AND b.nm_current`)
			require.Len(t, got, 1)
			one, other, _ := strings.Cut(got[0], " | ")
			require.Equal(t, one, other)
			seen[one] = true
			moved.Store(len(seen) > 5)
			select {
			case err := <-done:
				require.NoError(t, err)
			case <-writing:
				ended = one == fmt.Sprint(written.Load())
			default:
			}
		}
		close(until)
		require.NoError(t, <-done)
		require.Equal(t, []string{fmt.Sprint(written.Load() + 1)}, f.see(`SELECT count(*) FROM kept.desk_b`),
			"each transaction has made a version")
		require.Equal(t, []string{"0"},
			f.see(`SELECT count(*) FROM kept.desk_b a JOIN kept.desk_b b ON a.nm_from < b.nm_from WHERE a.nm_until `+
				`> b.nm_from OR a.nm_until IS NULL`))
	})
}

// A slot that is lost holds the feed; a new copy goes on, and the history keeps its past.
func TestALostSlotHoldsTheFeedAndANewCopyKeepsThePast(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, state text); INSERT INTO loans VALUES (1, 'lent'), (2, ` +
			`'lent'), (3, 'lent')`)
		f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepHistory, Target: "kept.loans"})
		f.catchUp()
		b.exec(`UPDATE loans SET state = 'returned' WHERE id = 1`)
		f.catchUp()
		require.Eventually(t, func() bool { // the server takes a moment to notice that nobody reads any more
			_, err := b.conn.Exec(context.Background(),
				`SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE database = `+
					`current_database()`)
			return err == nil
		}, 20*time.Second, 50*time.Millisecond)
		b.exec(`UPDATE loans SET state = 'lost' WHERE id = 2; DELETE FROM loans WHERE id = 3; INSERT INTO loans ` +
			`VALUES (4, 'lent')`)
		_, err := f.engine.Follow(context.Background(), f.work())
		require.True(t, problem.Is(err, problem.Held), "%v", err)
		require.ErrorContains(t, err, "noemata feeds copy")
		require.NoError(t, engine.CopyAgain(context.Background(), b.feed, nil, b.source, b.warehouse))
		require.Equal(t, rows.Books{Read: 4, Inserted: 1, Updated: 1, Deleted: 1, Unchanged: 1},
			f.catchUp()["public.loans"])
		require.Equal(t, []string{"1 | lent | false", "1 | returned | true", "2 | lent | false", "2 | lost | true",
			"3 | lent | false", "4 | lent | true"},
			f.see(`SELECT id, state, nm_current FROM kept.loans ORDER BY id, nm_from`))
	})
}

// A source that was told to keep nothing more holds the feed.
func TestLetGo(t *testing.T) {
	b := newWorkbench(t, "duckdb")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY)`)
	f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
	f.catchUp()
	state, ok, err := engine.LogStateOf(context.Background(), b.feed, b.source, b.warehouse)
	require.NoError(t, err)
	require.True(t, ok && state.There && state.Retained >= state.Behind, "%+v", state)
	require.NoError(t, engine.LetGo(context.Background(), b.feed, b.source, b.warehouse))
	_, err = f.engine.Follow(context.Background(), f.work())
	require.True(t, problem.Is(err, problem.Held), "%v", err)
	require.NoError(t, engine.CopyAgain(context.Background(), b.feed, nil, b.source, b.warehouse))
	f.catchUp()
}

// Changes that were not told because the publication was altered are not passed over.
func TestAnAlteredPublicationHoldsTheFeed(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY); CREATE TABLE holds (id int PRIMARY KEY)`)
		f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"},
			feed.Table{Table: "public.holds", Keep: feed.KeepSoftDelete, Target: "kept.holds"})
		f.catchUp()
		b.exec(`DO $$ BEGIN EXECUTE (SELECT format('ALTER PUBLICATION %I DROP TABLE holds', pubname) FROM ` +
			`pg_publication WHERE pubname LIKE 'noemata%'); END $$`)
		b.exec(`INSERT INTO holds VALUES (1); INSERT INTO loans VALUES (1)`)
		require.EqualValues(t, 1, f.catchUp()["public.loans"].Inserted, "the other table goes on")
		require.ErrorContains(t, f.held("public.holds"), "--table public.holds")
		require.NoError(t, engine.CopyAgain(context.Background(), b.feed, []string{"public.holds"}, b.source,
			b.warehouse))
		require.Equal(t, rows.Books{Read: 1, Inserted: 1}, f.catchUp()["public.holds"])
	})
}

// A change of a table's structure holds that table alone, once, and its one remedy heals it
// whole: values of older rows, types and keys included. The others go on.
func TestAStructureThatChangesHoldsItsTableAlone(t *testing.T) {
	for what, x := range map[string]struct{ change, want string }{
		"a column that is added, with a default": {`ALTER TABLE loans ADD COLUMN state text DEFAULT 'out', ADD ` +
			`COLUMN seen date; INSERT INTO loans VALUES (3, 'C3', 'x', 'in')`, "1 | C1 | n | ~ | out,2 | C2 | n | ~ " +
			"| out,3 | C3 | x | ~ | in"},
		"a type that is changed": {`ALTER TABLE loans ALTER id TYPE bigint; INSERT INTO loans ` +
			`VALUES (5000000000, 'C3')`, "1 | C1 | n,2 | C2 | n,5000000000 | C3 | n"},
		"values that cannot be converted": {`ALTER TABLE loans ALTER note DROP DEFAULT, ALTER note TYPE int ` +
			`USING length(note); INSERT INTO loans VALUES (3, 'C3', 7)`, "1 | C1 | 1,2 | C2 | 1,3 | C3 | 7"},
		"another key": {`ALTER TABLE loans DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY ` +
			`(copy); UPDATE loans SET id = 1; INSERT INTO loans VALUES (1, 'C3')`, "1 | C1 | n,1 | C2 | n,1 | C3 | n"},
		"names that are exchanged": {`ALTER TABLE loans RENAME copy TO x; ALTER TABLE loans RENAME ` +
			`note TO copy; ALTER TABLE loans RENAME x TO note; INSERT INTO loans VALUES (3, 'C3', 'n')`,
			"1 | n | C1,2 | n | C2,3 | n | C3"},
	} {
		t.Run(what, func(t *testing.T) {
			onEach(t, func(t *testing.T, b *workbench) {
				b.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text NOT NULL, note text DEFAULT 'n'); CREATE ` +
					`TABLE holds (id int PRIMARY KEY); INSERT INTO loans VALUES (1, 'C1'), (2, 'C2')`)
				f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"},
					feed.Table{Table: "public.holds", Keep: feed.KeepLatest, Target: "kept.holds"})
				f.catchUp()
				b.exec(x.change + `; INSERT INTO holds VALUES (1)`)
				f.catchUp()
				f.catchUp()
				require.Equal(t, []string{"1"}, f.see(`SELECT id FROM kept.holds`), "the other table goes on")
				if err := f.held("public.loans"); what != "names that are exchanged" || err != nil {
					require.ErrorContains(t, err, "feeds copy "+b.feed.Name+" --table public.loans")
				}
				require.NoError(t, engine.CopyAgain(context.Background(), b.feed, []string{"public.loans"}, b.source,
					b.warehouse))
				f.catchUp()
				require.NoError(t, f.held("public.loans"))
				require.Equal(t, x.want, strings.Join(f.rowsOf("kept.loans"), ","))
				b.exec(`INSERT INTO holds VALUES (2); DELETE FROM loans WHERE copy = 'C1' OR note::text = 'C1'`)
				f.catchUp()
				require.Len(t, f.rowsOf("kept.loans"), 2, "and it follows again")
			})
		})
	}
}

// Of many tables that change at once each is held for its own reason, once, and the others go
// on in the same run.
func TestEachTableIsHeldForItsOwnReason(t *testing.T) {
	raceless(t)
	changes := map[int]struct{ alter, says string }{
		2: {"ALTER TABLE %s ADD COLUMN seen date, ADD COLUMN place text", "It lacks seen, place"},
		3: {"ALTER TABLE %s DROP COLUMN note", ""},
		5: {"ALTER TABLE %s MODIFY COLUMN note int", "note is "},
		6: {"ALTER TABLE %s ADD COLUMN other int", "It lacks other"},
		8: {"ALTER TABLE %s DROP COLUMN note", ""},
	}
	of := func(b *workbench, exec func(string), name func(string) string) {
		var tables []feed.Table
		for i := range 10 {
			exec(fmt.Sprintf("CREATE TABLE desk_%d (id int PRIMARY KEY, note varchar(9))", i))
			exec(fmt.Sprintf("INSERT INTO desk_%d VALUES (1, '1')", i))
			tables = append(tables, feed.Table{Table: name(fmt.Sprintf("desk_%d", i)), Keep: feed.KeepLatest,
				Target: fmt.Sprintf("kept.desk_%d", i)})
		}
		f := newFollower(t, b, tables...)
		f.catchUp()
		for i, x := range changes {
			exec(fmt.Sprintf(x.alter, fmt.Sprintf("desk_%d", i)))
		}
		for i := range 10 {
			exec(fmt.Sprintf("INSERT INTO desk_%d (id) VALUES (2)", i))
		}
		for round := range 2 {
			f.catchUp()
			for i, table := range tables {
				trouble := f.troubles[table.Table]
				x := changes[i]
				if x.says == "" { // a column that is dropped is in nobody's way
					require.NoError(t, trouble, table.Table)
					require.Equal(t, []string{"2"}, f.see("SELECT count(*) FROM "+table.Target), table.Table)
					continue
				}
				t.Logf("%d: %v", round, trouble)
				require.ErrorContains(t, trouble, fmt.Sprintf("desk_%d", i))
				require.ErrorContains(t, trouble, x.says, table.Table)
				require.ErrorContains(t, trouble, "noemata feeds copy "+b.feed.Name+" --table "+table.Table)
				for other := range changes {
					if other != i {
						require.NotContains(t, trouble.Error(), fmt.Sprintf("desk_%d", other))
					}
				}
			}
		}
	}
	b := newWorkbench(t, duckdb.Kind)
	of(b, func(sql string) {
		b.exec(strings.ReplaceAll(sql, "MODIFY COLUMN note int", "ALTER note TYPE int USING length(note)"))
	}, func(table string) string { return "public." + table })
	maria := newMariaBench(t, duckdb.Kind)
	of(maria.workbench, maria.exec, maria.table)
}

// With another key a history begins its rows anew, and what is flagged or current is equal
// to the source again, in every keep.
func TestAnotherKeyIsNoticedInEveryKeep(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, copy text NOT NULL); INSERT INTO loans VALUES (1, 'C1'), ` +
			`(2, 'C2'); CREATE TABLE holds (id int PRIMARY KEY)`)
		for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory} {
			b.feed.Name = "of-" + string(keep)
			table := feed.Table{Table: "public.loans", Keep: keep, Target: "kept.loans_" +
				strings.ReplaceAll(string(keep), "-", "_")}
			f := newFollower(t, b, table,
				feed.Table{Table: "public.holds", Keep: keep, Target: "kept.holds_" +
					strings.ReplaceAll(string(keep), "-", "_")})
			f.catchUp()
			b.exec(`ALTER TABLE loans DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY (copy); UPDATE loans SET id = 1; ` +
				`INSERT INTO loans VALUES (1, 'C3')`)
			f.catchUp() // the log tells it, or the catalogue of the next run
			f.catchUp()
			require.ErrorContains(t, f.held("public.loans"), "The key of")
			require.NoError(t, engine.CopyAgain(context.Background(), b.feed, []string{"public.loans"}, b.source,
				b.warehouse))
			f.catchUp()
			require.NoError(t, f.held("public.loans"))
			proof, err := engine.Prove(context.Background(),
				engine.Work{Feed: b.feed, Table: b.feed.Tables[0], Source: b.source, Warehouse: b.warehouse})
			require.NoError(t, err)
			require.True(t, proof.Same, "%s: %+v", keep, proof)
			b.exec(`DELETE FROM loans WHERE copy = 'C3'; UPDATE loans SET id = CASE copy WHEN 'C1' THEN 1 ELSE 2 ` +
				`END; ALTER TABLE loans DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY (id)`)
		}
	})
}

// A table that cannot be followed any more waits alone; when what was in the way is gone it
// is copied again and joins the others by itself.
func TestAHeldTableCatchesUpAndJoins(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY); INSERT INTO loans VALUES (1); CREATE TABLE holds (id int ` +
			`PRIMARY KEY)`)
		f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepHistory, Target: "kept.loans"},
			feed.Table{Table: "public.holds", Keep: feed.KeepLatest, Target: "kept.holds"})
		f.catchUp()
		b.exec(`ALTER TABLE loans RENAME TO lent`)
		for i := range 3 {
			b.exec(fmt.Sprintf("INSERT INTO holds VALUES (%d); INSERT INTO lent VALUES (%d)", i, i+10))
			require.EqualValues(t, 1, f.catchUp()["public.holds"].Inserted)
			require.ErrorContains(t, f.held("public.loans"), "does not exist")
		}
		b.exec(`ALTER TABLE lent RENAME TO loans; DELETE FROM loans WHERE id = 1`)
		f.catchUp()
		require.NoError(t, f.held("public.loans"))
		require.Equal(t, []string{"1 | false", "10 | true", "11 | true", "12 | true"},
			f.see(`SELECT id, nm_current FROM kept.loans ORDER BY id`))
		b.exec(`INSERT INTO loans VALUES (20)`)
		require.EqualValues(t, 1, f.catchUp()["public.loans"].Inserted)
	})
}

// A run that is to end does so while a copy waits for somebody's transaction; the next one copies.
func TestARunEndsWhileACopyWaits(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY); CREATE TABLE holds (id int PRIMARY KEY)`)
		f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
		f.catchUp()
		conn := testkit.Connect(t, testkit.Postgres(t).URL(b.settings.Database))
		tx, err := conn.Begin(t.Context())
		require.NoError(t, err)
		_, err = tx.Exec(t.Context(), `INSERT INTO holds VALUES (1)`)
		require.NoError(t, err)
		f.feed.Tables = append(f.feed.Tables,
			feed.Table{Table: "public.holds", Keep: feed.KeepLatest, Target: "kept.holds"})
		w := f.work()
		until := make(chan struct{})
		w.Until = until
		var once sync.Once
		w.Report = func(r engine.LogReport) {
			if slices.ContainsFunc(r.Tables, func(x engine.TableReport) bool {
				return strings.Contains(x.Waiting, "transaction")
			}) {
				once.Do(func() { close(until) })
			}
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		_, err = f.engine.Follow(ctx, w)
		require.NoError(t, err)
		require.NoError(t, tx.Commit(t.Context()))
		require.EqualValues(t, 1, f.catchUp()["public.holds"].Inserted)
	})
}

// A server may read much of its log again before it comes to where a feed stands. A run that is to end comes on first:
// else a feed whose runs are short would never do.
func TestARunComesOnBeforeItEnds(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY)`)
		f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
		f.catchUp()
		b.exec(`INSERT INTO loans VALUES (1)`)
		slow := staged{Source: b.source.(*pgsource.Source), reads: make(chan struct{})}
		time.AfterFunc(time.Second, func() { close(slow.reads) })
		ended := make(chan struct{})
		close(ended)
		w := f.work()
		w.Source, w.Until = slow, ended
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		_, err := f.engine.Follow(ctx, w)
		require.NoError(t, err)
		require.Equal(t, []string{"1"}, f.see("SELECT id FROM kept.loans ORDER BY id"))
	})
}

// Kinds of change that a table does not take are counted, and left alone.
func TestAFeedMayIgnoreDeletes(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, secret text, copy text); INSERT INTO loans VALUES (1, 's', ` +
			`'C1'), (2, 's', 'C2')`)
		f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans",
			Changes: []string{"insert", "update"}, Drop: []string{"secret"}})
		f.catchUp()
		b.exec(`DELETE FROM loans WHERE id = 1; UPDATE loans SET id = 3 WHERE id = 2; TRUNCATE loans; INSERT INTO ` +
			`loans VALUES (4, 's', 'C4')`)
		require.Equal(t, rows.Books{Read: 5, Filtered: 2, Inserted: 2, Deleted: 1}, f.catchUp()["public.loans"])
		require.Equal(t, []string{"1 | C1", "3 | C2", "4 | C4"}, f.see(`SELECT id, copy FROM kept.loans ORDER BY id`))
		require.NotContains(t, f.see(`SELECT column_name FROM information_schema.columns WHERE table_name = 'loans'`),
			"secret")
	})
}

// What the log cannot bring in as it is, is set aside with its reason, and heals.
func TestChangesThatCannotBeStoredAreSetAside(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE fines (id int PRIMARY KEY, amount numeric(6,2)); INSERT INTO fines VALUES (1, 1), (2, 'NaN')`)
		f := newFollower(t, b, feed.Table{Table: "public.fines", Keep: feed.KeepLatest, Target: "kept.fines"})
		require.Equal(t, rows.Books{Read: 2, SetAside: 1, Inserted: 1}, f.catchUp()["public.fines"])
		b.exec(`INSERT INTO fines VALUES (3, 'NaN'); UPDATE fines SET amount = 2 WHERE id = 2`)
		require.Equal(t, rows.Books{Read: 2, SetAside: 1, Inserted: 1}, f.catchUp()["public.fines"])
		require.Equal(t, []string{`["3"]`}, f.see(`SELECT key FROM noemata.set_aside`))
		b.exec(`UPDATE fines SET amount = 3 WHERE id = 3`)
		f.catchUp()
		require.Empty(t, f.see(`SELECT key FROM noemata.set_aside`))
		require.Equal(t, []string{"1 | 1", "2 | 2", "3 | 3"},
			f.see(`SELECT id, CAST(amount AS INTEGER) FROM kept.fines ORDER BY id`))
	})
}

// A history is as it was at any moment, by the function beside it.
func TestAsOf(t *testing.T) {
	onDatabases(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE patrons (id int PRIMARY KEY, branch text); INSERT INTO patrons VALUES (1, 'Grünau')`)
		f := newFollower(t, b, feed.Table{Table: "public.patrons", Keep: feed.KeepHistory, Target: "kept.patrons"})
		f.catchUp()
		time.Sleep(5 * time.Millisecond)
		before := time.Now()
		time.Sleep(5 * time.Millisecond)
		b.exec(`UPDATE patrons SET branch = 'Dornheim'; INSERT INTO patrons VALUES (2, 'Fernmoor')`)
		f.catchUp()
		at := func(moment time.Time) []string {
			return f.see(fmt.Sprintf(`SELECT id, branch FROM kept.patrons_as_of(%s::timestamptz) ORDER BY id`,
				schema.Literal(moment.UTC().Format("2006-01-02T15:04:05.000000Z"))))
		}
		require.Equal(t, []string{"1 | Grünau"}, at(before))
		require.Equal(t, []string{"1 | Dornheim", "2 | Fernmoor"}, at(time.Now()))
		require.Empty(t, at(before.Add(-time.Hour)))
		_, versions, err := engine.Versions(context.Background(),
			engine.Work{Feed: b.feed, Table: b.feed.Tables[0], Source: b.source, Warehouse: b.warehouse}, []string{"1"})
		require.NoError(t, err)
		require.Len(t, versions, 2)
		require.Equal(t, []string{"branch"}, versions[1].Changed)
	})
}

// Deletes that a watermark cannot show are found by comparing keys, in every keep.
func TestSweepFindsDeletes(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE patrons (id int PRIMARY KEY, name text, updated_at timestamptz NOT NULL DEFAULT ` +
			`'2026-01-01Z'); INSERT INTO patrons VALUES (1, 'Aelis'), (2, 'Kael'), (3, 'Rúna')`)
		for _, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory} {
			table := feed.Table{Table: "public.patrons", Find: feed.FindWatermark, Keep: keep, Target: "kept.patrons_" +
				strings.ReplaceAll(string(keep), "-",
					"_"), Sweep: "1ms", Watermark: &feed.Watermark{Column: "updated_at", Settle: "1ms"}}
			testkit.SQL(t, b.warehouse, "CREATE SCHEMA IF NOT EXISTS kept")
			b.feed.Name = "sweep-" + string(keep)
			b.exec(`DELETE FROM patrons WHERE id = 4; INSERT INTO patrons VALUES (4, 'Vesna')`)
			require.Equal(t, rows.Books{Read: 4, Inserted: 4}, b.bring(table).Books, keep)
			b.exec(`DELETE FROM patrons WHERE id = 4`)
			time.Sleep(5 * time.Millisecond)
			require.Equal(t, rows.Books{Read: 1, Deleted: 1}, b.bring(table).Books, keep)
			time.Sleep(5 * time.Millisecond)
			require.Equal(t, rows.Books{}, b.bring(table).Books, keep)
			b.equal(table, 3)
		}
		f := &follower{workbench: b}
		require.Equal(t, []string{"3"}, f.see(`SELECT count(*) FROM kept.patrons_latest`))
		require.Equal(t, []string{"1 | false", "2 | false", "3 | false", "4 | true"},
			f.see(`SELECT id, nm_deleted_at IS NOT NULL FROM kept.patrons_soft_delete ORDER BY id`))
		require.Equal(t, []string{"1 | true", "2 | true", "3 | true", "4 | false"},
			f.see(`SELECT id, nm_current FROM kept.patrons_history ORDER BY id`))
		// A row that changes while its watermark stays begins a version after the last one.
		b.exec(`UPDATE patrons SET name = 'Rúna Nightjar', updated_at = '2026-01-02Z' WHERE id = 3`)
		b.bring(feed.Table{Table: "public.patrons", Find: feed.FindWatermark, Keep: feed.KeepHistory,
			Target: "kept.patrons_history", Watermark: &feed.Watermark{Column: "updated_at", Settle: "1ms"}})
		require.Equal(t, []string{"Rúna | false", "Rúna Nightjar | true"},
			f.see(`SELECT name, nm_current FROM kept.patrons_history WHERE id = 3 ORDER BY nm_from`))
	})
}

// Of first runs of a feed that begin at once one makes the slot, and none is left that nobody
// knows: not by the others, and not after the feed is removed.
func TestFirstRunsAtOnceLeaveOneSlot(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY); INSERT INTO loans SELECT generate_series(1, 1000)`)
		newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
		slots := func() (names []string) {
			t.Helper()
			require.NoError(t, b.conn.QueryRow(t.Context(),
				`SELECT coalesce(array_agg(slot_name::text), '{}') FROM pg_replication_slots WHERE database = `+
					`current_database()`).Scan(&names))
			return names
		}
		for round := range 3 {
			errs := make(chan error, 4)
			for range cap(errs) {
				b.run++
				run := b.run
				go func() {
					ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
					defer cancel()
					_, err := engine.New().Follow(ctx,
						engine.LogWork{Feed: b.feed, Run: run, Source: b.source, Warehouse: b.warehouse})
					errs <- err
				}()
			}
			won := 0
			for range cap(errs) {
				err := <-errs
				if err == nil {
					won++
				} else {
					require.True(t, problem.Is(err, problem.Overtaken), "%v", err)
				}
			}
			require.Positive(t, won)
			f := &follower{workbench: b}
			f.catchUp()
			require.Equal(t, slots(), f.see(`SELECT name FROM noemata.logs`), "round %d", round)
			require.Equal(t, []string{"1000"}, f.see(`SELECT count(*) FROM kept.loans`))
			require.NoError(t, engine.DropLog(context.Background(), b.feed, b.source, b.warehouse))
			require.Empty(t, slots())
		}
	})
}

// A run that begins while the connection of the one before still has the slot waits for it.
func TestASlotThatIsStillInUseIsWaitedFor(t *testing.T) {
	b := newWorkbench(t, "postgresql")
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY); INSERT INTO loans VALUES (1)`)
	f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
	f.catchUp()
	table, err := b.source.Table(context.Background(), schema.Name{Schema: "public", Table: "loans"})
	require.NoError(t, err)
	other, err := b.source.(source.Log).Follow(context.Background(),
		source.Follow{Name: f.see(`SELECT name FROM noemata.logs`)[0],
			From: f.see(`SELECT position FROM noemata.positions`)[0], MaxBytes: 1 << 20,
			Tables: []source.Followed{{Table: table, Key: table.Key}}})
	require.NoError(t, err)
	time.AfterFunc(time.Second, other.Close)
	b.exec(`INSERT INTO loans VALUES (2)`)
	require.EqualValues(t, 1, f.catchUp()["public.loans"].Inserted)
}

// A keep that is changed takes the table along, as far as it can.
func TestAKeepThatIsChangedTakesTheTableAlong(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE holds (id int PRIMARY KEY, state text); INSERT INTO holds VALUES (1, 'placed'), (2, ` +
			`'placed')`)
		table := feed.Table{Table: "public.holds", Keep: feed.KeepLatest, Target: "kept.holds"}
		var f *follower
		for i, keep := range []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory, feed.KeepSoftDelete,
			feed.KeepLatest, feed.KeepHistory, feed.KeepLatest} {
			table.Keep = keep
			f = newFollower(t, b, table)
			f.catchUp()
			b.exec(fmt.Sprintf(`UPDATE holds SET state = 'round %d' WHERE id = 1; DELETE FROM holds WHERE id = 2; `+
				`INSERT INTO holds VALUES (2, 'again %[1]d')`, i))
			f.catchUp()
			proof, err := engine.Prove(context.Background(),
				engine.Work{Feed: b.feed, Table: f.feed.Tables[0], Source: b.source, Warehouse: b.warehouse})
			require.NoError(t, err)
			require.True(t, proof.Same, "%s: %+v", keep, proof)
		}
		table.Keep = feed.KeepLedger
		f = newFollower(t, b, table)
		_, err := f.engine.Follow(context.Background(), f.work())
		require.True(t, problem.Is(err, problem.Held), "%v", err)
		require.ErrorContains(t, err, "was kept as latest")
	})
}

// Prepared transactions come when they are committed, rows that move between partitions
// stay one row, and a truncate that cascades empties all it reaches.
func TestPreparedPartitionedAndCascading(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE visits (branch text, day date, people int, PRIMARY KEY (branch, day)) PARTITION BY LIST (branch);
CREATE TABLE visits_a PARTITION OF visits FOR VALUES IN ('Altwasser'); CREATE TABLE visits_rest PARTITION OF visits DEFAULT;
CREATE TABLE loans (id int PRIMARY KEY); CREATE TABLE fines (id int PRIMARY KEY, loan int REFERENCES loans);
INSERT INTO visits VALUES ('Altwasser', '2026-01-01', 5), ('Dornheim', '2026-01-01', 6); INSERT INTO loans VALUES (1), (2); INSERT INTO fines VALUES (1, 1)`)
		f := newFollower(t, b, feed.Table{Table: "public.visits", Keep: feed.KeepHistory, Target: "kept.visits"},
			feed.Table{Table: "public.loans", Keep: feed.KeepSoftDelete, Target: "kept.loans"},
			feed.Table{Table: "public.fines", Keep: feed.KeepLatest, Target: "kept.fines"})
		f.catchUp()
		gid := strings.ReplaceAll(b.settings.Database, "'", "")
		b.exec(`BEGIN; INSERT INTO loans VALUES (3); UPDATE visits SET people = 7 WHERE branch = 'Dornheim'; ` +
			`PREPARE TRANSACTION '` + gid + `'`)
		b.exec(`UPDATE visits SET branch = 'Fernmoor' WHERE branch = 'Altwasser'`)
		f.catchUp()
		require.Equal(t, []string{"1", "2"}, f.see(`SELECT id FROM kept.loans ORDER BY id`),
			"what is prepared has not happened yet")
		b.exec(`COMMIT PREPARED '` + gid + `'`)
		f.catchUp()
		require.Equal(t, []string{"1", "2", "3"}, f.see(`SELECT id FROM kept.loans ORDER BY id`))
		require.Equal(t, []string{"Altwasser | 5 | false", "Dornheim | 6 | false", "Dornheim | 7 | true",
			"Fernmoor | 5 | true"}, f.see(`SELECT branch, people, nm_current FROM kept.visits ORDER BY branch, nm_from`))
		b.exec(`TRUNCATE loans CASCADE`)
		f.catchUp()
		require.Equal(t, []string{"0"}, f.see(`SELECT count(*) FROM kept.fines`))
		require.Equal(t, []string{"3"}, f.see(`SELECT count(*) FROM kept.loans WHERE nm_deleted_at IS NOT NULL`))
	})
}

// A server has places for so many slots. Whether one is free is asked before one is made, and
// how many there can be is said, with what gives more.
func TestFreeSlotsAreAskedFor(t *testing.T) {
	settings := testkit.Settings()
	settings["max_replication_slots"] = "1"
	server, err := pgserver.Start(context.Background(),
		pgserver.Options{Dir: filepath.Join(testkit.Dir(t), "own"), Settings: settings})
	require.NoError(t, err)
	t.Cleanup(func() { _ = server.Stop() })
	require.NoError(t, server.CreateDatabase(context.Background(), "circulation"))
	b := &workbench{t: t, conn: testkit.Connect(t, server.URL("circulation")), settings: server.Settings("circulation"),
		engine: engine.New()}
	b.source, err = pgsource.Open(b.settings, `source "circulation"`)
	require.NoError(t, err)
	t.Cleanup(b.source.Close)
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY); INSERT INTO loans VALUES (1)`)
	follower := func(name string) *follower {
		own := *b
		own.feed, own.warehouse = &feed.Feed{Name: name, Source: "circulation", Warehouse: "lake"}, openWarehouse(t,
			duckdb.Kind)
		return newFollower(t, &own, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
	}
	first, second := follower("first"), follower("second")
	first.catchUp()
	for range 2 {
		var made []string
		_, err = second.engine.Follow(statement.With(context.Background(),
			func(s statement.Statement) { made = append(made, s.SQL) }), second.work())
		require.True(t, problem.Is(err, problem.Held), "%v", err)
		require.ErrorContains(t, err, "All replication slots of source \"circulation\" are taken (1)")
		require.ErrorContains(t, err, "ALTER SYSTEM SET max_replication_slots = 11;")
		require.NotContains(t, strings.Join(made, "\n"), "pg_create_logical_replication_slot")
	}
	findings, err := b.source.(source.Log).BehindFindings(t.Context(), time.Hour)
	require.NoError(t, err)
	require.Len(t, findings, 1)
	require.Equal(t, "The feed takes two replication slots, and 1 of the server's 1 are taken.", findings[0].What)
	b.exec(`INSERT INTO loans VALUES (2)`)
	require.EqualValues(t, 1, first.catchUp()["public.loans"].Inserted, "the one that has its place goes on")
	require.NoError(t, engine.DropLog(context.Background(), first.feed, first.source, first.warehouse))
	require.EqualValues(t, 2, second.catchUp()["public.loans"].Inserted, "and the other begins when a place is free")
}

// The slot that stays behind is moved on at its distance, serves where the log is to be read again, and is dropped
// where
// the feed wants it no more; where slots are short, a check says so.
func TestASlotStaysBehind(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	b.exec(`CREATE TABLE loans (id int PRIMARY KEY)`)
	f := newFollower(t, b, feed.Table{Table: "public.loans", Keep: feed.KeepLatest, Target: "kept.loans"})
	f.feed.Retain = &feed.Retain{Behind: "10m"}
	f.catchUp()
	log := b.source.(source.Log)
	known, _, err := b.warehouse.Journal().Log(t.Context(), f.feed.Name)
	require.NoError(t, err)
	table, err := b.source.Table(t.Context(), schema.Name{Schema: "public", Table: "loans"})
	require.NoError(t, err)
	stands := func() string {
		at, err := b.warehouse.Journal().Checkpoint(t.Context(), f.feed.Name, "")
		require.NoError(t, err)
		return at.Position.Value
	}
	prepare := func(behind bool, since string) source.LogState {
		t.Helper()
		_, err := log.PrepareLog(t.Context(), source.Prepared{Name: known.Name, Begun: stands(), Behind: behind, Since: since,
			Tables: []source.Followed{{Table: table, Key: table.Key, Whole: true, Since: stands()}}})
		require.NoError(t, err)
		state, err := log.LogState(t.Context(), known.Name, stands())
		require.NoError(t, err)
		return state
	}
	first := stands()
	kept := prepare(true, "").Oldest
	require.LessOrEqual(t, kept, first)
	b.exec(`INSERT INTO loans VALUES (1)`)
	f.catchUp()
	between := stands()
	b.exec(`INSERT INTO loans VALUES (2)`)
	f.catchUp()
	require.Greater(t, stands(), between)
	require.Equal(t, kept, prepare(true, "").Oldest, "it stays")
	moved := prepare(true, between)
	require.Greater(t, moved.Oldest, kept, "it is moved on")
	require.LessOrEqual(t, moved.Oldest, between)
	require.Equal(t, moved.Oldest, prepare(true, kept).Oldest, "and never back")

	b.exec(`DELETE FROM loans WHERE id = 1`)
	b.exec(`SELECT pg_drop_replication_slot($1)`, known.Name)
	require.EqualValues(t, 1, f.catchUp()["public.loans"].Deleted, "a slot that somebody dropped is made of it")

	state := prepare(false, "")
	require.Equal(t, state.Confirms, state.Oldest, "no other one is there")
	findings, err := log.BehindFindings(t.Context(), time.Hour)
	require.NoError(t, err)
	require.Empty(t, findings)
}
