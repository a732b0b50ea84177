// Package schema describes tables, columns, keys and types in the words that
// sources and warehouses share.
//
// A source maps each of its own types to one Type; a warehouse maps each Type
// to one of its own. Between the two a column travels as the Arrow type that
// Type.Arrow gives. What has no counterpart travels as text, in the form that
// the source itself prints, so that nothing is lost.
package schema

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
)

// Kind is a family of types.
type Kind string

// The kinds that travel between a source and a warehouse.
const (
	Bool        Kind = "bool"
	Int16       Kind = "int16"
	Int32       Kind = "int32"
	Int64       Kind = "int64"
	Float32     Kind = "float32"
	Float64     Kind = "float64"
	Decimal     Kind = "decimal" // at most 38 digits, fixed scale
	Numeric     Kind = "numeric" // any number of digits; travels as text
	Text        Kind = "text"
	Bytes       Kind = "bytes"
	Date        Kind = "date"        // days since 1970-01-01
	Time        Kind = "time"        // microseconds since midnight, 24:00 included
	Timestamp   Kind = "timestamp"   // microseconds since 1970-01-01, of no zone
	TimestampTZ Kind = "timestamptz" // microseconds since 1970-01-01 UTC
	Interval    Kind = "interval"    // months, days, microseconds
	UUID        Kind = "uuid"
	JSON        Kind = "json" // the text as the source gives it
)

// MaxDecimalDigits is the widest decimal that travels as a number.
const MaxDecimalDigits = 38

// Type is a kind with its measures; Precision and Scale count digits and are
// set for Decimal alone.
type Type struct {
	Kind      Kind
	Precision int
	Scale     int
}

func (t Type) String() string {
	if t.Kind == Decimal {
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	}
	return string(t.Kind)
}

// ParseType reads what Type.String has written.
func ParseType(text string) (Type, error) {
	var t Type
	if rest, ok := strings.CutPrefix(text, "decimal("); ok {
		t.Kind = Decimal
		digits, scale, _ := strings.Cut(strings.TrimSuffix(rest, ")"), ",")
		var err1, err2 error
		t.Precision, err1 = strconv.Atoi(strings.TrimSpace(digits))
		t.Scale, err2 = strconv.Atoi(strings.TrimSpace(scale))
		if err1 == nil && err2 == nil && strings.HasSuffix(rest, ")") && t.Precision >= 1 &&
			t.Precision <= MaxDecimalDigits && t.Scale >= 0 && t.Scale <= t.Precision {
			return t, nil
		}
		return Type{}, fmt.Errorf("%q is not a type: a decimal has 1 to %d digits, as decimal(12,2)", text,
			MaxDecimalDigits)
	}
	switch t.Kind = Kind(text); t.Kind {
	case Bool, Int16, Int32, Int64, Float32, Float64, Numeric, Text, Bytes, Date, Time, Timestamp, TimestampTZ,
		Interval,
		UUID, JSON:
		return t, nil
	}
	return Type{}, fmt.Errorf("%q is not a type", text)
}

// Column is one column of a table.
type Column struct {
	Name      string
	Type      Type
	Native    string // the source's own name for the type
	Wire      string // the source's note to itself on how it reads the column; empty is as text
	Nullable  bool
	Generated bool // computed by the source from other columns, and not told by its log
	Comment   string
}

// AsText is the column, to be read and stored as the text that the source prints.
func (c Column) AsText() Column {
	c.Type, c.Wire = Type{Kind: Text}, ""
	return c
}

// Name names a table within a database.
type Name struct {
	Schema string
	Table  string
}

func (n Name) String() string { return n.Schema + "." + n.Table }

// Quoted is the name as an SQL identifier (ISO 9075, delimited identifiers).
func (n Name) Quoted() string { return Quote(n.Schema) + "." + Quote(n.Table) }

// Cut is a name of so many bytes at most: of one that is longer the beginning, and a digest of all of it, so
// that two that begin alike stay two.
func Cut(name string, longest int) string {
	if len(name) <= longest {
		return name
	}
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	digest := fmt.Sprintf("_%08x", h.Sum32())
	return strings.ToValidUTF8(name[:longest-len(digest)], "") + digest
}

// ParseName reads "schema.table"; either part may be in double quotes, which
// it must be when it contains a dot.
func ParseName(s string) (Name, error) {
	var parts []string
	rest := s
	for {
		part, tail, err := cutIdentifier(rest)
		if err != nil {
			return Name{}, fmt.Errorf("%q is not a table name: %w", s, err)
		}
		parts = append(parts, part)
		if tail == "" {
			break
		}
		rest = tail[1:]
	}
	if len(parts) != 2 {
		return Name{}, fmt.Errorf("%q is not a table name: write it as schema.table", s)
	}
	return Name{Schema: parts[0], Table: parts[1]}, nil
}

