package eval

import (
	"bytes"
	"fmt"
	"math"
	"math/big"
	"math/bits"
	"regexp"
	"strings"
	"time"
	_ "time/tzdata" // zones do not depend on the machine

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Compare binds x op y for = <> < <= > >=.
func Compare(op string, x, y *Expr) (*Expr, error) {
	// Text written where an instant or a date is meant is read as one.
	for _, p := range [2]*[2]*Expr{{x, y}, {y, x}} {
		c, other := p[0], p[1]
		if c.Op == OpConst && c.Type.Kind == types.Varchar && (other.Type.Kind == types.Timestamp || other.Type.Kind == types.Date || other.Type.Kind == types.Time) {
			v, ok := castValue(c.Value, other.Type)
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
	if !ok || t.Kind == types.Map || t.Kind == types.JSON || t.IsNested() && op != "=" && op != "<>" {
		return nil, fmt.Errorf("%s and %s cannot be compared", x.Type, y.Type)
	}
	x, y = Cast(x, t), Cast(y, t)
	var k Kernel
	switch {
	case t.Kind == types.Double:
		k = compareKernel(op, func(v *column.Vector) []float64 { return v.F })
	case t.Kind == types.Varchar, t.Kind == types.Varbinary:
		k = compareText(op)
	case t.Kind == types.Decimal:
		k = func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				out.B[i] = holds(op, a[0].D[i].Cmp(a[1].D[i]))
			}
		}
	case t.IsNested():
		k = func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				if out.Null(i) {
					continue
				}
				eq, null := equalValues(a[0].Value(i), a[1].Value(i))
				if out.B[i] = eq == (op == "="); null {
					out.SetNull(i, n)
				}
			}
		}
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
	e.Name, e.Safe = op, true
	return e, nil
}

// equalValues compares two nested values part by part; null says that a NULL in one of them leaves it open.
func equalValues(a, b types.Value) (equal, null bool) {
	if a.IsNull() || b.IsNull() {
		return false, true
	}
	if a.Row == nil && b.Row == nil {
		return CompareValues(a, b) == 0, false
	}
	if len(a.Row) != len(b.Row) {
		return false, false
	}
	for i := range a.Row {
		eq, nl := equalValues(a.Row[i], b.Row[i])
		if !eq && !nl {
			return false, false
		}
		null = null || nl
	}
	return !null, null
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
	case x.Type.IsNumber() && y.Type.IsNumber() && xk != types.Double && yk != types.Double && (xk == types.Decimal || yk == types.Decimal):
		return name(decimalArithmetic(op, x, y))
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
	case xk == types.Interval && yk == types.Date && op == "+":
		return name(call(timestamp, wholeKernel(op, "TIMESTAMP"), x, Cast(y, timestamp)))
	case xk == types.Interval && yk == types.Timestamp && op == "+":
		return name(call(timestamp, wholeKernel(op, "TIMESTAMP"), x, y))
	case xk == types.Time && yk == types.Time && op == "-":
		return name(call(interval, wholeKernel(op, "INTERVAL"), x, y))
	case xk == types.Time && yk == types.Interval && (op == "+" || op == "-"):
		return name(call(types.Of(types.Time), timeOfDayKernel(op), x, y))
	case xk == types.Timestamp && yk == types.Timestamp && op == "-":
		return name(call(interval, wholeKernel(op, "INTERVAL"), x, y))
	case op == "-" && (xk == types.Date && yk == types.Timestamp || xk == types.Timestamp && yk == types.Date):
		return name(call(interval, wholeKernel(op, "INTERVAL"), Cast(x, timestamp), Cast(y, timestamp)))
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

// timeOfDayKernel moves a time of day, round midnight where need be.
func timeOfDayKernel(op string) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			d := a[1].I[i] % types.Day
			if op == "-" {
				d = -d
			}
			out.I[i] = ((a[0].I[i]+d)%types.Day + types.Day) % types.Day
		}
	}
}

// decimalOf is the DECIMAL that holds every value of a whole number's type.
func decimalOf(t types.Type) types.Type {
	switch t.Kind {
	case types.Int:
		return types.DecimalOf(10, 0)
	case types.BigInt:
		return types.DecimalOf(19, 0)
	}
	return t
}

