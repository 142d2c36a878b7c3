package state

import (
	"runtime"
	"sync/atomic"
)

// Frozen is a table as it was at a moment, to be written by another goroutine while the table goes on. What is only
// ever appended is read in place. Words change in place: a stretch of them is copied before it changes for the first
// time, or written before that (copy on write, by stretches). A table with texts cannot be frozen, since texts change
// in place at any length.
type Frozen struct {
	width  int
	hashes []uint64
	tags   []int64
	ends   []uint32
	keys   []byte
	words  []uint64
	state  []atomic.Uint32 // by stretch
	saved  [][]uint64
	done   atomic.Bool
}

// States of a stretch.
const (
	stretchOpen  = iota // as it was
	stretchTaken        // being copied or written
	stretchSafe         // copied to saved, or written
)

// stretchWords are copied at a time: few, so that a batch of rows with random keys does not copy the whole table.
const stretchWords = 128

// Freeze gives the table as it is now, or nil where it has texts.
func (g *Groups) Freeze() *Frozen {
	if len(g.Text) > 0 {
		return nil
	}
	n := (len(g.Words) + stretchWords - 1) / stretchWords
	g.frozen = &Frozen{width: g.Width, hashes: g.Hashes, tags: g.Tags, ends: g.ends, keys: g.keys, words: g.Words,
		state: make([]atomic.Uint32, n), saved: make([][]uint64, n)}
	return g.frozen
}

// Touch says that the words of an entry are about to change.
func (g *Groups) Touch(e uint32) {
	f := g.frozen
	if f == nil {
		return
	}
	if f.done.Load() {
		g.frozen = nil
		return
	}
	from := int(e) * g.Width
	for k := from / stretchWords; k <= (from+g.Width-1)/stretchWords && k < len(f.state); k++ {
		f.save(k)
	}
}

func (f *Frozen) stretch(k int) []uint64 {
	return f.words[k*stretchWords : min((k+1)*stretchWords, len(f.words))]
}

// save copies a stretch that is about to change.
func (f *Frozen) save(k int) {
	for {
		switch {
		case f.state[k].Load() == stretchSafe:
			return
		case f.state[k].CompareAndSwap(stretchOpen, stretchTaken):
			f.saved[k] = append([]uint64(nil), f.stretch(k)...)
			f.state[k].Store(stretchSafe)
			return
		}
		runtime.Gosched() // it is being written
	}
}

// Encoded is the number of bytes that AppendTo writes.
func (f *Frozen) Encoded() int {
	return 16 + len(f.hashes)*20 + len(f.words)*8 + len(f.keys)
}

// AppendTo writes the table as Groups.AppendTo does. It is called once.
func (f *Frozen) AppendTo(b []byte) []byte {
	defer f.done.Store(true)
	b, words := appendTable(b, f.width, f.hashes, f.tags, f.ends, len(f.words), len(f.keys), 0)
	for k := range f.state {
		src := f.stretch(k)
		taken := f.state[k].CompareAndSwap(stretchOpen, stretchTaken)
		for !taken && f.state[k].Load() != stretchSafe {
			runtime.Gosched()
		}
		if !taken {
			src = f.saved[k]
			f.saved[k] = nil
		}
		at := 8 * k * stretchWords
		for i, w := range src {
			le.PutUint64(words[at+8*i:], w)
		}
		if taken {
			f.state[k].Store(stretchSafe)
		}
	}
	return append(b, f.keys...)
}
