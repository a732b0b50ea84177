// Package tempdir makes folders for temporary files that do not outlive their process: those of one that was killed are
// removed by the next.
package tempdir

import (
	"errors"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// Dir is a folder for temporary files.
type Dir struct {
	Path string
	held *os.File // the folder, which is locked for as long as it is in use
}

// prefix is what the folders' names begin with.
const prefix = "noemata-work-"

// New makes a folder, below the one that the system has for temporary files.
func New() (*Dir, error) {
	sweepOnce.Do(sweep)
	path, err := os.MkdirTemp("", prefix)
	if err != nil {
		return nil, err
	}
	d := &Dir{Path: path}
	if d.held, err = hold(path); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

// Close removes the folder with all that is in it.
func (d *Dir) Close() {
	_ = os.RemoveAll(d.Path)
	if d.held != nil {
		_ = d.held.Close()
	}
}

// hold locks a folder (flock(2)); the lock ends with the process, whatever becomes of it.
func hold(folder string) (*os.File, error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

var sweepOnce sync.Once

// justMade is how young a folder is that may not be locked yet.
const justMade = time.Minute

// sweep removes the folders of processes that have died.
func sweep() {
	list, _ := filepath.Glob(filepath.Join(os.TempDir(), prefix+"*"))
	for _, folder := range list {
		if info, err := os.Lstat(folder); err != nil || !info.IsDir() || time.Since(info.ModTime()) < justMade {
			continue
		}
		if held, err := hold(folder); err == nil {
			_ = os.RemoveAll(folder)
			_ = held.Close()
		}
	}
}
