package warehouse

import (
	"fmt"
	"hash/fnv"
	"regexp"
	"slices"
	"strings"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// Columns of a stage beside those of its target. Rows that are Gone end their key;
// Bare ones hold no values but the key. Follows tells what comes before the row in the
// stage: 0 nothing of its key, 1 a row, 2 a row that is gone. Unknown marks, column by
// column, values that are to be taken from the target's row of the key in Base.
const (
	StageRow     = "noemata_row"
	StageGone    = "noemata_gone"
	StageBare    = "noemata_bare"
	StageFollows = "noemata_follows"
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
		extra(StageBare, schema.Bool)
		extra(StageFollows, schema.Int16)
	}
	if t.Log {
		extra(StageUnknown, schema.Text)
		for i, k := range t.Key {
			c, _ := schema.Table{Columns: t.Columns}.Column(k)
			c.Name = StageBase(i)
			columns = append(columns, c)
		}
	}
	return columns
}

// NumbersRows tells whether rows must be numbered to tell which of a key's is the last.
func NumbersRows(t Target) bool {
	return !t.Unique && !t.Log && (t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete || t.Keep == feed.KeepHistory)
}

// Ends tells whether the stage says of its rows whether they end their key.
func Ends(t Target) bool {
	return t.Log || t.Sweeps || t.Keep == feed.KeepSoftDelete || t.Keep == feed.KeepHistory
}

// StageName names the stage of a target. The name depends on its columns, too, so that a
// connection can use a stage again as long as they are the same.
func StageName(t Target) string {
	h := fnv.New64a()
	_, _ = fmt.Fprint(h, t.Name.Quoted())
	for _, c := range StageColumns(t) {
		_, _ = fmt.Fprintf(h, "%s\x00%s\x00", c.Name, c.Type)
	}
	return fmt.Sprintf("noemata_stage_%016x", h.Sum64())
}

// TypeName is the warehouse's name of a type.
func (d Dialect) TypeName(t schema.Type) string {
	if t.Kind == schema.Decimal {
		return fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale)
	}
	return d.Types[t.Kind]
}

// CreateTable makes a target.
func (d Dialect) CreateTable(t Target) string {
	sql := d.CreateTableOf(t.Name, t.All())
	if t.Keep == feed.KeepLatest || t.Keep == feed.KeepSoftDelete {
		sql += d.Updated
	}
	return sql
}

// CreateTableOf makes a table of the given columns.
func (d Dialect) CreateTableOf(name schema.Name, columns []schema.Column) string {
	var list []string
	for _, c := range columns {
		list = append(list, "    "+schema.Quote(c.Name)+" "+d.TypeName(c.Type))
	}
	return fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n%s\n)", name.Quoted(), strings.Join(list, ",\n"))
}

