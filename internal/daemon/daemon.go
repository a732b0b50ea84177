// Package daemon runs a server program in the background: as a user that is not root,
// in a folder of its own, on a free port of loopback. It outlives a service that is
// killed; who starts it next finds it by its process.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"noemata/internal/core/problem"
)

// Owner is who a server runs as; nil is whoever we are. Root must not run it, so for
// root it is the user that the server's Debian package makes.
type Owner = syscall.Credential

// OwnerOf finds the owner of a server's files and process.
func OwnerOf(server, name, debian string) (*Owner, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return nil, problem.Wrap(err, problem.Failed, fmt.Sprintf("%s cannot run as root, and there is no user %s to run it as.", server, name), fmt.Sprintf("Install Debian's package %s, or start the service as another user.", debian))
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &Owner{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Give makes a file or folder the owner's.
func Give(path string, owner *Owner) error {
	if owner == nil {
		return nil
	}
	return os.Chown(path, int(owner.Uid), int(owner.Gid))
}

// MakeDir makes a folder that belongs to the owner.
func MakeDir(path string, owner *Owner) error {
	if err := os.MkdirAll(path, 0o755); err != nil {
		return err
	}
	return Give(path, owner)
}

// Command prepares a program to run as the owner, in a clean environment.
func Command(owner *Owner, dir, name string, args ...string) *exec.Cmd {
	c := exec.Command(name, args...)
	c.Dir = dir
	c.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8"}
	// A group of its own: an interrupt typed at the service must not stop the server first.
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: owner}
	return c
}

// Process is a server that runs.
type Process struct {
	Server string // its name, for messages
	Pid    int
	Exited <-chan struct{} // closed when our own child ends; nil when it was found running
}

// Start runs a prepared command; what it prints goes to the end of a log file.
func Start(server string, c *exec.Cmd, log string) (*Process, error) {
	out, err := os.OpenFile(log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, fmt.Errorf("open the log of %s: %w", server, err)
	}
	defer func() { _ = out.Close() }()
	c.Stdout, c.Stderr = out, out
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", server, err)
	}
	exited := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(exited)
	}()
	return &Process{Server: server, Pid: c.Process.Pid, Exited: exited}, nil
}

// Find gives the process that a pid file names, if it runs the given program; what a dead
// one left behind is removed. lines are the file's.
func Find(server, pidFile, program string) (p *Process, lines []string) {
	content, err := os.ReadFile(pidFile)
	if err != nil {
		return nil, nil
	}
	lines = strings.Split(string(content), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(lines[0]))
	name, _ := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "comm"))
	if err != nil || strings.TrimSpace(string(name)) != program {
		_ = os.Remove(pidFile) // stale: no such process, or another one by now
		return nil, nil
	}
	return &Process{Server: server, Pid: pid}, lines
}

// Wait tries until a server takes connections, a minute at most.
func (p *Process) Wait(ctx context.Context, connect func() error) error {
	for end := time.Now().Add(time.Minute); ; {
		err := connect()
		if err == nil || time.Now().After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.Exited:
			return errors.New("the server ended")
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Signal sends a signal that ends the server, and waits until it has ended.
func (p *Process) Signal(sig syscall.Signal) error {
	if err := syscall.Kill(p.Pid, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("stop %s: %w", p.Server, err)
	}
	for range 1200 {
		if p.Exited != nil {
			select {
			case <-p.Exited:
				return nil
			case <-time.After(50 * time.Millisecond):
				continue
			}
		}
		if errors.Is(syscall.Kill(p.Pid, 0), syscall.ESRCH) {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("%s did not stop within a minute; its process is %d", p.Server, p.Pid)
}

// Port is the wanted port if it is free, and any free one else.
func Port(wanted int) (int, error) {
	if wanted != 0 {
		if l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(wanted))); err == nil {
			return wanted, l.Close()
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port: %w", err)
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port, nil
}
