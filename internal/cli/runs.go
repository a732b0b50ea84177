package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"noemata/client"
	"noemata/internal/core/words"
)

func (a *app) runsCommand() *cobra.Command {
	return group("runs", "Runs: what feeds did, with every statement", a.startRunCommand(), a.listRunsCommand(),
		a.showRunCommand(), a.stopRunCommand())
}

func (a *app) listRunsCommand() *cobra.Command {
	f := client.RunFilter{}
	c := &cobra.Command{Use: "list", Short: "List runs, the newest first", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Runs(ctx, f)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, " run", "feed", "state", "by", " read", " inserted", " updated", " unchanged",
					" filtered", " set aside", " took", "began")
				for _, r := range x {
					b := r.Books
					g.AppendRow(table.Row{r.ID, r.Feed, r.State, r.Trigger, words.Number(b.Read), words.Number(b.Inserted),
						words.Number(b.Updated), words.Number(b.Unchanged), words.Number(b.Filtered), words.Number(b.SetAside), took(r),
						when(r.StartedAt)})
				}
				g.Render()
			})
		})}
	c.Flags().StringVar(&f.Feed, "feed", "", "only this feed's")
	c.Flags().StringVar(&f.Table, "table", "", "only those that had this table")
	c.Flags().IntVar(&f.Limit, "limit", 20, "how many")
	c.Flags().BoolVar(&f.Changed, "changed", false, "only those that read rows or did not succeed")
	return c
}

func (a *app) showRunCommand() *cobra.Command {
	var statements bool
	var tableName string
	c := &cobra.Command{Use: "show RUN", Short: "Show a run: counters, timings and, if asked, every statement",
		Args: exactly(1), RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command,
			args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is not a run's number", args[0])}
			}
			r, err := c.Run(ctx, id)
			if err != nil {
				return err
			}
			var made []client.Statement
			if statements {
				if made, err = c.Statements(ctx, id, tableName); err != nil {
					return err
				}
			}
			return a.show(cmd, struct {
				client.Run
				Statements []client.Statement `json:"statements,omitempty"`
			}{r, made}, func(w io.Writer) {
				showRun(w, r)
				showStatements(w, made)
			})
		})}
	c.Flags().BoolVar(&statements, "statements", false, "every statement, too")
	c.Flags().StringVar(&tableName, "table", "", "with --statements: only this table's")
	return c
}

func showRun(w io.Writer, r client.Run) {
	_, _ = fmt.Fprintf(w, "Run %d of %s: %s, by %s, began %s, took %s\n\n", r.ID, r.Feed, r.State, r.Trigger,
		when(r.StartedAt), took(r))
	g := grid(w, "table", "state", " read", " inserted", " updated", " deleted", " unchanged", " folded", " filtered",
		" set aside", " reading", " writing", "from", "to")
	for _, t := range r.Tables {
		b := t.Books
		g.AppendRow(table.Row{t.Table, t.State, words.Number(b.Read), words.Number(b.Inserted), words.Number(b.Updated),
			words.Number(b.Deleted), words.Number(b.Unchanged), words.Number(b.Folded), words.Number(b.Filtered),
			words.Number(b.SetAside),
			seconds(t.Reading), seconds(t.Writing), orDash(t.From), orDash(t.To)})
	}
	g.Render()
	for _, t := range r.Tables {
		for _, note := range t.Notes {
			_, _ = fmt.Fprintf(w, "\n%s: %s\n", t.Table, note)
		}
	}
	showProblems(w, r)
}

// showProblems prints each problem once, with the tables that have it.
func showProblems(w io.Writer, r client.Run) {
	var order []client.Problem
	tables := map[client.Problem][]string{}
	for _, t := range r.Tables {
		if t.Problem == nil {
			continue
		}
		if tables[*t.Problem] == nil {
			order = append(order, *t.Problem)
		}
		tables[*t.Problem] = append(tables[*t.Problem], t.Table)
	}
	if r.Problem != nil && len(order) == 0 {
		order = append(order, *r.Problem)
	}
	for _, p := range order {
		whose := ""
		switch names := tables[p]; {
		case len(names) == 0 || len(names) == len(r.Tables) && len(names) > 1:
		case len(names) > 5:
			whose = fmt.Sprintf("%s and %d more: ", strings.Join(names[:5], ", "), len(names)-5)
		default:
			whose = strings.Join(names, ", ") + ": "
		}
		_, _ = fmt.Fprintf(w, "\n%s%s %s\n", whose, p.What, p.Remedy)
	}
}

