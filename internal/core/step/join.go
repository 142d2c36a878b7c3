package step

import (
	"bytes"
	"cmp"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Side sends the rows of one input of a join, or those of a table, to the tasks that hold their keys. Rows
// that come too late are set aside here.
type Side struct {
	Op     *plan.Op
	C      *Context
	Blocks []*state.Block // of this turn, by task; nil where there is nothing for it

	layout *state.Layout
	keys   rowKeys
}

// rowKeys are the encoded keys of a batch's rows.
type rowKeys struct {
	state.Keys
	cols  []*column.Vector
	nulls bool // some value is NULL
}

// of evaluates and encodes the keys of a batch.
func (k *rowKeys) of(c *Context, exprs []*eval.Expr, b *column.Batch) {
	c.Machine.Begin()
	k.cols, k.nulls = k.cols[:0], false
	for _, e := range exprs {
		v := c.Machine.Eval(e, b)
		k.cols = append(k.cols, v)
		k.nulls = k.nulls || v.Nulls != nil
	}
	k.Encode(k.cols, b.N)
}

// null says whether a value of row i's key is NULL.
func (k *rowKeys) null(i int) bool {
	return k.nulls && slices.ContainsFunc(k.cols, func(v *column.Vector) bool { return v.Null(i) })
}

// NewSide makes the sender to n tasks.
func NewSide(o *plan.Op, c *Context, n int) *Side {
	return &Side{Op: o, C: c, Blocks: make([]*state.Block, n), layout: state.NewLayout(o.Input.Fields, o.Kept)}
}

// Push implements Node.
func (s *Side) Push(b *column.Batch) {
	s.keys.of(s.C, s.Op.Order.Keys, b)
	if s.C.cut(b, s.Push) {
		return
	}
	n := &s.C.Counts[s.Op.ID]
	n.In += int64(b.N)
	bad := s.C.rejects(s.Op, b)
	lateness, judged := s.lateness()
	for i := range b.N {
		if bad != nil && bad[i] {
			continue
		}
		if judged && b.Stamp != nil && b.Time[i] < b.Stamp[i]-lateness {
			s.C.late(s.Op, "rows are joined in event time", b, i, lateness)
			continue
		}
		hash, key := s.keys.Hashes[i], s.keys.Key(i)
		if s.keys.null(i) {
			// NULL equals nothing. Where rows without a match are given, it is one of them.
			into := s.Op.Into
			switch {
			case into.Kind == plan.Settle:
			case into.Join != nil && into.Join.Kind.Outer(s.Op.Side):
				hash, key = 0, nil
			default:
				n.Filtered++
				continue
			}
		}
		t := state.TaskOf(state.RangeOf(hash), len(s.Blocks))
		if s.Blocks[t] == nil {
			s.Blocks[t] = state.NewBlock()
		}
		s.Blocks[t].Add(s.layout, b, i, hash, key)
	}
}

// Join pairs the rows of two inputs that have equal keys and event times within a bound, for the key ranges
// of one task. Pairs are given as their second row comes. What is given once no match can come any more
// (rows without one; with LAST OF and FIRST OF the match itself) waits until the watermark of the other
// input has passed the last time that could match.
type Join struct {
	Op   *plan.Op
	C    *Context
	Next Node

	j       *plan.Joining
	task    int
	tasks   int
	passed  [2]int64 // watermark by side
	sides   [2]*state.Chains
	layouts [2]*state.Layout
	waiting *waiting // of the left, where the side's rows wait
	behind  *waiting // of the right

	found []pair // candidates that have not been checked
	ready []pair // what is to be given
	out   column.Batch
	rows  [][]byte
	cond  *eval.Expr
}

// pair is a row of each side, or of one of them, on its way to be given.
type pair struct {
	left, right  state.Ref
	lcols, rcols []byte // nil for a side that is missing
	time         int64
	came         int  // the side whose row comes or goes
	take         bool // it is taken back
	alone        bool // one side is missing
}

// pairBatch is how many pairs are checked at a time.
const pairBatch = 2048

// NewJoin makes one of the tasks of a join.
func NewJoin(o *plan.Op, c *Context, next Node, task, tasks int) *Join {
	x := &Join{Op: o, C: c, Next: next, j: o.Join, task: task, tasks: tasks, passed: [2]int64{types.MinTime, types.MinTime}, cond: o.Join.Cond}
	for i, s := range x.ends() {
		width := int64(0)
		if !x.j.Tables {
			width = max(10*types.Millisecond, (x.j.Span(i)+plan.Behind(s.Input))/64)
		}
		x.sides[i] = state.NewChains(width)
		x.layouts[i] = state.NewLayout(s.Input.Fields, s.Kept)
	}
	if !x.j.Tables && (x.j.Kind.Outer(0) || x.j.Pick != plan.PickAll) {
		x.waiting = newWaiting(x.j.Span(0) + plan.Behind(o.Input.Input))
	}
	if !x.j.Tables && x.j.Kind.Outer(1) {
		x.behind = newWaiting(x.j.Span(1) + plan.Behind(o.Right.Input))
	}
	return x
}

func (x *Join) ends() [2]*plan.Op { return [2]*plan.Op{x.Op.Input, x.Op.Right} }

// Merge implements Keyed: it takes the rows of a turn of one side.
func (x *Join) Merge(d *Delivery) {
	side, b := d.Side, d.Block
	if b == nil {
		return
	}
	o := x.ends()[side]
	n := &x.C.Counts[o.ID]
	mine := x.sides[side]
	for i := range b.N() {
		t := b.Time[i]
		if x.passed[side] > types.MinTime && t < x.passed[side]-x.j.Slack[side] && !x.j.Tables {
			x.C.idleLateRow(o, x.layouts[side], b, i, x.passed[side]-x.j.Slack[side]-t)
			continue
		}
		hash, key, cols := b.Hashes[i], b.Key(i), b.Row(i)
		if b.Change != nil && b.Change[i].Takes() {
			n.Absorbed++
			if r := mine.Equal(hash, key, t, cols); r != 0 {
				x.remove(side, r, hash, key, t, cols)
				n.Held--
				n.Absorbed++
			}
			continue
		}
		n.Held++
		r := mine.Add(hash, key, t, b.Pos[i], b.From[i], cols)
		switch {
		case side == 0 && x.waiting != nil:
			x.waiting.add(t, r)
		case side == 1 && x.behind != nil:
			x.behind.add(t, r)
		}
		if x.j.Pick != plan.PickAll {
			continue
		}
		x.probe(side, r, hash, key, t, cols, false)
		if x.j.Tables {
			x.check()
			if x.j.Kind.Outer(side) && mine.Get(r).Matches == 0 {
				x.alone(side, r, false)
			}
		} else if len(x.found) >= pairBatch {
			x.check()
			x.give()
		}
	}
	x.check()
	x.give()
	if x.j.Tables {
		mine.Compact()
	}
}

// remove takes a row of a side out, and back what was given for it.
func (x *Join) remove(side int, r state.Ref, hash uint64, key []byte, t int64, cols []byte) {
	x.check() // the candidates before it speak of it
	mine := x.sides[side]
	was := mine.Get(r).Matches
	x.probe(side, r, hash, key, t, cols, true)
	x.check()
	given := x.j.Tables && x.j.Kind.Outer(side) && was == 0 || !x.j.Tables && x.j.Kind == plan.Exists && side == 0 && was > 0
	if given {
		x.alone(side, r, true)
	}
	mine.Remove(r)
}

// probe lists the candidates among the rows of the other side.
func (x *Join) probe(side int, r state.Ref, hash uint64, key []byte, t int64, cols []byte, take bool) {
	if len(key) == 0 {
		return // it has a NULL in it
	}
	other := x.sides[1-side]
	lo, hi := t+x.j.Lo, t+x.j.Hi
	if side == 1 {
		lo, hi = t-x.j.Hi, t-x.j.Lo
	}
	for o := other.Find(hash, key); o != 0; {
		row := other.Get(o)
		if row.Matches >= 0 && (x.j.Tables || row.Time >= lo && row.Time <= hi) {
			p := pair{left: r, right: o, lcols: cols, rcols: other.Columns(o), time: x.timeOf(t, row.Time), came: side, take: take}
			if side == 1 {
				p = pair{left: o, right: r, lcols: p.rcols, rcols: cols, time: x.timeOf(row.Time, t), came: side, take: take}
			}
			x.found = append(x.found, p)
		}
		if !x.j.Tables && other.Number(row.Time) < other.Number(lo) {
			break // the chain goes back in time
		}
		o = other.Next(row)
	}
}

func (x *Join) timeOf(left, right int64) int64 {
	switch {
	case x.j.Kind == plan.Exists || x.j.Kind == plan.NotExists:
		return left
	case x.j.Time == plan.OfLeft:
		return left
	case x.j.Time == plan.OfRight:
		return right
	}
	return max(left, right)
}

// fill puts the columns of pairs into the batch that goes on; those of a missing side are NULL.
func (x *Join) fill(ps []pair) {
	b := &x.out
	width := len(x.ends()[0].Input.Fields)
	if b.Cols == nil {
		b.Cols = make([]*column.Vector, width+len(x.ends()[1].Input.Fields))
		for side, l := range x.layouts {
			for _, c := range l.Columns() {
				b.Cols[side*width+c] = &column.Vector{}
			}
		}
	}
	b.N, b.Split, b.Time = len(ps), -1, b.Time[:0]
	for side, l := range x.layouts {
		x.rows = x.rows[:0]
		for _, p := range ps {
			if side == 0 {
				x.rows = append(x.rows, p.lcols)
			} else {
				x.rows = append(x.rows, p.rcols)
			}
		}
		for k, c := range l.Columns() {
			l.Gather(k, x.rows, b.Cols[side*width+c])
		}
	}
	for _, p := range ps {
		b.Time = append(b.Time, p.time)
	}
}

// passing gives those of some pairs for which the join's condition is true.
func (x *Join) passing(ps []pair) []pair {
	if x.cond == nil || len(ps) == 0 {
		return ps
	}
	x.fill(ps)
	sel := x.C.selects(x.cond, &x.out, x.C.sel)
	x.C.sel = sel
	failed := map[int]bool{}
	for _, f := range x.C.Machine.Failures {
		if failed[f.Row] {
			continue
		}
		failed[f.Row] = true
		x.C.Counts[x.Op.ID].Failed++
		x.C.Tally(x.Op.ID, f.Reason)
		if x.C.Wants(x.Op, false, f.Reason) {
			x.C.Note(x.Op, Sample{Op: x.Op.ID, Reason: f.Reason, Split: -1, EventTime: ps[f.Row].time, Row: x.C.describe(x.both(), &x.out, f.Row)})
		}
	}
	x.C.Machine.Failures = x.C.Machine.Failures[:0]
	out := ps[:0]
	for _, s := range sel {
		if !failed[int(s)] {
			out = append(out, ps[s])
		}
	}
	return out
}

// both gives the columns of both sides.
func (x *Join) both() []types.Field {
	return slices.Concat(x.ends()[0].Input.Fields, x.ends()[1].Input.Fields)
}

// check counts the candidates that are matches and lists what is to be given for them.
func (x *Join) check() {
	for _, p := range x.passing(x.found) {
		x.matched(p)
	}
	x.found = x.found[:0]
}

// matched counts a match for both of its rows and lists what is to be given for it.
func (x *Join) matched(p pair) {
	by := int32(1)
	if p.take {
		by = -1
	}
	l, r := x.sides[0].Get(p.left), x.sides[1].Get(p.right)
	was := [2]int32{l.Matches, r.Matches}
	l.Matches += by
	r.Matches += by
	k := x.j.Kind
	switch {
	case k == plan.Exists && x.j.Tables && (was[0] == 0 || l.Matches == 0):
		p.rcols, p.take = nil, l.Matches == 0
		x.ready = append(x.ready, p)
	case k == plan.NotExists && x.j.Tables && p.came == 1 && (was[0] == 0 || l.Matches == 0):
		p.rcols, p.take = nil, was[0] == 0
		x.ready = append(x.ready, p)
	case k == plan.Exists && !x.j.Tables && was[0] == 0:
		p.rcols = nil
		x.ready = append(x.ready, p)
	case k == plan.Exists || k == plan.NotExists:
	case !x.j.Tables:
		x.ready = append(x.ready, p)
	default:
		// The row of the other side was given without a match; that is taken back, or given again.
		other := 1 - p.came
		single := p
		single.alone = true
		if other == 0 {
			single.rcols = nil
		} else {
			single.lcols = nil
		}
		if k.Outer(other) && was[other] == 0 {
			single.take = true
			x.ready = append(x.ready, single)
		}
		x.ready = append(x.ready, p)
		if k.Outer(other) && was[other]+by == 0 {
			single.take = false
			x.ready = append(x.ready, single)
		}
	}
}

// alone gives a row without a match.
func (x *Join) alone(side int, r state.Ref, take bool) {
	p := pair{time: x.sides[side].Get(r).Time, take: take, alone: true}
	if side == 0 {
		p.lcols = x.sides[0].Columns(r)
	} else {
		p.rcols = x.sides[1].Columns(r)
	}
	x.ready = append(x.ready, p)
}

// give pushes on what is ready.
func (x *Join) give() {
	ps := x.ready
	if len(ps) == 0 {
		return
	}
	x.ready = x.ready[:0]
	n := &x.C.Counts[x.Op.ID]
	x.fill(ps)
	x.out.Change = nil
	if x.Op.Changes {
		for _, p := range ps {
			c := column.Insert
			if p.take {
				c = column.Withdraw
			}
			x.out.Change = append(x.out.Change, c)
		}
		replacing(&x.out, x.Op.Keys)
	}
	for _, p := range ps {
		switch {
		case p.take:
			n.Withdrawn++
		case p.alone:
			n.Made++
			n.Unmatched++
		default:
			n.Made++
			n.Matched++
		}
	}
	out := x.out
	if k := x.j.Kind; k == plan.Exists || k == plan.NotExists {
		out.Cols = out.Cols[:len(x.Op.Fields)]
	}
	x.Next.Push(&out)
}

// replacing makes a withdrawal and an insert side by side, of the same key, a replacement.
func replacing(b *column.Batch, keys []int) {
	if keys == nil {
		return
	}
	var a, c state.Keys
	cols := make([]*column.Vector, 0, len(keys))
	for _, k := range keys {
		if b.Cols[k] == nil {
			return
		}
		cols = append(cols, b.Cols[k])
	}
	for i := 0; i+1 < b.N; i++ {
		if b.Change[i] != column.Withdraw || b.Change[i+1] != column.Insert {
			continue
		}
		x, _ := a.EncodeRow(cols, i)
		y, _ := c.EncodeRow(cols, i+1)
		if string(x) == string(y) {
			b.Change[i], b.Change[i+1] = column.Replaced, column.Replace
			i++
		}
	}
}

// Advance implements Keyed: it tells the watermarks of both sides. It gives what can match no more, forgets what has expired,
// and gives the watermark of the output.
func (x *Join) Advance(w Watermarks) int64 {
	for i, m := range w.Of {
		x.passed[i] = max(x.passed[i], m)
	}
	j := x.j
	if j.Tables {
		return min(x.passed[0], x.passed[1])
	}
	low := [2]int64{less(x.passed[0], j.Slack[0]), less(x.passed[1], j.Slack[1])}
	// A left row is done when no right row to come can match it, a right row when no left row can. Rows that
	// may be taken back stay until that is over.
	done := [2]int64{less(low[1], j.Hi), less(low[0], -j.Lo)}
	for i, s := range x.ends() {
		if s.Input.Changes {
			done[i] = min(done[i], low[i])
		}
	}
	for i, w := range [2]*waiting{x.waiting, x.behind} {
		if w == nil {
			continue
		}
		for _, r := range w.due(done[i]) {
			x.settle(i, r)
		}
	}
	x.give()
	if j.Pick != plan.PickAll {
		done[1] = min(done[1], less(done[0], -j.Lo)) // those that wait ask for it, too
	}
	x.drop(0, done[0])
	x.drop(1, done[1])
	return less(min(x.passed[0], x.passed[1]), j.Held())
}

// less takes a length of time off an instant, but none off the ends of time.
func less(t, d int64) int64 {
	if t <= types.MinTime || t >= types.MaxTime {
		return t
	}
	return t - d
}

func (x *Join) drop(side int, before int64) {
	n := int64(x.sides[side].Drop(before))
	c := &x.C.Counts[x.ends()[side].ID]
	c.Held -= n
	c.Absorbed += n
}

// settled marks the matches of a row of which all that is to be given has been.
const settled = 1 << 30

// settle gives what is known of a row once nothing can match it any more.
func (x *Join) settle(side int, r state.Ref) {
	row := x.sides[side].Get(r)
	if row == nil || row.Matches < 0 {
		return // it was taken back
	}
	matches := row.Matches
	row.Matches |= settled
	if x.j.Pick != plan.PickAll {
		x.pick(r, row)
		return
	}
	if matches == 0 {
		x.alone(side, r, false)
	}
	if len(x.ready) >= pairBatch {
		x.give()
	}
}

// pick gives a left row with the last, or the first, of its matches in event order.
func (x *Join) pick(r state.Ref, row *state.Row) {
	key := x.sides[0].Key(r)
	x.probe(0, r, state.Hash(key), key, row.Time, x.sides[0].Columns(r), false)
	matches := x.passing(x.found)
	if len(matches) == 0 {
		if x.j.Kind.Outer(0) {
			x.alone(0, r, false)
		}
	} else {
		best := matches[0]
		for _, p := range matches[1:] {
			c := x.inOrder(best.right, p.right)
			if x.j.Pick == plan.PickLast && c < 0 || x.j.Pick == plan.PickFirst && c > 0 {
				best = p
			}
		}
		x.ready = append(x.ready, best)
	}
	x.found = x.found[:0]
	if len(x.ready) >= pairBatch {
		x.give()
	}
}

// inOrder compares two rows of the right in event order: equal times by origin, made rows by what is in
// them.
func (x *Join) inOrder(a, b state.Ref) int {
	s := x.sides[1]
	l, r := s.Get(a), s.Get(b)
	if c := cmp.Or(cmp.Compare(l.Time, r.Time), cmp.Compare(l.From, r.From), cmp.Compare(l.Pos, r.Pos)); c != 0 || l.From >= 0 {
		return c
	}
	return bytes.Compare(s.Columns(a), s.Columns(b))
}

// Passed implements Keyed: the watermarks of both sides.
func (x *Join) Passed() [2]int64 { return x.passed }

// Image implements Keyed.
func (x *Join) Image() func() []byte { return written(x.Snapshot()) }

// Closed is the lower of the two watermarks.
func (x *Join) Closed() int64 { return min(x.passed[0], x.passed[1]) }

// Size gives the rows that wait, the rows held, and the bytes they take.
func (x *Join) Size() (open, keys, bytes int) {
	if x.waiting != nil {
		open += x.waiting.n
	}
	if x.behind != nil {
		open += x.behind.n
	}
	for _, s := range x.sides {
		keys += s.Len()
		bytes += s.Bytes()
	}
	return open, keys, bytes
}

// Held gives the rows that a side holds, and the bytes they take.
func (x *Join) Held(side int) (rows, bytes int) { return x.sides[side].Len(), x.sides[side].Bytes() }

// Snapshot writes the task's state: both watermarks, the rows of each side, and those that wait.
func (x *Join) Snapshot() []byte {
	b := le.AppendUint64(nil, uint64(x.passed[0]))
	b = le.AppendUint64(b, uint64(x.passed[1]))
	for _, s := range x.sides {
		b = s.AppendTo(b)
	}
	return b
}

// Restore reads what any task of the join wrote and keeps what belongs to this one.
func (x *Join) Restore(b []byte) error {
	r := &reader{b: b, step: x.Op.Step}
	for i := range x.passed {
		x.passed[i] = max(x.passed[i], r.int())
	}
	for i, s := range x.sides {
		if r.err != nil {
			return r.err
		}
		rest, err := state.ReadRows(r.b, func(hash uint64, key []byte, row state.Row, cols []byte) {
			if len(key) == 0 {
				hash = 0
			}
			if state.TaskOf(state.RangeOf(hash), x.tasks) != x.task || !x.layouts[i].Valid(cols) {
				return
			}
			ref := s.Add(hash, key, row.Time, row.Pos, row.From, cols)
			s.Get(ref).Matches = row.Matches
			switch {
			case row.Matches&settled != 0:
			case i == 0 && x.waiting != nil:
				x.waiting.add(row.Time, ref)
			case i == 1 && x.behind != nil:
				x.behind.add(row.Time, ref)
			}
		})
		if err != nil {
			return err
		}
		r.b = rest
	}
	return nil
}

// waiting lists rows by event time until the watermark has passed them.
type waiting struct {
	width   int64
	buckets map[int64][]waits
	n       int
	least   int64 // no bucket lies before it
	buf     []state.Ref
}

type waits struct {
	time int64
	ref  state.Ref
}

func newWaiting(span int64) *waiting {
	return &waiting{width: max(10*types.Millisecond, span/256), buckets: map[int64][]waits{}}
}

func (w *waiting) add(t int64, r state.Ref) {
	k := plan.FloorDiv(t, w.width)
	if w.n == 0 || k < w.least {
		w.least = k
	}
	w.buckets[k] = append(w.buckets[k], waits{t, r})
	w.n++
}

// due takes out the rows before an event time, in the order of their times.
func (w *waiting) due(before int64) []state.Ref {
	w.buf = w.buf[:0]
	if w.n == 0 {
		return nil
	}
	limit := plan.FloorDiv(before, w.width)
	var late []int64
	switch {
	case w.least > limit:
		return nil
	case limit-w.least < int64(len(w.buckets)):
		for k := w.least; k <= limit; k++ {
			if w.buckets[k] != nil {
				late = append(late, k)
			}
		}
	default:
		for k := range w.buckets {
			if k <= limit {
				late = append(late, k)
			}
		}
		slices.Sort(late)
	}
	w.least = limit // what lies before it goes now
	for _, k := range late {
		rows, rest := w.buckets[k], w.buckets[k][:0]
		var due []waits
		for _, x := range rows {
			if x.time < before {
				due = append(due, x)
			} else {
				rest = append(rest, x)
			}
		}
		slices.SortStableFunc(due, func(a, b waits) int { return cmp.Compare(a.time, b.time) })
		for _, x := range due {
			w.buf = append(w.buf, x.ref)
		}
		w.n -= len(due)
		if w.buckets[k] = rest; len(rest) == 0 {
			delete(w.buckets, k)
		}
	}
	return w.buf
}
