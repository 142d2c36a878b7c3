package eval

import (
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// TestMask: a text has the same name in its place each time, with one key; other values are NULL, of whatever type.
func TestMask(t *testing.T) {
	a, b := NewMask([]byte("one key")), NewMask([]byte("another"))
	x := a.Text("P00017")
	if x != NewMask([]byte("one key")).Text("P00017") || x == b.Text("P00017") || x == a.Text("P00018") || len(x) != 13 || a.Text(x) != x {
		t.Errorf("%s %s %s", x, b.Text("P00017"), a.Text("P00018"))
	}
	for _, like := range []string{"~", "~kfgukbvx4u2", "~kfgukbvx4u2Q", "kfgukbvx4u2qq", "~kfgukbvx4u21", ""} { // not quite a masked one
		if a.Text(like) == like {
			t.Errorf("%q was not masked", like)
		}
	}
	for _, typ := range []types.Type{types.Of(types.Varchar), types.Of(types.BigInt), types.Of(types.Double), types.Of(types.Boolean), types.Of(types.Timestamp), types.Of(types.Date), types.Of(types.JSON), types.Of(types.Varbinary),
		types.DecimalOf(10, 2), types.ArrayOf(types.Of(types.Varchar)), types.MapOf(types.Of(types.Varchar), types.Of(types.Int)), {Kind: types.Row, Fields: []types.Field{{Name: "a", Type: types.Of(types.Int)}}}} {
		v := column.New(typ)
		value := types.Value{} // of nested types no value is at hand
		if !typ.IsNested() && typ.Kind != types.Varchar {
			value = types.Value{Kind: typ.Kind, I: 1, S: "1"}
		}
		v.Append(value)
		v.Append(types.Value{})
		batch := &column.Batch{N: 2, Cols: []*column.Vector{v}}
		var m Machine
		for range 3 { // what a batch leaves behind is used again
			m.Begin()
			out := m.Eval(a.Of(Column(0, typ)), batch)
			for i := range batch.N {
				if !out.Value(i).IsNull() {
					t.Errorf("%s: %v", typ, out.Value(i))
				}
			}
		}
	}
}
