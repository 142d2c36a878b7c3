package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

var jobOptions = []OptionSpec{
	{Name: "parallelism", Kind: NumberOption, Least: 1, Doc: "tasks that share the work"},
	{Name: "checkpoint every", Kind: DurationOption, Doc: "time between checkpoints"},
	{Name: "memory megabytes", Kind: NumberOption, Least: 1, Doc: "state that the steps may hold in memory; more of it waits on disk"},
}

// Job binds a job.
func (c *Catalog) Job(j *sql.CreateJob, errs *sql.Errors) *Plan {
	before := len(errs.List)
	b := newBuilder(c, errs)
	b.plan.Name = j.Name.Text
	opts := CheckOptions(errs, j.Set, jobOptions, "a job")
	b.plan.Parallelism, b.plan.Checkpoint = opts.Number("parallelism", 0), opts.Duration("checkpoint every", 0)
	b.plan.Memory = int64(opts.Number("memory megabytes", 0)) << 20
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
				x.Cond = bind.fold(br.Where, bind.condition(br.Where))
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
	if key == nil || sink.Appends {
		b.errs.Add(sql.Misfit, at.Span, "declare the sink with CHANGES full, or route to a table with KEY ("+strings.Join(names, ", ")+"), or let the window report ON CLOSE without LATENESS",
			"the rows of %s are replaced and withdrawn, and the sink %q only adds rows", o.Step, sink.Name)
		return
	}
	if sink.WholeKey && len(key) != len(names) {
		b.errs.Add(sql.Misfit, at.Span, "write KEY ("+strings.Join(names, ", ")+")", "the sink %q keeps the latest row of each key, so that its KEY must be that of %s", sink.Name, o.Step)
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
		if o.Step == name && (late && o.Judges() && (r.Of == nil || o.Alias == r.Of.Text) || !late && o.Kind != Route && o.Kind != Output) {
			of = append(of, o)
		}
	}
	known := b.cat.KindOf(name) != "" || b.named[name] != nil
	switch {
	case len(of) > 0:
	case late && r.Of != nil && known:
		var inputs []string
		for _, o := range b.plan.Ops {
			if o.Step == name && o.Judges() && o.Alias != "" {
				inputs = append(inputs, o.Alias)
			}
		}
		b.errs.Add(sql.UnknownName, r.Of.Span, sql.DidYouMean(r.Of.Text, inputs), "no input of %s is called %q that can have late rows", name, r.Of.Text)
		return
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
