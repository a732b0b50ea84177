package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"noemata/client"
	"noemata/internal/asking"
	"noemata/internal/core/window"
	"noemata/internal/httpapi"
	"noemata/internal/records"
	"noemata/internal/service"
)

func (a *app) serveCommand() *cobra.Command {
	o := service.Options{Version: a.version}
	var oidc httpapi.Provider
	c := &cobra.Command{Use: "serve", Short: "Run the service", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			slog.SetDefault(slog.New(slog.NewJSONHandler(cmd.ErrOrStderr(), nil)))
			syscall.Umask(0o077)
			if oidc.Issuer != "" {
				oidc.Secret = os.Getenv("NOEMATA_OIDC_SECRET")
				o.Provider = &oidc
			}
			o.DatabaseURL = firstOf(o.DatabaseURL, os.Getenv("NOEMATA_DATABASE_URL"))
			s, first, err := service.Start(cmd.Context(), o)
			if err != nil {
				return err
			}
			defer s.Stop()
			w := cmd.OutOrStdout()
			if s.SQLAddress != "" {
				_, _ = fmt.Fprintf(w, "Clients of PostgreSQL ask warehouses at %s\n", s.SQLAddress)
			}
			_, _ = fmt.Fprintf(w, "Noemata listens on %s\n", s.Address)
			if first != "" {
				which := "The first"
				if o.NewToken {
					which = "Another"
				}
				_, _ = fmt.Fprintf(w, "%s administrator's token, shown this once: %s\nSign in with: noemata "+
					"sign-in --address %s --token TOKEN\n", which, first, s.Address)
			}
			return s.Wait(cmd.Context())
		}}
	f := c.Flags()
	f.StringVar(&o.Listen, "listen", DefaultListen, "host and port to listen on")
	f.StringVar(&o.DataDir, "data", service.DefaultDataDir(),
		"folder for the key and, without --database-url, the records")
	f.StringVar(&o.DatabaseURL, "database-url", "",
		"PostgreSQL database for the records (else NOEMATA_DATABASE_URL, which no list of processes shows); without "+
			"one it is started")
	f.StringVar(&o.Certificate, "certificate", "", "PEM file with the certificate, to serve HTTPS")
	f.StringVar(&o.Key, "key", "", "PEM file with the certificate's key; both are read again when they change")
	f.BoolVar(&o.PlainHTTP, "plain-http", false, "listen beyond this machine without TLS; tokens travel in the clear")
	f.StringArrayVar(&o.Proxies, "trusted-proxy", nil,
		"address or network of a proxy whose X-Forwarded-For and X-Forwarded-Proto are believed; repeatable")
	f.StringArrayVar(&o.Folders, "warehouse-dir", nil,
		"folder below which warehouse files may be; repeatable (default: warehouses in the data folder)")
	f.StringArrayVar(&o.SourceDirs, "source-dir", nil,
		"folder below which files of sources (SQLite) may be read; repeatable (default: none)")
	f.BoolVar(&o.Agent, "ssh-agent", false,
		"let tunnels sign in with the keys of the agent at SSH_AUTH_SOCK, where a source or warehouse asks for it")
	f.StringVar(&o.Host, "host", "",
		"what this machine is called among the service's processes; as it calls itself when left out")
	f.StringVar(&oidc.Issuer, "oidc-issuer", "",
		"address of an OpenID Connect provider where people sign in; its client's secret is NOEMATA_OIDC_SECRET")
	f.StringVar(&oidc.ClientID, "oidc-client", "", "what the service is called there")
	f.StringVar(&oidc.Name, "oidc-name", "your organisation", "by what name people know the provider")
	f.StringVar(&oidc.Claim, "oidc-claim", "groups", "the claim that lists a person's groups")
	f.StringArrayVar(&oidc.Groups, "oidc-group", nil,
		"what a group may do, as operate=lending, or operate@region=north=lending for feeds with a label; repeatable, "+
			"and the first that fits counts")
	f.StringVar(&oidc.Public, "public-url", "",
		"the console's own address as people reach it, which the provider sends them back to")
	f.StringVar(&o.SQLListen, "sql-listen", "",
		"host and port where clients of PostgreSQL ask warehouses, as 127.0.0.1:8433; without it, they do not")
	f.DurationVar(&o.Asking.Time, "ask-time", asking.Usual.Time, "how long a question may take, its answer included")
	f.Int64Var(&o.Asking.Rows, "ask-rows", asking.Usual.Rows, "how many rows an answer may have")
	f.IntVar(&o.Asking.AtOnce, "ask-at-once", asking.Usual.AtOnce, "how many questions are answered at once; others wait")
	f.BoolVar(&o.NewToken, "new-token", false,
		"make another administrator's token and show it, where the last one was lost")
	f.BoolVar(&o.Paused, "paused", false,
		"start without running anything; a feed runs again once it is started or asked to run")
	return c
}

// asksWhat is the help of --ask.
const asksWhat = "what may be asked in SQL: a warehouse, as lake, or a schema of one, as lake.kept; * stands for " +
	"any letters; repeatable"

