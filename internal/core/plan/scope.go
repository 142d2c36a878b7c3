package plan

import (
	"errors"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// scope is what names an expression can see: the columns of one input, each with what computes it.
type scope struct {
	name string // the alias, or the name of what is read
	cols []scopeColumn
}

type scopeColumn struct {
	name string
	expr *eval.Expr
}

func (s *scope) names() []string {
	var out []string
	for _, c := range s.cols {
		out = append(out, c.name)
	}
	return out
}

// binder binds expressions. A nil result means that an error has been reported.
type binder struct {
	errs  *sql.Errors
	scope *scope
	// group is set behind a GROUP BY, where only grouped expressions, window times and aggregates are seen.
	group *grouping
	where string // the clause, for messages
}

func (b *binder) fail(code sql.Code, e sql.Expr, hint, format string, args ...any) *eval.Expr {
	b.errs.Add(code, e.Place(), hint, format, args...)
	return nil
}

// condition binds an expression that must be BOOLEAN.
func (b *binder) condition(e sql.Expr) *eval.Expr {
	x := b.expr(e)
	if x == nil {
		return nil
	}
	if x.Type.Kind == types.Null {
		return eval.Cast(x, types.Of(types.Boolean))
	}
	if x.Type.Kind != types.Boolean {
		return b.fail(sql.WrongType, e, "write a comparison", "%s takes a condition, found %s", b.where, x.Type)
	}
	return x
}

func (b *binder) exprs(es []sql.Expr) ([]*eval.Expr, bool) {
	out, ok := make([]*eval.Expr, len(es)), true
	for i, e := range es {
		out[i] = b.expr(e)
		ok = ok && out[i] != nil
	}
	return out, ok
}

func (b *binder) expr(e sql.Expr) *eval.Expr {
	if b.group != nil {
		if x, done := b.grouped(e); done {
			return x
		}
	}
	// wrap reports an error of the eval package at this expression.
	wrap := func(x *eval.Expr, err error) *eval.Expr {
		if err != nil {
			return b.fail(sql.WrongType, e, "", "%s", err)
		}
		return x
	}
	switch e := e.(type) {
	case *sql.Literal:
		return eval.Const(types.Of(e.Value.Kind), e.Value)
	case *sql.Path:
		return b.path(e)
	case *sql.Unary:
		if e.Op == "NOT" {
			if x := b.boolean(e.X, "NOT"); x != nil {
				return &eval.Expr{Op: eval.OpNot, Type: x.Type, Args: []*eval.Expr{x}}
			}
			return nil
		}
		x := b.expr(e.X)
		if x == nil {
			return nil
		}
		if e.Op == "+" {
			if !x.Type.IsNumber() && x.Type.Kind != types.Interval {
				return b.fail(sql.WrongType, e, "", "+%s is not defined", x.Type)
			}
			return x
		}
		return wrap(eval.Negate(x))
	case *sql.Binary:
		return b.binary(e)
	case *sql.Between:
		xs, ok := b.exprs([]sql.Expr{e.X, e.Lo, e.Hi})
		if !ok {
			return nil
		}
		lo, err := eval.Compare(">=", xs[0], xs[1])
		if err != nil {
			return b.fail(sql.WrongType, e.Lo, "", "%s", err)
		}
		hi, err := eval.Compare("<=", xs[0], xs[2])
		if err != nil {
			return b.fail(sql.WrongType, e.Hi, "", "%s", err)
		}
		return negate(e.Not, logic(eval.OpAnd, lo, hi))
	case *sql.In:
		x := b.expr(e.X)
		list, ok := b.exprs(e.List)
		if x == nil || !ok {
			return nil
		}
		var out *eval.Expr
		for i, y := range list {
			c, err := eval.Compare("=", x, y)
			if err != nil {
				return b.fail(sql.WrongType, e.List[i], "", "%s", err)
			}
			if out == nil {
				out = c
			} else {
				out = logic(eval.OpOr, out, c)
			}
		}
		return negate(e.Not, out)
	case *sql.Is:
		var x *eval.Expr
		op := eval.OpIsNull
		if e.What == "NULL" || e.What == "UNKNOWN" {
			x = b.expr(e.X)
		} else {
			x, op = b.boolean(e.X, "IS "+e.What), eval.OpIsTrue
		}
		if x == nil {
			return nil
		}
		if e.What == "FALSE" {
			x = &eval.Expr{Op: eval.OpNot, Type: x.Type, Args: []*eval.Expr{x}}
		}
		return negate(e.Not, &eval.Expr{Op: op, Type: types.Of(types.Boolean), Args: []*eval.Expr{x}})
	case *sql.Case:
		return b.caseExpr(e)
	case *sql.Cast:
		x := b.expr(e.X)
		if x == nil {
			return nil
		}
		if !eval.CanCast(x.Type, e.To) {
			return b.fail(sql.WrongType, e, "", "%s cannot be cast to %s", x.Type, e.To)
		}
		if x.Type.Equal(e.To) {
			return x
		}
		return &eval.Expr{Op: eval.OpCast, Type: e.To, Args: []*eval.Expr{x}, Try: e.Try}
	case *sql.Call:
		return b.call(e)
	}
	return b.fail(sql.WrongPlace, e, "", "this cannot stand in an expression")
}

func negate(not bool, x *eval.Expr) *eval.Expr {
	if !not || x == nil {
		return x
	}
	return &eval.Expr{Op: eval.OpNot, Type: x.Type, Args: []*eval.Expr{x}}
}

func logic(op eval.Op, x, y *eval.Expr) *eval.Expr {
	return &eval.Expr{Op: op, Type: types.Of(types.Boolean), Args: []*eval.Expr{x, y}}
}

func (b *binder) boolean(e sql.Expr, what string) *eval.Expr {
	x := b.expr(e)
	if x == nil {
		return nil
	}
	if x.Type.Kind != types.Boolean && x.Type.Kind != types.Null {
		return b.fail(sql.WrongType, e, "write a comparison", "%s takes BOOLEAN, found %s", what, x.Type)
	}
	return eval.Cast(x, types.Of(types.Boolean))
}

func (b *binder) binary(e *sql.Binary) *eval.Expr {
	if e.Op == "AND" || e.Op == "OR" {
		x, y := b.boolean(e.X, e.Op), b.boolean(e.Y, e.Op)
		if x == nil || y == nil {
			return nil
		}
		op := eval.OpAnd
		if e.Op == "OR" {
			op = eval.OpOr
		}
		return logic(op, x, y)
	}
	x, y := b.expr(e.X), b.expr(e.Y)
	if x == nil || y == nil {
		return nil
	}
	var out *eval.Expr
	var err error
	switch e.Op {
	case "=", "<>", "<", "<=", ">", ">=":
		out, err = eval.Compare(e.Op, x, y)
	case "LIKE":
		out, err = eval.Like(x, y)
	case "||":
		out, err = eval.Concat(x, y)
		if err != nil {
			return b.fail(sql.WrongType, e, "", "%s || %s is not defined", x.Type, y.Type)
		}
	default:
		out, err = eval.Arithmetic(e.Op, x, y)
	}
	if err != nil {
		hint := ""
		if x.Type.Kind == types.Varchar && y.Type.IsNumber() {
			hint = "cast the text first: CAST(… AS DOUBLE)"
		}
		return b.fail(sql.WrongType, e, hint, "%s", err)
	}
	return out
}

func (b *binder) caseExpr(e *sql.Case) *eval.Expr {
	var x *eval.Expr
	if e.X != nil {
		if x = b.expr(e.X); x == nil {
			return nil
		}
	}
	var conds, results []*eval.Expr
	ok := true
	for _, w := range e.Whens {
		var c *eval.Expr
		if x == nil {
			c = b.boolean(w.Cond, "WHEN")
		} else if y := b.expr(w.Cond); y != nil {
			var err error
			if c, err = eval.Compare("=", x, y); err != nil {
				c = b.fail(sql.WrongType, w.Cond, "", "%s", err)
			}
		}
		r := b.expr(w.Then)
		ok = ok && c != nil && r != nil
		conds, results = append(conds, c), append(results, r)
	}
	if e.Else != nil {
		r := b.expr(e.Else)
		ok = ok && r != nil
		results = append(results, r)
	} else {
		results = append(results, eval.Const(types.Of(types.Null), types.Value{Kind: types.Null}))
	}
	if !ok {
		return nil
	}
	var ts []types.Type
	for _, r := range results {
		ts = append(ts, r.Type)
	}
	t, fits := eval.Common(ts...)
	if !fits || t.Kind == types.Row {
		return b.fail(sql.WrongType, e, "cast them to one type", "the results of CASE have no type in common")
	}
	out := &eval.Expr{Op: eval.OpCase, Type: t}
	for i, c := range conds {
		out.Args = append(out.Args, c, eval.Cast(results[i], t))
	}
	out.Args = append(out.Args, eval.Cast(results[len(results)-1], t))
	return out
}

func (b *binder) call(e *sql.Call) *eval.Expr {
	name := e.Name.Text
	if slices.Contains(eval.AggregateNames, name) {
		hint := "aggregates stand in SELECT and HAVING of a query with GROUP BY"
		return b.fail(sql.WrongPlace, e, hint, "the aggregate %s cannot stand in %s", strings.ToUpper(name), b.where)
	}
	f := eval.Lookup(name)
	if f == nil {
		return b.unknownFunction(e)
	}
	if e.Star || e.Distinct {
		return b.fail(sql.WrongPlace, e, "", "%s takes no * and no DISTINCT", strings.ToUpper(name))
	}
	args, ok := b.exprs(e.Args)
	if !ok {
		return nil
	}
	x, err := f.Bind(args)
	if err != nil {
		if errors.Is(err, eval.ErrTypes) {
			var got []string
			for _, a := range args {
				got = append(got, a.Type.String())
			}
			return b.fail(sql.WrongType, e, "it is "+f.Signature, "%s does not take (%s)", strings.ToUpper(name), strings.Join(got, ", "))
		}
		return b.fail(sql.WrongType, e, "", "%s", err)
	}
	return x
}

// later are functions of the language that come with a later version.
var later = []string{"count_distinct", "like_regex", "split", "lpad", "rpad", "format_timestamp", "parse_timestamp", "json_value",
	"json_query", "json_exists", "json_object", "json_array", "cardinality", "element_at", "contains", "var_pop", "var_samp",
	"stddev_pop", "stddev_samp", "first_value", "last_value", "arg_max", "arg_min", "array_agg", "listagg", "bool_and", "bool_or",
	"percentile_cont", "approx_percentile", "approx_count_distinct", "row_number", "rank", "lag", "lead"}

func (b *binder) unknownFunction(e *sql.Call) *eval.Expr {
	name := e.Name.Text
	if slices.Contains(later, name) {
		return b.fail(sql.NotYet, e, "", "the function %s: this version of Fiume does not run it yet", strings.ToUpper(name))
	}
	names := slices.Clone(eval.AggregateNames)
	for _, f := range eval.Functions() {
		names = append(names, f.Name)
	}
	b.errs.Add(sql.UnknownName, e.Name.Span, sql.DidYouMean(name, names), "no function is called %s", strings.ToUpper(name))
	return nil
}

// path binds column, input.column and fields of ROWs.
func (b *binder) path(e *sql.Path) *eval.Expr {
	parts := e.Parts
	find := func(n string) *eval.Expr {
		for _, c := range b.scope.cols {
			if c.name == n {
				return c.expr
			}
		}
		return nil
	}
	x := find(parts[0].Text)
	if len(parts) > 1 && parts[0].Text == b.scope.name {
		if y := find(parts[1].Text); y != nil {
			x, parts = y, parts[1:]
		} else if x == nil {
			b.errs.Add(sql.UnknownName, parts[1].Span, suggestion(parts[1].Text, b.scope.names(), b.scope.name), "unknown column %q in %s", parts[1].Text, b.scope.name)
			return nil
		}
	}
	if x == nil {
		b.errs.Add(sql.UnknownName, parts[0].Span, suggestion(parts[0].Text, b.scope.names(), b.scope.name), "unknown column %q in %s", parts[0].Text, b.scope.name)
		return nil
	}
	for i, p := range parts[1:] {
		if x.Type.Kind != types.Row {
			b.errs.Add(sql.WrongType, p.Span, "", "%q is %s and has no fields", parts[i].Text, x.Type)
			return nil
		}
		k := x.Type.FieldIndex(p.Text)
		if k < 0 {
			var names []string
			for _, f := range x.Type.Fields {
				names = append(names, f.Name)
			}
			b.errs.Add(sql.UnknownName, p.Span, suggestion(p.Text, names, parts[i].Text), "unknown field %q in %s", p.Text, parts[i].Text)
			return nil
		}
		x = &eval.Expr{Op: eval.OpField, Type: x.Type.Fields[k].Type, Args: []*eval.Expr{x}, Index: k}
	}
	return x
}

func suggestion(name string, have []string, in string) string {
	list := "(" + in + " has: " + strings.Join(have, ", ") + ")"
	if s := sql.DidYouMean(name, have); s != "" {
		return s + "  " + list
	}
	return list
}

// same says whether two bound expressions compute the same.
func same(a, b *eval.Expr) bool {
	if a.Op != b.Op || !a.Type.Equal(b.Type) || a.Index != b.Index || a.Name != b.Name || a.Try != b.Try || len(a.Args) != len(b.Args) {
		return false
	}
	if a.Op == eval.OpConst && (a.Value.IsNull() != b.Value.IsNull() || !a.Value.IsNull() && eval.CompareValues(a.Value, b.Value) != 0) {
		return false
	}
	for i := range a.Args {
		if !same(a.Args[i], b.Args[i]) {
			return false
		}
	}
	return true
}
