package eval

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

var (
	boolean   = types.Of(types.Boolean)
	bigint    = types.Of(types.BigInt)
	double    = types.Of(types.Double)
	varchar   = types.Of(types.Varchar)
	varbinary = types.Of(types.Varbinary)
	timestamp = types.Of(types.Timestamp)
	interval  = types.Of(types.Interval)
)

// FunctionKind says where a function stands.
type FunctionKind string

// Kinds of functions.
const (
	Scalar      FunctionKind = "scalar"    // anywhere, one value a row
	Aggregating FunctionKind = "aggregate" // in a query with GROUP BY, one value a group
	OverRows    FunctionKind = "over"      // with OVER, one value a row from the rows around it
)

// Function is an entry of the catalogue from which SHOW FUNCTIONS, the manual and completion are made.
type Function struct {
	Name       string
	Kind       FunctionKind
	Group      string   // the chapter of the manual: text, number, time, …
	Signatures []string // each form, such as "substring(s VARCHAR, from BIGINT) → VARCHAR"
	Doc        string   // what it gives
	Nulls      string   // what NULL arguments do
	Example    string   // an expression; for an aggregate, over the column x of the rows 1, 2, 2, NULL
	Result     string   // what the example gives, as text
	resolve    func(args []*Expr) (*Expr, error)
}

// nullsPass is the rule of most functions.
const nullsPass = "NULL where an argument is NULL"

// ErrTypes says that a function has no form for the types of its arguments.
var ErrTypes = errors.New("no form of the function takes these arguments")

var functions = map[string]*Function{}

// define adds a scalar function to the catalogue.
func define(f *Function, resolve func(args []*Expr) (*Expr, error)) *Function {
	f.Kind, f.resolve = Scalar, resolve
	if f.Nulls == "" {
		f.Nulls = nullsPass
	}
	functions[f.Name] = f
	return f
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

// Lookup finds a function, or gives nil.
func Lookup(name string) *Function { return functions[name] }

// Bind makes the call of a scalar function with bound arguments.
func (f *Function) Bind(args []*Expr) (*Expr, error) {
	if f.resolve == nil {
		return nil, fmt.Errorf("%s is no plain function", f.Name)
	}
	e, err := f.resolve(args)
	if e != nil && e.Name == "" {
		e.Name = f.Name
	}
	return e, err
}

func call(t types.Type, k Kernel, args ...*Expr) *Expr {
	return &Expr{Op: OpCall, Type: t, Args: args, Kernel: k}
}

// safe marks a call that cannot fail.
func safe(e *Expr) *Expr {
	e.Safe = true
	return e
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

// plain defines a function of fixed types that cannot fail.
func plain(f *Function, ret types.Type, k Kernel, ts ...types.Type) {
	define(f, func(args []*Expr) (*Expr, error) {
		as, ok := fit(args, ts...)
		if !ok {
			return nil, ErrTypes
		}
		return safe(call(ret, k, as...)), nil
	})
}

// failing is plain for a function that can fail.
func failing(f *Function, ret types.Type, k Kernel, ts ...types.Type) {
	define(f, func(args []*Expr) (*Expr, error) {
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
		case out.Kind == types.Decimal && (t.Kind == types.Decimal || t.IsWhole()), t.Kind == types.Decimal && out.IsWhole():
			a, b := decimalOf(out), decimalOf(t)
			scale := max(a.Scale, b.Scale)
			before := max(a.Precision-a.Scale, b.Precision-b.Scale)
			out = types.DecimalOf(min(int(before+scale), types.MaxPrecision), int(scale))
		case Implicit(t, out):
		case Implicit(out, t):
			out = t
		case out.IsNested() && out.Kind == t.Kind && len(out.Fields) == len(t.Fields):
			both := types.Type{Kind: out.Kind}
			for i := range out.Fields {
				f, ok := Common(out.Fields[i].Type, t.Fields[i].Type)
				if !ok {
					return out, false
				}
				both.Fields = append(both.Fields, types.Field{Name: out.Fields[i].Name, Type: f})
			}
			out = both
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
			if m.over || i&255 == 255 && m.Unwanted() {
				m.over = true
				out.S[i] = column.Str{}
				continue
			}
			off := len(out.Data)
			out.Data = f(m, i, out.Data, a)
			if len(out.Data)-off > MaxValue {
				m.Fail(i, tooLarge("the function"))
				out.Data = out.Data[:off]
			}
			out.S[i] = column.Str{Off: uint32(off), Len: uint32(len(out.Data) - off)}
			m.charge(i, n, len(out.Data)-off)
		}
	}
}

// valueKernel computes one value from those of a row, where speed is no matter.
func valueKernel(f func(m *Machine, row int, a []types.Value) types.Value) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		vs := make([]types.Value, len(a))
		for i := range n {
			if out.Null(i) {
				out.Set(i, n, types.Value{})
				continue
			}
			if m.over || i&15 == 15 && m.Unwanted() {
				m.over = true
				out.Set(i, n, types.Value{})
				continue
			}
			for k, v := range a {
				vs[k] = v.Value(i)
			}
			m.give(f(m, i, vs), out, i, n)
		}
	}
}

// give sets value i of n of a vector, where it is not too large.
func (m *Machine) give(v types.Value, out *column.Vector, i, n int) {
	count, size := parts(v)
	switch {
	case count > MaxParts:
		m.Fail(i, tooManyParts("the function"))
		v = types.Value{}
	case size-partBytes*count > MaxValue:
		m.Fail(i, tooLarge("the function"))
		v = types.Value{}
	default:
		m.charge(i, n, size)
	}
	out.Set(i, n, v)
}

// wordKernel computes one 64-bit value a row that is not NULL.
func wordKernel(f func(m *Machine, row int, a []*column.Vector) int64) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if !out.Null(i) {
				out.I[i] = f(m, i, a)
			}
		}
	}
}

// boolKernel computes one truth a row that is not NULL.
func boolKernel(f func(row int, a []*column.Vector) bool) Kernel {
	return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			out.B[i] = !out.Null(i) && f(i, a)
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
		size := 0
		for _, v := range a {
			size += int(v.S[i].Len)
		}
		if size > MaxValue {
			m.Fail(i, tooLarge("the joined text"))
			return dst
		}
		for _, v := range a {
			dst = append(dst, v.Text(i)...)
		}
		return dst
	}), as...)
	e.Name, e.Safe = "concat", true
	return e, nil
}

// alike casts all arguments to their common type.
func alike(args []*Expr) ([]*Expr, types.Type, error) {
	ts := make([]types.Type, len(args))
	for i, a := range args {
		ts[i] = a.Type
	}
	t, ok := Common(ts...)
	if !ok || len(args) == 0 {
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
	if t.IsNested() || t.Kind == types.JSON {
		return nil, ErrTypes
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
	case types.Varchar, types.Varbinary, types.JSON:
		return cmp.Compare(a.S, b.S)
	case types.Decimal:
		return a.Num().Cmp(b.Num())
	}
	return cmp.Compare(a.I, b.I)
}
