// Package shape makes of the rows of a source's table what a feed wants of them: columns left
// out, renamed, of another type, hashed, masked, taken out of JSON or computed, and rows
// filtered.
//
// A shape is compiled for a table once. It takes batches of rows and of changes, and gives
// them back in the form of the table that arrives. What it gives holds no value that a
// feed wants hidden, nor do its reasons.
package shape

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
)

var allocator = memory.DefaultAllocator

// Shape is compiled for one table. It may be used by several goroutines.
type Shape struct {
	reads    schema.Table // the table as it is read: with the columns that are needed
	arrives  schema.Table // the table as it arrives
	makers   []maker      // of the columns that arrive, in order
	filter   *expression  // nil where all rows are brought
	spec     feed.Table
	plain    bool
	lenient  bool              // rows that the filter cannot tell of are brought
	key      []int             // places of the key's columns in reads
	hashKeys map[string][]byte // by column of the source
}

// maker makes columns that arrive of columns that are read.
type maker struct {
	columns  []schema.Column // that it makes
	uses     []int           // places of the columns that are read
	make     func(in input) []arrow.Array
	oneToOne bool   // an unknown input makes an unknown column, and nothing else is lost
	how      string // tells what it makes from what others would; empty where values arrive as they are read
}

// input is rows as they were read.
type input struct {
	columns []arrow.Array
	n       int
	wrong   map[int]fault // by row: why it is set aside; the first fault counts
}

// fault is why a row cannot be stored.
type fault struct{ column, reason string }

func (in input) fault(row int, column, reason string) {
	if _, already := in.wrong[row]; !already {
		in.wrong[row] = fault{column, reason}
	}
}

// Keys gives the key of a name that columns are hashed with.
type Keys func(name string) ([]byte, error)

// Compile makes the shape of a table whose rows are named by a key.
func Compile(table schema.Table, spec feed.Table, key []string, keys Keys) (*Shape, error) {
	s := &Shape{spec: spec, plain: !spec.Shaped()}
	c := compiler{table: table, spec: spec, keys: keys, used: map[string]bool{},
		hashKeys: map[string][]byte{}}
	for _, name := range slices.Concat(key, table.Key) { // rows are read in the order of the latter
		c.used[name] = true
	}
	var err error
	if spec.Where != "" {
		if s.filter, err = c.expression("where", spec.Where); err != nil {
			return nil, err
		}
		if !s.filter.isBool() {
			return nil, problem.Newf(problem.Invalid, "Write a condition, such as kind == \"card\".",
				"where of %s gives %s, and a filter tells yes or no.", spec.Table, s.filter.typeName())
		}
	}
	if err := c.columns(); err != nil {
		return nil, err
	}
	s.reads, s.arrives, s.makers, s.hashKeys = table, table, c.makers, c.hashKeys
	s.reads.Columns = slices.DeleteFunc(slices.Clone(table.Columns),
		func(x schema.Column) bool { return !c.used[x.Name] })
	if s.plain { // what is left out is not read, and what is read arrives
		s.key = nil
		s.arrives.Columns = slices.DeleteFunc(slices.Clone(table.Columns),
			func(x schema.Column) bool { return spec.Dropped(x.Name) })
		s.reads.Columns = s.arrives.Columns
		return s, nil
	}
	s.arrives.Columns, s.arrives.Key, s.arrives.OtherKeys = nil, s.Names(table.Key), nil
	for _, other := range table.OtherKeys {
		if names := s.Names(other); names != nil {
			s.arrives.OtherKeys = append(s.arrives.OtherKeys, names)
		}
	}
	for i := range s.makers {
		s.arrives.Columns = append(s.arrives.Columns, s.makers[i].columns...)
		s.makers[i].uses = schema.Indexes(s.reads.Columns, c.inputs[i])
	}
	if s.filter != nil {
		s.filter.place(s.reads)
	}
	s.key = schema.Indexes(s.reads.Columns, key)
	return s, s.clash()
}

