package source

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"noemata/internal/core/condition"
	"noemata/internal/core/position"
	"noemata/internal/core/schema"
)

// SQL is how a kind of server has queries written. What it does not tell is the same for
// all of them.
type SQL struct {
	Literal  func(c schema.Column, value string) string // of a value as schema.CellText has it
	Bytewise func(text string) string                   // an expression that sorts by the bytes of a text
	After    func(left, right []string) string          // the first list sorts after the second
	UpTo     func(left, right []string) string          // the first list sorts before the second, or is the same
	Digest   func(columns []schema.Column) string       // of a row of the table that From names, in hexadecimal digits
	Half     func(from int) string                      // the sum of halfDigits digits of d, from one on, as text
	AsIs     string                                     // ends a query whose columns are not to be computed twice
	NoTies   bool                                       // a query cannot be limited where rows tie: it is not
	Down     string                                     // follows what is sorted by from the highest on, nulls last
	Text     func(ascii string) string                  // a text as Bytewise gives it
	Instant  func(text string) string                   // a moment, given in UTC as yyyy-mm-dd hh:mm:ss.ffffff
	Texts    *regexp.Regexp                             // the types, as the catalogue names them, of texts that are compared
	Plain    *regexp.Regexp                             // the other types that are compared with constants
}

// From names the table, or the query in its place, by an alias. A bare name in ORDER BY would mean the selected column,
// which may be the text of the one in the table, and sort otherwise.
func (s SQL) From(q Query) string {
	if q.Table.Query != "" {
		return "(" + q.Table.Query + "\n) AS t" // the query may end with a comment
	}
	return q.Table.Name.Quoted() + " AS t"
}

// Column names a column of the table that From names.
func (s SQL) Column(name string) string { return "t." + schema.Quote(name) }

// Watermark is the expression that windows are cut from. Texts sort by their bytes, so that
// no change of the server's locale changes the order.
func (s SQL) Watermark(q Query) string {
	w := s.Column(q.Watermark.Column.Name)
	if q.Watermark.Fallback != "" {
		w = "coalesce(" + w + ", " + s.Column(q.Watermark.Fallback) + ")"
	}
	if q.Watermark.Column.Type.Kind == schema.Text {
		w = s.Bytewise(w)
	}
	return w
}

// Where is the WHERE clause of a query's window, keys and filter, empty when there are none.
func (s SQL) Where(q Query) string {
	return Where(append(append(s.window(q), s.keys(q)...), s.Meets(q.Filter)...))
}

// Where joins conditions into a WHERE clause.
func Where(conditions []string) string {
	if len(conditions) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(conditions, " AND ")
}

// Meets is true of rows that a filter must see.
func (s SQL) Meets(f *Filter) []string {
	if f == nil {
		return nil
	}
	return []string{"(" + s.condition(f.Condition) + ") IS NOT FALSE"}
}

// LeftOut counts the rows that a filter makes of those that meet other conditions.
func (s SQL) LeftOut(from string, f Filter, conditions []string) string {
	return "SELECT count(*) FROM " + from + Where(append(slices.Clone(conditions),
		"("+s.condition(f.Condition)+") IS FALSE"))
}

// LeftOutOf counts the rows that a query's filter leaves out.
func (s SQL) LeftOutOf(q Query) string {
	return s.LeftOut(s.From(q), *q.Filter, append(s.window(q), s.keys(q)...))
}

// condition writes a condition; what the server may compare otherwise is null. A constant has a type of
// its own: that of the column could round it.
func (s SQL) condition(c condition.Condition) string {
	switch c.Op {
	case condition.Unknown:
		return "NULL"
	case condition.And, condition.Or:
		list := make([]string, len(c.Args))
		for i, arg := range c.Args {
			list[i] = s.condition(arg)
		}
		return "(" + strings.Join(list, " "+string(c.Op)+" ") + ")"
	case condition.Not:
		return "(NOT " + s.condition(c.Args[0]) + ")"
	}
	compared := s.Plain
	if c.Column.Type.Kind == schema.Text { // what arrives as a text may be something else there
		compared = s.Texts
	}
	if !compared.MatchString(c.Column.Native) {
		return "NULL"
	}
	name, value := s.Column(c.Column.Name), c.Value
	switch c.Column.Type.Kind {
	case schema.Bool:
		value = s.Literal(c.Column, value)
	case schema.Text:
		name, value = s.Bytewise(name), s.Text(value)
	case schema.Date:
		value = "DATE " + schema.Literal(value)
	case schema.Timestamp, schema.TimestampTZ:
		at := strings.TrimSuffix(strings.Replace(value, "T", " ", 1), "Z")
		if value = "TIMESTAMP " + schema.Literal(at); c.Column.Type.Kind == schema.TimestampTZ {
			value = s.Instant(at)
		}
	}
	if c.Op == condition.IsNull {
		return "(" + s.Column(c.Column.Name) + " IS NULL)"
	}
	return "(" + name + " " + string(c.Op) + " " + value + ")"
}

