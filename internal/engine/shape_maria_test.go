package engine_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/engine"
	"noemata/internal/testkit"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// copies are tables of a catalogue that a feed shapes, one for each of its ways to keep rows, all with the
// same rows. What the feed makes of them is computed here once more, from what the source has: its servers
// have no HMAC, and MySQL's of the tests no JSON.
type copies struct {
	*mariaBench
	r   *rand.Rand
	did []string
}

var copiesKept = map[string]feed.Keep{"p_latest": feed.KeepLatest, "p_soft": feed.KeepSoftDelete,
	"p_history": feed.KeepHistory, "p_ledger": feed.KeepLedger}

func (c *copies) each(statements ...string) {
	c.did = append(c.did[max(0, len(c.did)-60):], strings.Join(statements, "; "))
	for name := range copiesKept {
		var list []string
		for _, sql := range statements {
			list = append(list, strings.ReplaceAll(sql, "TABLE_", name))
		}
		c.session(list...)
	}
}

// change changes the tables, all in the same way, in one transaction.
func (c *copies) change() {
	statements := []string{"START TRANSACTION"}
	for range 1 + c.r.IntN(6) {
		id := 1 + c.r.IntN(60)
		switch n := c.r.IntN(10); {
		case n < 4:
			statements = append(statements, fmt.Sprintf("INSERT IGNORE INTO TABLE_ (id, %s) VALUES (%d, %s)",
				strings.Join(columnsOfCopies, ", "), id, strings.Join(c.values(), ", ")))
		case n < 8:
			values := c.values()
			for i, column := range columnsOfCopies {
				values[i] = column + " = " + values[i]
			}
			statements = append(statements, fmt.Sprintf("UPDATE TABLE_ SET %s WHERE id = %d", strings.Join(values, ", "), id))
		case n < 9:
			statements = append(statements, fmt.Sprintf("DELETE FROM TABLE_ WHERE id = %d", id))
		default:
			statements = append(statements, fmt.Sprintf("UPDATE IGNORE TABLE_ SET id = id + 100 WHERE id = %d", id))
		}
	}
	c.each(append(statements, "COMMIT")...)
}

var columnsOfCopies = []string{"kind", "amount", "card", "email", "phone", "born", "doc", "reader"}

// values are those of a row, at random: some that the filter leaves out, and nulls.
func (c *copies) values() []string {
	pick := func(list ...string) string { return list[c.r.IntN(len(list))] }
	amount := fmt.Sprintf("%d.%02d", c.r.IntN(4), c.r.IntN(100))
	return []string{pick("'card'", "'card'", "'card'", "'CARD'", "'cash'", "null"),
		pick(amount, amount, "1.50", "1.51", "null"), fmt.Sprintf("'SECRETCARD%d'", c.r.IntN(1e9)),
		pick(fmt.Sprintf("'SECRETMAIL%d@example.org'", c.r.IntN(20)), "null", "''"),
		pick("'SECRETPHONE017'", "'12'", "null", "'Grünau'"), pick("'1984-05-06'", "'2000-02-29'", "null"),
		pick(`'{"city":"Grünau","floor":3}'`, `'{"city":null}'`, `'{"floor":"7"}'`, "null", `'{"private":"SECRETDOC"}'`),
		pick(fmt.Sprint(c.r.IntN(50)), "null")}
}

// drift changes the structure of all tables in one of the ways that a feed can follow. A column that came
// goes when it is its turn again, since targets keep those that have gone.
func (c *copies) drift(n int) {
	column := fmt.Sprintf("extra%d", n%10)
	var there bool
	require.NoError(c.t, c.db.QueryRow("SELECT count(*) > 0 FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = database() AND "+
		"TABLE_NAME = 'p_latest' AND COLUMN_NAME = ?", column).Scan(&there))
	if there {
		c.each("ALTER TABLE TABLE_ DROP COLUMN " + column)
		return
	}
	kind, wider := "int", "bigint" // one that comes again has the type that it had
	if n%2 == 0 {
		kind, wider = "varchar(9)", "varchar(20)"
	}
	for _, sql := range [][]string{
		{"ALTER TABLE TABLE_ ADD COLUMN NEW_ TYPE_ DEFAULT '7'"},
		{"ALTER TABLE TABLE_ ADD COLUMN NEW_ TYPE_ NOT NULL DEFAULT '8' FIRST"},
		{"ALTER TABLE TABLE_ ADD COLUMN NEW_ TYPE_", "ALTER TABLE TABLE_ MODIFY NEW_ WIDER_"},
		{"ALTER TABLE TABLE_ ADD COLUMN NEW_ TYPE_", "ALTER TABLE TABLE_ CHANGE NEW_ other int",
			"ALTER TABLE TABLE_ DROP COLUMN other"},
		{"CREATE TABLE TABLE_fresh LIKE TABLE_", "INSERT INTO TABLE_fresh SELECT * FROM TABLE_ WHERE id % 7 > 0",
			"DROP TABLE TABLE_", "RENAME TABLE TABLE_fresh TO TABLE_"},
	}[c.r.IntN(5)] {
		c.each(strings.NewReplacer("NEW_", column, "TYPE_", kind, "WIDER_", wider).Replace(sql))
	}
}

