package topiclog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fiume/internal/disk"
)

// Damage is a stretch of offsets whose messages are lost: the bytes on the disk are not those that were written, or are
// gone. What lies behind it is kept, and its offsets are not given again.
type Damage struct {
	From   int64     `json:"from"` // the first offset that is lost
	To     int64     `json:"to"`   // the offset behind the last one
	File   string    `json:"file"`
	Byte   int64     `json:"byte"` // where in the file it was found
	Reason string    `json:"reason"`
	Found  time.Time `json:"found"`
}

// Lost is the number of messages.
func (d Damage) Lost() int64 { return d.To - d.From }

// leastRecord is the fewest bytes that a record takes: its length, attributes, time, offset, key, value and headers.
const leastRecord = 7

// noteDamage keeps a damage and says it, once. The caller holds the lock.
func (p *Partition) noteDamage(d Damage) {
	if d.From >= d.To || slices.ContainsFunc(p.damage, func(x Damage) bool { return x.From <= d.From && d.To <= x.To }) {
		return
	}
	d.Found = time.Now().UTC()
	p.damage = append(p.damage, d)
	p.tell("messages of a topic are lost", "from", d.From, "to", d.To-1, "messages", d.Lost(), "file", d.File, "byte", d.Byte, "reason", d.Reason)
}

// Err says why the partition cannot be used, or gives nil.
func (p *Partition) Err() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.broken
}

// Damaged lists what has been found lost since the log was opened.
func (p *Partition) Damaged() []Damage {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.damage)
}

// findBatch looks for the next whole batch in a file between two bytes, whose first offset is not before least. Since
// offsets are not covered by the CRC, the bytes between must have room for the records that are left out, or the next
// batch, or where the partition ended, must confirm the offset. It gives -1 where there is none.
func findBatch(f disk.File, from, size, least, end int64) (at int64, h head, err error) {
	const window = 1 << 20
	begin := from
	buf := make([]byte, window+headSize)
	for from < size {
		n, err := f.ReadAt(buf[:min(int64(len(buf)), size-from)], from)
		if err != nil && !errors.Is(err, io.EOF) {
			return -1, h, err
		}
		for i := 0; i+headSize <= n && i < window; i++ {
			if buf[i+16] != 2 {
				continue
			}
			h, err := readHead(buf[i:n])
			if err != nil || h.base < least || from+int64(i)+int64(h.size) > size || int64(h.records) > int64(h.size)/leastRecord {
				continue
			}
			b := make([]byte, h.size)
			if _, err := f.ReadAt(b, from+int64(i)); err != nil {
				return -1, h, err
			}
			if !intact(b) {
				continue
			}
			at := from + int64(i)
			if h.base-least <= (at-begin)/leastRecord || h.last+1 == end {
				return at, h, nil
			}
			var next [headSize]byte
			if _, err := f.ReadAt(next[:], at+int64(h.size)); err == nil {
				if x, err := readHead(next[:]); err == nil && x.base == h.last+1 {
					return at, h, nil
				}
			}
		}
		from += window
	}
	return -1, h, nil
}

// endFile keeps, next to the segments, how far a partition reached for certain: a segment that ends before has been cut.
// It is written when the log is closed, and now and then.
const endFile = "end"

// reached is what endFile says: the offset behind the last record, and the segment that it was in, with its bytes.
type reached struct{ next, base, size int64 }

// writeEnd keeps how far the partition reaches. Where that fails it is tried another time.
func (p *Partition) writeEnd() {
	p.mu.Lock()
	same := p.broken != nil || p.visible <= p.kept.next
	if !same {
		p.kept = reached{p.visible, p.active().base, p.synced}
	}
	end := p.kept
	p.mu.Unlock()
	if same {
		return
	}
	text := fmt.Sprintf("%d %d %d", end.next, end.base, end.size)
	name := filepath.Join(p.dir, endFile)
	if err := disk.Write(p.fs, name+".new", fmt.Appendf(nil, "%s %08x\n", text, crc32.Checksum([]byte(text), castagnoli()))); err == nil {
		if p.fs.Rename(name+".new", name) == nil {
			_ = p.fs.SyncDir(p.dir)
		}
	}
}

// readEnd gives what writeEnd has kept.
func (p *Partition) readEnd() (end reached) {
	b, err := disk.Read(p.fs, filepath.Join(p.dir, endFile))
	text := strings.TrimSpace(string(b))
	i := strings.LastIndexByte(text, ' ')
	if err != nil || i < 0 || fmt.Sprintf("%08x", crc32.Checksum([]byte(text[:i]), castagnoli())) != text[i+1:] {
		return reached{}
	}
	_, _ = fmt.Sscan(text[:i], &end.next, &end.base, &end.size) // it was written so
	return end
}

