package connection

import (
	"context"
	"errors"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// mute is a server that accepts and says nothing.
func mute(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		var held []net.Conn
		for {
			c, err := l.Accept()
			if err != nil {
				for _, c := range held {
					_ = c.Close()
				}
				return
			}
			held = append(held, c)
		}
	}()
	return l.Addr().String()
}

// Each wait on a connection has an end, and it is told apart from a deadline that was set.
func TestSilenceEndsAWait(t *testing.T) {
	c, err := Settings{}.Dial(context.Background(), "tcp", mute(t))
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	c.(*patient).silence = 50 * time.Millisecond
	var silent *SilentError
	_, err = c.Read(make([]byte, 1))
	require.ErrorAs(t, err, &silent)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Millisecond)))
	_, err = c.Read(make([]byte, 1))
	require.ErrorIs(t, err, os.ErrDeadlineExceeded, "a deadline is nearer")
	require.NoError(t, c.SetReadDeadline(time.Time{}))
	_, err = c.Read(make([]byte, 1))
	require.ErrorAs(t, err, &silent)

	c.(*patient).silence = time.Minute
	stopped := make(chan error)
	go func() {
		_, err := c.Read(make([]byte, 1))
		stopped <- err
	}()
	time.Sleep(20 * time.Millisecond)
	require.NoError(t, c.SetDeadline(time.Now()))
	require.ErrorIs(t, <-stopped, os.ErrDeadlineExceeded, "whoever gives up need not be patient")

	require.NoError(t, c.SetDeadline(time.Time{}))
	c.(*patient).silence = 50 * time.Millisecond
	for err = error(nil); err == nil; { // nobody takes in what is sent
		_, err = c.Write(make([]byte, 1<<20))
	}
	require.True(t, errors.As(err, &silent), err)
}
