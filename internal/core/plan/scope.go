package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// scope is what names an expression can see: the columns of the inputs, each with what computes it.
type scope struct {
	inputs []*scopeInput
	outer  *scope // of the query around this one, or nil
}

// scopeInput is one input: its alias, or the name of what is read, and its columns. unknown says that
// an error there has been reported already, so that no name in it is called wrong, too.
type scopeInput struct {
	name    string
	cols    []scopeColumn
	unknown bool
}

type scopeColumn struct {
	name   string
	expr   *eval.Expr
	hidden bool // no part of *
}

func (s *scopeInput) names() []string {
	var out []string
	for _, c := range s.cols {
		out = append(out, c.name)
	}
	return out
}

func (s *scopeInput) find(name string) *eval.Expr {
	for _, c := range s.cols {
		if c.name == name {
			return c.expr
		}
	}
	return nil
}

// input gives the input of a name, or nil.
func (s *scope) input(name string) *scopeInput {
	for _, in := range s.inputs {
		if in.name == name {
			return in
		}
	}
	return nil
}

// sees says whether a name stands for something here, not looking outside.
func (s *scope) sees(parts []sql.Name) bool {
	for _, in := range s.inputs {
		if in.find(parts[0].Text) != nil || in.name == parts[0].Text && len(parts) > 1 {
			return true
		}
	}
	return false
}

func (s *scope) unknown() bool {
	return slices.ContainsFunc(s.inputs, func(in *scopeInput) bool { return in.unknown })
}

