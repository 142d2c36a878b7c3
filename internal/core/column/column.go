// Package column holds batches of rows as typed columns.
//
// A vector keeps its values in one plain slice by type. Text is a slice of views into one buffer, so
// that filtering and projecting move eight bytes a value and never copy text. Whoever makes a batch
// owns it; those it is pushed to may read it until they return and must copy what they keep.
package column

import (
	"fiume/internal/core/types"
)

// Str is a stretch of a vector's Data, or of the elements of an ARRAY or MAP.
type Str struct{ Off, Len uint32 }

// Vector is one column of a batch. The slice that holds the values depends on the type:
// F for DOUBLE, B for BOOLEAN, D for DECIMAL, S with Data for VARCHAR, VARBINARY and JSON, S with Kids
// for ARRAY (the elements) and MAP (the keys and the values), Kids for ROW, I for all others.
type Vector struct {
	Type  types.Type
	Nulls []bool // nil where no value is NULL
	I     []int64
	F     []float64
	B     []bool
	D     []types.Num
	S     []Str
	Data  []byte
	Kids  []*Vector // fields of a ROW, nil for a field nobody uses; elements of an ARRAY or MAP
	Rows  int       // length of a ROW
}

// New makes an empty vector of a type, with the vectors of its parts.
func New(t types.Type) *Vector {
	v := &Vector{Type: t}
	if t.IsNested() {
		for _, f := range t.Fields {
			v.Kids = append(v.Kids, New(f.Type))
		}
	}
	return v
}

// Clear drops the texts and elements of the values before they are set anew.
func (v *Vector) Clear() {
	v.Data = v.Data[:0]
	for _, k := range v.Kids {
		if k != nil {
			if v.Type.Kind != types.Row {
				k.Resize(0)
			}
			k.Clear()
		}
	}
}

// Resize makes room for n values. What they are is undefined, apart from Nulls, which is dropped.
func (v *Vector) Resize(n int) {
	v.Nulls = nil
	switch v.Type.Kind {
	case types.Double:
		v.F = grow(v.F, n)
	case types.Boolean:
		v.B = grow(v.B, n)
	case types.Decimal:
		v.D = grow(v.D, n)
	case types.Varchar, types.Varbinary, types.JSON, types.Array, types.Map:
		v.S = grow(v.S, n)
	case types.Row:
		v.Rows = n
		for _, k := range v.Kids {
			if k != nil {
				k.Resize(n)
			}
		}
	default:
		v.I = grow(v.I, n)
	}
}

func grow[T any](s []T, n int) []T {
	if cap(s) >= n {
		return s[:n]
	}
	return make([]T, n, n+n/4)
}

// Len is the number of values.
func (v *Vector) Len() int {
	switch v.Type.Kind {
	case types.Double:
		return len(v.F)
	case types.Boolean:
		return len(v.B)
	case types.Decimal:
		return len(v.D)
	case types.Varchar, types.Varbinary, types.JSON, types.Array, types.Map:
		return len(v.S)
	case types.Row:
		return v.Rows
	}
	return len(v.I)
}

// Append adds one value at the end; text and parts are copied.
func (v *Vector) Append(x types.Value) {
	n := v.Len()
	nulls := v.Nulls
	switch v.Type.Kind {
	case types.Double:
		v.F = append(v.F, 0)
	case types.Boolean:
		v.B = append(v.B, false)
	case types.Decimal:
		v.D = append(v.D, types.Num{})
	case types.Varchar, types.Varbinary, types.JSON, types.Array, types.Map:
		v.S = append(v.S, Str{})
	case types.Row:
		v.Rows++
		for i, k := range v.Kids {
			if k != nil && x.IsNull() {
				k.Append(types.Value{})
			} else if k != nil {
				k.Append(x.Row[i])
			}
		}
		x.Row = nil
	default:
		v.I = append(v.I, 0)
	}
	if nulls != nil {
		v.Nulls = append(nulls, false)
	}
	switch {
	case x.IsNull():
		v.SetNull(n, n+1)
	case v.Type.Kind != types.Row:
		v.Set(n, n+1, x)
	}
}

