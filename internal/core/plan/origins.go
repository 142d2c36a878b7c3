package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/types"
)

// Origin says which rows of a stream or table a result row can have come from: those that meet all of it.
type Origin struct {
	Scan     *Op
	Equals   []Equal
	Conds    []Condition
	From, To int64 // of the event time, both included; MinTime and MaxTime where nothing bounds it
	// Of the window that the rows counted in; Closes is 0 where there is none.
	Opens, Closes, Lateness int64
}

// Equal is an expression over the scan's columns that has to have a value.
type Equal struct {
	Expr  *eval.Expr
	Value types.Value
}

// Condition is an expression over the scan's columns that has to be true, and how it was written.
type Condition struct {
	Expr *eval.Expr
	Said string
}

// known is what is known of the rows that come out of an operator.
type known struct {
	equals                  []Equal
	conds                   []Condition
	from, to                int64
	opens, closes, lateness int64
}

// Origins goes back from a row of an output to the streams and tables that it can have come from. values are the
// columns of the row that are known, by their place. What a step forgets (the rows behind a sum, the rows before one
// that it looks back on) widens what is asked for, so that no row is left out.
func (p *Plan) Origins(out *Op, values map[int]types.Value) []Origin {
	k := known{from: types.MinTime, to: types.MaxTime}
	for i, v := range values {
		k.equals = append(k.equals, Equal{eval.Column(i, out.Fields[i].Type), v})
	}
	slices.SortFunc(k.equals, func(a, b Equal) int { return a.Expr.Index - b.Expr.Index })
	var all []Origin
	for _, in := range p.feeding(out) {
		p.back(in, k, &all)
	}
	return all
}

// feeding gives the operators whose rows an output gets.
func (p *Plan) feeding(out *Op) (in []*Op) {
	for _, o := range p.Ops {
		switch {
		case o.Kind == Route:
			for _, b := range o.Branches {
				if slices.Contains(b.Sinks, out) && !slices.Contains(in, o.Input) {
					in = append(in, o.Input)
				}
			}
		case o == out && o.Input != nil && !slices.Contains(in, o.Input):
			in = append(in, o.Input)
		}
	}
	return in
}

// back goes on from what is known of the rows that come out of an operator.
func (p *Plan) back(o *Op, k known, all *[]Origin) {
	switch o.Kind {
	case Scan:
		*all = append(*all, Origin{Scan: o, Equals: k.equals, Conds: k.conds, From: k.from, To: k.to, Opens: k.opens, Closes: k.closes, Lateness: k.lateness})
	case Project:
		p.back(o.Input, k.through(func(i int) *eval.Expr { return o.Exprs[i] }), all)
	case Filter:
		k.conds = append(slices.Clone(k.conds), Condition{o.Cond, strings.TrimPrefix(o.Detail, "where ")})
		p.back(o.Input, k, all)
	case Window:
		p.back(o.Input, k.inWindow(o), all)
	case Over:
		inputs := len(o.Input.Fields)
		var kept []Equal
		for _, e := range k.equals {
			if slices.ContainsFunc(o.Order.Keys, func(key *eval.Expr) bool { return same(key, e.Expr) }) {
				kept = append(kept, e)
			}
		}
		k = k.through(func(i int) *eval.Expr {
			if i < inputs {
				return eval.Column(i, o.Input.Fields[i].Type)
			}
			return nil
		})
		k.equals, k.conds = kept, nil // rows of the same key count, too
		for _, c := range o.Order.Calls {
			if c.ByRows || c.Agg == nil || c.Open || k.from == types.MinTime {
				k.from = types.MinTime
			} else {
				k.from += min(c.From, 0)
			}
			k.to = types.MaxTime
		}
		p.back(o.Input, k, all)
	case Explode:
		inputs := len(o.Input.Fields)
		p.back(o.Input, k.through(func(i int) *eval.Expr {
			if i < inputs {
				return eval.Column(i, o.Input.Fields[i].Type)
			}
			return nil
		}), all)
	case Join, AsOf:
		p.backJoin(o, k, all)
	case Lookup:
		n := len(o.Input.Fields)
		left, right := k.sides(o, n)
		p.back(o.Input, left, all)
		if o.Of != nil && !o.OfTable.Lookup {
			for i, key := range o.Order.Keys {
				if v, ok := left.value(key); ok && i < len(o.OfTable.Key) {
					c := o.OfTable.Key[i]
					right.equals = append(right.equals, Equal{eval.Column(c, o.Of.Fields[c].Type), v})
				}
			}
			right.from, right.to = types.MinTime, types.MaxTime
			p.back(o.Of, right, all)
		}
	default: // the rows are those of the inputs
		for _, in := range o.Inputs() {
			p.back(in, k, all)
		}
	}
}

