package schema_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/schema"
)

// Whatever a table is called, its name reads back and its identifier is one token.
func TestNames(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		part := rapid.StringOf(rapid.RuneFrom([]rune(`abcXYZ .".'{}é本-_0`))).Filter(func(s string) bool { return s != "" })
		n := schema.Name{Schema: part.Draw(t, "schema"), Table: part.Draw(t, "table")}
		back, err := schema.ParseName(n.Display())
		require.NoError(t, err, n.Display())
		require.Equal(t, n, back)
		back, err = schema.ParseName(n.Quoted())
		require.NoError(t, err)
		require.Equal(t, n, back)
	})
	for _, wrong := range []string{"", "loans", "a.b.c", `"a.b`, `"a"b.c`, `.b`, `a.`, `"".b`} {
		_, err := schema.ParseName(wrong)
		require.Error(t, err, wrong)
	}
}

func TestTextOfTimes(t *testing.T) {
	for us, want := range map[int64]string{
		0:                        "1970-01-01T00:00:00.000000Z",
		-1:                       "1969-12-31T23:59:59.999999Z",
		schema.InfiniteTime:      "infinity",
		-schema.InfiniteTime:     "-infinity",
		-62135596800000000 - 1e6: "0001-12-31T23:59:59.000000Z BC",
		253402300800000000:       "10000-01-01T00:00:00.000000Z",
	} {
		require.Equal(t, want, schema.TimestampTZText(us))
	}
	require.Equal(t, "2026-11-23", schema.DateText(20780))
	require.Equal(t, "infinity", schema.DateText(schema.InfiniteDate))
	require.Equal(t, int32(-1), schema.Days(-1))
	require.Equal(t, int32(0), schema.Days(86_399_999_999))
}

// Rows are told apart by columns that hold a key whole, of which none can be null.
func TestWhatIsUnique(t *testing.T) {
	table := schema.Table{
		Columns:   []schema.Column{{Name: "branch"}, {Name: "no"}, {Name: "shelf", Nullable: true}, {Name: "code"}},
		Key:       []string{"branch", "no"},
		OtherKeys: [][]string{{"code"}, {"shelf", "no"}},
	}
	for _, unique := range [][]string{{"branch", "no"}, {"no", "branch"}, {"code"}, {"code", "no"},
		{"branch", "code", "no"}} {
		require.True(t, table.Unique(unique), unique)
	}
	for _, not := range [][]string{{"branch"}, {"no"}, {"shelf", "no"}, {"code", "shelf"}, {}, {"none"}} {
		require.False(t, table.Unique(not), not)
	}
	require.False(t, schema.Table{Columns: table.Columns}.Unique([]string{"branch", "no"}), "without a key nothing is")
	require.True(t, table.Nullable("shelf"))
	require.False(t, table.Nullable("branch"))
}

// A description that contradicts itself is noticed before anything is looked up in it.
func TestADescriptionThatContradictsItself(t *testing.T) {
	columns := []schema.Column{{Name: "branch"}, {Name: "no"}, {Name: "code", Generated: true}}
	require.NoError(t, schema.Table{Columns: columns, Key: []string{"branch", "no"},
		OtherKeys: [][]string{{"code"}}}.Check())
	require.NoError(t, schema.Table{Columns: columns}.Check())
	require.ErrorContains(t, schema.Table{Columns: columns, Key: []string{"branch", "nö"}}.Check(),
		`a key has the column "nö"`)
	require.ErrorContains(t, schema.Table{Columns: columns, Key: []string{"no"},
		OtherKeys: [][]string{{"branch", ""}}}.Check(), `a key has the column ""`)
	require.ErrorContains(t, schema.Table{Columns: append(columns, schema.Column{Name: "no"})}.Check(),
		`two columns that are called "no"`)
	require.Error(t, schema.Table{Columns: append(columns, schema.Column{})}.Check())
}

// Without the columns that the source computes, only the keys are left that have none.
func TestWithoutGeneratedColumns(t *testing.T) {
	columns := []schema.Column{{Name: "branch"}, {Name: "no"}, {Name: "code", Generated: true}}
	got := schema.Table{Columns: columns, Key: []string{"code"},
		OtherKeys: [][]string{{"branch", "code"}, {"branch", "no"}, {"no"}}}.WithoutGenerated()
	require.Equal(t, schema.Table{Columns: columns[:2], Key: []string{"branch", "no"}, OtherKeys: [][]string{{"no"}}},
		got)
	require.Len(t, columns, 3)
	require.Equal(t, "code", columns[2].Name, "the table that was given stays as it was")
	require.Empty(t, schema.Table{Columns: columns, Key: []string{"code"}}.WithoutGenerated().Key)
}
