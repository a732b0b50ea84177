package engine_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/testkit"
	pgwarehouse "noemata/internal/warehouse/postgres"
)

// What the source says of a table and its columns stands in the warehouse, and follows it; what a person
// has written there stays where the source says nothing.
func TestCommentsAreCarriedOver(t *testing.T) {
	raceless(t)
	said := func(b *workbench) map[string]string {
		if w, is := b.warehouse.(handledLake); is {
			all, err := w.Noted(b.t.Context(), schema.Name{Schema: "kept", Table: "loans"})
			require.NoError(b.t, err)
			return all
		}
		query := `SELECT '' AS c, comment FROM duckdb_tables() WHERE table_name = 'loans' UNION ALL
			SELECT column_name, comment FROM duckdb_columns() WHERE table_name = 'loans'`
		if b.kind == pgwarehouse.Kind {
			query = `SELECT coalesce(a.attname, '')::text, d.description FROM pg_description d JOIN pg_class c ON
				c.oid = d.objoid LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.objsubid AND
				d.objsubid > 0 WHERE c.relname = 'loans' AND d.classoid = 'pg_class'::regclass`
		}
		all := map[string]string{}
		for _, row := range testkit.SQL(b.t, b.warehouse, query) {
			if text, _ := row[1].(string); text != "" {
				all[row[0].(string)] = text
			}
		}
		return all
	}
	follow := &feed.Drift{Columns: drift.Follow, Types: drift.Follow}
	onEach(t, func(t *testing.T, b *workbench) {
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY, card text, days int); COMMENT ON TABLE loans IS 'Who''s lent';
			COMMENT ON COLUMN loans.days IS 'For how long'; COMMENT ON COLUMN loans.card IS 'Never seen';
			INSERT INTO loans VALUES (1, 'c', 7)`)
		loans := feed.Table{Table: "public.loans", Find: feed.FindWhole, Keep: feed.KeepLatest, Drift: follow,
			Target:  "kept.loans",
			Columns: map[string]feed.Treatment{"card": {Drop: true}, "days": {Name: "lent_for"}}}
		b.bring(loans)
		has := said(b)
		require.Equal(t, "Who's lent", has[""])
		require.Equal(t, "For how long", has["lent_for"])
		require.Contains(t, has["nm_run"], "The run of Noemata")
		require.NotContains(t, has, "card")
		require.NotContains(t, has, "id")

		testkit.SQL(t, b.warehouse, `COMMENT ON COLUMN kept.loans.id IS 'a person''s own'`)
		b.exec(`COMMENT ON COLUMN loans.days IS 'Days'; ALTER TABLE loans ADD note text;
			COMMENT ON COLUMN loans.note IS 'New'`)
		b.bring(loans)
		has = said(b)
		require.Equal(t, "Days", has["lent_for"])
		require.Equal(t, "New", has["note"])
		require.Equal(t, "a person's own", has["id"])
	})
	t.Run("mariadb", func(t *testing.T) {
		b := newMariaBench(t, "duckdb")
		b.exec(`CREATE TABLE loans (id int PRIMARY KEY COMMENT 'Its number') COMMENT 'What is lent';
			INSERT INTO loans VALUES (1)`)
		b.bring(feed.Table{Table: b.table("loans"), Find: feed.FindWhole, Keep: feed.KeepLatest})
		has := said(b.workbench)
		require.Equal(t, "What is lent", has[""])
		require.Equal(t, "Its number", has["id"])
	})
}
