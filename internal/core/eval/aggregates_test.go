package eval

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// TestAggregatesOfParts: rows in any order, in any parts and through a snapshot give what one pass over
// them in their order gives.
func TestAggregatesOfParts(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	kinds := []types.Type{bigint, double, varchar, types.DecimalOf(12, 2), boolean}
	for round := range 120 {
		n := 1 + r.IntN(300)
		all := &column.Batch{N: n, Split: 1}
		for range kinds {
			all.Cols = append(all.Cols, nil)
		}
		for c, k := range kinds {
			v := column.New(k)
			for i := range n {
				x := types.Value{Kind: k.Kind, I: r.Int64N(40) - 20, F: float64(r.IntN(64)) / 8, S: fmt.Sprint("t", r.IntN(30))}
				switch k.Kind {
				case types.Boolean:
					x.I &= 1
				case types.Decimal:
					x = types.DecimalValue(types.NumOfInt(r.Int64N(1e6)-5e5), k.Scale)
				}
				if r.IntN(6) == 0 {
					x = types.Value{}
				}
				v.Append(x)
				if c == 0 {
					all.Time, all.Pos = append(all.Time, int64(r.IntN(n))), append(all.Pos, int64(i))
				}
			}
			all.Cols[c] = v
		}
		var aggs []*Aggregate
		for c, k := range kinds {
			x := Column(c, k)
			for _, call := range []AggregateCall{{Name: "count"}, {Name: "sum"}, {Name: "avg"}, {Name: "min"}, {Name: "max"}, {Name: "first_value"}, {Name: "last_value"}, {Name: "array_agg"}, {Name: "listagg"},
				{Name: "bool_and"}, {Name: "bool_or"}, {Name: "approx_count_distinct"}} {
				for _, distinct := range []bool{false, true} {
					call.Args, call.Distinct = []*Expr{x}, distinct
					if a, err := BindAggregate(call); err == nil {
						aggs = append(aggs, a)
					}
				}
			}
			for _, call := range []AggregateCall{{Name: "arg_max", Args: []*Expr{Column(2, varchar), x}}, {Name: "arg_min", Args: []*Expr{x, Column(0, bigint)}},
				{Name: "array_agg", Args: []*Expr{x}, Order: []*Expr{Column(1, double)}, Desc: true}, {Name: "approx_percentile", Args: []*Expr{x, Const(double, types.Value{Kind: types.Double, F: 0.5})}},
				{Name: "percentile_cont", Args: []*Expr{Const(double, types.Value{Kind: types.Double, F: 0.9})}, Order: []*Expr{x}},
				{Name: "count", Star: true, Filter: Column(4, boolean)}} {
				if a, err := BindAggregate(call); err == nil {
					a.Filter = call.Filter
					aggs = append(aggs, a)
				}
			}
		}
		if len(aggs) < 70 {
			t.Fatalf("only %d aggregates", len(aggs))
		}
		width := 0
		for _, a := range aggs {
			width += a.Words()
		}
		add := func(g *state.Groups, rows []uint32) uint32 {
			var m Machine
			var part column.Batch
			all.Gather(rows, &part)
			e := g.Find(1, 0, []byte("k"))
			at := 0
			for _, a := range aggs {
				m.Begin()
				a.Update(g, at, make([]int32, len(rows)), m.Rows(a, &part))
				at += a.Words()
			}
			return e
		}
		order := make([]uint32, n)
		for i := range order {
			order[i] = uint32(i)
		}
		whole := &state.Groups{Width: width}
		add(whole, order)
		r.Shuffle(n, func(i, j int) { order[i], order[j] = order[j], order[i] })
		parts := &state.Groups{Width: width}
		main := parts.Find(1, 0, []byte("k"))
		for rows := range slices.Chunk(order, 1+r.IntN(40)) {
			part := &state.Groups{Width: width}
			e := add(part, rows)
			at := 0
			for _, a := range aggs {
				a.Merge(parts, main, part, e, at)
				at += a.Words()
			}
		}
		kept, _, err := state.ReadGroups(parts.AppendTo(nil))
		if err != nil {
			t.Fatal(err)
		}
		at := 0
		for _, a := range aggs {
			final := func(g *state.Groups) string {
				out := column.New(a.Type)
				out.Resize(1)
				a.Final(g, []uint32{0}, at, out, func(int, string) {})
				return string(types.AppendJSON(nil, out.Value(0), a.Type))
			}
			if one, two := final(whole), final(kept); one != two {
				t.Fatalf("round %d: %s of %s: %s in one pass, %s in parts", round, a.Name, a.Type, one, two)
			}
			at += a.Words()
		}
	}
}

// TestEstimates: the estimates keep the errors that they promise.
func TestEstimates(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, n := range []int{1, 200, 256, 257, 5_000, 300_000} {
		g := &state.Groups{Width: 5}
		s := g.Of(g.Find(0, 0, nil))
		var xs []float64
		for i := range n {
			addHash(g, s, hashOf(fmt.Append(nil, i)))
			addHash(g, s, hashOf(fmt.Append(nil, i/2))) // seen before
			x := math.Exp(r.NormFloat64() * 3)
			xs = append(xs, x)
			addBucket(g, s[3:], bucketOf(x), 1)
		}
		got := countHashes(g.GetText(s[0]), s[2])
		if bound := 0.065 * float64(n); n <= exactHashes && got != int64(n) || math.Abs(float64(got)-float64(n)) > bound { // four standard errors
			t.Errorf("%d values are counted as %d", n, got)
		}
		slices.Sort(xs)
		for _, f := range []float64{0, 0.1, 0.5, 0.99, 1} {
			want := xs[int(f*float64(n-1))]
			if x := quantile(g.GetText(s[3]), f); math.Abs(x-want) > 0.0101*want {
				t.Errorf("the %v of %d is %v, not %v", f, n, x, want)
			}
		}
	}
}
