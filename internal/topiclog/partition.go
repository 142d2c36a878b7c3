package topiclog

import (
	"cmp"
	"errors"
	"fiume/internal/disk"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// segment is one file of a partition. The index holds a mark for about every indexEvery bytes.
type segment struct {
	base   int64
	path   string
	file   disk.File
	using  int  // reads at work
	gone   bool // it has been removed; the last read closes its file
	size   int64
	found  int64 // bytes that an earlier process wrote, and of which it is not known whether they are on the disk
	next   int64 // offset behind the last record
	latest int64 // greatest timestamp, milliseconds
	marks  []mark
}

// mark says at which byte a batch begins, its first offset, and the greatest timestamp before it.
type mark struct {
	offset, at, latest int64
}

const indexEvery = 4096

// Partition is one ordered part of a topic.
type Partition struct {
	fs    disk.FS
	dir   string
	limit int64 // bytes a segment

	mu        sync.Mutex
	segments  []*segment // the last one is written to
	next      int64      // of the next record to append
	visible   int64      // records below it are on the disk
	buf       []byte
	broken    error
	synced    int64 // bytes of the last segment that are on the disk
	torn      bool  // what lies behind them is to be cut off
	made      int   // files of segments that were made, or found, and how many of them are in the directory for good
	named     int
	epoch     int   // how often that happened
	failed    error // why it did last
	readers   map[int]func()
	readerID  int
	damage    []Damage
	kept      reached                        // what endFile says
	tell      func(text string, args ...any) // says what went wrong
	known     known
	producers producers
	compacted int64 // bytes that there were when it was compacted last

	syncMu    sync.Mutex // one sync at a time
	rewriting sync.Mutex // one at a time writes segments anew
}

func openPartition(fs disk.FS, dir string, limit int64, tell func(text string, args ...any)) (*Partition, error) {
	p := &Partition{fs: fs, dir: dir, limit: limit, readers: map[int]func(){}, tell: tell}
	if err := fs.MkdirAll(dir); err != nil {
		return nil, err
	}
	names, err := fs.List(dir)
	if err != nil {
		return nil, err
	}
	for _, name := range names { // in the order of names, which is that of offsets
		base, err := strconv.ParseInt(strings.TrimSuffix(name, ".log"), 10, 64)
		if err != nil || !strings.HasSuffix(name, ".log") {
			continue
		}
		p.segments = append(p.segments, &segment{base: base, next: base, path: filepath.Join(dir, name)})
		p.made++ // a process that was killed may not have lived to sync the directory
	}
	skip := int64(0)
	p.kept = p.readEnd()
	for i, s := range p.segments {
		if s.file, err = fs.Open(s.path); err != nil {
			return nil, errors.Join(err, p.close())
		}
		end, last := p.kept.next, i == len(p.segments)-1
		if !last {
			end = p.segments[i+1].base
		}
		if skip, err = p.load(s, end, last); err != nil {
			return nil, errors.Join(err, p.close())
		}
	}
	if n := len(p.segments); n > 0 {
		s := p.segments[n-1]
		if p.kept.next > max(s.next, skip) {
			p.noteDamage(Damage{From: s.next, To: p.kept.next, File: s.path, Byte: s.size, Reason: "the file ends before its time"})
			skip = p.kept.next
		}
	}
	if len(p.segments) == 0 || skip > 0 { // the name of a segment's file keeps where its offsets begin
		if err := p.roll(skip); err != nil {
			return nil, errors.Join(err, p.close())
		}
	}
	if p.named < p.made && p.active().size > 0 { // what is found counts as being there
		if err := fs.SyncDir(dir); err != nil {
			return nil, errors.Join(err, p.close())
		}
		p.named = p.made
	}
	p.holes()
	p.next = p.active().next
	p.visible, p.synced = p.next, p.active().size
	return p, nil
}

// brokenPartition stands in place of a partition that cannot be opened.
func brokenPartition(err error) *Partition {
	return &Partition{segments: []*segment{{}}, readers: map[int]func(){}, broken: err, tell: func(string, ...any) {}}
}

func (p *Partition) active() *segment { return p.segments[len(p.segments)-1] }

// securedBytes of a segment that is opened, and at least its last batch, are written once more: a process that was
// killed may have written them, and may not have lived to sync them, or to hear that they cannot be synced. A sync
// alone would say nothing then.
const securedBytes = 1 << 20

// Secure makes durable what an earlier process wrote behind an offset.
func (p *Partition) Secure(offset int64) error {
	p.mu.Lock()
	var s *segment
	from, to := int64(0), int64(0)
	for _, x := range p.segments {
		if x.found == 0 || x.next <= offset {
			continue
		}
		s, to = x, x.found // what was found does not change any more
		for _, m := range x.marks {
			if m.offset <= offset {
				from = m.at
			}
		}
	}
	p.mu.Unlock()
	if s == nil || from >= to {
		return nil
	}
	if err := disk.SyncAgain(s.file, from, to); err != nil {
		return err
	}
	p.mu.Lock()
	s.found = min(s.found, from)
	p.mu.Unlock()
	return nil
}

// note takes a batch appended at the end into account.
func (s *segment) note(h head) {
	if n := len(s.marks); n == 0 || s.size-s.marks[n-1].at >= indexEvery {
		s.marks = append(s.marks, mark{h.base, s.size, s.latest})
	}
	s.size += int64(h.size)
	s.next = h.last + 1
	s.latest = max(s.latest, h.latest)
}

// knows remembers the name of a batch that has one.
func (p *Partition) knows(h head) {
	switch {
	case h.foreign && h.producer >= 0:
		p.producers.add(h)
	case !h.foreign && h.epoch == onceEpoch:
		p.known.add(h.producer, h.base)
	}
}

// roll begins a new segment.
func (p *Partition) roll(base int64) error {
	path := filepath.Join(p.dir, fmt.Sprintf("%020d.log", base))
	f, err := p.fs.Create(path)
	if err != nil {
		return err
	}
	p.segments = append(p.segments, &segment{base: base, next: base, path: path, file: f})
	p.synced = 0
	p.made++
	if err := p.fs.SyncDir(p.dir); err != nil {
		return err // whoever syncs what is written to it tries again
	}
	p.named = p.made
	return nil
}

// Append writes records and gives the offset of the first, once all are on the disk. Where it fails nothing is
// there, and it can be tried again.
func (p *Partition) Append(recs []Record) (int64, error) { return p.AppendAs(NoProducer, -1, recs) }

// AppendAs is Append in the name of a producer, by whom the batch can be told from those of others, and with a
// number of the producer's own.
func (p *Partition) AppendAs(producer int64, sequence int32, recs []Record) (int64, error) {
	return p.append(producer, sequence, -1, recs)
}

func (p *Partition) append(producer int64, sequence int32, epoch16 int16, recs []Record) (int64, error) {
	if len(recs) == 0 {
		return p.Next(), nil
	}
	now := time.Now().UnixMicro()
	for i := range recs {
		if recs[i].At == 0 {
			recs[i].At = now
		}
	}
	p.mu.Lock()
	if err := p.whole(); err != nil {
		p.mu.Unlock()
		return 0, err
	}
	base := p.next
	p.buf = encodeBatch(p.buf[:0], base, producer, epoch16, sequence, recs)
	epoch, err := p.put(p.buf)
	p.mu.Unlock()
	if err != nil {
		return 0, err
	}
	return base, p.syncTo(base+int64(len(recs)), epoch)
}

// put writes a batch that begins at the next offset, and gives the epoch in which it is to be synced. The caller holds the lock.
func (p *Partition) put(b []byte) (epoch int, err error) {
	base := p.next
	epoch = p.epoch
	s := p.active()
	if s.size > 0 && s.size+int64(len(b)) > p.limit {
		// What is on its way in the old segment is synced before the new one begins.
		if err := s.file.Sync(); err != nil {
			return 0, p.undo(err)
		}
		p.visible, p.synced = base, s.size
		if err := p.roll(base); err != nil {
			return 0, err
		}
		s = p.active()
	}
	if _, err := s.file.WriteAt(b, s.size); err != nil {
		// Nothing of it counts: the next append overwrites it, and recovery would cut it off.
		return 0, fmt.Errorf("the log cannot be written: %w", err)
	}
	h, _ := readHead(b)
	s.note(h)
	p.knows(h)
	p.next = s.next
	return epoch, nil
}

// undo takes back what was written behind the last sync, since after a failed sync nobody knows what the disk
// holds of it: all who wait for it get the error, and write it again. The caller holds the lock.
func (p *Partition) undo(err error) error {
	p.epoch++
	p.failed = fmt.Errorf("the log cannot be synced: %w", err)
	p.torn = true
	return p.failed
}

// whole cuts off what undo left. The caller holds the lock.
func (p *Partition) whole() error {
	if p.broken != nil {
		return p.broken
	}
	if !p.torn {
		return nil
	}
	s := p.active()
	if err := s.file.Truncate(p.synced); err != nil {
		return fmt.Errorf("the log cannot be cut to what is known to be there: %w", err)
	}
	for len(s.marks) > 0 && s.marks[len(s.marks)-1].at >= p.synced {
		s.marks = s.marks[:len(s.marks)-1]
	}
	s.size, s.next, p.next, p.torn = p.synced, p.visible, p.visible, false
	p.known.forget(p.visible)
	p.producers.forget(p.visible)
	return nil
}

// syncTo makes the records below an offset durable. Those who come while a sync runs share the next.
func (p *Partition) syncTo(offset int64, epoch int) error {
	p.syncMu.Lock()
	defer p.syncMu.Unlock()
	p.mu.Lock()
	switch {
	case p.broken != nil:
		defer p.mu.Unlock()
		return p.broken
	case p.epoch != epoch:
		defer p.mu.Unlock()
		return p.failed
	case p.visible >= offset:
		p.mu.Unlock()
		return nil
	}
	to, f, size := p.next, p.active().file, p.active().size
	made, named := p.made, p.named
	p.mu.Unlock()
	err := f.Sync()
	if err == nil && named < made {
		err = p.fs.SyncDir(p.dir)
	}
	p.mu.Lock()
	if err == nil {
		p.named = max(p.named, made)
	}
	switch {
	case p.epoch != epoch:
		defer p.mu.Unlock()
		return p.failed
	case err != nil:
		defer p.mu.Unlock()
		return p.undo(err)
	}
	if to > p.visible { // nothing else began a segment meanwhile
		p.visible, p.synced = to, size
	}
	var wake []func()
	for _, f := range p.readers {
		wake = append(wake, f)
	}
	p.mu.Unlock()
	for _, f := range wake {
		f()
	}
	return nil
}

// OnData registers a function to call when there is more to read, and gives one that takes it back.
func (p *Partition) OnData(f func()) (cancel func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.readerID++
	id := p.readerID
	p.readers[id] = f
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.readers, id)
	}
}

