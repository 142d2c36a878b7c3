package disk

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// Memory is a file system in memory that behaves as badly as a real one may. Its users go through a Session,
// which dies at a crash: whoever still holds one afterwards changes nothing any more.
type Memory struct {
	mu    sync.Mutex
	files map[string]*content
	dirs  map[string][]change // changes of names in a directory that are not synced, oldest first
	made  map[string]bool     // directories
}

// content is what a file holds: for those who read it, and what a loss of power would leave.
type content struct {
	now    []byte
	safe   []byte
	writes []write // not synced, oldest first
}

// write is a change of a file's bytes; with cut, it is cut to at.
type write struct {
	at   int64
	data []byte
	cut  bool
}

// change of a name: it leads to a file now, or to none.
type change struct {
	name   string
	before *content
	after  *content
}

// Op is what a Session is about to do.
type Op struct {
	Kind string // open, create, write, sync, truncate, rename, remove, list, syncdir
	Name string
	Size int // bytes of a write
}

// Session is the file system as one life of a process sees it.
type Session struct {
	m    *Memory
	dead bool
	// Fault, if set, says what goes wrong: n bytes of a write are done, then err is given; for all others
	// nothing is done. It is called by one goroutine at a time.
	Fault func(op Op) (n int, err error)
}

// ErrDead says that the process that used the file system has ended.
var ErrDead = errors.New("the process has ended")

// NewMemory makes an empty file system.
func NewMemory() *Memory {
	return &Memory{files: map[string]*content{}, dirs: map[string][]change{}, made: map[string]bool{}}
}

// Session begins a life.
func (m *Memory) Session() *Session { return &Session{m: m} }

// Kill ends a life; what it wrote stays, as it does when a process is killed.
func (s *Session) Kill() {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	s.dead = true
}

// PowerLoss ends a life with the machine: of what was not synced some stays, in order, and the last write may
// be torn.
func (s *Session) PowerLoss(r *rand.Rand) {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	s.dead = true
	m := s.m
	dirs := make([]string, 0, len(m.dirs))
	for d := range m.dirs {
		dirs = append(dirs, d)
	}
	slices.Sort(dirs)
	for _, d := range dirs {
		cs := m.dirs[d]
		for keep := r.IntN(len(cs) + 1); len(cs) > keep; cs = cs[:len(cs)-1] {
			c := cs[len(cs)-1]
			if c.before == nil {
				delete(m.files, c.name)
			} else {
				m.files[c.name] = c.before
			}
		}
	}
	m.dirs = map[string][]change{}
	names := make([]string, 0, len(m.files))
	for n := range m.files {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		c := m.files[n]
		if len(c.writes) > 0 {
			keep := r.IntN(len(c.writes) + 1)
			for i, w := range c.writes[:keep] {
				if i == keep-1 && !w.cut && r.IntN(2) == 0 {
					w.data = w.data[:r.IntN(len(w.data)+1)]
				}
				c.safe = w.apply(c.safe)
			}
			c.writes = nil
		}
		c.now = slices.Clone(c.safe)
	}
}

func (w write) apply(b []byte) []byte {
	if w.cut {
		for int64(len(b)) < w.at {
			b = append(b, 0)
		}
		return b[:w.at]
	}
	for int64(len(b)) < w.at {
		b = append(b, 0)
	}
	n := copy(b[w.at:], w.data)
	return append(b, w.data[n:]...)
}

// begin checks whether the life goes on and asks for faults. It gives the lock.
func (s *Session) begin(kind, name string, size int) (n int, err error) {
	s.m.mu.Lock()
	if s.dead {
		return 0, ErrDead
	}
	if s.Fault != nil {
		if n, err = s.Fault(Op{kind, name, size}); err != nil {
			if errors.Is(err, ErrDead) {
				s.dead = true
			}
			return n, &os.PathError{Op: kind, Path: name, Err: err}
		}
	}
	return size, nil
}

func (s *Session) name(name string, to *content) {
	d := filepath.Dir(name)
	s.m.dirs[d] = append(s.m.dirs[d], change{name, s.m.files[name], to})
	if to == nil {
		delete(s.m.files, name)
	} else {
		s.m.files[name] = to
	}
}

// Open implements FS.
func (s *Session) Open(name string) (File, error) {
	_, err := s.begin("open", name, 0)
	defer s.m.mu.Unlock()
	if err != nil {
		return nil, err
	}
	c := s.m.files[name]
	if c == nil {
		return nil, &os.PathError{Op: "open", Path: name, Err: os.ErrNotExist}
	}
	return &memoryFile{s, name, c}, nil
}

// Create implements FS.
func (s *Session) Create(name string) (File, error) {
	_, err := s.begin("create", name, 0)
	defer s.m.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if !s.m.made[filepath.Dir(name)] {
		return nil, &os.PathError{Op: "create", Path: name, Err: os.ErrNotExist}
	}
	if c := s.m.files[name]; c != nil {
		c.do(write{cut: true})
		return &memoryFile{s, name, c}, nil
	}
	c := &content{}
	s.name(name, c)
	return &memoryFile{s, name, c}, nil
}

// Rename implements FS.
func (s *Session) Rename(from, to string) error {
	_, err := s.begin("rename", from, 0)
	defer s.m.mu.Unlock()
	if err != nil {
		return err
	}
	c := s.m.files[from]
	if c == nil {
		return &os.PathError{Op: "rename", Path: from, Err: os.ErrNotExist}
	}
	s.name(to, c)
	s.name(from, nil)
	return nil
}

