package wire

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1" //nolint:gosec // the protocol's own
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
)

// Signing in by SHA-256 with a cache, as MySQL does from 8.0 on
// (dev.mysql.com/doc/dev/mysql-server/latest/page_caching_sha2_authentication_exchanges.html).
// A server that has the password cached takes a proof; else it wants the password itself, which is
// sent only where TLS, or the machine's own socket, hides it, or encrypted with a key that
// the server tells.

const sha2Plugin = "caching_sha2_password"

// What the server says, and is asked for.
const (
	sha2More   = 0x01
	sha2Proved = 0x03
	sha2Whole  = 0x04
	sha2AskKey = 0x02
)

// sha2 proves a password: SHA256(password) xor SHA256(SHA256(SHA256(password)), challenge).
func sha2(password, challenge []byte) []byte {
	if len(password) == 0 {
		return nil
	}
	one := sha256.Sum256(password)
	two := sha256.Sum256(one[:])
	three := sha256.Sum256(append(two[:], challenge[:min(20, len(challenge))]...))
	for i := range three {
		three[i] ^= one[i]
	}
	return three[:]
}

// sha2More answers what the server says after the proof: nothing, where it is content.
func (c *Conn) sha2More(said, challenge []byte) error {
	switch {
	case len(said) == 1 && said[0] == sha2Proved:
		return nil
	case len(said) != 1 || said[0] != sha2Whole:
		return errors.New("the server answers a proof of the password otherwise than MySQL does")
	case !c.options.Verified && !c.options.InClear && c.options.Network != "unix":
		return ErrInClear
	}
	password := append([]byte(c.options.Password), 0)
	if c.options.TLS != nil || c.options.Network == "unix" {
		return c.write(password)
	}
	if err := c.write([]byte{sha2AskKey}); err != nil {
		return err
	}
	packet, err := c.read()
	switch {
	case err != nil:
		return err
	case len(packet) == 0:
		return errShort
	case packet[0] == isErr:
		return errorOf(packet)
	}
	block, _ := pem.Decode(bytes.Clone(packet[1:]))
	if packet[0] != sha2More || block == nil {
		return errors.New("the server tells no key to encrypt the password with")
	}
	parsed, err := x509.ParsePKIXPublicKey(block.Bytes)
	key, ok := parsed.(*rsa.PublicKey)
	if err != nil || !ok || key.Size() > 1024 {
		return fmt.Errorf("the server's key is none of RSA, or too long: %w", err)
	}
	for i := range password {
		password[i] ^= challenge[i%min(20, len(challenge))]
	}
	sealed, err := rsa.EncryptOAEP(sha1.New(), rand.Reader, key, password, nil) //nolint:gosec // the protocol's own
	if err != nil {
		return err
	}
	return c.write(sealed)
}
