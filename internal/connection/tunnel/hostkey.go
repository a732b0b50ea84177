package tunnel

import (
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"
)

// A host key is written by its type and its fingerprint, as ssh-keygen -l shows it (RFC 4255 has the
// idea of fingerprints, OpenSSH the form).
var hostKeyForm = regexp.MustCompile(`^[a-z0-9@.-]+ SHA256:[A-Za-z0-9+/]{43}$`)

func describe(key ssh.PublicKey) string { return key.Type() + " " + ssh.FingerprintSHA256(key) }

// keyKind is the type of the accepted key; empty where none is.
func (h Hop) keyKind() string {
	kind, _, _ := strings.Cut(h.HostKey, " ")
	return kind
}

// algorithms are what a server with a key of a type is asked for, so that one that has got more keys
// meanwhile shows the same one. RSA keys sign by newer hashes (RFC 8332).
func algorithms(kind string) []string {
	if kind == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{kind}
}
