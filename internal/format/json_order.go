package format

import "math/bits"

// order checks that the tokens are one object, and notes the keys of that.
func (x *jsonIndex) order() bool {
	n := int(x.carry.count)
	if n == 0 || x.tokens[0].open&x.tokens[0].letter&1 == 0 {
		return false
	}
	words := x.tokens[:(n+63)/64]
	if words[len(words)-1].close>>((n-1)&63)&1 == 0 {
		return false
	}
	brackets, ok := x.follow(words, n)
	if !ok || !x.pair(brackets) {
		return false
	}
	x.noteOutermost(words)
	return true
}

// follow checks, 64 tokens at a time, what may follow what. Then it looks at the brackets with the commas between them
// alone, each of which says in what it stands: in an object where a key follows, else in an array. Of two neighbours
// where nothing is closed between, both must say the same. It says how many brackets there are, and leaves them to pair.
func (x *jsonIndex) follow(words []tokenWord, n int) (count int, ok bool) {
	last := ^uint64(0) >> (-n & 63) // what the last word has
	var wrong uint64
	// The last bits of the word before.
	var colon, comma, brace, bracket, key, ended uint64
	first := uint64(1)
	var object, closed uint64 // the last of the brackets and commas before: in an object, one that closes
	x.brackets[0] = bracketWord{}
	for i := range words {
		w := &words[i]
		colonAhead, keyAhead, valid := uint64(0), uint64(0), last
		if i < len(words)-1 {
			y := &words[i+1]
			colonAhead, valid = y.colon<<63, ^uint64(0)
			keyAhead = y.colon >> 1 &^ (y.open | y.close | y.colon | y.comma | y.plain) << 63
		}
		w.key = valid &^ (w.open | w.close | w.colon | w.comma | w.plain) & (w.colon>>1 | colonAhead)
		scalar := valid &^ (w.open | w.close | w.colon | w.comma | w.key)
		begins, ends := scalar|w.open, scalar|w.close
		braces, brackets := w.open&w.letter, w.open&^w.letter
		afterComma, afterBrace, afterBracket := w.comma<<1|comma, braces<<1|brace, brackets<<1|bracket
		afterColon, afterKey, afterEnd := w.colon<<1|colon, w.key<<1|key, ends<<1|ended
		comma, brace, bracket, colon, key, ended = w.comma>>63, braces>>63, brackets>>63, w.colon>>63, w.key>>63, ends>>63
		wrong |= w.key&^(afterBrace|afterComma) | begins&^(afterColon|afterComma|afterBracket|first) | w.colon&^afterKey |
			w.comma&^afterEnd | w.close&^(afterEnd|afterBrace|afterBracket)
		first = 0

		// Brackets and commas.
		both := w.open | w.close
		objects, opens, closes, _ := extract(both|w.comma, both&w.letter|w.comma&(w.key>>1|keyAhead), w.open, w.close, 0)
		many := bits.OnesCount64(both | w.comma)
		kept := ^uint64(0) >> (-many & 63)
		commas := kept &^ (opens | closes)
		wrong |= (objects ^ (objects<<1 | object)) & kept &^ opens &^ (closes<<1 | closed)

		// Brackets, and what a comma says that follows one that closes.
		word, before := &x.brackets[count>>6], &x.brackets[(count-int(closed))>>6]
		behind := closed & commas << ((count - 1) & 63)
		before.says |= behind
		before.saysObject |= behind & -(objects & 1)
		object, closed = objects>>((many-1)&63)&1, closes>>((many-1)&63)&1
		says := commas >> 1 & closes
		opens, objects, says, saysObject := extract(opens|closes, opens, objects, says, says&(objects>>1))
		at := count & 63
		word.opens |= opens << at
		word.objects |= objects << at
		word.says |= says << at
		word.saysObject |= saysObject << at
		rest := 63 - at
		next := &x.brackets[count>>6+1]
		next.opens, next.objects, next.says, next.saysObject = opens>>1>>rest, objects>>1>>rest, says>>1>>rest, saysObject>>1>>rest
		count += bits.OnesCount64(both)
	}
	return count, wrong == 0
}

