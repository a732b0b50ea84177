package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/words"
	"noemata/internal/httpapi"
)

// Longer than a screen: it is a list of commands.
func (a *app) feedsCommand() *cobra.Command {
	var only client.FeedFilter
	list := &cobra.Command{Use: "list", Short: "List feeds", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.FeedsOf(ctx, only)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "feed", "state", "source", "warehouse", "owner", "labels", "runs", " tables", " failing", "last run")
				for _, f := range x {
					failing := 0
					for _, t := range f.Tables {
						if t.State == "failing" {
							failing++
						}
					}
					last := "never"
					if f.LastRun != nil {
						last = f.LastRun.State + ", " + when(f.LastRun.EndedAt)
					}
					g.AppendRow(table.Row{f.Name, f.State, f.Source, f.Warehouse, ownerOf(f.Belongs), labelsOf(f.Labels), f.Schedule,
						len(f.Tables), failing, last})
				}
				g.Render()
			})
		})}
	onlyThose(list, map[string]*string{"owner": &only.Owner, "team": &only.Team, "label": &only.Label,
		"source": &only.Source, "warehouse": &only.Warehouse, "state": &only.State})
	show := &cobra.Command{Use: "show FEED", Short: "Show a feed's tables", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			f, err := c.Feed(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, f, func(w io.Writer) { showFeed(w, f) })
		})}
	var revision int64
	export := &cobra.Command{Use: "export FEED", Short: "Print a feed as a feed file", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			file, err := exported(ctx, c, args[0], revision)
			if err != nil {
				return err
			}
			return a.show(cmd, map[string]string{"file": file}, func(w io.Writer) { _, _ = io.WriteString(w, file) })
		})}
	export.Flags().Int64Var(&revision, "revision", 0,
		"as the file was then; noemata feeds revisions lists them (as it is)")
	fileSchema := &cobra.Command{Use: "schema", Short: "Print the JSON Schema of feed files, for editors",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			content, err := httpapi.FeedSchema()
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(append(content, '\n'))
			return err
		}}
	start := a.feedAction("start", "Let a feed run on its schedule, from now on", "The feed %s is active.",
		(*client.Client).StartFeed, false)
	pause := a.feedAction("pause", "Keep a feed from running on its schedule; a run that goes on ends as usual",
		"The feed %s is paused.", (*client.Client).PauseFeed, true)
	remove := &cobra.Command{Use: "remove FEED",
		Short: "Remove a feed and its runs; tables and positions in the warehouse stay", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.RemoveFeed(ctx, args[0]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"removed": args[0]},
				"The feed %s is removed. Its tables and positions in the warehouse are as they were.", args[0])
		})}
	var tables []string
	again := &cobra.Command{Use: "copy FEED",
		Short: "Copy tables of a feed that follows the log anew: all, from a new place in the log, or those named",
		Args:  exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			if err := c.CopyAgain(ctx, args[0], tables); err != nil {
				return err
			}
			what := "All tables"
			if len(tables) > 0 {
				what = strings.Join(tables, ", ")
			}
			return a.say(cmd, map[string]any{"feed": args[0], "tables": tables},
				"%s of the feed %s will be copied anew by its next run. Until then the warehouse's tables stay as "+
					"they are.", what, args[0])
		})}
	again.Flags().StringArrayVar(&tables, "table", nil, "only this table; may be given several times")
	return group("feeds", "Feeds: tables of a source that are kept in a warehouse",
		a.applyCommand(), a.fileCommand("check", "Tell what a feed file would change and what stands in its way",
			client.Check), a.fileCommand("diff", "Tell what a feed file would change", client.Compare),
		a.previewCommand(), a.proposeCommand(), export, a.revisionsCommand(), a.revertCommand(), a.mendCommand(),
		a.privilegesCommand(), a.duplicateCommand(), a.moveCommand(), fileSchema, list, show, a.driftsCommand(), start, pause, again, remove)
}