// asksOf says what somebody may ask.
func asksOf(role records.Role, asks []string) string {
	if role == records.Administer {
		return "all"
	}
	return orDash(strings.Join(asks, ", "))
}

func demoCommand(demo Demo) *cobra.Command {
	o := DemoOptions{}
	c := &cobra.Command{Use: "demo", Short: "Run the service with a made-up region's libraries as an example",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			syscall.Umask(0o077)
			level := slog.LevelWarn
			slog.SetDefault(slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), &slog.HandlerOptions{Level: level})))
			o.Out = cmd.OutOrStdout()
			equal, err := demo(cmd.Context(), o)
			if err == nil && !equal {
				return errNo
			}
			return err
		}}
	c.Flags().StringVar(&o.Dir, "data", ".demo", "folder for the demo's databases")
	c.Flags().StringVar(&o.Listen, "listen", DefaultListen, "host and port to listen on")
	c.Flags().BoolVar(&o.Check, "check", false,
		"run the whole example without a person, prove the replicas equal, and end; keeps what the demo has, "+
			"changes nothing of a person's")
	return c
}

func (a *app) signInCommand() *cobra.Command {
	return &cobra.Command{Use: "sign-in",
		Short: "Keep address and token for later commands, in the user's configuration folder", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			p := profile{Address: firstOf(a.address, readProfile().Address, "http://"+DefaultListen), Token: a.token}
			if p.Token == "" {
				var err error
				if p.Token, err = readSecret(cmd, "Token: "); err != nil {
					return err
				}
			}
			about, err := client.New(p.Address, p.Token).About(cmd.Context())
			if err != nil {
				return err
			}
			path, err := writeProfile(p)
			if err != nil {
				return fmt.Errorf("keep the sign-in: %w", err)
			}
			return a.say(cmd, about, "Signed in to Noemata %s at %s; kept in %s.", about.Version, p.Address, path)
		}}
}

// isTerminal tells whether a person sits at what is read.
func isTerminal(in io.Reader) bool {
	f, ok := in.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// readSecret asks for a secret without showing it; piped input is read as it is.
func readSecret(cmd *cobra.Command, prompt string) (string, error) {
	if f, ok := cmd.InOrStdin().(*os.File); ok && isTerminal(f) {
		_, _ = fmt.Fprint(cmd.ErrOrStderr(), prompt)
		secret, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(cmd.ErrOrStderr())
		return strings.TrimSpace(string(secret)), err
	}
	content, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 64<<10))
	return strings.TrimRight(string(content), "\r\n"), err
}

func (a *app) aboutCommand() *cobra.Command {
	return &cobra.Command{Use: "about", Short: "Say what the service is", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.About(ctx)
			if err != nil {
				return err
			}
			return a.say(cmd, x, "Noemata %s reads %s and writes %s.", x.Version, strings.Join(x.Sources, ", "),
				strings.Join(x.Warehouses, ", "))
		})}
}

func (a *app) openAPICommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the API's description, OpenAPI 3.1 in JSON", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			description, err := httpapi.OpenAPI(a.version)
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(append(description, '\n'))
			return err
		}}
}

func (a *app) tokensCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List tokens", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Tokens(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, " number", "name", "role", "feeds", "asks", "made", "last used", "expires")
				for _, t := range x {
					g.AppendRow(table.Row{t.ID, t.Name, t.Role, cmp.Or(t.Label, "all"), asksOf(t.Role, t.Asks), when(&t.CreatedAt),
						when(t.LastUsedAt),
						when(t.ExpiresAt)})
				}
				g.Render()
			})
		})}
	var n client.NewToken
	var expires string
	add := &cobra.Command{Use: "add NAME", Short: "Make a token; it is shown this once", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			if expires != "" {
				d, err := window.ParseDuration(expires)
				if err != nil {
					return usageError{fmt.Errorf("%q is not a length of time: write it as 12h or 90d", expires)}
				}
				at := time.Now().Add(d).UTC()
				n.ExpiresAt = &at
			}
			x, err := c.AddToken(ctx, n)
			if err != nil {
				return err
			}
			return a.say(cmd, x, "%s", x.Secret)
		})}
	add.Flags().StringVar((*string)(&n.Role), "role", "administer",
		"look; operate (run, pause and change feeds, prove, repair); or administer (connections, keys, tokens)")
	add.Flags().StringVar(&n.Label, "label", "", "only for feeds with this label: its name, or name=value")
	add.Flags().StringArrayVar(&n.Asks, "ask", nil, asksWhat)
	add.Flags().StringVar(&expires, "expires", "", "after how long it is not taken any more, as 12h or 90d (never)")
	remove := &cobra.Command{Use: "remove NUMBER", Short: "Remove a token and end its sessions", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is not a token's number", args[0])}
			}
			if err := c.RemoveToken(ctx, id); err != nil {
				return err
			}
			return a.say(cmd, map[string]int64{"removed": id}, "Token %d is removed.", id)
		})}
	return group("tokens", "Tokens that programs and people sign in with", list, add, remove)
}
