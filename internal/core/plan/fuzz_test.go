package plan

import (
	"errors"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// fuzzColumns has a column of every type.
const fuzzColumns = `DECLARE STREAM r (b BOOLEAN, i INT, n BIGINT, x DOUBLE, d DECIMAL(12, 3), s VARCHAR, raw VARBINARY, day DATE, tod TIME, at TIMESTAMP NOT NULL,
	span INTERVAL, device ROW(serial VARCHAR, battery DOUBLE), xs ARRAY(BIGINT), m MAP(VARCHAR, INT), doc JSON) EVENT TIME at FROM FILES 'r';`

// fuzzRows fills columns with edges and NULLs.
func fuzzRows(fields []types.Field) *column.Batch {
	const n = 7
	b := &column.Batch{N: n, Split: -1}
	words := []int64{0, 1, -1, 1 << 40, -86_400_000_001, 1_779_008_400_123_456, 9}
	for i := range n {
		b.Time = append(b.Time, words[i])
	}
	texts := []string{"", "km-15", "già", `{"a":[1,"x"]}`, "2026-05-17", "-12.5", "%_\\"}
	var value func(t types.Type, i int) types.Value
	value = func(t types.Type, i int) types.Value {
		v := types.Value{Kind: t.Kind}
		switch t.Kind {
		case types.Boolean:
			v.I = int64(i & 1)
		case types.Int, types.Date:
			v.I = words[i] % 40000
		case types.Time:
			v.I = (words[i]%types.Day + types.Day) % types.Day
		case types.Double:
			v.F = float64(words[i]) / 8
		case types.Decimal:
			return types.DecimalValue(types.NumOfInt(words[i]%1e12), t.Scale)
		case types.Varchar, types.Varbinary:
			v.S = texts[i]
		case types.JSON:
			v.S = []string{"null", "1", `"x"`, `{"a":{"b":[1,2]}}`, "[]", `{"a":null}`, "-0.5e3"}[i]
		case types.Row, types.Array, types.Map:
			v.Row = []types.Value{}
			for k, f := range t.Fields {
				x := value(f.Type, (i+k)%n)
				if k == 0 && t.Kind == types.Map && x.IsNull() {
					x = types.Value{Kind: types.Varchar}
				}
				v.Row = append(v.Row, x)
			}
		default:
			v.I = words[i]
		}
		return v
	}
	for c, f := range fields {
		v := column.New(f.Type)
		for i := range n {
			x := value(f.Type, i)
			if (i+c)%5 == 0 && !f.NotNull {
				x = types.Value{}
			}
			v.Append(x)
		}
		b.Cols = append(b.Cols, v)
	}
	return b
}

// FuzzBind: no expression makes the binder fail in another way than with errors that stand in the
// text; what binds has a type, is computed without a crash, and gives the same folded and shared.
func FuzzBind(f *testing.F) {
	for _, fn := range eval.Functions() {
		if fn.Kind == eval.Scalar {
			f.Add(fn.Example)
		}
	}
	for _, e := range []string{"i + n * d / 2 - x", "CASE WHEN b THEN s ELSE doc.a END", "xs[1] + m['k']", "device.battery BETWEEN 0.05 AND 1e0", "at + span > TIMESTAMP '2026-05-17'", "CAST(s AS DECIMAL(5, 2)) = d OR b IS NULL",
		"s LIKE 'k%' ESCAPE '!' AND s LIKE_REGEX '^k'", "at WITHIN 10 MINUTES OF at - span", "x IN (1, 2.5, NULL)", "ROW(i, s).f1", "ARRAY[i, n][2]", "TRY_CAST(doc AS ROW(a INT)).a", "s IS DISTINCT FROM CAST(raw AS VARCHAR)", "tod + 1 HOUR", "day - DATE '2026-01-01'",
		"CAST(xs AS JSON)", "at AT TIME ZONE 'Europe/Rome'", "COALESCE(i, n, d)", "GREATEST(d, n)", "-d % 7", "n DIV 0", "i = d", "NOT b", "CAST(d AS INT)", "MOD(d, 0.3)", "m = m", "xs = ARRAY[1]"} {
		f.Add(e)
	}
	cat := NewCatalog([]Place{{Kind: "files", Source: []OptionSpec{}}})
	if _, _, err := cat.Bind("t", fuzzColumns, nil, nil); err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, expr string) {
		text := "SELECT " + expr + " AS y FROM r;"
		script, err := sql.Parse("f", text, nil)
		if err != nil || len(script.Statements) != 1 {
			return
		}
		q, ok := script.Statements[0].(*sql.Query)
		if !ok || len(q.Body.Items) != 1 || q.Body.Items[0].Expr == nil {
			return
		}
		errs := &sql.Errors{File: "f", Text: text}
		in := &scopeInput{name: "r"}
		for _, c := range cat.Streams["r"].shown {
			in.cols = append(in.cols, scopeColumn{name: c.Name, expr: c.expr})
		}
		b := &binder{cat: cat, errs: errs, scope: &scope{inputs: []*scopeInput{in}}, where: "SELECT"}
		x := b.expr(q.Body.Items[0].Expr)
		if err := errs.Err(); err != nil {
			var e *sql.Errors
			if !errors.As(err, &e) || x != nil && len(e.List) == 0 {
				t.Fatal(err)
			}
			for _, d := range e.List {
				if d.Span.From < 0 || d.Span.To > len(text) || d.Message == "" {
					t.Fatalf("%+v", d)
				}
			}
			return
		}
		if x == nil {
			t.Fatalf("%s gives neither an expression nor an error", expr)
		}
		if x.IsVolatile() {
			return
		}
		rows := fuzzRows(cat.Streams["r"].Columns)
		show := func(e *eval.Expr) (out []string) {
			var m eval.Machine
			m.Begin()
			v := m.Eval(e, rows)
			failed := map[int]bool{}
			for _, f := range m.Failures {
				if f.Reason == "" || f.Row < 0 || f.Row >= rows.N {
					t.Fatalf("%s: %+v", expr, f)
				}
				failed[f.Row] = true
			}
			if len(failed) > 0 && !e.CanFail() {
				t.Fatalf("%s fails, but says that it cannot: %v", expr, m.Failures)
			}
			for i := range rows.N {
				if failed[i] {
					out = append(out, "failed")
					continue
				}
				y := v.Value(i)
				if !y.IsNull() && y.Kind != e.Type.Kind {
					t.Fatalf("%s is %s, but gives %s", expr, e.Type, y.Kind)
				}
				out = append(out, string(types.AppendJSON(nil, y, e.Type)))
			}
			return out
		}
		want := show(x)
		folded := eval.Fold(x)
		both := []*eval.Expr{folded, folded}
		eval.Share(both)
		for k, got := range [][]string{show(folded), show(both[0])} {
			for i := range want {
				if got[i] != want[i] {
					t.Fatalf("%s, row %d: %s, but %s once folded (%d)", expr, i, want[i], got[i], k)
				}
			}
		}
	})
}
