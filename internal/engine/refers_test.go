package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/engine"
)

// Regions have branches, these have shelves and copies; topics are below topics. The server deletes and
// changes rows by these references without a word in its log.
const referring = `
CREATE TABLE regions (id int PRIMARY KEY, name varchar(20));
CREATE TABLE branches (id int PRIMARY KEY, region int, name varchar(20),
  FOREIGN KEY (region) REFERENCES regions (id) ON DELETE CASCADE ON UPDATE CASCADE);
CREATE TABLE shelves (id int PRIMARY KEY, branch int, name varchar(20),
  FOREIGN KEY (branch) REFERENCES branches (id) ON DELETE CASCADE);
CREATE TABLE copies (id int PRIMARY KEY, branch int NOT NULL, shelf int, note varchar(20),
  CONSTRAINT home FOREIGN KEY (branch) REFERENCES branches (id) ON DELETE CASCADE,
  CONSTRAINT place FOREIGN KEY (shelf) REFERENCES shelves (id) ON DELETE SET NULL);
CREATE TABLE topics (id int PRIMARY KEY, above int, name varchar(20),
  FOREIGN KEY (above) REFERENCES topics (id) ON DELETE CASCADE)`

var referringTables = []string{"regions", "branches", "shelves", "copies", "topics"}

// followReferring follows the tables, each kept in a way.
func followReferring(t testing.TB, b *mariaBench, keep func(i int) feed.Keep) *follower {
	var tables []feed.Table
	for i, name := range referringTables {
		x := feed.Table{Table: b.table(name), Keep: keep(i), Target: "kept." + name}
		if name == "copies" { // the column by which they refer has another name, and values that nobody sees
			x.Columns = map[string]feed.Treatment{"shelf": {Name: "stands_on"}, "note": {Hash: "notes"}}
			x.Where = "id % 7 != 3"
		}
		tables = append(tables, x)
	}
	return newFollower(t, b.workbench, tables...)
}

// What the server does by itself is in the warehouse in the same commit, through several levels.
func TestRowsThatTheServerChangesByReferences(t *testing.T) {
	raceless(t)
	onEachCatalogue(t, func(t *testing.T, b *mariaBench, _ bool) {
		b.exec(referring)
		b.exec(`INSERT INTO regions VALUES (1, 'north'), (2, 'south'); INSERT INTO branches VALUES (1, 1, 'Grünau'),
			(2, 1, 'Dornheim'), (3, 2, 'Fernmoor'); INSERT INTO shelves VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 3, 'c');
			INSERT INTO copies VALUES (1, 1, 1, 'n'), (2, 2, 1, 'n'), (3, 3, 1, 'n'), (4, 3, 2, 'n'), (5, 3, 3, 'n');
			INSERT INTO topics VALUES (1, NULL, 'a'), (2, 1, 'b'), (3, 2, 'c'), (4, NULL, 'd')`)
		keeps := []feed.Keep{feed.KeepLatest, feed.KeepHistory, feed.KeepSoftDelete, feed.KeepHistory, feed.KeepLatest}
		f := followReferring(t, b, func(i int) feed.Keep { return keeps[i] })
		f.catchUp()
		require.EqualValues(t, 4, len(f.see("SELECT id FROM kept.copies WHERE nm_current")))

		b.exec("DELETE FROM shelves WHERE id = 2; UPDATE regions SET id = 22 WHERE id = 2")
		books := f.catchUp()
		require.Equal(t, rows.Books{Read: 1, Updated: 1}, books[b.table("branches")])
		require.Equal(t, rows.Books{Read: 1, Updated: 1}, books[b.table("copies")])
		require.Equal(t, []string{"1 | 1 | 1", "2 | 2 | 1", "4 | 3 | <nil>", "5 | 3 | 3"},
			f.see("SELECT id, branch, stands_on FROM kept.copies WHERE nm_current ORDER BY id"))

		// In one transaction: what was inserted in it goes, too, and what was moved away stays.
		b.session("BEGIN", "INSERT INTO copies VALUES (8, 1, NULL, 'x'), (9, 3, NULL, 'x')",
			"UPDATE copies SET branch = 1 WHERE id = 9", "UPDATE copies SET branch = 3, shelf = NULL WHERE id = 1",
			"DELETE FROM regions WHERE id = 1", "DELETE FROM topics WHERE id = 1", "COMMIT")
		f.catchUp()
		require.Equal(t, []string{"22"}, f.see("SELECT id FROM kept.regions"))
		require.Equal(t, []string{"1 | 3 | <nil>", "4 | 3 | <nil>", "5 | 3 | 3"},
			f.see("SELECT id, branch, stands_on FROM kept.copies WHERE nm_current ORDER BY id"))
		require.Equal(t, []string{"1 | true", "2 | true", "3 | false"},
			f.see("SELECT id, nm_deleted_at IS NOT NULL FROM kept.shelves ORDER BY id"))
		require.Equal(t, []string{"4"}, f.see("SELECT id FROM kept.topics"))

		// Where nobody looked at foreign keys, nothing happened; and keys that are changed are noticed.
		b.session("SET SESSION foreign_key_checks = 0", "DELETE FROM branches WHERE id = 3",
			"SET SESSION foreign_key_checks = 1")
		f.catchUp()
		f.proveAll()
		b.exec("ALTER TABLE copies DROP FOREIGN KEY place")
		f.catchUp()
		require.ErrorContains(t, f.held(b.table("copies")), "foreign keys were changed")
		require.True(t, problem.Is(f.held(b.table("copies")), problem.Held))
	})
}