// Missing tells that the table lacks a column that its treatment names; nil where it has them all.
// What a shape leaves out, or treats, it need not have: the source may have dropped it.
func Missing(table schema.Table, spec feed.Table) error {
	check := func(field string, names ...string) error {
		for _, name := range names {
			if _, ok := table.Column(name); !ok {
				return problem.Newf(problem.Invalid, "Check the name, upper and lower case included.",
					"The table %s has no column %q, which %s names.", spec.Table, name, field)
			}
		}
		return nil
	}
	if err := check("drop", spec.Drop...); err != nil {
		return err
	}
	if err := check("only", spec.Only...); err != nil {
		return err
	}
	if err := check("as_text", spec.AsText...); err != nil {
		return err
	}
	for _, name := range sorted(spec.Columns) {
		if err := check("columns", name); err != nil {
			return err
		}
	}
	return nil
}

// clash tells whether two columns would arrive under one name.
func (s *Shape) clash() error {
	seen := map[string]bool{}
	for _, c := range s.arrives.Columns {
		if seen[c.Name] {
			return problem.Newf(problem.Invalid, "Give one of them another name.",
				"Two columns of %s would be called %s in the target.", s.spec.Table, c.Name)
		}
		seen[c.Name] = true
	}
	return nil
}

// Digest tells the shape from another one, of rows that came before; empty where they arrive as
// they are read. A key that columns are hashed with is part of it.
func (s *Shape) Digest() string {
	if s.plain {
		return ""
	}
	h := sha256.New()
	h.Write([]byte(s.spec.Shape()))
	for _, name := range sorted(s.hashKeys) {
		h.Write(known(s.hashKeys[name]))
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// known tells a key from another one, and nothing else of it.
func known(key []byte) []byte {
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte("the shape of a table"))
	return mac.Sum(nil)
}

// Made tells of each column that arrives what it is made of, and by which name the source's columns are
// that it is made of; and under no name, of the filter.
func (s *Shape) Made() (how map[string]string, of map[string][]string) {
	how, of = map[string]string{}, map[string][]string{}
	if s.plain {
		for _, c := range s.arrives.Columns {
			how[c.Name], of[c.Name] = "", []string{c.Name}
		}
		return how, of
	}
	for _, m := range s.makers {
		for _, c := range m.columns {
			how[c.Name] = m.how
			for _, place := range m.uses {
				of[c.Name] = append(of[c.Name], s.reads.Columns[place].Name)
			}
		}
	}
	if s.filter != nil {
		how[""] = digest(s.spec.Where)
	}
	return how, of
}

// Simple tells whether columns that arrive are each made of one, so that one is not known where the other
// is not.
func (s *Shape) Simple(columns []string) bool {
	return s.plain || !slices.ContainsFunc(s.makers, func(m maker) bool {
		return !m.oneToOne && slices.ContainsFunc(m.columns, func(c schema.Column) bool {
			return slices.Contains(columns, c.Name)
		})
	})
}

// digest is a short text that tells some texts from others.
func digest(texts ...string) string {
	content, _ := json.Marshal(texts) // texts always marshal
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:16])
}

// Reads is the table as it must be read.
func (s *Shape) Reads() schema.Table { return s.reads }

// Arrives is the table that the rows have afterwards.
func (s *Shape) Arrives() schema.Table { return s.arrives }

// Plain tells whether rows arrive as they are read.
func (s *Shape) Plain() bool { return s.plain }

// Filters tells whether rows are left out.
func (s *Shape) Filters() bool { return s.filter != nil }

// Name is what a column that is read is called where it arrives; ok is false where it does
// not, or where two of its values could become one.
func (s *Shape) Name(column string) (name string, ok bool) {
	if s.plain {
		_, ok = s.arrives.Column(column)
		return column, ok
	}
	t := s.spec.Columns[column]
	if s.spec.Dropped(column) || t.Mask != "" || t.Type != "" || t.Keep != nil && !*t.Keep {
		return "", false
	}
	if t.Name != "" {
		return t.Name, true
	}
	return column, true
}

// Names is what columns are called where they arrive; nil where one does not.
func (s *Shape) Names(columns []string) []string {
	var names []string
	for _, c := range columns {
		name, ok := s.Name(c)
		if !ok {
			return nil
		}
		names = append(names, name)
	}
	return names
}

// Computes tells whether the filter, or what arrives beside it, is made of a column that is read.
func (s *Shape) Computes(column string) bool {
	uses := func(places []int) bool {
		return slices.ContainsFunc(places, func(i int) bool { return s.reads.Columns[i].Name == column })
	}
	return s.filter != nil && uses(s.filter.uses) ||
		slices.ContainsFunc(s.makers, func(m maker) bool { return !m.oneToOne && uses(m.uses) })
}

