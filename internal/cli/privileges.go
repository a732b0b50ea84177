package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/feed"
)

func (a *app) privilegesCommand() *cobra.Command {
	var asked client.PrivilegesAsked
	c := &cobra.Command{Use: "privileges FILE", Args: exactly(1),
		Short: "Print the statements that make users with just what a feed needs, at source and warehouse",
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			var err error
			if asked.File, err = readFile(args[0], cmd.InOrStdin()); err != nil {
				return err
			}
			x, err := c.Privileges(ctx, asked)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				print := func(side string, list []string) {
					if len(list) == 0 {
						return
					}
					_, _ = fmt.Fprintf(w, "-- At the %s, as whoever may: choose a password for '…'.\n", side)
					for _, sql := range list {
						_, _ = fmt.Fprintln(w, sql+";")
					}
				}
				print("source", x.Source)
				if f, err := feed.ParseFile([]byte(asked.File)); err == nil && f.FollowsLog() {
					_, _ = fmt.Fprintln(w, "-- A publication is made by the tables' owner, where the server has them: the feed's first run "+
						"shows the statement.")
				}
				print("warehouse", x.Warehouse)
				if len(x.Warehouse) == 0 {
					_, _ = fmt.Fprintln(w, "-- The warehouse is a file: it belongs to whoever runs the service.")
				}
			})
		})}
	f := c.Flags()
	f.StringVar(&asked.Reader, "reader", "replica_reader", "what the source's user is called")
	f.StringVar(&asked.Writer, "writer", "replica_writer", "what the warehouse's user is called")
	f.StringVar(&asked.Analysts, "analysts", "", "a role at the warehouse that is to read the targets, and those to come")
	return c
}

func (a *app) duplicateCommand() *cobra.Command {
	var warehouse, target string
	c := &cobra.Command{Use: "duplicate FEED NAME", Args: exactly(2),
		Short: "Make another feed like one that there is, paused; into another warehouse, if one is given",
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			f, err := feedLike(ctx, c, args[0], warehouse, target)
			if err != nil {
				return err
			}
			f.Name = args[1]
			if _, err := c.Feed(ctx, f.Name); err == nil {
				return usageError{fmt.Errorf("there is a feed %q already; choose another name", f.Name)}
			}
			x, err := c.FeedFile(ctx, string(f.File()), client.Apply)
			if err != nil {
				return err
			}
			return a.say(cmd, x, "The feed %s is like %s. Start it with: noemata feeds start %[1]s", f.Name, args[0])
		})}
	c.Flags().StringVar(&warehouse, "warehouse", "", "the warehouse of the new one, if not the same")
	c.Flags().StringVar(&target, "target", "", "the names of its target tables, such as \"copy_of_{schema}.{table}\"")
	return c
}

// feedLike is a feed with another warehouse and other targets, where they are given.
func feedLike(ctx context.Context, c *client.Client, name, warehouse, target string) (*feed.Feed, error) {
	text, err := c.ExportFeed(ctx, name)
	if err != nil {
		return nil, err
	}
	f, err := feed.ParseFile([]byte(text))
	if err != nil {
		return nil, err
	}
	f.Warehouse, f.Target = cmp.Or(warehouse, f.Warehouse), cmp.Or(target, f.Target)
	return f, nil
}

func (a *app) moveCommand() *cobra.Command {
	var target string
	var yes bool
	c := &cobra.Command{Use: "move FEED WAREHOUSE", Args: exactly(2),
		Short: "Have a feed keep its tables in another warehouse, where all rows are brought anew",
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			f, err := feedLike(ctx, c, args[0], args[1], target)
			if err != nil {
				return err
			}
			if !yes {
				x, err := c.FeedFile(ctx, string(f.File()), client.Check)
				if err != nil {
					return err
				}
				showFindings(cmd.ErrOrStderr(), x.Findings)
			}
			if err := agreed(cmd, yes, fmt.Sprintf("Move the feed %s to %s", f.Name, f.Warehouse)); err != nil {
				return err
			}
			x, err := c.FeedFile(ctx, string(f.File()), client.Apply)
			if err != nil {
				return err
			}
			if len(x.Changes) == 0 {
				return a.say(cmd, x, "The feed %s keeps its tables in %s already; nothing changed.", f.Name, f.Warehouse)
			}
			return a.say(cmd, x, "The feed %s keeps its tables in %s from its next run on.", f.Name, f.Warehouse)
		})}
	c.Flags().StringVar(&target, "target", "", "the names of its target tables there, such as \"{source}.{table}\"")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
