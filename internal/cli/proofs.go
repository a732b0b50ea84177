package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/core/words"
)

func (a *app) proveCommand() *cobra.Command {
	var since string
	c := &cobra.Command{Use: "prove FEED [TABLE...]", Short: "Compare every value of every row on both sides",
		Args: between(1, anyAbove), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			tables, err := chosenTables(ctx, c, args)
			if err != nil {
				return err
			}
			var proofs []client.Proof
			same := true
			for _, t := range tables {
				p, err := a.proving(ctx, c, cmd, args[0], t, false, since)
				if err != nil {
					return err
				}
				proofs, same = append(proofs, *p.Proof), same && p.Proof.Same
			}
			if err := a.show(cmd, proofs, func(w io.Writer) {
				ShowProofs(w, proofs)
				if !same {
					_, _ = fmt.Fprintf(w, "\nnoemata proofs list %s tells of the rows, and noemata repair %[1]s brings them to what the "+
						"source has.\n", problem.Word(args[0]))
				}
			}); err != nil {
				return err
			}
			if !same {
				return errNo
			}
			return nil
		})}
	c.Flags().StringVar(&since, "since", "", "of tables with a watermark: only rows from this value on, or of so long before where it stands, as 2d")
	return c
}

// chosenTables are the tables that are named after a feed, or all of it.
func chosenTables(ctx context.Context, c *client.Client, args []string) ([]string, error) {
	tables := args[1:]
	if len(tables) > 0 {
		return tables, nil
	}
	f, err := c.Feed(ctx, args[0])
	for _, t := range f.Tables {
		tables = append(tables, t.Table)
	}
	return tables, err
}

// proving asks for a proof or a repair, and waits for it.
func (a *app) proving(ctx context.Context, c *client.Client, cmd *cobra.Command, feed, table string,
	repair bool, since string) (client.Proving, error) {
	p, err := c.StartProof(ctx, feed, table, repair, since)
	if err != nil {
		return p, err
	}
	told := false
	p, err = c.AwaitProving(ctx, p.ID, func(p client.Proving) {
		if a.output != "json" && isTerminal(cmd.InOrStdin()) && p.Phase != "" {
			told = true
			_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "\r\x1b[K%s: %s, %s of about %s rows", p.Table, p.Phase, words.Number(p.Read),
				words.Number(max(p.Read, p.Expected)))
		}
	})
	if told {
		_, _ = fmt.Fprint(cmd.ErrOrStderr(), "\r\x1b[K")
	}
	return p, err
}

// ShowProofs prints proofs and the first differences.
func ShowProofs(w io.Writer, proofs []client.Proof) {
	g := grid(w, "table", "target", "result", " equal", " differing", " missing", " extra", " in flight", "at position")
	for _, p := range proofs {
		g.AppendRow(table.Row{p.Table, p.Target, verdict(p), words.Number(p.Equal), words.Number(p.Differing),
			words.Number(p.Missing),
			words.Number(p.Extra), words.Number(p.InFlight), orDash(p.Position)})
	}
	g.Render()
	for _, p := range proofs {
		if !p.Same {
			_, _ = fmt.Fprintf(w, "\n%s:\n  %s\n", p.Table, strings.Join(p.Examples, "\n  "))
		}
		for _, note := range p.Notes {
			_, _ = fmt.Fprintf(w, "%s: %s\n", p.Table, note)
		}
	}
}

func verdict(p client.Proof) string {
	if p.Same {
		return "equal"
	}
	return "NOT equal"
}

func (a *app) repairCommand() *cobra.Command {
	var yes bool
	var since string
	c := &cobra.Command{Use: "repair FEED [TABLE...]",
		Short: "Bring the rows that a proof finds to differ to what the source has, and no others",
		Args:  between(1, anyAbove),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			tables, err := chosenTables(ctx, c, args)
			if err != nil {
				return err
			}
			if err := agreed(cmd, yes, fmt.Sprintf("Repair %s of %s", words.Plural(len(tables), "table"), args[0])); err != nil {
				return err
			}
			var done []client.Proving
			left := 0
			for _, t := range tables {
				p, err := a.proving(ctx, c, cmd, args[0], t, true, since)
				if err != nil {
					return err
				}
				done, left = append(done, p), left+p.Repaired.Left
			}
			if err := a.show(cmd, done, func(w io.Writer) {
				g := grid(w, "table", "found", " differing", " missing", " extra", " repaired", " left", " inserted", " updated",
					" deleted")
				for _, p := range done {
					b := p.Repaired.Books
					g.AppendRow(table.Row{p.Table, verdict(*p.Proof), words.Number(p.Proof.Differing), words.Number(p.Proof.Missing),
						words.Number(p.Proof.Extra), p.Repaired.Keys, p.Repaired.Left, words.Number(b.Inserted), words.Number(b.Updated),
						words.Number(b.Deleted)})
				}
				g.Render()
			}); err != nil {
				return err
			}
			if left > 0 {
				return errNo
			}
			return nil
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().StringVar(&since, "since", "", "of tables with a watermark: only rows from this value on, or of so long before where it stands, as 2d")
	return c
}

// agreed asks a person who sits there; nobody else is asked, and nothing is done without --yes.
func agreed(cmd *cobra.Command, yes bool, what string) error {
	if yes {
		return nil
	}
	if !isTerminal(cmd.InOrStdin()) {
		return usageError{fmt.Errorf("nobody is there to agree: add --yes")}
	}
	_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "%s? [y/N] ", what)
	line, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if word := strings.ToLower(strings.TrimSpace(line)); word != "y" && word != "yes" {
		return usageError{fmt.Errorf("nothing was done")}
	}
	return nil
}

