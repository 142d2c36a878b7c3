package format

import (
	"math"
	"math/bits"
)

// Messages without a fixed form are read 64 bytes at a time, after G. Langdale and D. Lemire, Parsing Gigabytes of
// JSON per Second, VLDB Journal 28 (2019), section 3.1: each block becomes words with a bit a byte, one for each class
// of bytes, and what follows works on those words, without branches by what the text is, which no processor could
// foresee. The steps are small functions. Each is written here in Go, which says what it does, and runs where nothing
// faster does; for some processors there are others (json_amd64.s), held against these by tests.

// Classes of bytes, each a row of blockMarks. The numbers are known to the assembly.
const (
	markQuote  = iota // indexMarks leaves those that open or close a string
	markEscape        // backslashes; indexMarks leaves those that begin an escape
	markControl
	markWhite
	markSign   // one of {}[]:,
	markOpen   // brackets and braces
	markClose  // brackets and braces
	markLetter // ASCII from 0x60 on: among tokens braces, and words
	markColon
	markComma
	markDigit
	markPoint
	markE // e, E
	markMinus
	markPlus
	markZero
	markAlone // what may stand alone behind a backslash; and u
	markHex   // hexadecimal digits
	markU
	markHigh  // beyond ASCII
	markStart // where tokens begin; indexMarks sets it
	markRows
)

// pieceBlocks is how many blocks are indexed together.
const pieceBlocks = 32

// blockMarks are the words of up to 32 blocks, by class. Its layout is known to the assembly.
type blockMarks struct {
	rows   [markRows][pieceBlocks]uint64
	before uint64 // plain of the block before
	// plain has the bytes of numbers and words; indexMarks sets it. There are zeros behind those of the last block.
	plain [pieceBlocks + 4]uint64
}

// carry is what one block leaves to the next. The order of its fields is known to the assembly.
type carry struct {
	inside  uint64 // all ones within a string
	token   uint64 // 1 within a number or word
	skip    uint64 // 1 where the first byte is escaped
	hex     uint64 // ones for the bytes that must be hexadecimal digits
	wrong   uint64 // not 0 where a string has a control character or a wrong escape, or there was one that is no white space
	escapes uint64 // not 0 where there were escapes
	count   uint64 // tokens found so far
}

// tokenWord has a bit for each of 64 tokens in each class. A token in none of them is a text. letter tells braces from
// brackets, and words from numbers. Its layout is known to the assembly.
type tokenWord struct {
	open, close, letter, colon, comma, plain uint64
	_                                        uint64
	key                                      uint64 // texts that are keys; order sets it
}

