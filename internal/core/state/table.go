package state

import (
	"sync"
	"sync/atomic"
)

// Table is the latest row of each key, shared out to parts by key range. One task changes a part; any
// number of goroutines look rows up.
type Table struct {
	Parts []*TablePart
}

// NewTable makes an empty table of n parts.
func NewTable(n int) *Table {
	t := &Table{}
	for range n {
		t.Parts = append(t.Parts, &TablePart{})
	}
	return t
}

// TablePart is the rows of some key ranges. Rows lie in slabs, each behind its hash, its origin and its key;
// a row is not changed once it is written, so that who has found it may read it for as long as he likes.
type TablePart struct {
	sync.RWMutex

	slabs   [][]byte
	index   []uint64 // open addressing: 24 bits of the hash, then where the row is; 0: empty, 1: was deleted
	used    int      // places of the index that are not empty
	rows    int
	garbage int           // bytes of rows that were replaced or deleted
	held    int           // bytes of all rows
	touched atomic.Uint32 // what Probe has read, so that reading it is no dead code
}

// Slabs are of so many bytes, or of one row where it is longer.
const slabBytes = 1 << 20

const (
	tableTag  = 40                // the hash's bits begin here
	tableMask = 1<<tableTag - 1   // where: slab (20 bits), then offset (20 bits); 2 and more
	rowHead   = 8 + 8 + 4 + 4 + 4 // hash, place, split, generation, length of the key
)

// TableRow is what is known of a row of a table.
type TableRow struct {
	Hash       uint64
	Key        []byte
	Pos        int64
	From       int32
	Generation uint32
	Columns    []byte
}

func (p *TablePart) at(where uint64) TableRow {
	b := p.slabs[where>>20-1][where&(1<<20-1):]
	size := le.Uint32(b)
	key := le.Uint32(b[rowHead:])
	k := uint32(4 + rowHead)
	return TableRow{Hash: le.Uint64(b[4:]), Pos: int64(le.Uint64(b[12:])), From: int32(le.Uint32(b[20:])), Generation: le.Uint32(b[24:]),
		Key: b[k : k+key : k+key], Columns: b[k+key : size : size]}
}

// match gives the columns of a row if it has a key.
func (p *TablePart) match(where, hash uint64, key []byte) []byte {
	b := p.slabs[where>>20-1][where&(1<<20-1):]
	if le.Uint64(b[4:]) != hash || le.Uint32(b[rowHead:]) != uint32(len(key)) {
		return nil
	}
	at := 4 + rowHead + len(key)
	if string(b[4+rowHead:at]) != string(key) {
		return nil
	}
	size := le.Uint32(b)
	return b[at:size:size]
}

func tag(hash uint64) uint64 { return hash >> 8 << tableTag }

// Len is the number of rows.
func (p *TablePart) Len() int { return p.rows }

// Bytes is the memory held.
func (p *TablePart) Bytes() int {
	n := cap(p.index) * 8
	for _, s := range p.slabs {
		n += cap(s)
	}
	return n
}

// Get finds a row.
func (p *TablePart) Get(hash uint64, key []byte) (row TableRow, ok bool) {
	if i, ok := p.find(hash, key); ok {
		return p.at(p.index[i] & tableMask), true
	}
	return row, false
}

func (p *TablePart) find(hash uint64, key []byte) (i uint64, ok bool) {
	if len(p.index) == 0 {
		return 0, false
	}
	mask := uint64(len(p.index) - 1)
	for i = mix(hash, 0) >> 20 & mask; ; i = (i + 1) & mask {
		w := p.index[i]
		if w == 0 {
			return i, false
		}
		if w != 1 && w&^tableMask == tag(hash) {
			if p.match(w&tableMask, hash, key) != nil {
				return i, true
			}
		}
	}
}

// Probe finds the columns of many rows: out gets them, nil for those that are not there. Only the rows of
// sel are looked for. The caller holds the lock to read.
func (p *TablePart) Probe(keys *Keys, sel []uint32, out [][]byte) {
	if p.rows == 0 {
		for _, r := range sel {
			out[r] = nil
		}
		return
	}
	// The places of the index come first, then the first bytes of the rows, so that the memory of many is fetched
	// at once: whoever compares keys as he goes waits for each row in turn.
	var words [64]uint64
	touched := byte(0)
	mask := uint64(len(p.index) - 1)
	for len(sel) > 0 {
		n := min(len(sel), len(words))
		for k, r := range sel[:n] {
			words[k] = p.index[mix(keys.Hashes[r], 0)>>20&mask]
		}
		for _, w := range words[:n] {
			if w > 1 {
				w &= tableMask
				slab := p.slabs[w>>20-1]
				at := w & (1<<20 - 1)
				touched |= slab[at] | slab[min(at+64, uint64(len(slab)-1))]
			}
		}
		for k, r := range sel[:n] {
			hash := keys.Hashes[r]
			out[r] = nil
			if w := words[k]; w > 1 && w&^tableMask == tag(hash) {
				if out[r] = p.match(w&tableMask, hash, keys.Key(int(r))); out[r] != nil {
					continue
				}
			} else if w == 0 {
				continue
			}
			if row, ok := p.Get(hash, keys.Key(int(r))); ok {
				out[r] = row.Columns
			}
		}
		sel = sel[n:]
	}
	p.touched.Store(uint32(touched))
}

