package format

import (
	"encoding/binary"
	"slices"
	"strconv"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// JSONEncoder writes rows as JSON objects. NULLs are written, instants as RFC 3339 in UTC, intervals
// as ISO 8601 durations, NaN and the infinities as text.
type JSONEncoder struct {
	fields  []types.Field
	before  [][]byte           // what stands before each value
	words   [][2]uint64        // the same, where it has up to sixteen bytes
	times   []types.TimeWriter // by column: instants in a column are close together
	doubles []types.DoubleWriter
}

// NewJSONEncoder makes an encoder of rows with these columns.
func NewJSONEncoder(fields []types.Field) *JSONEncoder {
	n := len(fields)
	e := &JSONEncoder{fields: fields, times: make([]types.TimeWriter, n), doubles: make([]types.DoubleWriter, n)}
	for i, f := range fields {
		sep := byte(',')
		if i == 0 {
			sep = '{'
		}
		text := append(types.AppendJSONString([]byte{sep}, []byte(f.Name)), ':')
		if f.Type.Kind == types.Varchar || f.Type.Kind == types.Timestamp {
			text = append(text, '"')
		}
		e.before = append(e.before, text)
		var b [16]byte
		copy(b[:], text)
		e.words = append(e.words, [2]uint64{binary.LittleEndian.Uint64(b[:]), binary.LittleEndian.Uint64(b[8:])})
	}
	return e
}

// Header implements Encoder.
func (e *JSONEncoder) Header() []byte { return nil }

// Append implements Encoder. What is short is written sixteen bytes at a time; what is written too much
// is written over by what follows.
func (e *JSONEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	le := binary.LittleEndian
	for c, v := range b.Cols[:len(e.fields)] {
		at, before := len(dst), e.before[c]
		if cap(dst)-at < 64 {
			dst = slices.Grow(dst, 512)
		}
		if n := len(before); n <= 16 {
			room := dst[at : at+16]
			le.PutUint64(room, e.words[c][0])
			le.PutUint64(room[8:], e.words[c][1])
			dst = dst[:at+n]
		} else {
			dst = append(dst, before...)
		}
		if v == nil || v.Null(i) {
			if k := e.fields[c].Type.Kind; k == types.Varchar || k == types.Timestamp {
				dst = dst[:len(dst)-1]
			}
			dst = append(dst, "null"...)
			continue
		}
		switch v.Type.Kind {
		case types.Varchar:
			s := v.S[i]
			if at = len(dst); s.Len <= 16 && int(s.Off)+16 <= len(v.Data) && cap(dst)-at >= 24 {
				text := v.Data[s.Off : s.Off+16]
				x, y := le.Uint64(text), le.Uint64(text[8:])
				// Bytes behind the text do not count; a mark is exact up to the first one.
				low, high := special(x), special(y)
				if s.Len <= 8 {
					low &= ^uint64(0) >> (64 - 8*s.Len)
					high = 0
				} else {
					high &= ^uint64(0) >> (128 - 8*s.Len)
				}
				if low|high == 0 {
					room := dst[at : at+16]
					le.PutUint64(room, x)
					le.PutUint64(room[8:], y)
					dst = append(dst[:at+int(s.Len)], '"')
					continue
				}
			}
			if s.Len > 16 && s.Len <= 32 && int(s.Off)+32 <= len(v.Data) && cap(dst)-at >= 40 {
				text := v.Data[s.Off : s.Off+32]
				a, x, y, z := le.Uint64(text), le.Uint64(text[8:]), le.Uint64(text[16:]), le.Uint64(text[24:])
				third, last := special(y), special(z)
				if s.Len <= 24 {
					third &= ^uint64(0) >> (192 - 8*s.Len)
					last = 0
				} else {
					last &= ^uint64(0) >> (256 - 8*s.Len)
				}
				if special(a)|special(x)|third|last == 0 {
					room := dst[at : at+32]
					le.PutUint64(room, a)
					le.PutUint64(room[8:], x)
					le.PutUint64(room[16:], y)
					le.PutUint64(room[24:], z)
					dst = append(dst[:at+int(s.Len)], '"')
					continue
				}
			}
			dst = appendText(dst[:at-1], v.Text(i))
		case types.Timestamp:
			dst = append(e.times[c].Append(dst, v.I[i]), '"')
		case types.Double:
			if x := v.F[i]; x-x == 0 {
				dst = e.doubles[c].Append(dst, x)
				continue
			}
			dst = appendValue(dst, v, i, &e.times[c])
		case types.Int, types.BigInt:
			dst = strconv.AppendInt(dst, v.I[i], 10)
		default:
			dst = appendValue(dst, v, i, &e.times[c])
		}
	}
	return append(dst, '}')
}

func appendValue(dst []byte, v *column.Vector, i int, times *types.TimeWriter) []byte {
	if v == nil || v.Null(i) {
		return append(dst, "null"...)
	}
	switch v.Type.Kind {
	case types.Varchar:
		return appendText(dst, v.Text(i))
	case types.Double:
		x := v.F[i]
		if x-x != 0 { // NaN or infinite
			return append(types.AppendDouble(append(dst, '"'), x), '"')
		}
		return types.AppendDouble(dst, x)
	case types.Boolean:
		return strconv.AppendBool(dst, v.B[i])
	case types.Int, types.BigInt:
		return strconv.AppendInt(dst, v.I[i], 10)
	case types.Timestamp:
		return append(times.Append(append(dst, '"'), v.I[i]), '"')
	case types.Date:
		return append(types.AppendDate(append(dst, '"'), v.I[i]), '"')
	case types.Interval:
		return append(types.AppendInterval(append(dst, '"'), v.I[i]), '"')
	case types.Decimal:
		return types.AppendDecimal(dst, v.D[i], int(v.Type.Scale))
	case types.JSON:
		return append(dst, v.Text(i)...)
	case types.Array:
		dst = append(dst, '[')
		for j := int(v.S[i].Off); j < int(v.S[i].Off+v.S[i].Len); j++ {
			if j > int(v.S[i].Off) {
				dst = append(dst, ',')
			}
			dst = appendValue(dst, v.Kids[0], j, times)
		}
		return append(dst, ']')
	case types.Varbinary, types.Time, types.Map:
		return types.AppendJSON(dst, v.Value(i), v.Type)
	case types.Row:
		sep := byte('{')
		for k, f := range v.Type.Fields {
			dst = append(types.AppendJSONString(append(dst, sep), []byte(f.Name)), ':')
			dst = appendValue(dst, v.Kids[k], i, times)
			sep = ','
		}
		return append(dst, '}')
	}
	return append(dst, "null"...)
}

// appendText writes a JSON string; most need no escape.
func appendText(dst, s []byte) []byte {
	t := s
	for len(t) >= 8 {
		if special(binary.LittleEndian.Uint64(t)) != 0 {
			return types.AppendJSONString(dst, s)
		}
		t = t[8:]
	}
	for _, c := range t {
		if c < 0x20 || c >= 0x80 || c == '"' || c == '\\' {
			return types.AppendJSONString(dst, s)
		}
	}
	dst = append(dst, '"')
	dst = append(dst, s...)
	return append(dst, '"')
}
