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
	wrong   uint64 // not 0 where a string has a control character or a wrong escape, or there was one that is no white space
	high    uint64 // not 0 where there were bytes beyond ASCII
	escapes uint64 // not 0 where there were escapes
	base    uint64 // where the next block begins
	tokens  uint64 // found so far
	hex     uint64 // ones for the bytes that must be hexadecimal digits
}

// blockWord has a bit for each of 64 bytes. Its layout is known to indexWide.
type blockWord struct {
	quotes  uint64 // those that open or close a string
	escapes uint64 // backslashes that begin an escape
	plain   uint64 // bytes of numbers and words
}

// tokenWord has a bit for each of 64 tokens in each class. A token in none of them is a text. object is set for
// braces, and means nothing for others but brackets. Its layout is known to indexWide.
type tokenWord struct {
	open, close, object, colon, comma, plain uint64
	_                                        uint64
	key                                      uint64 // texts that are keys; parse sets it
}

// indexPlain indexes blocks of 64 bytes; see indexBlocks.
func indexPlain(b []byte, words []blockWord, at []uint32, tokens []tokenWord, c *carry) {
	token := func(j int, char byte, plain bool) {
		w, bit := &tokens[c.tokens>>6], uint64(1)<<(c.tokens&63)
		if bit == 1 {
			*w = tokenWord{}
		}
		switch {
		case plain:
			w.plain |= bit
		case char == '{' || char == '[':
			w.open |= bit
		case char == '}' || char == ']':
			w.close |= bit
		case char == ':':
			w.colon |= bit
		case char == ',':
			w.comma |= bit
		}
		if char&0x20 != 0 {
			w.object |= bit
		}
		at[c.tokens] = uint32(c.base) + uint32(j)
		c.tokens++
	}
	for k := range words {
		words[k] = blockWord{}
		for j, char := range b[64*k : min(64*k+64, len(b))] {
			bit := uint64(1) << j
			class := byteClass[char]
			if char >= 0x80 {
				c.high = 1
			}
			escaped := c.skip == 1
			c.skip = 0
			if c.hex&1 == 1 {
				c.wrong |= uint64(noHex[char])
			}
			c.hex >>= 1
			if escaped {
				c.wrong |= uint64(escapeOf[char] & wrongEscape)
				c.hex |= 15 * uint64(escapeOf[char]&hexEscape)
			}
			if class&isEscape != 0 && !escaped {
				words[k].escapes |= bit
				c.escapes, c.skip = 1, 1
			}
			isString := c.inside != 0
			was := c.token
			c.token = 0
			switch {
			case class&isQuote != 0 && !escaped:
				words[k].quotes |= bit
				if c.inside = ^c.inside; c.inside != 0 {
					token(j, char, false)
				}
			case isString:
				if class&isControl != 0 {
					c.wrong = 1
				}
			case class&isMark != 0:
				token(j, char, false)
			case class&isBlank != 0:
			default:
				if class&isControl != 0 {
					c.wrong = 1
				}
				words[k].plain |= bit
				if was == 0 {
					token(j, char, true)
				}
				c.token = 1
			}
		}
		if len(b) < 64*k+64 { // blanks follow
			c.wrong |= c.skip | c.hex
			c.token, c.skip, c.hex = 0, 0, 0
		}
		c.base += 64
	}
}

// jsonIndex holds where the tokens of a message begin.
type jsonIndex struct {
	carry
	from    int // where the message begins in its buffer
	words   []blockWord
	at      []uint32    // where tokens begin, from the beginning of the message: marks, strings, numbers, words
	tokens  []tokenWord // what they are
	keys    []uint32    // a stack: the tokens of the keys of the object that is being read, and of those around it
	top     int         // of keys
	odd     []uint32    // a stack: those of them that may be used, and have escapes
	odds    int         // of odd
	key     []byte      // a key without its escapes
	longest int         // what at has room for
}