func (a *app) feedAction(verb, short, done string,
	act func(*client.Client, context.Context, string) (client.FeedStatus, error), paused bool) *cobra.Command {
	var tables []string
	c := &cobra.Command{Use: verb + " FEED", Short: short, Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if len(tables) > 0 {
				f, err := c.PauseTables(ctx, args[0], tables, paused)
				if err != nil {
					return err
				}
				return a.say(cmd, f, map[bool]string{true: "%s of the feed %s is paused; its file says so.",
					false: "%s of the feed %s goes on with its next run."}[paused], strings.Join(tables, ", "), args[0])
			}
			f, err := act(c, ctx, args[0])
			if err != nil {
				return err
			}
			return a.say(cmd, f, done, args[0])
		})}
	c.Flags().StringArrayVar(&tables, "table", nil, "only this table; may be given several times")
	return c
}

func showFeed(w io.Writer, f client.FeedStatus) {
	_, _ = fmt.Fprintf(w, "%s: %s → %s, %s, %s\n\n", f.Name, f.Source, f.Warehouse, f.State, f.Schedule)
	if l := f.Log; l != nil {
		_, _ = fmt.Fprintf(w, "At %s in the log of %s, %s behind; the source keeps %s of log for the feed.\n\n",
			orDash(l.Position), f.Source, words.Size(l.Behind), words.Size(l.Retained))
		if l.Risk {
			_, _ = fmt.Fprintf(w, "The log that the source keeps is above the feed's warning level of %s. Find out "+
				"why the feed does not advance, or the source's disk fills.\n\n", words.Size(l.Warn))
		}
	}
	g := grid(w, "table", "state", "target", "find", "keep", " rows", " lag", "position", "last proof")
	for _, t := range f.Tables {
		proof := "never"
		if t.Proof != nil {
			proof = "equal, "
			if !t.Proof.Same {
				proof = "NOT equal, "
			}
			proof += when(&t.Proof.At)
		}
		g.AppendRow(table.Row{t.Table, t.State, t.Target, t.Find, t.Keep, optional(t.Rows), lag(t.CompleteAt),
			orDash(t.Position), proof})
	}
	g.Render()
	for _, t := range f.Tables {
		if c := t.Copy; c != nil {
			_, _ = fmt.Fprintf(w, "\n%s: %s\n", t.Table, copyInWords(*c))
		}
		if t.Problem != nil {
			_, _ = fmt.Fprintf(w, "\n%s: %s %s\n", t.Table, t.Problem.What, t.Problem.Remedy)
		}
		if t.Nulls > 0 {
			_, _ = fmt.Fprintf(w, "\n%s: %s with a null watermark, not replicated. Name a fallback column to "+
				"include them.\n", t.Table, words.Plural(t.Nulls, "row"))
		}
	}
}

// copyInWords says how far the copy of a table is.
func copyInWords(c client.CopyStatus) string {
	switch {
	case c.Waiting != "":
		return "Before it is copied, " + c.Waiting + "."
	case c.State == "joining":
		return fmt.Sprintf("Its %s rows are copied; it joins the others when the log has come to the moment they "+
			"were read at.", words.Number(c.Copied))
	}
	return fmt.Sprintf("It is being copied: %s of about %s rows.", words.Number(c.Copied), words.Number(c.Expected))
}

func readFile(path string, stdin io.Reader) (string, error) {
	if path == "-" {
		content, err := io.ReadAll(stdin)
		return string(content), err
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return "", usageError{fmt.Errorf("the feed file cannot be read: %w", err)}
	}
	return string(content), nil
}

func (a *app) applyCommand() *cobra.Command {
	var start bool
	c := &cobra.Command{Use: "apply FILE", Short: "Make or change a feed as its file has it; - reads standard input",
		Args: exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			file, err := readFile(args[0], cmd.InOrStdin())
			if err != nil {
				return err
			}
			x, err := c.FeedFile(ctx, file, client.Apply)
			if err != nil {
				return err
			}
			if start {
				if _, err := c.StartFeed(ctx, x.Feed); err != nil {
					return err
				}
			}
			return a.show(cmd, x, func(w io.Writer) {
				showFindings(w, x.Findings)
				switch {
				case x.New && !start:
					_, _ = fmt.Fprintf(w, "The feed %s is made. Start it with noemata feeds start %[1]s.\n", x.Feed)
				case x.New:
					_, _ = fmt.Fprintf(w, "The feed %s is made and started.\n", x.Feed)
				case len(x.Changes) == 0:
					_, _ = fmt.Fprintf(w, "The feed %s is as the file has it; nothing changed.\n", x.Feed)
				default:
					showChanges(w, x.Changes)
					_, _ = fmt.Fprintf(w, "The feed %s is changed.\n", x.Feed)
				}
			})
		})}
	c.Flags().BoolVar(&start, "start", false, "start the feed, too")
	return c
}

