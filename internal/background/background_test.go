package background_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"noemata/internal/background"
)

// somebody is a user that files are given to, as a database's is: where we are root, who may
// give them away, another one.
func somebody() *background.Owner {
	if os.Getuid() == 0 {
		return &background.Owner{Uid: 65534, Gid: 65534}
	}
	return &background.Owner{Uid: uint32(os.Getuid()), Gid: uint32(os.Getgid())}
}

func modeOf(t *testing.T, path string) (mode os.FileMode, uid uint32) {
	t.Helper()
	info, err := os.Lstat(path)
	require.NoError(t, err)
	return info.Mode().Perm(), info.Sys().(*syscall.Stat_t).Uid
}

// The folder that root makes for a database's folders stays root's, and the links that its
// owner has put there, when it was the owner's, are taken away and not followed.
func TestAHomeIsNoLadder(t *testing.T) {
	owner := somebody()
	dir := t.TempDir()
	home, precious := filepath.Join(dir, "records"), filepath.Join(dir, "precious")
	require.NoError(t, os.WriteFile(precious, []byte("root's own"), 0o600))
	require.NoError(t, os.Mkdir(home, 0o700))
	require.NoError(t, os.Chown(home, int(owner.Uid), int(owner.Gid))) // as an earlier version did
	for _, name := range []string{"password", "log", "data"} {
		require.NoError(t, os.Symlink(precious, filepath.Join(home, name)))
	}
	require.NoError(t, os.WriteFile(filepath.Join(home, "port"), []byte("5432"), 0o600))

	require.NoError(t, background.MakeHome(home, owner))
	mode, uid := modeOf(t, home)
	require.Equal(t, os.FileMode(0o711), mode)
	require.EqualValues(t, os.Getuid(), uid)
	entries, err := os.ReadDir(home)
	require.NoError(t, err)
	require.Len(t, entries, 1, "the links are gone, and what is no link stays")
	require.NoError(t, background.MakeDir(filepath.Join(home, "data"), owner))
	mode, uid = modeOf(t, filepath.Join(home, "data"))
	require.Equal(t, os.FileMode(0o700), mode)
	require.Equal(t, owner.Uid, uid)
	require.NoError(t, background.WriteNew(filepath.Join(home, "password"), []byte("a secret"), owner))
	mode, uid = modeOf(t, filepath.Join(home, "password"))
	require.Equal(t, os.FileMode(0o600), mode)
	require.Equal(t, owner.Uid, uid)
	content, err := os.ReadFile(precious)
	require.NoError(t, err)
	require.Equal(t, "root's own", string(content))
	_, uid = modeOf(t, precious)
	require.EqualValues(t, os.Getuid(), uid)
}

// A new file takes the place of whatever has its name, a link included; a log is not opened
// through a link.
func TestNoLinkIsFollowed(t *testing.T) {
	dir := t.TempDir()
	precious := filepath.Join(dir, "precious")
	require.NoError(t, os.WriteFile(precious, []byte("kept"), 0o600))
	for _, name := range []string{"password", "log", "pid"} {
		require.NoError(t, os.Symlink(precious, filepath.Join(dir, name)))
	}
	require.NoError(t, background.WriteNew(filepath.Join(dir, "password"), []byte("a secret"), nil))
	_, err := background.Start("the server", background.Command(nil, dir, "true"), filepath.Join(dir, "log"))
	require.ErrorIs(t, err, syscall.ELOOP)
	p, _ := background.Find("the server", filepath.Join(dir, "pid"), "true")
	require.Nil(t, p)
	content, err := os.ReadFile(precious)
	require.NoError(t, err)
	require.Equal(t, "kept", string(content))
}

// Whatever the umask, others can pass through the folders above theirs, and see nothing.
func TestFoldersToPassThrough(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0o077))
	dir := t.TempDir()
	path := filepath.Join(dir, "data", "demo", "records")
	require.NoError(t, background.MakePassable(path))
	for ; path != dir; path = filepath.Dir(path) {
		mode, _ := modeOf(t, path)
		require.Equal(t, os.FileMode(0o711), mode, path)
	}
	before, _ := modeOf(t, dir)
	require.NoError(t, background.MakePassable(dir))
	after, _ := modeOf(t, dir)
	require.Equal(t, before, after, "a folder that is there keeps its mode")
}

// A process is found by its file, if it is the program that wrote it; what a dead one has left
// is removed. It ends when it is told to.
func TestAProcessIsFoundAndEnds(t *testing.T) {
	dir := t.TempDir()
	started, err := background.Start("the sleeper", background.Command(nil, dir, "/bin/sleep", "60"),
		filepath.Join(dir, "log"))
	require.NoError(t, err)
	file := filepath.Join(dir, "sleeper.pid")
	write := func(pid int) {
		t.Helper()
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "%d\n%s\n5432\n", pid, dir), 0o600))
	}
	write(started.Pid)
	require.Eventually(t, func() bool {
		found, lines := background.Find("the sleeper", file, "sleep")
		return found != nil && found.Pid == started.Pid && lines[2] == "5432"
	}, 5*time.Second, 10*time.Millisecond)
	other, _ := background.Find("the sleeper", file, "postgres")
	require.Nil(t, other, "another program has the number by now")
	require.NoFileExists(t, file)
	write(started.Pid)
	found, _ := background.Find("the sleeper", file, "sleep")
	require.NotNil(t, found)

	require.NoError(t, started.Signal(syscall.SIGTERM))
	require.ErrorContains(t, started.Wait(context.Background(), func() error { return errors.New("refused") }),
		"the server ended")
	require.NoError(t, found.Signal(syscall.SIGTERM), "nothing is left to end")
	gone, _ := background.Find("the sleeper", file, "sleep")
	require.Nil(t, gone)
	require.NoFileExists(t, file)
	for _, nonsense := range []string{"", "not a number", "-1", "99999999999999999999"} {
		require.NoError(t, os.WriteFile(file, []byte(nonsense), 0o600))
		p, _ := background.Find("the sleeper", file, "sleep")
		require.Nil(t, p, nonsense)
	}
}

// A server comes up on the port that it had, or on another one where that is taken.
func TestPortsAreKept(t *testing.T) {
	dir := t.TempDir()
	require.Zero(t, background.LastPort(dir))
	free, err := background.Port(0)
	require.NoError(t, err)
	require.NoError(t, background.KeepPort(dir, free))
	require.Equal(t, free, background.LastPort(dir))
	again, err := background.Port(free)
	require.NoError(t, err)
	require.Equal(t, free, again)
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(free))
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	another, err := background.Port(free)
	require.NoError(t, err)
	require.NotEqual(t, free, another)
}

// Who waits for a server does so no longer than the context.
func TestWaitingEnds(t *testing.T) {
	dir := t.TempDir()
	p, err := background.Start("the sleeper", background.Command(nil, dir, "/bin/sleep", "60"), filepath.Join(dir, "log"))
	require.NoError(t, err)
	defer func() { _ = p.Signal(syscall.SIGKILL) }()
	ctx, stop := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer stop()
	require.ErrorIs(t, p.Wait(ctx, func() error { return errors.New("refused") }), context.DeadlineExceeded)
	tries := 0
	require.NoError(t, p.Wait(context.Background(), func() error {
		if tries++; tries < 3 {
			return errors.New("refused")
		}
		return nil
	}))
}
