package format

import (
	"encoding/binary"
	"math"
	"math/bits"
	"unicode/utf8"
	"unsafe"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// layouts is what the decoder has learnt about how messages are written.
type layouts struct {
	known    []*layout // most recently used first
	learning bool      // the general scan notes where values stand
	noLayout bool      // the message at hand cannot be learnt from
	segs     []segment // noted so far
	last     int       // end of the value noted last
	hits     int
	misses   int
	pause    int // messages to read before learning again
	rest     int // how many these were the last time
	shapes   [shapeLengths]shapes
}

const keptLayouts = 4

// segKind says how a value is read.
type segKind uint8

const (
	segText   segKind = iota // the text before it ends with the quote
	segNumber                //
	segWord                  // true or false
	segAny                   // an array nobody uses
	segDeep                  // a value with parts
)

// segment is the text before a value, and the value.
type segment struct {
	from, to int // the text, while learning
	first    litWord
	second   litWord   // masked out where the text is short
	more     []litWord // of a text longer than sixteen bytes
	size     int
	kind     segKind
	leaf     int // -1: skipped
	typ      types.Kind
}

// litWord compares up to eight bytes at once.
type litWord struct{ value, mask uint64 }

type layout struct {
	segs   []segment
	absent []int // leaves that have no value in this layout
	nulls  []int // ROWs that are not there
}

// begin prepares to learn from a message read by the general scan.
func (d *jsonDecoder) begin() {
	d.noLayout = false
	d.segs = d.segs[:0]
	d.last = -1
	if d.pause > 0 {
		d.pause--
		d.learning = false
		return
	}
	d.learning = true
}

// noteValue notes a value in [from, to).
func (d *jsonDecoder) noteValue(from, to int, kind segKind, leaf int) {
	if !d.learning {
		return
	}
	d.segs = append(d.segs, segment{from: d.last, to: from, kind: kind, leaf: leaf})
	d.last = to
}

// learn makes a layout of the message that began at from.
func (d *jsonDecoder) learn(from int) {
	if !d.learning {
		return
	}
	d.misses++
	if d.misses >= 64 {
		if d.hits < 4*d.misses { // not worth it: the messages have no fixed form
			d.rest = min(max(2*d.rest, 4096), 1<<16)
			d.pause = d.rest
			d.known = nil
		}
		if d.hits >= 4*d.misses {
			d.rest = 0
		}
		d.hits, d.misses = 0, 0
	}
	if d.noLayout || len(d.segs) == 0 || len(d.segs) > 200 {
		return
	}
	l := &layout{}
	given := map[int]bool{}
	d.segs[0].from = from
	for i, s := range d.segs {
		if given[s.leaf] {
			return // a repeated key
		}
		if s.leaf >= 0 {
			given[s.leaf] = true
			s.typ = d.leaves[s.leaf].typ.Kind
		}
		s.text(d.buf[s.from:s.to])
		d.segs[i] = s
	}
	l.segs = append(l.segs, d.segs...)
	tail := segment{kind: segAny, leaf: -1}
	tail.text(d.buf[d.last:d.end])
	l.segs = append(l.segs, tail)
	for k := range d.leaves {
		if d.leaves[k].vec != nil && !given[k] {
			l.absent = append(l.absent, k)
		}
	}
	for k := range d.rows {
		if d.rowSet[k] != uint32(d.row+1) {
			l.nulls = append(l.nulls, k)
		}
	}
	if len(d.known) < keptLayouts {
		d.known = append(d.known, nil)
	}
	copy(d.known[1:], d.known)
	d.known[0] = l
}

// text sets the text before the value.
func (g *segment) text(s []byte) {
	g.size = len(s)
	word := func() (w litWord) {
		var b [8]byte
		if n := copy(b[:], s); n > 0 {
			w = litWord{binary.LittleEndian.Uint64(b[:]), ^uint64(0) >> (64 - 8*n)}
			s = s[n:]
		}
		return w
	}
	g.first, g.second, g.more = word(), word(), nil
	for len(s) > 0 {
		g.more = append(g.more, word())
	}
}

// fast reads one message, data[from:to], by the layouts known. False says nothing about the message
// but that the general scan must read it.
func (d *jsonDecoder) fast(data []byte, from, to, n int) bool {
	if d.byShape(data, from, to, n) {
		d.hits++
		return true
	}
	for k, l := range d.known {
		if d.byLayout(l, data, from, to, n) {
			d.hits++
			d.learnShape(l, data, from, to)
			if k > 0 {
				copy(d.known[1:k+1], d.known[:k])
				d.known[0] = l
			}
			return true
		}
	}
	return false
}

const (
	ones  = 0x0101010101010101
	highs = 0x8080808080808080
)

// at1 is at8 for one byte.
func at1(p unsafe.Pointer, i int) byte { return *(*byte)(unsafe.Add(p, i)) }

// digitsIn counts the digits that eight bytes begin with. A byte above 9 once '0' is taken away carries
// into its high bit; a carry from a byte beyond can only mark bytes behind the first mark.
func digitsIn(w uint64) int {
	x := w ^ 0x30*ones
	return bits.TrailingZeros64((x+0x76*ones|x)&highs) >> 3
}

// parseDigits reads the first n of eight bytes as a number, which are digits, by adding neighbours in
// three steps (D. Lemire, Quickly parsing eight digits, 2018).
func parseDigits(w uint64, n int) uint64 {
	x := (w ^ 0x30*ones) << (64 - 8*n)
	x = x*10 + x>>8
	return ((x&0x000000ff000000ff)*0x000f424000000064 + (x>>16&0x000000ff000000ff)*0x0000271000000001) >> 32
}

var whole10 = [...]uint64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8}

