package plan

import (
	"fmt"
	"math"
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
	named map[string]*Op // steps and views by name, built once
	scans map[string]*Op // by stream and bound
	until Bound          // of the whole query
	open  []string       // views being built, to find circles
}

func newBuilder(c *Catalog, errs *sql.Errors) *builder {
	return &builder{cat: c, errs: errs, plan: &Plan{}, named: map[string]*Op{}, scans: map[string]*Op{}}
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

// input finds or builds what a query reads, and the scope of its columns.
func (b *builder) input(f sql.From) (*Op, *scope) {
	name := f.Name.Text
	sc := &scope{name: name}
	if f.Alias != nil {
		sc.name = f.Alias.Text
	}
	if f.Since != nil && b.cat.Streams[name] == nil {
		b.errs.Add(sql.WrongPlace, f.Since.Place(), "write it behind the stream inside", "SINCE belongs to a stream")
	}
	if f.Query != nil {
		o := b.block(f.Query, "")
		return o, sc.of(o)
	}
	if o, ok := b.named[name]; ok {
		return o, sc.of(o)
	}
	if v := b.cat.Views[name]; v != nil {
		if slices.Contains(b.open, name) {
			b.errs.Add(sql.Duplicate, f.Name.Span, "", "the view %q reads itself", name)
			return nil, sc
		}
		b.open = append(b.open, name)
		inner := &builder{cat: b.cat, errs: b.errs, plan: b.plan, named: map[string]*Op{}, scans: b.scans, until: b.until, open: b.open}
		inner.steps(v.Query.With)
		o := inner.block(v.Query.Body, name)
		b.open = b.open[:len(b.open)-1]
		b.named[name] = o
		return o, sc.of(o)
	}
	s := b.cat.Streams[name]
	if s == nil {
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
		return nil, sc
	}
	since := b.bound(f.Since)
	key := fmt.Sprintf("%s %v", name, since)
	o := b.scans[key]
	if o == nil {
		o = b.add(&Op{Kind: Scan, Step: name, Stream: s, Since: since, Until: b.until, Fields: s.Columns, Time: s.Time,
			Detail: fmt.Sprintf("%s '%s'%s", strings.ToUpper(s.Place), s.Address, timeDetail(s))})
		b.scans[key] = o
	}
	for _, c := range s.shown {
		sc.cols = append(sc.cols, scopeColumn{c.Name, c.expr})
	}
	return o, sc
}

func timeDetail(s *Stream) string {
	if s.Time < 0 {
		return ", event time on arrival"
	}
	return fmt.Sprintf(", event time %s, delay %s", s.Columns[s.Time].Name, Duration(s.Delay))
}

// Duration writes microseconds the way SQL does, such as 1 MINUTE 30 SECONDS.
func Duration(d int64) string {
	if d == 0 {
		return "0 SECONDS"
	}
	var out []string
	for _, u := range []struct {
		n    int64
		name string
	}{{types.Day, "DAY"}, {types.Hour, "HOUR"}, {types.Minute, "MINUTE"}, {types.Second, "SECOND"}, {types.Millisecond, "MILLISECOND"}} {
		if n := d / u.n; n > 0 {
			s := fmt.Sprintf("%d %s", n, u.name)
			if n > 1 {
				s += "S"
			}
			out = append(out, s)
			d %= u.n
		}
	}
	return strings.Join(out, " ")
}

func (s *scope) of(o *Op) *scope {
	if o == nil {
		return s
	}
	for i, f := range o.Fields {
		s.cols = append(s.cols, scopeColumn{f.Name, eval.Column(i, f.Type)})
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

// block builds one SELECT. step names its result; "" where it has no name of its own.
func (b *builder) block(s *sql.Select, step string) *Op {
	before := len(b.errs.List)
	in, sc := b.input(s.From)
	if in == nil {
		return nil
	}
	name := step
	if name == "" {
		name = in.Step
	}
	o := in
	if s.Where != nil {
		bind := &binder{errs: b.errs, scope: sc, where: "WHERE"}
		if cond := bind.condition(s.Where); cond != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: cond, Detail: "where " + b.source(s.Where)})
		}
	}
	bind := &binder{errs: b.errs, scope: sc, where: "SELECT"}
	timeAt := in.Time
	if s.GroupBy != nil || s.Having != nil || len(s.Windows) > 0 || s.HasAggregate(eval.AggregateNames) {
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
		having = h.condition(s.Having)
	}
	exprs, fields := b.items(s, bind, sc)
	if len(b.errs.List) > before {
		return nil
	}
	if g := bind.group; g != nil {
		o = g.operator(b)
		timeAt = -1
		if having != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: having, Detail: "having " + b.source(s.Having)})
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

