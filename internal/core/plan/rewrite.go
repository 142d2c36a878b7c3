package plan

import (
	"slices"

	"fiume/internal/core/eval"
	"fiume/internal/core/types"
)

// rewrite makes a bound plan ready to run: conditions move toward the sources, what nobody reads is
// left out, equal parts of expressions become one, and the operators are numbered and linked.
func (p *Plan) rewrite(roots ...*Op) {
	p.drop(roots)
	p.link()
	for p.pushOne() {
		p.link()
	}
	p.narrow()
	p.share()
	for _, o := range p.Scans() {
		p.noteUses(o, o)
	}
	p.noteKept()
	for _, o := range p.Scans() {
		o.Aux = o.OfTable != nil && p.lookedInto(o)
	}
	p.identify()
}

// drop leaves out operators that nothing routed depends on.
func (p *Plan) drop(roots []*Op) {
	keep := map[*Op]bool{}
	var mark func(o *Op)
	mark = func(o *Op) {
		if keep[o] {
			return
		}
		keep[o] = true
		for _, in := range o.Inputs() {
			mark(in)
		}
		if o.Of != nil && !o.OfTable.Lookup {
			mark(o.Of)
		}
	}
	for _, o := range roots {
		mark(o)
	}
	p.Ops = slices.DeleteFunc(p.Ops, func(o *Op) bool { return o.Kind != Route && o.Kind != Output && !keep[o] })
}

// link numbers the operators and links consumers.
func (p *Plan) link() {
	for i, o := range p.Ops {
		o.ID, o.Next = i, nil
	}
	for _, o := range p.Ops {
		for _, in := range o.Inputs() {
			in.Next = append(in.Next, o)
		}
	}
}

// pushOne moves the condition of one filter below the operator that feeds it, and says whether it found
// one. It moves past a projection that nothing else reads and whose columns in the condition cannot
// fail, and past a window where it looks at keys alone; two filters in a row become one. So the rows
// that a window keeps are those that somebody asked for. A condition that can fail stays: it would see
// rows, and reject them, that the operator below takes out.
func (p *Plan) pushOne() bool {
	for _, f := range p.Ops {
		if f.Kind != Filter || f.Input == nil || len(f.Input.Next) != 1 || f.Cond.CanFail() || f.Cond.IsVolatile() {
			continue
		}
		below := f.Input
		if below.Late != nil || below.Rejected != nil || f.Rejected != nil {
			continue // the rows that are late or rejected there are asked for
		}
		switch below.Kind {
		case Filter:
			if f.Step != below.Step {
				continue // each step has counts of its own
			}
			below.Cond = eval.And(below.Cond, f.Cond)
			below.Detail += " and " + f.Detail
			p.remove(f)
			return true
		case Project:
			cond, ok := substitute(f.Cond, below.Exprs)
			if !ok {
				continue
			}
			p.swap(f, below, cond)
			return true
		case Window:
			t := below.Agg
			if below.Input.Changes || t.EmptyFor > 0 {
				continue
			}
			inside := append([]*eval.Expr{}, t.Keys...)
			for range len(below.Fields) - len(t.Keys) {
				inside = append(inside, nil)
			}
			cond, ok := substitute(f.Cond, inside)
			if !ok {
				continue
			}
			p.swap(f, below, cond)
			return true
		case Lookup:
			if left, right := sidesOf(f.Cond, len(below.Input.Fields)); right || !left || below.Join.Kind == NotExists {
				continue
			}
			p.swap(f, below, f.Cond)
			return true
		case Join, AsOf:
			if p.pushSides(f, below) {
				return true
			}
		}
	}
	return false
}

// pushSides moves those terms of a filter behind a join that look at one side only to that side, and says
// whether there were any. A side whose rows may be missing in a result keeps its terms behind the join.
func (p *Plan) pushSides(f, join *Op) bool {
	n := len(join.Input.Input.Fields)
	var moved [2][]*eval.Expr
	var rest []*eval.Expr
	for _, t := range conjuncts(f.Cond, nil) {
		l, r := sidesOf(t, n)
		switch k := join.Join.Kind; {
		case t.Op == eval.OpTime:
			rest = append(rest, t)
		case l && !r && k != Right && k != Full:
			moved[0] = append(moved[0], t)
		case r && !l && (k == Inner || k == Right) && join.Kind == Join:
			moved[1] = append(moved[1], shift(t, -n))
		default:
			rest = append(rest, t)
		}
	}
	if len(moved[0])+len(moved[1]) == 0 {
		return false
	}
	for i, side := range [2]*Op{join.Input, join.Right} {
		if len(moved[i]) == 0 {
			continue
		}
		x := &Op{Kind: Filter, Step: f.Step, Input: side.Input, Cond: all(moved[i]), Detail: f.Detail, Pushed: true, Limit: -1}
		x.inherit(side.Input)
		side.Input = x
		p.Ops = slices.Insert(p.Ops, slices.Index(p.Ops, side), x)
	}
	if len(rest) == 0 {
		p.remove(f)
	} else {
		f.Cond = all(rest)
	}
	return true
}