// build indexes the message in buf[from:to]. It says false where a string is not closed, or has control characters or
// wrong escapes.
func (x *jsonIndex) build(buf []byte, from, to int) bool {
	size := to - from
	if need := size + 64 + 16; x.longest < need {
		x.at, x.keys, x.odd, x.longest = make([]uint32, need), make([]uint32, need), make([]uint32, need), need
		x.words, x.tokens = make([]blockWord, size/64+1), make([]tokenWord, need/64+2)
	}
	x.from, x.carry, x.tokens[0] = from, carry{}, tokenWord{}
	if blocks := (size + 63) / 64; from+64*blocks <= cap(buf) {
		indexBlocks(buf[from:to], x.words[:blocks], x.at, x.tokens, &x.carry)
	} else {
		whole := size / 64
		indexBlocks(buf[from:from+64*whole], x.words[:whole], x.at, x.tokens, &x.carry)
		var tail [64]byte
		n := copy(tail[:], buf[from+64*whole:to])
		indexBlocks(tail[:n], x.words[whole:blocks], x.at, x.tokens, &x.carry)
	}
	return x.inside == 0 && x.wrong == 0 && x.carry.tokens < 1<<24
}

// parse checks that the tokens are one object, and that its numbers and words are right. It notes
// the keys of the outermost object.
//
// All but the brackets is checked 64 tokens at a time: what may follow what, and whether a key or an element says that
// it stands in an object or in an array. Then the brackets are walked over, to see that they pair and that what
// stands between them is in the right kind.
func (x *jsonIndex) parse(buf []byte) bool {
	n := int(x.carry.tokens)
	if n == 0 || x.tokens[0].open&x.tokens[0].object&1 == 0 {
		return false
	}
	words := x.tokens[:(n+63)/64]
	if words[len(words)-1].close>>((n-1)&63)&1 == 0 {
		return false
	}
	x.top, x.odds = 0, 0
	var wrong uint64
	// The last bits of the word before.
	var colon, comma, brace, bracket, key, ended uint64
	first, whole := uint64(1), 0
	stack, over := uint64(1), uint64(0) // a bit for each level that is open, the innermost lowest: 1 for an object; above them a 1
	for i := range words {
		w := &words[i]
		valid, ahead := ^uint64(0), uint64(0)
		if i == len(words)-1 {
			valid >>= -n & 63
		} else {
			ahead = words[i+1].colon << 63
		}
		texts := valid &^ (w.open | w.close | w.colon | w.comma | w.plain)
		isKey := texts & (w.colon>>1 | ahead)
		w.key = isKey
		scalar := texts&^isKey | w.plain
		begins, ends := scalar|w.open, scalar|w.close
		braces, brackets := w.open&w.object, w.open&^w.object
		afterComma, afterBrace, afterBracket := w.comma<<1|comma, braces<<1|brace, brackets<<1|bracket
		afterColon, afterKey, afterEnd := w.colon<<1|colon, isKey<<1|key, ends<<1|ended
		comma, brace, bracket, colon, key, ended = w.comma>>63, braces>>63, brackets>>63, w.colon>>63, isKey>>63, ends>>63
		wrong |= isKey&^(afterBrace|afterComma) | begins&^(afterColon|afterComma|afterBracket|first) | w.colon&^afterKey |
			w.comma&^afterEnd | w.close&^(afterEnd|afterBrace|afterBracket)
		first = 0
		element := begins & afterComma

		var used uint64 // what lies in the outermost object
		done := uint64(0)
		for m := w.open | w.close; m != 0; m &= m - 1 {
			upTo := m ^ (m - 1)
			between := upTo &^ done
			done = upTo
			outOfPlace := isKey
			if stack&1 != 0 {
				outOfPlace = element
			}
			wrong |= outOfPlace & between
			if stack>>1 != 1 {
				between = 0
			}
			used |= between
			at := bits.TrailingZeros64(m) & 63
			opens, object := w.open>>at&1, w.object>>at&1
			wrong |= (stack ^ object) &^ opens & 1
			pushed := stack<<1 | object
			stack >>= 1
			if opens != 0 {
				stack = pushed
			}
			over |= stack
			if stack == 1 {
				whole++
			}
		}
		outOfPlace := isKey
		if stack&1 != 0 {
			outOfPlace = element
		}
		wrong |= outOfPlace &^ done
		if stack>>1 == 1 {
			used |= ^done
		}
		x.note(used&isKey, i)
	}
	if wrong != 0 || stack != 1 || whole != 1 || over>>63 != 0 {
		return false
	}
	buf = buf[x.from:]
	for i := range words {
		for m := words[i].plain; m != 0; m &= m - 1 {
			if !x.plainFits(buf, int(x.at[64*i+bits.TrailingZeros64(m)])) {
				return false
			}
		}
	}
	return true
}