// noteOutermost puts the keys of the outermost object onto the stack.
func (x *jsonIndex) noteOutermost(words []tokenWord) {
	x.brackets[0].outer |= 1
	outer := uint64(0) // all ones where the last token before lies there
	at := 0
	x.top, x.odds = 0, 0
	for i := range words {
		w := &words[i]
		both := w.open | w.close
		within := x.brackets[at>>6].outer>>(at&63) | x.brackets[at>>6+1].outer<<1<<(63-at&63)
		lies := outer ^ between(within^(within<<1|outer&1), both)
		outer = -(lies >> 63)
		x.outer[i] = lies & w.key
		x.top += bits.OnesCount64(lies & w.key)
		at += bits.OnesCount64(both)
	}
	placeTokens(x.outer[:len(words)], x.keys, 0)
}

// bracketWord has a bit for each of 64 brackets in each class.
type bracketWord struct {
	opens      uint64
	objects    uint64
	says       uint64 // it closes, and a comma follows
	saysObject uint64 // which stands in an object
	outer      uint64 // what follows lies in the outermost object; pair sets it
}

// pair checks that the brackets pair, a run that opens and a run that closes at a time, and that a comma behind one that
// closes stands in the right thing.
func (x *jsonIndex) pair(count int) bool {
	var wrong uint64
	stack, depth, whole := uint64(0), 0, 0 // a bit for each level that is open, the innermost lowest: 1 for an object
	for i := 0; 64*i < count; i++ {
		w := &x.brackets[i]
		n := min(64, count-64*i)
		opens, objects, says, saysObject := w.opens, w.objects, w.says, w.saysObject
		back, outer := bits.Reverse64(objects), uint64(0)
		for at := 0; at < n; {
			run := bits.TrailingZeros64(^(opens >> (at & 63)))
			stack = stack<<(run&63) | back>>(-(at+run)&63)&(1<<(run&63)-1)
			at, depth = at+run, depth+run
			if depth > 60 {
				return false
			}
			if at == n {
				break
			}
			run = min(bits.TrailingZeros64(opens>>(at&63)), n-at)
			wrong |= (stack ^ objects>>(at&63)) & (1<<(run&63) - 1)
			stack >>= run & 63
			outer |= one64(depth-run <= 1) << ((at + depth - 2) & 63)
			at, depth = at+run, depth-run
			wrong |= says >> ((at - 1) & 63) & (saysObject>>((at-1)&63) ^ stack) & 1
			if depth <= 0 {
				if depth < 0 {
					return false
				}
				whole++
			}
		}
		w.outer = outer
	}
	return wrong == 0 && depth == 0 && whole == 1
}

func one64(condition bool) uint64 { return uint64(one(condition)) }

// noteObject puts the keys of the object at token k onto the stack.
func (x *jsonIndex) noteObject(k int) {
	k++
	// One that has neither objects nor arrays, and few keys, at once.
	i, at := k>>6, k&63
	w, next := &x.tokens[i], &x.tokens[i+1]
	both := (w.open|w.close)>>at | (next.open|next.close)<<1<<(63-at)
	end := bits.TrailingZeros64(both)
	if (w.close>>at|next.close<<1<<(63-at))>>(end&63)&1 != 0 {
		x.note((w.key>>at|next.key<<1<<(63-at))&(1<<(end&63)-1), k)
		return
	}
	ahead := ^uint64(0) << at
	for deep := 1; ; i, ahead = i+1, ^uint64(0) {
		w := &x.tokens[i]
		for m := (w.open | w.close) & ahead; m != 0; m &= m - 1 {
			upTo := m ^ (m - 1)
			if deep == 1 {
				x.note(w.key&ahead&upTo, 64*i)
			}
			ahead &^= upTo
			if w.open&m&-m != 0 {
				deep++
			} else if deep--; deep == 0 {
				return
			}
		}
		if deep == 1 {
			x.note(w.key&ahead, 64*i)
		}
	}
}

// note puts keys onto the stack, the first bit for the token at.
func (x *jsonIndex) note(keys uint64, at int) {
	n := x.top
	for ; keys != 0; keys &= keys - 1 {
		x.keys[n] = uint32(at + bits.TrailingZeros64(keys))
		n++
	}
	x.top = n
}