// Same tells whether a column that is read and one of another shape have equal values where they
// arrive whenever they are equal at the source.
func (s *Shape) Same(column string, other *Shape, others string) bool {
	_, ok := s.Name(column)
	_, also := other.Name(others)
	return ok && also && bytes.Equal(s.hashKeys[column], other.hashKeys[others])
}

// Passes tells whether values of columns arrive as they are.
func (s *Shape) Passes(columns []string) bool {
	return !slices.ContainsFunc(columns,
		func(c string) bool { return !s.spec.Dropped(c) && s.spec.Columns[c].Hash != "" })
}

// For is the shape of a query that reads some of the columns that arrive, those that come with them, and
// what decides which rows do. A row of which that cannot be told counts as one that does.
func (s *Shape) For(arriving []string) *Shape {
	out := *s
	out.lenient, out.key = true, nil
	if s.plain {
		out.reads.Columns = nil
		for _, name := range arriving {
			c, _ := s.reads.Column(name)
			out.reads.Columns = append(out.reads.Columns, c)
		}
		out.arrives.Columns = out.reads.Columns
		return &out
	}
	out.makers, out.arrives.Columns = nil, nil
	used := map[int]bool{}
	for _, name := range arriving {
		if _, already := out.arrives.Column(name); already { // what is taken out of one column comes together
			continue
		}
		for _, m := range s.makers {
			if slices.ContainsFunc(m.columns, func(c schema.Column) bool { return c.Name == name }) {
				out.makers = append(out.makers, m)
				out.arrives.Columns = append(out.arrives.Columns, m.columns...)
				for _, place := range m.uses {
					used[place] = true
				}
			}
		}
	}
	if s.filter != nil {
		for _, place := range s.filter.uses {
			used[place] = true
		}
	}
	if len(used) == 0 { // rows are read by some column
		used[0] = true
	}
	places := map[int]int{}
	out.reads.Columns = nil
	for i, c := range s.reads.Columns {
		if used[i] {
			places[i] = len(out.reads.Columns)
			out.reads.Columns = append(out.reads.Columns, c)
		}
	}
	move := func(uses []int) []int {
		moved := make([]int, len(uses))
		for i, place := range uses {
			moved[i] = places[place]
		}
		return moved
	}
	for i := range out.makers {
		out.makers[i].uses = move(out.makers[i].uses)
	}
	if !slices.ContainsFunc(s.key, func(place int) bool { return !used[place] }) {
		out.key = move(s.key)
	}
	if s.filter != nil {
		filter := *s.filter
		filter.uses = move(filter.uses)
		out.filter = &filter
	}
	return &out
}

// Verdict is what became of a row, and why it cannot be stored.
type Verdict struct {
	What Fate
	Why  string // a sentence
}

// Fate is what becomes of a row.
type Fate uint8

// What becomes of rows.
const (
	Arrives Fate = iota
	LeftOut      // by the filter
	Aside        // it cannot be stored
)

// Batch shapes rows. Columns of the record that come after those that are read are passed on.
// Rows that the filter leaves out come to end their keys, where that is wanted, or are counted.
// The record given is still the caller's, and so is the one that is returned.
func (s *Shape) Batch(b rows.Batch, wantGone bool) rows.Batch {
	if s.plain {
		b.Record.Retain()
		return b
	}
	_, out := s.batch(b, wantGone)
	return out
}

// Verdicts shapes rows as Batch does, and tells of each what became of it.
func (s *Shape) Verdicts(b rows.Batch) ([]Verdict, rows.Batch) {
	if s.plain {
		b.Record.Retain()
		return make([]Verdict, b.Record.NumRows()), b
	}
	return s.batch(b, false)
}