// binder binds expressions. A nil result means that an error has been reported.
type binder struct {
	cat   *Catalog
	errs  *sql.Errors
	scope *scope
	// group is set behind a GROUP BY, where only grouped expressions, window times and aggregates are seen.
	group *grouping
	query func(e *sql.Subquery) *eval.Expr // binds a query that stands for a value, where one may
	over  *overs                           // takes calls with OVER, where they may stand
	where string                           // the clause, for messages
	draws *draws                           // of rows that are made; nil: a call of chance has its draw written out
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

// bound is expr with what is constant in it computed.
func (b *binder) bound(e sql.Expr) *eval.Expr { return b.fold(e, b.expr(e)) }

// fold computes what is constant in a bound expression, and refuses one that is too large.
func (b *binder) fold(e sql.Expr, x *eval.Expr) *eval.Expr {
	if x != nil && x.Size() > eval.MaxSize {
		return b.fail(sql.Unbounded, e, "cut it into steps, each a SELECT of its own", "the expression is too large: parts of it stand for themselves many times")
	}
	return eval.Fold(x)
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
		t := types.Of(e.Value.Kind)
		if t.Kind == types.Decimal {
			t = decimalLiteral(e.Value)
		}
		return eval.Const(t, e.Value)
	case *sql.Param:
		if v, ok := b.cat.look.Values[e.Name]; ok {
			return eval.Const(v.Type, v.Value)
		}
		b.errs.Add(sql.NoValue, e.Span, "set it with --set "+e.Name+"=…", "the parameter :%s has no value", e.Name)
		return nil
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
		if e.Query != nil {
			return b.fail(sql.WrongPlace, e, "write WHERE x IN (SELECT …) AND …", "IN with a query stands in WHERE, on its own or joined by AND")
		}
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
	case *sql.Like:
		return b.like(e)
	case *sql.Within:
		return b.within(e)
	case *sql.Index:
		xs, ok := b.exprs([]sql.Expr{e.X, e.I})
		if !ok {
			return nil
		}
		return wrap(eval.Element(xs[0], xs[1]))
	case *sql.Field:
		if x := b.expr(e.X); x != nil {
			return b.field(x, e.Name, "the value")
		}
		return nil
	case *sql.Build:
		xs, ok := b.exprs(e.Items)
		if !ok {
			return nil
		}
		if e.What == "ARRAY" {
			return wrap(eval.ArrayOf(xs))
		}
		return eval.RowOf(xs)
	case *sql.Exists:
		return b.fail(sql.WrongPlace, e, "write WHERE EXISTS (…) AND …", "EXISTS and NOT EXISTS stand in WHERE, on their own or joined by AND")
	case *sql.Subquery:
		if b.query == nil {
			return b.fail(sql.WrongPlace, e, "put it into a step before this one, or join the table", "a query cannot stand for a value in %s", b.where)
		}
		return b.query(e)
	case *sql.Is:
		if e.Y != nil {
			xs, ok := b.exprs([]sql.Expr{e.X, e.Y})
			if !ok {
				return nil
			}
			return negate(e.Not, wrap(eval.Distinct(xs[0], xs[1])))
		}
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
			hint := ""
			if x.Type.Kind == types.Interval && e.To.IsNumber() {
				hint = "write INTERVAL_SECONDS(…)"
			}
			return b.fail(sql.WrongType, e, hint, "%s cannot be cast to %s", x.Type, e.To)
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
	case "AT TIME ZONE":
		out, err = eval.AtZone(x, y)
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
	if !fits {
		return b.fail(sql.WrongType, e, "cast them to one type", "the results of CASE have no type in common")
	}
	out := &eval.Expr{Op: eval.OpCase, Type: t}
	for i, c := range conds {
		out.Args = append(out.Args, c, eval.Cast(results[i], t))
	}
	out.Args = append(out.Args, eval.Cast(results[len(results)-1], t))
	return out
}

// decimalLiteral is the narrowest DECIMAL that holds a literal.
func decimalLiteral(v types.Value) types.Type {
	digits := len(v.Num().Abs().BigInt().String())
	return types.DecimalOf(min(max(digits, int(v.Scale)), types.MaxPrecision), int(v.Scale))
}

func (b *binder) like(e *sql.Like) *eval.Expr {
	xs, ok := b.exprs([]sql.Expr{e.X, e.Pattern})
	if !ok {
		return nil
	}
	extra := ""
	if e.Extra != nil {
		x := b.bound(e.Extra)
		if x == nil {
			return nil
		}
		if x.Op != eval.OpConst || x.Type.Kind != types.Varchar {
			return b.fail(sql.WrongType, e.Extra, "", "this must be a text that is written out")
		}
		extra = x.Value.S
	}
	var out *eval.Expr
	var err error
	switch {
	case e.Regex:
		out, err = eval.LikeRegex(xs[0], eval.Fold(xs[1]), extra)
	case e.Extra != nil && len(extra) != 1:
		return b.fail(sql.WrongType, e.Extra, "", "ESCAPE takes one ASCII character, found '%s'", extra)
	case e.Extra != nil:
		out, err = eval.Like(xs[0], xs[1], extra[0])
	default:
		out, err = eval.Like(xs[0], xs[1], '\\')
	}
	if err != nil {
		at := sql.Expr(e)
		if e.Regex && xs[0].Type.Kind == types.Varchar {
			at = e.Pattern
		}
		return b.fail(sql.WrongType, at, "", "%s", err)
	}
	return negate(e.Not, out)
}

// within binds x WITHIN d OF y as what it means: a range of x round y.
func (b *binder) within(e *sql.Within) *eval.Expr {
	xs, ok := b.exprs([]sql.Expr{e.X, e.Y})
	if !ok {
		return nil
	}
	d := eval.Const(types.Of(types.Interval), types.Value{Kind: types.Interval, I: e.Of.Micros})
	edge := func(op, moved string) *eval.Expr {
		y, err := xs[1], error(nil)
		if moved != "" {
			y, err = eval.Arithmetic(moved, y, d)
		}
		if err == nil {
			var c *eval.Expr
			if c, err = eval.Compare(op, xs[0], y); err == nil {
				return c
			}
		}
		return b.fail(sql.WrongType, e, "", "WITHIN compares two instants, found %s and %s", xs[0].Type, xs[1].Type)
	}
	from, to := "-", "+"
	switch e.Kind {
	case "AFTER":
		from = ""
	case "BEFORE":
		to = ""
	}
	lo := edge(">=", from)
	if lo == nil {
		return nil
	}
	hi := edge("<=", to)
	if hi == nil {
		return nil
	}
	return logic(eval.OpAnd, lo, hi)
}

// elsewhere says how what functions of other names do is written here.
var elsewhere = map[string]string{
	"substr": "SUBSTRING(x FROM 1 FOR 3)", "mid": "SUBSTRING(x FROM 1 FOR 3)", "now": "CURRENT_TIMESTAMP", "sysdate": "CURRENT_TIMESTAMP", "getdate": "CURRENT_TIMESTAMP",
	"if": "CASE WHEN … THEN … ELSE … END", "iif": "CASE WHEN … THEN … ELSE … END", "decode": "CASE x WHEN … THEN … ELSE … END",
	"nvl": "COALESCE(x, y)", "ifnull": "COALESCE(x, y)", "isnull": "x IS NULL, or COALESCE(x, y)", "len": "CHAR_LENGTH(x)", "ucase": "UPPER(x)", "lcase": "LOWER(x)",
	"to_char": "CAST(x AS VARCHAR)", "to_number": "CAST(x AS DOUBLE)", "datediff": "a - b, which is an INTERVAL, and INTERVAL_SECONDS(a - b)", "timestampdiff": "a - b, which is an INTERVAL, and INTERVAL_SECONDS(a - b)",
}

func (b *binder) call(e *sql.Call) *eval.Expr {
	name := e.Name.Text
	upper := strings.ToUpper(name)
	f := eval.Lookup(name)
	switch user := b.cat.Functions[name]; {
	case user != nil:
		f = user.function
	case f == nil:
		names := keys(b.cat.Functions)
		for _, f := range eval.Functions() {
			names = append(names, f.Name)
		}
		hint := sql.DidYouMean(name, names)
		if x := elsewhere[name]; x != "" {
			hint = "write " + x
		}
		b.errs.Add(sql.UnknownName, e.Name.Span, hint, "no function is called %s", upper)
		return nil
	case e.Over != nil:
		if b.over == nil {
			return b.fail(sql.WrongPlace, e, "put it into SELECT, and the condition into a query around it", "OVER cannot stand in %s", b.where)
		}
		return b.over.bind(b, e)
	case f.Kind == eval.OverRows:
		return b.fail(sql.WrongPlace, e, "write "+f.Signatures[0], "%s takes OVER", upper)
	case f.Kind == eval.Aggregating:
		hint := "aggregates stand in SELECT and HAVING of a query with GROUP BY"
		return b.fail(sql.WrongPlace, e, hint, "the aggregate %s cannot stand in %s", upper, b.where)
	}
	switch {
	case e.Star || e.Distinct:
		return b.fail(sql.WrongPlace, e, "", "%s takes no * and no DISTINCT", upper)
	case e.Filter != nil || e.Order != nil || e.Over != nil:
		return b.fail(sql.WrongPlace, e, "", "%s is no aggregate: it takes no FILTER, ORDER BY or OVER", upper)
	}
	if name == "event_time" && (b.group != nil || !slices.Contains([]string{"SELECT", "WHERE", "OVER", "ROUTE … WHERE"}, b.where)) {
		where := b.where
		if b.group != nil {
			where = "a query with GROUP BY, whose windows have ends"
		}
		return b.fail(sql.WrongPlace, e, "select it in a step before", "EVENT_TIME() cannot stand in %s", where)
	}
	args, ok := b.exprs(e.Args)
	if !ok {
		return nil
	}
	for i := range args {
		args[i] = eval.Fold(args[i])
	}
	if b.draws != nil && f.Group == eval.RandomGroup {
		args = append([]*eval.Expr{b.draws.of(f)}, args...)
	}
	var x *eval.Expr
	var err error
	if strings.HasPrefix(name, "json_") {
		if x, err = b.json(e, args); x == nil && err == nil {
			return nil
		}
	} else {
		x, err = f.Bind(args)
	}
	if err != nil {
		return b.misfit(e, f, args, err)
	}
	return x
}

// misfit reports that a function does not take its arguments.
func (b *binder) misfit(e *sql.Call, f *eval.Function, args []*eval.Expr, err error) *eval.Expr {
	if errors.Is(err, eval.ErrTypes) {
		var got []string
		for _, a := range args {
			got = append(got, a.Type.String())
		}
		if e.Star {
			got = []string{"*"}
		}
		return b.fail(sql.WrongType, e, "it is "+strings.Join(f.Signatures, ", or "), "%s does not take (%s)", strings.ToUpper(e.Name.Text), strings.Join(got, ", "))
	}
	return b.fail(sql.WrongType, e, "", "%s", err)
}

// json binds the JSON functions, which have clauses behind their arguments.
func (b *binder) json(e *sql.Call, args []*eval.Expr) (*eval.Expr, error) {
	name := e.Name.Text
	if name == "json_object" || name == "json_array" {
		return eval.JSONBuild(name, args, e.Absent)
	}
	if len(args) != 2 {
		return nil, eval.ErrTypes
	}
	if name == "json_exists" {
		return eval.JSONExists(args[0], args[1])
	}
	t := types.Of(types.Varchar)
	if name == "json_query" {
		t = types.Of(types.JSON)
	}
	if e.Returning != nil {
		t = *e.Returning
	}
	on := func(o *sql.OnCase) (out eval.OnCase, ok bool) {
		if o == nil {
			return out, true
		}
		out.Error = o.Kind == "ERROR"
		if o.Default != nil {
			if out.Default = b.bound(o.Default); out.Default == nil {
				return out, false
			}
		}
		return out, true
	}
	empty, ok := on(e.OnEmpty)
	failed, ok2 := on(e.OnError)
	if !ok || !ok2 {
		return nil, nil
	}
	return eval.JSONValue(name, args[0], args[1], t, empty, failed)
}

// path binds column, input.column, and fields of ROWs and documents.
func (b *binder) path(e *sql.Path) *eval.Expr {
	parts := e.Parts
	first := parts[0]
	var x *eval.Expr
	var owners []string
	if sc := b.scope.outer; sc != nil && !b.scope.sees(parts) {
		out := *b
		out.scope = sc
		for s := sc; s != nil; s = s.outer {
			if s.sees(parts) {
				return out.path(e)
			}
		}
	}
	for _, in := range b.scope.inputs {
		if y := in.find(first.Text); y != nil {
			x, owners = y, append(owners, in.name)
		}
	}
	owner := b.scope.input(first.Text)
	if owner != nil && len(parts) > 1 {
		if y := owner.find(parts[1].Text); y != nil {
			x, parts, owners = y, parts[1:], nil
		} else if x == nil {
			if owner.unknown {
				return nil
			}
			b.errs.Add(sql.UnknownName, parts[1].Span, suggestion(parts[1].Text, owner.names(), owner.name), "unknown column %q in %s", parts[1].Text, owner.name)
			return nil
		}
	}
	if len(owners) > 1 {
		b.errs.Add(sql.Ambiguous, first.Span, fmt.Sprintf("write %s.%s or %s.%s", owners[0], first.Text, owners[1], first.Text),
			"the column %q is in %s", first.Text, strings.Join(owners, " and in "))
		return nil
	}
	if x == nil {
		if b.scope.unknown() {
			return nil
		}
		if len(b.scope.inputs) == 0 {
			b.errs.Add(sql.UnknownName, first.Span, "text stands in 'single quotes'", "%s sees no columns, and so no %q", b.where, first.Text)
			return nil
		}
		var have, where []string
		for _, in := range b.scope.inputs {
			have, where = append(have, in.names()...), append(where, in.name)
		}
		if len(parts) > 1 && owner == nil && sql.Suggest(first.Text, have) == "" {
			have = append(have, where...)
		}
		b.errs.Add(sql.UnknownName, first.Span, suggestion(first.Text, have, strings.Join(where, ", ")), "unknown column %q in %s", first.Text, strings.Join(where, ", "))
		return nil
	}
	for i, p := range parts[1:] {
		if x = b.field(x, p, parts[i].Text); x == nil {
			return nil
		}
	}
	return x
}

// field binds a field of a value that the text calls what.
func (b *binder) field(x *eval.Expr, name sql.Name, what string) *eval.Expr {
	switch x.Type.Kind {
	case types.JSON:
		y, err := eval.JSONField(x, eval.Const(types.Of(types.Varchar), types.Value{Kind: types.Varchar, S: name.Text}))
		if err != nil {
			b.errs.Add(sql.WrongType, name.Span, "", "%s", err)
		}
		return y
	case types.Row:
		if k := x.Type.FieldIndex(name.Text); k >= 0 {
			return eval.Field(x, k)
		}
		var names []string
		for _, f := range x.Type.Fields {
			names = append(names, f.Name)
		}
		b.errs.Add(sql.UnknownName, name.Span, suggestion(name.Text, names, what), "unknown field %q in %s", name.Text, what)
		return nil
	}
	hint := ""
	switch x.Type.Kind {
	case types.Map:
		hint = fmt.Sprintf("write %s['%s']", what, name.Text)
	case types.Array:
		hint = fmt.Sprintf("an element is %s[1]", what)
	}
	b.errs.Add(sql.WrongType, name.Span, hint, "%q is %s and has no fields", what, x.Type)
	return nil
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
	if a == nil || b == nil {
		return a == b
	}
	return a.Key() == b.Key()
}
