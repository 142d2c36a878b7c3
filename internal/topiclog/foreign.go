package topiclog

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
)

// Batches that other programs have put together, in the brokers' open format, are kept as they came: with their keys, headers and times. What lies outside
// their checksum is ours: the first offset, and the leader's epoch, which marks them here. Those that are packed are unpacked first, since readers
// of the log look into records. The specification is that of record batches of version 2.

// foreignEpoch stands as the leader's epoch in batches of other programs.
const foreignEpoch = 1

// MostBatch is how many bytes a batch of another program may have, unpacked.
const MostBatch = 64 << 20

// Errors of AppendBatch. A batch that is no good is a *BadBatch.
var (
	// ErrSequence says that batches of the producer are missing before this one.
	ErrSequence = errors.New("the batch does not follow the producer's last one")
	// ErrFenced says that a later producer of the same name has written.
	ErrFenced = errors.New("a later epoch of the producer has written")
)

// BadBatch says what is wrong with a batch.
type BadBatch struct {
	Reason string
	Time   bool // a time is out of range
}

func (e *BadBatch) Error() string { return e.Reason }

func bad(format string, args ...any) *BadBatch {
	return &BadBatch{Reason: fmt.Sprintf(format, args...)}
}

// Times that records may have, in milliseconds: those that a TIMESTAMP holds, years 1 to 9999.
const firstTime, lastTime = -62_135_596_800_000, 253_402_300_799_999

const (
	attributesAt = 21
	deltaAt      = 23
	firstTimeAt  = 27
	latestAt     = 35
	producerAt   = 43
	sequenceAt   = 53
	recordsAt    = 57
	leaderAt     = 12
)

// received is a batch that has been looked at.
type received struct {
	b        []byte
	n        int32
	producer int64
	epoch    int16
	first    int32 // sequence of the first record
}

// receive checks a batch, which must be whole, and unpacks it. What it gives may lie in b.
func receive(b []byte, now time.Time) (r received, err error) {
	be := binary.BigEndian
	switch {
	case len(b) < headSize:
		return r, bad("a batch has %d bytes, less than its head", len(b))
	case b[16] != 2:
		return r, bad("the batch is of version %d of the format; 2 is taken", b[16])
	case int(int32(be.Uint32(b[lengthAt:])))+lengthAt+4 != len(b):
		return r, bad("the batch says that it has %d bytes, and has %d", int(int32(be.Uint32(b[lengthAt:])))+lengthAt+4, len(b))
	case !intact(b):
		return r, bad("the bytes of the batch are not those that were sent (CRC)")
	}
	attributes := be.Uint16(b[attributesAt:])
	if attributes&(1<<4|1<<5) != 0 {
		return r, bad("batches of transactions are not taken")
	}
	r = received{b: b, n: int32(be.Uint32(b[recordsAt:])), producer: int64(be.Uint64(b[producerAt:])), epoch: int16(be.Uint16(b[producerAt+8:])), first: int32(be.Uint32(b[sequenceAt:]))}
	if r.n < 1 || int32(be.Uint32(b[deltaAt:])) != r.n-1 {
		return r, bad("the batch says that it has %d records and %d offsets", r.n, int32(be.Uint32(b[deltaAt:]))+1)
	}
	if r.producer >= 0 && (r.epoch < 0 || r.first < 0) {
		return r, bad("the batch has a producer, and no number of its own")
	}
	changed := false
	if attributes&7 != 0 {
		var u Unpacking
		defer u.Close()
		body, err := u.Unpack(int(attributes&7), b[headSize:], MostBatch)
		if err != nil {
			return r, bad("what is packed in the batch cannot be read: %s", err)
		}
		r.b = append(bytes.Clone(b[:headSize]), body...)
		be.PutUint32(r.b[lengthAt:], uint32(len(r.b)-lengthAt-4))
		changed = true
	}
	if attributes != 0 { // times of arrival are ours to give
		be.PutUint16(r.b[attributesAt:], 0)
		changed = true
	}
	first := int64(be.Uint64(r.b[firstTimeAt:]))
	if first == -1 { // no times
		first = now.UnixMilli()
		be.PutUint64(r.b[firstTimeAt:], uint64(first))
		be.PutUint64(r.b[latestAt:], uint64(first))
		changed = true
	}
	latest, err := checkRecords(r.b[headSize:], int(r.n), first)
	if err != nil {
		return r, err
	}
	if latest != int64(be.Uint64(r.b[latestAt:])) {
		be.PutUint64(r.b[latestAt:], uint64(latest))
		changed = true
	}
	if changed {
		be.PutUint32(r.b[crcAt:], crc32.Checksum(r.b[coveredFrom:], castagnoli()))
	}
	return r, nil
}

