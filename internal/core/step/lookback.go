package step

import (
	"cmp"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// lookback computes aggregates over the rows of the same key in a length of time before each row (RANGE …
// PRECEDING). It keeps a partial aggregate for each instant of a key, not the rows, and merges them with two
// stacks (Tangwongsan, Hirzel, Schneider, Low-Latency Sliding-Window Aggregation in Worst-Case Constant Time,
// 2017, section 2): those of the front have in them all that is behind them in the front, and one partial
// aggregate has all of the back. So the cost of a row does not grow with the rows it looks back on.
type lookback struct {
	op     *plan.Op
	inputs int
	length int64
	queue  column.Batch // rows that came since the last time, with what the aggregates read
	hashes []uint64
	keys   []byte
	ends   []int

	dir     *state.Groups // by key: see the words below
	acc     *state.Groups // the instants
	spare   []uint32      // entries of acc that are free
	made    uint64        // entries made, which name them
	pieces  []instant
	free    int32
	swept   int64
	results *state.Groups
}

// instant is the rows of a key at one instant.
type instant struct {
	time  int64
	entry uint32 // in acc
	next  int32  // piece + 1, or 0
}

// Words of a key in dir.
const (
	lookHead  = iota // first piece + 1, or 0
	lookTail         // last piece + 1
	lookMid          // last piece of the front + 1; 0: the front is empty
	lookBack         // entry in acc of what the back has + 1, or 0
	lookWords        //
)

// looksBack says whether an OVER is of this kind.
func looksBack(o *plan.Ordering) bool {
	if o.Ranked || o.Forget > 0 || len(o.Calls) == 0 {
		return false
	}
	for _, c := range o.Calls {
		if c.Agg == nil || c.ByRows || c.Open || c.From >= 0 || c.To != 0 || c.From != o.Calls[0].From {
			return false
		}
	}
	return true
}

func newLookback(o *plan.Op) *lookback {
	x := &lookback{op: o, inputs: len(o.Input.Fields), length: -o.Order.Calls[0].From, swept: types.MinTime}
	x.clear()
	return x
}

func (x *lookback) clear() {
	w := x.op.Order.Words()
	x.dir, x.acc, x.results = &state.Groups{Width: lookWords}, &state.Groups{Width: w}, &state.Groups{Width: w}
	x.spare, x.pieces, x.free, x.made = nil, nil, 0, 0
}

// take implements worker.
func (x *lookback) take(o *Ordered, b *column.Batch) {
	o.keysOf(b)
	o.C.Machine.Begin()
	wide := *b
	wide.Cols = slices.Clone(b.Cols)
	for _, c := range x.op.Order.Calls {
		for _, e := range c.Reads() {
			var v *column.Vector
			if e != nil {
				v = o.C.Machine.Eval(e, b)
			}
			wide.Cols = append(wide.Cols, v)
		}
	}
	if o.C.cut(b, func(half *column.Batch) { x.take(o, half) }) {
		return
	}
	bad := o.C.rejects(x.op, b)
	for i := range b.N {
		if bad != nil && bad[i] {
			o.C.Counts[x.op.ID].Held--
			continue
		}
		x.queue.AppendRow(&wide, i)
		x.hashes = append(x.hashes, o.keys.Hashes[i])
		x.keys = append(x.keys, o.keys.Key(i)...)
		x.ends = append(x.ends, len(x.keys))
	}
}

// entry gives an empty partial aggregate.
func (x *lookback) entry() uint32 {
	if n := len(x.spare); n > 0 {
		e := x.spare[n-1]
		x.spare = x.spare[:n-1]
		clear(x.acc.Of(e))
		return e
	}
	x.made++
	return x.acc.Find(x.made, int64(x.made), nil)
}

func (x *lookback) piece(t int64) int32 {
	e := x.entry()
	if x.free != 0 {
		p := x.free
		x.free = x.pieces[p-1].next
		x.pieces[p-1] = instant{time: t, entry: e}
		return p
	}
	x.pieces = append(x.pieces, instant{time: t, entry: e})
	return int32(len(x.pieces))
}

// merge adds what an entry has to another one.
func (x *lookback) merge(g *state.Groups, e uint32, f uint32) {
	word := 0
	for _, c := range x.op.Order.Calls {
		c.Agg.Merge(g, e, x.acc, f, word)
		word += c.Agg.Words()
	}
}

// pass implements worker.
func (x *lookback) pass(o *Ordered, watermark int64) int64 {
	if n := x.queue.N; n > 0 {
		x.run(o)
		o.C.Counts[x.op.ID].Held -= int64(n)
		x.queue = column.Batch{}
		x.hashes, x.keys, x.ends = x.hashes[:0], x.keys[:0], x.ends[:0]
	}
	x.sweep(watermark)
	return watermark
}

func (x *lookback) run(o *Ordered) {
	n := x.queue.N
	// Each row goes into the instant of its key; those of one key and time lie side by side in time, not in the
	// queue.
	dirs, groups := make([]uint32, n), make([]int32, n)
	fresh := make([]int32, n) // the piece that a row is the first of, or 0
	type open struct {
		key  uint32
		time int64
	}
	at := map[open]int32{}
	for i := range n {
		from := 0
		if i > 0 {
			from = x.ends[i-1]
		}
		d := x.dir.Find(x.hashes[i], 0, x.keys[from:x.ends[i]])
		dirs[i] = d
		k := open{d, x.queue.Time[i]}
		p := at[k]
		if p == 0 {
			p = x.piece(k.time)
			at[k], fresh[i] = p, p
		}
		groups[i] = int32(x.pieces[p-1].entry)
	}
	extra, word := x.inputs, 0
	for _, c := range x.op.Order.Calls {
		vals := x.queue.Cols[extra : extra+len(c.Reads())]
		extra += len(c.Reads())
		c.Agg.Update(x.acc, word, groups, eval.Rows{Values: vals[0], By: vals[1], Filter: vals[2], Batch: &x.queue})
		word += c.Agg.Words()
	}
	x.results.Reset()
	entries := make([]uint32, n)
	for i := range n {
		if fresh[i] != 0 {
			x.link(dirs[i], fresh[i])
		}
		entries[i] = x.results.Find(uint64(i)+1, int64(i), nil)
		w := x.dir.Of(dirs[i])
		if w[lookMid] != 0 {
			x.merge(x.results, entries[i], x.pieces[w[lookHead]-1].entry)
		}
		if w[lookBack] != 0 {
			x.merge(x.results, entries[i], uint32(w[lookBack]-1))
		}
	}
	failed := map[int]string{}
	out := x.queue
	out.Cols = slices.Clone(x.queue.Cols[:x.inputs])
	word = 0
	for _, c := range x.op.Order.Calls {
		v := column.New(c.Type)
		v.Resize(n)
		c.Agg.Final(x.results, entries, word, v, func(i int, reason string) { failed[i] = reason })
		out.Cols = append(out.Cols, v)
		word += c.Agg.Words()
	}
	out.Split, out.From = -1, nil
	for from := 0; from < n; from += closeBatch {
		var keep []uint32
		for i := from; i < min(from+closeBatch, n); i++ {
			if reason, bad := failed[i]; bad {
				o.C.Counts[x.op.ID].Rejected++
				o.C.Tally(x.op.ID, reason)
				o.C.sample(x.op, false, reason, &x.queue, i, 0)
				continue
			}
			keep = append(keep, uint32(i))
		}
		o.push(&out, keep)
	}
}

// link puts a new instant at the end of a key, and takes out those that lie too far back for it.
func (x *lookback) link(d uint32, p int32) {
	x.evict(d, x.pieces[p-1].time-x.length)
	w := x.dir.Of(d)
	if w[lookHead] == 0 {
		w[lookHead] = uint64(p)
	} else {
		x.pieces[w[lookTail]-1].next = p
	}
	w[lookTail] = uint64(p)
	if w[lookBack] == 0 {
		w[lookBack] = uint64(x.entry()) + 1
	}
	x.merge(x.acc, uint32(w[lookBack]-1), x.pieces[p-1].entry)
}

// evict takes out the instants of a key before a time.
func (x *lookback) evict(d uint32, before int64) {
	w := x.dir.Of(d)
	for w[lookHead] != 0 {
		p := int32(w[lookHead])
		head := x.pieces[p-1]
		if head.time >= before {
			return
		}
		if w[lookMid] == 0 {
			x.turn(w)
		}
		if w[lookMid] == uint64(p) {
			w[lookMid] = 0
		}
		if w[lookHead] = uint64(head.next); head.next == 0 {
			w[lookTail] = 0
		}
		x.spare = append(x.spare, head.entry)
		x.pieces[p-1].next, x.free = x.free, p
	}
}

// turn makes the back the front: each instant gets what is behind it.
func (x *lookback) turn(w []uint64) {
	var list []int32
	for p := int32(w[lookHead]); p != 0; p = x.pieces[p-1].next {
		list = append(list, p)
	}
	for i := len(list) - 2; i >= 0; i-- {
		x.merge(x.acc, x.pieces[list[i]-1].entry, x.pieces[list[i+1]-1].entry)
	}
	w[lookMid] = uint64(list[len(list)-1])
	if w[lookBack] != 0 {
		x.spare = append(x.spare, uint32(w[lookBack]-1))
		w[lookBack] = 0
	}
}

// sweep takes out what no row to come looks back on, and keys without anything, now and then.
func (x *lookback) sweep(watermark int64) {
	if watermark < x.swept || x.dir.Len() == 0 {
		return
	}
	x.swept = types.MaxTime
	if watermark < types.MaxTime-x.length {
		x.swept = watermark + max(x.length/8, types.Second)
	}
	before := watermark
	if watermark < types.MaxTime {
		before -= x.length
	}
	empty := 0
	for d := range x.dir.Hashes {
		x.evict(uint32(d), before)
		if x.dir.Of(uint32(d))[lookHead] == 0 {
			empty++
		}
	}
	if 2*empty > x.dir.Len() || len(x.spare) > 1024 && 2*len(x.spare) > x.acc.Len() || len(x.acc.Text) > 1<<20 {
		front, back := x.parts()
		x.clear()
		x.build(front, back, func(uint64) bool { return true })
	}
}

// parts gives the instants by key as two tables, those of the fronts and those of the backs. The tag is the
// time.
func (x *lookback) parts() (front, back *state.Groups) {
	front, back = &state.Groups{Width: x.acc.Width}, &state.Groups{Width: x.acc.Width}
	for d, hash := range x.dir.Hashes {
		w := x.dir.Of(uint32(d))
		inFront := w[lookMid] != 0
		for p := int32(w[lookHead]); p != 0; p = x.pieces[p-1].next {
			g := back
			if inFront {
				g = front
			}
			e := g.Find(hash, x.pieces[p-1].time, x.dir.Key(uint32(d)))
			x.merge(g, e, x.pieces[p-1].entry)
			if w[lookMid] == uint64(p) {
				inFront = false
			}
		}
	}
	return front, back
}

// build adds the instants of two such tables, in order of time.
func (x *lookback) build(front, back *state.Groups, owns func(hash uint64) bool) {
	for k, from := range [2]*state.Groups{front, back} {
		entries := make([]uint32, 0, from.Len())
		for f, hash := range from.Hashes {
			if owns(hash) {
				entries = append(entries, uint32(f))
			}
		}
		slices.SortFunc(entries, func(a, b uint32) int { return cmp.Compare(from.Tags[a], from.Tags[b]) })
		for _, f := range entries {
			d := x.dir.Find(from.Hashes[f], 0, from.Key(f))
			p := x.piece(from.Tags[f])
			word := 0
			for _, c := range x.op.Order.Calls {
				c.Agg.Merge(x.acc, x.pieces[p-1].entry, from, f, word)
				word += c.Agg.Words()
			}
			w := x.dir.Of(d)
			if k == 1 {
				x.link(d, p)
				continue
			}
			if w[lookHead] == 0 {
				w[lookHead] = uint64(p)
			} else {
				x.pieces[w[lookTail]-1].next = p
			}
			w[lookTail], w[lookMid] = uint64(p), uint64(p)
		}
	}
}

func (x *lookback) rows() (keys, bytes int) {
	return x.dir.Len(), x.dir.Bytes() + x.acc.Bytes() + cap(x.pieces)*16 + cap(x.spare)*4
}

func (x *lookback) snapshot(b []byte) []byte {
	front, back := x.parts()
	return back.AppendTo(front.AppendTo(b))
}

func (x *lookback) restore(o *Ordered, r *reader) {
	front := r.groups(x.acc.Width)
	back := r.groups(x.acc.Width)
	if r.err == nil {
		x.build(front, back, o.owns)
	}
}
