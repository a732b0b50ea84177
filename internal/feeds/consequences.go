package feeds

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
)

// consequences tells, in words and rows, what a file changes for rows that came before it.
func (r *Rules) consequences(ctx context.Context, old *feed.Feed, found []schema.Name,
	now *feed.Feed) []problem.Finding {
	if old == nil {
		return nil
	}
	was, _ := old.Resolve(found)
	has := map[string]string{} // by table: how many rows there are
	if status, err := r.Feed(ctx, old.Name); err == nil {
		for _, t := range status.Tables {
			if t.Rows != nil {
				has[t.Table] = fmt.Sprintf(" (%d rows)", *t.Rows)
				if *t.Rows == 1 {
					has[t.Table] = " (1 row)"
				}
			}
		}
	}
	c := change{was: was, now: now}
	if old.Warehouse != now.Warehouse {
		c.say(problem.Note, "", "The feed moves to the warehouse %s: all rows of its tables are brought there, or what came there "+
			"before is brought up to date. What it has brought to %s stays there as it is.", now.Warehouse, old.Warehouse)
		return c.findings
	}
	if old.Source != now.Source {
		c.say(problem.Warning, "If it is another database, have them read from the beginning: noemata positions clear "+
			problem.Word(now.Name), "The feed reads from %s, no more from %s. If that is another database, tables that follow the log "+
			"are copied again, and those by watermark go on from where they stand.", now.Source, old.Source)
	}
	for _, t := range now.Tables {
		c.table = t.Table
		before, known := was.Table(t.Table)
		if c.rows = has[t.Table]; known {
			c.compare(before, t)
		} else {
			c.say(problem.Note, "", "New in the feed: its first run brings all of its rows.")
		}
	}
	for _, t := range was.Tables {
		if _, still := now.Table(t.Table); !still {
			target, _ := was.TargetOf(t) // the feed was checked
			c.table = t.Table
			c.say(problem.Note, "", "It leaves the feed. Its target %s%s stays as it is.", target.Display(),
				has[t.Table])
		}
	}
	return c.findings
}

// change is what becomes of one table after the other.
type change struct {
	was, now *feed.Feed
	table    string
	rows     string // how many there are, for a sentence; empty where that is not known
	findings []problem.Finding
}

func (c *change) say(level problem.Level, remedy, what string, args ...any) {
	c.findings = append(c.findings, problem.Finding{Level: level, Table: c.table, What: fmt.Sprintf(what, args...),
		Remedy: remedy})
}

// compare tells what follows for a table. Tables that are read whole, or compared, see all rows anyway.
func (c *change) compare(before, t feed.Table) {
	from, _ := c.was.TargetOf(before) // both were checked
	to, _ := c.now.TargetOf(t)
	if from != to {
		c.say(problem.Note, "", "Its target is %s: all rows are brought there if there is no such table, else it is "+
			"held. %s%s stays as it is.", to.Display(), from.Display(), c.rows)
	}
	if before.Find != t.Find {
		c.say(problem.Note, "", "Its changes are found by %s, no more by %s: all rows%s are read again.", t.Find,
			before.Find, c.rows)
	}
	if before.Keep != t.Keep && from == to {
		along := []feed.Keep{feed.KeepLatest, feed.KeepSoftDelete, feed.KeepHistory}
		if slices.Contains(along, before.Keep) && slices.Contains(along, t.Keep) {
			c.say(problem.Note, "", "It is kept as %s: what is there%s is taken along, and what %s does not have is "+
				"dropped.", t.Keep, c.rows, t.Keep)
		} else {
			c.say(problem.Warning, "Give it another target.", "It is kept as %s, and what is there as %s cannot be "+
				"taken along: it is held.", t.Keep, before.Keep)
		}
	}
	again := before.Find == t.Find && (t.Find == feed.FindLog || t.Find == feed.FindWatermark)
	if again && !slices.Equal(before.Key, t.Key) {
		c.again(t, t.Find == feed.FindLog && c.now.Policy(t, drift.Keys) == drift.Follow,
			"Its rows are named by another key")
	}
	more, fewer := columnsOf(before, t)
	switch names := strings.Join(more, ", "); {
	case again && differs(before, t):
		c.again(t, t.Find == feed.FindLog, "What the feed makes of its rows changes")
	case again && len(more) > 0 && t.Keep == feed.KeepLedger && t.Find == feed.FindWatermark:
		c.say(problem.Note, "", "%s is brought from now on: rows of before%s stay as they came.", names, c.rows)
	case again && len(more) > 0 && t.Keep != feed.KeepLedger:
		c.say(problem.Note, "", "%s is brought from now on: its next run gives the rows of before%s their values by "+
			"key, as far as the source has them still; a table without a unique key is read again.", names, c.rows)
	case again && len(more) > 0:
		c.again(t, true, names+" is brought from now on")
	}
	if len(fewer) > 0 {
		c.say(problem.Note, "", "%s is brought no more: the target keeps it with the values of before.",
			strings.Join(fewer, ", "))
	}
}

// again tells that rows of before lack something, and what brings it.
func (c *change) again(t feed.Table, itself bool, why string) {
	command := "noemata positions clear"
	if t.Find == feed.FindLog {
		command = "noemata feeds copy"
	}
	command += " " + problem.Word(c.now.Name)
	if t.Find == feed.FindLog {
		command += " --table"
	}
	switch command += " " + problem.Word(t.Table); {
	case itself && t.Find == feed.FindLog:
		c.say(problem.Note, "", "%s: its next run copies the table%s again. A history keeps its past.", why, c.rows)
	case itself:
		c.say(problem.Note, "", "%s: its next run reads all rows%s again.", why, c.rows)
	default:
		c.say(problem.Warning, command, "%s: the table is held until its rows%s are read again.", why, c.rows)
	}
}

// differs tells whether rows of before are others, or have other values in columns that were brought.
func differs(before, t feed.Table) bool {
	if before.Where != t.Where {
		return true
	}
	for name, x := range t.Computed {
		if was, computed := before.Computed[name]; computed && was != x {
			return true
		}
	}
	named := maps.Clone(t.Columns)
	if named == nil {
		named = map[string]feed.Treatment{}
	}
	maps.Copy(named, before.Columns)
	for name := range named {
		if !before.Dropped(name) && !t.Dropped(name) && !reflect.DeepEqual(before.Columns[name], t.Columns[name]) {
			return true
		}
	}
	return false
}

// columnsOf lists the columns that a file brings and the one before did not, and those that it brings
// no more, as far as the files name them.
func columnsOf(before, t feed.Table) (more, fewer []string) {
	var named []string
	for _, x := range []feed.Table{before, t} {
		named = slices.Concat(named, x.Drop, x.Only)
		for name := range x.Columns {
			named = append(named, name)
		}
	}
	slices.Sort(named)
	for _, name := range slices.Compact(named) {
		switch {
		case before.Dropped(name) && !t.Dropped(name):
			more = append(more, name)
		case !before.Dropped(name) && t.Dropped(name):
			fewer = append(fewer, name)
		}
	}
	for name := range t.Computed {
		if _, computed := before.Computed[name]; !computed {
			more = append(more, name)
		}
	}
	for name := range before.Computed {
		if _, computed := t.Computed[name]; !computed {
			fewer = append(fewer, name)
		}
	}
	slices.Sort(more)
	slices.Sort(fewer)
	return more, fewer
}
