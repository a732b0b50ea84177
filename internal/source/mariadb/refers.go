package mariadb

import (
	"slices"

	"noemata/internal/core/schema"
)

// references finds, in the statement that would make a table of a schema, the foreign keys by which the
// server changes its rows by itself (mariadb.com/kb/en/foreign-keys).
func references(list []token, in string) (found []schema.Reference) {
	at := func(i int) token {
		if i < len(list) {
			return list[i]
		}
		return token{}
	}
	names := func(i int) (columns []string, next int) {
		for i++; i < len(list) && !at(i).is(")"); i++ {
			if at(i).quoted {
				columns = append(columns, at(i).text)
			}
		}
		return columns, i + 1
	}
	for i := 0; i < len(list); i++ {
		if !at(i).is("FOREIGN") || !at(i+1).is("KEY") {
			continue
		}
		var r schema.Reference
		if r.Columns, i = names(i + 2); !at(i).is("REFERENCES") {
			continue
		}
		r.To = schema.Name{Schema: in, Table: at(i + 1).text}
		if i += 2; at(i).isDot() {
			r.To = schema.Name{Schema: r.To.Table, Table: at(i + 1).text}
			i += 2
		}
		r.ToColumns, i = names(i)
		for ; at(i).is("ON"); i += 3 {
			effect := schema.NoEffect
			switch {
			case at(i + 2).is("CASCADE"):
				effect = schema.Cascades
			case at(i+2).is("SET") && at(i+3).is("NULL"):
				effect = schema.BecomesNull
			}
			if at(i + 1).is("DELETE") {
				r.OnDelete = effect
			} else {
				r.OnUpdate = effect
			}
			if at(i+2).is("SET", "NO") {
				i++
			}
		}
		i--
		found = append(found, r)
	}
	return found
}

// acting are the foreign keys by which rows are changed without the log telling of it.
func acting(all []schema.Reference) (found []schema.Reference) {
	for _, r := range all {
		if r.OnDelete != schema.NoEffect || r.OnUpdate != schema.NoEffect {
			found = append(found, r)
		}
	}
	return found
}

// referring is what becomes of rows of a table when one of another goes, or changes what they refer to.
type referring struct {
	on       *followed // the table whose rows refer
	from     []int     // places of what they refer to
	to       []int     // places of the columns that refer
	onDelete schema.Effect
	onUpdate schema.Effect
	unknown  []bool // the columns of the table that do not refer
}

// link finds the effects of each table on the others.
func (x *stream) link() {
	for _, t := range x.tables {
		for _, r := range t.Table.Refers {
			for _, parent := range x.tables {
				if parent.Table.Name != r.To {
					continue
				}
				e := referring{on: t, from: schema.Indexes(parent.Table.Columns, r.ToColumns),
					to: schema.Indexes(t.Table.Columns, r.Columns), onDelete: r.OnDelete, onUpdate: r.OnUpdate,
					unknown: make([]bool, len(t.Table.Columns))}
				for i, c := range t.Table.Columns {
					e.unknown[i] = !slices.Contains(r.Columns, c.Name)
				}
				parent.effects = append(parent.effects, e)
			}
		}
	}
}
