package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// overs collects the calls with OVER of one query: one operator for each way of partitioning and ordering.
type overs struct {
	b       *builder
	windows []sql.Window
	specs   []*overSpec
	of      *Op      // the rows of the query
	at      sql.Span // the last call, for messages
}

type overSpec struct {
	text  string
	order Ordering
	names []string // of the calls
	first int      // column of its first call
}

// Columns of calls have numbers from here until their operators are known.
const overColumns = 1 << 20

// bind binds one call.
func (v *overs) bind(b *binder, e *sql.Call) *eval.Expr {
	over := e.Over
	if over.Window != nil {
		i := slices.IndexFunc(v.windows, func(w sql.Window) bool { return w.Name.Text == over.Window.Text })
		if i < 0 || v.windows[i].Over == nil {
			var names []string
			for _, w := range v.windows {
				if w.Over != nil {
					names = append(names, w.Name.Text)
				}
			}
			b.errs.Add(sql.UnknownName, over.Window.Span, sql.DidYouMean(over.Window.Text, names), "no window of rows is called %q", over.Window.Text)
			return nil
		}
		over = v.windows[i].Over
	}
	v.at = e.Span
	input := v.input(b)
	inner := *b
	inner.over, inner.where = nil, "OVER"
	keys, names, ok := inner.keys(over.Partition)
	if !ok {
		return nil
	}
	order := Ordering{Keys: keys, Names: names}
	if over.Forget != nil {
		order.Forget = over.Forget.Micros
	}
	ends := 0
	for _, k := range keys {
		if k.Op == eval.OpColumn && input.opens >= 0 && (k.Index == input.opens || k.Index == input.closes) {
			ends++
		}
	}
	order.Ranked = ends == 2
	for _, o := range over.Order {
		x := inner.bound(o.By)
		if x == nil {
			return nil
		}
		isTime := !o.Desc && (x.Op == eval.OpTime || x.Op == eval.OpColumn && x.Index == input.Time && input.Time >= 0 || x.Op == eval.OpColumn && x.Index == input.closes && input.closes >= 0)
		if order.Ranked {
			order.By, order.Desc = append(order.By, x), append(order.Desc, o.Desc)
			continue
		}
		if !isTime || len(over.Order) > 1 {
			return b.fail(sql.Unbounded, o.By, "order by the event time (EVENT_TIME() names it where no column does), or put a window's opens and closes into PARTITION BY", "rows without an end can be ordered by their event time alone")
		}
	}
	if len(over.Order) == 0 {
		return b.fail(sql.Unbounded, e, "add ORDER BY the event time: its column, or EVENT_TIME()", "OVER needs an order")
	}
	call, ok := v.call(&inner, e, over, &order)
	if !ok {
		return nil
	}
	text := fmt.Sprint(strings.Join(names, ", "), order.Forget, order.Ranked)
	if call.Agg != nil && !call.ByRows && !call.Open && call.From < 0 && call.To == 0 && order.Forget == 0 {
		text += fmt.Sprint(" looks back ", -call.From) // such calls keep no rows, and stand in a step of their own
	}
	for _, o := range over.Order {
		text += sql.PrintExpr(o.By) + fmt.Sprint(o.Desc)
	}
	i := slices.IndexFunc(v.specs, func(s *overSpec) bool { return s.text == text })
	if i < 0 {
		v.specs = append(v.specs, &overSpec{text: text, order: order})
		i = len(v.specs) - 1
	}
	s := v.specs[i]
	s.order.Calls = append(s.order.Calls, call)
	s.names = append(s.names, strings.ToLower(call.Name))
	return eval.Column(overColumns*(i+1)+len(s.order.Calls)-1, call.Type)
}

// input describes what the calls see: the rows of the query, or its groups.
func (v *overs) input(b *binder) *Op {
	if g := b.group; g != nil {
		return &Op{Time: -1, opens: len(g.keys), closes: len(g.keys) + 1}
	}
	return v.of
}

