package connection

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"

	"noemata/internal/connection/tunnel"
	"noemata/internal/core/problem"
)

// CheckServer tells whether the settings can name a database of a server, and fills in its
// usual port.
func CheckServer(s Settings, server string, port int) (Settings, error) {
	for _, field := range []struct{ name, value string }{{"host", s.Host}, {"database", s.Database}, {"user", s.User}} {
		if field.value == "" {
			return s, problem.Newf(problem.Invalid, "Give host, database and user, or a URL.",
				"A %s connection needs its %s.", server, field.name).In(field.name)
		}
	}
	if s.Path != "" {
		return s, problem.Newf(problem.Invalid, "Leave path out; it is for databases in a file.",
			"A %s connection has no path.", server).In("path")
	}
	if s.Port == 0 {
		s.Port = port
	}
	switch s.TLS {
	case "", TLSOff, TLSRequire, TLSVerifyCA, TLSVerifyFull:
	default:
		return s, problem.Newf(problem.Invalid, "Write off, require, verify-ca or verify-full.",
			"%q is not a TLS mode.", s.TLS).In("tls")
	}
	if s.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(s.CA)) {
		return s, problem.New(problem.Invalid, "The certificates to trust hold no certificate in PEM.",
			"Paste the content of the CA file, from BEGIN CERTIFICATE to END CERTIFICATE.").In("ca")
	}
	if _, err := s.Heavy(); err != nil {
		return s, err
	}
	if s.Connections != 0 && s.Connections < 6 {
		return s, problem.New(problem.Invalid, "Give 6 or more; feeds wait for each other as it is.",
			"A feed needs up to 6 connections at once.").In("connections")
	}
	if err := s.checkCertificate(); err != nil {
		return s, err
	}
	return s, s.checkTunnel()
}

// checkCertificate looks at what is shown to the server. The key may be in the records.
func (s Settings) checkCertificate() error {
	switch {
	case s.Certificate == "" && s.Key == "":
		return nil
	case s.Certificate == "":
		return problem.New(problem.Invalid, "There is a private key, and no certificate to show with it.",
			"Give the client's certificate, too, or leave the key out.").In("certificate")
	case s.Mode() == TLSOff:
		return problem.New(problem.Invalid, "A certificate is shown over TLS alone, and the TLS mode is off.",
			"Choose the TLS mode verify-full, or leave the certificate out.").In("tls")
	case s.Key == "":
		if block, _ := pem.Decode([]byte(s.Certificate)); block == nil || block.Type != "CERTIFICATE" {
			return problem.New(problem.Invalid, "The client's certificate is no certificate in PEM.",
				"Paste the content of its file, from BEGIN CERTIFICATE to END CERTIFICATE.").In("certificate")
		}
		return nil
	}
	if _, err := tls.X509KeyPair([]byte(s.Certificate), []byte(s.Key)); err != nil {
		return problem.Wrap(err, problem.Invalid, "The client's certificate and its private key do not go together, or "+
			"are not in PEM.", "Paste the content of both files, with their BEGIN and END lines; the key without a "+
			"passphrase.").In("certificate")
	}
	return nil
}

// mostHops is how many servers a tunnel may go through.
const mostHops = 5

func (s Settings) checkTunnel() error {
	if len(s.Tunnel) == 0 {
		return nil
	}
	if len(s.Tunnel) > mostHops || strings.HasPrefix(s.Host, "/") {
		return problem.Newf(problem.Invalid, "Leave the tunnel out, or give the server's host and fewer hops.",
			"A tunnel leads to a host, through %d servers at most.", mostHops).In("tunnel")
	}
	for i, h := range s.Tunnel {
		if field, err := h.Check(); err != nil {
			return problem.Newf(problem.Invalid, "Correct it.", "Hop %d of the tunnel: %s.", i+1, err).
				In(fmt.Sprintf("tunnel.%d.%s", i, field))
		}
	}
	return nil
}

