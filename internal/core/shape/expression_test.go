package shape

import (
	"fmt"
	"math/big"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

// What a filter says of a row, nulls, decimals and faults included.
func TestFilters(t *testing.T) {
	row := `1 | card | 0.50 | - | eva@example.org | - | 2026-03-04T05:06:07Z | {"a":1} | -`
	for where, want := range map[string]string{
		`kind == "card"`:           "arrives",
		`kind != "card"`:           "left out",
		`amount > 0.4`:             "arrives",
		`amount > 0.5`:             "left out",
		`amount >= 0.5`:            "arrives", // 0.5 is the decimal that is written so
		`amount == decimal("0.5")`: "arrives",
		`amount * 2 < 2`:           "arrives",
		`reader < amount`:          "at character 8",
		`reader > 5`:               "left out", // null has no value
		`!(reader > 5)`:            "left out",
		`reader > 5 || id == 1`:    "arrives",
		`reader == null`:           "arrives",
		`card == null && id == 1`:  "arrives",
		`paid_at > timestamp("2026-01-01T00:00:00Z")`:                "arrives",
		`paid_at.getFullYear() == 2026`:                              "arrives",
		`email.endsWith("@example.org")`:                             "arrives",
		`id / (id - 1) > 0`:                                          "where cannot be told: division by zero",
		`id + 9223372036854775807 > 0`:                               "where cannot be told: integer overflow",
		`email.substring(0, 3) == "eva"`:                             "arrives",
		`email.substring(3) == "@example.org"`:                       "arrives",
		`email.substring(9, 3) == ""`:                                "index out of bounds",
		`email.indexOf("@") == 3`:                                    "arrives",
		`kind.upperAscii() == "CARD" && " x ".trim().size() == 1`:    "arrives",
		`phone.upperAscii() == "A"`:                                  "left out", // and so it is of a function
		`phone.substring(1) == "A" || id == 1`:                       "arrives",
		`phone.endsWith("A")`:                                        "left out",
		`email.replace("", email) == ""`:                             "undeclared reference to 'replace'",
		`[1, 2].exists(x, x == id)`:                                  "undeclared reference",
		`id`:                                                         "gives int",
		`knd == "card"`:                                              "undeclared reference to 'knd'",
		`kind > 5`:                                                   "found no matching overload",
		`kind == "card" &&`:                                          "Syntax error",
		strings.Repeat("(", 300) + "true" + strings.Repeat(")", 300): "recursion",
		strings.Repeat("a", 20_000):                                  "the most",
	} {
		got := verdictOf(t, where, row)
		require.Contains(t, strings.ToLower(got), strings.ToLower(want), where)
	}
}

// verdictOf tells what becomes of a row under a filter, or why the filter cannot be.
func verdictOf(t *testing.T, where, row string) string {
	s, err := Compile(payments, feed.Table{Table: "public.payments", Where: where}, []string{"id"}, keyOf)
	if err != nil {
		return err.Error()
	}
	verdicts, out := s.Verdicts(rows.Batch{Record: recordOf(t, payments.Columns, row)})
	defer out.Record.Release()
	switch verdicts[0].What {
	case Arrives:
		return "arrives"
	case LeftOut:
		return "left out"
	}
	return verdicts[0].Why
}

// A reason says what is wrong, and never the value.
func TestReasonsHoldNoValues(t *testing.T) {
	spec := feed.Table{Table: "public.payments", Columns: map[string]feed.Treatment{"email": {Type: "int64"},
		"phone": {Hash: "people"}}}
	s, err := Compile(payments, spec, []string{"id"}, keyOf)
	require.NoError(t, err)
	out := s.Batch(rows.Batch{Record: recordOf(t, payments.Columns, `1 | - | - | - | SECRET | 0170 | - | - | -`)},
		false)
	require.Len(t, out.Aside, 1)
	require.Equal(t, "Column email is no whole number that int64 can hold.", out.Aside[0].Reason)
	require.Equal(t, Hidden, *out.Aside[0].Row["phone"])
}

// Keys are swept, and rows counted, also where a filter cannot be told of them; what a source says
// of a value that is hidden does not show it.
func TestRowsThatCannotBeToldOf(t *testing.T) {
	spec := feed.Table{Table: "public.payments", Where: "10 / reader > 1",
		Columns: map[string]feed.Treatment{"paid_at": {Mask: feed.MaskYear}, "id": {Hash: "ids"}}}
	s, err := Compile(payments, spec, []string{"id"}, keyOf)
	require.NoError(t, err)
	lines := []string{"1 | - | - | - | - | - | - | - | 0", "2 | - | - | - | - | - | - | - | 3",
		"3 | - | - | - | - | - | - | - | 9"}
	out := s.Batch(rows.Batch{Record: recordOf(t, payments.Columns, lines...), Aside: []rows.Aside{{Column: "paid_at",
		Reason: "Column paid_at is SECRET."}}}, false)
	require.EqualValues(t, 1, out.Record.NumRows())
	require.EqualValues(t, 1, out.Filtered)
	require.Len(t, out.Aside, 2)
	require.Equal(t, "Where cannot be told: division by zero.", out.Aside[0].Reason)
	require.NotContains(t, out.Aside[1].Reason, "SECRET")

	keys := s.For([]string{"id"})
	require.Equal(t, []string{"id", "reader"}, keys.Reads().ColumnNames())
	out = keys.Batch(rows.Batch{Record: recordOf(t, keys.Reads().Columns, "1 | 0", "2 | 3", "3 | 9"),
		Aside: []rows.Aside{{Column: "id"}}}, false)
	require.Equal(t, []string{s.hashText(payments.Columns[0], "1"), s.hashText(payments.Columns[0], "2")},
		linesOf(out.Record, keys.Arrives().Columns))

	s, err = Compile(payments, feed.Table{Table: "public.payments", Where: "true"}, []string{"id"}, keyOf)
	require.NoError(t, err)
	require.Len(t, s.For(nil).Reads().Columns, 1, "rows are read by some column")
}

func TestWhatCannotBeDone(t *testing.T) {
	for says, treatment := range map[string]map[string]feed.Treatment{
		"without losing something":            {"paid_at": {Type: "date"}},
		"is not a type":                       {"email": {Type: "words"}},
		"it is for texts":                     {"amount": {Mask: feed.MaskKeepLast, Count: 2}},
		"it is for dates and times":           {"email": {Mask: feed.MaskYear}},
		"it is for whole numbers":             {"email": {Mask: feed.MaskRound, Count: 10}},
		"it is for JSON":                      {"amount": {Take: map[string]feed.Path{"x": {Path: "$.x"}}}},
		"more than once":                      {"address": {Take: map[string]feed.Path{"x": {Path: "$..a..b"}}}},
		"is not a JSONPath":                   {"address": {Take: map[string]feed.Path{"x": {Path: "$.["}}}},
		"would be called kind in the target":  {"email": {Name: "kind"}},
		"would be called phone in the target": {"address": {Take: map[string]feed.Path{"phone": {Path: "$.x"}}}},
	} {
		_, err := Compile(payments, feed.Table{Table: "public.payments", Columns: treatment}, []string{"id"}, keyOf)
		require.ErrorContains(t, err, says)
	}
	for _, spec := range []feed.Table{{Drop: []string{"nothing"}}, {Only: []string{"id", "nothing"}},
		{AsText: []string{"nothing"}},
		{Columns: map[string]feed.Treatment{"nothing": {Drop: true}}}} {
		require.ErrorContains(t, Missing(payments, spec), `has no column "nothing"`)
		_, err := Compile(payments, spec, []string{"id"}, keyOf)
		require.NoError(t, err, "what is left out, or treated, need not be there")
	}
}

// Changes: an update that a filter leaves out ends its key, an insert does not come, and a value
// that the log leaves out stays unknown unless something is computed of it.
func TestChangesAreShaped(t *testing.T) {
	spec := specOf(t, `
    where: kind == "card"
    columns:
      email: {hash: people}
      phone: {name: telephone}
    only: [id, kind, email, phone]
`)
	s, err := Compile(payments, spec, []string{"id"}, keyOf)
	require.NoError(t, err)
	record := recordOf(t, s.Reads().Columns, "1 | card | a | 1", "2 | cash | b | 2", "3 | cash | c | 3",
		"4 | - | - | -",
		"5 | card | - | 5", "6 | - | f | 6")
	out := s.Changes(change.Batch{Record: record, Rows: []change.Row{{Kind: change.Insert}, {Kind: change.Insert},
		{Kind: change.Update}, {Kind: change.Delete}, {Kind: change.Update, Unknown: 1},
		{Kind: change.Update, Unknown: 2}},
		Unknown: [][]bool{{false, false, true, false}, {false, true, false, false}}})
	var kinds []string
	for _, r := range out.Rows {
		kinds = append(kinds, r.Kind.String())
	}
	require.Equal(t, []string{"insert", "", "delete", "delete", "update", "update"}, kinds)
	require.EqualValues(t, 1, out.Ignored)
	require.Equal(t, []bool{false, false, true, false}, out.Unknown[0], "the hash of what is not known is not known")
	require.True(t, out.Rows[5].Misfit, "the filter needs what is not known")
	require.ErrorContains(t, out.Misfit, "the value of kind is left out")
	require.Equal(t, []string{"id", "kind", "email", "telephone"}, s.Arrives().ColumnNames())
}

// Whole numbers are hashed alike, whatever the width of their columns, and differ where they
// differ.
func TestHashesAreOfValuesNotOfTypes(t *testing.T) {
	kinds := []string{"int16", "int32", "int64", "decimal(10,0)", "decimal(20,6)", "numeric", "float64"}
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.Int16().Draw(t, "a"), rapid.Int16().Draw(t, "b")
		hash := func(n int16) string {
			kind := rapid.SampledFrom(kinds).Draw(t, "kind")
			typ, _ := schema.ParseType(kind)
			do, _ := converter(schema.Type{Kind: schema.Text}, typ)
			b := array.NewBuilder(allocator, typ.Arrow())
			if err := do(b, fmt.Sprint(n)); err != nil {
				t.Fatal(err)
			}
			text, _ := schema.CellText(hashed(b.NewArray(), typ, []byte("key")), 0, schema.Type{Kind: schema.Text})
			return text
		}
		if same := hash(a) == hash(b); same != (a == b) {
			t.Fatalf("%d and %d: %v", a, b, same)
		}
	})
}

