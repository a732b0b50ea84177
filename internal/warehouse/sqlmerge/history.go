package sqlmerge

import (
	"fmt"

	"noemata/internal/core/fold"
	"noemata/internal/core/schema"
	"noemata/internal/warehouse"
)

// A history is merged in one of three ways; testdata/history shows the statements of each.

// history closes the versions that have ended and adds the new ones.
func (m *merge) history() {
	switch {
	case !m.t.Log:
		m.historyByWatermark()
	case m.has.Replays > 0 || m.has.Continues || m.has.Chains:
		m.historyOfChains()
	default:
		m.historyOfSingles()
	}
}

// historyByWatermark merges rows as they were found: one of each key, in the form that it
// has now.
func (m *merge) historyByWatermark() {
	from, until := m.added(warehouse.From), m.added(warehouse.Until)
	if warehouse.NumbersRows(m.t) {
		m.foldByKey()
	}
	// A watermark may be as it was although the row has changed, or lie before the end
	// of what was there: a version begins where the last one ends, or after it.
	m.step(None, "UPDATE %s AS s SET %s = t.%[2]s + INTERVAL '1 microsecond' FROM %[3]s AS t"+
		" WHERE %[4]s AND t.%[5]s AND s.%[2]s <= t.%[2]s AND (s.%[6]s OR %[7]s)",
		m.stage, from, m.target(), m.match(), m.added(warehouse.Current), warehouse.StageGone, m.differ())
	m.step(None, "UPDATE %s AS s SET %s = l.ended FROM"+
		" (SELECT %s, max(%s) AS ended FROM %s WHERE %[4]s IS NOT NULL GROUP BY %[3]s) AS l WHERE %[6]s AND s.%[2]s "+
		"< l.ended",
		m.stage, from, schema.QuoteAll("", m.t.Key), until, m.target(), equal(m.t.Key, "l", "s"))
	m.dropUnchanged()
	m.closeFirst()
	m.insertVersions()
}

// historyOfSingles merges one change of each key: what differs closes the current version,
// and whatever has no current version then begins one.
func (m *merge) historyOfSingles() {
	if m.has.Gone {
		m.close(Deleted, "s."+warehouse.StageGone)
	}
	m.close(Rewritten, "NOT s."+warehouse.StageGone+" AND ("+m.differ()+")")
	m.step(Inserted, "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s", m.target(), names(m.t.All()), m.stage)
	m.last().When = Only
	m.step(Inserted, "INSERT INTO %s (%s) SELECT %s FROM %s AS s WHERE NOT s.%s"+
		" AND NOT EXISTS (SELECT 1 FROM %[1]s AS t WHERE %[6]s AND t.%[7]s)",
		m.target(), names(m.t.All()), schema.QuoteAll("s.", columnNames(m.t.All())), m.stage, warehouse.StageGone,
		m.match(), m.added(warehouse.Current))
	m.last().When = Unless
}

// historyOfChains merges several changes of a key, also those of a transaction whose first
// part was merged before, and changes that may have been merged before.
func (m *merge) historyOfChains() {
	from, until, current := m.added(warehouse.From), m.added(warehouse.Until), m.added(warehouse.Current)
	if m.has.Continues {
		// What the first part of the transaction made is made again, and what it ended goes
		// on if it comes back unchanged: a transaction makes one version at most.
		m.step(None, "DELETE FROM %s AS t USING %s AS s WHERE %s AND t.%s AND t.%s = s.%[5]s",
			m.target(), m.stage, m.match(), current, from)
		m.step(None, "UPDATE %s AS t SET %s = NULL, %s = true FROM %s AS s"+
			" WHERE %s AND s.%s = %d AND NOT s.%s AND t.%[2]s = s.%[9]s AND NOT (%[10]s)",
			m.target(), until, current, m.stage, m.match(), warehouse.StageOrder, fold.FirstOfKey, warehouse.StageGone,
			from, m.differ())
	}
	m.dropUnchanged()
	if m.has.Chains {
		m.step(None, "UPDATE %s AS s SET %s = %d FROM (SELECT %s, min(%s) AS first FROM %[1]s GROUP BY %[4]s) AS f"+
			" WHERE %[6]s AND s.%[5]s = f.first AND s.%[2]s <> %[3]d",
			m.stage, warehouse.StageOrder, fold.FirstOfKey, schema.QuoteAll("", m.t.Key), from, equal(m.t.Key, "f",
				"s"))
		m.ask(Deleted, "SELECT count(*) FROM %s WHERE %s AND %s <> %d",
			m.stage, warehouse.StageGone, warehouse.StageOrder, fold.FirstOfKey)
		m.ask(Rewritten, "SELECT count(*) FROM %s WHERE NOT %s AND %s = %d",
			m.stage, warehouse.StageGone, warehouse.StageOrder, fold.AfterRow)
	}
	m.closeFirst()
	m.insertVersions()
}

// dropUnchanged takes the first rows of their key out of the stage that are as the current
// version is.
func (m *merge) dropUnchanged() {
	m.step(None, "DELETE FROM %s AS s USING %s AS t WHERE %s AND t.%s AND s.%s = %d AND NOT s.%s AND NOT (%s)",
		m.stage, m.target(), m.match(), m.added(warehouse.Current), warehouse.StageOrder, fold.FirstOfKey,
		warehouse.StageGone, m.differ())
}

// closeFirst closes the current versions by the first row of their key.
func (m *merge) closeFirst() {
	first := fmt.Sprintf("s.%s = %d AND ", warehouse.StageOrder, fold.FirstOfKey)
	if m.has.Gone {
		m.close(Deleted, first+"s."+warehouse.StageGone)
	}
	m.close(Rewritten, first+"NOT s."+warehouse.StageGone)
}

// close ends the current versions of the keys whose rows in the stage meet a condition.
func (m *merge) close(counter Counter, condition string) {
	m.step(counter, "UPDATE %s AS t SET %s = s.%s, %s = false FROM %s AS s WHERE %s AND t.%[4]s AND %[7]s",
		m.target(), m.added(warehouse.Until), m.added(warehouse.From), m.added(warehouse.Current), m.stage, m.match(),
		condition)
}

// insertVersions adds the versions of the stage.
func (m *merge) insertVersions() {
	m.step(Inserted, "INSERT INTO %s (%s) SELECT %[2]s FROM %[3]s WHERE NOT %[4]s",
		m.target(), names(m.t.All()), m.stage, warehouse.StageGone)
}
