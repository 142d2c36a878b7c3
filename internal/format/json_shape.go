package format

import (
	"encoding/binary"
	"math"
	"unsafe"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Messages of one layout mostly have values of the same lengths, too: their shape. A shape is checked
// many bytes at a time, without looking for where values begin and end, and then every value stands
// at a known place.
//
// Where a digit stood in the message that the shape was learnt from, any digit may stand, since that
// leaves valid JSON valid, except that a number of several digits does not begin with 0. In a text that
// is used any plain ASCII character may stand. Every other byte must be the same. What does not fit is
// read value by value: a shape decides nothing but that a message is right.

// shapeBlock checks 32 bytes. With y = byte ^ base y must be 0, or from 0 to 9, or from 1 to 9: y + add has a
// high bit where it is greater, y - less one where it is 0 and must not be. Where whole words are added, a carry or
// borrow into the next byte can only refuse what would be right. Its layout is known to the assembly.
type shapeBlock struct{ base, add, less, mask [shapeWidth]byte }

const shapeWidth = 32

// shapeText is eight bytes with characters of a text that is used in them.
type shapeText struct {
	off  int
	mask uint64
}

// shapeValue is a value that is used, and where it stands.
type shapeValue struct {
	off, size    int
	leaf         int
	kind         segKind
	typ          types.Kind
	neg          bool
	digits, frac int
	truth        bool
	vec          *column.Vector
}

type shape struct {
	size   int
	blocks []shapeBlock
	texts  []shapeText
	values []shapeValue
	absent []int
	nulls  []int
	hits   uint32
}

// shapes are those of messages of one length (modulo shapeLengths).
type shapes struct {
	first, second *shape
	unknown       uint32 // messages that fitted neither
}

const shapeLengths = 512

// newShape makes the shape of a message that a layout has read. ok is false where a value has no shape.
func (d *jsonDecoder) newShape(l *layout, data []byte, from, to int) (s *shape, ok bool) {
	text := data[from:to]
	s = &shape{size: len(text), absent: l.absent, nulls: l.nulls}
	inText := make([]bool, len(text)) // characters of texts that are used
	i := from
	for _, seg := range l.segs[:len(l.segs)-1] {
		i += seg.size
		v := shapeValue{off: i - from, leaf: seg.leaf, kind: seg.kind, typ: seg.typ}
		switch seg.kind {
		case segText:
			end, escaped, _, fine := d.text(i - 1)
			if !fine || escaped {
				return nil, false
			}
			v.size = end - i
			if seg.leaf >= 0 && seg.typ == types.Varchar {
				for j := v.off; j < v.off+v.size; j++ {
					inText[j] = true
				}
			}
			i = end + 1
		case segNumber:
			end, _, fine := d.number(i)
			if !fine {
				return nil, false
			}
			v.size = end - i
			at := &v.digits
			for _, c := range data[i:end] {
				switch {
				case c == '-':
					v.neg = true
				case c == '.':
					at = &v.frac
				case c|0x20 == 'e' || c == '+':
					return nil, false
				default:
					*at++
				}
			}
			if seg.leaf >= 0 && (v.digits > 8 || v.frac > 8 || v.digits+v.frac > 15) {
				return nil, false
			}
			i = end
		case segWord:
			v.truth = data[i] == 't'
			for i < to && data[i] >= 'a' && data[i] <= 'z' {
				i++
			}
		default: // arrays and values with parts have no fixed length
			return nil, false
		}
		if seg.leaf >= 0 {
			v.vec = d.leaves[seg.leaf].vec
			s.values = append(s.values, v)
		}
	}
	s.compile(text, inText)
	return s, true
}

// compile makes the words that check the text.
func (s *shape) compile(text []byte, inText []bool) {
	quoted, number, escaped := false, false, false
	var plain [8]byte
	s.blocks = make([]shapeBlock, (len(text)+shapeWidth-1)/shapeWidth)
	for i, c := range text {
		b, k := &s.blocks[i/shapeWidth], i%shapeWidth
		b.base[k], b.add[k], b.mask[k], plain[i&7] = c, 0x7f, 0x80, 0
		if c == '"' && !escaped {
			quoted = !quoted
		}
		escaped = c == '\\' && !escaped
		digit := c >= '0' && c <= '9'
		switch {
		case inText[i]:
			b.add[k], b.mask[k], plain[i&7] = 0, 0, 0x80
		case digit:
			b.base[k], b.add[k] = '0', 0x76
			if !quoted && !number && i+1 < len(text) && text[i+1] >= '0' && text[i+1] <= '9' {
				b.less[k] = 1
			}
		}
		// A point or an exponent goes on with a number, in which zeros may lead.
		number = !quoted && (digit || number && (c == '.' || c|0x20 == 'e' || c == '+' || c == '-'))
		if i&7 == 7 || i == len(text)-1 {
			if m := binary.LittleEndian.Uint64(plain[:]); m != 0 {
				s.texts = append(s.texts, shapeText{i &^ 7, m})
			}
			plain = [8]byte{}
		}
	}
}

// fits checks the text at i. The caller knows that whole blocks can be read.
func (s *shape) fits(p unsafe.Pointer, i int) bool {
	bad := checkBlocks(unsafe.Add(p, i), s.blocks)
	for _, t := range s.texts {
		bad |= special(at8(p, i+t.off)) & t.mask
	}
	return bad == 0
}

// checkBlocksPlain gives 0 where the bytes at p fit the blocks.
func checkBlocksPlain(p unsafe.Pointer, blocks []shapeBlock) (bad uint64) {
	for k := range blocks {
		b := &blocks[k]
		for at := 0; at < shapeWidth; at += 8 {
			word := func(x *[shapeWidth]byte) uint64 { return binary.LittleEndian.Uint64(x[at : at+8]) }
			y := at8(p, k*shapeWidth+at) ^ word(&b.base)
			bad |= (y + word(&b.add) | y | (y - word(&b.less))) & word(&b.mask)
		}
	}
	return bad
}

// byShape reads one message, data[from:to], where it has a known shape.
func (d *jsonDecoder) byShape(data []byte, from, to, n int) bool {
	b := &d.shapes[(to-from)%shapeLengths]
	s := b.first
	if s == nil || to+shapeWidth > len(data) {
		return false
	}
	p := unsafe.Pointer(unsafe.SliceData(data))
	if s.size != to-from || !s.fits(p, from) {
		if s = b.second; s == nil || s.size != to-from || !s.fits(p, from) {
			return false
		}
		if s.hits > b.first.hits {
			b.first, b.second = s, b.first
		}
	}
	s.hits++
	row := d.row
	for k := range s.values {
		v := &s.values[k]
		i := from + v.off
		switch v.kind {
		case segText:
			switch v.typ {
			case types.Varchar:
				v.vec.S[row] = column.Str{Off: uint32(i), Len: uint32(v.size)}
			case types.Timestamp:
				x, ok := d.times.Parse(data[i : i+v.size])
				if !ok {
					return false
				}
				v.vec.I[row] = x
			default:
				if d.setText(v.leaf, i, i+v.size, false, false) != "" {
					return false
				}
			}
		case segNumber:
			if v.typ == types.Decimal {
				x, ok := exactDecimal(string(data[i:i+v.size]), v.vec.Type)
				if !ok {
					return false
				}
				v.vec.D[row] = x
				break
			}
			if v.neg {
				i++
			}
			mant := parseDigits(at8(p, i), v.digits)
			if v.frac > 0 {
				mant = mant*whole10[v.frac] + parseDigits(at8(p, i+v.digits+1), v.frac)
			}
			if v.typ == types.Double {
				x := float64(mant) / exact10[v.frac] // exact: at most 15 digits, see exactDouble
				if v.neg {
					x = -x
				}
				v.vec.F[row] = x
				break
			}
			x := int64(mant)
			if v.neg {
				x = -x
			}
			if v.frac > 0 || v.typ == types.Int && (x < math.MinInt32 || x > math.MaxInt32) {
				return false
			}
			v.vec.I[row] = x
		default:
			v.vec.B[row] = v.truth
		}
		if v.vec.Nulls != nil {
			v.vec.Nulls[row] = false
		}
	}
	for _, k := range s.absent {
		d.leaves[k].vec.Set(row, n, types.Value{})
	}
	for _, k := range s.nulls {
		d.rows[k].vec.SetNull(row, n)
	}
	return true
}

// learnShape keeps the shape of a message that a layout has read. Where two are kept already, it takes
// the place of the one that fits less.
func (d *jsonDecoder) learnShape(l *layout, data []byte, from, to int) {
	b := &d.shapes[(to-from)%shapeLengths]
	// The first message of a length is tried, then one in many: making a shape costs more than reading.
	if b.unknown++; b.unknown > 1 && b.unknown%64 != 0 || to-from > 4096 {
		return
	}
	s, ok := d.newShape(l, data, from, to)
	switch {
	case !ok:
	case b.first == nil:
		b.first = s
	default:
		if b.second != nil {
			b.first.hits /= 2
			b.second.hits /= 2
		}
		b.second = s
	}
}