// note puts keys of word i onto the stack.
func (x *jsonIndex) note(keys uint64, i int) {
	n := x.top
	for ; keys != 0; keys &= keys - 1 {
		x.keys[n] = uint32(64*i + bits.TrailingZeros64(keys))
		n++
	}
	x.top = n
}

// noteObject puts the keys of the object at token k onto the stack.
func (x *jsonIndex) noteObject(k int) {
	k++
	ahead := ^uint64(0) << (k & 63)
	for i, deep := k>>6, 1; ; i, ahead = i+1, ^uint64(0) {
		w := &x.tokens[i]
		for m := (w.open | w.close) & ahead; m != 0; m &= m - 1 {
			upTo := m ^ (m - 1)
			if deep == 1 {
				x.note(w.key&ahead&upTo, i)
			}
			ahead &^= upTo
			if w.open&m&-m != 0 {
				deep++
			} else if deep--; deep == 0 {
				return
			}
		}
		if deep == 1 {
			x.note(w.key&ahead, i)
		}
	}
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
func (x *jsonIndex) plainFits(buf []byte, p int) bool {
	if n := bits.TrailingZeros64(^(x.words[p>>6].plain >> (p & 63))); n <= 8 && n+p&63 < 64 && p+8 <= len(buf) {
		return shortFits(binary.LittleEndian.Uint64(buf[p:]), n)
	}
	switch buf[p] {
	case 't':
		return p+4 < len(buf) && string(buf[p:p+4]) == "true" && byteClass[buf[p+4]]&isEnd != 0
	case 'f':
		return p+5 < len(buf) && string(buf[p:p+5]) == "false" && byteClass[buf[p+5]]&isEnd != 0
	case 'n':
		return p+4 < len(buf) && string(buf[p:p+4]) == "null" && byteClass[buf[p+4]]&isEnd != 0
	}
	state := numBegin
	for _, c := range buf[p:] {
		if state = numberGrammar[(state<<3|digitClass[c])&127]; state >= numRight {
			break
		}
	}
	return state == numRight
}

// one is 1 where a condition holds; no branch is made of it.
func one(condition bool) (n int) {
	if condition {
		n = 1
	}
	return n
}

// shortFits says whether the first n bytes of w, at most eight, are a right number without an exponent, or a word.
func shortFits(w uint64, n int) bool {
	w = w << ((64 - 8*n) & 63) >> ((64 - 8*n) & 63)
	minus := one(byte(w) == '-')
	d, k := w>>(8*minus&63), n-minus
	// A byte is marked where it is no digit: where the upper half is not 3, or the lower one above 9.
	x := d ^ '0'*ones
	other := (x | (x&^highs + 0x76*ones)) & highs & (^uint64(0) >> ((64 - 8*k) & 63))
	whole := bits.TrailingZeros64(other) >> 3
	fraction := one(byte(d>>(8*whole&63)) == '.') & one(other&(other-1) == 0) & one(whole > 0) & one(whole+1 < k)
	number := (fraction | one(other == 0)&one(k > 0)) & (one(byte(d) != '0') | one(k == 1) | one(whole == 1))
	return number|one(w == 'e'<<24|'u'<<16|'r'<<8|'t')|one(w == 'l'<<24|'l'<<16|'u'<<8|'n')|one(w == 'e'<<32|'s'<<24|'l'<<16|'a'<<8|'f') != 0
}

// Kinds of bytes behind a backslash; 0 is for those that stand alone.
const (
	hexEscape   uint8 = 1
	wrongEscape uint8 = 2
)

var escapeOf, noHex = func() (t, hex [256]uint8) {
	for c := range t {
		t[c], hex[c] = wrongEscape, 1
	}
	for _, c := range `"\/bfnrt` {
		t[c] = 0
	}
	t['u'] = hexEscape
	for _, c := range "0123456789abcdefABCDEF" {
		hex[c] = 0
	}
	return t, hex
}()

// closing is where the string ends whose opening quote is at p.
func (x *jsonIndex) closing(p int) int {
	i := p >> 6
	w := x.words[i].quotes &^ (2<<(p&63) - 1)
	for w == 0 {
		i++
		w = x.words[i].quotes
	}
	return i<<6 + bits.TrailingZeros64(w)
}

// escaped says whether an escape begins in [from, to).
func (x *jsonIndex) escaped(from, to int) bool {
	for i := from >> 6; i <= to>>6; i++ {
		w := x.words[i].escapes
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
	if !x.parse(d.buf[:d.end]) {
		return false
	}
	mark := uint32(d.row + 1)
	if !d.readObject(d.root, 0) || d.complete(mark, n) != nil {
		d.forget(mark)
		return false
	}
	d.pause--
	return true
}

// readObject reads the values of the keys that are used of those that lie on the stack from a place on. Which are, it
// finds out without branches, and then it takes them in the order of the columns: a processor foresees neither which
// key of a message comes next nor what its value is.
func (d *jsonDecoder) readObject(parent *jsonNode, from int) bool {
	x := &d.index
	found, aside := parent.found, len(parent.kids)
	odd, odds, twice := x.odds, x.odds, 0
	for _, k := range x.keys[from:x.top] {
		w := keyWord(d.buf[x.from+int(x.at[k])+1:])
		e := &parent.byKey[parent.slot(w)]
		hit := one(e.word == w)
		to := aside + (e.kid-aside)*hit
		if e.slow {
			to = parent.kidAt(d.buf[x.from+int(x.at[k])+1:])
			hit = one(to != aside)
		}
		twice |= one(found[to] != 0) & hit
		found[to] = k
		if x.escapes != 0 {
			x.odd[odds] = k
			odds += int(parent.begins[byte(w)]) &^ hit
		}
	}
	x.odds = odds
	ok := twice == 0
	for i, node := range parent.kids {
		k := int(found[i]) // the first token is no key
		found[i] = 0
		if k != 0 && ok {
			ok = d.readField(k+2, node)
		}
	}
	for _, k := range x.odd[odd:odds] {
		if node := d.escapedKid(parent, int(x.at[k])); node != nil && ok {
			ok = d.readField(int(k)+2, node)
		}
	}
	x.odds = odd
	return ok
}

// escapedKid is the node of the key at p, where that has escapes.
func (d *jsonDecoder) escapedKid(parent *jsonNode, p int) *jsonNode {
	x := &d.index
	end := x.closing(p)
	if !x.escaped(p, end) {
		return nil
	}
	x.key, _ = unescape(x.key[:0], d.buf[x.from+p+1:x.from+end])
	return parent.kidAmong(x.key)
}

// readField reads the value at token k.
func (d *jsonDecoder) readField(k int, node *jsonNode) bool {
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
		from := x.top
		x.noteObject(k)
		ok := d.readObject(node, from)
		x.top = from
		return ok
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
	switch w, bit := &x.tokens[k/64], uint64(1)<<(k&63); {
	case w.plain&bit != 0:
		for byteClass[buf[p]]&isEnd == 0 {
			p++
		}
		return p
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

// keyEntry is the key of a slot.
type keyEntry struct {
	word uint64 // its first eight bytes with the quote behind them, and zeros
	kid  int    // which of the kids it is
	slow bool   // there are several, or it is longer than a word
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

// slot is where keys of a word are among those of the node.
func (n *jsonNode) slot(word uint64) uint64 { return word * n.mul >> 58 }

// kidAt is the kid whose key, without escapes, stands at the beginning of b, its closing quote behind it; the number of
// kids where it is none.
func (n *jsonNode) kidAt(b []byte) int {
	for i, c := range n.kids {
		if c.heads(b) {
			return i
		}
	}
	return len(n.kids)
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

// spread fills the slots of the node and those below.
func (n *jsonNode) spread() {
	for _, c := range n.kids {
		if c.row >= 0 {
			c.spread()
		}
	}
	n.begins['\\'] = 1
	for _, c := range n.kids {
		if c.key != "" {
			n.begins[c.key[0]] = 1
		}
	}
	// A factor that puts no two keys into one slot, where one is found.
	n.mul = 0x9e3779b97f4a7c15
	n.found = make([]uint32, len(n.kids)+1)
	for range 64 {
		n.byKey = [64]keyEntry{}
		shared := 0
		for i, c := range n.kids {
			if strings.ContainsAny(c.key, `"\`) {
				continue // written with an escape, and found by that
			}
			w := keyWord([]byte(c.key + `"`))
			e := &n.byKey[n.slot(w)]
			if e.word != 0 {
				shared, e.slow = shared+1, true
			}
			e.word, e.kid, e.slow = w, i, e.slow || len(c.key) >= 8
		}
		if shared == 0 {
			break
		}
		n.mul = n.mul*0xd1342543de82ef95 | 1
	}
}