// TLSConfig is what the TLS mode asks for; nil where it is off.
func (s Settings) TLSConfig() *tls.Config {
	mode := s.Mode()
	if mode == TLSOff {
		return nil
	}
	config := &tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12}
	if s.CA != "" {
		config.RootCAs = x509.NewCertPool()
		config.RootCAs.AppendCertsFromPEM([]byte(s.CA))
	}
	if s.Key != "" {
		if pair, err := tls.X509KeyPair([]byte(s.Certificate), []byte(s.Key)); err == nil { // it was checked
			config.Certificates = []tls.Certificate{pair}
		}
	}
	switch mode {
	case TLSRequire:
		config.InsecureSkipVerify = true
	case TLSVerifyCA:
		config.InsecureSkipVerify = true
		config.VerifyConnection = func(state tls.ConnectionState) error {
			options := x509.VerifyOptions{Roots: config.RootCAs, Intermediates: x509.NewCertPool()}
			for _, certificate := range state.PeerCertificates[1:] {
				options.Intermediates.AddCert(certificate)
			}
			_, err := state.PeerCertificates[0].Verify(options)
			return err
		}
	}
	return config
}

// Explain turns an error of the way to a server into a Problem; other errors get the
// server's name. at names the server with its address, what the database, such as
// `source "circulation"`.
func Explain(err error, at, what string, s Settings) error {
	var (
		dns       *net.DNSError
		authority x509.UnknownAuthorityError
		host      x509.HostnameError
		invalid   x509.CertificateInvalidError
	)
	var silent *SilentError
	if through := (*tunnel.Error)(nil); errors.As(err, &through) {
		return explainTunnel(through, at)
	}
	switch text := err.Error(); {
	case errors.As(err, &silent):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("%s has said nothing for %s.", at, silent.Silence),
			"Check whether the server works, and whether something between here and there drops its answers.")
	case errors.As(err, &dns):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("The host %q of %s is not known.", s.Host, what),
			"Check the host name.").In("host")
	case errors.As(err, &host):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("The certificate of %s was not accepted: %v.", at, host),
			"Give the host by a name that the certificate has; or choose verify-ca, which takes it under any name, if the network is "+
				"trusted.").In("host")
	case errors.As(err, &authority), errors.As(err, &invalid):
		said := text
		if i := strings.LastIndex(text, "x509: "); i >= 0 {
			said = text[i:]
		}
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("The certificate of %s was not accepted: %s.", at, said),
			"Give the CA certificate that signed it, or choose a weaker TLS mode if the network "+
				"is trusted.").In("ca")
	case strings.Contains(text, "server refused TLS connection"), strings.Contains(text,
		"does not offer TLS"), strings.Contains(text, "does not support TLS"):
		return problem.Wrap(err, problem.Unreachable, at+" does not offer TLS.",
			"Turn TLS on at the server (ssl = on), or set the TLS mode to off if the network is trusted.").In("tls")
	case strings.Contains(text, "remote error: tls: "):
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("%s did not accept what was shown to it over TLS: %v.", at, rootOf(err)),
			"Give the client's certificate that it asks for, and the key of it.").In("certificate")
	case errors.Is(err, syscall.ECONNREFUSED):
		return problem.Wrap(err, problem.Unreachable, at+" refused the connection: nothing listens there.",
			"Start the server, or check host and port.").In("port")
	case errors.Is(err, context.DeadlineExceeded), strings.Contains(text, "i/o timeout"):
		return problem.Wrap(err, problem.Unreachable, at+" did not answer in time.",
			"Check host, port and firewall, and whether the server is overloaded.").In("host")
	case isLoss(err):
		return problem.Wrap(err, problem.Unreachable, "The connection to "+at+" was lost.",
			"Check whether the server is running; the next run goes on where this one ended.")
	}
	return fmt.Errorf("%s: %w", what, err)
}

