package format

import (
	"math/bits"

	"fiume/internal/core/types"
)

// Messages without a fixed form are read in two passes, after G. Langdale and D. Lemire, Parsing
// Gigabytes of JSON per Second, VLDB Journal 28 (2019), sections 3.1 and 3.2: the first turns 64 bytes at a
// time into bits by class and notes where tokens begin, without a branch that depends on the text; the
// second walks over those places.
//
// The walk accepts only what it is sure of. What it does not take (errors, repeated keys, keys with
// escapes, values of the wrong type) the general scan reads anew, so that the verdict is always the
// scan's.

// block has 64 bytes' classes, a bit for each.
type block struct {
	quote, escape uint64
	mark          uint64 // { } [ ] : ,
	blank         uint64 // blanks and control characters
	control       uint64 // what may not stand in a string
	wrong         uint64 // control characters that are no blanks either
}

// Classes of bytes.
const (
	isQuote = 1 << iota
	isEscape
	isMark
	isBlank
	isControl
	isWrong
	isEnd = isQuote | isMark | isBlank // what ends a number or a word
)

var byteClass = func() (t [256]uint8) {
	for c := range 0x20 {
		t[c] = isBlank | isControl | isWrong
	}
	t[' '], t['\t'], t['\n'], t['\r'] = isBlank, isBlank|isControl, isBlank|isControl, isBlank|isControl
	t['"'], t['\\'] = isQuote, isEscape
	for _, c := range "{}[]:," {
		t[c] = isMark
	}
	return t
}()

// classifyPlain is classify for processors without wide registers.
func classifyPlain(b []byte, out []block) (high bool) {
	for k := range out {
		var m block
		for j, c := range b[64*k : 64*k+64] {
			t := uint64(byteClass[c])
			m.quote |= t & 1 << j
			m.escape |= t >> 1 & 1 << j
			m.mark |= t >> 2 & 1 << j
			m.blank |= t >> 3 & 1 << j
			m.control |= t >> 4 & 1 << j
			m.wrong |= t >> 5 & 1 << j
			high = high || c >= 0x80
		}
		out[k] = m
	}
	return high
}

// jsonIndex holds where the tokens of a message begin, and where its strings end.
type jsonIndex struct {
	blocks  []block
	at      []uint32
	n       int
	escapes []uint32 // backslashes that begin an escape
	esc     int      // the first of them that may matter yet
	key     []byte   // a key without its escapes
	high    bool     // there are bytes beyond ASCII
}

// build indexes the message in buf[from:to]. It says false where a string is not closed or has control
// characters.
func (x *jsonIndex) build(buf []byte, from, to int) bool {
	if need := to - from + 72; len(x.at) < need {
		x.at = make([]uint32, need)
	}
	at := x.at
	n := 0
	x.escapes, x.esc = x.escapes[:0], 0
	whole := (to - from) / 64
	if need := whole + 1; cap(x.blocks) < need {
		x.blocks = make([]block, need)
	}
	blocks := x.blocks[:whole+1]
	x.high = classify(buf[from:to], blocks[:whole])
	var tail [64]byte
	for j := copy(tail[:], buf[from+64*whole:to]); j < 64; j++ {
		tail[j] = ' '
	}
	x.high = classify(tail[:], blocks[whole:]) || x.high
	var inside, token, skip, wrong uint64 // carried from one block to the next
	for k := range blocks {
		b := &blocks[k]
		i := from + 64*k
		quote, escape, mark, blank := b.quote, b.escape, b.mark, b.blank
		if escape|skip != 0 {
			escaped := skip
			skip = 0
			for e := escape &^ escaped; e != 0; {
				j := bits.TrailingZeros64(e)
				x.escapes = append(x.escapes, uint32(i+j))
				if j == 63 {
					skip = 1
					break
				}
				escaped |= 2 << j
				e &^= 3 << j
			}
			quote &^= escaped
		}
		in := quote
		in ^= in << 1
		in ^= in << 2
		in ^= in << 4
		in ^= in << 8
		in ^= in << 16
		in ^= in << 32
		in ^= inside
		inside = uint64(int64(in) >> 63)
		wrong |= b.control&in | b.wrong
		other := ^(mark | blank | quote | in)
		begins := other &^ (other<<1 | token)
		token = other >> 63
		m := mark&^in | quote | begins
		next := n + bits.OnesCount64(m)
		// Some too many are written, so that the number of marks decides no branch.
		for m != 0 {
			w := (*[4]uint32)(at[n:])
			w[0] = uint32(i + bits.TrailingZeros64(m))
			m &= m - 1
			w[1] = uint32(i + bits.TrailingZeros64(m))
			m &= m - 1
			w[2] = uint32(i + bits.TrailingZeros64(m))
			m &= m - 1
			w[3] = uint32(i + bits.TrailingZeros64(m))
			m &= m - 1
			n += 4
		}
		n = next
	}
	x.n = n
	for j := range 4 { // the opening brace stands where no second one may
		at[n+j] = uint32(from)
	}
	return inside == 0 && wrong == 0 && n > 1
}

