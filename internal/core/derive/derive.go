// Package derive describes derived tables: tables that SQL makes in a warehouse from those that feeds keep there, and
// from each other. A set of them is a YAML file:
//
//	derived: reading
//	warehouse: lake
//	tables:
//	  - table: reading.loans_by_title
//	    sql: SELECT title, count(*) AS loans FROM kept.loans GROUP BY title
//	    checks:
//	      - unique: [title]
package derive

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"noemata/internal/core/clock"
	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
	"noemata/internal/core/window"
	"noemata/internal/core/written"
)

// As is what a derived table is in the warehouse.
type As string

// What derived tables are.
const (
	AsView  As = "view"  // its SQL is run by whoever asks it
	AsTable As = "table" // made anew each time, and put in the place of the one before
	AsMerge As = "merge" // rows that are others than before are written, by their key
)

// Set is a set of derived tables of one warehouse, as its file describes it.
type Set struct {
	Name         string `json:"derived" yaml:"derived" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"The set's name: lower-case letters, digits and hyphens"`
	Warehouse    string `json:"warehouse" yaml:"warehouse" doc:"The name of the warehouse"`
	feed.Belongs `yaml:",inline"`
	clock.Times  `yaml:",inline"` // where nothing is said, tables are made after each commit that changes what they read
	Tables       []Table          `json:"tables" yaml:"tables" minItems:"1" doc:"The tables, in any order"`
}

// Table is one derived table.
type Table struct {
	Table       string   `json:"table" yaml:"table" doc:"Its name, as schema.table"`
	Comment     string   `json:"comment,omitempty" yaml:"comment,omitempty" doc:"What it is, for those who ask it"`
	SQL         string   `json:"sql,omitempty" yaml:"sql,omitempty" doc:"One SELECT, in the words of the warehouse's own SQL"`
	SQLFile     string   `json:"sql_file,omitempty" yaml:"sql_file,omitempty" doc:"Instead of sql: a file beside this one that holds it"`
	As          As       `json:"as,omitempty" yaml:"as,omitempty" enum:"view,table,merge" doc:"What it is in the warehouse; table when left out"`
	Key         []string `json:"key,omitempty" yaml:"key,omitempty,flow" doc:"The columns that name a row, where it is merged"`
	Parts       *Parts   `json:"parts,omitempty" yaml:"parts,omitempty" doc:"Where it is merged: how it is told which rows a change reaches"`
	clock.Times `yaml:",inline"`
	Within      string  `json:"within,omitempty" yaml:"within,omitempty" doc:"How long it may take to make, as 10m; 1h when left out"`
	Checks      []Check `json:"checks,omitempty" yaml:"checks,omitempty" doc:"What must hold of its rows"`
}

// Parts divide a table that is merged: a change of an input's row reaches only rows that have the same value.
type Parts struct {
	Column string            `json:"column" yaml:"column" doc:"The column of this table"`
	Inputs map[string]string `json:"inputs" yaml:"inputs" doc:"Of tables that it reads, as schema.table: the column that has the same value. A change of another input is one of all parts"`
}

// Check is one thing that must hold. One of its first four fields says what.
type Check struct {
	Unique  []string `json:"unique,omitempty" yaml:"unique,omitempty,flow" doc:"No two rows have the same values in these columns; rows with a null among them are left out"`
	NotNull []string `json:"not_null,omitempty" yaml:"not_null,omitempty,flow" doc:"These columns have a value in each row"`
	Values  *Values  `json:"values,omitempty" yaml:"values,omitempty,flow" doc:"A column has one of these values, or null"`
	None    string   `json:"none,omitempty" yaml:"none,omitempty" doc:"A SELECT that must find nothing"`
	Failing Failing  `json:"failing,omitempty" yaml:"failing,omitempty" enum:"keep,tell" doc:"What a failure does: keep leaves the table as it was before, tell only tells of it; keep when left out"`
}

// Values are those that a column may have.
type Values struct {
	Column string   `json:"column" yaml:"column" doc:"The column"`
	In     []string `json:"in" yaml:"in,flow" doc:"Its values, as text"`
}

// Failing is what the failure of a check does.
type Failing string

// What failures do.
const (
	Keep Failing = "keep"
	Tell Failing = "tell"
)