// must is what the feed makes of a table.
func (c *copies) must(name string) []string {
	found, err := c.db.Query("SELECT id, kind, amount, email, phone, born, doc, reader FROM " + name + " ORDER BY id")
	require.NoError(c.t, err)
	defer func() { _ = found.Close() }()
	list := []string{}
	for found.Next() {
		var id int
		var kind, amount, email, phone, born, doc, reader sql.NullString
		require.NoError(c.t, found.Scan(&id, &kind, &amount, &email, &phone, &born, &doc, &reader))
		n, ok := new(big.Rat).SetString(amount.String)
		if kind.String != "card" || !ok || n.Cmp(big.NewRat(3, 2)) <= 0 {
			continue
		}
		hashed := func(form string, v sql.NullString) any {
			if !v.Valid {
				return nil
			}
			mac := hmac.New(sha256.New, []byte(hashKey))
			mac.Write([]byte(form + v.String))
			return hex.EncodeToString(mac.Sum(nil))
		}
		var masked, year, city, floor any
		if phone.Valid {
			r := []rune(phone.String)
			if masked = "***"; len(r) > 3 {
				masked = "***" + string(r[len(r)-3:])
			}
		}
		if born.Valid {
			year = born.String[:4] + "-01-01"
		}
		taken := map[string]any{}
		if doc.Valid {
			require.NoError(c.t, json.Unmarshal([]byte(doc.String), &taken))
		}
		city, floor = taken["city"], taken["floor"]
		double := new(big.Rat).Mul(n, big.NewRat(2, 1))
		list = append(list, strings.Join([]string{fmt.Sprint(id), kind.String, n.FloatString(4),
			fmt.Sprint(hashed("t:", email)),
			fmt.Sprint(masked), fmt.Sprint(year), fmt.Sprint(city), fmt.Sprint(floor), fmt.Sprint(hashed("n:", reader)),
			double.FloatString(2), "north"}, " | "))
	}
	require.NoError(c.t, found.Err())
	return list
}

// A shaped feed follows MariaDB's and MySQL's logs through random histories with drift in their midst: what
// arrives is what is made here of what the source has, and nothing private is in the clear.
func TestAShapedFeedFollowsTheLogOfACatalogue(t *testing.T) {
	onEachCatalogue(t, shapedCatalogue)
	t.Run("mariadb into PostgreSQL", func(t *testing.T) { shapedCatalogue(t, newMariaBench(t, pgwarehouse.Kind), false) })
	t.Run("mysql into PostgreSQL", func(t *testing.T) {
		raceless(t)
		shapedCatalogue(t, newMySQLBench(t, pgwarehouse.Kind), true)
	})
}

func shapedCatalogue(t *testing.T, b *mariaBench, mysql bool) {
	c := &copies{mariaBench: b, r: rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))}
	document := "json"
	if mysql {
		document = "text"
	}
	var tables []feed.Table
	holds := map[string]string{"p_latest": "true", "p_soft": "nm_deleted_at IS NULL", "p_history": "nm_current"}
	for name, keep := range copiesKept {
		b.exec("CREATE TABLE " + name + " (id bigint PRIMARY KEY, kind varchar(9), amount decimal(8,2), card varchar(40), " +
			"email varchar(60), phone varchar(40), born date, doc " + document + ", reader int) CHARACTER SET utf8mb4")
		tables = append(tables, shaped(feed.Table{Table: b.table(name), Keep: keep, Target: "kept." + name,
			Drift: &feed.Drift{Columns: drift.Follow, Types: drift.Follow, Tables: drift.Follow}}))
	}
	for range 30 {
		c.change()
	}
	f := newFollower(t, b.workbench, tables...)
	length := 5 * time.Second
	if long := os.Getenv("NOEMATA_TORTURE"); long != "" {
		var err error
		length, err = time.ParseDuration(long)
		require.NoError(t, err)
	}
	seen, drifts := 0, 0
	for round, ends := 0, time.Now().Add(length); round < 3 || time.Now().Before(ends); round++ {
		f.catchUp()
		for name, where := range holds {
			want := c.must(name)
			got := f.see(`SELECT id, payment_kind, CAST(amount AS VARCHAR), email, phone, CAST(born AS VARCHAR), city, floor,
					reader, CAST(doubled AS VARCHAR), region FROM kept.` + name + " WHERE " + where + " ORDER BY id")
			if strings.Join(want, "\n") != strings.Join(got, "\n") {
				for _, did := range c.did {
					t.Log(did)
				}
			}
			require.Equal(t, want, got, name)
			seen += len(want)
		}
		for _, table := range tables {
			if table.Keep == feed.KeepLedger {
				continue
			}
			proof, err := engine.Prove(t.Context(), engine.Work{Feed: f.feed, Table: table, Source: f.source,
				Warehouse: f.warehouse, Keys: testKeys})
			require.NoError(t, err)
			require.True(t, proof.Same, "%s: %+v", table.Table, proof)
		}
		for range 5 + c.r.IntN(10) {
			c.change()
		}
		if round%3 == 1 {
			drifts++
			c.drift(drifts)
			c.change()
		}
	}
	require.Positive(t, seen)
	for _, name := range []schema.Name{{Schema: "kept"}, {Schema: "noemata"}} {
		for _, table := range testkit.SQL(t, b.warehouse,
			"SELECT table_name FROM information_schema.tables WHERE table_schema = '"+
				name.Schema+"'") {
			name.Table = fmt.Sprint(table[0])
			found := testkit.SQL(t, b.warehouse, "SELECT count(*) FROM "+name.Quoted()+" AS t WHERE CAST(t AS VARCHAR) LIKE '%SECRET%'")
			require.EqualValues(t, 0, found[0][0], "%s has a private value in the clear", name)
		}
	}
}
