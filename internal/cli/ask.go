package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/core/schema"
	"noemata/internal/core/words"
)

// formats are those that --output takes of a command besides table and json, as one of its annotations.
const formats = "formats"

// tableRows are as many rows as a table on a screen has.
const tableRows = 1000

func (a *app) askCommand() *cobra.Command {
	var file string
	var values []string
	var most int64
	var asOf, mark string
	c := &cobra.Command{Use: "ask WAREHOUSE [QUESTION]",
		Short: "Ask a warehouse in SQL, while feeds keep it; without a question, at a prompt",
		Args:  between(1, 2), Annotations: map[string]string{formats: "csv, arrow, parquet"},
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			q := client.Ask{Rows: most, Mark: mark}
			if asOf != "" {
				us, err := schema.ParseTimestamp(asOf)
				if err != nil {
					return usageError{fmt.Errorf("%q is no moment: write it as 2026-03-01T08:30:00Z", asOf)}
				}
				moment := time.UnixMicro(us).UTC()
				q.AsOf = &moment
			}
			for i := range values {
				q.Values = append(q.Values, &values[i])
			}
			if len(args) == 1 {
				in, ok := cmd.InOrStdin().(*os.File)
				if ok && isTerminal(in) {
					return a.prompt(ctx, c, cmd, args[0], in)
				}
				content, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
				if err != nil {
					return err
				}
				args = append(args, string(content))
			}
			q.SQL = args[1]
			return a.ask(ctx, c, cmd, args[0], q, file)
		})}
	c.Flags().StringVar(&file, "file", "", "write the answer into this file")
	c.Flags().StringArrayVar(&values, "value", nil, "the value of $1, then of $2 and so on, as text; repeatable")
	c.Flags().StringVar(&asOf, "as-of", "", "see histories as they were at this moment, as 2026-03-01T08:30:00Z")
	c.Flags().StringVar(&mark, "mark", "", "of a lake: see what is kept under this name (noemata marks list)")
	c.Flags().Int64Var(&most, "rows", 0, "so many rows at most (a table: "+words.Number(tableRows)+"; else all)")
	return c
}

// ask asks, and writes the answer as --output says.
func (a *app) ask(ctx context.Context, c *client.Client, cmd *cobra.Command, warehouse string, q client.Ask,
	file string) error {
	if a.output == "table" && file == "" {
		if q.Rows == 0 {
			q.Rows = tableRows
		}
		x, err := c.Ask(ctx, warehouse, q)
		if err != nil {
			return err
		}
		ShowAnswer(visible{cmd.OutOrStdout()}, x)
		return nil
	}
	q.Format = a.output
	switch {
	case a.output == "table":
		q.Format = "csv"
	case (a.output == "parquet" || a.output == "arrow") && file == "":
		if f, ok := cmd.OutOrStdout().(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			return usageError{fmt.Errorf("%s is for programs: name a file with --file, or pipe it to one", a.output)}
		}
	}
	if file == "" {
		return c.AskInto(ctx, warehouse, q, cmd.OutOrStdout())
	}
	return whole(file, func(w io.Writer) error { return c.AskInto(ctx, warehouse, q, w) })
}

// whole writes a file that is there when all of it is, and not before.
func whole(name string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(dirOf(name), ".noemata-*")
	if err != nil {
		return problem.Wrap(err, problem.Invalid, "The file cannot be written: "+err.Error()+".",
			"Choose another with --file.")
	}
	defer func() { _ = os.Remove(f.Name()) }()
	err = errors.Join(write(f), f.Close())
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

func dirOf(name string) string {
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		return name[:i+1]
	}
	return "."
}

// ShowAnswer prints an answer as a table.
func ShowAnswer(w io.Writer, x client.Answer) {
	names := make([]string, len(x.Columns))
	for i, c := range x.Columns {
		if names[i] = c.Name; isNumber(c.Kind) {
			names[i] = " " + c.Name
		}
	}
	g := grid(w, names...)
	for _, r := range x.Rows {
		row := make(table.Row, len(r))
		for i, v := range r {
			if row[i] = "–"; v != nil {
				row[i] = *v
			}
		}
		g.AppendRow(row)
	}
	g.Render()
	more := ""
	if x.More {
		more = ", and more: --rows asks for more of them, --file writes all"
	}
	_, _ = fmt.Fprintf(w, "%s%s\n", words.Plural(int64(len(x.Rows)), "row"), more)
}

func isNumber(kind string) bool {
	switch kind {
	case "int16", "int32", "int64", "float32", "float64", "numeric":
		return true
	}
	return strings.HasPrefix(kind, "decimal")
}