// What is rounded is the nearest multiple, as exact arithmetic has it.
func TestRounding(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		step := rapid.Int64Range(1, 1000).Draw(t, "step")
		n := rapid.Int64Range(-1_000_000, 1_000_000).Draw(t, "n")
		c := schema.Column{Name: "fee", Type: schema.Type{Kind: schema.Decimal, Precision: 12, Scale: 2}}
		do, err := maskRound(schema.Decimal, step, &compiler{}, c)
		if err != nil {
			t.Fatal(err)
		}
		b := array.NewBuilder(allocator, c.Type.Arrow())
		value := big.NewRat(n, 100)
		_ = appendDecimal(c.Type)(b, value.FloatString(2))
		text, _ := schema.CellText(do(b.NewArray()), 0, c.Type)
		got, _ := new(big.Rat).SetString(text)
		rest := new(big.Rat).Sub(got, value)
		if twice := rest.Abs(rest).Mul(rest, big.NewRat(2, 1)); twice.Cmp(big.NewRat(step, 1)) > 0 ||
			!new(big.Rat).Quo(got, big.NewRat(step, 1)).IsInt() {
			t.Fatalf("%s rounded to %d is %s", value.FloatString(2), step, text)
		}
	})
}

func TestMasks(t *testing.T) {
	for _, x := range []struct {
		text  string
		count int
		last  bool
		want  string
	}{{"Grünau", 2, false, "Gr***"}, {"Grünau", 4, true, "***ünau"}, {"Gr", 2, false, "***"}, {"", 1, true, "***"}} {
		require.Equal(t, x.want, keepSome(x.text, x.count, x.last))
	}
	year, err := maskYear(schema.Date, &compiler{}, schema.Column{})
	require.NoError(t, err)
	b := array.NewDate32Builder(allocator)
	b.AppendValues([]arrow.Date32{-1, 20_000, arrow.Date32(schema.InfiniteDate)}, nil)
	years := year(b.NewArray())
	require.Equal(t, []string{"1969-01-01", "2024-01-01", "infinity"}, linesOf(
		array.NewRecordBatch(schema.Arrow([]schema.Column{column("d", "date")}), []arrow.Array{years}, 3),
		[]schema.Column{column("d", "date")}))
}

