package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/derive"
	"noemata/internal/core/words"
)

// Longer than a screen: it is a list of commands.
func (a *app) derivedCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List sets of derived tables", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.DerivedSets(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "set", "state", "warehouse", "owner", "labels", " tables", " not as their file has them", "made last")
				for _, s := range x {
					troubled, last := 0, (*time.Time)(nil)
					for _, t := range s.Tables {
						if t.Problem != nil {
							troubled++
						}
						if t.MadeAt != nil && (last == nil || t.MadeAt.After(*last)) {
							last = t.MadeAt
						}
					}
					g.AppendRow(table.Row{s.Name, s.State, s.Warehouse, ownerOf(s.Belongs), labelsOf(s.Labels), len(s.Tables), troubled,
						when(last)})
				}
				g.Render()
			})
		})}
	show := &cobra.Command{Use: "show SET", Short: "Show the tables of a set: what they read, and how they are doing",
		Args: exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			s, err := c.DerivedSet(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, s, func(w io.Writer) { showDerived(w, s) })
		})}
	export := &cobra.Command{Use: "export SET", Short: "Print a set of derived tables as its file", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			file, err := c.ExportDerived(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, map[string]string{"file": file}, func(w io.Writer) { _, _ = io.WriteString(w, file) })
		})}
	var drop bool
	remove := &cobra.Command{Use: "remove SET", Short: "Remove a set; its tables stay in the warehouse, unless they are dropped",
		Args: exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.RemoveDerived(ctx, args[0], drop); err != nil {
				return err
			}
			what := "Its tables are in the warehouse as they were, and are not made again."
			if drop {
				what = "Its tables are dropped."
			}
			return a.say(cmd, map[string]any{"removed": args[0], "dropped": drop}, "The derived tables %s are removed. %s", args[0],
				what)
		})}
	remove.Flags().BoolVar(&drop, "drop", false, "drop its tables, too")
	gone := &cobra.Command{Use: "drop WAREHOUSE TABLE", Short: "Drop a derived table that no set has any more", Args: exactly(2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.DropDerived(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"dropped": args[1]}, "The table %s is dropped.", args[1])
		})}
	stop := &cobra.Command{Use: "stop MAKING", Short: "Stop the making of a table, which stays as it was", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is no number of a making; noemata derived makings lists them", args[0])}
			}
			if err := c.StopDerivation(ctx, id); err != nil {
				return err
			}
			return a.say(cmd, map[string]int64{"stopping": id}, "The making %d is being stopped.", id)
		})}
	return group("derived", "Derived tables: what SQL makes in a warehouse of the tables that feeds keep there",
		a.derivedFileCommand("apply", "Make or change a set of derived tables as its file has it; - reads standard input",
			client.Apply),
		a.derivedFileCommand("check", "Tell what a file of derived tables would change and what stands in its way; nothing is "+
			"changed", client.Check),
		a.derivedFileCommand("diff", "Tell what a file of derived tables would change; nothing is changed", client.Compare),
		export, list, show, a.makeCommand(), a.makingsCommand(), stop,
		a.derivedState("start", "Let the tables of a set be made on their own", "The derived tables %s are active.",
			(*client.Client).StartDerived),
		a.derivedState("pause", "Have the tables of a set made only when a person asks for it", "The derived tables %s are paused.",
			(*client.Client).PauseDerived), remove, gone)
}

func (a *app) derivedState(verb, short, done string,
	act func(*client.Client, context.Context, string) (client.DerivedSet, error)) *cobra.Command {
	return &cobra.Command{Use: verb + " SET", Short: short, Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			s, err := act(c, ctx, args[0])
			if err != nil {
				return err
			}
			return a.say(cmd, s, done, args[0])
		})}
}

// sqlFiles reads the files that a file of derived tables names, which are beside it.
func sqlFiles(path, file string) (map[string]string, error) {
	files := map[string]string{}
	for _, name := range derive.Files([]byte(file)) {
		if !filepath.IsLocal(name) {
			return nil, usageError{fmt.Errorf("%s names %s for SQL, which is not below its own folder", path, name)}
		}
		content, err := os.ReadFile(filepath.Join(filepath.Dir(path), name))
		if err != nil {
			return nil, usageError{fmt.Errorf("the SQL that %s names cannot be read: %w", path, err)}
		}
		files[name] = string(content)
	}
	return files, nil
}

// derivedFileCommand is `apply`, `check` or `diff`.
func (a *app) derivedFileCommand(verb, short string, mode client.FileMode) *cobra.Command {
	return &cobra.Command{Use: verb + " FILE", Short: short, Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			file, err := readFile(args[0], cmd.InOrStdin())
			if err != nil {
				return err
			}
			files, err := sqlFiles(args[0], file)
			if err != nil {
				return err
			}
			x, err := c.DerivedFile(ctx, file, files, mode)
			if err != nil {
				return err
			}
			blocked := blockers(x.Findings)
			if err := a.show(cmd, x, func(w io.Writer) { showDerivedApplied(w, x, mode, blocked) }); err != nil {
				return err
			}
			if blocked > 0 || mode == client.Compare && (x.New || len(x.Changes) > 0) {
				return errNo
			}
			return nil
		})}
}

