package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// builder makes the operators of one query or job.
type builder struct {
	cat   *Catalog
	errs  *sql.Errors
	plan  *Plan
	named map[string]*Op // steps by name, built once
	views map[string]*Op // views by name, built once for the whole plan
	scans map[string]*Op // by stream and bound
	until Bound          // of the whole query
	open  []string       // views being built, to find circles
}

func newBuilder(c *Catalog, errs *sql.Errors) *builder {
	return &builder{cat: c, errs: errs, plan: &Plan{}, named: map[string]*Op{}, views: map[string]*Op{}, scans: map[string]*Op{}}
}

func (b *builder) notYet(at sql.Span, what string) {
	b.errs.Add(sql.NotYet, at, "", "%s: this version of Fiume does not run it yet", what)
}

func (b *builder) add(o *Op) *Op {
	if o.Input != nil && o.Fields == nil {
		o.Fields, o.Time = o.Input.Fields, o.Input.Time
	}
	o.Limit = max(o.Limit, -1)
	b.plan.Ops = append(b.plan.Ops, o)
	return o
}

// steps builds WITH steps in order; each sees those before it.
func (b *builder) steps(steps []sql.Step) {
	for _, s := range steps {
		if k := b.cat.KindOf(s.Name.Text); k != "" {
			b.errs.Add(sql.Duplicate, s.Name.Span, "choose another name", "%q is already a %s", s.Name.Text, k)
			b.named[s.Name.Text] = nil // so that what reads it is not called wrong, too
			continue
		}
		if _, ok := b.named[s.Name.Text]; ok {
			b.errs.Add(sql.Duplicate, s.Name.Span, "choose another name", "the step %q is there twice", s.Name.Text)
			continue
		}
		b.named[s.Name.Text] = b.block(s.Query, s.Name.Text) // nil where it is wrong: known, but not usable
	}
}

// input finds or builds what a query reads, and the names of its columns.
func (b *builder) input(f sql.From) (*Op, *scopeInput) {
	name := f.Name.Text
	in := &scopeInput{name: name, unknown: true}
	if f.Alias != nil {
		in.name = f.Alias.Text
	}
	if f.Since != nil && b.cat.Streams[name] == nil {
		b.errs.Add(sql.WrongPlace, f.Since.Place(), "write it behind the stream inside", "SINCE belongs to a stream")
	}
	switch {
	case f.Unnest != nil:
		b.notYet(f.Span, "UNNEST")
		return nil, in
	case f.AsOf != nil:
		b.notYet(f.AsOf.Place(), "AS OF")
		return nil, in
	case f.Query != nil:
		if f.Alias == nil {
			in.name = "the query"
		}
		o := b.block(f.Query, "")
		return o, in.of(o)
	}
	if o, ok := b.named[name]; ok {
		return o, in.of(o)
	}
	if v := b.cat.Views[name]; v != nil {
		if slices.Contains(b.open, name) {
			b.errs.Add(sql.Duplicate, f.Name.Span, "", "the view %q reads itself", name)
			return nil, in
		}
		o, ok := b.views[name]
		if !ok {
			// Its text is not at hand, so its errors are told by their messages; it was right when it was made.
			inner := &builder{cat: b.cat, errs: b.errs, plan: b.plan, named: map[string]*Op{}, views: b.views, scans: b.scans, until: b.until, open: append(b.open, name)}
			inner.steps(v.Query.With)
			o = inner.block(v.Query.Body, name)
			b.views[name] = o
		}
		return o, in.of(o)
	}
	s := b.cat.Streams[name]
	if s == nil {
		if b.cat.broken[name] {
			return nil, in
		}
		have := append(keys(b.named), append(keys(b.cat.Streams), keys(b.cat.Views)...)...)
		hint := sql.DidYouMean(name, have)
		switch k := b.cat.KindOf(name); {
		case k != "":
			hint = fmt.Sprintf("%q is a %s", name, k)
		case hint == "" && len(have) == 0:
			hint = "nothing is declared; begin with DECLARE STREAM"
		case hint == "":
			hint = "there are: " + strings.Join(have, ", ")
		}
		b.errs.Add(sql.UnknownName, f.Name.Span, hint, "no stream, view or step is called %q", name)
		return nil, in
	}
	since := b.bound(f.Since)
	key := fmt.Sprintf("%s %v", name, since)
	o := b.scans[key]
	if o == nil {
		o = b.add(&Op{Kind: Scan, Step: name, Stream: s, Since: since, Until: b.until, Fields: s.Columns, Time: s.Time,
			Detail: fmt.Sprintf("%s '%s'%s", strings.ToUpper(s.Place), s.Address, timeDetail(s))})
		b.scans[key] = o
	}
	in.unknown = false
	for _, c := range s.shown {
		in.cols = append(in.cols, scopeColumn{name: c.Name, expr: c.expr})
	}
	return o, in
}

