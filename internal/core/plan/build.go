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

// builder makes the operators of one query or job.
type builder struct {
	cat     *Catalog
	errs    *sql.Errors
	plan    *Plan
	named   map[string]*Op // steps by name, built once
	views   map[string]*Op // views by name, built once for the whole plan
	scans   map[string]*Op // by stream and bound
	until   Bound          // of the whole query
	since   Bound          // of streams in a view that say nothing
	open    []string       // views being built, to find circles
	joining bool           // what is read is joined
}

func newBuilder(c *Catalog, errs *sql.Errors) *builder {
	return &builder{cat: c, errs: errs, plan: &Plan{}, named: map[string]*Op{}, views: map[string]*Op{}, scans: map[string]*Op{}}
}

func (b *builder) notYet(at sql.Span, what string) {
	b.errs.Add(sql.NotYet, at, "", "%s: this version of Fiume does not run it yet", what)
}

func (b *builder) add(o *Op) *Op {
	if o.Input != nil && o.Fields == nil {
		o.inherit(o.Input)
	}
	o.Limit = max(o.Limit, -1)
	b.plan.Ops = append(b.plan.Ops, o)
	return o
}

// inherit gives an operator that passes rows on as they are what is known of its input's.
func (o *Op) inherit(in *Op) {
	o.Fields, o.Time, o.Times, o.Table = in.Fields, in.Time, in.Times, in.Table
	o.Changes, o.Keys, o.Lateness = in.Changes, in.Keys, in.Lateness
	o.opens, o.closes = in.opens, in.closes
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
	name := f.Read()
	in := &scopeInput{name: f.Name.Text, unknown: true}
	if f.Alias != nil {
		in.name = f.Alias.Text
	}
	if _, step := b.named[name]; f.Since != nil && (step || b.cat.Streams[name] == nil && b.cat.Views[name] == nil) {
		b.errs.Add(sql.WrongPlace, f.Since.Place(), "write it behind the stream inside", "SINCE belongs to a stream or a view")
	}
	switch {
	case f.Unnest != nil:
		b.errs.Add(sql.WrongPlace, f.Span, "write FROM stream s CROSS JOIN UNNEST(s.items) AS u(item)", "UNNEST stands behind CROSS JOIN")
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
		since := b.sinceOf(f)
		key := fmt.Sprintf("%s %v", name, since)
		o, ok := b.views[key]
		if !ok {
			// Its text is not at hand, so its errors are told by their messages; it was right when it was made.
			inner := &builder{cat: b.cat, errs: b.errs, plan: b.plan, named: map[string]*Op{}, views: b.views, scans: b.scans, until: b.until, since: since, open: append(b.open, name)}
			inner.steps(v.Query.With)
			o = inner.block(v.Query.Body, name)
			b.views[key] = o
		}
		return o, in.of(o)
	}
	if t := b.cat.Tables[name]; t != nil {
		if t.Lookup && !b.joining {
			b.errs.Add(sql.WrongPlace, f.Span, "declare it without CACHE", "the rows of %q are looked up one by one: it can only be joined", name)
			return nil, in
		}
		if b.cat.masked[name] {
			b.errs.Add(sql.NotAllowed, f.Span, "ask an administrator for the role disclose", "the rows of %q are looked up where they are, and have sensitive columns: there they cannot be masked", name)
			return nil, in
		}
		o := b.keep(t)
		in.of(o)
		if t.stands() {
			in.cols = in.cols[1:] // the number by which its rows are told apart
		}
		return o, in
	}
	s := b.cat.Streams[name]
	if s == nil && f.Job != nil {
		b.errs.Add(sql.WrongPlace, f.Span, "read its sink, or what it reads; fiume query shows the rows of a step: SELECT * FROM "+name+" UNTIL NOW",
			"the rows of a job's step as they stand are for live queries of a running service, UNTIL NOW")
		return nil, in
	}
	if s == nil {
		if b.cat.broken[name] {
			return nil, in
		}
		have := slices.Concat(keys(b.named), keys(b.cat.Streams), keys(b.cat.Tables), keys(b.cat.Views))
		hint := sql.DidYouMean(name, have)
		switch k := b.cat.KindOf(name); {
		case k != "":
			hint = fmt.Sprintf("%q is a %s", name, k)
		case hint == "" && len(have) == 0:
			hint = "nothing is declared; begin with DECLARE STREAM"
		case hint == "":
			hint = "there are: " + strings.Join(have, ", ")
		}
		b.errs.Add(sql.UnknownName, f.Name.Span, hint, "no stream, table, view or step is called %q", name)
		return nil, in
	}
	since := b.sinceOf(f)
	key := fmt.Sprintf("%s %v", name, since)
	o := b.scans[key]
	if o == nil {
		fields, at := s.scanned()
		o = b.add(&Op{Kind: Scan, Step: name, Stream: s, Since: since, Until: b.until, Fields: fields, Time: at, opens: -1, closes: -1,
			Detail: fmt.Sprintf("%s'%s'%s", historyDetail(s)+strings.ToUpper(s.Place)+" ", s.Address, timeDetail(s))})
		if at >= 0 {
			o.Times = []TimeColumn{{Column: at}}
		}
		o = b.within(o)
		b.scans[key] = o
	}
	in.unknown = false
	for _, c := range s.shown {
		in.cols = append(in.cols, scopeColumn{name: c.Name, expr: c.given()})
	}
	return o, in
}

