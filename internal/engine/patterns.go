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
	"noemata/internal/source"
	"noemata/internal/warehouse"
)

// Choices lists the tables of a source that patterns can stand for: those that are no views.
func Choices(ctx context.Context, src source.Source) ([]schema.Name, error) {
	tables, err := src.Tables(ctx)
	var names []schema.Name
	for _, t := range tables {
		if !t.View {
			names = append(names, t.Name)
		}
	}
	return names, err
}

// Chosen tells which tables a feed's patterns stand for now, and notes those that came and went
// since they stood for others. A table that has gone stays in the feed, where it is in nobody's
// way but its own, unless the feed follows such changes.
func Chosen(ctx context.Context, file *feed.Feed, before []schema.Name, run int64, src source.Source,
	wh warehouse.Warehouse) ([]schema.Name, error) {
	now, err := Choices(ctx, src)
	if err != nil {
		return nil, err
	}
	was, _ := file.Resolve(before)
	is, _ := file.Resolve(now)
	var entries []warehouse.Entry
	note := func(table, what, done string) {
		entries = append(entries, warehouse.Drifted{Entry: drift.Drift{Table: table, Kind: drift.Tables, Run: run,
			What: what,
			Done: done}})
	}
	for _, t := range is.Tables {
		if _, known := was.Table(t.Table); !known && len(before) > 0 {
			note(t.Table, fmt.Sprintf("The table %s is new, and the feed's pattern stands for it.", t.Table),
				"Followed: it is brought from now on.")
		}
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
		if name, err := schema.ParseName(t.Table); err == nil && !slices.Contains(now, name) {
			now = append(now, name)
		}
	}
	if len(entries) > 0 {
		err = wh.Journal().Note(ctx, file.Name, entries...)
	}
	return now, err
}

// CheckPatterns tells what the patterns of a feed stand for.
func CheckPatterns(file *feed.Feed, tables []schema.Name) []problem.Finding {
	resolved, found := file.Resolve(tables)
	var findings []problem.Finding
	for _, m := range found {
		f := problem.Finding{Level: problem.Note, Table: m.Pattern}
		switch {
		case len(m.Tables) == 0:
			f.Level, f.What = problem.Warning, "The pattern stands for no table now; those to come are brought."
			f.Remedy = "Check it, upper and lower case included. Views and foreign tables need their exact names."
		default:
			f.What = fmt.Sprintf("The pattern stands for %s: %s.", plural(int64(len(m.Tables)), "table"),
				strings.Join(m.Tables, ", "))
		}
		if len(m.Except) > 0 {
			f.What += fmt.Sprintf(" It leaves out %s.", strings.Join(m.Except, ", "))
		}
		findings = append(findings, f)
	}
	for _, fault := range resolved.Clashes() {
		findings = append(findings, problem.Finding{Level: problem.Blocker, Table: fault.Path, What: fault.Message,
			Remedy: "Give the feed a target with {schema} and {table}, or one of the tables another target."})
	}
	return findings
}
