package connection

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"

	"noemata/internal/core/problem"
)

// CheckServer tells whether the settings can name a database of a server, and fills in its
// usual port.
func CheckServer(s Settings, server string, port int) (Settings, error) {
	for _, field := range []struct{ name, value string }{{"host", s.Host}, {"database", s.Database}, {"user", s.User}} {
		if field.value == "" {
			return s, problem.Newf(problem.Invalid, "Give host, database and user, or a URL.",
				"A %s connection needs its %s.", server, field.name)
		}
	}
	if s.Path != "" {
		return s, problem.Newf(problem.Invalid, "Leave path out; it is for databases in a file.",
			"A %s connection has no path.", server)
	}
	if s.Port == 0 {
		s.Port = port
	}
	switch s.TLS {
	case "", TLSOff, TLSRequire, TLSVerifyCA, TLSVerifyFull:
	default:
		return s, problem.Newf(problem.Invalid, "Write off, require, verify-ca or verify-full.",
			"%q is not a TLS mode.", s.TLS)
	}
	if s.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(s.CA)) {
		return s, problem.New(problem.Invalid, "The certificates to trust hold no certificate in PEM.",
			"Paste the content of the CA file, from BEGIN CERTIFICATE to END CERTIFICATE.")
	}
	return s, nil
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
	switch text := err.Error(); {
	case errors.As(err, &silent):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("%s has said nothing for %s.", at, silent.Silence),
			"Check whether the server works, and whether something between here and there drops its answers.")
	case errors.As(err, &dns):
		return problem.Wrap(err, problem.Unreachable, fmt.Sprintf("The host %q of %s is not known.", s.Host, what),
			"Check the host name.")
	case errors.As(err, &authority), errors.As(err, &host), errors.As(err, &invalid):
		return problem.Wrap(err, problem.Unreachable,
			fmt.Sprintf("The certificate of %s was not accepted: %v.", at,
				rootOf(err)), "Give the CA certificate that signed it, or choose a weaker TLS mode if the network "+
				"is trusted.")
	case strings.Contains(text, "server refused TLS connection"), strings.Contains(text,
		"does not offer TLS"), strings.Contains(text, "does not support TLS"):
		return problem.Wrap(err, problem.Unreachable, at+" does not offer TLS.",
			"Turn TLS on at the server (ssl = on), or set the TLS mode to off if the network is trusted.")
	case errors.Is(err, syscall.ECONNREFUSED):
		return problem.Wrap(err, problem.Unreachable, at+" refused the connection: nothing listens there.",
			"Start the server, or check host and port.")
	case errors.Is(err, context.DeadlineExceeded), strings.Contains(text, "i/o timeout"):
		return problem.Wrap(err, problem.Unreachable, at+" did not answer in time.",
			"Check host, port and firewall, and whether the server is overloaded.")
	case isLoss(err):
		return problem.Wrap(err, problem.Unreachable, "The connection to "+at+" was lost.",
			"Check whether the server is running; the next run goes on where this one ended.")
	}
	return fmt.Errorf("%s: %w", what, err)
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
