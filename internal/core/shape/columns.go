package shape

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// compiler makes the makers of a table's columns.
type compiler struct {
	table    schema.Table
	spec     feed.Table
	keys     Keys
	used     map[string]bool   // columns that must be read
	hashKeys map[string][]byte // by column
	makers   []maker
	inputs   [][]string // by maker: the columns that it is made of
}

// columns makes what arrives: the source's columns in their order, each followed by what is
// taken out of it, and then what is computed.
func (c *compiler) columns() error {
	for _, column := range c.table.Columns {
		if c.spec.Dropped(column.Name) {
			continue
		}
		t := c.spec.Columns[column.Name]
		if t.Keep == nil || *t.Keep {
			m, err := c.treated(column, t)
			if err != nil {
				return err
			}
			if !t.Whole() || t.Name != "" {
				m.how = c.how(column.Name, feed.Treatment{Name: t.Name, Type: t.Type, Hash: t.Hash, Mask: t.Mask,
					Count: t.Count, Text: t.Text})
			}
			c.add(m, column.Name)
		}
		if len(t.Take) > 0 {
			m, err := c.taken(column, t)
			if err != nil {
				return err
			}
			m.how = c.how(column.Name, feed.Treatment{Take: t.Take})
			c.add(m, column.Name)
		}
	}
	for _, name := range sorted(c.spec.Computed) {
		m, inputs, err := c.computed(name, c.spec.Computed[name])
		if err != nil {
			return err
		}
		m.how = digest(c.spec.Computed[name].Value, c.spec.Computed[name].Type)
		c.add(m, inputs...)
	}
	return nil
}

// how tells what is made of a column from what another treatment, or another key, would make of it.
func (c *compiler) how(column string, t feed.Treatment) string {
	if t.Hash != "" {
		t.Hash = hex.EncodeToString(known(c.hashKeys[column]))
	}
	content, _ := json.Marshal(t) // plain fields always marshal
	return digest(column, string(content))
}

func (c *compiler) add(m maker, inputs ...string) {
	c.makers, c.inputs = append(c.makers, m), append(c.inputs, inputs)
	for _, name := range inputs {
		c.used[name] = true
	}
}

// treated makes one column of one.
func (c *compiler) treated(column schema.Column, t feed.Treatment) (maker, error) {
	out := column
	if t.Name != "" {
		out.Name = t.Name
	}
	m := maker{oneToOne: true}
	switch {
	case t.Hash != "":
		if column.Type.Kind == schema.Interval {
			return m, c.refuse(column, "hash",
				"an interval can be written in many ways; compute a text of it at the source")
		}
		key, err := c.keys(t.Hash)
		if err != nil {
			return m, err
		}
		c.hashKeys[column.Name] = key
		out.Type, out.Wire, out.Native = schema.Type{Kind: schema.Text}, "", "text"
		m.make = func(in input) []arrow.Array { return []arrow.Array{hashed(in.columns[0], column.Type, key)} }
	case t.Mask != "":
		do, err := c.mask(column, t)
		if err != nil {
			return m, err
		}
		out.Nullable = out.Nullable || t.Mask == feed.MaskNull
		m.make = func(in input) []arrow.Array { return []arrow.Array{do(in.columns[0])} }
	case t.Type != "":
		to, err := schema.ParseType(t.Type)
		if err != nil {
			return m, c.wrongType("columns."+column.Name, err)
		}
		convert, err := converter(column.Type, to)
		if err != nil {
			return m, c.refuse(column, "type", err.Error())
		}
		out.Type, out.Wire, out.Native = to, "", to.String()
		m.make = func(in input) []arrow.Array {
			return []arrow.Array{build(to, in.n, func(row int) (string, bool) {
				return schema.CellText(in.columns[0], row, column.Type)
			}, func(row int, reason string) { in.fault(row, column.Name, reason) }, convert)}
		}
	default:
		m.make = func(in input) []arrow.Array {
			in.columns[0].Retain()
			return []arrow.Array{in.columns[0]}
		}
	}
	m.columns = []schema.Column{out}
	return m, nil
}

func (c *compiler) refuse(column schema.Column, what, why string) error {
	return problem.Newf(problem.Invalid, "Choose another treatment for it.",
		"The column %s of %s is %s, and %s cannot be applied to it: %s.", column.Name, c.spec.Table,
		column.Native, what, why)
}

func (c *compiler) wrongType(at string, err error) error {
	return problem.Newf(problem.Invalid, "Write one of bool, int16, int32, int64, float32, float64, decimal(12,2), "+
		"numeric, text, date, time, timestamp, timestamptz, uuid and json.", "%s of %s: %v.", at, c.spec.Table, err)
}

