//go:build duckdb_arrow

package lake

import (
	"context"
	"encoding/json"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/table"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/lakefiles"
	"noemata/internal/source"
	"noemata/internal/testkit"
	"noemata/internal/testkit/foreign"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// opened is a lake of another program, and how it is read.
func opened(t *testing.T) (*Source, *foreign.Lake, string) {
	settings, conn := testkit.Database(t)
	settings.Path = filepath.Join(testkit.Dir(t), "lake")
	s, err := Open(settings, `source "archive"`)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.(*Source), foreign.New(t, conn, settings.Path), settings.Path
}

var allTypes = iceberg.NewSchemaWithIdentifiers(0, []int{1},
	iceberg.NestedField{ID: 1, Name: "id", Type: iceberg.PrimitiveTypes.Int32, Required: true},
	iceberg.NestedField{ID: 2, Name: "long", Type: iceberg.PrimitiveTypes.Int64},
	iceberg.NestedField{ID: 3, Name: "yes", Type: iceberg.PrimitiveTypes.Bool},
	iceberg.NestedField{ID: 4, Name: "float", Type: iceberg.PrimitiveTypes.Float32},
	iceberg.NestedField{ID: 5, Name: "double", Type: iceberg.PrimitiveTypes.Float64},
	iceberg.NestedField{ID: 6, Name: "fee", Type: iceberg.DecimalTypeOf(38, 9)},
	iceberg.NestedField{ID: 7, Name: "day", Type: iceberg.PrimitiveTypes.Date},
	iceberg.NestedField{ID: 8, Name: "clock", Type: iceberg.PrimitiveTypes.Time},
	iceberg.NestedField{ID: 9, Name: "at", Type: iceberg.PrimitiveTypes.Timestamp},
	iceberg.NestedField{ID: 10, Name: "at zone", Type: iceberg.PrimitiveTypes.TimestampTz},
	iceberg.NestedField{ID: 11, Name: `te"xt.`, Type: iceberg.PrimitiveTypes.String},
	iceberg.NestedField{ID: 12, Name: "ref", Type: iceberg.PrimitiveTypes.UUID},
	iceberg.NestedField{ID: 13, Name: "cover", Type: iceberg.PrimitiveTypes.Binary},
	iceberg.NestedField{ID: 14, Name: "stamp", Type: iceberg.FixedTypeOf(3)},
	iceberg.NestedField{ID: 15, Name: "tags", Type: &iceberg.ListType{ElementID: 16,
		Element: iceberg.PrimitiveTypes.String}},
	iceberg.NestedField{ID: 17, Name: "place", Type: &iceberg.StructType{FieldList: []iceberg.NestedField{
		{ID: 18, Name: "shelf", Type: iceberg.PrimitiveTypes.Int32}}}},
	iceberg.NestedField{ID: 19, Name: "fine", Type: iceberg.PrimitiveTypes.TimestampNs})

// read gives the rows of a query, as texts by their columns, and why others were set aside.
func read(t require.TestingT, s *Source, q source.Query) (found []map[string]string, aside []string) {
	err := s.Read(context.Background(), q, func(b rows.Batch) error {
		for row := range int(b.Record.NumRows()) {
			texts := map[string]string{}
			for i, c := range q.Table.Columns {
				if v, some := schema.CellText(b.Record.Column(i), row, c.Type); some {
					texts[c.Name] = v
				}
			}
			found = append(found, texts)
		}
		for _, a := range b.Aside {
			aside = append(aside, a.Reason)
		}
		b.Record.Release()
		return nil
	})
	require.NoError(t, err)
	return found, aside
}

// Values of every type of the format arrive as they are; what has no place is set aside with its reason.
func TestTypes(t *testing.T) {
	s, lake, _ := opened(t)
	lake.Create("kinds", allTypes, iceberg.Properties{table.PropertyFormatVersion: "3"})
	full := map[string]any{"id": 1, "long": int64(-1) << 63, "yes": true, "float": 0.1, "double": 0.5,
		"fee": "-99999999999999999999999999999.999999999", "day": "0001-01-01", "clock": "23:59:59.999999",
		"at": "9999-12-31 23:59:59.999999", "at zone": "2026-03-29T00:30:00.5Z", `te"xt.`: "a\n☃'\x00",
		"ref": "00000000-0000-0000-0000-00000000000f", "cover": "AP8=", "stamp": "AP8B", "tags": []any{"a", nil},
		"place": map[string]any{"shelf": 7}, "fine": "2026-05-01 10:00:00.123456"}
	odd := map[string]any{"id": 3, "fine": "2026-05-01 10:00:00.123456789"}
	lake.Commit("kinds", func(tx *table.Transaction) error {
		return lake.Append(tx, lake.Rows("kinds", nil, []map[string]any{full, {"id": 2}, odd}), nil)
	})
	its, err := s.Table(t.Context(), schema.Name{Schema: "kept", Table: "kinds"})
	require.NoError(t, err)
	require.Equal(t, []string{"id"}, its.Key)
	for name, q := range map[string]source.Query{
		"as they lie": {Table: its}, "in order, with digests": {Table: its, Ordered: true, Digest: true},
		"of keys": {Table: its, Keys: &source.KeyRange{After: []string{"0"}, UpTo: []string{"3"}}},
	} {
		found, aside := read(t, s, q)
		require.Len(t, found, 2, name)
		require.Equal(t, map[string]string{"id": "1", "long": "-9223372036854775808", "yes": "true", "float": "0.1",
			"double": "0.5",
			"fee":    "-99999999999999999999999999999.999999999", "day": "0001-01-01", "clock": "23:59:59.999999",
			"at": "9999-12-31T23:59:59.999999", "at zone": "2026-03-29T00:30:00.500000Z", `te"xt.`: "a\n☃'\x00",
			"ref": "00000000-0000-0000-0000-00000000000f", "cover": `\x00ff`, "stamp": `\x00ff01`, "tags": `["a",null]`,
			"place": `{"shelf":7}`, "fine": "2026-05-01T10:00:00.123456"}, found[0], name)
		require.Equal(t, map[string]string{"id": "2"}, found[1], name)
		require.Equal(t, []string{"Column fine has nanoseconds (2026-05-01T10:00:00.123456789)."}, aside, name)
	}
	// What the feed wants as text.
	as := its
	as.Columns = nil
	for _, c := range its.Columns {
		as.Columns = append(as.Columns, c.AsText())
	}
	found, _ := read(t, s, source.Query{Table: as})
	require.Equal(t, "-99999999999999999999999999999.999999999", found[0]["fee"])
	require.Equal(t, `["a",null]`, found[0]["tags"])
}

// Columns that have become wider are read alike from files of before and after, and as they are called now.
func TestColumnsThatChange(t *testing.T) {
	s, lake, _ := opened(t)
	lake.Create("loans", iceberg.NewSchemaWithIdentifiers(0, []int{1},
		iceberg.NestedField{ID: 1, Name: "id", Type: iceberg.PrimitiveTypes.Int32, Required: true},
		iceberg.NestedField{ID: 2, Name: "n", Type: iceberg.PrimitiveTypes.Int32},
		iceberg.NestedField{ID: 3, Name: "share", Type: iceberg.PrimitiveTypes.Float32},
		iceberg.NestedField{ID: 4, Name: "fee", Type: iceberg.DecimalTypeOf(6, 2)},
		iceberg.NestedField{ID: 5, Name: "note", Type: iceberg.PrimitiveTypes.String}),
		iceberg.Properties{table.PropertyFormatVersion: "2"})
	add := func(row map[string]any) {
		lake.Commit("loans", func(tx *table.Transaction) error {
			return lake.Append(tx, lake.Rows("loans", nil, []map[string]any{row}), nil)
		})
	}
	add(map[string]any{"id": 1, "n": 7, "share": 0.5, "fee": "1.25", "note": "old"})
	lake.Commit("loans", func(tx *table.Transaction) error {
		wider := func(of iceberg.Type) table.ColumnUpdate {
			return table.ColumnUpdate{FieldType: iceberg.Optional[iceberg.Type]{Val: of, Valid: true}}
		}
		return tx.UpdateSchema(true, true).UpdateColumn([]string{"n"}, wider(iceberg.PrimitiveTypes.Int64)).
			UpdateColumn([]string{"share"}, wider(iceberg.PrimitiveTypes.Float64)).
			UpdateColumn([]string{"fee"}, wider(iceberg.DecimalTypeOf(20, 2))).Commit()
	})
	add(map[string]any{"id": 2, "n": int64(1) << 60, "share": 1e300, "fee": "123456789012345678.25", "note": "new"})
	lake.Commit("loans", func(tx *table.Transaction) error {
		return tx.UpdateSchema(true, true).RenameColumn([]string{"share"}, "part").DeleteColumn([]string{"note"}).
			AddColumn([]string{"note"}, iceberg.PrimitiveTypes.Int64, "", false, nil).Commit()
	})
	add(map[string]any{"id": 3, "part": 0.25, "note": 9})
	its, err := s.Table(t.Context(), schema.Name{Schema: "kept", Table: "loans"})
	require.NoError(t, err)
	found, aside := read(t, s, source.Query{Table: its, Ordered: true})
	require.Empty(t, aside)
	require.Equal(t, []map[string]string{{"id": "1", "n": "7", "part": "0.5", "fee": "1.25"},
		{"id": "2", "n": "1152921504606846976", "part": "1e+300", "fee": "123456789012345678.25"},
		{"id": "3", "part": "0.25", "note": "9"}}, found)
}

// The digests of ranges are those of the rows that they have, whatever ranges rows are divided into.
func TestDigests(t *testing.T) {
	s, lake, _ := opened(t)
	lake.Create("kinds", allTypes, iceberg.Properties{table.PropertyFormatVersion: "3"})
	list := make([]map[string]any, 300)
	for i := range list {
		list[i] = map[string]any{"id": i, "double": float64(i) / 3, "tags": []any{"t"}, "cover": "AP8="}
	}
	lake.Commit("kinds", func(tx *table.Transaction) error { return lake.Append(tx, lake.Rows("kinds", nil, list), nil) })
	its, err := s.Table(t.Context(), schema.Name{Schema: "kept", Table: "kinds"})
	require.NoError(t, err)
	whole, err := s.Digests(t.Context(), source.Query{Table: its}, []source.KeyRange{{}})
	require.NoError(t, err)
	require.EqualValues(t, 300, whole[0].Rows)
	rapid.Check(t, func(r *rapid.T) {
		at := rapid.IntRange(-1, 301).Draw(r, "at")
		text, _ := json.Marshal(at)
		key := []string{string(text)}
		parts, err := s.Digests(context.Background(), source.Query{Table: its}, []source.KeyRange{{UpTo: key}, {After: key}})
		require.NoError(r, err)
		require.Equal(r, whole[0].Rows, parts[0].Rows+parts[1].Rows)
		for half := range whole[0].Halves {
			require.Equal(r, whole[0].Halves[half], parts[0].Halves[half]+parts[1].Halves[half])
		}
		n, err := s.Count(context.Background(), source.Query{Table: its, Keys: &source.KeyRange{UpTo: key}})
		require.NoError(r, err)
		require.Equal(r, n, parts[0].Rows)
	})
}

// Whatever the files of a lake hold, it is read or refused, within a while, and nothing outside of its folder is read.
func TestFilesThatAreNotToBeTrusted(t *testing.T) {
	s, lake, folder := opened(t)
	lake.Create("kinds", allTypes, iceberg.Properties{table.PropertyFormatVersion: "3",
		"write.delete.mode": "merge-on-read"})
	for i := range 3 {
		lake.Commit("kinds", func(tx *table.Transaction) error {
			return lake.Append(tx, lake.Rows("kinds", nil, []map[string]any{{"id": 2 * i, "tags": []any{"a"}}, {"id": 2*i +
				1}}), nil)
		})
	}
	lake.Commit("kinds", func(tx *table.Transaction) error {
		return tx.Delete(context.Background(), iceberg.EqualTo(iceberg.Reference("id"), int32(3)), nil)
	})
	name := schema.Name{Schema: "kept", Table: "kinds"}
	its, err := s.Table(t.Context(), name)
	require.NoError(t, err)
	try := func() error {
		s.Rest()
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		err := s.Read(ctx, source.Query{Table: its}, func(b rows.Batch) error { b.Record.Release(); return nil })
		require.NoError(t, ctx.Err())
		return err
	}
	require.NoError(t, try())
	var files []string
	require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files = append(files, path)
		}
		return err
	}))
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	refused := 0
	for range 200 {
		path := files[r.IntN(len(files))]
		was, err := os.ReadFile(path)
		require.NoError(t, err)
		is := append([]byte{}, was...)
		for range 1 + r.IntN(8) {
			is[r.IntN(len(is))] = byte(r.IntN(256))
		}
		if r.IntN(4) == 0 {
			is = is[:r.IntN(len(is))]
		}
		require.NoError(t, os.WriteFile(path, is, 0o600))
		if err := try(); err != nil {
			refused++
			require.NotEmpty(t, problem.Of(err).Remedy, "%v", err)
		}
		require.NoError(t, os.WriteFile(path, was, 0o600))
	}
	require.Positive(t, refused)
	require.NoError(t, try())

	// A file elsewhere is not read, by its name or by a link.
	outside := filepath.Join(testkit.Dir(t), "outside.parquet")
	for _, path := range files {
		if strings.HasSuffix(path, ".parquet") {
			require.NoError(t, os.Rename(path, outside))
			require.NoError(t, os.Symlink(outside, path))
			require.ErrorContains(t, try(), "cannot be read")
			require.NoError(t, os.Rename(outside, path))
			break
		}
	}
	require.NoError(t, try())
	_, err = s.at(t.Context(), name, "file:///etc/passwd")
	require.ErrorContains(t, err, "is not one of the")
	_, err = s.at(t.Context(), name, "file://"+folder+"/../outside/00000.metadata.json")
	require.ErrorContains(t, err, "is not one of the")
}