// CreateStage makes the temporary table for a target's rows.
func (d Dialect) CreateStage(t Target) string {
	var columns []string
	for _, c := range StageColumns(t) {
		columns = append(columns, schema.Quote(c.Name)+" "+d.TypeName(c.Type))
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE IF NOT EXISTS %s (%s)%s", StageName(t), strings.Join(columns, ", "), d.Stage)
}

// Keys makes the indexes that merges need, where the warehouse has any.
func (d Dialect) Keys(t Target) []string {
	if d.Indexes == "" || len(t.Key) == 0 {
		return nil
	}
	h := fnv.New64a()
	_, _ = fmt.Fprint(h, t.Name.Quoted()+"\x00"+schema.QuoteAll("", t.Key))
	index := func(kind, name, columns, where string) string {
		return fmt.Sprintf("CREATE %sINDEX IF NOT EXISTS nm_%s_%016x ON %s (%s)%s", kind, name, h.Sum64(), t.Name.Quoted(), columns, where)
	}
	switch t.Keep {
	case feed.KeepLatest, feed.KeepSoftDelete:
		return []string{index("UNIQUE ", "key", schema.QuoteAll("", t.Key), "")}
	case feed.KeepHistory:
		return []string{index("UNIQUE ", "current", schema.QuoteAll("", t.Key), " WHERE "+schema.Quote(t.Names.Current))}
	case feed.KeepLedger:
		if t.Log {
			return []string{index("", "key", schema.QuoteAll("", append(append([]string{}, t.Key...), t.Names.Position)), "")}
		}
	}
	return nil
}

// ourIndex matches the names of indexes that Keys makes.
var ourIndex = regexp.MustCompile(`^nm_(key|current)_[0-9a-f]{16}$`)

// indexName is the name of the index that a statement of Keys makes.
func indexName(create string) string {
	_, rest, _ := strings.Cut(create, " IF NOT EXISTS ")
	name, _, _ := strings.Cut(rest, " ")
	return name
}

// Step is one statement of a merge and the counter its rows belong to.
type Step struct {
	SQL     string
	Counter string // "folded", "updated", "rewritten" (updated, and counted as inserted by another step), "inserted", "deleted", "removed", "baseless" or "" for none
	Counts  bool   // the statement asks for the number
	Rest    bool   // needed only where the step before has not touched every row of the stage
	All     bool   // needed only where it has
}

// Has tells what is in a stage, so that steps can be left out that would find nothing.
type Has struct {
	Gone      bool // rows that end their key
	Unknown   bool // rows with values that are to be taken from the target
	Chains    bool // keys with several rows
	Continues bool // the stage goes on with a transaction whose first part was merged before
	Replays   bool // the stage may hold changes that were merged before
	Filled    bool // statements have put rows into the stage
}

// Merge brings what is in the stage into the target. Rows of the stage that no
// step counts were there already.
func (d Dialect) Merge(t Target, run int64, h Has) []Step {
	m := merge{Dialect: d, t: t, stage: StageName(t), has: h}
	if h.Unknown {
		m.fill()
	}
	switch t.Keep {
	case feed.KeepLedger:
		if t.Log {
			m.appendEvents()
		} else {
			m.step("inserted", "%s", m.appendNew(run))
		}
	case feed.KeepReplace:
		m.step("", "%s %s", d.emptied(), t.Name.Quoted())
		m.step("inserted", "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", t.Name.Quoted(), names(t.All()), m.stage)
	case feed.KeepHistory:
		m.history()
	default:
		m.latest()
	}
	return m.steps
}

func (d Dialect) emptied() string {
	if d.Direct {
		return "DELETE FROM"
	}
	return "TRUNCATE"
}

type merge struct {
	Dialect
	t     Target
	stage string
	has   Has
	steps []Step
}

func (m *merge) step(counter, format string, args ...any) {
	m.steps = append(m.steps, Step{SQL: fmt.Sprintf(format, args...), Counter: counter})
}

func (m *merge) ask(counter, format string, args ...any) {
	m.steps = append(m.steps, Step{SQL: fmt.Sprintf(format, args...), Counter: counter, Counts: true})
}

func (m *merge) target() string         { return m.t.Name.Quoted() }
func (m *merge) match() string          { return equal(m.t.Key, "t", "s") }
func (m *merge) col(name string) string { return schema.Quote(name) }

// fill takes unknown values from the row that the change was made to: the current one
// of its key, or the last event of a ledger.
func (m *merge) fill() {
	var sets, base []string
	for i, c := range m.t.Columns {
		name := m.col(c.Name)
		sets = append(sets, fmt.Sprintf("%s = CASE WHEN substr(s.%s, %d, 1) = '1' THEN t.%[1]s ELSE s.%[1]s END", name, StageUnknown, i+1))
	}
	for i, k := range m.t.Key {
		base = append(base, fmt.Sprintf("t.%s = s.%s", m.col(k), StageBase(i)))
	}
	from := m.target()
	switch m.t.Keep {
	case feed.KeepHistory:
		base = append(base, "t."+m.col(m.t.Names.Current))
	case feed.KeepLedger:
		var keys, bases []string
		for i, k := range m.t.Key {
			keys, bases = append(keys, "l."+m.col(k)), append(bases, "b."+StageBase(i))
		}
		var same []string
		for i := range keys {
			same = append(same, keys[i]+" = "+bases[i])
		}
		from = fmt.Sprintf("(SELECT DISTINCT ON (%s) l.* FROM %s AS l WHERE EXISTS (SELECT 1 FROM %s AS b WHERE b.%s IS NOT NULL AND %s) ORDER BY %[1]s, l.%[6]s DESC)",
			strings.Join(keys, ", "), m.target(), m.stage, StageUnknown, strings.Join(same, " AND "), m.col(m.t.Names.Position))
	}
	m.step("", "UPDATE %s AS s SET %s, %s = NULL FROM %s AS t WHERE s.%[3]s IS NOT NULL AND %[5]s", m.stage, strings.Join(sets, ", "), StageUnknown, from, strings.Join(base, " AND "))
	m.ask("baseless", "SELECT count(*) FROM %s WHERE %s IS NOT NULL", m.stage, StageUnknown)
}

// latest leaves one row of each key: as it is now, or, for soft-delete, as it last was.
func (m *merge) latest() {
	if NumbersRows(m.t) {
		m.foldByKey()
	}
	if m.t.Keep == feed.KeepLatest {
		if m.has.Gone {
			m.step("deleted", "DELETE FROM %s AS t USING %s AS s WHERE s.%s AND %s", m.target(), m.stage, StageGone, m.match())
		}
		stays := "true"
		if Ends(m.t) {
			stays = "NOT s." + StageGone
		}
		m.put(stays, "rewritten", "updated", "inserted")
		return
	}
	if m.has.Gone {
		at, changed, run := m.col(m.t.Names.DeletedAt), m.col(m.t.Names.ChangedAt), m.col(m.t.Names.Run)
		m.step("deleted", "UPDATE %s AS t SET %s = s.%[2]s, %[3]s = s.%[3]s, %[4]s = s.%[4]s FROM %[5]s AS s WHERE s.%[6]s AND %[7]s AND t.%[2]s IS NULL",
			m.target(), at, changed, run, m.stage, StageBare, m.match())
		m.put("s."+StageGone+" AND NOT s."+StageBare, "", "deleted", "deleted")
	}
	m.put("NOT s."+StageGone, "rewritten", "updated", "inserted")
}

// put writes the rows of the stage that meet a condition over those of their key.
func (m *merge) put(condition, rewritten, updated, inserted string) {
	all := names(m.t.All())
	if m.Rewrite {
		m.step(rewritten, "DELETE FROM %s AS t USING %s AS s WHERE %s AND %s AND (%s)", m.target(), m.stage, condition, m.match(), m.differ())
	} else {
		var sets []string
		for _, c := range m.t.All() {
			sets = append(sets, m.col(c.Name)+" = s."+m.col(c.Name))
		}
		m.step(updated, "UPDATE %s AS t SET %s FROM %s AS s WHERE %s AND %s AND (%s)", m.target(), strings.Join(sets, ", "), m.stage, condition, m.match(), m.differ())
	}
	m.step(inserted, "INSERT INTO %s (%s) SELECT %s FROM %s AS s WHERE %s AND NOT EXISTS (SELECT 1 FROM %[1]s AS t WHERE %[6]s)",
		m.target(), all, schema.QuoteAll("s.", columnNames(m.t.All())), m.stage, condition, m.match())
	m.steps[len(m.steps)-1].Rest = !m.Rewrite
}

// foldByKey leaves the last row of each key in the stage.
func (m *merge) foldByKey() {
	m.step("folded", "DELETE FROM %s AS s USING (SELECT %s, max(%s) AS last FROM %[1]s GROUP BY %[2]s) AS l WHERE %[4]s AND s.%[3]s < l.last",
		m.stage, schema.QuoteAll("", m.t.Key), StageRow, equal(m.t.Key, "s", "l"))
}

// differ is true where a row of the stage differs from the target's.
func (m *merge) differ() string {
	var differ []string
	for _, c := range m.t.Columns {
		if slices.Contains(m.t.Key, c.Name) && len(m.t.Key) < len(m.t.Columns) && !mayVary(c.Type) {
			continue // rows are matched by it
		}
		differ = append(differ, m.Distinct(c.Type, "t."+m.col(c.Name), "s."+m.col(c.Name)))
	}
	if m.t.Keep == feed.KeepSoftDelete {
		at := m.col(m.t.Names.DeletedAt)
		differ = append(differ, fmt.Sprintf("(t.%s IS NULL) <> (s.%[1]s IS NULL)", at))
	}
	return strings.Join(differ, " OR ")
}

// mayVary tells whether two values can be equal, and so match as keys, and yet not be the
// same: 0 and -0, 1.0 and 1.00, a day and 24 hours.
func mayVary(t schema.Type) bool {
	switch t.Kind {
	case schema.Float32, schema.Float64, schema.Numeric, schema.Interval:
		return true
	}
	return false
}

// history closes the versions that have ended and adds the new ones.
func (m *merge) history() {
	from, until, current := m.col(m.t.Names.From), m.col(m.t.Names.Until), m.col(m.t.Names.Current)
	stage, target, match := m.stage, m.target(), m.match()
	if NumbersRows(m.t) {
		m.foldByKey()
	}
	if !m.t.Log {
		// A watermark may be as it was although the row has changed, or lie before the end
		// of what was there: a version begins where the last one ends, or after it.
		m.step("", "UPDATE %s AS s SET %s = t.%[2]s + INTERVAL '1 microsecond' FROM %[3]s AS t WHERE %[4]s AND t.%[5]s AND s.%[2]s <= t.%[2]s AND (s.%[6]s OR %[7]s)",
			stage, from, target, match, current, StageGone, m.differ())
		m.step("", "UPDATE %s AS s SET %s = l.ended FROM (SELECT %s, max(%s) AS ended FROM %s WHERE %[4]s IS NOT NULL GROUP BY %[3]s) AS l WHERE %[6]s AND s.%[2]s < l.ended",
			stage, from, schema.QuoteAll("", m.t.Key), until, target, equal(m.t.Key, "l", "s"))
	}
	closes := "UPDATE %s AS t SET %s = s.%s, %s = false FROM %s AS s WHERE %s AND t.%[4]s AND %[7]s"
	if m.t.Log && !m.has.Replays && !m.has.Continues && !m.has.Chains {
		// One row of each key: what differs closes the current version, and whatever has no
		// current version then begins one.
		if m.has.Gone {
			m.step("deleted", closes, target, until, from, current, stage, match, "s."+StageGone)
		}
		m.step("rewritten", closes, target, until, from, current, stage, match, "NOT s."+StageGone+" AND ("+m.differ()+")")
		m.step("inserted", "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", target, names(m.t.All()), stage)
		m.steps[len(m.steps)-1].All = true
		m.step("inserted", "INSERT INTO %s (%s) SELECT %s FROM %s AS s WHERE NOT s.%s AND NOT EXISTS (SELECT 1 FROM %[1]s AS t WHERE %[6]s AND t.%[7]s)",
			target, names(m.t.All()), schema.QuoteAll("s.", columnNames(m.t.All())), stage, StageGone, match, current)
		m.steps[len(m.steps)-1].Rest = true
		return
	}
	if m.has.Replays {
		m.step("", "DELETE FROM %s AS s USING %s AS t WHERE %s AND (t.%s > s.%[4]s OR t.%[5]s > s.%[4]s)", stage, target, match, from, until)
	}
	if m.has.Continues {
		// What the first part of the transaction made is made again, and what it ended goes
		// on if it comes back unchanged: a transaction makes one version at most.
		m.step("", "DELETE FROM %s AS t USING %s AS s WHERE %s AND t.%s AND t.%s = s.%[5]s", target, stage, match, current, from)
		m.step("", "UPDATE %s AS t SET %s = NULL, %s = true FROM %s AS s WHERE %s AND s.%s = 0 AND NOT s.%s AND t.%[2]s = s.%[8]s AND NOT (%[9]s)",
			target, until, current, stage, match, StageFollows, StageGone, from, m.differ())
	}
	m.step("", "DELETE FROM %s AS s USING %s AS t WHERE %s AND t.%s AND s.%s = 0 AND NOT s.%s AND NOT (%s)", stage, target, match, current, StageFollows, StageGone, m.differ())
	if m.has.Chains {
		m.step("", "UPDATE %s AS s SET %s = 0 FROM (SELECT %s, min(%s) AS first FROM %[1]s GROUP BY %[3]s) AS f WHERE %[5]s AND s.%[4]s = f.first AND s.%[2]s <> 0",
			stage, StageFollows, schema.QuoteAll("", m.t.Key), from, equal(m.t.Key, "f", "s"))
		m.ask("deleted", "SELECT count(*) FROM %s WHERE %s AND %s <> 0", stage, StageGone, StageFollows)
		m.ask("rewritten", "SELECT count(*) FROM %s WHERE NOT %s AND %s = 1", stage, StageGone, StageFollows)
	}
	if m.has.Gone {
		m.step("deleted", closes, target, until, from, current, stage, match, "s."+StageFollows+" = 0 AND s."+StageGone)
	}
	m.step("rewritten", closes, target, until, from, current, stage, match, "s."+StageFollows+" = 0 AND NOT s."+StageGone)
	m.step("inserted", "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s WHERE NOT %[4]s", target, names(m.t.All()), stage, StageGone)
}

// appendEvents adds the events of a log that the ledger lacks.
func (m *merge) appendEvents() {
	at := m.col(m.t.Names.Position)
	if m.has.Replays {
		m.step("", "DELETE FROM %s WHERE %s <= (SELECT max(%[2]s) FROM %[3]s)", m.stage, at, m.target())
	}
	m.step("inserted", "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", m.target(), names(m.t.All()), m.stage)
}

// appendNew adds the rows of the stage that the ledger lacks. Rows are matched as a
// whole and counted, so that two rows alike in every value are both kept, and a
// stretch that is read again adds nothing. Only the ledger's rows between the
// stage's lowest and highest watermark can match.
func (m *merge) appendNew(run int64) string {
	var list, back []string
	for _, c := range m.t.All() {
		if c.Name == m.t.Names.Run {
			back = append(back, fmt.Sprint(run))
			continue
		}
		name := m.col(c.Name)
		if m.NoEquals(c.Type) {
			list = append(list, fmt.Sprintf("CAST(%s AS VARCHAR) AS %[1]s", name))
			back = append(back, fmt.Sprintf("CAST(%s AS %s)", name, m.TypeName(c.Type)))
			continue
		}
		list = append(list, name)
		back = append(back, name)
	}
	w := schema.QuoteAll("", m.t.Watermark)
	if len(m.t.Watermark) > 1 {
		w = "coalesce(" + w + ")"
	}
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (SELECT %s FROM %s EXCEPT ALL SELECT %[4]s FROM %[1]s WHERE %[6]s >= (SELECT min(%[6]s) FROM %[5]s) AND %[6]s <= (SELECT max(%[6]s) FROM %[5]s)) AS fresh",
		m.target(), names(m.t.All()), strings.Join(back, ", "), strings.Join(list, ", "), m.stage, w)
}

