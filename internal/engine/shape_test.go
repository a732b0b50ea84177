package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/engine"
	"noemata/internal/statement"
	"noemata/internal/testkit"
)

// hashKey is the key that columns are hashed with in these tests.
const hashKey = "a key of the tests, 32 bytes long"

func testKeys(string) ([]byte, error) { return []byte(hashKey), nil }

// payments are tables that a feed shapes, one for each of its ways to keep rows, all with the
// same rows, and what the feed makes of them.
type payments struct {
	*workbench
	names  []string
	r      *rand.Rand
	did    []string // to the source, lately
	drifts int      // that changed the structure whatever it was
}

func newPayments(b *workbench, names ...string) *payments {
	b.exec("CREATE EXTENSION IF NOT EXISTS pgcrypto")
	b.exec("CREATE SEQUENCE payment")
	p := &payments{workbench: b, names: names, r: rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))}
	for _, name := range names {
		b.exec(`CREATE TABLE ` + name + ` (id bigint PRIMARY KEY, kind text, amount numeric(8,2), card text, email text,
			phone text, born date, doc jsonb, reader integer, updated_at timestamptz NOT NULL DEFAULT clock_timestamp())`)
	}
	return p
}

// shaped is a table with everything that a shape can do.
func shaped(t feed.Table) feed.Table {
	no := false
	t.Where = `kind == "card" && amount > 1.5`
	t.Columns = map[string]feed.Treatment{
		"card": {Drop: true}, "email": {Hash: "people"}, "phone": {Mask: feed.MaskKeepLast, Count: 3},
		"born": {Mask: feed.MaskYear}, "reader": {Hash: "people"}, "kind": {Name: "payment_kind"},
		"amount": {Type: "decimal(12,4)"},
		"doc": {Take: map[string]feed.Path{"city": {Path: "$.city"}, "floor": {Path: "$.floor", Type: "int32"}},
			Keep: &no},
	}
	t.Computed = map[string]feed.Computed{"doubled": {Value: "amount * 2", Type: "decimal(12,2)"},
		"region": {Value: "'north'"}}
	return t
}

// must is what the feed makes of a table, as the source itself computes it.
func (p *payments) must(name string) []string {
	found, err := p.conn.Query(context.Background(), `SELECT id, kind, amount::numeric(12,4)::text,
		encode(hmac(convert_to('t:' || email, 'UTF8'), $1, 'sha256'), 'hex'),
		CASE WHEN length(phone) > 3 THEN '***' || right(phone, 3) ELSE '***' || left(phone, 0) END,
		date_trunc('year', born)::date::text, doc ->> 'city', (doc ->> 'floor')::int,
		encode(hmac(convert_to('n:' || reader, 'UTF8'), $1, 'sha256'), 'hex'), (amount * 2)::numeric(12,2)::text, 'north'
		FROM `+name+` WHERE kind = 'card' AND amount > 1.5 ORDER BY id`, []byte(hashKey))
	require.NoError(p.t, err)
	var list []string
	for found.Next() {
		values, err := found.Values()
		require.NoError(p.t, err)
		list = append(list, fmt.Sprint(values...))
	}
	require.NoError(p.t, found.Err())
	return list
}

// has is what the warehouse has of a table: the rows that hold.
func (p *payments) has(target, holds string) []string {
	var list []string
	for _, row := range testkit.SQL(p.t, p.warehouse, `SELECT id, payment_kind, CAST(amount AS VARCHAR), email, phone,
		CAST(born AS VARCHAR), city, floor, reader, CAST(doubled AS VARCHAR), region FROM `+target+" WHERE "+holds+
		" ORDER BY id") {
		list = append(list, fmt.Sprint(row...))
	}
	return list
}

// values are those of a row, at random: some that the filter leaves out, and nulls.
func (p *payments) values() string {
	r := p.r
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	amount := fmt.Sprintf("%d.%02d", r.IntN(4), r.IntN(100))
	return fmt.Sprintf("%s, %s, 'SECRETCARD%d', %s, %s, %s, %s, %s",
		pick("'card'", "'card'", "'card'", "'cash'", "null"),
		pick(amount, amount, "1.50", "1.51", "null"), r.IntN(1e9),
		pick(fmt.Sprintf("'SECRETMAIL%d@example.org'", r.IntN(20)), "null", "''"),
		pick("'SECRETPHONE017'", "'12'", "null", "'Grünau'"), pick("'1984-05-06'", "'2000-02-29'", "null"),
		pick(`'{"city":"Grünau","floor":3}'`, `'{"city":null}'`, `'{"floor":"7"}'`, "null",
			`'{"private":"SECRETDOC"}'`),
		pick(fmt.Sprint(r.IntN(50)), "null"))
}