// Places that are told by names are found by one reading, and it finds what the paths find.
func TestNamesFindWhatPathsFind(t *testing.T) {
	paths := []string{"$.a", "$.b.a", "$.b.c", "$.c.a.b"}
	var places []place
	for _, path := range paths {
		p, err := newPlace(path, schema.Type{Kind: schema.Text})
		require.NoError(t, err)
		places = append(places, p)
	}
	tree := namesOf(paths)
	require.NotNil(t, tree)
	require.Nil(t, namesOf([]string{"$.a", "$.a.b"}), "one lies within the other")
	require.Nil(t, namesOf([]string{"$.a[0]"}))
	scalar := rapid.SampledFrom([]string{`1`, `-0.5e3`, `"ü\n\u0041"`, `"\ud83d\ude00"`, `true`, `null`, `""`,
		`[1, {"a":2}]`})
	var value func(depth int) *rapid.Generator[string]
	value = func(depth int) *rapid.Generator[string] {
		return rapid.Custom(func(t *rapid.T) string {
			if depth == 0 || rapid.IntRange(0, 3).Draw(t, "kind") == 0 {
				return scalar.Draw(t, "scalar")
			}
			var members []string
			for range rapid.IntRange(0, 4).Draw(t, "members") {
				name := rapid.SampledFrom([]string{"a", "b", "c", "d", "\\u0061"}).Draw(t, "name")
				members = append(members, `"`+name+`": `+value(depth-1).Draw(t, "value"))
			}
			return "{" + strings.Join(members, ",") + "}"
		})
	}
	rapid.Check(t, func(t *rapid.T) {
		text := value(4).Draw(t, "document") + rapid.SampledFrom([]string{"", " ", "x", "{}"}).Draw(t, "rest")
		one, other := make([]*string, len(places)), make([]*string, len(places))
		err1, err2 := find(text, places, tree, one), find(text, places, nil, other)
		if (err1 == nil) != (err2 == nil) {
			t.Fatalf("%s: %v and %v", text, err1, err2)
		}
		for i := range places {
			if err1 == nil && ((one[i] == nil) != (other[i] == nil) || one[i] != nil && *one[i] != *other[i]) {
				t.Fatalf("%s: %s is %v and %v", text, paths[i], deref(one[i]), deref(other[i]))
			}
		}
	})
}

func deref(s *string) string {
	if s == nil {
		return "nowhere"
	}
	return *s
}
