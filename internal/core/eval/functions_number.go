package eval

import (
	"cmp"
	"fmt"
	"math"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

func doubleFunc(name, doc, example, result string, f func(float64) float64, domain func(float64) bool) {
	fn := &Function{Name: name, Group: "number", Signatures: []string{name + "(x DOUBLE) → DOUBLE"}, Doc: doc, Example: example, Result: result}
	define(fn, func(args []*Expr) (*Expr, error) {
		as, ok := fit(args, double)
		if !ok {
			return nil, ErrTypes
		}
		e := call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].F[:n] {
				if domain != nil && !out.Null(i) && !domain(x) {
					m.Fail(i, fmt.Sprintf("%s of %v is not defined", strings.ToUpper(name), x))
				}
				out.F[i] = f(x)
				if math.IsInf(out.F[i], 0) && !math.IsInf(x, 0) && !out.Null(i) {
					m.Fail(i, "overflow: the result does not fit DOUBLE")
				}
			}
		}, as...)
		return e, nil
	})
}

// keepType defines a function of one number that gives the argument's type.
// whole says that the result of a DECIMAL is whole, and so has no digits behind the point.
func keepType(name, doc, example, result string, whole bool, f func(float64) float64, g func(m *Machine, row int, x int64) int64, h func(x types.Num, scale int) types.Num) {
	fn := &Function{Name: name, Group: "number", Signatures: []string{name + "(x number) → the same type"}, Doc: doc, Example: example, Result: result}
	define(fn, func(args []*Expr) (*Expr, error) {
		if len(args) != 1 || !args[0].Type.IsNumber() {
			return nil, ErrTypes
		}
		t := args[0].Type
		switch t.Kind {
		case types.Double:
			return safe(call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
				for i, x := range a[0].F[:n] {
					out.F[i] = f(x)
				}
			}, args[0])), nil
		case types.Decimal:
			ret, drop := t, int32(0)
			if whole {
				ret, drop = types.DecimalOf(min(int(t.Precision-t.Scale)+1, types.MaxPrecision), 0), int32(t.Scale)
			}
			return call(ret, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
				for i := range n {
					if out.Null(i) {
						continue
					}
					x := h(a[0].D[i], int(t.Scale)).ReduceScaleBy(drop, false)
					if !x.FitsInPrecision(int32(ret.Precision)) {
						m.Fail(i, "overflow: the result does not fit "+ret.String())
					}
					out.D[i] = x
				}
			}, args[0]), nil
		}
		return call(t, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return g(m, i, a[0].I[i]) }), args[0]), nil
	})
}

func same(m *Machine, row int, x int64) int64 { return x }

// wholePart cuts a DECIMAL at its point, toward zero, and says whether something was cut off.
func wholePart(x types.Num, scale int) (whole types.Num, cut bool) {
	if scale == 0 {
		return x, false
	}
	whole = x.ReduceScaleBy(int32(scale), false).IncreaseScaleBy(int32(scale))
	return whole, whole.Cmp(x) != 0
}

func one(scale int) types.Num { return types.NumOfInt(1).IncreaseScaleBy(int32(scale)) }

