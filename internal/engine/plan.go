package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/position"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/shape"
	"noemata/internal/core/window"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// plan is what is known of one table before rows move.
type plan struct {
	cut      [][2]string   // columns whose names were too long for the warehouse, and what they are called there
	missing  error         // that the table lacks a column which the feed names
	spec     feed.Table    // as the feed has it, with what was found out since
	known    *columnsKnown // nil where the feed does not ask for it
	find     feed.Find
	query    source.Query // of the columns that are read
	shape    *shape.Shape // what becomes of them
	target   warehouse.Target
	key      []string       // the target's key, as the source calls it
	whole    bool           // all columns of the source are read
	source   []string       // the columns that it has
	unlogged []string       // columns that the log leaves out, since they are generated
	zone     *time.Location // in which a watermark without a zone is written
}

// makePlan looks the table up at the source and says what its target must be.
// known is what is remembered of its columns; nil for nothing.
func makePlan(ctx context.Context, f *feed.Feed, t feed.Table, src source.Source, keys shape.Keys,
	known *columnsKnown) (plan, error) {
	table, err := Describe(ctx, src, t)
	if err != nil {
		return plan{}, err
	}
	t, known = known.withHashed(f, t, table)
	var unlogged []string
	if t.Find == feed.FindLog {
		for _, c := range table.Columns {
			if c.Generated {
				unlogged = append(unlogged, c.Name)
			}
		}
		table = table.WithoutGenerated()
	}
	for _, column := range t.AsText {
		if i := slices.IndexFunc(table.Columns, func(c schema.Column) bool { return c.Name == column }); i >= 0 {
			table.Columns[i] = table.Columns[i].AsText()
		}
	}
	p := plan{spec: t, known: known, missing: shape.Missing(table, t), find: t.Find, zone: time.UTC, key: table.Key,
		source: table.ColumnNames(), unlogged: unlogged}
	if len(t.Key) > 0 {
		p.key = t.Key
	}
	if p.shape, err = makeShape(t, table, p.key, keys); err != nil {
		return plan{}, err
	}
	p.query, p.whole = source.Query{Table: p.shape.Reads()}, len(p.shape.Reads().Columns) == len(table.Columns)
	if !p.shape.Passes(table.Key) { // its values must stand in no statement and no position
		p.query.Table.Key = nil
	}
	if p.target, err = p.makeTarget(f, t, table); err != nil {
		return plan{}, err
	}
	if t.Find == feed.FindCompare {
		p.query.Table.Key = comparable(t, p, table)
	}
	p.query.RowKey = p.key
	if !p.target.Unique && len(p.target.Key) > 0 {
		p.query.NotNull = p.key
	}
	if t.Find == feed.FindWatermark {
		if err := p.addWatermark(ctx, t, table, src); err != nil {
			return plan{}, err
		}
	}
	return p, nil
}

// planNamed is makePlan for a warehouse: columns whose names are too long for it are cut, unless the
// feed itself names them.
func planNamed(ctx context.Context, f *feed.Feed, t feed.Table, src source.Source, keys shape.Keys,
	known *columnsKnown, names warehouse.Names) (plan, error) {
	p, err := makePlan(ctx, f, t, src, keys, known)
	if err != nil {
		return p, err
	}
	if len(p.target.Partition) > 0 && !names.Divides {
		return p, problem.Newf(problem.Invalid, "Leave partition out, or choose a lake as the warehouse.",
			"%s does not divide the rows of %s into files.", names.Kind, t.Table)
	}
	cut := maps.Clone(p.spec.Columns)
	for _, c := range p.query.Table.Columns {
		name, arrives := p.shape.Name(c.Name)
		if short := names.Cut(name); arrives && short != name && cut[c.Name].Name == "" {
			if cut == nil {
				cut = map[string]feed.Treatment{}
			}
			treatment := cut[c.Name]
			treatment.Name = short
			cut[c.Name] = treatment
			p.cut = append(p.cut, [2]string{c.Name, short})
		}
	}
	if p.cut == nil {
		return p, nil
	}
	was := p
	t.Columns = cut
	if p, err = makePlan(ctx, f, t, src, keys, known); err != nil {
		return p, err
	}
	p.cut, p.missing = was.cut, was.missing
	return p, nil
}

// Describe looks up a table of a feed at the source.
func Describe(ctx context.Context, src source.Source, t feed.Table) (schema.Table, error) {
	name, err := schema.ParseName(t.Table)
	switch {
	case err != nil:
		return schema.Table{}, problem.Wrap(err, problem.Invalid, err.Error()+".", "Correct the feed.")
	case t.IsQuery():
		return src.Query(ctx, name, t.Query)
	}
	return src.Table(ctx, name)
}