// Truncate empties a target as its keep asks. at is the moment, as a literal.
func (d Dialect) Truncate(t Target, at string, h Has) []Step {
	m := merge{Dialect: d, t: t}
	switch t.Keep {
	case feed.KeepSoftDelete:
		m.step("removed", "UPDATE %s SET %s = %s, %s = %[3]s WHERE %[2]s IS NULL", m.target(), m.col(t.Names.DeletedAt), at, m.col(t.Names.ChangedAt))
	case feed.KeepHistory:
		if h.Continues {
			m.step("", "DELETE FROM %s WHERE %s AND %s = %s", m.target(), m.col(t.Names.Current), m.col(t.Names.From), at)
		}
		m.step("removed", "UPDATE %s SET %s = %s, %s = false WHERE %[4]s", m.target(), m.col(t.Names.Until), at, m.col(t.Names.Current))
	case feed.KeepLatest:
		m.step("removed", "DELETE FROM %s", m.target())
	}
	return m.steps
}

// SameRows counts the rows of a target, and those of them that a stage has, too: in every
// value, and as often.
func (d Dialect) SameRows(t Target, stage string) string {
	var list []string
	for _, c := range t.Columns {
		name := schema.Quote(c.Name)
		if d.NoEquals(c.Type) || mayVary(c.Type) { // equal would not mean the same
			name = "CAST(" + name + " AS VARCHAR)"
		}
		list = append(list, name)
	}
	columns := strings.Join(list, ", ")
	return fmt.Sprintf("SELECT (SELECT count(*) FROM %s), (SELECT count(*) FROM (SELECT %s FROM %[1]s INTERSECT ALL SELECT %[2]s FROM %[3]s) AS same)", t.Name.Quoted(), columns, stage)
}

