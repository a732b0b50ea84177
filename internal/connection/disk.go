package connection

import (
	"os"
	"path/filepath"
	"syscall"
)

// Nearest is a file or folder or, where it is not there yet, the next folder above it that is.
func Nearest(path string) string {
	for path != "/" {
		if _, err := os.Stat(path); err == nil {
			break
		}
		path = filepath.Dir(path)
	}
	return path
}

// FreeAt is how many bytes the disk of a path has left for users that are not root (statfs(2)).
func FreeAt(path string) (int64, error) {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(Nearest(path), &disk); err != nil {
		return 0, err
	}
	return int64(disk.Bavail) * disk.Bsize, nil
}
