package disk_test

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

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

// TestFreeze: while all stands still nothing is written, moved or made; whoever wants that and does not get it in time leaves no trace.
func TestFreeze(t *testing.T) {
	dir := t.TempDir()
	fs := disk.OS{}
	f, err := fs.Create(filepath.Join(dir, "f"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	release, err := disk.Freeze(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	changes := []func() error{
		func() error { _, err := f.WriteAt([]byte("x"), 0); return err },
		func() error { g, err := fs.Create(filepath.Join(dir, "g")); return errors.Join(err, g.Close()) },
		func() error { return fs.Rename(filepath.Join(dir, "f"), filepath.Join(dir, "h")) },
	}
	done := make(chan error, len(changes))
	for _, c := range changes {
		go func() { done <- c() }()
	}
	time.Sleep(50 * time.Millisecond)
	names, err := fs.List(dir) // reading goes on
	size, serr := f.Size()
	if err != nil || serr != nil || len(names) != 1 || names[0] != "f" || size != 0 || len(done) != 0 {
		t.Errorf("%q %d %v %v", names, size, err, serr)
	}
	impatient, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := disk.Freeze(impatient); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("two froze at once: %v", err)
	}
	release()
	release() // twice does no harm
	for range changes {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	if names, _ := fs.List(dir); len(names) != 2 || names[1] != "h" {
		t.Errorf("%q", names)
	}
	again, err := disk.Freeze(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	again()
}
