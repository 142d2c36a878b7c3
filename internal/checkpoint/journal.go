package checkpoint

import (
	"cmp"
	"context"
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
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/disk"
)

// Journal is a flow.Journal in files of a directory. A file is only ever appended to, and goes once neither the job
// nor a checkpoint that is kept needs anything in it. What is appended is written by a goroutine of its own, so that
// the steps wait for the disk only once much is to be written.
type Journal struct {
	FS        disk.FS
	Dir       string
	FileBytes int64 // where the next file begins; 0: 64 MiB
	Now       func() time.Time

	mu      sync.Mutex
	files   map[int64]*journalFile
	newest  int64 // number of the file that is appended to, or 0
	next    int64 // number of the next file
	named   bool  // the directory's entries are durable
	written int64 // bytes appended

	queue   []*appended
	queued  int64 // bytes of queue and of what is being written
	pending map[flow.Extent][]byte
	works   chan struct{} // closed when the goroutine that writes has ended; nil where there is none
	changed chan struct{} // closed when something of the queue has been written, or cannot be
	closed  bool
	waits   *flow.Waiting // the disk fails, or is full, and is tried again
	broken  error         // it fails for good
}

// appended is something to be written.
type appended struct {
	at   flow.Extent
	data []byte
}

// journalFile is a file of a journal. Its methods are called with the journal locked, but for reading and writing.
type journalFile struct {
	disk.File       // nil until something is written
	size      int64 // given out
	live      int64 // needed by the job
	writing   int   // appended and not written yet
	dirty     bool  // something has been written since the last sync
	doubt     bool  // a sync has failed
}

// queueBytes is how much waits to be written before those who append wait, too.
const queueBytes = 32 << 20

// How long the disk is left alone when it has failed, and how often one write may fail until a checkpoint is abandoned for it.
const (
	firstWait = 50 * time.Millisecond
	lastWait  = 2 * time.Second
	patient   = 3
)

// fileBytes is where the next file begins.
func (j *Journal) fileBytes() int64 { return cmp.Or(j.FileBytes, 64<<20) }

func journalName(n int64) string { return fmt.Sprintf("%012d.journal", n) }

// Open looks at what is there. needed are the files that checkpoints need; others are removed.
func (j *Journal) Open(needed []int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.files, j.newest, j.next = map[int64]*journalFile{}, 0, 1
	j.queue, j.queued, j.pending, j.closed, j.waits, j.broken = nil, 0, map[flow.Extent][]byte{}, false, nil, nil
	j.changed = make(chan struct{})
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
func (j *Journal) Append(ctx context.Context, b []byte) (flow.Extent, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for j.queued > queueBytes && j.broken == nil && !j.closed {
		changed := j.changed
		j.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-changed:
		}
		j.mu.Lock()
		if ctx.Err() != nil {
			return flow.Extent{}, ctx.Err()
		}
	}
	if j.broken != nil || j.closed {
		return flow.Extent{}, cmp.Or(j.broken, errClosed)
	}
	f := j.files[j.newest]
	if f == nil || f.size >= j.fileBytes() {
		f = &journalFile{}
		j.newest, j.next = j.next, j.next+1
		j.files[j.newest] = f
	}
	e := flow.Extent{File: j.newest, Off: f.size, Len: int64(len(b)), Sum: crc32.Checksum(b, castagnoli)}
	f.size += e.Len
	f.live += e.Len
	f.writing++
	j.written += e.Len
	j.queued += e.Len
	j.queue = append(j.queue, &appended{e, b})
	j.pending[e] = b
	if j.works == nil {
		j.works = make(chan struct{})
		go j.write(j.works)
	} else {
		j.tell()
	}
	return e, nil
}

var errClosed = errors.New("the journal is closed")

// tell wakes who waits for a change. The caller holds the lock.
func (j *Journal) tell() {
	close(j.changed)
	j.changed = make(chan struct{})
}

