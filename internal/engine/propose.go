package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"noemata/internal/core/feed"
	"noemata/internal/core/problem"
	"noemata/internal/core/propose"
	"noemata/internal/core/rows"
	"noemata/internal/core/schema"
	"noemata/internal/source"
)

// sampled is how many rows of a table are looked at for what is private.
const sampled = 200

// mostProposed is how many tables are proposed at once.
const mostProposed = 5000

// Propose says how tables of a source may be brought. tables are names, or patterns, of which except
// leaves some out; views need their names. What was found on the way is told, too.
func Propose(ctx context.Context, src source.Source, tables, except []string, key string) (
	proposals []propose.Proposal, findings []problem.Finding, err error) {
	names, findings, err := proposed(ctx, src, tables, except)
	if err != nil {
		return nil, nil, err
	}
	facts := make([]propose.Facts, len(names))
	troubles := make([]error, len(names))
	group, working := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for i, name := range names {
		group.Go(problem.Guarded(func() error {
			facts[i], troubles[i] = factsOf(working, src, name)
			if troubles[i] != nil && !problem.OfTable(troubles[i]) {
				return troubles[i]
			}
			return nil
		}))
	}
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	log, ok := src.(source.Log)
	var asked []source.Followed
	for i, f := range facts {
		switch {
		case troubles[i] != nil:
			p := problem.Of(troubles[i])
			findings = append(findings, problem.Finding{Level: problem.Warning, Table: names[i].Display(), What: p.What,
				Remedy: p.Remedy})
		case ok && !f.Table.View && len(f.Table.Key) > 0:
			asked = append(asked, source.Followed{Table: f.Table.WithoutGenerated(), Key: f.Table.Key, Whole: true})
		}
	}
	var refused []problem.Finding
	if len(asked) > 0 {
		if refused, err = log.LogFindings(ctx, asked); err != nil {
			return nil, nil, err
		}
	}
	for i, f := range facts {
		if troubles[i] != nil {
			continue
		}
		name := f.Table.Name.Display()
		why := slices.IndexFunc(refused, func(x problem.Finding) bool {
			return x.Level == problem.Blocker && (x.Table == "" || x.Table == name)
		})
		f.Log = why < 0 && slices.ContainsFunc(asked, func(x source.Followed) bool { return x.Table.Name == f.Table.Name })
		if why >= 0 && !slices.ContainsFunc(findings, func(x problem.Finding) bool { return x.What == refused[why].What }) {
			x := refused[why]
			x.Level = problem.Note
			findings = append(findings, x)
		}
		proposals = append(proposals, propose.Table(f, key))
	}
	return proposals, findings, nil
}

// proposed are the tables that names and patterns stand for.
func proposed(ctx context.Context, src source.Source, tables, except []string) (names []schema.Name,
	findings []problem.Finding, err error) {
	all, err := src.Tables(ctx)
	if err != nil {
		return nil, nil, err
	}
	var f feed.Feed
	for _, t := range tables {
		x := feed.Table{Table: t}
		if x.IsPattern() {
			x.Except = except
		}
		f.Tables = append(f.Tables, x)
	}
	var choices, views []schema.Name
	for _, t := range all {
		if t.View {
			views = append(views, t.Name)
		} else {
			choices = append(choices, t.Name)
		}
	}
	resolved, _ := f.Resolve(choices)
	for _, t := range resolved.Tables {
		name, err := schema.ParseName(t.Table)
		if err != nil {
			return nil, nil, problem.Wrap(err, problem.Invalid, err.Error()+".", "Write tables as public.loans, or patterns "+
				"as public.*.")
		}
		names = append(names, name)
	}
	if viewed, _ := f.Resolve(views); len(f.Tables) > 0 {
		var list []schema.Name
		for _, t := range viewed.Tables {
			if name, err := schema.ParseName(t.Table); err == nil && t.OfPattern() {
				list = append(list, name)
			}
		}
		if len(list) > 0 {
			findings = append(findings, problem.Finding{Level: problem.Note, What: fmt.Sprintf("Views and foreign tables "+
				"are proposed by their names only: not %s.", displayed(list)),
				Remedy: "Name them: --tables " + list[0].Display()})
		}
	}
	switch {
	case len(names) == 0:
		return nil, nil, problem.Newf(problem.Invalid, "Check the names, upper and lower case included: noemata sources "+
			"tables NAME lists them.", "The source has no table that is called %s.", strings.Join(tables, " or "))
	case len(names) > mostProposed:
		return nil, nil, problem.Newf(problem.Invalid, "Propose them by schema, or by narrower patterns.",
			"These are %d tables, and %d are proposed at once.", len(names), mostProposed)
	}
	return names, findings, nil
}

// factsOf looks a table up, and some of its rows.
func factsOf(ctx context.Context, src source.Source, name schema.Name) (f propose.Facts, err error) {
	if f.Table, err = src.Table(ctx, name); err != nil {
		return f, err
	}
	if f.Indexed, err = src.Indexed(ctx, name); err != nil {
		return f, err
	}
	err = src.Read(ctx, source.Query{Table: f.Table, Limit: sampled}, func(b rows.Batch) error {
		defer b.Record.Release()
		f.Sample = append(f.Sample, texts(b.Record, f.Table.Columns)...)
		for _, a := range b.Aside {
			f.Sample = append(f.Sample, a.Values)
		}
		return nil
	})
	return f, err
}
