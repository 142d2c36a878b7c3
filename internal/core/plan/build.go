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
		o.Changes, o.Keys, o.Lateness = o.Input.Changes, o.Input.Keys, o.Input.Lateness
		o.opens, o.closes = o.Input.opens, o.Input.closes
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
		b.errs.Add(sql.WrongPlace, f.Span, "write FROM stream s CROSS JOIN UNNEST(s.items) AS u(item)", "UNNEST stands behind CROSS JOIN")
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
		fields, at := s.scanned()
		o = b.add(&Op{Kind: Scan, Step: name, Stream: s, Since: since, Until: b.until, Fields: fields, Time: at, opens: -1, closes: -1,
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
	if s.Arrival() {
		return ", event time on arrival"
	}
	return fmt.Sprintf(", event time %s, delay %s", s.TimeIs, sql.DurationText(s.Delay))
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
		if j.With.Unnest == nil {
			b.notYet(j.Span, "JOIN")
		}
	}
	if s.Distinct {
		b.notYet(s.Span, "SELECT DISTINCT")
	}
	if s.Union != nil {
		b.notYet(s.Union.Span, "UNION ALL")
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
	if slices.ContainsFunc(s.Joins, func(j sql.Join) bool { return j.With.Unnest == nil }) {
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
	for _, j := range s.Joins {
		if o = b.unnest(j, sc, o, name); o == nil {
			return nil
		}
	}
	if s.Where != nil {
		bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "WHERE"}
		if cond := bind.condition(s.Where); cond != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: eval.Fold(cond), Detail: "where " + sql.PrintExpr(s.Where)})
		}
	}
	if s.Unique != nil {
		o = b.unique(s.Unique, sc, o, name)
	}
	bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "SELECT", over: &overs{b: b, windows: s.Windows, of: o}}
	timeAt := in.Time
	defs := slices.DeleteFunc(slices.Clone(s.Windows), func(w sql.Window) bool { return w.Over != nil })
	if s.GroupBy != nil || s.Having != nil || len(defs) > 0 || b.aggregates(s) {
		g := b.grouping(s, defs, sc, o)
		if g == nil {
			return nil
		}
		g.input, g.step = o, name
		bind.group = g
	}
	var having *eval.Expr
	if s.Having != nil {
		h := *bind
		h.where, h.over = "HAVING", nil
		having = eval.Fold(h.condition(s.Having))
	}
	exprs, fields := b.items(s, bind, sc)
	if len(b.errs.List) > before || first.unknown {
		return nil
	}
	if g := bind.group; g != nil {
		if o = g.operator(b); o == nil {
			return nil
		}
		timeAt = -1
		if having != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: having, Detail: "having " + sql.PrintExpr(s.Having)})
		}
	}
	if len(bind.over.specs) > 0 {
		if o = bind.over.operators(o, name, exprs); o == nil {
			return nil
		}
	}
	p := &Op{Kind: Project, Step: name, Input: o, Exprs: exprs, Fields: fields, Time: -1, Detail: b.itemsDetail(fields), opens: -1, closes: -1}
	at := map[int]int{}
	for i, e := range exprs {
		if e.Op != eval.OpColumn {
			continue
		}
		if _, ok := at[e.Index]; !ok {
			at[e.Index] = i
		}
		if timeAt >= 0 && e.Index == timeAt {
			p.Time = i
		}
	}
	column := func(of int) int {
		if i, ok := at[of]; ok && of >= 0 {
			return i
		}
		return -1
	}
	p.opens, p.closes = column(o.opens), column(o.closes)
	p.Changes, p.Lateness = o.Changes, o.Lateness
	for _, k := range o.Keys {
		i := column(k)
		if i < 0 && k == o.opens && b.fixed(o) {
			i = column(o.closes) // either end tells the window
		}
		if i < 0 {
			p.Keys = nil
			break
		}
		p.Keys = append(p.Keys, i)
	}
	return b.add(p)
}

// fixed says whether either end of the window that an operator's rows come from tells the other.
func (b *builder) fixed(o *Op) bool {
	for ; o != nil; o = o.Input {
		if o.Kind == Window {
			return o.Agg.Kind == Fixed
		}
	}
	return false
}