const columnsOfPayments = "(kind, amount, card, email, phone, born, doc, reader)"

// change changes the tables, all in the same way, in one transaction.
func (p *payments) change(deletes bool) {
	var statements []string
	for range 1 + p.r.IntN(6) {
		id := 1 + p.r.IntN(60)
		switch n := p.r.IntN(10); {
		case n < 4:
			statements = append(statements,
				fmt.Sprintf("INSERT INTO TABLE_ (id, kind, amount, card, email, phone, born, "+
					"doc, reader) VALUES (%d, %s) ON CONFLICT (id) DO NOTHING", id, p.values()))
		case n < 8 || !deletes:
			statements = append(statements, fmt.Sprintf("UPDATE TABLE_ SET %s = (%s), updated_at = clock_timestamp() "+
				"WHERE id = %d", columnsOfPayments, p.values(), id))
		case n < 9:
			statements = append(statements, fmt.Sprintf("DELETE FROM TABLE_ WHERE id = %d", id))
		default:
			statements = append(statements,
				fmt.Sprintf("UPDATE TABLE_ SET id = id + 100, updated_at = clock_timestamp() "+
					"WHERE id = %d AND NOT EXISTS (SELECT 1 FROM TABLE_ AS o WHERE o.id = %[1]d + 100)", id))
		}
	}
	p.note("change: " + strings.Join(statements, "; "))
	p.exec("BEGIN")
	for _, name := range p.names {
		for _, sql := range statements {
			p.exec(strings.ReplaceAll(sql, "TABLE_", name))
		}
	}
	p.exec("COMMIT")
}

func (p *payments) note(what string) { p.did = append(p.did[max(0, len(p.did)-60):], what) }

// same makes sure that a target has what the feed makes of a table, and tells what came before if not.
func (p *payments) same(f *follower, name, holds string) {
	want, got := p.must(name), p.has("kept."+name, holds)
	if slices.Equal(want, got) {
		return
	}
	for _, did := range p.did {
		p.t.Log(did)
	}
	for _, x := range f.see("SELECT * FROM noemata.drifts ORDER BY 1 DESC LIMIT 12") {
		p.t.Log(x)
	}
	require.Equal(p.t, want, got, name)
}

// drift changes the structure of all tables in one of the ways that a feed can follow.
func (p *payments) drift(n int) {
	kind := p.r.IntN(6)
	way := []string{
		"ALTER TABLE TABLE_ ADD COLUMN extra_NEW_ integer DEFAULT 7",
		"ALTER TABLE TABLE_ ADD COLUMN extra_NEW_ text NOT NULL DEFAULT gen_random_uuid()::text",
		"ALTER TABLE TABLE_ DROP COLUMN IF EXISTS extra_OLD_ CASCADE", // what is published is dropped by nothing less
		"DO $$ BEGIN ALTER TABLE TABLE_ RENAME COLUMN extra_OLD_ TO other_NEW_; EXCEPTION WHEN undefined_column THEN " +
			"NULL; END $$",
		"DO $$ BEGIN ALTER TABLE TABLE_ ALTER COLUMN extra_OLD_ TYPE text; EXCEPTION WHEN undefined_column OR " +
			"feature_not_supported THEN NULL; END $$",
		"CREATE TABLE fresh (LIKE TABLE_ INCLUDING ALL); INSERT INTO fresh SELECT * FROM TABLE_ WHERE id % 7 > 0; " +
			"DROP TABLE TABLE_; ALTER TABLE fresh RENAME TO TABLE_",
	}[kind]
	if n%40 != 0 && (kind < 2 || kind == 5) {
		p.drifts++
	}
	if n%40 == 0 { // rows that grow long are stored in pieces, of which the log leaves out what did not change
		way = `DO $$ DECLARE c record; BEGIN FOR c IN SELECT attname FROM pg_attribute WHERE attrelid = 'TABLE_'::regclass AND
			attname ~ '^(extra|other)' AND NOT attisdropped LOOP
			EXECUTE 'ALTER TABLE TABLE_ DROP COLUMN ' || c.attname || ' CASCADE'; END LOOP; END $$`
	}
	p.note(fmt.Sprintf("drift %d: %s", n, way))
	old := max(1, n-1-p.r.IntN(3))
	for _, name := range p.names {
		p.exec(strings.NewReplacer("TABLE_", name, "NEW_", fmt.Sprint(n), "OLD_", fmt.Sprint(old)).Replace(way))
	}
}