// Keeps tells whether a failure leaves the table as it was.
func (c Check) Keeps() bool { return c.Failing != Tell }

// String is the check in a few words.
func (c Check) String() string {
	switch {
	case c.Unique != nil:
		return "unique " + strings.Join(c.Unique, ", ")
	case c.NotNull != nil:
		return "not null " + strings.Join(c.NotNull, ", ")
	case c.Values != nil:
		return c.Values.Column + " in " + strings.Join(c.Values.In, ", ")
	}
	return "finds nothing: " + strings.Join(strings.Fields(c.None), " ")
}

// Is is what the table is in the warehouse.
func (t Table) Is() As { return cmp.Or(t.As, AsTable) }

// Name is the table's name; the file was checked.
func (t Table) Name() schema.Name {
	name, _ := schema.ParseName(t.Table)
	return name
}

// DefaultWithin is how long a table may take to make where its file does not say.
const DefaultWithin = time.Hour

// Limit is how long the table may take to make.
func (t Table) Limit() time.Duration {
	if d, err := window.ParseDuration(t.Within); err == nil && t.Within != "" {
		return d
	}
	return DefaultWithin
}

// Definition tells what the table is made of from what it was made of before.
func (t Table) Definition() string {
	t.Times, t.Within = clock.Times{}, ""
	content, _ := json.Marshal(t) // plain fields: it cannot fail
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:12])
}

// TimesOf says when a table is made: as it says itself, or else as its set does.
func (s *Set) TimesOf(t Table) clock.Times {
	if t.Times.Said() {
		return t.Times
	}
	return s.Times
}

// When is TimesOf in words.
func (s *Set) When(t Table) string {
	if times := s.TimesOf(t); times.Said() {
		return times.Words()
	}
	return "after commits"
}

// What a file's text is bounded by.
const (
	mostTables = 1000
	mostChecks = 100
	mostSQL    = 100_000 // bytes
)

// Parse reads the file of a set. files holds those that its tables name for their SQL. Everything wrong with it is told
// at once, each with its line.
func Parse(content []byte, files map[string]string) (*Set, error) {
	var s Set
	err := written.Read(content, "file of derived tables", "Write at least derived, warehouse and tables.", &s,
		func() []written.Fault { return s.take(files) })
	if err != nil {
		return nil, err
	}
	return &s, nil
}

// Files lists the files that a set's tables name for their SQL. A file that cannot be read names none: Parse tells why.
func Files(content []byte) (names []string) {
	var s Set
	_ = written.Read(content, "", "", &s, func() []written.Fault { return nil })
	for _, t := range s.Tables {
		if t.SQLFile != "" {
			names = append(names, t.SQLFile)
		}
	}
	return names
}

// File writes the set as a file. Parse reads it back to the same set.
func (s *Set) File() []byte { return written.YAML(s) }

// Diff lists what changes when the set old becomes new. Tables are matched by name.
func Diff(old, new *Set) []written.Change { return written.Diff(flatten(old), flatten(new)) }

func flatten(s *Set) map[string]string {
	if s == nil {
		return nil
	}
	out := written.Flatten("", *s)
	for _, t := range s.Tables {
		at := "tables[" + t.Table + "]"
		maps.Copy(out, written.Flatten(at, t))
		for i, c := range t.Checks {
			out[fmt.Sprintf("%s.checks[%d]", at, i)] = strings.TrimSpace(c.String() + " " + string(c.Failing))
		}
	}
	return out
}

type faulty func(path, format string, args ...any)

