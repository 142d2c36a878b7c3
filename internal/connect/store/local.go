package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"fiume/internal/connect/roots"
	"fiume/internal/disk"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/fsnotify/fsnotify"
)

// local is the directories of the machine.
type local struct{ within *roots.Roots }

// Far implements Store.
func (l *local) Far() bool { return false }

// Retry implements Store: a disk that is full may get room.
func (l *local) Retry(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE)
}

// Each implements Store. The files of a directory come in the order of their names.
func (l *local) Each(ctx context.Context, address, after string, give func(File) bool) error {
	path, err := l.within.Path(address)
	if err != nil {
		return err
	}
	st, err := os.Stat(path)
	switch {
	case err == nil && !st.IsDir():
		if path > after {
			give(File{Name: path})
		}
		return nil
	case err == nil:
		return eachOf(path, after, give)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	dir := filepath.Clean(constant(path))
	if dir == path || !strings.ContainsAny(path, "*?[{") {
		return nil // it has not come yet
	}
	if rest := path[len(strings.TrimSuffix(dir, "/"))+1:]; !strings.Contains(rest, "/") { // a pattern in one directory
		return eachOf(dir, after, func(f File) bool {
			if ok, err := doublestar.Match(rest, filepath.Base(f.Name)); err != nil || !ok {
				return true
			}
			return give(f)
		})
	}
	err = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil // it has gone meanwhile
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case name != dir && strings.HasPrefix(d.Name(), "."):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		case d.IsDir() || name <= after:
			return nil
		}
		if ok, err := doublestar.Match(path, name); err != nil || !ok {
			return err
		}
		if !give(File{Name: name}) {
			return fs.SkipAll
		}
		return nil
	})
	if errors.Is(err, doublestar.ErrBadPattern) {
		return fmt.Errorf("the pattern %s cannot be read: %w", address, err)
	}
	return err
}

// Fits implements Store.
func (l *local) Fits(address, name string) bool {
	path, err := l.within.Path(address)
	if err != nil {
		return false
	}
	if st, err := os.Stat(path); err == nil && st.IsDir() {
		return filepath.Dir(name) == path
	}
	ok, err := doublestar.Match(path, name)
	return name == path || err == nil && ok
}

// eachOf gives the files of one directory.
func eachOf(dir, after string, give func(File) bool) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	prefix := strings.TrimSuffix(dir, "/") + "/"
	for _, e := range entries {
		if e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if name := prefix + e.Name(); name > after && !give(File{Name: name}) {
			break
		}
	}
	return nil
}

// Stat implements Store.
func (l *local) Stat(_ context.Context, name string) (File, error) {
	if _, err := l.within.Path(name); err != nil { // it may be a link
		return File{}, err
	}
	st, err := os.Stat(name)
	if err != nil {
		return File{}, err
	}
	if err := roots.Regular(name, st); err != nil {
		return File{}, err
	}
	return fileOf(name, st), nil
}

// fileOf says what is known of a file.
func fileOf(name string, st fs.FileInfo) File {
	f := File{Name: name, Size: st.Size(), Changed: st.ModTime()}
	if x, ok := st.Sys().(*syscall.Stat_t); ok {
		f.Tag = fmt.Sprintf("%x.%x", x.Dev, x.Ino)
	}
	return f
}

// Open implements Store.
func (l *local) Open(ctx context.Context, name string) (Object, error) {
	f, err := l.Stat(ctx, name)
	if err != nil {
		return nil, err
	}
	in, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	if st, err := in.Stat(); err == nil {
		f = fileOf(name, st)
	}
	return &near{in, f}, nil
}

// near is a file on the disk.
type near struct {
	in   *os.File
	file File
}

// ReadAt implements io.ReaderAt.
func (d *near) ReadAt(b []byte, pos int64) (int, error) { return d.in.ReadAt(b, pos) }

// Close implements io.Closer.
func (d *near) Close() error { return d.in.Close() }

// File implements Object.
func (d *near) File() File { return d.file }

// Remove implements Store.
func (l *local) Remove(_ context.Context, name string) error {
	if _, err := l.within.Path(name); err != nil {
		return err
	}
	return disk.OS{}.Remove(name)
}