// hidden makes sure that nothing private is in the clear anywhere in the warehouse.
func (p *payments) hidden() {
	for _, table := range testkit.SQL(p.t, p.warehouse,
		"SELECT table_schema, table_name FROM information_schema.tables "+
			"WHERE table_schema IN ('kept', 'noemata')") {
		name := fmt.Sprintf("%v.%q", table[0], fmt.Sprint(table[1]))
		found := testkit.SQL(p.t, p.warehouse, "SELECT count(*) FROM "+name+
			" AS t WHERE CAST(t AS VARCHAR) LIKE '%SECRET%'")
		require.EqualValues(p.t, 0, found[0][0], "%s has a private value in the clear", name)
	}
}

func TestAShapedFeedFollowsTheLog(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		keeps := map[string]feed.Keep{"p_latest": feed.KeepLatest, "p_soft": feed.KeepSoftDelete,
			"p_history": feed.KeepHistory, "p_ledger": feed.KeepLedger}
		holds := map[string]string{"p_latest": "true", "p_soft": "nm_deleted_at IS NULL", "p_history": "nm_current"}
		p := newPayments(b, "p_latest", "p_soft", "p_history", "p_ledger")
		for range 30 {
			p.change(true)
		}
		var tables []feed.Table
		for name, keep := range keeps {
			tables = append(tables, shaped(feed.Table{Table: "public." + name, Keep: keep, Target: "kept." + name,
				Drift: &feed.Drift{Columns: drift.Follow, Types: drift.Follow, Tables: drift.Follow}}))
		}
		f := newFollower(t, b, tables...)
		length := 8 * time.Second
		if testing.Short() {
			length /= 4
		}
		if long := os.Getenv("NOEMATA_TORTURE"); long != "" {
			var err error
			length, err = time.ParseDuration(long)
			require.NoError(t, err)
		}
		var read, filtered int64
		changes := 0
		for round, ends := 0, time.Now().Add(length); round < 3 || time.Now().Before(ends); round++ {
			books := f.catchUp()
			p.note(fmt.Sprintf("round %d: %+v", round, books))
			for name, books := range books {
				read, filtered = read+books.Read, filtered+books.Filtered
				require.True(t, books.Balanced(), name)
			}
			for name, where := range holds {
				p.same(f, name, where)
			}
			for _, table := range tables {
				if table.Keep == feed.KeepLedger {
					continue
				}
				w := engine.Work{Feed: f.feed, Table: table, Source: f.source, Warehouse: f.warehouse, Keys: testKeys}
				proof, err := engine.Prove(context.Background(), w)
				require.NoError(t, err)
				require.True(t, proof.Same, "%s: %+v", table.Table, proof)
				inSource, inWarehouse, size, err := engine.Counts(context.Background(), w)
				require.NoError(t, err)
				require.NotZero(t, size)
				require.Equal(t, inSource, inWarehouse, table.Table)
			}
			for range 5 + p.r.IntN(10) {
				p.change(true)
			}
			if round%3 == 1 { // which the feed follows
				changes++
				p.drift(changes)
				p.change(true)
			}
		}
		drifts, err := f.warehouse.Journal().Drifts(context.Background(), f.feed.Name, 100)
		require.NoError(t, err)
		require.GreaterOrEqual(t, len(drifts), min(100, (p.drifts-1)*len(p.names)), "the last may still be to come")
		require.NotEmpty(t, p.must("p_latest"))
		require.Positive(t, filtered)
		require.Greater(t, read, filtered)
		p.hidden()
	})
}