// checkRecords walks over records, so that none that is broken comes into the log, and gives the latest time.
func checkRecords(b []byte, n int, first int64) (latest int64, err error) {
	broken := func(i int) error { return bad("record %d of the batch is broken", i) }
	latest = -1 << 63
	for i := range n {
		size, k := varint(b)
		if k <= 0 || size < 1 || size > int64(len(b)-k) {
			return 0, broken(i)
		}
		r := b[k : k+int(size)]
		b = b[k+int(size):]
		r = r[1:] // attributes
		next := func() (x int64, ok bool) {
			x, k := varint(r)
			if k <= 0 {
				return 0, false
			}
			r = r[k:]
			return x, true
		}
		skip := func(least int64) bool {
			n, ok := next()
			if !ok || n < least || n > int64(len(r)) {
				return false
			}
			r = r[max(n, 0):]
			return true
		}
		dt, ok := next()
		delta, ok2 := next()
		if !ok || !ok2 || delta != int64(i) {
			return 0, broken(i)
		}
		at := first + dt
		if at < firstTime || at > lastTime || dt > lastTime-firstTime || dt < firstTime-lastTime {
			return 0, &BadBatch{Reason: fmt.Sprintf("record %d of the batch has the time %d, which is none of the years 1 to 9999", i, at), Time: true}
		}
		latest = max(latest, at)
		for range 2 { // the key and the value
			if !skip(-1) {
				return 0, broken(i)
			}
		}
		headers, ok := next()
		if !ok || headers < 0 || headers > int64(len(r)) {
			return 0, broken(i)
		}
		for range headers {
			if !skip(0) || !skip(-1) {
				return 0, broken(i)
			}
		}
		if len(r) > 0 {
			return 0, broken(i)
		}
	}
	if len(b) > 0 {
		return 0, bad("the batch has %d bytes behind its last record", len(b))
	}
	return latest, nil
}

// Unpacking keeps what unpacking records needs, for one goroutine at a time. What Unpack gives lies in it until the next call.
type Unpacking struct {
	out  bytes.Buffer
	flat []byte
	gzip *gzip.Reader
	lz4  *lz4.Reader
	zstd *zstd.Decoder
}

// Unpack unpacks the records of a batch, at most so many bytes: 1 gzip, 2 snappy, 3 lz4, 4 zstd.
func (u *Unpacking) Unpack(codec int, b []byte, most int) (out []byte, err error) {
	many := fmt.Errorf("there are more than %d MB in it", most>>20)
	read := func(in io.Reader) ([]byte, error) {
		u.out.Reset()
		if n, err := u.out.ReadFrom(io.LimitReader(in, int64(most)+1)); err != nil || n > int64(most) {
			return nil, cmp.Or(err, many)
		}
		return u.out.Bytes(), nil
	}
	switch codec {
	case 1:
		if u.gzip == nil {
			u.gzip = new(gzip.Reader)
		}
		if err := u.gzip.Reset(bytes.NewReader(b)); err != nil {
			return nil, err
		}
		return read(u.gzip)
	case 2:
		u.flat, err = unsnappy(u.flat, b, most, many)
		return u.flat, err
	case 3:
		if u.lz4 == nil {
			u.lz4 = lz4.NewReader(nil)
		}
		u.lz4.Reset(bytes.NewReader(b))
		return read(u.lz4)
	case 4:
		if u.zstd == nil {
			if u.zstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(uint64(most))); err != nil {
				return nil, err
			}
		}
		if out, err = u.zstd.DecodeAll(b, u.flat[:0]); errors.Is(err, zstd.ErrDecoderSizeExceeded) || errors.Is(err, zstd.ErrWindowSizeExceeded) {
			err = many
		}
		if err == nil {
			u.flat = out
		}
		return out, err
	}
	return nil, fmt.Errorf("no way of packing has the number %d", codec)
}

// Close gives up what is kept.
func (u *Unpacking) Close() {
	if u.zstd != nil {
		u.zstd.Close()
	}
	*u = Unpacking{}
}

// unsnappy unpacks a block of snappy, or those of the framing that some clients put round them: a head of 16 bytes, then blocks with their lengths.
func unsnappy(dst, b []byte, most int, many error) ([]byte, error) {
	block := func(dst, b []byte) ([]byte, error) {
		n, err := s2.DecodedLen(b)
		if err != nil {
			return nil, err
		}
		if n > most-len(dst) {
			return nil, many
		}
		dst = slices.Grow(dst, n)
		got, err := s2.Decode(dst[len(dst):len(dst)+n], b)
		return dst[:len(dst)+len(got)], err
	}
	dst = dst[:0]
	if !bytes.HasPrefix(b, []byte("\x82SNAPPY\x00")) || len(b) < 16 {
		return block(dst, b)
	}
	for b = b[16:]; len(b) > 0; {
		if len(b) < 4 || int64(binary.BigEndian.Uint32(b)) > int64(len(b)-4) {
			return nil, errTorn
		}
		n := binary.BigEndian.Uint32(b)
		var err error
		if dst, err = block(dst, b[4:4+n]); err != nil {
			return nil, err
		}
		b = b[4+n:]
	}
	return dst, nil
}