// through is what is known of rows whose columns were computed as expr says; nil where that is not known.
func (k known) through(expr func(i int) *eval.Expr) known {
	out := k
	out.equals, out.conds = nil, nil
	for _, e := range k.equals {
		if x, ok := replaced(e.Expr, expr); ok {
			out.equals = append(out.equals, Equal{x, e.Value})
		}
	}
	for _, c := range k.conds {
		if x, ok := replaced(c.Expr, expr); ok {
			out.conds = append(out.conds, Condition{x, c.Said})
		}
	}
	return out
}

// replaced puts expressions in the place of columns. It says false where one is not known, or where the result could
// differ from one time to the next.
func replaced(e *eval.Expr, by func(i int) *eval.Expr) (*eval.Expr, bool) {
	if e.Op == eval.OpTime || e.Volatile {
		return nil, false
	}
	if e.Op == eval.OpColumn {
		x := by(e.Index)
		return x, x != nil && !x.IsVolatile()
	}
	c := *e
	c.Shared = false
	c.Args = make([]*eval.Expr, len(e.Args))
	for i, a := range e.Args {
		x, ok := replaced(a, by)
		if !ok {
			return nil, false
		}
		c.Args[i] = x
	}
	return &c, true
}

// inWindow is what is known of the rows that counted in a result.
func (k known) inWindow(o *Op) known {
	t := o.Agg
	n := len(t.Keys)
	opens, closes := types.MinTime, types.MaxTime
	for _, e := range k.equals {
		if e.Expr.Op != eval.OpColumn || e.Value.IsNull() {
			continue
		}
		switch e.Expr.Index {
		case n:
			opens = e.Value.I
		case n + 1:
			closes = e.Value.I
		}
	}
	out := k.through(func(i int) *eval.Expr {
		if i < n {
			return t.Keys[i]
		}
		return nil
	})
	if t.Kind == Fixed && t.Zone == nil {
		if opens == types.MinTime && closes != types.MaxTime {
			opens = closes - t.Length
		} else if closes == types.MaxTime && opens != types.MinTime {
			closes = opens + t.Length
		}
	}
	switch {
	case opens != types.MinTime && closes != types.MaxTime:
		out.from, out.to = opens, closes-1
		out.opens, out.closes, out.lateness = opens, closes, t.Lateness
	case t.Kind == Fixed && k.from != types.MinTime && t.Zone == nil:
		out.from = k.from - t.Length + 1
	default:
		out.from = types.MinTime
	}
	return out
}

// sides shares out what is known to the two sides of a join; the left one has n columns.
func (k known) sides(o *Op, n int) (left, right known) {
	left, right = k, k
	left.equals, left.conds, right.equals, right.conds = nil, nil, nil, nil
	shift := func(i int) *eval.Expr { return eval.Column(i-n, o.Fields[i].Type) }
	for _, e := range k.equals {
		l, r := sidesOf(e.Expr, n)
		if l && !r {
			left.equals = append(left.equals, e)
		} else if x, ok := replaced(e.Expr, shift); r && !l && ok && !e.Value.IsNull() {
			right.equals = append(right.equals, Equal{x, e.Value})
		}
	}
	for _, c := range k.conds {
		l, r := sidesOf(c.Expr, n)
		if l && !r {
			left.conds = append(left.conds, c)
		} else if x, ok := replaced(c.Expr, shift); r && !l && ok {
			right.conds = append(right.conds, Condition{x, c.Said})
		}
	}
	return left, right
}

// value gives the value that an expression is known to have.
func (k known) value(e *eval.Expr) (types.Value, bool) {
	for _, x := range k.equals {
		if same(x.Expr, e) && !x.Value.IsNull() {
			return x.Value, true
		}
	}
	return types.Value{}, false
}