// all is the AND of some terms.
func all(terms []*eval.Expr) *eval.Expr {
	out := terms[0]
	for _, t := range terms[1:] {
		out = eval.And(out, t)
	}
	return out
}

// rewire gives an operator another input in the place of one.
func (o *Op) rewire(from, to *Op) {
	if o.Input == from {
		o.Input = to
	}
	if o.Right == from {
		o.Right = to
	}
	for i, m := range o.More {
		if m == from {
			o.More[i] = to
		}
	}
}

// largestMoved is the greatest condition that is moved past a projection: with what computes its columns in their place
// it grows, and is computed again for it.
const largestMoved = 2000

// substitute replaces columns by what computes them. ok is false where one is nil, can fail or is no
// function of the row, or the result would be large.
func substitute(e *eval.Expr, by []*eval.Expr) (out *eval.Expr, ok bool) {
	if out, ok = inPlace(e, by); ok && out.Size() > largestMoved {
		return nil, false
	}
	return out, ok
}

func inPlace(e *eval.Expr, by []*eval.Expr) (out *eval.Expr, ok bool) {
	if e.Op == eval.OpTime {
		return nil, false
	}
	if e.Op == eval.OpColumn {
		x := by[e.Index]
		return x, x != nil && !x.CanFail() && !x.IsVolatile()
	}
	c := *e
	c.Args = make([]*eval.Expr, len(e.Args))
	for i, a := range e.Args {
		if c.Args[i], ok = inPlace(a, by); !ok {
			return nil, false
		}
	}
	return &c, true
}

// swap puts a filter, with a condition over the input of below, under below.
func (p *Plan) swap(f, below *Op, cond *eval.Expr) {
	for _, n := range f.Next {
		n.rewire(f, below)
	}
	f.Input, below.Input = below.Input, f
	f.inherit(f.Input)
	f.Cond = cond
	f.Pushed = true
	i, j := slices.Index(p.Ops, f), slices.Index(p.Ops, below)
	p.Ops = slices.Delete(p.Ops, i, i+1)
	p.Ops = slices.Insert(p.Ops, j, f)
}

// remove takes an operator out of the plan.
func (p *Plan) remove(o *Op) {
	for _, n := range o.Next {
		n.rewire(o, o.Input)
	}
	p.Ops = slices.DeleteFunc(p.Ops, func(x *Op) bool { return x == o })
}

// narrow leaves out result columns of projections, and aggregates, that no operator reads.
func (p *Plan) narrow() {
	for i := len(p.Ops) - 1; i >= 0; i-- {
		o := p.Ops[i]
		if o.Kind != Project && o.Kind != Window {
			continue
		}
		u := &Use{}
		if p.readBy(u, o); u.All {
			continue
		}
		for k := range o.Fields {
			_, read := u.Needs(k)
			if read || k == o.Time {
				continue
			}
			if o.Kind == Project {
				o.Exprs[k] = nil
			} else if a := k - len(o.Agg.Keys) - 2; a >= 0 {
				o.Agg.Aggregates[a].Unused = true
			}
		}
	}
}

// readBy notes which columns of an operator its consumers read.
func (p *Plan) readBy(u *Use, o *Op) {
	if o.Late != nil || o.Rejected != nil {
		u.All = true // its rows are written whole
	}
	for _, n := range o.Next {
		if n.Late != nil || n.Rejected != nil {
			u.All = true
		}
		switch n.Kind {
		case Filter:
			u.note(n.Cond)
			p.readBy(u, n)
		case Project:
			for _, e := range n.Exprs {
				if e != nil {
					u.note(e)
				}
			}
		case Window:
			for _, e := range n.Agg.reads() {
				u.note(e)
			}
		case Side:
			for _, e := range n.Order.Keys {
				u.note(e)
			}
			u.add(p.needed(n))
		case Lookup:
			for _, e := range n.Order.Keys {
				u.note(e)
			}
			behind := p.behindJoin(n)
			for k := range n.Input.Fields {
				if x, ok := behind.Needs(k); ok {
					u.kid(k).add(x)
				}
			}
		case Union:
			p.readBy(u, n)
		case Unique, Over, Explode:
			for _, e := range n.reads() {
				u.note(e)
			}
			behind := &Use{}
			p.readBy(behind, n)
			for k := range n.Input.Fields {
				if x, ok := behind.Needs(k); ok {
					u.kid(k).add(x)
				}
			}
		default: // to a sink or to the caller
			u.All = true
		}
	}
}