// window are the conditions of a query's window.
func (s SQL) window(q Query) (conditions []string) {
	if q.Watermark == nil {
		return nil
	}
	w := s.Watermark(q)
	if low := q.Window.Low; !low.IsZero() {
		if q.Window.Inclusive {
			conditions = append(conditions, w+" >= "+s.Literal(q.Watermark.Column, low.Value))
		} else {
			conditions = append(conditions, s.above(q, low))
		}
	}
	if q.Window.High != "" {
		conditions = append(conditions, w+" <= "+s.Literal(q.Watermark.Column, q.Window.High))
	}
	return conditions
}

// Beyond is true of rows that q.Beyond has not reached.
func (s SQL) Beyond(q Query) string {
	if q.Watermark == nil || q.Beyond.IsZero() {
		return "false"
	}
	return "coalesce(" + s.above(q, *q.Beyond) + ", true)"
}

// above is true of rows that come after a position.
func (s SQL) above(q Query, low position.Position) string {
	w, v := s.Watermark(q), s.Literal(q.Watermark.Column, low.Value)
	switch {
	case len(low.After) == 0:
		return w + " > " + v
	case len(low.After) != len(q.Table.Key): // of another key: rows at the value may be missing still
		return w + " >= " + v
	}
	left, right := s.Key(q.Table, low.After)
	return s.After(append([]string{w}, left...), append([]string{v}, right...))
}

// Key gives the columns of a table's key, and a key's values.
func (s SQL) Key(t schema.Table, key []string) (columns, values []string) {
	for i, k := range t.Key {
		c, _ := t.Column(k)
		columns, values = append(columns, s.Column(k)), append(values, s.Literal(c, key[i]))
	}
	return columns, values
}

// Order is the ORDER BY clause of a query, and how many rows it gives.
func (s SQL) Order(q Query) string {
	var list []string
	if q.Watermark != nil && q.Ordered {
		list = append(list, s.Watermark(q))
	}
	if q.Watermark != nil && q.Newest {
		list = append(list, s.Watermark(q)+s.Down)
	}
	if null := s.nullKey(q.Table); q.Keys != nil && null != "" {
		list = append(list, "("+null+")")
	}
	if q.Ordered || q.Newest {
		for _, k := range q.Table.Key {
			list = append(list, s.Column(k))
		}
	}
	text := ""
	if len(list) > 0 {
		text = " ORDER BY " + strings.Join(list, ", ")
	}
	switch {
	case q.Limit > 0 && (len(q.Table.Key) > 0 || !q.Ordered):
		text += fmt.Sprintf(" LIMIT %d", q.Limit)
	case q.Limit > 0 && s.NoTies:
	case q.Limit > 0:
		text += fmt.Sprintf(" OFFSET 0 ROWS FETCH FIRST %d ROWS WITH TIES", q.Limit)
	}
	return text
}

// UniqueKeyRemedy is the statement that makes a key unique; a view takes none.
func UniqueKeyRemedy(src Source, t schema.Table, key []string) string {
	if t.View {
		return ""
	}
	if its, is := src.(Keyed); is {
		return its.DeclareKey(t, key)
	}
	var list, nullable []string
	for _, k := range key {
		list = append(list, src.Quote(k))
		if t.Nullable(k) {
			nullable = append(nullable, k)
		}
	}
	kind, first := "UNIQUE", ""
	switch {
	case len(nullable) > 0 && len(t.Key) == 0: // which makes the columns NOT NULL
		kind = "PRIMARY KEY"
	case len(nullable) > 0:
		first = fmt.Sprintf("Make %s NOT NULL. Then: ", strings.Join(nullable, ", "))
	}
	return fmt.Sprintf("%sALTER TABLE %s.%s ADD %s (%s);", first, src.Quote(t.Name.Schema), src.Quote(t.Name.Table),
		kind, strings.Join(list, ", "))
}