// cutIdentifier takes one identifier off the front of s; tail starts with the
// dot that follows it, or is empty.
func cutIdentifier(s string) (name, tail string, err error) {
	if !strings.HasPrefix(s, `"`) {
		name = s
		if dot := strings.IndexByte(s, '.'); dot >= 0 {
			name, tail = s[:dot], s[dot:]
		}
		if name == "" {
			return "", "", fmt.Errorf("a part is empty")
		}
		return name, tail, nil
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != '"' {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == '"' {
			b.WriteByte('"')
			i++
			continue
		}
		tail = s[i+1:]
		if tail != "" && tail[0] != '.' {
			return "", "", fmt.Errorf("a dot is expected after the closing quote")
		}
		if b.Len() == 0 {
			return "", "", fmt.Errorf("a part is empty")
		}
		return b.String(), tail, nil
	}
	return "", "", fmt.Errorf("a quote is not closed")
}

// Display is the name as ParseName reads it: quoted only where it must be.
func (n Name) Display() string { return display(n.Schema) + "." + display(n.Table) }

func display(part string) string {
	if part == "" || strings.ContainsAny(part, `."`) {
		return Quote(part)
	}
	return part
}

// Table is a table or view of a source, as its catalogue describes it.
type Table struct {
	Name        Name
	ID          string // the source's own for it: of a table that replaces it another one; empty where it has none
	Query       string // a SELECT that it is made of; empty for a table of the catalogue
	View        bool
	Partitioned bool
	Parts       []string // of a partitioned table: the source's own names for the pieces that hold rows
	PartsAt     string   // how far the source had come when it listed them
	Columns     []Column
	Key         []string   // the primary key, or else a unique key without nulls
	OtherKeys   [][]string // that are unique and without nulls
	Rows        int64      // the source's own estimate; -1 when it has none
	Bytes       int64      // that its rows take, by the source's own statistics; -1 when it has none
	Comment     string
	Refers      []Reference // by which the source changes rows of the table without telling its log
	Related     []Reference // all of its foreign keys
}

// Reference is a foreign key of a table, and what becomes of its rows when the row that they refer to is another.
type Reference struct {
	Columns   []string // of the table
	To        Name
	ToColumns []string
	OnDelete  Effect
	OnUpdate  Effect
}

// Effect is what becomes of rows when the row that they refer to goes, or changes what they refer to.
type Effect string

// The effects.
const (
	NoEffect    Effect = ""             // the source refuses the change, or nothing happens
	Cascades    Effect = "cascades"     // they go, or change, with it
	BecomesNull Effect = "becomes null" // they refer to nothing any more
)

// Unique tells whether no two rows can be alike in some columns, nor any of these be null.
func (t Table) Unique(columns []string) bool {
	among := func(key []string) bool {
		return len(key) > 0 && !slices.ContainsFunc(key, func(k string) bool { return !slices.Contains(columns, k) })
	}
	return !slices.ContainsFunc(columns, t.Nullable) && (among(t.Key) || slices.ContainsFunc(t.OtherKeys, among))
}

// Nullable tells whether a column may be null.
func (t Table) Nullable(column string) bool {
	c, _ := t.Column(column)
	return c.Nullable
}

// WithoutGenerated is the table without the columns that the source computes, and without the
// keys that have such a column.
func (t Table) WithoutGenerated() Table {
	t.Columns = slices.DeleteFunc(slices.Clone(t.Columns), func(c Column) bool { return c.Generated })
	var keys [][]string
	for _, key := range append([][]string{t.Key}, t.OtherKeys...) {
		if len(key) > 0 && !slices.ContainsFunc(key, func(k string) bool { _, ok := t.Column(k); return !ok }) {
			keys = append(keys, key)
		}
	}
	t.Key, t.OtherKeys = nil, nil
	if len(keys) > 0 {
		t.Key, t.OtherKeys = keys[0], keys[1:]
	}
	return t
}

// Check tells whether a description of a table contradicts itself, as a server's may that is
// broken or hostile.
func (t Table) Check() error {
	names := map[string]bool{}
	for _, c := range t.Columns {
		if names[c.Name] || c.Name == "" {
			return fmt.Errorf("it has two columns that are called %q, or one without a name", c.Name)
		}
		names[c.Name] = true
	}
	for _, key := range append([][]string{t.Key}, t.OtherKeys...) {
		for _, k := range key {
			if !names[k] {
				return fmt.Errorf("a key has the column %q, and the table has none", k)
			}
		}
	}
	return nil
}

// Column finds a column by name.
func (t Table) Column(name string) (Column, bool) {
	for _, c := range t.Columns {
		if c.Name == name {
			return c, true
		}
	}
	return Column{}, false
}

// Indexes finds columns by their names; -1 is of none.
func Indexes(columns []Column, names []string) (indexes []int) {
	for _, name := range names {
		indexes = append(indexes, slices.IndexFunc(columns, func(c Column) bool { return c.Name == name }))
	}
	return indexes
}

// ColumnNames lists the table's columns in order.
func (t Table) ColumnNames() []string {
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	return names
}

// Quote makes a delimited identifier.
func Quote(identifier string) string {
	return `"` + strings.ReplaceAll(identifier, `"`, `""`) + `"`
}

// QuoteAll quotes each identifier and joins them with commas; each may be
// given a prefix such as "t.".
func QuoteAll(prefix string, identifiers []string) string {
	quoted := make([]string, len(identifiers))
	for i, id := range identifiers {
		quoted[i] = prefix + Quote(id)
	}
	return strings.Join(quoted, ", ")
}

// Literal makes a character string literal.
func Literal(s string) string {
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}
