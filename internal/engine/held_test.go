package engine

import (
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
)

// A structure tells whether rows of before are those of now: by their key, their target, and the
// order of their columns, which two that exchange their names exchange.
func TestWhatAStructureNotices(t *testing.T) {
	was := structure{Key: []string{"id"}, Columns: []string{"id", "title", "author", "year"}, Target: "kept.books"}
	for name, x := range map[string]struct {
		now   structure
		says  string
		gains bool
	}{
		"nothing": {now: was},
		"another key": {now: structure{Key: []string{"id", "year"}, Columns: was.Columns, Target: was.Target},
			says: "it was (id) and is (id, year)"},
		"no key": {now: structure{Key: nil, Columns: was.Columns, Target: was.Target}, says: "it was (id) and is ()"},
		"another target": {now: structure{Key: was.Key, Columns: was.Columns, Target: "kept.works"},
			says: "was kept.books and is kept.works"},
		"exchanged names": {now: structure{Key: was.Key, Columns: []string{"id", "author", "title", "year"},
			Target: was.Target},
			says: "stand in another order"},
		"a column less": {now: structure{Key: was.Key, Columns: []string{"id", "title", "year"}, Target: was.Target}},
		"a column more": {now: structure{Key: was.Key, Columns: []string{"id", "title", "author", "year", "note"},
			Target: was.Target},
			gains: true},
		"one in the midst": {now: structure{Key: was.Key, Columns: []string{"id", "title", "note", "author", "year"},
			Target: was.Target},
			gains: true},
		"another name": {now: structure{Key: was.Key, Columns: []string{"id", "title", "writer", "year"},
			Target: was.Target},
			gains: true},
		"moved to the end": {now: structure{Key: was.Key, Columns: []string{"id", "author", "year", "title"},
			Target: was.Target},
			says: "stand in another order"},
	} {
		err := x.now.changed(was, "public.books", copyRemedy)
		if x.says == "" {
			require.NoError(t, err, name)
		} else {
			require.ErrorContains(t, err, x.says, name)
			require.True(t, problem.Is(err, problem.Held), name)
			require.Contains(t, problem.Of(err).Remedy, "noemata feeds copy FEED --table TABLE", name)
		}
		require.Equal(t, x.gains, x.now.gains(was), name)
	}
	older := structure{Key: was.Key, Columns: was.Columns} // of a version that kept no target
	require.NoError(t, was.changed(older, "public.books", copyRemedy))
	var back structure
	require.NoError(t, json.Unmarshal([]byte(was.String()), &back))
	require.Equal(t, was, back)
}

// The commands of a remedy name the feed and the table that they are for.
func TestRemediesNameTheFeed(t *testing.T) {
	for remedy, want := range map[string]string{
		"Copy the table again: noemata feeds copy FEED --table TABLE.": `Copy the table again: noemata feeds copy ` +
			`live --table 'public."Book s"'.`,
		"Copy the feed's tables again: noemata feeds copy FEED.": "Copy the feed's tables again: noemata " +
			"feeds copy live.",
		"Clear the position: noemata positions clear FEED TABLE.": `Clear the position: noemata positions ` +
			`clear live 'public."Book s"'.`,
		"Write a FEED file for the TABLE.": "Write a FEED file for the TABLE.",
		"Nothing was lost; the next run of noemata goes on from there.": "Nothing was lost; the next run of " +
			"noemata goes on from there.",
		"See noemata runs show --table TABLE, or noemata feeds show it.": `See noemata runs show --table ` +
			`'public."Book s"', or noemata feeds show it.`,
	} {
		cause := errors.New("the cause")
		err := named(problem.Wrap(cause, problem.Held, "It is held.", remedy), "live", `public."Book s"`)
		require.Equal(t, want, problem.Of(err).Remedy)
		require.True(t, problem.Is(err, problem.Held))
	}
	plain := errors.New("plain")
	require.Equal(t, plain, named(plain, "live", "public.books"))
	require.NoError(t, named(nil, "live", "public.books"))
}

// Only what is wrong with a table is its own fault: a lost connection is nobody's.
func TestWhoIsToBlame(t *testing.T) {
	books := &logTable{Table: feed.Table{Table: "public.books"}}
	var own *tableError
	for code, tables := range map[problem.Code]bool{problem.Held: true, problem.Refused: true,
		problem.Unreachable: false, problem.Overtaken: false, problem.Busy: false, problem.Stopped: false} {
		cause := problem.New(code, "What.", "Remedy.")
		err := blame(books, cause)
		require.ErrorIs(t, err, cause)
		require.Equal(t, tables, errors.As(err, &own), code)
		if tables {
			require.Equal(t, "public.books", own.table)
			require.Equal(t, cause.Error(), err.Error())
		}
	}
	require.NoError(t, blame(books, nil))
}
