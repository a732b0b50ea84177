//go:build duckdb_arrow

package lake

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"noemata/internal/core/change"
	"noemata/internal/core/problem"
)

// place is how far a lake was read: every table as of one of its snapshots, named by its sequence number, in which the
// snapshots of a table rise; 0 is before the first. Places sort by their moment, which is the catalogue's clock just
// before it was asked where the tables are; so what was committed before is in them.
type place struct {
	moment time.Time
	tables map[string]int64 // by schema.Name.Display
}

// momentForm has moments of one length, which sort as texts.
const momentForm = "2006-01-02T15:04:05.000000Z"

func (p place) String() string {
	tables, _ := json.Marshal(p.tables) // numbers always marshal
	if p.tables == nil {
		tables = []byte("{}")
	}
	return p.moment.UTC().Format(momentForm) + " " + string(tables)
}

// parse reads a place. Of tables that it does not name, what they were at its moment is meant.
func parse(text string) (place, error) {
	at, tables, _ := strings.Cut(strings.TrimSpace(text), " ")
	p := place{tables: map[string]int64{}}
	var err error
	if p.moment, err = time.Parse(time.RFC3339Nano, at); err == nil && tables != "" {
		err = json.Unmarshal([]byte(tables), &p.tables)
	}
	if year := p.moment.UTC().Year(); err == nil && (year < 1 || year > 9999 || p.tables == nil) {
		err = fmt.Errorf("it is out of range")
	}
	if err != nil {
		return p, problem.Wrap(err, problem.Invalid, fmt.Sprintf("%q is not a place in a lake's log.", text),
			"Write a moment, as 2026-05-01T10:00:00Z: each table is read from the snapshot on that it had then.")
	}
	p.moment = p.moment.UTC().Truncate(time.Microsecond)
	return p, nil
}

// CheckPosition gives a place in its one written form.
func (s *Source) CheckPosition(text string) (string, error) {
	p, err := parse(text)
	return p.String(), err
}

// shownBy is what a copy shows of a table, for Sees.
func shownBy(table string, snapshot int64) string { return fmt.Sprintf("%d %s", snapshot, table) }

// Sees tells whether a snapshot of a table shows what a transaction did: whether the table had come there by it.
func (s *Source) Sees(text string, t change.Txn) bool {
	number, table, _ := strings.Cut(text, " ")
	has, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return false
	}
	p, err := parse(t.Position)
	return err == nil && p.tables[table] <= has
}