func (s *Shape) batch(b rows.Batch, wantGone bool) ([]Verdict, rows.Batch) {
	out := rows.Batch{EndsAside: b.EndsAside, Filtered: b.Filtered}
	in := s.input(b.Record)
	verdicts := s.judge(in, nil)
	made := s.make(in)
	s.blame(in, verdicts)
	var keep []int32
	last := int(b.Record.NumRows()) - 1
	for i, v := range verdicts {
		switch {
		case v.What == Arrives, v.What == LeftOut && wantGone:
			keep = append(keep, int32(i))
			out.Gone = append(out.Gone, v.What == LeftOut)
		case v.What == LeftOut:
			out.Filtered++
		default:
			a := s.aside(b.Record, i, in.wrong[i])
			verdicts[i].Why = a.Reason
			out.Aside = append(out.Aside, a)
			out.EndsAside = out.EndsAside || i == last
		}
	}
	for _, a := range b.Aside {
		out.Aside = append(out.Aside, s.hideAll(a))
	}
	for i := len(s.reads.Columns); i < int(b.Record.NumCols()); i++ {
		column := b.Record.Column(i)
		column.Retain()
		made = append(made, column)
	}
	out.Record = s.record(made, b.Record, keep)
	if !slices.Contains(out.Gone, true) {
		out.Gone = nil
	}
	return verdicts, out
}

// record keeps some rows of what was made.
func (s *Shape) record(made []arrow.Array, read arrow.RecordBatch, keep []int32) arrow.RecordBatch {
	columns := slices.Clone(s.arrives.Columns)
	fields := schema.Arrow(columns).Fields()
	for i := len(s.reads.Columns); i < int(read.NumCols()); i++ {
		fields = append(fields, read.Schema().Field(i))
	}
	if len(keep) < int(read.NumRows()) {
		for i, column := range made {
			made[i] = fold.Take(column, keep)
			column.Release()
		}
	}
	record := array.NewRecordBatch(arrow.NewSchema(fields, nil), made, int64(len(keep)))
	for _, column := range made {
		column.Release()
	}
	return record
}

func (s *Shape) input(record arrow.RecordBatch) input {
	in := input{n: int(record.NumRows()), wrong: map[int]fault{}}
	for i := range s.reads.Columns {
		in.columns = append(in.columns, record.Column(i))
	}
	return in
}

// judge filters rows; those that skip says are not asked about.
func (s *Shape) judge(in input, skip func(row int) bool) []Verdict {
	verdicts := make([]Verdict, in.n)
	if s.filter == nil {
		return verdicts
	}
	a := s.filter.over(in)
	for i := range verdicts {
		if skip != nil && skip(i) {
			continue
		}
		yes, err := a.is(i)
		switch {
		case err != nil && s.lenient:
		case err != nil:
			in.fault(i, "", "where cannot be told: "+err.Error())
		case !yes:
			verdicts[i].What = LeftOut
		}
	}
	return verdicts
}

func (s *Shape) make(in input) []arrow.Array {
	var made []arrow.Array
	for _, m := range s.makers {
		part := in
		part.columns = nil
		for _, place := range m.uses {
			part.columns = append(part.columns, in.columns[place])
		}
		made = append(made, m.make(part)...)
	}
	return made
}

// blame sets rows aside that something is wrong with, unless they are left out anyway.
func (s *Shape) blame(in input, verdicts []Verdict) {
	for i := range in.wrong {
		if verdicts[i].What == Arrives {
			verdicts[i].What = Aside
		}
	}
}

// aside describes a row that was read and cannot be stored.
func (s *Shape) aside(record arrow.RecordBatch, row int, why fault) rows.Aside {
	texts := make([]*string, record.NumCols())
	for i := range texts {
		t := schema.Type{Kind: schema.Text}
		if i < len(s.reads.Columns) {
			t = s.reads.Columns[i].Type
		} else if record.Column(i).DataType().ID() == arrow.TIMESTAMP {
			t.Kind = schema.TimestampTZ
		}
		if text, ok := schema.CellText(record.Column(i), row, t); ok {
			texts[i] = &text
		}
	}
	a := rows.NewAside(s.reads.Columns, texts, s.key, why.column, why.reason)
	if why.column == "" {
		a.Reason = upper(why.reason) + "."
	}
	return s.hide(a)
}

// Hidden stands for a value that must not be seen.
const Hidden = "(hidden)"

// hideAll hides what a source says of a row, too: its reason may show the value.
func (s *Shape) hideAll(a rows.Aside) rows.Aside {
	if a.Column != "" && s.spec.Private(a.Column) {
		a.Reason = fmt.Sprintf("Column %s has a value that cannot be stored, and that the feed hides.", a.Column)
	}
	return s.hide(a)
}

