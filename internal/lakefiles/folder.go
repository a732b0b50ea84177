package lakefiles

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	icebergio "github.com/apache/iceberg-go/io"

	"noemata/internal/connection"
)

// folder is a lake's folder.
type folder struct{ path, what string }

func (f folder) Location() string { return "file://" + f.path }

func (f folder) IO(context.Context) (icebergio.IO, error) { return synced{of: f}, nil }

// local is the path of a file.
func (f folder) local(name string) (string, error) {
	if strings.HasPrefix(name, f.path) { // other programs leave the scheme out
		name = "file://" + name
	}
	return strings.TrimPrefix(name, "file://"), below(f.Location(), name, f.what)
}

func (f folder) Hold(_ context.Context, names ...string) (paths []string, err error) {
	paths = make([]string, len(names))
	for i, name := range names {
		if paths[i], err = f.local(name); err != nil {
			return nil, err
		}
		file, err := f.open(paths[i])
		if err != nil {
			return nil, err
		}
		_ = file.Close()
	}
	return paths, nil
}

// open opens a file of the folder, to which no link leads out of it.
func (f folder) open(at string) (*os.File, error) {
	within, err := filepath.Rel(f.path, at)
	if err != nil {
		return nil, err
	}
	return os.OpenInRoot(f.path, within)
}

func (f folder) Release(...string) {}

func (f folder) New(name string) (string, error) {
	at, err := f.local(name)
	if err != nil {
		return "", err
	}
	return at, Unwritten(os.MkdirAll(filepath.Dir(at), 0o755), f.what)
}

func (f folder) Keep(_ context.Context, name string) (int64, error) {
	at, err := f.local(name)
	if err != nil {
		return 0, err
	}
	file, err := os.Open(at)
	if err != nil {
		return 0, Unwritten(err, f.what)
	}
	defer func() { _ = file.Close() }()
	info, err := file.Stat()
	if err != nil {
		return 0, Unwritten(err, f.what)
	}
	return info.Size(), Unwritten(errors.Join(file.Sync(), syncFolder(filepath.Dir(at))), f.what)
}

func (f folder) Remove(_ context.Context, names ...string) {
	for _, name := range names {
		if at, err := f.local(name); err == nil {
			_ = os.Remove(at)
		}
	}
}

func (f folder) RemoveAll(_ context.Context, name string) error {
	at, err := f.local(name)
	if err != nil {
		return err
	}
	return os.RemoveAll(at)
}

func (f folder) Folders() ([]string, error) { return []string{f.path}, nil }

func (f folder) Free() (int64, error) {
	free, err := connection.FreeAt(f.path)
	return free, Unwritten(err, f.what)
}

func (f folder) Try(context.Context) error {
	if err := os.MkdirAll(f.path, 0o755); err != nil {
		return Unwritten(err, f.what)
	}
	file, err := os.CreateTemp(f.path, ".noemata-try-")
	if err != nil {
		return Unwritten(err, f.what)
	}
	return Unwritten(errors.Join(file.Close(), os.Remove(file.Name())), f.what)
}

// synced is the folder as iceberg-go reads and writes it. What was written is on the disk.
type synced struct{ of folder }

// Open opens a file of the folder.
func (s synced) Open(name string) (icebergio.File, error) {
	at, err := s.of.local(name)
	if err != nil {
		return nil, err
	}
	return s.of.open(at)
}

// Remove removes a file.
func (s synced) Remove(name string) error {
	at, err := s.of.local(name)
	if err != nil {
		return err
	}
	return os.Remove(at)
}

// WalkDir calls fn for each file below a name.
func (s synced) WalkDir(root string, fn fs.WalkDirFunc) error {
	at, err := s.of.local(root)
	if err != nil {
		return err
	}
	return filepath.WalkDir(at, fn)
}

// WriteFile writes a file that is not there yet.
func (s synced) WriteFile(name string, data []byte) error {
	w, err := s.Create(name)
	if err != nil {
		return err
	}
	_, err = w.Write(data)
	return errors.Join(err, w.Close())
}

// Create makes a file that is not there yet.
func (s synced) Create(name string) (icebergio.FileWriter, error) {
	at, err := s.of.local(name)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return nil, err
	}
	return syncedFile{f}, nil
}

type syncedFile struct{ *os.File }

func (f syncedFile) Close() error {
	return errors.Join(f.Sync(), f.File.Close(), syncFolder(filepath.Dir(f.Name())))
}

func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

var (
	_ icebergio.WriteFileIO = synced{}
	_ icebergio.ListableIO  = synced{}
	_ io.ReaderFrom         = syncedFile{}
	_ fs.File               = syncedFile{}
)
