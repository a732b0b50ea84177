package wire

import (
	"bytes"
	"context"
	"crypto/sha1" //nolint:gosec // the protocol's own
	"crypto/sha512"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"

	"bufio"
	"filippo.io/edwards25519"
)

// ErrNoTLS says that the server does not offer TLS.
var ErrNoTLS = errors.New("the server does not offer TLS")

// ErrInClear says that the server wants the password as it is, and nothing tells that it is
// the right server.
var ErrInClear = errors.New("the server asks for the password in the clear, and TLS does not verify that it is the " +
	"right one")

// UnknownPluginError names a way to sign in that is not known here.
type UnknownPluginError struct{ Plugin string }

func (e *UnknownPluginError) Error() string {
	return fmt.Sprintf("the server asks to sign in by %s, which is not known here", e.Plugin)
}

// greeting is the server's first packet (mariadb.com/kb/en/connection, initial handshake).
type greeting struct {
	version      string
	id           uint32
	capabilities uint32
	challenge    []byte
	plugin       string
}

func parseGreeting(p []byte) (g greeting, err error) {
	if len(p) > 0 && p[0] == isErr {
		return g, errorOf(p)
	}
	end := bytes.IndexByte(p, 0)
	if len(p) == 0 || p[0] != 10 || end < 0 || len(p) < end+1+4+8+1+2+1+2+2+1+10 {
		return g, errors.New("the server does not greet as MariaDB or MySQL does")
	}
	g.version = string(p[1:end])
	p = p[end+1:]
	g.id = binary.LittleEndian.Uint32(p)
	g.challenge = bytes.Clone(p[4:12])
	g.capabilities = uint32(binary.LittleEndian.Uint16(p[13:])) | uint32(binary.LittleEndian.Uint16(p[18:]))<<16
	length := int(p[20])
	p = p[31:]
	if n := min(max(12, length-9), len(p)); n > 0 {
		g.challenge = append(g.challenge, p[:n]...)
		p = p[n:]
	}
	p = bytes.TrimPrefix(p, []byte{0})
	g.plugin, _, _ = stringOf(p)
	return g, nil
}

// stringOf reads a text that a zero byte ends.
func stringOf(p []byte) (text string, rest []byte, ok bool) {
	end := bytes.IndexByte(p, 0)
	if end < 0 {
		return string(p), nil, false
	}
	return string(p[:end]), p[end+1:], true
}

// signIn answers the greeting and the questions that follow.
func (c *Conn) signIn(ctx context.Context) error {
	packet, err := c.read()
	if err != nil {
		return err
	}
	g, err := parseGreeting(packet)
	if err != nil {
		return err
	}
	c.Version, c.ID = g.version, g.id
	flags := uint32(longPassword | longFlag | protocol41 | transactions | secureConnection | pluginAuth)
	if c.options.Database != "" {
		flags |= connectWithDB
	}
	if c.options.TLS != nil {
		if g.capabilities&useTLS == 0 {
			return ErrNoTLS
		}
		flags |= useTLS
	}
	head := binary.LittleEndian.AppendUint32(nil, flags)
	head = binary.LittleEndian.AppendUint32(head, 1<<30) // packets may be as long
	head = append(head, utf8mb4)
	head = append(head, make([]byte, 23)...)
	if c.options.TLS != nil {
		if err := c.write(head); err != nil {
			return err
		}
		secure := tls.Client(c.net, c.options.TLS)
		if err := secure.HandshakeContext(ctx); err != nil {
			return err
		}
		c.net, c.in = secure, bufio.NewReaderSize(secure, 1<<17)
	}
	answer, err := c.answer(g.plugin, g.challenge)
	if unknown := (*UnknownPluginError)(nil); errors.As(err, &unknown) {
		answer, err = nil, nil // the server will ask for the user's own way
	}
	if err != nil {
		return err
	}
	content := append(head, c.options.User...)
	content = append(content, 0, byte(len(answer)))
	content = append(content, answer...)
	if c.options.Database != "" {
		content = append(append(content, c.options.Database...), 0)
	}
	content = append(append(content, g.plugin...), 0)
	if err := c.write(content); err != nil {
		return err
	}
	return c.answerAll(g.plugin, g.challenge)
}

