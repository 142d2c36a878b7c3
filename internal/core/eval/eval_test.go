package eval

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// batchOf makes a batch of columns of the kinds, filled by value.
func batchOf(n int, kinds []types.Kind, value func(row, col int) types.Value) *column.Batch {
	b := &column.Batch{N: n, Time: make([]int64, n)}
	for c, k := range kinds {
		v := column.New(types.Of(k))
		v.Resize(n)
		for i := range n {
			v.Set(i, n, value(i, c))
		}
		b.Cols = append(b.Cols, v)
	}
	return b
}

var wholeEdges = []int64{0, 1, -1, 2, 3, -7, 10, 1 << 31, -(1 << 31), math.MaxInt64, math.MinInt64, math.MaxInt64 - 1, 3037000500}

// TestWholeArithmetic compares + - * DIV % with unbounded numbers: the same result, or the row's error.
func TestWholeArithmetic(t *testing.T) {
	n := len(wholeEdges) * len(wholeEdges)
	b := batchOf(n, []types.Kind{types.BigInt, types.BigInt}, func(i, c int) types.Value {
		k := i / len(wholeEdges)
		if c == 1 {
			k = i % len(wholeEdges)
		}
		return types.Value{Kind: types.BigInt, I: wholeEdges[k]}
	})
	for _, op := range []string{"+", "-", "*", "DIV", "%"} {
		e, err := Arithmetic(op, Column(0, bigint), Column(1, bigint))
		if err != nil {
			t.Fatal(err)
		}
		var m Machine
		v := m.Eval(e, b)
		failed := map[int]string{}
		for _, f := range m.Failures {
			failed[f.Row] = f.Reason
		}
		for i := range n {
			x, y := big.NewInt(b.Cols[0].I[i]), big.NewInt(b.Cols[1].I[i])
			z := new(big.Int)
			reason := ""
			switch op {
			case "+":
				z.Add(x, y)
			case "-":
				z.Sub(x, y)
			case "*":
				z.Mul(x, y)
			default:
				if y.Sign() == 0 {
					reason = "division by zero"
				} else if op == "DIV" {
					z.Quo(x, y)
				} else {
					z.Rem(x, y)
				}
			}
			if reason == "" && !z.IsInt64() {
				reason = "overflow"
			}
			if (reason == "") != (failed[i] == "") || !strings.HasPrefix(failed[i], reason) {
				t.Errorf("%s %s %s: %q, wanted %q", x, op, y, failed[i], reason)
			} else if reason == "" && v.I[i] != z.Int64() {
				t.Errorf("%s %s %s = %d, wanted %s", x, op, y, v.I[i], z)
			}
		}
	}
}