// behindJoin says which columns of both sides are read by a join's condition and behind it.
func (p *Plan) behindJoin(o *Op) *Use {
	u := &Use{}
	if p.readBy(u, o); u.All { // the columns of the output are those of the left, or of both
		u = &Use{}
		for k := range o.Fields {
			u.kid(k).All = true
		}
	}
	if o.Rejected != nil {
		u.All = true
	}
	if o.Join.Cond != nil {
		u.note(o.Join.Cond)
	}
	return u
}

// needed says which columns of a side's input are read behind the operator that gets its rows.
func (p *Plan) needed(side *Op) *Use {
	out := &Use{}
	take := func(behind *Use, offset int) {
		for k := range side.Input.Fields {
			if x, ok := behind.Needs(k + offset); ok {
				out.kid(k).add(x)
			}
		}
	}
	into := side.Into
	if side.Late != nil || side.Rejected != nil {
		out.All = true
		return out
	}
	if into.Join != nil {
		offset := 0
		if side.Side == 1 {
			offset = len(into.Input.Input.Fields)
		}
		take(p.behindJoin(into), offset)
		return out
	}
	behind := &Use{}
	p.readBy(behind, into)
	take(behind, 0)
	for _, o := range p.Ops {
		if o.Kind == Lookup && o.Of == into {
			take(p.behindJoin(o), len(o.Input.Fields))
		}
	}
	return out
}

// noteKept notes which columns joins and tables keep.
func (p *Plan) noteKept() {
	for _, o := range p.Ops {
		o.Kept = nil
		switch o.Kind {
		case Side:
			u := p.needed(o)
			for k := range o.Input.Fields {
				if _, ok := u.Needs(k); ok {
					o.Kept = append(o.Kept, k)
				}
			}
		case Lookup:
			u := p.behindJoin(o)
			for k := range o.Of.Fields {
				if _, ok := u.Needs(k + len(o.Input.Fields)); ok {
					o.Kept = append(o.Kept, k)
				}
			}
		}
	}
}

// lookedInto says whether the rows of a table are only looked into by the rows of streams, and give no rows
// themselves.
func (p *Plan) lookedInto(o *Op) bool {
	for _, n := range o.Next {
		switch {
		case n.Kind == Side && n.Into.Kind == AsOf && n.Side == 1:
		case n.Kind == Side && n.Into.Kind == Keep && len(n.Into.Next) == 0:
		case (n.Kind == Project || n.Kind == Filter) && p.lookedInto(n):
		default:
			return false
		}
	}
	return true
}

// add notes all that another use reads.
func (u *Use) add(x *Use) {
	if x.All {
		u.All = true
	}
	for k, y := range x.Kids {
		u.kid(k).add(y)
	}
}

// reads gives the expressions that a step in event order, or one that unnests, evaluates.
func (o *Op) reads() []*eval.Expr {
	if o.Kind == Explode {
		return []*eval.Expr{o.Array}
	}
	out := slices.Concat(o.Order.Keys, o.Order.By)
	for _, c := range o.Order.Calls {
		for _, e := range c.Reads() {
			if e != nil {
				out = append(out, e)
			}
		}
	}
	return out
}

// reads gives the expressions that an aggregation evaluates.
func (t *Aggregation) reads() []*eval.Expr {
	out := append([]*eval.Expr{}, t.Keys...)
	for _, a := range t.Aggregates {
		for _, e := range []*eval.Expr{a.Arg, a.By, a.Filter} {
			if e != nil && !a.Unused {
				out = append(out, e)
			}
		}
	}
	return out
}

// share makes equal parts within an operator one part, computed once a batch.
func (p *Plan) share() {
	for _, o := range p.Ops {
		switch o.Kind {
		case Filter:
			es := []*eval.Expr{o.Cond}
			eval.Share(es)
			o.Cond = es[0]
		case Project:
			eval.Share(o.Exprs)
		case Window:
			t := o.Agg
			es := append([]*eval.Expr{}, t.Keys...)
			for _, a := range t.Aggregates {
				es = append(es, a.Arg, a.By, a.Filter)
			}
			eval.Share(es)
			copy(t.Keys, es)
			for i, a := range t.Aggregates {
				k := len(t.Keys) + 3*i
				a.Arg, a.By, a.Filter = es[k], es[k+1], es[k+2]
			}
		}
	}
}

// noteUses notes what the operators that see a scan's columns read. Filters and routes pass columns on.
func (p *Plan) noteUses(scan, o *Op) {
	if scan.Used == nil {
		scan.Used = &Use{}
		if scan.Stream.Time >= 0 {
			scan.Used.kid(scan.Stream.Time).All = true
		}
		if e := scan.Stream.TimeOf; e != nil {
			scan.Used.note(e)
		}
		for i, f := range scan.Stream.Columns {
			if f.NotNull { // a NULL there makes a bad row, whether or not the column is read
				k := scan.Used.kid(i)
				k.All = k.All || f.Type.Kind != types.Row
			}
		}
	}
	p.readBy(scan.Used, o)
}
