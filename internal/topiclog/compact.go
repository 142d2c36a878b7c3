package topiclog

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"time"

	"fiume/internal/disk"

	"github.com/zeebo/xxh3"
)

// A topic that is compacted keeps the newest message of each key, and those without a key. Offsets stay what they are: a batch from which messages were removed still
// covers theirs, and what is left of a batch without any is covered by the next. Segments are written anew one by one, oldest first, and put in place of
// the old ones whole; readers that are at work on an old one read it to its end.
//
// What a job's sink wrote stays for a day although it has been replaced: after a crash the sink looks for its rows there (connect/topics). An empty message, which
// deletes its key, stays as long, so that whoever reads on hears of it.

const (
	// dirtyBytes must have been written since the last time, and half of what is kept, before a partition is compacted.
	dirtyBytes = 1 << 20
	// keepReplaced is how long what sinks wrote, and empty messages, are kept.
	keepReplaced = 24 * time.Hour
	// mostKeys are looked at a time. Where there are more, what comes behind them is compacted the next times.
	mostKeys = 2 << 20
)

// Compact keeps the newest message of each key of a partition, where enough has been written since the last time; always does so anyway. It gives how many
// messages were removed.
func (p *Partition) Compact(now time.Time, always bool) (removed int64, err error) {
	p.rewriting.Lock()
	defer p.rewriting.Unlock()
	closed, dirty, err := p.toCompact(always)
	if err != nil || !dirty {
		return 0, err
	}
	newest, err := p.newestOf()
	if err != nil {
		return 0, err
	}
	c := &compaction{newest: newest, held: map[xxh3.Uint128]bool{}, day: now.Add(-keepReplaced).UnixMicro()}
	for _, s := range closed {
		n, err := p.compactSegment(s, c)
		removed += n
		if err != nil {
			return removed, fmt.Errorf("%s cannot be compacted: %w", s.path, err)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.compacted = 0
	for _, s := range p.segments {
		p.compacted += s.size
	}
	return removed, nil
}

// ErrDamaged says that a partition has damage, and is left as it is.
var ErrDamaged = errors.New("the partition is damaged, and left as it is")

// Forget removes the messages that match, of those that are there now, and gives how many there were. What is given to match is a message in a buffer that it must not
// keep. Where a segment would have no message left at its end, the last one stays as an empty one. until says when to give up.
func (p *Partition) Forget(until func() error, match func(v View, b []byte) bool) (removed int64, err error) {
	p.rewriting.Lock()
	defer p.rewriting.Unlock()
	var closed []*segment
	for end := p.Next(); ; time.Sleep(2 * time.Millisecond) { // what is being written has to be on the disk before its segment ends
		if err := until(); err != nil {
			return 0, err
		}
		var ok bool
		if closed, ok, err = p.toCompact(true); err != nil {
			return 0, err
		}
		if !ok {
			return 0, ErrDamaged
		}
		p.mu.Lock()
		all := p.active().base >= end
		p.mu.Unlock()
		if all {
			break
		}
	}
	c := &compaction{match: match}
	for _, s := range closed {
		if err := until(); err != nil {
			return removed, err
		}
		n, err := p.compactSegment(s, c)
		removed += n
		if err != nil {
			return removed, fmt.Errorf("%s cannot be written anew: %w", s.path, err)
		}
	}
	return removed, nil
}

// compaction is one at work, from the oldest segment to the newest.
type compaction struct {
	match  func(v View, b []byte) bool // messages that are to be forgotten; nil: those that have been replaced
	newest map[xxh3.Uint128]int64      // offset of the newest message of each key that was looked at
	held   map[xxh3.Uint128]bool       // keys of which a message was kept that has been replaced
	day    int64                       // what is older need not be kept for sinks and late readers
}

// gone says whether a message goes.
func (c *compaction) gone(v View, key []byte, h head, last bool) bool {
	if !v.HasKey {
		return false
	}
	k := xxh3.Hash128(key)
	at, known := c.newest[k]
	ours := !h.foreign && h.producer != NoProducer
	replaced := known && at > v.Offset
	deletes := known && at == v.Offset && v.From == v.To && v.At < c.day && !c.held[k] // nothing is left for it to delete
	if (replaced && (!ours || v.At < c.day) || deletes) && !last {
		return true
	}
	if replaced {
		c.held[k] = true
	}
	return false
}

// toCompact ends the segment that is written to, where that pays, and gives those before it.
func (p *Partition) toCompact(always bool) (closed []*segment, dirty bool, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.broken != nil || len(p.damage) > 0 {
		return nil, false, nil // what is lost is to stay where it is said to be
	}
	var total int64
	for _, s := range p.segments {
		total += s.size
	}
	if grown := total - p.compacted; !always && (grown < dirtyBytes || grown < p.compacted/2) {
		return nil, false, nil
	}
	if s := p.active(); !p.torn && s.size > 0 && p.visible == p.next {
		if err := p.roll(p.next); err != nil {
			return nil, false, err
		}
	}
	return append(closed, p.segments[:len(p.segments)-1]...), true, nil
}

// newestOf gives the offset of the newest message of each key.
func (p *Partition) newestOf() (map[xxh3.Uint128]int64, error) {
	newest := map[xxh3.Uint128]int64{}
	var buf []byte
	for at, end := p.First(), p.Next(); at < end && len(newest) < mostKeys; {
		b, next, err := p.Read(at, buf, 1<<20)
		if err != nil {
			return nil, err
		}
		if err := Views(b, at, func(v View) {
			if v.HasKey {
				newest[xxh3.Hash128(b[v.KeyFrom:v.KeyTo])] = v.Offset
			}
		}); err != nil {
			return nil, err
		}
		if next == at {
			break
		}
		at, buf = next, b
	}
	return newest, nil
}

// compactSegment writes a segment anew.
func (p *Partition) compactSegment(s *segment, c *compaction) (removed int64, err error) {
	p.mu.Lock()
	size := s.size
	s.using++ // it is not closed meanwhile
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if s.using--; s.gone && s.using == 0 {
			err = errors.Join(err, s.file.Close())
		}
	}()
	old := make([]byte, size)
	if _, err := s.file.ReadAt(old, 0); err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	fresh := &segment{base: s.base, next: s.base, path: s.path}
	var out []byte
	base := s.base // of what is not covered yet
	for at := 0; at < len(old); {
		h, err := readHead(old[at:])
		if err != nil || at+h.size > len(old) || !intact(old[at:at+h.size]) {
			return 0, errTorn
		}
		b := old[at : at+h.size]
		at += h.size
		kept, n, err := c.keep(b, h, base, at == len(old))
		if err != nil {
			return 0, err
		}
		removed += int64(n)
		if kept == nil {
			continue
		}
		k, err := readHead(kept)
		if err != nil {
			return 0, err
		}
		fresh.note(k)
		out = append(out, kept...)
		base = h.last + 1
	}
	if removed == 0 {
		return 0, nil
	}
	tmp := s.path + ".compact"
	if err := disk.Write(p.fs, tmp, out); err != nil {
		return 0, err
	}
	if err := errors.Join(p.fs.Rename(tmp, s.path), p.fs.SyncDir(p.dir)); err != nil {
		return 0, err
	}
	if fresh.file, err = p.fs.Open(s.path); err != nil {
		return 0, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, x := range p.segments {
		if x == s {
			fresh.latest = max(fresh.latest, s.latest)
			p.segments[i] = fresh
			s.gone = true
			return removed, nil
		}
	}
	return 0, errors.Join(fresh.file.Close(), p.fs.Remove(s.path)) // retention has removed it
}

// keep gives a batch without the messages that have been replaced; it begins at base, which may lie before it, and nil where none is left. The last batch of a
// segment keeps its last message, so that the segment ends where it did.
func (c *compaction) keep(b []byte, h head, base int64, last bool) (out []byte, removed int, err error) {
	var kept []int // where records begin and end, in turns
	n := 0
	from := headSize
	err = records(b, func(v View, begin, end int) {
		gone := false
		if c.match != nil {
			gone = c.match(v, b)
		} else {
			gone = c.gone(v, b[v.KeyFrom:v.KeyTo], h, last && v.Offset == h.last)
		}
		if gone {
			removed++
			return
		}
		n++
		kept = append(kept, begin, end)
	})
	if err != nil {
		return nil, 0, err
	}
	if removed == 0 && base == h.base {
		return b, 0, nil
	}
	be := binary.BigEndian
	if n == 0 && !last {
		return nil, removed, nil
	}
	if n == 0 { // an empty one without a key, as old as the batch
		rec := []byte{0}
		rec = binary.AppendVarint(rec, 0)
		rec = binary.AppendVarint(rec, h.last-h.base)
		rec = append(rec, 1, 0, 0) // no key (-1), an empty value, no headers
		b = append(bytes.Clone(b[:from]), binary.AppendVarint(nil, int64(len(rec)))...)
		b = append(b, rec...)
		n, kept = 1, []int{from, len(b)}
	}
	out = bytes.Clone(b[:from])
	shift := h.base - base
	for i := 0; i < len(kept); i += 2 {
		out = appendShifted(out, b[kept[i]:kept[i+1]], shift)
	}
	be.PutUint64(out, uint64(base))
	be.PutUint32(out[lengthAt:], uint32(len(out)-lengthAt-4))
	be.PutUint32(out[deltaAt:], uint32(h.last-base))
	be.PutUint32(out[recordsAt:], uint32(n))
	be.PutUint32(out[crcAt:], crc32.Checksum(out[coveredFrom:], castagnoli()))
	return out, removed, nil
}

// records lists the records of a batch, with where they begin and end in it.
func records(b []byte, each func(v View, begin, end int)) error {
	begin := headSize
	return Views(b, -1<<62, func(v View) {
		end := v.HeadTo
		each(v, begin, end)
		begin = end
	})
}

// appendShifted writes a record whose offset is so much further from the base.
func appendShifted(dst, rec []byte, shift int64) []byte {
	if shift == 0 {
		return append(dst, rec...)
	}
	_, k := varint(rec)
	body := rec[k:]
	_, time := varint(body[1:])
	delta, size := varint(body[1+time:])
	fresh := append([]byte{}, body[:1+time]...)
	fresh = binary.AppendVarint(fresh, delta+shift)
	fresh = append(fresh, body[1+time+size:]...)
	return append(binary.AppendVarint(dst, int64(len(fresh))), fresh...)
}
