// Package state holds what keyed steps remember. Nothing in it has pointers inside, so that the
// garbage collector has nothing to walk however much is held.
package state

import (
	"bytes"
	"errors"
	"slices"
)

var errCut = errors.New("state is cut short")

// KeyRanges is the number of ranges that the hashes of keys are cut into. Tasks share the ranges, so
// the number of tasks can change without hashing anything again.
const KeyRanges = 256

// RangeOf gives the key range of a hash.
func RangeOf(hash uint64) int { return int(hash >> 56) }

// TaskOf gives the task, of n, that holds a key range.
func TaskOf(r, n int) int { return r * n / KeyRanges }

// Groups is a hash table from (tag, key) to a fixed number of 64-bit words. The tag is the slice of
// event time that a partial result belongs to. Entries are numbered from 0 in the order they came;
// an entry's words, and text that words point at, can be changed, entries cannot be removed one by
// one. The zero value with Width set is empty and ready.
type Groups struct {
	Width int // words an entry

	Hashes []uint64
	Tags   []int64
	Words  []uint64
	Text   []byte // texts of variable length, addressed by (offset << 32 | length) words

	keys  []byte
	ends  []uint32 // where each entry's key ends in keys
	index []uint32 // open addressing: entry + 1, or 0

	frozen *Frozen // the table as it was when it was frozen last, until that is written
}

// Len is the number of entries.
func (g *Groups) Len() int { return len(g.Hashes) }

// Bytes is the memory held.
func (g *Groups) Bytes() int {
	return cap(g.Hashes)*8 + cap(g.Tags)*8 + cap(g.Words)*8 + cap(g.Text) + cap(g.keys) + cap(g.ends)*4 + cap(g.index)*4
}

// Key gives the key of an entry. It belongs to the table.
func (g *Groups) Key(e uint32) []byte {
	from := uint32(0)
	if e > 0 {
		from = g.ends[e-1]
	}
	return g.keys[from:g.ends[e]]
}

// Of gives the words of an entry, to read and change until the next Find.
func (g *Groups) Of(e uint32) []uint64 { return g.Words[int(e)*g.Width : (int(e)+1)*g.Width] }

// Reset empties the table and keeps its memory.
func (g *Groups) Reset() {
	if g.frozen != nil && !g.frozen.done.Load() { // its memory is still read
		*g = Groups{Width: g.Width}
		return
	}
	g.frozen = nil
	g.Hashes, g.Tags, g.Words, g.Text = g.Hashes[:0], g.Tags[:0], g.Words[:0], g.Text[:0]
	g.keys, g.ends = g.keys[:0], g.ends[:0]
	clear(g.index)
}

func mix(hash uint64, tag int64) uint64 {
	h := hash ^ uint64(tag)*0x9e3779b97f4a7c15
	h ^= h >> 29
	return h * 0xbf58476d1ce4e5b9
}

// Find gives the entry of (tag, key), made with zero words where it is new.
func (g *Groups) Find(hash uint64, tag int64, key []byte) uint32 {
	if len(g.Hashes)*2 >= len(g.index) {
		g.rehash()
	}
	mask := uint64(len(g.index) - 1)
	for i := mix(hash, tag) >> 20 & mask; ; i = (i + 1) & mask {
		e := g.index[i]
		if e == 0 {
			g.index[i] = uint32(len(g.Hashes)) + 1
			return g.add(hash, tag, key)
		}
		e--
		if g.Hashes[e] == hash && g.Tags[e] == tag && string(g.Key(e)) == string(key) {
			return e
		}
	}
}

// Lookup gives the entry of (tag, key), where there is one.
func (g *Groups) Lookup(hash uint64, tag int64, key []byte) (e uint32, ok bool) {
	if len(g.index) == 0 {
		return 0, false
	}
	mask := uint64(len(g.index) - 1)
	for i := mix(hash, tag) >> 20 & mask; ; i = (i + 1) & mask {
		e := g.index[i]
		if e == 0 {
			return 0, false
		}
		e--
		if g.Hashes[e] == hash && g.Tags[e] == tag && string(g.Key(e)) == string(key) {
			return e, true
		}
	}
}

func (g *Groups) add(hash uint64, tag int64, key []byte) uint32 {
	e := uint32(len(g.Hashes))
	g.Hashes = append(g.Hashes, hash)
	g.Tags = append(g.Tags, tag)
	g.keys = append(g.keys, key...)
	g.ends = append(g.ends, uint32(len(g.keys)))
	n := len(g.Words)
	g.Words = slices.Grow(g.Words, g.Width)[:n+g.Width]
	clear(g.Words[n:])
	return e
}

// Take appends entry f of a table whose words address no texts, without making it known to Find.
func (g *Groups) Take(from *Groups, f uint32) {
	g.Hashes, g.Tags = append(g.Hashes, from.Hashes[f]), append(g.Tags, from.Tags[f])
	g.keys = append(g.keys, from.Key(f)...)
	g.ends = append(g.ends, uint32(len(g.keys)))
	g.Words = append(g.Words, from.Of(f)...)
}

func (g *Groups) rehash() {
	n := max(64, len(g.index)*2)
	for n <= 2*len(g.Hashes) {
		n *= 2
	}
	g.index = make([]uint32, n)
	mask := uint64(n - 1)
	for e, h := range g.Hashes {
		i := mix(h, g.Tags[e]) >> 20 & mask
		for g.index[i] != 0 {
			i = (i + 1) & mask
		}
		g.index[i] = uint32(e) + 1
	}
}