// unnest adds the rows of CROSS JOIN UNNEST(…).
func (b *builder) unnest(j sql.Join, sc *scope, in *Op, step string) *Op {
	if j.Kind != "CROSS" || j.On != nil {
		b.errs.Add(sql.WrongPlace, j.Span, "write CROSS JOIN UNNEST(…) AS u(x)", "UNNEST is joined by CROSS JOIN")
		return nil
	}
	bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "UNNEST"}
	x := bind.bound(j.With.Unnest)
	if x == nil {
		return nil
	}
	if x.Type.Kind != types.Array {
		b.errs.Add(sql.WrongType, j.With.Unnest.Place(), "", "UNNEST takes an ARRAY, found %s", x.Type)
		return nil
	}
	alias := "unnest"
	if j.With.Alias != nil {
		alias = j.With.Alias.Text
	}
	fields := []types.Field{{Name: alias, Type: x.Type.Fields[0].Type}}
	if fields[0].Type.Kind == types.Row {
		fields = slices.Clone(fields[0].Type.Fields)
	}
	if n := len(j.With.Columns); n > 0 {
		if n != len(fields) {
			b.errs.Add(sql.Misfit, j.With.Span, "", "an element has %d columns, %d names are given", len(fields), n)
			return nil
		}
		for i, c := range j.With.Columns {
			fields[i].Name = c.Text
		}
	}
	if sc.input(alias) != nil {
		b.errs.Add(sql.Duplicate, j.With.Span, "give one of them an alias", "two inputs are called %q", alias)
		return nil
	}
	more := &scopeInput{name: alias}
	for i, f := range fields {
		more.cols = append(more.cols, scopeColumn{name: f.Name, expr: eval.Column(len(in.Fields)+i, f.Type)})
	}
	sc.inputs = append(sc.inputs, more)
	return b.add(&Op{Kind: Explode, Step: step, Input: in, Array: x, Fields: append(slices.Clone(in.Fields), fields...), Time: in.Time,
		Detail: "unnest " + sql.PrintExpr(j.With.Unnest), opens: in.opens, closes: in.closes, Changes: in.Changes, Lateness: in.Lateness})
}

// unique adds UNIQUE BY.
func (b *builder) unique(u *sql.Unique, sc *scope, in *Op, step string) *Op {
	bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "UNIQUE BY"}
	keys, names, ok := bind.keys(u.By)
	if !ok {
		return in
	}
	if in.Changes {
		b.errs.Add(sql.Misfit, u.Span, "put UNIQUE BY before the step whose rows change", "UNIQUE BY takes rows that stay; those of %s are replaced and withdrawn", in.Step)
		return in
	}
	return b.add(&Op{Kind: Unique, Step: step, Input: in, Order: &Ordering{Keys: keys, Names: names, Within: u.Within.Micros},
		Detail: fmt.Sprintf("the first of each %s within %s", strings.Join(names, ", "), sql.DurationText(u.Within.Micros))})
}

