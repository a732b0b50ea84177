package engine_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	pgsource "noemata/internal/source/postgres"
	"noemata/internal/testkit"
	"noemata/internal/warehouse/duckdb"
)

// A database without an encoding may hold any bytes: what is not text is set aside.
func TestDatabaseWithoutAnEncoding(t *testing.T) {
	b := newWorkbench(t, duckdb.Kind)
	b.exec(`CREATE DATABASE card_catalogue ENCODING 'SQL_ASCII' LOCALE 'C' TEMPLATE template0`)
	settings := b.settings
	settings.Database = "card_catalogue"
	conn := testkit.Connect(t, testkit.Postgres(t).URL("card_catalogue"))
	testkit.Exec(t, conn, `CREATE TABLE cards (id int PRIMARY KEY, title text, at timestamptz DEFAULT '2026-01-01Z')`)
	testkit.Exec(t, conn, `INSERT INTO cards VALUES (1, 'plain'), (2, E'M\xfcnchen'), (3, E'M\xc3\xbcnchen')`)
	src, err := pgsource.Open(settings, `source "cards"`)
	require.NoError(t, err)
	defer src.Close()
	b.source = src
	table := feed.Table{Table: "public.cards", Find: feed.FindWatermark, Keep: feed.KeepLatest,
		Watermark: &feed.Watermark{Column: "at"}}
	require.Equal(t, rows.Books{Read: 3, SetAside: 1, Inserted: 2}, b.bring(table).Books)
	require.Equal(t, [][]string{{"1", "plain"}, {"3", "München"}},
		b.rowsOf("public.cards", column("id", schema.Int32), column("title", schema.Text)))
	require.Equal(t, [][]string{{`["2"]`, "Column title holds bytes that are not text in UTF-8."}},
		b.rowsOf("noemata.set_aside", column("key", schema.Text), column("reason", schema.Text)))
}