// fileCommand is `check` or `diff`.
func (a *app) fileCommand(verb, short string, mode client.FileMode) *cobra.Command {
	return &cobra.Command{Use: verb + " FILE", Short: short + "; nothing is changed", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			file, err := readFile(args[0], cmd.InOrStdin())
			if err != nil {
				return err
			}
			x, err := c.FeedFile(ctx, file, mode)
			if err != nil {
				return err
			}
			blocked := blockers(x.Findings)
			if err := a.show(cmd, x, func(w io.Writer) {
				showFindings(w, x.Findings)
				switch {
				case x.New:
					_, _ = fmt.Fprintf(w, "The feed %s would be new.\n", x.Feed)
				case len(x.Changes) == 0:
					_, _ = fmt.Fprintf(w, "The feed %s is as the file has it.\n", x.Feed)
				default:
					showChanges(w, x.Changes)
				}
				if blocked > 0 {
					_, _ = fmt.Fprintf(w, "%s in the way: apply would refuse it.\n", words.Plural(blocked, "blocker"))
				}
			}); err != nil {
				return err
			}
			if blocked > 0 || (mode == client.Compare && len(x.Changes) > 0) {
				return errNo
			}
			return nil
		})}
}

// ownerOf is whose something is.
func ownerOf(b client.Belongs) string {
	return orDash(strings.Join(slices.DeleteFunc([]string{b.Owner, b.Team}, func(x string) bool { return x == "" }), ", "))
}

func labelsOf(labels map[string]string) string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		list = append(list, name+"="+labels[name])
	}
	return orDash(strings.Join(list, ", "))
}

// onlyThose are the flags that filter a list.
func onlyThose(list *cobra.Command, into map[string]*string) {
	for name, value := range into {
		list.Flags().StringVar(value, name, "", "only those of this "+name)
	}
	list.Flags().Lookup("label").Usage = "only those with this label: its name, or name=value"
}

func showFindings(w io.Writer, findings []client.Finding) {
	for _, f := range findings {
		_, _ = fmt.Fprintf(w, "%-8s %s%s\n", f.Level, about(f), f.What)
		if f.Remedy != "" {
			_, _ = fmt.Fprintf(w, "         → %s\n", f.Remedy)
		}
	}
	if len(findings) > 0 {
		_, _ = fmt.Fprintln(w)
	}
}

func showChanges(w io.Writer, changes []client.Change) {
	g := grid(w, "what", "now", "in the file")
	for _, c := range changes {
		g.AppendRow(table.Row{c.Path, orDash(c.Old), orDash(c.New)})
	}
	g.Render()
}

func (a *app) positionsCommand() *cobra.Command {
	list := &cobra.Command{Use: "list FEED", Short: "List the positions of a feed's tables, as the warehouse has them",
		Args: exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			x, err := c.Positions(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "table", "position", "moved", "by")
				for _, p := range x {
					by := "–"
					if p.MovedAt != nil {
						by = "a person"
						if p.Run > 0 {
							by = fmt.Sprintf("run %d", p.Run)
						}
					}
					g.AppendRow(table.Row{p.Table, orDash(p.Position), when(p.MovedAt), by})
				}
				g.Render()
			})
		})}
	var m client.Move
	set := &cobra.Command{Use: "set FEED TABLE [POSITION]",
		Short: "Set a position, or set it back: the next run reads what lies above it. Of a log: to a place, to its end, or back", Args: between(2, 3),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if m.Position = strings.Join(args[2:], ""); (m.Position == "") == (m.Back == "") {
				return usageError{errors.New("give a position, or --back with how far")}
			}
			p, err := c.SetPosition(ctx, args[0], args[1], m)
			if err != nil {
				return err
			}
			verb, what := "is", ""
			if m.DryRun {
				verb = "would be"
			}
			switch {
			case p.AgainLog != nil:
				what = fmt.Sprintf(" %s of the log %s read again, for all tables of the feed that follow it.", words.Size(*p.AgainLog),
					map[bool]string{true: "would be", false: "are"}[m.DryRun])
			case p.SkippedLog != nil:
				what = fmt.Sprintf(" %s of the log %s read by no run, for all tables of the feed that follow it: prove them, and repair what differs.",
					words.Size(*p.SkippedLog), map[bool]string{true: "would be", false: "are"}[m.DryRun])
			case p.Again != nil:
				what = fmt.Sprintf(" %s of the source %s read again.", words.Plural(*p.Again, "row"),
					map[bool]string{true: "would be",
						false: "are"}[m.DryRun])
			case p.Skipped != nil && *p.Skipped > 0:
				what = fmt.Sprintf(" %s of the source %s read by no run.", words.Plural(*p.Skipped, "row"),
					map[bool]string{true: "would be",
						false: "are"}[m.DryRun])
			}
			return a.say(cmd, p, "The position of %s %s %s, and was %s.%s", p.Table, verb, p.Position, orDash(p.Was), what)
		})}
	set.Flags().StringVar(&m.Back, "back", "", "how far back from where it stands: 2h, 3d, or a number for watermarks that count")
	set.Flags().BoolVar(&m.DryRun, "dry-run", false, "tell what would be read again or skipped; change nothing")
	clearing := &cobra.Command{Use: "clear FEED TABLE",
		Short: "Clear a position: the next run reads everything; rows that are there are recognised", Args: exactly(2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			p, err := c.ClearPosition(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.say(cmd, p, "The position of %s is cleared.", p.Table)
		})}
	return group("positions", "How far tables have come", list, set, clearing)
}

