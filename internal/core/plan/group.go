package plan

import (
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// grouping is the GROUP BY of one query.
type grouping struct {
	binder *binder // of the input, quiet errors aside
	window sql.Window
	agg    Aggregation
	keys   []*eval.Expr
	names  []string // of the keys, for people
	aggs   []*eval.Aggregate
	input  *Op
	step   string
}

func (b *builder) grouping(s *sql.Select, defs []sql.Window, sc *scope, in *Op) *grouping {
	g := &grouping{binder: &binder{cat: b.cat, errs: b.errs, scope: sc, where: "GROUP BY"}}
	if in.Table {
		return b.tableGrouping(s, defs, g)
	}
	if s.GroupBy == nil {
		b.errs.Add(sql.Unbounded, s.Items[0].Span, "add GROUP BY and a window: GROUP BY …, w WINDOW w AS (TUMBLING 1 MINUTE)",
			"an aggregate over a stream without a window would never give a result")
		return nil
	}
	if len(defs) > 1 {
		b.errs.Add(sql.WrongPlace, defs[1].Span, "", "a query groups by one window")
		return nil
	}
	var rest []sql.Expr
	found := false
	for _, e := range s.GroupBy {
		if p, isPath := e.(*sql.Path); isPath && len(p.Parts) == 1 && len(defs) == 1 && p.Parts[0].Text == defs[0].Name.Text {
			found = true
			continue
		}
		rest = append(rest, e)
	}
	var ok bool
	if g.keys, g.names, ok = g.binder.keys(rest); !ok {
		return nil
	}
	ends := map[int]bool{} // the columns of the input's window that the query groups by
	for _, k := range g.keys {
		if k.Op == eval.OpColumn {
			ends[k.Index] = true
		}
	}
	switch {
	case found:
		if s.Forget != nil {
			b.errs.Add(sql.WrongPlace, s.GroupBy[0].Place(), "leave FORGET AFTER out", "a window forgets by itself")
			return nil
		}
	case s.Forget != nil && len(defs) == 0:
		g.agg.Frame = Frame{Kind: Running, Gap: s.Forget.Micros}
		g.agg.Lateness, g.agg.Report = s.Forget.Micros, OnChange
		return g
	case len(defs) == 0 && in.opens >= 0 && in.closes >= 0 && ends[in.opens] && ends[in.closes]:
		// The rows of one window have one event time: the group is complete when the window is closed.
		g.agg.Frame = Frame{Kind: Fixed, Length: 1, Step: 1}
		g.agg.Lateness = in.Lateness
		return g
	default:
		hint := "name a window in it: GROUP BY …, w WINDOW w AS (TUMBLING 1 MINUTE), or add FORGET AFTER 1 HOUR"
		if len(defs) == 1 {
			hint = "add " + defs[0].Name.Text + " to GROUP BY"
		}
		b.errs.Add(sql.Unbounded, s.GroupBy[0].Place(), hint, "a GROUP BY without a window would keep every key for ever")
		return nil
	}
	w := defs[0]
	g.window = w
	if on := w.On; on != nil {
		x := g.binder.expr(on)
		if x == nil {
			return nil
		}
		if x.Op != eval.OpColumn || x.Index != in.Time && !in.timed(x.Index) {
			b.errs.Add(sql.WrongType, on.Place(), "declare it with EVENT TIME, or leave ON out", "this is not the event time of %s", sc.inputs[0].name)
			return nil
		}
	}
	if g.agg.Frame, ok = b.frame(w); !ok {
		return nil
	}
	if w.Lateness != nil {
		g.agg.Lateness = w.Lateness.Micros
	}
	g.agg.Report = w.Report
	if w.Each != nil {
		g.agg.Every = w.Each.Micros
	}
	if w.EmptyFor != nil {
		g.agg.EmptyFor = w.EmptyFor.Micros
		if g.agg.Corrects() {
			b.notYet(w.Span, "EMPTY FOR together with LATENESS or an early REPORT")
		}
	}
	if g.agg.Lateness < in.Lateness {
		b.errs.Add(sql.Misfit, w.Span, "write LATENESS "+sql.DurationText(in.Lateness)+", or more", "the rows of %s are corrected for %s after their window, longer than this window would take them", in.Step, sql.DurationText(in.Lateness))
		return nil
	}
	return g
}

// tableGrouping groups the rows of a table: a result for each key, kept up to date.
func (b *builder) tableGrouping(s *sql.Select, defs []sql.Window, g *grouping) *grouping {
	if len(defs) > 0 {
		b.errs.Add(sql.WrongPlace, defs[0].Span, "leave the window out", "the rows of a table are not in windows: they are there until they are replaced or deleted")
		return nil
	}
	if s.Forget != nil {
		b.errs.Add(sql.WrongPlace, s.Span, "leave FORGET AFTER out", "the groups of a table stay as long as they have rows")
		return nil
	}
	var ok bool
	if g.keys, g.names, ok = g.binder.keys(s.GroupBy); !ok {
		return nil
	}
	g.agg.Frame = Frame{Kind: Running, Gap: Forever}
	g.agg.Report = OnChange
	return g
}

// operator adds the aggregation, once all aggregates are known.
func (g *grouping) operator(b *builder) *Op {
	g.agg.Keys, g.agg.Names, g.agg.Aggregates = g.keys, g.names, g.aggs
	o := &Op{Kind: Window, Step: g.step, Input: g.input, Time: -1, Agg: &g.agg, opens: len(g.keys), closes: len(g.keys) + 1}
	if g.input.Changes {
		for i, a := range g.aggs {
			if a.CanTakeBack() {
				continue
			}
			if g.aggs[i] = a.Bag(); g.aggs[i] == nil {
				b.errs.Add(sql.Misfit, g.window.Span, "use COUNT, SUM, AVG, MIN or MAX, or let the step before report ON CLOSE without LATENESS",
					"%s cannot take back rows, and those of %s are replaced and withdrawn", strings.ToUpper(a.Name), g.input.Step)
				return nil
			}
		}
	}
	for i, k := range g.keys {
		o.Fields = append(o.Fields, types.Field{Name: g.names[i], Type: k.Type})
		o.Keys = append(o.Keys, i)
	}
	ts := types.Of(types.Timestamp)
	o.Fields = append(o.Fields, types.Field{Name: "opens", Type: ts}, types.Field{Name: "closes", Type: ts})
	for _, a := range g.aggs {
		o.Fields = append(o.Fields, types.Field{Name: a.Name, Type: a.Type})
	}
	o.Changes, o.Lateness = g.agg.Corrects(), g.agg.Lateness
	switch {
	case g.agg.Kind == Running:
		o.opens, o.closes, o.Lateness = -1, -1, types.MaxTime
	case g.agg.Length == 1: // by the ends of the input's window
		o.opens, o.closes = -1, -1
		for i, k := range g.keys {
			if k.Op == eval.OpColumn && k.Index == g.input.opens {
				o.opens = i
			} else if k.Op == eval.OpColumn && k.Index == g.input.closes {
				o.closes = i
			}
		}
	default:
		o.Keys = append(o.Keys, o.opens)
	}
	if o.closes >= 0 { // a result's event time is its window's end less a microsecond
		o.Times = append(o.Times, TimeColumn{Column: o.closes, Least: -1, Most: -1})
		switch f := &g.agg.Frame; {
		case o.opens < 0 || f.Length == 1 && f.Kind == Fixed || f.Zone != nil:
		case f.Kind == Fixed:
			o.Times = append(o.Times, TimeColumn{Column: o.opens, Least: f.Length - 1, Most: f.Length - 1})
		case f.Max > 0:
			o.Times = append(o.Times, TimeColumn{Column: o.opens, Least: 0, Most: f.Max})
		}
	}
	if o.Table = g.input.Table; o.Table {
		o.Lateness = 0
	}
	o.Detail = g.agg.String()
	if len(g.names) > 0 {
		o.Detail += " by " + strings.Join(g.names, ", ")
	}
	return b.add(o)
}

// grouped binds what has a meaning of its own behind GROUP BY: keys, window times and aggregates.
func (b *binder) grouped(e sql.Expr) (*eval.Expr, bool) {
	g := b.group
	switch e := e.(type) {
	case *sql.Literal:
		return nil, false
	case *sql.Call:
		if e.Over != nil {
			return nil, false
		}
		if eval.IsAggregate(e.Name.Text) {
			return b.aggregate(e), true
		}
	case *sql.Path:
		if len(e.Parts) == 2 && g.window.Name.Text != "" && e.Parts[0].Text == g.window.Name.Text {
			switch p := e.Parts[1]; p.Text {
			case "opens":
				return eval.Column(len(g.keys), types.Of(types.Timestamp)), true
			case "closes":
				return eval.Column(len(g.keys)+1, types.Of(types.Timestamp)), true
			default:
				b.errs.Add(sql.UnknownName, p.Span, sql.DidYouMean(p.Text, []string{"opens", "closes"}), "a window has opens and closes, not %q", p.Text)
				return nil, true
			}
		}
		if len(e.Parts) == 1 && g.window.Name.Text != "" && e.Parts[0].Text == g.window.Name.Text {
			b.errs.Add(sql.WrongPlace, e.Span, "write "+e.Parts[0].Text+".opens or "+e.Parts[0].Text+".closes", "a window is no value")
			return nil, true
		}
	}
	quiet := &binder{cat: b.cat, errs: &sql.Errors{}, scope: b.scope, where: b.where}
	if x := quiet.bound(e); x != nil {
		for i, k := range g.keys {
			if same(x, k) {
				return eval.Column(i, k.Type), true
			}
		}
	}
	if p, ok := e.(*sql.Path); ok {
		if x := g.binder.path(p); x != nil {
			b.fail(sql.NotGrouped, e, "add it to GROUP BY, or put it into an aggregate", "%q is neither grouped nor aggregated", p.Parts[len(p.Parts)-1].Text)
		}
		return nil, true
	}
	return nil, false
}

func (b *binder) aggregate(e *sql.Call) *eval.Expr {
	g := b.group
	a := b.aggregateOf(e, &binder{cat: b.cat, errs: b.errs, scope: b.scope, where: "an aggregate"})
	if a == nil {
		return nil
	}
	at := len(g.keys) + 2
	for i, x := range g.aggs {
		if x.Name == a.Name && x.Distinct == a.Distinct && same(x.Arg, a.Arg) && same(x.By, a.By) && same(x.Filter, a.Filter) && x.Type.Equal(a.Type) {
			return eval.Column(at+i, x.Type)
		}
	}
	g.aggs = append(g.aggs, a)
	return eval.Column(at+len(g.aggs)-1, a.Type)
}

// aggregateOf binds the call of an aggregate, its arguments by another binder.
func (b *binder) aggregateOf(e *sql.Call, inner *binder) *eval.Aggregate {
	c := eval.AggregateCall{Name: e.Name.Text, Star: e.Star, Distinct: e.Distinct}
	ok := true
	put := func(es ...sql.Expr) (out []*eval.Expr) {
		for _, x := range es {
			y := inner.bound(x)
			ok = ok && y != nil
			out = append(out, y)
		}
		return out
	}
	c.Args = put(e.Args...)
	for _, o := range e.Order {
		c.Order, c.Desc = append(c.Order, put(o.By)...), o.Desc
	}
	if e.Filter != nil {
		in := *inner
		in.where = "FILTER"
		c.Filter = in.fold(e.Filter, in.condition(e.Filter))
		ok = ok && c.Filter != nil
	}
	if !ok {
		return nil
	}
	a, err := eval.BindAggregate(c)
	if err != nil {
		b.misfit(e, eval.Lookup(c.Name), c.Args, err)
		return nil
	}
	return a
}