// escaped says whether there is an escape in [from, to). It is asked in ascending order.
func (x *jsonIndex) escaped(from, to int) bool {
	for x.esc < len(x.escapes) && int(x.escapes[x.esc]) < from {
		x.esc++
	}
	return x.esc < len(x.escapes) && int(x.escapes[x.esc]) < to
}

// indexed reads one message by its index. Where it says false nothing is decided yet.
func (d *jsonDecoder) indexed(from, n int) bool {
	x := &d.index
	if !x.build(d.buf, from, d.end) {
		return false
	}
	if d.buf[x.at[0]] != '{' {
		return false
	}
	mark := uint32(d.row + 1)
	if k := d.walkObject(0, d.root, 1); k != x.n {
		d.forget(mark)
		return false
	}
	if d.complete(mark, n) != nil {
		d.forget(mark)
		return false
	}
	d.pause--
	return true
}

// deepest is how far the walk goes down; what is nested deeper is left to the general scan.
const deepest = 200

// walkObject reads the object whose brace is token k, and says the token behind it, or -1.
func (d *jsonDecoder) walkObject(k int, node *jsonNode, depth int) int {
	x := &d.index
	if k >= x.n || depth > deepest {
		return -1
	}
	at, buf := x.at, d.buf
	k++
	if buf[at[k]] == '}' {
		return k + 1
	}
	for {
		p := int(at[k])
		if buf[p] != '"' {
			return -1
		}
		end := int(at[k+1])
		if buf[at[k+2]] != ':' {
			return -1
		}
		key := buf[p+1 : end]
		if len(x.escapes) > 0 && x.escaped(p, end) {
			if !x.escapesFit(buf, end) {
				return -1
			}
			if node != nil {
				x.key, _ = unescape(x.key[:0], key)
				key = x.key
			}
		}
		var kid *jsonNode
		if node != nil {
			kid = node.kid(key)
		}
		k += 3
		if c := buf[at[k]]; c == '"' && kid == nil { // the most frequent of what nobody uses
			if p = int(at[k]); len(x.escapes) > 0 && x.escaped(p, int(at[k+1])) && !x.escapesFit(buf, int(at[k+1])) {
				return -1
			}
			k += 2
		} else if k = d.walkValue(k, kid, depth); k < 0 {
			return -1
		}
		switch buf[at[k]] {
		case ',':
			k++
		case '}':
			return k + 1
		default:
			return -1
		}
	}
}

// escapesFit says whether the escapes up to end, which are the next ones, are right.
func (x *jsonIndex) escapesFit(buf []byte, end int) bool {
	for ; x.esc < len(x.escapes) && int(x.escapes[x.esc]) < end; x.esc++ {
		p := int(x.escapes[x.esc]) + 1
		switch c := buf[p]; {
		case c == 'u':
			if p+4 >= end || !isHex(buf[p+1]) || !isHex(buf[p+2]) || !isHex(buf[p+3]) || !isHex(buf[p+4]) {
				return false
			}
		case !escapable[c]:
			return false
		}
	}
	return true
}

var escapable = [256]bool{'"': true, '\\': true, '/': true, 'b': true, 'f': true, 'n': true, 'r': true, 't': true}

// kid is the node of a key, or nil.
func (n *jsonNode) kid(key []byte) *jsonNode {
	if len(key) == 0 {
		return n.kidAmong(key)
	}
	e := &n.byKey[keySlot(key)]
	if e.many {
		return n.kidAmong(key)
	}
	if e.node == nil || e.node.key != string(key) {
		return nil
	}
	return e.node
}

func (n *jsonNode) kidAmong(key []byte) *jsonNode {
	for _, c := range n.kids {
		if c.key == string(key) {
			return c
		}
	}
	return nil
}