// First is the offset of the oldest record kept.
func (p *Partition) First() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.segments[0].base
}

// Next is the offset behind the newest record that can be read.
func (p *Partition) Next() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.visible
}

// Bytes is the size on the disk.
func (p *Partition) Bytes() (n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.segments {
		n += s.size
	}
	return n
}

// OffsetAt gives the offset of the first record that arrived at a time (microseconds) or later; the
// next offset where there is none.
func (p *Partition) OffsetAt(t int64) (int64, error) {
	ms := (t + 999) / 1000
	p.mu.Lock()
	var at *segment
	from := int64(0)
	for _, s := range p.segments {
		if s.latest >= ms {
			at = s
			for _, m := range s.marks {
				if m.latest < ms {
					from = m.offset
				}
			}
			break
		}
	}
	visible := p.visible
	p.mu.Unlock()
	if at == nil {
		return visible, nil
	}
	var buf []byte
	for from = max(from, at.base); from < visible; {
		b, next, err := p.Read(from, buf, 1<<20)
		if err != nil {
			return 0, err
		}
		found := int64(-1)
		if err := Views(b, from, func(v View) {
			if found < 0 && v.At >= ms*1000 {
				found = v.Offset
			}
		}); err != nil {
			return 0, err
		}
		if found >= 0 {
			return found, nil
		}
		from, buf = next, b
	}
	return visible, nil
}

