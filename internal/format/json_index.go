package format

import (
	"encoding/binary"
	"math/bits"
	"strings"

	"fiume/internal/core/types"
)

// Messages without a fixed form are read in passes. The first, after G. Langdale and D. Lemire, Parsing
// Gigabytes of JSON per Second, VLDB Journal 28 (2019), sections 3.1 and 3.2, turns 64 bytes at a time into
// bits by class and notes where tokens begin. The second checks the order of the tokens by a table, and
// notes where keys and plain values stand. Neither branches by what the text is, which no processor could
// foresee. The third looks up the keys, of those objects that are used.
//
// The passes accept only what they are sure of. What they do not take (errors, repeated keys, values of the
// wrong type) the general scan reads anew, so that the verdict is always the scan's.

// Classes of bytes.
const (
	isQuote = 1 << iota
	isEscape
	isMark
	isBlank                                // white space
	isControl                              // what may not stand in a string
	isEnd     = isQuote | isMark | isBlank // what ends a number or a word
)

var byteClass = func() (t [256]uint8) {
	for c := range 0x20 {
		t[c] = isControl
	}
	t[' '], t['\t'], t['\n'], t['\r'] = isBlank, isBlank|isControl, isBlank|isControl, isBlank|isControl
	t['"'], t['\\'] = isQuote, isEscape
	for _, c := range "{}[]:," {
		t[c] = isMark
	}
	return t
}()

// carry is what one block leaves to the next. The order of its fields is known to indexWide.
type carry struct {
	inside  uint64 // all ones within a string
	token   uint64 // 1 within a number or word
	skip    uint64 // 1 where the first byte is escaped
	wrong   uint64 // not 0 where there was a control character in a string, or none that is white space
	high    uint64 // not 0 where there were bytes beyond ASCII
	escapes uint64 // not 0 where there were escapes
	base    uint64 // where the next block begins
	tokens  uint64 // found so far
}

// indexPlain indexes whole blocks of 64 bytes; see indexBlocks.
func indexPlain(b []byte, words [][2]uint64, at []uint32, c *carry) {
	n := 0
	for k := range words {
		var quote, mark, begins uint64
		words[k] = [2]uint64{}
		for j, char := range b[64*k : 64*k+64] {
			bit := uint64(1) << j
			class := byteClass[char]
			if char >= 0x80 {
				c.high = 1
			}
			escaped := c.skip == 1
			c.skip = 0
			if class&isEscape != 0 && !escaped {
				words[k][1] |= bit
				c.escapes, c.skip = 1, 1
			}
			isString := c.inside != 0
			switch {
			case class&isQuote != 0 && !escaped:
				words[k][0] |= bit
				if c.inside = ^c.inside; c.inside != 0 {
					quote |= bit
				}
				c.token = 0
			case isString:
				if class&isControl != 0 {
					c.wrong = 1
				}
				c.token = 0
			case class&isMark != 0:
				mark |= bit
				c.token = 0
			case class&isBlank != 0:
				c.token = 0
			default:
				if class&isControl != 0 {
					c.wrong = 1
				}
				if c.token == 0 {
					begins |= bit
				}
				c.token = 1
			}
		}
		for m := mark | quote | begins; m != 0; m &= m - 1 {
			at[n] = uint32(c.base) + uint32(bits.TrailingZeros64(m))
			n++
		}
		c.base += 64
	}
	c.tokens += uint64(n)
}

// jsonIndex holds where the tokens of a message begin.
type jsonIndex struct {
	carry
	from    int         // where the message begins in its buffer
	words   [][2]uint64 // by 64 bytes: quotes that open or close a string; backslashes that begin an escape
	at      []uint32    // where tokens begin, from the beginning of the message: marks, strings, numbers, words
	keys    []uint32    // the keys of objects that may be used: token and depth
	plain   []uint32    // where numbers and words begin
	nodes   []*jsonNode // by depth: what the object is for, or nil
	key     []byte      // a key without its escapes
	tables  parseTables
	open    int // the deepest of nodes that is set
	longest int // what at has room for
}

// build indexes the message in buf[from:to]. It says false where a string is not closed or has control
// characters.
func (x *jsonIndex) build(buf []byte, from, to int) bool {
	size := to - from
	if need := size + 64 + 16; x.longest < need {
		x.at, x.keys, x.plain, x.longest = make([]uint32, need), make([]uint32, need), make([]uint32, need), need
		x.words = make([][2]uint64, size/64+1)
	}
	x.from, x.carry = from, carry{}
	whole := size / 64
	indexBlocks(buf[from:to], x.words[:whole], x.at, &x.carry)
	var tail [64]byte
	for j := copy(tail[:], buf[from+64*whole:to]); j < 64; j++ {
		tail[j] = ' '
	}
	indexBlocks(tail[:], x.words[whole:whole+1], x.at[x.tokens:], &x.carry)
	return x.inside == 0 && x.wrong == 0 && x.tokens < 1<<24
}