// Null says whether value i is NULL.
func (v *Vector) Null(i int) bool { return v.Nulls != nil && v.Nulls[i] }

// SetNull makes value i NULL; n is the length of the vector.
func (v *Vector) SetNull(i, n int) {
	if v.Nulls == nil {
		v.Nulls = make([]bool, n)
	}
	v.Nulls[i] = true
}

// Text gives the text of value i. It belongs to the vector.
func (v *Vector) Text(i int) []byte {
	s := v.S[i]
	return v.Data[s.Off : s.Off+s.Len : s.Off+s.Len]
}

// SetText appends a text to Data and makes it value i.
func (v *Vector) SetText(i int, s []byte) {
	v.S[i] = Str{uint32(len(v.Data)), uint32(len(s))}
	v.Data = append(v.Data, s...)
}

// Value takes value i out. Text is copied.
func (v *Vector) Value(i int) types.Value {
	if v.Null(i) {
		return types.Value{Kind: types.Null}
	}
	out := types.Value{Kind: v.Type.Kind}
	switch v.Type.Kind {
	case types.Double:
		out.F = v.F[i]
	case types.Boolean:
		if v.B[i] {
			out.I = 1
		}
	case types.Varchar, types.Varbinary, types.JSON:
		out.S = string(v.Text(i))
	case types.Decimal:
		return types.DecimalValue(v.D[i], v.Type.Scale)
	case types.Array, types.Map:
		at := v.S[i]
		out.Row = make([]types.Value, 0, int(at.Len)*len(v.Kids))
		for j := at.Off; j < at.Off+at.Len; j++ {
			for _, k := range v.Kids {
				out.Row = append(out.Row, k.Value(int(j)))
			}
		}
	case types.Row:
		out.Row = make([]types.Value, len(v.Kids))
		for k, kid := range v.Kids {
			if kid != nil {
				out.Row[k] = kid.Value(i)
			}
		}
	case types.Null, types.Unknown:
		return types.Value{Kind: types.Null}
	default:
		out.I = v.I[i]
	}
	return out
}

// Set makes a value value i; n is the length of the vector.
func (v *Vector) Set(i, n int, x types.Value) {
	if x.IsNull() {
		v.SetNull(i, n)
		if v.S != nil {
			v.S[i] = Str{}
		}
		return
	}
	switch v.Type.Kind {
	case types.Double:
		v.F[i] = x.F
	case types.Boolean:
		v.B[i] = x.I != 0
	case types.Decimal:
		v.D[i] = x.Num()
	case types.Varchar, types.Varbinary, types.JSON:
		v.SetText(i, []byte(x.S))
	case types.Array, types.Map:
		from := v.Kids[0].Len()
		for k := 0; k < len(x.Row); k += len(v.Kids) {
			for j, kid := range v.Kids {
				kid.Append(x.Row[k+j])
			}
		}
		v.S[i] = Str{uint32(from), uint32(v.Kids[0].Len() - from)}
	case types.Row:
		for k, kid := range v.Kids {
			if kid != nil {
				kid.Set(i, n, x.Row[k])
			}
		}
	default:
		v.I[i] = x.I
	}
}

// Copy makes value i, of n, value j of another vector of the same type.
func (v *Vector) Copy(i, n int, from *Vector, j int) {
	if from.Null(j) {
		v.Set(i, n, types.Value{})
		return
	}
	switch v.Type.Kind {
	case types.Double:
		v.F[i] = from.F[j]
	case types.Boolean:
		v.B[i] = from.B[j]
	case types.Decimal:
		v.D[i] = from.D[j]
	case types.Varchar, types.Varbinary, types.JSON:
		v.SetText(i, from.Text(j))
	case types.Row, types.Array, types.Map:
		v.Set(i, n, from.Value(j))
	default:
		v.I[i] = from.I[j]
	}
}

