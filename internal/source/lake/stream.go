//go:build duckdb_arrow

package lake

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/iceberg-go/table"

	"noemata/internal/core/change"
	"noemata/internal/core/problem"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/lakefiles"
	"noemata/internal/source"
	"noemata/internal/warehouse/duckdb"
)

// lookEvery is how often it is looked whether tables have moved.
const lookEvery = 250 * time.Millisecond

// stream reads what the snapshots of tables have changed, one after another in the order of their times. What was found
// at one look is handed over together: so a cut is one between two looks.
type stream struct {
	source.Gathering
	s      *Source
	most   int64 // bytes that are gathered at once
	tables []*followed
	place  place // up to here everything was gathered
	looked time.Time
	queue  []*commit // that were found and are not gathered yet
	open   *differences
}

// followed is a table of a stream.
type followed struct {
	*source.Changes
	number int
	seen   string // the place of the metadata that was looked at last
	found  int64  // the number of the last snapshot that is in the queue
	unfit  bool   // it cannot be followed any more,
	told   bool   // which was told
}

// commit is what changed at once.
type commit struct {
	at    time.Time
	id    string // where several tables have it in common; else empty
	steps []step
	place place // after it
}

// step is one table's move from a snapshot to the next.
type step struct {
	of       *followed
	t        *table.Table
	from, to *table.Snapshot
	fault    error // why it cannot be followed any more: there is no step then
}

// Follow reads from a place on.
func (s *Source) Follow(_ context.Context, f source.Follow) (source.Stream, error) {
	from, err := parse(f.From)
	if err != nil {
		return nil, err
	}
	x := &stream{Gathering: source.NewGathering(f.Clock), s: s, most: cmp.Or(f.MaxBytes, 1<<62), place: from}
	for i, t := range f.Tables {
		at, named := from.tables[t.Table.Name.Display()]
		if !named {
			return nil, fmt.Errorf("the place %s does not name the table %s", from, t.Table.Name.Display())
		}
		x.tables = append(x.tables, &followed{Changes: x.Table(t), number: i, found: at})
	}
	return x, nil
}