// decimalArithmetic binds x op y where one is DECIMAL and the other DECIMAL or a whole number. A sum
// has the greater scale, a product the sum of both, a quotient four digits more than x. Where the
// digits before the point and the scale exceed 38 together, the scale gives way, down to six.
func decimalArithmetic(op string, x, y *Expr) *Expr {
	xt, yt := decimalOf(x.Type), decimalOf(y.Type)
	x, y = Cast(x, xt), Cast(y, yt)
	xs, ys := int(xt.Scale), int(yt.Scale)
	xi, yi := int(xt.Precision)-xs, int(yt.Precision)-ys
	var before, scale int
	switch op {
	case "+", "-":
		scale, before = max(xs, ys), max(xi, yi)+1
	case "*":
		scale, before = xs+ys, xi+yi
	case "/":
		scale, before = xs+4, xi+ys
	case "DIV":
		scale, before = 0, 19
	default:
		scale, before = max(xs, ys), min(xi, yi)
	}
	if before+scale > types.MaxPrecision {
		scale = min(scale, max(types.MaxPrecision-before, min(scale, 6)))
	}
	t := types.DecimalOf(min(max(before+scale, 1), types.MaxPrecision), scale)
	if op == "DIV" {
		t = bigint
	}
	pow := func(n int) *big.Int { return new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(n)), nil) }
	common := max(xs, ys)
	upX, upY, down, up := pow(common-xs), pow(common-ys), pow(max(xs+ys-scale, 0)), pow(max(scale-xs+ys, 0))
	return call(t, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		var p, q, r big.Int
		for i := range n {
			if out.Null(i) {
				continue
			}
			p.Set(a[0].D[i].BigInt())
			q.Set(a[1].D[i].BigInt())
			if q.Sign() == 0 && (op == "/" || op == "%" || op == "DIV") {
				m.Fail(i, "division by zero")
				continue
			}
			switch op {
			case "+", "-":
				p.Mul(&p, upX)
				q.Mul(&q, upY)
				if op == "+" {
					p.Add(&p, &q)
				} else {
					p.Sub(&p, &q)
				}
				if scale < common {
					roundQuo(&p, pow(common-scale))
				}
			case "*":
				p.Mul(&p, &q)
				roundQuo(&p, down)
			case "/":
				p.Mul(&p, up)
				roundQuo(&p, &q)
			default:
				p.Mul(&p, upX)
				q.Mul(&q, upY)
				p.QuoRem(&p, &q, &r)
				if op == "%" {
					p.Set(&r)
				}
			}
			if op == "DIV" {
				if !p.IsInt64() {
					m.Fail(i, "overflow: the result does not fit BIGINT")
				} else {
					out.I[i] = p.Int64()
				}
				continue
			}
			v, ok := types.NumOfBig(&p)
			if !ok || !v.FitsInPrecision(int32(t.Precision)) {
				m.Fail(i, "overflow: the result does not fit "+t.String())
			}
			out.D[i] = v
		}
	}, x, y)
}

// roundQuo makes p the quotient p / q, halves rounded away from zero.
func roundQuo(p, q *big.Int) {
	var r big.Int
	sign := p.Sign() * q.Sign()
	p.QuoRem(p, q, &r)
	r.Abs(r.Lsh(&r, 1))
	if r.CmpAbs(q) >= 0 {
		p.Add(p, big.NewInt(int64(sign)))
	}
}

// Negate binds -x.
func Negate(x *Expr) (*Expr, error) {
	zero := types.Value{Kind: x.Type.Kind}
	switch {
	case x.Type.Kind == types.Double:
		e := call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, v := range a[0].F[:n] {
				out.F[i] = -v
			}
		}, x)
		e.Name, e.Safe = "negate", true
		return e, nil
	case x.Type.Kind == types.Decimal:
		e := call(x.Type, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, v := range a[0].D[:n] {
				out.D[i] = v.Negate()
			}
		}, x)
		e.Name, e.Safe = "negate", true
		return e, nil
	case x.Type.IsWhole() || x.Type.Kind == types.Interval || x.Type.Kind == types.Null:
		return Arithmetic("-", Const(x.Type, zero), x)
	}
	return nil, fmt.Errorf("-%s is not defined", x.Type)
}

