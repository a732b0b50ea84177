package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/words"
)

func (a *app) previewCommand() *cobra.Command {
	var rows int
	c := &cobra.Command{Use: "preview FILE TABLE",
		Short: "Show rows of a table before and after a feed file has shaped them; nothing is written",
		Args:  exactly(2), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			file, err := readFile(args[0], cmd.InOrStdin())
			if err != nil {
				return err
			}
			x, err := c.Preview(ctx, file, args[1], rows)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) { showPreview(w, x) })
		})}
	c.Flags().IntVar(&rows, "rows", 10, "how many rows are shown, 100 at most")
	return c
}

func (a *app) proposeCommand() *cobra.Command {
	var tables, except []string
	var name string
	c := &cobra.Command{Use: "propose SOURCE WAREHOUSE",
		Short: "Propose how tables of a source are brought, as a feed file with the reasons; nothing is written",
		Args:  exactly(2), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			if len(tables) == 0 {
				return usageError{errors.New("name the tables: --tables 'public.*'")}
			}
			x, err := c.Propose(ctx, name, args[0], args[1], tables, except)
			if err != nil {
				return err
			}
			showFindings(cmd.ErrOrStderr(), x.Findings) // the file alone goes into a file
			return a.show(cmd, x, func(w io.Writer) { _, _ = fmt.Fprint(w, x.File) })
		})}
	c.Flags().StringArrayVar(&tables, "tables", nil, "a table, or a pattern as public.*; may be given several times")
	c.Flags().StringArrayVar(&except, "except", nil, "a table, or a pattern, that patterns leave out; may be given "+
		"several times")
	c.Flags().StringVar(&name, "name", "", "what the feed is to be called (after source and warehouse)")
	return c
}

func showPreview(w io.Writer, x client.Preview) {
	rows := func(title string, columns []string, of func(client.PreviewRow) []*string) {
		_, _ = fmt.Fprintf(w, "%s\n", title)
		g := grid(w, append([]string{" row"}, columns...)...)
		for i, r := range x.Rows {
			if of(r) == nil {
				continue
			}
			cells := table.Row{i + 1}
			for _, v := range of(r) {
				cells = append(cells, cell(v))
			}
			g.AppendRow(cells)
		}
		g.Render()
	}
	rows("at the source", x.Before, func(r client.PreviewRow) []*string { return r.Before })
	_, _ = fmt.Fprintln(w)
	rows("in the warehouse", x.After, func(r client.PreviewRow) []*string { return r.After })
	for i, r := range x.Rows {
		if r.Why != "" {
			_, _ = fmt.Fprintf(w, "\nRow %d does not arrive: %s", i+1, r.Why)
		}
	}
	_, _ = fmt.Fprintf(w, "\n%s looked at: %s arrive, %s left out by the filter, %s set aside.\n",
		words.Plural(x.Read, "row"), words.Number(x.Read-x.Filtered-x.SetAside), words.Number(x.Filtered),
		words.Number(x.SetAside))
}

func (a *app) driftsCommand() *cobra.Command {
	return &cobra.Command{Use: "drifts FEED",
		Short: "List what has changed of the structure of a feed's tables, and what was done", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.Drifts(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				if len(x) == 0 {
					_, _ = fmt.Fprintf(w, "No table of the feed %s has changed its structure.\n", args[0])
				}
				for _, d := range x {
					_, _ = fmt.Fprintf(w, "%s  %s, %s, run %d\n    %s\n    %s\n", moment(&d.At), d.Table, d.Kind, d.Run,
						d.What,
						d.Done)
				}
			})
		})}
}

func (a *app) keysCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the keys that columns are hashed with", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.HashKeys(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "name", "made")
				for _, k := range x {
					g.AppendRow(table.Row{k.Name, when(&k.MadeAt)})
				}
				g.Render()
			})
		})}
	export := &cobra.Command{Use: "export NAME",
		Short: "Print a key: whoever has it can find out which values were hashed", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			key, err := c.ExportHashKey(ctx, args[0])
			if err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"key": key}, "%s", key)
		})}
	var file string
	take := &cobra.Command{Use: "import NAME",
		Short: "Keep a key that was exported elsewhere, from a file or standard input",
		Args:  exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			content, err := readKeyFile(file, cmd.InOrStdin())
			if err != nil {
				return err
			}
			if err := c.ImportHashKey(ctx, args[0], content); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"imported": args[0]}, "The key %s is kept.", args[0])
		})}
	take.Flags().StringVar(&file, "file", "-", "where the key is; - is standard input")
	return group("keys", "Keys that columns are hashed with", list, export, take)
}

// readKeyFile reads a key that was exported: a line of text.
func readKeyFile(path string, stdin io.Reader) (string, error) {
	in := stdin
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return "", usageError{fmt.Errorf("the key cannot be read: %w", err)}
		}
		defer func() { _ = f.Close() }()
		in = f
	}
	content, err := io.ReadAll(io.LimitReader(in, 1024))
	return strings.TrimSpace(string(content)), err
}