func timeDetail(s *Stream) string {
	if s.Time < 0 {
		return ", event time on arrival"
	}
	return fmt.Sprintf(", event time %s, delay %s", s.Columns[s.Time].Name, sql.DurationText(s.Delay))
}

func (s *scopeInput) of(o *Op) *scopeInput {
	if o == nil {
		return s
	}
	s.unknown = false
	for i, f := range o.Fields {
		s.cols = append(s.cols, scopeColumn{name: f.Name, expr: eval.Column(i, f.Type)})
	}
	return s
}

// bound reads what SINCE and UNTIL say.
func (b *builder) bound(e sql.Expr) Bound {
	switch e := e.(type) {
	case nil:
		return Bound{}
	case *sql.BeginningMark:
		return Bound{Kind: Beginning}
	case *sql.NowMark:
		return Bound{Kind: Now}
	case *sql.Literal:
		switch e.Value.Kind {
		case types.Timestamp:
			return Bound{AtTime, e.Value.I}
		case types.Interval:
			if e.Value.I >= 0 {
				return Bound{Ago, e.Value.I}
			}
		case types.Varchar:
			if t, ok := types.ParseTimestamp([]byte(e.Value.S)); ok {
				return Bound{AtTime, t}
			}
		}
	}
	b.errs.Add(sql.WrongType, e.Place(), "write BEGINNING, NOW, TIMESTAMP '…' or a duration", "this is no place in time")
	return Bound{}
}

// later reports the clauses of a query that this version does not run.
func (b *builder) later(s *sql.Select) {
	for _, j := range s.Joins {
		b.notYet(j.Span, "JOIN")
	}
	if s.Distinct {
		b.notYet(s.Span, "SELECT DISTINCT")
	}
	if s.Unique != nil {
		b.notYet(s.Unique.Span, "UNIQUE BY")
	}
	if s.Forget != nil {
		b.notYet(s.GroupBy[0].Place(), "FORGET AFTER")
	}
	if s.Union != nil {
		b.notYet(s.Union.Span, "UNION ALL")
	}
	for _, w := range s.Windows {
		what := ""
		switch {
		case w.Over != nil:
			what = "a window of rows"
		case w.Kind != sql.Tumbling:
			what = strings.ToUpper(w.Kind)
		case w.Zone != nil:
			what = "AT TIME ZONE in a window"
		case w.Lateness != nil:
			what = "LATENESS"
		case w.Report != sql.ReportOnClose:
			what = "REPORT"
		case w.EmptyFor != nil:
			what = "EMPTY FOR"
		}
		if what != "" {
			b.notYet(w.Span, what)
		}
	}
}

// joined binds the names in a query with joins, which does not run yet, so that what is wrong in it is
// said all the same.
func (b *builder) joined(s *sql.Select, sc *scope) {
	bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "ON"}
	for _, j := range s.Joins {
		from := j.With
		from.AsOf = nil
		_, in := b.input(from)
		if sc.input(in.name) != nil {
			b.errs.Add(sql.Duplicate, j.With.Span, "give one of them an alias", "two inputs are called %q", in.name)
		}
		sc.inputs = append(sc.inputs, in)
		if j.On != nil {
			bind.condition(j.On)
		}
	}
	if s.Where != nil {
		bind.where = "WHERE"
		bind.condition(s.Where)
	}
	if len(s.GroupBy) == 0 {
		bind.where = "SELECT"
		for _, it := range s.Items {
			if it.Expr != nil {
				bind.expr(it.Expr)
			}
		}
	}
}

