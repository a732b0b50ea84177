package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/core/words"
)

func (a *app) backfillCommand() *cobra.Command {
	var r client.BackfillRange
	var wait bool
	c := &cobra.Command{Use: "backfill FEED TABLE",
		Short: "Read a range of a table again in slices, beside the feed's runs", Args: exactly(2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			b, err := c.StartBackfill(ctx, args[0], args[1], r)
			if err != nil {
				return err
			}
			if wait {
				if b, err = awaitBackfill(ctx, c, b.ID); err != nil {
					return err
				}
			}
			if b.State == "done" {
				return a.say(cmd, b, "Backfill %d of %s is done: %s read, %s inserted, %s updated, %s unchanged.",
					b.ID, b.Table,
					words.Number(b.Books.Read), words.Number(b.Books.Inserted), words.Number(b.Books.Updated),
					words.Number(b.Books.Unchanged))
			}
			return a.say(cmd, b, "Backfill %d of %s reads from %s to %s, in %s. See noemata backfills list %s.", b.ID,
				b.Table,
				b.From, b.To, words.Plural(b.Slices, "slice"), problem.Word(b.Feed))
		})}
	c.Flags().StringVar(&r.From, "from", "", "the first watermark that counts (that of the table's first row)")
	c.Flags().StringVar(&r.To, "to", "", "the last one (the table's position)")
	c.Flags().StringVar(&r.Slice, "slice", "", "how long a slice is: 12h, 1d, 1mo, 1y or a number (all in one)")
	c.Flags().BoolVar(&r.NewestFirst, "newest-first", false, "read the last slice first")
	c.Flags().BoolVar(&wait, "wait", false, "wait until it has ended")
	return c
}

// awaitBackfill waits for the end of a backfill; a pause is one, too, for whoever waits.
func awaitBackfill(ctx context.Context, c *client.Client, id int64) (client.Backfill, error) {
	for {
		b, err := c.Backfill(ctx, id)
		switch {
		case err != nil:
			return b, err
		case b.State == "done":
			return b, nil
		case b.State != "waiting" && b.State != "running":
			return b, problem.Newf(problem.Stopped, fmt.Sprintf("To go on: noemata backfills resume %d.", id),
				"Backfill %d is %s after %d of %s.", id, b.State, b.Done, words.Plural(b.Slices, "slice"))
		}
		select {
		case <-ctx.Done():
			return b, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (a *app) backfillsCommand() *cobra.Command {
	list := &cobra.Command{Use: "list FEED", Short: "List a feed's backfills, the newest first", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.Backfills(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) { showBackfills(w, x) })
		})}
	commands := []*cobra.Command{list}
	for _, x := range []struct{ verb, short, said string }{
		{"pause", "Pause a backfill after the slice that it is at", "is paused"},
		{"resume", "Let a paused backfill go on", "goes on"},
		{"stop", "End a backfill; what it has read stays", "is stopped"},
	} {
		commands = append(commands, &cobra.Command{Use: x.verb + " BACKFILL", Short: x.short, Args: exactly(1),
			RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
				id, err := strconv.ParseInt(args[0], 10, 64)
				if err != nil {
					return usageError{fmt.Errorf("%q is not a backfill's number", args[0])}
				}
				b, err := c.SetBackfill(ctx, id, x.verb)
				if err != nil {
					return err
				}
				return a.say(cmd, b, "Backfill %d of %s %s, at %d of %s.", b.ID, b.Table, x.said, b.Done,
					words.Plural(b.Slices, "slice"))
			})})
	}
	return group("backfills", "Ranges of tables that are read again", commands...)
}

func showBackfills(w io.Writer, list []client.Backfill) {
	g := grid(w, " no", "table", "state", " done", " slices", "from", "to", " read", " inserted", " updated",
		" unchanged", "asked")
	for _, b := range list {
		g.AppendRow(table.Row{b.ID, b.Table, b.State, words.Number(b.Done), words.Number(b.Slices), b.From, b.To,
			words.Number(b.Books.Read), words.Number(b.Books.Inserted), words.Number(b.Books.Updated),
			words.Number(b.Books.Unchanged),
			when(&b.AskedAt)})
	}
	g.Render()
	for _, b := range list {
		if b.Problem != nil && !b.Ended() {
			_, _ = fmt.Fprintf(w, "\nBackfill %d: %s %s\n", b.ID, b.Problem.What, b.Problem.Remedy)
		}
	}
}