// mask hides the most of a value.
func (c *compiler) mask(column schema.Column, t feed.Treatment) (func(arrow.Array) arrow.Array, error) {
	kind := column.Type.Kind
	switch t.Mask {
	case feed.MaskNull:
		return func(a arrow.Array) arrow.Array {
			return array.MakeArrayOfNull(allocator, a.DataType(), a.Len())
		}, nil
	case feed.MaskText:
		if kind != schema.Text {
			return nil, c.refuse(column, "mask: text", "it is for texts; write mask: null")
		}
		return maskTexts(func(string) string { return t.Text }), nil
	case feed.MaskKeepFirst, feed.MaskKeepLast:
		if kind != schema.Text {
			return nil, c.refuse(column, "mask: "+string(t.Mask), "it is for texts; write mask: round, year or null")
		}
		last := t.Mask == feed.MaskKeepLast
		return maskTexts(func(v string) string { return keepSome(v, int(t.Count), last) }), nil
	case feed.MaskYear:
		return maskYear(kind, c, column)
	}
	return maskRound(kind, t.Count, c, column)
}

// maskTexts masks each text that is not null.
func maskTexts(mask func(string) string) func(arrow.Array) arrow.Array {
	return func(a arrow.Array) arrow.Array {
		return eachValue(array.NewStringBuilder(allocator), a,
			func(i int) string { return mask(a.(*array.String).Value(i)) })
	}
}

// keepSome keeps some characters of a text, at its beginning or its end. One that has no more
// than these is hidden whole, and no length shows.
func keepSome(v string, count int, last bool) string {
	const hidden = "***"
	runes := []rune(v)
	switch {
	case len(runes) <= count:
		return hidden
	case last:
		return hidden + string(runes[len(runes)-count:])
	}
	return string(runes[:count]) + hidden
}

// taken makes columns of what stands at places within JSON.
func (c *compiler) taken(column schema.Column, t feed.Treatment) (maker, error) {
	m := maker{}
	if column.Type.Kind != schema.JSON && column.Type.Kind != schema.Text {
		return m, c.refuse(column, "take", "it is for JSON")
	}
	names := sorted(t.Take)
	places, paths := make([]place, len(names)), make([]string, len(names))
	for i, name := range names {
		paths[i] = t.Take[name].Path
		at := fmt.Sprintf("columns.%s.take.%s", column.Name, name)
		to := schema.Type{Kind: schema.Text}
		var err error
		if text := t.Take[name].Type; text != "" {
			if to, err = schema.ParseType(text); err != nil {
				return m, c.wrongType(at, err)
			}
		}
		if places[i], err = newPlace(paths[i], to); err != nil {
			return m, problem.Newf(problem.Invalid, "Write it as RFC 9535 has it, such as $.postal.code.",
				"%s of %s: %v.", at, c.spec.Table, err)
		}
		m.columns = append(m.columns, schema.Column{Name: name, Type: to, Native: to.String(), Nullable: true})
	}
	tree := namesOf(paths)
	m.make = func(in input) []arrow.Array { return takeAll(in, column.Name, places, tree) }
	return m, nil
}

// computed makes a column of an expression.
func (c *compiler) computed(name string, computed feed.Computed) (maker, []string, error) {
	e, err := c.expression("computed."+name, computed.Value)
	if err != nil {
		return maker{}, nil, err
	}
	to, ok := e.gives()
	if computed.Type != "" {
		if to, err = schema.ParseType(computed.Type); err != nil {
			return maker{}, nil, c.wrongType("computed."+name, err)
		}
	} else if !ok {
		return maker{}, nil, problem.Newf(problem.Invalid, "Name the type it is stored as: {value: …, type: text}.",
			"computed.%s of %s gives %s, which has no type in a warehouse.", name, c.spec.Table, e.typeName())
	}
	convert, err := converter(schema.Type{Kind: schema.Text}, to)
	if err != nil {
		return maker{}, nil, problem.Newf(problem.Invalid, "Choose another type.", "computed.%s of %s: %v.", name,
			c.spec.Table, err)
	}
	m := maker{columns: []schema.Column{{Name: name, Type: to, Native: to.String(), Nullable: true}}}
	for i := range e.columns { // it is given these columns, in their order
		e.uses = append(e.uses, i)
	}
	m.make = func(in input) []arrow.Array {
		a := e.over(in)
		wrong := func(row int, reason string) { in.fault(row, name, reason) }
		return []arrow.Array{build(to, in.n, func(row int) (string, bool) {
			text, ok, err := a.text(row)
			if err != nil {
				wrong(row, "cannot be computed: "+err.Error())
			}
			return text, ok
		}, wrong, convert)}
	}
	return m, e.columns, nil
}

func sorted[T any](m map[string]T) []string {
	var names []string
	for name := range m {
		names = append(names, name)
	}
	slices.SortFunc(names, strings.Compare)
	return names
}