// planFor is makePlan for a table whose new columns the feed may ignore: those that the target
// does not have are then left at the source.
func planFor(ctx context.Context, f *feed.Feed, t feed.Table, src source.Source, wh warehouse.Warehouse,
	keys shape.Keys) (plan, feed.Table, error) {
	known, err := knownOf(ctx, f, t, wh)
	if err != nil {
		return plan{}, t, err
	}
	p, err := planNamed(ctx, f, t, src, keys, known, wh.Names())
	if err == nil {
		err = p.called(f, t, wh.Names())
	}
	if err == nil && p.missing != nil {
		err = p.renamed(ctx, t, wh)
	}
	if err != nil { // without a plan nothing is made fit for the table, whatever a person or a policy asks
		return plan{}, t, err
	}
	if f.Policy(t, drift.Columns) != drift.Ignore {
		return p, p.spec, nil
	}
	lacks, err := wh.Lacks(ctx, p.target)
	if err != nil {
		return p, t, err
	}
	var fresh []string
	for _, c := range p.query.Table.Columns {
		name, ok := p.shape.Name(c.Name)
		if ok && slices.Contains(lacks, name) && !slices.Contains(p.key, c.Name) && !t.Names(c.Name) {
			fresh = append(fresh, c.Name)
		}
	}
	if fresh == nil {
		return p, t, nil
	}
	t.Drop = append(slices.Clone(t.Drop), fresh...)
	p, err = planNamed(ctx, f, t, src, keys, nil, wh.Names())
	return p, t, err
}

// renamed tells that a column may have another name now, where one is gone that the feed names, and
// others came: what was hidden would be seen under another name. One that is only gone is in nobody's way.
func (p plan) renamed(ctx context.Context, t feed.Table, wh warehouse.Warehouse) error {
	lacks, err := wh.Lacks(ctx, p.target)
	if err != nil || len(lacks) == 0 {
		return err
	}
	return problem.Newf(problem.Held,
		"If a column was renamed, name it in the feed as it is called now; else take the one that is gone out of "+
			"the feed.",
		"%s And the target lacks %s: if that is the one that is gone, under another name, the feed does not say "+
			"what is to "+
			"become of it.", problem.Of(p.missing).What, strings.Join(lacks, ", "))
}

// called makes sure that the warehouse tells the target, its columns, and the targets of the feed's
// other tables apart.
func (p plan) called(f *feed.Feed, t feed.Table, names warehouse.Names) error {
	if err := names.Check(p.target, t.Table); err != nil {
		return err
	}
	for _, other := range f.Tables {
		// Of thousands of tables few can be meant, and only those are looked at more closely.
		alike := other.Target != "" || t.Target != "" || strings.EqualFold(lastPart(other.Table), lastPart(t.Table))
		if other.Table == t.Table || !alike {
			continue
		}
		target, err := f.TargetOf(other)
		if err != nil || names.KeyOf(target) != names.KeyOf(p.target.Name) {
			continue
		}
		return problem.Newf(problem.Invalid, "Give one of them another target.",
			"The targets of %s and %s, %s and %s, are one table in %s, which does not tell upper from lower case.",
			other.Table,
			t.Table, target.Display(), p.target.Name.Display(), names.Kind)
	}
	return nil
}

// lastPart is what a table is called within its schema, about.
func lastPart(table string) string {
	return strings.Trim(table[strings.LastIndexByte(table, '.')+1:], `"`)
}

// makeShape says what becomes of a table's rows. What names a row must come to the warehouse.
func makeShape(t feed.Table, table schema.Table, key []string, keys shape.Keys) (*shape.Shape, error) {
	s, err := shape.Compile(table, t, key, keys)
	if err != nil || t.Keep == feed.KeepReplace {
		return s, err
	}
	for _, k := range key {
		if _, there := table.Column(k); !there {
			return nil, noColumn(t, "key", k)
		}
		if t.Dropped(k) {
			return nil, problem.Newf(problem.Invalid, "Keep it, or name other columns as the key.",
				"The column %s of %s is dropped by the feed, and it is part of the key.", k, t.Table)
		}
		if _, ok := s.Name(k); !ok {
			return nil, problem.Newf(problem.Invalid, "Hash it, or name other columns as the key.",
				"The column %s of %s is part of the key, and what the feed makes of it could be the same for two rows.",
				k, t.Table)
		}
	}
	return s, nil
}

