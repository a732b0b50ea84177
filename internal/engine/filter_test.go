package engine_test

import (
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/core/shape"
	"noemata/internal/engine"
	"noemata/internal/source"
	"noemata/internal/statement"
)

const loansOfPostgreSQL = `CREATE COLLATION blind (provider = icu, locale = 'und-u-ks-level1', deterministic = false);
CREATE TABLE loans (id int PRIMARY KEY, days smallint, fee numeric(8,3), weight numeric, open boolean, kind text COLLATE blind,
  branch varchar(8), code char(6), at timestamptz(3), written timestamp(0), born date,
  shown int DEFAULT 5, flags bit(8) DEFAULT b'00000101');
INSERT INTO loans (id, days, fee, weight, open, kind, branch, code, at, written, born) VALUES (1, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
  (2, 7, 0.5, 'NaN', true, 'card', 'Grünau', 'card', '2026-03-01 00:00:00.000Z', '2026-03-01 00:00:00', '2026-03-01'),
  (3, -7, -0.5, 0.5, false, 'CARD', 'Grunau', 'CARD', '2026-03-01 00:00:00.001Z', '2026-03-01 00:00:01', '2026-03-02'),
  (4, 32767, 99999.999, 1e30, true, 'card ', 'card', '', 'infinity', 'infinity', 'infinity'),
  (5, -32768, 0, -1e-30, false, '', 'card ', 'card', '-infinity', '-infinity', '-infinity'),
  (6, 0, 0.499, 0, NULL, 'cárd', 'CARD', 'x', '2025-12-31 23:59:59.999Z', '2025-12-31 23:59:59', '2025-12-31'),
  (7, 8, 0.501, 0.5, NULL, E'a\nb', '', NULL, '0001-01-01 00:00:00Z', '0001-01-01', '0001-01-01')`

const loansOfMariaDB = `SET SESSION sql_mode = '', time_zone = '+00:00';
CREATE TABLE loans (id int PRIMARY KEY, days smallint, fee decimal(8,3), weight decimal(40,20), open bit(1), kind varchar(9),
  branch text, code char(6), at timestamp(3) NULL, written datetime(0), born date, shown int DEFAULT 5,
  flags bit(8) DEFAULT b'00000101') CHARACTER SET utf8mb4;
INSERT INTO loans (id, days, fee, weight, open, kind, branch, code, at, written, born) VALUES (1, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
  (2, 7, 0.5, 0.5, 1, 'card', 'Grünau', 'card', '2026-03-01 00:00:00.000', '2026-03-01 00:00:00', '2026-03-01'),
  (3, -7, -0.5, 0.5, 0, 'CARD', 'Grunau', 'CARD', '2026-03-01 00:00:00.001', '2026-03-01 00:00:01', '2026-03-02'),
  (4, 32767, 99999.999, 1e19, 1, 'card ', 'card', '', '0000-00-00', '0000-00-00', '0000-00-00'),
  (5, -32768, 0, -0.00000000000000000001, 0, '', 'card ', 'card', '2026-01-01', '9999-12-31', '2026-00-15'),
  (6, 0, 0.499, 0, NULL, 'cárd', 'CARD', 'x', '2025-12-31 23:59:59.999', '2025-12-31 23:59:59', '2025-12-31'),
  (7, 8, 0.501, 0.5, NULL, 'a\\b', '', NULL, '1970-01-01 00:00:01', '1000-01-01', '1000-01-01')`

// conditions are filters at random, of which servers can tell all, a part, or nothing.
func conditions(r *rand.Rand, deep int) string {
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	if deep > 0 && r.IntN(3) > 0 {
		switch r.IntN(5) {
		case 0:
			return "!(" + conditions(r, deep-1) + ")"
		case 1:
			return "(" + conditions(r, deep-1) + " ? " + conditions(r, deep-1) + " : " + conditions(r, deep-1) + ")"
		}
		return "(" + conditions(r, deep-1) + pick(" && ", " || ") + conditions(r, deep-1) + ")"
	}
	compare := pick("==", "!=", "<", "<=", ">", ">=")
	same := pick("==", "!=")
	text := pick(`"card"`, `"CARD"`, `""`, `"Gr\u00fcnau"`, `"Grunau"`, `"card "`, `"longer than it"`, `"a\nb"`, `"a\\b"`)
	switch r.IntN(12) {
	case 0:
		return "days " + compare + pick(" 7", " -7", " 0", " 32767", " 70000", " -9223372036854775808")
	case 1:
		return pick("7", "0", "-32768", "300000") + " " + compare + " days"
	case 2:
		return pick("fee ", "weight ") + pick("<", "<=", ">", ">=") + pick(" 0.5", " 0", " 0.4995", " -0.5", " 1e30",
			` decimal("0.00000000000000000001")`, ` decimal("99999.9994")`)
	case 3:
		return "fee " + same + pick(` decimal("0.5")`, ` decimal("0.500")`, ` decimal("0.4995")`)
	case 4:
		return pick("open", "!open", "open == true", "open != false", "false == open")
	case 5:
		return pick("kind ", "branch ", "code ") + same + " " + text
	case 6:
		return pick("kind", "branch", "days", "open", "weight", "code", "fee") + " " + same + " null"
	case 7:
		return pick("at ", "written ", "born ") + compare + ` timestamp("` + pick("2026-03-01T00:00:00Z",
			"2026-03-01T00:00:00.0005Z", "2026-03-01T01:00:00+01:00", "2026-01-01T00:00:00Z", "0001-01-01T00:00:00Z",
			"9999-12-31T23:59:59.999999Z", "2026-03-01T12:00:00Z", "2025-12-31T23:59:59.999Z") + `")`
	case 8:
		return pick("kind", "branch") + ` in ["card", ` + text + `]`
	case 9:
		return "days in [7, -7, 70000]"
	case 10: // texts here, and something else there
		return pick("shown", "flags") + " " + same + pick(` "5"`, ` "00000101"`, ` "x"`)
	}
	return pick(`kind.startsWith("c")`, `size(branch) > 4`, `days + 1 > 7`, `code < "d"`)
}

