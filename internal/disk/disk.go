// Package disk is the file system as the rest sees it: what is durable only once it is synced. Real runs use
// the operating system's; tests and trial runs use one in memory that can fail and crash.
package disk

import (
	"errors"
	"io"
	"os"
	"syscall"
	"time"
)

// File is an open file.
type File interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
	// Sync makes what was written durable. After a failure nobody knows what of it is.
	Sync() error
	Truncate(size int64) error
	Size() (int64, error)
}

// FS is a file system. A file that was made, moved or removed is so for good once its directory is synced.
type FS interface {
	// Open opens a file that is there to read and write it.
	Open(name string) (File, error)
	// Create makes an empty file, in place of one that is there.
	Create(name string) (File, error)
	Rename(from, to string) error
	Remove(name string) error
	RemoveAll(name string) error
	MkdirAll(dir string) error
	// List gives the names in a directory, ascending.
	List(dir string) ([]string, error)
	SyncDir(dir string) error
	// Lock keeps others out, in this process and in all, until it is closed. The name is that of a file, which is made
	// where it is not there, or of a directory.
	Lock(name string) (io.Closer, error)
}

// ErrLocked says that another process has a lock.
var ErrLocked = errors.New("another process has it open")

// OS is the operating system's file system.
type OS struct{}

type osFile struct{ *os.File }

func (f osFile) Size() (int64, error) {
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return st.Size(), nil
}

// Open implements FS.
func (OS) Open(name string) (File, error) {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	return osFile{f}, nil
}

// Create implements FS.
func (OS) Create(name string) (File, error) {
	defer Change()()
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return nil, err
	}
	return osFile{f}, nil
}

// Rename implements FS.
func (OS) Rename(from, to string) error {
	defer Change()()
	return os.Rename(from, to)
}

// Remove implements FS.
func (OS) Remove(name string) error {
	defer Change()()
	return os.Remove(name)
}

// RemoveAll implements FS.
func (OS) RemoveAll(name string) error {
	defer Change()()
	return os.RemoveAll(name)
}

// MkdirAll implements FS.
func (OS) MkdirAll(dir string) error { return os.MkdirAll(dir, 0o755) }

// List implements FS.
func (OS) List(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, err
}

// SyncDir implements FS.
func (OS) SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Lock implements FS.
func (OS) Lock(name string) (io.Closer, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o644)
	if errors.Is(err, syscall.EISDIR) {
		f, err = os.Open(name)
	}
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(ErrLocked, f.Close())
	}
	return f, nil
}

// Read gives all of a file.
func Read(fs FS, name string) ([]byte, error) {
	f, err := fs.Open(name)
	if err != nil {
		return nil, err
	}
	size, err := f.Size()
	b := make([]byte, size)
	if err == nil && size > 0 {
		_, err = f.ReadAt(b, 0)
		if errors.Is(err, io.EOF) {
			err = nil
		}
	}
	return b, errors.Join(err, f.Close())
}

// Write makes a file with some content, synced. It is not there for good before its directory is synced.
func Write(fs FS, name string, b []byte) error {
	f, err := fs.Create(name)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(b, 0)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// Rewrite writes once more what a file holds between two bytes, since after a failed sync nobody knows what of it
// is on the disk.
func Rewrite(f File, from, to int64) error {
	b := make([]byte, to-from)
	if _, err := f.ReadAt(b, from); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	_, err := f.WriteAt(b, from)
	return err
}

// SyncWhole makes durable the first size bytes of a file. doubt keeps whether an earlier sync has failed, so that they
// are written once more before.
func SyncWhole(f File, size int64, doubt *bool) error {
	if *doubt {
		if err := Rewrite(f, 0, size); err != nil {
			return err
		}
	}
	err := f.Sync()
	*doubt = err != nil
	return err
}

// SyncAgain makes a stretch of a file durable of which it is not known whether it is. A disk that fails is tried for
// a while, since whoever syncs after a failure is told nothing of it.
func SyncAgain(f File, from, to int64) error {
	for try := 0; ; try++ {
		err := Rewrite(f, from, to)
		if err == nil {
			err = f.Sync()
		}
		if err == nil || !Passing(err) || try == 100 {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Passing says whether a failure may pass by itself: the disk has no room, or could not do what was asked.
func Passing(err error) bool {
	for _, e := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EIO, syscall.EAGAIN, syscall.EINTR} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}