// block builds one SELECT. step names its result; "" where it has no name of its own.
func (b *builder) block(s *sql.Select, step string) *Op {
	before := len(b.errs.List)
	in, first := b.input(s.From)
	sc := &scope{inputs: []*scopeInput{first}}
	b.later(s)
	if len(s.Joins) > 0 {
		b.joined(s, sc)
		return nil
	}
	if in == nil {
		in = &Op{Kind: Scan, Time: -1} // to go on looking for errors
	}
	name := step
	if name == "" {
		name = in.Step
	}
	o := in
	if s.Where != nil {
		bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "WHERE"}
		if cond := bind.condition(s.Where); cond != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: eval.Fold(cond), Detail: "where " + sql.PrintExpr(s.Where)})
		}
	}
	bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "SELECT"}
	timeAt := in.Time
	if s.GroupBy != nil || s.Having != nil || len(s.Windows) > 0 || b.aggregates(s) {
		g := b.grouping(s, sc, in)
		if g == nil {
			return nil
		}
		g.input, g.step = o, name
		bind.group = g
	}
	var having *eval.Expr
	if s.Having != nil {
		h := *bind
		h.where = "HAVING"
		having = eval.Fold(h.condition(s.Having))
	}
	exprs, fields := b.items(s, bind, sc)
	if len(b.errs.List) > before || first.unknown {
		return nil
	}
	if g := bind.group; g != nil {
		o = g.operator(b)
		timeAt = -1
		if having != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: having, Detail: "having " + sql.PrintExpr(s.Having)})
		}
	}
	p := &Op{Kind: Project, Step: name, Input: o, Exprs: exprs, Fields: fields, Time: -1, Detail: b.itemsDetail(fields)}
	for i, e := range exprs {
		if timeAt >= 0 && e.Op == eval.OpColumn && e.Index == timeAt {
			p.Time = i
		}
	}
	return b.add(p)
}

// aggregates says whether a result column has an aggregate.
func (b *builder) aggregates(s *sql.Select) bool {
	found := false
	for _, it := range s.Items {
		sql.WalkExpr(it.Expr, func(e sql.Expr) {
			c, ok := e.(*sql.Call)
			found = found || ok && c.Over == nil && eval.IsAggregate(c.Name.Text)
		})
	}
	return found
}

func (b *builder) itemsDetail(fields []types.Field) string {
	var out []string
	for _, f := range fields {
		out = append(out, f.Name)
	}
	return strings.Join(out, ", ")
}

// items binds the result columns.
func (b *builder) items(s *sql.Select, bind *binder, sc *scope) (exprs []*eval.Expr, fields []types.Field) {
	seen := map[string]bool{}
	put := func(name string, e *eval.Expr, at sql.Span) {
		if e == nil {
			return
		}
		if seen[name] {
			b.errs.Add(sql.Duplicate, at, "name one of them with AS", "two result columns are called %q", name)
			return
		}
		seen[name] = true
		t := e.Type
		if t.Kind == types.Null {
			t = types.Of(types.Varchar)
			e = eval.Cast(e, t)
		}
		exprs, fields = append(exprs, e), append(fields, types.Field{Name: name, Type: t})
	}
	for i, it := range s.Items {
		if it.Star {
			if bind.group != nil {
				b.errs.Add(sql.NotGrouped, it.Span, "name the columns", "* cannot stand in a query with GROUP BY")
				continue
			}
			ins := sc.inputs
			if it.Of != nil {
				in := sc.input(it.Of.Text)
				if in == nil {
					b.errs.Add(sql.UnknownName, it.Of.Span, sql.DidYouMean(it.Of.Text, []string{sc.inputs[0].name}), "no input is called %q", it.Of.Text)
					continue
				}
				ins = []*scopeInput{in}
			}
			for _, in := range ins {
				for _, c := range in.cols {
					if !c.hidden {
						put(c.name, c.expr, it.Span)
					}
				}
			}
			continue
		}
		name := fmt.Sprintf("column%d", i+1)
		switch e := it.Expr.(type) {
		case *sql.Path:
			name = e.Parts[len(e.Parts)-1].Text
		case *sql.Field:
			name = e.Name.Text
		case *sql.Call:
			name = e.Name.Text
		}
		if it.As != nil {
			name = it.As.Text
		}
		put(name, bind.bound(it.Expr), it.Span)
	}
	return exprs, fields
}

// Query binds a live query. Rows go to the one Output operator without a sink.
func (c *Catalog) Query(q *sql.Query, errs *sql.Errors) *Plan {
	before := len(errs.List)
	b := newBuilder(c, errs)
	b.until = b.bound(q.Until)
	switch b.until.Kind {
	case Beginning, Ago:
		errs.Add(sql.WrongType, q.Until.Place(), "", "UNTIL takes NOW or a timestamp")
	}
	b.steps(q.With)
	o := b.block(q.Body, "")
	limit := int64(-1)
	if q.Limit != nil {
		l, ok := q.Limit.(*sql.Literal)
		if !ok || l.Value.Kind != types.BigInt || l.Value.I < 0 {
			errs.Add(sql.WrongType, q.Limit.Place(), "", "LIMIT takes a whole number")
		} else {
			limit = l.Value.I
		}
	}
	if o == nil || len(errs.List) > before {
		return nil
	}
	b.add(&Op{Kind: Output, Step: "result", Input: o, Limit: limit, Detail: "rows to the caller"})
	b.plan.rewrite(o)
	return b.plan
}