// Like binds x LIKE pattern; escape is the character that makes the next one plain.
func Like(x, pattern *Expr, escape byte) (*Expr, error) {
	as, ok := fit([]*Expr{x, pattern}, varchar, varchar)
	if !ok {
		return nil, fmt.Errorf("LIKE takes VARCHAR, found %s and %s", x.Type, pattern.Type)
	}
	e := call(boolean, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			out.B[i] = !out.Null(i) && like(a[0].Text(i), a[1].Text(i), escape)
		}
	}, as...)
	e.Name, e.Safe = "LIKE "+string(escape), true
	return e, nil
}

// LikeRegex binds x LIKE_REGEX pattern FLAG flags: the pattern, a constant, is found somewhere in x.
// Matching takes time in proportion to the text (package regexp).
func LikeRegex(x, pattern *Expr, flags string) (*Expr, error) {
	as, ok := fit([]*Expr{x}, varchar)
	if !ok {
		return nil, fmt.Errorf("LIKE_REGEX takes VARCHAR, found %s", x.Type)
	}
	re, err := compileRegex(pattern, flags)
	if err != nil {
		return nil, err
	}
	size := patternSize(re)
	e := call(boolean, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if m.over || i&15 == 15 && m.Unwanted() {
				m.over = true
				return
			}
			out.B[i] = !out.Null(i) && bounded(m, i, size, a[0].Text(i)) && re.Match(a[0].Text(i))
		}
	}, as...)
	e.Name, e.Safe = "LIKE_REGEX "+re.String(), true
	return e, nil
}

// compileRegex makes a regular expression of a constant. Flags are those of the standard: i, m, s.
func compileRegex(pattern *Expr, flags string) (*regexp.Regexp, error) {
	if pattern.Op != OpConst || pattern.Type.Kind != types.Varchar {
		return nil, fmt.Errorf("the pattern must be a text that is written out")
	}
	text := pattern.Value.S
	if flags != "" {
		if strings.Trim(flags, "ims") != "" {
			return nil, fmt.Errorf("the flags of a pattern are i, m and s, found '%s'", flags)
		}
		text = "(?" + flags + ")" + text
	}
	re, err := regexp.Compile(text)
	if err != nil {
		return nil, fmt.Errorf("the pattern cannot be read: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return re, nil
}

// Distinct binds x IS DISTINCT FROM y, which takes NULL as a value.
func Distinct(x, y *Expr) (*Expr, error) {
	eq, err := Compare("=", x, y)
	if err != nil {
		return nil, err
	}
	x, y = eq.Args[0], eq.Args[1]
	k := eq.Kernel
	e := call(boolean, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		k(m, a, out, n)
		for i := range n {
			xn, yn := a[0].Null(i), a[1].Null(i)
			if xn || yn {
				out.B[i] = xn != yn
			} else {
				out.B[i] = !out.B[i]
			}
		}
		out.Nulls = nil
	}, x, y)
	e.Name, e.Safe, e.TakesNull = "IS DISTINCT FROM", true, true
	return e, nil
}

// AtZone binds t AT TIME ZONE zone: the local time there, as the instant that reads the same in UTC.
func AtZone(t, zone *Expr) (*Expr, error) {
	as, ok := fit([]*Expr{t}, timestamp)
	if !ok {
		return nil, fmt.Errorf("AT TIME ZONE takes TIMESTAMP, found %s", t.Type)
	}
	if zone.Op != OpConst || zone.Type.Kind != types.Varchar {
		return nil, fmt.Errorf("the time zone must be a text that is written out")
	}
	loc, err := LoadZone(zone.Value.S)
	if err != nil {
		return nil, err
	}
	e := call(timestamp, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if out.Null(i) {
				continue
			}
			t := a[0].I[i]
			_, offset := time.UnixMicro(t).In(loc).Zone()
			out.I[i] = t + int64(offset)*types.Second
		}
	}, as...)
	e.Name, e.Safe = "AT TIME ZONE "+zone.Value.S, true
	return e, nil
}

// LoadZone finds a time zone by its name in the zone database, which is built in.
func LoadZone(name string) (*time.Location, error) {
	if loc, err := time.LoadLocation(name); err == nil && name != "" && !strings.EqualFold(name, "local") {
		return loc, nil
	}
	return nil, fmt.Errorf("no time zone is called '%s'; they are written like 'Europe/Rome' or 'UTC'", name)
}
