package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
)

func (a *app) sessionsCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the console's sign-ins that go on", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Sessions(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, " number", "token", "from", "signed in", "ends")
				for _, s := range x {
					g.AppendRow(table.Row{s.ID, s.Token, orDash(s.Address), when(&s.CreatedAt), when(&s.ExpiresAt)})
				}
				g.Render()
			})
		})}
	end := &cobra.Command{Use: "end SESSION", Short: "End a sign-in of the console", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := numberOf(args[0], "session")
			if err != nil {
				return err
			}
			if err := c.EndSession(ctx, id); err != nil {
				return err
			}
			return a.say(cmd, map[string]int64{"ended": id}, "Session %d is ended.", id)
		})}
	return group("sessions", "Sign-ins of the console", list, end)
}

func (a *app) changesCommand() *cobra.Command {
	var f client.ChangeFilter
	c := &cobra.Command{Use: "changes", Short: "List what people and programs have changed, or were not let change, the newest first",
		Args: exactly(0), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Changes(ctx, f)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, " number", "when", "by", "from", "what", "about", "outcome")
				for _, m := range x {
					g.AppendRow(table.Row{m.ID, when(&m.At), m.By, m.Address, m.Operation, orDash(m.About), outcome(m.Status)})
				}
				g.Render()
			})
		})}
	c.Flags().StringVar(&f.By, "by", "", "only those by this token, by its name")
	c.Flags().StringVar(&f.About, "about", "", "only those about this, as: feed circulation-lake")
	c.Flags().Int64Var(&f.Before, "before", 0, "only those before this number")
	c.Flags().IntVar(&f.Limit, "limit", 0, "how many at most (50)")
	return c
}

// outcome tells in words what came of a request.
func outcome(status int) string {
	switch {
	case status < 300:
		return "done"
	case status == http.StatusForbidden:
		return "not allowed"
	}
	return fmt.Sprintf("refused (%d)", status)
}