func TestAShapedFeedByWatermark(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		p := newPayments(b, "p_latest", "p_soft", "p_history", "p_whole", "p_replace", "p_compare")
		tables := map[string]feed.Table{}
		holds := map[string]string{"p_latest": "true", "p_soft": "nm_deleted_at IS NULL", "p_history": "nm_current",
			"p_whole": "true", "p_replace": "true", "p_compare": "nm_deleted_at IS NULL"}
		for name, keep := range map[string]feed.Keep{"p_latest": feed.KeepLatest, "p_soft": feed.KeepSoftDelete,
			"p_history": feed.KeepHistory, "p_whole": feed.KeepLatest, "p_replace": feed.KeepReplace,
			"p_compare": feed.KeepSoftDelete} {
			table := shaped(feed.Table{Table: "public." + name, Keep: keep, Target: "kept." + name,
				Find: feed.FindWhole})
			switch name {
			case "p_whole", "p_replace":
			case "p_compare":
				table.Find, table.PageRows = feed.FindCompare, 7
			default:
				table.Find, table.Watermark = feed.FindWatermark, &feed.Watermark{Column: "updated_at", Settle: "0s"}
				table.Columns["updated_at"] = feed.Treatment{Drop: true}
			}
			tables[name] = table
		}
		for range 30 {
			p.change(false)
		}
		var filtered int64
		for round := range 6 {
			for name, table := range tables {
				if round%3 == 2 && table.Find == feed.FindWatermark && table.Sweep == "" {
					table.Sweep = "1ns"
				}
				var books rows.Books
				for range 2 { // the first reads up to the clock, the second what came in its last instant
					out, err := b.engine.Run(context.Background(), b.work(table))
					require.NoError(t, err, name)
					require.True(t, out.Books.Balanced(), "%s %+v", name, out.Books)
					books = books.Add(out.Books)
				}
				if round > 0 && table.Find == feed.FindWatermark {
					filtered += books.Filtered
				}
				require.Equal(t, p.must(name), p.has("kept."+name, holds[name]), "%s in round %d: %+v", name, round,
					books)
				proof, err := engine.Prove(context.Background(), b.work(table))
				require.NoError(t, err)
				require.True(t, proof.Same, "%s: %+v", name, proof)
			}
			for range 10 { // deletes show by a sweep only: the round after has one
				p.change(round%3 == 1)
			}
		}
		found := testkit.SQL(t, b.warehouse, "SELECT found FROM noemata.comparisons")
		require.Len(t, found, 1)
		require.NotRegexp(t, `"tag":"\d+ `, found[0][0], "a bare digest of few rows would let values be guessed")
		require.NotEmpty(t, p.must("p_latest"))
		require.Positive(t, filtered, "rows that were never there are not deleted, nor unchanged")
		p.hidden()
	})
}

// A table whose shape was changed is not mixed: rows that came in before have another one.
func TestAChangedShapeIsNotMixed(t *testing.T) {
	b := newWorkbench(t, "duckdb")
	table := b.patrons(10)
	b.bring(table)
	table.Columns = map[string]feed.Treatment{"name": {Hash: "people"}}
	w := b.work(table)
	_, err := b.engine.Run(context.Background(), w)
	require.True(t, problem.Is(err, problem.Held), "%v", err)
	require.ErrorContains(t, err, "What the feed makes of the rows of")
	require.NoError(t, b.warehouse.Journal().SetPosition(context.Background(), "circulation", table.Table, nil))
	out, err := b.engine.Run(context.Background(), w)
	require.NoError(t, err)
	require.EqualValues(t, 10, out.Books.Updated, "%+v", out.Books)
	names := testkit.SQL(t, b.warehouse, "SELECT count(*) FROM public.patrons WHERE name LIKE 'patron%'")
	require.EqualValues(t, 0, names[0][0])
}

