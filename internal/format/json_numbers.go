package format

import (
	"encoding/binary"
	"math/bits"
)

// numbersFit says whether the numbers and words are right.
func (x *jsonIndex) numbersFit(buf []byte) bool {
	all := x.numbers != 0 // build is not sure of the numbers
	for i := range (int(x.carry.count) + 63) / 64 {
		w := &x.tokens[i]
		m := w.plain & w.letter
		if all {
			m = w.plain
		}
		for ; m != 0; m &= m - 1 {
			p := int(x.at[64*i+bits.TrailingZeros64(m)])
			if !wordFits(buf[p:]) && !(all && numberFits(buf[p:])) {
				return false
			}
		}
	}
	return true
}

// plainEnds has the rows of what is behind a number or word.
const plainEnds = 1<<markQuote | 1<<markSign | 1<<markWhite

// plainLength is how long the number or word is that b begins with. Something ends it: a message's last token is a
// brace.
func plainLength(b []byte) (n int) {
	for byteRows[b[n]]&plainEnds == 0 {
		n++
	}
	return n
}

// wordFits says whether b begins with a word.
func wordFits(b []byte) bool {
	if len(b) < 8 {
		w := string(b[:plainLength(b)])
		return w == "true" || w == "false" || w == "null"
	}
	w := binary.LittleEndian.Uint64(b)
	n := 4 + one(byte(w) == 'f')
	right := one(uint32(w) == 'e'<<24|'u'<<16|'r'<<8|'t') | one(uint32(w) == 'l'<<24|'l'<<16|'u'<<8|'n') |
		one(w<<24 == 'e'<<56|'s'<<48|'l'<<40|'a'<<32|'f'<<24)
	return right&one(byteRows[byte(w>>(8*n))]&plainEnds != 0) != 0
}

// States within a number.
const (
	numBegin uint8 = iota
	numMinus
	numZero
	numWhole
	numPoint
	numFraction
	numE
	numSign
	numExponent
	numWrong
)

// numberEnds has a bit for each state in which a number may end.
const numberEnds = 1<<numZero | 1<<numWhole | 1<<numFraction | 1<<numExponent

// Classes of bytes within a number.
const (
	digitOther uint8 = iota
	digitZero
	digitNine // and below
	digitMinus
	digitPlus
	digitPoint
	digitE
)

var digitClass = func() (t [256]uint8) {
	for c := '1'; c <= '9'; c++ {
		t[c] = digitNine
	}
	t['0'], t['-'], t['+'], t['.'], t['e'], t['E'] = digitZero, digitMinus, digitPlus, digitPoint, digitE, digitE
	return t
}()

var numberGrammar = func() (t [128]uint8) {
	for i := range t {
		t[i] = numWrong
	}
	set := func(state, class, next uint8) { t[state<<3|class] = next }
	digits := func(state, next uint8) { set(state, digitZero, next); set(state, digitNine, next) }
	set(numBegin, digitMinus, numMinus)
	for _, s := range []uint8{numBegin, numMinus} {
		set(s, digitZero, numZero)
		set(s, digitNine, numWhole)
	}
	digits(numWhole, numWhole)
	digits(numPoint, numFraction)
	digits(numFraction, numFraction)
	digits(numE, numExponent)
	digits(numSign, numExponent)
	digits(numExponent, numExponent)
	set(numE, digitMinus, numSign)
	set(numE, digitPlus, numSign)
	for _, s := range []uint8{numZero, numWhole} {
		set(s, digitPoint, numPoint)
	}
	for _, s := range []uint8{numZero, numWhole, numFraction} {
		set(s, digitE, numE)
	}
	return t
}()

// numberFits says whether b begins with a number.
func numberFits(b []byte) bool {
	state := numBegin
	for _, c := range b[:plainLength(b)] {
		state = numberGrammar[(state<<3|digitClass[c])&127]
	}
	return numberEnds>>state&1 != 0
}

// one is 1 where a condition holds; no branch is made of it.
func one(condition bool) (n int) {
	if condition {
		n = 1
	}
	return n
}