func showDerivedApplied(w io.Writer, x client.DerivedApplied, mode client.FileMode, blocked int) {
	showFindings(w, x.Findings)
	if len(x.Order) > 0 && (x.New || len(x.Changes) > 0) {
		_, _ = fmt.Fprintf(w, "The order in which they are made: %s.\n", strings.Join(x.Order, ", "))
	}
	switch {
	case x.New && mode != client.Apply:
		_, _ = fmt.Fprintf(w, "The derived tables %s would be new.\n", x.Set)
	case x.New:
		_, _ = fmt.Fprintf(w, "The derived tables %s are being made; noemata derived show %[1]s tells how they are doing.\n", x.Set)
	case len(x.Changes) == 0:
		_, _ = fmt.Fprintf(w, "The derived tables %s are as the file has them.\n", x.Set)
	default:
		showChanges(w, x.Changes)
		if mode == client.Apply {
			_, _ = fmt.Fprintf(w, "The derived tables %s are changed.\n", x.Set)
		}
	}
	if blocked > 0 {
		_, _ = fmt.Fprintf(w, "%s in the way: apply would refuse it.\n", words.Plural(blocked, "blocker"))
	}
}

func showDerived(w io.Writer, s client.DerivedSet) {
	_, _ = fmt.Fprintf(w, "%s: in %s, %s, applied by %s %s\n\n", s.Name, s.Warehouse, s.State, s.AppliedBy, when(&s.AppliedAt))
	g := grid(w, "table", "is", "state", " rows", "made", "when", " took", "reads")
	for _, t := range s.Tables {
		g.AppendRow(table.Row{t.Table, t.As, t.State, optional(t.Rows), when(t.MadeAt), t.When, seconds(t.Took),
			strings.Join(t.Reads, ", ")})
	}
	g.Render()
	for _, t := range s.Tables {
		if t.Why != "" {
			_, _ = fmt.Fprintf(w, "\n%s: %s.\n", t.Table, t.Why)
		}
		if t.Problem != nil {
			_, _ = fmt.Fprintf(w, "\n%s: %s %s\n", t.Table, t.Problem.What, t.Problem.Remedy)
		}
		for _, c := range t.Checks {
			if !c.Holds {
				_, _ = fmt.Fprintf(w, "\n%s: the check %q finds %s:\n  %s\n", t.Table, c.Check, words.Number(c.Found),
					strings.ReplaceAll(strings.TrimSpace(c.SQL), "\n", "\n  "))
			}
		}
	}
}

func (a *app) makeCommand() *cobra.Command {
	return &cobra.Command{Use: "make SET [TABLE...]", Short: "Make tables of a set now, all or those named, and wait for it",
		Args: between(1, anyAbove), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			list, err := c.MakeDerived(ctx, args[0], args[1:]...)
			if err != nil {
				return err
			}
			failed := false
			for _, d := range list {
				failed = failed || d.State != "done"
			}
			if err := a.show(cmd, list, func(w io.Writer) { ShowMakings(w, list) }); err != nil {
				return err
			}
			if failed {
				return errNo
			}
			return nil
		})}
}

func (a *app) makingsCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{Use: "makings SET [TABLE]", Short: "List when tables of a set were made, the newest first",
		Args: between(1, 2), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			of := ""
			if len(args) == 2 {
				of = args[1]
			}
			list, err := c.Derivations(ctx, args[0], of, limit)
			if err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) { ShowMakings(w, list) })
		})}
	c.Flags().IntVar(&limit, "limit", 50, "how many at most")
	return c
}

// ShowMakings prints when derived tables were made, and what came of it.
func ShowMakings(w io.Writer, list []client.Derivation) {
	g := grid(w, "making", "table", "state", "began", " took", " rows", " inserted", " updated", " deleted", "why")
	for _, d := range list {
		took := "–"
		if d.EndedAt != nil {
			took = duration(d.EndedAt.Sub(d.StartedAt))
		}
		rows := words.Number(d.Rows)
		if d.Rows < 0 {
			rows = "–"
		}
		g.AppendRow(table.Row{d.ID, d.Table, d.State, when(&d.StartedAt), took, rows, words.Number(d.Inserted),
			words.Number(d.Updated), words.Number(d.Deleted), d.Why})
	}
	g.Render()
	for _, d := range list {
		if d.Problem != nil {
			_, _ = fmt.Fprintf(w, "\n%d, %s: %s %s\n", d.ID, d.Table, d.Problem.What, d.Problem.Remedy)
		}
	}
}
