package state

import (
	"encoding/binary"
	"sync"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

var le = binary.LittleEndian

// Layout says how rows with some columns are written, so that they can be kept without pointers and
// read column by column: a bit for each NULL, a slot for each column (16 bytes for a DECIMAL, 8 for all
// others), then texts and parts. The slot of a text is where it begins, counted from the row's first
// byte, and its length; parts of an ARRAY, MAP or ROW are written as in a key.
type Layout struct {
	cols  []int // columns of the batch that are kept
	types []types.Type
	slots []int // where each begins
	size  int   // of the fixed part
}

// NewLayout makes the layout of the columns cols of rows with these fields.
func NewLayout(fields []types.Field, cols []int) *Layout {
	l := &Layout{cols: cols, size: (len(cols) + 7) / 8}
	for _, c := range cols {
		t := fields[c].Type
		l.types, l.slots = append(l.types, t), append(l.slots, l.size)
		l.size += 8
		if t.Kind == types.Decimal {
			l.size += 8
		}
	}
	return l
}

// Columns gives the columns that are kept.
func (l *Layout) Columns() []int { return l.cols }

// Append writes row i of a batch. A column that the batch has not is written as NULL.
func (l *Layout) Append(dst []byte, b *column.Batch, i int) []byte {
	at := len(dst)
	for need := at + l.size; len(dst) < need; {
		dst = append(dst, zeros[:min(len(zeros), need-len(dst))]...)
	}
	for k, c := range l.cols {
		v := b.Cols[c]
		if v == nil || v.Null(i) {
			dst[at+k/8] |= 1 << (k % 8)
			continue
		}
		slot := at + l.slots[k]
		switch v.Type.Kind {
		case types.Varchar, types.Varbinary, types.JSON:
			s := v.S[i]
			le.PutUint64(dst[slot:], uint64(len(dst)-at)<<32|uint64(s.Len))
			dst = append(dst, v.Data[s.Off:s.Off+s.Len]...)
		case types.Double:
			le.PutUint64(dst[slot:], mathBits(v.F[i]))
		case types.Boolean:
			if v.B[i] {
				dst[slot] = 1
			}
		case types.Decimal:
			le.PutUint64(dst[slot:], v.D[i].LowBits())
			le.PutUint64(dst[slot+8:], uint64(v.D[i].HighBits()))
		case types.Row, types.Array, types.Map:
			from := len(dst)
			dst = AppendKey(dst, v, i, false)
			le.PutUint64(dst[slot:], uint64(from-at)<<32|uint64(len(dst)-from))
		default:
			le.PutUint64(dst[slot:], uint64(v.I[i]))
		}
	}
	return dst
}

var zeros [256]byte

// Gather makes v the values of kept column k of rows; a nil row gives NULL.
func (l *Layout) Gather(k int, rows [][]byte, v *column.Vector) {
	n := len(rows)
	v.Type = l.types[k]
	if v.Type.IsNested() && v.Kids == nil {
		*v = *column.New(v.Type)
	}
	v.Clear()
	v.Resize(n)
	null := func(i int) bool {
		r := rows[i]
		if r != nil && r[k/8]&(1<<(k%8)) == 0 {
			return false
		}
		v.SetNull(i, n)
		return true
	}
	slot := l.slots[k]
	switch v.Type.Kind {
	case types.Varchar, types.Varbinary, types.JSON:
		for i, r := range rows {
			if null(i) {
				v.S[i] = column.Str{}
				continue
			}
			w := le.Uint64(r[slot:])
			v.SetText(i, r[w>>32:w>>32+w&0xffffffff])
		}
	case types.Double:
		for i, r := range rows {
			if !null(i) {
				v.F[i] = mathFloat(le.Uint64(r[slot:]))
			}
		}
	case types.Boolean:
		for i, r := range rows {
			if !null(i) {
				v.B[i] = r[slot] != 0
			}
		}
	case types.Decimal:
		for i, r := range rows {
			if !null(i) {
				v.D[i] = types.NumOfWords(int64(le.Uint64(r[slot+8:])), le.Uint64(r[slot:]))
			}
		}
	case types.Row, types.Array, types.Map:
		v.Truncate(0)
		for _, r := range rows {
			var x types.Value
			if r != nil && r[k/8]&(1<<(k%8)) == 0 {
				w := le.Uint64(r[slot:])
				x, _ = DecodeValue(r[w>>32:w>>32+w&0xffffffff], v.Type, false)
			}
			v.Append(x)
		}
	default:
		for i, r := range rows {
			if !null(i) {
				v.I[i] = int64(le.Uint64(r[slot:]))
			}
		}
	}
}

// Valid says whether a row that was read back has the form of the layout.
func (l *Layout) Valid(row []byte) bool {
	if len(row) < l.size {
		return false
	}
	for k, t := range l.types {
		if row[k/8]&(1<<(k%8)) == 0 && (t.IsText() || t.IsNested() || t.Kind == types.JSON || t.Kind == types.Varbinary) {
			if w := le.Uint64(row[l.slots[k]:]); w>>32+w&0xffffffff > uint64(len(row)) {
				return false
			}
		}
	}
	return true
}

// Bytes is the least that a row takes.
func (l *Layout) Bytes() int { return l.size }

// Block is a number of rows on their way to the task that keeps them, with their keys encoded.
type Block struct {
	Hashes []uint64
	Time   []int64
	Pos    []int64
	From   []int32
	Change []column.Change // nil where all are inserts
	Stamp  []int64         // empty where no row has one
	data   []byte
	ends   []uint32 // two a row: of the key and of the row
}

var blocks = sync.Pool{New: func() any { return &Block{} }}

// NewBlock gives an empty block.
func NewBlock() *Block { return blocks.Get().(*Block) }

// Free gives a block back that nobody reads any more.
func (b *Block) Free() {
	b.Hashes, b.Time, b.Pos, b.From, b.Change, b.Stamp = b.Hashes[:0], b.Time[:0], b.Pos[:0], b.From[:0], nil, b.Stamp[:0]
	b.data, b.ends = b.data[:0], b.ends[:0]
	blocks.Put(b)
}

// Bytes is about the memory that the rows take.
func (b *Block) Bytes() int { return len(b.data) + 40*len(b.Time) }

// N is the number of rows.
func (b *Block) N() int { return len(b.Time) }

// Add appends row i of a batch. hash 0 with a nil key stands for a row whose key has a NULL in it.
func (b *Block) Add(l *Layout, rows *column.Batch, i int, hash uint64, key []byte) {
	b.Hashes = append(b.Hashes, hash)
	b.Time = append(b.Time, rows.Time[i])
	pos, from := int64(0), int32(rows.Split)
	if rows.Pos != nil {
		pos = rows.Pos[i]
	}
	if rows.From != nil {
		from = rows.From[i]
	}
	b.Pos, b.From = append(b.Pos, pos), append(b.From, from)
	if rows.Change != nil {
		for len(b.Change) < len(b.Time)-1 {
			b.Change = append(b.Change, column.Insert)
		}
		b.Change = append(b.Change, rows.Change[i])
	} else if b.Change != nil {
		b.Change = append(b.Change, column.Insert)
	}
	if rows.Stamp != nil {
		b.Stamp = append(b.Stamp, rows.Stamp[i])
	}
	b.data = append(b.data, key...)
	b.ends = append(b.ends, uint32(len(b.data)))
	b.data = l.Append(b.data, rows, i)
	b.ends = append(b.ends, uint32(len(b.data)))
}

// Key gives the key of row i.
func (b *Block) Key(i int) []byte {
	from := uint32(0)
	if i > 0 {
		from = b.ends[2*i-1]
	}
	return b.data[from:b.ends[2*i]]
}

// Row gives the columns of row i.
func (b *Block) Row(i int) []byte { return b.data[b.ends[2*i]:b.ends[2*i+1]] }

// AddFrom appends row i of another block.
func (b *Block) AddFrom(from *Block, i int) {
	b.Hashes, b.Time = append(b.Hashes, from.Hashes[i]), append(b.Time, from.Time[i])
	b.Pos, b.From = append(b.Pos, from.Pos[i]), append(b.From, from.From[i])
	if from.Change != nil {
		b.Change = append(b.Change, from.Change[i])
	}
	if len(from.Stamp) > 0 {
		b.Stamp = append(b.Stamp, from.Stamp[i])
	}
	b.data = append(b.data, from.Key(i)...)
	b.ends = append(b.ends, uint32(len(b.data)))
	b.data = append(b.data, from.Row(i)...)
	b.ends = append(b.ends, uint32(len(b.data)))
}

// AppendTo writes the block, little-endian: the number of rows, the length of the data, how many rows say what they
// change, and how many have a stamp, as uint32; then hashes, times, places, splits, ends, changes, stamps and data.
func (b *Block) AppendTo(dst []byte) []byte {
	for _, n := range []int{b.N(), len(b.data), len(b.Change), len(b.Stamp)} {
		dst = le.AppendUint32(dst, uint32(n))
	}
	for _, h := range b.Hashes {
		dst = le.AppendUint64(dst, h)
	}
	for _, list := range [][]int64{b.Time, b.Pos} {
		for _, x := range list {
			dst = le.AppendUint64(dst, uint64(x))
		}
	}
	for _, x := range b.From {
		dst = le.AppendUint32(dst, uint32(x))
	}
	for _, x := range b.ends {
		dst = le.AppendUint32(dst, x)
	}
	for _, x := range b.Change {
		dst = append(dst, byte(x))
	}
	for _, x := range b.Stamp {
		dst = le.AppendUint64(dst, uint64(x))
	}
	return append(dst, b.data...)
}

// ReadBlock reads what AppendTo wrote.
func ReadBlock(src []byte) (*Block, error) {
	if len(src) < 16 {
		return nil, errCut
	}
	n, data, changes, stamps := int(le.Uint32(src)), int(le.Uint32(src[4:])), int(le.Uint32(src[8:])), int(le.Uint32(src[12:]))
	src = src[16:]
	if len(src) != 36*n+changes+8*stamps+data || changes != 0 && changes != n || stamps != 0 && stamps != n {
		return nil, errCut
	}
	b := NewBlock()
	long := func() (x uint64) {
		x, src = le.Uint64(src), src[8:]
		return x
	}
	short := func() (x uint32) {
		x, src = le.Uint32(src), src[4:]
		return x
	}
	for range n {
		b.Hashes = append(b.Hashes, long())
	}
	for range n {
		b.Time = append(b.Time, int64(long()))
	}
	for range n {
		b.Pos = append(b.Pos, int64(long()))
	}
	for range n {
		b.From = append(b.From, int32(short()))
	}
	last := uint32(0)
	for range 2 * n {
		e := short()
		if e < last || e > uint32(data) {
			return nil, errCut
		}
		last = e
		b.ends = append(b.ends, e)
	}
	for _, x := range src[:changes] {
		b.Change = append(b.Change, column.Change(x))
	}
	src = src[changes:]
	for range stamps {
		b.Stamp = append(b.Stamp, int64(long()))
	}
	b.data = append(b.data, src...)
	return b, nil
}
