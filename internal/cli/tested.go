package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"noemata/client"
	"noemata/internal/connection"
	"noemata/internal/connection/tunnel"
	"noemata/internal/core/words"
)

// found shows what a test found, step by step, and what the source offers; then a sentence.
func (a *app) found(cmd *cobra.Command, value any, t client.Tested, format string, args ...any) error {
	return a.show(cmd, value, func(w io.Writer) {
		steps(w, t.Steps)
		if o := t.Offer; o != nil {
			offered(w, *o)
		}
		_, _ = fmt.Fprintf(w, "\n"+format+"\n", args...)
	})
}

func steps(w io.Writer, taken []connection.Taken) {
	g := grid(w, "step", "", "found", " took")
	for _, s := range taken {
		state := "done"
		switch {
		case !s.Done:
			state = "failed"
		case s.Warns:
			state = "look"
		}
		said := s.Said
		if s.Remedy != "" {
			said += ". " + s.Remedy
		}
		g.AppendRow(table.Row{s.Step, state, orDash(said), time.Duration(s.Took * float64(time.Second)).
			Round(time.Millisecond)})
	}
	g.Render()
}

func offered(w io.Writer, o client.Offer) {
	may := "The change log can be followed."
	switch {
	case o.NoLog:
		may = "There is no change log to follow: changes are found by watermark, by comparison, or as a whole."
	case !o.Log:
		may = "The change log cannot be followed yet."
	}
	_, _ = fmt.Fprintf(w, "\n%s", may)
	if o.LogPerHour >= 0 {
		_, _ = fmt.Fprintf(w, " By the average of the last %s, the server writes %s of it in an hour, and keeps that for "+
			"each hour that a feed is paused.", duration(time.Duration(o.LogOver*float64(time.Second))),
			words.Size(o.LogPerHour))
	}
	_, _ = fmt.Fprintln(w)
	showFindings(w, o.Findings)
}

// untested shows how far a test came that failed.
func untested(cmd *cobra.Command, output string, err error) {
	var answer *client.Error
	if output != "json" && errors.As(err, &answer) && len(answer.Steps) > 0 {
		steps(visible{cmd.ErrOrStderr()}, answer.Steps)
	}
}

// accepting does what needs the keys of the servers of a tunnel. A person is shown each that is not
// accepted yet, and may accept it.
func accepting(cmd *cobra.Command, n *client.NewConnection, do func() error) error {
	for range 2 * len(hopsOf(n)) {
		err := do()
		var answer *client.Error
		if !errors.As(err, &answer) || answer.Value == "" || !isTerminal(cmd.InOrStdin()) {
			return err
		}
		at, ok := hopOf(answer.Field)
		if !ok || at >= len(hopsOf(n)) {
			return err
		}
		_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "%s\nIs it the right one? [y/N] ", answer.Detail)
		line, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
		if word := strings.ToLower(strings.TrimSpace(line)); word != "y" && word != "yes" {
			return err
		}
		n.Settings.Tunnel[at].HostKey = answer.Value
	}
	return do()
}

func hopsOf(n *client.NewConnection) []tunnel.Hop {
	if n.Settings == nil {
		return nil
	}
	return n.Settings.Tunnel
}

// hopOf is the place of the hop that a field such as tunnel.0.host_key is of.
func hopOf(field string) (at int, ok bool) {
	parts := strings.Split(field, ".")
	if len(parts) != 3 || parts[0] != "tunnel" {
		return 0, false
	}
	at, err := strconv.Atoi(parts[1])
	return at, err == nil && at >= 0
}

// through are the flags of a tunnel.
type through struct {
	hops, hostKeys []string
	keyFile        string
	agent, none    bool
}

func (t *through) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringArrayVar(&t.hops, "tunnel", nil, "go through this server by SSH, as user@host or user@host:22; repeat it for "+
		"several, the nearest first")
	f.StringVar(&t.keyFile, "tunnel-key-file", "", "private key to sign in to them with (its passphrase is asked for, or "+
		"NOEMATA_TUNNEL_PASSPHRASE); without a key a password (NOEMATA_TUNNEL_PASSWORD)")
	f.StringArrayVar(&t.hostKeys, "tunnel-host-key", nil, "the key that a server of the tunnel is known by, such as "+
		"'ssh-ed25519 SHA256:…'; repeat it in the order of --tunnel. A person is shown it")
	f.BoolVar(&t.agent, "tunnel-agent", false, "sign in to them with the keys of the service's agent (serve --ssh-agent)")
	f.BoolVar(&t.none, "no-tunnel", false, "go to the server itself")
	c.MarkFlagsMutuallyExclusive("tunnel", "no-tunnel")
}

