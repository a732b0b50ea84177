package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/core/problem"
	"noemata/internal/core/words"
)

// mending are the flags of `feeds mend`.
type mending struct {
	sure, notes                 bool
	sourceUser, warehouseUser   string
	wait                        time.Duration
	statements                  []string
	sourceSignIn, warehouseSign *client.SignIn
}

func (a *app) mendCommand() *cobra.Command {
	var m mending
	c := &cobra.Command{Use: "mend FILE", Args: exactly(1),
		Short: "Run the statements that the findings of a feed file give as remedies, after showing them; then check again",
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			file, err := readFile(args[0], cmd.InOrStdin())
			if err != nil {
				return err
			}
			return a.mend(ctx, c, cmd, &m, file)
		})}
	f := c.Flags()
	f.BoolVar(&m.sure, "yes", false, "run them without asking")
	f.BoolVar(&m.notes, "notes", false, "remedies of notes, too, not only of blockers and warnings")
	f.StringVar(&m.sourceUser, "source-user", "",
		"sign in to the source as this user for it (its password is asked for, or "+
			"NOEMATA_SOURCE_PASSWORD)")
	f.StringVar(&m.warehouseUser, "warehouse-user", "",
		"sign in to the warehouse as this user for it (its password is asked "+
			"for, or NOEMATA_WAREHOUSE_PASSWORD)")
	f.DurationVar(&m.wait, "wait", 0, "check again until no blocker is left, for so long at most, such as 10m: for what "+
		"needs a restart")
	return c
}

func (a *app) mend(ctx context.Context, c *client.Client, cmd *cobra.Command, m *mending, file string) error {
	checked, err := c.FeedFile(ctx, file, client.Check)
	if err != nil {
		return err
	}
	out := client.Mended{Findings: checked.Findings}
	w := visible{cmd.ErrOrStderr()}
	for _, x := range checked.Findings {
		if x.Level == problem.Note && !m.notes {
			continue
		}
		if len(x.Statements) > 0 {
			_, _ = fmt.Fprintf(w, "%s %s\n", x.Level, about(x)+x.What)
		}
		for _, sql := range x.Statements {
			_, _ = fmt.Fprintf(w, "  at the %s: %s;\n", x.Side, sql)
			if !slices.Contains(m.statements, sql) { // several tables may have the same remedy
				m.statements = append(m.statements, sql)
			}
		}
	}
	if len(m.statements) > 0 {
		if yes, err := m.agreed(cmd); err != nil || !yes {
			return err
		}
		if err := m.signIns(cmd); err != nil {
			return err
		}
		if out, err = c.Mend(ctx, client.Mending{File: file, Statements: m.statements, Source: m.sourceSignIn,
			Warehouse: m.warehouseSign}); err != nil {
			return err
		}
	}
	for until := time.Now().Add(m.wait); blockers(out.Findings) > 0 && time.Now().Before(until); {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Second):
		}
		if checked, err = c.FeedFile(ctx, file, client.Check); err != nil {
			return err
		}
		out.Findings = checked.Findings
	}
	if err := a.show(cmd, out, func(w io.Writer) { mended(w, out) }); err != nil {
		return err
	}
	for _, d := range out.Done {
		if d.Problem != nil {
			return errNo
		}
	}
	if blockers(out.Findings) > 0 {
		return errNo
	}
	return nil
}

// agreed asks a person whether what was shown is to be run.
func (m *mending) agreed(cmd *cobra.Command) (bool, error) {
	if m.sure {
		return true, nil
	}
	if !isTerminal(cmd.InOrStdin()) {
		return false, usageError{fmt.Errorf("nothing was run: nobody is there to agree to these %s; give --yes",
			words.Plural(len(m.statements), "statement"))}
	}
	_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "Run %s? [y/N] ", words.Plural(len(m.statements), "statement"))
	line, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	word := strings.ToLower(strings.TrimSpace(line))
	return word == "y" || word == "yes", nil
}

func (m *mending) signIns(cmd *cobra.Command) error {
	for _, x := range []struct {
		user, variable, prompt string
		into                   **client.SignIn
	}{{m.sourceUser, "NOEMATA_SOURCE_PASSWORD", "Password at the source: ", &m.sourceSignIn},
		{m.warehouseUser, "NOEMATA_WAREHOUSE_PASSWORD", "Password at the warehouse: ", &m.warehouseSign}} {
		if x.user == "" {
			continue
		}
		as := &client.SignIn{User: x.user, Password: os.Getenv(x.variable)}
		if as.Password == "" && isTerminal(cmd.InOrStdin()) {
			var err error
			if as.Password, err = readSecret(cmd, x.prompt); err != nil {
				return err
			}
		}
		*x.into = as
	}
	return nil
}

func mended(w io.Writer, out client.Mended) {
	for _, d := range out.Done {
		if d.Problem != nil {
			_, _ = fmt.Fprintf(w, "failed   %s;\n         %s %s\n", d.Statement, d.Problem.What, d.Problem.Remedy)
			continue
		}
		_, _ = fmt.Fprintf(w, "run      %s;\n", d.Statement)
		if d.Then != "" {
			_, _ = fmt.Fprintf(w, "         → %s\n", d.Then)
		}
	}
	if len(out.Done) == 0 {
		_, _ = fmt.Fprintln(w, "No finding has a statement as its remedy.")
	}
	if len(out.Findings) > 0 {
		_, _ = fmt.Fprintln(w, "What is found now:")
		showFindings(w, out.Findings)
	}
}

func about(x client.Finding) string {
	if x.Table == "" {
		return ""
	}
	return x.Table + ": "
}

func blockers(findings []client.Finding) (n int) {
	for _, x := range findings {
		if x.Level == problem.Blocker {
			n++
		}
	}
	return n
}