// answerAll answers what the server asks after the first proof, until it is content.
func (c *Conn) answerAll(plugin string, challenge []byte) error {
	for range mostQuestions {
		packet, err := c.read()
		switch {
		case err != nil:
			return err
		case len(packet) == 0:
			return errShort
		case packet[0] == isOK:
			return nil
		case packet[0] == isErr:
			return errorOf(packet)
		case packet[0] == isEOF && len(packet) > 1: // sign in another way
			var rest []byte
			plugin, rest, _ = stringOf(packet[1:])
			challenge = bytes.Clone(rest)
			answer, err := c.answer(plugin, challenge)
			if err != nil {
				return err
			}
			if err := c.write(answer); err != nil {
				return err
			}
		case packet[0] == sha2More && plugin == sha2Plugin && len(challenge) > 0:
			if err := c.sha2More(packet[1:], challenge); err != nil {
				return err
			}
		default:
			return fmt.Errorf("the server asks for more than a password (%#x)", packet[0])
		}
	}
	return errors.New("the server does not stop to ask how to sign in")
}

// mostQuestions is how often the server may ask for another way to sign in.
const mostQuestions = 5

// answer is what proves the password, in the way of one of the server's plugins.
func (c *Conn) answer(plugin string, challenge []byte) ([]byte, error) {
	password := []byte(c.options.Password)
	switch plugin {
	case "mysql_native_password", "":
		return native(password, challenge), nil
	case sha2Plugin:
		return sha2(password, challenge), nil
	case "client_ed25519":
		return signature(password, challenge)
	case "mysql_clear_password", "dialog":
		if !c.options.Verified && !c.options.InClear {
			return nil, ErrInClear
		}
		return append(password, 0), nil
	}
	return nil, &UnknownPluginError{plugin}
}

// native proves a password by SHA-1 (mariadb.com/kb/en/authentication-plugin-mysql_native_password).
func native(password, challenge []byte) []byte {
	if len(password) == 0 {
		return nil
	}
	one := sha1.Sum(password)
	two := sha1.Sum(one[:])
	three := sha1.Sum(append(bytes.Clone(challenge[:min(20, len(challenge))]), two[:]...))
	for i := range three {
		three[i] ^= one[i]
	}
	return three[:]
}

// signature proves a password by an Ed25519 signature of the challenge, whose private key
// is the password's SHA-512 (mariadb.com/kb/en/authentication-plugin-ed25519; RFC 8032, 5.1.6).
func signature(password, challenge []byte) ([]byte, error) {
	if len(challenge) < 32 {
		return nil, errShort
	}
	challenge = challenge[:32] // a zero may follow
	sum := func(parts ...[]byte) []byte {
		h := sha512.New()
		for _, p := range parts {
			h.Write(p)
		}
		return h.Sum(nil)
	}
	secret := sum(password)
	s, err := edwards25519.NewScalar().SetBytesWithClamping(secret[:32])
	if err != nil {
		return nil, err
	}
	r, err := edwards25519.NewScalar().SetUniformBytes(sum(secret[32:], challenge))
	if err != nil {
		return nil, err
	}
	public, commitment := new(edwards25519.Point).ScalarBaseMult(s).Bytes(),
		new(edwards25519.Point).ScalarBaseMult(r).Bytes()
	k, err := edwards25519.NewScalar().SetUniformBytes(sum(commitment, public, challenge))
	if err != nil {
		return nil, err
	}
	return append(commitment, edwards25519.NewScalar().MultiplyAdd(k, s, r).Bytes()...), nil
}