func init() {
	keepType("abs", "The number without its sign.", "ABS(-3)", "3", false, math.Abs, func(m *Machine, row int, x int64) int64 {
		if x == math.MinInt64 {
			m.Fail(row, "overflow: the result does not fit BIGINT")
		}
		return max(x, -x)
	}, func(x types.Num, scale int) types.Num { return x.Abs() })
	keepType("floor", "The greatest whole number not above x.", "FLOOR(-2.5)", "-3", true, math.Floor, same, func(x types.Num, scale int) types.Num {
		w, cut := wholePart(x, scale)
		if cut && x.Sign() < 0 {
			w = w.Sub(one(scale))
		}
		return w
	})
	keepType("ceil", "The least whole number not below x.", "CEIL(2.1)", "3", true, math.Ceil, same, func(x types.Num, scale int) types.Num {
		w, cut := wholePart(x, scale)
		if cut && x.Sign() > 0 {
			w = w.Add(one(scale))
		}
		return w
	})
	keepType("sign", "-1, 0 or 1.", "SIGN(-7)", "-1", true, func(x float64) float64 {
		switch {
		case x > 0:
			return 1
		case x < 0:
			return -1
		}
		return x
	}, func(m *Machine, row int, x int64) int64 { return int64(cmp.Compare(x, 0)) }, func(x types.Num, scale int) types.Num {
		switch s := x.Sign(); {
		case x == types.Num{}:
			return x
		case s < 0:
			return one(scale).Negate()
		}
		return one(scale)
	})
	define(&Function{Name: "round", Group: "number", Signatures: []string{"round(x number [, digits BIGINT]) → the same type"},
		Doc: "x rounded to digits behind the point (0 where left out), halves away from zero.", Example: "ROUND(2.345, 2)", Result: "2.35"}, round)
	define(&Function{Name: "truncate", Group: "number", Signatures: []string{"truncate(x number [, digits BIGINT]) → the same type"},
		Doc: "x cut to digits behind the point (0 where left out).", Example: "TRUNCATE(-2.345, 2)", Result: "-2.34"}, truncateNumber)
	doubleFunc("sqrt", "The square root.", "SQRT(2e0)", "1.4142135623730951", math.Sqrt, func(x float64) bool { return !(x < 0) })
	doubleFunc("ln", "The natural logarithm.", "LN(1)", "0", math.Log, func(x float64) bool { return !(x <= 0) })
	doubleFunc("log10", "The logarithm to base 10.", "LOG10(1000)", "3", math.Log10, func(x float64) bool { return !(x <= 0) })
	doubleFunc("exp", "e to the power of x.", "EXP(0)", "1", math.Exp, nil)
	doubleFunc("sin", "The sine of x radians.", "SIN(0)", "0", math.Sin, nil)
	doubleFunc("cos", "The cosine of x radians.", "COS(0)", "1", math.Cos, nil)
	doubleFunc("tan", "The tangent of x radians.", "TAN(0)", "0", math.Tan, nil)
	within := func(x float64) bool { return !(x < -1 || x > 1) }
	doubleFunc("asin", "The angle whose sine is x, in radians.", "ASIN(0)", "0", math.Asin, within)
	doubleFunc("acos", "The angle whose cosine is x, in radians.", "ACOS(1)", "0", math.Acos, within)
	doubleFunc("atan", "The angle whose tangent is x, in radians.", "ATAN(0)", "0", math.Atan, nil)
	doubleFunc("degrees", "Radians as degrees.", "ROUND(DEGREES(ACOS(-1)))", "180", func(x float64) float64 { return x * 180 / math.Pi }, nil)
	doubleFunc("radians", "Degrees as radians.", "ROUND(RADIANS(180), 4)", "3.1416", func(x float64) float64 { return x * math.Pi / 180 }, nil)
	two := func(f *Function, g func(x, y float64) float64) {
		f.Group = "number"
		plain(f, double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].F[:n] {
				out.F[i] = g(x, a[1].F[i])
			}
		}, double, double)
	}
	two(&Function{Name: "atan2", Signatures: []string{"atan2(y, x DOUBLE) → DOUBLE"}, Doc: "The angle of the point (x, y), in radians.", Example: "ATAN2(0, 1)", Result: "0"}, math.Atan2)
	failing(&Function{Name: "power", Group: "number", Signatures: []string{"power(x, y DOUBLE) → DOUBLE"}, Doc: "x to the power of y.", Example: "POWER(2, 10)", Result: "1024"}, double,
		func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].F[:n] {
				y := a[1].F[i]
				out.F[i] = math.Pow(x, y)
				switch {
				case out.Null(i):
				case math.IsNaN(out.F[i]) && !math.IsNaN(x) && !math.IsNaN(y):
					m.Fail(i, "POWER of a negative number to a broken exponent is not defined")
				case math.IsInf(out.F[i], 0) && !math.IsInf(x, 0) && !math.IsInf(y, 0):
					m.Fail(i, "overflow: the result does not fit DOUBLE")
				}
			}
		}, double, double)
	define(&Function{Name: "mod", Group: "number", Signatures: []string{"mod(x, y number) → number"}, Doc: "The rest of x divided by y, with the sign of x. Zero for y rejects the row.",
		Example: "MOD(-7, 3)", Result: "-1"}, func(args []*Expr) (*Expr, error) {
		if len(args) != 2 || !args[0].Type.IsNumber() || !args[1].Type.IsNumber() {
			return nil, ErrTypes
		}
		return Arithmetic("%", args[0], args[1])
	})
	extreme := func(name, doc, example, result string, want int) {
		define(&Function{Name: name, Group: "condition", Signatures: []string{name + "(a, b, …) → their common type"}, Doc: doc, Example: example, Result: result},
			func(args []*Expr) (*Expr, error) { return pick(args, want) })
	}
	extreme("greatest", "The greatest of the values.", "GREATEST(3, 7, 5)", "7", 1)
	extreme("least", "The least of the values.", "LEAST('b', 'a')", "a", -1)
	define(&Function{Name: "nullif", Group: "condition", Signatures: []string{"nullif(a, b) → the type of a"}, Doc: "NULL where a equals b, else a.",
		Nulls: "NULL where a is NULL; a where b is NULL", Example: "NULLIF('?', '?')", Result: ""}, func(args []*Expr) (*Expr, error) {
		if len(args) != 2 {
			return nil, ErrTypes
		}
		eq, err := Compare("=", args[0], args[1])
		if err != nil {
			return nil, err
		}
		null := Const(args[0].Type, types.Value{Kind: types.Null})
		return &Expr{Op: OpCase, Type: args[0].Type, Args: []*Expr{eq, null, args[0]}}, nil
	})
	define(&Function{Name: "coalesce", Group: "condition", Signatures: []string{"coalesce(a, b, …) → their common type"}, Doc: "The first value that is not NULL.",
		Nulls: "NULL where all are NULL", Example: "COALESCE(NULL, 'none')", Result: "none"}, func(args []*Expr) (*Expr, error) {
		as, t, err := alike(args)
		if err != nil {
			return nil, err
		}
		return &Expr{Op: OpCoalesce, Type: t, Args: as}, nil
	})
	plain(&Function{Name: "distance", Group: "number", Signatures: []string{"distance(lat1, lon1, lat2, lon2 DOUBLE) → DOUBLE"},
		Doc:     "The metres between two points of the earth, given in degrees: the haversine formula on a sphere of radius 6,371,008.8 m.",
		Example: "ROUND(DISTANCE(45, 9, 45.01, 9))", Result: "1112"}, double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			out.F[i] = distance(a[0].F[i], a[1].F[i], a[2].F[i], a[3].F[i])
		}
	}, double, double, double, double)
}

