package format

import (
	"encoding/binary"
	"math"
	"math/bits"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"
)

// The usual records, of single values which may be NULL, are read by a short loop. It gives up on all that is not as usual, and the reader begins the message
// anew: what a message is, and what is wrong with it, the reader alone says.

// avroStep is a field of the root, for the loop.
type avroStep struct {
	do    takeKind
	maybe bool // a union with null
	null  byte // how the branch null is written
	must  bool
	low   int64 // of a number: what it must not be below, multiplied
	high  int64
	up    int64
	vec   *column.Vector
}

// steps gives the loop's steps; nil where a field is not as usual.
func (t *avroTake) steps() []avroStep {
	out := []avroStep{}
	for _, k := range t.kids {
		var s avroStep
		if n := k.node; n.maybe() {
			s.maybe = true
			of := 0
			if n.branches[0].kind == "null" {
				of = 1
			} else {
				s.null = 2
			}
			if k.do == takeUnion {
				k = k.kids[of]
			} else {
				k = &avroTake{do: k.do, node: n.branches[of]}
			}
		}
		s.do, s.vec, s.must, s.low, s.high, s.up = k.do, k.vec, k.must, math.MinInt64, math.MaxInt64, 1
		fixed := k.node.kind == "fixed"
		switch k.do {
		case takeText, takeBytes, takeDouble, takeBoolean:
		case takeWhole:
			if k.vec.Type.Kind == types.Int {
				s.low, s.high = math.MinInt32, math.MaxInt32
			}
		case takeTime:
			if k.up == 0 {
				return nil
			}
			s.up = k.up
			switch k.vec.Type.Kind {
			case types.Timestamp:
				s.low, s.high = types.FirstTimestamp/k.up, types.LastTimestamp/k.up
			case types.Date:
				s.low, s.high = types.FirstTimestamp/dayMicros, types.LastTimestamp/dayMicros
			default:
				s.low, s.high = 0, (dayMicros-1)/k.up
			}
		case takeSkip:
			switch k.node.kind {
			case "string", "bytes":
				s.do = takeSkip
			case "int", "long", "enum":
				s.do = takeWhole
			case "double":
				s.do = takeDouble
			case "boolean":
				s.do = takeBoolean
			default:
				return nil
			}
		default:
			return nil
		}
		if fixed {
			return nil
		}
		out = append(out, s)
	}
	return out
}

// varint reads a number of up to eight bytes, which must be readable; size 0 says that it is longer.
func varint(b []byte) (x uint64, size int) {
	w := binary.LittleEndian.Uint64(b)
	stop := ^w & 0x8080808080808080
	if stop == 0 {
		return 0, 0
	}
	size = bits.TrailingZeros64(stop)/8 + 1
	w &= 0x7f7f7f7f7f7f7f7f & (math.MaxUint64 >> (64 - 8*size))
	w = w&0x007f007f007f007f | w&0x7f007f007f007f00>>1
	w = w&0x00003fff00003fff | w&0x3fff00003fff0000>>2
	return w&0x000000000fffffff | w&0x0fffffff00000000>>4, size
}

// plain says whether a short text is ASCII. Sixteen bytes must be readable.
func plain(b []byte, n int) bool {
	if n > 16 {
		return utf8.Valid(b[:n])
	}
	w := binary.LittleEndian.Uint64(b)
	if n <= 8 {
		return w&(0x8080808080808080&(math.MaxUint64>>(64-8*n))) == 0 || utf8.Valid(b[:n])
	}
	return (w|binary.LittleEndian.Uint64(b[8:])&(math.MaxUint64>>(128-8*n)))&0x8080808080808080 == 0 || utf8.Valid(b[:n])
}

// fast reads a message that begins at a byte by the steps, and gives where it ends, at to or before. false says that it is to be read again.
func (r *avroReader) fast(data []byte, at, to, row, n int) (end int, ok bool) {
	if cap(data) < to+flow.Pad {
		return 0, false
	}
	b := data[: to+flow.Pad : to+flow.Pad]
	for i := range r.steps {
		s := &r.steps[i]
		if at >= to {
			return 0, false
		}
		v := s.vec
		if s.maybe {
			branch := b[at]
			at++
			if branch == s.null {
				if s.must {
					return 0, false
				}
				if v != nil {
					unset(v, row, n)
				}
				continue
			}
			if branch != 2-s.null || at > to {
				return 0, false
			}
		}
		if v != nil && v.Nulls != nil {
			v.Nulls[row] = false
		}
		switch s.do {
		case takeText, takeBytes, takeSkip:
			u, size := varint(b[at:])
			at += size
			if size == 0 || u&1 != 0 || u>>1 > uint64(to) || at+int(u>>1) > to {
				return 0, false
			}
			length := int(u >> 1)
			if v != nil {
				if s.do == takeText && !plain(b[at:], length) {
					return 0, false
				}
				if len(v.Data) > 0 && &v.Data[0] == &data[0] {
					v.S[row] = column.Str{Off: uint32(at), Len: uint32(length)}
				} else {
					v.SetText(row, b[at:at+length])
				}
			}
			at += length
		case takeWhole, takeTime:
			u, size := varint(b[at:])
			if size == 0 {
				return 0, false
			}
			at += size
			x := int64(u>>1) ^ -int64(u&1)
			if x < s.low || x > s.high {
				return 0, false
			}
			if v != nil {
				v.I[row] = x * s.up
			}
		case takeDouble:
			if v != nil {
				v.F[row] = math.Float64frombits(binary.LittleEndian.Uint64(b[at:]))
			}
			at += 8
		case takeBoolean:
			if v != nil {
				v.B[row] = b[at] != 0
			}
			at++
		}
	}
	if at > to {
		return 0, false
	}
	for _, k := range r.root.none {
		if k.must {
			return 0, false
		}
		unset(k.vec, row, n)
	}
	return at, true
}
