//go:build duckdb_arrow

package duckdb

import (
	"fmt"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/core/derive"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// shelves is a file with what feeds have brought.
type shelves struct {
	*testing.T
	*Warehouse
}

func newShelves(t *testing.T) shelves {
	opened, err := Open(connection.Settings{Path: filepath.Join(t.TempDir(), "lake.duckdb")}, "warehouse lake")
	require.NoError(t, err)
	s := shelves{t, opened.(*Warehouse)}
	t.Cleanup(s.Warehouse.Close)
	require.NoError(t, s.Migrate(t.Context()))
	s.run("CREATE SCHEMA kept", "CREATE TABLE kept.loans (id INTEGER, title INTEGER, branch VARCHAR, fee DOUBLE)",
		"CREATE TABLE kept.titles (id INTEGER, name VARCHAR)")
	s.brings("kept.titles", "INSERT INTO kept.titles VALUES (1, 'Low Tide'), (2, 'The Weir')")
	s.brings("kept.loans", "INSERT INTO kept.loans VALUES (1, 1, 'north', 0), (2, 1, 'south', 2.5), (3, 2, NULL, 1)")
	return s
}

func (s shelves) run(statements ...string) {
	s.Helper()
	c, err := s.connect(s.Context())
	require.NoError(s.T, err)
	defer c.Close()
	for _, sql := range append(append([]string{"BEGIN"}, statements...), "COMMIT") {
		_, err := c.Exec(s.Context(), sql)
		require.NoError(s.T, err, sql)
	}
}

// brings is a commit of a feed.
func (s shelves) brings(target, sql string) {
	s.Helper()
	s.run(sql, fmt.Sprintf(`INSERT INTO noemata.loads (feed, source_table, target, run, rows_read, rows_filtered, rows_folded,
rows_set_aside, rows_unchanged, rows_inserted, rows_updated, rows_deleted, committed_at)
VALUES ('desk', 't', '%s', 1, 1, 0, 0, 0, 0, 1, 0, 0, now())`, target))
}

func (s shelves) rows(sql string) (list []string) {
	s.Helper()
	found, err := s.Ask(s.Context(), sql)
	require.NoError(s.T, err, sql)
	for _, row := range found {
		list = append(list, fmt.Sprint(row...))
	}
	slices.Sort(list)
	return list
}

func (s shelves) reads(t derive.Table) []schema.Name {
	s.Helper()
	reads, err := s.Reads(s.Context(), t.SQL, everyone)
	require.NoError(s.T, err)
	return reads
}

// made makes a table, and tells what it was made for.
func (s shelves) made(t derive.Table) (warehouse.Derivation, string) {
	s.Helper()
	made, now, err := s.Derived(s.Context())
	require.NoError(s.T, err)
	var before *derive.Made
	if m, is := made[t.Table]; is {
		before = &m
	}
	reads := s.reads(t)
	var names []string
	for _, r := range reads {
		names = append(names, r.Display())
	}
	why := derive.Stale(t, names, before, now)
	d, err := s.Derive(s.Context(), t, reads, false)
	require.NoError(s.T, err)
	return d, why
}

var byBranch = derive.Table{Table: "reading.by_branch", As: derive.AsMerge, Key: []string{"branch", "name"},
	Comment: "Loans of each branch",
	SQL: `SELECT coalesce(l.branch, 'none') AS branch, t.name, count(*) AS loans, sum(l.fee) AS fees
FROM kept.loans AS l JOIN kept.titles AS t ON t.id = l.title GROUP BY ALL; `}

// Whatever a derived table is, it has what its SQL gives, is stale when what it reads has changed, and only then.
func TestDerivedTablesFollowWhatTheyRead(t *testing.T) {
	for _, as := range []derive.As{derive.AsView, derive.AsTable, derive.AsMerge} {
		t.Run(string(as), func(t *testing.T) {
			s := newShelves(t)
			table := byBranch
			if table.As = as; as != derive.AsMerge {
				table.Key = nil
			}
			check := func() {
				t.Helper()
				require.Equal(t, s.rows(unended(table.SQL)), s.rows("SELECT * FROM reading.by_branch"))
				require.Equal(t, []string{"Loans of each branch"}, s.rows("SELECT comment FROM duckdb_tables() WHERE table_name = "+
					"'by_branch' UNION SELECT comment FROM duckdb_views() WHERE view_name = 'by_branch'"))
			}
			d, why := s.made(table)
			require.Equal(t, "it was never made", why)
			require.False(t, d.Same)
			check()
			_, why = s.made(table)
			require.Empty(t, why)
			s.brings("kept.loans", "UPDATE kept.loans SET fee = fee WHERE id = 1")
			d, why = s.made(table)
			require.Equal(t, "kept.loans changed", why)
			require.Equal(t, as != derive.AsView, d.Same, "the rows are as before")
			s.brings("kept.loans", "DELETE FROM kept.loans WHERE id = 2")
			s.brings("kept.titles", "UPDATE kept.titles SET name = 'Weir' WHERE id = 2")
			d, why = s.made(table)
			require.Equal(t, "kept.loans, kept.titles changed", why)
			require.False(t, d.Same)
			check()
			if as == derive.AsMerge {
				require.Equal(t, []int64{1, 0, 2, 2}, []int64{d.Inserted, d.Updated, d.Deleted, d.Rows})
			}
			s.brings("kept.loans", "ALTER TABLE kept.loans ADD COLUMN desk INTEGER")
			table.SQL = "SELECT branch, id AS name, desk FROM kept.loans WHERE branch IS NOT NULL"
			_, why = s.made(table)
			require.Equal(t, "its definition has changed", why)
			check()
			table.As, table.Key = derive.AsTable, nil // whatever it was
			s.made(table)
			check()
			table.As = derive.AsView
			s.made(table)
			check()
			_, before, err := s.Derived(t.Context())
			require.NoError(t, err)
			require.NoError(t, s.DropDerived(t.Context(), table.Name()))
			s.made(table)
			_, after, err := s.Derived(t.Context())
			require.NoError(t, err)
			require.NotEqual(t, before[table.Table], after[table.Table], "what is made anew is another, also for who reads it")
			require.NoError(t, s.DropDerived(t.Context(), table.Name()))
			require.Empty(t, s.rows("SELECT * FROM noemata.derived"))
		})
	}
}

// Values that are equal and yet not the same are others; a merge leaves rows alone that are the same.
func TestMergesWriteOnlyRowsThatAreOthers(t *testing.T) {
	s := newShelves(t)
	table := derive.Table{Table: "reading.fees", As: derive.AsMerge, Key: []string{"id"},
		SQL: "SELECT id, fee, [fee] AS fees, branch FROM kept.loans"}
	s.made(table)
	s.brings("kept.loans", "DELETE FROM kept.loans WHERE id = 1; INSERT INTO kept.loans VALUES (1, 1, 'north', '-0'::DOUBLE)")
	d, _ := s.made(table)
	require.Equal(t, []int64{0, 1, 0}, []int64{d.Inserted, d.Updated, d.Deleted})
	require.Equal(t, s.rows(table.SQL), s.rows("SELECT * FROM reading.fees"))
	s.brings("kept.loans", "INSERT INTO kept.loans VALUES (3, 2, 'again', 1)")
	d, _ = s.made(table)
	require.True(t, d.Kept, "a key is there twice")
	require.Equal(t, int64(1), d.Checks[0].Found)
	require.Len(t, s.rows("SELECT * FROM reading.fees"), 3)
	_, why := s.made(table)
	require.Equal(t, "kept.loans changed", why, "what was kept is stale")
}

// Columns of every type, and beside any others, are told from what they were: in a table that is put in the place of the one
// before, in one that is merged, and in parts of what is read.
func TestChangesOfEveryTypeAreSeen(t *testing.T) {
	types := []string{"INTEGER", "HUGEINT", "VARCHAR", "DOUBLE", "DECIMAL(12,3)", "DATE", "TIME", "TIMESTAMP", "TIMESTAMP_NS",
		"TIMESTAMP WITH TIME ZONE", "TIME WITH TIME ZONE", "INTERVAL", "BLOB", "UUID", "BOOLEAN", "JSON", "INTEGER[]",
		`STRUCT("a b" INTEGER, c VARCHAR)`, "MAP(VARCHAR, INTEGER)", "ENUM('a b', 'c')", "BIT"}
	values := [][2]string{{"1", "2"}, {"1", "2"}, {"''", "NULL"}, {"0", "'-0'"}, {"1", "1.001"}, {"'2026-01-01'", "'2026-01-02'"},
		{"'10:00:00'", "'10:00:00.000001'"}, {"'2026-01-01'", "'2026-01-01 00:00:01'"}, {"'2026-01-01 00:00:00.000000001'",
			"'2026-01-01 00:00:00.000000002'"}, {"'2026-01-01 00:00:00+00'", "'2026-01-01 00:00:00+01'"},
		{"'10:00:00+00'", "'11:00:00+01'"}, {"'30 days'", "'1 month'"}, {"'a'", "'b'"},
		{"'6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e8f'", "'6b2f8a50-1c7e-4b0e-9f0d-2f3a5c6d7e80'"}, {"true", "NULL"},
		{`'{"a":1}'`, `'{"a": 1}'`}, {"[1, 2]", "[2, 1]"}, {"{'a b': 1, 'c': 'x'}", "{'a b': 1, 'c': 'y'}"},
		{"MAP {'a': 1}", "MAP {'a': 2}"}, {"'a b'", "'c'"}, {"'101'", "'100'"}}
	for i, native := range types {
		t.Run(native, func(t *testing.T) {
			s := newShelves(t)
			quoted := schema.Quote([]string{"v", "part", "digest", `od"d`}[i%4])
			s.run("CREATE TABLE kept.typed (id INTEGER, k INTEGER, " + quoted + " " + native + // and what statements call things by
				", r INTEGER DEFAULT 1, t INTEGER DEFAULT 1, s INTEGER DEFAULT 1, typed INTEGER DEFAULT 1)")
			s.brings("kept.typed", "INSERT INTO kept.typed (id, k, "+quoted+") VALUES (1, 7, "+values[i][0]+"), (2, 8, "+
				values[i][0]+")")
			sql := "SELECT * FROM kept.typed"
			table := derive.Table{Table: "reading.typed", SQL: sql}
			merged := derive.Table{Table: "reading.merged", As: derive.AsMerge, Key: []string{"id"}, SQL: sql}
			parted := merged
			parted.Table, parted.Parts = "reading.parted", &derive.Parts{Column: "k", Inputs: map[string]string{"kept.typed": "k"}}
			for range 2 {
				for _, x := range []derive.Table{table, merged, parted} {
					s.made(x)
				}
			}
			for j := range 2 { // there and back
				v := values[i][1-j]
				s.brings("kept.typed", "DELETE FROM kept.typed WHERE id = 1; INSERT INTO kept.typed (id, k, "+quoted+") VALUES (1, 7, "+
					v+")")
				for _, x := range []derive.Table{table, merged, parted} {
					d, _ := s.made(x)
					require.False(t, d.Same, "%s in %s", v, x.Table)
					require.Equal(t, s.rows("SELECT id, k, "+quoted+"::VARCHAR FROM kept.typed"),
						s.rows("SELECT id, k, "+quoted+"::VARCHAR FROM "+x.Table), x.Table)
					if x.As == derive.AsMerge {
						require.Equal(t, []int64{0, 1, 0}, []int64{d.Inserted, d.Updated, d.Deleted})
					}
				}
			}
		})
	}
}

// What is there is compared, and not what was there once: a table that was merged meanwhile, or that somebody has changed,
// comes to what its SQL gives. Made by hand, so does one with parts.
func TestWhatIsThereIsCompared(t *testing.T) {
	s := newShelves(t)
	table := derive.Table{Table: "reading.loans", SQL: "SELECT id, branch FROM kept.loans"}
	right := func() {
		t.Helper()
		require.Equal(t, s.rows("SELECT id, branch FROM kept.loans"), s.rows("SELECT * FROM reading.loans"))
	}
	s.made(table)
	merged := table
	merged.As, merged.Key = derive.AsMerge, []string{"id"}
	s.brings("kept.loans", "UPDATE kept.loans SET branch = 'west' WHERE id = 1")
	s.made(merged)
	right()
	s.brings("kept.loans", "UPDATE kept.loans SET branch = 'north' WHERE id = 1") // as it was when it was no merge
	d, _ := s.made(table)
	require.False(t, d.Same)
	right()
	s.run("UPDATE reading.loans SET branch = 'by hand'")
	s.made(table)
	right()
	parted := merged
	parted.Parts = &derive.Parts{Column: "id", Inputs: map[string]string{"kept.loans": "id"}}
	s.made(parted)
	s.run("DELETE FROM reading.loans WHERE id = 2")
	_, err := s.Derive(t.Context(), parted, s.reads(parted), true)
	require.NoError(t, err)
	right()
}

// A table that takes more memory than the file has is made once it has more, and it is said so.
func TestATableThatTakesMoreMemory(t *testing.T) {
	s := newShelves(t)
	table := derive.Table{Table: "reading.long", SQL: "SELECT length(string_agg(repeat('x', 1000), '')) AS n FROM range(200000)"}
	_, err := s.Derive(t.Context(), table, nil, false)
	require.ErrorContains(t, err, "takes more than 96 MB of memory")
	require.ErrorContains(t, err, "The file is opened with 1024 MB, and it is tried again.")
	_, err = s.Derive(t.Context(), table, nil, false)
	require.NoError(t, err)
	require.Equal(t, []string{"200000000"}, s.rows("SELECT * FROM reading.long"))
}

// A change of an input with parts reaches only the rows of those parts; one of another input reaches all.
func TestOnlyPartsThatChangedAreMade(t *testing.T) {
	s := newShelves(t)
	table := byBranch
	table.SQL = `SELECT l.branch, t.name, count(*) AS loans, sum(l.fee) AS fees
FROM kept.loans AS l JOIN kept.titles AS t ON t.id = l.title GROUP BY ALL`
	table.Key, table.Parts = []string{"branch", "name"}, &derive.Parts{Column: "branch", Inputs: map[string]string{
		"kept.loans": "branch"}}
	s.brings("kept.loans", "UPDATE kept.loans SET branch = 'east' WHERE branch IS NULL")
	d, _ := s.made(table)
	require.Nil(t, d.Parts)
	for _, change := range []struct {
		of, sql string
		parts   []string
		written int64
	}{
		{"loans", "UPDATE kept.loans SET branch = 'south' WHERE id = 1", []string{"=north", "=south"}, 2},
		{"loans", "INSERT INTO kept.loans VALUES (7, 2, 'o''hill', 1)", []string{"=o'hill"}, 1},
		{"loans", "UPDATE kept.loans SET fee = 9 WHERE branch = 'south'", []string{"=south"}, 1},
		{"loans", "DELETE FROM kept.loans WHERE branch = 'south'", []string{"=south"}, 1},
		{"loans", "UPDATE kept.loans SET fee = fee", []string{}, 0},
		{"titles", "UPDATE kept.titles SET name = 'Tide'", nil, 4},
		{"loans", "DELETE FROM kept.loans", []string{"=east", "=o'hill"}, 2},
	} {
		s.brings("kept."+change.of, change.sql)
		d, _ = s.made(table)
		require.ElementsMatch(t, change.parts, d.Parts, change.sql)
		require.Equal(t, change.parts == nil, d.Parts == nil, change.sql)
		require.Equal(t, change.written, d.Inserted+d.Updated+d.Deleted, change.sql)
		require.Equal(t, s.rows(table.SQL), s.rows("SELECT * FROM reading.by_branch"), change.sql)
	}
}

// A check that fails leaves the table as it was, or only tells, as its file says.
func TestChecksThatFail(t *testing.T) {
	s := newShelves(t)
	table := derive.Table{Table: "reading.desk", SQL: "SELECT id, branch FROM kept.loans", Checks: []derive.Check{
		{Unique: []string{"id"}}, {Values: &derive.Values{Column: "branch", In: []string{"north", "south", "we'st"}}},
		{None: "SELECT * FROM reading.desk WHERE id > 100;"}, {NotNull: []string{"branch"}, Failing: derive.Tell}}}
	d, _ := s.made(table)
	require.False(t, d.Kept)
	require.Equal(t, []int64{0, 0, 0, 1}, []int64{d.Checks[0].Found, d.Checks[1].Found, d.Checks[2].Found, d.Checks[3].Found})
	before := s.rows("SELECT * FROM reading.desk")
	s.brings("kept.loans", "INSERT INTO kept.loans VALUES (101, 1, 'west', 0), (101, 1, 'we''st', 0)")
	d, _ = s.made(table)
	require.True(t, d.Kept)
	require.Equal(t, []int64{1, 1, 2, 1}, []int64{d.Checks[0].Found, d.Checks[1].Found, d.Checks[2].Found, d.Checks[3].Found})
	require.Equal(t, before, s.rows("SELECT * FROM reading.desk"))
	for i, n := range []int{1, 1, 0, 1} { // what of the rows that were kept does not break is gone
		require.Len(t, s.rows(d.Checks[i].SQL), n, d.Checks[i].SQL)
	}
}

// What a derived table may not read, or cannot be made of, is refused before anything is made; each mistake has its place.
func TestDerivedTablesThatCannotBe(t *testing.T) {
	s := newShelves(t)
	for sql, said := range map[string]string{
		"DELETE FROM kept.loans":                             "Only questions are answered",
		"SELECT 1; SELECT 2":                                 "2 statements",
		"SELECT 1; -- and more":                              "nothing after it",
		"EXPLAIN SELECT 1":                                   "one SELECT",
		"DESCRIBE kept.loans":                                "DESCRIBE, SHOW or SUMMARIZE",
		"SELECT * FROM noemata.positions":                    "may not ask the schema noemata",
		"SELECT * FROM noemata.freshness":                    "noemata.freshness is asked",
		"SELECT * FROM duckdb_tables()":                      "the catalogue is asked",
		"SELECT * FROM information_schema.tables":            "the catalogue is asked",
		"SELECT * FROM read_csv('/etc/passwd')":              "cannot be asked",
		"SELECT * FROM '/etc/passwd'":                        "",
		"SELECT * FROM kept.loans WHERE id = nextval('x.y')": "change nothing",
	} {
		_, err := s.Reads(t.Context(), sql, everyone)
		if said == "" { // a file is a table of a strange name, which is not there
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, said, sql)
	}
	require.Equal(t, []schema.Name{{Schema: "kept", Table: "loans"}, {Schema: "main", Table: "x"}}, s.reads(derive.Table{
		SQL: "WITH a AS (SELECT * FROM Kept.Loans) SELECT * FROM a, x"}))
	s.run(`CREATE TABLE kept."ŒSLING.Quay" (id INTEGER)`)
	s.brings(`kept."ŒSLING.Quay"`, `INSERT INTO kept."ŒSLING.Quay" VALUES (1)`)
	odd := derive.Table{Table: `reading."Œ Q"`, SQL: `SELECT * FROM kept."Œsling.QUAY"`}
	_, now, err := s.Derived(t.Context())
	require.NoError(t, err)
	require.Equal(t, "1 ", now[s.reads(odd)[0].Display()][:2], "A and a are one, but Œ and œ are not")
	_, err = s.Derive(t.Context(), odd, s.reads(odd), false)
	require.NoError(t, err)
	require.Equal(t, []string{"1"}, s.rows(`SELECT * FROM reading."Œ q"`))
	good := derive.Table{Table: "reading.good", SQL: "SELECT id FROM kept.loans"}
	mistakes, err := s.Binds(t.Context(), []derive.Table{good,
		{Table: "reading.after", SQL: "SELECT id FROM reading.good"},
		{Table: "reading.column", SQL: "SELECT id,\n  nobody FROM kept.loans"},
		{Table: "reading.table", SQL: "SELECT * FROM kept.nowhere"},
		{Table: "reading.key", As: derive.AsMerge, Key: []string{"no"}, SQL: "SELECT id FROM kept.loans"},
		{Table: "reading.check", SQL: "SELECT id FROM kept.loans", Checks: []derive.Check{{None: "SELECT x FROM reading.check"}}},
		{Table: "reading.parts", As: derive.AsMerge, Key: []string{"id"}, SQL: "SELECT id FROM kept.loans",
			Parts: &derive.Parts{Column: "id", Inputs: map[string]string{"kept.loans": "no"}}}})
	require.NoError(t, err)
	said := map[string]string{"reading.column": "nobody", "reading.table": "nowhere", "reading.key": "a column that it does not have",
		"reading.check": "x", "reading.parts": "that kept.loans does not have"}
	require.Len(t, mistakes, len(said))
	for table, words := range said {
		require.NotNil(t, mistakes[table], table)
		require.Contains(t, mistakes[table].Message, words)
	}
	require.Equal(t, len("SELECT id,\n  ")+1, mistakes["reading.column"].Position)
	require.Empty(t, s.rows("SELECT * FROM duckdb_tables() WHERE table_name = 'good'"), "nothing was made")

	s.run("CREATE TABLE reading.good (x INTEGER)", "INSERT INTO reading.good VALUES (7)")
	_, err = s.Derive(t.Context(), good, s.reads(good), false)
	require.True(t, problem.Is(err, problem.Held), "%v", err)
	require.Equal(t, []string{"7"}, s.rows("SELECT * FROM reading.good"), "what Noemata has not derived stays")
	broken := derive.Table{Table: "reading.broken", SQL: "SELECT CAST(branch AS INTEGER) AS n FROM kept.loans"}
	_, err = s.Derive(t.Context(), broken, s.reads(broken), false)
	require.ErrorAs(t, err, new(*warehouse.Mistake))
	require.ErrorContains(t, err, "north")
}