// longNumber reads a number with more digits than fit the fast way. Where skip is set it may have any
// form; else it has at most 18 digits and no exponent.
func (d *jsonDecoder) longNumber(from int, skip bool) (end int, mant uint64, frac int, ok bool) {
	end, _, ok = d.number(from)
	if !ok || skip {
		return end, 0, 0, ok
	}
	dot, digits := false, 0
	for _, c := range d.buf[from:end] {
		switch {
		case c == '.':
			dot = true
		case c == '-':
		case c|0x20 == 'e':
			return end, 0, 0, false
		default:
			mant = mant*10 + uint64(c-'0')
			digits++
			if dot {
				frac++
			}
		}
	}
	return end, mant, frac, digits <= 18
}

// special marks the bytes of w that are a quote, a backslash, a control character or not ASCII. The
// lowest mark is exact; higher ones may be false (zero-byte test: Warren, Hacker's Delight, 6-1).
func special(w uint64) uint64 { return specialASCII(w) | w&highs }

// specialASCII is special without the bytes that are not ASCII.
func specialASCII(w uint64) uint64 {
	// With its second bit turned a quote is 0x20, and control characters stay below that.
	q := w ^ 0x02*ones
	b := w ^ 0x5c*ones
	return ((q-0x21*ones)&^q | (b-ones)&^b) & highs
}

// exactDouble gives mant / 10^frac where that is exact: a mantissa below 2^53 and a power of ten up to
// 22 are doubles, so their quotient is rounded once, as it must be (Clinger, How to Read Floating
// Point Numbers Accurately, 1990).
func exactDouble(mant uint64, frac int, neg bool) (float64, bool) {
	if mant >= 1<<53 || frac >= len(exact10) {
		return 0, false
	}
	x := float64(mant)
	if frac > 0 {
		x /= exact10[frac]
	}
	if neg {
		x = -x
	}
	return x, true
}

// at8 reads eight bytes. The caller knows that they are there: no check is made.
func at8(p unsafe.Pointer, i int) uint64 {
	return binary.LittleEndian.Uint64(unsafe.Slice((*byte)(unsafe.Add(p, i)), 8))
}

