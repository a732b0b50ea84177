// Package hostile is servers that do not do what their protocol says: they accept and say
// nothing, say more than anybody can take in, or garble what a real server has said. They
// listen on loopback, for tests alone.
package hostile

import (
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// Listen serves each connection with serve until the test ends, and gives the port.
func Listen(t testing.TB, serve func(net.Conn)) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	ended := make(chan struct{})
	t.Cleanup(func() { close(ended) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				<-ended
				_ = c.Close()
			}()
			go func() {
				defer func() { _ = c.Close() }()
				serve(c)
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// Mute accepts and says nothing.
func Mute(t testing.TB) int {
	return Listen(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
}

// Endless says the same again and again, as long as anybody listens.
func Endless(t testing.TB, first, again []byte) int {
	return Listen(t, func(c net.Conn) {
		_, err := c.Write(first)
		for err == nil {
			_, err = c.Write(again)
		}
	})
}

// Garbled passes on what a server and its client say, but for what the server says, which
// goes through garble first: chunk by chunk, as they come in.
func Garbled(t testing.TB, server string, garble func(chunk []byte) []byte) int {
	return Listen(t, func(c net.Conn) {
		s, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer func() { _ = s.Close() }()
		go func() {
			_, _ = io.Copy(s, c)
			_ = s.Close()
		}()
		buffer := make([]byte, 64<<10)
		for {
			n, err := s.Read(buffer)
			if n > 0 {
				if _, err := c.Write(garble(append([]byte{}, buffer[:n]...))); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	})
}