// write writes what is appended, in order, until the journal is closed or cannot be written.
func (j *Journal) write(ended chan struct{}) {
	defer close(ended)
	j.mu.Lock()
	defer j.mu.Unlock()
	wait := firstWait
	for !j.closed {
		if len(j.queue) == 0 {
			changed := j.changed
			j.mu.Unlock()
			<-changed
			j.mu.Lock()
			continue
		}
		x := j.queue[0]
		f := j.files[x.at.File]
		j.mu.Unlock()
		made, err := j.put(f, x)
		j.mu.Lock()
		switch {
		case err == nil:
			wait, j.waits = firstWait, nil
			j.queue = j.queue[1:]
			j.queued -= x.at.Len
			f.writing--
			f.dirty = true
			if made {
				j.named = false
			}
			delete(j.pending, x.at)
		case !disk.Passing(err):
			j.broken = err
			j.tell()
			return
		default:
			w := flow.Waiting{Since: j.now(), Reason: err.Error(), Tries: 1}
			if j.waits != nil {
				w.Since, w.Tries = j.waits.Since, j.waits.Tries+1
			}
			j.waits = &w
			j.tell()
			j.mu.Unlock()
			time.Sleep(wait)
			wait = min(2*wait, lastWait)
			j.mu.Lock()
			continue
		}
		j.tell()
	}
}

// put writes one piece, and says whether it has made the file for it. Only one goroutine calls it.
func (j *Journal) put(f *journalFile, x *appended) (made bool, err error) {
	if f.File == nil {
		if err := j.FS.MkdirAll(j.Dir); err != nil {
			return false, err
		}
		file, err := j.FS.Create(filepath.Join(j.Dir, journalName(x.at.File)))
		if err != nil {
			return false, err
		}
		j.mu.Lock()
		f.File, made = file, true
		j.mu.Unlock()
	}
	_, err = f.WriteAt(x.data, x.at.Off)
	return made, err
}

func (j *Journal) now() time.Time {
	if j.Now != nil {
		return j.Now().UTC()
	}
	return time.Now().UTC()
}

// Waiting implements flow.Journal.
func (j *Journal) Waiting() *flow.Waiting {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.waits
}

// Read implements flow.Journal.
func (j *Journal) Read(e flow.Extent) ([]byte, error) {
	j.mu.Lock()
	if b, ok := j.pending[e]; ok {
		j.mu.Unlock()
		return b, nil
	}
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

// flushed waits until what has been appended is written. The caller holds the lock. Where the disk fails time and again it does not
// wait: the checkpoint is abandoned, and the steps go on while there is room in the queue. A write that fails alone is not enough: what an abandoned
// checkpoint has written is written once more by the next, and where many writes are due some would fail each time.
func (j *Journal) flushed() error {
	if len(j.queue) == 0 {
		return nil
	}
	for last := j.queue[len(j.queue)-1].at; ; {
		switch {
		case j.broken != nil || j.closed:
			return cmp.Or(j.broken, errClosed)
		case j.waits != nil && j.waits.Tries >= patient:
			return fmt.Errorf("the journal cannot be written: %s", j.waits.Reason)
		case j.pending[last] == nil:
			return nil
		}
		changed := j.changed
		j.mu.Unlock()
		<-changed
		j.mu.Lock()
	}
}

// Sync makes durable all that has been appended.
func (j *Journal) Sync() error {
	j.mu.Lock()
	if err := j.flushed(); err != nil {
		j.mu.Unlock()
		return err
	}
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
			f.dirty = true
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
	gone := map[int64]*journalFile{}
	for n, f := range j.files {
		if n != j.newest && f.File != nil && f.writing == 0 && f.live <= 0 && !slices.Contains(needed, n) {
			gone[n] = f
			delete(j.files, n)
		}
	}
	j.mu.Unlock()
	var errs []error
	for n, f := range gone { // not while others wait: it can take the file system long
		errs = append(errs, f.Close(), j.FS.Remove(filepath.Join(j.Dir, journalName(n))))
	}
	return errors.Join(errs...)
}

// Written is how much has been appended.
func (j *Journal) Written() int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.written
}

// Close closes the files. What has not been written is given up: no checkpoint knows of it.
func (j *Journal) Close() error {
	j.mu.Lock()
	j.closed = true
	works := j.works
	if j.changed != nil {
		j.tell()
	}
	j.mu.Unlock()
	if works != nil {
		<-works
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	var errs []error
	for _, f := range j.files {
		if f.File != nil {
			errs = append(errs, f.Close())
		}
	}
	j.files, j.newest, j.works = nil, 0, nil
	return errors.Join(errs...)
}