// Put keeps a row in the place of the one with its key, and gives the columns of that one. The caller
// holds the lock.
func (p *TablePart) Put(row TableRow) (old []byte, replaced bool) {
	if (p.used+1)*10 >= len(p.index)*7 {
		p.rehash()
	}
	i, ok := p.find(row.Hash, row.Key)
	if ok {
		r := p.at(p.index[i] & tableMask)
		old, replaced = r.Columns, true
		p.garbage += 4 + rowHead + len(r.Key) + len(r.Columns)
	} else {
		p.used++
		p.rows++
	}
	p.index[i] = tag(row.Hash) | p.write(row)
	if p.garbage > 4*slabBytes && p.garbage > p.held/2 {
		p.compact()
	}
	return old, replaced
}

func (p *TablePart) write(r TableRow) uint64 {
	size := 4 + rowHead + len(r.Key) + len(r.Columns)
	last := len(p.slabs) - 1
	if last < 0 || cap(p.slabs[last])-len(p.slabs[last]) < size {
		room := slabBytes
		if len(p.slabs) == 0 {
			room = slabBytes / 64
		}
		p.slabs = append(p.slabs, make([]byte, 0, max(room, size)))
		last++
	}
	b := p.slabs[last]
	off := len(b)
	b = le.AppendUint32(b, uint32(size))
	b = le.AppendUint64(b, r.Hash)
	b = le.AppendUint64(b, uint64(r.Pos))
	b = le.AppendUint32(b, uint32(r.From))
	b = le.AppendUint32(b, r.Generation)
	b = le.AppendUint32(b, uint32(len(r.Key)))
	p.slabs[last] = append(append(b, r.Key...), r.Columns...)
	p.held += size
	return uint64(last+1)<<20 | uint64(off)
}

// Touch marks a row that is there already as seen in a generation, and gives whether its columns are these.
func (p *TablePart) Touch(hash uint64, key, columns []byte, generation uint32, pos int64, from int32) bool {
	i, ok := p.find(hash, key)
	if !ok {
		return false
	}
	w := p.index[i] & tableMask
	b := p.slabs[w>>20-1][w&(1<<20-1):]
	if r := p.at(w); string(r.Columns) != string(columns) {
		return false
	}
	le.PutUint64(b[12:], uint64(pos))
	le.PutUint32(b[20:], uint32(from))
	le.PutUint32(b[24:], generation)
	return true
}

// Delete takes a row out and gives its columns.
func (p *TablePart) Delete(hash uint64, key []byte) (old []byte, ok bool) {
	i, ok := p.find(hash, key)
	if !ok {
		return nil, false
	}
	r := p.at(p.index[i] & tableMask)
	p.index[i] = 1
	p.rows--
	p.garbage += 4 + rowHead + len(r.Key) + len(r.Columns)
	return r.Columns, true
}

// Each calls f for every row, in no order.
func (p *TablePart) Each(f func(TableRow)) {
	for _, w := range p.index {
		if w > 1 {
			f(p.at(w & tableMask))
		}
	}
}

func (p *TablePart) rehash() {
	n := 64
	for n*7 < (p.rows+1)*10*5/4 {
		n *= 2
	}
	old := p.index
	p.index, p.used = make([]uint64, n), p.rows
	mask := uint64(n - 1)
	for _, w := range old {
		if w < 2 {
			continue
		}
		i := mix(p.at(w&tableMask).Hash, 0) >> 20 & mask
		for p.index[i] != 0 {
			i = (i + 1) & mask
		}
		p.index[i] = w
	}
}

// compact writes the rows anew without those that have gone.
func (p *TablePart) compact() {
	from := &TablePart{slabs: p.slabs}
	p.slabs, p.held, p.garbage = nil, 0, 0
	for i, w := range p.index {
		if w > 1 {
			p.index[i] = tag(from.at(w&tableMask).Hash) | p.write(from.at(w&tableMask))
		}
	}
}

// AppendTo writes the rows: their number, then each with its length, as it is held.
func (p *TablePart) AppendTo(b []byte) []byte {
	b = le.AppendUint64(b, uint64(p.rows))
	for _, w := range p.index {
		if w > 1 {
			w &= tableMask
			row := p.slabs[w>>20-1][w&(1<<20-1):]
			b = append(b, row[:le.Uint32(row)]...)
		}
	}
	return b
}

// ReadTable reads what AppendTo wrote and calls f for each row.
func ReadTable(b []byte, f func(TableRow)) error {
	if len(b) < 8 {
		return errShort
	}
	n := le.Uint64(b)
	b = b[8:]
	for range n {
		if len(b) < 4+rowHead {
			return errShort
		}
		size := int(le.Uint32(b))
		if size < 4+rowHead || size > len(b) || int(le.Uint32(b[rowHead:])) > size-4-rowHead {
			return errShort
		}
		p := TablePart{slabs: [][]byte{b[:size]}}
		f(p.at(1 << 20))
		b = b[size:]
	}
	return nil
}