// TestLogic compares AND, OR, NOT and IS with the tables of three-valued logic, with operands that
// fail among them.
func TestLogic(t *testing.T) {
	const no, yes, null, fails = 0, 1, 2, 3
	states := []int{no, yes, null, fails}
	b := batchOf(16, []types.Kind{types.BigInt, types.BigInt}, func(i, c int) types.Value {
		k := states[i/4]
		if c == 1 {
			k = states[i%4]
		}
		return types.Value{Kind: types.BigInt, I: int64(k)}
	})
	// 6 / (3 - s) > 2.5 is false for 0 (2) and true for 1 (3); NULL for 2, an error for 3.
	operand := func(c int) *Expr {
		s := Column(c, bigint)
		two := Const(bigint, types.Value{Kind: types.BigInt, I: 2})
		three := Const(bigint, types.Value{Kind: types.BigInt, I: 3})
		nullif, err := Lookup("nullif").Bind([]*Expr{s, two})
		if err != nil {
			t.Fatal(err)
		}
		diff, _ := Arithmetic("-", three, nullif)
		div, _ := Arithmetic("/", Const(bigint, types.Value{Kind: types.BigInt, I: 6}), diff)
		e, err := Compare(">", div, Const(double, types.Value{Kind: types.Double, F: 2.5}))
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	check := func(name string, e *Expr, want func(x, y int) int) {
		t.Helper()
		var m Machine
		v := m.Eval(e, b)
		failed := map[int]bool{}
		for _, f := range m.Failures {
			failed[f.Row] = true
		}
		for i := range 16 {
			got := no
			switch {
			case failed[i]:
				got = fails
			case v.Null(i):
				got = null
			case v.B[i]:
				got = yes
			}
			if w := want(states[i/4], states[i%4]); got != w {
				t.Errorf("%d %s %d: %d, wanted %d", states[i/4], name, states[i%4], got, w)
			}
		}
	}
	decided := func(by int) func(x, y int) int {
		return func(x, y int) int {
			switch {
			case x == by || y == by:
				return by
			case x == fails || y == fails:
				return fails
			case x == null || y == null:
				return null
			}
			return 1 - by
		}
	}
	and := &Expr{Op: OpAnd, Type: boolean, Args: []*Expr{operand(0), operand(1)}}
	or := &Expr{Op: OpOr, Type: boolean, Args: []*Expr{operand(0), operand(1)}}
	check("AND", and, decided(no))
	check("OR", or, decided(yes))
	one := func(f func(x int) int) func(x, y int) int { return func(x, _ int) int { return f(x) } }
	check("NOT", &Expr{Op: OpNot, Type: boolean, Args: []*Expr{operand(0)}}, one(func(x int) int {
		if x <= yes {
			return 1 - x
		}
		return x
	}))
	check("IS NULL", &Expr{Op: OpIsNull, Type: boolean, Args: []*Expr{operand(0)}}, one(func(x int) int {
		return []int{no, no, yes, fails}[x]
	}))
	check("IS TRUE", &Expr{Op: OpIsTrue, Type: boolean, Args: []*Expr{operand(0)}}, one(func(x int) int {
		return []int{no, yes, no, fails}[x]
	}))
	// CASE looks at a result only where it is taken.
	check("CASE", &Expr{Op: OpCase, Type: boolean, Args: []*Expr{
		{Op: OpIsNull, Type: boolean, Args: []*Expr{Column(0, bigint)}}, operand(0),
		mustCompare(t, "=", Column(0, bigint), Const(bigint, types.Value{Kind: types.BigInt, I: fails})), Const(boolean, types.Value{Kind: types.Boolean, I: 1}), operand(1),
	}}, func(x, y int) int {
		if x == fails {
			return yes
		}
		return y
	})
}

func mustCompare(t *testing.T, op string, x, y *Expr) *Expr {
	t.Helper()
	e, err := Compare(op, x, y)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// TestLike compares LIKE with a plain matcher that tries everything.
func TestLike(t *testing.T) {
	var plain func(s, p []rune) bool
	plain = func(s, p []rune) bool {
		switch {
		case len(p) == 0:
			return len(s) == 0
		case p[0] == '%':
			return plain(s, p[1:]) || len(s) > 0 && plain(s[1:], p)
		case p[0] == '_':
			return len(s) > 0 && plain(s[1:], p[1:])
		case p[0] == '\\' && len(p) > 1:
			return len(s) > 0 && s[0] == p[1] && plain(s[1:], p[2:])
		}
		return len(s) > 0 && s[0] == p[0] && plain(s[1:], p[1:])
	}
	r := rand.New(rand.NewPCG(1, 1))
	word := func(letters []rune, n int) string {
		var b strings.Builder
		for range r.IntN(n) {
			b.WriteRune(letters[r.IntN(len(letters))])
		}
		return b.String()
	}
	for range 100000 {
		s, p := word([]rune("abü%_"), 9), word([]rune(`abü%%__\`), 7)
		if got, want := like([]byte(s), []byte(p), '\\'), plain([]rune(s), []rune(p)); got != want {
			t.Fatalf("%q LIKE %q: %v, wanted %v", s, p, got, want)
		}
	}
	// A pattern that makes a careless matcher try for ever.
	if like([]byte(strings.Repeat("a", 5000)), []byte(strings.Repeat("%a", 40)+"b"), '\\') {
		t.Error("matched")
	}
}

// TestAggregates compares the aggregates with sums and extremes of unbounded numbers, over rows that
// come in any order and in any parts.
func TestAggregates(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for round := range 150 {
		n := 1 + r.IntN(60)
		ints, doubles, texts := make([]types.Value, n), make([]types.Value, n), make([]types.Value, n)
		for i := range n {
			ints[i] = types.Value{Kind: types.BigInt, I: r.Int64N(2000) - 1000}
			if round%5 == 0 {
				ints[i].I = wholeEdges[r.IntN(len(wholeEdges))]
			}
			doubles[i] = types.Value{Kind: types.Double, F: r.NormFloat64() * math.Pow10(r.IntN(12))}
			texts[i] = types.Value{Kind: types.Varchar, S: fmt.Sprint(r.IntN(100))}
			for _, vs := range [][]types.Value{ints, doubles, texts} {
				if r.IntN(5) == 0 {
					vs[i] = types.Value{Kind: types.Null}
				}
			}
		}
		order := r.Perm(n)
		kinds := []types.Kind{types.BigInt, types.Double, types.Varchar}
		cols := [][]types.Value{ints, doubles, texts}
		var aggs []*Aggregate
		for c, k := range kinds {
			for _, name := range []string{"count", "sum", "avg", "min", "max"} {
				a, err := BindAggregate(AggregateCall{Name: name, Args: []*Expr{Column(c, types.Of(k))}})
				if err != nil {
					continue
				}
				aggs = append(aggs, a)
			}
		}
		width := 0
		for _, a := range aggs {
			width += a.Words()
		}
		total := &state.Groups{Width: width}
		main := total.Find(7, 0, []byte("k"))
		for from := 0; from < n; { // parts of the rows, merged
			to := min(n, from+1+r.IntN(20))
			part := &state.Groups{Width: width}
			e := part.Find(7, 0, []byte("k"))
			b := batchOf(to-from, kinds, func(i, c int) types.Value { return cols[c][order[from+i]] })
			groups := make([]int32, to-from)
			for i := range groups {
				groups[i] = int32(e)
			}
			at := 0
			for _, a := range aggs {
				a.Update(part, at, groups, Rows{Values: b.Cols[a.Arg.Index], Batch: b})
				at += a.Words()
			}
			at = 0
			for _, a := range aggs {
				a.Merge(total, main, part, e, at)
				at += a.Words()
			}
			from = to
		}
		at := 0
		for _, a := range aggs {
			out := column.New(a.Type)
			out.Resize(1)
			failure := ""
			a.Final(total, []uint32{main}, at, out, func(i int, reason string) { failure = reason })
			at += a.Words()
			var vals []types.Value
			for _, v := range cols[a.Arg.Index] {
				if !v.IsNull() {
					vals = append(vals, v)
				}
			}
			got := out.Value(0)
			what := fmt.Sprintf("round %d: %s of %v", round, a.Name, vals)
			if a.Name == "count" {
				if got.I != int64(len(vals)) {
					t.Fatalf("%s = %d", what, got.I)
				}
				continue
			}
			if len(vals) == 0 {
				if !got.IsNull() {
					t.Fatalf("%s = %v, wanted NULL", what, got)
				}
				continue
			}
			switch a.Name {
			case "min", "max":
				want := vals[0]
				for _, v := range vals {
					if c := CompareValues(v, want); c < 0 && a.Name == "min" || c > 0 && a.Name == "max" {
						want = v
					}
				}
				if CompareValues(got, want) != 0 {
					t.Fatalf("%s = %v, wanted %v", what, got, want)
				}
			default:
				sum := new(big.Float).SetPrec(400)
				for _, v := range vals {
					x := new(big.Float).SetInt64(v.I)
					if v.Kind == types.Double {
						x = big.NewFloat(v.F)
					}
					sum.Add(sum, x)
				}
				if a.Type.Kind == types.BigInt {
					z, _ := sum.Int(nil)
					if z.IsInt64() != (failure == "") || failure == "" && got.I != z.Int64() {
						t.Fatalf("%s = %d %q, wanted %s", what, got.I, failure, z)
					}
					continue
				}
				if a.Name == "avg" {
					sum.Quo(sum, big.NewFloat(float64(len(vals))))
				}
				want, _ := sum.Float64()
				if math.Abs(got.F-want) > 1e-14*math.Abs(want) && math.Abs(got.F-want) > 1e-6*1e-9 {
					t.Fatalf("%s = %v, wanted %v", what, got.F, want)
				}
			}
		}
	}
}

// TestCasts: what each CAST gives, or that it fails, or with TRY gives NULL.
func TestCasts(t *testing.T) {
	text := func(s string) types.Value { return types.Value{Kind: types.Varchar, S: s} }
	num := func(f float64) types.Value { return types.Value{Kind: types.Double, F: f} }
	for _, c := range []struct {
		in   types.Value
		to   types.Kind
		want string // "!" for failure
	}{
		{text("12"), types.Int, "12"}, {text(" -7 "), types.BigInt, "-7"}, {text("1e3"), types.BigInt, "1000"}, {text("x"), types.Int, "!"}, {text(""), types.Int, "!"},
		{text("2147483648"), types.Int, "!"}, {text("2147483648"), types.BigInt, "2147483648"}, {text("2.5"), types.BigInt, "3"}, {text("-2.5"), types.BigInt, "-3"},
		{num(2.4), types.Int, "2"}, {num(0.5), types.Int, "1"}, {num(-0.5), types.Int, "-1"}, {num(1e19), types.BigInt, "!"}, {num(math.NaN()), types.BigInt, "!"}, {num(math.Inf(1)), types.Int, "!"},
		{text("1.25"), types.Double, "1.25"}, {text("abc"), types.Double, "!"}, {text("TRUE"), types.Boolean, "true"}, {text("no"), types.Boolean, "!"},
		{text("2026-05-17 09:00"), types.Timestamp, "2026-05-17T09:00:00.000Z"}, {text("soon"), types.Timestamp, "!"}, {text("2026-05-17"), types.Date, "2026-05-17"},
		{types.Value{Kind: types.Timestamp, I: -1}, types.Date, "1969-12-31"}, {types.Value{Kind: types.Date, I: 1}, types.Timestamp, "1970-01-02T00:00:00.000Z"},
		{types.Value{Kind: types.BigInt, I: 1 << 40}, types.Int, "!"}, {types.Value{Kind: types.BigInt, I: 5}, types.Double, "5"}, {num(-81.5), types.Varchar, "-81.5"},
		{types.Value{Kind: types.Boolean, I: 1}, types.Varchar, "true"}, {types.Value{Kind: types.Interval, I: types.Minute}, types.Varchar, "PT1M"},
		{types.Value{Kind: types.Null}, types.Int, ""},
	} {
		from := c.in.Kind
		if c.in.IsNull() {
			from = types.Varchar
		}
		b := batchOf(1, []types.Kind{from}, func(int, int) types.Value { return c.in })
		for _, try := range []bool{false, true} {
			var m Machine
			v := m.Eval(&Expr{Op: OpCast, Type: types.Of(c.to), Args: []*Expr{Column(0, types.Of(from))}, Try: try}, b)
			got := string(types.AppendText(nil, v.Value(0)))
			want := c.want
			if want == "!" {
				want = ""
				if !v.Null(0) || (len(m.Failures) == 1) == try {
					t.Errorf("%v to %v, try %v: %v, %v", c.in, c.to, try, v.Value(0), m.Failures)
				}
			}
			if got != want {
				t.Errorf("%v to %v: %q, wanted %q", c.in, c.to, got, want)
			}
		}
	}
}

// TestCatalogue: every function has forms, a text and an example, and refuses what it does not take.
func TestCatalogue(t *testing.T) {
	if len(Functions()) < 90 {
		t.Errorf("only %d functions", len(Functions()))
	}
	row := types.Type{Kind: types.Row, Fields: []types.Field{{Name: "a", Type: bigint}}}
	for _, f := range Functions() {
		if !strings.HasPrefix(f.Signatures[0], f.Name) || !strings.HasSuffix(f.Doc, ".") || f.Nulls == "" || f.Group == "" || f.Example == "" && f.Kind != OverRows {
			t.Errorf("%+v", f)
		}
		switch f.Name {
		case "hash64", "coalesce", "concat", "map_of": // they take any type
			continue
		}
		if e, err := f.Bind([]*Expr{Column(0, row), Column(1, row), Column(2, row), Column(3, row)}); err == nil {
			t.Errorf("%s takes rows: %+v", f.Name, e)
		}
	}
}

func BenchmarkFilter(b *testing.B) {
	const n = 4096
	batch := batchOf(n, []types.Kind{types.Double, types.Double}, func(i, c int) types.Value { return types.Value{Kind: types.Double, F: float64(i%90) - 90} })
	gt, _ := Compare(">", Column(0, double), Const(double, types.Value{Kind: types.Double, F: -70}))
	lt, _ := Compare("<", Column(1, double), Const(double, types.Value{Kind: types.Double, F: -20}))
	e := &Expr{Op: OpAnd, Type: boolean, Args: []*Expr{gt, lt}}
	var m Machine
	var sel []uint32
	for b.Loop() {
		sel = m.Select(e, batch, sel)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*n), "ns/row")
}
