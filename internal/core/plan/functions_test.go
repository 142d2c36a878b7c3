package plan

import (
	"strings"
	"testing"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// evalOne computes an expression over the rows of x: for an aggregate the result of all of them, else
// that of the first.
func evalOne(t *testing.T, expr string, xs []types.Value) string {
	t.Helper()
	cat := NewCatalog([]Place{{Kind: "files", Source: []OptionSpec{}}})
	text := "DECLARE STREAM r (x BIGINT, at TIMESTAMP) EVENT TIME at FROM FILES 'r'; SELECT " + expr + " AS y FROM r;"
	aggregate := strings.Contains(expr, "x") && eval.IsAggregate(firstAggregate(expr))
	if aggregate {
		text = strings.TrimSuffix(text, ";") + " GROUP BY w WINDOW w AS (TUMBLING 1 DAY);"
	}
	plans, _, err := cat.Bind("t", text, nil, nil)
	if err != nil {
		t.Error(err)
		return ""
	}
	in := &column.Batch{N: len(xs), Time: make([]int64, len(xs)), Pos: make([]int64, len(xs)), Cols: []*column.Vector{column.New(types.Of(types.BigInt)), column.New(types.Of(types.Timestamp))}}
	for i, x := range xs {
		in.Time[i], in.Pos[i] = int64(i), int64(i)
		in.Cols[0].Append(x)
		in.Cols[1].Append(types.Value{Kind: types.Timestamp, I: int64(i)})
	}
	m := eval.Machine{Now: time.Now().UnixMicro()}
	var project *Op
	for _, o := range plans[0].Ops {
		switch o.Kind {
		case Window:
			g := &state.Groups{}
			for _, a := range o.Agg.Aggregates {
				g.Width += a.Words()
			}
			e := g.Find(0, 0, nil)
			out := &column.Batch{N: 1, Time: []int64{0}}
			for _, f := range o.Fields {
				v := column.New(f.Type)
				v.Resize(1)
				out.Cols = append(out.Cols, v)
			}
			at := 0
			for i, a := range o.Agg.Aggregates {
				m.Begin()
				a.Update(g, at, make([]int32, in.N), m.Rows(a, in))
				a.Final(g, []uint32{e}, at, out.Cols[2+i], func(_ int, why string) { t.Errorf("%s: %s", expr, why) })
				at += a.Words()
			}
			in = out
		case Project:
			project = o
		}
	}
	m.Begin()
	v := m.Eval(project.Exprs[0], in)
	for _, f := range m.Failures {
		t.Errorf("%s: %s", expr, f.Reason)
	}
	x := v.Value(0)
	if v.Type.IsNested() && !x.IsNull() {
		return string(types.AppendJSON(nil, x, v.Type))
	}
	return string(types.AppendText(nil, x))
}

// firstAggregate gives the name of an aggregate that an expression calls, or "".
func firstAggregate(expr string) (name string) {
	s, err := sql.Parse("t", "SELECT "+expr+" FROM r;", nil)
	if err != nil {
		return ""
	}
	sql.WalkExpr(s.Statements[0].(*sql.Query).Body.Items[0].Expr, func(e sql.Expr) {
		if c, ok := e.(*sql.Call); ok && eval.IsAggregate(c.Name.Text) {
			name = c.Name.Text
		}
	})
	return name
}

// TestExamples runs the example of every function of the catalogue.
func TestExamples(t *testing.T) {
	rows := []types.Value{{Kind: types.BigInt, I: 1}, {Kind: types.BigInt, I: 2}, {Kind: types.BigInt, I: 2}, {Kind: types.Null}}
	for _, f := range eval.Functions() {
		if f.Kind == eval.OverRows {
			continue
		}
		if got := evalOne(t, f.Example, rows); got != f.Result {
			t.Errorf("%s gives %s, the catalogue says %s", f.Example, got, f.Result)
		}
	}
}
