package feed

import (
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/schema"
)

// A table of a feed may be a pattern: schema.table with * for any characters and ? for one, in
// either part. It stands for the tables that are there, and for those to come. Views and
// foreign tables are brought by their exact names only.

// IsPattern tells whether the table stands for several. A name in quotes never does.
func (t *Table) IsPattern() bool {
	return strings.ContainsAny(t.Table, "*?") && !strings.Contains(t.Table, `"`)
}

// OfPattern tells whether the table is one of those that a pattern stands for. It need not have each
// column that the pattern names.
func (t *Table) OfPattern() bool { return t.ofPattern }

// HasPatterns tells whether the feed has a pattern.
func (f *Feed) HasPatterns() bool {
	return slices.ContainsFunc(f.Tables, func(t Table) bool { return t.IsPattern() })
}

// matches tells whether a pattern stands for a table.
func matches(pattern string, name schema.Name) bool {
	schemaPart, tablePart, ok := strings.Cut(pattern, ".")
	return ok && glob(schemaPart, name.Schema) && glob(tablePart, name.Table)
}

// glob matches a text against a pattern of * and ?.
func glob(pattern, text string) bool {
	p, s := []rune(pattern), []rune(text)
	star, from := -1, 0 // where the last * stands, and up to where it reaches
	i := 0
	for k := 0; k < len(s); {
		switch {
		case i < len(p) && p[i] == '*':
			star, from = i, k
			i++
		case i < len(p) && (p[i] == '?' || p[i] == s[k]):
			i, k = i+1, k+1
		case star >= 0:
			from++
			i, k = star+1, from
		default:
			return false
		}
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}

// leavesOut tells whether a table is among the exceptions of a pattern.
func (t *Table) leavesOut(name schema.Name) bool {
	return slices.ContainsFunc(t.Except, func(except string) bool {
		x := Table{Table: except}
		if x.IsPattern() {
			return matches(except, name)
		}
		exact, err := schema.ParseName(except)
		return err == nil && exact == name
	})
}

// Match says what a pattern stands for among the tables of a source.
type Match struct {
	Pattern string
	Tables  []schema.Name // in the order of the source's list
	Except  []schema.Name // that it would match, and that are left out or named elsewhere
}

// Resolve gives the feed with the tables that its patterns stand for in their place, in the
// order of the source's list. Exact names go before patterns, and a pattern before those after
// it.
func (f *Feed) Resolve(tables []schema.Name) (*Feed, []Match) {
	out := *f
	out.Tables, out.followsLog = nil, f.Running().FollowsLog()
	taken := map[schema.Name]bool{}
	for i := range f.Tables {
		if name, err := schema.ParseName(f.Tables[i].Table); err == nil && !f.Tables[i].IsPattern() {
			taken[name] = true
		}
	}
	var found []Match
	for _, t := range f.Tables {
		if !t.IsPattern() {
			out.Tables = append(out.Tables, t)
			continue
		}
		m := Match{Pattern: t.Table}
		for _, name := range tables {
			if !matches(t.Table, name) {
				continue
			}
			if taken[name] || t.leavesOut(name) {
				m.Except = append(m.Except, name)
				continue
			}
			taken[name] = true
			one := t
			one.Table, one.Except, one.ofPattern = name.Display(), nil, true
			m.Tables = append(m.Tables, name)
			out.Tables = append(out.Tables, one)
		}
		found = append(found, m)
	}
	return &out, found
}

// Picks gives the tables that the feed's patterns stand for.
func (f *Feed) Picks(tables []schema.Name) []schema.Name {
	var picked []schema.Name
	_, found := f.Resolve(tables)
	for _, m := range found {
		picked = append(picked, m.Tables...)
	}
	return picked
}

// Clashes tells which targets two tables would share.
func (f *Feed) Clashes() []Fault {
	var faults []Fault
	targets := map[schema.Name]string{}
	for _, t := range f.Tables {
		target, err := f.TargetOf(t)
		if err != nil {
			continue
		}
		if other, twice := targets[target]; twice {
			faults = append(faults, Fault{Path: t.Table,
				Message: fmt.Sprintf("Its target %s is already the target of %s.", target.Display(), other)})
		}
		targets[target] = t.Table
	}
	return faults
}

// checkPattern tells what is wrong with a pattern, as far as the feed alone shows.
func (t *Table) checkPattern(at string, fault func(string, string, ...any)) {
	if !t.IsPattern() {
		if len(t.Except) > 0 {
			fault(at+".except", "except goes with a pattern, as public.*; remove it.")
		}
		return
	}
	if strings.Count(t.Table, ".") != 1 {
		fault(at+".table", "%q is not a pattern: write it as schema.table, with * for any characters.", t.Table)
	}
	if t.Target != "" && !strings.Contains(t.Target, "{table}") {
		fault(at+".target", "The pattern stands for several tables, so its target needs {table}.")
	}
	for i, except := range t.Except {
		x := Table{Table: except}
		if _, err := schema.ParseName(except); err != nil && !x.IsPattern() {
			fault(fmt.Sprintf("%s.except[%d]", at, i), "%v.", err)
		}
	}
}
