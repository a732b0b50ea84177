package cli

import (
	"testing"

	"github.com/stretchr/testify/require"

	"noemata/client"
)

// Tables are brought two at a time: the text names those that are under way, and no total is
// shown before it is known.
func TestProgressNamesWhatIsUnderWayAndNoTotalThatGrows(t *testing.T) {
	p := progress{tables: 3}
	says := func(table, phase string, read, expected int64) (string, int64, int64) {
		p.take(client.Event{Kind: "progress", Table: table, Phase: phase, Read: read, Expected: expected})
		done, all := p.rows()
		return p.text(), done, all
	}
	require.Equal(t, "0 of 3 tables done", p.text())
	expect := func(text string, done, all int64) func(string, int64, int64) {
		return func(gotText string, gotDone, gotAll int64) {
			t.Helper()
			require.Equal(t, text, gotText)
			require.Equal(t, done, gotDone)
			require.Equal(t, all, gotAll)
		}
	}
	expect("looking public.loans, 0 of 3 tables done", 0, -1)(says("public.loans", "looking", 0, 0))
	expect("reading public.loans, 0 of 3 tables done", 100, -1)(says("public.loans", "reading", 100, 1000))
	expect("public.loans and 1 more, 0 of 3 tables done", 100, -1)(says("public.patrons", "looking", 0, 0))
	expect("public.loans and 1 more, 0 of 3 tables done", 150, -1)(says("public.patrons", "reading", 50, 60))
	expect("reading public.patrons, 1 of 3 tables done", 1050, -1)(says("public.loans", client.PhaseDone, 1000, 0))
	expect("public.copies and 1 more, 1 of 3 tables done", 1050, -1)(says("public.copies", "looking", 0, 0))
	expect("public.copies and 1 more, 1 of 3 tables done", 1060, 1100)(says("public.copies", "reading", 10, 40))
	expect("public.copies and 1 more, 1 of 3 tables done", 1085, 1115)(says("public.patrons", "reading", 75, 60))
	says("public.copies", client.PhaseDone, 40, 0)
	expect("3 of 3 tables done", 1120, 1120)(says("public.patrons", client.PhaseDone, 80, 0))

	one := progress{tables: 1}
	one.take(client.Event{Table: "public.loans", Phase: "reading", Read: 5, Expected: 9})
	require.Equal(t, "reading public.loans", one.text())
}