func (b *builder) source(e sql.Expr) string {
	at := e.Place()
	if at.To > len(b.errs.Text) { // a view, whose text is not at hand
		return "…"
	}
	return strings.Join(strings.Fields(b.errs.Text[at.From:at.To]), " ")
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
			for _, c := range sc.cols {
				put(c.name, c.expr, it.Span)
			}
			continue
		}
		name := fmt.Sprintf("column%d", i+1)
		switch e := it.Expr.(type) {
		case *sql.Path:
			name = e.Parts[len(e.Parts)-1].Text
		case *sql.Call:
			name = e.Name.Text
		}
		if it.As != nil {
			name = it.As.Text
		}
		put(name, bind.expr(it.Expr), it.Span)
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
	b.plan.prune(o)
	b.plan.finish()
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
		bind := &binder{errs: errs, scope: (&scope{name: r.Step.Text}).of(o), where: "ROUTE … WHERE"}
		var detail []string
		var sinks []*Op
		for _, br := range r.Branches {
			x := Branch{}
			if br.Where != nil {
				x.Cond = bind.condition(br.Where)
			}
			var names []string
			for _, s := range br.Sinks {
				names = append(names, s.Text)
				sink := c.Sinks[s.Text]
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
				d = "where " + b.source(br.Where) + " " + d
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
	b.plan.prune(routed...)
	b.plan.finish()
	return b.plan
}

func sameFields(a, b []types.Field) bool {
	return slices.EqualFunc(a, b, func(x, y types.Field) bool { return x.Name == y.Name && x.Type.Equal(y.Type) })
}

// prune drops operators that nothing routed depends on.
func (p *Plan) prune(roots ...*Op) {
	keep := map[*Op]bool{}
	for _, o := range roots {
		for ; o != nil; o = o.Input {
			keep[o] = true
		}
	}
	p.Ops = slices.DeleteFunc(p.Ops, func(o *Op) bool { return o.Kind != Route && o.Kind != Output && !keep[o] })
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
	g := &grouping{binder: &binder{errs: b.errs, scope: sc, where: "GROUP BY"}}
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
		k := g.binder.expr(e)
		if k == nil {
			ok = false
			continue
		}
		if k.Type.Kind == types.Row {
			g.binder.fail(sql.WrongType, e, "group by its fields", "a ROW cannot be a key")
			ok = false
			continue
		}
		g.keys, g.names = append(g.keys, k), append(g.names, b.source(e))
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
			b.errs.Add(sql.WrongType, on.Place(), "declare it with EVENT TIME, or leave ON out", "this is not the event time of %s", sc.name)
			return nil
		}
	}
	if g.window.Length > math.MaxInt64/8 {
		b.errs.Add(sql.WrongType, g.window.Span, "", "the window is too long")
		return nil
	}
	return g
}

// operator adds the aggregation, once all aggregates are known.
func (g *grouping) operator(b *builder) *Op {
	o := &Op{Kind: Window, Step: g.step, Input: g.input, Time: -1, Tumbling: &Tumbling{Length: g.window.Length,
		Offset: g.window.Offset % g.window.Length, Keys: g.keys, Aggregates: g.aggs}}
	for i, k := range g.keys {
		o.Fields = append(o.Fields, types.Field{Name: g.names[i], Type: k.Type})
	}
	ts := types.Of(types.Timestamp)
	o.Fields = append(o.Fields, types.Field{Name: "opens", Type: ts}, types.Field{Name: "closes", Type: ts})
	for _, a := range g.aggs {
		o.Fields = append(o.Fields, types.Field{Name: a.Name, Type: a.Type})
	}
	o.Detail = "tumbling " + Duration(g.window.Length)
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
		if slices.Contains(eval.AggregateNames, e.Name.Text) {
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
	quiet := &binder{errs: &sql.Errors{}, scope: b.scope, where: b.where}
	if x := quiet.expr(e); x != nil {
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
	if e.Distinct {
		return b.fail(sql.NotYet, e, "", "DISTINCT in an aggregate: this version of Fiume does not run it yet")
	}
	inner := &binder{errs: b.errs, scope: b.scope, where: "an aggregate"}
	var arg *eval.Expr
	if !e.Star {
		if len(e.Args) != 1 {
			return b.fail(sql.WrongType, e, "", "%s takes one argument", strings.ToUpper(e.Name.Text))
		}
		if arg = inner.expr(e.Args[0]); arg == nil {
			return nil
		}
	}
	a, err := eval.BindAggregate(e.Name.Text, arg)
	if err != nil {
		t := "*"
		if arg != nil {
			t = arg.Type.String()
		}
		return b.fail(sql.WrongType, e, "", "%s does not take %s", strings.ToUpper(e.Name.Text), t)
	}
	at := len(g.keys) + 2
	for i, x := range g.aggs {
		if x.Name == a.Name && (x.Arg == nil) == (arg == nil) && (arg == nil || same(x.Arg, arg)) {
			return eval.Column(at+i, x.Type)
		}
	}
	g.aggs = append(g.aggs, a)
	return eval.Column(at+len(g.aggs)-1, a.Type)
}
