package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
)

func (a *app) processesCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the processes that share the work, and where warehouse files are",
		Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			processes, err := c.Processes(ctx)
			if err != nil {
				return err
			}
			places, err := c.Places(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, map[string]any{"processes": processes, "places": places}, func(w io.Writer) {
				showProcesses(w, processes, places)
			})
		})}
	act := func(drain bool, use, short, said string) *cobra.Command {
		return &cobra.Command{Use: use + " PROCESS", Short: short, Args: exactly(1),
			RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
				p, err := c.Drain(ctx, args[0], drain)
				if err != nil {
					return err
				}
				return a.say(cmd, p, said, p.ID, p.Host)
			})}
	}
	return group("processes", "The service's processes", list,
		act(true, "drain", "Have a process take up no more work, and leave what it has to others",
			"Process %s on %s takes up no more work. Runs that follow a log end with their next commit, others in their own time."),
		act(false, "resume", "Have a process work again", "Process %s on %s works again."))
}

func showProcesses(w io.Writer, processes []client.Process, places []client.Place) {
	g := grid(w, "process", "state", "host", " number there", "address", "version", "since", " feeds", "at work on")
	for _, p := range processes {
		g.AppendRow(table.Row{p.ID, p.State, p.Host, p.PID, p.Address, p.Version, when(&p.StartedAt), len(p.Feeds),
			orDash(some(p.Feeds, 3))})
	}
	g.Render()
	if len(places) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	g = grid(w, "warehouse file", "on host", "process")
	for _, p := range places {
		process := p.Process
		if process == "" {
			process = "none: its feeds wait for one on this host"
		}
		g.AppendRow(table.Row{p.Warehouse, p.Host, process})
	}
	g.Render()
}

// some are the first of a list, and how many more there are.
func some(list []string, n int) string {
	if len(list) <= n {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:n], ", "), len(list)-n)
}
