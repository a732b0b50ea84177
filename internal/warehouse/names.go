package warehouse

import (
	"fmt"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// Names says how a warehouse tells names from each other.
type Names struct {
	Kind    string // of the warehouse, as people know it
	Longest int    // in bytes, what is longer is cut; 0 for any length
	OneCase bool   // A and a are one; of ASCII's letters alone
	Divides bool   // tables are files, which can be divided by what is in columns
}

// Key is the same for names that the warehouse does not tell apart.
func (n Names) Key(name string) string {
	if n.OneCase {
		name = strings.Map(func(r rune) rune {
			if 'A' <= r && r <= 'Z' {
				return r + 'a' - 'A'
			}
			return r
		}, name)
	}
	if n.Longest > 0 {
		name = name[:min(len(name), n.Longest)]
	}
	return name
}

// KeyOf is Key of a table's name.
func (n Names) KeyOf(name schema.Name) schema.Name {
	return schema.Name{Schema: n.Key(name.Schema), Table: n.Key(name.Table)}
}

// Cut is a name as the warehouse can have it.
func (n Names) Cut(name string) string {
	if n.Longest == 0 {
		return name
	}
	return schema.Cut(name, n.Longest)
}

// Check tells whether a target can be called as it is: no name is cut, and no two of its columns
// are one.
func (n Names) Check(t Target, source string) error {
	if n.Key(t.Name.Schema) == feed.ControlSchema {
		return problem.Newf(problem.Invalid, "Give the table another target.",
			"The target of %s is in the schema %s, which is kept for Noemata's own records.", source, t.Name.Schema)
	}
	names := []schema.Name{t.Name}
	if t.Keep == feed.KeepHistory {
		names = append(names, AsOfName(t.Name))
	}
	for _, name := range names {
		for _, part := range []string{name.Schema, name.Table} {
			if n.Longest > 0 && len(part) > n.Longest {
				return problem.Newf(problem.Invalid, "Give the table a shorter target: target: schema.table.",
					"The target of %s would be called %s, and %s cuts names after %d bytes.", source, name.Display(),
					n.Kind,
					n.Longest)
			}
		}
	}
	seen := map[string]string{}
	for _, c := range t.All() {
		if n.Longest > 0 && len(c.Name) > n.Longest {
			return problem.Newf(problem.Invalid,
				fmt.Sprintf("Give it a shorter name: columns: {%q: {name: …}}, or drop it.", c.Name),
				"The column %s of %s has %d bytes in its name, and %s cuts names after %d.",
				c.Name, source, len(c.Name), n.Kind, n.Longest)
		}
		if other, twice := seen[n.Key(c.Name)]; twice {
			return problem.Newf(problem.Invalid,
				fmt.Sprintf("Give one of them another name: columns: {%q: {name: …}}, or drop it.", c.Name),
				"The columns %s and %s of %s are one in %s, which does not tell upper from lower case.",
				other, c.Name, source, n.Kind)
		}
		seen[n.Key(c.Name)] = c.Name
	}
	return nil
}