// within leaves the rows of the stretch that is looked at.
func (b *builder) within(o *Op) *Op {
	l := b.cat.look
	if l.To == 0 || o.Time < 0 {
		return o
	}
	at := func(us int64) *eval.Expr {
		return eval.Const(types.Type{Kind: types.Timestamp}, types.Value{Kind: types.Timestamp, I: us})
	}
	time := eval.Column(o.Time, o.Fields[o.Time].Type)
	from, err := eval.Compare(">=", time, at(l.From))
	to, err2 := eval.Compare("<", time, at(l.To))
	if err := errors.Join(err, err2); err != nil {
		panic(err) // instants compare
	}
	return b.add(&Op{Kind: Filter, Step: o.Step, Input: o, Cond: eval.And(from, to), Detail: "where its event time is in the stretch that is looked at"})
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

// historyDetail says in words what a stream reads first.
func historyDetail(s *Stream) string {
	if s.History == nil {
		return ""
	}
	return fmt.Sprintf("history %s '%s', then ", strings.ToUpper(s.History.Place), s.History.Address)
}

// sinceOf is where a stream is read from: as it says, or else as the view says that it is in.
func (b *builder) sinceOf(f sql.From) Bound {
	if f.Since == nil {
		return b.since
	}
	return b.bound(f.Since)
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

// one builds one SELECT.
func (b *builder) one(s *sql.Select, step string) *Op {
	before := len(b.errs.List)
	in, first := b.input(s.From)
	sc := &scope{inputs: []*scopeInput{first}}
	if in == nil {
		in = &Op{Kind: Scan, Time: -1} // to go on looking for errors
	}
	name := step
	if name == "" {
		name = in.Step
	}
	o := b.joined(s, sc, in, name)
	if o == nil {
		return nil
	}
	query := func(e *sql.Subquery) *eval.Expr { return b.scalar(e, sc, &o, name) }
	where, queries := splitWhere(s.Where)
	if where != nil {
		bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "WHERE", query: query}
		if cond := bind.condition(where); cond != nil {
			o = b.add(&Op{Kind: Filter, Step: name, Input: o, Cond: eval.Fold(cond), Detail: "where " + sql.PrintExpr(where)})
		}
	}
	for _, q := range queries {
		if o = b.existing(q, sc, o, name); o == nil {
			return nil
		}
	}
	if s.Unique != nil {
		o = b.unique(s.Unique, sc, o, name)
	}
	bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "SELECT", query: query}
	timeAt := o.Time
	defs := slices.DeleteFunc(slices.Clone(s.Windows), func(w sql.Window) bool { return w.Over != nil })
	if s.GroupBy != nil || s.Having != nil || len(defs) > 0 || b.aggregates(s) {
		g := b.grouping(s, defs, sc, o)
		if g == nil {
			return nil
		}
		g.input, g.step = o, name
		bind.group = g
	}
	bind.over = &overs{b: b, windows: s.Windows, of: o}
	if bind.group != nil || calls(s) {
		bind.query = nil // a lookup stands before the grouping
	}
	var having *eval.Expr
	if s.Having != nil {
		h := *bind
		h.where, h.over = "HAVING", nil
		having = h.fold(s.Having, h.condition(s.Having))
	}
	exprs, fields := b.items(s, bind, sc)
	if len(b.errs.List) > before || first.unknown {
		return nil
	}
	if g := bind.group; g != nil {
		if o = g.operator(b); o == nil {
			return nil
		}
		timeAt = o.Time
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
		if e.Op == eval.OpTime && p.Time < 0 && !o.Table {
			p.Time = i
			p.Times = append(p.Times, TimeColumn{Column: i})
		}
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
	for _, t := range o.Times {
		for i, e := range exprs {
			if e.Op == eval.OpColumn && e.Index == t.Column {
				t.Column = i
				p.Times = append(p.Times, t)
				break
			}
		}
	}
	p.Table = o.Table
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
	b.add(p)
	if s.Distinct {
		return b.distinct(s, p)
	}
	return p
}

// calls says whether a result column has a call with OVER.
func calls(s *sql.Select) (found bool) {
	for _, it := range s.Items {
		sql.WalkExpr(it.Expr, func(e sql.Expr) {
			c, ok := e.(*sql.Call)
			found = found || ok && c.Over != nil
		})
	}
	return found
}

// fixed says whether either end of the window that an operator's rows come from tells the other.
func (b *builder) fixed(o *Op) bool {
	for ; o != nil && o.Kind != Join; o = o.Input {
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
		Detail: "unnest " + sql.PrintExpr(j.With.Unnest), opens: in.opens, closes: in.closes, Changes: in.Changes, Lateness: in.Lateness, Times: in.Times, Table: in.Table})
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
func (c *Catalog) Query(q *sql.Query, errs *sql.Errors) *Plan { return c.query(q, Look{}, true, errs) }

// Standing binds a live query for whoever keeps its rows as they stand: where they change, Output gets the changes as they are, and not rows that tell of them.
func (c *Catalog) Standing(q *sql.Query, look Look, errs *sql.Errors) *Plan {
	return c.query(q, look, false, errs)
}

// Asked binds a query that somebody asks. UNTIL NOW of results that change wants the rows as they stand at the end, and not how they came about: then stands is set, and
// Output gets changes, of which whoever asks keeps what stands.
func (c *Catalog) Asked(q *sql.Query, errs *sql.Errors) (p *Plan, stands bool) {
	p = c.Query(q, errs)
	if _, now := q.Until.(*sql.NowMark); p != nil && now && p.Outputs()[0].Input.Changes {
		return c.Standing(q, Look{}, errs), true
	}
	return p, false
}

// Look says how a standing query is looked at.
type Look struct {
	Values   Values // of parameters that stand in it
	From, To int64  // only rows of streams whose event time is in this stretch, without its end, microseconds; To 0: all
}

// Values are what parameters that stayed in a tree stand for, by their names.
type Values map[string]Value

// Value is a value with its type.
type Value struct {
	Type  types.Type
	Value types.Value
}

func (c *Catalog) query(q *sql.Query, look Look, told bool, errs *sql.Errors) *Plan {
	before := len(errs.List)
	own := *c
	own.look = look
	b := newBuilder(&own, errs)
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
	b.add(b.output(&Op{Kind: Output, Step: "result", Input: o, Limit: limit, Detail: "rows to the caller", Full: told && o.Changes}, o))
	b.plan.rewrite(o)
	return b.plan
}

// ParseBound reads what stands behind SINCE.
func ParseBound(text string) (Bound, error) {
	script, err := sql.Parse("since", "SELECT x FROM y SINCE "+text+";", nil)
	if err != nil {
		return Bound{}, err
	}
	errs := &sql.Errors{File: "since", Text: text}
	b := newBuilder(NewCatalog(nil), errs)
	q, ok := script.Statements[0].(*sql.Query)
	if !ok || len(script.Statements) != 1 {
		return Bound{}, fmt.Errorf("%q is no place in time", text)
	}
	return b.bound(q.Body.From.Since), errs.Err()
}
