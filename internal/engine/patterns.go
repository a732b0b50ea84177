package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"noemata/internal/core/drift"
	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// Choices lists the tables of a source that the patterns of a feed can stand for, and the views,
// which need their exact names. Where it has no pattern, the source is not asked.
func Choices(ctx context.Context, file *feed.Feed, src source.Source) (names, views []schema.Name, err error) {
	if !file.HasPatterns() {
		return nil, nil, nil
	}
	tables, err := src.Tables(ctx)
	for _, t := range tables {
		if t.View {
			views = append(views, t.Name)
		} else {
			names = append(names, t.Name)
		}
	}
	return names, views, err
}

// Chosen tells which tables a feed's patterns stand for now, and notes those that came and went
// since they stood for others. A table whose target is another's, of this feed or, by taken, of
// others, is not brought. One that has gone stays in the feed, where it is in nobody's way but its
// own, unless the feed follows such changes.
func Chosen(ctx context.Context, file *feed.Feed, before []schema.Name, others func() (map[schema.Name]string, error), run int64,
	src source.Source, wh warehouse.Warehouse) ([]schema.Name, error) {
	choices, _, err := Choices(ctx, file, src)
	if err != nil {
		return nil, err
	}
	if slices.Equal(file.Picks(choices), before) {
		return before, nil
	}
	taken, err := others()
	if err != nil {
		return nil, err
	}
	told, err := wh.Journal().Drifts(ctx, file.Name, mostTold)
	if err != nil {
		return nil, err
	}
	var entries []warehouse.Entry
	note := func(table, what, done string) { // once: what is not brought is met by each run
		if !slices.ContainsFunc(told, func(d drift.Drift) bool { return d.What == what && d.Done == done }) {
			entries = append(entries, warehouse.Drifted{Entry: drift.Drift{Table: table, Kind: drift.Tables, Run: run,
				What: what, Done: done}})
		}
	}
	was, _ := file.Resolve(before)
	is, _ := file.Resolve(choices)
	names := wh.Names()
	all := map[schema.Name]string{}
	for target, by := range taken {
		all[names.KeyOf(target)] = by
	}
	taken = all
	for _, t := range was.Tables {
		if target, err := was.TargetOf(t); err == nil {
			taken[names.KeyOf(target)] = t.Table
		}
	}
	var now []schema.Name
	for _, name := range file.Picks(choices) {
		t, _ := is.Table(name.Display())
		if _, known := was.Table(t.Table); !known {
			target, err := is.TargetOf(t)
			if err != nil {
				return nil, err // the pattern was checked
			}
			if other, is := taken[names.KeyOf(target)]; is {
				note(t.Table, fmt.Sprintf("The table %s is new, and its target %s is that of %s.", t.Table,
					target.Display(), other), "Held: it is not brought. Give the feed a target with {schema} and {table}.")
				continue
			}
			taken[names.KeyOf(target)] = t.Table
			note(t.Table, fmt.Sprintf("The table %s is new, and the feed's pattern stands for it.", t.Table),
				"Followed: it is brought from now on.")
		}
		now = append(now, name)
	}
	for _, t := range was.Tables {
		if _, still := is.Table(t.Table); still {
			continue
		}
		if file.Policy(t, drift.Tables) == drift.Follow {
			note(t.Table, fmt.Sprintf("The table %s is gone at the source.", t.Table),
				"Followed: the feed has it no more, and its target stays as it is.")
			continue
		}
		if name, err := schema.ParseName(t.Table); err == nil {
			now = append(now, name)
		}
	}
	return now, wh.Journal().Note(ctx, file.Name, entries...)
}

// mostTold is how many drifts are looked through for one that was told before.
const mostTold = 500

// CheckPatterns tells what the patterns of a feed stand for.
func CheckPatterns(file *feed.Feed, tables, views []schema.Name) []problem.Finding {
	resolved, found := file.Resolve(tables)
	_, viewed := file.Resolve(views)
	var findings []problem.Finding
	for i, m := range found {
		f := problem.Finding{Level: problem.Note, Table: m.Pattern}
		switch {
		case len(m.Tables) == 0:
			f.Level, f.What = problem.Warning, "The pattern stands for no table now; those to come are brought."
			f.Remedy = "Check it, upper and lower case included. Views and foreign tables need their exact names."
		default:
			f.What = fmt.Sprintf("The pattern stands for %s: %s.", words.Plural(int64(len(m.Tables)), "table"),
				displayed(m.Tables))
		}
		if len(m.Except) > 0 {
			f.What += fmt.Sprintf(" It leaves out %s.", displayed(m.Except))
		}
		if left := viewed[i].Tables; len(left) > 0 {
			f.What += fmt.Sprintf(" Views and foreign tables are brought by their exact names only: not %s.",
				displayed(left))
		}
		findings = append(findings, f)
	}
	for _, fault := range resolved.Clashes() {
		findings = append(findings, problem.Finding{Level: problem.Blocker, Table: fault.Path, What: fault.Message,
			Remedy: "Give the feed a target with {schema} and {table}, or one of the tables another target."})
	}
	return findings
}

func displayed(names []schema.Name) string {
	texts := make([]string, len(names))
	for i, name := range names {
		texts[i] = name.Display()
	}
	return strings.Join(texts, ", ")
}