func (p plan) makeTarget(f *feed.Feed, t feed.Table, table schema.Table) (warehouse.Target, error) {
	name, err := f.TargetOf(t)
	if err != nil {
		return warehouse.Target{}, problem.Wrap(err, problem.Invalid, err.Error()+".", "Correct the feed.")
	}
	log, arrives := t.Find == feed.FindLog, p.shape.Arrives()
	target := warehouse.Target{Name: name, Comment: table.Comment,
		Columns: warehouse.ColumnsOf(arrives.Columns, f.Column(""), t.Keep, log),
		Prefix:  f.Column(""), Keep: t.Keep, Log: log,
		Sweeps: t.Sweep != "" || t.Find == feed.FindWhole && t.Keep != feed.KeepReplace ||
			t.Find == feed.FindCompare}
	if t.Keep != feed.KeepReplace && (t.Keep != feed.KeepLedger || target.Log) {
		target.Key = p.shape.Names(p.key)
		target.Unique = len(target.Key) == 0 || table.Unique(p.key)
		if len(target.Key) == 0 && t.Keep != feed.KeepLedger {
			return target, problem.Newf(problem.Invalid,
				"Name the columns that tell its rows apart: key: [a, b]; or keep it as a ledger.",
				"The table %s has no primary or unique key, and keep: %s needs one.", t.Table, t.Keep)
		}
		for _, k := range target.Key {
			if c, _ := arrives.Column(k); c.Type.Kind == schema.JSON {
				return target, problem.Newf(problem.Invalid, "Choose other columns for the key.",
					"The column %s of %s is %s, and such values cannot be a key.", k, t.Table, c.Native)
			}
		}
		target.Filters = p.shape.Filters() && t.Find != feed.FindWhole
	}
	target.Relations = p.relations(f, table)
	target.Partition = t.Partitions()
	for _, by := range target.Partition {
		if !slices.ContainsFunc(target.Columns, func(c warehouse.Column) bool { return c.Name == by.Column }) {
			return target, problem.Newf(problem.Invalid, "Name one that the target has, or leave it out of partition.",
				"The target of %s has no column %s to divide its files by.", t.Table, by.Column)
		}
	}
	for _, c := range arrives.Columns {
		if strings.HasPrefix(strings.ToLower(c.Name), "noemata_") { // of stages, and of changes that wait
			return target, problem.Newf(problem.Invalid, fmt.Sprintf("Leave it out of the feed: drop: [%s].", c.Name),
				"The source table %s has a column %s, and names that begin with noemata_ are used for rows on their "+
					"way.", t.Table, c.Name)
		}
	}
	for _, a := range target.Added() {
		if _, clash := arrives.Column(a.Name); clash {
			return target, problem.Newf(problem.Invalid, "Choose another prefix for the feed: prefix: rep_.",
				"The source table %s has a column %s, a name that Noemata adds.", t.Table, a.Name)
		}
	}
	return target, nil
}

// relations are the foreign keys of a table to others of its feed, as far as all of their columns arrive as they are.
func (p plan) relations(f *feed.Feed, table schema.Table) (list []warehouse.Relation) {
	for _, r := range table.Related {
		at := slices.IndexFunc(f.Tables, func(t feed.Table) bool {
			name, err := schema.ParseName(t.Table)
			return err == nil && name == r.To
		})
		columns, whole := p.spec.Called(r.Columns)
		if at < 0 || !whole {
			continue
		}
		to, err := f.TargetOf(f.Tables[at])
		referred, whole := f.Tables[at].Called(r.ToColumns)
		if err == nil && whole {
			list = append(list, warehouse.Relation{Columns: columns, To: to, ToColumns: referred})
		}
	}
	return list
}

func noColumn(t feed.Table, field, column string) error {
	return problem.Newf(problem.Invalid, "Check the name, upper and lower case included.",
		"The table %s has no column %q, which %s names.", t.Table, column, field)
}