// PutText keeps a text and gives the word that addresses it.
func (g *Groups) PutText(s []byte) uint64 {
	w := uint64(len(g.Text))<<32 | uint64(len(s))
	g.Text = append(g.Text, s...)
	return w
}

// GetText gives the text that a word addresses. It belongs to the table.
func (g *Groups) GetText(w uint64) []byte { return g.Text[w>>32 : w>>32+w&0xffffffff] }

// ChangeText makes the text of a word another one, in its place where its room allows. room is the
// bytes that belong to the word; the new word and its room are given back.
func (g *Groups) ChangeText(w, room uint64, s []byte) (uint64, uint64) {
	if uint64(len(s)) <= room {
		off := w >> 32
		copy(g.Text[off:off+room], s)
		return off<<32 | uint64(len(s)), room
	}
	room = max(2*uint64(len(s)), 32)
	off := uint64(len(g.Text))
	g.Text = append(g.Text, s...)
	g.Text = append(g.Text, make([]byte, room-uint64(len(s)))...)
	return off<<32 | uint64(len(s)), room
}

// ExtendText adds bytes at the end of the text of a word, moving it where its room is too small.
func (g *Groups) ExtendText(w, room uint64, s []byte) (uint64, uint64) {
	off, have := w>>32, w&0xffffffff
	if have+uint64(len(s)) > room {
		room = max(2*(have+uint64(len(s))), 32)
		to := uint64(len(g.Text))
		g.Text = append(g.Text, g.Text[off:off+have]...)
		g.Text = append(g.Text, make([]byte, room-have)...)
		off = to
	}
	copy(g.Text[off+have:], s)
	return off<<32 | (have + uint64(len(s))), room
}

// Sorted gives the entries in canonical order: key range, then key.
func (g *Groups) Sorted(buf []uint32) []uint32 {
	buf = buf[:0]
	for e := range g.Hashes {
		buf = append(buf, uint32(e))
	}
	slices.SortFunc(buf, func(a, b uint32) int {
		if ra, rb := RangeOf(g.Hashes[a]), RangeOf(g.Hashes[b]); ra != rb {
			return ra - rb
		}
		return bytes.Compare(g.Key(a), g.Key(b))
	})
	return buf
}

// Encoded is the number of bytes that AppendTo writes.
func (g *Groups) Encoded() int {
	return 16 + len(g.Hashes)*20 + len(g.Words)*8 + len(g.keys) + len(g.Text)
}

// AppendTo writes the table. The form is little-endian: width, entries, length of the keys, length of
// the texts as uint32, then hashes, tags, ends of the keys, words, keys, texts.
func (g *Groups) AppendTo(b []byte) []byte {
	b, words := appendTable(b, g.Width, g.Hashes, g.Tags, g.ends, len(g.Words), len(g.keys), len(g.Text))
	for i, w := range g.Words {
		le.PutUint64(words[8*i:], w)
	}
	return append(append(b, g.keys...), g.Text...)
}

// appendTable writes all of a table up to its words, and gives the room for these.
func appendTable(b []byte, width int, hashes []uint64, tags []int64, ends []uint32, words, keys, text int) (out, room []byte) {
	b = slices.Grow(b, 16+20*len(hashes)+8*words+keys+text)
	for _, n := range []int{width, len(hashes), keys, text} {
		b = le.AppendUint32(b, uint32(n))
	}
	// Whole columns are put into room that is there: appending each value would cost several times as much.
	take := func(n int) []byte {
		at := len(b)
		b = b[:at+n]
		return b[at:]
	}
	dst := take(8 * len(hashes))
	for i, h := range hashes {
		le.PutUint64(dst[8*i:], h)
	}
	dst = take(8 * len(tags))
	for i, t := range tags {
		le.PutUint64(dst[8*i:], uint64(t))
	}
	dst = take(4 * len(ends))
	for i, e := range ends {
		le.PutUint32(dst[4*i:], e)
	}
	room = take(8 * words)
	return b, room
}

// ReadGroups reads what AppendTo wrote and gives what follows it.
func ReadGroups(b []byte) (*Groups, []byte, error) {
	g, b, err := ReadEntries(b)
	if err == nil {
		g.rehash()
	}
	return g, b, err
}

// ReadEntries is ReadGroups for a table in which nothing is to be found by its key.
func ReadEntries(b []byte) (*Groups, []byte, error) {
	if len(b) < 16 {
		return nil, nil, errCut
	}
	g := &Groups{Width: int(le.Uint32(b))}
	n, keys, text := int(le.Uint32(b[4:])), int(le.Uint32(b[8:])), int(le.Uint32(b[12:]))
	b = b[16:]
	if len(b) < n*(20+8*g.Width)+keys+text {
		return nil, nil, errCut
	}
	words := func(k int) []uint64 {
		out := make([]uint64, k)
		for i := range out {
			out[i] = le.Uint64(b[8*i:])
		}
		b = b[8*k:]
		return out
	}
	g.Hashes = words(n)
	g.Tags, g.ends = make([]int64, n), make([]uint32, n)
	for i := range g.Tags {
		g.Tags[i] = int64(le.Uint64(b[8*i:]))
	}
	b = b[8*n:]
	for i := range g.ends {
		g.ends[i] = le.Uint32(b[4*i:])
	}
	b = b[4*n:]
	g.Words = words(n * g.Width)
	g.keys, b = slices.Clone(b[:keys]), b[keys:]
	g.Text, b = slices.Clone(b[:text]), b[text:]
	return g, b, nil
}