// Gather makes dst the values of v at the rows of sel.
func (v *Vector) Gather(sel []uint32, dst *Vector) {
	dst.Type = v.Type
	dst.Nulls = dst.Nulls[:0]
	switch v.Type.Kind {
	case types.Double:
		dst.F = gather(v.F, sel, dst.F)
	case types.Boolean:
		dst.B = gather(v.B, sel, dst.B)
	case types.Decimal:
		dst.D = gather(v.D, sel, dst.D)
	case types.Varchar, types.Varbinary, types.JSON:
		dst.S, dst.Data = gather(v.S, sel, dst.S), v.Data
	case types.Array, types.Map:
		dst.S, dst.Kids = gather(v.S, sel, dst.S), v.Kids
	case types.Row:
		dst.Rows = len(sel)
		for len(dst.Kids) < len(v.Kids) {
			dst.Kids = append(dst.Kids, nil)
		}
		for k, kid := range v.Kids {
			if kid == nil {
				dst.Kids[k] = nil
				continue
			}
			if dst.Kids[k] == nil {
				dst.Kids[k] = &Vector{}
			}
			kid.Gather(sel, dst.Kids[k])
		}
	default:
		dst.I = gather(v.I, sel, dst.I)
	}
	if v.Nulls != nil {
		dst.Nulls = gather(v.Nulls, sel, dst.Nulls)
	} else {
		dst.Nulls = nil
	}
}

func gather[T any](src []T, sel []uint32, dst []T) []T {
	dst = grow(dst, len(sel))
	for i, r := range sel {
		dst[i] = src[r]
	}
	return dst
}

// Change says what a row of a change stream does.
type Change uint8

// A replacement is two rows side by side: Replaced takes the old row back and Replace gives the new one.
const (
	Insert   Change = iota // a row that was not there
	Withdraw               // the row is no longer there
	Replaced               // the row is no longer there; its replacement comes next
	Replace                // the row stands in the place of the one before
)

var changeNames = [...]string{"insert", "withdraw", "withdraw", "replace"}

// String gives the word that sinks write.
func (c Change) String() string { return changeNames[c] }

// Takes says whether the row takes something back.
func (c Change) Takes() bool { return c == Withdraw || c == Replaced }

// Batch is a number of rows.
type Batch struct {
	N      int
	Cols   []*Vector // nil for a column nobody uses
	Time   []int64   // event times, microseconds
	Stamp  []int64   // the own split's watermark just before each row; nil where no row can be late
	Pos    []int64   // place of each row in its split; nil for made rows
	Change []Change  // nil where every row is an insert
	Split  int       // the split the rows come from; -1 for made rows
	From   []int32   // the split of each row, where rows of several are gathered; else nil
}

// Gather makes dst the rows of sel, in ascending order. dst's own slices are used again; its columns
// belong to it. Of a replacement that is torn apart a withdrawal or an insert stays.
func (b *Batch) Gather(sel []uint32, dst *Batch) {
	dst.N, dst.Split = len(sel), b.Split
	for len(dst.Cols) < len(b.Cols) {
		dst.Cols = append(dst.Cols, &Vector{})
	}
	for i, c := range b.Cols {
		if c == nil {
			dst.Cols[i] = nil
			continue
		}
		if dst.Cols[i] == nil {
			dst.Cols[i] = &Vector{}
		}
		c.Gather(sel, dst.Cols[i])
	}
	dst.Time = gather(b.Time, sel, dst.Time)
	dst.Stamp, dst.Pos = gatherOpt(b.Stamp, sel, dst.Stamp), gatherOpt(b.Pos, sel, dst.Pos)
	if b.Change == nil {
		dst.Change = nil
		return
	}
	dst.Change = gather(b.Change, sel, dst.Change)
	for i, r := range sel {
		switch {
		case dst.Change[i] == Replaced && (i+1 == len(sel) || sel[i+1] != r+1):
			dst.Change[i] = Withdraw
		case dst.Change[i] == Replace && (i == 0 || sel[i-1] != r-1):
			dst.Change[i] = Insert
		}
	}
}

func gatherOpt(src []int64, sel []uint32, dst []int64) []int64 {
	if src == nil {
		return nil
	}
	return gather(src, sel, dst)
}