// Sweep puts a row that ends its key into the stage for each key that holds in the
// target and is not among the keys of another table.
func (d Dialect) Sweep(t Target, keys string, at string, run int64) string {
	columns := append([]string{}, t.Key...)
	values := make([]string, len(t.Key))
	for i, k := range t.Key {
		values[i] = "t." + schema.Quote(k)
	}
	set := func(column, value string) {
		if column != "" {
			columns, values = append(columns, column), append(values, value)
		}
	}
	switch t.Keep {
	case feed.KeepSoftDelete:
		set(t.Names.DeletedAt, at)
		set(t.Names.ChangedAt, at)
	case feed.KeepHistory:
		set(t.Names.From, at)
	}
	set(t.Names.Run, fmt.Sprint(run))
	set(StageGone, "true")
	set(StageBare, "true")
	set(StageFollows, "0")
	holds := ""
	if h := Holds(t); h != "" {
		holds = " AND t." + h
	}
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s AS t WHERE NOT EXISTS (SELECT 1 FROM %s AS k WHERE %s)%s",
		StageName(t), schema.QuoteAll("", columns), strings.Join(values, ", "), t.Name.Quoted(), keys, equal(t.Key, "t", "k"), holds)
}

// Misfit tells what keeps an existing table from being the target.
func (d Dialect) Misfit(t Target, existing map[string]string, normal func(typeName string) string) error {
	var missing, other, mend []string
	for _, c := range t.All() {
		have, ok := existing[c.Name]
		want := d.TypeName(c.Type)
		switch {
		case !ok:
			missing = append(missing, c.Name)
			mend = append(mend, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s;", t.Name.Quoted(), schema.Quote(c.Name), want))
		case normal(have) != normal(want):
			other = append(other, fmt.Sprintf("%s is %s and must be %s", c.Name, have, want))
			mend = append(mend, d.Convert(t.Name.Quoted(), schema.Quote(c.Name), want)+";")
		}
	}
	if missing == nil && other == nil {
		return nil
	}
	said := ""
	if missing != nil {
		said = " It lacks " + strings.Join(missing, ", ") + "."
	}
	if other != nil {
		said += " " + strings.Join(other, "; ") + "."
	}
	remedy := strings.Join(mend, " ") + " Then have older rows read again, which have no values in it yet: noemata positions clear FEED TABLE"
	if t.Log {
		remedy = "Copy the table again, which makes the target fit: noemata feeds copy FEED --table TABLE."
	}
	return problem.Newf(problem.Held, remedy, "The target table %s does not have the columns that the source has now.%s", t.Name, said)
}

func equal(columns []string, a, b string) string {
	conditions := make([]string, len(columns))
	for i, c := range columns {
		conditions[i] = fmt.Sprintf("%s.%s = %s.%[2]s", a, schema.Quote(c), b)
	}
	return strings.Join(conditions, " AND ")
}

func columnNames(columns []schema.Column) []string {
	return schema.Table{Columns: columns}.ColumnNames()
}

func names(columns []schema.Column) string { return schema.QuoteAll("", columnNames(columns)) }