// explainTunnel says at which server a tunnel ended, and why. Longer than a screen: it is a list of cases.
func explainTunnel(e *tunnel.Error, at string) error {
	hop := fmt.Sprintf("The server %s of the tunnel", e.Hop.Address())
	in := func(field string) string { return fmt.Sprintf("tunnel.%d.%s", e.At, field) }
	var unknown *tunnel.UnknownHostError
	var refused *ssh.OpenChannelError
	var dns *net.DNSError
	switch {
	case errors.As(e.Err, &unknown) && unknown.Before == "":
		return problem.Wrap(e, problem.Unreachable, fmt.Sprintf("%s shows the host key %s, which nobody has accepted "+
			"yet. Nothing was sent to it.", hop, unknown.Key),
			"On that server, compare it with: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub. If it is the same, give "+
				"it: --tunnel-host-key "+problem.Word(unknown.Key)+".").In(in("host_key")).Offer(unknown.Key)
	case errors.As(e.Err, &unknown):
		return problem.Wrap(e, problem.Unreachable, fmt.Sprintf("%s shows the host key %s, and the accepted one is %s. "+
			"Either it was set up anew, or somebody else answers in its place. Nothing was sent to it.", hop, unknown.Key,
			unknown.Before), "Ask whoever looks after it. If it has this key by right, give it: --tunnel-host-key "+
			problem.Word(unknown.Key)+".").In(in("host_key")).Offer(unknown.Key)
	case errors.Is(e.Err, tunnel.ErrNothingGiven):
		return problem.Wrap(e, problem.Denied, hop+" is to be entered, and nothing is given to sign in with.",
			"Give a key, a password, or the agent.").In(in("key"))
	case errors.Is(e.Err, tunnel.ErrNoAgent):
		return problem.Wrap(e, problem.Denied, hop+" is to be entered with the keys of an agent, and the service has none.",
			"Give a key or a password. Or have the service's operator start it with --ssh-agent.").In(in("agent"))
	case e.Part == tunnel.SigningIn && strings.Contains(e.Err.Error(), "unable to authenticate"):
		return problem.Wrap(e, problem.Denied, fmt.Sprintf("%s does not let user %q sign in with what is given.", hop,
			e.Hop.User), "Check user and key, or password; the public key belongs in ~/.ssh/authorized_keys there.").
			In(in("user"))
	case e.Part == tunnel.Reaching && errors.As(e.Err, &dns):
		return problem.Wrap(e, problem.Unreachable, hop+" is not known by that name.", "Check the host name.").In(in("host"))
	case e.Part == tunnel.Reaching && errors.Is(e.Err, syscall.ECONNREFUSED):
		return problem.Wrap(e, problem.Unreachable, hop+" refused the connection: nothing listens there.",
			"Check host and port, and whether SSH runs there.").In(in("port"))
	case e.Part == tunnel.Passing && errors.As(e.Err, &refused) && refused.Reason == ssh.Prohibited:
		return problem.Wrap(e, problem.Denied, hop+" lets nobody go on through it.",
			"There, set AllowTcpForwarding yes (and PermitOpen, if it is set) in sshd_config for the user, and reload it.").
			In(in("host"))
	case e.Part == tunnel.Passing && errors.Is(e.Err, context.DeadlineExceeded):
		return problem.Wrap(e, problem.Unreachable, fmt.Sprintf("%s did not answer %s in time.", at, e.Hop.Address()),
			"Check host and port as that server knows them, and the firewall between.").In("host")
	case e.Part == tunnel.Passing && errors.As(e.Err, &refused):
		return problem.Wrap(e, problem.Unreachable, fmt.Sprintf("%s cannot be reached from %s: %s.", at, e.Hop.Address(),
			refused.Message), "Check host and port as that server knows them.").In("host")
	}
	return problem.Wrap(e, problem.Unreachable, fmt.Sprintf("%s cannot be used: %v.", hop, e.Err),
		"Check host and port, the network between, and whether SSH runs there.").In(in("host"))
}

func isLoss(err error) bool {
	var network net.Error
	text := err.Error()
	return errors.As(err, &network) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) ||
		text == "EOF" ||
		strings.Contains(text, "unexpected EOF") || strings.Contains(text, "conn closed") ||
		strings.Contains(text, "failed to connect") ||
		strings.Contains(text, "invalid connection") || strings.Contains(text, "bad connection")
}

func rootOf(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}
