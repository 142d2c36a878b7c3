package format

import (
	"encoding/binary"
	"math/bits"
	"strings"

	"fiume/internal/core/types"
)

// indexed reads one message by its index. Where it says false nothing is decided yet.
func (d *jsonDecoder) indexed(from, n int) bool {
	x := &d.index
	if !x.build(d.buf, from, d.end) || !x.order() || !x.numbersFit(d.buf[from:d.end]) {
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
	text, byKey := d.buf[x.from:], &parent.byKey
	for _, k := range x.keys[from:x.top] {
		w := keyWord(text[x.at[k]+1:])
		e := &byKey[parent.slot(w)]
		hit := one(e.word == w)
		to := aside + (e.kid-aside)&-hit
		if e.slow {
			to = parent.kidAt(text[x.at[k]+1:])
			hit = one(to != aside)
		}
		twice |= one(found[to] != 0) & hit
		found[to] = k
		if x.escapes != 0 {
			// An escape lies in the word, or behind it.
			b := w ^ '\\'*ones
			odd := one((b-ones)&^b&highs != 0) | one(w>>56 != 0)
			x.odd[odds] = k
			odds += int(parent.begins[byte(w)]) & odd &^ hit
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
	if !x.marked(markEscape, p, end) {
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
		q := p + 1 - x.from
		n := bits.TrailingZeros64(x.window(markQuote, q))
		if n == 64 {
			n = x.closing(q-1) - q
			return d.setText(node.leaf, p+1, p+1+n, x.marked(markEscape, q, q+n), x.marked(markHigh, q, q+n)) == ""
		}
		within := uint64(1)<<n - 1
		return d.setText(node.leaf, p+1, p+1+n, x.window(markEscape, q)&within != 0, x.window(markHigh, q)&within != 0) == ""
	case c == '-' || c-'0' <= 9:
		if d.shortNumber(node.leaf, p) {
			return true
		}
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

// shortNumber reads the number at p, which is right, where it has few digits.
func (d *jsonDecoder) shortNumber(k, p int) bool {
	l := &d.leaves[k]
	if p+24 > len(d.buf) || l.typ.Kind != types.Double && l.typ.Kind != types.BigInt {
		return false
	}
	neg := one(d.buf[p] == '-')
	p += neg
	w := binary.LittleEndian.Uint64(d.buf[p:])
	digits := digitsIn(w)
	mant, frac := parseDigits(w, digits), 0
	p += digits
	if d.buf[p] == '.' {
		w = binary.LittleEndian.Uint64(d.buf[p+1:])
		frac = digitsIn(w)
		mant = mant*whole10[frac] + parseDigits(w, frac)
		p += 1 + frac
	}
	if c := d.buf[p]; c|0x20 == 'e' || c-'0' <= 9 { // more digits, or an exponent
		return false
	}
	if l.typ.Kind == types.Double {
		x, ok := exactDouble(mant, frac, neg == 1)
		if !ok {
			return false
		}
		l.vec.F[d.row] = x
	} else {
		if frac > 0 {
			return false
		}
		l.vec.I[d.row] = (int64(mant) ^ -int64(neg)) + int64(neg)
	}
	d.set(k)
	return true
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
