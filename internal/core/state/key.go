package state

import (
	"bytes"
	"encoding/binary"
	"math"

	"fiume/internal/core/column"
	"fiume/internal/core/types"

	"github.com/cespare/xxhash/v2"
)

// Keys are written so that comparing their bytes compares their values column by column: a 0 for NULL
// or a 1 and the value; whole numbers and times with the sign turned, big-endian; DOUBLE with its bits
// turned; text with 0 written as 0 255 and ended by 0 0, the last column's text left open. A DECIMAL
// is its 128 bits with the sign turned; a ROW its fields; an ARRAY and a MAP each part behind a 1, and
// a 0 at the end.

// Keys are the encoded keys of a batch's rows and their hashes.
type Keys struct {
	Hashes []uint64
	buf    []byte
	ends   []int
}

// Key gives the key of a row.
func (k *Keys) Key(i int) []byte {
	from := 0
	if i > 0 {
		from = k.ends[i-1]
	}
	return k.buf[from:k.ends[i]]
}

// EncodeRow gives the key of one row and its hash. The key is good until the next one.
func (k *Keys) EncodeRow(cols []*column.Vector, i int) (key []byte, hash uint64) {
	k.buf = k.buf[:0]
	for c, v := range cols {
		k.buf = AppendKey(k.buf, v, i, c == len(cols)-1)
	}
	return k.buf, xxhash.Sum64(k.buf)
}

// Encode writes the keys of n rows.
func (k *Keys) Encode(cols []*column.Vector, n int) {
	k.buf, k.ends, k.Hashes = k.buf[:0], k.ends[:0], k.Hashes[:0]
	if n > 0 && len(cols) == 1 && cols[0].Type.Kind == types.Varchar && cols[0].Nulls == nil {
		v := cols[0]
		for _, s := range v.S[:n] {
			start := len(k.buf)
			k.buf = append(append(k.buf, 1), v.Data[s.Off:s.Off+s.Len]...)
			k.ends = append(k.ends, len(k.buf))
			k.Hashes = append(k.Hashes, xxhash.Sum64(k.buf[start:]))
		}
		return
	}
	last := len(cols) - 1
	for i := range n {
		start := len(k.buf)
		for c, v := range cols {
			k.buf = AppendKey(k.buf, v, i, c == last)
		}
		k.ends = append(k.ends, len(k.buf))
		k.Hashes = append(k.Hashes, xxhash.Sum64(k.buf[start:]))
	}
}

// AppendKey appends value i of a vector. last says that nothing follows it, so that text is left open.
func AppendKey(b []byte, v *column.Vector, i int, last bool) []byte {
	if v.Null(i) {
		return append(b, 0)
	}
	switch v.Type.Kind {
	case types.Varchar, types.Varbinary, types.JSON:
		return appendText(append(b, 1), v.Text(i), last)
	case types.Decimal:
		b = binary.BigEndian.AppendUint64(append(b, 1), uint64(v.D[i].HighBits())^1<<63)
		return binary.BigEndian.AppendUint64(b, v.D[i].LowBits())
	case types.Row:
		b = append(b, 1)
		for _, k := range v.Kids {
			b = AppendKey(b, k, i, false)
		}
		return b
	case types.Array, types.Map:
		b = append(b, 1)
		for j := int(v.S[i].Off); j < int(v.S[i].Off+v.S[i].Len); j++ {
			for _, k := range v.Kids {
				b = AppendKey(append(b, 1), k, j, false)
			}
		}
		return append(b, 0)
	case types.Boolean:
		if v.B[i] {
			return append(b, 1, 1)
		}
		return append(b, 1, 0)
	case types.Double:
		x := v.F[i]
		if x == 0 {
			x = 0 // one key for 0 and -0
		}
		u := math.Float64bits(x)
		if u>>63 != 0 {
			u = ^u
		} else {
			u |= 1 << 63
		}
		return binary.BigEndian.AppendUint64(append(b, 1), u)
	case types.Null:
		return append(b, 0)
	}
	return binary.BigEndian.AppendUint64(append(b, 1), uint64(v.I[i])^1<<63)
}

func appendText(b, s []byte, last bool) []byte {
	if last {
		return append(b, s...)
	}
	for {
		z := bytes.IndexByte(s, 0)
		if z < 0 {
			return append(append(b, s...), 0, 0)
		}
		b = append(append(b, s[:z]...), 0, 255)
		s = s[z+1:]
	}
}

// DecodeKey reads one key back into row i of the columns, which have n rows and the types they were
// encoded with.
func DecodeKey(key []byte, cols []*column.Vector, i, n int) {
	for c, v := range cols {
		if k := v.Type.Kind; k == types.Varchar && key[0] != 0 && c == len(cols)-1 {
			v.SetText(i, key[1:])
			return
		} else if v.Type.Words() && key[0] != 0 {
			v.I[i] = int64(binary.BigEndian.Uint64(key[1:]) ^ 1<<63)
			key = key[9:]
			continue
		}
		var x types.Value
		x, key = DecodeValue(key, v.Type, c == len(cols)-1)
		v.Set(i, n, x)
	}
}

// DecodeValue reads one value back and gives what follows it.
func DecodeValue(key []byte, t types.Type, last bool) (x types.Value, rest []byte) {
	null := key[0] == 0
	key = key[1:]
	if null {
		return x, key
	}
	x.Kind = t.Kind
	switch t.Kind {
	case types.Varchar, types.Varbinary, types.JSON:
		if last {
			x.S = string(key)
			return x, nil
		}
		var text []byte
		for {
			z := bytes.IndexByte(key, 0)
			text = append(text, key[:z]...)
			esc := key[z+1] == 255
			key = key[z+2:]
			if !esc {
				x.S = string(text)
				return x, key
			}
			text = append(text, 0)
		}
	case types.Boolean:
		x.I = int64(key[0])
		return x, key[1:]
	case types.Double:
		u := binary.BigEndian.Uint64(key)
		if u>>63 != 0 {
			u &^= 1 << 63
		} else {
			u = ^u
		}
		x.F = math.Float64frombits(u)
		return x, key[8:]
	case types.Decimal:
		hi := int64(binary.BigEndian.Uint64(key) ^ 1<<63)
		return types.DecimalValue(types.NumOfWords(hi, binary.BigEndian.Uint64(key[8:])), t.Scale), key[16:]
	case types.Row:
		for _, f := range t.Fields {
			var y types.Value
			y, key = DecodeValue(key, f.Type, false)
			x.Row = append(x.Row, y)
		}
		return x, key
	case types.Array, types.Map:
		x.Row = []types.Value{}
		for i := 0; key[0] == 1; i++ {
			var y types.Value
			y, key = DecodeValue(key[1:], t.Fields[i%len(t.Fields)].Type, false)
			x.Row = append(x.Row, y)
		}
		return x, key[1:]
	}
	x.I = int64(binary.BigEndian.Uint64(key) ^ 1<<63)
	return x, key[8:]
}