// keys binds what rows are told apart by.
func (b *binder) keys(es []sql.Expr) (keys []*eval.Expr, names []string, ok bool) {
	ok = true
	for _, e := range es {
		k := b.bound(e)
		if k == nil {
			ok = false
			continue
		}
		switch k.Type.Kind {
		case types.Row, types.Map, types.JSON:
			hint := "use its fields"
			if k.Type.Kind != types.Row {
				hint = "use a part of it, cast to a type"
			}
			b.fail(sql.WrongType, e, hint, "a %s cannot be a key", k.Type.Kind)
			ok = false
			continue
		}
		keys, names = append(keys, k), append(names, sql.PrintExpr(e))
	}
	return keys, names, ok
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
	b.add(b.output(&Op{Kind: Output, Step: "result", Input: o, Limit: limit, Detail: "rows to the caller", Full: o.Changes}, o))
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
	var sides []sql.Route
	for _, r := range j.Routes {
		if r.Kind != sql.RouteRows {
			sides = append(sides, r)
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
				sink := b.sink(s)
				if sink == nil {
					continue
				}
				b.fits(o, sink, s)
				out := outputs[s.Text]
				if out == nil {
					out = b.output(&Op{Kind: Output, Step: s.Text, Sink: sink, Limit: -1, Detail: fmt.Sprintf("%s '%s'", strings.ToUpper(sink.Place), sink.Address),
						Full: sink.Options.Word("changes", "") == "full"}, o)
					outputs[s.Text] = out
					sinks = append(sinks, out)
				} else if !sameFields(out.Fields, b.output(&Op{Full: out.Full}, o).Fields) {
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
	for _, r := range sides {
		b.side(r, outputs)
	}
	if len(errs.List) > before {
		return nil
	}
	b.plan.rewrite(routed...)
	return b.plan
}

// output gives an output the columns of the step it gets rows from. One that writes changes in full has
// another one before them.
func (b *builder) output(out, o *Op) *Op {
	out.Fields, out.Time, out.Changes, out.Keys, out.opens, out.closes = o.Fields, o.Time, o.Changes, o.Keys, -1, -1
	if out.Full {
		out.Fields = append([]types.Field{{Name: "_change", Type: types.Of(types.Varchar)}}, o.Fields...)
		out.Time, out.Keys = -1, nil
	}
	return out
}

// sink finds a sink.
func (b *builder) sink(s sql.Name) *Sink {
	sink := b.cat.Sinks[s.Text]
	if sink == nil && !b.cat.broken[s.Text] {
		hint := sql.DidYouMean(s.Text, keys(b.cat.Sinks))
		if k := b.cat.KindOf(s.Text); k != "" {
			hint = fmt.Sprintf("%q is a %s", s.Text, k)
		}
		b.errs.Add(sql.UnknownName, s.Span, hint, "no sink is called %q", s.Text)
	}
	return sink
}

// fits checks that a sink takes the rows of a step: one whose rows change needs a sink that writes changes,
// or one that keeps the latest row of each of its keys.
func (b *builder) fits(o *Op, sink *Sink, at sql.Name) {
	full := sink.Options.Word("changes", "") == "full"
	key := sink.Options.Names("key")
	if !o.Changes {
		return
	}
	var names []string
	for _, k := range o.Keys {
		names = append(names, o.Fields[k].Name)
	}
	if o.Keys == nil {
		b.errs.Add(sql.Misfit, at.Span, "select all that the step groups by, and w.opens", "the rows of %s are replaced and withdrawn, and nothing in them tells which", o.Step)
		return
	}
	if full {
		if slices.ContainsFunc(o.Fields, func(f types.Field) bool { return f.Name == "_change" }) {
			b.errs.Add(sql.Duplicate, at.Span, "call it something else", "the column _change is written by CHANGES full")
		}
		return
	}
	if key == nil || sink.Place == "files" {
		b.errs.Add(sql.Misfit, at.Span, "declare the sink with CHANGES full, or route to a table with KEY ("+strings.Join(names, ", ")+"), or let the window report ON CLOSE without LATENESS",
			"the rows of %s are replaced and withdrawn, and the sink %q only adds rows", o.Step, sink.Name)
		return
	}
	if sink.Place == "topic" && len(key) != len(names) {
		b.errs.Add(sql.Misfit, at.Span, "write KEY ("+strings.Join(names, ", ")+")", "a topic keeps the latest row of each key, so that its KEY must be that of %s", o.Step)
		return
	}
	for _, n := range names {
		if !slices.Contains(key, n) {
			b.errs.Add(sql.Misfit, at.Span, "write KEY ("+strings.Join(names, ", ")+")", "the key of the sink %q does not tell the rows of %s apart: %s is missing in it", sink.Name, o.Step, n)
			return
		}
	}
}

// side adds ROUTE LATE or ROUTE REJECTED.
func (b *builder) side(r sql.Route, outputs map[string]*Op) {
	name := r.Step.Text
	var of []*Op
	late := r.Kind == sql.RouteLate
	for _, o := range b.plan.Ops {
		if o.Step == name && (late && o.Keyed() || !late && o.Kind != Route && o.Kind != Output) {
			of = append(of, o)
		}
	}
	known := b.cat.KindOf(name) != "" || b.named[name] != nil
	switch {
	case len(of) > 0:
	case late && known:
		b.errs.Add(sql.WrongPlace, r.Step.Span, "name the step that has the window", "no row can be late in %q: it has no window and takes no rows in event order", name)
		return
	case b.cat.Sinks[name] != nil:
		b.notYet(r.Span, "ROUTE REJECTED of a sink")
		return
	default:
		if _, broken := b.named[name]; !broken {
			b.errs.Add(sql.UnknownName, r.Step.Span, sql.DidYouMean(name, append(keys(b.named), keys(b.cat.Streams)...)), "no step of the job is called %q", name)
		}
		return
	}
	if len(r.Branches) != 1 || r.Branches[0].Where != nil {
		b.errs.Add(sql.WrongPlace, r.Span, "write ROUTE "+strings.ToUpper(r.Kind)+" "+name+" TO sink", "late and rejected rows take no condition")
		return
	}
	for _, s := range r.Branches[0].Sinks {
		sink := b.sink(s)
		if sink == nil {
			continue
		}
		out := outputs[s.Text]
		if out == nil {
			out = &Op{Kind: Output, Step: s.Text, Sink: sink, Fields: AsideFields, Time: 3, Limit: -1, opens: -1, closes: -1, Aside: r.Kind,
				Detail: fmt.Sprintf("%s '%s'", strings.ToUpper(sink.Place), sink.Address)}
			outputs[s.Text] = out
			b.plan.Ops = append(b.plan.Ops, out)
		} else if out.Aside == "" {
			b.errs.Add(sql.Misfit, s.Span, "use a sink of its own", "the sink %q gets rows of two forms", s.Text)
			continue
		}
		for _, o := range of {
			if late {
				o.Late = append(o.Late, out)
			} else {
				o.Rejected = append(o.Rejected, out)
			}
		}
	}
}

func sameFields(a, b []types.Field) bool {
	return slices.EqualFunc(a, b, func(x, y types.Field) bool { return x.Name == y.Name && x.Type.Equal(y.Type) })
}

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
		if in.Time < 0 || x.Op != eval.OpColumn || x.Index != in.Time {
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
		c.Filter = eval.Fold(in.condition(e.Filter))
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
