// Package cli is the command line. Its commands speak to a service through the API
// client alone, but for serve and demo, which start one.
//
// Exit codes: 0 done; 1 failed; 2 the command, a file or a value is wrong; 3 done,
// and the answer is no: rows differ, a run failed, a feed file would change
// something; 4 the service cannot be reached, or does not know the token.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"noemata/client"
	"noemata/internal/core/problem"
)

// Exit codes.
const (
	ExitFailed  = 1
	ExitUsage   = 2
	ExitNo      = 3
	ExitService = 4
)

// errNo ends a command whose answer is no; it was said already.
var errNo = errors.New("the answer is no")

// usageError is a mistake in how a command was called.
type usageError struct{ error }

// Demo runs the demo world; main sets it, so that this package need not know it.
type Demo func(ctx context.Context, o DemoOptions) (equal bool, err error)

// DemoOptions say how the demo runs.
type DemoOptions struct {
	Dir    string
	Listen string
	Check  bool // run the whole example without a person, then end
	Out    io.Writer
}

// Main runs a command and gives the exit code.
func Main(version string, demo Demo, args []string, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := New(version, demo)
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	if !errors.Is(err, errNo) {
		if output, _ := root.PersistentFlags().GetString("output"); output == "json" {
			_ = json.NewEncoder(errOut).Encode(inJSON(err))
		} else {
			_, _ = fmt.Fprintln(visible{errOut}, "Error: "+explain(err))
		}
	}
	return exitCode(err)
}

// failure is an error for programs.
type failure struct {
	Code   string   `json:"code"`
	Detail string   `json:"detail"`
	Remedy string   `json:"remedy,omitempty"`
	Errors []string `json:"errors,omitempty"`
	Exit   int      `json:"exit"`
}

func inJSON(err error) failure {
	f := failure{Exit: exitCode(err)}
	var answer *client.Error
	var usage usageError
	switch {
	case errors.As(err, &answer):
		f.Code, f.Detail, f.Remedy, f.Errors = answer.Code, answer.Detail, answer.Remedy, answer.Errors
	case errors.As(err, &usage):
		f.Code, f.Detail, f.Remedy = string(problem.Invalid), usage.Error(), "See noemata --help, or --help after a "+
			"command."
	default:
		p := problem.Of(err)
		f.Code, f.Detail, f.Remedy = string(p.Code), p.What, p.Remedy
	}
	return f
}

func explain(err error) string {
	var answer *client.Error
	if errors.As(err, &answer) {
		lines := append([]string{answer.Error()}, answer.Errors...)
		if len(answer.Errors) <= 1 {
			lines = lines[:1]
		}
		return strings.Join(lines, "\n  ")
	}
	var usage usageError
	if errors.As(err, &usage) {
		return usage.Error() + "\nSee noemata --help, or --help after a command."
	}
	return problem.Of(err).Error()
}

func exitCode(err error) int {
	var usage usageError
	var answer *client.Error
	switch {
	case errors.Is(err, errNo):
		return ExitNo
	case errors.As(err, &usage), problem.Is(err, problem.Invalid):
		return ExitUsage
	case errors.As(err, &answer) && answer.Status == http.StatusUnauthorized:
		return ExitService
	case errors.As(err, &answer) && answer.Status == http.StatusUnprocessableEntity:
		return ExitUsage
	case problem.Is(err, problem.Unreachable):
		return ExitService
	}
	return ExitFailed
}

// app is what the commands share.
type app struct {
	version string
	address string
	token   string
	output  string
}

// New makes the command tree.
func New(version string, demo Demo) *cobra.Command {
	a := &app{version: version}
	root := &cobra.Command{
		Use: "noemata", Short: "Keep tables of databases replicated into a warehouse, exactly, and prove it",
		Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usageError{fmt.Errorf("noemata has no command %q", args[0])}
			}
			return c.Help()
		},
		SilenceErrors: true, SilenceUsage: true, Version: version,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			more := c.Annotations[formats]
			if a.output == "table" || a.output == "json" || slices.Contains(strings.Split(more, ", "), a.output) && more != "" {
				return nil
			}
			return usageError{fmt.Errorf("--output is %s, not %q",
				strings.Join(append([]string{"table", "json"}, strings.FieldsFunc(more, func(r rune) bool {
					return r == ',' || r == ' '
				})...), ", "), a.output)}
		},
	}
	root.PersistentFlags().StringVar(&a.address, "address", "",
		"the service's address (NOEMATA_ADDRESS; else the profile's)")
	root.PersistentFlags().StringVar(&a.token, "token", "", "the token to use (NOEMATA_TOKEN; else the profile's)")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table for people, json for programs")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.AddCommand(a.serveCommand(), demoCommand(demo), a.signInCommand(), a.aboutCommand(), a.openAPICommand(),
		a.tokensCommand(), a.sessionsCommand(), a.usersCommand(), a.processesCommand(), a.alertsCommand(),
		a.channelsCommand(), a.changesCommand(), a.keysCommand(),
		a.connectionsCommand(client.Sources), a.connectionsCommand(client.Warehouses),
		a.overviewCommand(), a.feedsCommand(), a.runsCommand(), a.positionsCommand(), a.backfillCommand(),
		a.backfillsCommand(),
		a.proveCommand(), a.repairCommand(), a.proofsCommand(), a.sampleCommand(),
		a.askCommand(), a.exportCommand(), a.questionsCommand(), a.derivedCommand(), a.marksCommand(),
		a.logCommand(), a.volumesCommand(), a.burdenCommand(), a.retentionCommand(),
		a.versionsCommand(), a.wordsCommand(), a.manCommand())
	a.completes(root)
	exemplify(root)
	return root
}

