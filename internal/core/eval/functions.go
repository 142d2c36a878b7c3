package eval

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

var (
	boolean   = types.Of(types.Boolean)
	bigint    = types.Of(types.BigInt)
	double    = types.Of(types.Double)
	varchar   = types.Of(types.Varchar)
	timestamp = types.Of(types.Timestamp)
	interval  = types.Of(types.Interval)
)

// Function is an entry of the catalogue of scalar functions.
type Function struct {
	Name      string
	Signature string
	Doc       string
	resolve   func(args []*Expr) (*Expr, error)
}

// ErrTypes says that a function has no form for the types of its arguments.
var ErrTypes = errors.New("no form of the function takes these arguments")

var functions = map[string]*Function{}

func define(name, signature, doc string, resolve func(args []*Expr) (*Expr, error)) {
	functions[name] = &Function{name, signature, doc, resolve}
}

// Functions gives the catalogue in the order of names.
func Functions() []*Function {
	var out []*Function
	for _, f := range functions {
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b *Function) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Lookup finds a scalar function, or gives nil.
func Lookup(name string) *Function { return functions[name] }

// Bind makes the call of a function with bound arguments.
func (f *Function) Bind(args []*Expr) (*Expr, error) {
	e, err := f.resolve(args)
	if e != nil && e.Name == "" {
		e.Name = f.Name
	}
	return e, err
}

func call(t types.Type, k Kernel, args ...*Expr) *Expr {
	return &Expr{Op: OpCall, Type: t, Args: args, Kernel: k}
}

// fit casts the arguments to the types, where that is implicit.
func fit(args []*Expr, ts ...types.Type) ([]*Expr, bool) {
	if len(args) != len(ts) {
		return nil, false
	}
	out := make([]*Expr, len(args))
	for i, a := range args {
		if !Implicit(a.Type, ts[i]) {
			return nil, false
		}
		out[i] = Cast(a, ts[i])
	}
	return out, true
}

// plain defines a function of fixed types.
func plain(name, signature, doc string, ret types.Type, k Kernel, ts ...types.Type) {
	define(name, signature, doc, func(args []*Expr) (*Expr, error) {
		as, ok := fit(args, ts...)
		if !ok {
			return nil, ErrTypes
		}
		return call(ret, k, as...), nil
	})
}

// Common gives the type that all the types stand for without a CAST, and whether there is one.
func Common(ts ...types.Type) (types.Type, bool) {
	out := types.Of(types.Null)
	for _, t := range ts {
		switch {
		case Implicit(t, out):
		case Implicit(out, t):
			out = t
		default:
			return out, false
		}
	}
	return out, true
}

// textKernel computes one text from the arguments of a row.
func textKernel(f func(m *Machine, row int, dst []byte, a []*column.Vector) []byte) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if out.Null(i) {
				out.S[i] = column.Str{}
				continue
			}
			off := len(out.Data)
			out.Data = f(m, i, out.Data, a)
			out.S[i] = column.Str{Off: uint32(off), Len: uint32(len(out.Data) - off)}
		}
	}
}

// Concat binds the joining of texts; other scalars are written as CAST would.
func Concat(args ...*Expr) (*Expr, error) {
	as := make([]*Expr, len(args))
	for i, a := range args {
		if !CanCast(a.Type, varchar) {
			return nil, ErrTypes
		}
		as[i] = Cast(a, varchar)
	}
	if len(as) == 0 {
		return nil, ErrTypes
	}
	e := call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
		for _, v := range a {
			dst = append(dst, v.Text(i)...)
		}
		return dst
	}), as...)
	e.Name = "concat"
	return e, nil
}

func doubleFunc(name, doc string, f func(float64) float64, domain func(float64) bool) {
	plain(name, name+"(x DOUBLE) → DOUBLE", doc, double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, x := range a[0].F[:n] {
			if domain != nil && !out.Null(i) && !domain(x) {
				m.Fail(i, fmt.Sprintf("%s of %v is not defined", strings.ToUpper(name), x))
			}
			out.F[i] = f(x)
		}
	}, double)
}

