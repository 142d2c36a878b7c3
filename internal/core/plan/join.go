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

// JoinKind says which rows a join gives.
type JoinKind uint8

const (
	Inner     JoinKind = iota // pairs
	Left                      // pairs, and rows of the left without one
	Right                     // pairs, and rows of the right without one
	Full                      // pairs, and rows of either side without one
	Exists                    // rows of the left that have a pair
	NotExists                 // rows of the left that have none
)

var joinNames = [...]string{"join", "left join", "right join", "full join", "exists", "not exists"}

func (k JoinKind) String() string { return joinNames[k] }

// Outer says whether rows of a side (0 left, 1 right) that have no pair are given.
func (k JoinKind) Outer(side int) bool {
	return k == Full || side == 0 && (k == Left || k == NotExists) || side == 1 && k == Right
}

// Which of a row's matches a join takes.
const (
	PickAll   = ""
	PickLast  = "LAST"
	PickFirst = "FIRST"
)

// Joining is a join of two inputs by key. Its output columns are those of the left and, but for Exists
// and NotExists, those of the right.
type Joining struct {
	Kind     JoinKind
	Pick     string
	Tables   bool  // both sides are tables: nothing bounds them in time, and unmatched rows are given at once
	Lo, Hi   int64 // event time of the right less that of the left, microseconds, both ends included
	Lateness int64
	Slack    [2]int64   // by side: how long after its event time a row may still come
	Time     JoinTime   // the event time of a pair
	Cond     *eval.Expr // over the columns of both sides; nil: none
	On       string     // for people
	// AsOf: a version counts from After behind its event time on, and for so long; Valid 0: until the next one.
	After, Valid int64
}

// JoinTime says what the event time of a pair is.
type JoinTime uint8

const (
	Later  JoinTime = iota // the later of the two
	OfLeft                 // that of the left row
	OfRight
)

// TimeColumn is a column that lies within a known distance of its row's event time: event time less
// column is between Least and Most.
type TimeColumn struct {
	Column      int
	Least, Most int64
	Nullable    bool
}

// Span is how long a row of a side is kept at most, microseconds of event time.
func (j *Joining) Span(side int) int64 {
	if side == 0 {
		return max(j.Hi, 0) + j.Slack[1]
	}
	if j.Pick != PickAll {
		return max(-j.Lo, 0) + max(j.Slack[0], max(j.Hi, 0)+j.Slack[1])
	}
	return max(-j.Lo, 0) + j.Slack[0]
}

// Held is how far the event time of a result may lie behind the watermark of the inputs.
func (j *Joining) Held() int64 {
	n := max(j.Slack[0], j.Slack[1])
	if j.Kind.Outer(0) || j.Kind == Exists || j.Pick != PickAll || j.Time == OfLeft {
		n = max(n, max(j.Hi, 0)+j.Slack[1])
	}
	if j.Kind.Outer(1) || j.Time == OfRight {
		n = max(n, max(-j.Lo, 0)+j.Slack[0])
	}
	return n
}

// between says for people where the rows of the right lie in event time, seen from those of the left.
func (j *Joining) between(right, left string) string {
	if j.Tables {
		return "tables, kept up to date"
	}
	edge := func(d int64) string {
		switch {
		case d < 0 && (1-d)%1000 == 0: // it was written as a comparison without the end
			return "less than " + sql.DurationText(1-d) + " before"
		case d < 0:
			return sql.DurationText(-d) + " before"
		case (d+1)%1000 == 0:
			return "less than " + sql.DurationText(d+1) + " after"
		}
		return sql.DurationText(d) + " after"
	}
	switch {
	case j.Lo == 0 && j.Hi == 0:
		return right + " at the time of " + left
	case j.Lo == j.Hi:
		return right + " " + edge(j.Lo) + " " + left
	case j.Hi == 0:
		return right + " from " + edge(j.Lo) + " up to " + left
	case j.Lo == 0:
		return right + " from " + left + " to " + edge(j.Hi) + " it"
	}
	return right + " from " + edge(j.Lo) + " to " + edge(j.Hi) + " " + left
}

