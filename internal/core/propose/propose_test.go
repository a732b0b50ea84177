package propose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
)

// table makes facts of a line: name, columns with their types, * for those of the key, ? for those that
// may be null, ! for those that an index begins with.
func table(rows int64, columns string) Facts {
	f := Facts{Table: schema.Table{Name: schema.Name{Schema: "public", Table: "t"}, Rows: rows}}
	for _, text := range strings.Fields(columns) {
		name, kind, _ := strings.Cut(text, ":")
		bare := strings.TrimRight(name, "*?!")
		t, err := schema.ParseType(kind)
		if err != nil {
			panic(err)
		}
		f.Table.Columns = append(f.Table.Columns, schema.Column{Name: bare, Type: t, Nullable: strings.Contains(name, "?")})
		if strings.Contains(name, "*") {
			f.Table.Key = append(f.Table.Key, bare)
			f.Indexed = append(f.Indexed, bare)
		}
		if strings.Contains(name, "!") {
			f.Indexed = append(f.Indexed, bare)
		}
	}
	return f
}

func TestHowTablesAreFound(t *testing.T) {
	big := int64(1_000_000)
	for _, x := range []struct {
		facts             Facts
		log, view         bool
		find              feed.Find
		keep              feed.Keep
		watermark, sweeps string
		why               string
	}{
		{table(big, "id*:int64 title:text"), true, false, "log", "latest", "", "", "The log tells"},
		{table(big, "title:text at:timestamptz"), true, false, "whole", "replace", "", "", "no key"},
		{table(big, "title:text created_at!:timestamptz"), true, false, "watermark", "ledger", "created_at", "", "no key"},
		{table(big, "id:int64"), false, true, "whole", "replace", "", "", "It is a view"},
		{table(500, "id*:int64 updated_at:timestamptz"), false, false, "whole", "latest", "", "", "about 500 rows"},
		{table(big, "id*:int64 updated_at!:timestamptz"), false, false, "watermark", "latest", "updated_at", "1d",
			"rises when a row is changed"},
		{table(big, "id*:int64 createdAt!:timestamptz lastUpdate:timestamp"), false, false, "watermark", "latest",
			"lastUpdate", "1d", "No index begins with it"},
		{table(big, "id*:int64 created_at:timestamp updated_at?:timestamp"), false, false, "watermark", "latest",
			"updated_at, created_at", "1d", "reads the whole table"},
		{table(big, "id*:int64 updated_at?:timestamp"), false, false, "compare", "latest", "", "", "digests of ranges"},
		{table(big, "id*:int64 created_at:timestamp"), false, false, "compare", "latest", "", "", "No column shows"},
		{table(-1, "a*:int64 b*:int64"), false, false, "compare", "latest", "", "", "No column shows"},
		{table(90_000_000, "id*:int64 note:text"), false, false, "watermark", "latest", "id", "1d", "is not seen"},
	} {
		x.facts.Log, x.facts.Table.View = x.log, x.view
		p := Table(x.facts, "people")
		require.Equal(t, x.find, p.Table.Find, p.Why)
		require.Equal(t, x.keep, p.Table.Keep, p.Why)
		require.Equal(t, x.sweeps, p.Table.Sweep, p.Why)
		require.Contains(t, p.Why, x.why)
		mark := ""
		if w := p.Table.Watermark; w != nil {
			mark = strings.TrimSuffix(w.Column+", "+w.Fallback, ", ")
		}
		require.Equal(t, x.watermark, mark, p.Why)
		require.Empty(t, Feed("f", "s", "w", []Proposal{p}).Check(), "%+v", p.Table)
	}
	mixed := Feed("f", "s", "w", []Proposal{{Table: feed.Table{Table: "b.b", Find: feed.FindLog, Keep: feed.KeepLatest}},
		{Table: feed.Table{Table: "a.a", Find: feed.FindWhole, Keep: feed.KeepReplace}}})
	require.Empty(t, mixed.Check())
	require.Equal(t, []string{"a.a", "b.b", "1m", "15m"}, []string{mixed.Tables[0].Table, mixed.Tables[1].Table,
		mixed.Freshness, mixed.Every})
}

func TestWhatLooksPrivate(t *testing.T) {
	for _, x := range []struct{ column, values, looks, treatment string }{
		{"email:text", "", "e-mail", "hash"},
		{"contact:text", "eva@post.example jan@post.example -", "", ""}, // too few
		{"contact:text", "eva@post.example jan@post.example ida@post.example -", "e-mail", "hash"},
		{"mail_count:int32", "1 2 3", "", ""},
		{"mail:text", "yes no yes", "", ""},
		{"payment:text", "4000000000000002 4000000000000010 4000000000000028", "check digit", "drop"},
		{"payment:text", "4000000000000001 4000000000000011 4000000000000029", "", ""},
		{"number:decimal(19,0)", "4000000000000002 4000000000000010 4000000000000028", "check digit", "drop"},
		{"ref:text", "DE02120300000000202051 GB33BUKB20201555555555 DE02120300000000202051", "account", "drop"},
		{"ref:text", "DE02120300000000202052 GB33BUKB20201555555556 DE02120300000000202050", "", ""},
		{"phone:text", "", "phone", "keep-last"},
		{"mobile:int64", "", "phone", "hash"},
		{"line:text", "+49 30 1234567 +49 40 7654321 +49 89 1111111", "", ""}, // cut at blanks by this test
		{"line:text", "+49301234567 030-1234567 0049-40-7654321", "phone", "keep-last"},
		{"year:text", "1999 2001 2020", "", ""},
		{"passwordHash:text", "", "secret", "drop"},
		{"ssn:text", "", "state", "hash"},
		{"born_on:date", "", "birth", "year"},
		{"birthdate:date", "", "birth", "year"},
		{"birth_date:text", "", "birth", "hash"},
		{"last_name:text", "", "name", "hash"},
		{"street:text", "", "postal", "drop"},
		{"ip:text", "", "network", "hash"},
		{"title:text", "Moss Ferns Lichens", "", ""},
		{"is_email:bool", "", "", ""},
		{"email_verified:text", "", "", ""},
		{"doc:json", `{"a":"eva@post.example"}`, "JSON with e-mail", ""},
		{"email*:text", "", "e-mail", "hash"},
		{"phone*:text", "", "phone", "hash"}, // a key must tell rows apart
	} {
		f := table(5, x.column)
		for _, v := range strings.Fields(x.values) {
			row := []*string{&v}
			if v == "-" {
				row[0] = nil
			}
			f.Sample = append(f.Sample, row)
		}
		p := Table(f, "people")
		name := f.Table.Columns[0].Name
		if x.looks == "" {
			require.Empty(t, p.Private, "%s %s", x.column, x.values)
			continue
		}
		require.Len(t, p.Private, 1, x.column)
		require.Contains(t, p.Private[0].Looks, x.looks)
		got := string(p.Table.Columns[name].Mask)
		if p.Table.Columns[name].Hash != "" {
			got = "hash"
		} else if p.Table.Dropped(name) {
			got = "drop"
		}
		require.Equal(t, x.treatment, got, x.column)
	}
}
