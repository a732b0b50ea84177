package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
)

func (a *app) alertsCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "alerts", Short: "List what needs a person, the newest first", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Alerts(ctx, all)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				if len(x) == 0 {
					_, _ = fmt.Fprintln(w, "Nothing needs a person.")
				}
				for _, m := range x {
					of := cmp.Or(strings.TrimSuffix(m.Feed+" / "+m.About, " / "), m.About)
					state := "since " + when(&m.BeganAt)
					if m.EndedAt != nil {
						state = "over " + when(m.EndedAt)
					}
					_, _ = fmt.Fprintf(w, "%-8s %s: %s\n", m.Kind, strings.TrimPrefix(of, " / "), m.What)
					if m.Remedy != "" && m.EndedAt == nil {
						_, _ = fmt.Fprintf(w, "         → %s\n", m.Remedy)
					}
					_, _ = fmt.Fprintf(w, "         %s; told: %s\n", state, orDash(strings.Join(m.Told, ", ")))
				}
			})
		})}
	c.Flags().BoolVar(&all, "all", false, "also those that are over")
	return c
}

func (a *app) channelsCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List who is told of alerts, and how", Args: exactly(0),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, _ []string) error {
			x, err := c.Channels(ctx)
			if err != nil {
				return err
			}
			return a.show(cmd, x, func(w io.Writer) {
				g := grid(w, "name", "way", "to", "kinds", "feeds", "lag", "quiet", "last message")
				for _, k := range x {
					last := when(k.ToldAt)
					if k.Problem != nil {
						last = "failed: " + k.Problem.What
					}
					g.AppendRow(table.Row{k.Name, k.Way, cmp.Or(k.URL, strings.Join(k.To, ", ")),
						cmp.Or(strings.Join(k.Kinds, ", "), "all"),
						cmp.Or(k.Label, "all"), orDash(k.Lag), orDash(strings.TrimSpace(k.Quiet + " " + k.Zone)), last})
				}
				g.Render()
			})
		})}
	test := &cobra.Command{Use: "test CHANNEL", Short: "Send a message that says that the channel works", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			x, err := c.TestChannel(ctx, args[0])
			if err != nil {
				return err
			}
			return a.say(cmd, x, "A message went out by %s.", x.Name)
		})}
	remove := &cobra.Command{Use: "remove CHANNEL", Short: "Remove a channel", Args: exactly(1),
		RunE: a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
			if err := c.RemoveChannel(ctx, args[0]); err != nil {
				return err
			}
			return a.say(cmd, map[string]string{"removed": args[0]}, "The channel %s is removed.", args[0])
		})}
	return group("channels", "Who is told of alerts, and how", list, a.saveChannelCommand(false),
		a.saveChannelCommand(true), test, remove)
}

// saveChannelCommand is `add`, or `change` where change is set.
func (a *app) saveChannelCommand(change bool) *cobra.Command {
	var k client.Channel
	use, short := "add NAME", "Add a channel"
	if change {
		use, short = "change CHANNEL", "Change what is given of a channel; the rest stays"
	}
	c := &cobra.Command{Use: use, Short: short, Args: exactly(1)}
	f := c.Flags()
	f.StringVar(&k.URL, "url", "", "of a webhook: where JSON is posted to")
	f.StringVar(&k.Host, "host", "", "of e-mail: the server that messages are handed to")
	f.IntVar(&k.Port, "port", 0, "its port (587; 465 with --tls always)")
	f.StringVar(&k.TLS, "tls", "", "always, starttls or off (starttls)")
	f.StringVar(&k.User, "user", "", "whom to sign in to it as")
	f.StringVar(&k.From, "from", "", "the sender's address")
	f.StringSliceVar(&k.To, "to", nil, "the receivers' addresses")
	f.StringSliceVar(&k.Kinds, "kinds", nil, "kinds of alert: held, failing, unequal, late, lag, log, drift, disk (all)")
	f.StringVar(&k.Label, "label", "", "only of feeds with this label: its name, or name=value")
	f.StringVar(&k.Lag, "lag", "", "how old what a warehouse shows may become, as 15m (never told)")
	f.StringVar(&k.Quiet, "quiet", "", "hours in which nothing is told, as 22:00-06:30")
	f.StringVar(&k.Zone, "zone", "", "the zone of --quiet, as Europe/Vienna (UTC)")
	secret := f.Bool("secret-stdin", false, "read the password, or what messages are signed with, from standard input "+
		"(or set NOEMATA_CHANNEL_SECRET)")
	c.RunE = a.do(func(ctx context.Context, c *client.Client, cmd *cobra.Command, args []string) error {
		n, save := k, c.AddChannel
		if change {
			old, err := c.Channel(ctx, args[0])
			if err != nil {
				return err
			}
			n, save = overChannel(old, k, cmd.Flags().Changed), c.ChangeChannel
		}
		n.Name, n.Secret = args[0], os.Getenv("NOEMATA_CHANNEL_SECRET")
		if n.Way == "" {
			n.Way = "email"
			if n.URL != "" {
				n.Way = "webhook"
			}
		}
		if *secret {
			var err error
			if n.Secret, err = readSecret(cmd, "Secret: "); err != nil {
				return err
			}
		}
		x, err := save(ctx, n)
		if err != nil {
			return err
		}
		return a.say(cmd, x, "The channel %s is kept. Try it: noemata channels test %[1]s.", x.Name)
	})
	return c
}

// overChannel is a channel as it was, but for what is given.
func overChannel(old, given client.Channel, set func(flag string) bool) client.Channel {
	for flag, take := range map[string]func(){
		"url": func() { old.URL = given.URL }, "host": func() { old.Host = given.Host },
		"port": func() { old.Port = given.Port },
		"tls":  func() { old.TLS = given.TLS }, "user": func() { old.User = given.User },
		"from": func() { old.From = given.From },
		"to":   func() { old.To = given.To }, "kinds": func() { old.Kinds = given.Kinds },
		"label": func() { old.Label = given.Label },
		"lag":   func() { old.Lag = given.Lag }, "quiet": func() { old.Quiet = given.Quiet },
		"zone": func() { old.Zone = given.Zone },
	} {
		if set(flag) {
			take()
		}
	}
	old.ToldAt, old.Problem = nil, nil
	return old
}
