package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/problem"
)

// exported is a feed's file as it is, or as it was in a revision.
func exported(ctx context.Context, c *client.Client, feed string, revision int64) (string, error) {
	if revision > 0 {
		return c.Revision(ctx, feed, revision)
	}
	return c.ExportFeed(ctx, feed)
}

func (a *app) revisionsCommand() *cobra.Command {
	return &cobra.Command{Use: "revisions FEED",
		Short: "List what a feed's file has said: when it was changed, by whom, and what", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			list, err := c.Revisions(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				g := grid(w, " revision", "applied", "by", "what", "before", "from then on")
				for _, r := range list {
					row := table.Row{r.Revision, when(&r.At), orDash(r.By), "the first that is kept", "—", "—"}
					for i, x := range r.Changes {
						if i > 0 {
							row = table.Row{"", "", ""}
						} else {
							row = row[:3]
						}
						row = append(row, x.Path, orDash(x.Old), orDash(x.New))
						g.AppendRow(row)
					}
					if len(r.Changes) == 0 {
						g.AppendRow(row)
					}
				}
				g.Render()
			})
		})}
}

func (a *app) revertCommand() *cobra.Command {
	var dry bool
	c := &cobra.Command{Use: "revert FEED [REVISION]",
		Short: "Apply a feed's file as it was in an earlier revision; in the one before, if none is named",
		Args:  between(1, 2), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			revision, err := earlier(ctx, c, args)
			if err != nil {
				return err
			}
			file, err := c.Revision(ctx, args[0], revision)
			if err != nil {
				return err
			}
			how := client.Apply
			if dry {
				how = client.Check
			}
			x, err := c.FeedFile(ctx, file, how)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				showFindings(w, x.Findings)
				showChanges(w, x.Changes)
				if dry {
					_, _ = fmt.Fprintf(w, "Nothing was changed. To do it: noemata feeds revert %s %d\n", problem.Word(args[0]),
						revision)
					return
				}
				_, _ = fmt.Fprintf(w, "The feed %s is as it was in revision %d.\n", args[0], revision)
			})
		})}
	c.Flags().BoolVar(&dry, "dry-run", false, "tell what would change, and change nothing")
	return c
}

// earlier is the revision that is meant.
func earlier(ctx context.Context, c *client.Client, args []string) (int64, error) {
	if len(args) == 2 {
		n, err := strconv.ParseInt(args[1], 10, 64)
		if err != nil || n < 1 {
			return 0, usageError{fmt.Errorf("%q is not the number of a revision: noemata feeds revisions %s lists them", args[1],
				problem.Word(args[0]))}
		}
		return n, nil
	}
	list, err := c.Revisions(ctx, args[0])
	if err != nil {
		return 0, err
	}
	if len(list) < 2 {
		return 0, problem.Newf(problem.Conflict, "Change it by its file: noemata feeds export "+problem.Word(args[0]),
			"The feed %s is as it was when it was made.", args[0])
	}
	return list[1].Revision, nil
}
