package engine_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
)

// follower brings log tables and reads what the warehouse then has.
type follower struct {
	*workbench
}

func newFollower(t testing.TB, b *workbench, tables ...feed.Table) *follower {
	for i := range tables {
		tables[i].Find = feed.FindLog
	}
	b.feed.Tables = tables
	f := &follower{b}
	t.Cleanup(func() { _ = engine.DropLog(context.Background(), b.feed, b.source, b.warehouse) })
	return f
}

func (f *follower) work() engine.LogWork {
	f.run++
	return engine.LogWork{Feed: f.feed, Run: f.run, Source: f.source, Warehouse: f.warehouse}
}

// catchUp runs the feed to the present end of the log, and gives what became of each table.
func (f *follower) catchUp() map[string]rows.Books {
	f.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	report, err := f.engine.Follow(ctx, f.work())
	require.NoError(f.t, err)
	books := map[string]rows.Books{}
	for _, t := range report.Tables {
		require.Equal(f.t, engine.Following, t.State, t.Table)
		require.True(f.t, t.Books.Balanced(), "%s %+v", t.Table, t.Books)
		books[t.Table] = t.Books
	}
	return books
}

// see gives the rows of a query of the warehouse as text.
func (f *follower) see(sql string, args ...any) []string {
	f.t.Helper()
	found, err := f.warehouse.Ask(context.Background(), sql, args...)
	require.NoError(f.t, err, sql)
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

func target(name string) schema.Name { return schema.Name{Schema: "kept", Table: name} }

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
		all(`CREATE TABLE holds (id int PRIMARY KEY, state text, note text); ALTER TABLE holds ALTER note SET STORAGE EXTERNAL`)
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
		require.Equal(t, []string{"3 | placed | 3", "4 | ready | 5000"}, f.see(`SELECT id, state, length(note) FROM kept.holds_latest ORDER BY id`))
		require.Equal(t, []string{"1 | placed | true", "2 | ready | true", "3 | placed | false", "4 | ready | false", "9 | never seen | true"},
			f.see(`SELECT id, state, nm_deleted_at IS NOT NULL FROM kept.holds_soft_delete ORDER BY id`))
		require.Equal(t, []string{"1 | placed | <nil> | false", "2 | placed | 5000 | false", "2 | ready | 5000 | false", "3 | placed | 3 | true", "4 | ready | 5000 | true"},
			f.see(`SELECT id, state, length(note), nm_current FROM kept.holds_history ORDER BY id, nm_from`))
		require.Equal(t, []string{"copy | 1 | placed | <nil>", "copy | 2 | placed | 5000", "update | 2 | ready | 5000", "insert | 3 | placed | 3", "delete | 1 | <nil> | <nil>",
			"insert | 9 | never seen | <nil>", "delete | 9 | <nil> | <nil>", "delete | 2 | <nil> | <nil>", "insert | 4 | ready | 5000", "update | 3 | placed | 3"},
			f.see(`SELECT nm_change, id, state, length(note) FROM kept.holds_ledger ORDER BY nm_position, id`))
		all(`BEGIN; TRUNCATE holds; INSERT INTO holds VALUES (3, 'placed', 'new'), (5, 'placed', 'last'); COMMIT`)
		f.catchUp()
		require.Equal(t, []string{"3 | new", "5 | last"}, f.see(`SELECT id, note FROM kept.holds_latest ORDER BY id`))
		require.Equal(t, []string{"1 | true", "2 | true", "3 | false", "4 | true", "5 | false", "9 | true"}, f.see(`SELECT id, nm_deleted_at IS NOT NULL FROM kept.holds_soft_delete ORDER BY id`))
		require.Equal(t, []string{"1 | 1 | 0", "2 | 2 | 0", "3 | 1 | 1", "4 | 1 | 0", "5 | 1 | 1"},
			f.see(`SELECT id, count(*), CAST(sum(CASE WHEN nm_current THEN 1 ELSE 0 END) AS BIGINT) FROM kept.holds_history GROUP BY id ORDER BY id`), "a row that comes back unchanged in the same transaction makes no version")
		require.Equal(t, []string{"0"}, f.see(`SELECT count(*) FROM kept.holds_history a JOIN kept.holds_history b ON a.id = b.id AND a.nm_from < b.nm_from AND (a.nm_until IS NULL OR a.nm_until > b.nm_from)`))
	})
}