// distance is the haversine formula (Sinnott, Virtues of the Haversine, 1984), in metres.
func distance(lat1, lon1, lat2, lon2 float64) float64 {
	const radius, rad = 6371008.8, math.Pi / 180
	s, t := math.Sin((lat2-lat1)*rad/2), math.Sin((lon2-lon1)*rad/2)
	h := s*s + math.Cos(lat1*rad)*math.Cos(lat2*rad)*t*t
	return 2 * radius * math.Asin(math.Min(1, math.Sqrt(h)))
}

// decimalDigits cuts or rounds a DECIMAL to a number of digits. Where the number is written out, the
// result has no more digits behind the point.
func decimalDigits(x, digits *Expr, rounded bool) *Expr {
	t, ret := x.Type, x.Type
	if digits.Op == OpConst && digits.Value.I < int64(t.Scale) {
		scale := int(max(digits.Value.I, 0))
		ret = types.DecimalOf(min(int(t.Precision-t.Scale)+1+scale, types.MaxPrecision), scale)
	}
	drop := int32(t.Scale - ret.Scale)
	k := digitsKernel(t, rounded)
	return call(ret, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		k(m, a, out, n)
		for i := range n {
			if drop > 0 && !out.Null(i) {
				out.D[i] = out.D[i].ReduceScaleBy(drop, false)
			}
		}
	}, x, digits)
}