// ErrGone says that an offset is not kept any more.
var ErrGone = errors.New("the records have been removed by retention")

// Read gives whole batches that hold the records from an offset on, in about max bytes and at least
// one batch, and the offset behind them. It gives nothing where there is nothing to read yet. buf is
// used for the result where it is large enough.
//
// Records that are damaged are left out: where those at the offset are, the batches begin behind them, at a later
// offset, and where there is nothing behind them only the offset given is a later one. What lies between is lost, and
// is listed by Damaged.
func (p *Partition) Read(offset int64, buf []byte, limit int) ([]byte, int64, error) {
	for {
		p.mu.Lock()
		if p.broken != nil {
			defer p.mu.Unlock()
			return nil, 0, p.broken
		}
		if offset >= p.visible {
			visible := p.visible
			p.mu.Unlock()
			if offset > visible {
				return nil, 0, fmt.Errorf("offset %d is behind the end, %d", offset, visible)
			}
			return buf[:0], offset, nil
		}
		if offset < p.segments[0].base {
			first := p.segments[0].base
			p.mu.Unlock()
			return nil, 0, fmt.Errorf("offset %d: %w; the oldest kept is %d", offset, ErrGone, first)
		}
		i, exact := slices.BinarySearchFunc(p.segments, offset, func(s *segment, o int64) int { return cmp.Compare(s.base, o) })
		if !exact {
			i--
		}
		s := p.segments[i]
		end := s.next // offsets of the segment end here, and what is behind it is in the next
		if i+1 < len(p.segments) {
			end = p.segments[i+1].base
		}
		if len(s.marks) == 0 || offset >= s.next { // a hole behind it
			p.mu.Unlock()
			offset = end
			continue
		}
		k, exact := slices.BinarySearchFunc(s.marks, offset, func(m mark, o int64) int { return cmp.Compare(m.offset, o) })
		if !exact {
			k--
		}
		at, size, visible := s.marks[max(k, 0)].at, s.size, p.visible
		s.using++
		p.mu.Unlock()
		b, next, err := p.readSegment(s, at, size, offset, visible, buf, limit)
		p.mu.Lock()
		if s.using--; s.gone && s.using == 0 {
			err = errors.Join(err, s.file.Close())
		}
		p.mu.Unlock()
		if err != nil || len(b) > 0 || next >= visible {
			return b, next, err
		}
		offset, buf = max(next, end), b // all of the segment behind the offset is lost
	}
}

