package shape

import (
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

func column(name, kind string) schema.Column {
	t, err := schema.ParseType(kind)
	if err != nil {
		panic(err)
	}
	return schema.Column{Name: name, Type: t, Native: kind, Nullable: true}
}

var payments = schema.Table{Name: schema.Name{Schema: "public", Table: "payments"}, Key: []string{"id"},
	Columns: []schema.Column{
		column("id", "int64"), column("kind", "text"), column("amount", "decimal(8,2)"), column("card", "text"),
		column("email", "text"), column("phone", "text"), column("paid_at", "timestamptz"), column("address", "json"),
		column("reader", "int32"),
	}}

func keyOf(string) ([]byte, error) { return []byte("a key of the tests, 32 bytes long"), nil }

// recordOf makes a record of texts; - is null.
func recordOf(t testing.TB, columns []schema.Column, lines ...string) arrow.RecordBatch {
	builders := make([]array.Builder, len(columns))
	for i, c := range columns {
		builders[i] = array.NewBuilder(allocator, c.Type.Arrow())
	}
	for _, line := range lines {
		values := strings.Split(line, "|")
		require.Len(t, values, len(columns), line)
		for i, c := range columns {
			v := strings.TrimSpace(values[i])
			if v == "-" {
				builders[i].AppendNull()
				continue
			}
			do, err := converter(schema.Type{Kind: schema.Text}, c.Type)
			require.NoError(t, err)
			require.NoError(t, do(builders[i], v), "%s = %q", c.Name, v)
		}
	}
	arrays := make([]arrow.Array, len(columns))
	for i, b := range builders {
		arrays[i] = b.NewArray()
	}
	return array.NewRecordBatch(schema.Arrow(columns), arrays, int64(len(lines)))
}

// linesOf writes a record as recordOf reads it.
func linesOf(record arrow.RecordBatch, columns []schema.Column) []string {
	var lines []string
	for row := range int(record.NumRows()) {
		var values []string
		for i, c := range columns {
			text, ok := schema.CellText(record.Column(i), row, c.Type)
			if !ok {
				text = "-"
			}
			values = append(values, text)
		}
		lines = append(lines, strings.Join(values, " | "))
	}
	return lines
}

func specOf(t testing.TB, text string) feed.Table {
	f, err := feed.ParseFile([]byte("feed: f\nsource: s\nwarehouse: w\ntables:\n  - table: public.payments\n    " +
		"find: whole\n" +
		"    keep: latest\n" + text))
	require.NoError(t, err)
	return f.Tables[0]
}

const everything = `
    where: kind == "card" && amount > 0.1
    columns:
      card: drop
      email: {hash: people}
      phone: {mask: keep-last, count: 4}
      kind: {name: payment_kind}
      amount: {type: "decimal(12,4)"}
      address: {take: {city: $.city, floor: {path: $.floor, type: int32}, tags: "$.tags[*]"}, keep: false}
      paid_at: {mask: year}
      reader: {hash: people}
    computed:
      double_fee: {value: amount * 2, type: "decimal(10,2)"}
      region: "'north'"
`

func TestRowsAreShaped(t *testing.T) {
	s, err := Compile(payments, specOf(t, everything), []string{"id"}, keyOf)
	require.NoError(t, err)
	require.Equal(t, []string{"id", "kind", "amount", "email", "phone", "paid_at", "address", "reader"},
		s.Reads().ColumnNames(), "what is dropped is not read")
	record := recordOf(t, s.Reads().Columns,
		`1 | card | 10.50 | eva@example.org | 0170123456 | 2026-03-04T05:06:07Z | `+
			`{"city":"Grünau","floor":3,"tags":["a",1]} | 7`,
		`2 | cash | 10.50 | - | - | - | - | -`,
		`3 | card | 0.10 | - | - | - | - | -`,
		`4 | card | 0.11 | - | 123 | - | {} | 7`,
		`5 | - | 5.00 | - | - | - | - | -`,
		`6 | card | 1.00 | - | - | - | {"floor":"third"} | -`)
	out := s.Batch(rows.Batch{Record: record}, false)
	require.Equal(t, int64(3), out.Filtered)
	require.Nil(t, out.Gone)
	require.Equal(t, []string{"id int64", "payment_kind text", "amount decimal(12,4)", "email text", "phone text",
		"paid_at timestamptz", "city text", "floor int32", "tags text", "reader text", "double_fee decimal(10,2)",
		"region text"},
		typed(s.Arrives().Columns))
	hash := func(form string) string {
		return s.hashText(schema.Column{Name: "email", Type: schema.Type{Kind: schema.Text}}, form)
	}
	seven := s.hashText(schema.Column{Name: "reader", Type: schema.Type{Kind: schema.Int64}}, "7")
	require.Equal(t, []string{
		"1 | card | 10.5000 | " + hash("eva@example.org") +
			" | ***3456 | 2026-01-01T00:00:00.000000Z | Grünau | 3 | [\"a\",1] | " +
			seven + " | 21.00 | north",
		"4 | card | 0.1100 | - | *** | - | - | - | - | " + seven + " | 0.22 | north",
	}, linesOf(out.Record, s.Arrives().Columns))
	require.Len(t, out.Aside, 1)
	require.Equal(t, `["6"]`, out.Aside[0].Key)
	require.Equal(t, "Column address has a value at $[\"floor\"] that is no whole number that int32 can hold.",
		out.Aside[0].Reason)
}

func typed(columns []schema.Column) []string {
	var list []string
	for _, c := range columns {
		list = append(list, c.Name+" "+c.Type.String())
	}
	return list
}
