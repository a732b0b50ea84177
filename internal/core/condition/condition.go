// Package condition holds what servers can be asked of rows with the meaning that it has here.
package condition

import (
	"slices"

	"noemata/internal/core/schema"
)

// Condition is a part of a filter, as a tree. A server may answer it by null, which stands for not known;
// but where it answers by true or false, the filter's own answer is the same, or none. Negations and what is
// joined have the three-valued logic of SQL (ISO/IEC 9075-2, 6.39), which is that of CEL as well, where an
// error stands for not known.
type Condition struct {
	Op     Op
	Args   []Condition   // of And and Or, of which there is one at least, and of Not, which has one
	Column schema.Column // of the others
	Value  string        // what the column is compared with, as schema.CellText has it
}

// Op is what a condition does.
type Op string

// What conditions do. Texts are compared by their bytes and for equality alone.
const (
	Unknown      Op = "" // what a server is not asked
	And          Op = "AND"
	Or           Op = "OR"
	Not          Op = "NOT"
	IsNull       Op = "IS NULL"
	Equal        Op = "="
	Less         Op = "<"
	LessEqual    Op = "<="
	Greater      Op = ">"
	GreaterEqual Op = ">="
)

// Asks tells whether a server can leave a row out by the condition at all.
func (c Condition) Asks() bool {
	switch c.Op {
	case Unknown:
		return false
	case And:
		return slices.ContainsFunc(c.Args, Condition.Asks)
	case Or:
		return !slices.ContainsFunc(c.Args, func(x Condition) bool { return !x.Asks() })
	case Not:
		return c.Args[0].Grants()
	}
	return true
}

// Grants tells whether a server can tell of a row that it meets the condition.
func (c Condition) Grants() bool {
	switch c.Op {
	case Unknown:
		return false
	case And:
		return !slices.ContainsFunc(c.Args, func(x Condition) bool { return !x.Grants() })
	case Or:
		return slices.ContainsFunc(c.Args, Condition.Grants)
	case Not:
		return c.Args[0].Asks()
	}
	return true
}
