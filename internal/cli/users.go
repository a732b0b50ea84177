package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/records"
)

func (a *app) usersCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the people who sign in by name", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Users(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "name", "role", "feeds", "asks", "signs in", "made", "signed in last")
				for _, u := range x {
					feeds, where := "all", "here"
					if u.Label != "" {
						feeds = "with " + u.Label
					}
					if u.Elsewhere {
						where = "at the provider"
					}
					g.AppendRow(table.Row{u.Name, u.Role, feeds, asksOf(u.Role, u.Asks), where, when(&u.CreatedAt),
						when(u.LastUsedAt)})
				}
				g.Render()
			})
		})}
	remove := &cobra.Command{Use: "remove PERSON", Short: "Remove a person; sign-ins end with it", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.RemoveUser(ctx, args[0]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"removed": args[0]}, "%s is removed, and signed in nowhere.", args[0])
		})}
	return group("users", "People who sign in to the console by name", list, a.addUserCommand(false),
		a.addUserCommand(true), remove)
}

// addUserCommand is `add`, or `change` where change is set.
func (a *app) addUserCommand(change bool) *cobra.Command {
	var n client.NewUser
	var role string
	verb, short := "add", "Make a person who signs in by name and password"
	if change {
		verb, short = "change", "Change what a person may do; and the password, with --password-stdin"
	}
	var stdin bool
	c := &cobra.Command{Use: verb + " PERSON", Short: short, Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) (err error) {
			n.Name, n.Role = args[0], records.Role(role)
			if !change || stdin {
				if n.Password, err = password(cmd, stdin); err != nil {
					return err
				}
			}
			save := c.AddUser
			if change {
				save = c.ChangeUser
			}
			u, err := save(ctx, n)
			if err != nil {
				return err
			}
			return a.say(cmd, u, "%s may %s now.", u.Name, u.Role)
		})}
	c.Flags().StringVar(&role, "role", "look", "look, operate or administer")
	c.Flags().StringVar(&n.Label, "label", "", "of feeds: only those with this label, a name or name=value")
	c.Flags().StringArrayVar(&n.Asks, "ask", nil, asksWhat)
	c.Flags().BoolVar(&stdin, "password-stdin", false,
		"read the password from standard input (or set NOEMATA_PERSON_PASSWORD; who sits at it is asked)")
	return c
}

// password is what somebody chooses: from standard input, from the environment, or asked for twice.
func password(cmd *cobra.Command, stdin bool) (string, error) {
	if stdin {
		content, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1000))
		return strings.TrimRight(string(content), "\r\n"), err
	}
	if given := os.Getenv("NOEMATA_PERSON_PASSWORD"); given != "" {
		return given, nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", problem.New(problem.Invalid, "There is no password, and nobody to ask.", "Give it with --password-stdin.")
	}
	var said [2]string
	for i, ask := range []string{"Password: ", "Once more: "} {
		_, _ = fmt.Fprint(cmd.ErrOrStderr(), ask)
		content, err := term.ReadPassword(int(os.Stdin.Fd()))
		_, _ = fmt.Fprintln(cmd.ErrOrStderr())
		if err != nil {
			return "", err
		}
		said[i] = string(content)
	}
	if said[0] != said[1] {
		return "", problem.New(problem.Invalid, "The two are not the same.", "Begin again.")
	}
	return said[0], nil
}