// Move implements Store. To another disk a file is copied, under a hidden name first.
func (l *local) Move(_ context.Context, address, name, dir string) error {
	to, err := l.target(address, name, dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	err = disk.OS{}.Rename(name, to)
	if !errors.Is(err, syscall.EXDEV) {
		return err
	}
	in, err := os.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	coming := filepath.Join(filepath.Dir(to), "."+filepath.Base(to)+".coming")
	out, err := os.Create(coming)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err == nil {
		err = disk.OS{}.Rename(coming, to)
	}
	if err == nil {
		err = disk.OS{}.Remove(name)
	}
	return err
}

// target gives where a file of an address is moved to: below dir as it lies below the address, and beside one of the same name that is there.
func (l *local) target(address, name, dir string) (string, error) {
	path, err := l.within.Path(address)
	if err != nil {
		return "", err
	}
	to, err := l.within.Path(dir)
	if err != nil {
		return "", err
	}
	rest := filepath.Base(name)
	for _, base := range []string{path, filepath.Clean(constant(path))} {
		if r, err := filepath.Rel(base, name); err == nil && r != "." && !strings.HasPrefix(r, "..") {
			rest = r
			break
		}
	}
	to = filepath.Join(to, rest)
	if to == name {
		return "", fmt.Errorf("%s would be moved to where it is", name)
	}
	for n, free := 1, to; ; n++ {
		if _, err := os.Lstat(free); errors.Is(err, fs.ErrNotExist) {
			return free, nil
		} else if err != nil {
			return "", err
		}
		free = fmt.Sprintf("%s.%d", to, n)
	}
}

// mostWatched is how many directories are watched.
const mostWatched = 1000

// Watch implements Store.
func (l *local) Watch(ctx context.Context, address string, changed func(name string)) bool {
	path, err := l.within.Path(address)
	if err != nil {
		return false
	}
	w, err := fsnotify.NewBufferedWatcher(4096)
	if err != nil {
		return false
	}
	base, fits := path, func(name string) bool { return filepath.Dir(name) == path || name == path }
	if strings.ContainsAny(path, "*?[{") {
		base = filepath.Clean(constant(path))
		fits = func(name string) bool {
			ok, err := doublestar.Match(path, name)
			return err == nil && ok && !hidden(strings.TrimPrefix(name[len(base):], "/"))
		}
	}
	deep := strings.Contains(strings.TrimPrefix(path, base+"/"), "/")
	watched := map[string]bool{}
	var mu sync.Mutex
	all := true
	add := func(dir string) {
		mu.Lock()
		defer mu.Unlock()
		if watched[dir] {
			return
		}
		if len(watched) >= mostWatched || w.Add(dir) != nil {
			all = false
			return
		}
		watched[dir] = true
	}
	below := func(dir string) {
		_ = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error { // what cannot be read is listed by others
			switch {
			case err != nil || name != dir && d.IsDir() && strings.HasPrefix(d.Name(), "."):
				return fs.SkipDir
			case d.IsDir():
				add(name)
			case fits(name):
				changed(name)
			}
			return nil
		})
	}
	if st, err := os.Stat(base); err == nil && !st.IsDir() {
		base = filepath.Dir(base)
	}
	if deep {
		below(base)
	} else {
		add(base)
	}
	if !all {
		_ = w.Close() // it has shown nothing
		return false
	}
	go func() {
		defer w.Close()
		for {
			select {
			case <-ctx.Done():
				return
			case e, ok := <-w.Events:
				if !ok {
					return
				}
				if !e.Has(fsnotify.Create) && !e.Has(fsnotify.Write) || strings.HasPrefix(filepath.Base(e.Name), ".") {
					continue
				}
				if deep && e.Has(fsnotify.Create) {
					if st, err := os.Stat(e.Name); err == nil && st.IsDir() {
						below(e.Name)
						continue
					}
				}
				if fits(e.Name) {
					changed(e.Name)
				}
			case _, ok := <-w.Errors: // what it has lost, the next listing finds
				if !ok {
					return
				}
			}
		}
	}()
	return true
}