// byteRows has a bit for each row that a byte is in.
var byteRows = func() (t [256]uint32) {
	in := func(row int, chars string) {
		for _, c := range []byte(chars) {
			t[c] |= 1 << row
		}
	}
	for c := range 0x20 {
		in(markControl, string(rune(c)))
	}
	for c := 0x60; c < 0x80; c++ {
		in(markLetter, string(rune(c)))
	}
	in(markQuote, `"`)
	in(markEscape, `\`)
	in(markWhite, " \t\n\r")
	in(markSign, "{}[]:,\x0c\x1a") // of the last two, which are wrong wherever they stand, a table cannot tell it
	in(markOpen, "{[")
	in(markClose, "}]")
	in(markColon, ":")
	in(markComma, ",")
	in(markDigit, "0123456789")
	in(markPoint, ".")
	in(markE, "eE")
	in(markMinus, "-")
	in(markPlus, "+")
	in(markZero, "0")
	in(markAlone, `"\/bfnrtu`)
	in(markHex, "0123456789abcdefABCDEF")
	in(markU, "u")
	for c := 0x80; c < 0x100; c++ {
		t[c] = 1 << markHigh
	}
	return t
}()

// markBlocksPlain marks blocks of 64 bytes, from block k of m on.
func markBlocksPlain(b []byte, m *blockMarks, k int) {
	for ; len(b) >= 64; b, k = b[64:], k+1 {
		for i := range m.rows {
			m.rows[i][k] = 0
		}
		for j, c := range b[:64] {
			for rows := byteRows[c]; rows != 0; rows &= rows - 1 {
				m.rows[bits.TrailingZeros32(rows)][k] |= 1 << j
			}
		}
	}
}

// indexMarksPlain finds the strings and the tokens of n blocks, and appends the classes of the tokens to tokens.
func indexMarksPlain(m *blockMarks, n int, tokens []tokenWord, c *carry) {
	for k := range n {
		// Of a run of backslashes every other one begins an escape, from the first that is not escaped on: a number
		// from whose bits the run is taken leaves it in alternation.
		const even = 0xAAAAAAAAAAAAAAAA
		backslash := m.rows[markEscape][k]
		first := backslash &^ c.skip
		alternating := (2*first | even) - first ^ even
		escaped := (backslash | c.skip) ^ alternating
		escapes := backslash & alternating
		m.rows[markEscape][k] = escapes
		c.skip = escapes >> 63
		c.escapes |= escapes

		c.wrong |= escaped &^ m.rows[markAlone][k]
		u := escaped & m.rows[markU][k]
		c.wrong |= (u<<1 | u<<2 | u<<3 | u<<4 | c.hex) &^ m.rows[markHex][k]
		c.hex = u>>60 | u>>61 | u>>62 | u>>63

		// Between an odd quote and the next there is a string: the sums of the quotes before, modulo 2.
		quotes := m.rows[markQuote][k] &^ escaped
		m.rows[markQuote][k] = quotes
		inside := sums(quotes) ^ c.inside // with the opening quote
		c.inside = -(inside >> 63)

		white := m.rows[markWhite][k]
		c.wrong |= m.rows[markControl][k] &^ (white &^ inside)
		signs := m.rows[markSign][k]
		plain := ^(white | signs | quotes | inside)
		m.plain[k] = plain
		begins := plain &^ (plain<<1 | c.token)
		c.token = plain >> 63
		starts := begins | signs&^inside | quotes&inside
		m.rows[markStart][k] = starts

		for ; starts != 0; starts &= starts - 1 {
			w, bit := &tokens[c.count>>6], uint64(1)<<(c.count&63)
			if bit == 1 {
				*w = tokenWord{}
			}
			at := starts & -starts
			put := func(word *uint64, mark uint64) {
				if mark&at != 0 {
					*word |= bit
				}
			}
			put(&w.plain, begins)
			put(&w.open, m.rows[markOpen][k])
			put(&w.close, m.rows[markClose][k])
			put(&w.letter, m.rows[markLetter][k])
			put(&w.colon, m.rows[markColon][k])
			put(&w.comma, m.rows[markComma][k])
			c.count++
		}
	}
}

// sums has a bit where an odd number of bits are set up to there.
func sums(w uint64) uint64 {
	for i := 1; i < 64; i *= 2 {
		w ^= w << i
	}
	return w
}

// placeTokensPlain writes where bits are set, the first at base.
func placeTokensPlain(starts []uint64, at []uint32, base uint32) {
	i := 0
	for k, w := range starts {
		for ; w != 0; w &= w - 1 {
			at[i] = base + uint32(64*k+bits.TrailingZeros64(w))
			i++
		}
	}
}

// checkNumbersPlain gives 0 where it is sure that the numbers of n blocks are right, but for the first one where that
// begins in the block before. Digits are passed by adding: a 1 on the first of a run leaves a 1 behind it.
//
// Of the numbers that begin before a block or end behind it only the beginning is checked. Therefore blocks that lie
// between each two are checked as well. They have every such number whole but where that fills half a block.
func checkNumbersPlain(m *blockMarks, n int) (wrong uint64) {
	half := func(w *[pieceBlocks]uint64, k int, shift uint) uint64 {
		if shift == 0 {
			return w[k]
		}
		if k == pieceBlocks-1 {
			return w[k] >> shift
		}
		return w[k]>>shift | w[k+1]<<shift
	}
	for _, shift := range []uint{0, 32} {
		before := m.before
		if shift > 0 {
			before = m.plain[0] << shift
		}
		for k := range n {
			plain := half((*[pieceBlocks]uint64)(m.plain[:pieceBlocks]), k, shift)
			wrong |= one64(uint32(plain) == math.MaxUint32 || plain>>32 == math.MaxUint32)
			p := plain & (plain + before>>63)
			before = plain
			begins := p &^ (p << 1)
			words := begins & half(&m.rows[markLetter], k, shift)
			begins &^= words
			p &= p + words
			digits := half(&m.rows[markDigit], k, shift) & p
			minus := begins & half(&m.rows[markMinus], k, shift)
			whole := digits & (begins | minus<<1)
			behind := (whole + digits) &^ digits
			point := behind & half(&m.rows[markPoint], k, shift) & p
			fraction := point << 1
			e := (behind | (fraction+digits)&^digits) & half(&m.rows[markE], k, shift) & p
			sign := e << 1 & (half(&m.rows[markMinus], k, shift) | half(&m.rows[markPlus], k, shift)) & p
			exponent := e<<1&^sign | sign<<1
			wrong |= (minus<<1 | fraction | exponent) &^ digits
			wrong |= (whole & half(&m.rows[markZero], k, shift)) << 1 & digits
			wrong |= digits &^ (digits << 1) &^ (whole | fraction | exponent)
			wrong |= p &^ (digits | minus | point | e | sign)
		}
	}
	return wrong
}

// extractPlain moves the bits of a, b, c and d where mask is set together, to the lowest places.
func extractPlain(mask, a, b, c, d uint64) (w, x, y, z uint64) {
	for bit := uint64(1); mask != 0; mask, bit = mask&(mask-1), bit<<1 {
		at := mask & -mask
		put := func(word *uint64, mark uint64) {
			if mark&at != 0 {
				*word |= bit
			}
		}
		put(&w, a)
		put(&x, b)
		put(&y, c)
		put(&z, d)
	}
	return w, x, y, z
}

// betweenPlain moves the lowest bits of w to the places where mask is set, and gives the sums of that.
func betweenPlain(w, mask uint64) (spread uint64) {
	for ; mask != 0; mask, w = mask&(mask-1), w>>1 {
		if w&1 != 0 {
			spread |= mask & -mask
		}
	}
	return sums(spread)
}
