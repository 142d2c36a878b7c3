package eval

import (
	"bytes"
	"fmt"
	"math"
	"math/bits"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Compare binds x op y for = <> < <= > >=.
func Compare(op string, x, y *Expr) (*Expr, error) {
	// Text written where an instant or a date is meant is read as one.
	for _, p := range [2]*[2]*Expr{{x, y}, {y, x}} {
		c, other := p[0], p[1]
		if c.Op == OpConst && c.Type.Kind == types.Varchar && (other.Type.Kind == types.Timestamp || other.Type.Kind == types.Date) {
			v, ok := castValue(c.Value, other.Type.Kind)
			if !ok {
				return nil, fmt.Errorf("'%s' is no %s", c.Value.S, other.Type)
			}
			if c == x {
				x = Const(other.Type, v)
			} else {
				y = Const(other.Type, v)
			}
		}
	}
	t, ok := Common(x.Type, y.Type)
	if !ok || t.Kind == types.Row {
		return nil, fmt.Errorf("%s and %s cannot be compared", x.Type, y.Type)
	}
	x, y = Cast(x, t), Cast(y, t)
	var k Kernel
	switch {
	case t.Kind == types.Double:
		k = compareKernel(op, func(v *column.Vector) []float64 { return v.F })
	case t.Kind == types.Varchar:
		k = compareText(op)
	case t.Kind == types.Boolean:
		k = func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				out.B[i] = holds(op, cmpBool(a[0].B[i], a[1].B[i]))
			}
		}
	case t.Kind == types.Null:
		k = func(*Machine, []*column.Vector, *column.Vector, int) {}
	default:
		k = compareKernel(op, func(v *column.Vector) []int64 { return v.I })
	}
	e := call(boolean, k, x, y)
	e.Name = op
	return e, nil
}

func cmpBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

func holds(op string, c int) bool {
	switch op {
	case "=":
		return c == 0
	case "<>":
		return c != 0
	case "<":
		return c < 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	}
	return c >= 0
}

func compareKernel[T int64 | float64](op string, get func(*column.Vector) []T) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		x, y, o := get(a[0])[:n], get(a[1])[:n], out.B[:n]
		switch op {
		case "=":
			for i, v := range x {
				o[i] = v == y[i]
			}
		case "<>":
			for i, v := range x {
				o[i] = v != y[i]
			}
		case "<":
			for i, v := range x {
				o[i] = v < y[i]
			}
		case "<=":
			for i, v := range x {
				o[i] = v <= y[i]
			}
		case ">":
			for i, v := range x {
				o[i] = v > y[i]
			}
		case ">=":
			for i, v := range x {
				o[i] = v >= y[i]
			}
		}
	}
}

func compareText(op string) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if out.Null(i) {
				continue
			}
			s, t := a[0].Text(i), a[1].Text(i)
			switch op {
			case "=":
				out.B[i] = string(s) == string(t)
			case "<>":
				out.B[i] = string(s) != string(t)
			default:
				out.B[i] = holds(op, bytes.Compare(s, t))
			}
		}
	}
}

// Arithmetic binds x op y for + - * / % DIV, on numbers, instants and intervals.
func Arithmetic(op string, x, y *Expr) (*Expr, error) {
	name := func(e *Expr) (*Expr, error) { e.Name = op; return e, nil }
	xk, yk := x.Type.Kind, y.Type.Kind
	if xk == types.Null {
		x, xk = Cast(x, y.Type), yk
	}
	if yk == types.Null {
		y, yk = Cast(y, x.Type), xk
	}
	if xk == types.Date && yk == types.Interval {
		x, xk = Cast(x, timestamp), types.Timestamp
	}
	switch {
	case x.Type.IsNumber() && y.Type.IsNumber():
		if op == "/" || xk == types.Double || yk == types.Double {
			if op == "DIV" {
				break
			}
			return name(call(double, doubleKernel(op), Cast(x, double), Cast(y, double)))
		}
		return name(call(bigint, wholeKernel(op, "BIGINT"), Cast(x, bigint), Cast(y, bigint)))
	case xk == types.Timestamp && yk == types.Interval && (op == "+" || op == "-"):
		return name(call(timestamp, wholeKernel(op, "TIMESTAMP"), x, y))
	case xk == types.Interval && yk == types.Timestamp && op == "+":
		return name(call(timestamp, wholeKernel(op, "TIMESTAMP"), x, y))
	case xk == types.Timestamp && yk == types.Timestamp && op == "-":
		return name(call(interval, wholeKernel(op, "INTERVAL"), x, y))
	case xk == types.Date && yk == types.Date && op == "-":
		return name(call(interval, wholeKernel(op, "INTERVAL"), Cast(x, timestamp), Cast(y, timestamp)))
	case xk == types.Interval && yk == types.Interval && (op == "+" || op == "-"):
		return name(call(interval, wholeKernel(op, "INTERVAL"), x, y))
	case xk == types.Interval && yk == types.Interval && op == "/":
		k := func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				if out.Null(i) {
					continue
				}
				if a[1].I[i] == 0 {
					m.Fail(i, "division by zero")
				}
				out.F[i] = float64(a[0].I[i]) / float64(a[1].I[i])
			}
		}
		return name(call(double, k, x, y))
	case xk == types.Interval && y.Type.IsWhole() && op == "*":
		return name(call(interval, wholeKernel(op, "INTERVAL"), x, Cast(y, bigint)))
	case x.Type.IsWhole() && yk == types.Interval && op == "*":
		return name(call(interval, wholeKernel(op, "INTERVAL"), Cast(x, bigint), y))
	case xk == types.Interval && y.Type.IsWhole() && op == "/":
		return name(call(interval, wholeKernel("DIV", "INTERVAL"), x, Cast(y, bigint)))
	}
	return nil, fmt.Errorf("%s %s %s is not defined", x.Type, op, y.Type)
}

