package lake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fiume/internal/connect/roots"
	"fiume/internal/connect/store"
	"fiume/internal/disk"

	iceio "github.com/apache/iceberg-go/io"
)

// The files of tables lie in directories of this machine, below those that the service may use, or in an object store. What the library of the
// format writes is on the disk, with its name, when it says that it is written: a table whose metadata outlives its files is lost.

// reach is how the library gets to files.
type reach struct {
	roots *roots.Roots
	far   *store.Far // nil: there is no object store
	temp  string     // where objects grow before they are sent

	mu      sync.Mutex
	syncing []<-chan struct{} // one for each file that is on its way to the disk, closed when it is there
	failed  error             // of one of them: metadata that may name it is not written until the catalogue is opened anew
}

// Files of rows and lists of files are not read before metadata names them. So they go to the disk side by side, and metadata waits for all.

// sync has a file go to the disk, and closes it.
func (r *reach) sync(f *os.File, dir string) {
	there := make(chan struct{})
	r.mu.Lock()
	r.syncing = append(r.syncing, there)
	r.mu.Unlock()
	go func() {
		defer close(there)
		if err := errors.Join(f.Sync(), f.Close(), syncDir(dir)); err != nil {
			r.mu.Lock()
			r.failed = errors.Join(r.failed, err)
			r.mu.Unlock()
		}
	}()
}

