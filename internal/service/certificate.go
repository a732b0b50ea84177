package service

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"

	"noemata/internal/core/problem"
)

// certificate is that of HTTPS. It is read again when its files change, as whoever renews
// it does every few weeks.
type certificate struct {
	files [2]string // certificate and key, in PEM
	mu    sync.Mutex
	pair  *tls.Certificate
	read  [2]time.Time // when the files that were read were written
	asked time.Time    // when the files were looked at last
}

// lookAgain is how often the files of a certificate are looked at.
const lookAgain = time.Second

// certificateOf gives the certificate to serve HTTPS with; nil is plain HTTP, which is
// for this machine alone unless the operator says otherwise.
func certificateOf(o Options) (*certificate, error) {
	if o.Certificate == "" && o.Key == "" {
		host, _, err := net.SplitHostPort(o.Listen)
		ip := net.ParseIP(host)
		if err == nil && host != "localhost" && (ip == nil || !ip.IsLoopback()) && !o.PlainHTTP {
			return nil, problem.Newf(problem.Invalid,
				"Give --certificate and --key; or listen on 127.0.0.1 and put a proxy in front; or allow it with "+
					"--plain-http.",
				"The service would listen on %s, beyond this machine, without TLS: tokens would travel in the clear.",
				o.Listen)
		}
		return nil, nil
	}
	c := &certificate{files: [2]string{o.Certificate, o.Key}}
	return c, c.load()
}

func (c *certificate) load() error {
	var written [2]time.Time
	for i, name := range c.files {
		info, err := os.Stat(name)
		if err == nil && i == 1 && info.Mode().Perm()&0o007 != 0 {
			return problem.Newf(problem.Invalid, "chmod o= "+name, "The key file %s can be read by everybody (%s).",
				name, info.Mode().Perm())
		}
		if err == nil {
			written[i] = info.ModTime()
		}
	}
	pair, err := tls.LoadX509KeyPair(c.files[0], c.files[1])
	if err != nil {
		return problem.Wrap(err, problem.Invalid, "The certificate for HTTPS cannot be used: "+err.Error()+".",
			"Give --certificate and --key as PEM files that belong together.")
	}
	c.pair, c.read, c.asked = &pair, written, time.Now()
	return nil
}

// get gives the certificate as its files have it. While they do not fit, the one before
// serves on.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.asked) < lookAgain {
		return c.pair, nil
	}
	c.asked = time.Now()
	for i, name := range c.files {
		if info, err := os.Stat(name); err == nil && !info.ModTime().Equal(c.read[i]) {
			if err := c.load(); err != nil {
				slog.Warn("The certificate's files have changed and cannot be used; the one before serves on.", "error",
					fmt.Sprint(err))
			}
			break
		}
	}
	return c.pair, nil
}