// take gives the tunnel that the flags say, over what there was before.
func (t *through) take(cmd *cobra.Command, before []tunnel.Hop) ([]tunnel.Hop, error) {
	list := before
	if t.none {
		return nil, nil
	}
	if len(t.hops) > 0 {
		list = nil
		for _, text := range t.hops {
			h, err := hop(text)
			if err != nil {
				return nil, err
			}
			list = append(list, h)
		}
	}
	if len(t.hostKeys) > len(list) {
		return nil, usageError{fmt.Errorf("there are %d keys of servers and %d servers of the tunnel; give a --tunnel for each "+
			"--tunnel-host-key", len(t.hostKeys), len(list))}
	}
	if len(list) == 0 && (t.keyFile != "" || t.agent) {
		return nil, usageError{errors.New("there is no tunnel to sign in to; give --tunnel user@host, too")}
	}
	var key, passphrase, password string
	if t.keyFile != "" {
		content, err := os.ReadFile(t.keyFile)
		if err != nil {
			return nil, usageError{fmt.Errorf("the tunnel's key cannot be read: %w", err)}
		}
		key, passphrase = string(content), os.Getenv("NOEMATA_TUNNEL_PASSPHRASE")
		if field, _ := (tunnel.Hop{Host: "x", User: "x", Key: key, Passphrase: passphrase}).Check(); field == "passphrase" &&
			passphrase == "" && isTerminal(cmd.InOrStdin()) {
			if passphrase, err = readSecret(cmd, "Passphrase of the tunnel's key: "); err != nil {
				return nil, err
			}
		}
	} else {
		password = os.Getenv("NOEMATA_TUNNEL_PASSWORD")
		if len(t.hops) > 0 && !t.agent && password == "" && isTerminal(cmd.InOrStdin()) {
			var err error
			if password, err = readSecret(cmd, "Password for the tunnel: "); err != nil {
				return nil, err
			}
		}
	}
	for i := range list {
		if key != "" || password != "" || t.agent {
			list[i].Key, list[i].Passphrase, list[i].Password, list[i].Agent = key, passphrase, password, t.agent
		}
		if i < len(t.hostKeys) {
			list[i].HostKey = t.hostKeys[i]
		}
	}
	return list, nil
}

// hop reads user@host:port.
func hop(text string) (tunnel.Hop, error) {
	user, rest, ok := strings.Cut(text, "@")
	h := tunnel.Hop{User: user, Host: rest}
	if host, port, found := strings.Cut(rest, ":"); found && !strings.Contains(port, ":") {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			ok = false
		}
		h.Host, h.Port = host, int(n)
	}
	if inner, port, found := strings.Cut(strings.TrimPrefix(rest, "["), "]"); strings.HasPrefix(rest, "[") && found {
		n, err := strconv.ParseUint(strings.TrimPrefix(port, ":"), 10, 16)
		if port != "" && err != nil {
			ok = false
		}
		h.Host, h.Port = inner, int(n)
	}
	if !ok || h.Host == "" || h.User == "" {
		return h, usageError{fmt.Errorf("%q is no server of a tunnel; write user@host or user@host:22", text)}
	}
	return h, nil
}

// certificate are the flags of what is shown to a server.
type certificate struct{ file, keyFile string }

func (x *certificate) flags(c *cobra.Command) {
	c.Flags().StringVar(&x.file, "certificate-file", "", "PEM file of the certificate to show to the server")
	c.Flags().StringVar(&x.keyFile, "key-file", "", "PEM file of the certificate's private key")
}

func (x *certificate) take(s *connection.Settings) error {
	for _, part := range []struct {
		file string
		into *string
	}{{x.file, &s.Certificate}, {x.keyFile, &s.Key}} {
		if part.file == "" {
			continue
		}
		content, err := os.ReadFile(part.file)
		if err != nil {
			return usageError{fmt.Errorf("the file %s cannot be read: %w", part.file, err)}
		}
		*part.into = string(content)
	}
	return nil
}