// prompt answers questions until its person leaves. Each ends with a semicolon; the arrows bring back those before.
func (a *app) prompt(ctx context.Context, c *client.Client, cmd *cobra.Command, warehouse string, in *os.File) error {
	if _, err := c.Ask(ctx, warehouse, client.Ask{SQL: "SELECT 1"}); err != nil {
		return err
	}
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return err
	}
	defer func() { _ = term.Restore(int(in.Fd()), before) }()
	screen := struct {
		io.Reader
		io.Writer
	}{bufio.NewReader(in), cmd.OutOrStdout()}
	t := term.NewTerminal(screen, "")
	if width, height, err := term.GetSize(int(in.Fd())); err == nil {
		_ = t.SetSize(width, height)
	}
	_, _ = fmt.Fprintf(t, "You ask the warehouse %s. A question ends with ; and an empty line, or Ctrl-D, leaves.\n",
		warehouse)
	for text := ""; ; {
		t.SetPrompt(warehouse + "> ")
		if text != "" {
			t.SetPrompt(strings.Repeat(" ", len(warehouse)) + "| ")
		}
		line, err := t.ReadLine()
		if errors.Is(err, io.EOF) || err == nil && text == "" && strings.TrimSpace(line) == "" {
			return nil
		}
		if err != nil {
			return err
		}
		text = strings.TrimLeft(text+"\n"+line, "\n")
		question, ended := strings.CutSuffix(strings.TrimSpace(text), ";")
		if !ended {
			continue
		}
		text = ""
		x, err := c.Ask(ctx, warehouse, client.Ask{SQL: question, Rows: tableRows})
		if err != nil {
			_, _ = fmt.Fprintln(visible{t}, "Error: "+explain(err))
			continue
		}
		ShowAnswer(visible{t}, x)
	}
}

func (a *app) questionsCommand() *cobra.Command {
	var f client.QuestionFilter
	var running bool
	list := &cobra.Command{Use: "list", Short: "List what warehouses were asked, the newest first", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			if running {
				f.State = "running"
			}
			x, err := c.Questions(ctx, f)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, " number", "when", "by", "warehouse", "state", " rows", "question")
				for _, q := range x {
					text := oneLine(q.SQL)
					if q.Problem != "" {
						text += "\n" + q.Problem
					}
					g.AppendRow(table.Row{q.ID, when(&q.At), q.By, q.Warehouse, q.State, words.Number(q.Rows), text})
				}
				g.Render()
			})
		})}
	list.Flags().StringVar(&f.By, "by", "", "only those by this person or token")
	list.Flags().StringVar(&f.Warehouse, "warehouse", "", "only those to this warehouse")
	list.Flags().BoolVar(&running, "running", false, "only those that are being answered")
	list.Flags().Int64Var(&f.Before, "before", 0, "only those before the one of this number")
	list.Flags().IntVar(&f.Limit, "limit", 0, "how many at most (50)")
	stop := &cobra.Command{Use: "stop QUESTION", Short: "Stop a question: your own, or any if you operate",
		Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := numberOf(args[0], "question")
			if err != nil {
				return err
			}
			if err := c.StopQuestion(ctx, id); err != nil {
				return err
			}
			return a.say(cmd, map[string]int64{"stopped": id}, "Question %d is to stop.", id)
		})}
	return group("questions", "What warehouses were asked, and questions that people share", list, stop, a.savedCommand(),
		a.saveCommand(), a.unsaveCommand())
}

func (a *app) savedCommand() *cobra.Command {
	return &cobra.Command{Use: "saved", Short: "List the questions that people share", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.SavedQuestions(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "name", "warehouse", "by", "since", "question")
				for _, q := range x {
					text := oneLine(q.SQL)
					g.AppendRow(table.Row{q.Name, q.Warehouse, q.By, when(&q.At), text})
				}
				g.Render()
			})
		})}
}

func (a *app) saveCommand() *cobra.Command {
	return &cobra.Command{Use: "save NAME WAREHOUSE QUESTION", Short: "Share a question by a name, or change your own",
		Args: exactly(3), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.SaveQuestion(ctx, args[0], args[1], args[2]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"saved": args[0]}, "The question is saved as %q.", args[0])
		})}
}

func (a *app) unsaveCommand() *cobra.Command {
	return &cobra.Command{Use: "unsave NAME", Short: "Remove a question that you share", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.RemoveSavedQuestion(ctx, args[0]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"removed": args[0]}, "The question %q is shared no more.", args[0])
		})}
}

// oneLine is a question in as much of a line as a table has room for.
func oneLine(sql string) string {
	const most = 100
	text := []rune(strings.Join(strings.Fields(sql), " "))
	if len(text) > most {
		return string(text[:most-1]) + "…"
	}
	return string(text)
}