// Classes of tokens by their first byte.
const (
	tokOther uint8 = iota // a number, a word or an error
	tokObject
	tokArray
	tokEndObject
	tokEndArray
	tokColon
	tokComma
	tokText
)

var tokenClass = [256]uint8{'{': tokObject, '[': tokArray, '}': tokEndObject, ']': tokEndArray, ':': tokColon, ',': tokComma, '"': tokText}

// deeper is what a token adds to the depth.
var deeper = [16]uint8{tokObject: 1, tokArray: 1, tokEndObject: 255, tokEndArray: 255}

// aside leads all but the beginning of an object or array to where nobody reads the state behind it. So
// reading the stack does not have to wait for what has just been written.
var aside = [16]uint8{tokOther: 128, tokEndObject: 128, tokEndArray: 128, tokColon: 128, tokComma: 128, tokText: 128}

// States between tokens: what is expected. They are multiples of eight, so that a token's class is added to
// one.
const (
	wantNothing uint8 = 8 * iota // something was wrong
	wantMessage
	wantEnd        // of the message
	wantKeyOrEnd   // behind a brace
	wantKey        // behind a comma
	wantColon      //
	wantField      // the value of a key
	wantMoreFields // a comma or the brace
	wantElementOrEnd
	wantElement
	wantMoreElements
	wantOuter // what the object or array was in decides
)

// behind is the state behind an object or array that begins in a state.
var behind = [96]uint8{wantMessage: wantEnd, wantField: wantMoreFields, wantElementOrEnd: wantMoreElements, wantElement: wantMoreElements}

// noKey is 0 behind a key.
var noKey = func() (t [96]uint8) {
	for i := range t {
		t[i] = 255
	}
	t[wantColon] = 0
	return t
}()

// grammar gives the next state by state and token.
var grammar = func() (t [256]uint8) {
	set := func(state, token, next uint8) { t[state|token] = next }
	set(wantMessage, tokObject, wantKeyOrEnd)
	set(wantKeyOrEnd, tokText, wantColon)
	set(wantKeyOrEnd, tokEndObject, wantOuter)
	set(wantKey, tokText, wantColon)
	set(wantColon, tokColon, wantField)
	set(wantMoreFields, tokComma, wantKey)
	set(wantMoreFields, tokEndObject, wantOuter)
	set(wantElementOrEnd, tokEndArray, wantOuter)
	set(wantMoreElements, tokComma, wantElement)
	set(wantMoreElements, tokEndArray, wantOuter)
	for _, s := range []uint8{wantField, wantElementOrEnd, wantElement} {
		set(s, tokObject, wantKeyOrEnd)
		set(s, tokArray, wantElementOrEnd)
		set(s, tokText, behind[s])
		set(s, tokOther, behind[s])
	}
	return t
}()

// parseTables are the tables of parsePlain, and the states behind what is open. Their order is known to
// parseWide.
type parseTables struct {
	class, grammar [256]uint8
	behind         [96]uint8
	deeper, aside  [16]uint8
	noKey          [96]uint8
	stack          [256]uint8 // the upper half is only written to
}

// parsePlain walks over the tokens that begin at places in buf. It writes the keys of objects down to a depth
// and the places of numbers and words, and says how many, the last state and all depths or-ed.
func parsePlain(buf []byte, at, keys, plain []uint32, t *parseTables, depth uint8) (n, plains int, state, over uint8) {
	state = wantMessage
	deep := uint8(0)
	for k, p := range at {
		class := t.class[buf[p]]
		t.stack[deep|t.aside[class&7]] = t.behind[state]
		state = t.grammar[state|class]
		deep += t.deeper[class&7]
		over |= deep
		if state == wantOuter {
			state = t.stack[deep]
		}
		if t.noKey[state]|deep <= depth {
			keys[n] = uint32(k)<<8 | uint32(deep)
			n++
		}
		if class == tokOther {
			plain[plains] = p
			plains++
		}
	}
	return n, plains, state, over
}

// parse checks that the tokens are one object, and that its numbers, words and escapes are right. It notes
// the keys of objects down to a depth, and gives their number.
func (x *jsonIndex) parse(buf []byte, depth uint8) (n int, ok bool) {
	buf = buf[x.from:]
	n, plain, state, over := parseTokens(buf, x.at[:x.tokens], x.keys, x.plain, &x.tables, depth)
	if state != wantEnd || over&0x80 != 0 {
		return 0, false
	}
	for _, p := range x.plain[:plain] {
		if !plainFits(buf, int(p)) {
			return 0, false
		}
	}
	return n, x.escapes == 0 || x.escapesFit(buf)
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
	numRight
	numWrong
)