func (p *Plan) backJoin(o *Op, k known, all *[]Origin) {
	l, r, j := o.Input, o.Right, o.Join
	left, right := k.sides(o, len(l.Input.Fields))
	// What is equal in the keys of one side is equal in those of the other.
	for i := range l.Order.Keys {
		a, b := l.Order.Keys[i], r.Order.Keys[i]
		if v, ok := left.value(a); ok {
			right.equals = append(right.equals, Equal{b, v})
		} else if v, ok := right.value(b); ok {
			left.equals = append(left.equals, Equal{a, v})
		}
	}
	if o.Kind == AsOf {
		right.from, right.to = types.MinTime, types.MaxTime
	} else if !j.Tables {
		move := func(x *known, from, to int64) {
			if x.from != types.MinTime {
				x.from += from
			}
			if x.to != types.MaxTime {
				x.to += to
			}
		}
		switch j.Time {
		case OfLeft:
			move(&right, j.Lo, j.Hi)
		case OfRight:
			move(&left, -j.Hi, -j.Lo)
		default:
			move(&left, -max(j.Hi, 0), 0)
			move(&right, -max(-j.Lo, 0), 0)
		}
	}
	p.back(l.Input, left, all)
	p.back(r.Input, right, all)
}

// Text says for people what a row has to meet.
func (o *Origin) Text() []string {
	var out []string
	for _, e := range o.Equals {
		out = append(out, fmt.Sprintf("%s = %s", o.pathOf(e.Expr), literal(e.Value)))
	}
	for _, c := range o.Conds {
		out = append(out, c.Said)
	}
	switch {
	case o.From != types.MinTime && o.To != types.MaxTime:
		out = append(out, fmt.Sprintf("event time from %s to %s", types.AppendTimestamp(nil, o.From), types.AppendTimestamp(nil, o.To)))
	case o.To != types.MaxTime:
		out = append(out, fmt.Sprintf("event time up to %s", types.AppendTimestamp(nil, o.To)))
	}
	return out
}

// pathOf names a column, or a field of one.
func (o *Origin) pathOf(e *eval.Expr) string {
	if e.Op == eval.OpField && e.Args[0].Type.Kind == types.Row {
		if f := e.Args[0].Type.Fields; e.Index < len(f) {
			return o.pathOf(e.Args[0]) + "." + f[e.Index].Name
		}
	}
	return o.Scan.nameOf(e)
}

func literal(v types.Value) string {
	if v.IsNull() {
		return "NULL"
	}
	if v.Kind == types.Varchar {
		return "'" + strings.ReplaceAll(v.S, "'", "''") + "'"
	}
	return string(types.AppendText(nil, v))
}

// KeyOf gives the columns of an output that tell apart results that are made of several rows, by their place: keys and
// windows' ends of the aggregation nearest to it. It gives nil where an output's rows are made of one row each, or
// where that is not known.
func (p *Plan) KeyOf(out *Op) []int {
	var find func(o *Op, at []int) []int // at: where the columns of o are in the output, or -1
	find = func(o *Op, at []int) []int {
		switch o.Kind {
		case Window:
			var keys []int
			for i := range len(o.Agg.Keys) + 2 {
				if at[i] >= 0 {
					keys = append(keys, at[i])
				}
			}
			return keys
		case Project:
			in := make([]int, len(o.Input.Fields))
			for i := range in {
				in[i] = -1
			}
			for i, e := range o.Exprs {
				if e != nil && e.Op == eval.OpColumn && at[i] >= 0 {
					in[e.Index] = at[i]
				}
			}
			return find(o.Input, in)
		case Filter, Unique, Settle, Side, Lookup, AsOf, Over:
			if o.Input == nil {
				return nil
			}
			n := len(o.Input.Fields)
			in := make([]int, n)
			for i := range in {
				in[i] = -1
				if i < len(at) {
					in[i] = at[i]
				}
			}
			return find(o.Input, in)
		}
		return nil
	}
	for _, in := range p.feeding(out) {
		at := make([]int, len(in.Fields))
		for i := range at {
			at[i] = i
		}
		if keys := find(in, at); keys != nil {
			return keys
		}
	}
	return nil
}
