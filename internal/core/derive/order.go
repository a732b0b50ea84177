package derive

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"noemata/internal/core/problem"
)

// Reads lists, by the names of derived tables, those of the tables that they read. Names are as the warehouse tells them
// apart.
type Reads map[string][]string

// Order gives the derived tables so that each comes after those that it reads; among those that could come next, the
// first by name. Tables that read each other have no order: the problem names them.
func Order(reads Reads) ([]string, error) {
	waits := map[string]int{}
	readBy := map[string][]string{}
	var ready []string
	for name, inputs := range reads {
		for _, input := range inputs {
			if _, derived := reads[input]; derived {
				waits[name]++
				readBy[input] = append(readBy[input], name)
			}
		}
		if waits[name] == 0 {
			ready = append(ready, name)
		}
	}
	var order []string
	for len(ready) > 0 {
		slices.Sort(ready)
		next := ready[0]
		ready = ready[1:]
		order = append(order, next)
		for _, name := range readBy[next] {
			if waits[name]--; waits[name] == 0 {
				ready = append(ready, name)
			}
		}
	}
	if len(order) < len(reads) {
		circle := circle(reads, order)
		return nil, problem.Newf(problem.Invalid, "Have one of them read something else.",
			"These derived tables read each other in a circle: %s.", strings.Join(circle, " reads "))
	}
	return order, nil
}

// circle names tables that read each other, the first one again at the end. All that are in no order read one of
// themselves.
func circle(reads Reads, order []string) []string {
	left := maps.Clone(reads)
	for _, name := range order {
		delete(left, name)
	}
	at := map[string]int{}
	var way []string
	for name := slices.Min(slices.Collect(maps.Keys(left))); ; {
		if first, been := at[name]; been {
			return append(way[first:], name)
		}
		at[name] = len(way)
		way = append(way, name)
		next := slices.IndexFunc(left[name], func(input string) bool { _, is := left[input]; return is })
		name = left[name][next]
	}
}

// Made is how a derived table was made last.
type Made struct {
	Definition string            `json:"definition"`
	Inputs     map[string]string `json:"inputs"` // the versions that were read, by the names of the tables
}

// Stale tells why a derived table is to be made; empty where it is as its definition and what it reads have it. now are
// the versions of tables as they are.
func Stale(t Table, reads []string, made *Made, now map[string]string) string {
	switch {
	case made == nil:
		return "it was never made"
	case made.Definition != t.Definition():
		return "its definition has changed"
	}
	var changed []string
	for _, input := range reads {
		if made.Inputs[input] != now[input] {
			changed = append(changed, input)
		}
	}
	if len(changed) == 0 {
		return ""
	}
	slices.Sort(changed)
	more := ""
	if len(changed) > 3 {
		more = fmt.Sprintf(" and %d more", len(changed)-3)
	}
	return strings.Join(changed[:min(3, len(changed))], ", ") + more + " changed"
}