// Classes of bytes within a number.
const (
	digitOther uint8 = iota
	digitZero
	digitNine // and below
	digitMinus
	digitPlus
	digitPoint
	digitE
	digitEnd
)

var digitClass = func() (t [256]uint8) {
	for c, class := range byteClass {
		if class&isEnd != 0 {
			t[c] = digitEnd
		}
	}
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
	for _, s := range []uint8{numZero, numWhole, numFraction, numExponent} {
		set(s, digitEnd, numRight)
	}
	return t
}()

// plainFits says whether a right number or word begins at p. Something that ends it follows in any case:
// the message's last token is a brace.
func plainFits(buf []byte, p int) bool {
	switch buf[p] {
	case 't':
		return p+4 < len(buf) && string(buf[p:p+4]) == "true" && byteClass[buf[p+4]]&isEnd != 0
	case 'f':
		return p+5 < len(buf) && string(buf[p:p+5]) == "false" && byteClass[buf[p+5]]&isEnd != 0
	case 'n':
		return p+4 < len(buf) && string(buf[p:p+4]) == "null" && byteClass[buf[p+4]]&isEnd != 0
	}
	if n := shortNumber(buf, p); n > 0 {
		return byteClass[buf[p+n]]&isEnd != 0
	}
	state := numBegin
	for _, c := range buf[p:] {
		if state = numberGrammar[(state<<3|digitClass[c])&127]; state >= numRight {
			break
		}
	}
	return state == numRight
}

// shortNumber is how long the number at p is, if it is a plain one of at most seven bytes, or 0.
func shortNumber(buf []byte, p int) int {
	if p+8 > len(buf) {
		return 0
	}
	w := binary.LittleEndian.Uint64(buf[p:])
	minus := 0
	if byte(w) == '-' {
		minus = 1
	}
	w >>= 8 * minus
	// A byte is marked where it is no digit: where the upper half is not 3, or the lower one above 9.
	x := w ^ '0'*ones
	other := (x | (x&^highs + 0x76*ones)) & highs
	whole := bits.TrailingZeros64(other) >> 3
	n := whole
	if byte(w>>(8*whole)) == '.' {
		n = bits.TrailingZeros64(other&(other-1)) >> 3
		if n <= whole+1 {
			return 0
		}
	}
	if n == 8 || whole == 0 || whole > 1 && byte(w) == '0' {
		return 0
	}
	return n + minus
}

// escapesFit says whether all escapes are right.
func (x *jsonIndex) escapesFit(buf []byte) bool {
	for i := range x.words[:x.base/64] {
		for m := x.words[i][1]; m != 0; m &= m - 1 {
			p := 64*i + bits.TrailingZeros64(m) + 1
			switch c := buf[p]; {
			case c == 'u':
				if p+4 >= len(buf) || !isHex(buf[p+1]) || !isHex(buf[p+2]) || !isHex(buf[p+3]) || !isHex(buf[p+4]) {
					return false
				}
			case !escapable[c]:
				return false
			}
		}
	}
	return true
}

var escapable = [256]bool{'"': true, '\\': true, '/': true, 'b': true, 'f': true, 'n': true, 'r': true, 't': true}

// closing is where the string ends whose opening quote is at p.
func (x *jsonIndex) closing(p int) int {
	i := p >> 6
	w := x.words[i][0] &^ (2<<(p&63) - 1)
	for w == 0 {
		i++
		w = x.words[i][0]
	}
	return i<<6 + bits.TrailingZeros64(w)
}

// escaped says whether an escape begins in [from, to).
func (x *jsonIndex) escaped(from, to int) bool {
	for i := from >> 6; i <= to>>6; i++ {
		w := x.words[i][1]
		if i == from>>6 {
			w &^= 1<<(from&63) - 1
		}
		if i == to>>6 {
			w &= 1<<(to&63) - 1
		}
		if w != 0 {
			return true
		}
	}
	return false
}

// indexed reads one message by its index. Where it says false nothing is decided yet.
func (d *jsonDecoder) indexed(from, n int) bool {
	x := &d.index
	if !x.build(d.buf, from, d.end) {
		return false
	}
	keys, ok := x.parse(d.buf[:d.end], d.depth)
	if !ok {
		return false
	}
	mark := uint32(d.row + 1)
	if !d.readFields(x.keys[:keys]) || d.complete(mark, n) != nil {
		d.forget(mark)
		return false
	}
	d.pause--
	return true
}

