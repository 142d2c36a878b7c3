package format

import "math/bits"

// jsonIndex holds where the tokens of a message begin, and what they are: signs, strings, numbers and words.
//
// A message is read by it in steps: build finds the tokens, order checks that they are one object and numbersFit that
// its numbers and words are right, then readObject looks up the keys of those objects that are used. They accept only
// what they are sure of. What they do not take (errors, repeated keys, values of the wrong type) the general scan reads
// anew, so that the verdict is always the scan's.
type jsonIndex struct {
	carry
	numbers  uint64 // not 0 where there may be a wrong number
	from     int    // where the message begins in its buffer
	blocks   int
	pieces   []blockMarks
	at       []uint32    // where tokens begin, from the beginning of the message
	tokens   []tokenWord // what they are
	outer    []uint64    // by 64 tokens: the keys of the outermost object
	brackets []bracketWord
	keys     []uint32 // a stack: the tokens of the keys of the object that is being read, and of those around it
	top      int      // of keys
	odd      []uint32 // a stack: those of them that may be used, and have escapes
	odds     int      // of odd
	key      []byte   // a key without its escapes
	longest  int      // what at has room for
}

// mostIndexed is how long messages may be that are indexed: an index takes some fifteen bytes for each.
const mostIndexed = 1 << 20

// build indexes the message in buf[from:to]. It says false where a string is not closed, or has control characters or
// wrong escapes, and where the message is too long.
func (x *jsonIndex) build(buf []byte, from, to int) bool {
	size := to - from
	if size > mostIndexed {
		return false
	}
	if need := size + 64 + 16; x.longest < need {
		x.at, x.keys, x.odd, x.longest = make([]uint32, need), make([]uint32, need), make([]uint32, need), need
		words := need/64 + 2
		x.pieces, x.tokens, x.outer, x.brackets = make([]blockMarks, size/(64*pieceBlocks)+2), make([]tokenWord, words), make([]uint64, words), make([]bracketWord, words)
	}
	x.from, x.carry, x.tokens[0], x.numbers = from, carry{}, tokenWord{}, 0
	x.blocks = (size + 63) / 64
	before := uint64(0)
	for k := 0; k < x.blocks; k += pieceBlocks {
		m, n, base := &x.pieces[k/pieceBlocks], min(pieceBlocks, x.blocks-k), from+64*k
		if base+64*n <= cap(buf) {
			markBlocks(buf[base:base+64*n], m, 0)
		} else {
			markBlocks(buf[base:base+64*(n-1)], m, 0)
			var last [64]byte
			copy(last[:], buf[base+64*(n-1):to])
			markBlocks(last[:], m, n-1)
		}
		if used := to - base - 64*(n-1); used < 64 { // behind it there is white space
			valid := uint64(1)<<used - 1
			m.rows[markQuote][n-1] &= valid
			m.rows[markEscape][n-1] &= valid
			m.rows[markSign][n-1] &= valid
			m.rows[markWhite][n-1] |= ^valid
		}
		placed := x.carry.count
		indexMarks(m, n, x.tokens, &x.carry)
		placeTokens(m.rows[markStart][:n], x.at[placed:], uint32(64*k))
		m.before, *(*[4]uint64)(m.plain[n:]) = before, [4]uint64{}
		x.numbers |= checkNumbers(m, n) | before>>63&m.plain[0]
		before = m.plain[n-1]
	}
	return x.inside == 0 && x.wrong == 0
}

// marks is a word of a row of block i, which is a row of quotes or escapes.
func (x *jsonIndex) marks(row, i int) uint64 {
	return x.pieces[i/pieceBlocks].rows[row][i%pieceBlocks]
}

// window has the bits of a row from byte p on.
func (x *jsonIndex) window(row, p int) uint64 {
	i, at := p>>6, p&63
	return x.marks(row, i)>>at | x.marks(row, i+1)<<1<<(63-at)
}

// closing is where the string ends whose opening quote is at p.
func (x *jsonIndex) closing(p int) int {
	i := p >> 6
	w := x.marks(markQuote, i) &^ (2<<(p&63) - 1)
	for w == 0 {
		i++
		w = x.marks(markQuote, i)
	}
	return i<<6 + bits.TrailingZeros64(w)
}

// marked says whether a bit of a row is set in [from, to).
func (x *jsonIndex) marked(row, from, to int) bool {
	for ; from+64 < to; from += 64 {
		if x.window(row, from) != 0 {
			return true
		}
	}
	return x.window(row, from)<<(64-(to-from)) != 0
}

// valueEnd is the place behind the value at token k.
func (x *jsonIndex) valueEnd(buf []byte, k int) int {
	p := int(x.at[k])
	switch w, bit := &x.tokens[k/64], uint64(1)<<(k&63); {
	case w.plain&bit != 0:
		return p + plainLength(buf[p:])
	case w.open&bit == 0:
		return x.closing(p) + 1
	}
	for depth := 0; ; k++ {
		w := &x.tokens[k/64]
		if depth += int(w.open>>(k&63)&1) - int(w.close>>(k&63)&1); depth == 0 {
			return int(x.at[k]) + 1
		}
	}
}