// synced waits until all files that were written are on the disk. Others may be written meanwhile.
func (r *reach) synced() error {
	r.mu.Lock()
	waiting := slices.Clone(r.syncing)
	r.mu.Unlock()
	for _, there := range waiting {
		<-there
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.syncing = slices.DeleteFunc(r.syncing, func(c <-chan struct{}) bool {
		select {
		case <-c:
			return true
		default:
			return false
		}
	})
	return r.failed
}

// isMetadata says whether a file is the one that names all others.
func isMetadata(name string) bool { return strings.HasSuffix(name, ".metadata.json") }

// reaches are those of catalogues that are open, by the number that goes through the library as a property.
var (
	reaches sync.Map // string → *reach
	reachID atomic.Int64
)

const reachProperty = "fiume.reach"

// register makes a way to files known, until done is called.
func (r *reach) register() (id string, done func()) {
	id = strconv.FormatInt(reachID.Add(1), 10)
	reaches.Store(id, r)
	return id, func() { reaches.Delete(id) }
}

func init() {
	find := func(_ context.Context, _ *url.URL, props map[string]string) (iceio.IO, error) {
		if r, ok := reaches.Load(props[reachProperty]); ok {
			return r.(*reach), nil
		}
		return nil, errors.New("the catalogue has been closed")
	}
	for _, scheme := range []string{"", "file"} {
		iceio.Unregister(scheme)
	}
	for _, scheme := range []string{"", "file", "s3", "s3a"} {
		iceio.Register(scheme, find)
	}
}

// object gives the name of an object, s3://bucket/key, or false.
func object(name string) (string, bool) {
	for _, scheme := range []string{store.Scheme, "s3a://"} {
		if rest, ok := strings.CutPrefix(name, scheme); ok {
			return store.Scheme + rest, true
		}
	}
	return "", false
}

// path gives the path of a file of this machine, which must lie where files may.
func (r *reach) path(op, name string) (string, error) {
	p := name
	if rest, ok := strings.CutPrefix(p, "file:"); ok {
		u, err := url.Parse("file:" + rest)
		if err != nil || u.Host != "" && u.Host != "localhost" {
			return "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
		}
		p = u.Path
	}
	p, err := r.roots.Path(p)
	if err != nil {
		return "", &fs.PathError{Op: op, Path: name, Err: err}
	}
	return p, nil
}

func (r *reach) store(op, name string) (*store.Far, error) {
	if r.far == nil {
		return nil, &fs.PathError{Op: op, Path: name, Err: errors.New("the table lies in an object store, and the endpoint has no STORE")}
	}
	return r.far, nil
}

// Open implements io.IO of the library.
func (r *reach) Open(name string) (iceio.File, error) {
	if key, ok := object(name); ok {
		far, err := r.store("open", name)
		if err != nil {
			return nil, err
		}
		o, err := far.Open(context.Background(), key)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		return &farFile{o, io.NewSectionReader(o, 0, o.File().Size)}, nil
	}
	p, err := r.path("open", name)
	if err != nil {
		return nil, err
	}
	return os.Open(p)
}

// ReadFile implements io.ReadFileIO of the library.
func (r *reach) ReadFile(name string) ([]byte, error) {
	f, err := r.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// farFile is an object as a file.
type farFile struct {
	o store.Object
	*io.SectionReader
}

// Close implements io.Closer.
func (f *farFile) Close() error { return f.o.Close() }

// Stat implements fs.File.
func (f *farFile) Stat() (fs.FileInfo, error) { return info{f.o.File()}, nil }

// info is an object as an fs.FileInfo and fs.DirEntry.
type info struct{ f store.File }

func (i info) Name() string               { return filepath.Base(i.f.Name) }
func (i info) Size() int64                { return i.f.Size }
func (i info) Mode() fs.FileMode          { return 0o444 }
func (i info) Type() fs.FileMode          { return 0 }
func (i info) ModTime() time.Time         { return i.f.Changed }
func (i info) IsDir() bool                { return false }
func (i info) Sys() any                   { return nil }
func (i info) Info() (fs.FileInfo, error) { return i, nil }

// written is a file that is being written. What it holds is in the store when Close has returned, and on the disk when metadata has been written.
type written struct {
	*os.File
	done func(f *os.File) error
}

// Close implements io.Closer.
func (w *written) Close() error { return w.done(w.File) }

// ReadFrom implements io.ReaderFrom.
func (w *written) ReadFrom(from io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{w.File}, from)
}

// Create implements io.WriteFileIO of the library.
func (r *reach) Create(name string) (iceio.FileWriter, error) {
	if key, ok := object(name); ok {
		far, err := r.store("create", name)
		if err != nil {
			return nil, err
		}
		if r.temp != "" {
			if err := os.MkdirAll(r.temp, 0o755); err != nil {
				return nil, err
			}
		}
		f, err := os.CreateTemp(r.temp, "object-*")
		if err != nil {
			return nil, err
		}
		if err := os.Remove(f.Name()); err != nil { // the name is not needed, and so nothing stays where the process dies
			return nil, errors.Join(err, f.Close())
		}
		return &written{f, func(f *os.File) error {
			st, err := f.Stat()
			if err == nil {
				err = far.Put(context.Background(), key, f, st.Size())
			}
			return errors.Join(err, f.Close())
		}}, nil
	}
	p, err := r.path("create", name)
	if err != nil {
		return nil, err
	}
	if err := mkdir(filepath.Dir(p)); err != nil {
		return nil, err
	}
	done := disk.Change()
	f, err := os.Create(p)
	done()
	if err != nil {
		return nil, err
	}
	return &written{f, func(f *os.File) error {
		if !isMetadata(name) {
			r.sync(f, filepath.Dir(p))
			return nil
		}
		return errors.Join(r.synced(), f.Sync(), f.Close(), syncDir(filepath.Dir(p)))
	}}, nil
}

// mkdir makes a directory with those above it, and has their names on the disk.
func mkdir(dir string) error {
	if st, err := os.Stat(dir); err == nil && st.IsDir() {
		return nil
	}
	above := filepath.Dir(dir)
	if above != dir {
		if err := mkdir(above); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return syncDir(above)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// WriteFile implements io.WriteFileIO of the library.
func (r *reach) WriteFile(name string, content []byte) error {
	w, err := r.Create(name)
	if err != nil {
		return err
	}
	_, err = w.Write(content)
	if err != nil {
		if f, ok := w.(*written); ok { // what is not whole is not sent
			return errors.Join(err, f.File.Close())
		}
	}
	return errors.Join(err, w.Close())
}

// Remove implements io.IO of the library.
func (r *reach) Remove(name string) error {
	if key, ok := object(name); ok {
		far, err := r.store("remove", name)
		if err != nil {
			return err
		}
		return far.Remove(context.Background(), key)
	}
	p, err := r.path("remove", name)
	if err != nil {
		return err
	}
	done := disk.Change()
	err = os.Remove(p)
	done()
	if isMetadata(name) && errors.Is(err, fs.ErrNotExist) { // another writer has removed it as too old
		return nil
	}
	return err
}

// WalkDir implements io.ListableIO of the library.
func (r *reach) WalkDir(root string, fn fs.WalkDirFunc) error {
	if key, ok := object(root); ok {
		far, err := r.store("walk", root)
		if err != nil {
			return err
		}
		var failed error
		err = far.Each(context.Background(), strings.TrimSuffix(key, "/")+"/**", "", func(f store.File) bool {
			failed = fn(f.Name, info{f}, nil)
			return failed == nil
		})
		if failed != nil && (errors.Is(failed, fs.SkipAll) || errors.Is(failed, fs.SkipDir)) {
			failed = nil
		}
		return errors.Join(err, failed)
	}
	p, err := r.path("walk", root)
	if err != nil {
		return err
	}
	return filepath.WalkDir(p, fn)
}

// The rest is what a catalogue in a directory needs.

// Stat implements io.StatIO of the library.
func (r *reach) Stat(name string) (fs.FileInfo, error) {
	if key, ok := object(name); ok {
		far, err := r.store("stat", name)
		if err != nil {
			return nil, err
		}
		f, err := far.Stat(context.Background(), key)
		return info{f}, err
	}
	p, err := r.path("stat", name)
	if err != nil {
		return nil, err
	}
	return os.Stat(p)
}

// two gives the paths of two files of this machine.
func (r *reach) two(op, from, to string) (a, b string, err error) {
	for _, n := range []string{from, to} {
		if _, ok := object(n); ok {
			return "", "", &fs.PathError{Op: op, Path: n, Err: fmt.Errorf("a catalogue in an object store: %w", errors.ErrUnsupported)}
		}
	}
	if a, err = r.path(op, from); err != nil {
		return "", "", err
	}
	b, err = r.path(op, to)
	return a, b, err
}

// Rename implements io.RenameIO of the library.
func (r *reach) Rename(from, to string) error {
	a, b, err := r.two("rename", from, to)
	if err != nil {
		return err
	}
	done := disk.Change()
	err = os.Rename(a, b)
	done()
	if err != nil {
		return err
	}
	return syncDir(filepath.Dir(b))
}

// RenameNoReplace implements io.RenameNoReplaceIO of the library.
func (r *reach) RenameNoReplace(from, to string) error {
	a, b, err := r.two("rename", from, to)
	if err != nil {
		return err
	}
	done := disk.Change()
	if err = os.Link(a, b); err == nil {
		err = os.Remove(a)
	}
	done()
	if err != nil {
		return err
	}
	return syncDir(filepath.Dir(b))
}

// RemoveAll implements io.RemoveAllIO of the library.
func (r *reach) RemoveAll(name string) error {
	p, _, err := r.two("remove", name, name)
	if err != nil {
		return err
	}
	return disk.OS{}.RemoveAll(p)
}

// MkdirAll implements io.MkdirAllIO of the library.
func (r *reach) MkdirAll(name string) error {
	p, _, err := r.two("mkdir", name, name)
	if err != nil {
		return err
	}
	return mkdir(p)
}

// The rest is what logs of tables need that have no catalogue.

// PutNew implements delta.Files.
func (r *reach) PutNew(name string, content []byte) error {
	if key, ok := object(name); ok {
		far, err := r.store("create", name)
		if err != nil {
			return err
		}
		return far.PutNew(context.Background(), key, content)
	}
	return r.place(name, content, os.Link)
}

// Put implements delta.Files.
func (r *reach) Put(name string, content []byte) error {
	if key, ok := object(name); ok {
		far, err := r.store("create", name)
		if err != nil {
			return err
		}
		return far.Put(context.Background(), key, bytes.NewReader(content), int64(len(content)))
	}
	return r.place(name, content, os.Rename)
}

// place puts a file whole where it belongs, when all that was written before is on the disk.
func (r *reach) place(name string, content []byte, to func(from, name string) error) error {
	p, err := r.path("create", name)
	if err != nil {
		return err
	}
	if err := r.synced(); err != nil {
		return err
	}
	dir := filepath.Dir(p)
	if err := mkdir(dir); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".fiume-*.tmp")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(content)
	if err := errors.Join(err, f.Chmod(0o644), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := to(f.Name(), p); err != nil {
		return err
	}
	return syncDir(dir)
}

// Names implements delta.Files.
func (r *reach) Names(dir, from string) (out []string, err error) {
	if key, ok := object(dir); ok {
		far, err := r.store("list", dir)
		if err != nil {
			return nil, err
		}
		after := ""
		if from != "" {
			after = key + from
		}
		err = far.Each(context.Background(), key+"*", after, func(f store.File) bool {
			out = append(out, strings.TrimPrefix(f.Name, key))
			return true
		})
		return out, err
	}
	p, err := r.path("list", dir)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(p)
	for _, e := range entries {
		if e.Name() >= from {
			out = append(out, e.Name())
		}
	}
	return out, err
}