func digitsKernel(t types.Type, rounded bool) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if out.Null(i) {
				continue
			}
			x, drop := a[0].D[i], int64(t.Scale)-a[1].I[i]
			switch {
			case drop <= 0:
			case drop > types.MaxPrecision:
				x = types.Num{}
			default:
				x = x.ReduceScaleBy(int32(drop), rounded)
				if x.Sign() != 0 && !x.FitsInPrecision(int32(min(max(int64(t.Precision)-drop+1, 0), types.MaxPrecision-drop))) {
					m.Fail(i, "overflow: the result does not fit "+t.String())
					x = types.Num{}
				}
				x = x.IncreaseScaleBy(int32(drop))
			}
			out.D[i] = x
		}
	}
}

func truncateNumber(args []*Expr) (*Expr, error) {
	if len(args) == 1 {
		args = append(args, Const(bigint, types.Value{Kind: types.BigInt}))
	}
	if len(args) != 2 || !args[0].Type.IsNumber() || !args[1].Type.IsWhole() {
		return nil, ErrTypes
	}
	digits := Cast(args[1], bigint)
	switch t := args[0].Type; t.Kind {
	case types.Decimal:
		return decimalDigits(args[0], digits, false), nil
	case types.Double:
		return safe(call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].F[:n] {
				out.F[i] = x
				if d := a[1].I[i]; d < 16 && d > -300 && x-x == 0 {
					p := math.Pow10(int(d))
					if y := math.Trunc(x*p) / p; y-y == 0 {
						out.F[i] = y
					}
				}
			}
		}, args[0], digits)), nil
	default:
		return safe(call(t, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
			x, d := a[0].I[i], a[1].I[i]
			if d < -18 {
				return 0
			}
			if d >= 0 {
				return x
			}
			p := int64(math.Pow10(int(-d)))
			return x / p * p
		}), args[0], digits)), nil
	}
}

func round(args []*Expr) (*Expr, error) {
	if len(args) == 1 {
		args = append(args, Const(bigint, types.Value{Kind: types.BigInt}))
	}
	if len(args) != 2 || !args[0].Type.IsNumber() || !args[1].Type.IsWhole() {
		return nil, ErrTypes
	}
	digits := Cast(args[1], bigint)
	if t := args[0].Type; t.Kind == types.Decimal {
		return decimalDigits(args[0], digits, true), nil
	}
	if args[0].Type.Kind == types.Double {
		return call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].F[:n] {
				out.F[i] = roundTo(x, a[1].I[i])
			}
		}, args[0], digits), nil
	}
	return call(args[0].Type, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, x := range a[0].I[:n] {
			out.I[i] = x
			if d := a[1].I[i]; d < 0 && !out.Null(i) {
				var ok bool
				if out.I[i], ok = roundWhole(x, d); !ok {
					m.Fail(i, "overflow: the result does not fit BIGINT")
				}
			}
		}
	}, args[0], digits), nil
}

func roundTo(x float64, digits int64) float64 {
	switch {
	case digits > 15 || math.IsInf(x, 0):
		return x
	case digits < -300:
		return 0
	case digits < 0:
		p := math.Pow10(int(-digits))
		return math.Round(x/p) * p
	}
	p := math.Pow10(int(digits))
	if r := math.Round(x*p) / p; !math.IsInf(r, 0) {
		return r
	}
	return x
}

// roundWhole rounds a whole number to tens, hundreds and so on, halves away from zero.
func roundWhole(x, digits int64) (int64, bool) {
	if digits < -19 {
		return 0, true
	}
	n := types.NumOfInt(x).ReduceScaleBy(int32(-digits), true).IncreaseScaleBy(int32(-digits))
	y := int64(n.LowBits())
	return y, n.HighBits() == y>>63
}