var jobOptions = []OptionSpec{
	{Name: "parallelism", Kind: NumberOption, Least: 1, Doc: "tasks that share the work"},
	{Name: "checkpoint every", Kind: DurationOption, Doc: "time between checkpoints"},
}

// Job binds a job.
func (c *Catalog) Job(j *sql.CreateJob, errs *sql.Errors) *Plan {
	before := len(errs.List)
	b := newBuilder(c, errs)
	b.plan.Name = j.Name.Text
	opts := CheckOptions(errs, j.Set, jobOptions, "a job")
	b.plan.Parallelism, b.plan.Checkpoint = opts.Number("parallelism", 0), opts.Duration("checkpoint every", 0)
	if o, ok := opts["checkpoint every"]; ok && b.plan.Checkpoint < 100*types.Millisecond {
		errs.Add(sql.BadOption, o.Span, "", "checkpoints can be at most ten a second")
	}
	b.steps(j.Steps)
	outputs := map[string]*Op{}
	var routed []*Op
	for _, r := range j.Routes {
		if r.Kind != sql.RouteRows {
			b.notYet(r.Span, "ROUTE "+strings.ToUpper(r.Kind))
			continue
		}
		o, ok := b.named[r.Step.Text]
		if !ok && c.Views[r.Step.Text] != nil {
			o, _ = b.input(sql.From{Name: r.Step})
			ok = true
		}
		if !ok {
			hint := sql.DidYouMean(r.Step.Text, append(keys(b.named), keys(c.Views)...))
			if c.Streams[r.Step.Text] != nil {
				hint = "route a step that selects from the stream"
			}
			errs.Add(sql.UnknownName, r.Step.Span, hint, "no step or view is called %q", r.Step.Text)
			continue
		}
		if o == nil {
			continue // already reported
		}
		routed = append(routed, o)
		route := &Op{Kind: Route, Step: r.Step.Text, Input: o}
		bind := &binder{cat: c, errs: errs, scope: &scope{inputs: []*scopeInput{(&scopeInput{name: r.Step.Text}).of(o)}}, where: "ROUTE … WHERE"}
		var detail []string
		var sinks []*Op
		for _, br := range r.Branches {
			x := Branch{}
			if br.Where != nil {
				x.Cond = eval.Fold(bind.condition(br.Where))
			}
			var names []string
			for _, s := range br.Sinks {
				names = append(names, s.Text)
				sink := c.Sinks[s.Text]
				if sink == nil && c.broken[s.Text] {
					continue
				}
				if sink == nil {
					hint := sql.DidYouMean(s.Text, keys(c.Sinks))
					if k := c.KindOf(s.Text); k != "" {
						hint = fmt.Sprintf("%q is a %s", s.Text, k)
					}
					errs.Add(sql.UnknownName, s.Span, hint, "no sink is called %q", s.Text)
					continue
				}
				out := outputs[s.Text]
				if out == nil {
					out = &Op{Kind: Output, Step: s.Text, Sink: sink, Fields: o.Fields, Time: o.Time, Limit: -1,
						Detail: fmt.Sprintf("%s '%s'", strings.ToUpper(sink.Place), sink.Address)}
					outputs[s.Text] = out
					sinks = append(sinks, out)
				} else if !sameFields(out.Fields, o.Fields) {
					errs.Add(sql.Misfit, s.Span, "use a second sink, or make the columns of both steps equal", "the sink %q gets rows of two forms", s.Text)
				}
				x.Sinks = append(x.Sinks, out)
			}
			d := "to " + strings.Join(names, ", ")
			if br.Where != nil {
				d = "where " + sql.PrintExpr(br.Where) + " " + d
			}
			detail = append(detail, d)
			route.Branches = append(route.Branches, x)
		}
		route.Detail = strings.Join(detail, ", else ")
		b.add(route)
		b.plan.Ops = append(b.plan.Ops, sinks...)
	}
	if len(errs.List) > before {
		return nil
	}
	b.plan.rewrite(routed...)
	return b.plan
}

func sameFields(a, b []types.Field) bool {
	return slices.EqualFunc(a, b, func(x, y types.Field) bool { return x.Name == y.Name && x.Type.Equal(y.Type) })
}

