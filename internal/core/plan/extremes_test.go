package plan

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// extremes fills the columns of fuzzColumns with values at the ends of their types, texts of a megabyte among them.
func extremes(fields []types.Field) *column.Batch {
	const n = 12
	b := fuzzRows(fields)
	out := &column.Batch{N: n, Split: -1}
	words := []int64{math.MaxInt64, math.MinInt64, math.MaxInt32, math.MinInt32, types.LastTimestamp, types.FirstTimestamp, 0, -1, 1 << 53, 1_000_000, 16_000_000, 3}
	floats := []float64{math.Inf(1), math.Inf(-1), math.NaN(), math.MaxFloat64, math.SmallestNonzeroFloat64, math.Copysign(0, -1), 1e300, 1e-300, 9.007199254740993e15, 0.1, -1, 1e19}
	million := strings.Repeat("a", 1_000_000)
	texts := []string{million, strings.Repeat("é,", 300_000), "", ",", strings.Repeat("[", 9000) + strings.Repeat("]", 9000), `{"a":` + strings.Repeat("[1,", 200_000), "9999-12-31T23:59:59-01:00", "1e400", "%_%_%_%", strings.Repeat("%", 5000), "\x00", "P9999999999D"}
	for c, f := range fields {
		v := column.New(f.Type)
		for i := range n {
			x := b.Cols[c].Value(i % b.N)
			switch f.Type.Kind {
			case types.BigInt, types.Interval:
				x = types.Value{Kind: f.Type.Kind, I: words[i]}
			case types.Timestamp:
				x = types.Value{Kind: f.Type.Kind, I: min(max(words[i], types.FirstTimestamp), types.LastTimestamp)}
			case types.Int:
				x = types.Value{Kind: f.Type.Kind, I: int64(int32(words[i]))}
			case types.Double:
				x = types.Value{Kind: f.Type.Kind, F: floats[i]}
			case types.Varchar, types.Varbinary:
				x = types.Value{Kind: f.Type.Kind, S: texts[i]}
			}
			v.Append(x)
		}
		out.Cols = append(out.Cols, v)
	}
	for i := range n {
		out.Time = append(out.Time, words[i]%types.Day)
	}
	return out
}

// TestExtremes calls every function with generated arguments, calls in calls, over extreme values: none crashes, none goes on
// for ever, and what they make stays within its bounds. QUERIES makes it longer.
func TestExtremes(t *testing.T) {
	queries := 600
	if n, err := strconv.Atoi(os.Getenv("QUERIES")); err == nil {
		queries = n
	}
	cat := NewCatalog([]Place{{Kind: "files", Source: []OptionSpec{}}})
	if _, _, err := cat.Bind("t", fuzzColumns, nil, nil); err != nil {
		t.Fatal(err)
	}
	rows := extremes(cat.Streams["r"].Columns)
	var names []string
	for _, f := range eval.Functions() {
		if f.Kind == eval.Scalar {
			names = append(names, f.Name)
		}
	}
	atoms := []string{"b", "i", "n", "x", "d", "s", "s", "s", "raw", "day", "tod", "at", "span", "xs", "m", "doc", "'a'", "','", "'(a|b|,)*c?{0,900}'", "1", "-1", "9223372036854775807", "1e308", "1000000", "NULL", "INTERVAL '1' DAY", "'YYYY-MM-DD'", "'$.a[*]'"}
	r := rand.New(rand.NewPCG(11, 5))
	var write func(depth int) string
	write = func(depth int) string {
		switch {
		case depth == 0 || r.IntN(4) == 0:
			return atoms[r.IntN(len(atoms))]
		case r.IntN(6) == 0:
			return "(" + write(depth-1) + []string{" || ", " + ", " * ", " - ", " / ", " = ", " LIKE "}[r.IntN(7)] + write(depth-1) + ")"
		case r.IntN(8) == 0:
			return "CAST(" + write(depth-1) + " AS " + []string{"VARCHAR", "BIGINT", "DOUBLE", "JSON", "TIMESTAMP", "DECIMAL(38, 10)", "ARRAY(VARCHAR)"}[r.IntN(7)] + ")"
		}
		var args []string
		for range 1 + r.IntN(3) {
			args = append(args, write(depth-1))
		}
		return names[r.IntN(len(names))] + "(" + strings.Join(args, ", ") + ")"
	}
	bound, called := 0, map[string]bool{}
	for tries := 0; bound < queries && tries < 400*queries; tries++ {
		expr := write(1 + r.IntN(3))
		text := "SELECT " + expr + " AS y FROM r;"
		script, err := sql.Parse("f", text, nil)
		if err != nil {
			continue
		}
		p := cat.Query(script.Statements[0].(*sql.Query), &sql.Errors{File: "f", Text: text})
		if p == nil {
			continue
		}
		bound++
		for _, f := range names {
			called[f] = called[f] || strings.Contains(expr, f+"(")
		}
		for _, o := range p.Ops {
			if o.Kind != Project {
				continue
			}
			for _, e := range o.Exprs {
				over(t, expr, e, rows)
			}
		}
		if bound%100 == 0 {
			var m runtime.MemStats
			if runtime.ReadMemStats(&m); m.HeapInuse > 3<<30 {
				t.Fatalf("%s: the heap has %d MB", expr, m.HeapInuse>>20)
			}
		}
	}
	if bound < queries || len(called) < len(names)/2 {
		t.Errorf("only %d expressions with %d of %d functions", bound, len(called), len(names))
	}
}

// over evaluates an expression as a step does, in halves where it makes too much.
func over(t *testing.T, expr string, e *eval.Expr, rows *column.Batch) {
	if e == nil {
		return
	}
	var m eval.Machine
	m.Begin()
	v := m.Eval(e, rows)
	for _, f := range m.Failures {
		if f.Reason == "" || f.Row < 0 || f.Row >= rows.N {
			t.Fatalf("%s: %+v", expr, f)
		}
	}
	if !m.Cut(rows.N) {
		if rows.N == 1 && len(v.Data) > eval.MaxValue+1<<20 && e.Op == eval.OpCall {
			t.Fatalf("%s makes a value of %d bytes", expr, len(v.Data))
		}
		_ = fmt.Sprint(v.Value(0).Kind)
		return
	}
	for k, n := range [2]int{rows.N / 2, rows.N - rows.N/2} {
		var sel []uint32
		for i := range n {
			sel = append(sel, uint32(k*(rows.N/2)+i))
		}
		half := &column.Batch{}
		rows.Gather(sel, half)
		over(t, expr, e, half)
	}
}