func (d *jsonDecoder) byLayout(l *layout, data []byte, i, to, n int) bool {
	row := d.row
	limit := len(data) - 16 // sixteen bytes can be read up to here
	if limit < 0 {
		return false
	}
	p := unsafe.Pointer(unsafe.SliceData(data))
	for s := range l.segs {
		seg := &l.segs[s]
		if i > limit || (at8(p, i)^seg.first.value)&seg.first.mask|(at8(p, i+8)^seg.second.value)&seg.second.mask != 0 {
			return false
		}
		for k, w := range seg.more {
			if at := i + 16 + 8*k; at > limit || (at8(p, at)^w.value)&w.mask != 0 {
				return false
			}
		}
		i += seg.size
		if i > limit {
			return false
		}
		from := i
		switch seg.kind {
		case segText:
			// An instant of the usual length is read at once: its form leaves no room for a mark.
			if seg.typ == types.Timestamp && seg.leaf >= 0 && i+24 <= limit && at1(p, i+24) == '"' {
				if x, ok := d.times.Parse(data[i : i+24]); ok {
					vec := d.leaves[seg.leaf].vec
					vec.I[row] = x
					if vec.Nulls != nil {
						vec.Nulls[row] = false
					}
					i += 25
					continue
				}
			}
			for {
				if i > limit {
					return false
				}
				if m := special(at8(p, i)); m != 0 {
					i += bits.TrailingZeros64(m) >> 3
					break
				}
				i += 8
			}
			if data[i] != '"' {
				if data[i] < 0x80 { // an escape, or not valid
					return false
				}
				for ; data[i] != '"'; i++ {
					if data[i] < 0x20 || data[i] == '\\' || i > limit {
						return false
					}
				}
				if seg.leaf >= 0 && !utf8.Valid(data[from:i]) {
					return false
				}
			}
			i++
			if seg.leaf < 0 {
				continue
			}
			vec := d.leaves[seg.leaf].vec
			switch seg.typ {
			case types.Varchar:
				vec.S[row] = column.Str{Off: uint32(from), Len: uint32(i - 1 - from)}
			case types.Timestamp:
				x, ok := d.times.Parse(data[from : i-1])
				if !ok {
					return false
				}
				vec.I[row] = x
			case types.Date:
				x, ok := types.ParseDate(data[from : i-1])
				if !ok {
					return false
				}
				vec.I[row] = x
			default:
				if d.setText(seg.leaf, from, i-1, false, false) != "" {
					return false
				}
			}
			if vec.Nulls != nil {
				vec.Nulls[row] = false
			}
		case segNumber:
			neg := at1(p, i) == '-'
			if neg {
				i++
			}
			// Digits before the point and behind it are found and read eight at a time.
			w := at8(p, i)
			digits := digitsIn(w)
			if digits == 0 || digits > 1 && byte(w) == '0' {
				return false
			}
			used := seg.leaf >= 0
			mant, frac := uint64(0), 0
			if used {
				mant = parseDigits(w, digits)
			}
			if i += digits; at1(p, i) == '.' {
				if i++; i > limit {
					return false
				}
				w = at8(p, i)
				if frac = digitsIn(w); frac == 0 {
					return false
				}
				if used {
					mant = mant*whole10[frac] + parseDigits(w, frac)
				}
				i += frac
			}
			if c := at1(p, i); c|0x20 == 'e' || c-'0' <= 9 || c == '.' { // an exponent, or more digits
				end, x, f, ok := d.longNumber(from, !used)
				if !ok {
					return false
				}
				i, mant, frac = end, x, f
			}
			if !used {
				continue
			}
			vec := d.leaves[seg.leaf].vec
			if seg.typ == types.Double {
				x, ok := exactDouble(mant, frac, neg)
				if !ok {
					return false
				}
				vec.F[row] = x
			} else if seg.typ == types.Decimal {
				x, ok := exactDecimal(string(data[from:i]), vec.Type)
				if !ok {
					return false
				}
				vec.D[row] = x
			} else {
				if frac > 0 {
					return false
				}
				x := int64(mant)
				if neg {
					x = -x
				}
				if seg.typ == types.Int && (x < math.MinInt32 || x > math.MaxInt32) {
					return false
				}
				vec.I[row] = x
			}
			if vec.Nulls != nil {
				vec.Nulls[row] = false
			}
		case segWord:
			w := at8(p, i)
			var v bool
			switch {
			case uint32(w) == 't'|'r'<<8|'u'<<16|'e'<<24:
				v = true
				i += 4
			case w&(1<<40-1) == 'f'|'a'<<8|'l'<<16|'s'<<24|'e'<<32:
				i += 5
			case uint32(w) == 'n'|'u'<<8|'l'<<16|'l'<<24 && seg.leaf < 0:
				i += 4
			default:
				return false
			}
			if seg.leaf >= 0 {
				vec := d.leaves[seg.leaf].vec
				vec.B[row] = v
				if vec.Nulls != nil {
					vec.Nulls[row] = false
				}
			}
		case segDeep:
			if data[i] == 'n' { // NULL is no part of a layout: the general scan knows what it means here
				return false
			}
			end, ok := d.skip(i, 1, n)
			if !ok || d.setDeep(seg.leaf, i, end, n) != "" {
				return false
			}
			i = end
		case segAny:
			if s == len(l.segs)-1 {
				break
			}
			if data[i] != '[' {
				return false
			}
			end, ok := d.array(i, 1, n)
			if !ok {
				return false
			}
			i = end
		}
	}
	if i != to {
		return false
	}
	for _, k := range l.absent {
		d.leaves[k].vec.Set(row, n, types.Value{})
	}
	for _, k := range l.nulls {
		d.rows[k].vec.SetNull(row, n)
	}
	return true
}

var exact10 = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}