// group is a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usageError{fmt.Errorf("%s has no command %q", c.CommandPath(), args[0])}
		}
		return c.Help()
	}}
	c.AddCommand(commands...)
	return c
}

// exactly wants that many arguments.
func exactly(n int) cobra.PositionalArgs { return between(n, n) }

// anyAbove is most of between where there is no end.
const anyAbove = 1 << 20

// between wants at least and at most so many arguments.
func between(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch n := len(args); {
		case n < least:
			return usageError{fmt.Errorf("%s lacks a word; write %s", c.CommandPath(), c.UseLine())}
		case n > most:
			return usageError{fmt.Errorf("%s has %q too many; write %s", c.CommandPath(),
				strings.Join(args[most:], " "), c.UseLine())}
		}
		return nil
	}
}

// profile is where the user signs in, in the user's configuration folder.
type profile struct {
	Address string `yaml:"address"`
	Token   string `yaml:"token"`
}

func profilePath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the configuration folder: %w", err)
	}
	return filepath.Join(dir, "noemata", "profile.yaml"), nil
}

func readProfile() profile {
	var p profile
	if path, err := profilePath(); err == nil {
		if content, err := os.ReadFile(path); err == nil {
			_ = yaml.Unmarshal(content, &p) // a damaged profile counts as none
		}
	}
	return p
}

func writeProfile(p profile) (string, error) {
	path, err := profilePath()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	content, err := yaml.Marshal(p)
	if err != nil {
		return "", err
	}
	_ = os.Remove(path) // so that the mode below holds for a file that was there
	return path, os.WriteFile(path, content, 0o600)
}

// DefaultListen is where a service listens unless told otherwise, and DefaultSQLListen where its SQL port usually does.
const (
	DefaultListen    = "127.0.0.1:8420"
	DefaultSQLListen = "127.0.0.1:8433"
)

// client makes the API client: flags first, then the environment, then the profile.
func (a *app) client() (*client.Client, error) {
	p := readProfile()
	ofEnv := profile{os.Getenv("NOEMATA_ADDRESS"), os.Getenv("NOEMATA_TOKEN")}
	address := firstOf(a.address, ofEnv.Address, p.Address, "http://"+DefaultListen)
	token := firstOf(a.token, ofEnv.tokenFor(address), p.tokenFor(address))
	if token == "" && a.address != "" && p.Token+ofEnv.Token != "" {
		return nil, &client.Error{Status: http.StatusUnauthorized,
			Detail: fmt.Sprintf("There is no token for %s: the one that is kept is for another address, and is not "+
				"sent there.", address),
			Remedy: "Sign in there with noemata sign-in --address " + address + ", or give --token."}
	}
	if token == "" {
		return nil, &client.Error{Status: http.StatusUnauthorized, Detail: "You are not signed in.",
			Remedy: "Sign in with noemata sign-in, or set NOEMATA_TOKEN."}
	}
	return client.New(address, token), nil
}

// tokenFor is the token, if it is for this address: what was given for one service is sent
// to no other. In the environment a token may stand without an address.
func (p profile) tokenFor(address string) string {
	if p.Address != "" && strings.TrimSuffix(p.Address, "/") != strings.TrimSuffix(address, "/") {
		return ""
	}
	return p.Token
}

func firstOf(options ...string) string {
	for _, o := range options {
		if o != "" {
			return o
		}
	}
	return ""
}

// do runs a command against the service.
func (a *app) do(work func(ctx context.Context, c *client.Client, cmd *cobra.Command,
	args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return work(cmd.Context(), c, cmd, args)
	}
}

// show prints a value as JSON, or as table makes it.
func (a *app) show(cmd *cobra.Command, value any, asTable func(w io.Writer)) error {
	if a.output == "json" {
		e := json.NewEncoder(cmd.OutOrStdout())
		e.SetIndent("", "  ")
		return e.Encode(value)
	}
	asTable(visible{cmd.OutOrStdout()})
	return nil
}

// visible is a terminal that what is printed cannot steer: control characters, and those
// that turn the direction of text, are shown as what they are.
type visible struct{ io.Writer }

func (v visible) Write(p []byte) (int, error) {
	clean := strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return r
		case r < ' ':
			return r + 0x2400 // the pictures of control characters (Unicode, Control Pictures)
		case r == 0x7f:
			return 0x2421
		case r >= 0x80 && r < 0xa0, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x200e, r == 0x200f,
			r == 0x061c:
			return '\ufffd'
		}
		return r
	}, string(p))
	if _, err := io.WriteString(v.Writer, clean); err != nil {
		return 0, err
	}
	return len(p), nil
}

// say prints a sentence, or the value as JSON.
func (a *app) say(cmd *cobra.Command, value any, format string, args ...any) error {
	return a.show(cmd, value, func(w io.Writer) { _, _ = fmt.Fprintf(w, format+"\n", args...) })
}

// grid is a table in the one style that all commands use. Columns whose header
// ends in a space before it, " rows", hold numbers and are right-aligned.
func grid(w io.Writer, header ...string) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.Style{Name: "noemata", Box: table.StyleBoxDefault, Options: table.Options{},
		Format: table.FormatOptionsDefault}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	style.Format.Header, style.Format.Footer = text.FormatDefault, text.FormatDefault
	t.SetStyle(style)
	var row table.Row
	var configs []table.ColumnConfig
	for i, h := range header {
		name, number := strings.CutPrefix(h, " ")
		row = append(row, name)
		if number {
			configs = append(configs, table.ColumnConfig{Number: i + 1, Align: text.AlignRight,
				AlignHeader: text.AlignRight})
		}
	}
	t.AppendHeader(row)
	t.SetColumnConfigs(configs)
	return t
}
