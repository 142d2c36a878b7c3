package state

import (
	"bytes"
	"errors"
	"math"
	"slices"

	"github.com/cespare/xxhash/v2"
)

var errShort = errors.New("state is cut short")

// Hash is the hash of a key.
func Hash(key []byte) uint64 { return xxhash.Sum64(key) }

func mathBits(x float64) uint64  { return math.Float64bits(x) }
func mathFloat(u uint64) float64 { return math.Float64frombits(u) }

// Chains keeps rows by key and event time. The rows lie in segments, one for each stretch of event time,
// so that what has expired goes a segment at a time. One directory leads from a key to the chain of its
// rows, whose segments never ascend: where a chain reaches a segment that is gone, all behind it is gone,
// too. So nothing is visited to forget rows, and a probe visits no stretch of time in which its key has
// none.
type Chains struct {
	width int64 // of a segment, microseconds; 0: one segment for all

	slots []*segment
	free  []uint32
	byAge map[int64]uint32 // slot by number of the stretch
	least int64            // the lowest number there may be

	dir  []entry
	used int // entries of the directory that are not empty, the dead ones too
	rows int // live

	bytes  int      // of the segments
	spare  *segment // that went last, whose memory the next one takes
	newest *segment // that was made last
}

// Ref names a row: the slot of its segment (28 bits), how often the slot was used (8 bits, which may come round:
// a slot is used again once or twice while a row is held), and the place in the segment (28 bits). 0 names none.
type Ref uint64

const (
	refSlot  = 36
	refAge   = 28
	refIndex = 1<<refAge - 1
)

// entry leads from a key to its newest row.
type entry struct {
	hash uint64
	head Ref
}

// Row is what is known of a kept row beside its key and its columns.
type Row struct {
	next    Ref
	Time    int64 // event time, microseconds
	Pos     int64 // place in its split
	off     uint32
	key     uint32 // length
	size    uint32 // of key and columns
	From    int32  // its split; -1 for a made row
	Matches int32  // for the user; below 0: the row was removed
}

type segment struct {
	number int64
	age    uint8
	heads  []Row
	data   []byte
	live   int
	gone   bool
}

// NewChains makes an empty store whose segments have a width in microseconds; 0 makes one segment of all.
func NewChains(width int64) *Chains {
	return &Chains{width: width, byAge: map[int64]uint32{}, least: math.MaxInt64, slots: []*segment{nil}}
}

// Len is the number of rows.
func (c *Chains) Len() int { return c.rows }

// Bytes is the memory held.
func (c *Chains) Bytes() int {
	return cap(c.dir)*16 + c.bytes
}

func (s *segment) bytes() int { return cap(s.heads)*rowBytes + cap(s.data) }

const rowBytes = 48

func (c *Chains) segment(r Ref) *segment {
	s := c.slots[r>>refSlot]
	if s.gone || uint64(s.age) != uint64(r>>refAge)&0xff {
		return nil
	}
	return s
}

// Get gives a row, or nil where it has gone. It belongs to the store.
func (c *Chains) Get(r Ref) *Row {
	if r == 0 {
		return nil
	}
	s := c.segment(r)
	if s == nil {
		return nil
	}
	return &s.heads[r&refIndex]
}

// Key gives the key of a row.
func (c *Chains) Key(r Ref) []byte {
	s := c.slots[r>>refSlot]
	h := &s.heads[r&refIndex]
	return s.data[h.off : h.off+h.key]
}

// Columns gives the columns of a row. They stay as they are when rows are added.
func (c *Chains) Columns(r Ref) []byte {
	s := c.slots[r>>refSlot]
	h := &s.heads[r&refIndex]
	return s.data[h.off+h.key : h.off+h.size]
}

// Next gives the row behind another one in its chain, or 0.
func (c *Chains) Next(r *Row) Ref {
	if r.next == 0 || c.segment(r.next) == nil {
		return 0
	}
	return r.next
}

// Find gives the first row of a key's chain, or 0. Removed rows are in the chain.
func (c *Chains) Find(hash uint64, key []byte) Ref {
	if len(c.dir) == 0 {
		return 0
	}
	mask := uint64(len(c.dir) - 1)
	for i := mix(hash, 0) >> 20 & mask; ; i = (i + 1) & mask {
		e := &c.dir[i]
		if e.head == 0 {
			return 0
		}
		if e.hash == hash && c.segment(e.head) != nil && string(c.Key(e.head)) == string(key) {
			return e.head
		}
	}
}

