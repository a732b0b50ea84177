package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/words"
)

func (a *app) overviewCommand() *cobra.Command {
	var only client.FeedFilter
	c := &cobra.Command{Use: "overview", Short: "What needs a person, and how each feed is doing", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			o, err := c.Overview(ctx, only)
			if err != nil {
				return err
			}
			return a.show(cmd, o, func(w io.Writer) { showOverview(w, o) })
		})}
	onlyThose(c, map[string]*string{"owner": &only.Owner, "team": &only.Team, "label": &only.Label,
		"source": &only.Source, "warehouse": &only.Warehouse, "state": &only.State})
	return c
}

func showOverview(w io.Writer, o client.Overview) {
	for _, n := range o.Needs {
		about := strings.Trim(n.Feed+" / "+n.Table, " /")
		if n.More > 0 {
			about += fmt.Sprintf(" and %d more", n.More)
		}
		_, _ = fmt.Fprintf(w, "%-8s %s: %s %s\n", n.Kind, about, n.What, n.Remedy)
	}
	if len(o.Needs) > 0 {
		_, _ = fmt.Fprintln(w)
	}
	g := grid(w, "feed", "state", " tables", "of these", " rows", " lag", " promised", "runs", "owner", "last change")
	for _, f := range o.Feeds {
		promised := "–"
		if f.Promised != nil {
			promised = seconds(*f.Promised)
		}
		by := "–"
		if f.ChangedAt != nil {
			by = when(f.ChangedAt) + " by " + orDash(f.ChangedBy)
		}
		g.AppendRow(table.Row{f.Name, f.State, f.Tables, statesOf(f.States), words.Number(f.Rows), lag(f.CompleteAt),
			promised, f.Schedule,
			ownerOf(f.Belongs), by})
	}
	g.Render()
	_, _ = fmt.Fprintf(w, "\n%d tables, %s rows in warehouses, at %s.\n", o.Tables, words.Number(o.Rows),
		o.At.UTC().Format(time.DateTime)+"Z")
}

func statesOf(states map[string]int) string {
	var list []string
	for _, state := range slices.Sorted(maps.Keys(states)) {
		list = append(list, fmt.Sprintf("%d %s", states[state], state))
	}
	return strings.Join(list, ", ")
}
