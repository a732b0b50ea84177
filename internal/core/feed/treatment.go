package feed

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"noemata/internal/core/written"
)

// Treatment is what becomes of a column of the source on its way. In a file, drop stands for
// {drop: true}.
type Treatment struct {
	Drop  bool            `json:"drop,omitempty" yaml:"drop,omitempty" doc:"The column is left at the source"`
	Name  string          `json:"name,omitempty" yaml:"name,omitempty" doc:"What it is called in the target"`
	Type  string          `json:"type,omitempty" yaml:"type,omitempty" doc:"The type it is stored as, such as decimal(12,2), int64 or text; a row whose value does not fit is set aside"`
	Hash  string          `json:"hash,omitempty" yaml:"hash,omitempty" doc:"The name of the key that it is hashed with (HMAC-SHA-256): values that are equal stay equal, also in other tables, and cannot be read"`
	Mask  Mask            `json:"mask,omitempty" yaml:"mask,omitempty" enum:"keep-first,keep-last,year,round,text,null" doc:"What is left of the value"`
	Count int64           `json:"count,omitempty" yaml:"count,omitempty" minimum:"1" doc:"With mask: how many characters are kept, or the number whose multiples are rounded to"`
	Text  string          `json:"text,omitempty" yaml:"text,omitempty" doc:"With mask: text, what stands in its place"`
	Take  map[string]Path `json:"take,omitempty" yaml:"take,omitempty" doc:"Of JSON: columns that are taken out of it, by name"`
	Keep  *bool           `json:"keep,omitempty" yaml:"keep,omitempty" doc:"With take: false leaves the column itself at the source"`
}

// Mask is a way to hide the most of a value.
type Mask string

// The masks.
const (
	MaskKeepFirst Mask = "keep-first"
	MaskKeepLast  Mask = "keep-last"
	MaskYear      Mask = "year"
	MaskRound     Mask = "round"
	MaskText      Mask = "text"
	MaskNull      Mask = "null"
)

// Path is a place within JSON, and the type of what stands there. In a file, the path alone
// stands for text.
type Path struct {
	Path string `json:"path" yaml:"path" doc:"A JSONPath (RFC 9535), such as $.postal.code"`
	Type string `json:"type,omitempty" yaml:"type,omitempty" doc:"The type it is stored as; text when left out"`
}

// Computed is a column that is made of others. In a file, the expression alone stands for it.
type Computed struct {
	Value string `json:"value" yaml:"value" doc:"An expression in CEL over the columns of the source; 'north' is a constant"`
	Type  string `json:"type,omitempty" yaml:"type,omitempty" doc:"The type it is stored as; that of the expression when left out"`
}

// Short reads the short form of a field in a file.
func (t *Treatment) Short(text string) error {
	if text != "drop" {
		return fmt.Errorf("write drop, or fields such as {name: other} or {hash: people}")
	}
	t.Drop = true
	return nil
}

// Short reads a mask: null is one, too, which YAML takes for no value.
func (m *Mask) Short(text string) error {
	*m = Mask(text)
	return nil
}

// Short reads the path alone.
func (p *Path) Short(text string) error {
	p.Path = text
	return nil
}

// Short reads the expression alone.
func (c *Computed) Short(text string) error {
	c.Value = text
	return nil
}

// MarshalYAML writes the short form where it says all.
func (t Treatment) MarshalYAML() (any, error) {
	if t.Drop {
		return "drop", nil
	}
	type plain Treatment
	return plain(t), nil
}

// MarshalYAML writes the short form where it says all.
func (p Path) MarshalYAML() (any, error) {
	if p.Type == "" {
		return p.Path, nil
	}
	type plain Path
	return plain(p), nil
}

// MarshalYAML writes the short form where it says all.
func (c Computed) MarshalYAML() (any, error) {
	if c.Type == "" {
		return c.Value, nil
	}
	type plain Computed
	return plain(c), nil
}

// Words is a treatment as it stands in a feed file; empty for none.
func (t Treatment) Words() string {
	if t.Drop {
		return "drop"
	}
	var n yaml.Node
	if n.Encode(t) != nil || len(n.Content) == 0 {
		return ""
	}
	n.Style = yaml.FlowStyle
	return strings.Trim(strings.TrimSpace(string(written.YAML(&n))), "{}")
}

// Called are the names that columns of the source have in the target; ok is false where one of them does not arrive as
// it is.
func (t Table) Called(columns []string) (names []string, ok bool) {
	for _, c := range columns {
		treated := t.Columns[c]
		if !treated.Whole() || slices.Contains(t.Drop, c) || len(t.Only) > 0 && !slices.Contains(t.Only, c) {
			return nil, false
		}
		names = append(names, cmp.Or(treated.Name, c))
	}
	return names, true
}

// Whole tells whether the value itself comes to the target, as it is or under another name.
func (t Treatment) Whole() bool {
	return !t.Drop && t.Type == "" && t.Hash == "" && t.Mask == "" && (t.Keep == nil || *t.Keep)
}

// Private tells whether the value must not be seen in the clear.
func (t Treatment) Private() bool {
	return t.Drop || t.Hash != "" || t.Mask != "" || t.Keep != nil && !*t.Keep
}