// AppendRow adds row i of another batch with the same columns; texts and parts are copied. Stamps and
// changes are not kept.
func (b *Batch) AppendRow(from *Batch, i int) {
	if b.Cols == nil {
		b.Cols = make([]*Vector, len(from.Cols))
		for k, c := range from.Cols {
			if c != nil {
				b.Cols[k] = New(c.Type)
			}
		}
	}
	for k, c := range from.Cols {
		if c != nil {
			b.Cols[k].AppendOf(c, i)
		}
	}
	b.Time = append(b.Time, from.Time[i])
	pos := int64(0)
	if from.Pos != nil {
		pos = from.Pos[i]
	}
	b.Pos = append(b.Pos, pos)
	split := int32(from.Split)
	if from.From != nil {
		split = from.From[i]
	}
	b.From = append(b.From, split)
	b.N++
}

// Bytes is the memory that a batch made by AppendRow holds.
func (b *Batch) Bytes() int {
	n := cap(b.Time)*8 + cap(b.Pos)*8 + cap(b.From)*4
	for _, c := range b.Cols {
		if c != nil {
			n += c.Bytes()
		}
	}
	return n
}

// Bytes is the memory held.
func (v *Vector) Bytes() int {
	n := cap(v.I)*8 + cap(v.F)*8 + cap(v.B) + cap(v.D)*16 + cap(v.S)*8 + cap(v.Data) + cap(v.Nulls)
	for _, k := range v.Kids {
		if k != nil {
			n += k.Bytes()
		}
	}
	return n
}

// View gives the values from i to before j, which still belong to the vector.
func (v *Vector) View(i, j int) Vector {
	out := *v
	if v.Nulls != nil {
		out.Nulls = v.Nulls[i:j]
	}
	switch v.Type.Kind {
	case types.Double:
		out.F = v.F[i:j]
	case types.Boolean:
		out.B = v.B[i:j]
	case types.Decimal:
		out.D = v.D[i:j]
	case types.Varchar, types.Varbinary, types.JSON, types.Array, types.Map:
		out.S = v.S[i:j]
	case types.Row:
		out.Rows = j - i
		out.Kids = make([]*Vector, len(v.Kids))
		for k, kid := range v.Kids {
			if kid != nil {
				x := kid.View(i, j)
				out.Kids[k] = &x
			}
		}
	default:
		out.I = v.I[i:j]
	}
	return out
}

// Truncate keeps the first n values.
func (v *Vector) Truncate(n int) {
	if v.Nulls != nil {
		v.Nulls = v.Nulls[:n]
	}
	switch v.Type.Kind {
	case types.Double:
		v.F = v.F[:n]
	case types.Boolean:
		v.B = v.B[:n]
	case types.Decimal:
		v.D = v.D[:n]
	case types.Varchar, types.Varbinary, types.JSON, types.Array, types.Map:
		v.S = v.S[:n]
		if n == 0 {
			v.Clear()
		}
	case types.Row:
		v.Rows = n
		for _, k := range v.Kids {
			if k != nil {
				k.Truncate(n)
			}
		}
	default:
		v.I = v.I[:n]
	}
}

// AppendOf adds value i of another vector of the same type at the end.
func (v *Vector) AppendOf(from *Vector, i int) {
	if from.Null(i) || v.Type.IsNested() {
		v.Append(from.Value(i))
		return
	}
	switch v.Type.Kind {
	case types.Double:
		v.F = append(v.F, from.F[i])
	case types.Boolean:
		v.B = append(v.B, from.B[i])
	case types.Decimal:
		v.D = append(v.D, from.D[i])
	case types.Varchar, types.Varbinary, types.JSON:
		s := from.Text(i)
		v.S = append(v.S, Str{uint32(len(v.Data)), uint32(len(s))})
		v.Data = append(v.Data, s...)
	default:
		v.I = append(v.I, from.I[i])
	}
	if v.Nulls != nil {
		v.Nulls = append(v.Nulls, false)
	}
}