// shift makes an expression over other columns: all of them lie by places further on.
func shift(e *eval.Expr, by int) *eval.Expr {
	c := *e
	if e.Op == eval.OpColumn {
		c.Index += by
		return &c
	}
	c.Args = nil
	for _, a := range e.Args {
		c.Args = append(c.Args, shift(a, by))
	}
	return &c
}

// conjuncts takes the terms of an AND apart.
func conjuncts(e *eval.Expr, out []*eval.Expr) []*eval.Expr {
	if e == nil {
		return out
	}
	if e.Op == eval.OpAnd {
		return conjuncts(e.Args[1], conjuncts(e.Args[0], out))
	}
	return append(out, e)
}

// sidesOf says which sides an expression over the columns of both reads: those before column n are the
// left's.
func sidesOf(e *eval.Expr, n int) (left, right bool) {
	e.Walk(func(x *eval.Expr) {
		if x.Op == eval.OpColumn {
			left, right = left || x.Index < n, right || x.Index >= n
		}
	})
	return left, right
}

// instants writes an expression as a sum of instants in columns, each once added or taken away, and a
// length of time.
func instants(e *eval.Expr, sign int, sum map[int]int, c *int64) bool {
	switch {
	case e.Op == eval.OpColumn && e.Type.Kind == types.Timestamp:
		sum[e.Index] += sign
		return true
	case e.Op == eval.OpConst && (e.Type.Kind == types.Timestamp || e.Type.Kind == types.Interval) && !e.Value.IsNull():
		*c += int64(sign) * e.Value.I
		return true
	case e.Op == eval.OpCall && len(e.Args) == 2 && (e.Name == "+" || e.Name == "-") && (e.Type.Kind == types.Timestamp || e.Type.Kind == types.Interval):
		second := sign
		if e.Name == "-" {
			second = -sign
		}
		return instants(e.Args[0], sign, sum, c) && instants(e.Args[1], second, sum, c)
	}
	return false
}