// readFields reads the values of the keys that are used.
func (d *jsonDecoder) readFields(keys []uint32) bool {
	x := &d.index
	nodes := x.nodes
	for _, e := range keys {
		k, deep := int(e>>8), int(e&0xff)
		for ; x.open > deep; x.open-- {
			nodes[x.open] = nil
		}
		parent := nodes[deep]
		if parent == nil {
			continue
		}
		p := int(x.at[k])
		node := parent.kid(d.buf[x.from+p+1:])
		if node == nil {
			if x.escapes == 0 || !x.escaped(p, x.closing(p)) {
				continue
			}
			x.key, _ = unescape(x.key[:0], d.buf[x.from+p+1:x.from+x.closing(p)])
			if node = parent.kidAmong(x.key); node == nil {
				continue
			}
		}
		if !d.readField(k+2, node, deep) {
			return false
		}
	}
	return true
}

// readField reads the value at token k.
func (d *jsonDecoder) readField(k int, node *jsonNode, deep int) bool {
	x := &d.index
	p := x.from + int(x.at[k])
	c := d.buf[p]
	if node.row >= 0 {
		set := d.rowSet[node.row] == uint32(d.row+1)
		if set || c != '{' {
			return !set && c == 'n' // what was not set is NULL
		}
		d.rowSet[node.row] = uint32(d.row + 1)
		if node.leaf >= 0 {
			d.seen[node.leaf] = uint32(d.row + 1)
		}
		x.open = deep + 1
		x.nodes[x.open] = node
		return true
	}
	if d.seen[node.leaf] == uint32(d.row+1) {
		return false
	}
	switch {
	case c == 'n':
		return true
	case d.leaves[node.leaf].deep():
		return d.setDeep(node.leaf, p, x.from+x.valueEnd(d.buf[x.from:], k), d.size) == ""
	case c == '"':
		end := x.closing(p - x.from)
		escaped := x.escapes != 0 && x.escaped(p-x.from, end)
		return d.setText(node.leaf, p+1, x.from+end, escaped, x.high != 0) == ""
	case c == '-' || c-'0' <= 9:
		end, whole, ok := d.number(p)
		return ok && d.setNumber(node.leaf, d.buf[p:end], whole) == ""
	case c == 't' || c == 'f':
		if d.leaves[node.leaf].typ.Kind != types.Boolean {
			return false
		}
		d.leaves[node.leaf].vec.B[d.row] = c == 't'
		d.set(node.leaf)
		return true
	}
	return false
}

// valueEnd is the place behind the value at token k.
func (x *jsonIndex) valueEnd(buf []byte, k int) int {
	p := int(x.at[k])
	switch tokenClass[buf[p]] {
	case tokText:
		return x.closing(p) + 1
	case tokOther:
		for byteClass[buf[p]]&isEnd == 0 {
			p++
		}
		return p
	}
	for depth := uint8(0); ; k++ {
		if depth += deeper[tokenClass[buf[x.at[k]]]]; depth == 0 {
			return int(x.at[k]) + 1
		}
	}
}

// keyEntry is the one key of a slot, or says that there are several.
type keyEntry struct {
	word uint64 // its first eight bytes with the quote behind them, and zeros
	node *jsonNode
	many bool
}

// keyWord reads the first bytes of a key up to its closing quote, with it.
func keyWord(b []byte) uint64 {
	var w uint64
	if len(b) >= 8 {
		w = binary.LittleEndian.Uint64(b)
	} else {
		var few [8]byte
		copy(few[:], b)
		w = binary.LittleEndian.Uint64(few[:])
	}
	x := w ^ '"'*ones
	quote := (x - ones) &^ x & highs
	return w & ((quote&-quote)<<1 - 1)
}

func keySlot(word uint64) int { return int(word * 0x9e3779b97f4a7c15 >> 58) }

// kid is the node of the key without escapes at the beginning of b, its closing quote behind it, or nil.
func (n *jsonNode) kid(b []byte) *jsonNode {
	w := keyWord(b)
	e := &n.byKey[keySlot(w)]
	if e.word == w && !e.many && (len(e.node.key) < 8 || e.node.heads(b)) {
		return e.node
	}
	if e.many {
		for _, c := range n.kids {
			if c.heads(b) {
				return c
			}
		}
	}
	return nil
}

// heads says whether b begins with the node's key and a quote.
func (n *jsonNode) heads(b []byte) bool {
	return len(b) > len(n.key) && string(b[:len(n.key)]) == n.key && b[len(n.key)] == '"'
}

func (n *jsonNode) kidAmong(key []byte) *jsonNode {
	for _, c := range n.kids {
		if c.key == string(key) {
			return c
		}
	}
	return nil
}

// spread fills the slots of the node and those below, and gives how deep they go.
func (n *jsonNode) spread() (depth int) {
	for _, c := range n.kids {
		if c.row >= 0 {
			depth = max(depth, c.spread())
		}
		if strings.ContainsAny(c.key, `"\`) {
			continue // written with an escape, and found by that
		}
		w := keyWord([]byte(c.key + `"`))
		e := &n.byKey[keySlot(w)]
		e.word, e.node, e.many = w, c, e.node != nil
	}
	return depth + 1
}