// readSegment reads from a byte of a segment on, of which size bytes have been written. Batches at or behind visible are
// not stable yet.
func (p *Partition) readSegment(s *segment, at, size, offset, visible int64, buf []byte, limit int) ([]byte, int64, error) {
	want := int(min(int64(limit+indexEvery), size-at))
	for {
		if cap(buf) < want+64 {
			buf = make([]byte, want+want/4+64)
		}
		b := buf[:want]
		if _, err := s.file.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
			return nil, 0, err
		}
		from, end, next := -1, 0, int64(-1) // next: behind the batches looked at
		need := 0
		damaged := false
		for end < len(b) && max(next, offset) < visible {
			if len(b)-end < headSize && at+int64(len(b)) < size {
				need = headSize
				break
			}
			h, err := readHead(b[end:])
			if err != nil || at+int64(end+h.size) > size || next >= 0 && h.base != next {
				damaged = true
				break
			}
			if h.base >= visible {
				if from < 0 {
					return buf[:0], visible, nil // nothing is left of what lies before it
				}
				break
			}
			if end+h.size > len(b) {
				need = h.size
				break
			}
			if !intact(b[end : end+h.size]) { // those that are only passed, too: where they end is not known else
				damaged = true
				break
			}
			if h.last >= offset && from < 0 {
				from = end
			}
			end += h.size
			next = h.last + 1
			if from >= 0 && end-from >= limit {
				break
			}
		}
		switch {
		case from >= 0:
			return b[from:end], next, nil
		case damaged:
			found, h, err := findBatch(s.file, at+int64(end), size, max(next, s.base), s.next)
			if err != nil {
				return nil, 0, err
			}
			lost := Damage{From: max(next, s.base), To: s.next, File: s.path, Byte: at + int64(end), Reason: "the bytes are not those that were written (CRC)"}
			if found >= 0 {
				lost.To = h.base
			}
			p.mu.Lock()
			lost.To = min(lost.To, p.visible)
			if next < 0 { // the batch of a mark: where it began is known
				for _, m := range s.marks {
					if m.at <= at {
						lost.From = m.offset
					}
				}
			}
			p.noteDamage(lost)
			p.mu.Unlock()
			if found < 0 || h.base >= visible {
				return buf[:0], max(min(lost.To, visible), offset), nil
			}
			offset = max(offset, h.base)
			at = found
			want = int(min(int64(limit+indexEvery), size-at))
		case need == 0 && (at+int64(len(b)) >= size || max(next, offset) >= visible):
			return buf[:0], max(next, offset), nil
		case need == 0:
			want = len(b) + indexEvery
		default:
			want = end + need
		}
	}
}

// retain removes whole segments that are older than an instant (microseconds) or beyond a size.
func (p *Partition) retain(oldest int64, bytes int64) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.broken != nil {
		return nil
	}
	var total int64
	for _, s := range p.segments {
		total += s.size
	}
	// What is written to is not removed. So it is ended where all of it is old enough, or it has grown to a part of what may
	// be kept.
	if s := p.active(); !p.torn && s.size > 0 && p.visible == p.next && oldest > 0 && s.latest*1000 < oldest {
		if err := p.roll(p.next); err != nil {
			return err
		}
	}
	for len(p.segments) > 1 {
		s := p.segments[0]
		if !(oldest > 0 && s.latest*1000 < oldest) && !(bytes > 0 && total-s.size >= bytes) {
			return nil
		}
		if err := p.fs.Remove(s.path); err != nil {
			return err
		}
		if s.gone = true; s.using == 0 {
			if err := s.file.Close(); err != nil {
				return err
			}
		}
		total -= s.size
		p.segments = p.segments[1:]
	}
	return nil
}

func (p *Partition) close() error {
	p.writeEnd()
	p.mu.Lock()
	defer p.mu.Unlock()
	var errs []error
	for _, s := range p.segments {
		if s.file != nil && !s.gone {
			errs = append(errs, s.file.Close())
		}
	}
	p.broken = os.ErrClosed
	return errors.Join(errs...)
}