// Remove implements FS.
func (s *Session) Remove(name string) error {
	_, err := s.begin("remove", name, 0)
	defer s.m.mu.Unlock()
	if err != nil {
		return err
	}
	if s.m.files[name] == nil {
		return &os.PathError{Op: "remove", Path: name, Err: os.ErrNotExist}
	}
	s.name(name, nil)
	return nil
}

// RemoveAll implements FS.
func (s *Session) RemoveAll(name string) error {
	_, err := s.begin("remove", name, 0)
	defer s.m.mu.Unlock()
	if err != nil {
		return err
	}
	for n := range s.m.files {
		if n == name || strings.HasPrefix(n, name+"/") {
			s.name(n, nil)
		}
	}
	for d := range s.m.made {
		if d == name || strings.HasPrefix(d, name+"/") {
			delete(s.m.made, d)
		}
	}
	return nil
}

// MkdirAll implements FS. Directories are durable at once.
func (s *Session) MkdirAll(dir string) error {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	if s.dead {
		return ErrDead
	}
	for d := dir; d != "/" && d != "."; d = filepath.Dir(d) {
		s.m.made[d] = true
	}
	return nil
}

// List implements FS.
func (s *Session) List(dir string) ([]string, error) {
	_, err := s.begin("list", dir, 0)
	defer s.m.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if !s.m.made[dir] {
		return nil, &os.PathError{Op: "list", Path: dir, Err: os.ErrNotExist}
	}
	seen := map[string]bool{}
	for _, names := range []func(func(string) bool){
		func(yield func(string) bool) {
			for n := range s.m.files {
				yield(n)
			}
		}, func(yield func(string) bool) {
			for n := range s.m.made {
				yield(n)
			}
		}} {
		for n := range names {
			if rest, ok := strings.CutPrefix(n, dir+"/"); ok {
				first, _, _ := strings.Cut(rest, "/")
				seen[first] = true
			}
		}
	}
	out := make([]string, 0, len(seen))
	for n := range seen {
		out = append(out, n)
	}
	slices.Sort(out)
	return out, nil
}

// SyncDir implements FS.
func (s *Session) SyncDir(dir string) error {
	_, err := s.begin("syncdir", dir, 0)
	defer s.m.mu.Unlock()
	if err == nil {
		delete(s.m.dirs, dir)
	}
	return err
}

// Lock implements FS. There is no other process.
func (s *Session) Lock(string) (io.Closer, error) { return io.NopCloser(nil), nil }

type memoryFile struct {
	s    *Session
	name string
	c    *content
}

func (c *content) do(w write) {
	c.now = w.apply(c.now)
	c.writes = append(c.writes, w)
}

func (f *memoryFile) ReadAt(b []byte, at int64) (int, error) {
	f.s.m.mu.Lock()
	defer f.s.m.mu.Unlock()
	if f.s.dead {
		return 0, ErrDead
	}
	if at >= int64(len(f.c.now)) {
		return 0, io.EOF
	}
	n := copy(b, f.c.now[at:])
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

func (f *memoryFile) WriteAt(b []byte, at int64) (int, error) {
	n, err := f.s.begin("write", f.name, len(b))
	defer f.s.m.mu.Unlock()
	if err != nil && errors.Is(err, ErrDead) && n == 0 {
		return 0, err
	}
	n = min(n, len(b))
	if n > 0 {
		f.c.do(write{at: at, data: slices.Clone(b[:n])})
	}
	if err == nil && n < len(b) {
		err = fmt.Errorf("only %d of %d bytes were written", n, len(b))
	}
	return n, err
}

func (f *memoryFile) Sync() error {
	_, err := f.s.begin("sync", f.name, 0)
	defer f.s.m.mu.Unlock()
	if err != nil {
		if !errors.Is(err, ErrDead) {
			f.c.writes = nil // it can still be read, but will never reach the disk
		}
		return err
	}
	for _, w := range f.c.writes {
		f.c.safe = w.apply(f.c.safe)
	}
	f.c.writes = nil
	return nil
}

func (f *memoryFile) Truncate(size int64) error {
	_, err := f.s.begin("truncate", f.name, 0)
	defer f.s.m.mu.Unlock()
	if err == nil {
		f.c.do(write{at: size, cut: true})
	}
	return err
}

func (f *memoryFile) Size() (int64, error) {
	f.s.m.mu.Lock()
	defer f.s.m.mu.Unlock()
	if f.s.dead {
		return 0, ErrDead
	}
	return int64(len(f.c.now)), nil
}

func (f *memoryFile) Close() error { return nil }

// Damage changes a file at rest, as a disk may that goes bad: a bit, a block of zeros, its end, or all of it. It chooses
// among the files below a directory whose names end so, and says what it did, or "" where there are none.
func (m *Memory) Damage(r *rand.Rand, dir, ending string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	var names []string
	for n, c := range m.files {
		if strings.HasPrefix(n, dir) && strings.HasSuffix(n, ending) && len(c.now) > 0 {
			names = append(names, n)
		}
	}
	if len(names) == 0 {
		return ""
	}
	slices.Sort(names)
	name := names[r.IntN(len(names))]
	c := m.files[name]
	b := slices.Clone(c.now)
	at := r.IntN(len(b))
	what := ""
	switch r.IntN(4) {
	case 0, 1:
		b[at] ^= 1 << r.IntN(8)
		what = "a bit"
	case 2:
		clear(b[at:min(len(b), at+1+r.IntN(300))])
		what = "a block"
	default:
		b = b[:at]
		what = "its end"
	}
	c.now, c.safe, c.writes = b, slices.Clone(b), nil
	return fmt.Sprintf("%s of %s at byte %d", what, name, at)
}
