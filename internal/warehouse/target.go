package warehouse

import (
	"fmt"

	"noemata/internal/core/feed"
	"noemata/internal/core/schema"
)

// Target is a table of a warehouse.
type Target struct {
	Name      schema.Name
	Comment   string
	Columns   []Column // in order
	Prefix    string   // what the names of added columns begin with
	Key       []string
	Unique    bool // the source promises that the key is unique
	Keep      feed.Keep
	Log       bool     // its changes come from a change log
	Sweeps    bool     // its deletes are found by comparing keys
	Filters   bool     // rows that a filter leaves out come to end their keys
	Watermark []string // the watermark column and its fallback, if any and if they arrive
	Relations []Relation
	Partition []feed.Partition // what its files are divided by
}

// Relation is a foreign key of the source between two targets.
type Relation struct {
	Columns   []string
	To        schema.Name
	ToColumns []string
}

// Column is a column of a target.
type Column struct {
	schema.Column
	Role   Role
	Origin string // the source's column that its values come from; of Value only
}

// Role is what a column of a target is for. But for Value it is also the name, after the
// feed's prefix.
type Role string

// The roles of columns. All but Value are added by Noemata.
const (
	Value     Role = ""           // a value of the source
	Changed   Role = "change"     // what a ledger's event was
	ChangedAt Role = "changed_at" // when the row was changed at the source
	DeletedAt Role = "deleted_at" // when it was deleted there; null while it is there
	From      Role = "from"       // when a version began
	Until     Role = "until"      // when it ended; null while it holds
	Current   Role = "current"    // whether it holds
	Position  Role = "position"   // where the row was found: its watermark, or its place in the log
	Run       Role = "run"        // the run that wrote the row
)

// types are those of added columns.
var types = map[Role]schema.Kind{
	Changed: schema.Text, ChangedAt: schema.TimestampTZ, DeletedAt: schema.TimestampTZ, From: schema.TimestampTZ,
	Until: schema.TimestampTZ, Current: schema.Bool, Position: schema.Text, Run: schema.Int64,
}

// comments are those of added columns.
var comments = map[Role]string{
	Changed:   "What happened to the row: copy, insert, update, delete or truncate",
	ChangedAt: "When the row was changed at the source, or first seen as it is",
	DeletedAt: "When the row was deleted at the source; null while it is there",
	From:      "When this version began", Until: "When this version ended; null while it holds",
	Current:  "Whether this version holds",
	Position: "Where the row was found: its watermark, or its place in the log",
	Run:      "The run of Noemata that wrote the row",
}

// Kind is the type of an added column.
func (r Role) Kind() schema.Kind { return types[r] }

// Adds lists the roles of the columns that a keep adds, in order.
func Adds(keep feed.Keep, log bool) []Role {
	switch keep {
	case feed.KeepLatest:
		return []Role{ChangedAt, Run}
	case feed.KeepSoftDelete:
		return []Role{DeletedAt, ChangedAt, Run}
	case feed.KeepHistory:
		return []Role{From, Until, Current, Position, Run}
	case feed.KeepLedger:
		if log {
			return []Role{Changed, ChangedAt, Position, Run}
		}
		return []Role{ChangedAt, Position, Run}
	}
	return []Role{Run}
}

// ColumnsOf are the columns of a target: the source's as they come, and those that its keep
// adds.
func ColumnsOf(source []schema.Column, prefix string, keep feed.Keep, log bool) []Column {
	var columns []Column
	for _, c := range source {
		columns = append(columns, Column{Column: c, Role: Value, Origin: c.Name})
	}
	for _, r := range Adds(keep, log) {
		added := schema.Column{Name: prefix + string(r), Type: schema.Type{Kind: r.Kind()}, Native: "added",
			Comment: comments[r]}
		columns = append(columns, Column{Column: added, Role: r})
	}
	return columns
}

// MomentOf is the role of the column that tells when a row of a target became as it is.
func MomentOf(t Target) Role {
	if t.Keep == feed.KeepHistory {
		return From
	}
	return ChangedAt
}

// Called is the name of a column that Noemata adds, whether the target has it or not.
func (t Target) Called(r Role) string { return t.Prefix + string(r) }

// All is the target's columns in order.
func (t Target) All() []schema.Column { return t.only(func(Column) bool { return true }) }

// Values are the columns whose values come from the source.
func (t Target) Values() []schema.Column {
	return t.only(func(c Column) bool { return c.Role == Value })
}

// Added are the columns that Noemata adds.
func (t Target) Added() []schema.Column {
	return t.only(func(c Column) bool { return c.Role != Value })
}

// Comments are those that there are: of the table under "", and of its columns.
func (t Target) Comments() map[string]string {
	all := map[string]string{}
	if t.Comment != "" {
		all[""] = t.Comment
	}
	for _, c := range t.Columns {
		if c.Comment != "" {
			all[c.Name] = c.Comment
		}
	}
	return all
}

// KeyColumns are those of the key, in its order.
func (t Target) KeyColumns() []schema.Column {
	var list []schema.Column
	for _, k := range t.Key {
		c, _ := schema.Table{Columns: t.Values()}.Column(k)
		list = append(list, c)
	}
	return list
}

func (t Target) only(which func(Column) bool) []schema.Column {
	var list []schema.Column
	for _, c := range t.Columns {
		if which(c) {
			list = append(list, c.Column)
		}
	}
	return list
}

// Columns of the rows on their way to a target, beside the target's own. They are what a
// fold leaves of each (see fold.Row): Gone rows end their key, KeyOnly ones hold no values
// but the key, Order is a fold.Order, and Unknown marks, column by column, values that are
// to be taken from the target's row of the key in Base.
const (
	StageRow     = "noemata_row"
	StageGone    = "noemata_gone"
	StageKeyOnly = "noemata_key_only"
	StageOrder   = "noemata_order"
	StageUnknown = "noemata_unknown"
)

// StageBase names the i-th column of the key that unknown values come from.
func StageBase(i int) string { return fmt.Sprintf("noemata_base_%d", i) }

// StageColumns are the columns of rows on their way to a target.
func StageColumns(t Target) []schema.Column {
	columns := t.All()
	extra := func(name string, kind schema.Kind) {
		columns = append(columns, schema.Column{Name: name, Type: schema.Type{Kind: kind}, Native: "stage"})
	}
	if NumbersRows(t) {
		extra(StageRow, schema.Int64)
	}
	if Ends(t) {
		extra(StageGone, schema.Bool)
		extra(StageKeyOnly, schema.Bool)
		extra(StageOrder, schema.Int16)
	}
	if t.Log {
		extra(StageUnknown, schema.Text)
		for i, c := range t.KeyColumns() {
			c.Name = StageBase(i)
			columns = append(columns, c)
		}
	}
	return columns
}

// NumbersRows tells whether rows must be numbered to tell which of a key's is the last.
func NumbersRows(t Target) bool {
	return !t.Unique && !t.Log && (t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete ||
		t.Keep == feed.KeepHistory)
}

// Ends tells whether rows on their way say whether they end their key.
func Ends(t Target) bool {
	return t.Log || t.Sweeps || t.Filters || t.Keep == feed.KeepSoftDelete || t.Keep == feed.KeepHistory
}

// AsOfName names the function that gives a history table as it was at a moment.
func AsOfName(table schema.Name) schema.Name {
	return schema.Name{Schema: table.Schema, Table: table.Table + feed.AsOf}
}