// References whose effects cannot be found are refused beforehand, each with what to do.
func TestReferencesThatAreRefused(t *testing.T) {
	raceless(t)
	b := newMariaBench(t, "duckdb")
	b.exec(`CREATE TABLE branches (id int PRIMARY KEY, code varchar(9) UNIQUE, seat int UNIQUE,
			FOREIGN KEY (seat) REFERENCES branches (id) ON DELETE SET NULL);
		CREATE TABLE by_text (id int PRIMARY KEY, code varchar(9), FOREIGN KEY (code) REFERENCES branches (code) ON DELETE CASCADE);
		CREATE TABLE by_seat (id int PRIMARY KEY, seat int, FOREIGN KEY (seat) REFERENCES branches (seat) ON DELETE CASCADE);
		CREATE TABLE in_key (branch int, no int, PRIMARY KEY (branch, no), FOREIGN KEY (branch) REFERENCES branches (id) ON UPDATE CASCADE);
		CREATE TABLE plain (id int PRIMARY KEY, branch int, FOREIGN KEY (branch) REFERENCES branches (id) ON DELETE SET NULL);
		CREATE TABLE one (id int PRIMARY KEY, other int); CREATE TABLE other (id int PRIMARY KEY, one int, FOREIGN KEY (one) REFERENCES one (id) ON DELETE CASCADE);
		ALTER TABLE one ADD FOREIGN KEY (other) REFERENCES other (id) ON DELETE CASCADE`)
	for says, x := range map[string]feed.Table{
		"of which texts that differ may be equal": {Table: b.table("by_text"), Keep: feed.KeepLatest},
		"others than the key of":                  {Table: b.table("by_seat"), Keep: feed.KeepLatest},
		"is part of the key":                      {Table: b.table("in_key"), Keep: feed.KeepLatest},
		"a ledger does not know":                  {Table: b.table("plain"), Keep: feed.KeepLedger},
		"computes with the column branch":         {Table: b.table("plain"), Keep: feed.KeepLatest, Where: "branch > 1"},
		"does not arrive as it is": {Table: b.table("plain"), Keep: feed.KeepLatest,
			Columns: map[string]feed.Treatment{"branch": {Mask: feed.MaskNull}}},
		"in a circle": {Table: b.table("one"), Keep: feed.KeepLatest},
	} {
		x.Find = feed.FindLog
		b.feed.Tables = []feed.Table{x, {Table: b.table("branches"), Find: feed.FindLog, Keep: feed.KeepLatest}}
		if says == "in a circle" {
			b.feed.Tables[1].Table = b.table("other")
		}
		told := fmt.Sprint(engine.Check(t.Context(), b.feed, b.source, b.warehouse, testKeys))
		require.Contains(t, told, says)
		require.Contains(t, told, "restrict instead")
	}
}

// proveAll compares all tables of the feed.
func (f *follower) proveAll() {
	f.t.Helper()
	for _, x := range f.feed.Tables {
		proof, err := engine.Prove(context.Background(), engine.Work{Feed: f.feed, Table: x, Source: f.source,
			Warehouse: f.warehouse, Keys: testKeys})
		require.NoError(f.t, err)
		require.True(f.t, proof.Same, "%s: %+v", x.Table, proof)
	}
}

