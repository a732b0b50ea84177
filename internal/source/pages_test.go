package source_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/position"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/source/mariadb"
	"noemata/internal/source/postgres"
	"noemata/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// branches are parts of keys that sort and quote in ways of their own.
var branches = []string{"Aldermoor", "aldermoor-south", "Ælfgate", "Zürn", "o'hara \"x\"", `back\slash`, "new\nline",
	"深い", "🕮"}

// onEach runs a test on a source of each kind, and gives what runs statements there.
func onEach(t *testing.T, test func(t *testing.T, s source.Source, in string, exec func(sql string, args ...any))) {
	t.Run(postgres.Kind, func(t *testing.T) {
		settings, conn := testkit.Database(t)
		s, err := postgres.Open(settings, `source "circulation"`)
		require.NoError(t, err)
		defer s.Close()
		test(t, s, "public", func(sql string, args ...any) {
			for i := range args {
				sql = strings.Replace(sql, "?", fmt.Sprintf("$%d", i+1), 1)
			}
			testkit.Exec(t, conn, sql, args...)
		})
	})
	t.Run(mariadb.Kind, func(t *testing.T) {
		settings, db := testkit.MariaDatabase(t)
		s, err := mariadb.Open(settings, `source "catalogue"`)
		require.NoError(t, err)
		defer s.Close()
		test(t, s, settings.Database, func(sql string, args ...any) {
			_, err := db.Exec(sql, args...)
			require.NoError(t, err, sql)
		})
	})
}

// read gives the rows of a query as texts, each with the position that it stands at.
func read(t *testing.T, s source.Source, q source.Query) (keys []string, at []position.Position) {
	t.Helper()
	w := len(q.Table.Columns)
	if !q.ReadsWatermark() {
		w = schema.Indexes(q.Table.Columns, []string{q.Watermark.Column.Name})[0]
	}
	err := s.Read(context.Background(), q, func(b rows.Batch) error {
		defer b.Record.Release()
		require.Empty(t, b.Aside)
		for i := range int(b.Record.NumRows()) {
			key := rows.Key(b.Record, i, q.Table.Columns, schema.Indexes(q.Table.Columns, q.Table.Key))
			value, known := schema.CellText(b.Record.Column(w), i, q.Watermark.Column.Type)
			require.True(t, known, "a row without a watermark lies in no window")
			for k := range key {
				key[k] = strings.Clone(key[k])
			}
			keys, at = append(keys, rows.KeyJSON(key)), append(at,
				position.Position{Value: strings.Clone(value), After: key})
		}
		return nil
	})
	require.NoError(t, err)
	return keys, at
}

