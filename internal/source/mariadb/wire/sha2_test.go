package wire_test

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/connection"
	"noemata/internal/source/mariadb/wire"
)

// sha2Server signs users in as MySQL 8 does, which cannot be had here: it stands in for one.
type sha2Server struct {
	password  string
	cached    bool   // it takes a proof
	challenge []byte // 20 bytes
	key       *rsa.PrivateKey
	said      string // the password that it was told
}

func packet(seq byte, content []byte) []byte {
	return append([]byte{byte(len(content)), byte(len(content) >> 8), 0, seq}, content...)
}

func receive(c net.Conn) []byte {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil
	}
	content := make([]byte, int(head[0])|int(head[1])<<8)
	_, _ = io.ReadFull(c, content)
	return content
}

func (s *sha2Server) proof() []byte {
	one := sha256.Sum256([]byte(s.password))
	two := sha256.Sum256(one[:])
	three := sha256.Sum256(append(two[:], s.challenge...))
	for i := range three {
		three[i] ^= one[i]
	}
	return three[:]
}

// serve takes one sign-in.
func (s *sha2Server) serve(c net.Conn) {
	defer func() { _ = c.Close() }()
	hello := append([]byte("\x0a8.0.36\x00\x01\x00\x00\x00"), s.challenge[:8]...)
	hello = append(hello, 0, 0xff, 0xf7, 45, 2, 0, 0xff, 0x15, 21)
	hello = append(append(hello, make([]byte, 10)...), s.challenge[8:]...)
	_, _ = c.Write(packet(0, append(append(hello, 0), "caching_sha2_password\x00"...)))
	ok := bytes.Contains(receive(c), s.proof())
	seq := byte(2)
	say := func(content ...byte) {
		_, _ = c.Write(packet(seq, content))
		seq += 2
	}
	switch {
	case s.cached && ok:
		say(1, 3)
		seq--
	default:
		say(1, 4)
		asked := receive(c)
		if len(asked) == 1 && asked[0] == 2 {
			public, _ := x509.MarshalPKIXPublicKey(&s.key.PublicKey)
			say(append([]byte{1}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...)...)
			plain, err := rsa.DecryptOAEP(sha1.New(), nil, s.key, receive(c), nil)
			if err != nil {
				return
			}
			for i := range plain {
				plain[i] ^= s.challenge[i%20]
			}
			asked = plain
		}
		s.said = string(bytes.TrimSuffix(asked, []byte{0}))
		ok = s.said == s.password
	}
	if !ok {
		say(append([]byte{0xff, 0x15, 0x04}, "#28000Access denied"...)...)
		return
	}
	say(0, 0, 0, 2, 0, 0, 0)
	_ = receive(c)
}

func TestSigningInToMySQL8(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	signIn := func(t *testing.T, s *sha2Server, network string, o wire.Options) error {
		s.key, s.challenge = key, make([]byte, 20)
		_, _ = rand.Read(s.challenge)
		for i := range s.challenge {
			s.challenge[i] |= 1 // no zero, as the server's
		}
		address := "127.0.0.1:0"
		if network == "unix" {
			address = t.TempDir() + "/s"
		}
		l, err := net.Listen(network, address)
		require.NoError(t, err)
		defer func() { _ = l.Close() }()
		done := make(chan struct{})
		go func() {
			defer close(done)
			if c, err := l.Accept(); err == nil {
				s.serve(c)
			}
		}()
		o.Dial, o.Network, o.Address, o.User, o.Timeout = connection.Settings{}.Dial, network, l.Addr().String(), "reader",
			5*time.Second
		c, err := wire.Connect(t.Context(), o)
		if err == nil {
			_ = c.Close()
		}
		<-done
		return err
	}
	s := &sha2Server{password: "a sëcret", cached: true}
	require.NoError(t, signIn(t, s, "tcp", wire.Options{Password: "a sëcret"}), "a proof is enough")
	require.Empty(t, s.said)
	require.ErrorIs(t, signIn(t, s, "tcp", wire.Options{Password: "another"}), wire.ErrInClear)
	s.cached = false
	require.ErrorIs(t, signIn(t, s, "tcp", wire.Options{Password: "a sëcret"}), wire.ErrInClear,
		"whoever tells a key could be anyone")
	require.Empty(t, s.said)
	require.NoError(t, signIn(t, s, "tcp", wire.Options{Password: "a sëcret", InClear: true}), "by RSA")
	require.NoError(t, signIn(t, s, "unix", wire.Options{Password: "a sëcret"}), "by the machine's own socket")
	var refused *wire.Error
	require.ErrorAs(t, signIn(t, s, "tcp", wire.Options{Password: "another", InClear: true}), &refused)
	require.Equal(t, 1045, refused.Number)
}
