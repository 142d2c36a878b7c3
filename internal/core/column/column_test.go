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

// TestRows copies rows one by one, looks at parts of vectors and cuts them, for every type.
func TestRows(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, typ := range []types.Type{types.Of(types.BigInt), types.Of(types.Double), types.Of(types.Varchar), types.Of(types.Boolean), types.Of(types.Timestamp), deviceType} {
		v, vals := random(r, typ, 50)
		from := &Batch{N: 50, Cols: []*Vector{v, nil}, Time: make([]int64, 50), Split: 3}
		var to Batch
		for i := range 50 {
			to.AppendRow(from, 49-i)
		}
		if to.N != 50 || to.Cols[1] != nil || to.From[7] != 3 || to.Bytes() == 0 {
			t.Fatalf("%s: %+v", typ, to)
		}
		for i := range 50 {
			if got := text(to.Cols[0].Value(i)); got != text(vals[49-i]) {
				t.Fatalf("%s: row %d is %s, wanted %s", typ, i, got, text(vals[49-i]))
			}
		}
		part := v.View(10, 20)
		for i := range 10 {
			if got := text(part.Value(i)); got != text(vals[10+i]) {
				t.Fatalf("%s: row %d of a part is %s, wanted %s", typ, i, got, text(vals[10+i]))
			}
		}
		c := to.Cols[0]
		c.Truncate(30)
		c.AppendOf(v, 5)
		if c.Len() != 31 || text(c.Value(30)) != text(vals[5]) || text(c.Value(29)) != text(vals[20]) {
			t.Fatalf("%s: %d values, the last %s", typ, c.Len(), text(c.Value(30)))
		}
		if c.Truncate(0); c.Len() != 0 {
			t.Fatalf("%s: %d values are left", typ, c.Len())
		}
	}
}

// TestTornPairs: of a replacement whose halves part, a withdrawal or an insert stays.
func TestTornPairs(t *testing.T) {
	changes := []Change{Insert, Replaced, Replace, Withdraw, Replaced, Replace, Replaced, Replace}
	b := &Batch{N: len(changes), Time: make([]int64, len(changes)), Change: changes}
	for _, c := range []struct {
		sel  []uint32
		want []Change
	}{
		{[]uint32{0, 1, 2, 3, 4, 5, 6, 7}, changes},
		{[]uint32{1, 3}, []Change{Withdraw, Withdraw}},
		{[]uint32{2, 4, 5}, []Change{Insert, Replaced, Replace}},
		{[]uint32{4, 7}, []Change{Withdraw, Insert}},
		{[]uint32{5, 6}, []Change{Insert, Withdraw}},
	} {
		var out Batch
		b.Gather(c.sel, &out)
		if fmt.Sprint(out.Change) != fmt.Sprint(c.want) {
			t.Errorf("%v: %v, wanted %v", c.sel, out.Change, c.want)
		}
	}
}