// keepType defines a function of one number that gives the argument's type.
func keepType(name, doc string, f func(float64) float64, g func(m *Machine, row int, x int64) int64) {
	define(name, name+"(x number) → same type", doc, func(args []*Expr) (*Expr, error) {
		if len(args) != 1 || !args[0].Type.IsNumber() {
			return nil, ErrTypes
		}
		if args[0].Type.Kind == types.Double {
			return call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
				for i, x := range a[0].F[:n] {
					out.F[i] = f(x)
				}
			}, args[0]), nil
		}
		return call(args[0].Type, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].I[:n] {
				if !out.Null(i) {
					out.I[i] = g(m, i, x)
				}
			}
		}, args[0]), nil
	})
}

func same(m *Machine, row int, x int64) int64 { return x }

func init() {
	text := func(name, doc string, f func(dst, s []byte) []byte) {
		plain(name, name+"(s VARCHAR) → VARCHAR", doc, varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			return f(dst, a[0].Text(i))
		}), varchar)
	}
	text("upper", "The text in capital letters.", func(dst, s []byte) []byte { return append(dst, bytes.ToUpper(s)...) })
	text("lower", "The text in small letters.", func(dst, s []byte) []byte { return append(dst, bytes.ToLower(s)...) })
	text("trim", "The text without blanks at both ends.", func(dst, s []byte) []byte { return append(dst, bytes.Trim(s, " ")...) })
	define("concat", "concat(a, b, …) → VARCHAR", "The texts joined; NULL where one is NULL.", func(args []*Expr) (*Expr, error) { return Concat(args...) })
	plain("replace", "replace(s, old, new VARCHAR) → VARCHAR", "s with every old replaced by new.", varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			if len(a[1].Text(i)) == 0 {
				return append(dst, a[0].Text(i)...)
			}
			return append(dst, bytes.ReplaceAll(a[0].Text(i), a[1].Text(i), a[2].Text(i))...)
		}), varchar, varchar, varchar)
	count := func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if !out.Null(i) {
				out.I[i] = int64(utf8.RuneCount(a[0].Text(i)))
			}
		}
	}
	plain("char_length", "char_length(s VARCHAR) → BIGINT", "The number of code points.", bigint, count, varchar)
	plain("position", "position(part, s VARCHAR) → BIGINT", "Where part first stands in s, from 1, in code points; 0 where it does not.", bigint,
		func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				if out.Null(i) {
					continue
				}
				s := a[1].Text(i)
				out.I[i] = 0
				if k := bytes.Index(s, a[0].Text(i)); k >= 0 {
					out.I[i] = int64(utf8.RuneCount(s[:k])) + 1
				}
			}
		}, varchar, varchar)
	define("substring", "substring(s VARCHAR, from BIGINT [, length BIGINT]) → VARCHAR", "A part of s; from counts from 1, in code points.", substring)
	keepType("abs", "The number without its sign.", math.Abs, func(m *Machine, row int, x int64) int64 {
		if x == math.MinInt64 {
			m.Fail(row, "overflow: the result does not fit BIGINT")
		}
		return max(x, -x)
	})
	keepType("floor", "The greatest whole number not above x.", math.Floor, same)
	keepType("ceil", "The least whole number not below x.", math.Ceil, same)
	keepType("sign", "-1, 0 or 1.", func(x float64) float64 {
		switch {
		case x > 0:
			return 1
		case x < 0:
			return -1
		}
		return x
	}, func(m *Machine, row int, x int64) int64 { return int64(cmp.Compare(x, 0)) })
	define("round", "round(x number [, digits BIGINT]) → same type", "x rounded to digits after the point (0 where left out), halves away from zero.", round)
	doubleFunc("sqrt", "The square root.", math.Sqrt, func(x float64) bool { return !(x < 0) })
	doubleFunc("ln", "The natural logarithm.", math.Log, func(x float64) bool { return !(x <= 0) })
	doubleFunc("exp", "e to the power of x.", math.Exp, nil)
	doubleFunc("sin", "The sine of x radians.", math.Sin, nil)
	doubleFunc("cos", "The cosine of x radians.", math.Cos, nil)
	plain("power", "power(x, y DOUBLE) → DOUBLE", "x to the power of y.", double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, x := range a[0].F[:n] {
			out.F[i] = math.Pow(x, a[1].F[i])
			if math.IsNaN(out.F[i]) && !math.IsNaN(x) && !math.IsNaN(a[1].F[i]) && !out.Null(i) {
				m.Fail(i, "POWER of a negative number to a broken exponent is not defined")
			}
		}
	}, double, double)
	define("mod", "mod(x, y number) → number", "The rest of x divided by y, with the sign of x.", func(args []*Expr) (*Expr, error) {
		if len(args) != 2 {
			return nil, ErrTypes
		}
		return Arithmetic("%", args[0], args[1])
	})
	extreme := func(name, doc string, want int) {
		define(name, name+"(a, b, …) → their common type", doc, func(args []*Expr) (*Expr, error) {
			return pick(args, want)
		})
	}
	extreme("greatest", "The greatest of the values; NULL where one is NULL.", 1)
	extreme("least", "The least of the values; NULL where one is NULL.", -1)
	define("nullif", "nullif(a, b) → type of a", "NULL where a equals b, else a.", func(args []*Expr) (*Expr, error) {
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
	define("coalesce", "coalesce(a, b, …) → their common type", "The first value that is not NULL.", func(args []*Expr) (*Expr, error) {
		as, t, err := alike(args)
		if err != nil {
			return nil, err
		}
		return &Expr{Op: OpCoalesce, Type: t, Args: as}, nil
	})
	plain("current_timestamp", "current_timestamp → TIMESTAMP", "The wall clock when the row is processed; the result depends on the run.", timestamp,
		func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i := range n {
				out.I[i] = m.Now
			}
		})
	plain("unix_millis", "unix_millis(t TIMESTAMP) → BIGINT", "Milliseconds since 1970-01-01 UTC.", bigint, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, t := range a[0].I[:n] {
			out.I[i] = floorDiv(t, 1000)
		}
	}, timestamp)
	plain("from_unix_millis", "from_unix_millis(n BIGINT) → TIMESTAMP", "The instant n milliseconds after 1970-01-01 UTC.", timestamp,
		func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, v := range a[0].I[:n] {
				if !out.Null(i) && (v < types.FirstTimestamp/1000 || v > types.LastTimestamp/1000) {
					m.Fail(i, "overflow: the result does not fit TIMESTAMP")
				}
				out.I[i] = v * 1000
			}
		}, bigint)
	define("extract", "extract(field FROM t TIMESTAMP) → BIGINT", "YEAR, MONTH, DAY, HOUR, MINUTE, SECOND, MILLISECOND, DOW (Monday is 1) or EPOCH of an instant, in UTC.", extract)
	define("date_trunc", "date_trunc('unit', t TIMESTAMP) → TIMESTAMP", "The first instant of t's unit, in UTC; weeks begin on Monday.", truncate)
}