// keyEntry is the one key of a slot, or says that there are several.
type keyEntry struct {
	node *jsonNode
	many bool
}

// keySlot spreads keys by their first and last bytes and their length.
func keySlot(key []byte) int {
	return int((key[0]*7+key[len(key)-1])*5+byte(len(key))) & 63
}

// spread fills the slots of the node and those below.
func (n *jsonNode) spread() {
	for _, c := range n.kids {
		if c.spread(); c.key == "" {
			continue
		}
		e := &n.byKey[keySlot([]byte(c.key))]
		e.node, e.many = c, e.node != nil
	}
}

// walkValue reads the value at token k and says the token behind it, or -1.
func (d *jsonDecoder) walkValue(k int, node *jsonNode, depth int) int {
	x := &d.index
	p := int(x.at[k])
	if node != nil && node.leaf >= 0 && node.row < 0 && d.leaves[node.leaf].deep() && d.buf[p] != 'n' {
		return d.walkDeep(k, node, depth)
	}
	switch c := d.buf[p]; {
	case c == '"':
		end := int(x.at[k+1])
		escaped := len(x.escapes) > 0 && x.escaped(p, end)
		if escaped && !x.escapesFit(d.buf, end) {
			return -1
		}
		if node == nil {
			return k + 2
		}
		if !d.takes(node) || d.setText(node.leaf, p+1, end, escaped, x.high) != "" {
			return -1
		}
		return k + 2
	case c == '-' || c-'0' <= 9:
		end, whole, ok := d.number(p)
		if !ok || end < d.end && byteClass[d.buf[end]]&isEnd == 0 {
			return -1
		}
		if node == nil {
			return k + 1
		}
		if !d.takes(node) || d.setNumber(node.leaf, d.buf[p:end], whole) != "" {
			return -1
		}
		return k + 1
	case c == '{':
		if node == nil {
			return d.walkObject(k, nil, depth+1)
		}
		if node.row < 0 || d.rowSet[node.row] == uint32(d.row+1) {
			return -1
		}
		d.rowSet[node.row] = uint32(d.row + 1)
		if node.leaf >= 0 {
			d.seen[node.leaf] = uint32(d.row + 1)
		}
		return d.walkObject(k, node, depth+1)
	case c == '[':
		if node != nil || k >= x.n || depth > deepest {
			return -1
		}
		k++
		if d.buf[x.at[k]] == ']' {
			return k + 1
		}
		for {
			if k = d.walkValue(k, nil, depth+1); k < 0 {
				return -1
			}
			switch d.buf[x.at[k]] {
			case ',':
				k++
			case ']':
				return k + 1
			default:
				return -1
			}
		}
	case c == 'n' || c == 't' || c == 'f':
		w := "null"
		if c == 't' {
			w = "true"
		} else if c == 'f' {
			w = "false"
		}
		end := p + len(w)
		if end > d.end || string(d.buf[p:end]) != w || end < d.end && byteClass[d.buf[end]]&isEnd == 0 {
			return -1
		}
		if node == nil {
			return k + 1
		}
		if c == 'n' { // what was not set is NULL
			if node.leaf >= 0 && d.seen[node.leaf] == uint32(d.row+1) || node.row >= 0 && d.rowSet[node.row] == uint32(d.row+1) {
				return -1
			}
			return k + 1
		}
		if !d.takes(node) || d.leaves[node.leaf].typ.Kind != types.Boolean {
			return -1
		}
		d.leaves[node.leaf].vec.B[d.row] = c == 't'
		d.set(node.leaf)
		return k + 1
	}
	return -1
}

// walkDeep reads a value of a type with parts, or a document.
func (d *jsonDecoder) walkDeep(k int, node *jsonNode, depth int) int {
	next := d.walkValue(k, nil, depth)
	if next < 0 || d.seen[node.leaf] == uint32(d.row+1) {
		return -1
	}
	from, end := int(d.index.at[k]), int(d.index.at[next-1])
	if next == k+1 { // a number or a word
		for end < d.end && byteClass[d.buf[end]]&isEnd == 0 {
			end++
		}
	} else {
		end++
	}
	if d.setDeep(node.leaf, from, end, d.size) != "" {
		return -1
	}
	return next
}

// takes says whether the node is a plain value that has not been set in this message.
func (d *jsonDecoder) takes(node *jsonNode) bool {
	return node.leaf >= 0 && node.row < 0 && d.seen[node.leaf] != uint32(d.row+1)
}
