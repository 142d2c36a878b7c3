package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fiume/internal/disk"
)

// A directory of part files has one writer: the numbers of parts, the open part, and the manifest are its own. While it
// writes it holds a lock on the directory; between its runs the file ownerFile says whose open part lies there.
const ownerFile = ".writer"

// take makes the sink the directory's writer.
func (s *Sink) take() error {
	lock, err := s.fs.Lock(s.dir)
	if errors.Is(err, disk.ErrLocked) {
		return fmt.Errorf("another job or sink is writing into %s; each needs a directory of its own", s.dir)
	}
	if err != nil {
		return err
	}
	s.lock = lock
	return nil
}

// own checks that no open part of another writer lies in the directory, which would be destroyed, and writes down whose
// the directory is from now on.
func (s *Sink) own(names []string) error {
	path := filepath.Join(s.dir, ownerFile)
	b, err := disk.Read(s.fs, path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	// One without an end was cut off by a crash, before its writer wrote anything else.
	owner, whole := strings.CutSuffix(string(b), "\n")
	if !whole {
		owner = ""
	}
	if owner == s.writer || s.writer == "" {
		return nil
	}
	if owner != "" {
		for _, n := range names {
			if _, ok := s.numberOf(strings.TrimPrefix(n, ".")); ok && strings.HasPrefix(n, ".") {
				return fmt.Errorf("in %s lies the open part %s of another writer, %s; give this sink a directory of its own, or, if that writer is gone, remove the part and %s", s.dir, n, owner, path)
			}
		}
	}
	coming := path + ".new" // in one step: what a crash leaves is the former one or this
	if err := disk.Write(s.fs, coming, []byte(s.writer+"\n")); err != nil {
		return err
	}
	return errors.Join(s.fs.Rename(coming, path), s.fs.SyncDir(s.dir))
}

// leave gives a directory up whose writer is gone for good.
func leave(fs disk.FS, dir, writer string) error {
	path := filepath.Join(dir, ownerFile)
	if b, err := disk.Read(fs, path); err != nil || strings.TrimSpace(string(b)) != writer {
		return nil // it is not there, or somebody else's
	}
	return fs.Remove(path)
}
