package checkpoint

import (
	"cmp"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"fiume/internal/core/flow"
	"fiume/internal/disk"
)

// Journal is a flow.Journal in files of a directory. A file is only ever appended to, and goes once neither the job
// nor a checkpoint that is kept needs anything in it.
type Journal struct {
	FS        disk.FS
	Dir       string
	FileBytes int64 // where the next file begins; 0: 64 MiB

	mu     sync.Mutex
	files  map[int64]*journalFile
	newest int64 // number of the file that is written to, or 0
	next   int64 // number of the next file
	named  bool  // the directory's entries are durable

	written int64 // bytes appended
}

// journalFile is a file of a journal. Its methods are called with the journal locked, but for reading and writing.
type journalFile struct {
	disk.File
	size    int64 // given out
	live    int64 // needed by the job
	writing int   // appends under way
	dirty   bool  // something has been written since the last sync
	doubt   bool  // a sync has failed
}

// fileBytes is where the next file begins.
func (j *Journal) fileBytes() int64 { return cmp.Or(j.FileBytes, 64<<20) }

func journalName(n int64) string { return fmt.Sprintf("%012d.journal", n) }

// Open looks at what is there. needed are the files that checkpoints need; others are removed.
func (j *Journal) Open(needed []int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.files, j.newest, j.next = map[int64]*journalFile{}, 0, 1
	for _, n := range needed {
		j.next = max(j.next, n+1)
	}
	names, err := j.FS.List(j.Dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range names {
		text, ok := strings.CutSuffix(name, ".journal")
		n, err := strconv.ParseInt(text, 10, 64)
		if !ok || err != nil {
			continue
		}
		j.next = max(j.next, n+1)
		if !slices.Contains(needed, n) {
			if err := j.FS.Remove(filepath.Join(j.Dir, name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// file gives an open file. The caller holds the lock.
func (j *Journal) file(n int64) (*journalFile, error) {
	if f := j.files[n]; f != nil {
		return f, nil
	}
	f, err := j.FS.Open(filepath.Join(j.Dir, journalName(n)))
	if err != nil {
		return nil, err
	}
	x := &journalFile{File: f}
	if x.size, err = f.Size(); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	j.files[n] = x
	return x, nil
}

// Append implements flow.Journal.
func (j *Journal) Append(b []byte) (flow.Extent, error) {
	j.mu.Lock()
	f := j.files[j.newest]
	if f == nil || f.size >= j.fileBytes() {
		if err := j.begin(); err != nil {
			j.mu.Unlock()
			return flow.Extent{}, err
		}
		f = j.files[j.newest]
	}
	e := flow.Extent{File: j.newest, Off: f.size, Len: int64(len(b)), Sum: crc32.Checksum(b, castagnoli)}
	f.size += e.Len
	f.live += e.Len
	f.writing++
	j.written += e.Len
	j.mu.Unlock()
	_, err := f.WriteAt(b, e.Off)
	j.mu.Lock()
	f.writing--
	f.dirty = true
	if err != nil {
		f.live -= e.Len // the gap stays
	}
	j.mu.Unlock()
	if err != nil {
		return flow.Extent{}, err
	}
	return e, nil
}

// begin makes the next file.
func (j *Journal) begin() error {
	if j.files == nil {
		j.files, j.next = map[int64]*journalFile{}, 1
	}
	if err := j.FS.MkdirAll(j.Dir); err != nil {
		return err
	}
	f, err := j.FS.Create(filepath.Join(j.Dir, journalName(j.next)))
	if err != nil {
		return err
	}
	j.newest, j.named = j.next, false
	j.files[j.newest] = &journalFile{File: f}
	j.next++
	return nil
}

// Read implements flow.Journal.
func (j *Journal) Read(e flow.Extent) ([]byte, error) {
	j.mu.Lock()
	f, err := j.file(e.File)
	j.mu.Unlock()
	if err != nil {
		return nil, err
	}
	b := make([]byte, e.Len)
	if _, err := f.ReadAt(b, e.Off); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if crc32.Checksum(b, castagnoli) != e.Sum {
		return nil, fmt.Errorf("%s is damaged at byte %d: the checksum differs", journalName(e.File), e.Off)
	}
	return b, nil
}

// Adopt implements flow.Journal.
func (j *Journal) Adopt(e flow.Extent) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if f, err := j.file(e.File); err == nil {
		f.live += e.Len
	}
}

// Free implements flow.Journal.
func (j *Journal) Free(e flow.Extent) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if f := j.files[e.File]; f != nil {
		f.live -= e.Len
	}
}

// Sparse implements flow.Journal: the oldest file, where all files take three times what is needed, or more.
func (j *Journal) Sparse() int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	oldest, size, live := int64(0), int64(0), int64(0)
	for n, f := range j.files {
		size, live = size+f.size, live+f.live
		if n != j.newest && f.live > 0 && (oldest == 0 || n < oldest) {
			oldest = n
		}
	}
	if size < 3*live+2*j.fileBytes() {
		return 0
	}
	return oldest
}

// Passing implements flow.Journal.
func (j *Journal) Passing(err error) bool { return disk.Passing(err) }

// Sync makes durable all that has been appended.
func (j *Journal) Sync() error {
	j.mu.Lock()
	var files []*journalFile
	var sizes []int64
	for n, f := range j.files {
		if f.dirty || f.doubt {
			files, sizes = append(files, f), append(sizes, f.size)
			f.dirty = false
		}
		if f.doubt && n == j.newest {
			j.newest = 0 // what it holds is written once more, so nothing may come to it
		}
		if f.doubt && f.writing > 0 {
			j.mu.Unlock()
			return errors.New("a file of the journal is being written to that is to be synced again")
		}
	}
	named := j.named
	j.mu.Unlock()
	for i, f := range files {
		if err := disk.SyncWhole(f, sizes[i], &f.doubt); err != nil {
			j.mu.Lock()
			for _, f := range files[i:] {
				f.dirty = true
			}
			j.mu.Unlock()
			return err
		}
	}
	if !named && len(files) > 0 {
		if err := j.FS.SyncDir(j.Dir); err != nil {
			return err
		}
		j.mu.Lock()
		j.named = true
		j.mu.Unlock()
	}
	return nil
}

// Trim removes the files that neither the job nor a checkpoint needs.
func (j *Journal) Trim(needed []int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var errs []error
	for n, f := range j.files {
		if n != j.newest && f.live <= 0 && !slices.Contains(needed, n) {
			errs = append(errs, f.Close(), j.FS.Remove(filepath.Join(j.Dir, journalName(n))))
			delete(j.files, n)
		}
	}
	return errors.Join(errs...)
}

// Written is how much has been appended.
func (j *Journal) Written() int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.written
}

// Close closes the files.
func (j *Journal) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var errs []error
	for _, f := range j.files {
		errs = append(errs, f.Close())
	}
	j.files, j.newest = nil, 0
	return errors.Join(errs...)
}