// alike casts all arguments to their common type.
func alike(args []*Expr) ([]*Expr, types.Type, error) {
	ts := make([]types.Type, len(args))
	for i, a := range args {
		ts[i] = a.Type
	}
	t, ok := Common(ts...)
	if !ok || len(args) == 0 || t.Kind == types.Row {
		return nil, t, ErrTypes
	}
	as := make([]*Expr, len(args))
	for i, a := range args {
		as[i] = Cast(a, t)
	}
	return as, t, nil
}

func pick(args []*Expr, want int) (*Expr, error) {
	as, t, err := alike(args)
	if err != nil {
		return nil, err
	}
	return call(t, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if out.Null(i) {
				continue
			}
			best := a[0].Value(i)
			for _, v := range a[1:] {
				if x := v.Value(i); CompareValues(x, best) == want {
					best = x
				}
			}
			out.Set(i, n, best)
		}
	}, as...), nil
}

// CompareValues orders two values of the same type, neither NULL.
func CompareValues(a, b types.Value) int {
	switch a.Kind {
	case types.Double:
		return cmp.Compare(a.F, b.F)
	case types.Varchar:
		return cmp.Compare(a.S, b.S)
	}
	return cmp.Compare(a.I, b.I)
}

func substring(args []*Expr) (*Expr, error) {
	as, ok := fit(args, varchar, bigint, bigint)
	if !ok {
		if as, ok = fit(args, varchar, bigint); !ok {
			return nil, ErrTypes
		}
	}
	return call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
		s, from := a[0].Text(i), a[1].I[i]-1
		to := int64(math.MaxInt64)
		if len(a) == 3 {
			l := a[2].I[i]
			if l < 0 {
				m.Fail(i, "SUBSTRING with a length below zero")
				return dst
			}
			if from < math.MaxInt64-l {
				to = from + l
			}
		}
		k := int64(0)
		for len(s) > 0 && k < to {
			_, w := utf8.DecodeRune(s)
			if k >= from {
				dst = append(dst, s[:w]...)
			}
			s = s[w:]
			k++
		}
		return dst
	}), as...), nil
}

