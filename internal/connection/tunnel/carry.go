package tunnel

import (
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"
)

// carry makes a connection of a channel that knows deadlines, which channels do not: two sockets of
// this process, and what comes to one is passed on.
func (t *Tunnel) carry(channel net.Conn, address string) (net.Conn, error) {
	near, far, err := pair()
	if err != nil {
		_ = channel.Close()
		return nil, err
	}
	t.mu.Lock()
	t.conns++
	t.mu.Unlock()
	var once sync.Once
	end := func() {
		once.Do(func() {
			_ = channel.Close()
			_ = far.Close()
			t.mu.Lock()
			t.conns--
			t.used = time.Now()
			t.mu.Unlock()
		})
	}
	pass := func(to io.Writer, from io.Reader) {
		defer end()
		_, _ = io.Copy(to, from)
	}
	go pass(channel, far)
	go pass(far, channel)
	return &carried{near, place(address)}, nil
}

// pair makes two sockets that are connected (socketpair(2)).
func pair() (near, far net.Conn, err error) {
	files, err := socketpair()
	if err != nil {
		return nil, nil, err
	}
	defer closeAll(files[:])
	if near, err = net.FileConn(files[0]); err != nil {
		return nil, nil, err
	}
	if far, err = net.FileConn(files[1]); err != nil {
		_ = near.Close()
		return nil, nil, err
	}
	return near, far, nil
}

func closeAll(files []*os.File) {
	for _, f := range files {
		_ = f.Close()
	}
}

// carried is a connection that leads to another place than its socket does.
type carried struct {
	net.Conn
	to place
}

func (c *carried) RemoteAddr() net.Addr { return c.to }

type place string

func (place) Network() string  { return "tcp" }
func (p place) String() string { return string(p) }

func socketpair() (files [2]*os.File, err error) {
	syscall.ForkLock.RLock()
	fds, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC|syscall.SOCK_NONBLOCK, 0)
	syscall.ForkLock.RUnlock()
	if err != nil {
		return files, os.NewSyscallError("socketpair", err)
	}
	return [2]*os.File{os.NewFile(uintptr(fds[0]), "near"), os.NewFile(uintptr(fds[1]), "far")}, nil
}
