package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/client"
	"noemata/internal/testkit"
)

// provoked is a finding that a source gives, and what mends it: the table's entry written otherwise, or
// statements; the finding's own where neither is given.
type provoked struct {
	what   string
	sql    string
	table  string
	says   string
	mended string
	mend   []string
}

var provokedAtPostgres = []provoked{
	{what: "no index", sql: `CREATE TABLE loans (id int PRIMARY KEY, at timestamptz NOT NULL)`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "No index begins with"},
	{what: "null watermark", sql: `CREATE TABLE loans (id int PRIMARY KEY, at timestamptz, made timestamptz NOT NULL)`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "The watermark at can be null",
		mended: `find: watermark, watermark: {column: at, fallback: made}, keep: latest`},
	{what: "watermark in the future", sql: `CREATE TABLE loans (id int PRIMARY KEY, at timestamptz NOT NULL); CREATE INDEX ON loans (at);
			INSERT INTO loans VALUES (1, now()), (2, now() + interval '70 years')`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "rows beyond it wait until then",
		mend: []string{`UPDATE loans SET at = now() WHERE at > now()`}},
	{what: "day in the future", sql: `CREATE TABLE loans (id int PRIMARY KEY, due date NOT NULL); CREATE INDEX ON loans (due);
			INSERT INTO loans VALUES (1, now() + interval '3 weeks')`,
		table: `find: watermark, watermark: {column: due}, keep: latest`, says: "The watermark due is up to",
		mend: []string{`UPDATE loans SET due = now() - interval '3 weeks'`}},
	{what: "zone", sql: `CREATE TABLE loans (id int PRIMARY KEY, at timestamp NOT NULL); CREATE INDEX ON loans (at)`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "has no zone and is taken as written in",
		mend: []string{`ALTER TABLE loans ALTER at TYPE timestamptz`}},
	{what: "watermark of a type that does not rise", sql: `CREATE TABLE loans (id int PRIMARY KEY, at json)`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "which cannot be a watermark",
		mended: `find: watermark, watermark: {column: id}, keep: latest`},
	{what: "no key", sql: `CREATE TABLE loans (id int NOT NULL)`, table: `find: whole, keep: latest`,
		says: "has no primary or unique key", mended: `find: whole, keep: latest, key: [id]`},
	{what: "a key that is not promised", sql: `CREATE TABLE loans (id int NOT NULL)`,
		table: `find: whole, keep: latest, key: [id]`, says: "does not promise that the key of this table is unique"},
	{what: "no replica identity", sql: `CREATE TABLE loans (id int NOT NULL)`, table: `find: log, keep: latest, key: [id]`,
		says: "has no replica identity"},
	{what: "a key that the log does not tell", sql: `CREATE TABLE loans (id int PRIMARY KEY, card text NOT NULL UNIQUE)`,
		table: `find: log, keep: latest, key: [card]`, says: "does not tell the old value of the key column card"},
	{what: "view by its log", sql: `CREATE TABLE l (id int PRIMARY KEY); CREATE VIEW loans AS SELECT * FROM l`,
		table: `find: log, keep: latest, key: [id]`, says: "It is a view", mended: `find: whole, keep: latest, key: [id]`},
	{what: "view that rows leave", sql: `CREATE TABLE l (id int PRIMARY KEY, at timestamptz); CREATE VIEW loans AS SELECT * FROM l`,
		table: `find: watermark, watermark: {column: at}, keep: latest, key: [id]`, says: "A row that leaves the view",
		mended: `find: watermark, watermark: {column: at}, keep: latest, key: [id], sweep: 1d`},
	{what: "generated", sql: `CREATE TABLE loans (id int PRIMARY KEY, twice int GENERATED ALWAYS AS (id * 2) STORED)`,
		table: `find: log, keep: latest`, says: "The column twice is generated", mended: `find: whole, keep: latest`},
	{what: "type without a counterpart", sql: `CREATE TABLE loans (id int PRIMARY KEY, shelf point)`,
		table: `find: log, keep: latest`, says: "The column shelf is point",
		mended: `find: log, keep: latest, as_text: [shelf]`},
	{what: "partitioned", sql: `CREATE TABLE loans (id int PRIMARY KEY) PARTITION BY RANGE (id)`,
		table: `find: log, keep: latest`,
		says:  "The table is partitioned", mended: `find: whole, keep: latest`},
	{what: "columns that the publication lists", sql: `CREATE TABLE loans (id int PRIMARY KEY, pin text)`,
		table: `find: log, keep: latest, drop: [pin]`, says: "The publication lists the columns",
		mended: `find: log, keep: latest`},
	{what: "clash with an added column", sql: `CREATE TABLE loans (id int PRIMARY KEY, nm_deleted_at text)`,
		table: `find: log, keep: soft-delete`, says: "a name that Noemata adds",
		mended: `find: log, keep: soft-delete, columns: {nm_deleted_at: {name: deleted}}`},
	{what: "clash after folding", sql: `CREATE TABLE loans (id int PRIMARY KEY, "Card" text, card text)`,
		table: `find: log, keep: latest`,
		says:  "tell upper from lower case", mended: `find: log, keep: latest, columns: {Card: {name: old_card}}`},
	{what: "a column that is not there", sql: `CREATE TABLE loans (id int PRIMARY KEY, card text)`,
		table: `find: log, keep: latest, columns: {crad: drop}`, says: "crad",
		mended: `find: log, keep: latest, columns: {card: drop}`},
	{what: "no privilege", sql: `CREATE TABLE l (id int)`, table: `find: log, keep: latest`, says: "public.loans",
		mend: []string{`CREATE TABLE loans (id int PRIMARY KEY)`}},
	{what: "a first copy that the disk has no room for", sql: `CREATE TABLE loans (id int PRIMARY KEY);
			UPDATE pg_class SET relpages = 2000000000, reltuples = 5e9 WHERE relname = 'loans'`,
		table: `find: whole, keep: replace`, says: "the warehouse's disk has", mend: []string{`ANALYZE loans`}},
}