// What a server leaves out, asked for the part of a filter that it can tell of, is what the filter leaves
// out here, and it counts as many.
func TestServersLeaveOutWhatTheFilterDoes(t *testing.T) {
	raceless(t)
	for name, bench := range map[string]func(t *testing.T) *workbench{
		"postgresql": func(t *testing.T) *workbench {
			b := newWorkbench(t, "duckdb")
			b.exec(loansOfPostgreSQL)
			return b
		},
		"mariadb": func(t *testing.T) *workbench {
			b := newMariaBench(t, "duckdb")
			b.exec(loansOfMariaDB)
			return b.workbench
		},
		"mysql": func(t *testing.T) *workbench {
			b := newMySQLBench(t, "duckdb")
			b.exec(loansOfMariaDB)
			return b.workbench
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := bench(t)
			seed := uint64(time.Now().UnixNano())
			r := rand.New(rand.NewPCG(seed, 1))
			asked, left := 0, 0
			for range 120 {
				where := conditions(r, 3)
				if n, ok := b.filtersAlike(where); ok {
					asked++
					left += n
				}
			}
			require.Greater(t, asked, 30, "seed %d", seed)
			require.Greater(t, left, 30, "seed %d", seed)
		})
	}
}

// filtersAlike reads the loans with a filter that the server may know a part of, and without, and gives
// how many rows the server has left out.
func (b *workbench) filtersAlike(where string) (left int, ok bool) {
	name := schema.Name{Schema: b.settings.Database, Table: "loans"}
	if strings.Contains(b.t.Name(), "postgresql") {
		name.Schema = "public"
	}
	table, err := b.source.Table(b.t.Context(), name)
	require.NoError(b.t, err)
	for i, c := range table.Columns {
		if c.Name == "shown" {
			table.Columns[i] = c.AsText()
		}
	}
	s, err := shape.Compile(table, feed.Table{Table: name.String(), Where: where}, []string{"id"}, nil)
	require.NoError(b.t, err, where)
	asked, ok := s.Pushed()
	if !ok {
		return 0, false
	}
	read := func(f *source.Filter) (ids []string, out int64, came int) {
		q := source.Query{Table: s.Reads(), RowKey: []string{"id"}, Ordered: true, Filter: f}
		require.NoError(b.t, b.source.Read(b.t.Context(), q, func(x rows.Batch) error {
			came += int(x.Rows())
			made := s.Batch(x, false)
			out += made.Filtered + int64(len(made.Aside)) // what cannot be stored is nothing that is missed
			for i := range int(made.Record.NumRows()) {
				id, _ := schema.CellText(made.Record.Column(0), i, s.Arrives().Columns[0].Type)
				ids = append(ids, strings.Clone(id))
			}
			return nil
		}), where)
		return ids, out, came
	}
	all, out, _ := read(nil)
	some, outThen, came := read(&source.Filter{Condition: asked, Counts: true})
	require.Equal(b.t, all, some, where)
	require.Equal(b.t, out, outThen, where)
	return 7 - came, true
}

