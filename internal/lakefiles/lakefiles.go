// Package lakefiles is where the files of lakes lie: in a folder, or in a bucket of object storage. Files are written
// once, under names that no other file has had, and are read or removed.
package lakefiles

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	icebergio "github.com/apache/iceberg-go/io"

	"noemata/internal/connection"
	"noemata/internal/core/problem"
)

// Files are the files of one lake. Their names are URLs below Location.
type Files interface {
	// Location is what all names begin with, without a slash at the end.
	Location() string
	// IO reads and writes whole files until ctx ends; what it has written is there to stay.
	IO(ctx context.Context) (icebergio.IO, error)
	// Hold has files on the disk until Release, and gives their paths, in order.
	Hold(ctx context.Context, names ...string) (paths []string, err error)
	Release(names ...string)
	// New gives the path to write a file at. Keep has it there to stay, and tells its size in bytes; Remove forgets it.
	New(name string) (path string, err error)
	Keep(ctx context.Context, name string) (size int64, err error)
	Remove(ctx context.Context, names ...string)
	// RemoveAll removes what is below a name.
	RemoveAll(ctx context.Context, name string) error
	// Folders are those that paths lie in.
	Folders() ([]string, error)
	// Free is how many bytes there is room for; -1 where there is no bound.
	Free() (int64, error)
	// Try makes, reads and removes a file.
	Try(ctx context.Context) error
}

// CommitProperty is the property of a snapshot's summary that those have in common that were made at once, of one table
// or several.
const CommitProperty = "noemata.commit"

// Of gives the files that settings name; what names them in messages.
func Of(s connection.Settings, what string) (Files, error) {
	if s.Bucket == nil {
		return folder{s.Path, what}, nil
	}
	return bucketOf(*s.Bucket, s.CA, what)
}

// below tells whether a name is one of files below a location, which no part of it leads out of.
func below(location, name, what string) error {
	rest, within := strings.CutPrefix(name, location+"/")
	if !within || path.Clean("/"+rest) != "/"+rest || strings.ContainsAny(rest, "*?[]{}#%\\\x00") {
		return problem.Newf(problem.Held, "Have the other program keep the table's files in the place of the lake.",
			"The file %q is not one of the %s.", name, what)
	}
	return nil
}

// Unwritten explains why files cannot be written, where that is not explained already.
func Unwritten(err error, what string) error {
	if p := (*problem.Problem)(nil); err == nil || errors.As(err, &p) {
		return err
	}
	return problem.Wrap(err, problem.Failed, fmt.Sprintf("The %s cannot be written: %v.", what, err),
		"Is there room in its folder, and may the service write it? The next run goes on where this one ended.")
}
