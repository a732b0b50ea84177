package cli

import (
	"context"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
)

func (a *app) marksCommand() *cobra.Command {
	list := &cobra.Command{Use: "list WAREHOUSE", Short: "List what a lake keeps under names, the newest first", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.Marks(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "mark", "last changed", "kept until", "tables")
				for _, m := range x {
					until := "it is removed"
					if m.Until != nil {
						until = when(m.Until)
					}
					g.AppendRow(table.Row{m.Name, when(&m.At), until, m.Tables})
				}
				g.Render()
			})
		})}
	var n client.NewMark
	add := &cobra.Command{Use: "add WAREHOUSE NAME", Short: "Keep what all tables of a lake hold now under a name", Args: exactly(2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			n.Name = args[1]
			if err := c.AddMark(ctx, args[0], n); err != nil {
				return err
			}
			return a.say(cmd, n, "What the tables of %s hold now is kept as %s.", args[0], n.Name)
		})}
	add.Flags().StringVar(&n.Keep, "keep", "", "for how long, as 90d; until it is removed when left out")
	remove := &cobra.Command{Use: "remove WAREHOUSE NAME", Short: "Let what is kept under a name go", Args: exactly(2),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.RemoveMark(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"removed": args[1]},
				"The mark %s of %s is removed; files that nothing else needs go with the next upkeep.", args[1], args[0])
		})}
	return group("marks", "States of a lake's tables that are kept under names", list, add, remove)
}