// ComparisonKey names the key of what is kept of comparisons of tables whose columns the feed hides.
const ComparisonKey = "comparisons"

// Hides tells whether columns that are read must not be seen in the clear.
func (t *Table) Hides() bool {
	for _, c := range t.Columns {
		if c.Private() && !c.Drop {
			return true
		}
	}
	return false
}

// Dropped tells whether a column is left at the source.
func (t *Table) Dropped(column string) bool {
	return slices.Contains(t.Drop, column) || t.Columns[column].Drop ||
		len(t.Only) > 0 && !slices.Contains(t.Only, column)
}

// Private tells whether the values of a column must not be seen in the clear.
func (t *Table) Private(column string) bool { return t.Dropped(column) || t.Columns[column].Private() }

// Names tells whether the feed names a column of the source.
func (t *Table) Names(column string) bool {
	_, treated := t.Columns[column]
	return treated || slices.Contains(t.Only, column) || slices.Contains(t.AsText, column) ||
		t.Watermark != nil && (t.Watermark.Column == column || t.Watermark.Fallback == column)
}

// Shaped tells whether rows change on their way, other than by columns that are left out.
func (t *Table) Shaped() bool {
	if t.Where != "" || len(t.Computed) > 0 {
		return true
	}
	for _, c := range t.Columns {
		if !c.Drop {
			return true
		}
	}
	return false
}

// Shape is what the table makes of its rows, in a form that two tables share only if they make
// the same; columns that are left out aside.
func (t *Table) Shape() string {
	kept := map[string]Treatment{}
	for name, c := range t.Columns {
		if !c.Drop {
			kept[name] = c
		}
	}
	content, _ := json.Marshal(struct { // plain fields always marshal, maps in the order of their keys
		Where    string
		Columns  map[string]Treatment
		Computed map[string]Computed
	}{t.Where, kept, t.Computed})
	return string(content)
}

// Hides tells whether values of the feed's tables arrive otherwise than they are read, or not at all, so that
// what was read must not stay anywhere.
func (f *Feed) Hides() bool {
	return slices.ContainsFunc(f.Tables, func(t Table) bool {
		return t.Hides() || f.HashNew(t) != "" || len(t.Computed) > 0
	})
}

// HashKeys names the keys that columns are hashed with.
func (f *Feed) HashKeys() []string {
	var names []string
	for _, t := range f.Tables {
		if t.Find == FindCompare && t.Hides() {
			names = append(names, ComparisonKey)
		}
		if key := f.HashNew(t); key != "" {
			names = append(names, key)
		}
		for _, c := range t.Columns {
			if c.Hash != "" {
				names = append(names, c.Hash)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// checkShape tells what is wrong with the treatment of columns, as far as the feed alone shows.
func (t *Table) checkShape(at string, fault func(string, string, ...any)) {
	for _, name := range slices.Sorted(maps.Keys(t.Columns)) {
		c, at := t.Columns[name], at+".columns."+name
		did := 0
		for _, does := range []bool{c.Drop, c.Hash != "", c.Mask != "", c.Type != ""} {
			if does {
				did++
			}
		}
		if did == 0 && c.Name == "" && len(c.Take) == 0 && c.Keep == nil {
			fault(at, "Nothing is to become of the column: remove it, or write drop, name, type, hash, mask or take.")
		}
		if did > 1 {
			fault(at, "Give one of drop, type, hash and mask; a column can be taken apart by computed: as well.")
		}
		if c.Drop && (c.Name != "" || len(c.Take) > 0) {
			fault(at, "The column is dropped, so it has no name and nothing is taken from it; write keep: false to "+
				"leave it out and take from it.")
		}
		if c.Hash != "" && !ValidName(c.Hash) {
			fault(at+".hash", "%q cannot name a key: use lower-case letters, digits and hyphens, beginning with a "+
				"letter.", c.Hash)
		}
		c.checkMask(at, fault)
		if c.Keep != nil && len(c.Take) == 0 {
			fault(at+".keep", "keep goes with take; write drop to leave the column out.")
		}
		for name, p := range c.Take {
			if !strings.HasPrefix(p.Path, "$") {
				fault(at+".take."+name, "%q is not a JSONPath: it begins with $, as in $.postal.code.", p.Path)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(t.Computed)) {
		if strings.TrimSpace(t.Computed[name].Value) == "" {
			fault(at+".computed."+name, "A computed column needs an expression: value: price * quantity.")
		}
	}
	if len(t.Only) > 0 && len(t.Drop) > 0 {
		fault(at+".only", "Give only or drop, not both.")
	}
}

func (c *Treatment) checkMask(at string, fault func(string, string, ...any)) {
	switch c.Mask {
	case "":
		if c.Count != 0 || c.Text != "" {
			fault(at, "count and text go with mask.")
		}
	case MaskKeepFirst, MaskKeepLast, MaskRound:
		if c.Count < 1 {
			fault(at+".count", "mask: %s needs a count of 1 or more.", c.Mask)
		}
	case MaskYear, MaskNull:
	case MaskText:
		if c.Text == "" {
			fault(at+".text", "mask: text needs the text that stands in the place of values.")
		}
	default:
		fault(at+".mask", "%q is not a mask: write keep-first, keep-last, year, round, text or null.", c.Mask)
	}
}