// Next gathers what was found at a look, up to its end.
func (x *stream) Next(ctx context.Context, deadline time.Time) (source.Progress, error) {
	if len(x.queue) == 0 {
		wait := time.Until(x.looked.Add(lookEvery))
		if left := time.Until(deadline); left < wait {
			return x.Progress(x.place.String(), true), sleep(ctx, left)
		}
		if err := sleep(ctx, wait); err != nil {
			return source.Progress{}, err
		}
		if err := x.look(ctx); err != nil {
			return source.Progress{}, err
		}
		if len(x.queue) == 0 {
			return x.Progress(x.place.String(), true), nil
		}
	}
	for len(x.queue) > 0 && x.Bytes < x.most {
		if err := x.gather(ctx, x.queue[0]); err != nil {
			return source.Progress{}, err
		}
	}
	return x.Progress(x.place.String(), false), nil
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// look finds the snapshots that are new, and puts them in order.
func (x *stream) look(ctx context.Context) error {
	names := make([]schema.Name, len(x.tables))
	for i, f := range x.tables {
		names[i] = f.Table.Name
	}
	now, err := x.s.look(ctx, names...)
	if err != nil {
		return err
	}
	x.looked = time.Now()
	moment := now.clock.UTC().Truncate(time.Microsecond)
	if !moment.After(x.place.moment) { // the clock was set back
		moment = x.place.moment.Add(time.Microsecond)
	}
	var steps []step
	for _, f := range x.tables {
		some, err := x.moved(ctx, now, f)
		if err != nil {
			return err
		}
		steps = append(steps, some...)
	}
	x.queue = inOrder(steps)
	next := place{moment: x.place.moment, tables: x.place.tables}
	for i, c := range x.queue {
		tables := make(map[string]int64, len(next.tables))
		for name, at := range next.tables {
			tables[name] = at
		}
		for _, s := range c.steps {
			if s.fault == nil {
				tables[s.of.Table.Name.Display()] = s.to.SequenceNumber
			}
		}
		// The last one is at the look's own moment: then everything from before is gathered.
		at := moment.Add(-time.Duration(len(x.queue)-1-i) * time.Microsecond)
		if !at.After(next.moment) {
			at = next.moment.Add(time.Microsecond)
		}
		next = place{moment: at, tables: tables}
		c.place = next
	}
	if len(x.queue) == 0 {
		x.place.moment = moment
	}
	return nil
}

// moved lists the steps that a table has made since it was looked at last.
func (x *stream) moved(ctx context.Context, now look, f *followed) (steps []step, err error) {
	name := f.Table.Name
	fails := func(err error) ([]step, error) {
		if !problem.OfTable(err) {
			return nil, err
		}
		f.unfit = true
		return append(steps, step{of: f, fault: err}), nil
	}
	if at, there := now.places[name]; f.unfit || there && at == f.seen {
		return nil, nil
	}
	t, err := x.s.seen(ctx, now, name)
	if err != nil {
		return fails(err)
	}
	if err := x.s.same(t, f.Followed); err != nil {
		return fails(err)
	}
	from, list, reached := chain(t, f.found)
	if !reached {
		return fails(x.s.lost(name, fmt.Sprintf("the snapshot with the number %d", f.found)))
	}
	current := map[int64]bool{}
	for entry := range t.Metadata().SnapshotLogs() {
		current[entry.SnapshotID] = true
	}
	for i, to := range list {
		if from != nil && to.SequenceNumber <= from.SequenceNumber {
			return fails(x.s.lost(name, fmt.Sprintf("an order: its snapshot %d has the number %d", to.SnapshotID,
				to.SequenceNumber)))
		}
		if i+1 < len(list) && (len(current) > 0 && !current[to.SnapshotID] || commitOf(to) != "" &&
			commitOf(to) == commitOf(list[i+1])) {
			continue // nobody has seen it: it came with the next one
		}
		steps = append(steps, step{of: f, t: t, from: from, to: to})
		from, f.found = to, to.SequenceNumber
	}
	f.seen = t.MetadataLocation()
	return steps, nil
}

// commitOf is what snapshots have in common that were made at once; empty where that is not known.
func commitOf(s *table.Snapshot) string {
	if s.Summary == nil {
		return ""
	}
	return s.Summary.Properties[lakefiles.CommitProperty]
}

// inOrder makes commits of steps: those of one table stay in their order, and those that one commit has made are one.
func inOrder(steps []step) (queue []*commit) {
	last := map[int]int64{}
	byID := map[string]*commit{}
	for _, s := range steps {
		if s.fault != nil {
			queue = append(queue, &commit{at: time.UnixMilli(last[s.of.number] + 1).UTC(), steps: []step{s}})
			continue
		}
		at := max(s.to.TimestampMs, last[s.of.number]+1) // clocks of writers differ
		last[s.of.number] = at
		id := commitOf(s.to)
		c := byID[id]
		if id == "" || c == nil || slices.ContainsFunc(c.steps, func(other step) bool { return other.of == s.of }) {
			c = &commit{id: id}
			queue, byID[id] = append(queue, c), c
		}
		c.steps = append(c.steps, s)
		if moment := time.UnixMilli(at).UTC(); moment.After(c.at) {
			c.at = moment
		}
	}
	slices.SortStableFunc(queue, func(a, b *commit) int { return a.at.Compare(b.at) })
	return untangled(queue)
}

// numbered is the number of the snapshot; what ends the following of a table comes after all of them.
func (s step) numbered() int64 {
	if s.fault != nil {
		return math.MaxInt64
	}
	return s.to.SequenceNumber
}

// untangled divides commits of several tables where their times would have a table go back.
func untangled(queue []*commit) []*commit {
	number := map[int]int64{}
	for _, c := range queue {
		for _, s := range c.steps {
			if s.numbered() <= number[s.of.number] {
				return divided(queue)
			}
			number[s.of.number] = s.numbered()
		}
	}
	return queue
}

// divided has each step for itself, those of one table in their order.
func divided(queue []*commit) (parts []*commit) {
	steps := map[int][]step{} // by table
	for _, c := range queue {
		for _, s := range c.steps {
			steps[s.of.number] = append(steps[s.of.number], s)
		}
	}
	for _, list := range steps {
		slices.SortFunc(list, func(a, b step) int { return cmp.Compare(a.numbered(), b.numbered()) })
	}
	for _, c := range queue {
		for _, s := range c.steps {
			of := s.of.number
			parts, steps[of] = append(parts, &commit{at: c.at, steps: steps[of][:1]}), steps[of][1:]
		}
	}
	return parts
}

// gather gathers changes of the first commit of the queue, as long as there is room.
func (x *stream) gather(ctx context.Context, c *commit) error {
	if !x.Open() {
		x.BeginTxn(c.place.String(), 0, c.at.UnixMicro())
	}
	for len(c.steps) > 0 {
		done, err := x.step(ctx, c.steps[0])
		if err != nil && problem.OfTable(err) {
			done, err = true, x.misfit(c.steps[0].of, err)
		}
		if err != nil || !done {
			return err
		}
		x.open.close()
		x.open, c.steps = nil, c.steps[1:]
	}
	x.EndTxn()
	x.place, x.queue = c.place, x.queue[1:]
	return nil
}

// step gathers what a step has changed, and tells whether that is all.
func (x *stream) step(ctx context.Context, s step) (done bool, err error) {
	switch {
	case s.fault != nil:
		return true, x.misfit(s.of, s.fault)
	case s.of.unfit && s.of.told:
		return true, nil
	case x.open == nil:
		if x.open, err = x.s.compare(ctx, s); err != nil {
			return false, err
		}
	}
	return x.take(ctx, x.open)
}

// misfit tells that a table cannot be followed any more, and why.
func (x *stream) misfit(f *followed, why error) error {
	f.unfit, f.told = true, true
	x.Count()
	r, err := x.Row(change.Update)
	if err == nil {
		f.AddBare(r, why)
	}
	return err
}

// Take hands over what was gathered.
func (x *stream) Take() source.Gathered { return x.Gathering.Take(x.place.String()) }

// Confirm tells nobody.
func (x *stream) Confirm(string) {}

// Beat tells nobody.
func (x *stream) Beat() error { return nil }

// Close lets go of what is compared.
func (x *stream) Close() {
	x.open.close()
	x.open = nil
	x.Release()
}

// differences are the rows in which two snapshots of a table differ, in a working space.
type differences struct {
	work  *duckdb.Scratch
	of    *followed
	taken int64 // rows
	rows  int64 // in all
}

func (d *differences) close() {
	if d != nil && d.work != nil {
		d.work.Close()
	}
}

// Tables of a working space for rows of before and after, and those that differ.
var (
	before  = schema.Name{Schema: "compared", Table: "before"}
	after   = schema.Name{Schema: "compared", Table: "after"}
	differs = schema.Name{Schema: "compared", Table: "differs"}
)

// compare finds what a step has changed: of the rows of the files that only one of the snapshots has, or has with other
// deletes.
func (s *Source) compare(ctx context.Context, x step) (*differences, error) {
	d := &differences{of: x.of}
	name := x.of.Table.Name
	old, err := s.filesOf(ctx, x.t, name, x.from)
	if err != nil {
		return nil, err
	}
	now, err := s.filesOf(ctx, x.t, name, x.to)
	if err != nil {
		return nil, err
	}
	left, came := apart(old, now)
	if len(left)+len(came) == 0 || x.rewrites(left, came) {
		return d, nil
	}
	if d.work, err = s.openSpace(ctx); err != nil {
		return nil, err
	}
	if err = s.fill(ctx, d.work, before, x.t, x.of.Table, left); err == nil {
		err = s.fill(ctx, d.work, after, x.t, x.of.Table, came)
	}
	if err == nil {
		err = d.find(ctx, s, numbered(x.of.Table).Columns)
	}
	if err != nil {
		d.close()
		return nil, err
	}
	return d, nil
}

// rewrites tells whether a step has put files together, and changed no rows (Iceberg, Table Spec, Snapshots: replace).
// Where their numbers of rows do not tell the same, since some are deleted, it is not taken for granted.
func (s step) rewrites(left, came []part) bool {
	rows := func(parts []part) (n int64, exact bool) {
		for _, p := range parts {
			n += p.File.Count()
			if len(p.DeleteFiles)+len(p.EqualityDeleteFiles)+len(p.DeletionVectorFiles) > 0 || p.but != nil {
				return 0, false
			}
		}
		return n, true
	}
	before, exact := rows(left)
	after, too := rows(came)
	next := s.from != nil && s.to.ParentSnapshotID != nil && *s.to.ParentSnapshotID == s.from.SnapshotID
	return next && s.to.Summary != nil && s.to.Summary.Operation == table.OpReplace && exact && too && before == after
}

// apart leaves the rows of files that are not in the other list. Of a file that is in both, those are left that only
// the other one's deletes take away.
func apart(old, now []table.FileScanTask) (left, came []part) {
	before, after := map[string]*table.FileScanTask{}, map[string]*table.FileScanTask{}
	for i := range old {
		before[old[i].File.FilePath()] = &old[i]
	}
	for i := range now {
		after[now[i].File.FilePath()] = &now[i]
	}
	only := func(tasks []table.FileScanTask, others map[string]*table.FileScanTask) (parts []part) {
		for _, t := range tasks {
			other := others[t.File.FilePath()]
			if other != nil && !slices.ContainsFunc(deletesOf(*other),
				func(d string) bool { return !slices.Contains(deletesOf(t), d) }) {
				continue // what that deletes this does, too
			}
			parts = append(parts, part{t, other})
		}
		return parts
	}
	return only(old, after), only(now, before)
}

// deletesOf names the files of deletes of a file, and deletion vectors by their place in one.
func deletesOf(t table.FileScanTask) (list []string) {
	for _, d := range slices.Concat(t.DeleteFiles, t.EqualityDeleteFiles) {
		list = append(list, d.FilePath())
	}
	for _, d := range t.DeletionVectorFiles {
		at := int64(-1)
		if d.ContentOffset() != nil {
			at = *d.ContentOffset()
		}
		list = append(list, fmt.Sprintf("%s %d", d.FilePath(), at))
	}
	return list
}

// Kinds of difference, as the working space has them.
const (
	isGone  = 1
	isNew   = 2
	isOther = 3
)

// find finds the rows that differ. Rows with a key are matched by it; others are equal in all columns, or not.
func (d *differences) find(ctx context.Context, s *Source, columns []schema.Column) error {
	key := make([]string, len(d.of.KeyAt))
	for i, at := range d.of.KeyAt {
		key[i] = columns[at].Name
	}
	sql := fmt.Sprintf("CREATE TABLE %s AS SELECT %d AS kind, * FROM (FROM %s EXCEPT ALL FROM %s) UNION ALL "+
		"SELECT %d AS kind, * FROM (FROM %[4]s EXCEPT ALL FROM %[3]s)", differs.Quoted(), isGone, before.Quoted(),
		after.Quoted(), isNew)
	if len(key) > 0 {
		if err := d.unique(ctx, s, key); err != nil {
			return err
		}
		same, other := make([]string, len(key)), []string{"false"}
		for i, k := range key {
			same[i] = fmt.Sprintf("b.%s IS NOT DISTINCT FROM a.%[1]s", k)
		}
		for _, c := range columns {
			other = append(other, duckdb.Dialect().Distinct(c.Type, "b."+c.Name, "a."+c.Name))
		}
		picked := make([]string, len(columns))
		for i, c := range columns {
			picked[i] = fmt.Sprintf("CASE WHEN a.there THEN a.%s ELSE b.%[1]s END AS %[1]s", c.Name)
		}
		sql = fmt.Sprintf("CREATE TABLE %s AS SELECT CASE WHEN a.there IS NULL THEN %d WHEN b.there IS NULL THEN %d ELSE %d END AS kind, "+
			"%s FROM (SELECT *, true AS there FROM %s) AS b FULL JOIN (SELECT *, true AS there FROM %s) AS a ON %s "+
			"WHERE a.there IS NULL OR b.there IS NULL OR %s", differs.Quoted(), isGone, isNew, isOther, strings.Join(picked,
			", "),
			before.Quoted(), after.Quoted(), strings.Join(same, " AND "), strings.Join(other, " OR "))
	}
	if _, err := d.work.Exec(ctx, sql); err != nil {
		return err
	}
	found, err := d.work.Ask(ctx, "SELECT count(*) FROM "+differs.Quoted())
	if err == nil {
		d.rows = found[0][0].(int64)
	}
	return err
}

// unique makes sure that no two rows have one key: which of them counts could not be known.
func (d *differences) unique(ctx context.Context, s *Source, key []string) error {
	texts := make([]string, len(key))
	for i, k := range key {
		texts[i] = "coalesce(CAST(" + k + " AS VARCHAR), 'null')"
	}
	found, err := d.work.Ask(ctx,
		fmt.Sprintf("SELECT concat_ws(', ', %s), count(*) FROM %s WHERE %s IS NOT NULL GROUP BY %s "+
			"HAVING count(*) > 1 LIMIT 1", strings.Join(texts, ", "), after.Quoted(), strings.Join(key, " IS NOT NULL AND "),
			strings.Join(key, ", ")))
	if err != nil || len(found) == 0 {
		return err
	}
	name := d.of.Table.Name
	return problem.Newf(problem.Held,
		"Have whoever writes the table write each key once; or give the feed another key. Then: "+
			"noemata feeds copy FEED --table "+problem.Word(name.Display())+".",
		"The table %s of %s has %d rows with the key (%s) = (%s).", name.Display(), s.what, found[0][1],
		strings.Join(d.of.Key, ", "),
		found[0][0])
}

// takeRows is how many differing rows are taken at once.
const takeRows = 4096

// take gathers differing rows until there are enough, and tells whether there are no more.
func (x *stream) take(ctx context.Context, d *differences) (done bool, err error) {
	for d.taken < d.rows {
		if x.Bytes >= x.most {
			return false, nil
		}
		sql := fmt.Sprintf("SELECT %s, CAST(kind AS BIGINT) FROM %s WHERE rowid >= %d AND rowid < %d",
			schema.QuoteAll("", numbered(d.of.Table).ColumnNames()), differs.Quoted(), d.taken, d.taken+takeRows)
		if err := d.work.Select(ctx, sql, func(record arrow.RecordBatch) error {
			return x.differing(record,
				d.of)
		}); err != nil {
			return false, err
		}
		d.taken += takeRows
	}
	return true, nil
}

// differing gathers the rows of a record.
func (x *stream) differing(record arrow.RecordBatch, f *followed) error {
	cells, err := cellsOf(record, f.Table.Columns)
	if err != nil {
		return err
	}
	kinds, is := record.Column(int(record.NumCols()) - 1).(interface{ Value(int) int64 })
	if !is {
		return errors.New("the working space gives no kinds")
	}
	for row := range int(record.NumRows()) {
		kind := map[int64]change.Kind{isGone: change.Delete, isNew: change.Insert, isOther: change.Update}[kinds.Value(row)]
		if err := x.differs(cells, row, kind, f); err != nil {
			return err
		}
	}
	return nil
}

func (x *stream) differs(cells []cell, row int, kind change.Kind, f *followed) error {
	x.Count()
	if f.Ignores(kind) {
		f.Ignore()
		return nil
	}
	r, err := x.Row(kind)
	if err != nil {
		return err
	}
	at, why := misfit(cells, row)
	if kind.Ends() && !slices.Contains(f.KeyAt, at) { // what ends a row needs its key
		why = ""
	}
	for _, k := range f.KeyAt {
		if why == "" && cells[k].values.IsNull(row) {
			at, why = k, rows.IsNullKey
		}
	}
	if why != "" {
		f.SetAside(asideOf(cells, len(cells), f.KeyAt, row, at, why), r, 0)
		x.Bytes += 64 * int64(len(cells))
		return nil
	}
	for i := range cells {
		if kind.Ends() && cells[i].misfit(row) != "" {
			f.Fields[i].AppendNull()
			continue
		}
		x.Bytes += 8 + int64(cells[i].append(f.Fields[i], row))
	}
	f.Add(r, nil)
	return nil
}