func round(args []*Expr) (*Expr, error) {
	if len(args) == 1 {
		args = append(args, Const(bigint, types.Value{Kind: types.BigInt}))
	}
	if len(args) != 2 || !args[0].Type.IsNumber() || !args[1].Type.IsWhole() {
		return nil, ErrTypes
	}
	digits := Cast(args[1], bigint)
	if args[0].Type.Kind == types.Double {
		return call(double, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for i, x := range a[0].F[:n] {
				out.F[i] = roundTo(x, a[1].I[i])
			}
		}, args[0], digits), nil
	}
	return call(args[0].Type, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, x := range a[0].I[:n] {
			if a[1].I[i] < 0 {
				x = int64(roundTo(float64(x), a[1].I[i]))
			}
			out.I[i] = x
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

var extractFields = []string{"year", "month", "day", "hour", "minute", "second", "millisecond", "dow", "epoch"}

func constText(e *Expr) (string, bool) {
	return strings.ToLower(e.Value.S), e.Op == OpConst && e.Type.Kind == types.Varchar
}

func extract(args []*Expr) (*Expr, error) {
	if len(args) != 2 || !Implicit(args[1].Type, timestamp) {
		return nil, ErrTypes
	}
	f, ok := constText(args[0])
	if !ok || !slices.Contains(extractFields, f) {
		return nil, fmt.Errorf("EXTRACT takes one of %s", strings.ToUpper(strings.Join(extractFields, ", ")))
	}
	e := call(bigint, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, t := range a[0].I[:n] {
			if out.Null(i) {
				continue
			}
			days := floorDiv(t, types.Day)
			tod := t - days*types.Day
			y, mo, d := types.CivilFromDays(days)
			switch f {
			case "year":
				out.I[i] = int64(y)
			case "month":
				out.I[i] = int64(mo)
			case "day":
				out.I[i] = int64(d)
			case "hour":
				out.I[i] = tod / types.Hour
			case "minute":
				out.I[i] = tod / types.Minute % 60
			case "second":
				out.I[i] = tod / types.Second % 60
			case "millisecond":
				out.I[i] = tod / types.Millisecond % 1000
			case "dow":
				out.I[i] = ((days+3)%7+7)%7 + 1
			case "epoch":
				out.I[i] = floorDiv(t, types.Second)
			}
		}
	}, Cast(args[1], timestamp))
	e.Name = "extract " + f
	return e, nil
}

func truncate(args []*Expr) (*Expr, error) {
	if len(args) != 2 || !Implicit(args[1].Type, timestamp) {
		return nil, ErrTypes
	}
	u, ok := constText(args[0])
	fixed := map[string]int64{"millisecond": types.Millisecond, "second": types.Second, "minute": types.Minute, "hour": types.Hour, "day": types.Day}
	if !ok || fixed[u] == 0 && u != "week" && u != "month" && u != "year" {
		return nil, fmt.Errorf("DATE_TRUNC takes 'millisecond', 'second', 'minute', 'hour', 'day', 'week', 'month' or 'year'")
	}
	e := call(timestamp, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, t := range a[0].I[:n] {
			days := floorDiv(t, types.Day)
			switch u {
			case "week":
				out.I[i] = (floorDiv(days+3, 7)*7 - 3) * types.Day
			case "month", "year":
				y, mo, _ := types.CivilFromDays(days)
				if u == "year" {
					mo = 1
				}
				out.I[i] = types.DaysFromCivil(y, mo, 1) * types.Day
			default:
				out.I[i] = floorDiv(t, fixed[u]) * fixed[u]
			}
		}
	}, Cast(args[1], timestamp))
	e.Name = "date_trunc " + u
	return e, nil
}
