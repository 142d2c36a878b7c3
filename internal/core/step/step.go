// Package step holds the operators that a dataflow is made of. Each is a Node that takes batches and
// pushes batches on; the flow package runs them and carries what leaves a stage to the next.
package step

import (
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Node takes batches. The batch belongs to the caller: a node copies what it keeps.
type Node interface {
	Push(b *column.Batch)
}

// Counts is the ledger of one operator. At its input In = Passed + Filtered + Absorbed + Late +
// Rejected + Held; at its output Out = Passed + Made + Withdrawn. Windows also count contributions, a row
// once for each window that covers it: Covered = Counted + Missed + those held and rejected.
type Counts struct {
	In       int64 `json:"in"`
	Passed   int64 `json:"passed"`
	Filtered int64 `json:"filtered"`
	Absorbed int64 `json:"absorbed"` // counted in results that have been given
	Late     int64 `json:"late"`
	Rejected int64 `json:"rejected"`
	Held     int64 `json:"held"` // counted in results to come
	Made     int64 `json:"made"` // results given
	// Of inputs: messages that could not be read any more, since they were damaged or had been removed. They are no part of In.
	Lost int64 `json:"lost,omitempty"`
	// Of windows, joins and tables:
	Withdrawn int64 `json:"withdrawn,omitempty"` // results taken back, those that were replaced too
	Failed    int64 `json:"failed,omitempty"`    // results that do not fit their type
	Partly    int64 `json:"partly,omitempty"`    // rows late for some of their windows
	Covered   int64 `json:"covered,omitempty"`   // windows that the rows are in
	Counted   int64 `json:"counted,omitempty"`   // those they counted in, once nothing can change
	Missed    int64 `json:"missed,omitempty"`    // those they were late for
	IdleLate  int64 `json:"idle_late,omitempty"` // late rows that were not late by their stamps: their split was idle
	// Of joins:
	Matched   int64 `json:"matched,omitempty"`   // pairs given
	Unmatched int64 `json:"unmatched,omitempty"` // rows given without a match
}

// Add adds other counts.
func (c *Counts) Add(d Counts) {
	c.In += d.In
	c.Passed += d.Passed
	c.Filtered += d.Filtered
	c.Absorbed += d.Absorbed
	c.Late += d.Late
	c.Rejected += d.Rejected
	c.Held += d.Held
	c.Made += d.Made
	c.Lost += d.Lost
	c.Withdrawn += d.Withdrawn
	c.Failed += d.Failed
	c.Partly += d.Partly
	c.Covered += d.Covered
	c.Counted += d.Counted
	c.Missed += d.Missed
	c.IdleLate += d.IdleLate
	c.Matched += d.Matched
	c.Unmatched += d.Unmatched
}

// Out is the number of rows given on.
func (c Counts) Out() int64 { return c.Passed + c.Made + c.Withdrawn }

// Open is the number of rows that are in none of the columns yet: those on the way inside the
// operator while it runs. It is 0 in a checkpoint and at the end.
func (c Counts) Open() int64 {
	return c.In - c.Passed - c.Filtered - c.Absorbed - c.Late - c.Rejected - c.Held
}

// Sample is a late or rejected row, kept to be looked at.
type Sample struct {
	Op        int    // the operator
	Late      bool   // else rejected
	Reason    string //
	Split     int    // -1 for a made row
	Pos       int64  // place in the split
	EventTime int64  // MinTime where unknown
	LateBy    int64  // how far the row was behind, microseconds
	Row       string // the row as JSON
	Raw       string // the message where it could not be decoded
}

// Context is what the nodes of one goroutine share.
type Context struct {
	Machine eval.Machine
	Counts  []Counts         // by operator, since the last turn
	Samples []Sample         // since the last turn, at most maxSamples of an operator and a reason
	Reasons map[Reason]int64 // of rejected rows, since the last turn
	NowMs   int64            // wall clock when the turn began
	Silent  bool             // a step only gets to where it was: rows set aside have been told of before

	// Relieve, where it is set, sends on what the stage has made so far, where that is much. Nodes call it between the
	// parts of what they make of one batch.
	Relieve func()

	Origin func(split int, pos int64) string // names the place of a row, for outputs of rows set aside

	sides    map[side]Asides
	sampled  map[Reason]int // how many Samples there are; of late rows the class is "late"
	describe func(fields []types.Field, b *column.Batch, i int) string
	sel      []uint32
	bad      []bool
}

const maxSamples = 16

// Class is the kind of reason of a sample.
func (s *Sample) Class() Reason { return classOf(s.Op, s.Late, s.Reason) }

func classOf(op int, late bool, reason string) Reason {
	if late {
		return Reason{op, "late"}
	}
	return Reason{op, ReasonClass(reason)}
}

// room says whether one more row of an operator and a kind of reason would be kept.
func (c *Context) room(k Reason) bool {
	n, ok := c.sampled[k]
	return n < maxSamples && (ok || len(c.sampled) < mostClasses)
}

func (c *Context) keep(s Sample) {
	k := s.Class()
	if !c.room(k) {
		return
	}
	if c.sampled == nil {
		c.sampled = map[Reason]int{}
	}
	c.sampled[k]++
	c.Samples = append(c.Samples, s)
}

// NewContext makes the context for a plan's operators. describe writes a row for people.
func NewContext(ops int, describe func(fields []types.Field, b *column.Batch, i int) string) *Context {
	return &Context{Counts: make([]Counts, ops), describe: describe}
}

// Describe writes a row for people.
func (c *Context) Describe(fields []types.Field, b *column.Batch, i int) string {
	return c.describe(fields, b, i)
}

// Reset begins a turn.
func (c *Context) Reset() {
	clear(c.Counts)
	c.Samples = c.Samples[:0]
	clear(c.Reasons)
	clear(c.sampled)
}

// side tells what an output of rows set aside gets.
type side struct {
	op   int
	late bool
}

// Asides are the outputs of rows set aside of an operator for late, or for rejected rows.
type Asides []*Aside

// Add gives a row to all of them.
func (s Asides) Add(row Sample, origin string) {
	for _, x := range s {
		x.add(row, origin)
	}
}

// Aside is an output for late or rejected rows. Its columns are those of plan.AsideFields.
type Aside struct {
	Op   *plan.Op // the output
	Of   *plan.Op // whose rows they are
	Next Node
	rows column.Batch
}

// AddAside registers an output of rows set aside.
func (c *Context) AddAside(s *Aside, late bool) {
	if c.sides == nil {
		c.sides = map[side]Asides{}
	}
	k := side{s.Of.ID, late}
	c.sides[k] = append(c.sides[k], s)
	s.rows = column.Batch{Split: -1, Cols: make([]*column.Vector, len(plan.AsideFields))}
	for i, f := range plan.AsideFields {
		s.rows.Cols[i] = column.New(f.Type)
	}
}

func (s *Aside) add(x Sample, origin string) {
	text := func(s string) types.Value { return types.Value{Kind: types.Varchar, S: s} }
	var null types.Value
	at, by, row, raw := null, null, null, null
	if x.EventTime > types.MinTime {
		at = types.Value{Kind: types.Timestamp, I: x.EventTime}
	}
	if x.Late {
		by = types.Value{Kind: types.Interval, I: x.LateBy}
	}
	if x.Row != "" {
		row = types.Value{Kind: types.JSON, S: x.Row}
	}
	if x.Raw != "" {
		raw = text(x.Raw)
	}
	for i, v := range []types.Value{text(x.Reason), text(s.Of.Step), text(origin), at, by, row, raw} {
		s.rows.Cols[i].Append(v)
	}
	s.rows.Time = append(s.rows.Time, max(x.EventTime, 0))
	s.rows.N++
}

// Flush gives the outputs of rows set aside what they got since the last time.
func (c *Context) Flush() {
	for _, ss := range c.sides {
		for _, s := range ss {
			if s.rows.N == 0 {
				continue
			}
			s.Next.Push(&s.rows)
			for _, v := range s.rows.Cols {
				v.Truncate(0)
			}
			s.rows.N, s.rows.Time = 0, s.rows.Time[:0]
		}
	}
}

// Wants says whether a late or rejected row of an operator would be kept or sent on. Of a late one the reason does not count.
func (c *Context) Wants(o *plan.Op, late bool, reason string) bool {
	return !c.Silent && (c.sides[side{o.ID, late}] != nil || c.room(classOf(o.ID, late, reason)))
}

// Note keeps a late or rejected row and gives it to the outputs of rows set aside.
func (c *Context) Note(o *plan.Op, s Sample) {
	if c.Silent {
		return
	}
	if ss := c.sides[side{o.ID, s.Late}]; ss != nil {
		origin := "made by " + o.Step
		if s.Split >= 0 && c.Origin != nil {
			origin = c.Origin(s.Split, s.Pos)
		}
		ss.Add(s, origin)
	}
	c.keep(s)
}

// sampleOnly keeps a row that is late for some of its windows: it counts in the others, so that it is not
// sent to the outputs of rows set aside.
func (c *Context) sampleOnly(o *plan.Op, reason string, b *column.Batch, i int, lateBy int64) {
	if !c.Silent && c.room(classOf(o.ID, true, "")) {
		s := Sample{Op: o.ID, Late: true, Reason: reason, Split: b.Split, EventTime: b.Time[i], LateBy: lateBy, Row: c.describe(o.Input.Fields, b, i)}
		if b.Pos != nil {
			s.Pos = b.Pos[i]
		}
		c.keep(s)
	}
}

// sample keeps a late or rejected row.
func (c *Context) sample(o *plan.Op, late bool, reason string, b *column.Batch, i int, lateBy int64) {
	if !c.Wants(o, late, reason) {
		return
	}
	s := Sample{Op: o.ID, Late: late, Reason: reason, Split: b.Split, EventTime: b.Time[i], LateBy: lateBy, Row: c.describe(o.Input.Fields, b, i)}
	if b.Pos != nil {
		s.Pos = b.Pos[i]
	}
	c.Note(o, s)
}

// noteLate keeps a late row of a block that has come to its task.
func (c *Context) noteLate(o *plan.Op, reason string, l *state.Layout, b *state.Block, i int, lateBy int64) {
	if !c.Wants(o, true, reason) {
		return
	}
	rows := column.Batch{N: 1, Cols: make([]*column.Vector, len(o.Input.Fields))}
	for k, col := range l.Columns() {
		rows.Cols[col] = &column.Vector{}
		l.Gather(k, [][]byte{b.Row(i)}, rows.Cols[col])
	}
	c.Note(o, Sample{Op: o.ID, Late: true, Reason: reason, Split: int(b.From[i]), Pos: b.Pos[i], EventTime: b.Time[i], LateBy: lateBy, Row: c.describe(o.Input.Fields, &rows, 0)})
}

// rejects counts and samples the rows whose expressions failed, and gives a mark by row, or nil where
// none did. It empties the list of failures.
func (c *Context) rejects(o *plan.Op, b *column.Batch) []bool {
	fs := c.Machine.Failures
	if len(fs) == 0 {
		return nil
	}
	if cap(c.bad) < b.N {
		c.bad = make([]bool, b.N)
	}
	c.bad = c.bad[:b.N]
	clear(c.bad)
	for _, f := range fs {
		if c.bad[f.Row] {
			continue
		}
		c.bad[f.Row] = true
		c.Counts[o.ID].Rejected++
		c.Tally(o.ID, f.Reason)
		c.sample(o, false, f.Reason, b, f.Row, 0)
	}
	c.Machine.Failures = fs[:0]
	return c.bad
}

// Fan pushes to several nodes.
type Fan []Node

// Push implements Node.
func (f Fan) Push(b *column.Batch) {
	for _, n := range f {
		n.Push(b)
	}
}

// Filter keeps the rows where the condition is true.
type Filter struct {
	Op   *plan.Op
	C    *Context
	Next Node
	out  column.Batch
}

// Push implements Node.
func (f *Filter) Push(b *column.Batch) {
	n := &f.C.Counts[f.Op.ID]
	n.In += int64(b.N)
	sel := f.C.selects(f.Op.Cond, b, f.C.sel)
	if bad := f.C.rejects(f.Op, b); bad != nil {
		rejected := int64(0)
		kept := sel[:0]
		for _, r := range sel {
			if !bad[r] {
				kept = append(kept, r)
			}
		}
		for _, x := range bad {
			if x {
				rejected++
			}
		}
		sel = kept
		n.Filtered -= rejected
	}
	f.C.sel = sel
	n.Passed += int64(len(sel))
	n.Filtered += int64(b.N - len(sel))
	switch {
	case len(sel) == b.N:
		f.Next.Push(b)
	case len(sel) > 0:
		b.Gather(sel, &f.out)
		f.Next.Push(&f.out)
	}
}

// Project computes the columns of the next step.
type Project struct {
	Op   *plan.Op
	C    *Context
	Next Node
	out  column.Batch
	kept column.Batch
}

// Push implements Node.
func (p *Project) Push(b *column.Batch) {
	p.out.Cols = p.out.Cols[:0]
	p.C.Machine.Begin()
	for _, e := range p.Op.Exprs {
		if e == nil { // nobody reads it
			p.out.Cols = append(p.out.Cols, nil)
			continue
		}
		p.out.Cols = append(p.out.Cols, p.C.Machine.Eval(e, b))
	}
	if p.C.cut(b, p.Push) {
		return
	}
	n := &p.C.Counts[p.Op.ID]
	n.In += int64(b.N)
	p.out.N, p.out.Split, p.out.Time, p.out.Stamp, p.out.Pos, p.out.Change = b.N, b.Split, b.Time, b.Stamp, b.Pos, b.Change
	out := &p.out
	if bad := p.C.rejects(p.Op, b); bad != nil {
		sel := p.C.sel[:0]
		for i, x := range bad {
			if !x {
				sel = append(sel, uint32(i))
			}
		}
		p.C.sel = sel
		p.out.Gather(sel, &p.kept)
		out = &p.kept
	}
	n.Passed += int64(out.N)
	if out.N > 0 {
		p.Next.Push(out)
	}
}

// Route sends each row to the sinks of the first branch whose condition is true.
type Route struct {
	Op       *plan.Op
	C        *Context
	Branches []Node // one a branch of the plan
	scratch  []column.Batch
}

// Push implements Node.
func (r *Route) Push(b *column.Batch) {
	n := &r.C.Counts[r.Op.ID]
	n.In += int64(b.N)
	if len(r.scratch) < 2*len(r.Branches) {
		r.scratch = make([]column.Batch, 2*len(r.Branches))
	}
	rest := b
	for k, br := range r.Op.Branches {
		if br.Cond == nil {
			n.Passed += int64(rest.N)
			r.Branches[k].Push(rest)
			return
		}
		yes := r.C.selects(br.Cond, rest, nil)
		bad := r.C.rejects(r.Op, rest)
		var no []uint32
		if bad != nil {
			kept := yes[:0]
			for _, i := range yes {
				if !bad[i] {
					kept = append(kept, i)
				}
			}
			yes = kept
		}
		at := 0
		for i := range rest.N {
			if at < len(yes) && yes[at] == uint32(i) {
				at++
			} else if bad == nil || !bad[i] {
				no = append(no, uint32(i))
			}
		}
		n.Passed += int64(len(yes))
		switch {
		case len(yes) == rest.N:
			r.Branches[k].Push(rest)
			return
		case len(yes) > 0:
			rest.Gather(yes, &r.scratch[2*k])
			r.Branches[k].Push(&r.scratch[2*k])
		}
		if len(no) == 0 {
			return
		}
		if len(no) < rest.N {
			rest.Gather(no, &r.scratch[2*k+1])
			rest = &r.scratch[2*k+1]
		}
	}
	n.Filtered += int64(rest.N)
}

// Explode gives a row for each element of an array. Its output has the columns of the input and those of
// the element.
type Explode struct {
	Op   *plan.Op
	C    *Context
	Next Node
	out  column.Batch
	elem column.Vector
}

// Push implements Node.
func (x *Explode) Push(b *column.Batch) {
	x.C.Machine.Begin()
	v := x.C.Machine.Eval(x.Op.Array, b)
	if x.C.cut(b, x.Push) {
		return
	}
	n := &x.C.Counts[x.Op.ID]
	n.In += int64(b.N)
	bad := x.C.rejects(x.Op, b)
	var rows, elements []uint32
	for i := range b.N {
		if bad != nil && bad[i] {
			continue
		}
		n.Absorbed++
		if v.Null(i) {
			continue
		}
		for j := v.S[i].Off; j < v.S[i].Off+v.S[i].Len; j++ {
			rows, elements = append(rows, uint32(i)), append(elements, j)
			if len(rows) == explodeRows {
				if x.C.Machine.Unwanted() {
					return // nobody waits for them any more
				}
				x.give(b, v, rows, elements)
				x.C.relieve()
				rows, elements = rows[:0], elements[:0]
			}
		}
	}
	if len(rows) > 0 {
		x.give(b, v, rows, elements)
	}
}

// explodeRows is how many rows are given at once.
const explodeRows = 4096

// give gives the rows of some elements.
func (x *Explode) give(b *column.Batch, v *column.Vector, rows, elements []uint32) {
	x.C.Counts[x.Op.ID].Made += int64(len(rows))
	in := *b
	in.Change = nil
	x.out.Cols = x.out.Cols[:min(len(x.out.Cols), len(b.Cols))]
	x.out.Change = nil
	in.Gather(rows, &x.out)
	if b.Change != nil { // of a replacement several rows go and several come
		for _, r := range rows {
			c := column.Insert
			if b.Change[r].Takes() {
				c = column.Withdraw
			}
			x.out.Change = append(x.out.Change, c)
		}
	}
	v.Kids[0].Gather(elements, &x.elem)
	more := []*column.Vector{&x.elem}
	if x.elem.Type.Kind == types.Row {
		more = x.elem.Kids
	}
	out := x.out
	out.Cols = append(slices.Clone(x.out.Cols), more...)
	x.Next.Push(&out)
}