func (v *overs) call(b *binder, e *sql.Call, over *sql.Over, order *Ordering) (c OverCall, ok bool) {
	c.Name = e.Name.Text
	bad := func(hint, format string, args ...any) (OverCall, bool) {
		b.fail(sql.WrongPlace, e, hint, format, args...)
		return c, false
	}
	upper := strings.ToUpper(c.Name)
	bigint := types.Of(types.BigInt)
	needForget := func() bool {
		if order.Forget == 0 && !order.Ranked {
			b.fail(sql.Unbounded, e, "write FORGET AFTER 1 HOUR at the end of OVER (…)", "%s would keep every key for ever", upper)
			return false
		}
		return true
	}
	switch c.Name {
	case "row_number", "rank", "dense_rank":
		if len(e.Args) > 0 || over.Frame != nil {
			return bad("", "%s takes no argument and no frame", upper)
		}
		c.Type = bigint
		return c, needForget()
	case "lag", "lead":
		args, good := b.exprs(e.Args)
		if !good {
			return c, false
		}
		if len(args) < 1 || len(args) > 3 || over.Frame != nil {
			return bad("write "+upper+"(x), "+upper+"(x, 2) or "+upper+"(x, 2, 0)", "%s takes a value, a number of rows and a value for none", upper)
		}
		if order.Ranked {
			return bad("order by the event time", "%s is not defined over the rows of one window: use ROW_NUMBER or RANK", upper)
		}
		c.Arg, c.Offset, c.Type = eval.Fold(args[0]), 1, args[0].Type
		if len(args) > 1 {
			n := eval.Fold(args[1])
			if n.Op != eval.OpConst || !n.Type.IsWhole() || n.Value.I < 0 || n.Value.I > 10_000 {
				return bad("", "the number of rows must be a number from 0 to 10000 that is written out")
			}
			c.Offset = n.Value.I
		}
		if len(args) > 2 {
			if !eval.CanCast(args[2].Type, c.Type) && args[2].Type.Kind != types.Null {
				return bad("", "%s cannot stand for %s", args[2].Type, c.Type)
			}
			c.Default = eval.Fold(eval.Cast(args[2], c.Type))
		}
		return c, needForget()
	}
	if !eval.IsAggregate(c.Name) {
		return bad("", "%s takes no OVER", upper)
	}
	if order.Ranked {
		return bad("group by the window's ends to aggregate its rows", "over the rows of one window stand ROW_NUMBER, RANK and DENSE_RANK, not %s", upper)
	}
	a := b.aggregateOf(e, b)
	if a == nil {
		return c, false
	}
	c.Agg, c.Type = a, a.Type
	c.Open = true
	f := over.Frame
	if f == nil {
		return c, needForget()
	}
	c.ByRows = f.Unit == "ROWS"
	by := func(x sql.FrameBound) (n int64, good bool) {
		if x.Kind == "CURRENT ROW" {
			return 0, true
		}
		k := b.bound(x.By)
		if k == nil {
			return 0, false
		}
		want := types.Interval
		if c.ByRows {
			want = types.BigInt
		}
		if k.Op != eval.OpConst || c.ByRows && !k.Type.IsWhole() || !c.ByRows && k.Type.Kind != want || k.Value.I < 0 || c.ByRows && k.Value.I > 100_000 {
			hint := "write ROWS 10 PRECEDING"
			if !c.ByRows {
				hint = "write RANGE INTERVAL '10' MINUTE PRECEDING"
			}
			b.fail(sql.WrongType, x.By, hint, "this is no bound of a %s frame", f.Unit)
			return 0, false
		}
		if x.Kind == "PRECEDING" {
			return -k.Value.I, true
		}
		return k.Value.I, true
	}
	begins, ends := f.From, sql.FrameBound{Kind: "CURRENT ROW"}
	if f.Between {
		ends = f.To
	}
	if ends.Kind == "UNBOUNDED FOLLOWING" {
		b.fail(sql.Unbounded, e, "end the frame at CURRENT ROW, or so far FOLLOWING", "the rows that follow have no end")
		return c, false
	}
	wrongWay := begins.Kind == "UNBOUNDED FOLLOWING" || ends.Kind == "UNBOUNDED PRECEDING"
	if c.Open = begins.Kind == "UNBOUNDED PRECEDING"; !wrongWay {
		var good bool
		if !c.Open {
			if c.From, good = by(begins); !good {
				return c, false
			}
		}
		if c.To, good = by(ends); !good {
			return c, false
		}
	}
	if wrongWay || !c.Open && c.From > c.To {
		b.fail(sql.WrongPlace, e, "write the bound that comes first in time first", "a frame begins before it ends")
		return c, false
	}
	if c.ByRows || c.Open {
		return c, needForget()
	}
	return c, true
}

// operators adds the operators and puts the columns of the calls into the expressions of the query.
func (v *overs) operators(in *Op, step string, exprs []*eval.Expr) *Op {
	o := in
	if o.Changes {
		v.b.errs.Add(sql.Misfit, v.at, "let the step before report ON CLOSE without LATENESS", "OVER takes rows that stay; those of %s are replaced and withdrawn", o.Step)
		return nil
	}
	for _, s := range v.specs {
		s.first = len(o.Fields)
		next := &Op{Kind: Over, Step: step, Input: o, Order: &s.order, Time: o.Time, opens: o.opens, closes: o.closes, Keys: o.Keys, Times: o.Times}
		next.Fields = slices.Clone(o.Fields)
		for i, c := range s.order.Calls {
			next.Fields = append(next.Fields, types.Field{Name: s.names[i], Type: c.Type})
		}
		next.Detail = strings.ToUpper(strings.Join(s.names, ", "))
		if len(s.order.Names) > 0 {
			next.Detail += " by " + strings.Join(s.order.Names, ", ")
		}
		if s.order.Ranked {
			next.Detail += ", ranked within the window"
		}
		o = v.b.add(next)
	}
	var place func(e *eval.Expr) *eval.Expr
	place = func(e *eval.Expr) *eval.Expr {
		if e == nil {
			return nil
		}
		c := *e
		if e.Op == eval.OpColumn && e.Index >= overColumns {
			c.Index = v.specs[e.Index/overColumns-1].first + e.Index%overColumns
			return &c
		}
		c.Args = make([]*eval.Expr, len(e.Args))
		for i, a := range e.Args {
			c.Args[i] = place(a)
		}
		if e.Args == nil {
			c.Args = nil
		}
		return &c
	}
	for i, e := range exprs {
		exprs[i] = place(e)
	}
	return o
}