// However small its pages are, and whatever a page ends with, a table is read once whole:
// by watermarks of each kind, with ties, nulls and a fallback.
func TestPagesGiveEachRowOnce(t *testing.T) {
	onEach(t, func(t *testing.T, s source.Source, in string, exec func(string, ...any)) {
		ctx := context.Background()
		exec(`CREATE TABLE holds (branch varchar(40) NOT NULL, number bigint NOT NULL, placed timestamp(6) NULL, ` +
			`changed timestamp(6) NULL, shelf varchar(20), place decimal(30,5), due date, PRIMARY KEY (branch, number))`)
		total := 0
		for b, branch := range branches {
			for n := range 12 {
				i := b*12 + n
				placed, changed := any(fmt.Sprintf("2026-11-0%d 10:00:00.00000%d", 1+i%3, i%2)), any(nil)
				if i%4 == 0 {
					changed = "2026-11-02 10:00:00"
				}
				if i%7 == 3 {
					placed = nil
				}
				exec(`INSERT INTO holds VALUES (?, ?, ?, ?, ?, ?, ?)`, branch, n-6, placed, changed,
					fmt.Sprintf("%c%d", "aÄZz"[i%4], i%3), fmt.Sprintf("%d.5", i%5-2), fmt.Sprintf("2026-0%d-01", 1+
						i%3))
				total++
			}
		}
		table, err := s.Table(ctx, schema.Name{Schema: in, Table: "holds"})
		require.NoError(t, err)
		for _, mark := range []struct{ column, fallback string }{{"placed", ""}, {"changed", "placed"}, {"shelf", ""},
			{"place", ""}, {"due", ""}, {"number", ""}} {
			c, ok := table.Column(mark.column)
			require.True(t, ok)
			q := source.Query{Table: table, Watermark: &source.Watermark{Column: c, Fallback: mark.fallback},
				Ordered: true}
			q.Window.High, err = s.Highest(ctx, q)
			require.NoError(t, err)
			nulls, err := s.Nulls(ctx, q)
			require.NoError(t, err)
			whole, _ := read(t, s, q)
			require.Len(t, whole, total-int(nulls), mark.column)
			for _, limit := range []int64{1, 5, 31} {
				q := q
				q.Limit = limit
				var paged []string
				for q.Window.Low = (position.Position{}); ; {
					page, at := read(t, s, q)
					if len(page) == 0 {
						break
					}
					require.LessOrEqual(t, len(page), int(limit))
					paged = append(paged, page...)
					q.Window.Low = at[len(at)-1]
				}
				require.Equal(t, whole, paged, "%s in pages of %d", mark.column, limit)
			}
			// A row lies beyond a position exactly where the next window would have it.
			_, at := read(t, s, q)
			q.Window, q.Beyond = window.Window{High: q.Window.High}, &at[len(at)/2]
			beyond := 0
			require.NoError(t, s.Read(ctx, q, func(b rows.Batch) error {
				defer b.Record.Release()
				last := b.Record.Column(int(b.Record.NumCols()) - 1)
				for i := range last.Len() {
					if last.ValueStr(i) == "true" {
						beyond++
					}
				}
				return nil
			}))
			require.Equal(t, len(at)-len(at)/2-1, beyond, mark.column)
		}
	})
}

// Without a key nothing tells rows that tie apart, so a page takes them all.
func TestAPageOfATableWithoutAKeyTakesItsTies(t *testing.T) {
	onEach(t, func(t *testing.T, s source.Source, in string, exec func(string, ...any)) {
		ctx := context.Background()
		exec(`CREATE TABLE visits (at timestamp(6) NOT NULL, branch varchar(40))`)
		for i := range 12 {
			exec(`INSERT INTO visits VALUES (?, ?)`, fmt.Sprintf("2026-11-01 1%d:00:00", i/5),
				branches[i%len(branches)])
		}
		table, err := s.Table(ctx, schema.Name{Schema: in, Table: "visits"})
		require.NoError(t, err)
		c, _ := table.Column("at")
		q := source.Query{Table: table, Watermark: &source.Watermark{Column: c}, Ordered: true, Limit: 3}
		var sizes []int
		for {
			page, at := read(t, s, q)
			if len(page) == 0 {
				break
			}
			sizes = append(sizes, len(page))
			q.Window.Low = position.Position{Value: at[len(at)-1].Value}
		}
		require.Equal(t, []int{5, 5, 2}, sizes)
		q.Window.Low, q.Limit = position.Position{}, 0
		n, err := s.Count(ctx, q)
		require.NoError(t, err)
		require.EqualValues(t, 12, n)
	})
}

// The newest rows come first, those without a watermark last.
func TestTheNewestRows(t *testing.T) {
	onEach(t, func(t *testing.T, s source.Source, in string, exec func(string, ...any)) {
		ctx := context.Background()
		exec(`CREATE TABLE fines (id bigint PRIMARY KEY, at timestamp(6) NULL)`)
		for i, at := range []any{"2026-11-01 10:00:00", nil, "2026-11-03 10:00:00", "2026-11-02 10:00:00"} {
			exec(`INSERT INTO fines VALUES (?, ?)`, i, at)
		}
		table, err := s.Table(ctx, schema.Name{Schema: in, Table: "fines"})
		require.NoError(t, err)
		c, _ := table.Column("at")
		var ids []string
		require.NoError(t, s.Read(ctx, source.Query{Table: table, Watermark: &source.Watermark{Column: c}, Newest: true,
			Limit: 10}, func(b rows.Batch) error {
			defer b.Record.Release()
			for i := range int(b.Record.NumRows()) {
				ids = append(ids, strings.Clone(b.Record.Column(0).ValueStr(i)))
			}
			return nil
		}))
		require.Equal(t, []string{"2", "3", "0", "1"}, ids)
	})
}
