package sqlmerge

import (
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/change"
	"noemata/internal/core/feed"
	"noemata/internal/core/fold"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// Counter is what the rows of a step count as.
type Counter string

// The counters.
const (
	None      Counter = ""
	Folded    Counter = "folded"
	Updated   Counter = "updated"
	Rewritten Counter = "rewritten" // updated, and counted as inserted by another step
	Inserted  Counter = "inserted"
	Deleted   Counter = "deleted"
	Removed   Counter = "removed"  // deleted, and no change named them one by one
	Baseless  Counter = "baseless" // changes whose unknown values have no row to come from
)

// When says whether a step is needed, by how many rows of the stage the step before touched.
type When int

// The conditions.
const (
	Always When = iota
	Unless      // unless it touched all
	Only        // only where it touched all
)

// Step is one statement of a merge and the counter its rows belong to.
type Step struct {
	SQL     string
	Counter Counter
	Counts  bool // the statement asks for the number
	When    When
}

// Merge brings what is in the stage into the target. Rows of the stage that no
// step counts were there already.
func (d Dialect) Merge(t warehouse.Target, run int64, h warehouse.Has) []Step {
	m := merge{Dialect: d, t: t, stage: StageName(t), has: h}
	if h.Replays > 0 {
		m.dropReplayed(run)
	}
	if h.Unknown {
		m.fill()
	}
	switch t.Keep {
	case feed.KeepLedger:
		if t.Log {
			m.appendEvents()
		} else {
			m.step(Inserted, "%s", m.appendNew(run))
		}
	case feed.KeepReplace:
		m.step(None, "%s %s", d.emptied(), t.Name.Quoted())
		m.step(Inserted, "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", t.Name.Quoted(), names(t.All()), m.stage)
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
	t     warehouse.Target
	stage string
	has   warehouse.Has
	steps []Step
}

func (m *merge) step(counter Counter, format string, args ...any) {
	m.steps = append(m.steps, Step{SQL: fmt.Sprintf(format, args...), Counter: counter})
}

func (m *merge) ask(counter Counter, format string, args ...any) {
	m.steps = append(m.steps, Step{SQL: fmt.Sprintf(format, args...), Counter: counter, Counts: true})
}

func (m *merge) last() *Step            { return &m.steps[len(m.steps)-1] }
func (m *merge) target() string         { return m.t.Name.Quoted() }
func (m *merge) match() string          { return equal(m.t.Key, "t", "s") }
func (m *merge) col(name string) string { return schema.Quote(name) }

// added is the name of a column that Noemata adds.
func (m *merge) added(r warehouse.Role) string { return schema.Quote(m.t.Called(r)) }

// fill takes unknown values from the row that the change was made to: the current one
// of its key, or the last event of a ledger.
func (m *merge) fill() {
	var sets, base []string
	for i, c := range m.t.Values() {
		name := m.col(c.Name)
		sets = append(sets, fmt.Sprintf("%s = CASE WHEN substr(s.%s, %d, 1) = '1' THEN t.%[1]s ELSE s.%[1]s END", name,
			warehouse.StageUnknown, i+1))
	}
	for i, k := range m.t.Key {
		base = append(base, fmt.Sprintf("t.%s = s.%s", m.col(k), warehouse.StageBase(i)))
	}
	from := m.target()
	switch m.t.Keep {
	case feed.KeepHistory:
		base = append(base, "t."+m.added(warehouse.Current))
	case feed.KeepSoftDelete:
		if m.t.Filters { // what a row was before the filter left it out is not what it is when it comes back
			base = append(base, "(t."+m.added(warehouse.DeletedAt)+" IS NULL OR s."+warehouse.StageGone+")")
		}
	case feed.KeepLedger:
		if m.t.Filters {
			base = append(base, "t."+m.added(warehouse.Changed)+" <> 'delete'")
		}
		var keys, bases []string
		for i, k := range m.t.Key {
			keys, bases = append(keys, "l."+m.col(k)), append(bases, "b."+warehouse.StageBase(i))
		}
		var same []string
		for i := range keys {
			same = append(same, keys[i]+" = "+bases[i])
		}
		from = fmt.Sprintf("(SELECT DISTINCT ON (%s) l.* FROM %s AS l WHERE EXISTS (SELECT 1 FROM %s AS b WHERE "+
			"b.%s IS NOT NULL AND %s) ORDER BY %[1]s, l.%[6]s DESC)",
			strings.Join(keys, ", "), m.target(), m.stage, warehouse.StageUnknown, strings.Join(same, " AND "),
			m.added(warehouse.Position))
	}
	if moment := m.added(warehouse.MomentOf(m.t)); m.has.Replays > 0 && m.t.Keep == feed.KeepLedger {
		base = append(base, "s."+moment+" > "+instant(m.has.Replays)) // the last event of its key is not the one before it
	} else if m.has.Replays > 0 { // else it is another row, that has taken the key since
		base = append(base, "t."+moment+" < s."+moment)
	}
	m.step(None, "UPDATE %s AS s SET %s, %s = NULL FROM %s AS t WHERE s.%[3]s IS NOT NULL AND %[5]s", m.stage,
		strings.Join(sets, ", "), warehouse.StageUnknown, from, strings.Join(base, " AND "))
	m.ask(Baseless, "SELECT count(*) FROM %s WHERE %s IS NOT NULL", m.stage, warehouse.StageUnknown)
}

// latest leaves one row of each key: as it is now, or, for soft-delete, as it last was.
func (m *merge) latest() {
	if warehouse.NumbersRows(m.t) {
		m.foldByKey()
	}
	if m.t.Keep == feed.KeepLatest {
		if m.has.Gone {
			m.step(Deleted, "DELETE FROM %s AS t USING %s AS s WHERE s.%s AND %s", m.target(), m.stage,
				warehouse.StageGone, m.match())
		}
		stays := "true"
		if warehouse.Ends(m.t) {
			stays = "NOT s." + warehouse.StageGone
		}
		m.put(stays, Rewritten, Updated, Inserted)
		return
	}
	if m.has.Gone {
		at, changed, run := m.added(warehouse.DeletedAt), m.added(warehouse.ChangedAt), m.added(warehouse.Run)
		m.step(Deleted, "UPDATE %s AS t SET %s = s.%[2]s, %[3]s = s.%[3]s, %[4]s = s.%[4]s FROM %[5]s AS s WHERE "+
			"s.%[6]s AND %[7]s AND t.%[2]s IS NULL",
			m.target(), at, changed, run, m.stage, warehouse.StageKeyOnly, m.match())
		m.put("s."+warehouse.StageGone+" AND NOT s."+warehouse.StageKeyOnly, None, Deleted, Deleted)
	}
	m.put("NOT s."+warehouse.StageGone, Rewritten, Updated, Inserted)
}

// put writes the rows of the stage that meet a condition over those of their key.
func (m *merge) put(condition string, rewritten, updated, inserted Counter) {
	all := names(m.t.All())
	if m.has.Empty {
		m.step(inserted, "INSERT INTO %s (%s) SELECT %s FROM %s AS s WHERE %s", m.target(), all,
			schema.QuoteAll("s.", columnNames(m.t.All())), m.stage, condition)
		return
	}
	if m.Rewrite {
		m.step(rewritten, "DELETE FROM %s AS t USING %s AS s WHERE %s AND %s AND (%s)", m.target(), m.stage, condition,
			m.match(), m.differ())
	} else {
		var sets []string
		for _, c := range m.t.All() {
			sets = append(sets, m.col(c.Name)+" = s."+m.col(c.Name))
		}
		m.step(updated, "UPDATE %s AS t SET %s FROM %s AS s WHERE %s AND %s AND (%s)", m.target(),
			strings.Join(sets, ", "), m.stage, condition, m.match(), m.differ())
	}
	m.step(inserted, "INSERT INTO %s (%s) SELECT %s FROM %s AS s WHERE %s AND NOT EXISTS (SELECT 1 FROM %[1]s AS t "+
		"WHERE %[6]s)",
		m.target(), all, schema.QuoteAll("s.", columnNames(m.t.All())), m.stage, condition, m.match())
	if !m.Rewrite {
		m.last().When = Unless
	}
}

// foldByKey leaves the last row of each key in the stage.
func (m *merge) foldByKey() {
	m.step(Folded, "DELETE FROM %s AS s USING (SELECT %s, max(%s) AS last FROM %[1]s GROUP BY %[2]s) AS l WHERE "+
		"%[4]s AND s.%[3]s < l.last",
		m.stage, schema.QuoteAll("", m.t.Key), warehouse.StageRow, equal(m.t.Key, "s", "l"))
}

// differ is true where a row of the stage differs from the target's.
func (m *merge) differ() string {
	var differ []string
	for _, c := range m.t.Values() {
		if slices.Contains(m.t.Key, c.Name) && len(m.t.Key) < len(m.t.Values()) && !mayVary(c.Type) {
			continue // rows are matched by it
		}
		differ = append(differ, m.Distinct(c.Type, "t."+m.col(c.Name), "s."+m.col(c.Name)))
	}
	if m.t.Keep == feed.KeepSoftDelete {
		at := m.added(warehouse.DeletedAt)
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

// dropReplayed takes the changes out of the stage that were merged before. A row, or a version of it, that came with a
// change or after it shows it; a ledger has all events of a transaction or none, and what this run has written is of none
// that came before.
func (m *merge) dropReplayed(run int64) {
	moment := m.added(warehouse.MomentOf(m.t))
	switch m.t.Keep {
	case feed.KeepLedger:
		m.step(None, "DELETE FROM %s WHERE left(%s, -%d) IN (SELECT left(t.%[2]s, -%[3]d) FROM %[4]s AS t WHERE t.%[5]s <> %[6]d)",
			m.stage, m.added(warehouse.Position), change.SeqWidth, m.target(), m.added(warehouse.Run), run)
	case feed.KeepHistory:
		m.step(None, "DELETE FROM %s AS s USING %s AS t WHERE %s AND (t.%s >= s.%[4]s OR t.%[5]s >= s.%[4]s)",
			m.stage, m.target(), m.match(), moment, m.added(warehouse.Until))
	default:
		m.step(None, "DELETE FROM %s AS s USING %s AS t WHERE %s AND t.%s >= s.%[4]s", m.stage, m.target(), m.match(), moment)
	}
}

// appendEvents adds the events of a log that the ledger lacks.
func (m *merge) appendEvents() {
	m.step(Inserted, "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", m.target(), names(m.t.All()), m.stage)
}

// appendNew adds the rows of the stage that the ledger lacks. Rows are matched as a
// whole and counted, so that two rows alike in every value are both kept, and a
// stretch that is read again adds nothing. Only the ledger's rows between the
// stage's lowest and highest watermark can match.
func (m *merge) appendNew(run int64) string {
	var list, back []string
	for _, c := range m.t.All() {
		if c.Name == m.t.Called(warehouse.Run) {
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
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (SELECT %s FROM %s EXCEPT ALL SELECT %[4]s FROM %[1]s "+
		"WHERE %[6]s >= (SELECT min(%[6]s) FROM %[5]s) AND %[6]s <= (SELECT max(%[6]s) FROM %[5]s)) AS fresh",
		m.target(), names(m.t.All()), strings.Join(back, ", "), strings.Join(list, ", "), m.stage, w)
}

// Truncate empties a target as its keep asks, at a moment.
func (d Dialect) Truncate(t warehouse.Target, moment int64, h warehouse.Has) []Step {
	m, at := merge{Dialect: d, t: t}, instant(moment)
	before := "true"
	if h.Replays > 0 { // what is younger has come since
		before = m.added(warehouse.MomentOf(t)) + " < " + at
	}
	switch t.Keep {
	case feed.KeepSoftDelete:
		m.step(Removed, "UPDATE %s SET %s = %s, %s = %[3]s WHERE %[2]s IS NULL AND %[5]s", m.target(),
			m.col(t.Called(warehouse.DeletedAt)), at, m.col(t.Called(warehouse.ChangedAt)), before)
	case feed.KeepHistory:
		if h.Continues {
			m.step(None, "DELETE FROM %s WHERE %s AND %s = %s", m.target(), m.col(t.Called(warehouse.Current)),
				m.col(t.Called(warehouse.From)), at)
		}
		m.step(Removed, "UPDATE %s SET %s = %s, %s = false WHERE %[4]s AND %[5]s", m.target(),
			m.col(t.Called(warehouse.Until)), at, m.col(t.Called(warehouse.Current)), before)
	case feed.KeepLatest:
		m.step(Removed, "DELETE FROM %s WHERE %s", m.target(), before)
	}
	return m.steps
}

// SameRows counts the rows of a target, and those of them that a stage has, too: in every
// value, and as often.
func (d Dialect) SameRows(t warehouse.Target, stage string) string {
	var list []string
	for _, c := range t.Values() {
		name := schema.Quote(c.Name)
		if d.NoEquals(c.Type) || mayVary(c.Type) { // equal would not mean the same
			name = "CAST(" + name + " AS VARCHAR)"
		}
		list = append(list, name)
	}
	columns := strings.Join(list, ", ")
	return fmt.Sprintf("SELECT (SELECT count(*) FROM %s), (SELECT count(*) FROM (SELECT %s FROM %[1]s INTERSECT ALL "+
		"SELECT %[2]s FROM %[3]s) AS same)", t.Name.Quoted(), columns, stage)
}

// Sweep puts a row that ends its key into the stage for each key that holds in the
// target and is not among the keys of another table.
func (d Dialect) Sweep(t warehouse.Target, keys string, moment, run int64) string {
	at := instant(moment)
	columns := append([]string{}, t.Key...)
	values := make([]string, len(t.Key))
	for i, k := range t.Key {
		values[i] = "t." + schema.Quote(k)
	}
	set := func(column, value string) { columns, values = append(columns, column), append(values, value) }
	switch t.Keep {
	case feed.KeepSoftDelete:
		set(t.Called(warehouse.DeletedAt), at)
		set(t.Called(warehouse.ChangedAt), at)
	case feed.KeepHistory:
		set(t.Called(warehouse.From), at)
	}
	set(t.Called(warehouse.Run), fmt.Sprint(run))
	set(warehouse.StageGone, "true")
	set(warehouse.StageKeyOnly, "true")
	set(warehouse.StageOrder, fmt.Sprint(fold.FirstOfKey))
	holds := ""
	if h := Holds(t); h != "" {
		holds = " AND t." + h
	}
	return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s AS t WHERE NOT EXISTS (SELECT 1 FROM %s AS k WHERE %s)%s",
		StageName(t), schema.QuoteAll("", columns), strings.Join(values, ", "), t.Name.Quoted(), keys,
		equal(t.Key, "t", "k"), holds)
}

// Fill gives rows that hold the values of columns that another table has for their keys, where they differ.
func (d Dialect) Fill(t warehouse.Target, from string, columns []schema.Column) string {
	var set, differ []string
	for _, c := range columns {
		name := schema.Quote(c.Name)
		set = append(set, name+" = k."+name)
		if a, b := "t."+name, "k."+name; d.NoEquals(c.Type) || mayVary(c.Type) { // equal would not mean the same
			differ = append(differ, "CAST("+a+" AS VARCHAR) IS DISTINCT FROM CAST("+b+" AS VARCHAR)")
		} else {
			differ = append(differ, a+" IS DISTINCT FROM "+b)
		}
	}
	holds := ""
	if h := Holds(t); h != "" {
		holds = " AND t." + h
	}
	return fmt.Sprintf("UPDATE %s AS t SET %s FROM %s AS k WHERE %s AND (%s)%s", t.Name.Quoted(), strings.Join(set, ", "),
		from, equal(t.Key, "t", "k"), strings.Join(differ, " OR "), holds)
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

// instant is a moment as a literal.
func instant(moment int64) string {
	return schema.Literal(schema.TimestampTZText(moment)) + "::timestamptz"
}