var provokedAtMariaDB = []provoked{
	{what: "no index", sql: `CREATE TABLE loans (id int PRIMARY KEY, at datetime(6) NOT NULL)`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "No index begins with"},
	{what: "watermark in the future", sql: `CREATE TABLE loans (id int PRIMARY KEY, at datetime(6) NOT NULL, KEY (at));
			INSERT INTO loans VALUES (2, now() + interval 70 year)`,
		table: `find: watermark, watermark: {column: at}, keep: latest`, says: "rows beyond it wait until then",
		mend: []string{`UPDATE loans SET at = now() - interval 1 day`}},
	{what: "an engine without transactions", sql: `CREATE TABLE loans (id int PRIMARY KEY) ENGINE = MyISAM`,
		table: `find: log, keep: latest`, says: "has no transactions"},
	{what: "character set", sql: `CREATE TABLE loans (id int PRIMARY KEY, t varchar(9) CHARACTER SET eucjpms)`,
		table: `find: log, keep: latest`, says: "The character set eucjpms of the column t cannot be read"},
	{what: "a parent that is not followed", sql: `CREATE TABLE branches (id int PRIMARY KEY);
			CREATE TABLE loans (id int PRIMARY KEY, branch int, FOREIGN KEY (branch) REFERENCES branches (id) ON DELETE CASCADE)`,
		table: `find: log, keep: latest`, says: "without logging it", mended: `find: whole, keep: latest`},
	{what: "system versioned", sql: `CREATE TABLE loans (id int PRIMARY KEY) WITH SYSTEM VERSIONING`,
		table: `find: log, keep: latest`,
		says:  "The server keeps old versions of its rows", mended: `find: whole, keep: latest`},
	{what: "a key that the server does not tell apart", sql: `CREATE TABLE loans (id int NOT NULL)`,
		table: `find: whole, keep: latest, key: [id]`, says: "does not promise that the key of this table is unique"},
}

// Each finding is provoked on a real server, its remedy is taken, and it is not found again.
func TestEachFindingIsMendedByItsRemedy(t *testing.T) {
	t.Parallel() // it waits for the most part
	s := newService(t)
	s.addWarehouse("target", "duckdb")
	mended := func(t *testing.T, p provoked, source, table string, exec func(sql string)) {
		file := func(entry string) string {
			return fmt.Sprintf("feed: tried\nsource: %s\nwarehouse: target\nevery: 1h\ntarget: kept.{table}\ntables:\n"+
				"  - {table: %s, %s}\n", source, table, entry)
		}
		check := func(file string) (found []client.Finding) {
			x, err := s.client.FeedFile(t.Context(), file, client.Check)
			require.NoError(t, err)
			for _, f := range x.Findings {
				if strings.Contains(f.What, p.says) {
					found = append(found, f)
				}
			}
			return found
		}
		exec(p.sql)
		found := check(file(p.table))
		require.Len(t, found, 1, "it is found")
		entry := p.table
		switch {
		case p.mended != "":
			entry = p.mended
		case p.mend != nil:
			for _, sql := range p.mend {
				exec(sql)
			}
		default:
			require.NotEmpty(t, found[0].Statements, "%s", found[0].Remedy)
			out, err := s.client.Mend(t.Context(), client.Mending{File: file(entry), Statements: found[0].Statements})
			require.NoError(t, err)
			require.NotContains(t, fmt.Sprint(out.Findings), p.says)
		}
		require.Empty(t, check(file(entry)), "it is mended")
	}
	for i, p := range provokedAtPostgres {
		t.Run("PostgreSQL/"+p.what, func(t *testing.T) {
			source := fmt.Sprintf("p%d", i)
			d := s.addSource(source)
			mended(t, p, source, "public.loans", func(sql string) { d.exec(sql) })
		})
	}
	for i, p := range provokedAtMariaDB {
		t.Run("MariaDB/"+p.what, func(t *testing.T) {
			settings, db := testkit.MariaDatabase(t)
			source := fmt.Sprintf("m%d", i)
			_, err := s.client.AddConnection(t.Context(), client.Sources,
				client.NewConnection{Name: source, Kind: "mariadb", Settings: &settings})
			require.NoError(t, err)
			mended(t, p, source, settings.Database+".loans", func(script string) {
				for _, sql := range strings.Split(script, ";") {
					_, err := db.Exec(sql)
					require.NoError(t, err, sql)
				}
			})
		})
	}
}