func (p *plan) addWatermark(ctx context.Context, t feed.Table, table schema.Table, src source.Source) error {
	w := t.Watermark
	column, ok := table.Column(w.Column)
	if !ok {
		return noColumn(t, "watermark", w.Column)
	}
	if !window.Usable(column.Type) {
		return problem.Newf(problem.Invalid, "Choose a column of a date, time, whole-number or text type.",
			"The column %s of %s is %s, which cannot be a watermark.", w.Column, t.Table, column.Native)
	}
	watermark := []string{w.Column}
	if w.Fallback != "" {
		fallback, ok := table.Column(w.Fallback)
		if !ok {
			return noColumn(t, "fallback", w.Fallback)
		}
		if fallback.Type != column.Type {
			return problem.Newf(problem.Invalid, "Choose a fallback of the same type.",
				"The fallback %s of %s is %s, and the watermark %s is %s.", w.Fallback, t.Table, fallback.Native,
				w.Column, column.Native)
		}
		watermark = append(watermark, w.Fallback)
	}
	if err := p.placeWatermark(t, watermark); err != nil {
		return err
	}
	if err := w.LookBack.Check(column.Type); err != nil {
		return problem.Wrap(err, problem.Invalid, fmt.Sprintf("Table %s: %v.", t.Table, err), "Correct the feed.")
	}
	if w.Start != "" && w.Start != feed.StartBeginning && w.Start != feed.StartNow {
		if _, err := (position.Position{Value: w.Start}).Check(column.Type); err != nil {
			return problem.Wrap(err, problem.Invalid, fmt.Sprintf("Table %s, start: %v.", t.Table, err),
				"Write beginning, now, or a value of the watermark column.")
		}
	}
	if column.Type.Kind == schema.Timestamp || column.Type.Kind == schema.Date {
		var err error
		if w.Zone != "" {
			p.zone, err = time.LoadLocation(w.Zone)
		} else {
			p.zone, err = src.Zone(ctx)
		}
		if err != nil {
			return err
		}
	}
	p.query.Watermark = &source.Watermark{Column: column, Fallback: w.Fallback}
	return nil
}

// placeWatermark says where the watermark is found among what is read and what arrives.
func (p *plan) placeWatermark(t feed.Table, watermark []string) error {
	p.query.Apart = !p.shape.Plain() || slices.ContainsFunc(watermark, func(c string) bool {
		_, read := p.query.Table.Column(c)
		return !read
	})
	p.target.Watermark = p.shape.Names(watermark)
	if !p.shape.Passes(watermark) {
		p.target.Watermark = nil
	}
	if p.target.Watermark == nil && t.Keep == feed.KeepLedger {
		return problem.Newf(problem.Invalid, "Leave it as it is; the other columns of the table can be hidden.",
			"The table %s is kept as a ledger by its watermark (%s), which the feed drops or hides.", t.Table,
			strings.Join(watermark, ", "))
	}
	return nil
}

// checksAtOnce is how many tables are checked at a time: as many as a source has connections for.
const checksAtOnce = 4

// Check looks at every table of a feed before it runs.
func Check(ctx context.Context, f *feed.Feed, src source.Source, wh warehouse.Warehouse,
	keys shape.Keys) []problem.Finding {
	findings := []problem.Finding{}
	if _, err := wh.Test(ctx); err != nil {
		findings = append(findings, blocker(problem.AtWarehouse, "", err))
	}
	if _, err := src.Test(ctx); err != nil {
		return append(findings, blocker(problem.AtSource, "", err))
	}
	checks := make([]tableCheck, len(f.Tables))
	each := func(do func(*tableCheck)) {
		var group errgroup.Group
		group.SetLimit(checksAtOnce)
		for i := range checks {
			group.Go(func() error {
				c := &checks[i]
				if err := problem.Guarded(func() error { do(c); return nil })(); err != nil {
					c.err = err
				}
				if c.err != nil {
					c.findings = []problem.Finding{blocker(problem.AtSource, c.table.Table, c.err)}
				}
				return nil
			})
		}
		_ = group.Wait() // errors are gathered
	}
	for i, t := range f.Tables {
		checks[i].table = t
	}
	each(func(c *tableCheck) { c.plan, c.err = planNamed(ctx, f, c.table, src, keys, nil, wh.Names()) })
	findings = append(findings, at(problem.AtSource, checkLog(ctx, f, src, checks))...)
	each(func(c *tableCheck) {
		if c.err == nil {
			c.findings = c.check(ctx, f, src, wh)
		}
	})
	for _, c := range checks {
		findings = append(findings, c.findings...)
	}
	return append(findings, checkBurden(ctx, f, src, wh, checks)...)
}

func blocker(side problem.Side, table string, err error) problem.Finding {
	p := problem.Of(err)
	return problem.Finding{Level: problem.Blocker, Table: table, What: p.What, Remedy: p.Remedy, Side: side}
}

// tableCheck is the check of one table.
type tableCheck struct {
	table    feed.Table
	plan     plan
	err      error // why there is no plan
	findings []problem.Finding
}