// AppendBatch appends a batch of another program, and gives the offset of its first record and what waits until it is on the disk. Where the producer has sent the
// batch before, it is there once: the offset is that of then. b may be changed.
func (p *Partition) AppendBatch(b []byte) (base int64, wait func() error, err error) {
	r, err := receive(b, time.Now())
	if err != nil {
		return 0, nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := p.whole(); err != nil {
		return 0, nil, err
	}
	if r.producer >= 0 {
		base, there, err := p.producers.place(r)
		if err != nil {
			return 0, nil, err
		}
		if there {
			epoch := p.epoch
			return base, func() error { return p.syncTo(base+int64(r.n), epoch) }, nil
		}
	}
	base = p.next
	binary.BigEndian.PutUint64(r.b, uint64(base))
	binary.BigEndian.PutUint32(r.b[leaderAt:], foreignEpoch)
	epoch, err := p.put(r.b)
	if err != nil {
		return 0, nil, err
	}
	return base, func() error { return p.syncTo(base+int64(r.n), epoch) }, nil
}

// Foreign makes batches that were read what other programs expect: it changes the leader's epoch of those in b, which lies outside their checksum, to ours.
func Foreign(b []byte) {
	for len(b) >= headSize {
		h, err := readHead(b)
		if err != nil || h.size > len(b) {
			return
		}
		binary.BigEndian.PutUint32(b[leaderAt:], 0)
		b = b[h.size:]
	}
}

// producers are the newest batches of producers in a partition, by which one that comes again is known.
type producers struct {
	by map[int64]*producer
}

type producer struct {
	epoch int16
	last  []sent // at most mostSent, oldest first
}

// sent is a batch that is there.
type sent struct {
	first, last int32 // sequences of its records
	base        int64
}

const (
	// mostSent is how many batches a producer may have on its way.
	mostSent = 5
	// mostProducers are remembered in a partition; of more, those that have written longest ago are forgotten.
	mostProducers = 10_000
)

// place says where a batch belongs: there says that it is in the log already, at base.
func (s *producers) place(r received) (base int64, there bool, err error) {
	x := s.by[r.producer]
	switch {
	case x == nil || r.epoch > x.epoch:
		if r.first != 0 && x != nil {
			return 0, false, ErrSequence
		}
		return 0, false, nil // of one that has been forgotten any sequence is taken
	case r.epoch < x.epoch:
		return 0, false, ErrFenced
	}
	last := (r.first + r.n - 1) & (1<<31 - 1) // beyond the greatest it goes on at 0, as the numbers of the protocol do
	for _, b := range x.last {
		if b.first == r.first && b.last == last {
			return b.base, true, nil
		}
	}
	if len(x.last) > 0 && (x.last[len(x.last)-1].last+1)&(1<<31-1) != r.first {
		return 0, false, ErrSequence
	}
	return 0, false, nil
}

// add notes a batch that was appended, or found in the log.
func (s *producers) add(h head) {
	if s.by == nil {
		s.by = map[int64]*producer{}
	}
	x := s.by[h.producer]
	if x == nil {
		if len(s.by) >= mostProducers {
			s.thin()
		}
		x = &producer{}
		s.by[h.producer] = x
	}
	if h.epoch != x.epoch {
		x.epoch, x.last = h.epoch, nil
	}
	if len(x.last) == mostSent {
		x.last = slices.Delete(x.last, 0, 1)
	}
	x.last = append(x.last, sent{h.sequence, (h.sequence + int32(h.records) - 1) & (1<<31 - 1), h.base})
}

// thin forgets the half that has written longest ago.
func (s *producers) thin() {
	type at struct{ id, base int64 }
	var list []at
	for id, x := range s.by {
		list = append(list, at{id, x.last[len(x.last)-1].base})
	}
	slices.SortFunc(list, func(a, b at) int { return cmp.Compare(a.base, b.base) })
	for _, x := range list[:len(list)/2] {
		delete(s.by, x.id)
	}
}

// forget takes batches back that begin at an offset or behind it: they have been cut off.
func (s *producers) forget(from int64) {
	for id, x := range s.by {
		x.last = slices.DeleteFunc(x.last, func(b sent) bool { return b.base >= from })
		if len(x.last) == 0 {
			delete(s.by, id)
		}
	}
}