// A place is written in one form, which sorts by its moment; what is no place is refused.
func TestPlaces(t *testing.T) {
	s := &Source{}
	for text, want := range map[string]string{
		"2026-05-01T10:00:00Z":                             "2026-05-01T10:00:00.000000Z {}",
		"2026-05-01T12:00:00.5+02:00 {\"b.c\": 3,\"a\":0}": `2026-05-01T10:00:00.500000Z {"a":0,"b.c":3}`,
		" 2026-05-01T10:00:00.123456789Z {\"sh op.x\":12}": `2026-05-01T10:00:00.123456Z {"sh op.x":12}`,
	} {
		got, err := s.CheckPosition(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got)
		again, err := s.CheckPosition(got)
		require.NoError(t, err)
		require.Equal(t, got, again)
	}
	for _, text := range []string{"", "0/1", "2026-05-01", "2026-05-01T10:00:00Z null",
		"2026-05-01T10:00:00Z {\"a\": \"b\"}",
		"2026-05-01T10:00:00Z {} {}", "99999-05-01T10:00:00Z"} {
		_, err := s.CheckPosition(text)
		require.True(t, problem.Is(err, problem.Invalid), text)
	}
}

// However clocks of writers differ, and whatever several tables have in common: each step comes once, those of a table
// in their order, and what one commit has made of several tables stays one where no table would go back for it.
func TestStepsComeInTheirOrder(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		tables := []*followed{{number: 0}, {number: 1}, {number: 2}}
		var steps []step
		sensible := true
		for _, f := range tables {
			at := int64(1000)
			for n := range rapid.IntRange(0, 6).Draw(r, "snapshots") {
				at += rapid.Int64Range(-3, 5).Draw(r, "later")
				s := &table.Snapshot{SequenceNumber: int64(n + 1), SnapshotID: int64(100*f.number + n + 1), TimestampMs: at,
					Summary: &table.Summary{Properties: iceberg.Properties{}}}
				if rapid.Bool().Draw(r, "of a commit of several") {
					s.Summary.Properties[lakefiles.CommitProperty] = rapid.SampledFrom([]string{"c1", "c2", "c3", "c4"}).Draw(r,
						"commit")
				}
				steps = append(steps, step{of: f, to: s})
			}
			if rapid.IntRange(0, 5).Draw(r, "ends") == 0 {
				steps = append(steps, step{of: f, fault: errEnough})
			}
		}
		came, seen := 0, map[int]int64{}
		for _, c := range inOrder(steps) {
			here := map[int]bool{}
			for _, s := range c.steps {
				require.False(r, here[s.of.number], "a table moves once in a commit")
				here[s.of.number] = true
				require.Greater(r, s.numbered(), seen[s.of.number], "a table goes on")
				seen[s.of.number] = s.numbered()
				came++
			}
			sensible = sensible && len(c.steps) > 0
		}
		require.True(r, sensible)
		require.Equal(r, len(steps), came)
	})
	both := func(n int, at int64, id string) step {
		return step{of: &followed{number: n}, to: &table.Snapshot{SequenceNumber: 1, TimestampMs: at,
			Summary: &table.Summary{Properties: iceberg.Properties{lakefiles.CommitProperty: id}}}}
	}
	require.Len(t, inOrder([]step{both(0, 1000, "c"), both(1, 1003, "c")}), 1)
	require.Len(t, inOrder([]step{both(0, 1000, "c"), both(1, 1003, "d")}), 2)
}