// take puts the SQL of files in its place, and checks all.
func (s *Set) take(files map[string]string) (faults []written.Fault) {
	fault := func(path, format string, args ...any) {
		faults = append(faults, written.Fault{Path: path, Message: fmt.Sprintf(format, args...)})
	}
	feed.CheckName("derived", s.Name, fault)
	if s.Warehouse == "" {
		fault("warehouse", "Derived tables need the name of their warehouse.")
	}
	s.Belongs.Faults(fault)
	checkTimes(s.Times, "", fault)
	if len(s.Tables) == 0 || len(s.Tables) > mostTables {
		fault("tables", "These are %d tables, and there may be 1 to %d.", len(s.Tables), mostTables)
	}
	seen := map[schema.Name]bool{}
	for i := range s.Tables {
		t := &s.Tables[i]
		at := fmt.Sprintf("tables[%d]", i)
		if t.SQLFile != "" {
			text, there := files[t.SQLFile]
			switch {
			case t.SQL != "":
				fault(at+".sql_file", "Give sql or sql_file, not both.")
			case !there:
				fault(at+".sql_file", "The text of %s did not come along.", t.SQLFile)
			}
			t.SQL, t.SQLFile = text, ""
		}
		t.check(at, fault)
		if name := t.Name(); name.Table != "" { // else it is told already
			if seen[name] {
				fault(at+".table", "The table %s is there twice.", t.Table)
			}
			seen[name] = true
		}
	}
	return faults
}

// checkTimes checks when tables are made. A zone alone would look like a time, and be none.
func checkTimes(t clock.Times, at string, fault faulty) {
	t.Check(at, fault)
	if t.Zone != "" && t.Cron == "" {
		fault(at+"zone", "A zone is that of cron: give both.")
	}
}

func (t *Table) check(at string, fault faulty) {
	name, err := schema.ParseName(t.Table)
	switch {
	case err != nil:
		fault(at+".table", "%v.", err)
	case strings.EqualFold(name.Schema, feed.ControlSchema):
		fault(at+".table", "The schema %s is Noemata's own.", feed.ControlSchema)
	}
	if strings.TrimSpace(t.SQL) == "" {
		fault(at+".sql", "A derived table needs the SELECT that makes it: sql, or sql_file.")
	}
	if len(t.SQL) > mostSQL {
		fault(at+".sql", "The SQL has %d bytes, and %d at most are taken.", len(t.SQL), mostSQL)
	}
	if !slices.Contains([]As{"", AsView, AsTable, AsMerge}, t.As) {
		fault(at+".as", "%q is not what a derived table can be: view, table or merge.", t.As)
	}
	if (t.As == AsMerge) != (len(t.Key) > 0) {
		fault(at+".key", "A table that is merged needs a key, and no other has one.")
	}
	if d, err := window.ParseDuration(t.Within); t.Within != "" && (err != nil || d < time.Second) {
		fault(at+".within", "%q is not a second or more: write it as 30s, 10m or 2h.", t.Within)
	}
	checkTimes(t.Times, at+".", fault)
	if p := t.Parts; p != nil {
		if t.As != AsMerge || p.Column == "" || len(p.Inputs) == 0 {
			fault(at+".parts", "Parts are of a table that is merged: give a column of it, and of inputs the columns that have "+
				"the same values.")
		}
		for _, input := range slices.Sorted(maps.Keys(p.Inputs)) {
			if _, err := schema.ParseName(input); err != nil || p.Inputs[input] == "" {
				fault(at+".parts.inputs", "Write %q as schema.table: column.", input)
			}
		}
	}
	if len(t.Checks) > mostChecks {
		fault(at+".checks", "These are %d checks, and %d may be.", len(t.Checks), mostChecks)
	}
	for i, c := range t.Checks {
		c.check(fmt.Sprintf("%s.checks[%d]", at, i), fault)
	}
}

func (c Check) check(at string, fault faulty) {
	n := 0
	for _, said := range []bool{c.Unique != nil, c.NotNull != nil, c.Values != nil, c.None != ""} {
		if said {
			n++
		}
	}
	if n != 1 {
		fault(at, "A check is one of unique, not_null, values and none.")
	}
	if c.Values != nil && (c.Values.Column == "" || len(c.Values.In) == 0) {
		fault(at+".values", "Write it as {column: kind, in: [book, film]}.")
	}
	if c.Unique != nil && len(c.Unique) == 0 || c.NotNull != nil && len(c.NotNull) == 0 {
		fault(at, "Name the columns.")
	}
	if len(c.None) > mostSQL {
		fault(at+".none", "The SQL has %d bytes, and %d at most are taken.", len(c.None), mostSQL)
	}
	if !slices.Contains([]Failing{"", Keep, Tell}, c.Failing) {
		fault(at+".failing", "%q is not what a failure can do: keep or tell.", c.Failing)
	}
}