// A person who gives a column another type has the target follow, whatever the policy is for what the source's owners
// do; what those do is held all the same.
func TestAChangedTypeIsFollowed(t *testing.T) {
	raceless(t)
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE fines (id int PRIMARY KEY, fee numeric(8,2), doc text); CREATE TABLE others (id int PRIMARY KEY);
			INSERT INTO fines SELECT i, i, i FROM generate_series(1, 50) i`)
		typed := func(fee, doc string) map[string]feed.Treatment {
			return map[string]feed.Treatment{"fee": {Type: fee}, "doc": {Type: doc}}
		}
		f := newFollower(t, b, feed.Table{Table: "public.fines", Keep: feed.KeepHistory, Target: "kept.log"})
		f.catchUp()
		f.feed.Tables[0].Columns = typed("text", "int32")
		f.feed.Tables[0].Computed = map[string]feed.Computed{"twice": {Value: "fee * 2"}}
		require.EqualValues(t, 50, f.catchUp()["public.fines"].Read, "it is copied again")
		require.Equal(t, []string{"7.00 | 7 | 14"}, f.see("SELECT fee, doc, CAST(twice AS VARCHAR) FROM kept.log WHERE id = 7 AND nm_current"))
		proof, err := engine.Prove(t.Context(), engine.Work{Feed: f.feed, Table: f.feed.Tables[0], Source: f.source,
			Warehouse: f.warehouse, Keys: testKeys})
		require.NoError(t, err)
		require.True(t, proof.Same)
		require.EqualValues(t, 50, proof.Equal)

		log := f.feed.Tables[0]
		for _, find := range []feed.Find{feed.FindWhole, feed.FindCompare} {
			table := feed.Table{Table: "public.fines", Find: find, Keep: feed.KeepLatest, Target: "kept." + string(find)}
			b.bring(table)
			table.Columns = typed("text", "int32")
			b.bring(table)
			b.proved(table, 50)
		}
		b.exec("ALTER TABLE fines ALTER id TYPE bigint; INSERT INTO fines VALUES (51, 51, 51)")
		log.Columns = typed("float64", "text")
		f.feed.Tables = []feed.Table{log, {Table: "public.others", Find: feed.FindLog, Keep: feed.KeepLatest}}
		f.catchUp()
		require.Regexp(t, "(?i)id is integer and must be bigint", f.held("public.fines").Error())
	})
}

// MariaDB's log may leave values out: what a filter needs holds its table, with the statement that
// helps, and the others go on.
func TestAShapedFeedFollowsMariaDB(t *testing.T) {
	onEachMaria(t, func(t *testing.T, b *mariaBench) {
		b.exec(`CREATE TABLE titles (id int PRIMARY KEY, kind varchar(9), isbn varchar(20), doc json);
			CREATE TABLE copies (id int PRIMARY KEY, branch varchar(20));
			INSERT INTO titles VALUES (1, 'book', 'SECRET1', '{"shelf":{"no":7}}'), (2, 'map', 'SECRET2', NULL),
			(3, 'book', 'SECRET3', '{"shelf":1}'); INSERT INTO copies VALUES (1, 'Grünau')`)
		no := false
		titles := feed.Table{Table: b.table("titles"), Keep: feed.KeepLatest, Target: "kept.titles", Where: `kind == "book"`,
			Columns: map[string]feed.Treatment{"isbn": {Hash: "isbn"},
				"doc": {Take: map[string]feed.Path{"shelf": {Path: "$.shelf.no", Type: "int16"}}, Keep: &no}}}
		f := newFollower(t, b.workbench, titles, feed.Table{Table: b.table("copies"), Keep: feed.KeepLatest,
			Target: "kept.copies"})
		books := f.catchUp()[titles.Table]
		require.Equal(t, rows.Books{Read: 3, Filtered: 1, Inserted: 2}, books)
		require.Equal(t, []string{"1 | book | 7", "3 | book | <nil>"},
			f.see("SELECT id, kind, shelf FROM kept.titles ORDER BY id"))
		b.exec(`UPDATE titles SET kind = 'map' WHERE id = 1; UPDATE titles SET kind = 'book' WHERE id = 2;
			INSERT INTO titles VALUES (4, 'map', 'SECRET4', NULL); DELETE FROM titles WHERE id = 3`)
		require.Equal(t, rows.Books{Read: 4, Filtered: 1, Inserted: 1, Deleted: 2}, f.catchUp()[titles.Table])
		require.Equal(t, []string{"2 | book"}, f.see("SELECT id, kind FROM kept.titles"))
		require.Equal(t, []string{"0"}, f.see("SELECT count(*) FROM kept.titles AS t WHERE CAST(t AS VARCHAR) LIKE '%SECRET%'"))

		b.session("SET SESSION binlog_row_image = 'MINIMAL'", "UPDATE titles SET isbn = 'SECRET5' WHERE id = 2",
			"UPDATE copies SET branch = 'Dornheim'")
		f.catchUp()
		require.ErrorContains(t, f.held(titles.Table), "does not tell the value of kind")
		require.ErrorContains(t, f.held(titles.Table), "SET GLOBAL binlog_row_image = FULL;")
		require.Equal(t, []string{"Dornheim"}, f.see("SELECT branch FROM kept.copies"), "the other table goes on")
	})
}

// A key that is hashed stands in no position and no statement: pages end where the watermark
// changes, and copies are cut otherwise.
func TestAHashedKeyStandsNowhere(t *testing.T) {
	raceless(t)
	var said strings.Builder
	var mu sync.Mutex
	ctx := statement.With(context.Background(), func(s statement.Statement) {
		mu.Lock()
		defer mu.Unlock()
		said.WriteString(s.SQL)
	})
	nowhere := func(t *testing.T, b *workbench) {
		require.NotEmpty(t, said.String())
		require.NotContains(t, said.String(), "SECRET")
		for _, table := range []string{"positions", "loads", "copies", "set_aside"} {
			found := testkit.SQL(t, b.warehouse, "SELECT count(*) FROM noemata."+table+
				" AS t WHERE CAST(t AS VARCHAR) LIKE '%SECRET%'")
			require.EqualValues(t, 0, found[0][0], table)
		}
	}
	t.Run("watermark", func(t *testing.T) {
		b := newWorkbench(t, "duckdb")
		b.exec(`CREATE TABLE cards (no text PRIMARY KEY, at timestamptz NOT NULL); INSERT INTO cards SELECT 'SECRET' || i, ` +
			`'2026-01-01Z'::timestamptz + i / 7 * interval '1 s' FROM generate_series(1, 500) i`)
		cards := feed.Table{Table: "public.cards", Find: feed.FindWatermark, Keep: feed.KeepLatest, Target: "kept.cards",
			Watermark: &feed.Watermark{Column: "at", Settle: "0s"}, PageRows: 50, Sweep: "1ns",
			Columns: map[string]feed.Treatment{"no": {Hash: "cards"}}}
		for range 2 {
			_, err := b.engine.Run(ctx, b.work(cards))
			require.NoError(t, err)
			b.exec(`DELETE FROM cards WHERE no LIKE '%9'; UPDATE cards SET at = now() WHERE no LIKE '%8'`)
		}
		_, err := b.engine.Run(ctx, b.work(cards))
		require.NoError(t, err)
		b.equal(cards, 450)
		nowhere(t, b)
	})
	t.Run("log", func(t *testing.T) {
		b := newMariaBench(t, "duckdb")
		b.exec(`CREATE TABLE cards (no varchar(40) PRIMARY KEY, n int); INSERT INTO cards SELECT concat('SECRET', seq), seq FROM ` +
			`seq_1_to_30000`)
		cards := feed.Table{Table: b.table("cards"), Keep: feed.KeepHistory, Target: "kept.cards",
			Columns: map[string]feed.Treatment{"no": {Hash: "cards"}}}
		f := newFollower(t, b.workbench, cards)
		_, err := f.engine.Follow(ctx, f.work())
		require.NoError(t, err)
		b.exec("UPDATE cards SET n = 0 WHERE n < 5; DELETE FROM cards WHERE n = 9")
		_, err = f.engine.Follow(ctx, f.work())
		require.NoError(t, err)
		cards.Find = feed.FindLog
		f.feed.Tables = []feed.Table{cards}
		proof, err := engine.Prove(ctx, engine.Work{Feed: f.feed, Table: cards, Source: f.source, Warehouse: f.warehouse,
			Keys: testKeys})
		require.NoError(t, err)
		require.True(t, proof.Same, "%+v", proof)
		nowhere(t, b.workbench)
	})
}

// Half of what a preview shows arrives, as far as there is such a row among those it looks at.
func TestAPreviewShowsRowsThatArrive(t *testing.T) {
	raceless(t)
	b := newWorkbench(t, "duckdb")
	b.exec(`CREATE TABLE visits (id int PRIMARY KEY, kind text);
		INSERT INTO visits SELECT i, CASE WHEN i > 90 THEN 'card' ELSE 'cash' END FROM generate_series(1, 100) i`)
	visits := feed.Table{Table: "public.visits", Find: feed.FindWhole, Keep: feed.KeepLatest, Where: `kind == "card"`}
	p, err := engine.TakePreview(t.Context(), b.work(visits), 5)
	require.NoError(t, err)
	var shown []string
	for _, r := range p.Rows {
		shown = append(shown, fmt.Sprint(*r.Before[0], " ", len(r.After)))
	}
	require.Equal(t, []string{"1 0", "2 0", "91 2", "92 2", "93 2"}, shown)
	require.EqualValues(t, 90, p.Filtered)
	visits.Where = `kind == "none"`
	p, err = engine.TakePreview(t.Context(), b.work(visits), 5)
	require.NoError(t, err)
	require.Len(t, p.Rows, 5)
}
