package connection

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"noemata/internal/core/problem"
)

// Folders are those that the operator lets database files be in. The first one is
// where a path that is not absolute begins.
type Folders struct {
	Paths []string
	Flag  string // of the service, that names them
}

// Resolve gives settings whose path, if they have one, is absolute, without symbolic
// links, and below one of the folders; another path is refused.
func (f Folders) Resolve(s Settings) (Settings, error) {
	if s.Path == "" {
		return s, nil
	}
	if strings.ContainsFunc(s.Path, func(r rune) bool {
		return r < ' ' || r == 0x7f ||
			strings.ContainsRune(`?#%"'\*[]`, r)
	}) {
		return s, problem.Newf(problem.Invalid, `Write the path without ? # % " ' \ * [ ] and control characters.`,
			"The path %q holds a character that could be read as something else than a name.", s.Path).In("path")
	}
	path := s.Path
	if !filepath.IsAbs(path) && len(f.Paths) > 0 {
		path = filepath.Join(f.Paths[0], path)
	}
	path, err := followed(filepath.Clean(path))
	if err != nil {
		return s, problem.Wrap(err, problem.Invalid, fmt.Sprintf("The path %s cannot be looked at: %v.", s.Path, err),
			"Correct it, or let the service's user read its folders.").In("path")
	}
	if !slices.ContainsFunc(f.Paths, func(folder string) bool {
		folder, err := followed(folder)
		return err == nil && strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/")
	}) {
		below := ""
		if len(f.Paths) > 0 {
			below = fmt.Sprintf("Choose a file below %s, or have", strings.Join(f.Paths, " or "))
		}
		return s, problem.Newf(problem.Invalid,
			fmt.Sprintf("%s the operator start the service with %s %s.", cmp.Or(below, "Have"), f.Flag, filepath.Dir(path)),
			"The file %s is not below a folder in which this service may have database files.", path).In("path")
	}
	s.Path = path
	return s, nil
}

// followed is a path whose existing part is without symbolic links.
func followed(path string) (string, error) {
	real, err := filepath.EvalSymlinks(path)
	if !errors.Is(err, fs.ErrNotExist) || filepath.Dir(path) == path {
		return real, err
	}
	if _, err := os.Lstat(path); err == nil {
		return "", fmt.Errorf("%s is a symbolic link to something that is not there", path)
	}
	parent, err := followed(filepath.Dir(path))
	if err != nil {
		return "", err
	}
	return filepath.Join(parent, filepath.Base(path)), nil
}