func (a *app) sampleCommand() *cobra.Command {
	return &cobra.Command{Use: "sample FEED TABLE", Short: "Show the newest rows of a table on both sides",
		Args: exactly(2), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			x, err := c.Sample(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				side := func(name string, columns []string, rows [][]*string) {
					_, _ = fmt.Fprintf(w, "%s\n", name)
					g := grid(w, columns...)
					for _, r := range rows {
						var cells table.Row
						for _, v := range r {
							cells = append(cells, cell(v))
						}
						g.AppendRow(cells)
					}
					g.Render()
				}
				side("in the source", x.Columns, x.Source)
				_, _ = fmt.Fprintln(w)
				side("in the warehouse", append(append([]string{}, x.Columns...), x.Added...), x.Warehouse)
			})
		})}
}

func (a *app) versionsCommand() *cobra.Command {
	return &cobra.Command{Use: "versions FEED TABLE KEY...",
		Short: "Show the versions of one row of a history, and what changed between them", Args: between(3,
			anyAbove), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.Versions(ctx, args[0], args[1], args[2:])
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) { showVersions(w, x) })
		})}
}

// showVersions prints a timeline: the first version whole, of the others what changed.
func showVersions(w io.Writer, x client.Versions) {
	if len(x.Versions) == 0 {
		_, _ = fmt.Fprintf(w, "The history of %s has no row with the key %s.\n", x.Table, strings.Join(x.Key, ", "))
		return
	}
	for i, v := range x.Versions {
		if i > 0 && x.Versions[i-1].Until != nil && !x.Versions[i-1].Until.Equal(v.From) {
			_, _ = fmt.Fprintf(w, "%s  deleted\n", moment(x.Versions[i-1].Until))
		}
		_, _ = fmt.Fprintf(w, "%s  version %d", moment(&v.From), i+1)
		if v.Until == nil {
			_, _ = fmt.Fprint(w, ", holds")
		}
		_, _ = fmt.Fprintln(w)
		for c, column := range x.Columns {
			if i == 0 {
				_, _ = fmt.Fprintf(w, "    %s: %s\n", column, cell(v.Values[c]))
			} else if slices.Contains(v.Changed, column) {
				_, _ = fmt.Fprintf(w, "    %s: %s → %s\n", column, cell(x.Versions[i-1].Values[c]), cell(v.Values[c]))
			}
		}
	}
	if last := x.Versions[len(x.Versions)-1]; last.Until != nil {
		_, _ = fmt.Fprintf(w, "%s  deleted\n", moment(last.Until))
	}
}

// cell shortens a value to what a line can hold; null is not the text "null".
func cell(v *string) string {
	if v == nil {
		return "∅"
	}
	s := strings.Join(strings.Fields(*v), " ")
	if r := []rune(s); len(r) > 32 {
		return string(r[:31]) + "…"
	}
	return s
}