func showStatements(w io.Writer, made []client.Statement) {
	for _, s := range made {
		rows := "–"
		if s.Rows >= 0 {
			rows = words.Number(s.Rows)
		}
		_, _ = fmt.Fprintf(w, "\n-- %s, %s, %s, %s rows, %s\n%s\n", s.StartedAt.UTC().Format("15:04:05.000Z"), s.Table,
			s.Side, rows, seconds(s.Took), s.SQL)
		if s.Error != "" {
			_, _ = fmt.Fprintf(w, "-- failed: %s\n", s.Error)
		}
	}
}

func (a *app) startRunCommand() *cobra.Command {
	var detach bool
	c := &cobra.Command{Use: "start FEED", Short: "Run a feed now and follow it", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			run, err := c.StartRun(ctx, args[0])
			if err != nil {
				return err
			}
			if detach {
				return a.say(cmd, run, "Run %d of %s is queued.", run.ID, run.Feed)
			}
			watched := false
			if f, ok := cmd.ErrOrStderr().(*os.File); ok {
				watched = term.IsTerminal(int(f.Fd())) && a.output == "table"
			}
			if run, err = follow(ctx, c, run, watched, cmd.ErrOrStderr()); err != nil {
				return err
			}
			if err := a.show(cmd, run, func(w io.Writer) { showRun(w, run) }); err != nil {
				return err
			}
			if run.State != "done" || slices.ContainsFunc(run.Tables,
				func(t client.RunTable) bool { return t.Problem != nil }) {
				return errNo
			}
			return nil
		})}
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for its end")
	return c
}

func (a *app) stopRunCommand() *cobra.Command {
	return &cobra.Command{Use: "stop NUMBER",
		Short: "Stop a run that is queued or goes on; what it has committed stays", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is not a run's number", args[0])}
			}
			run, err := c.StopRun(ctx, id)
			if err != nil {
				return err
			}
			for !run.Ended() {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(150 * time.Millisecond):
				}
				if run, err = c.Run(ctx, id); err != nil {
					return err
				}
			}
			return a.say(cmd, run, "Run %d is %s.", run.ID, run.State)
		})}
}

// follow waits until a run has ended. With a person watching it shows how many rows
// have come in, out of how many.
func follow(ctx context.Context, c *client.Client, run client.Run, watched bool, out io.Writer) (client.Run, error) {
	var bar *progressbar.ProgressBar
	if watched {
		listening, stop := context.WithCancel(ctx)
		defer stop()
		bar = progressbar.NewOptions64(-1, progressbar.OptionSetWriter(out),
			progressbar.OptionSetDescription("waiting"), progressbar.OptionShowCount(),
			progressbar.OptionSetItsString("rows"), progressbar.OptionShowIts(), progressbar.OptionClearOnFinish(),
			progressbar.OptionThrottle(100*time.Millisecond))
		go watch(listening, c, run, bar)
	}
	for {
		latest, err := c.Run(ctx, run.ID)
		if err != nil || latest.Ended() {
			if bar != nil {
				_ = bar.Finish()
			}
			return latest, err
		}
		select {
		case <-ctx.Done():
			return latest, errors.New("stopped watching; the run goes on: noemata runs show " +
				strconv.FormatInt(run.ID, 10))
		case <-time.After(150 * time.Millisecond):
		}
	}
}

// watch moves the bar by the run's progress events.
func watch(ctx context.Context, c *client.Client, run client.Run, bar *progressbar.ProgressBar) {
	var shown progress
	if f, err := c.Feed(ctx, run.Feed); err == nil {
		shown.tables = len(f.Tables)
	}
	_ = c.Events(ctx, func(e client.Event) error { // the bar is for looks; the run is followed without it
		if e.Kind != "progress" || e.Run != run.ID {
			return nil
		}
		shown.take(e)
		bar.Describe(shown.text())
		done, all := shown.rows()
		bar.ChangeMax64(all)
		return bar.Set64(done)
	})
}