// hide takes out of a row that is set aside what must not be seen, and names its key as the
// warehouse does.
func (s *Shape) hide(a rows.Aside) rows.Aside {
	row := map[string]*string{}
	for name, value := range a.Row {
		if s.spec.Private(name) {
			if !s.spec.Dropped(name) && value != nil {
				hidden := Hidden
				row[name] = &hidden
			}
			continue
		}
		row[name] = value
	}
	a.Row = row
	var parts []string
	for _, k := range s.key {
		if k < 0 || k >= len(a.Values) {
			continue
		}
		c := s.reads.Columns[k]
		text := ""
		if v := a.Values[k]; v != nil {
			text = *v
			if t := s.spec.Columns[c.Name]; t.Hash != "" {
				text = s.hashText(c, text)
			}
		}
		parts = append(parts, text)
	}
	if len(parts) > 0 && len(parts) == len(s.key) {
		a.Key = rows.KeyJSON(parts)
	}
	return a
}

// Changes shapes changes of the log. An update that the filter leaves out ends its key, an
// insert does not come, and what ends a key ends it in any case. A row whose filter or
// computed columns need a value that the log leaves out does not fit.
func (s *Shape) Changes(b change.Batch) change.Batch {
	for i, a := range b.Aside {
		if !s.plain {
			b.Aside[i] = s.hideAll(a)
		}
	}
	if s.plain || b.Record == nil {
		return b
	}
	read := b.Record
	defer read.Release()
	in := s.input(read)
	ends := func(i int) bool {
		k := b.Rows[i].Kind
		return k == 0 || k.Ends() || k == change.Truncate || k.Refers() || b.Rows[i].Misfit
	}
	for i := range b.Rows {
		if name := s.lacks(b, i); name != "" && !ends(i) {
			b.Rows[i].Misfit = true
			b.Misfit = &LacksError{name}
		}
	}
	verdicts := s.judge(in, ends)
	made := s.make(in)
	s.blame(in, verdicts)
	for i, v := range verdicts {
		r := &b.Rows[i]
		switch {
		case ends(i) || v.What == Arrives:
		case v.What == Aside:
			b.Aside, b.AsideAt = append(b.Aside, s.aside(read, i, in.wrong[i])), append(b.AsideAt, *r)
			r.Kind = 0
		case r.Kind == change.Update:
			r.Kind, r.Out = change.Delete, true
			r.Unknown = 0
		default: // an insert, or a key that came
			r.Kind, r.Out = 0, true
			b.Ignored++
		}
	}
	for i, unknown := range b.Unknown {
		b.Unknown[i] = s.unknown(unknown)
	}
	b.Record = s.record(made, read, all(int(read.NumRows())))
	return b
}

// LacksError says that a change leaves a value out that the shape computes with.
type LacksError struct{ Column string }

func (e *LacksError) Error() string {
	return fmt.Sprintf("the value of %s is left out, since it did not change", e.Column)
}

// lacks names a column that is computed with, and whose value the log leaves out.
func (s *Shape) lacks(b change.Batch, row int) string {
	r := b.Rows[row]
	if r.Unknown == 0 {
		return ""
	}
	unknown := b.Unknown[r.Unknown-1]
	missing := func(uses []int) string {
		for _, place := range uses {
			if unknown[place] {
				return s.reads.Columns[place].Name
			}
		}
		return ""
	}
	if s.filter != nil {
		if name := missing(s.filter.uses); name != "" {
			return name
		}
	}
	for _, m := range s.makers {
		if !m.oneToOne {
			if name := missing(m.uses); name != "" {
				return name
			}
		}
	}
	return ""
}

// unknown tells of the columns that arrive which of them are not known.
func (s *Shape) unknown(read []bool) []bool {
	var out []bool
	for _, m := range s.makers {
		for range m.columns {
			out = append(out, m.oneToOne && len(m.uses) == 1 && read[m.uses[0]])
		}
	}
	return out
}

func all(n int) []int32 {
	keep := make([]int32, n)
	for i := range keep {
		keep[i] = int32(i)
	}
	return keep
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return fmt.Sprintf("%c%s", s[0]&^0x20, s[1:])
}
