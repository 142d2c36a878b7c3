// Package roots keeps the addresses of files below directories that are set apart for them.
package roots

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Roots are the directories below which addresses of FILES lie. Nil allows every address, and takes relative ones from
// where the process was started.
type Roots struct {
	dirs  []string // absolute, links followed
	names []string // of them
}

var rootName = regexp.MustCompile(`^[A-Za-z0-9_-]{1,60}$`)

// New makes roots of directories, each written DIR or NAME=DIR, and makes those that are not there. Relative addresses are taken from the first.
func New(dirs ...string) (*Roots, error) {
	r := &Roots{}
	for _, d := range dirs {
		name, dir, named := strings.Cut(d, "=")
		if named && rootName.MatchString(name) {
			d = dir
		} else {
			name = filepath.Base(d)
		}
		for n, plain := 2, name; slices.Contains(r.names, name); n++ {
			if named {
				return nil, fmt.Errorf("two directories for files are called %s; give one of them another name: NAME=%s", name, d)
			}
			name = fmt.Sprintf("%s-%d", plain, n)
		}
		d, err := filepath.Abs(d)
		if err == nil {
			err = os.MkdirAll(d, 0o755)
		}
		if err == nil {
			d, err = filepath.EvalSymlinks(d)
		}
		if err != nil {
			return nil, fmt.Errorf("the directory for files %s: %w", d, err)
		}
		r.dirs, r.names = append(r.dirs, d), append(r.names, name)
	}
	return r, nil
}

// Dirs gives the directories.
func (r *Roots) Dirs() []string {
	if r == nil {
		return nil
	}
	return r.dirs
}

// Names gives what the directories are called.
func (r *Roots) Names() []string {
	if r == nil {
		return nil
	}
	return r.names
}

// Root gives the name of the root that an address lies below, the innermost; "": below none.
func (r *Roots) Root(address string) string {
	path, err := r.Path(address)
	if err != nil || r == nil {
		return ""
	}
	if path, err = r.real(path); err != nil {
		return ""
	}
	best := -1
	for i, d := range r.dirs {
		if (path == d || strings.HasPrefix(path, strings.TrimSuffix(d, "/")+"/")) && (best < 0 || len(d) > len(r.dirs[best])) {
			best = i
		}
	}
	if best < 0 {
		return ""
	}
	return r.names[best]
}

// Path gives the path of an address: a file, a directory, a pattern, or what is to be made. It fails where that lies
// outside of the roots, also by way of a link.
func (r *Roots) Path(address string) (string, error) {
	if scheme, _, ok := strings.Cut(address, "://"); ok && !strings.ContainsAny(scheme, "/. ") {
		return "", fmt.Errorf("FILES takes paths of files and directories, or s3://bucket/… with VIA and an endpoint; nobody serves %s:// here (%s)", scheme, address)
	}
	if r == nil {
		return address, nil
	}
	path := address
	if !filepath.IsAbs(path) {
		path = filepath.Join(r.dirs[0], path)
	}
	path = filepath.Clean(path)
	real, err := r.real(path)
	if err == nil {
		for _, d := range r.dirs {
			if real == d || strings.HasPrefix(real, strings.TrimSuffix(d, "/")+"/") {
				return path, nil
			}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	return "", fmt.Errorf("%s lies outside of the directories for files (%s); start the service with --files DIR to have another one", address, strings.Join(r.dirs, ", "))
}

// real follows the links of as much of a path as is there. What a pattern begins is no name.
func (r *Roots) real(path string) (string, error) {
	if i := strings.IndexAny(path, "*?["); i >= 0 {
		if _, err := os.Lstat(path); err != nil {
			path = filepath.Dir(path[:i+1])
		}
	}
	rest := ""
	for {
		real, err := filepath.EvalSymlinks(path)
		if err == nil {
			return filepath.Join(real, rest), nil
		}
		if st, lerr := os.Lstat(path); lerr == nil && st.Mode()&fs.ModeSymlink != 0 {
			return "", fmt.Errorf("%s is a link that leads nowhere", path)
		}
		if !errors.Is(err, fs.ErrNotExist) || path == filepath.Dir(path) {
			return "", err
		}
		path, rest = filepath.Dir(path), filepath.Join(filepath.Base(path), rest)
	}
}

// Files lists the files of an address as Open reads them.
func (r *Roots) Files(address string) ([]string, error) {
	path, err := r.Path(address)
	if err != nil {
		return nil, err
	}
	names, err := List(path)
	if err != nil {
		return nil, err
	}
	for _, n := range names { // one may be a link
		if _, err := r.Path(n); err != nil {
			return nil, err
		}
		st, err := os.Stat(n)
		if err == nil {
			err = Regular(n, st)
		}
		if err != nil {
			return nil, err
		}
	}
	return names, nil
}

// List gives the files that an address names: a file, the files of a directory in the order of their
// names without hidden ones, or those that match a pattern.
func List(address string) ([]string, error) {
	st, err := os.Stat(address)
	if err == nil && !st.IsDir() {
		return []string{address}, nil
	}
	var names []string
	if err == nil {
		entries, err := os.ReadDir(address)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if !e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
				names = append(names, filepath.Join(address, e.Name()))
			}
		}
		if len(names) == 0 {
			return nil, fmt.Errorf("the directory %s has no files", address)
		}
		return names, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if strings.ContainsAny(address, "*?[") {
		names, err = doublestar.FilepathGlob(address, doublestar.WithFilesOnly(), doublestar.WithNoHidden())
		if err != nil {
			return nil, fmt.Errorf("the pattern %s cannot be read: %w", address, err)
		}
		slices.Sort(names)
		if len(names) == 0 {
			return nil, fmt.Errorf("no file matches %s", address)
		}
		return names, nil
	}
	return nil, fmt.Errorf("there is no file or directory %s", address)
}

// Regular refuses what is no file on a disk: a pipe or a device may give nothing for ever, or never end.
func Regular(name string, st fs.FileInfo) error {
	if !st.Mode().IsRegular() {
		return fmt.Errorf("%s is no regular file but %s", name, kindOf(st.Mode()))
	}
	return nil
}

func kindOf(m fs.FileMode) string {
	switch {
	case m&fs.ModeNamedPipe != 0:
		return "a pipe"
	case m&fs.ModeDevice != 0:
		return "a device"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m.IsDir():
		return "a directory"
	}
	return m.Type().String()
}