// grouping is the GROUP BY of one query.
type grouping struct {
	binder *binder // of the input, quiet errors aside
	window sql.Window
	keys   []*eval.Expr
	names  []string // of the keys, for people
	aggs   []*eval.Aggregate
	input  *Op
	step   string
}

func (b *builder) grouping(s *sql.Select, sc *scope, in *Op) *grouping {
	g := &grouping{binder: &binder{cat: b.cat, errs: b.errs, scope: sc, where: "GROUP BY"}}
	if s.GroupBy == nil {
		b.errs.Add(sql.Unbounded, s.Items[0].Span, "add GROUP BY and a window: GROUP BY …, w WINDOW w AS (TUMBLING 1 MINUTE)",
			"an aggregate over a stream without a window would never give a result")
		return nil
	}
	if len(s.Windows) > 1 {
		b.errs.Add(sql.WrongPlace, s.Windows[1].Span, "", "a query groups by one window")
		return nil
	}
	found, ok := false, true
	for _, e := range s.GroupBy {
		if p, isPath := e.(*sql.Path); isPath && len(p.Parts) == 1 && len(s.Windows) == 1 && p.Parts[0].Text == s.Windows[0].Name.Text {
			found = true
			continue
		}
		k := g.binder.bound(e)
		if k == nil {
			ok = false
			continue
		}
		switch k.Type.Kind {
		case types.Row, types.Map, types.JSON:
			hint := "group by its fields"
			if k.Type.Kind != types.Row {
				hint = "group by a part of it, cast to a type"
			}
			g.binder.fail(sql.WrongType, e, hint, "a %s cannot be a key", k.Type.Kind)
			ok = false
			continue
		}
		g.keys, g.names = append(g.keys, k), append(g.names, sql.PrintExpr(e))
	}
	if !ok {
		return nil
	}
	if !found {
		hint := "name a window in it: GROUP BY …, w WINDOW w AS (TUMBLING 1 MINUTE)"
		if len(s.Windows) == 1 {
			hint = "add " + s.Windows[0].Name.Text + " to GROUP BY"
		}
		b.errs.Add(sql.Unbounded, s.GroupBy[0].Place(), hint, "a GROUP BY without a window would keep every key for ever")
		return nil
	}
	g.window = s.Windows[0]
	if on := g.window.On; on != nil {
		x := g.binder.expr(on)
		if x == nil {
			return nil
		}
		if in.Time < 0 || x.Op != eval.OpColumn || x.Index != in.Time {
			b.errs.Add(sql.WrongType, on.Place(), "declare it with EVENT TIME, or leave ON out", "this is not the event time of %s", sc.inputs[0].name)
			return nil
		}
	}
	if g.window.Kind != sql.Tumbling { // reported already
		return nil
	}
	return g
}

// operator adds the aggregation, once all aggregates are known.
func (g *grouping) operator(b *builder) *Op {
	length, offset := g.window.Length.Micros, int64(0)
	if g.window.Offset != nil {
		offset = g.window.Offset.Micros % length
	}
	o := &Op{Kind: Window, Step: g.step, Input: g.input, Time: -1, Tumbling: &Tumbling{Length: length, Offset: offset, Keys: g.keys, Names: g.names, Aggregates: g.aggs}}
	for i, k := range g.keys {
		o.Fields = append(o.Fields, types.Field{Name: g.names[i], Type: k.Type})
	}
	ts := types.Of(types.Timestamp)
	o.Fields = append(o.Fields, types.Field{Name: "opens", Type: ts}, types.Field{Name: "closes", Type: ts})
	for _, a := range g.aggs {
		o.Fields = append(o.Fields, types.Field{Name: a.Name, Type: a.Type})
	}
	o.Detail = "tumbling " + sql.DurationText(length)
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
		if eval.IsAggregate(e.Name.Text) && e.Over == nil {
			return b.aggregate(e), true
		}
	case *sql.Path:
		if len(e.Parts) == 2 && e.Parts[0].Text == g.window.Name.Text {
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
		if len(e.Parts) == 1 && e.Parts[0].Text == g.window.Name.Text {
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
	inner := &binder{cat: b.cat, errs: b.errs, scope: b.scope, where: "an aggregate"}
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
		inner.where = "FILTER"
		c.Filter = eval.Fold(inner.condition(e.Filter))
		ok = ok && c.Filter != nil
	}
	if !ok {
		return nil
	}
	a, err := eval.BindAggregate(c)
	if err != nil {
		return b.misfit(e, eval.Lookup(c.Name), c.Args, err)
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
