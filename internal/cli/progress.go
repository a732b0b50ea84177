package cli

import (
	"fmt"
	"maps"
	"slices"

	"noemata/client"
)

// progress is how far the tables of a run have come, as its events tell.
type progress struct {
	tables int                     // that the run has
	last   map[string]client.Event // by table
}

func (p *progress) take(e client.Event) {
	if p.last == nil {
		p.last = map[string]client.Event{}
	}
	p.last[e.Table] = e
}

// text names the tables that are under way. Several are at a time, and no event says that it
// is about the one that a person looks at.
func (p *progress) text() string {
	var under []string
	ended := 0
	for _, table := range slices.Sorted(maps.Keys(p.last)) {
		if p.last[table].Phase == client.PhaseDone {
			ended++
		} else {
			under = append(under, table)
		}
	}
	switch {
	case len(under) == 0:
		return fmt.Sprintf("%d of %d tables done", ended, max(p.tables, ended))
	case len(under) == 1 && p.tables <= 1:
		return p.last[under[0]].Phase + " " + under[0]
	case len(under) == 1:
		return fmt.Sprintf("%s %s, %d of %d tables done", p.last[under[0]].Phase, under[0], ended, p.tables)
	}
	return fmt.Sprintf("%s and %d more, %d of %d tables done", under[0], len(under)-1, ended,
		max(p.tables, len(p.last)))
}

// rows are those that have come in, and how many there will be: -1 as long as a table has not
// yet said how many it expects, since a total that grows is none.
func (p *progress) rows() (done, all int64) {
	known := len(p.last) >= p.tables
	for _, e := range p.last {
		done += e.Read
		all += max(e.Expected, e.Read)
		known = known && (e.Expected > 0 || e.Phase == client.PhaseDone)
	}
	if !known {
		all = -1
	}
	return done, all
}
