package warehouse_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/problem"
	"noemata/internal/testkit"
	"noemata/internal/warehouse"
	"noemata/internal/warehouse/lake"
)

// A warehouse that was made before control schemas had a version is taken along with all
// that it knows: where tables and feeds stand, copies under way, structures and reasons.
// The file has the statements of that version, word for word.
func TestAWarehouseWithoutAVersionIsTakenAlong(t *testing.T) {
	content, err := os.ReadFile(filepath.Join("testdata", "unversioned.sql"))
	require.NoError(t, err)
	onEach(t, func(t *testing.T, w warehouse.Warehouse) {
		if _, sql := w.(testkit.Asker); !sql {
			return // it has no control schema
		}
		if _, is := w.(*lake.Warehouse); is {
			return // there were none then
		}
		ctx := context.Background()
		for _, statement := range strings.Split(string(content), ";\n") {
			if strings.TrimSpace(statement) != "" {
				testkit.SQL(t, w, statement)
			}
		}
		j := w.Journal()
		stands, err := j.Checkpoint(ctx, "circulation", "") // what can be read before is read as it was
		require.NoError(t, err)
		require.EqualValues(t, 12, stands.Version)
		log, ok, err := j.Log(ctx, "circulation")
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, warehouse.Log{Name: "noemata_circulation_ab12cd34", Origin: "7301",
			LastMoment: 1772348400000123}, log)

		made, err := w.Prepare(ctx, shelf("latest"))
		require.NoError(t, err)
		require.True(t, made)
		require.EqualValues(t, 10, testkit.SQL(t, w, "SELECT version FROM noemata.control")[0][0])
		copies, err := j.Copies(ctx, "circulation")
		require.NoError(t, err)
		require.Equal(t, []warehouse.Copy{
			{Table: "public.copies", State: warehouse.Copying, Generation: 2, Layout: "16390 4 parts",
				Snapshots: []string{"100:104:102"}},
			{Table: "public.holds", State: warehouse.Held, Generation: 3, Snapshots: []string{},
				Reason: `{"code":"held","what":"The key was changed.","remedy":"Copy it.","heals":false}`},
			{Table: "public.loans", State: warehouse.Following, Generation: 1, Snapshots: []string{},
				Structure: `{"key":["id"],"columns":["id","copy"],"target":"kept.loans"}`},
		}, copies)
		parts, err := j.Parts(ctx, "circulation", copies[0])
		require.NoError(t, err)
		require.Equal(t, []warehouse.PartCopied{{Table: "public.copies", Generation: 2, Part: 0, Snapshot: 1,
			Rows: 5000, Aside: 1}}, parts)
		first, err := j.FirstPosition(ctx, "patrons", "public.patrons")
		require.NoError(t, err)
		require.Equal(t, "2026-03-01T09:00:00.000000Z", first.String())
		last, err := j.LastSweep(ctx, "patrons", "public.patrons")
		require.NoError(t, err)
		require.False(t, last.IsZero())

		_, err = w.Prepare(ctx, shelf("latest"))
		require.NoError(t, err, "a second time nothing is left to do")

		testkit.SQL(t, w, "UPDATE noemata.control SET version = 999")
		require.Eventually(t, func() bool { // it is not looked at for each table
			_, err = w.Prepare(ctx, shelf("latest"))
			return problem.Is(err, problem.Held)
		}, 10*time.Second, 100*time.Millisecond)
		require.ErrorContains(t, err, "has version 999, and this Noemata knows versions up to 10")
		require.Error(t, j.Note(ctx, "circulation", warehouse.CopyAgain{Table: "public.loans"}),
			"nothing is changed that a later version has made")
	})
}