func wholeKernel(op, typ string) Kernel {
	over := "overflow: the result does not fit " + typ
	loop := func(f func(x, y int64) (int64, string)) Kernel {
		return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			x, y := a[0].I, a[1].I
			for i := range n {
				if out.Null(i) {
					continue
				}
				v, bad := f(x[i], y[i])
				if bad != "" {
					m.Fail(i, bad)
				}
				out.I[i] = v
			}
		}
	}
	switch op {
	case "+":
		return loop(func(x, y int64) (int64, string) {
			s := x + y
			if (x^s)&(y^s) < 0 {
				return 0, over
			}
			return s, ""
		})
	case "-":
		return loop(func(x, y int64) (int64, string) {
			s := x - y
			if (x^y)&(x^s) < 0 {
				return 0, over
			}
			return s, ""
		})
	case "*":
		return loop(func(x, y int64) (int64, string) {
			hi, lo := bits.Mul64(uint64(x), uint64(y))
			if x < 0 {
				hi -= uint64(y)
			}
			if y < 0 {
				hi -= uint64(x)
			}
			if hi != uint64(int64(lo)>>63) {
				return 0, over
			}
			return int64(lo), ""
		})
	case "DIV":
		return loop(func(x, y int64) (int64, string) {
			switch {
			case y == 0:
				return 0, "division by zero"
			case x == math.MinInt64 && y == -1:
				return 0, over
			}
			return x / y, ""
		})
	}
	return loop(func(x, y int64) (int64, string) {
		switch y {
		case 0:
			return 0, "division by zero"
		case -1:
			return 0, ""
		}
		return x % y, ""
	})
}

func doubleKernel(op string) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		x, y, o := a[0].F[:n], a[1].F[:n], out.F[:n]
		switch op {
		case "+":
			for i, v := range x {
				o[i] = v + y[i]
			}
		case "-":
			for i, v := range x {
				o[i] = v - y[i]
			}
		case "*":
			for i, v := range x {
				o[i] = v * y[i]
			}
		default:
			for i, v := range x {
				if y[i] == 0 && !out.Null(i) {
					m.Fail(i, "division by zero")
				}
				if op == "/" {
					o[i] = v / y[i]
				} else {
					o[i] = math.Mod(v, y[i])
				}
			}
			return
		}
		for i, v := range o {
			if math.IsInf(v, 0) && !out.Null(i) && !math.IsInf(x[i], 0) && !math.IsInf(y[i], 0) {
				m.Fail(i, "overflow: the result does not fit DOUBLE")
			}
		}
	}
}

// Negate binds -x.
func Negate(x *Expr) (*Expr, error) {
	zero := types.Value{Kind: x.Type.Kind}
	switch {
	case x.Type.Kind == types.Double:
		return call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, v := range a[0].F[:n] {
				out.F[i] = -v
			}
		}, x), nil
	case x.Type.IsWhole() || x.Type.Kind == types.Interval || x.Type.Kind == types.Null:
		return Arithmetic("-", Const(x.Type, zero), x)
	}
	return nil, fmt.Errorf("-%s is not defined", x.Type)
}

// Like binds x LIKE pattern.
func Like(x, pattern *Expr) (*Expr, error) {
	as, ok := fit([]*Expr{x, pattern}, varchar, varchar)
	if !ok {
		return nil, fmt.Errorf("LIKE takes VARCHAR, found %s and %s", x.Type, pattern.Type)
	}
	e := call(boolean, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			out.B[i] = !out.Null(i) && like(a[0].Text(i), a[1].Text(i))
		}
	}, as...)
	e.Name = "LIKE"
	return e, nil
}