func (c *tableCheck) check(ctx context.Context, f *feed.Feed, src source.Source,
	wh warehouse.Warehouse) (findings []problem.Finding) {
	t, p := c.table, c.plan
	add := func(level problem.Level, side problem.Side, remedy, what string) {
		findings = append(findings, problem.Finding{Level: level, Table: t.Table, Side: side, What: what, Remedy: remedy})
	}
	block := func(side problem.Side, err error) []problem.Finding {
		findings = append(findings, blocker(side, t.Table, err))
		return findings
	}
	for _, cut := range p.cut {
		add(problem.Note, "", fmt.Sprintf("If it shall have another name: columns: {%q: {name: …}}.", cut[0]),
			fmt.Sprintf("The column %s is called %s in %s, which cuts names after %d bytes.", cut[0], cut[1], wh.Names().Kind,
				wh.Names().Longest))
	}
	if uncut, ok := f.Uncut(t); ok {
		add(problem.Note, "", "If it shall have another name, give the table a target: target: schema.table.",
			fmt.Sprintf("The target of %s is called %s: %s is longer than names may be in every warehouse.", t.Table,
				p.target.Name.Display(), uncut.Display()))
	}
	if err := p.called(f, t, wh.Names()); err != nil {
		return block("", err)
	}
	if p.missing != nil && !t.OfPattern() {
		return block(problem.AtSource, p.missing)
	}
	if err := wh.MayWrite(ctx, p.target); err != nil {
		block(problem.AtWarehouse, err)
	}
	left, err := wh.LeftOver(ctx, p.target)
	if err != nil {
		block(problem.AtWarehouse, err)
	}
	for _, column := range left {
		if t.Dropped(column.Column) {
			add(problem.Warning, problem.AtWarehouse, column.Remedy, fmt.Sprintf("The target %s still holds the column %s, "+
				"which the feed drops, with the values of before; a proof does not look at it.", p.target.Name, column.Column))
		}
	}
	if p.query.Table.View && t.Find == feed.FindWatermark && t.Sweep == "" && t.Keep != feed.KeepLedger {
		add(problem.Note, "", "Have keys compared: sweep: 1d; or write find: compare.",
			"A row that leaves the view, or the query, does not show by its watermark: it stays in the target.")
	}
	found, err := src.Findings(ctx, p.query)
	if err != nil {
		return block(problem.AtSource, err)
	}
	findings = append(findings, at(problem.AtSource, found)...)
	future, err := p.inTheFuture(ctx, src)
	if err != nil {
		return block(problem.AtSource, err)
	}
	if future != nil {
		findings = append(findings, *future)
	}
	for _, column := range p.query.Table.Columns {
		if column.Wire == "" && !slices.Contains(t.AsText, column.Name) && column.Type.Kind == schema.Text {
			add(problem.Note, "", "", fmt.Sprintf("The column %s is %s, which is stored as text, in the form that the source "+
				"prints.", column.Name, column.Native))
		}
	}
	if len(p.target.Key) > 0 && !p.target.Unique {
		add(problem.Warning, problem.AtSource, source.UniqueKeyRemedy(src, p.query.Table, p.key),
			"The source does not promise that the key of this table is unique; of rows that share one, the last read is kept.")
	}
	return findings
}

// at says on which side findings are.
func at(side problem.Side, findings []problem.Finding) []problem.Finding {
	for i := range findings {
		findings[i].Side = side
	}
	return findings
}

// checkLog looks at what following the log needs. Tables that cannot be planned are told
// of elsewhere.
func checkLog(ctx context.Context, f *feed.Feed, src source.Source, checks []tableCheck) []problem.Finding {
	if !f.FollowsLog() {
		return nil
	}
	log, ok := src.(source.Log)
	if !ok {
		return []problem.Finding{{Level: problem.Blocker,
			What: "The change log of this kind of source cannot be followed.", Remedy: "Write find: watermark."}}
	}
	var all []*logTable
	var tables []source.Followed
	for _, c := range checks {
		if c.err == nil && c.table.Find == feed.FindLog {
			x := &logTable{plan: c.plan, Table: c.table}
			all, tables = append(all, x), append(tables, x.followed())
		}
	}
	findings, err := log.LogFindings(ctx, tables)
	if by := f.BehindBy(); err == nil && by > 0 {
		var behind []problem.Finding
		behind, err = log.BehindFindings(ctx, by)
		findings = append(findings, behind...)
	}
	linked(all)
	for _, t := range all {
		if t.trouble != nil {
			findings = append(findings, blocker(problem.AtSource, t.Table.Table, t.trouble))
		}
		for _, column := range t.unlogged {
			findings = append(findings, problem.Finding{Level: problem.Warning, Table: t.Table.Table,
				What: fmt.Sprintf("The column %s is generated, and the log leaves such columns out: the target has no such "+
					"column.", column), Remedy: "Compute it in the warehouse, or use find: watermark."})
		}
	}
	if err != nil {
		p := problem.Of(err)
		return []problem.Finding{{Level: problem.Blocker, What: p.What, Remedy: p.Remedy}}
	}
	return findings
}