// apart finds what a comparison says of the distance between two event times: that of the right less that
// of the left is between lo and hi. exact says that the comparison says no more than that.
func apart(e *eval.Expr, left, right *Op) (lo, hi int64, exact, ok bool) {
	lo, hi = math.MinInt64, math.MaxInt64
	if e.Op != eval.OpCall || len(e.Args) != 2 {
		return lo, hi, false, false
	}
	sum, c := map[int]int{}, int64(0)
	if !instants(e.Args[0], 1, sum, &c) || !instants(e.Args[1], -1, sum, &c) {
		return lo, hi, false, false
	}
	var l, r *TimeColumn
	for col, n := range sum {
		switch {
		case n == 0:
		case n != 1 && n != -1:
			return lo, hi, false, false
		case col < len(left.Fields) && l == nil:
			l = left.timeColumn(col)
			if l == nil {
				return lo, hi, false, false
			}
		case col >= len(left.Fields) && r == nil:
			if r = right.timeColumn(col - len(left.Fields)); r == nil {
				return lo, hi, false, false
			}
		default:
			return lo, hi, false, false
		}
	}
	if l == nil || r == nil || sum[l.Column] == sum[r.Column+len(left.Fields)] {
		return lo, hi, false, false
	}
	// With d, the right column less the left one: d op -c, or -d op -c.
	op, k := e.Name, -c
	if sum[l.Column] == 1 {
		k = c
		op = map[string]string{"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}[op]
	}
	switch op {
	case "<":
		hi = k - 1
	case "<=":
		hi = k
	case ">":
		lo = k + 1
	case ">=":
		lo = k
	case "=":
		lo, hi = k, k
	default:
		return lo, hi, false, false
	}
	if hi < math.MaxInt64 {
		hi += r.Most - l.Least
	}
	if lo > math.MinInt64 {
		lo += r.Least - l.Most
	}
	return lo, hi, l.Least == l.Most && r.Least == r.Most && !l.Nullable && !r.Nullable, true
}

func (o *Op) timeColumn(col int) *TimeColumn {
	for i := range o.Times {
		if o.Times[i].Column == col {
			return &o.Times[i]
		}
	}
	return nil
}

// joinText is what the user wrote of a join, for messages.
type joinText struct {
	at    sql.Span
	left  string // names of the sides
	right string
	on    string
}

// join adds a join of two inputs whose rows pass, given the terms of its condition over the columns of
// both.
func (b *builder) join(left, right *Op, terms []*eval.Expr, j *Joining, step string, text joinText) *Op {
	n := len(left.Fields)
	j.Lo, j.Hi, j.On = math.MinInt64, math.MaxInt64, text.on
	j.Tables = left.Table && right.Table
	var keys [2][]*eval.Expr
	var names []string
	var rest []*eval.Expr
	only := [2][]*eval.Expr{}
	for _, t := range terms {
		l, r := sidesOf(t, n)
		switch {
		case l && r:
			lo, hi, exact, isBound := apart(t, left, right)
			if isBound {
				j.Lo, j.Hi = max(j.Lo, lo), min(j.Hi, hi)
			}
			if t.Op == eval.OpCall && t.Name == "=" && len(t.Args) == 2 {
				x, y := t.Args[0], t.Args[1]
				if xl, xr := sidesOf(x, n); xr && !xl {
					x, y = y, x
				}
				xl, xr := sidesOf(x, n)
				yl, yr := sidesOf(y, n)
				if xl && !xr && yr && !yl && !x.IsVolatile() && !y.IsVolatile() {
					keys[0], keys[1] = append(keys[0], x), append(keys[1], shift(y, -n))
					names = append(names, left.nameOf(x)+" = "+right.nameOf(shift(y, -n)))
					continue
				}
			}
			if !isBound || !exact || j.Tables {
				rest = append(rest, t)
			}
		case l && !j.Kind.Outer(0) && !t.CanFail():
			only[0] = append(only[0], t)
		case r && !j.Kind.Outer(1) && !t.CanFail():
			only[1] = append(only[1], shift(t, -n))
		default:
			rest = append(rest, t)
		}
	}
	if len(keys[0]) == 0 {
		b.errs.Add(sql.Unbounded, text.at, "add an equality, such as "+text.right+".chip = "+text.left+".chip", "a join needs an equality between a column of %s and one of %s", text.left, text.right)
		return nil
	}
	if !j.Tables && (left.Table || right.Table) {
		b.errs.Add(sql.NotYet, text.at, "put the table on the right and join by its key", "this join of a stream with a table: this version of Fiume does not run it yet")
		return nil
	}
	if !j.Tables && (j.Lo == math.MinInt64 || j.Hi == math.MaxInt64) {
		what := "a join of two streams without a bound in time would keep every row for ever"
		if j.Lo != math.MinInt64 || j.Hi != math.MaxInt64 {
			what = "the bound in time has one end only, so that rows would be kept for ever"
		}
		b.errs.Add(sql.Unbounded, text.at, "add AND "+text.right+"."+right.timeName()+" WITHIN 10 MINUTES OF "+text.left+"."+left.timeName()+
			", or AFTER or BEFORE in the place of OF", "%s", what)
		return nil
	}
	if j.Tables {
		j.Lo, j.Hi = 0, 0
	} else if j.Lo > j.Hi {
		b.errs.Add(sql.Misfit, text.at, "", "no row can match: the bounds in time contradict each other")
		return nil
	}
	if j.Pick != PickAll && (left.Changes || right.Changes) {
		b.errs.Add(sql.Misfit, text.at, "let the step before report ON CLOSE without LATENESS", "%s OF takes rows that stay", j.Pick)
		return nil
	}
	if (j.Kind == Exists || j.Kind == NotExists) && right.Changes && !j.Tables {
		b.errs.Add(sql.Misfit, text.at, "let the step before report ON CLOSE without LATENESS", "EXISTS takes rows that stay; those of %s are replaced and withdrawn", text.right)
		return nil
	}
	j.Slack = [2]int64{max(j.Lateness, left.Lateness), max(j.Lateness, right.Lateness)}
	if left.Lateness == types.MaxTime || right.Lateness == types.MaxTime {
		b.errs.Add(sql.Unbounded, text.at, "join the rows before they are grouped", "the rows of a GROUP BY without a window can change for ever")
		return nil
	}
	ends := [2]*Op{left, right}
	for i, cs := range only {
		if len(cs) == 0 {
			continue
		}
		cond := all(cs)
		ends[i] = b.add(&Op{Kind: Filter, Step: step, Input: ends[i], Cond: cond, Detail: "of the join's ON", Pushed: true})
	}
	if len(rest) > 0 {
		j.Cond = all(rest)
	}
	o := &Op{Kind: Join, Step: step, Join: j, Time: -1, opens: -1, closes: -1}
	for i, in := range ends {
		side := &Op{Kind: Side, Step: step, Input: in, Side: i, Into: o, Alias: [2]string{text.left, text.right}[i], Order: &Ordering{Keys: keys[i]}}
		for _, k := range keys[i] {
			side.Order.Names = append(side.Order.Names, in.nameOf(k))
		}
		side.Detail = side.Alias + " by " + strings.Join(side.Order.Names, ", ")
		ends[i] = b.add(side)
	}
	o.Input, o.Right = ends[0], ends[1]
	o.Fields = joinedFields(left, right, text.right, j.Kind)
	o.Changes = left.Changes || right.Changes
	o.Table = j.Tables
	if o.Changes {
		o.Keys = joinedKeys(left, right, keys, j.Kind)
	}
	if left.opens >= 0 && j.Lo == 0 && j.Hi == 0 && j.Kind != Right && j.Kind != Full && !j.Tables {
		o.opens, o.closes = left.opens, left.closes
	}
	o.joinTimes()
	o.Detail = fmt.Sprintf("%s%s on %s", j.Kind, map[string]string{PickLast: ", the last", PickFirst: ", the first"}[j.Pick], strings.Join(names, ", "))
	if !j.Tables {
		o.Detail += ", " + j.between(text.right, text.left)
	}
	b.add(o)
	if j.Tables && o.Keys != nil && !settled(o, keys) {
		return b.settle(o)
	}
	return o
}

// settled says whether all results of a join that have one key come from one task: the key of a result tells
// what its rows were joined by.
func settled(o *Op, on [2][]*eval.Expr) bool {
	tells := func(side int, e *eval.Expr) bool {
		return e.Op == eval.OpColumn && slices.Contains(o.Keys, e.Index+side*len(o.Input.Input.Fields))
	}
	k := o.Join.Kind
	for i := range on[0] {
		left, right := tells(0, on[0][i]), tells(1, on[1][i])
		if k == Inner && !left && !right || k != Inner && k != Right && !left || (k == Right || k == Full) && !right {
			return false
		}
	}
	return true
}

// settle puts the changes of each key into one order.
func (b *builder) settle(o *Op) *Op {
	s := &Op{Kind: Settle, Step: o.Step, Detail: "changes in one order for each key"}
	s.inherit(o)
	side := &Op{Kind: Side, Step: o.Step, Input: o, Into: s, Alias: o.Step, Order: &Ordering{}}
	for _, k := range o.Keys {
		side.Order.Keys = append(side.Order.Keys, eval.Column(k, o.Fields[k].Type))
		side.Order.Names = append(side.Order.Names, o.Fields[k].Name)
	}
	side.Detail = "by " + strings.Join(side.Order.Names, ", ")
	s.Input = b.add(side)
	return b.add(s)
}

// joinedFields are the columns of both sides; a name of the right that the left has, too, is written with
// its input.
func joinedFields(left, right *Op, alias string, kind JoinKind) []types.Field {
	out := slices.Clone(left.Fields)
	if kind == Exists || kind == NotExists {
		return out
	}
	for _, f := range right.Fields {
		if slices.ContainsFunc(left.Fields, func(l types.Field) bool { return l.Name == f.Name }) {
			f.Name = alias + "." + f.Name
		}
		f.NotNull = f.NotNull && kind == Inner
		out = append(out, f)
	}
	return out
}

// joinedKeys finds what tells the pairs apart: the key of one side where every row of it has at most one
// match, else those of both.
func joinedKeys(left, right *Op, on [2][]*eval.Expr, kind JoinKind) []int {
	single := func(side int, o *Op) bool { // the key of o is among what it is joined by
		for _, k := range o.Keys {
			if !slices.ContainsFunc(on[side], func(e *eval.Expr) bool { return e.Op == eval.OpColumn && e.Index == k }) {
				return false
			}
		}
		return o.Keys != nil
	}
	if left.Keys == nil || right.Keys == nil && kind != Exists && kind != NotExists {
		return nil
	}
	var moved []int
	for _, k := range right.Keys {
		moved = append(moved, k+len(left.Fields))
	}
	switch {
	case kind == Exists || kind == NotExists, single(1, right) && kind != Right && kind != Full:
		return left.Keys
	case single(0, left) && kind != Left && kind != Full:
		return moved
	}
	return append(slices.Clone(left.Keys), moved...)
}

// joinTimes finds the columns of a join's output that lie near its event time.
func (o *Op) joinTimes() {
	j := o.Join
	o.Times, o.Time = nil, -1
	if j.Tables {
		return
	}
	left, right := o.Input, o.Right
	// How far the event time of a pair may lie behind those of its two rows.
	behind := [2][2]int64{{max(j.Lo, 0), max(j.Hi, 0)}, {max(-j.Hi, 0), max(-j.Lo, 0)}}
	switch j.Time {
	case OfLeft:
		behind = [2][2]int64{{0, 0}, {-j.Hi, -j.Lo}}
	case OfRight:
		behind = [2][2]int64{{j.Lo, j.Hi}, {0, 0}}
	}
	if j.Kind == Exists || j.Kind == NotExists {
		behind[0] = [2]int64{0, 0}
	} else if j.Kind.Outer(0) || j.Kind.Outer(1) { // a row without a pair keeps its own time
		for i := range behind {
			behind[i][0], behind[i][1] = min(behind[i][0], 0), max(behind[i][1], 0)
		}
	}
	add := func(in *Op, side, by int) {
		for _, t := range in.Times {
			t.Column += by
			t.Least, t.Most = t.Least+behind[side][0], t.Most+behind[side][1]
			t.Nullable = t.Nullable || j.Kind.Outer(1-side)
			o.Times = append(o.Times, t)
			if t.Least == 0 && t.Most == 0 && !t.Nullable && o.Time < 0 {
				o.Time = t.Column
			}
		}
	}
	add(left, 0, 0)
	if j.Kind != Exists && j.Kind != NotExists {
		add(right, 1, len(left.Fields))
	}
}

// timed makes the event time of a join's results that of one of its sides, as a window ON that column
// asks. It says whether the column is one.
func (o *Op) timed(column int) bool {
	j := o
	for j.Kind == Filter {
		j = j.Input
	}
	if j.Kind != Join || j.Join.Tables {
		return false
	}
	n := len(j.Input.Fields)
	switch {
	case column < n && j.Input.Time == column && !j.Join.Kind.Outer(1):
		j.Join.Time = OfLeft
	case column >= n && j.Right.Time == column-n && !j.Join.Kind.Outer(0):
		j.Join.Time = OfRight
	default:
		return false
	}
	j.joinTimes()
	for x := o; x != j; x = x.Input {
		x.Time, x.Times = j.Time, j.Times
	}
	return true
}

// nameOf writes a bound expression for people.
func (o *Op) nameOf(e *eval.Expr) string {
	for e.Op == eval.OpCast {
		e = e.Args[0]
	}
	if e.Op == eval.OpColumn && e.Index < len(o.Fields) {
		return o.Fields[e.Index].Name
	}
	return "an expression"
}

func (o *Op) timeName() string {
	if o.Time >= 0 {
		return o.Fields[o.Time].Name
	}
	for _, t := range o.Times {
		return o.Fields[t.Column].Name
	}
	return "its_event_time"
}

// joined adds the inputs of a query's joins, one after the other.
func (b *builder) joined(s *sql.Select, sc *scope, o *Op, step string) *Op {
	for _, j := range s.Joins {
		before := len(b.errs.List)
		if j.With.Unnest != nil {
			if o = b.unnest(j, sc, o, step); o == nil {
				return nil
			}
			continue
		}
		var table *Table
		if t := b.cat.Tables[j.With.Read()]; t != nil && !t.stands() && j.With.Query == nil && b.named[j.With.Read()] == nil {
			table = t
		}
		from := j.With
		asOf := from.AsOf
		from.AsOf = nil
		b.joining = true
		right, in := b.input(from)
		b.joining = false
		if sc.input(in.name) != nil {
			b.errs.Add(sql.Duplicate, j.With.Span, "give one of them an alias", "two inputs are called %q", in.name)
		}
		left := sc.inputs[len(sc.inputs)-1].name
		if len(sc.inputs) > 1 {
			left = sc.inputs[0].name
		}
		for i := range in.cols {
			in.cols[i].expr = shift(in.cols[i].expr, len(o.Fields))
		}
		sc.inputs = append(sc.inputs, in)
		if j.Kind == "CROSS" {
			b.errs.Add(sql.Unbounded, j.Span, "write JOIN … ON with an equality of keys", "CROSS JOIN of two inputs would pair every row with every other")
			return nil
		}
		bind := &binder{cat: b.cat, errs: b.errs, scope: sc, where: "ON"}
		var cond *eval.Expr
		if j.On != nil {
			cond = bind.fold(j.On, bind.condition(j.On))
		}
		if right == nil {
			continue // to go on looking for errors; nothing in it is called wrong
		}
		wrong := &Op{Kind: Scan, Time: -1, opens: -1, closes: -1, Fields: joinedFields(o, right, in.name, Inner)}
		if len(b.errs.List) > before || cond == nil {
			o = wrong
			continue
		}
		spec := &Joining{Pick: j.Pick, Kind: map[string]JoinKind{"INNER": Inner, "LEFT": Left, "RIGHT": Right, "FULL": Full}[j.Kind]}
		if j.Lateness != nil {
			spec.Lateness = j.Lateness.Micros
		}
		if j.Pick != PickAll && spec.Kind != Inner && spec.Kind != Left {
			b.errs.Add(sql.WrongPlace, j.Span, "use JOIN or LEFT JOIN", "%s OF stands in JOIN and LEFT JOIN", j.Pick)
			o = wrong
			continue
		}
		text := joinText{at: j.Span, left: left, right: in.name, on: sql.PrintExpr(j.On)}
		terms := conjuncts(cond, nil)
		switch {
		case table != nil && !(o.Table && asOf == nil):
			o = b.withTable(o, right, table, asOf, terms, spec, step, text, bind)
		case asOf != nil:
			o = b.withWindows(o, right, asOf, terms, spec, step, text, bind)
		default:
			o = b.join(o, right, terms, spec, step, text)
		}
		if o == nil {
			o = wrong
		}
	}
	return o
}

// splitWhere takes EXISTS, NOT EXISTS and IN with a query out of the terms of a WHERE, and gives what is left.
func splitWhere(e sql.Expr) (rest sql.Expr, queries []sql.Expr) {
	if e, ok := e.(*sql.Binary); ok && e.Op == "AND" {
		x, qx := splitWhere(e.X)
		y, qy := splitWhere(e.Y)
		queries = append(qx, qy...)
		switch {
		case x == nil:
			return y, queries
		case y == nil:
			return x, queries
		}
		c := *e
		c.X, c.Y = x, y
		return &c, queries
	}
	switch x := e.(type) {
	case *sql.Exists:
		return nil, []sql.Expr{e}
	case *sql.In:
		if x.Query != nil {
			return nil, []sql.Expr{e}
		}
	case *sql.Unary:
		if _, ok := x.X.(*sql.Exists); ok && x.Op == "NOT" {
			return nil, []sql.Expr{e}
		}
	}
	return e, nil
}

// existing adds the join that EXISTS, NOT EXISTS or IN with a query stands for.
func (b *builder) existing(e sql.Expr, sc *scope, o *Op, step string) *Op {
	before := len(b.errs.List)
	spec := &Joining{Kind: Exists}
	var q *sql.Select
	in, isIn := e.(*sql.In)
	switch x := e.(type) {
	case *sql.Exists:
		q = x.Query
	case *sql.Unary:
		q, spec.Kind = x.X.(*sql.Exists).Query, NotExists
	case *sql.In:
		if q = x.Query; x.Not {
			spec.Kind = NotExists
		}
	}
	if len(q.Joins) > 0 || q.GroupBy != nil || q.Having != nil || q.Union != nil || q.Unique != nil || len(q.Windows) > 0 {
		b.notYet(q.Span, "a query in WHERE with more than FROM and WHERE; make it a step of its own")
		return nil
	}
	b.joining = true
	right, inner := b.input(q.From)
	b.joining = false
	if right == nil {
		return nil
	}
	n := len(o.Fields)
	for i := range inner.cols {
		inner.cols[i].expr = shift(inner.cols[i].expr, n)
	}
	bind := &binder{cat: b.cat, errs: b.errs, scope: &scope{inputs: []*scopeInput{inner}, outer: sc}, where: "WHERE"}
	var terms []*eval.Expr
	if q.Where != nil {
		terms = conjuncts(bind.fold(q.Where, bind.condition(q.Where)), nil)
	}
	if isIn {
		if len(q.Items) != 1 || q.Items[0].Star {
			b.errs.Add(sql.Misfit, q.Span, "select one column", "IN compares one value")
			return nil
		}
		x, y := (&binder{cat: b.cat, errs: b.errs, scope: sc, where: "WHERE"}).bound(in.X), bind.bound(q.Items[0].Expr)
		if x == nil || y == nil {
			return nil
		}
		eq, err := eval.Compare("=", x, y)
		if err != nil {
			b.errs.Add(sql.WrongType, in.X.Place(), "", "%s", err)
			return nil
		}
		if in.Not {
			b.errs.Add(sql.Misfit, e.Place(), "write NOT EXISTS (SELECT 1 FROM … WHERE …)", "NOT IN with a query is never true where the query gives a NULL")
			return nil
		}
		terms = append(terms, eq)
	} else {
		for _, it := range q.Items {
			if !it.Star {
				bind.bound(it.Expr)
			}
		}
	}
	if len(b.errs.List) > before {
		return nil
	}
	text := joinText{at: e.Place(), left: sc.inputs[0].name, right: inner.name, on: sql.PrintExpr(e)}
	if t := b.cat.Tables[q.From.Read()]; t != nil && q.From.Query == nil && b.named[q.From.Read()] == nil && !o.Table {
		return b.withTable(o, right, t, nil, terms, spec, step, text, bind)
	}
	return b.join(o, right, terms, spec, step, text)
}
