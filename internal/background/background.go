// Package background runs a server program in the background: as a user that is not root,
// in a folder of its own, on a free port of loopback. It outlives a service that is
// killed; who starts it next finds it by its process.
package background

import (
	"context"
	"errors"
	"fmt"
	"io"
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
		return nil, problem.Wrap(err, problem.Failed,
			fmt.Sprintf("%s cannot run as root, and there is no user %s to run it as.", server, name),
			fmt.Sprintf("Install Debian's package %s, or start the service as another user.", debian))
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &Owner{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// MakePassable makes a folder, and those above it that are missing, so that others can pass
// through to what is theirs below, whatever the umask, and see nothing on the way.
func MakePassable(path string) error {
	if _, err := os.Stat(path); err == nil || filepath.Dir(path) == path {
		return err
	}
	if err := MakePassable(filepath.Dir(path)); err != nil {
		return err
	}
	if err := os.Mkdir(path, 0o711); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return os.Chmod(path, 0o711)
}

// MakeHome makes the folder that a server's own folders are in. It belongs to whoever
// starts the server: an owner who could write it could put links there for root to follow.
// Where an earlier version gave it away it is taken back, without the links.
func MakeHome(path string, owner *Owner) error {
	if owner == nil {
		return os.MkdirAll(path, 0o700)
	}
	if err := os.MkdirAll(path, 0o711); err != nil {
		return err
	}
	if err := os.Lchown(path, os.Getuid(), os.Getgid()); err != nil {
		return err
	}
	if err := os.Chmod(path, 0o711); err != nil { // whatever the umask: the owner passes through
		return err
	}
	entries, err := os.ReadDir(path)
	for _, e := range entries {
		if err == nil && e.Type()&os.ModeSymlink != 0 {
			err = os.Remove(filepath.Join(path, e.Name()))
		}
	}
	return err
}

// MakeDir makes a folder for the owner alone, in one made by MakeHome.
func MakeDir(path string, owner *Owner) error {
	if err := os.Mkdir(path, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	if owner == nil {
		return nil
	}
	return os.Lchown(path, int(owner.Uid), int(owner.Gid))
}

// WriteNew writes a file for the owner alone, in a folder made by MakeHome.
func WriteNew(path string, content []byte, owner *Owner) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if owner != nil {
		err = errors.Join(err, f.Chown(int(owner.Uid), int(owner.Gid)))
	}
	return errors.Join(err, f.Close())
}

// read reads a file that its owner may have made, a link not followed.
func read(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	return io.ReadAll(io.LimitReader(f, 64<<10))
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
	out, err := os.OpenFile(log, os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
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
	content, err := read(pidFile)
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

// KeepPort remembers the port of the server in a folder, so that it comes up there again:
// whoever was told the address finds it.
func KeepPort(dir string, port int) error {
	return os.WriteFile(filepath.Join(dir, "port"), []byte(strconv.Itoa(port)), 0o600)
}

// LastPort is the port that KeepPort was told last; 0 for none.
func LastPort(dir string) int {
	content, _ := os.ReadFile(filepath.Join(dir, "port"))
	port, _ := strconv.Atoi(string(content))
	return port
}
