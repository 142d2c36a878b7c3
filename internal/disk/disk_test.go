package disk_test

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"fiume/internal/disk"
)

// TestBoth: the operating system's file system and the one in memory do the same.
func TestBoth(t *testing.T) {
	for name, fs := range map[string]disk.FS{"os": disk.OS{}, "memory": disk.NewMemory().Session()} {
		dir := filepath.Join(t.TempDir(), "a", "b")
		check := func(err error) {
			t.Helper()
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		if _, err := fs.List(dir); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s: a directory that is not there: %v", name, err)
		}
		if _, err := fs.Create(filepath.Join(dir, "x")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s: a file in a directory that is not there: %v", name, err)
		}
		check(fs.MkdirAll(dir))
		if _, err := fs.Open(filepath.Join(dir, "x")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s: a file that is not there: %v", name, err)
		}
		f, err := fs.Create(filepath.Join(dir, "x"))
		check(err)
		_, err = f.WriteAt([]byte("ponte"), 2)
		check(err)
		check(f.Truncate(6))
		check(f.Sync())
		check(f.Close())
		check(fs.Rename(filepath.Join(dir, "x"), filepath.Join(dir, "y")))
		check(fs.SyncDir(dir))
		b, err := disk.Read(fs, filepath.Join(dir, "y"))
		check(err)
		if string(b) != "\x00\x00pont" {
			t.Errorf("%s: %q", name, b)
		}
		names, err := fs.List(filepath.Dir(dir))
		check(err)
		if len(names) != 1 || names[0] != "b" {
			t.Errorf("%s: %q", name, names)
		}
		check(fs.Remove(filepath.Join(dir, "y")))
		if err := fs.Remove(filepath.Join(dir, "y")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s: removed twice: %v", name, err)
		}
		check(fs.RemoveAll(dir))
	}
}

// TestPowerLoss: what was synced stays, of the rest a beginning; a failed sync loses what it was to keep.
func TestPowerLoss(t *testing.T) {
	torn, lost := 0, 0
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		m := disk.NewMemory()
		s := m.Session()
		_ = s.MkdirAll("/d")
		f, _ := s.Create("/d/x")
		if _, err := f.WriteAt([]byte("safe"), 0); err != nil || f.Sync() != nil || s.SyncDir("/d") != nil {
			t.Fatal(err)
		}
		_, _ = f.WriteAt([]byte("torn"), 4)
		g, _ := s.Create("/d/new")
		_, _ = g.WriteAt([]byte("n"), 0)
		_ = g.Sync()
		s.PowerLoss(r)
		if _, err := f.WriteAt([]byte("late"), 0); !errors.Is(err, disk.ErrDead) {
			t.Fatalf("a dead process writes: %v", err)
		}
		next := m.Session()
		b, err := disk.Read(next, "/d/x")
		if err != nil || len(b) < 4 || string(b) != "safetorn"[:len(b)] {
			t.Fatalf("%q %v", b, err)
		}
		if len(b) < 8 {
			torn++
		}
		if _, err := next.Open("/d/new"); err != nil {
			lost++
		}
	}
	if torn == 0 || torn == 200 || lost == 0 || lost == 200 {
		t.Errorf("%d torn, %d lost of 200", torn, lost)
	}
	m := disk.NewMemory()
	s := m.Session()
	_ = s.MkdirAll("/d")
	f, _ := s.Create("/d/x")
	_ = s.SyncDir("/d")
	s.Fault = func(op disk.Op) (int, error) {
		if op.Kind == "sync" {
			return 0, syscall.EIO
		}
		return op.Size, nil
	}
	_, _ = f.WriteAt([]byte("gone"), 0)
	if err := f.Sync(); !errors.Is(err, syscall.EIO) {
		t.Fatal(err)
	}
	s.Fault = nil
	if err := f.Sync(); err != nil {
		t.Fatal(err)
	}
	s.PowerLoss(rand.New(rand.NewPCG(1, 1)))
	if b, _ := disk.Read(m.Session(), "/d/x"); len(b) != 0 {
		t.Errorf("a failed sync kept %q", b)
	}
}