// A first load leaves rows out at the source, in each find, and its books and position tell of them. The
// runs after it see rows that leave the filter and enter it.
func TestAFirstLoadLeavesRowsOutAtTheSource(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		for _, find := range []feed.Find{feed.FindWatermark, feed.FindWhole, feed.FindCompare, feed.FindLog} {
			name := "loans_" + string(find)
			b.feed.Name = name
			b.exec(`CREATE TABLE ` + name + ` (id int PRIMARY KEY, kind text, note text, at timestamptz NOT NULL DEFAULT now());
				INSERT INTO ` + name + ` SELECT n, CASE WHEN n % 10 = 0 THEN 'card' ELSE 'cash' END, repeat('x', n % 3) FROM
				generate_series(1, 3000) n; ANALYZE ` + name)
			loans := feed.Table{Table: "public." + name, Find: find, Keep: feed.KeepLatest, Target: "kept." + name,
				Where: `kind == "card" && note.contains("x")`}
			if find == feed.FindWatermark {
				loans.Watermark, loans.Sweep = &feed.Watermark{Column: "at", Settle: "0s"}, "1m"
			}
			var asked []string
			var mu sync.Mutex
			run := func() rows.Books {
				asked = nil
				ctx := statement.With(t.Context(), func(s statement.Statement) {
					if mu.Lock(); s.Side == statement.Source && strings.Contains(s.SQL, "IS NOT FALSE") {
						asked = append(asked, s.SQL)
					}
					mu.Unlock()
				})
				if find == feed.FindLog {
					f := newFollower(t, b, loans)
					report, err := f.engine.Follow(ctx, f.work())
					require.NoError(t, err)
					return report.Tables[0].Books
				}
				out, err := b.engine.Run(ctx, b.work(loans))
				require.NoError(t, err)
				return out.Books
			}
			books := run()
			require.Equal(t, rows.Books{Read: 3000, Filtered: 2800, Inserted: 200}, books, find)
			b.equal(loans, 200)
			if find == feed.FindCompare { // it looks at every row each time
				continue
			}
			require.NotEmpty(t, asked, find)
			b.exec(`UPDATE ` + name + ` SET kind = 'cash', at = now() WHERE id IN (10, 20, 30); UPDATE ` + name +
				` SET kind = 'card', at = now() WHERE id IN (1, 2, 3)`)
			books = run()
			require.Equal(t, find == feed.FindWhole, len(asked) > 0, "%s %v", find, asked)
			require.EqualValues(t, 2, books.Inserted, "%s %+v", find, books)
			require.EqualValues(t, 2, books.Deleted, "%s %+v", find, books)
			b.equal(loans, 200)
		}
	})
}

// A row that is there, but cannot be read, has not been deleted; and one that was deleted, or read since, is
// not listed as set aside any more.
func TestRowsThatCannotBeReadAreStillThere(t *testing.T) {
	onEach(t, func(t *testing.T, b *workbench) {
		for _, find := range []feed.Find{feed.FindWatermark, feed.FindWhole, feed.FindCompare, feed.FindLog} {
			name := "fees_" + string(find)
			b.feed.Name = name
			b.exec(`CREATE TABLE ` + name + ` (id int, branch text, fee numeric(8,2), at timestamptz NOT NULL DEFAULT now(),
				PRIMARY KEY (id, branch)); INSERT INTO ` + name + ` VALUES (1, 'Grünau', 1), (2, '', 2), (3, 'a"b''', 3), (4, 'x', 4)`)
			fees := feed.Table{Table: "public." + name, Find: find, Keep: feed.KeepSoftDelete, Target: "kept." + name,
				Where: "fee > 0"}
			if find == feed.FindWatermark {
				fees.Watermark, fees.Sweep = &feed.Watermark{Column: "at", Settle: "0s"}, "0s"
			}
			if find == feed.FindLog {
				newFollower(t, b, fees)
			}
			run := func() {
				require.NoError(t, b.bringBy(fees), find)
				if find == feed.FindLog { // what a copy sets aside, too
					require.NoError(t, engine.CopyAgain(t.Context(), b.feed, nil, b.source, b.warehouse))
					require.NoError(t, b.bringBy(fees), find)
				}
			}
			run()
			has := func(there, aside []string) {
				t.Helper()
				var live, listed []string
				for _, row := range b.rowsOf("kept."+name, column("id", schema.Int32),
					column("nm_deleted_at", schema.TimestampTZ)) {
					if row[1] == "null" {
						live = append(live, row[0])
					}
				}
				for _, row := range b.rowsOf("noemata.set_aside", column("key", schema.Text), column("feed", schema.Text)) {
					if row[1] == name {
						listed = append(listed, row[0])
					}
				}
				require.Equal(t, there, live, find)
				require.Equal(t, aside, listed, find)
			}
			b.exec(`UPDATE ` + name + ` SET fee = 'NaN', at = now() WHERE id IN (1, 3, 4); DELETE FROM ` + name +
				` WHERE id = 2`)
			run()
			has([]string{"1", "3", "4"}, []string{`["1","Grünau"]`, `["3","a\"b'"]`, `["4","x"]`})
			b.exec(`UPDATE ` + name + ` SET fee = 7, at = now() WHERE id = 3; DELETE FROM ` + name + ` WHERE id = 4`)
			run()
			has([]string{"1", "3"}, []string{`["1","Grünau"]`})
		}
	})
}