// Random histories, while tables are copied again and runs are ended: all tables are equal after each.
func TestReferencesInRandomHistories(t *testing.T) {
	raceless(t)
	onEachCatalogue(t, func(t *testing.T, b *mariaBench, _ bool) {
		b.exec(referring)
		r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 5))
		keeps := []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory}
		f := followReferring(t, b, func(int) feed.Keep { return keeps[r.IntN(3)] })
		length := 8 * time.Second
		if long := os.Getenv("NOEMATA_TORTURE"); long != "" {
			var err error
			length, err = time.ParseDuration(long)
			require.NoError(t, err)
		}
		for ends := time.Now().Add(length); time.Now().Before(ends); {
			writing, stop := context.WithCancel(t.Context())
			written := make(chan []string, 1)
			seed := r.Uint64()
			go func() { written <- b.refersAtRandom(writing, seed) }()
			if r.IntN(3) == 0 {
				again := b.table(referringTables[r.IntN(len(referringTables))])
				if err := engine.CopyAgain(t.Context(), f.feed, []string{again}, b.source, b.warehouse); err != nil {
					f.bearable(err)
				}
			}
			for range 1 + r.IntN(3) {
				f.disturbed(r, func() {})
			}
			stop()
			did := <-written
			f.settle()
			for _, sql := range did[max(0, len(did)-30):] {
				t.Log(sql)
			}
			f.proveAll()
		}
	})
}

// refersAtRandom writes until the context ends, and gives what it did.
func (b *mariaBench) refersAtRandom(ctx context.Context, seed uint64) (did []string) {
	r := rand.New(rand.NewPCG(seed, 1))
	conn, err := b.db.Conn(context.Background())
	if err != nil {
		return []string{err.Error()}
	}
	defer func() { _ = conn.Close() }()
	for ctx.Err() == nil {
		id := func(n int) int { return 1 + r.IntN(n) }
		statements := []string{"BEGIN"}
		for range id(5) {
			statements = append(statements, []string{
				fmt.Sprintf("INSERT IGNORE INTO regions VALUES (%d, 'r')", id(4)),
				fmt.Sprintf("INSERT IGNORE INTO branches VALUES (%d, %d, 'b')", id(8), id(4)),
				fmt.Sprintf("INSERT IGNORE INTO shelves VALUES (%d, %d, 's')", id(12), id(8)),
				fmt.Sprintf("INSERT IGNORE INTO copies VALUES (%d, %d, %d, 'c')", id(40), id(8), id(12)),
				fmt.Sprintf("INSERT IGNORE INTO copies VALUES (%d, %d, NULL, 'c')", id(40), id(8)),
				fmt.Sprintf("INSERT IGNORE INTO topics VALUES (%d, %d, 't')", id(20), id(20)),
				fmt.Sprintf("INSERT IGNORE INTO topics VALUES (%d, NULL, 't')", id(20)),
				fmt.Sprintf("UPDATE copies SET shelf = %d WHERE id = %d", id(12), id(40)),
				fmt.Sprintf("UPDATE IGNORE copies SET branch = %d, note = 'm' WHERE id = %d", id(8), id(40)),
				fmt.Sprintf("UPDATE IGNORE copies SET id = id + 40 WHERE id = %d", id(40)),
				fmt.Sprintf("UPDATE branches SET region = %d WHERE id = %d", id(4), id(8)),
				fmt.Sprintf("UPDATE IGNORE regions SET id = %d WHERE id = %d", id(4), id(4)),
				fmt.Sprintf("DELETE FROM regions WHERE id = %d", id(4)),
				fmt.Sprintf("DELETE FROM branches WHERE id = %d", id(8)),
				fmt.Sprintf("DELETE FROM shelves WHERE id = %d", id(12)),
				fmt.Sprintf("DELETE FROM copies WHERE id = %d", id(80)),
				fmt.Sprintf("DELETE FROM topics WHERE id = %d", id(20)),
			}[r.IntN(17)])
		}
		end := "COMMIT"
		if r.IntN(12) == 0 {
			end = "ROLLBACK"
		}
		for _, sql := range append(statements, end) {
			_, err := conn.ExecContext(context.Background(), sql)
			if err != nil {
				sql += " -- " + strings.SplitN(err.Error(), "(", 2)[0]
			}
			did = append(did, sql)
		}
		time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
	}
	return did
}