// tornRecords says how many offsets the bytes that a file ends with may have been given to, where they are no whole
// batch: 0 where they are zeros, which a file system leaves where a write did not come to its end.
func tornRecords(b []byte, size int64) int64 {
	if !slices.ContainsFunc(b, func(c byte) bool { return c != 0 }) {
		return 0
	}
	if len(b) >= headSize {
		length := int64(int32(binary.BigEndian.Uint32(b[lengthAt:]))) + lengthAt + 4
		delta, n := int64(int32(binary.BigEndian.Uint32(b[23:]))), int64(int32(binary.BigEndian.Uint32(b[57:])))
		if n > 0 && n == delta+1 && n < 1<<24 && length >= size { // two fields agree, and nothing can stand behind it
			return n
		}
	}
	return size/leastRecord + 1
}

// torn says why the offsets of the last bytes of a file are not given again.
func torn(bytes int64) string {
	return fmt.Sprintf("the last %d bytes are no whole batch: a write that did not come to its end, of which nobody was told that it is there, or damage", bytes)
}

// load reads the heads of a segment's batches. In the last segment every batch is checked; those of the others are when
// they are read. What is damaged is left out, and the whole batches behind it are kept. What the last segment ends with
// and is no whole batch a crash has left, or it is damaged. Nobody knows which, so that the
// offsets it may have had are not given again; skip is the next one to give then, or 0. end is where the segment ended
// for certain, or 0.
func (p *Partition) load(s *segment, end int64, last bool) (skip int64, err error) {
	size, err := s.file.Size()
	if err != nil {
		return 0, err
	}
	buf := make([]byte, headSize)
	tail, before := int64(0), s.next // where the last batch begins, in bytes and offsets
	for s.size < size {
		n, err := s.file.ReadAt(buf[:headSize], s.size)
		if err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		}
		h, err := readHead(buf[:n])
		whole := err == nil && s.size+int64(h.size) <= size && h.base == s.next
		if whole && last {
			b := make([]byte, h.size)
			if _, err := s.file.ReadAt(b, s.size); err != nil {
				return 0, err
			}
			whole = intact(b)
		}
		if !whole {
			if s.size > tail && !last { // only heads have been looked at: the one before may say where it does not end
				b := make([]byte, s.size-tail)
				if _, err := s.file.ReadAt(b, tail); err != nil {
					return 0, err
				}
				if !intact(b) {
					s.drop(tail, before)
				}
			}
			var at int64
			if at, h, err = findBatch(s.file, s.size, size, s.next, end); err != nil {
				return 0, err
			}
			if at < 0 {
				break
			}
			p.noteDamage(Damage{From: s.next, To: h.base, File: s.path, Byte: s.size, Reason: "the bytes are not those that were written (CRC)"})
			s.size = at
		}
		tail, before = s.size, s.next
		s.note(h)
		p.knows(h)
	}
	if !last {
		if s.next > end { // the last head is wrong about its records
			s.drop(tail, before)
		}
		return 0, nil
	}
	if s.size < size {
		rest := make([]byte, min(size-s.size, 64<<10))
		if _, err := s.file.ReadAt(rest, s.size); err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		}
		if n := tornRecords(rest, size-s.size); n > 0 {
			skip = s.next + n
			if p.kept.base == s.base && p.kept.next > s.next { // the records are known up to there
				skip = p.kept.next
				if more := size - max(p.kept.size, s.size); more > 0 {
					skip = min(s.next+n, p.kept.next+more/leastRecord+1)
				}
			}
			p.noteDamage(Damage{From: s.next, To: skip, File: s.path, Byte: s.size, Reason: torn(size - s.size)})
			// The bytes stay: they tell again what was here, until the next segment is there for good.
		} else if err := s.file.Truncate(s.size); err != nil {
			return 0, err
		}
	}
	from := max(min(tail, s.size-securedBytes), 0)
	s.found = from
	if from < s.size {
		return skip, disk.SyncAgain(s.file, from, s.size)
	}
	return skip, nil
}

// drop takes the last batch back, which begins at a byte and an offset.
func (s *segment) drop(at, offset int64) {
	s.size, s.next = at, offset
	if n := len(s.marks); n > 0 && s.marks[n-1].at == at {
		s.marks = s.marks[:n-1]
	}
}

// holes notes the offsets that lie between two segments: a file of them is gone, or one is damaged at its end.
func (p *Partition) holes() {
	for i, s := range p.segments[1:] {
		before := p.segments[i]
		if before.next >= s.base {
			continue
		}
		reason := "a file of the partition is gone, or ends before its time"
		if size, err := before.file.Size(); err == nil && size > before.size {
			reason = torn(size - before.size)
		}
		p.noteDamage(Damage{From: before.next, To: s.base, File: before.path, Byte: before.size, Reason: reason})
	}
}