func (a *app) proofsCommand() *cobra.Command {
	list := &cobra.Command{Use: "list FEED [TABLE]", Short: "List a feed's proofs and repairs, the newest first",
		Args: between(1, 2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.Provings(ctx, args[0], strings.Join(args[1:], ""))
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, " no", "table", "what", "state", "result", " equal", " differing", " missing", " extra", " repaired",
					"asked",
					"by")
				for _, p := range x {
					row := table.Row{p.ID, p.Table, provingKind(p), p.State, "–", "–", "–", "–", "–", "–", when(&p.AskedAt),
						orDash(p.AskedBy)}
					if r := p.Proof; r != nil {
						row[4], row[5], row[6], row[7], row[8] = verdict(*r), words.Number(r.Equal), words.Number(r.Differing),
							words.Number(r.Missing),
							words.Number(r.Extra)
					}
					if p.Repaired != nil {
						row[9] = p.Repaired.Keys
					}
					g.AppendRow(row)
				}
				g.Render()
			})
		})}
	show := &cobra.Command{Use: "show PROOF", Short: "Show a proof or a repair, with the rows that differ",
		Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := numberOf(args[0], "proof")
			if err != nil {
				return err
			}
			p, err := c.Proving(ctx, id)
			if err != nil {
				return err
			}
			return a.show(cmd, p, func(w io.Writer) { showProving(w, p) })
		})}
	stop := &cobra.Command{Use: "stop PROOF", Short: "Stop a proof or a repair; what was repaired stays", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := numberOf(args[0], "proof")
			if err != nil {
				return err
			}
			p, err := c.StopProving(ctx, id)
			if err != nil {
				return err
			}
			return a.say(cmd, p, "The %s %d of %s is stopped.", provingKind(p), p.ID, p.Table)
		})}
	return group("proofs", "Comparisons of both sides, and repairs", list, show, stop)
}

func numberOf(text, what string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is not a %s's number", text, what)}
	}
	return id, nil
}

func provingKind(p client.Proving) string {
	if p.Repair {
		return "repair"
	}
	return "proof"
}

func showProving(w io.Writer, p client.Proving) {
	_, _ = fmt.Fprintf(w, "%s %d of %s in %s: %s, asked for %s\n", strings.ToUpper(provingKind(p)[:1])+provingKind(p)[1:],
		p.ID,
		p.Table, p.Feed, p.State, when(&p.AskedAt))
	if p.Problem != nil {
		_, _ = fmt.Fprintf(w, "%s %s\n", p.Problem.What, p.Problem.Remedy)
	}
	if p.Proof != nil {
		_, _ = fmt.Fprintln(w)
		ShowProofs(w, []client.Proof{*p.Proof})
	}
	if p.Repaired != nil {
		_, _ = fmt.Fprintf(w, "\nThe rows of %s were brought to what the source has; %d are left.\n",
			words.Plural(p.Repaired.Keys, "key"), p.Repaired.Left)
	}
	if len(p.Differences) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	g := grid(w, "key", "how", "column", "at the source", "in the warehouse")
	for _, d := range p.Differences {
		key, how := orDash(strings.Join(d.Key, ", ")), string(d.Kind)
		for _, v := range d.Columns {
			g.AppendRow(table.Row{key, how, v.Column, cell(v.Source), cell(v.Warehouse)})
			key, how = "", ""
		}
		if len(d.Columns) == 0 {
			g.AppendRow(table.Row{key, how, "–", "–", "–"})
		}
	}
	g.Render()
}
