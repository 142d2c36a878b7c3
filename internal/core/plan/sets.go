package plan

import (
	"slices"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// block builds one SELECT and those that UNION ALL puts behind it. step names its result; "" where it has
// no name of its own.
func (b *builder) block(s *sql.Select, step string) *Op {
	if s.Union == nil {
		return b.one(s, step)
	}
	var branches []*Op
	var at []sql.Span
	for q := s; q != nil; q = q.Union {
		branches, at = append(branches, b.one(q, step)), append(at, q.Span)
	}
	if slices.Contains(branches, nil) {
		return nil
	}
	first := branches[0]
	out := &Op{Kind: Union, Step: step, Time: first.Time, opens: -1, closes: -1, Table: first.Table, Lateness: first.Lateness, Detail: "the rows of all"}
	if step == "" {
		out.Step = first.Step
	}
	n := len(first.Fields)
	for i, o := range branches[1:] {
		switch {
		case len(o.Fields) != n:
			b.errs.Add(sql.Misfit, at[i+1], "", "the first part of UNION ALL has %d columns, this one has %d", n, len(o.Fields))
			return nil
		case o.Table != first.Table:
			b.errs.Add(sql.Misfit, at[i+1], "", "UNION ALL puts streams together or tables, not a stream and a table")
			return nil
		case o.Time != first.Time:
			b.errs.Add(sql.Misfit, at[i+1], "put the event times into one place", "the event time stands at another place than in the first part of UNION ALL")
			return nil
		}
		out.Changes = out.Changes || o.Changes
		out.Lateness = max(out.Lateness, o.Lateness)
	}
	out.Changes = out.Changes || first.Changes
	for k := range n {
		var ts []types.Type
		for _, o := range branches {
			if !isNull(o, k) { // NULL is of any type
				ts = append(ts, o.Fields[k].Type)
			}
		}
		if len(ts) == 0 {
			ts = append(ts, first.Fields[k].Type)
		}
		t, ok := eval.Common(ts...)
		if !ok {
			b.errs.Add(sql.WrongType, s.Items[min(k, len(s.Items)-1)].Span, "cast them to one type", "column %d of UNION ALL has no type in common: %s and %s", k+1, ts[0], ts[len(ts)-1])
			return nil
		}
		out.Fields = append(out.Fields, types.Field{Name: first.Fields[k].Name, Type: t})
	}
	for i, o := range branches {
		branches[i] = b.alike(o, out.Fields, step)
	}
	for _, t := range first.Times { // those that all have, as wide as the widest
		all := true
		for _, o := range branches[1:] {
			x := o.timeColumn(t.Column)
			if all = all && x != nil; all {
				t.Least, t.Most, t.Nullable = min(t.Least, x.Least), max(t.Most, x.Most), t.Nullable || x.Nullable
			}
		}
		if all {
			out.Times = append(out.Times, t)
		}
	}
	out.Input, out.More = branches[0], branches[1:]
	return b.add(out)
}

// alike casts the columns of a branch where they are of another type.
func (b *builder) alike(o *Op, fields []types.Field, step string) *Op {
	if slices.EqualFunc(o.Fields, fields, func(x, y types.Field) bool { return x.Type.Equal(y.Type) }) {
		return o
	}
	p := &Op{Kind: Project, Step: step, Input: o, Detail: "of the types of UNION ALL"}
	p.inherit(o)
	p.Fields = fields
	for k, f := range o.Fields {
		e := eval.Cast(eval.Column(k, f.Type), fields[k].Type)
		if isNull(o, k) {
			e = eval.Const(fields[k].Type, types.Value{})
		}
		p.Exprs = append(p.Exprs, e)
	}
	return b.add(p)
}

// isNull says whether a column of a step is NULL as it stands in the text.
func isNull(o *Op, k int) bool {
	return o.Kind == Project && o.Exprs[k] != nil && o.Exprs[k].Op == eval.OpConst && o.Exprs[k].Value.IsNull()
}

// distinct adds SELECT DISTINCT: a group for each row, within the window that its rows are of, or of a table.
func (b *builder) distinct(s *sql.Select, o *Op) *Op {
	agg := &Aggregation{}
	w := &Op{Kind: Window, Step: o.Step, Input: o, Time: -1, Agg: agg, opens: -1, closes: -1, Detail: "distinct rows"}
	switch {
	case o.Table:
		agg.Frame, agg.Report = Frame{Kind: Running, Gap: Forever}, OnChange
	case o.opens >= 0 && o.closes >= 0:
		agg.Frame = Frame{Kind: Fixed, Length: 1, Step: 1}
		agg.Lateness = o.Lateness
	default:
		b.errs.Add(sql.Unbounded, s.Span, "write UNIQUE BY (…) WITHIN 1 HOUR, or select a window's opens and closes, too", "DISTINCT over a stream would keep every row for ever")
		return nil
	}
	out := &Op{Kind: Project, Step: o.Step, Input: w, opens: o.opens, closes: o.closes, Time: o.Time, Times: o.Times, Table: o.Table, Fields: o.Fields, Detail: b.itemsDetail(o.Fields)}
	for k, f := range o.Fields {
		agg.Keys, agg.Names = append(agg.Keys, eval.Column(k, f.Type)), append(agg.Names, f.Name)
		w.Fields, w.Keys = append(w.Fields, f), append(w.Keys, k)
		out.Exprs, out.Keys = append(out.Exprs, eval.Column(k, f.Type)), append(out.Keys, k)
	}
	ts := types.Of(types.Timestamp)
	w.Fields = append(w.Fields, types.Field{Name: "opens", Type: ts}, types.Field{Name: "closes", Type: ts})
	w.Changes, w.Lateness, w.Table = agg.Corrects(), agg.Lateness, o.Table
	out.Changes, out.Lateness = w.Changes, w.Lateness
	b.add(w)
	return b.add(out)
}

// scalar binds a query that stands for a value: the row of a table that has a key. It adds a lookup behind
// the operator at o and gives the value's column.
func (b *builder) scalar(e *sql.Subquery, sc *scope, o **Op, step string) *eval.Expr {
	q := e.Query
	t := b.cat.Tables[q.From.Read()]
	bad := func(code sql.Code, at sql.Span, hint, format string, args ...any) *eval.Expr {
		b.errs.Add(code, at, hint, format, args...)
		return nil
	}
	switch {
	case b.cat.broken[q.From.Read()]:
		return nil // what is wrong with it has been said
	case t == nil || q.From.Query != nil || b.named[q.From.Read()] != nil:
		return bad(sql.Unbounded, q.From.Span, "join the stream with a bound in time", "a query that stands for a value reads a table by its key")
	case len(q.Joins) > 0 || q.GroupBy != nil || q.Union != nil || q.Having != nil || len(q.Windows) > 0 || q.Distinct || b.aggregates(q):
		b.notYet(e.Span, "a query as a value with more than FROM a table and WHERE its key is given")
		return nil
	case len(q.Items) != 1 || q.Items[0].Star:
		return bad(sql.Misfit, q.Span, "select one column", "a query that stands for a value has one column")
	case q.Where == nil:
		return bad(sql.Unbounded, q.Span, "add WHERE and the table's key ("+t.keyNames()+")", "the query would give all rows of %s", t.Name)
	}
	before := len(b.errs.List)
	b.joining = true
	right, in := b.input(q.From)
	b.joining = false
	if right == nil {
		return nil
	}
	left := *o
	n := len(left.Fields)
	for i := range in.cols {
		in.cols[i].expr = shift(in.cols[i].expr, n)
	}
	bind := &binder{cat: b.cat, errs: b.errs, scope: &scope{inputs: []*scopeInput{in}, outer: sc}, where: "WHERE"}
	cond := bind.fold(q.Where, bind.condition(q.Where))
	bind.where = "SELECT"
	x := bind.bound(q.Items[0].Expr)
	if len(b.errs.List) > before {
		return nil
	}
	var asOf sql.Expr = &sql.NowMark{}
	if !t.Arrival() && left.Time >= 0 {
		asOf = nil
	}
	next := b.withTable(left, right, t, asOf, conjuncts(cond, nil), &Joining{Kind: Left}, step, joinText{at: e.Span, left: sc.inputs[0].name, right: in.name, on: sql.PrintExpr(q.Where)}, bind)
	if next == nil {
		return nil
	}
	*o = next
	return x
}