// Number gives the number of the stretch that an event time belongs to.
func (c *Chains) Number(t int64) int64 {
	if c.width == 0 {
		return 0
	}
	q := t / c.width
	if t%c.width < 0 {
		q--
	}
	return q
}

// Add keeps a row. Its columns and its key are copied.
func (c *Chains) Add(hash uint64, key []byte, t, pos int64, from int32, columns []byte) Ref {
	if c.used*2 >= len(c.dir) {
		c.rehash()
	}
	number := c.Number(t)
	slot, ok := c.byAge[number]
	if !ok {
		slot = c.newSegment(number)
	}
	s := c.slots[slot]
	r := Ref(uint64(slot)<<refSlot | uint64(s.age)<<refAge | uint64(len(s.heads)))
	was := s.bytes()
	off := uint32(len(s.data))
	s.data = append(append(s.data, key...), columns...)
	s.heads = append(s.heads, Row{Time: t, Pos: pos, From: from, off: off, key: uint32(len(key)), size: uint32(len(key) + len(columns))})
	c.bytes += s.bytes() - was
	s.live++
	c.rows++
	c.link(hash, key, r, s)
	return r
}

// link puts a row into its key's chain: before the rows of its own segment and of earlier ones.
func (c *Chains) link(hash uint64, key []byte, r Ref, s *segment) {
	mask := uint64(len(c.dir) - 1)
	var dead *entry
	i := mix(hash, 0) >> 20 & mask
	for ; ; i = (i + 1) & mask {
		e := &c.dir[i]
		if e.head == 0 {
			break
		}
		at := c.segment(e.head)
		if at == nil {
			if dead == nil {
				dead = e
			}
			continue
		}
		if e.hash != hash || string(c.Key(e.head)) != string(key) {
			continue
		}
		h := &s.heads[r&refIndex]
		if at.number <= s.number {
			h.next, e.head = e.head, r
			return
		}
		before := &at.heads[e.head&refIndex]
		for {
			next := c.Next(before)
			if next == 0 || c.slots[next>>refSlot].number <= s.number {
				h.next, before.next = next, r
				return
			}
			before = c.Get(next)
		}
	}
	if dead == nil {
		dead = &c.dir[i]
		c.used++
	}
	*dead = entry{hash, r}
}

func (c *Chains) newSegment(number int64) uint32 {
	s := &segment{number: number}
	if c.spare != nil {
		s.heads, s.data, c.spare = c.spare.heads[:0], c.spare.data[:0], nil
	} else if p := c.newest; p != nil && !p.gone && len(p.heads) < 1<<20 { // stretches are much alike
		s.heads, s.data = make([]Row, 0, len(p.heads)), make([]byte, 0, len(p.data))
	}
	c.newest = s
	c.bytes += s.bytes()
	var slot uint32
	if len(c.free) > 0 {
		slot = c.free[0] // the one that has been free for longest, so that its age comes round as late as can be
		c.free = c.free[1:]
		s.age = c.slots[slot].age + 1
	} else {
		slot = uint32(len(c.slots))
		c.slots = append(c.slots, nil)
	}
	c.slots[slot] = s
	c.byAge[number] = slot
	c.least = min(c.least, number)
	return slot
}

// rehash makes a new directory of the keys that have rows.
func (c *Chains) rehash() {
	live := 0
	for _, e := range c.dir {
		if e.head != 0 && c.segment(e.head) != nil {
			live++
		}
	}
	n := 64
	for n < 4*live {
		n *= 2
	}
	old := c.dir
	c.dir, c.used = make([]entry, n), live
	mask := uint64(n - 1)
	for _, e := range old {
		if e.head == 0 || c.segment(e.head) == nil {
			continue
		}
		i := mix(e.hash, 0) >> 20 & mask
		for c.dir[i].head != 0 {
			i = (i + 1) & mask
		}
		c.dir[i] = e
	}
}

