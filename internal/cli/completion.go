package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"noemata/client"
)

// completeWithin is how long somebody who has pressed the key for it waits for names.
const completeWithin = 3 * time.Second

// completes lets the names of what is there be completed, wherever a command takes them: its line of use says
// which stand where. What the service does not answer is completed by nothing.
func (a *app) completes(root *cobra.Command) {
	for _, c := range root.Commands() {
		a.completes(c)
		kinds := placeholders(c.Use)
		if len(kinds) > 0 && len(c.ValidArgs) == 0 {
			c.ValidArgsFunction = a.completed(kinds, strings.HasSuffix(c.Use, "...]"))
		}
		for flag, kind := range map[string]string{"feed": "FEED", "table": "TABLE", "tables": "PATTERN", "except": "PATTERN",
			"revision": "REVISION"} {
			if c.Flags().Lookup(flag) != nil {
				_ = c.RegisterFlagCompletionFunc(flag, func(cmd *cobra.Command, args []string, _ string) ([]string,
					cobra.ShellCompDirective) {
					return a.names(cmd, kind, named(kinds, args))
				})
			}
		}
	}
}

// completed completes the words of a line of use; the last of them may come again.
func (a *app) completed(kinds []string, again bool) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= len(kinds) && !again {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.names(cmd, kinds[min(len(args), len(kinds)-1)], named(kinds, args))
	}
}

// placeholders are the words in capitals of a line of use.
func placeholders(use string) (list []string) {
	for _, word := range strings.Fields(use)[1:] {
		list = append(list, strings.Trim(word, "[]."))
	}
	return list
}

// named are the words that stand where a line of use has its placeholders.
func named(kinds, args []string) map[string]string {
	words := map[string]string{}
	for i, kind := range kinds {
		if i < len(args) {
			words[kind] = args[i]
		}
	}
	return words
}

// names lists what a word may be, each with a description behind a tab, given the words before it.
func (a *app) names(cmd *cobra.Command, kind string, before map[string]string) ([]string, cobra.ShellCompDirective) {
	if kind == "FILE" {
		return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
	}
	ctx, cancel := context.WithTimeout(cmd.Context(), completeWithin)
	defer cancel()
	list, err := a.lookUp(ctx, cmd, kind, before)
	if err != nil {
		cobra.CompDebugln(err.Error(), false)
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return list, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) lookUp(ctx context.Context, cmd *cobra.Command, kind string, before map[string]string) (list []string,
	err error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	add := func(name, about string) { list = append(list, name+"\t"+about) }
	switch kind {
	case "FEED":
		found, err := c.Feeds(ctx)
		for _, f := range found {
			add(f.Name, f.Source+" to "+f.Warehouse+", "+f.State)
		}
		return list, err
	case "SOURCE", "WAREHOUSE", "NAME":
		side := client.Sources
		if kind == "WAREHOUSE" || cmd.Parent().Name() == string(client.Warehouses) {
			side = client.Warehouses
		}
		if cmd.Parent().Name() == "keys" {
			keys, err := c.HashKeys(ctx)
			for _, k := range keys {
				add(k.Name, "made "+when(&k.MadeAt))
			}
			return list, err
		}
		found, err := c.Connections(ctx, side)
		for _, k := range found {
			add(k.Name, k.Kind+" at "+address(k))
		}
		return list, err
	case "TABLE", "PATTERN":
		return tablesOf(ctx, c, kind, before)
	case "POSITION":
		found, err := c.Positions(ctx, before["FEED"])
		for _, p := range found {
			if p.Table == before["TABLE"] {
				add(p.Position, "where it stands")
			}
		}
		return list, err
	case "PERSON":
		found, err := c.Users(ctx)
		for _, u := range found {
			add(u.Name, string(u.Role))
		}
		return list, err
	case "PROCESS":
		found, err := c.Processes(ctx)
		for _, p := range found {
			add(p.ID, p.State+", on "+p.Host)
		}
		return list, err
	case "REVISION":
		found, err := c.Revisions(ctx, before["FEED"])
		for _, r := range found {
			add(fmt.Sprint(r.Revision), "applied "+when(&r.At)+" by "+orDash(r.By))
		}
		return list, err
	case "RUN", "NUMBER":
		if cmd.Parent().Name() != "runs" {
			return nil, nil
		}
		found, err := c.Runs(ctx, client.RunFilter{Limit: 20})
		for _, r := range found {
			add(fmt.Sprint(r.ID), r.Feed+", "+r.State)
		}
		return list, err
	}
	return nil, nil
}

// tablesOf lists the tables of a feed, or of a source, and with patterns its schemas.
func tablesOf(ctx context.Context, c *client.Client, kind string, before map[string]string) (list []string, err error) {
	if before["FEED"] != "" {
		f, err := c.Feed(ctx, before["FEED"])
		for _, t := range f.Tables {
			list = append(list, t.Table+"\t"+t.Find+", "+t.Keep)
		}
		return list, err
	}
	if before["SOURCE"] == "" {
		return nil, nil
	}
	found, err := c.SourceTables(ctx, before["SOURCE"])
	for _, t := range found {
		about := "table"
		if t.View {
			about = "view"
		}
		list = append(list, t.Table+"\t"+about)
		schema, _, _ := strings.Cut(t.Table, ".")
		if all := schema + ".*\tall tables of " + schema; kind == "PATTERN" && !slices.Contains(list, all) {
			list = append(list, all)
		}
	}
	return list, err
}
