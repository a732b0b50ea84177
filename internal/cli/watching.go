package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/words"
)

func (a *app) logCommand() *cobra.Command {
	var f client.LogFilter
	var follow bool
	c := &cobra.Command{Use: "log FEED", Short: "What the runs of a feed have said", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			list, err := c.Log(ctx, args[0], f)
			if err != nil {
				return err
			}
			if !follow {
				return a.show(cmd, list, func(w io.Writer) { showLog(w, list) })
			}
			for {
				if len(list) > 0 {
					f.After = list[len(list)-1].ID
					showLog(visible{cmd.OutOrStdout()}, list)
				}
				select {
				case <-ctx.Done():
					return nil
				case <-time.After(time.Second):
				}
				if list, err = c.Log(ctx, args[0], f); err != nil && ctx.Err() == nil {
					return err
				}
			}
		})}
	c.Flags().Int64Var(&f.Run, "run", 0, "only of this run")
	c.Flags().StringVar(&f.Table, "table", "", "only of this table, and of the feed as a whole")
	c.Flags().StringVar(&f.Level, "level", "", "only of this level and those that are worse: warning or error")
	c.Flags().StringVar(&f.Text, "text", "", "only those that contain this text")
	c.Flags().Int64Var(&f.Before, "before", 0, "only those before this number")
	c.Flags().IntVar(&f.Limit, "limit", 0, "how many at most (200)")
	c.Flags().BoolVar(&follow, "follow", false, "go on with what is said from now on")
	return c
}

func showLog(w io.Writer, list []client.LogEntry) {
	for _, e := range list {
		about := e.Feed
		if e.Table != "" {
			about = e.Table
		}
		line := fmt.Sprintf("%s  run %d  %-7s  %s: %s", e.At.UTC().Format("2006-01-02 15:04:05.000Z"), e.Run, e.Level, about,
			e.What)
		if e.Remedy != "" {
			line += " " + e.Remedy
		}
		_, _ = fmt.Fprintln(w, line)
	}
}

func (a *app) volumesCommand() *cobra.Command {
	var tableName string
	var days int
	c := &cobra.Command{Use: "volumes FEED", Short: "Rows and bytes of a feed by table and day", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			list, err := c.Volumes(ctx, args[0], tableName, days)
			if err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				g := grid(w, "day (UTC)", "table", " read", " inserted", " updated", " deleted", " set aside", " size", " reading",
					" writing")
				for _, v := range list {
					g.AppendRow(table.Row{v.Day, v.Table, words.Number(v.Read), words.Number(v.Inserted), words.Number(v.Updated),
						words.Number(v.Deleted),
						words.Number(v.SetAside), words.Size(v.Bytes), seconds(v.Reading), seconds(v.Writing)})
				}
				g.Render()
			})
		})}
	c.Flags().StringVar(&tableName, "table", "", "only of this table")
	c.Flags().IntVar(&days, "days", 30, "how many days, today included")
	return c
}

func (a *app) burdenCommand() *cobra.Command {
	var days int
	c := &cobra.Command{Use: "burden SOURCE", Short: "What feeds cost a source, and the log that it keeps for them",
		Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			b, err := c.Burden(ctx, args[0], days)
			if err != nil {
				return err
			}
			return a.show(cmd, b, func(w io.Writer) { showBurden(w, b) })
		})}
	c.Flags().IntVar(&days, "days", 1, "how many days of UTC are added up, today included")
	return c
}

func showBurden(w io.Writer, b client.Burden) {
	heavy := "copies, backfills, proofs and repairs may begin at any time"
	if b.HeavyHours != "" {
		heavy = "copies, backfills, proofs and repairs begin in the hours " + b.HeavyHours
	}
	bound := ""
	if b.Bound > 0 {
		bound = fmt.Sprintf(" a process opens %d at most, and one for each log that is followed;", b.Bound)
	}
	_, _ = fmt.Fprintf(w, "%s has %d connections open now;%s %s.\n\n", b.Source, b.Connections, bound, heavy)
	g := grid(w, "feed", " statements", " their time", " rows", " size", " log kept", " growth an hour", " stops in")
	for _, f := range b.Feeds {
		growth, stops := "–", "never"
		if f.Growth != nil {
			growth = words.Size(int64(*f.Growth))
		}
		switch {
		case f.Lasts != nil:
			stops = seconds(*f.Lasts)
		case f.Retained == 0 && f.Stop == 0:
			stops = "–"
		}
		g.AppendRow(table.Row{f.Feed, words.Number(f.Statements), seconds(f.Seconds), words.Number(f.Rows),
			words.Size(f.Bytes), words.Size(f.Retained), growth, stops})
	}
	g.Render()
}

func (a *app) retentionCommand() *cobra.Command {
	show := func(cmd *cobra.Command, list []client.Retention) error {
		return a.show(cmd, list, func(w io.Writer) {
			g := grid(w, "what", "kept for", "usually", " rows", " size", "")
			for _, r := range list {
				g.AppendRow(table.Row{r.What, r.Keep, r.Default, words.Number(r.Rows), words.Size(r.Bytes), r.Says})
			}
			g.Render()
		})
	}
	list := &cobra.Command{Use: "list", Short: "List how long things are kept, and what room they take", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Retention(ctx)
			if err != nil {
				return err
			}
			return show(cmd, x)
		})}
	set := &cobra.Command{Use: "set WHAT LENGTH", Short: "Say how long things of one kind are kept: 12h, 30d or forever",
		Args: exactly(2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.SetRetention(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return show(cmd, x)
		})}
	return group("retention", "How long runs, logs and records are kept", list, set)
}