// Drop forgets the rows of all stretches that end at or before an event time, and gives how many there
// were. Columns and keys of dropped rows must not be read any more.
func (c *Chains) Drop(before int64) (n int) {
	if c.width == 0 {
		return 0
	}
	limit := c.Number(before) // this stretch ends behind it
	if c.least >= limit {
		return 0
	}
	c.least = math.MaxInt64
	for number, slot := range c.byAge {
		if number >= limit {
			c.least = min(c.least, number)
			continue
		}
		s := c.slots[slot]
		n += s.live
		c.bytes -= s.bytes()
		if c.rows > n { // what has room for one stretch is likely to have room for another
			c.spare = &segment{heads: s.heads, data: s.data}
		}
		s.gone, s.heads, s.data = true, nil, nil
		delete(c.byAge, number)
		c.free = append(c.free, slot)
	}
	c.rows -= n
	if len(c.byAge) == 0 && len(c.dir) > 64 {
		c.dir, c.used, c.spare, c.newest = nil, 0, nil, nil
	}
	return n
}

// Remove takes a row out. Its place is used again when its segment goes, or by Compact.
func (c *Chains) Remove(r Ref) {
	s := c.slots[r>>refSlot]
	s.heads[r&refIndex].Matches = -1
	s.live--
	c.rows--
}

// Each calls f for every row, those of earlier stretches first; within a stretch in the order they came.
func (c *Chains) Each(f func(r Ref, row *Row)) {
	var numbers []int64
	for n := range c.byAge {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	for _, n := range numbers {
		slot := c.byAge[n]
		s := c.slots[slot]
		for i := range s.heads {
			if s.heads[i].Matches >= 0 {
				f(Ref(uint64(slot)<<refSlot|uint64(s.age)<<refAge|uint64(i)), &s.heads[i])
			}
		}
	}
}

// EachKey calls f for the chain of every key that has rows.
func (c *Chains) EachKey(f func(head Ref)) {
	for _, e := range c.dir {
		if e.head != 0 && c.segment(e.head) != nil {
			f(e.head)
		}
	}
}

// Compact gives the memory of removed rows back where they are more than the others. All refs to rows
// become void. It says whether it did anything.
func (c *Chains) Compact() bool {
	places := 0
	for _, slot := range c.byAge {
		places += len(c.slots[slot].heads)
	}
	if places < 1024 || places < 2*c.rows {
		return false
	}
	fresh := NewChains(c.width)
	c.Each(func(r Ref, row *Row) {
		key := c.Key(r)
		to := fresh.Add(Hash(key), key, row.Time, row.Pos, row.From, c.Columns(r))
		fresh.Get(to).Matches = row.Matches
	})
	*c = *fresh
	return true
}

// AppendTo writes the rows: their number, then for each the length of what follows, its time, place, split
// and matches, the length of its key, the key, and the columns; little-endian.
func (c *Chains) AppendTo(b []byte) []byte {
	b = le.AppendUint32(b, uint32(c.rows))
	c.Each(func(r Ref, row *Row) {
		b = le.AppendUint32(b, 28+row.size)
		b = le.AppendUint64(b, uint64(row.Time))
		b = le.AppendUint64(b, uint64(row.Pos))
		b = le.AppendUint32(b, uint32(row.From))
		b = le.AppendUint32(b, uint32(row.Matches))
		b = le.AppendUint32(b, row.key)
		b = append(append(b, c.Key(r)...), c.Columns(r)...)
	})
	return b
}

// ReadRows reads what AppendTo wrote, calls f for each row, and gives what follows them.
func ReadRows(b []byte, f func(hash uint64, key []byte, row Row, columns []byte)) ([]byte, error) {
	if len(b) < 4 {
		return nil, errShort
	}
	n := le.Uint32(b)
	b = b[4:]
	for range n {
		if len(b) < 32 {
			return nil, errShort
		}
		size := int(le.Uint32(b))
		key := int(le.Uint32(b[28:]))
		if size < 28 || len(b) < 4+size || key > size-28 {
			return nil, errShort
		}
		row := Row{Time: int64(le.Uint64(b[4:])), Pos: int64(le.Uint64(b[12:])), From: int32(le.Uint32(b[20:])), Matches: int32(le.Uint32(b[24:]))}
		k := b[32 : 32+key]
		f(Hash(k), k, row, b[32+key:4+size])
		b = b[4+size:]
	}
	return b, nil
}

// Equal finds a row of a key with the same event time and columns, or gives 0.
func (c *Chains) Equal(hash uint64, key []byte, t int64, columns []byte) Ref {
	for r := c.Find(hash, key); r != 0; {
		row := c.Get(r)
		if row.Matches >= 0 && row.Time == t && bytes.Equal(c.Columns(r), columns) {
			return r
		}
		r = c.Next(row)
	}
	return 0
}
