package column

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"fiume/internal/core/types"
)

var deviceType = types.Type{Kind: types.Row, Fields: []types.Field{{Name: "serial", Type: types.Of(types.Varchar)}, {Name: "battery", Type: types.Of(types.Double)}, {Name: "unused", Type: types.Of(types.BigInt)}}}

// random makes a vector of n random values and the values.
func random(r *rand.Rand, t types.Type, n int) (*Vector, []types.Value) {
	v := New(t)
	if t.Kind == types.Row {
		v.Kids[2] = nil // a field nobody uses
	}
	v.Resize(n)
	vals := make([]types.Value, n)
	for i := range n {
		x := types.Value{Kind: t.Kind, I: r.Int64N(1000), F: r.Float64(), S: fmt.Sprint("t", r.IntN(99)), Row: []types.Value{{Kind: types.Varchar, S: fmt.Sprint(i)}, {Kind: types.Double, F: r.Float64()}, {}}}
		if t.Kind == types.Boolean {
			x.I %= 2
		}
		if r.IntN(4) == 0 {
			x = types.Value{Kind: types.Null}
		}
		v.Set(i, n, x)
		vals[i] = x
	}
	return v, vals
}

func text(v types.Value) string {
	if v.IsNull() {
		return "NULL"
	}
	if v.Kind == types.Row {
		return text(v.Row[0]) + "/" + text(v.Row[1])
	}
	return string(types.AppendText(nil, v))
}

// TestGather takes rows out of batches of every type, again and again into the same batch.
func TestGather(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var dst Batch
	for round := range 100 {
		n := 1 + r.IntN(50)
		b := &Batch{N: n, Time: make([]int64, n), Split: 3}
		var want [][]types.Value
		for _, k := range []types.Type{types.Of(types.BigInt), types.Of(types.Double), types.Of(types.Varchar), types.Of(types.Boolean), types.Of(types.Timestamp), deviceType} {
			v, vals := random(r, k, n)
			b.Cols, want = append(b.Cols, v), append(want, vals)
		}
		if round%2 == 0 {
			b.Cols[1] = nil
			b.Stamp, b.Pos = make([]int64, n), make([]int64, n)
		}
		for i := range n {
			b.Time[i] = int64(i)
			if b.Pos != nil {
				b.Stamp[i], b.Pos[i] = int64(-i), int64(1000+i)
			}
		}
		var sel []uint32
		for i := range n {
			if r.IntN(2) == 0 {
				sel = append(sel, uint32(i))
			}
		}
		if len(sel) == 0 {
			continue // nodes are never pushed an empty batch
		}
		b.Gather(sel, &dst)
		if dst.N != len(sel) || dst.Split != 3 || (dst.Pos == nil) != (b.Pos == nil) {
			t.Fatalf("%d rows, wanted %d", dst.N, len(sel))
		}
		for i, from := range sel {
			if dst.Time[i] != int64(from) || dst.Pos != nil && (dst.Pos[i] != 1000+int64(from) || dst.Stamp[i] != -int64(from)) {
				t.Fatalf("row %d lost its time or place", i)
			}
			for c, v := range dst.Cols {
				if v == nil {
					if b.Cols[c] != nil {
						t.Fatalf("column %d is lost", c)
					}
					continue
				}
				if got, w := text(v.Value(i)), text(want[c][from]); got != w {
					t.Fatalf("round %d, row %d, column %d: %s, wanted %s", round, i, c, got, w)
				}
			}
		}
	}
}

// TestResize: a vector used again has no NULLs of before.
func TestResize(t *testing.T) {
	v := New(types.Of(types.BigInt))
	v.Resize(3)
	v.Set(1, 3, types.Value{})
	if !v.Null(1) || v.Null(0) || v.Len() != 3 {
		t.Error("NULL is not where it was set")
	}
	v.Resize(2)
	if v.Null(1) || v.Len() != 2 {
		t.Error("a NULL is left over")
	}
	if New(deviceType).Len() != 0 {
		t.Error("a ROW has no length of its own")
	}
}
