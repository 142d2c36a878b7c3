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
// turned; text with 0 written as 0 255 and ended by 0 0, the last column's text left open.

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

// Encode writes the keys of n rows.
func (k *Keys) Encode(cols []*column.Vector, n int) {
	k.buf, k.ends, k.Hashes = k.buf[:0], k.ends[:0], k.Hashes[:0]
	last := len(cols) - 1
	for i := range n {
		start := len(k.buf)
		for c, v := range cols {
			k.buf = appendKey(k.buf, v, i, c == last)
		}
		k.ends = append(k.ends, len(k.buf))
		k.Hashes = append(k.Hashes, xxhash.Sum64(k.buf[start:]))
	}
}

func appendKey(b []byte, v *column.Vector, i int, last bool) []byte {
	if v.Null(i) {
		return append(b, 0)
	}
	switch v.Type.Kind {
	case types.Varchar:
		s := v.Text(i)
		b = append(b, 1)
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

// DecodeKey reads one key back into row i of the columns, which have n rows and the types they were
// encoded with.
func DecodeKey(key []byte, cols []*column.Vector, i, n int) {
	for c, v := range cols {
		null := key[0] == 0
		key = key[1:]
		if null {
			v.Set(i, n, types.Value{})
			continue
		}
		switch v.Type.Kind {
		case types.Varchar:
			if c == len(cols)-1 {
				v.SetText(i, key)
				continue
			}
			off := len(v.Data)
			for {
				z := bytes.IndexByte(key, 0)
				v.Data = append(v.Data, key[:z]...)
				esc := key[z+1] == 255
				key = key[z+2:]
				if !esc {
					break
				}
				v.Data = append(v.Data, 0)
			}
			v.S[i] = column.Str{Off: uint32(off), Len: uint32(len(v.Data) - off)}
		case types.Boolean:
			v.B[i] = key[0] == 1
			key = key[1:]
		case types.Double:
			u := binary.BigEndian.Uint64(key)
			if u>>63 != 0 {
				u &^= 1 << 63
			} else {
				u = ^u
			}
			v.F[i] = math.Float64frombits(u)
			key = key[8:]
		default:
			v.I[i] = int64(binary.BigEndian.Uint64(key) ^ 1<<63)
			key = key[8:]
		}
	}
}
